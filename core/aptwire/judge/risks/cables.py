"""Cables and fabric ports: natives that differ, tags too many or too few, loops, packets that are too large."""

from __future__ import annotations

from collections.abc import Iterator, Set
from functools import cache, cached_property, partial

import numpy as np

from aptwire.forward.domains import core_links, crossing
from aptwire.forward.fabric import circles, header, loops
from aptwire.forward.parts import Link
from aptwire.forward.trace import Hop
from aptwire.judge.facts import End
from aptwire.judge.risks.base import RISK, UNTIDY, Look, Risk, short, some
from aptwire.judge.sizes import Sizes
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Patch
from aptwire.plan.kinds import (
    FabricPort,
    SecondaryVlan,
    Segment,
    Uplink,
)
from aptwire.plan.names import called

LARGEST = 9_216
"""Bytes of an IP packet, the most that a record's MTU says."""


def _untagged(port: FabricPort) -> int | None:
    """The VID that a port gives untagged frames, None where it drops them."""
    return port.vid if port.mode == "access" else port.native


class CableRisks(Look):
    """What lies in the fabric and at its edge."""

    def natives(self) -> Iterator[Risk]:
        """Cables whose two ends give untagged frames different VIDs."""
        ports = self.plan.of("fabric_port")
        for joint in self.wiring.fabric.joints:
            for cable, one, two in zip(joint.cables, *joint.ports, strict=True):
                if one.mode == "private" or two.mode == "private" or not self._managed(one, two):
                    continue
                a, b = map(_untagged, (one, two))
                if a == b:
                    continue
                names = [called(self.plan, ports[p.id]) for p in (one, two)]
                mends = [
                    (
                        f"Make {vid or 'none'} the VID of untagged frames at {called(self.plan, port)} too",
                        self._native(port, vid),
                    )
                    for port, vid in ((two, a), (one, b))
                    if vid or port.mode == "trunk"
                ]
                yield Risk(
                    RISK,
                    "native",
                    (cable,),
                    f"{names[0]} and {names[1]} disagree on untagged frames",
                    f"{names[0]} takes them as {a or 'nothing'}, {names[1]} as {b or 'nothing'}.",
                    (one.id, two.id),
                    facts=tuple(
                        self.fact(p.id, f"untagged is {v or 'dropped'}", "differs from the other end")
                        for p, v in ((one, a), (two, b))
                    ),
                    mends=tuple(mends),
                )

    def uplink_natives(self) -> Iterator[Risk]:
        """Uplinks with a native VLAN whose NICs' ports give untagged frames another VID, or none."""
        for uplink in sorted(self.plan.all(Uplink), key=lambda u: u.id):
            if uplink.native is None:
                continue
            bad = []
            for nic in sorted(self.plan.where("nic", "uplink", uplink.id), key=lambda n: n.id):
                port = self.wiring.port_behind(nic.id)
                if port is None or port.mode == "private" or not self._managed(port):
                    continue
                if _untagged(port) != uplink.native:
                    bad.append(port)
            if not bad:
                continue
            name, ports = called(self.plan, uplink), some(called(self.plan, p) for p in bad)
            theirs = set(map(_untagged, bad))
            mends = [
                (
                    f"Make {uplink.native} the VID of untagged frames at {ports} too",
                    tuple(op for p in bad for op in self._native(p, uplink.native)),
                )
            ]
            if len(theirs) == 1:
                other = next(iter(theirs))
                mends.append(
                    (
                        f"Make {other or 'none'} the native VLAN of {name}",
                        (Patch("uplink", uplink.id, {"native": other}),),
                    )
                )
            yield Risk(
                RISK,
                "native",
                (uplink.id,),
                f"{name} and {ports} disagree on untagged frames",
                f"{name} takes them as {uplink.native}, {ports} as {some(str(v or 'nothing') for v in sorted(theirs, key=lambda v: v or 0))}.",
                (uplink.id, *(p.id for p in bad)),
                facts=(
                    self.fact(uplink.id, f"untagged is {uplink.native}", "differs from the other end"),
                    *(
                        self.fact(
                            p.id,
                            f"untagged is {_untagged(p) or 'dropped'}",
                            "differs from the other end",
                        )
                        for p in bad
                    ),
                ),
                mends=tuple(mends),
            )

    def _managed(self, *ports: FabricPort) -> bool:
        return all(self.plan.get("fabric_switch", p.switch).managed for p in ports)

    def _native(self, port: FabricPort, vid: int | None) -> Edit:
        return (Patch("fabric_port", port.id, {"vid" if port.mode == "access" else "native": vid}),)

    def excess(self) -> Iterator[Risk]:
        """VIDs allowed on host-facing ports where nobody on the host needs them, one risk for each fabric switch."""
        secondaries = {s.vid for s in self.plan.all(SecondaryVlan)}
        segments = self._segment_bits | sum(1 << vid for vid in secondaries)
        by_switch: dict[str, list[tuple[FabricPort, int]]] = {}
        functions = {a.function_of for a in self.plan.having("adapter", "function_of")}
        for found in self.facts:
            for port_id, extra in found.excess.items():
                told = extra & segments
                if told and not (functions and self._any_behind(port_id, functions)):
                    port = self.plan.get("fabric_port", port_id)
                    by_switch.setdefault(port.switch, []).append((port, told))
        for switch, ports in sorted(by_switch.items()):
            every = 0
            for _, told in ports:
                every |= told
            name = called(self.plan, self.plan.get("fabric_switch", switch))
            seen = self._overheard(ports[0][1])
            count = len(ports)
            yield Risk(
                UNTIDY,
                "excess",
                (switch,),
                f"{some((p.name for p, _ in ports), 4)} of {name} allow{'' if count > 1 else 's'} VIDs that nobody behind needs",
                f"{short(every)}. On the cable of {ports[0][0].name} one would see {seen}.",
                tuple(port.id for port, _ in ports),
                facts=partial(self._excess_facts, ports),
                mends=partial(
                    self._excess_mends,
                    ports,
                    f"Allow only what is used on {count} port{'s' if count > 1 else ''} of {name}",
                ),
            )

    def _any_behind(self, port_id: str, nics: Set[str]) -> bool:
        """Whether one of these NICs is behind the port, or another of its LAG: what their virtual functions need isn't their switch's to say."""
        port = self.plan.get("fabric_port", port_id)
        ports = self.plan.where("fabric_port", "lag", port.lag) if port.lag else [port]
        return any(self.wiring.far.get(p.id, ("", ""))[0] in nics for p in ports)

    def _excess_facts(self, ports: list[tuple[FabricPort, int]]) -> tuple[Hop, ...]:
        return tuple(
            self.fact(p.id, f"trunk {p.allowed}", f"one would see {self._overheard(t, 12)} there")
            for p, t in ports[:20]
        )

    def _excess_mends(self, ports: list[tuple[FabricPort, int]], title: str) -> tuple[tuple[str, Edit], ...]:
        edit = tuple(
            Patch(
                "fabric_port", port.id, {"allowed": vids.write(vids.members(port.allowed or "") - vids.of_bits(told))}
            )
            for port, told in ports
        )
        return ((title, edit),)

    def _overheard(self, bits: int, most: int = 3) -> str:
        """Who would be seen on a cable on the VIDs of these bits, `most` segments by name."""
        by_vid = self.plan.grouped("segment", "vid")
        count = (bits & self._segment_bits).bit_count() + sum(n for vid, n in self._more_segments if bits >> vid & 1)
        told: list[str] = []
        rest = bits & self._segment_bits
        while rest and len(told) < most:
            vid = (rest & -rest).bit_length() - 1
            rest &= rest - 1
            for segment in by_vid[vid][: most - len(told)]:
                ends = self.members[segment.id]
                told.append(f"{segment.name} ({segment.vid}), {ends} endpoint{'' if ends == 1 else 's'}")
        return some(told, most, count)

    @cached_property
    def _segment_bits(self) -> int:
        """The VIDs of all segments, as bits."""
        return sum(1 << vid for vid, found in self.plan.grouped("segment", "vid").items() if found)

    @cached_property
    def _more_segments(self) -> list[tuple[int, int]]:
        """The VIDs that several segments have, and how many more than one."""
        by_vid = self.plan.grouped("segment", "vid")
        return [(vid, len(found) - 1) for vid, found in by_vid.items() if len(found) > 1]

    def lacking(self) -> Iterator[Risk]:
        """Tags that one member's port lacks while another's carries them, where nobody sits on them yet."""
        for found in self.facts:
            used = {v for values in found.roles.values() for v in values}
            for port_id, missing in found.lacking.items():
                idle = missing - used - {0}
                port = self.plan.get("fabric_port", port_id)
                if not idle or port.mode != "trunk":
                    continue
                name = called(self.plan, port)
                edit = (
                    Patch("fabric_port", port.id, {"allowed": vids.write(vids.members(port.allowed or "") | idle)}),
                )
                yield Risk(
                    RISK,
                    "missing-on-member",
                    (port_id,),
                    f"{name} lacks {vids.write(idle)}, which the other member carries",
                    "Nobody sits on it yet; whoever does would lose it with a failover.",
                    (port_id,),
                    facts=(self.fact(port_id, f"trunk {port.allowed}", f"{vids.write(idle)} is missing"),),
                    mends=((f"Allow {vids.write(idle)} on {name}", edit),),
                )

    def loops(self) -> Iterator[Risk]:
        """Frames that go round and round: parallel ways without a spanning tree."""
        wiring = self.wiring
        used, base = wiring.classes.used, wiring.classes.base
        numbers = np.arange(used)

        @cache
        def there(link: Link, side: int) -> np.ndarray:
            into = crossing(link.rules[side], link.rules[1 - side])[:used]
            # What came in by an isolated port goes round as well as anything else of its VID.
            made: np.ndarray = np.where(into >= 0, base[into], -1)
            return made

        def passes(link: Link, side: int) -> list[int]:
            made: list[int] = np.flatnonzero(there(link, side) == numbers).tolist()
            return made

        # In an order that doesn't hang on the edits before.
        links = sorted((k for k in core_links(wiring) if k.ends[0] != k.ends[1]), key=lambda k: k.key)
        joints = {joint.key: joint for joint in wiring.fabric.joints}
        selves = [j for j in joints.values() if j.ends[0] == j.ends[1]]

        found = loops(links, passes)
        changing = [c for c in circles(links, there) if all(c.link is not loop.link for loop in found)]
        for loop in (*found, *changing):
            named = sorted({v for k in loop.classes if k for v in wiring.classes.members[k][:20]})
            used_here = vids.write([s.vid for s in self.plan.all(Segment) if s.vid in named]) or vids.write(named[:5])
            joint = joints.get(loop.link.key)
            if joint is None:
                culprit = tuple(r[-1] for r in loop.link.records if r)
                switches: list[str] = []
            else:
                culprit = tuple(ports[0].id for ports in joint.ports)
                switches = self._circle(joint.ends)
            edit = tuple(
                Patch("fabric_switch", s, {"spanning_tree": True})
                for s in switches
                if not self.plan.get("fabric_switch", s).spanning_tree
            )
            mends: list[tuple[str, Edit]] = []
            if edit:
                off = [p.id for p in edit if isinstance(p, Patch)]
                names = some(called(self.plan, self.plan.get("fabric_switch", id)) for id in off)
                mends.append((f"Turn the spanning tree on at {names}", edit))
            port_off = next((id for id in culprit if id in self.plan.of("fabric_port")), None)
            if port_off:
                mends.append(
                    (
                        f"Disable {called(self.plan, self.plan.find(port_off))}",
                        (Patch("fabric_port", port_off, {"enabled": False}),),
                    )
                )
            yield Risk(
                RISK,
                "loop",
                (loop.link.key,),
                f"Frames go round and round over {some(called(self.plan, self.plan.find(c)) for c in culprit)}",
                f"{'VID ' + used_here if used_here else 'Untagged frames'}: one broadcast fills every cable of the loop.",
                culprit,
                facts=tuple(self.fact(c, f"carries {used_here}", "closes the loop") for c in culprit),
                mends=tuple(mends),
            )
        for joint in selves:
            culprit = tuple(ports[0].id for ports in joint.ports)
            name = called(self.plan, self.plan.find(culprit[0]))
            yield Risk(
                RISK,
                "loop",
                (joint.key,),
                f"{name} is plugged into its own switch",
                "One broadcast fills the switch.",
                culprit,
                facts=tuple(self.fact(c, "", "closes the loop") for c in culprit),
                mends=((f"Take the cable of {name} away", (Drop("cable", joint.key),)),),
            )

    def _circle(self, ends: tuple[str, str]) -> list[str]:
        """The switches on the shortest other way between the two ends, both included."""
        at: dict[str, list[str]] = {}
        direct = 0
        for joint in self.wiring.fabric.joints:
            if set(joint.ends) == set(ends):
                direct += 1
                if direct == 1:
                    continue
            at.setdefault(joint.ends[0], []).append(joint.ends[1])
            at.setdefault(joint.ends[1], []).append(joint.ends[0])
        came: dict[str, str] = {ends[0]: ends[0]}
        queue = [ends[0]]
        while queue:
            now = queue.pop(0)
            for following in at.get(now, ()):
                if following not in came:
                    came[following] = now
                    queue.append(following)
        way = [ends[1]]
        while way[-1] != ends[0] and way[-1] in came:
            way.append(came[way[-1]])
        return sorted({*way, *ends})

    def sizes(self) -> Iterator[Risk]:
        """Ends that send larger packets than some hop, or some other end, takes."""
        by_segment: dict[str, list[End]] = {}
        for found in self.facts:
            for end in found.ends:
                if end.sends:
                    by_segment.setdefault(end.segment, []).append(end)
        sizes = Sizes(self.judgement)
        for id, ends in sorted(by_segment.items()):
            segment = self.plan.get("segment", id)
            most = max(end.sends for end in ends)
            tight: dict[str, int] = {}
            for end in ends:
                tight.update(end.tight)
                if end.sends < most:
                    tight[end.record] = end.sends
            if segment.vid:
                tight.update(sizes.narrow(segment.vid, most))
            carriers = sorted({str(g.over) for g in self.plan.where("port_group", "vni", segment.vni) if segment.vni})
            head = max((header(self.plan, over) for over in carriers), default=0)
            tight.update(self._under(carriers, most + head, sizes))
            if not tight:
                continue
            names = some(
                f"{called(self.plan, self.plan.find(r))} takes {mtu}"
                for r, mtu in sorted(tight.items(), key=lambda i: (i[1], i[0]))
            )
            inside = {end.record for end in ends}
            wanted = {record: min(most if record in inside else most + head, LARGEST) for record in tight}
            raising = tuple(Patch(self.plan.find(r).kind, r, {"mtu": mtu}) for r, mtu in wanted.items())  # type: ignore[union-attr]
            lowest = min(mtu if record in inside else mtu - head for record, mtu in tight.items())
            lowering = tuple(
                Patch(r.kind, r.id, {"mtu": lowest})
                for r in [segment, *(self.plan.find(e.record) for e in ends)]
                if r is not None and getattr(r, "mtu", None) and r.mtu > lowest
            )
            steps = sorted(set(wanted.values()))
            said = (
                f"{some(called(self.plan, self.plan.find(r)) for r in wanted if wanted[r] == size)} to {size}"
                for size in steps
            )
            mends = [(f"Raise {' and '.join(said)}", raising)]
            if lowering:
                mends.append((f"Send no more than {lowest} on {segment.name}", lowering))
            yield Risk(
                RISK,
                "mtu",
                (id,),
                f"{segment.name} sends packets of {most} bytes, and not every hop takes them",
                f"{names}; larger ones vanish there.",
                tuple(tight),
                segment=id,
                facts=tuple(self.fact(r, f"MTU {mtu}", f"less than {most}") for r, mtu in list(tight.items())[:20]),
                mends=tuple(mends),
            )

    def _under(self, carriers: list[str], size: int, solved: Sizes) -> dict[str, int]:
        """What takes less than an overlay's packets with their header: the fabric between its host ports, and routers on the way."""
        found: dict[str, int] = {}
        for vid in sorted({self.plan.get("host_port", over).vid or 0 for over in carriers} - {0}):
            found.update(solved.narrow(vid, size))
        routers = {port for over in carriers for _, port in self.wiring.ways_out.get(over, ())}
        sizes = {port: self.plan.get("station_port", port).mtu for port in sorted(routers) if len(routers) > 1}
        return {**found, **{port: mtu for port, mtu in sizes.items() if mtu is not None and mtu < size}}

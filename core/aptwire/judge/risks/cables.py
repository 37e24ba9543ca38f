"""Cables and fabric ports: natives that differ, tags too many or too few, loops, packets that are too large."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Set
from dataclasses import dataclass
from functools import cache, cached_property, partial
from operator import attrgetter
from typing import Any

import numpy as np

from aptwire.forward.domains import core_links, crossing
from aptwire.forward.fabric import Loop, circles, header, leads_round, loops
from aptwire.forward.parts import Link
from aptwire.forward.rules import PortRule
from aptwire.forward.trace import Hop
from aptwire.forward.tree import Joint
from aptwire.judge.book import Grouping
from aptwire.judge.facts import End, Facts
from aptwire.judge.kept import Rests, all_same
from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch, naming, short
from aptwire.judge.sizes import Sizes, may_differ
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Patch
from aptwire.plan.kinds import (
    FabricPort,
    SecondaryVlan,
    Segment,
    Uplink,
)
from aptwire.plan.names import called, some
from aptwire.plan.ports import native, said
from aptwire.plan.sharing import ports_together

LARGEST = 9_216
"""Bytes of an IP packet, the most that a record's MTU says."""


@dataclass(frozen=True)
class _Trunk:
    """One end of a cable as untagged frames see it: the VID that it gives them, and that VID as it sends and takes it tagged."""

    record: FabricPort | Uplink

    @property
    def vid(self) -> int | None:
        return native(self.record)

    @property
    def sends_tagged(self) -> bool:
        words = said(self.record)
        return bool(self.vid) and self.vid in words.members and self.vid not in words.bare

    @property
    def takes_tagged(self) -> bool:
        takes = said(self.record).takes
        return takes is None or self.vid in vids.members(takes, True)

    def taking(self, vid: int | None) -> dict[str, Any] | None:
        """The changes after which it gives untagged frames this VID; None: there are none."""
        record = self.record
        if record.members is not None:
            if vid is None:
                return {"pvid": None}
            members, bare = (vids.with_vid(text or "", vid) for text in (record.members, record.untagged))
            return {"pvid": vid, "members": members, "untagged": bare}
        if isinstance(record, FabricPort) and record.mode == "access":
            return {"vid": vid} if vid else None
        return {"native": vid}

    def bare(self) -> dict[str, Any]:
        """The changes after which it sends its VID untagged."""
        return {"untagged": vids.with_vid(self.record.untagged or "", self.vid or 0)}

    def tagged(self) -> dict[str, Any]:
        """The changes after which it takes its VID tagged as well."""
        record = self.record
        changes: dict[str, Any] = {"admits": "all"} if record.admits == "untagged" else {}
        if isinstance(record, FabricPort) and record.mode == "access":
            return {"admits": "all"}
        if record.allowed is not None:
            changes["allowed"] = vids.with_vid(record.allowed, self.vid or 0)
        return changes


class CableRisks(RiskSearch):
    """What lies in the fabric and at its edge."""

    def natives(self) -> Iterator[Risk]:
        """Cables whose two ends give untagged frames different VIDs, or whose one end tags what the other takes untagged alone."""
        answered, joints, rests = self.judgement.answered, self.wiring.fabric.joints, naming(self)
        known, _ = answered.before.get("natives", (None, None))
        if known is None or not all_same(known[0], (joints, *rests)):
            before: dict[str, tuple[Joint, list[Risk]]]
            before = known[1] if known is not None and all_same(known[0][1:], rests) else {}
            found = {
                key: before[key] if key in before and before[key][0] is joint else (joint, list(self._on_joint(joint)))
                for key, joint in joints.items()
            }
            known = (joints, *rests), found, [risk for _, risks in found.values() for risk in risks]
        answered.answers["natives"] = known
        yield from known[2]

    def _on_joint(self, joint: Joint) -> Iterator[Risk]:
        for cable, one, two in zip(joint.cables, *joint.ports, strict=True):
            if one.mode != "private" and two.mode != "private" and self._managed(one, two):
                yield from self._disagreeing((cable,), _Trunk(one), [_Trunk(two)])

    def marked_twice(self) -> Iterator[Risk]:
        """Labels and places on patch panels that two cables have: whoever stands before them takes the wrong one."""
        held: dict[tuple[str, str], list[str]] = {}
        for label, cables in self.plan.grouped("cable", "label").items():
            held["label", label] = [cable.id for cable in cables]
        for places, cables in self.plan.grouped("cable", "places").items():
            for place in dict.fromkeys(places):
                held.setdefault(("place", place), []).extend(cable.id for cable in cables)
        for (what, text), ids in sorted(held.items()):
            if len(ids) > 1:
                names = some([called(self.plan, self.plan.get("cable", id)) for id in sorted(ids)])
                yield Risk(
                    UNTIDY,
                    "marked-twice",
                    (what, text),
                    f"{len(ids)} cables are labelled {text}"
                    if what == "label"
                    else f"{len(ids)} cables go over {text}",
                    f"Whoever unplugs one of them may take another: {names}.",
                    tuple(sorted(ids)),
                    facts=tuple(self.fact(id, text, f"the same {what}") for id in sorted(ids)[:20]),
                )

    def uplink_natives(self) -> Iterator[Risk]:
        """The same between an uplink with a native VLAN and its NICs' ports."""
        speaking = {u.id: u for field in ("native", "pvid") for u in self.plan.having("uplink", field)}
        for _, uplink in sorted(speaking.items()):
            ports = []
            for nic in sorted(self.plan.where("nic", "uplink", uplink.id), key=lambda n: n.id):
                port = self.wiring.port_behind(nic.id)
                if port is not None and port.mode != "private" and self._managed(port):
                    ports.append(_Trunk(port))
            yield from self._disagreeing((uplink.id,), _Trunk(uplink), ports)

    def _disagreeing(self, key: tuple[str, ...], one: _Trunk, others: list[_Trunk]) -> Iterator[Risk]:
        """The risks of an end and what faces it."""
        bad = [two for two in others if two.vid != one.vid]
        if bad:
            yield self._different(key, one, bad)
        for two in others:
            for near, far in ((one, two), (two, one)):
                if near.vid == far.vid and near.sends_tagged and not far.takes_tagged:
                    yield self._tagged_here(near, far)

    def _different(self, key: tuple[str, ...], one: _Trunk, bad: list[_Trunk]) -> Risk:
        name, ports = called(self.plan, one.record), some(called(self.plan, two.record) for two in bad)
        theirs = sorted({two.vid for two in bad}, key=lambda vid: vid or 0)
        mends: list[tuple[str, Edit]] = []
        changes = [(two.record, two.taking(one.vid)) for two in bad]
        if all(change is not None for _, change in changes):
            edit = tuple(Patch(record.kind, record.id, change or {}) for record, change in changes)
            mends.append((f"Make {one.vid or 'none'} the VID of untagged frames at {ports} too", edit))
        own = one.taking(theirs[0]) if len(theirs) == 1 else None
        if own is not None:
            title = f"Make {theirs[0] or 'none'} the VID of untagged frames at {name} too"
            mends.append((title, (Patch(one.record.kind, one.record.id, own),)))
        return Risk(
            RISK,
            "native",
            key,
            f"{name} and {ports} disagree on untagged frames",
            f"{name} takes them as {one.vid or 'nothing'}, {ports} as {some(str(vid or 'nothing') for vid in theirs)}.",
            (one.record.id, *(two.record.id for two in bad)),
            facts=tuple(
                self.fact(end.record.id, f"untagged is {end.vid or 'dropped'}", "differs from the other end")
                for end in (one, *bad)
            ),
            mends=tuple(mends),
        )

    def _tagged_here(self, near: _Trunk, far: _Trunk) -> Risk:
        names = [called(self.plan, end.record) for end in (near, far)]
        mends: list[tuple[str, Edit]] = [
            (f"Send {near.vid} untagged at {names[0]}", (Patch(near.record.kind, near.record.id, near.bare()),))
        ]
        title = f"Take {near.vid} tagged as well at {names[1]}"
        mends.append((title, (Patch(far.record.kind, far.record.id, far.tagged()),)))
        return Risk(
            RISK,
            "native",
            (near.record.id, far.record.id),
            f"{names[0]} tags the VID that {names[1]} takes untagged alone",
            f"Both give untagged frames {near.vid}; what {names[0]} sends of it is dropped at the other end.",
            (near.record.id, far.record.id),
            facts=(
                self.fact(near.record.id, f"sends {near.vid} tagged", "differs from the other end"),
                self.fact(far.record.id, f"takes {near.vid} untagged alone", "drops it tagged"),
            ),
            mends=tuple(mends),
        )

    def _managed(self, *ports: FabricPort) -> bool:
        return all(self.plan.get("fabric_switch", p.switch).managed for p in ports)

    @property
    def used_bits(self) -> int:
        """The VIDs of all segments and of their private VLANs, as bits."""
        return self._segment_vids[0] | sum(1 << vid for vid in {s.vid for s in self.plan.all(SecondaryVlan)})

    @property
    def behind(self) -> Rests:
        """What it rests on whether a port's virtual functions need more: LAGs and cables, else nothing but its block."""
        kinds = ("fabric_port", "cable") if self.functions else ()
        return (*self.functions, *(self.plan.of(kind) for kind in kinds))

    def wasteful(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[FabricPort, int]]]:
        """The ports of a host that allow VIDs that nobody there needs, by fabric switch, with those of segments, as bits."""
        segments, functions = self.used_bits, {adapter.function_of or "" for adapter in self.functions}
        for port_id, extra in (pair for found in listed for pair in found.excess):
            told = extra & segments
            if told and not (functions and self._any_behind(port_id, functions)):
                port = self.plan.get("fabric_port", port_id)
                yield port.switch, (port, told)

    def seen_there(self, ports: Mapping[str, tuple[tuple[FabricPort, int], ...]]) -> str:
        """Whom one would see on the first of some cables, which are by host."""
        return self._overheard(ports[min(ports)][0][1])

    def excess(self, switch: str, ports: list[tuple[FabricPort, int]]) -> Iterator[Risk]:
        """VIDs allowed on host-facing ports where nobody on the host needs them, one risk for each fabric switch."""
        yield self._excess(switch, ports)

    def _excess(self, switch: str, ports: list[tuple[FabricPort, int]]) -> Risk:
        every = 0
        for _, told in ports:
            every |= told
        name = called(self.plan, self.plan.get("fabric_switch", switch))
        seen = self._overheard(ports[0][1])
        count = len(ports)
        return Risk(
            UNTIDY,
            "excess",
            (switch,),
            f"{some((p.name for p, _ in ports), 4)} of {name} allow{'' if count > 1 else 's'} VIDs that nobody behind needs",
            f"{short(every)}. On the cable of {ports[0][0].name} one would see {seen}.",
            tuple(port.id for port, _ in ports),
            facts=partial(CableRisks._excess_facts, ports=ports),
            mends=partial(
                CableRisks._excess_mends,
                ports=ports,
                title=f"Allow only what is used on {count} port{'s' if count > 1 else ''} of {name}",
            ),
        )

    def _any_behind(self, port_id: str, nics: Set[str]) -> bool:
        """Whether one of these NICs is behind the port, or another of its LAG: what their virtual functions need isn't their switch's to say."""
        port = self.plan.get("fabric_port", port_id)
        ports = ports_together(self.plan, port.lag) or [port]
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
        segment_bits, more = self._segment_vids
        count = (bits & segment_bits).bit_count() + sum(n for vid, n in more if bits >> vid & 1)
        told: list[str] = []
        rest = bits & segment_bits
        while rest and len(told) < most:
            vid = (rest & -rest).bit_length() - 1
            rest &= rest - 1
            for segment in sorted(by_vid[vid], key=attrgetter("name"))[: most - len(told)]:
                ends = self.members[segment.id]
                told.append(f"{segment.name} ({segment.vid}), {ends} endpoint{'' if ends == 1 else 's'}")
        return some(told, most, count)

    @cached_property
    def _segment_vids(self) -> tuple[int, list[tuple[int, int]]]:
        """The VIDs of all segments, as bits; those that several have, and how many more than one."""

        def count() -> tuple[int, list[tuple[int, int]]]:
            by_vid = {vid: len(found) for vid, found in self.plan.grouped("segment", "vid").items() if found}
            return sum(1 << vid for vid in by_vid), [(vid, n - 1) for vid, n in by_vid.items() if n > 1]

        return self.kept.get("VIDs of segments", (self.plan.of("segment"),), count)

    def missing(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[FabricPort, frozenset[int]]]]:
        """The tags that one member's port of a host lacks, by the port."""
        for port_id, idle in (pair for found in listed for pair in found.lacking):
            yield port_id, (self.plan.get("fabric_port", port_id), idle)

    def lacking(self, port_id: str, found: list[tuple[FabricPort, frozenset[int]]]) -> Iterator[Risk]:
        """Tags that one member's port lacks while another's carries them, where nobody sits on them yet."""
        for port, idle in found:
            name = called(self.plan, port)
            edit = (Patch("fabric_port", port.id, {"allowed": vids.write(vids.members(port.allowed or "") | idle)}),)
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
        made_of = (wiring.fabric, wiring.classes, *wiring.crossing_teams)
        found = self.kept.get("all loops", made_of, self._loops)
        every = wiring.fabric.joints
        selves = self.kept.get("own", (every,), lambda: [j for j in every.values() if j.ends[0] == j.ends[1]])
        for loop in found:
            named = sorted({v for k in loop.classes if k for v in wiring.classes.members[k][:20]})
            used_here = vids.write([s.vid for s in self.plan.all(Segment) if s.vid in named]) or vids.write(named[:5])
            joint = every.get(loop.link.key)
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
            mends: list[tuple[str, Edit]] = list(self._of_two(switches))
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

    def _of_two(self, switches: list[str]) -> Iterator[tuple[str, Edit]]:
        """Of switches in a circle: say that two are one, where a third one's LAG leads to a LAG of each."""
        partners: dict[str, list[FabricPort]] = {}
        for joint in self.wiring.fabric.joints.values():
            if all(joint.lags) and set(joint.ends) <= set(switches):
                for side in (0, 1):
                    partners.setdefault(joint.lags[side] or "", []).append(joint.ports[1 - side][0])
        for id, ports in sorted(partners.items()):
            lag = self.plan.get("lag", id)
            if len({port.switch for port in ports}) == 2:
                yield from self.made_one(ports, lag.lacp, called(self.plan, self.plan.get("fabric_switch", lag.switch)))

    def _loops(self) -> list[Loop]:
        wiring = self.wiring
        if not (self._circular or self._shifting):
            return []
        used, base = wiring.classes.used, wiring.classes.base
        numbers = np.arange(used)

        @cache
        def of_rules(near: PortRule, far: PortRule) -> np.ndarray:
            into = crossing(near, far)[:used]
            # What came in by an isolated port goes round as well as anything else of its VID.
            made: np.ndarray = np.where(into >= 0, base[into], -1)
            return made

        def there(link: Link, side: int) -> np.ndarray:
            return of_rules(link.rules[side], link.rules[1 - side])

        def passes(link: Link, side: int) -> list[int]:
            made: list[int] = np.flatnonzero(there(link, side) == numbers).tolist()
            return made

        # In an order that doesn't hang on the edits before.
        links = sorted((k for k in self._core if k.ends[0] != k.ends[1]), key=lambda k: k.key)
        found = loops(links, passes)
        return [*found, *(c for c in circles(links, there) if all(c.link is not loop.link for loop in found))]

    @property
    def _core(self) -> list[Link]:
        """The links between switches today, each LAG of a pair of them once."""
        doubles = self.wiring.fabric.doubles
        return [link for link in core_links(self.wiring) if link.key not in doubles]

    @property
    def _circular(self) -> bool:
        """Whether links lead round in a circle, whatever they let pass."""
        ends = tuple(link.ends for link in self._core)
        return self.kept.get("links lead round", (ends,), lambda: leads_round(ends))

    @property
    def _shifting(self) -> bool:
        """Whether somewhere frames change their VLAN."""
        pairings = self.judgement.pairings
        rules = {link.rules for link in self._core}
        return any(pairings(*pair).shifts or pairings(*pair[::-1]).shifts for pair in rules)

    def _circle(self, ends: tuple[str, str]) -> list[str]:
        """The switches on the shortest other way between the two ends, both included."""
        at: dict[str, list[str]] = {}
        direct = 0
        for joint in self.wiring.fabric.joints.values():
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

    def ends(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, End]]:
        """The ends on a host as the MTU sees them, by segment."""
        for found in listed:
            for end in found.ends:
                yield end.segment, end

    def sizes(self) -> Iterator[Risk]:
        """Ends that send larger packets than some hop, or some other end, takes."""
        sizes = Sizes(self.judgement.landing)
        found = self.book.grouped(ENDS, self).by_key if may_differ(self.plan) else {}
        for id in sorted(map(str, found)):
            ends = [end for _, of in sorted(found[id].items()) for end in of]
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


ENDS: Grouping[CableRisks, Risk] = Grouping("ends", CableRisks.ends)

"""Freedoms that nobody needs, and words that can't be meant: what guests could do, open guards, rates, addresses of segments."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from functools import partial

from aptwire.judge.could import could
from aptwire.judge.facts import Facts
from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch, without
from aptwire.plan import vids
from aptwire.plan.edits import Edit, Patch, Put
from aptwire.plan.fields import bare_address, is_nobodys
from aptwire.plan.hosting import on_switches
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import (
    PortGroup,
    Segment,
    SharedAddress,
    StationPort,
    VirtualSwitch,
)
from aptwire.plan.names import called, some
from aptwire.plan.ports import said


class FreedomRisks(RiskSearch):
    """What is open wider than anybody needs."""

    def could(self) -> Iterator[Risk]:
        """Guests that could hear or reach segments that they are kept from, by tagging their frames as they like."""
        by_group: dict[str, dict[str, tuple[str, ...]]] = {}
        beyond = could(self.judgement)
        for key in beyond.keys:
            for adapter, segments in beyond.block(key).items():
                seat = self.plan.get("adapter", adapter).port_group
                if seat is not None:
                    by_group.setdefault(seat, {})[adapter] = segments
        for id, found in sorted(by_group.items()):
            group = self.plan.get("port_group", id)
            switch: VirtualSwitch = self.plan.get("virtual_switch", group.switch)
            names = sorted({self.plan.get("guest", self.plan.get("adapter", a).guest).name for a in found})
            segments_ = sorted({self.plan.get("segment", s).name for listed in found.values() for s in listed})
            why = said(group).text if switch.filters else "the switch filters nothing"
            yield Risk(
                RISK,
                "could",
                (id,),
                f"{some(names)} could reach {some(segments_)} by tagging {'its' if len(names) == 1 else 'their'} frames",
                f"Port group {group.name} of {self.host(switch.host)} lets more tags pass than its guests are meant to use ({why}).",
                (id, *sorted(found)[:20]),
                facts=tuple(
                    self.fact(a, why, f"could reach {some(self._names(s))}") for a, s in sorted(found.items())[:20]
                ),
                mends=partial(FreedomRisks._narrower, group=group, switch=switch),
            )

    def tunnels(self) -> Iterator[Risk]:
        """Guests that hear whoever carries an overlay: a tunnel's packets bear no proof of who sent them (RFC 7348 section 7)."""
        beyond = could(self.judgement)
        by_segments: dict[tuple[str, ...], list[str]] = {}
        for key in beyond.keys:
            for adapter, segments in beyond.tunnelled(key).items():
                by_segments.setdefault(segments, []).append(adapter)
        for segments, adapters in sorted(by_segments.items()):
            guests = sorted({self.plan.get("guest", self.plan.get("adapter", a).guest).name for a in adapters})
            names = some(self._names(segments))
            yield Risk(
                RISK,
                "tunnel",
                segments,
                f"{some(guests)} could send into {names}: {'it is' if len(guests) == 1 else 'they are'} where the tunnels’ packets are",
                "Whoever is beside a tunnel’s ends may send packets of its own into it. Tunnels are best on a segment without guests.",
                tuple(sorted(adapters)),
                facts=tuple(
                    self.fact(a, "reaches the tunnels’ ends", f"could send into {names}") for a in sorted(adapters)[:20]
                ),
            )

    def answers(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[str, str, tuple[str, ...]]]]:
        """The switches of a host on which it answers guests: its port that bears an address elsewhere, and the adapters."""
        found = [facts for facts in listed if facts.answered]
        ports = on_switches(self.plan, "host_port", listed[0].host) if found else ()
        bearing = sorted(port.name for port in ports if port.addresses and port.connected)
        for facts in found if bearing else ():
            yield "hosts", (facts.switch, bearing[0], facts.answered)

    def answering(self, key: str, found: list[tuple[str, str, tuple[str, ...]]]) -> Iterator[Risk]:
        """Guests that a host answers for its addresses elsewhere, since it hears them on its bridge (RFC 1122 section 3.3.4.2)."""
        switches = [called(self.plan, self.plan.get("virtual_switch", switch)) for switch, _, _ in found]
        adapters = tuple(id for _, _, answered in found for id in answered)
        edit = tuple(Patch("virtual_switch", switch, {"answers": False}) for switch, _, _ in found)
        yield Risk(
            RISK,
            "answers",
            ("hosts",),
            f"The host itself answers {len(adapters)} adapter{'' if len(adapters) == 1 else 's'} on {some(switches)}",
            "It has no port there, but it hears its bridge, and answers for the addresses that it has elsewhere.",
            tuple(switch for switch, _, _ in found),
            endpoints=adapters,
            facts=tuple(
                self.fact(switch, "the host hears untagged frames", f"may answer for {port}")
                for switch, port, _ in found[:20]
            ),
            mends=((f"Keep the host from answering on {some(switches)}", edit),),
        )

    def _names(self, segments: tuple[str, ...]) -> list[str]:
        return [self.plan.get("segment", s).name for s in segments]

    def _narrower(self, group: PortGroup, switch: VirtualSwitch) -> tuple[tuple[str, Edit], ...]:
        """Only the tags that the guests use, only untagged frames where they use none, a switch that filters."""
        adapters = self.plan.where("adapter", "port_group", group.id)
        used = frozenset(t.vid for a in adapters for t in self.plan.where("guest_tag", "adapter", a.id))
        name = called(self.plan, group)
        made: list[tuple[str, Edit]] = []
        if not switch.filters:
            return (
                (
                    f"Let {called(self.plan, switch)} filter tags",
                    (Patch("virtual_switch", switch.id, {"filters": True}),),
                ),
            )
        if any(a.own_port for a in adapters):
            edit = tuple(
                Patch("adapter", a.id, {"members": None, "untagged": None, "pvid": None, "admits": None})
                for a in adapters
                if a.own_port
            )
            made.append((f"Let all adapters of {name} have its port", edit))
        if group.mode == "trunk":
            listed = vids.members(group.allowed or "")
            made.append(
                (
                    f"Let {name} carry {vids.write(used & listed) or 'no tags'} alone",
                    (Patch("port_group", group.id, {"allowed": vids.write(used & listed)}),),
                )
            )
        elif group.mode == "standard":
            kept = (used | vids.members(group.untagged or "")) & vids.members(group.members or "")
            kept |= frozenset([group.pvid]) if group.pvid else frozenset()
            made.append(
                (
                    f"Let {name} have the members {vids.write(kept)} alone",
                    (Patch("port_group", group.id, {"members": vids.write(kept)}),),
                )
            )
        if not used and group.admits != "untagged":
            made.append(
                (f"Let {name} admit untagged frames only", (Patch("port_group", group.id, {"admits": "untagged"}),))
            )
        return tuple(made)

    def opened(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[PortGroup, tuple[str, ...], int]]]:
        """The port groups of a host that leave guards open to several adapters."""
        for one in (one for facts in listed for one in facts.opened if one[2] > 1):
            yield one[0].id, one

    def open_guards(self, key: str, found: list[tuple[PortGroup, tuple[str, ...], int]]) -> Iterator[Risk]:
        """Port groups that let many guests do what a frame guard is there for."""
        for group, opened, count in found:
            words = some(name.replace("_", " ") for name in opened)
            closing = Patch("port_group", group.id, dict.fromkeys(opened, False))
            yield Risk(
                UNTIDY,
                "guards",
                (group.id,),
                f"All {count} adapters of {called(self.plan, group)} may {words}",
                "A guard is best opened for the one adapter that needs it.",
                (group.id,),
                facts=(self.fact(group.id, words, "open for all"),),
                mends=((f"Close {words} on {called(self.plan, group)}", (closing,)),),
            )

    def limited(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[PortGroup, int]]]:
        """The port groups of a host whose limits are above what its NICs carry, with that in Mbit/s."""
        for facts in listed:
            for group in facts.limited:
                yield group.id, (group, facts.fastest)

    def rates(self, key: str, found: list[tuple[PortGroup, int]]) -> Iterator[Risk]:
        """Limits above what the NICs behind carry: they limit nothing."""
        for group, fastest in found:
            port, most = called(self.plan, group), fastest * 1000
            lower = Patch("port_group", group.id, {"send_rate": most, "send_peak": None})
            yield Risk(
                UNTIDY,
                "rate",
                (group.id,),
                f"{port} limits adapters to more than its uplink carries",
                f"Each may send {group.send_rate} kbit/s; the uplink carries {most}.",
                (group.id,),
                facts=(self.fact(group.id, f"may send {group.send_rate} kbit/s", f"{fastest} Mbit/s behind"),),
                mends=((f"Limit {port} to {most} kbit/s", (lower,)),),
            )

    def gateways(self) -> Iterator[Risk]:
        """Gateways that no address of their segment can reach, and subnets that two segments claim."""
        listed = sorted(self.plan.all(Segment), key=lambda s: s.id)
        nets = {s.id: [ipaddress.ip_network(t) for t in s.subnets] for s in listed}
        for segment in listed:
            for text in segment.gateways:
                address = ipaddress.ip_address(text)
                same = [n for n in nets[segment.id] if n.version == address.version]
                inside = [n for n in same if address in n]
                nobody = [n for n in inside if is_nobodys(address, n)]
                if same and (not inside or nobody):
                    why = (
                        f"is the network or broadcast address of {nobody[0]}"
                        if nobody
                        else f"isn’t in {some(map(str, same))}"
                    )
                    yield Risk(
                        RISK,
                        "gateway",
                        (segment.id, text),
                        f"The gateway of {segment.name} {why}",
                        f"Nobody on {segment.name} can send to {text} without another gateway.",
                        (segment.id,),
                        segment=segment.id,
                        facts=(self.fact(segment.id, text, why),),
                        mends=(without(segment, "gateways", text),),
                    )
        plain = [s for s in listed if s.vni is None and nets[s.id]]
        for n, one in enumerate(plain):
            for two in plain[n + 1 :]:
                if self.worlds.get(one.id) != self.worlds.get(two.id):
                    continue
                both = [(a, b) for a in nets[one.id] for b in nets[two.id] if a.version == b.version and a.overlaps(b)]
                if both and self.members.get(one.id) and self.members.get(two.id):
                    yield Risk(
                        UNTIDY,
                        "overlap",
                        (one.id, two.id),
                        f"{one.name} and {two.name} have overlapping subnets",
                        f"{both[0][0]} and {both[0][1]}: no router can serve both.",
                        (one.id, two.id),
                        segment=one.id,
                        facts=(self.fact(one.id, str(both[0][0]), f"overlaps with {both[0][1]}"),),
                    )

    def station_twins(self) -> Iterator[Risk]:
        """Stations that bear one address without its being said to be shared."""
        shared = {record.address for record in self.plan.all(SharedAddress)}
        held: dict[str, set[str]] = {}
        for port in self.plan.all(StationPort):
            for address in map(bare_address, port.addresses):
                held.setdefault(address, set()).add(port.station)
        for address, stations in sorted(held.items()):
            if len(stations) > 1 and address not in shared:
                names = some(sorted(self.plan.get("station", s).name for s in stations))
                yield Risk(
                    RISK,
                    "station-twin",
                    (address,),
                    f"{names} bear {address}",
                    "Whichever answers first gets the frames, unless the address is meant to be shared.",
                    tuple(sorted(stations)),
                    facts=tuple(self.fact(s, address, "the same address") for s in sorted(stations)),
                    mends=((f"Say that {address} is shared on purpose", (self._shared(address),)),),
                )

    def _shared(self, address: str) -> Put:
        return Put(SharedAddress(id=make_id(f"shared:{address}"), address=address))

"""Packets larger than what some hop takes: on one link nobody reports them, they vanish (RFC 1191 speaks of routers alone)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from aptwire.forward.domains import Domains, core_links, solve
from aptwire.forward.fabric import header, least
from aptwire.forward.parts import Link
from aptwire.judge.facts import End
from aptwire.judge.landing import Landing
from aptwire.plan.plan import Plan

SENDING = ("segment", "host_port", "virtual_switch")
TAKING = ("virtual_switch", "nic", "fabric_port", "fabric_switch", "host_port", "station_port", "segment")


@dataclass(frozen=True)
class Misfit:
    """An end that sends packets of `sends` bytes, of which the record `at` takes `takes`."""

    sends: int
    at: str
    takes: int


class Sizes:
    """The domains for packets of each size that somebody sends, solved when they are asked for."""

    def __init__(self, landing: Landing) -> None:
        self.landing = landing
        self.wiring = landing.wiring
        self.plan = landing.wiring.plan
        self._solved: dict[int, tuple[Domains | None, list[Link]]] = {}

    def at(self, size: int) -> tuple[Domains | None, list[Link]]:
        """The domains over links that take a size (None: all do), and the links that don't."""
        if size not in self._solved:
            low = [link for link in core_links(self.wiring) if link.mtu and link.mtu < size]
            domains = solve(self.wiring, self.landing.pairings, least_mtu=size) if low else None
            self._solved[size] = domains, low
        return self._solved[size]

    def narrow(self, vid: int, size: int) -> dict[str, int]:
        """The fabric ports without which packets of this size would still get through everywhere, with what they take."""
        wiring, whole = self.wiring, self.landing.domains
        domains, low = self.at(size)
        found: dict[str, int] = {}
        tag = int(wiring.classes.of[vid])
        for link in low if domains is not None else ():
            assert domains is not None
            nodes = [wiring.bridges[end].crossing_row * wiring.classes.count + tag for end in link.ends]
            together = whole.component[nodes[0]] == whole.component[nodes[1]]
            if together and domains.component[nodes[0]] != domains.component[nodes[1]]:
                for id in (records[-1] for records in link.records if records):
                    port: Any = self.plan.find(id)
                    switch = self.plan.of("fabric_switch").get(getattr(port, "switch", None))
                    mtu = least(getattr(port, "mtu", None), switch.mtu if switch is not None else None)
                    if mtu and mtu < size:
                        found[id] = mtu
        return found


def may_differ(plan: Plan) -> bool:
    """Whether somebody may send more than somebody takes; where all say the same, or nothing, there is nothing to look for."""

    def said(kinds: tuple[str, ...]) -> set[int]:
        return {size for kind in kinds for size, records in plan.grouped(kind, "mtu").items() if records}

    own = {adapter.mtu for adapter in plan.outspoken if adapter.mtu}
    taking = said(TAKING) | own
    most = max(said(SENDING) | own, default=0)
    # An overlay's packets grow on their way.
    return bool(taking) and (most > min(taking) or bool(plan.where("port_group", "mode", "overlay")))


class Misfits:
    """Looks for places that send packets that don't get to their peers, or that take less than these send.

    A hop on an end's own host is that end's affair; one in the fabric that of whoever is beyond it, seen from where most of its
    segment are; and an end of another size than most is the one that doesn't fit.
    """

    def __init__(self, landing: Landing) -> None:
        self.landing = landing
        self.wiring, self.plan = landing.wiring, landing.wiring.plan
        self.sizes = Sizes(landing)

    def of_segment(self, id: str, ends: list[End]) -> dict[str, Misfit]:
        """Those of a segment, by record, among the `ends` that aren't astray."""
        found: dict[str, Misfit] = {}
        for end in ends:
            if end.tight:
                at, takes = min(end.tight, key=lambda pair: (pair[1], pair[0]))
                self._tell(end, Misfit(end.sends, at, takes), found)
        if ends:
            self._other_sizes(ends, found)
            self._beyond(id, ends, found)
        return found

    def _tell(self, end: End, misfit: Misfit, found: dict[str, Misfit]) -> None:
        """All places that are alike to an end share its fault."""
        place, plan = self.wiring.place(end.record), self.plan
        for record in place.stand.records if place is not None else ():
            own = getattr(plan.find(record), "mtu", None)
            if record == end.record or own == getattr(plan.find(end.record), "mtu", None):
                found.setdefault(record, misfit)

    def _other_sizes(self, ends: list[End], found: dict[str, Misfit]) -> None:
        """Ends that send or take another size than most of their segment."""
        weight: dict[int, int] = {}
        for end in ends:
            weight[end.sends] = weight.get(end.sends, 0) + end.count
        usual = max(weight, key=lambda size: (weight[size], -size))
        for end in ends:
            if end.sends < usual:
                self._tell(end, Misfit(usual, end.record, end.sends), found)
            elif end.sends > usual:
                other = min(e.record for e in ends if e.sends == usual)
                self._tell(end, Misfit(end.sends, other, usual), found)

    def _beyond(self, segment: str, ends: list[End], found: dict[str, Misfit]) -> None:
        """Ends that large packets of the others don't get to, and whose own get nowhere."""
        landing, record = self.landing, self.plan.get("segment", segment)
        size = max(end.sends for end in ends)
        if record.vni:
            over = sorted({str(g.over) for g in self.plan.where("port_group", "vni", record.vni)})
            size += max((header(self.plan, port) for port in over), default=0)
        domains, _ = self.sizes.at(size)
        if domains is None:
            return
        parts: dict[int, list[End]] = {}
        whole: dict[int, set[int]] = {}
        for end in ends:
            place = self.wiring.place(end.record)
            node = int(landing.rows.node[landing.first[landing.number(place.stand)]]) if place is not None else -1
            if node >= 0:
                part = int(domains.component[node])
                parts.setdefault(part, []).append(end)
                whole.setdefault(int(landing.domains.component[node]), set()).add(part)
        for split in (parts_ for parts_ in whole.values() if len(parts_) > 1):
            weight = {part: sum(end.count for end in parts[part]) for part in split}
            most = {part for part in split if weight[part] == max(weight.values())}
            narrow = self.sizes.narrow(record.vid, size) if record.vid else {}
            if not narrow:
                continue
            at = min(narrow, key=lambda port: (narrow[port], port))
            for end in (end for part in sorted(split) if part not in most or len(most) > 1 for end in parts[part]):
                self._tell(end, Misfit(size, at, narrow[at]), found)

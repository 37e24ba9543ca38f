"""Segments by hosts: on which hosts each segment is offered, and over how many of their ways it gets out.

A way is a member of one of a switch's teams: the NIC, its cable, and the fabric's port at the other end.  It carries a segment where frames with its
tag pass there and back, and come out where the segment lives: in the part of the fabric that most of its ways lead to.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from aptwire.forward.classes import UNTAGGED
from aptwire.forward.domains import crossing
from aptwire.forward.parts import Member, Team
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks.alike import offs
from aptwire.plan import vids
from aptwire.plan.kinds import Host, PortGroup, Record, SecondaryVlan, Segment
from aptwire.plan.names import natural

EVERY, SOME, UNKNOWN, NONE, LOCAL, READY, PARTLY, ABSENT = "csuxlrq."
"""How a host stands to a segment.  Offered by a port group or host port there, and carried over every way (EVERY), over some (SOME), over none that is known
while an end is open (UNKNOWN), over none (NONE), or on a switch that has no way out (LOCAL).  Not offered, and carried over every way of a switch (READY), over
some (PARTLY), over none (ABSENT)."""
OFF = {EVERY: "C", SOME: "S", UNKNOWN: "U", NONE: "X", LOCAL: "L", READY: "R", PARTLY: "Q", ABSENT: "-"}
"""The same of a host that is off a pattern there."""
_ORDER = (EVERY, SOME, LOCAL, UNKNOWN, NONE, READY, PARTLY, ABSENT)
"""The best first: of several switches of a host the one counts that does most for a segment."""
_LETTERS, _OFF_LETTERS = (
    np.frombuffer("".join(letters).encode(), dtype=np.uint8) for letters in (_ORDER, map(OFF.__getitem__, _ORDER))
)
"""uint8[ranks]: what is written for each."""
_RANK = {letter: n for n, letter in enumerate(_ORDER)}


@dataclass(frozen=True)
class Lattice:
    """`hosts` by id, in the order of their names; of each segment (id) a letter for each host, as above."""

    hosts: tuple[str, ...]
    rows: dict[str, str]


def lattice(judgement: Judgement) -> Lattice:
    """How each host of a plan stands to each segment."""
    return _Looking(judgement).made()


@dataclass(frozen=True, eq=False)
class _Switch:
    """A virtual switch: the segments (numbers) offered on it, and of each way what comes out: int32[segments], the component, -1 where it is dropped and
    -2 where nobody knows."""

    host: str
    offered: frozenset[int]
    ways: list[np.ndarray]


class _Looking:
    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.plan, self.wiring = judgement.plan, judgement.wiring
        self.segments: list[Segment] = sorted(self.plan.all(Segment), key=lambda s: natural(s.name))
        self.numbers = {segment.id: n for n, segment in enumerate(self.segments)}
        self.by_vid: dict[int, int] = {s.vid: n for n, s in enumerate(self.segments) if s.vid}
        for secondary in self.plan.all(SecondaryVlan):
            self.by_vid.setdefault(secondary.vid, self.numbers[secondary.segment])
        self.by_vni: dict[int, int] = {s.vni: n for n, s in enumerate(self.segments) if s.vni}
        # int64[segments]: with which tag each leaves a host, -1 where only the host itself can say (untagged, or within another one).
        self.tags = np.array([self._class(s.vid) if s.vid else -1 for s in self.segments], dtype=np.int64)
        self._known: dict[tuple[int, int, int, bytes], np.ndarray] = {}

    def _class(self, vid: int | None) -> int:
        return int(self.wiring.classes.of[vid or 0])

    def made(self) -> Lattice:
        hosts = sorted(self.plan.all(Host), key=lambda h: natural(h.name))
        switches = [
            self._switch(host.id, sw.id) for host in hosts for sw in self.plan.where("virtual_switch", "host", host.id)
        ]
        home = self._homes(switches)
        row_of = {host.id: n for n, host in enumerate(hosts)}
        ranks = np.full((len(hosts), len(self.segments)), _RANK[ABSENT], dtype=np.uint8)
        for switch in switches:
            row = ranks[row_of[switch.host]]
            np.minimum(row, self._ranks(switch, home), out=row)
        off = np.zeros(ranks.shape, dtype=bool)
        for host, n in self._off():
            off[row_of[host], n] = True
        drawn = np.where(off, _OFF_LETTERS[ranks], _LETTERS[ranks])
        rows = {s.id: drawn[:, n].tobytes().decode() for n, s in enumerate(self.segments)}
        return Lattice(tuple(row_of), rows)

    def _switch(self, host: str, switch: str) -> _Switch:
        offered = {
            n: tag for group in self.plan.where("port_group", "switch", switch) for n, tag in self._offers(group)
        }
        for port in self.plan.where("host_port", "switch", switch):
            if port.vid and port.vid in self.by_vid:
                offered[self.by_vid[port.vid]] = self._class(port.vid)
        block = self.wiring.blocks.get(switch)
        if block is None:
            return _Switch(host, frozenset(offered), [])
        for stand in block.stands:
            # Untagged it may be meant for the segment, which the port beyond gives it; with another tag it is astray.
            if stand.segment in self.numbers and not stand.vni and stand.context == UNTAGGED:
                offered.setdefault(self.numbers[stand.segment], UNTAGGED)
        starts = self.tags.copy()
        starts[list(offered)] = list(offered.values())
        ways = [self._way(m, starts) for team in block.teams if not team.order for m in _members(team)]
        return _Switch(host, frozenset(offered), ways)

    def _offers(self, group: PortGroup) -> Iterator[tuple[int, int]]:
        """The segments that a port group offers, and the context in which they leave it."""
        if group.mode == "overlay":
            if group.vni in self.by_vni:
                over = self.plan.of("host_port").get(group.over)
                yield self.by_vni[group.vni], self._class(over.vid if over is not None else None)
            return
        named = {group.vid, *(vid for text in (group.allowed, group.members) if text for vid in _few(text))}
        for vid in (vid for vid in named if vid and vid in self.by_vid):
            yield self.by_vid[vid], self._class(vid)

    def _way(self, member: Member, starts: np.ndarray) -> np.ndarray:
        """int32[segments]: where a frame of each comes out; ways that behave alike are worked out once."""
        link = member.link
        if link is None:
            return np.full(len(self.segments), -2 if member.open else -1, dtype=np.int32)
        bridge = self.wiring.bridges[link.ends[1]]
        key = (link.rules[0].number, link.rules[1].number, bridge.number, starts.tobytes())
        if key not in self._known:
            there, back = crossing(link.rules[0], link.rules[1]), crossing(link.rules[1], link.rules[0])
            after = np.where(starts >= 0, there[starts], -1).astype(np.int64)
            passes = (after >= 0) & (back[after] == starts)
            first = bridge.crossing_row * self.wiring.classes.count
            made = np.where(passes, self.judgement.domains.component[first + np.maximum(after, 0)], -1)
            self._known[key] = made.astype(np.int32)
        return self._known[key]

    def _homes(self, switches: list[_Switch]) -> np.ndarray:
        """int32[segments]: the part of the fabric in which each lives, which most ways of those who offer it lead to, or most of all ways."""
        votes: list[Counter[int]] = [Counter() for _ in self.segments]
        for switch in switches:
            for way in switch.ways:
                for n in switch.offered:
                    if way[n] >= 0:
                        votes[n][int(way[n])] += 1
        left = np.array([not vote for vote in votes])
        if left.any():
            for way in (way for switch in switches for way in switch.ways):
                for n in np.flatnonzero(left & (way >= 0)).tolist():
                    votes[n][int(way[n])] += 1
        return np.array([min(v, key=lambda c: (-v[c], c)) if v else -3 for v in votes], dtype=np.int32)

    def _ranks(self, switch: _Switch, home: np.ndarray) -> np.ndarray:
        """uint8[segments]: how a switch stands to each."""
        count = len(switch.ways)
        ways = np.stack(switch.ways) if count else np.zeros((0, len(self.segments)), dtype=np.int32)
        carried, opened = (ways == home).sum(axis=0), (ways == -2).sum(axis=0)
        made = np.where(carried == 0, _RANK[ABSENT], np.where(carried == count, _RANK[READY], _RANK[PARTLY]))
        for n in switch.offered:
            if not count:
                letter = LOCAL
            elif carried[n] == count:
                letter = EVERY
            else:
                letter = SOME if carried[n] else UNKNOWN if opened[n] else NONE
            made[n] = _RANK[letter]
        return made.astype(np.uint8)

    def _off(self) -> Iterator[tuple[str, int]]:
        """The hosts and segments at which one is off a pattern: what bears the segment's tag, in the pattern or on the host."""
        for stamp, found in offs(self.judgement).items():
            host = self.plan.get("stamp", stamp).host
            for one in found:
                vid = _vid_of(self.plan.find(one.about))
                if vid in self.by_vid:
                    yield host, self.by_vid[vid]


def _few(text: str) -> frozenset[int]:
    """The VIDs of a list; one that lets everything in offers nothing in particular."""
    return frozenset() if text == "1-4094" else vids.members(text)


def _members(team: Team) -> list[Member]:
    return [m for m in team.members[: team.usable] if not m.one_way and not m.excluded]


def _vid_of(record: Record | None) -> int:
    return getattr(record, "vid", None) or 0

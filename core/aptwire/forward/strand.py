"""One segment's way through everything: every port that carries it, and where it breaks."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass

from aptwire.forward.classes import UNTAGGED
from aptwire.forward.domains import core_links, crossing
from aptwire.forward.parts import NOW, Link, Place, Stand, Team
from aptwire.forward.trace import HopWriter
from aptwire.forward.wiring import Wiring
from aptwire.plan.kinds import Segment

CARRIES, RESERVE, DROPPED, OPEN, LEAKS = "carries", "reserve", "dropped", "open", "leaks"


@dataclass(frozen=True)
class Piece:
    """A stretch between two records.

    `state`: carries (today), reserve (only after a failover), dropped (it ends at `to`, `reason` says why), open
    (nobody knows what is behind `to`), leaks (it goes on under another VID).  `foreign`: who starts it belongs elsewhere.
    """

    start: str
    to: str
    state: str
    reason: str = ""
    foreign: bool = False

    def to_json(self) -> dict[str, object]:
        """The piece for a program."""
        return {"from": self.start, "to": self.to, "state": self.state, "reason": self.reason, "foreign": self.foreign}


def strand(wiring: Wiring, segment: Segment) -> list[Piece]:
    """The pieces of a segment's strand, from its endpoints down into the fabric."""
    drawn = _Strand(wiring, segment)
    return list(dict.fromkeys(drawn.pieces()))


class _Strand:
    def __init__(self, wiring: Wiring, segment: Segment) -> None:
        self.wiring = wiring
        self.plan = wiring.plan
        self.segment = segment
        self.tag = int(wiring.classes.of[segment.vid or 0])
        secondaries = [s.vid for s in self.plan.where("secondary_vlan", "segment", segment.id)]
        self.tags = {int(wiring.classes.of[v]) for v in (segment.vid, *secondaries) if v}
        self.teller = HopWriter(wiring, NOW)
        self.wanted: set[int] = set()
        # An unmanaged switch classifies nothing: there the segment may travel untagged.
        self.held: dict[int, int] = {}

    def pieces(self) -> list[Piece]:
        made: list[Piece] = []
        ways: dict[tuple[Stand, str], None] = {}
        for block in self.wiring.blocks.values():
            for stand in block.stands:
                own = stand.segment == self.segment.id
                if not own and (stand.vni or stand.context not in self.tags):
                    continue
                self._seats(stand, own, made, ways)
        for stand, seat in ways:
            for team in self.wiring.teams_at(stand.bridge, stand.order):
                made.extend(self._out(team, stand.context, seat))
            if stand.bridge >= 0 and not self.wiring.bridges[stand.bridge].virtual:
                made.extend(self._functions(stand.bridge, stand.context, CARRIES))
                self.wanted.add(stand.bridge)
        made.extend(self._fabric())
        return made

    def _seats(self, stand: Stand, own: bool, made: list[Piece], ways: dict[tuple[Stand, str], None]) -> None:
        for record in stand.records:
            place = self.wiring.place(record)
            assert place is not None
            seat = self._seat(place)
            if stand.context < 0:
                made.append(Piece(place.endpoint, seat, DROPPED, stand.reason))
                continue
            if seat != place.endpoint:
                made.append(Piece(place.endpoint, seat, CARRIES, foreign=not own))
            if stand.vni:
                made.append(Piece(seat, stand.over, CARRIES, foreign=not own))
                seat = stand.over
            if own:
                ways[stand, seat] = None

    def _seat(self, place: Place) -> str:
        adapter = self.plan.of("adapter").get(place.endpoint)
        if adapter is not None:
            return adapter.port_group or adapter.function_of or place.endpoint
        port = self.plan.of("station_port").get(place.endpoint)
        return port.port if port is not None else place.endpoint

    def _out(self, team: Team, context: int, seat: str) -> list[Piece]:
        label = int(team.rule.out[context])
        carrying = self.wiring.carries(team, NOW)
        if carrying is not None and carrying.link is not None:
            label = int(carrying.link.rules[0].out[context])
        if label < 0:
            return [Piece(seat, team.uplink.id, DROPPED, self.teller.refusal((team.uplink.id,), context, leaving=True))]
        made: list[Piece] = []
        for member in team.members[: team.usable]:
            if member.one_way:
                continue
            state = CARRIES if member is carrying else RESERVE
            made.append(Piece(seat, member.nic.id, state))
            if member.link is None:
                made.append(Piece(member.nic.id, member.nic.id, OPEN, f"nobody said what is behind {member.nic.name}"))
                continue
            far = member.link.records[1]
            after = int(member.link.rules[1].into[label])
            bridge = self.wiring.bridges[member.link.ends[1]]
            if not far:
                made.extend(self._functions(bridge.number, after, state))
                continue
            if after < 0:
                made.append(Piece(member.nic.id, far[0], DROPPED, self.teller.refusal(far, label, leaving=False)))
                self.wanted.add(bridge.number)
                continue
            made.append(Piece(member.nic.id, far[0], state))
            if after == UNTAGGED:
                self.held[bridge.number] = UNTAGGED
            if far[0] != bridge.id:
                made.append(Piece(far[0], bridge.id, state))
            self.wanted.add(bridge.number)
        return made

    def _functions(self, bridge: int, context: int, state: str) -> list[Piece]:
        """From a NIC whose virtual functions are in use out to its port."""
        nic = self.plan.of("nic").get(self.wiring.bridges[bridge].id)
        made: list[Piece] = []
        if nic is None or context < 0:
            return made
        several = [t.members[0].link for t in self.wiring.fabric.teams if t.order == nic.id]
        for link in [*self.wiring.fabric.at.get(bridge, ()), *(link for link in several if link is not None)]:
            far = link.records[1]
            label = int(link.rules[0].out[context])
            if label < 0 or not far:
                continue
            if int(link.rules[1].into[label]) < 0:
                made.append(Piece(nic.id, far[0], DROPPED, self.teller.refusal(far, label, leaving=False)))
            else:
                made.append(Piece(nic.id, far[0], state))
                made.append(Piece(far[0], self.wiring.bridges[link.ends[1]].id, state))
            self.wanted.add(link.ends[1])
        return made

    def _fabric(self) -> list[Piece]:
        made: list[Piece] = []
        for link in self._needed():
            made.extend(self._between(link))
        return made

    def _needed(self) -> list[Link]:
        """The fabric links on shortest ways between the switches at which the segment enters."""
        if not self.wanted:
            return []
        at: dict[int, list[Link]] = {}
        for link in (link for link in core_links(self.wiring) if link.nic is None):
            for end in link.ends:
                at.setdefault(end, []).append(link)
        root = min(self.wanted)
        came: dict[int, Link | None] = {root: None}
        queue = deque([root])
        while queue:
            bridge = queue.popleft()
            for link in at.get(bridge, ()):
                far = link.ends[1 - link.side(bridge)]
                if far not in came:
                    came[far] = link
                    queue.append(far)
        needed: dict[str, Link] = {}
        for bridge in self.wanted:
            step = came.get(bridge)
            while step is not None:
                needed[step.key] = step
                bridge = step.ends[1 - step.side(bridge)]
                step = came.get(bridge)
        return [needed[n] for n in sorted(needed)]

    def _between(self, link: Link) -> list[Piece]:
        if not all(link.records):
            return []
        a, b = link.records[0][-1], link.records[1][-1]
        ends = [self.wiring.bridges[e].id for e in link.ends]
        contexts = [self.held.get(end, self.tag) for end in link.ends]
        there = int(crossing(link.rules[0], link.rules[1])[contexts[0]])
        back = int(crossing(link.rules[1], link.rules[0])[contexts[1]])
        outer = [Piece(ends[0], a, CARRIES), Piece(ends[1], b, CARRIES)]
        if (there, back) == (contexts[1], contexts[0]):
            return [*outer, Piece(a, b, CARRIES)]
        made = list(outer)
        for side, lands in ((0, there), (1, back)):
            near, far = link.records[side], link.records[1 - side]
            if lands == contexts[1 - side]:
                continue
            label = int(link.rules[side].out[contexts[side]])
            if label < 0:
                made.append(
                    Piece(ends[side], near[0], DROPPED, self.teller.refusal(near, contexts[side], leaving=True))
                )
            elif lands < 0:
                made.append(Piece(near[0], far[0], DROPPED, self.teller.refusal(far, label, leaving=False)))
            else:
                vid = self.wiring.classes.vid(lands)
                made.append(Piece(near[0], far[0], LEAKS, f"goes on as VID {vid} behind this port"))
        dropped = {(p.start, p.to) for p in made if p.state == DROPPED}
        return [p for p in made if p.state != CARRIES or (p.start, p.to) not in dropped]

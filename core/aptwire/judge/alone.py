"""One segment alone: its strand as a tree from the fabric to its guests, with every break and every place where somebody else could hear it."""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Iterator
from dataclasses import asdict, dataclass, field

from aptwire.forward.frames import Seat
from aptwire.forward.rules import PortRule, Stack
from aptwire.forward.strand import CARRIES, DROPPED, LEAKS, OPEN, RESERVE, Piece, strand
from aptwire.forward.walk import Stop, flood
from aptwire.judge.causes import spoken
from aptwire.judge.could import could, frames_of
from aptwire.judge.judgement import Judgement
from aptwire.judge.need import needs
from aptwire.judge.why import is_idle
from aptwire.plan.kinds import Mirror, Record, Segment
from aptwire.plan.names import called, natural, some
from aptwire.plan.plan import Plan

HEARS, OVERHEARS, COPIES, COULD, SOCKET, TAP = "hears", "overhears", "copies", "could", "socket", "tap"
"""How a segment could be overheard: somebody else gets its frames; somebody on it may take what isn't for him; a mirror copies them; somebody would, did he tag his
frames so; whoever plugs in at a port that is free; whoever taps a cable on which they are sent for nobody."""


@dataclass(frozen=True)
class Ear:
    """A place where a segment could be overheard: `at` a record, how, and what that is in words."""

    at: str
    how: str
    text: str


@dataclass(frozen=True)
class Break:
    """Where a strand ends, or goes on as another VID: at which record, in which state (dropped, open or leaks), and why."""

    at: str
    state: str
    reason: str


@dataclass
class Knot:
    """A line of the tree: records that hang on each other one by one, `depth` from the root, and how what is above leads there (carries, reserve, dropped; empty at a root).

    `again`: it stands elsewhere in the tree with what hangs on it; `foreign`: it isn't meant to be on the segment.
    """

    records: list[str]
    depth: int
    state: str = ""
    again: bool = False
    foreign: bool = False
    breaks: list[Break] = field(default_factory=list)
    ears: list[Ear] = field(default_factory=list)


@dataclass(frozen=True)
class Alone:
    """A segment's tree, from the top, and the places where it is heard beyond the tree."""

    knots: list[Knot]
    beyond: list[Ear]

    def to_json(self) -> dict[str, object]:
        """All of it for a program."""
        return asdict(self)


def alone(judgement: Judgement, segment: Segment) -> Alone:
    """A segment by itself."""
    pieces = strand(judgement.wiring, segment)
    knots = _Tree(judgement.plan, pieces).knots()
    at = {record: knot for knot in reversed(knots) if not knot.again for record in knot.records}
    beyond: list[Ear] = []
    for ear in _Ears(judgement, segment).ears():
        record = judgement.plan.find(ear.at)
        knot = (
            at.get(ear.at) or at.get(getattr(record, "switch", "")) or at.get(getattr(record, "port_group", None) or "")
        )
        (knot.ears if knot is not None else beyond).append(ear)
    return Alone(knots, beyond)


_RANKS = ("fabric_switch", "fabric_port", "uplink", "nic", "port_group", "host_port")
_NIC = _RANKS.index("nic")
_COST = {CARRIES: 0, LEAKS: 0, RESERVE: 1, DROPPED: 1_000}


class _Tree:
    def __init__(self, plan: Plan, pieces: Iterable[Piece]) -> None:
        self.plan = plan
        self.breaks: dict[str, list[Break]] = {}
        self.foreign: set[str] = set()
        self.beside: dict[str, dict[str, str]] = {}
        self._orders: dict[str, tuple[int, list[int | str], str]] = {}
        endpoints = {*plan.of("adapter"), *plan.of("host_port"), *plan.of("station_port")}
        for piece in pieces:
            if piece.state in (DROPPED, OPEN, LEAKS):
                at = piece.start if piece.start in endpoints and not self._seats(piece.start) else piece.to
                self.breaks.setdefault(at, []).append(Break(at, piece.state, piece.reason))
            if piece.foreign:
                self.foreign.add(piece.start)
            if piece.start != piece.to:
                self._join(piece.start, piece.to, piece.state)
            else:
                self.beside.setdefault(piece.start, {})
        # A port hangs on its switch, also where nothing gets through to that.
        for port in [id for id in self.beside if id in plan.of("fabric_port")]:
            self._join(port, plan.get("fabric_port", port).switch, DROPPED if port in self.breaks else CARRIES)

    def _seats(self, id: str) -> bool:
        """Whether others stand upon a host port."""
        return bool(self.plan.where("port_group", "over", id))

    def _join(self, one: str, two: str, state: str) -> None:
        for near, far in ((one, two), (two, one)):
            known = self.beside.setdefault(near, {})
            known[far] = min(known.get(far, state), state, key=lambda s: _COST[s])

    def knots(self) -> list[Knot]:
        """The lines, from the top."""
        above: dict[str, str] = {}
        cost: dict[str, int] = {}
        roots: list[str] = []
        for root in sorted(self.beside, key=self._rootwards):
            if root in cost:
                continue
            roots.append(root)
            cost[root] = 0
            waiting: list[tuple[int, int, str]] = [(0, 0, root)]
            order = 0
            while waiting:
                spent, _, here = heapq.heappop(waiting)
                if spent > cost[here]:
                    continue
                for other in sorted(self.beside[here], key=self._order):
                    total = spent + _COST[self.beside[here][other]] + self._upwards(here, other)
                    if total < cost.get(other, total + 1):
                        cost[other], above[other] = total, here
                        order += 1
                        heapq.heappush(waiting, (total, order, other))
        below: dict[str, list[tuple[str, bool]]] = {}
        for record, up in above.items():
            below.setdefault(up, []).append((record, False))
        for one, others in self.beside.items():
            for two in others:
                if self._order(one) < self._order(two) and above.get(two) != one and above.get(one) != two:
                    below.setdefault(one, []).append((two, True))
        made: list[Knot] = []
        for root in roots:
            self._hang(root, below, made)
        return made

    def _upwards(self, one: str, two: str) -> int:
        """What it costs that a NIC would hang on a port group instead of on the port that it is plugged into: more than a break."""
        below, above = (self._order(id)[0] for id in (one, two))
        return 10 * _COST[DROPPED] if above <= _NIC < below else 0

    def _hang(self, root: str, below: dict[str, list[tuple[str, bool]]], made: list[Knot]) -> None:
        """The lines of a root and of all that hangs on it."""
        stack = [(root, "", 0, False)]
        while stack:
            record, state, depth, again = stack.pop()
            knot = Knot([record], depth, state, again, record in self.foreign)
            made.append(knot)
            if again:
                continue
            while len(kids := below.get(record, [])) == 1 and not kids[0][1] and self._chains(record, kids[0][0]):
                knot.state = max(knot.state, self.beside[record][kids[0][0]], key=lambda s: _COST.get(s, 0))
                record = kids[0][0]
                knot.records.append(record)
                knot.foreign |= record in self.foreign
            for one in knot.records:
                knot.breaks += self.breaks.get(one, [])
            kids = sorted(below.get(record, []), key=lambda kid: self._order(kid[0]), reverse=True)
            stack += [(kid, self.beside[record][kid], depth + 1, more) for kid, more in kids]

    def _chains(self, record: str, kid: str) -> bool:
        """Whether a record stands in one line with the only one that hangs on it: a cable's two ends, a switch behind its port."""
        kinds = tuple(found.kind for id in (record, kid) if (found := self.plan.find(id)) is not None)
        return kinds in (("fabric_port", "nic"), ("fabric_port", "fabric_port"), ("fabric_port", "fabric_switch"))

    def _rootwards(self, id: str) -> tuple[int, int, list[int | str]]:
        """The best root first: the fabric's switch on which most hangs."""
        order = self._order(id)
        return order[0], -len(self.beside[id]) if order[0] == 0 else 0, order[1]

    def _order(self, id: str) -> tuple[int, list[int | str], str]:
        """In which order records hang on one: the fabric first, and by name."""
        known = self._orders.get(id)
        if known is None:
            record = self.plan.find(id)
            rank = _RANKS.index(record.kind) if record is not None and record.kind in _RANKS else len(_RANKS)
            known = self._orders[id] = rank, natural(_line(self.plan, record)), id
        return known


def _line(plan: Plan, record: Record | None) -> str:
    return str(getattr(record, "name", "")) or called(plan, record)


def _leaving(rule: PortRule, stops: Iterable[Stop]) -> set[int]:
    """The labels with which frames that are there leave by a port."""
    return {label for stop in stops if (label := int(rule.out[stop.context])) >= 0}


class _Ears:
    """Who hears a segment today beside those who belong on it, and who could."""

    def __init__(self, judgement: Judgement, segment: Segment) -> None:
        self.judgement, self.segment = judgement, segment
        self.wiring, self.plan = judgement.wiring, judgement.plan
        self.frames = judgement.once(frames_of)
        self.stops: set[Stop] = set()
        self.heard: dict[str, set[Stack]] = {}
        self._listen()
        self.at: dict[int, list[Stop]] = {}
        for stop in self.stops:
            self.at.setdefault(stop.bridge, []).append(stop)

    def _listen(self) -> None:
        """Send a broadcast from whoever belongs on the segment and got there; one for all of whom everybody further on hears the same."""
        judgement, wiring = self.judgement, self.wiring
        right, first = judgement.landing.rows.right, judgement.landing.first
        one_way = judgement.domains.one_way()
        asked: set[object] = set()
        for stand in (stand for block in wiring.blocks.values() for stand in block.stands):
            if stand.segment != self.segment.id or stand.context < 0 or not right[first[judgement.number(stand)]]:
                continue
            record = next(filter(self._runs, stand.records), None)
            if record is None:
                continue
            owner = self.plan.of("station_port").get(record)
            place = wiring.place(record)
            sender = owner.port if owner is not None else place.endpoint if place is not None else ""
            tags: Stack = (wiring.classes.vid(stand.label),) if stand.label else ()
            seat = self.frames.seats.get(sender)
            start = self.frames.start(seat, tags) if seat is not None else None
            if seat is None or start is None:
                continue
            self.heard.setdefault(sender, set()).add(tags)
            self._beside(seat, start)
            spot = judgement.spot(judgement.number(stand))
            key = (spot, seat.order, seat.vni, start if len(spot) > 1 or spot[0] in one_way else None)
            if key in asked:
                continue
            asked.add(key)
            if not seat.vni:
                self.stops.update(flood(self.frames.roads, start, seat.order))
            for id, out in self.frames.stacked(sender, tags):
                self.heard.setdefault(id, set()).add(out)

    def _beside(self, seat: Seat, start: Stop) -> None:
        """Those on the sender's own switch who get what it sends."""
        if seat.vni or start in self.stops:
            return
        self.stops.add(start)
        for other in self.frames.at(start.bridge):
            tags = self.wiring.book.leave(other.rule, start.context, start.vid, start.below)
            if tags is not None and other is not seat and not other.vni:
                self.heard.setdefault(other.id, set()).add(tags)

    def _runs(self, record: str) -> bool:
        place = self.wiring.place(record)
        return place is not None and (record in self.plan.of("station_port") or not is_idle(self.plan, place.endpoint))

    def ears(self) -> Iterator[Ear]:
        """Every ear, the surest first."""
        theirs: set[str] = set()
        for id, outs in sorted(self.heard.items()):
            for tags in sorted(outs):
                ear = self._stranger(id, tags)
                if ear is not None:
                    theirs.add(id)
                    yield ear
        for id in sorted(self.heard):
            if self.frames.seats[id].overhears and id in self.plan.of("adapter") and self._runs(id):
                yield Ear(id, OVERHEARS, f"{spoken(self.plan, id)} may take frames that aren’t for it")
        for mirror in sorted(self.plan.all(Mirror), key=lambda m: m.id):
            if mirror.source in self.heard and mirror.target in self.frames.seats:
                text = f"{self._seat(mirror.target)} gets a copy of what {self._seat(mirror.source)} sends or takes"
                yield Ear(mirror.target, COPIES, text)
        for id, segments in sorted(could(self.judgement).all().items()):
            if self.segment.id in segments and id not in theirs:
                yield Ear(id, COULD, f"{spoken(self.plan, id)} would hear it, did it tag its frames so")
        yield from self._sockets()
        yield from self._taps()

    def _stranger(self, id: str, tags: Stack) -> Ear | None:
        """Whether who gets frames with these tags isn't meant to."""
        plan = self.plan
        if id in plan.of("fabric_port"):
            places = [p for s in plan.where("station_port", "port", id) if (p := self.wiring.place(s.id)) is not None]
        elif self._runs(id):
            places = self.wiring.places_of(id)
        else:
            return None
        label = int(self.wiring.classes.of[tags[0]]) if len(tags) == 1 else 0 if not tags else -1
        there = [place for place in places if place.label == label]
        if any(place.segment == self.segment.id for place in there):
            return None
        tag = f" with tag {'.'.join(map(str, tags))}" if tags else ""
        if not there:
            return Ear(id, HEARS, f"{self._seat(id)} gets its frames{tag}, for which nobody there asked")
        other = plan.of("segment").get(there[0].segment)
        belongs = f"belongs on {other.name}" if other is not None else "belongs nowhere"
        return Ear(id, HEARS, f"{self._seat(id)} hears it{tag} and {belongs}")

    def _seat(self, id: str) -> str:
        port = self.plan.of("fabric_port").get(id)
        if port is None:
            return spoken(self.plan, id)
        return some(spoken(self.plan, s.id) for s in self.plan.where("station_port", "port", id)) or called(
            self.plan, port
        )

    def _sockets(self) -> Iterator[Ear]:
        """Ports that are free, and from which its frames go out."""
        for bridge, rule, record in self.wiring.fabric.open_ports:
            labels = _leaving(rule, self.at.get(bridge, ()))
            if labels:
                who = called(self.plan, self.plan.find(record))
                told = some(str(self.wiring.classes.vid(n)) if n else "untagged" for n in sorted(labels))
                yield Ear(record, SOCKET, f"whoever is plugged in at {who} hears it ({told})")

    def _taps(self) -> Iterator[Ear]:
        """Cables on which its frames are sent, and nobody behind needs them."""
        known = needs(self.judgement)
        seen: set[str] = set()
        for way in known.ways:
            link, levels = way.link, known.levels[known.of_cable.get(way.link.cable or "", [])]
            for side in (0, 1):
                record, far = (
                    records[-1] if records else "" for records in (link.records[side], link.records[1 - side])
                )
                if not link.cable or link.cable in seen or record not in self.plan.of("fabric_port"):
                    continue
                # What came in by a port isn't sent back there.
                there = self.at.get(link.ends[side], ())
                stops = (stop for stop in there if stop.entry is None or stop.entry.cable != link.cable)
                out = _leaving(link.rules[side], stops)
                if out and not levels[:, sorted(out)].any():
                    seen.add(link.cable)
                    taken = any(link.rules[1 - side].into[label] >= 0 for label in out)
                    end = "behind which nobody needs it" if taken else "which drops it"
                    text = f"sent on to {called(self.plan, self.plan.find(far))}, {end}"
                    yield Ear(record, TAP, text)

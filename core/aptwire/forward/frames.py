"""Who receives one frame: the engine's answer to what a real kernel can be asked.

Beside broadcasts (as in `hearing`) it speaks of every port that a frame can enter or leave by (adapters, host ports, the
ports of stations), of unicast frames, and of what the frame guards and mirrors do to them.
"""

from __future__ import annotations

from dataclasses import dataclass
from operator import attrgetter
from typing import Any, NamedTuple

from aptwire.forward.fabric import header, least
from aptwire.forward.parts import NOW, Place, State
from aptwire.forward.paths import Roads
from aptwire.forward.routed import over_router
from aptwire.forward.rules import PortRule, Stack
from aptwire.forward.walk import Stop, flood
from aptwire.forward.wiring import Wiring
from aptwire.plan.kinds import (
    Adapter,
    HostPort,
    Mirror,
    Record,
)
from aptwire.plan.names import called
from aptwire.plan.plan import Plan

BROADCAST, UNKNOWN, UNICAST, FOREIGN = "broadcast", "unknown", "unicast", "foreign"
OFFER, ADVERT, LARGE = "offer", "advert", "large"
FRAMES = (BROADCAST, UNKNOWN, UNICAST, FOREIGN, OFFER, ADVERT, LARGE)
"""To everybody; to an address that nobody has; to one seat's own address; to everybody, from an address not the sender's own; what a
DHCP server says; a router advertisement; to everybody, with a packet of LARGE_SIZE bytes."""
LARGE_SIZE = 4_000


@dataclass(frozen=True)
class Seat:
    """Where frames can be sent and seen: `id` of an adapter, host port or fabric port with a station.

    `overhears`: it takes frames that are not for it; `forges`: it may send from foreign addresses; `serves`, `advertises`: it
    may answer DHCP, send router advertisements.  `size` is the largest IP packet that it sends and takes, 0 where nothing says; in
    an overlay one that fits with its header through `over`, the host port that carries it; `passes`: tags within it pass unseen.
    """

    id: str
    kind: str
    bridge: int
    rule: PortRule
    order: str
    vni: int = 0
    hears: tuple[int, ...] = ()
    overhears: bool = False
    forges: bool = True
    serves: bool = True
    advertises: bool = True
    size: int = 0
    over: str = ""
    passes: bool = False

    @property
    def guards(self) -> tuple[bool, bool, bool, bool]:
        """What its frame guards let it do."""
        return self.overhears, self.forges, self.serves, self.advertises

    @property
    def fits(self) -> bool:
        """Whether a large packet goes in and out there."""
        return not self.size or self.size >= LARGE_SIZE

    def may_send(self, frame: str) -> bool:
        """Whether the frame guards let it send such a frame."""
        return {FOREIGN: self.forges, OFFER: self.serves, ADVERT: self.advertises}.get(frame, True)


Heard = frozenset[tuple[str, int | None]]
"""(seat, VID with which the frame comes out; None: untagged)"""


def guard(plan: Plan, adapter: Adapter, name: str) -> bool:
    """Whether an adapter may do what a frame guard is about: its own word, or its port group's."""
    own: bool | None = getattr(adapter, name)
    if own is not None:
        return own
    group = plan.of("port_group").get(adapter.port_group)
    return bool(group is not None and getattr(group, name))


def may(plan: Plan, adapter: Adapter | None, name: str) -> bool:
    """Whether no frame guard keeps somebody from what it is about: what is no adapter has none, and what goes past the switch passes none."""
    return adapter is None or adapter.type == "direct" or guard(plan, adapter, name)


def size_of(plan: Plan, record: Record | None) -> int:
    """The largest IP packet that an adapter or host port sends and takes, 0 where nothing says: its own MTU, and that of the switch
    on which it is.  A virtual function bypasses the switch; what an overlay adds is its host port's affair."""
    if isinstance(record, HostPort):
        return least(record.mtu, plan.get("virtual_switch", record.switch).mtu)
    if not isinstance(record, Adapter):
        return 0
    group = plan.of("port_group").get(record.port_group)
    if group is None or record.type == "direct" or group.mode == "overlay":
        return record.mtu or 0
    return least(record.mtu, plan.get("virtual_switch", group.switch).mtu)


def _room(plan: Plan, host_port: str) -> int:
    """The largest inner packet for which a host port that carries an overlay has room, 0 where nothing says."""
    outer = size_of(plan, plan.get("host_port", host_port))
    return outer - header(plan, host_port) if outer else 0


def _unfiltered(plan: Plan, adapter: Adapter) -> bool:
    group = plan.of("port_group").get(adapter.port_group)
    return group is not None and not plan.get("virtual_switch", group.switch).filters


class _Word(NamedTuple):
    """What adapters alike may do, in `Seat`'s terms, and whether their switch looks at no tags."""

    overhears: bool
    forges: bool
    serves: bool
    advertises: bool
    size: int
    unfiltered: bool


_FREE = _Word(False, True, True, True, 0, False)
"""What is no adapter: no guard is about it."""
_ALIKE = attrgetter("port_group", "type", "overhear", "foreign_source", "serve_leases", "advertise_routes", "mtu")
"""Adapters with the same of these have the same word."""


def _word(plan: Plan, adapter: Adapter) -> _Word:
    overhears = adapter.type != "direct" and guard(plan, adapter, "overhear")
    forges, serves, advertises = (
        may(plan, adapter, name) for name in ("foreign_source", "serve_leases", "advertise_routes")
    )
    return _Word(overhears, forges, serves, advertises, size_of(plan, adapter), _unfiltered(plan, adapter))


def seats(wiring: Wiring) -> list[Seat]:
    """Every seat of a plan, by id; adapters in no port group have none."""
    plan = wiring.plan
    adapters, tags, stations = plan.of("adapter"), plan.of("guest_tag"), plan.of("station_port")
    words: dict[Any, _Word] = {}
    found: dict[str, Seat] = {}
    for block in wiring.blocks.values():
        for stand in block.stands:
            if stand.rule is None or (stand.vni and stand.context < 0):
                continue
            room = _room(plan, stand.over) if stand.over else 0
            for record in stand.records:
                id = tags[record].adapter if record in tags else record
                if id in adapters:
                    kind, alike = "adapter", _ALIKE(adapters[id])
                    if alike not in words:
                        words[alike] = _word(plan, adapters[id])
                    word = words[alike]
                elif id in stations:
                    kind, id, word = "station_port", stations[id].port, _FREE._replace(overhears=True)
                else:
                    kind, word = "host_port", _FREE._replace(size=size_of(plan, plan.get("host_port", id)))
                found[id] = Seat(
                    id,
                    kind,
                    stand.bridge,
                    stand.rule,
                    stand.order,
                    stand.vni,
                    stand.hears,
                    overhears=word.overhears,
                    forges=word.forges,
                    serves=word.serves,
                    advertises=word.advertises,
                    size=least(word.size, room),
                    over=stand.over,
                    passes=bool(stand.vni) and word.unfiltered,
                )
    return [found[id] for id in sorted(found)]


class Frames:
    """Asked about frames in one state of a plan's wiring."""

    def __init__(self, wiring: Wiring, state: State = NOW) -> None:
        self.wiring = wiring
        self.roads, self.large = Roads(wiring, state), Roads(wiring, state, LARGE_SIZE)
        self.seats = {seat.id: seat for seat in seats(wiring)}
        carriers = {seat.over for seat in self.seats.values()} - {""}
        self.laden = {over: Roads(wiring, state, LARGE_SIZE + header(wiring.plan, over)) for over in carriers}
        self._at: dict[int, list[Seat]] = {}
        for seat in self.seats.values():
            self._at.setdefault(seat.bridge, []).append(seat)
        self._floods: dict[tuple[int, Stop, str, int], list[tuple[Seat, Stack, bool]]] = {}
        self._resolved: dict[tuple[str, str], bool] = {}
        self._routed: dict[tuple[int, str, int], list[Seat]] = {}
        self._mirrors = [(m.source, m.target, m.direction) for m in wiring.plan.all(Mirror)]

    def heard(self, sender: str, vid: int | None, frame: str = BROADCAST, target: str = "") -> Heard:
        """Who receives a frame that a seat sends untagged (None), priority-tagged (0) or with a VID."""
        seat = self.seats[sender]
        if not self.takes(sender, vid) or not seat.may_send(frame):
            return frozenset()
        if frame == LARGE:
            if not seat.fits:
                return frozenset()
            reached = self.reached(sender, vid, self.laden[seat.over] if seat.over else self.large)
            reached = frozenset((id, tag) for id, tag in reached if self.seats[id].fits)
        else:
            reached = self.reached(sender, vid)
        if frame == UNKNOWN:
            reached = frozenset((id, tag) for id, tag in reached if self.seats[id].overhears)
        elif frame == UNICAST:
            reached = frozenset((id, tag) for id, tag in reached if id == target)
        copies: set[tuple[str, int | None]] = set()
        for source, copy, direction in self._mirrors:
            if copy not in self.seats or source not in self.seats:
                continue
            if source == sender and direction in ("both", "sent"):
                copies.add((copy, vid or None))
            if direction in ("both", "received"):
                copies.update((copy, tag) for id, tag in reached if id == source)
        return reached | copies

    def may(self, sender: str, vid: int | None, frame: str = BROADCAST, target: str = "") -> Heard:
        """Who else may receive it without being wrong: who overhears a unicast frame while switches still flood it."""
        heard = self.heard(sender, vid, frame, target)
        if frame != UNICAST:
            return heard
        flooded = self.heard(sender, vid, UNKNOWN)
        return heard | flooded

    def story(self, sender: str, vid: int | None) -> list[str]:
        """Where the engine takes a seat's broadcast, bridge by bridge in order of distance, and who hears it there."""
        seat = self.seats[sender]
        start = self.start(seat, _tags(vid))
        if start is None:
            return [f"dropped at once: {seat.rule.text}"]
        plan = self.wiring.plan
        lines = []
        for stop in flood(self.roads, start, seat.order):
            id = self.wiring.bridges[stop.bridge].id
            where = called(plan, plan.find(id)) or id
            by = ""
            if stop.entry is not None:
                side = stop.entry.side(stop.bridge)
                records = stop.entry.records[1 - side] + stop.entry.records[side]
                by = f", over {' and '.join(called(plan, plan.find(r)) for r in records if plan.find(r))}"
            inner = f"VID {stop.vid}" if stop.vid else "untagged"
            lines.append(f"in {where} as {inner}{by}")
        return lines

    def start(self, seat: Seat, tags: Stack) -> Stop | None:
        """Where a frame with these tags begins; None where the seat's port drops it."""
        if seat.vni:
            inside = seat.passes or not any(tags)
            context = seat.hears[0] if inside and seat.hears else -1
            return Stop(seat.bridge, context, self.wiring.classes.vid(context), (), None) if context >= 0 else None
        if any(self.wiring.classes.of[vid] < 0 for vid in tags):
            return None
        entered = self.wiring.book.enter(seat.rule, tags)
        return Stop(seat.bridge, *entered, None) if entered is not None else None

    def at(self, bridge: int) -> list[Seat]:
        """The seats at a bridge."""
        return self._at.get(bridge, [])

    def serves(self, roads: Roads, stop: Stop, seat: Seat) -> bool:
        """Whether the member of a team by which a frame came in carries for a seat at that bridge."""
        virtual = self.wiring.bridges[stop.bridge].virtual
        return stop.entry is None or not virtual or stop.entry in roads.at(stop.bridge, seat.order)

    def takes(self, sender: str, vid: int | None) -> bool:
        """Whether a seat's port lets a frame in."""
        return self.start(self.seats[sender], _tags(vid)) is not None

    def reached(self, sender: str, vid: int | None, roads: Roads | None = None) -> Heard:
        """Who is on a broadcast's way, whatever guards and mirrors make of it; frames that come out with two tags are left out."""
        reached = self.stacked(sender, _tags(vid), roads)
        return frozenset((id, tags[0] if tags else None) for id, tags in reached if len(tags) < 2)

    def stacked(self, sender: str, tags: Stack, roads: Roads | None = None) -> frozenset[tuple[str, Stack]]:
        """Who is on the way of a broadcast that bears any tags, outermost first, and with which tags it comes out."""
        seat = self.seats[sender]
        start = self.start(seat, tags)
        if start is None:
            return frozenset()
        found: set[tuple[str, Stack]] = set()
        dropping = self.wiring.drops_own(seat.bridge)
        for other, out, begins in self._flood(roads or self.roads, start, seat.order, seat.vni):
            if dropping and other.bridge == seat.bridge and not begins:
                continue
            elsewhere = other is not seat or not begins or seat.rule.reflects
            if elsewhere and (not seat.vni or self._resolves(seat.over, other.over)):
                found.add((other.id, out))
        if seat.over in self.wiring.ways_out:
            found.update((other.id, ()) for other in self._over_router(roads or self.roads, seat.over, seat.vni))
        if seat.vni and any(tags):
            # What a tunnel carries is nobody's business on its way.
            return frozenset((id, tags) for id, _ in found if self.seats[id].passes)
        return frozenset(found)

    def _resolves(self, near: str, far: str) -> bool:
        """Whether two host ports that carry an overlay hear each other: an answer must come back before anything is sent (RFC 826)."""
        if near == far:
            return True
        key = min(near, far), max(near, far)
        if key not in self._resolved:
            ways = [{id for id, tag in self.reached(one, None) if tag is None} for one in key]
            self._resolved[key] = key[1] in ways[0] and key[0] in ways[1]
        return self._resolved[key]

    def _over_router(self, roads: Roads, over: str, vni: int) -> list[Seat]:
        """The seats of an overlay whose host ports are reached over a router, there and back."""
        key = (roads.size, over, vni)
        known = self._routed.get(key)
        if known is None:
            others = sorted({seat.over for seat in self.seats.values() if seat.vni == vni} - {over})
            reached = {other for other in others if self._routes(roads, over, other)}
            known = self._routed[key] = [s for s in self.seats.values() if s.vni == vni and s.over in reached]
        return known

    def _routes(self, roads: Roads, near: str, far: str) -> bool:
        wiring = self.wiring
        one, two = wiring.place(near), wiring.place(far)

        def meet(host_port: Place, router: Place | None) -> bool:
            if router is None:
                return False
            mtu = wiring.plan.get("station_port", router.record).mtu
            fits = mtu is None or mtu >= roads.size
            there, back = roads.way(host_port, router), roads.way(router, host_port)
            return fits and there is not None and back is not None

        if one is None or two is None:
            return False
        pairs = ((wiring.place(into), wiring.place(out)) for into, out in over_router(wiring.ways_out, near, far))
        return any(meet(one, into) and meet(two, out) for into, out in pairs)

    def _flood(self, roads: Roads, start: Stop, order: str, vni: int) -> list[tuple[Seat, Stack, bool]]:
        """(seat, outermost tag, whether the frame is still where it was sent from) of all who receive a broadcast."""
        key = (roads.size, start, order, vni)
        known = self._floods.get(key)
        if known is not None:
            return known
        book, made = self.wiring.book, list[tuple[Seat, Stack, bool]]()
        for stop in flood(roads, start, order):
            for seat in self.at(stop.bridge):
                if seat.vni != vni or not self.serves(roads, stop, seat):
                    continue
                if vni:
                    tags: Stack | None = () if stop.context in seat.hears else None
                else:
                    tags = book.leave(seat.rule, stop.context, stop.vid, stop.below)
                if tags is not None:
                    made.append((seat, tags, stop.entry is None))
        self._floods[key] = made
        return made


def _tags(vid: int | None) -> Stack:
    return () if vid is None else (vid,)

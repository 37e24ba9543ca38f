"""Who sends how much to whom: flows as a plan says them, taken apart into what goes from one interface to another.

A packet for another subnet goes over whoever has the gateway's address there (RFC 1812 section 5.2.4), and on by that one's own table, so that what is
routed over one cable counts there twice.  Filters and translations aren't asked.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from aptwire.forward.frames import size_of
from aptwire.forward.wiring import Wiring
from aptwire.judge.kept import same
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import OWNERS, PLACES, SENDERS, TO_GATEWAY, TO_ONE, Flow, HostPort, Record
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import CONNECTED, Stack, adapter_of, gateways_of, owner_of, stack_of

USUAL_PACKET = 1500
"""Bytes of an IP packet where nothing says more or less (RFC 894)."""
SOME = 8
"""Of others alike, as many stand for all: who sends to each, and how much comes in at each, stays the same."""
MOST_HOPS = 32
MOST_WAYS = 8
"""Where several may be meant at each hop, as many ways are followed."""


@dataclass(frozen=True, slots=True)
class Part:
    """What of a demand goes from one interface (a record's id, or a way in) to another: its `share` as is to be expected, and the `most` that it may be."""

    source: str
    target: str
    share: float
    most: float


@dataclass(frozen=True, slots=True)
class Demand:
    """What somebody (`who`, an interface's id) sends for a flow, or gets (`back`): Mbit/s of IP packets of so many bytes; of a burst, one alternative."""

    flow: str
    who: str
    back: bool
    rate: float
    packet: int
    parts: tuple[Part, ...]
    burst: bool = False


@dataclass(frozen=True, slots=True)
class Unsent:
    """What of a flow isn't counted, and why: of an interface (`who`), or of all of it (empty)."""

    flow: str
    who: str
    reason: str


class _NoWay(Exception):
    """Why nobody knows the way of a packet."""


Seen = tuple[str, ...]
"""What somebody looked at: a record (kind, id), those with a value in a field (kind, field, value), a whole kind, or (empty, address) who bears an address."""


def look_at(wiring: Wiring, seen: Seen) -> Any:
    """What is there now of what was looked at."""
    plan = wiring.plan
    if len(seen) == 1:
        return plan.of(seen[0])
    if len(seen) == 3:
        return plan.where(*seen)
    return plan.of(seen[0]).get(seen[1]) if seen[0] else wiring.bearers.get(seen[1])


def unchanged(wiring: Wiring, seen: dict[Seen, Any]) -> bool:
    """Whether all that was looked at is as it was."""
    for what, was in seen.items():
        now = look_at(wiring, what)
        if now is not was and not (
            isinstance(now, (tuple, list)) and len(now) == len(was) and all(map(same, now, was))
        ):
            return False
    return True


class Flows:
    """Takes the flows of a plan apart."""

    def __init__(self, wiring: Wiring) -> None:
        self.wiring, self.plan = wiring, wiring.plan
        self._stacks: dict[str, Stack] = {}
        self._seen: dict[Seen, Any] = {}

    def sent(self, flow: Flow) -> tuple[list[Demand], list[Unsent], dict[Seen, Any]]:
        """What is sent for a flow, what of it isn't counted, and what both rest on."""
        self._seen = {}
        found = list(self._of(flow))
        demands = [one for one in found if isinstance(one, Demand)]
        return demands, [one for one in found if isinstance(one, Unsent)], self._seen

    def _see(self, *what: str) -> Any:
        """Look at something, and remember it."""
        if what not in self._seen:
            self._seen[what] = look_at(self.wiring, what)
        return self._seen[what]

    def _find(self, id: str, kinds: Iterable[str]) -> Any:
        kind = next((kind for kind in kinds if id in self.plan.of(kind)), None)
        return self._see(kind, id) if kind is not None else None

    def _of(self, flow: Flow) -> Iterator[Demand | Unsent]:
        senders = sorted(self.senders(flow), key=lambda r: r.id)
        awake = [record for record in senders if not self.idle(record)]
        if not awake:
            yield Unsent(flow.id, "", "all who would send are idle" if senders else "there is nobody who would send")
            return
        well = {record.id for record in awake}
        yield from (Unsent(flow.id, r.id, "is idle") for r in senders if r.id not in well)
        for n, record in enumerate(awake):
            if flow.to == record.id:
                continue
            try:
                yield from self._demands(flow, record, n, awake)
            except _NoWay as why:
                yield Unsent(flow.id, record.id, str(why))

    def senders(self, flow: Flow) -> list[Any]:
        """The interfaces that a flow is about."""
        plan = self.plan
        if flow.service:
            self._see("host_port")
            return [port for port in plan.all(HostPort) if flow.service in port.services]
        of = self._find(flow.of, SENDERS) if flow.of is not None else None
        if of is None:
            return []
        if of.kind == "segment":
            return self._on(of.id)
        if of.kind == "pattern_host_port":
            return list(self._see("host_port", "part", of.id))
        groups = self._see("port_group", "part", of.id) if of.kind == "pattern_port_group" else [of]
        if of.kind in ("port_group", "pattern_port_group"):
            return [adapter for group in groups for adapter in self._see("adapter", "port_group", group.id)]
        return [of]

    def _on(self, segment: str | None) -> list[Any]:
        """The endpoints that belong on a segment."""
        kinds = ("adapter", "guest_tag", "host_port")
        return [record for kind in kinds for record in self._see(kind, "belongs", segment)] if segment else []

    def idle(self, record: Record) -> bool:
        """Whether an interface sends nothing, since it is disconnected or its guest is off."""
        adapter = adapter_of(self.plan, record)
        if adapter is None:
            return isinstance(record, HostPort) and not self._see("host_port", record.id).connected
        adapter = self._see("adapter", adapter.id)
        return not adapter.connected or not self._see("guest", adapter.guest).running

    def _demands(self, flow: Flow, record: Any, n: int, awake: Sequence[Any]) -> Iterator[Demand | Unsent]:
        """What one who sends sends, and gets."""
        packet = flow.packet or self._packet(record)
        for parts in self._whereto(flow, record, n, awake):
            for back, rate in ((False, flow.sends), (True, flow.gets)):
                if rate is not None:
                    held = min(rate, flow.limit or rate)
                    ways = tuple(Part(p.target, p.source, p.share, p.most) for p in parts) if back else tuple(parts)
                    yield Demand(flow.id, record.id, back, held, packet, ways, flow.burst)

    def _packet(self, record: Any) -> int:
        if record.kind == "host_port":
            return size_of(self.plan, record) or USUAL_PACKET
        adapter = adapter_of(self.plan, record)
        own = adapter.mtu if adapter is not None else getattr(record, "mtu", None)
        return own or USUAL_PACKET

    def _whereto(self, flow: Flow, record: Any, n: int, awake: Sequence[Any]) -> Iterator[list[Part]]:
        """The parts of what one sends; of a burst, those of each alternative."""
        if flow.towards == TO_ONE:
            target = self._find(str(flow.to), PLACES)
            assert target is not None
            if self.idle(target):
                raise _NoWay(f"{called(self.plan, target)} is idle")
            yield self._parts(record, target)
        elif flow.towards == TO_GATEWAY:
            yield self._to_gateway(record)
        else:
            others = self._others(flow, record, n, awake)
            if flow.burst:
                yield from (self._parts(record, other) for other in others)
            else:
                every = [part for other in others for part in self._parts(record, other)]
                yield [Part(p.source, p.target, p.share / len(others), p.most / len(others)) for p in every]

    def _others(self, flow: Flow, record: Any, n: int, awake: Sequence[Any]) -> list[Any]:
        """To whom one sends who sends to others alike; where these are very many, some that lie evenly among them, so that each gets from as many."""
        among = awake
        if not flow.service and flow.of not in self.plan.of("segment"):
            among = sorted((r for r in self._on(record.belongs) if not self.idle(r)), key=lambda r: r.id)
            n = next((at for at, r in enumerate(among) if r.id == record.id), 0)
        count = len(among)
        if count < 2:
            raise _NoWay("there are no others to whom it would send")
        steps = range(1, count)
        if len(steps) > SOME:
            steps = sorted({1 + k * (count - 1) // SOME for k in range(SOME)})  # type: ignore[assignment]
        return [among[(n + step) % count] for step in steps]

    def _to_gateway(self, record: Any) -> list[Part]:
        self._see("segment", record.belongs or "")
        gateways = gateways_of(self.plan, record)
        if not gateways:
            raise _NoWay("no gateway is said for it")
        # Who has a gateway uses one: where several are said (of an IP version), either may be meant.
        meant = [gateway for gateway in gateways if (":" in gateway) == (":" in gateways[0])]
        ends = [end for gateway in meant for end in self._next(record, bare_address(gateway))]
        if not ends and set(meant) & {bare_address(address) for address in record.addresses}:
            raise _NoWay("bears its gateway’s address itself")
        if not ends:
            raise _NoWay(f"nobody in the plan bears its gateway {meant[0]}")
        return [Part(record.id, end, 1 / len(ends), 1.0) for end in ends]

    def _next(self, record: Any, address: str) -> list[str]:
        """Who bears a next hop's address on an interface's segment and runs, else where that comes in from outside."""
        bearing = [r for id in self._see("", address) or () if (r := self._find(id, PLACES)) is not None]
        awake = [r for r in bearing if not self.idle(r)]
        near = [r for r in awake if r.belongs == record.belongs] or awake
        ways = () if bearing or not record.belongs else self._see("way_in", "segment", record.belongs)
        return sorted(r.id for r in (near or ways) if r.id != record.id)

    def _parts(self, source: Any, target: Any) -> list[Part]:
        """The ways of packets from one interface to another, hop by hop."""
        if source.id == target.id:
            raise _NoWay("it is who gets it")
        if source.belongs == target.belongs or not (source.belongs and target.belongs):
            return [Part(source.id, target.id, 1.0, 1.0)]
        return [part for way, share, most in self._routed(source, target) for part in _parts_of(way, share, most)]

    def _routed(self, source: Any, target: Any) -> list[tuple[list[tuple[str, str]], float, float]]:
        """The ways over routers, each with its share."""
        for kind in (*PLACES, *OWNERS, "segment", "way_in", "route", "virtual_switch"):
            self._see(kind)
        address = self._address(target)
        found: list[tuple[list[tuple[str, str]], float, float]] = []
        waiting: list[tuple[Any, list[tuple[str, str]], float, float]] = [(source, [], 1.0, 1.0)]
        while waiting:
            at, way, share, most = waiting.pop(0)
            if len(way) >= MOST_HOPS:
                raise _NoWay(f"packets to {address} go round in a circle")
            out, via = self._line(at, address, first=not way)
            if via is None:
                found.append(([*way, (out, target.id)], share, most))
                continue
            ends = self._next(self.plan.find(out), via)[: max(1, MOST_WAYS - len(found) - len(waiting))]
            if not ends:
                raise _NoWay(f"nobody in the plan bears {via}, the next hop to {called(self.plan, target)}")
            for end in ends:
                share_of, most_of = share / len(ends), most
                here = self.plan.find(end)
                assert here is not None
                if here.kind == "way_in":
                    back = self.plan.where("way_in", "segment", target.belongs)
                    if not back:
                        raise _NoWay(f"beyond {called(self.plan, here)} nobody knows the way")
                    found += [([*way, (out, end), (w.id, target.id)], share_of / len(back), most_of) for w in back]
                else:
                    waiting.append((here, [*way, (out, end)], share_of, most_of))
        return found

    def _line(self, at: Any, address: Any, first: bool) -> tuple[str, str | None]:
        """Out of which interface and to which next hop (None: to whom it is for) whoever stands at an interface sends."""
        owner = owner_of(self.plan, at)
        if not first and not getattr(owner, "routes", False):
            raise _NoWay(f"{called(self.plan, owner)} doesn’t forward")
        if owner.id not in self._stacks:
            self._stacks[owner.id] = stack_of(self.plan, owner)
        lines = self._stacks[owner.id].choices(address)
        own = [line for line in lines if line.out == at.id] if first else lines
        line = next(iter(own or lines), None)
        if line is not None and line.out in self._records:
            return line.out, None if line.how == CONNECTED else str(line.via)
        gateways = gateways_of(self.plan, at) if first else ()
        if not gateways:
            raise _NoWay(f"{called(self.plan, owner)} has no way to {address}")
        return at.id, bare_address(gateways[0])

    @cached_property
    def _records(self) -> Any:
        """What a line of a table may leave by."""
        return self.wiring.stand_of

    def _address(self, target: Any) -> Any:
        own = next((bare_address(a) for a in target.addresses), None)
        if own is not None:
            return ipaddress.ip_address(own)
        segment = self.plan.of("segment").get(target.belongs)
        if segment is None or not segment.subnets:
            raise _NoWay(f"{called(self.plan, target)} has no address")
        net = ipaddress.ip_network(segment.subnets[0])
        return net.network_address + min(1, net.num_addresses - 1)


def _parts_of(way: list[tuple[str, str]], share: float, most: float) -> Iterator[Part]:
    return (Part(source, target, share, most) for source, target in way)


def limited_of(plan: Plan) -> dict[str, tuple[int | None, int | None]]:
    """The kbit/s that interfaces may send, and receive, of those that are limited: adapters by their own word or their port group's, and the tags on them."""
    names = ("send_rate", "receive_rate")
    adapters = {a.id: a for name in names for a in plan.having("adapter", name)}
    for group in {g.id: g for name in names for g in plan.having("port_group", name)}.values():
        adapters.update((a.id, a) for a in plan.where("adapter", "port_group", group.id))
    found: dict[str, tuple[int | None, int | None]] = {}
    for adapter in adapters.values():
        group = plan.of("port_group").get(adapter.port_group)
        own = [getattr(adapter, name) for name in names]
        given = [getattr(group, name, None) for name in names]
        limits = tuple(one if one is not None else other for one, other in zip(own, given, strict=True))
        tags = plan.where("guest_tag", "adapter", adapter.id)
        found.update(dict.fromkeys((adapter.id, *(tag.id for tag in tags)), (limits[0], limits[1])))
    return found

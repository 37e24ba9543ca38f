"""Stacks: a guest, station or host with all its interfaces, and where it sends a packet (RFC 1122 section 3.3.1, RFC 1812 section 5.2.4).

A virtual switch has none: it never routes.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import NamedTuple

from aptwire.plan.fields import Numbers, bare_address
from aptwire.plan.filters import Gate
from aptwire.plan.kinds import (
    OWNERS,
    PLACES,
    Adapter,
    FilterLine,
    GuestTag,
    HostPort,
    InwardTranslation,
    Outside,
    Record,
    Route,
    Translation,
)
from aptwire.plan.names import called
from aptwire.plan.plan import Plan

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Bound = ipaddress.IPv4Interface | ipaddress.IPv6Interface
"""An address with the length of its subnet's prefix."""
EVERYTHING: dict[int, Network] = {4: ipaddress.ip_network("0.0.0.0/0"), 6: ipaddress.ip_network("::/0")}

MANY = 1 << 16
address_of = lru_cache(MANY)(ipaddress.ip_address)
net_of = lru_cache(MANY)(ipaddress.ip_network)
bound_of = lru_cache(MANY)(ipaddress.ip_interface)
"""Addresses, subnets and addresses with their prefix, of texts as records keep them: the same ones come again and again."""

STATIC, GATEWAY, CONNECTED, BEYOND, INWARD = "static", "gateway", "connected", "outside", "inward"


@dataclass(frozen=True)
class Interface:
    """A record that bears addresses: an adapter, a guest's tag, a host port, a station's port; `gateways` are those to which it sends what leaves its
    subnets, unless its stack has a route for that, and `said` whether the plan says them, or on which segment it belongs."""

    record: str
    addresses: tuple[Bound, ...]
    gateways: tuple[Address, ...]
    said: bool

    def holds(self, address: Address) -> Bound | None:
        """Its own address in whose subnet another one is."""
        return next((own for own in self.addresses if own.version == address.version and address in own.network), None)


class Held(NamedTuple):
    """What an interface has by lease, or formed of a prefix: its address, or (not `exact`) one that stands for all that it may have, and the gateways that came with it;
    `unsaid`: there is one of which the plan has no address."""

    numbers: Numbers
    exact: bool
    gateways: tuple[Address, ...]
    unsaid: bool = False

    @property
    def bound(self) -> Bound:
        """The address, with the length of its subnet's prefix."""
        version, number, _, length = self.numbers
        return (ipaddress.IPv4Interface if version == 4 else ipaddress.IPv6Interface)((number, length))


@dataclass(frozen=True)
class Entry:
    """A line of a stack's routing table: packets `to` a subnet go out of an interface (`out`, a record) to the next hop `via`, or (None) to whom they are for;
    `how` it comes there, and the route `record` that says it.  BEYOND: `out` is an outside network behind a station, into which they go;
    INWARD: the one out of which they come to that station."""

    to: Network
    via: Address | None
    out: str
    how: str
    record: str = ""


@dataclass(frozen=True)
class Stack:
    """Who has interfaces: `owner` is a guest, station or host, which `forwards` what isn't for itself; or an outside network, whose interface has the
    addresses that stand for it."""

    plan: Plan
    owner: Record
    interfaces: tuple[Interface, ...]

    @property
    def name(self) -> str:
        """As sentences call it."""
        return called(self.plan, self.owner)

    @property
    def forwards(self) -> bool:
        """Whether it sends on what isn't for itself."""
        return bool(getattr(self.owner, "routes", False))

    @cached_property
    def own(self) -> frozenset[Address]:
        """All its addresses."""
        return frozenset(address.ip for interface in self.interfaces for address in interface.addresses)

    def at(self, record: str, address: Address) -> bool:
        """Whether an address is that of a certain interface."""
        return any(address == own.ip for i in self.interfaces if i.record == record for own in i.addresses)

    @cached_property
    def table(self) -> tuple[Entry, ...]:
        """Its routing table: what is connected, its routes, and its gateways where it has no route for everything else, nor that behind it."""
        if isinstance(self.owner, Outside):
            return tuple(self._inward(self.owner))
        lines = [
            Entry(address.network, None, interface.record, CONNECTED)
            for interface in self.interfaces
            for address in interface.addresses
        ]
        lines += self._routes()
        beyond = list(self._beyond())
        lines += (line for line in beyond if line.to.prefixlen)
        for version, everything in EVERYTHING.items():
            if not any(line.how == STATIC and line.to == everything for line in lines):
                # Whoever has everything else behind it sends that there, not to a segment's gateway.
                lines += [line for line in beyond if line.to == everything] or list(self._gateways(version))
        return tuple(dict.fromkeys(lines))

    def _beyond(self) -> Iterator[Entry]:
        """Into the outside networks behind it."""
        for outside in sorted(self.plan.where("outside", "at", self.owner.id), key=lambda o: o.id):
            nets = [net_of(net) for net in outside.subnets] or EVERYTHING.values()
            yield from (Entry(net, None, outside.id, BEYOND) for net in nets)

    def _inward(self, outside: Outside) -> Iterator[Entry]:
        """The ways that an outside network knows into the plan."""
        way, knows = self.plan.of("way_in").get(outside.at), map(net_of, outside.knows)
        if way is None:
            yield from (Entry(net, None, outside.id, INWARD) for net in knows)
            return
        for net in self.plan.get("segment", way.segment).subnets:
            yield Entry(net_of(net), None, way.id, CONNECTED)
        if outside.via is not None:
            yield from (Entry(net, address_of(outside.via), way.id, STATIC) for net in knows)

    def _routes(self) -> Iterator[Entry]:
        for route in sorted(self.plan.where("route", "of", self.owner.id), key=lambda r: r.id):
            via = address_of(route.via)
            out = next((interface.record for interface in self.interfaces if interface.holds(via)), None)
            # A next hop in no subnet of its own is none (RFC 1812 section 5.2.4.2): the route isn't there.
            if out is not None and via not in self.own:
                yield from (Entry(net_of(to), via, out, STATIC, route.id) for to in route.to)

    def _gateways(self, version: int) -> Iterator[Entry]:
        for interface in self.interfaces:
            for via in interface.gateways:
                if via.version == version and interface.holds(via) and via not in self.own:
                    yield Entry(EVERYTHING[version], via, interface.record, GATEWAY)

    def choices(self, address: Address) -> list[Entry]:
        """The lines by which a packet may go: those of the longest prefix, all of them where there are several and none is connected."""
        number, version = int(address), address.version
        for length, of in self._by_length.get(version, ()):
            fit = of.get(number >> address.max_prefixlen - length)
            if fit:
                return [line for line in fit if line.how == CONNECTED] or list(fit)
        return []

    @cached_property
    def _by_length(self) -> dict[int, list[tuple[int, dict[int, list[Entry]]]]]:
        """The lines of the table by IP version, length of prefix, the longest first, and the prefix itself."""
        found: dict[int, dict[int, dict[int, list[Entry]]]] = {}
        for line in self.table:
            to = line.to
            prefix = int(to.network_address) >> to.max_prefixlen - to.prefixlen
            found.setdefault(to.version, {}).setdefault(to.prefixlen, {}).setdefault(prefix, []).append(line)
        return {version: sorted(of.items(), key=lambda one: -one[0]) for version, of in found.items()}

    def unused(self) -> Iterator[str]:
        """The routes whose next hop is in no subnet of its own."""
        used = {line.record for line in self.table}
        yield from (route.id for route in self.plan.where("route", "of", self.owner.id) if route.id not in used)

    @cached_property
    def filter(self) -> tuple[FilterLine, ...]:
        """Its filter lines, in order."""
        return tuple(sorted(self.plan.where("filter_line", "of", self.owner.id), key=lambda line: line.order))

    def gate(self, enters: str, leaves: str, source: Address | None, target: Address) -> Gate:
        """A packet's way through it, from one of its interfaces to another."""
        sent = (source.version, int(source)) if source is not None else None
        return Gate(self.filter, enters, leaves, sent, (target.version, int(target)))

    def hides(self, out: str, source: Address | None, target: Address) -> bool:
        """Whether a packet that it sends on by one of its interfaces gets another source there; of one from somewhere unknown, whether it surely does."""
        said = next(iter(self.plan.where("translation", "at", out)), None)
        if said is None or target.version != 4:
            return False
        return not said.sources or (source is not None and any(source in net_of(net) for net in said.sources))

    @cached_property
    def inward(self) -> tuple[InwardTranslation, ...]:
        """What comes for its addresses and is for somebody behind it."""
        found = (t for i in self.interfaces for t in self.plan.where("inward_translation", "at", i.record))
        return tuple(sorted(found, key=lambda turned: turned.id))

    def turns(self, entered: str, address: Address) -> Iterator[InwardTranslation]:
        """Those that may be meant by what comes in at one of its interfaces for an address."""
        for turned in self.inward:
            if self.at(turned.at, address) and (turned.hairpin or turned.at == entered):
                yield turned

    def sends_from(self, line: Entry, address: Address) -> Address | None:
        """The address from which a packet of its own leaves by a line: the one in the next hop's subnet; into an outside network or out of it, the first of its own."""
        if line.how == BEYOND or isinstance(self.owner, Outside):
            own = (bound.ip for i in self.interfaces for bound in i.addresses)
            return next((one for one in own if one.version == address.version), None)
        interface = next(i for i in self.interfaces if i.record == line.out)
        held = interface.holds(line.via or address)
        return held.ip if held is not None else None


LINES = ("route", "filter_line")
"""The kinds that say of one stack alone where it sends packets, and which it drops."""

Lines = Mapping[str, tuple[Record, ...]]
"""What is said so of some guests, stations and hosts (by id)."""


def lines_of(plan: Plan, owners: Iterable[str]) -> Lines:
    """The routes and filter lines of some owners (ids)."""
    return {owner: tuple(line for kind in LINES for line in plan.where(kind, "of", owner)) for owner in owners}


def stack_of(plan: Plan, owner: Record, leased: Mapping[str, tuple[Held, ...]] | None = None) -> Stack:
    """The stack of a guest, station or host, with what its interfaces have by lease, or formed."""
    found = leased or {}
    return Stack(
        plan, owner, tuple(_interface(plan, record, found.get(record.id, ())) for record in ends_of(plan, owner))
    )


def forwarding(plan: Plan) -> Iterator[Record]:
    """The guests, stations and hosts that forward."""
    return (owner for kind in OWNERS for owner in plan.where(kind, "routes", True))


def owner_of(plan: Plan, record: Record) -> Record:
    """The guest, station or host whose interface a record is; a record that is none stands for itself."""
    if record.kind not in PLACES:
        return record
    if isinstance(record, GuestTag):
        record = plan.get("adapter", record.adapter)
    if isinstance(record, HostPort):
        found = plan.get("host", plan.get("virtual_switch", record.switch).host)
    elif record.kind == "adapter":
        found = plan.get("guest", record.guest)  # type: ignore[attr-defined]
    else:
        found = plan.get("station", record.station)  # type: ignore[attr-defined]
    return found  # type: ignore[no-any-return]


def adapter_of(plan: Plan, record: Record | None) -> Adapter | None:
    """The adapter by which an interface's frames go, itself or that of a guest's tag; None where something else does."""
    return record if isinstance(record, Adapter) else plan.of("adapter").get(getattr(record, "adapter", None))


def told_apart(plan: Plan) -> Iterator[str]:
    """The subnets by which tables, filters, translations and outside networks tell addresses apart."""
    for route in plan.all(Route):
        yield from route.to
    for line in plan.all(FilterLine):
        yield from (*line.sources, *line.targets)
    for translation in plan.all(Translation):
        yield from translation.sources
    for turned in plan.all(InwardTranslation):
        yield f"{turned.to}/32"
    for outside in plan.all(Outside):
        yield from (*outside.subnets, *outside.knows)


def gateways_of(plan: Plan, record: Record) -> tuple[str, ...]:
    """Where an interface sends what leaves its subnets: its own word, or else its segment's gateways."""
    own = getattr(record, "gateway", None)
    segment = plan.of("segment").get(record.belongs)  # type: ignore[attr-defined]
    return (own,) if own else segment.gateways if segment is not None else ()


def ends_of(plan: Plan, owner: Record) -> Iterable[Record]:
    """The interfaces of a guest, station or host, in order, those without an address too."""
    if owner.kind == "guest":
        for adapter in sorted(plan.where("adapter", "guest", owner.id), key=lambda a: (a.order, a.id)):
            yield adapter
            yield from sorted(plan.where("guest_tag", "adapter", adapter.id), key=lambda tag: tag.vid)
    elif owner.kind == "station":
        yield from sorted(plan.where("station_port", "station", owner.id), key=lambda p: (p.port, p.vid or 0))
    else:
        switches = sorted(plan.where("virtual_switch", "host", owner.id), key=lambda s: s.id)
        for switch in switches:
            yield from sorted(plan.where("host_port", "switch", switch.id), key=lambda p: p.id)


def _interface(plan: Plan, record: Record, held: tuple[Held, ...]) -> Interface:
    segment = plan.of("segment").get(record.belongs)  # type: ignore[attr-defined]
    own = getattr(record, "gateway", None)
    bound = tuple(bound_of(address) for address in record.addresses)  # type: ignore[attr-defined]
    gateways = tuple(address_of(bare_address(address)) for address in gateways_of(plan, record))
    said = own is not None or segment is not None
    if held:
        # What is handed out with the lease is what the interface uses (RFC 2132 section 3.5), and who advertises himself (RFC 4861 section 6.3.6).
        versions = {one.numbers[0] for one in held}
        bound = (*(one.bound for one in held), *bound)
        handed = (gateway for one in held for gateway in one.gateways)
        gateways = (*dict.fromkeys(handed), *(gateway for gateway in gateways if gateway.version not in versions))
        said = not any(one.unsaid for one in held)
    return Interface(record.id, bound, gateways, said)

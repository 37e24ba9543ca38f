"""What mends plug in: a router, and free addresses, names and ids for it."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Mapping
from itertools import count

from aptwire.forward.parts import Place
from aptwire.forward.wiring import Wiring
from aptwire.plan import vids
from aptwire.plan.edits import Operation, Put
from aptwire.plan.fields import bare_address, purpose_of, range_of
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import PLACES, FabricPort, FabricSwitch, LeaseScope, Segment, Station, StationPort
from aptwire.plan.plan import Plan


def switch_behind(wiring: Wiring, places: Iterable[Place]) -> FabricSwitch | None:
    """The managed fabric switch behind the first of some places that has one."""
    for place in places:
        for team in wiring.teams_at(place.bridge, place.stand.order) if place.bridge >= 0 else ():
            for member in team.members:
                port = wiring.port_behind(member.nic.id)
                if port is not None and wiring.plan.get("fabric_switch", port.switch).managed:
                    found: FabricSwitch = wiring.plan.get("fabric_switch", port.switch)
                    return found
    return None


def plug_router(plan: Plan, switch: FabricSwitch, wanted: Mapping[int, Iterable[str]]) -> list[Operation]:
    """The operations that plug a router into a switch, at a port of its own; `wanted`: VID -> the addresses that it bears there, without
    prefix length."""
    names = {p.name for p in plan.where("fabric_port", "switch", switch.id)}
    name = next(f"router{n or ''}" for n in range(len(names) + 1) if f"router{n or ''}" not in names)
    port = FabricPort(
        id=fresh_id(plan, f"{switch.id}/{name}"),
        switch=switch.id,
        name=name,
        mode="trunk",
        allowed=vids.write(wanted),
    )
    taken = {station.name for station in plan.all(Station)}
    called = next(text for n in range(len(taken) + 1) if (text := f"router{f' {n + 1}' if n else ''}") not in taken)
    station = Station(id=fresh_id(plan, "router"), name=called, site=switch.site, routes=True)
    made: list[Operation] = [Put(port), Put(station)]
    for vid, addresses in wanted.items():
        segment = plan.where("segment", "vid", vid)[0]
        nets = [ipaddress.ip_network(net) for net in segment.subnets]
        borne = []
        for address in map(ipaddress.ip_address, dict.fromkeys(addresses)):
            net = next((n for n in nets if address in n), None)
            borne.append(f"{address}/{net.prefixlen if net else address.max_prefixlen}")
        id = fresh_id(plan, f"{station.id}/{vid}")
        made.append(
            Put(
                StationPort(
                    id=id, station=station.id, port=port.id, vid=vid, belongs=segment.id, addresses=tuple(borne)
                )
            )
        )
    return made


def next_free_address(plan: Plan, segment: Segment, version: int | None = None) -> str | None:
    """The lowest address of the segment's first IPv4 subnet (or its first at all, or its first of a `version`) that nobody has and nobody leases, with prefix length; of its static
    ranges there, where it has some, and of none that is for something else."""
    nets = sorted((ipaddress.ip_network(text) for text in segment.subnets), key=lambda net: (net.version, net))
    nets = [net for net in nets if version in (None, net.version)]
    taken = spoken_for(plan, segment)
    pools = [range_of(text) for scope in plan.all(LeaseScope) for text in scope.pool]
    for net in nets[:1]:
        static, other = _meant(segment, net)
        closed = [(first, last) for v, first, last in pools if v == net.version] + other
        for first, last in static:
            for number in range(first, min(last, first + TRIED) + 1):
                address = ipaddress.ip_address(number) if net.version == 4 else ipaddress.IPv6Address(number)
                if not any(low <= number <= high for low, high in closed) and str(address) not in taken:
                    return f"{address}/{net.prefixlen}"
    return None


TRIED = 65_536
"""So many addresses of a range are tried."""


def _meant(
    segment: Segment, net: ipaddress.IPv4Network | ipaddress.IPv6Network
) -> tuple[list[tuple[int, int]], list[tuple[int, int]]]:
    """The ranges (first and last number) of a subnet from which interfaces get addresses of their own, and those that are for something else."""
    told = [purpose_of(text) for text in segment.ranges]
    inside = sorted((first, last, purpose) for purpose, (v, first, last) in told if v == net.version)
    # Of two addresses, or one, all are somebody's (RFC 3021, RFC 6164); of more, the first is the network's own, and the last one in IPv4 everybody's.
    few = net.num_addresses <= 2
    low, high = int(net[0]) + (not few), int(net[-1]) - (not few and net.version == 4)
    static = [(max(low, a), min(high, b)) for a, b, purpose in inside if purpose == "static" and a <= high and low <= b]
    return static or [(low, high)], [(a, b) for a, b, purpose in inside if purpose != "static"]


def spoken_for(plan: Plan, segment: Segment) -> set[str]:
    """The addresses that somebody bears, that are kept for somebody, or that a segment names."""
    taken = {*segment.gateways, *segment.lease_servers}
    for kind in (*PLACES, "nic"):
        for record in plan.all(kind):
            taken.update(map(bare_address, record.addresses))
    taken.update(text.split()[1] for scope in plan.all(LeaseScope) for text in scope.kept)
    return taken


def fresh_id(plan: Plan, wanted: str) -> str:
    """An id for what somebody would call a new record, that no record has yet."""
    tries = (f"{wanted}{f'-{n}' if n > 1 else ''}" for n in count(1))
    return next(id for id in map(make_id, tries) if plan.find(id) is None)

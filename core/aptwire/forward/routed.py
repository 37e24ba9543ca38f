"""Tunnels whose ends are in different subnets: over a station that routes and is the gateway of both.

A tunnel's packets are IP (RFC 7348 section 4.1), so that two host ports may carry an overlay between them wherever they reach each
other, there and back.  One router between them is followed; from router to router a plan doesn't say who sends where.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from aptwire.forward.parts import Place
from aptwire.plan.kinds import HostPort
from aptwire.plan.plan import Plan

if TYPE_CHECKING:
    from aptwire.forward.wiring import Wiring


def gateways_of(plan: Plan, port: HostPort) -> tuple[str, ...]:
    """Where a host port sends what leaves its subnet: its own word, or else its segment's gateways."""
    segment = plan.of("segment").get(port.belongs)
    return (port.gateway,) if port.gateway else segment.gateways if segment is not None else ()


def ways_out(wiring: Wiring) -> dict[str, tuple[tuple[str, str], ...]]:
    """For each host port that carries an overlay: the stations that route and bear its gateway's address, each with the
    station port that does (ids)."""
    plan = wiring.plan
    found: dict[str, tuple[tuple[str, str], ...]] = {}
    for over in sorted({group.over for group in plan.where("port_group", "mode", "overlay")}):
        ports = plan.of("station_port")
        bearers = {
            r for address in gateways_of(plan, plan.get("host_port", over)) for r in wiring.bearers.get(address, ())
        }
        routers = [ports[r] for r in sorted(bearers) if r in ports and plan.get("station", ports[r].station).routes]
        if routers:
            found[over] = tuple((port.station, port.id) for port in routers)
    return found


def over_router(wiring: Wiring, near: str, far: str) -> Iterator[tuple[Place, Place]]:
    """The station ports by which packets from one host port may get to another over one router: where they go in, and come out."""
    for station, into in wiring.ways_out.get(near, ()):
        for other, out in wiring.ways_out.get(far, ()):
            one, two = wiring.place(into), wiring.place(out)
            if station == other and into != out and one is not None and two is not None:
                yield one, two

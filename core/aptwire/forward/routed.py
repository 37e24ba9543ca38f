"""Tunnels whose ends are in different subnets: over a station that routes and is the gateway of both.

A tunnel's packets are IP (RFC 7348 section 4.1), so that two host ports may carry an overlay between them wherever they reach each
other, there and back.  One router between them is followed; from router to router a plan doesn't say who sends where.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import StationPort
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import gateways_of

Ways = Mapping[str, tuple[tuple[str, str], ...]]
"""For each host port that carries an overlay: the stations that route and bear its gateway's address, each with the station port
that does (ids)."""


def ways_out(plan: Plan) -> Ways:
    """The ways by which overlays' host ports get to other subnets."""
    overs = sorted({group.over for group in plan.where("port_group", "mode", "overlay")})
    gates: dict[str, list[tuple[str, str]]] = {}
    for port in sorted(plan.all(StationPort), key=lambda p: p.id) if overs else ():
        if plan.get("station", port.station).routes:
            for address in map(bare_address, port.addresses):
                gates.setdefault(address, []).append((port.station, port.id))
    found = {
        over: tuple(gate for a in gateways_of(plan, plan.get("host_port", over)) for gate in gates.get(a, ()))
        for over in overs
    }
    return {over: gates for over, gates in found.items() if gates}


def over_router(ways: Ways, near: str, far: str) -> Iterator[tuple[str, str]]:
    """The station ports by which packets from one host port may get to another over one router: where they go in, and come out."""
    for station, into in ways.get(near, ()):
        for other, out in ways.get(far, ()):
            if station == other and into != out:
                yield into, out

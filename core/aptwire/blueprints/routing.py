"""A fabric switch that routes between segments: a station within it, at a port of its own to which no cable leads, with an interface in each of them."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence

from aptwire.blueprints.carrying import Brought, between
from aptwire.judge.judgement import Judgement
from aptwire.judge.plugging import fresh_id, next_free_address
from aptwire.plan import vids
from aptwire.plan.edits import Operation, Patch, Put, merged
from aptwire.plan.gestures import free_name, tagged_segment
from aptwire.plan.kinds import FabricPort, FabricSwitch, Segment, Station, StationPort
from aptwire.plan.names import natural, some
from aptwire.plan.plan import Plan, PlanError, Problem


def routing(judgement: Judgement, switch: str, segments: Sequence[str]) -> Brought:
    """Has a switch route between some segments, beside those between which it does already, and carries them to it.

    It bears each segment's gateway where nobody else does; where somebody does, it takes the next free address and isn't the segment's gateway.  A segment that names
    none gets it as its gateway.  PlanError where there is no such switch or segment, where a segment has no VID or no subnet of IPv4, or nothing is left to do.
    """
    plan = judgement.plan
    own = plan.of("fabric_switch").get(switch)
    if own is None:
        raise PlanError([Problem("there is no such switch", field="switch")])
    if not own.managed:
        raise PlanError([Problem(f"{own.name} takes no settings, so it can’t route", field="switch")])
    wanted = sorted(
        {id: tagged_segment(plan, id, "segments") for id in segments}.values(), key=lambda s: natural(s.name)
    )
    station = next(iter(sorted(plan.where("station", "within", switch), key=lambda s: s.id)), None)
    has = {p.belongs for p in plan.where("station_port", "station", station.id)} if station is not None else set()
    wanted = [segment for segment in wanted if segment.id not in has]
    if not wanted:
        raise PlanError([Problem(f"{own.name} has an interface in each of them already", field="segments")])
    for segment in wanted:
        if all(":" in net for net in segment.subnets):
            raise PlanError(
                [
                    Problem(
                        f"{segment.name} has no subnet of IPv4, in which {own.name} would have an address",
                        field="segments",
                    )
                ]
            )
    made, station, port = _station(plan, own, station, [s.vid or 0 for s in wanted])
    beside: list[str] = []
    for segment in wanted:
        address, gateway = _address(judgement, segment)
        if not gateway:
            beside.append(segment.name)
        elif gateway not in segment.gateways:
            made.append(Patch("segment", segment.id, {"gateways": [*segment.gateways, gateway]}))
        id = fresh_id(plan, f"{station}/{segment.vid}")
        made.append(
            Put(
                StationPort(
                    id=id, station=station, port=port, vid=segment.vid, belongs=segment.id, addresses=(address,)
                )
            )
        )
    for segment in wanted:
        made += [op for op in between(judgement, tuple(made), segment.vid or 0, [own]) if op not in made]
    says = f"Have {own.name} route {'between' if len(wanted) + len(has) > 1 else 'for'} {some(s.name for s in wanted)}"
    if beside:
        says += f"; of {some(beside)} somebody else is the gateway"
    return Brought(merged(tuple(made)), says)


def _station(
    plan: Plan, switch: FabricSwitch, station: Station | None, tags: Sequence[int]
) -> tuple[list[Operation], str, str]:
    """What makes the switch's own station and port, or has them take more tags; and the two (ids)."""
    if station is not None:
        for interface in sorted(plan.where("station_port", "station", station.id), key=lambda p: p.id):
            port: FabricPort = plan.get("fabric_port", interface.port)
            if port.mode == "trunk":
                more: list[Operation] = [] if station.routes else [Patch("station", station.id, {"routes": True})]
                if port.allowed is not None:
                    allowed = vids.members(port.allowed) | set(tags)
                    more.append(Patch("fabric_port", port.id, {"allowed": vids.write(allowed)}))
                return more, station.id, port.id
    name = free_name("routing", {p.name for p in plan.where("fabric_port", "switch", switch.id)})
    port = FabricPort(
        id=fresh_id(plan, f"{switch.id}/{name}"), switch=switch.id, name=name, mode="trunk", allowed=vids.write(tags)
    )
    made: list[Operation] = [Put(port)]
    if station is None:
        called = free_name(f"{switch.name} routing"[:80], {s.name for s in plan.all(Station)})
        station = Station(id=fresh_id(plan, called), name=called, site=switch.site, routes=True, within=switch.id)
        made.append(Put(station))
    elif not station.routes:
        made.append(Patch("station", station.id, {"routes": True}))
    return made, station.id, port.id


def _address(judgement: Judgement, segment: Segment) -> tuple[str, str]:
    """The address that the switch takes in a segment, with prefix length; and itself where it is the gateway then (else nothing)."""
    said = next((address for address in segment.gateways if ":" not in address), None)
    if said is not None and not judgement.wiring.bearers.get(said):
        net = next((n for n in map(ipaddress.ip_network, segment.subnets) if ipaddress.ip_address(said) in n), None)
        if net is not None:
            return f"{said}/{net.prefixlen}", said
    free = next_free_address(judgement.plan, segment)
    if free is None:
        raise PlanError([Problem(f"no address of {segment.name} is free", field="segments")])
    return free, "" if said is not None else free.partition("/")[0]

"""Gateways outside the plan, as the bench builds them: a station that routes at the port where one comes in, with the outside network behind it.

The engine is asked of the plan as it is, where nobody has the gateway's address; the station is the kernel's alone.
"""

from __future__ import annotations

from aptwire.plan import vids
from aptwire.plan.edits import Drop, Operation, Patch, Put, apply_edit
from aptwire.plan.kinds import Outside, Route, Station, StationPort, WayIn
from aptwire.plan.plan import Plan


def entries(plan: Plan) -> list[tuple[WayIn, Outside]]:
    """The ways in that can be built, each with the one outside network behind it: at a port to which nothing is plugged and where nothing else comes in, of a segment
    that has a gateway in its only subnet of an IP version."""
    found = []
    for way in sorted(plan.all(WayIn), key=lambda w: w.id):
        port, behind = plan.get("fabric_port", way.port), plan.where("outside", "at", way.id)
        plugged = any(plan.where("cable", end, port.id) for end in ("a", "b"))
        taken = plugged or plan.where("station_port", "port", port.id) or len(plan.where("way_in", "port", port.id)) > 1
        usable = port.enabled and port.mode != "private" and plan.get("segment", way.segment).vid
        if len(behind) == 1 and usable and not taken and _addresses(plan, way):
            found.append((way, behind[0]))
    return found


def _addresses(plan: Plan, way: WayIn) -> list[str]:
    """The gateways of a way in's segment, each with the length of the prefix of the one subnet of its IP version."""
    segment = plan.get("segment", way.segment)
    found = []
    for six in (False, True):
        nets = [net for net in segment.subnets if (":" in net) == six]
        gateways = [gateway for gateway in segment.gateways if (":" in gateway) == six]
        found += [f"{gateway}/{nets[0].partition('/')[2]}" for gateway in gateways if len(nets) == 1]
    return found


def with_stations(plan: Plan, ports: frozenset[str]) -> Plan:
    """A plan in which stations are where something comes in at some ports."""
    edit: list[Operation] = []
    for way, outside in entries(plan):
        if way.port not in ports:
            continue
        port, segment = plan.get("fabric_port", way.port), plan.get("segment", way.segment)
        bare = port.mode == "access" or segment.vid in (port.native, *vids.members(port.untagged or ""))
        tag = segment.vid if not plan.get("fabric_switch", port.switch).managed or not bare else None
        edge = plan.fresh_id(f"{way.id}:edge")
        own = {"station": edge, "port": port.id, "belongs": segment.id, "vid": tag}
        edit += [
            Put(Station(id=edge, name=edge[:80], routes=True)),
            Put(StationPort(id=plan.fresh_id(f"{way.id}:port"), addresses=tuple(_addresses(plan, way)), **own)),
            Patch("outside", outside.id, {"at": edge, "via": None, "knows": [*segment.subnets, *outside.knows]}),
            Drop("way_in", way.id),
        ]
        if outside.via is not None:
            edit.append(Put(Route(id=plan.fresh_id(f"{way.id}:back"), of=edge, to=outside.knows, via=outside.via)))
    return apply_edit(plan, tuple(edit))[0] if edit else plan

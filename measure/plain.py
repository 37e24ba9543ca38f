"""The same question put to networkx, plainly: who is home over every way, on a fleet of end switches with one uplink each.

Used to check the engine's answer on the benchmark's fleets and as the yardstick for its speed.
"""

from __future__ import annotations

from collections import Counter
from typing import Any

import networkx as nx
from aptwire.plan import vids
from aptwire.plan.plan import Plan


def homeless(plan: Plan) -> set[str]:
    """The endpoints that aren't home today or with some team carried by its other member."""
    graph, entry = _fabric(plan)
    component = {node: n for n, nodes in enumerate(nx.strongly_connected_components(graph)) for node in nodes}
    teams: dict[str, list[str]] = {}
    for uplink in plan.all("uplink"):
        members = [nic for nic in plan.all("nic") if nic.uplink == uplink.id]
        teams[uplink.switch] = [nic.id for nic in sorted(members, key=lambda n: n.rank)]
    segment_vid = {s.id: s.vid for s in plan.all("segment")}
    seats = [(p.id, p.switch, p.vid, p.belongs) for p in plan.all("host_port")]
    groups = plan.of("port_group")
    seats += [(a.id, groups[a.port_group].switch, groups[a.port_group].vid, a.belongs) for a in plan.all("adapter")]

    def ways(switch: str, vid: int) -> list[object]:
        return [
            component.get((entry[nic], vid)) if (entry[nic], vid) in entry["allowed"] else f"{switch}/{vid}"
            for nic in teams[switch]
        ]

    bad: set[str] = set()
    by_segment: dict[str, list[tuple[str, str, list[object]]]] = {}
    for id, switch, vid, segment in seats:
        if vid != segment_vid[segment]:
            bad.add(id)
        else:
            by_segment.setdefault(segment, []).append((id, switch, ways(switch, vid)))
    for members in by_segment.values():
        switches = {switch: found for _, switch, found in members}
        _judge(members, {}, bad)
        for switch, found in switches.items():
            for other in range(1, len(found)):
                if found[other] != found[0]:
                    _judge(members, {switch: other}, bad)
    return bad


def _judge(members: list[tuple[str, str, list[object]]], chosen: dict[str, int], bad: set[str]) -> None:
    at = [(id, found[chosen.get(switch, 0)]) for id, switch, found in members]
    if len(at) == 1:
        if isinstance(at[0][1], str):
            bad.add(at[0][0])
        return
    counted = Counter(group for _, group in at).most_common(2)
    main = counted[0][0] if len(counted) == 1 or counted[0][1] > counted[1][1] else None
    bad.update(id for id, group in at if group != main)


def _fabric(plan: Plan) -> tuple[Any, dict[Any, Any]]:
    graph = nx.DiGraph()
    ports = plan.of("fabric_port")
    allowed = {id: vids.members(port.allowed) for id, port in ports.items()}
    entry: dict[Any, Any] = {"allowed": set()}
    for cable in plan.all("cable"):
        a, b = ports.get(cable.a), ports.get(cable.b)
        if a is not None and b is not None:
            for vid in allowed[a.id] & allowed[b.id]:
                graph.add_edge((a.switch, vid), (b.switch, vid))
                graph.add_edge((b.switch, vid), (a.switch, vid))
        else:
            nic, port = (cable.a, ports[cable.b]) if b is not None else (cable.b, ports[cable.a])
            # Each port is an entry of its own, since it may carry less than its switch.
            entry[nic] = port.id
            for vid in allowed[port.id]:
                entry["allowed"].add((port.id, vid))
                graph.add_edge((port.id, vid), (port.switch, vid))
                graph.add_edge((port.switch, vid), (port.id, vid))
    return graph, entry

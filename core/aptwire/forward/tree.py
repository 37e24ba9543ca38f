"""The spanning tree of the fabric (IEEE 802.1Q clause 13): bridge priority, then address; path cost by speed."""

from __future__ import annotations

import heapq
import re
from collections.abc import Mapping
from dataclasses import dataclass

from aptwire.plan.kinds import FabricPort, FabricSwitch

UNKNOWN_SPEED = 1_000


@dataclass(frozen=True)
class Joint:
    """A link between two fabric switches: one cable, or the cables of a LAG.

    `ends` the two switches, `ports` the ports at each end, in the order of `cables`; `lags` the LAG at each end.
    """

    ends: tuple[str, str]
    cables: tuple[str, ...]
    ports: tuple[tuple[FabricPort, ...], tuple[FabricPort, ...]]
    lags: tuple[str | None, str | None] = (None, None)

    @property
    def key(self) -> str:
        """What it is called by: its first cable."""
        return self.cables[0]

    @property
    def speed(self) -> int:
        """Mbit/s, all cables together; a port that doesn't say counts as 1 Gbit/s."""
        pairs = zip(*self.ports, strict=True)
        return sum(min(a.speed or UNKNOWN_SPEED, b.speed or UNKNOWN_SPEED) for a, b in pairs)

    @property
    def cost(self) -> int:
        """The path cost of table 13-4: 20 Tbit/s divided by the speed."""
        return max(1, 20_000_000 // self.speed)


@dataclass(frozen=True)
class Tree:
    """The active tree: `roots` by switch, `cost` to the root, `upward` the joint that leads there, `blocked` joints by key
    with the switch whose port is blocked."""

    roots: dict[str, str]
    cost: dict[str, int]
    upward: dict[str, str]
    blocked: dict[str, str]


def bridge_id(switch: FabricSwitch) -> tuple[int, str, str]:
    """What the spanning tree compares: the priority, then the address; a switch that doesn't say its address goes by its id, last."""
    return (switch.priority, switch.mac or "~", switch.id)


def port_order(port: FabricPort) -> tuple[object, ...]:
    """Ports as their switch counts them: by the numbers in their names."""
    return tuple((1, int(part), "") if part.isdecimal() else (0, 0, part) for part in re.split(r"(\d+)", port.name))


def spanning_tree(switches: Mapping[str, FabricSwitch], joints: list[Joint]) -> Tree:
    """The tree of the switches that take part, over the joints between them."""
    at: dict[str, list[tuple[Joint, int]]] = {}
    for joint in joints:
        for side in (0, 1):
            at.setdefault(joint.ends[side], []).append((joint, side))
    roots: dict[str, str] = {}
    cost: dict[str, int] = {}
    for start in sorted(at, key=lambda id: bridge_id(switches[id])):
        if start in roots:
            continue
        cost[start] = 0
        heap = [(0, start)]
        while heap:
            far, switch = heapq.heappop(heap)
            if switch in roots:
                continue
            roots[switch] = start
            for joint, side in at[switch]:
                other = joint.ends[1 - side]
                if far + joint.cost < cost.get(other, 1 << 60):
                    cost[other] = far + joint.cost
                    heapq.heappush(heap, (cost[other], other))
    upward: dict[str, str] = {}
    for switch, found in at.items():
        if roots[switch] == switch:
            continue

        def offer(entry: tuple[Joint, int]) -> tuple[object, ...]:
            joint, side = entry
            other = joint.ends[1 - side]
            return (
                cost[other] + joint.cost,
                bridge_id(switches[other]),
                port_order(joint.ports[1 - side][0]),
                port_order(joint.ports[side][0]),
            )

        upward[switch] = min(found, key=offer)[0].key
    blocked: dict[str, str] = {}
    for joint in joints:
        order = sorted(
            (0, 1),
            key=lambda s: (cost[joint.ends[s]], bridge_id(switches[joint.ends[s]]), port_order(joint.ports[s][0])),
        )
        lesser = joint.ends[order[1]]
        if upward.get(lesser) != joint.key:
            blocked[joint.key] = lesser
    return Tree(roots, cost, upward, blocked)

"""The spanning tree of the fabric (IEEE 802.1Q clause 13): bridge priority, then address; path cost by speed.

Two switches of which LAGs are one towards others (IEEE 802.1AX clause 9) are one bridge for it, as far as they are linked with each other.
"""

from __future__ import annotations

import heapq
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from aptwire.plan.kinds import FabricPort, FabricSwitch
from aptwire.plan.plan import Plan
from aptwire.plan.sharing import whole_lag

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
class Pairs:
    """The LAGs that are one with another switch's: `names` what the two go by together, `peers` the two switches of each pair."""

    names: Mapping[str, str] = field(default_factory=dict)
    peers: frozenset[frozenset[str]] = frozenset()

    def bundle(self, joint: Joint) -> frozenset[str] | None:
        """What joints share that are one link, since a pair is at one end of it, or at both; None: this is a link by itself."""
        one, two = joint.lags
        if not (one in self.names or two in self.names) or one is None or two is None:
            return None
        names = frozenset((self.names.get(one, one), self.names.get(two, two)))
        return names if len(names) == 2 else None

    def bundles(self, joints: Iterable[Joint]) -> list[list[Joint]]:
        """The joints that are one link with others."""
        found: dict[frozenset[str], list[Joint]] = {}
        for joint in joints if self.names else ():
            names = self.bundle(joint)
            if names is not None:
                found.setdefault(names, []).append(joint)
        return [listed for listed in found.values() if len(listed) > 1]


def pairs_of(plan: Plan) -> Pairs:
    """The LAGs of a plan that are one with another switch's."""
    names: dict[str, str] = {}
    peers: set[frozenset[str]] = set()
    for lag in plan.having("lag", "beside"):
        whole = whole_lag(plan, lag.id)
        if len(whole) > 1:
            names.update((id, whole[0]) for id in whole)
            peers.add(frozenset(plan.get("lag", id).switch for id in whole))
    return Pairs(names, frozenset(peers))


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


def spanning_tree(switches: Mapping[str, FabricSwitch], joints: list[Joint], pairs: Pairs | None = None) -> Tree:
    """The tree of the switches that take part, over the joints between them."""
    if pairs is None or not pairs.peers:
        return _tree(switches, joints)
    one, blocked = _as_one(switches, joints, pairs)
    merged: dict[object, list[Joint]] = {}
    for joint in joints:
        ends = frozenset(one[end] for end in joint.ends)
        if len(ends) == 2:
            bundle = pairs.bundle(joint)
            merged.setdefault((bundle, ends) if bundle else joint.key, []).append(joint)
    found = {listed[0].key: listed for listed in merged.values()}
    tree = _tree(switches, [_merged(listed, one) for listed in found.values()])
    for key, switch in tree.blocked.items():
        for joint in found[key]:
            blocked[joint.key] = next(end for end in joint.ends if one[end] == switch)
    alone = {switch: one[switch] for joint in joints for switch in joint.ends}
    roots = {switch: tree.roots.get(own, own) for switch, own in alone.items()}
    cost = {switch: tree.cost.get(own, 0) for switch, own in alone.items()}
    upward = {switch: tree.upward[own] for switch, own in alone.items() if own in tree.upward}
    return Tree(roots, cost, upward, blocked)


def _as_one(
    switches: Mapping[str, FabricSwitch], joints: list[Joint], pairs: Pairs
) -> tuple[dict[str, str], dict[str, str]]:
    """The switch that stands for each, where pairs are linked; and of the joints within a pair those that close a circle, with the switch that blocks them."""
    parent: dict[str, str] = {}
    kept: set[str] = set()

    def top(switch: str) -> str:
        while (above := parent.get(switch, switch)) != switch:
            switch = above
        return switch

    blocked: dict[str, str] = {}
    for joint in sorted(joints, key=lambda j: (j.cost, port_order(j.ports[0][0]), j.key)):
        # The better of the two stands for both.
        one, two = sorted(map(top, joint.ends), key=lambda id: bridge_id(switches[id]))
        if one != two and frozenset(joint.ends) in pairs.peers:
            parent[two] = one
            kept.add(joint.key)
    for joint in joints:
        if joint.key not in kept and top(joint.ends[0]) == top(joint.ends[1]):
            blocked[joint.key] = max(joint.ends, key=lambda id: bridge_id(switches[id]))
    return {switch: top(switch) for joint in joints for switch in joint.ends}, blocked


def _merged(joints: list[Joint], one: Mapping[str, str]) -> Joint:
    """Joints that are one link, between the switches that stand for theirs."""
    near, far = (one[end] for end in joints[0].ends)
    ports: tuple[list[FabricPort], list[FabricPort]] = ([], [])
    for joint in joints:
        turn = 0 if one[joint.ends[0]] == near else 1
        ports[0].extend(joint.ports[turn])
        ports[1].extend(joint.ports[1 - turn])
    cables = tuple(cable for joint in joints for cable in joint.cables)
    return Joint((near, far), cables, (tuple(ports[0]), tuple(ports[1])), joints[0].lags)


def _tree(switches: Mapping[str, FabricSwitch], joints: list[Joint]) -> Tree:
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

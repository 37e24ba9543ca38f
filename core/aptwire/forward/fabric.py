"""The fabric: links between its switches with their LAGs and spanning tree, open ports, and loops."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, fields

import numpy as np

from aptwire.forward.parts import Bridge, Link, Member, Team
from aptwire.forward.rules import PortRule, RuleBook
from aptwire.forward.tree import Joint, Tree, spanning_tree
from aptwire.plan.kinds import (
    Cable,
    FabricPort,
    FabricSwitch,
    StationPort,
)
from aptwire.plan.plan import Plan


@dataclass(eq=False)
class Fabric:
    """What lies between the hosts.

    `links` always carry; `teams` are LAGs whose members differ, so that it matters which one carries a flow;
    `open_ports` (bridge, rule, record) lead nobody knows where; `idle` are joints that the tree blocks.
    """

    links: list[Link] = field(default_factory=list)
    teams: list[Team] = field(default_factory=list)
    open_ports: list[tuple[int, PortRule, str]] = field(default_factory=list)
    joints: list[Joint] = field(default_factory=list)
    tree: Tree = field(default_factory=lambda: Tree({}, {}, {}, {}))
    at: dict[int, list[Link]] = field(default_factory=dict)

    def add(self, link: Link) -> None:
        """One more link that always carries."""
        self.links.append(link)
        for end in dict.fromkeys(link.ends):
            self.at.setdefault(end, []).append(link)


def alike(one: Fabric, two: Fabric) -> bool:
    """Whether two fabrics are the same in all that they say; LAGs whose members differ count as never the same."""
    if one.teams or two.teams or (one.tree, one.open_ports, one.joints) != (two.tree, two.open_ports, two.joints):
        return False
    return len(one.links) == len(two.links) and all(
        all(getattr(a, field.name) == getattr(b, field.name) for field in fields(Link))
        for a, b in zip(one.links, two.links, strict=True)
    )


def joints_of(plan: Plan) -> list[Joint]:
    """The links between fabric switches: cables one by one, or together where both ends are in a LAG."""
    ports: Mapping[str, FabricPort] = plan.of("fabric_port")
    bundles: dict[tuple[str, str], list[tuple[str, FabricPort, FabricPort]]] = {}
    for cable in plan.all(Cable):
        one, two = ports.get(cable.a), ports.get(cable.b)
        if one is None or two is None or not (one.enabled and two.enabled):
            continue
        one, two = sorted((one, two), key=lambda p: (p.switch, p.id))
        key = (one.lag, two.lag) if one.lag and two.lag else (cable.id, "")
        bundles.setdefault(key, []).append((cable.id, one, two))
    made = []
    for key, found in bundles.items():
        found.sort(key=lambda item: item[1].id)
        lags = key if key[1] else (found[0][1].lag, found[0][2].lag)
        cables, ones, twos = zip(*found, strict=True)
        made.append(Joint((ones[0].switch, twos[0].switch), cables, (ones, twos), lags))
    return sorted(made, key=lambda joint: joint.key)


def build_fabric(
    plan: Plan,
    book: RuleBook,
    bridges: Mapping[str, Bridge],
    far: Mapping[str, tuple[str, str]],
    rule_of: Callable[[str], PortRule],
) -> Fabric:
    """The fabric of a plan; `far` says what is at the other end of a port's cable, `rule_of` a port's rule."""
    fabric = Fabric(joints=joints_of(plan))
    switches = plan.of("fabric_switch")
    taking_part = [
        j for j in fabric.joints if all(switches[e].spanning_tree for e in j.ends) and j.ends[0] != j.ends[1]
    ]
    if taking_part:
        fabric.tree = spanning_tree(switches, taking_part)
    for switch in switches.values():
        if switch.partial:
            fabric.open_ports.append((bridges[switch.id].number, book.unknown(switch), switch.id))
    occupied = {port.port for port in plan.all(StationPort)}
    for port in plan.all(FabricPort):
        if port.enabled and port.id not in far and port.id not in occupied:
            fabric.open_ports.append((bridges[port.switch].number, rule_of(port.id), port.id))

    for joint in fabric.joints:
        if joint.key in fabric.tree.blocked:
            continue
        if joint.ends[0] == joint.ends[1]:
            # A switch that takes part in the tree hears itself there and blocks; another is joined with itself.
            if not switches[joint.ends[0]].spanning_tree:
                for turned in (False, True):
                    link = _link(joint, 0, bridges, switches, rule_of, turned)
                    fabric.add(link)
            continue
        links = [_link(joint, n, bridges, switches, rule_of) for n in range(len(joint.cables))]
        for link in links:
            for side in (0, 1):
                if link.rules[1 - side].partial:
                    fabric.open_ports.append((link.ends[side], link.rules[side], link.records[side][0]))
        ways = {tuple(rule.number for rule in link.rules) for link in links}
        if len(ways) == 1:
            fabric.add(links[0])
            continue
        lag = plan.get("lag", joint.lags[0])
        members = tuple(Member(port, link, open=False) for port, link in zip(joint.ports[0], links, strict=True))
        fabric.teams.append(Team(lag, links[0].ends[0], links[0].rules[0], members, len(members)))
    return fabric


def _link(
    joint: Joint,
    n: int,
    bridges: Mapping[str, Bridge],
    switches: Mapping[str, FabricSwitch],
    rule_of: Callable[[str], PortRule],
    turned: bool = False,
) -> Link:
    """The link over a joint's cable; `turned` as seen from its other end, which matters where both are on one switch."""
    one, two = (joint.ports[side][n] for side in ((1, 0) if turned else (0, 1)))
    ends = (bridges[one.switch].number, bridges[two.switch].number)
    mtu = least(one.mtu, two.mtu, *(switches[port.switch].mtu for port in (one, two)))
    key = f"{joint.cables[n]}'" if turned else joint.cables[n]
    return Link(key, ends, (rule_of(one.id), rule_of(two.id)), ((one.id,), (two.id,)), joint.cables[n], mtu=mtu)


def least(*sizes: int | None) -> int:
    """The least of some MTUs, 0 where none says anything."""
    return min((size for size in sizes if size), default=0)


def header(plan: Plan, host_port: str) -> int:
    """The bytes that an overlay adds to a packet: inner Ethernet, VXLAN or Geneve, UDP and outer IP (RFC 7348 section 5, RFC 8926 section 3)."""
    addresses = plan.get("host_port", host_port).addresses
    return 14 + 8 + 8 + (40 if addresses and all(":" in a for a in addresses) else 20)


@dataclass(frozen=True)
class Loop:
    """Bridges that frames go round and round in: the link that closes it, and the VID classes that it carries."""

    link: Link
    classes: tuple[int, ...]


def loops(links: Iterable[Link], crossing: Callable[[Link, int], list[int]]) -> list[Loop]:
    """The links that close a loop over the links before them; `crossing(link, side)` gives the classes that pass from a side unchanged."""
    parent: dict[tuple[int, int], tuple[int, int]] = {}

    def top(node: tuple[int, int]) -> tuple[int, int]:
        while (above := parent.get(node, node)) != node:
            parent[node] = parent.get(above, above)
            node = above
        return node

    physical: dict[int, int] = {}

    def ground(bridge: int) -> int:
        while (above := physical.get(bridge, bridge)) != bridge:
            bridge = above
        return bridge

    listed = list(links)
    closing = False
    for link in listed:
        near, far = map(ground, link.ends)
        closing = closing or near == far
        physical[near] = far
    if not closing:
        return []
    found = []
    for link in listed:
        both = sorted(set(crossing(link, 0)) & set(crossing(link, 1)))
        closed = []
        for k in both:
            a, b = top((link.ends[0], k)), top((link.ends[1], k))
            if a == b:
                closed.append(k)
            parent[a] = b
        if closed:
            found.append(Loop(link, tuple(closed)))
    return found


def circles(links: Iterable[Link], there: Callable[[Link, int], np.ndarray]) -> list[Loop]:
    """The loops in which frames change their VID and come back to the same place with the same one; of those that meet, one.

    `there(link, side)` int[classes] gives for each class the one that it becomes over a link from that side, -1 where it is dropped;
    it keeps what it gave.
    """
    at: dict[int, list[tuple[Link, int]]] = {}
    changing: list[tuple[Link, int, int, int]] = []
    changed: dict[int, list[int]] = {}
    for link in links:
        for side in (0, 1):
            at.setdefault(link.ends[side], []).append((link, side))
            after = there(link, side)
            # Most links have the rules of others, and so the very array.
            kept = changed.get(id(after))
            if kept is None:
                kept = changed[id(after)] = np.flatnonzero((after >= 0) & (after != np.arange(after.size))).tolist()
            changing += [(link, side, k, int(after[k])) for k in kept]
    found: list[Loop] = []
    told: set[tuple[int, int]] = set()
    for link, side, k, into in changing:
        start = (link.ends[1 - side], into, link.key)
        if start[:2] in told:
            continue
        seen, waiting, closed = {start}, [start], False
        while waiting:
            bridge, context, entry = waiting.pop()
            for onward, near in at[bridge]:
                following = int(there(onward, near)[context]) if onward.key != entry else -1
                spot = (onward.ends[1 - near], following, onward.key)
                closed = closed or spot == start
                if following >= 0 and spot not in seen:
                    seen.add(spot)
                    waiting.append(spot)
        if closed:
            told.update(spot[:2] for spot in seen)
            found.append(Loop(link, (k, into)))
    return found

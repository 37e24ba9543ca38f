"""The fabric: links between its switches with their LAGs and spanning tree, open ports, and loops."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Mapping, Set
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from itertools import combinations

import numpy as np

from aptwire.forward.parts import Bridge, Link, Member, Team
from aptwire.forward.rules import PortRule, RuleBook
from aptwire.forward.tree import Joint, Pairs, Tree, pairs_of, spanning_tree
from aptwire.plan.kinds import (
    Cable,
    FabricPort,
    FabricSwitch,
)
from aptwire.plan.plan import Plan
from aptwire.plan.sharing import whole_lag


@dataclass(frozen=True, eq=False)
class Laid:
    """What a joint is for frames: links that always carry, a LAG whose members differ, ends that lead nobody knows where.

    Joints that are one link, since a pair of switches is at one end, are each a link of their own where it is the same over which of them a frame
    goes; else the first of them is the LAG, over the cables of all.
    """

    links: tuple[Link, ...] = ()
    teams: tuple[Team, ...] = ()
    open_ports: tuple[tuple[int, PortRule, str], ...] = ()

    def same(self, other: Laid) -> bool:
        """Whether two say the same; a LAG whose members differ never does."""
        if self.teams or other.teams or self.open_ports != other.open_ports or len(self.links) != len(other.links):
            return False
        pairs = zip(self.links, other.links, strict=True)
        return all(getattr(a, f.name) == getattr(b, f.name) for a, b in pairs for f in fields(Link))


class Hops(dict[int, int]):
    """The fewest hops from each bridge to somewhere, 0 where that isn't known; `gates` are those from which it is one, all of them, where that is known."""

    __slots__ = ("gates",)

    def __init__(self, known: Mapping[int, int], gates: frozenset[int] = frozenset()) -> None:
        super().__init__(known)
        self.gates = gates

    def __missing__(self, bridge: int) -> int:
        return 0


@dataclass(frozen=True, eq=False)
class Fabric:
    """What lies between the hosts.

    `joints` by key, `blocked` by the `tree`; `laid` what each is for frames, by its key, with "" for what hosts themselves join;
    `loose` the enabled ports into which nothing is plugged, and the switches known in part; `pairs` the LAGs that are one with another switch's.
    """

    joints: Mapping[str, Joint] = field(default_factory=dict)
    tree: Tree = field(default_factory=lambda: Tree({}, {}, {}, {}))
    laid: Mapping[str, Laid] = field(default_factory=dict)
    loose: Mapping[str, tuple[int, PortRule, str]] = field(default_factory=dict)
    pairs: Pairs = field(default_factory=Pairs)
    _hops: dict[int | frozenset[int], Hops] = field(default_factory=dict)

    def hops(self, bridge: int) -> Hops:
        """The fewest hops to a bridge from each from which links lead there."""
        found = self._hops.get(bridge)
        if found is None:
            found = Hops({bridge: 0})
            waiting = deque([bridge])
            while waiting:
                here = waiting.popleft()
                for end in (end for link in self.at.get(here, ()) for end in link.ends):
                    if end not in found:
                        found[end] = found[here] + 1
                        waiting.append(end)
            self._hops[bridge] = found
        return found

    def hops_past(self, gates: frozenset[int]) -> Hops:
        """The fewest hops from each bridge to what is behind some others."""
        found = self._hops.get(gates)
        if found is None:
            found = self._hops[gates] = Hops({}, gates)
            for gate in gates:
                for bridge, hops in self.hops(gate).items():
                    found[bridge] = min(hops + 1, found.get(bridge, hops + 1))
        return found

    @cached_property
    def joint_of(self) -> dict[str, str]:
        """The joint of which each cable is."""
        return {cable: key for key, joint in self.joints.items() for cable in joint.cables}

    @cached_property
    def links(self) -> list[Link]:
        """The links that always carry."""
        return [link for laid in self.laid.values() for link in laid.links]

    @cached_property
    def teams(self) -> list[Team]:
        """LAGs whose members differ, so that it matters which one carries a flow."""
        return [team for laid in self.laid.values() for team in laid.teams]

    @cached_property
    def open_ports(self) -> list[tuple[int, PortRule, str]]:
        """Bridge, rule and record of what leads nobody knows where."""
        return [*self.loose.values(), *(port for laid in self.laid.values() for port in laid.open_ports)]

    @cached_property
    def barred(self) -> dict[str, frozenset[str]]:
        """Of links that are one with others (keys) those over which nothing came that leaves by it: these others, since they are on one port, and the links between the two
        switches of a pair at an end, since the other of the two has sent it there itself."""
        found: dict[str, frozenset[str]] = {}
        between: dict[frozenset[str], set[str]] = {}
        for key, joint in self.joints.items() if self.pairs.peers else ():
            if frozenset(joint.ends) in self.pairs.peers:
                between.setdefault(frozenset(joint.ends), set()).update(link.key for link in self.laid[key].links)
        for joints in self.pairs.bundles(self.joints.values()):
            carrying = self._carrying(joints)
            if len(carrying) > 1:
                keys = [link.key for joint in carrying for link in self.laid[joint.key].links]
                ends = [frozenset(pair) for pair in combinations({end for j in carrying for end in j.ends}, 2)]
                past = frozenset(key for pair in ends for key in between.get(pair, ()))
                found.update((key, past.union(keys) - {key}) for key in keys)
        return found

    def _carrying(self, bundle: list[Joint]) -> list[Joint]:
        return [joint for joint in bundle if self.laid[joint.key].links]

    @cached_property
    def doubles(self) -> frozenset[str]:
        """The links (keys) for which another one stands, with which they are one: together they close no circle."""
        bundles = self.pairs.bundles(self.joints.values())
        return frozenset(k.key for b in bundles for j in self._carrying(b)[1:] for k in self.laid[j.key].links)

    @cached_property
    def at(self) -> dict[int, list[Link]]:
        """The links by the bridges that they lead to."""
        found: dict[int, list[Link]] = {}
        for link in self.links:
            for end in dict.fromkeys(link.ends):
                found.setdefault(end, []).append(link)
        return found


@dataclass(frozen=True)
class Changed:
    """What an edit may have changed of a fabric: `ports` and `cables` (ids), and whether a `switch` is among its records."""

    ports: Set[str]
    cables: Set[str]
    switch: bool


def joints_of(plan: Plan) -> list[Joint]:
    """The links between fabric switches: cables one by one, or together where both ends are in a LAG."""
    return list(_bundled(plan, plan.all(Cable)).values())


def _bundled(plan: Plan, cables: Iterable[Cable]) -> dict[str, Joint]:
    """The links that some cables make, by key."""
    ports: Mapping[str, FabricPort] = plan.of("fabric_port")
    bundles: dict[tuple[str, str], list[tuple[str, FabricPort, FabricPort]]] = {}
    for cable in cables:
        one, two = ports.get(cable.a), ports.get(cable.b)
        if one is None or two is None or not (one.enabled and two.enabled):
            continue
        one, two = sorted((one, two), key=lambda p: (p.switch, p.id))
        key = (one.lag, two.lag) if one.lag and two.lag else (cable.id, "")
        bundles.setdefault(key, []).append((cable.id, one, two))
    made = {}
    for key, found in bundles.items():
        found.sort(key=lambda item: item[1].id)
        lags = key if key[1] else (found[0][1].lag, found[0][2].lag)
        names, ones, twos = zip(*found, strict=True)
        made[names[0]] = Joint((ones[0].switch, twos[0].switch), names, (ones, twos), lags)
    return dict(sorted(made.items()))


class FabricMaker:
    """Makes the fabric of a plan, from nothing or from the one before an edit.

    `far` says what is at the other end of a port's cable, `rule_of` a port's rule.
    """

    def __init__(
        self,
        plan: Plan,
        book: RuleBook,
        bridges: Mapping[str, Bridge],
        far: Mapping[str, tuple[str, str]],
        rule_of: Callable[[str], PortRule],
    ) -> None:
        self.plan, self.book, self.bridges, self.far, self.rule_of = plan, book, bridges, far, rule_of
        self.switches: Mapping[str, FabricSwitch] = plan.of("fabric_switch")

    def make(self, joined: Laid, before: Fabric | None = None, changed: Changed | None = None) -> Fabric:
        """The fabric; `joined` is what hosts themselves join.  The very one before where nothing of it changed."""
        pairs = pairs_of(self.plan)
        if before is None or changed is None:
            joints: Mapping[str, Joint] = _bundled(self.plan, self.plan.all(Cable))
            tree = self._tree(joints, pairs)
            laid = self._all_laid(joints, joints, tree, pairs)
            return Fabric(joints, tree, {**laid, "": joined}, self._loose(self.plan.of("fabric_port")), pairs)
        joints = self._joints(before, changed)
        same = joints is before.joints and pairs == before.pairs
        kept = same or joints.keys() == before.joints.keys()
        fresh = set() if same else {key for key, joint in joints.items() if before.joints.get(key) is not joint}
        if same and not changed.switch and before.laid[""].same(joined):
            loose = self._loose_again(before, changed)
            # How far it is from bridge to bridge, and all that links are, hold on.
            return before if loose == before.loose else replace(before, loose=loose)
        shape = changed.switch or any(not _alike(before.joints.get(key), joints.get(key)) for key in fresh)
        shape = shape or not kept or pairs != before.pairs
        tree = self._tree(joints, pairs) if shape else before.tree
        fresh |= {key for key in tree.blocked.keys() ^ before.tree.blocked.keys() if key in joints}
        fresh |= self._together(before, joints, pairs, fresh)
        laid = {**before.laid} if kept else {key: before.laid[key] for key in joints if key not in fresh}
        for key, made in self._all_laid(sorted(fresh), joints, tree, pairs).items():
            old = before.laid.get(key)
            laid[key] = old if old is not None and old.same(made) else made
        laid[""] = before.laid[""] if before.laid[""].same(joined) else joined
        loose = self._loose_again(before, changed)
        same = laid.keys() == before.laid.keys() and all(before.laid[key] is laid[key] for key in (*fresh, ""))
        same = same and all(before.joints[key] == joints[key] for key in fresh)
        if same and tree == before.tree and loose == before.loose and pairs == before.pairs:
            return before
        ordered = laid if kept else {key: laid[key] for key in (*joints, "")}
        moved = laid.keys() != before.laid.keys() or any(
            [link.ends for link in laid[key].links] != [link.ends for link in before.laid[key].links]
            for key in (*fresh, "")
        )
        # How far it is from bridge to bridge holds on where links lead where they led.
        return Fabric(joints, tree, ordered, loose, pairs, {} if moved else before._hops)

    def _together(self, before: Fabric, joints: Mapping[str, Joint], pairs: Pairs, fresh: Set[str]) -> set[str]:
        """The joints that are one link with others, where any of these is laid anew, one between a pair, or others are such."""
        were = [j for listed in before.pairs.bundles(before.joints.values()) for j in listed]
        found = {j.key for listed in pairs.bundles(joints.values()) for j in listed} | {j.key for j in were}
        if not found:
            return found
        peers = {key for key, joint in joints.items() if frozenset(joint.ends) in pairs.peers}
        gone = before.joints.keys() - joints.keys()
        anew = gone or pairs != before.pairs or not fresh.isdisjoint(found | peers)
        return found & joints.keys() if anew else set()

    def _all_laid(self, keys: Iterable[str], joints: Mapping[str, Joint], tree: Tree, pairs: Pairs) -> dict[str, Laid]:
        """What some joints are for frames; of those that are one link, all."""
        laid = {key: self._laid(joints[key], tree) for key in keys}
        for bundle in pairs.bundles(joints.values()):
            if any(joint.key in laid for joint in bundle):
                laid.update(self._bundle(bundle, joints, tree, pairs))
        return laid

    def _bundle(self, bundle: list[Joint], joints: Mapping[str, Joint], tree: Tree, pairs: Pairs) -> dict[str, Laid]:
        """What joints that are one link are for frames."""
        apart = {joint.key: self._laid(joint, tree) for joint in bundle}
        if any(joint.key in tree.blocked for joint in bundle) or self._indifferent(bundle, apart, joints, tree, pairs):
            return apart
        first = bundle[0]
        # As seen from the end at which there is one switch, if there is one.
        side = 1 if len(whole_lag(self.plan, first.lags[1])) == 1 else 0
        near = set(whole_lag(self.plan, first.lags[side]))
        members = []
        for joint in bundle:
            own = 0 if joint.lags[0] in near else 1
            ports = joint.ports[own]
            members += [Member(port, self._link(joint, n), open=False) for n, port in enumerate(ports)]
        link = members[0].link
        assert link is not None
        team = Team(
            self.plan.get("lag", first.lags[side]), link.ends[side], link.rules[side], tuple(members), len(members)
        )
        opened = tuple(port for laid in apart.values() for port in laid.open_ports)
        return {joint.key: Laid((), (team,), opened) if joint is first else Laid() for joint in bundle}

    def _indifferent(
        self,
        bundle: list[Joint],
        apart: Mapping[str, Laid],
        joints: Mapping[str, Joint],
        tree: Tree,
        pairs: Pairs,
    ) -> bool:
        """Whether it is the same over which of some joints frames go: their cables are alike, and whatever they carry passes between the two switches of a
        pair, as itself and at its size."""
        links = [link for laid in apart.values() for link in laid.links]
        if len(links) < len(bundle) or len({link.mtu for link in links}) > 1:
            return False
        near = set(whole_lag(self.plan, bundle[0].lags[0]))
        rules = [
            link.rules if joint.lags[0] in near else link.rules[::-1] for joint, link in zip(bundle, links, strict=True)
        ]
        one, two = rules[0]
        if any((a.number, b.number) != (one.number, two.number) for a, b in rules):
            return False
        there, back = (np.where(a.out >= 0, b.into[a.out], -1) for a, b in ((one, two), (two, one)))
        numbers = np.arange(there.size)
        # Nothing becomes another VLAN, or what came by an isolated port anything else.
        if any(((way >= 0) & (way != numbers)).any() for way in (there, back)) or one.reflects or two.reflects:
            return False
        passing = np.flatnonzero((there >= 0) | (back >= 0))
        for ends in (ends for ends in self._facing(bundle, near) if len(ends) == 2):
            between = [j for j in joints.values() if set(j.ends) == ends]
            found = [self._link(joint, 0) for joint in between if len(self._laid(joint, tree).links) == 1]
            if not any(_passes(link, passing, links[0].mtu) for link in found):
                return False
        return True

    @staticmethod
    def _facing(bundle: list[Joint], near: Set[str]) -> tuple[set[str], set[str]]:
        """The switches at either end of some joints that are one link."""
        found: tuple[set[str], set[str]] = (set(), set())
        for joint in bundle:
            turn = 0 if joint.lags[0] in near else 1
            for side in (0, 1):
                found[side].add(joint.ends[side ^ turn])
        return found

    def _loose_again(self, before: Fabric, changed: Changed) -> dict[str, tuple[int, PortRule, str]]:
        """What leads nobody knows where, asked anew of the ports that changed."""
        ports: Mapping[str, FabricPort] = self.plan.of("fabric_port")
        kept = {id: end for id, end in before.loose.items() if id not in changed.ports and id in ports}
        return {**kept, **self._loose({id: port for id in changed.ports if (port := ports.get(id)) is not None})}

    def _joints(self, before: Fabric, changed: Changed) -> Mapping[str, Joint]:
        """All joints, those made anew in which a port or cable changed."""
        ports: Mapping[str, FabricPort] = self.plan.of("fabric_port")
        asked, cables = set(changed.ports), set(changed.cables)
        lags = {port.lag for id in asked if (port := ports.get(id)) is not None and port.lag}
        for id in cables:
            cable = self.plan.of("cable").get(id)
            ends = (ports.get(end) for end in (cable.a, cable.b)) if cable is not None else ()
            lags.update(port.lag for port in ends if port is not None and port.lag)
        for lag in lags:
            asked.update(port.id for port in self.plan.where("fabric_port", "lag", lag))
        cables |= {self.far[id][1] for id in asked if id in self.far}
        gone = {before.joint_of[id] for id in cables if id in before.joint_of}
        for key in gone:
            cables.update(before.joints[key].cables)
        fresh = _bundled(self.plan, (c for id in cables if (c := self.plan.of("cable").get(id)) is not None))
        if not gone and not fresh:
            return before.joints
        if fresh.keys() == gone:
            return {**before.joints, **fresh}
        kept = {key: joint for key, joint in before.joints.items() if key not in gone}
        return dict(sorted({**kept, **fresh}.items()))

    def _tree(self, joints: Mapping[str, Joint], pairs: Pairs) -> Tree:
        """The spanning tree of the switches that take part in one."""
        switches = self.switches
        inside = [
            j for j in joints.values() if all(switches[e].spanning_tree for e in j.ends) and j.ends[0] != j.ends[1]
        ]
        return spanning_tree(switches, inside, pairs) if inside else Tree({}, {}, {}, {})

    def _loose(self, ports: Mapping[str, FabricPort]) -> dict[str, tuple[int, PortRule, str]]:
        """Those of some ports into which nothing is plugged, and all switches known in part."""
        found: dict[str, tuple[int, PortRule, str]] = {}
        for switch in self.plan.grouped("fabric_switch", "partial").get(True, ()):
            found[switch.id] = (self.bridges[switch.id].number, self.book.unknown(switch), switch.id)
        stations, controllers = (self.plan.grouped(kind, "port") for kind in ("station_port", "bmc"))
        for port in ports.values():
            taken = port.id in self.far or stations.get(port.id)
            if controllers.get(port.id):
                # Nobody's frames come from there whom a block knows, so that its rule is worked out here.
                self.rule_of(port.id)
            elif port.enabled and not taken:
                found[port.id] = (self.bridges[port.switch].number, self.rule_of(port.id), port.id)
        return found

    def _laid(self, joint: Joint, tree: Tree) -> Laid:
        if joint.key in tree.blocked:
            return Laid()
        if joint.ends[0] == joint.ends[1]:
            # A switch that takes part in the tree hears itself there and blocks; another is joined with itself.
            if self.switches[joint.ends[0]].spanning_tree:
                return Laid()
            return Laid(tuple(self._link(joint, 0, turned) for turned in (False, True)))
        links = [self._link(joint, n) for n in range(len(joint.cables))]
        opened = tuple(
            (link.ends[side], link.rules[side], link.records[side][0])
            for link in links
            for side in (0, 1)
            if link.rules[1 - side].partial
        )
        if len({tuple(rule.number for rule in link.rules) for link in links}) == 1:
            return Laid((links[0],), (), opened)
        lag = self.plan.get("lag", joint.lags[0])
        members = tuple(Member(port, link, open=False) for port, link in zip(joint.ports[0], links, strict=True))
        return Laid((), (Team(lag, links[0].ends[0], links[0].rules[0], members, len(members)),), opened)

    def _link(self, joint: Joint, n: int, turned: bool = False) -> Link:
        """The link over a joint's cable; `turned` as seen from its other end, which matters where both are on one switch."""
        one, two = (joint.ports[side][n] for side in ((1, 0) if turned else (0, 1)))
        ends = (self.bridges[one.switch].number, self.bridges[two.switch].number)
        mtu = least(one.mtu, two.mtu, *(self.switches[port.switch].mtu for port in (one, two)))
        key = f"{joint.cables[n]}'" if turned else joint.cables[n]
        rules = self.rule_of(one.id), self.rule_of(two.id)
        return Link(key, ends, rules, ((one.id,), (two.id,)), joint.cables[n], mtu=mtu)


def _passes(link: Link, contexts: np.ndarray, mtu: int) -> bool:
    """Whether a link passes some contexts as themselves both ways, at the size of packets that a link of this MTU takes."""
    if link.mtu and not 0 < mtu <= link.mtu:
        return False
    for near, far in (link.rules, link.rules[::-1]):
        if near.reflects or (np.where(near.out >= 0, far.into[near.out], -1)[contexts] != contexts).any():
            return False
    return True


def _alike(one: Joint | None, two: Joint | None) -> bool:
    """Whether the spanning tree sees the same in two joints."""
    if one is None or two is None:
        return False
    sides = zip((*one.ports[0], *one.ports[1]), (*two.ports[0], *two.ports[1]), strict=False)
    names = all((a.id, a.name) == (b.id, b.name) for a, b in sides)
    return names and (one.ends, one.cables, one.cost) == (two.ends, two.cables, two.cost)


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


def leads_round(ends: Iterable[tuple[int, int]]) -> bool:
    """Whether links between these bridges close a circle."""
    parent: dict[int, int] = {}

    def ground(bridge: int) -> int:
        while (above := parent.get(bridge, bridge)) != bridge:
            parent[bridge] = parent.get(above, above)
            bridge = above
        return bridge

    for near, far in ((ground(a), ground(b)) for a, b in ends):
        if near == far:
            return True
        parent[near] = far
    return False


def loops(links: Iterable[Link], crossing: Callable[[Link, int], list[int]]) -> list[Loop]:
    """The links that close a loop over the links before them; `crossing(link, side)` gives the classes that pass from a side unchanged."""
    parent: dict[tuple[int, int], tuple[int, int]] = {}

    def top(node: tuple[int, int]) -> tuple[int, int]:
        while (above := parent.get(node, node)) != node:
            parent[node] = parent.get(above, above)
            node = above
        return node

    listed = list(links)
    if not leads_round(link.ends for link in listed):
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

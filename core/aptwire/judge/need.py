"""What each cable carries and who needs it: which tags lie on a way between two who are there, whatever fails.

The graph has a node for each switch and VID class, over every link that could carry, blocked and waiting ones too, either direction counting for both.
A tag is *needed* on a cable where a way without detour leads over it from somebody to somebody else: where cable and both are in one
biconnected part, once everybody is joined to one node more.  The ends of a virtual switch that nothing crosses are needed by whoever is on it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from aptwire.forward.classes import UNTAGGED
from aptwire.forward.parts import Link, Stand
from aptwire.forward.portrules import PortRules
from aptwire.forward.rules import PortRule
from aptwire.judge.causes import spoken
from aptwire.judge.facts import group_vids
from aptwire.judge.judgement import Judgement
from aptwire.plan import vids
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import Cable, FabricPort, PortGroup, WayIn
from aptwire.plan.plan import PlanError, Problem
from aptwire.plan.ports import said_of, vid_list
from aptwire.plan.sharing import ports_together

SPARE, PERHAPS, NEEDED, LACKING = "spare", "perhaps", "needed", "lacking"
"""Nobody needs it; somebody of whom nobody knows might (behind an open end, within tags of which the plan doesn't say all, or round a circle in which tags
change); somebody does; somebody does, and it doesn't pass."""
PASSES, DROPPED, UNSENT = "passes", "dropped", "unsent"
MOST_NAMES = 6


@dataclass(frozen=True)
class Carried:
    """What passes, or could pass, over a cable with one tag, or with any of several that nobody tells apart.

    `vids` the tags (a VID set; empty: untagged), `inside` the VIDs within the switch at either end (0: untagged); `there` (from the cable's
    end a) and `back` whether frames pass, are sent and dropped at the other end, or aren't sent; `near` and `far` how many places are nearer to a and to b, with
    some of their names; `around`: they reach each other without the cable too; `reads` how many places' broadcasts a tap would read.
    """

    vids: str
    segments: tuple[str, ...]
    inside: tuple[int, int]
    there: str
    back: str
    need: str
    near: int
    far: int
    names: tuple[tuple[str, ...], tuple[str, ...]]
    around: bool
    reads: int

    def to_json(self) -> dict[str, object]:
        """The row for a program."""
        return asdict(self)


@dataclass(frozen=True, eq=False)
class _Way:
    """A link, with the two nodes (as numbers of switches, or of a virtual switch's own end) between which it leads."""

    link: Link
    ends: tuple[int, int]


@dataclass(frozen=True, eq=False)
class _Graph:
    """Directed passings, one for each link, direction and context: int64[n] the `way`, the nodes it leads `start` to `stop`, the `label` on the wire;
    bool[n] `thrown`: it would come back as another context, did frames not leave by the port that they came in by, or arrives at an isolated port: such a frame
    gets to more than its way says, once it comes round a circle."""

    way: np.ndarray
    start: np.ndarray
    stop: np.ndarray
    label: np.ndarray
    thrown: np.ndarray
    size: int


class Needs:
    """What the cables of a judged plan carry, and what of that is needed."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.wiring, self.plan = judgement.wiring, judgement.plan
        self.classes = self.wiring.classes
        self.base = self.classes.base.astype(np.int64)
        self.ways = list(self._ways())
        self.of_cable: dict[str, list[int]] = {}
        for n, way in enumerate(self.ways):
            if way.link.cable:
                self.of_cable.setdefault(way.link.cable, []).append(n)

    def carried(self, cable: Cable) -> list[Carried]:
        """What a cable carries, by tag, untagged first; empty where nothing can pass."""
        return list(_OneCable(self, cable).carried()) if cable.id in self.of_cable else []

    def prune(self, cables: Sequence[str]) -> Edit:
        """The edit that takes the VIDs that nobody needs off the ports of some cables, and off the other ports of their LAGs; nobody's verdict
        differs afterwards.  PlanError where there is no such cable, or nothing to take off."""
        missing = [id for id in cables if id not in self.plan.of("cable")]
        if missing or not cables:
            raise PlanError([Problem("there is no such cable", field="cables")])
        kept: dict[str, set[int]] = {}
        for port in dict.fromkeys(p for id in cables for p in self._ports(self.plan.get("cable", id))):
            if port.id in kept:
                continue
            together = ports_together(self.plan, port.lag) or [port]
            needed = set().union(*map(self._kept, together))
            kept.update((other.id, needed) for other in together)
        made = []
        for id, needed in sorted(kept.items()):
            port = self.plan.get("fabric_port", id)
            field = vid_list(port)
            if field is None or port.partial:
                continue
            listed = vids.members(getattr(port, field) or "")
            fixed = {port.pvid, *vids.members(port.untagged or "")} if field == "members" else set()
            left = listed & (needed | fixed)
            if left != listed:
                made.append(Patch("fabric_port", id, {field: vids.write(left)}))
        if not made:
            raise PlanError([Problem("they carry nothing that nobody needs", field="cables")])
        return tuple(made)

    def _ports(self, cable: Cable) -> Iterator[FabricPort]:
        """The fabric ports at the ends of a cable over which something can pass."""
        if cable.id in self.of_cable:
            for end in (cable.a, cable.b):
                port = self.plan.of("fabric_port").get(end)
                if port is not None:
                    yield port

    def _kept(self, port: FabricPort) -> set[int]:
        """The VIDs of the labels that are, or may be, needed at a port; all where nothing is known of it."""
        cable = self.wiring.far.get(port.id, ("", ""))[1]
        numbers = self.of_cable.get(cable, [])
        if not numbers:
            return set(vids.members(vids.ALL))
        labels = np.flatnonzero(self.levels[numbers].max(axis=0) > 0).tolist()
        return {vid for label in labels for vid in self.classes.members[label]}

    def _ways(self) -> Iterator[_Way]:
        """Every link over which frames may go, today or when another fails."""
        wiring, count = self.wiring, len(self.wiring.bridges)
        known: set[tuple[object, ...]] = set()
        members = (m.link for team in wiring.all_teams() for m in team.members if m.link is not None)
        for link in (*wiring.fabric.links, *members, *self._waiting()):
            key = (link.ends, link.rules[0].number, link.rules[1].number, link.cable or link.key)
            if key in known:
                continue
            known.add(key)
            ends = []
            for end in link.ends:
                bridge = wiring.bridges[end]
                own = bridge.virtual and bridge.crossing_row < 0
                ends.append(count if own else end)
                count += own
            yield _Way(link, (ends[0], ends[1]))

    def _waiting(self) -> Iterator[Link]:
        """Links that carry nothing today: blocked by the spanning tree, or of a LAG whose members are alike."""
        wiring = self.wiring
        at = wiring.bridge_of
        # Of blocked ports nobody needed the rules so far; what the wiring keeps stays as it is.
        rule_of = PortRules(wiring).fabric_port
        for joint in wiring.fabric.joints.values():
            if joint.ends[0] == joint.ends[1]:
                continue
            for cable, one, two in zip(joint.cables, *joint.ports, strict=True):
                rules = rule_of(one.id), rule_of(two.id)
                ends = at[one.switch].number, at[two.switch].number
                yield Link(cable, ends, rules, ((one.id,), (two.id,)), cable)

    @cached_property
    def real(self) -> np.ndarray:
        """bool[classes]: those with any VID, not the room for more."""
        return np.array([bool(members) for members in self.classes.members])

    @cached_property
    def graph(self) -> _Graph:
        """All passings."""
        count, base = self.classes.count, self.base
        parts: list[tuple[np.ndarray, ...]] = [(_NONE,) * 5]
        for n, way in enumerate(self.ways):
            for side in (0, 1):
                near, far = way.link.rules[side], way.link.rules[1 - side]
                pairing = self.judgement.pairings(near, far)
                contexts = np.flatnonzero((pairing.there >= 0) & self.real)
                arrived = pairing.there[contexts]
                thrown = pairing.bounces[contexts] | (base[arrived] != arrived)
                start, stop = way.ends[side] * count + base[contexts], way.ends[1 - side] * count + base[arrived]
                parts.append((np.full(contexts.size, n), start, stop, base[near.out[contexts]], thrown))
        size = max((end + 1 for way in self.ways for end in way.ends), default=0)
        ways, start, stop, label, thrown = (
            np.concatenate(column).astype(np.int64) for column in zip(*parts, strict=True)
        )
        return _Graph(ways, start, stop, label, thrown > 0, max(size, len(self.wiring.bridges)) * count)

    @cached_property
    def present(self) -> tuple[np.ndarray, np.ndarray]:
        """int64[n] the nodes at which somebody is, and the number of the stand, -1 where a port group offers the tag and nobody is in it."""
        count, base = self.classes.count, self.base
        own: dict[int, list[int]] = {}
        for way in self.ways:
            for end, bridge in zip(way.ends, way.link.ends, strict=True):
                if end != bridge:
                    own.setdefault(bridge, []).append(end)
        nodes: list[int] = []
        stands: list[int] = []

        def mark(bridge: int, context: int, number: int) -> None:
            for node in (bridge, *own.get(bridge, ())):
                nodes.append(node * count + int(base[context]))
                stands.append(number)

        for number, stand in enumerate(self.everybody):
            for context in {stand.context, *stand.hears} - {-1}:
                mark(stand.bridge, context, number)
        for group in self.plan.all(PortGroup):
            number = self.wiring.bridge_of[group.switch].number
            for vid in group_vids(self.plan, group):
                mark(number, int(self.classes.of[vid]), -1)
        for adapter in self.plan.outspoken:
            port_group = self.plan.of("port_group").get(adapter.port_group)
            if port_group is not None and port_group.mode != "overlay":
                number = self.wiring.bridge_of[port_group.switch].number
                for vid in said_of(adapter, port_group).members:
                    mark(number, int(self.classes.of[vid]), -1)
        for gate in self.plan.all(WayIn):
            switch = self.plan.get("fabric_port", gate.port).switch
            vid = self.plan.get("segment", gate.segment).vid
            mark(self.wiring.bridge_of[switch].number, int(self.classes.of[vid or UNTAGGED]), -1)
        return np.array(nodes, dtype=np.int64), np.array(stands, dtype=np.int64)

    @cached_property
    def everybody(self) -> list[Stand]:
        """Whoever stands somewhere by himself: what a tunnel carries is its host port's affair."""
        stands = (stand for block in self.wiring.blocks.values() for stand in block.stands)
        return [stand for stand in stands if stand.bridge >= 0 and not stand.vni]

    @cached_property
    def _unknown(self) -> np.ndarray:
        """int64[n]: the nodes beyond which nobody knows who is."""
        count, base = self.classes.count, self.base
        found = []
        for bridge, rule, _ in self.wiring.fabric.open_ports:
            out = np.flatnonzero(rule.out >= 0)
            found.append(bridge * count + base[np.concatenate([out, rule.into[rule.into >= 0]]).astype(np.int64)])
        for team in self.wiring.crossing_teams:
            if any(member.open for member in team.members):
                found.append(team.bridge * count + base[team.rule.out >= 0])
        for way in self.ways:
            if any(map(_unclear, way.link.rules)):
                found += [end * count + base for end in way.ends]
        return np.unique(np.concatenate(found)).astype(np.int64) if found else np.zeros(0, dtype=np.int64)

    @property
    def _own(self) -> int:
        """The first of the nodes that are a virtual switch's own ends."""
        return len(self.wiring.bridges) * self.classes.count

    @cached_property
    def _leaf(self) -> np.ndarray:
        """bool[passings]: those to or from such an end."""
        return (self.graph.start >= self._own) | (self.graph.stop >= self._own)

    @cached_property
    def needed(self) -> np.ndarray:
        """int8[passings]: 0 spare, 1 perhaps, 2 needed, both directions and all cables of a LAG alike."""
        graph, own, leaf = self.graph, self._own, self._leaf
        outer = np.where(graph.start >= own, graph.start, graph.stop)
        inner = np.where(graph.start >= own, graph.stop, graph.start)
        made = np.zeros(graph.way.size, dtype=np.int8)
        sure = np.unique(self.present[0])
        made[self.circles & ~leaf] = _NEEDS.index(PERHAPS)
        levels = ((PERHAPS, np.union1d(sure, self._unknown)), (NEEDED, sure))
        for level, there in levels if self._unknown.size else levels[1:]:
            at_leaf = leaf & np.isin(outer, there)
            gates = np.union1d(there[there < own], inner[at_leaf])
            core = np.flatnonzero(~leaf & (graph.start != graph.stop))
            between = _between(graph.start[core], graph.stop[core], gates)
            made[core[between]] = _NEEDS.index(level)
            made[at_leaf] = _NEEDS.index(level)
        return made

    @cached_property
    def levels(self) -> np.ndarray:
        """int8[ways, classes]: how much each label is needed on each way, as in `needed`; 0 also where nothing passes."""
        made = np.zeros((len(self.ways), self.classes.count), dtype=np.int8)
        np.maximum.at(made, (self.graph.way, self.graph.label), self.needed)
        return made

    @property
    def circles(self) -> np.ndarray:
        """bool[passings]: those in a part where a tag changes on its way, or a port is isolated, and links close a circle: a frame may get round it to where it
        couldn't turn back."""
        graph, core = self.graph, ~self._leaf
        part = self.parts(core)
        joints = self.wiring.fabric.joint_of
        names = [joints.get(way.link.cable or "", str(n)) for n, way in enumerate(self.ways)]
        number = {name: n for n, name in enumerate(dict.fromkeys(names))}
        bundle = np.array([number[name] for name in names], dtype=np.int64)
        ends = np.sort(np.stack([graph.start, graph.stop], axis=1)[core], axis=1)
        edges = np.unique(np.column_stack([bundle[graph.way[core]], ends]), axis=0)
        nodes = np.unique(ends)
        size = int(part.max(initial=-1)) + 1
        circular = np.bincount(part[edges[:, 1]], minlength=size) >= np.bincount(part[nodes], minlength=size)
        turned = np.zeros(size, dtype=bool)
        turned[part[graph.stop[graph.thrown]]] = True
        count, base = self.classes.count, self.base
        apart = [s.bridge * count + int(base[s.context]) for s in self.everybody if s.context >= self.classes.plain]
        turned[part[apart]] = True
        found: np.ndarray = (circular & turned)[part[graph.start]]
        found |= graph.start // count == graph.stop // count
        return found

    def parts(self, over: np.ndarray) -> np.ndarray:
        """int32[nodes]: the same number for nodes between which some passings lead (bool[passings])."""
        graph = self.graph
        start, stop = graph.start[over], graph.stop[over]
        joined = coo_array((np.ones(start.size, dtype=np.int8), (start, stop)), shape=(graph.size, graph.size))
        return np.asarray(connected_components(joined.tocsr(), directed=False)[1])


_NONE = np.zeros(0, dtype=np.int64)
_NEEDS = (SPARE, PERHAPS, NEEDED)


def _unclear(rule: PortRule) -> bool:
    """Whether a port carries tags within tags, or more than is said."""
    return bool(rule.push or rule.within is not None or rule.bared or rule.partial)


def needs(judgement: Judgement) -> Needs:
    """What the cables of a judged plan carry and need; the same object for as long as the judgement lives."""
    return judgement.once(Needs)


_Sides = list[tuple[tuple[PortRule, PortRule], tuple[int, int]]]
"""Of each way over a cable the rules and the nodes at its ends, as seen from the cable's end a."""


class _OneCable:
    """One cable alone."""

    def __init__(self, needs: Needs, cable: Cable) -> None:
        self.needs, self.cable = needs, cable
        self.wiring, self.plan = needs.wiring, needs.plan
        self.numbers = needs.of_cable[cable.id]

    def carried(self) -> Iterator[Carried]:
        needs, graph = self.needs, self.needs.graph
        sides = [self._side(needs.ways[n]) for n in self.numbers]
        level = needs.levels[self.numbers].max(axis=0)
        whole, parted = needs.parts(np.ones(graph.way.size, dtype=bool)), needs.parts(~self._together())
        sent = set().union(*(_sent(rule) for way in sides for rule in way[0]))
        for label in sorted(label for label in sent if needs.real[label]):
            there, back = (self._said(sides, label, side) for side in (0, 1))
            nodes = [self._nodes(sides, label, side) for side in (0, 1)]
            near, far = (self._who(parted, found) for found in nodes)
            around = bool({int(parted[n]) for n in nodes[0]} & {int(parted[n]) for n in nodes[1]})
            if not around:
                # A host's own other ways lead to itself.
                near, far = self._nearer(near, far, sides)
            need = _NEEDS[level[label]]
            if PASSES not in (there, back) and (near or far):
                need = LACKING
            speaking = [n for side, found in enumerate(nodes) for n in found if (there, back)[side] != UNSENT]
            members = needs.classes.members[label] if label else []
            yield Carried(
                vids.write(members),
                self._segments(members),
                (self._inside(nodes[0]), self._inside(nodes[1])),
                there,
                back,
                need,
                self._count(near),
                self._count(far),
                (self._names(near), self._names(far)),
                around,
                self._count(self._who(whole, speaking)),
            )

    def _side(self, way: _Way) -> tuple[tuple[PortRule, PortRule], tuple[int, int]]:
        """Rules and nodes of a way, from the cable's end a."""
        turned = self.cable.a not in way.link.records[0]
        return (way.link.rules[::-1], way.ends[::-1]) if turned else (way.link.rules, way.ends)

    def _said(self, sides: _Sides, label: int, side: int) -> str:
        """Whether frames with a label pass from one end."""
        taken = [rules[1 - side].into[label] >= 0 for rules, _ in sides if label in _sent(rules[side])]
        return PASSES if any(taken) else DROPPED if taken else UNSENT

    def _nodes(self, sides: _Sides, label: int, side: int) -> list[int]:
        """The nodes at one end from which frames leave with a label, or that they enter."""
        count, base = self.needs.classes.count, self.needs.base
        found: set[int] = set()
        for rules, ends in sides:
            contexts = np.flatnonzero((rules[side].out == label) & self.needs.real).tolist()
            if label in _sent(rules[1 - side]) and rules[side].into[label] >= 0:
                contexts.append(int(rules[side].into[label]))
            found.update(ends[side] * count + int(base[c]) for c in contexts)
        return sorted(found)

    def _segments(self, members: list[int]) -> tuple[str, ...]:
        """The segments of some VIDs, those of their private VLANs included."""
        own = [s.id for vid in members for s in self.plan.where("segment", "vid", vid)]
        return tuple(
            dict.fromkeys([*own, *(s.segment for v in members for s in self.plan.where("secondary_vlan", "vid", v))])
        )

    def _inside(self, nodes: list[int]) -> int:
        classes = self.needs.classes
        return classes.vid(nodes[0] % classes.count) if nodes else 0

    def _together(self) -> np.ndarray:
        """bool[passings]: those over the cable, and over the others of its LAG."""
        wiring = self.wiring
        key = wiring.fabric.joint_of.get(self.cable.id)
        cables = wiring.fabric.joints[key].cables if key is not None else (self.cable.id,)
        numbers = [n for cable in cables for n in self.needs.of_cable.get(cable, ())]
        found: np.ndarray = np.isin(self.needs.graph.way, numbers)
        return found

    def _who(self, parts: np.ndarray, nodes: list[int]) -> list[int]:
        """The stands in the parts of some nodes."""
        at, stands = self.needs.present
        wanted = np.isin(parts[at], [int(parts[n]) for n in nodes]) & (stands >= 0) if nodes else stands < -1
        found: list[int] = np.unique(stands[wanted]).tolist()
        return found

    def _nearer(self, near: list[int], far: list[int], sides: _Sides) -> tuple[list[int], list[int]]:
        """Those at either end, without those of a virtual switch at the other."""
        own = [{end[side] for _, end in sides} for side in (0, 1)]
        least = len(self.wiring.bridges)
        if any(end >= least for end in own[0]):
            return near, sorted(set(far) - set(near))
        if any(end >= least for end in own[1]):
            return sorted(set(near) - set(far)), far
        return near, far

    def _count(self, stands: list[int]) -> int:
        return sum(len(self.needs.everybody[n].records) for n in stands)

    def _names(self, stands: list[int]) -> tuple[str, ...]:
        records = sorted(record for n in stands for record in self.needs.everybody[n].records)
        return tuple(spoken(self.plan, record) for record in records[:MOST_NAMES])


def _sent(rule: PortRule) -> set[int]:
    """The labels with which a port sends anything."""
    return set(rule.out[rule.out >= 0].tolist())


def _between(start: np.ndarray, stop: np.ndarray, gates: np.ndarray) -> np.ndarray:
    """bool[edges]: those on a way without detour between two of the gates (nodes); edges count in both directions.

    One more node is joined to every gate; what is in a biconnected part with it lies between two of them (Hopcroft and Tarjan, 1973).
    """
    names, packed = np.unique(np.concatenate([start, stop]), return_inverse=True)
    size, root = names.size, names.size
    # Both directions of a passing, and passings side by side, are one edge here: those alone part nothing.
    sides = packed.reshape(2, -1)
    pairs, which = np.unique(sides.min(axis=0) * size + sides.max(axis=0), return_inverse=True)
    tails, heads = pairs // size, pairs % size
    joined = np.flatnonzero(np.isin(names, gates))
    tails = np.concatenate([tails, np.full(joined.size, root)])
    heads = np.concatenate([heads, joined])
    beside: list[list[tuple[int, int]]] = [[] for _ in range(size + 1)]
    for n, (tail, head) in enumerate(zip(tails.tolist(), heads.tolist(), strict=True)):
        beside[tail].append((head, n))
        beside[head].append((tail, n))
    depth, low, above = [-1] * (size + 1), [0] * (size + 1), [-1] * (size + 1)
    order: list[int] = []
    depth[root] = 0
    stack = [(root, -1, iter(beside[root]))]
    while stack:
        node, came, rest = stack[-1]
        for other, edge in rest:
            if edge == came:
                continue
            if depth[other] < 0:
                depth[other] = low[other] = len(order) + 1
                above[other] = node
                order.append(other)
                stack.append((other, edge, iter(beside[other])))
                break
            low[node] = min(low[node], depth[other])
        else:
            stack.pop()
            if stack:
                low[stack[-1][0]] = min(low[stack[-1][0]], low[node])
    inside = [False] * (size + 1)
    for node in order:
        up = above[node]
        inside[node] = up == root or (low[node] < depth[up] and inside[up])
    lower = [
        tail if depth[tail] > depth[head] else head
        for tail, head in zip(tails[: pairs.size].tolist(), heads[: pairs.size].tolist(), strict=True)
    ]
    return np.array([depth[node] >= 0 and inside[node] for node in lower], dtype=bool)[which]

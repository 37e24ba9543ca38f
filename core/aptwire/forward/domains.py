"""Broadcast domains: which contexts of the crossing bridges hear each other, for a given state.

Nodes are (crossing bridge, VID class), node = bridge.crossing_row * classes + class, in arrays.  A frame never leaves
by the port it came in on; where a link's two ends would otherwise throw a frame back under another tag, the far
end gets an *entry node* of its own, from which every way leads on but the one back.
"""

from __future__ import annotations

import threading
from collections.abc import Collection
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from aptwire.forward.classes import VidClasses
from aptwire.forward.parts import NOW, Bridge, Link, State
from aptwire.forward.rules import PortRule
from aptwire.forward.wiring import Wiring

_NO_PAIRS = np.zeros((0, 2), dtype=np.int64)


@dataclass(frozen=True)
class Pairing:
    """A near rule facing a far rule, over contexts: `there[k]` the far context that k enters (-1: dropped), `back` the reverse."""

    there: np.ndarray
    back: np.ndarray
    rules: tuple[PortRule, PortRule]

    @property
    def bounces(self) -> np.ndarray:
        """bool[classes]: contexts that would come back over the same link as another context, if a bridge sent frames back where
        they came from; one whose port reflects does, and then there is nothing to keep apart."""
        if self.rules[1].reflects:
            return np.zeros(self.there.size, dtype=bool)
        numbers = np.arange(self.there.size)
        returned = np.where(self.there >= 0, self.back[self.there], -1)
        bits: np.ndarray = (returned >= 0) & (returned != numbers)
        return bits

    @cached_property
    def crossed(self) -> tuple[np.ndarray, np.ndarray, list[int]]:
        """int64[n] the contexts that pass and don't bounce, int64[n] where they get to, and the contexts that bounce."""
        passes, bounces = self.there >= 0, self.bounces
        plain = np.flatnonzero(passes & ~bounces)
        return plain, self.there[plain].astype(np.int64), np.flatnonzero(passes & bounces).tolist()

    @cached_property
    def shifts(self) -> tuple[tuple[int, int], ...]:
        """The contexts that become another one, each with that one."""
        changed = np.flatnonzero((self.there >= 0) & (self.there != np.arange(self.there.size)))
        return tuple(zip(changed.tolist(), self.there[changed].tolist(), strict=True))


def crossing(near: PortRule, far: PortRule) -> np.ndarray:
    """int16[classes]: near's context to far's context, -1 where one of the two drops it."""
    made: np.ndarray = np.where(near.out >= 0, far.into[near.out], -1).astype(np.int16)
    return made


class Pairings:
    """Keeps one numbered `Pairing` for each pair of rules."""

    def __init__(self) -> None:
        self.listed: list[Pairing] = []
        self._known: dict[tuple[int, int], int] = {}
        self._lock = threading.Lock()
        self._tables: tuple[int, np.ndarray, np.ndarray] = (-1, np.zeros(0), np.zeros(0))
        self._odd: tuple[int, list[int]] = (0, [])
        self._sides: tuple[list[Link], list[Bridge], np.ndarray, np.ndarray] = ([], [], _NO_PAIRS, _NO_PAIRS)

    def number(self, near: PortRule, far: PortRule) -> int:
        """The number of the pairing of two rules."""
        key = (near.number, far.number)
        found = self._known.get(key)
        if found is None:
            with self._lock:
                found = self._known.get(key)
                if found is None:
                    found = len(self.listed)
                    self.listed.append(Pairing(crossing(near, far), crossing(far, near), (near, far)))
                    self._known[key] = found
        return found

    def __call__(self, near: PortRule, far: PortRule) -> Pairing:
        """The pairing of two rules."""
        return self.listed[self.number(near, far)]

    def sides(self, links: list[Link], bridges: list[Bridge]) -> tuple[np.ndarray, np.ndarray]:
        """Of each link int64[links, 2] the crossing rows of its ends and int64[links, 2] the numbers of its pairing, from either end; links that were asked for last
        time at the same place, among the same bridges, are not looked at again."""
        known, among, rows, pairs = self._sides
        if known is links and among is bridges:
            return rows, pairs
        if len(known) == len(links) and among is bridges:
            at = [n for n, (was, now) in enumerate(zip(known, links, strict=True)) if was is not now]
            rows, pairs = rows.copy(), pairs.copy()
        else:
            at = list(range(len(links)))
            rows, pairs = np.zeros((2, len(links), 2), dtype=np.int64)
        for n in at:
            link = links[n]
            near, far = link.rules
            rows[n] = [bridges[end].crossing_row for end in link.ends]
            pairs[n] = self.number(near, far), self.number(far, near)
        self._sides = links, bridges, rows, pairs
        return rows, pairs

    def grown(self, before: VidClasses, classes: VidClasses) -> None:
        """Bring all pairings up to rules whose classes were refined; entries of what were spare numbers alone change."""
        fresh = np.arange(before.used, classes.used)
        if classes.twins:
            fresh = np.concatenate([fresh, fresh + classes.plain])
        with self._lock:
            if not self.listed:
                return
            rules = {rule.number: rule for pairing in self.listed for rule in pairing.rules}
            place = {number: n for n, number in enumerate(rules)}
            near, far = (np.array([place[pairing.rules[side].number] for pairing in self.listed]) for side in (0, 1))
            leaving = np.array([rule.out[fresh] for rule in rules.values()])
            into = np.stack([rule.into for rule in rules.values()])
            # As `crossing`, of all pairs and these classes.
            there, back = (
                np.where(leaving[one] >= 0, into[two[:, None], np.maximum(leaving[one], 0)], -1).astype(np.int16)
                for one, two in ((near, far), (far, near))
            )
            theres, backs = (table.copy() for table in self.tables(classes.count))
            differ = (theres[:, fresh] != there) | (backs[:, fresh] != back)
            for n in np.flatnonzero(differ.any(axis=1)).tolist():
                pairing = self.listed[n]
                pairing.there[fresh], pairing.back[fresh] = there[n], back[n]
                for name in ("crossed", "shifts"):
                    vars(pairing).pop(name, None)
            self._odd = (0, [])
            theres[:, fresh], backs[:, fresh] = there, back
            self._tables = len(self.listed), theres, backs

    def odd(self, numbers: np.ndarray) -> list[Pairing]:
        """Those among some pairings by which a context becomes another one, or would come back as one."""
        size, found = self._odd
        if size != len(self.listed):
            new = (n for n in range(size, len(self.listed)) if self.listed[n].shifts or self.listed[n].crossed[2])
            found = [*found, *new]
            self._odd = len(self.listed), found
        return [self.listed[n] for n in np.intersect1d(found, numbers).tolist()]

    def tables(self, count: int) -> tuple[np.ndarray, np.ndarray]:
        """int16[pairings, classes] of all `there` and all `back`."""
        known = list(self.listed)
        tables = self._tables
        if tables[0] != len(known):
            there = [p.there for p in known] or [np.full(count, -1, dtype=np.int16)]
            back = [p.back for p in known] or [np.full(count, -1, dtype=np.int16)]
            tables = self._tables = len(known), np.stack(there), np.stack(back)
        return tables[1:]


@dataclass(frozen=True)
class Domains:
    """The solved graph.

    `component` int32[nodes]: the least node of its component, so that numbers stay where nothing changes; `reach` component -> it and the others that
    its frames get to, where there are others; `heard` component of an entry node -> the component of the context in which its frames are heard;
    `open` the components with a way out into an open end.
    """

    component: np.ndarray
    reach: dict[int, frozenset[int]]
    heard: dict[int, frozenset[int]]
    open: frozenset[int]

    def hearers(self, component: int) -> frozenset[int]:
        """All components in which a frame that enters `component` is heard, itself among them."""
        reached = self.reach.get(component, frozenset((component,)))
        return reached.union(*(self.heard.get(c, ()) for c in reached))

    def one_way(self) -> frozenset[int]:
        """The components that are heard beyond themselves."""
        return self._one_way

    @cached_property
    def _one_way(self) -> frozenset[int]:
        return frozenset(self.reach) | frozenset(self.heard)


def core_links(wiring: Wiring, state: State = NOW) -> list[Link]:
    """The links between crossing bridges in a state."""
    links = [link for link in wiring.fabric.links if link.nic is None or link.nic not in state.lost]
    for team in wiring.crossing_teams:
        member = wiring.carries(team, state)
        if member is not None and member.link is not None and member.link.nic not in state.lost:
            links.append(member.link)
    return links


def solve(wiring: Wiring, pairings: Pairings, state: State = NOW, least_mtu: int = 0) -> Domains:
    """The domains in a state, over links that take packets of `least_mtu` bytes; O(links x classes)."""
    count = wiring.classes.count
    heads: list[np.ndarray] = []
    tails: list[np.ndarray] = []
    special: list[tuple[Link, int, int, int]] = []
    links = [link for link in core_links(wiring, state) if not link.mtu or link.mtu >= least_mtu]
    for link in links:
        for side in (0, 1):
            near, far = link.ends[side], link.ends[1 - side]
            pairing = pairings(link.rules[side], link.rules[1 - side])
            leaving, entering, bounced = pairing.crossed
            heads.append(leaving + wiring.bridges[near].crossing_row * count)
            tails.append(entering + wiring.bridges[far].crossing_row * count)
            special += [(link, side, k, int(pairing.there[k])) for k in bounced]

    total = wiring.crossing_count * count
    entries: dict[int, list[int]] = {}
    if special:
        by_bridge: dict[int, list[Link]] = {}
        for link in links:
            for end in link.ends:
                by_bridge.setdefault(end, []).append(link)
        extra_heads: list[int] = []
        extra_tails: list[int] = []
        entry_of: dict[tuple[str, int, int], int] = {}
        for number, (link, side, k, there) in enumerate(special):
            entry_of[link.key, side, k] = total + number
            node = wiring.bridges[link.ends[1 - side]].crossing_row * count + there
            entries.setdefault(node, []).append(total + number)
        for number, (link, side, k, there) in enumerate(special):
            extra_heads.append(wiring.bridges[link.ends[side]].crossing_row * count + k)
            extra_tails.append(total + number)
            far = link.ends[1 - side]
            for onward in by_bridge[far]:
                if onward.key == link.key:
                    continue
                out_side = onward.side(far)
                next_context = int(pairings(onward.rules[out_side], onward.rules[1 - out_side]).there[there])
                if next_context < 0:
                    continue
                entry = entry_of.get((onward.key, out_side, there))
                target = wiring.bridges[onward.ends[1 - out_side]].crossing_row * count + next_context
                extra_heads.append(total + number)
                extra_tails.append(target if entry is None else entry)
        heads.append(np.asarray(extra_heads, dtype=np.int64))
        tails.append(np.asarray(extra_tails, dtype=np.int64))
        total += len(special)

    head = np.concatenate(heads) if heads else np.zeros(0, dtype=np.int64)
    tail = np.concatenate(tails) if tails else np.zeros(0, dtype=np.int64)
    graph = coo_array((np.ones(head.size, dtype=np.int8), (head, tail)), shape=(total, total)).tocsr()
    if total:
        _, component = connected_components(graph, directed=True, connection="strong")
    else:
        component = np.zeros(0, dtype=np.int32)
    heard: dict[int, set[int]] = {}
    for node, extra in entries.items():
        for entry in extra:
            heard.setdefault(int(component[entry]), set()).add(int(component[node]))
    found = Domains(
        component,
        _closure(component, head, tail),
        {entry: frozenset(nodes) for entry, nodes in heard.items()},
        _open(wiring, component),
    )
    return _renumbered(_joined(found, wiring.crossing_count * count) if heard else found)


MANY = 8
"""Where more than one in so many classes changes, all are solved anew."""


def solve_again(before: Domains, old: Wiring, wiring: Wiring, pairings: Pairings) -> Domains:
    """Today's domains after an edit, from those before it: solved anew for the VID classes whose ways changed, and those into which these are changed on
    their way; O(links x such classes).  The very ones before where nothing changed."""
    count = wiring.classes.count
    if old.crossing_teams or wiring.crossing_teams or before.heard or old.classes.count != count:
        return solve(wiring, pairings)
    if wiring.fabric is old.fabric and wiring.classes is old.classes and wiring.crossing_count == old.crossing_count:
        return before
    affected = _affected(old, wiring, pairings)
    if np.count_nonzero(affected) * MANY > wiring.classes.used:
        return solve(wiring, pairings)
    numbers = np.flatnonzero(affected)
    size = wiring.crossing_count * count
    if not numbers.size and size == before.component.size:
        opened = _open(wiring, before.component)
        return before if opened == before.open else replace(before, open=opened)
    component = np.arange(size, dtype=np.int32)
    component[: before.component.size] = before.component
    ends, pairs = _ways(wiring, pairings)
    if any(affected[pairing.crossed[2]].any() for pairing in pairings.odd(pairs)):
        return solve(wiring, pairings)
    there = pairings.tables(count)[0][pairs[:, None], numbers].astype(np.int64)
    way, at = np.nonzero(there >= 0)
    head, tail = ends[way, 0] * count + numbers[at], ends[way, 1] * count + there[way, at]
    nodes = (np.arange(wiring.crossing_count)[:, None] * count + numbers).ravel()
    # Only what these nodes have there is ever read.
    place = np.empty(size, dtype=np.int32)
    place[nodes] = np.arange(nodes.size)
    edges = (place[head], place[tail])
    graph = coo_array((np.ones(head.size, dtype=np.int8), edges), shape=(nodes.size, nodes.size)).tocsr()
    if nodes.size:
        _, part = connected_components(graph, directed=True, connection="strong")
        component[nodes] = nodes[_first_of(part)[part]]
    reach = {start: others for start, others in before.reach.items() if not affected[start % count]}
    reach.update(_closure(component, head, tail))
    found = Domains(component, reach, {}, _open(wiring, component))
    same = np.array_equal(component, before.component) and (reach, found.open) == (before.reach, before.open)
    return before if same else found


def _affected(old: Wiring, wiring: Wiring, pairings: Pairings) -> np.ndarray:
    """bool[classes]: those whose ways an edit may have changed, and those that become one of them, or one of them becomes, on their way."""
    count = wiring.classes.count
    affected = np.zeros(count, dtype=bool)
    split = wiring.classes.of != old.classes.of
    for of in (old.classes.of, wiring.classes.of):
        affected[of[split]] = True
    if wiring.classes.twins:
        plain = wiring.classes.plain
        affected[plain:] |= affected[:plain]
    one, two = old.fabric.laid, wiring.fabric.laid
    changed = [key for key, laid in two.items() if one.get(key) is not laid] + [key for key in one if key not in two]
    before = {link.key: link for key in changed if key in one for link in one[key].links}
    after = {link.key: link for key in changed if key in two for link in two[key].links}
    for key in before.keys() | after.keys():
        was, now = before.get(key), after.get(key)
        ways = [
            [pairings(link.rules[side], link.rules[1 - side]).there for side in (0, 1)]
            for link in (was, now)
            if link is not None
        ]
        if was is not None and now is not None and was.ends == now.ends:
            for there, then in zip(*ways, strict=True):
                affected |= there != then
        else:
            for there in (there for listed in ways for there in listed):
                affected |= there >= 0
    shifts = {shift for pairing in pairings.odd(_ways(wiring, pairings)[1]) for shift in pairing.shifts}
    while True:
        more = {k for pair in shifts if affected[list(pair)].any() for k in pair if not affected[k]}
        if not more:
            return affected
        affected[list(more)] = True


def _ways(wiring: Wiring, pairings: Pairings) -> tuple[np.ndarray, np.ndarray]:
    """The links that always carry, each from either side: int64[2 x links, 2] crossing rows, from and to, int64[2 x links] the number of the pairing."""
    rows, pairs = pairings.sides(wiring.fabric.links, wiring.bridges)
    return np.concatenate([rows, rows[:, ::-1]]), np.concatenate([pairs[:, 0], pairs[:, 1]])


def _first_of(part: np.ndarray) -> np.ndarray:
    """int64[parts]: the least place of each part, where `part` int[n] numbers them from 0."""
    first = np.zeros(int(part.max()) + 1 if part.size else 0, dtype=np.int64)
    first[part[::-1]] = np.arange(part.size - 1, -1, -1)
    return first


def _renumbered(domains: Domains) -> Domains:
    """The same domains, each called by its least node."""
    first = _first_of(domains.component)

    def named(parts: Collection[int]) -> frozenset[int]:
        return frozenset(first[list(parts)].tolist()) if parts else frozenset()

    return Domains(
        first[domains.component].astype(np.int32),
        {int(first[start]): named(others) for start, others in domains.reach.items()},
        {int(first[start]): named(others) for start, others in domains.heard.items()},
        named(domains.open),
    )


def _joined(domains: Domains, plain: int) -> Domains:
    """The domains in which whoever hears each other is in one: over entry nodes a frame may come back another way than it went.

    `plain` is the number of nodes that are no entry nodes.
    """
    real = set(domains.component[:plain].tolist())
    hears = {a: domains.hearers(a) & real for a in domains.one_way() & real}
    pairs = [(a, b) for a, heard in hears.items() for b in heard - {a} if a in hears.get(b, ())]
    if not pairs:
        return domains
    size = int(domains.component.max()) + 1
    one, two = np.array(pairs, dtype=np.int64).T
    joins = coo_array((np.ones(one.size, dtype=np.int8), (one, two)), shape=(size, size))
    _, number = connected_components(joins.tocsr(), directed=False)

    def joined(found: dict[int, frozenset[int]]) -> dict[int, frozenset[int]]:
        made: dict[int, set[int]] = {}
        for start, others in found.items():
            made.setdefault(int(number[start]), set()).update(number[list(others)].tolist())
        return {start: frozenset(others) for start, others in made.items()}

    return Domains(
        number[domains.component],
        joined(domains.reach),
        joined(domains.heard),
        frozenset(number[list(domains.open)].tolist()),
    )


def _closure(component: np.ndarray, head: np.ndarray, tail: np.ndarray) -> dict[int, frozenset[int]]:
    """What each component reaches beyond itself; empty where links work alike both ways, which is nearly always."""
    one_way = component[head] != component[tail]
    if not one_way.any():
        return {}
    onward: dict[int, set[int]] = {}
    pairs = np.stack([component[head[one_way]], component[tail[one_way]]], axis=1)
    for a, b in np.unique(pairs, axis=0).tolist():
        onward.setdefault(a, set()).add(b)
    reach: dict[int, frozenset[int]] = {}
    for start in onward:
        seen, stack = {start}, [start]
        while stack:
            for other in onward.get(stack.pop(), ()):
                if other not in seen:
                    seen.add(other)
                    stack.append(other)
        reach[start] = frozenset(seen)
    return reach


def _open(wiring: Wiring, component: np.ndarray) -> frozenset[int]:
    """The components with a way out into an open end (an enabled fabric port, or a crossing switch's NIC, without a cable)."""
    count = wiring.classes.count
    found: set[int] = set()
    ends = {(bridge, rule.number): rule for bridge, rule, _ in wiring.fabric.open_ports}
    for switch in wiring.plan.grouped("virtual_switch", "partial").get(True, ()):
        own = wiring.bridge_of[switch.id]
        if own.crossing_row >= 0:
            ends[own.number, -1] = wiring.book.wire()
    for team in wiring.crossing_teams:
        if any(m.open for m in team.members):
            ends[team.bridge, team.rule.number] = team.rule
    for (bridge, _), rule in ends.items():
        first = wiring.bridges[bridge].crossing_row * count
        found.update(component[first + np.flatnonzero(rule.out >= 0)].tolist())
    return frozenset(found)

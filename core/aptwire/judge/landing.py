"""Second stage of the judge: where every way leads: the node of the fabric entered, the VID landed on, the group of those who hear each other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from aptwire.forward.domains import Domains, Pairings
from aptwire.forward.parts import Stand, Team
from aptwire.forward.wiring import Wiring
from aptwire.judge.gathered import AT_HOME, Columns, Gathered, Patch, Ways
from aptwire.judge.intent import Intent
from aptwire.plan.kinds import SecondaryVlan

# Groups are numbered alike in every state and after every edit: the fabric's components, each switch's contexts, and whoever is alone; each VNI anew.
LOCAL = 1 << 26
ALONE = 1 << 27
EACH_VNI = 1 << 28


@dataclass(frozen=True)
class Tags:
    """What VID classes mean: `tag` int32[segments] the class of each segment (-2: an overlay's), `vni` int64[segments] (-1: none); `primary`
    int[classes] the class of a secondary VLAN's primary, others themselves; `known` bool[classes]: a segment has it."""

    tag: np.ndarray
    vni: np.ndarray
    primary: np.ndarray
    known: np.ndarray
    rests: tuple[object, ...]

    @classmethod
    def of(cls, wiring: Wiring, intent: Intent, before: Tags | None) -> Tags:
        """A plan's; the ones before where they rest on the same."""
        plan, classes = wiring.plan, wiring.classes
        rests = (plan.of("segment"), plan.of("secondary_vlan"), classes)
        if before is not None and all(one is two for one, two in zip(before.rests, rests, strict=True)):
            return before
        records = [plan.get("segment", id) for id in intent.segments]
        tag = np.array([-2 if s.vni else classes.of[s.vid or 0] for s in records] or [0], dtype=np.int32)
        vni = np.array([s.vni or -1 for s in records] or [0], dtype=np.int64)
        primary = np.arange(classes.count)
        for secondary in plan.all(SecondaryVlan):
            vid = plan.get("segment", secondary.segment).vid
            primary[classes.of[secondary.vid]] = classes.of[vid or 0]
        known = np.isin(np.arange(classes.count), tag[: len(records)])
        primary[classes.plain :] = primary[classes.base[classes.plain :]]
        return cls(tag, vni, primary, known, rests)

    def same(self, other: Tags) -> bool:
        """Whether two say the same of every segment and class."""
        if self is other:
            return True
        pairs = ((self.tag, other.tag), (self.vni, other.vni), (self.primary, other.primary), (self.known, other.known))
        return all(np.array_equal(one, two) for one, two in pairs)


@dataclass(frozen=True)
class Rows:
    """Where each row gets to: `node` int32 entered in the fabric (-1: none), `mutual`: frames come back the same way, `entered` int16 the
    class there (or in the stand's own switch), `landed` int16 the VID class landed on, which differs from it beyond a bridge that tells no VLANs apart,
    `right`: that is the tag of the segment where the stand belongs, `group` int64 in today's state."""

    node: np.ndarray
    mutual: np.ndarray
    entered: np.ndarray
    landed: np.ndarray
    right: np.ndarray
    group: np.ndarray


@dataclass(frozen=True)
class Landing:
    """Where every way of every stand leads today."""

    wiring: Wiring
    pairings: Pairings
    domains: Domains
    intent: Intent
    gathered: Gathered
    tags: Tags
    rows: Rows

    @property
    def ways(self) -> Ways:
        return self.gathered.ways

    @property
    def columns(self) -> Columns:
        return self.gathered.columns

    @property
    def stands(self) -> Sequence[Stand]:
        return self.gathered.stands

    @property
    def teams(self) -> Sequence[Team]:
        return self.gathered.teams

    @property
    def first(self) -> np.ndarray:
        """int64[stands]: each stand's row of today."""
        return self.gathered.first

    @property
    def count(self) -> int:
        """The number of VID classes."""
        return self.wiring.classes.count

    def number(self, stand: Stand) -> int:
        """A stand's place in the arrays."""
        return self.gathered.number(stand)

    def rows_of(self, stand: int) -> range:
        """A stand's rows, in the order of its ways."""
        return self.gathered.rows_of(stand)

    def local(self, stands: np.ndarray) -> np.ndarray:
        """int64[n]: what stands share that hear each other within their switch; below zero and their own for those that hear nobody there."""
        columns = self.columns
        context = columns.context[stands].astype(np.int64)
        switches = len(self.wiring.bridges) * self.count
        inside = columns.bridge[stands].astype(np.int64) * self.count + np.maximum(context, 0)
        inside += columns.vni[stands].astype(np.int64) * switches
        shared: np.ndarray = np.where((context >= 0) & ~columns.deaf[stands], inside, -1 - stands)
        return shared

    def near(self, stand: int) -> int:
        """The same of one stand."""
        return int(self.local(np.array([stand]))[0])

    @cached_property
    def private(self) -> frozenset[int]:
        """The stands that hear in other contexts than they speak in."""
        return frozenset(np.flatnonzero(self.columns.private).tolist())

    @cached_property
    def private_segments(self) -> frozenset[int]:
        """The segments of those."""
        return frozenset(self.columns.segment[list(self.private)].tolist()) - {-1}

    @cached_property
    def routers(self) -> Mapping[int, list[tuple[str, int]]]:
        """For the stands of overlays that are carried over routers: each station, and its stand that is the gateway."""
        found: dict[int, list[tuple[str, int]]] = {}
        ways = self.wiring.ways_out
        for number in np.flatnonzero(self.columns.vni > 0).tolist() if ways else ():
            for station, port in ways.get(self.stands[number].over, ()):
                place = self.wiring.place(port)
                if place is not None:
                    found.setdefault(number, []).append((station, self.number(place.stand)))
        return found

    @cached_property
    def routed_segments(self) -> frozenset[int]:
        """The segments of those."""
        return frozenset(int(self.columns.segment[n]) for n in self.routers) - {-1}

    def groups(self, domains: Domains, rows: np.ndarray) -> np.ndarray:
        """int64[n]: the component that each of some rows is in, or a number of its own for each context that is in none.

        An overlay's rows have the group of the host port that carries it, counted apart for each VNI.
        """
        return _groups(self.gathered, domains, self.count, rows, self.rows.node[rows], self.rows.mutual[rows])

    def hearing(self, row: int, group: int, domains: Domains) -> set[int]:
        """The groups whose frames a stand hears over a row; `group` is that in which it speaks."""
        number = int(self.ways.stand[row])
        if number not in self.private:
            return {group}
        stand, pair = self.stands[number], int(self.ways.pair[row])
        far = int(self.ways.trunk[row]) * self.count
        found = set()
        for context in stand.hears:
            if pair == AT_HOME:
                found.add(int(domains.component[far + context]))
            elif pair >= 0:
                coming = np.flatnonzero(self.pairings.listed[pair].back == context)
                found.update(domains.component[far + coming].tolist())
            found.add(LOCAL + stand.bridge * self.count + context)
        return found

    def reached_from(self, stand: int, group: int, domains: Domains) -> set[int]:
        """The groups in which a stand that speaks in a group is heard: its switch's, its own, and where that one's frames get to."""
        columns = self.columns
        beside = LOCAL + int(columns.bridge[stand]) * self.count + max(int(columns.context[stand]), 0)
        return {beside, *(domains.hearers(group) if group in domains.one_way() else (group,))}

    def over_routers(self, row: int, group: int, today: np.ndarray) -> frozenset[tuple[int, str]]:
        """The routers that an overlay's host port reaches over a row in a group, with its VNI; `today` is the group of every stand."""
        stand = int(self.ways.stand[row])
        vni = int(self.columns.vni[stand])
        own = group - vni * EACH_VNI
        gates = self.routers.get(stand, ())
        return frozenset((vni, station) for station, gate in gates if int(today[gate]) == own)

    def wide(self, stand: int) -> bool:
        """Whether a stand hears and reaches all of its private VLAN, as a promiscuous port or one outside it does."""
        own = self.stands[stand]
        base = self.wiring.classes.base
        return own.plain or (len(own.hears) > 1 and int(base[own.context]) not in self._secondary)

    @cached_property
    def _secondary(self) -> frozenset[int]:
        """The classes of secondary VLANs: who speaks in one isn't promiscuous, however its number compares with the primary's."""
        return frozenset(int(self.wiring.classes.of[s.vid]) for s in self.wiring.plan.all(SecondaryVlan))

    def narrow(self, stand: int) -> bool:
        """Whether it is isolated: it doesn't hear its own VLAN."""
        return int(self.columns.context[stand]) not in self.stands[stand].hears

    def stray(self, stand: int) -> bool:
        """Whether it doesn't hear its own VLAN although nobody means to isolate it: its frames leave in another than that in which they enter."""
        return self.narrow(stand) and not self.meant(stand)

    def meant(self, stand: int) -> bool:
        """Whether it speaks in a secondary VLAN, or by an isolated port."""
        context, classes = self.stands[stand].context, self.wiring.classes
        return context >= classes.plain or int(classes.base[context]) in self._secondary


def land(
    wiring: Wiring, pairings: Pairings, domains: Domains, intent: Intent, gathered: Gathered, tags: Tags
) -> Landing:
    """Where every way leads."""
    every = np.arange(gathered.ways.stand.size)
    node, mutual, entered = _enter(gathered, pairings, wiring.classes.count, every)
    landed = _beyond_unmanaged(gathered, domains, tags, wiring, entered, node)
    group = _groups(gathered, domains, wiring.classes.count, every, node, mutual)
    rows = Rows(node, mutual, entered, landed, _right(gathered, tags, every, landed), group)
    return Landing(wiring, pairings, domains, intent, gathered, tags, rows)


def land_again(
    before: Landing, wiring: Wiring, domains: Domains, intent: Intent, gathered: Gathered, patch: Patch, tags: Tags
) -> Landing:
    """The same after an edit: worked out anew for the changed blocks alone, as far as the domains and tags are those of before."""
    old, fresh, pairings, count = before.rows, patch.rows, before.pairings, wiring.classes.count
    came = zip((old.node, old.mutual, old.entered), _enter(gathered, pairings, count, fresh), strict=True)
    node, mutual, entered = (patch.by_row(array, own) for array, own in came)
    landed = _beyond_unmanaged(gathered, domains, tags, wiring, entered, node)
    if tags.same(before.tags) and landed is entered and old.landed is old.entered:
        right = patch.by_row(old.right, _right(gathered, tags, fresh, landed[fresh]))
    else:
        right = _right(gathered, tags, np.arange(node.size), landed)
    if domains is before.domains:
        group = patch.by_row(old.group, _groups(gathered, domains, count, fresh, node[fresh], mutual[fresh]))
    else:
        # Only where a node is in another component is a way in another group.
        known, now = before.domains.component, domains.component
        both = min(now.size, known.size)
        # The last entry is that of ways that enter no node, -1.
        moved = np.ones(now.size + 1, dtype=bool)
        moved[:both], moved[-1] = now[:both] != known[:both], False
        group, others = patch.by_row(old.group), np.flatnonzero(moved.take(node))
        for asked in (fresh, others):
            group[asked] = _groups(gathered, domains, count, asked, node[asked], mutual[asked])
    return Landing(wiring, pairings, domains, intent, gathered, tags, Rows(node, mutual, entered, landed, right, group))


def _enter(
    gathered: Gathered, pairings: Pairings, count: int, rows: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Where some rows get to: node, whether frames come back alike, class."""
    ways = gathered.ways
    there_table, back_table = pairings.tables(count)
    context, pair = gathered.columns.context[ways.stand[rows]], ways.pair[rows]
    far = ways.trunk[rows] * np.int32(count)
    inside, index = np.maximum(context, 0), np.maximum(pair, 0)
    there = np.where((pair >= 0) & (context >= 0), there_table[index, inside], -1).astype(np.int32)
    mutual = (there >= 0) & (back_table[index, np.maximum(there, 0)] == context)
    at_home = (pair == AT_HOME) & (context >= 0)
    node = np.where(there >= 0, far + there, np.where(at_home, far + inside, -1)).astype(np.int32)
    return node, mutual | at_home, np.where(there >= 0, there, context).astype(np.int16)


def _beyond_unmanaged(
    gathered: Gathered, domains: Domains, tags: Tags, wiring: Wiring, entered: np.ndarray, node: np.ndarray
) -> np.ndarray:
    """What each row lands on: untagged frames that pass a bridge without classifying them land on the VID that the next managed switch gives them.

    Of several VIDs that leak into each other that is the own one, where it is among them, else the least; the leak is found where it is.
    """
    unsaid = np.flatnonzero((entered == 0) & (node >= 0))
    if not unsaid.size:
        return entered
    classes = wiring.classes
    component = domains.component[: wiring.crossing_count * classes.count]
    beyond = component[node[unsaid]]
    vid = classes.base[np.arange(component.size) % classes.count]
    tagged = np.flatnonzero(np.isin(component, beyond) & (vid > 0))
    given: dict[int, list[int]] = {}
    for at, number in sorted(set(zip(component[tagged].tolist(), vid[tagged].tolist(), strict=True))):
        given.setdefault(at, []).append(number)
    for numbers in given.values():
        numbers.sort(key=classes.vid)
    segment = gathered.columns.segment[gathered.ways.stand[unsaid]]
    wanted = np.where(segment >= 0, tags.tag[np.maximum(segment, 0)], 0)
    chosen: dict[tuple[int, int], int] = {}
    for at, own in set(zip(beyond.tolist(), wanted.tolist(), strict=True)):
        numbers = given.get(at, [0])
        chosen[at, own] = next((n for n in numbers if own > 0 and tags.primary[n] == own), numbers[0])
    landed = entered.copy()
    landed[unsaid] = [chosen[key] for key in zip(beyond.tolist(), wanted.tolist(), strict=True)]
    return landed


def _right(gathered: Gathered, tags: Tags, rows: np.ndarray, landed: np.ndarray) -> np.ndarray:
    """bool[n]: whether some rows are on the tag of the segment where their stand belongs."""
    stand, columns = gathered.ways.stand[rows], gathered.columns
    segment, context, vni = columns.segment[stand], columns.context[stand], columns.vni[stand]
    own = np.maximum(segment, 0)
    wanted, inside = tags.tag[own], np.maximum(landed, 0)
    untagged = (wanted == 0) & (context == 0) & ((landed <= 0) | ~tags.known[inside])
    right = ((wanted > 0) & (landed >= 0) & (tags.primary[inside] == wanted)) | untagged
    right = np.where(vni > 0, tags.vni[own] == vni, right)
    placed: np.ndarray = right & (segment >= 0) & (context >= 0)
    return placed


def _groups(
    gathered: Gathered, domains: Domains, count: int, rows: np.ndarray, node: np.ndarray, mutual: np.ndarray
) -> np.ndarray:
    """int64[n]: the groups of some rows; `node` and `mutual` are those rows'."""
    ways, columns = gathered.ways, gathered.columns
    stand = ways.stand[rows]
    local = columns.bridge[stand].astype(np.int64) * count + np.maximum(columns.context[stand], 0)
    inside = mutual & (node >= 0)
    component = domains.component[np.where(inside, node, 0)] if domains.component.size else 0
    group: np.ndarray = np.where(inside, component, LOCAL + local)
    # A guest that tags its frames with the native VID of its port speaks and hears nothing: it is alone.
    deaf = columns.deaf[stand]
    if deaf.any():
        group = np.where(deaf, ALONE + stand, group)
    if columns.vni[stand].any():
        group = group + columns.vni[stand].astype(np.int64) * EACH_VNI
    private = columns.private[stand]
    if private.any():
        for at in np.flatnonzero(private & (node >= 0) & (ways.pair[rows] != -1)).tolist():
            group[at] = domains.component[int(node[at])]
    return group

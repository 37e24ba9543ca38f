"""Which cables carry what goes from one interface to another, and which do when something has failed.

Members of a team share by its mode: a standby team sends over the first that is well; of one that spreads adapters or flows each active member is to be
expected to carry alike, and at the worst all of it; so does each cable of a LAG.  The fabric's ways are the shortest from each switch context that frames
enter, over the tables that the domains are made of; where frames cross teams or bounce on their way, each way is found by the exact search.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import product
from math import prod
from typing import Any, NamedTuple

import numpy as np

from aptwire.forward.compiling import rewire
from aptwire.forward.domains import Pairings
from aptwire.forward.fabric import Fabric, Laid, leads_round
from aptwire.forward.parts import STATIONS, Link, Member, Place, State, Team
from aptwire.forward.paths import Roads
from aptwire.forward.tree import Joint, spanning_tree
from aptwire.forward.wiring import Wiring
from aptwire.plan.edits import Drop, apply_edit, touched
from aptwire.plan.kinds import Nic
from aptwire.plan.plan import Plan

TAG = 4
"""Bytes of an 802.1Q tag (IEEE 802.1Q clause 9.5)."""


class OneWay(NamedTuple):
    """One direction of a cable: out of a NIC or fabric port (`sends`), or into it (where what sends has no port of its own: a station, an assumed fabric)."""

    port: str
    sends: bool


class Failure(NamedTuple):
    """Something that fails alone: a nic, a card (of a host, by name), a cable between switches, a lag (by its first cable) or a fabric_switch."""

    kind: str
    id: str
    card: str = ""


class Step(NamedTuple):
    """A direction (its number) on a way, the share of what goes this way that it carries, and the bytes of tags there."""

    at: int
    share: float
    tags: int


class Half(NamedTuple):
    """A member over which a place's frames go: its share; the steps on its cable; where in the fabric these end or begin (a bridge, -1: nowhere), and in which contexts; its NICs,
    and whether it takes part in a team that spreads flows."""

    share: float
    steps: tuple[Step, ...]
    bridge: int
    contexts: tuple[int, ...]
    nics: tuple[str, ...]
    spreads: bool
    members: tuple[Member, ...] = ()


@dataclass(frozen=True)
class Course:
    """What goes from one interface to another, by direction: `now` float64[n, 4] (number of the direction, share that is to be expected, the most it may be, bytes of tags),
    and by how much the expected share differs when something fails: `failing` float64[m, 3] (number of failure and direction together, difference, bytes of tags).
    `there`: some of it gets there today; `contexts` are those of the fabric that it begins in, `bridges` those to which anything leads that could carry it at either end."""

    now: np.ndarray
    failing: np.ndarray
    there: bool
    contexts: frozenset[int] = frozenset()
    bridges: frozenset[int] = frozenset()


class _Tree(NamedTuple):
    """How each (bridge, context) is reached first from one: from which before it, over which link, from which side, with which label; and from where to search on."""

    came: dict[tuple[int, int], tuple[tuple[int, int], Link, int, int]]
    waiting: deque[tuple[int, int]]


@dataclass
class _Variant:
    """A fabric, perhaps without something: cables that are gone (with links that are `cut`), NICs that go with it, a switch (a bridge, -1: none), and the ways that were searched.

    `whole`: the fabric with everything, where it has no circles: what goes over nothing that is cut goes as it did, and all else has no other way.
    """

    fabric: Fabric
    alike: tuple[np.ndarray, np.ndarray]
    gone: frozenset[str] = frozenset()
    lost: frozenset[str] = frozenset()
    switch: int = -1
    cut: frozenset[Link] = frozenset()
    whole: _Variant | None = None
    trees: dict[tuple[int, int], _Tree] = field(default_factory=dict)
    ways: dict[tuple[tuple[int, int], tuple[int, int]], tuple[Step, ...] | None] = field(default_factory=dict)


class Courses:
    """The courses in one fabric, kept from edit to edit for as long as both stands and what the fabric does to their frames are the same."""

    def __init__(self, fabric: Fabric) -> None:
        self.fabric = fabric
        self.ways: list[OneWay] = []
        self.failures: list[Failure] = []
        self.pairs: list[tuple[int, int]] = []
        self.known: dict[Any, Course] = {}
        self.sent: dict[str, Any] = {}
        self.lost: dict[str, Any] = {}
        self.begun: dict[int, set[Any]] = {}
        self.users: dict[int, set[str]] = {}
        self.blocking: Mapping[str, Sequence[Failure]] | None = None
        self.order: list[str] = []
        self.blocks: dict[str, Any] = {}
        self.resting: dict[tuple[str, ...], set[str]] = {}
        self.together: dict[int, Any] = {}
        self.tables: dict[str, Any] = {}
        self.speeds: tuple[tuple[Any, Any], Any, np.ndarray] | None = None
        self.most = 0
        self._by_port: dict[str, list[int]] = {}
        self._ordered = 0, np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
        self._pairs = np.zeros((0, 2), dtype=np.int64)
        self._numbers: tuple[dict[OneWay, int], dict[Failure, int], dict[tuple[int, int], int]] = ({}, {}, {})
        self._variants: dict[tuple[str, str], _Variant] = {}
        self._coming_out: dict[tuple[int, int, tuple[int, ...]], tuple[int, ...]] = {}

    def carried(self, fabric: Fabric, pairings: Pairings, exactly: bool) -> Courses:
        """Those for a fabric after an edit: the same numbers, and the courses of whose frames nothing there is otherwise; all are found anew where each is by the exact search."""
        if _alike(self.fabric, fabric):
            self.fabric = fabric
            return self
        made = Courses(fabric)
        made.ways, made.failures, made.pairs, made._numbers = self.ways, self.failures, self.pairs, self._numbers
        made._coming_out, made._pairs = self._coming_out, self._pairs
        made.order, made.together, made.tables = self.order, self.together, self.tables
        made.blocks, made.resting, made.speeds, made.most = self.blocks, self.resting, self.speeds, self.most
        made._by_port, made._ordered = self._by_port, self._ordered
        made.lost = {**self.sent, **self.lost}
        changed = None if exactly else _changed(self.fabric, fabric, pairings)
        if changed is not None:
            made.begun, made.users = self.begun, self.users
            self._give(made, changed)
        return made

    def _give(self, made: Courses, changed: np.ndarray) -> None:
        """Give on the courses on which a change can't tell, and what was sent over them; what was sent over the others is `lost`."""
        parts = _parts(self.fabric, made.fabric) if self.forest and made.forest else None
        made.known, made.sent, made.lost = dict(self.known), dict(self.sent), dict(self.lost)
        gone: dict[int, Course] = {}
        doubted: set[str] = set()
        for context in np.flatnonzero(changed).tolist():
            for key in self.begun.get(context, ()):
                course = made.known.get(key)
                if course is None or context not in course.contexts:
                    continue
                # In a tree nothing that begins and ends in one part of it goes over what joins that to others.
                if parts is None or len({parts.get(bridge, -1 - bridge) for bridge in course.bridges}) > 1:
                    gone[id(course)] = made.known.pop(key)
                    doubted |= self.users.get(context, set())
        for flow in doubted & made.sent.keys():
            if any(id(course) in gone for course in made.sent[flow].courses):
                made.lost[flow] = made.sent.pop(flow)

    def learn(self, key: Any, course: Course) -> Course:
        """Keep a course."""
        self.known[key] = course
        for context in course.contexts:
            self.begun.setdefault(context, set()).add(key)
        return course

    def used_by(self, flow: str, courses: Iterable[Course]) -> None:
        """Remember who sends over some courses."""
        for course in courses:
            for context in course.contexts:
                self.users.setdefault(context, set()).add(flow)

    def forget_but(self, used: Set[int]) -> None:
        """Forget the courses that aren't among these (by identity)."""
        self.begun = {}
        for key, course in list(self.known.items()):
            del self.known[key]
            if id(course) in used:
                self.learn(key, course)

    @cached_property
    def forest(self) -> bool:
        """Whether no links close a circle."""
        return not leads_round(link.ends for link in self.fabric.links)

    def at(self, way: OneWay) -> int:
        """The number of a direction."""
        count = len(self.ways)
        number = _numbered(self._numbers[0], self.ways, way)
        if number == count:
            self._by_port.setdefault(way.port, []).append(number)
        return number

    def ways_at(self, port: str) -> Sequence[int]:
        """The directions (numbers) that leave or enter a port by its own name."""
        return self._by_port.get(port, ())

    @property
    def ordered_pairs(self) -> tuple[np.ndarray, np.ndarray]:
        """int64[pairs]: the pairs of a failure and a direction by direction, and then by failure; int64[directions that have any]: where in these each direction begins."""
        pairs = self.pair_numbers
        if self._ordered[0] != len(pairs):
            failing, at = pairs.T
            order = np.lexsort((failing, at))
            self._ordered = len(pairs), order, np.flatnonzero(np.r_[True, np.diff(at[order]) != 0])
        return self._ordered[1:]

    def of(self, failure: Failure) -> int:
        """The number of a failure."""
        return _numbered(self._numbers[1], self.failures, failure)

    def number(self, failure: Failure) -> int:
        """The number of a failure, -1 where nothing goes over what fails."""
        return self._numbers[1].get(failure, -1)

    @property
    def pair_numbers(self) -> np.ndarray:
        """int64[pairs, 2]: the failure and the direction of each."""
        if len(self._pairs) < len(self.pairs):
            fresh = np.array(self.pairs[len(self._pairs) :], dtype=np.int64).reshape(-1, 2)
            self._pairs = np.concatenate([self._pairs, fresh])
        return self._pairs

    def pair(self, failure: int, at: int) -> int:
        """The number of a failure and a direction together."""
        return _numbered(self._numbers[2], self.pairs, (failure, at))


def _alike(one: Fabric, two: Fabric) -> bool:
    """Whether two fabrics do the same to every frame, today and whatever fails."""
    if one is two:
        return True
    same = one.laid.keys() == two.laid.keys() and all(one.laid[key] is two.laid[key] for key in two.laid)
    if (
        not same
        or one.pairs != two.pairs
        or any(one.joints[key].cables != two.joints[key].cables for key in two.joints)
    ):
        return False
    # A spanning tree has links that wait, and goes by speeds.
    return one.tree == two.tree and (not two.tree.blocked or one.joints == two.joints)


def _changed(one: Fabric, two: Fabric, pairings: Pairings) -> np.ndarray | None:
    """bool[classes]: those of which frames go otherwise in the second of two fabrics; None: it may be all of them."""
    if one.tree.blocked or two.tree.blocked or one.pairs != two.pairs:
        return None
    differ = [key for key in one.laid.keys() | two.laid.keys() if one.laid.get(key) is not two.laid.get(key)]
    found: np.ndarray | None = None
    for fabric in (one, two):
        for key in (key for key in differ if key in fabric.laid):
            for link in fabric.laid[key].links:
                for side in (0, 1):
                    pairing = pairings(link.rules[side], link.rules[1 - side])
                    if pairing.shifts:
                        return None
                    other = (two if fabric is one else one).laid.get(key, Laid()).links
                    twin = next((k for k in other if k.key == link.key and k.ends == link.ends), None)
                    there = pairings(twin.rules[side], twin.rules[1 - side]).there if twin is not None else -1
                    found = (pairing.there != there) if found is None else found | (pairing.there != there)
    # Cables of a LAG share otherwise, whatever goes over them.
    lags = [key for key in one.joints.keys() & two.joints.keys() if one.joints[key].cables != two.joints[key].cables]
    return None if lags else found


def _parts(one: Fabric, two: Fabric) -> dict[int, int]:
    """The part of a fabric in which each bridge is that has links, as far as these are the same in another fabric: by a bridge that stands for it."""
    part: dict[int, int] = {}
    same = [key for key, laid in two.laid.items() if one.laid.get(key) is laid]
    at: dict[int, list[int]] = {}
    for link in (link for key in same for link in two.laid[key].links):
        for end, other in (link.ends, link.ends[::-1]):
            at.setdefault(end, []).append(other)
    for first in at:
        waiting = [first] if first not in part else []
        while waiting:
            bridge = waiting.pop()
            if bridge not in part:
                part[bridge] = first
                waiting += at[bridge]
    return part


def _numbered(numbers: dict[Any, int], listed: list[Any], what: Any) -> int:
    found = numbers.get(what)
    if found is None:
        found = numbers[what] = len(listed)
        listed.append(what)
    return found


def _key(place: Place) -> Any:
    """What a course is kept by: places that no frame can tell apart are one, but for those at different ports of a switch."""
    stand = place.stand
    if stand.index < 0:
        # Made for the asking, and another one each time.
        return place.record, stand.bridge, stand.label, stand.context, stand.hears
    return (place.record, stand) if stand.block == STATIONS else stand


def exact_alone(wiring: Wiring, pairings: Pairings) -> bool:
    """Whether ways are found by the exact search alone, since frames cross teams or bounce on their way."""
    pairs = {k.rules[::turn] for k in wiring.fabric.links for turn in (1, -1)}
    return bool(wiring.crossing_teams) or any(pairings(*pair).crossed[2] for pair in pairs)


class Look:
    """Finds courses in one wiring; `exactly`: each by the exact search."""

    def __init__(self, wiring: Wiring, pairings: Pairings, courses: Courses, exactly: bool) -> None:
        self.wiring, self.plan, self.pairings, self.courses = wiring, wiring.plan, pairings, courses
        self.exactly = exactly
        self._halves: dict[tuple[Any, bool, frozenset[str]], list[Half]] = {}
        self._roads: dict[Any, Roads] = {}

    def course(self, source: Place, target: Place) -> Course:
        """The course from one place to another."""
        key = _key(source), _key(target)
        found = self.courses.known.get(key)
        if found is None:
            found = self.courses.learn(key, self._find(source, target))
        return found

    def _find(self, source: Place, target: Place) -> Course:
        courses = self.courses
        now = self._amounts(source, target, None)
        changes: list[tuple[float, float, float]] = []
        for failure in self._failures(now, source, target):
            after = self._amounts(source, target, failure)
            number = courses.of(failure)
            for at in now.keys() | after.keys():
                change = (after[at][0] if at in after else 0.0) - (now[at][0] if at in now else 0.0)
                if change:
                    changes.append((courses.pair(number, at), change, (after.get(at) or now[at])[2]))
        starts = {c for half in self._starts(source) for c in half.contexts}
        there = bool(now) or (source.bridge == target.bridge and source.context in target.stand.hears)
        return Course(
            np.array([(at, *values) for at, values in now.items()], dtype=np.float64).reshape(-1, 4),
            np.array(changes, dtype=np.float64).reshape(-1, 3),
            there or self._in_tunnel(source, target),
            frozenset(starts),
            frozenset(self._ends(source)) | frozenset(self._ends(target)),
        )

    def _ends(self, place: Place) -> Iterator[int]:
        """The bridges to which anything leads that could carry what a place sends or gets."""
        own = self.wiring.place(place.stand.over) if place.stand.vni else place
        if own is None or own.context < 0:
            return
        if not self.wiring.bridges[own.bridge].virtual:
            yield own.bridge
        for team in self._teams(own):
            yield from (member.link.ends[1] for member in team.members if member.link is not None)

    def _starts(self, source: Place) -> list[Half]:
        """Over which members what a place sends enters the fabric."""
        own = self.wiring.place(source.stand.over) if source.stand.vni else source
        return self._over(own, True, frozenset()) if own is not None and own.context >= 0 else []

    def _in_tunnel(self, source: Place, target: Place) -> bool:
        """Whether both are in an overlay that one host port carries."""
        own = source.stand.vni
        return bool(own) and (own, source.stand.over) == (target.stand.vni, target.stand.over)

    def _failures(self, now: Mapping[int, Any], source: Place, target: Place) -> Iterable[Failure]:
        """What something goes over today that may fail, and the members over which some of it would go but doesn't get there."""
        found = dict[Failure, None]()
        for number in now:
            found.update(dict.fromkeys(self._failing_at(self.courses.ways[number])))
        for place, sends in ((source, True), (target, False)) if now else ():
            own = self.wiring.place(place.stand.over) if place.stand.vni else place
            for half in self._over(own, sends, frozenset()) if own is not None else ():
                for nic in half.nics:
                    found.update(dict.fromkeys(self._failing_at(OneWay(nic, True))))
        return found

    def _failing_at(self, way: OneWay) -> tuple[Failure, ...]:
        known = self._at_ways.get(way)
        if known is None:
            known = self._at_ways[way] = tuple(dict.fromkeys(self._fails_with(way)))
        return known

    @cached_property
    def _at_ways(self) -> dict[OneWay, tuple[Failure, ...]]:
        return {}

    def _fails_with(self, way: OneWay) -> Iterator[Failure]:
        plan, fabric = self.plan, self.wiring.fabric
        far, cable = self.wiring.far.get(way.port, ("", ""))
        nics = [nic for end in (way.port, far) if (nic := plan.of("nic").get(end)) is not None]
        ports = [port for end in (way.port, far) if (port := plan.of("fabric_port").get(end)) is not None]
        for nic in nics:
            yield Failure("nic", nic.id)
            if nic.card and sum(other.card == nic.card for other in plan.where("nic", "host", nic.host)) > 1:
                yield Failure("card", nic.host, nic.card)
        yield from (Failure("fabric_switch", port.switch) for port in ports)
        if len(ports) == 2:
            yield Failure("cable", cable)
            joint = fabric.joints.get(fabric.joint_of.get(cable, ""))
            if joint is not None and len(joint.cables) > 1:
                yield Failure("lag", joint.key)
            yield from self._blocking.get(joint.key if joint is not None else "", ())

    @property
    def _blocking(self) -> Mapping[str, Sequence[Failure]]:
        """What fails so that the spanning tree blocks a link that carries now, by the link's key: frames that go over it go otherwise, though nothing of theirs has failed."""
        if self.courses.blocking is None:
            self.courses.blocking = self._find_blocking()
        return self.courses.blocking

    def _find_blocking(self) -> dict[str, list[Failure]]:
        fabric, switches = self.wiring.fabric, self.plan.of("fabric_switch")
        found: dict[str, list[Failure]] = {}
        if not fabric.tree.blocked:
            return found
        inside = [j for j in fabric.joints.values() if j.ends[0] != j.ends[1]]
        inside = [j for j in inside if all(switches[end].spanning_tree for end in j.ends)]
        gone: dict[Failure, set[str]] = {Failure("cable", cable): {cable} for j in inside for cable in j.cables}
        gone.update((Failure("lag", j.key), set(j.cables)) for j in inside if len(j.cables) > 1)
        for joint in inside:
            for end in joint.ends:
                gone.setdefault(Failure("fabric_switch", end), set()).update(joint.cables)
        for failure, cables in gone.items():
            left = [left for j in inside if (left := _without(j, cables)) is not None]
            tree = spanning_tree(switches, left, fabric.pairs)
            for key in tree.blocked:
                own = fabric.joint_of[key]
                if own not in fabric.tree.blocked:
                    found.setdefault(own, []).append(failure)
        return found

    def _amounts(self, source: Place, target: Place, failure: Failure | None) -> dict[int, list[float]]:
        """By direction: the share, the most, the bytes of tags; nothing where it doesn't get there, or needs no cable."""
        found: dict[int, list[float]] = {}
        if source.stand.vni and source.context >= 0:
            # What an overlay carries goes from host port to host port.
            near, far = (self.wiring.place(p.stand.over) if p.stand.vni else None for p in (source, target))
            if near is None or far is None or near.record == far.record or source.stand.vni != target.stand.vni:
                return found
            return self._amounts(near, far, failure)
        virtual = self.wiring.bridges[source.bridge].virtual if source.context >= 0 else True
        if source.context < 0 or target.rule is None or (source.bridge == target.bridge and virtual):
            return found
        variant = self._variant(failure)
        if variant.switch in (source.bridge, target.bridge):
            return found
        lost = variant.lost | self._lost(failure)
        into = self._over(target, False, lost)
        several = len({half.bridge for half in into}) > 1 and all(half.spreads for half in into)
        for near_half in self._over(source, True, lost):
            ways = [(half, self._way(source, near_half, target, half, variant, lost)) for half in into]
            there = [(half, steps) for half, steps in ways if steps is not None]
            if several and there:
                # Of a LAG of two switches, what comes to one of them goes on over its own port.
                least = min(len(steps) for _, steps in there)
                there = [(half, steps) for half, steps in there if len(steps) == least]
            whole = sum(half.share for half, _ in there) if several else 1.0
            for half, steps in there:
                share = near_half.share * half.share / whole
                for at, part, tags in (*near_half.steps, *steps, *half.steps):
                    own = found.get(at)
                    if own is None:
                        found[at] = [share * part, 1.0, tags]
                    else:
                        own[0] += share * part
                        own[2] = max(own[2], tags)
        return found

    def _over(self, place: Place, sends: bool, lost: frozenset[str]) -> list[Half]:
        """Over which members a place's frames go, or come."""
        key = _key(place), sends
        usual = self._halves.get((*key, frozenset()))
        if usual is None:
            usual = self._halves[*key, frozenset()] = list(self._find_over(place, sends, frozenset()))
        touched = lost.intersection(nic for half in usual for nic in half.nics)
        if not touched:
            return usual
        if len(touched) < len(lost):
            # Whoever takes over may be among those that fail, too.
            touched = lost.intersection(m.nic.id for t in self._teams(place) for m in t.members)
        found = self._halves.get((*key, touched))
        if found is None:
            found = self._halves[*key, touched] = list(self._find_over(place, sends, touched))
        return found

    def _teams(self, place: Place) -> list[Team]:
        return self.wiring.teams_at(place.bridge, place.stand.order)

    def _find_over(self, place: Place, sends: bool, lost: frozenset[str]) -> Iterator[Half]:
        stand = place.stand
        if not self.wiring.bridges[place.bridge].virtual:
            card = self.wiring.bridges[place.bridge].id
            if card in lost:
                # A virtual function goes with its NIC.
                return
            record = self.plan.find(place.record, ("station_port", "way_in"))
            tags = TAG if place.label else 0
            port = getattr(record, "port", "")
            steps: tuple[Step, ...] = (Step(self.courses.at(OneWay(port, not sends)), 1.0, tags),) if port else ()
            nics = (card,) if card in self.plan.of("nic") else ()
            yield Half(1.0, steps, place.bridge, (place.context,) if sends else stand.hears, nics, False)
            return
        if self.exactly:
            yield from self._every_way(place, lost)
            return
        members = [(m, team.mode) for team in self._teams(place) for m in carrying(self.wiring, team, lost)]
        for member, mode in members:
            link = member.link
            assert link is not None
            out, into = link.rules
            spreads = mode in ("lacp", "hashed")
            if sends:
                label = int(out.out[place.context])
                context = int(into.into[label]) if label >= 0 else -1
                contexts: tuple[int, ...] = (context,) if context >= 0 else ()
            else:
                contexts = self._comes_out(link, stand.hears)
                label = int(into.out[contexts[0]]) if contexts else -1
            steps = tuple(self._passed(link, 0 if sends else 1, label, self._variant(None))) if contexts else ()
            yield Half(1 / len(members), steps, link.ends[1], contexts, (member.nic.id,), spreads, (member,))

    def _every_way(self, place: Place, lost: frozenset[str]) -> Iterator[Half]:
        """What each team of a place's switch may send over, together, where the exact search says by which of them a frame goes; the steps are those of its way."""
        teams = self._teams(place)
        carried = [found for team in teams if (found := carrying(self.wiring, team, lost))]
        for members in product(*carried):
            bridges = {m.link.ends[1] for m in members if m.link is not None}
            spreads = len(teams) == 1 and teams[0].mode in ("lacp", "hashed")
            share = 1 / prod(len(found) for found in carried)
            nics = tuple(member.nic.id for member in members)
            yield Half(share, (), bridges.pop() if len(bridges) == 1 else -1, (), nics, spreads, members)

    def _comes_out(self, link: Link, hears: tuple[int, ...]) -> tuple[int, ...]:
        """The contexts behind a member whose frames come out to whoever hears some contexts."""
        key = (link.rules[0].number, link.rules[1].number, hears)
        found = self.courses._coming_out.get(key)
        if found is None:
            back = self.pairings(link.rules[1], link.rules[0]).there
            found = tuple(np.flatnonzero(np.isin(back, hears) & (back >= 0)).tolist())
            self.courses._coming_out[key] = found
        return found

    def _way(
        self, source: Place, near: Half, target: Place, far: Half, variant: _Variant, lost: frozenset[str]
    ) -> tuple[Step, ...] | None:
        """The steps through the fabric from one member to another; None: it doesn't get there."""
        if self.exactly:
            return self._exact(source, near, target, far, variant, lost)
        if not near.contexts or not far.contexts:
            return None
        context = near.contexts[0]
        plain, stands_for = variant.alike
        alike = int(stands_for[context])
        best: tuple[Step, ...] | None = None
        for end in far.contexts:
            # Contexts that all links pass alike are searched as one; these never become another.
            if plain[context]:
                if end != context:
                    continue
                end = alike
            way = self._through(variant, (near.bridge, alike), (far.bridge, end))
            if way is not None and (best is None or len(way) < len(best)):
                best = way
        return best

    def _told_apart(self, fabric: Fabric) -> tuple[np.ndarray, np.ndarray]:
        """bool[classes]: those that never become another one within a fabric, and int64[classes]: the context that stands for each there: one that passes every link
        as it does, with a tag where it has one; itself where it changes."""
        count = self.wiring.classes.count
        numbers = np.arange(count)
        rows = [np.zeros(count, dtype=np.int8)]
        plain = np.ones(count, dtype=bool)
        for near, far in {link.rules[::turn] for link in fabric.links for turn in (1, -1)}:
            there = self.pairings(near, far).there
            plain &= (there < 0) | (there == numbers)
            rows.append(np.where(there < 0, 0, np.where(near.out == 0, 1, 2)).astype(np.int8))
        _, first, group = np.unique(np.stack(rows), axis=1, return_index=True, return_inverse=True)
        return plain, np.where(plain, first[group.ravel()], numbers)

    def _through(self, variant: _Variant, start: tuple[int, int], end: tuple[int, int]) -> tuple[Step, ...] | None:
        """The way through a fabric from one (bridge, context) to another."""
        if start == end:
            return ()
        key = start, end
        if key not in variant.ways:
            searched = variant.whole or variant
            tree = searched.trees.get(start)
            if tree is None:
                tree = searched.trees[start] = _Tree({}, deque([start]))
            self._grow(searched, tree, start, end)
            variant.ways[key] = self._walked(variant, tree.came, start, end)
        return variant.ways[key]

    @staticmethod
    def _grow(variant: _Variant, tree: _Tree, start: tuple[int, int], end: tuple[int, int]) -> None:
        """Search on from a (bridge, context), breadth first, until another one is reached, or all is."""
        came, waiting, at, barred = tree.came, tree.waiting, variant.fabric.at, variant.fabric.barred
        while waiting and end not in came:
            here = waiting.popleft()
            bridge, context = here
            for link in at.get(bridge, ()):
                if barred and here in came and came[here][1].key in barred.get(link.key, ()):
                    continue
                side = 0 if link.ends[0] == bridge else 1
                label = int(link.rules[side].out[context])
                after = int(link.rules[1 - side].into[label]) if label >= 0 else -1
                if after < 0 or link.ends[1 - side] == variant.switch:
                    continue
                there = link.ends[1 - side], after
                if there != start and there not in came:
                    came[there] = here, link, side, label
                    waiting.append(there)

    def _walked(
        self, variant: _Variant, tree: Mapping[Any, Any], start: tuple[int, int], end: tuple[int, int]
    ) -> tuple[Step, ...] | None:
        if end not in tree:
            return None
        steps: list[list[Step]] = []
        while end != start:
            end, link, side, label = tree[end]
            if link in variant.cut or variant.switch in link.ends:
                return None
            steps.append(self._passed(link, side, label, variant))
        return tuple(step for listed in reversed(steps) for step in listed)

    def _exact(
        self, source: Place, near: Half, target: Place, far: Half, variant: _Variant, lost: frozenset[str]
    ) -> tuple[Step, ...] | None:
        """The same by the exact search, with these members carrying, and the steps on their own cables."""
        choice = {}
        for place, half in ((source, near), (target, far)):
            for team in self._teams(place) if half.members else ():
                member = next((m for m in half.members if m in team.members), None)
                if member is not None:
                    choice[team.key] = member.key
        key = (id(variant), lost, tuple(sorted(choice.items())))
        roads = self._roads.get(key)
        if roads is None:
            same = variant.fabric is self.wiring.fabric
            wiring = self.wiring if same else replace(self.wiring, fabric=variant.fabric)
            roads = self._roads[key] = Roads(wiring, State(choice, lost))
        steps = roads.way(source, target)
        if steps is None:
            return None
        return tuple(own for step in steps for own in self._passed(step.link, step.side, step.label, variant))

    def _passed(self, link: Link, side: int, label: int, variant: _Variant) -> list[Step]:
        """The directions over which a frame goes by a link, each with its share."""
        tags = TAG if label > 0 else 0
        at, nics = self.courses.at, self.plan.of("nic")
        near, far = (records[-1] if records else "" for records in (link.records[side], link.records[1 - side]))
        if link.cable is None:
            # Within a host nothing goes over a cable; behind a NIC without one is an assumed fabric.
            if near in nics and far:
                return [Step(at(OneWay(near, True)), 1.0, tags)]
            return [Step(at(OneWay(far, False)), 1.0, tags)] if near and far in nics else []
        joint = variant.fabric.joints.get(variant.fabric.joint_of.get(link.cable, ""))
        if joint is None or near in nics or far in nics or len(joint.cables) == 1 or link in self._single:
            # In the middle of a cable between two hosts it has been counted.
            return [Step(at(OneWay(near, True)), 1.0, tags)] if near else []
        own = 0 if any(port.id == near for port in joint.ports[0]) else 1
        ports = [p.id for p, cable in zip(joint.ports[own], joint.cables, strict=True) if cable not in variant.gone]
        return [Step(at(OneWay(port, True)), 1 / len(ports), tags) for port in ports]

    @cached_property
    def _single(self) -> frozenset[Link]:
        """The links over single cables of LAGs whose cables differ."""
        members = (m for team in self.wiring.fabric.teams for m in team.members)
        return frozenset(m.link for m in members if m.link is not None)

    def _lost(self, failure: Failure | None) -> frozenset[str]:
        """The NICs that fail with something, those behind a switch aside."""
        if failure is None or failure.kind not in ("nic", "card"):
            return frozenset()
        if failure.kind == "nic":
            return frozenset((failure.id,))
        nics = self.plan.where("nic", "host", failure.id)
        return frozenset(nic.id for nic in nics if nic.card == failure.card)

    def _variant(self, failure: Failure | None) -> _Variant:
        """The fabric without something."""
        of_fabric = failure is not None and failure.kind not in ("nic", "card")
        key = (failure.kind, failure.id) if failure is not None and of_fabric else ("", "")
        found = self.courses._variants.get(key)
        if found is None:
            found = self.courses._variants[key] = self._make(failure if of_fabric else None)
        return found

    def _make(self, failure: Failure | None) -> _Variant:
        fabric, plan = self.wiring.fabric, self.plan
        if failure is None:
            return _Variant(fabric, self._told_apart(fabric))
        lost, switch = frozenset[str](), -1
        if failure.kind == "cable":
            gone = [failure.id]
        elif failure.kind == "lag":
            gone = list(fabric.joints[failure.id].cables)
        else:
            gone = [c for joint in fabric.joints.values() if failure.id in joint.ends for c in joint.cables]
            ports = plan.where("fabric_port", "switch", failure.id)
            ends = (self.wiring.far.get(port.id, ("", ""))[0] for port in ports)
            lost = frozenset(end for end in ends if end in plan.of("nic"))
            switch = self.wiring.bridge_of[failure.id].number
        if fabric.tree.blocked and gone:
            # What was blocked may carry then.
            edit = tuple(Drop("cable", id) for id in gone)
            other = rewire(self.wiring, apply_edit(plan, edit)[0], touched(edit)).fabric
            return _Variant(other, self._told_apart(other), frozenset(gone), lost, switch)
        laid, base = dict(fabric.laid), self._variant(None)
        cut: set[Link] = set()
        for key in {fabric.joint_of[id] for id in gone if id in fabric.joint_of}:
            if set(fabric.joints[key].cables) <= set(gone):
                cut.update(laid[key].links)
                laid[key] = Laid()
        whole = base if self.courses.forest and not self.exactly else None
        left = fabric if whole is not None else replace(fabric, laid=laid)
        return _Variant(left, base.alike, frozenset(gone), lost, switch, frozenset(cut), whole)


def _without(joint: Joint, gone: Set[str]) -> Joint | None:
    """A link between switches without some cables; None: nothing of it is left."""
    if gone.isdisjoint(joint.cables):
        return joint
    left = [n for n, cable in enumerate(joint.cables) if cable not in gone]
    if not left:
        return None
    one, two = (tuple(ports[n] for n in left) for ports in joint.ports)
    return Joint(joint.ends, tuple(joint.cables[n] for n in left), (one, two), joint.lags)


def carrying(wiring: Wiring, team: Team, lost: frozenset[str] = frozenset()) -> list[Member]:
    """The members of a team that carry at the same time."""
    well = [m for m in team.members[: team.usable] if not m.one_way and m.link is not None and m.nic.id not in lost]
    if not well or team.mode == "standby":
        return well[:1]
    if team.mode == "lacp" and not any(_negotiates(wiring, m) for m in well):
        # Whoever finds no partner carries alone (IEEE 802.1AX clause 6.4).
        return well[:1]
    orders = wiring.plan.where("group_order", "port_group", team.order) if team.order else ()
    roles = {order.nic: order.role for order in orders}
    active = [m for m in well if roles.get(m.nic.id, getattr(m.nic, "role", "active")) == "active"]
    return active or well[:1]


def _negotiates(wiring: Wiring, member: Member) -> bool:
    port = wiring.port_behind(member.nic.id)
    lag = wiring.plan.of("lag").get(port.lag) if port is not None else None
    return lag is not None and bool(lag.lacp)


def speed_of(plan: Plan, wiring: Wiring, way: OneWay) -> int | None:
    """The Mbit/s that a direction carries: the least that its ends say; None: neither does."""
    ends = (way.port, wiring.far.get(way.port, ("", ""))[0])
    records = (plan.of("nic").get(end) or plan.of("fabric_port").get(end) for end in ends)
    return min((record.speed for record in records if record is not None and record.speed), default=None)


def host_of_way(plan: Plan, wiring: Wiring, way: OneWay) -> str | None:
    """The host (id) whose NIC a direction leaves or enters; None between switches and stations."""
    for end in (way.port, wiring.far.get(way.port, ("", ""))[0]):
        nic = plan.of("nic").get(end)
        if isinstance(nic, Nic):
            return nic.host
    return None

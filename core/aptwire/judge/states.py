"""Third stage of the judge: every state, today's ways and each single team carried by another member; one verdict a stand.

Segments are judged by themselves: whoever asks for some of them is told of their stands alone.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from aptwire.forward.domains import Domains, solve
from aptwire.forward.parts import NOW, Stand, State
from aptwire.forward.paths import Roads
from aptwire.judge.gates import Gate, Gates
from aptwire.judge.landing import EACH_VNI, LOCAL, Landing
from aptwire.judge.why import (
    ASTRAY,
    CUT_OFF,
    NO_GROUP,
    NO_INTENT,
    OPEN_END,
    STRANDED,
    UNPROVEN,
    WAVERING,
    WRONG_TAG,
    Cause,
)


@dataclass(frozen=True)
class StandVerdicts:
    """The verdict of each of some stands, `status` int8[all stands] (0 for the others), and why it isn't home."""

    status: np.ndarray
    causes: Mapping[Stand, Cause]


@dataclass(frozen=True)
class Need:
    """What a segment's stands must reach: any of the groups, or one of the contexts of a switch in `beside`; `place` stands
    for it (empty: nobody in particular)."""

    groups: list[int]
    place: str
    beside: tuple[int, ...] = ()


@dataclass(frozen=True)
class Runs:
    """Stands on their own tags, sorted by segment and group, as runs of one group.

    `order` are their places among the stands asked about, `run_of` the run of each; `start`, `weight`, `segment` (a number
    among those here) and `top` (whether none of the segment is larger) of each run; `first` (run), `number`, `total` weight and `tied`
    (whether several are the largest) of each segment.
    """

    order: np.ndarray
    run_of: np.ndarray
    start: np.ndarray
    weight: np.ndarray
    segment: np.ndarray
    top: np.ndarray
    first: np.ndarray
    number: np.ndarray
    total: np.ndarray
    tied: np.ndarray


@dataclass(frozen=True)
class JudgedState:
    """A state in which `stands` int[n] are judged: the row that carries each (`chosen` int[n]) and its `group` int[n]; `usual` int[all stands] the
    group in which each speaks if nothing else is said (None: in today's)."""

    stands: np.ndarray
    chosen: np.ndarray
    group: np.ndarray
    state: State
    landing: Landing
    domains: Domains
    usual: np.ndarray | None = None

    @cached_property
    def today(self) -> np.ndarray:
        """int64[all stands]: the group in which each speaks if nothing else is said; few ask."""
        found: np.ndarray = self.landing.rows.group[self.landing.first] if self.usual is None else self.usual
        return found


class Shift(NamedTuple):
    """A stand that another member carries into another group, on another tag, or into an open end; `before` and `after` its groups, -1 where it is
    on a wrong tag."""

    stand: int
    weight: int
    before: int
    after: int
    open: bool


def judge_states(landing: Landing, gates: Gates, stands: np.ndarray) -> StandVerdicts:
    """How some stands fare in all states; `stands` int64[n], ascending, are all those of the segments to which they belong."""
    return States(landing, gates, stands).judged()


class States:
    """What each stand fares in the states; its verdict is the gravest, or wavering where some state is right."""

    def __init__(self, landing: Landing, gates: Gates, stands: np.ndarray) -> None:
        self.landing, self.gates, self.asked = landing, gates, stands
        self.wiring, self.rows, self.ways = landing.wiring, landing.rows, landing.ways
        self.segment, self.weight = landing.columns.segment, landing.columns.weight
        self.stands, self.first = landing.stands, landing.first
        self.fine = np.zeros(len(self.stands), dtype=bool)
        self.worst = np.zeros(len(self.stands), dtype=np.int8)
        self.causes: dict[int, dict[int, Cause]] = {}
        self.apart = Apart(landing)

    def judged(self) -> StandVerdicts:
        """The verdict of each."""
        today = self._now()
        self._own_ways(today)
        self._crossing()
        return self._told()

    def _told(self) -> StandVerdicts:
        status = self.worst.copy()
        wavers = self.fine & (self.worst >= STRANDED)
        status[wavers] = WAVERING
        causes = {
            self.stands[n]: of[max(of) if status[n] == WAVERING else int(status[n])] for n, of in self.causes.items()
        }
        return StandVerdicts(status, causes)

    def _note(self, stand: int, status: int, cause: Cause) -> None:
        self.worst[stand] = max(self.worst[stand], status)
        self.causes.setdefault(stand, {}).setdefault(status, cause)

    def _now(self) -> Runs | None:
        """Judge today's ways."""
        asked, rows = self.asked, self.rows
        first = self.first[asked]
        right = rows.right[first]
        for at in np.flatnonzero(~right).tolist():
            self._misplaced(int(asked[at]), int(first[at]), NOW)
        runs = self._runs(rows.group[first], asked, np.flatnonzero(right)) if right.any() else None
        self._state(JudgedState(asked, first, rows.group[first], NOW, self.landing, self.landing.domains), runs)
        return runs

    def _misplaced(self, stand: int, row: int, state: State) -> None:
        """A stand that lands on no tag of its own segment over this row."""
        if self.segment[stand] < 0:
            self._note(stand, UNPROVEN, Cause(NO_INTENT, state))
        elif self.stands[stand].rule is None:
            self._note(stand, ASTRAY, Cause(NO_GROUP, state))
        elif self.ways.open[row] and self.stands[stand].context == 0:
            self._note(stand, UNPROVEN, Cause(OPEN_END, state))
        else:
            self._note(stand, ASTRAY, Cause(WRONG_TAG, state))

    def _state(self, now: JudgedState, runs: Runs | None = None) -> None:
        """Judge the stands that are on their own tag in one state; `runs`: if they are known."""
        stands, chosen, group = now.stands, now.chosen, now.group
        ok = np.zeros(stands.size, dtype=bool)
        inside = np.flatnonzero(self.rows.right[chosen])
        if not inside.size:
            return
        runs = runs or self._runs(group, stands, inside)
        order, total, tied = runs.order, runs.total, runs.tied
        ok[order] = (runs.top & ~tied[runs.segment])[runs.run_of]
        # Most segments hang together, and where nobody is cut off there is nothing more to ask.
        run_stop = np.append(runs.start[1:], order.size)
        ends = [*runs.start[runs.first][1:].tolist(), order.size]
        count = np.diff([*runs.first.tolist(), runs.start.size])
        special = np.array([self._special(n) for n in runs.number.tolist()], dtype=bool)
        for at in np.flatnonzero((count > 1) | special | (total == 1)).tolist():
            of = order[runs.start[runs.first[at]] : ends[at]]
            segment = int(runs.number[at])
            if segment in self.landing.private_segments:
                self._private_state(now, segment, of, ok)
                continue
            if segment in self.landing.routed_segments and self.weight[stands[of]].sum() > 1:
                self._routed_state(now, segment, of, ok)
                continue
            if not special[at] and total[at] > 1:
                if self._in_one_switch(stands[of]):
                    # Team orders of their own may take them different ways; within their switch all of it meet all the same.
                    ok[of] = True
                    continue
                # Its largest group is all that it must reach, and which that is was counted above.
                own = slice(runs.first[at], runs.first[at] + count[at])
                starts, stops = runs.start[own], run_stop[own]
                main = int(np.argmax(runs.weight[own])) if not tied[at] else -1
                kept = order[starts[main] : stops[main]] if main >= 0 else order[:0]
                need = Need([int(group[kept[0]])], self._someone(stands[kept])) if main >= 0 else Need([], "")
                for n in range(int(count[at])):
                    if n != main:
                        bad = order[starts[n] : stops[n]]
                        self._cut_off(now, bad, int(group[bad[0]]), of, need)
                continue
            needs = self._needs(segment, stands[of], group[of], now)
            if needs is None:
                ok[of] = self._alone(now, int(of[0]))
                continue
            # Team orders of their own may take two neighbours different ways; within their switch they meet all the same.
            beside = self.landing.local(stands[of])
            met = np.array([_among(group[of], need.groups) | _among(beside, need.beside) for need in needs])
            good: np.ndarray = np.asarray(met.all(axis=0))
            if special[at]:
                good = self._with_peers(now, of, good)
            ok[of] = good
            lost = np.flatnonzero(~met.all(axis=0))
            for mine in np.unique(group[of[lost]]).tolist() if lost.size else ():
                bad = lost[group[of[lost]] == mine]
                need = needs[int(np.flatnonzero(~met[:, bad[0]])[0])]
                self._cut_off(now, of[bad], mine, of, need)
        self.fine[stands[ok]] = True

    def _in_one_switch(self, stands: np.ndarray) -> bool:
        """Whether some stands all hear each other within one switch."""
        bridge = self.landing.columns.bridge
        if bridge[stands[0]] != bridge[stands[-1]]:
            return False
        near = self.landing.local(stands)
        return bool((near == near[0]).all())

    def _with_peers(self, now: JudgedState, of: np.ndarray, good: np.ndarray) -> np.ndarray:
        """Who of those that reach their gateway meets the peers that do: a gateway on each half of a segment makes no whole of it."""
        groups = now.group[of]
        found, weights = np.unique(groups[good], return_inverse=True)
        if found.size < 2 or self._in_one_switch(now.stands[of[good]]):
            return good
        weights = np.bincount(weights, weights=self.weight[now.stands[of[good]]])
        top = np.flatnonzero(weights == weights.max())
        main = int(found[top[0]]) if top.size == 1 else -1
        kept = of[good & (groups == main)]
        need = Need([main] if main >= 0 else [], self._someone(now.stands[kept]) if kept.size else "")
        # Team orders of their own may take two neighbours different ways; within their switch they meet all the same.
        near = self.landing.local(now.stands[of])
        met: np.ndarray = good & ((groups == main) | np.isin(near, self.landing.local(now.stands[kept])))
        for mine in found.tolist():
            apart = good & ~met & (groups == mine)
            if apart.any():
                self._cut_off(now, of[apart], int(mine), of, need)
        return met

    def _special(self, segment: int) -> bool:
        """Whether there is more to ask of a segment's stands than which group is the largest."""
        landing = self.landing
        return segment in self.gates.borne or segment in landing.private_segments or segment in landing.routed_segments

    def _runs(self, group: np.ndarray, stands: np.ndarray, inside: np.ndarray) -> Runs:
        """The runs of those of `stands` that are `inside`; `group` int[stands] is the group of each."""
        order = inside[np.lexsort((group[inside], self.segment[stands[inside]]))]
        segments, grouped = self.segment[stands[order]], group[order]
        fresh_segment = np.r_[True, segments[1:] != segments[:-1]]
        fresh = fresh_segment | np.r_[True, grouped[1:] != grouped[:-1]]
        start = np.flatnonzero(fresh)
        weight = np.add.reduceat(self.weight[stands[order]].astype(np.int64), start)
        segment = np.cumsum(fresh_segment)[start] - 1
        first = np.flatnonzero(fresh_segment[start])
        top = weight == np.maximum.reduceat(weight, first)[segment]
        return Runs(
            order,
            np.cumsum(fresh) - 1,
            start,
            weight,
            segment,
            top,
            first,
            segments[start[first]],
            np.add.reduceat(weight, first),
            np.add.reduceat(top.astype(np.int64), first) > 1,
        )

    def _gate_need(self, gate: Gate, at: dict[int, int], now: JudgedState) -> Need:
        """What it takes to reach a gateway; `at` are the groups of the segment's stands that are on their own tag."""
        number = self.landing.number
        at = at | {n: int(now.today[n]) for n in map(number, gate.unsaid)}
        here = [(number(stand), record) for stand, record in gate.awake if number(stand) in at]
        groups = {at[n] for n, _ in here} | gate.comes_in(now.domains)
        stands_for = next((record for _, record in here), gate.bearer)
        return Need(sorted(groups), stands_for, tuple(self.landing.near(n) for n, _ in here))

    def _needs(self, segment: int, stands: np.ndarray, group: np.ndarray, now: JudgedState) -> list[Need] | None:
        """What the stands of a segment must reach: each of its gateways, or else its largest group.

        `group` is sorted.  None: the segment has this one place only and nothing to reach but the fabric.  A need
        without groups: no group is the largest.
        """
        if segment in self.gates.borne:
            at = {int(s): int(g) for s, g in zip(stands, group, strict=True)}
            return [self._gate_need(gate, at, now) for gate in self.gates.borne[segment]]
        if int(self.weight[stands].sum()) == 1:
            return None
        starts = np.flatnonzero(np.r_[True, group[1:] != group[:-1]])
        counts = np.add.reduceat(self.weight[stands], starts)
        top = np.flatnonzero(counts == counts.max())
        if top.size > 1:
            return [Need([], "")]
        main = int(group[starts[top[0]]])
        return [Need([main], self._someone(stands[group == main]))]

    def _someone(self, stands: np.ndarray) -> str:
        """A place that stands for some stands: the first of the first one."""
        return self.stands[int(stands.min())].records[0]

    def _alone(self, now: JudgedState, at: int) -> bool:
        """The only place of a segment without gateway: its tag must get into the fabric, if its switch is wired."""
        number = int(now.stands[at])
        stand = self.stands[number]
        if stand.bridge >= 0 and not self.wiring.bridges[stand.bridge].virtual:
            return True
        inside = int(now.group[at]) - stand.vni * EACH_VNI < LOCAL
        if inside or not self.wiring.teams_at(stand.bridge, stand.order):
            return True
        if self.ways.open[now.chosen[at]]:
            self._note(number, UNPROVEN, Cause(OPEN_END, now.state))
        else:
            self._note(number, STRANDED, Cause(CUT_OFF, now.state))
        return False

    def _cut_off(self, now: JudgedState, lost: np.ndarray, mine: int, of: np.ndarray, need: Need) -> None:
        """Stands of a segment that are in one group and miss what they need."""
        group = now.group
        nic_open = set(group[of[self.ways.open[now.chosen[of]]]].tolist())
        others = need.groups or [g for g in np.unique(group[of]).tolist() if g != mine]
        towards = need.place
        if not towards:
            elsewhere = of[group[of] != mine]
            towards = self._someone(now.stands[elsewhere]) if elsewhere.size else ""
        self._lost(now.stands[lost].tolist(), mine, others, nic_open, towards, now.state, now.domains)

    def _lost(
        self,
        lost: list[int],
        mine: int,
        others: list[int],
        nic_open: set[int],
        towards: str,
        state: State,
        domains: Domains,
    ) -> None:
        """Stands in one group that miss others; `nic_open` are the groups of the segment from which some NIC leads nobody knows where."""

        def leaky(g: int) -> bool:
            return g in nic_open or g % EACH_VNI in domains.open

        unknown = mine in nic_open or any(o in nic_open for o in others)
        unknown = unknown or (leaky(mine) and any(leaky(o) for o in others))
        status, cause = (UNPROVEN, OPEN_END) if unknown else (STRANDED, CUT_OFF)
        for number in lost:
            self._note(number, status, Cause(cause, state, towards))

    def _borne(self, now: JudgedState, segment: int, of: np.ndarray) -> list[tuple[list[int], Gate]]:
        """For each gateway address of a segment, those of its stands that bear it: it is enough to reach one of them."""
        at = {int(now.stands[a]): int(a) for a in of}
        number = self.landing.number
        return [
            ([at[number(s)] for s, _ in gate.awake if number(s) in at], gate)
            for gate in self.gates.borne.get(segment, ())
        ]

    def _private_state(self, now: JudgedState, segment: int, of: np.ndarray, ok: np.ndarray) -> None:
        """A segment with a private VLAN: each must hear, and be heard by, its gateways; without any, all the promiscuous ports,
        and a community its own members (RFC 5517 section 3)."""
        landing, context = self.landing, self.landing.columns.context
        numbers = {int(a): int(now.stands[a]) for a in of}
        speaks = {a: int(now.group[a]) for a in numbers}
        hears = {a: landing.hearing(int(now.chosen[a]), speaks[a], now.domains) for a in numbers}
        reaches = {a: landing.reached_from(number, speaks[a], now.domains) for a, number in numbers.items()}

        def both_ways(a: int, stand: int, heard: set[int], reached: set[int]) -> bool:
            open_ = not heard.isdisjoint(reaches[a]) and not hears[a].isdisjoint(reached)
            return (open_ or beside(a, stand)) and not self.apart.kept(numbers[a], stand)

        def beside(a: int, stand: int) -> bool:
            """Whether both sit in one switch, within which they hear each other whatever its uplink's far end makes of their frames."""
            one, two = self.stands[numbers[a]], self.stands[stand]
            return one.bridge == two.bridge >= 0 and one.context in two.hears and two.context in one.hears

        def meet(a: int, b: int) -> bool:
            return both_ways(a, numbers[b], hears[b], reaches[b])

        def unsaid(a: int, stand: int) -> bool:
            group = int(now.today[stand])
            heard = landing.hearing(int(self.first[stand]), group, now.domains)
            return both_ways(a, stand, heard, landing.reached_from(stand, group, now.domains))

        def comes_in(a: int, gate: Gate) -> bool:
            inside = gate.comes_in(now.domains)
            return not inside.isdisjoint(hears[a]) and not inside.isdisjoint(reaches[a])

        def together(bearers: list[int]) -> list[int]:
            """Of several that bear one address those that meet the one whom most meet: a gateway on each half of a segment makes no whole of it, unless
            it is meant to be apart but for its gateways."""
            if len(bearers) < 2 or meant:
                return bearers
            met = {b: sum(int(self.weight[n]) for a, n in numbers.items() if a == b or meet(a, b)) for b in bearers}
            first, *others = (b for b in bearers if met[b] == max(met.values()))
            if not all(meet(other, first) for other in others):
                return []
            return [b for b in bearers if b == first or meet(b, first)]

        meant = any(landing.meant(number) for number in numbers.values())
        gates = [(together(bearers), bearers, gate) for bearers, gate in self._borne(now, segment, of)]
        promiscuous = [[a] for a, number in numbers.items() if landing.wide(number)]
        communities: dict[int, list[list[int]]] = {}
        for a, number in numbers.items():
            if not landing.narrow(number):
                communities.setdefault(int(context[number]), []).append([a])
        for a, number in numbers.items():
            peers = [*promiscuous, *communities.get(int(context[number]), ())]
            if not peers and landing.stray(number):
                peers = [[b] for b in numbers if b != a]
            # Those of whom one is enough, and all whom it could have been.
            musts: list[tuple[list[int], list[int], Gate | None]]
            musts = [*gates] if gates else [(peer, peer, None) for peer in peers]
            missed = [
                (m, every, gate)
                for m, every, gate in musts
                if a not in m
                and not any(meet(a, b) for b in m)
                and not (gate and comes_in(a, gate))
                and not (gate and any(unsaid(a, landing.number(stand)) for stand in gate.unsaid))
            ]
            ok[a] = not missed
            told: list[tuple[bool, str]] = []
            for others, every, gate in missed:
                # Where no bearer counts more than another, one misses the others.
                ends = others or [b for b in every if b != a]
                towards = self.stands[numbers[ends[0]]].records[0] if ends else gate.bearer if gate else ""
                # One of several that bear a gateway is enough, so that each may be the one beyond an open end.
                told.append((any(bool(self.ways.open[now.chosen[end]]) for end in (a, *others)), towards))
            if told:
                # Whom it surely misses weighs more than whom it may reach beyond an open end.
                open_, towards = min(told)
                cause = Cause(OPEN_END if open_ else CUT_OFF, now.state, towards)
                self._note(number, UNPROVEN if open_ else STRANDED, cause)

    def _routed_state(self, now: JudgedState, segment: int, of: np.ndarray, ok: np.ndarray) -> None:
        """An overlay of which some tunnels go over routers: each must reach its gateways; without any, its largest group.

        Who has no gateway reaches those beside it alone, so that reaching isn't handed on.
        """
        landing, group, stands = self.landing, now.group, now.stands
        beyond = {int(a): landing.over_routers(int(now.chosen[a]), int(group[a]), now.today) for a in of}
        near = {int(a): landing.near(int(stands[a])) for a in of}

        def meet(a: int, b: int) -> bool:
            return bool(group[a] == group[b] or beyond[a] & beyond[b] or near[a] == near[b])

        def unsaid(a: int, gate: Gate) -> bool:
            return any(int(now.today[landing.number(s)]) == group[a] for s in gate.unsaid)

        musts: list[tuple[Gate | None, list[int]]] = [(gate, bears) for bears, gate in self._borne(now, segment, of)]
        if not musts:
            parts: dict[object, list[int]] = {}
            for a in beyond:
                parts.setdefault(min(beyond[a], default=int(group[a])), []).append(a)
            ranked = sorted(parts.values(), key=lambda part: -int(self.weight[stands[part]].sum()))
            tied = len(ranked) > 1 and len({int(self.weight[stands[part]].sum()) for part in ranked[:2]}) == 1
            musts = [(None, [])] if tied else [(None, [a]) for a in ranked[0]]
        for a in beyond:
            missed = next(
                ((gate, m) for gate, m in musts if not any(meet(a, b) for b in m) and not (gate and unsaid(a, gate))),
                None,
            )
            ok[a] = missed is None
            if missed is not None:
                gate, others = missed
                named = self.stands[int(stands[others[0]])].records[0] if others else gate.bearer if gate else ""
                self._cut_off(now, np.array([a]), int(group[a]), of, Need([int(group[b]) for b in others], named))

    def _other_states(self) -> Iterator[tuple[int, int, dict[int, list[Shift]]]]:
        """Every state in which one team of an end switch (its number) is carried by another member, with those who shift in it, by segment; whoever gets onto another tag is
        told at once."""
        rows, ways, first = self.rows, self.ways, self.first
        every = spans(first, ways.stand.size, self.asked)
        other = every[ways.way[every] > 0]
        if not other.size:
            return
        base_row = first[ways.stand[other]]
        same = (
            (rows.group[other] == rows.group[base_row])
            & (rows.right[other] == rows.right[base_row])
            & (ways.open[other] == ways.open[base_row])
            # Who hears in other contexts than it speaks in may be answered otherwise there, though it speaks into the same group.
            & ((ways.pair[other] == ways.pair[base_row]) | ~self.landing.columns.private[ways.stand[other]])
        )
        changed = other[~same]
        wrong = changed[~rows.right[changed] & (self.segment[ways.stand[changed]] >= 0)]
        for row in wrong.tolist():
            self._misplaced(int(ways.stand[row]), row, deviation(self.landing, row))
        changed = changed[self.segment[ways.stand[changed]] >= 0]
        if not changed.size:
            return
        stand, base = ways.stand[changed], first[ways.stand[changed]]
        columns = (
            ways.team[changed],
            ways.member[changed],
            self.segment[stand],
            stand,
            self.weight[stand],
            np.where(rows.right[base], rows.group[base], -1),
            np.where(rows.right[changed], rows.group[changed], -1),
            ways.open[base] | ways.open[changed],
        )
        events: dict[tuple[int, int], dict[int, list[Shift]]] = {}
        for team_no, member, segment, *shift in zip(*(c.tolist() for c in columns), strict=True):
            events.setdefault((team_no, member), {}).setdefault(segment, []).append(Shift(*shift))
        for (team_no, member), moved in sorted(events.items(), key=lambda event: event[0]):
            yield team_no, member, moved

    def _own_ways(self, runs: Runs | None) -> None:
        """Judge every state in which one team of an end switch is carried by another member."""
        states = list(self._other_states())
        if not states:
            return
        order = self.asked[np.argsort(self.segment[self.asked], kind="stable")]
        numbers = np.arange(len(self.landing.intent.subnets) + 1)
        starts = np.searchsorted(self.segment[order], numbers).tolist()
        today = _Today(self, runs, order, starts)
        rows, ways, first = self.rows, self.ways, self.first
        for team_no, member, moved in states:
            state = other_member(self.landing, team_no, member)
            left = sorted(n for n, shifts in moved.items() if not self._stays(today, n, shifts, state))
            if not left:
                continue
            stands = np.concatenate([order[starts[n] : starts[n + 1]] for n in left])
            chosen = first[stands].copy()
            for at in np.flatnonzero(ways.team[chosen] == team_no).tolist():
                others = self.landing.rows_of(int(stands[at]))[1:]
                chosen[at] = next((row for row in others if ways.member[row] == member), chosen[at])
            group = rows.group[chosen]
            self._state(JudgedState(stands, chosen, group, state, self.landing, self.landing.domains))

    def _stays(self, today: _Today, segment: int, shifts: list[Shift], state: State) -> bool:
        """Judge a state in which most of a segment stay where they are together, so that nothing changes for those who don't move; False: it isn't so."""
        main, weight, total = today.main[segment], today.weight[segment], today.total[segment]
        if main < 0 or self._special(segment) or any(shift.open for shift in shifts):
            return False
        for shift in shifts:
            total += shift.weight * ((shift.after >= 0) - (shift.before >= 0))
            weight += shift.weight * ((shift.after == main) - (shift.before == main))
        if total < 2 or weight * 2 <= total:
            return False
        if any(0 <= shift.after != main for shift in shifts) and self._in_one_switch(today.placed(segment)):
            return False
        towards = ""
        for shift in shifts:
            if shift.after == main:
                self.fine[shift.stand] = True
            elif shift.after >= 0:
                towards = towards or today.someone(segment, shifts)
                opened = today.open(segment)
                self._lost([shift.stand], shift.after, [main], opened, towards, state, self.landing.domains)
        return True

    def _crossing(self) -> None:
        """Judge the states in which a team over which others' frames go is carried by another member."""
        landing, first = self.landing, self.first[self.asked]
        for team in self.wiring.crossing_teams:
            for member in team.members[1 : team.usable]:
                state = State({team.key: member.key})
                domains = solve(self.wiring, landing.pairings, state)
                today = landing.groups(domains, self.first)
                self._state(JudgedState(self.asked, first, today[self.asked], state, landing, domains, today))


def deviation(landing: Landing, row: int) -> State:
    """The state in which a row is the one that carries."""
    if landing.ways.way[row] == 0:
        return NOW
    return other_member(landing, int(landing.ways.team[row]), int(landing.ways.member[row]))


def other_member(landing: Landing, team_no: int, member: int) -> State:
    """The state in which a team is carried by a member of it."""
    if team_no < 0:
        # A way that a switch known in part may have, beside those that are known: no team's.
        return NOW
    team = landing.teams[team_no]
    return State({team.key: team.members[member].key})


class Apart:
    """Which isolated ports of one switch are kept apart."""

    def __init__(self, landing: Landing) -> None:
        self.landing = landing
        self._known: dict[int, bool] = {}

    def kept(self, one: int, two: int) -> bool:
        """Whether two stands are isolated ports of one switch and VLAN, between which frames don't come back from the fabric either."""
        landing = self.landing
        context, bridge = landing.columns.context, landing.columns.bridge
        if bridge[one] != bridge[two] or context[one] != context[two] or not landing.narrow(one):
            return False
        if one not in self._known:
            here, there = (landing.wiring.place(landing.stands[n].records[0]) for n in (one, two))
            assert here is not None and there is not None
            self._known[one] = Roads(landing.wiring).way(here, there) is None
        return self._known[one]


class _Today:
    """Of each segment, by number: the `main` group in which more of its places are than in any other (-1: there is none), the places in it
    (`weight`), and all its places on its own tag (`total`)."""

    def __init__(self, judge: States, runs: Runs | None, order: np.ndarray, starts: list[int]) -> None:
        self.judge, self.order, self.starts = judge, order, starts
        self._open: dict[int, set[int]] = {}
        main, weight, total = np.full((3, len(starts)), [[-1], [0], [0]], dtype=np.int64)
        if runs is not None:
            best = np.flatnonzero(runs.top & ~runs.tied[runs.segment])
            numbers = runs.number[runs.segment[best]]
            main[numbers] = judge.rows.group[judge.first[judge.asked[runs.order[runs.start[best]]]]]
            weight[numbers] = runs.weight[best]
            total[runs.number] = runs.total
        self.main, self.weight, self.total = main.tolist(), weight.tolist(), total.tolist()

    def _stands(self, segment: int) -> tuple[np.ndarray, np.ndarray]:
        """A segment's stands, and the group of each; -1 where it is on a wrong tag."""
        stands, rows = self.order[self.starts[segment] : self.starts[segment + 1]], self.judge.rows
        first = self.judge.first[stands]
        return stands, np.where(rows.right[first], rows.group[first], -1)

    def placed(self, segment: int) -> np.ndarray:
        """The stands of a segment that are on its tag."""
        stands, groups = self._stands(segment)
        return stands[groups >= 0]

    def someone(self, segment: int, shifts: list[Shift]) -> str:
        """Who stands for the main group of a segment after these shifts."""
        main, (stands, groups) = self.main[segment], self._stands(segment)
        gone = {shift.stand for shift in shifts}
        staying = stands[groups == main].tolist()
        there = [next((s for s in staying if s not in gone), None), *(m.stand for m in shifts if m.after == main)]
        return self.judge.stands[min(s for s in there if s is not None)].records[0]

    def open(self, segment: int) -> set[int]:
        """The groups of a segment from which some NIC leads nobody knows where."""
        if segment not in self._open:
            stands, groups = self._stands(segment)
            opened = self.judge.ways.open[self.judge.first[stands]] & (groups >= 0)
            self._open[segment] = set(groups[opened].tolist())
        return self._open[segment]


def spans(first: np.ndarray, size: int, stands: np.ndarray) -> np.ndarray:
    """int64[n]: the rows of some stands, in their order; `first` is each stand's first of `size` rows."""
    begin, following = first[stands], stands + 1
    last = following == first.size
    length = np.where(last, size, first[np.where(last, 0, following)]) - begin
    ends = np.cumsum(length)
    found: np.ndarray = np.arange(ends[-1] if ends.size else 0) + np.repeat(begin - (ends - length), length)
    return found


def _among(values: np.ndarray, few: Sequence[int]) -> np.ndarray:
    """bool[n]: which values are one of a few; `numpy.isin` takes several times as long for them."""
    made = np.zeros(values.size, dtype=bool)
    for one in few:
        made |= values == one
    return made

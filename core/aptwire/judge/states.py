"""Every state judged: today's ways, and each single team carried by another member."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from aptwire.forward.domains import Domains, Pairings, solve
from aptwire.forward.parts import NOW, State, Team
from aptwire.forward.paths import Roads
from aptwire.forward.wiring import Wiring
from aptwire.judge.gathered import Gathered
from aptwire.judge.judgement import (
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
    Intent,
)
from aptwire.judge.rows import Gate, LandingRows


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
    """A state in which `stands` int[n] are judged: the row that carries each (`chosen` int[n]) and its `group` int[n]; `groups` int[rows] of every row."""

    stands: np.ndarray
    chosen: np.ndarray
    group: np.ndarray
    groups: np.ndarray
    state: State
    team: Team | None
    domains: Domains


class Shift(NamedTuple):
    """A stand that another member carries into another group, on another tag, or into an open end; `before` and `after` its groups, -1 where it is
    on a wrong tag."""

    stand: int
    weight: int
    before: int
    after: int
    open: bool


class States(LandingRows):
    """What each stand fares in the states; its verdict is the gravest, or wavering where some state is right."""

    def __init__(
        self,
        wiring: Wiring,
        pairings: Pairings,
        domains: Domains,
        known: Intent | None = None,
        gathered: Gathered | None = None,
    ) -> None:
        super().__init__(wiring, pairings, domains, known, gathered)
        size = len(self.stands)
        self.fine = np.zeros(size, dtype=bool)
        self.worst = np.zeros(size, dtype=np.int8)
        self.causes: dict[int, dict[int, Cause]] = {}
        self.own: dict[str, tuple[int, Cause]] = {}
        self.today: Runs | None = None
        self._apart: dict[int, bool] = {}

    def _note(self, stand: int, status: int, cause: Cause) -> None:
        self.worst[stand] = max(self.worst[stand], status)
        self.causes.setdefault(stand, {}).setdefault(status, cause)

    def _base(self, groups: np.ndarray) -> None:
        """Judge today's ways."""
        rows = self.rows
        first = rows.first
        right = rows.right[first]
        for number in np.flatnonzero(~right).tolist():
            self._misplaced(number, first[number], NOW, None)
        everyone = np.arange(right.size)
        self.today = self._runs(groups[first], everyone, np.flatnonzero(right)) if right.any() else None
        self.fine |= self._state(first, groups, everyone, NOW, None, self.domains, self.today)

    def _misplaced(self, stand: int, row: int, state: State, team: Team | None) -> None:
        """A stand that lands on no tag of its own segment over this row."""
        rows = self.rows
        if self.segment[stand] < 0:
            self._note(stand, UNPROVEN, Cause(NO_INTENT, state, team))
        elif self.stands[stand].rule is None:
            self._note(stand, ASTRAY, Cause(NO_GROUP, state, team))
        elif rows.open[row] and self.context[stand] == 0:
            self._note(stand, UNPROVEN, Cause(OPEN_END, state, team))
        else:
            self._note(stand, ASTRAY, Cause(WRONG_TAG, state, team))

    def _state(
        self,
        chosen: np.ndarray,
        groups: np.ndarray,
        stands: np.ndarray,
        state: State,
        team: Team | None,
        domains: Domains,
        runs: Runs | None = None,
    ) -> np.ndarray:
        """Judge the stands that are on their own tag in one state.

        `chosen` int[n]: the row that carries each of `stands`; returns whether each reaches what it must.  `runs`: if they are known.
        """
        rows = self.rows
        ok = np.zeros(stands.size, dtype=bool)
        inside = np.flatnonzero(rows.right[chosen])
        if not inside.size:
            return ok
        group = groups[chosen]
        now = JudgedState(stands, chosen, group, groups, state, team, domains)
        runs = runs or self._runs(group, stands, inside)
        order, total, tied = runs.order, runs.total, runs.tied
        ok[order] = (runs.top & ~tied[runs.segment])[runs.run_of]
        # Most segments hang together, and where nobody is cut off there is nothing more to ask.
        run_stop = np.append(runs.start[1:], order.size)
        ends = [*runs.start[runs.first][1:].tolist(), order.size]
        count = np.diff([*runs.first.tolist(), runs.start.size])
        special = np.array(
            [self._special(n) for n in runs.number.tolist()],
            dtype=bool,
        )
        for at in np.flatnonzero((count > 1) | special | (total == 1)).tolist():
            of = order[runs.start[runs.first[at]] : ends[at]]
            segment = int(runs.number[at])
            if segment in self.private_segments:
                self._private_state(now, segment, of, ok)
                continue
            if segment in self.routed_segments and self.weight[stands[of]].sum() > 1:
                self._routed_state(now, segment, of, ok)
                continue
            if not special[at] and total[at] > 1:
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
            beside = self.local[stands[of]]
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
        return ok

    def _with_peers(self, now: JudgedState, of: np.ndarray, good: np.ndarray) -> np.ndarray:
        """Who of those that reach their gateway meets the peers that do: a gateway on each half of a segment makes no whole of it."""
        groups = now.group[of]
        found, weights = np.unique(groups[good], return_inverse=True)
        if found.size < 2:
            return good
        weights = np.bincount(weights, weights=self.weight[now.stands[of[good]]])
        top = np.flatnonzero(weights == weights.max())
        main = int(found[top[0]]) if top.size == 1 else -1
        kept = of[good & (groups == main)]
        need = Need([main] if main >= 0 else [], self._someone(now.stands[kept]) if kept.size else "")
        # Team orders of their own may take two neighbours different ways; within their switch they meet all the same.
        near = self.local[now.stands[of]]
        met: np.ndarray = good & ((groups == main) | np.isin(near, self.local[now.stands[kept]]))
        for mine in found.tolist():
            apart = good & ~met & (groups == mine)
            if apart.any():
                self._cut_off(now, of[apart], int(mine), of, need)
        return met

    def _special(self, segment: int) -> bool:
        """Whether there is more to ask of a segment's stands than which group is the largest."""
        return segment in self.gateways or segment in self.private_segments or segment in self.routed_segments

    def _runs(self, group: np.ndarray, stands: np.ndarray, inside: np.ndarray) -> Runs:
        """The runs of those of `stands` that are `inside`; `group` int[stands] is the group of each."""
        order = inside[np.lexsort((group[inside], self.segment[stands[inside]]))]
        segments, grouped = self.segment[stands[order]], group[order]
        fresh_segment = np.r_[True, segments[1:] != segments[:-1]]
        fresh = fresh_segment | np.r_[True, grouped[1:] != grouped[:-1]]
        start = np.flatnonzero(fresh)
        weight = np.add.reduceat(self.weight[stands[order]], start)
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
        # Of whom nobody said where it belongs, it counts where it lands.
        at = at | {s: int(now.groups[self.rows.first[s]]) for s in self._unsaid(gate)}
        here = [s for s, _ in gate.awake if s in at]
        groups = {at[s] for s in here} | {int(now.domains.component[node]) for node in gate.entries}
        stands_for = next((r for s, r in gate.awake if s in at), gate.bearer)
        return Need(sorted(groups), stands_for, tuple(int(self.local[s]) for s in here))

    def _needs(self, segment: int, stands: np.ndarray, group: np.ndarray, now: JudgedState) -> list[Need] | None:
        """What the stands of a segment must reach: each of its gateways, or else its largest group.

        `group` is sorted.  None: the segment has this one place only and nothing to reach but the fabric.  A need
        without groups: no group is the largest.
        """
        if segment in self.gateways:
            at = {int(s): int(g) for s, g in zip(stands, group, strict=True)}
            return [self._gate_need(gate, at, now) for gate in self.gateways[segment]]
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
        inside = int(now.group[at]) - stand.vni * self.scale < self.base
        if inside or not self.wiring.teams_at(stand.bridge, stand.order):
            return True
        if self.rows.open[now.chosen[at]]:
            self._note(number, UNPROVEN, Cause(OPEN_END, now.state, now.team))
        else:
            self._note(number, STRANDED, Cause(CUT_OFF, now.state, now.team))
        return False

    def _cut_off(self, now: JudgedState, lost: np.ndarray, mine: int, of: np.ndarray, need: Need) -> None:
        """Stands of a segment that are in one group and miss what they need."""
        group = now.group
        nic_open = set(group[of[self.rows.open[now.chosen[of]]]].tolist())
        others = need.groups or [g for g in np.unique(group[of]).tolist() if g != mine]
        towards = need.place
        if not towards:
            elsewhere = of[group[of] != mine]
            towards = self._someone(now.stands[elsewhere]) if elsewhere.size else ""
        self._lost(now.stands[lost].tolist(), mine, others, nic_open, towards, now.state, now.team, now.domains)

    def _lost(
        self,
        lost: list[int],
        mine: int,
        others: list[int],
        nic_open: set[int],
        towards: str,
        state: State,
        team: Team | None,
        domains: Domains,
    ) -> None:
        """Stands in one group that miss others; `nic_open` are the groups of the segment from which some NIC leads nobody knows where."""

        def leaky(g: int) -> bool:
            return g in nic_open or g % self.scale in domains.open

        unknown = mine in nic_open or any(o in nic_open for o in others)
        unknown = unknown or (leaky(mine) and any(leaky(o) for o in others))
        status, cause = (UNPROVEN, OPEN_END) if unknown else (STRANDED, CUT_OFF)
        for number in lost:
            self._note(number, status, Cause(cause, state, team, towards))

    def _gates(self, now: JudgedState, segment: int, of: np.ndarray) -> list[tuple[list[int], Gate]]:
        """For each gateway address of a segment, those of its stands that bear it: it is enough to reach one of them."""
        at = {int(now.stands[a]): int(a) for a in of}
        return [([at[s] for s, _ in gate.awake if s in at], gate) for gate in self.gateways.get(segment, ())]

    def _private_state(self, now: JudgedState, segment: int, of: np.ndarray, ok: np.ndarray) -> None:
        """A segment with a private VLAN: each must hear, and be heard by, its gateways; without any, all the promiscuous ports,
        and a community its own members (RFC 5517 section 3)."""
        numbers = {int(a): int(now.stands[a]) for a in of}
        speaks = {a: int(now.group[a]) for a in numbers}
        hears = {a: self._heard_by(int(now.chosen[a]), speaks[a], now.domains) for a in numbers}

        reaches = {a: self._reached_from(number, speaks[a], now.domains) for a, number in numbers.items()}

        def both_ways(a: int, stand: int, heard: set[int], reached: set[int]) -> bool:
            open_ = not heard.isdisjoint(reaches[a]) and not hears[a].isdisjoint(reached)
            return open_ and not self._kept_apart(numbers[a], stand)

        def meet(a: int, b: int) -> bool:
            return both_ways(a, numbers[b], hears[b], reaches[b])

        def unsaid(a: int, stand: int) -> bool:
            row = int(self.rows.first[stand])
            group = int(now.groups[row])
            heard = self._heard_by(row, group, now.domains)
            return both_ways(a, stand, heard, self._reached_from(stand, group, now.domains))

        gates = self._gates(now, segment, of)
        promiscuous = [[a] for a, number in numbers.items() if self._wide(number)]
        communities: dict[int, list[list[int]]] = {}
        for a, number in numbers.items():
            if not self._narrow(number):
                communities.setdefault(int(self.context[number]), []).append([a])
        for a, number in numbers.items():
            peers = [*promiscuous, *communities.get(int(self.context[number]), ())]
            musts: list[tuple[list[int], Gate | None]] = [*gates] if gates else [(peer, None) for peer in peers]
            missed = [
                (m, gate)
                for m, gate in musts
                if a not in m
                and not any(meet(a, b) for b in m)
                and not (gate and self._comes_in(gate, hears[a], reaches[a], now.domains))
                and not (gate and any(unsaid(a, stand) for stand in self._unsaid(gate)))
            ]
            ok[a] = not missed
            told: list[tuple[bool, str]] = []
            for others, gate in missed:
                towards = self.stands[numbers[others[0]]].records[0] if others else gate.bearer if gate else ""
                told.append((any(bool(self.rows.open[now.chosen[end]]) for end in (a, *others[:1])), towards))
            if told:
                # Whom it surely misses weighs more than whom it may reach beyond an open end.
                open_, towards = min(told)
                cause = Cause(OPEN_END if open_ else CUT_OFF, now.state, now.team, towards)
                self._note(number, UNPROVEN if open_ else STRANDED, cause)

    def _unsaid(self, gate: Gate) -> list[int]:
        """The stands that bear a gateway and of whom nobody said where they belong: they count where they land."""
        return [stand for stand, _ in gate.awake if self.segment[stand] < 0]

    @staticmethod
    def _comes_in(gate: Gate, hears: set[int], reaches: set[int], domains: Domains) -> bool:
        """Whether a gateway that comes in from outside is heard and reached."""
        inside = {int(domains.component[node]) for node in gate.entries}
        return not inside.isdisjoint(hears) and not inside.isdisjoint(reaches)

    def _routed_state(self, now: JudgedState, segment: int, of: np.ndarray, ok: np.ndarray) -> None:
        """An overlay of which some tunnels go over routers: each must reach its gateways; without any, its largest group.

        Who has no gateway reaches those beside it alone, so that reaching isn't handed on.
        """
        group, stands = now.group, now.stands
        beyond = {int(a): self._over_routers(int(now.chosen[a]), now.groups) for a in of}

        def meet(a: int, b: int) -> bool:
            return bool(group[a] == group[b] or beyond[a] & beyond[b] or self.local[stands[a]] == self.local[stands[b]])

        def unsaid(a: int, gate: Gate) -> bool:
            return any(int(now.groups[self.rows.first[s]]) == group[a] for s in self._unsaid(gate))

        musts: list[tuple[Gate | None, list[int]]] = [(gate, bears) for bears, gate in self._gates(now, segment, of)]
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

    def _wide(self, stand: int) -> bool:
        """Whether it hears and reaches all of its private VLAN, as a promiscuous port or one outside it does."""
        hears = self.stands[stand].hears
        return (len(hears) > 1 and self.context[stand] == hears[0]) or self.stands[stand].plain

    def _narrow(self, stand: int) -> bool:
        """Whether it is isolated: it doesn't hear its own VLAN."""
        return int(self.context[stand]) not in self.stands[stand].hears

    def _kept_apart(self, one: int, two: int) -> bool:
        """Whether two stands are isolated ports of one switch and VLAN, between which frames don't come back from the fabric either."""
        context = int(self.context[one])
        if self.bridge[one] != self.bridge[two] or context != self.context[two] or not self._narrow(one):
            return False
        if one not in self._apart:
            here, there = (self.wiring.place(self.stands[n].records[0]) for n in (one, two))
            assert here is not None and there is not None
            self._apart[one] = Roads(self.wiring).way(here, there) is None
        return self._apart[one]

    def _own_ways(self, groups: np.ndarray) -> None:
        """Judge every state in which one team of an end switch is carried by another member."""
        rows = self.rows
        other = np.flatnonzero(rows.way > 0)
        if not other.size:
            return
        base_row = rows.first[rows.stand[other]]
        same = (
            (groups[other] == groups[base_row])
            & (rows.right[other] == rows.right[base_row])
            & (rows.open[other] == rows.open[base_row])
            # Who hears in other contexts than it speaks in may be answered otherwise there, though it speaks into the same group.
            & ((rows.pair[other] == rows.pair[base_row]) | ~self.columns.private[rows.stand[other]])
        )
        changed = other[~same]
        wrong = changed[~rows.right[changed] & (self.segment[rows.stand[changed]] >= 0)]
        for row in wrong.tolist():
            team, state = self._deviation(int(rows.team[row]), int(rows.member[row]))
            self._misplaced(int(rows.stand[row]), row, state, team)
        changed = changed[self.segment[rows.stand[changed]] >= 0]
        if not changed.size:
            return
        first = rows.first
        stand, base = rows.stand[changed], first[rows.stand[changed]]
        columns = (
            rows.team[changed],
            rows.member[changed],
            self.segment[stand],
            stand,
            self.weight[stand],
            np.where(rows.right[base], groups[base], -1),
            np.where(rows.right[changed], groups[changed], -1),
            rows.open[base] | rows.open[changed],
        )
        events: dict[tuple[int, int], dict[int, list[Shift]]] = {}
        for team_no, member, segment, *shift in zip(*(c.tolist() for c in columns), strict=True):
            events.setdefault((team_no, member), {}).setdefault(segment, []).append(Shift(*shift))
        order = self.gathered.order
        starts = np.searchsorted(self.segment[order], np.arange(len(self.segments) + 1)).tolist()
        today = _Today(self, groups, order, starts)
        for (team_no, member), moved in sorted(events.items(), key=lambda event: event[0]):
            team, state = self._deviation(team_no, member)
            left = sorted(n for n, shifts in moved.items() if not self._stays(today, n, shifts, state, team))
            if not left:
                continue
            stands = np.concatenate([order[starts[n] : starts[n + 1]] for n in left])
            chosen = first[stands].copy()
            for at in np.flatnonzero(rows.team[chosen] == team_no).tolist():
                others = rows.of(int(stands[at]))[1:]
                chosen[at] = next((row for row in others if rows.member[row] == member), chosen[at])
            ok = self._state(chosen, groups, stands, state, team, self.domains)
            self.fine[stands[ok]] = True

    def _stays(self, today: _Today, segment: int, shifts: list[Shift], state: State, team: Team) -> bool:
        """Judge a state in which most of a segment stay where they are together, so that nothing changes for those who don't move; False: it isn't so."""
        main, weight, total = today.main[segment], today.weight[segment], today.total[segment]
        if main < 0 or self._special(segment) or any(shift.open for shift in shifts):
            return False
        for shift in shifts:
            total += shift.weight * ((shift.after >= 0) - (shift.before >= 0))
            weight += shift.weight * ((shift.after == main) - (shift.before == main))
        if total < 2 or weight * 2 <= total:
            return False
        towards = ""
        for shift in shifts:
            if shift.after == main:
                self.fine[shift.stand] = True
            elif shift.after >= 0:
                towards = towards or today.someone(segment, shifts)
                opened = today.open(segment)
                self._lost([shift.stand], shift.after, [main], opened, towards, state, team, self.domains)
        return True

    def _deviation(self, team_no: int, member: int) -> tuple[Team, State]:
        team = self.teams[team_no]
        return team, State({team.key: team.members[member].key})

    def _crossing(self) -> None:
        """Judge the states in which a team over which others' frames go is carried by another member."""
        for team in self.wiring.crossing_teams:
            for member in team.members[1 : team.usable]:
                state = State({team.key: member.key})
                domains = solve(self.wiring, self.pairings, state)
                first = self.rows.first
                ok = self._state(first, self._groups(domains), np.arange(first.size), state, team, domains)
                self.fine |= ok

    def _combine(self) -> np.ndarray:
        """One verdict a stand from today's and the other states'."""
        status = self.worst.copy()
        wavers = self.fine & (self.worst >= STRANDED)
        status[wavers] = WAVERING
        for stand in np.flatnonzero(wavers).tolist():
            of = self.causes[stand]
            of[WAVERING] = of[max(of)]
        return status


class _Today:
    """Of each segment, by number: the `main` group in which more of its places are than in any other (-1: there is none), the places in it
    (`weight`), and all its places on its own tag (`total`)."""

    def __init__(self, judge: States, groups: np.ndarray, order: np.ndarray, starts: list[int]) -> None:
        self.judge, self.order, self.starts = judge, order, starts
        self._open: dict[int, set[int]] = {}
        first = judge.rows.first
        self.groups = np.where(judge.rows.right[first], groups[first], -1)
        main, weight, total = np.full((3, len(judge.segments)), [[-1], [0], [0]], dtype=np.int64)
        runs = judge.today
        if runs is not None:
            best = np.flatnonzero(runs.top & ~runs.tied[runs.segment])
            numbers = runs.number[runs.segment[best]]
            main[numbers] = self.groups[runs.order[runs.start[best]]]
            weight[numbers] = runs.weight[best]
            total[runs.number] = runs.total
        self.main, self.weight, self.total = main.tolist(), weight.tolist(), total.tolist()

    def _stands(self, segment: int) -> np.ndarray:
        return self.order[self.starts[segment] : self.starts[segment + 1]]

    def someone(self, segment: int, shifts: list[Shift]) -> str:
        """Who stands for the main group of a segment after these shifts."""
        main, stands = self.main[segment], self._stands(segment)
        gone = {shift.stand for shift in shifts}
        staying = stands[self.groups[stands] == main].tolist()
        there = [next((s for s in staying if s not in gone), None), *(m.stand for m in shifts if m.after == main)]
        return self.judge.stands[min(s for s in there if s is not None)].records[0]

    def open(self, segment: int) -> set[int]:
        """The groups of a segment from which some NIC leads nobody knows where."""
        if segment not in self._open:
            stands = self._stands(segment)
            opened = stands[self.judge.rows.open[self.judge.rows.first[stands]] & (self.groups[stands] >= 0)]
            self._open[segment] = set(self.groups[opened].tolist())
        return self._open[segment]


def _among(values: np.ndarray, few: Sequence[int]) -> np.ndarray:
    """bool[n]: which values are one of a few; `numpy.isin` takes several times as long for them."""
    made = np.zeros(values.size, dtype=bool)
    for one in few:
        made |= values == one
    return made

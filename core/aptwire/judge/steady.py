"""Segments from which an edit takes a few and leaves the others where they are: then those few alone are judged.

A segment is *steady* where more than half of its places on their own tag are in one group, before the edit and after it, and still would be without what
any one switch has of it.  No single team takes that majority elsewhere, so whoever is in it in every state stays home whatever the few do.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from aptwire.forward.parts import NOW, Stand, State
from aptwire.judge.gates import Gates
from aptwire.judge.gathered import Patch
from aptwire.judge.landing import ALONE, EACH_VNI, Landing
from aptwire.judge.states import Shift, StandVerdicts, States, other_member, spans
from aptwire.judge.why import CUT_OFF, HOME, NO_GROUP, WRONG_TAG, Cause

MANY = 16
"""Where more than one stand in so many may have moved, all of their segments are judged."""


@dataclass(frozen=True)
class Standing:
    """How segments stand today, each int64[segments + 1] by number: the group `main` in which more than half of the places on their own tag are (-1: there is none),
    the `weight` of those, the `total` of all on their own tag, and `most`, above which no switch's places go."""

    main: np.ndarray
    weight: np.ndarray
    total: np.ndarray
    most: np.ndarray


@dataclass(frozen=True)
class Few:
    """Who is judged alone: `stands` int64[n], ascending, all those who may have moved in the segments that are `steady` bool[segments + 1]; `past` int64[m]: the stands of
    before the edit that they were, or that are gone; how everything stands now."""

    stands: np.ndarray
    past: np.ndarray
    steady: np.ndarray
    standing: Standing


def standing(landing: Landing, stands: np.ndarray, again: tuple[Standing, np.ndarray] | None = None) -> Standing:
    """How segments stand, of which these are all stands (`stands` int64[n], ascending); after an edit `again`: how they stood, and which segments (bool[segments + 1]) are
    counted anew."""
    size = len(landing.intent.subnets) + 1
    columns, rows = landing.columns, landing.rows
    stands = stands[columns.segment[stands] >= 0]
    segment, weight = columns.segment[stands], columns.weight[stands].astype(np.int64)
    first = landing.first[stands]
    own = np.flatnonzero(rows.right[first])
    total = _sums(segment[own], weight[own], size)
    number, group, count = _runs(segment[own], rows.group[first[own]], weight[own])
    best = np.flatnonzero(2 * count > total[number])
    main, heaviest = np.full(size, -1, dtype=np.int64), np.zeros(size, dtype=np.int64)
    main[number[best]], heaviest[number[best]] = group[best], count[best]
    number, _, count = _runs(segment, _blocks(landing, stands), weight)
    most = np.zeros(size, dtype=np.int64)
    np.maximum.at(most, number, count)
    made = Standing(main, heaviest, total, most)
    if again is None:
        return made
    both = zip(vars(made).values(), vars(again[0]).values(), strict=True)
    return Standing(*(np.where(again[1], now, then) for now, then in both))


def few(
    old: Landing,
    landing: Landing,
    gates: tuple[Gates, Gates],
    at: Patch,
    touched: np.ndarray,
    moved: np.ndarray,
    was: StandVerdicts,
    before: Standing,
    lonely: Iterable[int],
) -> Few:
    """Of the segments that an edit touched (bool[segments + 1]) the steady ones, with those of them who may have moved (`moved` int64[n], ascending); `was`: the verdicts
    then; `lonely`: the segments of those who weren't heard back."""
    steady, segment = touched.copy(), landing.columns.segment
    special = {n for side in gates for n in (*side.borne, *side.unborne)}
    special |= {n for side in (old, landing) for n in (*side.private_segments, *side.routed_segments)}
    special |= {landing.intent.numbers[id] for id in old.intent.vanished | landing.intent.vanished}
    steady[[*special, *lonely]] = False
    if moved.size * MANY > segment.size or not steady.any():
        return Few(moved[:0], moved[:0], np.zeros_like(steady), before)
    past = _past(old, at, moved)
    for side, stands in ((old, past), (landing, moved)):
        rows = spans(side.first, side.ways.stand.size, stands)
        # What hangs on an open end, or on a way that nobody is sure of, is told with all of its segment.
        unsure = side.ways.open[rows] | ((side.ways.team[rows] < 0) & (side.ways.way[rows] > 0))
        odd = unsure | (side.rows.group[rows] % EACH_VNI >= ALONE)
        steady[side.columns.segment[side.ways.stand[rows[odd]]]] = False
    for stand in _others_away(old, was, past, steady):
        segment_of = old.columns.segment[stand]
        rows = spans(old.first, old.ways.stand.size, np.array([stand]))
        kept = _holds(was.causes[old.stands[stand]], old, landing, past, moved[segment[moved] == segment_of], before)
        if not kept or old.ways.open[rows].any():
            steady[segment_of] = False
    most = before.most.copy()
    number, _, count = _runs(segment[at.stands], _blocks(landing, at.stands), landing.columns.weight[at.stands])
    np.maximum.at(most, number, count)
    less, more = _own(old, past, before.main), _own(landing, moved, before.main)
    weight, total = before.weight - less[0] + more[0], before.total - less[1] + more[1]
    steady &= (before.main >= 0) & (2 * (before.weight - most) > before.total) & (2 * (weight - most) > total)
    steady[-1] = False
    sides = (before.weight, weight), (before.total, total), (before.most, most)
    made = Standing(before.main, *(np.where(steady, now, then) for then, now in sides))
    return Few(moved[steady[segment[moved]]], past[steady[old.columns.segment[past]]], steady, made)


def _others_away(old: Landing, was: StandVerdicts, past: np.ndarray, steady: np.ndarray) -> list[int]:
    """The stands of some segments that weren't home before and didn't move."""
    away = was.status != HOME
    away[past] = False
    others = np.flatnonzero(away)
    return others[steady[old.columns.segment[others]]].tolist()  # type: ignore[no-any-return]


def _holds(cause: Cause, old: Landing, landing: Landing, past: np.ndarray, moved: np.ndarray, before: Standing) -> bool:
    """Whether what is said of somebody who didn't move holds on whatever the few of his segment do (`moved` int64[n]; of before and of all segments `past` int64[m])."""
    if cause.what in (WRONG_TAG, NO_GROUP):
        # Whoever is on another tag is so wherever the rest of his segment is.
        return True
    if cause.what != CUT_OFF or cause.state != NOW or old.domains.open != landing.domains.open:
        return False
    # He misses the main group, for which its first stands: nobody who stands there now may come before that one.
    place = old.wiring.place(cause.towards) if cause.towards else None
    if place is None or old.number(place.stand) in past:
        return False
    first, main = landing.first[moved], before.main[old.columns.segment[old.number(place.stand)]]
    inside = moved[landing.rows.right[first] & (landing.rows.group[first] == main)]
    return not (inside < landing.number(place.stand)).any()


def judge_few(landing: Landing, gates: Gates, asked: Few) -> StandVerdicts:
    """How they fare in all states."""
    return _Settled(landing, gates, asked).judged()


class _Settled(States):
    """The states of those who may have moved, where all others stay in their segment's main group."""

    def __init__(self, landing: Landing, gates: Gates, asked: Few) -> None:
        super().__init__(landing, gates, asked.stands)
        self.main = asked.standing.main
        self.missed = np.zeros(self.main.size, dtype=bool)

    def judged(self) -> StandVerdicts:
        group, own = self._today
        main = self.main[self.segment[self.asked]]
        for at in np.flatnonzero(~own).tolist():
            stand = int(self.asked[at])
            self._misplaced(stand, int(self.first[stand]), NOW)
        self.fine[self.asked[own & (group == main)]] = True
        away = np.flatnonzero(own & (group != main))
        states = list(self._other_states())
        gone = {
            s.stand
            for *_, moved in states
            for shifts in moved.values()
            for s in shifts
            if s.after not in (-1, self.main[self.segment[s.stand]])
        }
        self.missed[self.segment[[*self.asked[away].tolist(), *gone]]] = True
        for at in away.tolist():
            self._away(int(self.asked[at]), int(group[at]), (), NOW)
        for team_no, member, moved in states:
            for shifts in moved.values():
                self._shift(shifts, other_member(self.landing, team_no, member))
        return self._told()

    def _shift(self, shifts: list[Shift], state: State) -> None:
        for shift in shifts:
            if shift.after == self.main[self.segment[shift.stand]]:
                self.fine[shift.stand] = True
            elif shift.after >= 0:
                self._away(shift.stand, shift.after, shifts, state)

    def _away(self, stand: int, group: int, shifts: Iterable[Shift], state: State) -> None:
        """One that is in another group than the main one, in a state in which these shift."""
        segment = int(self.segment[stand])
        main = int(self.main[segment])
        gone, come = {s.stand for s in shifts}, [s.stand for s in shifts if s.after == main]
        stayed = (n for n in self._inside.get(segment, ()) if n not in gone)
        towards = self.stands[min([*self._first_other(segment), *stayed, *come])].records[0]
        self._lost([stand], group, [main], set(), towards, state, self.landing.domains)

    @cached_property
    def _today(self) -> tuple[np.ndarray, np.ndarray]:
        """int64[asked] the group of each today, and bool[asked] whether it is on its own tag."""
        first = self.first[self.asked]
        return self.rows.group[first], self.rows.right[first]

    @cached_property
    def _inside(self) -> dict[int, list[int]]:
        """Those asked who are in their segment's main group today, by segment."""
        group, own = self._today
        there = self.asked[own & (group == self.main[self.segment[self.asked]])]
        found: dict[int, list[int]] = {}
        for segment, stand in zip(self.segment[there].tolist(), there.tolist(), strict=True):
            found.setdefault(segment, []).append(stand)
        return found

    def _first_other(self, segment: int) -> list[int]:
        """The first stand of a segment's main group that didn't move, if there is one."""
        first = int(self._firsts[segment])
        return [first] if first >= 0 else []

    @cached_property
    def _firsts(self) -> np.ndarray:
        """int64[segments + 1]: these of the segments whose main group somebody misses, -1 where there is none."""
        found = np.full(self.main.size, -1, dtype=np.int64)
        inside = self.missed.take(self.segment)
        inside[self.asked] = False
        stands = np.flatnonzero(inside)
        first, segment = self.first[stands], self.segment[stands]
        there = np.flatnonzero(self.rows.right[first] & (self.rows.group[first] == self.main[segment]))[::-1]
        found[segment[there]] = stands[there]
        return found


def together(one: StandVerdicts, two: StandVerdicts, stands: np.ndarray) -> StandVerdicts:
    """The verdicts of some stands, and with them those of others (`stands` int64[n])."""
    status = one.status.copy()
    status[stands] = two.status[stands]
    causes: Mapping[Stand, Cause] = {**one.causes, **two.causes}
    return StandVerdicts(status, causes)


def _past(old: Landing, at: Patch, moved: np.ndarray) -> np.ndarray:
    """int64[n]: the stands of before an edit that those who may have moved were, and all those of blocks that were compiled anew."""
    if at.was is at.now:
        return moved
    others = np.setdiff1d(moved, at.stands, assume_unique=True)
    block = np.searchsorted(at.now[:, 0], others, side="right") - 1
    gone = (np.arange(at.was[n, 0], at.was[n + 1, 0]) for n in at.changed)
    found: np.ndarray = np.concatenate([*gone, others + at.was[block, 0] - at.now[block, 0]])
    return found


def _own(landing: Landing, stands: np.ndarray, main: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """int64[segments + 1]: the weight of some stands in their segment's main group, and of those on their own tag."""
    segment, first = landing.columns.segment[stands], landing.first[stands]
    own = landing.rows.right[first] & (segment >= 0)
    inside = own & (landing.rows.group[first] == main[segment])
    weight = landing.columns.weight[stands]
    inner, every = (_sums(segment[of], weight[of], main.size) for of in (inside, own))
    return inner, every


def _blocks(landing: Landing, stands: np.ndarray) -> np.ndarray:
    """int64[n]: the place of each stand's block."""
    return np.searchsorted(landing.gathered.at[:, 0], stands, side="right") - 1


def _sums(number: np.ndarray, weight: np.ndarray, size: int) -> np.ndarray:
    """int64[size]: the weights by number."""
    return np.bincount(number, weights=weight, minlength=size).astype(np.int64)


def _runs(one: np.ndarray, two: np.ndarray, weight: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Each pair that occurs, and its weight."""
    if not one.size:
        return one, two, weight
    order = np.lexsort((two, one))
    one, two = one[order], two[order]
    start = np.flatnonzero(np.r_[True, (one[1:] != one[:-1]) | (two[1:] != two[:-1])])
    return one[start], two[start], np.add.reduceat(weight[order].astype(np.int64), start)

"""Fourth stage of the judge: segments whose places are on their own tags and hear each other.

Where no frame goes one way only, two segments meet in a group in which both are: then an edit asks anew for the segments that it touched, and
for those that they meet, alone.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from aptwire.forward.parts import Stand
from aptwire.judge.landing import Landing
from aptwire.judge.states import StandVerdicts, deviation, spans
from aptwire.judge.why import ASTRAY, EXPOSED, LEAK, Cause


@dataclass(frozen=True)
class Presence:
    """Which segments are in which groups on tags of their own: `pairs` int64[n], sorted, each a group times `size` and a segment, and `count` int64[n] the rows of each; `lonely` the
    segments of those who speak into the fabric without hearing it back; `simple`: nobody is heard beyond the group in which it speaks."""

    pairs: np.ndarray
    count: np.ndarray
    size: int
    lonely: frozenset[int]
    simple: bool

    @cached_property
    def mixed(self) -> dict[int, frozenset[int]]:
        """The groups in which several segments are, and these."""
        group, segment = self.pairs // self.size, self.pairs % self.size
        several = np.unique(group[1:][group[1:] == group[:-1]]) if group.size else group
        found: dict[int, set[int]] = {int(g): set() for g in several}
        for g, s in zip(group.tolist(), segment.tolist(), strict=True) if found else ():
            if g in found:
                found[g].add(s)
        return {g: frozenset(of) for g, of in found.items()}


@dataclass(frozen=True)
class Exposed:
    """The stands that meet others' segments, and why."""

    causes: Mapping[Stand, Cause]


def presence(landing: Landing, verdicts: StandVerdicts) -> Presence:
    """Who is where."""
    pairs, lonely = _speaking(landing, verdicts.status, np.arange(len(landing.stands)))
    pairs, count = np.unique(pairs, return_counts=True)
    return _present(landing, pairs, count, lonely)


def presence_again(
    before: Presence, landing: Landing, verdicts: StandVerdicts, asked: np.ndarray, whole: np.ndarray, gone: np.ndarray
) -> Presence:
    """The same after an edit: counted anew in the segments of which all stands are among those `asked` int64[n] (`whole` bool[segments + 1]); in the others those asked come to
    what was before, and from it goes what was there once for each (`gone` int64[n], as `pairs`)."""
    fresh, lonely = _speaking(landing, verdicts.status, asked)
    known = ~whole[before.pairs % before.size]
    pairs = np.concatenate([before.pairs[known], fresh, gone])
    count = np.concatenate([before.count[known], np.ones(fresh.size, np.int64), np.full(gone.size, -1)])
    order = np.argsort(pairs, kind="stable")
    pairs, count = pairs[order], count[order]
    start = np.flatnonzero(np.r_[pairs.size > 0, pairs[1:] != pairs[:-1]])
    pairs, count = pairs[start], np.add.reduceat(count, start) if start.size else count
    return _present(landing, pairs[count > 0], count[count > 0], lonely | {n for n in before.lonely if not whole[n]})


def spoken(landing: Landing, status: np.ndarray, stands: np.ndarray) -> np.ndarray:
    """int64[n]: once for each row of some stands the group and segment in which it speaks on its own tag, as `Presence.pairs` has them."""
    return _speaking(landing, status, stands)[0]


def _speaking(landing: Landing, status: np.ndarray, stands: np.ndarray) -> tuple[np.ndarray, frozenset[int]]:
    """The same, and the segments of which some row isn't heard back."""
    every = spans(landing.first, landing.ways.stand.size, stands)
    stand = landing.ways.stand[every]
    speaking = landing.rows.right[every] & (status[stand] != ASTRAY)
    own, segment = every[speaking], landing.columns.segment[stand[speaking]]
    lonely = segment[~landing.rows.mutual[own] & (landing.rows.node[own] >= 0)]
    return landing.rows.group[own] * (len(landing.intent.subnets) + 1) + segment, frozenset(lonely.tolist())


def _present(landing: Landing, pairs: np.ndarray, count: np.ndarray, lonely: frozenset[int]) -> Presence:
    simple = not (landing.domains.one_way() or landing.routers or landing.private or lonely)
    return Presence(pairs, count, len(landing.intent.subnets) + 1, lonely, simple)


def meeting(landing: Landing, verdicts: StandVerdicts, present: Presence, among: np.ndarray | None = None) -> Exposed:
    """Who is exposed; `among` bool[segments + 1]: only the stands of these segments are asked for, which is possible where presence is simple."""
    return _Meeting(landing, verdicts, present, among).exposed()


class _Meeting:
    def __init__(self, landing: Landing, verdicts: StandVerdicts, present: Presence, among: np.ndarray | None) -> None:
        self.landing, self.among = landing, among
        self.simple, self.mixed = present.simple, present.mixed
        self.rows, self.ways, self.domains = landing.rows, landing.ways, landing.domains
        self.segment = landing.columns.segment
        if self.simple and not self.mixed:
            return
        self.speaking = landing.rows.right & (verdicts.status[self.ways.stand] != ASTRAY)
        self.present: dict[int, set[int]] = {}
        for group, segment in zip(
            (present.pairs // present.size).tolist(), (present.pairs % present.size).tolist(), strict=True
        ):
            self.present.setdefault(group, set()).add(segment)

    def exposed(self) -> Exposed:
        if self.simple and not self.mixed:
            return Exposed({})
        meets = {group: set(found) for group, found in self.mixed.items()}
        if self.simple:
            among = self.among
            asked = meets if among is None else {g: of for g, of in meets.items() if among[list(of)].any()}
            return Exposed(self._expose(asked, {})) if asked else Exposed({})
        one_way, present = self.domains.one_way(), self.present
        for start in one_way & present.keys():
            for other in (self.domains.hearers(start) & present.keys()) - {start}:
                mixed = present[start] | present[other]
                if len(mixed) > 1:
                    meets.setdefault(start, set()).update(mixed)
                    meets.setdefault(other, set()).update(mixed)
        self._one_way(meets)
        hearing, listeners = self._overheard(meets)
        routed: dict[tuple[int, str], set[int]] = {}
        today = self.rows.group[self.landing.first]
        carried = (
            np.isin(self.ways.stand, list(self.landing.routers)) if self.landing.routers else np.zeros(1, dtype=bool)
        )
        for row in np.flatnonzero(self.speaking & carried).tolist():
            group = int(self.rows.group[row])
            for router in self.landing.over_routers(row, group, today):
                routed.setdefault(router, set()).add(group)
        for joined in routed.values():
            mixed = set().union(*(present[group] for group in joined))
            for group in joined if len(mixed) > 1 else ():
                meets.setdefault(group, set()).update(mixed)
        causes = self._expose(meets, listeners) if meets else {}
        for stand, other in sorted(hearing.items()):
            cause = Cause(LEAK, towards=self.landing.stands[other].records[0])
            causes.setdefault(self.landing.stands[stand], cause)
        return Exposed(causes)

    def _one_way(self, meets: dict[int, set[int]]) -> None:
        """Rows that speak into the fabric without hearing it back: what they say is heard all the same."""
        rows, present = self.rows, self.present
        for row in np.flatnonzero(self.speaking & ~rows.mutual & (rows.node >= 0)).tolist():
            into = int(self.domains.component[rows.node[row]])
            segment = int(self.segment[self.ways.stand[row]])
            for reached in self.domains.hearers(into):
                if reached in present and present[reached] - {segment}:
                    meets.setdefault(reached, set(present[reached])).add(segment)
                    meets.setdefault(int(rows.group[row]), set()).update(present[reached] | {segment})

    def _overheard(self, meets: dict[int, set[int]]) -> tuple[dict[int, int], dict[tuple[int, int], str]]:
        """Stands that hear other groups than the one in which they speak: what is said there comes to their ears.

        Whoever speaks there is overheard; of those beside the one that hears, nobody else is.  Returns whom each of them hears, and for each group and segment who listens there.
        """
        landing, ways, rows = self.landing, self.ways, self.rows
        private = np.flatnonzero(self.speaking & landing.columns.private[ways.stand]).tolist()
        ears: dict[int, set[int]] = {}
        for row in private:
            for heard in landing.hearing(row, int(rows.group[row]), self.domains):
                ears.setdefault(heard, set()).add(int(ways.stand[row]))
        found: dict[int, int] = {}
        listening: dict[tuple[int, int], str] = {}
        if not ears:
            return found, listening
        speaking = np.flatnonzero(self.speaking & (rows.node >= 0) & (landing.columns.vni[ways.stand] == 0)).tolist()
        # Where it says something into the fabric: in other groups than its own where it doesn't hear that back.
        beyond: dict[tuple[int, int], set[int]] = {}
        for row in speaking:
            group, into = int(rows.group[row]), int(self.domains.component[rows.node[row]])
            if group != into:
                beyond.setdefault((group, int(ways.stand[row])), set()).update(self.domains.hearers(into))
        voices = {(int(rows.group[row]), int(ways.stand[row])) for row in np.flatnonzero(self.speaking).tolist()}
        for spoken, stand in voices:
            mine = int(self.segment[stand])
            for reached in landing.reached_from(stand, spoken, self.domains) | beyond.get((spoken, stand), set()):
                for listener in ears.get(reached, ()):
                    theirs = int(self.segment[listener])
                    if theirs != mine:
                        meets.setdefault(spoken, set(self.present[spoken])).add(theirs)
                        found[listener] = min(found.get(listener, stand), stand)
                        record = landing.stands[listener].records[0]
                        listening[spoken, theirs] = min(listening.get((spoken, theirs), record), record)
        return found, listening

    def _expose(self, meets: Mapping[int, set[int]], listeners: Mapping[tuple[int, int], str]) -> dict[Stand, Cause]:
        """Whoever speaks in a group in which it meets another segment, and whom it meets there."""
        stands, ways, group = self.landing.stands, self.ways, self.rows.group
        inside = np.flatnonzero(self.speaking & np.isin(group, list(meets))).tolist()
        seats: dict[tuple[int, int], str] = {}
        for row in inside:
            key = (int(group[row]), int(self.segment[ways.stand[row]]))
            mine = stands[int(ways.stand[row])].records[0]
            seats[key] = min(seats.get(key, mine), mine)
        by_segment: dict[int, str] = {}
        for (_, segment), record in sorted(seats.items(), key=lambda item: item[1]):
            by_segment.setdefault(segment, record)
        causes: dict[Stand, Cause] = {}
        for row in inside:
            number = int(ways.stand[row])
            segment = int(self.segment[number])
            foreign = sorted(meets[int(group[row])] - {segment})
            if not foreign or stands[number] in causes or (self.among is not None and not self.among[segment]):
                continue
            key = (int(group[row]), foreign[0])
            other = seats.get(key) or listeners.get(key) or by_segment.get(foreign[0], "")
            causes[stands[number]] = Cause(LEAK, deviation(self.landing, row), other)
        return causes


def overlay(verdicts: StandVerdicts, landing: Landing, exposed: Exposed) -> StandVerdicts:
    """The verdicts with those who are exposed."""
    if not exposed.causes:
        return verdicts
    status = verdicts.status.copy()
    status[[landing.number(stand) for stand in exposed.causes]] = EXPOSED
    return StandVerdicts(status, {**verdicts.causes, **exposed.causes})

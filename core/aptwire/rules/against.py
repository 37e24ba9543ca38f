"""Rules of which not both can hold: two are kept apart whom another rule lets reach each other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

from aptwire.plan.kinds import Rule
from aptwire.plan.sentences import EVERYTHING, Apart, Reach, read
from aptwire.rules.answer import HOLDS, Answer
from aptwire.rules.whom import Meaning, Unit, Whom


@dataclass(frozen=True)
class Contradiction:
    """A rule that keeps two apart (`a` and `b`, ids of units) and one by which the one reaches the other."""

    apart: Rule
    reach: Rule
    a: str
    b: str


def contradictions(meaning: Meaning, answers: Iterable[tuple[Rule, Answer]]) -> Iterator[Contradiction]:
    """Pairs of rules that speak of the same two; since one of them at least doesn't hold then, the others aren't looked at."""
    listed = [(rule, answer, read(rule.text)) for rule, answer in answers]
    parting = [
        (rule, answer, _Parted(meaning, s)) for rule, answer, s in listed if isinstance(s, Apart) and not s.layer2
    ]
    joining = [(rule, answer, _Joined(meaning, s)) for rule, answer, s in listed if isinstance(s, Reach)]
    for apart, kept, parts in parting:
        for reach, reached, joins in joining:
            if HOLDS == kept.outcome == reached.outcome or not parts.may_meet(joins):
                continue
            pair = parts.both(joins)
            if pair is not None:
                yield Contradiction(apart, reach, *pair)


class _Joined:
    """Those of whom a sentence says that the ones (`a`) reach the others: the units, and the segments (ids; None: none) on which they all are."""

    def __init__(self, meaning: Meaning, sentence: Reach) -> None:
        self._meaning, self._sentence = meaning, sentence
        self.segments = tuple(meaning.belonging(subjects) for subjects in (sentence.a, sentence.b))

    @cached_property
    def units(self) -> tuple[tuple[Unit, ...], tuple[Unit, ...]]:
        """The ones and the others."""
        return self._meaning.whom(self._sentence.a).units, self._meaning.whom(self._sentence.b).units


class _Parted:
    """Those whom a sentence keeps apart."""

    def __init__(self, meaning: Meaning, sentence: Apart) -> None:
        self._meaning, self._sentence = meaning, sentence
        self._segments = tuple(
            None if any(s.sort == EVERYTHING for s in subjects) else meaning.belonging(subjects)
            for subjects in (sentence.a, sentence.b)
        )

    def may_meet(self, joins: _Joined) -> bool:
        """Whether some of each side of another sentence may be on opposite sides of this one: at least they are on the same segments."""
        meets = [[own is None or not own.isdisjoint(side) for own in self._segments] for side in joins.segments]
        return (meets[0][0] and meets[1][1]) or (meets[0][1] and meets[1][0])

    @cached_property
    def _sides(self) -> tuple[_Side, _Side]:
        one, two = (
            _Side(self._meaning.whom(subjects), any(s.sort == EVERYTHING for s in subjects))
            for subjects in (self._sentence.a, self._sentence.b)
        )
        return one, two

    @cached_property
    def _without(self) -> frozenset[str]:
        return frozenset(self._meaning.whom(self._sentence.without).records)

    def both(self, joins: _Joined) -> tuple[str, str] | None:
        """Two of whom both sentences speak; None where there are none."""
        one, two = self._sides
        sides = [[unit for unit in units if self._without.isdisjoint(unit.records)] for units in joins.units]
        for first, second in ((one, two), (two, one)):
            a = next((unit for unit in sides[0] if first.has(unit, second)), None)
            b = next((unit for unit in sides[1] if second.has(unit, first) and (a is None or unit.id != a.id)), None)
            if a is not None and b is not None:
                return a.id, b.id
        return None


class _Side:
    """Whom one side of a separation means: these, or all that aren't the other side's."""

    def __init__(self, whom: Whom, everything: bool) -> None:
        self.records, self.everything = frozenset(whom.records), everything

    def has(self, unit: Unit, other: _Side) -> bool:
        """Whether somebody is meant with all that is his."""
        if not unit.records:
            return False
        if self.everything:
            return other.records.isdisjoint(unit.records)
        return self.records.issuperset(unit.records)

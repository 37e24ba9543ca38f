"""Rules of which not both can hold: two are kept apart whom another rule lets reach each other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

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
    parting = [(rule, answer, s) for rule, answer, s in listed if isinstance(s, Apart) and not s.layer2]
    joining = [(rule, answer, s) for rule, answer, s in listed if isinstance(s, Reach)]
    for apart, kept, parts in parting:
        for reach, reached, joins in joining:
            if HOLDS == kept.outcome == reached.outcome:
                continue
            pair = _both(meaning, parts, joins)
            if pair is not None:
                yield Contradiction(apart, reach, *pair)


def _both(meaning: Meaning, parts: Apart, joins: Reach) -> tuple[str, str] | None:
    """Two of whom both sentences speak; None where there are none."""
    one, two = (
        _Side(meaning.whom(subjects), any(s.sort == EVERYTHING for s in subjects)) for subjects in (parts.a, parts.b)
    )
    without = frozenset(meaning.whom(parts.without).records)
    sides = [
        [unit for unit in meaning.whom(subjects).units if without.isdisjoint(unit.records)]
        for subjects in (joins.a, joins.b)
    ]
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

"""Rules of which not both can hold: two are kept apart whom another rule lets reach each other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from aptwire.plan.kinds import Rule
from aptwire.plan.sentences import EVERYTHING, Apart, Reach, Subjects, read
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
    parting: list[tuple[Rule, Answer, Sequence[_Side]]] = []
    joining: list[tuple[Rule, Answer, Sequence[_Side]]] = []
    for rule, answer in answers:
        said = read(rule.text)
        if isinstance(said, Apart) and not said.layer2:
            parting.append((rule, answer, [_Side(meaning, of) for of in (said.a, said.b, said.without)]))
        elif isinstance(said, Reach):
            joining.append((rule, answer, [_Side(meaning, of) for of in (said.a, said.b)]))
    for apart, kept, (one, two, without) in parting:
        for reach, reached, (here, there) in joining:
            if HOLDS == kept.outcome == reached.outcome:
                continue
            pairs = (_of_both(first, second, without, here, there) for first, second in ((one, two), (two, one)))
            pair = next(filter(None, pairs), None)
            if pair is not None:
                yield Contradiction(apart, reach, *pair)


def _of_both(first: _Side, second: _Side, without: _Side, here: _Side, there: _Side) -> tuple[str, str] | None:
    """Of two sides kept apart one of the first who is among those here, and another one of the second who is among those there; None: there are none."""
    if not (first.may_have(here) and second.may_have(there)):
        return None
    heres, theres = (
        (unit for unit in side.whom.units if without.records.isdisjoint(unit.records)) for side in (here, there)
    )
    a = next((unit for unit in heres if first.has(unit, second)), None)
    b = next((unit for unit in theres if a is not None and second.has(unit, first) and unit.id != a.id), None)
    return (a.id, b.id) if a is not None and b is not None else None


class _Side:
    """Whom some subjects mean, looked up when they are first asked for: these, or of a separation all that aren't the other side's (`everything`)."""

    def __init__(self, meaning: Meaning, subjects: Subjects) -> None:
        self._meaning, self._subjects = meaning, subjects
        self.everything = any(subject.sort == EVERYTHING for subject in subjects)

    @cached_property
    def whom(self) -> Whom:
        """The units."""
        return self._meaning.whom(self._subjects)

    @cached_property
    def records(self) -> frozenset[str]:
        """Their interfaces."""
        return frozenset(self.whom.records)

    @cached_property
    def segments(self) -> frozenset[str | None]:
        """The segments on which they belong."""
        return self._meaning.belonging(self._subjects)

    def may_have(self, other: _Side) -> bool:
        """Whether somebody of another side may be meant: nobody is who belongs on no segment of these."""
        return self.everything or not self.segments.isdisjoint(other.segments)

    def has(self, unit: Unit, other: _Side) -> bool:
        """Whether somebody is meant with all that is his."""
        if not unit.records:
            return False
        if self.everything:
            return other.records.isdisjoint(unit.records)
        return self.records.issuperset(unit.records)

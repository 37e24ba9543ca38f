"""Chosen endpoints against each other: guests, stations, hosts, interfaces and outside networks, pair by pair as a rule between the two would find them."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations, product

import numpy as np

from aptwire.above.outcomes import ANSWERED
from aptwire.above.ping import ENDS
from aptwire.judge.judgement import Judgement
from aptwire.plan.kinds import OWNERS, Outside, Rule
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.sentences import Apart, Reach, read
from aptwire.plan.stacks import ends_of
from aptwire.rules.answer import BROKEN, HOLDS, NOBODY
from aptwire.rules.apart import Parting
from aptwire.rules.asking import asked
from aptwire.rules.meetings import APART, BACK, BOTH, FREE, MEETS, OPEN, THERE, Meetings, sterner, wrong
from aptwire.rules.meetings import NOBODY as NOT_THERE
from aptwire.rules.whom import Unit, Whom

MOST_CHOSEN = 24
_TURNED = {THERE: BACK, BACK: THERE}


def chosen(judgement: Judgement, ends: Sequence[str]) -> Meetings:
    """Endpoints (ids) in this order against each other, as `Meetings` has it of segments.  PlanError where one isn't an endpoint, or where there are too many."""
    if len(set(ends)) > MOST_CHOSEN:
        raise PlanError([Problem(f"{MOST_CHOSEN} at the most are asked about each other", field="of")])
    told = tuple(dict.fromkeys(ends))
    units = [_unit(judgement.plan, id) for id in told]
    size = len(told)
    rows = [[NOT_THERE] * size for _ in told]
    expected = [[FREE] * size for _ in told]
    for b, a in combinations(range(size), 2):
        letter = _letter(judgement, units[a], units[b])
        rows[a][b], rows[b][a] = letter, _TURNED.get(letter, letter)
        expected[a][b] = expected[b][a] = _expected(judgement, units[a], units[b])
    wrongs = wrong(np.array(rows), np.array(expected))
    return Meetings(told, tuple(map("".join, rows)), tuple(map("".join, expected)), wrongs)


def _unit(plan: Plan, id: str) -> Unit:
    record = plan.find(id, ENDS)
    if record is None:
        raise PlanError(
            [Problem("a guest, a station, a host, one of their interfaces or an outside network is needed", field="of")]
        )
    if isinstance(record, Outside):
        return Unit(id, ())
    return Unit(id, tuple(end.id for end in ends_of(plan, record)) if record.kind in OWNERS else (id,))


def _letter(judgement: Judgement, one: Unit, two: Unit) -> str:
    look = asked(judgement).look
    near, whole = (
        Parting(look, Apart((), (), layer2), Whom((one,)), Whom((two,)), Whom(())).answer().outcome
        for layer2 in (True, False)
    )
    if near == BROKEN or whole in (HOLDS, NOBODY):
        return MEETS if near == BROKEN else APART if whole == HOLDS else NOT_THERE
    ways = _reaches(judgement, one, two), _reaches(judgement, two, one)
    return {(True, True): BOTH, (True, False): THERE, (False, True): BACK}.get(ways, OPEN)


def _reaches(judgement: Judgement, one: Unit, two: Unit) -> bool:
    """Whether packets of one get to the other over routers, in some state."""
    look = asked(judgement).look
    outside = judgement.plan.of(Outside.kind)
    starts, ends = (
        [unit.id] if unit.id in outside else [r for r in unit.records if look.has_addresses(r)] for unit in (one, two)
    )
    pairs = ((a, b) for a, b in product(starts, ends) if look.owner(a) != look.owner(b))
    return any(look.waking.arrives(a, b)[0] == ANSWERED for a, b in pairs)


def _expected(judgement: Judgement, one: Unit, two: Unit) -> str:
    """What rules expect of two: those that speak of all that is theirs."""
    meaning, found = asked(judgement).look.meaning, FREE
    for rule in sorted(judgement.plan.all(Rule), key=lambda rule: (rule.text, rule.id)):
        sentence = read(rule.text)
        if not isinstance(sentence, (Apart, Reach)):
            continue
        without = meaning.whom(sentence.without) if isinstance(sentence, Apart) else Whom(())
        sides = [meaning.whom(side) for side in (sentence.a, sentence.b)]
        if any(_among(a, sides[0], without) and _among(b, sides[1], without) for a, b in ((one, two), (two, one))):
            found = sterner(found, sentence)
    return found


def _among(unit: Unit, side: Whom, without: Whom) -> bool:
    """Whether all of an endpoint is meant by one side of a rule."""
    if not unit.records:
        return unit.id in {other.id for other in side.units} - {other.id for other in without.units}
    return set(unit.records) <= set(side.records) - set(without.records)

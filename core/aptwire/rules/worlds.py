"""Worlds: segments that a rule keeps apart from everything, so that they may have addresses which others have too."""

from __future__ import annotations

from collections.abc import Mapping

from aptwire.judge.judgement import Judgement
from aptwire.plan.kinds import Rule
from aptwire.plan.plan import Plan
from aptwire.plan.sentences import ANYTHING, EVERYTHING, ROLE, SEGMENT, Apart, RuleError, read
from aptwire.rules.whom import Meaning


def worlds_of(judgement: Judgement) -> Mapping[str, str]:
    """The worlds of a judged plan, to be asked `once`."""
    return worlds(judgement.plan)


def worlds(plan: Plan) -> Mapping[str, str]:
    """The segments (ids) in a world of their own, with the rule (text) that all of one world share; whoever is on none of them is in the world of all others.

    A rule that lets packets through, or that has exceptions, makes none.  Whether it holds is told elsewhere.
    """
    found: dict[str, str] = {}
    meaning = Meaning(plan)
    for rule in sorted(plan.all(Rule), key=lambda rule: rule.id):
        if EVERYTHING not in rule.text:
            continue
        try:
            said = read(rule.text)
        except RuleError:
            continue
        if isinstance(said, Apart) and not said.layer2 and not said.without:
            everything = any(subject.sort == EVERYTHING for subject in said.b)
            for subject in said.a if everything else ():
                if subject.sort in (SEGMENT, ROLE, ANYTHING):
                    found.update((id, rule.text) for id in meaning.segments(subject) if id not in found)
    return found

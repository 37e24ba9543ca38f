"""Many findings mended at once: the first mend of each, one after the other, as one edit."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from aptwire.judge.findings import everything
from aptwire.judge.judgement import Judgement
from aptwire.judge.mends import mends
from aptwire.plan.compare import difference
from aptwire.plan.edits import Edit


@dataclass(frozen=True)
class Together:
    """An edit that takes several mends: their titles in the order in which they were `taken`; `left` are the titles of the findings for which none was."""

    edit: Edit
    taken: tuple[str, ...]
    left: tuple[str, ...]


def mend_all(judgement: Judgement, findings: Iterable[str], told: Callable[[int], None] = lambda _: None) -> Together:
    """The first mend of each of some findings (ids) by which nobody fares worse, each tried on what the ones before it made of the plan.

    What an earlier mend has put right already needs none of its own.  `told` hears how many are done.
    """
    now = judgement
    taken: list[str] = []
    left: list[str] = []
    for number, id in enumerate(dict.fromkeys(findings), 1):
        finding = next((f for f in everything(now) if f.id == id), None)
        if finding is not None:
            mend = next((m for m in mends(now, finding) if not any(move.worse for move in m.preview.moves)), None)
            if mend is None:
                left.append(finding.title)
            else:
                taken.append(mend.title)
                now = mend.preview.judgement
        told(number)
    return Together(difference(judgement.plan, now.plan), tuple(taken), tuple(left))

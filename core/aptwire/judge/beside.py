"""Two judgements beside each other: which records, verdicts and findings differ."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from aptwire.judge.findings import Finding, everything
from aptwire.judge.judgement import Judgement
from aptwire.judge.preview import Move, moves
from aptwire.judge.risks import Risk
from aptwire.plan.compare import Change, changes
from aptwire.plan.names import called


@dataclass(frozen=True)
class Beside:
    """What differs from one judgement to another: records, how many have each verdict in either, who moves, findings gone and new."""

    changes: tuple[Change, ...]
    counts: tuple[dict[str, int], dict[str, int]]
    moves: tuple[Move, ...]
    gone: tuple[Finding | Risk, ...]
    new: tuple[Finding | Risk, ...]

    def __bool__(self) -> bool:
        """Whether anything differs."""
        return bool(self.changes or self.moves or self.gone or self.new)

    def to_json(self) -> dict[str, Any]:
        """For a program."""
        return {
            "changes": [change.to_json() for change in self.changes],
            "counts": {"before": self.counts[0], "after": self.counts[1]},
            "moves": [move.to_json() for move in self.moves],
            "gone": [_finding(found) for found in self.gone],
            "new": [_finding(found) for found in self.new],
        }


def _finding(found: Finding | Risk) -> dict[str, str]:
    return {"id": found.id, "verdict": found.verdict, "title": found.title, "text": found.text}


def laid_beside(before: Judgement, after: Judgement) -> Beside:
    """What differs.  A finding is the same where its id is."""
    old, new = ({found.id: found for found in everything(judgement)} for judgement in (before, after))
    return Beside(
        tuple(changes(before.plan, after.plan)),
        (before.counts(), after.counts()),
        moves(before, after),
        tuple(found for id, found in old.items() if id not in new),
        tuple(found for id, found in new.items() if id not in old),
    )


def endpoint_name(before: Judgement, after: Judgement, endpoint: str) -> str:
    """What people call an endpoint that is in either judgement."""
    for judgement in (after, before):
        record = judgement.plan.find(endpoint, ("adapter", "host_port"))
        if record is not None:
            return called(judgement.plan, record)
    raise KeyError(endpoint)

"""What an edit would change: verdicts before and after, nothing saved."""

from __future__ import annotations

from dataclasses import dataclass

from aptwire.judge.verdicts import VERDICTS, Judgement, judge
from aptwire.plan.edits import Edit, apply_edit
from aptwire.plan.plan import Plan


@dataclass(frozen=True)
class Move:
    """An endpoint whose verdict changes; None where it isn't there before or after."""

    endpoint: str
    before: str | None
    after: str | None

    @property
    def worse(self) -> bool:
        """Whether the verdict is graver than before."""
        return bool(self.after) and VERDICTS.index(self.after or "home") > VERDICTS.index(self.before or "home")

    def to_json(self) -> dict[str, str | None]:
        """The move for a program."""
        return {"endpoint": self.endpoint, "before": self.before, "after": self.after}


@dataclass(frozen=True)
class Preview:
    """The plan after an edit, its judgement, the inverse edit, and every endpoint whose verdict moves."""

    plan: Plan
    judgement: Judgement
    inverse: Edit
    moves: tuple[Move, ...]


def preview(before: Judgement, edit: Edit) -> Preview:
    """Apply an edit to a judged plan and compare; PlanError if the edit can't be applied."""
    plan, inverse = apply_edit(before.plan, edit)
    after = judge(plan)
    return Preview(plan, after, inverse, moves(before, after))


def moves(before: Judgement, after: Judgement) -> tuple[Move, ...]:
    """The endpoints whose verdict differs between two judgements, by id."""
    old, new = before.verdicts(), after.verdicts()
    return tuple(
        Move(endpoint, old.get(endpoint), new.get(endpoint))
        for endpoint in sorted(old.keys() | new.keys())
        if old.get(endpoint) != new.get(endpoint)
    )

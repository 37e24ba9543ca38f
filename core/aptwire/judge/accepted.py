"""Accepted findings: passed over as long as their cause is the same and their day hasn't come."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from aptwire.judge.findings import Finding
from aptwire.judge.risks import Risk
from aptwire.plan.checks import make_record
from aptwire.plan.edits import Edit, Put
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import Acceptance
from aptwire.plan.plan import Plan, PlanError, Problem


@dataclass(frozen=True)
class Standing:
    """An acceptance of a finding, and why it doesn't hold any more; empty: it does."""

    record: Acceptance
    over: str

    def __str__(self) -> str:
        until = f", until {self.record.until}" if self.record.until else ""
        return f"{self.record.by}{until}: {self.record.why}"

    def to_json(self) -> dict[str, Any]:
        """For a program."""
        own = self.record
        return {"id": own.id, "by": own.by, "why": own.why, "until": own.until, "over": self.over}


def cause_of(finding: Finding | Risk) -> str:
    """A digest of what a finding is: how grave, where it sits and whom it makes suffer.  Names are left out, so that nobody's renaming brings it back."""
    said = (finding.verdict, finding.what, sorted(finding.culprit), sorted(finding.endpoints), finding.idle)
    return hashlib.sha256(repr(said).encode()).hexdigest()[:16]


def standing(plan: Plan, finding: Finding | Risk, today: datetime.date) -> Standing | None:
    """The acceptance of a finding, if anybody accepted it."""
    for record in plan.where("acceptance", "finding", finding.id):
        if record.cause != cause_of(finding):
            return Standing(record, "its cause has changed")
        if record.until is not None and datetime.date.fromisoformat(record.until) < today:
            return Standing(record, f"it was accepted until {record.until}")
        return Standing(record, "")
    return None


def sorted_out(
    plan: Plan, found: Iterable[Finding | Risk], today: datetime.date
) -> tuple[list[Finding | Risk], list[Finding | Risk]]:
    """The findings that stand, and those that are accepted, each in their order."""
    if not plan.of("acceptance"):
        return list(found), []
    open_: list[Finding | Risk] = []
    accepted: list[Finding | Risk] = []
    for finding in found:
        known = standing(plan, finding, today)
        (accepted if known is not None and not known.over else open_).append(finding)
    return open_, accepted


def accept(plan: Plan, finding: Finding | Risk, by: str, why: str, until: str | None) -> Edit:
    """The edit that accepts a finding as it is now, in place of an acceptance that doesn't hold any more."""
    if not why.strip():
        raise PlanError([Problem("say why, for whoever reads it later", field="why")])
    known = plan.where("acceptance", "finding", finding.id)
    id = known[0].id if known else make_id(f"accepted:{finding.id}")
    values = {"finding": finding.id, "cause": cause_of(finding), "said": finding.title[:400]}
    said = {"id": id, **values, "by": by[:80], "why": why.strip(), "until": until or None}
    return (Put(make_record("acceptance", said)),)

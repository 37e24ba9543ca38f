"""The compiled engine of each plan in memory, caught up by the edits in between."""

from __future__ import annotations

import threading
import uuid
from collections import OrderedDict
from dataclasses import dataclass, field
from typing import Any

from aptwire.judge.findings import Finding, findings
from aptwire.judge.mends import Mend, mends
from aptwire.judge.verdicts import Judgement, judge
from aptwire.plan.edits import apply_edit, edit_from_json
from aptwire.plan.plan import Plan
from aptwire.report import summary
from django.db import transaction

from aptwire_server.plans.models import PlanRow, Revision
from aptwire_server.plans.tables import load_plan

KEPT = 32


@dataclass
class Engine:
    """A plan at a revision, judged once and asked many times."""

    revision: int
    plan: Plan
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _judgement: Judgement | None = None
    _findings: dict[str, Finding] | None = None
    _mends: dict[str, list[Mend]] = field(default_factory=dict)
    _summary: dict[str, Any] | None = None

    def judgement(self) -> Judgement:
        """The verdicts."""
        with self._lock:
            if self._judgement is None:
                self._judgement = judge(self.plan)
            return self._judgement

    def findings(self) -> dict[str, Finding]:
        """The findings by id, worst first."""
        judged = self.judgement()
        with self._lock:
            if self._findings is None:
                self._findings = {f.id: f for f in findings(judged)}
            return self._findings

    def mends(self, finding: Finding) -> list[Mend]:
        """The mends of a finding."""
        judged = self.judgement()
        with self._lock:
            if finding.id not in self._mends:
                self._mends[finding.id] = mends(judged, finding)
            return self._mends[finding.id]

    def summary(self) -> dict[str, Any]:
        """Counts, endpoints and findings as JSON."""
        found = list(self.findings().values())
        judged = self.judgement()
        with self._lock:
            if self._summary is None:
                self._summary = summary(judged, found)
            return self._summary


_engines: OrderedDict[uuid.UUID, Engine] = OrderedDict()
_guard = threading.Lock()


def engine_of(row: PlanRow) -> Engine:
    """The engine of a plan at the revision that the row says."""
    with _guard:
        known = _engines.get(row.id)
    if known is not None and known.revision == row.revision:
        return known
    if known is not None and known.revision < row.revision:
        plan = known.plan
        later = Revision.objects.filter(plan=row, number__gt=known.revision, number__lte=row.revision).order_by(
            "number"
        )
        for revision in later:
            plan, _ = apply_edit(plan, edit_from_json(revision.edit))
        return keep(row.id, Engine(row.revision, plan))
    return keep(row.id, _from_tables(row))


def keep(plan_id: uuid.UUID, engine: Engine) -> Engine:
    """Remember an engine, unless a newer one is known; the least used are forgotten."""
    with _guard:
        known = _engines.get(plan_id)
        if known is not None and known.revision > engine.revision:
            return engine
        _engines[plan_id] = engine
        _engines.move_to_end(plan_id)
        while len(_engines) > KEPT:
            _engines.popitem(last=False)
        return engine


def _from_tables(row: PlanRow) -> Engine:
    """Rows and revision number of one moment: writers hold the plan row's lock until they are done."""
    with transaction.atomic():
        fresh = PlanRow.objects.select_for_update(of=("self",)).get(pk=row.pk)
        return Engine(fresh.revision, load_plan(fresh))

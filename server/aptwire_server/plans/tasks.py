"""Long work, taken from the queue by whichever worker is free."""

from __future__ import annotations

import base64
import json
import socket
import time
import uuid
from typing import Any

from aptwire.plan.edits import apply_edit, edit_from_json
from aptwire.plan.file import write_plan
from aptwire.plan.plan import Plan
from aptwire_bench.kernel import BenchError, Cancelled
from aptwire_bench.prove import Report, Scope, prove
from django.utils import timezone
from procrastinate.contrib.django import app

from aptwire_server.plans.engine import engine_of
from aptwire_server.plans.models import BenchRun, PlanRow, Revision

PULSE = 1.0
LONGEST_LOG = 20_000


def plan_at(row: PlanRow, number: int) -> Plan:
    """A plan as it was at a revision: the latest one, with what came after taken back."""
    engine = engine_of(row)
    plan = engine.plan
    later = Revision.objects.filter(plan=row, number__gt=number, number__lte=engine.revision).order_by("-number")
    for revision in later:
        plan, _ = apply_edit(plan, edit_from_json(revision.inverse))
    return plan


class Pulse:
    """Tells the run's row how far it is, and hears there whether it is to end."""

    def __init__(self, run: BenchRun) -> None:
        self.run = run
        self.told = 0.0
        self.last = ""
        self.lines: list[str] = []

    def __call__(self, step: str, done: int, of: int) -> None:
        now = time.monotonic()
        if step != self.last:
            self.lines.append(f"{timezone.now():%H:%M:%S} {step}")
            self.last = step
        if now - self.told < PULSE:
            return
        self.told = now
        log = "\n".join(self.lines)[-LONGEST_LOG:]
        BenchRun.objects.filter(pk=self.run.pk).update(step=step, done=done, of=of, seen=timezone.now(), log=log)
        if BenchRun.objects.filter(pk=self.run.pk, cancel=True).exists():
            raise Cancelled("cancelled")


@app.task(queue="bench")
def prove_revision(plan_id: str, number: int) -> None:
    """Put a plan's revision to a real kernel, as its bench run says; the run keeps what came of it."""
    run = BenchRun.objects.select_related("plan").get(plan_id=uuid.UUID(plan_id), number=number)
    mine = BenchRun.objects.filter(pk=run.pk, state="waiting", cancel=False)
    now = timezone.now()
    if not mine.update(state="running", started=now, seen=now, worker=socket.gethostname()[:80]):
        return
    pulse = Pulse(run)
    ended: dict[str, Any]
    try:
        plan = plan_at(run.plan, run.revision)
        report = prove(plan, Scope(**run.scope), pulse)
        ended = {"state": "done", "report": report.to_json(plan), "stories": files(report)}
    except Cancelled:
        ended = {"state": "cancelled"}
    except BenchError as error:
        ended = {"state": "failed", "error": str(error)}
    except Exception as error:
        # Whatever it was, the person who waits is told; the queue keeps the rest for whoever looks after it.
        BenchRun.objects.filter(pk=run.pk).update(
            state="failed", error=f"the bench broke off: {type(error).__name__}: {error}", ended=timezone.now()
        )
        raise
    pulse.lines.append(f"{timezone.now():%H:%M:%S} {ended['state']}")
    BenchRun.objects.filter(pk=run.pk).update(ended=timezone.now(), log="\n".join(pulse.lines)[-LONGEST_LOG:], **ended)


def files(report: Report) -> list[dict[str, str]]:
    """Each story's files in base64: the smallest plan, the difference, the frames at each port."""
    made = []
    for story in report.stories:
        content = {
            "plan.json": write_plan(story.smallest),
            "difference.json": json.dumps(story.difference, ensure_ascii=False, indent=1).encode(),
            **{f"{name}.pcap": raw for name, raw in story.frames.items()},
        }
        made.append({name: base64.b64encode(raw).decode() for name, raw in content.items()})
    return made

"""Long work, taken from the queue by whichever worker is free."""

from __future__ import annotations

import base64
import json
import logging
import socket
import threading
import time
import uuid
from typing import Any

from aptwire.plan.file import write_plan
from aptwire_bench.kernel import BenchError, Cancelled
from aptwire_bench.prove import Report, Scope, prove
from django.db import DatabaseError, connection
from django.db.models.functions import Now
from django.utils import timezone
from procrastinate.contrib.django import app

from aptwire_server.plans.engine import engine_at
from aptwire_server.plans.listing import purge
from aptwire_server.plans.models import BenchRun

BEAT, SILENT = 2.0, 8.0
"""Seconds between two signs of life of a worker, and after which one that gave none counts as gone."""
PULSE = 1.0
TRIES = 60
LONGEST_LOG = 20_000
log = logging.getLogger(__name__)


class Pulse:
    """Tells the run's row how far it is, and hears there whether it is to end; as a context, for as long as it runs.

    A thread of its own does so, that a step which takes its time isn't taken for a worker that is gone.  What the database doesn't
    take while it is away is told once it is back.
    """

    def __init__(self, run: BenchRun) -> None:
        self.run = run
        self.now: tuple[str, int, int] = ("", 0, 0)
        self.lines: list[str] = []
        self.cancelled = False
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._beat, daemon=True)

    def __enter__(self) -> Pulse:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()

    def __call__(self, step: str, done: int, of: int) -> None:
        if step != self.now[0]:
            self.lines.append(f"{timezone.now():%H:%M:%S} {step}")
        self.now = step, done, of
        if self.cancelled:
            raise Cancelled("cancelled")

    def log(self) -> str:
        """What it has said, the latest of it if that is much."""
        return "\n".join(self.lines)[-LONGEST_LOG:]

    def _beat(self) -> None:
        mine = BenchRun.objects.filter(pk=self.run.pk)
        try:
            while not self._over.wait(PULSE):
                step, done, of = self.now
                try:
                    mine.update(step=step, done=done, of=of, seen=Now(), log=self.log())
                    self.cancelled = mine.filter(cancel=True).exists()
                except DatabaseError as error:
                    log.warning("a run can’t tell how far it is: %s", str(error).partition("\n")[0])
                    connection.close()
        finally:
            connection.close()


@app.task(queue="bench")
def prove_revision(plan_id: str, number: int) -> None:
    """Put a plan's revision to a real kernel, as its bench run says; the run keeps what came of it."""
    run = BenchRun.objects.select_related("plan").get(plan_id=uuid.UUID(plan_id), number=number)
    mine = BenchRun.objects.filter(pk=run.pk, state="waiting", cancel=False)
    if not mine.update(state="running", started=timezone.now(), seen=Now(), worker=socket.gethostname()[:80]):
        return
    ended: dict[str, Any]
    with Pulse(run) as pulse:
        try:
            plan = engine_at(run.plan, run.revision).plan
            report = prove(plan, Scope(**run.scope), pulse)
            ended = {"state": "done", "error": "", "report": report.to_json(plan), "stories": files(report)}
        except Cancelled:
            ended = {"state": "cancelled"}
        except BenchError as error:
            ended = {"state": "failed", "error": str(error)}
        except Exception as error:
            # Whatever it was, the person who waits is told; the log of the worker has the rest.
            log.exception("a run of the bench broke off")
            ended = {"state": "failed", "error": f"the bench broke off: {type(error).__name__}: {error}"}
    pulse.lines.append(f"{timezone.now():%H:%M:%S} {ended['state']}")
    _keep(run, {**ended, "ended": timezone.now(), "log": pulse.log()})


@app.periodic(cron="17 3 * * *")
@app.task(queue="bench")
def empty_bin(timestamp: int) -> None:
    """Once a day: delete for good what has waited in the bin for long enough."""
    purge()


def _keep(run: BenchRun, ended: dict[str, Any]) -> None:
    """Write how a run ended; a database that is away is waited for."""
    for left in range(TRIES, -1, -1):
        try:
            BenchRun.objects.filter(pk=run.pk).update(**ended)
            return
        except DatabaseError:
            if not left:
                raise
            connection.close()
            time.sleep(PULSE)


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

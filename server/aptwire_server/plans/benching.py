"""The bench over HTTP: ask for a run, follow it, end it, read what came of it."""

from __future__ import annotations

import base64
import io
import sys
import uuid
import zipfile
from datetime import timedelta
from typing import Any

from django.db import transaction
from django.db.models import Max
from django.db.models.functions import Now
from django.http import HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from procrastinate.contrib.django.models import ProcrastinateWorker
from rest_framework.decorators import api_view
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.gate import bad, body_of, number_asked
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.models import BenchRun, PlanRow
from aptwire_server.plans.schemas import SCOPE, ref
from aptwire_server.plans.tasks import SILENT, prove_revision

GONE = timedelta(seconds=5)
"""A worker speaks of its run every second, whatever it is at."""
KEPT = 100


def _item(run: BenchRun) -> dict[str, Any]:
    report = run.report or {}
    return {
        "number": run.number,
        "revision": run.revision,
        "author": run.author.get_username() if run.author else None,
        "state": run.state,
        "asked": run.asked.isoformat(),
        "started": run.started and run.started.isoformat(),
        "ended": run.ended and run.ended.isoformat(),
        "worker": run.worker,
        "step": run.step,
        "done": run.done,
        "of": run.of,
        "error": run.error,
        **{name: report.get(name) for name in ("questions", "agreed", "differed", "not_tried")},
    }


def _bury(plan_id: uuid.UUID) -> None:
    """Runs whose worker has not spoken for a while have lost it; one that somebody cancelled has ended as it should."""
    gone = BenchRun.objects.filter(plan_id=plan_id, state="running", seen__lt=Now() - GONE)
    gone.filter(cancel=True).update(state="cancelled", ended=timezone.now())
    gone.update(state="failed", error="the worker that took it is gone; ask again", ended=timezone.now())


def _workers() -> int:
    """How many workers there are, by their signs of life."""
    return ProcrastinateWorker.objects.filter(last_heartbeat__gt=Now() - timedelta(seconds=SILENT)).count()


@extend_schema(methods=["GET"], responses={200: ref("BenchRuns")}, operation_id="list_bench_runs")
@extend_schema(
    methods=["POST"],
    request={"application/json": ref("BenchScope")},
    responses={201: ref("BenchItem"), **REFUSED},
    operation_id="start_bench_run",
)
@api_view(["GET", "POST"])
def runs(request: Request, plan_id: uuid.UUID) -> Response:
    """The latest runs of a plan, newest first, and how many workers there are to take one; or a new run, of the revision `at`, the present one unless said."""
    plan_for(request, plan_id)
    _bury(plan_id)
    if request.method == "GET":
        found = BenchRun.objects.filter(plan_id=plan_id).select_related("author").defer("log", "stories")
        return Response({"workers": _workers(), "runs": [_item(run) for run in found.order_by("-number")[:KEPT]]})
    asked = body_of(request, **dict.fromkeys(SCOPE, int))
    for name, (low, high) in SCOPE.items():
        if not low <= asked[name] <= high:
            raise bad(f"a number from {low} to {high} is needed", name)
    at = number_asked(request, "at") if "at" in request.query_params else sys.maxsize
    with transaction.atomic():
        row = PlanRow.objects.select_for_update().get(pk=plan_id)
        if BenchRun.objects.filter(plan=row, state__in=["waiting", "running"]).exists():
            raise bad("a run of this plan is waiting or running; end it, or wait for it")
        number = (BenchRun.objects.filter(plan=row).aggregate(most=Max("number"))["most"] or 0) + 1
        made = BenchRun.objects.create(
            plan=row,
            number=number,
            revision=min(at, row.revision),
            author=request.user,
            scope={name: asked[name] for name in SCOPE},
        )
        prove_revision.defer(plan_id=str(plan_id), number=number)
    return Response(_item(made), status=201)


def _found(request: Request, plan_id: uuid.UUID, number: int) -> BenchRun:
    plan_for(request, plan_id)
    _bury(plan_id)
    return get_object_or_404(BenchRun.objects.select_related("author"), plan_id=plan_id, number=number)


@extend_schema(responses={200: ref("BenchDetail"), 404: ref("Refusal")}, operation_id="get_bench_run")
@api_view(["GET"])
def run(request: Request, plan_id: uuid.UUID, number: int) -> Response:
    """A run with its log and its report."""
    found = _found(request, plan_id, number)
    return Response({"run": _item(found), "scope": found.scope, "log": found.log, "report": found.report})


@extend_schema(request=None, responses={200: ref("BenchItem"), **REFUSED}, operation_id="cancel_bench_run")
@api_view(["POST"])
def cancel(request: Request, plan_id: uuid.UUID, number: int) -> Response:
    """End a run: at once while it waits, else as soon as its worker looks up."""
    found = _found(request, plan_id, number)
    if found.state not in ("waiting", "running"):
        raise bad(f"the run is {found.state} already")
    mine = BenchRun.objects.filter(pk=found.pk)
    mine.update(cancel=True)
    mine.filter(state="waiting").update(state="cancelled", ended=timezone.now())
    return Response(_item(_found(request, plan_id, number)))


@extend_schema(
    responses={(200, "application/zip"): {"type": "string", "format": "binary"}}, operation_id="get_bench_difference"
)
@api_view(["GET"])
def difference(request: Request, plan_id: uuid.UUID, number: int, story: int) -> HttpResponse:
    """A difference as files: the smallest plan, what differs, and the frames seen at each port as pcap."""
    stories = _found(request, plan_id, number).stories
    if not 1 <= story <= len(stories):
        raise NotFound("This run has no such difference.")
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in stories[story - 1].items():
            archive.writestr(name, base64.b64decode(text))
    response = HttpResponse(packed.getvalue(), content_type="application/zip")
    response["Content-Disposition"] = f'attachment; filename="run-{number}-difference-{story}.zip"'
    return response

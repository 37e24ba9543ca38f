"""The list of plans: new ones, copies, names, and the bin in which deleted ones wait."""

from __future__ import annotations

import uuid
from datetime import timedelta
from typing import Any

from aptwire.formats.hosts import read_hosts
from aptwire.judge.verdicts import judge
from aptwire.plan.fields import Spec
from aptwire.plan.file import read_plan
from aptwire.plan.kinds import KINDS
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.report import summary
from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction
from django.db.models import Count, OuterRef, Q, Subquery
from django.db.models.functions import Coalesce
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view, parser_classes
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.commits import create_plan, notify
from aptwire_server.plans.engine import engine_of, forget
from aptwire_server.plans.gate import Form, bad, body_of, texts_of
from aptwire_server.plans.models import ROWS, PlanRow
from aptwire_server.plans.schemas import TEXT, body, many, obj, ref

REFUSED = {400: ref("Refusal")}
NAME = Spec("text", low=1, high=80)
NAME_SCHEMA = {**TEXT, "minLength": 1, "maxLength": 80}
WAITS = timedelta(days=30)
"""For so long a deleted plan can be taken out of the bin again."""


def item_of(row: PlanRow) -> dict[str, Any]:
    """A plan as a list shows it: how large it is and how it stands, who changed it last, and since when and by whom it is in the bin."""
    held = row.of if row.of_id is not None else row
    hosts, guests = (ROWS[kind].objects.filter(plan=held).count() for kind in ("host", "guest"))
    return _item(row, hosts, guests)


def _item(row: PlanRow, hosts: int, guests: int) -> dict[str, Any]:
    return {
        "id": str(row.pk),
        "name": row.name,
        "draft_of": row.of and row.of.name,
        "revision": row.revision,
        "changed": row.changed.isoformat(),
        "changed_by": row.changed_by and row.changed_by.get_username(),
        "hosts": hosts,
        "guests": guests,
        "counts": row.counts,
        "binned": row.binned and row.binned.isoformat(),
        "binned_by": row.binned_by and row.binned_by.get_username(),
        "kept_until": row.binned and (row.binned + WAITS).isoformat(),
    }


def _listed(person: AbstractBaseUser, binned: bool) -> list[dict[str, Any]]:
    def counted(kind: str) -> Any:
        rows = ROWS[kind].objects.filter(plan=Coalesce(OuterRef("of"), OuterRef("pk"))).order_by().values("plan")
        return Coalesce(Subquery(rows.annotate(n=Count("key")).values("n")), 0)

    found = PlanRow.objects.select_related("changed_by", "binned_by", "of").filter(binned__isnull=not binned)
    # Drafts stand with their plan; in the bin each for itself, but not where the plan waits there too.
    found = found.filter(Q(of__binned=None) & (Q(private=False) | Q(author=person)) if binned else Q(of=None))
    rows: Any = found.annotate(hosts=counted("host"), guests=counted("guest")).order_by("name", "created")
    return [_item(row, row.hosts, row.guests) for row in rows]


def name_of(text: str) -> str:
    """A plan's name as it was typed, or the refusal that names the field."""
    try:
        return str(NAME.take(text.strip()))
    except ValueError as error:
        raise bad(str(error), "name") from None


def rename(row: PlanRow, person: AbstractBaseUser, name: str) -> None:
    """Give a plan another name, and tell whoever has it open; PlanError where another draft has it."""
    with transaction.atomic():
        if row.of_id is not None:
            refuse_taken(row.of_id, person, name, row)
        row.name = name
        row.save(update_fields=["name"])
    _tell(row)


def refuse_taken(plan_id: uuid.UUID, person: AbstractBaseUser, name: str, but: PlanRow | None = None) -> None:
    """PlanError where a draft of a plan that a person sees has a name; in a transaction, in which those who name one at once do so one after the other."""
    PlanRow.objects.select_for_update().get(pk=plan_id)
    seen = PlanRow.objects.filter(Q(private=False) | Q(author=person), of=plan_id, binned=None, landed=None)
    if seen.filter(name=name).exclude(pk=but.pk if but else None).exists():
        raise PlanError([Problem(f"a draft is called “{name}” already", field="name")])


def put_into_bin(row: PlanRow, person: AbstractBaseUser) -> None:
    """Take a plan out of the list, and tell whoever has it open."""
    row.binned, row.binned_by = timezone.now(), person
    row.save(update_fields=["binned", "binned_by"])
    _tell(row)


def _tell(row: PlanRow) -> None:
    by = row.binned_by.get_username() if row.binned_by else None
    notify({"plan": str(row.pk), "about": {"name": row.name, "binned_by": by}})
    if row.of_id is not None:
        notify({"plan": str(row.of_id), "drafts": True})


def purge() -> int:
    """Delete for good what has waited in the bin for long enough; how many plans that were."""
    over = PlanRow.objects.filter(binned__lt=timezone.now() - WAITS)
    return sum(_delete(row) for row in over)


def _delete(row: PlanRow) -> int:
    forget(row.pk)
    with transaction.atomic():
        # Whoever is writing rows of it ends first.
        PlanRow.objects.select_for_update(of=("self",)).get(pk=row.pk).delete()
    return 1


@extend_schema(methods=["GET"], responses={200: many(ref("PlanItem"))}, operation_id="list_plans")
@extend_schema(
    methods=["POST"],
    request=body(name=NAME_SCHEMA),
    responses={201: ref("PlanItem"), **REFUSED},
    operation_id="create_plan",
)
@api_view(["GET", "POST"])
def plans(request: Request) -> Response:
    """All plans; or a new, empty one."""
    if request.method == "GET":
        return Response(_listed(request.user, binned=False))
    row = create_plan(Plan(name_of(body_of(request, name=str)["name"])), request.user)
    return Response(item_of(row), status=201)


@extend_schema(request=body(name=NAME_SCHEMA), responses={201: ref("PlanItem"), **REFUSED}, operation_id="copy_plan")
@api_view(["POST"])
def copy_plan(request: Request, plan_id: uuid.UUID) -> Response:
    """A new plan with the records of another one as they are now, and a history of its own."""
    row = plan_for(request, plan_id)
    name = name_of(body_of(request, name=str)["name"])
    return Response(item_of(create_plan(engine_of(row).plan.named(name), request.user)), status=201)


@extend_schema(responses={200: many(ref("PlanItem"))}, operation_id="list_bin")
@api_view(["GET"])
def bin_list(request: Request) -> Response:
    """The deleted plans that still wait."""
    return Response(_listed(request.user, binned=True))


@extend_schema(responses={204: None}, operation_id="delete_for_good")
@api_view(["DELETE"])
def bin_item(request: Request, plan_id: uuid.UUID) -> Response:
    """Delete a plan that waits in the bin, with its history, for good."""
    _delete(plan_for(request, plan_id, binned=True))
    return Response(status=204)


@extend_schema(request=None, responses={200: ref("PlanItem")}, operation_id="take_out_of_bin")
@api_view(["POST"])
def restore(request: Request, plan_id: uuid.UUID) -> Response:
    """Take a plan out of the bin."""
    row = plan_for(request, plan_id, binned=True)
    row.binned = row.binned_by = None
    row.save(update_fields=["binned", "binned_by"])
    _tell(row)
    return Response(item_of(row))


@extend_schema(
    request={"multipart/form-data": obj(file={"type": "string", "format": "binary"})},
    responses={201: ref("PlanItem"), **REFUSED},
    operation_id="import_plan",
)
@api_view(["POST"])
@parser_classes([Form])
def import_plan(request: Request) -> Response:
    """A new plan from a plan file."""
    file = request.FILES.get("file")
    if file is None:
        raise bad("a plan file is needed", "file")
    row = create_plan(read_plan(file.read(), file.name or "plan file"), request.user)
    return Response(item_of(row), status=201)


@extend_schema(
    request={
        "multipart/form-data": {
            "type": "object",
            "required": ["name", "path", "file"],
            "properties": {
                "name": TEXT,
                "save": {"type": "string", "enum": ["yes", "no"]},
                "path": many(TEXT),
                "file": many({"type": "string", "format": "binary"}),
            },
        }
    },
    responses={200: ref("Reading"), 201: ref("Reading"), **REFUSED},
    operation_id="read_host_states",
)
@api_view(["POST"])
@parser_classes([Form])
def read_host_states(request: Request) -> Response:
    """A plan from host states: the report alone, or with save=yes the plan too.

    `file` and `path` come in the same order; a path is device/file.
    """
    files, paths = request.FILES.getlist("file"), texts_of(request, "path")
    if not files or len(files) != len(paths):
        raise bad("as many paths as files are needed, and at least one", "path")
    name = name_of("".join(texts_of(request, "name")[:1]).strip()[:80] or "hosts as read")
    plan, report = read_hosts({path: file.read() for path, file in zip(paths, files, strict=True)}, name)
    saved = create_plan(plan, request.user) if "yes" in texts_of(request, "save") else None
    made = {
        "report": [note.to_json() for note in report.notes],
        "records": {kind: len(plan.of(kind)) for kind in KINDS},
        # One that was saved is judged already.
        "summary": engine_of(saved).summary() if saved else summary(judge(plan)),
        "plan": item_of(saved) if saved else None,
    }
    return Response(made, status=201 if saved else 200)

"""A plan's history: every revision, any two beside each other, any brought back, and names for those that count."""

from __future__ import annotations

import uuid
from typing import Any

from aptwire.judge.beside import Beside, laid_beside
from aptwire.plan.compare import difference
from django.db import IntegrityError, transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.commits import commit, revision_json
from aptwire_server.plans.engine import Engine, engine_at, engine_of
from aptwire_server.plans.gate import bad, body_of, number_asked
from aptwire_server.plans.listing import NAME_SCHEMA, REFUSED, name_of
from aptwire_server.plans.models import Mark, PlanRow, Revision
from aptwire_server.plans.pages import told_moves
from aptwire_server.plans.schemas import body, bounded, ref
from aptwire_server.plans.views import CONFLICT, COUNT, committed

PAGE = 50
MOST_CHANGES = 500
MOST_FINDINGS = 100


def _item(revision: Revision, before: dict[str, int] | None, marks: list[Mark]) -> dict[str, Any]:
    return {**revision_json(revision), "counts": revision.counts, "before": before, "marks": [_mark(m) for m in marks]}


def _mark(mark: Mark) -> dict[str, Any]:
    return {
        "id": mark.pk,
        "revision": mark.revision,
        "name": mark.name,
        "author": mark.author and mark.author.get_username(),
        "at": mark.at.isoformat(),
    }


def _beginning(row: PlanRow, marks: list[Mark]) -> dict[str, Any]:
    """Revision 0, which no edit made."""
    return {
        "number": 0,
        "author": row.author and row.author.get_username(),
        "at": row.created.isoformat(),
        "message": "The plan was made" if row.of_id is None else f"Begun on revision {row.began} of {row.of.name}",
        "how": "edit",
        "of": None,
        "counts": row.first_counts,
        "before": None,
        "marks": [_mark(m) for m in marks],
    }


@extend_schema(
    parameters=[
        OpenApiParameter("before", COUNT, description="only revisions before this one; the latest unless said")
    ],
    responses={200: ref("History"), **REFUSED},
    operation_id="get_history",
)
@api_view(["GET"])
def history(request: Request, plan_id: uuid.UUID) -> Response:
    """The revisions, the latest first, a page of them; with the verdict counts to which each led, as far as they are known."""
    row = plan_for(request, plan_id)
    before = number_asked(request, "before") or row.revision + 1
    found = Revision.objects.filter(plan=row, number__lt=before).select_related("author").defer("edit", "inverse")
    listed = list(found.order_by("-number")[: PAGE + 1])
    shown, first = listed[:PAGE], len(listed) <= PAGE
    marks: dict[int, list[Mark]] = {}
    for mark in Mark.objects.filter(plan=row).select_related("author").order_by("at"):
        marks.setdefault(mark.revision, []).append(mark)
    counts = {0: row.first_counts, **{revision.number: revision.counts for revision in listed}}
    items = [_item(r, counts.get(r.number - 1), marks.get(r.number, [])) for r in shown]
    if first:
        items.append(_beginning(row, marks.get(0, [])))
    every = [_mark(m) for of in marks.values() for m in of]
    return Response({"revisions": items, "more": not first, "marks": every})


@extend_schema(
    parameters=[OpenApiParameter("a", COUNT, required=True), OpenApiParameter("b", COUNT, required=True)],
    responses={200: ref("Comparison"), **REFUSED},
    operation_id="compare_revisions",
)
@api_view(["GET"])
def compare(request: Request, plan_id: uuid.UUID) -> Response:
    """Revision b beside revision a: records in words, verdicts and findings that differ."""
    row = plan_for(request, plan_id)
    one, two = (engine_at(row, _known(row, number_asked(request, name), name)) for name in ("a", "b"))
    said = laid_beside(one.judgement(), two.judgement())
    _keep_counts(row, one.revision, said.counts[0])
    _keep_counts(row, two.revision, said.counts[1])
    return Response(comparison(one, two, said))


def comparison(one: Engine, two: Engine, said: Beside) -> dict[str, Any]:
    """Two engines laid beside each other, for a program."""
    told = said.to_json()
    return {
        "a": one.revision,
        "b": two.revision,
        "changes": told["changes"][:MOST_CHANGES],
        "more": max(0, len(said.changes) - MOST_CHANGES),
        "counts": told["counts"],
        **told_moves(said.moves, two.plan, MOST_CHANGES),
        "gone": told["gone"][:MOST_FINDINGS],
        "new": told["new"][:MOST_FINDINGS],
    }


def _known(row: PlanRow, number: int, field: str) -> int:
    if number < 0:
        raise bad("a revision is 0 or more", field)
    if number > row.revision:
        raise bad(f"there is no revision {number} yet; {row.revision} is the latest", field)
    return number


def _keep_counts(row: PlanRow, number: int, counts: dict[str, int]) -> None:
    """What was worked out for a revision of which it wasn't kept."""
    Revision.objects.filter(plan=row, number=number, counts=None).update(counts=counts)
    if number == 0 and row.first_counts is None:
        PlanRow.objects.filter(pk=row.pk).update(first_counts=counts)


@extend_schema(
    request=body(base=bounded(0), revision=bounded(0)),
    responses={200: ref("Committed"), **CONFLICT},
    operation_id="bring_back",
)
@api_view(["POST"])
def bring_back(request: Request, plan_id: uuid.UUID) -> Response:
    """A new revision in which the plan says what it said at an earlier one."""
    said = body_of(request, base=int, revision=int)
    row = plan_for(request, plan_id)
    number = _known(row, said["revision"], "revision")
    edit = difference(engine_of(row).plan, engine_at(row, number).plan)
    if not edit:
        raise bad(f"the plan says what it said at revision {number}", "revision")
    made = commit(plan_id, request.user, edit, said["base"], f"Bring back revision {number}")
    return committed(made, request)


@extend_schema(
    request=body(revision=bounded(0), name=NAME_SCHEMA),
    responses={201: ref("Mark"), **REFUSED},
    operation_id="mark_revision",
)
@api_view(["POST"])
def marks(request: Request, plan_id: uuid.UUID) -> Response:
    """Give a revision a name, which no other of the plan has."""
    said = body_of(request, revision=int, name=str)
    row, name = plan_for(request, plan_id), name_of(said["name"])
    number = _known(row, said["revision"], "revision")
    try:
        with transaction.atomic():
            made = Mark.objects.create(plan=row, revision=number, name=name, author=request.user)
    except IntegrityError:
        other = Mark.objects.get(plan=row, name=name)
        raise bad(f"revision {other.revision} is called that already", "name") from None
    return Response(_mark(made), status=201)


@extend_schema(responses={204: None, 404: ref("Refusal")}, operation_id="remove_mark")
@api_view(["DELETE"])
def mark(request: Request, plan_id: uuid.UUID, number: int) -> Response:
    """Take a mark away; the revision stays."""
    get_object_or_404(Mark, plan=plan_for(request, plan_id), pk=number).delete()
    return Response(status=204)

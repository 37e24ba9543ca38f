"""Drafts: branches of a plan, worked on like it, brought up to date when it goes on, and landed as one revision of it."""

from __future__ import annotations

import uuid
from typing import Any

from aptwire.judge.beside import laid_beside
from aptwire.plan.merge import DRAFT, PLAN, Merged, Place, merge
from django.db import transaction
from django.db.models import Q
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view
from rest_framework.exceptions import NotFound, PermissionDenied
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.branches import begin, follow, land, rebase, tell
from aptwire_server.plans.commits import Committed, revision_json
from aptwire_server.plans.engine import Engine, engine_at, engine_of
from aptwire_server.plans.gate import bad, body_of
from aptwire_server.plans.history import comparison
from aptwire_server.plans.listing import NAME_SCHEMA, REFUSED, name_of, refuse_taken
from aptwire_server.plans.models import PlanRow
from aptwire_server.plans.schemas import FLAG, body, bounded, many, ref
from aptwire_server.plans.views import CONFLICT, committed


def draft_json(row: PlanRow) -> dict[str, Any]:
    """A draft for a program; `latest` is the revision of its plan."""
    return {
        "id": str(row.pk),
        "plan": str(row.of_id),
        "plan_name": row.of.name,
        "name": row.name,
        "author": row.author and row.author.get_username(),
        "private": row.private,
        "revision": row.revision,
        "base": row.base,
        "latest": row.of.revision,
        "landed": row.landed,
        "changed": row.changed.isoformat(),
        "changed_by": row.changed_by and row.changed_by.get_username(),
        "counts": row.counts,
    }


def _draft(request: Request, draft_id: uuid.UUID) -> PlanRow:
    row = plan_for(request, draft_id)
    if row.of_id is None:
        raise NotFound("This is a plan, not a draft of one.")
    return row


@extend_schema(methods=["GET"], responses={200: many(ref("Draft"))}, operation_id="list_drafts")
@extend_schema(
    methods=["POST"],
    request=body(name=NAME_SCHEMA, private=FLAG),
    responses={201: ref("Draft"), **REFUSED},
    operation_id="begin_draft",
)
@api_view(["GET", "POST"])
def drafts(request: Request, plan_id: uuid.UUID) -> Response:
    """The drafts of a plan that you may see, the latest changed first (asked of a draft, those of its plan); or a new one upon the plan as it is.

    A draft has an address like a plan's: what can be asked of a plan, and done with it, can be with a draft.
    """
    row = plan_for(request, plan_id)
    plan = row if row.of_id is None else row.of
    if request.method == "POST":
        said = body_of(request, name=str, private=bool)
        return Response(draft_json(begin(plan, request.user, name_of(said["name"]), said["private"])), status=201)
    found = PlanRow.objects.filter(Q(private=False) | Q(author=request.user), of=plan, binned=None)
    return Response([draft_json(d) for d in found.select_related("of", "author", "changed_by").order_by("-changed")])


@extend_schema(request=body(private=FLAG), responses={200: ref("Draft"), **REFUSED}, operation_id="share_draft")
@api_view(["PATCH"])
def draft(request: Request, plan_id: uuid.UUID) -> Response:
    """Share a draft with everybody, or keep it for yourself; its author's to say."""
    row = _draft(request, plan_id)
    if row.author_id != request.user.pk:
        raise PermissionDenied("Only who began a draft can say who sees it.")
    row.private = body_of(request, private=bool)["private"]
    with transaction.atomic():
        if not row.private:
            refuse_taken(row.of.pk, request.user, row.name, row)
        row.save(update_fields=["private"])
        tell(row.of.pk)
    return Response(draft_json(row))


@extend_schema(responses={200: ref("Comparison"), **REFUSED}, operation_id="get_beside")
@api_view(["GET"])
def beside(request: Request, plan_id: uuid.UUID) -> Response:
    """A draft beside its plan (the revision on which it stands): records in words, verdicts and findings that differ."""
    row = _draft(request, plan_id)
    base, own = engine_at(row.of, row.base), engine_of(row)
    return Response(comparison(base, own, laid_beside(base.judgement(), own.judgement())))


@extend_schema(methods=["GET"], responses={200: ref("Rebasing"), **REFUSED}, operation_id="get_rebase")
@extend_schema(
    methods=["POST"],
    request=body(to=bounded(0), choices=many(ref("Choice"))),
    responses={200: ref("Rebasing"), **CONFLICT},
    operation_id="rebase_draft",
)
@api_view(["GET", "POST"])
def rebased(request: Request, plan_id: uuid.UUID) -> Response:
    """What clashes between a draft and its plan as that is now; or bring it onto that (revision `to`) with whose word stands chosen for each.

    Where a choice makes others necessary, or something is wrong with what was put together, nothing is done and the answer says so.
    """
    row = _draft(request, plan_id)
    if request.method == "GET":
        now = engine_of(row.of)
        merged = merge(engine_at(row.of, row.base).plan, now.plan, engine_of(row).plan)
        return Response(_rebasing(now, row, merged, None, request))
    said = body_of(request, to=int, choices=list)
    merged, made = rebase(row.pk, _choices(said["choices"]), request.user, said["to"])
    row.refresh_from_db(fields=["base"])
    return Response(_rebasing(engine_of(row.of), row, merged, made, request))


def _choices(listed: list[Any]) -> dict[Place, str]:
    made: dict[Place, str] = {}
    for item in listed:
        if not isinstance(item, dict) or not all(isinstance(item.get(n), str) for n in ("kind", "id", "field", "word")):
            raise bad("a choice is an object of kind, id, field and word", "choices")
        if item["word"] not in (PLAN, DRAFT):
            raise bad("the word of the plan or of the draft is needed", "choices/word")
        made[item["kind"], item["id"], item["field"]] = item["word"]
    return made


def _rebasing(now: Engine, row: PlanRow, merged: Merged, made: Committed | None, request: Request) -> dict[str, Any]:
    return {
        "to": now.revision,
        "base": row.base,
        "clashes": [clash.to_json() for clash in merged.clashes],
        "problems": [problem.to_json() for problem in merged.problems],
        "committed": committed(made, request).data if made is not None else None,
    }


@extend_schema(
    request=body(message={"type": "string", "maxLength": 400}),
    responses={200: ref("Landed"), **CONFLICT},
    operation_id="land_draft",
)
@api_view(["POST"])
def landing(request: Request, plan_id: uuid.UUID) -> Response:
    """Make a draft one revision of its plan, which can be undone as one."""
    row = _draft(request, plan_id)
    made = land(row.pk, request.user, body_of(request, message=str)["message"].strip())
    return Response({"plan": str(row.of_id), "revision": revision_json(made.revision)})


@extend_schema(request=None, responses={200: ref("Draft"), **REFUSED}, operation_id="take_up_draft")
@api_view(["POST"])
def take_up(request: Request, plan_id: uuid.UUID) -> Response:
    """Work on a draft again that has landed: upon the plan as it is now."""
    row = _draft(request, plan_id)
    if row.landed is None:
        raise bad("this draft hasn’t landed")
    with transaction.atomic():
        PlanRow.objects.filter(pk=row.pk).update(landed=None)
        tell(row.of.pk)
    row.landed = None
    follow(row)
    return Response(draft_json(row))

"""Sheets that come in: what one would change, whose columns are which, and taking it."""

from __future__ import annotations

import json
import uuid
from typing import Any

from aptwire.paper.reading import Table, read_table
from aptwire.paper.taking import SORTS, columns, take, told
from aptwire.plan.edits import Edit
from aptwire.plan.plan import PlanError, Problem
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view, parser_classes
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.commits import commit
from aptwire_server.plans.engine import engine_of
from aptwire_server.plans.gate import Form, bad, base_and_take, text_of
from aptwire_server.plans.models import SheetColumns
from aptwire_server.plans.schemas import TEXT, choice, ref
from aptwire_server.plans.views import CONFLICT, committed, previewed

MOST_PROBLEMS = 100


@extend_schema(
    request={
        "multipart/form-data": {
            "type": "object",
            "required": ["file", "of", "base", "take"],
            "properties": {
                "file": {"type": "string", "format": "binary"},
                "of": choice(*SORTS),
                "columns": TEXT,
                "base": TEXT,
                "take": choice("yes", "no"),
            },
        }
    },
    responses={200: ref("TakenSheet"), **CONFLICT},
    operation_id="take_sheet",
)
@api_view(["POST"])
@parser_classes([Form])
def sheets(request: Request, plan_id: uuid.UUID) -> Response:
    """What taking a sheet (CSV or XLSX) would change, nothing saved; or (`take` yes) take it against a base revision.

    `columns` says which column is which: a JSON object of our column to its title, empty for none; without it they are found as the person said last, or by
    their usual titles.  What can't be used is told by row and column, and then nothing is taken.
    """
    row = plan_for(request, plan_id)
    file = request.FILES.get("file")
    if file is None:
        raise bad("a sheet is needed", "file")
    sort = text_of(request, "of")
    if sort not in SORTS:
        raise bad(f"one of {', '.join(SORTS)} is needed", "of")
    base, taking = base_and_take(request)
    name = (file.name or "sheet")[:80]
    table = read_table(file.read(), name)
    said = _said(request, sort, table)
    engine = engine_of(row)
    at, problems = columns(sort, table, said)
    edit: Edit = ()
    if not problems:
        try:
            edit = take(engine.plan, sort, table, said)
        except PlanError as error:
            problems = list(error.problems)
    message = f"Sheet {name}: {told(edit)}"
    if not taking or problems or not edit:
        preview = previewed(engine, edit) if edit else None
        return Response(_told(sort, table, at, problems, message, preview=preview))
    made = commit(plan_id, request.user, edit, base, message)
    held = {name: table.head[at[name]] if name in at else "" for name in SORTS[sort].columns}
    SheetColumns.objects.update_or_create(user=request.user, of=sort, defaults={"columns": held})
    return Response(_told(sort, table, at, [], message, taken=committed(made, request).data))


def _said(request: Request, sort: str, table: Table) -> dict[str, str] | None:
    """Which column is which, as somebody says now, or said last as far as this sheet has such titles."""
    text = text_of(request, "columns")
    if text:
        try:
            said = json.loads(text)
        except ValueError:
            raise bad("this is no JSON", "columns") from None
        if not isinstance(said, dict) or not all(isinstance(title, str) for title in said.values()):
            raise bad("an object of titles is needed", "columns")
        return said
    known = SheetColumns.objects.filter(user=request.user, of=sort).first()
    if known is None:
        return None
    held = {name: title for name, title in known.columns.items() if title in table.head and name in SORTS[sort].columns}
    return held if all(name in held for name in SORTS[sort].needed) else None


def _told(
    sort: str,
    table: Table,
    at: dict[str, int],
    problems: list[Problem],
    message: str,
    preview: Any = None,
    taken: Any = None,
) -> dict[str, Any]:
    known = SORTS[sort]
    return {
        "titles": [title for title in dict.fromkeys(table.head) if title],
        "columns": [
            {"name": name, "needed": name in known.needed, "title": table.head[at[name]] if name in at else ""}
            for name in known.columns
        ],
        "rows": len(table.rows),
        "problems": [str(problem) for problem in problems[:MOST_PROBLEMS]],
        "more": max(0, len(problems) - MOST_PROBLEMS),
        "message": message,
        "preview": preview,
        "committed": taken,
    }

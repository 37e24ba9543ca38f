"""Making an edit: one transaction that locks the plan, checks, writes the rows and appends the revision."""

from __future__ import annotations

import hashlib
import json
import uuid
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import chain
from typing import Any

from aptwire.plan.edits import Edit, apply_edit, as_written, edit_from_json, edit_to_json, touched
from aptwire.plan.kinds import KINDS, Record
from aptwire.plan.names import called
from aptwire.plan.plan import Plan, PlanError, Problem
from django.contrib.auth.models import AbstractBaseUser
from django.db import connection, transaction
from django.db.models import Q
from django.utils import timezone

from aptwire_server.plans.engine import Engine, engine_of, keep, turn
from aptwire_server.plans.errors import Conflict
from aptwire_server.plans.models import PlanRow, Revision
from aptwire_server.plans.pages import write_ahead
from aptwire_server.plans.tables import write_changes, write_new

CHANNEL = "aptwire"
AMONG_LAST = 100
"""Of somebody's latest revisions these are read at once."""


@dataclass(frozen=True)
class Committed:
    """An edit that is on disk: its revision, and the engines before and after."""

    revision: Revision
    before: Engine
    after: Engine


def create_plan(plan: Plan, author: AbstractBaseUser | None) -> PlanRow:
    """A new plan in the database, at revision 0."""
    engine = Engine(0, plan.indexed())
    with ThreadPoolExecutor(1) as beside, transaction.atomic():
        # While the database is busy with its rows, it is made ready for whoever opens it, which is what people do next.
        ready = beside.submit(_make_ready, engine)
        row = new_row(plan.name, author, {})
        write_new(row, plan)
        row.counts = row.first_counts = ready.result()
        row.save(update_fields=["counts", "first_counts"])
    keep(row.id, engine)
    return row


def _make_ready(engine: Engine) -> dict[str, int]:
    """Judge a plan and write its pages; how many endpoints have each verdict."""
    counts = engine.judgement().counts()
    write_ahead(engine)
    engine.summary()
    return counts


def new_row(name: str, author: AbstractBaseUser | None, counts: dict[str, int], **draft: Any) -> PlanRow:
    """The row of a plan at revision 0, where it stands like this; or of a draft, with what makes it one."""
    return PlanRow.objects.create(
        name=name, author=author, changed_by=author, counts=counts, counted=0, first_counts=counts, **draft
    )


def commit(
    plan_id: uuid.UUID,
    author: AbstractBaseUser | None,
    edit: Edit,
    base: int,
    message: str,
    how: str = "edit",
    of: int | None = None,
) -> Committed:
    """Apply an edit that was made against revision `base` and append it.

    Conflict when a record that it touches was changed since, or when it no longer applies because of what
    changed since; PlanError when it is wrong in itself.
    """
    with turn(plan_id):
        revision, before, plan = written(plan_id, author, edit, base, message, how, of)
        before.judgement()
        after = keep(plan_id, before.after(revision.number, plan, touched(edit)))
    return counted(revision, before, after)


def counted(revision: Revision, before: Engine, after: Engine) -> Committed:
    """An edit that is on disk, with the counts to which it led."""
    Revision.objects.filter(pk=revision.pk).update(counts=note_counts(revision.plan.pk, after))
    return Committed(revision, before, after)


def note_counts(plan_id: uuid.UUID, engine: Engine) -> dict[str, int]:
    """Keep how many endpoints have each verdict at the engine's revision, unless a later one is known."""
    counts = engine.judgement().counts()
    older = Q(counted=None) | Q(counted__lt=engine.revision)
    PlanRow.objects.filter(older, pk=plan_id).update(counts=counts, counted=engine.revision)
    return counts


@transaction.atomic
def written(
    plan_id: uuid.UUID,
    author: AbstractBaseUser | None,
    edit: Edit,
    base: int,
    message: str,
    how: str = "edit",
    of: int | None = None,
) -> tuple[Revision, Engine, Plan]:
    """An edit on disk once the transaction is: its revision, the engine before it, the plan after it.  Call within the plan's turn."""
    row = PlanRow.objects.select_for_update(of=("self",)).get(pk=plan_id)
    if row.landed is not None:
        raise Conflict(f"This draft landed as revision {row.landed} of the plan; take it up again to change it.", [])
    if base < 0:
        raise PlanError([Problem("a revision is 0 or more", field="base")])
    if base > row.revision:
        raise Conflict(f"revision {base} isn't known here", [])
    since = _standing(Revision.objects.filter(plan=row, number__gt=base).select_related("author").order_by("number"))
    before = engine_of(row)
    _refuse_trampling(before.plan, edit, since, how)
    tried = before.tried(edit)
    try:
        plan, inverse = (tried.plan, tried.inverse) if tried is not None else apply_edit(before.plan, edit)
    except PlanError as error:
        if since:
            raise Conflict(
                f"This no longer fits what was changed meanwhile: {error}", [revision_json(r) for r in since]
            ) from error
        raise
    changes: dict[tuple[str, str], Record | None] = {key: plan.of(key[0]).get(key[1]) for key in touched(edit)}
    if how == "edit" and all(before.plan.of(kind).get(id) == record for (kind, id), record in changes.items()):
        raise PlanError([Problem("this changes nothing: all of it is in the plan already")])
    write_changes(row, plan, changes)
    return append(row, author, message, as_written(plan, edit), inverse, how, of), before, plan


def append(
    row: PlanRow,
    author: AbstractBaseUser | None,
    message: str,
    edit: Edit,
    inverse: Edit,
    how: str,
    of: int | None = None,
) -> Revision:
    """The next revision of a plan whose row is locked."""
    row.revision += 1
    if how != "base":
        row.changed, row.changed_by = timezone.now(), author
    row.save(update_fields=["revision", "changed", "changed_by", "base"])
    revision = Revision.objects.create(
        plan=row,
        number=row.revision,
        author=author,
        message=message[:400],
        edit=edit_to_json(edit),
        inverse=edit_to_json(inverse),
        how=how,
        of=of,
    )
    notify({"plan": str(row.id), "revision": row.revision})
    return revision


def _refuse_trampling(plan: Plan, edit: Edit, since: list[Revision], how: str) -> None:
    """Conflict where revisions since touched the same records: it says who changed what."""
    both = [(r, touched(edit_from_json(r.edit)) & touched(edit)) for r in since]
    meeting = [(revision, records) for revision, records in both if records]
    if not meeting:
        return
    revision, records = meeting[-1]
    who = revision.author.get_username() if revision.author else "Somebody"
    names = sorted(_name(plan, *key) for key in records)
    what = " and ".join(names[:2]) + (f" and {len(names) - 2} more" if len(names) > 2 else "")
    told = f"{who} changed {what} meanwhile: “{revision.message}” (revision {revision.number})."
    cannot = {"undo": "This can’t be undone. ", "redo": "This can’t be made again. "}.get(how, "")
    raise Conflict(cannot + told, [revision_json(r) for r, _ in meeting])


def _name(plan: Plan, kind: str, id: str) -> str:
    record = plan.of(kind).get(id)
    return called(plan, record) if record is not None else f"{KINDS[kind].title} {id}"


def notify(event: dict[str, Any]) -> None:
    """Tell every server process, once the transaction is on disk."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, json.dumps(event)])


def mark(session: str) -> str:
    """What a session is called where its key must not be seen."""
    return hashlib.sha256(session.encode()).hexdigest()


def log_out(session: str | None) -> None:
    """End the streams of a session, in every process."""
    if session:
        notify({"session": mark(session)})


def _standing(revisions: Iterable[Revision]) -> list[Revision]:
    """The revisions whose effect stands: an edit and its undo cancel out, and so do an undo and its redo."""
    listed = list(revisions)
    toggles: dict[int, list[Revision]] = {}
    for revision in listed:
        toggles.setdefault(revision.of if revision.of is not None else revision.number, []).append(revision)
    return [group[-1] for group in toggles.values() if len(group) % 2]


def next_steps(plan_id: uuid.UUID, author: AbstractBaseUser) -> dict[str, Revision | None]:
    """The edits that a person would undo and redo next.

    Each is the top of a stack: edits and redos lie on the one of undo until an undo takes them off; undos lie on the other until
    a redo takes them off or an edit clears it.  Looked for from the newest on, since it is nearly always among the last few.
    """
    own = Revision.objects.filter(plan_id=plan_id, author=author).exclude(how="base")
    told = own.order_by("-number").values_list("number", "how", "of")
    tops: dict[str, int | None] = {}
    taken = {"undo": 0, "redo": 0}
    for number, how, of in chain(told[:AMONG_LAST], told[AMONG_LAST:].iterator(chunk_size=1000)):
        for stack, takes, clears in (("undo", "undo", ""), ("redo", "redo", "edit")):
            if stack in tops:
                continue
            if how == clears:
                tops[stack] = None
            elif how == takes:
                taken[stack] += 1
            elif taken[stack]:
                taken[stack] -= 1
            else:
                tops[stack] = number if of is None else of
        if len(tops) == 2:
            break
    wanted = {number for number in tops.values() if number is not None}
    # Every answer tells these two, so their edits stay in the database until one is needed.
    found = {r.number: r for r in own.filter(number__in=wanted).defer("edit", "inverse")} if wanted else {}
    # Revisions are numbered from 1 on.
    return {stack: found.get(tops.get(stack) or 0) for stack in taken}


def step(plan_id: uuid.UUID, author: AbstractBaseUser, how: str) -> Committed | None:
    """Undo a person's latest edit that stands, or redo what was undone last; None if there is none."""
    target = next_steps(plan_id, author)[how]
    if target is None:
        return None
    edit = edit_from_json(target.inverse if how == "undo" else target.edit)
    message = f"{how.capitalize()}: {target.message}"
    return commit(plan_id, author, edit, _last_about(target), message, how, target.number)


def _last_about(target: Revision) -> int:
    """The latest revision that made, undid or redid an edit."""
    about = Revision.objects.filter(plan=target.plan, of=target.number).order_by("-number").first()
    return int(about.number if about else target.number)


def revision_json(revision: Revision) -> dict[str, Any]:
    """A revision for a program."""
    return {
        "number": revision.number,
        "author": revision.author.get_username() if revision.author else None,
        "at": revision.at.isoformat(),
        "message": revision.message,
        "how": revision.how,
        "of": revision.of,
    }

"""Branches of a plan: begun on one of its revisions, brought onto later ones, landed as one."""

from __future__ import annotations

import uuid
from collections.abc import Mapping

from aptwire.plan.compare import difference
from aptwire.plan.edits import apply_edit, touched
from aptwire.plan.merge import Merged, Place, merge
from aptwire.plan.plan import PlanError, Problem
from django.contrib.auth.models import AbstractBaseUser
from django.db import transaction

from aptwire_server.plans.commits import Committed, append, counted, new_row, notify, written
from aptwire_server.plans.engine import engine_at, engine_of, keep, turn
from aptwire_server.plans.errors import Conflict
from aptwire_server.plans.listing import refuse_taken
from aptwire_server.plans.models import PlanRow, Revision


def tell(plan_id: uuid.UUID) -> None:
    """Tell whoever has a plan or one of its drafts open that something about its drafts is different."""
    notify({"plan": str(plan_id), "drafts": True})


def begin(plan: PlanRow, author: AbstractBaseUser, name: str, private: bool) -> PlanRow:
    """A new draft upon the plan as it is."""
    engine = engine_of(plan)
    counts, number = engine.judgement().counts(), engine.revision
    with transaction.atomic():
        refuse_taken(plan.pk, author, name)
        made = new_row(name, author, counts, of=plan, began=number, base=number, private=private)
        tell(plan.pk)
    return made


def rebase(
    draft_id: uuid.UUID, chosen: Mapping[Place, str], author: AbstractBaseUser | None = None, to: int | None = None
) -> tuple[Merged, Committed | None]:
    """Bring a draft onto its plan as that is now, where what is chosen leaves nothing to ask; None where something is left, or nothing to do.

    Conflict where the choices were made for another revision of the plan than (`to`) the latest.
    """
    with turn(draft_id):
        with transaction.atomic():
            row = PlanRow.objects.select_for_update(of=("self",)).select_related("of").get(pk=draft_id)
            base, now, before = engine_at(row.of, row.base), engine_of(row.of), engine_of(row)
            if to is not None and now.revision != to:
                raise Conflict(f"The plan has moved on to revision {now.revision} meanwhile: look at it again.", [])
            merged = merge(base.plan, now.plan, before.plan, chosen)
            if merged.plan is None or not merged.clean or now.revision <= row.base or row.landed is not None:
                return merged, None
            before.judgement()
            edit = difference(before.plan, merged.plan)
            after, inverse = apply_edit(before.plan, edit)
            row.base = now.revision
            revision = append(row, author, _word(row.of, now.revision), edit, inverse, "base")
        made = keep(draft_id, before.onto(row.revision, now, after, touched(merged.edit), touched(edit)))
    return merged, counted(revision, before, made)


def _word(plan: PlanRow, number: int) -> str:
    last = Revision.objects.filter(plan=plan, number=number).values_list("message", flat=True).first()
    return f"On revision {number} of the plan now: {last}"


def follow(row: PlanRow) -> None:
    """Bring a draft onto its plan as that is now, if that is clean; a row that is no draft, or one that is up to date, stays as it is."""
    if row.of_id is not None and row.landed is None and row.base < row.of.revision:
        rebase(row.pk, {})
        row.refresh_from_db()


def land(draft_id: uuid.UUID, author: AbstractBaseUser, message: str) -> Committed:
    """Make a draft one revision of its plan.  Conflict where it has to be brought up to date by somebody first."""
    with turn(draft_id):
        merged, _ = rebase(draft_id, {})
        if not merged.clean:
            raise Conflict("The plan has moved on, and this draft clashes with it: bring it up to date first.", [])
        draft = PlanRow.objects.select_related("of").get(pk=draft_id)
        plan_id: uuid.UUID = draft.of.pk
        with turn(plan_id):
            with transaction.atomic():
                row = PlanRow.objects.select_for_update(of=("self",)).select_related("of").get(pk=draft_id)
                if row.landed is not None:
                    raise Conflict(f"This draft landed already, as revision {row.landed}.", [])
                edit = difference(engine_at(row.of, row.base).plan, engine_of(row).plan)
                if not edit:
                    raise PlanError([Problem("this draft says what the plan says: there is nothing to land")])
                revision, before, plan = written(plan_id, author, edit, row.base, message or f"Land {row.name}")
                row.landed = revision.number
                row.save(update_fields=["landed"])
                tell(plan_id)
            before.judgement()
            after = keep(plan_id, before.after(revision.number, plan, touched(edit)))
    return counted(revision, before, after)

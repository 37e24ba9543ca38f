"""What came after a revision, for whoever has a plan open: made for one who asks, or once for all who listen."""

from __future__ import annotations

import json
import uuid
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import orjson
from django.contrib.auth.models import AbstractBaseUser

from aptwire_server.plans.branches import follow
from aptwire_server.plans.commits import next_steps, revision_json
from aptwire_server.plans.engine import Engine, engine_of, turn
from aptwire_server.plans.models import PlanRow, Revision
from aptwire_server.plans.pages import PAGE, landed

MOST_CHANGES = 200


def within(edit: Any, most: int = PAGE) -> Any:
    """An edit (or a list of some) as it is, None where it is so large that loading the plan anew is the better way."""
    return edit if len(json.dumps(edit)) <= most else None


def steps_of(plan_id: uuid.UUID, person: AbstractBaseUser) -> dict[str, Any]:
    """What a person can undo and redo."""
    return {
        how: {"number": revision.number, "message": revision.message} if revision is not None else None
        for how, revision in next_steps(plan_id, person).items()
    }


def changes_since(engine: Engine, plan_id: uuid.UUID, since: int) -> tuple[dict[str, Any], list[Revision]]:
    """The edits after a revision in order, as far as they can be told, with what they lead to; and their revisions."""
    found = Revision.objects.filter(plan_id=plan_id, number__gt=since, number__lte=engine.revision)
    listed = list(found.select_related("author").order_by("number")[: MOST_CHANGES + 1])
    edits = [{"number": r.number, "author": r.author and r.author.get_username(), "edit": r.edit} for r in listed]
    told = {
        "revision": engine.revision,
        "last": revision_json(listed[-1]) if listed else None,
        "edits": within(edits) if len(listed) <= MOST_CHANGES else None,
        "summary": engine.summary(),
        "landed": landed(engine, since),
    }
    return told, listed


@dataclass(frozen=True)
class Told:
    """How far all who have a plan open know of it: a revision, and what the engine answered then (Engine.answers)."""

    revision: int
    answers: dict[str, dict[str, Any]] | None = None


def told_to_all(plan_id: uuid.UUID, before: Told) -> tuple[Told, str | None]:
    """What all know after this, and what they are told; None where nothing came after `before`.

    `answers` are those that are others than before (null: gone), `steps` those of each who edited meanwhile.
    """
    with turn(plan_id):
        # Whoever made the edit is answered first: who works on one processor beside that only makes both later.
        row = PlanRow.objects.select_related("of").get(pk=plan_id)
    follow(row)
    engine = engine_of(row)
    answered = engine.answers()
    now = Told(engine.revision, answered)
    if now.revision <= before.revision:
        return now, None
    told, listed = changes_since(engine, plan_id, before.revision)
    steps = {person.get_username(): steps_of(plan_id, person) for person in _authors(listed)}
    answers = within(_others(before.answers, answered)) if before.answers is not None else None
    made = {**told, "since": before.revision, "answers": answers, "steps": steps}
    return now, orjson.dumps(made).decode()


def _others(before: dict[str, dict[str, Any]], now: dict[str, dict[str, Any]]) -> dict[str, dict[str, Any]]:
    return {
        name: {
            key: now[name].get(key)
            for key in {*before[name], *now[name]}
            if before[name].get(key) != now[name].get(key)
        }
        for name in now
    }


def _authors(revisions: Iterable[Revision]) -> list[AbstractBaseUser]:
    return list({r.author.pk: r.author for r in revisions if r.author is not None}.values())

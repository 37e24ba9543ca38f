"""Tables: plans, their revisions, the people looking at them, and one table for each record kind.

The record tables are made from the specs of `aptwire.plan.kinds`, so a field is defined once.  A record's primary
key is a UUID of its plan and id, which makes every reference a foreign key inside its own plan.
"""

from __future__ import annotations

import uuid
from typing import Any

from aptwire.plan.fields import Spec
from aptwire.plan.kinds import KINDS, SPECS
from django.conf import settings
from django.db import models
from django.utils import timezone


def _person(**more: Any) -> models.ForeignKey[Any, Any]:
    """Somebody, who may be gone by now."""
    return models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+", **more)


class PlanRow(models.Model):
    """A plan: its name, the number of its latest revision, and how it stands; one that is deleted waits in the bin.

    Or a draft, a branch of a plan: it has revisions of its own and no rows of records, since it is what they make of its base.
    """

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=80)
    revision = models.PositiveIntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)
    changed: models.DateTimeField[Any, Any] = models.DateTimeField(default=timezone.now)
    author = _person()
    changed_by = _person(help_text="who made the latest revision")
    counts = models.JSONField(null=True, help_text="how many endpoints have each verdict, at the revision `counted`")
    counted = models.PositiveIntegerField(null=True)
    first_counts = models.JSONField(null=True, help_text="as `counts`, at revision 0")
    binned: models.DateTimeField[Any, Any] = models.DateTimeField(null=True, help_text="when it was put into the bin")
    binned_by = _person()
    of: models.ForeignKey[Any, Any] = models.ForeignKey(
        "self",
        null=True,
        on_delete=models.CASCADE,
        related_name="drafts",
        help_text="the plan of which this is a draft",
    )
    began = models.PositiveIntegerField(
        null=True, help_text="of a draft: the plan's revision on which its first one was made"
    )
    base = models.PositiveIntegerField(null=True, help_text="of a draft: the plan's revision on which it stands now")
    private = models.BooleanField(default=False, help_text="of a draft: for nobody but its author")
    landed = models.PositiveIntegerField(null=True, help_text="of a draft: the plan's revision that it became")
    of_id: uuid.UUID | None
    author_id: int | None

    class Meta:
        db_table = "plan"
        constraints = (
            models.CheckConstraint(
                condition=models.Q(of=None, base=None, began=None, landed=None, private=False)
                | models.Q(of__isnull=False, base__isnull=False, began__isnull=False),
                name="plan_draft_whole",
            ),
        )


HOW = ("edit", "undo", "redo", "base")
"""What makes a revision; base: a draft came onto a later revision of its plan."""


class Revision(models.Model):
    """One edit that was made: never changed, never deleted."""

    plan = models.ForeignKey(PlanRow, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    author = _person()
    at = models.DateTimeField(auto_now_add=True)
    message = models.CharField(max_length=400)
    edit = models.JSONField()
    inverse = models.JSONField()
    how = models.CharField(max_length=4, choices=[(how, how) for how in HOW], default="edit")
    of = models.PositiveIntegerField(null=True, help_text="the revision that an undo or redo is about")
    counts = models.JSONField(null=True, help_text="how many endpoints have each verdict after it")

    class Meta:
        db_table = "revision"
        constraints = (
            models.UniqueConstraint(fields=["plan", "number"], name="revision_number"),
            models.CheckConstraint(condition=models.Q(how__in=HOW), name="revision_how"),
        )


class Mark(models.Model):
    """A name that somebody gave to a revision: "as built, May"."""

    plan = models.ForeignKey(PlanRow, on_delete=models.CASCADE, related_name="marks")
    revision = models.PositiveIntegerField()
    name = models.CharField(max_length=80)
    author = _person()
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        db_table = "mark"
        constraints = (models.UniqueConstraint(fields=["plan", "name"], name="mark_name"),)


class Presence(models.Model):
    """A browser that has a plan open."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    plan = models.ForeignKey(PlanRow, on_delete=models.CASCADE)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    seen: models.DateTimeField[Any, Any] = models.DateTimeField(auto_now=True)

    class Meta:
        db_table = "presence"


class SheetColumns(models.Model):
    """Which columns of a sort of sheet are which to somebody: what they said last."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    of = models.CharField(max_length=16)
    columns = models.JSONField(help_text="our column to their title, empty for none")

    class Meta:
        db_table = "sheet_columns"
        constraints = (models.UniqueConstraint(fields=["user", "of"], name="sheet_columns_once"),)


class ChosenColumns(models.Model):
    """The columns that somebody wants to see of a table."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE)
    of = models.CharField(max_length=16)
    columns = models.JSONField(help_text="their names, in order")

    class Meta:
        db_table = "chosen_columns"
        constraints = (models.UniqueConstraint(fields=["user", "of"], name="chosen_columns_once"),)


class Guess(models.Model):
    """A password that was tried: by whom as they say, and from where."""

    account = models.CharField(max_length=150)
    address = models.CharField(max_length=45)
    at: models.DateTimeField[Any, Any] = models.DateTimeField(db_index=True)

    class Meta:
        db_table = "guess"
        indexes = (
            models.Index(fields=["account", "at"], name="guess_account"),
            models.Index(fields=["address", "at"], name="guess_address"),
        )


class BenchRun(models.Model):
    """A plan's revision put to a real kernel: asked for, waiting for a worker, running, ended."""

    plan = models.ForeignKey(PlanRow, on_delete=models.CASCADE, related_name="bench_runs")
    number = models.PositiveIntegerField()
    revision = models.PositiveIntegerField()
    author = _person()
    scope = models.JSONField(help_text="how much is asked: pulls, sample, seed")
    state = models.CharField(max_length=9, default="waiting")
    cancel = models.BooleanField(default=False, help_text="somebody asked for its end")
    asked = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    seen = models.DateTimeField(null=True, help_text="when the worker last spoke of it")
    ended = models.DateTimeField(null=True)
    worker = models.CharField(max_length=80, blank=True)
    step = models.CharField(max_length=40, blank=True)
    done = models.PositiveIntegerField(default=0)
    of = models.PositiveIntegerField(default=0)
    log = models.TextField(blank=True)
    error = models.TextField(blank=True)
    report = models.JSONField(null=True)
    stories = models.JSONField(default=list, help_text="differences as files: name to base64, one object each")

    class Meta:
        db_table = "bench_run"
        constraints = (
            models.UniqueConstraint(fields=["plan", "number"], name="bench_run_number"),
            models.CheckConstraint(
                condition=models.Q(state__in=["waiting", "running", "done", "failed", "cancelled"]),
                name="bench_run_state",
            ),
        )


def key_of(plan: uuid.UUID, id: str) -> uuid.UUID:
    """The primary key of a record of a plan."""
    return uuid.uuid5(plan, id)


def columns_of(name: str, spec: Spec) -> dict[str, str | None]:
    """A field's columns, and for references the kind that each refers to."""
    if spec.kind != "ref":
        return {name: None}
    if len(spec.refs) == 1:
        return {name: spec.refs[0]}
    return {f"{name}_{kind}": kind for kind in spec.refs}


def _class_name(kind: str) -> str:
    return "".join(part.title() for part in kind.split("_")) + "Row"


def _column(spec: Spec) -> models.Field[Any, Any]:
    # The default lets a migration add a field to plans that are already there.
    more: dict[str, Any] = {"null": spec.optional}
    if spec.default is not None:
        more["default"] = spec.default
    if spec.kind == "text":
        return models.CharField(max_length=spec.high, blank=True, **more)
    if spec.kind in ("number", "vid"):
        return models.PositiveIntegerField(**more)
    if spec.kind == "flag":
        return models.BooleanField(**more)
    if spec.kind == "choice":
        return models.CharField(max_length=16, choices=[(o, o) for o in spec.options], **more)
    if spec.kind in ("vids", "processors", "cores"):
        return models.TextField(**more)
    if spec.kind == "date":
        return models.CharField(max_length=10, **more)
    if spec.kind == "mac":
        return models.CharField(max_length=17, **more)
    if spec.kind in ("ip", "subnet"):
        return models.CharField(max_length=45, **more)
    # A list as JSON: many rows at once are inserted far quicker than with a column that is itself an array.
    return models.JSONField(default=list)


def _constraints(kind: str) -> list[Any]:
    made: list[Any] = []
    for name, spec in SPECS[kind].items():
        low, high = (0 if spec.untagged else 1, 4094) if spec.kind == "vid" else (spec.low, spec.high)
        if spec.kind in ("vid", "number"):
            fits = models.Q(**{f"{name}__gte": low, f"{name}__lte": high})
            made.append(models.CheckConstraint(condition=fits | models.Q(**{name: None}), name=f"{kind}_{name}_range"))
        elif spec.kind == "choice":
            made.append(
                models.CheckConstraint(
                    condition=models.Q(**{f"{name}__in": spec.options}), name=f"{kind}_{name}_choice"
                )
            )
        elif spec.kind == "ref" and len(spec.refs) > 1:
            one = models.Q()
            for chosen in columns_of(name, spec):
                one |= models.Q(**{f"{c}__isnull": c != chosen for c in columns_of(name, spec)})
            if spec.optional:
                one |= models.Q(**{f"{c}__isnull": True for c in columns_of(name, spec)})
            made.append(models.CheckConstraint(condition=one, name=f"{kind}_{name}_one"))
            # An end of a cable is one; what an uplink goes over may have several upon it.
            for column in columns_of(name, spec) if kind == "cable" else ():
                made.append(
                    models.UniqueConstraint(
                        fields=[column], name=f"{kind}_{column}_once", deferrable=models.Deferrable.DEFERRED
                    )
                )
    for names in KINDS[kind].unique:
        columns = [column for name in names for column in columns_of(name, SPECS[kind][name])]
        # A reference to records of several kinds has a column for each, of which all but one are empty.
        more = {"nulls_distinct": False} if len(columns) > len(names) else {"deferrable": models.Deferrable.DEFERRED}
        made.append(models.UniqueConstraint(fields=["plan", *columns], name=f"{kind}_{'_'.join(names)}_unique", **more))
    return made


def _model(kind: str) -> type[models.Model]:
    fields: dict[str, Any] = {
        "key": models.UUIDField(primary_key=True, editable=False),
        # Written under the plan's lock and deleted with it, so that no row asks the database whether its plan is there: with very many
        # that was most of a commit.  The unique ids begin with the plan and serve as its index.
        "plan": models.ForeignKey(
            PlanRow, on_delete=models.CASCADE, related_name="+", db_constraint=False, db_index=False
        ),
        "rid": models.CharField(max_length=120),
    }
    for name, spec in SPECS[kind].items():
        for column, target in columns_of(name, spec).items():
            if target is None:
                fields[column] = _column(spec)
            else:
                fields[column] = models.ForeignKey(
                    _class_name(target),
                    null=spec.optional or len(spec.refs) > 1,
                    on_delete=models.DO_NOTHING,
                    related_name="+",
                )
    meta = type(
        "Meta",
        (),
        {
            "db_table": f"record_{kind}",
            "constraints": (
                models.UniqueConstraint(fields=["plan", "rid"], name=f"{kind}_rid_unique"),
                *_constraints(kind),
            ),
        },
    )
    attributes = {"__module__": __name__, "__doc__": f"The {KINDS[kind].title} records.", "Meta": meta, **fields}
    return type(_class_name(kind), (models.Model,), attributes)


ROWS: dict[str, type[models.Model]] = {kind: _model(kind) for kind in KINDS}

"""Edits: the one way to change a plan.

An edit is a list of operations on records: put (make or replace), patch (set some fields), drop.  It is
checked as a whole, so records that refer to each other may come in any order, and it has an inverse.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from aptwire.plan.checks import check_touched, make_record, patch_record
from aptwire.plan.fields import plain
from aptwire.plan.kinds import KINDS, Record, Rule, Segment
from aptwire.plan.older import changes_said_now, operation_said_now
from aptwire.plan.plan import Plan, PlanError, Problem


@dataclass(frozen=True)
class Put:
    """Make the record, or replace the one with its id."""

    record: Record

    @property
    def kind(self) -> str:
        """The record's kind."""
        return self.record.kind

    @property
    def id(self) -> str:
        """The record's id."""
        return self.record.id


@dataclass(frozen=True)
class Patch:
    """Set some fields of a record; values as in JSON."""

    kind: str
    id: str
    changes: Mapping[str, Any]


@dataclass(frozen=True)
class Drop:
    """Take the record away; nothing may refer to it after the edit."""

    kind: str
    id: str


Operation = Put | Patch | Drop
Edit = tuple[Operation, ...]


def touched(edit: Edit) -> set[tuple[str, str]]:
    """The (kind, id) of every record in an edit."""
    return {(o.kind, o.id) for o in edit}


def apply_edit(plan: Plan, edit: Edit) -> tuple[Plan, Edit]:
    """The plan after the edit, and the edit that takes it back.

    Raises PlanError with every problem; the plan given is never changed.
    """
    changed: dict[tuple[str, str], Record | None] = {}
    inverse: list[Operation] = []
    problems: list[Problem] = []
    for number, operation in enumerate(edit, 1):
        place = f"operation {number}" if len(edit) > 1 else ""
        try:
            key, record, back = _apply_one(plan, changed, operation, place)
        except PlanError as error:
            problems.extend(error.problems)
            continue
        changed[key] = record
        inverse.append(back)
    if problems:
        raise PlanError(problems)
    after = plan.replacing(changed)
    problems = [*_defined_elsewhere(plan, changed), *check_touched(after, changed, _by_themselves(plan, edit))]
    if problems:
        raise PlanError(dict.fromkeys(problems))
    return after, tuple(reversed(inverse))


DEFINED = ("name", "vid", "vni", "encapsulation", "subnets", "origin", "vanished")
"""The fields of a segment that its source says, where it has one."""


def _defined_elsewhere(plan: Plan, changed: Mapping[tuple[str, str], Record | None]) -> Iterator[Problem]:
    """What a source says changes with a reading of that source alone, or once the plan has made the segment its own."""
    for (kind, id), now in changed.items():
        was = plan.of("segment").get(id) if kind == "segment" else None
        if not isinstance(was, Segment) or was.source is None or not isinstance(now, Segment):
            continue
        if now.source != was.source or ("source", was.source) in changed:
            continue
        for name in DEFINED:
            if getattr(now, name) != getattr(was, name):
                by = plan.get("source", was.source).name
                message = f"is what {by} says: it changes with a reading of that, or once {was.name} is the plan’s own"
                yield Problem(message, kind="segment", id=id, field=name)


def _by_themselves(plan: Plan, edit: Edit) -> set[tuple[str, str]]:
    """The records that an edit makes, since whoever refers to them is in it too, and those of which it says nothing but from which part of a pattern
    they come, since whoever refers to them fits as before."""
    alone: set[tuple[str, str]] = set()
    more: set[tuple[str, str]] = set()
    for operation in edit:
        kind, id = operation.kind, operation.id
        if isinstance(operation, Put):
            by_itself = id not in plan.of(kind)
        else:
            by_itself = isinstance(operation, Patch) and operation.changes.keys() == {"part"}
        (alone if by_itself else more).add((kind, id))
    return alone - more


def _apply_one(
    plan: Plan, changed: Mapping[tuple[str, str], Record | None], operation: Operation, place: str
) -> tuple[tuple[str, str], Record | None, Operation]:
    key = (operation.kind, operation.id)
    if key[0] not in KINDS:
        raise PlanError([Problem(f"there is no record kind “{key[0][:40]}”", place=place)])
    old = changed[key] if key in changed else plan.of(key[0]).get(key[1])
    if isinstance(operation, Put):
        return key, operation.record, Put(old) if old is not None else Drop(*key)
    if old is None:
        raise PlanError([Problem("there is no such record", kind=key[0], id=key[1], place=place)])
    if isinstance(operation, Drop):
        return key, None, Put(old)
    changes = changes_said_now(old, operation.changes) if isinstance(old, Rule) else operation.changes
    new = patch_record(old, changes, place)
    before = {name: plain(getattr(old, name)) for name in changes}
    return key, new, Patch(*key, before)


def as_written(plan: Plan, edit: Edit) -> Edit:
    """The edit with the values of its patches as the records of the plan after it have them: a MAC or a list of VIDs is said in many ways, and
    written in one."""
    made: list[Operation] = []
    for operation in edit:
        record = plan.of(operation.kind).get(operation.id) if isinstance(operation, Patch) else None
        # Rules were said otherwise once, in other fields.
        if isinstance(operation, Patch) and record is not None and not isinstance(record, Rule):
            values = {name: plain(getattr(record, name)) for name in operation.changes}
            made.append(Patch(operation.kind, operation.id, values))
        else:
            made.append(operation)
    return tuple(made)


def edit_to_json(edit: Edit) -> list[dict[str, Any]]:
    """The edit as JSON, the form that `edit_from_json` reads."""
    made: list[dict[str, Any]] = []
    for operation in edit:
        if isinstance(operation, Put):
            made.append({"op": "put", "kind": operation.record.kind, "record": operation.record.to_json()})
        elif isinstance(operation, Patch):
            made.append({"op": "patch", "kind": operation.kind, "id": operation.id, "set": dict(operation.changes)})
        else:
            made.append({"op": "drop", "kind": operation.kind, "id": operation.id})
    return made


def edit_from_json(data: Any) -> Edit:
    """An edit from JSON; PlanError names the operation and the field that can't be used."""
    if not isinstance(data, list):
        raise PlanError([Problem("an edit is a list of operations")])
    operations: list[Operation] = []
    problems: list[Problem] = []
    for number, item in enumerate(data, 1):
        try:
            operations.append(_operation(item, f"operation {number}"))
        except PlanError as error:
            problems.extend(error.problems)
    if problems:
        raise PlanError(problems)
    return tuple(operations)


_KEYS = {"put": {"op", "kind", "record"}, "patch": {"op", "kind", "id", "set"}, "drop": {"op", "kind", "id"}}


def _operation(item: Any, place: str) -> Operation:
    if not isinstance(item, dict) or not isinstance(item.get("op"), str) or item["op"] not in _KEYS:
        raise PlanError([Problem("an operation is an object whose op is put, patch or drop", place=place)])
    item = operation_said_now(item)
    op, kind = item["op"], item.get("kind")
    if set(item) != _KEYS[op]:
        raise PlanError([Problem(f"{op} takes exactly {', '.join(sorted(_KEYS[op]))}", place=place)])
    if not isinstance(kind, str) or kind not in KINDS:
        raise PlanError([Problem(f"there is no record kind “{str(kind)[:40]}”", place=place)])
    if op == "put":
        return Put(make_record(kind, item["record"], place))
    if not isinstance(item["id"], str):
        raise PlanError([Problem("the id must be text", kind=kind, field="id", place=place)])
    if op == "drop":
        return Drop(kind, item["id"])
    if not isinstance(item["set"], dict) or not item["set"]:
        raise PlanError([Problem("set must name the fields to change", kind=kind, id=item["id"], place=place)])
    return Patch(kind, item["id"], item["set"])


def merged(edit: Edit) -> Edit:
    """Patches of the same record as one, later values last."""
    made: dict[tuple[str, ...], Operation] = {}
    for number, operation in enumerate(edit):
        if isinstance(operation, Patch):
            key: tuple[str, ...] = ("patch", operation.kind, operation.id)
            before = made.get(key)
            changes = {**before.changes, **operation.changes} if isinstance(before, Patch) else operation.changes
            made[key] = Patch(operation.kind, operation.id, changes)
        else:
            made["other", str(number)] = operation
    return tuple(made.values())


def in_steps(titles: list[str]) -> str:
    """What several edits do one after the other, in words."""
    rest = [t[:1].lower() + t[1:] for t in titles[1:]]
    if len(rest) > 3:
        return f"{titles[0]}, {rest[0]} and {len(rest) - 1} steps more"
    return ", ".join([*titles[:1], *rest[:-1]]) + (f" and {rest[-1]}" if rest else "")

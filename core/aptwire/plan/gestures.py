"""Gestures: what people do to many records at once, as functions that return the edit.

None of them changes a plan: the edit is previewed, made and taken back like any other.
"""

from __future__ import annotations

from typing import Any

from aptwire.plan import vids
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import KINDS, SPECS, Record
from aptwire.plan.names import called
from aptwire.plan.plan import Plan, PlanError, Problem


def renumber(plan: Plan, old: int, new: int) -> Edit:
    """The edit that gives a VID another number wherever the plan says it: segments, tags, native VLANs, and every list of VIDs.

    Nobody's verdict differs afterwards: what carried the old number carries the new one, and nothing else does.  So the new one
    must be free: PlanError names who has it already.  Lists may name it (a range does); where one names it and not
    the old one, it is taken out.
    """
    problems = [Problem(str(error), field=name) for name, vid in (("old", old), ("new", new)) for error in _wrong(vid)]
    if not problems and old == new:
        problems = [Problem("it has this number already", field="new")]
    if problems:
        raise PlanError(problems)
    taken = [record for record in plan if any(value == new for value in _tags(record))]
    if taken:
        names = sorted({called(plan, record) for record in taken})
        more = f" and {len(names) - 3} more" if len(names) > 3 else ""
        raise PlanError([Problem(f"{new} is in use already, by {', '.join(names[:3])}{more}", field="new")])
    made: list[Patch] = []
    for record in plan:
        fields = {name: said for name, said in _renamed(record, old, new).items() if said != getattr(record, name)}
        if fields:
            made.append(Patch(record.kind, record.id, fields))
    if not any(value == old for record in plan for value in _tags(record)):
        raise PlanError([Problem(f"nothing in this plan has VID {old}", field="old")])
    return tuple(made)


def _wrong(vid: int) -> list[ValueError]:
    try:
        vids.check_vid(vid)
    except ValueError as error:
        return [error]
    return []


def _fields(kind: str, *sorts: str) -> list[str]:
    return [name for name, spec in SPECS[kind].items() if spec.kind in sorts]


_TAGS = {kind: _fields(kind, "vid") for kind in KINDS}
_LISTS = {kind: _fields(kind, "vids") for kind in KINDS}


def _tags(record: Record) -> list[int | None]:
    return [getattr(record, name) for name in _TAGS[record.kind]]


def _renamed(record: Record, old: int, new: int) -> dict[str, Any]:
    """What the fields of a record say of VIDs once one is called otherwise."""
    said: dict[str, Any] = {name: new for name in _TAGS[record.kind] if getattr(record, name) == old}
    for name in _LISTS[record.kind]:
        text = getattr(record, name)
        if text is None:
            continue
        held = vids.members(text, untagged=True)
        if (old in held) != (new in held):
            said[name] = vids.write(held - {old, new} | ({new} if old in held else set()))
    return said

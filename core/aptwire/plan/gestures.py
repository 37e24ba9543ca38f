"""Gestures: what people do to many records at once, as functions that return the edit.

None of them changes a plan: the edit is previewed, made and taken back like any other.
"""

from __future__ import annotations

from typing import Any

from aptwire.plan import vids
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import KINDS, SPECS, Record
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan, PlanError, Problem


def renumber(plan: Plan, old: int, new: int) -> Edit:
    """The edit that gives a VID another number wherever the plan says it: segments, tags, native VLANs, and every list of VIDs.

    Nobody's verdict differs afterwards: what carried the old number carries the new one, and nothing else does.  So the new one
    must be free: PlanError names who has it already.  Lists may name it (a range does); where one names it and not
    the old one, it is taken out.
    """
    for name, vid in (("old", old), ("new", new)):
        try:
            vids.check_vid(vid)
        except ValueError as error:
            raise PlanError([Problem(str(error), field=name)]) from None
    if old == new:
        raise PlanError([Problem("it has this number already", field="new")])
    having: dict[int, list[Record]] = {old: [], new: []}
    for record in plan:
        for vid in having.keys() & _tags(record):
            having[vid].append(record)
    if having[new]:
        names = some(sorted({called(plan, record) for record in having[new]}))
        raise PlanError([Problem(f"{new} is in use already, by {names}", field="new")])
    if not having[old]:
        raise PlanError([Problem(f"nothing in this plan has VID {old}", field="old")])
    renamed = ((record, _renamed(record, old, new)) for record in plan)
    return tuple(Patch(record.kind, record.id, fields) for record, fields in renamed if fields)


def _fields(kind: str, sort: str) -> list[str]:
    return [name for name, spec in SPECS[kind].items() if spec.kind == sort]


_TAGS = {kind: _fields(kind, "vid") for kind in KINDS}
_LISTS = {kind: _fields(kind, "vids") for kind in KINDS}


def _tags(record: Record) -> set[int | None]:
    return {getattr(record, name) for name in _TAGS[record.kind]}


def _renamed(record: Record, old: int, new: int) -> dict[str, Any]:
    """What the fields of a record that differ say of VIDs, once one is called otherwise."""
    said: dict[str, Any] = {name: new for name in _TAGS[record.kind] if getattr(record, name) == old}
    for name in _LISTS[record.kind]:
        text = getattr(record, name)
        if text is None:
            continue
        held = vids.members(text, untagged=True)
        if (old in held) != (new in held):
            said[name] = vids.write(held - {old, new} | ({new} if old in held else set()))
    return said

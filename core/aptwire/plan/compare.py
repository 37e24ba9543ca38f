"""Two plans beside each other: what was made, changed and taken away, in words, and the edit that leads from one to the other."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.fields import plain
from aptwire.plan.kinds import KINDS, SPECS, Record
from aptwire.plan.names import called
from aptwire.plan.plan import Plan


@dataclass(frozen=True)
class FieldChange:
    """A field and what it says in either plan, in words."""

    field: str
    before: str
    after: str

    def to_json(self) -> dict[str, str]:
        """For a program."""
        return {"field": self.field, "before": self.before, "after": self.after}


@dataclass(frozen=True)
class Change:
    """A record that is in one plan alone, or says something else in the other.

    `what` is made, changed or gone; `name` what people call it; `fields` those that differ, none unless it was changed.
    """

    kind: str
    id: str
    name: str
    what: str
    fields: tuple[FieldChange, ...] = ()

    def __str__(self) -> str:
        if self.what != "changed":
            return f"{self.name}: {self.what}"
        return f"{self.name}: " + ", ".join(f"{f.field} {f.before} → {f.after}" for f in self.fields)

    def to_json(self) -> dict[str, Any]:
        """For a program."""
        fields = [f.to_json() for f in self.fields]
        return {"kind": self.kind, "id": self.id, "name": self.name, "what": self.what, "fields": fields}


def apart(before: Plan, after: Plan) -> list[tuple[str, str]]:
    """The (kind, id) of each record that differs, in the order of the kinds and of ids."""
    found: list[tuple[str, str]] = []
    for kind in KINDS:
        old, new = before.of(kind), after.of(kind)
        if old is not new:
            found += [(kind, id) for id in sorted({*old, *new}) if old.get(id) != new.get(id)]
    return found


def difference(before: Plan, after: Plan) -> Edit:
    """The edit that makes one plan say what another does; empty where they say the same."""
    found = ((kind, id, before.of(kind).get(id), after.of(kind).get(id)) for kind, id in apart(before, after))
    return tuple(made for one in found if (made := step_between(*one)))


def step_between(kind: str, id: str, old: Record | None, new: Record | None) -> Operation | None:
    """The operation that makes one record of another (None: there is none); None where they say the same."""
    if old == new:
        return None
    if new is None:
        return Drop(kind, id)
    if old is None:
        return Put(new)
    return Patch(kind, id, {name: plain(getattr(new, name)) for name in differing(old, new)})


def changes(before: Plan, after: Plan) -> list[Change]:
    """What differs, in words; names are those of the later plan, where it has them."""
    return [_change(before, after, kind, id) for kind, id in apart(before, after)]


_SHORT = {"vid", "pvid", "vni", "mtu", "mac"}


def field_words(name: str) -> str:
    """A field's name as people write it."""
    return " ".join(word.upper() if word in _SHORT else word for word in name.split("_"))


def differing(old: Record, new: Record) -> list[str]:
    """The fields of which two records say different things."""
    return [name for name in SPECS[old.kind] if getattr(old, name) != getattr(new, name)]


def _change(before: Plan, after: Plan, kind: str, id: str) -> Change:
    old, new = before.of(kind).get(id), after.of(kind).get(id)
    if new is None:
        return Change(kind, id, subject(before, before.get(kind, id)), "gone")
    if old is None:
        return Change(kind, id, subject(after, new), "made")
    fields = tuple(
        FieldChange(field_words(name), worded(before, old, name), worded(after, new, name))
        for name in differing(old, new)
    )
    return Change(kind, id, subject(after, new), "changed", fields)


def subject(plan: Plan, record: Record) -> str:
    """A record as the one of whom something is said: "Guest tide-db", "nic0 of fulmar"."""
    name, title = called(plan, record), record.title
    said = title.lower() in name.lower() or name.lower().startswith(f"{title.split()[-1].lower()} ")
    return name if said else f"{title} {name}"


def worded(plan: Plan, record: Record, name: str, value: Any = ...) -> str:
    """What a field of a record says (or would, with another value), in words."""
    value, spec = getattr(record, name) if value is ... else value, SPECS[record.kind][name]
    if value is None or value in ("", ()):
        return "nothing"
    if spec.kind == "ref":
        return called(plan, plan.find(value))
    if isinstance(value, bool):
        return "yes" if value else "no"
    return ", ".join(map(str, value)) if isinstance(value, tuple) else str(value)

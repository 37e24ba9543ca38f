"""A whole plan in memory, and what is wrong with one."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import chain, repeat
from operator import attrgetter, contains
from typing import Any, TypeVar, overload

from aptwire.plan.ids import make_id
from aptwire.plan.kinds import KINDS, POINTING, REFS, Adapter, Record
from aptwire.plan.layers import layered, replaced, row_of

R = TypeVar("R", bound=Record)


@dataclass(frozen=True)
class Problem:
    """One thing that is wrong: in which record and field, and (for files) at which place."""

    message: str
    kind: str = ""
    id: str = ""
    field: str = ""
    place: str = ""

    def __str__(self) -> str:
        where = " ".join(part for part in (self.kind.replace("_", " "), self.id) if part)
        if self.field:
            where = f"{where}, field {self.field}" if where else f"field {self.field}"
        head = ": ".join(part for part in (self.place, where) if part)
        return f"{head}: {self.message}" if head else self.message

    def to_json(self) -> dict[str, str]:
        """The problem for a program."""
        return {
            "message": self.message,
            "kind": self.kind,
            "id": self.id,
            "field": self.field,
            "place": self.place,
            "text": str(self),
        }


_OWN_WORDS = attrgetter("members", "admits", "isolated", "reflects", "mtu")
_NO_WORDS = (None,) * 5


class PlanError(Exception):
    """A plan, an edit or an input that can't be used; `problems` says everything that was found."""

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems = tuple(problems)
        super().__init__("; ".join(str(p) for p in self.problems))


class Plan:
    """Records by kind and id.  Never changed in place: an edit makes a new plan that shares what it left alone."""

    __slots__ = ("_absent", "_filled", "_indexes", "_outspoken", "_records", "name")

    def __init__(self, name: str, records: Mapping[str, Mapping[str, Record]] | None = None) -> None:
        self.name = name
        self._records: dict[str, Mapping[str, Record]] = {kind: {} for kind in KINDS}
        if records:
            self._records.update(records)
        self._indexes: dict[tuple[str, str], Mapping[Any, Sequence[Any]]] = {}
        self._absent: dict[tuple[str, str], Mapping[str, Any]] = {}
        self._outspoken: list[Adapter] | None = None
        self._filled: tuple[Mapping[str, Record], ...] | None = None

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Plan) and self.name == other.name and self._records == other._records

    __hash__ = None  # type: ignore[assignment]

    def __len__(self) -> int:
        return sum(len(found) for found in self._records.values())

    def of(self, kind: str) -> Mapping[Any, Any]:
        """All records of a kind, by id."""
        return self._records[kind]

    @overload
    def all(self, kind: type[R]) -> Iterable[R]: ...

    @overload
    def all(self, kind: str) -> Iterable[Any]: ...

    def all(self, kind: str | type[Record]) -> Iterable[Any]:
        """All records of a kind, given by its class or its name."""
        return self._records[kind if isinstance(kind, str) else kind.kind].values()

    def get(self, kind: str, id: str | None) -> Any:
        """The record; KeyError if there is none."""
        return self._records[kind][id]  # type: ignore[index]

    def where(self, kind: str, field: str, value: Any) -> Sequence[Any]:
        """The records of a kind whose field has this value."""
        if value is None or value == "":
            return self._without(kind, field)
        return self.grouped(kind, field).get(value, [])

    def having(self, kind: str, field: str) -> Iterator[Any]:
        """The records of a kind that have a value in a field."""
        return chain.from_iterable(self.grouped(kind, field).values())

    def _without(self, kind: str, field: str) -> list[Any]:
        """Those that have none.  Kept apart, since there may be very many of them, and hardly anybody asks."""
        found = self._absent.get((kind, field))
        if found is None:
            records = self._records[kind]
            some = sum(map(len, self.grouped(kind, field).values())) < len(records)
            found = {id: r for id, r in records.items() if getattr(r, field) in (None, "")} if some else {}
            self._absent[kind, field] = found
        return list(found.values())

    def grouped(self, kind: str, field: str) -> Mapping[Any, Sequence[Any]]:
        """The records of a kind by the value of a field, those without one left out; the first question about a field makes its index.

        Values that no record has any more may stand there with an empty list.
        """
        index = self._indexes.get((kind, field))
        if index is None:
            made: dict[Any, list[Any]] = {}
            for record in self._records[kind].values():
                value = getattr(record, field)
                if value is not None and value != "":
                    made.setdefault(value, []).append(record)
            index = self._indexes[kind, field] = {value: row_of(found) for value, found in made.items()}
        return index

    def named(self, name: str) -> Plan:
        """The same records under another name."""
        if name == self.name:
            return self
        return Plan(name, {kind: self.of(kind) for kind in KINDS})

    def indexed(self) -> Plan:
        """This plan with the indexes made that any edit's checks ask for, so that the first edit needn't wait for them."""
        for kind, names in REFS.items():
            for name in names:
                self.grouped(kind, name)
        self._without("adapter", "port_group")
        for kind, of in KINDS.items():
            for names in of.unique:
                self.grouped(kind, names[0])
        return self

    @property
    def outspoken(self) -> list[Adapter]:
        """The adapters whose port or MTU has a word of its own: few among very many, so they are found in one pass and kept."""
        if self._outspoken is None:
            self._outspoken = [a for a in self.all(Adapter) if _OWN_WORDS(a) != _NO_WORDS]
        return self._outspoken

    def find(self, id: str, kinds: Iterable[str] = ()) -> Record | None:
        """The record of whichever kind has this id, or whichever of some kinds."""
        for found in map(self._records.__getitem__, kinds) if kinds else self._some():
            if id in found:
                return found[id]
        return None

    def _some(self) -> tuple[Mapping[str, Record], ...]:
        """The records of each kind of which there are any."""
        if self._filled is None:
            self._filled = tuple(filter(None, self._records.values()))
        return self._filled

    def fresh_id(self, text: str) -> str:
        """An id made of a text, which no record has."""
        made = make_id(text)
        while any(map(contains, self._some(), repeat(made))):
            made = make_id(f"{made}+")
        return made

    def __iter__(self) -> Iterator[Record]:
        for found in self._records.values():
            yield from found.values()

    def replacing(self, changes: Mapping[tuple[str, str], Record | None]) -> Plan:
        """A plan in which each (kind, id) is the given record, or gone for None.  Indexes that were made go along."""
        touched: dict[str, dict[str, Record | None]] = {}
        for (kind, id), record in changes.items():
            touched.setdefault(kind, {})[id] = record
        made = Plan(self.name, {**self._records, **{k: layered(self._records[k], of) for k, of in touched.items()}})
        made._indexes = dict(self._indexes)
        made._absent = dict(self._absent)
        before = {k: [self._records[k].get(id) for id in of] for k, of in touched.items()}
        for kind, field in self._indexes:
            if kind in touched:
                made._indexes[kind, field] = _reindexed(
                    self._indexes[kind, field], field, before[kind], touched[kind].values()
                )
        for kind, field in self._absent:
            if kind in touched:
                without = {id: r if r and getattr(r, field) in (None, "") else None for id, r in touched[kind].items()}
                made._absent[kind, field] = layered(self._absent[kind, field], without)
        if self._outspoken is not None:
            gone = {id for kind, id in changes if kind == "adapter"}
            come = (r for (kind, _), r in changes.items() if kind == "adapter" and isinstance(r, Adapter))
            spoken = [a for a in come if _OWN_WORDS(a) != _NO_WORDS]
            made._outspoken = [*(a for a in self._outspoken if a.id not in gone), *spoken] if gone else self._outspoken
        return made

    def referrers(self, kind: str, id: str) -> Iterator[tuple[Record, str]]:
        """Every (record, field) that refers to the record."""
        for other, name in POINTING[kind]:
            for record in self.where(other, name, id):
                yield record, name


_NOTHING = {None, ""}


def _reindexed(
    index: Mapping[Any, Sequence[Any]],
    field: str,
    before: Collection[Record | None],
    after: Collection[Record | None],
) -> Mapping[Any, Sequence[Any]]:
    """An index brought up to date for records, as they were and as they are; lists are made anew, since older plans share them, each of them once."""
    was, is_ = (list(map(getattr, records, repeat(field), repeat(None))) for records in (before, after))
    changes: dict[Any, dict[str, Record | None]] = {}
    # Most fields of most records say nothing, and most say what they did.
    for old, value, now in zip(before, was, is_, strict=True) if set(was) - _NOTHING else ():
        if value != now and old is not None and value in index:
            changes.setdefault(value, {})[old.id] = None
    for new, value in zip(after, is_, strict=True) if set(is_) - _NOTHING else ():
        if new is not None and value not in _NOTHING:
            changes.setdefault(value, {})[new.id] = new
    return layered(index, {value: replaced(index.get(value) or [], of) for value, of in changes.items()})

"""Large mappings that an edit changes in a few places, without a copy of the rest."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, MutableMapping, Sequence
from itertools import chain
from typing import Any, TypeVar, overload

K = TypeVar("K")
V = TypeVar("V")

SMALL = 4096
"""What has fewer entries is copied: a plain dict is the quickest to read."""
MOST = 1024
"""More changes than these are laid into a plain dict anew."""


class _Gone:
    """In place of a value: the base's entry is no more."""


_GONE = _Gone()


class Layered(Mapping[K, V]):
    """A dict that nobody changes any more, and what differs from it.  What is changed stays in its place, what is new comes last."""

    __slots__ = ("_base", "_changes", "_size")

    def __init__(self, base: dict[K, V], changes: dict[K, V | _Gone], size: int) -> None:
        self._base, self._changes, self._size = base, changes, size

    def __getitem__(self, key: K) -> V:
        found = self._changes[key] if key in self._changes else self._base[key]
        if isinstance(found, _Gone):
            raise KeyError(key)
        return found

    def get(self, key: K, default: V | None = None) -> V | None:  # type: ignore[override]
        """The value of a key."""
        found = self._changes.get(key)
        if found is None:
            return self._base.get(key, default)
        return default if isinstance(found, _Gone) else found

    def __contains__(self, key: object) -> bool:
        if key in self._changes:
            return self._changes[key] is not _GONE
        return key in self._base

    def __iter__(self) -> Iterator[K]:
        changes, base = self._changes, self._base
        for key in base:
            if changes.get(key) is not _GONE:
                yield key
        for key, value in changes.items():
            if key not in base and value is not _GONE:
                yield key

    def __len__(self) -> int:
        return self._size

    def plain(self) -> dict[K, V]:
        """All of it as a dict of its own."""
        made: dict[K, Any] = {**self._base, **self._changes}
        for key in [key for key, value in self._changes.items() if value is _GONE]:
            del made[key]
        return made

    def _with(self, changes: Mapping[K, V | None]) -> Mapping[K, V]:
        size = self._size
        mine = dict(self._changes)
        for key, value in changes.items():
            size += (value is not None) - (key in self)
            if value is None and key not in self._base:
                mine.pop(key, None)
            else:
                mine[key] = _GONE if value is None else value
        made = Layered(self._base, mine, size)
        return made if len(mine) <= MOST else made.plain()


def differing(before: Mapping[K, V], now: Mapping[K, V]) -> Iterable[K] | None:
    """The keys of which two mappings may have another value; None: that would take long to find."""
    if before is now:
        return ()
    if isinstance(before, Layered) and isinstance(now, Layered):
        return {*before._changes, *now._changes} if before._base is now._base else None
    if isinstance(now, Layered):
        return [*now._changes] if before is now._base else None
    if len(before) > SMALL or len(now) > SMALL:
        return None
    return [key for key in before.keys() | now.keys() if before.get(key) is not now.get(key)]


def perhaps_differing(before: Mapping[K, Any], now: Mapping[K, Any]) -> Iterable[K]:
    """The keys of which two mappings may have another value: all of them where it would take long to find fewer."""
    found = differing(before, now)
    # In their own order they are gone through in half the time.
    return found if found is not None else dict.fromkeys(chain(before, now)) if before else now


def layered(before: Mapping[K, V], changes: Mapping[K, V | None]) -> Mapping[K, V]:
    """A mapping with some entries changed, or gone for None: the very one before, which stays as it was, where nothing is changed."""
    if not changes:
        return before
    if isinstance(before, Layered):
        return before._with(changes)
    assert isinstance(before, dict)
    if not before:
        return {key: value for key, value in changes.items() if value is not None}
    if len(before) > SMALL:
        return Layered(before, {}, len(before))._with(changes)
    made = dict(before)
    for key, value in changes.items():
        if value is None:
            made.pop(key, None)
        else:
            made[key] = value
    return made


class Draft(MutableMapping[K, V]):
    """A mapping under way from another one, which stays as it was: `done` is what came of it."""

    __slots__ = ("_before", "_changes")

    def __init__(self, before: Mapping[K, V]) -> None:
        self._before = before
        self._changes: dict[K, V | None] = {}

    def __getitem__(self, key: K) -> V:
        found = self._changes[key] if key in self._changes else self._before[key]
        if found is None:
            raise KeyError(key)
        return found

    def __setitem__(self, key: K, value: V) -> None:
        self._changes[key] = value

    def __delitem__(self, key: K) -> None:
        self[key]
        self._changes[key] = None

    def __iter__(self) -> Iterator[K]:
        return iter(self.done())

    def __len__(self) -> int:
        return len(self.done())

    def done(self) -> Mapping[K, V]:
        """The mapping as it is now: the very one before where nothing was changed."""
        return layered(self._before, self._changes) if self._changes else self._before


class Swapped(Sequence[V]):
    """A row in which others are in the place of a few."""

    __slots__ = ("_changes", "_held")

    def __init__(self, held: tuple[V, ...], changes: Mapping[int, V]) -> None:
        self._held, self._changes = held, changes

    @classmethod
    def of(cls, row: Sequence[V], changes: Mapping[int, V]) -> Sequence[V]:
        """A row (a tuple, or one of these) with others in the place of a few; that one stays as it was."""
        if isinstance(row, Swapped):
            changes = {**row._changes, **changes}
            row = row._held
        assert isinstance(row, tuple)
        if len(row) > SMALL and len(changes) <= MOST:
            return cls(row, changes)
        return tuple(changes.get(n, one) for n, one in enumerate(row))

    def __len__(self) -> int:
        return len(self._held)

    def __iter__(self) -> Iterator[V]:
        return (self._changes.get(n, one) for n, one in enumerate(self._held))

    @overload
    def __getitem__(self, at: int) -> V: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[V]: ...

    def __getitem__(self, at: int | slice) -> V | Sequence[V]:
        if isinstance(at, slice):
            return list(self)[at]
        return self._changes[at] if at in self._changes else self._held[at]


class Many(Sequence[V]):
    """Very many records (what has an `id`) in a row, of which an edit changes a few."""

    __slots__ = ("_held",)

    def __init__(self, held: Mapping[str, V]) -> None:
        self._held = held

    def __len__(self) -> int:
        return len(self._held)

    def __iter__(self) -> Iterator[V]:
        return iter(self._held.values())

    @overload
    def __getitem__(self, at: int) -> V: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[V]: ...

    def __getitem__(self, at: int | slice) -> V | Sequence[V]:
        return list(self._held.values())[at]

    def changed(self, changes: Mapping[str, V | None]) -> Many[V]:
        """With some records others, or gone for None."""
        return Many(layered(self._held, changes))


def row_of(records: list[Any]) -> Sequence[Any]:
    """Records in a row: the list, or where they are very many what can be changed without a copy."""
    return records if len(records) <= SMALL else Many({record.id: record for record in records})


def replaced(records: Sequence[Any], changes: Mapping[str, Any]) -> Sequence[Any]:
    """A row of records with others of the same ids in their place, without those that are gone (None), and what is new at the end."""
    if isinstance(records, Many):
        return records.changed(changes)
    left = dict(changes)
    made = [new for record in records if (new := left.pop(record.id, record)) is not None]
    made += [record for record in left.values() if record is not None]
    return row_of(made)

"""The facts of all hosts, and what they add up to, kept up to date: an edit costs the hosts that it touched.

A *grouping* puts entries of each host's facts together by a key and tells something of each key.  After an edit the entries of the changed hosts
are made anew, and those keys alone are told again in which something differs.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from operator import is_
from typing import Any, Generic, TypeVar

from aptwire.judge.facts import Facts, all_facts, facts_of
from aptwire.judge.judgement import Judgement
from aptwire.judge.kept import Rests, all_same, same
from aptwire.plan.layers import layered

L = TypeVar("L")
T = TypeVar("T")

Entry = tuple[Hashable, Any]
Entries = Mapping[str, Mapping[Hashable, tuple[Any, ...]]]
ByKey = Mapping[Hashable, Mapping[str, tuple[Any, ...]]]


def _nothing(_: Any) -> Rests:
    return ()


def _never(look: Any, key: Any, found: list[Any]) -> Iterable[Any]:
    return ()


@dataclass(frozen=True)
class Grouping(Generic[L, T]):
    """`entries` are made of a host's facts, and of what `made_of` gives; `tell` tells of a key with all its entries, by host, and of what `told_of`
    gives for all keys, and `about` for one, of its entries by host."""

    name: str
    entries: Callable[[L, tuple[Facts, ...]], Iterable[Entry]]
    tell: Callable[[L, Any, list[Any]], Iterable[T]] = _never
    made_of: Callable[[L], Rests] = _nothing
    told_of: Callable[[L], Rests] = _nothing
    about: Callable[[L, Any, Mapping[str, tuple[Any, ...]]], Any] | None = None


@dataclass(frozen=True)
class Grouped(Generic[T]):
    """A grouping of one judgement: the entries `of` each host, `by_key` and host, and what was `told` of each key, `about` something."""

    of: Mapping[str, Mapping[Hashable, tuple[Any, ...]]]
    by_key: Mapping[Hashable, Mapping[str, tuple[Any, ...]]]
    told: Mapping[Hashable, tuple[T, ...]]
    about: Mapping[Hashable, Any]
    rests: tuple[Rests, Rests]

    def all(self) -> Iterator[T]:
        """Everything told."""
        for found in self.told.values():
            yield from found


class Book:
    """The facts of each host, and what groupings make of them."""

    def __init__(self, judgement: Judgement) -> None:
        wiring, uses = judgement.wiring, judgement.intent.uses
        before, changed = judgement.answered.before.get("book", (None, None))
        self._before: Mapping[str, Grouped[Any]] = {}
        self.changed: frozenset[str] | None = None
        if not isinstance(before, Pages) or changed is None or before.uses is not uses:
            found: dict[str, list[Facts]] = {}
            for facts in all_facts(wiring, uses):
                found.setdefault(facts.host, []).append(facts)
            self.hosts: Mapping[str, tuple[Facts, ...]] = {host: _ordered(listed) for host, listed in found.items()}
            if isinstance(before, Pages):
                old = before.hosts
                keys = self.hosts.keys() | old.keys()
                self.changed = frozenset(k for k in keys if not _alike(self.hosts.get(k, ()), old.get(k, ())))
                self._before = before.groupings
        else:
            self.hosts, self.changed = self._again(judgement, before, changed.blocks)
            self._before = before.groupings
        self._known: dict[str, Grouped[Any]] = {}
        judgement.answered.answers["book"] = Pages(self.hosts, self._known, uses)

    @staticmethod
    def _again(
        judgement: Judgement, before: Pages, changed: frozenset[str]
    ) -> tuple[Mapping[str, tuple[Facts, ...]], frozenset[str]]:
        """The facts before, with those of the hosts of changed blocks made anew."""
        wiring, switches = judgement.wiring, judgement.plan.of("virtual_switch")
        made: dict[str, tuple[Facts, ...] | None] = {}
        asked = {switches[key].host for key in changed if key in switches}
        # A switch that is gone isn't there to say where it was.
        lost = {key for key in changed if key not in wiring.blocks}
        asked |= (
            {host for host, listed in before.hosts.items() if any(f.switch in lost for f in listed)} if lost else set()
        )
        for host in asked:
            blocks = (wiring.blocks.get(switch.id) for switch in judgement.plan.where("virtual_switch", "host", host))
            own = (facts_of(wiring, block, judgement.intent.uses) for block in blocks if block is not None)
            made[host] = _ordered(facts for facts in own if facts is not None) or None
        hosts = layered(before.hosts, made)
        return hosts, frozenset(h for h in asked if not _alike(hosts.get(h, ()), before.hosts.get(h, ())))

    def all(self) -> Iterator[Facts]:
        """The facts of every switch."""
        for listed in self.hosts.values():
            yield from listed

    def grouped(self, grouping: Grouping[L, T], look: L) -> Grouped[T]:
        """A grouping, brought up to date once."""
        known = self._known.get(grouping.name)
        if known is None:
            known = self._known[grouping.name] = self._group(grouping, look)
        return known

    def _group(self, grouping: Grouping[L, T], look: L) -> Grouped[T]:
        before = self._before.get(grouping.name)
        rests = grouping.made_of(look), grouping.told_of(look)
        if before is None or self.changed is None or not all_same(before.rests[0], rests[0]):
            of, by_key, touched = self._anew(grouping, look, before)
        else:
            of, by_key, touched = self._touched(grouping, look, before, self.changed)
        about: Mapping[Hashable, Any] = before.about if before is not None else {}
        if before is None or not all_same(before.rests[1], rests[1]):
            ask = grouping.about
            if ask is None:
                touched |= by_key.keys()
            else:
                differ = (k for k in by_key.keys() - touched if not same(about.get(k), ask(look, k, by_key[k])))
                touched |= set(differ)
        told: dict[Hashable, tuple[T, ...] | None] = {}
        facts: dict[Hashable, Any] = {}
        for key in touched if grouping.tell is not _never else ():
            values = _values(by_key.get(key, {}))
            told[key] = (tuple(grouping.tell(look, key, values)) or None) if values else None
            facts[key] = grouping.about(look, key, by_key[key]) if values and grouping.about is not None else None
        known: Mapping[Hashable, tuple[T, ...]] = before.told if before is not None else {}
        return Grouped(of, by_key, layered(known, told), layered(about, facts), rests)

    def _anew(
        self, grouping: Grouping[L, T], look: L, before: Grouped[T] | None
    ) -> tuple[Entries, ByKey, set[Hashable]]:
        """The entries of all hosts, by host and by key, and the keys that differ from before."""
        of: dict[str, Mapping[Hashable, tuple[Any, ...]]] = {}
        by_key: dict[Hashable, dict[str, tuple[Any, ...]]] = {}
        for host, listed in self.hosts.items():
            own = _entries(grouping, look, listed)
            if own:
                of[host] = own
            for key, found in own.items():
                by_key.setdefault(key, {})[host] = found
        known: ByKey = before.by_key if before is not None else {}
        keys = by_key.keys() | known.keys()
        touched = {k for k in keys if not _alike_by_host(by_key.get(k, {}), known.get(k, {}))}
        return of, {**by_key}, touched

    def _touched(
        self, grouping: Grouping[L, T], look: L, before: Grouped[T], changed: frozenset[str]
    ) -> tuple[Entries, ByKey, set[Hashable]]:
        """The same, from the entries before, with those of the changed hosts made anew."""
        hosts: dict[str, Mapping[Hashable, tuple[Any, ...]] | None] = {}
        keys: dict[Hashable, dict[str, tuple[Any, ...] | None]] = {}
        for host in changed:
            old, new = before.of.get(host, {}), _entries(grouping, look, self.hosts.get(host, ()))
            if not old and not new:
                continue
            differ = [key for key, found in new.items() if not _alike(old.get(key, ()), found)]
            differ += [key for key in old if key not in new]
            if differ:
                hosts[host] = new or None
            for key in differ:
                keys.setdefault(key, {})[host] = new.get(key)
        by_key = layered(before.by_key, {k: layered(before.by_key.get(k, {}), of) or None for k, of in keys.items()})
        return layered(before.of, hosts), by_key, set(keys)


@dataclass(frozen=True)
class Pages:
    """What a book leaves to the next one."""

    hosts: Mapping[str, tuple[Facts, ...]]
    groupings: Mapping[str, Grouped[Any]]
    uses: object


def _ordered(facts: Iterable[Facts]) -> tuple[Facts, ...]:
    return tuple(sorted(facts, key=lambda f: f.switch))


def _entries(grouping: Grouping[L, T], look: L, listed: tuple[Facts, ...]) -> dict[Hashable, tuple[Any, ...]]:
    made: dict[Hashable, list[Any]] = {}
    for key, value in grouping.entries(look, listed):
        made.setdefault(key, []).append(value)
    return {key: tuple(values) for key, values in made.items()}


def _values(by_host: Mapping[str, tuple[Any, ...]]) -> list[Any]:
    return [value for host in sorted(by_host) for value in by_host[host]]


def _alike(one: tuple[Any, ...], two: tuple[Any, ...]) -> bool:
    return len(one) == len(two) and (all(map(is_, one, two)) or all(map(same, one, two)))


def _alike_by_host(one: Mapping[str, tuple[Any, ...]], two: Mapping[str, tuple[Any, ...]]) -> bool:
    return one.keys() == two.keys() and all(_alike(one[host], two[host]) for host in one)


def book_of(judgement: Judgement) -> Book:
    """The book of a judgement, made once."""
    return judgement.once(Book)

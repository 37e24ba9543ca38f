"""Whom the subjects of a rule mean in a plan."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from fnmatch import fnmatchcase
from functools import cached_property
from itertools import chain
from operator import attrgetter
from typing import Any, NamedTuple

from aptwire.plan.hosting import on_switches
from aptwire.plan.kinds import PLACES, HostPort
from aptwire.plan.names import endpoint_key, host_of
from aptwire.plan.plan import Plan
from aptwire.plan.sentences import (
    ADAPTER,
    ANYTHING,
    EVERY_HOST,
    EVERYTHING,
    GUEST,
    HOST,
    HOST_PORT,
    OUTSIDE,
    ROLE,
    SEGMENT,
    STATION,
    Subject,
    Subjects,
)


class Unit(NamedTuple):
    """Whoever answers as one: a guest, station or host with all its interfaces, one interface, or an outside network, which has none; `id` is that record's,
    `records` are its interfaces."""

    id: str
    records: tuple[str, ...]


@dataclass(frozen=True)
class Whom:
    """The units of some subjects, each once; `nobody` are those of the subjects of whom the plan has none, and `unclear` says of one that it may be either."""

    units: tuple[Unit, ...]
    nobody: tuple[Subject, ...] = ()
    unclear: str = ""

    @cached_property
    def records(self) -> tuple[str, ...]:
        """All their interfaces, each once."""
        return tuple(dict.fromkeys(chain.from_iterable(map(_RECORDS, self.units))))

    def outside(self, plan: Plan) -> list[str]:
        """The outside networks among them (ids)."""
        return [unit.id for unit in self.units if unit.id in plan.of("outside")]


class Meaning:
    """What subjects mean in a plan; each is looked up once."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self._known: dict[tuple[str, str, str], Whom] = {}

    def whom(self, subjects: Subjects) -> Whom:
        """The units of all of them together."""
        found = [self.one(subject) for subject in subjects]
        if len(found) == 1 and (found[0].units or found[0].unclear):
            return found[0]
        units = {unit.id: unit for whom in found for unit in whom.units}
        nobody = tuple(subject for subject, whom in zip(subjects, found, strict=True) if not whom.units)
        return Whom(tuple(units.values()), nobody, next((whom.unclear for whom in found if whom.unclear), ""))

    def one(self, subject: Subject) -> Whom:
        """The units of one subject."""
        key = (subject.sort, subject.name, subject.of)
        if key not in self._known:
            self._known[key] = self._find(subject)
        return self._known[key]

    def _find(self, subject: Subject) -> Whom:
        if subject.sort != ANYTHING:
            return Whom(_each_once(_SORTS[subject.sort](self, subject)))
        found = {sort: tuple(_SORTS[sort](self, subject)) for sort in _GUESSED}
        some = [sort for sort, units in found.items() if units or self._named(sort, subject.name)]
        if len(some) > 1:
            return Whom(
                (), (), f"“{subject.name}” is a {' and a '.join(some)}: say which, as in {some[0]} {subject.name}"
            )
        return Whom(_each_once(found[some[0]] if some else self._role(subject)))

    def _named(self, sort: str, name: str) -> bool:
        """Whether something of a sort is called so, though it may have nobody."""
        return any(True for _ in self._called(sort, name))

    def _called(self, kind: str, name: str) -> Iterable[Any]:
        if "*" not in name:
            return self.plan.where(kind, "name", name)
        return [r for r in self.plan.all(kind) if fnmatchcase(r.name, _pattern(name))]

    def belonging(self, subjects: Subjects) -> frozenset[str | None]:
        """The segments (ids; None: none) on which all of them belong, and perhaps more; of segments and roles they are told without a look at who is there."""
        found: set[str | None] = set()
        for subject in subjects:
            if subject.sort in (SEGMENT, ROLE):
                found.update(self.segments(subject))
            if subject.sort == ROLE:
                found.update(port.belongs for port in self._serving(subject))
            elif subject.sort != SEGMENT:
                records = (self.plan.find(record, PLACES) for record in self.one(subject).records)
                found.update(getattr(record, "belongs", None) for record in records)
        return frozenset(found)

    def segments(self, subject: Subject) -> list[str]:
        """The ids of the segments that a subject means by name or role."""
        named = [s.id for s in self._called("segment", subject.name)] if subject.sort != ROLE else []
        if not named and subject.sort in (ROLE, ANYTHING):
            return [s.id for s in self.plan.all("segment") if fnmatchcase(s.role, _pattern(subject.name))]
        return named

    def _of_segments(self, subject: Subject) -> Iterator[Unit]:
        for segment in sorted(self.segments(subject)):
            for kind in PLACES:
                ids = sorted(map(_ID, self.plan.where(kind, "belongs", segment)))
                yield from map(Unit, ids, zip(ids, strict=True))

    def _role(self, subject: Subject) -> Iterator[Unit]:
        yield from self._of_segments(subject)
        for port in self._serving(subject):
            yield Unit(port.id, (port.id,))

    def _serving(self, subject: Subject) -> Iterator[HostPort]:
        """The host ports with a service of a role."""
        for port in sorted(self.plan.all(HostPort), key=lambda p: p.id):
            if any(fnmatchcase(service, _pattern(subject.name)) for service in port.services):
                yield port

    def _guests(self, subject: Subject) -> Iterator[Unit]:
        for guest in sorted(self._called("guest", subject.name), key=lambda g: g.id):
            adapters = sorted(self.plan.where("adapter", "guest", guest.id), key=lambda a: (a.order, a.id))
            tags = (tag.id for a in adapters for tag in self.plan.where("guest_tag", "adapter", a.id))
            yield Unit(guest.id, (*(a.id for a in adapters), *tags))

    def _stations(self, subject: Subject) -> Iterator[Unit]:
        for station in sorted(self._called("station", subject.name), key=lambda s: s.id):
            ports = sorted(self.plan.where("station_port", "station", station.id), key=lambda p: p.id)
            yield Unit(station.id, tuple(port.id for port in ports))

    def _hosts(self, subject: Subject) -> Iterator[Unit]:
        named = self.plan.all("host") if subject.sort == EVERY_HOST else self._called("host", subject.name)
        for host in sorted(named, key=lambda h: h.id):
            yield Unit(host.id, tuple(port.id for port in self._host_ports(host.id)))

    def _host_ports(self, host: str) -> list[HostPort]:
        return sorted(on_switches(self.plan, "host_port", host), key=lambda p: p.id)

    def _host_port(self, subject: Subject) -> Iterator[Unit]:
        for host in sorted(self._called("host", subject.of), key=lambda h: h.id):
            for port in self._host_ports(host.id):
                if fnmatchcase(port.name, _pattern(subject.name)):
                    yield Unit(port.id, (port.id,))

    def _adapters(self, subject: Subject) -> Iterator[Unit]:
        """By name, which is one of its host's, or as host/name."""
        host, _, name = subject.name.rpartition("/")
        for adapter in sorted(self._called("adapter", name), key=lambda a: a.id):
            if not host or fnmatchcase(host_of(self.plan, adapter), _pattern(host)):
                tags = (tag.id for tag in self.plan.where("guest_tag", "adapter", adapter.id))
                yield Unit(adapter.id, (adapter.id, *tags))

    def _outsides(self, subject: Subject) -> Iterator[Unit]:
        for outside in sorted(self._called("outside", subject.name or "*"), key=lambda o: o.id):
            yield Unit(outside.id, ())

    def _everything(self, _: Subject) -> Iterator[Unit]:
        for kind in PLACES:
            yield from (Unit(id, (id,)) for id in sorted(self.plan.of(kind)))
        yield from (Unit(id, ()) for id in sorted(self.plan.of("outside")))


_ID = attrgetter("id")
_RECORDS = attrgetter("records")


def _each_once(units: Iterable[Unit]) -> tuple[Unit, ...]:
    listed = tuple(units)
    return tuple(dict(zip(map(_ID, listed), listed, strict=True)).values())


def _pattern(name: str) -> str:
    """A name as fnmatch takes it: * alone means something."""
    return name.replace("[", "[[]").replace("?", "[?]")


_GUESSED = (SEGMENT, GUEST, STATION, HOST, OUTSIDE)
"""What a name that stands by itself may be of; where nothing is called so, it is a role."""

_SORTS: dict[str, Callable[[Meaning, Subject], Iterator[Unit]]] = {
    SEGMENT: Meaning._of_segments,
    ROLE: Meaning._role,
    GUEST: Meaning._guests,
    STATION: Meaning._stations,
    HOST: Meaning._hosts,
    EVERY_HOST: Meaning._hosts,
    HOST_PORT: Meaning._host_port,
    ADAPTER: Meaning._adapters,
    OUTSIDE: Meaning._outsides,
    EVERYTHING: Meaning._everything,
}


def names_of(plan: Plan) -> dict[str, list[str]]:
    """The names that a rule may speak of, by sort."""
    roles = {s.role for s in plan.all("segment")} - {""}
    roles |= {service for port in plan.all(HostPort) for service in port.services}
    adapters = (endpoint_key(plan, adapter) for adapter in plan.all("adapter"))
    named = {kind: sorted({r.name for r in plan.all(kind)}) for kind in (SEGMENT, GUEST, STATION, HOST, OUTSIDE)}
    return {**named, ROLE: sorted(roles), ADAPTER: sorted(adapters)}

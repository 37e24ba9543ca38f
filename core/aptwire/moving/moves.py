"""Guest by host: where each could run, and why not."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from aptwire.judge.causes import spoken
from aptwire.judge.judgement import Judgement
from aptwire.moving.faults import (
    APART,
    ASK,
    COLD,
    CUT,
    FUNCTION,
    GROUP,
    GUARD,
    LARGE,
    LEASE,
    LESS,
    LETTERS,
    LIMIT,
    MEETS,
    MIRROR,
    NAMED,
    NOT,
    OPEN,
    RUNS,
    SOME,
    STORAGE,
    TAG,
    UNASKED,
    UNKNOWN,
)
from aptwire.moving.fitness import Fitness, Want, fitness
from aptwire.moving.ground import Ground
from aptwire.plan.kinds import GUARDS, SHAPES, Guest
from aptwire.plan.names import natural, some
from aptwire.plan.plan import PlanError, Problem


@dataclass(frozen=True)
class Moves:
    """`hosts` (ids) in the order of their names; `rows` of letters (`faults.py`), one for each host; the row of each guest (id)."""

    hosts: tuple[str, ...]
    rows: tuple[str, ...]
    row_of: Mapping[str, int]


@dataclass(frozen=True)
class Reason:
    """What a guest would miss on a host, in a sentence: `letter` how grave that is, `about` the adapter that it concerns (empty: the guest, or its host)."""

    letter: str
    text: str
    about: str = ""

    def to_json(self) -> dict[str, str]:
        """The reason for a program."""
        return dict(self.__dict__)


class Moving:
    """What is known of moves in a judged plan."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.plan = judgement, judgement.plan
        self.fitness: Fitness = fitness(judgement)
        self.ground = Ground(judgement)
        class_of, _ = self.ground.classes
        self._classes = np.array([class_of[host] for host in self.fitness.hosts], dtype=np.int64)

    def wants(self, guest: str) -> dict[str, Want]:
        """What a guest's adapters want that are attached, by their ids."""
        adapters = self.plan.where("adapter", "guest", guest)
        numbers = ((a.id, self.fitness.want_of.get(a.id)) for a in adapters)
        return {id: self.fitness.wants[number] for id, number in numbers if number is not None}

    def faults(self, guest: str) -> np.ndarray:
        """uint16[hosts]: all that a guest would miss on each host; on its own, what one would that came from another such host."""
        host = self.plan.get("guest", guest).host
        made: np.ndarray = self.ground.faults[self.ground.classes[0][host]][self._classes].copy()
        for want in self.wants(guest).values():
            made |= self.fitness.faults[want.number]
        if any(self._mirrors(guest)):
            made |= np.uint16(MIRROR)
        return made

    def _mirrors(self, guest: str) -> Iterator[tuple[str, str]]:
        """Each mirror between a guest and another one: the adapters (ids)."""
        for adapter in self.wants(guest):
            for field, other in (("source", "target"), ("target", "source")):
                for mirror in self.plan.where("mirror", field, adapter):
                    if self.plan.get("adapter", getattr(mirror, other)).guest != guest:
                        yield adapter, getattr(mirror, other)

    def letters(self, guest: str) -> str:
        """How a guest would fare on each host; of its own, that says nothing."""
        return str(LETTERS[self.faults(guest)].tobytes(), "ascii")

    def all(self) -> Moves:
        """Every guest's letters; guests that fare alike share a row."""
        numbers: dict[tuple[object, ...], int] = {}
        known: dict[str, int] = {}
        rows: list[str] = []
        row_of: dict[str, int] = {}
        for guest in self.plan.all(Guest):
            wants = {want.number for want in self.wants(guest.id).values()}
            key = (guest.host, any(self._mirrors(guest.id)), *sorted(wants))
            if key not in numbers:
                row = self.letters(guest.id)
                if row not in known:
                    known[row] = len(rows)
                    rows.append(row)
                numbers[key] = known[row]
            row_of[guest.id] = numbers[key]
        return Moves(self.fitness.hosts, tuple(rows), row_of)

    # --- in words ---------------------------------------------------------------------------------------------

    def reasons(self, guest: str, host: str) -> list[Reason]:
        """Why a guest wouldn't fare on another host as it should, the gravest first; PlanError where there is no such guest or host."""
        self.known(guest, host)
        if self.plan.get("guest", guest).host == host:
            return []
        at = self.fitness.hosts.index(host)
        found = list(self._of_host(guest, host))
        for adapter, want in self.wants(guest).items():
            faults = int(self.fitness.faults[want.number, at])
            name = spoken(self.plan, adapter)
            for fault, text in self._of_adapter(adapter, want, host):
                if faults & fault:
                    found.append(Reason(_letter(fault), f"{name} {text}.", adapter))
        return sorted(found, key=lambda reason: "x?ulcr".index(reason.letter))

    def known(self, guest: str, host: str) -> None:
        """Raise PlanError unless there are such a guest and host."""
        for kind, id in (("guest", guest), ("host", host)):
            if id not in self.plan.of(kind):
                raise PlanError([Problem(f"there is no {kind} “{id[:80]}”", field=kind)])

    def _of_host(self, guest: str, host: str) -> Iterator[Reason]:
        own, ground = self.plan.get("guest", guest).host, self.ground
        mine, its = (self.plan.get("host", id).name for id in (own, host))
        missing = ground.storage[own] - ground.storage[host]
        for unknown in (False, True):
            segments = sorted(s for s in missing if (s in ground.doubted[host]) is unknown)
            if segments:
                names = some([self.plan.get("segment", s).name for s in segments])
                its_way = f"nobody knows whether {its} does" if unknown else f"{its} doesn’t"
                text = f"{mine} reaches storage on {names}, and {its_way}."
                yield Reason(_letter(OPEN if unknown else STORAGE), text)
        for adapter, other in self._mirrors(guest):
            text = f"The mirror between it and {spoken(self.plan, other)} would end: a mirror stays on one switch."
            yield Reason(_letter(MIRROR), text, adapter)
        if not ground.met(own, host):
            ports = [bool(ground.migration[id]) for id in (own, host)]
            why = "no migration network leads from one to the other"
            if not all(ports):
                names = some([name for name, has in zip((mine, its), ports, strict=True) if not has])
                why = f"{names} {'have' if not any(ports) else 'has'} no host port for migration"
            yield Reason(_letter(APART), f"It can go to {its} switched off alone: {why}.")

    def _of_adapter(self, adapter: str, want: Want, host: str) -> Iterator[tuple[int, str]]:
        """What is said of each fault of an adapter."""
        plan = self.plan
        name = plan.get("host", host).name
        own = want.group
        seat = self.fitness.seats(host).like(own, want.vid) if own is not None else None
        segment = plan.of("segment").get(plan.get("adapter", adapter).belongs)
        home = segment.name if segment is not None else "its segment"
        there = f"port group {seat.name}" if seat is not None else f"{name}"
        yield GROUP, f"finds no port group on {name} like its own, {own.name if own is not None else ''}"
        yield FUNCTION, f"finds no NIC on {name} that has a virtual function left"
        yield TAG, f"would land on another segment than {home} in {there}"
        yield CUT, f"would be in {there}, over none of whose ways {home} is reached"
        yield MEETS, f"would meet in {there} whom it must not"
        yield LEASE, f"would get no address from others there, or a wrong one, in {there}"
        yield LARGE, f"sends packets of {want.sends or 'more'} bytes; something on the way out of {name} takes less"
        yield OPEN, f"would be in {there}; nobody said what is behind its ways"
        yield SOME, f"would reach {home} over some ways of {there} only"
        yield NAMED, f"would sit in {there}, since none there is called {own.name if own is not None else ''}"
        if seat is not None:
            yield GUARD, f"may {some(_lost(plan.get('adapter', adapter), want, seat))} now, and not in {there}"
            yield LIMIT, f"has other limits in {there}: {some(_limits(plan.get('adapter', adapter), want, seat))}"
        yield UNASKED, f"was not asked about {name}: too many need a question of their own"


BY_GUEST = ("guest", "is on", "runs on", "switched off alone", "with something less", "unproven", "not on")


def by_guest(judgement: Judgement) -> list[tuple[str, str, list[list[str]]]]:
    """Each guest (its name), its host, and the names of the other hosts in each way that it would fare there, in the order of `BY_GUEST`."""
    plan, found = judgement.plan, moving(judgement).all()
    hosts = [(id, plan.get("host", id).name) for id in found.hosts]
    made = []
    for guest in sorted(plan.all(Guest), key=lambda g: natural(g.name)):
        letters = found.rows[found.row_of[guest.id]]
        others = [(name, c) for (id, name), c in zip(hosts, letters, strict=True) if id != guest.host]
        groups = [[name for name, c in others if c in of] for of in (RUNS, COLD, LESS, UNKNOWN + ASK, NOT)]
        made.append((guest.name, plan.get("host", guest.host).name, groups))
    return made


def _letter(fault: int) -> str:
    return chr(LETTERS[fault])


def _lost(adapter: object, want: Want, seat: object) -> list[str]:
    """The guards that are open for an adapter now and wouldn't be in a port group."""
    return [
        guard.replace("_", " ")
        for guard, had in zip(GUARDS, want.freedoms, strict=True)
        if had and getattr(adapter, guard) is None and not getattr(seat, guard)
    ]


def _limits(adapter: object, want: Want, seat: object) -> list[str]:
    """The limits of an adapter that would be others in a port group."""
    return [
        f"{shape.replace('_', ' ')} {getattr(seat, shape) or 'none'}, not {had or 'none'}"
        for shape, had in zip(SHAPES, want.limits, strict=True)
        if getattr(adapter, shape) is None and getattr(seat, shape) != had
    ]


def moving(judgement: Judgement) -> Moving:
    """What is known of moves; the same object for as long as the judgement lives."""
    return judgement.once(Moving)

"""A host taken out, for maintenance or because it failed: where everybody on it goes, and who is left without a place."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from aptwire.judge.judgement import Judgement
from aptwire.judge.preview import preview
from aptwire.moving.faults import COLD, LESS, RUNS
from aptwire.moving.moves import Moving, moving
from aptwire.plan.edits import Edit
from aptwire.plan.gestures import place_guests
from aptwire.plan.hosting import functions_left
from aptwire.plan.names import natural
from aptwire.plan.plan import PlanError, Problem


@dataclass(frozen=True)
class Place:
    """A guest (id) that goes to a host (id), and how it fares there (a letter of `faults.py`)."""

    guest: str
    host: str
    letter: str


@dataclass(frozen=True)
class Left:
    """A guest (id) that no host takes: `nearest` the host that lacks least, and why that doesn't."""

    guest: str
    nearest: str
    why: tuple[str, ...]


@dataclass(frozen=True)
class Clearing:
    """Where the guests of a host go, who is left, and the edit that moves them."""

    host: str
    places: tuple[Place, ...]
    left: tuple[Left, ...]
    edit: Edit

    def worse(self, judgement: Judgement) -> list[str]:
        """The endpoints (ids) that fare worse once all have moved, which one by one they don't: asked of the plan as it would be."""
        return [move.endpoint for move in preview(judgement, self.edit).moves if move.worse] if self.edit else []


def clear(judgement: Judgement, host: str, failed: bool = False) -> Clearing:
    """Take a host out.  Each guest goes where it fares best, those first who have the fewest hosts to choose from, and of several hosts to the emptiest.

    `failed`: it is down, so that nobody need go while running.  PlanError where there is no such host.
    """
    return _Clearing(moving(judgement), host, failed).made()


class _Clearing:
    def __init__(self, known: Moving, host: str, failed: bool) -> None:
        self.known, self.plan, self.host = known, known.plan, host
        if host not in self.plan.of("host"):
            raise PlanError([Problem(f"there is no host “{host[:80]}”", field="host")])
        self.hosts = known.fitness.hosts
        # Switched off is as good as running where nobody runs any more.
        self.best = (RUNS + COLD, LESS) if failed else (RUNS, LESS, COLD)
        self.load = Counter(guest.host for guest in self.plan.all("guest"))
        self.free = {
            other: sum(max(0, left) for left in functions_left(self.plan, other).values()) for other in self.hosts
        }

    def made(self) -> Clearing:
        guests = sorted(self.plan.where("guest", "host", self.host), key=lambda g: natural(g.name))
        letters = {guest.id: self.known.letters(guest.id) for guest in guests}
        places: dict[str, Place] = {}
        left: dict[str, Left] = {}
        for guest in sorted(guests, key=lambda g: self._choices(letters[g.id])):
            place = self._place(guest.id, letters[guest.id])
            if place is None:
                left[guest.id] = self._left(guest.id, letters[guest.id])
            else:
                places[guest.id] = place
                self.load[place.host] += 1
                self.free[place.host] -= self._functions(guest.id)
        to = {guest: place.host for guest, place in places.items()}
        return Clearing(
            self.host,
            tuple(places[g.id] for g in guests if g.id in places),
            tuple(left[g.id] for g in guests if g.id in left),
            place_guests(self.plan, to) if to else (),
        )

    def _choices(self, letters: str) -> int:
        return sum(letter in self.best[0] for letter in letters)

    def _functions(self, guest: str) -> int:
        return sum(a.type == "direct" for a in self.plan.where("adapter", "guest", guest))

    def _place(self, guest: str, letters: str) -> Place | None:
        needed, faults = self._functions(guest), self.known.faults(guest)
        for group in self.best:
            fits = [
                (int(faults[n]).bit_count(), self.load[other], n)
                for n, (other, letter) in enumerate(zip(self.hosts, letters, strict=True))
                if letter in group and other != self.host and self.free[other] >= needed
            ]
            if fits:
                n = min(fits)[-1]
                return Place(guest, self.hosts[n], letters[n])
        return None

    def _left(self, guest: str, letters: str) -> Left:
        reasons = {
            other: [r for r in self.known.reasons(guest, other) if r.letter not in (*self.best[0], COLD, LESS)]
            for other in self._nearest(guest)
        }
        if not reasons:
            return Left(guest, "", ("There is no other host.",))
        nearest = min(reasons, key=lambda other: len(reasons[other]))
        why = [reason.text for reason in reasons[nearest]]
        return Left(guest, nearest, tuple(why or ["No virtual function is left for it there."]))

    def _nearest(self, guest: str) -> Sequence[str]:
        """The hosts on which a guest misses the fewest kinds of things."""
        missed = [(int(faults).bit_count(), n) for n, faults in enumerate(self.known.faults(guest).tolist())]
        order = [self.hosts[n] for _, n in sorted(missed) if self.hosts[n] != self.host]
        return order[:3]

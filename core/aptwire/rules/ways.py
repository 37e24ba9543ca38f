"""Ways of packets over routers to an address, by the arrays alone, and the filters on them.

What a filter does with a packet is told by the lines that speak of it, as bits (`Sieve`).  A way is the filters on it; packets get along it if those let them through.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import chain
from typing import NamedTuple

import numpy as np

from aptwire.above.outcomes import UNPROVEN
from aptwire.above.ping import MOST_HOPS
from aptwire.forward.parts import Place
from aptwire.plan.fields import Numbers, end_of, numbers
from aptwire.plan.filters import Gate, passing, unsure
from aptwire.plan.stacks import Address, Entry, Stack
from aptwire.rules.alike import Look, bounds

NEVER, PERHAPS, SURELY = range(3)
"""What becomes of a packet, by its number in arrays, the best last."""


def _bits(which: Iterable[bool]) -> int:
    return sum(1 << n for n, one in enumerate(which) if one)


class Side:
    """The subnets of which the lines of a filter speak, of sources or of targets.  Between two of their bounds all addresses are one, at the same place: `met` bool[lines,
    places] says which lines speak of them."""

    def __init__(self, nets: list[tuple[Numbers, ...]]) -> None:
        self.marks = bounds(chain.from_iterable(nets))
        self.met = np.zeros((len(nets), len(self.marks) + 1), dtype=bool)
        for line, own in zip(self.met, nets, strict=True):
            line[:] = not own
            for version, _, first, length in own:
                last = end_of(version, first, length) - 1
                line[self.place((version, first)) : self.place((version, last)) + 1] = True
        self._bits = [_bits(place) for place in self.met.T.tolist()]

    def place(self, address: tuple[int, int]) -> int:
        """The place of an address (IP version, number)."""
        return bisect_right(self.marks, address)

    def of(self, address: Address) -> int:
        """The lines that speak of an address, as bits."""
        return self._bits[self.place((address.version, int(address)))]


class Sieve:
    """The filter of a stack: which of its lines speak of an address or of a pair of interfaces, as bits in the order of the lines."""

    def __init__(self, stack: Stack) -> None:
        self.stack, self.lines = stack, stack.filter
        self._pairs: dict[tuple[str, str], int] = {}
        self._lets: dict[int, bool | None] = {}
        self._tables: dict[int, np.ndarray] = {}
        self.tells_interfaces = any(line.enters is not None or line.leaves is not None for line in self.lines)
        self._whole = _bits(line.protocol == "any" and not line.ports for line in self.lines)
        self.sources, self.targets = (
            Side([tuple(map(numbers, nets)) for nets in of])
            for of in ([line.sources for line in self.lines], [line.targets for line in self.lines])
        )

    def between(self, enters: str, leaves: str) -> int:
        """The lines that speak of what comes in by one interface and goes out by another."""
        found = self._pairs.get((enters, leaves))
        if found is None:
            found = _bits(line.enters in (None, enters) and line.leaves in (None, leaves) for line in self.lines)
            self._pairs[enters, leaves] = found
        return found

    def lets(self, met: int) -> bool | None:
        """Whether everything passes of which these lines speak, or nothing; None: that depends on the protocol, or isn't known."""
        if met not in self._lets:
            whole = met & self._whole
            first = whole & -whole
            # Lines that speak of one protocol alone count as far as none before them decides on all.
            part = met & ~self._whole & (first - 1 if first else -1)
            action = self.lines[first.bit_length() - 1].action if first else "allow"
            self._lets[met] = None if part or action == "unknown" else action == "allow"
        return self._lets[met]

    def table(self, enters: str, leaves: str) -> np.ndarray:
        """int8[places of sources, places of targets]: what `lets` says of all that comes in by one interface and goes out by another: SURELY where everything passes, NEVER
        where nothing does, else PERHAPS."""
        between = self.between(enters, leaves)
        if between not in self._tables:
            made = np.full((self.sources.met.shape[1], self.targets.met.shape[1]), SURELY, dtype=np.int8)
            # The first line that speaks of all protocols decides, unless one before it speaks of some.
            for n in reversed(range(len(self.lines))):
                if between >> n & 1:
                    whole = {"allow": SURELY, "deny": NEVER}.get(self.lines[n].action, PERHAPS)
                    does = whole if self._whole >> n & 1 else PERHAPS
                    made[np.ix_(self.sources.met[n], self.targets.met[n])] = does
            self._tables[between] = made
        return self._tables[between]


class Checkpoint(NamedTuple):
    """A filter on a way: the stack's sieve, the interfaces by which a packet enters and leaves, and the lines that speak of these and of the target."""

    sieve: Sieve
    enters: str
    leaves: str
    met: int


class Way(NamedTuple):
    """A way from a router to a target: the interface by which it goes out first, the filters of the routers further on, and whether a leg of it isn't sure."""

    out: str
    gates: tuple[Checkpoint, ...]
    doubt: bool


class End(NamedTuple):
    """An address of an interface (a record) with its number among all that are asked, and the id of whose it is."""

    number: int
    record: str
    owner: str
    address: Address


class Sender:
    """An address from which somebody sends: which lines of filters speak of it, each filter asked once."""

    def __init__(self, address: Address) -> None:
        self.address = address
        self._known: dict[Sieve, int] = {}

    def met(self, sieve: Sieve) -> int:
        """The lines of a filter that speak of what it sends, as bits."""
        found = self._known.get(sieve)
        if found is None:
            found = self._known[sieve] = sieve.sources.of(self.address)
        return found


class Ways:
    """Ways from routers to targets, by the arrays alone."""

    def __init__(self, look: Look) -> None:
        self.look, self.pings = look, look.waking
        self._taken: dict[tuple[str, Address, bool], list[tuple[str | None, bool]]] = {}
        self._sieves: dict[str, Sieve] = {}
        self._places: dict[str, Place | None] = {}

    def sieve(self, owner: str) -> Sieve:
        """The filter of a stack."""
        if owner not in self._sieves:
            self._sieves[owner] = Sieve(self.look.stack(owner))
        return self._sieves[owner]

    def _further(self, owner: str, end: End, seen: tuple[str, ...]) -> Iterator[Way]:
        if len(seen) > MOST_HOPS:
            return
        for line in self.look.stack(owner).choices(end.address):
            if line.out == end.record and line.via is None:
                yield Way(line.out, (), False)
                continue
            hidden = bool(self.look.plan.where("translation", "at", line.out))
            for to, doubt in self.takers(line, end.address):
                for gates, vague in self.past(self.look.owner(to) if to is not None else "", to, end, seen):
                    if hidden and gates:
                        # The filters further on see another source.
                        yield Way(line.out, (), True)
                    else:
                        yield Way(line.out, gates, doubt or vague)

    def past(
        self, owner: str, enters: str | None, end: End, seen: tuple[str, ...] = ()
    ) -> Iterator[tuple[tuple[Checkpoint, ...], bool]]:
        """The ways of a packet from where somebody has taken it (at an interface; None: nobody knows who), who has been at the routers that it has `seen`: the filters on
        it, and whether it is in doubt."""
        if enters is None or enters == end.record:
            yield (), False
            return
        there = self.look.stack(owner)
        if end.address in there.own:
            if owner == end.owner and not there.forwards:
                yield (), True
        elif there.forwards and owner not in seen:
            sieve = self.sieve(owner)
            for out, gates, doubt in self._further(owner, end, (*seen, owner)):
                if not sieve.lines:
                    yield gates, doubt
                    continue
                if out == enters and not seen:
                    # Whoever sent it may be told of the next hop.
                    yield gates, True
                met = sieve.between(enters, out) & sieve.targets.of(end.address)
                yield (Checkpoint(sieve, enters, out, met), *gates), doubt

    def takers(self, line: Entry, address: Address) -> list[tuple[str | None, bool]]:
        """Who may take a packet that goes out by a line (None: somebody of whom the plan says nothing), and whether that is in doubt."""
        via = line.via or address
        key = (line.out, via, line.via is None)
        if key not in self._taken:
            self._taken[key] = self._asked(line, via)
        return self._taken[key]

    def standing_in(self, line: Entry, via: Address) -> list[tuple[str | None, bool]]:
        """Who may take it since he answers for others, and whether that is in doubt."""
        found: list[tuple[str | None, bool]] = []
        for record, surely in self.pings.standing_in(line, via):
            doubt = self._doubt(line.out, record)
            if doubt is not None:
                found.append((record, doubt or not surely))
        return found

    def _doubt(self, out: str, record: str) -> bool | None:
        """Whether it is in doubt that two interfaces hear each other; None: surely they don't."""
        voices, here, there = self.look.voices, self._place(out), self._place(record)
        if here is None or there is None or not voices.may(here, there):
            return None
        return not voices.sure(here, there) or self.pings.in_part(here) or self.pings.in_part(there)

    def _place(self, record: str) -> Place | None:
        """The place of an interface; looked up once."""
        if record not in self._places:
            self._places[record] = self.look.wiring.place(record)
        return self._places[record]

    def _asked(self, line: Entry, via: Address) -> list[tuple[str | None, bool]]:
        pings, voices = self.pings, self.look.voices
        here = self._place(line.out)
        if here is None:
            return []
        found: list[tuple[str | None, bool]] = []
        bearers = pings.bearers(line, via)
        for record in bearers:
            doubt = self._doubt(line.out, record)
            if doubt is not None:
                found.append((record, doubt))
        others = self.standing_in(line, via)
        owners = {self.look.owner(record) for record, _ in found if record is not None}
        shared = not others and self.look.plan.where("shared_address", "address", str(via))
        found += others
        if len(owners | {self.look.owner(record) for record, _ in others if record is not None}) > 1 and not shared:
            return [(record, True) for record, _ in found]
        if not bearers and others:
            return found
        if not bearers:
            return [(None, True)] if pings.nobody(via, line)[0] == UNPROVEN else []
        if others or all(doubt for _, doubt in found):
            # Whoever has the address may answer for it on another of its interfaces.
            weak: list[tuple[str | None, bool]] = []
            for record in bearers:
                for interface in self.look.stack(self.look.owner(record)).interfaces:
                    place = self._place(interface.record)
                    if interface.record != line.out and place is not None and voices.may(here, place):
                        weak.append((interface.record, True))
            found = [(record, doubt or bool(weak)) for record, doubt in found] + weak
        return list(dict.fromkeys(found))


def let_through(gates: Sequence[Checkpoint], sender: Sender, target: Address) -> bool | None:
    """Whether some packet that one sends to an address passes all the filters on a way; None: that isn't known."""
    unclear: list[Gate] = []
    for sieve, enters, leaves, met in gates:
        both = met & sender.met(sieve)
        lets = sieve.lets(both)
        if lets is False:
            return False
        if lets is None:
            gate = sieve.stack.gate(enters, leaves, sender.address, target)
            # Of the others it is known that they don't speak of it.
            lines = tuple(line for n, line in enumerate(sieve.lines) if both >> n & 1)
            unclear.append(replace(gate, lines=lines))
    if not unclear or passing(unclear) is None:
        return not unclear
    return True if unsure(unclear) is None else None

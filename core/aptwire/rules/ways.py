"""Ways of packets over routers to many addresses, where they don't depend on who sent them: each is worked out once for everybody who hands packets over.

From a router on to a target a way is the same for everybody (`Ways`); filters on it are passed or not by the addresses of both ends, as bits of the lines that
speak of each (`Sieve`).  Targets to which a router's ways are alike needn't be told apart.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain
from typing import NamedTuple

from aptwire.above.outcomes import UNPROVEN
from aptwire.above.ping import MOST_HOPS
from aptwire.plan.fields import Numbers, numbers
from aptwire.plan.filters import Gate, passing, unsure, within
from aptwire.plan.stacks import CONNECTED, GATEWAY, STATIC, Address, Entry, Stack
from aptwire.rules.alike import Look, bounds


def _bits(which: Iterable[bool]) -> int:
    return sum(1 << n for n, one in enumerate(which) if one)


class Side:
    """The subnets of which the lines of a filter speak, of sources or of targets: between two of their bounds all addresses are one."""

    def __init__(self, nets: list[tuple[Numbers, ...]]) -> None:
        self.nets = nets
        self.marks = bounds(chain.from_iterable(nets))
        self._by_place: dict[int, int] = {}
        self._known: dict[int, int] = {}

    def of(self, number: int, address: Address) -> int:
        """The lines that speak of an address (with a number of its own), as bits."""
        found = self._known.get(number)
        if found is None:
            own = address.version, int(address)
            place = bisect_right(self.marks, own)
            if place not in self._by_place:
                met = (not nets or any(within(own, net) for net in nets) for nets in self.nets)
                self._by_place[place] = _bits(met)
            found = self._known[number] = self._by_place[place]
        return found


class Sieve:
    """The filter of a stack: which of its lines speak of an address or of a pair of interfaces, as bits in the order of the lines, each looked up once."""

    def __init__(self, stack: Stack) -> None:
        self.stack, self.lines = stack, stack.filter
        self._pairs: dict[tuple[str, str], int] = {}
        self._lets: dict[int, bool | None] = {}
        self._whole = _bits(line.protocol == "any" and not line.ports for line in self.lines)
        self._sides = tuple(
            Side([tuple(map(numbers, nets)) for nets in of])
            for of in ([line.sources for line in self.lines], [line.targets for line in self.lines])
        )

    def from_source(self, number: int, address: Address) -> int:
        """The lines that speak of what an address (with its number) sends."""
        return self._sides[0].of(number, address)

    def to_target(self, number: int, address: Address) -> int:
        """Those that speak of what is sent to one."""
        return self._sides[1].of(number, address)

    def between(self, enters: str, leaves: str) -> int:
        """Those that speak of what comes in by one interface and goes out by another."""
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


class Checkpoint(NamedTuple):
    """A filter on a way: the stack's sieve, the interfaces by which a packet enters and leaves, and the lines that speak of these and of the target."""

    sieve: Sieve
    enters: str
    leaves: str
    met: int


class Way(NamedTuple):
    """A way from a router to a target: the interface by which it goes out first, the filters of the routers further on, whether a leg of it isn't sure, and those routers."""

    out: str
    gates: tuple[Checkpoint, ...]
    doubt: bool
    over: tuple[str, ...]


class End(NamedTuple):
    """An address of an interface (a record) with its number among all that are asked, and the id of whose it is."""

    number: int
    record: str
    owner: str
    address: Address


class Sender:
    """An address (with a number of its own) from which somebody sends: which lines of filters speak of it, each filter asked once."""

    def __init__(self, number: int, address: Address) -> None:
        self.address, self._number = address, number
        self._known: dict[Sieve, int] = {}

    def met(self, sieve: Sieve) -> int:
        """The lines of a filter that speak of what it sends, as bits."""
        found = self._known.get(sieve)
        if found is None:
            found = self._known[sieve] = sieve.from_source(self._number, self.address)
        return found


class _Passage(NamedTuple):
    """A way of `Ways.kind`: the interface by which it leaves the router, the filters further on with the lines that may speak of it, and whether it is in doubt."""

    out: str
    gates: tuple[tuple[Sieve, int], ...]
    doubt: bool


class Ways:
    """Ways from routers to targets, by the arrays alone: each is worked out once for everybody who hands packets over."""

    def __init__(self, look: Look) -> None:
        self.look, self.pings = look, look.waking
        self._known: dict[str, dict[int, tuple[Way, ...]]] = {}
        self._whole: dict[tuple[str, int], tuple[Way, ...]] = {}
        self._kinds: dict[str, dict[tuple[tuple[_Passage, ...], int], int]] = {}
        self._of_kind: dict[str, list[tuple[tuple[_Passage, ...], int]]] = {}
        self._kind_of: dict[str, dict[int, int]] = {}
        self._taken: dict[tuple[str, Address, bool], list[tuple[str | None, bool]]] = {}
        self._sieves: dict[str, Sieve] = {}

    def sieve(self, owner: str) -> Sieve:
        """The filter of a stack."""
        if owner not in self._sieves:
            self._sieves[owner] = Sieve(self.look.stack(owner))
        return self._sieves[owner]

    def on(self, router: str, end: End) -> tuple[Way, ...]:
        """The ways from a stack that forwards to an address."""
        known = self._known.setdefault(router, {})
        if end.number not in known:
            known[end.number] = tuple(self._further(router, end, (router,), shared=True))
        return known[end.number]

    def kind(self, router: str, end: End) -> int:
        """A number that two addresses share to which a router has the same ways, past the same filters: whoever hands it packets for them that aren't the router's own,
        by an interface that bears neither, gets the same answer."""
        known = self._kind_of.setdefault(router, {})
        if end.number not in known:
            # Which interfaces a packet passes further on is in the lines that speak of it.
            ways = tuple(
                _Passage(way.out, tuple((gate.sieve, gate.met) for gate in way.gates), way.doubt)
                for way in self.on(router, end)
            )
            kinds = self._kinds.setdefault(router, {})
            own = ways, self.sieve(router).to_target(end.number, end.address) if ways else 0
            if own not in kinds:
                kinds[own] = len(kinds)
                self._of_kind.setdefault(router, []).append(own)
            known[end.number] = kinds[own]
        return known[end.number]

    def carries(self, router: str, enters: str, kind: int, sender: Sender) -> bool | None:
        """Whether what one sends gets from an interface of a router to targets of a kind, whatever it is, or nothing does; None: that isn't sure."""
        sieve = self.sieve(router)
        ways, target = self._of_kind[router][kind]
        unsure = False
        for out, gates, doubt in ways:
            if sieve.lines:
                if out == enters:
                    return None
                lets = sieve.lets(sieve.between(enters, out) & target & sender.met(sieve))
                if lets is None:
                    return None
                if not lets:
                    continue
            for far, met in gates:
                lets = far.lets(met & sender.met(far))
                if lets is None:
                    return None
                if not lets:
                    break
            else:
                if not doubt:
                    return True
                unsure = True
        return None if unsure else False

    def _further(self, owner: str, end: End, seen: tuple[str, ...], shared: bool) -> Iterator[Way]:
        if len(seen) > MOST_HOPS:
            return
        for line in self.look.stack(owner).choices(end.address):
            if line.out == end.record and line.via is None:
                yield Way(line.out, (), False, ())
                continue
            hidden = bool(self.look.plan.where("translation", "at", line.out))
            for to, doubt in self.takers(line, end.address):
                other = self.look.owner(to) if to is not None else ""
                for gates, vague, over in self.past(other, to, end, seen, shared):
                    if hidden and gates:
                        # The filters further on see another source.
                        yield Way(line.out, (), True, over)
                    else:
                        yield Way(line.out, gates, doubt or vague, over)

    def past(
        self, owner: str, enters: str | None, end: End, seen: tuple[str, ...] = (), shared: bool = False
    ) -> Iterator[tuple[tuple[Checkpoint, ...], bool, tuple[str, ...]]]:
        """The ways of a packet from where somebody has taken it (at an interface; None: nobody knows who): the filters on it, whether it is in doubt, and the routers.

        It has been at those that it has `seen`; `shared`: the ways from the next router on are kept for whoever comes there.
        """
        if enters is None or enters == end.record:
            yield (), False, ()
            return
        there = self.look.stack(owner)
        if end.address in there.own:
            if owner == end.owner and not there.forwards:
                yield (), True, ()
        elif there.forwards and owner not in seen:
            sieve = self.sieve(owner)
            for way in self._onward(owner, end, seen, shared):
                gates, doubt, over = way.gates, way.doubt, (owner, *way.over)
                if not sieve.lines:
                    yield gates, doubt, over
                    continue
                if way.out == enters and not seen:
                    # Whoever sent it may be told of the next hop.
                    yield gates, True, over
                met = sieve.between(enters, way.out) & sieve.to_target(end.number, end.address)
                yield (Checkpoint(sieve, enters, way.out, met), *gates), doubt, over

    def _onward(self, owner: str, end: End, seen: tuple[str, ...], shared: bool) -> Iterable[Way]:
        """The ways from a router on of a packet that has been at others."""
        if not seen:
            return self.on(owner, end)
        if not shared:
            return self._further(owner, end, (*seen, owner), shared=False)
        # Many routers hand over to few: those that lead back, or too far, are left out of what is known from there.
        key = owner, end.number
        if key not in self._whole:
            self._whole[key] = tuple(self._further(owner, end, (owner,), shared=False))
        return [way for way in self._whole[key] if seen[0] not in way.over and len(way.over) + 2 <= MOST_HOPS]

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
        pings, voices = self.pings, self.look.voices
        here, there = self.look.wiring.place(out), self.look.wiring.place(record)
        if here is None or there is None or not voices.may(here, there):
            return None
        return not voices.sure(here, there) or pings.in_part(here) or pings.in_part(there)

    def _asked(self, line: Entry, via: Address) -> list[tuple[str | None, bool]]:
        wiring, pings, voices = self.look.wiring, self.pings, self.look.voices
        here = wiring.place(line.out)
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
                    place = wiring.place(interface.record)
                    if interface.record != line.out and place is not None and voices.may(here, place):
                        weak.append((interface.record, True))
            found = [(record, doubt or bool(weak)) for record, doubt in found] + weak
        return list(dict.fromkeys(found))


def let_through(gates: Sequence[Checkpoint], sender: Sender, target: Address) -> bool | None:
    """Whether some packet that one sends to an address passes all the filters on a way; None: that isn't known."""
    unclear: list[Gate] = []
    for sieve, enters, leaves, met in gates:
        lets = sieve.lets(met & sender.met(sieve))
        if lets is False:
            return False
        if lets is None:
            unclear.append(sieve.stack.gate(enters, leaves, sender.address, target))
    if not unclear or passing(unclear) is None:
        return not unclear
    return True if unsure(unclear) is None else None


class Exits:
    """How packets leave by one interface of a stack over a next hop, or (`linked`) on its own link, where somebody may answer for others; `taken` keeps for each such
    line who sends (None: his address isn't known) and who takes them: whose interface, the interface, and whether that is in doubt."""

    def __init__(self, stack: Stack, here: str, linked: bool) -> None:
        self.stack, self.here, self._linked = stack, here, linked
        self.taken: dict[int, tuple[Sender | None, list[tuple[str, str | None, bool]]]] = {}
        self._simple = all(line.how != STATIC for line in stack.table)
        self.nets = [
            (line.to.version, int(line.to.network_address), int(line.to.broadcast_address))
            for line in stack.table
            if line.how == CONNECTED
        ]
        self._usual = {
            v: self._over([x for x in stack.table if x.how == GATEWAY and x.to.version == v]) for v in (4, 6)
        }

    def _over(self, lines: Iterable[Entry]) -> list[Entry]:
        own = (line for line in lines if line.out == self.here)
        return [line for line in own if line.via is not None or (self._linked and line.how == CONNECTED)]

    def usual(self, version: int) -> list[Entry] | None:
        """The lines by which packets for all addresses of an IP version leave that are in none of its own subnets; None: that depends on the address."""
        return self._usual[version] if self._simple else None

    def towards(self, address: Address) -> list[Entry]:
        """The lines by which packets for an address leave."""
        version, own = address.version, int(address)
        if self._simple and not any(v == version and low <= own <= high for v, low, high in self.nets):
            return self._usual[version]
        return self._over(self.stack.choices(address))

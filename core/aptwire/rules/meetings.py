"""Who meets whom, segment by segment: on layer 2, over routers, one way only, or not at all; against what rules expect.

It is what `Parting` says of each pair, found for all of them at once.  On layer 2 those alone are asked whose voices and ears have something in common.  Over routers a
packet's way is cut where it doesn't depend on who sent it: from a router on to a target (`_Ways`), the same for everybody who hands it over; filters on it are passed or not
by the addresses of both ends, as bits of the lines that speak of each (`_Sieve`).  Where a leg isn't sure in every state, the exact search is asked.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import chain, count
from typing import NamedTuple

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN
from aptwire.above.ping import MOST_HOPS
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import judged_after
from aptwire.plan.edits import Edit
from aptwire.plan.fields import Numbers, numbers
from aptwire.plan.filters import Gate, passing, unsure, within
from aptwire.plan.kinds import PLACES, Mirror, Rule, Segment
from aptwire.plan.names import natural, some
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.sentences import SEGMENT, Apart, Reach, Subject, quoted, read
from aptwire.plan.stacks import CONNECTED, GATEWAY, STATIC, Address, Entry, Stack
from aptwire.rules.alike import Look, bounds
from aptwire.rules.answer import BROKEN, HOLDS
from aptwire.rules.apart import Parting, arrival
from aptwire.rules.asking import asked
from aptwire.rules.mending import rule_offers
from aptwire.rules.whom import Unit, Whom

MEETS, BOTH, THERE, BACK, OPEN, APART, NOBODY = "mb><?.-"
"""Somebody of one hears somebody of the other on layer 2; packets get from the one to the other over routers both ways, there alone (from the row's segment to the column's) or
back alone; nobody can know; none of it; or nobody is on one of them (and in the diagonal)."""
MEETING = {
    MEETS: "meets on layer 2",
    BOTH: "reaches, both ways",
    THERE: "reaches, one way",
    BACK: "is reached, one way",
    OPEN: "nobody knows",
    APART: "apart",
    NOBODY: "nobody is there",
}
KEPT, BESIDE, LED, FREE = "a2r "
"""What rules expect: apart, apart on layer 2, reached; nothing."""

MOST_EXACT = 2_000
MOST_WHOLE = 300
"""So many legs, and so many pairs with interfaces that have no address, are asked by the exact search."""
MOST_ENDINGS = 6


@dataclass(frozen=True)
class Meetings:
    """`segments` (ids) in the order of their names, a row of letters for each, a row of what rules expect, and one with ! where a meeting isn't so, else a blank."""

    segments: tuple[str, ...]
    rows: tuple[str, ...]
    expected: tuple[str, ...]
    wrong: tuple[str, ...]


def wrong(letter: str, expected: str) -> bool:
    """Whether a meeting isn't as rules expect it."""
    if expected == KEPT:
        return letter not in (APART, NOBODY, OPEN)
    return letter == MEETS if expected == BESIDE else expected == LED and letter == APART


def _bits(which: Iterable[bool]) -> int:
    return sum(1 << n for n, one in enumerate(which) if one)


class _Side:
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


class _Sieve:
    """The filter of a stack: which of its lines speak of an address or of a pair of interfaces, as bits in the order of the lines, each looked up once."""

    def __init__(self, stack: Stack) -> None:
        self.stack, self.lines = stack, stack.filter
        self._pairs: dict[tuple[str, str], int] = {}
        self._lets: dict[int, bool | None] = {}
        self._whole = _bits(line.protocol == "any" and not line.ports for line in self.lines)
        self._sides = tuple(
            _Side([tuple(map(numbers, nets)) for nets in of])
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


class _Gate(NamedTuple):
    """A filter on a way: the stack's sieve, the interfaces by which a packet enters and leaves, and the lines that speak of these and of the target."""

    sieve: _Sieve
    enters: str
    leaves: str
    met: int


class _Way(NamedTuple):
    """A way from a router to a target: the interface by which it goes out first, the filters of the routers further on, and whether a leg of it isn't sure."""

    out: str
    gates: tuple[_Gate, ...]
    doubt: bool


class _End(NamedTuple):
    """An address of an interface (a record) with its number among all that are asked, and the id of whose it is."""

    number: int
    record: str
    owner: str
    address: Address


class _Ways:
    """Ways from routers to targets, by the arrays alone: each is worked out once for everybody who hands packets over."""

    def __init__(self, look: Look) -> None:
        self.look, self.pings = look, look.waking
        self._known: dict[str, dict[int, tuple[_Way, ...]]] = {}
        self._taken: dict[tuple[str, Address, bool], list[tuple[str | None, bool]]] = {}
        self._sieves: dict[str, _Sieve] = {}

    def sieve(self, owner: str) -> _Sieve:
        """The filter of a stack."""
        if owner not in self._sieves:
            self._sieves[owner] = _Sieve(self.look.stack(owner))
        return self._sieves[owner]

    def on(self, router: str, end: _End) -> tuple[_Way, ...]:
        """The ways from a stack that forwards to an address."""
        known = self._known.setdefault(router, {})
        if end.number not in known:
            known[end.number] = tuple(self._further(router, end, (router,)))
        return known[end.number]

    def _further(self, owner: str, end: _End, seen: tuple[str, ...]) -> Iterator[_Way]:
        if len(seen) > MOST_HOPS:
            return
        for line in self.look.stack(owner).choices(end.address):
            if line.out == end.record and line.via is None:
                yield _Way(line.out, (), False)
                continue
            for to, doubt in self.takers(line, end.address):
                other = self.look.owner(to) if to is not None else ""
                for gates, vague in self.past(other, to, end, seen):
                    yield _Way(line.out, gates, doubt or vague)

    def past(
        self, owner: str, enters: str | None, end: _End, seen: tuple[str, ...] = ()
    ) -> Iterator[tuple[tuple[_Gate, ...], bool]]:
        """The ways of a packet from where somebody has taken it (at an interface; None: nobody knows who): the filters on it, and whether it is in doubt."""
        if enters is None or enters == end.record:
            yield (), False
            return
        there = self.look.stack(owner)
        if end.address in there.own:
            if owner == end.owner and not there.forwards:
                yield (), True
        elif there.forwards and owner not in seen:
            ways = self._further(owner, end, (*seen, owner)) if seen else self.on(owner, end)
            sieve = self.sieve(owner)
            for way in ways:
                gates, doubt = way.gates, way.doubt
                if gates and self.look.plan.where("translation", "at", way.out):
                    # The filters further on see another source.
                    gates, doubt = (), True
                if not sieve.lines:
                    yield gates, doubt
                    continue
                if way.out == enters and not seen:
                    # Whoever sent it may be told of the next hop.
                    yield gates, True
                met = sieve.between(enters, way.out) & sieve.to_target(end.number, end.address)
                yield (_Gate(sieve, enters, way.out, met), *gates), doubt

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


def _passes(gates: Sequence[_Gate], number: int, source: Address, target: Address) -> bool | None:
    """Whether some packet from one address (with its number) to another passes all the filters on a way; None: that isn't known."""
    unclear: list[Gate] = []
    for sieve, enters, leaves, met in gates:
        lets = sieve.lets(met & sieve.from_source(number, source))
        if lets is False:
            return False
        if lets is None:
            unclear.append(sieve.stack.gate(enters, leaves, source, target))
    if not unclear or passing(unclear) is None:
        return not unclear
    return True if unsure(unclear) is None else None


class _Exits:
    """How packets leave by one interface of a stack over a next hop, or (`linked`) on its own link, where somebody may answer for others; `taken` keeps for each such
    line a number, the address from which they leave, and who takes them."""

    def __init__(self, stack: Stack, here: str, linked: bool) -> None:
        self.stack, self.here, self._linked = stack, here, linked
        self.taken: dict[int, tuple[int, Address | None, list[tuple[str, str | None, bool]]]] = {}
        self._simple = all(line.how != STATIC for line in stack.table)
        self._nets = [
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

    def towards(self, address: Address) -> list[Entry]:
        """The lines by which packets for an address leave."""
        version, own = address.version, int(address)
        if self._simple and not any(v == version and low <= own <= high for v, low, high in self._nets):
            return self._usual[version]
        return self._over(self.stack.choices(address))


class Meeting:
    """Meetings of a judged plan."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.plan = judgement, judgement.plan
        self.look = asked(judgement).look
        self.ways = _Ways(self.look)
        self.segments = sorted(self.plan.all(Segment), key=lambda s: natural(s.name.casefold()))
        self.numbers = {segment.id: n for n, segment in enumerate(self.segments)}
        self.members: list[list[str]] = [
            [r.id for kind in PLACES for r in sorted(self.plan.where(kind, "belongs", s.id), key=lambda r: r.id)]
            for s in self.segments
        ]
        self._exact = 0
        self._sources = 0
        self._whole = 0

    def all(self) -> Meetings:
        """Every pair of segments."""
        size = len(self.segments)
        letters = [[APART] * size for _ in range(size)]
        near = self._near()
        reached = [self._reaches(a) for a in range(size)]
        for a in range(size):
            for b in range(a, size):
                if a == b or not self.members[a] or not self.members[b]:
                    letters[a][b] = letters[b][a] = NOBODY
                    continue
                there, back = reached[a][b] == ANSWERED, reached[b][a] == ANSWERED
                letter = near.get((a, b), APART)
                if letter != MEETS and (there or back):
                    letter = BOTH if there and back else THERE if there else BACK
                elif letter == APART and UNPROVEN in (reached[a][b], reached[b][a]):
                    letter = OPEN
                elif letter == APART and (self._bare[a] or self._bare[b]):
                    letter = self._unaddressed(a, b)
                letters[a][b] = letter
                letters[b][a] = {THERE: BACK, BACK: THERE}.get(letter, letter)
        expected = self._expected()
        pairs = (zip(row, said, strict=True) for row, said in zip(letters, expected, strict=True))
        wrongs = tuple("".join("!" if wrong(*pair) else FREE for pair in row) for row in pairs)
        ids = tuple(segment.id for segment in self.segments)
        return Meetings(ids, tuple(map("".join, letters)), tuple(map("".join, expected)), wrongs)

    # --- layer 2 ----------------------------------------------------------------------------------------------

    def _near(self) -> dict[tuple[int, int], str]:
        """The pairs of segments that may hear each other on layer 2, and whether they do."""
        voices, stand_of = self.look.voices, self.look.stand_of
        ears: dict[object, set[int]] = {}
        said: list[set[object]] = []
        loose: list[int] = []
        for n, records in enumerate(self.members):
            stands = {id(s): s for r in records if (s := stand_of.get(r)) is not None and s.context >= 0}.values()
            said.append(set().union(*map(voices.says, stands)))
            for stand in stands:
                for ear in voices.listens(stand):
                    ears.setdefault(ear, set()).add(n)
            if any(map(voices.loose, stands)):
                loose.append(n)
        pairs = {(min(n, m), max(n, m)) for n, of in enumerate(said) for ear in of for m in ears.get(ear, ()) if m != n}
        pairs |= set(self._mirrored())
        found = {pair: OPEN for i, a in enumerate(loose) for pair in ((a, b) for b in loose[i + 1 :])}
        for a, b in sorted(pairs):
            outcome = self._parting(a, b, layer2=True).answer().outcome
            if outcome == BROKEN:
                found[a, b] = MEETS
            elif outcome != HOLDS:
                found[a, b] = OPEN
        return found

    def _mirrored(self) -> Iterator[tuple[int, int]]:
        for mirror in self.plan.all(Mirror):
            of = [self._segments_of(end) for end in (mirror.source, mirror.target)]
            yield from ((min(n, m), max(n, m)) for n in of[0] for m in of[1] if n != m)

    def _segments_of(self, adapter: str) -> set[int]:
        places = [self.plan.get("adapter", adapter), *self.plan.where("guest_tag", "adapter", adapter)]
        return {self.numbers[place.belongs] for place in places if place.belongs is not None}

    def _parting(self, a: int, b: int, layer2: bool = False) -> Parting:
        one, two = ((Subject(SEGMENT, self.segments[n].name),) for n in (a, b))
        whom = [Whom(tuple(Unit(r, (r,)) for r in self.members[n])) for n in (a, b)]
        return Parting(self.look, Apart(one, two, layer2), whom[0], whom[1], Whom(()))

    # --- over routers -----------------------------------------------------------------------------------------

    @cached_property
    def _addressed(self) -> list[list[tuple[str, tuple[Numbers, ...], bool]]]:
        """Of each segment the interfaces that are attached, their addresses, and whether each is the one of a guest of which nothing is said that isn't said of its stand."""
        look, adapters, judgement = self.look, self.plan.of("adapter"), self.judgement
        alone = {of[0].id for of in self.plan.grouped("adapter", "guest").values() if len(of) == 1}
        alone -= (
            self.plan.grouped("guest_tag", "adapter").keys()
            | judgement.own.keys()
            | frozenset[str]().union(*judgement.got)
            | self._twins
        )
        made = []
        for records in self.members:
            found = []
            for record in records:
                if record not in look.stand_of:
                    continue
                adapter = adapters.get(record) if record in alone else None
                if adapter is not None and adapter.guest not in look.tabled:
                    found.append((record, tuple(map(numbers, adapter.addresses)), True))
                else:
                    found.append((record, tuple(look.addresses((record,))), False))
            made.append(found)
        return made

    @cached_property
    def _kinds(self) -> list[list[str]]:
        """Of each segment the interfaces with addresses, one for all who are alike whatever they ask."""
        look = self.look
        own = (one for found in self._addressed for _, addresses, _ in found for one in addresses)
        marks = look.every_mark({(version, net, net, length) for version, _, net, length in own})
        kinds: list[list[str]] = []
        for found in self._addressed:
            alike: dict[object, str] = {}
            looked: set[object] = set()
            for record, addresses, usual in found:
                where = tuple((bisect_right(marks, one[:2]), one[2:]) for one in addresses)
                seen = id(look.stand_of[record]), where
                if not where or (usual and seen in looked):
                    continue
                if usual:
                    looked.add(seen)
                alike.setdefault((look.alike(record), where), record)
            kinds.append(list(alike.values()))
        return kinds

    @cached_property
    def _twins(self) -> set[str]:
        """The interfaces that bear an address which another one bears too."""
        wiring = self.look.wiring
        return {record for address in wiring.doubled for record in wiring.bearers.get(address, ())}

    @cached_property
    def _ends(self) -> list[list[_End]]:
        """Of each segment the addresses of its kinds, numbered."""
        number = count()
        made = []
        for kinds in self._kinds:
            ends = []
            for record in kinds:
                owner = self.look.owner(record)
                stack = self.look.stack(owner)
                bound = (own.ip for i in stack.interfaces if i.record == record for own in i.addresses)
                ends += [_End(next(number), record, owner, address) for address in bound]
            made.append(ends)
        return made

    def _reaches(self, a: int) -> list[str]:
        """Whether packets of somebody on a segment get to somebody on each of the segments over routers: ANSWERED, UNPROVEN or SILENT."""
        fares = [SILENT] * len(self.segments)
        doubts: dict[int, list[tuple[str, str]]] = {}
        for here in self._kinds[a]:
            owner = self.look.owner(here)
            stack = self.look.stack(owner)
            exits = _Exits(stack, here, self.look.waking.standing)
            for b, ends in enumerate(self._ends):
                if b == a:
                    continue
                for end in ends:
                    if fares[b] == ANSWERED:
                        break
                    if end.owner != owner and end.address not in stack.own:
                        found = self._arrives(exits, end)
                        if found == ANSWERED:
                            fares[b] = ANSWERED
                        elif found == UNPROVEN:
                            doubts.setdefault(b, []).append((here, end.record))
        for b, pairs in doubts.items():
            for here, there in dict.fromkeys(pairs if fares[b] != ANSWERED else ()):
                self._exact += 1
                found = self.look.waking.arrives(here, there)[0] if self._exact <= MOST_EXACT else UNPROVEN
                if found == ANSWERED:
                    fares[b] = ANSWERED
                    break
                if found == UNPROVEN and self.look.owner(there) not in self._shared(a, b):
                    fares[b] = UNPROVEN
        return fares

    def _shared(self, a: int, b: int) -> frozenset[str]:
        """Whoever is on both: that he has an address on the other one reaches nobody there."""
        sides = ({self.look.owner(record) for record in self.members[n]} for n in (a, b))
        return frozenset.intersection(*map(frozenset, sides))

    def _arrives(self, exits: _Exits, end: _End) -> str:
        """The same of one interface and one address by the arrays: UNPROVEN where they don't say."""
        doubt = False
        for line in exits.towards(end.address):
            taken = exits.taken.get(id(line))
            if taken is None:
                found = self.ways.takers(line, end.address) if line.via is not None else []
                takers = [(self.look.owner(to) if to is not None else "", to, vague) for to, vague in found]
                self._sources += 1
                taken = exits.taken[id(line)] = (self._sources, exits.stack.sends_from(line, end.address), takers)
            number, source, takers = taken
            if line.via is None:
                # Whoever has the address itself is no next hop, and layer 2's affair.
                others = {to for to, _ in self.ways.standing_in(line, end.address)}
                found = self.ways.takers(line, end.address) if others else []
                takers = [(self.look.owner(str(to)), to, vague) for to, vague in found if to in others]
            for owner, to, vague in takers:
                for gates, further in self.ways.past(owner, to, end):
                    passes = not gates or source is None or _passes(gates, number, source, end.address)
                    if passes is False:
                        continue
                    if passes and not (vague or further):
                        return ANSWERED
                    doubt = True
        # What comes for another address may be for this one.
        return UNPROVEN if doubt or self.look.waking.lent_for(end.address) else SILENT

    @cached_property
    def _bare(self) -> list[bool]:
        """Whether a segment has interfaces without an address in the plan."""
        return [any(not addresses for _, addresses, _ in found) for found in self._addressed]

    @cached_property
    def _near_forwarders(self) -> list[frozenset[int]]:
        """Of each segment the groups of forwarding stacks (that may hear each other, or one another) of which one may hear somebody of it or be heard."""
        look, voices = self.look, self.look.voices
        ears: dict[object, set[str]] = {}
        for owner in look.forwarding:
            for interface in look.stack(owner).interfaces:
                stand = look.stand_of.get(interface.record)
                if stand is not None:
                    for voice in voices.says(stand) | voices.listens(stand):
                        ears.setdefault(voice, set()).add(owner)
        group: dict[str, int] = {}
        for together in ears.values():
            joined = {group[owner] for owner in together if owner in group}
            number = min(joined, default=len(group))
            group.update({owner: number for owner, of in group.items() if of in joined})
            group.update(dict.fromkeys(together, number))
        made = []
        for records in self.members if ears else ():
            owners = set(map(look.owner, records))
            # Somebody with several interfaces may be reached at any of them.
            others = (i.record for owner in owners if look.manifold(owner) for i in look.stack(owner).interfaces)
            stands = {id(s): s for r in chain(records, others) if (s := look.stand_of.get(r)) is not None}.values()
            heard = {voice for stand in stands for voice in voices.says(stand) | voices.listens(stand)}
            near = {group[owner] for voice in heard for owner in ears.get(voice, ())}
            made.append(frozenset(near | {group[owner] for owner in owners if owner in group}))
        return made or [frozenset()] * len(self.members)

    def _unaddressed(self, a: int, b: int) -> str:
        """What is known of a pair in which somebody's address isn't said: he may have any, so that whoever forwards near both may send on what they send."""
        if self._near_forwarders[a].isdisjoint(self._near_forwarders[b]):
            return APART
        self._whole += 1
        if self._whole > MOST_WHOLE:
            return OPEN
        return APART if self._parting(a, b).answer().outcome == HOLDS else OPEN

    # --- what is expected -------------------------------------------------------------------------------------

    def _expected(self) -> list[list[str]]:
        size = len(self.segments)
        made = [[FREE] * size for _ in range(size)]
        for rule in sorted(self.plan.all(Rule), key=lambda r: (r.text, r.id)):
            sentence = read(rule.text)
            if not isinstance(sentence, (Apart, Reach)):
                continue
            without = set(self.look.meaning.whom(sentence.without).records) if isinstance(sentence, Apart) else set()
            sides = [self._covered(self.look.meaning.whom(side), without) for side in (sentence.a, sentence.b)]
            for a in sides[0]:
                for b in sides[1]:
                    if a != b:
                        for one, two in ((a, b), (b, a)):
                            made[one][two] = sterner(made[one][two], sentence)
        return made

    def _covered(self, whom: Whom, without: set[str]) -> list[int]:
        """The segments of which everybody is meant, those set aside not counted."""
        meant = set(whom.records) - without
        return [n for n, records in enumerate(self.members) if records and not set(records) - without - meant]

    # --- one pair ---------------------------------------------------------------------------------------------

    def said(self, one: str, two: str) -> list[Told]:
        """What is found of a pair of segments (ids) in sentences, with the interfaces of whom they speak."""
        a, b = self.numbers[one], self.numbers[two]
        empty = [self.segments[n].name for n in (a, b) if not self.members[n]]
        if empty:
            return [Told(f"Nobody is on {some(empty)}.", "", "")]
        near = self._parting(a, b, layer2=True).answer()
        found = [Told(near.text, near.a, near.b)] if near.outcome != HOLDS else []
        for n, m in ((a, b), (b, a)):
            found += self._over(n, m)
        if not found:
            whole = self._parting(a, b).answer()
            found.append(Told(whole.text, whole.a, whole.b))
        return found

    def _over(self, a: int, b: int) -> Iterator[Told]:
        """A way from somebody on a segment to somebody on another one over routers, where there is one."""
        for here in self._kinds[a]:
            stack = self.look.stack(self.look.owner(here))
            exits = _Exits(stack, here, self.look.waking.standing)
            for end in self._ends[b]:
                if end.owner == stack.owner.id or self._arrives(exits, end) == SILENT:
                    continue
                outcome, state, way = self.look.waking.arrives(here, end.record)
                if outcome == ANSWERED and way is not None:
                    yield Told(arrival(self.look, here, end.record, state, way), here, end.record)
                    return


class Told(NamedTuple):
    """A sentence on a pair of segments, and the interfaces (records) of whom it speaks; empty: of none in particular."""

    text: str
    a: str
    b: str


def rule_between(one: Segment, two: Segment) -> str:
    """The sentence that keeps two segments apart."""
    return f"keep segment {quoted(one.name)} apart from segment {quoted(two.name)}"


def endings(judgement: Judgement, one: Segment, two: Segment) -> list[tuple[str, Edit]]:
    """Edits, in words, after which two segments (that may hear or reach each other) are apart; each was tried."""
    text = rule_between(one, two)
    found: list[tuple[str, Edit]] = []
    for title, edit in rule_offers(judgement, text):
        try:
            after = judged_after(judgement, edit)
        except PlanError:
            # An offer that doesn't go together with the rest of the plan: there are others.
            continue
        if asked(after).ask(text).outcome == HOLDS:
            found.append((title, edit))
    return found[:MOST_ENDINGS]


def sterner(known: str, sentence: Apart | Reach) -> str:
    """What is expected once a sentence is heard too: of several the one that forbids most."""
    said = (BESIDE if sentence.layer2 else KEPT) if isinstance(sentence, Apart) else LED
    return min(known, said, key=(KEPT, BESIDE, LED, FREE).index)


def meeting(judgement: Judgement) -> Meeting:
    """What is known of meetings; the same object for as long as the judgement lives."""
    return judgement.once(Meeting)


def meetings(judgement: Judgement) -> Meetings:
    """Every pair of segments of a judged plan; worked out once."""
    return judgement.once(_meetings)


GRAVEST = (MEETS, BOTH, OPEN, APART, NOBODY)
"""Of the pairs of two roles the one that counts, where none is one way only."""


def by_role(plan: Plan, found: Meetings) -> Meetings:
    """Roles against each other, each called by its name in place of a segment (the segments without one: an empty name): of their pairs of segments the gravest, what rules
    expect of all of them, and in `wrong` whether one isn't so.  In the diagonal the segments of a role against one another."""
    role = [plan.get("segment", id).role for id in found.segments]
    roles = sorted(set(role), key=lambda name: (not name, natural(name.casefold())))
    of = {name: [n for n, own in enumerate(role) if own == name] for name in roles}
    rows, expects, wrongs = [], [], []
    for one in roles:
        pairs = [[(a, b) for a in of[one] for b in of[two] if a != b] for two in roles]
        rows.append("".join(_gravest({found.rows[a][b] for a, b in each}) for each in pairs))
        said = [{found.expected[a][b] for a, b in each if found.rows[a][b] != NOBODY} for each in pairs]
        expects.append("".join(next(iter(letters)) if len(letters) == 1 else FREE for letters in said))
        wrongs.append("".join("!" if any(found.wrong[a][b] == "!" for a, b in each) else FREE for each in pairs))
    return Meetings(tuple(roles), tuple(rows), tuple(expects), tuple(wrongs))


def _gravest(letters: set[str]) -> str:
    """What stands for some pairs: who goes there in one of them and back in another one does both."""
    ways = letters & {THERE, BACK}
    if ways and not letters & {MEETS, BOTH}:
        return ways.pop() if len(ways) == 1 else BOTH
    return next((letter for letter in GRAVEST if letter in letters), NOBODY)


BY_SEGMENT = ("segment", *(MEETING[letter] for letter in (MEETS, BOTH, THERE, BACK, OPEN)), "not as rules expect")


def by_segment(judgement: Judgement) -> list[tuple[str, list[list[str]]]]:
    """Each segment (its name) with the names of those in each way that it stands to, in the order of `BY_SEGMENT`; who is apart from it is in none."""
    found = meetings(judgement)
    return listed(found, [judgement.plan.get("segment", id).name for id in found.segments])


def listed(found: Meetings, names: Sequence[str]) -> list[tuple[str, list[list[str]]]]:
    """The same of meetings of whom these are the names."""
    made = []
    for name, letters, wrongs in zip(names, found.rows, found.wrong, strict=True):
        groups = [
            [n for n, letter in zip(names, letters, strict=True) if letter == of]
            for of in (MEETS, BOTH, THERE, BACK, OPEN)
        ]
        broken = [n for n, mark in zip(names, wrongs, strict=True) if mark == "!"]
        made.append((name, [*groups, broken]))
    return made


def _meetings(judgement: Judgement) -> Meetings:
    return meeting(judgement).all()

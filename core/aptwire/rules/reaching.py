"""To which of many addresses packets of many interfaces get over routers, by the arrays alone: from hop to hop for all of them at once.

A packet's way is worked out for a block of senders (who hand it to the same router) and targets: the router's table parts the targets, its filter looks at senders and
targets by the places of their addresses between the subnets of which its lines speak.  Along a way the least counts, of several ways the best.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import product
from typing import NamedTuple

import numpy as np

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN
from aptwire.above.ping import MOST_HOPS
from aptwire.plan.stacks import CONNECTED, GATEWAY, STATIC, Address, Entry, Stack
from aptwire.rules.alike import Look, bounds
from aptwire.rules.ways import NEVER, PERHAPS, SURELY, Checkpoint, End, Sender, Sieve, Ways, let_through

Source = tuple[int, int]
"""An address from which somebody sends: its IP version and number."""


class Taker(NamedTuple):
    """Who takes a packet at an interface (None: somebody of whom the plan says nothing), of whose stack that is, and whether that is in doubt."""

    owner: str
    at: str | None
    doubt: bool


class Numbered:
    """Addresses (IP version and number), each with a number of its own: its place here."""

    def __init__(self, addresses: Iterable[Source]) -> None:
        self._order = sorted((*address, n) for n, address in enumerate(addresses))
        self._numbers = np.array([n for _, _, n in self._order], dtype=np.int64)

    def within(self, first: Source, beyond: Source) -> np.ndarray:
        """int64[n]: the numbers of those from one address on and below another."""
        return self._numbers[bisect_left(self._order, first) : bisect_left(self._order, beyond)]

    def between(self, marks: Sequence[Source]) -> np.ndarray:
        """int64[addresses]: how many of some marks, in ascending order, don't lie above each."""
        found = np.zeros(self._numbers.size, dtype=np.int64)
        starts = [bisect_left(self._order, mark) for mark in marks]
        found[self._numbers] = np.searchsorted(starts, np.arange(self._numbers.size), side="right")
        return found


class Exits:
    """How packets leave by one interface of a stack over a next hop, or (`linked`) on its own link, where somebody may answer for others; `taken` keeps for each such
    line who sends (None: his address isn't known) and who takes them."""

    def __init__(self, stack: Stack, here: str, linked: bool) -> None:
        self.stack, self.here, self._linked = stack, here, linked
        self.taken: dict[int, tuple[Sender | None, list[Taker]]] = {}
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


class _Sent(NamedTuple):
    """Who sends packets of an IP version (the place of an interface among those that are asked of), who takes them, and the number of the source from which each of these gets them."""

    row: int
    version: int
    takers: list[Taker]
    sources: list[int]


class _Table(NamedTuple):
    """How a router sends on what is for each address: int64[ends] the `group` of addresses that go over the same next hops, or all on links; the `lines` for each address;
    the `members` of each group (int64[n], ascending)."""

    group: np.ndarray
    lines: list[list[Entry]]
    members: list[np.ndarray]


class _Beyond(NamedTuple):
    """What becomes of packets, int8[sources, targets], `over` which routers they may go (and whoever else takes them), and at most how many of these there are on a way."""

    fares: np.ndarray
    over: frozenset[str]
    deep: int


class Found(NamedTuple):
    """What is found of interfaces and addresses: `fares` int8[interfaces, addresses], and where the arrays don't say it for all at once, `open` bool of the same shape."""

    fares: np.ndarray
    open: np.ndarray


class Reaching:
    """Packets to addresses (`ends`, each at the place of its number)."""

    def __init__(self, look: Look, ends: Sequence[End]) -> None:
        self.look, self.ends = look, ends
        self._ways = Ways(look)
        self._targets = Numbered((end.address.version, int(end.address)) for end in ends)
        self._of_version = {int(v): self._targets.within((v, 0), (v + 1, 0)) for v in (4, 6)}
        self._tables: dict[str, _Table] = {}
        self._owned: dict[str, np.ndarray] = {}
        self._places: dict[Sieve, np.ndarray] = {}
        self._passes: dict[tuple[tuple[Sieve, int], ...], bool | None] = {}

    # --- one interface and one address ------------------------------------------------------------------------

    def exits(self, here: str) -> Exits:
        """How packets leave by an interface (a record)."""
        return Exits(self.look.stack(self.look.owner(here)), here, self.look.waking.standing)

    def arrives(self, exits: Exits, end: End) -> str:
        """Whether what leaves gets to one address: ANSWERED, SILENT, or UNPROVEN where the arrays don't say."""
        doubt = False
        for line in exits.towards(end.address):
            sender, takers = self._leaving(exits, line, end.address)
            if line.via is None:
                # Whoever has the address itself is no next hop, and layer 2's affair.
                others = {to for to, _ in self._ways.standing_in(line, end.address)}
                takers = [one for one in self._takers(line, end.address) if one.at in others] if others else []
            for owner, to, vague in takers:
                for gates, further in self._ways.past(owner, to, end):
                    passes = not gates or sender is None or self._through(gates, sender, end.address)
                    if passes is False:
                        continue
                    if passes and not (vague or further):
                        return ANSWERED
                    doubt = True
        # What comes for another address may be for this one.
        return UNPROVEN if doubt or self.look.waking.lent_for(end.address) else SILENT

    def _leaving(self, exits: Exits, line: Entry, address: Address) -> tuple[Sender | None, list[Taker]]:
        """Who sends by a line for an address, and who takes it where the line has a next hop; kept with the exits."""
        taken = exits.taken.get(id(line))
        if taken is None:
            source = exits.stack.sends_from(line, address)
            sender = Sender(source) if source is not None else None
            taken = sender, self._takers(line, address) if line.via is not None else []
            exits.taken[id(line)] = taken
        return taken

    def _takers(self, line: Entry, address: Address) -> list[Taker]:
        found = self._ways.takers(line, address)
        return [Taker(self.look.owner(to) if to is not None else "", to, doubt) for to, doubt in found]

    def _through(self, gates: Sequence[Checkpoint], sender: Sender, target: Address) -> bool | None:
        """`let_through`, asked once for all of whom the same lines speak."""
        key = tuple((gate.sieve, gate.met & sender.met(gate.sieve)) for gate in gates)
        if key not in self._passes:
            self._passes[key] = let_through(gates, sender, target)
        return self._passes[key]

    # --- many at once -----------------------------------------------------------------------------------------

    def found(self, heres: Sequence[str]) -> Found:
        """What becomes of packets of interfaces (records) for each address; of those of the same stack that they don't get to them."""
        fares = np.zeros((len(heres), len(self.ends)), dtype=np.int8)
        open_ = np.zeros(fares.shape, dtype=bool)
        blocks: dict[object, list[_Sent]] = {}
        self._sources: dict[Source, int] = {}
        self._source_places: dict[Sieve, np.ndarray] = {}
        self._kept: dict[tuple[str, int, int, bool], _Beyond | None] = {}
        own = [self._sent(n, here, open_, blocks) for n, here in enumerate(heres)]
        self._senders = Numbered(self._sources)
        for block in blocks.values():
            rows, targets = np.array([one.row for one in block], dtype=np.int64), self._of_version[block[0].version]
            known = np.zeros((rows.size, targets.size), dtype=np.int8)
            for n, taker in enumerate(block[0].takers):
                sources = np.array([one.sources[n] for one in block], dtype=np.int64)
                ats = [one.takers[n].at or "" for one in block]
                np.maximum(known, self._taken(taker, ats, sources, targets, (), False).fares, out=known)
            fares[np.ix_(rows, targets)] = known
        open_ |= fares == PERHAPS
        for n, mine in enumerate(own):
            open_[n, mine], fares[n, mine] = False, NEVER
        return Found(fares, open_)

    def _sent(self, n: int, here: str, open_: np.ndarray, blocks: dict[object, list[_Sent]]) -> list[int]:
        """Put an interface to those who hand packets to the same stacks, or say for which addresses it is asked by itself; the numbers of its own stack's addresses."""
        exits = self.exits(here)
        # Addresses that somebody lets in are asked one by one; so is what is near.
        open_[n, self._lent] = True
        for version, low, high in exits.nets:
            open_[n, self._targets.within((version, low), (version, high + 1))] = True
        for of_version, targets in self._of_version.items():
            lines = exits.usual(of_version)
            leaving = [self._leaving(exits, line, line.via) for line in lines or () if line.via is not None]
            if lines is None or any(sender is None for sender, _ in leaving):
                open_[n, targets] = True
                continue
            takers = [taker for _, of in leaving for taker in of]
            if takers:
                said = [(of_version, int(sender.address)) for sender, of in leaving if sender is not None for _ in of]
                sources = [self._sources.setdefault(source, len(self._sources)) for source in said]
                key = of_version, *((taker.owner, taker.at is None, taker.doubt) for taker in takers)
                blocks.setdefault(key, []).append(_Sent(n, of_version, takers, sources))
        return self._own(exits.stack.owner.id)

    def _taken(
        self,
        taker: Taker,
        ats: Sequence[str],
        rows: np.ndarray,
        targets: np.ndarray,
        seen: tuple[str, ...],
        blind: bool,
    ) -> _Beyond:
        """What becomes of packets that somebody takes, those of each source at one of its interfaces (`ats`), after they have been at the routers that they have `seen`;
        `blind`: the filters further on see another source, which isn't known here."""
        most = PERHAPS if taker.doubt else SURELY
        if taker.at is None:
            return _Beyond(np.full((rows.size, targets.size), most, dtype=np.int8), frozenset(), 0)
        owner, found = taker.owner, np.zeros((rows.size, targets.size), dtype=np.int8)
        forwards, over, deep = self.look.stack(taker.owner).forwards, {owner}, 0
        if forwards and owner not in seen and len(seen) < MOST_HOPS:
            for outs, parts in self._parted(owner, targets):
                value = np.zeros(found.shape, dtype=np.int8)
                for group, choice, at in parts:
                    beyond = self._onward(owner, group, choice, rows, targets[at], (*seen, owner), blind)
                    value[:, at] = beyond.fares
                    over, deep = over | beyond.over, max(deep, beyond.deep)
                self._screened(value, owner, ats, outs, rows, targets, blind, not seen)
                np.maximum(found, value, out=found)
        for n in np.flatnonzero(self._is_own(owner)[targets]).tolist():
            end = self.ends[targets[n]]
            # Who doesn't send on may take at one interface what is for another.
            other = PERHAPS if end.owner == owner and not forwards else NEVER
            found[:, n] = [SURELY if end.record == at else other for at in ats]
        return _Beyond(np.minimum(found, most, out=found), frozenset(over), deep + 1)

    def _parted(
        self, router: str, targets: np.ndarray
    ) -> Iterator[tuple[list[str], list[tuple[int, int, np.ndarray]]]]:
        """How a router sends on packets for addresses: by the first of the lines that it has for each, by the second ones, and so on.  Each time the interface by which each
        leaves (empty: there is no such line), and the addresses that go together: a group of the router's, which of its lines it is, and the places among `targets`."""
        table = self._table(router)
        groups, lines = table.group[targets], [table.lines[number] for number in targets.tolist()]
        parts = [(group, np.flatnonzero(groups == group)) for group in sorted(set(groups.tolist()))]
        for choice in range(max(map(len, lines), default=0)):
            outs = [of[choice].out if choice < len(of) else "" for of in lines]
            yield outs, [(group, choice, at) for group, at in parts if choice < len(lines[at[0]])]

    def _table(self, router: str) -> _Table:
        if router not in self._tables:
            self._tables[router] = self._find_table(router)
        return self._tables[router]

    def _find_table(self, router: str) -> _Table:
        stack = self.look.stack(router)
        # Between two bounds of its subnets a table tells no addresses apart.
        nets = {line.to for line in stack.table}
        marks = bounds((net.version, 0, int(net.network_address), net.prefixlen) for net in nets)
        places = self._targets.between(marks)
        of_place: dict[int, list[Entry]] = {}
        numbered: dict[tuple[tuple[str, Address | None], ...], int] = {}
        group_of = np.zeros(len(marks) + 1, dtype=np.int64)
        for place, number in zip(*map(np.ndarray.tolist, np.unique(places, return_index=True)), strict=True):
            found = of_place[place] = stack.choices(self.ends[number].address)
            linked = len(found) == 1 and found[0].via is None and not self._hidden(found[0])
            key = tuple((line.out if not linked else "", line.via) for line in found)
            group_of[place] = numbered.setdefault(key, len(numbered))
        group = group_of[places]
        lines = [of_place[place] for place in places.tolist()]
        return _Table(group, lines, [np.flatnonzero(group == n) for n in range(len(numbered))])

    def _hidden(self, line: Entry) -> bool:
        """Whether what goes out by a line may get another source there."""
        return bool(self.look.plan.where("translation", "at", line.out))

    def _onward(
        self,
        router: str,
        group: int,
        choice: int,
        rows: np.ndarray,
        targets: np.ndarray,
        seen: tuple[str, ...],
        blind: bool,
    ) -> _Beyond:
        """The same of packets that a router sends on for addresses of one of its groups by one of its lines.  From the second router on it is found for all senders at once:
        many routers hand over to few."""
        if len(seen) > 1:
            table, key = self._table(router), (router, group, choice, blind)
            if key not in self._kept:
                # While it is being found, whoever comes round asks for himself.
                self._kept[key] = None
                everybody = np.arange(len(self._sources))
                self._kept[key] = self._find(router, choice, everybody, table.members[group], (router,), blind)
            kept = self._kept[key]
            if kept is not None and kept.over.isdisjoint(seen) and len(seen) + kept.deep <= MOST_HOPS:
                at = np.searchsorted(table.members[group], targets)
                return _Beyond(kept.fares[rows[:, None], at], kept.over, kept.deep)
        return self._find(router, choice, rows, targets, seen, blind)

    def _find(
        self, router: str, choice: int, rows: np.ndarray, targets: np.ndarray, seen: tuple[str, ...], blind: bool
    ) -> _Beyond:
        of_end = self._table(router).lines
        lines = [of_end[number][choice] for number in targets.tolist()]
        blind = blind or self._hidden(lines[0])
        found = np.zeros((rows.size, targets.size), dtype=np.int8)
        over, deep = frozenset[str](), 0
        everywhere = np.arange(targets.size)
        takers = (
            [(taker, everywhere) for taker in self._takers(lines[0], lines[0].via)] if lines[0].via is not None else []
        )
        if lines[0].via is None:
            found[:], takers = self._linked(lines, targets)
        for taker, at in takers:
            beyond = self._taken(taker, [taker.at or ""] * rows.size, rows, targets[at], seen, blind)
            found[:, at] = np.maximum(found[:, at], beyond.fares)
            over, deep = over | beyond.over, max(deep, beyond.deep)
        return _Beyond(found, over, deep)

    def _linked(self, lines: Sequence[Entry], targets: np.ndarray) -> tuple[np.ndarray, list[tuple[Taker, np.ndarray]]]:
        """What becomes of packets for addresses on links as far as those who take them are whom they are for (int8[targets]), and the others who may take them, each
        with the place of the address."""
        best, others = np.zeros(targets.size, dtype=np.int8), list[tuple[Taker, np.ndarray]]()
        for n, (line, number) in enumerate(zip(lines, targets.tolist(), strict=True)):
            end = self.ends[number]
            own = [Taker(end.owner, end.record, False)]
            for taker in own if line.out == end.record else self._takers(line, end.address):
                if taker.at == end.record:
                    best[n] = max(best[n], PERHAPS if taker.doubt else SURELY)
                else:
                    others.append((taker, np.array([n])))
        return best, others

    def _screened(
        self,
        value: np.ndarray,
        router: str,
        ats: Sequence[str],
        outs: Sequence[str],
        rows: np.ndarray,
        targets: np.ndarray,
        blind: bool,
        first: bool,
    ) -> None:
        """Lessen what becomes of packets by the filter of a router that takes those of each source at one interface and sends those for each address out of one."""
        sieve = self._ways.sieve(router)
        if not sieve.lines:
            return
        if blind:
            np.minimum(value, PERHAPS, out=value)
            return
        if sieve not in self._source_places:
            self._source_places[sieve] = self._senders.between(sieve.sources.marks)
        if sieve not in self._places:
            self._places[sieve] = self._targets.between(sieve.targets.marks)
        # Whoever sent it may be told of the next hop, which is on his own link.
        told = [(both, np.minimum(value, PERHAPS)) for both in set(ats).intersection(outs)] if first else []
        places = self._source_places[sieve][rows][:, None], self._places[sieve][targets]
        for enters, leaves in product(set(ats), set(outs)) if sieve.tells_interfaces else ((ats[0], outs[0]),):
            table = sieve.table(enters, leaves)[places]
            if sieve.tells_interfaces:
                table[~_cross(ats, enters, outs, leaves)] = SURELY
            np.minimum(value, table, out=value)
        for both, unscreened in told:
            np.maximum(value, unscreened, out=value, where=_cross(ats, both, outs, both))

    # --- addresses --------------------------------------------------------------------------------------------

    def _own(self, owner: str) -> list[int]:
        """The numbers of a stack's addresses, each of which may be that of others too."""
        return [n for address in self.look.stack(owner).own for n in self._numbers.get(address, ())]

    def _is_own(self, owner: str) -> np.ndarray:
        """bool[ends]: the same."""
        if owner not in self._owned:
            self._owned[owner] = np.zeros(len(self.ends), dtype=bool)
            self._owned[owner][self._own(owner)] = True
        return self._owned[owner]

    @cached_property
    def _numbers(self) -> dict[Address, list[int]]:
        found: dict[Address, list[int]] = {}
        for end in self.ends:
            found.setdefault(end.address, []).append(end.number)
        return found

    @cached_property
    def _lent(self) -> list[int]:
        """The numbers of the addresses of which somebody lets packets in for others."""
        lent = (of for address, of in self._numbers.items() if self.look.waking.lent_for(address))
        return [number for of in lent for number in of]


def _cross(ats: Sequence[str], at: str, outs: Sequence[str], out: str) -> np.ndarray:
    """bool[n, m]: where of two rows both are these."""
    crossed: np.ndarray = np.array([one == at for one in ats])[:, None] & np.array([one == out for one in outs])
    return crossed

"""Whom no question of layer 3 tells apart: they are asked once for all."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import product
from typing import NamedTuple

from aptwire.above.ping import Pings
from aptwire.forward.parts import Stand
from aptwire.judge.causes import spoken
from aptwire.judge.judgement import Judgement
from aptwire.judge.voices import voices
from aptwire.judge.why import OPEN_END, is_idle
from aptwire.plan.fields import Numbers, bare_address, end_of, numbers
from aptwire.plan.kinds import OWNERS, PLACES, Record
from aptwire.plan.names import called
from aptwire.plan.stacks import Stack, ends_of, forwarding, gateways_of, owner_of, stack_of, told_apart
from aptwire.rules.whom import Meaning, Unit


class _Seen(NamedTuple):
    """An interface as it is looked at: its record (None: there is none), whose it is (an id), and its addresses."""

    record: Record | None
    owner: str
    addresses: tuple[Numbers, ...]


_WIDE = range(25)
"""Lengths of subnets of IPv4 that have whole rows."""
_WIDE_TEXTS = frozenset(map(str, _WIDE))

Row = str | Numbers
"""The first of the 256 addresses of IPv4, in one subnet, among which an address is; itself, where it is of a smaller subnet or of IPv6."""


def row_of(text: str) -> str:
    """The row of an address that a record keeps."""
    head, _, rest = text.rpartition(".")
    _, _, length = rest.partition("/")
    return f"{head}.0/{length}" if head and length in _WIDE_TEXTS and ":" not in head else text


def _row(given: Numbers) -> Numbers:
    """The row of an address that somebody was given."""
    version, number, net, length = given
    return (4, number >> 8 << 8, net, length) if version == 4 and length in _WIDE else given


def _first(row: Row) -> Numbers:
    """The address that says which row it is."""
    return numbers(row) if isinstance(row, str) else row


class Group(NamedTuple):
    """Some interfaces by their places in a list: `plain` ones of one stand whose addresses are in the same `rows`, all on or all off; or one that isn't plain, with its
    `addresses`."""

    at: list[int]
    plain: bool
    rows: tuple[Row, ...]
    addresses: tuple[Numbers, ...]

    @property
    def bare(self) -> bool:
        """Whether they have no address."""
        return not self.rows and not self.addresses


class Marks:
    """Where subnets begin and end, each with its IP version: between two of them addresses are one."""

    def __init__(self, marks: Iterable[tuple[int, int]]) -> None:
        self._marks = sorted(marks)
        self._of_row: dict[Row, int | None] = {}

    def of(self, address: Numbers) -> int:
        """Between which of them an address is."""
        return bisect_right(self._marks, address[:2])

    def of_row(self, row: Row) -> int | None:
        """The same of all addresses of a row; None where one of them parts it."""
        if row not in self._of_row:
            one = _first(row)
            version, first, _, length = one
            parted = version == 4 and length in _WIDE and self.of(one) != self.of((4, first + 255, 0, 0))
            self._of_row[row] = None if parted else self.of(one)
        return self._of_row[row]


class _Own(NamedTuple):
    """What an interface has by itself on its stand, with what that is made of."""

    record: Record
    stand: Stand
    words: Hashable


class _Lasting:
    """Interfaces as they were looked at, those of which nothing else tells: each for as long as its record and its stand are the very same."""

    def __init__(self) -> None:
        self.seen: dict[str, _Seen] = {}
        self.own: dict[str, _Own] = {}


class Look:
    """A judged plan as rules look at it: whom names mean, who is alike, and pings of them (`waking`: as if everybody were on)."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.plan, self.wiring = judgement, judgement.plan, judgement.wiring
        self.voices = voices(judgement)
        self.meaning = Meaning(judgement.plan)
        self.pings = Pings(judgement)
        # A stack is the same whoever is on; who is passed is kept for both together.
        self.waking = Pings(judgement, waking=True, stacks=self.pings.stacks, passed=self.pings.passed)
        self._alike: dict[str, Hashable] = {}
        self._shared_parts: dict[Hashable, Hashable] = {}
        self._several: dict[str, bool] = {}
        self._owners: dict[str, str] = {}
        self._known: dict[str, _Seen] = {}
        self._seated: dict[tuple[str, ...], dict[int, tuple[Stand, list[str]]]] = {}
        self._gathered: dict[tuple[str, ...], list[Group]] = {}
        self._of_stand: dict[int, tuple[tuple[Hashable, bool], tuple[Hashable, ...]]] = {}
        self._nets: dict[tuple[Row, ...], tuple[tuple[int, int, int], ...]] = {}
        given = (self.pings.held, *judgement.got)
        self._given = any(given)
        # What somebody has by lease is told anew each time.
        rests = (
            *(self.plan.of(kind) for kind in _TOLD_BY),
            self.wiring.doubled or None,
            *(given if self._given else ()),
        )
        self._lasting = judgement.kept.get("who is alike", rests, _Lasting)

    def name(self, id: str) -> str:
        """A unit or interface as a sentence calls it."""
        return (
            spoken(self.plan, id) if self.plan.find(id, PLACES) is not None else called(self.plan, self.plan.find(id))
        )

    @property
    def stand_of(self) -> Mapping[str, Stand]:
        """The stand of each interface."""
        return self.wiring.stand_of

    def owner(self, id: str) -> str:
        """The guest, station or host of whom something is, by id."""
        found = self._owners.get(id)
        if found is None:
            adapter = self.plan.of("adapter").get(id)
            found = self._owners[id] = adapter.guest if adapter is not None else self._seen(id).owner
        return found

    def _seen(self, id: str) -> _Seen:
        """An interface, whose it is, and its addresses; looked up once."""
        known = self._known.get(id)
        if known is None:
            record = self.plan.find(id, PLACES)
            known = self._lasting.seen.get(id)
            if known is not None and known.record is record and record is not None and record.kind != "guest_tag":
                self._known[id] = known
                return known
            own = tuple(map(numbers, record.addresses)) if record is not None else ()  # type: ignore[attr-defined]
            own = (*own, *(one.numbers for one in self.pings.held.get(id, ())))
            owner = owner_of(self.plan, record).id if record is not None else id
            known = self._known[id] = self._lasting.seen[id] = _Seen(record, owner, own)
        return known

    def stack(self, id: str) -> Stack:
        """The stack of an owner."""
        if id not in self.pings.stacks:
            found = self.plan.find(id, OWNERS)
            assert found is not None
            self.pings.stacks[id] = stack_of(self.plan, found, self.pings.held)
        return self.pings.stacks[id]

    def manifold(self, owner: str) -> bool:
        """Whether an owner has several interfaces, or routes: what becomes of a packet isn't said by one interface alone."""
        if owner not in self._several:
            plan = self.plan
            adapters = plan.grouped("adapter", "guest").get(owner)
            if adapters:
                tagged = plan.grouped("guest_tag", "adapter")
                several = len(adapters) > 1 or any(tagged.get(a.id) for a in adapters)
            else:
                several = len(plan.where("station_port", "station", owner)) > 1 or owner in plan.of("host")
            self._several[owner] = several or owner in self.tabled
        return self._several[owner]

    def several(self, owners: Iterable[str]) -> Iterator[str]:
        """Those of some owners that have several interfaces and neither forward nor have routes."""
        of_guest, tagged = self.plan.grouped("adapter", "guest"), self.plan.grouped("guest_tag", "adapter")
        for owner in owners:
            # Most are guests with one interface, and very many.
            adapters = of_guest.get(owner, ())
            plain = len(adapters) == 1 and adapters[0].id not in tagged
            if not plain and owner not in self.tabled and self.manifold(owner):
                yield owner

    @cached_property
    def forwarding(self) -> tuple[str, ...]:
        """Whoever forwards (ids)."""
        return tuple(owner.id for owner in forwarding(self.plan))

    @cached_property
    def tabled(self) -> frozenset[str]:
        """The owners that forward, or have routes: each is one by itself."""
        return frozenset((*self.forwarding, *(route.of for route in self.plan.all("route"))))

    def alike(self, record: str) -> Hashable:
        """What an interface, with its stack, has in common with those that no frame and no next hop tells apart; its address in its subnet aside."""
        if record not in self._alike:
            owner = self.owner(record)
            if owner in self.tabled:
                made: Hashable = (self._part(record), owner)
            elif self.manifold(owner):
                others = (other.id for other in self._interfaces(owner) if other.id != record)
                made = (self._part(record), *map(self._part, others))
            else:
                made = self._part(record)
            # Many are alike: they share the value.
            self._alike[record] = self._shared_parts.setdefault(made, made)
        return self._alike[record]

    def _part(self, id: str) -> Hashable:
        """What one interface has by itself."""
        record, stand = self._seen(id).record, self.stand_of.get(id)
        if record is None or stand is None:
            return ("nowhere", id)
        own = self._lasting.own.get(id)
        if own is None or own.record is not record or own.stand is not stand or record.kind == "guest_tag":
            own = self._lasting.own[id] = _Own(record, stand, self._words(id, record, stand))
        if own.words is None:
            return ("itself", id)
        return *self._heard_at(id, stand), own.words

    def _heard_at(self, id: str, stand: Stand) -> tuple[Hashable, bool]:
        """Where an interface is heard, and whether its frames get somewhere of which nobody knows."""
        steady = self.voices.steady(stand)
        single = self.judgement.own.get(id) if self.judgement.own else None
        cause = single[1] if single is not None else self.judgement.causes.get(stand)
        where = ("stand", stand.block, stand.index) if steady is None else steady
        return where, cause is not None and cause.what == OPEN_END

    def _words(self, id: str, record: Record, stand: Stand) -> Hashable:
        """What an interface has that hangs neither on where it is heard nor on what it suffers; None: it is alike nobody, since another one bears its address."""
        doubled, bound = self.wiring.doubled, self._seen(id).addresses
        if doubled and any(bare_address(text) in doubled for text in record.addresses):  # type: ignore[attr-defined]
            return None
        endpoint = record.adapter if record.kind == "guest_tag" else id  # type: ignore[attr-defined]
        made = (
            stand.judged and is_idle(self.plan, endpoint),
            *self._sends(record, stand),
            tuple((version, net, length) for version, _, net, length in bound),
            self._lease(id) if self._given else None,
        )
        # Very many are alike: they share the words.
        return self._shared_parts.setdefault(made, made)

    def _sends(self, record: Record, stand: Stand) -> tuple[Hashable, ...]:
        """Where an interface sends what leaves its subnets: its segment, the gateways, and whether nobody said these."""
        unsaid = getattr(record, "gateway", None) is None and stand.segment is None
        return stand.segment, gateways_of(self.plan, record), unsaid

    def _lease(self, id: str) -> Hashable:
        """What an interface has by lease, or formed, its address in its subnet aside; or that it gets none."""
        held = tuple((one.numbers[0], *one.numbers[2:], *one[1:]) for one in self.pings.held.get(id, ()))
        got = [of.get(id) for of in self.judgement.got]
        return held, tuple(one.outcome if one is not None else None for one in got)

    def addresses(self, records: Iterable[str]) -> Iterator[Numbers]:
        """The addresses of some interfaces."""
        for id in records:
            yield from self._seen(id).addresses

    @cached_property
    def _marks(self) -> frozenset[tuple[int, int]]:
        """Where the subnets of which tables and filters speak begin and end, each with its IP version: between two of them none tells addresses apart."""
        plan, own = self.plan, [record for owner in sorted(self.tabled) for record in self._interfaces(owner)]
        told = tuple(told_apart(plan))
        # What was given to somebody isn't said by his record.
        given = tuple(self.pings.held.get(record.id) for record in own) if self._given else ()
        rests = (told, tuple(record.addresses for record in own), given)  # type: ignore[attr-defined]

        def find() -> frozenset[tuple[int, int]]:
            return frozenset(bounds((*map(numbers, told), *self.addresses(record.id for record in own))))

        return self.judgement.kept.get("where addresses part", rests, find)

    def _interfaces(self, owner: str) -> Iterable[Record]:
        found = self.plan.find(owner, OWNERS)
        return ends_of(self.plan, found) if found is not None else ()

    def seated(self, records: Sequence[str]) -> dict[int, tuple[Stand, list[str]]]:
        """The stands (by `id`) of some interfaces (records), each with those who are on it, in their order."""
        asked = tuple(records)
        found = self._seated.get(asked)
        if found is None:
            found = self._seated[asked] = {}
            for record, stand in zip(asked, map(self.stand_of.get, asked), strict=True):
                if stand is None:
                    continue
                if (seat := found.get(id(stand))) is not None:
                    seat[1].append(record)
                else:
                    found[id(stand)] = stand, [record]
        return found

    def gathered(self, records: Sequence[str]) -> list[Group]:
        """Interfaces (records) in groups of those that may be looked at together.  Plain are those of guests with one interface of which nothing is said that isn't said of
        their stand."""
        asked = tuple(records)
        if asked not in self._gathered:
            self._gathered[asked] = self._gather(asked)
        return self._gathered[asked]

    def _gather(self, records: tuple[str, ...]) -> list[Group]:
        stand_of, tabled, odd = self.stand_of, self.tabled, self._odd
        held, got = self.pings.held, [of for of in self.judgement.got if of]
        adapters, guests = self.plan.of("adapter"), self.plan.of("guest")
        of_guest = self.plan.grouped("adapter", "guest")
        found: list[Group] = []
        known: dict[object, list[int]] = {}
        for n, (record, adapter, stand) in enumerate(
            zip(records, map(adapters.get, records), map(stand_of.get, records), strict=True)
        ):
            if (
                adapter is None
                or stand is None
                or record in odd
                or len(of_guest[adapter.guest]) > 1
                or adapter.guest in tabled
            ):
                found.append(Group([n], False, (), tuple(self.addresses((record,)))))
                continue
            rows: tuple[Row, ...] = tuple(map(row_of, adapter.addresses))
            alike: tuple[int, ...] = ()
            if got:
                given = held.get(record, ())
                rows = (*rows, *(_row(one.numbers) for one in given))
                # Who gets the very same has the same, but for addresses.
                alike = len(given), *(id(of.get(record)) for of in got)
            key = id(stand), adapter.connected and guests[adapter.guest].running, rows, alike
            if (at := known.get(key)) is not None:
                at.append(n)
            else:
                known[key] = at = [n]
                found.append(Group(at, True, rows, ()))
        return found

    def placed(self, records: Sequence[str], group: Group, marks: Marks) -> Iterator[tuple[Hashable, list[int]]]:
        """Of a group of some interfaces those that no table, filter or next hop tells apart, each time with what they have in common."""
        if None not in (where := tuple(map(marks.of_row, group.rows))):
            where = where or tuple(map(marks.of, group.addresses))
            first = records[group.at[0]]
            yield (self._alike_of(first, group.rows) if group.plain else self.alike(first), where), group.at
            return
        for n in group.at:
            yield (self.alike(records[n]), tuple(map(marks.of, self.addresses((records[n],))))), [n]

    def nets(self, groups: Iterable[Group]) -> Iterator[Numbers]:
        """The addresses of groups, of each row one."""
        rows: set[Row] = set()
        for group in groups:
            rows.update(group.rows)
            yield from group.addresses
        yield from map(_first, rows)

    def marks(self, nets: Iterable[Numbers]) -> Marks:
        """Between these no table and no filter tells addresses apart, and none of some subnets begins or ends."""
        return Marks(self.marked(nets))

    def marked(self, nets: Iterable[Numbers]) -> frozenset[tuple[int, int]]:
        """The same, as they are: IP version and address of each."""
        return self._marks.union(bounds(nets))

    def _alike_of(self, record: str, rows: tuple[Row, ...]) -> Hashable:
        """`alike` of a plain interface with addresses in these rows: the rest is that of its stand, and looked up once."""
        stand = self.stand_of[record]
        known = self._of_stand.get(id(stand))
        if known is None:
            sends = self._sends(self.plan.get("adapter", record), stand)
            known = self._of_stand[id(stand)] = self._heard_at(record, stand), sends
        heard, sends = known
        nets = self._nets.get(rows)
        if nets is None:
            nets = self._nets[rows] = tuple((v, net, length) for v, _, net, length in map(_first, rows))
        words = (
            stand.judged and is_idle(self.plan, record),
            *sends,
            nets,
            self._lease(record) if self._given else None,
        )
        made = (*heard, self._shared_parts.setdefault(words, words))
        return self._shared_parts.setdefault(made, made)

    @cached_property
    def _odd(self) -> set[str]:
        """Adapters of which something is said by themselves: tags, a verdict; or an address that another one bears too."""
        twins = {record for address in self.wiring.doubled for record in self.wiring.bearers.get(address, ())}
        return twins.union(self.plan.grouped("guest_tag", "adapter"), self.judgement.own)

    def kinds(self, one: Sequence[Unit], two: Sequence[Unit]) -> tuple[list[list[Unit]], list[list[Unit]]]:
        """The units of either side in lists of those that are alike, also as targets for the other."""
        sides = [(units, self._by_interface(units)) for units in (one, two)]
        nets = [list(self._heard_of(*side)) for side in sides]
        return self._in_kinds(*sides[0], nets[1]), self._in_kinds(*sides[1], nets[0])

    def _by_interface(self, units: Sequence[Unit]) -> list[Group]:
        """Units in groups; one with several interfaces is in none."""
        places = [n for n, unit in enumerate(units) if len(unit.records) == 1]
        groups = self.gathered([units[n].records[0] for n in places])
        if len(places) == len(units):
            return groups
        return [group._replace(at=[places[n] for n in group.at]) for group in groups]

    def _heard_of(self, units: Sequence[Unit], groups: list[Group]) -> Iterator[Numbers]:
        """The addresses of units, and those of their other interfaces."""
        yield from self.nets(groups)
        for unit in units:
            if len(unit.records) != 1:
                yield from self.addresses(unit.records)
        plain = {n for group in groups if group.plain for n in group.at}
        owners = {self.owner(unit.id) for n, unit in enumerate(units) if n not in plain}
        yield from self.addresses(i.record for o in owners if self.manifold(o) for i in self.stack(o).interfaces)

    def _in_kinds(self, units: Sequence[Unit], groups: list[Group], nets: list[Numbers]) -> list[list[Unit]]:
        marks = self.marks(nets)
        records = [next(iter(unit.records), unit.id) for unit in units]
        found: dict[Hashable, list[int]] = {}
        for group in groups:
            for key, at in self.placed(records, group, marks):
                found.setdefault(key, []).extend(at)
        for n, unit in enumerate(units):
            if len(unit.records) != 1:
                where = tuple(map(marks.of, self.addresses(unit.records)))
                alike = unit.id if unit.id in self.tabled or not unit.records else tuple(map(self._part, unit.records))
                found.setdefault((alike, where), []).append(n)
        return [[units[n] for n in of] for of in sorted(map(sorted, found.values()))]

    def pair(self, one: list[Unit], two: list[Unit]) -> tuple[Unit, Unit] | None:
        """Two of two lists that aren't of one stack; None where there are none."""
        for a, b in product(one[:3], two[:3]):
            if self.owner(a.id) != self.owner(b.id):
                return a, b
        return None

    def has_addresses(self, record: str) -> bool:
        """Whether an interface bears any address."""
        return bool(self._seen(record).addresses)


_TOLD_BY = ("guest", "segment", "virtual_switch")
"""The kinds of what tells something of an interface beside its own record and its stand."""


def bounds(nets: Iterable[Numbers]) -> list[tuple[int, int]]:
    """The first addresses of subnets, and those behind their last ones."""
    found: set[tuple[int, int]] = set()
    for version, net, length in {(version, net, length) for version, _, net, length in nets}:
        found.update(((version, net), (version, end_of(version, net, length))))
    return sorted(found)

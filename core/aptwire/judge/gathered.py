"""First stage of the judge: what blocks say of their stands and ways, in whole arrays.

Each block's own arrays (its *piece*) are made once and kept with it.  After an edit only the pieces of the blocks that it compiled anew are
put in place of those before (`Patch`); what else is worked out by row or by stand is taken along the same way.
"""

from __future__ import annotations

import ipaddress
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence, Sized
from dataclasses import dataclass
from functools import cached_property
from itertools import chain
from typing import TypeVar, overload

import numpy as np

from aptwire.forward.domains import Pairings
from aptwire.forward.parts import Stand, Team
from aptwire.forward.wiring import Block, Slot, Wiring
from aptwire.judge.intent import Intent
from aptwire.plan.fields import bare_address, is_nobodys
from aptwire.plan.layers import Swapped

AT_HOME = -2
"""In place of a pairing: the stand's own bridge is one that frames cross."""
FEW = 100
"""More blocks than these are put together anew."""


@dataclass(frozen=True)
class Columns:
    """What the judge asks of every stand, one entry each: `segment` number (-1: none), `context`, `bridge`, `vni`, `weight`
    (places), `awake` and `asleep` endpoints (0 where it isn't judged), `deaf`, `private`."""

    segment: np.ndarray
    context: np.ndarray
    bridge: np.ndarray
    vni: np.ndarray
    weight: np.ndarray
    awake: np.ndarray
    asleep: np.ndarray
    deaf: np.ndarray
    private: np.ndarray


@dataclass(frozen=True)
class Ways:
    """Which way leads where, one entry a row, sorted by stand and order of ways: `stand`; `way` 0, 1, ...; `team` number (-1: no uplink, or a
    crossing switch); `member` in the team; `pair` number of the pairing, -1 for none; `trunk` crossing row of the bridge beyond; `open`: the way ends open."""

    stand: np.ndarray
    way: np.ndarray
    team: np.ndarray
    member: np.ndarray
    pair: np.ndarray
    trunk: np.ndarray
    open: np.ndarray


class Starts:
    """Where each block's stands, rows and teams begin: `at` int64[blocks + 1, 3], its columns as lists too; one object as long as nothing moves."""

    def __init__(self, at: np.ndarray) -> None:
        self.at = at
        self._lists: dict[int, list[int]] = {}

    def listed(self, column: int) -> list[int]:
        """A column as a list, for questions about single numbers."""
        if column not in self._lists:
            self._lists[column] = self.at[:, column].tolist()
        return self._lists[column]


N = TypeVar("N")


class Numbered(Sequence[N]):
    """What blocks have, numbered through: `starts` has the first number of each block in a column."""

    def __init__(self, starts: Starts, column: int, blocks: Sequence[Block], of: Callable[[Block], list[N]]) -> None:
        self._starts, self._column, self._blocks, self._of = starts, column, blocks, of

    @cached_property
    def _listed(self) -> list[int]:
        return self._starts.listed(self._column)

    def __len__(self) -> int:
        return int(self._starts.at[-1, self._column])

    def __iter__(self) -> Iterator[N]:
        return chain.from_iterable(map(self._of, self._blocks))

    @overload
    def __getitem__(self, number: int) -> N: ...

    @overload
    def __getitem__(self, number: slice) -> list[N]: ...

    def __getitem__(self, number: int | slice) -> N | list[N]:
        if isinstance(number, slice):
            return list(self)[number]
        block = bisect_right(self._listed, number) - 1
        return self._of(self._blocks[block])[number - self._listed[block]]


@dataclass(frozen=True)
class Gathered:
    """`ways` int32[rows] and `columns` int32[stands], both as named arrays; `starts`: where each block's stands, rows and teams begin;
    `place_of` the place of each block by its key; `outside` the records of blocks that bear an address outside their segment's subnets,
    `strangers` the host ports with a gateway that isn't their segment's, and `several` the endpoints with several places, with these."""

    blocks: Sequence[Block]
    place_of: dict[str, int]
    ways: Ways
    columns: Columns
    first: np.ndarray
    starts: Starts
    outside: Mapping[str, list[str]]
    strangers: Mapping[str, list[str]]
    several: Mapping[str, dict[str, list[str]]]

    @cached_property
    def stands(self) -> Numbered[Stand]:
        """Every stand, by its number."""
        return Numbered(self.starts, 0, self.blocks, lambda block: block.stands)

    @cached_property
    def teams(self) -> Numbered[Team]:
        """Every team, by its number."""
        return Numbered(self.starts, 2, self.blocks, lambda block: block.teams)

    @property
    def at(self) -> np.ndarray:
        """int64[blocks + 1, 3]: where each block's stands, rows and teams begin."""
        return self.starts.at

    def number(self, stand: Stand) -> int:
        """A stand's place in the arrays."""
        return int(self.at[self.place_of[stand.block], 0]) + stand.index

    def rows_of(self, stand: int) -> range:
        """A stand's rows, which stand together in the order of its ways."""
        last = stand + 1 == self.first.size
        return range(int(self.first[stand]), self.ways.stand.size if last else int(self.first[stand + 1]))


@dataclass(frozen=True)
class Patch:
    """What an edit put in place of what: the places of the changed blocks, and where blocks began before (`was`) and begin now (`now`), as `Gathered.at`."""

    changed: tuple[int, ...]
    was: np.ndarray
    now: np.ndarray

    def _along(self, array: np.ndarray, column: int, own: np.ndarray | slice, fresh: np.ndarray | None) -> np.ndarray:
        if self.alike:
            if fresh is not None and np.array_equal(array[own], fresh):
                return array
            made = array.copy()
        elif len(self.changed) == 1:
            at = self.changed[0]
            size = int(self.now[at + 1, column] - self.now[at, column])
            mine = np.zeros(size, dtype=array.dtype) if fresh is None else fresh.astype(array.dtype, copy=False)
            begin, end = self.was[at, column], self.was[at + 1, column]
            return np.concatenate([array[:begin], mine, array[end:]])
        else:
            parts: list[np.ndarray] = []
            done = 0
            for n in (*self.changed, len(self.was) - 1):
                parts.append(array[self.was[done, column] : self.was[n, column]])
                if n < len(self.was) - 1:
                    parts.append(np.zeros(int(self.now[n + 1, column] - self.now[n, column]), dtype=array.dtype))
                done = n + 1
            made = np.concatenate(parts)
        made[own] = 0 if fresh is None else fresh
        return made

    def by_stand(self, array: np.ndarray, fresh: np.ndarray | None = None) -> np.ndarray:
        """A value for each stand as it was before, and `fresh` ones for those of changed blocks: the very array where nothing differs; without any,
        an array of one's own with zero for them."""
        return self._along(array, 0, self._own(0), fresh)

    def by_row(self, array: np.ndarray, fresh: np.ndarray | None = None) -> np.ndarray:
        """The same for each row."""
        return self._along(array, 1, self._own(1), fresh)

    def _own(self, column: int) -> np.ndarray | slice:
        """Where the stands or rows of changed blocks are; of one block, as what costs no copy."""
        if len(self.changed) == 1:
            at = self.changed[0]
            return slice(self.now[at, column], self.now[at + 1, column])
        return self.rows if column else self.stands

    @cached_property
    def alike(self) -> bool:
        """Whether every stand and row has the number that it had."""
        return self.was is self.now or bool((self.was[:, :2] == self.now[:, :2]).all())

    @cached_property
    def stands(self) -> np.ndarray:
        """int64[n]: the numbers of the stands of changed blocks."""
        return np.concatenate([np.arange(self.now[n, 0], self.now[n + 1, 0]) for n in self.changed] or [_NONE])

    @cached_property
    def rows(self) -> np.ndarray:
        """int64[n]: the rows of the stands of changed blocks."""
        return np.concatenate([np.arange(self.now[n, 1], self.now[n + 1, 1]) for n in self.changed] or [_NONE])


_NONE = np.zeros(0, dtype=np.int64)


@dataclass(frozen=True)
class _Piece:
    """A block's own arrays, as `Ways` and `Columns` have them in that order; its stands, teams and addresses are the block's."""

    ways: np.ndarray
    columns: np.ndarray
    outside: list[str]
    strangers: list[str]


_PIECE: Slot[_Piece] = Slot(standing=True)


def _piece(wiring: Wiring, block: Block, pairings: Pairings, intent: Intent) -> _Piece:
    rests = (pairings, intent.subnets, intent.gateways)
    known = _PIECE.get(block, *rests)
    if known is not None:
        return known
    made = _Piece(
        _ways(wiring, block, pairings),
        _columns(wiring, block, intent.numbers),
        _outside(block, intent.subnets),
        _strangers(wiring, block, intent.gateways),
    )
    return _PIECE.keep(block, made, *rests)


def gather(wiring: Wiring, pairings: Pairings, intent: Intent) -> Gathered:
    """The arrays of a wiring."""
    blocks = tuple(wiring.blocks.values())
    pieces = [_piece(wiring, block, pairings, intent) for block in blocks]
    sizes = np.array([(len(b.stands), len(p.ways), len(b.teams)) for b, p in zip(blocks, pieces, strict=True)])
    sizes = sizes.reshape(-1, 3).astype(np.int64)
    at = np.concatenate([np.zeros((1, 3), dtype=np.int64), np.cumsum(sizes, axis=0)])
    table = _numbered(pieces, at[:-1, 0], at[:-1, 2])
    columns = np.concatenate([p.columns for p in pieces])
    return _gathered(
        blocks,
        {block.key: n for n, block in enumerate(blocks)},
        [np.ascontiguousarray(table[:, n]) for n in range(7)],
        [np.ascontiguousarray(columns[:, n]) for n in range(9)],
        Starts(at),
        {block.key: p.outside for block, p in zip(blocks, pieces, strict=True) if p.outside},
        {block.key: p.strangers for block, p in zip(blocks, pieces, strict=True) if p.strangers},
        {block.key: block.several for block in blocks if block.several},
        None,
    )


def _numbered(pieces: list[_Piece], stands: np.ndarray, teams: np.ndarray) -> np.ndarray:
    """int32[rows, 7] of some blocks, whose first stands and teams have these numbers."""
    if not pieces:
        return np.zeros((0, 7), dtype=np.int32)
    table = np.concatenate([piece.ways for piece in pieces])
    sizes = [len(piece.ways) for piece in pieces]
    table[:, 0] += np.repeat(stands, sizes).astype(np.int32)
    table[:, 2] += np.where(table[:, 2] >= 0, np.repeat(teams, sizes), 0).astype(np.int32)
    return table


def patch(
    before: Gathered, wiring: Wiring, pairings: Pairings, intent: Intent, keys: Iterable[str]
) -> tuple[Gathered, Patch] | None:
    """The arrays before an edit with other pieces for the blocks of some keys; None where blocks came or went, or they are many."""
    changed = sorted(before.place_of[key] for key in keys if key in before.place_of and key in wiring.blocks)
    if len(changed) != len(set(keys)) or len(changed) > FEW:
        return None
    fresh: dict[int, Block] = {}
    pieces = []
    moved: dict[int, tuple[int, int, int]] = {}
    for n in changed:
        block = fresh[n] = wiring.blocks[before.blocks[n].key]
        pieces.append(_piece(wiring, block, pairings, intent))
        size = len(block.stands), len(pieces[-1].ways), len(block.teams)
        if size != tuple((before.at[n + 1] - before.at[n]).tolist()):
            moved[n] = size
    starts = before.starts
    if moved:
        sizes = np.diff(before.at, axis=0)
        sizes[list(moved)] = list(moved.values())
        starts = Starts(np.concatenate([np.zeros((1, 3), dtype=np.int64), np.cumsum(sizes, axis=0)]))
    at = starts.at
    done = Patch(tuple(changed), before.at, at)
    columns = np.concatenate([piece.columns for piece in pieces]) if pieces else np.zeros((0, 9), dtype=np.int32)
    ways = _numbered(pieces, at[list(changed), 0], at[list(changed), 2])
    stands = [done.by_stand(array, columns[:, n]) for n, array in enumerate(vars(before.columns).values())]
    rows = [done.by_row(array, ways[:, n]) for n, array in enumerate(vars(before.ways).values())]
    last = 0
    for n in (*changed, len(before.blocks)):
        # Whatever stands behind a block that has other stands or teams has other numbers.
        own = slice(at[last, 1], at[last, 1] + before.at[n, 1] - before.at[last, 1])
        for column, move in ((0, at[last, 0] - before.at[last, 0]), (2, at[last, 2] - before.at[last, 2])):
            if move:
                rows[column] = rows[column].copy() if rows[column] is vars(before.ways)["team"] else rows[column]
                rows[column][own] += np.where(rows[column][own] >= 0, move, 0).astype(np.int32)
        last = n + 1
    names = [block.key for block in fresh.values()]
    outside = _replaced(before.outside, names, [piece.outside for piece in pieces])
    strangers = _replaced(before.strangers, names, [piece.strangers for piece in pieces])
    several = _replaced(before.several, names, [block.several for block in fresh.values()])
    first = before.first if rows[1] is before.ways.way else None
    made = _gathered(
        Swapped.of(before.blocks, fresh), before.place_of, rows, stands, starts, outside, strangers, several, first
    )
    return made, done


T = TypeVar("T", bound=Sized)


def _replaced(before: Mapping[str, T], keys: list[str], fresh: list[T]) -> Mapping[str, T]:
    """Lists by block, with others for some blocks; none of them empty."""
    if not any(fresh) and before.keys().isdisjoint(keys):
        return before
    made = {key: listed for key, listed in before.items() if key not in keys}
    made.update((key, listed) for key, listed in zip(keys, fresh, strict=True) if listed)
    return made


def _gathered(
    blocks: Sequence[Block],
    place_of: dict[str, int],
    ways: list[np.ndarray],
    columns: list[np.ndarray],
    starts: Starts,
    outside: Mapping[str, list[str]],
    strangers: Mapping[str, list[str]],
    several: Mapping[str, dict[str, list[str]]],
    first: np.ndarray | None,
) -> Gathered:
    stand, way, team, member, pair, trunk = ways[:6]
    named = Ways(stand, way, team, member, pair, trunk, ways[6].astype(bool, copy=False))
    by_stand = Columns(*columns[:7], *(column.astype(bool, copy=False) for column in columns[7:]))
    first = np.flatnonzero(way == 0) if first is None else first
    return Gathered(blocks, place_of, named, by_stand, first, starts, outside, strangers, several)


def _ways(wiring: Wiring, block: Block, pairings: Pairings) -> np.ndarray:
    """int32[rows, 7] of a block: `Ways` with stands and teams as the block numbers them."""
    team_number = {id(team): n for n, team in enumerate(block.teams)}
    options: dict[tuple[int, str], list[tuple[int, int, int, int, bool]]] = {}
    rows: list[tuple[int, ...]] = []
    for number, stand in enumerate(block.stands):
        key = (stand.bridge, stand.order)
        found = options.get(key)
        if found is None:
            found = options[key] = []
            bridge = wiring.bridges[stand.bridge] if stand.bridge >= 0 else None
            if bridge is not None and bridge.crossing_row >= 0:
                found.append((-1, -1, AT_HOME, bridge.crossing_row, False))
            elif bridge is not None:
                for team in wiring.teams_at(stand.bridge, stand.order):
                    for n, member in enumerate(team.members[: team.usable]):
                        if member.link is None:
                            found.append((team_number[id(team)], n, -1, 0, True))
                        else:
                            far = wiring.bridges[member.link.ends[1]].crossing_row
                            pair = pairings.number(*member.link.rules)
                            found.append((team_number[id(team)], n, pair, far, member.link.rules[1].partial))
                switch = wiring.plan.of("virtual_switch").get(bridge.id)
                if switch is not None and switch.partial:
                    found.append((-1, -1, -1, 0, True))
            if not found:
                found.append((-1, -1, -1, 0, False))
        rows.extend((number, way, *option) for way, option in enumerate(found))
    return np.array(rows, dtype=np.int32).reshape(-1, 7)


def _columns(wiring: Wiring, block: Block, numbers: Mapping[str, int]) -> np.ndarray:
    """int32[stands, 9] of a block: `Columns` in their order."""
    links = [m.link for team in block.teams for m in team.members if m.link is not None]
    behind = {link.ends[0] for link in links if link.rules[1].private and wiring.bridges[link.ends[0]].crossing_row < 0}
    made = [
        (
            numbers[s.segment] if s.segment else -1,
            s.context,
            s.bridge,
            s.vni,
            len(s.records),
            s.awake if s.judged else 0,
            s.asleep if s.judged else 0,
            s.context >= 0 and not s.hears,
            bool(s.hears) and (not s.plain or s.bridge in behind),
        )
        for s in block.stands
    ]
    return np.array(made, dtype=np.int32).reshape(-1, 9)


def _outside(block: Block, subnets: Mapping[str, tuple[str, ...]]) -> list[str]:
    """The records of a block that bear a static address outside the subnets of the segment on which they belong."""
    segments = dict.fromkeys(block.stand_of[record].segment or "" for _, record in block.addresses)
    nets = {id: [ipaddress.ip_network(text) for text in subnets[id]] for id in segments if subnets.get(id)}
    found: dict[str, None] = {}
    for text, record in block.addresses:
        known = nets.get(block.stand_of[record].segment or "")
        if not known:
            continue
        address = ipaddress.ip_address(bare_address(text))
        same = [net for net in known if net.version == address.version]
        inside = [net for net in same if address in net]
        if same and (not inside or all(is_nobodys(address, net) for net in inside)):
            found[record] = None
    return list(found)


def _strangers(wiring: Wiring, block: Block, gateways: Mapping[str, tuple[str, ...]]) -> list[str]:
    """The host ports of a block that name a gateway of their own, other than their segment's."""
    ports = wiring.plan.where("host_port", "switch", block.key)
    return sorted(p.id for p in ports if p.gateway and p.belongs and p.gateway not in gateways.get(p.belongs, ()))

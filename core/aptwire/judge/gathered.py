"""First stage of the judge: what blocks say of their stands and ways, in whole arrays.

Each block's own arrays are made once and kept with it.  After an edit only the pieces of the blocks that it compiled anew are put in
place of those before; an edit's cost here is a copy of the arrays.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from itertools import chain

import numpy as np

from aptwire.forward.domains import Pairings
from aptwire.forward.parts import Stand, Team
from aptwire.forward.wiring import Block, Wiring
from aptwire.plan.fields import bare_address, is_nobodys

AT_HOME = -2
"""In place of a pairing: the stand's own bridge is one that frames cross."""
FEW = 100
"""More blocks than these are put together anew."""


@dataclass(frozen=True)
class Gathered:
    """`table` int32[rows, 7]: stand, way, team, member, pairing, far bridge's trunk row, open; `columns` int64[stands, 9] as `Columns` has
    them; `at` int64[blocks + 1, 3]: where each block's stands, rows and teams begin; `offsets` the first stand of each block by its key;
    `outside` the records of blocks that bear an address outside their segment's subnets; `order` int64[stands] the stands sorted by segment.  `rests` is what else the pieces hang on.
    """

    blocks: tuple[Block, ...]
    stands: list[Stand]
    teams: list[Team]
    table: np.ndarray
    columns: np.ndarray
    at: np.ndarray
    offsets: dict[str, int]
    outside: dict[str, list[str]]
    rests: tuple[object, object]
    order: np.ndarray


@dataclass(frozen=True)
class _Piece:
    """A block's own arrays; its stands, teams and addresses are the block's."""

    table: np.ndarray
    columns: np.ndarray
    outside: list[str]


def gather(
    wiring: Wiring, pairings: Pairings, subnets: Mapping[str, tuple[str, ...]], before: Gathered | None = None
) -> Gathered:
    """The arrays of a wiring; `subnets` of each segment, whose order numbers them, is one object as long as nothing in it changes."""
    numbers = {id: n for n, id in enumerate(subnets)}
    blocks = tuple(wiring.blocks.values())

    def piece(block: Block) -> _Piece:
        known = block.cache.get("piece")
        if known is None or known[0] is not pairings or known[1] is not subnets:
            made = _Piece(_rows(wiring, block, pairings), _columns(wiring, block, numbers), _outside(block, subnets))
            known = block.cache["piece"] = pairings, subnets, made
        found: _Piece = known[2]
        return found

    rests = (pairings, subnets)
    if before is not None and before.rests[0] is pairings and before.rests[1] is subnets:
        changed = _changed(before.blocks, blocks)
        if changed is not None:
            return _patched(before, blocks, changed, [piece(blocks[n]) for n in changed])
    pieces = [piece(block) for block in blocks]
    sizes = np.array([(len(b.stands), len(p.table), len(b.teams)) for b, p in zip(blocks, pieces, strict=True)])
    at = np.concatenate([np.zeros((1, 3), dtype=np.int64), np.cumsum(sizes.reshape(-1, 3), axis=0)])
    table = np.concatenate([p.table for p in pieces])
    table[:, 0] += np.repeat(at[:-1, 0], sizes[:, 1]).astype(np.int32)
    table[:, 2] = np.where(table[:, 2] >= 0, table[:, 2] + np.repeat(at[:-1, 2], sizes[:, 1]), -1)
    columns = np.concatenate([p.columns for p in pieces])
    return Gathered(
        blocks,
        list(chain.from_iterable(b.stands for b in blocks)),
        list(chain.from_iterable(b.teams for b in blocks)),
        table,
        columns,
        at,
        {block.key: start for block, start in zip(blocks, at[:, 0].tolist(), strict=False)},
        {block.key: p.outside for block, p in zip(blocks, pieces, strict=True) if p.outside},
        rests,
        np.argsort(columns[:, 0], kind="stable"),
    )


def _changed(old: tuple[Block, ...], new: tuple[Block, ...]) -> list[int] | None:
    """The places of the blocks that are others than before; None where the order is another or they are many."""
    if len(old) != len(new):
        return None
    found = [n for n, (a, b) in enumerate(zip(old, new, strict=True)) if a is not b]
    return found if len(found) <= FEW and all(old[n].key == new[n].key for n in found) else None


def _patched(before: Gathered, blocks: tuple[Block, ...], changed: list[int], pieces: list[_Piece]) -> Gathered:
    """The arrays before, with some blocks' pieces in place of their old ones."""
    at = before.at
    sizes = np.diff(at, axis=0)
    for n, fresh in zip(changed, pieces, strict=True):
        sizes[n] = len(blocks[n].stands), len(fresh.table), len(blocks[n].teams)
    now = np.concatenate([np.zeros((1, 3), dtype=np.int64), np.cumsum(sizes, axis=0)])
    tables, columns, stands, teams = list[np.ndarray](), list[np.ndarray](), list[list[Stand]](), list[list[Team]]()

    def shifted(table: np.ndarray, stand: int, team: int) -> np.ndarray:
        if stand or team:
            table = table.copy()
            table[:, 0] += stand
            table[:, 2] += np.where(table[:, 2] >= 0, team, 0)
        return table

    done = 0
    for n, piece in zip([*changed, len(blocks)], [*pieces, None], strict=True):
        (first, row, team), (stop, row_stop, team_stop) = at[done], at[n]
        move = now[done] - at[done]
        tables.append(shifted(before.table[row:row_stop], int(move[0]), int(move[2])))
        columns.append(before.columns[first:stop])
        stands.append(before.stands[first:stop])
        teams.append(before.teams[team:team_stop])
        if piece is not None:
            tables.append(shifted(piece.table, int(now[n, 0]), int(now[n, 2])))
            columns.append(piece.columns)
            stands.append(blocks[n].stands)
            teams.append(blocks[n].teams)
        done = n + 1
    outside = {key: records for key, records in before.outside.items() if key not in {blocks[n].key for n in changed}}
    outside.update((blocks[n].key, p.outside) for n, p in zip(changed, pieces, strict=True) if p.outside)
    same = bool((now[:, 0] == at[:, 0]).all())
    joined = np.concatenate(columns)
    ordered = same and bool((joined[:, 0] == before.columns[:, 0]).all())
    return Gathered(
        blocks,
        list(chain.from_iterable(stands)),
        list(chain.from_iterable(teams)),
        np.concatenate(tables),
        joined,
        now,
        before.offsets if same else {b.key: start for b, start in zip(blocks, now[:, 0].tolist(), strict=False)},
        outside,
        before.rests,
        before.order if ordered else np.argsort(joined[:, 0], kind="stable"),
    )


def _rows(wiring: Wiring, block: Block, pairings: Pairings) -> np.ndarray:
    """int32[rows, 7] of a block: stand in the block, way, team in the block, member, pairing, far bridge's trunk row, open."""
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


def _columns(wiring: Wiring, block: Block, numbers: dict[str, int]) -> np.ndarray:
    """int64[stands, 9] of a block: the columns in their order."""
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
    return np.array(made, dtype=np.int64).reshape(-1, 9)


def _outside(block: Block, subnets: Mapping[str, tuple[str, ...]]) -> list[str]:
    """The records of a block that bear a static address outside the subnets of the segment on which they belong."""
    nets = {id: [ipaddress.ip_network(text) for text in listed] for id, listed in _wanted(block, subnets)}
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


def _wanted(block: Block, subnets: Mapping[str, tuple[str, ...]]) -> Iterable[tuple[str, tuple[str, ...]]]:
    """The subnets of the segments on which somebody with an address belongs."""
    segments = dict.fromkeys(block.stand_of[record].segment or "" for _, record in block.addresses)
    return ((id, subnets[id]) for id in segments if subnets.get(id))

"""A plan's wiring, compiled: bridges, the links between them, team members, and where every endpoint stands.

The parts of one virtual switch make a *block*.  An edit compiles anew the blocks that it touches (`compiling.py`) and shares the others.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from operator import is_
from typing import Any, Generic, TypeVar

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from aptwire.forward.classes import VidClasses
from aptwire.forward.fabric import Fabric, Hops
from aptwire.forward.parts import (
    STATIONS,
    Bridge,
    Link,
    Member,
    Place,
    Stand,
    State,
    Team,
    TeamKey,
    adapter_block,
)
from aptwire.forward.routed import Ways, ways_out
from aptwire.forward.rules import PortRule, RuleBook
from aptwire.plan.kinds import (
    DROPPED,
    PLACES,
    Adapter,
    FabricPort,
    Record,
)
from aptwire.plan.layers import layered
from aptwire.plan.plan import Plan

T = TypeVar("T")


class Slot(Generic[T]):
    """A place in blocks for what somebody worked out from one, and what that rests on beside the block; typed by what is kept.

    `standing`: it rests on who stands in a block and on its teams, not on what else its records say.
    """

    def __init__(self, standing: bool = False) -> None:
        self.standing = standing

    def get(self, block: Block, *rests: object) -> T | None:
        """What is kept, if it rests on these very objects."""
        known = block.kept.get(self)
        if known is None or len(known[0]) != len(rests) or not all(map(is_, known[0], rests)):
            return None
        found: T = known[1]
        return found

    def keep(self, block: Block, value: T, *rests: object) -> T:
        """Keep something; it is given back."""
        block.kept[self] = rests, value
        return value


@dataclass(eq=False)
class Block:
    """A virtual switch (or the adapters in no port group, the direct adapters of a NIC, the stations): its teams and stands.

    `stand_of` leads from a place's record to its stand; `several` lists the places of endpoints that have more than
    one; `addresses` and `macs` are pairs with the record that bears them; `kept` is what others worked out from it (`Slot`).
    """

    key: str
    teams: list[Team] = field(default_factory=list)
    stands: list[Stand] = field(default_factory=list)
    stand_of: dict[str, Stand] = field(default_factory=dict)
    several: dict[str, list[str]] = field(default_factory=dict)
    addresses: list[tuple[str, str]] = field(default_factory=list)
    macs: list[tuple[str, str]] = field(default_factory=list)
    kept: dict[Slot[Any], Any] = field(default_factory=dict)

    def told(self) -> Block:
        """The same block, of which records say something else."""
        return replace(self, kept={slot: known for slot, known in self.kept.items() if slot.standing})


@dataclass(eq=False)
class Wiring:
    """The compiled plan.  `far` leads from a NIC or port to what is at the other end of its cable, and the cable; `changed` are the keys of the
    blocks that differ from the wiring that it was made from, `told` of those in which all stands as it stood and only records say something else."""

    plan: Plan
    classes: VidClasses
    book: RuleBook
    bridges: list[Bridge] = field(default_factory=list)
    bridge_of: dict[str, Bridge] = field(default_factory=dict)
    crossing_count: int = 0
    fabric: Fabric = field(default_factory=Fabric)
    blocks: Mapping[str, Block] = field(default_factory=dict)
    far: dict[str, tuple[str, str]] = field(default_factory=dict)
    port_rules: Mapping[str, PortRule] = field(default_factory=dict)
    bearers: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    doubled: frozenset[str] = frozenset()
    macs: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    doubled_macs: frozenset[str] = frozenset()
    changed: tuple[str, ...] = ()
    told: tuple[str, ...] = ()

    def team_block(self, bridge: int) -> Block | None:
        """The block of a virtual switch's bridge."""
        found = self.bridges[bridge]
        return self.blocks.get(found.id) if found.virtual else None

    def teams_at(self, bridge: int, order: str = "") -> list[Team]:
        """The teams of a virtual switch, in the order that holds for a stand."""
        block = self.team_block(bridge) if bridge >= 0 else None
        return [team for team in block.teams if team.order == order] if block else []

    def all_teams(self) -> Iterator[Team]:
        """Every team, LAGs that differ included."""
        yield from self.fabric.teams
        for block in self.blocks.values():
            yield from block.teams

    @cached_property
    def stand_of(self) -> Mapping[str, Stand]:
        """The stand of each interface, by record."""
        return {record: stand for block in self.blocks.values() for record, stand in block.stand_of.items()}

    @cached_property
    def crossed(self) -> frozenset[int]:
        """The virtual switches (bridge numbers) that frames may cross on their way."""
        return frozenset(n for n, bridge in enumerate(self.bridges) if bridge.virtual and bridge.crossing_row >= 0)

    def drops_own(self, bridge: int) -> bool:
        """Whether a virtual switch drops what its own adapters sent and a port of the fabric reflects."""
        switch = self.plan.of("virtual_switch").get(self.bridges[bridge].id) if bridge >= 0 else None
        return switch is not None and switch.returning == DROPPED

    @cached_property
    def crossing_teams(self) -> list[Team]:
        """The teams over which others' frames may go: of switches with more than one uplink, and LAGs whose members differ."""
        if not self.crossed:
            return list(self.fabric.teams)
        blocks = (self.blocks.get(id) for id in sorted(self.bridges[n].id for n in self.crossed))
        own = (team for block in blocks if block is not None for team in block.teams)
        return [*self.fabric.teams, *(team for team in own if not team.order)]

    def carry(self, before: Wiring, gone: list[Block], fresh: list[Block]) -> None:
        """Take along what the wiring before an edit worked out: nothing differs but for the blocks that are gone and fresh."""
        self.changed = tuple(dict.fromkeys(block.key for block in (*gone, *fresh)))
        if "crossed" in vars(before):
            bridges = [self.bridges[n] for n in range(len(before.bridges), len(self.bridges))]
            bridges += [self.bridges[own.number] for block in gone if (own := before.bridge_of.get(block.key))]
            may = {bridge.number for bridge in bridges}
            kept = before.crossed - may if may & before.crossed else before.crossed
            vars(self)["crossed"] = kept | {b.number for b in bridges if b.virtual and b.crossing_row >= 0}
        if "stand_of" in vars(before):
            stands: dict[str, Stand | None] = {id: None for block in gone for id in block.stand_of}
            for block in fresh:
                stands.update(block.stand_of)
            vars(self)["stand_of"] = layered(before.stand_of, stands)
        if "team_links" in vars(before):
            links = dict(before.team_links)
            for block in gone:
                for bridge, behind, pair in before._ends(block):
                    at = links[bridge] = {**links[bridge]}
                    at[behind] = [other for other in at[behind] if other[1] is not pair[1]]
            for block in fresh:
                for bridge, behind, pair in self._ends(block):
                    at = links[bridge] = {**links.get(bridge, {})}
                    at[behind] = [*at.get(behind, ()), pair]
            vars(self)["team_links"] = links

    @cached_property
    def cabled(self) -> np.ndarray:
        """int32[bridges]: the same number for bridges between which cables lead, whatever passes over them."""
        members = (m.link for team in self.all_teams() for m in team.members if m.link is not None)
        ends = np.array([link.ends for link in (*self.fabric.links, *members)], dtype=np.int64).reshape(-1, 2)
        size = len(self.bridges)
        graph = coo_array((np.ones(len(ends), dtype=np.int8), (ends[:, 0], ends[:, 1])), shape=(size, size))
        _, number = connected_components(graph.tocsr(), directed=False)
        return np.asarray(number)

    @cached_property
    def ways_out(self) -> Ways:
        """Over which routers the host ports that carry overlays reach other subnets (`forward/routed.py`)."""
        return ways_out(self.plan)

    @cached_property
    def team_links(self) -> dict[int, dict[int, list[tuple[Team, Member]]]]:
        """The uplinks' members by the bridge that they are plugged into, and by the switch to which they lead if nothing leads on from there, else -1."""
        found: dict[int, dict[int, list[tuple[Team, Member]]]] = {}
        for block in self.blocks.values():
            for bridge, behind, pair in self._ends(block):
                found.setdefault(bridge, {}).setdefault(behind, []).append(pair)
        return found

    def _ends(self, block: Block) -> Iterator[tuple[int, int, tuple[Team, Member]]]:
        """The entries of `team_links` that a block makes."""
        for team in block.teams:
            behind = team.bridge if self.bridges[team.bridge].crossing_row < 0 else -1
            for member in team.members[: team.usable]:
                if member.link is not None:
                    yield member.link.ends[1], behind, (team, member)

    def hops_to(self, bridge: int) -> Hops:
        """The fewest hops from each bridge to one, over whatever may carry; 0 where that isn't known, and everywhere where others' frames may
        go over several teams."""
        if self.crossing_teams:
            return Hops({})
        block = self.team_block(bridge)
        members = (m.link for team in (block.teams if block is not None else ()) for m in team.members)
        gates = frozenset(link.ends[1] for link in members if link is not None) - {bridge}
        if not gates:
            return self.fabric.hops(bridge)
        hops = self.fabric.hops_past(gates)
        return hops if bridge not in hops else Hops({**hops, bridge: 0})

    @cached_property
    def nearer(self) -> dict[tuple[int, str, int], list[Link]]:
        """Today's links at each bridge, for each team order, that lead nearer to a goal, as far as somebody asked (`forward/paths.py`)."""
        return {}

    @cached_property
    def usual(self) -> dict[tuple[int, str, bool], list[Link]]:
        """Today's links at each bridge, for each team order, with and without those that lead nowhere further, as far as somebody asked
        (`forward/paths.py`)."""
        return {}

    def team_called(self, key: TeamKey) -> Team | None:
        """The team that a state calls by this key."""
        uplink = self.plan.of("uplink").get(key.uplink)
        teams = self.blocks[uplink.switch].teams if uplink is not None else self.fabric.teams
        return next((team for team in teams if team.key == key), None)

    def port_behind(self, nic: str) -> FabricPort | None:
        """The fabric port that a NIC (or another port) is plugged into; None: it isn't plugged into one."""
        found: FabricPort | None = self.plan.of("fabric_port").get(self.far.get(nic, ("", ""))[0])
        return found

    def carries(self, team: Team, state: State) -> Member | None:
        """The member that carries the team in a state, None if no member can."""
        chosen = state.choice.get(team.key)
        for member in team.members[: team.usable]:
            if member.nic.id not in state.lost and chosen in (None, member.key):
                return member
        return None

    def home_block(self, record: Record) -> str:
        """The key of the block in which a place's record stands."""
        if record.kind == "station_port":
            return STATIONS
        if record.kind == "host_port":
            return str(record.switch)  # type: ignore[attr-defined]
        if record.kind == "guest_tag":
            record = self.plan.get("adapter", record.adapter)  # type: ignore[attr-defined]
        assert isinstance(record, Adapter)
        return adapter_block(self.plan, record)

    def home_blocks(self, ids: Iterable[str]) -> frozenset[str]:
        """Those of some places (records), as far as the plan has them."""
        found = (self.plan.find(id, PLACES) for id in ids)
        return frozenset(self.home_block(record) for record in found if record is not None)

    def place(self, id: str) -> Place | None:
        """The place of an adapter, guest tag, host port or station port; None if the record is no place."""
        record = self.plan.find(id, PLACES)
        return self._placed(record, self.home_block(record)) if record is not None else None

    def places_in(self, block: str, ids: Iterable[str]) -> list[Place]:
        """The places of some records (ids) that stand in a block."""
        records = (self.plan.find(id, PLACES) for id in ids)
        return [place for r in records if r is not None and (place := self._placed(r, block)) is not None]

    def _placed(self, record: Record, key: str) -> Place | None:
        """The place of a record in a block (its key)."""
        id, block = record.id, self.blocks.get(key)
        stand = block.stand_of.get(id) if block else None
        if stand is None:
            return None
        owner = record.adapter if record.kind == "guest_tag" else id  # type: ignore[attr-defined]
        return Place(id, owner, stand, record.addresses)  # type: ignore[attr-defined]

    def places_of(self, endpoint: str) -> list[Place]:
        """All places of an adapter or host port, untagged first."""
        tags = self.plan.where("guest_tag", "adapter", endpoint)
        records = (endpoint, *(t.id for t in sorted(tags, key=lambda t: t.vid))) if tags else (endpoint,)
        return [place for place in map(self.place, records) if place is not None]

    def endpoints(self) -> Iterator[str]:
        """Every adapter and host port, by id."""
        yield from sorted([*self.plan.of("adapter"), *self.plan.of("host_port")])

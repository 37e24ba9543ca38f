"""A plan's wiring, compiled: bridges, the links between them, team members, and where every endpoint stands.

The parts of one virtual switch make a *block*.  An edit compiles anew the blocks that it touches (`rewire`) and shares the others.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property
from operator import attrgetter
from typing import Any

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from aptwire.forward.around import Around
from aptwire.forward.classes import UNTAGGED, Named, VidClasses, classify
from aptwire.forward.fabric import Fabric, alike, build_fabric, least
from aptwire.forward.parts import (
    ADAPTERS,
    HOMELESS,
    NOW,
    STATIONS,
    Bridge,
    Link,
    Member,
    Place,
    Stand,
    State,
    Team,
    adapter_block,
)
from aptwire.forward.routed import Ways, ways_out
from aptwire.forward.rules import PortRule, RuleBook
from aptwire.plan.collecting import no_collecting
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import (
    Adapter,
    Cable,
    FabricPort,
    FabricSwitch,
    GuestTag,
    HostPort,
    Nic,
    PortGroup,
    Record,
    StationPort,
    Uplink,
)
from aptwire.plan.plan import Plan
from aptwire.plan.ports import group_words, said, said_of
from aptwire.plan.private import PrivatePart, private_part
from aptwire.plan.sharing import away, joining, nics_of, root, stack

__all__ = [
    "NOW",
    "Block",
    "Bridge",
    "Link",
    "Member",
    "Place",
    "Stand",
    "State",
    "Team",
    "Wiring",
    "compile_wiring",
    "rewire",
]

Touched = Iterable[tuple[str, str]]


@dataclass(eq=False)
class Block:
    """A virtual switch (or the adapters in no port group, the direct adapters of a NIC, the stations): its teams and stands.

    `stand_of` leads from a place's record to its stand; `several` lists the places of endpoints that have more than
    one; `addresses` and `macs` are pairs with the record that bears them.
    """

    key: str
    teams: list[Team] = field(default_factory=list)
    stands: list[Stand] = field(default_factory=list)
    stand_of: dict[str, Stand] = field(default_factory=dict)
    several: dict[str, list[str]] = field(default_factory=dict)
    addresses: list[tuple[str, str]] = field(default_factory=list)
    macs: list[tuple[str, str]] = field(default_factory=list)
    cache: dict[str, Any] = field(default_factory=dict)


@dataclass(eq=False)
class Wiring:
    """The compiled plan.  `far` leads from a NIC or port to what is at the other end of its cable, and the cable."""

    plan: Plan
    classes: VidClasses
    book: RuleBook
    bridges: list[Bridge] = field(default_factory=list)
    bridge_of: dict[str, Bridge] = field(default_factory=dict)
    crossing_count: int = 0
    fabric: Fabric = field(default_factory=Fabric)
    blocks: dict[str, Block] = field(default_factory=dict)
    far: dict[str, tuple[str, str]] = field(default_factory=dict)
    port_rules: dict[str, PortRule] = field(default_factory=dict)
    bearers: dict[str, tuple[str, ...]] = field(default_factory=dict)
    doubled: frozenset[str] = frozenset()
    macs: dict[str, tuple[str, ...]] = field(default_factory=dict)
    doubled_macs: frozenset[str] = frozenset()

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
    def crossing_teams(self) -> list[Team]:
        """The teams over which others' frames may go: of switches with more than one uplink, and LAGs whose members differ."""
        if not any(bridge.virtual and bridge.crossing_row >= 0 for bridge in self.bridges):
            return list(self.fabric.teams)
        own = (team for block in self.blocks.values() for team in block.teams)
        crossing = (team for team in own if not team.order and self.bridges[team.bridge].crossing_row >= 0)
        return [*self.fabric.teams, *crossing]

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
            for team in block.teams:
                behind = team.bridge if self.bridges[team.bridge].crossing_row < 0 else -1
                for member in team.members[: team.usable]:
                    if member.link is not None:
                        found.setdefault(member.link.ends[1], {}).setdefault(behind, []).append((team, member))
        return found

    @cached_property
    def usual(self) -> dict[tuple[int, str, bool], list[Link]]:
        """Today's links at each bridge, for each team order, with and without those that lead nowhere further, as far as somebody asked
        (`forward/paths.py`)."""
        return {}

    def team_called(self, key: str) -> Team | None:
        """The team that a state calls by this key."""
        uplink = self.plan.of("uplink").get(key.partition("|")[0])
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

    def place(self, id: str) -> Place | None:
        """The place of an adapter, guest tag, host port or station port; None if the record is no place."""
        record = self.plan.find(id, PLACES)
        if record is None:
            return None
        block = self.blocks.get(self.home_block(record))
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


PLACES = ("adapter", "guest_tag", "host_port", "station_port")


def compile_wiring(plan: Plan) -> Wiring:
    """The wiring of a plan as arrays and small objects; the same whatever the order of the records."""
    with no_collecting():
        classes = classify(plan)
        return _Compiler(Wiring(plan, classes, RuleBook(classes))).everything()


def rewire(before: Wiring, plan: Plan, touched: Touched) -> Wiring:
    """The wiring after an edit that touched these records, made from the wiring before it; that one stays as it was."""
    keys = list(touched)
    classes = before.book.refined(Named.by(r for kind, id in keys if (r := plan.of(kind).get(id)) is not None))
    if classes is None:
        return compile_wiring(plan)
    wiring = Wiring(
        plan,
        classes,
        before.book,
        list(before.bridges),
        dict(before.bridge_of),
        before.crossing_count,
        before.fabric,
        dict(before.blocks),
        before.far,
        dict(before.port_rules),
        before.bearers,
        before.doubled,
        before.macs,
        before.doubled_macs,
    )
    return _Compiler(wiring).after(before.plan, keys)


_id = attrgetter("id")
_PORT_WORDS = attrgetter(
    *("kind", "mode", "vid", "allowed", "native", "pvid", "members", "untagged", "admits", "isolated", "reflects"),
    *("enabled", "partial"),
)


@dataclass(eq=False, slots=True)
class _At:
    """Ports that are alike, as `Stand` has them, and who stands there by label and segment."""

    bridge: int
    rule: PortRule | None
    order: str
    reason: str
    vni: int
    over: str
    stands: dict[tuple[int, str | None], Stand] = field(default_factory=dict)


class _Compiler:
    def __init__(self, wiring: Wiring) -> None:
        self.wiring = wiring
        self.plan = wiring.plan
        self.book = wiring.book
        self._ports: dict[tuple[object, ...], _At] = {}
        self._heard: dict[tuple[int, int], tuple[int, ...]] = {}
        self._isolating: dict[str, bool] = {}
        self._group_rules: dict[tuple[object, ...], PortRule] = {}
        self._uplink_rules: dict[tuple[object, ...], PortRule] = {}

    @cached_property
    def _joined(self) -> set[str]:
        """The switches that sit on a host port of another one, and those others."""
        plan = self.plan
        return {id for u in joining(plan) for id in (u.switch, plan.get("host_port", u.over).switch)}

    @cached_property
    def _isolated_adapters(self) -> set[str]:
        """The blocks in which an adapter is isolated by its own word."""
        return {adapter_block(self.plan, adapter) for adapter in self.plan.outspoken if adapter.isolated}

    @cached_property
    def _own_ports(self) -> bool:
        """Whether any adapter's port differs from its port group's."""
        return any(adapter.own_port for adapter in self.plan.outspoken)

    def everything(self) -> Wiring:
        """All of it, from nothing."""
        plan = self.plan
        self._cables({}, plan.all(Cable))
        for kind, crossing in (("fabric_switch", True), ("assumed_fabric", True)):
            for id in sorted(plan.of(kind)):
                self._bridge(id, virtual=False, crossing=crossing, assumed=kind == "assumed_fabric")
        keys = [*sorted(plan.of("virtual_switch")), *self._nics_with_functions(), HOMELESS, STATIONS]
        for key in keys:
            self._block_bridge(key)
        for cable in sorted(plan.all(Cable), key=lambda c: c.id):
            self._wire(cable.id)
        self._fabric()
        for key in keys:
            self._block(key)
        self._holders(None, list(self.wiring.blocks.values()))
        return self.wiring

    # --- after an edit ----------------------------------------------------------------------------------------

    def after(self, old: Plan, keys: list[tuple[str, str]]) -> Wiring:
        """What an edit touched, compiled anew."""
        wiring = self.wiring
        kinds = {kind for kind, _ in keys}
        if "cable" in kinds:
            ids = [id for kind, id in keys if kind == "cable"]
            far = dict(wiring.far)
            for cable in (old.of("cable").get(id) for id in ids):
                for end in (cable.a, cable.b) if cable is not None else ():
                    far.pop(end, None)
            self._cables(far, [c for id in ids if (c := self.plan.of("cable").get(id)) is not None])
        dirty: dict[str, None] = {}
        fabric = False
        for kind, id in keys:
            for plan in (old, self.plan):
                record = plan.of(kind).get(id)
                if record is not None:
                    fabric = Around(plan, wiring, dirty).note(record) or fabric
        before_blocks = {key: wiring.blocks.get(key) for key in dirty}
        for kind, id in keys:
            if kind in ("fabric_switch", "assumed_fabric"):
                self._known(id, id in self.plan.of(kind), virtual=False, assumed=kind == "assumed_fabric")
            elif kind == "cable":
                self._wire(id)
        for key in dirty:
            if key not in (HOMELESS, STATIONS):
                self._block_bridge(key)
        if fabric:
            before = wiring.fabric
            self._fabric()
            # Whatever rests on the fabric holds on, where the edit changed nothing there.
            wiring.fabric = before if alike(before, wiring.fabric) else wiring.fabric
        for key in dirty:
            if self._stays(key):
                self._block(key)
            else:
                wiring.blocks.pop(key, None)
        fresh = [block for key in dirty if (block := wiring.blocks.get(key)) is not None]
        self._holders([b for b in before_blocks.values() if b is not None], fresh)
        return wiring

    def _stays(self, key: str) -> bool:
        return key in (HOMELESS, STATIONS) or key in self.plan.of("virtual_switch") or key in self.wiring.bridge_of

    # --- bridges and cables -----------------------------------------------------------------------------------

    def _cables(self, far: dict[str, tuple[str, str]], cables: Iterable[Cable]) -> None:
        """What is at the other end of a NIC's or port's cable: as before, and by these cables."""
        for cable in cables:
            far[cable.a] = (cable.b, cable.id)
            far[cable.b] = (cable.a, cable.id)
        self.wiring.far = far

    def _bridge(self, id: str, virtual: bool, crossing: bool, assumed: bool = False) -> Bridge:
        """The bridge of this id; numbers once given stay, so that what refers to them needn't be made anew."""
        wiring = self.wiring
        known = wiring.bridge_of.get(id)
        if known is not None and (known.crossing_row >= 0) == crossing:
            return known
        number = known.number if known is not None else len(wiring.bridges)
        bridge = Bridge(number, id, virtual, wiring.crossing_count if crossing else -1, assumed)
        wiring.crossing_count += crossing
        if known is None:
            wiring.bridges.append(bridge)
        else:
            wiring.bridges[number] = bridge
        wiring.bridge_of[id] = bridge
        return bridge

    def _known(self, id: str, there: bool, virtual: bool, assumed: bool = False) -> None:
        if there:
            self._bridge(id, virtual, crossing=True, assumed=assumed)
        else:
            self.wiring.bridge_of.pop(id, None)

    def _block_bridge(self, key: str) -> None:
        """The bridge of a block: a virtual switch, or a NIC whose virtual functions are in use."""
        plan = self.plan
        if key in plan.of("virtual_switch"):
            uplinks = plan.where("uplink", "switch", key)
            reflecting = any(uplink.reflects for uplink in uplinks)
            self._bridge(key, virtual=True, crossing=key in self._joined or reflecting or len(uplinks) > 1)
        elif key in plan.of("nic") and any(a.type == "direct" for a in plan.where("adapter", "function_of", key)):
            self._bridge(key, virtual=False, crossing=True)
        elif key not in (HOMELESS, STATIONS):
            self.wiring.bridge_of.pop(key, None)

    @staticmethod
    def _functions(plan: Plan) -> bool:
        return any(plan.having("adapter", "function_of"))

    def _nics_with_functions(self) -> list[str]:
        return sorted({a.function_of for a in self.plan.having("adapter", "function_of")})

    def _wire(self, cable: str) -> None:
        """The middle of a cable between two hosts is a bridge of its own."""
        record = self.plan.of("cable").get(cable)
        nics = self.plan.of("nic")
        if record is not None and record.a in nics and record.b in nics:
            self._bridge(cable, virtual=False, crossing=True)
        else:
            self.wiring.bridge_of.pop(cable, None)

    def _rule_of(self, port: str) -> PortRule:
        rule = self.wiring.port_rules.get(port)
        if rule is None:
            record = self.plan.get("fabric_port", port)
            part = private_part(self.plan, record.vid) if record.mode == "private" else None
            switch = self.plan.get("fabric_switch", record.switch)
            rule = self._fabric_rule(switch, record, part)
            self.wiring.port_rules[port] = rule
        return rule

    def _fabric(self) -> None:
        wiring, plan = self.wiring, self.plan
        fabric = build_fabric(plan, self.book, wiring.bridge_of, wiring.far, self._rule_of)
        for uplink in joining(plan):
            port = plan.get("host_port", uplink.over)
            ends = (wiring.bridge_of[uplink.switch].number, wiring.bridge_of[port.switch].number)
            bared = plan.get("virtual_switch", port.switch).host_untagged
            below = self.book.host_port(port.vid, self._apart(port.switch), bared, tagged=True)
            rules = (self._uplink_rule(uplink), below)
            fabric.add(Link(f"{uplink.id}>{port.id}", ends, rules, ((uplink.id,), (port.id,)), None))
        for id in self._nics_with_functions():
            nic = plan.get("nic", id)
            bridge = wiring.bridge_of[id].number
            far = self._far_end(nic)
            if isinstance(far, str):
                continue
            if far is None:
                fabric.open_ports.append((bridge, self.book.wire(), id))
            else:
                other, rule, records, cable, mtu = far
                mine, size = ((id,), records), least(nic.mtu, mtu)
                link = Link(f"{id}> functions", (bridge, other), (self.book.wire(), rule), mine, cable, id, size)
                beside = self._beside(nic)
                if beside:
                    deaf = self.book.wire(one_way=True)
                    members = [Member(nic, link, open=False)]
                    for peer in beside:
                        back = Link(f"{link.key}<{peer.id}", link.ends, (deaf, rule), mine, cable, id, size, peer.id)
                        members.append(Member(peer, back, open=False, one_way=True))
                    lag = plan.get("lag", self._lag_of(nic))
                    fabric.teams.append(Team(lag, bridge, rule, tuple(members), len(members), id))
                elif beside is not None:
                    fabric.add(link)
        wiring.fabric = fabric

    def _beside(self, nic: Nic) -> list[Nic] | None:
        """The NICs over which the far side's LAG may send what is for a NIC's virtual functions; None: it blocks the NIC's port.

        What comes in over another NIC of the team gets to the virtual switch, and never back to the NIC's own (IEEE 802.1AX
        clause 6.2: a LAG is one port).
        """
        plan = self.plan
        port, uplink = self.wiring.port_behind(nic.id), plan.of("uplink").get(nic.uplink)
        lag = plan.of("lag").get(port.lag) if port is not None else None
        if lag is None:
            return []
        if not lag.lacp:
            ends = [
                self.wiring.far.get(p.id, ("", ""))[0] for p in plan.where("fabric_port", "lag", lag.id) if p.enabled
            ]
            found = [plan.of("nic").get(end) for end in sorted(ends)]
            return [n for n in found if n is not None and n.id != nic.id and n.link == "up"]
        if uplink is not None and uplink.mode == "lacp":
            bridge = self.wiring.bridge_of[uplink.switch].number
            team = self._team(uplink, bridge, nics_of(plan, uplink), "")
            together = [m.nic for m in team.members if not m.dead and self._lag_of(m.nic) == lag.id]
            if nic in together:
                return [n for n in together if n is not nic and isinstance(n, Nic)]
        return [] if lag.individual else None

    # --- blocks -----------------------------------------------------------------------------------------------

    def _far_end(self, nic: Nic) -> tuple[int, PortRule, tuple[str, ...], str | None, int] | str | None:
        """What a NIC is plugged into: bridge, rule, records, cable, MTU; None: nobody knows; text: why nothing passes there."""
        wiring, plan = self.wiring, self.plan
        if nic.link == "down":
            return "has no link"
        other, cable = wiring.far.get(nic.id, (None, None))
        if other is None:
            found = plan.where("assumed_fabric", "site", plan.get("host", nic.host).site)
            if not found:
                return None
            return (wiring.bridge_of[found[0].id].number, self.book.assumed(found[0]), (found[0].id,), None, 0)
        port = plan.of("fabric_port").get(other)
        if port is not None:
            if not port.enabled:
                return f"is plugged into port {port.name}, which is disabled"
            mtu = least(port.mtu, plan.get("fabric_switch", port.switch).mtu)
            return (wiring.bridge_of[port.switch].number, self._rule_of(port.id), (port.id,), cable, mtu)
        peer = plan.get("nic", other)
        if peer.uplink is None or peer.link == "down":
            return f"is plugged into {peer.name}, which is in no uplink or has no link"
        assert cable is not None
        return (wiring.bridge_of[cable].number, self.book.wire(), (), cable, least(peer.mtu))

    def _member(self, bridge: int, uplink: Uplink, nic: Nic, role: str, order: str) -> Member:
        mine = (uplink.id, nic.id)
        if role == "excluded":
            return Member(nic, None, open=False, dead="is excluded", excluded=True)
        if nic.wireless and (order or self.wiring.bridges[bridge].crossing_row >= 0):
            return Member(nic, None, open=False, dead="is wireless and sends with the host’s own address only")
        rule = self._uplink_rule(uplink, wireless=nic.wireless)
        key = f"{uplink.id}>{nic.id}"
        functions = self.wiring.bridge_of.get(nic.id)
        if functions is not None and nic.link == "up":
            ends = (bridge, functions.number)
            return Member(
                nic, Link(key, ends, (rule, self.book.wire()), (mine, ()), None, nic.id, least(nic.mtu)), open=False
            )
        far = self._far_end(nic)
        if isinstance(far, str):
            return Member(nic, None, open=False, dead=far)
        if far is None:
            return Member(nic, None, open=True)
        other, far_rule, records, cable, mtu = far
        link = Link(key, (bridge, other), (rule, far_rule), (mine, records), cable, nic.id, least(nic.mtu, mtu))
        return Member(nic, link, open=False)

    def _lag_of(self, nic: Nic | FabricPort) -> str | None:
        port = self.wiring.port_behind(nic.id)
        return port.lag if port is not None else None

    def _aggregated(self, uplink: Uplink, members: list[Member]) -> list[Member]:
        """What the far side's LAGs make of a team (IEEE 802.1AX clause 6.3): who is blocked, who gets answers over another NIC."""
        lags = {m.nic.id: self.plan.of("lag").get(self._lag_of(m.nic)) for m in members if isinstance(m.nic, Nic)}
        if not any(lags.values()) and uplink.mode != "lacp":
            return members
        made: list[Member] = []
        best = ""
        if uplink.mode == "lacp":
            spoken = [lag.id for m in members if m.link and (lag := lags[m.nic.id]) is not None and lag.lacp]
            best = max(dict.fromkeys(spoken), key=spoken.count, default="")
        together = [m for m in members if m.link and (lag := lags[m.nic.id]) is not None and lag.id == best]
        speeds = [m.nic.speed for m in together if m.nic.speed]
        pace = max(dict.fromkeys(speeds), key=speeds.count, default=None)
        for member in members:
            lag = lags[member.nic.id]
            if member.link is None:
                made.append(member)
            elif uplink.mode == "lacp" and best and (lag is None or lag.id != best):
                made.append(Member(member.nic, None, open=False, dead="is not in the LAG of the others"))
            elif uplink.mode == "lacp" and best and pace and member.nic.speed not in (None, pace):
                made.append(Member(member.nic, None, open=False, dead="does another speed than the rest of the LAG"))
            elif uplink.mode != "lacp" and lag is not None and lag.lacp and not lag.individual:
                made.append(
                    Member(member.nic, None, open=False, dead=f"gets no LACP answer, so {lag.name} blocks its port")
                )
            else:
                made.append(member)
        one_carries = uplink.mode in ("standby", "pinned") or (uplink.mode == "lacp" and not best)
        for member in list(made) if one_carries else ():
            lag = lags[member.nic.id]
            same = [m for m in made if lag is not None and m.link and lags[m.nic.id] is lag]
            if member.link is None or lag is None or lag.lacp or len(same) < 2:
                continue
            assert isinstance(member.nic, Nic)
            rule = self._uplink_rule(uplink, wireless=member.nic.wireless, one_way=True)
            link = member.link
            back = replace(link, key=f"{link.key}<", rules=(rule, link.rules[1]), back_over=member.nic.id)
            made.append(Member(member.nic, back, open=False, one_way=True))
        return made

    def _team(self, uplink: Uplink, bridge: int, nics: list[Nic], order: str) -> Team:
        own = {o.nic: o for o in self.plan.where("group_order", "port_group", order)} if order else {}

        def role(nic: Nic) -> str:
            return own[nic.id].role if nic.id in own else nic.role

        def place(nic: Nic) -> tuple[object, ...]:
            dead = nic.link == "down" or role(nic) == "excluded"
            first = nic.id != uplink.carries if not own else False
            rank = own[nic.id].rank if nic.id in own else nic.rank
            return (dead, first, role(nic) != "active", rank, nic.name, nic.id)

        members = [self._member(bridge, uplink, nic, role(nic), order) for nic in sorted(nics, key=place)]
        members = self._aggregated(uplink, members)
        members.sort(key=lambda m: (bool(m.dead), m.one_way))
        return Team(uplink, bridge, self._uplink_rule(uplink), tuple(members), sum(not m.dead for m in members), order)

    def _uplink_rule(self, uplink: Uplink, wireless: bool = False, one_way: bool = False) -> PortRule:
        """An uplink's rule on its switch, with the tags that it puts on and those that others take off its NICs."""
        key = (uplink.id, wireless, one_way)
        rule = self._uplink_rules.get(key)
        if rule is None:
            plan, filters = self.plan, self.plan.get("virtual_switch", uplink.switch).filters
            apart, push = self._apart(uplink.switch), stack(plan, uplink)
            rule = self.book.uplink(uplink, wireless, one_way, filters, apart, push, away(plan, uplink))
            self._uplink_rules[key] = rule
        return rule

    def _fabric_rule(self, switch: FabricSwitch, port: FabricPort, part: PrivatePart | None) -> PortRule:
        """A fabric port's rule; ports that say the same are worked out once."""
        apart = self._isolating.get(switch.id)
        if apart is None:
            ports = self.plan.where("fabric_port", "switch", switch.id)
            apart = self._isolating[switch.id] = any(other.isolated for other in ports)
        key = (*_PORT_WORDS(port), switch.managed, switch.vlans, part, apart)
        rule = self._group_rules.get(key)
        if rule is None:
            rule = self._group_rules[key] = self.book.fabric_port(switch, port, part, apart)
        return rule

    def _group_rule(self, group: PortGroup, part: PrivatePart | None, filters: bool, apart: bool) -> PortRule:
        """A port group's rule; groups that say the same in the same words, which is most of a fleet, are worked out once."""
        key = (*group_words(group), part, filters, apart)
        rule = self._group_rules.get(key)
        if rule is None:
            rule = (
                self.book.port_group(group, part, apart=apart) if filters else self.book.unfiltered(said(group), apart)
            )
            self._group_rules[key] = rule
        return rule

    def _apart(self, switch: str) -> bool:
        """Whether a virtual switch has isolated ports."""
        known = self._isolating.get(switch)
        if known is None:
            plan = self.plan
            groups = plan.where("port_group", "switch", switch)
            ports = (*groups, *plan.where("uplink", "switch", switch))
            known = switch in self._isolated_adapters or any(port.isolated for port in ports)
            self._isolating[switch] = known
        return known

    def _block(self, key: str) -> None:
        block = self.wiring.blocks[key] = Block(key)
        self._ports = {}
        if key in self.plan.of("virtual_switch"):
            self._switch(block)
        elif key == STATIONS:
            self._stations(block)
        elif key == HOMELESS:
            adapters = [a for a in self.plan.where("adapter", "port_group", None) if a.type != "direct"]
            self._seats(block, adapters, self._at(-1, None, "", "is in no port group"))
        elif key in self.wiring.bridge_of:
            bridge = self.wiring.bridge_of[key].number
            for adapter in sorted(self.plan.where("adapter", "function_of", key), key=lambda a: a.id):
                self._seats(block, [adapter], self._at(bridge, self.book.function(adapter.function_vid)))
        else:
            del self.wiring.blocks[key]

    def _switch(self, block: Block) -> None:
        plan, bridge = self.plan, self.wiring.bridge_of[block.key].number
        # A share of another uplink goes over that one's NICs, as that one chooses among them.
        uplinks = [
            replace(u, mode=base.mode, carries=base.carries, detect=base.detect)
            if (base := root(plan, u)) is not u
            else u
            for u in sorted(plan.where("uplink", "switch", block.key), key=_id)
            if u.over not in plan.of("host_port")
        ]
        nics = {uplink.id: nics_of(plan, uplink) for uplink in uplinks}
        switch = plan.get("virtual_switch", block.key)
        filters, apart = switch.filters, self._apart(block.key)
        wireless = len(uplinks) == 1 and any(nic.wireless for nic in nics[uplinks[0].id])
        groups = sorted(plan.where("port_group", "switch", block.key), key=lambda g: g.id)
        orders = [g.id for g in groups if plan.where("group_order", "port_group", g.id)]
        for order in ["", *orders, *([ADAPTERS] if wireless else [])]:
            block.teams.extend(self._team(uplink, bridge, nics[uplink.id], order) for uplink in uplinks)
        ports = sorted(plan.where("host_port", "switch", block.key), key=lambda p: p.id)
        for port in ports:
            rule = self.book.host_port(port.vid, apart, switch.host_untagged)
            self._stand(block, port, self._at(bridge, rule), UNTAGGED, port.connected)
        for group in groups:
            if group.mode == "overlay":
                continue
            part = private_part(plan, group.vid) if group.mode == "private" else None
            order = group.id if group.id in orders else ADAPTERS if wireless else ""
            alike = plan.where("adapter", "port_group", group.id)
            odd = [adapter for adapter in alike if adapter.own_port] if self._own_ports else []
            if odd:
                alike = [adapter for adapter in alike if not adapter.own_port]
            for adapter in odd:
                words = said_of(adapter, group)
                if not filters:
                    rule = self.book.unfiltered(words, apart)
                else:
                    rule = self.book.port_group(group, part if adapter.members is None else None, words, apart)
                self._seats(block, [adapter], self._at(bridge, rule, order))
            if alike:
                rule = self._group_rule(group, part, filters, apart)
                self._seats(block, alike, self._at(bridge, rule, order))
        for port in ports:
            for group in sorted(plan.where("port_group", "over", port.id), key=lambda g: g.id):
                rule = self.book.port_group(group)
                reason = "" if port.connected else f"is carried by host port {port.name}, which is disconnected"
                at = self._at(bridge, rule, "", reason, group.vni, port.id)
                self._seats(block, plan.where("adapter", "port_group", group.id), at)

    def _stations(self, block: Block) -> None:
        plan = self.plan
        for record in sorted(plan.all(StationPort), key=_id):
            port = plan.get("fabric_port", record.port)
            bridge = self.wiring.bridge_of[port.switch].number
            label = int(self.wiring.classes.of[record.vid]) if record.vid else UNTAGGED
            self._stand(block, record, self._at(bridge, self._rule_of(port.id)), label, True, judged=False)

    def _at(
        self, bridge: int, rule: PortRule | None, order: str = "", reason: str = "", vni: int = 0, over: str = ""
    ) -> _At:
        key = (bridge, rule.number if rule else -1, order, reason, vni, over)
        found = self._ports.get(key)
        if found is None:
            found = self._ports[key] = _At(bridge, rule, order, reason, vni, over)
        return found

    def _seats(self, block: Block, adapters: list[Adapter], at: _At) -> None:
        """Put adapters that sit alike onto their stands."""
        tagged, guests = self.plan.grouped("guest_tag", "adapter"), self.plan.of("guest")
        for adapter in sorted(adapters, key=_id):
            if adapter.mac:
                block.macs.append((adapter.mac, adapter.id))
            tags = tagged.get(adapter.id)
            if not tags:
                self._stand(block, adapter, at, UNTAGGED, adapter.connected and guests[adapter.guest].running)
                continue
            places: list[str] = []
            if adapter.belongs is not None or adapter.addresses:
                places.append(adapter.id)
                self._stand(block, adapter, at, UNTAGGED, None)
            for tag in sorted(tags, key=lambda t: t.vid):
                places.append(tag.id)
                self._stand(block, tag, at, int(self.wiring.classes.of[tag.vid]), None)
            block.several[adapter.id] = places

    def _stand(
        self,
        block: Block,
        record: Adapter | HostPort | GuestTag | StationPort,
        at: _At,
        label: int,
        awake: bool | None,
        judged: bool = True,
    ) -> None:
        """Put a place onto its stand; `awake` None: its endpoint has other places too."""
        stand = at.stands.get((label, record.belongs))
        if stand is None:
            stand = self._new_stand(block, at, label, record.belongs, judged)
            block.stands.append(stand)
            rule = at.rule
            # Isolated ports don't even hear each other, so that none stands for another.
            if rule is None or not rule.private or at.reason or rule.out[rule.into[label]] >= 0:
                at.stands[label, record.belongs] = stand
        stand.records.append(record.id)
        block.stand_of[record.id] = stand
        if awake is not None:
            stand.awake += awake
            stand.asleep += not awake
        for address in record.addresses:
            block.addresses.append((bare_address(address), record.id))

    def _new_stand(self, block: Block, at: _At, label: int, segment: str | None, judged: bool) -> Stand:
        bridge, rule, order, reason, vni, over = at.bridge, at.rule, at.order, at.reason, at.vni, at.over
        context = int(rule.into[label]) if rule is not None and not reason else -1
        hears = self._hears(rule, label) if rule is not None and not reason else ()
        carrier = None
        if vni and not reason:
            carrier = block.stand_of[over]
            if label != UNTAGGED:
                context, reason = -1, "carries untagged frames only"
            else:
                context, hears = carrier.context, carrier.hears
        elif context < 0 and not reason:
            reason = (
                f"drops frames that arrive {'tagged ' + str(self.wiring.classes.vid(label)) if label else 'untagged'}"
            )
        return Stand(
            block.key,
            len(block.stands),
            bridge,
            rule,
            label,
            context,
            hears,
            segment,
            order,
            judged,
            reason,
            vni,
            over,
            carrier,
        )

    def _hears(self, rule: PortRule, label: int) -> tuple[int, ...]:
        """The contexts whose frames leave a port with a label."""
        key = (rule.number, label)
        if key not in self._heard:
            self._heard[key] = tuple(np.flatnonzero(rule.out == label).tolist())
        return self._heard[key]

    # --- addresses across the fleet ---------------------------------------------------------------------------

    def _holders(self, before: list[Block] | None, after: list[Block]) -> None:
        """Who bears each IP and MAC address, and which addresses several bear."""
        wiring = self.wiring
        if before is None:
            wiring.bearers, wiring.doubled = _tally(after, "addresses")
            wiring.macs, wiring.doubled_macs = _tally(after, "macs")
            return
        wiring.bearers, wiring.doubled = _recount(wiring.bearers, wiring.doubled, before, after, "addresses")
        wiring.macs, wiring.doubled_macs = _recount(wiring.macs, wiring.doubled_macs, before, after, "macs")


def _tally(blocks: list[Block], what: str) -> tuple[dict[str, tuple[str, ...]], frozenset[str]]:
    found: dict[str, list[str]] = {}
    for block in blocks:
        for address, record in getattr(block, what):
            found.setdefault(address, []).append(record)
    held = {address: tuple(records) for address, records in found.items()}
    return held, frozenset(address for address, records in held.items() if len(records) > 1)


def _recount(
    held: dict[str, tuple[str, ...]], doubled: frozenset[str], before: list[Block], after: list[Block], what: str
) -> tuple[dict[str, tuple[str, ...]], frozenset[str]]:
    gone = [pair for block in before for pair in getattr(block, what)]
    come = [pair for block in after for pair in getattr(block, what)]
    if gone == come:
        return held, doubled
    made = dict(held)
    for address, record in gone:
        rest = tuple(r for r in made.get(address, ()) if r != record)
        if rest:
            made[address] = rest
        else:
            made.pop(address, None)
    for address, record in come:
        made[address] = (*made.get(address, ()), record)
    several = set(doubled)
    for address, _ in (*gone, *come):
        if len(made.get(address, ())) > 1:
            several.add(address)
        else:
            several.discard(address)
    return made, frozenset(several)

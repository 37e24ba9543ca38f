"""Compiles a plan's wiring: from nothing, or after an edit what it touched."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, MutableMapping
from functools import cached_property

from aptwire.forward.around import Around
from aptwire.forward.classes import Named, classify
from aptwire.forward.fabric import Changed, FabricMaker, Laid, least
from aptwire.forward.parts import HOMELESS, STATIONS, Bridge, Link, Member, Team
from aptwire.forward.portrules import PortRules
from aptwire.forward.rules import PortRule, RuleBook
from aptwire.forward.seating import Seating
from aptwire.forward.teams import Teams
from aptwire.forward.wiring import Block, Wiring
from aptwire.plan.collecting import no_collecting
from aptwire.plan.kinds import Cable
from aptwire.plan.layers import Draft, layered
from aptwire.plan.plan import Plan
from aptwire.plan.sharing import joining

Touched = Iterable[tuple[str, str]]


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
        before.bridges,
        before.bridge_of,
        before.crossing_count,
        before.fabric,
        Draft(before.blocks),
        before.far,
        before.port_rules,
        before.bearers,
        before.doubled,
        before.macs,
        before.doubled_macs,
    )
    return _Compiler(wiring).after(before, keys)


class _Compiler:
    def __init__(self, wiring: Wiring) -> None:
        self.wiring = wiring
        self._shared = wiring.bridges
        self.blocks: MutableMapping[str, Block] = wiring.blocks  # type: ignore[assignment]
        self.plan = wiring.plan
        self.book = wiring.book
        self.rules = PortRules(wiring)
        self.teams = Teams(wiring, self.rules)
        self.seating = Seating(wiring, self.blocks, self.rules, self.teams)

    @cached_property
    def _joined(self) -> set[str]:
        """The switches that sit on a host port of another one, and those others."""
        plan = self.plan
        return {id for u in joining(plan) for id in (u.switch, plan.get("host_port", u.over).switch)}

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
            self.seating.block(key)
        self._holders(None, list(self.wiring.blocks.values()))
        self.wiring.port_rules = self.rules.ports.done()
        return self.wiring

    def after(self, before: Wiring, keys: list[tuple[str, str]]) -> Wiring:
        """What an edit touched, compiled anew."""
        wiring, old = self.wiring, before.plan
        kinds = {kind for kind, _ in keys}
        if "cable" in kinds:
            ids = [id for kind, id in keys if kind == "cable"]
            far = dict(wiring.far)
            for cable in (old.of("cable").get(id) for id in ids):
                for end in (cable.a, cable.b) if cable is not None else ():
                    far.pop(end, None)
            self._cables(far, [c for id in ids if (c := self.plan.of("cable").get(id)) is not None])
        dirty: dict[str, None] = {}
        told: dict[str, None] = {}
        ports: set[str] = set()
        fabric = False
        for kind, id in keys:
            for plan in (old, self.plan):
                record = plan.of(kind).get(id)
                if record is not None:
                    fabric = Around(plan, wiring, dirty, ports, told).note(record) or fabric
        for id in ports:
            self.rules.ports.pop(id, None)
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
            cables = {id for kind, id in keys if kind == "cable"}
            self._fabric(Changed(ports, cables, "fabric_switch" in kinds))
        for key in dirty:
            if self._stays(key):
                self.seating.block(key)
            else:
                self.blocks.pop(key, None)
        wiring.told = tuple(key for key in told if key not in dirty)
        for key in wiring.told:
            self.blocks[key] = self.blocks[key].told()
        wiring.blocks = self.blocks.done() if isinstance(self.blocks, Draft) else self.blocks
        wiring.port_rules = self.rules.ports.done()
        fresh = [block for key in dirty if (block := wiring.blocks.get(key)) is not None]
        gone = [block for block in before_blocks.values() if block is not None]
        self._holders(gone, fresh)
        wiring.carry(before, gone, fresh)
        return wiring

    def _stays(self, key: str) -> bool:
        return key in (HOMELESS, STATIONS) or key in self.plan.of("virtual_switch") or key in self.wiring.bridge_of

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
        self._own_bridges()
        if known is None:
            wiring.bridges.append(bridge)
        else:
            wiring.bridges[number] = bridge
        wiring.bridge_of[id] = bridge
        return bridge

    def _own_bridges(self) -> None:
        """Let the bridges be this wiring's own, before one comes or goes; until then they are those of the wiring before."""
        wiring = self.wiring
        if wiring.bridges is self._shared:
            wiring.bridges, wiring.bridge_of = list(wiring.bridges), dict(wiring.bridge_of)

    def _no_bridge(self, id: str) -> None:
        if id in self.wiring.bridge_of:
            self._own_bridges()
            del self.wiring.bridge_of[id]

    def _known(self, id: str, there: bool, virtual: bool, assumed: bool = False) -> None:
        if there:
            self._bridge(id, virtual, crossing=True, assumed=assumed)
        else:
            self._no_bridge(id)

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
            self._no_bridge(key)

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
            self._no_bridge(cable)

    def _fabric(self, changed: Changed | None = None) -> None:
        """The fabric, from nothing or from the one before an edit."""
        wiring = self.wiring
        maker = FabricMaker(self.plan, self.book, wiring.bridge_of, wiring.far, self.rules.fabric_port)
        wiring.fabric = maker.make(self._hosts_join(), wiring.fabric if changed is not None else None, changed)

    def _hosts_join(self) -> Laid:
        """What hosts themselves join: switches that sit upon host ports, and NICs whose virtual functions are in use."""
        wiring, plan = self.wiring, self.plan
        links: list[Link] = []
        teams: list[Team] = []
        opened: list[tuple[int, PortRule, str]] = []
        for uplink in joining(plan):
            port = plan.get("host_port", uplink.over)
            ends = (wiring.bridge_of[uplink.switch].number, wiring.bridge_of[port.switch].number)
            bared = plan.get("virtual_switch", port.switch).host_untagged
            below = self.book.host_port(port.vid, self.rules.apart(port.switch), bared, tagged=True)
            rules = (self.rules.uplink(uplink), below)
            links.append(Link(f"{uplink.id}>{port.id}", ends, rules, ((uplink.id,), (port.id,)), None))
        for id in self._nics_with_functions():
            nic = plan.get("nic", id)
            bridge = wiring.bridge_of[id].number
            far = self.teams.far_end(nic)
            if isinstance(far, str):
                continue
            if far is None:
                opened.append((bridge, self.book.wire(), id))
            else:
                other, rule, records, cable, mtu = far
                mine, size = ((id,), records), least(nic.mtu, mtu)
                link = Link(f"{id}> functions", (bridge, other), (self.book.wire(), rule), mine, cable, id, size)
                beside = self.teams.beside(nic)
                if beside:
                    deaf = self.book.wire(one_way=True)
                    members = [Member(nic, link, open=False)]
                    for peer in beside:
                        back = Link(f"{link.key}<{peer.id}", link.ends, (deaf, rule), mine, cable, id, size, peer.id)
                        members.append(Member(peer, back, open=False, one_way=True))
                    lag = plan.get("lag", self.teams.lag_of(nic))
                    teams.append(Team(lag, bridge, rule, tuple(members), len(members), id))
                elif beside is not None:
                    links.append(link)
        return Laid(tuple(links), tuple(teams), tuple(opened))

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
    held: Mapping[str, tuple[str, ...]], doubled: frozenset[str], before: list[Block], after: list[Block], what: str
) -> tuple[Mapping[str, tuple[str, ...]], frozenset[str]]:
    gone = dict.fromkeys(pair for block in before for pair in getattr(block, what))
    come = dict.fromkeys(pair for block in after for pair in getattr(block, what))
    changed: dict[str, tuple[str, ...]] = {}
    for address, record in (pair for pair in gone if pair not in come):
        changed[address] = tuple(r for r in changed.get(address, held.get(address, ())) if r != record)
    for address, record in (pair for pair in come if pair not in gone):
        changed[address] = (*changed.get(address, held.get(address, ())), record)
    if not changed:
        return held, doubled
    several = doubled - changed.keys() | {address for address, records in changed.items() if len(records) > 1}
    return layered(held, {address: records or None for address, records in changed.items()}), several

"""A plan's wiring, compiled: bridges, the links between them, team members, and where every endpoint sits."""

from __future__ import annotations

from dataclasses import dataclass, field

from aptwire.forward.classes import UNTAGGED, VidClasses, classify
from aptwire.forward.rules import PortRule, RuleBook
from aptwire.plan.kinds import Adapter, GuestTag, HostPort, Nic, Uplink
from aptwire.plan.plan import Plan


@dataclass(frozen=True, eq=False)
class Bridge:
    """Something that forwards: a virtual switch, a fabric switch, an assumed fabric, or a bare cable between hosts.

    `trunk` is its row among the bridges that frames may cross on their way (-1: a virtual switch with at most
    one uplink, where every way ends).
    """

    number: int
    id: str
    virtual: bool
    trunk: int
    assumed: bool = False


@dataclass(frozen=True, eq=False)
class Link:
    """A way between two bridges.  Each end: the bridge, its port's rule, the records of that port from inside out."""

    number: int
    ends: tuple[int, int]
    rules: tuple[PortRule, PortRule]
    records: tuple[tuple[str, ...], tuple[str, ...]]
    cable: str | None
    nic: str | None = None

    def side(self, bridge: int) -> int:
        """0 or 1: the end that is on the bridge."""
        return 0 if self.ends[0] == bridge else 1


@dataclass(frozen=True, eq=False)
class Member:
    """A NIC of an uplink: its link, or None with the reason (`open`: nothing is plugged in; else it is dead)."""

    nic: Nic
    link: Link | None
    open: bool
    dead: str = ""


@dataclass(frozen=True, eq=False)
class Team:
    """An uplink: its members in the order in which they would carry, those without link last."""

    uplink: Uplink
    bridge: int
    rule: PortRule
    members: tuple[Member, ...]
    usable: int


@dataclass(frozen=True, eq=False)
class Place:
    """One endpoint on one tag: where its frames enter.

    `context` is the class in its switch, -1 where they are dropped at once (`reason` says why); `record` is
    the adapter, guest tag or host port; `endpoint` the adapter or host port that owns it.
    """

    number: int
    endpoint: str
    record: str
    bridge: int
    rule: PortRule | None
    label: int
    context: int
    segment: str | None
    addresses: tuple[str, ...]
    reason: str = ""


@dataclass(eq=False)
class Wiring:
    """The compiled plan."""

    plan: Plan
    classes: VidClasses
    bridges: list[Bridge] = field(default_factory=list)
    links: list[Link] = field(default_factory=list)
    teams: list[Team] = field(default_factory=list)
    places: list[Place] = field(default_factory=list)
    bridge_of: dict[str, Bridge] = field(default_factory=dict)
    teams_of: dict[int, list[Team]] = field(default_factory=dict)
    fabric_links: list[Link] = field(default_factory=list)
    open_ports: list[tuple[int, PortRule, str]] = field(default_factory=list)
    places_of: dict[str, list[Place]] = field(default_factory=dict)
    group_rules: dict[str, PortRule] = field(default_factory=dict)
    trunk_count: int = 0

    def carries(self, team: Team, state: State) -> Member | None:
        """The member that carries the team in a state, None if no member can."""
        chosen = state.choice.get(team.uplink.id)
        for number, member in enumerate(team.members):
            if number < team.usable and member.nic.id not in state.lost and chosen in (None, member.nic.id):
                return member
        return None


@dataclass(frozen=True)
class State:
    """What carries: uplinks with another member than today's, and NICs whose link is lost."""

    choice: dict[str, str] = field(default_factory=dict)
    lost: frozenset[str] = frozenset()


NOW = State()


def compile_wiring(plan: Plan) -> Wiring:
    """The wiring of a plan as arrays and small objects; deterministic, whatever the order of the records."""
    classes = classify(plan)
    book = RuleBook(classes)
    wiring = Wiring(plan=plan, classes=classes)
    uplinks: dict[str, list[Uplink]] = {}
    for uplink in plan.all("uplink"):
        uplinks.setdefault(uplink.switch, []).append(uplink)

    def add_bridge(id: str, virtual: bool, crossing: bool, assumed: bool = False) -> Bridge:
        bridge = Bridge(len(wiring.bridges), id, virtual, wiring.trunk_count if crossing else -1, assumed)
        wiring.trunk_count += crossing
        wiring.bridges.append(bridge)
        wiring.bridge_of[id] = bridge
        return bridge

    for id in sorted(plan.of("fabric_switch")):
        add_bridge(id, virtual=False, crossing=True)
    for id in sorted(plan.of("assumed_fabric")):
        add_bridge(id, virtual=False, crossing=True, assumed=True)
    for id in sorted(plan.of("virtual_switch")):
        add_bridge(id, virtual=True, crossing=len(uplinks.get(id, ())) > 1)

    _cable_up(wiring, book, uplinks, add_bridge)
    _place_endpoints(wiring, book)
    return wiring


def _cable_up(wiring: Wiring, book: RuleBook, uplinks: dict[str, list[Uplink]], add_bridge) -> None:  # type: ignore[no-untyped-def]
    plan = wiring.plan
    far: dict[str, tuple[str, str]] = {}
    for cable in plan.all("cable"):
        far[cable.a] = (cable.b, cable.id)
        far[cable.b] = (cable.a, cable.id)
    for switch in plan.all("fabric_switch"):
        if switch.partial:
            wiring.open_ports.append((wiring.bridge_of[switch.id].number, book.unknown(switch), switch.id))
    ports = plan.of("fabric_port")
    port_rules = {id: book.fabric_port(plan.get("fabric_switch", port.switch), port) for id, port in ports.items()}
    assumed = {record.site: record for record in plan.all("assumed_fabric")}
    nics: dict[str, list[Nic]] = {}
    for nic in plan.all("nic"):
        if nic.uplink is not None:
            nics.setdefault(nic.uplink, []).append(nic)

    def add_link(ends, rules, records, cable, nic=None) -> Link:  # type: ignore[no-untyped-def]
        link = Link(len(wiring.links), ends, rules, records, cable, nic)
        wiring.links.append(link)
        return link

    for id in sorted(ports):
        port = ports[id]
        bridge = wiring.bridge_of[port.switch].number
        other, cable = far.get(id, (None, None))
        if other is None:
            if port.enabled:
                wiring.open_ports.append((bridge, port_rules[id], id))
        elif other in ports and id < other:
            ends = (bridge, wiring.bridge_of[ports[other].switch].number)
            if ends[0] != ends[1]:
                link = add_link(ends, (port_rules[id], port_rules[other]), ((id,), (other,)), cable)
                wiring.fabric_links.append(link)

    def member(team_bridge: int, uplink: Uplink, rule: PortRule, nic: Nic) -> Member:
        other, cable = far.get(nic.id, (None, None))
        mine = (uplink.id, nic.id)
        if nic.link == "down":
            return Member(nic, None, open=False, dead="has no link")
        if nic.role == "excluded":
            return Member(nic, None, open=False, dead="is excluded")
        if other is None:
            site = assumed.get(plan.get("host", nic.host).site)
            if site is None:
                return Member(nic, None, open=True)
            ends = (team_bridge, wiring.bridge_of[site.id].number)
            return Member(nic, add_link(ends, (rule, book.assumed(site)), (mine, (site.id,)), None, nic.id), open=False)
        if other in ports:
            if not ports[other].enabled:
                return Member(
                    nic, None, open=False, dead=f"is plugged into port {ports[other].name}, which is disabled"
                )
            ends = (team_bridge, wiring.bridge_of[ports[other].switch].number)
            return Member(nic, add_link(ends, (rule, port_rules[other]), (mine, (other,)), cable, nic.id), open=False)
        peer = plan.get("nic", other)
        if peer.uplink is None or peer.link == "down":
            return Member(
                nic, None, open=False, dead=f"is plugged into {peer.name}, which is in no uplink or has no link"
            )
        wire = wiring.bridge_of.get(cable) or add_bridge(cable, virtual=False, crossing=True)  # type: ignore[arg-type]
        ends = (team_bridge, wire.number)
        return Member(nic, add_link(ends, (rule, book.wire()), (mine, ()), cable, nic.id), open=False)

    for switch in sorted(uplinks):
        bridge = wiring.bridge_of[switch].number
        for uplink in sorted(uplinks[switch], key=lambda u: u.id):
            rule = book.uplink(uplink)

            def order(nic: Nic, carries: str | None = uplink.carries) -> tuple[object, ...]:
                usable = nic.link == "up" and nic.role != "excluded"
                return (not usable, nic.id != carries, nic.role != "active", nic.rank, nic.name, nic.id)

            made = [member(bridge, uplink, rule, nic) for nic in sorted(nics.get(uplink.id, ()), key=order)]
            made.sort(key=lambda m: bool(m.dead))
            team = Team(uplink, bridge, rule, tuple(made), sum(not m.dead for m in made))
            wiring.teams.append(team)
            wiring.teams_of.setdefault(bridge, []).append(team)


def _place_endpoints(wiring: Wiring, book: RuleBook) -> None:
    plan, classes = wiring.plan, wiring.classes
    rules = wiring.group_rules = {group.id: book.port_group(group) for group in plan.all("port_group")}
    tags: dict[str, list[GuestTag]] = {}
    for tag in plan.all("guest_tag"):
        tags.setdefault(tag.adapter, []).append(tag)

    def add(
        owner: Adapter | HostPort, record: Adapter | GuestTag | HostPort, bridge: int, rule: PortRule | None, label: int
    ) -> None:
        context = int(rule.into[label]) if rule is not None else -1
        reason = ""
        if rule is None:
            reason = "is in no port group"
        elif context < 0:
            reason = f"drops frames that arrive {'tagged ' + str(classes.vid(label)) if label else 'untagged'}"
        place = Place(
            len(wiring.places),
            owner.id,
            record.id,
            bridge,
            rule,
            label,
            context,
            record.belongs,
            record.addresses,
            reason,
        )
        wiring.places.append(place)
        wiring.places_of.setdefault(owner.id, []).append(place)

    for id in sorted(plan.of("host_port")):
        port = plan.get("host_port", id)
        add(port, port, wiring.bridge_of[port.switch].number, book.host_port(port.vid), UNTAGGED)
    for id in sorted(plan.of("adapter")):
        adapter = plan.get("adapter", id)
        group = plan.of("port_group").get(adapter.port_group)
        bridge = wiring.bridge_of[group.switch].number if group else -1
        rule = rules[group.id] if group else None
        own = sorted(tags.get(id, ()), key=lambda t: t.vid)
        if not own or adapter.belongs is not None or adapter.addresses:
            add(adapter, adapter, bridge, rule, UNTAGGED)
        for tag in own:
            add(adapter, tag, bridge, rule, int(classes.of[tag.vid]))

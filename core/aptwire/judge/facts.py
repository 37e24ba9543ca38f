"""What the risks ask of each virtual switch, kept with its block, so that an edit asks anew only where it touched."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from itertools import compress
from operator import attrgetter

from aptwire.forward.fabric import header, least
from aptwire.forward.parts import Team
from aptwire.forward.wiring import Block, Slot, Wiring
from aptwire.plan import vids
from aptwire.plan.kinds import GUARDS, SHAPES, Adapter, FabricPort, HostPort, Nic, PortGroup, Uplink, VirtualSwitch
from aptwire.plan.plan import Plan
from aptwire.plan.ports import carries, group_words, said
from aptwire.plan.sharing import sharing

GUESTS = "guests"


@dataclass(frozen=True)
class End:
    """An endpoint as the MTU sees it: what it sends at most, and what its switch and NICs take.

    `tight` are the records on its own host that take less than it sends; `count` how many places are alike.
    """

    record: str
    segment: str
    sends: int
    tight: tuple[tuple[str, int], ...]
    count: int = 1


@dataclass
class Facts:
    """One virtual switch: `needs` the VIDs that its ports use (0: untagged), `roles` and `segments` what sits on it for each role and
    of each segment (role, or id -> VIDs used), `thin` the teams that
    rest on a single NIC or on one card, `excess` the allowed VIDs that nobody here needs, by fabric port, as bits, `lacking` those that another member's port
    carries and nobody sits on; `empty` port groups, all `groups` with what they carry, and as `twins` those that carry the same; `carriers` the uplinks that only watch
    their links, with the fabric switches that carry for them today, if others could; `deviating` adapters with their own guards or limits; `quiet`: nothing about its teams is worth a second look; `opened` the port groups that leave
    guards open, with these and the number of adapters; `fastest` what its uplinks carry at most, in Mbit/s (0: unknown), and `limited` the
    port groups that limit adapters to more."""

    host: str
    switch: str
    needs: frozenset[int]
    roles: dict[str, set[int]] = field(default_factory=dict)
    segments: dict[str, set[int]] = field(default_factory=dict)
    teams: tuple[Team, ...] = ()
    thin: tuple[tuple[str, Team], ...] = ()
    excess: tuple[tuple[str, int], ...] = ()
    lacking: tuple[tuple[str, frozenset[int]], ...] = ()
    ends: tuple[End, ...] = ()
    deviating: tuple[tuple[Adapter, tuple[str, ...]], ...] = ()
    empty: tuple[PortGroup, ...] = ()
    groups: tuple[tuple[PortGroup, tuple[object, ...]], ...] = ()
    twins: tuple[tuple[PortGroup, ...], ...] = ()
    carriers: tuple[tuple[Uplink, frozenset[str]], ...] = ()
    quiet: bool = False
    opened: tuple[tuple[PortGroup, tuple[str, ...], int], ...] = ()
    fastest: int = 0
    limited: tuple[PortGroup, ...] = ()
    answered: tuple[str, ...] = ()


def deviations(group: PortGroup, adapter: Adapter) -> tuple[str, ...]:
    """The guards and limits in which an adapter differs from its port group."""
    pairs = zip((*GUARDS, *SHAPES), _OWN(adapter), strict=True)
    return tuple(name for name, value in pairs if value is not None and value != getattr(group, name))


_OPEN = attrgetter(*GUARDS)
_OWN = attrgetter(*GUARDS, *SHAPES)
_NOTHING = (None,) * len((*GUARDS, *SHAPES))
_BELONGS = attrgetter("belongs")


@dataclass(frozen=True)
class _Sitting:
    """What facts say of those who sit on a switch and of its teams, as `Facts` has it; `shared` are the VIDs that go over its NICs from other switches."""

    needs: frozenset[int]
    roles: dict[str, set[int]]
    segments: dict[str, set[int]]
    teams: tuple[Team, ...]
    shared: frozenset[int]
    ends: tuple[End, ...]
    deviating: tuple[tuple[Adapter, tuple[str, ...]], ...]
    answered: tuple[str, ...]


_FACTS: Slot[tuple[object, list[tuple[str, int | None] | None], Facts]] = Slot()
"""The facts of a block, with the uses of all segments that were looked at last, and those of its own stands that they rest on."""
_SITTING: Slot[tuple[list[tuple[str, int | None] | None], _Sitting]] = Slot(standing=True)
"""What facts say of those who sit on a switch, with the uses of its stands that they rest on."""


def all_facts(wiring: Wiring, uses: dict[str, tuple[str, int | None]]) -> Iterator[Facts]:
    """The facts of every virtual switch; `uses` are the role and MTU of each segment, one object as long as they don't change."""
    for block in wiring.blocks.values():
        facts = facts_of(wiring, block, uses)
        if facts is not None:
            yield facts


def facts_of(wiring: Wiring, block: Block, uses: dict[str, tuple[str, int | None]]) -> Facts | None:
    """The facts of a block, kept with it; None where it is no virtual switch's."""
    seen, own, facts = _FACTS.get(block) or (None, None, None)
    if seen is uses:
        return facts
    if block.key not in wiring.plan.of("virtual_switch"):
        return None
    now = [uses.get(stand.segment or "") for stand in block.stands]
    if facts is None or own != now:
        known = _SITTING.get(block)
        if known is None or known[0] != now:
            known = _SITTING.keep(block, (now, _sitting(wiring, block)))
        facts = _facts(wiring, block, known[1])
    return _FACTS.keep(block, (uses, now, facts))[2]


def group_vids(plan: Plan, group: PortGroup) -> frozenset[int]:
    """The VIDs that a port group uses, 0 for untagged; an overlay uses none on its own switch."""
    if group.mode in ("trunk", "standard"):
        tags = [
            t.vid
            for a in plan.where("adapter", "port_group", group.id)
            for t in plan.where("guest_tag", "adapter", a.id)
        ]
        words = said(group)
        listed, bare = vids.members(words.gives or "") - words.bare, words.bare
        return (frozenset(tags) if tags and len(listed) > len(tags) else listed) | bare
    if group.mode == "private":
        parts = plan.where("secondary_vlan", "vid", group.vid)
        if parts:
            return frozenset({plan.get("segment", parts[0].segment).vid, group.vid})
        segment = plan.where("segment", "vid", group.vid)[0]
        return frozenset({segment.vid, *(s.vid for s in plan.where("secondary_vlan", "segment", segment.id))})
    return frozenset([group.vid or 0]) if group.mode in ("access", "untagged") else frozenset()


def roles_of(plan: Plan, port: HostPort) -> set[str]:
    """The roles of a host port: its services, and the role of the segment on which it belongs."""
    segment = plan.of("segment").get(port.belongs)
    return set(port.services) | ({segment.role} if segment is not None and segment.role else set())


def _sitting(wiring: Wiring, block: Block) -> _Sitting:
    plan = wiring.plan
    switch = plan.get("virtual_switch", block.key)
    roles: dict[str, set[int]] = {}
    segments: dict[str, set[int]] = {}
    needs: set[int] = set()
    for port in plan.where("host_port", "switch", switch.id):
        needs.add(port.vid or 0)
        for role in roles_of(plan, port):
            roles.setdefault(role, set()).add(port.vid or 0)
        if port.belongs is not None:
            segments.setdefault(port.belongs, set()).add(port.vid or 0)
    tagged = plan.grouped("guest_tag", "adapter")
    groups = plan.where("port_group", "switch", switch.id)
    sat = {group.id: found for group in groups if (found := plan.where("adapter", "port_group", group.id))}
    seated: set[tuple[str | None, int]] = set()
    for group in (g for g in groups if g.mode != "overlay" and g.id in sat):
        seated.update((belongs, group.vid or 0) for belongs in set(map(_BELONGS, sat[group.id])))
        tags = (tagged.get(a.id, ()) for a in sat[group.id] if tagged)
        seated.update((tag.belongs, tag.vid) for of in tags for tag in of)
    for belongs, vid in seated:
        segment = plan.of("segment").get(belongs)
        if segment is not None:
            roles.setdefault(segment.role or GUESTS, set()).add(vid)
            segments.setdefault(segment.id, set()).add(vid)
    deviating = tuple(
        (adapter, differing)
        for group in groups
        for adapter in sat.get(group.id, ())
        if _OWN(adapter) != _NOTHING and (differing := deviations(group, adapter))
    )
    # What goes over another uplink's NICs is that one's affair.
    base = tuple(team for team in block.teams if not team.order and getattr(team.uplink, "over", None) is None)
    heard = host_hears(plan, switch, (group for group in groups if group.id in sat))
    answered = tuple(adapter.id for group in heard for adapter in sat[group.id])
    ends = tuple(_ends(wiring, block, switch.mtu))
    return _Sitting(frozenset(needs), roles, segments, base, _shared(plan, base), ends, deviating, answered)


def _facts(wiring: Wiring, block: Block, sitting: _Sitting) -> Facts:
    plan = wiring.plan
    switch = plan.get("virtual_switch", block.key)
    groups = plan.where("port_group", "switch", switch.id)
    sat = {group.id: plan.where("adapter", "port_group", group.id) for group in groups}
    needs = sitting.needs.union(*(group_vids(plan, group) for group in groups))
    roles, base = sitting.roles, sitting.teams
    facts = Facts(switch.host, switch.id, needs, roles, sitting.segments, base)
    used = frozenset([0]).union(*roles.values())
    wanted = sum(1 << v for v in needs | sitting.shared)
    for team in base:
        carried: dict[str, frozenset[int]] = {}
        for member in team.members:
            port = wiring.port_behind(member.nic.id)
            if port is not None and port.enabled:
                carried[port.id] = passing(plan, port, needs)
        anywhere = frozenset().union(*carried.values())
        for port_id, own in carried.items():
            port = plan.get("fabric_port", port_id)
            if port.mode == "trunk":
                native = 1 << port.native if port.native is not None else 0
                facts.excess = (*facts.excess, (port_id, vids.bits(port.allowed or "") & ~(wanted | native)))
            idle = anywhere - own - used
            if idle and port.mode == "trunk":
                facts.lacking = (*facts.lacking, (port_id, idle))
    facts.deviating, facts.ends, facts.answered = sitting.deviating, sitting.ends, sitting.answered
    facts.empty = tuple(g for g in groups if not sat[g.id])
    facts.groups = tuple((g, group_words(g)) for g in groups)
    alike: dict[tuple[object, ...], list[PortGroup]] = {}
    for group, key in facts.groups:
        alike.setdefault(key, []).append(group)
    facts.twins = tuple(tuple(sorted(same, key=lambda g: g.name)) for same in alike.values() if len(same) > 1)
    facts.carriers = tuple(_carriers(wiring, base))
    facts.thin = tuple(_thin(base)) if roles else ()
    facts.quiet = all(_quiet(wiring, team) for team in base)
    facts.opened = tuple(
        (group, tuple(compress(GUARDS, open_)), len(sat[group.id]))
        for group, open_ in zip(groups, map(_OPEN, groups), strict=True)
        if any(open_)
    )
    speeds = [[member.nic.speed for member in team.members] for team in base]
    if all(None not in known for known in speeds):
        facts.fastest = sum(max((speed or 0 for speed in known), default=0) for known in speeds)
    limit = facts.fastest * 1000
    facts.limited = tuple(g for g in groups if limit and g.send_rate is not None and g.send_rate > limit)
    return facts


def host_hears(plan: Plan, switch: VirtualSwitch, groups: Iterable[PortGroup]) -> list[PortGroup]:
    """Those of a switch's port groups of which the host itself hears the untagged frames, on its bridge (RFC 1122 section 3.3.4.2: it may answer there
    for any of its addresses), having no port on their VLAN."""
    if not switch.answers:
        return []
    sat = {port.vid for port in plan.where("host_port", "switch", switch.id)}
    heard = (vids.members(switch.host_untagged or "") | {0}) - {vid or 0 for vid in sat}
    plain = (g for g in groups if g.mode not in ("overlay", "private"))
    return [g for g in plain if (said(g).pvid if switch.filters else 0) in heard]


def _carriers(wiring: Wiring, teams: Iterable[Team]) -> Iterator[tuple[Uplink, frozenset[str]]]:
    for team in teams:
        uplink = team.uplink
        if team.usable < 2 or not isinstance(uplink, Uplink) or uplink.detect == "probe":
            continue
        behind = [wiring.port_behind(m.nic.id) for m in team.members[: team.usable]]
        switches = [port.switch for port in behind if port is not None]
        carrying = {"standby": 1, "pinned": len(switches)}.get(uplink.mode, 0)
        if carrying and len(set(switches)) > 1:
            yield uplink, frozenset(switches[:carrying])


def carrying(team: Team) -> list[Nic]:
    """The NICs over which a team may go."""
    return [m.nic for m in team.members[: team.usable] if isinstance(m.nic, Nic) and not m.one_way]


def _thin(teams: Iterable[Team]) -> Iterator[tuple[str, Team]]:
    for team in teams:
        nics = carrying(team)
        if len(nics) == 1:
            yield "single-nic", team
        elif len(nics) > 1 and nics[0].card and len({nic.card for nic in nics}) == 1:
            yield "one-card", team


def _quiet(wiring: Wiring, team: Team) -> bool:
    uplink = team.uplink
    far = (wiring.port_behind(m.nic.id) for m in team.members)
    return (
        isinstance(uplink, Uplink)
        and uplink.mode in ("standby", "pinned")
        and uplink.announce
        and len({m.nic.speed for m in team.members}) < 2
        and not any(port is not None and port.lag for port in far)
    )


def _shared(plan: Plan, teams: Iterable[Team]) -> frozenset[int]:
    """The VIDs that go over these teams' NICs from other switches."""
    uplinks = (team.uplink for team in teams if isinstance(team.uplink, Uplink))
    return frozenset(u.vid for own in uplinks for u in sharing(plan, own) if u.vid)


def passing(plan: Plan, port: FabricPort, wanted: frozenset[int]) -> frozenset[int]:
    """Those of some VIDs that pass at a fabric port."""
    switch = plan.get("fabric_switch", port.switch)
    found = wanted & carries(port)
    return found & vids.members(switch.vlans) if switch.managed and switch.vlans is not None else found


def function_ends(wiring: Wiring, block: Block) -> Iterator[End]:
    """The virtual functions of a NIC's block; nothing of a virtual switch's, whose facts have its ends."""
    if block.key in wiring.plan.of("nic"):
        yield from _ends(wiring, block, None)


def _ends(wiring: Wiring, block: Block, switch_mtu: int | None) -> Iterator[End]:
    plan = wiring.plan
    own_nic = plan.of("nic").get(block.key)
    adapters, host_ports = plan.of("adapter"), plan.of("host_port")
    spoken = any(adapter.mtu for adapter in plan.outspoken)
    for stand in block.stands:
        segment = plan.of("segment").get(stand.segment)
        if segment is None:
            continue
        teams = wiring.teams_at(stand.bridge, stand.order)
        nics = [m.nic for team in teams for m in team.members[: team.usable] if m.link is not None]
        if own_nic is not None:
            nics = [own_nic]
        limits = [(block.key, switch_mtu)] if switch_mtu else []
        limits += [(nic.id, nic.mtu) for nic in nics if isinstance(nic, Nic) and nic.mtu]
        for nic in nics:
            far = wiring.port_behind(nic.id)
            if far is not None and (mtu := least(far.mtu, plan.get("fabric_switch", far.switch).mtu)):
                limits.append((far.id, mtu))
        head = 0
        if stand.vni:
            head, carrier = header(plan, stand.over), plan.get("host_port", stand.over)
            limits += [(carrier.id, carrier.mtu)] if carrier.mtu else []
        alike: dict[int, list[str]] = {}
        for record in stand.records:
            port = host_ports.get(record)
            adapter = adapters.get(record) if spoken and port is None else None
            own = adapter.mtu if adapter is not None else (port.mtu or switch_mtu) if port is not None else None
            if sends := own or segment.mtu:
                alike.setdefault(sends, []).append(record)
        for sends, records in alike.items():
            tight = tuple((id, mtu) for id, mtu in limits if mtu < sends + head)
            yield End(records[0], segment.id, sends, tight, len(records))

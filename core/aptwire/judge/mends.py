"""Mends: small edits that bring a finding's endpoints home, each tried on the plan before it is offered.

Where a tag is dropped, the missing permissions are those on the way that lacks the fewest (`Roads.wish`);
they are added and the plan judged again, until the endpoint is home or no way is left.
"""

from __future__ import annotations

import ipaddress
import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

from aptwire.forward.parts import Place
from aptwire.forward.paths import Missing, Roads, Step, goal
from aptwire.forward.routed import over_router
from aptwire.judge.causes import CAUSES, spoken
from aptwire.judge.cut import cut_apart
from aptwire.judge.findings import Finding, everything, findings
from aptwire.judge.forming import strayed, unheard
from aptwire.judge.judgement import Judgement
from aptwire.judge.leasing import lacking, misled, wake
from aptwire.judge.permits import permit
from aptwire.judge.plugging import fresh_id, next_free_address, plug_router, switch_behind
from aptwire.judge.preview import Preview, preview
from aptwire.judge.risks import Risk, offers, risks
from aptwire.judge.why import (
    ADDRESS,
    CUT_OFF,
    GONE,
    HOME,
    LEAK,
    MIRRORED,
    NO_BEARER,
    NO_GROUP,
    NO_INTENT,
    NO_LEASE,
    NO_PREFIX,
    OPEN_END,
    TOO_LARGE,
    TWIN,
    TWIN_MAC,
    WRONG_LEASE,
    WRONG_PREFIX,
    WRONG_TAG,
    Cause,
    is_idle,
)
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put, edit_to_json, in_steps, merged
from aptwire.plan.fields import bare_address
from aptwire.plan.gestures import made_own
from aptwire.plan.kinds import (
    Adapter,
    AssumedFabric,
    Cable,
    FabricPort,
    GuestTag,
    HostPort,
    Nic,
    PortGroup,
    Record,
    Segment,
    StationPort,
    Uplink,
    WayIn,
)
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.ports import carries

MOST = 5
ROUNDS = 8
DEPTH = 3
BREADTH = 3


@dataclass(frozen=True)
class Mend:
    """An edit that brings a finding's endpoint home, in words, with what else it would change; `brings` are the risks that it would
    add.  Whom it makes worse beside those that the finding names, its title says."""

    title: str
    edit: Edit
    preview: Preview
    brings: tuple[str, ...] = ()


def mends(judgement: Judgement, finding: Finding | Risk) -> list[Mend]:
    """Up to five mends, the one that helps most and harms nobody first."""
    return _risk_mends(judgement, finding) if isinstance(finding, Risk) else _verdict_mends(judgement, finding)


def known_risks(judgement: Judgement) -> frozenset[str]:
    """The ids of a plan's risks, those included that a finding tells already."""
    return frozenset(risk.id for risk in risks(judgement))


def brought(known: frozenset[str], after: Judgement, risky: list[Risk] | None = None) -> tuple[str, ...]:
    """The titles of the risks that are told after an edit (`risky`: all there are then, if they have been looked for) and aren't among those known before it."""
    return tuple(r.title for r in everything(after, risky) if isinstance(r, Risk) and r.id not in known)


def _risk_mends(judgement: Judgement, risk: Risk) -> list[Mend]:
    """The edits that a risk brings after which it is gone: those that harm nobody and bring no other risk first, the smallest first."""
    found: list[Mend] = []
    known = known_risks(judgement)
    for title, edit in offers(judgement, risk):
        try:
            tried = preview(judgement, edit)
        except PlanError:
            continue
        after = risks(tried.judgement)
        if all(r.id != risk.id for r in after):
            said = title + _harm(judgement.plan, tried, set(risk.endpoints))
            found.append(Mend(said, edit, tried, brought(known, tried.judgement, after)))

    def rank(mend: Mend) -> tuple[int, ...]:
        worse = sum(move.worse for move in mend.preview.moves)
        return (undoes(judgement.plan, mend.edit), worse, len(mend.brings), len(mend.edit))

    return sorted(found, key=rank)[:MOST]


def _verdict_mends(judgement: Judgement, finding: Finding) -> list[Mend]:
    """Mends of what a verdict says.

    Each brings at least one of the finding's endpoints home.  An edit that only trades one fault for a lesser
    one is carried on from there, up to DEPTH faults deep.
    """
    wanted = {place.record for place in finding.places}
    found: dict[str, Mend] = {}
    seen: set[str] = set()
    frontier: list[tuple[str, Edit, Judgement, Finding]] = [("", (), judgement, finding)]
    for _ in range(DEPTH):
        onward: list[tuple[str, Edit, Judgement, Finding]] = []
        for title, edit, judged, at in frontier:
            for more, addition in _Mender(judged, at).candidates():
                whole = merged((*edit, *addition))
                key = json.dumps(edit_to_json(whole), sort_keys=True)
                if key in seen or not addition or _contradicts(edit, addition) or _contradicts((), addition):
                    continue
                seen.add(key)
                try:
                    tried = preview(judgement, whole)
                except PlanError:
                    continue
                said = f"{title}, then {more[:1].lower()}{more[1:]}" if title else more
                if _home(tried.judgement, wanted):
                    found[key] = Mend(said + _harm(judgement.plan, tried, set(finding.endpoints)), whole, tried)
                elif at.what == OPEN_END or _gravity(tried.judgement, finding.place) < _gravity(judged, finding.place):
                    rest = next(
                        (
                            f
                            for f in findings(tried.judgement)
                            if any(p.record == finding.place.record for p in f.places)
                        ),
                        None,
                    )
                    if rest is not None:
                        onward.append((said, whole, tried.judgement, rest))
        if found:
            break
        frontier = onward[:BREADTH]

    def rank(mend: Mend) -> tuple[int, ...]:
        moved = mend.preview.moves
        worse = sum(move.worse for move in moved)
        home = len(_home(mend.preview.judgement, wanted))
        return (undoes(judgement.plan, mend.edit), worse, -home, worse - len(moved), len(mend.edit))

    best = sorted(found.values(), key=rank)[:MOST]
    known = known_risks(judgement) if best else frozenset()
    return [replace(mend, brings=brought(known, mend.preview.judgement)) for mend in best]


def _harm(plan: Plan, tried: Preview, named: set[str]) -> str:
    """Whom an edit makes worse beside those named, as the end of its title."""
    worse = [move for move in tried.moves if move.worse and move.endpoint not in named]
    if not worse:
        return ""
    names = sorted(spoken(plan, move.endpoint) for move in worse)
    return f" (worse for {some(names, 4)})"


def _contradicts(edit: Edit, addition: Edit) -> bool:
    """Whether together they give one port two modes."""
    modes: dict[tuple[str, str], object] = {}
    for operation in (*edit, *addition):
        if isinstance(operation, Patch) and "mode" in operation.changes:
            mode = operation.changes["mode"]
            if modes.setdefault((operation.kind, operation.id), mode) != mode:
                return True
    return False


def undoes(plan: Plan, edit: Edit) -> bool:
    """Whether an edit takes back what somebody wanted: an isolation, a mirror, a rule, where something belongs."""

    def takes_back(operation: Operation) -> bool:
        if isinstance(operation, Drop):
            return operation.kind in ("mirror", "rule", "shared_address")
        if not isinstance(operation, Patch):
            return False
        record: Any = plan.of(operation.kind).get(operation.id)
        changes = operation.changes
        ends = changes.get("isolated") is False or ("mode" in changes and getattr(record, "mode", "") == "private")
        return ends or ("belongs" in changes and record is not None and record.belongs is not None)

    return any(map(takes_back, edit))


def _home(judgement: Judgement, records: set[str]) -> set[str]:
    found = (judgement.wiring.place(record) for record in records)
    return {p.record for p in found if p is not None and judgement.status_of(p) == HOME}


def _gravity(judgement: Judgement, place: Place) -> int:
    now = judgement.wiring.place(place.record)
    return judgement.status_of(now) if now is not None else 99


class _Mender:
    def __init__(self, judgement: Judgement, finding: Finding) -> None:
        self.judgement = judgement
        self.finding = finding
        self.plan = judgement.plan
        self.place = finding.place

    def candidates(self) -> Iterator[tuple[str, Edit]]:
        """Titles and edits worth trying, the plainest first."""
        first, *others = CANDIDATES[self.finding.what]
        for title, edit in first(self):
            if self.finding.what not in CARRIED_ON:
                yield title, edit
                continue
            for access in ("widen", "retag"):
                yield self._through(title, edit, access)
        for search in others:
            yield from search(self)

    def _of_risk(self) -> Iterator[tuple[str, Edit]]:
        """What would rid the plan of the risk that makes itself felt here."""
        keys = {self.finding.segment, *self.finding.culprit}
        for risk in risks(self.judgement):
            if risk.what == CAUSES[self.finding.what].risk and keys & {risk.segment, *risk.culprit}:
                yield from offers(self.judgement, risk)

    def _lacking(self) -> Iterator[tuple[str, Edit]]:
        yield from lacking(self.judgement, self.finding.places)

    def _misled(self) -> Iterator[tuple[str, Edit]]:
        yield from misled(self.judgement, self.finding.places)

    def _unheard(self) -> Iterator[tuple[str, Edit]]:
        yield from unheard(self.judgement, self.finding.places)

    def _strayed(self) -> Iterator[tuple[str, Edit]]:
        yield from strayed(self.judgement, self.finding.places)

    def _wake(self) -> Iterator[tuple[str, Edit]]:
        """Who bears the gateway and is off is started; who is disconnected is connected."""
        towards = self.finding.towards
        if towards is None or not towards.stand.judged or not is_idle(self.plan, towards.endpoint):
            return
        record = self.plan.find(towards.endpoint, ("adapter", "host_port"))
        if record is not None:
            yield wake(self.plan, record)

    def _bear(self) -> Iterator[tuple[str, Edit]]:
        """Somebody to bear gateways that nobody bears: outside the plan behind an open port, or a router on a port of its own."""
        plan = self.plan
        segments = [s for id in self.finding.culprit if (s := plan.of("segment").get(id)) is not None and s.vid]
        taken = {end for cable in plan.all(Cable) for end in (cable.a, cable.b)}
        taken |= {port.port for port in plan.all(StationPort)}
        free = sorted((p for p in plan.all(FabricPort) if p.enabled and p.id not in taken), key=lambda p: p.id)
        for port in free:
            carried = [s for s in segments if s.vid in carries(port)]
            if carried:
                ways = [WayIn(id=fresh_id(plan, f"way-in:{s.id}"), segment=s.id, port=port.id) for s in carried]
                yield f"Say that they come in at {called(plan, port)}, from outside the plan", tuple(map(Put, ways))
                break
        switch = switch_behind(self.judgement.wiring, self.finding.places)
        wanted = {s.vid: list(s.gateways) for s in segments}
        for place in self.finding.places:
            own = plan.of("host_port").get(place.record)
            if own is not None and own.gateway and own.belongs in plan.of("segment"):
                wanted.setdefault(plan.get("segment", own.belongs).vid, []).append(own.gateway)
        wanted = {vid: addresses for vid, addresses in wanted.items() if vid}
        if switch is None or not wanted:
            return
        made = plug_router(plan, switch, wanted)
        yield f"Plug a router that bears them into {switch.name}", tuple(made)

    def _own_segment(self) -> Iterator[tuple[str, Edit]]:
        """A segment that nobody defines any longer, made the plan's own."""
        segment = self.plan.get("segment", self.place.segment)
        yield f"Make {segment.name} the plan’s own", made_own([segment.id])

    def _teams(self) -> Iterator[tuple[str, Edit]]:
        """What would rid the teams on the way of their own risks: a LAG that doesn't suit them, members that differ."""
        cause = self.judgement.cause_of(self.place)
        ways = {team.uplink.id for team in self.judgement.wiring.teams_at(self.place.bridge, self.place.stand.order)}
        ways |= {key.uplink for key in (cause.state.choice if cause is not None else ())}
        functions = [self.plan.of("adapter").get(place.endpoint) for place in self.finding.places]
        nics = [self.plan.of("nic").get(adapter.function_of) for adapter in functions if adapter is not None]
        ways |= {nic.uplink for nic in nics if nic is not None and nic.uplink is not None}
        if any(self._shares(way) for way in ways):
            for risk in risks(self.judgement):
                if risk.key[0] in ways:
                    yield from offers(self.judgement, risk)

    def _shares(self, way: str) -> bool:
        """Whether a LAG or hashing is at work there, so that it matters which member a flow takes."""
        uplink = self.plan.of("uplink").get(way)
        if uplink is None or uplink.mode in ("hashed", "lacp"):
            return True
        behind = (self.judgement.wiring.port_behind(n.id) for n in self.plan.where("nic", "uplink", way))
        return any(port is not None and port.lag is not None for port in behind)

    def _tunnel_gateways(self) -> Iterator[tuple[str, Edit]]:
        """A gateway for host ports that carry an overlay and have none: a router's address in their own subnet."""
        wiring, towards = self.judgement.wiring, self.finding.towards
        overs = {p.stand.over for p in (*self.finding.places, *([towards] if towards else [])) if p.stand.over}
        found: dict[str, Operation] = {}
        for over in sorted(overs - wiring.ways_out.keys()):
            port = self.plan.get("host_port", over)
            nets = [ipaddress.ip_interface(a).network for a in port.addresses]
            for router in sorted(self.plan.all(StationPort), key=lambda p: p.id):
                inside = [
                    a for a in map(bare_address, router.addresses) if any(ipaddress.ip_address(a) in n for n in nets)
                ]
                if inside and self.plan.get("station", router.station).routes:
                    found.setdefault(
                        f"{inside[0]} as its gateway to {called(self.plan, port)}",
                        Patch("host_port", over, {"gateway": inside[0]}),
                    )
                    break
        if found:
            yield f"Give {' and '.join(found)}", tuple(found.values())

    def _off_the_card(self) -> Iterator[tuple[str, Edit]]:
        """A virtual function becomes an adapter of the virtual switch, to which all NICs of a team lead."""
        changes = {"type": "paravirtual", "function_of": None, "function_vid": None}
        for place in self.finding.places:
            adapter = self.plan.of("adapter").get(place.endpoint)
            segment = self.plan.of("segment").get(place.segment)
            if adapter is None or adapter.type != "direct" or segment is None:
                continue
            for group in self._groups(self.plan.get("guest", adapter.guest).host, segment):
                said = f"Take {spoken(self.plan, adapter.id)} off its card and move it to port group {group.name}"
                yield said, (Patch("adapter", adapter.id, {**changes, "port_group": group.id}),)

    def _groups(self, host: str, segment: Segment) -> list[PortGroup]:
        """The port groups of a host that carry a segment."""
        switches = {s.id for s in self.plan.where("virtual_switch", "host", host)}
        found = (g for switch in switches for g in self.plan.where("port_group", "switch", switch))
        return sorted((g for g in found if _carries(g, segment)), key=lambda g: g.id)

    def _nothing(self) -> Iterator[tuple[str, Edit]]:
        yield "", ()
        yield from self._open_gateway()
        adapter = self.plan.of("adapter").get(self.place.endpoint)
        group = self.plan.of("port_group").get(adapter.port_group) if adapter else None
        segment = self.plan.of("segment").get(self.place.segment)
        if group is not None and group.mode == "private" and segment is not None and segment.vid:
            said = f"Make {called(self.plan, group)} an access port group on {segment.vid}"
            yield said, (Patch("port_group", group.id, {"mode": "access", "vid": segment.vid}),)
        tag = self.plan.of("guest_tag").get(self.place.record)
        if tag is not None and group is not None and group.native == tag.vid:
            yield (
                f"Send {tag.vid} tagged at {called(self.plan, group)}",
                (Patch("port_group", group.id, {"native": None}),),
            )

    def _open_gateway(self) -> Iterator[tuple[str, Edit]]:
        """Whoever is cut off from an isolated gateway needs that one's port open, not its own isolation ended."""
        towards = self.finding.towards
        segment = self.plan.of("segment").get(self.place.segment)
        adapter = self.plan.of("adapter").get(towards.endpoint) if towards is not None else None
        group = self.plan.of("port_group").get(adapter.port_group) if adapter is not None else None
        if towards is None or segment is None:
            return
        if adapter is not None and adapter.isolated:
            yield (
                f"End the isolation of {spoken(self.plan, adapter.id)}",
                (Patch("adapter", adapter.id, {"isolated": False}),),
            )
        port: Any = group
        own = self.plan.of("station_port").get(towards.record)
        if own is not None:
            port = self.plan.get("fabric_port", own.port)
        if port is None:
            return
        if port.isolated:
            yield f"End the isolation of {called(self.plan, port)}", (Patch(port.kind, port.id, {"isolated": False}),)
        elif self.plan.where("secondary_vlan", "segment", segment.id) and port.mode in ("access", "private"):
            said = f"Make {called(self.plan, port)} promiscuous on {segment.vid}"
            yield said, (Patch(port.kind, port.id, {"mode": "private", "vid": segment.vid}),)

    def _through(self, title: str, edit: Edit, access: str) -> tuple[str, Edit]:
        """The edit, and after it whatever permissions the place still lacks, in every state."""
        titles = [title] if title else []
        for _ in range(ROUNDS):
            try:
                tried = preview(self.judgement, edit) if edit else None
            except PlanError:
                break
            judged = tried.judgement if tried else self.judgement
            place = judged.wiring.place(self.place.record)
            cause = judged.cause_of(place) if place is not None else None
            if place is None or cause is None or cause.what != CUT_OFF:
                break
            more = self._permits(judged, place, cause, access)
            if not more:
                break
            for said, operations in more:
                if said not in titles:
                    titles.append(said)
                edit = merged((*edit, *operations))
        return in_steps(titles), edit

    def _permits(self, judged: Judgement, place: Place, cause: Cause, access: str) -> list[tuple[str, list[Operation]]]:
        """The permissions that a place lacks towards what it must reach, one entry for each port."""
        wiring, plan = judged.wiring, judged.plan
        roads = Roads(wiring, cause.state)
        other = wiring.place(cause.towards) if cause.towards else None
        pairs = [(place, other)]
        if place.stand.vni:
            # An overlay's way is that of the host ports that carry it, over a router where they have one.
            near, far = (wiring.place(p.stand.over) if p is not None else None for p in (place, other))
            if near is None or far is None:
                return []
            place, pairs = near, [(near, far)]
            for into, out in over_router(wiring.ways_out, near.record, far.record):
                pairs = [(near, wiring.place(into)), (far, wiring.place(out))]
        steps: list[tuple[Step, int]] = []
        if other is not None:
            for one, two in pairs:
                assert two is not None
                wanted = int(wiring.classes.of[_vid(plan, one)])
                for a, b in ((one, two), (two, one)):
                    # In a private VLAN each frame travels in its sender's own VLAN.
                    own = a.context if not (a.stand.plain and b.stand.plain) and a.context > 0 else wanted
                    steps += [(step, own) for step in roads.wish(a, goal(a, b), own) or []]
        else:
            wanted = int(wiring.classes.of[_vid(plan, place)])
            for link in roads.at(place.bridge, place.stand.order):
                missing = tuple(
                    Missing(records)
                    for records, rule in zip(link.records, link.rules, strict=True)
                    if rule.out[wanted] != wanted and rule.into[wanted] != wanted
                )
                steps.append((Step(link, link.side(place.bridge), wanted, wanted, wanted, missing), wanted))
        found: dict[str, tuple[str, list[Operation]]] = {}
        for step, own in steps:
            for port in step.missing:
                vid = wiring.classes.vid(own)
                key = f"{port.records[0]} {vid}" if port.records else ""
                made = permit(plan, port.records[0], vid, port.untagged, access) if key and key not in found else None
                if made:
                    found[key] = made
        return list(found.values())

    # --- tags and port groups ---------------------------------------------------------------------------------

    def _retag(self) -> Iterator[tuple[str, Edit]]:
        segment = self.plan.get("segment", self.place.segment)
        record = self.plan.find(self.place.record)
        if isinstance(record, HostPort):
            said = (
                f"Tag {called(self.plan, record)} {segment.vid}"
                if segment.vid
                else f"Take the tag off {called(self.plan, record)}"
            )
            yield said, (Patch("host_port", record.id, {"vid": segment.vid}),)
        elif isinstance(record, GuestTag):
            if segment.vid and record.vid != segment.vid:
                said = f"Let {spoken(self.plan, record.adapter)} use tag {segment.vid} instead of {record.vid}"
                yield said, (Patch("guest_tag", record.id, {"vid": segment.vid}),)
            adapter = self.plan.get("adapter", record.adapter)
            group = self.plan.of("port_group").get(adapter.port_group)
            if group is not None and group.mode == "trunk":
                yield (
                    f"Allow {record.vid} on {called(self.plan, group)}",
                    (Patch("port_group", group.id, {"allowed": vids.with_vid(group.allowed or "", record.vid)}),),
                )
        elif isinstance(record, Adapter):
            yield from self._reseat(record, segment)
        yield from self._refabric(segment)
        yield from self._belongs_here()

    def _belongs_here(self) -> Iterator[tuple[str, Edit]]:
        """Who was moved on purpose belongs where it is now."""
        lands = self.judgement.lands_on(self.place)
        vid = self.judgement.wiring.classes.vid(lands) if lands >= 0 else 0
        for other in self.plan.where("segment", "vid", vid) if vid else ():
            records = [self.plan.find(p.record) for p in self.finding.places if self.judgement.lands_on(p) == lands]
            edit = tuple(Patch(r.kind, r.id, {"belongs": other.id}) for r in records if r is not None)
            yield (
                f"Say that {some(sorted(spoken(self.plan, r.id) for r in records if r))} belong{'s' * (len(edit) == 1)} on {other.name} now",
                edit,
            )

    def _reseat(self, adapter: Adapter, segment: Segment) -> Iterator[tuple[str, Edit]]:
        """Another port group for the adapters of the finding, or another tag for their port group."""
        host = self.plan.get("guest", adapter.guest).host
        adapters = [
            found
            for p in self.finding.places
            if isinstance(found := self.plan.find(p.record), Adapter)
            and self.plan.get("guest", found.guest).host == host
        ]
        who = spoken(self.plan, adapter.id) if len(adapters) == 1 else f"{len(adapters)} adapters"
        switches = {s.id for s in self.plan.where("virtual_switch", "host", host)}
        own = self.plan.of("port_group").get(adapter.port_group)
        groups = sorted(self._groups(host, segment), key=lambda g: (own is None or g.switch != own.switch, g.id))
        for group in groups:
            yield (
                f"Move {who} to port group {group.name}",
                tuple(Patch("adapter", a.id, {"port_group": group.id}) for a in adapters),
            )
        if own is not None and own.mode != "trunk":
            changes = {"mode": "access", "vid": segment.vid} if segment.vid else {"mode": "untagged", "vid": None}
            said = (
                f"Tag port group {own.name} {segment.vid}" if segment.vid else f"Leave port group {own.name} untagged"
            )
            yield said, (Patch("port_group", own.id, changes),)
        wired = sorted(switches & {u.switch for u in self.plan.all(Uplink)})
        targets = [own.switch] if own is not None else wired or sorted(switches)
        for switch in targets[:1] if not groups else []:
            made = new_port_group(self.plan, switch, segment)
            yield (
                f"Make port group {made.name} and move {who} to it",
                (Put(made), *(Patch("adapter", a.id, {"port_group": made.id}) for a in adapters)),
            )

    def _refabric(self, segment: Segment) -> Iterator[tuple[str, Edit]]:
        """The fabric port's word for untagged frames, where those carry the place."""
        if self.place.context != 0 or not segment.vid:
            return
        operations: dict[str, Operation] = {}
        for team in self.judgement.wiring.teams_at(self.place.bridge, self.place.stand.order):
            for member in team.members[: team.usable]:
                port = self.plan.find(member.link.records[1][0]) if member.link and member.link.records[1] else None
                if isinstance(port, FabricPort) and segment.vid not in (port.vid, port.native):
                    name = "vid" if port.mode == "access" else "native"
                    operations[called(self.plan, port)] = Patch("fabric_port", port.id, {name: segment.vid})
        if operations:
            yield (
                f"Make {segment.vid} the VID of untagged frames at {' and '.join(operations)}",
                tuple(operations.values()),
            )

    def _intent(self) -> Iterator[tuple[str, Edit]]:
        lands = self.judgement.lands_on(self.place)
        vid = self.judgement.wiring.classes.vid(lands) if lands >= 0 else -1
        for segment in sorted(self.plan.all(Segment), key=lambda s: s.name):
            if not segment.vni and (segment.vid or 0) == vid:
                record = self.plan.find(self.place.record)
                if record is not None:
                    yield (
                        f"Say that it belongs on {segment.name}",
                        (Patch(record.kind, record.id, {"belongs": segment.id}),),
                    )

    # --- cables -----------------------------------------------------------------------------------------------

    def _swaps(self) -> Iterator[tuple[str, Edit]]:
        """The cables of two NICs of one host, exchanged."""
        cabled = {
            end: (cable, field) for cable in self.plan.all(Cable) for field, end in (("a", cable.a), ("b", cable.b))
        }
        bridge = self.judgement.wiring.bridges[self.place.bridge] if self.place.bridge >= 0 else None
        switch = self.plan.of("virtual_switch").get(bridge.id) if bridge else None
        if switch is None:
            return
        nics = sorted((n for n in self.plan.all(Nic) if n.host == switch.host and n.id in cabled), key=lambda n: n.name)
        mine = [n for n in nics if n.uplink and self.plan.get("uplink", n.uplink).switch == switch.id]
        for one in mine:
            for two in nics:
                if two in mine:
                    continue
                (first, field_one), (second, field_two) = cabled[one.id], cabled[two.id]
                if first.id == second.id:
                    continue
                yield (
                    f"Swap the cables of {one.name} and {called(self.plan, two)}",
                    (Patch("cable", first.id, {field_one: two.id}), Patch("cable", second.id, {field_two: one.id})),
                )

    def _close(self) -> Iterator[tuple[str, Edit]]:
        """An open end: plugged into a free port that carries the tag, or declared."""
        nics = [n for n in map(self.plan.find, self.finding.culprit) if n is not None and n.kind == "nic"]
        segment = self.plan.of("segment").get(self.place.segment)
        for nic in nics:
            host = self.plan.get("host", nic.host)  # type: ignore[attr-defined]
            yield from self._plug(nic, host.site, segment)
            carried = vids.write(s.vid for s in self.plan.all(Segment) if s.vid)
            known = next((a for a in self.plan.all(AssumedFabric) if a.site == host.site), None)
            if known is None and carried:
                site = host.site or host.name
                operations: list[Operation] = [] if host.site else [Patch("host", host.id, {"site": site})]
                made = AssumedFabric(id=fresh_id(self.plan, f"assumed:{site}"), site=site, allowed=carried)
                operations.append(Put(made))
                yield f"Assume that what is behind {site}’s uncabled NICs carries {carried}", tuple(operations)

    def _plug(self, nic: Record, site: str, segment: Segment | None) -> Iterator[tuple[str, Edit]]:
        used = {end for cable in self.plan.all(Cable) for end in (cable.a, cable.b)}
        for port in sorted(self.plan.all(FabricPort), key=lambda p: p.id):
            switch = self.plan.get("fabric_switch", port.switch)
            if port.id in used or not port.enabled or switch.site != site or segment is None:
                continue
            if segment.vid in carries(port):
                cable = Cable(id=fresh_id(self.plan, f"cable:{nic.id}"), a=nic.id, b=port.id)
                yield f"Plug {called(self.plan, nic)} into {called(self.plan, port)}", (Put(cable),)

    # --- leaks and addresses ----------------------------------------------------------------------------------

    def _part_leak(self) -> Iterator[tuple[str, Edit]]:
        """Two ports that give one untagged frame different VIDs: make them agree, or drop such frames."""
        ports = [p for p in map(self.plan.find, self.finding.culprit) if isinstance(p, FabricPort)]
        if len(ports) == 2:
            one, two = ports
            for port, other in ((two, one), (one, two)):
                vid = other.vid if other.mode == "access" else other.native
                name = "vid" if port.mode == "access" else "native"
                if vid:
                    said = f"Make {vid} the VID of untagged frames at {called(self.plan, port)} too"
                    yield said, (Patch("fabric_port", port.id, {name: vid}),)
        yield from self._cut()
        trunks = [p for p in ports if p.mode == "trunk" and p.native]
        for port in trunks:
            yield (
                f"Drop untagged frames at {called(self.plan, port)}",
                (Patch("fabric_port", port.id, {"native": None}),),
            )
        if len(trunks) == 2:
            operations: list[Operation] = []
            for port in trunks:
                allowed = port.allowed or ""
                for other in trunks:
                    allowed = vids.with_vid(allowed, other.native or 0)
                operations.append(Patch("fabric_port", port.id, {"native": None, "allowed": allowed}))
            both = " and ".join(called(self.plan, p) for p in trunks)
            yield f"Tag everything between {both}", tuple(operations)

    def _cut(self) -> Iterator[tuple[str, Edit]]:
        """The fewest permissions without which neither side hears the other."""
        if self.finding.towards is not None:
            found = cut_apart(self.judgement.wiring, self.place, self.finding.towards, self.finding.state)
            if found is not None:
                yield found

    def _part_twins(self) -> Iterator[tuple[str, Edit]]:
        for id in self.finding.endpoints:
            record = self.plan.find(id)
            if isinstance(record, Adapter):
                yield f"Disconnect {spoken(self.plan, id)}", (Patch("adapter", id, {"connected": False}),)
        yield from self._readdress()

    def _readdress(self) -> Iterator[tuple[str, Edit]]:
        """The next free address of the segment's subnet."""
        for place in self.finding.places:
            record = self.plan.find(place.record)
            segment = self.plan.of("segment").get(place.segment)
            if record is None or segment is None:
                continue
            free = next_free_address(self.plan, segment)
            if free:
                kept = [
                    a
                    for a in place.addresses
                    if ipaddress.ip_interface(a).version != ipaddress.ip_interface(free).version
                ]
                said = f"Give {spoken(self.plan, place.endpoint)} {bare_address(free)}, the next free address of {segment.name}"
                yield said, (Patch(record.kind, record.id, {"addresses": [*kept, free]}),)


CANDIDATES: dict[str, tuple[Callable[[_Mender], Iterator[tuple[str, Edit]]], ...]] = {
    CUT_OFF: (
        _Mender._nothing,
        _Mender._swaps,
        _Mender._wake,
        _Mender._teams,
        _Mender._off_the_card,
        _Mender._tunnel_gateways,
    ),
    WRONG_TAG: (_Mender._retag, _Mender._swaps),
    NO_GROUP: (_Mender._retag,),
    NO_INTENT: (_Mender._intent,),
    OPEN_END: (_Mender._close,),
    ADDRESS: (_Mender._readdress,),
    LEAK: (_Mender._part_leak,),
    TWIN: (_Mender._part_twins,),
    NO_BEARER: (_Mender._bear,),
    GONE: (_Mender._own_segment,),
    TOO_LARGE: (_Mender._of_risk,),
    MIRRORED: (_Mender._of_risk,),
    TWIN_MAC: (_Mender._of_risk,),
    NO_LEASE: (_Mender._lacking, _Mender._nothing),
    WRONG_LEASE: (_Mender._misled,),
    NO_PREFIX: (_Mender._unheard, _Mender._nothing),
    WRONG_PREFIX: (_Mender._strayed,),
}
"""What is tried for each cause, the plainest first."""
CARRIED_ON = (CUT_OFF, WRONG_TAG, NO_GROUP)
"""Where the first search's edits are carried on to whatever still stops the frames on their way."""


def _vid(plan: Plan, place: Place) -> int:
    segment = plan.of("segment").get(place.segment)
    return (segment.vid or 0) if segment else 0


def _carries(group: PortGroup, segment: Segment) -> bool:
    if group.mode == "access":
        return bool(group.vid == segment.vid)
    return group.mode == "untagged" and segment.vid is None


def new_port_group(plan: Plan, switch: str, segment: Segment) -> PortGroup:
    """A port group for a segment on a switch, with a name and an id that are free."""
    taken = {g.name for g in plan.all(PortGroup) if g.switch == switch}
    name, number = segment.name, 2
    while name in taken:
        name, number = f"{segment.name} {number}", number + 1
    mode = "access" if segment.vid else "untagged"
    return PortGroup(id=fresh_id(plan, f"{switch}/{name}"), switch=switch, name=name, mode=mode, vid=segment.vid)

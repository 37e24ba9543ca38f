"""Checks a validation report against its plan, with nothing of the engine but the reader of plans: no arrays, and no search but for the spanning tree, so that a stranger can
read it whole.

A report claims who is home, and brings for each segment its evidence: a *tree* of the fabric's switches over which everybody on it hears each other, and a
*closed set* of places in the fabric (switch and VID) that frames of it never leave.  What is checked here:

- **home**: whoever is said to be home sends, over every member of its team that may carry, into the tree on its segment's VID, and hears what comes
  back; so does somebody who bears each gateway of the segment, and runs; and each branch of the tree passes the VID both ways.
- **apart**: from wherever those at home send, whatever carries, frames stay within the closed set; and nobody hears them there who belongs on another
  segment and is said to be home.
- **ping**: each hop of a question and its answer goes where its sender's own table leads (the longest prefix, RFC 1812 section 5.2.4.3), to the one who has that address and
  is as said above in the same tree, past the filters of whoever forwards.

What a port lets in and out is IEEE 802.1Q clauses 6.9 and 8.8.2; which cable between switches is blocked, clause 13; what LAGs take and block, IEEE 802.1AX.  What
isn't understood here is never taken as right: it is named as unchecked.  Sizes of packets, leases, copies by mirrors, addresses borne twice, what guests could do by tagging
as they like, and rules are no claims that are checked here; nor is it, of a segment without a gateway, that no larger part of it is elsewhere.
"""

from __future__ import annotations

import hashlib
import heapq
import ipaddress
import json
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

from aptwire.plan.file import write_plan
from aptwire.plan.plan import Plan

FORMAT, VERSION = "aptwire-validation", 1
UNTAGGED = 0
SEATED = ("adapter", "guest_tag", "host_port", "station_port")
Everything = frozenset[int] | None
"""VIDs; None: all of them."""


class Unknown(Exception):
    """Something that this checker doesn't understand; its text says what."""


class Wrong(Exception):
    """A claim that fails; its text says why."""


@dataclass(frozen=True)
class Verdict:
    """What became of a report's claims: how many hold (`right`, by sort), which fail and why, and what isn't checked and why."""

    right: Mapping[str, int]
    failed: tuple[str, ...]
    unchecked: tuple[str, ...]

    def to_json(self) -> dict[str, Any]:
        """The verdict for a program."""
        return {"right": dict(self.right), "failed": list(self.failed), "unchecked": list(self.unchecked)}


def vids(text: str | None) -> frozenset[int]:
    """The numbers of a list such as 110, 120-130."""
    found: set[int] = set()
    for part in (text or "").replace(" ", "").split(","):
        first, _, last = part.partition("-")
        found.update(range(int(first), int(last or first) + 1) if part else ())
    return frozenset(found)


# --- ports ------------------------------------------------------------------------------------------------------------


class Port(NamedTuple):
    """A port: the VID of untagged frames (`pvid`; None: dropped, 0: they stay untagged), those let in tagged (`takes`), those let out tagged (`gives`), those that
    leave untagged (`bare`), and those that its switch knows."""

    pvid: int | None
    takes: Everything
    gives: Everything
    bare: frozenset[int]
    defined: Everything = None

    def enters(self, tag: int) -> int | None:
        """The VLAN in which a frame with a tag (0: none) is inside; None: it is dropped."""
        inside = self.pvid if tag == UNTAGGED else tag if self.takes is None or tag in self.takes else None
        return inside if inside is None or self.defined is None or inside in self.defined else None

    def leaves(self, vid: int) -> int | None:
        """The tag with which a frame of a VLAN leaves (0: none); None: it doesn't."""
        if self.defined is not None and vid not in self.defined:
            return None
        if vid in self.bare:
            return UNTAGGED
        return vid if vid != UNTAGGED and (self.gives is None or vid in self.gives) else None


PASSES = Port(0, None, None, frozenset([0]))
"""Of a switch that filters nothing."""
CLOSED = Port(None, frozenset(), frozenset(), frozenset())
"""Lets no frame of a VLAN in or out: one that is disabled, or of an overlay, whose frames are within others."""


def on(vid: int) -> Port:
    """A port whose frames are untagged outside and on one VLAN inside."""
    return Port(vid, frozenset(), frozenset(), frozenset([vid]))


def said(record: Any) -> Port:
    """What a port group, a fabric port or an uplink says of itself."""
    admits = record.admits
    if record.members is not None:
        members = vids(record.members)
        port = Port(record.pvid, members, members, vids(record.untagged))
    elif record.kind == "uplink":
        listed = None if record.allowed is None else vids(record.allowed)
        bare = frozenset() if record.native is None else frozenset([record.native])
        pvid = record.native
        if pvid is None and (listed is None or UNTAGGED in listed):
            pvid, bare = UNTAGGED, frozenset([UNTAGGED])
        port = Port(pvid, listed, listed, bare)
    elif record.mode == "access":
        own = frozenset([record.vid])
        port = Port(record.vid, own if admits in ("all", "tagged") else frozenset(), frozenset(), own)
    elif record.mode == "trunk":
        bare = frozenset() if record.native is None else frozenset([record.native])
        port = Port(record.native, vids(record.allowed), vids(record.allowed), bare)
    elif record.mode == "untagged":
        port = on(UNTAGGED)
    else:
        raise Unknown(f"{record.mode} ports")
    if admits == "untagged":
        port = port._replace(takes=frozenset())
    return port._replace(pvid=None) if admits == "tagged" else port


def private(plan: Plan, vid: int) -> Port:
    """A port of a private VLAN: it sends in its own VLAN, and hears the primary one; a promiscuous one all of it, a community its own (RFC 5517 section 3)."""
    second = next(iter(plan.where("secondary_vlan", "vid", vid)), None)
    if second is None:
        segment = next(iter(plan.where("segment", "vid", vid)), None)
        if segment is None:
            raise Unknown(f"a private port on {vid}, which is of no segment")
        heard = {vid, *(one.vid for one in plan.where("secondary_vlan", "segment", segment.id))}
    else:
        heard = {plan.get("segment", second.segment).vid} | ({vid} if second.type == "community" else set())
    return Port(vid, frozenset(), frozenset(), frozenset(heard))


# --- the plan as places and ways between them ---------------------------------------------------------------------------


class Seat(NamedTuple):
    """Where endpoints sit that are alike: on a virtual switch (`at`; or at a fabric port, if it is one's id), at a `port`, sending a tag, belonging on a segment; `doubt`: what
    isn't understood of it."""

    at: str
    port: Port | None
    tag: int
    segment: str | None
    doubt: str

    def hears(self) -> frozenset[int]:
        """The VLANs of its switch whose frames come out as it takes them."""
        if self.port is None:
            return frozenset()
        if self.tag == UNTAGGED:
            return self.port.bare
        return frozenset([self.tag] if self.port.leaves(self.tag) == self.tag else [])


class Way(NamedTuple):
    """A member of a virtual switch's team that may carry: its NIC, the uplink's port, and the fabric switch and its port at the other end of the cable."""

    nic: str
    near: Port
    switch: str
    far: Port


class Branch(NamedTuple):
    """A joint between two fabric switches, a cable or all of a LAG's: its ends, the ports at both ends of each cable, and what its LAGs go by at either end, where those of two
    switches may be one (empty: it is in none)."""

    ends: tuple[str, str]
    ports: tuple[tuple[Port, Port], ...]
    bundle: tuple[str, ...] = ()


@dataclass
class Model:
    """A plan as this checker reads it: `seats` with the endpoints that sit there; `ways` out of each virtual switch, and `unclear` why it isn't understood; `beyond` what hears at each
    fabric switch; `joints` between those by their first cable, blocked ones left out, `bundles` those that are one link, and those `near` each switch; `awake` endpoints."""

    plan: Plan
    seats: dict[Seat, list[str]] = field(default_factory=dict)
    ways: dict[str, list[Way]] = field(default_factory=dict)
    unclear: dict[str, str] = field(default_factory=dict)
    beyond: dict[str, list[tuple[Port, str, Port]]] = field(default_factory=dict)
    joints: dict[str, Branch] = field(default_factory=dict)
    bundles: dict[frozenset[str], list[Branch]] = field(default_factory=dict)
    near: dict[str, list[str]] = field(default_factory=dict)
    strange: dict[str, str] = field(default_factory=dict)
    awake: set[str] = field(default_factory=set)
    _ports: dict[str, Port | None] = field(default_factory=dict)

    def whole(self, lag: str | None) -> str:
        """What a LAG goes by, and the one beside it, which is one with it; empty: there is none."""
        beside = getattr(self.plan.of("lag").get(lag), "beside", None)
        return min(filter(None, (lag, beside, *(o.id for o in self.plan.where("lag", "beside", lag)))), default="")

    def fabric_port(self, id: str) -> Port | None:
        """A physical port; None: nothing passes.  Unknown is raised for one that isn't understood."""
        if id not in self._ports:
            port = self.plan.get("fabric_port", id)
            switch = self.plan.get("fabric_switch", port.switch)
            if not port.enabled:
                self._ports[id] = None
            elif not switch.managed:
                self._ports[id] = PASSES
            else:
                made = private(self.plan, port.vid) if port.mode == "private" else said(port)
                self._ports[id] = made if switch.vlans is None else made._replace(defined=vids(switch.vlans))
            if port.isolated or port.reflects or port.partial:
                raise Unknown(f"port {port.name} of {switch.name}, which is isolated, reflects or is known in part")
        return self._ports[id]


def read_model(plan: Plan) -> Model:
    """The plan as places and ways."""
    model = Model(plan)
    far: dict[str, str] = {}
    for cable in plan.all("cable"):
        far[cable.a], far[cable.b] = cable.b, cable.a
    _fabric(model)
    for switch in plan.all("virtual_switch"):
        try:
            model.ways[switch.id] = list(_ways(model, switch, far))
        except Unknown as unknown:
            model.unclear[switch.id] = str(unknown)
    for switch, ways in model.ways.items():
        for way in ways:
            model.beyond.setdefault(way.switch, []).append((way.far, switch, way.near))
    for nic in plan.all("nic"):
        # Where it isn't understood who is behind a NIC, everybody may be.
        uplink, end = plan.of("uplink").get(nic.uplink), plan.of("fabric_port").get(far.get(nic.id))
        if end is not None and uplink is not None and uplink.switch in model.unclear:
            model.beyond.setdefault(end.switch, []).append((_or_all(model, end.id), uplink.switch, PASSES))
    _seats(model, far)
    return model


def _ways(model: Model, switch: Any, far: Mapping[str, str]) -> Iterator[Way]:
    """The members of a virtual switch's only team that may carry."""
    plan = model.plan
    if switch.partial or switch.host_untagged or switch.returning != "learned":
        raise Unknown("a switch known in part, or one that hands VIDs to the host untagged or knows its addresses")
    uplinks = plan.where("uplink", "switch", switch.id)
    if not uplinks:
        return
    if len(uplinks) > 1 or uplinks[0].over is not None or plan.where("uplink", "over", uplinks[0].id):
        raise Unknown("several ways out, or one that is shared")
    uplink = uplinks[0]
    if uplink.isolated or uplink.reflects:
        raise Unknown("an uplink that is isolated or reflects")
    nics = [nic for nic in plan.where("nic", "uplink", uplink.id) if nic.role != "excluded" and nic.link == "up"]
    if any(plan.where("group_order", "nic", nic.id) for nic in nics) or any(nic.wireless for nic in nics):
        raise Unknown("a team order of its own, or a wireless NIC")
    port = said(uplink) if switch.filters else PASSES
    lags = {}
    for nic in nics:
        end = plan.of("fabric_port").get(far.get(nic.id))
        if end is None:
            raise Unknown(f"{nic.name}, of which nobody says where it is plugged in, or cabled to another host")
        if end.enabled:
            lags[nic.id] = plan.of("lag").get(end.lag)
    if uplink.mode in ("standby", "pinned") and any(lag is not None and not lag.lacp for lag in lags.values()):
        raise Unknown("a static LAG behind a team of which one NIC carries")
    spoken = Counter(model.whole(lag.id) for lag in lags.values() if lag is not None and lag.lacp)
    for nic in nics:
        lag = lags.get(nic.id)
        if nic.id not in lags:
            continue
        if uplink.mode == "lacp" and spoken and (lag is None or model.whole(lag.id) != spoken.most_common(1)[0][0]):
            continue
        if uplink.mode == "lacp" and len({n.speed for n in nics} - {None}) > 1:
            raise Unknown("a LAG of several speeds")
        if uplink.mode != "lacp" and lag is not None and lag.lacp and not lag.individual:
            continue
        end = plan.get("fabric_port", far[nic.id])
        there = model.fabric_port(end.id)
        if there is not None:
            yield Way(nic.id, port, end.switch, there)


def _seats(model: Model, far: Mapping[str, str]) -> None:
    """Where everybody sits."""
    plan = model.plan
    groups: dict[str, tuple[str, Port | None, str]] = {}
    for group in plan.all("port_group"):
        switch = plan.get("virtual_switch", group.switch)
        doubt, port = model.unclear.get(switch.id, ""), None
        try:
            if group.mode == "overlay":
                port, doubt = CLOSED, doubt or "an overlay"
            elif switch.filters:
                port = private(plan, group.vid) if group.mode == "private" else said(group)
            else:
                port = PASSES
        except Unknown as unknown:
            doubt = doubt or str(unknown)
        if group.isolated or group.reflects or plan.where("group_order", "port_group", group.id):
            doubt = doubt or "a port group that is isolated, reflects, or has a team order of its own"
        groups[group.id] = switch.id, port, doubt
    tags = {tag.adapter for tag in plan.all("guest_tag")}
    for adapter in plan.all("adapter"):
        if adapter.connected and plan.get("guest", adapter.guest).running:
            model.awake.add(adapter.id)
        if adapter.type == "direct":
            nic = adapter.function_of
            end = plan.of("fabric_port").get(far.get(nic))
            port = PASSES if adapter.function_vid is None else on(adapter.function_vid)
            at, doubt = f"{nic} function", "a virtual function"
            if end is not None:
                model.beyond.setdefault(end.switch, []).append((_or_all(model, end.id), at, PASSES))
        elif adapter.port_group is None:
            at, port, doubt = "", None, ""
        else:
            at, port, doubt = groups[adapter.port_group]
            if (adapter.members, adapter.admits, adapter.isolated, adapter.reflects) != (None,) * 4:
                doubt = doubt or "an adapter with a port of its own"
        own = [(adapter.id, UNTAGGED, adapter.belongs)] if adapter.id not in tags or adapter.belongs else []
        own += [(tag.id, tag.vid, tag.belongs) for tag in plan.where("guest_tag", "adapter", adapter.id)]
        for id, tag, segment in own:
            model.seats.setdefault(Seat(at, port, tag, segment, doubt), []).append(id)
            if adapter.id in model.awake:
                model.awake.add(id)
    for record in plan.all("host_port"):
        port = on(record.vid or UNTAGGED)
        doubt = model.unclear.get(record.switch, "")
        model.seats.setdefault(Seat(record.switch, port, UNTAGGED, record.belongs, doubt), []).append(record.id)
        if record.connected:
            model.awake.add(record.id)
    for record in plan.all("station_port"):
        try:
            there, doubt = model.fabric_port(record.port), ""
        except Unknown as unknown:
            there, doubt = PASSES, str(unknown)
        seat = Seat(record.port, there, record.vid or UNTAGGED, record.belongs, doubt)
        model.seats.setdefault(seat, []).append(record.id)
        model.awake.add(record.id)


def _or_all(model: Model, port: str) -> Port:
    """A physical port; one that isn't understood as if everything passed, one that is disabled as if nothing did."""
    try:
        return model.fabric_port(port) or CLOSED
    except Unknown:
        return PASSES


def _fabric(model: Model) -> None:
    """The joints between fabric switches that aren't blocked."""
    plan, ports = model.plan, model.plan.of("fabric_port")
    bundles: dict[Any, list[tuple[str, Any, Any]]] = {}
    for cable in plan.all("cable"):
        a, b = ports.get(cable.a), ports.get(cable.b)
        if a is not None and b is not None and a.enabled and b.enabled:
            a, b = sorted((a, b), key=lambda port: (port.switch, port.id))
            bundles.setdefault((a.lag, b.lag) if a.lag and b.lag else cable.id, []).append((cable.id, a, b))
    found = []
    for cables in bundles.values():
        cables.sort(key=lambda one: one[1].id)
        if cables[0][1].switch == cables[0][2].switch:
            model.strange[cables[0][1].switch] = "a cable from a switch to itself"
        else:
            found.append((cables[0][0], cables))
    if any(plan.get("fabric_switch", lag.switch).spanning_tree for lag in plan.all("lag") if lag.beside):
        inside = [switch.id for switch in plan.all("fabric_switch") if switch.spanning_tree]
        model.strange.update(dict.fromkeys(inside, "a spanning tree in which two switches are one"))
    blocked = _blocked(plan, found)
    for key, cables in sorted(found):
        if key in blocked:
            continue
        ends = cables[0][1].switch, cables[0][2].switch
        try:
            pairs = [(model.fabric_port(a.id), model.fabric_port(b.id)) for _, a, b in cables]
        except Unknown as unknown:
            for end in ends:
                model.strange[end] = str(unknown)
            continue
        lags = tuple(model.whole(port.lag) for port in cables[0][1:])
        bundle = lags if all(lags) and lags[0] != lags[1] else ()
        model.joints[key] = Branch(ends, tuple((a, b) for a, b in pairs if a is not None and b is not None), bundle)
        model.bundles.setdefault(frozenset(bundle), []).append(model.joints[key])
        for end in ends:
            model.near.setdefault(end, []).append(key)


def _blocked(plan: Plan, joints: Iterable[tuple[str, list[tuple[str, Any, Any]]]]) -> set[str]:
    """The joints that the spanning tree blocks: neither the way of one of its ends to the root, nor of the other."""
    switches = plan.of("fabric_switch")

    def rank(id: str) -> tuple[int, str, str]:
        return switches[id].priority, switches[id].mac or "~", id

    def place(port: Any) -> list[tuple[int, int, str]]:
        return [(1, int(part), "") if part.isdecimal() else (0, 0, part) for part in re.split(r"(\d+)", port.name)]

    costs: dict[str, int] = {}
    at: dict[str, list[tuple[str, int, Any]]] = {}
    for key, cables in joints:
        ends = cables[0][1].switch, cables[0][2].switch
        if all(switches[end].spanning_tree for end in ends):
            costs[key] = max(1, 20_000_000 // sum(min(a.speed or 1_000, b.speed or 1_000) for _, a, b in cables))
            for side in (0, 1):
                at.setdefault(ends[side], []).append((key, side, cables[0]))
    distance: dict[str, int] = {}
    for root in sorted(at, key=rank):
        heap = [(0, root)] if root not in distance else []
        while heap:
            cost, here = heapq.heappop(heap)
            if cost > distance.get(here, cost) or (here in distance and distance[here] < cost):
                continue
            distance[here] = cost
            for key, side, (_, a, b) in at[here]:
                other = (a, b)[1 - side].switch
                if cost + costs[key] < distance.get(other, 1 << 60):
                    distance[other] = cost + costs[key]
                    heapq.heappush(heap, (distance[other], other))
    leads: set[str] = set()
    for here, ways in at.items():
        if distance[here] == 0:
            continue

        def offer(way: tuple[str, int, Any]) -> tuple[Any, ...]:
            key, side, (_, a, b) = way
            mine, theirs = ((a, b), (b, a))[side]
            return distance[theirs.switch] + costs[key], rank(theirs.switch), place(theirs), place(mine)

        leads.add(min(ways, key=offer)[0])
    return set(costs) - leads


# --- the claims -----------------------------------------------------------------------------------------------------


class Checker:
    """One report's claims against one plan."""

    def __init__(self, plan: Plan, report: Mapping[str, Any]) -> None:
        self.plan, self.report, self.model = plan, report, read_model(plan)
        self.home = {e["id"] for e in report["endpoints"] if e["verdict"] == "home"}
        self.failed: list[str] = []
        self.unchecked: list[str] = []
        self.right: Counter[str] = Counter()
        self.trees: dict[str, set[str]] = {}
        self.seat_of = {id: seat for seat, ids in self.model.seats.items() for id in ids}
        self.by_segment: dict[str | None, list[tuple[Seat, list[str]]]] = {}
        self.ears: dict[tuple[str, int], list[tuple[str | None, str]]] = {}
        for seat, ids in self.model.seats.items():
            self.by_segment.setdefault(seat.segment, []).append((seat, ids))
            id = next((id for id in ids if self._home(id)), "")
            for vid in seat.hears() if id else ():
                self.ears.setdefault((seat.at, vid), []).append((seat.segment, id))

    def verdict(self) -> Verdict:
        """Every claim checked."""
        known = {record for kind in ("adapter", "host_port", "guest_tag") for record in self.plan.of(kind)}
        for id in sorted(self.home - known):
            self.failed.append(f"home: the plan has no endpoint {id}")
        evidence = {one["id"]: one for one in self.report["segments"]}
        for segment in sorted(self.plan.all("segment"), key=lambda s: s.id):
            seats = [
                (seat, mine)
                for seat, ids in self.by_segment.get(segment.id, ())
                if (mine := [i for i in ids if self._home(i)])
            ]
            if not seats:
                continue
            said = evidence.get(segment.id)
            if said is None:
                self.failed.append(f"segment {segment.name}: the report brings no evidence for those who are home")
                continue
            self._segment(segment, seats, said)
        for id in sorted(self.home & {a.id for a in self.plan.all("adapter")}):
            record = self.plan.get("adapter", id)
            if record.belongs is None and not self.plan.where("guest_tag", "adapter", id):
                self.failed.append(f"home: {id} belongs nowhere")
        for n, said in enumerate(self.report.get("pings", ()), 1):
            name = f"ping {n}, from {said['from']} to {said['to']}"
            try:
                self._ping(said)
            except Unknown as unknown:
                self.unchecked.append(f"{name}: {unknown}")
            except Wrong as fault:
                self.failed.append(f"{name}: {fault}")
            else:
                self.right["ping"] += 1
        return Verdict(dict(self.right), tuple(self.failed), tuple(self.unchecked))

    def _home(self, place: str) -> bool:
        """Whether a place's endpoint is said to be home."""
        tag = self.plan.of("guest_tag").get(place)
        return (tag.adapter if tag is not None else place) in self.home

    def _segment(self, segment: Any, seats: list[tuple[Seat, list[str]]], said: Mapping[str, Any]) -> None:
        if segment.vanished and seats:
            names = _some([id for _, ids in seats for id in ids])
            self.failed.append(f"home: {names} of {segment.name}: its source doesn't define it any longer")
            return
        if not segment.vid:
            self._local(segment, seats)
            return
        try:
            spoken = {vid for seat, _ in seats for _, vid in self._entered(seat)} & self._family(segment)
            tree = self.trees[segment.id] = self._tree(segment, said["tree"], spoken)
        except Unknown as unknown:
            self.unchecked.append(f"segment {segment.name}: {unknown}")
            return
        except Wrong as fault:
            self.failed.append(f"segment {segment.name}: {fault}")
            return
        beside, failed = self._beside(segment, seats), len(self.failed)
        good = beside or self._gateways(segment, tree, spoken, [id for _, ids in seats for id in ids])
        for seat, ids in seats:
            try:
                wrong = "" if beside else self._lands(seat, segment, tree, self._peers(seat, segment))
            except Unknown as unknown:
                self.unchecked.append(f"home: {_some(ids)} of {segment.name}: {unknown}")
                continue
            if wrong:
                self.failed.append(f"home: {_some(ids)} of {segment.name}: {wrong}")
            elif good:
                self.right["home"] += len(ids)
        within = len({(seat.at, seat.port and seat.port.enters(seat.tag)) for seat, _ in seats}) == 1
        if self.failed[failed:] and (within or not tree or self.model.strange or any(seat.doubt for seat, _ in seats)):
            # They may hear each other beside the tree: within one switch, or over what isn't understood.
            self.unchecked += (f"{line}, and perhaps they meet beside it" for line in self.failed[failed:])
            del self.failed[failed:]
        closed = {(switch, int(vid)) for vid, switches in said["closed"].items() for switch in switches}
        try:
            wrong = self._alone(segment, seats, closed)
        except Unknown as unknown:
            self.unchecked.append(f"apart: {segment.name}: {unknown}")
        else:
            if wrong:
                self.failed.append(f"apart: {segment.name}: {wrong}")
            else:
                self.right["apart"] += 1

    def _beside(self, segment: Any, seats: list[tuple[Seat, list[str]]]) -> bool:
        """Whether all of a segment, gateways too, are in its VLAN of one virtual switch, where they hear each other whatever the fabric does."""

        def there(seat: Seat) -> bool:
            alike = seat.port is not None and seat.port.enters(seat.tag) == segment.vid and segment.vid in seat.hears()
            return alike and not seat.doubt and seat.at == seats[0][0].at and seat.at in self.model.ways

        bearers = [
            any(there(seat) and id in self.model.awake for seat, id in self._bound.get(gateway, ()))
            for gateway in segment.gateways
        ]
        alone = sum(len(ids) for _, ids in seats) == 1 and not segment.gateways
        return all(there(seat) for seat, _ in seats) and all(bearers) and not alone

    def _local(self, segment: Any, seats: list[tuple[Seat, list[str]]]) -> None:
        """A segment without a VID: its places are beside each other on one switch without a way out, and nobody else is."""
        names = _some([id for _, ids in seats for id in ids])
        switches = {seat.at for seat, _ in seats}
        doubt = next((seat.doubt for seat, _ in seats if seat.doubt), "")
        if doubt or segment.vni or len(switches) > 1 or self.model.ways.get(next(iter(switches))):
            self.unchecked.append(
                f"home: {names} of {segment.name}: {doubt or 'a segment without a VID that isn’t on one sealed switch alone'}"
            )
            return
        (switch,) = switches
        inside = {seat.port.enters(seat.tag) for seat, _ in seats if seat.port is not None}
        stranger = next((id for vid in inside if (id := self._stranger(switch, vid, segment.id))), "")
        if len(inside) != 1 or None in inside:
            self.failed.append(f"home: {names} of {segment.name}: they don't hear each other on their switch")
        elif stranger:
            self.failed.append(f"apart: {segment.name}: {stranger} is beside it")
        elif segment.gateways and not all(self._borne(g, switches) for g in segment.gateways):
            self.failed.append(f"home: {names} of {segment.name}: nobody who runs bears a gateway there")
        else:
            self.right["home"] += sum(len(ids) for _, ids in seats)
            self.right["apart"] += 1

    def _borne(self, address: str, switches: set[str]) -> bool:
        return any(seat.at in switches and id in self.model.awake for seat, id in self._bound.get(address, ()))

    def _family(self, segment: Any) -> set[int]:
        """The VIDs of a segment: its own, and those of its secondary VLANs (RFC 5517 section 3)."""
        return {segment.vid, *(second.vid for second in self.plan.where("secondary_vlan", "segment", segment.id))}

    def _peers(self, seat: Seat, segment: Any) -> set[int]:
        """The VIDs that a seat has to hear: its segment's, and its community's."""
        inside = seat.port.enters(seat.tag) if seat.port is not None else None
        second = next(iter(self.plan.where("secondary_vlan", "vid", inside)), None) if inside else None
        if second is not None and not segment.gateways:
            raise Unknown("a private VLAN without a gateway")
        return {segment.vid} | ({second.vid} if second is not None and second.type == "community" else set())

    def _tree(self, segment: Any, said: Mapping[str, str | None], spoken: set[int]) -> set[str]:
        """The switches of a tree, each of whose branches passes the segment's VID both ways."""
        for switch in said:
            if switch not in self.plan.of("fabric_switch"):
                raise Wrong(f"its tree has {switch}, which is no switch of the fabric")
            seen, here = {switch}, switch
            while (key := said.get(here)) is not None:
                if here in self.model.strange:
                    raise Unknown(f"{here}: {self.model.strange[here]}")
                joint = self.model.joints.get(key)
                if joint is None or here not in joint.ends:
                    raise Wrong(f"its tree has the cable {key} at {here}, which carries nothing there")
                if not self._crosses(joint, segment.vid):
                    raise Wrong(f"the cable {key} of its tree doesn't pass {segment.vid} both ways")
                if not all(_across(pair, vid) for pair in joint.ports for vid in spoken):
                    raise Unknown(f"the cable {key} of its tree doesn't pass all of its secondary VLANs")
                here = joint.ends[1] if joint.ends[0] == here else joint.ends[0]
                if here in seen or here not in said:
                    raise Wrong(f"its tree doesn't lead from {switch} to its root")
                seen.add(here)
        if sum(key is None for key in said.values()) > 1:
            raise Wrong("its tree has several roots")
        return set(said)

    def _crosses(self, joint: Branch, vid: int) -> bool:
        """Whether a joint passes a VID both ways; where it is one with others, whichever carries: all pass it, and so does one between the two switches at an end."""
        together = self.model.bundles[frozenset(joint.bundle)] if joint.bundle else [joint]
        named = {pair for other in together for pair in zip(other.bundle, other.ends, strict=False)}
        pairs = [{a, b} for one, a in named for two, b in named if one == two and a < b]
        joints = self.model.joints.values()
        between = (any(ends == {*o.ends} and self._crosses(o, vid) for o in joints) for ends in pairs)
        return all(_across(pair, vid) for other in together for pair in other.ports) and all(between)

    def _lands(self, seat: Seat, segment: Any, tree: set[str], heard: set[int]) -> str:
        """What is wrong with how a seat's frames get into the tree, and those of some VIDs (`heard`) from there to it; empty: nothing."""
        if seat.doubt:
            raise Unknown(seat.doubt)
        if seat.port is None:
            return "it is attached to nothing"
        if seat.at in self.plan.of("fabric_port"):
            switch = self.plan.get("fabric_port", seat.at).switch
            hears = all(seat.port.leaves(vid) == seat.tag for vid in heard)
            right = seat.port.enters(seat.tag) in self._family(segment) and hears and switch in tree
            return "" if right else f"{segment.vid} isn't what comes in and out at its port"
        inside = seat.port.enters(seat.tag)
        if inside is None:
            return "its port drops what it sends"
        ways = self.model.ways.get(seat.at, ())
        if not ways:
            raise Unknown("a switch without a way out")
        for way in ways:
            tag = way.near.leaves(inside)
            there = way.far.enters(tag) if tag is not None else None
            if way.far is PASSES and there == UNTAGGED:
                raise Unknown("an unmanaged switch, in which untagged frames are of no VLAN")
            if there not in self._family(segment) or way.switch not in tree:
                return f"over {way.nic} its frames don't get into the tree on {segment.vid}"
            for back in map(way.far.leaves, heard):
                comes = way.near.enters(back) if back is not None else None
                if comes is None or seat.port.leaves(comes) != seat.tag:
                    return f"over {way.nic} it doesn't hear what comes back"
        return ""

    def _needs(self, id: str, gateway: str, segment: Any) -> bool:
        """Whether somebody has addresses of a gateway's version, or none at all, and bears none of the gateways himself."""
        own = [text.partition("/")[0] for text in self.plan.find(id).addresses]  # type: ignore[union-attr]
        return not own or (any((":" in a) == (":" in gateway) for a in own) and not {*own} & {*segment.gateways})

    def _gateways(self, segment: Any, tree: set[str], spoken: set[int], ids: list[str]) -> bool:
        """Whether somebody who runs bears each gateway in the tree that one of those at home needs, and hears whatever is spoken there."""
        good = True
        for address in segment.gateways:
            tried, doubts = [], list[str]()
            for seat, id in self._bound.get(address, ()):
                try:
                    wrong = (
                        "it is off"
                        if id not in self.model.awake
                        else self._lands(seat, segment, tree, spoken | {segment.vid})
                    )
                except Unknown as unknown:
                    wrong = str(unknown)
                    doubts.append(f"{id}: {wrong}")
                tried.append(wrong)
            for way in self.plan.where("way_in", "segment", segment.id):
                port = _or_all(self.model, way.port)
                inside = self.plan.get("fabric_port", way.port).switch in tree
                tried.append(
                    ""
                    if port is not None and inside and all(_turns(port, vid) for vid in spoken | {segment.vid})
                    else "its way in doesn't carry it"
                )
            if not tried and not any(self._needs(id, address, segment) for id in ids):
                continue
            if "" not in tried and doubts:
                self.unchecked.append(f"home: gateway {address} of {segment.name}: {doubts[0]}")
                good = False
            elif "" not in tried:
                self.failed.append(
                    f"home: gateway {address} of {segment.name}: {'; '.join(dict.fromkeys(tried)) or 'nobody bears it'}"
                )
                good = False
        return good

    def _ping(self, said: Mapping[str, Any]) -> None:
        """The hops of a question and of its answer, each (interface, next hop's address, whose)."""
        there, back = said["there"], said["back"]
        target = there[-1][1]
        source = next((a for a, net in self._own(there[0][0]) if ipaddress.ip_address(there[0][1]) in net), None)
        if source is None:
            raise Wrong(f"{there[0][0]} has no address in the subnet of {there[0][1]}")
        asked = self._travels(there, source, target, said["on"], None)
        if asked[-1] != self._owner(back[0][0]) or said["from"] not in (there[0][0], asked[0]):
            raise Wrong("its answer isn't that of whoever was asked, or it begins at somebody else")
        if said["to"] not in (there[-1][2], asked[-1]):
            raise Wrong(f"{said['to']} isn't who has {target}")
        if self._travels(back, target, source, said["on"], asked)[-1] != asked[0]:
            raise Wrong("its answer ends elsewhere")

    def _travels(self, hops: list[list[str]], source: str, target: str, on: str, seen: list[str] | None) -> list[str]:
        """Whoever has a packet on its way, in turn; `seen`: it is an answer to what these let through."""
        owners = [self._owner(hops[0][0])]
        for n, (out, via, to) in enumerate(hops):
            here = owners[-1]
            if self._owner(out) != here:
                raise Wrong(f"{out} isn't an interface of {here}")
            if n and not self.plan.find(here).routes:  # type: ignore[union-attr]
                raise Wrong(f"{here} doesn't forward")
            if n and (seen is None or here not in seen):
                self._let(here, (hops[n - 1][2], out), (source, target), on, seen is not None)
            lines = self._lines(here, target)
            if (out, via) not in lines or len(lines) > 1:
                raise (Unknown if (out, via) in lines else Wrong)(f"{here} sends what is for {target} by {lines}")
            bearing = [id for _, id in self._bound.get(via, ()) if id != out]
            if bearing != [to]:
                self._own(to)
                raise (Unknown if to in bearing else Wrong)(f"{via} is borne by {_some(bearing) or 'nobody'}")
            if not {out, to} <= self.model.awake:
                raise Wrong(f"{out} or {to} is off")
            if ":" not in via and any(self.plan.where(kind, "proxy_arp", True) for kind in SEATED):
                raise Unknown("somebody may answer for others (proxy ARP)")
            self._meet(out, to)
            owners.append(self._owner(to))
        if any(self.plan.where("inward_translation", "at", record) for record in self._interfaces[owners[-1]]):
            raise Unknown(f"{owners[-1]} translates inwards")
        if not any(a == target for record in self._interfaces[owners[-1]] for a, _ in self._own(record)):
            raise Wrong(f"it ends at {owners[-1]}, who hasn't {target}")
        return owners

    def _let(self, here: str, at: tuple[str, str], ends: tuple[str, str], on: str, answer: bool) -> None:
        """What a filter makes of a packet from one interface to another: the first line that it matches decides."""
        if self.plan.where("translation", "at", at[1]):
            raise Unknown(f"{here} translates")
        lines = sorted(self.plan.where("filter_line", "of", here), key=lambda line: line.order)
        if answer and lines:
            raise Unknown(f"{here} filters an answer of which it didn't see the question")
        protocol, _, port = on.partition(" ")
        for line in lines:
            fits = all(mine in (None, its) for mine, its in zip((line.enters, line.leaves), at, strict=True))
            for nets, end in zip((line.sources, line.targets), ends, strict=True):
                inside = (ipaddress.ip_address(end) in ipaddress.ip_network(net) for net in nets)
                fits = fits and (not nets or any(inside))
            fits = fits and line.protocol in ("any", protocol)
            if fits and (not line.ports or int(port or 0) in vids(line.ports)):
                if line.action != "allow":
                    raise (Wrong if line.action == "deny" else Unknown)(f"filter line {line.order} of {here}")
                return

    def _lines(self, here: str, target: str) -> set[tuple[str, str]]:
        """Where somebody sends what is for an address: interface and next hop, of the longest prefix; what is connected before all else."""
        address, found = ipaddress.ip_address(target), list[tuple[int, int, str, str]]()
        if self.plan.where("outside", "at", here):
            raise Unknown(f"an outside network is behind {here}")
        nets = [(record, net) for record in self._interfaces[here] for _, net in self._own(record)]
        found += [(net.prefixlen, 1, record, target) for record, net in nets if address in net]
        ways = [(to, route.via, 0) for route in self.plan.where("route", "of", here) for to in route.to]
        if not any(ipaddress.ip_network(to).prefixlen == 0 and (":" in to) == (":" in target) for to, _, _ in ways):
            for record in map(self.plan.find, self._interfaces[here]):
                segment = self.plan.of("segment").get(record.belongs)  # type: ignore[union-attr]
                own = getattr(record, "gateway", None)
                said = (own,) if own else segment.gateways if segment is not None else ()
                ways += [("::/0" if ":" in via else "0.0.0.0/0", via.partition("/")[0], record.id) for via in said]  # type: ignore[union-attr, misc]
        mine = {a for record in self._interfaces[here] for a, _ in self._own(record)}
        for to, via, only in ways:
            net, hop = ipaddress.ip_network(to), ipaddress.ip_address(via)
            if address in net and via not in mine:
                out = next((record for record, own in nets if hop in own and only in (0, record)), None)
                found += [(net.prefixlen, 0, out, via)] if out is not None else []
        most = max(found, default=(0, 0))[:2]
        return {(out, via) for length, near, out, via in found if (length, near) == most}

    def _meet(self, one: str, two: str) -> None:
        """Two interfaces hear each other: in their segment's tree, or beside each other on a virtual switch."""
        seats = self.seat_of[one], self.seat_of[two]
        segment = self.plan.of("segment").get(seats[0].segment)
        if segment is None or seats[1].segment != segment.id or not segment.vid:
            raise Unknown(f"{one} and {two} aren't on one segment with a VID")
        entered = {seat.port.enters(seat.tag) if seat.port is not None else None for seat in seats}
        alike = seats[0].at == seats[1].at in self.model.ways and len(entered) == 1 and None not in entered
        if alike and not any(seat.doubt or not entered <= seat.hears() for seat in seats):
            return
        if segment.id not in self.trees:
            raise Unknown(f"of {segment.name} there is no tree")
        if not entered <= {segment.vid}:
            raise Unknown(f"{one} or {two} is on a secondary VLAN")
        for id, seat in zip((one, two), seats, strict=True):
            wrong = self._lands(seat, segment, self.trees[segment.id], {segment.vid})
            if wrong:
                raise Wrong(f"{id} of {segment.name}: {wrong}")

    def _own(self, record: str) -> list[tuple[str, Any]]:
        """The addresses of an interface, each with its subnet."""
        found: Any = self.plan.find(record)
        if (found.addressing, found.addressing6) not in (("static", "static"), ("none", "static")):
            raise Unknown(f"{record} gets its address from others")
        return [(str(b.ip), b.network) for b in map(ipaddress.ip_interface, found.addresses)]

    def _owner(self, record: str) -> str:
        """The guest, host or station whose interface a record is."""
        found: Any = self.plan.find(record)
        if record not in self.seat_of:
            raise Wrong(f"there is no interface {record}")
        if found.kind == "guest_tag":
            found = self.plan.get("adapter", found.adapter)
        if found.kind == "host_port":
            found = self.plan.get("virtual_switch", found.switch)
        return str(getattr(found, "guest", getattr(found, "host", getattr(found, "station", ""))))

    @cached_property
    def _interfaces(self) -> dict[str, list[str]]:
        """The interfaces of each guest, host and station."""
        found: dict[str, list[str]] = {}
        for record in self.seat_of:
            found.setdefault(self._owner(record), []).append(record)
        return found

    def _alone(self, segment: Any, seats: list[tuple[Seat, list[str]]], closed: set[tuple[str, int]]) -> str:
        """What is wrong with a closed set: where frames leave it, or who of another segment hears them; empty: nothing."""
        model = self.model
        for seat, ids in seats:
            if seat.doubt:
                raise Unknown(f"{_some(ids)}: {seat.doubt}")
            for switch, vid in self._entered(seat):
                if (switch, vid) not in closed:
                    return f"frames of {_some(ids)} get to VID {vid} of {switch}, outside the closed set"
            if seat.at not in self.plan.of("fabric_port") and seat.port is not None:
                heard = self._stranger(seat.at, seat.port.enters(seat.tag), segment.id)
                if heard:
                    return f"{heard} hears {_some(ids)} on their switch"
        for switch, vid in sorted(closed):
            if switch in model.strange:
                raise Unknown(f"{switch}: {model.strange[switch]}")
            for key in model.near.get(switch, ()):
                joint = model.joints[key]
                side = joint.ends.index(switch)
                for pair in joint.ports:
                    tag = pair[side].leaves(vid)
                    onward = pair[1 - side].enters(tag) if tag is not None else None
                    if onward is not None and (joint.ends[1 - side], onward) not in closed:
                        return f"frames leave it over {key}: from VID {vid} of {switch} to VID {onward} of {joint.ends[1 - side]}"
            for far, at, near in model.beyond.get(switch, ()):
                tag = far.leaves(vid)
                inside = near.enters(tag) if tag is not None else None
                if inside is None:
                    continue
                if at in model.unclear:
                    raise Unknown(f"{at}: {model.unclear[at]}")
                heard = self._stranger(at, inside, segment.id)
                if heard:
                    return f"{heard} hears VID {vid} of {switch}"
            for seat, ids in self._plugged.get(switch, ()):
                if (
                    seat.segment not in (None, segment.id)
                    and seat.port is not None
                    and seat.port.leaves(vid) == seat.tag
                ):
                    heard = next((id for id in ids if self._home(id)), "")
                    if heard:
                        return f"{heard} hears VID {vid} of {switch}"
        return ""

    def _entered(self, seat: Seat) -> Iterator[tuple[str, int]]:
        """Where in the fabric a seat's frames get to, over whatever carries."""
        inside = seat.port.enters(seat.tag) if seat.port is not None else None
        if inside is None:
            return
        if seat.at in self.plan.of("fabric_port"):
            yield self.plan.get("fabric_port", seat.at).switch, inside
        for way in self.model.ways.get(seat.at, ()):
            tag = way.near.leaves(inside)
            there = way.far.enters(tag) if tag is not None else None
            if there is not None:
                yield way.switch, there

    def _stranger(self, at: str, inside: int | None, segment: str) -> str:
        """Somebody at home on another segment who hears a VLAN of a virtual switch."""
        heard = self.ears.get((at, inside), ()) if inside is not None else ()
        return next((id for other, id in heard if other not in (None, segment)), "")

    @cached_property
    def _plugged(self) -> dict[str, list[tuple[Seat, list[str]]]]:
        """The stations at each fabric switch."""
        found: dict[str, list[tuple[Seat, list[str]]]] = {}
        for seat, ids in self.model.seats.items():
            port = self.plan.of("fabric_port").get(seat.at)
            if port is not None:
                found.setdefault(port.switch, []).append((seat, ids))
        return found

    @cached_property
    def _bound(self) -> dict[str, list[tuple[Seat, str]]]:
        """Who bears each address, and where he sits."""
        found: dict[str, list[tuple[Seat, str]]] = {}
        for seat, ids in self.model.seats.items():
            for id in ids:
                for text in getattr(self.plan.find(id), "addresses", ()):
                    found.setdefault(text.partition("/")[0], []).append((seat, id))
        return found


def _across(pair: tuple[Port, Port], vid: int) -> bool:
    """Whether a VID passes a cable both ways and stays the same."""
    tags = [(near.leaves(vid), far) for near, far in (pair, pair[::-1])]
    return all(tag is not None and far.enters(tag) == vid for tag, far in tags)


def _turns(port: Port, vid: int) -> bool:
    tag = port.leaves(vid)
    return tag is not None and port.enters(tag) == vid


def _some(ids: list[str]) -> str:
    listed = sorted(ids)
    return ", ".join(listed[:3]) + (f" and {len(listed) - 3} more" if len(listed) > 3 else "")


def digest(plan: Plan) -> str:
    """What a report calls its plan by: SHA-256 of its file as it is written."""
    return hashlib.sha256(write_plan(plan)).hexdigest()


def read_report(raw: bytes) -> dict[str, Any]:
    """A report, from its JSON or from the HTML that holds it; ValueError says what is wrong with it."""
    text = raw.decode("utf-8")
    held = re.search(r'<script type="application/json" id="evidence">(.*?)</script>', text, re.DOTALL)
    try:
        report = json.loads(held[1].replace("<\\/", "</") if held else text)
    except json.JSONDecodeError as error:
        raise ValueError(f"the report isn't JSON, at line {error.lineno}, column {error.colno}: {error.msg}") from None
    if not isinstance(report, dict) or report.get("format") != FORMAT or report.get("version") != VERSION:
        raise ValueError(f"this is no {FORMAT} of version {VERSION}")
    for name, sort in (("plan", dict), ("endpoints", list), ("segments", list)):
        if not isinstance(report.get(name), sort):
            raise ValueError(f"the report has no {name}")
    for n, one in enumerate(report["endpoints"]):
        if not isinstance(one, dict) or not isinstance(one.get("id"), str) or not isinstance(one.get("verdict"), str):
            raise ValueError(f"endpoint {n + 1} of the report has no id or no verdict")
    for n, one in enumerate(report.get("pings", ())):
        known = one if isinstance(one, dict) else {}
        named = all(isinstance(known.get(name), str) for name in ("from", "to", "on"))
        if not named or not all(_are_hops(known.get(way)) for way in ("there", "back")):
            raise ValueError(f"ping {n + 1} of the report has no ends, or no hops")
    for n, one in enumerate(report["segments"]):
        known = one if isinstance(one, dict) else {}
        tree, closed = known.get("tree"), known.get("closed")
        right = isinstance(tree, dict) and {str, type(None)} >= set(map(type, tree.values()))
        if right and isinstance(closed, dict):
            right = all(
                vid.isdecimal() and isinstance(of, list) and {str} >= set(map(type, of)) for vid, of in closed.items()
            )
        if not right or not isinstance(closed, dict) or not isinstance(known.get("id"), str):
            raise ValueError(f"segment {n + 1} of the report has no id, tree or closed set")
    return report


def _are_hops(way: object) -> bool:
    """Whether these are hops: some of three texts each."""
    if not isinstance(way, list) or not way:
        return False
    return all(isinstance(hop, list) and len(hop) == 3 and set(map(type, hop)) == {str} for hop in way)


def recheck(plan: Plan, report: Mapping[str, Any], raw: bytes = b"") -> Verdict:
    """What becomes of a report's claims; one of another plan fails as a whole.  `raw`: the plan's file, where it was read from one."""
    said = report["plan"].get("digest")
    # A file that was written by hand says the same in another way.
    if said != hashlib.sha256(raw).hexdigest() and said != digest(plan):
        return Verdict({}, ("the report is of another plan, or of another state of this one",), ())
    return Checker(plan, report).verdict()

"""Gestures: what people do to many records at once, as functions that return the edit.

None of them changes a plan: the edit is previewed, made and taken back like any other.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from itertools import chain, count
from typing import Any

from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.fields import plain
from aptwire.plan.hosting import functions_left
from aptwire.plan.kinds import (
    KINDS,
    SPECS,
    Adapter,
    FabricPort,
    GroupOrder,
    Nic,
    PortGroup,
    Record,
    Segment,
    Uplink,
    VirtualSwitch,
)
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.ports import far_end, vid_list
from aptwire.plan.seats import seats_of


def renumber(plan: Plan, old: int, new: int) -> Edit:
    """The edit that gives a VID another number wherever the plan says it: segments, tags, native VLANs, and every list of VIDs.

    Nobody's verdict differs afterwards: what carried the old number carries the new one, and nothing else does.  So the new one
    must be free: PlanError names who has it already.  Lists may name it (a range does); where one names it and not
    the old one, it is taken out.
    """
    for name, vid in (("old", old), ("new", new)):
        try:
            vids.check_vid(vid)
        except ValueError as error:
            raise PlanError([Problem(str(error), field=name)]) from None
    if old == new:
        raise PlanError([Problem("it has this number already", field="new")])
    having: dict[int, list[Record]] = {old: [], new: []}
    for record in plan:
        for vid in having.keys() & _tags(record):
            having[vid].append(record)
    if having[new]:
        names = some(sorted({called(plan, record) for record in having[new]}))
        raise PlanError([Problem(f"{new} is in use already, by {names}", field="new")])
    if not having[old]:
        raise PlanError([Problem(f"nothing in this plan has VID {old}", field="old")])
    renamed = ((record, _renamed(record, old, new)) for record in plan)
    return tuple(Patch(record.kind, record.id, fields) for record, fields in renamed if fields)


def exchange(plan: Plan, one: str, two: str) -> Edit:
    """The edit by which two NICs of a host take each other's place: uplink, part and rank there, team orders, the host's own addresses, and what a
    pattern takes them for.  Cables stay where they are plugged, and virtual functions on their NIC; between NICs of one rank the name decides as before.
    """
    found: list[Any] = [plan.of("nic").get(id) for id in (one, two)]
    for name, nic in zip(("one", "two"), found, strict=True):
        if nic is None:
            raise PlanError([Problem("there is no such NIC", field=name)])
    a, b = found
    if one == two or a.host != b.host:
        raise PlanError([Problem("two NICs of one host are needed", field="two")])
    other = {one: two, two: one}
    made: list[Operation] = []
    for own, its in ((a, b), (b, a)):
        words = {name: getattr(its, name) for name in _PLACE if getattr(own, name) != getattr(its, name)}
        if words:
            made.append(Patch("nic", own.id, {name: plain(value) for name, value in words.items()}))
    for kind, field in (("group_order", "nic"), ("uplink", "carries"), ("stamp_nic", "nic")):
        for id, to in other.items():
            made += [Patch(kind, record.id, {field: to}) for record in plan.where(kind, field, id)]
    if not made:
        raise PlanError([Problem(f"{a.name} and {b.name} are in the same place already", field="two")])
    return tuple(made)


_PLACE = ("uplink", "role", "rank", "addresses")


def move_guests(plan: Plan, guests: Sequence[str], host: str) -> Edit:
    """The edit that moves guests to another host (`place_guests`)."""
    return place_guests(plan, dict.fromkeys(guests, host))


def place_guests(plan: Plan, to: Mapping[str, str]) -> Edit:
    """The edit that moves guests, each to a host (ids).  Each adapter goes into the port group there that is most like its own: of the same name, else
    one that frames see as they see its own, else one of its segment’s VID (`plan/seats.py`); where there is none it stays unattached.

    A direct adapter takes the NIC there that has a virtual function left; PlanError names those for whom none has.  An adapter whose name another one has
    there, where names are the host's, gets a number behind it; a mirror that would lead from one switch to another goes.
    """
    if any(host not in plan.of("host") for host in to.values()):
        raise PlanError([Problem("there is no such host", field="host")])
    if not to or any(id not in plan.of("guest") for id in to):
        raise PlanError([Problem("there is no such guest", field="guests")])
    made: list[Operation] = []
    problems: list[Problem] = []
    hosts = {host: _Arriving(plan, host) for host in to.values()}
    for id, host in to.items():
        if plan.get("guest", id).host == host:
            continue
        made.append(Patch("guest", id, {"host": host}))
        for adapter in plan.where("adapter", "guest", id):
            said = hosts[host].takes(adapter)
            if said is None:
                text = f"{called(plan, adapter)} is direct, and no NIC there has a virtual function left"
                problems.append(Problem(text, kind="adapter", id=adapter.id, field="function_of"))
            elif said:
                made.append(Patch("adapter", adapter.id, said))
    if problems:
        raise PlanError(problems)
    if not made:
        raise PlanError([Problem("they are there already", field="host")])
    return (*_torn(plan, made), *made)


class _Arriving:
    """What a host has for adapters that come, one after the other."""

    def __init__(self, plan: Plan, host: str) -> None:
        self.plan = plan
        self.seats = seats_of(plan, host)
        self.names = {a.name for g in plan.where("guest", "host", host) for a in plan.where("adapter", "guest", g.id)}
        self.left = functions_left(plan, host)

    def takes(self, adapter: Adapter) -> dict[str, Any] | None:
        """What changes of an adapter; None: there is no virtual function for it."""
        name = free_name(adapter.name, self.names)
        said: dict[str, Any] = {"name": name} if name != adapter.name else {}
        if adapter.type == "direct":
            nic = next((nic for nic, free in self.left.items() if free > 0), None)
            if nic is None:
                return None
            self.left[nic] -= 1
            said["function_of"] = nic
        elif adapter.port_group is not None:
            segment = self.plan.of("segment").get(adapter.belongs)
            own = self.plan.get("port_group", adapter.port_group)
            seat = self.seats.like(own, segment.vid if segment is not None else None)
            said["port_group"] = seat.id if seat is not None else None
        self.names.add(name)
        return said


def _torn(plan: Plan, made: Sequence[Operation]) -> Iterator[Operation]:
    """The mirrors whose two adapters wouldn't sit on one switch any more."""
    said = {op.id: op.changes for op in made if isinstance(op, Patch) and op.kind == "adapter"}

    def switch(adapter: str) -> str | None:
        own = plan.get("adapter", adapter)
        group = plan.of("port_group").get(said.get(adapter, {}).get("port_group", own.port_group))
        return group.switch if group is not None else None

    mirrors = {m.id: m for id in said for field in ("source", "target") for m in plan.where("mirror", field, id)}
    for mirror in mirrors.values():
        if switch(mirror.source) is None or switch(mirror.source) != switch(mirror.target):
            yield Drop("mirror", mirror.id)


def offer(plan: Plan, segment: str, hosts: Sequence[str]) -> Edit:
    """The edit by which hosts offer a segment: a port group with its VID, called as most are elsewhere, on the switch that fits best (which has one of the
    segment's role already, or the most port groups); its uplinks and the ports that their NICs are plugged into let the VID through.

    What is there already stays; PlanError names the hosts on which no switch has a way out.
    """
    wanted = tagged_segment(plan, segment)
    made, left = offering(plan, wanted, hosts)
    if left:
        raise PlanError(
            [Problem(f"{plan.get('host', id).name} has no switch with a way out", "host", id, "hosts") for id in left]
        )
    if not made:
        raise PlanError([Problem(f"{wanted.name} is offered there and let through; where it breaks is further on")])
    return tuple(made)


def tagged_segment(plan: Plan, id: str, field: str = "segment") -> Segment:
    """A segment with a VID; PlanError where there is none, or it has none, which names the field."""
    segment: Segment | None = plan.of("segment").get(id)
    if segment is None:
        raise PlanError([Problem("there is no such segment", field=field)])
    if not segment.vid:
        raise PlanError([Problem(f"{segment.name} has no VID", field=field)])
    return segment


def offering(plan: Plan, wanted: Segment, hosts: Iterable[str]) -> tuple[list[Operation], list[str]]:
    """The same for as many hosts as have a switch with a way out, and those (ids) that have none; PlanError where there is no such host."""
    hosts = list(dict.fromkeys(hosts))
    if any(host not in plan.of("host") for host in hosts):
        raise PlanError([Problem("there is no such host", field="hosts")])
    names = Counter(g.name for g in plan.where("port_group", "vid", wanted.vid) if g.mode == "access")
    name = min(names, key=lambda n: (-names[n], n), default=wanted.name)
    roles = {s.vid: s.role for s in plan.all(Segment) if s.vid}
    made: list[Operation] = []
    left: list[str] = []
    for host in hosts:
        switch = _best_switch(plan, host, wanted, roles)
        if switch is None:
            left.append(host)
            continue
        groups = plan.where("port_group", "switch", switch.id)
        if not any(g.vid == wanted.vid for g in groups):
            free = free_name(name, {g.name for g in groups})
            id = plan.fresh_id(f"{switch.id}/{free}")
            made.append(Put(PortGroup(id=id, switch=switch.id, name=free, mode="access", vid=wanted.vid)))
        made += _let_through(plan, switch, wanted.vid or 0)
    return made, left


def free_name(name: str, taken: Set[str]) -> str:
    """A name that isn't taken: itself, or with a number behind it."""
    return next(n for n in chain((name,), (f"{name}-{k}" for k in count(2))) if n not in taken)


def _best_switch(plan: Plan, host: str, segment: Segment, roles: dict[int, str]) -> VirtualSwitch | None:
    """The switch of a host on which a segment fits best, among those whose uplinks have NICs."""

    def fits(switch: VirtualSwitch) -> tuple[bool, int, int]:
        groups = plan.where("port_group", "switch", switch.id)
        alike = sum(bool(segment.role) and roles.get(g.vid) == segment.role for g in groups)
        return any(g.vid == segment.vid for g in groups), alike, len(groups)

    ways = [
        switch
        for switch in plan.where("virtual_switch", "host", host)
        if any(plan.where("nic", "uplink", u.id) for u in plan.where("uplink", "switch", switch.id))
    ]
    return max(sorted(ways, key=lambda s: s.name), key=fits, default=None)


def _let_through(plan: Plan, switch: VirtualSwitch, vid: int) -> Iterator[Operation]:
    """What lets a VID through a switch's uplinks, and through the fabric's ports that their NICs are plugged into."""
    for uplink in plan.where("uplink", "switch", switch.id):
        nics = plan.where("nic", "uplink", uplink.id)
        if nics and uplink.allowed is not None and vid not in vids.members(uplink.allowed, untagged=True):
            yield Patch("uplink", uplink.id, {"allowed": vids.with_vid(uplink.allowed, vid)})
        yield from _ports_let(plan, nics, {vid})


def _ports_let(plan: Plan, nics: Sequence[Nic], wanted: Set[int]) -> Iterator[Operation]:
    """What lets VIDs through the fabric's ports that some NICs are plugged into."""
    ends = (far_end(plan, nic.id) for nic in nics)
    for port in (end for end in ends if isinstance(end, FabricPort)):
        patch = letting(port, wanted)
        if patch is not None:
            yield patch


def letting(port: FabricPort, wanted: Set[int]) -> Patch | None:
    """What lets VIDs through a port that lists those that it carries; None where it lists none, or these already."""
    field = vid_list(port)
    if field is None:
        return None
    held = vids.members(getattr(port, field) or "", untagged=True)
    return Patch("fabric_port", port.id, {field: vids.write(held | wanted)}) if wanted - held else None


def split_off(plan: Plan, switch: str, role: str, nics: Sequence[str]) -> Edit:
    """The edit by which all of a role moves off a virtual switch onto one of its own, with some of the host's NICs: its port groups, its host ports, and what
    the ports at the other end of those NICs have to let through.

    The NICs are free, or members of the switch's own uplinks; team orders that this would make wrong go.  PlanError says what is in the way.
    """
    own = plan.of("virtual_switch").get(switch)
    if own is None:
        raise PlanError([Problem("there is no such switch", field="switch")])
    of_role = {s.id: s.vid for s in plan.all(Segment) if s.role and s.role == role}
    tags = {vid for vid in of_role.values() if vid}
    groups = [
        g for g in plan.where("port_group", "switch", switch) if g.mode in ("access", "private") and g.vid in tags
    ]
    ports = [p for p in plan.where("host_port", "switch", switch) if p.vid in tags or p.belongs in of_role]
    if not groups and not ports:
        raise PlanError([Problem(f"nothing on {own.name} is for {role or 'that role'}", field="role")])
    uplinks = {u.id: u for u in plan.where("uplink", "switch", switch)}
    taken: list[Nic] = []
    for id in dict.fromkeys(nics):
        nic = plan.of("nic").get(id)
        if nic is None or nic.host != own.host or (nic.uplink is not None and nic.uplink not in uplinks):
            raise PlanError(
                [Problem("a free NIC of the host is needed, or one of this switch’s uplinks", field="nics")]
            )
        taken.append(nic)
    if not taken:
        raise PlanError([Problem("a NIC is needed to lead out", field="nics")])
    names = {s.name for s in plan.where("virtual_switch", "host", own.host)}
    name = free_name(role, names)
    id = plan.fresh_id(f"{own.host}/{name}")
    uplink = plan.fresh_id(f"{id}/uplink")
    mode = next((u.mode for u in uplinks.values() if u.mode != "lacp"), "standby")
    moved = {nic.id for nic in taken}
    made: list[Operation] = [
        Put(VirtualSwitch(id=id, host=own.host, name=name, mtu=own.mtu, limits=own.limits, filters=own.filters)),
        Put(Uplink(id=uplink, switch=id, name="uplink", mode=mode)),
    ]
    gone = {o.id for g in groups for o in plan.where("group_order", "port_group", g.id)}
    gone |= {o.id for nic in taken for o in plan.where("group_order", "nic", nic.id)}
    made += [Drop("group_order", order) for order in sorted(gone)]
    made += [Patch("uplink", u.id, {"carries": None}) for u in uplinks.values() if u.carries in moved]
    for rank, nic in enumerate(taken):
        words = {"uplink": uplink, "role": "active", "rank": rank}
        made.append(Patch("nic", nic.id, {n: v for n, v in words.items() if getattr(nic, n) != v}))
    made += [Patch("port_group", group.id, {"switch": id}) for group in groups]
    made += [Patch("host_port", port.id, {"switch": id}) for port in ports]
    wanted = {record.vid for record in (*groups, *ports) if record.vid}
    return (*made, *_ports_let(plan, taken, wanted))


def made_own(segments: Iterable[str]) -> Edit:
    """The edit that makes segments (ids) which a source defines the plan's own: they change no more with its readings."""
    return tuple(Patch("segment", id, {"source": None, "origin": "", "vanished": False}) for id in segments)


def spread(plan: Plan, uplink: str) -> Edit:
    """The edit by which the port groups of a switch are spread over the members of its team: each has a member of its own that carries it, the fuller ones apart, and
    the others wait.  Port groups with an order already keep it.

    PlanError where the team shares out by itself, or has nothing to spread over.
    """
    own = plan.of("uplink").get(uplink)
    if own is None:
        raise PlanError([Problem("there is no such uplink", field="uplink")])
    if own.mode != "standby":
        raise PlanError([Problem(f"a {own.mode} team shares out by itself", field="uplink")])
    if len(plan.where("uplink", "switch", own.switch)) > 1:
        raise PlanError([Problem("a switch with several uplinks can’t order its teams", field="uplink")])
    members = [n for n in plan.where("nic", "uplink", uplink) if n.role != "excluded" and n.link == "up"]
    members.sort(key=lambda n: (n.role == "standby", n.rank, n.name))
    if len(members) < 2:
        raise PlanError([Problem("there is no second NIC to spread over", field="uplink")])
    # The first of several that are as empty is the first in the team's order.
    load = {nic.id: 0 for nic in members}
    made: list[Operation] = []
    groups = [g for g in plan.where("port_group", "switch", own.switch) if g.mode != "overlay"]
    sizes = {g.id: len(plan.where("adapter", "port_group", g.id)) for g in groups}
    orders = {g.id: plan.where("group_order", "port_group", g.id) for g in groups}
    for group in (g for g in groups if orders[g.id]):
        first = min(orders[group.id], key=lambda o: (o.role != "active", o.rank)).nic
        if first in load:
            load[first] += max(1, sizes[group.id])
    for group in sorted((g for g in groups if not orders[g.id]), key=lambda g: (-sizes[g.id], g.name)):
        first = min(load, key=load.__getitem__)
        load[first] += max(1, sizes[group.id])
        if first == members[0].id:
            continue
        ordered = sorted(members, key=lambda nic: nic.id != first)
        for rank, nic in enumerate(ordered):
            id = plan.fresh_id(f"{group.id}/order-{nic.name}")
            part = "active" if nic.id == first else "standby"
            made.append(Put(GroupOrder(id=id, port_group=group.id, nic=nic.id, role=part, rank=rank)))
    if not made:
        raise PlanError([Problem("they are spread already", field="uplink")])
    return tuple(made)


def _fields(kind: str, sort: str) -> list[str]:
    return [name for name, spec in SPECS[kind].items() if spec.kind == sort]


_TAGS = {kind: _fields(kind, "vid") for kind in KINDS}
_LISTS = {kind: _fields(kind, "vids") for kind in KINDS}


def _tags(record: Record) -> set[int | None]:
    return {getattr(record, name) for name in _TAGS[record.kind]}


def _renamed(record: Record, old: int, new: int) -> dict[str, Any]:
    """What the fields of a record that differ say of VIDs, once one is called otherwise."""
    said: dict[str, Any] = {name: new for name in _TAGS[record.kind] if getattr(record, name) == old}
    for name in _LISTS[record.kind]:
        text = getattr(record, name)
        if text is None:
            continue
        held = vids.members(text, untagged=True)
        if (old in held) != (new in held):
            said[name] = vids.write(held - {old, new} | ({new} if old in held else set()))
    return said

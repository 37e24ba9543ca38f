"""A role, storage say, moved onto NICs of its own on many hosts at once, with room for large packets on its way if that is wanted."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from aptwire.blueprints.carrying import Brought, inner_ports
from aptwire.plan import vids
from aptwire.plan.edits import Edit, Operation, Patch, apply_edit, merged
from aptwire.plan.gestures import split_off
from aptwire.plan.hosting import on_switches
from aptwire.plan.kinds import FabricPort, Host, HostPort, Nic, PortGroup, Segment, VirtualSwitch
from aptwire.plan.names import natural, some
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.ports import far_end


def own_nics(plan: Plan, role: str, hosts: Sequence[str], nics: Sequence[str], mtu: int | None = None) -> Brought:
    """A role's port groups and host ports on a switch of their own with NICs called `nics`, on some hosts (on all, unless any are named).

    Hosts on which it has a switch to itself stay; `left` are those that lack such NICs, or use them for something else.  `mtu`: bytes of an IP packet that its
    segments, switches, NICs and what they are plugged into take from then on, where it was less.  PlanError where nobody has the role, or nothing is left to do.
    """
    segments = [s for s in plan.all(Segment) if role and s.role == role]
    if not segments:
        raise PlanError([Problem(f"no segment has the role {role}" if role else "a role is needed", field="role")])
    if not nics:
        raise PlanError([Problem("NICs are needed, by their names", field="nics")])
    if mtu is not None and not 576 <= mtu <= 9216:
        raise PlanError([Problem("packets are of 576 to 9216 bytes", field="mtu")])
    if any(host not in plan.of("host") for host in hosts):
        raise PlanError([Problem("there is no such host", field="hosts")])
    asked: list[Host] = [plan.get("host", id) for id in hosts] or list(plan.all(Host))
    known = plan
    made: list[Operation] = []
    split: list[Host] = []
    left: list[Host] = []
    for host in sorted(asked, key=lambda h: natural(h.name)):
        try:
            edit = _on_host(known, host, role, segments, nics)
        except PlanError:
            left.append(host)
            continue
        if edit:
            made += edit
            split.append(host)
            known = apply_edit(known, edit)[0]
    if mtu is not None:
        made += _roomy(known, [h.id for h in asked], segments, mtu)
    if not made:
        why = f"; {some(h.name for h in left)} {'has' if len(left) == 1 else 'have'} no such NIC free" if left else ""
        raise PlanError([Problem(f"{role} has NICs of its own wherever it is{why}", field="role")])
    room = f"room for packets of {mtu:,} bytes" if mtu is not None else ""
    if split:
        said = f"Give {role} {some(nics)} for itself on {some(h.name for h in split)}{', and ' if room else ''}{room}"
    else:
        said = f"Give {role} {room}"
    return Brought(merged(tuple(made)), said, tuple(h.id for h in left))


def _on_host(plan: Plan, host: Host, role: str, segments: Sequence[Segment], nics: Sequence[str]) -> Edit:
    """The edit for one host; nothing where it has nothing of the role, or that has a switch to itself; PlanError where its NICs aren't free."""
    is_of, by_switch = _telling(segments), dict[str, list[bool]]()
    for kind in ("port_group", "host_port"):
        for record in on_switches(plan, kind, host.id):
            by_switch.setdefault(record.switch, []).append(is_of(record))
    mixed = [switch for switch, of_it in sorted(by_switch.items()) if any(of_it) and not all(of_it)]
    if not mixed:
        return ()
    by_name: dict[str, Nic] = {nic.name: nic for nic in plan.where("nic", "host", host.id)}
    taken = [by_name[name].id for name in nics if name in by_name]
    if len(taken) < len(nics):
        raise PlanError([Problem(f"{host.name} has no such NIC", field="nics")])
    edit = split_off(plan, mixed[0], role, taken)
    return (*edit, *_let_in(plan, edit, segments, taken))


def _telling(segments: Sequence[Segment]) -> Callable[[PortGroup | HostPort], bool]:
    """What tells whether a port group or host port has the VID of one of some segments, or belongs on it."""
    ids, tags = {s.id for s in segments}, {s.vid for s in segments if s.vid}
    return lambda record: record.vid in tags or getattr(record, "belongs", None) in ids


def _let_in(plan: Plan, edit: Edit, segments: Sequence[Segment], taken: Sequence[str]) -> Iterator[Operation]:
    """What lets in what moves at the ports behind NICs that were free: tags on a trunk, and the VID of host ports that send untagged."""
    vid_of = {s.id: s.vid for s in segments}
    moved = [
        plan.get(op.kind, op.id) for op in edit if isinstance(op, Patch) and op.kind in ("host_port", "port_group")
    ]
    tags = {record.vid for record in moved if record.vid}
    bare = {
        vid for record in moved if record.vid is None and (vid := vid_of.get(getattr(record, "belongs", None) or ""))
    }
    native = bare.pop() if len(bare) == 1 else None
    for nic in taken:
        port = far_end(plan, nic)
        if not isinstance(port, FabricPort) or plan.get("nic", nic).uplink:
            continue
        if port.mode == "access" and tags:
            allowed = vids.write({*tags, *([native] if native else [])})
            yield Patch("fabric_port", port.id, {"mode": "trunk", "vid": None, "allowed": allowed, "native": native})
        elif port.mode == "access" and native and port.vid != native:
            yield Patch("fabric_port", port.id, {"vid": native})
        elif port.mode == "trunk" and native and port.native is None:
            yield Patch("fabric_port", port.id, {"native": native})


def _roomy(plan: Plan, hosts: Sequence[str], segments: Sequence[Segment], mtu: int) -> Iterator[Operation]:
    """What makes room for packets of a size, where something says that it takes less: segments, the switches that have nothing else on them, their NICs, and the
    fabric that carries them."""
    is_of, tags = _telling(segments), {s.vid for s in segments if s.vid}
    found: list[Segment | VirtualSwitch | Nic | FabricPort] = [*segments]
    for host in hosts:
        for switch in plan.where("virtual_switch", "host", host):
            seats = [*plan.where("port_group", "switch", switch.id), *plan.where("host_port", "switch", switch.id)]
            if seats and all(map(is_of, seats)):
                found.append(switch)
                uplinks = plan.where("uplink", "switch", switch.id)
                found += [nic for uplink in uplinks for nic in plan.where("nic", "uplink", uplink.id)]
    ends = [far_end(plan, record.id) for record in found if isinstance(record, Nic)]
    ports = {port.id: port for port in ends if isinstance(port, FabricPort)}
    ports |= {p.id: p for p in inner_ports(plan) if p.allowed is None or tags & vids.members(p.allowed, untagged=True)}
    found += ports.values()
    switches = (plan.get("fabric_switch", id) for id in sorted({port.switch for port in ports.values()}))
    for record in (*found, *switches):
        if (record.mtu is not None and record.mtu < mtu) or (
            record.mtu is None and record.kind in ("segment", "virtual_switch", "nic")
        ):
            yield Patch(record.kind, record.id, {"mtu": mtu})

"""Where patterns come from: a host that others are to be like, or a starting point that takes what it can from the plan's segments."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from aptwire.plan import vids
from aptwire.plan.edits import Edit, Operation, Patch, Put
from aptwire.plan.fields import is_nobodys
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import (
    Pattern,
    PatternHostPort,
    PatternNic,
    PatternPortGroup,
    PatternSwitch,
    PatternUplink,
    Segment,
    Stamp,
    StampNic,
)
from aptwire.plan.names import called
from aptwire.plan.patterns import on_host
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.stamping.nics import in_order
from aptwire.stamping.off import part_for
from aptwire.stamping.stamp import borne


def from_host(plan: Plan, host: str, name: str) -> Edit:
    """The edit that makes a pattern of all that a host has, and stamps it on that host as number 1: "make these like this one".

    What is of another pattern already isn't taken.  PlanError where nothing is left.
    """
    if host not in plan.of("host"):
        raise PlanError([Problem(f"there is no host {host}", field="host")])
    pattern = _fresh(plan, name)
    own = Stamp(id=make_id(f"{host}:{pattern}"), host=host, pattern=pattern)
    records = [r for found in on_host(plan, host).values() for r in found if r.part is None]
    uplinks = {r.id for r in records if r.kind == "uplink"}
    nics = in_order([nic for nic in plan.where("nic", "host", host) if nic.uplink in uplinks])
    if not records:
        where = called(plan, plan.get("host", host))
        raise PlanError([Problem(f"{where} has no switch that isn’t of a pattern already", field="host")])
    parts = {r.id: make_id(f"{pattern}:{r.kind}:{_name(plan, r)}") for r in (*records, *nics)}
    made: list[Operation] = [Put(Pattern(id=pattern, name=name)), Put(own)]
    for nic in nics:
        words: dict[str, Any] = {"uplink": parts[nic.uplink or ""], "role": nic.role, "rank": nic.rank}
        words |= {"mtu": nic.mtu, "queues": nic.queues, "cores": nic.cores}
        made.append(Put(PatternNic(id=parts[nic.id], pattern=pattern, name=nic.name, named=nic.name, **words)))
        made.append(
            Put(StampNic(id=make_id(f"{own.id}:{parts[nic.id]}"), stamp=own.id, part=parts[nic.id], nic=nic.id))
        )
    for record in records:
        made += [
            Put(part_for(plan, record, own, parts, parts[record.id])),
            Patch(record.kind, record.id, {"part": parts[record.id]}),
        ]
    return tuple(made)


def _name(plan: Plan, record: Any) -> str:
    """The names that lead to a record on its host."""
    if record.kind == "group_order":
        return f"{_name(plan, plan.get('port_group', record.port_group))}:{plan.get('nic', record.nic).name}"
    on = plan.of("virtual_switch").get(getattr(record, "switch", None))
    return f"{on.name}:{record.name}" if on is not None else str(record.name)


def _fresh(plan: Plan, name: str) -> str:
    if any(p.name == name for p in plan.all(Pattern)):
        raise PlanError([Problem(f"“{name}” is taken by another pattern", field="name")])
    return plan.fresh_id(f"pattern:{name}")


@dataclass(frozen=True)
class Starter:
    """A starting point: what it is called, what it is for, and for each switch its NICs and the roles that go over it ("guests": every segment that isn't
    the hosts' own)."""

    name: str
    does: str
    switches: tuple[tuple[str, tuple[str, ...], tuple[str, ...]], ...]


HOST_ROLES = ("management", "migration", "storage", "backup")
"""The roles that are the hosts' own: they get host ports, and guests stay away."""

STARTERS: dict[str, Starter] = {
    "two": Starter(
        "two NICs for everything",
        "one switch, its uplink a pair of NICs, every role tagged on it",
        (("main", ("nic1", "nic2"), (*HOST_ROLES, "guests")),),
    ),
    "six": Starter(
        "a pair for each",
        "six NICs: management and migration, storage, and guests on switches and pairs of their own",
        (
            ("control", ("nic1", "nic2"), ("management", "migration")),
            ("storage", ("nic3", "nic4"), ("storage", "backup")),
            ("guests", ("nic5", "nic6"), ("guests",)),
        ),
    ),
    "empty": Starter("from nothing", "no switch yet", ()),
}


def from_starter(plan: Plan, starter: str, name: str) -> Edit:
    """The edit that makes a pattern of a starting point, with the segments that the plan has: a host port for each that is the hosts' own, with the
    first address that is free in its subnet, a port group for each that is the guests'.  NICs are taken in the order of their names."""
    if starter not in STARTERS:
        raise PlanError([Problem(f"there is no starting point “{starter[:40]}”", field="starter")])
    pattern = _fresh(plan, name)
    made: list[Any] = [Pattern(id=pattern, name=name)]
    place = 0
    for switch, nics, roles in STARTERS[starter].switches:
        segments = [s for s in plan.all(Segment) if s.vni is None and _role(s) in roles]
        own = PatternSwitch(id=make_id(f"{pattern}:{switch}"), pattern=pattern, name=switch, mtu=_mtu(segments))
        allowed = vids.write(frozenset(s.vid or 0 for s in segments)) if segments else None
        uplink = PatternUplink(id=f"{own.id}:uplink", switch=own.id, name="uplink", mode="standby", allowed=allowed)
        made += [own, uplink]
        for rank, nic in enumerate(nics):
            place += 1
            made.append(
                PatternNic(
                    id=make_id(f"{pattern}:{nic}"), pattern=pattern, name=nic, place=place, uplink=uplink.id, rank=rank
                )
            )
        for segment in segments:
            made.append(_port_for(plan, own, segment))
    return tuple(Put(record) for record in made)


def _role(segment: Segment) -> str:
    return segment.role if segment.role in HOST_ROLES else "guests"


def _mtu(segments: list[Segment]) -> int | None:
    return max((s.mtu for s in segments if s.mtu), default=None)


def _port_for(plan: Plan, switch: Any, segment: Segment) -> Any:
    id = make_id(f"{switch.id}:{segment.name}")
    if _role(segment) == "guests":
        mode = "access" if segment.vid else "untagged"
        return PatternPortGroup(id=id, switch=switch.id, name=segment.name, mode=mode, vid=segment.vid)
    return PatternHostPort(
        id=id,
        switch=switch.id,
        name=segment.name,
        vid=segment.vid,
        addresses=tuple(_first(plan, segment)),
        services=(segment.role,),
        belongs=segment.id,
        mtu=segment.mtu,
    )


def _first(plan: Plan, segment: Segment) -> Iterator[str]:
    """The address after the highest that somebody has in each of a segment's subnets, where one is left; the first ten are left to routers."""
    taken = [ipaddress.ip_address(address) for address in borne(plan)]
    for text in segment.subnets:
        net = ipaddress.ip_network(text)
        inside = [address for address in taken if address.version == net.version and address in net]
        first = net.network_address + min(10, net.num_addresses - 1)
        found = max([first, *(a for a in inside if int(a) < int(net.network_address) + net.num_addresses - 2)]) + 1
        if found in net and not is_nobodys(found, net):
            yield f"{found}/{net.prefixlen}"

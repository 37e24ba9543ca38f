"""What was measured on a host, as flows of its adapters and host ports, and beside what flows say of its NICs."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from aptwire.formats.counters import Interface, Rate, rates
from aptwire.plan.checks import make_record
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.gestures import free_name
from aptwire.plan.kinds import TO_GATEWAY, TO_OTHERS, Flow, Record
from aptwire.plan.names import called, natural
from aptwire.plan.plan import Plan, PlanError, Problem

LEAST = 0.5
"""Mbit/s below which nothing worth saying is sent."""


@dataclass(frozen=True)
class Measured:
    """The edit that makes flows of what was measured; what each NIC carried on its wire (id, Mbit/s out and in); and what isn't known, or was left, in words."""

    edit: Edit
    nics: tuple[tuple[str, float, float], ...]
    told: tuple[str, ...]


def measured(
    plan: Plan,
    host: str,
    before: Mapping[str, Interface],
    after: Mapping[str, Interface],
    seconds: float,
    read: str = "",
    towards: str = TO_GATEWAY,
) -> Measured:
    """What two readings of a host make of its flows: what each adapter and host port sends and gets, `towards` its gateway or others alike, as read at a time.

    Flows that somebody said are left; those of an earlier reading are made anew, or go where hardly anything is sent any longer.
    """
    if towards not in (TO_GATEWAY, TO_OTHERS):
        raise PlanError([Problem(f"“{towards[:40]}” is none of {TO_GATEWAY}, {TO_OTHERS}", field="towards")])
    nics = {nic.name: nic for nic in plan.where("nic", "host", host)}
    speeds = {name: nic.speed for name, nic in nics.items() if nic.speed}
    found, unknown = rates(before, after, seconds, speeds)
    places = _places(plan, host)
    names = {flow.name for flow in plan.all(Flow)}
    told = [f"{name} {why}" for name, why in unknown.items() if name in nics or name in places]
    made: list[Operation] = []
    for name, rate in found.items():
        record = places.get(name)
        if record is None:
            continue
        # What a tap gives out comes in at its guest; a host port's counters are the host's own.
        sends, gets = (rate.into, rate.out) if record.kind == "adapter" else (rate.out, rate.into)
        change, said = _flow(plan, record, sends, gets, rate, read, towards, names)
        made += change
        told += said
    carried = tuple(
        (nics[n].id, found[n].wire_out, found[n].wire_into) for n in sorted(found, key=natural) if n in nics
    )
    if not made and not carried and not told:
        raise PlanError(
            [Problem(f"none of its interfaces is a NIC, adapter or host port of {plan.get('host', host).name}")]
        )
    return Measured(tuple(made), carried, tuple(told))


def _places(plan: Plan, host: str) -> dict[str, Record]:
    """The adapters and host ports of a host by the names that it gives them."""
    guests = plan.where("guest", "host", host)
    found: dict[str, Record] = {a.name: a for guest in guests for a in plan.where("adapter", "guest", guest.id)}
    for switch in plan.where("virtual_switch", "host", host):
        found.update((port.name, port) for port in plan.where("host_port", "switch", switch.id))
    return found


def _flow(
    plan: Plan, record: Record, sends: float, gets: float, rate: Rate, read: str, towards: str, names: set[str]
) -> tuple[list[Operation], list[str]]:
    """The flow of one, made or changed, and what is told of it; `names` are those of all flows, to which its own comes."""
    there = sorted(plan.where("flow", "of", record.id), key=lambda flow: flow.id)
    own = [flow for flow in there if flow.read]
    if len(own) < len(there):
        return [], [f"{called(plan, record)}: what somebody said of it is left"]
    values: dict[str, Any] = {
        "sends": max(1, round(sends)) if sends >= LEAST else None,
        "gets": max(1, round(gets)) if gets >= LEAST else None,
    }
    if values == {"sends": None, "gets": None}:
        return [Drop("flow", flow.id) for flow in own], []
    values |= {"packet": min(9216, max(28, rate.packet)), "read": read or "measured"}
    if own:
        changed = {name: value for name, value in values.items() if getattr(own[0], name) != value}
        return ([Patch("flow", own[0].id, changed)] if changed else []), []
    name = free_name(f"{called(plan, record)}, measured"[:70], names)
    names.add(name)
    said = {"id": plan.fresh_id(f"flow-{record.id}"), "name": name}
    of = {"of": record.id, "towards": towards, **{name: value for name, value in values.items() if value is not None}}
    return [Put(make_record("flow", {**said, **of}))], []

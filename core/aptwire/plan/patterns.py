"""Which part of a pattern is whose, and which records of a host were made of which part."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import chain
from typing import Any

from aptwire.plan.kinds import Record
from aptwire.plan.plan import Plan

STAMPED: dict[str, str] = {
    "pattern_switch": "virtual_switch",
    "pattern_uplink": "uplink",
    "pattern_host_port": "host_port",
    "pattern_port_group": "port_group",
    "pattern_order": "group_order",
}
"""The kind of record that each kind of part becomes, in the order in which they are made.  (A pattern's NIC finds one that is there.)"""

OWNER: dict[str, str] = {
    "virtual_switch": "host",
    "uplink": "switch",
    "host_port": "switch",
    "port_group": "switch",
    "group_order": "port_group",
}
"""The field of a stamped record that says what it is on."""


def pattern_of(plan: Plan, part: Any) -> str | None:
    """The pattern (id) that a part is of; None for what is no part."""
    while part is not None and not hasattr(part, "pattern"):
        owner = getattr(part, "switch", None) or getattr(part, "port_group", None)
        part = plan.find(owner, ("pattern_switch", "pattern_port_group")) if owner else None
    return part.pattern if part is not None else None


def host_id(plan: Plan, record: Record) -> str | None:
    """The host (id) that a record of a stamped kind is on."""
    found: Any = record
    while found is not None and not hasattr(found, "host"):
        name = OWNER[found.kind]
        found = plan.find(getattr(found, name), ("virtual_switch", "port_group"))
    return found.host if found is not None else None


def parts_of(plan: Plan, pattern: str, kind: str) -> Iterable[Any]:
    """The parts of a kind that a pattern has."""
    if kind in ("pattern_switch", "pattern_nic"):
        return plan.where(kind, "pattern", pattern)
    if kind == "pattern_order":
        groups = parts_of(plan, pattern, "pattern_port_group")
        return chain.from_iterable(plan.where(kind, "port_group", g.id) for g in groups)
    return chain.from_iterable(
        plan.where(kind, "switch", s.id) for s in plan.where("pattern_switch", "pattern", pattern)
    )


def on_host(plan: Plan, host: str | None) -> dict[str, Sequence[Any]]:
    """The records of each stamped kind on a host."""
    switches = plan.where("virtual_switch", "host", host)
    found: dict[str, Sequence[Any]] = {"virtual_switch": switches}
    for kind in ("uplink", "host_port", "port_group"):
        by_switch = plan.grouped(kind, "switch")
        found[kind] = [record for switch in switches for record in by_switch.get(switch.id, ())]
    orders = plan.grouped("group_order", "port_group")
    found["group_order"] = [order for group in found["port_group"] for order in orders.get(group.id, ())]
    return found

"""What a host has on its virtual switches, and what its NICs have left."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from aptwire.plan.plan import Plan


def on_switches(plan: Plan, kind: str, host: str) -> Iterator[Any]:
    """The records of a kind (port_group, host_port) on the virtual switches of a host."""
    for switch in plan.where("virtual_switch", "host", host):
        yield from plan.where(kind, "switch", switch.id)


def functions_left(plan: Plan, host: str) -> dict[str, int]:
    """The virtual functions that each NIC of a host has left, by its id, in the order of their names."""
    return {
        nic.id: (nic.functions or 0) - len(plan.where("adapter", "function_of", nic.id))
        for nic in sorted(plan.where("nic", "host", host), key=lambda nic: nic.name)
    }

"""A bubble taken away as one edit, whatever has become of it since it was made."""

from __future__ import annotations

from collections.abc import Iterator

from aptwire.blueprints.bubble import LISTS, named_in, rule_of
from aptwire.blueprints.carrying import Brought
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Operation, Patch
from aptwire.plan.kinds import SPECS, Adapter, Guest, PortGroup, VirtualSwitch
from aptwire.plan.plan import Plan, PlanError, Problem


def burst(plan: Plan, name: str) -> Brought:
    """All of a bubble taken away: its segments, who belongs there alone, port groups and switches that carry nothing else, its VIDs from lists that name them, and its rule.

    Who belongs elsewhere too keeps what he has there.  PlanError where nothing of that name is kept apart as a bubble is.
    """
    own = {segment.id for segment in plan.where("segment", "role", name)} if name else set()
    rules = plan.where("rule", "text", rule_of(name))
    if not own or not rules:
        raise PlanError([Problem("there is no such bubble", field="name")])
    numbers = {vid for id in own if (vid := plan.get("segment", id).vid)}
    gone = {*own, *(rule.id for rule in rules)}
    for guest in plan.all(Guest):
        belonging = {a.id: _belonging(plan, a) for a in plan.where("adapter", "guest", guest.id)}
        if any(segments & own for segments in belonging.values()):
            elsewhere = any(segments - own for segments in belonging.values())
            gone |= (
                {id for id, segments in belonging.items() if segments and segments <= own} if elsewhere else {guest.id}
            )
    carried = (
        (group, {group.vid} if group.mode == "access" else _listed(group.allowed)) for group in plan.all(PortGroup)
    )
    gone |= {group.id for group, vids_ in carried if vids_ and vids_ <= numbers}
    for switch in plan.all(VirtualSwitch):
        groups = plan.where("port_group", "switch", switch.id)
        used = (plan.where(kind, "switch", switch.id) for kind in ("uplink", "host_port"))
        if groups and all(group.id in gone for group in groups) and not any(used):
            gone.add(switch.id)
    without = tuple(_without(plan, gone))
    return Brought((*without, *(op for op in _unlisted(plan, numbers) if op.id not in gone)), f"Burst bubble {name}")


def _listed(text: str | None) -> frozenset[int]:
    return vids.members(text or "", untagged=True)


def _belonging(plan: Plan, adapter: Adapter) -> set[str]:
    """The segments (ids) on which an adapter and its tags belong."""
    return {r.belongs for r in (adapter, *plan.where("guest_tag", "adapter", adapter.id)) if r.belongs}


def _without(plan: Plan, gone: set[str]) -> Iterator[Operation]:
    """Records dropped with all that can't be without them, and what only names them no longer doing so."""
    cleared: dict[tuple[str, str], dict[str, None]] = {}
    left = [*gone]
    while left:
        record = plan.find(left.pop())
        assert record is not None
        for other, field in plan.referrers(record.kind, record.id):
            if other.id in gone:
                continue
            # A line about an interface that is gone would be one about all, and a flow of nobody says nothing.
            if SPECS[other.kind][field].optional and other.kind not in ("filter_line", "flow"):
                cleared.setdefault((other.kind, other.id), {})[field] = None
            else:
                gone.add(other.id)
                left.append(other.id)
    yield from (Patch(kind, id, fields) for (kind, id), fields in cleared.items() if id not in gone)
    yield from (Drop(record.kind, record.id) for record in reversed([*plan]) if record.id in gone)


def _unlisted(plan: Plan, numbers: set[int]) -> Iterator[Patch]:
    """VIDs taken out of the lists of uplinks, ports and switches that name them; a list is left whole where nothing else would be in it."""
    for kind, field in LISTS:
        for record in plan.all(kind):
            text = getattr(record, field)
            listed, named = _listed(text), named_in(text) & numbers
            if named and listed - named:
                yield Patch(kind, record.id, {field: vids.write(listed - named)})

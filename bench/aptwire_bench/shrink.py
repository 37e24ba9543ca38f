"""Cutting a plan down to the smallest one that still differs."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from aptwire.plan.edits import Drop, Edit, Patch, apply_edit
from aptwire.plan.kinds import REFS, SPECS
from aptwire.plan.plan import Plan, PlanError

Differ = Callable[[list[Plan]], list[bool]]
"""Plans to whether each still differs."""
Cut = tuple[str, str]
"""A record to do without: kind, id."""
TOGETHER, RECORDS = 16, 2_000
"""Plans asked side by side, and records in all of them."""
ORDER = (
    "host",
    "fabric_switch",
    "virtual_switch",
    "guest",
    "station",
    "uplink",
    "port_group",
    "nic",
    "adapter",
    "host_port",
    "lag",
    "cable",
    "fabric_port",
    "segment",
)
"""Large things first: with a host goes all that is on it."""


def without(plan: Plan, kind: str, id: str) -> Edit:
    """The edit that takes a record away with everything that can't be without it; optional references are let go."""
    gone: dict[tuple[str, str], None] = {(kind, id): None}
    patches: dict[tuple[str, str], dict[str, None]] = {}
    queue = [(kind, id)]
    while queue:
        at = queue.pop()
        for record, name in plan.referrers(*at):
            key = (record.kind, record.id)
            if key in gone:
                continue
            if name in _optional(record.kind):
                patches.setdefault(key, {})[name] = None
            else:
                gone[key] = None
                queue.append(key)
    kept = [Patch(k, i, dict(changes)) for (k, i), changes in patches.items() if (k, i) not in gone]
    return (*kept, *(Drop(k, i) for k, i in reversed(gone)))


def _optional(kind: str) -> set[str]:
    """The references that a record can do without; what is carried or offered by another goes with that."""
    return {name for name in REFS[kind] if SPECS[kind][name].optional} - {"over", "function_of"}


def smallest(plan: Plan, differ: Differ, rounds: int = 120) -> Plan:
    """The plan without whatever isn't needed for it to differ; at most so many rounds, each with several plans side by side.

    Halves of it go first, then smaller and smaller parts, in the end single records.
    """
    needed: dict[tuple[Cut, ...], int] = {}
    size, turn = len(plan), 0
    for _ in range(rounds):
        cuts = list(_cuts(plan))
        size = max(1, min(size, len(cuts) // 2))
        parts = [tuple(cuts[at : at + size]) for at in range(0, len(cuts), size)]
        # What a larger plan needed is mostly needed still: of single records it is asked again, last.
        asked = [part for part in parts if part not in needed]
        if size == 1:
            asked += [part for part in parts if needed.get(part, turn) != turn]
        if not asked:
            if size == 1:
                return plan
            size //= 2
            continue
        together = max(2, min(TOGETHER, RECORDS // len(plan)))
        some = [(part, _apply(plan, part)) for part in asked[:together]]
        still = iter(differ([small for _, small in some if small is not None]))
        fine = [part for part, small in some if small is not None and next(still)]
        needed.update((part, turn) for part, _ in some if part not in fine)
        if fine:
            # What can go one by one can mostly go together.
            both = _apply(plan, [cut for part in fine for cut in part]) if len(fine) > 1 else None
            plan = both if both is not None and differ([both])[0] else _apply(plan, fine[0]) or plan
            turn += 1
    return plan


def _apply(plan: Plan, cuts: Sequence[Cut]) -> Plan | None:
    """The plan without some records; None where what is left would be no plan."""
    try:
        for kind, id in cuts:
            if id in plan.of(kind):
                plan, _ = apply_edit(plan, without(plan, kind, id))
    except PlanError:
        return None
    return plan


def _cuts(plan: Plan) -> Iterator[Cut]:
    for kind in [*ORDER, *(k for k in REFS if k not in ORDER)]:
        for id in sorted(plan.of(kind)):
            yield kind, id

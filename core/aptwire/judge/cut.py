"""The smallest cut: the fewest permissions to take away so that one place isn't heard by another any more.

Every step that a broadcast takes is an edge; one that a segment needs for itself is dear, one that leads from one VLAN into
another is cheap.  The cheapest cut between the two places is a minimum cut (Ford and Fulkerson), found through the maximum flow.
"""

from __future__ import annotations

from collections import deque

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import maximum_flow

from aptwire.forward.parts import NOW, Place, State
from aptwire.forward.paths import FrameAt, Roads, Step
from aptwire.forward.wiring import Wiring
from aptwire.plan import vids
from aptwire.plan.edits import Edit, Operation, Patch, in_steps, merged
from aptwire.plan.kinds import FabricPort, Uplink
from aptwire.plan.names import called
from aptwire.plan.plan import Plan

DEAR = 1_000
NEVER = 1_000_000


def smallest_cut(roads: Roads, source: Place, target: Place) -> list[Step]:
    """The steps to cut so that no broadcast of the source comes out at the target; empty where it doesn't anyway, or can't be kept away."""
    steps: dict[tuple[str, int, int], Step] = {}
    start: FrameAt = (source.bridge, source.context, None)
    seen = {start}
    queue = deque([start])
    arrivals: set[tuple[int, int]] = set()
    while queue:
        spot = queue.popleft()
        if roads.arrives(spot, target):
            arrivals.add(spot[:2])
        for step, following in roads.onward(spot, source.stand.order, target.bridge):
            steps[step.link.key, step.side, step.before] = step
            if following not in seen:
                seen.add(following)
                queue.append(following)
    if not arrivals or (source.bridge, source.context) in arrivals:
        return []
    number = {node: n for n, node in enumerate(sorted({spot[:2] for spot in seen}))}
    sink = len(number)
    edges = [
        (number[s.near, s.before], number[s.far, s.after], 1 if s.before != s.after else DEAR) for s in steps.values()
    ]
    edges += [(number[node], sink, NEVER) for node in arrivals]
    head, tail, room = (np.array(column, dtype=np.int32) for column in zip(*edges, strict=True))
    graph = coo_array((room, (head, tail)), shape=(sink + 1, sink + 1)).tocsr().astype(np.int32)
    flow = maximum_flow(graph, number[source.bridge, source.context], sink)
    if flow.flow_value >= NEVER:
        return []
    left = (graph - flow.flow).tocsr()
    inside = {number[source.bridge, source.context]}
    waiting = list(inside)
    while waiting:
        row = waiting.pop()
        for at in range(left.indptr[row], left.indptr[row + 1]):
            other = int(left.indices[at])
            if left.data[at] > 0 and other not in inside:
                inside.add(other)
                waiting.append(other)
    return [s for s in steps.values() if number[s.near, s.before] in inside and number[s.far, s.after] not in inside]


def cutting(plan: Plan, step: Step, vid: int) -> tuple[str, Operation] | None:
    """The edit that takes the permission of one step away, at the end where that is possible; `vid` is what the frame is before it."""
    for side in (1 - step.side, step.side):
        records = step.link.records[side]
        record = plan.find(records[0]) if records else None
        if isinstance(record, FabricPort) and record.mode == "trunk":
            name = called(plan, record)
            if step.label == 0 and record.native:
                return f"drop untagged frames at {name}", Patch("fabric_port", record.id, {"native": None})
            if step.label > 0 and vid in vids.members(record.allowed or ""):
                kept = vids.write(vids.members(record.allowed or "") - {vid})
                return f"take {vid} off {name}", Patch("fabric_port", record.id, {"allowed": kept})
        if isinstance(record, Uplink) and record.allowed is not None and vid in vids.members(record.allowed, True):
            kept = vids.write(vids.members(record.allowed, True) - {vid})
            return f"take {vid or 'untagged frames'} off {called(plan, record)}", Patch(
                "uplink", record.id, {"allowed": kept}
            )
    return None


def cut_apart(wiring: Wiring, a: Place, b: Place, state: State = NOW) -> tuple[str, Edit] | None:
    """The fewest permissions without which neither of two places hears the other in a state, in words; None where there are none, or some can't be taken."""
    roads = Roads(wiring, state)
    titles: list[str] = []
    edit: list[Operation] = []
    for one, two in ((a, b), (b, a)):
        for step in smallest_cut(roads, one, two):
            made = cutting(wiring.plan, step, wiring.classes.vid(step.before))
            if made is None:
                return None
            if made[0] not in titles:
                titles.append(made[0])
                edit.append(made[1])
    return (in_steps([titles[0][:1].upper() + titles[0][1:], *titles[1:]]), merged(tuple(edit))) if titles else None

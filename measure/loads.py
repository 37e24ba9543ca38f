"""Load, measured: `loads` prints what docs/performance.md keeps; the same sums by a plain graph library beside it."""

from __future__ import annotations

import itertools
import random
import time

import networkx as nx
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import judge, judged_after
from aptwire.plan.checks import make_record
from aptwire.plan.edits import Edit, Operation, Patch, Put, apply_edit
from aptwire.plan.plan import Plan
from aptwire.stress.load import Load, load_of

from measure.timing import all_times


def with_flows(plan: Plan, flows: int) -> Plan:
    """The same fleet with so many flows, each between two guests of a segment, and speeds of all ports."""
    dice = random.Random(7)
    edit: list[Operation] = []
    for port in plan.all("fabric_port"):
        between = port.name in ("up", "x") or port.switch.startswith("spine")
        edit.append(Patch("fabric_port", port.id, {"speed": 100_000 if between else 10_000}))
    on: dict[str, list[str]] = {}
    for adapter in sorted(plan.all("adapter"), key=lambda a: a.id):
        on.setdefault(adapter.belongs, []).append(adapter.id)
    segments = sorted(on)
    for n in range(flows):
        one, two = dice.sample(on[dice.choice(segments)], 2)
        said = {"id": f"flow-{n}", "name": f"flow {n}", "of": one, "towards": "one", "to": two}
        edit.append(Put(make_record("flow", {**said, "sends": dice.randint(10, 900), "gets": dice.randint(5, 300)})))
    return apply_edit(plan, tuple(edit))[0]


def plainly(plan: Plan) -> dict[tuple[str, str], float]:
    """Mbit/s between hosts and switches by networkx: every flow over the shortest way, as long as all teams are on standby and every port passes its VID."""
    graph = nx.Graph()
    for cable in plan.all("cable"):
        ends = [plan.find(id) for id in (cable.a, cable.b)]
        nodes = [end.host if end.kind == "nic" else end.switch for end in ends if end is not None]  # type: ignore[attr-defined]
        nic = next((end for end in ends if end is not None and end.kind == "nic"), None)
        if nic is None or nic.rank == 0:  # type: ignore[attr-defined]
            graph.add_edge(*nodes)
    found: dict[tuple[str, str], float] = {}
    for flow in plan.all("flow"):
        hosts = [plan.get("guest", plan.get("adapter", id).guest).host for id in (flow.of, flow.to)]
        if hosts[0] == hosts[1]:
            continue
        way = nx.shortest_path(graph, *hosts)
        for turn, rate in ((1, flow.sends), (-1, flow.gets)):
            nodes = way[::turn]
            for a, b in itertools.pairwise(nodes):
                found[a, b] = found.get((a, b), 0.0) + rate
    return found


def _all_of(judgement: Judgement) -> None:
    load = load_of(judgement)
    assert load.overfull is not None and load.starved is not None


def loads(plan: Plan, flows: int = 5_000) -> None:
    """The load of a fleet with flows: from nothing, and after edits."""
    plan = with_flows(plan, flows)
    judgement = judge(plan)
    began = time.perf_counter()
    _all_of(judgement)
    whole = time.perf_counter() - began
    plain = min(all_times(lambda: plainly(plan), 1))
    load = load_of(judgement)
    print(
        f"\nLoad of {flows:,} flows, {len(load.directions):,} directions, {len(load.failures):,} failures: {whole:.1f} s from nothing;"
        f" networkx {plain:.1f} s for today’s sums alone, without failures, tags or teams"
    )
    host = sorted(plan.of("host"))[5]
    groups = sorted(plan.where("port_group", "switch", f"{host}/guests"), key=lambda g: g.id)
    edits: dict[str, Edit] = {
        "a flow sends more": (Patch("flow", "flow-7", {"sends": 901}),),
        "a port group’s VID": (Patch("port_group", groups[0].id, {"vid": 1001}),),
        "an adapter is renamed": (Patch("adapter", f"{host}/a3", {"name": "tap-other"}),),
        "a NIC loses its link": (Patch("nic", f"{host}/nic0", {"link": "down"}),),
        "a cable’s speed": (Patch("fabric_port", "leaf-9a/up", {"speed": 40_000}),),
        "a trunk between switches loses a VID": (
            Patch("fabric_port", "leaf-9a/up", {"allowed": "110, 120, 1000-1098"}),
        ),
    }
    for name, edit in edits.items():
        times = []
        for _ in range(5):
            after = judged_after(judgement, edit)
            began = time.perf_counter()
            load = Load(after)
            assert load.overfull is not None and load.starved is not None
            times.append(time.perf_counter() - began)
            Load(judgement)
        print(f"  after an edit, {name}: {min(times) * 1000:.0f} ms")
    times = all_times(lambda: load_of(judgement).got(), 3)
    print(f"  what each gets, fairly: {min(times) * 1000:.0f} ms")

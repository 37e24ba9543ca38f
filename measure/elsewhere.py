"""Topologies of other systems and queue plans, measured: `topologies` and `queue_plans` print what docs/performance.md keeps."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import networkx as nx
from aptwire.formats.elsewhere import new_source, taken
from aptwire.formats.topology import LAYER2, LAYER3, TOPOLOGY, document_of, read_topology
from aptwire.formats.topology_of import topology_of
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge, rejudge
from aptwire.plan.edits import Patch, apply_edit, touched
from aptwire.plan.kinds import Nic, NumaNode
from aptwire.plan.plan import Plan
from aptwire.stress.queues import lay_out, settings

from measure.timing import all_times

POINT = f"{LAYER2}:l2-termination-point-attributes"
RESTS = "supporting-network"


def document(nodes: int) -> bytes:
    """A topology of so many nodes: networks of 25 each, every one upon the one before in chains of ten, with subnets."""
    made: list[dict[str, Any]] = []
    for n in range(nodes // 25):
        tag = {"encapsulation-type": f"{LAYER2}:vlan", "outer-tag": str(n % 4094 + 1)}
        made.append(
            {
                "network-id": f"n{n}",
                "network-types": {f"{LAYER2}:l2-topology": {}},
                RESTS: [{"network-ref": f"n{n - 1}"}] if n % 10 else [],
                "node": [
                    {
                        "node-id": f"node-{k}",
                        f"{TOPOLOGY}:termination-point": [{"tp-id": f"p{p}", POINT: tag} for p in range(4)],
                    }
                    for k in range(24)
                ],
            }
        )
        prefix = {"prefix": [{"prefix": f"10.{64 + n // 256 % 64}.{n % 256}.0/24"}]}
        made.append(
            {
                "network-id": f"s{n}",
                "network-types": {f"{LAYER3}:l3-unicast-topology": {}},
                RESTS: [{"network-ref": f"n{n}"}],
                "node": [{"node-id": "s", f"{LAYER3}:l3-node-attributes": prefix}],
            }
        )
    return document_of(made)


def plainly(data: bytes) -> dict[str, tuple[int, list[str]]]:
    """The same question put to networkx: every network, node and termination point in one graph, circles and what rests on what asked of it."""
    graph, rests = nx.DiGraph(), nx.DiGraph()
    for network in json.loads(data)["ietf-network:networks"]["network"]:
        id = network["network-id"]
        rests.add_node(id, prefixes=[])
        rests.add_edges_from((id, one["network-ref"]) for one in network[RESTS])
        for node in network["node"]:
            graph.add_edge(("network", id), (id, node["node-id"]))
            rests.nodes[id]["prefixes"] += [
                one["prefix"] for one in node.get(f"{LAYER3}:l3-node-attributes", {}).get("prefix", [])
            ]
            for point in node.get(f"{TOPOLOGY}:termination-point", []):
                graph.add_edge(
                    (id, node["node-id"]), (id, node["node-id"], point["tp-id"]), tag=point[POINT]["outer-tag"]
                )
    assert nx.is_directed_acyclic_graph(rests)
    found: dict[str, tuple[int, list[str]]] = {}
    for id in rests:
        tags = {graph.edges[edge]["tag"] for edge in nx.dfs_edges(graph, ("network", id)) if len(edge[1]) == 3}
        if len(tags) == 1:
            above = [p for other in rests.predecessors(id) for p in rests.nodes[other]["prefixes"]]
            found[id] = (int(tags.pop()), above)
    return found


def topologies(plan: Plan) -> None:
    """Reading and taking topologies, and writing a plan's own."""
    print("\n| topology | bytes | read | networkx | taken into a plan of 1,000 hosts |\n|---|---|---|---|---|")
    for nodes in (10_000, 100_000):
        data = document(nodes)
        found = read_topology(data, "measure")
        if {n.id: (n.vid, list(n.subnets)) for n in found.networks} != plainly(data):
            raise SystemExit("the topology is read otherwise by networkx")
        source = new_source(plan, "measure")
        took = (
            min(all_times(lambda data=data: read_topology(data, "measure"), 3)),  # type: ignore[misc]
            min(all_times(lambda data=data: plainly(data), 3)),  # type: ignore[misc]
            min(all_times(lambda found=found, source=source: taken(plan, source, found), 3)),  # type: ignore[misc]
        )
        print(f"| {nodes:,} nodes | {len(data):,} | {took[0]:.2f} s | {took[1]:.2f} s | {took[2]:.2f} s |", flush=True)
    some = set(sorted(plan.of("segment"))[:10])
    print(f"\nTen of its segments written as a topology in {min(all_times(lambda: topology_of(plan, some), 3)):.2f} s")


def queue_plans(plan: Plan) -> None:
    """Queue plans of all hosts, and what an edit costs once all are laid out."""
    hosts = sorted(plan.of("host"))
    cores = ", ".join(f"{n}+{n + 64}" for n in range(32))
    nodes = {
        ("numa_node", f"{host}/numa"): NumaNode(id=f"{host}/numa", host=host, number=0, cores=cores) for host in hosts
    }
    nics = {("nic", nic.id): replace(nic, numa=0, speed=25_000, most_queues=32) for nic in plan.all(Nic)}
    known = plan.replacing({**nodes, **nics}).indexed()
    laid = min(all_times(lambda: [lay_out(known, host) for host in hosts], 3))
    edit = settings(known, hosts)
    composed = min(all_times(lambda: settings(known, hosts), 3))
    before = judge(apply_edit(known, edit)[0].indexed())
    risks(before)
    nic = next(iter(before.plan.of("nic")))
    one = (Patch("nic", nic, {"cores": "1-3"}),)
    after = apply_edit(before.plan, one)[0]
    told = min(all_times(lambda: risks(rejudge(before, after, touched(one))), 3))
    print(
        f"\nQueue plans of {len(hosts):,} hosts in {laid * 1000:.0f} ms, the edit that sets them ({len(edit):,} NICs) in {composed * 1000:.0f} ms;"
        f" judging and risks after one more in {told * 1000:.0f} ms"
    )

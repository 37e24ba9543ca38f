"""Networks that another system defines, from its topology: RFC 8345 with the layer 2 of RFC 8944 and the subnets of RFC 8346, as JSON (RFC 7951).

The document is what RESTCONF answers (`ietf-network:networks`), or the same as instance data (RFC 9195).  A network of layer 2 is one that a plan can
have where its termination points agree on one tag, or on one VNI.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from graphlib import CycleError, TopologicalSorter
from typing import Any

from aptwire.formats.shape import Shape
from aptwire.plan import vids
from aptwire.plan.collecting import no_collecting
from aptwire.plan.fields import Spec
from aptwire.plan.file import read_json
from aptwire.plan.kinds import SPECS
from aptwire.plan.plan import PlanError, Problem
from aptwire.plan.texts import refuse_unfit

NETWORK, TOPOLOGY, LAYER2, LAYER3 = (
    "ietf-network",
    "ietf-network-topology",
    "ietf-l2-topology",
    "ietf-l3-unicast-topology",
)
REVISIONS = {NETWORK: "2018-02-26", TOPOLOGY: "2018-02-26", LAYER3: "2018-02-26", LAYER2: "2020-11-15"}
"""The modules that are read, as published with RFC 8345, RFC 8346 and RFC 8944."""
LARGEST = 128_000_000
"""Bytes of a document."""
_POINT = f"{LAYER2}:l2-termination-point-attributes"
_KNOWN = {
    "network": {"network-id", "network-types", "supporting-network", "node", f"{TOPOLOGY}:link"}
    | {f"{LAYER2}:l2-topology-attributes", f"{LAYER3}:l3-topology-attributes"},
    "node": {"node-id", "supporting-node", f"{TOPOLOGY}:termination-point"}
    | {f"{LAYER2}:l2-node-attributes", f"{LAYER3}:l3-node-attributes"},
    "termination point": {"tp-id", "supporting-termination-point", _POINT}
    | {f"{LAYER3}:l3-termination-point-attributes"},
}
_subnet, _vni = Spec("subnet"), SPECS["segment"]["vni"]


@dataclass(frozen=True)
class Foreign:
    """A network that another system defines: `id` what that calls it, with the VID or VNI by which it travels, and its subnets."""

    id: str
    name: str
    vid: int | None = None
    vni: int | None = None
    subnets: tuple[str, ...] = ()


@dataclass(frozen=True)
class Topology:
    """What a document says: the networks that a plan can have, the others of layer 2 with the reason (`left`, by id), and sentences on what wasn't read."""

    networks: tuple[Foreign, ...]
    left: Mapping[str, str]
    told: tuple[str, ...]


@dataclass
class _Network:
    """A network as its records are gone through."""

    id: str
    name: str
    layer2: bool
    supports: list[str]
    place: str
    vids: set[int] = field(default_factory=set)
    vnis: set[int] = field(default_factory=set)
    reasons: set[str] = field(default_factory=set)
    prefixes: list[tuple[list[str], list[str]]] = field(default_factory=list)
    """Subnets, and the networks on which the node that has them stands."""


def read_topology(data: bytes, place: str) -> Topology:
    """The networks of a document.  PlanError names the network, the node and the field that can't be read."""
    with no_collecting():
        return _read(data, place)


def _read(data: bytes, place: str) -> Topology:
    told: dict[str, int] = {}
    networks: dict[str, _Network] = {}
    for shape in _networks(_parsed(data, place), place, told):
        made = _network(shape, told)
        if made.id in networks:
            shape.refuse("network-id", f"“{made.id[:80]}” stands twice")
        networks[made.id] = made
    _in_circle(networks)
    subnets = _subnets(networks, told)
    taken, left = list[Foreign](), dict[str, str]()
    for network in networks.values():
        if not network.layer2:
            continue
        if reason := _unfit(network):
            left[network.id] = reason
        else:
            vid, vni = next(iter(network.vids), None), next(iter(network.vnis), None)
            taken.append(Foreign(network.id, network.name, vid, vni, tuple(subnets.get(network.id, ()))))
    return Topology(tuple(taken), left, tuple(f"{what} ({n} times)" if n > 1 else what for what, n in told.items()))


def _parsed(data: bytes, place: str) -> Shape:
    found = read_json(data, place, LARGEST)
    refuse_unfit(found, place)
    if not isinstance(found, dict):
        raise PlanError([Problem("should hold an object", place=place)])
    return Shape(place, found)


def _networks(document: Shape, place: str, told: dict[str, int]) -> Iterator[Shape]:
    """The networks of a document, bare or as instance data."""
    name = "ietf-yang-instance-data:instance-data-set"
    if name in document.data:
        wrapped = document.part(name)
        for module in wrapped.part("content-schema").words("module"):
            _revision(wrapped, module, told)
        document = wrapped.part("content-data")
    inner = f"{NETWORK}:networks"
    if inner not in document.data:
        if f"{NETWORK}:network" in document.data:
            document.refuse(inner, f"is missing; {NETWORK}:network at the top is of a draft before RFC 8345")
        document.refuse(inner, "is missing: this is no topology of RFC 8345")
    networks = document.part(inner)
    yield from Shape(place, networks.data).parts("network")


def _revision(shape: Shape, module: str, told: dict[str, int]) -> None:
    """A later revision keeps what an earlier one says (RFC 7950 section 11); an earlier one may mean something else."""
    name, _, revision = module.partition("@")
    known = REVISIONS.get(name)
    if known is None or revision in ("", known):
        return
    if revision < known:
        shape.refuse("content-schema", f"{module[:80]} is older than {known}, which is the first that was published")
    _tell(told, f"{module[:80]} is later than {known}: what it adds isn’t read")


def _tell(told: dict[str, int], what: str) -> None:
    told[what] = told.get(what, 0) + 1


def _unread(shape: Shape, sort: str, told: dict[str, int]) -> None:
    for name in shape.data.keys() - _KNOWN[sort]:
        _tell(told, f"{str(name)[:80]} of a {sort} isn’t read")


def _network(shape: Shape, told: dict[str, int]) -> _Network:
    id = shape.text("network-id", None)
    if not 0 < len(id) <= 500:
        shape.refuse("network-id", "should be 1 to 500 characters long")
    shape = Shape(f"{shape.place.partition(',')[0]}, network “{id[:80]}”", shape.data)
    _unread(shape, "network", told)
    types = shape.part("network-types").data
    supports = [one.text("network-ref", None) for one in shape.parts("supporting-network")]
    name = shape.part(f"{LAYER2}:l2-topology-attributes").text("name")
    made = _Network(id, name or id, f"{LAYER2}:l2-topology" in types, supports, shape.place)
    nodes: set[str] = set()
    for node in shape.parts("node"):
        known = node.text("node-id", None)
        if known in nodes:
            node.refuse("node-id", f"“{known[:80]}” stands twice")
        nodes.add(known)
        _unread(node, "node", told)
        for point in node.parts(f"{TOPOLOGY}:termination-point"):
            point.text("tp-id", None)
            _unread(point, "termination point", told)
            if made.layer2 and _POINT in point.data:
                _tags(made, point.part(_POINT))
        prefixes = [_prefix(one) for one in node.part(f"{LAYER3}:l3-node-attributes").parts("prefix")]
        if prefixes:
            made.prefixes.append((prefixes, [one.text("network-ref", None) for one in node.parts("supporting-node")]))
    return made


def _prefix(shape: Shape) -> str:
    text = shape.text("prefix", None)
    try:
        return str(_subnet.take(text))
    except ValueError as error:
        shape.refuse("prefix", str(error))


def _tags(network: _Network, point: Shape) -> None:
    """What a termination point says of how its network travels there."""
    encapsulation = point.text("encapsulation-type").rpartition(":")[2]
    if "inner-tag" in point.data or encapsulation == "qinq":
        network.reasons.add("it travels with two tags")
    elif encapsulation in ("pbb", "trill", "vpls"):
        network.reasons.add(f"it travels by {encapsulation.upper()}")
    elif "vxlan" in point.data:
        try:
            network.vnis.add(_vni.take(point.part("vxlan").whole("vni-id", None)))
        except ValueError as error:
            point.refuse("vni-id", str(error))
    elif "outer-tag" in point.data:
        tag = point.data["outer-tag"]
        try:
            carried = vids.members(str(tag) if isinstance(tag, int) else point.text("outer-tag"))
        except ValueError as error:
            point.refuse("outer-tag", str(error))
        network.vids |= set(carried)


def _unfit(network: _Network) -> str:
    """Why no segment of a plan is what a network is; empty where one can be."""
    if network.reasons:
        return sorted(network.reasons)[0]
    if network.vids and network.vnis:
        return "it travels by a VID here and by a VNI there"
    if len(network.vids) > 1:
        return f"its termination points carry several VIDs: {vids.write(network.vids)[:60]}"
    if len(network.vnis) > 1:
        return "its termination points carry several VNIs"
    if not network.vids and not network.vnis:
        return "no termination point says by which VID or VNI it travels"
    return ""


def _in_circle(networks: Mapping[str, _Network]) -> None:
    """Refuses networks that support each other in a circle: none of them would rest on anything."""
    try:
        TopologicalSorter({id: network.supports for id, network in networks.items()}).prepare()
    except CycleError as error:
        # Told from the one on that the document has first, each before what it rests on.
        around = error.args[1][:0:-1]
        first = around.index(next(id for id in networks if id in around))
        circle = [*around[first:], *around[: first + 1]]
        shown = " → ".join(f"“{one[:40]}”" for one in (circle if len(circle) < 6 else [*circle[:4], circle[-1]]))
        place = networks[circle[0]].place
        raise PlanError([Problem(f"rests on itself: {shown}", place=place, field="supporting-network")]) from None


def _subnets(networks: Mapping[str, _Network], told: dict[str, int]) -> dict[str, list[str]]:
    """The subnets of networks of layer 2, by their id: the prefixes of nodes that stand on one of them alone."""
    found: dict[str, list[str]] = {}
    below: dict[str, frozenset[str]] = {}
    for network in networks.values():
        for prefixes, stands_on in network.prefixes:
            under = frozenset[str]().union(*(_layer2(networks, id, below) for id in stands_on))
            under = under or _layer2(networks, network.id, below)
            if len(under) == 1:
                kept = found.setdefault(next(iter(under)), [])
                kept += [prefix for prefix in prefixes if prefix not in kept]
            else:
                _tell(
                    told, f"prefixes of nodes on {'several networks' if under else 'no network'} of layer 2 aren’t read"
                )
    return found


def _layer2(networks: Mapping[str, _Network], id: str, known: dict[str, frozenset[str]]) -> frozenset[str]:
    """The networks of layer 2 on which one rests, itself among them."""
    if id not in known:
        found, seen, asked = set[str](), {id}, [id]
        while asked:
            network = networks.get(asked.pop())
            if network is not None and network.layer2:
                found.add(network.id)
            elif network is not None:
                fresh = [one for one in network.supports if one not in seen]
                seen.update(fresh)
                asked += fresh
        known[id] = frozenset(found)
    return known[id]


def document_of(networks: Iterable[Mapping[str, Any]]) -> bytes:
    """Networks as the document that `read_topology` reads."""
    made = {f"{NETWORK}:networks": {"network": list(networks)}}
    return json.dumps(made, ensure_ascii=False, indent=1).encode()

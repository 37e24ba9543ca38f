"""A plan's own segments as a topology that other systems read: RFC 8345, with the layer 2 of RFC 8944 and the subnets of RFC 8346, as JSON (RFC 7951).

The wiring is one network: fabric switches, hosts and stations are its nodes, their ports and NICs its termination points, a cable is a link each way.  Each
segment is a network upon it, with the nodes that carry it and the tag at each termination point; its subnets are a network upon that.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Any

from aptwire.formats.topology import LAYER2, LAYER3, TOPOLOGY, document_of
from aptwire.plan.gestures import free_name
from aptwire.plan.kinds import (
    Cable,
    FabricPort,
    HostPort,
    Nic,
    PortGroup,
    Segment,
    StationPort,
    VirtualSwitch,
)
from aptwire.plan.plan import Plan
from aptwire.plan.ports import carries, said
from aptwire.plan.sharing import nics_of

Network = dict[str, Any]
Points = dict[str, dict[str, dict[str, Any]]]
"""By node and termination point (their ids): what is said of the tag there."""
NODES = ("fabric_switch", "host", "station")
ETHERNET: dict[str, Any] = {"encapsulation-type": f"{LAYER2}:ethernet"}


def topology_of(plan: Plan, segments: Collection[str] | None = None) -> tuple[bytes, tuple[str, ...]]:
    """The document with some segments (ids; None: all that are the plan's own), and sentences on what it doesn't say of them.

    What a source defines is that system's to say, and isn't written.
    """
    asked = [s for s in plan.all(Segment) if s.source is None and (segments is None or s.id in segments)]
    writer = _Writer(plan, {s.id for s in asked})
    networks, told = [writer.wiring()], list[str]()
    for segment in sorted(asked, key=lambda s: s.id):
        points = writer.points(segment)
        if segment.vid is None and segment.vni is None:
            told.append(f"{segment.name} travels untagged, so nothing says which of the untagged networks it is")
        elif not any("outer-tag" in point or "vxlan" in point for of in points.values() for point in of.values()):
            told.append(
                f"{segment.name} is carried tagged nowhere, so its {'VID' if segment.vid else 'VNI'} isn’t said"
            )
        elif segment.vni is not None and segment.encapsulation != "vxlan":
            told.append(
                f"{segment.name} travels by {segment.encapsulation}, for which RFC 8944 has no word: its VNI is written as VXLAN’s"
            )
        networks.append(writer.segment(segment, points))
        if segment.subnets:
            networks.append(writer.subnets(segment))
    return document_of(networks), tuple(told)


class _Writer:
    """Networks of a plan, with names for those that aren't segments."""

    def __init__(self, plan: Plan, segments: set[str]) -> None:
        self.plan = plan
        self.base = free_name("wiring", segments)
        self.taken = {*segments, self.base}

    def wiring(self) -> Network:
        """What is plugged into what."""
        plan = self.plan
        points: Points = {id: {} for kind in NODES for id in sorted(plan.of(kind))}
        for port in plan.all(FabricPort):
            points[port.switch][port.id] = {}
        for nic in plan.all(Nic):
            points[nic.host][nic.id] = {}
        for plug in plan.all(StationPort):
            points[plug.station][plug.id] = {}
        names: dict[str, str] = {r.id: r.name for kind in NODES for r in plan.all(kind)}
        return self._network(self.base, f"wiring of {plan.name}", points, None, names)

    def segment(self, segment: Segment, points: Points) -> Network:
        """A segment upon the wiring."""
        return self._network(segment.id, segment.name, points, self.base)

    def subnets(self, segment: Segment) -> Network:
        """The subnets of a segment, which are those of one node upon it."""
        id = free_name(f"{segment.id}/subnets", self.taken)
        self.taken.add(id)
        prefixes = [{"prefix": subnet} for subnet in segment.subnets]
        return {
            "network-id": id,
            "network-types": {f"{LAYER3}:l3-unicast-topology": {}},
            "supporting-network": [{"network-ref": segment.id}],
            "node": [{"node-id": segment.id, f"{LAYER3}:l3-node-attributes": {"prefix": prefixes}}],
            f"{LAYER3}:l3-topology-attributes": {"name": f"subnets of {segment.name}"},
        }

    def points(self, segment: Segment) -> Points:
        """Where a segment is carried, and how at each place."""
        found: Points = {}
        how: dict[str, Any] = {"encapsulation-type": f"{LAYER2}:vlan", "outer-tag": str(segment.vid)}
        if segment.vid is None:
            how = {"encapsulation-type": f"{LAYER2}:vxlan", "vxlan": {"vni-id": segment.vni}}
        for node, point, tagged in self._carried(segment):
            found.setdefault(node, {})[point] = how if tagged else ETHERNET
        return found

    def _carried(self, segment: Segment) -> Iterator[tuple[str, str, bool]]:
        """Each node and termination point (ids) at which a segment passes, and whether with its tag."""
        plan, vid = self.plan, segment.vid
        if segment.vni is not None:
            for group in plan.where("port_group", "vni", segment.vni):
                yield plan.get("virtual_switch", group.switch).host, group.id, True
        if vid is None:
            return
        for port in plan.all(FabricPort):
            if vid in carries(port):
                yield port.switch, port.id, vid not in said(port).bare
        for station in plan.where("station_port", "vid", vid):
            if station.belongs == segment.id:
                yield station.station, station.id, True
        for station in plan.where("station_port", "belongs", segment.id):
            if station.vid is None:
                yield station.station, station.id, False
        for switch in plan.all(VirtualSwitch):
            here = list(self._offered(switch, vid))
            for point, tagged in here:
                yield switch.host, point, tagged
            for uplink in plan.where("uplink", "switch", switch.id) if here else ():
                for nic in nics_of(plan, uplink) if vid in carries(uplink) else ():
                    yield switch.host, nic.id, vid not in said(uplink).bare

    def _offered(self, switch: VirtualSwitch, vid: int) -> Iterator[tuple[str, bool]]:
        """The port groups and host ports of a switch that have a VID, and whether its frames carry the tag there."""
        ports: list[PortGroup | HostPort] = [
            *self.plan.where("port_group", "switch", switch.id),
            *self.plan.where("host_port", "switch", switch.id),
        ]
        for port in ports:
            if isinstance(port, HostPort):
                if port.vid == vid:
                    yield port.id, False
            elif port.mode == "access" and port.vid == vid:
                yield port.id, False
            elif port.mode in ("trunk", "standard") and vid in carries(port):
                yield port.id, vid not in said(port).bare

    def _network(
        self, id: str, name: str, points: Points, upon: str | None, names: dict[str, str] | None = None
    ) -> Network:
        made: Network = {"network-id": id, "network-types": {f"{LAYER2}:l2-topology": {}}}
        if upon is not None:
            made["supporting-network"] = [{"network-ref": upon}]
        made["node"] = [self._node(node, of, upon, (names or {}).get(node)) for node, of in points.items()]
        made[f"{TOPOLOGY}:link"] = list(self._links({(n, p) for n, of in points.items() for p in of}, upon))
        made[f"{LAYER2}:l2-topology-attributes"] = {"name": name}
        return made

    def _node(self, id: str, points: dict[str, dict[str, Any]], upon: str | None, name: str | None) -> Network:
        made: Network = {"node-id": id}
        if upon is not None:
            made["supporting-node"] = [{"network-ref": upon, "node-ref": id}]
        made[f"{TOPOLOGY}:termination-point"] = [
            {"tp-id": point, **({f"{LAYER2}:l2-termination-point-attributes": how} if how else {})}
            for point, how in points.items()
        ]
        if name is not None:
            made[f"{LAYER2}:l2-node-attributes"] = {"name": name}
        return made

    def _links(self, points: set[tuple[str, str]], upon: str | None) -> Iterator[Network]:
        """The cables between termination points, a link each way; a station's ports are at the far end of none."""
        for cable in self.plan.all(Cable):
            ends = [(self._node_of(end), end) for end in (cable.a, cable.b)]
            if not points.issuperset(ends):
                continue
            for id, (one, two) in ((f"{cable.id}|a-b", ends), (f"{cable.id}|b-a", ends[::-1])):
                made: Network = {
                    "link-id": id,
                    "source": {"source-node": one[0], "source-tp": one[1]},
                    "destination": {"dest-node": two[0], "dest-tp": two[1]},
                }
                if upon is not None:
                    made["supporting-link"] = [{"network-ref": upon, "link-ref": id}]
                yield made

    def _node_of(self, end: str) -> str:
        """The node on which a cable's end is."""
        nic = self.plan.of("nic").get(end)
        return str(nic.host if nic is not None else self.plan.get("fabric_port", end).switch)

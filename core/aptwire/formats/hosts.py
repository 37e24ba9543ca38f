"""A plan from the state of real hosts and switches: one folder for each device, LLDP captures beside it.

What the files say becomes wiring.  What they cannot say, intent, is proposed: a segment for each VID seen,
each endpoint belonging to the segment that it lands on.  The report tells which is which, and what was left out.
"""

from __future__ import annotations

import ipaddress
import posixpath
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from aptwire.formats import lldp, pcap
from aptwire.formats.linux import ADDR, LINK, PORTS, VLAN, Device, Interface, PortVlans, read_device
from aptwire.plan import vids
from aptwire.plan.checks import check_plan
from aptwire.plan.kinds import (
    Adapter,
    Cable,
    FabricPort,
    FabricSwitch,
    Guest,
    GuestTag,
    Host,
    HostPort,
    Nic,
    PortGroup,
    Record,
    Segment,
    Uplink,
    VirtualSwitch,
)
from aptwire.plan.plan import Plan, PlanError, Problem

CAPTURE = ".lldp.pcap"
MODES = {
    "active-backup": "standby",
    "balance-rr": "hashed",
    "balance-xor": "hashed",
    "broadcast": "hashed",
    "802.3ad": "lacp",
    "balance-tlb": "hashed",
    "balance-alb": "hashed",
}


@dataclass(frozen=True)
class Note:
    """A line of the report: `what` is read, proposed, left out, or differs; `about` names the device or record."""

    what: str
    about: str
    text: str

    def to_json(self) -> dict[str, str]:
        """The line for a program."""
        return {"what": self.what, "about": self.about, "text": self.text}


@dataclass
class Report:
    """What was read, what was proposed, what was left out and why."""

    notes: list[Note] = field(default_factory=list)

    def add(self, what: str, about: str, text: str) -> None:
        """One line more."""
        self.notes.append(Note(what, about, text))


def read_hosts(files: Mapping[str, bytes], name: str) -> tuple[Plan, Report]:
    """A plan named `name` from files by relative path (device/file), and the report.

    Raises PlanError naming file and place when a file can't be used; then nothing is read at all.
    """
    report = Report()
    devices, captures = _sort_files(files, report)
    if not devices:
        raise PlanError([Problem(f"no folder with an {LINK} is among the files", place=name)])
    problems: list[Problem] = []
    read: dict[str, Device] = {}
    heard: dict[tuple[str, str], list[lldp.Neighbour]] = {}
    for device, own in sorted(devices.items()):
        try:
            read[device] = read_device(device, own)
        except PlanError as error:
            problems.extend(error.problems)
    for (device, port), raw in sorted(captures.items()):
        try:
            heard[device, port] = _newest(raw, f"{device}/{port}{CAPTURE}", report)
        except PlanError as error:
            problems.extend(error.problems)
    if problems:
        raise PlanError(problems)
    builder = _Builder(name, read, heard, report)
    plan = builder.build()
    broken = check_plan(plan)
    if broken:
        raise PlanError(replace(p, place=name) for p in broken)
    return plan, report


def _sort_files(
    files: Mapping[str, bytes], report: Report
) -> tuple[dict[str, dict[str, bytes]], dict[tuple[str, str], bytes]]:
    devices: dict[str, dict[str, bytes]] = {}
    captures: dict[tuple[str, str], bytes] = {}
    for path, raw in sorted(files.items()):
        folder, base = posixpath.split(posixpath.normpath(path.replace("\\", "/")))
        device = posixpath.basename(folder)
        if device and base in (LINK, ADDR, VLAN, PORTS):
            if base in devices.setdefault(device, {}):
                raise PlanError([Problem(f"a second {base} for the device {device}", place=path)])
            devices[device][base] = raw
        elif device and base.endswith(CAPTURE):
            captures[device, base[: -len(CAPTURE)]] = raw
        else:
            report.add("left out", path, "this is neither a device's state nor an LLDP capture")
    for device, port in sorted(captures):
        if device not in devices:
            raise PlanError([Problem(f"there is no {LINK} beside this capture", place=f"{device}/{port}{CAPTURE}")])
    return devices, captures


def _newest(raw: bytes, place: str, report: Report) -> list[lldp.Neighbour]:
    """The newest word of each neighbour heard at a port (a later frame replaces an earlier one, 802.1AB clause 9.2.7.7)."""
    newest: dict[tuple[str, str], lldp.Neighbour] = {}
    for number, (_, frame) in enumerate(sorted(pcap.frames(raw, place), key=lambda f: f[0]), 1):
        neighbour = lldp.read_frame(frame, f"{place}: frame {number}")
        if neighbour is None:
            continue
        key = (neighbour.chassis, neighbour.port)
        if neighbour.ttl == 0:
            newest.pop(key, None)
            continue
        before = newest.get(key)
        if before is not None and before.vlans is not None and neighbour.vlans is None:
            report.add("differs", place, f"frame {number} names no VLANs any more; those of the frame before are kept")
            neighbour.vlans = before.vlans
            neighbour.pvid = before.pvid if neighbour.pvid is None else neighbour.pvid
        newest[key] = neighbour
    return list(newest.values())


class _Builder:
    def __init__(
        self,
        name: str,
        devices: dict[str, Device],
        heard: dict[tuple[str, str], list[lldp.Neighbour]],
        report: Report,
    ) -> None:
        self.name = name
        self.devices = devices
        self.heard = heard
        self.report = report
        self.records: dict[str, Record] = {}
        self.vlan_names: dict[int, str] = {}
        self.seen: set[int] = set()
        self.switch_of: dict[str, str] = {}

    def put(self, record: Record) -> None:
        if record.id in self.records:
            raise PlanError([Problem(f"two things would be called {record.id}", place=self.name)])
        self.records[record.id] = record

    def build(self) -> Plan:
        named = {self._device_of(n) for found in self.heard.values() for n in found} - {None}
        for name, device in sorted(self.devices.items()):
            guests = [i for i in device.of_kind("tun") if i.master]
            if name in named and guests:
                self.report.add("read", name, "its neighbours hear its LLDP, but it carries guests: read as a host")
            if name in named and not guests:
                self._fabric_switch(name, device)
            else:
                self._host(name, device)
        self._cables()
        self._propose()
        records: dict[str, dict[str, Record]] = {}
        for record in self.records.values():
            records.setdefault(record.kind, {})[record.id] = record
        return Plan(self.name, records)

    # --- fabric -----------------------------------------------------------------------------------------------

    def _device_of(self, neighbour: lldp.Neighbour) -> str | None:
        for device in self.devices.values():
            if device.name in (neighbour.system, neighbour.chassis):
                return device.name
            macs = {i.mac for i in device.interfaces.values()}
            if neighbour.chassis_is_mac and neighbour.chassis in macs:
                return device.name
        return None

    def _fabric_switch(self, name: str, device: Device) -> None:
        bridges = device.of_kind("bridge")
        filtering = [b for b in bridges if b.info.whole("vlan_filtering")]
        managed = bool(filtering) or not bridges
        self.put(FabricSwitch(id=name, name=name, managed=managed))
        self.switch_of[name] = name
        for bridge in bridges:
            if len(bridges) > 1:
                self.report.add(
                    "differs", name, f"has several bridges; the ports of {bridge.name} are read as the one switch's"
                )
            for port in device.under(bridge.name):
                vlans = device.vlans.get(port.name, PortVlans())
                members = device.under(port.name) if port.kind == "bond" else [port]
                if port.kind == "bond":
                    self.report.add("differs", f"{name}/{port.name}", "a LAG; its members are read as single ports")
                for member in members:
                    self._fabric_port(name, device, member, vlans, managed)
        self.report.add(
            "read",
            name,
            f"a fabric switch with {len([r for r in self.records.values() if isinstance(r, FabricPort) and r.switch == name])} ports: its neighbours hear its LLDP",
        )

    def _fabric_port(self, switch: str, device: Device, port: Interface, vlans: PortVlans, managed: bool) -> None:
        about = f"{switch}/{port.name}"
        enabled = port.name not in device.not_forwarding
        if not enabled:
            self.report.add("read", about, f"read as disabled: its state is {device.not_forwarding[port.name]}")
        if managed and not vlans.plain:
            self.report.add(
                "differs", about, "takes untagged frames in on another VLAN than it sends untagged; read as native"
            )
        tags = _port_tags(vlans, managed)
        self.put(FabricPort(id=about, switch=switch, name=port.name, enabled=enabled, mtu=_mtu(port.mtu), **tags))
        self.seen |= vlans.tagged | vlans.untagged if managed else frozenset()

    def _port_from_lldp(self, neighbour: lldp.Neighbour, place: str) -> str | None:
        """The id of a fabric port that is known by its LLDP alone, made when it is new."""
        name = neighbour.system or neighbour.chassis
        port = neighbour.port if not neighbour.port_is_mac else neighbour.port_text or neighbour.port
        if not name or not port:
            self.report.add("left out", place, "the neighbour names neither itself nor its port")
            return None
        switch = self.switch_of.get(name)
        if switch is None:
            switch = self.switch_of[name] = _id(name)
            self.put(FabricSwitch(id=switch, name=name[:80], partial=True))
            self.report.add("read", name, "a fabric switch, known by its LLDP alone: its other ports stay open")
        id = _id(f"{switch}/{port}")
        if id in self.records:
            return id
        if neighbour.vlans is None and not neighbour.pvid:
            self.report.add(
                "left out", place, f"{port} of {name} doesn't say which VLANs it carries: the cable ends open"
            )
            return None
        named = frozenset(neighbour.vlans or {})
        pvid = neighbour.pvid or None
        vlans = PortVlans(named - {pvid} if pvid else named, frozenset((pvid,)) if pvid else frozenset(), pvid)
        size = _mtu((neighbour.frame_size or 18) - 18)
        self.put(FabricPort(id=id, switch=switch, name=port[:80], mtu=size, **_port_tags(vlans, True)))
        self.seen |= named | vlans.untagged
        return id

    # --- hosts ------------------------------------------------------------------------------------------------

    def _host(self, name: str, device: Device) -> None:
        self.put(Host(id=name, name=name))
        nics = [i for i in device.interfaces.values() if self._is_nic(device, i)]
        for rank, nic in enumerate(sorted(nics, key=lambda i: i.index)):
            link = "up" if nic.up else "down"
            self.put(
                Nic(
                    id=f"{name}/{nic.name}",
                    host=name,
                    name=nic.name,
                    mac=nic.mac or None,
                    mtu=_mtu(nic.mtu),
                    link=link,
                    rank=rank,
                )
            )
        for bridge in sorted(device.of_kind("bridge"), key=lambda i: i.index):
            self._virtual_switch(device, bridge)
        for base in sorted(device.interfaces.values(), key=lambda i: i.index):
            if not base.master and (base.kind == "bond" or self._is_nic(device, base)):
                self._plain_uplink(device, base)
        known = {"bridge", "bond", "vlan", "tun", "loopback", ""}
        for other in device.interfaces.values():
            if other.kind not in known and not self._is_nic(device, other) and not self._is_tap(device, other):
                self.report.add(
                    "left out", f"{name}/{other.name}", f"an interface of kind {other.kind}, which a plan doesn't hold"
                )
            if other.kind == "tun" and not other.master:
                self.report.add("left out", f"{name}/{other.name}", "a tap that is in no bridge")
            elif self._is_tap(device, other) and f"{name}/{other.name}" not in self.records:
                self.report.add("left out", f"{name}/{other.name}", f"a port of {other.master}, which can't be read")

    def _is_nic(self, device: Device, interface: Interface) -> bool:
        """Hardware has no link kind; a veth counts as a NIC when it is in a bond or a neighbour is heard on it."""
        if interface.kind == "":
            return True
        if interface.kind != "veth":
            return False
        master = device.interfaces.get(interface.master)
        return (device.name, interface.name) in self.heard or (master is not None and master.kind == "bond")

    def _is_tap(self, device: Device, interface: Interface) -> bool:
        return bool(interface.master) and (
            interface.kind == "tun" or (interface.kind == "veth" and not self._is_nic(device, interface))
        )

    def _virtual_switch(self, device: Device, bridge: Interface) -> None:
        ports = device.under(bridge.name)
        base = self._carrier(device, ports)
        if base is not None:
            return
        id = f"{device.name}/{bridge.name}"
        filtering = bool(bridge.info.whole("vlan_filtering"))
        self.put(VirtualSwitch(id=id, host=device.name, name=bridge.name, mtu=_mtu(bridge.mtu)))
        ways = 0
        for port in ports:
            vlans = device.vlans.get(port.name, PortVlans()) if filtering else None
            about = f"{device.name}/{port.name}"
            if port.name in device.not_forwarding:
                self.report.add(
                    "left out", about, f"a port of {bridge.name} whose state is {device.not_forwarding[port.name]}"
                )
            elif port.kind == "bond" or self._is_nic(device, port):
                self._uplink(device, id, port, vlans)
                ways += 1
            elif self._is_tap(device, port):
                self._adapter(device, id, port, vlans)
            elif port.kind != "vlan":
                self.report.add(
                    "left out", about, f"a port of {bridge.name} of kind {port.kind}, which a plan doesn't hold"
                )
            else:
                self.report.add("left out", about, f"a VLAN interface beside other ways out of {bridge.name}")
            if port.slave.data.get("isolated") is True or port.slave.data.get("hairpin") is True:
                self.report.add("left out", about, "its port isolation or hairpin setting isn't part of a plan")
        if ways > 1:
            self.report.add("differs", id, f"{ways} ways out were put into it one by one: it forwards between them")
        self._host_ports(device, id, bridge, device.vlans.get(bridge.name, PortVlans()) if filtering else None)

    def _carrier(self, device: Device, ports: list[Interface]) -> Interface | None:
        """The interface whose VLAN interface is a bridge's only way out; such bridges are port groups of its switch."""
        ways = [p for p in ports if p.kind in ("bond", "vlan") or self._is_nic(device, p)]
        if len(ways) != 1 or ways[0].kind != "vlan":
            return None
        base = device.interfaces.get(ways[0].lower)
        if base is None or not (base.kind in ("bridge", "bond") or self._is_nic(device, base)):
            return None
        master = device.interfaces.get(base.master)
        return base if not base.master or (master is not None and master.kind == "bridge") else None

    def _plain_uplink(self, device: Device, base: Interface) -> None:
        """A bond or NIC that no bridge took in, used by the host itself or by bridges on its VLAN interfaces."""
        if not base.addresses and not any(i.lower == base.name for i in device.of_kind("vlan")):
            return
        id = f"{device.name}/{base.name}-switch"
        about = f"{device.name}/{base.name}"
        self.put(VirtualSwitch(id=id, host=device.name, name=f"{base.name}-switch", mtu=_mtu(base.mtu)))
        self.report.add("proposed", about, "the host uses it without a bridge; shown as a switch of its own")
        self._uplink(device, id, base, None)
        if base.addresses:
            self._host_port(id, base.name, None, base.addresses)

    def _above(self, device: Device, switch: str, base: Interface, own: PortVlans | None, uplink: str | None) -> None:
        """The VLAN interfaces on a bridge, bond or NIC: host ports, or port groups where a bridge took them in.

        `own` is what a filtering bridge lets through to itself; `uplink` the record of the bond or NIC that they are on.
        """
        for vlan in sorted((i for i in device.of_kind("vlan") if i.lower == base.name), key=lambda i: i.index):
            vid = self._vlan_id(device, vlan)
            if vid is None:
                continue
            record = self.records.get(uplink or "")
            if isinstance(record, Uplink) and record.allowed is not None:
                # Frames of this VID are taken off the bond or NIC before its bridge sees them.
                self.records[record.id] = replace(record, allowed=vids.with_vid(record.allowed, vid))
            cut = f"VID {vid}" if own is not None and vid not in own.tagged else ""
            bridge = device.interfaces.get(vlan.master)
            if bridge is None or bridge.kind != "bridge":
                self._host_port(switch, vlan.name, vid, vlan.addresses, cut)
                continue
            about = f"{device.name}/{bridge.name}"
            self.report.add("read", about, f"a bridge on VID {vid} of {base.name}: read as a port group")
            for port in device.under(bridge.name):
                if self._is_tap(device, port):
                    self._adapter(device, switch, port, PortVlans(frozenset(), frozenset((vid,)), vid))
                elif port is not vlan:
                    self.report.add("left out", f"{device.name}/{port.name}", f"another port of {bridge.name}")
            if bridge.addresses:
                self._host_port(switch, bridge.name, vid, bridge.addresses, cut)

    def _uplink(self, device: Device, switch: str, port: Interface, vlans: PortVlans | None) -> None:
        id = f"{switch}/{port.name}"
        mode = "standby"
        carries = None
        members = [port]
        if port.kind == "bond":
            said = port.info.text("mode")
            if said not in MODES:
                port.info.refuse("mode", f"“{said[:40]}” is no bonding mode")
            mode = MODES[said]
            members = device.under(port.name)
            active = port.info.text("active_slave")
            if mode == "standby" and active:
                carries = f"{device.name}/{active}"
            if said in ("broadcast", "balance-tlb", "balance-alb"):
                self.report.add("differs", id, f"bonding mode {said} is read as hashed: each flow over one member")
        allowed = native = None
        if vlans is not None:
            allowed = vlans.allowed
            native = vlans.pvid
            if not vlans.plain:
                self.report.add(
                    "differs", id, "takes untagged frames in on another VLAN than it sends untagged; read as native"
                )
            self.seen |= vlans.tagged | vlans.untagged
        self.put(
            Uplink(id=id, switch=switch, name=port.name, mode=mode, allowed=allowed, native=native, carries=carries)
        )
        first = port.info.text("primary") if port.kind == "bond" else ""
        for rank, member in enumerate(sorted(members, key=lambda i: (i.name != first, i.index))):
            nic = self.records.get(f"{device.name}/{member.name}")
            if not isinstance(nic, Nic):
                self.report.add("left out", f"{device.name}/{member.name}", f"a member of {port.name} that is no NIC")
                continue
            self.records[nic.id] = replace(nic, uplink=id, rank=rank)
        uplink = self.records[id]
        if isinstance(uplink, Uplink) and carries and carries not in self.records:
            self.records[id] = replace(uplink, carries=None)
        self._above(device, switch, port, None, id)

    def _adapter(self, device: Device, switch: str, tap: Interface, vlans: PortVlans | None) -> None:
        about = f"{device.name}/{tap.name}"
        guest_name = tap.alias or tap.name
        if not tap.alias:
            self.report.add("proposed", about, "no alias names its guest; the guest is called like the tap")
        guest = f"guest:{device.name}/{_id(guest_name)}"
        if guest not in self.records:
            taken = any(isinstance(r, Guest) and r.name == guest_name for r in self.records.values())
            if taken:
                self.report.add(
                    "proposed",
                    about,
                    f"a guest {guest_name} is on another host too; this one is called {guest_name} ({device.name})",
                )
            self.put(Guest(id=guest, host=device.name, name=f"{guest_name} ({device.name})" if taken else guest_name))
        if vlans is None:
            group = self._port_group(switch, "every tag", mode="trunk", allowed=vids.ALL, native=0)
        elif vlans.access is not None:
            group = self._port_group(switch, f"access {vlans.access}", mode="access", vid=vlans.access)
        else:
            if not vlans.plain:
                self.report.add(
                    "differs", about, "takes untagged frames in on another VLAN than it sends untagged; read as native"
                )
            name = f"trunk {vlans.allowed or 'without VIDs'}" + (f" native {vlans.pvid}" if vlans.pvid else "")
            group = self._port_group(switch, name[:80], mode="trunk", allowed=vlans.allowed, native=vlans.pvid)
        self.put(Adapter(id=about, guest=guest, name=tap.name, port_group=group, connected=True))
        if vlans is not None and vlans.access is None:
            for vid in sorted(vlans.tagged):
                self.put(GuestTag(id=f"{about}/{vid}", adapter=about, vid=vid))
                self.seen.add(vid)
            if vlans.tagged:
                self.report.add("proposed", about, f"its port takes tags, so its guest is taken to use {vlans.allowed}")
        self.seen |= vlans.untagged if vlans is not None else frozenset()

    def _port_group(self, switch: str, name: str, **tags: Any) -> str:
        id = _id(f"{switch}/{name}")
        if id not in self.records:
            self.put(PortGroup(id=id, switch=switch, name=name, **tags))
        return id

    def _host_ports(self, device: Device, switch: str, bridge: Interface, own: PortVlans | None) -> None:
        if bridge.addresses:
            vid = own.pvid if own is not None else None
            cut = own is not None and not own.untagged
            self._host_port(switch, bridge.name, vid, bridge.addresses, "" if not cut else "untagged frames")
        self._above(device, switch, bridge, own, None)

    def _host_port(self, switch: str, name: str, vid: int | None, addresses: list[str], cut: str = "") -> None:
        if vid is not None:
            self.seen.add(vid)
        id = f"{switch}/port/{name}"
        self.put(HostPort(id=id, switch=switch, name=name, vid=vid, addresses=tuple(addresses), connected=not cut))
        if cut:
            self.report.add(
                "differs", id, f"the bridge itself doesn't let {cut} through to the host: read as disconnected"
            )

    def _vlan_id(self, device: Device, interface: Interface) -> int | None:
        if interface.info.text("protocol", "802.1Q") != "802.1Q":
            self.report.add("left out", f"{device.name}/{interface.name}", "tags with another protocol than 802.1Q")
            return None
        vid = interface.info.whole("id", None)
        if not vids.LOWEST <= vid <= vids.HIGHEST:
            interface.info.refuse("id", f"{vid} is no VID")
        return vid

    # --- cables and intent ------------------------------------------------------------------------------------

    def _cables(self) -> None:
        far: dict[str, str] = {}
        for (device, port), neighbours in sorted(self.heard.items()):
            place = f"{device}/{port}"
            if place not in self.records:
                self.report.add("left out", f"{place}{CAPTURE}", f"{port} is no NIC or switch port of {device}")
                continue
            if len(neighbours) > 1:
                said = ", ".join(f"{n.port} of {n.system or n.chassis}" for n in neighbours)
                self.report.add(
                    "left out", place, f"several neighbours are heard ({said}): nobody can say where its cable ends"
                )
                continue
            for neighbour in neighbours:
                other = self._far_end(neighbour, place)
                if neighbour.aggregated:
                    said = f"{neighbour.port} of {neighbour.system or neighbour.chassis}"
                    self.report.add("differs", place, f"{said} says that it is in a LAG; read as a single port")
                for vid, name in (neighbour.vlans or {}).items():
                    self.vlan_names.setdefault(vid, name)
                if other is None:
                    continue
                for a, b in ((place, other), (other, place)):
                    if far.setdefault(a, b) != b:
                        raise PlanError(
                            [Problem(f"{a} would be cabled to both {far[a]} and {b}", place=f"{place}{CAPTURE}")]
                        )
        for a, b in sorted(far.items()):
            if a < b:
                self.put(Cable(id=_id(f"cable:{a}--{b}"), a=a, b=b))
        for record in list(self.records.values()):
            if isinstance(record, Nic) and record.uplink and record.id not in far:
                self.report.add("left out", record.id, "no LLDP was heard on it: what is behind it stays open")

    def _far_end(self, neighbour: lldp.Neighbour, place: str) -> str | None:
        device = self._device_of(neighbour)
        if device is None:
            return self._port_from_lldp(neighbour, place)
        interfaces = self.devices[device].interfaces
        port = neighbour.port
        if neighbour.port_is_mac:
            port = next((i.name for i in interfaces.values() if i.mac == neighbour.port), neighbour.port_text)
        id = f"{device}/{port}"
        record = self.records.get(id)
        if not isinstance(record, (FabricPort, Nic)):
            self.report.add(
                "left out", place, f"its neighbour says it is {port[:60]} of {device}, which has no such port"
            )
            return None
        if isinstance(record, FabricPort) and neighbour.vlans is not None:
            said = frozenset(neighbour.vlans)
            own = {record.vid, record.native} - {None} | vids.members(record.allowed or "")
            if said != own and self.records[record.switch].managed:  # type: ignore[attr-defined]
                self.report.add(
                    "differs",
                    id,
                    f"its LLDP names VIDs {vids.write(said)}, its own state {vids.write(own)}; the state is taken",  # type: ignore[arg-type]
                )
        return id

    def _propose(self) -> None:
        subnets: dict[int, set[str]] = {}
        for record in self.records.values():
            if isinstance(record, HostPort):
                vid = self._lands(record.switch, record.vid)
                for address in record.addresses if vid else ():
                    subnets.setdefault(vid, set()).add(str(ipaddress.ip_interface(address).network))  # type: ignore[arg-type]
        for vid in sorted(self.seen):
            name = self.vlan_names.get(vid, "").strip() or f"VLAN {vid}"
            if any(isinstance(r, Segment) and r.name == name for r in self.records.values()):
                name = f"{name} ({vid})"
            self.put(Segment(id=f"segment:{vid}", name=name, vid=vid, subnets=tuple(sorted(subnets.get(vid, ())))))
            self.report.add("proposed", f"segment:{vid}", f"the segment {name} for VID {vid}, which was seen")
        for id, record in list(self.records.items()):
            own: int | None = None
            if isinstance(record, GuestTag):
                own = record.vid
            elif isinstance(record, HostPort):
                own = self._lands(record.switch, record.vid)
            elif isinstance(record, Adapter) and record.port_group:
                group = self.records[record.port_group]
                if isinstance(group, PortGroup) and (group.mode == "access" or group.native is not None):
                    own = self._lands(group.switch, group.vid or group.native or None)
            if isinstance(record, (GuestTag, HostPort, Adapter)) and own in self.seen:
                self.records[id] = replace(record, belongs=f"segment:{own}")
                self.report.add("proposed", id, f"belongs on the segment of VID {own}, its own tag")

    def _lands(self, switch: str, vid: int | None) -> int | None:
        """The VID of a context: its own, or for untagged frames what the first fabric port makes of them."""
        if vid is not None:
            return vid
        far = {c.a: c.b for c in self.records.values() if isinstance(c, Cable)}
        far |= {b: a for a, b in far.items()}
        found = set()
        for record in self.records.values():
            if isinstance(record, Nic) and record.uplink:
                uplink = self.records[record.uplink]
                port = self.records.get(far.get(record.id, ""))
                if isinstance(uplink, Uplink) and uplink.switch == switch and isinstance(port, FabricPort):
                    found.add(port.vid or port.native)
        return found.pop() if len(found) == 1 else None


def _port_tags(vlans: PortVlans, managed: bool) -> dict[str, Any]:
    if not managed:
        return {"mode": "trunk", "allowed": vids.ALL}
    if vlans.access is not None:
        return {"mode": "access", "vid": vlans.access}
    return {"mode": "trunk", "allowed": vlans.allowed, "native": vlans.pvid}


def _mtu(value: int) -> int | None:
    return value if 576 <= value <= 9216 else None


def _id(text: str) -> str:
    made = re.sub(r"[^A-Za-z0-9._:/@-]+", "-", text).strip("-._:/@") or "unnamed"
    return made[:110]

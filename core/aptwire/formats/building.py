"""A plan of what was observed.

What devices say becomes wiring, exactly: what a record can't hold isn't read as something near, it makes the switch *partial*, so that
whatever depends on it is unproven, and the report names it.  What devices can't say, intent, is proposed: a segment for each VID seen,
each endpoint belonging to the segment that it lands on.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from aptwire.formats.filtering import RULESET, lay_filters
from aptwire.formats.leasing import lay_adverts, lay_leases, take_leases
from aptwire.formats.lldp import Neighbour
from aptwire.formats.making import Records, Report
from aptwire.formats.observed import QUIRKS, Device, Interface, PortVlans
from aptwire.formats.processors import PROCESSORS, Channels
from aptwire.formats.tunnels import read_tunnels
from aptwire.plan import vids
from aptwire.plan.cores import write, write_cores
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import (
    DROPPED,
    LEARNED,
    TAKEN,
    Adapter,
    Cable,
    FabricPort,
    FabricSwitch,
    Guest,
    GuestTag,
    Host,
    HostPort,
    Lag,
    Nic,
    NumaNode,
    PortGroup,
    Route,
    Segment,
    Uplink,
    VirtualSwitch,
)
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.ports import carries, native

TEAMS = {
    "active-backup": "standby",
    "balance-rr": "hashed",
    "balance-xor": "hashed",
    "broadcast": "hashed",
    "802.3ad": "lacp",
    "balance-tlb": "pinned",
    "balance-alb": "pinned",
}
BUNDLED = ("balance-rr", "broadcast")
"""Modes that send frames over every member: what they do is known where one LAG is at the far end, and nowhere else."""
REWRITING = ("balance-tlb", "balance-alb")
"""Modes that hear broadcasts over one member and rewrite source addresses over the others, which no guest behind a bridge survives."""
SPELLED_OUT = 64
"""A port for more VIDs than these stands for "every tag": its guest isn't taken to use them all."""
Heard = Mapping[tuple[str, str], list[Neighbour]]


def build_plan(name: str, devices: Mapping[str, Device], heard: Heard, report: Report) -> Plan:
    """A plan of devices and of what their ports heard of their neighbours; PlanError where two of them contradict each other."""
    made = Records(name, report)
    named = {_device_of(devices, neighbour) for found in heard.values() for neighbour in found}
    for device_name, device in sorted(devices.items()):
        guests = [i for i in device.of_kind("tun", "macvtap") if i.master or i.kind == "macvtap"]
        if device_name in named and guests:
            report.add("read", device_name, "its neighbours hear its LLDP, but it carries guests: read as a host")
        if device_name in named and not guests:
            _FabricBuilder(made, device).build()
        else:
            _HostBuilder(made, device, heard).build()
    _Cabling(made, devices, heard).build()
    read_tunnels(made, devices)
    take_leases(made, devices)
    _propose(made)
    return made.plan()


def _device_of(devices: Mapping[str, Device], neighbour: Neighbour) -> str | None:
    for device in devices.values():
        if device.name in (neighbour.system, neighbour.chassis):
            return device.name
        if neighbour.chassis_is_mac and any(i.mac == neighbour.chassis for i in device.interfaces.values()):
            return device.name
    return None


def _port_words(vlans: PortVlans) -> dict[str, Any]:
    """A port's VLANs as a record says them: access and trunk where these are exact, else in the standard's own words.

    A port of a bridge admits whatever it is a member of, tagged or not.
    """
    if vlans.access is not None:
        return {"mode": "access", "vid": vlans.access, "admits": "all"}
    if vlans.plain:
        return {"mode": "trunk", "allowed": vlans.allowed, "native": vlans.pvid}
    return {"mode": "standard", **_standard_words(vlans)}


def _standard_words(vlans: PortVlans) -> dict[str, Any]:
    pvid = vlans.pvid if vlans.pvid in vlans.members else None
    return {"members": vlans.allowed, "untagged": vids.write(vlans.untagged) or None, "pvid": pvid}


class _FabricBuilder:
    """A fabric switch with its ports; a device with several bridges is as many switches."""

    def __init__(self, made: Records, device: Device) -> None:
        self.made, self.device, self.report = made, device, made.report

    def build(self) -> None:
        device, made = self.device, self.made
        bridges = device.of_kind("bridge")
        for bridge in (*bridges, *([None] if not bridges else [])):
            name = device.name if bridge is None or bridge is bridges[0] else f"{device.name} {bridge.name}"
            id = made.put(FabricSwitch(id=make_id(name), name=name[:80], managed=bridge is None or bridge.filters))
            made.fabric_of.setdefault(device.name, id)
            if bridge is None:
                continue
            if bridge.service:
                made.partial(id, id, "it bridges by service tags (802.1ad)")
            if bridge.name in device.unread:
                made.partial(id, id, "the VLANs of its ports weren’t given")
            for port in device.under(bridge.name):
                self._port(id, bridge, port)
        made.patch(device)
        count = sum(
            port.switch in made.fabric_of.values() for port in made.of(FabricPort) if port.id.startswith(device.name)
        )
        self.report.add("read", device.name, f"a fabric switch with {count} ports: its neighbours hear its LLDP")

    def _port(self, switch: str, bridge: Interface, port: Interface) -> None:
        about = f"{self.device.name}/{port.name}"
        if port.kind not in ("", "veth", "bond"):
            self.made.partial(switch, about, f"a port of kind {port.kind}")
            return
        for quirk in port.port.quirks:
            self.made.partial(switch, about, QUIRKS[quirk])
        members, lag = [port], None
        if port.kind == "bond":
            members = self.device.under(port.name)
            if port.mode in ("802.3ad", "balance-xor", *BUNDLED):
                lag = self.made.put(
                    Lag(id=make_id(f"{about}/lag"), switch=switch, name=port.name, lacp=port.mode == "802.3ad")
                )
                if port.mode in BUNDLED:
                    ports = tuple(make_id(f"{self.device.name}/{member.name}") for member in members)
                    self.made.bundles.append((switch, ports, about, port.mode))
            else:
                self.made.partial(switch, about, f"a team in mode {port.mode}, which a fabric switch’s LAG can’t be")
        vlans = self.device.vlans.get(port.name, PortVlans())
        words: dict[str, Any] = _port_words(vlans) if bridge.filters else {"mode": "trunk", "allowed": vids.ALL}
        self.made.seen |= vlans.members if bridge.filters else frozenset()
        for member in members:
            own = f"{self.device.name}/{member.name}"
            idle = port.kind == "bond" and lag is None and port.active not in ("", member.name)
            enabled = port.port.forwarding and not idle
            if not enabled:
                why = f"its state is {port.port.state}" if not idle else f"{port.name} doesn’t use it today"
                self.report.add("read", own, f"read as disabled: {why}")
            self.made.put(
                FabricPort(
                    id=make_id(own),
                    switch=switch,
                    name=member.name[:80],
                    enabled=enabled,
                    mtu=_mtu(member.mtu),
                    lag=lag,
                    isolated=port.port.isolated,
                    reflects=port.port.reflects,
                    **words,
                )
            )


class _HostBuilder:
    """A host: its NICs, its bridges as virtual switches, what hangs on them, and the host's own interfaces."""

    def __init__(self, made: Records, device: Device, heard: Heard) -> None:
        self.made, self.device, self.heard, self.report = made, device, heard, made.report
        self.host = make_id(device.name)
        self.uplink_of: dict[str, str] = {}
        self.switch_of: dict[str, str] = {}
        self.told: set[str] = set()
        self.placed: set[str] = set()

    def build(self) -> None:
        device, made = self.device, self.made
        made.put(Host(id=self.host, name=device.name[:80], routes=bool(device.settings.forwards())))
        for via, to in sorted(device.routes.items()):
            family = [subnet for subnet in to if (":" in subnet) == (":" in via)][:64]
            if len(family) < len(to):
                text = f"routes over {via} to subnets of the other family, or more than 64 of them, which a plan doesn’t hold"
                self.report.add("left out", device.name, text)
            if family:
                made.put(Route(id=self._id(f"route-{via}"), of=self.host, to=tuple(family), via=via))
        nics = sorted((i for i in device.interfaces.values() if self._is_nic(i)), key=lambda i: i.index)
        for rank, nic in enumerate(nics):
            made.put(
                Nic(
                    id=self._id(nic.name),
                    host=self.host,
                    name=nic.name[:80],
                    mac=nic.mac or None,
                    mtu=_mtu(nic.mtu),
                    link="up" if nic.up else "down",
                    rank=min(rank, 63),
                    **self._queues(nic.name),
                )
            )
        self._processors()
        bridges = device.of_kind("bridge")
        for bridge in bridges:
            self._switch(bridge)
        for base in sorted(device.interfaces.values(), key=lambda i: i.index):
            if not base.master and (base.kind == "bond" or self._is_nic(base)):
                self._without_bridge(base)
        for bridge in bridges:
            for port in device.under(bridge.name):
                self._port(bridge, port)
            self._own_port(bridge)
        made.patch(device)
        for interface in sorted(device.interfaces.values(), key=lambda i: i.index):
            if interface.kind in ("vlan", "macvlan", "macvtap"):
                self._upon(interface)
        for other in device.interfaces.values():
            self._left_out(other)
        lay_leases(made, device, self.host)
        lay_adverts(made, device, self.host)
        lay_filters(made, device, self.host)
        if versions := device.settings.forwards():
            text = f"it forwards {' and '.join(versions)} between its interfaces, which a ping is asked over"
            text += f"; what it filters is as {RULESET} says, if there is one"
            self.report.add("read", device.name, text)
        self._for_others()

    def _for_others(self) -> None:
        """Where the host answers for others (RFC 1027)."""
        device, made = self.device, self.made
        ports = {port.name: port.id for port in made.of(HostPort) if port.id.startswith(f"{self.host}/")}
        for name in filter(device.settings.answers_for_others, sorted(device.interfaces)):
            text = f"{name} answers ARP for what the host forwards by another interface (proxy_arp)"
            if name in ports:
                made.change(ports[name], proxy_arp=True)
                self.report.add("read", ports[name], text)
            elif not device.interfaces[name].master:
                self.report.add(
                    "left out", device.name, f"{text}, and is no port of the plan: a ping counts no such answer"
                )

    def _queues(self, nic: str) -> dict[str, Any]:
        """What is known of a NIC's receive queues, and where it hangs."""
        found = self.device.processors
        channels = found.channels.get(nic, Channels())
        said = {
            "numa": found.at.get(nic),
            "most_queues": channels.most,
            "queues": channels.now,
            "speed": channels.speed,
        }
        return {name: value for name, value in said.items() if value is not None}

    def _processors(self) -> None:
        """The NUMA nodes, and what couldn't be known of them."""
        device, found = self.device, self.device.processors
        for node in found.nodes:
            own: dict[str, Any] = {
                "socket": node.socket,
                "cores": write_cores(node.cores),
                "offline": write(node.offline) or None,
            }
            self.made.put(NumaNode(id=self._id(f"numa-{node.number}"), host=self.host, number=node.number, **own))
        if found.nodes:
            count = sum(len(node.cores) for node in found.nodes)
            self.report.add("read", device.name, f"{count} cores on {len(found.nodes)} NUMA node(s)")
        if found.unknown:
            self.report.add("left out", f"{device.name}/{PROCESSORS}", found.unknown)
        for name in sorted({*found.at, *found.channels} - device.interfaces.keys()):
            self.report.add("left out", f"{device.name}/{name}", "queues of an interface that the device doesn’t have")

    def _id(self, name: str) -> str:
        return make_id(f"{self.device.name}/{name}")

    def _is_nic(self, interface: Interface) -> bool:
        """Hardware has no link kind; a veth counts as a NIC in a bond, as an end of a pair within the host, or when a neighbour is heard on it."""
        if interface.kind == "":
            return True
        if interface.kind != "veth":
            return False
        master = self.device.interfaces.get(interface.master)
        if (self.device.name, interface.name) in self.heard or (master is not None and master.kind == "bond"):
            return True
        return self.device.patched_to(interface) is not None

    def _left_out(self, other: Interface) -> None:
        about = f"{self.device.name}/{other.name}"
        known = ("bridge", "bond", "vlan", "tun", "loopback", "macvlan", "macvtap", "")
        if about in self.told or self._is_nic(other) or other.master:
            return
        if other.kind == "tun":
            self.report.add("left out", about, "a tap that is in no bridge")
        elif other.kind not in known:
            self.report.add("left out", about, f"an interface of kind {other.kind}, which a plan doesn’t hold")

    # --- switches and their ports -----------------------------------------------------------------------------

    def _switch(self, bridge: Interface) -> None:
        own = self.device.vlans.get(bridge.name, PortVlans()) if bridge.filters else PortVlans()
        id = self.made.put(
            VirtualSwitch(
                id=self._id(bridge.name),
                host=self.host,
                name=bridge.name[:80],
                mtu=_mtu(bridge.mtu),
                filters=bridge.filters,
                answers=bridge.up
                and (not bridge.filters or bool(own.members))
                and not self.device.settings.silent(bridge.name, bridge.link_local),
                host_untagged=vids.write(own.untagged) or None,
            )
        )
        self.switch_of[bridge.name] = id
        if bridge.service:
            self.made.partial(id, id, "it bridges by service tags (802.1ad)")
        if bridge.name in self.device.unread:
            self.made.partial(id, id, "the VLANs of its ports weren’t given")
        ways = [p for p in self.device.under(bridge.name) if p.kind in ("bond", "vlan") or self._is_nic(p)]
        if len(ways) > 1:
            self.report.add(
                "differs", id, f"{len(ways)} ways out were put into it one by one: it forwards between them"
            )

    def _port(self, bridge: Interface, port: Interface) -> None:
        switch, about = self.switch_of[bridge.name], f"{self.device.name}/{port.name}"
        self.told.add(about)
        vlans = self.device.vlans.get(port.name, PortVlans()) if bridge.filters else None
        guest = port.kind in ("tun", "veth") and not self._is_nic(port)
        for quirk in port.port.quirks:
            # That a guest isn't given what isn't for it is what every adapter is taken to have.
            if not (guest and quirk == "flood"):
                self.made.partial(switch, about, QUIRKS[quirk])
        if port.kind == "bond" or self._is_nic(port):
            self._uplink(switch, port, vlans)
        elif port.kind == "vlan":
            return
        elif port.kind in ("tun", "veth") and not (port.kind == "veth" and port.lower):
            self._adapter(switch, port, vlans, port.port.forwarding)
        elif port.kind == "veth":
            self.made.partial(switch, about, f"a pair with {port.lower} of the same host")
        elif port.kind in ("vxlan", "geneve") and port.tunnel is not None:
            # Whether it is an overlay is known once all devices are.
            return
        else:
            self.made.partial(switch, about, f"a port of {bridge.name} of kind {port.kind}")

    def _without_bridge(self, base: Interface) -> None:
        """A bond or NIC that no bridge took in, used by the host itself or by what was put upon it."""
        if not base.addresses and not self.device.over(base.name):
            return
        about = f"{self.device.name}/{base.name}"
        switch = self._extra_switch(f"{base.name}-switch", base)
        self.report.add("proposed", about, "the host uses it without a bridge; shown as a switch of its own")
        self._uplink(switch, base, None)
        if base.addresses:
            self._host_port(switch, base.name, None, base.addresses)

    def _extra_switch(self, name: str, base: Interface, returning: str = LEARNED) -> str:
        """A switch for what has no bridge: it filters nothing, as nobody but its uplink is there."""
        id = self._id(name)
        if id not in self.made.by_id:
            made = VirtualSwitch(id=id, host=self.host, name=name[:80], mtu=_mtu(base.mtu), filters=False)
            self.made.put(replace(made, returning=returning))
        return id

    def _uplink(self, switch: str, port: Interface, vlans: PortVlans | None) -> None:
        """The uplink that a bond or NIC is."""
        id = make_id(f"{switch}/{port.name}")
        mode, carrying, members, first = "standby", None, [port], ""
        if port.kind == "bond":
            mode, members = TEAMS[port.mode], self.device.under(port.name)
            first = port.active if port.mode in REWRITING else port.first
            carrying = self._id(port.active) if mode == "standby" and port.active else None
            if port.mode in BUNDLED:
                self.made.bundles.append((switch, tuple(self._id(member.name) for member in members), id, port.mode))
            elif port.mode in REWRITING:
                self.made.partial(switch, id, f"a team in mode {port.mode}, which rewrites source addresses")
        self.made.put(
            Uplink(id=id, switch=switch, name=port.name[:80], mode=mode, carries=carrying, **self._words(port, vlans))
        )
        self.uplink_of[port.name] = id
        for rank, member in enumerate(sorted(members, key=lambda i: (i.name != first, i.index))):
            nic = self.made.by_id.get(self._id(member.name))
            if not isinstance(nic, Nic):
                self.made.partial(
                    switch, f"{self.device.name}/{member.name}", f"a member of {port.name} that is no NIC"
                )
                continue
            blocked = not port.port.forwarding and member.up
            if blocked:
                self.report.add("read", nic.id, f"carries nothing today: the state of {port.name} is {port.port.state}")
            role = "excluded" if blocked else nic.role
            self.made.change(nic.id, uplink=id, rank=min(rank, 63), role=role)
        if carrying and carrying not in self.made.by_id:
            self.made.change(id, carries=None)

    def _words(self, port: Interface, vlans: PortVlans | None) -> dict[str, Any]:
        flags: dict[str, Any] = {"isolated": port.port.isolated, "reflects": port.port.reflects}
        if vlans is None:
            return flags
        self.made.seen |= vlans.members
        if vlans.plain:
            return {"allowed": vlans.allowed, "native": vlans.pvid, **flags}
        return {**_standard_words(vlans), **flags}

    # --- VLAN interfaces and macvlans -------------------------------------------------------------------------

    def _upon(self, interface: Interface) -> None:
        """A VLAN interface, macvlan or macvtap: a share of what it was put upon."""
        about = f"{self.device.name}/{interface.name}"
        self.told.add(about)
        if interface.name in self.placed:
            return
        self.placed.add(interface.name)
        base = self.device.interfaces.get(interface.lower)
        if base is None:
            self.report.add("left out", about, "what it was put upon is elsewhere")
            self._elsewhere(interface, about)
        elif interface.kind != "vlan":
            self._macvlan(interface, base, about)
        elif interface.tagging != "802.1Q" or not interface.tag:
            what = f"tags with {interface.tagging}" if interface.tag else "tags with VID 0"
            self.report.add("left out", about, f"{what}, which a plan doesn’t hold")
            self._elsewhere(interface, about)
        elif base.kind == "bridge":
            self._on_bridge(interface, base, about)
        else:
            self._vlan(interface, base, about)

    def _elsewhere(self, interface: Interface, about: str) -> None:
        """An interface whose frames go nobody knows where: its bridge, and what its base carries, stay open."""
        for near in (interface.master, interface.lower, self._switch_under(interface.lower)):
            if near in self.switch_of:
                self.made.partial(self.switch_of[near], about, "a way that isn’t known")
            elif near in self.made.by_id:
                self.made.partial(near, about, "a way that isn’t known")

    def _switch_under(self, name: str) -> str:
        uplink = self.made.by_id.get(self.uplink_of.get(name, ""))
        return uplink.switch if isinstance(uplink, Uplink) else ""

    def _base_uplink(self, base: Interface) -> str | None:
        """The uplink that an interface is, made now where it is itself something put upon another one."""
        if base.name not in self.uplink_of and base.kind in ("vlan", "macvlan"):
            self._upon(base)
        return self.uplink_of.get(base.name)

    def _vlan(self, vlan: Interface, base: Interface, about: str) -> None:
        uplink = self._base_uplink(base)
        bridge = self.device.interfaces.get(vlan.master)
        upon = self.device.over(vlan.name)
        if uplink is None:
            self.report.add("left out", about, f"what it was put upon, {base.name}, isn’t part of the plan")
            self._elsewhere(vlan, about)
            return
        below = self.made.by_id[uplink]
        assert isinstance(below, Uplink)
        beside = any(i.kind in ("macvlan", "macvtap") for i in self.device.over(base.name))
        if bridge is None and not upon and not base.master and not below.over and not beside:
            # Nobody but the host is there: a port on its VID says it all.
            self.made.seen.add(vlan.tag)
            self._host_port(below.switch, vlan.name, vlan.tag, vlan.addresses)
            return
        vlans = None
        if bridge is not None and bridge.kind == "bridge":
            switch = self.switch_of[bridge.name]
            vlans = self.device.vlans.get(vlan.name, PortVlans()) if bridge.filters else None
            self.report.add("read", f"{self.device.name}/{bridge.name}", f"goes out with VID {vlan.tag} of {base.name}")
        elif vlan.master:
            self.report.add("left out", about, f"a member of {vlan.master}")
            self._elsewhere(vlan, about)
            return
        else:
            switch = self._extra_switch(f"{vlan.name}-switch", vlan)
            self.report.add(
                "read", about, f"takes the frames of VID {vlan.tag} off {base.name} before its bridge sees them"
            )
        self._share(switch, vlan, uplink, vlan.tag, vlans)
        if bridge is None:
            self._host_port(switch, vlan.name, None, vlan.addresses)

    def _share(self, switch: str, interface: Interface, over: str, tag: int | None, vlans: PortVlans | None) -> None:
        if tag:
            self.made.seen.add(tag)
        id = make_id(f"{switch}/{interface.name}")
        words = self._words(interface, vlans)
        self.made.put(Uplink(id=id, switch=switch, name=interface.name[:80], over=over, vid=tag, **words))
        self.uplink_of[interface.name] = id
        if not interface.port.forwarding and interface.master:
            self.made.partial(switch, id, f"its state is {interface.port.state}")

    def _on_bridge(self, vlan: Interface, base: Interface, about: str) -> None:
        """A VLAN interface on a bridge's own interface: the host's port there."""
        switch, own = self.switch_of[base.name], self.device.vlans.get(base.name, PortVlans())
        lost = base.filters and vlan.tag not in own.tagged
        if self.device.over(vlan.name) or (vlan.master and lost):
            self.made.partial(switch, about, f"VID {vlan.tag} goes on into {vlan.master or 'what was put upon it'}")
            if vlan.master in self.switch_of:
                self.made.partial(self.switch_of[vlan.master], about, f"a way out through {base.name}")
            return
        port = self._host_port(switch, vlan.name, vlan.tag, vlan.addresses, f"VID {vlan.tag}" if lost else "")
        if vlan.master in self.switch_of:
            upper = self.switch_of[vlan.master]
            id = make_id(f"{upper}/{vlan.name}")
            filters = self.device.interfaces[vlan.master].filters
            words = self._words(vlan, self.device.vlans.get(vlan.name, PortVlans()) if filters else None)
            self.made.put(Uplink(id=id, switch=upper, name=vlan.name[:80], over=port, **words))
            self.report.add("read", upper, f"sits on VID {vlan.tag} of {base.name}")

    def _macvlan(self, interface: Interface, base: Interface, about: str) -> None:
        """Interfaces put upon one without a bridge are a switch of their own, by what their mode says they hear."""
        uplink = self._base_uplink(base)
        if uplink is None or interface.master or interface.mode not in ("bridge", "private", "vepa", "passthru"):
            self.report.add("left out", about, f"a {interface.kind} in mode {interface.mode or 'unknown'}")
            self._elsewhere(interface, about)
            return
        returning = {"vepa": TAKEN, "passthru": LEARNED}.get(interface.mode, DROPPED)
        switch = self._extra_switch(f"{base.name}-{interface.mode}", base, returning)
        modes = {i.mode for i in self.device.over(base.name) if i.kind != "vlan"}
        if len(modes) > 1:
            self.made.partial(switch, about, f"interfaces in modes {', '.join(sorted(modes))} upon {base.name}")
        if make_id(f"{switch}/{base.name}") not in self.made.by_id:
            id = make_id(f"{switch}/{base.name}")
            self.made.put(Uplink(id=id, switch=switch, name=base.name[:80], over=uplink))
            self.report.add(
                "read", about, f"interfaces in mode {interface.mode} upon {base.name}: a switch of their own"
            )
        if interface.kind == "macvtap":
            self._adapter(switch, interface, None, True, isolated=interface.mode in ("private", "vepa"))
        else:
            self._host_port(switch, interface.name, None, interface.addresses)
            if interface.mode in ("private", "vepa"):
                self.made.partial(switch, about, f"the host’s own interface in mode {interface.mode}")

    # --- guests and the host itself ---------------------------------------------------------------------------

    def _adapter(
        self, switch: str, tap: Interface, vlans: PortVlans | None, forwarding: bool, isolated: bool = False
    ) -> None:
        about = f"{self.device.name}/{tap.name}"
        called = (tap.alias or tap.name)[:80]
        if not tap.alias:
            self.report.add("proposed", about, "no alias names its guest; the guest is called like the tap")
        guest = make_id(f"guest:{self.device.name}/{called}")
        if guest not in self.made.by_id:
            name = called
            if name in self.made.guests:
                name = f"{called[:50]} ({self.device.name[:26]})"
                self.report.add(
                    "proposed", about, f"a guest {called} is on another host too; this one is called {name}"
                )
            self.made.guests.add(name)
            self.made.put(Guest(id=guest, host=self.host, name=name))
        if not forwarding:
            self.report.add("read", about, f"read as disconnected: its state is {tap.port.state}")
        words = {"mode": "untagged"} if vlans is None else _port_words(vlans)
        isolated = isolated or tap.port.isolated
        group = self._port_group(switch, words, isolated, tap.port.reflects)
        self.made.put(
            Adapter(id=self._id(tap.name), guest=guest, name=tap.name[:80], port_group=group, connected=forwarding)
        )
        self.made.seen |= vlans.members if vlans is not None else frozenset()
        own = vlans.tagged - {vlans.pvid} if vlans is not None else frozenset()
        if own and len(own) <= SPELLED_OUT:
            for vid in sorted(own):
                self.made.put(GuestTag(id=make_id(f"{about}/{vid}"), adapter=self._id(tap.name), vid=vid))
            said = vids.write(own)
            self.report.add("proposed", about, f"its port takes tags, so its guest is taken to use {said}")

    def _port_group(self, switch: str, words: dict[str, Any], isolated: bool, reflects: bool) -> str:
        said = {
            "untagged": "all ports",
            "access": f"access {words.get('vid')}",
            "trunk": f"trunk {words.get('allowed') or 'without VIDs'}"
            + (f" native {words['native']}" if words.get("native") else ""),
            "standard": f"members {words.get('members') or 'none'}, untagged {words.get('untagged') or 'none'}"
            + (f", PVID {words['pvid']}" if words.get("pvid") else ""),
        }[words["mode"]]
        said += " isolated" * isolated + " reflecting" * reflects
        id = make_id(f"{switch}/{said}")
        if id not in self.made.by_id:
            name = said if len(said) <= 80 else f"{said[:66]} … {id[-10:]}"
            self.made.put(PortGroup(id=id, switch=switch, name=name, isolated=isolated, reflects=reflects, **words))
        return id

    def _own_port(self, bridge: Interface) -> None:
        """The host's own interface on a bridge, where it bears addresses."""
        own = self.device.vlans.get(bridge.name, PortVlans()) if bridge.filters else None
        if bridge.addresses:
            vid = own.pvid if own is not None else None
            cut = own is not None and not own.untagged
            self._host_port(
                self.switch_of[bridge.name], bridge.name, vid, bridge.addresses, "untagged frames" if cut else ""
            )

    def _host_port(
        self,
        switch: str,
        name: str,
        vid: int | None,
        addresses: list[str],
        cut: str = "",
    ) -> str:
        if vid is not None:
            self.made.seen.add(vid)
        id = make_id(f"{switch}/port/{name}")
        self.made.put(
            HostPort(id=id, switch=switch, name=name[:80], vid=vid, addresses=tuple(addresses[:64]), connected=not cut)
        )
        if cut:
            self.report.add(
                "differs", id, f"the bridge itself doesn’t let {cut} through to the host: read as disconnected"
            )
        return id


class _Cabling:
    """The cables, by what the ports hear of their neighbours."""

    def __init__(self, made: Records, devices: Mapping[str, Device], heard: Heard) -> None:
        self.made, self.devices, self.heard, self.report = made, devices, heard, made.report

    def build(self) -> None:
        far: dict[str, str] = {}
        for (device, port), neighbours in sorted(self.heard.items()):
            place, id = f"{device}/{port}", make_id(f"{device}/{port}")
            if not isinstance(self.made.by_id.get(id), (Nic, FabricPort)):
                self.report.add("left out", f"{place}.lldp.pcap", f"{port} is no NIC or switch port of {device}")
                continue
            if len(neighbours) > 1:
                said = ", ".join(f"{n.port} of {n.system or n.chassis}" for n in neighbours)
                self.report.add(
                    "left out", place, f"several neighbours are heard ({said}): nobody can say where its cable ends"
                )
                continue
            for neighbour in neighbours:
                for vid, name in (neighbour.vlans or {}).items():
                    self.made.vlan_names.setdefault(vid, name)
                other = self._far_end(neighbour, place)
                if other is None:
                    continue
                for a, b in ((id, other), (other, id)):
                    if far.setdefault(a, b) != b:
                        raise PlanError(
                            [Problem(f"{a} would be cabled to both {far[a]} and {b}", place=f"{place}.lldp.pcap")]
                        )
        for a, b in sorted(far.items()):
            if a < b:
                self.made.put(Cable(id=make_id(f"cable:{a}--{b}"), a=a, b=b))
        within = {end for cable in self.made.of(Cable) for end in (cable.a, cable.b)}
        for switch, ends, about, mode in self.made.bundles:
            if not self._one_lag([far.get(end, "") for end in ends]):
                self.made.partial(switch, about, f"a team in mode {mode} without one LAG at its far end")
        for nic in self.made.of(Nic):
            if nic.uplink and nic.id not in far and nic.id not in within:
                self.report.add("left out", nic.id, "no LLDP was heard on it: what is behind it stays open")

    def _one_lag(self, ends: list[str]) -> bool:
        """Whether these ports are one static bundle: a LAG's, or the NICs of a hashed team."""
        records = [self.made.by_id.get(end) for end in ends]
        bundles = {r.lag if isinstance(r, FabricPort) else r.uplink if isinstance(r, Nic) else None for r in records}
        bundle = self.made.by_id.get(bundles.pop() or "") if len(bundles) == 1 else None
        return (isinstance(bundle, Lag) and not bundle.lacp) or (isinstance(bundle, Uplink) and bundle.mode == "hashed")

    def _far_end(self, neighbour: Neighbour, place: str) -> str | None:
        device = _device_of(self.devices, neighbour)
        if device is None:
            return self._from_lldp(neighbour, place)
        interfaces = self.devices[device].interfaces
        port = neighbour.port
        if neighbour.port_is_mac:
            port = next((i.name for i in interfaces.values() if i.mac == neighbour.port), neighbour.port_text)
        id = make_id(f"{device}/{port}")
        record = self.made.by_id.get(id)
        if not isinstance(record, (FabricPort, Nic)):
            self.report.add(
                "left out", place, f"its neighbour says it is {port[:60]} of {device}, which has no such port"
            )
            return None
        if isinstance(record, FabricPort):
            if neighbour.aggregated and record.lag is None:
                said = f"{neighbour.port} of {neighbour.system or neighbour.chassis}"
                self.report.add("differs", place, f"{said} says that it is in a LAG; its own state doesn’t")
            switch = self.made.by_id[record.switch]
            said_vids, own = frozenset(neighbour.vlans or {}), carries(record)
            if neighbour.vlans is not None and said_vids != own and switch.managed:  # type: ignore[attr-defined]
                self.report.add(
                    "differs",
                    id,
                    f"its LLDP names VIDs {vids.write(said_vids)}, its own state {vids.write(own)}; the state is taken",
                )
        return id

    def _from_lldp(self, neighbour: Neighbour, place: str) -> str | None:
        """The id of a fabric port that is known by its LLDP alone, made when it is new.

        LLDP is what a port announces: a VID that it doesn't name may pass all the same, and so may others beside an announced PVID.
        """
        name = neighbour.system or neighbour.chassis
        port = neighbour.port if not neighbour.port_is_mac else neighbour.port_text or neighbour.port
        if not name or not port:
            self.report.add("left out", place, "the neighbour names neither itself nor its port")
            return None
        switch = self.made.fabric_of.get(name)
        if switch is None:
            switch = self.made.put(FabricSwitch(id=make_id(name), name=name[:80], partial=True))
            self.made.fabric_of[name] = switch
            self.report.add("read", name, "a fabric switch, known by its LLDP alone: its other ports stay open")
        id = make_id(f"{name}/{port}")
        if id in self.made.by_id:
            return id
        if neighbour.vlans is None and not neighbour.pvid:
            self.report.add(
                "left out", place, f"{port} of {name} doesn’t say which VLANs it carries: the cable ends open"
            )
            return None
        if neighbour.aggregated:
            self.report.add("differs", place, f"{port} of {name} says that it is in a LAG; which one isn’t known")
        named, pvid = frozenset(neighbour.vlans or {}), neighbour.pvid or None
        allowed = vids.write(named - {pvid} if pvid else named)
        size = _mtu((neighbour.frame_size or 18) - 18)
        self.made.put(
            FabricPort(
                id=id, switch=switch, name=port[:80], mtu=size, mode="trunk", allowed=allowed, native=pvid, partial=True
            )
        )
        self.report.add("read", id, "known by its LLDP alone: VIDs that it doesn’t name may pass as well")
        self.made.seen |= named | ({pvid} if pvid else set())
        return id


def _propose(made: Records) -> None:
    """Intent, which no device says: a segment for each VID, and who belongs there."""
    landing = _Landing(made)
    subnets: dict[int, set[str]] = {}
    for port in made.of(HostPort):
        vid = landing.of(port.switch, port.vid)
        for address in port.addresses if vid else ():
            subnets.setdefault(vid, set()).add(str(ipaddress.ip_interface(address).network))  # type: ignore[arg-type]
    taken: set[str] = set()
    for vid in sorted(made.seen):
        name = made.vlan_names.get(vid, "").strip()[:70] or f"VLAN {vid}"
        if name in taken:
            name = f"{name} ({vid})"
        taken.add(name)
        made.put(Segment(id=f"segment:{vid}", name=name, vid=vid, subnets=tuple(sorted(subnets.get(vid, ()))[:64])))
        made.report.add("proposed", f"segment:{vid}", f"the segment {name} for VID {vid}, which was seen")
    for id, record in list(made.by_id.items()):
        own: int | None = None
        if isinstance(record, GuestTag):
            own = record.vid
        elif isinstance(record, HostPort):
            own = landing.of(record.switch, record.vid)
        elif isinstance(record, Adapter) and record.port_group:
            group = made.by_id[record.port_group]
            assert isinstance(group, PortGroup)
            own = landing.untagged(group)
        if own in made.seen and isinstance(record, (GuestTag, HostPort, Adapter)):
            made.by_id[id] = replace(record, belongs=f"segment:{own}")
            made.report.add("proposed", id, f"belongs on the segment of VID {own}, its own tag")


class _Landing:
    """On which VID frames get into the fabric."""

    def __init__(self, made: Records) -> None:
        self.made = made
        self.far: dict[str, str] = {}
        for cable in made.of(Cable):
            self.far[cable.a], self.far[cable.b] = cable.b, cable.a
        self.uplinks: dict[str, list[Uplink]] = {}
        for uplink in made.of(Uplink):
            self.uplinks.setdefault(uplink.switch, []).append(uplink)
        self.nics: dict[str, list[Nic]] = {}
        for nic in made.of(Nic):
            if nic.uplink:
                self.nics.setdefault(nic.uplink, []).append(nic)

    def untagged(self, group: PortGroup) -> int | None:
        """Of an untagged frame into a port group; None: it is dropped, or nobody can say."""
        switch = self.made.by_id[group.switch]
        assert isinstance(switch, VirtualSwitch)
        if not switch.filters:
            return self.of(group.switch, None)
        pvid = {"access": group.vid, "trunk": group.native, "standard": group.pvid}.get(group.mode)
        return self.of(group.switch, pvid) if pvid else None

    def of(self, switch: str, vid: int | None) -> int | None:
        """Of a context: its own VID, or for untagged frames the tag of a share, or what the fabric ports behind make of them."""
        if vid is not None:
            return vid
        found: set[int | None] = set()
        for uplink in self.uplinks.get(switch, ()):
            tag, base = None, uplink
            while base.over is not None:
                below = self.made.by_id[base.over]
                if isinstance(below, HostPort):
                    tag = self.of(below.switch, below.vid)
                    break
                assert isinstance(below, Uplink)
                tag, base = base.vid or tag, below
            if tag:
                found.add(tag)
                continue
            for nic in self.nics.get(base.id, ()):
                port = self.made.by_id.get(self.far.get(nic.id, ""))
                if isinstance(port, FabricPort):
                    found.add(native(port))
        return found.pop() if len(found) == 1 else None


def _mtu(value: int) -> int | None:
    return value if 576 <= value <= 9216 else None

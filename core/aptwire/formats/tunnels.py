"""Tunnels in bridges as overlays (RFC 7348, RFC 8926), where what was observed is what an overlay of a plan is: a full mesh.

An overlay's records say who carries it, and that whoever carries it floods to all others.  Devices can say less: flood lists are
directed and may leave somebody out, nothing goes from one tunnel on to another, and UDP ports may differ.  Such a tunnel is kept as
nothing near it: its switch is known in part.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass

from aptwire.formats.making import Records
from aptwire.formats.observed import BridgePort, Device, Interface, Tunnel
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import Adapter, HostPort, PortGroup, Segment, Uplink, VirtualSwitch

Address = ipaddress.IPv4Interface | ipaddress.IPv6Interface


@dataclass(frozen=True)
class End:
    """One end of a tunnel: the switch (id) of its bridge, its own address, and the host port (id) that bears that; empty: none does."""

    about: str
    switch: str
    tunnel: Tunnel
    local: str = ""
    carrier: str = ""


@dataclass(frozen=True)
class _Around:
    """What was made so far: the addresses of each host (id) with the host ports that bear them, the switches that something leads out of,
    and each switch's port groups and adapters (ids)."""

    borne: dict[str, list[tuple[Address, str]]]
    led_out: set[str]
    groups: dict[str, list[str]]
    adapters: dict[str, list[str]]

    @classmethod
    def of(cls, made: Records) -> _Around:
        """All of it, in one pass over the records of each kind."""
        around = cls({}, {record.switch for record in (*made.of(HostPort), *made.of(Uplink))}, {}, {})
        for port in made.of(HostPort):
            switch = made.by_id[port.switch]
            if isinstance(switch, VirtualSwitch) and port.connected:
                own = [(ipaddress.ip_interface(address), str(port.id)) for address in port.addresses]
                around.borne.setdefault(switch.host, []).extend(own)
        for group in made.of(PortGroup):
            around.groups.setdefault(group.switch, []).append(group.id)
        switch_of = {group: switch for switch, groups in around.groups.items() for group in groups}
        for adapter in made.of(Adapter):
            if adapter.port_group in switch_of:
                around.adapters.setdefault(switch_of[adapter.port_group], []).append(adapter.id)
        return around


def read_tunnels(made: Records, devices: Mapping[str, Device]) -> None:
    """Make overlays of the tunnels in hosts' bridges, or leave their switches known in part."""
    around = _Around.of(made)
    ends: dict[int, list[End]] = {}
    for device in devices.values():
        for interface in device.of_kind("vxlan", "geneve"):
            switch = make_id(f"{device.name}/{interface.master}")
            if interface.tunnel is None or not isinstance(made.by_id.get(switch), VirtualSwitch):
                continue
            about, tunnel = f"{device.name}/{interface.name}", interface.tunnel
            end = End(about, switch, tunnel, *_carrier(around, device, tunnel))
            reason = _unfit(around, device, interface, end)
            if reason:
                made.partial(switch, about, f"a {interface.kind} tunnel with VNI {tunnel.vni}: {reason}")
            else:
                ends.setdefault(tunnel.vni, []).append(end)
    for vni, found in sorted(ends.items()):
        reason = _no_mesh(found)
        for end in found:
            if reason:
                made.partial(end.switch, end.about, f"a {end.tunnel.encapsulation} tunnel with VNI {vni}: {reason}")
            else:
                _overlay(made, around, end)
        if not reason:
            id = make_id(f"segment:vni-{vni}")
            made.put(Segment(id=id, name=f"VNI {vni}", vni=vni, encapsulation=found[0].tunnel.encapsulation))
            made.report.add("proposed", id, f"the segment VNI {vni}, whose tunnels {len(found)} host ports carry")


def _carrier(around: _Around, device: Device, tunnel: Tunnel) -> tuple[str, str]:
    """The address of a tunnel's end and the host port that bears it: the one it names, or else the only one in the subnet to which it sends."""
    borne = around.borne.get(make_id(device.name), [])
    if tunnel.local:
        fitting = [(own, port) for own, port in borne if str(own.ip) == tunnel.local]
    else:
        fitting = [
            (own, port) for own, port in borne if any(ipaddress.ip_address(a) in own.network for a in tunnel.flood)
        ]
    return (str(fitting[0][0].ip), fitting[0][1]) if len(fitting) == 1 else ("", "")


def _unfit(around: _Around, device: Device, interface: Interface, end: End) -> str:
    """Why a tunnel's bridge is no overlay's; empty: it is one."""
    bridge = device.interfaces[interface.master]
    others = [port for port in device.under(bridge.name) if port is not interface]
    if not end.carrier:
        return "which host port carries it isn’t known"
    if bridge.filters:
        return "its bridge filters VLANs"
    if any(port.kind not in ("tun", "veth") or port.port.isolated or port.port.reflects for port in others):
        return "its bridge has other ways out"
    if end.switch in around.led_out:
        return "something else leads out of its bridge"
    if interface.port != BridgePort():
        return "its port does something of its own"
    if end.tunnel.odd:
        return "it floods to a port or VNI of its own"
    return "" if end.tunnel.flood else "to whom it floods isn’t known"


def _no_mesh(ends: list[End]) -> str:
    """Why the ends of a VNI are no full mesh; empty: they are one."""
    if len({(end.tunnel.encapsulation, end.tunnel.udp) for end in ends}) > 1:
        return "its ends differ in encapsulation or UDP port"
    floods = [set(end.tunnel.flood) for end in ends]
    if any(ipaddress.ip_address(address).is_multicast for flood in floods for address in flood):
        return (
            ""
            if all(flood == floods[0] and len(flood) == 1 for flood in floods)
            else "its ends flood to different groups"
        )
    every = {end.local for end in ends}
    for end, flood in zip(ends, floods, strict=True):
        if flood - every:
            return f"{min(flood - every)} isn’t part of the plan"
        if every - {end.local} - flood:
            return f"{end.local} floods nothing to {min(every - {end.local} - flood)}"
    return ""


def _overlay(made: Records, around: _Around, end: End) -> None:
    """The guests on a tunnel's bridge are in its overlay."""
    vni = end.tunnel.vni
    for id in around.groups.get(end.switch, ()):
        del made.by_id[id]
    group = PortGroup(
        id=make_id(f"{end.switch}/VNI {vni}"),
        switch=end.switch,
        name=f"VNI {vni}",
        mode="overlay",
        vni=vni,
        over=end.carrier,
    )
    made.put(group)
    for id in around.adapters.get(end.switch, ()):
        made.change(id, port_group=group.id, belongs=make_id(f"segment:vni-{vni}"))
    made.report.add("read", end.about, f"an overlay with VNI {vni}, carried by {end.carrier}")

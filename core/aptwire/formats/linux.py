"""What a Linux device says of itself: `ip -details -json link/addr show` and `bridge -json vlan show`."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass, field

from aptwire.formats.shape import Shape, shapes
from aptwire.plan import vids
from aptwire.plan.file import read_json
from aptwire.plan.plan import PlanError, Problem

LARGEST_FILE = 64 * 1024 * 1024
LINK, ADDR, VLAN, PORTS = "ip-link.json", "ip-addr.json", "bridge-vlan.json", "bridge-link.json"


@dataclass(frozen=True)
class PortVlans:
    """A bridge port's VLANs: members that leave tagged, those that leave untagged, and the PVID."""

    tagged: frozenset[int] = frozenset()
    untagged: frozenset[int] = frozenset()
    pvid: int | None = None

    @property
    def plain(self) -> bool:
        """Whether what comes in untagged is exactly what leaves untagged, as in every mode that a plan knows."""
        return self.untagged == (frozenset() if self.pvid is None else frozenset((self.pvid,)))

    @property
    def access(self) -> int | None:
        """The VID, where the port carries one VLAN, untagged."""
        return self.pvid if not self.tagged and self.plain else None

    @property
    def allowed(self) -> str:
        """What leaves tagged, as a VID set."""
        return vids.write(self.tagged)


@dataclass
class Interface:
    """One network interface of a device."""

    name: str
    index: int
    kind: str
    mac: str
    mtu: int
    up: bool
    master: str
    lower: str
    alias: str
    info: Shape
    slave: Shape
    addresses: list[str] = field(default_factory=list)


@dataclass
class Device:
    """A device's interfaces by name, its bridge ports' VLANs, and the states of ports that don't forward."""

    name: str
    interfaces: dict[str, Interface]
    vlans: dict[str, PortVlans]
    not_forwarding: dict[str, str]

    def under(self, master: str) -> list[Interface]:
        """The interfaces that a bridge or bond has taken in, in the order in which the kernel numbers them."""
        return sorted((i for i in self.interfaces.values() if i.master == master), key=lambda i: i.index)

    def of_kind(self, kind: str) -> list[Interface]:
        """The interfaces of a kind."""
        return [i for i in self.interfaces.values() if i.kind == kind]


def read_device(name: str, files: Mapping[str, bytes]) -> Device:
    """A device from its files (by base name); PlanError names file and place of what can't be used."""

    def load(file: str) -> list[Shape]:
        place = f"{name}/{file}"
        return list(shapes(read_json(files[file], place, LARGEST_FILE), place)) if file in files else []

    if LINK not in files:
        raise PlanError([Problem(f"{LINK} is missing, and without it nothing of this device can be read", place=name)])
    interfaces: dict[str, Interface] = {}
    for shape in load(LINK):
        interface = _interface(shape)
        if interface.name in interfaces:
            shape.refuse("ifname", f"“{interface.name}” stands twice")
        interfaces[interface.name] = interface
    for shape in load(ADDR):
        owner = interfaces.get(shape.text("ifname", None))
        if owner is None:
            shape.refuse("ifname", f"“{shape.text('ifname')}” isn't in {LINK}")
        for entry in shape.parts("addr_info"):
            if entry.text("scope") == "global":
                owner.addresses.append(_address(entry))
    port_vlans: dict[str, PortVlans] = {}
    for shape in load(VLAN):
        port_vlans[shape.text("ifname", None)] = _vlans(shape)
    stopped: dict[str, str] = {}
    for shape in load(PORTS):
        if shape.text("state", "forwarding") != "forwarding":
            stopped[shape.text("ifname", None)] = shape.text("state")
    return Device(name, interfaces, port_vlans, stopped)


def _interface(shape: Shape) -> Interface:
    linkinfo = shape.part("linkinfo")
    slave = linkinfo.part("info_slave_data")
    flags = shape.words("flags")
    return Interface(
        name=shape.text("ifname", None),
        index=shape.whole("ifindex", None),
        kind="loopback" if "LOOPBACK" in flags else linkinfo.text("info_kind"),
        mac=slave.text("perm_hwaddr") or shape.text("permaddr") or shape.text("address"),
        mtu=shape.whole("mtu"),
        up="LOWER_UP" in flags and shape.text("operstate") != "DOWN",
        master=shape.text("master"),
        lower=shape.text("link"),
        alias=shape.text("ifalias").strip(),
        info=linkinfo.part("info_data"),
        slave=slave,
    )


def _address(entry: Shape) -> str:
    text = f"{entry.text('local', None)}/{entry.whole('prefixlen', None)}"
    try:
        return str(ipaddress.ip_interface(text))
    except ValueError:
        entry.refuse("local", f"“{text[:60]}” is no address")


def _vlans(shape: Shape) -> PortVlans:
    tagged: set[int] = set()
    untagged: set[int] = set()
    pvid: int | None = None
    for entry in shape.parts("vlans"):
        first = entry.whole("vlan", None)
        last = entry.whole("vlanEnd", first)
        if not vids.LOWEST <= first <= last <= vids.HIGHEST:
            entry.refuse("vlan", f"{first} to {last} is no range of VIDs")
        flags = entry.words("flags")
        (untagged if "Egress Untagged" in flags else tagged).update(range(first, last + 1))
        if "PVID" in flags:
            pvid = first
    return PortVlans(frozenset(tagged), frozenset(untagged), pvid)

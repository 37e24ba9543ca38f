"""What a Linux device says of itself: `ip -details -json link/addr show`, `bridge -json vlan/link/fdb show`, `ip -json route show`, `sysctl`, `nft --json list ruleset`, its DHCP server's configuration, and its processors."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Mapping
from dataclasses import replace

from aptwire.formats.filtering import RULESET, Filtering, read_filtering
from aptwire.formats.leasing import CONFIGURATION, LEASES, Leasing, read_leased, read_leasing
from aptwire.formats.observed import QUIRKS, BridgePort, Device, Interface, PortVlans, Tunnel
from aptwire.formats.processors import CHANNELS, NODES, PROCESSORS, read_processors
from aptwire.formats.settings import SYSCTL, Settings, read_settings
from aptwire.formats.shape import Shape, shapes
from aptwire.plan import vids
from aptwire.plan.file import read_json
from aptwire.plan.plan import PlanError, Problem

LARGEST_FILE = 64 * 1024 * 1024
LINK, ADDR, VLAN, PORTS, FDB = STATES = (
    "ip-link.json",
    "ip-addr.json",
    "bridge-vlan.json",
    "bridge-link.json",
    "bridge-fdb.json",
)
ROUTES = ("ip-route.json", "ip-route6.json")
FILES = (*STATES, SYSCTL, *ROUTES, CONFIGURATION, LEASES, RULESET, PROCESSORS, NODES)
ALL_ZEROS = "00:00:00:00:00:00"
"""Whom a tunnel's entry for this address names gets what it floods."""


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
    for shape in load(PORTS):
        _port_settings(shape, interfaces.get(shape.text("ifname", None)))
    for shape in load(FDB):
        owner = interfaces.get(shape.text("ifname", None))
        if owner is not None and owner.tunnel is not None and shape.text("mac") == ALL_ZEROS and shape.text("dst"):
            odd = owner.tunnel.odd or "vni" in shape.data or "port" in shape.data
            owner.tunnel = replace(owner.tunnel, flood=(*owner.tunnel.flood, _bare(shape, "dst")), odd=odd)
    unread = () if VLAN in files else tuple(b.name for b in interfaces.values() if b.kind == "bridge" and b.filters)
    settings = read_settings(files[SYSCTL], f"{name}/{SYSCTL}") if SYSCTL in files else Settings()
    leasing = read_leasing(files[CONFIGURATION], f"{name}/{CONFIGURATION}") if CONFIGURATION in files else Leasing()
    rules = read_filtering(files[RULESET], f"{name}/{RULESET}", LARGEST_FILE) if RULESET in files else Filtering()
    routes = _routes(load(ROUTES[0]), load(ROUTES[1]))
    leased = read_leased(files[LEASES], f"{name}/{LEASES}") if LEASES in files else ()
    found = read_processors(name, files)
    return Device(name, interfaces, port_vlans, unread, settings, routes, leasing, rules, leased, found)


def is_state(base: str) -> bool:
    """Whether a file (by base name) is part of a device's state."""
    return base in FILES or CHANNELS.match(base) is not None


def _routes(four: Iterable[Shape], six: Iterable[Shape]) -> dict[str, tuple[str, ...]]:
    """The subnets that are sent to each next hop, as `ip -json route show` says of IPv4 and IPv6; of several lines for one subnet those of the least
    metric."""
    best: dict[str, tuple[int, list[str]]] = {}
    for everything, shape in [*(("0.0.0.0/0", s) for s in four), *(("::/0", s) for s in six)]:
        hops = [_hop(part) for part in (shape, *shape.parts("nexthops"))]
        via = [hop for hop in hops if hop]
        if not via or shape.text("type", "unicast") != "unicast":
            continue
        to = everything if shape.text("dst", None) == "default" else _prefix(shape)
        metric = shape.whole("metric")
        known = best.get(to)
        if known is None or metric < known[0]:
            best[to] = (metric, via)
        elif metric == known[0]:
            known[1].extend(via)
    made: dict[str, list[str]] = {}
    for to, (_, hops) in best.items():
        for hop in dict.fromkeys(hops):
            made.setdefault(hop, []).append(to)
    return {hop: tuple(to) for hop, to in made.items()}


def _hop(shape: Shape) -> str:
    """A next hop, which may be of the other family; empty for what is connected."""
    if "via" in shape.data:
        return _bare(shape.part("via"), "host")
    return _bare(shape, "gateway") if "gateway" in shape.data else ""


def _prefix(shape: Shape) -> str:
    text = shape.text("dst", None)
    try:
        return str(ipaddress.ip_network(text))
    except ValueError:
        shape.refuse("dst", f"“{text[:60]}” is no subnet")


def _port_settings(shape: Shape, interface: Interface | None) -> None:
    """Take in what `bridge -details link show` says of a port, or the kernel's own words in `ip -details link show`."""
    if interface is None:
        return
    data = shape.data
    usual = {"locked": False, "learning": True, "flood": True, "bcast_flood": True, "mcast_flood": True}
    said = tuple(name for name in QUIRKS if name in data and data[name] is not usual.get(name, False))
    state = shape.text("state", interface.port.state)
    interface.port = BridgePort(
        forwarding=state == "forwarding",
        state=state,
        isolated=interface.port.isolated or data.get("isolated") is True,
        reflects=interface.port.reflects or data.get("hairpin") is True,
        quirks=tuple(dict.fromkeys((*interface.port.quirks, *said))),
    )


def _interface(shape: Shape) -> Interface:
    linkinfo = shape.part("linkinfo")
    info, slave = linkinfo.part("info_data"), linkinfo.part("info_slave_data")
    flags = shape.words("flags")
    kind = "loopback" if "LOOPBACK" in flags else linkinfo.text("info_kind")
    made = Interface(
        name=shape.text("ifname", None),
        index=shape.whole("ifindex", None),
        kind=kind,
        mac=slave.text("perm_hwaddr") or shape.text("permaddr") or shape.text("address"),
        mtu=shape.whole("mtu"),
        up="LOWER_UP" in flags and shape.text("operstate") != "DOWN",
        master=shape.text("master"),
        lower="" if "link_netnsid" in shape.data else shape.text("link"),
        alias=shape.text("ifalias").strip(),
        source=shape.place,
        away="link_netnsid" in shape.data,
        link_local=shape.text("inet6_addr_gen_mode") != "none",
    )
    if kind == "vlan":
        made.tag, made.tagging = info.whole("id", None), info.text("protocol", "802.1Q")
        if not 0 <= made.tag <= vids.HIGHEST:
            info.refuse("id", f"{made.tag} is no VID")
    elif kind == "bond":
        made.mode, made.active, made.first = info.text("mode"), _word(info, "active_slave"), _word(info, "primary")
        if made.mode not in BOND_MODES:
            info.refuse("mode", f"“{made.mode[:40]}” is no bonding mode")
    elif kind in ("macvlan", "macvtap"):
        made.mode = info.text("mode")
    elif kind == "bridge":
        made.filters = bool(info.whole("vlan_filtering"))
        made.service = info.text("vlan_protocol", "802.1Q").lower() == "802.1ad"
    elif kind in ("vxlan", "geneve"):
        remote = next((name for name in ("remote", "remote6", "group", "group6") if _word(info, name)), "")
        local = _word(info, "local") or _word(info, "local6")
        made.tunnel = Tunnel(
            info.whole("id"), kind, local, (_bare(info, remote),) if remote else (), info.whole("port")
        )
    if linkinfo.text("info_slave_kind") == "bridge":
        # The kernel's words here are those of `bridge link`, but for two names; a state may be a number there.
        renamed = {
            ("flood" if k == "unicast_flood" else k): v for k, v in slave.data.items() if isinstance(v, bool | str)
        }
        _port_settings(Shape(slave.place, renamed), made)
    return made


BOND_MODES = ("balance-rr", "active-backup", "balance-xor", "broadcast", "802.3ad", "balance-tlb", "balance-alb")


def _word(shape: Shape, field: str) -> str:
    """A text that may be null."""
    return shape.text(field) if shape.data.get(field) is not None else ""


def _address(entry: Shape) -> str:
    text = f"{entry.text('local', None)}/{entry.whole('prefixlen', None)}"
    try:
        return str(ipaddress.ip_interface(text))
    except ValueError:
        entry.refuse("local", f"“{text[:60]}” is no address")


def _bare(shape: Shape, field: str) -> str:
    """An address without a prefix length."""
    text = shape.text(field)
    try:
        return str(ipaddress.ip_address(text))
    except ValueError:
        shape.refuse(field, f"“{text[:60]}” is no address")


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

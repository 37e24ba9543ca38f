"""What was observed of a fleet, whoever told it: devices with their interfaces, bridge ports, addresses and neighbours.

Readers of files and protocols fill this model and know nothing of plans; `building.py` alone makes a plan of it.  Each part says
where it was read (`source`), and `unread` what a device was not asked for.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from aptwire.formats.filtering import Filtering
from aptwire.formats.leasing import Leased, Leasing
from aptwire.formats.processors import Processors
from aptwire.formats.settings import Settings
from aptwire.plan import vids


@dataclass(frozen=True)
class PortVlans:
    """A bridge port's VLANs (IEEE 802.1Q clause 8.8.2): members that leave tagged, those that leave untagged, and the PVID."""

    tagged: frozenset[int] = frozenset()
    untagged: frozenset[int] = frozenset()
    pvid: int | None = None

    @property
    def plain(self) -> bool:
        """Whether what comes in untagged is exactly what leaves untagged, which access and trunk can say."""
        return self.untagged == (frozenset() if self.pvid is None else frozenset((self.pvid,)))

    @property
    def access(self) -> int | None:
        """The VID, where the port carries one VLAN, untagged."""
        return self.pvid if not self.tagged and self.plain else None

    @property
    def members(self) -> frozenset[int]:
        """All VIDs that pass."""
        return self.tagged | self.untagged

    @property
    def allowed(self) -> str:
        """All VIDs that pass, as text."""
        return vids.write(self.members)


QUIRKS = {
    "locked": "it is locked: only addresses that were let in pass",
    "learning": "it doesn't learn addresses",
    "flood": "it floods no unknown unicast frames",
    "bcast_flood": "it floods no broadcasts",
    "mcast_flood": "it floods no multicast frames",
    "neigh_suppress": "it answers ARP for others",
    "vlan_tunnel": "it turns VIDs into VNIs",
}
"""Settings of a bridge port that no record holds, where they aren't as usual."""


@dataclass(frozen=True)
class BridgePort:
    """An interface as a port of a bridge: whether it forwards at all, and what it does beside the usual (`quirks` are names of QUIRKS)."""

    forwarding: bool = True
    state: str = "forwarding"
    isolated: bool = False
    reflects: bool = False
    quirks: tuple[str, ...] = ()


@dataclass(frozen=True)
class Tunnel:
    """A tunnel interface: its VNI, the address at this end, to whom it floods (addresses, or a multicast group), its UDP port, and `odd`:
    some of that goes to another port or VNI."""

    vni: int
    encapsulation: str
    local: str = ""
    flood: tuple[str, ...] = ()
    udp: int = 0
    odd: bool = False


@dataclass
class Interface:
    """One network interface.  `kind` is "" for hardware, else bridge, bond, vlan, tun, veth, macvlan, macvtap, vxlan, geneve, ...

    `tag` and `tagging` (the protocol) of a VLAN interface; `mode` of a bond or macvlan; `active` and `first` members of a bond;
    `filters` whether a bridge filters VLANs, and `service`: whether by the service tag (802.1ad); `link_local`: whether it gives itself an IPv6
    address where IPv6 is on.
    """

    name: str
    index: int
    kind: str
    mac: str
    mtu: int
    up: bool
    master: str
    lower: str
    alias: str
    source: str
    away: bool = False
    tag: int = 0
    tagging: str = ""
    mode: str = ""
    active: str = ""
    first: str = ""
    filters: bool = False
    service: bool = False
    tunnel: Tunnel | None = None
    port: BridgePort = BridgePort()
    link_local: bool = True
    addresses: list[str] = field(default_factory=list)


@dataclass
class Device:
    """A device: its interfaces by name, the VLANs of its bridge ports, what it answers and forwards as far as that was read, the subnets that it sends to
    each next hop, what it leases, what it lets through, what it has leased, and its processors."""

    name: str
    interfaces: dict[str, Interface]
    vlans: dict[str, PortVlans]
    unread: tuple[str, ...] = ()
    settings: Settings = field(default_factory=Settings)
    routes: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    leasing: Leasing = field(default_factory=Leasing)
    filtering: Filtering = field(default_factory=Filtering)
    leased: tuple[Leased, ...] = ()
    processors: Processors = field(default_factory=Processors)

    def under(self, master: str) -> list[Interface]:
        """The interfaces that a bridge or bond has taken in, in the order in which the device numbers them."""
        return sorted((i for i in self.interfaces.values() if i.master == master), key=lambda i: i.index)

    def over(self, lower: str) -> list[Interface]:
        """The interfaces that were put upon one (VLAN interfaces, macvlans)."""
        on = (i for i in self.interfaces.values() if i.lower == lower and i.kind in ("vlan", "macvlan", "macvtap"))
        return sorted(on, key=lambda i: i.index)

    def pair(self, interface: Interface) -> Interface | None:
        """The other end of a veth pair, where it is in this device too."""
        far = self.interfaces.get(interface.lower) if interface.kind == "veth" else None
        return far if far is not None and far.kind == "veth" and far.lower == interface.name else None

    def patched_to(self, interface: Interface) -> Interface | None:
        """The other end of a veth pair of which one end is in a bridge of this device, and the other in one too or the device's own."""
        far = self.pair(interface)
        masters = [self.interfaces.get(end.master) for end in (interface, far) if end is not None and end.master]
        inside = masters and all(master is not None and master.kind == "bridge" for master in masters)
        return far if inside else None

    def patched(self) -> list[tuple[Interface, Interface]]:
        """Such pairs, each once."""
        found = [(one, two) for one in self.of_kind("veth") if (two := self.patched_to(one)) is not None]
        return [(one, two) for one, two in found if one.name < two.name]

    def of_kind(self, *kinds: str) -> list[Interface]:
        """The interfaces of some kinds, as the device numbers them."""
        return sorted((i for i in self.interfaces.values() if i.kind in kinds), key=lambda i: i.index)

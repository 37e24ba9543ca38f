"""The record kinds of a plan.

Each kind is a frozen dataclass whose fields carry a `Spec`; `KINDS` lists them in the order
in which a reader meets them.
"""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any, ClassVar

from aptwire.plan import fields as f
from aptwire.plan.fields import Spec


@dataclass(frozen=True, kw_only=True, slots=True)
class Record:
    """What every kind has: a stable id, and class facts that the checks and the server read."""

    id: str
    kind: ClassVar[str] = ""
    title: ClassVar[str] = ""
    unique: ClassVar[tuple[tuple[str, ...], ...]] = ()

    def to_json(self) -> dict[str, Any]:
        """The record as a JSON object: the id, then every field that isn't at its default."""
        made: dict[str, Any] = {"id": self.id}
        for field in dataclasses.fields(self):
            value = getattr(self, field.name)
            if field.name != "id" and value != field.default:
                made[field.name] = f.plain(value)
        return made


@dataclass(frozen=True, kw_only=True, slots=True)
class Segment(Record):
    """Intent: a broadcast domain that somebody wants."""

    kind: ClassVar[str] = "segment"
    title: ClassVar[str] = "segment"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name()
    role: str = f.text(40, help="management, migration, storage, production, test, edge, backup, or your own")
    vid: int | None = f.vid(help="absent: the segment travels untagged")
    subnets: tuple[str, ...] = f.listed("subnets")
    gateways: tuple[str, ...] = f.listed("ips", help="addresses that its endpoints send to when they leave the subnet")
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet")


@dataclass(frozen=True, kw_only=True, slots=True)
class AssumedFabric(Record):
    """A declaration that everything behind a site's uncabled NICs carries these VIDs."""

    kind: ClassVar[str] = "assumed_fabric"
    title: ClassVar[str] = "assumed fabric"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("site",),)
    site: str = f.name()
    allowed: str = f.vid_set(required=True)
    native: int | None = f.vid(help="the VID of untagged frames; absent: untagged frames are dropped")


@dataclass(frozen=True, kw_only=True, slots=True)
class Host(Record):
    """A hypervisor host."""

    kind: ClassVar[str] = "host"
    title: ClassVar[str] = "host"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name()
    site: str = f.text(80)


@dataclass(frozen=True, kw_only=True, slots=True)
class VirtualSwitch(Record):
    """A bridge inside a host.  Its reach (wired, host-local, sealed) is derived."""

    kind: ClassVar[str] = "virtual_switch"
    title: ClassVar[str] = "virtual switch"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("host", "name"),)
    host: str = f.ref("host")
    name: str = f.name()
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet")


@dataclass(frozen=True, kw_only=True, slots=True)
class Uplink(Record):
    """A virtual switch's way out: a team of NICs (or one) that share a tag list."""

    kind: ClassVar[str] = "uplink"
    title: ClassVar[str] = "uplink"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("switch", "name"),)
    switch: str = f.ref("virtual_switch")
    name: str = f.name()
    mode: str = f.choice("standby", "pinned", "hashed", "lacp", default="standby")
    allowed: str | None = f.vid_set(
        untagged=True, help="VIDs let in and out, 0 for untagged frames; absent: all of them"
    )
    native: int | None = f.vid(help="the VID of untagged frames; absent: they stay untagged all through")
    carries: str | None = f.ref(
        "nic", optional=True, help="the NIC seen carrying a standby team; absent: the first in order"
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class Nic(Record):
    """A network card's port on a host, at most in one uplink."""

    kind: ClassVar[str] = "nic"
    title: ClassVar[str] = "NIC"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("host", "name"),)
    host: str = f.ref("host")
    name: str = f.name()
    mac: str | None = f.mac()
    speed: int | None = f.number(10, 800_000, help="Mbit/s")
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet")
    link: str = f.choice("up", "down", default="up")
    uplink: str | None = f.ref("uplink", optional=True)
    role: str = f.choice("active", "standby", "excluded", default="active", help="its part in the uplink")
    rank: int = f.number(0, 63, default=0, help="its place in the uplink's order, lowest first")


@dataclass(frozen=True, kw_only=True, slots=True)
class PortGroup(Record):
    """A named set of equal ports of a virtual switch."""

    kind: ClassVar[str] = "port_group"
    title: ClassVar[str] = "port group"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("switch", "name"),)
    switch: str = f.ref("virtual_switch")
    name: str = f.name()
    mode: str = f.choice("untagged", "access", "trunk")
    vid: int | None = f.vid(help="of an access port group")
    allowed: str | None = f.vid_set(help="of a trunk port group")
    native: int | None = f.vid(
        untagged=True, help="of a trunk: the VID of untagged frames, 0 to leave them untagged; absent: dropped"
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class HostPort(Record):
    """The hypervisor's own IP interface on a virtual switch."""

    kind: ClassVar[str] = "host_port"
    title: ClassVar[str] = "host port"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("switch", "name"),)
    switch: str = f.ref("virtual_switch")
    name: str = f.name()
    vid: int | None = f.vid(help="absent: untagged")
    addresses: tuple[str, ...] = f.listed("addresses")
    services: tuple[str, ...] = f.listed("words", help="management, migration, storage, backup, or your own")
    belongs: str | None = f.ref("segment", optional=True)
    connected: bool = f.flag(True)


@dataclass(frozen=True, kw_only=True, slots=True)
class Guest(Record):
    """A virtual machine."""

    kind: ClassVar[str] = "guest"
    title: ClassVar[str] = "guest"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    host: str = f.ref("host")
    name: str = f.name()
    running: bool = f.flag(True)


@dataclass(frozen=True, kw_only=True, slots=True)
class Adapter(Record):
    """A guest's network adapter, and the segment on which its untagged frames belong."""

    kind: ClassVar[str] = "adapter"
    title: ClassVar[str] = "adapter"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("guest", "name"),)
    guest: str = f.ref("guest")
    name: str = f.name("the name that the host gives its end, such as tap-web1")
    port_group: str | None = f.ref("port_group", optional=True)
    mac: str | None = f.mac()
    belongs: str | None = f.ref("segment", optional=True)
    addresses: tuple[str, ...] = f.listed("addresses")
    connected: bool = f.flag(True)


@dataclass(frozen=True, kw_only=True, slots=True)
class GuestTag(Record):
    """A tag that a guest itself puts on its frames, on an adapter that sits on a trunk."""

    kind: ClassVar[str] = "guest_tag"
    title: ClassVar[str] = "guest tag"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("adapter", "vid"),)
    adapter: str = f.ref("adapter")
    vid: int = dataclasses.field(metadata={"spec": Spec("vid")})
    belongs: str | None = f.ref("segment", optional=True)
    addresses: tuple[str, ...] = f.listed("addresses")


@dataclass(frozen=True, kw_only=True, slots=True)
class FabricSwitch(Record):
    """A physical switch."""

    kind: ClassVar[str] = "fabric_switch"
    title: ClassVar[str] = "fabric switch"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name()
    site: str = f.text(80)
    managed: bool = f.flag(True, help="false: passes tags unseen and filters nothing")
    vlans: str | None = f.vid_set(help="the VIDs that a managed switch defines; absent: all")
    partial: bool = f.flag(False, help="true: it has more ports than the plan knows, and what is behind them is open")


@dataclass(frozen=True, kw_only=True, slots=True)
class FabricPort(Record):
    """A physical switch's port."""

    kind: ClassVar[str] = "fabric_port"
    title: ClassVar[str] = "fabric port"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("switch", "name"),)
    switch: str = f.ref("fabric_switch")
    name: str = f.name()
    mode: str = f.choice("access", "trunk")
    vid: int | None = f.vid(help="of an access port")
    allowed: str | None = f.vid_set(help="of a trunk port")
    native: int | None = f.vid(help="of a trunk: the VID of untagged frames; absent: they are dropped")
    enabled: bool = f.flag(True)
    speed: int | None = f.number(10, 800_000, help="Mbit/s")
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet")


@dataclass(frozen=True, kw_only=True, slots=True)
class Cable(Record):
    """Joins two of: a NIC, a fabric port."""

    kind: ClassVar[str] = "cable"
    title: ClassVar[str] = "cable"
    a: str = f.ref("nic", "fabric_port")
    b: str = f.ref("nic", "fabric_port")


KINDS: dict[str, type[Record]] = {
    cls.kind: cls
    for cls in (
        Segment,
        AssumedFabric,
        Host,
        VirtualSwitch,
        Uplink,
        Nic,
        PortGroup,
        HostPort,
        Guest,
        Adapter,
        GuestTag,
        FabricSwitch,
        FabricPort,
        Cable,
    )
}

SPECS: dict[str, dict[str, Spec]] = {
    kind: {field.name: field.metadata["spec"] for field in dataclasses.fields(cls) if field.name != "id"}
    for kind, cls in KINDS.items()
}

REFS: dict[str, tuple[str, ...]] = {
    kind: tuple(name for name, spec in specs.items() if spec.kind == "ref") for kind, specs in SPECS.items()
}

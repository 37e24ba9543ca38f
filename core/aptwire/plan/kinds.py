"""The record kinds of a plan.

Each kind is a frozen dataclass whose fields carry a `Spec`; `KINDS` lists them in the order
in which a reader meets them.
"""

from __future__ import annotations

import dataclasses
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from itertools import compress, repeat
from operator import attrgetter, is_not
from typing import Any, ClassVar

from aptwire.plan import fields as f
from aptwire.plan.fields import Spec

RATE = (8, 800_000_000)
BURST = (1_500, 1_000_000_000)
GUARDS = ("overhear", "new_address", "foreign_source", "serve_leases", "advertise_routes")
ADMITS = ("all", "untagged", "tagged")
LEARNED, DROPPED, TAKEN = RETURNING = ("learned", "dropped", "taken")
STATIC, LEASE, NONE = ADDRESSING = ("static", "lease", "none")
ADVERTISED = "advertised"
ADDRESSING6 = (STATIC, ADVERTISED, LEASE)
INTERFACE_BITS = 64
"""Of an address that is formed, as many say which interface it is (RFC 4291 section 2.5.1)."""
TAKEN, DROPPED = MARKED = ("taken", "dropped")
TAKEN_BY_LEASE = "lease: its IPv4 address comes from a lease server (RFC 2131); none: it is meant to have no address"
FORMED = "beside those of its own: advertised: it forms IPv6 addresses of the prefixes that are advertised on its link (RFC 4862); lease: one comes from a lease server (RFC 8415)"
FOR_OTHERS = "where its owner forwards, it answers questions for IPv4 addresses that it sends on by another interface (proxy ARP, RFC 1027)"
MBITS = (1, 800_000)
TO_GATEWAY, TO_ONE, TO_OTHERS = TOWARDS = ("gateway", "one", "others")
SENDERS = (
    *("adapter", "guest_tag", "host_port", "station_port", "segment", "port_group"),
    *("pattern_host_port", "pattern_port_group"),
)
"""Who may be said to send: interfaces, or what stands for many of them."""
SHAPES = ("send_rate", "send_peak", "send_burst", "receive_rate", "receive_peak", "receive_burst")


@dataclass(frozen=True, kw_only=True, slots=True)
class Record:
    """What every kind has: a stable id, what people say about it, and class facts that the checks and the server read."""

    id: str
    note: str = f.text(500, help="whatever people should know about it")
    owner: str = f.text(80, help="who answers for it: a person, a team")
    kind: ClassVar[str] = ""
    title: ClassVar[str] = ""
    unique: ClassVar[tuple[tuple[str, ...], ...]] = ()

    def to_json(self) -> dict[str, Any]:
        """The record as a JSON object: the id, then every field that isn't at its default."""
        made: dict[str, Any] = {"id": self.id}
        read, names, defaults = _fields(self.kind)
        values = read(self)
        # Nearly all values are the defaults themselves: those are passed over without a step of Python.
        for name, value, default in compress(zip(names, values, defaults, strict=True), map(is_not, values, defaults)):
            if value != default:
                made[name] = f.plain(value)
        return made


def columns_of(kind: str, records: Sequence[Record]) -> dict[str, list[Any]]:
    """What `to_json` says of many records of a kind, field by field: None where it says nothing of one, and no field of which it says nothing."""
    made: dict[str, list[Any]] = {"id": [record.id for record in records]}
    _, names, defaults = _fields(kind)
    for name, default in zip(names, defaults, strict=True):
        values = list(map(attrgetter(name), records))
        if others := set(values) - {default}:
            told = dict.fromkeys(values) | {value: f.plain(value) for value in others}
            made[name] = list(map(told.__getitem__, values))
    return made


def made_of(kind: str, columns: Mapping[str, Sequence[Any]]) -> list[Any]:
    """The records of a kind of which each field is a row: their ids, whatever has no default, and others; what isn't given has its default in all.

    Very many of them are made so in a third of the time that it takes one by one."""
    cls: Any = KINDS[kind]
    made = [object.__new__(cls) for _ in columns["id"]]
    defaults = {field.name: field.default for field in dataclasses.fields(cls)}
    for name, slot in _slots(kind)[1].items():
        deque(map(slot, made, columns[name] if name in columns else repeat(defaults[name])), maxlen=0)
    return made


def changed(record: Record, values: Mapping[str, Any]) -> Record:
    """The record with other values in some fields, several times as quick as the dataclass's own way."""
    made = object.__new__(type(record))
    read, slots = _slots(record.kind)
    for slot, value in zip(slots.values(), read(record), strict=True):
        slot(made, value)
    for name, value in values.items():
        slots[name](made, value)
    return made


@cache
def _slots(kind: str) -> tuple[Callable[[Any], tuple[Any, ...]], dict[str, Callable[[Any, Any], None]]]:
    """What reads all fields of a record of a kind, and what fills each of them, in the same order: a record can't be changed, but one that is new has
    its fields filled past that, as its own constructor does."""
    cls = KINDS[kind]
    slots = {field.name: getattr(cls, field.name).__set__ for field in dataclasses.fields(cls)}
    return attrgetter(*slots), slots


ABOUT = ("note", "owner")
"""The fields of every kind that say something to people alone: no frame depends on them, and no pattern hands them on."""


@cache
def _fields(kind: str) -> tuple[Callable[[Any], tuple[Any, ...]], tuple[str, ...], tuple[Any, ...]]:
    """What reads the fields of a kind, their names, and what they are unless said."""
    fields = _own_first(KINDS[kind])
    names = tuple(field.name for field in fields)
    return attrgetter(*names), names, tuple(field.default for field in fields)


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
    lease_servers: tuple[str, ...] = f.listed(
        "ips", help="addresses of the servers from which its endpoints get theirs"
    )
    ranges: tuple[str, ...] = f.listed(
        "purposes",
        help="what addresses are for: static 10.65.10.10-10.65.10.99, leases 10.65.10.100-10.65.10.199, reserved 10.65.10.1-10.65.10.9",
    )
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet")
    vni: int | None = f.number(1, 16_777_215, help="of an overlay segment, in place of a VID")
    encapsulation: str = f.choice(
        "vxlan", "geneve", default="vxlan", help="of an overlay segment: RFC 7348 or RFC 8926"
    )
    source: str | None = f.ref(
        "source", optional=True, help="the system that defines it, by whose readings alone it changes; absent: the plan"
    )
    origin: str = f.text(500, help="of one that a source defines: what that calls it (RFC 8345: network-id)")
    vanished: bool = f.flag(False, help="true: its source defined it once, and doesn’t any longer")


@dataclass(frozen=True, kw_only=True, slots=True)
class Source(Record):
    """Another system that defines networks, which are read from its topology (RFC 8345 with RFC 8944) and not edited here."""

    kind: ClassVar[str] = "source"
    title: ClassVar[str] = "source"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name()
    address: str = f.text(500, help="where its topology is fetched over RESTCONF (RFC 8040); empty: from files alone")
    takes: str = f.choice(
        "all", "chosen", default="all", help="chosen: what it defines anew is taken when somebody picks it"
    )
    read: str = f.text(40, help="when it was read last, such as 2026-11-28T09:30:00Z")


@dataclass(frozen=True, kw_only=True, slots=True)
class SecondaryVlan(Record):
    """A secondary VLAN of a private VLAN (RFC 5517); the primary is its segment's VID."""

    kind: ClassVar[str] = "secondary_vlan"
    title: ClassVar[str] = "secondary VLAN"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("vid",),)
    segment: str = f.ref("segment", help="the segment whose VID is the primary VLAN")
    name: str = f.text(80)
    vid: int = dataclasses.field(metadata={"spec": Spec("vid")})
    type: str = f.choice("isolated", "community")


@dataclass(frozen=True, kw_only=True, slots=True)
class Limits(Record):
    """The limits sheet: the most that the fleet's hosts take of something; absent: no limit known."""

    kind: ClassVar[str] = "limits"
    title: ClassVar[str] = "limits sheet"
    paravirtual_adapters: int | None = f.number(0, 1000, help="paravirtual adapters on a guest")
    emulated_adapters: int | None = f.number(0, 1000, help="emulated adapters on a guest")
    direct_adapters: int | None = f.number(0, 1000, help="direct adapters on a guest")
    port_groups: int | None = f.number(0, 100_000, help="port groups on a virtual switch")
    functions: int | None = f.number(0, 1000, help="virtual functions in use on a NIC that doesn't say how many it has")


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
    routes: bool = f.flag(False, help="forwards between its interfaces")
    boots: str | None = f.ref(
        "segment",
        optional=True,
        help="where it asks for its system when it starts: untagged, over each NIC by itself; absent: it has its own",
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class NumaNode(Record):
    """A host's cores that share memory, and the NICs that hang on it; a host that has but one memory has one."""

    kind: ClassVar[str] = "numa_node"
    title: ClassVar[str] = "NUMA node"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("host", "number"),)
    host: str = f.ref("host")
    number: int = dataclasses.field(metadata={"spec": Spec("number", low=0, high=1023)})
    socket: int = f.number(0, 1023, default=0, help="the socket in which they are")
    cores: str = f.cores_listed("its cores, each with its threads, the first thread first, such as 0+16, 1+17")
    offline: str | None = f.processors("processors of it that are switched off; absent: none")


@dataclass(frozen=True, kw_only=True, slots=True)
class Bmc(Record):
    """The controller by which a host is reached while it is off: at a port of its own, or over a NIC of the host, past its team."""

    kind: ClassVar[str] = "bmc"
    title: ClassVar[str] = "BMC"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("host",), ("port",), ("nic",))
    host: str = f.ref("host")
    port: str | None = f.ref("fabric_port", optional=True, help="the port into which its own is plugged")
    nic: str | None = f.ref("nic", optional=True, help="in place of that: the NIC that it shares")
    vid: int | None = f.vid(help="the tag that it puts on; absent: untagged")
    belongs: str | None = f.ref("segment", optional=True)
    addresses: tuple[str, ...] = f.listed("addresses")


@dataclass(frozen=True, kw_only=True, slots=True)
class VirtualSwitch(Record):
    """A bridge inside a host.  Its reach (wired, host-local, sealed) is derived."""

    kind: ClassVar[str] = "virtual_switch"
    title: ClassVar[str] = "virtual switch"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("host", "name"),)
    host: str = f.ref("host")
    name: str = f.name()
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet")
    limits: str = f.choice(
        "both", "sending", "receiving", "none", default="both", help="which way of an adapter's traffic it can limit"
    )
    filters: bool = f.flag(True, help="false: it passes every tag unseen, whatever its ports say")
    answers: bool = f.flag(
        True, help="false: the host itself is known not to answer on it, whatever its addresses elsewhere"
    )
    host_untagged: str | None = f.vid_set(help="VIDs of which the host itself gets the frames untagged; absent: none")
    returning: str = f.choice(
        *RETURNING,
        default=LEARNED,
        help="what its own adapters sent and a port of the fabric reflects: learned as any other; dropped, or taken (IEEE 802.1Q clause 40), by one that knows its adapters' addresses",
    )
    partial: bool = f.flag(
        False, help="true: it has a port that the plan doesn't hold, and what is behind that is open"
    )
    part: str | None = f.ref("pattern_switch", optional=True, help="the part of a pattern from which it was stamped")


@dataclass(frozen=True, kw_only=True, slots=True)
class Uplink(Record):
    """A virtual switch's way out: a team of NICs (or one) that share a tag list, or a share of another uplink's."""

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
    detect: str = f.choice("link", "probe", default="link", help="what tells that a member has failed")
    fail_back: bool = f.flag(True, help="a standby team returns to its preferred member once that is well again")
    announce: bool = f.flag(True, help="after a failover the fabric is told where the addresses are now")
    over: str | None = f.ref(
        "uplink",
        "host_port",
        optional=True,
        help="having no NICs: the uplink of the same host whose NICs it uses, or the host port of another switch on which it sits",
    )
    vid: int | None = f.vid(
        help="of one over another uplink: the tag that it puts on and takes off; what comes in with the tag is its own"
    )
    pvid: int | None = f.vid(help="in the standard's own words: the VID of untagged frames; absent: they are dropped")
    members: str | None = f.vid_set(help="in the standard's own words: the VIDs let in and out")
    untagged: str | None = f.vid_set(help="in the standard's own words: the members that leave untagged")
    admits: str | None = f.choice(
        *ADMITS, optional=True, help="which frames are let in; absent: what is usual for its mode"
    )
    isolated: bool = f.flag(False, help="kept from the other isolated ports of its switch")
    reflects: bool = f.flag(False, help="a frame may leave by the port that it came in by")
    part: str | None = f.ref("pattern_uplink", optional=True, help="the part of a pattern from which it was stamped")


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
    card: str = f.text(80, help="the card that it is on; two NICs of one card fail together")
    wireless: bool = f.flag(False, help="carries no tags, and frames of one source address only")
    functions: int | None = f.number(0, 1000, help="SR-IOV virtual functions that it offers")
    addresses: tuple[str, ...] = f.listed("addresses", help="the host's own, on a NIC that is in no uplink")
    numa: int | None = f.number(0, 1023, help="the number of the NUMA node on which it hangs; absent: not known")
    most_queues: int | None = f.number(1, 4096, help="receive queues that it can have; absent: not known")
    queues: int | None = f.number(1, 4096, help="receive queues that it has; absent: as it comes")
    cores: str | None = f.processors("processors that serve its receive queues, one each in turn; absent: as it comes")


@dataclass(frozen=True, kw_only=True, slots=True)
class PortGroup(Record):
    """A named set of equal ports of a virtual switch."""

    kind: ClassVar[str] = "port_group"
    title: ClassVar[str] = "port group"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("switch", "name"),)
    switch: str = f.ref("virtual_switch")
    name: str = f.name()
    mode: str = f.choice("untagged", "access", "trunk", "private", "overlay", "standard")
    vid: int | None = f.vid(
        help="of an access port group; of a private one: the primary (promiscuous) or a secondary VID"
    )
    allowed: str | None = f.vid_set(help="of a trunk port group")
    native: int | None = f.vid(
        untagged=True, help="of a trunk: the VID of untagged frames, 0 to leave them untagged; absent: dropped"
    )
    vni: int | None = f.number(1, 16_777_215, help="of an overlay port group")
    over: str | None = f.ref("host_port", optional=True, help="of an overlay port group: the host port that carries it")
    pvid: int | None = f.vid(help="in the standard's own words: the VID of untagged frames; absent: they are dropped")
    members: str | None = f.vid_set(help="in the standard's own words: the VIDs let in and out")
    untagged: str | None = f.vid_set(help="in the standard's own words: the members that leave untagged")
    admits: str | None = f.choice(
        *ADMITS, optional=True, help="which frames are let in; absent: what is usual for its mode"
    )
    isolated: bool = f.flag(False, help="kept from the other isolated ports of its switch")
    reflects: bool = f.flag(False, help="a frame may leave by the port that it came in by")
    overhear: bool = f.flag(False, help="its adapters may receive others' frames")
    new_address: bool = f.flag(False, help="its adapters may receive on a changed MAC address")
    foreign_source: bool = f.flag(False, help="its adapters may send from a MAC address not their own")
    serve_leases: bool = f.flag(False, help="its adapters may answer DHCP")
    advertise_routes: bool = f.flag(False, help="its adapters may send router advertisements")
    send_rate: int | None = f.number(*RATE, help="kbit/s that each adapter may send: the committed rate")
    send_peak: int | None = f.number(*RATE, help="kbit/s, the peak rate")
    send_burst: int | None = f.number(*BURST, help="bytes, the burst size")
    receive_rate: int | None = f.number(*RATE, help="kbit/s that each adapter may receive: the committed rate")
    receive_peak: int | None = f.number(*RATE, help="kbit/s, the peak rate")
    receive_burst: int | None = f.number(*BURST, help="bytes, the burst size")
    part: str | None = f.ref(
        "pattern_port_group", optional=True, help="the part of a pattern from which it was stamped"
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class GroupOrder(Record):
    """A port group's own word about one NIC of its switch's uplink; the NICs not named keep the uplink's."""

    kind: ClassVar[str] = "group_order"
    title: ClassVar[str] = "team order"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("port_group", "nic"),)
    port_group: str = f.ref("port_group")
    nic: str = f.ref("nic")
    role: str = f.choice("active", "standby", "excluded", default="active")
    rank: int = f.number(0, 63, default=0, help="its place in the order, lowest first")
    part: str | None = f.ref("pattern_order", optional=True, help="the part of a pattern from which it was stamped")


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
    addressing: str = f.choice(*ADDRESSING, default=STATIC, help=TAKEN_BY_LEASE)
    addressing6: str = f.choice(*ADDRESSING6, default=STATIC, help=FORMED)
    proxy_arp: bool | None = f.maybe(help=FOR_OTHERS)
    services: tuple[str, ...] = f.listed("words", help="management, migration, storage, backup, or your own")
    belongs: str | None = f.ref("segment", optional=True)
    connected: bool = f.flag(True)
    gateway: str | None = f.ip(help="where it sends what leaves its subnet")
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet; absent: as its switch")
    part: str | None = f.ref("pattern_host_port", optional=True, help="the part of a pattern from which it was stamped")


@dataclass(frozen=True, kw_only=True, slots=True)
class Guest(Record):
    """A virtual machine."""

    kind: ClassVar[str] = "guest"
    title: ClassVar[str] = "guest"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    host: str = f.ref("host")
    name: str = f.name()
    running: bool = f.flag(True)
    routes: bool = f.flag(False, help="forwards between its interfaces")


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
    addressing: str = f.choice(*ADDRESSING, default=STATIC, help=TAKEN_BY_LEASE)
    addressing6: str = f.choice(*ADDRESSING6, default=STATIC, help=FORMED)
    proxy_arp: bool | None = f.maybe(help=FOR_OTHERS)
    connected: bool = f.flag(True)
    type: str = f.choice(
        "paravirtual", "emulated", "direct", default="paravirtual", help="direct: a virtual function, past the switch"
    )
    function_of: str | None = f.ref("nic", optional=True, help="of a direct adapter: the NIC whose function it is")
    function_vid: int | None = f.vid(help="of a direct adapter: the VID that the NIC puts on; absent: none")
    order: int = f.number(0, 63, default=0, help="its place in the guest, lowest first")
    seen_as: str = f.text(40, help="the name that the guest sees")
    mac_fixed: bool = f.flag(False, help="the MAC was set by a person, and is kept")
    hot_plug: bool = f.flag(True, help="may be plugged in and out while the guest runs")
    team: str = f.text(40, help="the guest's own team that it is in")
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet that the guest sends")
    pvid: int | None = f.vid(
        help="its own port in the standard's words: the VID of untagged frames; absent: they are dropped"
    )
    members: str | None = f.vid_set(help="its own port in the standard's words: the VIDs let in and out")
    untagged: str | None = f.vid_set(help="its own port in the standard's words: the members that leave untagged")
    admits: str | None = f.choice(*ADMITS, optional=True, help="which frames are let in; absent: as its port group")
    isolated: bool | None = f.maybe(help="its own word; absent: as its port group")
    reflects: bool | None = f.maybe(help="as above")
    overhear: bool | None = f.maybe(help="its own word; absent: as its port group")
    new_address: bool | None = f.maybe(help="as above")
    foreign_source: bool | None = f.maybe(help="as above")
    serve_leases: bool | None = f.maybe(help="as above")
    advertise_routes: bool | None = f.maybe(help="as above")
    send_rate: int | None = f.number(*RATE, help="kbit/s, its own; absent: as its port group")
    send_peak: int | None = f.number(*RATE, help="kbit/s, as above")
    send_burst: int | None = f.number(*BURST, help="bytes, as above")
    receive_rate: int | None = f.number(*RATE, help="kbit/s, as above")
    receive_peak: int | None = f.number(*RATE, help="kbit/s, as above")
    receive_burst: int | None = f.number(*BURST, help="bytes, as above")

    @property
    def own_port(self) -> bool:
        """Whether its port has words of its own beside its port group's."""
        return (self.members, self.admits, self.isolated, self.reflects) != (None, None, None, None)


@dataclass(frozen=True, kw_only=True, slots=True)
class Mirror(Record):
    """A copy of an adapter's frames, given to another adapter of the same virtual switch."""

    kind: ClassVar[str] = "mirror"
    title: ClassVar[str] = "mirror"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("source", "target"),)
    source: str = f.ref("adapter")
    target: str = f.ref("adapter")
    direction: str = f.choice("both", "sent", "received", default="both", help="seen from the source")


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
    addressing: str = f.choice(*ADDRESSING, default=STATIC, help=TAKEN_BY_LEASE)
    addressing6: str = f.choice(*ADDRESSING6, default=STATIC, help=FORMED)
    proxy_arp: bool | None = f.maybe(help=FOR_OTHERS)


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
    spanning_tree: bool = f.flag(False, help="takes part in the spanning tree (IEEE 802.1Q clause 13)")
    priority: int = f.number(0, 61_440, default=32_768, help="of the bridge in the spanning tree, in steps of 4096")
    mac: str | None = f.mac(help="the bridge address; it decides between equal priorities")
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet; absent: as its ports say")
    marks_leases: bool = f.flag(
        False, help="it marks questions for leases with the port at which they came in (option 82, RFC 3046)"
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class Lag(Record):
    """Ports of a fabric switch that act as one (IEEE 802.1AX)."""

    kind: ClassVar[str] = "lag"
    title: ClassVar[str] = "LAG"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("switch", "name"),)
    switch: str = f.ref("fabric_switch")
    name: str = f.name()
    lacp: bool = f.flag(True, help="negotiated by LACP; false: static")
    individual: bool = f.flag(
        True, help="a port whose far side doesn't speak LACP forwards on its own; false: it is blocked"
    )
    beside: str | None = f.ref(
        "lag",
        optional=True,
        help="the LAG of another switch with which it is one towards whoever is at the other end (IEEE 802.1AX clause 9)",
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class FabricPort(Record):
    """A physical switch's port."""

    kind: ClassVar[str] = "fabric_port"
    title: ClassVar[str] = "fabric port"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("switch", "name"),)
    switch: str = f.ref("fabric_switch")
    name: str = f.name()
    mode: str = f.choice("access", "trunk", "private", "standard")
    vid: int | None = f.vid(help="of an access port; of a private one: the primary (promiscuous) or a secondary VID")
    allowed: str | None = f.vid_set(help="of a trunk port")
    native: int | None = f.vid(help="of a trunk: the VID of untagged frames; absent: they are dropped")
    enabled: bool = f.flag(True)
    speed: int | None = f.number(10, 800_000, help="Mbit/s")
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet")
    lag: str | None = f.ref("lag", optional=True)
    pvid: int | None = f.vid(help="in the standard's own words: the VID of untagged frames; absent: they are dropped")
    members: str | None = f.vid_set(help="in the standard's own words: the VIDs let in and out")
    untagged: str | None = f.vid_set(help="in the standard's own words: the members that leave untagged")
    admits: str | None = f.choice(
        *ADMITS, optional=True, help="which frames are let in; absent: what is usual for its mode"
    )
    isolated: bool = f.flag(False, help="kept from the other isolated ports of its switch")
    reflects: bool = f.flag(False, help="a frame may leave by the port that it came in by")
    partial: bool = f.flag(False, help="true: it may carry more VIDs than are named here")
    marked: str | None = f.choice(
        *MARKED,
        optional=True,
        help="what becomes of questions for leases that another switch has marked, where its own marks too",
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class Cable(Record):
    """Joins two of: a NIC, a fabric port."""

    kind: ClassVar[str] = "cable"
    title: ClassVar[str] = "cable"
    a: str = f.ref("nic", "fabric_port")
    b: str = f.ref("nic", "fabric_port")
    label: str = f.text(80, help="what is written on it")
    places: tuple[str, ...] = f.listed("words", help="its places on patch panels, in order from a to b")


@dataclass(frozen=True, kw_only=True, slots=True)
class Station(Record):
    """What is plugged straight into the fabric: a router, a modem, a storage array, a laptop."""

    kind: ClassVar[str] = "station"
    title: ClassVar[str] = "station"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name()
    site: str = f.text(80)
    routes: bool = f.flag(False, help="forwards between its interfaces")
    within: str | None = f.ref(
        "fabric_switch",
        optional=True,
        help="the switch that does this itself: a switch that routes is a station within it",
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class StationPort(Record):
    """A station's interface on a fabric port; a station on a trunk has one for each tag."""

    kind: ClassVar[str] = "station_port"
    title: ClassVar[str] = "station port"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("port", "vid"),)
    station: str = f.ref("station")
    port: str = f.ref("fabric_port")
    vid: int | None = f.vid(help="the tag that the station puts on; absent: untagged")
    belongs: str | None = f.ref("segment", optional=True)
    addresses: tuple[str, ...] = f.listed("addresses")
    addressing: str = f.choice(*ADDRESSING, default=STATIC, help=TAKEN_BY_LEASE)
    addressing6: str = f.choice(*ADDRESSING6, default=STATIC, help=FORMED)
    proxy_arp: bool | None = f.maybe(help=FOR_OTHERS)
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet")


@dataclass(frozen=True, kw_only=True, slots=True)
class WayIn(Record):
    """Where a segment's gateway comes in that is outside the plan: a fabric port behind which it is."""

    kind: ClassVar[str] = "way_in"
    title: ClassVar[str] = "way in"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("segment", "port"),)
    segment: str = f.ref("segment")
    port: str = f.ref("fabric_port")


@dataclass(frozen=True, kw_only=True, slots=True)
class Route(Record):
    """Where a guest, station or host sends packets for other subnets than its own (RFC 1812 section 5.2.4)."""

    kind: ClassVar[str] = "route"
    title: ClassVar[str] = "route"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("of", "via"),)
    of: str = f.ref("guest", "station", "host")
    to: tuple[str, ...] = f.listed("subnets", help="0.0.0.0/0 or ::/0 for everything else")
    via: str = f.ip("the next hop, an address in a subnet of its own", required=True)


@dataclass(frozen=True, kw_only=True, slots=True)
class FilterLine(Record):
    """What a guest, station or host that forwards does with packets that match, by the first line that they match; it lets others through, and answers
    to what it let through."""

    kind: ClassVar[str] = "filter_line"
    title: ClassVar[str] = "filter line"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("of", "order"),)
    of: str = f.ref("guest", "station", "host")
    order: int = f.number(0, 100_000, default=100, help="lines are tried from the least on")
    action: str = f.choice("allow", "deny", "unknown", help="unknown: nobody said what becomes of them")
    enters: str | None = f.ref(
        "adapter",
        "guest_tag",
        "host_port",
        "station_port",
        optional=True,
        help="the interface by which they come in; absent: any",
    )
    leaves: str | None = f.ref(
        "adapter",
        "guest_tag",
        "host_port",
        "station_port",
        optional=True,
        help="the interface by which they go out; absent: any",
    )
    sources: tuple[str, ...] = f.listed("subnets", help="where they come from; none: anywhere")
    targets: tuple[str, ...] = f.listed("subnets", help="where they go to; none: anywhere")
    protocol: str = f.choice("any", "icmp", "tcp", "udp", default="any")
    ports: str = f.text(200, help="to which ports, such as 5432, 8000-8080, of tcp or udp; empty: any")


@dataclass(frozen=True, kw_only=True, slots=True)
class LeaseScope(Record):
    """What a guest, station or host leases, of IPv4 (RFC 2131) or IPv6 (RFC 8415): to whoever asks at one of its interfaces with an address in the subnet, and to whomever a
    relay asks for from an address in it."""

    kind: ClassVar[str] = "lease_scope"
    title: ClassVar[str] = "lease scope"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("of", "subnet"),)
    of: str = f.ref("guest", "station", "host")
    subnet: str = f.subnet()
    pool: tuple[str, ...] = f.listed(
        "ranges",
        help="what is leased to whomever, such as 10.65.10.100-10.65.10.199; none: to those for whom it is kept alone",
    )
    gateways: tuple[str, ...] = f.listed("ips", help="those that it hands out, of IPv4 alone; none: none")
    kept: tuple[str, ...] = f.listed("kept", help="addresses kept for one each, such as 02:00:5e:10:00:01 10.65.10.40")
    minutes: int = f.number(2, 525_600, default=720, help="for how long an address is leased")


@dataclass(frozen=True, kw_only=True, slots=True)
class LeaseRelay(Record):
    """An interface at which a guest, station or host hears who asks for a lease, and asks servers elsewhere for it (RFC 1542 section 4, RFC 8415 section 19).
    Servers of IPv4 are asked from its first IPv4 address, those of IPv6 from its first IPv6 address."""

    kind: ClassVar[str] = "lease_relay"
    title: ClassVar[str] = "lease relay"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("at",),)
    at: str = f.ref("adapter", "guest_tag", "host_port", "station_port")
    to: tuple[str, ...] = f.listed("ips", help="the servers that it asks")
    marked: str | None = f.choice(
        *MARKED, optional=True, help="what becomes of questions that a switch on the way has marked (RFC 3046)"
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class Advertisement(Record):
    """What a guest, station or host advertises on the link of one of its interfaces (RFC 4861 section 6.2): prefixes of which who listens forms addresses, and itself as
    the way out."""

    kind: ClassVar[str] = "advertisement"
    title: ClassVar[str] = "advertisement"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("at",),)
    at: str = f.ref("adapter", "guest_tag", "host_port", "station_port")
    prefixes: tuple[str, ...] = f.listed(
        "subnets", help="of which addresses are formed, each of 64 bits; none: it only offers itself"
    )
    on_link: tuple[str, ...] = f.listed(
        "subnets", help="that it says to be on the link, and of which none are formed: for those who lease theirs"
    )
    router: bool = f.flag(True, help="it offers itself as the way out: its router lifetime isn’t zero")


@dataclass(frozen=True, kw_only=True, slots=True)
class Translation(Record):
    """Whatever a guest, station or host forwards by an interface goes on with that interface's own IPv4 address as its source; answers to it get back to
    whoever sent it (RFC 3022 section 2.2)."""

    kind: ClassVar[str] = "translation"
    title: ClassVar[str] = "translation"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("at",),)
    at: str = f.ref("adapter", "guest_tag", "host_port", "station_port")
    sources: tuple[str, ...] = f.listed("subnets", help="whose addresses are translated; none: everybody's")


@dataclass(frozen=True, kw_only=True, slots=True)
class InwardTranslation(Record):
    """Whatever comes for the own IPv4 address of an interface of a guest, station or host that forwards is for somebody else behind it; answers go back as its
    own (RFC 3022 section 4.3, RFC 4787)."""

    kind: ClassVar[str] = "inward_translation"
    title: ClassVar[str] = "inward translation"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("at", "protocol", "ports"),)
    at: str = f.ref("adapter", "guest_tag", "host_port", "station_port")
    protocol: str = f.choice("any", "tcp", "udp", default="any")
    ports: str = f.text(200, help="which ports, such as 443, 8000-8080, of tcp or udp; empty: any")
    to: str = f.ip("whose it is in truth", required=True)
    port: int | None = f.number(1, 65_535, help="at which of its ports; absent: the one that was asked for")
    hairpin: bool = f.flag(
        False, help="also for whoever asks from within, who is shown an address of its own (RFC 4787, REQ-9)"
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class Outside(Record):
    """A network that isn't the plan's: the internet, a client's; behind a station that forwards, or behind a way in."""

    kind: ClassVar[str] = "outside"
    title: ClassVar[str] = "outside network"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name()
    at: str = f.ref("station", "way_in", help="the station or the way in behind which it lies")
    subnets: tuple[str, ...] = f.listed("subnets", help="what is there; none: whatever nobody in the plan has")
    knows: tuple[str, ...] = f.listed("subnets", help="the plan’s subnets to which it knows the way back")
    via: str | None = f.ip("behind a way in: the next hop to these")
    translates: bool = f.flag(False, help="whoever sends into it is seen there with an address of its own (RFC 3022)")
    lends: int | None = f.number(
        1, 1_000_000, help="how many IPv4 addresses it lends to whoever is where it is handed over; absent: not known"
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class SharedAddress(Record):
    """Intent: an address that several bear on purpose: a virtual router (RFC 9568), or the same service at several places."""

    kind: ClassVar[str] = "shared_address"
    title: ClassVar[str] = "shared address"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("address",),)
    address: str = f.ip("without prefix length", required=True)
    type: str = f.choice(
        "router", "anycast", default="router", help="router: one of them answers; anycast: the nearest"
    )
    mac: str | None = f.mac()


@dataclass(frozen=True, kw_only=True, slots=True)
class Flow(Record):
    """Intent: what somebody sends, to whom, and what comes back, in Mbit/s of IP packets."""

    kind: ClassVar[str] = "flow"
    title: ClassVar[str] = "flow"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name("what it is, such as nightly backup")
    of: str | None = f.ref(
        *SENDERS,
        optional=True,
        help="who sends; each of a segment, a port group or what a pattern makes sends as much",
    )
    service: str = f.text(40, help="in place of that: each host port with this service")
    towards: str = f.choice(
        *TOWARDS,
        default=TO_GATEWAY,
        help="to its gateway, to one (to), or to others alike: those of its segment, or with its service",
    )
    to: str | None = f.ref(
        "adapter", "guest_tag", "host_port", "station_port", optional=True, help="the one to whom it sends"
    )
    sends: int | None = f.number(*MBITS, help="Mbit/s that each sends; absent: nothing")
    gets: int | None = f.number(*MBITS, help="Mbit/s that come back to each; absent: nothing")
    limit: int | None = f.number(*MBITS, help="Mbit/s to which each is held, either way; absent: nothing holds it")
    burst: bool = f.flag(
        False, help="now and then, one at a time, such as a migration; of others it is one of them at a time"
    )
    packet: int | None = f.number(28, 9216, help="bytes of its IP packets; absent: as large as its MTU, or 1500")
    read: str = f.text(40, help="when it was measured, such as 2026-11-28T09:30:00Z; empty: somebody said it")


@dataclass(frozen=True, kw_only=True, slots=True)
class Pattern(Record):
    """One definition of what hosts have alike.  Its parts are kinds of their own, which the engine doesn't see."""

    kind: ClassVar[str] = "pattern"
    title: ClassVar[str] = "pattern"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name()


def _part_kind(kind: str, title: str, of: type[Record], **refs: Any) -> type[Any]:
    """The kind of a pattern's parts that become records of another kind: its fields, but for those that only a host knows, with `refs` to
    other parts in place of those to records (None: left out)."""
    first = [(name, Any, made) for name, made in refs.items() if made is not None]
    rest = [
        (
            field.name,
            Any,
            dataclasses.field(metadata=field.metadata)
            if field.default is dataclasses.MISSING
            else dataclasses.field(default=field.default, metadata=field.metadata),
        )
        for field in dataclasses.fields(of)
        if field.name not in ("id", *ABOUT, "part", *refs)
    ]
    unique = tuple(names for names in of.unique if set(names) <= {name for name, _, _ in [*first, *rest]})
    return dataclasses.make_dataclass(
        f"Pattern{of.__name__}",
        [*first, *rest],
        bases=(Record,),
        namespace={
            "__module__": __name__,
            "__doc__": f"A pattern's part that becomes {'an' if of.title[0] in 'aeiou' else 'a'} {of.title} on every host that it is stamped on.",
            "kind": kind,
            "title": title,
            "unique": unique or (("pattern", "name"),),
        },
        frozen=True,
        kw_only=True,
        slots=True,
    )


PatternSwitch = _part_kind(
    "pattern_switch", "pattern’s switch", VirtualSwitch, host=None, pattern=f.ref("pattern"), partial=None
)
PatternUplink = _part_kind(
    "pattern_uplink",
    "pattern’s uplink",
    Uplink,
    switch=f.ref("pattern_switch"),
    carries=None,
    over=f.ref(
        "pattern_uplink",
        "pattern_host_port",
        optional=True,
        help="having no NICs: the uplink whose NICs it uses, or the host port of another switch on which it sits",
    ),
)
PatternHostPort = _part_kind(
    "pattern_host_port",
    "pattern’s host port",
    HostPort,
    switch=f.ref("pattern_switch"),
    addresses=f.listed("addresses", help="of the host with number 1; the others count on from there"),
)
PatternPortGroup = _part_kind(
    "pattern_port_group",
    "pattern’s port group",
    PortGroup,
    switch=f.ref("pattern_switch"),
    over=f.ref("pattern_host_port", optional=True, help="of an overlay port group: the host port that carries it"),
)
PatternGroupOrder = _part_kind(
    "pattern_order",
    "pattern’s team order",
    GroupOrder,
    port_group=f.ref("pattern_port_group"),
    nic=f.ref("pattern_nic"),
)


@dataclass(frozen=True, kw_only=True, slots=True)
class PatternNic(Record):
    """A NIC that a pattern asks of each host, and how it is found there: all that is said must fit, and then `place` counts."""

    kind: ClassVar[str] = "pattern_nic"
    title: ClassVar[str] = "pattern’s NIC"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("pattern", "name"),)
    pattern: str = f.ref("pattern")
    name: str = f.name("what the pattern calls it")
    named: str = f.text(80, help="what the host calls it; empty: whatever it likes")
    speed: int | None = f.number(10, 800_000, help="Mbit/s that it does; absent: any")
    carried: str | None = f.vid_set(help="VIDs that the port carries into which it is plugged; absent: any")
    place: int | None = f.number(
        1, 64, help="which of those that fit, in the order of their names; absent: the only one"
    )
    uplink: str | None = f.ref("pattern_uplink", optional=True)
    role: str = f.choice("active", "standby", "excluded", default="active", help="its part in the uplink")
    rank: int = f.number(0, 63, default=0, help="its place in the uplink's order, lowest first")
    mtu: int | None = f.number(576, 9216, help="bytes of an IP packet; absent: as the host has it")
    queues: int | None = f.number(1, 4096, help="receive queues; absent: as the host has it")
    cores: str | None = f.processors("processors that serve its receive queues; absent: as the host has it")


@dataclass(frozen=True, kw_only=True, slots=True)
class Stamp(Record):
    """A pattern stamped on a host."""

    kind: ClassVar[str] = "stamp"
    title: ClassVar[str] = "stamp"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("host", "pattern"), ("pattern", "number"))
    host: str = f.ref("host")
    pattern: str = f.ref("pattern")
    number: int = f.number(
        1, 100_000, default=1, help="which of the pattern's hosts it is: its addresses count on by it"
    )


@dataclass(frozen=True, kw_only=True, slots=True)
class StampNic(Record):
    """Which NIC of its host a stamp takes for one of the pattern's."""

    kind: ClassVar[str] = "stamp_nic"
    title: ClassVar[str] = "stamp’s NIC"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("stamp", "part"), ("nic",))
    stamp: str = f.ref("stamp")
    part: str = f.ref("pattern_nic")
    nic: str = f.ref("nic")


@dataclass(frozen=True, kw_only=True, slots=True)
class OwnWord(Record):
    """Where a stamped host keeps a difference from its pattern as its own."""

    kind: ClassVar[str] = "own_word"
    title: ClassVar[str] = "own word"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("stamp", "about", "field"),)
    stamp: str = f.ref("stamp")
    about: str = f.ref(
        *(
            "pattern_switch",
            "pattern_uplink",
            "pattern_nic",
            "pattern_host_port",
            "pattern_port_group",
            "pattern_order",
        ),
        *("uplink", "host_port", "port_group"),
        help="a part of the pattern, or what the host has beside them",
    )
    field: str = f.text(40, help="the field that differs; empty: that it isn't there, or is there at all")


@dataclass(frozen=True, kw_only=True, slots=True)
class Acceptance(Record):
    """A finding or risk that somebody accepts; it holds until the cause changes or the day is over."""

    kind: ClassVar[str] = "acceptance"
    title: ClassVar[str] = "acceptance"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("finding",),)
    finding: str = f.name("the id of the finding")
    cause: str = f.name("a digest of where it sits and whom it makes suffer")
    said: str = f.text(400, help="the finding as it read when it was accepted")
    by: str = f.text(80, help="who accepts it")
    why: str = f.text(400)
    until: str | None = f.date(help="the last day on which it holds; absent: as long as the cause stays")


@dataclass(frozen=True, kw_only=True, slots=True)
class Reservation(Record):
    """Numbers that are kept free for something to come."""

    kind: ClassVar[str] = "reservation"
    title: ClassVar[str] = "reservation"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("name",),)
    name: str = f.name("what they are kept for")
    vids: str | None = f.vid_set(help="the VIDs; absent: none")
    subnets: tuple[str, ...] = f.listed("subnets")


@dataclass(frozen=True, kw_only=True, slots=True)
class Rule(Record):
    """Intent: what must hold, in a sentence (docs/rules.md)."""

    kind: ClassVar[str] = "rule"
    title: ClassVar[str] = "rule"
    unique: ClassVar[tuple[tuple[str, ...], ...]] = (("text",),)
    text: str = f.name("such as “keep ticketing apart from CCTV”", high=400)


KINDS: dict[str, type[Record]] = {
    cls.kind: cls
    for cls in (
        Segment,
        Source,
        SecondaryVlan,
        Limits,
        AssumedFabric,
        Host,
        NumaNode,
        Bmc,
        VirtualSwitch,
        Uplink,
        Nic,
        HostPort,
        PortGroup,
        GroupOrder,
        Guest,
        Adapter,
        Mirror,
        GuestTag,
        FabricSwitch,
        Lag,
        FabricPort,
        Cable,
        Station,
        StationPort,
        WayIn,
        Route,
        FilterLine,
        LeaseScope,
        LeaseRelay,
        Advertisement,
        Translation,
        InwardTranslation,
        Outside,
        SharedAddress,
        Flow,
        Pattern,
        PatternSwitch,
        PatternUplink,
        PatternNic,
        PatternHostPort,
        PatternPortGroup,
        PatternGroupOrder,
        Stamp,
        StampNic,
        OwnWord,
        Acceptance,
        Reservation,
        Rule,
    )
}

PLACES = ("adapter", "guest_tag", "host_port", "station_port")
"""The kinds whose records stand somewhere with frames of their own, and bear addresses."""

OWNERS = ("guest", "station", "host")
"""The kinds whose records have such interfaces."""

ABOVE = frozenset(
    {
        *("route", "filter_line", "translation", "inward_translation", "outside"),
        *("lease_scope", "lease_relay", "advertisement"),
    }
)
"""The kinds that speak of packets: where these are sent on, dropped or translated, who leases or advertises what, and what isn't the plan's."""

UNSEEN = frozenset(
    {
        *(kind for kind in KINDS if kind.startswith("pattern")),
        *("stamp", "stamp_nic", "own_word", "acceptance", "reservation", "rule", "source", "numa_node", "flow"),
        *ABOVE,
    }
)
"""The kinds of which no frame knows, so that the engine doesn't see them: how hosts are meant to be alike, what is accepted, what is kept
free, what must hold, who defines segments, which processors there are, how much is sent, and what speaks of packets alone."""

BESIDE = {
    "segment": ("lease_servers", "ranges", "source", "origin"),
    "host": ("routes", "boots"),
    "bmc": ("vid", "belongs", "addresses"),
    "nic": ("numa", "most_queues", "queues", "cores"),
    "guest": ("routes",),
    "cable": ("label", "places"),
    "fabric_switch": ("marks_leases",),
    "fabric_port": ("marked",),
    **dict.fromkeys(PLACES, ("addressing", "addressing6")),  # which a frame doesn't show
}
"""Fields of kinds that frames do know, of which none depends on."""


def _own_first(cls: type[Record]) -> list[dataclasses.Field[Any]]:
    """The fields of a kind but its id: its own, then those that every kind has."""
    return sorted(
        (field for field in dataclasses.fields(cls) if field.name != "id"), key=lambda field: field.name in ABOUT
    )


SPECS: dict[str, dict[str, Spec]] = {
    kind: {field.name: field.metadata["spec"] for field in _own_first(cls)} for kind, cls in KINDS.items()
}


@cache
def reads_but(kind: str, aside: tuple[str, ...]) -> Callable[[Any], Any]:
    """What reads the fields of a kind but some: of two of its records it is the same where they differ in those alone."""
    return attrgetter("id", *(name for name in SPECS[kind] if name not in aside))


NEEDED: dict[str, tuple[str, ...]] = {
    kind: tuple(field.name for field in _own_first(cls) if field.default is dataclasses.MISSING)
    for kind, cls in KINDS.items()
}
"""The fields of each kind that have to be said."""

REFS: dict[str, tuple[str, ...]] = {
    kind: tuple(name for name, spec in specs.items() if spec.kind == "ref") for kind, specs in SPECS.items()
}

POINTING: dict[str, tuple[tuple[str, str], ...]] = {
    kind: tuple((other, name) for other, names in REFS.items() for name in names if kind in SPECS[other][name].refs)
    for kind in KINDS
}
"""The (kind, field) of each reference to a kind."""

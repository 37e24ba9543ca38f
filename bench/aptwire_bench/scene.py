"""A plan as network namespaces, bridges, bonds and veth pairs: what has to be built, as batch lines for iproute2.

One namespace for each host and each fabric switch; the far ends of adapters and stations stand together in one that
only listens and sends.  Everything is built from the plan's records alone, not from the engine's arrays, so that the two
can differ.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field, replace
from itertools import product
from typing import Any

from aptwire.forward.fabric import joints_of
from aptwire.forward.tree import Joint, port_order
from aptwire.plan import vids
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import (
    PLACES,
    SPECS,
    Adapter,
    FabricPort,
    FabricSwitch,
    FilterLine,
    HostPort,
    Nic,
    Outside,
    PortGroup,
    Uplink,
)
from aptwire.plan.outside import StandIns
from aptwire.plan.plan import Plan
from aptwire.plan.private import private_part
from aptwire.plan.stacks import gateways_of, owner_of

from aptwire_bench.entering import entries, with_stations

EARS = "ears"
LARGEST = 9_216
"""Bytes of a packet that everything takes unless the plan says less."""
HEADER = 50
"""Bytes that a tunnel over IPv4 adds."""
FEW = 64
"""A set of more VIDs than these stands for "all"; those that the plan names one by one are built."""


@dataclass(frozen=True)
class Ear:
    """Where frames of a seat are sent and seen: a device in a namespace, and the MAC address that frames are for."""

    seat: str
    space: str
    device: str
    mac: str


@dataclass(frozen=True)
class Limit:
    """A token bucket at an adapter: `rate` kbit/s and `burst` bytes of what it may send or receive, and the line that makes it."""

    seat: str
    way: str
    rate: int
    burst: int
    space: str
    line: str


@dataclass
class Scene:
    """What is built: namespaces; lines for `ip -batch` in none of them; lines by namespace and tool; ears.

    `cables` are both ends of each cable (namespace, device); `choices` lead from a NIC to (namespace, bond, member) that make its
      bond send over it; `bridges` can be told to forget addresses; those of `trees` take part in a spanning tree.  Of IPv6, which is off
      until somebody pings over it: the devices that speak it, the lines for `ip -batch` by namespace, and the filters.
    """

    spaces: list[str] = field(default_factory=list)
    wires: list[str] = field(default_factory=list)
    inside: dict[str, dict[str, list[str]]] = field(default_factory=dict)
    ears: list[Ear] = field(default_factory=list)
    cables: dict[str, list[tuple[str, str]]] = field(default_factory=dict)
    choices: dict[str, tuple[str, str, str]] = field(default_factory=dict)
    bridges: list[tuple[str, str]] = field(default_factory=list)
    trees: list[tuple[str, str]] = field(default_factory=list)
    lacp: list[tuple[str, str]] = field(default_factory=list)
    stray: int = 0
    known: tuple[int, ...] = ()
    space_of: dict[str, str] = field(default_factory=dict)
    stacks: dict[str, tuple[str, str]] = field(default_factory=dict)
    routers: list[str] = field(default_factory=list)
    shy: list[str] = field(default_factory=list)
    proxies: list[tuple[str, str]] = field(default_factory=list)
    filters: dict[str, str] = field(default_factory=dict)
    speaking6: list[tuple[str, str]] = field(default_factory=list)
    inside6: dict[str, list[str]] = field(default_factory=dict)
    filters6: dict[str, str] = field(default_factory=dict)
    limits: list[Limit] = field(default_factory=list)

    def to_json(self) -> dict[str, Any]:
        """For the agent inside the kernel."""
        return {
            "spaces": self.spaces,
            "wires": self.wires,
            "inside": self.inside,
            "ears": [[e.space, e.device] for e in self.ears],
            "bridges": self.bridges,
            "routers": self.routers,
            "shy": self.shy,
            "proxies": self.proxies,
            "filters": self.filters,
            "speaking6": self.speaking6,
            "inside6": self.inside6,
            "filters6": self.filters6,
            "trees": self.trees,
            "lacp": self.lacp,
        }


def known_vids(plan: Plan) -> set[int]:
    """The VIDs that a plan speaks of: each one named, and those of short lists."""
    found: set[int] = set()
    for record in plan:
        for name, spec in SPECS[record.kind].items():
            value = getattr(record, name)
            if spec.kind == "vid" and value:
                found.add(value)
            elif spec.kind == "vids" and value is not None:
                listed = vids.members(value, True)
                if len(listed) <= FEW:
                    found |= listed
    return found - {0}


def build(plan: Plan, prefix: str = "", addressed: Iterable[str] = ()) -> Scene:
    """The scene of a plan that `fit` has gone over; `addressed` seats get a namespace and the plan's addresses of their own."""
    seats = frozenset(addressed)
    return _Builder(with_stations(plan, seats), prefix, seats, frozenset(way.port for way, _ in entries(plan))).run()


def spans(found: Iterable[int]) -> list[str]:
    """VIDs as ranges for `bridge vlan`."""
    made: list[str] = []
    run: list[int] = []
    for vid in [*sorted(found), -1]:
        if run and vid == run[-1] + 1:
            run.append(vid)
            continue
        if run:
            made.append(f"{run[0]}-{run[-1]}" if len(run) > 1 else str(run[0]))
        run = [vid]
    return made


# What follows is said of records here once more, apart from the engine: a mistake there must not agree with itself.


def seats_of(plan: Plan, owners: Collection[str]) -> Iterator[str]:
    """Where guests, stations and hosts (ids) sit with all their interfaces."""
    for kind in PLACES:
        for record in plan.all(kind):
            if owner_of(plan, record).id in owners:
                yield getattr(record, "adapter", getattr(record, "port", record.id))


def guard(plan: Plan, adapter: Adapter, name: str) -> bool:
    """Whether an adapter may do what a frame guard is about."""
    said = [getattr(adapter, name)]
    if adapter.port_group is not None:
        said.append(getattr(plan.get("port_group", adapter.port_group), name))
    return bool(next((word for word in said if word is not None), False))


def size_of(plan: Plan, record: Any) -> int:
    """The least of what a seat and its switch say of their MTU, 0 where neither does; a function has no switch, and an overlay's is elsewhere."""
    said: list[int | None] = []
    if record is not None and record.kind in ("adapter", "host_port"):
        said.append(record.mtu)
        switch = getattr(record, "switch", None)
        if record.kind == "adapter" and record.type != "direct" and record.port_group:
            group = plan.get("port_group", record.port_group)
            switch = group.switch if group.mode != "overlay" else None
        if switch:
            said.append(plan.get("virtual_switch", switch).mtu)
    return min((mtu for mtu in said if mtu), default=0)


def gates_of(plan: Plan, host_port: str) -> list[tuple[str, str]]:
    """The routers (station, its port) that bear the gateway of a host port: its own, or those of the segment where it belongs."""
    port = plan.get("host_port", host_port)
    wanted = [port.gateway] if port.gateway else []
    if not wanted and port.belongs:
        wanted = list(plan.get("segment", port.belongs).gateways)
    borne = [
        (own.station, own.id, address.split("/")[0])
        for own in sorted(plan.all("station_port"), key=lambda p: p.id)
        if plan.get("station", own.station).routes
        for address in own.addresses
    ]
    return [(station, id) for gateway in wanted for station, id, address in borne if address == gateway]


@dataclass(frozen=True)
class Door:
    """A bridge port's rule: VIDs that pass tagged, VIDs that leave untagged, the VID of untagged frames, and which tagged
    frames are refused although their VID is a member (IEEE 802.1Q clause 6.9: acceptable frame types)."""

    tagged: frozenset[int] = frozenset()
    untagged: frozenset[int] = frozenset()
    native: int | None = None
    refuse: frozenset[int] | None = frozenset()
    """None: all tagged frames"""


class _Builder:
    def __init__(self, plan: Plan, prefix: str, addressed: frozenset[str], entering: frozenset[str]) -> None:
        self.plan, self.entering = plan, entering
        # Routers over which tunnels go are always there, whatever else is asked.
        overs = {group.over for group in plan.where("port_group", "mode", "overlay")}
        gates = {port for over in overs for _, port in gates_of(plan, over)}
        self.addressed = addressed | {plan.get("station_port", port).port for port in gates}
        self.prefix = prefix
        self.scene = Scene()
        named = known_vids(plan)
        free = (v for v in range(4094, 0, -1) if v not in named)
        # A VLAN-aware bridge classifies every frame; "untagged all through" is a VID of its own that nobody else uses.
        self.plain = next(free)
        self.scene.stray = next(free)
        self.known = frozenset(named | {self.scene.stray})
        self.scene.known = tuple(sorted(named))
        self.far: dict[str, tuple[str, str]] = {}
        for cable in plan.all("cable"):
            self.far[cable.a] = (cable.b, cable.id)
            self.far[cable.b] = (cable.a, cable.id)
        self.space_of = self.scene.space_of
        self.names: dict[str, dict[str, str]] = {}
        self.device_of: dict[str, tuple[str, str]] = {}
        self.macs = self.ways = 1000
        self.stack_spaces: dict[str, str] = {}
        self.bound: dict[str, list[str]] = {}
        self.owned: dict[str, set[str]] = {}
        self.hidden: dict[str, list[str]] = {}
        self.in_team: set[str] = set()
        self.listening = self._space(EARS, "e")

    def run(self) -> Scene:
        plan = self.plan
        for host in sorted(plan.all("host"), key=lambda h: h.id):
            self._space(host.id, f"h{len(self.space_of)}")
        for switch in sorted(plan.all("fabric_switch"), key=lambda s: s.id):
            self._space(switch.id, f"f{len(self.space_of)}")
        for assumed in plan.all("assumed_fabric"):
            self._space(assumed.id, f"f{len(self.space_of)}")
        for adapter in sorted(plan.all("adapter"), key=lambda a: a.id):
            space = self.space_of[plan.get("guest", adapter.guest).host]
            self.device_of[adapter.id] = (space, self._name(space, adapter.name))
        self._nics()
        self._fabric()
        for switch in sorted(plan.all("virtual_switch"), key=lambda s: s.id):
            self._switch(switch.id)
        self._overlays()
        for nic in sorted(plan.all("nic"), key=lambda n: n.id):
            if nic.id not in self.in_team and plan.where("adapter", "function_of", nic.id):
                self._nic_device(self.space_of[nic.host], nic)
            if nic.link == "down":
                space, device = self.device_of[nic.id]
                self._line(space, "ip", f"link set dev {device} down")
        self._sizes()
        self._static()
        self._outsides()
        self._filters()
        self.scene.proxies = [
            at for id, at in sorted(self.scene.stacks.items()) if getattr(plan.find(id), "proxy_arp", False)
        ]
        for space in self.scene.spaces:
            self._line(space, "ip", "link set dev lo up")
        return self.scene

    def _sizes(self) -> None:
        """The MTU of cables: the least that either end says.  A veth pair checks at the receiving end alone, so both get it; a
        bond gives its own to its members, so that theirs come last."""
        plan = self.plan
        for cable in plan.all("cable"):
            said: list[int | None] = []
            for end in (cable.a, cable.b):
                port = plan.of("fabric_port").get(end)
                said += (
                    [plan.get("nic", end).mtu]
                    if port is None
                    else [port.mtu, plan.get("fabric_switch", port.switch).mtu]
                )
            least = min((size for size in said if size), default=None)
            for end in (cable.a, cable.b) if least else ():
                space, device = self.device_of[end]
                self._line(space, "ip", f"link set dev {device} mtu {least}")

    # --- small helpers ----------------------------------------------------------------------------------------

    def _space(self, record: str, name: str) -> str:
        name = f"{self.prefix}{name}"
        self.space_of[record] = name
        self.scene.spaces.append(name)
        self.scene.inside[name] = {"ip": [], "bridge": [], "tc": []}
        self.names[name] = {}
        return name

    def _line(self, space: str, tool: str, text: str) -> None:
        self.scene.inside[space][tool].append(text)

    def _line6(self, space: str, text: str) -> None:
        self.scene.inside6.setdefault(space, []).append(text)

    def _name(self, space: str, wanted: str) -> str:
        """The plan's own name where the kernel takes it, so that what is read back from it speaks the plan's language."""
        taken = self.names[space]
        name = wanted
        if not re.fullmatch(r"[A-Za-z][A-Za-z0-9_.-]{0,14}", name) or name in taken or name in ("all", "default", "lo"):
            name = f"x{len(taken)}"
        taken[name] = wanted
        return name

    def _mac(self) -> str:
        self.macs += 1
        return "02:a7:{:02x}:{:02x}:{:02x}:{:02x}".format(*(self.macs + (1 << 24)).to_bytes(4, "big"))

    def _pair(self, one: tuple[str, str], two: tuple[str, str]) -> None:
        """A cable between two devices."""
        (space, name), (other, far) = one, two
        size = f"mtu {LARGEST}"
        self.scene.wires.append(
            f"link add name {name} netns {space} {size} type veth peer name {far} netns {other} {size}"
        )

    def _ear(self, seat: str, space: str, device: str, mac: str) -> None:
        # Of frames where something comes in nobody is asked.
        if seat in self.entering:
            return
        self.scene.ears.append(Ear(seat, space, device, mac))

    def _far_ear(self, seat: str, near: tuple[str, str], mac: str) -> None:
        """The other end of a bridge port: what sends and listens there."""
        space = self._stack_space(seat) if seat in self.addressed else self.listening
        device = self._name(space, "")
        self._pair(near, (space, device))
        size = size_of(self.plan, self.plan.find(seat)) or LARGEST
        self._line(space, "ip", f"link set dev {device} address {mac} mtu {size} up")
        self._ear(seat, space, device, mac)
        if space is not self.listening:
            self._addresses(seat, space, device)

    def _stack_space(self, seat: str) -> str:
        """The namespace of a guest or station, in which all its interfaces are."""
        adapter = self.plan.of("adapter").get(seat)
        owner: Any = owner_of(self.plan, adapter or self.plan.where("station_port", "port", seat)[0])
        if owner.id not in self.stack_spaces:
            space = self.stack_spaces[owner.id] = self._space(f"{EARS} {owner.id}", f"p{len(self.space_of)}")
            self.scene.shy.append(space)
            if owner.routes:
                self.scene.routers.append(space)
        return self.stack_spaces[owner.id]

    def _static(self) -> None:
        """The routes of stacks that are there; the kernel takes none whose next hop is in no subnet of its own."""
        for route in sorted(self.plan.all("route"), key=lambda r: r.id):
            space = self.stack_spaces.get(route.of)
            if space is None or route.via in self._own_addresses(route.of):
                continue
            held = (ipaddress.ip_interface(a).network for a in self.bound.get(space, ()))
            if any(ipaddress.ip_address(route.via) in net for net in held):
                for to in route.to:
                    if ":" not in to:
                        self._line(space, "ip", f"route append {to} via {route.via}")
                        continue
                    # Alike in all else, several would be taken in turns.
                    self.ways += 1
                    self._line6(space, f"route append {to} via {route.via} metric {self.ways}")

    def _outsides(self) -> None:
        """The outside networks behind stations that are there: a namespace with the addresses that stand for it, over a link of addresses that nobody else has."""
        stand_ins = StandIns(self.plan)
        for number, outside in enumerate(sorted(self.plan.all("outside"), key=lambda o: o.id)):
            space, own = (
                self.stack_spaces.get(outside.at),
                [str(a) for v in (4, 6) for a in stand_ins.of(outside, v)[:1]],
            )
            if space is None or not own:
                continue
            beyond = self._space(f"{EARS} {outside.id}", f"p{len(self.space_of)}")
            self.scene.shy.append(beyond)
            devices = (self._name(space, ""), self._name(beyond, ""))
            self._pair((space, devices[0]), (beyond, devices[1]))
            for there, device in ((space, devices[0]), (beyond, devices[1])):
                self._line(there, "ip", f"link set dev {device} up")
                self.scene.speaking6.append((there, device))
            for address in own:
                self._behind(outside, address, space, beyond, devices, number)
            if outside.translates:
                self.hidden.setdefault(space, []).append(f"-A POSTROUTING -o {devices[0]} -j MASQUERADE")
            self.scene.stacks[outside.id] = (beyond, devices[1])

    def _behind(
        self, outside: Outside, own: str, space: str, beyond: str, devices: tuple[str, str], number: int
    ) -> None:
        """The address that stands for an outside network, and what both sides of its link know of each other, of one IP version."""
        six = ":" in own
        line = self._line6 if six else lambda there, text: self._line(there, "ip", text)
        everything, dad = ("::/0", " nodad") if six else ("0.0.0.0/0", "")
        sides = [f"fdff:{number:x}::{side}/126" if six else f"169.254.{number}.{side}/30" for side in (1, 2)]
        for side, there, device in zip(sides, (space, beyond), devices, strict=True):
            line(there, f"addr add {side} dev {device}{dad}")
        line(beyond, f"addr add {own}/{128 if six else 32} dev {devices[1]}{dad}")
        mine = next((a.partition("/")[0] for a in self.bound.get(space, ()) if (":" in a) == six), "")
        static = any(everything in route.to for route in self.plan.where("route", "of", outside.at))
        there, here = (side.partition("/")[0] for side in reversed(sides))
        for net in outside.subnets or ((), (everything,))[not static]:
            if (":" in net) == six:
                # What lies behind a station goes there, whatever its segment's gateway is.
                line(
                    space,
                    f"route append {net} via {there}{f' src {mine}' if mine else ''}{f' metric {number + 1}' if six else ''}",
                )
        for net in outside.knows:
            if (":" in net) == six:
                line(beyond, f"route append {net} via {here} src {own}")

    def _filters(self) -> None:
        """The filters and translations of stacks that are there, for iptables: what no line matches passes, and so does what belongs to a connection that was let out."""
        for owner, space in sorted(self.stack_spaces.items()):
            lines = sorted(self.plan.where("filter_line", "of", owner), key=lambda line: line.order)
            told, told6 = ([text for line in lines for text in self._filter_line(line, six)] for six in (False, True))
            tables = self._table(told)
            if told6:
                self.scene.filters6[space] = "\n".join(self._table(told6))
            turned, marks, shown = self._inwards(space)
            hides = [*self.hidden.get(space, ()), *shown, *self._translations(space)]
            if turned or hides:
                chains = [":PREROUTING ACCEPT [0:0]", ":POSTROUTING ACCEPT [0:0]"]
                tables += ["*nat", *chains, *turned, *hides, "COMMIT", ""]
            if marks:
                tables += ["*mangle", ":PREROUTING ACCEPT [0:0]", *marks, "COMMIT", ""]
            if tables:
                self.scene.filters[space] = "\n".join(tables)

    @staticmethod
    def _table(told: list[str]) -> list[str]:
        """The table of filters with some lines."""
        back = "-A FORWARD -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT"
        return ["*filter", ":FORWARD ACCEPT [0:0]", back, *told, "COMMIT", ""] if told else []

    def _translations(self, space: str) -> Iterator[str]:
        """The translations at interfaces that are in a namespace, in the tool's words."""
        for translation in sorted(self.plan.all("translation"), key=lambda t: t.id):
            there, device = self.scene.stacks.get(translation.at, ("", ""))
            if there == space:
                for net in translation.sources or ("",):
                    if ":" not in net:
                        yield f"-A POSTROUTING -o {device} {f'-s {net}' if net else ''} -j MASQUERADE"

    def _inwards(self, space: str) -> tuple[list[str], list[str], list[str]]:
        """The inward translations at interfaces in a namespace: what they take, by which interface packets came in, and what those within are shown who ask there."""
        turned: list[str] = []
        shown: list[str] = []
        devices = sorted({device for there, device in self.scene.stacks.values() if there == space})
        for one in sorted(self.plan.all("inward_translation"), key=lambda t: t.id):
            there, device = self.scene.stacks.get(one.at, ("", ""))
            if there != space:
                continue
            record = self.plan.find(one.at)
            own = [a.partition("/")[0] for a in getattr(record, "addresses", ()) if ":" not in a]
            at = "" if one.hairpin else f"-i {device} "
            ports = [f"--dport {part.strip().replace('-', ':')} " for part in one.ports.split(",") if part.strip()]
            protocol = "" if one.protocol == "any" else f"-p {one.protocol} "
            to = f"{one.to}:{one.port}" if one.port else one.to
            for address, port in product(own, ports or [""]):
                turned.append(f"-A PREROUTING {at}-d {address} {protocol}{port}-j DNAT --to-destination {to}")
            for number, other in enumerate(devices if one.hairpin else (), 1):
                came = f"-m mark --mark {number} -m conntrack --ctstate DNAT"
                shown.append(f"-A POSTROUTING -o {other} -d {one.to} {came} -j MASQUERADE")
        marks = [f"-A PREROUTING -i {device} -j MARK --set-mark {n}" for n, device in enumerate(devices, 1)]
        return turned, marks if shown else [], shown

    def _filter_line(self, line: FilterLine, six: bool) -> Iterator[str]:
        """A line in the tool's words: one for each pair of subnets and range of ports; none where no packet of IPv4 (or `six`) can match it."""
        interfaces = []
        for word, interface in (("-i", line.enters), ("-o", line.leaves)):
            if interface is not None and interface not in self.scene.stacks:
                return
            interfaces += [f"{word} {self.scene.stacks[interface][1]}"] if interface is not None else []
        ends = []
        for word, subnets in (("-s", line.sources), ("-d", line.targets)):
            mine = [f"{word} {net}" for net in subnets if (":" in net) == six]
            ends.append(mine if subnets else [""])
        said = "icmpv6" if six and line.protocol == "icmp" else line.protocol
        protocol = "" if said == "any" else f"-p {said}"
        ports = [
            f"{protocol} --dport {part.strip().replace('-', ':')}" for part in line.ports.split(",") if part.strip()
        ]
        action = f"-j {'ACCEPT' if line.action == 'allow' else 'DROP'}"
        for words in product(*ends, ports or [protocol]):
            yield " ".join(word for word in ("-A FORWARD", *interfaces, *words, action) if word)

    def _addresses(self, seat: str, space: str, device: str) -> None:
        """What the plan says of a seat's addresses; whoever tags for itself has an interface for each tag."""
        adapter = self.plan.of("adapter").get(seat)
        if adapter is not None:
            self._address(space, device, adapter.addresses, self._gateways(adapter))
            self.scene.stacks[adapter.id] = (space, device)
            for tag in sorted(self.plan.where("guest_tag", "adapter", adapter.id), key=lambda t: t.vid):
                inner = self._tagged(space, device, tag.vid)
                self._address(space, inner, tag.addresses, self._gateways(tag))
                self.scene.stacks[tag.id] = (space, inner)
        for port in sorted(self.plan.where("station_port", "port", seat), key=lambda p: p.vid or 0):
            inner = device
            if port.vid:
                inner = self._tagged(space, device, port.vid)
            if port.mtu:
                self._line(space, "ip", f"link set dev {inner} mtu {port.mtu}")
            self._address(space, inner, port.addresses, self._gateways(port))
            self.scene.stacks[port.id] = (space, inner)

    def _tagged(self, space: str, device: str, vid: int) -> str:
        """A VLAN interface on a device."""
        inner = self._name(space, f"v{vid}")
        self._line(space, "ip", f"link add link {device} name {inner} type vlan id {vid}")
        self._line(space, "ip", f"link set dev {inner} up")
        return inner

    def _gateways(self, record: Any) -> tuple[str, ...]:
        """Where an interface sends what leaves its subnets, unless there is a route for it: nowhere where its stack has one for everything."""
        owner = owner_of(self.plan, record).id
        mine = self._own_addresses(owner)
        routed = {to for route in self.plan.where("route", "of", owner) for to in route.to}
        ways = ((gateway, "::/0" if ":" in gateway else "0.0.0.0/0") for gateway in gateways_of(self.plan, record))
        return tuple(gateway for gateway, everything in ways if gateway not in mine and everything not in routed)

    def _own_addresses(self, owner: str) -> set[str]:
        """All addresses of a guest, station or host."""
        if not self.owned:
            for record in (record for kind in PLACES for record in self.plan.all(kind)):
                held = self.owned.setdefault(owner_of(self.plan, record).id, set())
                held |= {bare_address(address) for address in record.addresses}
        return self.owned.get(owner, set())

    def _address(self, space: str, device: str, addresses: Iterable[str], gateways: Iterable[str]) -> None:
        """The addresses of an interface, and the ways out over gateways in their subnets, those said first first."""
        bound = self.bound.setdefault(space, [])
        nets = []
        for address in addresses:
            bound.append(address)
            nets.append(ipaddress.ip_interface(address).network)
            if ":" not in address:
                self._line(space, "ip", f"addr add {address} dev {device}")
                continue
            if (space, device) not in self.scene.speaking6:
                self.scene.speaking6.append((space, device))
            self._line6(space, f"addr add {address} dev {device} nodad")
        for gateway in gateways:
            if any(ipaddress.ip_address(gateway) in net for net in nets):
                self.ways += 1
                if ":" in gateway:
                    self._line6(space, f"route add ::/0 via {gateway} dev {device} metric {self.ways}")
                else:
                    self._line(space, "ip", f"route add default via {gateway} dev {device} metric {self.ways}")

    def _bridge(self, space: str, name: str, filtering: bool = True, more: str = "") -> str:
        # Whatever isn't said holds as Linux has it; nothing is snooped and nothing waits.
        mac = self._mac()
        aware = "vlan_filtering 1 vlan_default_pvid 0" if filtering else "vlan_filtering 0"
        tree = more or "stp_state 0 forward_delay 0"
        self._line(space, "ip", f"link add name {name} type bridge {aware} mcast_snooping 0 {tree}")
        if "address" not in more:
            self._line(space, "ip", f"link set dev {name} address {mac}")
        self._line(space, "ip", f"link set dev {name} mtu {LARGEST} up")
        self.scene.bridges.append((space, name))
        return mac

    def _port(self, space: str, device: str, bridge: str, door: Door | None, *words: Any) -> None:
        """A device into a bridge; `words` are the records that may say it is isolated, or reflects, the first that does decides."""
        self._line(space, "ip", f"link set dev {device} master {bridge}")
        self._line(space, "ip", f"link set dev {device} up")
        for name, flag in (("isolated", "isolated"), ("reflects", "hairpin")):
            if next((said for word in words if (said := getattr(word, name)) is not None), False):
                self._line(space, "bridge", f"link set dev {device} {flag} on")
        if door is None:
            return
        for span in spans(door.tagged - door.untagged):
            self._line(space, "bridge", f"vlan add dev {device} vid {span}")
        for vid in sorted(door.untagged | ({door.native} if door.native else set())):
            pvid = " pvid" if vid == door.native else ""
            out = " untagged" if vid in door.untagged else ""
            self._line(space, "bridge", f"vlan add dev {device} vid {vid}{pvid}{out}")
        if door.native and door.native not in door.untagged | door.tagged:
            # An isolated port sends into a VLAN that it doesn't hear; a Linux port hears all that it is a member of.
            self._filter(space, device, "egress", 2, f"protocol 802.1Q flower vlan_id {door.native} action drop")
        self._guards(space, device, door.refuse)

    def _guards(
        self, space: str, device: str, refuse: frozenset[int] | None, own: str = "", copies: Iterable[str] = ()
    ) -> None:
        """What a port takes in: not the refused tags, from no address but `own` (empty: any), with copies for mirrors."""
        mirrors = "".join(f"action mirred egress mirror dev {target} pipe " for target in copies)
        match, passing = f"flower src_mac {own}" if own else "matchall", f"{mirrors}action pass"
        lines: list[str] = []
        if refuse is None:
            # A priority tag says nothing of a VLAN, and counts as none.
            lines.append(f"protocol 802.1Q flower vlan_id 0 {f'src_mac {own} ' if own else ''}{passing}")
            lines.append("protocol 802.1Q flower action drop")
        lines += [f"protocol 802.1Q flower vlan_id {vid} action drop" for vid in sorted(refuse or ())]
        if own or mirrors:
            lines.append(f"protocol all {match} {passing}")
        if own:
            lines.append("protocol all matchall action drop")
        for order, line in enumerate(lines, 8):
            self._filter(space, device, "ingress", order, line)

    def _filter(self, space: str, device: str, way: str, order: int, rest: str) -> None:
        first = f"qdisc add dev {device} clsact"
        if first not in self.scene.inside[space]["tc"]:
            self._line(space, "tc", first)
        self._line(space, "tc", f"filter add dev {device} {way} pref {order} {rest}")

    def _listed(self, text: str | None) -> frozenset[int]:
        """The VIDs of a list that are built; all of them where there is no list."""
        return self.known if text is None else frozenset(vids.members(text, True)) & self.known

    # --- cables and the fabric --------------------------------------------------------------------------------

    def _nics(self) -> None:
        """Every NIC and cabled fabric port as a device; cables as veth pairs; what is open leads to where nobody listens."""
        plan = self.plan
        for nic in sorted(plan.all("nic"), key=lambda n: n.id):
            space = self.space_of[nic.host]
            self.device_of[nic.id] = (space, self._name(space, nic.name))
        for port in sorted(plan.all("fabric_port"), key=lambda p: port_order(p)):
            if port.id in self.far or plan.where("station_port", "port", port.id):
                space = self.space_of[port.switch]
                self.device_of[port.id] = (space, self._name(space, port.name))
        for cable in sorted(plan.all("cable"), key=lambda c: c.id):
            ends = [self.device_of[cable.a], self.device_of[cable.b]]
            self._pair(ends[0], ends[1])
            self.scene.cables[cable.id] = list(ends)
        for nic in sorted(plan.all("nic"), key=lambda n: n.id):
            if nic.id not in self.far:
                void = self._name(self.listening, "")
                self._pair(self.device_of[nic.id], (self.listening, void))
                if nic.link == "up":
                    self._line(self.listening, "ip", f"link set dev {void} up")

    def _fabric(self) -> None:
        plan = self.plan
        costs = {}
        for joint in joints_of(plan):
            for side in (0, 1):
                costs[joint.ports[side][0].id] = joint
        for switch in sorted(plan.all("fabric_switch"), key=lambda s: s.id):
            self._fabric_switch(switch, costs)
        for assumed in sorted(plan.all("assumed_fabric"), key=lambda a: a.id):
            space = self.space_of[assumed.id]
            self._bridge(space, "fabric")
            door = self._trunk(assumed.allowed, assumed.native)
            for host in plan.where("host", "site", assumed.site):
                for nic in plan.where("nic", "host", host.id):
                    if nic.id not in self.far and nic.uplink and nic.link == "up":
                        self._assumed(nic, space, door)

    def _assumed(self, nic: Nic, space: str, door: Door) -> None:
        near = self.device_of[nic.id]
        device = self._name(space, "")
        wire = next(w for w in self.scene.wires if w.startswith(f"link add name {near[1]} netns {near[0]} "))
        void = wire.split(" peer name ")[1].split()[0]
        self.scene.wires.remove(wire)
        self.scene.inside[self.listening]["ip"].remove(f"link set dev {void} up")
        self._pair(near, (space, device))
        self._port(space, device, "fabric", door)

    def _fabric_switch(self, switch: FabricSwitch, costs: dict[str, Joint]) -> None:
        space = self.space_of[switch.id]
        tree = ""
        if switch.spanning_tree and any(
            plan_port.id in costs for plan_port in self.plan.where("fabric_port", "switch", switch.id)
        ):
            tree = f"stp_state 1 priority {switch.priority} forward_delay 200 hello_time 100 max_age 600"
        bridge = self._name(space, "sw")
        self._bridge(space, bridge, switch.managed, tree)
        if tree:
            self.scene.trees.append((space, bridge))
        if tree and switch.mac:
            self._line(space, "ip", f"link set dev {bridge} address {switch.mac}")
        bonds: dict[str, str] = {}
        ports = sorted(self.plan.where("fabric_port", "switch", switch.id), key=port_order)
        for port in ports:
            if port.id not in self.device_of or not port.enabled:
                continue
            device = self.device_of[port.id][1]
            if port.lag:
                if port.lag in bonds:
                    self._line(space, "ip", f"link set dev {device} master {bonds[port.lag]}")
                    self._line(space, "ip", f"link set dev {device} up")
                    continue
                lag = self.plan.get("lag", port.lag)
                bond = bonds[port.lag] = self._name(space, lag.name)
                self._bond(space, bond, "lacp" if lag.lacp else "hashed", [])
                self._line(space, "ip", f"link set dev {device} master {bond}")
                self._line(space, "ip", f"link set dev {device} up")
                device = bond
            own = costs.get(port.id)
            if self.plan.where("station_port", "port", port.id):
                self._far_ear(port.id, self.device_of[port.id], self._mac())
            self._port(space, device, bridge, self._fabric_door(switch, port), port)
            if tree and own is not None:
                self._line(space, "bridge", f"link set dev {device} cost {own.cost}")

    def _fabric_door(self, switch: FabricSwitch, port: FabricPort) -> Door | None:
        if not switch.managed:
            return None
        door = self._door(port)
        if switch.vlans is None:
            return door
        defined = self._listed(switch.vlans)
        native = door.native if door.native in defined else None
        return Door(door.tagged & defined, door.untagged & defined, native, door.refuse)

    def _door(self, record: FabricPort | PortGroup) -> Door:
        if record.mode == "access":
            return self._admitting(self._access(record.vid or 0), record.admits, usual="untagged")
        if record.mode == "private":
            return self._private(record.vid or 0)
        if record.mode == "untagged":
            return self._access(self.plain)
        if record.mode == "standard":
            return self._standard(record)
        return self._admitting(self._trunk(record.allowed, record.native), record.admits)

    def _standard(self, record: FabricPort | PortGroup | Uplink | Adapter) -> Door:
        """A port in the standard's own words (IEEE 802.1Q clause 8.8.2)."""
        members, bare = self._listed(record.members or ""), self._listed(record.untagged or "")
        return self._admitting(Door(members - bare, bare, record.pvid), record.admits)

    def _admitting(self, door: Door, admits: str | None, usual: str = "all") -> Door:
        """Only the frames that a port admits come in (clause 6.9)."""
        if admits == "untagged" or (admits is None and usual == "untagged"):
            return Door(door.tagged, door.untagged, door.native, None)
        refuse = frozenset() if admits is not None and usual == "untagged" else door.refuse
        return Door(door.tagged, door.untagged, None if admits == "tagged" else door.native, refuse)

    def _access(self, vid: int) -> Door:
        return Door(frozenset(), frozenset([vid]), vid, None)

    def _trunk(self, allowed: str | None, native: int | None) -> Door:
        """Tagged what the list says, and untagged the native VID; tagged with that only where the list says so too."""
        listed = self._listed(allowed)
        if native is None:
            return Door(listed)
        inside = self.plain if native == 0 else native
        refuse = frozenset() if native == 0 or native in listed else frozenset([native])
        return Door(listed - {inside}, frozenset([inside]), inside, refuse)

    def _private(self, vid: int) -> Door:
        part = private_part(self.plan, vid)
        assert part is not None
        out = {"promiscuous": {vid, *part.secondaries}, "isolated": {part.primary}, "community": {part.primary, vid}}
        return Door(frozenset(), frozenset(out[part.type]), vid, None)

    # --- hosts ------------------------------------------------------------------------------------------------

    def _bond(self, space: str, name: str, mode: str, members: list[str]) -> None:
        kinds = {
            "standby": "active-backup",
            "pinned": "active-backup",
            "hashed": "balance-xor",
            "lacp": "802.3ad lacp_rate fast",
        }
        if mode == "lacp":
            self.scene.lacp.append((space, name))
        self._line(space, "ip", f"link add name {name} type bond mode {kinds[mode]} miimon 10")
        self._line(space, "ip", f"link set dev {name} mtu {LARGEST}")
        for member in members:
            self._line(space, "ip", f"link set dev {member} master {name}")
            self._line(space, "ip", f"link set dev {member} up")

    def _switch(self, id: str) -> None:
        plan = self.plan
        switch = plan.get("virtual_switch", id)
        space = self.space_of[switch.host]
        bridge = self._name(space, switch.name)
        mac = self._bridge(space, bridge)
        for uplink in sorted(plan.where("uplink", "switch", id), key=lambda u: u.id):
            self._uplink(space, bridge, uplink)
        for group in sorted(plan.where("port_group", "switch", id), key=lambda g: g.id):
            if group.mode != "overlay":
                for adapter in sorted(plan.where("adapter", "port_group", group.id), key=lambda a: a.id):
                    self._tap(space, bridge, group, adapter)
        taken: set[int] = set()
        for port in sorted(plan.where("host_port", "switch", id), key=lambda p: p.id):
            self._host_port(space, bridge, mac, port, taken)

    def _host_port(self, space: str, bridge: str, mac: str, port: HostPort, taken: set[int]) -> None:
        """A VLAN interface on the bridge; a second one on the same VID, or one with an MTU, is a pair of its own."""
        vid, size = port.vid or self.plain, size_of(self.plan, port)
        device = self._name(space, port.name)
        self.device_of[port.id] = (space, device)
        # A VLAN interface takes packets of any size; a pair checks.
        if vid not in taken and not size:
            taken.add(vid)
            self._line(space, "bridge", f"vlan add dev {bridge} vid {vid} self")
            self._line(space, "ip", f"link add link {bridge} name {device} type vlan id {vid}")
            self._line(space, "ip", f"link set dev {device} up")
        else:
            near, mac = self._name(space, ""), self._mac()
            self._pair((space, near), (space, device))
            self._line(space, "ip", f"link set dev {device} address {mac} mtu {size or LARGEST} up")
            self._port(space, near, bridge, self._access(vid))
            # As at the bridge itself, nothing comes in that isn't for it.
            self._line(space, "bridge", f"fdb add {mac} dev {near} master static vlan {vid}")
            self._line(space, "bridge", f"link set dev {near} flood off")
        self._ear(port.id, space, device, mac)
        if port.id in self.addressed:
            self._address(space, device, port.addresses, self._gateways(port))
            self.scene.stacks[port.id] = (space, device)
            host: Any = owner_of(self.plan, port)
            self.stack_spaces[host.id] = space
            if host.routes and space not in self.scene.routers:
                self.scene.routers.append(space)

    def _uplink(self, space: str, bridge: str, uplink: Uplink) -> None:
        nics = [n for n in self.plan.where("nic", "uplink", uplink.id) if n.role != "excluded"]

        def place(nic: Nic) -> tuple[object, ...]:
            return (nic.link == "down", nic.id != uplink.carries, nic.role != "active", nic.rank, nic.name, nic.id)

        nics.sort(key=place)
        devices = {nic.id: self._nic_device(space, nic) for nic in nics}
        self.in_team.update(devices)
        if not nics:
            return
        device = devices[nics[0].id]
        if len(nics) > 1:
            bond = self._name(space, uplink.name)
            self._bond(space, bond, uplink.mode, list(devices.values()))
            if uplink.mode in ("standby", "pinned"):
                # Every situation begins with the preferred member, whatever carried in the one before.
                self._line(space, "ip", f"link set dev {bond} type bond primary {device} primary_reselect always")
                for nic in nics:
                    self.scene.choices[nic.id] = (space, bond, devices[nic.id])
            device = bond
        self._port(space, device, bridge, self._uplink_door(uplink), uplink)

    def _uplink_door(self, uplink: Uplink) -> Door:
        if uplink.members is not None:
            return self._standard(uplink)
        native = uplink.native
        if native is None and (uplink.allowed is None or 0 in vids.members(uplink.allowed, True)):
            native = 0
        return self._admitting(self._trunk(uplink.allowed, native), uplink.admits)

    def _nic_device(self, space: str, nic: Nic) -> str:
        """What a team has of a NIC: its device, or a way through the NIC's own switch where virtual functions are in use."""
        device = self.device_of[nic.id][1]
        functions = sorted(self.plan.where("adapter", "function_of", nic.id), key=lambda a: a.id)
        if not functions:
            return device
        inner, near, far = self._name(space, f"{nic.name}-vf"), self._name(space, ""), self._name(space, "")
        self._bridge(space, inner)
        every = Door(self.known, frozenset([self.plain]), self.plain)
        self._pair((space, near), (space, far))
        for end in (near, far) if nic.mtu else ():
            self._line(space, "ip", f"link set dev {end} mtu {nic.mtu}")
        self._port(space, device, inner, every)
        self._port(space, near, inner, every)
        self._functions(space, inner, functions)
        cable = self.far.get(nic.id, ("", ""))[1]
        if cable:
            self.scene.cables[cable].append((space, near))
        if nic.link == "down":
            self._line(space, "ip", f"link set dev {near} down")
        return far

    def _functions(self, space: str, inner: str, functions: list[Adapter]) -> None:
        for adapter in functions:
            vid = adapter.function_vid
            door = self._access(vid) if vid else Door(self.known, frozenset([self.plain]), self.plain)
            self._seat(space, inner, adapter, door, None)

    def _tap(self, space: str, bridge: str, group: PortGroup, adapter: Adapter) -> None:
        if adapter.members is not None:
            door = self._standard(adapter)
        else:
            door = self._door(replace(group, admits=adapter.admits) if adapter.admits is not None else group)
        self._seat(space, bridge, adapter, door, group)

    def _seat(self, space: str, bridge: str, adapter: Adapter, door: Door | None, group: PortGroup | None) -> None:
        device = self.device_of[adapter.id][1]
        twins = [a for a in self.plan.where("adapter", "mac", adapter.mac) if a.id != adapter.id] if adapter.mac else []
        mac = adapter.mac if adapter.mac and not twins else self._mac()
        self._far_ear(adapter.id, (space, device), mac)
        words = (adapter, group) if group is not None and door is not None else ()
        self._port(space, device, bridge, Door(door.tagged, door.untagged, door.native) if door else None, *words)
        for vid in sorted(door.tagged | door.untagged) if door is not None else ():
            self._line(space, "bridge", f"fdb add {mac} dev {device} master static vlan {vid}")
        if door is None:
            self._line(space, "bridge", f"fdb add {mac} dev {device} master static")
        if group is None or not guard(self.plan, adapter, "overhear"):
            # The switch knows who sits where, and gives an adapter nothing that isn't for it.
            self._line(space, "bridge", f"link set dev {device} flood off")
        for order, (name, protocol, rest) in enumerate(
            (
                ("serve_leases", "ip", "ip_proto udp src_port 67"),
                ("advertise_routes", "ipv6", "ip_proto icmpv6 type 134"),
                ("serve_leases", "ipv6", "ip_proto udp src_port 547"),
            )
        ):
            if group is None or guard(self.plan, adapter, name):
                continue
            tagged = f"802.1Q flower vlan_ethtype {protocol} {rest}"
            for n, match in enumerate((f"{protocol} flower {rest}", tagged)):
                self._filter(space, device, "ingress", 2 + 2 * order + n, f"protocol {match} action drop")
        guarded = group is not None and not guard(self.plan, adapter, "foreign_source")
        if group is not None:
            self._limits(space, device, adapter, group)
        copies = self._mirrors(adapter.id, "sent")
        # Inside an overlay there are no tags.
        self._guards(space, device, door.refuse if door is not None else None, mac if guarded else "", copies)
        for order, target in enumerate(self._mirrors(adapter.id, "received"), 3):
            self._filter(
                space,
                device,
                "egress",
                order,
                f"protocol all matchall action mirred egress mirror dev {target} continue",
            )

    def _limits(self, space: str, device: str, adapter: Adapter, group: PortGroup) -> None:
        """What an adapter may send and receive: a token bucket each way (RFC 2697), put in place once the frames were asked."""
        for way, hook in (("send", "ingress"), ("receive", "egress")):
            kept = []
            for name in (f"{way}_rate", f"{way}_burst"):
                own = getattr(adapter, name)
                kept.append(own if own is not None else getattr(group, name))
            rate, burst = kept
            if rate is not None and burst is not None:
                police = f"action police rate {rate}kbit burst {burst} conform-exceed drop/continue"
                first = f"qdisc add dev {device} clsact"
                if first not in self.scene.inside[space]["tc"]:
                    self._line(space, "tc", first)
                line = f"filter add dev {device} {hook} pref 1 protocol all matchall {police}"
                self.scene.limits.append(Limit(adapter.id, way, rate, burst, space, line))

    def _mirrors(self, adapter: str, way: str) -> list[str]:
        """The devices that get a copy of what an adapter sends or receives."""
        found = sorted(self.plan.where("mirror", "source", adapter), key=lambda m: m.id)
        return [self.device_of[m.target][1] for m in found if m.direction in ("both", way)]

    # --- overlays ---------------------------------------------------------------------------------

    def _overlays(self) -> None:
        """A full mesh of tunnels between the host ports that carry a VNI, bridged to its adapters on each host."""
        carriers: dict[int, dict[str, list[PortGroup]]] = {}
        for group in sorted(self.plan.where("port_group", "mode", "overlay"), key=lambda g: g.id):
            if self.plan.get("host_port", group.over).connected:
                carriers.setdefault(group.vni, {}).setdefault(group.over, []).append(group)
        inner: dict[str, str] = {}
        for vni, by_port in sorted(carriers.items()):
            geneve = any(s.vni == vni and s.encapsulation == "geneve" for s in self.plan.all("segment"))
            for port in by_port:
                if port not in inner:
                    number = len(inner) + 1
                    inner[port] = f"100.64.{number >> 8}.{number & 255}"
                    space, device = self.device_of[port]
                    self._line(space, "ip", f"addr add {inner[port]}/10 dev {device}")
            for port, groups in by_port.items():
                others = [inner[o] for o in by_port if o != port]
                beyond = [self._beyond(port, o) for o in by_port if o != port]
                self._tunnels(vni, port, groups, others + [a for a in beyond if a], geneve)

    def _beyond(self, port: str, other: str) -> str:
        """A host port's own address, to which another one's packets go over a router; empty where there is none between them."""
        one, two = (self._own(p) for p in (port, other))
        near, far = gates_of(self.plan, port), gates_of(self.plan, other)
        into = next((i for station, i in near for beyond, o in far if beyond == station and i != o), None)
        if one is None or two is None or into is None:
            return ""
        space, device = self.device_of[port]
        gates = (ipaddress.ip_interface(a) for a in self.plan.get("station_port", into).addresses if ":" not in a)
        gateway = next((str(gate.ip) for gate in gates if gate.ip in one.network), "")
        if not gateway:
            return ""
        self._line(space, "ip", f"addr replace {one} dev {device}")
        self._line(space, "ip", f"route replace {two.ip}/32 via {gateway} dev {device} onlink")
        return str(two.ip)

    def _own(self, port: str) -> ipaddress.IPv4Interface | None:
        listed = self.plan.get("host_port", port).addresses
        return next((ipaddress.IPv4Interface(a) for a in listed if ":" not in a), None)

    def _tunnels(self, vni: int, port: str, groups: list[PortGroup], others: list[str], geneve: bool) -> None:
        space, device = self.device_of[port]
        bridge = self._name(space, "")
        self._bridge(space, bridge, filtering=False)
        # What doesn't fit is dropped: tunnel ends must not fragment (RFC 7348 section 4.3).
        room = (size_of(self.plan, self.plan.get("host_port", port)) or LARGEST) - HEADER
        if geneve:
            for other in others:
                tunnel = self._name(space, "")
                self._line(space, "ip", f"link add name {tunnel} type geneve id {vni} remote {other} df set")
                self._line(space, "ip", f"link set dev {tunnel} mtu {room}")
                self._port(space, tunnel, bridge, None)
                self._line(space, "bridge", f"link set dev {tunnel} isolated on")
        else:
            tunnel = self._name(space, "")
            local = f"dev {device} dstport 4789 nolearning df set"
            self._line(space, "ip", f"link add name {tunnel} mtu {room} type vxlan id {vni} {local}")
            self._port(space, tunnel, bridge, None)
            for other in others:
                self._line(space, "bridge", f"fdb append 00:00:00:00:00:00 dev {tunnel} dst {other}")
        for group in groups:
            for adapter in sorted(self.plan.where("adapter", "port_group", group.id), key=lambda a: a.id):
                self._seat(space, bridge, adapter, None, group)

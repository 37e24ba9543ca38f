"""Fleets as nobody plans them, made with ip and bridge alone: no plan, no reader and no part of the bench's scenes stands behind them.

Each is a tree of racks (Linux bridges too) with hosts on it, whose states are read, whose frames are sent, and which are then held
against what the engine says of the plan that was read.
"""

from __future__ import annotations

import random
import struct
from dataclasses import dataclass, field
from typing import Any

OURS, MARK = 0x88B5, b"APTW"
LLDP_HEAD = bytes.fromhex("0180c200000e")


@dataclass
class Ear:
    """Where frames are sent and seen: `key` as the engine names it; `own`: the host's own interface, which is asked untagged alone."""

    key: str
    space: str
    device: str
    mac: str
    tags: list[tuple[int, ...]]
    own: bool = False


@dataclass
class Fleet:
    """Everything that the kernel is told, and who is beside whom."""

    name: str
    dice: random.Random
    more: random.Random
    vids: list[int] = field(default_factory=list)
    spaces: list[str] = field(default_factory=list)
    wires: list[str] = field(default_factory=list)
    ip: dict[str, list[str]] = field(default_factory=dict)
    bridge: dict[str, list[str]] = field(default_factory=dict)
    ears: list[Ear] = field(default_factory=list)
    lacp: list[tuple[str, str]] = field(default_factory=list)
    bridges: list[tuple[str, str]] = field(default_factory=list)
    beside: dict[tuple[str, str], tuple[str, str]] = field(default_factory=dict)
    teams: list[tuple[str, str]] = field(default_factory=list)
    bases: dict[str, str] = field(default_factory=dict)

    def space(self, device: str) -> str:
        """The namespace of a device, made when it is new."""
        name = f"{self.name}{device}"
        if name not in self.ip:
            self.spaces.append(name)
            self.ip[name], self.bridge[name] = ["link set lo up"], []
        return name

    def cable(self, a: tuple[str, str], b: tuple[str, str]) -> None:
        """A cable between two devices' ports."""
        one, two = self.space(a[0]), self.space(b[0])
        self.wires.append(f"link add {a[1]} netns {one} type veth peer name {b[1]} netns {two}")
        self.ip[one].append(f"link set {a[1]} up")
        self.ip[two].append(f"link set {b[1]} up")
        self.beside[a], self.beside[b] = b, a

    def some(self, least: int = 1) -> list[int]:
        """A few VIDs, or all."""
        if self.dice.random() < 0.4:
            return list(self.vids)
        return self.dice.sample(self.vids, self.dice.randint(least, len(self.vids)))

    def add_bridge(self, device: str, name: str, filters: bool) -> None:
        """A bridge, filtering or not."""
        own = self.dice.choice([0, 0, 1]) if filters else 1
        space = self.space(device)
        kind = (
            f"bridge vlan_filtering {int(filters)} vlan_default_pvid {own} stp_state 0 forward_delay 0 mcast_snooping 0"
        )
        self.ip[space] += [f"link add {name} type {kind}", f"link set {name} up"]
        self.bridges.append((space, name))

    def join(self, device: str, port: str, bridge: str, filters: bool, style: str) -> None:
        """Put an interface into a bridge, with the VLANs of a style and perhaps a flag."""
        space, dice = self.space(device), self.dice
        self.ip[space].append(f"link set {port} master {bridge}")
        if filters:
            self.bridge[space].append(f"vlan del dev {port} vid 1")
            for vid, flags in self.vlans(style).items():
                self.bridge[space].append(f"vlan add dev {port} vid {vid} {flags}")
        if dice.random() < (0.15 if style in ("access", "guest") else 0.06):
            self.bridge[space].append(f"link set dev {port} isolated on")
        # Between two ports that both throw frames back a frame would never come to rest: an island has none.
        if dice.random() < 0.05 and (style == "guest" or (port.startswith("p") and not device.startswith("ri"))):
            self.bridge[space].append(f"link set dev {port} hairpin on")

    def vlans(self, style: str) -> dict[int, str]:
        """The VLANs of a port."""
        dice = self.dice
        access = {dice.choice(self.vids): "pvid untagged"}
        if style == "access" or (style == "guest" and dice.random() < 0.5):
            return access
        made = dict.fromkeys(self.some(), "")
        luck = dice.random()
        if style == "guest" and luck < 0.3:
            return made
        if luck < 0.35:
            made |= access
        elif luck < 0.42:
            made |= dict.fromkeys(dice.sample(self.vids, 2), "untagged") | access
        elif luck < 0.47:
            made[dice.choice(list(made))] = "pvid"
        return made

    def tap(self, host: str, bridge: str, filters: bool, plain: bool = False) -> None:
        """A guest's adapter in a bridge: its far end is in a namespace of its own.  `plain`: without a flag of its own."""
        name = f"t{len(self.ears)}"
        ear_space = self.space(f"{host}e")
        mac = f"02:77:{len(self.ears):02x}:00:00:01"
        self.wires.append(f"link add {name} netns {self.space(host)} type veth peer name g{name} netns {ear_space}")
        self.ip[ear_space].append(f"link set g{name} address {mac} up")
        self.ip[self.space(host)].append(f"link set {name} up")
        if plain:
            self.ip[self.space(host)].append(f"link set {name} master {bridge}")
        else:
            self.join(host, name, bridge, filters, "guest")
        self.listen(host, name, ear_space, f"g{name}", mac)

    def listen(self, host: str, name: str, space: str, device: str, mac: str, own: bool = False) -> None:
        """An ear, and what it is asked: untagged, tags that are its own or not, two of them."""
        tags: list[tuple[int, ...]] = [()]
        if not own:
            tags += [(vid,) for vid in self.dice.sample(self.vids, 3)] + [(self.dice.randint(2, 4000),)]
            tags += [tuple(self.dice.choices(self.vids, k=2)) for _ in range(2)]
        self.ears.append(Ear(f"{host}/{name}", space, device, mac, tags, own))


def make(seed: int, name: str = "") -> Fleet:
    """A fleet by its seed; `name` goes before the names of its namespaces."""
    fleet = Fleet(name, random.Random(seed), random.Random(f"more {seed}"))
    dice = fleet.dice
    fleet.vids = sorted({1, *dice.sample(range(2, 4000), 4)} if dice.random() < 0.3 else dice.sample(range(2, 4000), 5))
    racks = [f"ra{n}" for n in range(dice.randint(1, 3))]
    open_racks = {rack: dice.random() < 0.2 for rack in racks}
    for rack in racks:
        fleet.add_bridge(rack, "fabric0", not open_racks[rack])
    for n, rack in enumerate(racks[1:], 1):
        other = racks[dice.randrange(n)]
        lag = dice.choice(["", "", "802.3ad", "balance-xor"])
        ends = [(r, f"x{n}{k}") for k in range(2 if lag else 1) for r in (other, rack)]
        for k in range(0, len(ends), 2):
            fleet.cable(ends[k], ends[k + 1])
        for side, r in enumerate((other, rack)):
            port = ends[side][1]
            if lag:
                port = f"lg{n}{'ab'[side]}"
                _team(fleet, r, port, lag, [end[1] for end in ends if end[0] == r])
            fleet.join(r, port, "fabric0", not open_racks[r], "trunk")
    island = [f"ri{n}" for n in range(1) if dice.random() < 0.3]
    for rack in island:
        open_racks[rack] = dice.random() < 0.2
        fleet.add_bridge(rack, "fabric0", not open_racks[rack])
    for n in range(dice.randint(1, 3)):
        _host(fleet, f"h{n}", racks, island if n == 0 else [], open_racks)
    if len(fleet.bases) > 1 and fleet.more.random() < 0.4:
        _tunnels(fleet)
    return fleet


def _tunnels(fleet: Fleet) -> None:
    """A mesh of tunnels between all hosts, each in a bridge with guests; on a VLAN that no other interface of theirs takes."""
    lines = [line for host in fleet.bases for line in fleet.ip[fleet.space(host)]]
    free = [vid for vid in fleet.vids if not any(line.endswith(f"type vlan id {vid}") for line in lines)]
    if not free:
        return
    vid, kind = fleet.more.choice(free), fleet.more.choice(["vxlan", "vxlan", "geneve"])
    address = {host: f"10.67.0.{n}" for n, host in enumerate(fleet.bases, 1)}
    if kind == "geneve" and len(address) > 2:
        kind = "vxlan"
    for host, base in fleet.bases.items():
        space = fleet.space(host)
        # An address of its own, lest its bridge takes what comes untagged as the host's.
        others = [own for other, own in address.items() if other != host]
        fleet.ip[space] += [
            f"link add link {base} name tu address 02:7c:0{host[1:]}:00:00:01 type vlan id {vid}",
            f"addr add {address[host]}/24 dev tu",
            "link set tu up",
        ]
        how = f"local {address[host]} dstport 4789" if kind == "vxlan" else f"remote {others[0]} dstport 6081"
        fleet.ip[space].append(f"link add vx type {kind} id 7001 {how}")
        fleet.bridge[space] += [f"fdb append 00:00:00:00:00:00 dev vx dst {own}" for own in others if kind == "vxlan"]
        fleet.add_bridge(host, "ov", False)
        fleet.ip[space] += ["link set vx master ov", "link set vx up"]
        for _ in range(fleet.more.randint(1, 2)):
            fleet.tap(host, "ov", False, plain=True)


def _team(fleet: Fleet, device: str, name: str, mode: str, members: list[str]) -> None:
    space = fleet.space(device)
    more = {
        "802.3ad": "lacp_rate fast xmit_hash_policy layer2",
        "active-backup": f"primary {members[0]} primary_reselect always",
    }.get(mode, "")
    # The primary is named once it is a member.
    lines = [f"link add {name} type bond mode {mode} miimon 50" + (f" {more}" if mode == "802.3ad" else "")]
    for member in members:
        lines += [f"link set {member} down", f"link set {member} master {name}", f"link set {member} up"]
    if mode == "active-backup":
        lines.append(f"link set {name} type bond {more}")
    fleet.ip[space] += [*lines, f"link set {name} up"]
    if mode == "802.3ad":
        fleet.lacp.append((space, name))


def _host(fleet: Fleet, host: str, racks: list[str], island: list[str], open_racks: dict[str, bool]) -> None:
    """A host with one or two ways out, wired and used as the dice say."""
    dice, space = fleet.dice, fleet.space(host)
    number = host[1:]

    def nic(n: int, rack: str) -> str:
        fleet.cable((host, f"en{n}"), (rack, f"p{number}{n}"))
        return f"en{n}"

    base = nic(1, dice.choice(racks))
    mode = dice.choice(["", "", "active-backup", "active-backup", "802.3ad", "balance-xor"])
    if mode == "balance-xor":
        mode = fleet.more.choice(["balance-xor", "balance-rr", "broadcast"])
    if mode:
        rack = fleet.beside[host, base][0] if mode != "active-backup" else dice.choice(racks)
        second = nic(2, rack)
        ports = [fleet.beside[host, n][1] for n in (base, second)]
        _team(fleet, host, "tm", mode, [base, second])
        if mode == "active-backup":
            fleet.teams += [(space, base), (space, second)]
            for n in (base, second):
                r, port = fleet.beside[host, n]
                fleet.join(r, port, "fabric0", not open_racks[r], "trunk")
        else:
            _team(fleet, rack, f"lg{number}", mode if mode == "802.3ad" else "balance-xor", ports)
            fleet.join(rack, f"lg{number}", "fabric0", not open_racks[rack], "trunk")
            fleet.teams.append((space, base))
        base = "tm"
    else:
        r, port = fleet.beside[host, base]
        fleet.join(r, port, "fabric0", not open_racks[r], dice.choice(["trunk", "trunk", "access"]))
    # Where a failover opens a way, a host sends then what it kept while it had none.
    if mode != "active-backup":
        fleet.bases[host] = base
    design = dice.choice(["filter", "filter", "flat", "shares", "shares", "macvlan"])
    if design in ("filter", "flat"):
        filters = design == "filter"
        fleet.add_bridge(host, "vs", filters)
        fleet.join(host, base, "vs", filters, "trunk")
        for _ in range(dice.randint(1, 4)):
            fleet.tap(host, "vs", filters)
        if island and not mode:
            far = nic(3, island[0])
            r, port = fleet.beside[host, far]
            fleet.join(r, port, "fabric0", not open_racks[r], "trunk")
            fleet.join(host, far, "vs", filters, "trunk")
        if dice.random() < 0.5:
            _own(fleet, host, "vs", filters)
        if dice.random() < 0.4:
            _share(fleet, host, base, dice.choice(fleet.vids), dice.random() < 0.5)
        if dice.random() < 0.3:
            _upon(fleet, host, "vs", filters)
    elif design == "shares":
        for vid in dice.sample(fleet.vids, dice.randint(1, 3)):
            _share(fleet, host, base, vid, dice.random() < 0.8)
        if dice.random() < 0.6:
            fleet.add_bridge(host, "flat", filters := dice.random() < 0.2)
            fleet.join(host, base, "flat", filters, "trunk")
            fleet.tap(host, "flat", filters)
    else:
        on = base
        if dice.random() < 0.4:
            on, vid = "sub", dice.choice(fleet.vids)
            fleet.ip[space] += [f"link add link {base} name sub type vlan id {vid}", "link set sub up"]
        mode = dice.choice(["bridge", "bridge", "private", "vepa", "passthru"])
        for _ in range(1 if mode == "passthru" else dice.randint(1, 3)):
            mac = f"02:78:{len(fleet.ears):02x}:00:00:01"
            name = f"m{len(fleet.ears)}"
            lines = [f"link add link {on} name {name} address {mac} type macvtap mode {mode}", f"link set {name} up"]
            fleet.ip[space] += lines if mode != "passthru" else [lines[0].replace(f" address {mac}", ""), lines[1]]
            fleet.listen(host, name, space, name, mac)
    if dice.random() < 0.4:
        fleet.add_bridge(host, "lone", filters := dice.random() < 0.6)
        for _ in range(2):
            fleet.tap(host, "lone", filters)
        if design in ("filter", "flat") and fleet.more.random() < 0.5:
            _patch(fleet, host, [("vs", design == "filter"), ("lone", filters)])
    if design in ("filter", "flat") and fleet.more.random() < 0.3:
        _inner(fleet, host, "vs", design == "filter")


def _patch(fleet: Fleet, host: str, bridges: list[tuple[str, bool]]) -> None:
    """A pair of interfaces that joins two bridges of a host."""
    space = fleet.space(host)
    fleet.ip[space] += ["link add va0 type veth peer name va1", "link set va0 up", "link set va1 up"]
    for n, (bridge, filters) in enumerate(bridges):
        fleet.join(host, f"va{n}", bridge, filters, "trunk")


def _inner(fleet: Fleet, host: str, bridge: str, filters: bool) -> None:
    """A pair of interfaces of which a bridge has one end, and the host itself the other."""
    space = fleet.space(host)
    fleet.ip[space] += [
        "link add in0 type veth peer name in1",
        f"addr add 10.66.{len(fleet.ears)}.1/24 dev in1",
        "link set in0 up",
        "link set in1 up",
    ]
    fleet.ip[space].append(f"link set in0 master {bridge}")
    if filters:
        fleet.bridge[space].append("vlan del dev in0 vid 1")
        fleet.bridge[space].append(f"vlan add dev in0 vid {fleet.more.choice(fleet.vids)} pvid untagged")
    fleet.listen(host, "in1", space, "in1", f"02:7b:{len(fleet.ears):02x}:00:00:01", own=True)


def _own(fleet: Fleet, host: str, bridge: str, filters: bool) -> None:
    """The host's own VLAN interface on its bridge."""
    space, vid = fleet.space(host), fleet.dice.choice(fleet.vids)
    fleet.ip[space] += [
        f"link add link {bridge} name adm type vlan id {vid}",
        f"addr add 10.64.{len(fleet.ears)}.1/24 dev adm",
        "link set adm up",
    ]
    if filters:
        fleet.bridge[space].append(f"vlan add dev {bridge} vid {vid} self")
    fleet.listen(host, "adm", space, "adm", f"02:79:{len(fleet.ears):02x}:00:00:01", own=True)


def _share(fleet: Fleet, host: str, base: str, vid: int, bridged: bool) -> None:
    """A VLAN interface on a NIC or team: with a bridge of its own, perhaps over a second tag, or the host's own."""
    space, dice = fleet.space(host), fleet.dice
    name = f"s{vid}"
    fleet.ip[space] += [f"link add link {base} name {name} type vlan id {vid}", f"link set {name} up"]
    if not bridged:
        fleet.ip[space].append(f"addr add 10.65.{len(fleet.ears)}.1/24 dev {name}")
        fleet.listen(host, name, space, name, f"02:7a:{len(fleet.ears):02x}:00:00:01", own=True)
        return
    if dice.random() < 0.2:
        inner = dice.choice(fleet.vids)
        fleet.ip[space] += [f"link add link {name} name q{vid} type vlan id {inner}", f"link set q{vid} up"]
        name = f"q{vid}"
    filters = dice.random() < 0.2
    fleet.add_bridge(host, f"b{vid}", filters)
    fleet.join(host, name, f"b{vid}", filters, "access")
    for _ in range(dice.randint(1, 2)):
        fleet.tap(host, f"b{vid}", filters)


def _upon(fleet: Fleet, host: str, bridge: str, filters: bool) -> None:
    """A bridge that sits on a VLAN interface of another bridge."""
    space = fleet.space(host)
    taken = {line.rsplit(" ", 1)[-1] for line in fleet.ip[space] if line.startswith(f"link add link {bridge} ")}
    vid = fleet.dice.choice([v for v in fleet.vids if str(v) not in taken])
    fleet.ip[space] += [f"link add link {bridge} name up{vid} type vlan id {vid}", f"link set up{vid} up"]
    if filters:
        fleet.bridge[space].append(f"vlan add dev {bridge} vid {vid} self")
    fleet.add_bridge(host, "upon", False)
    fleet.join(host, f"up{vid}", "upon", False, "access")
    fleet.tap(host, "upon", False)


def job_of(fleets: list[Fleet]) -> dict[str, Any]:
    """All of them built side by side, read, and asked: as they are, then with each link of a team lost in turn."""
    scenes, phases = [], []
    for fleet in fleets:
        inside = {s: {"ip": fleet.ip[s], "bridge": fleet.bridge[s], "tc": []} for s in fleet.spaces}
        ears = [[ear.space, ear.device] for ear in fleet.ears]
        scene = {"spaces": fleet.spaces, "wires": fleet.wires, "inside": inside, "routers": [], "ears": ears}
        scenes.append({**scene, "strict": fleet.spaces, "trees": [], "lacp": fleet.lacp, "bridges": fleet.bridges})
    for n in range(1 + max(len(fleet.teams) for fleet in fleets)):
        down = [fleet.teams[n - 1] for fleet in fleets if 0 < n <= len(fleet.teams)]
        asks, first, number = [], 0, 0
        for fleet in fleets:
            for at, ear in enumerate(fleet.ears):
                for tags in ear.tags:
                    if n <= len(fleet.teams):
                        asks.append([first + at, frame(ear.mac, tags, n << 24 | number).hex()])
                    number += 1
            first += len(fleet.ears)
        # While nothing has changed, switches still know what they have learned.
        asks += unicasts(fleets) if n == 0 else []
        phases.append({"down": down, "choose": [], "restart": [], "asks": asks})
    read = [[s, s, False, []] for fleet in fleets for s in fleet.spaces if not s.endswith("e")]
    return {"scenes": scenes, "settle": 1.5, "read": read, "trials": [], "phases": phases, "bursts": []}


UNICAST = 100
"""In place of a phase's number in that of a frame: the addresses of all have been learned, and it is for one of them."""


def wanted(fleet: Fleet) -> list[tuple[Ear, tuple[int, ...], Ear]]:
    """Who sends to whom once all have spoken: guests to guests, untagged and with a tag."""
    dice = random.Random(f"unicast {fleet.name}")
    guests = [ear for ear in fleet.ears if not ear.own]
    asks = []
    for ear in guests:
        others = [other for other in guests if other is not ear]
        for tags in ear.tags[:4]:
            asks += [(ear, tags, other) for other in dice.sample(others, min(2, len(others)))]
    return asks


def unicasts(fleets: list[Fleet]) -> list[list[Any]]:
    """The frames of that."""
    made: list[list[Any]] = []
    first = 0
    for fleet in fleets:
        for ear, tags, other in wanted(fleet):
            number = UNICAST << 24 | len(made)
            made.append([first + fleet.ears.index(ear), frame(ear.mac, tags, number, other.mac).hex()])
        first += len(fleet.ears)
    return made


def frame(mac: str, tags: tuple[int, ...], number: int, to: str = "ff:ff:ff:ff:ff:ff") -> bytes:
    """A frame with these tags that bears a number: to all, or to one."""
    head = bytes.fromhex(to.replace(":", "")) + bytes.fromhex(mac.replace(":", ""))
    return (
        head
        + b"".join(struct.pack("!HH", 0x8100, vid) for vid in tags)
        + struct.pack("!H", OURS)
        + (MARK + struct.pack("!I", number)).ljust(60, b"\0")
    )


def neighbours(fleet: Fleet) -> dict[str, bytes]:
    """What is heard of the racks' LLDP at each port, as captures; hosts don't speak it."""
    made = {}
    for (device, port), (other, far) in fleet.beside.items():
        if not other.startswith("r"):
            continue
        tlvs = [
            (1, b"\x07" + other.encode()),
            (2, b"\x05" + far.encode()),
            (3, b"\x00\x78"),
            (5, other.encode()),
            (0, b""),
        ]
        body = b"".join(struct.pack(">H", kind << 9 | len(value)) + value for kind, value in tlvs)
        data = LLDP_HEAD + b"\x02\x16\x1e\xb1\xf3\x08\x88\xcc" + body
        head = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1)
        made[f"{device}/{port}.lldp.pcap"] = head + struct.pack("<IIII", 0, 0, len(data), len(data)) + data
    return made

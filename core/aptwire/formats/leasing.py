"""What a Linux host leases and advertises: the configuration of its DHCP server, as dnsmasq's manual page describes it.

Lines are `name=value`, or a name alone; of them all, those are read that say what is leased to whom, over IPv4 and IPv6, for whom it is asked elsewhere, and which
prefixes of IPv6 are advertised.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from aptwire.plan.fields import range_text
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import LEASE, STATIC, Adapter, Advertisement, Guest, HostPort, LeaseRelay, LeaseScope
from aptwire.plan.plan import PlanError, Problem

if TYPE_CHECKING:
    from aptwire.formats.making import Records
    from aptwire.formats.observed import Device

CONFIGURATION, LEASES = "dnsmasq.conf", "dnsmasq.leases"
ROUTER = ("3", "option:router")
ELSEWHERE = ("conf-file", "conf-dir", "dhcp-hostsfile", "dhcp-hostsdir", "dhcp-optsfile", "dhcp-optsdir", "dhcp-script")
"""Names that lead to other files."""
USUAL, ENDLESS = 60, 525_600
MOST_BITS, USUAL_LENGTH = 128, "64"
_MINUTES = {"s": 1 / 60, "m": 1, "h": 60, "d": 1440, "w": 10_080, "": 1 / 60}
_TIME = re.compile(r"(\d+)([smhdw]?)")
_MAC = re.compile(r"[0-9A-Fa-f]{1,2}(:[0-9A-Fa-f]{1,2}){5}")

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
Bound = ipaddress.IPv4Interface | ipaddress.IPv6Interface


@dataclass(frozen=True)
class Range:
    """A range that is leased (`last` None: from `first`'s subnet, to those for whom an address is kept alone), with the netmask (of IPv6 the length of the prefix) where it is said, for some minutes; it sets `tags`."""

    first: Address
    last: Address | None
    mask: str
    minutes: int
    tags: frozenset[str]


FORMING = {"ra-only", "slaac", "ra-names", "ra-stateless"}
"""Words of a range of IPv6 that have addresses formed of its prefix, and have it advertised by themselves."""


@dataclass(frozen=True)
class Prefixes:
    """A range of IPv6: from an address on, in the prefixes of the interfaces that have one there, or (`built`) of those that are called so; `forming`: addresses are
    formed of them."""

    first: ipaddress.IPv6Address
    built: str
    forming: bool

    def of(self, name: str, bound: ipaddress.IPv6Interface) -> bool:
        """Whether it is in the prefix of an interface's address."""
        called = re.fullmatch(".*".join(map(re.escape, self.built.split("*"))), name) if self.built else None
        return called is not None if self.built else self.first in bound.network


@dataclass(frozen=True)
class Leasing:
    """What a host's server is told: `ranges`, addresses kept for MAC addresses, gateways that are handed out (where the tags, if there are any, are set), relays (own
    address, server), and the interfaces at which it answers alone (`only`) or doesn't (`never`); `unread` lines, in words."""

    ranges: tuple[Range, ...] = ()
    kept: tuple[tuple[str, Address], ...] = ()
    gateways: tuple[tuple[frozenset[str], tuple[Address, ...]], ...] = ()
    relays: tuple[tuple[Address, Address], ...] = ()
    only: frozenset[str] = frozenset()
    never: frozenset[str] = frozenset()
    unread: tuple[str, ...] = ()
    prefixes: tuple[Prefixes, ...] = ()
    advertises: bool = False
    no_way_out: frozenset[str] = frozenset()
    """Where it advertises, it says so at interfaces by name (`*`: all) that it is none."""

    def handed(self, tags: frozenset[str]) -> tuple[Address, ...] | None:
        """The gateways that go with a range's tags; None where nothing is said of it, so that the server hands out itself."""
        fitting = [(wanted, routers) for wanted, routers in self.gateways if wanted <= tags]
        return max(fitting, key=lambda one: len(one[0]))[1] if fitting else None


def read_leasing(raw: bytes, place: str) -> Leasing:
    """A configuration; PlanError names the line that can't be used."""
    try:
        lines = raw.decode().splitlines()
    except UnicodeDecodeError as error:
        raise PlanError([Problem(f"isn't UTF-8 text: byte {error.start} can't be read", place=place)]) from None
    reading = _Reading()
    for number, line in enumerate(lines, 1):
        name, _, value = line.partition("=")
        if line.strip() and not line.lstrip().startswith("#"):
            try:
                reading.line(name.strip(), value.split(" #")[0].strip())
            except ValueError as error:
                raise PlanError([Problem(f"{name.strip()}: {error}", place=f"{place}: line {number}")]) from None
    return reading.told()


@dataclass(frozen=True)
class Leased:
    """An address that somebody got: from a MAC address (empty: of IPv6, which says none), by the name that he said (empty: none)."""

    mac: str
    address: Address
    name: str


def read_leased(raw: bytes, place: str) -> tuple[Leased, ...]:
    """What a server has leased, a line each: until when, MAC address, address, name, client id; after a line `duid` of IPv6, with the number of the
    interface (T before it: for a while) in place of the MAC address.  PlanError names the line that can't be used."""
    found = []
    six = False
    for number, line in enumerate(raw.decode(errors="replace").splitlines(), 1):
        parts = line.split()
        if parts[:1] == ["duid"]:
            six = True
            continue
        try:
            if parts:
                _, of, text, name, *_ = parts
                name = "" if name == "*" else name
                if six:
                    if not of.startswith("T"):
                        found.append(Leased("", ipaddress.IPv6Address(text), name))
                elif _MAC.fullmatch(of):
                    found.append(Leased(of.lower(), ipaddress.IPv4Address(text), name))
        except ValueError:
            wanted = "a number" if six else "a MAC address"
            said = f"“{line.strip()[:60]}” is no lease: a time, {wanted}, an address and a name"
            raise PlanError([Problem(said, place=f"{place}: line {number}")]) from None
    return tuple(found)


class _Reading:
    def __init__(self) -> None:
        self.ranges: list[Range] = []
        self.kept: list[tuple[str, Address]] = []
        self.gateways: list[tuple[frozenset[str], tuple[Address, ...]]] = []
        self.relays: list[tuple[Address, Address]] = []
        self.only: set[str] = set()
        self.never: set[str] = set()
        self.unread: list[str] = []
        self.prefixes: list[Prefixes] = []
        self.advertises = False
        self.no_way_out: set[str] = set()

    def told(self) -> Leasing:
        """What was read."""
        lines = tuple(self.ranges), tuple(self.kept), tuple(self.gateways), tuple(self.relays)
        six = tuple(self.prefixes), self.advertises, frozenset(self.no_way_out)
        return Leasing(*lines, frozenset(self.only), frozenset(self.never), tuple(self.unread), *six)

    def line(self, name: str, value: str) -> None:
        """One line; ValueError where its value can't be used."""
        parts = [part.strip() for part in value.split(",")]
        if name == "dhcp-range":
            self._range(parts)
        elif name == "dhcp-host":
            self._host(value, parts)
        elif name in ("dhcp-option", "dhcp-option-force"):
            self._option(parts)
        elif name == "dhcp-relay":
            self._relay(value, parts)
        elif name == "interface":
            self.only.update(parts)
        elif name in ("except-interface", "no-dhcp-interface"):
            self.never.update(parts)
        elif name == "enable-ra":
            self.advertises = True
        elif name == "ra-param":
            self._offer(parts)
        elif name in ELSEWHERE:
            self.unread.append(f"{name}={value}: what it leads to wasn’t given")

    def _range(self, parts: list[str]) -> None:
        said = ",".join(parts)
        tags = frozenset(part.removeprefix("set:") for part in parts if part.startswith("set:"))
        rest = [part for part in parts if not part.startswith(("set:", "tag:", "interface:"))]
        if len(rest) < len(parts) - len(tags):
            self.unread.append(f"dhcp-range={said}: only where other tags or an interface are given")
        elif rest and ":" in rest[0]:
            self._prefixes(said, rest, tags)
        elif "proxy" in rest:
            self.unread.append(f"dhcp-range={said}: not of IPv4’s leases")
        else:
            first = ipaddress.IPv4Address(rest[0])
            static = len(rest) > 1 and rest[1] == "static"
            last = None if static or len(rest) < 2 else ipaddress.IPv4Address(rest[1])
            masks = [part for part in rest[2:] if part.count(".") == 3]
            if masks:
                ipaddress.IPv4Network(f"0.0.0.0/{masks[0]}")
            times = [part for part in rest[2:] if part.count(".") != 3]
            minutes = _minutes(times[0]) if times else USUAL
            self.ranges.append(Range(first, last, masks[0] if masks else "", minutes, tags))

    def _prefixes(self, said: str, parts: list[str], tags: frozenset[str]) -> None:
        """A range of IPv6: what is advertised of it, and what is leased."""
        built = next((part.removeprefix("constructor:") for part in parts if part.startswith("constructor:")), "")
        forming = not FORMING.isdisjoint(parts)
        first = ipaddress.IPv6Address(parts[0])
        self.prefixes.append(Prefixes(first, built, forming))
        ends = [part for part in parts[1:2] if ":" in part and not part.startswith("constructor:")]
        if not ends and "static" not in parts:
            return
        if built:
            self.unread.append(f"dhcp-range={said}: leases in whatever prefix an interface has")
            return
        last = ipaddress.IPv6Address(ends[0]) if ends else None
        rest = [part for part in parts[1 + len(ends) :] if part not in {"static", *FORMING, "off-link"}]
        length = next((part for part in rest if part.isdigit() and int(part) <= MOST_BITS), "")
        times = [part for part in rest if part != length]
        minutes = _minutes(times[0]) if times else USUAL
        self.ranges.append(Range(first, last, length or USUAL_LENGTH, minutes, tags))

    def _offer(self, parts: list[str]) -> None:
        """What goes with advertisements at an interface: last of all, where two numbers stand there, for how long it is a way out."""
        numbers = [part for part in parts[1:] if part.isdigit()]
        if len(numbers) == 2 and int(numbers[1]) == 0:
            self.no_way_out.add(parts[0])

    def _host(self, value: str, parts: list[str]) -> None:
        macs = [part.lower() for part in parts if _MAC.fullmatch(part)]
        addresses: list[Address] = [
            ipaddress.IPv4Address(part) for part in parts if part.count(".") == 3 and part.replace(".", "").isdigit()
        ]
        addresses += [ipaddress.IPv6Address(part[1:-1]) for part in parts if re.fullmatch(r"\[[^\]/]+\]", part)]
        several = len({address.version for address in addresses}) < len(addresses)
        if (
            macs
            and addresses
            and not several
            and not any(part.startswith(("set:", "tag:", "ignore")) for part in parts)
        ):
            whole = (":".join(byte.zfill(2) for byte in mac.split(":")) for mac in macs)
            self.kept += [(mac, address) for mac in whole for address in addresses]
        else:
            self.unread.append(f"dhcp-host={value}: not an address for a MAC address")

    def _option(self, parts: list[str]) -> None:
        tags = frozenset(part.removeprefix("tag:") for part in parts if part.startswith("tag:"))
        rest = [part for part in parts if not part.startswith("tag:")]
        if rest and rest[0] in ROUTER:
            self.gateways.append((tags, tuple(ipaddress.IPv4Address(part) for part in rest[1:] if part)))

    def _relay(self, value: str, parts: list[str]) -> None:
        if len(parts) < 2 or not parts[1]:
            self.unread.append(f"dhcp-relay={value}: to whichever server hears it")
            return
        local, server = ipaddress.ip_address(parts[0]), ipaddress.ip_address(parts[1].partition("#")[0])
        if local.version != server.version:
            raise ValueError(f"{local} and {server} are not of one IP version")
        self.relays.append((local, server))


def _minutes(text: str) -> int:
    """A lease's time in minutes, as a plan takes it."""
    if text == "infinite":
        return ENDLESS
    found = _TIME.fullmatch(text)
    if found is None:
        raise ValueError(f"“{text[:40]}” is no time such as 12h")
    return max(2, min(ENDLESS, int(int(found[1]) * _MINUTES[found[2]])))


def by_subnet(leasing: Leasing, own: dict[str, list[Bound]]) -> Iterator[tuple[Network, list[Range], bool]]:
    """The ranges of each subnet, that of the netmask or of an interface with an address in it, and whether the server answers there; `own` are the host's addresses by interface."""
    found: dict[Network, list[Range]] = {}
    for one in leasing.ranges:
        nets = [bound.network for of in own.values() for bound in of if one.first in bound.network]
        net = ipaddress.ip_network(f"{one.first}/{one.mask}", strict=False) if one.mask else next(iter(nets), None)
        if net is not None:
            found.setdefault(net, []).append(one)
    for net, ranges in found.items():
        at = {name for name, of in own.items() if any(bound.ip in net for bound in of)}
        hears = not at or bool((at & leasing.only if leasing.only else at) - leasing.never)
        yield net, ranges, hears


def lay_leases(made: Records, device: Device, host: str) -> None:
    """The scopes and relays of a host, beside its ports; what a plan can't hold is told."""
    leasing = device.leasing
    own = {
        interface.name: [ipaddress.ip_interface(address) for address in interface.addresses]
        for interface in device.interfaces.values()
    }
    for text in leasing.unread:
        made.report.add("left out", device.name, text[:200])
    laid: list[Network] = []
    for net, ranges, hears in sorted(by_subnet(leasing, own), key=lambda one: (one[0].version, one[0])):
        about = f"{device.name}/leases-{net.network_address}"
        if not hears:
            made.report.add("left out", about, f"what it leases in {net}: its server doesn’t answer there")
        elif net.prefixlen > net.max_prefixlen - 2 or any(net.version == o.version and net.overlaps(o) for o in laid):
            made.report.add("left out", about, f"what it leases in {net}: too small a subnet, or a part of another one")
        else:
            laid.append(net)
            made.put(_scope(leasing, net, ranges, host, make_id(about), own))
            made.report.add("read", about, f"it leases addresses of {net}")
    named = {first for first in (r.first for r in leasing.ranges) if not any(first in net for net in laid)}
    for first in sorted(named, key=str):
        made.report.add("left out", device.name, f"a range from {first} on: it isn’t said in which subnet")
    ports = {
        bound: port.id
        for port in made.of(HostPort)
        for bound in _bound(port.addresses)
        if port.id.startswith(f"{host}/")
    }
    asked: dict[str, list[str]] = {}
    for local, server in leasing.relays:
        if local in ports:
            asked.setdefault(ports[local], []).append(str(server))
        else:
            made.report.add("left out", device.name, f"a relay at {local}, which none of its ports has")
    for port, servers in asked.items():
        made.put(LeaseRelay(id=make_id(f"{port}/relay"), at=port, to=tuple(dict.fromkeys(servers))))


def lay_adverts(made: Records, device: Device, host: str) -> None:
    """What a host advertises at its ports."""
    leasing, said = device.leasing, dict[str, tuple[dict[str, bool], bool]]()
    ports = {
        ipaddress.ip_interface(address): port
        for port in made.of(HostPort)
        if port.id.startswith(f"{host}/")
        for address in port.addresses
        if ":" in address
    }
    for interface in device.interfaces.values():
        name = interface.name
        if name in leasing.never or (leasing.only and name not in leasing.only):
            continue
        for bound in (ipaddress.IPv6Interface(address) for address in interface.addresses if ":" in address):
            ranges = [one for one in leasing.prefixes if one.of(name, bound)]
            port = ports.get(bound)
            if not ranges or not (leasing.advertises or any(one.forming for one in ranges)):
                continue
            if port is None or bound.network.prefixlen != 64:
                why = "of which no address can be formed" if port is not None else "at none of its ports"
                made.report.add("left out", device.name, f"it advertises {bound.network}, {why}")
                continue
            prefixes, _ = said.setdefault(port.id, ({}, leasing.no_way_out.isdisjoint((name, "*"))))
            # Of a range that is leased no addresses are formed; it is on link all the same.
            prefixes[str(bound.network)] = any(one.forming for one in ranges)
    for port_id, (found, router) in said.items():
        if found or router:
            id = make_id(f"{port_id}/advertises")
            formed, near = (tuple(net for net, forming in found.items() if forming is one) for one in (True, False))
            made.put(Advertisement(id=id, at=port_id, prefixes=formed, on_link=near, router=router))
            made.report.add("read", id, f"it advertises {', '.join(found) or 'itself as the way out'}")


def take_leases(made: Records, devices: Mapping[str, Device]) -> None:
    """Guests that are called as somebody to whom a server that was read leased an address ask for theirs, as long as nothing else is said of them: over IPv4 from
    his MAC address."""
    named: dict[str, list[Guest]] = {}
    for guest in made.of(Guest):
        named.setdefault(guest.name.casefold(), []).append(guest)
    adapters: dict[str, list[Adapter]] = {}
    for adapter in made.of(Adapter):
        adapters.setdefault(adapter.guest, []).append(adapter)
    asking: set[tuple[str, int]] = set()
    for device in devices.values():
        leasing = {one.first.version for one in device.leasing.ranges}
        for lease in (lease for lease in device.leased if lease.address.version in leasing):
            guests = named.get(lease.name.casefold(), []) if lease.name else []
            own = adapters.get(guests[0].id, []) if len(guests) == 1 else []
            version = lease.address.version
            if len(own) != 1 or (own[0].id, version) in asking:
                continue
            if any(ipaddress.ip_interface(address).version == version for address in own[0].addresses):
                continue
            said = f"{device.name} leased {lease.address} to {lease.mac or 'somebody'}, who called himself so: it is taken to ask for its address"
            if version == 6 and own[0].addressing6 == STATIC:
                made.change(own[0].id, addressing6=LEASE)
            elif version == 4 and own[0].mac is None:
                made.change(own[0].id, mac=lease.mac, addressing=LEASE)
            else:
                continue
            asking.add((own[0].id, version))
            made.report.add("proposed", own[0].id, said)


def _scope(
    leasing: Leasing,
    net: Network,
    ranges: list[Range],
    host: str,
    id: str,
    own: dict[str, list[Bound]],
) -> LeaseScope:
    inside = range(int(net.network_address) + 1, int(net.broadcast_address) + (net.version == 6))
    pools = [(max(int(r.first), inside.start), min(int(r.last), inside.stop - 1)) for r in ranges if r.last is not None]
    joined: list[tuple[int, int]] = []
    for first, last in sorted(pool for pool in pools if pool[0] <= pool[1]):
        if joined and first <= joined[-1][1] + 1:
            joined[-1] = joined[-1][0], max(last, joined[-1][1])
        else:
            joined.append((first, last))
    handed = leasing.handed(frozenset().union(*(r.tags for r in ranges))) if net.version == 4 else ()
    if handed is None:
        # It hands out itself, where it has an address there.
        handed = tuple(bound.ip for of in own.values() for bound in of if bound.ip in net)[:1]
    kept: dict[str, Address] = {}
    for mac, address in leasing.kept:
        if address.version == net.version and int(address) in inside and address not in kept.values():
            kept.setdefault(mac, address)
    return LeaseScope(
        id=id,
        of=host,
        subnet=str(net),
        pool=tuple(range_text(a, b, net.version) for a, b in joined)[:64],
        gateways=tuple(str(router) for router in handed if router in net),
        kept=tuple(f"{mac} {address}" for mac, address in kept.items())[:1000],
        minutes=min(r.minutes for r in ranges),
    )


def _bound(addresses: tuple[str, ...]) -> Iterator[Address]:
    yield from (ipaddress.ip_interface(address).ip for address in addresses)

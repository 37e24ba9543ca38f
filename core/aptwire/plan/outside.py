"""Outside networks: which addresses stand for one, and whether it knows the way back."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from functools import cached_property

from aptwire.plan.fields import bare_address, numbers
from aptwire.plan.kinds import LEASE, PLACES, LeaseScope, Outside, Segment
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import EVERYTHING, Address, Network, told_apart

PRIVATE = tuple(
    map(ipaddress.ip_network, ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7"))
)
"""Addresses to which the internet knows no way back (RFC 1918 section 3, RFC 6598, RFC 4193)."""
NOT_THERE = (
    *PRIVATE,
    *map(
        ipaddress.ip_network,
        ("0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "224.0.0.0/3", "::/3", "4000::/2", "8000::/1"),
    ),
)
"""What isn't in the internet (RFC 6890)."""
USUAL = {4: ipaddress.ip_address("198.51.100.1"), 6: ipaddress.ip_address("2001:db8::1")}
"""Addresses for documentation (RFC 5737, RFC 3849), which stand for any other where they may."""


class StandIns:
    """The addresses that stand for all of an outside network: one for all that no table, filter or translation of the plan tells apart."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self._known: dict[tuple[str, int], tuple[Address, ...]] = {}

    def of(self, outside: Outside, version: int) -> tuple[Address, ...]:
        """Those of an IP version, the one of which least is said first; none where all of it is the plan's."""
        key = (outside.id, version)
        if key not in self._known:
            self._known[key] = tuple(self._find(outside, version))
        return self._known[key]

    @cached_property
    def _told(self) -> frozenset[str]:
        """The subnets by which anything tells addresses apart."""
        return frozenset(told_apart(self.plan))

    @cached_property
    def _planned(self) -> set[Network]:
        """The subnets that are the plan's own."""
        nets = {net for segment in self.plan.all(Segment) for net in segment.subnets}
        nets |= {scope.subnet for scope in self.plan.all(LeaseScope)}
        own = {numbers(address) for kind in PLACES for record in self.plan.all(kind) for address in record.addresses}
        made: set[Network] = {
            ipaddress.IPv4Network((net, length)) if version == 4 else ipaddress.IPv6Network((net, length))
            for version, _, net, length in own
        }
        return made | set(map(ipaddress.ip_network, nets))

    def _find(self, outside: Outside, version: int) -> Iterator[Address]:
        within = [ipaddress.ip_network(net) for net in outside.subnets] or list(EVERYTHING.values())
        aside = self._planned if outside.subnets else self._planned.union(NOT_THERE)
        told = sorted(self._told.difference(outside.subnets))
        sorts = (within, aside, map(ipaddress.ip_network, told))
        listed = [(n, net) for n, nets in enumerate(sorts) for net in nets if net.version == version]
        ends: dict[int, list[tuple[int, int, int]]] = {}
        for number, (sort, net) in enumerate(listed):
            first = int(net.network_address)
            ends.setdefault(first, []).append((1, sort, number))
            ends.setdefault(first + net.num_addresses, []).append((-1, sort, number))
        usual = int(USUAL[version])
        for mark in (usual, usual + 1):
            ends.setdefault(mark, [])
        counts, about = [0, 0], set[int]()
        found: dict[frozenset[int], int] = {}
        marks = sorted(ends)
        for mark, following in zip(marks, (*marks[1:], marks[-1]), strict=True):
            for step, sort, number in ends[mark]:
                if sort < 2:
                    counts[sort] += step
                elif step > 0:
                    about.add(number)
                else:
                    about.discard(number)
            if counts[0] and not counts[1] and mark < following:
                # The first address of a subnet is nobody's.
                least = mark if following - mark == 1 else mark + 1
                if mark == usual or frozenset(about) not in found:
                    found[frozenset(about)] = least
        for _, address in sorted((len(about), address) for about, address in found.items()):
            yield ipaddress.IPv4Address(address) if version == 4 else ipaddress.IPv6Address(address)


def handed_over(plan: Plan, outside: Outside) -> list[str]:
    """The segments (ids) on which an outside network is handed over: those of its way in, or of the station before it."""
    way = plan.of("way_in").get(outside.at)
    if way is not None:
        return [way.segment]
    ports = plan.where("station_port", "station", outside.at)
    return sorted({port.belongs for port in ports if port.belongs})


def taken_there(plan: Plan, outside: Outside) -> tuple[frozenset[str], tuple[str, ...]]:
    """The IPv4 addresses that somebody has where an outside network is handed over, its own station aside, and the interfaces (ids) that get theirs by lease."""
    held: set[str] = set()
    leasing: list[str] = []
    for segment in handed_over(plan, outside):
        for record in (r for kind in PLACES for r in plan.where(kind, "belongs", segment)):
            if getattr(record, "station", None) == outside.at:
                continue
            own = {bare_address(address) for address in record.addresses}
            held |= {address for address in own if ":" not in address}
            if not own and getattr(record, "addressing", None) == LEASE:
                leasing.append(record.id)
    return frozenset(held), tuple(sorted(leasing))


def behind(plan: Plan, at: str, address: Address, borne: bool) -> Outside | None:
    """The outside network behind a way in that has an address (`borne`: somebody in the plan has it): the one that says so most closely."""
    found: list[tuple[int, str, Outside]] = []
    for outside in plan.where("outside", "at", at):
        nets = [ipaddress.ip_network(net) for net in outside.subnets]
        lengths = [net.prefixlen for net in nets if address in net] if nets else [] if borne else [0]
        found += [(-length, outside.id, outside) for length in lengths]
    return min(found)[2] if found else None


def lost(outside: Outside, address: Address) -> tuple[bool, str]:
    """Why an outside network doesn't send to an address of the plan to which it is told no way, and whether that is sure."""
    if outside.knows:
        return True, f"{outside.name} knows no way to {address}"
    if outside.translates:
        return True, f"{outside.name} sees whoever sends into it with another address, and has no way to {address}"
    if not outside.subnets and any(address in net for net in PRIVATE):
        return True, f"{address} is a private address, to which {outside.name} knows no way"
    return False, f"the plan doesn’t say whether {outside.name} knows the way to {address}"

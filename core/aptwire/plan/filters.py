"""What a stack lets through: its filter lines, the first that a packet matches decides; what none matches passes, and of what one matches
of which nobody said what it does nobody knows.

A connection that was let out gets its answers back: each filter keeps its own state of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

from aptwire.plan.fields import Numbers, end_of, numbers
from aptwire.plan.kinds import FilterLine
from aptwire.plan.plan import PlanError, Problem

HIGHEST = 65_535
Ranges = tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class Packet:
    """What a filter sees of a packet beside its addresses: `protocol` icmp, tcp, udp or other; `port` that to which it goes (0: it has none)."""

    protocol: str
    port: int = 0

    def __str__(self) -> str:
        return f"{self.protocol} {self.port}" if self.port else self.protocol


PING = Packet("icmp")


def read_packet(text: str) -> Packet:
    """What is asked with: nothing for a ping, or tcp/5432; PlanError says what is wrong with it."""
    if not text:
        return PING
    protocol, slash, port = text.partition("/")
    if protocol not in ("tcp", "udp") or not slash or not port.isascii() or not port.isdigit() or len(port) > 5:
        raise PlanError([Problem(f"“{text[:40]}” isn’t tcp or udp and a port, such as tcp/5432", field="on")])
    if not 1 <= int(port) <= HIGHEST:
        raise PlanError([Problem(f"ports are numbered 1 to {HIGHEST}, not {port}", field="on")])
    return Packet(protocol, int(port))


OTHER = Packet("other")


@lru_cache(4096)
def read_ports(text: str) -> Ranges:
    """Ports as ranges, in order; ValueError says what is wrong with them."""
    found = []
    for item in (part.strip() for part in text.split(",") if part.strip()):
        low, dash, high = (part.strip() for part in item.partition("-"))
        if not low.isdigit() or (dash and not high.isdigit()):
            raise ValueError(f"“{item[:40]}” is no port, nor a range such as 8000-8080")
        first, last = int(low), int(high) if dash else int(low)
        if not 1 <= first <= last <= HIGHEST:
            raise ValueError(f"“{item[:40]}” isn’t within 1 to {HIGHEST}")
        found.append((first, last))
    return tuple(sorted(found))


def speak_alike(one: tuple[str, str], two: tuple[str, str]) -> bool:
    """Whether some packet is of both of two protocols and at both of their ports; ValueError where these can't be read."""
    if one[0] != two[0] and "any" not in (one[0], two[0]):
        return False
    ranges = [read_ports(ports) or ((1, HIGHEST),) for _, ports in (one, two)]
    return any(low <= last and first <= high for low, high in ranges[0] for first, last in ranges[1])


@dataclass(frozen=True)
class Gate:
    """A packet’s way through a stack: the lines of its filter, the interfaces by which it comes in and goes out (records), and its addresses in numbers
    (IP version, address); `source` None: whatever somebody likes to write there."""

    lines: tuple[FilterLine, ...]
    enters: str
    leaves: str
    source: tuple[int, int] | None
    target: tuple[int, int]

    def decides(self, packet: Packet) -> FilterLine | None:
        """The line that decides on a packet; None: none does, and it passes."""
        return next((line for line in self.met if _matches(line, packet)), None)

    def passes(self, packet: Packet) -> bool:
        """Whether a packet may get through."""
        line = self.decides(packet)
        return line is None or line.action != "deny"

    def surely(self, packet: Packet) -> bool:
        """Whether a packet gets through, whatever lines do of which that isn't known."""
        # Whoever writes what he likes as his address needn't write what such a line speaks of.
        meant = (line for line in self.met if self.source is not None or line.action != "unknown" or not line.sources)
        line = next((line for line in meant if _matches(line, packet)), None)
        return line is None or line.action == "allow"

    @cached_property
    def met(self) -> tuple[FilterLine, ...]:
        """The lines that speak of its interfaces and addresses."""
        return tuple(filter(self._met, self.lines))

    def _met(self, line: FilterLine) -> bool:
        if line.enters not in (None, self.enters) or line.leaves not in (None, self.leaves):
            return False
        # Whoever writes what he likes as his address writes what is let through.
        free = self.source is None and (line.action != "deny" or not line.sources)
        return (free or _among(self.source, line.sources)) and _among(self.target, line.targets)


def only(protocol: str, ports: str, target: tuple[int, int]) -> Gate:
    """Through which nothing passes but a protocol (any: all of them) at some ports (empty: any)."""
    words: dict[str, Any] = {"of": "", "order": 0}
    lines = [
        FilterLine(id="", action="allow", protocol=protocol, ports=ports, **words),
        FilterLine(id="", action="deny", **words),
    ]
    return Gate(tuple(lines), "", "", None, target)


def _among(address: tuple[int, int] | None, subnets: tuple[str, ...]) -> bool:
    return not subnets or (address is not None and any(within(address, net) for net in map(numbers, subnets)))


def within(address: tuple[int, int], net: Numbers) -> bool:
    """Whether an address (IP version, number) is in a subnet."""
    version, _, first, length = net
    return version == address[0] and first <= address[1] < end_of(version, first, length)


def _matches(line: FilterLine, packet: Packet) -> bool:
    if line.protocol not in ("any", packet.protocol):
        return False
    return not line.ports or any(low <= packet.port <= high for low, high in read_ports(line.ports))


def every_packet(lines: Iterable[FilterLine]) -> list[Packet]:
    """One packet for all that no line tells apart."""
    ports = {1}
    for line in lines:
        for low, high in read_ports(line.ports):
            ports |= {low, high + 1}
    numbered = sorted(port for port in ports if port <= HIGHEST)
    return [PING, OTHER, *(Packet(protocol, port) for protocol in ("tcp", "udp") for port in numbered)]


def passing(gates: Sequence[Gate], packets: Sequence[Packet] | None = None) -> Packet | None:
    """A packet that may get through all of some gates, of these or of all there may be; None: there is none."""
    lines = [line for gate in gates for line in gate.met]
    asked = every_packet(lines) if packets is None else packets
    return next((packet for packet in asked if all(gate.passes(packet) for gate in gates)), None)


def unsure(gates: Sequence[Gate]) -> FilterLine | None:
    """The first line of which it isn't known what it does, where some packet may get through all of some gates but none does surely; None where one does."""
    lines = [line for gate in gates for line in gate.met]
    if any(all(gate.surely(packet) for gate in gates) for packet in every_packet(lines)):
        return None
    return next((line for line in lines if line.action == "unknown"), None)

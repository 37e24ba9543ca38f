"""What interfaces of a Linux host have carried between two readings of `ip -statistics -json link`."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from aptwire.formats.shape import Shape, shapes
from aptwire.plan.file import read_json
from aptwire.plan.plan import PlanError, Problem

LARGEST = 16_000_000
HEADER = 14
"""Bytes of each packet's Ethernet header, which the counters count."""
AROUND = 24
"""Bytes of each frame on its wire that they don't: preamble, check, gap."""
SHORT = 1 << 32
"""How far counters of 32 bits count, which are printed as `stats` where there are no longer ones."""
LONGEST = 31 * 24 * 3600


@dataclass(frozen=True)
class Counted:
    """What an interface counted one way: bytes and packets."""

    bytes: int
    packets: int


@dataclass(frozen=True)
class Interface:
    """An interface's counters in a reading: what it took in, what it gave out, whether they are of 64 bits; and which interface it is (index and address)."""

    taken: Counted
    given: Counted
    long: bool
    which: tuple[int, str]


@dataclass(frozen=True)
class Rate:
    """Mbit/s of IP packets that an interface took in (`into`) and gave out (`out`), the bytes of a packet on the average, and (Mbit/s) what that is on a wire."""

    into: float
    out: float
    packet: int
    wire_into: float
    wire_out: float


def read_counters(data: bytes, place: str) -> dict[str, Interface]:
    """The counters of each interface, by name; PlanError names file and place of what can't be used."""
    found: dict[str, Interface] = {}
    for shape in shapes(read_json(data, place, LARGEST), place):
        name = shape.text("ifname", "")
        long = "stats64" in shape.data
        if not name or (not long and "stats" not in shape.data):
            continue
        stats = shape.part("stats64" if long else "stats")
        if name in found:
            shape.refuse("ifname", f"{name} stands there twice")
        which = shape.whole("ifindex", 0), shape.text("address", "")
        found[name] = Interface(_counted(stats.part("rx")), _counted(stats.part("tx")), long, which)
    if not found:
        message = "holds no counters: it should be as ip -statistics -json link prints them"
        raise PlanError([Problem(message, place=place)])
    return found


def _counted(shape: Shape) -> Counted:
    made = Counted(shape.whole("bytes", None), shape.whole("packets", None))
    for name in ("bytes", "packets"):
        if getattr(made, name) < 0:
            shape.refuse(name, "is less than nothing")
    return made


def rates(
    before: Mapping[str, Interface], after: Mapping[str, Interface], seconds: float, speeds: Mapping[str, int]
) -> tuple[dict[str, Rate], dict[str, str]]:
    """What each interface carried in so many seconds, and of which nobody can know, with the reason; `speeds` Mbit/s of those whose are known."""
    if not 0 < seconds <= LONGEST:
        raise PlanError([Problem("readings lie more than nothing and at most 31 days apart", field="seconds")])
    found: dict[str, Rate] = {}
    unknown: dict[str, str] = {}
    for name, now in sorted(after.items()):
        was = before.get(name)
        if was is None:
            unknown[name] = "wasn’t there before"
            continue
        ways = [(was.taken, now.taken), (was.given, now.given)]
        why = _unsure(was, now, ways, seconds, speeds.get(name))
        if why:
            unknown[name] = why
            continue
        size = 0 if now.long else SHORT
        counts = [[_more(getattr(a, what), getattr(b, what), size) for what in ("bytes", "packets")] for a, b in ways]
        packets = sum(count for _, count in counts)
        into, out = (max(0, octets - HEADER * count) * 8 / seconds / 1e6 for octets, count in counts)
        wires = [(octets + AROUND * count) * 8 / seconds / 1e6 for octets, count in counts]
        if speeds.get(name) and max(wires) > speeds[name] * 1.01:
            unknown[name] = f"would have carried {max(wires):,.0f} Mbit/s, more than the {speeds[name]:,} that it does"
            continue
        packet = round(sum(max(0, octets - HEADER * count) for octets, count in counts) / packets) if packets else 0
        found[name] = Rate(into, out, packet, *wires)
    unknown.update((name, "isn’t there any longer") for name in sorted(before.keys() - after.keys()))
    return found, unknown


def _more(was: int, now: int, size: int) -> int:
    """By how much a counter grew; of one that begins anew at `size`, at most once."""
    return now - was + (size if size and now < was else 0)


def _unsure(
    was: Interface, now: Interface, ways: list[tuple[Counted, Counted]], seconds: float, speed: int | None
) -> str:
    """Why nobody can know what an interface carried; empty where it can be known."""
    if was.which != now.which or was.long != now.long:
        return "is another interface of that name since"
    smaller = any(b.bytes < a.bytes or b.packets < a.packets for a, b in ways)
    if now.long:
        return "counts less than before: its counters started anew" if smaller else ""
    if any(count >= SHORT for pair in ways for one in pair for count in (one.bytes, one.packets)):
        return "has counters that are longer than they say"
    if speed is None:
        return "counts in 32 bits, and may have begun anew any number of times: its speed isn’t known"
    if speed * 1e6 / 8 * seconds >= SHORT:
        return "counts in 32 bits, which begin anew more often than that at its speed"
    return ""

"""Which processors a host has, and what queues its NICs: `lscpu --json`, `ethtool --json --show-channels NIC`, and the NUMA nodes of sysfs."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from aptwire.formats.shape import Shape, shapes
from aptwire.plan import cores
from aptwire.plan.file import read_json
from aptwire.plan.plan import PlanError, Problem

PROCESSORS, NODES, CHANNELS = "lscpu.json", "numa.txt", re.compile(r"^ethtool-(.+)\.json$")
LARGEST = 4_000_000
_NODE = re.compile(r"^(?:/sys/class/net/)?([^/:\s]+)(?:/device/numa_node)?:\s*(-?\d+)$")
_OF_NODE = re.compile(r"^NUMA node(\d+) CPU\(s\):?$")


@dataclass(frozen=True)
class Node:
    """A NUMA node: its cores with their threads, those processors that are off, its socket."""

    number: int
    socket: int
    cores: tuple[tuple[int, ...], ...]
    offline: frozenset[int]


@dataclass(frozen=True)
class Channels:
    """The receive queues of a NIC: how many it has and can have; None: not said."""

    most: int | None = None
    now: int | None = None
    speed: int | None = None


@dataclass(frozen=True)
class Processors:
    """What is known of a host's processors: its nodes, the node of each NIC, the queues of each, and what couldn't be known."""

    nodes: tuple[Node, ...] = ()
    at: Mapping[str, int] = field(default_factory=dict)
    channels: Mapping[str, Channels] = field(default_factory=dict)
    unknown: str = ""


def read_processors(name: str, files: Mapping[str, bytes]) -> Processors:
    """From a device's files (by base name); PlanError names file and place of what can't be used."""
    nodes: tuple[Node, ...] = ()
    unknown = ""
    if PROCESSORS in files:
        place = f"{name}/{PROCESSORS}"
        nodes, unknown = _nodes(read_json(files[PROCESSORS], place, LARGEST), place)
    at = _numa(files[NODES], f"{name}/{NODES}") if NODES in files else {}
    channels = {m[1]: _channels(files[file], f"{name}/{file}") for file in files if (m := CHANNELS.match(file))}
    return Processors(nodes, at, channels, unknown)


def _nodes(value: Any, place: str) -> tuple[tuple[Node, ...], str]:
    """The nodes by `--extended` (a row for each processor), or by the summary where each core has one thread."""
    document = Shape(place, value if isinstance(value, dict) else {})
    if "cpus" in document.data:
        return _by_row(document), ""
    if "lscpu" not in document.data:
        document.refuse("lscpu", "is missing, and cpus too: this is neither lscpu --json nor that with --extended")
    said = dict(_summary(document.parts("lscpu")))
    threads = said.get("Thread(s) per core", "1")
    found = {int(m[1]): text for name, text in said.items() if (m := _OF_NODE.match(name))}
    if threads != "1":
        return (), "which threads share a core isn’t said: lscpu --json --extended=CPU,CORE,SOCKET,NODE,ONLINE does"
    off = _processors(document, said.get("Off-line CPU(s) list", ""))
    if not found and "On-line CPU(s) list" in said:
        found = {0: said["On-line CPU(s) list"]}
    own = [(number, _processors(document, text) - off) for number, text in sorted(found.items())]
    # Those that are off are of no node there.
    return tuple(
        Node(number, 0, tuple((p,) for p in sorted(numbers)), off if n == 0 else frozenset())
        for n, (number, numbers) in enumerate(own)
    ), ""


def _summary(entries: Any) -> Any:
    for entry in entries:
        yield entry.text("field", None).rstrip(":"), str(entry.data.get("data") or "")
        yield from _summary(entry.parts("children"))


def _processors(shape: Shape, text: str) -> frozenset[int]:
    try:
        return cores.processors(text)
    except ValueError as error:
        shape.refuse("lscpu", str(error))


def _by_row(document: Shape) -> tuple[Node, ...]:
    found: dict[int, dict[tuple[int, int], list[int]]] = {}
    off: dict[int, set[int]] = {}
    sockets: dict[int, int] = {}
    seen: set[int] = set()
    for row in document.parts("cpus"):
        cpu = _number(row, "cpu")
        if cpu is None or not 0 <= cpu <= cores.HIGHEST:
            row.refuse("cpu", f"should be a number from 0 to {cores.HIGHEST}")
        if cpu in seen:
            row.refuse("cpu", f"{cpu} stands twice")
        seen.add(cpu)
        node = _number(row, "node") or 0
        core = _number(row, "core")
        # One that is off says neither its core nor its node.
        if row.data.get("online") in (False, "no", "N") or core is None:
            off.setdefault(node, set()).add(cpu)
            continue
        socket = _number(row, "socket") or 0
        sockets.setdefault(node, socket)
        found.setdefault(node, {}).setdefault((socket, core), []).append(cpu)
    numbers = sorted(found.keys() | off.keys())
    return tuple(
        Node(
            number,
            sockets.get(number, 0),
            tuple(sorted(tuple(sorted(threads)) for threads in found.get(number, {}).values())),
            frozenset(off.get(number, ())),
        )
        for number in numbers
    )


def _number(shape: Shape, field: str) -> int | None:
    """A number, as such or as text, which tells versions of lscpu apart; None where it is none."""
    value = shape.data.get(field)
    if isinstance(value, int) and not isinstance(value, bool):
        return value
    return int(value) if isinstance(value, str) and value.isascii() and value.isdigit() and len(value) < 7 else None


def _numa(data: bytes, place: str) -> dict[str, int]:
    """The node of each NIC as `grep . /sys/class/net/*/device/numa_node` prints them; -1 is none."""
    found: dict[str, int] = {}
    for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), 1):
        if not line.strip():
            continue
        match = _NODE.match(line.strip())
        if match is None:
            raise PlanError(
                [Problem("should be as /sys/class/net/NIC/device/numa_node:0", place=f"{place}, line {number}")]
            )
        if int(match[2]) >= 0:
            found[match[1]] = int(match[2])
    return found


def _channels(data: bytes, place: str) -> Channels:
    """`ethtool --json --show-channels`, alone or with the speed of `ethtool --json`: of channels that both receive and send, else of those that receive."""
    said: dict[str, int] = {}
    for shape in shapes(read_json(data, place, LARGEST), place):
        for name in ("combined-max", "combined", "rx-max", "rx", "speed"):
            value = _number(shape, name)
            if value:
                said[name] = value
    most, now = said.get("combined-max", said.get("rx-max")), said.get("combined", said.get("rx"))
    if most is not None and now is not None and now > most:
        raise PlanError([Problem(f"{now} channels are more than {most}, the most", place=place, field="combined")])
    return Channels(most, now, said.get("speed"))

"""The queue plan: which processor cores of a host serve the receive queues of which NIC.

Cores that may serve are those of the NIC's own NUMA node, by their first threads; the host's first core, on which everything else runs, and second threads
are left.  Of the cores of a node, NICs on which different adapters come in get each their own, and NICs on which any flow may come in share theirs.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from aptwire.plan import cores
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import Nic, NumaNode, Uplink
from aptwire.plan.names import natural
from aptwire.plan.plan import Plan
from aptwire.plan.sharing import root

WORTH = 10_000
"""Mbit/s from which on one core may be too slow for a NIC, so that several are worth it."""
LOST, IDLE, SLOW, NO_NODE, NO_CORE = "lost", "idle", "slow", "no-node", "no-core"
REASONS = {
    LOST: "the plan doesn’t say on which NUMA node it hangs",
    IDLE: "it is in no uplink",
    SLOW: "one core is enough for what it does",
    NO_NODE: "its host has no NUMA node of that number",
    NO_CORE: "its NUMA node has no core that is left for it",
}
"""Why no cores are given to a NIC."""


@dataclass(frozen=True)
class Claim:
    """NICs (ids) of one NUMA node that are served by the same cores, since any flow may come in on any of them; `weight` is what they do, in Mbit/s, and `most` the queues
    that each can have (None: not known)."""

    nics: tuple[str, ...]
    weight: int
    most: int | None


@dataclass(frozen=True)
class Laid:
    """How a host's NICs (ids) are served: the processors of each in order, and why the others get none; `crowded` are those that share a core with another claim, since there are
    fewer cores than claims."""

    host: str
    serves: Mapping[str, tuple[int, ...]]
    left: Mapping[str, str]
    crowded: frozenset[str]


def lay_out(plan: Plan, host: str) -> Laid:
    """The queue plan of a host."""
    nodes = {node.number: node for node in plan.where("numa_node", "host", host)}
    left: dict[str, str] = {}
    by_node: dict[int, list[Nic]] = {}
    for nic in sorted(plan.where("nic", "host", host), key=lambda n: natural(n.name)):
        number = nic.numa if nic.numa is not None or len(nodes) != 1 else next(iter(nodes))
        reason = _unfit(nic, number, nodes)
        if reason or number is None:
            left[nic.id] = reason
        else:
            by_node.setdefault(number, []).append(nic)
    serves: dict[str, tuple[int, ...]] = {}
    crowded: set[str] = set()
    for number, nics in sorted(by_node.items()):
        free = usable(nodes.values(), nodes[number])
        claims = list(claimed(plan, nics))
        if not free:
            left.update((nic, NO_CORE) for claim in claims for nic in claim.nics)
            continue
        shares = apportion(len(free), [(claim.weight, claim.most) for claim in claims])
        at = 0
        for n, (claim, share) in enumerate(zip(claims, shares, strict=True)):
            own = free[at : at + share] if share else [free[n % len(free)]]
            at += share
            serves.update((nic, tuple(own)) for nic in claim.nics)
        if not all(shares):
            taken = [serves[claim.nics[0]] for claim in claims]
            shared = {core for own in taken for core in own if sum(core in other for other in taken) > 1}
            crowded |= {nic for claim in claims for nic in claim.nics if shared & set(serves[nic])}
    return Laid(host, serves, left, frozenset(crowded))


def _unfit(nic: Nic, number: int | None, nodes: Mapping[int, NumaNode]) -> str:
    """Why no cores are given to a NIC: a key of REASONS; empty where they are."""
    if nic.uplink is None:
        return IDLE
    if nic.speed is not None and nic.speed < WORTH:
        return SLOW
    if number is None:
        return LOST
    return "" if number in nodes else NO_NODE


def usable(nodes: Iterable[NumaNode], node: NumaNode) -> list[int]:
    """The processors of a NUMA node that may serve queues: the first thread of each core that is on, without the host's first core."""
    off = cores.processors(node.offline or "")
    every = [core for one in nodes for core in cores.cores(one.cores)]
    first = min(every, default=())
    return [core[0] for core in cores.cores(node.cores) if core != first and core[0] not in off]


def claimed(plan: Plan, nics: Sequence[Nic]) -> Iterator[Claim]:
    """The NICs of a NUMA node by whom they share cores with: members of a team on which any flow may come in, or of which one carries at a time, together."""
    teams: dict[str, list[Nic]] = {}
    for nic in nics:
        own = root(plan, plan.get("uplink", nic.uplink)).id
        teams.setdefault(own, []).append(nic)
    for uplink, members in teams.items():
        if shares_out(plan, plan.get("uplink", uplink)):
            for nic in members:
                yield Claim((nic.id,), nic.speed or WORTH, nic.most_queues)
        else:
            limits = [nic.most_queues for nic in members if nic.most_queues is not None]
            speeds = [nic.speed or WORTH for nic in members]
            yield Claim(tuple(nic.id for nic in members), max(speeds), min(limits, default=None))


def shares_out(plan: Plan, uplink: Uplink) -> bool:
    """Whether members of a team carry at the same time, each for its own adapters: a pinned one, or one that port groups with orders of their own spread over."""
    if uplink.mode != "standby":
        return bool(uplink.mode == "pinned")
    groups = plan.where("port_group", "switch", uplink.switch)
    return any(plan.where("group_order", "port_group", group.id) for group in groups)


def apportion(count: int, claims: Sequence[tuple[int, int | None]]) -> list[int]:
    """How many of so many cores each claim gets, by its weight and the most that it can use: one more always goes to whoever has the least for its weight, so that nobody could
    have more but from somebody with less.  Where there are more claims than cores, the heaviest get one each."""
    shares = [0] * len(claims)
    for _ in range(count):
        open_ = [n for n, (_, most) in enumerate(claims) if most is None or shares[n] < most]
        if not open_:
            break
        # Who has none goes first, the heaviest among them.
        least = min(open_, key=lambda n: (Fraction(shares[n], claims[n][0]), -claims[n][0], n))
        shares[least] += 1
    return shares


def told(plan: Plan, host: str) -> dict[str, Any]:
    """A host's queue plan for a program: its NUMA nodes with their cores, and each NIC as it is, as it would be laid out, and why not."""
    laid = lay_out(plan, host)
    nodes = sorted(plan.where("numa_node", "host", host), key=lambda node: node.number)
    nics = sorted(plan.where("nic", "host", host), key=lambda nic: natural(nic.name))
    return {
        "host": host,
        "name": plan.get("host", host).name,
        "nodes": [
            {
                "number": node.number,
                "socket": node.socket,
                "cores": [list(core) for core in cores.cores(node.cores)],
                "offline": sorted(cores.processors(node.offline or "")),
                "usable": usable(nodes, node),
            }
            for node in nodes
        ],
        "nics": [
            {
                "id": nic.id,
                "name": nic.name,
                "team": plan.get("uplink", nic.uplink).name if nic.uplink is not None else "",
                "mode": plan.get("uplink", nic.uplink).mode if nic.uplink is not None else "",
                "speed": nic.speed,
                "numa": nic.numa,
                "most": nic.most_queues,
                "queues": nic.queues,
                "now": sorted(cores.processors(nic.cores or "")),
                "laid": list(laid.serves.get(nic.id, ())),
                "why": REASONS.get(laid.left.get(nic.id, ""), ""),
                "crowded": nic.id in laid.crowded,
            }
            for nic in nics
        ],
        "changes": len(list(changes_to(plan, laid))),
    }


def settings(plan: Plan, hosts: Iterable[str]) -> Edit:
    """The edit that sets the NICs of some hosts (ids) as their queue plans say."""
    return tuple(change for host in hosts for change in changes_to(plan, lay_out(plan, host)))


def changes_to(plan: Plan, laid: Laid) -> Iterator[Patch]:
    """What has to change for a host's NICs to be as laid out; those that get no cores are left as they are, but for a NIC for which one core is enough."""
    for id in (*laid.serves, *(id for id, why in laid.left.items() if why == SLOW)):
        nic = plan.get("nic", id)
        own = laid.serves.get(id, ())
        if not own and (nic.cores is None or len(cores.processors(nic.cores)) < 2):
            continue
        wanted = {"queues": len(own) or None, "cores": cores.write(own) or None}
        changes = {name: value for name, value in wanted.items() if getattr(nic, name) != value}
        if changes:
            yield Patch("nic", id, changes)


def script(plan: Plan, host: str) -> str:
    """The settings of a host's NICs as a shell script for Linux: as many channels as each has queues, and one processor for each queue's interrupt.

    What the plan says is written, whoever laid it out; NICs of which it says nothing aren't touched.
    """
    named = plan.get("host", host)
    lines = [HEAD.replace("HOST", _comment(named.name))]
    nics = [nic for nic in plan.where("nic", "host", host) if nic.queues is not None or nic.cores is not None]
    for nic in sorted(nics, key=lambda n: natural(n.name)):
        own = sorted(cores.processors(nic.cores or ""))
        count = nic.queues or len(own)
        lines.append(f"channels {_quoted(nic.name)} {count}")
        if own:
            lines.append(f"serve {_quoted(nic.name)} {' '.join(map(str, own))}")
    if not nics:
        lines.append("echo 'the plan says nothing of the queues of this host' >&2")
    return "\n".join([*lines, ""])


def _comment(text: str) -> str:
    return "".join(c for c in text if c.isprintable())


def _quoted(text: str) -> str:
    quote = "'"
    return f"{quote}{text.replace(quote, quote + chr(92) + quote + quote)}{quote}"


HEAD = """#!/bin/sh
# Receive queues of HOST: how many each NIC has, and which processors serve them.
set -eu
proc=${PROC:-/proc}

if pidof irqbalance > /dev/null 2>&1; then
  echo 'irqbalance runs, and would move the interrupts again: stop it first' >&2
  exit 1
fi

channels() {
  now=$(ethtool --show-channels "$1" | awk '/^Combined:/ { n = $2 } END { print n }')
  if [ "$now" != "$2" ]; then ethtool --set-channels "$1" combined "$2"; fi
}

# Each interrupt of a NIC's queues gets a processor, in turn.
serve() {
  nic=$1
  shift
  found=0
  for irq in $(awk -v nic="$nic" '{
      name = $NF; sub(/:$/, "", $1)
      at = index(name, nic)
      if (at && substr(name, at + length(nic)) ~ /^-(.*-)?[0-9]+$/ && (at == 1 || substr(name, at - 1, 1) ~ /[-@:]/)) print $1
    }' "$proc/interrupts"); do
    processor=$1
    shift
    echo "$processor" > "$proc/irq/$irq/smp_affinity_list"
    set -- "$@" "$processor"
    found=1
  done
  if [ "$found" = 0 ]; then echo "no interrupts of queues of $nic were found" >&2; exit 1; fi
}
"""

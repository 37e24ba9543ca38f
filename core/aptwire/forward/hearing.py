"""Who receives a broadcast from each adapter and tag."""

from __future__ import annotations

from dataclasses import dataclass

from aptwire.forward.classes import UNTAGGED
from aptwire.forward.paths import Roads
from aptwire.forward.rules import PortRule
from aptwire.forward.wiring import NOW, State, Wiring, compile_wiring
from aptwire.plan import vids
from aptwire.plan.names import endpoint_key
from aptwire.plan.plan import Plan, PlanError, Problem

MANY = 64
"""A trunk for more VIDs than these stands for "every tag": then only the guest's own tags are told."""


@dataclass(frozen=True)
class Seat:
    """An adapter at its port: `tags` are the VIDs with which it may send and hear, beside untagged frames."""

    id: str
    key: str
    rule: PortRule
    tags: frozenset[int]


def hears(plan: Plan, without: str | None = None, wiring: Wiring | None = None) -> dict[str, list[str]]:
    """For every adapter and every tag that it may use, the adapters and tags that receive a broadcast.

    Keys and entries are `host/tap|tag`, with nothing after the bar for untagged.  An adapter's tags are its guest's
    own and those of its trunk.  `without` is `host/nic`: a NIC whose link is lost.  Teams carry as they do
    today (standby), or over their first active member.
    """
    wiring = wiring or compile_wiring(plan)
    roads = Roads(wiring, State(lost=frozenset([find_nic(plan, without)])) if without else NOW)
    seats: dict[int, list[Seat]] = {}
    for adapter in plan.all("adapter"):
        if adapter.port_group is not None:
            group = plan.get("port_group", adapter.port_group)
            listed = vids.members(group.allowed or "")
            own = frozenset(tag.vid for tag in plan.where("guest_tag", "adapter", adapter.id))
            tags = own | listed if len(listed) <= MANY else own
            seat = Seat(adapter.id, endpoint_key(plan, adapter), wiring.group_rules[group.id], tags)
            seats.setdefault(wiring.bridge_of[group.switch].number, []).append(seat)

    def tags_of(seat: Seat, label: int) -> list[str]:
        if label == UNTAGGED:
            return [""]
        return [str(vid) for vid in wiring.classes.members[label] if vid in seat.tags]

    heard: dict[tuple[int, int], list[tuple[str, str]]] = {}

    def receivers(bridge: int, context: int) -> list[tuple[str, str]]:
        if (bridge, context) not in heard:
            found: list[tuple[str, str]] = []
            for other, inside in roads.flood(bridge, context):
                for seat in seats.get(other, ()):
                    label = int(seat.rule.out[inside])
                    if label >= 0:
                        found.extend((seat.id, f"{seat.key}|{tag}") for tag in tags_of(seat, label))
            heard[bridge, context] = found
        return heard[bridge, context]

    answer: dict[str, list[str]] = {}
    for bridge, seated in seats.items():
        for seat in seated:
            labels = [UNTAGGED, *(k for k in range(1, wiring.classes.count) if seat.rule.into[k] >= 0)]
            for label in labels:
                context = int(seat.rule.into[label])
                reached = receivers(bridge, context) if context >= 0 else []
                several = len(wiring.classes.members[label]) > 1
                for tag in tags_of(seat, label):
                    answer[f"{seat.key}|{tag}"] = sorted(
                        {
                            name
                            for other, name in reached
                            if other != seat.id and (not several or name.endswith(f"|{tag}"))
                        }
                    )
    for adapter in plan.all("adapter"):
        if adapter.port_group is None:
            answer[f"{endpoint_key(plan, adapter)}|"] = []
    return dict(sorted(answer.items()))


def find_nic(plan: Plan, key: str) -> str:
    """The id of the NIC named `host/nic`; PlanError if there is none."""
    for nic in plan.all("nic"):
        if endpoint_key(plan, nic) == key:
            return str(nic.id)
    raise PlanError([Problem(f"there is no NIC “{key}”; NICs are named host/nic")])

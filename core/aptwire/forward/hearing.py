"""Who receives a broadcast from each adapter and tag."""

from __future__ import annotations

from dataclasses import dataclass

from aptwire.forward.classes import UNTAGGED
from aptwire.forward.parts import NOW, Stand, State
from aptwire.forward.paths import Roads
from aptwire.forward.wiring import Wiring, compile_wiring
from aptwire.plan import vids
from aptwire.plan.names import endpoint_key
from aptwire.plan.plan import Plan, PlanError, Problem

MANY = 64
"""A trunk for more VIDs than these stands for "every tag": then only the guest's own tags are told."""


@dataclass(frozen=True)
class Seat:
    """An adapter at its port: `place` as if untagged, `tags` the VIDs with which it may send and hear beside untagged frames."""

    key: str
    stand: Stand
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
        block = wiring.blocks[wiring.home_block(adapter)]
        own = [tag.vid for tag in plan.where("guest_tag", "adapter", adapter.id)]
        stand = next((block.stand_of[p] for p in block.several.get(adapter.id, [adapter.id])), None)
        if stand is not None and stand.rule is not None:
            group = plan.of("port_group").get(adapter.port_group)
            listed = vids.members(group.allowed or "") if group is not None else frozenset()
            tags = frozenset(own) | listed if len(listed) <= MANY else frozenset(own)
            seats.setdefault(stand.bridge, []).append(Seat(endpoint_key(plan, adapter), stand, tags))

    def tags_of(seat: Seat, label: int) -> list[str]:
        if label == UNTAGGED:
            return [""]
        return [str(vid) for vid in wiring.classes.members[label] if vid in seat.tags]

    heard: dict[tuple[int, int, str, int], list[tuple[Seat, str]]] = {}

    def receivers(bridge: int, context: int, order: str, vni: int) -> list[tuple[Seat, str]]:
        key = (bridge, context, order, vni)
        if key not in heard:
            found: dict[tuple[str, str], tuple[Seat, str]] = {}
            for spot in roads.flood(bridge, context, order):
                other, inside, entry = spot
                for seat in seats.get(other, ()):
                    if (
                        entry is not None
                        and wiring.bridges[other].virtual
                        and entry not in roads.at(other, seat.stand.order)
                    ):
                        continue
                    if seat.stand.vni != vni:
                        continue
                    label = int(seat.stand.rule.out[inside]) if seat.stand.rule is not None else -1
                    if vni:
                        label = UNTAGGED if inside in seat.stand.hears else -1
                    if label >= 0:
                        found.update(((seat.key, tag), (seat, tag)) for tag in tags_of(seat, label))
            heard[key] = list(found.values())
        return heard[key]

    answer: dict[str, list[str]] = {}
    for bridge, seated in seats.items():
        for seat in seated:
            stand = seat.stand
            rule = stand.rule
            assert rule is not None
            tagged = [] if stand.vni else [k for k in range(1, wiring.classes.count) if rule.into[k] >= 0]
            for label in [UNTAGGED, *tagged]:
                context = stand.context if stand.vni else int(rule.into[label])
                reached = receivers(bridge, context, stand.order, stand.vni) if context >= 0 else []
                several = len(wiring.classes.members[label]) > 1
                for tag in tags_of(seat, label):
                    answer[f"{seat.key}|{tag}"] = sorted(
                        f"{other.key}|{name}"
                        for other, name in reached
                        if other is not seat and (not several or name == tag)
                    )
    for adapter in plan.all("adapter"):
        if adapter.port_group is None and adapter.type != "direct":
            answer[f"{endpoint_key(plan, adapter)}|"] = []
    return dict(sorted(answer.items()))


def find_nic(plan: Plan, key: str) -> str:
    """The id of the NIC named `host/nic`; PlanError if there is none."""
    for nic in plan.all("nic"):
        if endpoint_key(plan, nic) == key:
            return str(nic.id)
    raise PlanError([Problem(f"there is no NIC “{key}”; NICs are named host/nic")])

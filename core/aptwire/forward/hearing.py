"""Who receives a broadcast from each adapter and tag."""

from __future__ import annotations

from aptwire.forward.classes import UNTAGGED
from aptwire.forward.paths import Roads
from aptwire.forward.rules import PortRule, RuleBook
from aptwire.forward.wiring import NOW, State, Wiring, compile_wiring
from aptwire.plan.names import endpoint_key
from aptwire.plan.plan import Plan, PlanError, Problem


def hears(plan: Plan, without: str | None = None, wiring: Wiring | None = None) -> dict[str, list[str]]:
    """For every adapter and every tag that its port takes, the adapters and tags that receive a broadcast.

    Keys and entries are `host/tap|tag`, with nothing after the bar for untagged.  `without` is `host/nic`: a
    NIC whose link is lost.  Teams carry as they do today (standby), or over their first active member.
    """
    wiring = wiring or compile_wiring(plan)
    roads = Roads(wiring, State(lost=frozenset([find_nic(plan, without)])) if without else NOW)
    book = RuleBook(wiring.classes)
    groups = {group.id: book.port_group(group) for group in plan.all("port_group")}
    seats: dict[int, list[tuple[str, str, PortRule]]] = {}
    for adapter in plan.all("adapter"):
        if adapter.port_group is not None:
            group = plan.get("port_group", adapter.port_group)
            seat = (adapter.id, endpoint_key(plan, adapter), groups[group.id])
            seats.setdefault(wiring.bridge_of[group.switch].number, []).append(seat)

    heard: dict[tuple[int, int], list[tuple[str, str]]] = {}

    def receivers(bridge: int, context: int) -> list[tuple[str, str]]:
        if (bridge, context) not in heard:
            found: list[tuple[str, str]] = []
            for other, inside in roads.flood(bridge, context):
                for id, key, rule in seats.get(other, ()):
                    label = int(rule.out[inside])
                    if label >= 0:
                        found.extend((id, f"{key}|{tag}") for tag in _tags(wiring, label))
            heard[bridge, context] = found
        return heard[bridge, context]

    answer: dict[str, list[str]] = {}
    for bridge, seated in seats.items():
        for id, key, rule in seated:
            labels = [UNTAGGED, *(k for k in range(1, wiring.classes.count) if rule.into[k] >= 0)]
            for label in labels:
                context = int(rule.into[label])
                reached = receivers(bridge, context) if context >= 0 else []
                several = len(wiring.classes.members[label]) > 1
                for tag in _tags(wiring, label):
                    answer[f"{key}|{tag}"] = sorted(
                        {name for other, name in reached if other != id and (not several or name.endswith(f"|{tag}"))}
                    )
    for adapter in plan.all("adapter"):
        if adapter.port_group is None:
            answer[f"{endpoint_key(plan, adapter)}|"] = []
    return dict(sorted(answer.items()))


def _tags(wiring: Wiring, label: int) -> list[str]:
    return [""] if label == UNTAGGED else [str(vid) for vid in wiring.classes.members[label]]


def find_nic(plan: Plan, key: str) -> str:
    """The id of the NIC named `host/nic`; PlanError if there is none."""
    for nic in plan.all("nic"):
        if endpoint_key(plan, nic) == key:
            return str(nic.id)
    raise PlanError([Problem(f"there is no NIC “{key}”; NICs are named host/nic")])

"""Who receives a broadcast from each adapter and tag."""

from __future__ import annotations

from aptwire.forward.frames import Frames
from aptwire.forward.parts import NOW, State
from aptwire.forward.wiring import Wiring, compile_wiring
from aptwire.plan import vids
from aptwire.plan.kinds import Adapter
from aptwire.plan.names import endpoint_key
from aptwire.plan.plan import Plan, PlanError, Problem

MANY = 64
"""A trunk for more VIDs than these stands for "every tag": then only the guest's own tags are told."""


def hears(plan: Plan, without: str | None = None, wiring: Wiring | None = None) -> dict[str, list[str]]:
    """For every adapter and every tag that it may use, the adapters and tags that receive a broadcast.

    Keys and entries are `host/tap|tag`, with nothing after the bar for untagged.  An adapter's tags are its guest's
    own and those of its trunk.  `without` is `host/nic`: a NIC whose link is lost.  Teams carry as they do
    today (standby), or over their first active member.
    """
    state = State(lost=frozenset([find_nic(plan, without)])) if without else NOW
    frames = Frames(wiring or compile_wiring(plan), state)
    keys = {adapter.id: endpoint_key(plan, adapter) for adapter in plan.all("adapter")}
    tags = {adapter.id: _tags(plan, adapter) for adapter in plan.all("adapter")}
    answer: dict[str, list[str]] = {}
    for id, key in keys.items():
        if id not in frames.seats:
            answer[f"{key}|"] = []
            continue
        for vid in (None, *sorted(tags[id])):
            if vid is not None and not frames.takes(id, vid):
                continue
            answer[f"{key}|{vid or ''}"] = sorted(
                f"{keys[other]}|{tag or ''}"
                for other, tag in frames.reached(id, vid)
                if other != id and other in keys and (tag is None or tag in tags[other])
            )
    return dict(sorted(answer.items()))


def _tags(plan: Plan, adapter: Adapter) -> frozenset[int]:
    """The tags that an adapter may use: its guest's own, and those that its port group lists one by one."""
    own = frozenset(tag.vid for tag in plan.where("guest_tag", "adapter", adapter.id))
    group = plan.of("port_group").get(adapter.port_group)
    listed = vids.members(group.allowed or "") if group is not None else frozenset()
    return own | listed if len(listed) <= MANY else own


def find_nic(plan: Plan, key: str) -> str:
    """The id of the NIC named `host/nic`; PlanError if there is none."""
    for nic in plan.all("nic"):
        if endpoint_key(plan, nic) == key:
            return str(nic.id)
    raise PlanError([Problem(f"there is no NIC “{key}”; NICs are named host/nic")])

"""Who receives a broadcast from each adapter, with whichever tag."""

from __future__ import annotations

from collections.abc import Iterable

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.frames import Frames
from aptwire.forward.parts import NOW, State
from aptwire.forward.rules import Stack
from aptwire.forward.wiring import Wiring
from aptwire.plan import vids
from aptwire.plan.kinds import (
    Adapter,
    Nic,
)
from aptwire.plan.names import endpoint_key
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.ports import said_of

MANY = 64
"""A port for more VIDs than these stands for "every tag": then only the guest's own tags are asked by themselves."""


def hears(
    plan: Plan, without: str | None = None, asked: Iterable[str] = (), wiring: Wiring | None = None
) -> dict[str, list[str]]:
    """For every adapter and every tag that it is meant to use, the adapters that receive a broadcast, and with which tag.

    Keys and entries are `host/tap|tag`, with nothing after the bar for untagged.  An adapter's tags are its guest's
    own and those that its port lists; `asked` are keys with any other tag besides.  Frames with two tags are spoken of where two are
    asked (`host/tap|outer.inner`), and then entries have both.
    `without` is `host/nic`: a NIC whose link is lost.  Teams carry as they do today (standby), or over their first active member.
    PlanError names a key that can't be asked.
    """
    wiring = wiring or compile_wiring(plan)
    state = State(lost=frozenset([find_nic(plan, without)])) if without else NOW
    frames = Frames(wiring, state)
    keys = {adapter.id: endpoint_key(plan, adapter) for adapter in plan.all(Adapter)}
    questions: dict[str, tuple[str, Stack]] = {}
    for id, key in keys.items():
        for tags in ((), *((vid,) for vid in sorted(_tags(plan, plan.get("adapter", id))))):
            if not tags or (id in frames.seats and frames.takes(id, tags[0])):
                questions[f"{key}|{'.'.join(map(str, tags))}"] = (id, tags)
    senders = {key: id for id, key in keys.items()}
    for text in asked:
        key, tags = read_key(text)
        if key not in senders:
            raise PlanError(
                [Problem(f"there is no adapter “{key[:80]}”; adapters are named host/tap", place=text[:120])]
            )
        questions[text] = (senders[key], tags)
    answer: dict[str, list[str]] = {}
    for text, (id, tags) in questions.items():
        reached = frames.stacked(id, tags) if id in frames.seats else ()
        answer[text] = sorted(
            f"{keys[other]}|{'.'.join(map(str, out))}"
            for other, out in reached
            if other != id and other in keys and (len(out) < 2 or len(tags) == 2)
        )
    return dict(sorted(answer.items()))


def read_key(text: str) -> tuple[str, Stack]:
    """An endpoint's key and the tags asked of it, outermost first: `host/tap|210`, `host/tap|210.17`, `host/tap|` untagged.

    PlanError says what is wrong with the tags.
    """
    key, _, tail = text.partition("|")
    tags = []
    for item in tail.split(".") if tail else ():
        if not (item.isascii() and item.isdigit() and len(item) <= 4 and int(item) <= 4095):
            raise PlanError([Problem(f"“{item[:40]}” is no tag: 0 to 4095, or nothing for untagged", place=text[:120])])
        tags.append(int(item))
    if len(tags) > 2:
        raise PlanError([Problem("two tags are the most that can be asked", place=text[:120])])
    return key, tuple(tags)


def _tags(plan: Plan, adapter: Adapter) -> frozenset[int]:
    """The tags that an adapter is meant to use: its guest's own, and those that its port lists one by one."""
    guest = frozenset(tag.vid for tag in plan.where("guest_tag", "adapter", adapter.id))
    group = plan.of("port_group").get(adapter.port_group)
    if group is None:
        return guest
    text = said_of(adapter, group).gives if adapter.own_port else group.members or group.allowed
    listed = vids.members(text or "", True) - {0} if text is not None else frozenset()
    return guest | listed if len(listed) <= MANY else guest


def find_nic(plan: Plan, key: str) -> str:
    """The id of the NIC named `host/nic`; PlanError if there is none."""
    for nic in plan.all(Nic):
        if endpoint_key(plan, nic) == key:
            return str(nic.id)
    raise PlanError([Problem(f"there is no NIC “{key}”; NICs are named host/nic")])

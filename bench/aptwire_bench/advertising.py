"""Advertisements put to the kernel: a real router advertiser where a plan has one, and what the kernel's own stack forms of what each interface hears that listens.

What is expected is the engine's word for today, as if everybody were on; what is advertised is told to the program from the plan's records alone.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from aptwire.above.adverts import Adverts, listeners
from aptwire.above.outcomes import ANSWERED, SILENT
from aptwire.forward.parts import NOW
from aptwire.judge.verdicts import judge
from aptwire.plan.kinds import PLACES, Advertisement
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import owner_of

from aptwire_bench.scene import Scene, seats_of

LINK_LOCAL = "fe80::a7:"
"""Each who advertises has one of these addresses, so that it is told apart."""
Learnt = tuple[frozenset[str], frozenset[str]]
"""The prefixes of which an interface has addresses, and at which interfaces (records) its ways out are."""


@dataclass(frozen=True)
class Listener:
    """An interface that listens, and what the engine says that it learns today."""

    record: str
    expected: Learnt

    def say(self, plan: Plan) -> str:
        """In words."""
        return f"{called(plan, plan.find(self.record))} listens to what is advertised"


def listening(plan: Plan, most: int, seed: int) -> list[Listener]:
    """Interfaces that listen, of which the engine knows what they hear."""
    every = sorted(listeners(plan), key=lambda record: record.id)
    if not every:
        return []
    adverts, found = Adverts(judge(plan), NOW, waking=True), list[Listener]()
    for record in random.Random(seed).sample(every, len(every)):
        place, heard = adverts.wiring.place(record.id), adverts.of(record).adverts
        if place is None or place.context < 0 or place.stand.vni:
            continue
        if any(advert.outcome not in (ANSWERED, SILENT) for advert in heard):
            continue
        sure = [advert for advert in heard if advert.outcome == ANSWERED]
        prefixes = frozenset(prefix for advert in sure for prefix in advert.said.prefixes)
        found.append(Listener(record.id, (prefixes, frozenset(advert.at for advert in sure if advert.said.router))))
    return found[:most]


def seats(plan: Plan, found: list[Listener]) -> Iterator[str]:
    """Where everybody sits who may have a part in it."""
    named = [*(one.record for one in found), *(said.at for said in plan.all(Advertisement))] if found else []
    yield from seats_of(plan, {owner_of(plan, r).id for id in named if (r := plan.find(id, PLACES)) is not None})


def advertising_job(plan: Plan, found: list[Listener], scene: Scene) -> dict[str, Any]:
    """Who advertises what from which address, by namespace and device, and who listens, as the agent takes them."""
    if not found:
        return {"sends": [], "listens": []}
    sends = [
        [*scene.stacks[said.at], _address(number), list(said.prefixes), said.router]
        for number, said in enumerate(_said(plan))
        if said.at in scene.stacks
    ]
    return {"sends": sends, "listens": [list(scene.stacks[one.record]) for one in found]}


def learnt(plan: Plan, answer: list[list[str]]) -> Learnt:
    """What the kernel's answer (prefixes of addresses, next hops of default routes) is in a plan's words; a next hop that is nobody's stands for itself."""
    whose = {_address(number): said.at for number, said in enumerate(_said(plan))}
    prefixes, hops = answer
    return frozenset(prefixes), frozenset(whose.get(hop, hop) for hop in hops)


def _said(plan: Plan) -> list[Advertisement]:
    return sorted(plan.all(Advertisement), key=lambda said: said.id)


def _address(number: int) -> str:
    return f"{LINK_LOCAL}{number + 1:x}"

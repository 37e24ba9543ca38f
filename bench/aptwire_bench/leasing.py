"""Leases put to the kernel: real DHCP servers and relays as a plan has them, and what each interface that asks is offered.

What is expected is the engine's word for today, as if everybody were on, since the kernel has them all on; what a scope or relay says is told to the programs from the plan's records alone.
"""

from __future__ import annotations

import ipaddress
import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from aptwire.above.leases import Leases, clients, mac_of
from aptwire.above.outcomes import ANSWERED, SILENT
from aptwire.forward.parts import NOW
from aptwire.judge.lease import Offer
from aptwire.judge.verdicts import judge
from aptwire.plan.kinds import PLACES, LeaseRelay, LeaseScope
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import owner_of

from aptwire_bench.scene import Scene, seats_of

Given = tuple[str, str, str, tuple[str, ...]]
"""An offer: who makes it (a guest, station or host), the subnet, the address where it is kept for whoever asks (else empty), and the gateways."""


@dataclass(frozen=True)
class Asker:
    """An interface that asks for a lease, its MAC address, and what the engine says that it is offered today."""

    record: str
    mac: str
    expected: frozenset[Given]

    def say(self, plan: Plan) -> str:
        """In words."""
        return f"{called(plan, plan.find(self.record))} asks for a lease"


def askers(plan: Plan, most: int, seed: int) -> list[Asker]:
    """Interfaces that ask, of which the engine knows what they are offered."""
    asking = sorted(clients(plan), key=lambda r: r.id)
    if not asking:
        return []
    leases, found = Leases(judge(plan), NOW, waking=True), list[Asker]()
    for record in random.Random(seed).sample(asking, len(asking)):
        place = leases.wiring.place(record.id)
        told = leases.of(record).offered
        if (
            place is None
            or place.context < 0
            or place.stand.vni
            or any(o.outcome not in (ANSWERED, SILENT) for o in told)
        ):
            continue
        expected = frozenset(_given(offer) for offer in told if offer.outcome == ANSWERED)
        found.append(Asker(record.id, mac_of(plan, record) or f"02:a7:fd:00:00:{len(found):02x}", expected))
    return found[:most]


def _given(offer: Offer) -> Given:
    return offer.server, offer.scope.subnet, offer.address.partition("/")[0], tuple(sorted(offer.scope.gateways))


def seats(plan: Plan, asking: list[Asker]) -> Iterator[str]:
    """Where everybody sits who may have a part in it: who asks, leases, relays or forwards, with all their interfaces."""
    if not asking:
        return
    owners = {scope.of for scope in plan.all(LeaseScope)}
    named = [*(asker.record for asker in asking), *(relay.at for relay in plan.all(LeaseRelay))]
    owners |= {owner_of(plan, record).id for id in named if (record := plan.find(id, PLACES)) is not None}
    owners |= {o.id for kind in ("guest", "station", "host") for o in plan.where(kind, "routes", True)}
    yield from seats_of(plan, owners)


def leasing_job(plan: Plan, asking: list[Asker], scene: Scene) -> dict[str, Any]:
    """The programs to start, by namespace, and who asks, as the agent takes them."""
    if not asking:
        return {"servers": [], "asks": []}
    said: dict[str, list[str]] = {}
    standing = ((plan.find(id, PLACES), space) for id, (space, _) in scene.stacks.items())
    # An outside network leases nothing.
    spaces = {owner_of(plan, record).id: space for record, space in standing if record is not None}
    for number, scope in enumerate(sorted(plan.all(LeaseScope), key=lambda s: s.id)):
        if scope.of in spaces:
            said.setdefault(spaces[scope.of], []).extend(_scope(scope, f"n{number}"))
    for relay in sorted(plan.all(LeaseRelay), key=lambda r: r.id):
        record = plan.find(relay.at, PLACES)
        own = [a.partition("/")[0] for a in getattr(record, "addresses", ()) if ":" not in a]
        if own and relay.at in scene.stacks:
            space = scene.stacks[relay.at][0]
            said.setdefault(space, []).extend(f"--dhcp-relay={own[0]},{to}" for to in relay.to)
    asks = [[*scene.stacks[asker.record], asker.mac] for asker in asking]
    return {"servers": sorted(said.items()), "asks": asks}


def _scope(scope: LeaseScope, tag: str) -> Iterator[str]:
    net = ipaddress.ip_network(scope.subnet)
    for text in scope.pool:
        low, _, high = text.partition("-")
        yield f"--dhcp-range=set:{tag},{low},{high or low},{net.netmask},{scope.minutes}m"
    if not scope.pool:
        yield f"--dhcp-range=set:{tag},{net.network_address},static,{net.netmask},{scope.minutes}m"
    yield f"--dhcp-option=tag:{tag},option:router{''.join(f',{gateway}' for gateway in scope.gateways)}"
    yield from (f"--dhcp-host={','.join(text.split())}" for text in scope.kept)


def offered(plan: Plan, asker: Asker, answers: list[list[Any]]) -> frozenset[Given]:
    """What the kernel's answers (server's address, address offered, gateways) are in a plan's words; an offer of which no scope speaks is nobody's."""
    found = set()
    for server, address, gateways in answers:
        owners = {
            owner_of(plan, r).id
            for kind in PLACES
            for r in plan.all(kind)
            if any(a.partition("/")[0] == server for a in r.addresses)
        }
        fit = (
            s
            for s in plan.all(LeaseScope)
            if s.of in owners and ipaddress.ip_address(address) in ipaddress.ip_network(s.subnet)
        )
        scope = next(fit, None)
        if scope is None:
            found.add(("nobody", "", address, tuple(sorted(gateways))))
            continue
        kept = any(text.split()[1] == address for text in scope.kept)
        found.add((scope.of, scope.subnet, address if kept else "", tuple(sorted(gateways))))
    return frozenset(found)

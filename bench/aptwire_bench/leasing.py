"""Leases put to the kernel: real DHCP servers and relays as a plan has them, and what each interface that asks is offered.

What is expected is the engine's word for today, as if everybody were on, since the kernel has them all on; what a scope or relay says is told to the programs from the plan's records alone.
Of IPv6 (RFC 8415) those are asked who stand on a link with whoever leases: its relays, and what is kept for a MAC address, aren't tried.
"""

from __future__ import annotations

import ipaddress
import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from aptwire.above.leases import Leases, Leases6, clients, mac_of
from aptwire.above.outcomes import ANSWERED, SILENT
from aptwire.forward.parts import NOW
from aptwire.judge.lease import Offer
from aptwire.judge.verdicts import judge
from aptwire.plan.kinds import PLACES, LeaseRelay, LeaseScope
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import owner_of

from aptwire_bench.scene import Scene, seats_of

LINK_LOCAL = "fe80::a8:"
JOB = ("servers", "asks", "servers6", "ends6", "asks6")
"""The parts of a job: programs by namespace, and who asks; of IPv6 also where whoever leases has which addresses."""
Given = tuple[str, str, str, tuple[str, ...]]
"""An offer: who makes it (a guest, station or host), the subnet, the address where it is kept for whoever asks (else empty), and the gateways."""


@dataclass(frozen=True)
class Asker:
    """An interface that asks for a lease, its MAC address, and what the engine says that it is offered today."""

    record: str
    mac: str
    expected: frozenset[Given]
    six: bool = False

    def say(self, plan: Plan) -> str:
        """In words."""
        return f"{called(plan, plan.find(self.record))} asks for a lease{' of IPv6' if self.six else ''}"


def askers(plan: Plan, most: int, seed: int) -> list[Asker]:
    """Interfaces that ask, of which the engine knows what they are offered."""
    return [*_askers(plan, most, seed, Leases), *_askers(plan, most, seed, Leases6)]


def _askers(plan: Plan, most: int, seed: int, asked: type[Leases]) -> list[Asker]:
    six = asked.version == 6
    asking = sorted(clients(plan, asked.version), key=lambda r: r.id)
    if not asking:
        return []
    leases, found = asked(judge(plan), NOW, waking=True), list[Asker]()
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
        heard = [offer for offer in told if offer.outcome == ANSWERED]
        if six and any(offer.relay or offer.address for offer in heard):
            continue
        mac = mac_of(plan, record) or f"02:a7:fd:00:00:{len(found):02x}"
        found.append(Asker(record.id, mac, frozenset(map(_given, heard)), six))
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
        return {name: [] for name in JOB}
    said: dict[str, list[str]] = {}
    standing = ((plan.find(id, PLACES), space) for id, (space, _) in scene.stacks.items())
    # An outside network leases nothing.
    spaces = {owner_of(plan, record).id: space for record, space in standing if record is not None}
    said6: dict[str, list[str]] = {}
    for number, scope in enumerate(sorted(plan.all(LeaseScope), key=lambda s: s.id)):
        if scope.of in spaces:
            told, line = (said6, _scope6) if ":" in scope.subnet else (said, _scope)
            told.setdefault(spaces[scope.of], []).extend(line(scope, f"n{number}"))
    for relay in sorted(plan.all(LeaseRelay), key=lambda r: r.id):
        record = plan.find(relay.at, PLACES)
        own = [a.partition("/")[0] for a in getattr(record, "addresses", ()) if ":" not in a]
        if own and relay.at in scene.stacks:
            space = scene.stacks[relay.at][0]
            said.setdefault(space, []).extend(f"--dhcp-relay={own[0]},{to}" for to in relay.to if ":" not in to)
    ends = [
        [*scene.stacks[record.id], own, [address for address in record.addresses if ":" in address]]
        for record, own in _leasing6(plan)
        if record.id in scene.stacks
    ]
    asks = [[*scene.stacks[asker.record], asker.mac] for asker in asking if not asker.six]
    asks6 = [list(scene.stacks[asker.record]) for asker in asking if asker.six]
    return dict(
        zip(JOB, (sorted(said.items()), asks, sorted((s, w) for s, w in said6.items() if w), ends, asks6), strict=True)
    )


def _leasing6(plan: Plan) -> list[tuple[Any, str]]:
    """The interfaces with IPv6 addresses of those who lease such, each with an address on its link by which it is told apart."""
    owners = {scope.of for scope in plan.all(LeaseScope) if ":" in scope.subnet}
    bearing: Iterator[Any] = (r for kind in PLACES for r in plan.all(kind) if any(":" in a for a in r.addresses))
    mine = sorted((r for r in bearing if owner_of(plan, r).id in owners), key=lambda r: r.id)
    return [(record, f"{LINK_LOCAL}{number + 1:x}") for number, record in enumerate(mine)]


def _scope6(scope: LeaseScope, tag: str) -> Iterator[str]:
    length = scope.subnet.partition("/")[2]
    for text in scope.pool:
        low, _, high = text.partition("-")
        yield f"--dhcp-range=set:{tag},{low},{high or low},{length},{scope.minutes}m"


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
    near = {own: owner_of(plan, record).id for record, own in _leasing6(plan)}
    for server, address, gateways in answers:
        owners = {
            owner_of(plan, r).id
            for kind in PLACES
            for r in plan.all(kind)
            if any(a.partition("/")[0] == server for a in r.addresses)
        }
        owners |= {near[server]} if server in near else set()
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

"""Leases put to the kernel: real DHCP servers and relays as a plan has them, and what each interface that asks is offered.

What is expected is the engine's word for today, as if everybody were on, since the kernel has them all on; what a scope or relay says is told to the programs from the plan's records alone.
"""

from __future__ import annotations

import ipaddress
import random
import re
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

ENTERPRISE = 32473
"""The number kept for examples (RFC 5612), under which those who lease IPv6 name themselves."""
JOB = ("servers", "asks", "servers6", "asks6")
"""The parts of a job: programs by namespace, and who asks, of IPv4 and of IPv6."""
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
        bound = [a.partition("/")[0] for a in getattr(record, "addresses", ())]
        for told, six in ((said, False), (said6, True)):
            own = next((a for a in bound if (":" in a) == six), None)
            to = [address for address in relay.to if (":" in address) == six]
            if own and to and relay.at in scene.stacks:
                told.setdefault(scene.stacks[relay.at][0], []).extend(f"--dhcp-relay={own},{one}" for one in to)
    for owner, uid in _named6(plan).items():
        if said6.get(spaces.get(owner, "")):
            said6[spaces[owner]].append(f"--dhcp-duid={ENTERPRISE},{':'.join(re.findall('..', uid))}")
    asks = [[*scene.stacks[asker.record], asker.mac] for asker in asking if not asker.six]
    asks6 = [list(scene.stacks[asker.record]) for asker in asking if asker.six]
    programs6 = sorted((space, words) for space, words in said6.items() if words)
    return dict(zip(JOB, (sorted(said.items()), asks, programs6, asks6), strict=True))


def _named6(plan: Plan) -> dict[str, str]:
    """Those (ids) who lease IPv6 addresses, each with a number of four bytes, in hexadecimal, by which it names itself."""
    owners = sorted({scope.of for scope in plan.all(LeaseScope) if ":" in scope.subnet})
    return {owner: f"{number:08x}" for number, owner in enumerate(owners, 1)}


def _scope6(scope: LeaseScope, tag: str) -> Iterator[str]:
    length = scope.subnet.partition("/")[2]
    for text in scope.pool:
        low, _, high = text.partition("-")
        yield f"--dhcp-range=set:{tag},{low},{high or low},{length},{scope.minutes}m"
    if not scope.pool:
        yield f"--dhcp-range=set:{tag},{scope.subnet.partition('/')[0]},static,{length},{scope.minutes}m"
    for mac, address in (text.split() for text in scope.kept):
        yield f"--dhcp-host={mac},[{address}]"


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
    """What the kernel's answers (server's address, or of IPv6 its number, address offered, gateways) are in a plan's words; an offer of which no scope speaks is nobody's."""
    found = set()
    named = {uid: owner for owner, uid in _named6(plan).items()}
    for server, address, gateways in answers:
        owners = {
            owner_of(plan, r).id
            for kind in PLACES
            for r in plan.all(kind)
            if any(a.partition("/")[0] == server for a in r.addresses)
        }
        owners |= {named[server]} if server in named else set()
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

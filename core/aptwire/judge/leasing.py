"""What would give somebody the lease that he doesn't get, or keep a wrong one from him: edits worth trying."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from itertools import pairwise

from aptwire.above.leases import ASKING, Leases, Leases6, Source, clients, mac_of
from aptwire.above.ping import may_lease
from aptwire.forward.parts import Place
from aptwire.judge.causes import spoken
from aptwire.judge.judgement import Judgement
from aptwire.judge.lease import Offer
from aptwire.judge.plugging import fresh_id, next_free_address, spoken_for
from aptwire.judge.why import is_idle
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.fields import range_text
from aptwire.plan.kinds import PLACES, STATIC, Adapter, LeaseRelay, LeaseScope, Record, Segment
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import adapter_of, owner_of

MOST_POOLED, ASIDE = 100, 0x100


def lacking(judgement: Judgement, places: Iterable[Place]) -> Iterator[tuple[str, Edit]]:
    """For those who get no lease: guards that open, who is off and starts, a scope or a relay where the gateway is, or an address of their own."""
    plan, found = judgement.plan, list(places)
    segment = plan.of("segment").get(found[0].segment or "")
    if segment is None:
        return
    for asked in _asked(judgement, found):
        yield from _lacking(judgement, asked, segment, found)


def _asked(judgement: Judgement, places: Iterable[Place]) -> Iterator[type[Leases]]:
    """Of which IP versions places lack a lease, or get a wrong one."""
    known = judgement.known
    for asked, troubled in ((Leases, known.unleased), (Leases6, known.unleased6)):
        if any(place.record in troubled for place in places):
            yield asked


def _lacking(
    judgement: Judgement, asked: type[Leases], segment: Segment, found: list[Place]
) -> Iterator[tuple[str, Edit]]:
    plan = judgement.plan
    leases = judgement.once(asked)
    answering = [plan.find(id, PLACES) for id in _speaking(leases, segment)]
    for place in found[:1] if leases.version == 4 and leases.marks.switches else ():
        lease = judgement.leases.get(place.record)
        for offer in lease.offered if lease is not None else ():
            yield from leases.marks.mends(place.record, offer.at, offer.relay)
    yield from _let_lease(plan, [record for record in answering if record is not None])
    idle = (r for r in answering if r is not None and r.kind in ("adapter", "host_port") and is_idle(plan, r.id))
    yield from (wake(plan, record) for record in idle)
    yield from _keep(leases, found, segment)
    yield from _serve(judgement, leases, segment)
    for place in found[:1] if len(found) == 1 else ():
        free, record = next_free_address(plan, segment, leases.version), plan.find(place.record, PLACES)
        if free and record is not None:
            own = [a for a in record.addresses if not leases.mine(a)] if leases.version == 4 else record.addresses  # type: ignore[attr-defined]
            said = f"Give {spoken(plan, place.endpoint)} {free.partition('/')[0]} for its own, the next free address of {segment.name}"
            words = {ASKING[leases.version]: STATIC, "addresses": [*own, free]}
            yield said, (Patch(record.kind, record.id, words),)


def misled(judgement: Judgement, places: Iterable[Place]) -> Iterator[tuple[str, Edit]]:
    """For those who get a lease that isn't of their segment: a guard against who leases it, that scope away, or another gateway in it."""
    plan = judgement.plan
    for place in list(places)[:1]:
        segment = plan.of("segment").get(place.segment or "")
        if segment is None:
            continue
        gateways = [address for address in segment.gateways if ":" not in address]
        for offer in (o for lease in judgement.leases_of(place.record) for o in lease.heard if o.at == lease.towards):
            adapter, scope = adapter_of(plan, plan.find(offer.at, PLACES)), offer.scope
            yield from silenced(plan, offer, spoken(plan, adapter.id) if adapter is not None else "")
            if scope.subnet in segment.subnets and gateways and ":" not in scope.subnet:
                said = f"Have {called(plan, plan.find(scope.of))} hand out the gateway {gateways[0]} in {scope.subnet}"
                yield said, (Patch("lease_scope", scope.id, {"gateways": gateways}),)


def silenced(plan: Plan, heard: Offer | Source, speaker: str) -> Iterator[tuple[str, Edit]]:
    """What keeps somebody from answering who asks for a lease: a guard at his adapter (called `speaker`), his relay away, or his scope."""
    adapter = adapter_of(plan, plan.find(heard.at, PLACES))
    if adapter is not None:
        yield f"Have a guard drop what {speaker} leases", (Patch("adapter", adapter.id, {"serve_leases": False}),)
    for gone in (plan.of("lease_relay").get(heard.relay), heard.scope):
        if gone is not None:
            yield f"Take away {called(plan, gone)}", (Drop(gone.kind, gone.id),)


def wake(plan: Plan, record: Record) -> tuple[str, Edit]:
    """Whoever is idle (an adapter or host port) is started, or connected, in words and as an edit."""
    starts = isinstance(record, Adapter) and not plan.get("guest", record.guest).running
    edit: list[Operation] = [Patch("guest", record.guest, {"running": True})] if starts else []  # type: ignore[attr-defined]
    if not record.connected:  # type: ignore[attr-defined]
        edit.append(Patch(record.kind, record.id, {"connected": True}))
    return f"{'Start' if starts else 'Connect'} {spoken(plan, record.id)}", tuple(edit)


def _speaking(leases: Leases, segment: Segment) -> list[str]:
    """The interfaces at which somebody would answer on a segment, and those of who stands behind relays there."""
    sources, plan = [s for s in leases.sources if s.scope.subnet in segment.subnets], leases.plan
    near = dict.fromkeys(source.at for source in sources)
    relayed = [source for source in sources if source.relay]
    stations = [*(source.server for source in relayed), *(_owner(plan, source.at) for source in relayed)]
    beyond = (r.id for kind in PLACES for r in plan.all(kind) if owner_of(plan, r).id in stations)
    return list(dict.fromkeys([*near, *sorted(beyond)]))


def _owner(plan: Plan, record: str) -> str:
    found = plan.find(record, PLACES)
    assert found is not None
    return owner_of(plan, found).id


def _let_lease(plan: Plan, records: Iterable[Record]) -> Iterator[tuple[str, Edit]]:
    """Guards that drop what lease servers send, opened one by one, and all of them."""
    adapters = {adapter_of(plan, record) for record in records}
    held = sorted((a for a in adapters if a is not None and not may_lease(plan, a)), key=lambda a: a.id)
    each = [(Patch("adapter", adapter.id, {"serve_leases": True}),) for adapter in held]
    for adapter, edit in zip(held, each, strict=True):
        yield f"Let {spoken(plan, adapter.id)} serve leases", edit
    if len(held) > 1:
        yield (
            f"Let {spoken(plan, held[0].id)} and those behind it serve leases",
            tuple(o for edit in each for o in edit),
        )


def _keep(leases: Leases, places: list[Place], segment: Segment) -> Iterator[tuple[str, Edit]]:
    """An address of a scope without a pool, kept for the one who asks."""
    plan = leases.plan
    scopes = [s for s in leases.scopes if s.subnet in segment.subnets and not s.pool]
    record = plan.find(places[0].record, PLACES)
    free = next_free_address(plan, segment, leases.version)
    mac = mac_of(plan, record) if record is not None else None
    for scope in scopes if mac and free else ():
        address = str(free).partition("/")[0]
        said = f"Keep {address} for {spoken(plan, places[0].endpoint)} at {called(plan, plan.find(scope.of))}"
        yield said, (Patch("lease_scope", scope.id, {"kept": [*scope.kept, f"{mac} {address}"]}),)


def _serve(judgement: Judgement, leases: Leases, segment: Segment) -> Iterator[tuple[str, Edit]]:
    """Whoever has the gateway, or is named as the lease server, leases the segment's addresses, or asks a server that leases them already."""
    plan = judgement.plan
    nets = [ipaddress.ip_network(net) for net in filter(leases.mine, segment.subnets)]
    nets = [net for net in nets if net.prefixlen <= net.max_prefixlen - 2]
    gateways = list(filter(leases.mine, segment.gateways))
    for net in nets[:1]:
        known = [s for s in leases.scopes if s.subnet == str(net)]
        for address in dict.fromkeys([*filter(leases.mine, segment.lease_servers), *gateways]):
            for record in sorted(judgement.wiring.bearers.get(address, ())):
                bearer = plan.find(record, PLACES)
                if bearer is None or ipaddress.ip_address(address) not in net:
                    continue
                owner, opened = owner_of(plan, bearer), _opened(plan, bearer)
                pool = _pool(leases, segment, str(net))
                if pool and not any(s.of == owner.id for s in known):
                    scope = LeaseScope(
                        id=fresh_id(plan, f"{owner.id}/leases-{net.network_address}"),
                        of=owner.id,
                        subnet=str(net),
                        pool=(pool,),
                        gateways=tuple(gateways) if leases.version == 4 else (),
                    )
                    yield f"Have {called(plan, owner)} lease {pool} of {segment.name}", (Put(scope), *opened)
                yield from _relay(leases, record, known, opened)


def _relay(leases: Leases, record: str, known: list[LeaseScope], opened: Edit) -> Iterator[tuple[str, Edit]]:
    """Whoever stands there asks who leases that already, as well as whom he asks of the other IP version."""
    plan = leases.plan
    bearer, other = plan.find(record, PLACES), next(iter(plan.where("lease_relay", "at", record)), None)
    assert bearer is not None
    for scope in known if other is None or not any(map(leases.mine, other.to)) else ():
        own = [r for kind in PLACES for r in plan.all(kind) if owner_of(plan, r).id == scope.of]
        addresses = [a.partition("/")[0] for r in own for a in filter(leases.mine, r.addresses)]
        if owner_of(plan, bearer).id != scope.of and addresses:
            said = f"Have {called(plan, bearer)} ask {called(plan, plan.find(scope.of))} for leases"
            if other is not None:
                yield said, (Patch("lease_relay", other.id, {"to": [*other.to, addresses[0]]}), *opened)
            else:
                relay = LeaseRelay(id=fresh_id(plan, f"{record}/relay"), at=record, to=(addresses[0],))
                yield said, (Put(relay), *opened)


def _opened(plan: Plan, record: Record) -> Edit:
    """What opens the guard of whoever is to lease."""
    adapter = adapter_of(plan, record)
    return (
        (Patch("adapter", adapter.id, {"serve_leases": True}),)
        if adapter is not None and not may_lease(plan, adapter)
        else ()
    )


def _pool(leases: Leases, segment: Segment, net: str) -> str:
    """The longest run of free addresses of a subnet, its last ones where it is longer than a pool need be (of IPv6 first ones, behind some that are left for hosts of their own); empty where there is no room for those who ask."""
    subnet, plan = ipaddress.ip_network(net), leases.plan
    taken = {int(ipaddress.ip_address(a)) for a in filter(leases.mine, spoken_for(plan, segment))}
    low, high = int(subnet.network_address) + 1, int(subnet.broadcast_address) - 1
    ends = sorted({low - 1, *(n for n in taken if low <= n <= high), high + 1})
    first, last = max(((a + 1, b - 1) for a, b in pairwise(ends)), key=lambda run: run[1] - run[0])
    if leases.version == 6 and first + ASIDE + MOST_POOLED <= last:
        first, last = first + ASIDE, first + ASIDE + MOST_POOLED - 1
    first = max(first, last - MOST_POOLED + 1)
    asking = len([r for r in clients(plan, leases.version) if r.belongs == segment.id])  # type: ignore[attr-defined]
    if last - first + 1 < asking:
        return ""
    return range_text(first, last, leases.version)

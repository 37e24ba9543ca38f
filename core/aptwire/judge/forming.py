"""What would give somebody the prefix of which he forms no address, or keep a stranger's from him: edits worth trying."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from aptwire.above.adverts import Advertiser, Adverts
from aptwire.above.ping import may_advertise
from aptwire.forward.parts import Place
from aptwire.judge.causes import spoken
from aptwire.judge.formed import Advert, on_link
from aptwire.judge.judgement import Judgement
from aptwire.judge.leasing import wake
from aptwire.judge.plugging import fresh_id
from aptwire.judge.why import is_idle
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.kinds import PLACES, Advertisement, Record, Segment
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import adapter_of


def unheard(judgement: Judgement, places: Sequence[Place]) -> Iterator[tuple[str, Edit]]:
    """For those who hear nobody advertise what they need: guards that open, who is off and starts, and whoever has the gateway advertises it."""
    plan = judgement.plan
    segment = next((plan.of(Segment.kind).get(place.segment or "") for place in places), None)
    if segment is None:
        return
    leasing = any(place.record in judgement.leases6 for place in places)
    nets = _prefixes(segment, leasing)
    for source in judgement.once(Adverts).sources:
        record = plan.find(source.at, PLACES)
        if record is None or set(nets).isdisjoint(on_link(source.said, leasing)):
            continue
        if opened := _opened(plan, record):
            yield f"Let {spoken(plan, _end(plan, record).id)} advertise", opened
        if record.kind in ("adapter", "host_port") and is_idle(plan, record.id):
            yield wake(plan, record)
    for bearer in _gateways(judgement, segment):
        yield from _advertised(plan, bearer, segment, nets, leasing)


def strayed(judgement: Judgement, places: Iterable[Place]) -> Iterator[tuple[str, Edit]]:
    """For those who hear a stranger's: a guard that drops it, or it taken away."""
    plan = judgement.plan
    for place in list(places)[:1]:
        formed = judgement.formed.get(place.record)
        for advert in formed.heard if formed is not None else ():
            if formed is not None and advert.at == formed.towards:
                yield from hushed(plan, advert)


def hushed(plan: Plan, source: Advert | Advertiser) -> Iterator[tuple[str, Edit]]:
    """What keeps somebody's advertisement from who listens: a guard at its adapter, or that it isn't sent."""
    adapter = adapter_of(plan, plan.find(source.at, PLACES))
    if adapter is not None:
        said = f"Have a guard drop what {spoken(plan, adapter.id)} advertises"
        yield said, (Patch("adapter", adapter.id, {"advertise_routes": False}),)
    yield f"Take away {called(plan, source.said)}", (Drop(Advertisement.kind, source.said.id),)


def _advertised(
    plan: Plan, bearer: Record, segment: Segment, nets: list[str], leasing: bool
) -> Iterator[tuple[str, Edit]]:
    """Whoever has a segment's gateway advertises its subnets there, and itself; `leasing`: as on link alone."""
    known = next(iter(plan.where(Advertisement.kind, "at", bearer.id)), None)
    opened, whose = _opened(plan, bearer), called(plan, bearer)
    if known is None:
        said = Advertisement(id=fresh_id(plan, f"{bearer.id}/advertises"), at=bearer.id)
        said = replace(said, on_link=tuple(nets)) if leasing else replace(said, prefixes=tuple(nets))
        yield f"Have {whose} advertise {some(nets)} of {segment.name}", (Put(said), *opened)
        return
    fresh = [net for net in nets if net not in on_link(known, leasing)]
    name, held = ("on_link", known.on_link) if leasing else ("prefixes", known.prefixes)
    words: dict[str, object] = {name: [*held, *fresh], "router": True}
    if not leasing:
        words["on_link"] = [net for net in known.on_link if net not in fresh]
    if fresh or not known.router:
        offer: Operation = Patch(Advertisement.kind, known.id, words)
        yield f"Have {whose} advertise {some(nets)} of {segment.name}, and itself as the way out", (offer, *opened)


def _gateways(judgement: Judgement, segment: Segment) -> Iterator[Record]:
    """The interfaces that have a segment's gateways of IPv6."""
    for address in (gateway for gateway in segment.gateways if ":" in gateway):
        for id in sorted(judgement.wiring.bearers.get(address, ())):
            record = judgement.plan.find(id, PLACES)
            if record is not None:
                yield record


def _prefixes(segment: Segment, leasing: bool) -> list[str]:
    """The subnets of a segment of which addresses can be formed, or (`leasing`) that can be on link."""
    return [net for net in segment.subnets if ":" in net and (leasing or net.endswith("/64"))]


def _end(plan: Plan, record: Record) -> Record:
    return adapter_of(plan, record) or record


def _opened(plan: Plan, record: Record) -> Edit:
    """What opens the guard of whoever is to advertise."""
    adapter = adapter_of(plan, record)
    if adapter is None or may_advertise(plan, adapter):
        return ()
    return (Patch("adapter", adapter.id, {"advertise_routes": True}),)

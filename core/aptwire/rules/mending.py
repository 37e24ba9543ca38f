"""Edits after which a rule may hold; whether one does is found by trying it."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from itertools import pairwise

from aptwire.above.leases import Leases, Leases6
from aptwire.above.outcomes import ANSWERED
from aptwire.above.ping import Way
from aptwire.forward.parts import Place
from aptwire.judge.cut import cut_apart
from aptwire.judge.judgement import Judgement
from aptwire.judge.leasing import silenced
from aptwire.judge.plugging import next_free_address, plug_router, switch_behind
from aptwire.judge.verdicts import judged_after
from aptwire.judge.why import is_idle
from aptwire.plan.edits import Drop, Edit, Patch, Put, in_steps, merged
from aptwire.plan.fields import bare_address
from aptwire.plan.filters import PING, Packet
from aptwire.plan.kinds import PLACES, FilterLine, InwardTranslation, Outside, Record, Route, Segment, Translation
from aptwire.plan.names import called, some
from aptwire.plan.outside import handed_over
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.sentences import EVERYTHING, Apart, LeasesOnly, Reach, read
from aptwire.plan.stacks import Address, Stack, adapter_of, owner_of, stack_of
from aptwire.rules.answer import BROKEN, HOLDS, Answer
from aptwire.rules.asking import asked
from aptwire.rules.whom import Meaning

DEPTH, BREADTH, MOST = 3, 4, 6
MOST_SUBNETS = 64
"""As many stand in a filter line."""

Offer = tuple[str, Edit]


def rule_offers(judgement: Judgement, text: str) -> list[Offer]:
    """Edits, in words, after which a rule that doesn't hold does; each may take up to DEPTH steps."""
    sentence = read(text)
    if isinstance(sentence, Apart):
        return list(_parting(judgement, sentence, asked(judgement).ask(text)))
    if isinstance(sentence, LeasesOnly):
        return list(_silencing(judgement, text))
    if not isinstance(sentence, Reach):
        return []
    found: list[Offer] = []
    frontier: list[tuple[tuple[str, ...], Edit, Judgement]] = [((), (), judgement)]
    for _ in range(DEPTH):
        onward = []
        for titles, edit, judged in frontier:
            for title, addition in _joining(judged, sentence, asked(judged).ask(text)):
                whole = merged((*edit, *addition))
                try:
                    after = judged_after(judgement, whole)
                except PlanError:
                    # Two steps that don't go together: there are others.
                    continue
                fares = asked(after).ask(text).outcome
                if fares == HOLDS:
                    found.append((in_steps([*titles, title]), whole))
                elif fares == BROKEN:
                    onward.append(((*titles, title), whole, after))
        if found:
            return found[:MOST]
        frontier = onward[:BREADTH]
    return []


# Leases


def _silencing(judgement: Judgement, text: str) -> Iterator[Offer]:
    """What keeps a stranger from answering who asks for a lease: a guard, his relay or his scope away; for one after the other, until nobody else does."""
    titles: list[str] = []
    edit: Edit = ()
    judged = judgement
    for _ in range(MOST):
        answer = asked(judged).ask(text)
        if answer.outcome != BROKEN:
            break
        title, more = next(_silent(judged, answer), ("", ()))
        if not more:
            return
        titles, edit = [*titles, title], merged((*edit, *more))
        judged = judged_after(judgement, edit)
        if asked(judged).ask(text).outcome == HOLDS:
            yield in_steps(titles), edit
    first = asked(judgement).ask(text)
    yield from _silent(judgement, first) if first.outcome == BROKEN else ()


def _silent(judgement: Judgement, answer: Answer) -> Iterator[Offer]:
    """The edits after which one who leases isn't heard by one who asks."""
    plan = judgement.plan
    record, adapter = plan.find(answer.a, PLACES), adapter_of(plan, plan.find(answer.b, PLACES))
    speaker = called(plan, adapter) if adapter is not None else ""
    offered = [judgement.once(leases).offers(record) for leases in (Leases, Leases6) if record is not None]
    for offer in (offer for of in offered for offer in of):
        if offer.at == answer.b:
            yield from silenced(plan, offer, speaker)


# Apart


def _parting(judgement: Judgement, sentence: Apart, answer: Answer) -> Iterator[Offer]:
    """What keeps two from each other who hear or reach each other."""
    plan, wiring = judgement.plan, judgement.wiring
    if answer.way is not None:
        yield from _denying(plan, sentence, answer.way)
        yield from _blocking(plan, answer.way)
    places = [place for id in (answer.a, answer.b) if id and (place := wiring.place(id)) is not None]
    if answer.frame is not None and len(places) == 2:
        cut = cut_apart(wiring, places[0], places[1], answer.state)
        if cut is not None:
            yield cut
        for place in places:
            yield from _back_home(plan, place)
    for mirror in plan.where("mirror", "source", answer.a) if answer.a else ():
        if mirror.target == answer.b:
            yield f"Take away {called(plan, mirror)}", (Drop("mirror", mirror.id),)


def _denying(plan: Plan, sentence: Apart, way: Way) -> Iterator[Offer]:
    """Filter lines at a router on the way that drop what the two sides send each other; towards an outside network, what goes out where it leaves."""
    meaning = Meaning(plan)
    whom = [meaning.whom(subjects) for subjects in (sentence.a, sentence.b)]
    sides = [_subnets(plan, side.records) for side in whom]
    beyond = [plan.get("outside", id).subnets for side in whom for id in side.outside(plan)]
    outer = bool(beyond) and sentence.b[0].sort != EVERYTHING
    if outer and sides[0] and not sides[1] and all(beyond):
        sides[1], outer = tuple(sorted({net for nets in beyond for net in nets})), False
    if sentence.b[0].sort == EVERYTHING:
        sides[1] = ()
    said = [some(map(str, subjects)) for subjects in (sentence.a, sentence.b)]
    for leg, following in pairwise(way.legs):
        owner = _owner(plan, leg.to or "")
        first = min((line.order for line in plan.where("filter_line", "of", owner.id)), default=100)
        if first < 2 or not sides[0] or max(map(len, sides)) > MOST_SUBNETS:
            continue
        out = next((end for end in (following.out, leg.to) if outer and _faces_out(plan, way, end or "")), None)
        if outer and (out is None or sides[1]):
            continue
        lines = [
            FilterLine(
                id=plan.fresh_id(f"{owner.id}/deny-{first - n}"),
                of=owner.id,
                order=first - n,
                action="deny",
                sources=sources,
                targets=targets,
                leaves=out if sources else None,
                enters=out if not sources else None,
            )
            for n, (sources, targets) in enumerate((sides[::-1], sides), 1)
        ]
        yield f"Have {called(plan, owner)} drop what {said[0]} and {said[1]} send each other", tuple(map(Put, lines))


def _faces_out(plan: Plan, way: Way, interface: str) -> bool:
    """Whether it is by an interface that a way goes on to an outside network, or comes from there: the one beside it."""
    ends = {leg.out for leg in way.legs[-1:]} if plan.of("outside").get(way.legs[-1].to or "") else {way.legs[0].to}
    return interface in ends and plan.find(interface, PLACES) is not None


def _subnets(plan: Plan, records: Iterable[str]) -> tuple[str, ...]:
    """The subnets of interfaces: their segments', or else those of their addresses."""
    found: dict[str, None] = {}
    for record in (plan.find(id, PLACES) for id in records):
        segment = plan.of("segment").get(getattr(record, "belongs", None))
        for address in getattr(record, "addresses", ()):
            bound = ipaddress.ip_interface(address)
            nets = [ipaddress.ip_network(text) for text in (segment.subnets if segment is not None else ())]
            found[str(next((n for n in nets if n.version == bound.version and bound.ip in n), bound.network))] = None
    return tuple(sorted(found))


def _allowing(plan: Plan, sentence: Reach, way: Way, back: bool) -> Iterator[Offer]:
    """A filter line that lets through what another one drops."""
    stopped = plan.of("filter_line").get(way.stopped)
    if stopped is None or back:
        return
    source, target = (f"{address}/{32 if '.' in address else 128}" for address in (way.source, way.target))
    packet = Packet(sentence.protocol, sentence.port or 0) if sentence.protocol else PING
    yield from allowed(plan, stopped, source, target, packet)


def allowed(plan: Plan, stopped: FilterLine, source: str, target: str, packet: Packet) -> Iterator[Offer]:
    """A line before another one that lets a packet from one subnet to another through; none where there is no room for it."""
    before = max((o.order for o in plan.where("filter_line", "of", stopped.of) if o.order < stopped.order), default=-1)
    if stopped.order - before < 2:
        return
    line = FilterLine(
        id=plan.fresh_id(f"{stopped.of}/allow-{stopped.order - 1}"),
        of=stopped.of,
        order=(before + stopped.order) // 2 if before >= 0 else stopped.order - 1,
        action="allow",
        sources=(source,),
        targets=(target,),
        protocol=packet.protocol,
        ports=str(packet.port or ""),
    )
    what = str(packet) if packet != PING else "pings"
    owner, ends = (
        called(plan, plan.find(stopped.of)),
        (net.removesuffix("/32").removesuffix("/128") for net in (source, target)),
    )
    yield f"Have {owner} let {what} from {' to '.join(ends)} through", (Put(line),)


def _blocking(plan: Plan, way: Way) -> Iterator[Offer]:
    """Routers on a way that forward no more, and routes over which it leads."""
    target = ipaddress.ip_address(way.target)
    for leg in way.legs:
        stack = _stack_at(plan, leg.out)
        for route in dict.fromkeys(line.record for line in stack.choices(target) if line.record):
            yield f"Take away {called(plan, plan.get('route', route))}", (Drop("route", route),)
    for stack in (_stack_at(plan, leg.to) for leg in way.legs if leg.to):
        for turned in (one for one in stack.inward if one.to == way.target):
            yield f"Have {stack.name} let nothing in for {turned.to}", (Drop(turned.kind, turned.id),)
    for leg in way.legs[:-1]:
        owner = _stack_at(plan, leg.to or "").owner
        yield f"Have {called(plan, owner)} forward nothing", (Patch(owner.kind, owner.id, {"routes": False}),)


def _back_home(plan: Plan, place: Place) -> Iterator[Offer]:
    """An adapter that is moved to a port group of its own segment on its host."""
    adapter, segment = plan.of("adapter").get(place.record), plan.of("segment").get(place.segment)
    if adapter is None or segment is None or not segment.vid:
        return
    host = plan.get("guest", adapter.guest).host
    for switch in sorted(plan.where("virtual_switch", "host", host), key=lambda s: s.id):
        for group in sorted(plan.where("port_group", "switch", switch.id), key=lambda g: g.id):
            if group.mode == "access" and group.vid == segment.vid and group.id != adapter.port_group:
                title = f"Move {called(plan, adapter)} to {called(plan, group)}"
                yield title, (Patch("adapter", adapter.id, {"port_group": group.id}),)


# Reach


def _joining(judgement: Judgement, sentence: Reach, answer: Answer) -> Iterator[Offer]:
    """What brings a ping that isn't answered one step further."""
    plan = judgement.plan
    if answer.way is not None:
        yield from _blocking(plan, answer.way)
    if answer.ping is None or not answer.ping.ways or answer.ping.outcome == ANSWERED:
        return
    way = answer.ping.ways[-1]
    target = ipaddress.ip_address(way.target)
    yield from _allowing(plan, sentence, way, len(answer.ping.ways) > 1)
    yield from _letting_in(plan, sentence, answer, target)
    outside = plan.of("outside").get(answer.b)
    if not way.legs and outside is not None and len(answer.ping.ways) > 1:
        yield from _knowing(plan, outside, answer.ping.ways[0])
    elif not way.legs:
        back = len(answer.ping.ways) > 1
        here = stack_of(plan, _owner(plan, answer.b if back else answer.a))
        yield from _leading(judgement, here, target)
    elif way.legs[-1].outcome == ANSWERED and way.legs[-1].to is not None:
        here = _stack_at(plan, way.legs[-1].to)
        if not here.forwards:
            yield _forwarding(plan, here.owner)
        else:
            yield from _routing(plan, here, target)
    elif (to := way.legs[-1].to) is not None:
        yield from _waking(judgement, to)


def _letting_in(plan: Plan, sentence: Reach, answer: Answer, target: Address) -> Iterator[Offer]:
    """What has whoever is outside reach somebody whose address isn't known there: a router beside it takes what comes for its own address to be for him."""
    outside = plan.of("outside").get(answer.a)
    if outside is None or target.version != 4 or len(answer.ping.ways if answer.ping else ()) > 1:
        return
    near = set(handed_over(plan, outside))
    for stack in _routers(plan):
        for interface in stack.interfaces:
            record = plan.find(interface.record, PLACES)
            facing = getattr(record, "belongs", None) in near and any(own.version == 4 for own in interface.addresses)
            if not facing or not stack.forwards or stack.owner.id == outside.at or target in stack.own:
                continue
            port = str(sentence.port or "")
            turned = InwardTranslation(
                id=plan.fresh_id(f"{interface.record}/lets-in"),
                at=interface.record,
                protocol=sentence.protocol or "any",
                ports=port,
                to=str(target),
            )
            what = f"{sentence.protocol} {port}" if sentence.protocol else "what comes"
            yield f"Have {stack.name} let {what} in at {called(plan, record)} for {target}", (Put(turned),)


def _knowing(plan: Plan, outside: Outside, way: Way) -> Iterator[Offer]:
    """What has an outside network answer who got there: somebody translates on the way, or it knows the way back."""
    out = plan.find(way.legs[-1].out, PLACES)
    owner = owner_of(plan, out) if out is not None else None
    if out is not None and getattr(owner, "routes", False) and not plan.where("translation", "at", out.id):
        translation = Translation(id=plan.fresh_id(f"{out.id}/translation"), at=out.id)
        yield f"Have {called(plan, owner)} translate what leaves by {called(plan, out)}", (Put(translation),)
    net, station = _subnet(plan, ipaddress.ip_address(way.shown)), plan.of("station").get(outside.at)
    if station is not None:
        edit: Edit = (Patch("outside", outside.id, {"translates": True}),)
        yield f"Say that {station.name} translates what goes into {outside.name}", edit
        yield (
            f"Say that {outside.name} knows the way to {net}",
            (Patch("outside", outside.id, {"knows": (*outside.knows, net)}),),
        )
    elif out is not None:
        via = outside.via or next((bare_address(a) for a in out.addresses if (":" in a) == (":" in net)), None)  # type: ignore[attr-defined]
        if via is not None:
            known = {"knows": (*outside.knows, net), "via": via}
            yield f"Say that {outside.name} knows the way to {net} over {via}", (Patch("outside", outside.id, known),)


def _leading(judgement: Judgement, here: Stack, target: Address) -> Iterator[Offer]:
    """A gateway for a stack that has none: somebody in its subnet who forwards, or could, or a router that is plugged in."""
    plan = judgement.plan
    offered = False
    for other in _routers(plan):
        for interface in other.interfaces:
            for bound in interface.addresses:
                mine = next((i for i in here.interfaces if i.holds(bound.ip)), None)
                if (
                    mine is None
                    or other.owner.id == here.owner.id
                    or (not other.forwards and not other.choices(target))
                ):
                    continue
                offered = True
                yield from _gateway(plan, here, mine.record, str(bound.ip), other.name)
    if not offered:
        yield from _plugging(judgement, here, target)


def _gateway(plan: Plan, here: Stack, record: str, address: str, whose: str) -> Iterator[Offer]:
    """An address as the gateway of an interface's segment; of a host port with a word of its own, of that alone."""
    own = plan.find(record, PLACES)
    segment = plan.of("segment").get(getattr(own, "belongs", None))
    if segment is not None and address not in segment.gateways:
        gateways = (*segment.gateways, address)
        yield (
            f"Make {address} of {whose} a gateway of {segment.name}",
            (Patch("segment", segment.id, {"gateways": gateways}),),
        )
    elif segment is None and own is not None and hasattr(own, "gateway"):
        yield f"Make {address} of {whose} the gateway of {here.name}", (Patch(own.kind, record, {"gateway": address}),)


def _routers(plan: Plan) -> Iterator[Stack]:
    """The stacks with several interfaces that forward, and then the others."""
    owners = [o for kind in ("station", "guest") for o in sorted(plan.all(kind), key=lambda r: (not r.routes, r.id))]
    for owner in sorted(owners, key=lambda o: not o.routes):
        stack = stack_of(plan, owner)
        if len([i for i in stack.interfaces if i.addresses]) > 1:
            yield stack


def _routing(plan: Plan, here: Stack, target: Address) -> Iterator[Offer]:
    """A route over somebody in a subnet of a router, who knows the way."""
    for other in _routers(plan):
        if other.owner.id == here.owner.id or not other.choices(target):
            continue
        for bound in (b for i in other.interfaces for b in i.addresses):
            if any(i.holds(bound.ip) for i in here.interfaces) and bound.version == target.version:
                to = _subnet(plan, target)
                route = Route(
                    id=plan.fresh_id(f"{here.owner.id}/route-{bound.ip}"), of=here.owner.id, to=(to,), via=str(bound.ip)
                )
                known = next((r for r in plan.where("route", "of", here.owner.id) if r.via == str(bound.ip)), None)
                edit: Edit = (
                    (Patch("route", known.id, {"to": (*known.to, to)}),) if known is not None else (Put(route),)
                )
                yield f"Have {here.name} send what is for {to} to {bound.ip} of {other.name}", edit


def _subnet(plan: Plan, target: Address) -> str:
    """The subnet of the plan in which an address is; else the address alone."""
    nets = (ipaddress.ip_network(text) for segment in plan.all(Segment) for text in segment.subnets)
    return str(
        next((net for net in nets if net.version == target.version and target in net), ipaddress.ip_network(target))
    )


def _forwarding(plan: Plan, owner: Record) -> Offer:
    return f"Say that {called(plan, owner)} forwards between its interfaces", (
        Patch(owner.kind, owner.id, {"routes": True}),
    )


def _plugging(judgement: Judgement, here: Stack, target: Address) -> Iterator[Offer]:
    """A router between the subnets of a stack and that of an address: a virtual switch never routes."""
    plan, wiring = judgement.plan, judgement.wiring
    there = [
        s
        for s in plan.all(Segment)
        for net in map(ipaddress.ip_network, s.subnets)
        if net.version == target.version and target in net
    ]
    mine = [s for i in here.interfaces if (s := plan.of("segment").get(getattr(plan.find(i.record), "belongs", None)))]
    places = [place for i in here.interfaces if (place := wiring.place(i.record)) is not None]
    switch = switch_behind(wiring, places)
    if switch is None or not there or not mine:
        return
    wanted: dict[int, list[str]] = {}
    edit: list[Put | Patch] = []
    for segment in dict.fromkeys((mine[0], there[0])):
        address = segment.gateways[0] if segment.gateways else next_free_address(plan, segment)
        if not segment.vid or address is None or any(wiring.bearers.get(bare_address(address), ())):
            return
        wanted[segment.vid] = [bare_address(address)]
        if not segment.gateways:
            edit.append(Patch("segment", segment.id, {"gateways": (bare_address(address),)}))
    if len(wanted) == 2:
        names = f"{mine[0].name} and {there[0].name}"
        yield f"Plug a router between {names} into {switch.name}", (*plug_router(plan, switch, wanted), *edit)


def _waking(judgement: Judgement, record: str) -> Iterator[Offer]:
    """Whoever is off is started, whoever is disconnected connected."""
    plan = judgement.plan
    place = judgement.wiring.place(record)
    if place is None or not place.stand.judged or not is_idle(plan, place.endpoint):
        return
    own = plan.find(place.endpoint, ("adapter", "host_port"))
    assert own is not None
    edit: list[Patch] = []
    if own.kind == "adapter" and not plan.get("guest", own.guest).running:  # type: ignore[attr-defined]
        edit.append(Patch("guest", own.guest, {"running": True}))  # type: ignore[attr-defined]
    if not own.connected:  # type: ignore[attr-defined]
        edit.append(Patch(own.kind, own.id, {"connected": True}))
    yield f"Start or connect {called(plan, own)}", tuple(edit)


def _owner(plan: Plan, id: str) -> Record:
    record = plan.find(id)
    assert record is not None
    return owner_of(plan, record)


def _stack_at(plan: Plan, record: str) -> Stack:
    return stack_of(plan, _owner(plan, record))

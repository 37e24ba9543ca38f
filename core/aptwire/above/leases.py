"""Leases: who answers an interface that asks for an address, and with what (RFC 2131 for IPv4, RFC 8415 for IPv6).

Its question is a broadcast: whoever leases hears it on the same link, or a relay there asks a server elsewhere from an address of its own (RFC 1542
section 4, RFC 8415 section 19).  A server leases from the scope in whose subnet the address is at which it was asked, or that of the relay (RFC 2131 section 4.3.1,
RFC 8415 section 13.1).  A lease of IPv6 says neither what is on link nor the way out: whoever has one hears that from routers that advertise (RFC 8415 section 5.2, RFC 4861 section 6.3.4).
Guards of adapters drop what is sent from the port of lease servers: an answer, and what a relay or a router on the way passes on.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import ClassVar

from aptwire.above.marking import Marks
from aptwire.above.outcomes import ANSWERED, BEST_FIRST, SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import InStates, Pings, may_lease
from aptwire.above.speaking import Speaking
from aptwire.forward.parts import NOW, Place, State
from aptwire.judge.changes import Changes
from aptwire.judge.judgement import Judgement
from aptwire.judge.lease import EITHER, LEASED, NO_ANSWER, WRONG, Lease, Offer, kept_by, room_of
from aptwire.plan.kinds import LEASE, PLACES, LeaseRelay, LeaseScope, Record, Segment
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import Lines, adapter_of, forwarding, lines_of, net_of, owner_of


@dataclass(frozen=True)
class Source:
    """Somebody who would answer whoever is heard at an interface (`at`), and how far that gets by itself: ANSWERED, or what is wrong on the way to the server."""

    at: str
    server: str
    scope: LeaseScope
    relay: str
    outcome: str
    reason: str
    state: State = NOW


ASKING = {4: "addressing", 6: "addressing6"}
"""The field that says whether an interface asks for a lease, by IP version."""


def clients(plan: Plan, version: int = 4) -> list[Record]:
    """The interfaces that ask for a lease of an IP version."""
    return [record for kind in PLACES for record in plan.where(kind, ASKING[version], LEASE)]


def mac_of(plan: Plan, record: Record) -> str | None:
    """The MAC address from which an interface asks, where the plan says it."""
    adapter = adapter_of(plan, record)
    return adapter.mac if adapter is not None else None


class Leases(Speaking[Source, Offer]):
    """Who gets which lease of IPv4 in a judged plan, in every state, or in one alone (`waking`: as if everybody were on)."""

    kind = LeaseScope.kind
    asked = True
    version: ClassVar[int] = 4

    def __init__(self, judgement: Judgement, state: State | None = None, waking: bool = False) -> None:
        super().__init__(judgement, state, waking)
        self.far = Pings(judgement, leasing=True, waking=waking)
        self.marks = Marks(judgement, state)
        self._leases: dict[tuple[object, ...], Lease] = {}
        # How what a relay asks fares, by where it is, its address and the server's, and by whose lines that was found.
        self._ways: dict[tuple[str, str, str], tuple[InStates, Lines]] = {}

    @staticmethod
    def lies(record: LeaseScope | None) -> tuple[str, str] | None:
        """Who leases, and where."""
        return (record.of, record.subnet) if record is not None else None

    @staticmethod
    def concerned(got: Lease, said: frozenset[str]) -> bool:
        """Whoever is offered something of these scopes; whoever hears nobody names whom he ought to hear, by what is said elsewhere."""
        return not got.heard or not said.isdisjoint(got.said)

    @staticmethod
    def rests(source: Source) -> LeaseScope:
        """A scope."""
        return source.scope

    @staticmethod
    def renewed(source: Source, record: LeaseScope) -> Source:
        """The same from another scope."""
        return replace(source, scope=record)

    def received(self, source: Source, outcome: str, reason: str, state: State) -> Offer:
        """What a source offers to whoever hears it so, and it him."""
        return Offer(source.server, source.at, source.relay, source.scope, "", outcome, reason, state)

    def after(self, before: Speaking[Source, Offer], changes: Changes) -> frozenset[str] | None:
        """As of everybody who speaks; where switches mark questions, it hangs on more than that."""
        assert isinstance(before, Leases)
        return None if self.marks.switches or before.marks.switches else super().after(before, changes)

    @cached_property
    def tabled(self) -> frozenset[str]:
        """Who leases, relays or forwards (owners)."""
        routers = (owner.id for owner in forwarding(self.plan))
        relaying = (
            owner_of(self.plan, record).id for record in map(self.plan.find, self._relaying) if record is not None
        )
        return frozenset((*routers, *relaying, *(scope.of for scope in self.scopes)))

    def of(self, record: Record) -> Lease:
        """What an interface that asks gets; those that stand alike on a segment, and for whom nothing is kept, get the same."""
        place = self.wiring.place(record.id)
        if place is None or place.context < 0:
            return Lease(NO_ANSWER, (), f"{called(self.plan, record)} isn’t attached to anything")
        near = self.heard(place)
        mac = mac_of(self.plan, record)
        kept = tuple(self._kept[offer.scope.id].get(mac or "", "") for offer in near)
        # Nobody hears himself, and what becomes of a mark hangs on the way of each one's question.
        own = any(offer.at == record.id for offer in near) or bool(self.marks.switches)
        key = (id(near), place.segment, kept, mac is None, self.voices.loose(place.stand) if not near else False)
        known = self._leases.get(key)
        if known is None or own:
            known = self._weigh(place, self.offers(record))
            if not own:
                self._leases[key] = known
        return known

    def offers(self, record: Record) -> list[Offer]:
        """What is said to an interface where it asks, whether it does or not, what it hears first; nothing where it isn't attached to anything."""
        place = self.wiring.place(record.id)
        if place is None or place.context < 0:
            return []
        mac = mac_of(self.plan, record)
        made = (made for offer in self.heard(place) for made in self._fitting(offer, record, mac))
        return sorted((self._marked(offer, record) for offer in made), key=_rank)

    def _marked(self, offer: Offer, record: Record) -> Offer:
        """An offer, with what becomes of the question on its way for its mark."""
        if not self.marks.switches or self.version == 6 or offer.outcome == SILENT:
            return offer
        outcome, reason, state = self.marks.taken(record.id, offer.at, offer.relay)
        worse = BEST_FIRST.index(outcome) > BEST_FIRST.index(offer.outcome)
        return replace(offer, outcome=outcome, reason=reason, state=state) if worse else offer

    @cached_property
    def _kept(self) -> dict[str, dict[str, str]]:
        """By scope, what it keeps for each MAC address: an address with prefix length."""
        return {scope.id: kept_by(scope) for scope in self.scopes}

    @cached_property
    def scopes(self) -> list[LeaseScope]:
        """What is leased of its IP version, by id."""
        return sorted((scope for scope in self.plan.all(LeaseScope) if self.mine(scope.subnet)), key=lambda s: s.id)

    def mine(self, text: str) -> bool:
        """Whether an address, or a subnet, is of the IP version that is asked about."""
        return (":" in text) == (self.version == 6)

    @cached_property
    def sources(self) -> list[Source]:
        """Everybody who leases, or asks for others, by interface."""
        return sorted([*self._servers(), *self._relays()], key=lambda s: (s.at, s.scope.id))

    def _servers(self) -> Iterator[Source]:
        for scope in self.scopes:
            net = ipaddress.ip_network(scope.subnet)
            for interface in self._stack(scope.of).interfaces:
                if any(own.ip in net for own in interface.addresses):
                    outcome, reason = self._speaks(interface.record, may_lease, "answers")
                    if outcome == ANSWERED and interface.record in self._relaying:
                        outcome, reason = UNPROVEN, self._both(interface.record)
                    yield Source(interface.record, scope.of, scope, "", outcome, reason)

    def _relays(self) -> Iterator[Source]:
        for relay in sorted(self.plan.all(LeaseRelay), key=lambda r: r.id):
            record = self.plan.find(relay.at, PLACES)
            assert record is not None
            own = [ipaddress.ip_interface(a).ip for a in record.addresses if self.mine(a)]  # type: ignore[attr-defined]
            outcome, reason = self._speaks(relay.at, may_lease, "answers")
            owner = owner_of(self.plan, record).id
            both = self._both(relay.at) if own and self._scope_of(owner, own[0]) is not None else ""
            for to in filter(self.mine, relay.to) if own else ():
                for server, doubt in self._asked(owner, to):
                    scope = self._scope_of(server, own[0])
                    if scope is None:
                        continue
                    found = InStates(outcome, reason, (), ())
                    if outcome == ANSWERED:
                        found = self._way(relay.at, own[0], to)
                    yield Source(relay.at, server, scope, relay.id, *self._carried(found, server, doubt or both))

    def _way(self, at: str, own: ipaddress.IPv4Address | ipaddress.IPv6Address, to: str) -> InStates:
        """How what a relay at an interface asks from its address there fares on its way to a server's; as before where nothing is said otherwise of whom it passes."""
        key = at, str(own), to
        known = self._ways.get(key)
        if known is None or lines_of(self.plan, known[1]) != known[1]:
            self.far.passed.clear()
            found = self.far.in_states(partial(self.far.relayed, at, own, ipaddress.ip_address(to)), self.state)
            known = self._ways[key] = found, lines_of(self.plan, self.far.passed)
        return known[0]

    def take_over(self, before: Leases) -> None:
        """Keep how relays fared."""
        self._ways = dict(before._ways)

    def _asked(self, owner: str, to: str) -> Iterator[tuple[str, str]]:
        """Whom a relay of somebody asks at an address: whoever has it, and those whom they may ask on (RFC 1542 section 4.1.1), since they relay too;
        and what isn't known of it."""
        known = {owner_of(self.plan, record).id for record in self._bearers(to)}
        onward = {address for id in known for address in self._onward.get(id, ())}
        for server in sorted(known):
            yield server, f"{self._called(owner)} asks itself" if server == owner else ""
        while onward:
            further = {
                owner_of(self.plan, record).id for address in onward for record in self._bearers(address)
            } - known
            yield from (
                (server, "what it asks relays too, and nobody says whom it asks on") for server in sorted(further)
            )
            known |= further
            onward = {address for id in further for address in self._onward.get(id, ())}

    @cached_property
    def _onward(self) -> dict[str, list[str]]:
        """The addresses that somebody (an owner) asks as a relay."""
        found: dict[str, list[str]] = {}
        for relay in self.plan.all(LeaseRelay):
            at = self.plan.find(relay.at, PLACES)
            if at is not None:
                found.setdefault(owner_of(self.plan, at).id, []).extend(filter(self.mine, relay.to))
        return found

    def _carried(self, found: InStates, server: str, doubt: str) -> tuple[str, str, State]:
        """How a relay's question to a server fares; `doubt`: what isn't known of it, if it gets anywhere."""
        if found.outcome == SILENT:
            return SILENT, found.reason, NOW
        if doubt:
            return UNPROVEN, doubt, NOW
        last = next((way.legs[-1].to for way in found.ways[:1] if way.legs), None) or ""
        reached = self.plan.find(last, PLACES)
        if found.outcome == ANSWERED and (reached is None or owner_of(self.plan, reached).id != server):
            return SILENT, f"{self._called(server)} isn’t who gets what is relayed to it", NOW
        # Where it comes in may differ between states.
        entered = [i.record for i in self._stack(server).interfaces] if found.differs else [last]
        relaying = next((record for record in entered if record in self._relaying), None)
        if relaying is not None:
            return UNPROVEN, self._both(relaying), NOW
        return found.outcome, found.reason, found.failing

    @cached_property
    def _relaying(self) -> frozenset[str]:
        """The interfaces at which somebody relays."""
        return frozenset(relay.at for relay in self.plan.all(LeaseRelay))

    def _both(self, record: str) -> str:
        """What isn't known of an interface at which somebody leases and relays."""
        return f"{self._name(record)} both leases and relays, and nobody says which it does"

    def _fitting(self, offer: Offer, record: Record, mac: str | None) -> Iterator[Offer]:
        """An offer as it is made to somebody: of what is kept for him, or from the pool."""
        if offer.at == record.id:
            return
        scope = offer.scope
        address = self._kept[scope.id].get(mac or "", "")
        if not address and room_of(scope) <= 0:
            who = f"{self._called(offer.server)} keeps its addresses of {scope.subnet} for others"
            if mac is None and scope.kept:
                outcome = UNPROVEN if offer.outcome != SILENT else SILENT
                yield replace(
                    offer,
                    outcome=outcome,
                    reason=f"{who}, unless its MAC address is one of theirs, which the plan doesn’t say",
                )
            else:
                yield replace(offer, outcome=SILENT, reason=who)
        else:
            yield replace(offer, address=address)

    def _weigh(self, place: Place, offers: list[Offer]) -> Lease:
        """What comes of all that is offered to an interface."""
        segment = self.plan.of("segment").get(place.segment or "")
        heard = [offer for offer in offers if offer.outcome != SILENT]
        told = tuple(offers)
        if not heard:
            return self._unheard(place, segment, told)
        judged = [(offer, self._misfit(segment, offer)) for offer in heard]
        good = [offer for offer, wrong in judged if not wrong]
        bad = [(offer, wrong) for offer, wrong in judged if wrong]
        sure = any(offer.outcome == ANSWERED for offer in heard)
        surely = next(((offer, wrong) for offer, wrong in bad if offer.outcome != UNPROVEN), None)
        if surely is not None and good:
            offer, wrong = surely
            why = f"{self._called(good[0].server)} leases it an address too, and who is quicker is taken: {wrong}"
            return Lease(EITHER, told, why, NOW, offer.at)
        if bad and good:
            # Whether the one who would lease it a wrong address is heard isn't known.
            return Lease(UNPROVEN, told, f"{bad[0][1]}, and {bad[0][0].reason}", NOW, bad[0][0].at)
        if bad and sure:
            return Lease(WRONG, told, bad[0][1], NOW, bad[0][0].at)
        if good and sure:
            return Lease(LEASED, told, "")
        first = next((offer for offer in heard if offer.outcome == UNPROVEN), heard[0])
        if first.outcome == UNPROVEN or bad:
            return Lease(UNPROVEN, told, first.reason or bad[0][1], NOW, first.at)
        return Lease(WAVERS, told, first.reason, first.state, first.at)

    def _misfit(self, segment: Segment | None, offer: Offer) -> str:
        """Why an offer is none for a segment; empty where it is."""
        if segment is None:
            return ""
        name, scope = self._called(offer.server), offer.scope
        if any(map(self.mine, segment.subnets)) and scope.subnet not in segment.subnets:
            return f"{name} leases addresses in {scope.subnet}, which is no subnet of {segment.name}"
        gateways = [address for address in segment.gateways if self.mine(address)] if self.version == 4 else []
        if gateways and not set(scope.gateways) & set(gateways):
            handed = f"hands out {some(sorted(scope.gateways))}" if scope.gateways else "hands out no gateway"
            return f"{name} {handed}, and the gateway of {segment.name} is {some(gateways)}"
        return ""

    def _unheard(self, place: Place, segment: Segment | None, offers: tuple[Offer, ...]) -> Lease:
        """Why nobody answers an interface."""
        servers = list(filter(self.mine, segment.lease_servers)) if segment is not None else []
        subnets = list(filter(self.mine, segment.subnets)) if segment is not None else []
        meant = [s for s in self.sources if s.scope.subnet in subnets]
        if self.voices.loose(place.stand):
            return Lease(
                UNPROVEN,
                offers,
                "nobody in the plan answers, and its frames get somewhere of which nobody said what is behind it",
            )
        for address in servers:
            owners = {owner_of(self.plan, record).id for record in self._bearers(address)}
            if not any(self._scopes(owner) for owner in owners):
                name = self._called(min(owners)) if owners else address
                what = "what it leases" if owners else "who that is"
                return Lease(UNPROVEN, offers, f"its lease server is {name}, and the plan doesn’t say {what}")
        silent = next((offer for offer in offers if offer.reason), None)
        if silent is not None:
            return Lease(NO_ANSWER, offers, silent.reason, silent.state, silent.at)
        if meant:
            source = min(meant, key=lambda s: (s.outcome != ANSWERED, s.at))
            return Lease(NO_ANSWER, offers, f"it isn’t heard at {self._name(source.at)}", NOW, source.at)
        for relay in sorted(self.plan.all(LeaseRelay), key=lambda r: r.id):
            unknown = next((to for to in filter(self.mine, relay.to) if not self.wiring.bearers.get(to)), None)
            if segment is not None and unknown and getattr(self.plan.find(relay.at), "belongs", None) == segment.id:
                why = f"{self._name(relay.at)} asks {unknown}, which nobody in the plan has"
                return Lease(UNPROVEN, offers, why, NOW, relay.at)
        if servers:
            return Lease(
                NO_ANSWER,
                offers,
                f"its lease server, {servers[0]}, leases nothing in {some(subnets) or 'a subnet of its segment'}",
            )
        return Lease(UNPROVEN, offers, "the plan doesn’t say who leases addresses there")

    def _bearers(self, address: str) -> Iterable[Record]:
        found = (self.plan.find(record, PLACES) for record in self.wiring.bearers.get(address, ()))
        return [record for record in found if record is not None]

    def _scope_of(self, owner: str, address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> LeaseScope | None:
        """The scope from which somebody leases to a relay with an address."""
        return next((s for s in self._scopes(owner) if address in net_of(s.subnet)), None)

    def _scopes(self, owner: str) -> list[LeaseScope]:
        return sorted(
            (s for s in self.plan.where("lease_scope", "of", owner) if self.mine(s.subnet)), key=lambda s: s.id
        )


class Leases6(Leases):
    """Who gets which lease of IPv6."""

    version = 6


def _rank(offer: Offer) -> tuple[int, str, str]:
    return BEST_FIRST.index(offer.outcome), offer.at, offer.scope.id

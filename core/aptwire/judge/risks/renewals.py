"""Leases that are got over a relay and can't be renewed: whoever has one asks the server itself from then on, past the relay (RFC 2131 section 4.4.5).

Of IPv6 everybody is asked then, too, relays among them (RFC 8415 section 18.2.4), so that there is nothing to tell.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Set
from functools import partial
from operator import attrgetter
from typing import Any

from aptwire.above.leases import Leases, Source
from aptwire.above.outcomes import ANSWERED, SILENT, WAVERS
from aptwire.above.ping import LEASING, Ping, Pings, may_lease
from aptwire.judge.causes import spoken
from aptwire.judge.gotten import gotten
from aptwire.judge.ground import Ground, blocks_of
from aptwire.judge.lease import LEASED
from aptwire.judge.risks.base import UNTIDY, Risk, RiskSearch
from aptwire.judge.why import is_idle
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import LEASE, PLACES, Record
from aptwire.plan.names import called
from aptwire.plan.sentences import quoted
from aptwire.plan.stacks import lines_of, owner_of
from aptwire.rules.mending import allowed, rule_offers

ASKED = LEASING[4]
_Kept = dict[tuple[str, str], tuple[Risk | None, Ground]]


class RenewalRisks(RiskSearch):
    """Who has an address over a relay, and whom the server doesn't hear by himself, or doesn't answer so that he hears it."""

    def renewals(self) -> Iterator[Risk]:
        """One for each relay and server; an answer of before stands where an edit left alone what it rests on."""
        if not self.plan.of("lease_relay"):
            return
        leases, answers, pings = self.judgement.once(Leases), self.judgement.answered, Pings(self.judgement)
        sending = self._where(leases, leases.tabled)
        known, changes = answers.before.get("renewals", ({}, None))
        kept: _Kept = {}
        for source in leases.sources:
            if not source.relay or source.outcome not in (ANSWERED, WAVERS):
                continue
            key = (source.relay, source.server)
            before = known.get(key)
            if before is not None and before[1].holds(self.judgement, changes, leases.tabled):
                kept[key] = before
            elif (record := self._renewing(source)) is not None:
                pings.passed.clear()
                risk = self._renewal(leases, pings, source, record)
                kept[key] = risk, self._ground(leases, sending, source, record, pings.passed)
        answers.answers["renewals"] = kept
        yield from (risk for risk, _ in kept.values() if risk is not None)

    def _renewing(self, source: Source) -> Any:
        """One (an interface) who has a lease of a server over a relay; None where nobody has."""
        segment = getattr(self.plan.find(source.at, PLACES), "belongs", None)
        asking: Iterable[Any] = (
            r for kind in PLACES for r in self.plan.where(kind, "belongs", segment) if r.addressing == LEASE
        )
        for record in sorted(asking if segment else (), key=attrgetter("id")):
            lease = self.judgement.leases.get(record.id)
            awake = record.kind == "station_port" or not is_idle(self.plan, record.id)
            if lease is None or lease.outcome != LEASED or not awake:
                continue
            if any((offer.relay, offer.server) == (source.relay, source.server) for offer in lease.heard):
                return record
        return None

    def _renewal(self, leases: Leases, pings: Pings, source: Source, record: Any) -> Risk | None:
        relay = self.plan.get("lease_relay", source.relay)
        address = next(to for to in relay.to if ":" not in to and to in leases.addresses(source.server))
        found = pings.ask(record.id, address, packet=ASKED)
        reason, guard = self._unheard(found)
        if not reason:
            return None
        line = found.ways[0].stopped if len(found.ways) == 1 else ""
        client, server = (called(self.plan, r) for r in (record, self.plan.find(source.server)))
        segment = record.belongs
        return Risk(
            UNTIDY,
            "lost-renewal",
            (source.relay, source.server),
            f"Who gets a lease on {self.plan.get('segment', segment).name} can’t renew it at {server}",
            f"To renew it, one asks the server itself, past the relay. {reason} Until nearly all of its time is over, nobody else is asked.",
            (source.relay, source.scope.id),
            segment=segment,
            facts=(
                self.fact(source.relay, f"asks {address}", f"it gets {client} a lease"),
                self.fact(record.id, f"renews at {address}", reason),
            ),
            mends=partial(_offers, id=record.id, server=source.server, address=address, guard=guard, line=line),
        )

    def _unheard(self, found: Ping) -> tuple[str, str]:
        """Why a renewal isn't answered (empty where it is, or may be), and the adapter (id) at which a guard drops the answer."""
        if found.outcome in (SILENT, WAVERS):
            return found.sentence, ""
        for leg in found.ways[1].legs if found.outcome == ANSWERED and len(found.ways) > 1 else ():
            adapter = self.adapter_of(leg.out)
            if adapter is not None and not may_lease(self.plan, adapter):
                name = called(self.plan, self.plan.find(leg.out))
                return (
                    f"Its answer is lost: a guard drops what {name} sends from the port of lease servers.",
                    adapter.id,
                )
        return "", ""

    def _where(self, leases: Leases, owners: Iterable[str], *more: str) -> tuple[frozenset[str], frozenset[int]]:
        """The blocks in which the interfaces of some owners, and some more, stand, and the VID classes that they speak there."""
        found = filter(None, map(self.plan.find, owners))
        standing = {*more, *(i.record for owner in found for i in leases.near.stack(owner).interfaces)}
        return blocks_of(place.stand for place in map(self.wiring.place, standing) if place is not None)

    def _ground(
        self,
        leases: Leases,
        sending: tuple[frozenset[str], frozenset[int]],
        source: Source,
        record: Record,
        passed: Set[str],
    ) -> Ground:
        """What it rests on whether somebody renews; `sending`: where those stand who lease, relay or forward; `passed`: whose stacks (owners) were asked."""
        owner = owner_of(self.plan, record).id
        blocks, classes = self._where(leases, [owner], record.id, source.at)
        nobody = frozenset[str]()
        return Ground(
            frozenset((record.id, source.at)),
            leases.tabled.union(passed, [owner]),
            frozenset((record.belongs,)),  # type: ignore[attr-defined]
            False,
            False,
            nobody,
            blocks | sending[0],
            classes | sending[1],
            self.wiring.bearers,
            gotten(self.judgement),
            leases.tabled,
            lines_of(self.plan, passed),
        )


def _offers(look: RiskSearch, **said: str) -> tuple[tuple[str, Edit], ...]:
    return tuple(_hearing(look, **said))


def _hearing(look: RiskSearch, id: str, server: str, address: str, guard: str, line: str) -> Iterator[tuple[str, Edit]]:
    """What lets an interface and a server hear each other past the relay: a guard that opens, a filter line before the one that stops it, else whatever lets them
    reach each other."""
    plan = look.plan
    record, other, held = plan.find(id, PLACES), plan.find(server), plan.of("adapter").get(guard)
    if record is None or other is None:
        return
    if held is not None:
        yield f"Let {spoken(plan, held.id)} serve leases", (Patch("adapter", held.id, {"serve_leases": True}),)
        return
    stopping = plan.of("filter_line").get(line)
    if stopping is not None:
        subnet = next(offer.scope.subnet for offer in look.judgement.leases[id].heard if offer.server == server)
        yield from allowed(plan, stopping, subnet, f"{address}/32", ASKED)
        return
    names = (f"{r.kind} {quoted(str(getattr(r, 'name', '')))}" for r in (owner_of(plan, record), other))
    yield from rule_offers(look.judgement, f"let {' reach '.join(names)} on {ASKED}")

"""Lease servers that nobody bears, whom a guard holds back, or who lease what isn't theirs; pools that are too small or that others have a part of."""

from __future__ import annotations

import ipaddress
from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator
from functools import cached_property
from itertools import chain

from aptwire.above.leases import ASKING, Leases, Leases6, Source
from aptwire.above.outcomes import ANSWERED, SILENT
from aptwire.above.ping import may_lease
from aptwire.judge.lease import room_of
from aptwire.judge.leasing import silenced
from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch, without
from aptwire.plan.edits import Drop, Edit, Patch
from aptwire.plan.fields import Range, numbers, range_of, range_text
from aptwire.plan.kinds import LEASE, PLACES, LeaseRelay, LeaseScope, Segment
from aptwire.plan.names import called, some
from aptwire.plan.stacks import ends_of


class LeaseRisks(RiskSearch):
    """What will go wrong with leases, whoever asks for them."""

    @cached_property
    def leases(self) -> tuple[Leases, Leases]:
        """Who leases what, and where that is heard, of either IP version."""
        return self.judgement.once(Leases), self.judgement.once(Leases6)

    @cached_property
    def sources(self) -> list[tuple[Leases, Source]]:
        """Everybody who leases, or asks for others, with those of his IP version."""
        return [(of, source) for of in self.leases if of.scopes for source in of.sources]

    @cached_property
    def scopes(self) -> list[LeaseScope]:
        """Every scope, by id."""
        return sorted(self.plan.all(LeaseScope), key=lambda s: s.id)

    def lease_servers(self) -> Iterator[Risk]:
        """Lease servers that nobody bears, or that a guard keeps from answering."""
        for segment in sorted((s for s in self.plan.all(Segment) if s.lease_servers), key=lambda s: s.id):
            for address in segment.lease_servers:
                bearers = sorted(self.wiring.bearers.get(address, ()))
                if not bearers:
                    yield Risk(
                        UNTIDY,
                        "no-lease-server",
                        (segment.id, address),
                        f"Nobody in the plan bears the lease server of {segment.name}",
                        f"Whether {address} answers can’t be known; it may be outside the plan.",
                        (segment.id,),
                        segment=segment.id,
                        facts=(self.fact(segment.id, f"lease server {address}", "nobody bears it"),),
                        mends=(without(segment, "lease_servers", address),),
                    )
                for record in bearers:
                    yield from self._held_back(segment, address, record)

    def _held_back(self, segment: Segment, address: str, bearer: str) -> Iterator[Risk]:
        """That a guard keeps a lease server from answering, where it is one on an adapter behind one."""
        adapter = self.adapter_of(bearer)
        group = self.plan.of("port_group").get(adapter.port_group) if adapter is not None else None
        if adapter is None or group is None or may_lease(self.plan, adapter):
            return
        name = self.plan.get("guest", adapter.guest).name
        yield Risk(
            RISK,
            "held-lease-server",
            (segment.id, adapter.id),
            f"{name} leases the addresses of {segment.name}, and a guard drops its answers",
            f"{called(self.plan, group)} doesn’t let its adapters serve leases.",
            (adapter.id,),
            segment=segment.id,
            facts=(self.fact(adapter.id, f"lease server {address}", "may not serve leases"),),
            mends=(
                (f"Let {adapter.name} of {name} serve leases", (Patch("adapter", adapter.id, {"serve_leases": True}),)),
            ),
        )

    def strays(self) -> Iterator[Risk]:
        """Who answers on a segment that isn't one of those whose addresses he leases, or that names others as its servers."""
        told: set[tuple[str, str]] = set()
        for leases, source in self.sources:
            record = self.plan.find(source.at, PLACES)
            segment = self.plan.of("segment").get(getattr(record, "belongs", None))
            if segment is None or source.outcome == SILENT or (source.server, segment.id) in told:
                continue
            why = self._stray(leases, source, segment)
            if why:
                told.add((source.server, segment.id))
                yield self._told_stray(source, segment, why)

    def _stray(self, leases: Leases, source: Source, segment: Segment) -> str:
        """Why somebody's answers on a segment are a stranger's; empty where they aren't."""
        if any(map(leases.mine, segment.subnets)) and source.scope.subnet not in segment.subnets:
            return f"it leases addresses in {source.scope.subnet}, which is no subnet of {segment.name}"
        named = list(filter(leases.mine, segment.lease_servers))
        if named and leases.addresses(source.server).isdisjoint(named):
            return f"{segment.name} names {some(named)} as its lease server"
        return ""

    def _told_stray(self, source: Source, segment: Segment, why: str) -> Risk:
        name, adapter = called(self.plan, self.plan.find(source.server)), self.adapter_of(source.at)
        speaker = called(self.plan, adapter) if adapter is not None else ""
        return Risk(
            RISK,
            "stray-lease-server",
            (source.server, segment.id),
            f"{name} answers who asks for a lease on {segment.name}, and isn’t its lease server",
            f"{why[:1].upper()}{why[1:]}; who is quicker is taken.",
            (source.scope.id, source.at),
            segment=segment.id,
            facts=(self.fact(source.at, f"leases {source.scope.subnet}", why),),
            mends=tuple(silenced(self.plan, source, speaker)),
        )

    def pools(self) -> Iterator[Risk]:
        """Addresses of pools that somebody has already, or that are leased twice; and pools with less room than there are who ask."""
        ranges = [(range_of(text), scope) for scope in self.scopes for text in scope.pool]
        if not ranges:
            return
        for scope, held in self._taken(ranges).items():
            addresses = some([f"{address} ({called(self.plan, self.plan.find(id))})" for address, id in held])
            yield Risk(
                RISK,
                "taken-lease",
                (scope,),
                f"{called(self.plan, self.plan.get('lease_scope', scope))} leases addresses that somebody has already",
                f"{addresses}: whoever gets the same is a twin.",
                (scope,),
                tuple(id for _, id in held if self.plan.find(id, ("adapter", "host_port")) is not None),
                facts=tuple(self.fact(id, f"has {address}", "it is leased too") for address, id in held),
                mends=(self._cut(scope, [address for address, _ in held]),),
            )
        yield from self._doubled(ranges)
        yield from self._narrow()

    def _taken(self, ranges: list[tuple[Range, LeaseScope]]) -> dict[str, list[tuple[str, str]]]:
        """By scope: the addresses of its pool that are somebody's own, and whose (an interface)."""
        found: dict[str, list[tuple[str, str]]] = {}
        ordered = sorted(ranges, key=lambda one: one[0])
        starts = [(version, first) for (version, first, _), _ in ordered]
        widest = max((last - first for (_, first, last), _ in ranges), default=0)
        for address, records in self.wiring.bearers.items():
            version, number = (6 if ":" in address else 4), numbers(f"{address}/{128 if ':' in address else 32}")[1]
            # Of those that begin before it, near enough to hold it.
            at = bisect_right(starts, (version, number))
            while at and starts[at - 1] >= (version, number - widest):
                at -= 1
                (_, _, last), scope = ordered[at]
                there = self._worlds_of(scope) if number <= last and self.worlds else None
                bearing = (id for id in sorted(records) if there is None or self._world(id) in there)
                if number <= last and (bearer := next(bearing, None)) is not None:
                    found.setdefault(scope.id, []).append((address, bearer))
        return {scope: sorted(held) for scope, held in sorted(found.items())}

    def _world(self, interface: str) -> str | None:
        """The world of an interface."""
        return self.worlds.get(getattr(self.plan.find(interface), "belongs", None) or "")

    def _worlds_of(self, scope: LeaseScope) -> frozenset[str | None]:
        """The worlds in which whoever leases a scope has an interface."""
        owner = self.plan.find(scope.of)
        ends = ends_of(self.plan, owner) if owner is not None else ()
        return frozenset(self._world(end.id) for end in ends if getattr(end, "belongs", None))

    def _cut(self, scope: str, addresses: list[str]) -> tuple[str, Edit]:
        """The edit that takes some addresses out of a scope's pool."""
        left: list[str] = []
        out = sorted(int(ipaddress.ip_address(a)) for a in addresses)
        found = self.plan.get("lease_scope", scope)
        for version, first, last in map(range_of, found.pool):
            for end in [*(n for n in out if first <= n <= last), last + 1]:
                if first < end:
                    left.append(range_text(first, end - 1, version))
                first = end + 1
        return f"Take {some(addresses)} out of the pool", (Patch("lease_scope", scope, {"pool": left}),)

    def _doubled(self, ranges: list[tuple[Range, LeaseScope]]) -> Iterator[Risk]:
        """Pools of two who lease that have a part in common: neither knows what the other one leased."""
        told: set[tuple[str, str]] = set()
        ordered = sorted(ranges, key=lambda one: (one[0], one[1].id))
        widest: tuple[Range, LeaseScope] | None = None
        for (version, first, last), scope in ordered:
            if widest is not None and widest[0][0] == version and first <= widest[0][2] and widest[1].of != scope.of:
                if self._worlds_of(widest[1]).isdisjoint(self._worlds_of(scope)):
                    continue
                pair = (widest[1].id, scope.id)
                if pair not in told:
                    told.add(pair)
                    names = [called(self.plan, self.plan.find(s.of)) for s in (widest[1], scope)]
                    common = range_text(first, first, version)
                    yield Risk(
                        RISK,
                        "doubled-pool",
                        tuple(sorted(pair)),
                        f"{some(sorted(names))} lease the same addresses",
                        f"From {common} on, neither knows what the other one has leased.",
                        pair,
                        facts=tuple(
                            self.fact(s.id, ", ".join(s.pool), f"{common} is in both") for s in (widest[1], scope)
                        ),
                        mends=tuple(
                            (f"Take away {called(self.plan, s)}", (Drop("lease_scope", s.id),))
                            for s in (scope, widest[1])
                        ),
                    )
            if widest is None or widest[0][0] != version or last > widest[0][2]:
                widest = ((version, first, last), scope)

    def _narrow(self) -> Iterator[Risk]:
        """Pools with less room than there are who get their address from them alone."""
        asking: Counter[str] = Counter()
        members = self.judgement.members()
        there: Counter[str] = Counter()
        for segment in self.plan.all(Segment):
            there.update(dict.fromkeys(segment.subnets, members.get(segment.id, 0)))
        # Where a segment doesn't say its subnets, any scope may be its own.
        unsaid = any(self._asks(segment) for segment in self.plan.all(Segment) if not segment.subnets)
        every = self.judgement.leases, self.judgement.leases6
        most = sum(map(len, every)) if unsaid else 0
        tight = {scope.id for scope in self.scopes if room_of(scope) < max(most, there[scope.subnet])}
        for lease in chain.from_iterable(of.values() for of in every) if tight else ():
            heard = lease.heard
            if len(heard) == 1 and heard[0].outcome == ANSWERED and not heard[0].address:
                asking[heard[0].scope.id] += 1
        for scope in self.scopes:
            room = room_of(scope)
            if asking[scope.id] > room:
                name = called(self.plan, scope)
                yield Risk(
                    RISK,
                    "narrow-pool",
                    (scope.id,),
                    f"{name[:1].upper()}{name[1:]} has too few addresses",
                    f"{asking[scope.id]} get theirs from it, and its pool has {room} that are kept for nobody.",
                    (scope.id,),
                    facts=(self.fact(scope.id, ", ".join(scope.pool), f"{asking[scope.id]} ask"),),
                )

    def _asks(self, segment: Segment) -> bool:
        """Whether somebody on a segment asks for a lease."""
        asking = (r for kind in PLACES for r in self.plan.where(kind, "belongs", segment.id))
        return any(LEASE in (getattr(r, field) for field in ASKING.values()) for r in asking)

    def unasked(self) -> Iterator[Risk]:
        """Scopes of which nobody can ask, and relays that ask nobody who leases anything there."""
        used = {source.scope.id for _, source in self.sources}
        for scope in self.scopes:
            if scope.id not in used:
                owner = called(self.plan, self.plan.find(scope.of))
                yield Risk(
                    UNTIDY,
                    "unasked-scope",
                    (scope.id,),
                    f"Nobody can ask {owner} for an address in {scope.subnet}",
                    "None of its interfaces has an address there, and no relay that asks it.",
                    (scope.id,),
                    facts=(self.fact(scope.id, f"leases {scope.subnet}", "no interface and no relay"),),
                    mends=((f"Take away {called(self.plan, scope)}", (Drop("lease_scope", scope.id),)),),
                )
        relayed = {source.relay for _, source in self.sources}
        for relay in sorted(self.plan.all(LeaseRelay), key=lambda r: r.id):
            if relay.id not in relayed:
                where = called(self.plan, self.plan.find(relay.at))
                yield Risk(
                    RISK,
                    "lost-relay",
                    (relay.id,),
                    f"The lease relay at {where} asks nobody who leases addresses there",
                    f"{some(list(relay.to))} has no scope in whose subnet the address of {where} is.",
                    (relay.id,),
                    facts=(self.fact(relay.id, f"asks {', '.join(relay.to)}", "nothing is leased there"),),
                    mends=((f"Take away {called(self.plan, relay)}", (Drop("lease_relay", relay.id),)),),
                )

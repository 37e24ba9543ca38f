"""What an interface that asks for a lease gets, as values (RFC 2131, RFC 8415); how it is found is told in `above/leases.py`."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from aptwire.above.outcomes import SILENT
from aptwire.forward.parts import NOW, State
from aptwire.plan.fields import end_of, numbers, range_of
from aptwire.plan.kinds import LeaseScope
from aptwire.plan.layers import layered, perhaps_differing
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import Address, Held, told_apart

LEASED, NO_ANSWER, WRONG, EITHER = LEASES = ("leased", "no answer", "wrong", "either")
"""What becomes of a question, beside *wavers* and *unproven*: an address of its own segment; none; one that is not; one or the other."""


@dataclass(frozen=True)
class Offer:
    """What a server says to an interface that asks: `server` a guest, station or host, heard `at` an interface (a record), over a `relay` (a record, or
    empty), from a `scope`; `address` with prefix length where it is kept for whoever asks, else empty; and whether it is heard (ANSWERED, WAVERS, UNPROVEN, SILENT), and why
    not; `state` is the first in which it isn't."""

    server: str
    at: str
    relay: str
    scope: LeaseScope
    address: str
    outcome: str
    reason: str
    state: State = NOW

    def to_json(self) -> dict[str, Any]:
        """The offer for a program."""
        made = {name: getattr(self, name) for name in ("server", "at", "relay", "address", "outcome", "reason")}
        scope = self.scope
        return {
            **made,
            "scope": scope.id,
            "subnet": scope.subnet,
            "pool": list(scope.pool),
            "gateways": list(scope.gateways),
        }


@dataclass(frozen=True)
class Lease:
    """What an interface that asks gets: LEASED, NO_ANSWER, WRONG, EITHER, WAVERS or UNPROVEN, and why; whatever is `offered` to it, those first that are heard; the
    `state` in which it gets none, and whose answer (a record) it ought to hear."""

    outcome: str
    offered: tuple[Offer, ...]
    reason: str
    state: State = NOW
    towards: str = ""

    @cached_property
    def heard(self) -> tuple[Offer, ...]:
        """The offers that are heard, or perhaps."""
        return tuple(offer for offer in self.offered if offer.outcome != SILENT)

    @cached_property
    def said(self) -> frozenset[str]:
        """The records (ids) in which it is said what is leased."""
        return frozenset(offer.scope.id for offer in self.offered)

    @cached_property
    def had(self) -> Held | LeaseScope | None:
        """What is had by it: an address, or any of a scope's pool; None where that isn't known. Found once, since all that stand alike get the same."""
        offers = self.heard
        if self.outcome != LEASED or len({(o.address, o.scope.subnet, o.scope.gateways) for o in offers}) > 1:
            return None
        # Where several servers lease from pools of their own, the first's stands for them.
        scope = offers[0].scope
        return Held(numbers(offers[0].address), True, _gateways(scope)) if offers[0].address else scope

    @property
    def got(self) -> str:
        """What it gets in a few words: an address, those of which it gets one, or that it gets none."""
        if not self.heard:
            return "no lease" if self.outcome == NO_ANSWER else "not known"
        said = dict.fromkeys(o.address.partition("/")[0] or ", ".join(map(_short, o.scope.pool)) for o in self.heard)
        return " or ".join(said)

    def by(self, plan: Plan) -> str:
        """Who leases it, by name."""
        return some(dict.fromkeys(called(plan, plan.find(offer.server)) for offer in self.heard))

    def to_json(self) -> dict[str, Any]:
        """The lease for a program."""
        return {"outcome": self.outcome, "reason": self.reason, "offers": [offer.to_json() for offer in self.offered]}


def _short(text: str) -> str:
    """A range as people write it: without what its last address has in common with the first."""
    low, _, high = text.partition("-")
    if ":" in text:
        return f"{low}–{high}" if high else low
    same = low.rpartition(".")[0] == high.rpartition(".")[0]
    return f"{low}–{high.rpartition('.')[2] if same else high}" if high else low


def kept_by(scope: LeaseScope) -> dict[str, str]:
    """What a scope keeps for each MAC address: an address, with prefix length."""
    length = scope.subnet.partition("/")[2]
    return {mac: f"{address}/{length}" for mac, address in (text.split() for text in scope.kept)}


def room_of(scope: LeaseScope) -> int:
    """How many addresses a scope's pool has that are kept for nobody."""
    taken = {int(ipaddress.ip_address(text.split()[1])) for text in scope.kept}
    ranges = [range_of(text) for text in scope.pool]
    return sum(last - first + 1 - sum(first <= n <= last for n in taken) for _, first, last in ranges)


@dataclass(frozen=True)
class Pooled:
    """What interfaces have by lease, where that is known (`held`, by record): where many may have any address of a pool, each has one that stands for all; `sharing` are
    those, by scope (id).  The rest is what that was made of."""

    leases: Mapping[str, Lease]
    scopes: Mapping[str, LeaseScope]
    told: frozenset[str]
    sharing: Mapping[str, frozenset[str]]
    held: Mapping[str, Held]

    def after(self, plan: Plan, leases: Mapping[str, Lease]) -> Pooled:
        """The same of other leases (by record), or in another plan; what stands as before is taken over."""
        scopes, told = plan.of("lease_scope"), frozenset(told_apart(plan))
        sharing: dict[str, set[str]] = {}
        held: dict[str, Held | None] = {}

        def among(scope: str) -> set[str]:
            return sharing.setdefault(scope, set(self.sharing.get(scope, ())))

        for record in perhaps_differing(self.leases, leases):
            was, now = self.leases.get(record), leases.get(record)
            old, new = was.had if was is not None else None, now.had if now is not None else None
            if isinstance(old, LeaseScope):
                among(old.id).discard(record)
            if isinstance(new, LeaseScope):
                among(new.id).add(record)
            held[record] = new if isinstance(new, Held) else None
        for id in perhaps_differing(self.scopes, scopes):
            among(id)
        if self.sharing and told != self.told:
            other = _cuts(told ^ self.told)
            for id in self.sharing:
                if id in scopes and _parted(scopes[id], other):
                    among(id)
        cuts = _cuts(told) if sharing else []
        for id, records in sharing.items():
            held.update(dict.fromkeys(records))
            scope = scopes.get(id)
            if scope is not None and records and not _parted(scope, cuts):
                gateways, (version, _, net, length) = _gateways(scope), numbers(scope.subnet)
                # A pool that is too small doesn't serve all.
                for record, number in zip(sorted(records), _free(scope), strict=False):
                    held[record] = Held((version, number, net, length), False, gateways)
        differ = {record: one for record, one in held.items() if one != self.held.get(record)}
        by_scope = {id: frozenset(records) or None for id, records in sharing.items()}
        return Pooled(leases, scopes, told, layered(self.sharing, by_scope), layered(self.held, differ))


NO_LEASES = Pooled({}, {}, frozenset(), {}, {})


def _gateways(scope: LeaseScope) -> tuple[Address, ...]:
    return tuple(map(ipaddress.ip_address, scope.gateways))


def _free(scope: LeaseScope) -> Iterator[int]:
    """The addresses of a scope's pool that are kept for nobody."""
    taken = {int(ipaddress.ip_address(text.split()[1])) for text in scope.kept}
    for _, first, last in sorted(range_of(text) for text in scope.pool):
        yield from (number for number in range(first, last + 1) if number not in taken)


def _cuts(told: Iterable[str]) -> list[tuple[int, int, int]]:
    """Subnets: the IP version, the first address, and the one behind the last."""
    return [(version, net, end_of(version, net, length)) for version, _, net, length in map(numbers, told)]


def _parted(scope: LeaseScope, told: Iterable[tuple[int, int, int]]) -> bool:
    """Whether anything tells some of a pool's addresses from others: of some subnets (IP version, first address, and the one behind the last) one has part of it in it, and part not."""
    own = [range_of(text) for text in scope.pool]
    size = sum(last - first + 1 for _, first, last in own)
    for version, low, end in told:
        inside = [
            min(last + 1, end) - max(first, low)
            for v, first, last in own
            if v == version and first < end and low <= last
        ]
        if inside and sum(inside) < size:
            return True
    return False

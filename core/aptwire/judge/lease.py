"""What an interface that asks for a lease gets, as values (RFC 2131, RFC 8415); how it is found is told in `above/leases.py`."""

from __future__ import annotations

import ipaddress
from bisect import bisect_right
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from itertools import filterfalse, islice, zip_longest
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

        for was, now, asking in _by_both(self.leases, leases):
            old, new = was.had if was is not None else None, now.had if now is not None else None
            if isinstance(old, LeaseScope):
                among(old.id).difference_update(asking)
            if isinstance(new, LeaseScope):
                among(new.id).update(asking)
            else:
                held.update(dict.fromkeys(asking, new))
        for id in perhaps_differing(self.scopes, scopes):
            among(id)
        if self.sharing and told != self.told:
            other = _Cuts(told ^ self.told)
            for id in self.sharing:
                if id in scopes and other.part(scopes[id]):
                    among(id)
        cuts = _Cuts(told if sharing else ())
        for id, records in sharing.items():
            given: list[Held] = []
            scope = scopes.get(id)
            if scope is not None and records and not cuts.part(scope):
                gateways, (version, _, net, length) = _gateways(scope), numbers(scope.subnet)
                free = islice(_free(scope), len(records))
                given = [Held((version, number, net, length), False, gateways) for number in free]
            # A pool that is too small doesn't serve all.
            held.update(zip_longest(sorted(records), given))
        differ = {record: one for record, one in held.items() if one != self.held.get(record)} if self.held else held
        by_scope = {id: frozenset(records) or None for id, records in sharing.items()}
        return Pooled(leases, scopes, told, layered(self.sharing, by_scope), layered(self.held, differ))


NO_LEASES = Pooled({}, {}, frozenset(), {}, {})


def _by_both(
    before: Mapping[str, Lease], now: Mapping[str, Lease]
) -> Iterator[tuple[Lease | None, Lease | None, list[str]]]:
    """The lease before, the one now, and of whom they are (records), where these may differ: very many have the very same."""
    found: dict[tuple[int, int], list[str]] = defaultdict(list)
    asked = list(perhaps_differing(before, now))
    for record, was, new in zip(asked, map(before.get, asked), map(now.get, asked), strict=True):
        found[id(was), id(new)].append(record)
    for records in found.values():
        yield before.get(records[0]), now.get(records[0]), records


def _gateways(scope: LeaseScope) -> tuple[Address, ...]:
    return tuple(map(ipaddress.ip_address, scope.gateways))


def _free(scope: LeaseScope) -> Iterator[int]:
    """The addresses of a scope's pool that are kept for nobody."""
    taken = {int(ipaddress.ip_address(text.split()[1])) for text in scope.kept}
    for _, first, last in sorted(range_of(text) for text in scope.pool):
        yield from filterfalse(taken.__contains__, range(first, last + 1))


class _Cuts:
    """Subnets that are told apart, as what they cut a pool into."""

    def __init__(self, told: Iterable[str]) -> None:
        nets = [(version, net, end_of(version, net, length)) for version, _, net, length in map(numbers, told)]
        self._nets = nets
        self._bounds = sorted({(version, bound) for version, *both in nets for bound in both})

    def part(self, scope: LeaseScope) -> bool:
        """Whether anything tells some of a pool's addresses from others: of some subnet part of it is in it, and part not."""
        own = [range_of(text) for text in scope.pool]
        if not own:
            return False
        low, high = min((v, n) for v, n, _ in own), max((v, n) for v, _, n in own)
        if bisect_right(self._bounds, low) == bisect_right(self._bounds, high):
            return False
        size = sum(last - first + 1 for _, first, last in own)
        inside = (
            sum(max(0, min(last + 1, end) - max(first, net)) for v, first, last in own if v == version)
            for version, net, end in self._nets
        )
        return any(0 < count < size for count in inside)

"""Addresses that stand where their segment means others to: an interface's own in a range for leases, a pool outside of it."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Sequence
from typing import Any

from aptwire.judge.plugging import next_free_address
from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch
from aptwire.plan.edits import Patch
from aptwire.plan.fields import Range, end_of, numbers, purpose_of, range_of, range_text
from aptwire.plan.kinds import PLACES, LeaseScope, Segment
from aptwire.plan.names import called, some


class RangeRisks(RiskSearch):
    """What a segment's ranges are for, and who keeps to it."""

    def misplaced(self) -> Iterator[Risk]:
        """Interfaces whose own address is in a range of their segment that is for something else, or outside those for such."""
        for segment in sorted((s for s in self.plan.all(Segment) if s.ranges), key=lambda s: s.id):
            told = [purpose_of(text) for text in segment.ranges]
            nets = [ipaddress.ip_network(text) for text in segment.subnets]
            for kind in PLACES:
                for record in sorted(self.plan.where(kind, "belongs", segment.id), key=lambda r: r.id):
                    for text in record.addresses:
                        address = ipaddress.ip_interface(text).ip
                        # What the segment itself names stands where it is.
                        named = str(address) in (*segment.gateways, *segment.lease_servers)
                        net = next((net for net in nets if address in net), None)
                        wrong = _unfit(told, net, int(address)) if net is not None and not named else ""
                        if wrong:
                            yield self._told(segment, record, text, wrong)

    def _told(self, segment: Segment, record: Any, text: str, wrong: str) -> Risk:
        id, name = record.id, called(self.plan, record)
        address = text.partition("/")[0]
        free = next_free_address(self.plan, segment)
        kept = [a for a in record.addresses if a != text]
        same = free is not None and (":" in free) == (":" in text)
        return Risk(
            RISK if wrong == "leases" else UNTIDY,
            "misplaced-address",
            (id, address),
            f"{name} has {address} for its own, which is {_WRONG[wrong].format(segment.name)}",
            "Whoever leases there may hand it out once more."
            if wrong == "leases"
            else f"Ranges of {segment.name}: {some(list(segment.ranges))}.",
            (id,),
            segment=segment.id,
            facts=(self.fact(segment.id, ", ".join(segment.ranges), f"{address} is {name}’s own"),),
            mends=(
                (
                    f"Give {name} {free.partition('/')[0]}, the next free address of {segment.name}",
                    (Patch(record.kind, id, {"addresses": [*kept, free]}),),
                ),
            )
            if same and free is not None
            else (),
        )

    def strewn(self) -> Iterator[Risk]:
        """Pools with addresses that the segment of their subnet means for something else than leases."""
        by_subnet: dict[str, list[Segment]] = {}
        for segment in self.plan.all(Segment):
            for subnet in segment.subnets if segment.ranges else ():
                by_subnet.setdefault(subnet, []).append(segment)
        for scope in sorted(self.plan.all(LeaseScope), key=lambda s: s.id) if by_subnet else ():
            for segment in sorted(by_subnet.get(scope.subnet, ()), key=lambda s: s.id):
                meant = _within(scope.subnet, [purpose_of(text) for text in segment.ranges])
                leases = [(first, last) for purpose, first, last in meant if purpose == "leases"]
                other = [(first, last) for purpose, first, last in meant if purpose != "leases"]
                pool = [(first, last) for _, first, last in map(range_of, scope.pool)]
                if any(_meet(p, o) for p in pool for o in other) or (
                    leases and not all(any(a <= first and last <= b for a, b in leases) for first, last in pool)
                ):
                    yield self._told_pool(segment, scope, leases)

    def _told_pool(self, segment: Segment, scope: LeaseScope, leases: Sequence[tuple[int, int]]) -> Risk:
        name = called(self.plan, scope)
        version = ipaddress.ip_network(scope.subnet).version
        pool = [range_text(first, last, version) for first, last in leases]
        return Risk(
            RISK,
            "strewn-pool",
            (scope.id, segment.id),
            f"{name[:1].upper()}{name[1:]} leases addresses that {segment.name} means for something else",
            f"It leases {some(list(scope.pool))}; ranges of {segment.name}: {some(list(segment.ranges))}.",
            (scope.id,),
            segment=segment.id,
            facts=(self.fact(scope.id, ", ".join(scope.pool), f"{segment.name} says {', '.join(segment.ranges)}"),),
            mends=((f"Lease {some(pool)}", (Patch("lease_scope", scope.id, {"pool": pool}),)),) if pool else (),
        )


_WRONG = {
    "leases": "in a range for leases of {}",
    "reserved": "in a range that {} keeps for nobody",
    "outside": "outside the static ranges of {}",
}


def _unfit(told: Sequence[tuple[str, Range]], net: ipaddress.IPv4Network | ipaddress.IPv6Network, address: int) -> str:
    """Why an address isn't one for an interface's own, by the ranges of its subnet: a key of _WRONG; empty where it is."""
    meant = _within(str(net), told)
    there = next((purpose for purpose, first, last in meant if first <= address <= last), "")
    if there in ("leases", "reserved"):
        return there
    return "outside" if not there and any(purpose == "static" for purpose, _, _ in meant) else ""


def _within(subnet: str, told: Sequence[tuple[str, Range]]) -> list[tuple[str, int, int]]:
    """The ranges in a subnet: what they are for, their first and last address."""
    version, low, _, length = numbers(subnet)
    end = end_of(version, low, length)
    return [(purpose, first, last) for purpose, (v, first, last) in told if v == version and low <= first < end]


def _meet(one: tuple[int, int], two: tuple[int, int]) -> bool:
    """Whether two ranges have an address in common."""
    return one[0] <= two[1] and two[0] <= one[1]

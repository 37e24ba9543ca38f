"""What segments are meant to be, as far as blocks keep answers for it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from aptwire.plan.plan import Plan


@dataclass(frozen=True)
class Intent:
    """The subnets and gateways of each segment, and its role and MTU; their order numbers the segments. `vanished` are those (ids) that
    their source doesn't define any longer.

    Each part is one object as long as nothing in it changes, so that blocks know at a glance whether what they found still holds.
    """

    subnets: dict[str, tuple[str, ...]]
    gateways: dict[str, tuple[str, ...]]
    uses: dict[str, tuple[str, int | None]]
    vanished: frozenset[str]
    records: object

    @classmethod
    def of(cls, plan: Plan, before: Intent | None) -> Intent:
        """A plan's, sharing what the one before had alike."""
        records = plan.of("segment")
        if before is not None and before.records is records:
            return before
        segments = [records[id] for id in sorted(records)]
        subnets = {s.id: s.subnets for s in segments}
        gateways = {s.id: s.gateways for s in segments}
        uses = {s.id: (s.role, s.mtu) for s in segments}
        if before is not None:
            subnets = before.subnets if before.subnets == subnets else subnets
            gateways = before.gateways if before.gateways == gateways and subnets is before.subnets else gateways
            uses = before.uses if before.uses == uses else uses
        return cls(subnets, gateways, uses, frozenset(s.id for s in segments if s.vanished), records)

    @property
    def segments(self) -> list[str]:
        """The segments (ids) in the order of their numbers."""
        return list(self.subnets)

    @cached_property
    def numbers(self) -> dict[str, int]:
        """The number of each segment."""
        return {id: n for n, id in enumerate(self.subnets)}

    @cached_property
    def served(self) -> dict[str, list[int]]:
        """The numbers of the segments that have each gateway address."""
        found: dict[str, list[int]] = {}
        for n, addresses in enumerate(self.gateways.values()):
            for address in addresses:
                found.setdefault(address, []).append(n)
        return found

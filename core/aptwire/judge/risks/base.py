"""A risk, and what every search for risks needs."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from aptwire.forward.parts import NOW, State
from aptwire.forward.trace import Hop
from aptwire.judge.book import book_of
from aptwire.judge.judgement import Judgement
from aptwire.judge.kept import Rests
from aptwire.plan import vids
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import Adapter, FabricPort, Segment
from aptwire.plan.names import called, some
from aptwire.plan.ports import said
from aptwire.plan.sharing import whole_lag
from aptwire.plan.stacks import adapter_of
from aptwire.rules.worlds import worlds_of

RISK, UNTIDY = "risk", "untidy"
GRAVITY = (UNTIDY, RISK)


ProofLines = tuple[Hop, ...] | Callable[[Any], tuple[Hop, ...]]
Offers = tuple[tuple[str, Edit], ...] | Callable[[Any], tuple[tuple[str, Edit], ...]]
"""Lines of a proof, and titles with edits; or what makes them of a search when somebody asks: a risk may outlive the plan in which it was
found, so it remembers none."""


@dataclass(frozen=True)
class Risk:
    """Something that will hurt, or that nobody needs.

    `id` stays the same as long as it does; `culprit` the records where it sits; `endpoints` those whom it would hurt, as
    far as they are known; `facts` its proof; `mends` titles and edits worth trying.
    """

    verdict: str
    what: str
    key: tuple[str, ...]
    title: str
    text: str
    culprit: tuple[str, ...]
    endpoints: tuple[str, ...] = ()
    segment: str | None = None
    facts: ProofLines = field(default=(), compare=False)
    mends: Offers = field(default=(), compare=False)
    idle: bool = False
    state: State = NOW

    @cached_property
    def id(self) -> str:
        """The same as long as the same thing is at risk."""
        return hashlib.sha256(repr((self.what, self.key)).encode()).hexdigest()[:12]

    @cached_property
    def rank(self) -> tuple[int, str, str, str]:
        """Where it stands among others: what will hurt comes first."""
        return (-GRAVITY.index(self.verdict), self.what, self.title, self.id)

    def proof(self, search: Any) -> tuple[Hop, ...]:
        """The facts that it rests on, as the plan of a search has them."""
        return self.facts(search) if callable(self.facts) else self.facts

    def offers(self, search: Any) -> tuple[tuple[str, Edit], ...]:
        """The edits worth trying on the plan of a search; large ones are written only when somebody asks."""
        return self.mends(search) if callable(self.mends) else self.mends


NAMING = ("host", "virtual_switch", "fabric_switch")
"""The kinds whose names stand in what others are called."""


def naming(look: RiskSearch, *more: str) -> Rests:
    """What names rest on, beside the records that are named; and some more kinds."""
    return tuple(look.plan.of(kind) for kind in (*NAMING, *more))


class RiskSearch:
    """What every search for risks looks at: the facts of each host, and what was found in the judgement before."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.wiring = judgement.wiring
        self.plan = judgement.plan
        self.book = book_of(judgement)
        self.kept = judgement.kept

    @cached_property
    def worlds(self) -> Mapping[str, str]:
        """The segments (ids) that a rule keeps apart from everything, with the rule."""
        return self.judgement.once(worlds_of)

    def host(self, id: str) -> str:
        return str(self.plan.get("host", id).name)

    def fact(self, id: str, rule: str, reason: str) -> Hop:
        """A line of a proof."""
        return Hop((id,), called(self.plan, self.plan.find(id)), "", "", rule, "astray", reason)

    def made_one(self, ports: list[FabricPort], lacp: bool, who: str) -> Iterator[tuple[str, Edit]]:
        """Say that the LAGs of two switches are one towards somebody, where each has one."""
        lags = [self.plan.get("lag", id) for id in sorted({p.lag for p in ports if p.lag})]
        if len(lags) == 2 and all(len(whole_lag(self.plan, lag.id)) == 1 for lag in lags):
            edit = [Patch("lag", lag.id, {"lacp": lacp}) for lag in lags if lag.lacp != lacp]
            said = f"Say that {some(called(self.plan, lag) for lag in lags)} are one towards {who}"
            yield said, (*edit, Patch("lag", lags[0].id, {"beside": lags[1].id}))

    def adapter_of(self, bearer: str) -> Adapter | None:
        """The adapter that bears an address, by itself or by a guest's tag; None where something else does."""
        return adapter_of(self.plan, self.plan.find(bearer))

    def by_guest(self, field: str) -> list[tuple[tuple[str, str], list[Adapter]]]:
        """The adapters with one value in a text field, by guest and value, in order; those without one are left out."""
        found: dict[tuple[str, str], list[Adapter]] = {}
        for value, adapters in self.plan.grouped("adapter", field).items():
            for adapter in adapters:
                found.setdefault((adapter.guest, value), []).append(adapter)
        return sorted(found.items())

    @cached_property
    def functions(self) -> tuple[Adapter, ...]:
        """The adapters that are virtual functions."""
        return tuple(self.plan.having("adapter", "function_of"))

    @cached_property
    def members(self) -> dict[str, int]:
        """How many places belong on each segment."""
        return self.judgement.members()

    @cached_property
    def populated(self) -> frozenset[str]:
        """The segments on which places belong."""
        return frozenset(id for id, count in self.members.items() if count)


def without(segment: Segment, field: str, address: str) -> tuple[str, Edit]:
    """An address taken away from a list of a segment's, in words and as an edit."""
    rest = [other for other in getattr(segment, field) if other != address]
    return f"Take {address} away from {segment.name}", (Patch("segment", segment.id, {field: rest}),)


def short(bits: int) -> str:
    text = vids.write_bits(bits)
    items = text.split(", ")
    return text if len(items) <= 8 else f"{', '.join(items[:7])} and {len(items) - 7} ranges more"


def port_text(port: FabricPort) -> str:
    return f"private {port.vid}" if port.mode == "private" else said(port).text

"""What a judgement says: the verdict of every place and endpoint, why it isn't home, and on what these answers rest."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np

from aptwire.forward.domains import Domains, Pairings
from aptwire.forward.parts import Place, Stand
from aptwire.forward.wiring import Block, Wiring
from aptwire.judge.answers import Answers
from aptwire.judge.changes import Changes
from aptwire.judge.formed import Formed
from aptwire.judge.gates import Gates
from aptwire.judge.intent import Intent
from aptwire.judge.kept import Kept
from aptwire.judge.landing import Landing
from aptwire.judge.lease import Lease
from aptwire.judge.meeting import Presence
from aptwire.judge.singles import Own
from aptwire.judge.sizes import Misfit
from aptwire.judge.states import StandVerdicts
from aptwire.judge.steady import Standing
from aptwire.judge.why import HOME, VERDICTS, Cause, is_idle
from aptwire.plan.kinds import PLACES
from aptwire.plan.plan import Plan

T = TypeVar("T")


@dataclass(frozen=True)
class Known:
    """What the stages of a judgement made, beside where everything lands: who bears gateways, the stands' verdicts before anybody was said to be exposed (`unexposed`),
    who is in which group, how segments stand; and by segment number what single places have, and whose packets are too large (with what that rests on); who gets no lease, or a wrong one (`unleased`, by record); who forms no address, or a wrong one (`unformed`); the first of IPv6 is `unleased6`."""

    gates: Gates
    unexposed: StandVerdicts
    present: Presence
    standing: Standing
    within: Mapping[int, Own]
    misfits: Mapping[int, Mapping[str, Misfit]]
    sized: tuple[object, ...]
    unleased: Own = field(default_factory=dict)
    unformed: Own = field(default_factory=dict)
    unleased6: Own = field(default_factory=dict)


@dataclass(frozen=True)
class Since:
    """How a judgement differs from the one with the token `base`."""

    base: object
    changes: Changes


@dataclass(frozen=True, eq=False)
class Judgement:
    """All verdicts of a plan.

    `status` int8[stands] indexes VERDICTS; `causes` why a stand isn't home; `own` what single places have beside
    their stand (an address of another subnet, a twin, no lease), `leases` what each interface gets that asks for one of IPv4, by record, `leases6` of IPv6; `formed` what each hears that is advertised, and forms of it unless it asks for a lease; `known` what the next judgement begins with, `since` how it differs from the one that it was
    made from; `memo` what others worked out from it (`once`); `kept` and `answered` what they
    found in this judgement or those before it, as far as it still holds.
    """

    landing: Landing
    known: Known
    status: np.ndarray
    causes: Mapping[Stand, Cause]
    own: Own
    leases: Mapping[str, Lease] = field(default_factory=dict)
    formed: Mapping[str, Formed] = field(default_factory=dict)
    leases6: Mapping[str, Lease] = field(default_factory=dict)
    since: Since | None = None
    kept: Kept = field(default_factory=Kept)
    answered: Answers = field(default_factory=Answers)
    memo: dict[Callable[..., Any], Any] = field(default_factory=dict)
    token: object = field(default_factory=object)

    @property
    def wiring(self) -> Wiring:
        return self.landing.wiring

    @property
    def plan(self) -> Plan:
        return self.landing.wiring.plan

    @property
    def pairings(self) -> Pairings:
        return self.landing.pairings

    @property
    def domains(self) -> Domains:
        return self.landing.domains

    @property
    def intent(self) -> Intent:
        return self.landing.intent

    @property
    def stands(self) -> Sequence[Stand]:
        return self.landing.stands

    @property
    def lands(self) -> np.ndarray:
        """int16[stands]: the VID class on which a stand enters the fabric (or sits, where it doesn't get there), -1 where its frames are
        dropped at once."""
        landed: np.ndarray = self.landing.rows.landed[self.landing.first]
        return landed

    @property
    def got(self) -> tuple[Mapping[str, Lease | Formed], ...]:
        """What interfaces have by lease of IPv4, and of IPv6, and what they formed."""
        return self.leases, self.leases6, self.formed

    def given(self, record: str) -> list[Lease | Formed]:
        """What an interface has from others: its leases, or what it forms."""
        return [*self.leases_of(record), *(() if record in self.leases6 else filter(None, [self.formed.get(record)]))]

    def leases_of(self, record: str) -> list[Lease]:
        """What an interface gets that asks for leases, of either IP version."""
        return [lease for of in (self.leases, self.leases6) if (lease := of.get(record)) is not None]

    def number(self, stand: Stand) -> int:
        """The stand's place in the arrays."""
        return self.landing.number(stand)

    def stand_verdict(self, stand: Stand) -> tuple[int, Cause | None]:
        """The verdict of a stand, and why it isn't home; None if it is."""
        return int(self.status[self.number(stand)]), self.causes.get(stand)

    def status_of(self, place: Place) -> int:
        """The verdict of a place."""
        own = self.own.get(place.record)
        return own[0] if own is not None else int(self.status[self.number(place.stand)])

    def cause_of(self, place: Place) -> Cause | None:
        """Why a place isn't home; None if it is."""
        own = self.own.get(place.record)
        if own is not None:
            return own[1] if own[0] != HOME else None
        return self.causes.get(place.stand)

    def lands_on(self, place: Place) -> int:
        """The VID class on which a place lands."""
        landing = self.landing
        return int(landing.rows.landed[landing.first[self.number(place.stand)]])

    def untagged_here(self, place: Place) -> list[str]:
        """The segments without a VID, by id, of which somebody is on his own tag where a place's untagged frames land."""
        numbers, ids = self.intent.numbers, self.intent.segments
        untagged = [numbers[s.id] for s in self.plan.where("segment", "vid", None) if s.vni is None]
        if not untagged:
            return []
        segment, first = self.landing.columns.segment, self.landing.first
        there = self.spot(self.number(place.stand))
        members = np.flatnonzero(np.isin(segment, untagged) & self.landing.rows.right[first]).tolist()
        return sorted({ids[segment[n]] for n in members if self.spot(n) == there})

    def spot(self, number: int) -> tuple[int, ...]:
        """What a stand shares today with those that it hears: the component of the fabric, or the context of its bridge."""
        landing = self.landing
        node = int(landing.rows.node[landing.first[number]])
        if node >= 0:
            return (int(landing.domains.component[node]),)
        return int(landing.columns.bridge[number]), int(landing.columns.context[number])

    def once(self, make: Callable[[Judgement], T]) -> T:
        """What somebody makes of the judgement: made when it is first asked for, and the same object for as long as the judgement lives."""
        if make not in self.memo:
            self.memo[make] = make(self)
        found: T = self.memo[make]
        return found

    def belonging(self, segment: str) -> Iterator[tuple[Any, Place]]:
        """Who belongs on a segment (id) and has a verdict: each record with its place, by kind and id."""
        for kind in PLACES:
            for record in sorted(self.plan.where(kind, "belongs", segment), key=lambda r: r.id):
                place = self.wiring.place(record.id)
                if place is not None and place.stand.judged:
                    yield record, place

    def members(self) -> dict[str, int]:
        """How many places belong on each segment."""
        return self.once(Judgement._members)

    def _members(self) -> dict[str, int]:
        ids = list(self.intent.subnets)
        segment, weight = self.landing.columns.segment, self.landing.columns.weight
        before, _ = self.answered.before.get("members", (None, None))
        if before is not None and before[0].size == segment.size and before[2].size > len(ids):
            # An edit changes few of very many.
            counted = before[2].copy()
            differ = np.flatnonzero((before[0] != segment) | (before[1] != weight))
            np.subtract.at(counted, before[0][differ] + 1, before[1][differ])
            np.add.at(counted, segment[differ] + 1, weight[differ])
        else:
            counted = np.bincount(segment + 1, weights=weight, minlength=len(ids) + 1).astype(np.int64)
        self.answered.answers["members"] = segment, weight, counted
        made: dict[str, int] = dict(zip(ids, counted[1:].tolist(), strict=False))
        return made

    def troubled(self, blocks: Set[str]) -> Iterator[tuple[str, tuple[str, ...], int, Cause]]:
        """Every place (record) in some blocks that isn't home with its block, its verdict and why; those of one stand together, unless they have a
        reason of their own."""
        few = len(blocks) < len(self.causes)
        known = (s for key in blocks if (b := self.wiring.blocks.get(key)) is not None for s in b.stands)
        for stand, cause in ((s, c) for s in known if (c := self.causes.get(s))) if few else self.causes.items():
            if stand.block not in blocks:
                continue
            records = tuple(r for r in stand.records if r not in self.own) if self.own else tuple(stand.records)
            if stand.judged and records:
                yield stand.block, records, int(self.status[self.number(stand)]), cause
        for record, (status, cause) in self.own.items():
            place = self.wiring.place(record)
            if status != HOME and place is not None and place.stand.judged and place.stand.block in blocks:
                yield place.stand.block, (record,), status, cause

    def singly_apart(self, other: Judgement, aside: Container[str] = ()) -> set[str]:
        """The blocks in which a place has something else beside its stand than in another judgement; `aside` from some (records)."""
        both = self.own.keys() | other.own.keys()
        records = (id for id in both if self.own.get(id) != other.own.get(id) and id not in aside)
        return set(self.wiring.home_blocks(records))

    def verdict(self, endpoint: str) -> int:
        """The gravest verdict among an endpoint's places."""
        return max(self.status_of(place) for place in self.wiring.places_of(endpoint))

    def block_endpoints(self, key: str) -> list[str]:
        """The endpoints of a block."""
        return sorted(self.block_verdicts(self.wiring.blocks[key]))

    def block_verdicts(self, block: Block, stands: Iterable[Stand] | None = None) -> dict[str, int]:
        """The verdict of every endpoint of a block, or of those on some of its stands; endpoints with several places are always among them."""
        made: dict[str, int] = {}
        inside = {record for places in block.several.values() for record in places}
        for stand in block.stands if stands is None else stands:
            if not stand.judged:
                continue
            status = int(self.status[self.number(stand)])
            for record in stand.records:
                if record not in inside:
                    own = self.own.get(record)
                    made[record] = own[0] if own is not None else status
        for endpoint in block.several:
            made[endpoint] = self.verdict(endpoint)
        return made

    def verdicts(self) -> dict[str, str]:
        """The verdict of every endpoint, by id."""
        found: dict[str, str] = {}
        for block in self.wiring.blocks.values():
            found.update((endpoint, VERDICTS[v]) for endpoint, v in self.block_verdicts(block).items())
        return found

    def counts(self) -> dict[str, int]:
        """How many endpoints have each verdict, and how many are idle (those count under idle alone)."""
        columns = self.landing.columns
        tally = np.bincount(self.status, weights=columns.awake, minlength=len(VERDICTS)) if self.stands else np.zeros(6)
        made = tally.astype(np.int64)
        idle = int(columns.asleep.sum())
        several = {e: places for of in self.landing.gathered.several.values() for e, places in of.items()}
        inside = {record for places in several.values() for record in places}
        for record, (status, _) in self.own.items():
            place = self.wiring.place(record)
            if place is not None and record not in inside and place.stand.judged and not is_idle(self.plan, record):
                made[self.status[self.number(place.stand)]] -= 1
                made[status] += 1
        for endpoint in several:
            if is_idle(self.plan, endpoint):
                idle += 1
            else:
                made[self.verdict(endpoint)] += 1
        return {**dict(zip(VERDICTS, made.tolist(), strict=True)), "idle": idle}

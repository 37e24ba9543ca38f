"""What a judgement says: the verdict of every place and endpoint, why it isn't home, and on what these answers rest."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from aptwire.forward.domains import Domains, Pairings
from aptwire.forward.parts import NOW, Place, Stand, State, Team
from aptwire.forward.wiring import Block, Wiring
from aptwire.judge.gathered import Gathered
from aptwire.judge.kept import Kept
from aptwire.plan.plan import Plan

VERDICTS = ("home", "unproven", "wavering", "stranded", "astray", "exposed")
HOME, UNPROVEN, WAVERING, STRANDED, ASTRAY, EXPOSED = range(6)

NO_INTENT, NO_GROUP, WRONG_TAG, CUT_OFF, OPEN_END, ADDRESS, LEAK, TWIN, NO_BEARER, TOO_LARGE, MIRRORED, TWIN_MAC = (
    "no-intent",
    "no-port-group",
    "wrong-tag",
    "cut-off",
    "open-end",
    "address",
    "leak",
    "twin",
    "no-bearer",
    "too-large",
    "mirrored",
    "twin-mac",
)


@dataclass(frozen=True)
class Cause:
    """Why a place isn't home: what is wrong, in which state, and towards which other place (a record; empty: towards the fabric); `at` the
    record where it sits, where that is known, and `detail` what is said of it there."""

    what: str
    state: State = NOW
    team: Team | None = None
    towards: str = ""
    at: str = ""
    detail: str = ""


@dataclass
class Rows:
    """(stand, way) rows, sorted by stand and order of ways; today's way is each stand's first row.

    All arrays have one entry a row: `stand`; `way` 0, 1, ...; `team` number (-1: no uplink, or a crossing
    switch); `member` in the team; `pair` number of the pairing, -1 for none; `far_node` first node of the bridge
    beyond; `node` entered in the fabric (-1: none); `mutual`: frames come back the same way; `open`: the way ends
    open; `landed` VID class; `right`: that is the tag of the segment where the stand belongs.
    """

    stand: np.ndarray
    way: np.ndarray
    team: np.ndarray
    member: np.ndarray
    pair: np.ndarray
    far_node: np.ndarray
    node: np.ndarray
    mutual: np.ndarray
    open: np.ndarray
    landed: np.ndarray
    right: np.ndarray
    first: np.ndarray

    def of(self, stand: int) -> range:
        """A stand's rows, which stand together in the order of its ways."""
        last = stand + 1 == self.first.size
        return range(int(self.first[stand]), self.stand.size if last else int(self.first[stand + 1]))


@dataclass(frozen=True)
class Columns:
    """What the judge asks of every stand, one entry each: `segment` number (-1: none), `context`, `bridge`, `vni`, `weight`
    (places), `awake` and `asleep` endpoints (0 where it isn't judged), `deaf`, `private`."""

    segment: np.ndarray
    context: np.ndarray
    bridge: np.ndarray
    vni: np.ndarray
    weight: np.ndarray
    awake: np.ndarray
    asleep: np.ndarray
    deaf: np.ndarray
    private: np.ndarray


@dataclass(frozen=True)
class Intent:
    """What blocks keep answers for: the subnets of each segment, and its role and MTU.

    Each part is one object as long as nothing in it changes, so that blocks know at a glance whether what they found still holds.
    """

    subnets: dict[str, tuple[str, ...]]
    uses: dict[str, tuple[str, int | None]]

    @classmethod
    def of(cls, plan: Plan, before: Intent | None) -> Intent:
        """A plan's, sharing what the one before had alike."""
        segments = [plan.get("segment", id) for id in sorted(plan.of("segment"))]
        subnets = {s.id: s.subnets for s in segments}
        uses = {s.id: (s.role, s.mtu) for s in segments}
        if before is None:
            return cls(subnets, uses)
        return cls(
            before.subnets if before.subnets == subnets else subnets, before.uses if before.uses == uses else uses
        )


@dataclass
class Judgement:
    """All verdicts of a plan.

    `status` int8[stands] indexes VERDICTS; `causes` stand number -> why; `own` what single places have beside
    their stand (an address of another subnet, a twin); `lands` int16[stands]: the VID class on which a stand enters the
    fabric (or sits, where it doesn't get there), -1 where its frames are dropped at once; `gathered` what the
    next judgement begins with, `memo` what others worked out from it, once; `kept`
    what they found in this judgement or those before it, as far as it still holds.
    """

    plan: Plan
    wiring: Wiring
    pairings: Pairings
    domains: Domains
    rows: Rows
    teams: list[Team]
    stands: list[Stand]
    status: np.ndarray
    lands: np.ndarray
    columns: Columns
    offsets: dict[str, int]
    causes: dict[int, Cause] = field(default_factory=dict)
    own: dict[str, tuple[int, Cause]] = field(default_factory=dict)
    intent: Intent = field(default_factory=lambda: Intent({}, {}))
    memo: dict[str, object] = field(default_factory=dict, compare=False)
    gathered: Gathered | None = field(default=None, compare=False)
    kept: Kept = field(default_factory=Kept, compare=False)

    def number(self, stand: Stand) -> int:
        """The stand's place in the arrays."""
        return self.offsets[stand.block] + stand.index

    def stand_verdict(self, stand: Stand) -> tuple[int, Cause | None]:
        """The verdict of a stand, and why it isn't home; None if it is."""
        number = self.number(stand)
        return int(self.status[number]), self.causes.get(number)

    def status_of(self, place: Place) -> int:
        """The verdict of a place."""
        own = self.own.get(place.record)
        return own[0] if own is not None else int(self.status[self.number(place.stand)])

    def cause_of(self, place: Place) -> Cause | None:
        """Why a place isn't home; None if it is."""
        own = self.own.get(place.record)
        if own is not None:
            return own[1] if own[0] != HOME else None
        return self.causes.get(self.number(place.stand))

    def lands_on(self, place: Place) -> int:
        """The VID class on which a place lands."""
        return int(self.lands[self.number(place.stand)])

    def untagged_here(self, place: Place) -> list[str]:
        """The segments without a VID, by id, of which somebody is on his own tag where a place's untagged frames land."""
        ids = list(self.intent.subnets)
        untagged = [n for n, id in enumerate(ids) if (s := self.plan.get("segment", id)).vid is None and s.vni is None]
        segment, first = self.columns.segment, self.rows.first
        there = self._spot(self.number(place.stand))
        members = np.flatnonzero(np.isin(segment, untagged) & self.rows.right[first]).tolist()
        return sorted({ids[segment[n]] for n in members if self._spot(n) == there})

    def _spot(self, number: int) -> tuple[int, ...]:
        """What a stand shares today with those that it hears: the component of the fabric, or the context of its bridge."""
        node = int(self.rows.node[self.rows.first[number]])
        if node >= 0:
            return (int(self.domains.component[node]),)
        return int(self.columns.bridge[number]), int(self.columns.context[number])

    def members(self) -> dict[str, int]:
        """How many places belong on each segment."""
        ids = list(self.intent.subnets)
        counted = np.bincount(self.columns.segment + 1, weights=self.columns.weight, minlength=len(ids) + 1)
        return dict(zip(ids, counted[1:].astype(np.int64).tolist(), strict=False))

    def troubled(self) -> Iterator[tuple[tuple[str, ...], int, Cause]]:
        """Every place (record) that isn't home, its verdict and why; those of one stand together, unless they have a reason of their own."""
        for number, cause in self.causes.items():
            stand = self.stands[number]
            records = tuple(r for r in stand.records if r not in self.own) if self.own else tuple(stand.records)
            if stand.judged and records:
                yield records, int(self.status[number]), cause
        for record, (status, cause) in self.own.items():
            place = self.wiring.place(record)
            if status != HOME and place is not None and place.stand.judged:
                yield (record,), status, cause

    def verdict(self, endpoint: str) -> int:
        """The gravest verdict among an endpoint's places."""
        return max(self.status_of(place) for place in self.wiring.places_of(endpoint))

    def block_endpoints(self, key: str) -> list[str]:
        """The endpoints of a block."""
        return sorted(self.block_verdicts(self.wiring.blocks[key]))

    def block_verdicts(self, block: Block) -> dict[str, int]:
        """The verdict of every endpoint of a block."""
        made: dict[str, int] = {}
        inside = {record for places in block.several.values() for record in places}
        for stand in block.stands:
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
        columns = self.columns
        tally = np.bincount(self.status, weights=columns.awake, minlength=len(VERDICTS)) if self.stands else np.zeros(6)
        made = tally.astype(np.int64)
        idle = int(columns.asleep.sum())
        several = {
            endpoint: places for block in self.wiring.blocks.values() for endpoint, places in block.several.items()
        }
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


def is_idle(plan: Plan, endpoint: str) -> bool:
    """Whether an endpoint is disconnected or its guest is off."""
    port = plan.of("host_port").get(endpoint)
    if port is not None:
        return not port.connected
    adapter = plan.get("adapter", endpoint)
    return not adapter.connected or not plan.get("guest", adapter.guest).running


def tag_text(wiring: Wiring, number: int) -> str:
    """A VID class as people say it: its VID, or "untagged"."""
    return str(wiring.classes.vid(number) or "untagged") if number > 0 else "untagged"

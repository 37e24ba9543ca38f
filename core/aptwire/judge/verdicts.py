"""The verdict of every endpoint, from arrays over (stand, way).

A *stand* is what no frame can tell apart: the same port of the same bridge, the same tag, belonging on the same
segment.  A *way* is a member of its switch's uplink over which it may get out.  Two stands meet in a state when their ways
lead into one component of the fabric (or they share a context of one switch).  States are today's and each single
team carried by another member, which is enough: choices at different teams are independent, so a difference
shows as soon as one team differs.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from aptwire.forward.domains import Domains, Pairings, solve
from aptwire.forward.parts import NOW, Place, Stand, State, Team
from aptwire.forward.wiring import Block, Wiring, compile_wiring, rewire
from aptwire.plan.collecting import no_collecting
from aptwire.plan.fields import bare_address
from aptwire.plan.plan import Plan

VERDICTS = ("home", "unproven", "wavering", "stranded", "astray", "exposed")
HOME, UNPROVEN, WAVERING, STRANDED, ASTRAY, EXPOSED = range(6)

NO_INTENT, NO_GROUP, WRONG_TAG, CUT_OFF, OPEN_END, ADDRESS, LEAK, TWIN = (
    "no-intent",
    "no-port-group",
    "wrong-tag",
    "cut-off",
    "open-end",
    "address",
    "leak",
    "twin",
)
AT_HOME = -2
"""In place of a pairing: the stand's own bridge is one that frames cross."""


@dataclass(frozen=True)
class Cause:
    """Why a place isn't home: what is wrong, in which state, and towards which other place (a record; empty: towards the fabric)."""

    what: str
    state: State = NOW
    team: Team | None = None
    towards: str = ""


@dataclass
class Rows:
    """(stand, way) rows, sorted by stand and order of ways; today's way is each stand's first row.

    All arrays have one entry a row: `stand`; `way` 0, 1, ...; `team` number (-1: no uplink, or a crossing
    switch); `member` in the team; `pair` number of the pairing, -1 for none; `far` first node of the bridge
    beyond; `node` entered in the fabric (-1: none); `mutual`: frames come back the same way; `open`: the way ends
    open; `landed` VID class; `right`: that is the tag of the segment where the stand belongs.
    """

    stand: np.ndarray
    way: np.ndarray
    team: np.ndarray
    member: np.ndarray
    pair: np.ndarray
    far: np.ndarray
    node: np.ndarray
    mutual: np.ndarray
    open: np.ndarray
    landed: np.ndarray
    right: np.ndarray
    first: np.ndarray


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
    fabric (or sits, where it doesn't get there), -1 where its frames are dropped at once.
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

    def number(self, stand: Stand) -> int:
        """The stand's place in the arrays."""
        return self.offsets[stand.block] + stand.index

    def fares(self, stand: Stand) -> tuple[int, Cause | None]:
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
        return own[1] if own is not None else self.causes.get(self.number(place.stand))

    def lands_on(self, place: Place) -> int:
        """The VID class on which a place lands."""
        return int(self.lands[self.number(place.stand)])

    def members(self) -> dict[str, int]:
        """How many places belong on each segment."""
        ids = list(self.intent.subnets)
        counted = np.bincount(self.columns.segment + 1, weights=self.columns.weight, minlength=len(ids) + 1)
        return dict(zip(ids, counted[1:].astype(np.int64).tolist(), strict=False))

    def troubled(self) -> Iterator[tuple[Place, Cause]]:
        """Every place that isn't home, in the order of records."""
        records: dict[str, Cause] = {}
        for number, cause in self.causes.items():
            if self.stands[number].judged:
                records.update(dict.fromkeys(self.stands[number].records, cause))
        records.update((record, cause) for record, (_, cause) in self.own.items())
        for record in sorted(records):
            place = self.wiring.place(record)
            if place is not None and place.stand.judged:
                yield place, records[record]

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


@dataclass(frozen=True)
class Need:
    """What a segment's stands must reach: any of the groups, or one of the contexts of a switch in `beside`; `place` stands
    for it (empty: nobody in particular)."""

    groups: list[int]
    place: str
    beside: tuple[int, ...] = ()


@dataclass(frozen=True)
class Runs:
    """Stands on their own tags, sorted by segment and group, as runs of one group.

    `order` are their places among the stands asked about, `run_of` the run of each; `start`, `weight`, `segment` (a number
    among those here) and `top` (whether none of the segment is larger) of each run; `first` (run), `number`, `total` weight and `tied`
    (whether several are the largest) of each segment.
    """

    order: np.ndarray
    run_of: np.ndarray
    start: np.ndarray
    weight: np.ndarray
    segment: np.ndarray
    top: np.ndarray
    first: np.ndarray
    number: np.ndarray
    total: np.ndarray
    tied: np.ndarray


@dataclass(frozen=True)
class Moment:
    """A state in which `stands` int[n] are judged: the row that carries each (`chosen` int[n]) and its `group` int[n]; `groups` int[rows] of every row."""

    stands: np.ndarray
    chosen: np.ndarray
    group: np.ndarray
    groups: np.ndarray
    state: State
    team: Team | None
    domains: Domains


class Shift(NamedTuple):
    """A stand that another member carries into another group, on another tag, or into an open end; `before` and `after` its groups, -1 where it is
    on a wrong tag."""

    stand: int
    weight: int
    before: int
    after: int
    open: bool


def is_idle(plan: Plan, endpoint: str) -> bool:
    """Whether an endpoint is disconnected or its guest is off."""
    port = plan.of("host_port").get(endpoint)
    if port is not None:
        return not port.connected
    adapter = plan.get("adapter", endpoint)
    return not adapter.connected or not plan.get("guest", adapter.guest).running


def judge(plan: Plan) -> Judgement:
    """Every verdict of a plan."""
    with no_collecting():
        wiring = compile_wiring(plan)
        pairings = Pairings()
        return _Judge(wiring, pairings, solve(wiring, pairings)).run()


def rejudge(before: Judgement, plan: Plan, touched: Iterable[tuple[str, str]]) -> Judgement:
    """Every verdict after an edit that touched these records (kind, id), from the judgement before it, which stays as it was."""
    with no_collecting():
        old = before.wiring
        wiring = rewire(old, plan, touched)
        if wiring.book is not old.book:
            pairings = Pairings()
            return _Judge(wiring, pairings, solve(wiring, pairings)).run()
        if wiring.classes is not old.classes:
            before.pairings.grown()
        same = wiring.classes is old.classes and wiring.fabric is old.fabric and wiring.trunk_count == old.trunk_count
        crossing = any(w.crossing_teams for w in (wiring, old))
        domains = before.domains if same and not crossing else solve(wiring, before.pairings)
        return _Judge(wiring, before.pairings, domains, before.intent).run()


def _local_rows(wiring: Wiring, block: Block, pairings: Pairings) -> np.ndarray:
    """int32[rows, 7] of a block: stand in the block, way, team in the block, member, pairing, far bridge's trunk row, open."""
    cached = block.cache.get("rows")
    if cached is not None and cached[0] is pairings:
        known: np.ndarray = cached[1]
        return known
    team_number = {id(team): n for n, team in enumerate(block.teams)}
    options: dict[tuple[int, str], list[tuple[int, int, int, int, bool]]] = {}
    rows: list[tuple[int, ...]] = []
    for number, stand in enumerate(block.stands):
        key = (stand.bridge, stand.order)
        found = options.get(key)
        if found is None:
            found = options[key] = []
            bridge = wiring.bridges[stand.bridge] if stand.bridge >= 0 else None
            if bridge is not None and bridge.trunk >= 0:
                found.append((-1, -1, AT_HOME, bridge.trunk, False))
            elif bridge is not None:
                for team in wiring.teams_at(stand.bridge, stand.order):
                    for n, member in enumerate(team.members[: team.usable]):
                        if member.link is None:
                            found.append((team_number[id(team)], n, -1, 0, True))
                        else:
                            far = wiring.bridges[member.link.ends[1]].trunk
                            found.append((team_number[id(team)], n, pairings.number(*member.link.rules), far, False))
            if not found:
                found.append((-1, -1, -1, 0, False))
        rows.extend((number, way, *option) for way, option in enumerate(found))
    table = np.array(rows, dtype=np.int32).reshape(-1, 7)
    block.cache["rows"] = (pairings, table, bool((table[:, 4] == AT_HOME).any()))
    return table


def _columns(wiring: Wiring, block: Block, numbers: dict[str, int]) -> np.ndarray:
    """int64[stands, 9] of a block: the columns in their order."""
    links = [m.link for team in block.teams for m in team.members if m.link is not None]
    behind = {link.ends[0] for link in links if link.rules[1].private and wiring.bridges[link.ends[0]].trunk < 0}
    made = [
        (
            numbers[s.segment] if s.segment else -1,
            s.context,
            s.bridge,
            s.vni,
            len(s.records),
            s.awake if s.judged else 0,
            s.asleep if s.judged else 0,
            s.context >= 0 and not s.hears,
            bool(s.hears) and (not s.plain or s.bridge in behind),
        )
        for s in block.stands
    ]
    return np.array(made, dtype=np.int64).reshape(-1, 9)


class _Judge:
    def __init__(
        self,
        wiring: Wiring,
        pairings: Pairings,
        domains: Domains,
        known: Intent | None = None,
    ) -> None:
        self.wiring = wiring
        self.plan = wiring.plan
        self.pairings = pairings
        self.domains = domains
        self.count = wiring.classes.count
        self.segments = sorted(self.plan.of("segment"))
        self.intent = Intent.of(self.plan, known)
        self.stands: list[Stand] = []
        self.teams: list[Team] = []
        self.offsets: dict[str, int] = {}
        self.columns = self._gather()
        self.segment, self.context, self.bridge = self.columns.segment, self.columns.context, self.columns.bridge
        self.vni, self.weight = self.columns.vni, self.columns.weight
        records = [self.plan.get("segment", id) for id in self.segments]
        self.tag = np.array([-2 if s.vni else wiring.classes.of[s.vid or 0] for s in records] or [0], dtype=np.int32)
        self.vni_of = np.array([s.vni or -1 for s in records] or [0], dtype=np.int64)
        self.private = set(np.flatnonzero(self.columns.private).tolist())
        self.private_segments = {int(self.segment[n]) for n in self.private} - {-1}
        self.routers = self._routers()
        self.routed_segments = {int(self.segment[n]) for n in self.routers} - {-1}
        inside = self.bridge * self.count + np.maximum(self.context, 0) + self.vni * len(wiring.bridges) * self.count
        self.local = np.where((self.context >= 0) & ~self.columns.deaf, inside, -1 - np.arange(len(self.stands)))
        self.rows = self._rows()
        size = len(self.stands)
        self.fine = np.zeros(size, dtype=bool)
        self.worst = np.zeros(size, dtype=np.int8)
        self.causes: dict[int, dict[int, Cause]] = {}
        self.own: dict[str, tuple[int, Cause]] = {}
        self.today: Runs | None = None

    def run(self) -> Judgement:
        rows = self.rows
        self._gateways()
        groups = self._groups(self.domains)
        self._base(groups)
        self._own_ways(groups)
        self._crossing()
        status = self._combine()
        self._exposures(status, groups)
        self._addresses(status)
        self._twins(groups)
        causes = {
            stand: of[int(status[stand])] if int(status[stand]) in of else of[max(of)]
            for stand, of in self.causes.items()
            if status[stand] != HOME
        }
        lands = rows.landed[rows.first] if rows.stand.size else np.zeros(0, dtype=np.int16)
        return Judgement(
            self.plan,
            self.wiring,
            self.pairings,
            self.domains,
            rows,
            self.teams,
            self.stands,
            status,
            lands,
            self.columns,
            self.offsets,
            causes,
            self.own,
            self.intent,
        )

    # --- rows -------------------------------------------------------------------------------------------------

    def _gather(self) -> Columns:
        tables: list[np.ndarray] = []
        columns: list[np.ndarray] = []
        stand_at, team_at, sizes = [], [], []
        numbers = {id: n for n, id in enumerate(self.segments)}
        for block in self.wiring.blocks.values():
            table = _local_rows(self.wiring, block, self.pairings)
            tables.append(table)
            sizes.append(len(table))
            stand_at.append(len(self.stands))
            team_at.append(len(self.teams))
            cached = block.cache.get("columns")
            if cached is None or cached[0] is not self.intent.subnets:
                cached = block.cache["columns"] = (self.intent.subnets, _columns(self.wiring, block, numbers))
            columns.append(cached[1])
            self.offsets[block.key] = len(self.stands)
            self.stands.extend(block.stands)
            self.teams.extend(block.teams)
        whole = np.concatenate(tables)
        whole[:, 0] += np.repeat(np.array(stand_at, dtype=np.int32), sizes)
        teams = np.repeat(np.array(team_at, dtype=np.int32), sizes)
        whole[:, 2] = np.where(whole[:, 2] >= 0, whole[:, 2] + teams, -1)
        self.table = whole
        joined = np.concatenate(columns)
        listed = [np.ascontiguousarray(joined[:, n]) for n in range(7)]
        return Columns(*listed, *(joined[:, n] > 0 for n in (7, 8)))

    def _rows(self) -> Rows:
        count = self.count
        stand, way, team, member, pair, trunk, opened = (self.table[:, n] for n in range(7))
        there_table, back_table = self.pairings.tables(count)
        far = trunk.astype(np.int64) * count
        context = self.context[stand]
        there, mutual, entered = self._enter(context, pair, far, there_table, back_table)
        landed = np.where(there >= 0, there, context).astype(np.int16)
        self._beyond_unmanaged(landed, entered)
        segment = self.segment[stand]
        wanted = self.tag[np.maximum(segment, 0)]
        primary = np.arange(count)
        for secondary in self.plan.all("secondary_vlan"):
            vid = self.plan.get("segment", secondary.segment).vid
            primary[self.wiring.classes.of[secondary.vid]] = self.wiring.classes.of[vid or 0]
        known = np.isin(np.arange(count), self.tag[: len(self.segments)])
        arrived = primary[np.maximum(landed, 0)]
        untagged = (wanted == 0) & (context == 0) & ((landed <= 0) | ~known[np.maximum(landed, 0)])
        right = ((wanted > 0) & (landed >= 0) & (arrived == wanted)) | untagged
        vni = self.vni[stand]
        right = np.where(vni > 0, self.vni_of[np.maximum(segment, 0)] == vni, right)
        return Rows(
            stand=stand,
            way=way,
            team=team,
            member=member,
            pair=pair,
            far=far,
            node=entered,
            mutual=mutual,
            open=opened.astype(bool),
            landed=landed,
            right=right & (segment >= 0) & (context >= 0),
            first=np.flatnonzero(way == 0),
        )

    def _beyond_unmanaged(self, landed: np.ndarray, entered: np.ndarray) -> None:
        """Untagged frames that pass a bridge without classifying them land on the VID that the next managed switch gives them."""
        component = self.domains.component[: self.wiring.trunk_count * self.count]
        unsaid = np.flatnonzero((landed == 0) & (entered >= 0))
        if not unsaid.size:
            return
        beyond = component[entered[unsaid]]
        tagged = np.flatnonzero(np.isin(component, beyond) & (np.arange(component.size) % self.count > 0))
        given = np.zeros(int(component.max()) + 1, dtype=np.int16)
        # The first of several VIDs that leak into each other; the leak is found where it is.
        given[component[tagged[::-1]]] = tagged[::-1] % self.count
        landed[unsaid] = given[beyond]

    @staticmethod
    def _enter(
        context: np.ndarray, pair: np.ndarray, far: np.ndarray, there_table: np.ndarray, back_table: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Where frames of these contexts get to over these pairings: far context, whether they come back alike, node."""
        inside = np.maximum(context, 0)
        index = np.maximum(pair, 0)
        there = np.where((pair >= 0) & (context >= 0), there_table[index, inside], -1).astype(np.int32)
        mutual = (there >= 0) & (back_table[index, np.maximum(there, 0)] == context)
        at_home = (pair == AT_HOME) & (context >= 0)
        entered = np.where(there >= 0, far + there, np.where(at_home, far + inside, -1))
        return there, mutual | at_home, entered

    def _groups(self, domains: Domains) -> np.ndarray:
        """int64[rows]: the component that a row is in, or a number of its own for each context that is in none.

        An overlay's rows have the group of the host port that carries it, counted apart for each VNI.
        """
        rows = self.rows
        self.base = int(domains.component.max(initial=-1)) + 1
        local = self.bridge[rows.stand] * self.count + np.maximum(self.context[rows.stand], 0)
        inside = rows.mutual & (rows.node >= 0)
        component = domains.component[np.where(inside, rows.node, 0)] if domains.component.size else 0
        group: np.ndarray = np.where(inside, component, self.base + local)
        self.alone = self.base + (len(self.wiring.bridges) + 1) * self.count
        # A guest that tags its frames with the native VID of its port speaks and hears nothing: it is alone.
        group = np.where(self.columns.deaf[rows.stand], self.alone + rows.stand, group)
        group = group + self.vni[rows.stand] * (self.alone + len(self.stands) + 1)
        for row in np.flatnonzero(np.isin(rows.stand, list(self.private))).tolist() if self.private else ():
            if int(rows.node[row]) >= 0 and int(rows.pair[row]) != -1:
                group[row] = domains.component[int(rows.node[row])]
        return group

    def _hearing(self, row: int, domains: Domains) -> set[int]:
        """The groups whose frames a private stand hears over a row."""
        rows, stand = self.rows, self.stands[int(self.rows.stand[row])]
        pair, far = int(rows.pair[row]), int(rows.far[row])
        found = set()
        for context in stand.hears:
            node = -1
            if pair == AT_HOME:
                node = far + context
            elif pair >= 0:
                back = self.pairings.listed[pair].back
                coming = np.flatnonzero(back == context)
                found.update(domains.component[far + coming].tolist())
            if node >= 0:
                found.add(int(domains.component[node]))
            found.add(self.base + stand.bridge * self.count + context)
        return found

    def _routers(self) -> dict[int, list[tuple[str, int]]]:
        """For the stands of overlays that are carried over routers: each station, and its stand that is the gateway."""
        found: dict[int, list[tuple[str, int]]] = {}
        ways = self.wiring.ways_out
        for number in np.flatnonzero(self.vni > 0).tolist() if ways else ():
            for station, port in ways.get(self.stands[number].over, ()):
                place = self.wiring.place(port)
                if place is not None:
                    found.setdefault(number, []).append((station, self._number(place.stand)))
        return found

    def _over_routers(self, row: int, groups: np.ndarray) -> frozenset[tuple[int, str]]:
        """The routers that an overlay's host port reaches over a row, with its VNI."""
        stand = int(self.rows.stand[row])
        vni = int(self.vni[stand])
        own = int(groups[row]) - vni * (self.alone + len(self.stands) + 1)
        gates = self.routers.get(stand, ())
        return frozenset((vni, station) for station, gate in gates if int(groups[self.rows.first[gate]]) == own)

    def _gateways(self) -> None:
        """The places that bear each gateway address of the segment on which they belong, by segment number."""
        self.gateways: dict[int, dict[str, list[tuple[int, str]]]] = {}
        for n, id in enumerate(self.segments):
            for address in self.plan.get("segment", id).gateways:
                for record in sorted(self.wiring.bearers.get(address, ())):
                    place = self.wiring.place(record)
                    if place is None or place.segment != id:
                        continue
                    self.gateways.setdefault(n, {}).setdefault(address, []).append((self._number(place.stand), record))

    def _number(self, stand: Stand) -> int:
        return self.offsets[stand.block] + stand.index

    # --- states -----------------------------------------------------------------------------------------------

    def _note(self, stand: int, status: int, cause: Cause) -> None:
        self.worst[stand] = max(self.worst[stand], status)
        self.causes.setdefault(stand, {}).setdefault(status, cause)

    def _base(self, groups: np.ndarray) -> None:
        """Judge today's ways."""
        rows = self.rows
        first = rows.first
        right = rows.right[first]
        for number in np.flatnonzero(~right).tolist():
            self._misplaced(number, first[number], NOW, None)
        everyone = np.arange(right.size)
        self.today = self._runs(groups[first], everyone, np.flatnonzero(right)) if right.any() else None
        self.fine |= self._state(first, groups, everyone, NOW, None, self.domains, self.today)

    def _misplaced(self, stand: int, row: int, state: State, team: Team | None) -> None:
        """A stand that lands on no tag of its own segment over this row."""
        rows = self.rows
        if self.segment[stand] < 0:
            self._note(stand, UNPROVEN, Cause(NO_INTENT, state, team))
        elif self.stands[stand].rule is None:
            self._note(stand, ASTRAY, Cause(NO_GROUP, state, team))
        elif rows.open[row] and self.context[stand] == 0:
            self._note(stand, UNPROVEN, Cause(OPEN_END, state, team))
        else:
            self._note(stand, ASTRAY, Cause(WRONG_TAG, state, team))

    def _state(
        self,
        chosen: np.ndarray,
        groups: np.ndarray,
        stands: np.ndarray,
        state: State,
        team: Team | None,
        domains: Domains,
        runs: Runs | None = None,
    ) -> np.ndarray:
        """Judge the stands that are on their own tag in one state.

        `chosen` int[n]: the row that carries each of `stands`; returns whether each reaches what it must.  `runs`: if they are known.
        """
        rows = self.rows
        ok = np.zeros(stands.size, dtype=bool)
        inside = np.flatnonzero(rows.right[chosen])
        if not inside.size:
            return ok
        group = groups[chosen]
        now = Moment(stands, chosen, group, groups, state, team, domains)
        runs = runs or self._runs(group, stands, inside)
        order, total, tied = runs.order, runs.total, runs.tied
        ok[order] = (runs.top & ~tied[runs.segment])[runs.run_of]
        # Most segments hang together, and where nobody is cut off there is nothing more to ask.
        run_stop = np.append(runs.start[1:], order.size)
        ends = [*runs.start[runs.first][1:].tolist(), order.size]
        count = np.diff([*runs.first.tolist(), runs.start.size])
        special = np.array(
            [self._special(n) for n in runs.number.tolist()],
            dtype=bool,
        )
        for at in np.flatnonzero((count > 1) | special | (total == 1)).tolist():
            of = order[runs.start[runs.first[at]] : ends[at]]
            segment = int(runs.number[at])
            if segment in self.private_segments:
                self._private_state(now, segment, of, ok)
                continue
            if segment in self.routed_segments and self.weight[stands[of]].sum() > 1:
                self._routed_state(now, segment, of, ok)
                continue
            if not special[at] and total[at] > 1:
                # Its largest group is all that it must reach, and which that is was counted above.
                own = slice(runs.first[at], runs.first[at] + count[at])
                starts, stops = runs.start[own], run_stop[own]
                main = int(np.argmax(runs.weight[own])) if not tied[at] else -1
                kept = order[starts[main] : stops[main]] if main >= 0 else order[:0]
                need = Need([int(group[kept[0]])], self._someone(stands[kept])) if main >= 0 else Need([], "")
                for n in range(int(count[at])):
                    if n != main:
                        bad = order[starts[n] : stops[n]]
                        self._cut_off(now, bad, int(group[bad[0]]), of, need)
                continue
            needs = self._needs(segment, stands[of], group[of])
            if needs is None:
                ok[of] = self._alone(now, int(of[0]))
                continue
            # Team orders of their own may take two neighbours different ways; within their switch they meet all the same.
            beside = self.local[stands[of]]
            met = np.array([_among(group[of], need.groups) | _among(beside, need.beside) for need in needs])
            good = met.all(axis=0)
            ok[of] = good
            lost = np.flatnonzero(~good)
            for mine in np.unique(group[of[lost]]).tolist() if lost.size else ():
                bad = lost[group[of[lost]] == mine]
                need = needs[int(np.flatnonzero(~met[:, bad[0]])[0])]
                self._cut_off(now, of[bad], mine, of, need)
        return ok

    def _special(self, segment: int) -> bool:
        """Whether there is more to ask of a segment's stands than which group is the largest."""
        return segment in self.gateways or segment in self.private_segments or segment in self.routed_segments

    def _runs(self, group: np.ndarray, stands: np.ndarray, inside: np.ndarray) -> Runs:
        """The runs of those of `stands` that are `inside`; `group` int[stands] is the group of each."""
        order = inside[np.lexsort((group[inside], self.segment[stands[inside]]))]
        segments, grouped = self.segment[stands[order]], group[order]
        fresh_segment = np.r_[True, segments[1:] != segments[:-1]]
        fresh = fresh_segment | np.r_[True, grouped[1:] != grouped[:-1]]
        start = np.flatnonzero(fresh)
        weight = np.add.reduceat(self.weight[stands[order]], start)
        segment = np.cumsum(fresh_segment)[start] - 1
        first = np.flatnonzero(fresh_segment[start])
        top = weight == np.maximum.reduceat(weight, first)[segment]
        return Runs(
            order,
            np.cumsum(fresh) - 1,
            start,
            weight,
            segment,
            top,
            first,
            segments[start[first]],
            np.add.reduceat(weight, first),
            np.add.reduceat(top.astype(np.int64), first) > 1,
        )

    def _needs(self, segment: int, stands: np.ndarray, group: np.ndarray) -> list[Need] | None:
        """What the stands of a segment must reach: each of its gateways, or else its largest group.

        `group` is sorted.  None: the segment has this one place only and nothing to reach but the fabric.  A need
        without groups: no group is the largest.
        """
        if segment in self.gateways:
            at = {int(s): int(g) for s, g in zip(stands, group, strict=True)}
            gates = [
                Need(
                    sorted({at[s] for s, _ in owners if s in at}),
                    next(r for s, r in owners if s in at),
                    tuple(int(self.local[s]) for s, _ in owners if s in at),
                )
                for owners in self.gateways[segment].values()
                if any(s in at for s, _ in owners)
            ]
            if gates:
                return gates
        if int(self.weight[stands].sum()) == 1:
            return None
        starts = np.flatnonzero(np.r_[True, group[1:] != group[:-1]])
        counts = np.add.reduceat(self.weight[stands], starts)
        top = np.flatnonzero(counts == counts.max())
        if top.size > 1:
            return [Need([], "")]
        main = int(group[starts[top[0]]])
        return [Need([main], self._someone(stands[group == main]))]

    def _someone(self, stands: np.ndarray) -> str:
        """A place that stands for some stands: the first of the first one."""
        return self.stands[int(stands.min())].records[0]

    def _alone(self, now: Moment, at: int) -> bool:
        """The only place of a segment without gateway: its tag must get into the fabric, if its switch is wired."""
        number = int(now.stands[at])
        stand = self.stands[number]
        if stand.bridge >= 0 and not self.wiring.bridges[stand.bridge].virtual:
            return True
        inside = int(now.group[at]) - stand.vni * (self.alone + len(self.stands) + 1) < self.base
        if inside or not self.wiring.teams_at(stand.bridge, stand.order):
            return True
        if self.rows.open[now.chosen[at]]:
            self._note(number, UNPROVEN, Cause(OPEN_END, now.state, now.team))
        else:
            self._note(number, STRANDED, Cause(CUT_OFF, now.state, now.team))
        return False

    def _cut_off(self, now: Moment, lost: np.ndarray, mine: int, of: np.ndarray, need: Need) -> None:
        """Stands of a segment that are in one group and miss what they need."""
        group = now.group
        nic_open = set(group[of[self.rows.open[now.chosen[of]]]].tolist())
        others = need.groups or [g for g in np.unique(group[of]).tolist() if g != mine]
        towards = need.place
        if not towards:
            elsewhere = of[group[of] != mine]
            towards = self._someone(now.stands[elsewhere]) if elsewhere.size else ""
        self._lost(now.stands[lost].tolist(), mine, others, nic_open, towards, now.state, now.team, now.domains)

    def _lost(
        self,
        lost: list[int],
        mine: int,
        others: list[int],
        nic_open: set[int],
        towards: str,
        state: State,
        team: Team | None,
        domains: Domains,
    ) -> None:
        """Stands in one group that miss others; `nic_open` are the groups of the segment from which some NIC leads nobody knows where."""
        scale = self.alone + len(self.stands) + 1

        def leaky(g: int) -> bool:
            return g in nic_open or g % scale in domains.open

        unknown = mine in nic_open or any(o in nic_open for o in others)
        unknown = unknown or (leaky(mine) and any(leaky(o) for o in others))
        status, cause = (UNPROVEN, OPEN_END) if unknown else (STRANDED, CUT_OFF)
        for number in lost:
            self._note(number, status, Cause(cause, state, team, towards))

    def _gates(self, now: Moment, segment: int, of: np.ndarray) -> list[list[int]]:
        """For each gateway address of a segment, those of its stands that bear it: it is enough to reach one of them."""
        at = {int(now.stands[a]): int(a) for a in of}
        found = ([at[s] for s, _ in owners if s in at] for owners in self.gateways.get(segment, {}).values())
        return [gate for gate in found if gate]

    def _private_state(self, now: Moment, segment: int, of: np.ndarray, ok: np.ndarray) -> None:
        """A segment with a private VLAN: each must hear, and be heard by, its gateways; without any, all the promiscuous ports,
        and a community its own members (RFC 5517 section 3)."""
        numbers = {int(a): int(now.stands[a]) for a in of}
        speaks = {a: int(now.group[a]) for a in numbers}
        hears = {a: self._heard_by(int(now.chosen[a]), speaks[a], now.domains) for a in numbers}

        def meet(a: int, b: int) -> bool:
            return speaks[a] in hears[b] and speaks[b] in hears[a]

        gates = self._gates(now, segment, of)
        promiscuous = [[a] for a, number in numbers.items() if self._wide(number)]
        communities: dict[int, list[list[int]]] = {}
        for a, number in numbers.items():
            if not self._narrow(number):
                communities.setdefault(int(self.context[number]), []).append([a])
        for a, number in numbers.items():
            musts = gates or [*promiscuous, *communities.get(int(self.context[number]), ())]
            missed = next((m for m in musts if a not in m and not any(meet(a, b) for b in m)), None)
            ok[a] = missed is None
            if missed is not None:
                towards = self.stands[numbers[missed[0]]].records[0]
                open_ = bool(self.rows.open[now.chosen[a]] or self.rows.open[now.chosen[missed[0]]])
                cause = Cause(OPEN_END if open_ else CUT_OFF, now.state, now.team, towards)
                self._note(number, UNPROVEN if open_ else STRANDED, cause)

    def _routed_state(self, now: Moment, segment: int, of: np.ndarray, ok: np.ndarray) -> None:
        """An overlay of which some tunnels go over routers: each must reach its gateways; without any, its largest group.

        Who has no gateway reaches those beside it alone, so that reaching isn't handed on.
        """
        group, stands = now.group, now.stands
        beyond = {int(a): self._over_routers(int(now.chosen[a]), now.groups) for a in of}

        def meet(a: int, b: int) -> bool:
            return bool(group[a] == group[b] or beyond[a] & beyond[b] or self.local[stands[a]] == self.local[stands[b]])

        musts = self._gates(now, segment, of)
        if not musts:
            parts: dict[object, list[int]] = {}
            for a in beyond:
                parts.setdefault(min(beyond[a], default=int(group[a])), []).append(a)
            ranked = sorted(parts.values(), key=lambda part: -int(self.weight[stands[part]].sum()))
            tied = len(ranked) > 1 and len({int(self.weight[stands[part]].sum()) for part in ranked[:2]}) == 1
            musts = [[]] if tied else [[a] for a in ranked[0]]
        for a in beyond:
            missed = next((m for m in musts if not any(meet(a, b) for b in m)), None)
            ok[a] = missed is None
            if missed is not None:
                named = self.stands[int(stands[missed[0]])].records[0] if missed else ""
                self._cut_off(now, np.array([a]), int(group[a]), of, Need([int(group[b]) for b in missed], named))

    def _heard_by(self, row: int, group: int, domains: Domains) -> set[int]:
        return self._hearing(row, domains) if int(self.rows.stand[row]) in self.private else {group}

    def _wide(self, stand: int) -> bool:
        """Whether it hears and reaches all of its private VLAN, as a promiscuous port or one outside it does."""
        hears = self.stands[stand].hears
        return (len(hears) > 1 and self.context[stand] == hears[0]) or self.stands[stand].plain

    def _narrow(self, stand: int) -> bool:
        """Whether it is isolated: it doesn't hear its own VLAN."""
        return int(self.context[stand]) not in self.stands[stand].hears

    def _own_ways(self, groups: np.ndarray) -> None:
        """Judge every state in which one team of an end switch is carried by another member."""
        rows = self.rows
        other = np.flatnonzero(rows.way > 0)
        if not other.size:
            return
        base_row = rows.first[rows.stand[other]]
        same = (
            (groups[other] == groups[base_row])
            & (rows.right[other] == rows.right[base_row])
            & (rows.open[other] == rows.open[base_row])
        )
        changed = other[~same]
        wrong = changed[~rows.right[changed] & (self.segment[rows.stand[changed]] >= 0)]
        for row in wrong.tolist():
            team, state = self._deviation(int(rows.team[row]), int(rows.member[row]))
            self._misplaced(int(rows.stand[row]), row, state, team)
        changed = changed[self.segment[rows.stand[changed]] >= 0]
        if not changed.size:
            return
        first = rows.first
        stand, base = rows.stand[changed], first[rows.stand[changed]]
        columns = (
            rows.team[changed],
            rows.member[changed],
            self.segment[stand],
            stand,
            self.weight[stand],
            np.where(rows.right[base], groups[base], -1),
            np.where(rows.right[changed], groups[changed], -1),
            rows.open[base] | rows.open[changed],
        )
        events: dict[tuple[int, int], dict[int, list[Shift]]] = {}
        for team_no, member, segment, *shift in zip(*(c.tolist() for c in columns), strict=True):
            events.setdefault((team_no, member), {}).setdefault(segment, []).append(Shift(*shift))
        order = np.argsort(self.segment, kind="stable")
        starts = np.searchsorted(self.segment[order], np.arange(len(self.segments) + 1)).tolist()
        today = _Today(self, groups, order, starts)
        for (team_no, member), moved in sorted(events.items(), key=lambda event: event[0]):
            team, state = self._deviation(team_no, member)
            left = sorted(n for n, shifts in moved.items() if not self._stays(today, n, shifts, state, team))
            if not left:
                continue
            stands = np.concatenate([order[starts[n] : starts[n + 1]] for n in left])
            chosen = first[stands].copy()
            for at in np.flatnonzero(rows.team[chosen] == team_no).tolist():
                row = int(chosen[at])
                while row + 1 < rows.stand.size and rows.stand[row + 1] == stands[at]:
                    row += 1
                    if rows.member[row] == member:
                        chosen[at] = row
                        break
            ok = self._state(chosen, groups, stands, state, team, self.domains)
            self.fine[stands[ok]] = True

    def _stays(self, today: _Today, segment: int, shifts: list[Shift], state: State, team: Team) -> bool:
        """Judge a state in which most of a segment stay where they are together, so that nothing changes for those who don't move; False: it isn't so."""
        main, weight, total = today.main[segment], today.weight[segment], today.total[segment]
        if main < 0 or self._special(segment) or any(shift.open for shift in shifts):
            return False
        for shift in shifts:
            total += shift.weight * ((shift.after >= 0) - (shift.before >= 0))
            weight += shift.weight * ((shift.after == main) - (shift.before == main))
        if total < 2 or weight * 2 <= total:
            return False
        towards = ""
        for shift in shifts:
            if shift.after == main:
                self.fine[shift.stand] = True
            elif shift.after >= 0:
                towards = towards or today.someone(segment, shifts)
                opened = today.open(segment)
                self._lost([shift.stand], shift.after, [main], opened, towards, state, team, self.domains)
        return True

    def _deviation(self, team_no: int, member: int) -> tuple[Team, State]:
        team = self.teams[team_no]
        return team, State({team.key: team.members[member].key})

    def _crossing(self) -> None:
        """Judge the states in which a team over which others' frames go is carried by another member."""
        for team in self.wiring.crossing_teams:
            for member in team.members[1 : team.usable]:
                state = State({team.key: member.key})
                domains = solve(self.wiring, self.pairings, state)
                first = self.rows.first
                ok = self._state(first, self._groups(domains), np.arange(first.size), state, team, domains)
                self.fine |= ok
        self.base = int(self.domains.component.max(initial=-1)) + 1

    def _combine(self) -> np.ndarray:
        """One verdict a stand from today's and the other states'."""
        status = self.worst.copy()
        wavers = self.fine & (self.worst >= STRANDED)
        status[wavers] = WAVERING
        for stand in np.flatnonzero(wavers).tolist():
            of = self.causes[stand]
            of[WAVERING] = of[max(of)]
        return status

    # --- addresses and exposures ------------------------------------------------------------------------------

    def _addresses(self, status: np.ndarray) -> None:
        """A static address outside its segment's subnets cuts a place off from its gateway and peers."""
        for block in self.wiring.blocks.values():
            if not block.addresses:
                continue
            cached = block.cache.get("subnets")
            if cached is None or cached[0] is not self.intent.subnets:
                cached = (self.intent.subnets, _outside(block, self.intent.subnets))
                block.cache["subnets"] = cached
            for record in cached[1]:
                if status[self._number(block.stand_of[record])] <= WAVERING:
                    self.own[record] = (STRANDED, Cause(ADDRESS))

    def _exposures(self, status: np.ndarray, groups: np.ndarray) -> None:
        """Two segments whose places are on their own tags and hear each other."""
        rows = self.rows
        speaking = rows.right & (status[rows.stand] != ASTRAY)
        size = len(self.segments) + 1
        pairs = np.unique(groups[speaking] * size + self.segment[rows.stand[speaking]])
        pair_group, pair_segment = pairs // size, pairs % size
        several = np.unique(pair_group[1:][pair_group[1:] == pair_group[:-1]]) if pairs.size else pairs
        one_way = self.domains.one_way()
        lonely = speaking & ~rows.mutual & (rows.node >= 0)
        if not several.size and not one_way and not lonely.any() and not self.routers:
            return
        present: dict[int, set[int]] = {}
        for group, segment in zip(pair_group.tolist(), pair_segment.tolist(), strict=True):
            present.setdefault(group, set()).add(segment)
        meets: dict[int, set[int]] = {group: set(found) for group, found in present.items() if len(found) > 1}
        for start in one_way & present.keys():
            for other in (self.domains.hearers(start) & present.keys()) - {start}:
                mixed = present[start] | present[other]
                if len(mixed) > 1:
                    meets.setdefault(start, set()).update(mixed)
                    meets.setdefault(other, set()).update(mixed)
        self._one_way(meets, present, groups, lonely)
        routed: dict[tuple[int, str], set[int]] = {}
        for row in np.flatnonzero(speaking & np.isin(rows.stand, list(self.routers))).tolist():
            for router in self._over_routers(row, groups):
                routed.setdefault(router, set()).add(int(groups[row]))
        for joined in routed.values():
            mixed = set().union(*(present[group] for group in joined))
            for group in joined if len(mixed) > 1 else ():
                meets.setdefault(group, set()).update(mixed)
        if meets:
            self._expose(status, groups, speaking, meets)

    def _one_way(
        self, meets: dict[int, set[int]], present: dict[int, set[int]], groups: np.ndarray, lonely: np.ndarray
    ) -> None:
        """Rows that speak into the fabric without hearing it back: what they say is heard all the same."""
        rows = self.rows
        for row in np.flatnonzero(lonely).tolist():
            into = int(self.domains.component[rows.node[row]])
            segment = int(self.segment[rows.stand[row]])
            for reached in self.domains.hearers(into):
                if reached in present and present[reached] - {segment}:
                    meets.setdefault(reached, set(present[reached])).add(segment)
                    meets.setdefault(int(groups[row]), set()).update(present[reached] | {segment})

    def _expose(self, status: np.ndarray, groups: np.ndarray, speaking: np.ndarray, meets: dict[int, set[int]]) -> None:
        rows = self.rows
        seats: dict[tuple[int, int], str] = {}
        inside = np.flatnonzero(speaking & np.isin(groups, list(meets))).tolist()
        for row in inside:
            key = (int(groups[row]), int(self.segment[rows.stand[row]]))
            mine = self.stands[int(rows.stand[row])].records[0]
            seats[key] = min(seats.get(key, mine), mine)
        by_segment: dict[int, str] = {}
        for (_, segment), record in sorted(seats.items(), key=lambda item: item[1]):
            by_segment.setdefault(segment, record)
        for row in inside:
            stand, segment = int(rows.stand[row]), int(self.segment[rows.stand[row]])
            foreign = sorted(meets[int(groups[row])] - {segment})
            if not foreign:
                continue
            other = seats.get((int(groups[row]), foreign[0])) or by_segment.get(foreign[0], "")
            status[stand] = EXPOSED
            if EXPOSED in self.causes.get(stand, {}):
                continue
            team_no = int(rows.team[row])
            team, state = self._deviation(team_no, int(rows.member[row])) if rows.way[row] else (None, NOW)
            self.causes.setdefault(stand, {})[EXPOSED] = Cause(LEAK, state, team, other)

    def _twins(self, groups: np.ndarray) -> None:
        """Two endpoints with one address that hear each other, unless the other one is idle."""
        if not self.wiring.doubled:
            return
        first = self.rows.first
        for address in sorted(self.wiring.doubled):
            owners: list[tuple[Place, int, set[int], frozenset[tuple[int, str]]]] = []
            for record in sorted(self.wiring.bearers[address]):
                place = self.wiring.place(record)
                if place is not None and place.context >= 0:
                    row = int(first[self._number(place.stand)])
                    heard = self._heard_by(row, int(groups[row]), self.domains)
                    owners.append((place, int(groups[row]), heard, self._over_routers(row, groups)))
            for place, group, hears, beyond in owners:
                other = next(
                    (
                        o
                        for o, its, its_hears, its_beyond in owners
                        if o.endpoint != place.endpoint
                        and (
                            (its in hears and group in its_hears) or bool(beyond & its_beyond) or self._beside(o, place)
                        )
                        and self._active(o)
                    ),
                    None,
                )
                if other is not None and place.stand.judged:
                    self.own[place.record] = (EXPOSED, Cause(TWIN, towards=other.record))

    def _beside(self, one: Place, two: Place) -> bool:
        plain = one.stand.plain and two.stand.plain
        return plain and bool(self.local[self._number(one.stand)] == self.local[self._number(two.stand)])

    def _active(self, place: Place) -> bool:
        return not place.stand.judged or not is_idle(self.plan, place.endpoint)


class _Today:
    """Of each segment, by number: the `main` group in which more of its places are than in any other (-1: there is none), the places in it
    (`weight`), and all its places on its own tag (`total`)."""

    def __init__(self, judge: _Judge, groups: np.ndarray, order: np.ndarray, starts: list[int]) -> None:
        self.judge, self.order, self.starts = judge, order, starts
        self._open: dict[int, set[int]] = {}
        first = judge.rows.first
        self.groups = np.where(judge.rows.right[first], groups[first], -1)
        main, weight, total = np.full((3, len(judge.segments)), [[-1], [0], [0]], dtype=np.int64)
        runs = judge.today
        if runs is not None:
            best = np.flatnonzero(runs.top & ~runs.tied[runs.segment])
            numbers = runs.number[runs.segment[best]]
            main[numbers] = self.groups[runs.order[runs.start[best]]]
            weight[numbers] = runs.weight[best]
            total[runs.number] = runs.total
        self.main, self.weight, self.total = main.tolist(), weight.tolist(), total.tolist()

    def _stands(self, segment: int) -> np.ndarray:
        return self.order[self.starts[segment] : self.starts[segment + 1]]

    def someone(self, segment: int, shifts: list[Shift]) -> str:
        """Who stands for the main group of a segment after these shifts."""
        main, stands = self.main[segment], self._stands(segment)
        gone = {shift.stand for shift in shifts}
        staying = stands[self.groups[stands] == main].tolist()
        there = [next((s for s in staying if s not in gone), None), *(m.stand for m in shifts if m.after == main)]
        return self.judge.stands[min(s for s in there if s is not None)].records[0]

    def open(self, segment: int) -> set[int]:
        """The groups of a segment from which some NIC leads nobody knows where."""
        if segment not in self._open:
            stands = self._stands(segment)
            opened = stands[self.judge.rows.open[self.judge.rows.first[stands]] & (self.groups[stands] >= 0)]
            self._open[segment] = set(self.groups[opened].tolist())
        return self._open[segment]


def _among(values: np.ndarray, few: Sequence[int]) -> np.ndarray:
    """bool[n]: which values are one of a few; `numpy.isin` takes several times as long for them."""
    made = np.zeros(values.size, dtype=bool)
    for one in few:
        made |= values == one
    return made


def _outside(block: Block, subnets: dict[str, tuple[str, ...]]) -> list[str]:
    """The records of a block that bear a static address outside the subnets of the segment on which they belong."""
    nets = {id: [ipaddress.ip_network(text) for text in listed] for id, listed in subnets.items() if listed}
    found: dict[str, None] = {}
    for text, record in block.addresses:
        known = nets.get(block.stand_of[record].segment or "")
        if not known:
            continue
        address = ipaddress.ip_address(bare_address(text))
        same = [net for net in known if net.version == address.version]
        if same and not any(address in net for net in same):
            found[record] = None
    return list(found)


def tag_text(wiring: Wiring, number: int) -> str:
    """A VID class as people say it: its VID, or "untagged"."""
    return str(wiring.classes.vid(number)) if number > 0 else "untagged"

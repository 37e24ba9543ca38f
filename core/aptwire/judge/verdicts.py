"""The verdict of every endpoint, from arrays over (stand, way).

A *stand* is what no frame can tell apart: the same port of the same bridge, the same tag, belonging on the same
segment.  A *way* is a member of its switch's uplink over which it may get out.  Two stands meet in a state when their ways
lead into one component of the fabric (or they share a context of one switch).  States are today's and each single
team carried by another member, which is enough: choices at different teams are independent, so a difference
shows as soon as one team differs.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from aptwire.forward.compiling import compile_wiring, rewire
from aptwire.forward.domains import Pairings, solve
from aptwire.forward.parts import NOW, Place
from aptwire.judge.exact import Exact
from aptwire.judge.judgement import (
    ADDRESS,
    ASTRAY,
    CUT_OFF,
    EXPOSED,
    HOME,
    LEAK,
    MIRRORED,
    NO_BEARER,
    STRANDED,
    TOO_LARGE,
    TWIN,
    TWIN_MAC,
    UNPROVEN,
    WAVERING,
    Cause,
    Judgement,
    is_idle,
)
from aptwire.judge.kept import Kept
from aptwire.judge.rows import Gate
from aptwire.judge.sizes import misfits
from aptwire.judge.states import States
from aptwire.plan.collecting import no_collecting
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import (
    Mirror,
    SharedAddress,
)
from aptwire.plan.plan import Plan


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
        same = (
            wiring.classes is old.classes
            and wiring.fabric is old.fabric
            and wiring.crossing_count == old.crossing_count
        )
        crossing = any(w.crossing_teams for w in (wiring, old))
        domains = before.domains if same and not crossing else solve(wiring, before.pairings)
        return _Judge(wiring, before.pairings, domains, before.intent, before.gathered).run(before.kept)


def _fitted(judgement: Judgement) -> Judgement:
    """A judgement in which who sends what doesn't get through is stranded too."""
    for record, misfit in misfits(judgement).items():
        place = judgement.wiring.place(record)
        if place is not None and place.stand.judged and judgement.status_of(place) < STRANDED:
            detail = f"{misfit.sends} {misfit.takes}"
            judgement.own[record] = (STRANDED, Cause(TOO_LARGE, at=misfit.at, detail=detail))
    return judgement


class _Judge(States):
    def run(self, kept: Kept | None = None) -> Judgement:
        rows = self.rows
        self._gateways()
        groups = self._groups(self.domains)
        self._base(groups)
        self._own_ways(groups)
        self._crossing()
        status = self._combine()
        self._exposures(status, groups)
        self._addresses(status)
        self._unborne(status)
        self._own_gateways(status, groups)
        self._idle_bearers(status)
        self._isolated_bearers(status, groups)
        self._asked_exactly(status, groups)
        self._twins(groups)
        self._mirrors()
        causes = {
            stand: of[int(status[stand])] if int(status[stand]) in of else of[max(of)]
            for stand, of in self.causes.items()
            if status[stand] != HOME
        }
        lands = rows.landed[rows.first] if rows.stand.size else np.zeros(0, dtype=np.int16)
        judgement = Judgement(
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
            gathered=self.gathered,
            kept=kept or Kept(),
        )
        return _fitted(judgement)

    def _addresses(self, status: np.ndarray) -> None:
        """A static address outside its segment's subnets cuts a place off from its gateway and peers."""
        for key, records in self.gathered.outside.items():
            for record in records:
                if status[self._number(self.wiring.blocks[key].stand_of[record])] <= WAVERING:
                    self.own[record] = (STRANDED, Cause(ADDRESS))

    def _unborne(self, status: np.ndarray) -> None:
        """Who needs a gateway that nobody bears: nobody can know whether it is reached.  Who bears another of its segment's needs none."""
        for segment, addresses in self.unborne.items():
            versions = {_version(address) for address in addresses}
            exempt = {record for gate in self.gateways.get(segment, ()) for _, record in gate.awake}
            for number in np.flatnonzero((self.segment == segment) & (status == HOME)).tolist():
                stand, cause = self.stands[number], Cause(NO_BEARER)
                if not stand.judged:
                    continue
                needy = [r for r in stand.records if r not in exempt and self._uses(r, versions)]
                if len(needy) == len(stand.records):
                    status[number] = UNPROVEN
                    self.causes.setdefault(number, {})[UNPROVEN] = cause
                else:
                    self.own.update((record, (UNPROVEN, cause)) for record in needy if record not in self.own)

    def _uses(self, record: str, versions: set[int]) -> bool:
        """Whether a place asks for a gateway of one of these versions of IP: that of its static addresses, or any where it has none; a host
        port with a gateway of its own asks for that one."""
        place = self.wiring.place(record)
        assert place is not None
        port = self.plan.of("host_port").get(record)
        said = {_version(port.gateway)} if port is not None and port.gateway else set()
        used = {_version(bare_address(a)) for a in place.addresses}
        return bool((versions - said) & used if used else versions - said)

    def _own_gateways(self, status: np.ndarray, groups: np.ndarray) -> None:
        """Host ports that name a gateway of their own, other than their segment's."""
        for port in sorted(self.plan.having("host_port", "gateway"), key=lambda p: p.id):
            place = self.wiring.place(port.id)
            segment = self.plan.of("segment").get(port.belongs)
            if place is None or segment is None or place.context < 0 or port.gateway in segment.gateways:
                continue
            number = self._number(place.stand)
            before = int(status[number])
            cause = self.causes.get(number, {}).get(before)
            theirs = {gate.bearer for gate in self.gateways.get(int(self.segment[number]), ())}
            if cause is not None and cause.what == CUT_OFF and cause.towards in theirs:
                before = HOME
            gate = self._gate(port.gateway, None, [])
            if gate is None:
                found, why = UNPROVEN, Cause(NO_BEARER)
            else:
                found, why = self._reaching(number, gate, groups)
            if port.id not in self.own and (found > before or before != int(status[number])):
                self.own[port.id] = (max(found, before), why)

    def _reaching(self, number: int, gate: Gate, groups: np.ndarray) -> tuple[int, Cause]:
        """How a stand fares with a gateway over each of its ways."""
        rows = self.rows
        ways = rows.of(number)
        bearing = [stand for stand, _ in gate.awake if not self._kept_apart(number, stand)]
        theirs = {int(groups[rows.first[stand]]) for stand in bearing}
        theirs |= {int(self.domains.component[node]) for node in gate.entries}
        beside = {int(self.local[stand]) for stand in bearing}
        met = [not theirs.isdisjoint(self._heard_by(row, int(groups[row]), self.domains)) for row in ways]
        if int(self.local[number]) in beside or all(met):
            return HOME, Cause(CUT_OFF, towards=gate.bearer)
        row = ways[met.index(False)]
        team, state = self._deviation(int(rows.team[row]), int(rows.member[row])) if rows.way[row] else (None, NOW)
        return (WAVERING if any(met) else STRANDED), Cause(CUT_OFF, state, team, gate.bearer)

    def _idle_bearers(self, status: np.ndarray) -> None:
        """Who bears its own segment's gateway, and is off, needs none once it runs."""
        for gates in self.gateways.values():
            for record in (record for gate in gates for record in gate.idle):
                place = self.wiring.place(record)
                assert place is not None
                number = self._number(place.stand)
                cause = self.causes.get(number, {}).get(int(status[number]))
                if cause is not None and cause.what == CUT_OFF and cause.towards == record:
                    self.own[record] = (HOME, cause)

    def _isolated_bearers(self, status: np.ndarray, groups: np.ndarray) -> None:
        """Who shares an isolated port group with the bearer of its gateway doesn't reach that one."""
        for gate in (gate for gates in self.gateways.values() for gate in gates):
            bearing = {record for _, record in gate.awake}
            for number in sorted({stand for stand, _ in gate.awake if self._narrow(stand)}):
                others = [r for r in self.stands[number].records if r not in bearing]
                if not others or not self.stands[number].judged or self.segment[number] < 0:
                    continue
                found, cause = self._reaching(number, gate, groups)
                if found > status[number]:
                    self.own.update((record, (found, cause)) for record in others if record not in self.own)

    def _asked_exactly(self, status: np.ndarray, groups: np.ndarray) -> None:
        """Who is taken to meet its gateway or peers by the arrays, and doesn’t by the exact search."""
        for stand, other in Exact(self, status, groups).missed():
            if status[stand] == HOME:
                status[stand] = STRANDED
                towards = self.stands[other].records[0]
                self.causes.setdefault(stand, {})[STRANDED] = Cause(CUT_OFF, towards=towards)

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
        if not several.size and not one_way and not lonely.any() and not self.routers and not self.private:
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
        hearing, listeners = self._overheard(meets, present, groups, speaking)
        routed: dict[tuple[int, str], set[int]] = {}
        for row in np.flatnonzero(speaking & np.isin(rows.stand, list(self.routers))).tolist():
            for router in self._over_routers(row, groups):
                routed.setdefault(router, set()).add(int(groups[row]))
        for joined in routed.values():
            mixed = set().union(*(present[group] for group in joined))
            for group in joined if len(mixed) > 1 else ():
                meets.setdefault(group, set()).update(mixed)
        if meets:
            self._expose(status, groups, speaking, meets, listeners)
        for stand, other in sorted(hearing.items()):
            status[stand] = EXPOSED
            cause = Cause(LEAK, towards=self.stands[other].records[0])
            self.causes.setdefault(stand, {}).setdefault(EXPOSED, cause)

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

    def _overheard(
        self, meets: dict[int, set[int]], present: dict[int, set[int]], groups: np.ndarray, speaking: np.ndarray
    ) -> tuple[dict[int, int], dict[tuple[int, int], str]]:
        """Stands that hear other groups than the one in which they speak: what is said there comes to their ears.

        Whoever speaks there is overheard; of those beside the one that hears, nobody else is.  Returns whom each of them hears, and for each group and segment who listens there.
        """
        rows = self.rows
        private = np.flatnonzero(speaking & self.columns.private[rows.stand]).tolist()
        ears: dict[int, set[int]] = {}
        for row in private:
            for heard in self._hearing(row, self.domains):
                ears.setdefault(heard, set()).add(int(rows.stand[row]))
        found: dict[int, int] = {}
        listening: dict[tuple[int, int], str] = {}
        if not ears:
            return found, listening
        voices = {(int(groups[row]), int(rows.stand[row])) for row in np.flatnonzero(speaking).tolist()}
        for spoken, stand in voices:
            mine = int(self.segment[stand])
            for reached in self._reached_from(stand, spoken, self.domains):
                for listener in ears.get(reached, ()):
                    theirs = int(self.segment[listener])
                    if theirs != mine:
                        meets.setdefault(spoken, set(present[spoken])).add(theirs)
                        found[listener] = min(found.get(listener, stand), stand)
                        record = self.stands[listener].records[0]
                        listening[spoken, theirs] = min(listening.get((spoken, theirs), record), record)
        return found, listening

    def _expose(
        self,
        status: np.ndarray,
        groups: np.ndarray,
        speaking: np.ndarray,
        meets: dict[int, set[int]],
        listeners: dict[tuple[int, int], str],
    ) -> None:
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
            key = (int(groups[row]), foreign[0])
            other = seats.get(key) or listeners.get(key) or by_segment.get(foreign[0], "")
            status[stand] = EXPOSED
            if EXPOSED in self.causes.get(stand, {}):
                continue
            team_no = int(rows.team[row])
            team, state = self._deviation(team_no, int(rows.member[row])) if rows.way[row] else (None, NOW)
            self.causes.setdefault(stand, {})[EXPOSED] = Cause(LEAK, state, team, other)

    def _twins(self, groups: np.ndarray) -> None:
        """Two endpoints with one address that hear each other, unless the other one is idle."""
        shared = {record.address for record in self.plan.all(SharedAddress)}
        for address in sorted(self.wiring.doubled - shared):
            self._meeting(groups, self.wiring.bearers[address], TWIN)
        virtual = {record.mac for record in self.plan.all(SharedAddress)}
        for mac in sorted(self.wiring.doubled_macs - virtual):
            places = (place for adapter in self.wiring.macs[mac] for place in self.wiring.places_of(adapter))
            self._meeting(groups, [place.record for place in places], TWIN_MAC)

    def _mirrors(self) -> None:
        """A mirror is hearing: into another segment it is a leak, of which source and target are the ends."""
        for mirror in sorted(self.plan.all(Mirror), key=lambda m: m.id):
            ends = [self.wiring.places_of(id) for id in (mirror.source, mirror.target)]
            known = [{p.segment for p in places} - {None} for places in ends]
            if not known[0] or not known[1] or known[0] <= known[1]:
                continue
            if any(is_idle(self.plan, id) for id in (mirror.source, mirror.target)):
                continue
            for mine, other in ((ends[0], ends[1]), (ends[1], ends[0])):
                for place in mine:
                    cause = Cause(MIRRORED, towards=other[0].record, at=mirror.id)
                    self.own.setdefault(place.record, (EXPOSED, cause))

    def _meeting(self, groups: np.ndarray, bearers: Iterable[str], what: str) -> None:
        """Of several that bear one address: those that hear each other, unless a guest's own team makes them one endpoint."""
        first = self.rows.first
        owners: list[tuple[Place, int, set[int], frozenset[tuple[int, str]]]] = []
        for record in sorted(bearers):
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
                    and not self._one_team(o.endpoint, place.endpoint)
                    and ((its in hears and group in its_hears) or bool(beyond & its_beyond) or self._beside(o, place))
                    and not self._kept_apart(self._number(o.stand), self._number(place.stand))
                    and self._active(o)
                ),
                None,
            )
            if other is not None and place.stand.judged:
                self.own[place.record] = (EXPOSED, Cause(what, towards=other.record))

    def _one_team(self, one: str, two: str) -> bool:
        """Whether two adapters are members of one team of their guest."""
        a, b = (self.plan.of("adapter").get(id) for id in (one, two))
        return a is not None and b is not None and bool(a.team) and (a.guest, a.team) == (b.guest, b.team)

    def _beside(self, one: Place, two: Place) -> bool:
        plain = one.stand.plain and two.stand.plain
        return plain and bool(self.local[self._number(one.stand)] == self.local[self._number(two.stand)])

    def _active(self, place: Place) -> bool:
        return not place.stand.judged or not is_idle(self.plan, place.endpoint)


def _version(address: str) -> int:
    return 6 if ":" in address else 4

"""Fifth stage of the judge: what single places have beside their stand: addresses, gateways of their own, twins, mirrors.

What rests on a segment's own stands and gateways is asked by segment, and kept for those that an edit didn't touch; the rest is asked anew each time,
since it is about few.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from itertools import islice
from typing import NamedTuple

import numpy as np

from aptwire.forward.parts import NOW, Place, Stand
from aptwire.judge.gates import Gate, Gates, find_gate
from aptwire.judge.landing import Landing
from aptwire.judge.states import Apart, StandVerdicts, deviation
from aptwire.judge.why import (
    ADDRESS,
    CUT_OFF,
    EXPOSED,
    HOME,
    MIRRORED,
    NO_BEARER,
    STRANDED,
    TWIN,
    TWIN_MAC,
    UNPROVEN,
    WAVERING,
    Cause,
    is_idle,
)
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import Mirror, SharedAddress

Own = dict[str, tuple[int, Cause]]
"""The verdict of a place (record) beside its stand, and why."""


class Singles:
    """Asks for single places; `verdicts` is what their stands are told."""

    def __init__(self, landing: Landing, gates: Gates, verdicts: StandVerdicts) -> None:
        self.landing, self.gates, self.verdicts = landing, gates, verdicts
        self.plan, self.wiring, self.domains = landing.wiring.plan, landing.wiring, landing.domains
        self.apart = Apart(landing)

    def needy(self, segment: int, stands: np.ndarray) -> tuple[tuple[Stand, ...], Own]:
        """Who needs a gateway that nobody bears: nobody can know whether it is reached.  Who bears another of its segment's needs none.

        The stands of which that is true of every place; and single places.
        """
        versions = {_version(address) for address in self.gates.unborne.get(segment, ())}
        found: list[Stand] = []
        own: Own = {}
        if not versions:
            return (), own
        exempt = {record for gate in self.gates.borne.get(segment, ()) for _, record in gate.awake}
        for number in stands[self.verdicts.status[stands] == HOME].tolist():
            stand = self.landing.stands[number]
            if not stand.judged:
                continue
            needy = [r for r in stand.records if r not in exempt and self._uses(r, versions)]
            if len(needy) == len(stand.records):
                found.append(stand)
            else:
                own.update((record, (UNPROVEN, Cause(NO_BEARER))) for record in needy)
        return tuple(found), own

    def of_segment(self, segment: int) -> Own:
        """Those that bear their segment's gateway and are off, and those beside its bearer on isolated ports."""
        own: Own = {}
        gates = self.gates.borne.get(segment, ())
        for gate in gates:
            for record in gate.idle:
                # Once it runs, it needs none.
                place = self._place(record)
                cause = self.verdicts.causes.get(place.stand)
                if cause is not None and cause.what == CUT_OFF and cause.towards == record:
                    own[record] = (HOME, cause)
        for gate in gates:
            bearing = {record for _, record in gate.awake}
            numbers = {self.landing.number(stand) for stand, _ in gate.awake}
            for number in sorted(n for n in numbers if self.landing.narrow(n)):
                stand = self.landing.stands[number]
                others = [r for r in stand.records if r not in bearing]
                if others and stand.judged and stand.segment is not None:
                    found, cause = self._reaching(number, gate)
                    if found > self.verdicts.status[number]:
                        own.update((record, (found, cause)) for record in others if record not in own)
        return own

    def everywhere(self, own: Own) -> None:
        """All that isn't asked by segment, added to what is."""
        self._addresses(own)
        self._own_gateways(own)
        self._twins(own)
        self._mirrors(own)

    @cached_property
    def _today(self) -> np.ndarray:
        """int64[stands]: the group of each today."""
        group: np.ndarray = self.landing.rows.group[self.landing.first]
        return group

    def _place(self, record: str) -> Place:
        place = self.wiring.place(record)
        assert place is not None
        return place

    def _uses(self, record: str, versions: set[int]) -> bool:
        """Whether a place asks for a gateway of one of these versions of IP: that of its static addresses, or any where it has none; a host
        port with a gateway of its own asks for that one."""
        port = self.plan.of("host_port").get(record)
        said = {_version(port.gateway)} if port is not None and port.gateway else set()
        used = {_version(bare_address(a)) for a in self._place(record).addresses}
        return bool((versions - said) & used if used else versions - said)

    def _addresses(self, own: Own) -> None:
        """A static address outside its segment's subnets cuts a place off from its gateway and peers."""
        for record in (record for records in self.landing.gathered.outside.values() for record in records):
            # Who bears a gateway and is off is told of nothing else.
            idle = record in own and own[record][0] == HOME
            if not idle and self.verdicts.status[self.landing.number(self._place(record).stand)] <= WAVERING:
                own[record] = (STRANDED, Cause(ADDRESS))

    def _own_gateways(self, own: Own) -> None:
        """Host ports that name a gateway of their own, other than their segment's."""
        for id in sorted(id for ids in self.landing.gathered.strangers.values() for id in ids):
            port, place = self.plan.get("host_port", id), self._place(id)
            if place.context < 0:
                continue
            number = self.landing.number(place.stand)
            before = int(self.verdicts.status[number])
            cause = self.verdicts.causes.get(place.stand)
            theirs = {gate.bearer for gate in self.gates.borne.get(int(self.landing.columns.segment[number]), ())}
            if cause is not None and cause.what == CUT_OFF and cause.towards in theirs:
                before = HOME
            gate = find_gate(self.wiring, port.gateway, None)
            if gate is None:
                found, why = UNPROVEN, Cause(NO_BEARER)
            else:
                found, why = self._reaching(number, gate)
            if id not in own and (found > before or before != int(self.verdicts.status[number])):
                own[id] = (max(found, before), why)

    def _reaching(self, number: int, gate: Gate) -> tuple[int, Cause]:
        """How a stand fares with a gateway over each of its ways."""
        landing, group = self.landing, self.landing.rows.group
        ways = landing.rows_of(number)
        bearing = [n for stand, _ in gate.awake if not self.apart.kept(number, n := landing.number(stand))]
        theirs = {int(group[landing.first[n]]) for n in bearing} | gate.comes_in(self.domains)
        beside = {landing.near(n) for n in bearing}
        met = [not theirs.isdisjoint(landing.hearing(row, int(group[row]), self.domains)) for row in ways]
        if landing.near(number) in beside or all(met):
            return HOME, Cause(CUT_OFF, towards=gate.bearer)
        state = deviation(landing, ways[met.index(False)])
        return (WAVERING if any(met) else STRANDED), Cause(CUT_OFF, state, gate.bearer)

    def _twins(self, own: Own) -> None:
        """Two endpoints with one address that hear each other, unless the other one is idle."""
        shared = list(self.plan.all(SharedAddress))
        for address in sorted(self.wiring.doubled - {record.address for record in shared}):
            self._meeting(self.wiring.bearers[address], TWIN, own)
        for mac in sorted(self.wiring.doubled_macs - {record.mac for record in shared}):
            places = (place for adapter in self.wiring.macs[mac] for place in self.wiring.places_of(adapter))
            self._meeting([place.record for place in places], TWIN_MAC, own)

    def _mirrors(self, own: Own) -> None:
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
                    cause = Cause(MIRRORED, NOW, other[0].record, at=mirror.id)
                    own.setdefault(place.record, (EXPOSED, cause))

    def _meeting(self, bearers: Iterable[str], what: str, own: Own) -> None:
        """Of several that bear one address: those that hear each other, unless a guest's own team makes them one endpoint; and those on one segment that don't, whom somebody else there
        hears both (RFC 6957 section 1): he is answered by two, and they never learn of it."""
        places = (self.wiring.place(record) for record in sorted(bearers))
        owners = [self._ear(place) for place in places if place is not None and place.context >= 0]
        for mine in owners:
            others = [
                theirs
                for theirs in owners
                if theirs.place.endpoint != mine.place.endpoint
                and not self._one_team(theirs.place.endpoint, mine.place.endpoint)
                and self._active(theirs.place)
            ]
            if not mine.place.stand.judged:
                continue
            other = next((theirs for theirs in others if self._meet(mine, theirs)), None)
            if other is not None:
                own[mine.place.record] = (EXPOSED, Cause(what, towards=other.place.record))
                continue
            beside = [theirs for theirs in others if theirs.place.segment == mine.place.segment is not None]
            found = ((theirs, third) for theirs in beside if (third := self._between(mine, theirs)))
            for theirs, third in islice(found, 1):
                own[mine.place.record] = (EXPOSED, Cause(what, towards=theirs.place.record, at=third))

    def _ear(self, place: Place) -> _Ear:
        landing, today = self.landing, self._today
        number = landing.number(place.stand)
        row, group = int(landing.first[number]), int(today[number])
        heard = landing.hearing(row, group, self.domains)
        return _Ear(place, number, group, heard, landing.over_routers(row, group, today))

    def _meet(self, one: _Ear, two: _Ear) -> bool:
        """Whether two places hear each other today."""
        over = (one.group in two.hears and two.group in one.hears) or bool(one.beyond & two.beyond)
        return (over or self._beside(one.place, two.place)) and not self.apart.kept(one.number, two.number)

    def _between(self, one: _Ear, two: _Ear) -> str:
        """Somebody (a record) of their segment who hears two places and is heard by both; empty: nobody does."""
        segment = self.landing.columns.segment
        for number in np.flatnonzero(segment == segment[one.number]).tolist():
            stand = self.landing.stands[number]
            places = (self._place(record) for record in stand.records)
            ends = (one.place.endpoint, two.place.endpoint)
            third = next((p for p in places if p.endpoint not in ends and p.context >= 0 and self._active(p)), None)
            ear = self._ear(third) if third is not None else None
            if ear is not None and self._meet(one, ear) and self._meet(two, ear):
                return ear.place.record
        return ""

    def _one_team(self, one: str, two: str) -> bool:
        """Whether two adapters are members of one team of their guest."""
        a, b = (self.plan.of("adapter").get(id) for id in (one, two))
        return a is not None and b is not None and bool(a.team) and (a.guest, a.team) == (b.guest, b.team)

    def _beside(self, one: Place, two: Place) -> bool:
        near = [self.landing.near(self.landing.number(place.stand)) for place in (one, two)]
        return one.stand.plain and two.stand.plain and near[0] == near[1]

    def _active(self, place: Place) -> bool:
        return not place.stand.judged or not is_idle(self.plan, place.endpoint)


class _Ear(NamedTuple):
    """A place with the number of its stand, the group in which it speaks today, those that it hears, and what it is part of beyond routers of tunnels."""

    place: Place
    number: int
    group: int
    hears: set[int]
    beyond: frozenset[tuple[int, str]]


def _version(address: str) -> int:
    return 6 if ":" in address else 4

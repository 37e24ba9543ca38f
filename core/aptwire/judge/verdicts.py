"""The verdict of every endpoint, from arrays over (place, way).

A *place* is an endpoint on one tag; a *way* is a member of its switch's uplink over which it may get out.  Two
places meet in a state when their ways lead into one component of the fabric (or they share a context of
one switch).  States are today's and each single team carried by another member, which is enough: choices
at different teams are independent, so a difference shows as soon as one team differs.
"""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass, field

import numpy as np

from aptwire.forward.domains import Domains, Pairing, Pairings, crossing_teams, solve
from aptwire.forward.paths import heard_as
from aptwire.forward.wiring import NOW, State, Team, Wiring, compile_wiring
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


@dataclass(frozen=True)
class Cause:
    """Why a place isn't home: what is wrong, in which state, and towards which other place (-1: towards the fabric)."""

    what: str
    state: State = NOW
    team: Team | None = None
    towards: int = -1


@dataclass
class Judgement:
    """All verdicts of a plan.

    `status` int8[places] indexes VERDICTS; `causes` place number -> why; `lands` int16[places]: the VID class on
    which a place enters the fabric (or sits, where it doesn't get there), -1 where its frames are dropped at once.
    """

    plan: Plan
    wiring: Wiring
    pairings: Pairings
    domains: Domains
    rows: Rows
    status: np.ndarray
    lands: np.ndarray
    causes: dict[int, Cause] = field(default_factory=dict)

    def verdict(self, endpoint: str) -> int:
        """The gravest verdict among an endpoint's places."""
        return max(int(self.status[place.number]) for place in self.wiring.places_of[endpoint])

    def verdicts(self) -> dict[str, str]:
        """The verdict of every endpoint, by id."""
        return {endpoint: VERDICTS[self.verdict(endpoint)] for endpoint in self.wiring.places_of}

    def counts(self) -> dict[str, int]:
        """How many endpoints have each verdict, and how many are idle (those count under idle alone)."""
        made = dict.fromkeys((*VERDICTS, "idle"), 0)
        for endpoint, verdict in self.verdicts().items():
            made["idle" if is_idle(self.plan, endpoint) else verdict] += 1
        return made


@dataclass
class Rows:
    """(place, way) rows, sorted by place and order of ways; today's way is each place's first row.

    All arrays have one entry a row: `place`; `way` 0, 1, ...; `team` number (-1: no uplink, or a crossing
    switch); `member` in the team; `node` entered in the fabric (-1: none); `mutual`: frames come back the same way;
    `open`: the way ends open; `landed` VID class; `right`: that is the tag of the segment where the place belongs.
    """

    place: np.ndarray
    way: np.ndarray
    team: np.ndarray
    member: np.ndarray
    node: np.ndarray
    mutual: np.ndarray
    open: np.ndarray
    landed: np.ndarray
    right: np.ndarray
    first: np.ndarray


@dataclass(frozen=True)
class Need:
    """What a segment's places must reach: any of the groups; `place` stands for it (-1: nobody in particular)."""

    groups: list[int]
    place: int


def is_idle(plan: Plan, endpoint: str) -> bool:
    """Whether an endpoint is disconnected or its guest is off."""
    port = plan.of("host_port").get(endpoint)
    if port is not None:
        return not port.connected
    adapter = plan.get("adapter", endpoint)
    return not adapter.connected or not plan.get("guest", adapter.guest).running


def judge(plan: Plan) -> Judgement:
    """Every verdict of a plan."""
    wiring = compile_wiring(plan)
    pairings = Pairings()
    domains = solve(wiring, pairings)
    return _Judge(wiring, pairings, domains).run()


class _Judge:
    def __init__(self, wiring: Wiring, pairings: Pairings, domains: Domains) -> None:
        self.wiring = wiring
        self.plan = wiring.plan
        self.pairings = pairings
        self.domains = domains
        self.count = wiring.classes.count
        self.segments = sorted(self.plan.of("segment"))
        number = {id: n for n, id in enumerate(self.segments)}
        self.segment = np.array([number.get(p.segment or "", -1) for p in wiring.places], dtype=np.int32)
        self.tag = np.array(
            [wiring.classes.of[self.plan.get("segment", id).vid or 0] for id in self.segments] or [0], dtype=np.int16
        )
        self.bridge = np.array([p.bridge for p in wiring.places], dtype=np.int32)
        self.context = np.array([p.context for p in wiring.places], dtype=np.int32)
        self.deaf = np.array([p.context >= 0 and heard_as(p, p.context) is None for p in wiring.places], dtype=bool)
        self.teams = {team.uplink.id: n for n, team in enumerate(wiring.teams)}
        self.rows = self._rows()
        size = len(wiring.places)
        self.fine = np.zeros(size, dtype=bool)
        self.worst = np.zeros(size, dtype=np.int8)
        self.causes: dict[int, dict[int, Cause]] = {}

    def run(self) -> Judgement:
        rows = self.rows
        self._gateways()
        groups = self._groups(self.domains)
        self._base(groups)
        self._own_ways(groups)
        self._crossing(groups)
        status = self._combine()
        self._addresses(status)
        self._exposures(status, groups)
        causes = {
            place: of[int(status[place]) if int(status[place]) in of else max(of)]
            for place, of in self.causes.items()
            if status[place] != HOME
        }
        lands = rows.landed[rows.first] if rows.place.size else np.zeros(0, dtype=np.int16)
        return Judgement(self.plan, self.wiring, self.pairings, self.domains, rows, status, lands, causes)

    # --- rows -------------------------------------------------------------------------------------------------

    def _rows(self) -> Rows:
        wiring, count = self.wiring, self.count
        places: list[int] = []
        ways: list[int] = []
        teams: list[int] = []
        members: list[int] = []
        pairs: list[int] = []
        first_node: list[int] = []
        open_: list[bool] = []
        pair_of: dict[tuple[int, int], int] = {}
        pair_list: list[Pairing] = []
        options: dict[int, list[tuple[int, int, int, int, bool]]] = {}
        for bridge in wiring.bridges:
            if not bridge.virtual:
                continue
            found: list[tuple[int, int, int, int, bool]] = []
            if bridge.trunk >= 0:
                found.append((-1, -1, -2, bridge.trunk * count, False))
            for team in wiring.teams_of.get(bridge.number, ()) if bridge.trunk < 0 else ():
                for number, member in enumerate(team.members[: team.usable]):
                    if member.link is None:
                        found.append((self.teams[team.uplink.id], number, -1, 0, True))
                        continue
                    key = (member.link.rules[0].number, member.link.rules[1].number)
                    if key not in pair_of:
                        pair_of[key] = len(pair_list)
                        pair_list.append(self.pairings(*member.link.rules))
                    far = wiring.bridges[member.link.ends[1]].trunk * count
                    found.append((self.teams[team.uplink.id], number, pair_of[key], far, False))
            options[bridge.number] = found or [(-1, -1, -1, 0, False)]
        nowhere = [(-1, -1, -1, 0, False)]
        for place in wiring.places:
            for order, (team_no, member_no, pair, node, is_open) in enumerate(options.get(place.bridge, nowhere)):
                places.append(place.number)
                ways.append(order)
                teams.append(team_no)
                members.append(member_no)
                pairs.append(pair)
                first_node.append(node)
                open_.append(is_open)
        place_row = np.array(places, dtype=np.int64)
        pair_row = np.array(pairs, dtype=np.int32)
        node_row = np.array(first_node, dtype=np.int64)
        context = self.context[place_row]
        inside = np.maximum(context, 0)
        there_table = np.stack([p.there for p in pair_list]) if pair_list else np.full((1, count), -1, dtype=np.int16)
        back_table = np.stack([p.back for p in pair_list]) if pair_list else np.full((1, count), -1, dtype=np.int16)
        pair_index = np.maximum(pair_row, 0)
        there = np.where((pair_row >= 0) & (context >= 0), there_table[pair_index, inside], -1).astype(np.int32)
        mutual = (there >= 0) & (back_table[pair_index, np.maximum(there, 0)] == context)
        at_home_bridge = (pair_row == -2) & (context >= 0)
        entered = np.where(there >= 0, node_row + there, np.where(at_home_bridge, node_row + inside, -1))
        landed = np.where(there >= 0, there, context).astype(np.int16)
        segment = self.segment[place_row]
        wanted = self.tag[np.maximum(segment, 0)]
        known = np.isin(np.arange(count), self.tag[: len(self.segments)])
        right = np.where(wanted > 0, landed == wanted, (context == 0) & ((landed <= 0) | ~known[np.maximum(landed, 0)]))
        is_open_row = np.array(open_, dtype=bool)
        way_row = np.array(ways, dtype=np.int16)
        return Rows(
            place=place_row,
            way=way_row,
            team=np.array(teams, dtype=np.int32),
            member=np.array(members, dtype=np.int16),
            node=entered,
            mutual=mutual | at_home_bridge,
            open=is_open_row,
            landed=landed,
            right=right & (segment >= 0) & (context >= 0),
            first=np.flatnonzero(way_row == 0),
        )

    def _groups(self, domains: Domains) -> np.ndarray:
        """int64[rows]: the component that a row is in, or a number of its own for each context that is in none."""
        rows = self.rows
        local = self.bridge[rows.place].astype(np.int64) * self.count + np.maximum(self.context[rows.place], 0)
        base = int(domains.component.max(initial=-1)) + 1
        inside = rows.mutual & (rows.node >= 0)
        component = domains.component[np.where(inside, rows.node, 0)] if domains.component.size else 0
        group = np.where(inside, component, base + local)
        # A guest that tags its frames with the native VID of its port speaks and hears nothing: it is alone.
        deaf = self.deaf[rows.place]
        return np.where(deaf, base + len(self.wiring.bridges) * self.count + rows.place, group)

    def _gateways(self) -> None:
        """The places that bear each gateway address of the segment on which they belong, by segment number."""
        self.gateways: dict[int, dict[str, list[int]]] = {}
        wanted = {
            (n, address) for n, id in enumerate(self.segments) for address in self.plan.get("segment", id).gateways
        }
        for place in self.wiring.places:
            segment = int(self.segment[place.number])
            for address in map(bare_address, place.addresses):
                if (segment, address) in wanted:
                    self.gateways.setdefault(segment, {}).setdefault(address, []).append(place.number)

    # --- states -----------------------------------------------------------------------------------------------

    def _note(self, place: int, status: int, cause: Cause) -> None:
        self.worst[place] = max(self.worst[place], status)
        self.causes.setdefault(place, {}).setdefault(status, cause)

    def _base(self, groups: np.ndarray) -> None:
        """Judge today's ways."""
        rows = self.rows
        first = rows.first
        right = rows.right[first]
        for number in np.flatnonzero(~right).tolist():
            self._misplaced(number, first[number], NOW, None)
        ok = self._state(groups[first], right, rows.open[first], np.arange(right.size), NOW, None)
        self.fine |= ok

    def _misplaced(self, place: int, row: int, state: State, team: Team | None) -> None:
        """A place that lands on no tag of its own segment over this row."""
        rows = self.rows
        if self.segment[place] < 0:
            self._note(place, UNPROVEN, Cause(NO_INTENT, state, team))
        elif self.wiring.places[place].rule is None:
            self._note(place, ASTRAY, Cause(NO_GROUP, state, team))
        elif rows.open[row] and self.context[place] == 0:
            self._note(place, UNPROVEN, Cause(OPEN_END, state, team))
        else:
            self._note(place, ASTRAY, Cause(WRONG_TAG, state, team))

    def _state(
        self,
        group: np.ndarray,
        right: np.ndarray,
        open_: np.ndarray,
        places: np.ndarray,
        state: State,
        team: Team | None,
    ) -> np.ndarray:
        """Judge places that are on their own tag in one state, segment by segment.

        Arrays have one entry a place of `places`; returns whether each reaches what it must.
        """
        ok = np.zeros(places.size, dtype=bool)
        inside = np.flatnonzero(right)
        if not inside.size:
            return ok
        order = inside[np.argsort(self.segment[places[inside]], kind="stable")]
        numbers = self.segment[places[order]]
        starts = np.flatnonzero(np.r_[True, numbers[1:] != numbers[:-1]])
        for start, end in zip(starts.tolist(), [*starts[1:].tolist(), order.size], strict=True):
            of = order[start:end]
            segment = int(numbers[start])
            needs = self._needs(segment, places[of], group[of])
            if needs is None:
                ok[of] = self._alone(int(of[0]), places, group, open_, state, team)
                continue
            met = np.array([np.isin(group[of], need.groups) for need in needs])
            good = met.all(axis=0)
            ok[of] = good
            for at in np.flatnonzero(~good).tolist():
                need = needs[int(np.flatnonzero(~met[:, at])[0])]
                self._cut_off(int(of[at]), places, group, open_, of, need, state, team)
        return ok

    def _needs(self, segment: int, places: np.ndarray, group: np.ndarray) -> list[Need] | None:
        """What the places of a segment must reach: each of its gateways, or else its largest group.

        None: the segment has this one place only and nothing to reach but the fabric.  A need without groups: no
        group is the largest.
        """
        at = {int(p): int(g) for p, g in zip(places, group, strict=True)}
        gates = [
            Need(sorted({at[p] for p in owners if p in at}), next(p for p in owners if p in at))
            for owners in self.gateways.get(segment, {}).values()
            if any(p in at for p in owners)
        ]
        if gates:
            return gates
        if places.size == 1:
            return None
        values, counts = np.unique(group, return_counts=True)
        top = np.flatnonzero(counts == counts.max())
        if top.size > 1:
            return [Need([], -1)]
        main = int(values[top[0]])
        return [Need([main], int(places[np.flatnonzero(group == main)[0]]))]

    def _alone(
        self, at: int, places: np.ndarray, group: np.ndarray, open_: np.ndarray, state: State, team: Team | None
    ) -> bool:
        """The only place of a segment without gateway: its tag must get into the fabric, if its switch is wired."""
        place = int(places[at])
        bridge = self.wiring.bridges[self.wiring.places[place].bridge]
        if int(group[at]) <= int(self.domains.component.max(initial=-1)) or not self.wiring.teams_of.get(bridge.number):
            return True
        if open_[at]:
            self._note(place, UNPROVEN, Cause(OPEN_END, state, team))
        else:
            self._note(place, STRANDED, Cause(CUT_OFF, state, team))
        return False

    def _cut_off(
        self,
        at: int,
        places: np.ndarray,
        group: np.ndarray,
        open_: np.ndarray,
        of: np.ndarray,
        need: Need,
        state: State,
        team: Team | None,
    ) -> None:
        nic_open = {int(g) for g in group[of[open_[of]]]}
        leaky = nic_open | self.domains.open
        place, mine = int(places[at]), int(group[at])
        others = need.groups or [int(g) for g in np.unique(group[of]) if int(g) != mine]
        towards = need.place
        if towards < 0:
            elsewhere = of[group[of] != mine]
            towards = int(places[elsewhere[0]]) if elsewhere.size else -1
        unknown = mine in nic_open or any(o in nic_open for o in others)
        unknown = unknown or (mine in leaky and any(o in leaky for o in others))
        if unknown:
            self._note(place, UNPROVEN, Cause(OPEN_END, state, team, towards))
        else:
            self._note(place, STRANDED, Cause(CUT_OFF, state, team, towards))

    def _own_ways(self, groups: np.ndarray) -> None:
        """Judge every state in which one team of an end switch is carried by another member."""
        rows = self.rows
        other = np.flatnonzero(rows.way > 0)
        if not other.size:
            return
        base_row = rows.first[rows.place[other]]
        same = (
            (groups[other] == groups[base_row])
            & (rows.right[other] == rows.right[base_row])
            & (rows.open[other] == rows.open[base_row])
        )
        changed = other[~same]
        wrong = changed[~rows.right[changed] & (self.segment[rows.place[changed]] >= 0)]
        for row in wrong.tolist():
            team, state = self._deviation(int(rows.team[row]), int(rows.member[row]))
            self._misplaced(int(rows.place[row]), row, state, team)
        events = np.unique(
            np.stack([rows.team[changed], rows.member[changed], self.segment[rows.place[changed]]], axis=1), axis=0
        )
        if not events.size:
            return
        first = rows.first
        by_segment: dict[int, np.ndarray] = {}
        row_of = {(int(rows.place[row]), int(rows.member[row])): row for row in other.tolist()}
        for team_no, member, segment in events.tolist():
            if segment < 0:
                continue
            if segment not in by_segment:
                by_segment[segment] = np.flatnonzero(self.segment == segment)
            places = by_segment[segment]
            chosen = first[places].copy()
            for at, place in enumerate(places.tolist()):
                if rows.team[chosen[at]] == team_no:
                    chosen[at] = row_of.get((place, member), chosen[at])
            team, state = self._deviation(team_no, member)
            ok = self._state(groups[chosen], rows.right[chosen], rows.open[chosen], places, state, team)
            self.fine[places[ok]] = True

    def _deviation(self, team_no: int, member: int) -> tuple[Team, State]:
        team = self.wiring.teams[team_no]
        return team, State({team.uplink.id: team.members[member].nic.id})

    def _crossing(self, groups: np.ndarray) -> None:
        """Judge the states in which a team of a switch that others' frames cross is carried by another member."""
        for team in crossing_teams(self.wiring):
            for member in team.members[1 : team.usable]:
                state = State({team.uplink.id: member.nic.id})
                domains, base = solve(self.wiring, self.pairings, state), self.domains
                self.domains = domains
                first = self.rows.first
                fresh = self._groups(domains)
                ok = self._state(
                    fresh[first], self.rows.right[first], self.rows.open[first], np.arange(first.size), state, team
                )
                self.fine |= ok
                self.domains = base

    def _combine(self) -> np.ndarray:
        """One verdict a place from today's and the other states'."""
        status = self.worst.copy()
        wavers = self.fine & (self.worst >= STRANDED)
        status[wavers] = WAVERING
        for place in np.flatnonzero(wavers).tolist():
            of = self.causes[place]
            of[WAVERING] = of[max(of)]
        return status

    # --- addresses and exposures ------------------------------------------------------------------------------

    def _addresses(self, status: np.ndarray) -> None:
        """A static address outside its segment's subnets cuts an endpoint off from its gateway and peers."""
        subnets = [
            [ipaddress.ip_network(text) for text in self.plan.get("segment", id).subnets] for id in self.segments
        ]
        for place in self.wiring.places:
            number = int(self.segment[place.number])
            if number < 0 or not place.addresses or status[place.number] > WAVERING:
                continue
            for text in place.addresses:
                address = ipaddress.ip_interface(text).ip
                same = [net for net in subnets[number] if net.version == address.version]
                if same and not any(address in net for net in same):
                    status[place.number] = STRANDED
                    self.causes.setdefault(place.number, {})[STRANDED] = Cause(ADDRESS)

    def _exposures(self, status: np.ndarray, groups: np.ndarray) -> None:
        """Two segments whose places are on their own tags and hear each other; an address that a machine in use has too."""
        rows = self.rows
        astray = status[rows.place] == ASTRAY
        speaking = rows.right & ~astray
        pairs = np.unique(
            np.stack([groups[speaking], self.segment[rows.place[speaking]].astype(np.int64)], axis=1), axis=0
        )
        present: dict[int, set[int]] = {}
        for group, segment in pairs.tolist():
            present.setdefault(group, set()).add(segment)
        meets: dict[int, set[int]] = {group: set(found) for group, found in present.items() if len(found) > 1}
        for start in self.domains.one_way() & present.keys():
            for other in (self.domains.hearers(start) & present.keys()) - {start}:
                mixed = present[start] | present[other]
                if len(mixed) > 1:
                    meets.setdefault(start, set()).update(mixed)
                    meets.setdefault(other, set()).update(mixed)
        self._one_way(meets, present, groups, speaking)
        if meets:
            self._expose(status, groups, speaking, meets)
        self._twins(status, groups)

    def _one_way(
        self, meets: dict[int, set[int]], present: dict[int, set[int]], groups: np.ndarray, speaking: np.ndarray
    ) -> None:
        """Rows that speak into the fabric without hearing it back: what they say is heard all the same."""
        rows = self.rows
        for row in np.flatnonzero(speaking & ~rows.mutual & (rows.node >= 0)).tolist():
            into = int(self.domains.component[rows.node[row]])
            segment = int(self.segment[rows.place[row]])
            for reached in self.domains.hearers(into):
                if reached in present and present[reached] - {segment}:
                    meets.setdefault(reached, set(present[reached])).add(segment)
                    meets.setdefault(int(groups[row]), set()).update(present[reached] | {segment})

    def _expose(self, status: np.ndarray, groups: np.ndarray, speaking: np.ndarray, meets: dict[int, set[int]]) -> None:
        rows = self.rows
        seats: dict[tuple[int, int], int] = {}
        for row in np.flatnonzero(speaking).tolist():
            seats.setdefault((int(groups[row]), int(self.segment[rows.place[row]])), int(rows.place[row]))
        by_segment: dict[int, int] = {}
        for (_, segment), place in seats.items():
            by_segment.setdefault(segment, place)
        for row in np.flatnonzero(speaking & np.isin(groups, list(meets))).tolist():
            place, segment = int(rows.place[row]), int(self.segment[rows.place[row]])
            foreign = sorted(meets[int(groups[row])] - {segment})
            if not foreign:
                continue
            other = seats.get((int(groups[row]), foreign[0]), by_segment[foreign[0]])
            status[place] = EXPOSED
            if EXPOSED in self.causes.get(place, {}):
                continue
            team_no = int(rows.team[row])
            team, state = self._deviation(team_no, int(rows.member[row])) if rows.way[row] else (None, NOW)
            self.causes.setdefault(place, {})[EXPOSED] = Cause(LEAK, state, team, other)

    def _twins(self, status: np.ndarray, groups: np.ndarray) -> None:
        owners: dict[tuple[int, str], list[int]] = {}
        first = groups[self.rows.first] if self.rows.place.size else groups
        for place in self.wiring.places:
            if place.context >= 0:
                for address in place.addresses:
                    owners.setdefault((int(first[place.number]), bare_address(address)), []).append(place.number)
        for (_, _address), places in owners.items():
            endpoints = {self.wiring.places[p].endpoint for p in places}
            if len(endpoints) < 2:
                continue
            for number in places:
                mine = self.wiring.places[number].endpoint
                others = [p for p in places if self.wiring.places[p].endpoint != mine]
                other = next((p for p in others if not is_idle(self.plan, self.wiring.places[p].endpoint)), -1)
                if other >= 0:
                    status[number] = EXPOSED
                    self.causes.setdefault(number, {})[EXPOSED] = Cause(TWIN, towards=other)


def tag_text(wiring: Wiring, number: int) -> str:
    """A VID class as people say it: its VID, or "untagged"."""
    return str(wiring.classes.vid(number)) if number > 0 else "untagged"

"""What each host has for each adapter that may come to it.

Adapters that need the same are one *want*.  Of each host the port group is found in which it would sit down (`plan/seats.py`).  Where somebody of its segment
sits there already, it fares as he does; else over every member of that switch's team it is looked where frames come out: it must be where the want is at home
today, or where its segment is.  What the arrays can't tell
(switches that frames cross, ports that hear otherwise than they speak, untagged segments, who is alone in his segment, direct adapters) is asked by moving one of the guests and judging anew.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import chain
from operator import attrgetter

import numpy as np

from aptwire.forward.fabric import header, least
from aptwire.forward.parts import ADAPTERS, Member, Stand, Team
from aptwire.forward.portrules import PortRules
from aptwire.judge.exact import in_doubt
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import judged_after
from aptwire.judge.voices import voices
from aptwire.judge.why import (
    ASTRAY,
    CUT_OFF,
    EXPOSED,
    HOME,
    NO_LEASE,
    NO_PREFIX,
    OPEN_END,
    TOO_LARGE,
    UNPROVEN,
    WAVERING,
    WRONG_LEASE,
    WRONG_PREFIX,
    WRONG_TAG,
    Cause,
    alike,
)
from aptwire.moving.faults import (
    CUT,
    FUNCTION,
    GROUP,
    GUARD,
    LARGE,
    LEASE,
    LIMIT,
    MEETS,
    NAMED,
    OPEN,
    SOME,
    TAG,
    UNASKED,
)
from aptwire.plan.gestures import move_guests
from aptwire.plan.hosting import on_switches
from aptwire.plan.kinds import GUARDS, SHAPES, Adapter, Host, PortGroup
from aptwire.plan.names import natural
from aptwire.plan.plan import PlanError
from aptwire.plan.ports import group_words
from aptwire.plan.private import private_part
from aptwire.plan.seats import Seats, seats_of

ASKED_AT_MOST = 400
"""So many questions are asked by judging anew; the rest is said to be not asked (UNASKED)."""


@dataclass(frozen=True)
class Want:
    """What some adapters need alike; `adapter` stands for them, `homes` are the nodes of the fabric (one for each of its places, -1: not known) where they belong."""

    number: int
    adapter: Adapter
    group: PortGroup | None
    vid: int | None
    homes: tuple[int, ...]
    sends: int
    freedoms: tuple[bool, ...]
    limits: tuple[int | None, ...]


_OWN = attrgetter("type", "function_vid", "belongs", "addressing", "addressing6", "mtu", *GUARDS, *SHAPES)
_PORT = attrgetter("pvid", "members", "untagged", "admits", "isolated", "reflects")
_GUARDS, _SHAPES = attrgetter(*GUARDS), attrgetter(*SHAPES)


Words = tuple[tuple[object, ...], tuple[bool, ...], tuple[int | None, ...]]


class Fitness:
    """`hosts` in the order of their names; `wants`; and of each want and host the faults: uint16[wants, hosts].

    `asking`: so many questions that the arrays can't answer are asked by judging anew.
    """

    def __init__(self, judgement: Judgement, asking: int = ASKED_AT_MOST) -> None:
        self.judgement, self.plan, self.wiring = judgement, judgement.plan, judgement.wiring
        self.landing, self.voices = judgement.landing, voices(judgement)
        self.hosts: tuple[str, ...] = tuple(h.id for h in sorted(self.plan.all(Host), key=lambda h: natural(h.name)))
        self.wants: list[Want] = []
        self.want_of: dict[str, int] = {}
        self._rules = PortRules(self.wiring)
        self._seats: dict[str, Seats] = {}
        self._sitting: dict[str, dict[tuple[object, ...], Stand]] = {}
        self._words: dict[str, Words] = {}
        self._gather()
        self._by_name, self._by_words, self._by_vid = self._indexed()
        # uint16[wants, hosts]
        self.faults = np.full((len(self.wants), len(self.hosts)), GROUP, dtype=np.uint16)
        self._direct = [want for want in self.wants if want.group is None]
        self._unsure: list[tuple[Want, int]] = []
        for at, host in enumerate(self.hosts):
            self._host(at, host)
        for n, (want, at) in enumerate(self._unsure):
            self.faults[want.number, at] |= self.asked(want, at) if n < asking else UNASKED

    def seats(self, host: str) -> Seats:
        """The port groups of a host."""
        if host not in self._seats:
            self._seats[host] = seats_of(self.plan, host)
        return self._seats[host]

    # --- what is wanted ---------------------------------------------------------------------------------------

    def _gather(self) -> None:
        known: dict[tuple[object, ...], int] = {}
        tags = self.plan.grouped("guest_tag", "adapter")
        groups = self.plan.of("port_group")
        segments = self.plan.of("segment")
        for adapter in self.plan.all(Adapter):
            group = groups.get(adapter.port_group)
            if group is None and adapter.type != "direct":
                continue
            homes = self._homes(adapter.id, adapter.id in tags)
            own = tuple((t.vid, t.belongs, t.addressing, t.addressing6) for t in tags.get(adapter.id, ()))
            words = (group.name, self._group_words(group)) if group is not None else ()
            key = (_OWN(adapter), adapter.own_port and _PORT(adapter), own, words, homes)
            number = known.get(key)
            if number is None:
                number = known[key] = len(self.wants)
                segment = segments.get(adapter.belongs)
                self.wants.append(
                    Want(
                        number,
                        adapter,
                        group,
                        segment.vid if segment is not None else None,
                        homes,
                        adapter.mtu or (segment.mtu if segment is not None else None) or 0,
                        _said(_GUARDS(adapter), self._group_words(group)[1] if group is not None else ()),
                        _said(_SHAPES(adapter), self._group_words(group)[2] if group is not None else ()),
                    )
                )
            self.want_of[adapter.id] = number

    def _group_words(self, group: PortGroup) -> Words:
        """What a port group says to frames, of guards, and of limits."""
        if group.id not in self._words:
            self._words[group.id] = (group_words(group), _GUARDS(group), _SHAPES(group))
        return self._words[group.id]

    def _homes(self, adapter: str, several: bool) -> tuple[int, ...]:
        places = self.wiring.places_of(adapter) if several else filter(None, (self.wiring.place(adapter),))
        number = self.landing.number
        return tuple(-1 if p.record in self._bearing else int(self._at_home[number(p.stand)]) for p in places)

    @cached_property
    def _at_home(self) -> np.ndarray:
        """int64[stands]: a node of the fabric where each belongs: its own where it is at home, else one where its segment is.  -1: none is known, since that is
        within a switch, or differs from state to state, or one who moves would decide it."""
        landing, rows, ways = self.landing, self.landing.rows, self.landing.ways
        first, segment = landing.first, landing.columns.segment
        node = rows.node[first].astype(np.int64)
        # Nodes that are in one component in every state are one part, and the first of them stands for it.
        parts = np.stack([component[np.maximum(node, 0)] for component in self._components])
        _, stands_for, part = np.unique(parts, axis=1, return_index=True, return_inverse=True)
        part = part.reshape(-1)
        base = first[ways.stand]
        same = (rows.group == rows.group[base]) & rows.mutual & ~ways.open & rows.right
        steady = np.ones(len(first), dtype=bool)
        steady[ways.stand[~same]] = False
        steady &= node >= 0
        home = (self.judgement.status == HOME) & (segment >= 0)
        main = self._main(np.where(steady, part, -1), home)
        where = np.where(main >= 0, node[stands_for[np.maximum(main, 0)]], -1)
        own = np.where(steady, node[stands_for[part]], -1)
        chosen: np.ndarray = np.where(home, np.where(where[segment] >= 0, own, -1), where[segment])
        return np.where(segment < 0, own, chosen)

    def _main(self, part: np.ndarray, home: np.ndarray) -> np.ndarray:
        """int64[segments + 1]: the part where each segment is in every state: that in which all its gateways are borne; without any, that of most who are at home, by far.
        `part` is each stand's, -1 where it may be in several; `home` who is at home."""
        landing = self.landing
        segment, weight = landing.columns.segment, landing.columns.weight
        gates, gateways = self.judgement.known.gates, list(landing.intent.gateways.values())
        main = np.full(len(gateways) + 1, -1, dtype=np.int64)
        sums = np.bincount(np.maximum(segment, 0), weights=np.where(segment >= 0, weight, 0), minlength=main.size)
        tally: dict[int, dict[int, int]] = {}
        for n in np.flatnonzero(home & (part >= 0)).tolist():
            found = tally.setdefault(int(segment[n]), {})
            found[int(part[n])] = found.get(int(part[n]), 0) + int(weight[n])
        for of, found in tally.items():
            first = max(sorted(found), key=lambda at: found[at])
            if not gateways[of]:
                main[of] = first if 2 * found[first] > sums[of] + 2 else -1
                continue
            borne = [gate for gate in gates.borne.get(of, ()) if gate.awake and not gate.entries]
            at = {int(part[landing.number(stand)]) for gate in borne for stand, _ in gate.awake}
            main[of] = first if len(borne) == len(gateways[of]) and at == {first} else -1
        return main

    @cached_property
    def _bearing(self) -> frozenset[str]:
        """The records that bear a gateway: when they move, so does what others must reach."""
        gates = self.judgement.known.gates.all()
        return frozenset(chain.from_iterable((*(record for _, record in g.awake), *g.idle) for g in gates))

    # --- what a host has --------------------------------------------------------------------------------------

    def _indexed(self) -> tuple[dict[str, list[Want]], dict[tuple[object, ...], list[Want]], dict[int, list[Want]]]:
        """The wants by the name of their port group, by what it says to frames, and by the VID of their segment."""
        named: dict[str, list[Want]] = {}
        worded: dict[tuple[object, ...], list[Want]] = {}
        tagged: dict[int, list[Want]] = {}
        for want in self.wants:
            if want.group is not None:
                named.setdefault(want.group.name, []).append(want)
                worded.setdefault(self._group_words(want.group)[0], []).append(want)
            if want.vid:
                tagged.setdefault(want.vid, []).append(want)
        return named, worded, tagged

    def _coming(self, host: str) -> list[Want]:
        """The wants for which a host may have a port group, and those of direct adapters."""
        found: dict[int, Want] = {want.number: want for want in self._direct}
        for group in on_switches(self.plan, "port_group", host):
            tagged = self._by_vid.get(group.vid or 0, ()) if group.mode == "access" else ()
            alike = (self._by_name.get(group.name, ()), self._by_words.get(self._group_words(group)[0], ()), tagged)
            found.update((want.number, want) for want in chain.from_iterable(alike))
        return [found[number] for number in sorted(found)]

    def _host(self, at: int, host: str) -> None:
        seats = self.seats(host)
        found: dict[tuple[object, ...], PortGroup | None] = {}
        jobs: dict[tuple[str, str], list[tuple[Want, int, int]]] = {}
        for want in self._coming(host):
            own = want.group
            if own is None:
                self.faults[want.number, at] = 0
                self._unsure.append((want, at))
                continue
            key = (own.name, self._group_words(own)[0], want.vid)
            if key not in found:
                found[key] = seats.like(own, want.vid)
            seat = found[key]
            if seat is None:
                continue
            faults = NAMED if seat.name != own.name else 0
            _, guards, shapes = self._group_words(seat)
            if guards != want.freedoms and any(
                had and not has for had, has in zip(want.freedoms, _said(_GUARDS(want.adapter), guards), strict=True)
            ):
                faults |= GUARD
            if shapes != want.limits and _said(_SHAPES(want.adapter), shapes) != want.limits:
                faults |= LIMIT
            self.faults[want.number, at] = faults
            places = self._sits(want, seat)
            if places is None:
                self._unsure.append((want, at))
            else:
                for place in places:
                    if isinstance(place, Stand):
                        self.faults[want.number, at] |= self._fares(place, want)
                    else:
                        jobs.setdefault(place[:2], []).append((want, *place[2:]))
        for (switch, order), asked in jobs.items():
            self._lands(at, switch, order, asked)

    def _sits(self, want: Want, seat: PortGroup) -> list[tuple[str, str, int, int] | Stand] | None:
        """Where the places of a want would be in a port group: the stand of those who sit there alike; else the switch whose uplink carries them, the team order, the
        context, and where they belong.  None: that isn't for the arrays to say."""
        plan, classes, own = self.plan, self.wiring.classes, want.adapter
        switch, carrier = seat.switch, None
        if seat.mode == "overlay":
            port = plan.get("host_port", seat.over)
            carrier = self.wiring.place(port.id)
            if carrier is None or not port.connected:
                return None
            switch = port.switch
        record = plan.get("virtual_switch", switch)
        if own.own_port or record.partial:
            return None
        part = private_part(plan, seat.vid) if seat.mode == "private" and seat.vid else None
        rule = self._rules.group(seat, part, record.filters, self._rules.apart(seat.switch))
        order = seat.id if carrier is None and plan.where("group_order", "port_group", seat.id) else ""
        tags = sorted(plan.where("guest_tag", "adapter", own.id), key=lambda t: t.vid)
        places = [(int(classes.of[t.vid]), t.belongs) for t in tags]
        if len(want.homes) > len(places):
            places.insert(0, (0, own.belongs))
        sitting = self._sitters(switch)
        arrays = self.wiring.bridge_of[switch].crossing_row < 0 and not self._doubtful
        # A wireless NIC carries others than the host itself in an order of their own.
        arrays = arrays and not any(team.order == ADAPTERS for team in self.wiring.blocks[switch].teams)
        made: list[tuple[str, str, int, int] | Stand] = []
        for (label, segment), home in zip(places, want.homes, strict=True):
            beside = sitting.get((seat.over if carrier is not None else rule.number, order, label, segment))
            context = int(rule.into[label])
            if carrier is not None:
                context = carrier.stand.context if not label else -1
            if home < 0:
                return None
            if beside is not None:
                made.append(beside)
            elif (
                not arrays
                or context == 0
                or (carrier is None and context >= 0 and np.flatnonzero(rule.out == label).tolist() != [context])
                or (carrier is not None and not self._tunnels(want, seat, carrier.stand))
            ):
                return None
            else:
                made.append((switch, order, context, home))
        return made

    def _sitters(self, switch: str) -> dict[tuple[object, ...], Stand]:
        """Who sits on a switch already, by the port, the team order, the tag and the segment."""
        if switch not in self._sitting:
            block = self.wiring.blocks.get(switch)
            self._sitting[switch] = {
                (s.over or s.rule.number, s.order, s.label, s.segment): s
                for s in (block.stands if block is not None else ())
                if s.rule is not None and s.judged and not s.reason and s.plain
            }
        return self._sitting[switch]

    def _tunnels(self, want: Want, seat: PortGroup, carrier: Stand) -> bool:
        """Whether the tunnels of a port group are what those of a want's own are, so that where the host port that carries them lands says it all."""
        return bool(
            want.group is not None and want.group.vni == seat.vni and carrier.plain and not self.wiring.ways_out
        )

    @cached_property
    def _doubtful(self) -> bool:
        return in_doubt(self.wiring)

    @cached_property
    def _components(self) -> list[np.ndarray]:
        """int32[nodes] of each state: the components."""
        return [domains.component for _, domains in self.voices.states]

    def _lands(self, at: int, switch: str, order: str, asked: Sequence[tuple[Want, int, int]]) -> None:
        """Where frames in some contexts of a switch come out over each member of its team, against where they should."""
        teams = [team for team in self.wiring.blocks[switch].teams if team.order == order]
        members = [m for team in teams for m in team.members[: team.usable] if not m.excluded]
        if not members or any(m.one_way for m in members):
            self._unsure += [(want, at) for want, _, _ in asked]
            return
        contexts, homes = (np.array([one[n] for one in asked], dtype=np.int64) for n in (1, 2))
        primary = self.landing.tags.primary
        wanted = primary[homes % self.wiring.classes.count]
        right, opened, astray = np.zeros((3, len(members), len(asked)), dtype=bool)
        unsure = np.zeros(len(asked), dtype=bool)
        for row, member in enumerate(members):
            there = self._beyond(member, contexts)
            unsure |= there == 0
            landed = np.where(there >= 0, there, contexts)
            opened[row], astray[row] = member.open, (landed >= 0) & (primary[landed] != wanted)
            if member.link is not None:
                node = self.wiring.bridges[member.link.ends[1]].crossing_row * self.wiring.classes.count + there
                same = [component[node] == component[homes] for component in self._components]
                right[row] = (there >= 0) & np.all(same, axis=0)
        for n, (want, _, _) in enumerate(asked):
            if unsure[n]:
                self._unsure.append((want, at))
                continue
            missed = ~right[:, n]
            faults = 0
            if missed.any():
                unknown = bool(opened[missed, n].all())
                if not missed.all():
                    faults = OPEN if unknown else SOME
                else:
                    faults = TAG if astray[0, n] else OPEN if unknown else CUT
            if want.sends and self._too_large(want, switch, teams):
                faults |= LARGE
            self.faults[want.number, at] |= faults

    def _beyond(self, member: Member, contexts: np.ndarray) -> np.ndarray:
        """int64[n]: the contexts in which frames enter the bridge beyond a member and come back alike; -1: they don't."""
        if member.link is None:
            return np.full(contexts.size, -1, dtype=np.int64)
        pairing = self.judgement.pairings(*member.link.rules)
        there = np.where(contexts >= 0, pairing.there[np.maximum(contexts, 0)], -1).astype(np.int64)
        return np.where((there >= 0) & (pairing.back[np.maximum(there, 0)] == contexts), there, -1)

    def _too_large(self, want: Want, switch: str, teams: Sequence[Team]) -> bool:
        """Whether packets as large as a want sends are more than something takes on the way out of a host."""
        group = want.group
        assert group is not None
        size = want.sends + (header(self.plan, group.over) if group.mode == "overlay" and group.over else 0)
        own = self.plan.get("virtual_switch", switch).mtu
        takes = [own, *(m.link.mtu for team in teams for m in team.members[: team.usable] if m.link is not None)]
        low = least(*(mtu or None for mtu in takes))
        return bool(low and low < size)

    def _fares(self, stand: Stand, want: Want) -> int:
        """What is wrong with those who sit where a want would."""
        status, cause = self.judgement.stand_verdict(stand)
        faults = _fault(status, cause) if cause is not None else 0
        switch = self.wiring.bridges[stand.bridge].id
        if want.sends and self._too_large(want, switch, self.wiring.teams_at(stand.bridge, stand.order)):
            faults |= LARGE
        return faults

    # --- asked by moving --------------------------------------------------------------------------------------

    def asked(self, want: Want, at: int) -> int:
        """The faults that a want has on a host once the guest of its adapter is moved there and everything judged anew."""
        adapter, host = want.adapter, self.hosts[at]
        if self.plan.get("guest", adapter.guest).host == host:
            return self._now(self.judgement, adapter.id)
        try:
            edit = move_guests(self.plan, [adapter.guest], host)
        except PlanError as error:
            mine = any(problem.id == adapter.id for problem in error.problems)
            return FUNCTION if mine else UNASKED
        return self._now(judged_after(self.judgement, edit), adapter.id)

    def _now(self, after: Judgement, adapter: str) -> int:
        faults = 0
        for place in after.wiring.places_of(adapter):
            status, cause = after.status_of(place), after.cause_of(place)
            before = self.wiring.place(place.record)
            was = self.judgement.cause_of(before) if before is not None else None
            if cause is None or (alike(cause, was) and cause.what not in (CUT_OFF, OPEN_END, WRONG_TAG)):
                continue
            faults |= _fault(status, cause)
        return faults


def _fault(status: int, cause: Cause) -> int:
    """What is wrong with a place, as far as it is the host's affair."""
    if status == EXPOSED:
        return MEETS
    if cause.what in (NO_LEASE, WRONG_LEASE, NO_PREFIX, WRONG_PREFIX):
        return LEASE
    if cause.what == TOO_LARGE:
        return LARGE
    if status == UNPROVEN:
        return OPEN if cause.what == OPEN_END else 0
    if status == WAVERING:
        return SOME
    return TAG if status == ASTRAY else CUT


def _said(own: Iterable[object], of_group: Iterable[object]) -> tuple:  # type: ignore[type-arg]
    """What an adapter says itself, else its port group."""
    return tuple(mine if mine is not None else its for mine, its in zip(own, of_group, strict=False))


def fitness(judgement: Judgement) -> Fitness:
    """What each host has for each adapter; the same object for as long as the judgement lives."""
    return judgement.once(Fitness)

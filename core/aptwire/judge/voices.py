"""Where stands are heard, and where they have their ears: in contexts of their switch and components of the fabric, in every state.

Two numbers that are the same mean: what is said here is heard there, over some member of each one's team.  States don't mix: a component of today isn't
that of a failover of a team over which others' frames go.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from aptwire.forward.domains import Domains, Pairing, solve
from aptwire.forward.parts import NOW, Place, Stand, State
from aptwire.judge.exact import in_doubt
from aptwire.judge.judgement import Judgement
from aptwire.judge.kept import all_same

EACH_STATE = 1 << 28
"""More than there are components in a state."""


MOST_STALE = 64
"""After so many switches were compiled anew nothing is taken along any more."""


Even = list[tuple[int, ...] | None]
"""Of each context of a switch the component in which it speaks and hears in each state, over whichever member; None: it may be in several, or in none, or nobody knows."""


@dataclass
class _Known:
    """What was found out, of all switches but those that were compiled anew since (`stale`, numbers), for as long as what it rests on stays."""

    rests: tuple[object, ...]
    stale: frozenset[int] = frozenset()
    spoken: dict[tuple[int, str, int], frozenset[int]] = field(default_factory=dict)
    heard: dict[tuple[int, str, int], frozenset[int]] = field(default_factory=dict)
    even: dict[tuple[int, str], Even] = field(default_factory=dict)


class Voices:
    """Who may hear whom in a judged plan."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.wiring = judgement, judgement.wiring
        self._own = self._lasting = _Known(self._rests())
        before, changes = judgement.answered.before.get("voices", (None, None))
        if before is not None and changes is not None and all_same(before.rests, self._lasting.rests):
            bridges = (self.wiring.bridge_of.get(key) for key in changes.blocks)
            stale = before.stale.union(bridge.number for bridge in bridges if bridge is not None)
            if len(stale) <= MOST_STALE:
                self._lasting = replace(before, stale=stale)
        judgement.answered.answers["voices"] = self._lasting
        self._open: dict[Stand, bool] = {}
        self._alike: dict[tuple[tuple[int, int], ...], Even] = {}
        self._out: dict[tuple[int, str], list[tuple[Pairing, int]]] = {}
        self._back: dict[tuple[int, int], list[int]] = {}

    def _rests(self) -> tuple[object, ...]:
        """What it rests on beside each one's own switch."""
        wiring, judgement = self.wiring, self.judgement
        return (
            *(wiring.fabric, wiring.classes, wiring.crossing_count, judgement.domains, judgement.pairings),
            *(self._doubtful, *wiring.crossing_teams),
        )

    def _of(self, bridge: int) -> _Known:
        """Where what is found out of a switch is kept."""
        return self._own if bridge in self._lasting.stale else self._lasting

    @cached_property
    def states(self) -> list[tuple[State, Domains]]:
        """Today with its domains, and each state in which another member carries others' frames."""
        others = (
            State({team.key: member.key})
            for team in self.wiring.crossing_teams
            for member in team.members[1 : team.usable]
        )
        pairings = self.judgement.pairings
        return [(NOW, self.judgement.domains), *((state, solve(self.wiring, pairings, state)) for state in others)]

    def spoken(self, bridge: int, order: str, context: int) -> frozenset[int]:
        """Where frames of a context are heard: on its own switch (below zero), and in components of the fabric, state by state."""
        key, known = (bridge, order, context), self._of(bridge).spoken
        if key not in known:
            even = self._even(bridge, order)[context]
            found = self._reached(self._nodes(bridge, order, context)) if even is None else _by_state(even)
            known[key] = frozenset((self.inside(bridge, context), *found))
        return known[key]

    def heard(self, bridge: int, order: str, context: int) -> frozenset[int]:
        """Where one who hears a context of a switch has its ears."""
        key, known = (bridge, order, context), self._of(bridge).heard
        if key not in known:
            if self._even(bridge, order)[context] is not None:
                # Where it speaks it hears.
                return self.spoken(bridge, order, context)
            nodes = np.array(self._ears(bridge, order, context), dtype=np.int64)
            found = {self.inside(bridge, context)}
            for state, (_, domains) in enumerate(self.states):
                found.update((state * EACH_STATE + domains.component[nodes].astype(np.int64)).tolist())
            known[key] = frozenset(found)
        return known[key]

    def says(self, stand: Stand) -> frozenset[object]:
        """Where a stand is heard; for an overlay's, that of whoever carries it, by VNI."""
        if stand.context < 0:
            return frozenset()
        if not stand.vni:
            return self.spoken(stand.bridge, stand.order, stand.context)
        return self._tunnelled(stand, self.says(stand.carrier) if stand.carrier is not None else ())

    def listens(self, stand: Stand) -> frozenset[object]:
        """Where a stand has its ears."""
        if not stand.vni:
            ears = (self.heard(stand.bridge, stand.order, context) for context in stand.hears)
            return frozenset().union(*ears)
        return self._tunnelled(stand, self.listens(stand.carrier) if stand.carrier is not None else ())

    def loose(self, stand: Stand) -> bool:
        """Whether frames of a stand get somewhere of which nobody said what is behind it: an uplink without cable, or a switch that is known in part."""
        if stand not in self._open:
            self._open[stand] = self._find_loose(stand)
        return self._open[stand]

    def _find_loose(self, stand: Stand) -> bool:
        if not self.any_open:
            return False
        own = stand.carrier or stand
        landing = self.judgement.landing
        rows = landing.rows_of(landing.number(own))
        return bool(landing.ways.open[rows.start : rows.stop].any()) or not self._loose.isdisjoint(self.says(own))

    @cached_property
    def any_open(self) -> bool:
        """Whether frames of anybody get somewhere of which nobody said what is behind it."""
        return bool(self.judgement.landing.ways.open.any() or self._loose)

    @cached_property
    def _loose(self) -> frozenset[object]:
        """The components from which ports of switches known in part lead on, or uplinks of switches that frames cross, without a cable."""
        wiring, count = self.wiring, self.wiring.classes.count
        ends = [(bridge, rule) for bridge, rule, _ in wiring.fabric.open_ports if rule.partial]
        ends += [(t.bridge, t.rule) for t in wiring.crossing_teams if any(m.open for m in t.members)]
        for switch in wiring.plan.grouped("virtual_switch", "partial").get(True, ()):
            if wiring.bridge_of[switch.id].crossing_row >= 0:
                ends.append((wiring.bridge_of[switch.id].number, wiring.book.wire()))
        nodes = [
            int(node)
            for bridge, rule in ends
            for node in wiring.bridges[bridge].crossing_row * count + np.flatnonzero(rule.out >= 0)
        ]
        return frozenset(self._reached(nodes))

    def may(self, one: Place, two: Place) -> bool:
        """Whether two places may hear each other in some state, or nobody knows; False: surely one of them doesn't hear the other."""
        return self.may_hear(one, two) and self.may_hear(two, one)

    def may_hear(self, one: Place, two: Place) -> bool:
        """Whether the first of two places may hear the other in some state, or nobody knows; False: surely it doesn't."""
        a, b = one.stand, two.stand
        return not self.says(b).isdisjoint(self.listens(a)) or self.loose(a) or self.loose(b)

    def sure(self, one: Place, two: Place) -> bool:
        """Whether two places hear each other in every state, whichever members carry; False: perhaps they do."""
        a, b = self.steady(one.stand), self.steady(two.stand)
        return a is not None and a == b

    def steady(self, stand: Stand) -> tuple[int, ...] | None:
        """The component in which a stand speaks and hears in each state, over whichever member, with nobody kept from it; None: it may be in several, or
        in none, or nobody knows."""
        if stand.context < 0 or stand.vni or not stand.plain:
            return None
        return self._even(stand.bridge, stand.order)[stand.context]

    @cached_property
    def _doubtful(self) -> bool:
        return in_doubt(self.wiring)

    def _even(self, bridge: int, order: str) -> Even:
        known = self._of(bridge).even
        if (bridge, order) not in known:
            known[bridge, order] = self._find_even(bridge, order)
        return known[bridge, order]

    def _find_even(self, bridge: int, order: str) -> Even:
        wiring, count = self.wiring, self.wiring.classes.count
        switch = wiring.plan.of("virtual_switch").get(wiring.bridges[bridge].id)
        nowhere: Even = [None] * count
        if self._doubtful or (switch is not None and switch.partial):
            return nowhere
        if wiring.bridges[bridge].crossing_row >= 0:
            first = wiring.bridges[bridge].crossing_row * count
            return self._components([first + np.arange(count)])
        members = [m for team in wiring.teams_at(bridge, order) for m in team.members[: team.usable]]
        ways = self._ways(bridge, order)
        if not members or len(ways) < len(members) or any(m.one_way or m.open for m in members):
            return nowhere
        # The hosts of a rack are cabled alike.
        key = tuple((id(pairing), far) for pairing, far in ways)
        if key not in self._alike:
            entered = [np.where(pairing.there < 0, -1, far + pairing.there.astype(np.int64)) for pairing, far in ways]
            self._alike[key] = self._components(entered, ways)
        return self._alike[key]

    def _components(self, entered: list[np.ndarray], ways: Sequence[tuple[Pairing, int]] = ()) -> Even:
        """Of contexts that enter these nodes of the fabric (`entered`, int64[contexts] for each member; -1: none), and hear what comes in over these cables."""
        found = []
        for _, domains in self.states:
            component = domains.component.astype(np.int64)
            own = component[entered[0]]
            wrong = np.isin(own, list(domains.one_way()))
            for nodes in entered:
                wrong |= (nodes < 0) | (component[nodes] != own)
            for pairing, far in ways:
                from_ = np.flatnonzero(pairing.back >= 0)
                into = pairing.back[from_]
                # What comes in from elsewhere is heard too; and over a cable that lets nothing back nobody hears.
                wrong[into[component[far + from_] != own[into]]] = True
                wrong |= np.bincount(into, minlength=wrong.size) == 0
            found.append(np.where(wrong, -1, own).tolist())
        return [None if -1 in each else each for each in zip(*found, strict=True)]

    def inside(self, bridge: int, context: int) -> int:
        """The number of a context of a switch."""
        return -1 - (bridge * self.wiring.classes.count + context)

    def _tunnelled(self, stand: Stand, carried: frozenset[object] | tuple[()]) -> frozenset[object]:
        """The same within an overlay: beside it on its switch, where its carrier is, and beyond the routers over which that one's packets go."""
        routers = (("router", stand.vni, station) for station, _ in self.wiring.ways_out.get(stand.over, ()))
        own = ("switch", stand.vni, stand.bridge)
        return frozenset((own, *routers, *(("over", stand.vni, group) for group in carried)))

    def _nodes(self, bridge: int, order: str, context: int) -> list[int]:
        """The nodes of the fabric that frames of a context enter: one for each member that takes them."""
        wiring, count = self.wiring, self.wiring.classes.count
        if wiring.bridges[bridge].crossing_row >= 0:
            return [wiring.bridges[bridge].crossing_row * count + context]
        passed = ((far, int(pairing.there[context])) for pairing, far in self._ways(bridge, order))
        return [far + there for far, there in passed if there >= 0]

    def _ears(self, bridge: int, order: str, context: int) -> list[int]:
        """The nodes of the fabric whose frames come into a context."""
        wiring, count = self.wiring, self.wiring.classes.count
        if wiring.bridges[bridge].crossing_row >= 0:
            return [wiring.bridges[bridge].crossing_row * count + context]
        return [far + from_ for pairing, far in self._ways(bridge, order) for from_ in self._sources(pairing, context)]

    def _ways(self, bridge: int, order: str) -> list[tuple[Pairing, int]]:
        """What each member of a switch's teams lets pass, and the first node of the switch at its other end."""
        if (bridge, order) not in self._out:
            wiring, pairings = self.wiring, self.judgement.pairings
            members = (m for team in wiring.teams_at(bridge, order) for m in team.members[: team.usable])
            links = [member.link for member in members if member.link is not None]
            ends = (wiring.bridges[link.ends[1]].crossing_row * wiring.classes.count for link in links)
            self._out[bridge, order] = [(pairings(*link.rules), end) for link, end in zip(links, ends, strict=True)]
        return self._out[bridge, order]

    def _sources(self, pairing: Pairing, context: int) -> list[int]:
        """The contexts beyond a cable whose frames come into a context over it; most cables of a fleet are alike."""
        key = (id(pairing), context)
        if key not in self._back:
            self._back[key] = np.flatnonzero(pairing.back == context).tolist()
        return self._back[key]

    def _reached(self, nodes: list[int]) -> Iterator[int]:
        for state, (_, domains) in enumerate(self.states):
            beyond = domains.one_way()
            for node in nodes:
                component = int(domains.component[node])
                for reached in domains.hearers(component) if component in beyond else (component,):
                    yield state * EACH_STATE + reached


def _by_state(components: tuple[int, ...]) -> Iterator[int]:
    """Components, state by state."""
    return (state * EACH_STATE + component for state, component in enumerate(components))


def voices(judgement: Judgement) -> Voices:
    """Who may hear whom; the same object for as long as the judgement lives."""
    return judgement.once(Voices)

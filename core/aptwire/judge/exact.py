"""What the arrays can't tell, asked of the exact search: who is taken to meet its gateway or its peers, and doesn't.

- Switches of one host that share NICs: each reaches the fabric, but what one sends out doesn't come back in to the other.  A graph of
  who reaches whom forgets by which port a frame came.
- A port group with a team order of its own on a switch that frames cross: the graph has the switch's own ways, and it may have others.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

import numpy as np

from aptwire.forward.parts import Place
from aptwire.forward.paths import Roads
from aptwire.forward.wiring import Wiring
from aptwire.judge.gates import Gates
from aptwire.judge.landing import Landing
from aptwire.judge.why import STRANDED


def in_doubt(wiring: Wiring) -> bool:
    """Whether there is anything that the arrays can't tell."""
    return bool(wiring.crossed) or any(u.over in wiring.plan.of("uplink") for u in wiring.plan.having("uplink", "over"))


class Exact:
    """Today's ways; `status` int[stands] as far as it is known."""

    def __init__(self, landing: Landing, gates: Gates, status: np.ndarray) -> None:
        self.landing, self.wiring, self.plan = landing, landing.wiring, landing.wiring.plan
        self.segment, self.bridge = landing.columns.segment, landing.columns.bridge
        self.roads = Roads(landing.wiring)
        self.group = landing.rows.group[landing.first]
        self.right = landing.rows.right[landing.first] & (status <= STRANDED) & (self.segment >= 0)
        number = landing.number
        self.gates = {n: [(g, [number(s) for s, _ in g.awake]) for g in gates_] for n, gates_ in gates.borne.items()}
        self._met: dict[tuple[int, int], bool] = {}

    def missed(self) -> Iterator[tuple[int, int]]:
        """(stand, stand): the first counts as meeting the second, its gateway or a peer, and doesn't."""
        for stands in self._sharing():
            yield from self._gateways(stands, among=stands)
            for one, two in combinations(stands, 2):
                if self.group[one] == self.group[two] and self._alike(one, two) and not self._meet(one, two):
                    yield one, two
                    yield two, one
        own_order = self._own_orders()
        yield from self._gateways(sorted({*own_order, *self._served(own_order)}))
        for stand in own_order:
            peers = np.flatnonzero((self.group == self.group[stand]) & self.right)
            for other in peers[self.segment[peers] == self.segment[stand]].tolist():
                if other != stand and self._alike(stand, other) and not self._meet(stand, other):
                    yield stand, other
                    break

    def _sharing(self) -> Iterator[list[int]]:
        """The stands of one segment on several switches of a host on which an uplink shares another's NICs."""
        plan, wiring = self.plan, self.wiring
        sharing = (u for u in plan.having("uplink", "over") if u.over in plan.of("uplink"))
        for host in sorted({plan.get("virtual_switch", uplink.switch).host for uplink in sharing}):
            switches = {switch.id for switch in plan.where("virtual_switch", "host", host)}
            bridges = [n for n, bridge in enumerate(wiring.bridges) if bridge.virtual and bridge.id in switches]
            by_segment: dict[int, list[int]] = {}
            for stand in np.flatnonzero(np.isin(self.bridge, bridges) & self.right).tolist():
                by_segment.setdefault(int(self.segment[stand]), []).append(stand)
            for _, stands in sorted(by_segment.items()):
                if len({int(self.bridge[stand]) for stand in stands}) > 1:
                    yield stands

    def _own_orders(self) -> list[int]:
        """The stands with a team order of their own on switches that frames cross."""
        crossed = list(self.wiring.crossed)
        found = np.flatnonzero(np.isin(self.bridge, crossed) & self.right).tolist() if crossed else []
        return [stand for stand in found if self.landing.stands[stand].order]

    def _served(self, stands: list[int]) -> Iterator[int]:
        """The stands of the segments of which one of these bears a gateway."""
        for segment in sorted({int(self.segment[stand]) for stand in stands}):
            bearing = {stand for _, bearers in self.gates.get(segment, ()) for stand in bearers}
            if not bearing.isdisjoint(stands):
                yield from np.flatnonzero((self.segment == segment) & self.right).tolist()

    def _gateways(self, stands: list[int], among: list[int] | None = None) -> Iterator[tuple[int, int]]:
        """Who of some stands doesn't reach its gateway; `among`: the only ones of whom that is in doubt."""
        for stand in stands:
            for gate, bearing in self.gates.get(int(self.segment[stand]), ()):
                if not bearing or stand in bearing or gate.entries:
                    continue
                # Who bears it elsewhere is reached or missed whatever the doubt.
                if among is not None and any(other not in among for other in bearing):
                    continue
                if not any(self._meet(stand, other) for other in bearing):
                    yield stand, bearing[0]

    def _alike(self, one: int, two: int) -> bool:
        """Whether two stands ought to meet: neither is private, nor in an overlay."""
        return all(self.landing.stands[n].plain and not self.landing.columns.vni[n] for n in (one, two))

    def _meet(self, one: int, two: int) -> bool:
        """Whether each hears the other."""
        key = min(one, two), max(one, two)
        if key not in self._met:
            a, b = (self._place(stand) for stand in key)
            near = self.bridge[one] == self.bridge[two]
            self._met[key] = bool(near) or (self.roads.way(a, b) is not None and self.roads.way(b, a) is not None)
        return self._met[key]

    def _place(self, stand: int) -> Place:
        place = self.wiring.place(self.landing.stands[stand].records[0])
        assert place is not None
        return place

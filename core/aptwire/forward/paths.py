"""One frame's way, exactly: a search over (bridge, context, port of entry).

The search keeps to what the standard lets a bridge do and is the reference for the array form in `domains`.
`wish` looks for the cheapest way on which missing permissions may be added, which shows where a tag is
dropped and what would let it pass.
"""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass

from aptwire.forward.wiring import NOW, Link, Place, State, Wiring

Spot = tuple[int, int, int]
"""(bridge, context, number of the link it came in by, -1 where it began)"""


@dataclass(frozen=True)
class Missing:
    """A permission that a port lacks: to pass the wanted VID tagged, or to take untagged frames as the wanted VID."""

    records: tuple[str, ...]
    untagged: bool = False


@dataclass(frozen=True)
class Step:
    """A frame goes over a link: from one context to the next, with the label it bears on the wire.

    `label` is -1 where the near port sends nothing, `context` after is -1 where the far port drops it.
    """

    link: Link
    side: int
    before: int
    label: int
    after: int
    missing: tuple[Missing, ...] = ()

    @property
    def near(self) -> int:
        """The bridge it leaves."""
        return self.link.ends[self.side]

    @property
    def far(self) -> int:
        """The bridge it enters."""
        return self.link.ends[1 - self.side]


class Roads:
    """The links that can be used from each bridge in a state."""

    def __init__(self, wiring: Wiring, state: State = NOW) -> None:
        self.wiring = wiring
        self.state = state
        self._links: dict[int, list[Link]] = {}
        for link in wiring.fabric_links:
            self._add(link)
        for team in wiring.teams:
            member = wiring.carries(team, state)
            if member is not None and member.link is not None:
                self._add(member.link)

    def _add(self, link: Link) -> None:
        for end in link.ends:
            self._links.setdefault(end, []).append(link)

    def at(self, bridge: int) -> list[Link]:
        """The usable links at a bridge."""
        return self._links.get(bridge, [])

    def onward(self, spot: Spot) -> Iterator[tuple[Step, Spot]]:
        """Where a frame in a context goes next."""
        bridge, context, entry = spot
        for link in self.at(bridge):
            if link.number == entry:
                continue
            side = link.side(bridge)
            label = int(link.rules[side].out[context])
            if label < 0:
                continue
            after = int(link.rules[1 - side].into[label])
            if after >= 0:
                yield Step(link, side, context, label, after), (link.ends[1 - side], after, link.number)

    def flood(self, bridge: int, context: int) -> dict[tuple[int, int], None]:
        """Every (bridge, context) in which a broadcast shows up, the first one included, in order of distance."""
        start: Spot = (bridge, context, -1)
        seen: set[Spot] = {start}
        found: dict[tuple[int, int], None] = {(bridge, context): None}
        queue = deque([start])
        while queue:
            for _, spot in self.onward(queue.popleft()):
                if spot not in seen:
                    seen.add(spot)
                    found.setdefault(spot[:2])
                    queue.append(spot)
        return found

    def way(self, source: Place, target: Place) -> list[Step] | None:
        """The shortest way of a broadcast from one place to another; None where it isn't heard."""
        if source.context < 0 or target.rule is None:
            return None
        start: Spot = (source.bridge, source.context, -1)
        came: dict[Spot, tuple[Spot, Step] | None] = {start: None}
        queue = deque([start])
        while queue:
            spot = queue.popleft()
            if spot[0] == target.bridge and heard_as(target, spot[1]) is not None:
                return _steps(came, spot)
            for step, following in self.onward(spot):
                if following not in came:
                    came[following] = (spot, step)
                    queue.append(following)
        return None

    def wish(self, source: Place, target: tuple[int, int], wanted: int) -> list[Step] | None:
        """The way from a place to (bridge, context) that lacks the fewest permissions for the wanted class.

        Real steps cost nothing (a hop counts a little, for short ways); a step on the wanted class may be
        taken although ports drop it, each missing permission counting one.  None: nothing joins the two.
        """
        start = (source.bridge, source.context if source.context >= 0 else wanted, -1)
        best: dict[Spot, float] = {start: 0.0}
        came: dict[Spot, tuple[Spot, Step] | None] = {start: None}
        heap: list[tuple[float, int, Spot]] = [(0.0, 0, start)]
        order = 0
        while heap:
            cost, _, spot = heapq.heappop(heap)
            if cost > best[spot]:
                continue
            if spot[:2] == target:
                return _steps(came, spot)
            for step, following in self._wishful(spot, wanted):
                price = cost + 0.001 + len(step.missing)
                if price < best.get(following, float("inf")):
                    best[following] = price
                    came[following] = (spot, step)
                    order += 1
                    heapq.heappush(heap, (price, order, following))
        return None

    def _wishful(self, spot: Spot, wanted: int) -> Iterator[tuple[Step, Spot]]:
        bridge, context, entry = spot
        for link in self.at(bridge):
            if link.number == entry:
                continue
            side = link.side(bridge)
            near, far = link.rules[side], link.rules[1 - side]
            label = int(near.out[context])
            after = int(far.into[label]) if label >= 0 else -1
            if after >= 0:
                yield Step(link, side, context, label, after), (link.ends[1 - side], after, link.number)
            if after == wanted or wanted == 0:
                continue
            missing: list[Missing] = []
            takes_tagged = far.into[wanted] == wanted
            if context == wanted and label != 0:
                if label < 0:
                    missing.append(Missing(link.records[side]))
                if not takes_tagged:
                    missing.append(Missing(link.records[1 - side]))
            elif context == wanted and takes_tagged:
                missing.append(Missing(link.records[side]))
            elif label == 0:
                missing.append(Missing(link.records[1 - side], untagged=True))
            else:
                continue
            if not all(port.records for port in missing):
                continue
            step = Step(link, side, context, label, after, tuple(missing))
            yield step, (link.ends[1 - side], wanted, link.number)


def _steps(came: dict[Spot, tuple[Spot, Step] | None], spot: Spot) -> list[Step]:
    steps: list[Step] = []
    while (link := came[spot]) is not None:
        spot, step = link
        steps.append(step)
    return steps[::-1]


def heard_as(place: Place, context: int) -> int | None:
    """The label with which a frame in the context of a place's switch comes out to it; None if it doesn't, or not on its tag."""
    if place.rule is None:
        return None
    label = int(place.rule.out[context])
    return label if label == place.label else None

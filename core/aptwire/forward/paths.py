"""One frame's way, exactly: a search over (bridge, context, port of entry).

The search keeps to what the standard lets a bridge do and is the reference for the array form in `domains`.
`wish` looks for the cheapest way on which missing permissions may be added, which shows where a tag is
dropped and what would let it pass.
"""

from __future__ import annotations

import heapq
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from aptwire.forward.fabric import Hops
from aptwire.forward.parts import NOW, Link, Place, State
from aptwire.forward.wiring import Wiring

FrameAt = tuple[int, int, Link | None]
"""(bridge, context, the link it came in by, None where it began)"""


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


HOP = 1e-6
"""What a hop costs, where a missing permission costs one: so little that no number of hops is worth one."""


Joined = Callable[[int, int, Place], bool]
"""Whether a frame in a context of a bridge gets to where a place's own frames enter the fabric; False: perhaps not."""


class Roads:
    """The links that a frame can use in a state; one of `size` bytes (of its IP packet) only those whose MTU takes it.  `joined`: where that is known from elsewhere."""

    def __init__(self, wiring: Wiring, state: State = NOW, size: int = 0, joined: Joined | None = None) -> None:
        self.wiring = wiring
        self.joined = joined
        self.state = state
        self.size = size
        self._links: dict[tuple[int, str, int], list[Link]] = {}
        self._known: dict[tuple[int, int, tuple[int, int], int], list[Step] | None] = {}
        self._changed = self._elsewhere()

    def _elsewhere(self) -> set[int] | None:
        """The bridges at which this state has other links than today's; None: it may be all of them."""
        if self.state.lost:
            return None
        teams = (self.wiring.team_called(key) for key in self.state.choice)
        found: set[int] = set()
        for team in teams:
            if team is not None:
                links = (member.link for member in team.members if member.link is not None)
                found.update((team.bridge, *(end for link in links for end in link.ends)))
        return found

    def at(self, bridge: int, order: str = "", goal: int = -1) -> list[Link]:
        """The usable links at a bridge, for the stands of a virtual switch to which this team order applies.

        With a goal, links into other virtual switches from which nothing leads on are left out.
        """
        known = self._links.get((bridge, order, goal))
        if known is None:
            everywhere = goal < 0
            if self._changed is not None and bridge not in self._changed:
                found = self.wiring.usual.get((bridge, order, everywhere))
                if found is None:
                    found = self.wiring.usual[bridge, order, everywhere] = list(self._find(bridge, order, everywhere))
            else:
                found = list(self._find(bridge, order, everywhere))
            found = found if everywhere else [*found, *self._behind(bridge, (goal,))]
            known = self._links[bridge, order, goal] = [k for k in found if not k.mtu or k.mtu >= self.size]
        return known

    def _find(self, bridge: int, order: str, everywhere: bool) -> Iterator[Link]:
        wiring, state = self.wiring, self.state
        for team in wiring.teams_at(bridge, order):
            member = wiring.carries(team, state)
            if member is not None and member.link is not None:
                yield member.link
        for link in wiring.fabric.at.get(bridge, ()):
            if link.nic is None or link.nic not in state.lost:
                yield link
        if wiring.bridges[bridge].virtual:
            return
        for team in wiring.fabric.teams:
            member = wiring.carries(team, state)
            if member is None or member.link is None or member.link.nic in state.lost:
                continue
            if bridge in member.link.ends:
                yield member.link
        yield from self._behind(bridge, wiring.team_links.get(bridge, ()) if everywhere else (-1,))

    def _behind(self, bridge: int, switches: Iterable[int]) -> Iterator[Link]:
        """The links from a bridge over the uplinks of some switches; -1: of all from which something leads on."""
        if self.wiring.bridges[bridge].virtual:
            return
        there = self.wiring.team_links.get(bridge, {})
        for team, member in (pair for switch in switches for pair in there.get(switch, ())):
            if member.link is not None and self.wiring.carries(team, self.state) is member:
                yield member.link

    def leaving(self, spot: FrameAt, order: str, goal: int = -1) -> Iterator[Link]:
        """The links by which a frame may leave: never the one it came by, nor another of the same uplink."""
        return self._free(spot, self.at(spot[0], order if spot[2] is None else "", goal))

    def _free(self, spot: FrameAt, links: Iterable[Link]) -> Iterator[Link]:
        bridge, _, entry = spot
        virtual = self.wiring.bridges[bridge].virtual
        barred = self.wiring.fabric.barred if entry is not None else {}
        for link in links:
            if barred and entry is not None and entry.key in barred.get(link.key, ()):
                continue
            if (
                entry is None
                or not _same_port(entry, link, bridge, virtual)
                or (link.rules[link.side(bridge)].reflects and (link is entry or not virtual))
            ):
                yield link

    def _nearer(self, bridge: int, order: str, goal: int, left: Hops) -> list[Link]:
        """The links at a bridge that lead nearer to a goal; kept with the wiring where this state has no links of its own."""
        usual = self._changed is not None and bridge not in self._changed and not self.size
        known = self.wiring.nearer.get((bridge, order, goal)) if usual else None
        if known is None:
            hops = left[bridge]
            if usual and hops == 2 and left.gates and not self.wiring.bridges[bridge].virtual:
                # A switch in the middle has very many links, and few lead to the last one.
                at = self.wiring.fabric.at
                known = [link for gate in sorted(left.gates) for link in at.get(gate, ()) if bridge in link.ends]
            else:
                known = [link for link in self.at(bridge, order, goal) if left[sum(link.ends) - bridge] < hops]
            if usual:
                self.wiring.nearer[bridge, order, goal] = known
        return known

    def arrives(self, spot: FrameAt, place: Place) -> bool:
        """Whether a frame there comes out to a place."""
        bridge, context, entry = spot
        if bridge != place.bridge or heard_as(place, context) is None:
            return False
        return entry is None or not self.wiring.bridges[bridge].virtual or entry in self.at(bridge, place.stand.order)

    def onward(self, spot: FrameAt, order: str = "", goal: int = -1) -> Iterator[tuple[Step, FrameAt]]:
        """Where a frame in a context goes next; `order` is the team order of who sent it."""
        bridge, context, _ = spot
        for link in self.leaving(spot, order, goal):
            side = link.side(bridge)
            label = int(link.rules[side].out[context])
            if label < 0:
                continue
            after = int(link.rules[1 - side].into[label])
            if after >= 0:
                yield Step(link, side, context, label, after), (link.ends[1 - side], after, link)

    def way(self, source: Place, target: Place) -> list[Step] | None:
        """The shortest way of a broadcast from one place to another; None where it isn't heard."""
        if source.context < 0 or target.rule is None:
            return None
        kept_out = source.bridge == target.bridge and self.wiring.drops_own(source.bridge)

        def there(spot: FrameAt) -> bool:
            return self.arrives(spot, target) and not (kept_out and spot[2] is not None)

        return self._shortest(source, target.bridge, there)

    def nearest(self, source: Place, bridge: int) -> list[Step] | None:
        """The shortest way of a broadcast to a bridge, in whatever context; None where it doesn't get there."""
        return self._shortest(source, bridge, lambda spot: spot[0] == bridge)

    def _shortest(self, source: Place, goal: int, there: Callable[[FrameAt], bool]) -> list[Step] | None:
        start: FrameAt = (source.bridge, source.context, None)
        came: dict[FrameAt, tuple[FrameAt, Step] | None] = {start: None}
        queue = deque([start])
        while queue:
            spot = queue.popleft()
            if there(spot):
                return _steps(came, spot)
            for step, following in self.onward(spot, source.stand.order, goal):
                if following not in came:
                    came[following] = (spot, step)
                    queue.append(following)
        return None

    def wish(self, source: Place, target: tuple[int, int], wanted: int) -> list[Step] | None:
        """The way from a place to (bridge, context) that lacks the fewest permissions for the wanted class.

        Real steps cost nothing (a hop counts a little, for short ways); a step on the wanted class may be
        taken although ports drop it, each missing permission counting one.  None: nothing joins the two.
        """
        start: FrameAt = (source.bridge, source.context if source.context >= 0 else wanted, None)
        order = source.stand.order
        if not self._only_leaves(source.bridge, target[0]):
            return self._cheapest(start, order, target, wanted)
        # Nobody comes back over this switch, so from the next one on the ways of all its neighbours are the same.
        ways: list[list[Step]] = []
        for step, following in self._wishful(start, wanted, self.at(source.bridge, order, target[0])):
            rest = self._rest(following, target, wanted)
            if rest is not None:
                ways.append([step, *rest])
        return min(ways, key=_price, default=None)

    def _only_leaves(self, bridge: int, goal: int) -> bool:
        """Whether frames on their way to a goal leave a bridge, and none of anybody comes back over it."""
        found = self.wiring.bridges[bridge]
        return bridge != goal and found.virtual and found.crossing_row < 0

    def ends_at(self, source: Place, target: Place, wanted: int) -> Step | None:
        """The step at which a way surely ends that lacks least: the only one by which frames leave the source's switch, if that lacks something and a way on is known;
        None: that isn't known without a search."""
        if self.joined is None or not self._only_leaves(source.bridge, target.bridge):
            return None
        start: FrameAt = (source.bridge, source.context, None)
        found = list(self._wishful(start, wanted, self.at(source.bridge, source.stand.order, target.bridge)))
        step, after = found[0] if len(found) == 1 else (None, None)
        if step is None or after is None or not step.missing or not self.joined(after[0], after[1], target):
            return None
        return step

    def _rest(self, spot: FrameAt, target: tuple[int, int], wanted: int) -> list[Step] | None:
        """The cheapest way on from where a frame came in, kept where it came by no port by which anybody might go on."""
        bridge, context, entry = spot
        links = self.at(bridge, "", target[0])
        virtual = self.wiring.bridges[bridge].virtual
        if entry is None or any(_same_port(entry, link, bridge, virtual) for link in links):
            return self._cheapest(spot, "", target, wanted)
        key = (bridge, context, target, wanted)
        if key not in self._known:
            self._known[key] = self._cheapest(spot, "", target, wanted)
        return self._known[key]

    def _cheapest(self, start: FrameAt, sent: str, target: tuple[int, int], wanted: int) -> list[Step] | None:
        """The way that lacks least from where a frame is, which went out by the team order `sent` if it began there.

        What is nearer to the target is looked at first (A*, with the hops that are left as the least that a way still costs).
        """
        left = self.wiring.hops_to(target[0])
        best: dict[FrameAt, float] = {start: 0.0}
        came: dict[FrameAt, tuple[FrameAt, Step] | None] = {start: None}
        heap: list[tuple[float, int, float, FrameAt, bool]] = [(0.0, 0, 0.0, start, True)]
        order = 0
        while heap:
            _, _, cost, spot, nearer = heapq.heappop(heap)
            if cost > best[spot]:
                continue
            if spot[:2] == target:
                return _steps(came, spot)
            hops = left[spot[0]]
            if nearer:
                # A switch has many ports, and few lead nearer: the others wait until nothing else costs less.
                order += 1
                heapq.heappush(heap, (cost + HOP * (1 + hops), order, cost, spot, False))
            team_order = sent if spot[2] is None else ""
            links = self._nearer(spot[0], team_order, target[0], left)
            if not nearer:
                held = set(map(id, links))
                links = [link for link in self.at(spot[0], team_order, target[0]) if id(link) not in held]
            for step, following in self._wishful(spot, wanted, self._free(spot, links)):
                price = cost + HOP + len(step.missing)
                if price < best.get(following, float("inf")):
                    best[following] = price
                    came[following] = (spot, step)
                    order += 1
                    heapq.heappush(heap, (price + HOP * left[following[0]], order, price, following, True))
        return None

    @staticmethod
    def _wishful(spot: FrameAt, wanted: int, links: Iterable[Link]) -> Iterator[tuple[Step, FrameAt]]:
        bridge, context, _ = spot
        for link in links:
            side = link.side(bridge)
            near, far = link.rules[side], link.rules[1 - side]
            label = int(near.out[context])
            after = int(far.into[label]) if label >= 0 else -1
            if after >= 0:
                yield Step(link, side, context, label, after), (link.ends[1 - side], after, link)
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
            yield step, (link.ends[1 - side], wanted, link)


def _price(way: list[Step]) -> float:
    """What a way costs: its hops and what it lacks."""
    return sum(HOP + len(step.missing) for step in way)


def _same_port(one: Link, two: Link, bridge: int, virtual: bool) -> bool:
    """Whether two links are on one port of a bridge: an uplink of a virtual switch, else one physical port, which uplinks may share."""
    if one is two or virtual:
        return one is two or one.records[one.side(bridge)][:1] == two.records[two.side(bridge)][:1]
    if one.cable is None:
        return two.cable is None and one.nic is not None and one.nic == two.nic
    if one.cable != two.cable:
        return False
    # In the middle of a bare cable two hosts face each other; a cable from a switch to itself is one way and the other.
    near = one.records[one.side(bridge)]
    return one.ends[0] == one.ends[1] or (bool(near) and near == two.records[two.side(bridge)])


def _steps(came: dict[FrameAt, tuple[FrameAt, Step] | None], spot: FrameAt) -> list[Step]:
    steps: list[Step] = []
    while (link := came[spot]) is not None:
        spot, step = link
        steps.append(step)
    return steps[::-1]


def goal(source: Place, target: Place) -> tuple[int, int]:
    """The (bridge, context) in which a frame of the source should come to the target: its own VLAN where the target hears that."""
    hears = target.stand.hears
    context = source.context if source.context in hears and not target.stand.plain else target.context
    if context not in hears and hears:
        context = hears[0]
    return target.bridge, context


def heard_as(place: Place, context: int) -> int | None:
    """The label with which a frame in the context of a place's bridge comes out to it; None if it doesn't, or not on its tag."""
    return place.label if context in place.stand.hears else None

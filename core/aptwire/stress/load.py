"""Load: how full cables get, in each direction, by what a plan's flows send; today, at the worst, with a burst, and after each single failure; and who gets how much then.

A cable's direction is full by what goes over it with all that Ethernet adds: preamble, header, check, the gap (IEEE Std 802.3 clauses 3.1.1 and 4.4.2), tags, and what an
overlay puts around it.
"""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from operator import is_
from typing import Any

import numpy as np

from aptwire.forward.fabric import header
from aptwire.forward.parts import Place
from aptwire.forward.trace import entry_at
from aptwire.forward.wiring import Block
from aptwire.judge.judgement import Judgement
from aptwire.plan.collecting import no_collecting
from aptwire.plan.kinds import KINDS, Flow, WayIn
from aptwire.plan.layers import differing
from aptwire.plan.names import called
from aptwire.stress.courses import TAG, Course, Courses, Failure, Look, OneWay, carrying, exact_alone, speed_of
from aptwire.stress.fair import levels, shares
from aptwire.stress.flows import Demand, Flows, Seen, Unsent, limited_of, unchanged

AROUND = 7 + 1 + 14 + 4 + 12
"""Bytes that a frame takes on a wire beside its packet: preamble, start delimiter, header, check, and the gap to the next."""
LEAST = 46
"""Bytes that a frame holds at the least; a smaller packet is padded (IEEE Std 802.3 clause 3.2.8)."""
NAMED = ("host", "virtual_switch", "guest", "station", "segment")
"""The kinds whose names stand in why something isn't counted."""
NOTHING = 1e-9
_KEEPING = threading.Lock()
SPARE = 10_000
"""So many courses that nobody uses now are kept."""
AT_ONCE = 64
"""So many flows are put together at a time."""


@dataclass(frozen=True)
class Direction:
    """One direction of a cable: Mbit/s that it carries (None: nobody says), those that go over it as is to be expected, at the most, with the greatest burst beside what is
    expected, and after the failure that fills it most (None: none fills it more)."""

    way: OneWay
    speed: int | None
    asked: float
    most: float
    burst: float
    after: float
    failure: Failure | None


@dataclass(frozen=True)
class Sent:
    """What one flow sends, as it was found, and what that rests on: the record, what was `seen`, and the `blocks` in which all ends stand.

    `now` float64[n, 4]: number of the demand among these, direction, Mbit/s there for each that the demand gets, expected and at the most;
    `failing` float64[m, 3]: demand, failure and direction together, by how many Mbit/s for each.
    """

    flow: Flow
    seen: dict[Seen, Any]
    blocks: tuple[tuple[str, Block | None], ...]
    demands: tuple[Demand, ...]
    unsent: tuple[Unsent, ...]
    courses: tuple[Course, ...]
    now: np.ndarray
    failing: np.ndarray


@dataclass(frozen=True)
class Entries:
    """What uses directions, for each Mbit/s that a demand gets: numbers of demands and directions, and Mbit/s there, expected and at the most."""

    who: np.ndarray
    at: np.ndarray
    share: np.ndarray
    most: np.ndarray


class Load:
    """The load of a judged plan."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.wiring, self.plan = judgement, judgement.wiring, judgement.plan
        wiring = self.wiring
        rests = (wiring.classes, wiring.book, judgement.pairings)
        # What is kept is everybody's who judges this plan or a draft of it.
        with _KEEPING:
            kept: list[Courses] = judgement.kept.get("courses", rests, lambda: [Courses(wiring.fabric)])
            exactly = exact_alone(wiring, judgement.pairings)
            self.courses = kept[0] = kept[0].carried(wiring.fabric, judgement.pairings, exactly)
            self._flows = Flows(wiring)
            self._look = Look(wiring, judgement.pairings, self.courses, exactly)
            sent = self._all_sent()
            self._sent_in_order = [sent[id] for id in self.courses.order]
            # Others may find more of these later.
            self.ways, self.failures = self.courses.ways[:], self.courses.failures[:]
            self.pairs, self._in_order = self.courses.pair_numbers, self.courses.ordered_pairs
            self._put = self._together()
        self.demands: list[Demand] = [demand for one in self._sent_in_order for demand in one.demands]
        self.unsent: list[Unsent] = [unsent for one in self._sent_in_order for unsent in one.unsent]

    def _all_sent(self) -> dict[str, Sent]:
        """What each flow sends: as before, but for those of which anything that they rest on is another one."""
        courses, wiring, flows = self.courses, self.wiring, self.plan.of("flow")
        now = {"": wiring.bearers, **{kind: self.plan.of(kind) for kind in KINDS}}
        doubted = self._doubted(now)
        before = {**courses.sent, **courses.lost}
        sent, renamed = dict(courses.sent), len(before) != len(flows)
        for key in before.keys() | flows.keys() if doubted is None else doubted | courses.lost.keys():
            flow, known = flows.get(key), sent.get(key)
            if flow is None:
                renamed = sent.pop(key, None) is not None or renamed
            elif known is None or not self._holds(known, flow):
                made = sent[key] = self._sent(flow)
                courses.used_by(key, made.courses)
                renamed = renamed or key not in before or before[key].flow.name != flow.name
                for what in (*made.seen, *(("block", block) for block, _ in made.blocks)):
                    # Of those with a value in a field it could be anybody.
                    courses.resting.setdefault(what if len(what) == 2 else what[:1], set()).add(key)
        if renamed:
            courses.order = sorted(sent, key=lambda one: (sent[one].flow.name, one))
        courses.sent, courses.lost, courses.tables, courses.blocks = sent, {}, now, dict(wiring.blocks)
        if len(courses.known) > courses.most:
            used = sum(len(one.courses) for one in sent.values())
            if len(courses.known) > SPARE + 2 * used:
                courses.forget_but({id(course) for one in sent.values() for course in one.courses})
            courses.most = max(len(courses.known), SPARE + 2 * used)
        return sent

    def _doubted(self, now: Mapping[str, Mapping[str, Any]]) -> set[str] | None:
        """The flows (ids) of which something may be another one than before; None: it may be all of them."""
        courses, blocks = self.courses, self.wiring.blocks
        found: set[str] = set()
        for kind, table in now.items():
            before = courses.tables.get(kind)
            if before is table:
                continue
            ids = differing(before, table) if before is not None else None
            if ids is None:
                return None
            for id in ids:
                found |= courses.resting.get((kind, id), set())
                if kind == "flow":
                    found.add(id)
            found |= courses.resting.get((kind,), set())
        for key in courses.blocks.keys() | blocks.keys():
            if courses.blocks.get(key) is not blocks.get(key):
                found |= courses.resting.get(("block", key), set())
        return found

    def _holds(self, sent: Sent, flow: Flow) -> bool:
        """Whether what a flow sent before an edit is what it sends now."""
        blocks = self.wiring.blocks
        if sent.flow is not flow or any(blocks.get(key) is not block for key, block in sent.blocks):
            return False
        return unchanged(self.wiring, sent.seen)

    def _sent(self, flow: Flow) -> Sent:
        demands, unsent, seen = self._flows.sent(flow)
        kept: list[Demand] = []
        lines: list[tuple[int, float, float, int, int]] = []
        courses: list[Course] = []
        found: list[Course] = []
        blocks: dict[str, Block | None] = {}
        for demand in demands:
            there = len(lines)
            for part in demand.parts:
                for place in (self._place(part.source), self._place(part.target)):
                    if place is not None:
                        blocks[place.stand.block] = self.wiring.blocks.get(place.stand.block)
                course, added = self._course(part.source, part.target)
                if course is not None:
                    found.append(course)
                if course is not None and course.there:
                    lines.append((len(kept), part.share, part.most, demand.packet, added))
                    courses.append(course)
                else:
                    gone = f"what goes from {self.name(part.source)} to {self.name(part.target)} doesn’t get there"
                    unsent.append(Unsent(demand.flow, demand.who, gone))
            if len(lines) > there:
                kept.append(demand)
        if unsent:
            seen.update({(kind,): self.plan.of(kind) for kind in NAMED})
        number, share, most, packet, added_ = np.array(lines, dtype=np.float64).reshape(-1, 5).T

        def put(values: Sequence[np.ndarray], width: int) -> tuple[np.ndarray, np.ndarray]:
            at = np.repeat(np.arange(len(values)), [len(one) for one in values])
            return at, np.concatenate([np.zeros((0, width)), *values])

        at, now = put([course.now for course in courses], 4)
        expected, longest = (
            own[at] * now[:, k] * _stretched(packet[at], added_[at], now[:, 3]) for own, k in ((share, 1), (most, 2))
        )
        lasting = _alternatives(kept, np.stack([number[at], now[:, 0], expected, longest], axis=1))
        at, failing = put([course.failing for course in courses], 3)
        changing = share[at] * failing[:, 1] * _stretched(packet[at], added_[at], failing[:, 2])
        return Sent(
            flow,
            seen,
            tuple(blocks.items()),
            tuple(kept),
            tuple(unsent),
            tuple(found),
            lasting,
            np.stack([number[at], failing[:, 0], changing], axis=1),
        )

    def name(self, id: str) -> str:
        """An interface as sentences call it."""
        return called(self.plan, self.plan.find(id))

    def _course(self, source: str, target: str) -> tuple[Course | None, int]:
        """The course between two interfaces, and the bytes that an overlay adds."""
        one, two = self._place(source), self._place(target)
        if one is None or two is None:
            return None, 0
        added = header(self.plan, one.stand.over) if one.stand.vni and one.stand.over else 0
        return self._look.course(one, two), added

    def _place(self, id: str) -> Place | None:
        way = self.plan.of("way_in").get(id)
        return entry_at(self.wiring, way) if isinstance(way, WayIn) else self.wiring.place(id)

    @cached_property
    def of_flow(self) -> dict[str, list[int]]:
        """The demands (numbers) of each flow (id)."""
        found: dict[str, list[int]] = {}
        for n, demand in enumerate(self.demands):
            found.setdefault(demand.flow, []).append(n)
        return found

    # What is asked for.

    @cached_property
    def rates(self) -> np.ndarray:
        """float64[demands]: Mbit/s of packets that each asks for, as far as limits let it; who has several shares his limit among them."""
        rates = np.array([demand.rate for demand in self.demands], dtype=np.float64)
        for size, members in self.held:
            steady = [n for n in members if not self.demands[n].burst]
            asked = rates[steady].sum()
            if asked > size:
                rates[steady] *= size / asked
            for n in members:
                rates[n] = min(rates[n], size)
        return rates

    @cached_property
    def held(self) -> list[tuple[float, list[int]]]:
        """The limits of adapters: Mbit/s, and the demands (numbers) that each holds."""
        limited = limited_of(self.plan)
        found: dict[tuple[str, bool], list[int]] = {}
        for n, demand in enumerate(self.demands if limited else ()):
            if demand.parts[0].source in limited:
                found.setdefault((demand.parts[0].source, True), []).append(n)
            if len(demand.parts) == 1 and demand.parts[0].target in limited:
                found.setdefault((demand.parts[0].target, False), []).append(n)
        limits = ((limited[id][0 if sends else 1], members) for (id, sends), members in found.items())
        return [(limit / 1000, members) for limit, members in limits if limit is not None]

    @cached_property
    def bursts(self) -> np.ndarray:
        """bool[demands]: those that come one at a time."""
        return np.array([demand.burst for demand in self.demands], dtype=bool)

    @cached_property
    def entries(self) -> Entries:
        """What uses which directions today."""
        found, own = self._put_together(0)
        return Entries(own, found[:, 1].astype(np.int64), found[:, 2], found[:, 3])

    @cached_property
    def _failing(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """What changes with failures: int64 demands, int64 failures and directions together, float64 by how many Mbit/s there for each that a demand gets."""
        found, own = self._put_together(1)
        return own, found[:, 1].astype(np.int64), found[:, 2]

    def _put_together(self, which: int) -> tuple[np.ndarray, np.ndarray]:
        """The lines of all flows, float64[n, 4 or 3], and int64[n] the demand of each among all."""
        parts, counts = self._put
        lines = [part[which] for part in parts]
        first = np.cumsum([0, *counts])[:-1]
        found = np.concatenate([np.zeros((0, 3 if which else 4)), *lines])
        return found, found[:, 0].astype(np.int64) + np.repeat(first, [len(part) for part in lines])

    def _together(self) -> tuple[list[tuple[np.ndarray, np.ndarray]], list[int]]:
        """The lines of some flows at a time, put together once for as long as they are the same, and how many demands these have."""
        known, order = self.courses.together, self._sent_in_order
        made: dict[int, tuple[list[Sent], tuple[np.ndarray, np.ndarray], int]] = {}
        for begin in range(0, len(order), AT_ONCE):
            some = order[begin : begin + AT_ONCE]
            before = known.get(begin)
            if before is not None and len(before[0]) == len(some) and all(map(is_, before[0], some)):
                made[begin] = before
                continue
            first = np.cumsum([0, *(len(one.demands) for one in some)])
            both = [
                np.concatenate([lines for one in some for lines in (getattr(one, name),)])
                for name in ("now", "failing")
            ]
            for lines, name in zip(both, ("now", "failing"), strict=True):
                lines[:, 0] += np.repeat(first[:-1], [len(getattr(one, name)) for one in some])
            made[begin] = some, (both[0], both[1]), int(first[-1])
        self.courses.together = made
        return [part for _, part, _ in made.values()], [count for _, _, count in made.values()]

    @cached_property
    def speeds(self) -> np.ndarray:
        """float64[directions]: Mbit/s that each carries, inf where nobody says."""
        tables, far = (self.plan.of("nic"), self.plan.of("fabric_port")), self.wiring.far
        known = self.courses.speeds
        touched: set[str] | None = None
        if known is not None and known[1] is far and len(known[2]) <= len(self.ways):
            ids = [differing(before, now) for before, now in zip(known[0], tables, strict=True)]
            touched = None if any(found is None for found in ids) else {id for found in ids for id in found or ()}
        found = np.full(len(self.ways), np.inf)
        first = 0
        if known is not None and touched is not None:
            first = len(known[2])
            found[:first] = known[2]
        asked = set(range(first, len(self.ways)))
        for port in touched or ():
            for end in (port, far.get(port, ("", ""))[0]):
                asked.update(n for n in self.courses.ways_at(end) if n < first)
        for n in asked:
            speed = speed_of(self.plan, self.wiring, self.ways[n])
            found[n] = np.inf if speed is None else speed
        self.courses.speeds = tables, far, found
        return found

    def _sum(self, values: np.ndarray) -> np.ndarray:
        return np.bincount(self.entries.at, weights=values, minlength=len(self.ways))

    @cached_property
    def steady(self) -> np.ndarray:
        """float64[demands]: what each asks for, bursts aside."""
        return np.where(self.bursts, 0.0, self.rates)

    @cached_property
    def asked(self) -> np.ndarray:
        """float64[directions]: Mbit/s that are to be expected."""
        return self._sum(self.entries.share * self.steady[self.entries.who])

    @cached_property
    def most(self) -> np.ndarray:
        """float64[directions]: Mbit/s at the worst."""
        return self._sum(self.entries.most * self.steady[self.entries.who])

    @cached_property
    def burst(self) -> np.ndarray:
        """float64[directions]: Mbit/s of the greatest burst there by itself."""
        found = np.zeros(len(self.ways))
        of = self.bursts[self.entries.who]
        who = self.entries.who[of]
        np.maximum.at(found, self.entries.at[of], self.entries.most[of] * self.rates[who])
        return found

    @cached_property
    def after(self) -> tuple[np.ndarray, np.ndarray]:
        """float64[directions]: Mbit/s after the failure that fills each most, and int64 the number of that failure; -1: none fills it more than it is."""
        demand, pair, value = self._failing
        by = np.bincount(pair, weights=value * self.steady[demand], minlength=len(self.pairs))
        failing, at = self.pairs.T
        full = self.asked[at] + by
        worst, which = self.asked.copy(), np.full(self.asked.size, -1, dtype=np.int64)
        order, begins = self._in_order
        if not begins.size:
            return worst, which
        # Of each direction the first failure that fills it as much as any.
        most = np.repeat(np.maximum.reduceat(full[order], begins), np.diff(np.r_[begins, order.size]))
        places = np.where(full[order] >= most, np.arange(order.size), order.size)
        best = order[np.minimum.reduceat(places, begins)]
        more = full[best] > worst[at[best]] * (1 + NOTHING) + NOTHING
        best = best[more]
        worst[at[best]], which[at[best]] = full[best], failing[best]
        return worst, which

    @property
    def failing_now(self) -> list[Failure]:
        """Whatever may fail by which anything changes."""
        _, pair, _ = self._failing
        numbers = np.unique(self.pairs[pair, 0])
        return [self.failures[n] for n in numbers.tolist()]

    @cached_property
    def directions(self) -> list[Direction]:
        """Every direction over which anything may go, the fullest first."""
        over = np.maximum(np.maximum(self.most, self.burst), self.after[0]) > NOTHING
        made = [self.direction(n) for n in np.flatnonzero(over).tolist()]
        return sorted(made, key=lambda d: (-fullness(d), d.way.port, not d.way.sends))

    def direction(self, n: int) -> Direction:
        """A direction by its number."""
        after, which = self.after
        asked = float(self.asked[n])
        return Direction(
            self.ways[n],
            None if np.isinf(self.speeds[n]) else int(self.speeds[n]),
            asked,
            float(self.most[n]),
            asked + float(self.burst[n]),
            float(after[n]),
            self.failures[which[n]] if which[n] >= 0 else None,
        )

    @cached_property
    def overfull(self) -> list[Direction]:
        """The directions that are sent more than they carry: always, at the most, or after a failure."""
        most = np.maximum(np.maximum(self.asked, self.most), self.after[0])
        made = [self.direction(n) for n in np.flatnonzero(most > self.speeds * (1 + NOTHING)).tolist()]
        return sorted(made, key=lambda d: (-fullness(d), d.way.port, not d.way.sends))

    def number(self, direction: Direction) -> int:
        """The number of a direction."""
        return self.courses.at(direction.way)

    def using(self, at: int, failure: Failure | None = None) -> list[tuple[int, float]]:
        """The demands (numbers) that go over a direction (its number), with the Mbit/s that are to be expected of each; the heaviest first."""
        who, ats, share, rates = self.entries.who, self.entries.at, self.entries.share, self.steady
        if failure is not None:
            who, ats, share, rates = self.after_failure(failure, rates)
        own = ats == at
        found: dict[int, float] = {}
        for n, value in zip(who[own].tolist(), (share[own] * rates[who[own]]).tolist(), strict=True):
            found[n] = found.get(n, 0.0) + value
        return sorted(((n, value) for n, value in found.items() if value > NOTHING), key=lambda one: (-one[1], one[0]))

    # Who gets how much.

    def got(self, failure: Failure | None = None, burst: int | None = None) -> np.ndarray:
        """float64[demands]: Mbit/s that each gets where all share fairly; after a failure, and while one burst (the number of its demand) lasts."""
        rates = self.steady.copy()
        if burst is not None:
            rates[burst] = self.rates[burst]
        who, at, share = self.entries.who, self.entries.at, self.entries.share
        if failure is not None:
            who, at, share, rates = self.after_failure(failure, rates)
        known = np.isfinite(self.speeds[at])
        things = len(self.ways)
        sizes = [np.where(np.isfinite(self.speeds), self.speeds, 0.0)]
        lines = [(who[known], at[known], share[known])]
        held = [*self.held, *self._single]
        for n, (size, members) in enumerate(held):
            sizes.append(np.array([size]))
            own = np.array(members, dtype=np.int64)
            lines.append((own, np.full(own.size, things + n, dtype=np.int64), np.ones(own.size)))
        whos, whats, weights = (np.concatenate([line[k] for line in lines]) for k in range(3))
        return shares(rates, whos, whats, weights, np.concatenate(sizes))

    def after_failure(
        self, failure: Failure, rates: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """What uses which directions after a failure: as entries, and what is asked for by whoever is left."""
        number = self.courses.number(failure)
        demand, pair, more = self._failing
        failing, at = self.pairs[pair].T
        own = failing == number
        demand, at, more = demand[own], at[own], more[own]
        count = max(1, len(self.ways))
        keys = np.concatenate([self.entries.who * count + self.entries.at, demand * count + at])
        found, inverse = np.unique(keys, return_inverse=True)
        summed = np.bincount(inverse, weights=np.concatenate([self.entries.share, more]), minlength=found.size)
        left = summed > NOTHING
        who = found[left] // count
        # Whoever went somewhere and doesn't any longer is cut off.
        rates = rates.copy()
        before, now = (np.bincount(w, minlength=rates.size) for w in (self.entries.who, who))
        rates[(before > 0) & (now == 0)] = 0.0
        return who, found[left] % count, summed[left], rates

    @cached_property
    def _single(self) -> list[tuple[float, list[int]]]:
        """Who sticks to one member of a team gets no more than one carries: Mbit/s of packets, and the demands of each."""
        found: dict[str, list[int]] = {}
        for n, demand in enumerate(self.demands):
            for end in {demand.parts[0].source, *([demand.parts[0].target] if len(demand.parts) == 1 else [])}:
                found.setdefault(f"{end} {end == demand.parts[0].source}", []).append(n)
        made = []
        for key, members in found.items():
            place = self._place(key.rpartition(" ")[0])
            if place is None or not self.wiring.bridges[place.bridge].virtual:
                continue
            for team in self.wiring.teams_at(place.bridge, place.stand.order):
                carried = carrying(self.wiring, team)
                speeds = [getattr(m.nic, "speed", None) for m in carried]
                if team.mode == "pinned" and len(carried) > 1 and all(speeds):
                    packet = max(self.demands[n].packet for n in members)
                    stretched = (max(packet, LEAST) + AROUND + TAG) / packet
                    made.append((max(s for s in speeds if s) / stretched, members))
        return made

    # What a burst takes from others.

    @cached_property
    def starved(self) -> list[Starved]:
        """Where a burst takes from what is sent all the time, cable by cable: the worst of each flow's bursts in each direction."""
        entries, made = self.entries, list[Starved]()
        of = self.bursts[entries.who] & np.isfinite(self.speeds[entries.at])
        amount = entries.share * self.rates[entries.who]
        of &= self.asked[entries.at] + amount > self.speeds[entries.at] * (1 + NOTHING)
        of &= self.asked[entries.at] > NOTHING
        if not of.any():
            return made
        worst: dict[tuple[str, int], int] = {}
        for entry in np.flatnonzero(of).tolist():
            key = (self.demands[entries.who[entry]].flow, int(entries.at[entry]))
            if key not in worst or amount[entry] > amount[worst[key]]:
                worst[key] = entry
        order = np.argsort(entries.at, kind="stable")
        starts = np.searchsorted(entries.at[order], np.arange(len(self.ways) + 1))
        keys = sorted(worst)
        own = [order[starts[at] : starts[at + 1]] for _, at in keys]
        own = [lines[~self.bursts[entries.who[lines]] & (entries.share[lines] > NOTHING)] for lines in own]
        # Each burst in each direction is a thing of its own, which its own lines use.
        thing = np.repeat(np.arange(len(keys)), [len(lines) for lines in own])
        line = np.concatenate([np.zeros(0, dtype=np.int64), *own])
        bursting = np.array([worst[key] for key in keys], dtype=np.int64)
        rates = np.r_[self.steady[entries.who[line]], self.rates[entries.who[bursting]]]
        weight = entries.share[np.r_[line, bursting]]
        sizes = self.speeds[[at for _, at in keys]]
        each, steady = np.arange(rates.size), slice(0, line.size)
        without = levels(rates[steady], each[steady], thing, weight[steady], sizes)
        level = levels(rates, each, np.r_[thing, np.arange(len(keys))], weight, sizes)
        before = np.minimum(rates[steady], without[thing])
        losing = np.flatnonzero(before > level[thing] * (1 + 1e-6))
        for n in losing[np.lexsort((-before[losing], thing[losing]))].tolist():
            flow, at = keys[thing[n]]
            burst, victim = (int(entries.who[k]) for k in (bursting[thing[n]], line[n]))
            made.append(Starved(flow, burst, at, victim, float(before[n]), float(level[thing[n]])))
        return made


@dataclass(frozen=True)
class Starved:
    """A burst (the number of its demand, and its flow's id) that takes from a steady demand (`victim`, a number) in a direction (a number): Mbit/s before and meanwhile."""

    flow: str
    burst: int
    at: int
    victim: int
    before: float
    gets: float


def _stretched(packet: np.ndarray, added: np.ndarray, tags: np.ndarray) -> np.ndarray:
    """float64: how many bits on a wire a bit of a packet takes, with bytes that an overlay adds and those of tags there."""
    found: np.ndarray = (np.maximum(packet + added, LEAST) + AROUND + tags) / packet
    return found


def _alternatives(demands: Sequence[Demand], now: np.ndarray) -> np.ndarray:
    """The same lines; of a demand with alternatives that share a direction, at the most all of it is counted there once."""
    several = [n for n, demand in enumerate(demands) if sum(part.most for part in demand.parts) > 1 + NOTHING]
    for n in several:
        lines = np.flatnonzero(now[:, 0] == n)
        for at in np.unique(now[lines, 1]):
            same = lines[now[lines, 1] == at]
            now[same[1:], 3] = 0.0
    return now


def fullness(direction: Direction, carries: float | None = None) -> float:
    """How full a direction is to be expected, 1 being full; of one whose speed nobody says -1."""
    if direction.speed is None:
        return -1.0
    return (direction.asked if carries is None else carries) / direction.speed


def load_of(judgement: Judgement) -> Load:
    """The load of a judged plan; the same object for as long as the judgement lives."""
    with no_collecting():
        return judgement.once(Load)

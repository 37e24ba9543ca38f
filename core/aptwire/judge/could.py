"""What a guest could do: whom it could hear or reach if it tagged its frames as it likes.

Every tag that an adapter's port lets in or out is tried, whatever the guest is meant to use, over all members of its team; who is
running on the other side counts.  It is no verdict: a guest that keeps to what it was given does none of it.  Arrays answer for one
tag; `exactly` carries two as well, for one adapter.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from aptwire.forward.frames import Frames
from aptwire.forward.parts import HOMELESS, Stand
from aptwire.forward.rules import PortRule, Stack
from aptwire.forward.wiring import Block, Slot
from aptwire.judge.book import Grouping, book_of
from aptwire.judge.facts import Facts
from aptwire.judge.judgement import Judgement
from aptwire.judge.voices import voices
from aptwire.judge.why import ASTRAY, is_idle
from aptwire.plan.kinds import (
    Segment,
)


@dataclass(frozen=True)
class Port:
    """Adapters that sit on alike ports of one block, by the contexts that they are meant to use."""

    bridge: int
    order: str
    rule: PortRule
    adapters: tuple[tuple[frozenset[int], tuple[str, ...]], ...]


class _Taken:
    """What port rules let pass, and a number that rises where that changes for one that was known."""

    def __init__(self) -> None:
        self._classes: object = None
        self._known: dict[int, frozenset[int]] = {}
        self._version = 0

    def version(self, classes: object, rules: list[PortRule], taken: Callable[[PortRule], frozenset[int]]) -> int:
        """The number, after a look at these rules."""
        if classes is not self._classes:
            now = {rule.number: taken(rule) for rule in list(rules)}
            if any(now.get(number) != passed for number, passed in self._known.items()):
                self._version += 1
            self._classes, self._known = classes, now
        return self._version

    def alike(self, number: int, passed: frozenset[int]) -> frozenset[int]:
        """What a rule lets pass: the very set that is known, where it is the same, so that many judgements of one plan share it."""
        known = self._known.get(number)
        return known if known == passed else passed


_PORTS: Slot[list[Port]] = Slot(standing=True)
_WIDE: Slot[list[tuple[Port, tuple[str, ...]]]] = Slot(standing=True)


def _ports(block: Block) -> list[Port]:
    """The ports of a block; kept with it."""
    known = _PORTS.get(block)
    if known is not None:
        return known
    found: dict[tuple[int, str, int], tuple[PortRule, list[Stand]]] = {}
    owner = {place: adapter for adapter, places in block.several.items() for place in places}
    for stand in block.stands:
        if stand.rule is not None and not stand.vni and stand.judged:
            found.setdefault((stand.bridge, stand.order, stand.rule.number), (stand.rule, []))[1].append(stand)
    made = []
    for (bridge, order, _), (rule, stands) in found.items():
        meant: list[tuple[frozenset[int], tuple[str, ...]]] = []
        several: dict[str, set[int]] = {}
        for stand in stands:
            own = frozenset([stand.context] if stand.context >= 0 else ())
            single = [record for record in stand.records if record not in owner] if owner else stand.records
            meant.append((own, tuple(single)))
            for record in stand.records if owner else ():
                if record in owner:
                    several.setdefault(owner[record], set()).update(own)
        meant += [(frozenset(own), (adapter,)) for adapter, own in several.items()]
        made.append(Port(bridge, order, rule, tuple(meant)))
    return _PORTS.keep(block, made)


class Could:
    """Whom the adapters of a judged plan could hear or reach, by segment."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.wiring, self.plan = judgement.wiring, judgement.plan
        self.segments = list(judgement.intent.subnets)
        self.voices = voices(judgement)
        self._reached: dict[tuple[int, str, int], frozenset[int]] = {}
        self._taken: dict[int, frozenset[int]] = {}

    def all(self) -> dict[str, tuple[str, ...]]:
        """The segments that each adapter could hear or reach and is not meant to, by id; those that could none are left out."""
        found: dict[str, set[str]] = {}
        for key in self.keys:
            for part in (self.block(key), self.tunnelled(key)):
                for adapter, segments in part.items():
                    found.setdefault(adapter, set()).update(segments)
        return {adapter: tuple(sorted(segments)) for adapter, segments in found.items()}

    @cached_property
    def keys(self) -> list[str]:
        """The blocks in which somebody could do more than is meant."""
        blocks = self.wiring.blocks
        if self._tunnel_ends:
            return list(blocks)
        switches = {id for of in book_of(self.judgement).grouped(WIDE, self).by_key.values() for (id,) in of.values()}
        own = (HOMELESS, *{adapter.function_of for adapter in self.plan.having("adapter", "function_of")})
        others = [key for key in own if key in blocks and self._wide(blocks[key])]
        return [*sorted(switches), *others]

    def wide_switches(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, str]]:
        """The switches of a host on which somebody could do more than is meant."""
        for found in listed:
            if self._wide(self.wiring.blocks[found.switch]):
                yield found.switch, found.switch

    def taking(self) -> tuple[object, ...]:
        """What it rests on who could do more: what the rules that are known let pass."""
        rules, classes = self.wiring.book.rules, self.wiring.classes
        return (self._known.version(classes, rules, self.taken),)

    @property
    def _known(self) -> _Taken:
        return self.judgement.kept.get("what rules let pass", (), _Taken)

    def taken(self, rule: PortRule) -> frozenset[int]:
        """The contexts that a port lets in or out."""
        if rule.number not in self._taken:
            into = rule.into[rule.into >= 0].tolist()
            passed = frozenset([*into, *np.flatnonzero(rule.out > 0).tolist()])
            self._taken[rule.number] = self._known.alike(rule.number, passed)
        return self._taken[rule.number]

    def _wide(self, block: Block) -> list[tuple[Port, tuple[str, ...]]]:
        """A block's ports with the adapters that aren't meant to use just what they let pass; kept with it for as long as the VID classes
        are the same."""
        known = _WIDE.get(block, self.wiring.classes)
        if known is None:
            ports = [(port, self.taken(port.rule)) for port in _ports(block)]
            wide = [
                (port, tuple(a for own, names in port.adapters if own != taken for a in names)) for port, taken in ports
            ]
            made = [(port, adapters) for port, adapters in wide if adapters]
            known = _WIDE.keep(block, made, self.wiring.classes)
        return known

    def block(self, key: str) -> dict[str, tuple[str, ...]]:
        """Those that the adapters of a block could reach by tagging."""
        found: dict[str, tuple[str, ...]] = {}
        for port, adapters in self._wide(self.wiring.blocks[key]):
            reached = frozenset().union(*(self._from(port.bridge, port.order, c) for c in self.taken(port.rule)))
            for adapter in adapters if reached else ():
                if adapter in self.plan.of("adapter"):
                    beyond = reached - self._meant(adapter)
                    if beyond:
                        found[adapter] = tuple(sorted(self.segments[n] for n in beyond))
        return found

    def tunnelled(self, key: str) -> dict[str, tuple[str, ...]]:
        """The overlays that the adapters of a block could send into, by packets of their own to whoever carries the tunnels."""
        found: dict[str, tuple[str, ...]] = {}
        ends = self._tunnel_ends
        for port in _ports(self.wiring.blocks[key]) if ends else ():
            groups = {g for c in self.taken(port.rule) for g in self.voices.spoken(port.bridge, port.order, c)}
            reached = set().union(*(ends[group] for group in groups & ends.keys()))
            for adapter in (a for _, names in port.adapters for a in names) if reached else ():
                if adapter in self.plan.of("adapter"):
                    own = {place.segment for place in self.wiring.places_of(adapter)}
                    beyond = {self.segments[n] for n in reached} - own
                    if beyond:
                        found[adapter] = tuple(sorted(beyond))
        return found

    @cached_property
    def _tunnel_ends(self) -> dict[int, set[int]]:
        """The overlays' segments by where the host ports that carry them have their ears."""
        found: dict[int, set[int]] = {}
        if not self.plan.where("port_group", "mode", "overlay"):
            return found
        of_vni = {s.vni: n for n, id in enumerate(self.segments) if (s := self.plan.get("segment", id)).vni}
        carried: dict[str, set[int]] = {}
        for group in self.plan.where("port_group", "mode", "overlay"):
            if group.vni in of_vni:
                carried.setdefault(group.over, set()).add(of_vni[group.vni])
        for over, segments in carried.items():
            place = self.wiring.place(over)
            if place is not None and not is_idle(self.plan, over):
                for context in place.stand.hears:
                    for ear in self.voices.heard(place.bridge, place.stand.order, context):
                        found.setdefault(ear, set()).update(segments)
        return found

    def _meant(self, adapter: str) -> set[int]:
        """The segments on which an adapter belongs, and those whom it meets anyway with the tags that it was given."""
        meant: set[int] = set()
        for place in self.wiring.places_of(adapter):
            if place.segment is not None:
                meant.add(self.segments.index(place.segment))
            if place.context >= 0:
                meant |= self._from(place.bridge, place.stand.order, place.context)
        return meant

    def _from(self, bridge: int, order: str, context: int) -> frozenset[int]:
        """The segments of those who hear what is said in a context, over any member of its switch's teams."""
        key = (bridge, order, context)
        known = self._reached.get(key)
        if known is None:
            found: set[int] = set()
            ears = self._ears
            for group in self.voices.spoken(bridge, order, context):
                found |= ears.get(group, set())
            known = self._reached[key] = frozenset(found)
        return known

    @cached_property
    def _ears(self) -> dict[int, set[int]]:
        """The segments of those who run and hear, by where they do."""
        found: dict[int, set[int]] = {}
        judgement = self.judgement
        for number, stand in enumerate(judgement.stands):
            segment = int(judgement.landing.columns.segment[number])
            asleep = stand.asleep and not stand.awake
            if segment < 0 or stand.vni or asleep or judgement.status[number] == ASTRAY:
                continue
            for context in stand.hears:
                for group in self.voices.heard(stand.bridge, stand.order, context):
                    found.setdefault(group, set()).add(segment)
        return found


WIDE: Grouping[Could, object] = Grouping("wide", Could.wide_switches, made_of=Could.taking)


def could(judgement: Judgement) -> Could:
    """What the guests of a judged plan could do; the same object for as long as the judgement lives."""
    return judgement.once(Could)


def frames_of(judgement: Judgement) -> Frames:
    """What is sent and taken at each port today, for `Judgement.once`."""
    return Frames(judgement.wiring)


MOST_STACKS = 4_000
"""Two tags that are tried for one adapter at the most."""


def exactly(judgement: Judgement, adapter: str) -> dict[str, list[str]]:
    """Whom one adapter could reach beside its own, by what it would send: `{"230": [record, ...], "210.230": [...]}`, "" untagged.

    The keys are the tags, outermost first; a receiver counts where the frame comes out to it as its guest takes it: untagged, or with a tag
    of its own.  With packets of a tunnel's own inside, the key ends in the tunnel (`"vxlan 7001"`, `"30 vxlan 7001"`).
    """
    plan, wiring = judgement.plan, judgement.wiring
    frames = judgement.once(frames_of)
    seat = frames.seats.get(adapter)
    if seat is None or seat.vni:
        return {}
    mine = {place.record for place in wiring.places_of(adapter)}
    meant = [(wiring.classes.vid(place.label),) if place.label else () for place in wiring.places_of(adapter)]
    met = {record for tags in meant for record in _takers(judgement, frames, adapter, tags)}
    single = [wiring.classes.vid(n) for n in range(1, wiring.classes.used) if wiring.classes.members[n]]
    taken = [vid for vid in single if frames.takes(adapter, vid)]
    popped = {vid for rule in wiring.book.rules for vid in taken if rule.out[wiring.classes.of[vid]] == 0}
    wanted = sorted({s.vid for s in plan.all(Segment) if s.vid})
    stacks: list[Stack] = [(), *((vid,) for vid in taken)]
    stacks += [(outer, inner) for outer in sorted(popped) for inner in wanted][:MOST_STACKS]
    found: dict[str, list[str]] = {}
    inside = _inside(judgement)
    for tags in stacks:
        takers = set(_takers(judgement, frames, adapter, tags))
        own = ".".join(map(str, tags))
        reached: dict[str, set[str]] = {own: takers}
        for tunnel, ends in inside.items():
            beyond = (ends[over] for over in sorted(takers & ends.keys()))
            reached[f"{own} {tunnel}".strip()] = set().union(*beyond)
        for text, records in reached.items():
            if records - met - mine:
                found[text] = sorted(records - met - mine)
                met |= records
    return found


def _inside(judgement: Judgement) -> dict[str, dict[str, set[str]]]:
    """Who takes what comes out of each tunnel ("vxlan 7001"), by the host port that carries it."""
    plan, found = judgement.plan, dict[str, dict[str, set[str]]]()
    for stand in judgement.stands:
        if stand.vni and stand.over:
            segment = next(iter(plan.where("segment", "vni", stand.vni)), None)
            tunnel = f"{segment.encapsulation if segment is not None else 'vxlan'} {stand.vni}"
            running = {record for record in stand.records if not is_idle(plan, record)}
            found.setdefault(tunnel, {}).setdefault(stand.over, set()).update(running)
    return found


def _takers(judgement: Judgement, frames: Frames, adapter: str, tags: Stack) -> Iterable[str]:
    """The records that take what comes out to them: on their tag, and running."""
    plan, wiring = judgement.plan, judgement.wiring
    for id, out in frames.stacked(adapter, tags):
        record = plan.find(id)
        if len(out) > 1 or record is None or (record.kind in ("adapter", "host_port") and is_idle(plan, id)):
            continue
        label = int(wiring.classes.of[out[0]]) if out else 0
        own = [wiring.place(id)] if record.kind == "station_port" else wiring.places_of(id)
        yield from (place.record for place in own if place is not None and place.label == label)

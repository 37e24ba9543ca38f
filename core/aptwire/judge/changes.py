"""What an edit changed, as far as those need to know it who told of the judgement before."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from operator import attrgetter

import numpy as np

from aptwire.forward.fabric import Fabric
from aptwire.forward.rules import PortRule
from aptwire.forward.wiring import Wiring
from aptwire.plan.kinds import ABOUT, Segment, reads_but
from aptwire.plan.plan import Plan


@dataclass(frozen=True)
class Changes:
    """`apart`: the blocks (keys) in which verdicts, landings or causes may differ; `blocks`: those compiled anew, which are among them, and those of which
    records say something else; `records` (ids) the edit's own; `ways` the VID classes that the fabric lets pass otherwise (None: its shape is another);
    `words` those of the records of which nothing differs but what people alone read, and of a segment its name; `given` those apart for nothing but what
    somebody gets from others."""

    apart: frozenset[str]
    blocks: frozenset[str]
    records: frozenset[tuple[str, str]]
    ways: frozenset[int] | None
    words: frozenset[tuple[str, str]] = frozenset()
    given: frozenset[str] = frozenset()

    def __or__(self, other: Changes) -> Changes:
        ways = None if self.ways is None or other.ways is None else self.ways | other.ways
        more = self.records - self.words | other.records - other.words
        records, words = self.records | other.records, (self.words | other.words) - more
        moved = self.moved | other.moved
        apart, given = self.apart | other.apart, (self.given | other.given) - moved
        return Changes(apart, self.blocks | other.blocks, records, ways, words, given)

    @property
    def moved(self) -> frozenset[str]:
        """The blocks in which frames may fare otherwise."""
        return self.apart - self.given | self.blocks


UNKNOWN_CHANGES = Changes(frozenset(), frozenset(), frozenset(), None)
"""Of a plan judged from nothing."""


_NAMED = (*ABOUT, "name")


def in_words(old: Plan, new: Plan, records: Iterable[tuple[str, str]]) -> frozenset[tuple[str, str]]:
    """Those of some records (kind, id) of which nothing differs between two plans but what people alone read, and of a segment its name."""
    return frozenset(
        (kind, id)
        for kind, id in records
        if (one := old.of(kind).get(id)) is not None
        and (two := new.of(kind).get(id)) is not None
        and (read := reads_but(kind, _NAMED if kind == Segment.kind else ABOUT))(one) == read(two)
    )


def changed_ways(old: Wiring, new: Wiring) -> frozenset[int] | None:
    """The VID classes that switches let pass between each other otherwise than before, those that were split among them; None where cables,
    the spanning tree or open ends are others."""
    found: set[int] = set()
    if old.classes is not new.classes:
        split = old.classes.of != new.classes.of
        found.update((*old.classes.of[split].tolist(), *new.classes.of[split].tolist()))
    one, two = old.fabric, new.fabric
    if one is two:
        return frozenset(found)
    if not _same_shape(one, two):
        return None
    for key, laid in two.laid.items():
        before = one.laid[key]
        if before is laid:
            continue
        if laid.teams or before.teams or laid.open_ports != before.open_ports or len(laid.links) != len(before.links):
            return None
        for a, b in zip(before.links, laid.links, strict=True):
            if (a.key, a.ends, a.records, a.mtu) != (b.key, b.ends, b.records, b.mtu):
                return None
            for was, now in zip(a.rules, b.rules, strict=True):
                if was is not now:
                    differing = _differing(was, now)
                    if differing is None:
                        return None
                    found |= differing
    return frozenset(found)


def _same_shape(one: Fabric, two: Fabric) -> bool:
    """Whether the same joints carry, the same of them are one, and the same ports lead nobody knows where."""
    return (
        one.pairs == two.pairs
        and one.tree == two.tree
        and one.loose == two.loose
        and one.laid.keys() == two.laid.keys()
    )


_ELSE = attrgetter("private", "push", "single", "reflects", "bared", "own", "partial")


def _differing(was: PortRule, now: PortRule) -> set[int] | None:
    """The classes that two rules treat differently, as frames inside or on the wire, and what they become; None: more than that differs."""
    found: set[int] = set()
    if _ELSE(was) != _ELSE(now) or was.within is not None:
        return None
    for one, two in ((was.out, now.out), (was.into, now.into)):
        differ = np.flatnonzero(one != two)
        found.update((*differ.tolist(), *one[differ].tolist(), *two[differ].tolist()))
    return found - {-1}

"""VIDs that no record tells apart share one class, so a fleet has as many columns as it has distinct VIDs.

Where ports are isolated, every class has a *twin*: the same VIDs, sent by an isolated port.  A twin exists inside a bridge
alone; isolated ports don't hear it, and on the wire it is its class again.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from aptwire.plan import vids
from aptwire.plan.kinds import SPECS, UNSEEN, Record
from aptwire.plan.plan import Plan

UNTAGGED = 0
SPARE = 64


@dataclass(frozen=True)
class VidClasses:
    """`of` int16[4096]: the class of each VID (-1 for the reserved 4095); class 0 is "untagged" and nothing else.

    `count` is the length of arrays over classes: the `used` ones, spare room for VIDs to come, and as many again where there
    are twins (`twins`).
    """

    of: np.ndarray
    count: int
    used: int
    twins: bool = False

    @property
    def plain(self) -> int:
        """How many there are without the twins; the twin of class k is `plain + k`."""
        return self.count // 2 if self.twins else self.count

    @cached_property
    def base(self) -> np.ndarray:
        """int16[count]: the class of each twin, the others themselves."""
        numbers = np.arange(self.count, dtype=np.int16)
        return numbers % self.plain

    @cached_property
    def members(self) -> list[list[int]]:
        """The VIDs of each class, ascending."""
        found: list[list[int]] = [[] for _ in range(self.count)]
        for vid, number in enumerate(self.of.tolist()):
            if number >= 0:
                found[number].append(vid)
        return found[: self.plain] * 2 if self.twins else found

    def vid(self, number: int) -> int:
        """One VID that stands for the class (0 for untagged)."""
        return self.members[number][0]

    def mask(self, text: str) -> np.ndarray:
        """A set of VIDs as bool[count]."""
        bits = np.zeros(self.count, dtype=bool)
        inside = self.of[:4095][vids.mask(text)[:4095]]
        bits[inside] = True
        return bits


@dataclass(frozen=True)
class Named:
    """What records say of VIDs: those named on their own, and the sets as text."""

    single: frozenset[int]
    sets: frozenset[str]
    isolated: bool = False

    @staticmethod
    def by(records: Iterable[Record]) -> Named:
        """What these records say."""
        single: set[int] = set()
        sets: set[str] = set()
        isolated = False
        for record in records:
            isolated = isolated or bool(getattr(record, "isolated", False))
            for name in _SINGLE.get(record.kind, ()):
                single.add(getattr(record, name) or 0)
            for name in _SETS.get(record.kind, ()):
                text = getattr(record, name)
                if text is not None:
                    sets.add(text)
        return Named(frozenset(single), frozenset(sets), isolated)


_SEEN = [(kind, specs) for kind, specs in SPECS.items() if kind not in UNSEEN]
_SINGLE = {kind: tuple(n for n, s in specs.items() if s.kind == "vid") for kind, specs in _SEEN}
_SETS = {kind: tuple(n for n, s in specs.items() if s.kind == "vids") for kind, specs in _SEEN}
_SPEAKING = tuple(kind for kind, _ in _SEEN if (_SINGLE[kind] or _SETS[kind]) and kind != "adapter")
_ISOLATING = tuple(kind for kind, specs in _SEEN if "isolated" in specs and kind != "adapter")


def classify(plan: Plan) -> VidClasses:
    """The classes of a plan: every VID named on its own is alone; the others are split by the sets that hold them."""
    named = Named.by(record for kind in _SPEAKING for record in plan.all(kind))
    direct = Named.by(plan.having("adapter", "function_of"))
    own = Named.by(plan.outspoken)
    alone = sorted(named.single | direct.single | own.single | {0})
    of = np.full(4096, -1, dtype=np.int16)
    of[alone] = np.arange(len(alone))
    others = np.setdiff1d(np.arange(1, 4095), alone)
    if others.size:
        sets = sorted(named.sets | own.sets)
        held = np.stack([vids.mask(text)[others] for text in sets]) if sets else np.zeros((1, others.size), dtype=bool)
        packed = np.ascontiguousarray(np.packbits(held, axis=0).T)
        keys = packed.view([("", packed.dtype)] * packed.shape[1]).ravel()
        _, inverse = np.unique(keys, return_inverse=True)
        of[others] = len(alone) + inverse.reshape(-1)
    used = int(of.max()) + 1
    twins = own.isolated or any(plan.grouped(kind, "isolated").get(True) for kind in _ISOLATING)
    return VidClasses(of=of, count=(used + SPARE) * (1 + twins), used=used, twins=twins)


def refine(classes: VidClasses, named: Named) -> VidClasses | None:
    """Classes fine enough for what some records say, numbers kept: what is split off gets a spare number.

    The classes themselves where they are fine enough already; None where the spare numbers don't suffice, or where the first
    isolated port asks for twins.
    """
    if named.isolated and not classes.twins:
        return None
    of = classes.of.copy()
    used = classes.used
    for vid in sorted(named.single):
        if np.count_nonzero(of == of[vid]) > 1:
            of[vid] = used
            used += 1
    for text in sorted(named.sets):
        inside = vids.mask(text)[:4095]
        held = np.bincount(of[:4095][inside], minlength=used)
        whole = np.bincount(of[:4095], minlength=used)
        for number in np.flatnonzero((held > 0) & (held < whole)).tolist():
            of[:4095][(of[:4095] == number) & inside] = used
            used += 1
    if used == classes.used:
        return classes
    if used > classes.plain:
        return None
    return VidClasses(of=of, count=classes.count, used=used, twins=classes.twins)

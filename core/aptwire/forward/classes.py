"""VIDs that no record tells apart share one class, so a fleet has as many columns as it has distinct VIDs."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from aptwire.plan import vids
from aptwire.plan.kinds import SPECS, Record
from aptwire.plan.plan import Plan

UNTAGGED = 0
SPARE = 64


@dataclass(frozen=True)
class VidClasses:
    """`of` int16[4096]: the class of each VID (-1 for the reserved 4095); class 0 is "untagged" and nothing else.

    `count` is the length of arrays over classes: the `used` ones and spare room for VIDs to come.
    """

    of: np.ndarray
    count: int
    used: int

    @cached_property
    def members(self) -> list[list[int]]:
        """The VIDs of each class, ascending."""
        found: list[list[int]] = [[] for _ in range(self.count)]
        for vid, number in enumerate(self.of.tolist()):
            if number >= 0:
                found[number].append(vid)
        return found

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

    @staticmethod
    def by(records: Iterable[Record]) -> Named:
        """What these records say."""
        single: set[int] = set()
        sets: set[str] = set()
        for record in records:
            for name in _SINGLE.get(record.kind, ()):
                single.add(getattr(record, name) or 0)
            for name in _SETS.get(record.kind, ()):
                text = getattr(record, name)
                if text is not None:
                    sets.add(text)
        return Named(frozenset(single), frozenset(sets))


_SINGLE = {kind: tuple(n for n, s in specs.items() if s.kind == "vid") for kind, specs in SPECS.items()}
_SETS = {kind: tuple(n for n, s in specs.items() if s.kind == "vids") for kind, specs in SPECS.items()}
_SPEAKING = tuple(kind for kind in SPECS if (_SINGLE[kind] or _SETS[kind]) and kind != "adapter")


def classify(plan: Plan) -> VidClasses:
    """The classes of a plan: every VID named on its own is alone; the others are split by the sets that hold them."""
    named = Named.by(record for kind in _SPEAKING for record in plan.all(kind))
    direct = Named.by(plan.having("adapter", "function_of"))
    alone = sorted(named.single | direct.single | {0})
    of = np.full(4096, -1, dtype=np.int16)
    of[alone] = np.arange(len(alone))
    others = np.setdiff1d(np.arange(1, 4095), alone)
    if others.size:
        sets = sorted(named.sets)
        held = np.stack([vids.mask(text)[others] for text in sets]) if sets else np.zeros((1, others.size), dtype=bool)
        packed = np.ascontiguousarray(np.packbits(held, axis=0).T)
        keys = packed.view([("", packed.dtype)] * packed.shape[1]).ravel()
        _, inverse = np.unique(keys, return_inverse=True)
        of[others] = len(alone) + inverse.reshape(-1)
    used = int(of.max()) + 1
    return VidClasses(of=of, count=used + SPARE, used=used)


def refine(classes: VidClasses, named: Named) -> VidClasses | None:
    """Classes fine enough for what some records say, numbers kept: what is split off gets a spare number.

    The classes themselves where they are fine enough already; None where the spare numbers don't suffice.
    """
    of = classes.of.copy()
    used = classes.used
    for vid in sorted(named.single):
        if np.count_nonzero(of == of[vid]) > 1:
            of[vid] = used
            used += 1
    for text in sorted(named.sets):
        inside = vids.mask(text)[:4095]
        for number in np.unique(of[:4095][inside]).tolist():
            part = (of[:4095] == number) & inside
            if np.count_nonzero(of == number) > np.count_nonzero(part):
                of[:4095][part] = used
                used += 1
    if used == classes.used:
        return classes
    return VidClasses(of=of, count=classes.count, used=used) if used <= classes.count else None

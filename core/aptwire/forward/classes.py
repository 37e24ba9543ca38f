"""VIDs that no record tells apart share one class, so a fleet has as many columns as it has distinct VIDs."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from aptwire.plan import vids
from aptwire.plan.plan import Plan

UNTAGGED = 0


@dataclass(frozen=True)
class VidClasses:
    """`of` int16[4096]: the class of each VID (-1 for the reserved 4095); class 0 is "untagged" and nothing else."""

    of: np.ndarray
    count: int

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


def classify(plan: Plan) -> VidClasses:
    """The classes of a plan: every VID named on its own is alone; the others are split by the sets that hold them."""
    single: set[int] = {0}
    sets: set[str] = set()
    for segment in plan.all("segment"):
        single.add(segment.vid or 0)
    for kind in ("port_group", "fabric_port"):
        for record in plan.all(kind):
            single.add(record.vid or 0)
            single.add(record.native or 0)
            if record.allowed is not None:
                sets.add(record.allowed)
    for kind in ("host_port", "guest_tag"):
        single.update(record.vid or 0 for record in plan.all(kind))
    for kind in ("uplink", "assumed_fabric"):
        for record in plan.all(kind):
            single.add(record.native or 0)
            if record.allowed is not None:
                sets.add(record.allowed)
    sets.update(switch.vlans for switch in plan.all("fabric_switch") if switch.vlans is not None)

    of = np.full(4096, -1, dtype=np.int16)
    alone = sorted(single)
    of[alone] = np.arange(len(alone))
    others = np.setdiff1d(np.arange(1, 4095), alone)
    if others.size:
        held = (
            np.stack([vids.mask(text)[others] for text in sorted(sets)])
            if sets
            else np.zeros((1, others.size), dtype=bool)
        )
        packed = np.ascontiguousarray(np.packbits(held, axis=0).T)
        keys = packed.view([("", packed.dtype)] * packed.shape[1]).ravel()
        _, inverse = np.unique(keys, return_inverse=True)
        of[others] = len(alone) + inverse.reshape(-1)
    return VidClasses(of=of, count=int(of.max()) + 1)

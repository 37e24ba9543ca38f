"""VID sets, written as people write them: "110, 120, 200-219".

A VID is 1 to 4094 (IEEE 802.1Q clause 9.6: 0 marks a priority tag, 4095 is reserved).  Where a set may
speak of untagged frames too (the allowed list of an uplink), 0 stands for them.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

import numpy as np

LOWEST, HIGHEST = 1, 4094
ALL = f"{LOWEST}-{HIGHEST}"

_ITEM = re.compile(r"^(\d{1,5})(?:\s*-\s*(\d{1,5}))?$")


def check_vid(vid: int, lowest: int = LOWEST) -> int:
    """The VID itself; ValueError if it is outside lowest..4094."""
    if not lowest <= vid <= HIGHEST:
        raise ValueError(f"VID {vid} is outside {lowest} to {HIGHEST}")
    return vid


@lru_cache(maxsize=65536)
def members(text: str, untagged: bool = False) -> frozenset[int]:
    """The VIDs that a set's text names; ValueError says which item is wrong."""
    lowest = 0 if untagged else LOWEST
    found: set[int] = set()
    for item in text.split(","):
        item = item.strip()
        if not item:
            continue
        match = _ITEM.match(item)
        if not match:
            raise ValueError(f"“{item}” is neither a VID nor a range of VIDs such as 200-219")
        first = check_vid(int(match[1]), lowest)
        last = check_vid(int(match[2]), lowest) if match[2] else first
        if last < first:
            raise ValueError(f"the range {item} runs backwards")
        found.update(range(first, last + 1))
    return frozenset(found)


def write(vids: Iterable[int]) -> str:
    """The canonical text of a set of VIDs: ascending, runs of three or more as ranges."""
    items: list[str] = []
    run: list[int] = []
    for vid in [*sorted(set(vids)), None]:
        if vid is not None and (not run or vid == run[-1] + 1):
            run.append(vid)
            continue
        if len(run) >= 3:
            items.append(f"{run[0]}-{run[-1]}")
        else:
            items.extend(str(v) for v in run)
        run = [vid] if vid is not None else []
    return ", ".join(items)


@lru_cache(maxsize=65536)
def canonical(text: str, untagged: bool = False) -> str:
    """The same set in canonical text; ValueError as in `members`."""
    return write(members(text, untagged))


@lru_cache(maxsize=65536)
def mask(text: str) -> np.ndarray:
    """The set as bool[4096], index = VID (0 = untagged); read-only."""
    bits = np.zeros(4096, dtype=bool)
    bits[list(members(text, untagged=True))] = True
    bits.setflags(write=False)
    return bits


def with_vid(text: str, vid: int) -> str:
    """The set with one VID more, in canonical text."""
    return write(members(text, untagged=True) | {vid})


@lru_cache(maxsize=65536)
def bits(text: str) -> int:
    """A set of VIDs as the bits of a number, bit n for VID n."""
    return int.from_bytes(np.packbits(mask(text), bitorder="little").tobytes(), "little")


@lru_cache(maxsize=65536)
def write_bits(number: int) -> str:
    """The canonical text of the VIDs whose bits are set."""
    return write(of_bits(number))


def of_bits(number: int) -> frozenset[int]:
    """The VIDs whose bits are set."""
    packed = np.frombuffer(number.to_bytes(512, "little"), dtype=np.uint8)
    return frozenset(np.flatnonzero(np.unpackbits(packed, bitorder="little")).tolist())

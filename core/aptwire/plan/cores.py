"""Processors and cores as people write them: sets of processors (2-5, 18), and cores each with its threads (0+16, 1+17)."""

from __future__ import annotations

from collections.abc import Iterable

from aptwire.plan import vids

HIGHEST = vids.HIGHEST
"""The highest number of a processor: far more than one machine has."""


def processors(text: str) -> frozenset[int]:
    """The processors that a set's text names; ValueError says which item is wrong."""
    try:
        return vids.members(text, untagged=True)
    except ValueError as error:
        raise ValueError(str(error).replace("VID", "processor")) from None


def write(numbers: Iterable[int]) -> str:
    """The canonical text of a set of processors: ascending, runs of three or more as ranges."""
    return vids.write(numbers)


def cores(text: str) -> tuple[tuple[int, ...], ...]:
    """The cores that a text names, each with its threads, the first one first; ValueError says which item is wrong."""
    found: list[tuple[int, ...]] = []
    seen: set[int] = set()
    for item in filter(None, (part.strip() for part in text.split(","))):
        threads = tuple(int(t) if t.isascii() and t.isdigit() and len(t) < 6 else -1 for t in item.split("+"))
        if not all(0 <= thread <= HIGHEST for thread in threads):
            raise ValueError(f"“{item[:40]}” is no core such as 3 or 3+19")
        if seen & set(threads) or len(set(threads)) < len(threads):
            raise ValueError(f"a processor of “{item[:40]}” stands twice")
        seen.update(threads)
        found.append(threads)
    return tuple(found)


def write_cores(found: Iterable[tuple[int, ...]]) -> str:
    """The canonical text of cores, in the order of their first threads."""
    return ", ".join("+".join(map(str, threads)) for threads in sorted(found))

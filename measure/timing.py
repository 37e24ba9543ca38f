"""How long something takes."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable


def all_times(work: Callable[[], object], times: int) -> list[float]:
    """The seconds that each of several runs takes."""
    took = []
    for _ in range(times):
        started = time.perf_counter()
        work()
        took.append(time.perf_counter() - started)
    return took


def timed(work: Callable[[], object], times: int) -> float:
    """Median seconds."""
    return statistics.median(all_times(work, times))


def additions() -> float:
    """The seconds that three million additions take: how quick the machine is just now."""
    started, total = time.perf_counter(), 0
    for n in range(3_000_000):
        total += n
    return time.perf_counter() - started

"""Shared by the bench's tests: several plans put to one kernel at once."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from aptwire.plan.plan import Plan
from aptwire_bench.kernel import Kernel
from aptwire_bench.prove import Case, Report, Scope, compare, job_of, say, say_trial

AT_ONCE = 15
SMALL = Scope(sample=6, tags=4, pulls=1, trials=6)


def put(kernel: Kernel, plans: Sequence[Plan], scopes: Sequence[Scope]) -> list[Report]:
    """The reports of some plans, built side by side."""
    cases = [Case.of(plan, scope, f"s{n}.") for n, (plan, scope) in enumerate(zip(plans, scopes, strict=True))]
    return compare(cases, kernel.run(job_of(cases)))


def proved(made: Callable[[int], Plan], seeds: range, trials: int) -> Iterator[tuple[int, Plan, Report]]:
    """The reports of plans made by seed, a number of them at once, of which so many pings and the like are tried, and no frame by itself."""
    with Kernel() as kernel:
        for first in seeds[::AT_ONCE]:
            some = range(first, min(first + AT_ONCE, seeds.stop))
            plans = [made(seed) for seed in some]
            scopes = [Scope(sample=0, tags=0, pulls=0, trials=trials, seed=seed) for seed in some]
            yield from zip(some, plans, put(kernel, plans, scopes), strict=True)


def told(plan: Plan, report: Report) -> list[str]:
    """What differed, for a failing test to say."""
    found = [say(plan, d) for d in report.differences] + [say_trial(plan, t) for t in report.failed]
    return [f"{d['text']}: only engine {d['only_engine']}, only kernel {d['only_kernel']}" for d in found[:3]]

"""Leases: what the engine says that whoever asks is offered, and what real servers and relays offer him in a kernel."""

from __future__ import annotations

import os
import unittest

from aptwire_bench.kernel import Kernel
from aptwire_bench.prove import Scope

from tests.bench.support import put, told
from tests.routers import leasing_plan

SEEDS = int(os.environ.get("APTWIRE_LEASING_PLANS", "30"))
FIRST = int(os.environ.get("APTWIRE_LEASING_SEED", "0"))
"""More by command; with fixed seeds either way."""
AT_ONCE = 15


class LeasingTest(unittest.TestCase):
    def test_who_asks_is_offered_in_the_kernel_what_the_engine_says(self) -> None:
        asked = offered = 0
        with Kernel() as kernel:
            for first in range(FIRST, FIRST + SEEDS, AT_ONCE):
                seeds = range(first, min(first + AT_ONCE, FIRST + SEEDS))
                plans = [leasing_plan(seed) for seed in seeds]
                scopes = [Scope(sample=0, tags=0, pulls=0, trials=12, seed=seed) for seed in seeds]
                for seed, plan, report in zip(seeds, plans, put(kernel, plans, scopes), strict=True):
                    with self.subTest(seed):
                        self.assertEqual(told(plan, report), [])
                    asked += len(report.askers)
                    offered += sum(len(asker.expected) for asker in report.askers)
        print(f"{SEEDS} plans: {asked} asked for a lease, {offered} offers")
        self.assertGreater(offered, SEEDS / 2)


if __name__ == "__main__":
    unittest.main()

"""Pings over routers: what the engine says of random plans, and what forwarding namespaces of a real kernel answer."""

from __future__ import annotations

import os
import unittest
from collections.abc import Callable

from aptwire.plan.plan import Plan
from aptwire_bench.kernel import Kernel
from aptwire_bench.prove import Scope

from tests.bench.support import put, told
from tests.routers import filtered_plan, outward_plan, routed_plan

SEEDS = int(os.environ.get("APTWIRE_ROUTED_PLANS", "30"))
"""More by command; with fixed seeds either way."""
AT_ONCE = 15


class ReachingTest(unittest.TestCase):
    def test_packets_get_as_far_in_the_kernel_as_the_engine_says(self) -> None:
        self.same(routed_plan)

    def test_filters_drop_in_the_kernel_what_the_engine_says(self) -> None:
        self.same(filtered_plan)

    def test_translations_and_outside_networks_answer_in_the_kernel_as_the_engine_says(self) -> None:
        self.same(outward_plan)

    def same(self, made: Callable[[int], Plan]) -> None:
        """The engine and the kernel say the same of plans made by seed."""
        scopes = [Scope(sample=0, tags=0, pulls=0, trials=24, seed=seed) for seed in range(SEEDS)]
        with Kernel() as kernel:
            for first in range(0, SEEDS, AT_ONCE):
                seeds = range(SEEDS)[first : first + AT_ONCE]
                plans = [made(seed) for seed in seeds]
                for seed, plan, report in zip(
                    seeds, plans, put(kernel, plans, scopes[first : first + AT_ONCE]), strict=True
                ):
                    with self.subTest(seed):
                        self.assertEqual(told(plan, report), [])


if __name__ == "__main__":
    unittest.main()

"""Pings over routers: what the engine says of random plans, and what forwarding namespaces of a real kernel answer."""

from __future__ import annotations

import os
import unittest

from aptwire_bench.kernel import Kernel
from aptwire_bench.prove import Scope

from tests.bench.support import put, told
from tests.routers import routed_plan

SEEDS = int(os.environ.get("APTWIRE_ROUTED_PLANS", "30"))
"""More by command; with fixed seeds either way."""
AT_ONCE = 15


class ReachingTest(unittest.TestCase):
    def test_packets_get_as_far_in_the_kernel_as_the_engine_says(self) -> None:
        scopes = [Scope(sample=0, tags=0, pulls=0, trials=24, seed=seed) for seed in range(SEEDS)]
        with Kernel() as kernel:
            for first in range(0, SEEDS, AT_ONCE):
                seeds = range(SEEDS)[first : first + AT_ONCE]
                plans = [routed_plan(seed) for seed in seeds]
                for seed, plan, report in zip(
                    seeds, plans, put(kernel, plans, scopes[first : first + AT_ONCE]), strict=True
                ):
                    with self.subTest(seed):
                        self.assertEqual(told(plan, report), [])


if __name__ == "__main__":
    unittest.main()

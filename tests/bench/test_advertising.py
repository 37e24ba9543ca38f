"""Advertisements: what the engine says that whoever listens learns, and what the kernel's own stack learns of a real router advertiser."""

from __future__ import annotations

import os
import unittest

from tests.bench.support import proved, told
from tests.routers import advertising_plan

SEEDS = int(os.environ.get("APTWIRE_ADVERTISING_PLANS", "15"))
FIRST = int(os.environ.get("APTWIRE_ADVERTISING_SEED", "0"))
"""More by command; with fixed seeds either way."""


class AdvertisingTest(unittest.TestCase):
    def test_who_listens_learns_in_the_kernel_what_the_engine_says(self) -> None:
        asked = prefixes = routers = 0
        for seed, plan, report in proved(advertising_plan, range(FIRST, FIRST + SEEDS), 12):
            with self.subTest(seed):
                self.assertEqual(told(plan, report), [])
            asked += len(report.listeners)
            prefixes += sum(len(listener.expected[0]) for listener in report.listeners)
            routers += sum(len(listener.expected[1]) for listener in report.listeners)
        print(f"{SEEDS} plans: {asked} listened, {prefixes} prefixes, {routers} ways out")
        self.assertGreater(prefixes, SEEDS)
        self.assertGreater(routers, SEEDS / 2)


if __name__ == "__main__":
    unittest.main()

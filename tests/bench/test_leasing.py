"""Leases: what the engine says that whoever asks is offered, and what real servers and relays offer him in a kernel."""

from __future__ import annotations

import os
import unittest
from functools import partial

from tests.bench.support import proved, told
from tests.routers import leasing_plan

SEEDS = int(os.environ.get("APTWIRE_LEASING_PLANS", "30"))
FIRST = int(os.environ.get("APTWIRE_LEASING_SEED", "0"))
"""More by command; with fixed seeds either way."""
SIX = SEEDS // 2


class LeasingTest(unittest.TestCase):
    def test_who_asks_is_offered_in_the_kernel_what_the_engine_says(self) -> None:
        asked = offered = 0
        for seed, plan, report in proved(leasing_plan, range(FIRST, FIRST + SEEDS), 12):
            with self.subTest(seed):
                self.assertEqual(told(plan, report), [])
            asked += len(report.askers)
            offered += sum(len(asker.expected) for asker in report.askers)
        print(f"{SEEDS} plans: {asked} asked for a lease, {offered} offers")
        self.assertGreater(offered, SEEDS / 2)

    def test_of_ipv6_likewise(self) -> None:
        asked = offered = 0
        for seed, plan, report in proved(partial(leasing_plan, six=True), range(FIRST, FIRST + SIX), 12):
            with self.subTest(seed):
                self.assertEqual(told(plan, report), [])
            asked += sum(asker.six for asker in report.askers)
            offered += sum(len(asker.expected) for asker in report.askers if asker.six)
        print(f"{SIX} plans: {asked} asked for a lease of IPv6, {offered} offers")
        self.assertGreater(offered, SIX / 2)


if __name__ == "__main__":
    unittest.main()

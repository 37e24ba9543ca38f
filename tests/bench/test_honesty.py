"""Random plans over all that the kernel can express: engine and kernel agree on every frame.

APTWIRE_BENCH_PLANS says how many plans (50 unless said), APTWIRE_BENCH_SEED where they begin.
"""

from __future__ import annotations

import os
import unittest
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

from aptwire_bench.kernel import Kernel

from tests.bench.support import SMALL, put, told
from tests.support import random_plan

PLANS = int(os.environ.get("APTWIRE_BENCH_PLANS", "50"))
FIRST = int(os.environ.get("APTWIRE_BENCH_SEED", "0"))
TOGETHER = 25


class HonestyTest(unittest.TestCase):
    def test_engine_and_kernel_agree_on_random_plans(self) -> None:
        seeds = list(range(FIRST, FIRST + PLANS))
        half = -(-len(seeds) // 2)
        with ThreadPoolExecutor(2) as pool:
            found = [*pool.map(self.some, (seeds[:half], seeds[half:]))]
        wrong = [line for _, lines in found for line in lines]
        counts = sum((c for c, _ in found), Counter())
        print(f"{PLANS} random plans: {dict(counts)}")
        self.assertEqual(wrong, [])
        self.assertGreater(counts["asked"], 100 * PLANS)
        self.assertLess(counts["not tried"], counts["asked"] / 3)

    def some(self, seeds: list[int]) -> tuple[Counter[str], list[str]]:
        """Counts and differences of some seeds, in a kernel of their own."""
        counts: Counter[str] = Counter()
        wrong: list[str] = []
        with Kernel() as kernel:
            for at in range(0, len(seeds), TOGETHER):
                part = seeds[at : at + TOGETHER]
                plans = [random_plan(seed, rich=True, odd=seed % 2 > 0) for seed in part]
                reports = put(kernel, plans, [replace(SMALL, seed=seed) for seed in part])
                for seed, plan, report in zip(part, plans, reports, strict=True):
                    counts.update(asked=report.asked, agreed=report.agreed)
                    counts["not tried"] += sum(report.untried.values())
                    wrong += [f"seed {seed}: {line}" for line in told(plan, report)]
        return counts, wrong


if __name__ == "__main__":
    unittest.main()

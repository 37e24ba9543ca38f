"""The fleet of the demo: what its maker says of it holds."""

from __future__ import annotations

import unittest

from aptwire.judge.findings import everything
from aptwire.judge.verdicts import judge

from demo.terminals import TERMINALS, build


class TerminalsTest(unittest.TestCase):
    def test_a_company_with_the_faults_of_a_week(self) -> None:
        plan = build()
        self.assertEqual([len(plan.of(kind)) for kind in ("host", "segment", "pattern", "stamp")], [120, 60, 6, 120])
        self.assertEqual({h.site for h in plan.of("host").values()}, set(TERMINALS))
        judgement = judge(plan)
        counts = judgement.counts()
        self.assertGreater(counts["home"], 2000)
        self.assertTrue(all(0 < counts[verdict] < 20 for verdict in ("unproven", "wavering", "stranded", "astray")))
        found = {finding.what: finding for finding in everything(judgement)}
        # A tag that is mistyped or a switch changed by hand is off its pattern, and only there.
        off = [f for f in everything(judgement) if f.what == "off-pattern"]
        self.assertEqual(len({host for f in off for host in f.culprit}), 5)
        self.assertIn("off-pattern", found)

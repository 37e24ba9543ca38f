"""Accepted findings: passed over while their cause is the same and their day hasn't come, and told again after that."""

from __future__ import annotations

import datetime
import json
import tempfile
import unittest
from pathlib import Path

from aptwire.cli import main
from aptwire.judge.accepted import accept, cause_of, sorted_out, standing
from aptwire.judge.findings import Finding, everything
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Patch, apply_edit
from aptwire.plan.file import write_plan
from aptwire.plan.plan import Plan, PlanError
from click.testing import CliRunner, Result
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import demo_plan, random_plan

TODAY = datetime.date(2027, 2, 28)


def accepting_all(plan: Plan, until: str | None = None) -> Plan:
    for finding in everything(judge(plan)):
        plan, _ = apply_edit(plan, accept(plan, finding, "ines", "known", until))
    return plan


class AcceptedTest(unittest.TestCase):
    @settings(max_examples=30)
    @given(st.integers(0, 10**9), st.booleans(), st.data())
    def test_what_is_accepted_is_back_when_somebody_else_suffers(self, seed: int, rich: bool, data) -> None:
        plan = random_plan(seed, rich)
        before = judge(plan)
        found = everything(before)
        accepted = accepting_all(plan)
        after = judge(accepted)
        self.assertEqual(after.verdicts(), before.verdicts(), "no frame knows of it")
        rest, held = sorted_out(accepted, everything(after), TODAY)
        self.assertEqual(([f.id for f in rest], [f.id for f in held]), ([], [f.id for f in found]))
        groups = sorted(plan.of("port_group"))
        if not groups:
            return
        group = data.draw(st.sampled_from(groups))
        try:
            changed, _ = apply_edit(
                accepted, (Patch("port_group", group, {"mode": "access", "vid": 40, "allowed": None, "native": None}),)
            )
        except PlanError:
            return
        told = everything(judge(changed))
        open_, held = sorted_out(changed, told, TODAY)
        known = {f.id: f for f in found}
        for finding in held:
            one = known[finding.id]
            self.assertEqual(
                (finding.verdict, set(finding.culprit), set(finding.endpoints)),
                (one.verdict, set(one.culprit), set(one.endpoints)),
            )
        for finding in open_:
            one = known.get(finding.id)
            self.assertTrue(one is None or cause_of(one) != cause_of(finding))

    def test_names_bring_nothing_back_and_days_do(self) -> None:
        plan = accepting_all(demo_plan(), "2027-03-01")
        named, _ = apply_edit(plan, (Patch("host", "fulmar", {"name": "storm-petrel"}),))
        found = everything(judge(named))
        self.assertEqual(sorted_out(named, found, TODAY)[0], [])
        for day, over in (
            (datetime.date(2027, 3, 1), ""),
            (datetime.date(2027, 3, 2), "it was accepted until 2027-03-01"),
        ):
            known = standing(named, found[0], day)
            assert known is not None
            self.assertEqual(known.over, over)
        again, _ = apply_edit(named, accept(named, found[0], "tomas", "still", None))
        self.assertEqual(len(again.of("acceptance")), len(named.of("acceptance")), "in place of the one that is over")

    def test_why_is_asked(self) -> None:
        plan = demo_plan()
        finding = everything(judge(plan))[0]
        for why, until in (("  ", None), ("known", "28.02.2027"), ("known", "2027-02-30")):
            with self.assertRaises(PlanError):
                accept(plan, finding, "ines", why, until)


class CheckTest(unittest.TestCase):
    def check(self, plan: Plan, *options: str) -> Result:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "plan.json")
            path.write_bytes(write_plan(plan))
            return CliRunner().invoke(main, ["check", str(path), "--today", "2027-02-28", *options])

    def test_a_check_passes_over_what_is_accepted_and_says_so(self) -> None:
        plan = demo_plan()
        self.assertEqual(self.check(plan).exit_code, 1)
        accepted = accepting_all(plan)
        said = self.check(accepted)
        self.assertEqual(said.exit_code, 0)
        self.assertIn("accepted, exposed: berth planning and edge leak into each other\n  By ines: known", said.output)
        whole = json.loads(self.check(accepted, "--json").output)
        self.assertEqual((whole["findings"], len(whole["accepted"])), ([], len(everything(judge(plan)))))
        over = self.check(accepting_all(plan, "2027-02-27"))
        self.assertEqual(over.exit_code, 1)
        self.assertIn("Back: it was accepted until 2027-02-27 (by ines: known)", over.output)
        # Risks alone never made it fail, but for broken rules, and don't have to be accepted.
        for finding in everything(judge(plan)):
            if isinstance(finding, Finding) or finding.what == "broken-rule":
                plan, _ = apply_edit(plan, accept(plan, finding, "ines", "known", None))
        self.assertEqual(self.check(plan).exit_code, 0)

"""Two plans beside each other: the difference leads from one to the other, and says what it does."""

from __future__ import annotations

import dataclasses
import unittest

from aptwire.judge.beside import laid_beside
from aptwire.judge.verdicts import judge
from aptwire.plan.compare import apart, changes, difference
from aptwire.plan.edits import Drop, Patch, apply_edit, touched
from hypothesis import given
from hypothesis import strategies as st

from tests.support import demo_plan, random_plan


class DifferenceTest(unittest.TestCase):
    @given(st.integers(0, 400), st.integers(0, 400))
    def test_it_makes_one_plan_of_another_whatever_they_are(self, one: int, two: int) -> None:
        a, b = random_plan(one), random_plan(two)
        edit = difference(a, b)
        made, back = apply_edit(a, edit)
        self.assertEqual(made, b.named(a.name))
        self.assertEqual(touched(edit), set(apart(a, b)))
        self.assertEqual(apply_edit(made, back)[0], a)
        self.assertEqual(difference(made, b), ())

    def test_what_differs_is_said_as_people_call_it(self) -> None:
        plan = demo_plan()
        group = next(g for g in plan.of("port_group").values() if g.name == "ticketing")
        adapter = next(iter(plan.where("adapter", "port_group", group.id)))
        after, _ = apply_edit(
            plan,
            (
                Patch("port_group", group.id, {"vid": 777, "name": "tickets"}),
                Patch("adapter", adapter.id, {"connected": False, "port_group": None}),
                Drop("rule", next(iter(plan.of("rule")))),
            ),
        )
        said = [str(change) for change in changes(plan, after)]
        host = plan.get("host", plan.get("virtual_switch", group.switch).host).name
        self.assertTrue(any("tickets" in s and f"VID {group.vid} → 777" in s and host in s for s in said), said)
        self.assertTrue(any("connected yes → no" in s and "→ nothing" in s for s in said), said)
        self.assertTrue(any(s.endswith(": gone") for s in said), said)
        self.assertEqual(len(said), 3)


class BesideTest(unittest.TestCase):
    def test_verdicts_and_findings_that_differ(self) -> None:
        before = judge(demo_plan())
        after = judge(apply_edit(before.plan, (Patch("host_port", "gannet/guests0/mgmt", {"vid": None}),))[0])
        said = laid_beside(before, after)
        old, new = before.verdicts(), after.verdicts()
        moved = {m.endpoint: (m.before, m.after) for m in said.moves}
        self.assertEqual(moved, {e: (old[e], new[e]) for e in old if old[e] != new[e]})
        self.assertTrue(said.new)
        self.assertEqual(said.counts, (before.counts(), after.counts()))
        there = laid_beside(after, before)
        self.assertEqual((there.gone, there.new), (said.new, said.gone))
        self.assertFalse(laid_beside(before, judge(demo_plan())))

    def test_any_two_plans_can_be_laid_beside_each_other(self) -> None:
        for one, two in ((1, 2), (5, 9), (12, 30)):
            a, b = judge(random_plan(one)), judge(random_plan(two))
            said = laid_beside(a, b)
            old, new = a.verdicts(), b.verdicts()
            moved = {m.endpoint for m in said.moves}
            self.assertEqual(moved, {e for e in old.keys() | new.keys() if old.get(e) != new.get(e)})
            self.assertTrue(all(dataclasses.asdict(c)["name"] for c in said.changes))


if __name__ == "__main__":
    unittest.main()

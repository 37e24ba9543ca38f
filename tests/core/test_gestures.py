"""Gestures: one edit for what people do to many records at once."""

from __future__ import annotations

import unittest

from aptwire.judge.verdicts import judge
from aptwire.plan import vids
from aptwire.plan.edits import Patch, apply_edit
from aptwire.plan.gestures import renumber
from aptwire.plan.kinds import SPECS
from aptwire.plan.plan import Plan, PlanError
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import demo_plan, random_plan


def tags(plan: Plan) -> set[int]:
    """Every VID that is said by itself, not within a list."""
    singles = ((r, name) for r in plan for name, spec in SPECS[r.kind].items() if spec.kind == "vid")
    return {value for record, name in singles if (value := getattr(record, name))}


class RenumberTest(unittest.TestCase):
    @settings(max_examples=80)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans(), st.data())
    def test_nobody_fares_otherwise_and_the_old_number_is_gone(self, seed: int, rich: bool, odd: bool, data) -> None:
        plan = random_plan(seed, rich, odd)
        used = sorted(tags(plan))
        if not used:
            return
        old = data.draw(st.sampled_from(used))
        new = data.draw(st.integers(1, 4094).filter(lambda vid: vid not in used))
        after, back = apply_edit(plan, renumber(plan, old, new))
        self.assertNotIn(old, tags(after))
        self.assertIn(new, tags(after))
        before, now = judge(plan), judge(after)
        self.assertEqual(now.verdicts(), before.verdicts())
        self.assertEqual(now.counts(), before.counts())
        self.assertEqual(apply_edit(after, back)[0], plan)
        again, _ = apply_edit(after, renumber(after, new, old))
        self.assertEqual(judge(again).verdicts(), before.verdicts())

    def test_lists_and_ranges_and_every_kind_follow(self) -> None:
        plan = demo_plan()
        after, _ = apply_edit(plan, renumber(plan, 210, 1210))
        for record in plan:
            other = after.get(record.kind, record.id)
            for name, spec in SPECS[record.kind].items():
                value, then = getattr(record, name), getattr(other, name)
                if spec.kind == "vid":
                    self.assertEqual(then, 1210 if value == 210 else value)
                elif spec.kind == "vids" and value is not None:
                    held, holds = vids.members(value, untagged=True), vids.members(then, untagged=True)
                    self.assertEqual((1210 in holds, 210 in holds), (210 in held, 210 in held and 1210 in held))
                    self.assertEqual(holds - {210, 1210}, held - {210, 1210})
                else:
                    self.assertEqual(then, value)

    def test_a_list_that_names_the_new_number_alone_gives_it_up(self) -> None:
        plan = demo_plan()
        port = next(p for p in plan.of("fabric_port").values() if p.mode == "trunk" and "240" not in p.allowed)
        plan, _ = apply_edit(plan, (Patch("fabric_port", port.id, {"allowed": "110, 2000-2010"}),))
        before = judge(plan)
        after, _ = apply_edit(plan, renumber(plan, 240, 2005))
        self.assertEqual(after.get("fabric_port", port.id).allowed, "110, 2000-2004, 2006-2010")
        self.assertEqual(judge(after).verdicts(), before.verdicts())

    def test_what_cannot_be_renumbered_says_why(self) -> None:
        plan = demo_plan()
        for old, new, field, said in (
            (210, 220, "new", "220 is in use already, by"),
            (210, 210, "new", "it has this number already"),
            (777, 778, "old", "nothing in this plan has VID 777"),
            (210, 4095, "new", "4095 is outside 1 to 4094"),
            (0, 5, "old", "0 is outside 1 to 4094"),
        ):
            with self.assertRaises(PlanError) as caught:
                renumber(plan, old, new)
            self.assertEqual(caught.exception.problems[0].field, field)
            self.assertIn(said, str(caught.exception))


if __name__ == "__main__":
    unittest.main()

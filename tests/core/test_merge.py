"""A draft upon a plan that went on: what each changed stands, and what both changed is asked."""

from __future__ import annotations

import dataclasses
import random
import unittest
from typing import Any

from aptwire.plan.edits import Drop, Edit, Patch, Put, apply_edit
from aptwire.plan.kinds import SPECS, Guest, PortGroup, Segment
from aptwire.plan.merge import DRAFT, PLAN, Merged, merge
from aptwire.plan.plan import Plan, PlanError
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_judging import some_edit
from tests.support import demo_plan, random_plan


def edited(plan: Plan, *edit: Any) -> Plan:
    return apply_edit(plan, tuple(edit))[0]


def wandered(plan: Plan, dice: random.Random, steps: int) -> Plan:
    """The plan after some random edits, those left out that don't fit; names too, since nearly every edit of both fits beside another."""
    for _ in range(steps):
        edit: Edit = some_edit(plan, dice)
        if plan.of("guest") and dice.random() < 0.3:
            guest = plan.get("guest", dice.choice(sorted(plan.of("guest"))))
            renamed = Patch("guest", guest.id, {"name": f"{guest.name}-{dice.randint(0, 3)}"})
            edit = (dice.choice([renamed, Drop("guest", guest.id)]),)
        if dice.random() < 0.1:
            name, host = f"new-{dice.randint(0, 9)}", dice.choice(sorted(plan.of("host")))
            edit = (Put(Guest(id=f"new-{dice.randint(0, 5)}", name=name, host=host)),)
        if edit and isinstance(edit[0], Drop):
            edit = (*(Drop(r.kind, r.id) for r in reversed(_with(plan, edit[0]))), edit[0])
        try:
            plan, _ = apply_edit(plan, edit)
        except PlanError:
            continue
    return plan


def _with(plan: Plan, drop: Drop) -> list[Any]:
    """What refers to a record, and what refers to that."""
    found: list[Any] = []
    left = [(drop.kind, drop.id)]
    while left:
        for record, _ in plan.referrers(*left.pop()):
            if record not in found:
                found.append(record)
                left.append((record.kind, record.id))
    return found


def cells(plan: Plan) -> dict[tuple[str, str, str], Any]:
    """Every field of every record; and that the record is there."""
    made: dict[tuple[str, str, str], Any] = {}
    for record in plan:
        made[record.kind, record.id, ""] = True
        for name in SPECS[record.kind]:
            made[record.kind, record.id, name] = getattr(record, name)
    return made


class RandomTest(unittest.TestCase):
    def three(self, seed: int, dice: random.Random) -> tuple[Plan, Plan, Plan]:
        base = random_plan(seed)
        return base, wandered(base, dice, dice.randint(0, 6)), wandered(base, dice, dice.randint(0, 6))

    @settings(max_examples=60)
    @given(st.integers(0, 400), st.randoms(use_true_random=False))
    def test_what_one_of_them_changed_stands(self, seed: int, dice: random.Random) -> None:
        base, plan, draft = self.three(seed, dice)
        made = merge(base, plan, draft)
        if made.plan is None or made.clashes:
            return
        self.assertEqual(apply_edit(plan, made.edit)[0], made.plan)
        old, one, two, now = map(cells, (base, plan, draft, made.plan))
        for key in {*old, *one, *two, *now}:
            said = one.get(key, None) if two.get(key, None) == old.get(key, None) else two.get(key, None)
            self.assertEqual(now.get(key, None), said, key)
        other = merge(base, draft, plan)
        self.assertEqual((other.plan, other.clashes), (made.plan, ()))

    @settings(max_examples=80)
    @given(st.integers(0, 400), st.randoms(use_true_random=False))
    def test_every_choice_leads_to_a_plan_that_holds_it(self, seed: int, dice: random.Random) -> None:
        base, plan, draft = self.three(seed, dice)
        chosen: dict[tuple[str, str, str], str] = {}
        made = merge(base, plan, draft)
        while any(not c.chosen for c in made.clashes):
            chosen |= {c.place: dice.choice([PLAN, DRAFT]) for c in made.clashes if not c.chosen}
            made = merge(base, plan, draft, chosen)
        if made.plan is None:
            self.assertTrue(made.problems)
            self.assertFalse(made.clean)
            return
        self.assertTrue(made.clean)
        old, now, one, two = map(cells, (base, made.plan, plan, draft))
        for clash in made.clashes:
            if clash.field and (clash.kind, clash.id, "") in now:
                said = one if clash.chosen == PLAN else two
                self.assertEqual(now[clash.place], said[clash.place], clash)
        # Nothing in it comes from nowhere.
        for key, value in now.items():
            self.assertIn(value, [one.get(key, None), two.get(key, None), old.get(key, None)])

    @given(st.integers(0, 400), st.randoms(use_true_random=False))
    def test_where_one_of_them_stood_still(self, seed: int, dice: random.Random) -> None:
        base, plan, draft = self.three(seed, dice)
        for made, said in (
            (merge(base, base, draft), draft),
            (merge(base, plan, base), plan),
            (merge(base, plan, plan), plan),
        ):
            self.assertEqual((made.plan, made.clashes), (said, ()))


class ClashTest(unittest.TestCase):
    def setUp(self) -> None:
        self.base = demo_plan()
        self.group = next(g for g in self.base.all(PortGroup) if g.name == "ticketing")
        self.host = self.base.get("virtual_switch", self.group.switch).host

    def one(self, made: Merged) -> Any:
        self.assertEqual(len(made.clashes), 1, made)
        self.assertFalse(made.clean)
        return made.clashes[0]

    def test_both_renumbered_one_port_group(self) -> None:
        plan = edited(self.base, Patch("port_group", self.group.id, {"vid": 777, "name": "tickets"}))
        draft = edited(self.base, Patch("port_group", self.group.id, {"vid": 778, "isolated": True}))
        clash = self.one(merge(self.base, plan, draft))
        self.assertEqual((clash.label, clash.base, clash.plan, clash.draft), ("VID", str(self.group.vid), "777", "778"))
        for word, vid in ((PLAN, 777), (DRAFT, 778)):
            made = merge(self.base, plan, draft, {clash.place: word})
            self.assertTrue(made.clean)
            assert made.plan is not None
            group = made.plan.get("port_group", self.group.id)
            self.assertEqual((group.vid, group.name, group.isolated), (vid, "tickets", True))

    def test_the_plan_took_away_what_the_draft_changed_or_needs(self) -> None:
        adapters = self.base.where("adapter", "port_group", self.group.id)
        gone = [*(Patch("adapter", a.id, {"port_group": None, "connected": False}) for a in adapters)]
        orders = [
            Drop(r.kind, r.id) for r, _ in self.base.referrers("port_group", self.group.id) if r.kind != "adapter"
        ]
        plan = edited(self.base, *gone, *orders, Drop("port_group", self.group.id))
        changed = edited(self.base, Patch("port_group", self.group.id, {"vid": 778}))
        clash = self.one(merge(self.base, plan, changed))
        self.assertEqual((clash.field, clash.plan, clash.draft), ("", "gone", "VID 778"))
        self.assertEqual(merge(self.base, plan, changed, {clash.place: PLAN}).plan, plan)
        back = merge(self.base, plan, changed, {clash.place: DRAFT}).plan
        assert back is not None
        self.assertEqual(back.get("port_group", self.group.id).vid, 778)

        adapter = dataclasses.replace(adapters[0], id="one-more", mac="02:00:00:00:99:99", name="one more")
        needs = edited(self.base, Put(adapter))
        clash = self.one(merge(self.base, plan, needs))
        self.assertIn("needed by", clash.draft)
        self.assertEqual(merge(self.base, plan, needs, {clash.place: PLAN}).plan, plan)
        back = merge(self.base, plan, needs, {clash.place: DRAFT}).plan
        assert back is not None
        self.assertEqual(back.get("adapter", "one-more").port_group, self.group.id)

    def test_the_draft_took_away_what_the_plan_came_to_need(self) -> None:
        base = edited(self.base, Put(Segment(id="spare", name="spare", vid=3999)))
        draft = edited(base, Drop("segment", "spare"))
        adapter = next(iter(base.of("adapter").values()))
        plan = edited(base, Patch("adapter", adapter.id, {"belongs": "spare"}))
        clash = self.one(merge(base, plan, draft))
        self.assertIn("needed by", clash.plan)
        self.assertEqual(merge(base, plan, draft, {clash.place: PLAN}).plan, plan)
        without = merge(base, plan, draft, {clash.place: DRAFT}).plan
        assert without is not None
        self.assertNotIn("spare", without.of("segment"))
        self.assertNotIn(adapter.id, without.of("adapter"))

    def test_fields_that_do_not_fit_together_are_chosen_as_one(self) -> None:
        plan = edited(self.base, Patch("port_group", self.group.id, {"mode": "trunk", "vid": None, "allowed": "10-20"}))
        draft = edited(self.base, Patch("port_group", self.group.id, {"vid": 778}))
        clash = self.one(merge(self.base, plan, draft))
        self.assertEqual(merge(self.base, plan, draft, {clash.place: PLAN}).plan, plan)
        first = {clash.place: DRAFT}
        clash = self.one(merge(self.base, plan, draft, first))
        self.assertEqual((clash.field, clash.plan), ("", "mode trunk, VID nothing, allowed 10-20"))
        for word, said in ((PLAN, plan), (DRAFT, draft)):
            self.assertEqual(merge(self.base, plan, draft, {**first, clash.place: word}).plan, said)

    def test_two_records_of_one_name_are_told(self) -> None:
        one, two = (Guest(id=id, name="same-name", host=self.host) for id in ("guest-a", "guest-b"))
        made = merge(self.base, edited(self.base, Put(one)), edited(self.base, Put(two)))
        self.assertIsNone(made.plan)
        self.assertIn("same-name", " ".join(map(str, made.problems)))

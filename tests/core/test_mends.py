"""Mends in detail: what they edit, what they leave alone, how they are ranked, and when they go on from fault to fault."""

from __future__ import annotations

import unittest

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.paths import Roads
from aptwire.judge import why as words
from aptwire.judge.causes import CAUSES
from aptwire.judge.cut import smallest_cut
from aptwire.judge.findings import Finding, everything, findings
from aptwire.judge.judgement import Judgement
from aptwire.judge.mends import CANDIDATES, Mend, mends, new_port_group
from aptwire.judge.plugging import next_free_address
from aptwire.judge.preview import preview
from aptwire.judge.risks import risks
from aptwire.judge.together import mend_all
from aptwire.judge.verdicts import judge
from aptwire.judge.why import VERDICTS
from aptwire.plan.edits import Patch, Put, apply_edit
from aptwire.plan.plan import PlanError
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import Small, all_places, demo_plan, pair, random_plan


class Mending(unittest.TestCase):
    def first(self, made: Small, part: str = "") -> tuple[Judgement, Finding, list[Mend]]:
        judgement = judge(made.plan())
        finding = next(f for f in findings(judgement) if part in f.title)
        return judgement, finding, mends(judgement, finding)

    def after(self, mend: Mend) -> dict[str, str]:
        return mend.preview.judgement.verdicts()


class GesturesTest(Mending):
    def test_allowing_a_vid_keeps_the_others_and_touches_nothing_else(self) -> None:
        _, _, found = self.first(pair("20, 30-39"))
        (patch,) = found[0].edit
        self.assertEqual(patch, Patch("fabric_port", "sw/p1", {"allowed": "10, 20, 30-39"}))

    def test_every_port_that_lacks_the_tag_is_mended_at_once(self) -> None:
        made = pair("20", "20")
        made.kinds["uplink"][0]["allowed"] = "20"
        _, _, found = self.first(made)
        self.assertEqual({o.id for o in found[0].edit}, {"sw/p1", "sw/p2", "a/u"})
        self.assertEqual(set(self.after(found[0]).values()), {"home"})

    def test_both_members_of_a_team_are_mended(self) -> None:
        made = pair("20")
        made.trunk("sw/p9", "20")
        made.put("nic", "a/n9", host="a", name="n9", uplink="a/u", rank=9)
        made.cable("a/n9", "sw/p9")
        _, _, found = self.first(made)
        self.assertEqual({o.id for o in found[0].edit}, {"sw/p1", "sw/p9"})

    def test_moving_prefers_the_same_switch_and_moves_all_that_suffer(self) -> None:
        made = pair()
        made.guest("a", "x1", 99, "s10")
        made.guest("a", "x2", 99, "s10")
        _, _, found = self.first(made, "x1 and x2")
        move = next(m for m in found if m.title.startswith("Move"))
        self.assertEqual(move.title, "Move 2 adapters to port group g10")
        self.assertEqual({o.id: o.changes for o in move.edit}, {x: {"port_group": "a/g10"} for x in ("x1", "x2")})

    def test_without_a_port_group_one_is_made(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "x1", 10, "s20")
        _, _, found = self.first(made, "x1")
        make = next(m for m in found if m.title.startswith("Make port group"))
        (put, patch) = make.edit
        assert isinstance(put, Put)
        self.assertEqual((put.record.name, put.record.vid, put.record.switch), ("s20", 20, "a/s"))
        self.assertEqual(patch, Patch("adapter", "x1", {"port_group": put.record.id}))

    def test_retagging_a_port_group_names_whom_it_takes_along(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "right", 20)
        made.guest("b", "other", 20)
        made.guest("a", "wrong", 20, "s10")
        _, _, found = self.first(made, "wrong")
        self.assertEqual(found[0].title, "Move wrong to port group g10", "the mend that harms nobody comes first")
        retag = next(m for m in found if m.title == "Tag port group g20 10 (worse for right)")
        self.assertIn("right", [m.endpoint for m in retag.preview.moves if m.worse])

    def test_swapped_cables_are_swapped_back(self) -> None:
        made = Small()
        for vid in (10, 20):
            made.segment(vid)
        made.fabric("sw")
        for port, vid in (("sw/p1", 20), ("sw/p2", 10), ("sw/p3", 10), ("sw/p4", 20)):
            made.access(port, vid)
        made.host("a", "sw/p1")
        made.put("virtual_switch", "a/t", host="a", name="t")
        made.put("uplink", "a/second", switch="a/t", name="v")
        made.put("nic", "a/m", host="a", name="m", uplink="a/second")
        made.cable("a/m", "sw/p2")
        made.put("host_port", "a/store", switch="a/t", name="store", belongs="s20")
        made.host("b", "sw/p3")
        made.host("c", "sw/p4")
        made.guest("a", "a1", None, "s10")
        made.guest("b", "b1", None, "s10")
        made.guest("c", "c1", None, "s20")
        judgement, _, found = self.first(made, "a1")
        self.assertEqual(judgement.verdicts()["a/store"], "astray")
        self.assertEqual(found[0].title, "Swap the cables of n0 and m of a")
        self.assertEqual(set(self.after(found[0]).values()), {"home"})

    def test_natives_are_made_to_agree_either_way(self) -> None:
        judgement = judge(demo_plan())
        leak = next(f for f in findings(judgement) if f.what == "leak")
        titles = [m.title for m in mends(judgement, leak)]
        self.assertEqual(titles[0], "Make 220 the VID of untagged frames at port x49 of quay-a too")
        self.assertIn("Tag everything between port x49 of marsh-a and port x49 of quay-a", titles)

    def test_one_fault_behind_another_is_mended_with_it(self) -> None:
        judgement = judge(demo_plan())
        finding = next(f for f in findings(judgement) if f.what == "address")
        best = mends(judgement, finding)[0]
        self.assertIn(", then swap the cables", best.title)
        self.assertEqual(self.after(best)["adapter-ticketing-kiosk-2"], "home")


class RulesOfMendsTest(Mending):
    def test_no_mend_is_offered_that_heals_nobody(self) -> None:
        judgement = judge(demo_plan())
        for finding in findings(judgement):
            for mend in mends(judgement, finding):
                healed = [m for m in mend.preview.moves if m.after == "home"]
                self.assertTrue(healed, mend.title)

    def test_at_most_five_and_no_two_alike(self) -> None:
        judgement = judge(demo_plan())
        for finding in findings(judgement):
            found = mends(judgement, finding)
            self.assertLessEqual(len(found), 5)
            self.assertEqual(len({m.title for m in found}), len(found))

    def test_taking_one_mend_after_another_brings_everybody_home(self) -> None:
        plan = demo_plan()
        for _ in range(20):
            judgement = judge(plan)
            found = [f for f in findings(judgement) if not f.idle]
            if not found:
                break
            plan, _ = apply_edit(plan, mends(judgement, found[0])[0].edit)
        self.assertEqual(findings(judge(plan)), [])
        self.assertEqual(judge(plan).counts()["home"], 52)

    def test_a_preview_never_changes_the_plan_and_refuses_what_cannot_be(self) -> None:
        plan = demo_plan()
        judgement = judge(plan)
        seen = preview(judgement, (Patch("segment", "segment-edge", {"vid": 301}),))
        self.assertEqual(plan, demo_plan())
        self.assertTrue(seen.moves)
        back = preview(seen.judgement, seen.inverse)
        self.assertEqual(back.plan, plan)
        self.assertEqual({m.endpoint: m.before for m in back.moves}, {m.endpoint: m.after for m in seen.moves})
        with self.assertRaises(PlanError):
            preview(judgement, (Patch("segment", "none", {"vid": 1}),))


class HelpersTest(unittest.TestCase):
    def test_every_cause_has_its_words_and_its_candidates(self) -> None:
        causes = {value for name, value in vars(words).items() if name.isupper() and isinstance(value, str)}
        self.assertEqual((set(CAUSES), set(CANDIDATES)), (causes, causes))
        risky = {risk.what for risk in risks(judge(demo_plan()))} | {"mac", "mirror", "mtu"}
        self.assertLessEqual({kind.risk for kind in CAUSES.values()} - {""}, risky)

    def test_the_next_free_address_is_of_a_static_range_and_of_none_for_something_else(self) -> None:
        made = pair()
        said = made.kinds["segment"][0]
        said["subnets"] = ["10.64.0.0/24", "2001:db8::/64"]
        said["ranges"] = ["leases 10.64.0.1-10.64.0.5", "reserved 10.64.0.7"]

        def free() -> str | None:
            plan = made.plan()
            return next_free_address(plan, plan.get("segment", "s10"))

        self.assertEqual(free(), "10.64.0.6/24")
        said["ranges"].append("static 10.64.0.250-10.64.0.255")
        self.assertEqual(free(), "10.64.0.250/24")
        made.kinds["adapter"][0]["addresses"] = [f"10.64.0.{n}/24" for n in range(250, 255)]
        self.assertIsNone(free())
        said["subnets"], said["ranges"] = ["2001:db8::/64"], ["static 2001:db8::ffff-2001:db8::1:0"]
        made.kinds["adapter"][0]["addresses"] = ["2001:db8::ffff/64"]
        self.assertEqual(free(), "2001:db8::1:0/64")

    def test_the_next_free_address_passes_over_gateways_and_everybody(self) -> None:
        made = Small()
        made.segment(10, subnets=["2001:db8::/126", "10.64.0.0/29"], gateways=["10.64.0.1"])
        made.host("a")
        made.guest("a", "a1", 10, addresses=["10.64.0.2/29"])
        plan = made.plan()
        self.assertEqual(next_free_address(plan, plan.get("segment", "s10")), "10.64.0.3/29")
        for n in (3, 4, 5, 6):
            made.guest("a", f"x{n}", 10, addresses=[f"10.64.0.{n}/29"])
        plan = made.plan()
        self.assertIsNone(next_free_address(plan, plan.get("segment", "s10")))

    def test_a_new_port_groups_name_and_id_are_free(self) -> None:
        made = Small()
        made.segment(10)
        made.host("a")
        made.put("port_group", "a/s/s10", switch="a/s", name="s10", mode="access", vid=99)
        plan = made.plan()
        group = new_port_group(plan, "a/s", plan.get("segment", "s10"))
        self.assertEqual((group.name, group.vid), ("s10 2", 10))
        apply_edit(plan, (Put(group),))


class CutTest(unittest.TestCase):
    def two_leaks(self) -> Small:
        """Two fabric switches with two cables between them, each with natives that differ: VID 10 and 20 meet over both."""
        made = Small()
        for vid in (10, 20):
            made.segment(vid)
        for name, native in (("x", 10), ("y", 20)):
            made.fabric(name)
            for port in ("t1", "t2"):
                made.trunk(f"{name}/{port}", "30", native)
            made.trunk(f"{name}/h", "10, 20")
            made.host(f"h{name}", f"{name}/h")
            for n in (1, 2):
                made.guest(f"h{name}", f"{name}{n}", native)
        made.cable("x/t1", "y/t1")
        made.cable("x/t2", "y/t2")
        return made

    def test_the_smallest_cut_parts_two_segments_at_every_cable(self) -> None:
        judgement = judge(self.two_leaks().plan())
        wiring = judgement.wiring
        cut = smallest_cut(Roads(wiring), wiring.place("x1"), wiring.place("y1"))
        self.assertEqual({step.link.cable for step in cut}, {"c:x/t1:y/t1", "c:x/t2:y/t2"})
        leak = next(f for f in findings(judgement) if f.what == "leak")
        mend = next(m for m in mends(judgement, leak) if m.title.startswith("Drop untagged frames at port t"))
        self.assertEqual(set(mend.preview.judgement.verdicts().values()), {"home"})

    def test_what_cannot_be_parted_has_no_cut(self) -> None:
        made = pair()
        judgement = judge(made.plan())
        wiring = judgement.wiring
        same = smallest_cut(Roads(wiring), wiring.place("a1"), wiring.place("a1"))
        self.assertEqual(same, [], "they share a switch")
        cut = smallest_cut(Roads(wiring), wiring.place("a1"), wiring.place("b1"))
        self.assertEqual(len(cut), 1, "one of the two ports on the way")
        made.kinds["fabric_port"][0]["allowed"] = "20"
        wiring = judge(made.plan()).wiring
        self.assertEqual(smallest_cut(Roads(wiring), wiring.place("a1"), wiring.place("b1")), [])

    @settings(max_examples=60)
    @given(st.integers(0, 10**9))
    def test_after_the_cut_nothing_is_heard(self, seed: int) -> None:
        """Without the links of the cut no broadcast gets from one place to the other."""
        wiring = compile_wiring(random_plan(seed, rich=True))
        roads = Roads(wiring)
        places = [p for p in all_places(wiring) if p.context >= 0 and not p.stand.vni][:8]
        for a in places:
            for b in places:
                cut = smallest_cut(roads, a, b)
                if not cut:
                    beside = a.bridge == b.bridge and a.context in b.stand.hears
                    self.assertTrue(beside or roads.way(a, b) is None, f"{a.record} is heard by {b.record}, uncut")
                    continue
                gone = {(s.link.key, s.side, s.before) for s in cut}
                seen, queue = {(a.bridge, a.context, None)}, [(a.bridge, a.context, None)]
                while queue:
                    spot = queue.pop()
                    self.assertFalse(roads.arrives(spot, b), (seed, a.record, b.record))
                    for step, following in roads.onward(spot, a.stand.order, b.bridge):
                        if (step.link.key, step.side, step.before) not in gone and following not in seen:
                            seen.add(following)
                            queue.append(following)


if __name__ == "__main__":
    unittest.main()


class TogetherTest(unittest.TestCase):
    def test_the_first_mends_of_many_are_one_edit_by_which_nobody_fares_worse(self) -> None:
        better = 0
        for seed in range(12):
            plan = random_plan(seed, rich=seed % 2 == 1)
            before = judge(plan)
            found = [f for f in everything(before) if isinstance(f, Finding)]
            heard: list[int] = []
            made = mend_all(before, [f.id for f in found], heard.append)
            self.assertEqual(heard, list(range(1, len(found) + 1)))
            after = judge(apply_edit(plan, made.edit)[0])
            one, two = before.verdicts(), after.verdicts()
            for endpoint in one.keys() & two.keys():
                self.assertLessEqual(VERDICTS.index(two[endpoint]), VERDICTS.index(one[endpoint]), (seed, endpoint))
            better += sum(one[e] != two[e] for e in one.keys() & two.keys())
            self.assertEqual(bool(made.taken), bool(made.edit))
            self.assertLessEqual(len(made.taken) + len(made.left), len(found))
        self.assertGreater(better, 10)

    def test_what_an_earlier_mend_put_right_takes_none_and_what_is_gone_is_passed_over(self) -> None:
        judgement = judge(demo_plan())
        found = [f for f in everything(judgement) if isinstance(f, Finding)]
        made = mend_all(judgement, [found[0].id, found[0].id, "none"])
        self.assertEqual(len(made.taken) + len(made.left), 1)
        whole = mend_all(judgement, [f.id for f in found])
        after = judge(apply_edit(judgement.plan, whole.edit)[0])
        self.assertGreater(after.counts()["home"], judgement.counts()["home"] + 5)

"""Bubbles: copies with their addresses that meet nobody, what of a router comes along, a way in, and all of it gone again."""

from __future__ import annotations

import random
import unittest

from aptwire.above.outcomes import ANSWERED
from aptwire.above.ping import ping
from aptwire.blueprints.bubble import bubble, rule_of
from aptwire.blueprints.bursting import burst
from aptwire.blueprints.carrying import Brought
from aptwire.forward.hearing import hears
from aptwire.judge.findings import everything
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Patch, Put, apply_edit
from aptwire.plan.kinds import Adapter, Rule
from aptwire.plan.names import endpoint_key
from aptwire.plan.plan import Plan, PlanError
from aptwire.rules.asking import asked
from aptwire.rules.worlds import worlds
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.routers import filtered_plan, leasing_plan, outward_plan, routed_plan
from tests.support import demo_plan, random_plan

ENDS = ("adapter", "guest_tag")


def added(before: Plan, after: Plan, kind: str) -> list:
    """The records of a kind that an edit has made."""
    return [r for r in after.all(kind) if r.id not in before.of(kind)]


class BubbleTest(unittest.TestCase):
    def made(self, judgement: Judgement, found: Brought) -> Judgement:
        return judge(apply_edit(judgement.plan, found.edit)[0])

    def test_ticketing_in_a_sealed_switch_with_its_firewall(self) -> None:
        before = judge(demo_plan())
        found = bubble(before, "restore test", (), ("segment-ticketing",), "petrel")
        self.assertEqual(
            found.says,
            "Make bubble restore test of edge-firewall, restore-copy and 8 more, apart even if hostile;"
            " the copy of edge-firewall tags 4094 in place of 210",
        )
        after = self.made(before, found)
        plan = after.plan
        [web] = (g for g in added(before.plan, plan, "guest") if g.name == "ticketing-web-1-restore-test")
        [own] = plan.where("adapter", "guest", web.id)
        [segment] = plan.where("segment", "name", "restore test ticketing")
        [old] = before.plan.where("adapter", "guest", "guest-ticketing-web-1")
        self.assertEqual((own.addresses, own.belongs), (old.addresses, segment.id))
        self.assertNotEqual(own.mac, old.mac)
        # Its gateway is a copy too, and leases there alone.
        answer = ping(after, own.id, "10.65.10.1")
        self.assertEqual(answer.outcome, ANSWERED)
        self.assertEqual([s.subnet for s in added(before.plan, plan, "lease_scope")], ["10.65.10.0/24"])
        self.assertEqual(added(before.plan, plan, "outside"), [])
        # The firewall's leg outside stays behind.
        [firewall] = (g for g in added(before.plan, plan, "guest") if g.name.startswith("edge-firewall"))
        self.assertEqual(len(plan.where("adapter", "guest", firewall.id)), 1)
        verdicts = after.verdicts()
        self.assertEqual({e: verdicts[e] for e in before.verdicts()}, before.verdicts())
        told = {f.title for f in everything(after)} - {f.title for f in everything(before)}
        self.assertEqual(
            told,
            {
                "1 adapter of port group restore test ticketing of petrel deviates from it",
                "ticketing-kiosk-2-restore-test has an address outside restore test ticketing",
            },
        )
        self.assertEqual(apply_edit(plan, burst(plan, "restore test").edit)[0], before.plan)

    def test_over_the_fabric_each_beside_the_one_it_is_a_copy_of(self) -> None:
        before = judge(demo_plan())
        found = bubble(before, "lab", (), ("segment-cctv",))
        after = self.made(before, found)
        hosts = {g.name: g.host for g in before.plan.all("guest")}
        for guest in added(before.plan, after.plan, "guest"):
            self.assertEqual(guest.host, hosts[guest.name.removesuffix("-lab")])
        self.assertIn("apart even if hostile", found.says)
        # Nothing stands empty where only a router's tags come in.
        for group in added(before.plan, after.plan, "port_group"):
            self.assertTrue(after.plan.where("adapter", "port_group", group.id), group.id)
        self.assertEqual(apply_edit(after.plan, burst(after.plan, "lab").edit)[0], before.plan)

    def test_somebody_gets_in_by_an_adapter_of_his_own_and_nothing_gets_out_by_it(self) -> None:
        before = judge(demo_plan())
        inside = next(g for g in before.plan.all("guest") if g.host == "petrel" and not g.routes)
        after = self.made(before, bubble(before, "lab", (), ("segment-ticketing",), "petrel", inside.id))
        [way] = (a for a in added(before.plan, after.plan, "adapter") if a.guest == inside.id)
        [db] = (a for a in added(before.plan, after.plan, "adapter") if "10.65.10.11/24" in a.addresses)
        self.assertTrue(way.addresses)
        self.assertEqual(ping(after, way.id, db.id).outcome, ANSWERED)
        self.assertEqual(asked(after).ask(rule_of("lab")).outcome, "holds")
        # Who forwards would be a way out.
        forwards = apply_edit(after.plan, (Patch("guest", inside.id, {"routes": True}),))[0]
        self.assertNotEqual(asked(judge(forwards)).ask(rule_of("lab")).outcome, "holds")
        # He stays when the bubble goes.
        self.assertEqual(apply_edit(after.plan, burst(after.plan, "lab").edit)[0], before.plan)

    def test_what_cant_be_made_says_which_field_is_wrong(self) -> None:
        judgement = judge(demo_plan())
        ticketing = ("segment-ticketing",)
        for args, field, words in (
            (("", (), ticketing, "petrel"), "name", "1 to 40 letters"),
            (("production", (), ticketing, "petrel"), "name", "have the role production already"),
            (("lab", ("nobody",), (), "petrel"), "guests", "no such guest"),
            (("lab", (), ("nothing",), "petrel"), "segments", "no such segment"),
            (("lab", (), ticketing, "nowhere"), "host", "no such host"),
            (("lab", (), (), "petrel"), "guests", "is missing"),
            (("lab", (), ("segment-storage",), "petrel"), "segments", "nobody is there"),
            (("lab", (), ticketing, "petrel", "guest-edge-firewall"), "entry", "would have a way out"),
            (("lab", (), ticketing, "petrel", "guest-ticketing-web-1"), "entry", "not where the bubble is to be"),
            (("lab", (), ticketing, "petrel", "ghost"), "entry", "no such guest"),
        ):
            with self.subTest(args=args), self.assertRaises(PlanError) as caught:
                bubble(judgement, *args)
            self.assertIn((field, True), [(p.field, words in p.message) for p in caught.exception.problems])

    def test_what_is_no_bubble_isnt_burst(self) -> None:
        plan = demo_plan()
        for name in ("", "production", "nothing"):
            with self.assertRaises(PlanError):
                burst(plan, name)

    def test_who_belongs_elsewhere_too_and_long_ranges_stay_when_it_goes(self) -> None:
        before = judge(demo_plan())
        plan = self.made(before, bubble(before, "lab", (), ("segment-ticketing",), "petrel")).plan
        group = next(g for g in added(before.plan, plan, "port_group") if g.mode == "access")
        [segment] = added(before.plan, plan, "segment")
        guest = next(g.id for g in before.plan.all("guest") if g.host == "petrel")
        tap = Adapter(id="more", guest=guest, name="more", port_group=group.id, belongs=segment.id)
        trunk = next(p for p in plan.all("fabric_port") if p.allowed)
        edit = (Put(tap), Patch("fabric_port", trunk.id, {"allowed": "1-4094"}))
        with_more = apply_edit(plan, edit)[0]
        gone = apply_edit(with_more, burst(with_more, "lab").edit)[0]
        self.assertIn(guest, gone.of("guest"))
        self.assertNotIn("more", gone.of("adapter"))
        self.assertEqual(gone.get("fabric_port", trunk.id).allowed, "1-4094")

    @settings(max_examples=60)
    @given(
        st.integers(0, 10**9), st.sampled_from([routed_plan, filtered_plan, leasing_plan, outward_plan, random_plan])
    )
    def test_of_random_plans_nobody_outside_hears_a_copy_and_all_is_as_before_when_it_is_burst(
        self, seed, make
    ) -> None:
        dice = random.Random(seed)
        before = judge(make(seed))
        plan = before.plan
        segments = [s.id for s in plan.all("segment") if dice.random() < 0.5]
        guests = [g.id for g in plan.all("guest") if dice.random() < 0.2]
        host = dice.choice([*sorted(plan.of("host")), ""])
        try:
            found = bubble(before, "lab", guests, segments, host)
        except PlanError as refused:
            fields = {p.field for p in refused.problems}
            self.assertTrue(fields <= {"guests", "segments", "host"}, refused.problems)
            return
        after = self.made(before, found)
        made = {a.id for a in added(plan, after.plan, "adapter")}
        names = {endpoint_key(after.plan, a): a.id for a in after.plan.all("adapter")}
        holds = asked(after).ask(rule_of("lab")).outcome == "holds"
        self.assertEqual(holds, "apart even if hostile" in found.says)
        if host or holds:
            # The exact search, which shares nothing with how rules are asked.
            for key, heard in hears(after.plan).items():
                own = names[key.split("|")[0]] in made
                for other in heard:
                    self.assertEqual(names[other.split("|")[0]] in made, own, f"{key} and {other}")
        if host:
            verdicts = after.verdicts()
            self.assertEqual({e: verdicts[e] for e in before.verdicts()}, before.verdicts())
        borne = sorted(a for kind in ENDS for r in added(plan, after.plan, kind) for a in r.addresses)
        kept = {a for kind in ENDS for r in plan.all(kind) for a in r.addresses}
        self.assertTrue(set(borne) <= kept)
        self.assertEqual(apply_edit(after.plan, burst(after.plan, "lab").edit)[0], plan)


class WorldsTest(unittest.TestCase):
    def test_only_who_is_kept_apart_from_everything_and_without_exception_is_in_a_world_of_his_own(self) -> None:
        plan = demo_plan()
        [overlay] = (s.id for s in plan.all("segment") if s.name == "restore bubble")
        for text, alone in (
            ("keep CCTV apart from everything", True),
            ("keep CCTV apart from everything even if hostile", True),
            ("keep CCTV apart from everything on layer 2", False),
            ("keep CCTV apart from everything except guest edge-firewall", False),
            ("keep CCTV apart from ticketing", False),
        ):
            known = worlds(apply_edit(plan, (Put(Rule(id="r", text=text)),))[0])
            self.assertEqual("segment-cctv" in known, alone, text)
            self.assertIn(overlay, known)

"""What the bench decides on paper, before any kernel: what is built, asked, expected, and how a plan is cut down."""

from __future__ import annotations

import re
import unittest

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.frames import LARGE, Frames
from aptwire.plan.checks import check_plan
from aptwire.plan.edits import apply_edit
from aptwire.plan.kinds import KINDS
from aptwire.plan.plan import Plan, PlanError
from aptwire_bench.agent import marked
from aptwire_bench.fit import fit, looping
from aptwire_bench.prove import Case, compare, job_of
from aptwire_bench.questions import Scope, Situation, after, frame_of, situations
from aptwire_bench.scene import build, known_vids, spans
from aptwire_bench.shrink import smallest, without
from aptwire_bench.trials import LEASE, PING, choose
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from tests.core.test_whole_wiring import ring, two_nics
from tests.core.test_whole_wiring import routed as over_routers
from tests.support import Small, demo_plan, pair, random_plan

SEEDS = st.integers(0, 2_000)


class SceneTest(unittest.TestCase):
    def lines(self, made: Small, host: str, tool: str) -> list[str]:
        scene = build(made.plan())
        return scene.inside[scene.space_of[host]][tool]

    def test_each_host_and_switch_has_a_namespace_and_each_cable_a_pair(self) -> None:
        scene = build(pair().plan())
        self.assertEqual(sorted(scene.space_of), ["a", "b", "ears", "sw"])
        self.assertEqual(len(scene.wires), 4, "two cables, two adapters")
        self.assertEqual(scene.cables["c:a/n0:sw/p1"], [(scene.space_of["a"], "n0"), (scene.space_of["sw"], "p1")])

    def test_an_access_port_sends_untagged_and_refuses_tags(self) -> None:
        made = pair()
        self.assertIn("vlan add dev a1 vid 10 pvid untagged", self.lines(made, "a", "bridge"))
        self.assertIn(
            "filter add dev a1 ingress pref 9 protocol 802.1Q flower action drop", self.lines(made, "a", "tc")
        )

    def test_a_trunk_keeps_to_its_list_and_its_native(self) -> None:
        made = Small()
        made.fabric("sw")
        made.trunk("sw/p1", "10-12, 20", native=30)
        made.host("a", "sw/p1")
        lines = self.lines(made, "sw", "bridge")
        self.assertEqual(
            [line for line in lines if " p1 " in line],
            ["vlan add dev p1 vid 10-12", "vlan add dev p1 vid 20", "vlan add dev p1 vid 30 pvid untagged"],
        )
        refused = "filter add dev p1 ingress pref 8 protocol 802.1Q flower vlan_id 30 action drop"
        self.assertIn(refused, self.lines(made, "sw", "tc"), "30 is no tag of its list")

    def test_a_switch_lets_through_what_it_defines(self) -> None:
        made = pair("10, 20")
        made.kinds["fabric_switch"][0]["vlans"] = "20"
        self.assertNotIn("vlan add dev p1 vid 10", " ".join(self.lines(made, "sw", "bridge")))

    def test_names_that_the_kernel_takes_stay_the_plan_s_own(self) -> None:
        made = pair()
        made.kinds["adapter"][0]["name"] = "a name that is far too long"
        scene = build(made.plan())
        devices = {wire.split()[3] for wire in scene.wires}
        self.assertIn("b1", devices)
        self.assertTrue(all(len(device) < 16 and " " not in device for device in devices), devices)

    def test_untagged_all_through_is_a_vid_that_nobody_uses(self) -> None:
        made = pair()
        made.guest("a", "plain", None, None)
        plan = made.plan()
        self.assertNotIn(4094, known_vids(plan))
        self.assertIn("vlan add dev plain vid 4094 pvid untagged", self.lines(made, "a", "bridge"))

    def test_a_nic_without_link_takes_its_team_s_way_down_too(self) -> None:
        made = pair()
        made.put("guest", "g-f", host="a", name="f")
        made.put("adapter", "f", guest="g-f", name="f", type="direct", function_of="a/n0", function_vid=10)
        down = [line for line in self.lines(made, "a", "ip") if line.endswith(" down")]
        made.kinds["nic"][0]["link"] = "down"
        self.assertEqual((len(down), len([n for n in self.lines(made, "a", "ip") if n.endswith(" down")])), (0, 2))

    def test_a_loop_over_a_lag_is_cut_at_each_of_its_cables(self) -> None:
        made = pair("10", "10")
        made.put("uplink", "a/u2", switch="a/s", name="u2", mode="hashed")
        lag = made.put("lag", "sw/lag", switch="sw", name="lag", lacp=False)
        for n in (5, 6):
            made.put("nic", f"a/n{n}", host="a", name=f"n{n}", uplink="a/u2", rank=n)
            made.cable(f"a/n{n}", made.trunk(f"sw/p{n}", "10", lag=lag))
        fitted = fit(made.plan())
        self.assertEqual(len([left for left in fitted.left if "closes a loop" in left.reason]), 2)
        kept = {cable.a for cable in fitted.plan.all("cable")}
        self.assertEqual(kept, {"a/n0", "b/n0"})

    def test_spans(self) -> None:
        self.assertEqual(spans([4, 1, 2, 3, 9]), ["1-4", "9"])
        self.assertEqual(spans([]), [])

    @settings(max_examples=30)
    @given(SEEDS)
    def test_every_random_plan_can_be_laid_out(self, seed: int) -> None:
        fitted = fit(random_plan(seed, rich=True, odd=seed % 2 > 0)).plan
        self.assertEqual(check_plan(fitted), [])
        self.assertEqual(looping(compile_wiring(fitted)), [])
        scene = build(fitted)
        made = [pair for wire in scene.wires for pair in re.findall(r"name (\S+) netns (\S+)", wire)]
        self.assertEqual(len(made), len(set(made)), "two devices of one namespace have one name")
        self.assertEqual({ear.seat for ear in scene.ears}, set(Frames(compile_wiring(fitted)).seats))


class QuestionTest(unittest.TestCase):
    def test_a_pulled_cable_is_a_nic_without_link(self) -> None:
        plan = two_nics("standby").plan()
        cable = next(c.id for c in plan.all("cable") if c.a == "a/n0")
        self.assertEqual(after(plan, Situation(pulled=(cable,))).get("nic", "a/n0").link, "down")
        rings = ring().plan()
        first = "c:x/y:y/x"
        self.assertNotIn(first, after(rings, Situation(pulled=(first,))).of("cable"))

    def test_pinned_teams_are_asked_over_each_member(self) -> None:
        plan = two_nics("pinned").plan()
        fitted = fit(plan)
        found = situations(fitted, build(fitted.plan), Scope(pulls=0))
        self.assertEqual([s.chosen for s in found], [(), ((("a/u", ""), "a/n1"),)])

    def test_a_named_cable_is_pulled_and_no_other(self) -> None:
        plan = pair().plan()
        fitted = fit(plan)
        found = situations(fitted, build(fitted.plan), Scope(cables=("c:b/n0:sw/p2",)))
        self.assertEqual([s.pulled for s in found], [(), ("c:b/n0:sw/p2",)])

    def test_frames_bear_their_number_their_tag_and_an_address(self) -> None:
        case = Case.of(pair().plan(), Scope(pulls=0))
        ears = {ear.seat: ear for ear in case.scene.ears}
        for question in case.paper:
            raw = frame_of(question, ears)
            tagged = raw[12:14] == b"\x81\x00"
            self.assertGreaterEqual(len(raw), 60)
            self.assertEqual(tagged, question.vid is not None)
            at = marked(raw)
            self.assertEqual(int.from_bytes(raw[at : at + 4], "big"), question.number)
            self.assertEqual(len(raw) > 1_500, question.frame == LARGE)

    def test_an_answer_is_held_against_each_question(self) -> None:
        case = Case.of(pair().plan(), Scope(pulls=0, trials=0))
        job = job_of([case])
        self.assertEqual(sum(len(phase["asks"]) for phase in job["phases"]), sum(1 for _ in case.paper))
        number = {ear.seat: n for n, ear in enumerate(case.scene.ears)}
        right = [[q.number, number[seat], tag] for q in case.paper for seat, tag in q.must]
        answer = {"heard": right, "times": {}, "reached": [], "leased": [], "leased6": [], "learnt": [], "passed": []}
        (report,) = compare([case], answer)
        self.assertEqual((report.differed, report.agreed), (0, report.asked))
        (report,) = compare([case], {**answer, "heard": right[1:]})
        self.assertEqual(report.differed, 1)
        self.assertEqual((len(report.differences[0].missing), len(report.differences[0].extra)), (1, 0))
        question = next(q for q in case.paper if not q.may)
        (report,) = compare([case], {**answer, "heard": [*right, [question.number, 0, 77]]})
        self.assertEqual({tag for _, tag in report.differences[0].extra}, {77})


class FitTest(unittest.TestCase):
    def test_an_overlay_whose_gateway_has_a_double_is_left_out(self) -> None:
        made = over_routers()
        self.assertEqual(fit(made.plan()).left, ())
        made.fabric("other")
        made.trunk("other/p", "10, 20")
        made.put("station", "double", name="double")
        gate = made.kinds["station_port"][0]
        made.put(
            "station_port", "double/10", station="double", port="other/p", vid=gate["vid"], addresses=gate["addresses"]
        )
        left = fit(made.plan()).left
        self.assertEqual([one.record for one in left], ["a/o", "b/o"], "the third one's gateway is another's")
        self.assertIn("several machines bear the address", left[0].reason)


class TrialTest(unittest.TestCase):
    def test_a_host_doesn_t_ping_itself(self) -> None:
        made = pair()
        for host, number in (("a", 1), ("b", 2)):
            own = {"vid": 10, "belongs": "s10", "addresses": [f"10.64.10.{number}/24"]}
            made.put("host_port", f"{host}/mgmt", switch=f"{host}/s", name="mgmt", **own)
        made.put("virtual_switch", "a/t", host="a", name="t")
        made.put("host_port", "a/own", switch="a/t", name="own", addresses=["10.64.10.3/24"])
        plan = made.plan()
        pings = {(t.source.record, t.target.record) for t in choose(plan, Frames(compile_wiring(plan)), 100, 1)}
        self.assertIn(("a/mgmt", "b/mgmt"), pings)
        self.assertNotIn(("a/mgmt", "a/own"), pings)

    def test_who_meets_pings_and_who_may_serves(self) -> None:
        made = pair()
        made.kinds["adapter"].clear()
        made.kinds["guest"].clear()
        for n, (host, vid, more) in enumerate([("a", 10, {"serve_leases": True}), ("b", 10, {}), ("a", 20, {})]):
            made.guest(host, f"x{n}", vid, None, addresses=[f"10.64.0.{n + 1}/24"], **more)
        plan = made.plan()
        found = choose(plan, Frames(compile_wiring(plan)), 60, 1)
        pings = {(t.source.record, t.target.record): t.expected for t in found if t.what == PING}
        self.assertEqual({ends for ends, expected in pings.items() if expected}, {("x0", "x1"), ("x1", "x0")})
        self.assertEqual(len(pings), 6)
        leases = [t for t in found if t.what == LEASE]
        self.assertTrue(leases)
        for lease in leases:
            self.assertEqual(lease.expected, (lease.source.record, lease.target.record) == ("x1", "x0"))


class ShrinkTest(unittest.TestCase):
    @settings(max_examples=25)
    @given(SEEDS, st.data())
    def test_a_plan_without_a_record_is_still_a_plan(self, seed: int, data: st.DataObject) -> None:
        plan = random_plan(seed, rich=True)
        kind = data.draw(st.sampled_from([k for k in KINDS if plan.of(k)]))
        id = data.draw(st.sampled_from(sorted(plan.of(kind))))
        try:
            smaller, _ = apply_edit(plan, without(plan, kind, id))
        except PlanError as error:
            # A private port needs its VLAN's segment, a team order its NIC's uplink, though neither refers to them.
            self.assertRegex(str(error), "private|group order")
            return
        self.assertNotIn(id, smaller.of(kind))
        self.assertEqual(check_plan(smaller), [])

    @settings(max_examples=10)
    @given(SEEDS)
    def test_what_is_needed_is_all_that_stays(self, seed: int) -> None:
        plan = random_plan(seed, rich=True)
        wanted = max((a.id for a in plan.all("adapter") if a.port_group), default="")
        assume(wanted)

        def differ(plans: list[Plan]) -> list[bool]:
            return [wanted in p.of("adapter") and p.get("adapter", wanted).port_group is not None for p in plans]

        small = smallest(plan, differ)
        kinds = {kind: len(small.of(kind)) for kind in KINDS if small.of(kind)}
        mode = small.get("port_group", small.get("adapter", wanted).port_group).mode
        more = {"overlay": ["host_port"], "private": [k for k in ("segment", "secondary_vlan") if small.of(k)]}
        one = ["host", "virtual_switch", "port_group", "guest", "adapter", *more.get(mode, [])]
        self.assertEqual(kinds, dict.fromkeys((k for k in KINDS if k in one), 1))

    def test_a_large_plan_is_cut_by_halves_first(self) -> None:
        plan, asked = demo_plan(), []

        def differ(plans: list[Plan]) -> list[bool]:
            asked.extend(len(p) for p in plans)
            return ["adapter-ticketing-db" in p.of("adapter") for p in plans]

        small = smallest(plan, differ)
        self.assertEqual({kind for kind in KINDS if small.of(kind)}, {"host", "guest", "adapter"})
        self.assertLess(sum(asked), 22 * len(plan), "all the plans that were built, in records")


if __name__ == "__main__":
    unittest.main()

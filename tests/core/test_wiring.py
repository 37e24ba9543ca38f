"""The compiled wiring: who carries a team in which state, where endpoints enter, what ends open; and the plan it comes from."""

from __future__ import annotations

import unittest

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.domains import Pairings, core_links, solve
from aptwire.forward.hearing import hears
from aptwire.forward.parts import NOW, MemberKey, State, TeamKey
from aptwire.forward.trace import find_place, say_state, trace
from aptwire.forward.wiring import Wiring
from aptwire.plan.edits import Drop, Patch, apply_edit
from aptwire.plan.plan import Plan
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import Small, demo_plan, pair, random_plan


def team_of(made: Small) -> tuple[Wiring, list[str]]:
    """The wiring, and the NICs of a's team in the order in which they would carry."""
    wiring = compile_wiring(made.plan())
    team = next(t for t in wiring.all_teams() if t.uplink.id == "a/u")
    return wiring, [m.nic.name for m in team.members[: team.usable]]


def teamed(**changes: dict) -> Small:
    """Host a with three NICs in one team; `changes` by NIC name."""
    made = pair()
    for n in (1, 2):
        made.trunk(f"sw/t{n}", "10")
        made.put("nic", f"a/n{n}", host="a", name=f"n{n}", uplink="a/u", rank=n)
        made.cable(f"a/n{n}", f"sw/t{n}")
    for nic in made.kinds["nic"]:
        nic.update(changes.get(nic["name"], {}) if nic["host"] == "a" else {})
    return made


class TeamTest(unittest.TestCase):
    def test_rank_then_role_then_link_decide(self) -> None:
        self.assertEqual(team_of(teamed())[1], ["n0", "n1", "n2"])
        self.assertEqual(team_of(teamed(n0={"rank": 9}))[1], ["n1", "n2", "n0"])
        self.assertEqual(team_of(teamed(n0={"role": "standby"}))[1], ["n1", "n2", "n0"])
        self.assertEqual(team_of(teamed(n1={"role": "excluded"}))[1], ["n0", "n2"])
        self.assertEqual(team_of(teamed(n0={"link": "down"}))[1], ["n1", "n2"])

    def test_the_one_seen_carrying_comes_first_while_it_can(self) -> None:
        made = teamed()
        made.kinds["uplink"][0]["carries"] = "a/n2"
        self.assertEqual(team_of(made)[1], ["n2", "n0", "n1"])
        made.kinds["nic"][-1]["link"] = "down"
        self.assertEqual(team_of(made)[1], ["n0", "n1"])

    def test_states_choose_and_lose_members(self) -> None:
        wiring, _ = team_of(teamed())
        team = next(wiring.all_teams())

        def carrier(state: State) -> str | None:
            member = wiring.carries(team, state)
            return member.nic.name if member else None

        self.assertEqual(carrier(NOW), "n0")
        self.assertEqual(carrier(State({TeamKey("a/u"): MemberKey("a/n2")})), "n2")
        self.assertEqual(carrier(State(lost=frozenset(["a/n0"]))), "n1")
        self.assertIsNone(carrier(State(lost=frozenset(["a/n0", "a/n1", "a/n2"]))))
        self.assertEqual(say_state(wiring, NOW), "now")
        self.assertEqual(say_state(wiring, State({TeamKey("a/u"): MemberKey("a/n2")})), "when n0 of a fails")
        self.assertEqual(say_state(wiring, State(lost=frozenset(["a/n1"]))), "with n1 of a lost")

    def test_losing_every_member_leaves_the_host_to_itself(self) -> None:
        made = pair()
        made.guest("a", "a2", 10)
        plan = made.plan()
        self.assertEqual(hears(plan)["a/a1|"], ["a/a2|", "b/b1|"])
        self.assertEqual(hears(plan, "a/n0")["a/a1|"], ["a/a2|"])

    def test_a_trace_in_a_state_goes_over_its_member(self) -> None:
        wiring, _ = team_of(teamed())
        a, b = find_place(wiring, "a/a1"), find_place(wiring, "b/b1")
        self.assertIn("n0 of a, uplink u (carries)", [h.where for h in trace(wiring, a, b).hops])
        after = trace(wiring, a, b, State({TeamKey("a/u"): MemberKey("a/n1")}))
        self.assertIn("n1 of a, uplink u (after failover)", [h.where for h in after.hops])
        lost = trace(wiring, a, b, State(lost=frozenset(["a/n0", "a/n1", "a/n2"])))
        self.assertEqual(lost.hops[1].reason, "no NIC of uplink u of a can carry: n0 is lost; n1 is lost; n2 is lost")


class CoreTest(unittest.TestCase):
    def test_hosts_with_one_uplink_are_not_crossed(self) -> None:
        wiring = compile_wiring(demo_plan())
        self.assertEqual(wiring.crossing_count, 5, "four switches, and the NIC whose virtual function is in use")
        joined = {frozenset(wiring.bridges[end].id for end in link.ends) for link in core_links(wiring)}
        wanted = [{"quay-a", "quay-b"}, {"quay-b", "buoy-bridge"}, {"quay-a", "marsh-a"}, {"quay-a", "gannet/nic0"}]
        self.assertEqual(joined, set(map(frozenset, wanted)), "the second cable between the terminals is blocked")

    def test_open_ends_mark_the_domains_that_lead_to_them(self) -> None:
        wiring = compile_wiring(demo_plan())
        domains = solve(wiring, Pairings())
        count = wiring.classes.count

        def component(bridge: str, vid: int) -> int:
            return int(domains.component[wiring.bridge_of[bridge].crossing_row * count + wiring.classes.of[vid]])

        self.assertIn(component("marsh-a", 300), domains.open, "p20 of marsh-a is free")
        self.assertNotIn(component("marsh-a", 210), domains.open)
        self.assertEqual(component("quay-a", 210), component("marsh-a", 210))
        self.assertNotEqual(component("quay-a", 240), component("marsh-a", 240))

    @settings(max_examples=60)
    @given(st.integers(0, 10**9))
    def test_taking_a_cable_away_lets_nobody_hear_more(self, seed: int) -> None:
        plan = random_plan(seed)
        before = hears(plan)
        for id in list(plan.of("cable"))[:4]:
            cable = plan.get("cable", id)
            # A standby team may find a better member when its first loses its link; a missing cable is no lost link.
            if any(end in plan.of("nic") for end in (cable.a, cable.b)):
                continue
            less, _ = apply_edit(plan, (Drop("cable", id),))
            for sender, heard in hears(less).items():
                self.assertLessEqual(set(heard), set(before[sender]))

    @settings(max_examples=60)
    @given(st.integers(0, 10**9))
    def test_nobody_hears_itself_and_names_are_endpoints(self, seed: int) -> None:
        found = hears(random_plan(seed))
        for sender, heard in found.items():
            own = sender.split("|")[0]
            self.assertFalse([r for r in heard if r.split("|")[0] == own])
            self.assertEqual(heard, sorted(set(heard)))
            self.assertTrue(all(r in found for r in heard), "who hears a tag can also send it")


class PlanTest(unittest.TestCase):
    def test_indexes_follow_the_plan_not_its_ancestor(self) -> None:
        plan = demo_plan()
        self.assertEqual(len(plan.where("nic", "host", "petrel")), 4)
        after, _ = apply_edit(plan, (Drop("nic", "petrel/nic3"),))
        self.assertEqual(len(after.where("nic", "host", "petrel")), 3)
        self.assertEqual(len(plan.where("nic", "host", "petrel")), 4)
        self.assertEqual(plan.where("nic", "host", "nobody"), [])

    def test_an_edit_shares_what_it_leaves_alone(self) -> None:
        plan = demo_plan()
        after, _ = apply_edit(plan, (Patch("segment", "segment-edge", {"role": "rim"}),))
        self.assertIs(after.of("adapter"), plan.of("adapter"))
        self.assertIsNot(after.of("segment"), plan.of("segment"))

    def test_referrers_are_found_over_every_kind(self) -> None:
        plan = demo_plan()
        found = {(r.kind, name) for r, name in plan.referrers("segment", "segment-ticketing")}
        self.assertEqual(found, {("adapter", "belongs"), ("guest_tag", "belongs"), ("flow", "of")})
        ends = {r.id for r, _ in plan.referrers("fabric_port", "quay-a/x49")}
        self.assertEqual(ends, {"cable-terminals"})

    def test_plans_of_another_name_or_record_differ(self) -> None:
        plan = demo_plan()
        self.assertEqual(plan, demo_plan())
        self.assertNotEqual(plan, Plan("other"))
        self.assertEqual(len(list(plan)), len(plan))


if __name__ == "__main__":
    unittest.main()

"""Pings: on link, over routers by longest prefix, there and back, in every state; and what a plan leaves open."""

from __future__ import annotations

import ipaddress
import unittest

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import Ping, end_of, ping
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Patch, apply_edit
from aptwire.plan.plan import PlanError
from aptwire.plan.stacks import CONNECTED, owner_of, stack_of
from aptwire.rules.answer import BROKEN, HOLDS
from aptwire.rules.asking import asked as rules_of

from tests.routers import routed_plan
from tests.support import Small, demo_plan, pair


def two_segments(**router: object) -> Small:
    """Guests a1 on 10 and b1 on 20, and a guest r on host a with an interface in each, whose addresses are the gateways."""
    made = Small()
    for vid in (10, 20):
        made.segment(vid, subnets=[f"10.0.{vid}.0/24"], gateways=[f"10.0.{vid}.1"])
    made.fabric("sw")
    made.host("a", made.trunk("sw/p1", "10, 20, 30"))
    made.host("b", made.trunk("sw/p2", "10, 20, 30"))
    made.guest("a", "a1", 10, addresses=["10.0.10.11/24"])
    made.guest("b", "b1", 20, addresses=["10.0.20.11/24"])
    made.put("guest", "r", host="a", name="r", **{"routes": True, **router})
    for vid in (10, 20):
        group = made.put("port_group", f"a/r{vid}", switch="a/s", name=f"r{vid}", mode="access", vid=vid)
        made.put(
            "adapter",
            f"r{vid}",
            guest="r",
            name=f"r{vid}",
            port_group=group,
            belongs=f"s{vid}",
            addresses=[f"10.0.{vid}.1/24"],
        )
    return made


def another_router(made: Small) -> None:
    """Have r's interface on 20 be another router's, q's, and a segment of their own between the two, 30; neither has a route."""
    made.segment(30, subnets=["10.0.30.0/24"])
    made.put("guest", "q", host="b", name="q", routes=True)
    for owner, host, n in (("r", "a", 1), ("q", "b", 2)):
        group = made.put("port_group", f"{host}/t30", switch=f"{host}/s", name="t30", mode="access", vid=30)
        made.put("adapter", f"{owner}30", guest=owner, name=f"{owner}30", port_group=group, belongs="s30")
        made.kinds["adapter"][-1]["addresses"] = [f"10.0.30.{n}/24"]
    next(a for a in made.kinds["adapter"] if a["id"] == "r20").update(guest="q", port_group="b/g20")


def asked(made: Small, a: str = "a1", b: str = "b1") -> Ping:
    plan = made.plan()
    return ping(judge(plan), end_of(plan, a), end_of(plan, b))


class ForOthersTest(unittest.TestCase):
    """Proxy ARP (RFC 1027): a1 and b1 take both segments for one subnet."""

    def wide(self, proxies: tuple[str, ...] = ("r10", "r20"), **router: object) -> Small:
        made = two_segments(**router)
        for adapter in made.kinds["adapter"]:
            if adapter["id"] in ("a1", "b1"):
                adapter["addresses"] = [adapter["addresses"][0].replace("/24", "/16")]
            if adapter["id"] in proxies:
                adapter["proxy_arp"] = True
        return made

    def test_who_forwards_answers_for_what_it_sends_on_elsewhere(self) -> None:
        found = asked(self.wide())
        self.assertEqual(found.outcome, ANSWERED, found.sentence)
        self.assertEqual([[leg.to for leg in way.legs] for way in found.ways], [["r10", "b1"], ["r20", "a1"]])
        self.assertIn("r10 of r answers for it", found.ways[0].legs[0].by)
        self.assertEqual(asked(self.wide(())).outcome, SILENT)
        self.assertEqual(asked(self.wide(routes=False)).outcome, SILENT)
        # The question gets there, and nobody answers for whoever asked.
        self.assertIn("its answer doesn’t", asked(self.wide(("r10",))).sentence)

    def test_what_is_on_its_own_link_or_of_ipv6_it_does_not_answer_for(self) -> None:
        made = self.wide()
        made.guest("b", "a2", 10, addresses=["10.0.10.12/24"])
        found = asked(made, "a1", "a2")
        self.assertEqual((found.outcome, len(found.ways[0].legs)), (ANSWERED, 1))
        self.assertEqual(asked(made, "a1", "10.0.10.77").outcome, SILENT)
        for adapter in made.kinds["adapter"]:
            _, _, vid, last = adapter["addresses"][0].partition("/")[0].split(".")
            length = 32 if adapter["id"] in ("a1", "b1") else 64
            adapter["addresses"] = [f"2001:db8:{vid}::{last}/{length}"]
        self.assertEqual(asked(made).outcome, SILENT)

    def test_where_another_one_may_answer_nobody_knows_who_is_taken(self) -> None:
        made = self.wide()
        # Somebody else on a1's link has b1's address.
        made.guest("b", "twin", 10, addresses=["10.0.20.11/24"])
        found = asked(made)
        self.assertEqual(found.outcome, UNPROVEN)
        self.assertIn("both answer for 10.0.20.11", found.sentence)
        made = self.wide()
        made.put("guest", "q", host="b", name="q", routes=True)
        for vid in (10, 20):
            made.guest("b", f"q{vid}", vid, addresses=[f"10.0.{vid}.2/24"], proxy_arp=True)
            made.kinds["adapter"][-1]["guest"] = "q"
        self.assertIn("others may answer", asked(made).sentence)
        made.kinds["guest"] = [g | ({"running": False} if g["id"] == "q" else {}) for g in made.kinds["guest"]]
        self.assertEqual(asked(made).outcome, ANSWERED)

    def test_a_default_way_has_it_answer_for_everything_else_and_rules_see_it(self) -> None:
        made = self.wide()
        made.put("route", "out", of="r", to=["0.0.0.0/0"], via="10.0.20.11")
        leg = asked(made, "a1", "10.0.99.9").ways[0].legs[0]
        self.assertEqual((leg.to, leg.outcome), ("r10", ANSWERED))
        apart = "keep segment s10 apart from segment s20"
        for proxies, outcome in ((("r10", "r20"), BROKEN), ((), HOLDS)):
            made = self.wide(proxies)
            for segment in made.kinds["segment"]:
                segment["gateways"] = []
            self.assertEqual(rules_of(judge(made.plan())).ask(apart).outcome, outcome, proxies)


class OnLinkTest(unittest.TestCase):
    def on_link(self, one: str, two: str) -> Ping:
        made = pair()
        for adapter, address in zip(made.kinds["adapter"], (one, two), strict=True):
            adapter["addresses"] = [address]
        return asked(made)

    def test_whoever_is_in_the_subnet_is_asked_straight(self) -> None:
        """RFC 1122 section 3.3.1.1; RFC 4861 section 5.2 says the same of prefixes that are on link."""
        for one, two in (("10.0.0.1/24", "10.0.0.2/24"), ("2001:db8::1/64", "2001:db8::2/64")):
            found = self.on_link(one, two)
            self.assertEqual((found.outcome, [leg.by for leg in found.ways[0].legs]), (ANSWERED, ["on link"]))

    def test_a_narrower_prefix_at_one_end_loses_the_answer(self) -> None:
        found = self.on_link("10.0.0.1/24", "10.0.0.200/25")
        self.assertEqual(found.outcome, SILENT)
        self.assertIn("its answer doesn’t", found.sentence)

    def test_both_ends_of_a_subnet_of_two_are_hosts(self) -> None:
        """RFC 3021 for IPv4, RFC 6164 for IPv6."""
        for one, two in (("10.0.0.0/31", "10.0.0.1/31"), ("2001:db8::/127", "2001:db8::1/127")):
            self.assertEqual(self.on_link(one, two).outcome, ANSWERED)

    def test_other_subnets_need_a_router(self) -> None:
        found = self.on_link("10.0.0.1/24", "10.0.1.1/24")
        self.assertEqual(found.outcome, SILENT)
        self.assertIn("another subnet", found.sentence)

    def test_what_a_plan_does_not_say_is_not_taken_as_reached(self) -> None:
        made = pair()
        self.assertEqual(asked(made).outcome, UNPROVEN)
        made.kinds["adapter"][0]["addresses"] = ["10.0.0.1/24"]
        made.kinds["adapter"][1]["addresses"] = ["2001:db8::1/64"]
        self.assertIn("no IPv6 address", asked(made).sentence)
        made.kinds["adapter"][1]["addresses"] = ["10.0.9.1/24"]
        del made.kinds["adapter"][0]["belongs"]
        self.assertEqual(asked(made).outcome, UNPROVEN)

    def test_two_who_have_one_address_leave_open_who_answers(self) -> None:
        made = pair()
        made.guest("b", "b2", 10, addresses=["10.0.0.2/24"])
        for adapter, address in zip(made.kinds["adapter"], ("10.0.0.1/24", "10.0.0.2/24"), strict=False):
            adapter["addresses"] = [address]
        found = asked(made)
        self.assertEqual(found.outcome, UNPROVEN)
        self.assertIn("both answer for 10.0.0.2", found.sentence)
        # One of them is off: then it is the other one that answers, whoever was meant.
        made.kinds["guest"][1]["running"] = False
        found = asked(made)
        self.assertEqual(found.outcome, SILENT)
        self.assertIn("answers in its place", found.sentence)

    def test_what_is_off_does_not_answer_and_open_ends_are_not_known(self) -> None:
        made = pair("10", "20")
        for adapter, address in zip(made.kinds["adapter"], ("10.0.0.1/24", "10.0.0.2/24"), strict=True):
            adapter["addresses"] = [address]
        self.assertEqual(asked(made).outcome, SILENT)
        made.kinds["cable"].pop()
        self.assertEqual(asked(made).outcome, UNPROVEN)
        made.kinds["guest"][1]["running"] = False
        self.assertIn("guest is off", asked(made).sentence)


class RoutersTest(unittest.TestCase):
    def test_over_a_router_there_and_back(self) -> None:
        found = asked(two_segments())
        self.assertEqual(found.outcome, ANSWERED)
        self.assertEqual([[leg.to for leg in way.legs] for way in found.ways], [["r10", "b1"], ["r20", "a1"]])

    def test_whoever_does_not_forward_is_no_router(self) -> None:
        self.assertIn("doesn’t forward", asked(two_segments(routes=False)).sentence)
        self.assertIn("guest is off", asked(two_segments(running=False)).sentence)

    def test_the_longest_prefix_wins(self) -> None:
        """RFC 1812 section 5.2.4.3, rule 2; among routes alike the plan doesn't say which is taken."""
        made = two_segments()
        made.put("station", "far", name="far")
        made.put(
            "station_port",
            "far/p",
            station="far",
            port=made.access("sw/p3", 20),
            belongs="s20",
            addresses=["10.9.1.1/24", "10.0.20.9/24"],
        )
        made.put("route", "wide", of="r", to=["10.9.0.0/16"], via="10.0.20.8")
        made.put("route", "narrow", of="r", to=["10.9.1.0/24"], via="10.0.20.9")
        plan = made.plan()
        stack = stack_of(plan, plan.get("guest", "r"))
        self.assertEqual([line.record for line in stack.choices(ipaddress.ip_address("10.9.1.1"))], ["narrow"])
        self.assertEqual([line.record for line in stack.choices(ipaddress.ip_address("10.9.2.1"))], ["wide"])
        self.assertEqual([line.how for line in stack.choices(ipaddress.ip_address("10.0.10.200"))], [CONNECTED])
        self.assertEqual(stack.choices(ipaddress.ip_address("192.0.2.1")), [])
        self.assertEqual(asked(made, "a1", "10.9.1.1").outcome, ANSWERED)
        self.assertEqual(asked(made, "a1", "10.9.2.1").outcome, UNPROVEN, "nobody in the plan has the next hop")
        made.put("route", "other", of="r", to=["10.9.1.0/24"], via="10.0.20.11")
        found = asked(made, "a1", "10.9.1.1")
        self.assertEqual(found.outcome, UNPROVEN)
        self.assertIn("which of several ways", found.sentence)

    def test_a_next_hop_outside_all_its_subnets_is_none(self) -> None:
        made = two_segments()
        made.kinds["segment"][0]["gateways"] = []
        made.put("route", "lost", of="guest-a1", to=["0.0.0.0/0"], via="10.7.7.7")
        self.assertIn("next hop 10.7.7.7 of its route is in none of its subnets", asked(made).sentence)

    def test_routes_in_a_circle_end(self) -> None:
        made = two_segments()
        made.put("route", "r-out", of="r", to=["0.0.0.0/0"], via="10.0.20.11")
        made.kinds["guest"][1]["routes"] = True
        found = asked(made, "a1", "192.0.2.1")
        self.assertEqual(found.outcome, SILENT)
        self.assertIn("goes in a circle", found.sentence)

    def test_an_answer_that_finds_no_way_back(self) -> None:
        made = two_segments()
        made.kinds["segment"][1]["gateways"] = []
        found = asked(made)
        self.assertEqual((found.outcome, len(found.ways)), (SILENT, 2))
        self.assertIn("the question arrives, but its answer doesn’t", found.sentence)

    def test_a_router_whose_other_interface_is_meant_answers_for_it(self) -> None:
        found = asked(two_segments(), "a1", "10.0.20.1")
        self.assertEqual((found.outcome, len(found.ways[0].legs)), (ANSWERED, 1))

    def test_a_failover_that_cuts_the_way_off_is_told(self) -> None:
        made = two_segments()
        made.put("nic", "b/n1", host="b", name="n1", uplink="b/u", rank=1)
        made.cable("b/n1", made.trunk("sw/p4", "10"))
        found = asked(made)
        self.assertEqual((found.outcome, [o for _, o, _ in found.elsewhere]), (WAVERS, [SILENT]))
        self.assertIn("when n0 of b fails", found.sentence)
        # Where nobody says who carries, today may be either.
        made.kinds["uplink"][1]["mode"] = "pinned"
        found = asked(made)
        self.assertEqual(found.outcome, WAVERS)
        self.assertIn("over n1 of b", found.sentence)


class EndsTest(unittest.TestCase):
    def test_people_name_guests_hosts_stations_endpoints_tags_and_addresses(self) -> None:
        plan = demo_plan()
        self.assertEqual(end_of(plan, "ticketing-web-1"), "guest-ticketing-web-1")
        self.assertEqual(end_of(plan, " gannet "), "gannet")
        self.assertEqual(end_of(plan, "quay-router"), "quay-router")
        self.assertEqual(end_of(plan, "gannet/mgmt"), "gannet/guests0/mgmt")
        self.assertEqual(end_of(plan, "gannet/tap-fw-in|210"), "tag-edge-firewall-210")
        self.assertEqual(end_of(plan, "2001:DB8::0:1"), "2001:db8::1")
        for wrong in ("nobody", "gannet/nothing", "gannet/tap-fw-in|999", "10.0.0", ""):
            with self.assertRaises(PlanError):
                end_of(plan, wrong)

    def test_a_segment_has_no_stack(self) -> None:
        made = pair()
        plan = made.plan()
        for a, b in (("s10", "b1"), ("a1", "s10")):
            with self.assertRaises(PlanError):
                ping(judge(plan), a, b)


class RandomPlansTest(unittest.TestCase):
    def test_what_is_said_holds_together(self) -> None:
        """On random plans with routers: what is answered went over links whose ends meet, every hop but the last to somebody who forwards; and whoever stops
        forwarding ends what went over it."""
        answered = 0
        for seed in range(60):
            plan = routed_plan(seed)
            judgement = judge(plan)
            ends = sorted(plan.of("guest"))[:5]
            for a in ends:
                for b in ends:
                    found = ping(judgement, a, b)
                    if a == b or found.outcome != ANSWERED:
                        continue
                    answered += 1
                    self.assertEqual(found.elsewhere, ())
                    passed = [leg.to for way in found.ways for leg in way.legs[:-1]]
                    for way, target in zip(found.ways, (b, a), strict=True):
                        self.assertEqual(owner_of(plan, plan.find(str(way.legs[-1].to))).id, target)
                        self.assertTrue(all(leg.trace and leg.trace.delivered for leg in way.legs))
                    for router in {owner_of(plan, plan.find(str(record))) for record in passed}:
                        self.assertTrue(router.routes)
                        shut, _ = apply_edit(plan, (Patch(router.kind, router.id, {"routes": False}),))
                        self.assertNotEqual(ping(judge(shut), a, b).outcome, ANSWERED)
        self.assertGreater(answered, 150)


if __name__ == "__main__":
    unittest.main()

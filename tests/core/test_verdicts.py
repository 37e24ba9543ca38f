"""One smallest plan for each verdict and each cause: the verdict, the sentence, where the fault sits, and the best mend."""

from __future__ import annotations

import unittest

from aptwire.forward.strand import strand
from aptwire.judge.findings import Finding, findings, proof
from aptwire.judge.judgement import Judgement
from aptwire.judge.mends import mends
from aptwire.judge.verdicts import judge
from aptwire.report import landings

from tests.support import JudgedCase, Small, pair, random_plan


class SmallPlans(JudgedCase):
    def said(self, judgement: Judgement, title: str, text: str, mend: str | None = None) -> Finding:
        finding = self.only(judgement)
        self.assertEqual((finding.title, finding.text), (title, text))
        if mend is not None:
            self.assertEqual(mends(judgement, finding)[0].title, mend)
        return finding


class HomeTest(SmallPlans):
    def test_two_guests_on_one_switch_of_the_fabric(self) -> None:
        judgement = self.judged(pair(), a1="home", b1="home")
        self.assertEqual(findings(judgement), [])

    def test_a_sealed_switch_is_as_good_as_a_wired_one(self) -> None:
        made = Small()
        made.segment(None)
        made.host("a")
        made.guest("a", "a1", None)
        made.guest("a", "a2", None)
        self.judged(made, a1="home", a2="home")

    def test_a_lone_guest_is_home_when_its_tag_gets_into_the_fabric(self) -> None:
        made = Small()
        made.segment(10)
        made.fabric("sw")
        made.trunk("sw/p1", "10")
        made.host("a", "sw/p1")
        made.guest("a", "a1", 10)
        self.judged(made, a1="home")

    def test_untagged_frames_on_an_access_port_land_on_its_vid(self) -> None:
        made = Small()
        made.segment(10)
        made.fabric("sw")
        made.access("sw/p1", 10)
        made.access("sw/p2", 10)
        made.host("a", "sw/p1")
        made.host("b", "sw/p2")
        made.guest("a", "a1", None, "s10")
        made.guest("b", "b1", None, "s10")
        self.judged(made, a1="home", b1="home")

    def test_two_hosts_joined_by_a_bare_cable(self) -> None:
        made = Small()
        made.segment(10)
        made.host("a", None)
        made.host("b", None)
        made.cable("a/n0", "b/n0")
        made.guest("a", "a1", 10)
        made.guest("b", "b1", 10)
        self.judged(made, a1="home", b1="home")

    def test_an_unmanaged_switch_passes_every_tag(self) -> None:
        made = pair()
        made.kinds["fabric_switch"][0]["managed"] = False
        made.kinds["fabric_port"][0]["allowed"] = "99"
        self.judged(made, a1="home", b1="home")

    def test_untagged_frames_land_on_what_the_port_behind_an_unmanaged_switch_makes_of_them(self) -> None:
        made = pair()
        made.fabric("hub", managed=False)
        made.access("hub/p1", 1)
        made.access("hub/p2", 1)
        made.access("sw/p9", 10)
        made.cable("hub/p2", "sw/p9")
        made.host("c", "hub/p1")
        made.guest("c", "c1", None, "s10")
        judgement = self.judged(made, a1="home", c1="home")
        drawn = strand(judgement.wiring, judgement.plan.get("segment", "s10"))
        self.assertEqual({p.state for p in drawn if p.start.startswith(("c", "hub"))}, {"carries"})
        made.kinds["fabric_port"][-1]["vid"] = 20
        made.segment(20)
        judgement = self.judged(made, a1="home", c1="astray")
        self.assertIn("lands on s20", findings(judgement)[0].title)

    def test_only_the_gateway_has_to_be_reached(self) -> None:
        """A peer that is cut off is the one to mend; the others don't share its verdict."""
        made = pair()
        made.kinds["segment"][0]["gateways"] = ["10.64.0.1"]
        made.guest("a", "gate", 10, addresses=["10.64.0.1/24"])
        made.trunk("sw/p3", "20")
        made.host("c", "sw/p3")
        made.guest("c", "c1", 10)
        self.judged(made, a1="home", b1="home", gate="home", c1="stranded")


class StrandedTest(SmallPlans):
    def test_where_no_group_is_the_segment_that_is_said(self) -> None:
        for seed, odd, says in (
            (100295, False, "Between it and guest 2 1 frames pass both ways; but of those on segment 40 too few"),
            (500232, True, "Between it and station 0 frames pass both ways"),
            (500281, True, "Between it and station 0 frames pass both ways"),
            (100138, False, "Its frames pass both ways; but of those on over too few hear each other"),
        ):
            found = findings(judge(random_plan(seed, True, odd)))
            self.assertTrue(all(f.text for f in found), seed)
            self.assertTrue(any(f.text.startswith(says) for f in found), seed)

    def test_a_tag_missing_on_the_fabric_port(self) -> None:
        judgement = self.judged(pair("20"), a1="stranded", b1="stranded")
        self.said(
            judgement,
            "a1 and b1 are cut off from each other",
            "Port p1 of sw allows 20; 10 is missing.",
            "Allow 10 on port p1 of sw",
        )

    def test_a_tag_missing_on_the_uplink(self) -> None:
        made = pair()
        made.kinds["uplink"][0]["allowed"] = "0, 20"
        made.guest("b", "b2", 10)
        judgement = self.judged(made, a1="stranded", b1="home", b2="home")
        self.said(
            judgement,
            "a1 is cut off from its peers on s10",
            "Uplink u of a allows untagged, 20; 10 is missing.",
            "Allow 10 on uplink u of a",
        )

    def test_a_vid_that_the_switch_does_not_define(self) -> None:
        made = pair()
        made.kinds["fabric_switch"][0]["vlans"] = "20"
        judgement = self.judged(made, a1="stranded", b1="stranded")
        self.said(
            judgement, "a1 and b1 are cut off from each other", "Sw doesn't define VID 10.", "Define VID 10 on sw"
        )

    def test_a_lone_guest_whose_tag_leaves_the_host_nowhere(self) -> None:
        made = Small()
        made.segment(10)
        made.fabric("sw")
        made.trunk("sw/p1", "20")
        made.host("a", "sw/p1")
        made.guest("a", "a1", 10)
        judgement = self.judged(made, a1="stranded")
        self.said(
            judgement,
            "a1 is cut off from the rest of s10",
            "Port p1 of sw allows 20; 10 is missing.",
            "Allow 10 on port p1 of sw",
        )

    def test_an_access_port_where_a_trunk_is_needed(self) -> None:
        made = pair()
        made.kinds["fabric_port"][0] = {"id": "sw/p1", "switch": "sw", "name": "p1", "mode": "access", "vid": 20}
        judgement = self.judged(made, a1="stranded", b1="stranded")
        finding = self.said(
            judgement,
            "a1 and b1 are cut off from each other",
            "Port p1 of sw is an access port on 20: frames tagged 10 are dropped.",
            "Make port p1 of sw a trunk for 10, native 20",
        )
        self.assertEqual(finding.culprit[0], "sw/p1")

    def test_a_disabled_port_and_a_nic_without_link(self) -> None:
        for change, part in (
            (lambda k: k["fabric_port"][0].update(enabled=False), "n0 is plugged into port p1, which is disabled"),
            (lambda k: k["nic"][0].update(link="down"), "n0 has no link"),
            (lambda k: k["nic"][0].update(role="excluded"), "n0 is excluded"),
        ):
            made = pair()
            change(made.kinds)
            judgement = self.judged(made, a1="stranded", b1="stranded")
            self.assertIn(part, self.only(judgement).text)

    def test_a_switch_without_uplink(self) -> None:
        made = pair()
        made.host("c")
        made.guest("c", "c1", 10)
        judgement = self.judged(made, a1="home", b1="home", c1="stranded")
        self.assertEqual(self.only(judgement).text, "S of c has no uplink.")

    def test_a_break_between_two_fabric_switches_breaks_once_for_all_beyond_it(self) -> None:
        made = Small()
        made.segment(10, gateways=["10.64.0.1"])
        made.fabric("left")
        made.fabric("right")
        made.trunk("left/x", "10, 20")
        made.trunk("right/x", "20")
        made.cable("left/x", "right/x")
        made.trunk("left/p", "10")
        made.trunk("right/p", "10")
        made.trunk("right/q", "10")
        made.host("a", "left/p")
        made.host("b", "right/p")
        made.host("c", "right/q")
        made.guest("a", "gate", 10, addresses=["10.64.0.1/24"])
        for host in "bc":
            made.guest(host, f"{host}1", 10)
        judgement = self.judged(made, gate="home", b1="stranded", c1="stranded")
        finding = self.said(
            judgement,
            "b1 and c1 are cut off from the gateway gate",
            "Port x of right allows 20; 10 is missing.",
            "Allow 10 on port x of right",
        )
        self.assertEqual(finding.endpoints, ("b1", "c1"))

    def test_no_cable_between_two_parts_of_the_fabric(self) -> None:
        made = Small()
        made.segment(10)
        for side, host in (("left", "a"), ("right", "b")):
            made.fabric(side)
            made.trunk(f"{side}/p", "10")
            made.host(host, f"{side}/p")
            made.guest(host, f"{host}1", 10)
        judgement = self.judged(made, a1="stranded", b1="stranded")
        self.assertEqual(self.only(judgement).text, "No cable joins the two parts of the fabric.")

    def test_an_address_of_another_subnet(self) -> None:
        made = pair()
        made.kinds["segment"][0]["subnets"] = ["10.64.10.0/24", "2001:db8:10::/64"]
        made.kinds["adapter"][0]["addresses"] = ["10.64.20.5/24", "2001:db8:10::5/64"]
        judgement = self.judged(made, a1="stranded", b1="home")
        finding = self.only(judgement)
        self.assertIn("10.64.20.5", finding.text)
        mend = mends(judgement, finding)[0]
        self.assertEqual(mend.title, "Give a1 10.64.10.1, the next free address of s10")
        self.assertEqual(mend.edit[0].changes["addresses"], ["2001:db8:10::5/64", "10.64.10.1/24"])

    def test_a_guest_that_tags_with_the_native_vid_hears_nobody(self) -> None:
        made = pair()
        made.put("port_group", "a/t", switch="a/s", name="t", mode="trunk", allowed="10, 20", native=10)
        made.put("guest", "guest-r", host="a", name="r")
        made.put("adapter", "r", guest="guest-r", name="r", port_group="a/t")
        made.put("guest_tag", "r/10", adapter="r", vid=10, belongs="s10")
        judgement = self.judged(made, a1="home", b1="home", r="stranded")
        finding = self.only(judgement)
        self.assertEqual([t.delivered for t in proof(judgement, finding)], [True, False])
        self.assertEqual(mends(judgement, finding)[0].title, "Send 10 tagged at port group t of a")


class WaveringTest(SmallPlans):
    def team(self, second: str, mode: str = "standby") -> Small:
        made = Small()
        made.segment(10)
        made.fabric("sw")
        made.trunk("sw/p1", "10")
        made.trunk("sw/p2", second)
        made.trunk("sw/p3", "10")
        made.host("a", "sw/p1", "sw/p2", uplink={"mode": mode})
        made.host("b", "sw/p3")
        made.guest("a", "a1", 10)
        made.guest("b", "b1", 10)
        made.guest("b", "b2", 10)
        return made

    def test_the_second_member_lacks_the_tag(self) -> None:
        judgement = self.judged(self.team("20"), a1="wavering", b1="home", b2="home")
        self.said(
            judgement,
            "a1 loses its peers on s10 when n0 of a fails",
            "Port p2 of sw allows 20; 10 is missing.",
            "Allow 10 on port p2 of sw",
        )

    def test_a_team_that_does_not_return_stays_where_it_went(self) -> None:
        made = self.team("20")
        made.kinds["uplink"][0]["fail_back"] = False
        self.said(
            self.judged(made, a1="wavering"),
            "a1 loses its peers on s10 after n0 of a has failed, even once it is back",
            "Port p2 of sw allows 20; 10 is missing.",
            "Allow 10 on port p2 of sw",
        )

    def test_both_members_carry_it(self) -> None:
        self.judged(self.team("10, 20"), a1="home", b1="home")

    def test_pinned_and_hashed_teams_may_use_either_member_today(self) -> None:
        for mode in ("pinned", "hashed", "lacp"):
            judgement = self.judged(self.team("20", mode), a1="wavering")
            self.assertEqual(self.only(judgement).title, "a1 loses its peers on s10 over n1 of a")

    def test_the_member_seen_carrying_counts_as_todays(self) -> None:
        made = self.team("20")
        made.kinds["uplink"][0]["carries"] = "a/n1"
        judgement = self.judged(made, a1="wavering")
        self.assertEqual(self.only(judgement).title, "a1 is cut off from its peers on s10 until another NIC carries")

    def test_standby_roles_come_after_active_ones(self) -> None:
        made = self.team("20")
        made.kinds["nic"][0]["role"] = "standby"
        judgement = self.judged(made, a1="wavering")
        self.assertIn("until another NIC carries", self.only(judgement).title)

    def test_a_member_without_link_is_no_way(self) -> None:
        made = self.team("20")
        made.kinds["nic"][1]["link"] = "down"
        self.judged(made, a1="home")

    def orders(self) -> Small:
        """The team's host with a guest a2 whose port group sends by the second NIC first, which lacks the tag."""
        made = self.team("20")
        made.put("port_group", "a/other", switch="a/s", name="other", mode="access", vid=10)
        made.put("group_order", "a/order", port_group="a/other", nic="a/n1", role="active")
        made.guest("a", "a2", 10)
        made.kinds["adapter"][-1]["port_group"] = "a/other"
        return made

    def test_who_is_beside_those_it_misses_is_told_where_its_frames_end(self) -> None:
        made = self.orders()
        made.guest("a", "a0", 10)
        judgement = judge(made.plan())
        self.assertEqual(judgement.verdicts()["a2"], "wavering")
        finding = next(f for f in findings(judgement) if "a2" in f.endpoints)
        self.assertEqual(finding.text, "Port p2 of sw allows 20; 10 is missing.")

    def test_two_in_one_switch_with_a_gateway_among_them_meet_whichever_way_each_sends(self) -> None:
        made = self.orders()
        made.kinds["segment"][0]["gateways"] = ["10.64.0.1"]
        for adapter in made.kinds["adapter"]:
            adapter.update({"addresses": ["10.64.0.1/24"]} if adapter["id"] == "a1" else {})
            adapter["connected"] = adapter["id"] in ("a1", "a2")
        made.kinds["adapter"] = [a for a in made.kinds["adapter"] if a["connected"]]
        self.judged(made, a1="home", a2="home")

    def test_the_gateways_own_team_makes_everybody_waver(self) -> None:
        made = self.team("20")
        made.kinds["segment"][0]["gateways"] = ["10.64.0.1"]
        made.kinds["adapter"][0]["addresses"] = ["10.64.0.1/24"]
        judgement = self.judged(made, a1="home", b1="wavering", b2="wavering")
        finding = self.only(judgement)
        self.assertEqual(finding.title, "b1 and b2 lose the gateway a1 when n0 of a fails")

    def test_another_tag_after_a_failover_is_wavering_too(self) -> None:
        made = Small()
        made.segment(10)
        made.segment(20)
        made.fabric("sw")
        made.access("sw/p1", 10)
        made.access("sw/p2", 20)
        made.host("a", "sw/p1", "sw/p2")
        made.guest("a", "a1", None, "s10")
        judgement = self.judged(made, a1="wavering")
        finding = self.only(judgement)
        self.assertEqual(finding.title, "a1 lands on s20 when n0 of a fails")
        self.assertEqual(finding.culprit, ("sw/p2",))

    def test_a_switch_with_two_uplinks_is_judged_over_each_of_its_teams_members(self) -> None:
        made = Small()
        made.segment(10)
        made.fabric("left")
        made.fabric("right")
        for port in ("left/p1", "left/p9"):
            made.trunk(port, "10")
        made.trunk("left/p2", "20")
        made.trunk("right/p1", "10")
        made.trunk("right/p9", "10")
        made.host("m", "left/p1", "left/p2")
        made.put("uplink", "m/u2", switch="m/s", name="u2")
        made.put("nic", "m/n9", host="m", name="n9", uplink="m/u2")
        made.cable("m/n9", "right/p1")
        made.host("a", "left/p9")
        made.host("b", "right/p9")
        made.guest("a", "a1", 10)
        made.guest("b", "b1", 10)
        judgement = self.judged(made, a1="wavering", b1="wavering")
        self.assertEqual(self.only(judgement).title, "a1 and b1 lose each other when n0 of m fails")


class AstrayTest(SmallPlans):
    def test_the_wrong_port_group(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("b", "b2", 20)
        made.guest("a", "lost", 20, "s10")
        judgement = self.judged(made, a1="home", b1="home", b2="home", lost="astray")
        self.said(
            judgement,
            "lost lands on s20",
            "Its port group g20 is tagged 20; it belongs on s10, 10.",
            "Move lost to port group g10",
        )

    def test_a_tag_that_is_no_segment(self) -> None:
        made = pair()
        made.guest("a", "lost", 99, "s10")
        judgement = self.judged(made, lost="astray")
        titles = [m.title for m in mends(judgement, self.only(judgement))]
        self.assertEqual(self.only(judgement).title, "lost lands on VID 99, which is no segment")
        self.assertIn("Tag port group g99 10", titles)
        self.assertIn("Move lost to port group g10", titles)

    def test_several_adapters_of_one_port_group_are_one_finding(self) -> None:
        made = pair()
        for n in range(5):
            made.guest("a", f"lost{n}", 99, "s10")
        judgement = self.judged(made, lost0="astray", lost4="astray")
        self.assertEqual(self.only(judgement).title, "lost0 and 4 more land on VID 99, which is no segment")

    def test_untagged_frames_that_the_trunk_drops(self) -> None:
        made = pair()
        made.put("host_port", "a/hp", switch="a/s", name="mgmt", belongs="s10")
        judgement = self.judged(made, **{"a/hp": "astray"})
        finding = self.said(
            judgement,
            "a’s mgmt lands nowhere",
            "It sends untagged frames, and port p1 of sw has no native VLAN: untagged frames are dropped. It belongs on s10, 10.",
            "Tag host port mgmt of a 10",
        )
        titles = [m.title for m in mends(judgement, finding)]
        self.assertIn("Make 10 the VID of untagged frames at port p1 of sw (worse for a1)", titles)

    def test_a_guest_tag_that_its_port_group_drops(self) -> None:
        made = pair()
        made.put("port_group", "a/t", switch="a/s", name="t", mode="trunk", allowed="20")
        made.put("guest", "guest-r", host="a", name="r")
        made.put("adapter", "r", guest="guest-r", name="r", port_group="a/t")
        made.put("guest_tag", "r/10", adapter="r", vid=10, belongs="s10")
        judgement = self.judged(made, r="astray")
        finding = self.only(judgement)
        self.assertEqual(finding.title, "r lands nowhere")
        self.assertIn("drops frames that arrive tagged 10", finding.text)
        self.assertEqual(mends(judgement, finding)[0].title, "Allow 10 on port group t of a")

    def test_an_adapter_in_no_port_group(self) -> None:
        made = pair()
        made.put("guest", "guest-x", host="a", name="x")
        made.put("adapter", "x", guest="guest-x", name="x", belongs="s10")
        judgement = self.judged(made, x="astray")
        self.said(judgement, "x is in no port group", "It belongs on s10.", "Move x to port group g10")

    def test_a_segment_without_vid_must_stay_untagged(self) -> None:
        made = pair()
        made.segment(None)
        made.guest("a", "bubble", 10, "plain")
        judgement = self.judged(made, bubble="astray")
        self.assertEqual(self.only(judgement).title, "bubble lands on s10")

    def test_untagged_frames_land_on_the_segment_of_those_beside_them(self) -> None:
        made = Small()
        made.segment(10)
        made.segment(None)
        made.put("segment", "other", name="other")
        for host in ("a", "b"):
            made.host(host)
        made.guest("a", "a1", None)
        made.guest("b", "b1", None, "other")
        made.guest("b", "lost", None, "s10")
        judgement = self.judged(made, a1="home", b1="home", lost="astray")
        self.assertIn("untagged", self.only(judgement).text)
        (told,) = landings(judgement, ["lost"])
        self.assertEqual(told["tags"][0]["lands"], "other", "not the one in the other host")


class UnprovenTest(SmallPlans):
    def test_a_nic_without_cable(self) -> None:
        made = pair()
        made.host("c", None, site="Saltmarsh")
        made.guest("c", "c1", 10)
        judgement = self.judged(made, a1="home", b1="home", c1="unproven")
        self.said(judgement, "Nobody can know whether c1 reaches s10", "The plan doesn't say what is behind n0 of c.")

    def test_an_open_second_member_leaves_the_failover_unproven(self) -> None:
        made = pair()
        made.put("nic", "a/n9", host="a", name="n9", uplink="a/u", rank=9)
        self.judged(made, a1="unproven", b1="unproven")

    def test_a_free_port_at_the_site_is_offered(self) -> None:
        made = pair()
        made.kinds["fabric_switch"][0]["site"] = "Saltmarsh"
        made.trunk("sw/p7", "10")
        made.host("c", None, site="Saltmarsh")
        made.guest("c", "c1", 10)
        judgement = self.judged(made, c1="unproven")
        self.assertEqual(mends(judgement, self.only(judgement))[0].title, "Plug n0 of c into port p7 of sw")

    def test_an_assumed_fabric_closes_the_open_ends_of_its_site(self) -> None:
        made = Small()
        made.segment(10)
        for host in "ab":
            made.host(host, None, site="Saltmarsh")
            made.guest(host, f"{host}1", 10)
        judgement = self.judged(made, a1="unproven", b1="unproven")
        self.assertEqual(len(findings(judgement)), 2, "each open NIC is an end of its own")
        mend = mends(judgement, findings(judgement)[0])[0]
        self.assertEqual(mend.title, "Assume that what is behind Saltmarsh’s uncabled NICs carries 10")
        made.put("assumed_fabric", "af", site="Saltmarsh", allowed="10")
        self.judged(made, a1="home", b1="home")
        made.kinds["assumed_fabric"][0]["allowed"] = "20"
        judgement = self.judged(made, a1="stranded", b1="stranded")
        self.assertEqual(mends(judgement, self.only(judgement))[0].title, "Assume that Saltmarsh carries 10")

    def test_two_halves_with_free_ports_may_be_joined_where_nobody_looked(self) -> None:
        made = Small()
        made.segment(10)
        for side, host in (("left", "a"), ("right", "b")):
            made.fabric(side)
            made.trunk(f"{side}/p", "10")
            made.trunk(f"{side}/free", "10")
            made.host(host, f"{side}/p")
            made.guest(host, f"{host}1", 10)
        self.judged(made, a1="unproven", b1="unproven")
        made.kinds["fabric_port"][1]["enabled"] = False
        self.judged(made, a1="stranded", b1="stranded")

    def test_nobody_said_where_it_belongs(self) -> None:
        made = pair()
        made.guest("a", "new", 10, None)
        judgement = self.judged(made, new="unproven")
        self.said(
            judgement,
            "Nobody said where new belongs",
            "It lands on s10; say on which segment it belongs.",
            "Say that it belongs on s10",
        )


class ExposedTest(SmallPlans):
    def natives(self, native_a: int | None, native_b: int | None) -> Small:
        made = Small()
        made.segment(10)
        made.segment(20)
        for side, native in (("left", native_a), ("right", native_b)):
            made.fabric(side)
            made.trunk(f"{side}/x", "30", native)
            made.trunk(f"{side}/p", "10, 20")
        made.cable("left/x", "right/x")
        made.host("a", "left/p")
        made.host("b", "right/p")
        made.guest("a", "a1", 10)
        made.guest("b", "b1", 20)
        return made

    def test_natives_that_differ_join_two_segments(self) -> None:
        judgement = self.judged(self.natives(10, 20), a1="exposed", b1="exposed")
        finding = self.said(
            judgement,
            "s10 and s20 leak into each other",
            "Port x of left sends VID 10 untagged; port x of right takes it in as 20.",
        )
        self.assertEqual(set(finding.culprit), {"left/x", "right/x"})
        titles = [m.title for m in mends(judgement, finding)]
        self.assertIn("Drop untagged frames at port x of left", titles)

    def test_natives_that_agree_do_not(self) -> None:
        self.judged(self.natives(10, 10), a1="home", b1="home")
        self.judged(self.natives(None, None), a1="home", b1="home")

    def test_two_access_ports_of_two_vids_joined_by_a_cable(self) -> None:
        made = self.natives(None, None)
        made.access("left/y", 10)
        made.access("right/y", 20)
        made.cable("left/y", "right/y")
        judgement = self.judged(made, a1="exposed", b1="exposed")
        self.assertIn("Port y of left sends VID 10 untagged", self.only(judgement).text)

    def test_a_leak_in_one_direction_is_a_leak(self) -> None:
        """Left sends VID 10 untagged into 20; what comes back in 20 is tagged, and dropped at the left."""
        made = self.natives(10, None)
        made.kinds["fabric_port"] = [p for p in made.kinds["fabric_port"] if p["id"] != "right/x"]
        made.access("right/x", 20)
        made.kinds["fabric_port"][0]["native"] = None
        made.kinds["fabric_port"][0] = {
            "id": "left/x",
            "switch": "left",
            "name": "x",
            "mode": "trunk",
            "allowed": "30",
            "native": 10,
        }
        self.judged(made, a1="exposed", b1="exposed")

    def test_one_vid_for_two_segments_that_meet(self) -> None:
        made = pair()
        made.put("segment", "other", name="other", vid=10)
        made.guest("a", "o1", 10, "other")
        judgement = self.judged(made, a1="exposed", o1="exposed", b1="exposed")
        self.assertEqual(self.only(judgement).title, "other and s10 leak into each other")

    def test_an_astray_guest_exposes_nobody(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "lost", 10, "s20")
        self.judged(made, a1="home", b1="home", lost="astray")

    def test_two_machines_with_one_address(self) -> None:
        made = pair()
        made.kinds["adapter"][0]["addresses"] = ["10.64.0.7/24"]
        made.kinds["adapter"][1]["addresses"] = ["10.64.0.7/16"]
        judgement = self.judged(made, a1="exposed", b1="exposed")
        self.said(judgement, "Two machines answer to 10.64.0.7", "Both hear each other: a1 and b1.")

    def test_one_address_in_two_domains_is_fine(self) -> None:
        made = self.natives(None, None)
        for adapter in made.kinds["adapter"]:
            adapter["addresses"] = ["10.64.0.7/24"]
        self.judged(made, a1="home", b1="home")


class IdleTest(SmallPlans):
    def test_idle_endpoints_are_judged_and_counted_apart(self) -> None:
        made = pair()
        made.guest("a", "off", 99, "s10")
        made.kinds["guest"][-1]["running"] = False
        made.put("host_port", "b/hp", switch="b/s", name="hp", vid=10, belongs="s10", connected=False)
        judgement = self.judged(made, off="astray")
        counts = judgement.counts()
        self.assertEqual((counts["idle"], counts["astray"], counts["home"]), (2, 0, 2))
        self.assertTrue(self.only(judgement).idle)

    def test_findings_of_idle_endpoints_come_last(self) -> None:
        made = pair("20")
        made.guest("a", "off", 99, "s10")
        made.kinds["guest"][-1]["running"] = False
        self.assertEqual([f.idle for f in findings(judge(made.plan()))], [False, True])


if __name__ == "__main__":
    unittest.main()

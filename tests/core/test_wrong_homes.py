"""Smallest plans in which somebody was called home wrongly, and mends that would have done harm."""

from __future__ import annotations

import unittest
from itertools import permutations

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.paths import Roads
from aptwire.forward.trace import find_place, trace
from aptwire.judge.findings import everything, findings
from aptwire.judge.mends import mends
from aptwire.judge.preview import preview
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Patch, Put
from aptwire.plan.kinds import Adapter, Guest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import JudgedCase, Small, all_places, demo_plan, pair, random_plan


def lonely() -> Small:
    """Segment 10 with an isolated VLAN 11 on hosts a and b; the isolated guest i1 on b asks for a gateway."""
    made = Small()
    made.put("segment", "s10", name="s10", vid=10, gateways=["10.64.10.1"])
    made.put("secondary_vlan", "iso", segment="s10", vid=11, type="isolated")
    made.fabric("sw")
    for n, host in enumerate("ab"):
        made.trunk(f"sw/p{n}", "10, 11")
        made.host(host, f"sw/p{n}")
    group = made.put("port_group", "b/iso", switch="b/s", name="iso", mode="private", vid=11)
    made.put("guest", "guest-i", host="b", name="i1")
    made.put("adapter", "i1", guest="guest-i", name="i1", port_group=group, belongs="s10")
    return made


class WrongHomesTest(JudgedCase):
    def test_one_mac_address_on_two_hosts_that_hear_each_other(self) -> None:
        made = pair()
        for adapter in made.kinds["adapter"]:
            adapter["mac"] = "02:64:00:00:00:01"
        judgement = self.judged(made, a1="exposed", b1="exposed")
        found = [f for f in everything(judgement) if f.what in ("twin-mac", "mac")]
        self.assertEqual([f.title for f in found], ["a1 and b1 bear one MAC address and hear each other"])
        self.assertIn("MAC address of its own", mends(judgement, found[0])[0].title)
        made.kinds["fabric_port"][0]["allowed"] = "20"
        self.judged(made, a1="stranded", b1="stranded")

    def test_those_that_tag_with_their_native_vid_do_not_hear_each_other_either(self) -> None:
        made = pair()
        made.put("port_group", "a/t", switch="a/s", name="t", mode="trunk", allowed="10", native=10)
        for name in ("x", "y", "z"):
            guest = made.put("guest", name, host="a", name=name)
            made.put("adapter", f"{name}0", guest=guest, name=f"{name}0", port_group="a/t")
            made.put("guest_tag", f"{name}0-10", adapter=f"{name}0", vid=10, belongs="s10")
        # They speak into VLAN 10, and what comes out of it has no tag: each is alone, and no majority.
        self.judged(made, a1="home", b1="home", x0="stranded", y0="stranded", z0="stranded")

    def test_a_gateway_on_each_half_of_a_segment_makes_no_whole_of_it_whoever_else_is_on_it(self) -> None:
        made = pair()
        made.kinds["segment"][0]["gateways"] = ["10.64.10.1"]
        made.guest("a", "ra", 10, addresses=["10.64.10.1/24"])
        made.guest("b", "rb", 10, addresses=["10.64.10.1/24"])
        made.guest("b", "b2", 10)
        made.kinds["fabric_port"][0]["allowed"] = "20"
        halves = {"a1": "stranded", "ra": "stranded", "b1": "home", "b2": "home", "rb": "home"}
        self.judged(made, **halves)
        # One more that hears another VLAN than it speaks in makes it no other question for these.
        said = {"mode": "standard", "pvid": 10, "members": "10, 20", "untagged": "20", "admits": "all"}
        made.put("port_group", "a/t", switch="a/s", name="t", **said)
        guest = made.put("guest", "x", host="a", name="x")
        made.put("adapter", "x0", guest=guest, name="x0", port_group="a/t", belongs="s10")
        self.judged(made, **halves, x0="stranded")

    def test_large_packets_of_virtual_functions_get_lost_as_others_do(self) -> None:
        made = pair()
        made.kinds["segment"][0]["mtu"] = 9000
        for host, port in (("a", "sw/p8"), ("b", "sw/p9")):
            made.trunk(port, "10")
            made.put("nic", f"{host}/n8", host=host, name="n8", functions=4)
            made.cable(f"{host}/n8", port)
            guest = made.put("guest", f"d{host}", host=host, name=f"d{host}")
            words = {"type": "direct", "function_of": f"{host}/n8", "function_vid": 10, "belongs": "s10"}
            made.put("adapter", f"d{host}0", guest=guest, name=f"d{host}0", **words)
        homes = dict.fromkeys(("a1", "b1", "da0", "db0"), "home")
        self.judged(made, **homes)
        made.kinds["nic"][-1]["mtu"] = 1500
        self.judged(made, **{**homes, "db0": "stranded"})
        made.kinds["nic"][-1]["mtu"] = None
        next(p for p in made.kinds["fabric_port"] if p["id"] == "sw/p8")["mtu"] = 1500
        self.judged(made, **{**homes, "da0": "stranded"})

    def test_those_whose_frames_come_in_as_another_vlan_than_they_hear_are_no_segment(self) -> None:
        made = pair()
        made.segment(30)
        said = {"mode": "standard", "pvid": 30, "members": "20, 30", "untagged": "20", "admits": "all"}
        made.put("port_group", "a/t", switch="a/s", name="t", **said)
        for name in ("x", "y"):
            guest = made.put("guest", name, host="a", name=name)
            made.put("adapter", f"{name}0", guest=guest, name=f"{name}0", port_group="a/t", belongs="s30")
        # What the one sends comes out to the other tagged 30, which it doesn't use.
        self.judged(made, a1="home", b1="home", x0="stranded", y0="stranded")
        made.kinds["port_group"][-1]["untagged"] = "20, 30"
        self.judged(made, a1="home", b1="home", x0="home", y0="home")

    def test_a_guests_own_team_is_one_endpoint(self) -> None:
        made = pair()
        made.guest("a", "a2", 10, addresses=["10.64.10.5/24"], team="bond0", mac="02:64:00:00:00:05")
        made.put("adapter", "a3", guest="guest-a2", name="a3", port_group="a/g10", belongs="s10", team="bond0")
        made.kinds["adapter"][-1].update(addresses=["10.64.10.5/24"], mac="02:64:00:00:00:05")
        self.judged(made, a2="home", a3="home")
        made.kinds["adapter"][-1]["team"] = ""
        self.judged(made, a2="exposed", a3="exposed")

    def test_a_mirror_into_another_segment_is_a_leak(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "a2", 20)
        made.put("mirror", "m", source="a1", target="a2")
        judgement = self.judged(made, a1="exposed", a2="exposed", b1="home")
        found = [f for f in everything(judgement) if f.what in ("mirrored", "mirror")]
        self.assertEqual([f.title for f in found], ["a2 is shown the frames of a1"])
        self.assertEqual(mends(judgement, found[0])[0].title, "Take the mirror of a1 of a1 away")
        made.kinds["adapter"][2]["connected"] = False
        self.judged(made, a1="home")

    def test_jumbo_ends_over_a_fabric_of_1500(self) -> None:
        made = pair()
        made.kinds["segment"][0]["mtu"] = 9000
        made.kinds["fabric_port"][1]["mtu"] = 1500
        made.guest("a", "a2", 10)
        judgement = self.judged(made, a1="home", a2="home", b1="stranded")
        found = findings(judgement)[0]
        self.assertEqual(found.title, "b1 loses packets of more than 1500 bytes")
        self.assertEqual(
            found.text, "Port p2 of sw takes 1500 bytes; packets of up to 9000 are sent there, and larger ones vanish."
        )
        self.assertEqual(mends(judgement, found)[0].title, "Raise port p2 of sw to 9000")
        made.kinds["fabric_port"][1]["mtu"] = 9000
        self.judged(made, a1="home", b1="home")
        made.kinds["adapter"][1]["mtu"] = 1500
        self.judged(made, a1="home", a2="home", b1="stranded")

    def test_a_gateway_on_an_isolated_port_beside_an_isolated_guest(self) -> None:
        made = pair()
        made.kinds["segment"][0]["gateways"] = ["10.64.10.1"]
        made.guest("a", "gate", 10, addresses=["10.64.10.1/24"])
        for adapter in made.kinds["adapter"]:
            adapter["isolated"] = adapter["id"] != "b1"
        self.judged(made, a1="stranded", gate="home", b1="home")
        made.kinds["adapter"][0]["isolated"] = False
        self.judged(made, a1="home")

    def test_two_of_one_address_that_somebody_hears_both_and_neither_the_other(self) -> None:
        made = pair()
        made.guest("a", "a2", 10)
        for adapter in made.kinds["adapter"]:
            if adapter["id"] != "b1":
                adapter.update(isolated=True, addresses=["10.64.10.7/24"])
        judgement = self.judged(made, a1="exposed", a2="exposed", b1="home")
        finding = next(f for f in findings(judgement) if f.what == "twin")
        self.assertEqual(finding.text, "B1 hears both, and neither hears the other one: a1 and a2.")
        self.assertIn("Disconnect a2", [mend.title for mend in mends(judgement, finding)])
        # Whom nobody hears, or whose other one is off, has no twin; nor has one MAC address on two segments.
        made.kinds["guest"][-1]["running"] = False
        self.judged(made, a1="home")
        made.kinds["guest"][-1]["running"] = True
        made.kinds["adapter"][1]["connected"] = False
        self.judged(made, a1="home", a2="home")
        for n, adapter in enumerate(made.kinds["adapter"]):
            adapter.update(connected=True, mac="02:64:00:00:00:07", addresses=[f"10.64.10.{n + 7}/24"])
        made.kinds["adapter"][1]["mac"] = None
        self.judged(made, a1="exposed", a2="exposed", b1="home")

    def test_switches_that_share_a_nic_reach_the_fabric_and_not_each_other(self) -> None:
        made = pair()
        made.put("virtual_switch", "a/t", host="a", name="t")
        made.put("uplink", "a/t/u", switch="a/t", name="u", over="a/u")
        made.put("port_group", "a/t/g", switch="a/t", name="g", mode="access", vid=10)
        made.put("guest", "guest-t", host="a", name="t1")
        made.put(
            "adapter", "t1", guest="guest-t", name="t1", port_group="a/t/g", belongs="s10", addresses=["10.64.10.1/24"]
        )
        judgement = self.judged(made, a1="stranded", t1="stranded", b1="home")
        titles = [f.title for f in findings(judgement)]
        self.assertTrue(titles and all("a1" in t or "t1" in t for t in titles), titles)
        made.kinds["segment"][0]["gateways"] = ["10.64.10.1"]
        self.judged(made, a1="stranded", b1="home")

    def test_a_gateway_whose_team_order_leads_nowhere_on_a_switch_that_frames_cross(self) -> None:
        made = pair()
        made.kinds["segment"][0]["gateways"] = ["10.64.10.1"]
        made.put("host_port", "a/hp", switch="a/s", name="hp", vid=20)
        made.put("virtual_switch", "a/t", host="a", name="t")
        made.put("uplink", "a/t/u", switch="a/t", name="u", over="a/hp")
        group = made.put("port_group", "a/own", switch="a/s", name="own", mode="access", vid=10)
        nic = made.kinds["nic"][0]["id"]
        made.put("group_order", "o", port_group=group, nic=nic, role="active")
        made.put("guest", "guest-gate", host="a", name="gate")
        made.put(
            "adapter",
            "gate",
            guest="guest-gate",
            name="gate",
            port_group=group,
            belongs="s10",
            addresses=["10.64.10.1/24"],
        )
        self.judged(made, a1="home", b1="home")
        made.kinds["group_order"][0]["role"] = "excluded"
        self.judged(made, a1="home", b1="stranded")

    def test_a_gateways_bearer_counts_where_it_lands_if_nobody_said_where_it_belongs(self) -> None:
        made = lonely()
        group = made.put("port_group", "a/wide", switch="a/s", name="wide", mode="private", vid=10)
        made.put("guest", "guest-gate", host="a", name="gate")
        made.put("adapter", "gate", guest="guest-gate", name="gate", port_group=group, addresses=["10.64.10.1/24"])
        self.judged(made, i1="home", gate="unproven")
        made.kinds["fabric_port"][1]["allowed"] = "10"
        self.judged(made, i1="stranded")

    def test_a_lag_one_of_whose_ports_answers_untagged(self) -> None:
        made = Small()
        made.segment(30, gateways=["10.64.30.1"])
        made.fabric("sw")
        made.put("lag", "lag", switch="sw", name="lag")
        made.trunk("sw/p0", "10, 30", lag="lag")
        words = {"mode": "standard", "pvid": 10, "members": "10, 30", "untagged": "30"}
        made.put("fabric_port", "sw/p1", switch="sw", name="p1", lag="lag", **words)
        made.trunk("sw/p2", "10, 30")
        made.host("a", "sw/p0", "sw/p1", uplink={"mode": "lacp"})
        made.host("b", "sw/p2")
        made.guest("a", "a1", 30)
        made.guest("b", "gate", 30, addresses=["10.64.30.1/24"])
        self.judged(made, a1="wavering", gate="home")
        made.kinds["fabric_port"][1]["untagged"] = "10"
        self.judged(made, a1="home", gate="home")


class TogetherTest(unittest.TestCase):
    @settings(max_examples=200)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans())
    def test_all_who_are_home_on_a_segment_hear_each_other_as_single_frames_go(
        self, seed: int, rich: bool, odd: bool
    ) -> None:
        judgement = judge(random_plan(seed, rich, odd))
        wiring, plan = judgement.wiring, judgement.plan
        if wiring.classes.twins:
            # Isolated ports are at home without hearing each other.
            return
        roads = Roads(wiring)
        for segment in plan.all("segment"):
            if segment.vni or plan.where("secondary_vlan", "segment", segment.id):
                continue
            own = [p for p in all_places(wiring) if p.segment == segment.id and p.stand.judged]
            home = [p for p in own if judgement.status_of(p) == 0][:12]
            for a, b in permutations(home, 2):
                self.assertTrue(a.record == b.record or roads.way(a, b) is not None, f"{a.record} to {b.record}")


class HarmTest(JudgedCase):
    def test_whoever_is_moved_on_purpose_belongs_where_it_is_now(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("b", "b2", 20)
        made.kinds["adapter"][0]["port_group"] = made.put(
            "port_group", "a/g20", switch="a/s", name="g20", mode="access", vid=20
        )
        judgement = self.judged(made, a1="astray")
        titles = [m.title for m in mends(judgement, findings(judgement)[0])]
        self.assertEqual(titles[-1], "Say that a1 belongs on s20 now", "what undoes somebody's intent is last")

    def test_an_isolated_guests_gateway_is_opened_rather_than_its_isolation_ended(self) -> None:
        made = lonely()
        made.guest("a", "gate", 10, addresses=["10.64.10.1/24"])
        judgement = self.judged(made, i1="stranded")
        found = next(f for f in findings(judgement) if "i1" in f.endpoints)
        titles = [m.title for m in mends(judgement, found)]
        self.assertEqual(titles[0], "Make port group g10 of a promiscuous on 10")
        self.assertTrue(any("access port group" in t for t in titles[1:]), titles)

    def test_an_edit_gives_no_port_two_modes_and_a_new_guest_is_not_worse_off(self) -> None:
        judgement = judge(demo_plan())
        for finding in findings(judgement):
            for mend in mends(judgement, finding):
                modes = [(o.kind, o.id) for o in mend.edit if isinstance(o, Patch) and "mode" in o.changes]
                self.assertEqual(len(modes), len(set(modes)), mend.title)
        plan = judgement.plan
        host = next(iter(plan.of("host")))
        edit = (Put(Guest(id="new", host=host, name="new")), Put(Adapter(id="new-a", guest="new", name="tap-new")))
        move = next(m for m in preview(judgement, edit).moves if m.endpoint == "new-a")
        self.assertEqual((move.before, move.worse), (None, False))

    @settings(max_examples=30)
    @given(st.integers(0, 10**9), st.booleans())
    def test_whom_a_mend_makes_worse_its_title_says(self, seed: int, odd: bool) -> None:
        judgement = judge(random_plan(seed, rich=True, odd=odd))
        for finding in [*findings(judgement)[:2], *risks(judgement)[:2]]:
            for mend in mends(judgement, finding):
                unnamed = [m for m in mend.preview.moves if m.worse and m.endpoint not in finding.endpoints]
                self.assertEqual("(worse for " in mend.title, bool(unnamed), mend.title)

    def test_a_trace_between_vlans_says_so_and_not_that_a_cable_is_missing(self) -> None:
        wiring = compile_wiring(demo_plan())
        ends = [find_place(wiring, key) for key in ("razorbill/tap-visitor-kiosk-1", "gannet/tap-ticketing-web-1")]
        for a, b in (ends, ends[::-1]):
            said = " ".join(hop.reason for hop in trace(wiring, a, b).hops)
            self.assertNotIn("no cable joins", said)
            self.assertTrue(said.strip())


if __name__ == "__main__":
    unittest.main()

"""One test for each kind of risk, with the smallest plan that has it: it is found, its mend ends it, and a sound plan hasn't got it."""

from __future__ import annotations

import re
import unittest

from aptwire.judge.findings import everything, proof
from aptwire.judge.mends import mends
from aptwire.judge.risks import Risk, fresh_mac, risk_proof, risks
from aptwire.judge.verdicts import judge, rejudge
from aptwire.plan.edits import Patch, Put, apply_edit, touched
from aptwire.plan.kinds import FabricSwitch
from aptwire.plan.plan import PlanError
from aptwire.report import teams

from tests.core.test_whole_wiring import overlay, ring, two_nics
from tests.core.test_whole_wiring import routed as over_routers
from tests.support import Small, demo_plan, pair


def free_nic(made: Small, host: str, allowed: str, card: str = "", native: int | None = None) -> None:
    """One more NIC of a host, in no uplink, on a trunk port of its own."""
    made.trunk("sw/p7", allowed, native=native)
    made.put("nic", f"{host}/n7", host=host, name="n7", card=card)
    made.cable(f"{host}/n7", "sw/p7")


class RiskTest(unittest.TestCase):
    def risk(self, made: Small, what: str, says: str = ".") -> Risk:
        """The only risk of a kind; its title and text must match."""
        found = [r for r in risks(judge(made.plan())) if r.what == what]
        self.assertEqual(len(found), 1, [r.title for r in found])
        self.assertRegex(f"{found[0].title}. {found[0].text}", says)
        self.assertTrue(found[0].culprit and risk_proof(judge(made.plan()), found[0]))
        return found[0]

    def mended(self, made: Small, what: str, title: str, says: str = ".") -> None:
        """The risk is there, one of its mends has this title, and after it the risk is gone."""
        risk = self.risk(made, what, says)
        plan = made.plan()
        judgement = judge(plan)
        offered = {m.title: m for m in mends(judgement, risk)}
        chosen = next((m for t, m in offered.items() if re.search(title, t)), None)
        self.assertIsNotNone(chosen, list(offered))
        after, _ = apply_edit(plan, chosen.edit)
        self.assertNotIn(risk.id, {r.id for r in risks(judge(after))})

    def absent(self, made: Small, *kinds: str) -> None:
        found = {r.what for r in risks(judge(made.plan()))}
        self.assertFalse(found & set(kinds), found)

    # --- apart and thin ---------------------------------------------------------------------------------------

    def roles(self, share: str) -> Small:
        made = pair("10, 20", "10, 20")
        made.kinds["segment"][0]["role"] = "production"
        made.segment(20, role="storage")
        made.put("host_port", "a/hp", switch="a/s", name="store", vid=20, belongs="s20", services=["storage"])
        made.put("rule", "apart", text=f"storage and production share no {share}")
        return made

    def test_roles_that_share_an_uplink_are_split_onto_a_free_nic(self) -> None:
        made = self.roles("uplink")
        risk = self.risk(made, "broken-rule", "storage and production share an uplink on a")
        self.assertEqual([m.title for m in mends(judge(made.plan()), risk)], ["Take the rule away"], "no free NIC")
        free_nic(made, "a", "20")
        self.mended(made, "broken-rule", "Give storage a switch and a free NIC of its own on a")
        self.absent(self.roles("VID"), "broken-rule")

    def test_roles_that_share_a_cable_or_the_switch_into_which_they_are_plugged(self) -> None:
        made = self.roles("cable or switch")
        risk = self.risk(made, "broken-rule", "storage and production share a cable on a")
        free_nic(made, "a", "20")
        offered = [m.title for m in mends(judge(made.plan()), risk)]
        self.assertEqual(offered, ["Take the rule away"], "a NIC of its own is plugged into the same switch")
        # On another switch it shares neither; and that is seen though nothing on the host is another.
        moved = self.roles("cable or switch")
        free_nic(moved, "a", "20")
        own = moved.put("virtual_switch", "a/t", host="a", name="t")
        moved.put("uplink", "a/t/u", switch=own, name="u")
        next(n for n in moved.kinds["nic"] if n["host"] == "a" and not n.get("uplink"))["uplink"] = "a/t/u"
        moved.kinds["host_port"][0]["switch"] = own
        self.risk(moved, "broken-rule", "storage and production share a switch on a")
        before = judge(moved.plan())
        risks(before)
        edit = (Put(FabricSwitch(id="other", name="other")), Patch("fabric_port", "sw/p7", {"switch": "other"}))
        after = rejudge(before, apply_edit(before.plan, edit)[0], touched(edit))
        self.assertNotIn("broken-rule", {r.what for r in risks(after)})

    def test_segments_are_kept_apart_by_name(self) -> None:
        made = self.roles("uplink")
        made.kinds["rule"][0].update(text="segment s10 and s20 share no NIC or uplink")
        risk = self.risk(made, "broken-rule", "s10 and s20 share a NIC on a")
        self.assertEqual([m.title for m in mends(judge(made.plan()), risk)], ["Take the rule away"], "no free NIC")
        free_nic(made, "a", "20")
        self.mended(made, "broken-rule", "Give s20 a switch and a free NIC of its own on a")
        made.kinds["rule"][0].update(text="s10 and nowhere share no NIC")
        self.mended(made, "idle-rule", "Take the rule away", "No segment is called “nowhere”")

    def test_guests_go_with_their_role_onto_the_free_nic(self) -> None:
        made = self.roles("uplink")
        free_nic(made, "a", "10, 20")
        risk = self.risk(made, "broken-rule", "storage and production share an uplink on a")
        offered = [m for m in mends(judge(made.plan()), risk) if m.title.startswith("Give production")]
        self.assertEqual([move.endpoint for m in offered for move in m.preview.moves], [], "everybody lands as before")
        moved = offered[0].preview.plan
        self.assertEqual(moved.get("port_group", "a/g10").switch, "a/production0")

    def test_roles_that_share_a_nic_through_a_virtual_function(self) -> None:
        made = self.roles("NIC")
        made.kinds["host_port"].clear()
        self.absent(made, "broken-rule")
        guest = made.put("guest", "gd", host="a", name="gd")
        made.put(
            "adapter", "d", guest=guest, name="d", type="direct", function_of="a/n0", function_vid=20, belongs="s20"
        )
        self.risk(made, "broken-rule", "share a NIC on a")

    def test_a_role_on_a_single_nic(self) -> None:
        made = two_nics("standby")
        self.risk(made, "single-nic", "guests rests on a single NIC on b. n0 of b: when it or its port fails")
        free_nic(made, "b", "10")
        self.mended(made, "single-nic", "Add a free NIC to uplink u of b")

    def test_a_free_nic_gets_its_port_s_tags(self) -> None:
        made = two_nics("standby")
        free_nic(made, "b", "20", native=30)
        judgement = judge(made.plan())
        mend = mends(judgement, self.risk(made, "single-nic"))[0]
        self.assertEqual(mend.title, "Add a free NIC to uplink u of b with its tags on its port")
        self.assertEqual((mend.preview.moves, mend.brings), ((), ()), "nobody wavers after it")
        port = mend.preview.plan.get("fabric_port", "sw/p7")
        self.assertEqual((port.allowed, port.native), ("10, 20", 30))

    def test_a_larger_team_gives_a_nic_or_takes_in_what_is_on_the_switch(self) -> None:
        made = two_nics("standby")
        made.segment(20, role="storage")
        made.trunk("sw/p8", "20")
        made.put("virtual_switch", "a/s2", host="a", name="s2")
        made.put("nic", "a/n8", host="a", name="n8", uplink=made.put("uplink", "a/u2", switch="a/s2", name="u2"))
        made.cable("a/n8", "sw/p8")
        made.put("host_port", "a/store", switch="a/s2", name="store", vid=20, belongs="s20")
        judgement = judge(made.plan())
        risk = next(r for r in risks(judgement) if r.key == ("storage",))
        (moved,) = mends(judgement, risk)
        self.assertEqual(moved.title, "Move what is on s2 of a to s of a")
        self.assertEqual(moved.preview.plan.get("host_port", "a/store").switch, "a/s")
        self.assertEqual(moved.preview.moves, (), "the tag goes along to both ports")
        made.trunk("sw/p12", "10")
        made.put("nic", "a/n9", host="a", name="n9", uplink="a/u", rank=9)
        made.cable("a/n9", "sw/p12")
        judgement = judge(made.plan())
        titles = [m.title for m in mends(judgement, next(r for r in risks(judgement) if r.key == ("storage",)))]
        self.assertEqual(len(titles), 2)
        self.assertRegex(titles[0], "^Give a NIC of a larger team to uplink")

    def test_what_a_mend_brings_is_said_and_comes_later(self) -> None:
        made = two_nics("standby")
        made.kinds["nic"][2]["card"] = "card 1"
        free_nic(made, "b", "10", card="card 1")
        judgement = judge(made.plan())
        mend = mends(judgement, self.risk(made, "single-nic"))[0]
        self.assertEqual(mend.brings, ("guests rests on one card on b",))

    def test_a_role_on_one_card(self) -> None:
        made = two_nics("standby")
        for nic in made.kinds["nic"][:2]:
            nic["card"] = "card 1"
        self.risk(made, "one-card", "guests rests on one card on a. n0 of a and n1 of a")
        free_nic(made, "a", "10", card="card 2")
        self.mended(made, "one-card", "another card")

    # --- cables -----------------------------------------------------------------------------------------------

    def two_switches(self, native_x: int | None, native_y: int | None) -> Small:
        made = Small()
        made.segment(10)
        for name, native in (("x", native_x), ("y", native_y)):
            made.fabric(name)
            made.trunk(f"{name}/t", "10", native=native)
        made.cable("x/t", "y/t")
        return made

    def test_natives_that_differ(self) -> None:
        self.mended(self.two_switches(20, 30), "native", "Make 20 the VID of untagged frames", "as 20.*as 30")
        self.mended(self.two_switches(20, None), "native", "Make none the VID")
        self.absent(self.two_switches(20, 20), "native")

    def test_an_uplink_s_native_that_its_port_has_not(self) -> None:
        made = pair("10")
        made.kinds["uplink"][0]["native"] = 20
        self.mended(
            made, "native", "Make 20 the VID of untagged frames at port p1 of sw too", "as 20, port p1 of sw as nothing"
        )
        self.mended(made, "native", "Make none the VID of untagged frames at uplink u of a too")
        made.kinds["fabric_port"][0]["native"] = 20
        self.absent(made, "native")

    def test_a_port_in_the_standard_s_words_has_a_pvid_too(self) -> None:
        made = self.two_switches(20, 20)
        port = made.kinds["fabric_port"][-1]
        port.update(mode="standard", allowed=None, native=None, members="10, 20", untagged="20", pvid=20)
        self.absent(made, "native")
        port.update(pvid=10)
        self.mended(made, "native", "Make 20 the VID of untagged frames")

    def test_a_native_that_one_end_tags(self) -> None:
        made = self.two_switches(20, 20)
        one, two = [port for port in made.kinds["fabric_port"] if port.get("native") == 20]
        two.update(mode="standard", allowed=None, native=None, members="10, 20", untagged="", pvid=20)
        one["allowed"] = "10"
        self.mended(made, "native", "Send 20 untagged at", "what port .* sends of it is dropped at the other end")
        self.mended(made, "native", "Take 20 tagged as well at")
        one["allowed"] = "10, 20"
        self.absent(made, "native")

    def test_a_host_that_answers_on_a_bridge_without_a_port_of_its_own(self) -> None:
        made = pair()
        made.put("virtual_switch", "a/lone", host="a", name="lone")
        made.put("port_group", "a/in", switch="a/lone", name="in", mode="untagged")
        made.put("adapter", "a9", guest=made.put("guest", "g9", host="a", name="g9"), name="a9", port_group="a/in")
        self.absent(made, "answers")
        self.assertEqual(teams(judge(made.plan()).wiring)["reach"]["a/lone"], "host-local")
        made.put("host_port", "a/hp", switch="a/s", name="hp", vid=10, addresses=["10.64.10.8/24"])
        self.risk(made, "answers", "The host itself answers 1 adapter on lone of a.")
        self.mended(made, "answers", "Keep the host from answering on lone of a")
        made.kinds["virtual_switch"][-1]["answers"] = False
        self.absent(made, "answers")
        self.assertEqual(teams(judge(made.plan()).wiring)["reach"]["a/lone"], "sealed")
        made.kinds["virtual_switch"][-1]["answers"] = True
        made.kinds["port_group"][-1].update(mode="access", vid=10)
        self.absent(made, "answers")

    def test_natives_that_leak_are_told_once(self) -> None:
        kinds = [f.what for f in everything(judge(demo_plan()))]
        self.assertIn("leak", kinds)
        self.assertNotIn("native", kinds)

    def test_tags_that_nobody_behind_needs(self) -> None:
        made = pair("10, 20", "10")
        made.segment(20)
        self.mended(
            made, "excess", "Allow only what is used on 1 port of sw", r"20. On the cable of p1 one would see s20"
        )
        self.absent(pair("10", "10"), "excess")

    def test_what_a_virtual_function_needs_is_not_too_much(self) -> None:
        made = two_nics("lacp", {"lacp": True}, ("10, 20", "10, 20"))
        made.segment(20)
        self.risk(made, "excess", "p0 and p1 of sw allow")
        guest = made.put("guest", "gd", host="a", name="gd")
        made.put(
            "adapter", "d", guest=guest, name="d", type="direct", function_of="a/n0", function_vid=20, belongs="s20"
        )
        self.absent(made, "excess")

    def test_a_tag_missing_on_a_member_where_nobody_sits_yet(self) -> None:
        made = two_nics("standby", ports=("10, 20", "10"))
        made.segment(20)
        made.put("port_group", "a/g20", switch="a/s", name="g20", mode="access", vid=20)
        self.mended(made, "missing-on-member", "Allow 20 on port p1 of sw")
        made.kinds["fabric_port"][1]["allowed"] = "10, 20"
        self.absent(made, "missing-on-member")

    # --- teams ------------------------------------------------------------------------------------------------

    def test_lacp_without_a_lag_and_a_lag_without_lacp(self) -> None:
        self.mended(two_nics("lacp"), "lacp-alone", "into an LACP LAG", "a single NIC carries")
        self.mended(two_nics("lacp", {"lacp": False}), "lacp-alone", "into an LACP LAG")
        self.mended(two_nics("standby", {"lacp": True}), "lag-alone", "Make uplink u of a lacp")
        self.mended(two_nics("standby", {"lacp": False}), "lag-alone", "Take p0 and p1 out of the LAG")
        self.absent(two_nics("lacp", {"lacp": True}), "lacp-alone", "lag-alone")
        self.absent(two_nics("standby"), "lacp-alone", "lag-alone", "hash-without-lag")

    def test_hashing_needs_a_static_lag(self) -> None:
        self.mended(two_nics("hashed"), "hash-without-lag", "into a static LAG")
        self.absent(two_nics("hashed", {"lacp": False}), "hash-without-lag")

    def test_ports_of_a_lag_that_differ(self) -> None:
        self.mended(
            two_nics("lacp", {"lacp": True}, ("10", "10, 20")),
            "lag-differs",
            "Make every port of LAG po1 of sw like p0",
        )
        made = two_nics("lacp", {"lacp": True})
        for port, bare in zip(made.kinds["fabric_port"], ("10", None), strict=False):
            port.update(mode="standard", allowed=None, members="10, 20", pvid=10, untagged=bare)
        self.mended(made, "lag-differs", "like p1", "differ")
        made.kinds["fabric_port"][1]["untagged"] = "10"
        self.absent(made, "lag-differs")

    def lags_between(self, x: dict[str, bool] | None, y: dict[str, bool] | None) -> Small:
        made = self.two_switches(None, None)
        for port, lag in zip(made.kinds["fabric_port"], (x, y), strict=True):
            if lag is not None:
                port["lag"] = made.put("lag", f"lag-{port['switch']}", switch=port["switch"], name="po1", **lag)
        return made

    def test_lags_of_two_switches_that_do_not_fit(self) -> None:
        self.mended(self.lags_between({"lacp": True}, {"lacp": False}), "lag-mismatch", "speak LACP too")
        self.mended(self.lags_between({"lacp": True}, None), "lag-mismatch", "Take port t of x out of po1")
        self.absent(self.lags_between({"lacp": True}, {"lacp": True}), "lag-mismatch")

    def test_nics_of_different_speeds(self) -> None:
        made = two_nics("standby")
        made.kinds["nic"][0]["speed"], made.kinds["nic"][1]["speed"] = 10_000, 1_000
        self.mended(made, "mixed-speed", "Leave n1 of a out of the team", "n0 does 10000 Mbit/s and n1 does 1000")

    def test_a_failure_beyond_the_link_is_not_noticed(self) -> None:
        for mode in ("standby", "pinned"):
            made = Small()
            made.segment(10)
            for switch in ("sw", "core", "other"):
                made.fabric(switch)
            for port in ("sw/p", "other/p", "sw/up", "core/p", "sw/up2", "core/p2"):
                made.trunk(port, "10")
            made.host("a", "sw/p", "other/p", uplink={"mode": mode})
            made.guest("a", "a1", 10)
            self.absent(made, "blind-failover")
            made.cable("sw/up", "core/p")
            self.mended(made, "blind-failover", "Let uplink u of a probe", "would not notice when sw is cut off")
            made.cable("sw/up2", "core/p2")
            self.absent(made, "blind-failover")
        made = two_nics("standby")
        made.fabric("core")
        made.trunk("core/p", "10")
        made.trunk("sw/up", "10")
        made.cable("sw/up", "core/p")
        self.absent(made, "blind-failover")

    def test_a_failover_that_nobody_is_told_of(self) -> None:
        made = two_nics("standby")
        made.kinds["uplink"][0]["announce"] = False
        self.mended(made, "silent-failover", "announce a failover")

    def test_a_team_that_stays_on_the_slower_nic(self) -> None:
        made = two_nics("standby")
        made.kinds["uplink"][0]["fail_back"] = False
        self.absent(made, "no-return")
        made.kinds["nic"][0]["speed"], made.kinds["nic"][1]["speed"] = 10_000, 1_000
        self.mended(made, "no-return", "return to n0", "stays on a slower NIC once n0 has failed")

    # --- loops and sizes --------------------------------------------------------------------------------------

    def test_a_ring_without_a_tree_is_a_loop(self) -> None:
        self.mended(ring(), "loop", "Turn the spanning tree on at x, y and z", "VID 10")
        self.absent(ring(spanning_tree=True), "loop")
        made = ring()
        made.kinds["fabric_port"][0]["allowed"] = "20"
        self.absent(made, "loop")

    def test_a_loop_in_which_frames_change_their_vid(self) -> None:
        made = Small()
        for vid in (10, 20):
            made.segment(vid)
        for name in "xy":
            made.fabric(name)
        made.trunk("x/a", "30", native=10)
        made.trunk("y/a", "30", native=20)
        made.cable("x/a", "y/a")
        self.absent(made, "loop")
        made.trunk("x/b", "40", native=10)
        made.trunk("y/b", "40", native=20)
        made.cable("x/b", "y/b")
        self.mended(made, "loop", "Disable port", "Frames go round and round over port . of x and port . of y")
        made.kinds["fabric_port"][-1]["native"] = 50
        self.absent(made, "loop")

    def test_a_switch_plugged_into_itself(self) -> None:
        made = Small()
        made.fabric("x")
        made.trunk("x/p1", "10")
        made.trunk("x/p2", "10")
        made.cable("x/p1", "x/p2")
        self.mended(made, "loop", "Take the cable of port p1 of x away", "plugged into its own switch")

    def sized(self, **sizes: int) -> Small:
        made = two_nics("standby")
        made.kinds["segment"][0]["mtu"] = 9000
        for record in made.kinds["virtual_switch"]:
            record["mtu"] = sizes.get("switch", 9000)
        for record in (*made.kinds["nic"], *made.kinds["fabric_port"]):
            record["mtu"] = 9000
        made.kinds["nic"][1]["mtu"] = sizes.get("nic", 9000)
        made.kinds["fabric_port"][2]["mtu"] = sizes.get("port", 9000)
        return made

    def test_hops_that_take_less_than_is_sent(self) -> None:
        self.absent(self.sized(), "mtu")
        self.mended(self.sized(nic=1500), "mtu", "Raise n1 of a to 9000", "n1 of a takes 1500")
        self.mended(self.sized(port=1500), "mtu", "Raise port p9 of sw", "port p9 of sw takes 1500")
        self.mended(self.sized(switch=1500), "mtu", "Send no more than 1500", "s of a takes 1500")

    def test_jumbo_frames_at_one_end_only(self) -> None:
        made = self.sized()
        for host, mtu in (("a", 9000), ("b", 1500)):
            made.put("host_port", f"{host}/hp", switch=f"{host}/s", name="hp", vid=10, belongs="s10", mtu=mtu)
        self.mended(made, "mtu", "Raise host port hp of b to 9000", "host port hp of b takes 1500")

    def test_a_narrow_cable_between_switches(self) -> None:
        made = ring(spanning_tree=True)
        made.kinds["segment"][0]["mtu"] = 9000
        made.kinds["fabric_port"][0]["mtu"] = 1500
        self.mended(made, "mtu", "Raise port y of x to 9000", "port y of x takes 1500")

    def test_an_overlay_needs_room_for_its_header(self) -> None:
        self.absent(overlay(), "mtu")
        self.risk(overlay(1500), "mtu", "over sends packets of 1500 bytes.*port p0 of sw takes 1500")

    # --- hosts and guests -------------------------------------------------------------------------------------

    def test_an_overlay_s_packets_have_to_fit_between_switches_and_through_routers(self) -> None:
        made = overlay()
        for port in made.kinds["fabric_port"]:
            port["mtu"] = 9000
        made.fabric("far")
        for end in ("sw/x", "far/x"):
            made.trunk(end, "10", mtu=9000)
        made.cable("sw/x", "far/x")
        made.kinds["cable"][1]["b"] = made.trunk("far/p", "10", mtu=9000)
        self.absent(made, "mtu")
        made.kinds["fabric_port"][2]["mtu"] = 1480
        self.mended(made, "mtu", "Raise port x of sw to 1500", "port x of sw takes 1480")
        self.mended(made, "mtu", "Send no more than 1430 on over")
        made = over_routers()
        made.kinds["station_port"][0]["mtu"] = 1400
        self.mended(made, "mtu", "Raise quay-router tag 10 to 1500", "quay-router tag 10 takes 1400")

    def test_a_host_managed_through_its_own_guest(self) -> None:
        made = pair()
        made.kinds["segment"][0]["gateways"] = ["10.64.10.1"]
        made.kinds["adapter"][0]["addresses"] = ["10.64.10.1/24"]
        made.put("host_port", "a/hp", switch="a/s", name="mgmt", vid=10, belongs="s10", services=["management"])
        self.risk(made, "own-guest", "a is managed through a1, which runs on it")
        made.kinds["host_port"][0]["gateway"] = "10.64.10.254"
        self.absent(made, "own-guest")
        del made.kinds["host_port"][0]["gateway"]
        self.mended(made, "own-guest", "Move a1 to b")

    def test_a_lock_out_is_said(self) -> None:
        made = pair("10", "20")
        for n in (2, 3):
            made.guest("a", f"a{n}", 10)
        made.put("host_port", "b/hp", switch="b/s", name="mgmt", vid=10, belongs="s10", services=["management"])
        texts = [f.text for f in everything(judge(made.plan()))]
        self.assertTrue(any("Nobody can manage b while this lasts." in t for t in texts), texts)

    def test_one_mac_on_two_adapters(self) -> None:
        made = pair()
        for adapter in made.kinds["adapter"]:
            adapter["mac"] = "02:64:00:00:00:01"
        made.kinds["adapter"][0]["mac_fixed"] = True
        self.mended(made, "mac", "Give b1 of b1 a MAC address of its own")
        mac = fresh_mac([], "b1")
        self.assertEqual(int(mac[:2], 16) & 3, 2, "locally administered, and no group address")
        self.assertNotEqual(fresh_mac([mac], "b1"), mac)

    def test_two_cables_of_one_label_or_over_one_place(self) -> None:
        made = pair()
        one, two = made.kinds["cable"][:2]
        one |= {"label": "K-1", "places": ["A 1", "B 1"]}
        two |= {"label": "K-2", "places": ["C 1"]}
        self.absent(made, "marked-twice")
        two["label"] = "K-1"
        self.risk(made, "marked-twice", "2 cables are labelled K-1")
        two |= {"label": "K-2", "places": ["B 1"]}
        self.risk(made, "marked-twice", "2 cables go over B 1")

    def test_a_gateway_that_is_not_said_to_forward(self) -> None:
        made = pair()
        made.kinds["segment"][0]["gateways"] = ["10.0.0.1"]
        self.absent(made, "shut-gateway")
        made.kinds["adapter"][0]["addresses"] = ["10.0.0.1/24"]
        self.mended(made, "shut-gateway", "Say that a1 forwards", "a1 bears the gateway of s10")
        made.kinds["guest"][0]["routes"] = True
        self.absent(made, "shut-gateway")

    def test_a_route_whose_next_hop_is_in_no_subnet_of_its_own(self) -> None:
        made = pair()
        made.kinds["adapter"][0]["addresses"] = ["10.0.0.5/24"]
        made.put("route", "out", of="guest-a1", to=["0.0.0.0/0"], via="10.0.0.1")
        self.absent(made, "lost-route")
        made.kinds["route"][0]["via"] = "10.0.1.1"
        self.mended(made, "lost-route", "Take the route over 10.0.1.1 away from a1", "a1 sends to 10.0.1.1")

    def test_addresses_stand_where_their_segment_means_them_to(self) -> None:
        made = pair()
        said = made.kinds["segment"][0]
        said.update(subnets=["10.64.10.0/24"], gateways=["10.64.10.150"], ranges=["leases 10.64.10.100-10.64.10.199"])
        made.kinds["adapter"][0]["addresses"] = ["10.64.10.150/24"]
        made.kinds["adapter"][1]["addresses"] = ["10.64.10.99/24"]
        self.absent(made, "misplaced-address")
        said["gateways"] = []
        self.mended(
            made, "misplaced-address", "Give a1 of a1 10.64.10.1, the next", "10.64.10.150 .* in a range for leases"
        )
        made.kinds["adapter"][0]["addresses"] = ["10.64.10.200/24"]
        self.absent(made, "misplaced-address")
        said["ranges"] += ["static 10.64.10.10-10.64.10.99", "reserved 10.64.10.1-10.64.10.9"]
        self.mended(
            made, "misplaced-address", "Give a1 of a1 10.64.10.10, the next", "outside the static ranges of s10"
        )
        made.kinds["adapter"][0]["addresses"] = ["10.64.10.3/24", "2001:db8::1/64"]
        self.mended(made, "misplaced-address", "10.64.10.10", "that s10 keeps for nobody")

    def test_a_pool_is_of_the_ranges_for_leases(self) -> None:
        made = pair()
        said = made.kinds["segment"][0]
        said.update(subnets=["10.64.10.0/24"], ranges=["static 10.64.10.1-10.64.10.99"])
        made.kinds["adapter"][0].update(addresses=["10.64.10.1/24"], serve_leases=True)
        scope = {"of": "guest-a1", "subnet": "10.64.10.0/24", "pool": ["10.64.10.100-10.64.10.120"]}
        made.put("lease_scope", "scope", **scope)
        self.absent(made, "strewn-pool")
        made.kinds["lease_scope"][0]["pool"] = ["10.64.10.99-10.64.10.120"]
        self.assertEqual(self.risk(made, "strewn-pool").mends, ())
        made.kinds["lease_scope"][0]["pool"] = ["10.64.10.100-10.64.10.120"]
        said["ranges"].append("leases 10.64.10.110-10.64.10.130")
        self.mended(made, "strewn-pool", "Lease 10.64.10.110-10.64.10.130", "leases addresses that s10 means for")

    def test_ranges_that_cant_be_are_refused_by_name(self) -> None:
        for ranges, says in (
            (["leases 10.64.11.1-10.64.11.9"], "leases 10.64.11.1-10.64.11.9 isn’t within a subnet of s10"),
            (["static 10.64.10.250-10.64.11.1"], "isn’t within a subnet"),
            (["static 10.64.10.1-10.64.10.9", "leases 10.64.10.9-10.64.10.20"], "overlap"),
            (["dynamic 10.64.10.1-10.64.10.9"], "no range with a purpose"),
            (["static"], "no range with a purpose"),
            (["static 10.64.10.9-10.64.10.1"], "no range of addresses"),
        ):
            made = pair()
            made.kinds["segment"][0].update(subnets=["10.64.10.0/24"], ranges=ranges)
            with self.assertRaises((AssertionError, PlanError)) as refused:
                made.plan()
            self.assertRegex(str(refused.exception), f"s10.*ranges.*{re.escape(says)}")

    def test_a_lease_server_that_nobody_bears_or_that_may_not_answer(self) -> None:
        made = pair()
        made.kinds["segment"][0]["lease_servers"] = ["10.64.10.9"]
        self.mended(made, "no-lease-server", "Take 10.64.10.9 away from s10", "Nobody in the plan bears")
        made.kinds["adapter"][0]["addresses"] = ["10.64.10.9/24"]
        self.absent(made, "no-lease-server")
        self.mended(made, "held-lease-server", "Let a1 of a1 serve leases", "a1 leases the addresses of s10")
        made.kinds["adapter"][0]["serve_leases"] = True
        self.absent(made, "held-lease-server")
        del made.kinds["adapter"][0]["serve_leases"]
        made.kinds["port_group"][0]["serve_leases"] = True
        self.absent(made, "held-lease-server")

    def test_a_guest_that_teams_adapters_of_two_vlans(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "a2", 20)
        made.kinds["adapter"][2]["guest"] = "guest-a1"
        for n in (0, 2):
            made.kinds["adapter"][n]["team"] = "bond0"
        self.mended(made, "guest-team", "Put all of them where a1 is")

    def test_a_mirror_across_segments(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "a2", 20)
        made.put("mirror", "m", source="a1", target="a2", direction="sent")
        self.mended(made, "mirror", "Take the mirror of a1 of a1 away")

    def test_limits(self) -> None:
        made = pair()
        made.put("limits", "sheet", paravirtual_adapters=0, port_groups=1)
        kinds = [r.title for r in risks(judge(made.plan())) if r.what == "limit"]
        self.assertEqual(kinds, [f"{g} has 1 paravirtual adapter; 0 is the most" for g in ("a1", "b1")])
        made.put("guest", "gd", host="a", name="gd")
        for n in range(2):
            made.put("adapter", f"d{n}", guest="gd", name=f"d{n}", type="direct", function_of="a/n0", belongs="s10")
        made.kinds["limits"][0]["functions"] = 1
        self.assertEqual(len([r for r in risks(judge(made.plan())) if r.what == "limit"]), 3)
        made.kinds["nic"][0]["functions"] = 8
        self.assertEqual(
            len([r for r in risks(judge(made.plan())) if r.what == "limit"]), 2, "the NIC's own word counts"
        )

    def test_what_exceeds_a_limit_goes_elsewhere(self) -> None:
        made = pair()
        made.put("limits", "sheet", paravirtual_adapters=1)
        made.put("adapter", "more", guest=made.kinds["adapter"][0]["guest"], name="more", port_group="a/g10", order=1)
        self.mended(made, "limit", "Make more emulated")
        made = pair()
        made.put("limits", "sheet", port_groups=1)
        made.put("port_group", "a/twin", switch="a/s", name="twin", mode="access", vid=10)
        self.assertEqual(self.titles(made, "limit"), ["Drop twin, unused", "Merge twin with g10"])
        made.guest("a", "a2", 10)
        made.kinds["adapter"][-1]["port_group"] = "a/twin"
        self.mended(made, "limit", "Merge twin with g10")
        made = two_nics("standby")
        for n in range(2):
            made.put("guest", f"gd{n}", host="a", name=f"gd{n}")
            made.put(
                "adapter", f"d{n}", guest=f"gd{n}", name=f"d{n}", type="direct", function_of="a/n0", function_vid=10
            )
        made.kinds["nic"][0]["functions"], made.kinds["nic"][1]["functions"] = 1, 4
        self.mended(made, "limit", "Put d1 of gd1 on n1")

    def titles(self, made: Small, what: str) -> list[str]:
        judgement = judge(made.plan())
        risk = next(r for r in risks(judgement) if r.what == what)
        return sorted(m.title for m in mends(judgement, risk))

    # --- tidiness ---------------------------------------------------------------------------------------------

    def test_an_adapter_that_deviates_from_its_port_group(self) -> None:
        made = pair()
        made.kinds["adapter"][0].update(overhear=True, send_rate=1000, new_address=False)
        self.mended(made, "deviation", "Let them follow port group g10 of a", "overhear, send rate")

    def test_two_adapters_of_a_guest_under_one_name(self) -> None:
        made = pair()
        made.put("adapter", "more", guest=made.kinds["adapter"][0]["guest"], name="more", seen_as="lan0", order=1)
        made.kinds["adapter"][0]["seen_as"] = "lan0"
        self.mended(made, "seen-name", "Leave the name to a1", "a1 and more")
        made.kinds["adapter"][-1]["seen_as"] = "lan1"
        self.absent(made, "seen-name")

    def test_one_name_for_port_groups_of_two_switches(self) -> None:
        made = pair("10", "10")
        self.absent(made, "same-name")
        made.put("virtual_switch", "a/t", host="a", name="t")
        made.put("port_group", "a/t/g", switch="a/t", name="g10", mode="access", vid=10)
        self.mended(
            made, "same-name", "Add the switch’s name", "Several port groups are called g10 on a. They are on s and t"
        )

    def test_a_port_group_that_nobody_sits_in(self) -> None:
        made = pair()
        made.put("port_group", "a/e", switch="a/s", name="empty", mode="access", vid=10)
        self.mended(made, "empty-group", "Remove port group empty on a")

    def test_vids_that_a_switch_defines_for_nobody(self) -> None:
        made = pair()
        made.kinds["fabric_switch"][0]["vlans"] = "10, 77, 78"
        self.mended(made, "unused-vid", "Define only 10 on sw", "77, 78")

    def test_two_segments_with_one_vid(self) -> None:
        made = pair()
        made.put("segment", "again", name="again", vid=10)
        self.mended(made, "doubled-vid", "free VID 11")

    def test_two_port_groups_with_one_tag(self) -> None:
        made = pair()
        made.put("port_group", "a/again", switch="a/s", name="again", mode="access", vid=10)
        self.mended(made, "twin-groups", "Keep again alone", "again and g10 of s of a are the same")

    def test_one_name_for_two_tags(self) -> None:
        made = pair()
        for host in "cd":
            made.host(host)
            made.put("port_group", f"{host}/g", switch=f"{host}/s", name="g10", mode="access", vid=10 + (host == "d"))
        self.mended(made, "name", "Make g10 access 10 on d too", "access 10 on a and 2 more, and access 11 on d")

    def test_an_overlay_whose_addresses_another_segment_has(self) -> None:
        made = overlay()
        made.kinds["segment"][0]["subnets"] = ["10.64.0.0/16"]
        self.risk(made, "overlap", "Overlay over uses addresses of s10. That is allowed")

    # --- freedoms, limits, addresses -----------------------------------------------------------------------------

    def test_guards_that_a_port_group_leaves_open_for_all(self) -> None:
        made = pair()
        made.kinds["port_group"][0].update(overhear=True, foreign_source=True)
        self.absent(made, "guards")
        made.guest("a", "a2", 10)
        self.mended(
            made, "guards", "^Close overhear", "All 2 adapters of port group g10 of a may overhear and foreign source"
        )

    def test_a_limit_above_what_the_uplink_carries(self) -> None:
        made = pair()
        made.kinds["port_group"][0]["send_rate"] = 20_000_000
        self.absent(made, "rate")  # nobody knows how fast the NIC is
        made.kinds["nic"][0]["speed"] = 10_000
        self.mended(made, "rate", "to 10000000 kbit/s", "limits adapters to more than its uplink carries")
        made.kinds["port_group"][0]["send_rate"] = 5_000_000
        self.absent(made, "rate")

    def test_a_gateway_that_its_subnet_cannot_reach(self) -> None:
        made = pair()
        segment = made.kinds["segment"][0]
        segment.update(subnets=["10.64.10.0/24"], gateways=["10.64.11.1"])
        self.mended(made, "gateway", "Take 10.64.11.1 away", "isn’t in 10.64.10.0/24")
        segment["gateways"] = ["10.64.10.255"]
        self.risk(made, "gateway", "network or broadcast address of 10.64.10.0/24")
        segment["gateways"] = ["10.64.10.254"]
        self.absent(made, "gateway")
        segment.update(subnets=["10.64.10.0/31"], gateways=["10.64.10.1"])
        self.absent(made, "gateway")

    def test_subnets_that_two_segments_claim(self) -> None:
        made = pair()
        made.segment(20, subnets=["10.64.10.128/25"])
        made.kinds["segment"][0]["subnets"] = ["10.64.10.0/24"]
        self.absent(made, "overlap")  # nobody is on the second
        made.guest("b", "b2", 20)
        self.risk(made, "overlap", "s10 and s20 have overlapping subnets")
        made.kinds["segment"][1]["subnets"] = ["10.64.20.0/24", "2001:db8::/64"]
        self.absent(made, "overlap")

    def test_stations_of_one_address(self) -> None:
        made = pair()
        for n in "xy":
            made.trunk(f"sw/{n}", "10")
            made.put("station", n, name=n)
            made.put("station_port", f"{n}p", station=n, port=f"sw/{n}", vid=10, addresses=["10.64.10.1/24"])
        self.mended(made, "station-twin", "10.64.10.1 is shared on purpose", "x and y bear 10.64.10.1")

    def test_the_smallest_sound_plan_has_no_risk_but_its_single_nics(self) -> None:
        self.assertEqual([r.what for r in risks(judge(pair("10", "10").plan()))], ["single-nic"])

    def test_every_risk_of_the_demo_has_a_proof(self) -> None:
        judgement = judge(demo_plan())
        for risk in risks(judgement):
            self.assertTrue(proof(judgement, risk)[0].hops, risk.title)


if __name__ == "__main__":
    unittest.main()

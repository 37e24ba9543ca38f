"""Teams and LAGs, private VLANs, overlays, stations, direct adapters, wireless NICs, spanning trees: what frames do there."""

from __future__ import annotations

import unittest

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.frames import LARGE, Frames
from aptwire.forward.hearing import hears
from aptwire.forward.trace import trace
from aptwire.forward.tree import port_order
from aptwire.judge.findings import findings
from aptwire.judge.judgement import Judgement
from aptwire.judge.mends import mends
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge, rejudge
from aptwire.plan.edits import Patch, apply_edit, touched
from aptwire.plan.kinds import FabricPort

from tests.support import JudgedCase, Small


class Case(JudgedCase):
    def first(self, judgement: Judgement):
        return findings(judgement)[0]


def two_nics(mode: str, lag: dict[str, bool] | None = None, ports: tuple[str, str] = ("10", "10")) -> Small:
    """Host a with two NICs into sw, guest a1; host b with guest b1."""
    made = Small()
    made.segment(10)
    made.fabric("sw")
    more = {}
    if lag is not None:
        more = {"lag": made.put("lag", "lag", switch="sw", name="po1", **lag)}
    for n, allowed in enumerate(ports):
        made.trunk(f"sw/p{n}", allowed, **more)
    made.trunk("sw/p9", "10")
    made.host("a", "sw/p0", "sw/p1", uplink={"mode": mode})
    made.host("b", "sw/p9")
    made.guest("a", "a1", 10)
    made.guest("b", "b1", 10)
    return made


class LagTest(Case):
    def test_lacp_with_an_lacp_lag_is_home_and_a_differing_member_wavers(self) -> None:
        self.judged(two_nics("lacp", {"lacp": True}), a1="home")
        found = self.judged(two_nics("lacp", {"lacp": True}, ("10", "20")), a1="wavering")
        self.assertIn("over n1 of a", self.first(found).title)

    def two_switches(self, one: bool = True, lacp: bool = True, peer: str = "10") -> Small:
        """Hosts a and b with a NIC each into sw and sx, whose LAGs are one (or not), and a cable between the two."""
        made = Small()
        made.segment(10)
        for switch in ("sw", "sx"):
            made.fabric(switch)
            made.trunk(f"{switch}/peer", peer)
        made.cable("sw/peer", "sx/peer")
        for n, host in enumerate("ab"):
            for switch in ("sw", "sx"):
                more = {"beside": f"sw-{host}"} if one and switch == "sx" else {}
                lag = made.put("lag", f"{switch}-{host}", switch=switch, name=f"po{n}", lacp=lacp, **more)
                made.trunk(f"{switch}/p{n}", "10", lag=lag)
            made.host(host, f"sw/p{n}", f"sx/p{n}", uplink={"mode": "lacp" if lacp else "hashed"})
            made.guest(host, f"{host}1", 10)
        return made

    def test_lags_of_two_switches_are_one_where_that_is_said(self) -> None:
        def told(made: Small) -> set[str]:
            found = {risk.what for risk in risks(self.judged(made, a1="home", b1="home"))}
            return found & {"lacp-alone", "hash-without-lag", "lag-differs"}

        for lacp in (True, False):
            self.assertEqual(told(self.two_switches(lacp=lacp)), set())
            self.assertEqual(told(self.two_switches(False, lacp)), {"lacp-alone" if lacp else "hash-without-lag"})
        made = self.two_switches(False)
        judgement = judge(made.plan())
        risk = next(r for r in risks(judgement) if r.what == "lacp-alone")
        (mend,) = (m for m in mends(judgement, risk) if "are one towards hosts" in m.title)
        self.assertEqual(mend.title, "Say that LAG po0 of sw and LAG po0 of sx are one towards hosts")
        # Both members carry then, so what one of them lacks is felt; before, only one LAG's did.
        made = self.two_switches()
        next(p for p in made.kinds["fabric_port"] if p["id"] == "sx/p0")["allowed"] = "20"
        found = self.judged(made, a1="wavering")
        self.assertIn("over n1 of a", self.first(found).title)
        self.assertIn("lag-differs", {risk.what for risk in risks(found)})
        made = self.two_switches(False)
        next(p for p in made.kinds["fabric_port"] if p["id"] == "sx/p0")["allowed"] = "20"
        self.judged(made, a1="home")

    def test_without_a_link_between_them_the_two_switches_part_those_behind_them(self) -> None:
        self.judged(self.two_switches(peer="20"), a1="wavering", b1="wavering")

    def test_what_cannot_be_one_lag_is_refused(self) -> None:
        made = self.two_switches()
        made.put("lag", "third", switch="sx", name="po9", beside="sw-a")
        made.put("lag", "static", switch="sx", name="po8", lacp=False, beside="sw-b")
        with self.assertRaises(AssertionError) as caught:
            made.plan()
        self.assertIn("one of these is one with another already", str(caught.exception))
        made = self.two_switches(False)
        made.kinds["lag"][0].update(beside="sx-a", lacp=False)
        with self.assertRaises(AssertionError) as caught:
            made.plan()
        self.assertIn("is by LACP, and this one isn’t", str(caught.exception))

    def test_an_edit_of_one_side_is_felt_on_the_other(self) -> None:
        plan = self.two_switches(False).plan()
        judgement = judge(plan)
        for edit in (
            (Patch("lag", "sx-a", {"beside": "sw-a"}),),
            (Patch("fabric_port", "sx/p0", {"allowed": "20"}),),
            (Patch("fabric_port", "sw/p0", {"enabled": False}),),
            (Patch("lag", "sx-a", {"beside": None}),),
        ):
            plan, _ = apply_edit(plan, edit)
            judgement = rejudge(judgement, plan, touched(edit))
            self.assertEqual(judgement.verdicts(), judge(plan).verdicts(), edit)

    def test_lacp_without_a_lag_goes_over_a_single_nic(self) -> None:
        self.judged(two_nics("lacp"), a1="home")
        self.judged(two_nics("lacp", ports=("10", "20")), a1="wavering")

    def test_lacp_against_a_static_lag_loses_answers(self) -> None:
        found = self.judged(two_nics("lacp", {"lacp": False}), a1="wavering")
        self.assertIn("when answers come back over", self.first(found).title)
        self.assertIn("drops what comes back over it", self.first(found).text)

    def test_standby_against_a_static_lag_loses_answers_too(self) -> None:
        self.judged(two_nics("standby", {"lacp": False}), a1="wavering")
        self.judged(two_nics("hashed", {"lacp": False}), a1="home")

    def test_standby_against_an_lacp_lag_is_blocked_unless_ports_stand_alone(self) -> None:
        found = self.judged(two_nics("standby", {"lacp": True, "individual": False}), a1="stranded")
        self.assertIn("gets no LACP answer", self.first(found).text)
        self.judged(two_nics("standby", {"lacp": True, "individual": True}), a1="home")

    def function(self, *team: object) -> Small:
        """A virtual function v of the first NIC of such a team, and one more guest on host b."""
        made = two_nics(*team)  # type: ignore[arg-type]
        made.guest("b", "b2", 10)
        made.put("guest", "g-v", host="a", name="v")
        function = {"type": "direct", "function_of": "a/n0", "function_vid": 10}
        made.put("adapter", "v", guest="g-v", name="v", belongs="s10", **function)
        return made

    def test_a_function_of_a_nic_in_a_lag_misses_what_comes_over_the_nic_beside(self) -> None:
        for team in (("lacp", {"lacp": True}), ("hashed", {"lacp": False})):
            found = self.judged(self.function(*team), v="wavering")
            self.assertIn("when answers come back over n1 of a", self.first(found).title)
            self.assertIn("doesn’t get to the virtual functions of n0 of a", self.first(found).text)
            titles = [mend.title for mend in mends(found, self.first(found))]
            self.assertEqual(titles, ["Take v off its card and move it to port group g10"])
            place = found.wiring.place("v")
            assert place is not None
            self.assertTrue(trace(found.wiring, place, found.wiring.place("b1")).delivered)  # type: ignore[arg-type]
        alone = self.function("lacp", {"lacp": True})
        alone.kinds["nic"][1]["link"] = "down"
        self.judged(alone, v="home")
        self.judged(self.function("hashed"), v="home")

    def test_a_lag_that_blocks_a_port_cuts_off_its_functions_too(self) -> None:
        found = self.judged(self.function("standby", {"lacp": True, "individual": False}), v="stranded", b1="home")
        own = next(f for f in findings(found) if any(p.record == "v" for p in f.places))
        self.assertIn("N0 of a gets no LACP answer, so po1 blocks its port", own.text)
        self.assertEqual([mend.title for mend in mends(found, own)], ["Take p0 and p1 out of the LAG"])

    def test_a_member_in_another_lag_stands_idle(self) -> None:
        made = two_nics("lacp", {"lacp": True}, ("10", "20"))
        made.put("lag", "other", switch="sw", name="po2")
        made.kinds["fabric_port"][1]["lag"] = "other"
        judgement = self.judged(made, a1="home")
        team = next(judgement.wiring.all_teams())
        self.assertEqual([m.dead for m in team.members], ["", "is not in the LAG of the others"])

    def test_a_member_of_another_speed_stands_idle(self) -> None:
        made = two_nics("lacp", {"lacp": True}, ("10", "20"))
        for nic, speed in zip(made.kinds["nic"], (10_000, 1_000), strict=False):
            nic["speed"] = speed
        judgement = self.judged(made, a1="home")
        team = next(judgement.wiring.all_teams())
        self.assertEqual([m.dead for m in team.members], ["", "does another speed than the rest of the LAG"])

    def test_a_fabric_lag_whose_cables_differ_wavers(self) -> None:
        made = Small()
        made.segment(10)
        for side in "xy":
            made.fabric(side)
            lag = made.put("lag", f"{side}/lag", switch=side, name="po1")
            made.trunk(f"{side}/p1", "10", lag=lag)
            made.trunk(f"{side}/p2", "10" if side == "x" else "20", lag=lag)
            made.trunk(f"{side}/h", "10")
        made.cable("x/p1", "y/p1")
        made.cable("x/p2", "y/p2")
        made.host("a", "x/h")
        made.host("b", "y/h")
        made.guest("a", "a1", 10)
        made.guest("b", "b1", 10)
        found = self.judged(made, a1="wavering", b1="wavering")
        self.assertIn("over port p2 of x", self.first(found).title)
        made.kinds["fabric_port"][-2]["allowed"] = "10"
        self.judged(made, a1="home", b1="home")


class OrderTest(Case):
    def test_a_port_group_has_an_order_of_its_own(self) -> None:
        made = two_nics("standby", ports=("20", "10"))
        self.judged(made, a1="wavering")
        group = made.kinds["adapter"][0]["port_group"]
        made.put("group_order", "o0", port_group=group, nic="a/n0", role="excluded")
        made.put("group_order", "o1", port_group=group, nic="a/n1", role="active")
        judgement = self.judged(made, a1="home")
        way = trace(judgement.wiring, judgement.wiring.place("a1"), judgement.wiring.place("b1"))
        self.assertTrue(way.delivered)
        self.assertTrue(any("n1 of a" in hop.where for hop in way.hops))
        self.assertEqual(hears(made.plan())["b/b1|"], ["a/a1|"])

    def test_neighbours_that_are_alone_on_their_segment_meet_whatever_ways_out_they_have(self) -> None:
        made = two_nics("standby", ports=("10, 20", "10, 20"))
        made.segment(20)
        made.guest("a", "a2", 20)
        group = made.put("port_group", "a/odd", switch="a/s", name="odd", mode="access", vid=20)
        for n in (0, 1):
            made.put("group_order", f"o{n}", port_group=group, nic=f"a/n{n}", role="excluded")
        made.put("guest", "g3", host="a", name="a3")
        made.put("adapter", "a3", guest="g3", name="a3", port_group=group, belongs="s20")
        # One of them gets out and the other doesn't; within their switch they hear each other.
        self.judged(made, a2="home", a3="home")
        made.guest("b", "b2", 20)
        for port in made.kinds["fabric_port"]:
            port["allowed"] = "10, 20"
        self.judged(made, a2="home", b2="home", a3="stranded")

    def test_other_groups_keep_the_order_of_the_uplink(self) -> None:
        made = two_nics("standby", ports=("20", "10"))
        made.segment(20)
        made.guest("a", "a2", 20)
        made.put("group_order", "o1", port_group="a/g10", nic="a/n0", role="standby", rank=5)
        plan = made.plan()
        team = {t.order: [m.nic.name for m in t.members] for t in compile_wiring(plan).teams_at(0, "")}
        wiring = compile_wiring(plan)
        orders = {t.order: [m.nic.name for m in t.members] for t in wiring.blocks["a/s"].teams}
        self.assertEqual(orders, {"": ["n0", "n1"], "a/g10": ["n1", "n0"]})
        self.assertFalse(team)


def private() -> Small:
    """A gateway on a promiscuous port of a; on b two isolated guests and two of a community."""
    made = Small()
    made.put("segment", "s10", name="s10", vid=10, gateways=["10.64.10.1"])
    made.put("secondary_vlan", "iso", segment="s10", vid=11, type="isolated")
    made.put("secondary_vlan", "com", segment="s10", vid=12, type="community")
    made.fabric("sw")
    for n, host in enumerate("ab"):
        made.trunk(f"sw/p{n}", "10-12")
        made.host(host, f"sw/p{n}")
    for host, vid, names in (("a", 10, ["gw"]), ("b", 11, ["i1", "i2"]), ("b", 12, ["c1", "c2"]), ("a", 11, ["i3"])):
        group = made.put("port_group", f"{host}/g{vid}", switch=f"{host}/s", name=f"g{vid}", mode="private", vid=vid)
        for name in names:
            guest = made.put("guest", f"guest-{name}", host=host, name=name)
            own = ["10.64.10.1/24"] if name == "gw" else []
            made.put("adapter", name, guest=guest, name=name, port_group=group, belongs="s10", addresses=own)
    return made


class PrivateTest(Case):
    def test_who_hears_whom(self) -> None:
        heard = hears(private().plan())
        self.assertEqual(heard["a/gw|"], ["a/i3|", "b/c1|", "b/c2|", "b/i1|", "b/i2|"])
        self.assertEqual(heard["b/i1|"], ["a/gw|"], "isolated ports don't hear each other, not even on another host")
        self.assertEqual(heard["b/c1|"], ["a/gw|", "b/c2|"])

    def test_all_are_home_when_each_reaches_its_gateway(self) -> None:
        self.judged(private(), gw="home", i1="home", i2="home", i3="home", c1="home", c2="home")

    def test_a_secondary_missing_on_the_way_strands_its_members_alone(self) -> None:
        made = private()
        made.kinds["fabric_port"][1]["allowed"] = "10, 12"
        judgement = self.judged(made, i1="stranded", i2="stranded", i3="home", c1="home", gw="home")
        titles = [m.title for m in mends(judgement, self.first(judgement))]
        self.assertIn("Allow 11 on port p1 of sw", titles)

    def test_the_primary_missing_silences_the_gateway(self) -> None:
        made = private()
        made.kinds["fabric_port"][1]["allowed"] = "11, 12"
        self.judged(made, i1="stranded", c1="stranded", i3="home")

    def test_one_of_two_routers_that_share_an_address_is_enough(self) -> None:
        made = private()
        made.kinds["fabric_port"][1]["allowed"] = "12"
        self.judged(made, i1="stranded", c1="stranded", i3="home")
        made.kinds["fabric_port"][1]["allowed"] = ""
        group = made.put("port_group", "b/g10", switch="b/s", name="g10", mode="private", vid=10)
        guest = made.put("guest", "guest-gw2", host="b", name="gw2")
        own = ["10.64.10.1/24"]
        made.put("adapter", "gw2", guest=guest, name="gw2", port_group=group, belongs="s10", addresses=own)
        self.judged(made, gw="home", gw2="home", i1="home", i2="home", i3="home", c1="home")

    def test_a_private_fabric_port(self) -> None:
        made = private()
        made.put("fabric_port", "sw/p5", switch="sw", name="p5", mode="private", vid=11)
        made.host("c", "sw/p5")
        made.guest("c", "c9", None, "s10")
        heard = hears(made.plan())
        self.assertEqual(heard["c/c9|"], ["a/gw|"])
        self.judged(made, c9="home")


def overlay(mtu: int | None = None) -> Small:
    """Two hosts whose host ports on VID 10 carry VNI 5010; a guest in it on each."""
    made = Small()
    made.segment(10)
    made.put("segment", "over", name="over", vni=5010, mtu=mtu or 1450, subnets=["10.64.7.0/24"])
    made.fabric("sw")
    for n, host in enumerate("ab"):
        made.trunk(f"sw/p{n}", "10", mtu=1500)
        made.host(host, f"sw/p{n}")
        made.put("host_port", f"{host}/hp", switch=f"{host}/s", name="hp", vid=10, belongs="s10")
        made.put("port_group", f"{host}/o", switch=f"{host}/s", name="o", mode="overlay", vni=5010, over=f"{host}/hp")
        guest = made.put("guest", f"guest-{host}", host=host, name=f"g{host}")
        made.put("adapter", f"{host}1", guest=guest, name=f"{host}1", port_group=f"{host}/o", belongs="over")
    return made


class OverlayTest(Case):
    def test_members_meet_through_the_tunnel_and_nobody_else_hears_them(self) -> None:
        made = overlay()
        made.guest("a", "a2", 10)
        judgement = self.judged(made, a1="home", b1="home", a2="home")
        self.assertEqual(hears(made.plan()), {"a/a1|": ["b/b1|"], "b/b1|": ["a/a1|"], "a/a2|": []})
        found = trace(judgement.wiring, judgement.wiring.place("a1"), judgement.wiring.place("b1"))
        self.assertTrue(found.delivered)
        self.assertIn("VNI 5010", [hop.after for hop in found.hops])
        other = trace(judgement.wiring, judgement.wiring.place("a1"), judgement.wiring.place("a2"))
        self.assertFalse(other.delivered)
        self.assertTrue(any("isn’t in overlay 5010" in hop.reason for hop in other.hops))

    def test_where_the_tunnel_breaks_the_overlay_does(self) -> None:
        made = overlay()
        made.kinds["fabric_port"][1]["allowed"] = "20"
        judgement = self.judged(made, a1="stranded", b1="stranded", **{"a/hp": "stranded"})
        found = next(f for f in findings(judgement) if "a1" in f.endpoints)
        self.assertIn("Allow 10 on port p1 of sw", [m.title for m in mends(judgement, found)])

    def test_a_member_of_another_overlay_is_astray(self) -> None:
        made = overlay()
        made.kinds["port_group"][1]["vni"] = 5011
        self.judged(made, b1="astray")

    def test_a_disconnected_host_port_carries_nothing(self) -> None:
        made = overlay()
        made.kinds["host_port"][1]["connected"] = False
        judgement = self.judged(made, b1="astray")
        self.assertIn("host port hp, which is disconnected", self.first(judgement).text)


def routed(routes: bool = True) -> Small:
    """The overlay of three hosts, one of them in another subnet; a router on a trunk is the gateway of both."""
    made = overlay()
    made.segment(20)
    made.trunk("sw/p2", "20")
    made.host("c", "sw/p2")
    made.put("host_port", "c/hp", switch="c/s", name="hp", vid=20, belongs="s20", addresses=["10.64.20.13/24"])
    made.put("port_group", "c/o", switch="c/s", name="o", mode="overlay", vni=5010, over="c/hp")
    made.put("guest", "guest-c", host="c", name="gc")
    made.put("adapter", "c1", guest="guest-c", name="c1", port_group="c/o", belongs="over")
    for n in range(2):
        made.kinds["host_port"][n]["addresses"] = [f"10.64.10.1{n}/24"]
    made.trunk("sw/r", "10, 20")
    made.put("station", "router", name="quay-router", routes=routes)
    for vid in (10, 20):
        own = [f"10.64.{vid}.1/24"]
        made.put("station_port", f"r{vid}", station="router", port="sw/r", vid=vid, belongs=f"s{vid}", addresses=own)
    for segment in made.kinds["segment"]:
        if segment["id"] != "over":
            segment["gateways"] = [f"10.64.{segment['vid']}.1"]
    return made


class RoutedOverlayTest(Case):
    def test_a_router_joins_tunnel_ends_of_two_subnets(self) -> None:
        made = routed()
        judgement = self.judged(made, a1="home", b1="home", c1="home")
        self.assertEqual(hears(made.plan())["a/a1|"], ["b/b1|", "c/c1|"])
        found = trace(judgement.wiring, judgement.wiring.place("a1"), judgement.wiring.place("c1"))
        self.assertTrue(found.delivered)
        self.assertIn("quay-router tag 10", [hop.where for hop in found.hops])
        judgement = self.judged(routed(routes=False), a1="home", b1="home", c1="stranded")
        self.assertEqual(hears(routed(routes=False).plan())["a/a1|"], ["b/b1|"])

    def test_where_the_way_to_the_router_breaks_it_is_mended(self) -> None:
        made = routed()
        made.kinds["fabric_port"][2]["allowed"] = "30"
        judgement = self.judged(made, a1="home", b1="home", c1="stranded")
        found = next(f for f in findings(judgement) if "c1" in f.endpoints)
        self.assertIn("Allow 20 on port p2 of sw", [m.title for m in mends(judgement, found)])

    def test_an_end_without_gateway_reaches_its_own_subnet_alone(self) -> None:
        made = routed()
        made.kinds["segment"][-1]["gateways"] = []
        judgement = self.judged(made, a1="home", b1="home", c1="stranded")
        found = next(f for f in findings(judgement) if "c1" in f.endpoints)
        mend = mends(judgement, found)[0]
        self.assertEqual(mend.title, "Give 10.64.20.1 as its gateway to host port hp of c")
        self.assertEqual(judge(mend.preview.plan).verdicts()["c1"], "home")

    def test_large_packets_end_at_a_router_that_takes_less(self) -> None:
        made = routed()
        for kind in ("fabric_port", "virtual_switch"):
            for record in made.kinds[kind]:
                record["mtu"] = 9000
        frames = Frames(compile_wiring(made.plan()))
        self.assertEqual({seat for seat, _ in frames.heard("a1", None, LARGE)}, {"b1", "c1"})
        made.kinds["station_port"][1]["mtu"] = 1500
        frames = Frames(compile_wiring(made.plan()))
        self.assertEqual({seat for seat, _ in frames.heard("a1", None, LARGE)}, {"b1"})
        self.assertEqual({seat for seat, _ in frames.heard("a1", None)}, {"b1", "c1"})

    def test_over_each_member_of_a_team_and_for_each_of_two_routers(self) -> None:
        made = routed()
        made.trunk("sw/p9", "30")
        made.put("nic", "c/n1", host="c", name="n1", uplink="c/u", rank=1)
        made.cable("c/n1", "sw/p9")
        self.judged(made, a1="home", c1="wavering")
        made = routed()
        made.kinds["station_port"][1]["station"] = made.put("station", "other", name="marsh-router", routes=True)
        made.kinds["station_port"][1]["port"] = made.trunk("sw/r2", "20")
        self.judged(made, a1="home", b1="home", c1="stranded")

    def test_one_address_twice_and_two_segments_meet_over_the_router(self) -> None:
        made = routed()
        for adapter in made.kinds["adapter"]:
            adapter["addresses"] = ["10.64.7.5/24"] if adapter["id"] in ("a1", "c1") else []
        self.judged(made, a1="exposed", b1="home", c1="exposed")
        # A host that has nothing to do with them, and whose switch has two uplinks, changes nothing.
        made.host("zz")
        for n in range(4):
            made.trunk(f"sw/z{n}", "77")
            made.put("nic", f"zz/n{n}", host="zz", name=f"n{n}", uplink=f"zz/u{n // 2}", rank=n)
            made.cable(f"zz/n{n}", f"sw/z{n}")
        for n in range(2):
            made.put("uplink", f"zz/u{n}", switch="zz/s", name=f"u{n}", allowed=str(77 + n))
        self.judged(made, a1="exposed", b1="home", c1="exposed")
        made = routed()
        made.put("segment", "other", name="other", vni=5011)
        made.kinds["adapter"][-1]["belongs"] = "other"
        self.judged(made, c1="astray")


class EdgeTest(Case):
    def test_a_station_is_a_gateway_on_each_of_its_tags(self) -> None:
        made = Small()
        for vid in (10, 20):
            made.segment(vid, gateways=[f"10.64.{vid}.1"])
        made.fabric("sw")
        made.trunk("sw/r", "10, 20")
        made.trunk("sw/p", "10")
        made.host("a", "sw/p")
        made.guest("a", "a1", 10)
        made.guest("a", "a2", 20)
        made.put("station", "router", name="quay-router", routes=True)
        for vid in (10, 20):
            own = [f"10.64.{vid}.1/24"]
            made.put(
                "station_port", f"r{vid}", station="router", port="sw/r", vid=vid, belongs=f"s{vid}", addresses=own
            )
        judgement = self.judged(made, a1="home", a2="stranded")
        self.assertNotIn("r10", judgement.verdicts(), "a station is no endpoint of the plan's own")
        found = self.first(judgement)
        self.assertIn("gateway", found.title)
        self.assertEqual(mends(judgement, found)[0].title, "Allow 20 on port p of sw")
        self.assertEqual(sum(judgement.counts().values()), 2)

    def test_a_direct_adapter_goes_past_the_switch_but_not_past_the_port(self) -> None:
        made = two_nics("standby")
        made.kinds["uplink"][0]["allowed"] = "20"
        guest = made.put("guest", "guest-d", host="a", name="d")
        function = {"type": "direct", "function_of": "a/n0", "function_vid": 10}
        made.put("adapter", "d1", guest=guest, name="d1", belongs="s10", **function)
        self.judged(made, d1="home", a1="stranded", b1="home")
        self.assertEqual(hears(made.plan())["a/d1|"], ["b/b1|"])
        made.kinds["uplink"][0]["allowed"] = "10"
        self.assertEqual(hears(made.plan())["a/d1|"], ["a/a1|", "b/b1|"], "the NIC's own switch joins both")
        made.kinds["uplink"][0]["allowed"] = "20"
        made.kinds["fabric_port"][0]["allowed"] = "20"
        self.judged(made, d1="stranded")

    def test_a_wireless_nic_carries_the_host_and_no_guests_and_no_tags(self) -> None:
        made = Small()
        made.put("segment", "plain", name="plain")
        made.segment(10)
        made.fabric("sw", managed=False)
        for n, host in enumerate("ab"):
            made.access(f"sw/p{n}", 1)
            made.host(host, f"sw/p{n}")
            made.put("host_port", f"{host}/hp", switch=f"{host}/s", name="hp", belongs="plain")
            made.guest(host, f"{host}1", None)
            made.guest(host, f"{host}2", 10)
        self.judged(made, a1="home", a2="home", **{"a/hp": "home"})
        made.kinds["nic"][0]["wireless"] = True
        judgement = self.judged(made, a1="stranded", a2="stranded", **{"a/hp": "home"})
        self.assertTrue(any("sends with the host’s own address only" in f.text for f in findings(judgement)))


def ring(**switch: object) -> Small:
    """Three switches in a ring, a host on each of the first two."""
    made = Small()
    made.segment(10)
    for n, name in enumerate("xyz"):
        made.fabric(name, mac=f"02:00:00:00:00:0{n}", **switch)
    for a, b in ("xy", "yz", "zx"):
        made.trunk(f"{a}/{b}", "10")
        made.trunk(f"{b}/{a}", "10")
        made.cable(f"{a}/{b}", f"{b}/{a}")
    for n, name in enumerate("xy"):
        made.trunk(f"{name}/h", "10")
        made.host("ab"[n], f"{name}/h")
        made.guest("ab"[n], f"{'ab'[n]}1", 10)
    return made


class TreeTest(Case):
    def test_the_lowest_bridge_is_the_root_and_the_farthest_cable_is_blocked(self) -> None:
        tree = compile_wiring(ring(spanning_tree=True).plan()).fabric.tree
        self.assertEqual(set(tree.roots.values()), {"x"})
        self.assertEqual(tree.blocked, {"c:y/z:z/y": "z"})
        self.assertEqual(tree.cost, {"x": 0, "y": 20_000, "z": 20_000})

    def test_priority_comes_before_the_address_and_speed_decides_the_way(self) -> None:
        made = ring(spanning_tree=True)
        made.kinds["fabric_switch"][2]["priority"] = 4096
        for port in made.kinds["fabric_port"]:
            port["speed"] = 100 if port["id"] in ("x/z", "z/x") else 10_000
        tree = compile_wiring(made.plan()).fabric.tree
        self.assertEqual(set(tree.roots.values()), {"z"})
        self.assertEqual(tree.cost["x"], 4_000, "two hops of 10 Gbit/s are nearer than one of 100 Mbit/s")
        self.assertEqual(tree.blocked, {"c:z/x:x/z": "x"})

    def test_frames_go_by_the_tree(self) -> None:
        made = ring(spanning_tree=True)
        self.judged(made, a1="home", b1="home")
        made.kinds["fabric_port"][0]["allowed"] = "20"
        judgement = self.judged(made, a1="stranded", b1="stranded")
        self.assertIn("10 is missing", self.first(judgement).text, "the blocked way doesn't help")

    def test_without_a_tree_the_union_carries(self) -> None:
        made = ring()
        made.kinds["fabric_port"][0]["allowed"] = "20"
        self.judged(made, a1="home", b1="home")

    def test_ports_count_by_their_numbers(self) -> None:
        names = ["p10", "p2", "x1", "p2b"]
        ports = [FabricPort(id=n, switch="s", name=n, mode="access", vid=1) for n in names]
        self.assertEqual([p.name for p in sorted(ports, key=port_order)], ["p2", "p2b", "p10", "x1"])


if __name__ == "__main__":
    unittest.main()

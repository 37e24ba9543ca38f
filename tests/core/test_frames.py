"""Single frames: who receives them, what guards, mirrors and overlays make of them, and the story of their way."""

from __future__ import annotations

import unittest

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.frames import ADVERT, BROADCAST, FOREIGN, FRAMES, LARGE, OFFER, UNICAST, UNKNOWN, Frames
from aptwire.forward.hearing import hears
from aptwire.forward.learning import Learned
from aptwire.forward.parts import MemberKey, State, TeamKey
from aptwire.judge.verdicts import judge
from aptwire.plan.names import endpoint_key
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_whole_wiring import overlay
from tests.support import Small, pair, random_plan


def frames(made: Small) -> Frames:
    return Frames(compile_wiring(made.plan()))


class FrameTest(unittest.TestCase):
    def test_a_broadcast_comes_to_all_of_the_vlan_untagged_where_the_port_says_so(self) -> None:
        made = pair()
        made.put("port_group", "b/t", switch="b/s", name="t", mode="trunk", allowed="10, 20")
        made.put("guest", "g-t", host="b", name="t")
        made.put("adapter", "t", guest="g-t", name="t", port_group="b/t")
        asked = frames(made)
        self.assertEqual(asked.heard("a1", None), {("b1", None), ("t", 10)})
        self.assertEqual(asked.heard("t", 10), {("a1", None), ("b1", None)})
        self.assertEqual(asked.heard("t", None), frozenset(), "a trunk without native drops untagged frames")
        self.assertEqual(asked.heard("a1", 10), frozenset(), "an access port takes no tags, not even its own")
        self.assertEqual(asked.heard("a1", 0), asked.heard("a1", None), "a priority tag counts as none")
        self.assertEqual(asked.heard("t", 4095), frozenset())

    def test_host_ports_and_stations_are_seats_too(self) -> None:
        made = pair()
        made.put("host_port", "a/hp", switch="a/s", name="hp", vid=10)
        made.trunk("sw/st", "10, 20", native=20)
        made.put("station", "st", name="st")
        for vid in (10, None):
            made.put("station_port", f"st-{vid}", station="st", port="sw/st", **({"vid": vid} if vid else {}))
        asked = frames(made)
        self.assertEqual(asked.heard("a1", None), {("b1", None), ("a/hp", None), ("sw/st", 10)})
        self.assertEqual(asked.heard("sw/st", 10), {("a1", None), ("b1", None), ("a/hp", None)})
        self.assertEqual(asked.heard("sw/st", None), frozenset(), "nobody else is on 20")

    def test_who_overhears_takes_what_is_not_for_it(self) -> None:
        made = pair()
        made.guest("b", "b2", 10, overhear=True)
        asked = frames(made)
        self.assertEqual(asked.heard("a1", None, UNKNOWN), {("b2", None)})
        self.assertEqual(asked.heard("a1", None, UNICAST, "b1"), {("b1", None)})
        self.assertEqual(asked.may("a1", None, UNICAST, "b1"), {("b1", None), ("b2", None)})
        self.assertEqual(asked.may("a1", None, UNKNOWN), {("b2", None)})

    def test_a_learned_address_is_found_alone_and_an_unknown_one_by_flooding(self) -> None:
        made = pair()
        made.guest("b", "b2", 10)
        made.put("port_group", "b/t", switch="b/s", name="t", mode="trunk", allowed="10, 20")
        made.put("guest", "g-t", host="b", name="t")
        made.put("adapter", "t", guest="g-t", name="t", port_group="b/t")
        learned = Learned(frames(made))
        everybody = {("b1", ()), ("b2", ()), ("t", (10,))}
        self.assertEqual(learned.reached("a1", (), "b1"), everybody)
        learned.learn("b1", ())
        self.assertEqual(learned.reached("a1", (), "b1"), {("b1", ())})
        self.assertEqual(learned.reached("a1", (), "b2"), everybody, "nobody has heard of this one yet")
        learned.learn("t", (20,))
        self.assertEqual(learned.reached("a1", (), "t"), everybody, "it spoke on another VID, where nobody here asks")
        learned.learn("t", (10,))
        self.assertEqual(learned.reached("a1", (), "t"), {("t", (10,))})
        self.assertEqual(learned.reached("a1", (10,), "b1"), frozenset(), "an access port takes no tags")

    def test_a_guard_is_the_group_s_unless_the_adapter_has_its_own_word(self) -> None:
        made = pair()
        made.guest("a", "a2", 10, foreign_source=True)
        made.guest("b", "b2", 10, foreign_source=False)
        made.kinds["port_group"][0]["foreign_source"] = False
        made.kinds["port_group"][1]["foreign_source"] = True
        asked = frames(made)
        self.assertEqual(asked.heard("a1", None, FOREIGN), frozenset())
        self.assertEqual(asked.heard("a2", None, FOREIGN), asked.heard("a2", None))
        self.assertEqual(asked.heard("b1", None, FOREIGN), asked.heard("b1", None))
        self.assertEqual(asked.heard("b2", None, FOREIGN), frozenset())

    def test_a_mirror_copies_what_the_switch_took_in_and_what_came_out(self) -> None:
        made = pair()
        made.guest("a", "watch", 20, None)
        made.put("mirror", "m", source="a1", target="watch", direction="sent")
        asked = frames(made)
        self.assertEqual(asked.heard("a1", None), {("b1", None), ("watch", None)})
        self.assertEqual(asked.heard("a1", None, UNKNOWN), {("watch", None)})
        self.assertEqual(asked.heard("a1", None, FOREIGN), frozenset(), "what a guard drops is not copied")
        self.assertEqual(asked.heard("a1", 30), frozenset(), "nor what the port refuses")
        self.assertEqual(asked.heard("b1", None), {("a1", None)})
        made.kinds["mirror"][0]["direction"] = "received"
        asked = frames(made)
        self.assertEqual(asked.heard("a1", None), {("b1", None)})
        self.assertEqual(asked.heard("b1", None), {("a1", None), ("watch", None)})

    def test_inside_an_overlay_there_are_no_tags(self) -> None:
        made = pair()
        made.put("segment", "over", name="over", vni=5010)
        for host in "ab":
            made.put("host_port", f"{host}/hp", switch=f"{host}/s", name="hp", vid=10)
            made.put(
                "port_group", f"{host}/o", switch=f"{host}/s", name="o", mode="overlay", vni=5010, over=f"{host}/hp"
            )
            made.put("guest", f"g-o{host}", host=host, name=f"o{host}")
            made.put("adapter", f"o{host}", guest=f"g-o{host}", name=f"o{host}", port_group=f"{host}/o")
        asked = frames(made)
        self.assertEqual(asked.heard("oa", None), {("ob", None)})
        self.assertEqual(asked.heard("oa", 10), frozenset())
        made.kinds["fabric_port"][0]["allowed"] = "20"
        self.assertEqual(frames(made).heard("oa", None), frozenset(), "the tunnel goes where its host ports go")

    def test_a_large_packet_goes_where_every_mtu_on_the_way_takes_it(self) -> None:
        for at, mtu, passes in (("nic", 1_500, False), ("fabric_port", 1_500, False), ("fabric_port", 9_000, True)):
            made = pair()
            made.kinds[at][0]["mtu"] = mtu
            self.assertEqual(bool(frames(made).heard("a1", None, LARGE)), passes, (at, mtu))
            self.assertTrue(frames(made).heard("a1", None))
        made = pair()
        made.fabric("far", mtu=1_500)
        made.trunk("sw/x", "10")
        made.trunk("far/x", "10")
        made.cable("sw/x", "far/x")
        made.trunk("far/p", "10")
        made.host("c", "far/p")
        made.guest("c", "c1", 10)
        self.assertEqual(frames(made).heard("a1", None, LARGE), {("b1", None)}, "a switch’s own MTU counts too")

    def test_a_large_packet_fits_its_sender_and_its_receiver(self) -> None:
        made = pair()
        made.guest("b", "b2", 10)
        for mtu, wanted in ((None, {"b1", "b2"}), (4_000, {"b1", "b2"}), (3_999, {"b2"})):
            made.kinds["adapter"][1]["mtu"] = mtu
            self.assertEqual({seat for seat, _ in frames(made).heard("a1", None, LARGE)}, wanted, mtu)
        self.assertEqual(frames(made).heard("b1", None, LARGE), set(), "it doesn't leave either")
        made.kinds["virtual_switch"][0]["mtu"] = 1_500
        self.assertEqual(frames(made).heard("a1", None, LARGE), set(), "the switch's own counts for all on it")

    def test_an_overlay_s_header_has_to_fit_through_the_host_port(self) -> None:
        made = overlay()
        for port in made.kinds["fabric_port"]:
            port["mtu"] = 9_000
        for mtu, fits in ((None, True), (4_050, True), (4_049, False)):
            made.kinds["host_port"][0]["mtu"] = mtu
            for one, two in (("a1", "b1"), ("b1", "a1")):
                found = {seat for seat, _ in frames(made).heard(one, None, LARGE)}
                self.assertEqual(two in found, fits, (mtu, one))
            self.assertTrue(frames(made).heard("a1", None), "a small one goes all the same")

    def test_behind_a_wireless_nic_only_the_host_is_reached(self) -> None:
        made = Small()
        made.fabric("sw", managed=False)
        for host in "ab":
            made.access(f"sw/{host}", 1)
            made.host(host, f"sw/{host}")
            made.put("host_port", f"{host}/hp", switch=f"{host}/s", name="hp")
            made.guest(host, f"{host}1", None, None)
        self.assertEqual(frames(made).heard("a1", None), {("a/hp", None), ("b1", None), ("b/hp", None)})
        made.kinds["nic"][1]["wireless"] = True
        self.assertEqual(frames(made).heard("a1", None), {("a/hp", None), ("b/hp", None)})
        self.assertEqual(frames(made).heard("b1", None), {("b/hp", None)})

    def test_only_who_may_answers_dhcp_and_advertises_routes(self) -> None:
        made = pair()
        made.guest("a", "server", 10, serve_leases=True)
        made.guest("a", "router", 10, advertise_routes=True)
        made.put("host_port", "b/hp", switch="b/s", name="hp", vid=10)
        asked = frames(made)
        for frame, may in ((OFFER, {"server", "b/hp"}), (ADVERT, {"router", "b/hp"})):
            self.assertEqual({id for id in asked.seats if asked.heard(id, None, frame)}, may)

    def reflected(self, returning: str, isolated: bool) -> Small:
        """Guests a1 and a2 on a switch of host a that filters nothing, behind a port that reflects; guest b1 on host b."""
        made = Small()
        made.segment(10)
        made.fabric("sw")
        made.host("a", made.access("sw/p1", 10, reflects=True))
        made.host("b", made.access("sw/p2", 10))
        made.kinds["virtual_switch"][0].update(returning=returning, filters=False)
        made.put("port_group", "a/g", switch="a/s", name="g", mode="untagged", isolated=isolated)
        for name in ("a1", "a2"):
            made.put("guest", f"guest-{name}", host="a", name=name)
            made.put("adapter", name, guest=f"guest-{name}", name=name, port_group="a/g", belongs="s10")
        made.guest("b", "b1", None, "s10")
        return made

    def test_a_switch_that_knows_its_own_drops_what_a_port_reflects_of_them(self) -> None:
        for returning, isolated, near in (
            ("learned", True, {"a1", "a2"}),
            ("taken", True, {"a1", "a2"}),
            ("dropped", True, set()),
            ("dropped", False, {"a2"}),
        ):
            made = self.reflected(returning, isolated)
            heard = {id for id, _ in frames(made).heard("a1", None)}
            self.assertEqual(heard, near | {"b1"}, (returning, isolated))

    def test_a_gateway_that_reflection_alone_would_reach_is_not_reached(self) -> None:
        for returning, verdict in (("taken", "home"), ("dropped", "stranded")):
            made = self.reflected(returning, isolated=True)
            made.kinds["segment"][0].update(subnets=["10.0.0.0/24"], gateways=["10.0.0.1"])
            made.kinds["adapter"][1]["addresses"] = ["10.0.0.1/24"]
            found = judge(made.plan()).verdicts()
            self.assertEqual((found["a1"], found["b1"]), (verdict, "home"), returning)

    def test_a_switch_that_knows_its_own_gives_by_address_and_else_sends_out(self) -> None:
        for returning, isolated, reached in (
            ("dropped", False, {"a2"}),
            ("taken", True, {"a2"}),
            ("dropped", True, {"a2"}),
        ):
            learned = Learned(frames(self.reflected(returning, isolated)))
            for id in ("a1", "a2", "b1"):
                learned.learn(id, ())
            self.assertEqual({id for id, _ in learned.reached("a1", (), "a2")}, reached, (returning, isolated))
            self.assertEqual({id for id, _ in learned.reached("a1", (), "b1")}, {"b1"})

    def test_a_state_takes_other_ways(self) -> None:
        made = pair()
        made.trunk("sw/p9", "20")
        made.put("nic", "a/n9", host="a", name="n9", uplink="a/u", rank=9)
        made.cable("a/n9", "sw/p9")
        wiring = compile_wiring(made.plan())
        self.assertEqual(Frames(wiring).heard("a1", None), {("b1", None)})
        self.assertEqual(Frames(wiring, State({TeamKey("a/u"): MemberKey("a/n9")})).heard("a1", None), frozenset())
        self.assertEqual(Frames(wiring, State(lost=frozenset(["a/n0"]))).heard("a1", None), frozenset())

    def test_the_story_goes_bridge_by_bridge(self) -> None:
        made = pair()
        self.assertEqual(
            frames(made).story("a1", None),
            [
                "in s of a as VID 10",
                "in sw as VID 10, over uplink u of a and n0 of a and port p1 of sw",
                "in s of b as VID 10, over port p2 of sw and uplink u of b and n0 of b",
            ],
        )
        self.assertEqual(frames(made).story("a1", 30), ["dropped at once: access 10"])


class PropertyTest(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.integers(0, 400))
    def test_frames_say_of_broadcasts_what_hears_says_of_adapters(self, seed: int) -> None:
        plan = random_plan(seed, rich=True)
        wiring = compile_wiring(plan)
        asked, said = Frames(wiring), hears(plan, wiring=wiring)
        keys = {a.id: endpoint_key(plan, a) for a in plan.all("adapter")}
        for id in keys.keys() & asked.seats.keys():
            found = {
                keys[other] for other, tag in asked.reached(id, None) if other in keys and tag is None and other != id
            }
            listed = {name.removesuffix("|") for name in said[f"{keys[id]}|"] if name.endswith("|")}
            self.assertEqual(found, listed, keys[id])

    @settings(max_examples=30)
    @given(st.integers(0, 400))
    def test_nobody_hears_a_frame_that_a_broadcast_would_not_bring(self, seed: int) -> None:
        asked = Frames(compile_wiring(random_plan(seed, rich=True)))
        for id in asked.seats:
            for vid in (None, 10, 20):
                everybody = asked.heard(id, vid, BROADCAST)
                for frame in FRAMES:
                    target = min((other for other, _ in everybody), default=id)
                    must, may = asked.heard(id, vid, frame, target), asked.may(id, vid, frame, target)
                    self.assertLessEqual(must, may)
                    self.assertLessEqual(may, everybody)


if __name__ == "__main__":
    unittest.main()

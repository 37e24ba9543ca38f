"""A segment's strand: every port that carries it, what waits for a failover, and where it breaks."""

from __future__ import annotations

import unittest

from aptwire.forward.compiling import compile_wiring
from aptwire.forward.strand import Piece, strand
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import Small, demo_plan, pair, random_plan


def pieces(made: Small, segment: str = "s10") -> dict[tuple[str, str], Piece]:
    plan = made.plan()
    return {(p.start, p.to): p for p in strand(compile_wiring(plan), plan.get("segment", segment))}


class StrandTest(unittest.TestCase):
    def test_from_adapter_to_fabric_switch_in_one_line(self) -> None:
        found = pieces(pair())
        way = [("a1", "a/g10"), ("a/g10", "a/n0"), ("a/n0", "sw/p1"), ("sw/p1", "sw")]
        self.assertEqual([found[step].state for step in way], ["carries"] * 4)

    def test_what_a_standby_member_would_carry_waits_in_reserve(self) -> None:
        made = pair()
        made.trunk("sw/p9", "10")
        made.put("nic", "a/n9", host="a", name="n9", uplink="a/u", rank=9)
        made.cable("a/n9", "sw/p9")
        found = pieces(made)
        self.assertEqual(found["a/g10", "a/n9"].state, "reserve")
        self.assertEqual(found["a/n9", "sw/p9"].state, "reserve")
        self.assertEqual(found["a/n0", "sw/p1"].state, "carries")

    def test_it_ends_at_the_port_that_drops_it_with_the_reason(self) -> None:
        found = pieces(pair("20"))
        broken = found["a/n0", "sw/p1"]
        self.assertEqual((broken.state, broken.reason), ("dropped", "port p1 of sw allows 20; 10 is missing"))
        self.assertNotIn(("sw/p1", "sw"), found)

    def test_it_ends_at_the_uplink_that_drops_it(self) -> None:
        made = pair()
        made.kinds["uplink"][0]["allowed"] = "20"
        broken = pieces(made)["a/g10", "a/u"]
        self.assertEqual((broken.state, broken.reason), ("dropped", "uplink u of a allows 20; 10 is missing"))

    def test_an_open_end_is_neither_carried_nor_dropped(self) -> None:
        made = pair()
        made.host("c", None)
        made.guest("c", "c1", 10)
        self.assertEqual(pieces(made)["c/n0", "c/n0"].state, "open")

    def test_between_fabric_switches_the_port_that_drops_it_is_named(self) -> None:
        found = strand(compile_wiring(demo_plan()), demo_plan().get("segment", "segment-cctv"))
        broken = [(p.start, p.to, p.reason) for p in found if p.state == "dropped" and p.to == "marsh-a/x49"]
        self.assertIn(
            ("quay-a/x49", "marsh-a/x49", "port x49 of marsh-a allows 110, 120, 130, 210, 230; 240 is missing"), broken
        )

    def test_a_leak_says_under_which_vid_it_goes_on(self) -> None:
        found = strand(compile_wiring(demo_plan()), demo_plan().get("segment", "segment-berth-planning"))
        leaks = [p.reason for p in found if p.state == "leaks"]
        self.assertEqual(leaks, ["goes on as VID 300 behind this port"])

    def test_who_lands_on_the_tag_and_belongs_elsewhere_is_marked(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "lost", 10, "s20")
        found = pieces(made)
        self.assertTrue(found["lost", "a/g10"].foreign)
        self.assertFalse(found["a1", "a/g10"].foreign)

    def test_the_way_between_two_switches_leads_through_those_without_guests(self) -> None:
        made = Small()
        made.segment(10)
        for name in ("left", "middle", "right"):
            made.fabric(name)
        for port in ("left/x", "middle/l", "middle/r", "right/x", "left/p", "right/p"):
            made.trunk(port, "10")
        made.cable("left/x", "middle/l")
        made.cable("middle/r", "right/x")
        made.host("a", "left/p")
        made.host("b", "right/p")
        made.guest("a", "a1", 10)
        made.guest("b", "b1", 10)
        found = pieces(made)
        self.assertEqual(found["left/x", "middle/l"].state, "carries")
        self.assertEqual(found["middle/r", "right/x"].state, "carries")

    @settings(max_examples=60)
    @given(st.integers(0, 10**9))
    def test_every_break_has_a_reason_and_every_piece_joins_records(self, seed: int) -> None:
        plan = random_plan(seed)
        wiring = compile_wiring(plan)
        for segment in plan.all("segment"):
            for piece in strand(wiring, segment):
                self.assertEqual(bool(piece.reason), piece.state in ("dropped", "open", "leaks"), piece)
                for id in (piece.start, piece.to):
                    self.assertIsNotNone(plan.find(id), piece)

    def test_a_direct_adapter_s_strand_leads_from_its_nic_to_the_port(self) -> None:
        plan = demo_plan()
        wiring = compile_wiring(plan)
        found = {(p.start, p.to): p.state for p in strand(wiring, plan.get("segment", "segment-tide-gauges"))}
        way = [("adapter-tide-model", "gannet/nic0"), ("gannet/nic0", "quay-a/p1"), ("quay-a/p1", "quay-a")]
        self.assertEqual([found.get(step) for step in way], ["carries"] * 3)
        others = {(p.start, p.to): p.state for p in strand(wiring, plan.get("segment", "segment-ticketing"))}
        self.assertEqual(others["gannet/nic0", "quay-a/p1"], "carries", "the switch goes through the same NIC")

    def test_an_overlay_s_strand_goes_down_through_the_host_port_that_carries_it(self) -> None:
        plan = demo_plan()
        found = {(p.start, p.to) for p in strand(compile_wiring(plan), plan.get("segment", "segment-restore"))}
        self.assertIn(("gannet/guests0/restore", "gannet/guests0/move"), found)
        self.assertIn(("gannet/guests0/move", "gannet/nic0"), found)


if __name__ == "__main__":
    unittest.main()

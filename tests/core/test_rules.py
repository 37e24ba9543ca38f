"""Every row of the table of ports: which frames come in, as which context, and how each context leaves."""

from __future__ import annotations

import unittest

from aptwire.forward.classes import classify
from aptwire.forward.domains import Pairings, crossing
from aptwire.forward.rules import PortRule, RuleBook
from aptwire.plan.kinds import AssumedFabric, FabricPort, FabricSwitch, PortGroup, Uplink
from aptwire.plan.ports import spoken
from hypothesis import given
from hypothesis import strategies as st

from tests.support import Small

UNTAGGED = 0
VIDS = (10, 20, 30)


class Rules(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        made = Small()
        for vid in VIDS:
            made.segment(vid)
        cls.classes = classify(made.plan())
        cls.book = RuleBook(cls.classes)

    def named(self, numbers) -> dict[int, int]:
        """An array over classes as VID to VID, drops left out."""
        of = {int(self.classes.of[vid]): vid for vid in (UNTAGGED, *VIDS)}
        return {of[k]: of[int(v)] for k, v in enumerate(numbers) if k in of and int(v) in of}

    def check(self, rule: PortRule, into: dict[int, int], out: dict[int, int]) -> None:
        self.assertEqual(self.named(rule.into), into, "what comes in")
        self.assertEqual(self.named(rule.out), out, "what goes out")


class PortGroupRules(Rules):
    def group(self, **values) -> PortRule:
        return self.book.port_group(PortGroup(id="g", switch="s", name="g", **values))

    def test_untagged(self) -> None:
        self.check(self.group(mode="untagged"), {0: 0}, {0: 0})

    def test_access_takes_untagged_frames_only(self) -> None:
        self.check(self.group(mode="access", vid=10), {0: 10}, {10: 0})

    def test_trunk_drops_untagged_frames(self) -> None:
        self.check(self.group(mode="trunk", allowed="10, 20"), {10: 10, 20: 20}, {10: 10, 20: 20})

    def test_trunk_with_native(self) -> None:
        self.check(self.group(mode="trunk", allowed="20", native=10), {0: 10, 20: 20}, {10: 0, 20: 20})

    def test_native_among_the_allowed_is_taken_tagged_too_and_leaves_untagged(self) -> None:
        self.check(self.group(mode="trunk", allowed="10, 20", native=10), {0: 10, 10: 10, 20: 20}, {10: 0, 20: 20})

    def test_a_trunk_that_leaves_untagged_frames_as_they_are(self) -> None:
        self.check(self.group(mode="trunk", allowed="10", native=0), {0: 0, 10: 10}, {0: 0, 10: 10})

    def test_a_trunk_of_nothing(self) -> None:
        self.check(self.group(mode="trunk", allowed=""), {}, {})

    def test_a_host_port_sits_on_its_vid_or_on_untagged(self) -> None:
        self.check(self.book.host_port(10), {0: 10}, {10: 0})
        self.check(self.book.host_port(None), {0: 0}, {0: 0})


class UplinkRules(Rules):
    def uplink(self, **values) -> PortRule:
        return self.book.uplink(Uplink(id="u", switch="s", name="u", **values))

    def test_without_a_list_everything_passes(self) -> None:
        same = {0: 0, 10: 10, 20: 20, 30: 30}
        self.check(self.uplink(), same, same)

    def test_a_list_without_0_drops_untagged_frames(self) -> None:
        self.check(self.uplink(allowed="10"), {10: 10}, {10: 10})

    def test_a_list_with_0_lets_them_through(self) -> None:
        self.check(self.uplink(allowed="0, 10"), {0: 0, 10: 10}, {0: 0, 10: 10})

    def test_a_native_vlan_takes_the_place_of_untagged(self) -> None:
        self.check(self.uplink(allowed="20", native=10), {0: 10, 20: 20}, {10: 0, 20: 20})


class FabricRules(Rules):
    def port(self, managed: bool = True, vlans: str | None = None, **values) -> PortRule:
        switch = FabricSwitch(id="f", name="f", managed=managed, vlans=vlans)
        return self.book.fabric_port(switch, FabricPort(id="p", switch="f", name="p", **values))

    def test_access(self) -> None:
        self.check(self.port(mode="access", vid=10), {0: 10}, {10: 0})

    def test_trunk_and_native(self) -> None:
        self.check(self.port(mode="trunk", allowed="20", native=10), {0: 10, 20: 20}, {10: 0, 20: 20})

    def test_an_undefined_vid_is_dropped_whatever_the_port_says(self) -> None:
        self.check(self.port(mode="trunk", allowed="10, 20", vlans="20"), {20: 20}, {20: 20})
        self.check(self.port(mode="access", vid=10, vlans="20"), {}, {})
        self.check(self.port(mode="trunk", allowed="20", native=10, vlans="20"), {20: 20}, {20: 20})

    def test_an_unmanaged_switch_passes_everything(self) -> None:
        same = {0: 0, 10: 10, 20: 20, 30: 30}
        self.check(self.port(managed=False, vlans="10", mode="access", vid=10), same, same)

    def test_a_disabled_port_passes_nothing(self) -> None:
        self.check(self.port(mode="trunk", allowed="10", enabled=False), {}, {})
        self.check(self.port(managed=False, mode="trunk", allowed="10", enabled=False), {}, {})

    def test_an_assumed_fabric_is_a_trunk(self) -> None:
        assumed = AssumedFabric(id="a", site="x", allowed="10", native=20)
        self.check(self.book.assumed(assumed), {0: 20, 10: 10}, {10: 10, 20: 0})

    def test_equal_rules_are_one_object(self) -> None:
        self.assertIs(self.port(mode="access", vid=10), self.port(mode="access", vid=10))
        self.assertIsNot(self.port(mode="access", vid=10), self.port(mode="access", vid=20))


class CrossingRules(Rules):
    def trunk(self, allowed: str, native: int | None) -> PortRule:
        switch = FabricSwitch(id="f", name="f")
        return self.book.fabric_port(
            switch, FabricPort(id="p", switch="f", name="p", mode="trunk", allowed=allowed, native=native)
        )

    def test_differing_natives_join_two_vids_in_both_directions(self) -> None:
        a, b = self.trunk("30", 10), self.trunk("30", 20)
        self.assertEqual(self.named(crossing(a, b)), {10: 20, 30: 30})
        self.assertEqual(self.named(crossing(b, a)), {20: 10, 30: 30})

    def test_a_tag_allowed_at_one_end_only_dies_there(self) -> None:
        self.assertEqual(self.named(crossing(self.trunk("10, 20", None), self.trunk("20", None))), {20: 20})

    def test_a_frame_that_would_come_back_under_another_vid_is_known(self) -> None:
        """Sent tagged 10, taken as 10, sent back untagged by the far end's native, taken as 20 by the near one's."""
        near, far = self.trunk("10", 20), self.trunk("10", 10)
        bounces = Pairings()(near, far).bounces
        self.assertEqual([v for v in VIDS if bounces[self.classes.of[v]]], [10])

    @given(
        st.sets(st.sampled_from(VIDS)),
        st.sampled_from([None, *VIDS]),
        st.sets(st.sampled_from(VIDS)),
        st.sampled_from([None, *VIDS]),
    )
    def test_more_permissions_never_carry_less(
        self, one: set[int], native: int | None, two: set[int], other: int | None
    ) -> None:
        def text(vids: set[int]) -> str:
            return ", ".join(map(str, sorted(vids)))

        before = self.named(crossing(self.trunk(text(one), native), self.trunk(text(two), other)))
        after = self.named(crossing(self.trunk(text(one | {30}), native), self.trunk(text(two | {30}), other)))
        self.assertEqual({k: after.get(k) for k in before if k != 30}, {k: v for k, v in before.items() if k != 30})
        if 30 not in (native, other):
            self.assertEqual(after[30], 30)


class SpokenTest(unittest.TestCase):
    def test_lists_in_words(self) -> None:
        self.assertEqual(spoken("0, 10, 20-29"), "untagged, 10, 20-29")
        self.assertEqual(spoken(""), "nothing")
        self.assertEqual(spoken(None), "nothing")


if __name__ == "__main__":
    unittest.main()

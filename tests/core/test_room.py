"""How large packets get there as a ping does: against the search for ways of packets of each size, and in the smallest plans."""

from __future__ import annotations

import random
import unittest
from typing import Any

from aptwire.above.outcomes import ANSWERED
from aptwire.above.ping import end_of, ping
from aptwire.above.room import links, told_size
from aptwire.forward.paths import Roads
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Patch, apply_edit
from aptwire.plan.plan import Plan

from tests.core.test_ping import two_segments
from tests.routers import routed_plan
from tests.support import Small, demo_plan

SIZES = (1400, 1500, 2000, 9000)


def said(made: Small | Plan, a: str = "a1", b: str = "b1") -> str:
    plan = made.plan() if isinstance(made, Small) else made
    judgement = judge(plan)
    return told_size(judgement.wiring, ping(judgement, end_of(plan, a), end_of(plan, b)))


class SaidTest(unittest.TestCase):
    def sized(self, **sizes: int) -> Small:
        """Guests on 10 and 20 with the router r between them; MTUs of segments, NICs and ports by id."""
        made = two_segments()
        for kind in ("segment", "nic", "fabric_port", "station_port", "virtual_switch", "fabric_switch"):
            for record in made.kinds.get(kind, []):
                if record["id"].replace("/", "_") in sizes:
                    record["mtu"] = sizes[record["id"].replace("/", "_")]
        return made

    def test_nothing_is_said_where_nothing_says_a_size(self) -> None:
        self.assertEqual(said(self.sized()), "")

    def test_the_narrowest_counts(self) -> None:
        self.assertEqual(said(self.sized(s10=1500, s20=1500)), "Packets of up to 1,500 bytes get there and back.")

    def test_whoever_forwards_tells_of_what_it_does_not_send_on(self) -> None:
        self.assertEqual(
            said(self.sized(s10=9000, s20=1500)),
            "Packets of up to 1,500 bytes get there and back; r tells whoever sends larger ones.",
        )

    def test_what_is_too_large_for_a_link_vanishes(self) -> None:
        narrow = self.sized(s10=9000, s20=9000, sw_p2=1500)
        self.assertEqual(
            said(narrow, "b1", "a1"),
            "Packets of over 1,500 bytes vanish: b1 sends up to 9,000, and port p2 of sw takes no larger ones.",
        )
        # Beyond the router, which sends on what it got.
        self.assertIn("vanish: r sends up to 9,000, and port p2 of sw", said(narrow))
        # Nobody sends what wouldn't get through.
        self.assertEqual(
            said(self.sized(s10=1400, s20=1400, sw_p1=1500)), "Packets of up to 1,400 bytes get there and back."
        )

    def test_an_overlay_adds_its_header(self) -> None:
        plan = demo_plan()
        self.assertEqual(said(plan, "restore-db-1", "restore-db-3"), "Packets of up to 1,400 bytes get there and back.")
        plan, _ = apply_edit(plan, (Patch("segment", "segment-restore", {"mtu": 1500}),))
        self.assertRegex(
            said(plan, "restore-db-1", "restore-db-3"), "^Packets of over 1,450 bytes vanish: restore-db-1 sends"
        )


class AgainstSearchTest(unittest.TestCase):
    def test_a_packet_gets_over_a_link_as_it_is_no_larger_than_what_it_passes(self) -> None:
        seen = {True: 0, False: 0}
        for seed in range(16):
            dice = random.Random(seed)
            plan = routed_plan(seed)
            edit: list[Any] = []
            for kind in ("nic", "fabric_port", "fabric_switch", "virtual_switch"):
                edit += [Patch(kind, r.id, {"mtu": dice.choice(SIZES)}) for r in plan.all(kind) if dice.random() < 0.5]
            plan = apply_edit(plan, tuple(edit))[0] if edit else plan
            judgement = judge(plan)
            ends = [a.id for a in plan.all("adapter") if a.addresses]
            for _ in range(6):
                if len(ends) < 2:
                    continue
                found = ping(judgement, *dice.sample(ends, 2))
                for link in (one for way in found.ways for one in links(judgement.wiring, way)):
                    here, there = (judgement.wiring.place(id) for id in (link.leg.out, link.leg.to or ""))
                    if link.leg.outcome != ANSWERED or here is None or there is None:
                        continue
                    for size in SIZES:
                        passes = Roads(judgement.wiring, size=size).way(here, there) is not None
                        told = not link.narrow.size or size <= link.narrow.size
                        # The search asks what is between the two; what the two take themselves is theirs.
                        seen[passes] += 1
                        if told:
                            self.assertTrue(passes, (seed, link, size))
                        elif passes:
                            self.assertIn(link.narrow.at, own(plan, link.leg.out, link.leg.to or ""), (seed, size))
        self.assertGreater(min(seen.values()), 10, seen)


def own(plan: Plan, *interfaces: str) -> set[str]:
    """What stands for two interfaces themselves: they, their port groups and switches."""
    found = set(interfaces)
    for id in interfaces:
        record = plan.find(id)
        adapter = plan.of("adapter").get(getattr(record, "adapter", id))
        if adapter is not None:
            group = plan.get("port_group", adapter.port_group)
            found |= {adapter.id, group.id, *(u.id for u in plan.where("uplink", "switch", group.switch))}
        elif record is not None and record.kind == "host_port":
            found |= {u.id for u in plan.where("uplink", "switch", record.switch)}
    return found


if __name__ == "__main__":
    unittest.main()

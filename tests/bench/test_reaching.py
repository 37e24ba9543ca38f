"""Pings over routers: what the engine says of random plans, and what forwarding namespaces of a real kernel answer."""

from __future__ import annotations

import contextlib
import os
import random
import unittest
from collections.abc import Callable

from aptwire.blueprints.bubble import bubble
from aptwire.blueprints.routing import routing
from aptwire.blueprints.shielding import shield
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import apply_edit
from aptwire.plan.plan import Plan, PlanError

from tests.bench.support import proved, told
from tests.routers import entered_plan, filtered_plan, inward_plan, outward_plan, proxied_plan, routed_plan, six_plan

SEEDS = int(os.environ.get("APTWIRE_ROUTED_PLANS", "30"))
"""More by command; with fixed seeds either way.  Of those of which others are made that have more in them, fewer are enough."""
FEWER = SEEDS * 2 // 5


def with_blueprints(seed: int) -> Plan:
    """A plan in which a bubble has been made of a segment, guests of a host are behind a firewall, and a switch routes, where that can be."""
    plan = outward_plan(seed)
    dice = random.Random(seed)
    hosts, segments = sorted(plan.of("host")), sorted(plan.of("segment"))
    host, outside = dice.choice(hosts), dice.choice(segments)
    guests = [g.id for g in plan.where("guest", "host", host) if not g.routes]
    with contextlib.suppress(PlanError):
        found = bubble(judge(plan), "lab", (), dice.sample(segments, min(2, len(segments))), host)
        plan = apply_edit(plan, found.edit)[0]
    with contextlib.suppress(PlanError):
        found = shield(judge(plan), host, "moat", outside, "10.79.1.0/24", dice.sample(guests, min(2, len(guests))))
        plan = apply_edit(plan, found.edit)[0]
    with contextlib.suppress(PlanError):
        found = routing(
            judge(plan), dice.choice(sorted(plan.of("fabric_switch"))), dice.sample(segments, min(2, len(segments)))
        )
        plan = apply_edit(plan, found.edit)[0]
    return plan


class ReachingTest(unittest.TestCase):
    def test_packets_get_as_far_in_the_kernel_as_the_engine_says(self) -> None:
        self.same(routed_plan, FEWER)

    def test_filters_drop_in_the_kernel_what_the_engine_says(self) -> None:
        self.same(filtered_plan, FEWER)

    def test_packets_of_ipv6_get_as_far_in_the_kernel_as_the_engine_says(self) -> None:
        self.same(six_plan)

    def test_translations_and_outside_networks_answer_in_the_kernel_as_the_engine_says(self) -> None:
        self.same(outward_plan, FEWER)

    def test_what_is_outside_of_a_way_in_answers_in_the_kernel_as_the_engine_says(self) -> None:
        self.same(entered_plan, FEWER)

    def test_what_is_let_in_gets_to_whom_it_is_for_in_the_kernel_as_the_engine_says(self) -> None:
        self.same(inward_plan)

    def test_whoever_answers_for_others_takes_their_packets_in_the_kernel_as_the_engine_says(self) -> None:
        self.same(proxied_plan, FEWER)

    def test_bubbles_and_guests_behind_a_firewall_are_in_the_kernel_what_they_are_meant_to_be(self) -> None:
        self.same(with_blueprints, SEEDS // 3)

    def same(self, made: Callable[[int], Plan], count: int = SEEDS) -> None:
        """The engine and the kernel say the same of plans made by seed."""
        for seed, plan, report in proved(made, range(count), 24):
            with self.subTest(seed):
                self.assertEqual(told(plan, report), [])


if __name__ == "__main__":
    unittest.main()

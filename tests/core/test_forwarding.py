"""What a frame does: against the measured captures, and the array form against the exact search."""

from __future__ import annotations

import json
import unittest

from aptwire.formats.hosts import read_hosts
from aptwire.forward.classes import classify
from aptwire.forward.compiling import compile_wiring
from aptwire.forward.domains import core_links
from aptwire.forward.fabric import loops
from aptwire.forward.hearing import hears
from aptwire.forward.parts import Place
from aptwire.forward.paths import HOP, FrameAt, Roads
from aptwire.forward.trace import find_place, trace
from aptwire.forward.walk import Stop, flood
from aptwire.forward.wiring import Wiring
from aptwire.judge.verdicts import judge
from aptwire.plan.plan import PlanError
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.support import (
    STATES,
    TWO_HOSTS,
    all_places,
    demo_plan,
    files_of,
    pair,
    plan_of,
    random_plan,
    two_hosts_files,
)


class MeasuredFramesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.plan, _ = read_hosts(two_hosts_files(), "two-hosts")

    def test_every_tap_and_tag_is_heard_as_measured(self) -> None:
        self.assertEqual(hears(self.plan), json.loads((TWO_HOSTS / "frames-seen.json").read_text()))

    def test_every_lost_nic_changes_what_it_changed_when_measured(self) -> None:
        for nic, measured in json.loads((TWO_HOSTS / "drills.json").read_text()).items():
            with self.subTest(nic):
                self.assertEqual(hears(self.plan, nic), measured)

    def test_states_as_nobody_plans_them_are_heard_as_measured_with_tags_that_nobody_is_meant_to_send(self) -> None:
        for state in sorted(STATES.iterdir()):
            plan, _ = read_hosts(files_of(state), state.name)
            wiring = compile_wiring(plan)
            seen = {None: json.loads((state / "frames-seen.json").read_text())}
            if (state / "drills.json").exists():
                seen.update(json.loads((state / "drills.json").read_text()))
            for lost, measured in seen.items():
                with self.subTest(state.name, lost=lost):
                    said = hears(plan, lost, measured, wiring)
                    self.assertEqual({key: said[key] for key in measured}, {k: sorted(v) for k, v in measured.items()})

    def test_what_cannot_be_asked_is_refused_by_name(self) -> None:
        for key, reason in (
            ("gannet/tap-x|", "no adapter “gannet/tap-x”"),
            ("gannet/tap-tide1|4096", "no tag"),
            ("gannet/tap-tide1|1.2.3", "two tags"),
            ("gannet/tap-tide1|٣", "no tag"),
        ):
            with self.assertRaisesRegex(PlanError, reason):
                hears(self.plan, asked=[key])

    def test_an_unknown_nic_is_refused(self) -> None:
        with self.assertRaisesRegex(PlanError, "gannet/nic9"):
            hears(self.plan, "gannet/nic9")


class TraceTest(unittest.TestCase):
    def setUp(self) -> None:
        self.wiring = compile_wiring(demo_plan())

    def trace(self, a: str, b: str):
        return trace(self.wiring, find_place(self.wiring, a), find_place(self.wiring, b))

    def test_tags_change_where_the_ports_say(self) -> None:
        found = self.trace("gannet/tap-tide-gauge-ingest", "kittiwake/tap-tide-gauge-marsh")
        self.assertTrue(found.delivered)
        tags = [(hop.before, hop.after) for hop in found.hops]
        self.assertEqual(tags, [("untagged", "230"), *[("230", "230")] * 7, ("230", "untagged")])

    def test_a_dropped_frame_names_port_and_reason(self) -> None:
        found = self.trace("kittiwake/tap-cctv-recorder", "gannet/tap-fw-in|240")
        self.assertFalse(found.delivered)
        dropped = [hop for hop in found.hops if hop.outcome == "dropped"]
        self.assertEqual([hop.where for hop in dropped], ["port x49 of marsh-a"])
        self.assertEqual(dropped[0].reason, "port x49 of marsh-a allows 110, 120, 130, 210, 230; 240 is missing")
        self.assertEqual(found.hops[-1].outcome, "not reached")

    def test_differing_natives_join_two_vids(self) -> None:
        found = self.trace("kittiwake/tap-berth-display", "gannet/tap-fw-out")
        self.assertTrue(found.delivered)
        self.assertIn(("220", "untagged"), [(h.before, h.after) for h in found.hops])
        self.assertIn(("untagged", "300"), [(h.before, h.after) for h in found.hops])

    def test_an_open_end_is_said(self) -> None:
        found = self.trace("petrel/tap-visitor", "gannet/tap-fw-out")
        self.assertEqual([h.outcome for h in found.hops], ["passed", "open", "not reached"])

    def test_unknown_endpoints_are_explained(self) -> None:
        for name, said in (("gannet/nobody", "no endpoint"), ("gannet/tap-fw-in|x", "“x” is no tag")):
            with self.assertRaisesRegex(ValueError, said):
                find_place(self.wiring, name)

    def test_any_tag_can_be_asked(self) -> None:
        found = self.trace("gannet/tap-ticketing-web-1|3999", "gannet/tap-fw-in|220")
        self.assertFalse(found.delivered)
        self.assertEqual((found.hops[0].before, found.hops[0].reason), ("3999", "drops frames that arrive tagged 3999"))
        made = pair("10, 20")
        made.kinds["port_group"][0].update(mode="trunk", vid=None, allowed="1-4094")
        wiring = compile_wiring(made.plan())
        hops = trace(wiring, find_place(wiring, "a/a1|777"), find_place(wiring, "b/b1")).hops
        self.assertEqual((hops[0].before, hops[0].after), ("777", "777"), "a VID that no record names keeps its own")
        self.assertIn("777 is missing", " ".join(h.reason for h in hops))


class KernelRulesTest(unittest.TestCase):
    """Single rules of IEEE 802.1Q on the smallest plans."""

    def heard(self, group_a: dict, group_b: dict, tags: tuple[int, ...] = ()) -> dict[str, list[str]]:
        plan = plan_of(
            host=[{"id": "h", "name": "h"}],
            virtual_switch=[{"id": "s", "host": "h", "name": "s"}],
            port_group=[
                {"id": "a", "switch": "s", "name": "a", **group_a},
                {"id": "b", "switch": "s", "name": "b", **group_b},
            ],
            guest=[{"id": "ga", "host": "h", "name": "ga"}, {"id": "gb", "host": "h", "name": "gb"}],
            adapter=[
                {"id": "ta", "guest": "ga", "name": "ta", "port_group": "a"},
                {"id": "tb", "guest": "gb", "name": "tb", "port_group": "b"},
            ],
        )
        return hears(plan)

    def test_access_meets_trunk_tagged(self) -> None:
        found = self.heard({"mode": "access", "vid": 10}, {"mode": "trunk", "allowed": "10, 20"})
        self.assertEqual(found["h/ta|"], ["h/tb|10"])
        self.assertEqual(found["h/tb|"], [])
        self.assertEqual(found["h/tb|10"], ["h/ta|"])
        self.assertEqual(found["h/tb|20"], [])

    def test_native_leaves_untagged(self) -> None:
        found = self.heard({"mode": "access", "vid": 10}, {"mode": "trunk", "allowed": "20", "native": 10})
        self.assertEqual(found["h/ta|"], ["h/tb|"])
        self.assertEqual(found["h/tb|"], ["h/ta|"])

    def test_untagged_and_tagged_stay_apart(self) -> None:
        found = self.heard({"mode": "untagged"}, {"mode": "access", "vid": 10})
        self.assertEqual(found, {"h/ta|": [], "h/tb|": []})

    def test_a_trunk_for_every_tag_is_told_by_the_guests_own_tags(self) -> None:
        every = {"mode": "trunk", "allowed": "1-4094", "native": 0}
        self.assertEqual(self.heard(every, {"mode": "untagged"}), {"h/ta|": ["h/tb|"], "h/tb|": ["h/ta|"]})

    def test_a_cable_from_a_switch_to_itself_joins_two_vlans(self) -> None:
        made = pair("10, 20", "10, 20")
        made.access("sw/x", 10)
        made.access("sw/y", 20)
        made.guest("a", "a2", 20, None)
        self.assertEqual(hears(made.plan())["a/a1|"], ["b/b1|"])
        made.cable("sw/x", "sw/y")
        self.assertEqual(hears(made.plan())["a/a1|"], ["a/a2|", "b/b1|"])
        made.kinds["fabric_switch"][0]["spanning_tree"] = True
        self.assertEqual(hears(made.plan())["a/a1|"], ["b/b1|"], "the tree blocks it")

    def test_a_switch_with_two_ways_out_forwards_between_them(self) -> None:
        hosts = ["x", "m", "y"]
        plan = plan_of(
            host=[{"id": h, "name": h} for h in hosts],
            virtual_switch=[{"id": f"{h}/s", "host": h, "name": "s"} for h in hosts],
            uplink=[{"id": i, "switch": i[0] + "/s", "name": i, "mode": "standby"} for i in ("x1", "m1", "m2", "y1")],
            nic=[{"id": f"n{i}", "host": i[0], "name": f"n{i}", "uplink": i} for i in ("x1", "m1", "m2", "y1")],
            cable=[{"id": "c1", "a": "nx1", "b": "nm1"}, {"id": "c2", "a": "nm2", "b": "ny1"}],
            port_group=[{"id": f"{h}/g", "switch": f"{h}/s", "name": "g", "mode": "access", "vid": 7} for h in hosts],
            guest=[{"id": f"g{h}", "host": h, "name": f"g{h}"} for h in hosts],
            adapter=[{"id": f"t{h}", "guest": f"g{h}", "name": "t", "port_group": f"{h}/g"} for h in hosts],
        )
        self.assertEqual(hears(plan)["x/t|"], ["m/t|", "y/t|"])

    def test_vids_that_nobody_tells_apart_share_a_class(self) -> None:
        classes = classify(demo_plan())
        self.assertLess(classes.used, 20)
        self.assertEqual(len({int(classes.of[v]) for v in (110, 210, 220, 230, 300)}), 5)
        self.assertEqual(classes.of[1000], classes.of[4094])
        self.assertNotEqual(classes.of[1000], classes.of[300])
        self.assertEqual(classes.of[4095], -1)


def spots(roads: Roads, place: Place) -> list[FrameAt]:
    """Where a place's broadcast shows up with one tag at the most, which is all that arrays speak of."""
    start = Stop(place.bridge, place.context, roads.wiring.classes.vid(place.context), (), None)
    return [(s.bridge, s.context, s.entry) for s in flood(roads, start, place.stand.order) if not s.below]


def _share_nics(wiring: Wiring, one: Place, two: Place) -> bool:
    """Whether two places leave by the same NICs, over which nothing comes back to them, or may: they are on switches of a host on which uplinks share NICs.

    Of those the exact search is asked (judge/exact.py).
    """
    plan = wiring.plan
    bridges = [wiring.bridges[place.bridge] for place in (one, two)]
    if not all(bridge.virtual for bridge in bridges):
        return False
    hosts = {plan.get("virtual_switch", bridge.id).host for bridge in bridges}
    shares = (u for u in plan.having("uplink", "over") if u.over in plan.of("uplink"))
    return len(hosts) == 1 and any(plan.get("virtual_switch", u.switch).host in hosts for u in shares)


class ArraysAgainstSearchTest(unittest.TestCase):
    @settings(max_examples=150)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans())
    @example(837727, True, False)
    @example(3249067, False, True)
    @example(1108, True, True)
    @example(42079, True, True)
    def test_two_places_share_a_domain_exactly_if_each_hears_the_other(self, seed: int, rich: bool, odd: bool) -> None:
        judgement = judge(random_plan(seed, rich, odd))
        wiring, landing = judgement.wiring, judgement.landing
        rows = landing.rows
        roads = Roads(wiring)

        def row(place) -> int:
            return int(landing.first[judgement.number(place.stand)])

        directed = landing.columns.private
        plain = [p for p in all_places(wiring) if p.stand.plain and not p.stand.vni]
        # Of a team order of one's own on a crossed switch the graph knows nothing: the exact search answers for it (judge/exact.py).
        plain = [p for p in plain if not p.stand.order or wiring.bridges[p.bridge].crossing_row < 0]
        inside = [p for p in plain if rows.mutual[row(p)] and not directed[judgement.number(p.stand)]]
        component = {p.record: judgement.domains.component[rows.node[row(p)]] for p in inside}
        floods = {p.record: spots(roads, p) for p in inside}

        def heard(a, b) -> bool:
            return any(roads.arrives(spot, b) for spot in floods[a.record])

        # In a loop a frame may come back from beyond the switch at which it would bounce; the arrays take it for one that began there.
        around = judgement.domains.heard and loops(core_links(wiring), lambda link, side: [0])

        for a in inside:
            for b in inside:
                if a.bridge == b.bridge or _share_nics(wiring, a, b):
                    continue
                both = heard(a, b) and heard(b, a)
                if component[a.record] == component[b.record]:
                    self.assertTrue(both or around, f"{a.record} and {b.record} share a domain, but one is deaf")
                elif both and not wiring.classes.twins:
                    # Behind isolated ports who speaks and who hears are two domains, each reached from the other.
                    self.assertTrue(judgement.domains.heard, f"{a.record} and {b.record} meet, but not in one domain")

    @settings(max_examples=80)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans())
    def test_a_trace_arrives_exactly_where_the_flood_does(self, seed: int, rich: bool, odd: bool) -> None:
        wiring = compile_wiring(random_plan(seed, rich, odd))
        roads = Roads(wiring)
        places = [p for p in all_places(wiring) if not p.stand.vni][:7]
        lost = Roads(wiring)
        for a in places:
            for b in places:
                if a.endpoint == b.endpoint:
                    continue
                flood = spots(roads, a) if a.context >= 0 else []
                reached = any(roads.arrives(spot, b) for spot in flood)
                found = trace(wiring, a, b)
                self.assertEqual(found.delivered, reached)
                if not reached:
                    self.assertTrue(any(h.reason for h in found.hops) or found.hops[-1].outcome != "passed", found.hops)
                # With words for what it doesn't pass alone, it is the same way.
                brief = trace(wiring, a, b, lost=lost)
                self.assertEqual([h.records for h in brief.hops], [h.records for h in found.hops])
                self.assertEqual(
                    [h for h in brief.hops if h.outcome in ("dropped", "astray", "open")],
                    [h for h in found.hops if h.outcome in ("dropped", "astray", "open")],
                )

    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans())
    def test_the_way_that_lacks_least_is_no_longer_than_any_other_search_finds(
        self, seed: int, rich: bool, odd: bool
    ) -> None:
        """The search towards the goal, with what is kept between two of them, against one that knows no goal."""
        wiring = compile_wiring(random_plan(seed, rich, odd))
        places = [p for p in all_places(wiring) if p.stand.plain and not p.stand.vni and p.context > 0][:6]
        roads = Roads(wiring)
        for a in places:
            for b in places:
                if a.endpoint == b.endpoint:
                    continue
                target = (b.bridge, b.context)
                found = roads.wish(a, target, b.context)
                self.assertEqual(
                    _price(found), _least(Roads(wiring), a, target, b.context), f"{a.record} to {b.record}"
                )


def _price(steps) -> float | None:
    return None if steps is None else round(sum(HOP + len(step.missing) for step in steps), 9)


def _least(roads: Roads, source, target: tuple[int, int], wanted: int) -> float | None:
    """What the cheapest way costs, by trying all: each spot's price is lowered until none can be."""
    start = (source.bridge, source.context, None)
    price = {start: 0.0}
    waiting = [start]
    while waiting:
        spot = waiting.pop()
        for step, following in roads._wishful(spot, wanted, roads.leaving(spot, source.stand.order, target[0])):
            cost = price[spot] + HOP + len(step.missing)
            if cost < price.get(following, float("inf")) - 1e-9:
                price[following] = cost
                waiting.append(following)
    reached = [cost for spot, cost in price.items() if spot[:2] == target]
    return round(min(reached), 9) if reached else None


if __name__ == "__main__":
    unittest.main()

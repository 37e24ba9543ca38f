"""One segment and one cable alone: what is needed, what could be pruned, who could overhear."""

from __future__ import annotations

import itertools
import random
import unittest

from aptwire.forward.domains import crossing
from aptwire.forward.frames import Frames
from aptwire.forward.hearing import hears
from aptwire.forward.strand import strand
from aptwire.judge.alone import COPIES, HEARS, OVERHEARS, SOCKET, TAP, Ear, alone
from aptwire.judge.need import LACKING, NEEDED, PERHAPS, SPARE, Carried, Needs, needs
from aptwire.judge.verdicts import judge
from aptwire.judge.why import is_idle
from aptwire.plan.edits import Patch, Put, apply_edit
from aptwire.plan.kinds import Adapter, Cable, FabricPort, FabricSwitch, Segment, Station, StationPort
from aptwire.plan.names import endpoint_key
from aptwire.plan.plan import Plan, PlanError

from tests.support import Small, demo_plan, pair, random_plan

ENDS = ("dropped", "open", "leaks")
SORTS = ((False, False), (True, False), (True, True))


def two_switches() -> Small:
    """Host a on one fabric switch, host b on another, a trunk of two VIDs between them; both hosts are on VID 10."""
    made = Small()
    for vid in (10, 20):
        made.segment(vid)
    for name in ("east", "west"):
        made.fabric(name)
    for switch, host in (("east", "a"), ("west", "b")):
        made.trunk(f"{switch}/p1", "10, 20")
        made.host(host, f"{switch}/p1")
        made.guest(host, f"{host}1", 10)
        made.trunk(f"{switch}/x", "10, 20, 30-39")
    made.cable("east/x", "west/x")
    return made


def rows(plan: Plan, end: str) -> dict[str, Carried]:
    """What the cable with this end carries, by the tag."""
    cable = next(c for c in plan.all(Cable) if end in (c.a, c.b))
    return {row.vids or "untagged": row for row in needs(judge(plan)).carried(cable)}


def ears(plan: Plan, segment: str) -> list[Ear]:
    found = alone(judge(plan), plan.get("segment", segment))
    return [*(ear for knot in found.knots for ear in knot.ears), *found.beyond]


class CableTest(unittest.TestCase):
    def test_a_trunk_between_two_needs_what_both_sides_have(self) -> None:
        found = rows(two_switches().plan(), "east/x")
        self.assertEqual((found["10"].need, found["10"].near, found["10"].far), (NEEDED, 1, 1))
        self.assertEqual(found["10"].names, (("a1",), ("b1",)))
        self.assertEqual(found["10"].reads, 2)
        self.assertEqual((found["20"].need, found["20"].reads), (SPARE, 0))

    def test_what_is_on_one_side_alone_is_spare_between_and_read_by_a_tap(self) -> None:
        made = two_switches()
        made.guest("a", "a2", 20)
        found = rows(made.plan(), "east/x")
        self.assertEqual((found["20"].need, found["20"].near, found["20"].far, found["20"].reads), (SPARE, 1, 0, 1))

    def test_what_is_dropped_though_somebody_has_it_is_lacking(self) -> None:
        found = rows(pair("20").plan(), "sw/p1")
        self.assertEqual((found["10"].need, found["10"].there, found["10"].back), (LACKING, "dropped", "unsent"))

    def test_demo_cables_say_who_is_behind_them(self) -> None:
        found = rows(demo_plan(), "fulmar/nic0")
        self.assertEqual(found["120"].names[0], ("fulmar’s move",))
        self.assertNotIn("fulmar’s move", found["120"].names[1])
        self.assertEqual(found["120"].near + found["120"].far, found["120"].reads)


class PruneTest(unittest.TestCase):
    def test_pruned_trunks_keep_what_two_need(self) -> None:
        plan = two_switches().plan()
        cables = [cable.id for cable in plan.all(Cable)]
        edit = needs(judge(plan)).prune(cables)
        pruned = apply_edit(plan, edit)[0]
        self.assertEqual({p.allowed for p in pruned.all(FabricPort)}, {"10"})
        with self.assertRaises(PlanError):
            needs(judge(pruned)).prune(cables)

    def test_what_an_open_end_might_need_stays(self) -> None:
        made = two_switches()
        made.guest("a", "a2", 20)
        made.trunk("west/p9", "20")
        plan = made.plan()
        found = rows(plan, "east/x")["20"]
        self.assertEqual((found.need, found.far), (PERHAPS, 0))
        pruned = apply_edit(plan, needs(judge(plan)).prune([c.id for c in plan.all(Cable)]))[0]
        self.assertEqual(pruned.get("fabric_port", "east/x").allowed, "10, 20")
        # Once it is shut nobody can be behind it.
        shut, _ = apply_edit(plan, (Patch("fabric_port", "west/p9", {"enabled": False}),))
        self.assertEqual(rows(shut, "east/x")["20"].need, SPARE)

    def test_a_port_of_which_not_all_is_said_is_left_alone(self) -> None:
        made = two_switches()
        next(p for p in made.kinds["fabric_port"] if p["id"] == "east/x")["partial"] = True
        plan = made.plan()
        edit = needs(judge(plan)).prune([c.id for c in plan.all(Cable)])
        self.assertNotIn("east/x", {operation.id for operation in edit})

    def test_the_ports_of_a_lag_are_pruned_together(self) -> None:
        made = two_switches()
        for switch in ("east", "west"):
            made.put("lag", f"{switch}/lag", switch=switch, name="lag")
            next(p for p in made.kinds["fabric_port"] if p["id"] == f"{switch}/x")["lag"] = f"{switch}/lag"
            made.trunk(f"{switch}/y", "10, 20, 30-39", lag=f"{switch}/lag")
        made.cable("east/y", "west/y")
        plan = made.plan()
        one = next(c.id for c in plan.all(Cable) if c.a == "east/x")
        pruned = apply_edit(plan, needs(judge(plan)).prune([one]))[0]
        for port in ("east/x", "east/y", "west/x", "west/y"):
            self.assertEqual(pruned.get("fabric_port", port).allowed, "10", port)
        self.assertEqual(pruned.get("fabric_port", "east/p1").allowed, "10, 20", "nobody asked for it")
        self.assertEqual(judge(pruned).verdicts(), judge(plan).verdicts())

    def test_a_way_that_the_tree_blocks_is_needed_for_when_it_does_not(self) -> None:
        made = two_switches()
        for switch in made.kinds["fabric_switch"]:
            switch["spanning_tree"] = True
        for switch in ("east", "west"):
            made.trunk(f"{switch}/y", "10, 20")
        made.cable("east/y", "west/y")
        plan = made.plan()
        blocked = judge(plan).wiring.fabric.tree.blocked
        self.assertEqual(len(blocked), 1)
        for end in ("east/x", "east/y"):
            found = rows(plan, end)
            self.assertEqual((found["10"].need, found["20"].need), (NEEDED, SPARE))
            self.assertTrue(found["10"].around)

    def test_unknown_cables_are_refused(self) -> None:
        with self.assertRaises(PlanError) as caught:
            needs(judge(two_switches().plan())).prune(["nowhere"])
        self.assertEqual(caught.exception.problems[0].field, "cables")

    def test_pruning_everything_moves_nobody_in_random_plans(self) -> None:
        pruned = 0
        for rich, odd in SORTS:
            for seed in range(40):
                plan = random_plan(seed, rich, odd)
                before = judge(plan)
                try:
                    edit = Needs(before).prune([cable.id for cable in plan.all(Cable)])
                except PlanError:
                    continue
                pruned += 1
                after = apply_edit(plan, edit)[0]
                self.assertEqual(judge(after).verdicts(), before.verdicts(), (rich, odd, seed))
                if not odd:
                    self.assertEqual(self._meant(after), self._meant(plan), (rich, odd, seed))
        self.assertGreater(pruned, 80)

    def _meant(self, plan: Plan) -> dict[str, list[str]]:
        """Who hears whom, as far as both use the tags that they were given."""
        wiring = judge(plan).wiring
        meant = {
            f"{endpoint_key(plan, a)}|{wiring.classes.vid(place.label) if place.label else ''}"
            for a in plan.all(Adapter)
            for place in wiring.places_of(a.id)
        }
        return {key: sorted(meant & set(heard)) for key, heard in hears(plan).items() if key in meant}

    def test_needed_is_what_a_way_without_detour_leads_over(self) -> None:
        """Against every simple path, searched one by one, between switches that forward."""
        seen = {True: 0, False: 0}
        for seed in range(60):
            known = Needs(judge(random_plan(seed)))
            passed = Paths(known).passed()
            graph, circles = known.graph, known.circles
            for at in range(graph.way.size):
                n, ends = int(graph.way[at]), sorted((int(graph.start[at]), int(graph.stop[at])))
                core = max(known.ways[n].ends) < len(known.wiring.bridges)
                if core and ends[0] != ends[1] and not circles[at]:
                    wanted = (n, *ends) in passed
                    self.assertEqual(known.needed[at] == 2, wanted, (seed, n, ends))
                    seen[wanted] += 1
        self.assertGreater(min(seen.values()), 50, seen)


class Paths:
    """Every simple path between two nodes at which somebody is, found by walking."""

    def __init__(self, known: Needs) -> None:
        self.gates = set(known.present[0].tolist())
        self.beside: dict[int, list[tuple[int, int]]] = {}
        self.found: set[tuple[int, int, int]] = set()
        count, least = known.classes.count, len(known.wiring.bridges)
        for n, way in enumerate(known.ways):
            for side in (0, 1):
                there = crossing(way.link.rules[side], way.link.rules[1 - side])
                for context in (c for c in range(known.classes.used) if there[c] >= 0):
                    one, two = way.ends[side] * count + context, way.ends[1 - side] * count + int(there[context])
                    if max(way.ends) < least:
                        self.beside.setdefault(one, []).append((two, n))
                        self.beside.setdefault(two, []).append((one, n))
                    elif {one, two} & self.gates:
                        self.gates.add(one if way.ends[side] < least else two)

    def passed(self) -> set[tuple[int, int, int]]:
        """The link and the two nodes of every step on such a path."""
        for gate in self.gates:
            self._walk(gate, [], {gate})
        return self.found

    def _walk(self, node: int, path: list[tuple[int, int, int]], been: set[int]) -> None:
        if path and node in self.gates:
            self.found.update(path)
        for other, n in self.beside.get(node, ()):
            if other not in been:
                self._walk(other, [*path, (n, min(node, other), max(node, other))], been | {other})


class TreeTest(unittest.TestCase):
    def test_every_record_of_the_strand_stands_once_and_every_break_at_one(self) -> None:
        for rich, odd in SORTS:
            for seed in range(40):
                plan = random_plan(seed, rich, odd)
                judgement = judge(plan)
                for segment in plan.all(Segment):
                    pieces = strand(judgement.wiring, segment)
                    knots = alone(judgement, segment).knots
                    standing = [record for knot in knots if not knot.again for record in knot.records]
                    self.assertEqual(len(standing), len(set(standing)))
                    self.assertLessEqual({r for p in pieces for r in (p.start, p.to)}, set(standing))
                    told = {(b.state, b.reason) for knot in knots for b in knot.breaks}
                    self.assertEqual(told, {(p.state, p.reason) for p in pieces if p.state in ENDS})
                    for above, below in itertools.pairwise(knots):
                        self.assertLessEqual(below.depth, above.depth + 1)

    def test_the_demo_hangs_on_its_fabric(self) -> None:
        knots = alone(judge(demo_plan()), demo_plan().get("segment", "segment-berth-planning")).knots
        self.assertEqual((knots[0].records, knots[0].depth), (["marsh-a"], 0))
        broken = next(knot for knot in knots if "marsh-a/p11" in knot.records)
        self.assertEqual(broken.records, ["marsh-a/p11", "kittiwake/nic1"])
        self.assertIn("access port on 130", broken.breaks[0].reason)


class EarsTest(unittest.TestCase):
    def test_who_lands_there_and_belongs_elsewhere_hears_it(self) -> None:
        found = [ear for ear in ears(demo_plan(), "segment-edge") if ear.how == HEARS]
        self.assertIn("announcements hears it and belongs on berth planning", {ear.text for ear in found})

    def test_who_may_overhear_is_told(self) -> None:
        made = two_switches()
        for adapter in made.kinds["adapter"]:
            if adapter["id"] == "a1":
                adapter["overhear"] = True
        self.assertEqual([(e.at, e.how) for e in ears(made.plan(), "s10") if e.how == OVERHEARS], [("a1", OVERHEARS)])

    def test_a_cable_on_which_nobody_needs_it_is_a_tap_until_it_is_pruned(self) -> None:
        made = two_switches()
        made.guest("a", "a2", 20)
        plan = made.plan()
        self.assertEqual({e.at for e in ears(plan, "s20") if e.how == TAP}, {"east/x", "west/p1"})
        pruned = apply_edit(plan, needs(judge(plan)).prune([c.id for c in plan.all(Cable)]))[0]
        self.assertEqual([e for e in ears(pruned, "s20") if e.how == TAP], [])

    def test_whoever_gets_it_on_a_tag_of_a_trunk_is_told(self) -> None:
        made = two_switches()
        made.put("port_group", "b/all", switch="b/s", name="all", mode="trunk", allowed="10, 20")
        made.put("guest", "g-free", name="free", host="b")
        made.put("adapter", "free", guest="g-free", name="tap-free", port_group="b/all")
        self.assertEqual({e.how for e in ears(made.plan(), "s10") if e.at == "free"}, {HEARS})
        text = next(e.text for e in ears(made.plan(), "s10") if e.at == "free")
        self.assertEqual(text, "free gets its frames with tag 10, for which nobody there asked")

    def test_mirrors_copy_it_and_who_could_hear_it_by_tagging_is_told(self) -> None:
        made = two_switches()
        made.guest("a", "probe", 10)
        made.put("mirror", "m", source="a1", target="probe", direction="both")
        made.put("port_group", "b/all", switch="b/s", name="all", mode="trunk", allowed="10, 20")
        made.put("guest", "g-free", name="free", host="b")
        made.put("adapter", "free", guest="g-free", name="tap-free", port_group="b/all", belongs="s20")
        made.put("guest_tag", "free/20", adapter="free", vid=20, belongs="s20")
        found = ears(made.plan(), "s10")
        copies = [(e.at, e.text) for e in found if e.how == COPIES]
        self.assertEqual(copies, [("probe", "probe gets a copy of what a1 sends or takes")])
        self.assertIn(("free", HEARS), {(e.at, e.how) for e in found})
        # Behind a port for its own tag alone nothing of it comes.
        apart, _ = apply_edit(made.plan(), (Patch("port_group", "b/all", {"allowed": "20"}),))
        self.assertNotIn("free", {e.at for e in ears(apart, "s10")})

    def test_a_free_port_is_told_where_a_station_plugged_in_there_hears_it(self) -> None:
        """Against frames: whoever is put on the port hears somebody of the segment, on one of the port's tags."""
        seen = {True: 0, False: 0}
        for rich in (False, True):
            for seed in range(60):
                dice = random.Random(seed)
                plan = random_plan(seed, rich)
                switch = dice.choice(list(plan.all(FabricSwitch))).id
                said = (
                    {"mode": "access", "vid": dice.choice((10, 20))}
                    if dice.random() < 0.5
                    else {"mode": "trunk", "allowed": "10, 30"}
                )
                plan = apply_edit(plan, (Put(FabricPort(id="free", switch=switch, name="free", **said)),))[0]
                judgement = judge(plan)
                probe = (
                    Put(Station(id="probe", name="probe")),
                    Put(StationPort(id="probe/0", station="probe", port="free")),
                )
                frames = Frames(judge(apply_edit(plan, probe)[0]).wiring)
                for segment in (s for s in plan.all(Segment) if s.vid):
                    told = any(ear.at == "free" for ear in ears(plan, segment.id) if ear.how == SOCKET)
                    right, first = judgement.landing.rows.right, judgement.landing.first
                    heard = any(
                        self._reaches(frames, record, "free")
                        for stand in judgement.stands
                        if stand.segment == segment.id and stand.context >= 0 and not stand.vni
                        if right[first[judgement.number(stand)]]
                        for record in stand.records
                    )
                    self.assertEqual(told, heard, (rich, seed, segment.id))
                    seen[heard] += 1
        self.assertGreater(min(seen.values()), 20, seen)

    def _reaches(self, frames: Frames, record: str, port: str) -> bool:
        plan, wiring = frames.wiring.plan, frames.wiring
        place = wiring.place(record)
        assert place is not None
        station = plan.of("station_port").get(record)
        if station is None and is_idle(plan, place.endpoint):
            return False
        sender = station.port if station is not None else place.endpoint
        tags = (wiring.classes.vid(place.label),) if place.label else ()
        return sender in frames.seats and any(id == port for id, _ in frames.stacked(sender, tags))


if __name__ == "__main__":
    unittest.main()

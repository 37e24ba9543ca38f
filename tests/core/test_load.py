"""Load: shares against a linear program, ways against the exact search and the plan without what fails, overhead, bursts, findings with their mends, and what is told of bad ones."""

from __future__ import annotations

import datetime
import itertools
import json
import pathlib
import random
import tempfile
import unittest
from typing import Any

import numpy as np
from aptwire.cli import main
from aptwire.formats.counters import read_counters
from aptwire.forward.parts import Place
from aptwire.judge.mends import mends
from aptwire.judge.risks import risks
from aptwire.judge.risks.load import AFTER, FULL, STARVES, UNEVEN
from aptwire.judge.verdicts import judge, judged_after
from aptwire.paper.handover import handover
from aptwire.plan.checks import make_record
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put, apply_edit
from aptwire.plan.file import write_plan
from aptwire.plan.kinds import Cable, Flow, Nic
from aptwire.plan.plan import Plan, PlanError
from aptwire.stamping.making import from_host
from aptwire.stamping.off import remove, take_out
from aptwire.stamping.stamp import stamp
from aptwire.stress.courses import Courses, Failure, Look, exact_alone
from aptwire.stress.fair import shares
from aptwire.stress.load import Load, fullness, load_of
from aptwire.stress.measured import Measured, measured
from click.testing import CliRunner
from scipy.optimize import linprog

from tests.support import Small, consolidated, random_plan

ON_WIRE = (1500 + 38 + 4) / 1500
"""Bits on a wire for each of a full packet, with a tag."""


def fairly(rates: np.ndarray, uses: np.ndarray, sizes: np.ndarray) -> np.ndarray:
    """Max-min by linear programs alone: raise the least as far as it goes, fix whoever can get no more, and go on.  `uses` [things, demands]."""
    count = rates.size
    fixed: dict[int, float] = {}
    while len(fixed) < count:
        free = [n for n in range(count) if n not in fixed]

        def best(goal: np.ndarray, level: float | None, free: list[int] = free) -> Any:
            # Columns: what each gets, and the level up to which everybody free has what he asks for.
            lines = [np.r_[row, 0.0] for row in uses]
            limits = list(sizes)
            for n in free:
                line = np.zeros(count + 1)
                line[n], line[count] = -1.0, 1.0
                lines.append(line)
                limits.append(0.0)
            bounds = [(fixed[n], fixed[n]) if n in fixed else (0.0, rates[n]) for n in range(count)]
            bounds.append((0.0, None) if level is None else (level, level))
            made = linprog(goal, A_ub=np.array(lines), b_ub=limits, bounds=bounds, method="highs")
            assert made.status == 0, made.message
            return made

        # Whoever asks for no more than the level that all reach is out of it.
        least = min(rates[n] for n in free)
        goal = np.zeros(count + 1)
        goal[count] = -1.0
        level = min(float(best(goal, None).x[count]), least)
        for n in free:
            most = np.zeros(count + 1)
            most[n] = -1.0
            if rates[n] <= level * (1 + 1e-9) or best(most, level).x[n] <= level + 1e-6 * max(1.0, level):
                fixed[n] = level
    return np.array([fixed[n] for n in range(count)])


def with_flows(plan: Plan, dice: random.Random, count: int = 6) -> Plan:
    """A plan with flows of its interfaces, some bursts among them, and speeds of some ports."""
    edit: list[Operation] = []
    speeds = {id: dice.choice([None, 1_000, 10_000, 25_000]) for id in [*plan.of("host"), *plan.of("fabric_switch")]}
    for kind, of in (("nic", "host"), ("fabric_port", "switch")):
        edit += [Patch(kind, record.id, {"speed": speeds[getattr(record, of)]}) for record in plan.of(kind).values()]
    places = sorted([*plan.of("adapter"), *plan.of("host_port"), *plan.of("station_port")])
    for n in range(count if len(places) > 1 else 0):
        of, to = dice.choice([*places, *plan.of("segment")]), dice.choice(places)
        towards = dice.choice(["gateway", "one", "one", "others"])
        said: dict[str, Any] = {"id": f"flow-{n}", "name": f"flow {n}", "of": of, "towards": towards}
        if towards == "one":
            said["to"] = to if to != of else next(p for p in places if p != of)
        said["sends"] = dice.choice([200, 3_000, 9_000])
        if dice.random() < 0.5:
            said["gets"] = dice.choice([100, 2_000, 12_000])
        if dice.random() < 0.3:
            said["burst"] = True
        if dice.random() < 0.3:
            said["packet"] = dice.choice([64, 576, 9000])
        edit.append(Put(make_record("flow", said)))
    return apply_edit(plan, tuple(edit))[0]


def wired(seed: int) -> Plan:
    """Hosts with teams of every mode at switches in a row, or in a ring with a spanning tree, some joined by LAGs, some ports without a VID."""
    dice = random.Random(seed)
    made = Small()
    for vid in (10, 20):
        made.segment(vid, subnets=[f"10.64.{vid}.0/24"], gateways=[f"10.64.{vid}.1"])
    switches, tree = [f"sw{n}" for n in range(dice.randint(2, 4))], dice.random() < 0.6
    for n, switch in enumerate(switches):
        made.fabric(switch, spanning_tree=tree, mac=f"02:00:5e:00:00:{n:02x}", priority=4096 * dice.randint(1, 3))

    def allowed() -> str:
        return dice.choice(["10, 20", "10, 20", "10, 20", "10", "20"])

    pairs = list(itertools.pairwise(switches)) + ([(switches[-1], switches[0])] if dice.random() < 0.7 else [])
    for n, (one, two) in enumerate(pairs):
        lag = dice.random() < 0.4
        ends = []
        for k, switch in enumerate((one, two)):
            if lag:
                made.put("lag", f"{switch}/lag{n}{k}", switch=switch, name=f"lag{n}{k}")
            tags, more = allowed(), {"lag": f"{switch}/lag{n}{k}"} if lag else {}
            ends.append([made.trunk(f"{switch}/x{n}{k}{m}", tags, **more) for m in range(2 if lag else 1)])
        for a, b in zip(*ends, strict=True):
            made.cable(a, b)
    for n in range(dice.randint(2, 4)):
        mode = dice.choice(["standby", "pinned", "hashed", "lacp"])
        at = (
            [dice.choice(switches)] * 2
            if mode == "lacp"
            else [dice.choice(switches) for _ in range(dice.randint(1, 3))]
        )
        more = {}
        if mode == "lacp":
            made.put("lag", f"{at[0]}/h{n}", switch=at[0], name=f"h{n}")
            more = {"lag": f"{at[0]}/h{n}"}
        tags = allowed()
        ports = [made.trunk(f"{switch}/h{n}{k}", tags if more else allowed(), **more) for k, switch in enumerate(at)]
        made.host(f"host{n}", *ports, uplink={"mode": mode})
        for nic in made.kinds["nic"][-len(ports) :]:
            nic["card"] = dice.choice(["", "one", "two"])
            nic["role"] = dice.choice(["active", "active", "standby"])
        for vid in (10, 20):
            made.guest(f"host{n}", f"g{n}-{vid}", vid, addresses=[f"10.64.{vid}.{n + 5}/24"])
    made.put("station", "r", name="r", routes=True)
    port = made.trunk(f"{dice.choice(switches)}/r", "10, 20")
    for vid in (10, 20):
        own = {"belongs": f"s{vid}", "addresses": [f"10.64.{vid}.1/24"]}
        made.put("station_port", f"r/{vid}", station="r", port=port, vid=vid, **own)
    return made.plan()


def told(load: Load) -> dict[Any, tuple[float, float, float]]:
    """Expected, most and after a failure, by direction."""
    return {d.way: (round(d.asked, 6), round(d.most, 6), round(d.after, 6)) for d in load.directions}


def amounts(look: Look, source: Place, target: Place, failure: Failure | None = None) -> dict[Any, tuple[float, float]]:
    found = look._amounts(source, target, failure)
    return {look.courses.ways[at]: (round(own[0], 9), own[2]) for at, own in found.items()}


class FairTest(unittest.TestCase):
    def test_what_each_gets_is_what_linear_programs_say(self) -> None:
        for seed in range(60):
            dice = np.random.default_rng(seed)
            things, demands = dice.integers(1, 6), dice.integers(1, 9)
            rates = dice.choice([1.0, 5.0, 40.0, 100.0, 300.0], demands)
            uses = dice.choice([0.0, 0.0, 0.25, 0.5, 1.0, 1.03], (things, demands))
            sizes = dice.choice([10.0, 100.0, 250.0], things)
            what, who = np.nonzero(uses)
            got = shares(rates, who, what, uses[what, who], sizes)
            np.testing.assert_allclose(got, fairly(rates, uses, sizes), rtol=1e-5, atol=1e-6, err_msg=f"seed {seed}")

    def test_flows_of_random_plans_get_what_a_linear_program_says(self) -> None:
        tight = 0
        for seed in range(30):
            load = load_of(judge(with_flows(wired(seed), random.Random(seed))))
            entries, rates = load.entries, load.steady
            known = np.isfinite(load.speeds[entries.at])
            uses = np.zeros((len(load.ways), rates.size))
            np.add.at(uses, (entries.at[known], entries.who[known]), entries.share[known])
            sizes = np.where(np.isfinite(load.speeds), load.speeds, 0.0)
            # Who sticks to one member of a team gets no more than that carries.
            for size, members in load._single:
                uses = np.vstack([uses, np.isin(np.arange(rates.size), members)])
                sizes = np.append(sizes, size)
            np.testing.assert_allclose(load.got(), fairly(rates, uses, sizes), rtol=1e-5, atol=1e-4, err_msg=f"{seed}")
            tight += bool((load.got() < rates - 1).any())
        self.assertGreater(tight, 10)

    def test_a_cable_that_is_shared_gives_the_small_ones_all_and_the_others_alike(self) -> None:
        rates = np.array([1.0, 6.0, 9.0])
        zeros = np.zeros(3, dtype=np.int64)
        got = shares(rates, np.arange(3), zeros, np.ones(3), np.array([10.0]))
        np.testing.assert_allclose(got, [1.0, 4.5, 4.5])


class CourseTest(unittest.TestCase):
    def test_ways_are_those_of_the_exact_search_today_and_after_failures(self) -> None:
        asked = 0
        for seed in range(60):
            plan = wired(seed) if seed % 2 else random_plan(seed, rich=seed % 3 == 1)
            judgement = judge(plan)
            wiring = judgement.wiring
            if exact_alone(wiring, judgement.pairings):
                continue
            quick, slow = (
                Look(wiring, judgement.pairings, Courses(wiring.fabric), exactly) for exactly in (False, True)
            )
            dice = random.Random(seed)
            places = [p for id in sorted(wiring.stand_of) if (p := wiring.place(id)) is not None]
            for one, two in (dice.sample(places, 2) for _ in range(30) if len(places) > 1):
                found = quick._amounts(one, two, None)
                failures = [None, *quick._failures(found, one, two)]
                for failure in failures:
                    # Ways that are as long may differ where switches are joined twice without a tree.
                    mine, theirs = (amounts(look, one, two, failure) for look in (quick, slow))
                    if mine.keys() != theirs.keys() and len(mine) == len(theirs):
                        continue
                    self.assertEqual(mine, theirs, f"seed {seed}: {one.record} to {two.record} after {failure}")
                    asked += bool(mine)
        self.assertGreater(asked, 500)

    def test_a_failure_is_the_plan_without_what_fails(self) -> None:
        asked = 0
        for seed in (*range(130), 285):
            dice = random.Random(seed)
            plan = with_flows(wired(seed) if seed % 4 else random_plan(seed), dice)
            judgement = judge(plan)
            load = Load(judgement)
            verdicts = judgement.verdicts()
            ends = {end for demand in load.demands for part in demand.parts for end in (part.source, part.target)}
            if load._look.exactly or any(verdicts.get(end) in ("wavering", "stranded", "astray") for end in ends):
                # What doesn't get there today has no way of which anything would be known.
                continue
            for failure in load.failures:
                without = self._without(plan, failure)
                if without is None:
                    continue
                after = Load(judged_after(judgement, without))
                names = [(d.flow, d.who, d.back, [(p.source, p.target) for p in d.parts]) for d in load.demands]
                left = [(d.flow, d.who, d.back, [(p.source, p.target) for p in d.parts]) for d in after.demands]
                if [name for name in names if name in left] != left:
                    continue
                mine = self._after(load, failure)
                theirs = {d.way: d.asked for d in after.directions if d.asked > 1e-6}
                self.assertEqual(mine.keys(), theirs.keys(), f"seed {seed}: {failure}")
                for way, value in theirs.items():
                    self.assertAlmostEqual(mine[way], value, 4, f"seed {seed}: {failure} at {way}")
                asked += 1
        self.assertGreater(asked, 60)

    @staticmethod
    def _without(plan: Plan, failure: Failure) -> Edit | None:
        if failure.kind == "nic":
            return (Patch("nic", failure.id, {"link": "down"}),) if plan.get("nic", failure.id).link == "up" else None
        if failure.kind == "cable":
            return (Drop("cable", failure.id),)
        if failure.kind == "card":
            nics = [n for n in plan.all(Nic) if (n.host, n.card) == (failure.id, failure.card) and n.link == "up"]
            return tuple(Patch("nic", nic.id, {"link": "down"}) for nic in nics)
        if failure.kind == "fabric_switch":
            ports = {p.id for p in plan.where("fabric_port", "switch", failure.id)}
            if any(plan.where(kind, "port", port) for port in ports for kind in ("station_port", "way_in")):
                return None
            cables = [c for c in plan.all(Cable) if {c.a, c.b} & ports]
            ends = {end for cable in cables for end in (cable.a, cable.b)}
            nics = [n for n in plan.all(Nic) if n.id in ends and n.link == "up"]
            return (*(Drop("cable", c.id) for c in cables), *(Patch("nic", n.id, {"link": "down"}) for n in nics))
        return None

    @staticmethod
    def _after(load: Load, failure: Failure) -> dict[Any, float]:
        who, at, share, rates = load.after_failure(failure, load.steady)
        found = np.bincount(at, weights=share * rates[who], minlength=len(load.ways))
        return {load.ways[n]: float(found[n]) for n in np.flatnonzero(found > 1e-6)}

    def test_after_edits_it_is_as_from_nothing(self) -> None:
        for seed in range(12):
            dice = random.Random(seed)
            judgement = judge(with_flows(wired(seed) if seed % 2 else random_plan(seed, rich=True), dice))
            self.assertIsNotNone(load_of(judgement).directions)
            for _ in range(6):
                plan = judgement.plan
                adapters, nics = sorted(plan.of("adapter")), sorted(plan.of("nic"))
                edits: list[Edit] = [
                    (Patch("adapter", dice.choice(adapters), {"connected": dice.random() < 0.5}),) if adapters else (),
                    (Patch("nic", dice.choice(nics), {"link": dice.choice(["up", "down"])}),) if nics else (),
                    (Patch("flow", f"flow-{dice.randrange(6)}", {"sends": dice.choice([100, 700, 4_000])}),)
                    if plan.of("flow")
                    else (),
                    (Patch("segment", dice.choice(sorted(plan.of("segment"))), {"gateways": []}),),
                ]
                ports = [port.id for port in plan.of("fabric_port").values() if port.mode == "trunk"]
                edits.append(
                    (Patch("fabric_port", dice.choice(ports), {"allowed": dice.choice(["10, 20", "10", "20"])}),)
                )
                edits.append((Patch("fabric_port", dice.choice(ports), {"speed": None}),))
                edits.append((Patch("host", dice.choice(sorted(plan.of("host"))), {"name": f"tern-{dice.random()}"}),))
                cables = sorted(plan.of("cable"))
                if cables:
                    edits.append((Drop("cable", dice.choice(cables)),))
                try:
                    judgement = judged_after(judgement, dice.choice(edits))
                except PlanError:
                    continue
                load, anew = load_of(judgement), Load(judge(judgement.plan))
                self.assertEqual(told(load), told(anew), f"seed {seed}")
                self.assertEqual(sorted(load.unsent, key=str), sorted(anew.unsent, key=str))
                np.testing.assert_allclose(load.got(), anew.got(), rtol=1e-9)

    def test_through_a_host_that_joins_two_switches_a_flow_counts_at_both_of_its_uplinks(self) -> None:
        made = Small()
        made.segment(10)
        for switch in ("sw0", "sw1"):
            made.fabric(switch)
        made.host("a", made.trunk("sw0/a", "10"))
        made.put("uplink", "a/u2", switch="a/s", name="u2")
        made.put("nic", "a/n1", host="a", name="n1", uplink="a/u2")
        made.cable("a/n1", made.trunk("sw1/a", "10"))
        for host, switch in (("b", "sw0"), ("c", "sw1")):
            made.host(host, made.trunk(f"{switch}/{host}", "10"))
        for host in "abc":
            made.guest(host, f"g{host}", 10)
        over = {
            ("ga", "gb"): {"a/n0", "sw0/b"},
            ("ga", "gc"): {"a/n1", "sw1/c"},
            ("gb", "gc"): {"b/n0", "sw0/a", "a/n1", "sw1/c"},
        }
        for (one, two), ports in over.items():
            flow = {"id": "f", "name": "f", "of": one, "towards": "one", "to": two, "sends": 100}
            load = load_of(judge(apply_edit(made.plan(), (Put(make_record("flow", flow)),))[0]))
            asked = {direction.way.port: direction.asked for direction in load.directions if direction.asked}
            self.assertEqual(ports, set(asked), (one, two))
            np.testing.assert_allclose(list(asked.values()), 100 * ON_WIRE)

    def test_over_routers_each_leg_counts(self) -> None:
        """On random plans whose pings get through, what is sent over routers leaves by the sender's cable and comes in at the receiver's, and each router's cable twice."""
        made = Small()
        for vid in (10, 20):
            made.segment(vid, subnets=[f"10.64.{vid}.0/24"], gateways=[f"10.64.{vid}.1"])
        made.fabric("sw")
        for host in "ab":
            made.host(host, made.trunk(f"sw/{host}", "10, 20"))
        made.guest("a", "one", 10, addresses=["10.64.10.5/24"])
        made.guest("b", "two", 20, addresses=["10.64.20.5/24"])
        port = made.trunk("sw/r", "10, 20")
        made.put("station", "r", name="r", routes=True)
        for vid in (10, 20):
            made.put(
                "station_port",
                f"r/{vid}",
                station="r",
                port=port,
                vid=vid,
                belongs=f"s{vid}",
                addresses=[f"10.64.{vid}.1/24"],
            )
        made.put("flow", "f", name="f", of="one", towards="one", to="two", sends=1000)
        load = load_of(judge(made.plan()))
        self.assertEqual([], load.unsent)
        asked = {(d.way.port, d.way.sends): d.asked / ON_WIRE for d in load.directions}
        self.assertEqual(4, len(asked), asked)
        for way, value in asked.items():
            self.assertAlmostEqual(1000, value, 6, str(way))
        self.assertIn(("sw/r", True), asked)
        self.assertIn(("sw/r", False), asked)


class FindingTest(unittest.TestCase):
    def found(self, plan: Plan) -> dict[str, Any]:
        kinds = (FULL, AFTER, UNEVEN, STARVES)
        return {risk.what: risk for risk in risks(judge(plan)) if risk.what in kinds}

    def relieved(self, plan: Plan, what: str, starting: str) -> Plan:
        """The plan once the mend that starts so is taken, which rids it of what was found."""
        judgement = judge(plan)
        finding = next(risk for risk in risks(judgement) if risk.what == what)
        offered = {mend.title: mend for mend in mends(judgement, finding)}
        title = next((title for title in offered if title.startswith(starting)), None)
        self.assertIsNotNone(title, f"{starting} is not among {list(offered)}")
        after = apply_edit(plan, offered[str(title)].edit)[0]
        self.assertNotIn(what, self.found(after))
        return after

    def test_a_migration_takes_from_storage_until_it_has_nics_of_its_own_or_a_limit(self) -> None:
        plan = consolidated(mode="standby", spare=True).plan()
        starving = self.found(plan)[STARVES]
        self.assertEqual("migration takes from storage", starving.title)
        self.assertIn("gets 4,864 of 6,000 Mbit/s", starving.text)
        apart = self.relieved(plan, STARVES, "Give migration n2 for itself on a and b")
        self.assertEqual({"a/n2", "b/n2"}, {nic.id for nic in apart.all(Nic) if nic.name == "n2" and nic.uplink})
        held = self.relieved(plan, STARVES, "Hold migration to 3,700 Mbit/s")
        load = load_of(judge(held))
        burst = next(n for n, demand in enumerate(load.demands) if demand.burst)
        np.testing.assert_allclose(load.got(burst=burst)[[n for n, d in enumerate(load.demands) if not d.burst]], 6_000)

    def test_where_one_flow_alone_cannot_give_way_enough_all_do(self) -> None:
        made = consolidated(mode="standby", sends=9_000)
        made.put("flow", "more", name="more", service="storage", towards="one", to="array/30", sends=9_500)
        made.put("flow", "most", name="most", service="storage", towards="one", to="array/30", sends=9_800)
        after = self.relieved(made.plan(), FULL, "Hold each of the 3 flows there to what fits, 34% at the least")
        self.assertEqual(
            {"st": 3_093, "more": 3_265, "most": 3_368}, {f.id: f.limit for f in after.all(Flow) if f.limit}
        )

    def test_where_no_nic_is_free_the_last_of_the_team_is_offered(self) -> None:
        plan = consolidated(mode="standby").plan()
        self.relieved(plan, STARVES, "Give migration n1 for itself on a and b")

    def test_what_a_failure_fills(self) -> None:
        plan = consolidated(sends=12_000).plan()
        found = self.found(plan)
        self.assertNotIn(FULL, found)
        self.assertIn("is full once n1 of a has failed", found[AFTER].title)
        self.assertIn("12,336 Mbit/s", found[AFTER].text)
        self.relieved(plan, AFTER, "Hold storage to 9,700 Mbit/s")

    def test_what_is_full_always_or_where_flows_fall_badly(self) -> None:
        self.assertIn(FULL, self.found(consolidated(mode="standby", sends=12_000).plan()))
        self.relieved(consolidated(mode="standby", sends=12_000).plan(), FULL, "Hold storage")
        quiet = self.found(consolidated(mode="standby", sends=500).plan())
        self.assertEqual({}, {what: risk.title for what, risk in quiet.items()})

    def test_a_cable_of_which_nobody_says_its_speed_is_never_told_as_wide_enough(self) -> None:
        made = consolidated(sends=12_000)
        for record in (*made.kinds["nic"], *made.kinds["fabric_port"]):
            record.pop("speed", None)
        load = load_of(judge(made.plan()))
        self.assertEqual({None}, {direction.speed for direction in load.directions})
        self.assertEqual({-1.0}, {fullness(direction) for direction in load.directions})


class PatternTest(unittest.TestCase):
    def test_what_a_pattern_makes_of_a_part_sends_on_every_host_that_it_is_stamped_on(self) -> None:
        made = Small()
        made.segment(30, role="storage", subnets=["10.64.30.0/24"])
        made.fabric("sw")
        for host in "abc":
            made.host(host, made.trunk(f"sw/{host}", "30"))
        own = {"services": ["storage"], "belongs": "s30", "addresses": ["10.64.30.5/24"]}
        made.put("host_port", "a/store", switch="a/s", name="store", vid=30, **own)
        made.kinds["uplink"] = [one for one in made.kinds["uplink"] if one["id"] == "a/u"]
        made.kinds["virtual_switch"] = [one for one in made.kinds["virtual_switch"] if one["id"] == "a/s"]
        for nic in made.kinds["nic"]:
            if nic["host"] != "a":
                nic.pop("uplink")
        plan = apply_edit(made.plan(), from_host(made.plan(), "a", "all"))[0]
        part = next(iter(plan.of("pattern_host_port")))
        flow = {"id": "f", "name": "f", "of": part, "towards": "others", "sends": 100}
        plan = apply_edit(plan, (Put(make_record("flow", flow)),))[0]
        self.assertEqual(
            ["there are no others to whom it would send"], [one.reason for one in load_of(judge(plan)).unsent]
        )
        judgement = judge(plan)
        edit = stamp(plan, next(iter(plan.of("pattern"))), ["b", "c"])
        load = load_of(judged_after(judgement, edit))
        self.assertEqual({"a/store": 100}, {d.who: d.rate for d in load.demands if d.who == "a/store"})
        self.assertEqual(3, len({demand.who for demand in load.demands}))
        # Without the part nobody is meant.
        gone = apply_edit(plan, take_out(plan, part))[0]
        self.assertEqual({}, dict(gone.of("flow")))
        self.assertEqual({}, dict(apply_edit(plan, remove(plan, next(iter(plan.of("pattern")))))[0].of("flow")))


class ReadingTest(unittest.TestCase):
    """What `ip -statistics -json link` printed twice becomes flows."""

    def setUp(self) -> None:
        made = consolidated()
        made.guest("a", "tap-web", 20, addresses=["10.64.20.50/24"])
        self.plan = made.plan()

    @staticmethod
    def reading(stats: str = "stats64", **interfaces: tuple[int, int, int, int]) -> bytes:
        """Interfaces with bytes and packets that they took in, and gave out."""
        names = {name.replace("_", "-"): counts for name, counts in interfaces.items()}
        return json.dumps(
            [
                {
                    "ifindex": number,
                    "ifname": name,
                    "address": "02:00:5e:00:00:01",
                    stats: {"rx": {"bytes": a, "packets": b}, "tx": {"bytes": c, "packets": d}},
                }
                for number, (name, (a, b, c, d)) in enumerate(sorted(names.items()))
            ]
        ).encode()

    def taken(self, before: bytes, after: bytes, seconds: float = 10.0, plan: Plan | None = None) -> Measured:
        ways = read_counters(before, "before.json"), read_counters(after, "after.json")
        return measured(plan or self.plan, "a", *ways, seconds, "2026-11-28T09:30:00Z", "others")

    def test_a_guest_sends_what_its_tap_takes_in(self) -> None:
        # 1,000 packets of 1,486 bytes each 10 ms, and a tenth of that back.
        after = self.reading(
            tap_web=(1_500_000_000, 1_000_000, 150_000_000, 100_000), n0=(0, 0, 1_500_000_000, 1_000_000)
        )
        made = self.taken(self.reading(tap_web=(0, 0, 0, 0), n0=(0, 0, 0, 0)), after)
        plan = apply_edit(self.plan, made.edit)[0]
        flow = next(flow for flow in plan.all(Flow) if flow.of == "tap-web")
        self.assertEqual((1_189, 119, 1_486, "others"), (flow.sends, flow.gets, flow.packet, flow.towards))
        self.assertEqual((("a/n0", 1219.2, 0.0),), made.nics)
        again = self.taken(
            after,
            self.reading(tap_web=(1_500_000_000, 1_000_000, 150_000_000, 100_000), n0=(0, 0, 1_500_000_000, 1_000_000)),
            plan=plan,
        )
        self.assertEqual([Drop("flow", flow.id)], list(again.edit), "what is idle now goes")

    def test_what_somebody_said_is_left(self) -> None:
        flow = {"id": "said", "name": "said", "of": "tap-web", "towards": "others", "sends": 5}
        plan = apply_edit(self.plan, (Put(make_record("flow", flow)),))[0]
        before, after = self.reading(tap_web=(0, 0, 0, 0)), self.reading(tap_web=(1_500_000_000, 1_000_000, 0, 0))
        made = self.taken(before, after, plan=plan)
        self.assertEqual(((), ("tap-web of tap-web: what somebody said of it is left",)), (made.edit, made.told))

    def test_counters_that_began_anew_or_are_too_short_are_told_and_not_taken(self) -> None:
        def told(before: bytes, after: bytes, seconds: float = 10.0) -> str:
            made = self.taken(before, after, seconds)
            self.assertEqual((), made.edit)
            return "; ".join(made.told)

        before, after = self.reading(tap_web=(900, 9, 900, 9)), self.reading(tap_web=(100, 1, 1_000, 10))
        self.assertIn("its counters started anew", told(before, after))
        before, after = (self.reading("stats", tap_web=one) for one in ((900, 9, 900, 9), (4_000_000, 90, 900, 9)))
        self.assertIn("its speed isn’t known", told(before, after))
        self.assertIn("wasn’t there before", told(self.reading(n0=(0, 0, 0, 0)), self.reading(tap_web=(1, 1, 1, 1))))
        fast = self.reading(n0=(10**12, 10**9, 0, 0))
        self.assertIn("more than the 10,000 that it does", told(self.reading(n0=(0, 0, 0, 0)), fast))

    def test_a_short_counter_that_wrapped_once_is_righted_where_it_cannot_have_wrapped_more_often(self) -> None:
        before, after = (self.reading("stats", n0=one) for one in ((2**32 - 1_000, 10, 0, 0), (249_000, 260, 0, 0)))
        made = self.taken(before, after, 2.0)
        self.assertAlmostEqual((250_000 + 24 * 250) * 8 / 2 / 1e6, made.nics[0][2])
        self.assertIn("begin anew more often", "; ".join(self.taken(before, after, 60.0).told))

    def test_bad_readings_are_refused_by_file_and_field(self) -> None:
        good = self.reading(tap_web=(0, 0, 0, 0))
        bad: dict[bytes, str] = {
            b"{}": "should hold a list",
            b"[{": "before.json",
            b"[]": "holds no counters",
            b'[{"ifname": "n0", "stats64": {"rx": {"bytes": -1, "packets": 0}, "tx": {"bytes": 0, "packets": 0}}}]': "is less than nothing",
            b'[{"ifname": "n0", "stats64": {"rx": {"bytes": "x"}}}]': "field bytes: should be a whole number",
        }
        for data, message in bad.items():
            with self.assertRaises(PlanError) as caught:
                self.taken(data, good)
            self.assertIn(message, str(caught.exception))
        for seconds in (0.0, -1.0, 1e9):
            with self.assertRaises(PlanError) as caught:
                self.taken(good, good, seconds)
            self.assertIn("field seconds", str(caught.exception))


class CommandTest(unittest.TestCase):
    def told(self, *more: str, expected: int = 0) -> str:
        with tempfile.TemporaryDirectory() as folder:
            path = pathlib.Path(folder, "plan.json")
            path.write_bytes(write_plan(consolidated(spare=True, sends=11_000).plan()))
            result = CliRunner().invoke(main, ["flows", str(path), *more])
        self.assertEqual(expected, result.exit_code, result.output)
        return result.output

    def test_the_report_has_the_fullest_cables(self) -> None:
        made = "".join(handover(judge(consolidated(sends=12_000).plan()), datetime.date(2026, 11, 28)))
        self.assertRegex(made, r"<td class=k>n0 of a → port a0 of sw</td>.*62%.*123%.*n1 of a")

    def test_the_table_says_how_full_cables_are_and_what_flows_get(self) -> None:
        self.assertRegex(self.told(), r"n0 of a → port a0 of sw +10,000 +5,654 +57% +113% +\d+% +113% +n1 of a")
        self.assertRegex(self.told("--without", "a/n1"), r"n0 of a → port a0 of sw +10,000 +11,308 +113%")
        self.assertRegex(
            self.told("--without", "a/n1"), r"storage +2 +22,000 +20,728 +host port storage of a: 9,728 of 11,000"
        )
        found = json.loads(self.told("--json", "--burst", "migration"))
        self.assertEqual(9_000, next(f for f in found["flows"] if f["name"] == "migration")["asks"])
        self.assertIn("nothing goes over", self.told("--without", "a/n7", expected=2))
        self.assertIn("has no bursts", self.told("--burst", "storage", expected=2))


class OverheadTest(unittest.TestCase):
    def test_frames_take_more_than_their_packets(self) -> None:
        """Preamble, header, check and gap are 38 bytes; a tag 4; a small packet is padded to 46 (IEEE Std 802.3)."""
        made = Small()
        made.segment(10)
        made.fabric("sw")
        for host in "ab":
            made.host(host, made.trunk(f"sw/{host}", "10"))
            made.guest(host, f"{host}1", 10)
        for packet, bits in ((1500, 1542 / 1500), (46, 88 / 46), (28, 88 / 28), (9000, 9042 / 9000)):
            flow = {"id": "f", "name": "f", "of": "a1", "towards": "one", "to": "b1", "sends": 100, "packet": packet}
            plan = apply_edit(made.plan(), (Put(make_record("flow", flow)),))[0]
            asked = [direction.asked for direction in load_of(judge(plan)).directions]
            np.testing.assert_allclose(asked, [100 * bits] * 2)

    def test_an_overlay_adds_its_header(self) -> None:
        made = Small()
        made.segment(10)
        made.put("segment", "over", name="over", vni=5000)
        made.fabric("sw")
        for n, host in enumerate("ab"):
            made.host(host, made.trunk(f"sw/{host}", "10"))
            own = {"belongs": "s10", "addresses": [f"10.64.10.{n + 5}/24"]}
            made.put("host_port", f"{host}/vtep", switch=f"{host}/s", name="vtep", vid=10, **own)
            group = {"switch": f"{host}/s", "name": "over", "mode": "overlay", "vni": 5000, "over": f"{host}/vtep"}
            made.put("port_group", f"{host}/over", **group)
            made.put("guest", f"g{host}", host=host, name=f"g{host}")
            own = {"port_group": f"{host}/over", "belongs": "over"}
            made.put("adapter", f"{host}1", guest=f"g{host}", name=f"{host}1", **own)
        made.put("flow", "f", name="f", of="a1", towards="one", to="b1", sends=1000)
        asked = [direction.asked for direction in load_of(judge(made.plan())).directions]
        np.testing.assert_allclose(asked, [1000 * (1500 + 50 + 38 + 4) / 1500] * 2)


class BadTest(unittest.TestCase):
    def refused(self, **said: Any) -> str:
        flow = {"id": "bad", "name": "bad", "of": "s20", "towards": "others", "sends": 10, **said}
        with self.assertRaises(PlanError) as caught:
            apply_edit(consolidated().plan(), (Put(make_record("flow", flow)),))
        return str(caught.exception)

    def test_what_says_nothing_or_too_much_is_refused_by_record_and_field(self) -> None:
        self.assertIn("flow bad, field sends: 0 is outside 1 to 800000", self.refused(sends=0))
        self.assertIn("field gets: 900000 is outside 1 to 800000", self.refused(gets=900_000))
        self.assertIn("field sends: sends nothing and gets nothing back", self.refused(sends=None))
        self.assertIn("field of: names who sends and a service", self.refused(service="storage"))
        self.assertIn("field of: names nobody who sends", self.refused(of=None))
        self.assertIn("field to: goes to one, and doesn’t say to whom", self.refused(towards="one"))
        self.assertIn("field to: goes to others, not to one", self.refused(to="a/storage"))
        self.assertIn("field name", self.refused(name="storage"))

    def test_what_cannot_be_counted_is_said(self) -> None:
        made = consolidated()
        made.put("flow", "away", name="away", of="a/storage", sends=10)
        made.put("flow", "nobody", name="nobody", service="backup", sends=10)
        made.guest("a", "off", 20, connected=False)
        made.put("flow", "idle", name="idle", of="off", towards="others", sends=10)
        reasons = {unsent.flow: unsent.reason for unsent in load_of(judge(made.plan())).unsent}
        self.assertEqual("no gateway is said for it", reasons["away"])
        self.assertEqual("there is nobody who would send", reasons["nobody"])
        self.assertEqual("all who would send are idle", reasons["idle"])


if __name__ == "__main__":
    unittest.main()

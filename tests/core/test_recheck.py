"""The checker of validation reports: it agrees with what the engine says, and catches reports and engines that say something else."""

from __future__ import annotations

import ast
import copy
import datetime
import random
import unittest
from collections.abc import Callable
from typing import Any
from unittest.mock import patch

from aptwire.above.ping import Pings
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import judge
from aptwire.judge.why import CUT_OFF, LEAK, NO_GROUP, WRONG_TAG
from aptwire.paper.validation import hops_of, validation, validation_html
from aptwire.plan.edits import Patch, apply_edit
from aptwire.plan.plan import Plan
from aptwire.plan.ports import PASSES, said
from aptwire.plan.stacks import Stack
from aptwire.recheck import Verdict, read_report, recheck

from measure.fleet import fleet
from tests.routers import advertising_plan, filtered_plan, inward_plan, outward_plan, routed_plan
from tests.support import ROOT, Small, demo_plan, pair, random_plan

WHEN = datetime.datetime(2026, 11, 27, 12, 0, tzinfo=datetime.UTC)
ON_LAYER_2 = (CUT_OFF, NO_GROUP, WRONG_TAG, LEAK)
"""Why somebody isn't home whom the checker must not take as home."""


def report_of(plan: Plan, judgement: Judgement | None = None) -> dict[str, Any]:
    return validation(judgement or judge(plan), WHEN)


def with_home(report: dict[str, Any], endpoints: set[str]) -> dict[str, Any]:
    """The report as if it claimed these at home too."""
    made = copy.deepcopy(report)
    for one in made["endpoints"]:
        if one["id"] in endpoints:
            one["verdict"] = "home"
    return made


class AgreementTest(unittest.TestCase):
    def test_no_claim_of_the_engine_fails(self) -> None:
        right = 0
        plans = [demo_plan(), fleet(40), *(random_plan(seed) for seed in range(60))]
        for n, plan in enumerate(plans):
            with self.subTest(n):
                found = recheck(plan, report_of(plan))
                self.assertEqual(found.failed, ())
                right += found.right.get("home", 0)
        self.assertGreater(right, 900)

    def test_of_a_fleet_nothing_is_left_unchecked(self) -> None:
        plan = fleet(40)
        found = recheck(plan, report_of(plan))
        home = sum(verdict == "home" for verdict in judge(plan).verdicts().values())
        self.assertEqual((found.right["home"], found.unchecked), (home, ()))

    def test_what_isn_t_understood_is_named(self) -> None:
        found = recheck(demo_plan(), report_of(demo_plan()))
        self.assertTrue(any("an overlay" in line for line in found.unchecked), found.unchecked)
        self.assertTrue(any("a virtual function" in line for line in found.unchecked))


def with_pings(plan: Plan, most: int = 30) -> dict[str, Any]:
    """The report with the hops of every ping from one machine to another that the engine says is answered, as far as there are not too many."""
    judgement = judge(plan)
    report, pings = report_of(plan, judgement), Pings(judgement)
    machines = sorted(r.id for kind in ("guest", "station", "host") for r in plan.all(kind))
    pairs = random.Random(plan.name).sample([(a, b) for a in machines for b in machines if a != b], len(machines))
    told = ({"from": a, "to": b, **hops_of(pings.ask(a, b))} for a, b in pairs)
    return {**report, "pings": [one for one in told if "there" in one][:most]}


class PingTest(unittest.TestCase):
    def test_no_ping_that_the_engine_says_is_answered_fails(self) -> None:
        right, hops = 0, 0
        for seed in range(60):
            for made in (routed_plan, filtered_plan, outward_plan, inward_plan, advertising_plan):
                plan = made(seed)
                report = with_pings(plan)
                with self.subTest(made=made.__name__, seed=seed):
                    found = recheck(plan, report)
                    self.assertEqual(found.failed, ())
                right += found.right.get("ping", 0)
                hops += sum(len(one["there"]) > 1 for one in report["pings"])
        self.assertGreater(right, 200)
        self.assertGreater(hops, 100)

    def test_a_hop_that_was_changed_is_found(self) -> None:
        changed = 0
        for seed in range(40):
            plan = filtered_plan(seed)
            report = with_pings(plan)
            if not recheck(plan, report).right.get("ping"):
                continue
            records = sorted(r.id for kind in ("adapter", "station_port") for r in plan.all(kind))
            for number, one in enumerate(report["pings"]):
                dice, alone = random.Random(number), {**report, "pings": [one]}
                if recheck(plan, alone).unchecked:
                    continue
                hops = [(way, at) for way in ("there", "back") for at, _ in enumerate(one[way])]
                for way, at in hops:
                    for part, values in ((0, records), (1, ["10.64.99.9"]), (2, records)):
                        made = copy.deepcopy(alone)
                        hop = made["pings"][0][way][at]
                        hop[part] = dice.choice([value for value in values if value != hop[part]])
                        with self.subTest(seed=seed, way=way, at=at, part=part):
                            self.assertTrue(recheck(plan, made).failed, made["pings"])
                        changed += 1
                    if len(one[way]) > 1:
                        made = copy.deepcopy(alone)
                        del made["pings"][0][way][at]
                        self.assertTrue(recheck(plan, made).failed, made["pings"])
        self.assertGreater(changed, 100)

    def test_an_engine_that_passes_what_filters_drop_is_caught(self) -> None:
        self.caught(filtered_plan, patch.object(Pings, "_filtered", lambda *_: None), "filter line")

    def test_an_engine_that_lets_nobody_in_is_not_believed(self) -> None:
        """Whoever is asked for another one's address isn't taken for him."""
        checked = 0
        for seed in range(60):
            plan = inward_plan(seed)
            with patch.object(Pings, "_turned", lambda *_: None):
                report = with_pings(plan)
            turning = {turned.at for turned in plan.all("inward_translation") if turned.protocol == "any"}
            for one in report["pings"]:
                if one["there"][-1][2] in turning:
                    checked += 1
                    self.assertEqual(recheck(plan, {**report, "pings": [one]}).right.get("ping", 0), 0)
        self.assertGreater(checked, 3)

    def test_an_engine_in_which_everybody_forwards_is_caught(self) -> None:
        self.caught(routed_plan, patch.object(Stack, "forwards", True), "doesn't forward")

    def test_an_engine_that_goes_by_any_prefix_is_caught(self) -> None:
        def wide(stack: Stack, address: Any) -> list[Any]:
            return [line for line in stack.table if address in line.to][-1:]

        self.caught(routed_plan, patch.object(Stack, "choices", wide), "sends what is for")

    def caught(self, made: Callable[[int], Plan], broken: Any, told: str) -> None:
        """A broken engine's pings, some of which fail with these words; a right one's don't."""
        lines = []
        for seed in range(40):
            plan = made(seed)
            with broken:
                report = with_pings(plan)
            lines += recheck(plan, report).failed
        self.assertTrue(any(told in line for line in lines), lines[:10])

    def test_who_is_on_a_private_vlan_is_checked(self) -> None:
        plan = demo_plan()
        report = report_of(plan)
        lines = recheck(plan, report).unchecked
        self.assertFalse([line for line in lines if "visitor" in line], lines)
        # A gateway that doesn't hear the isolated ports is no home to whoever is on one.
        deaf = apply_edit(plan, (Patch("fabric_port", "quay-a/p24", {"mode": "access"}),))[0]
        told = {**report, "plan": report_of(deaf)["plan"]}
        self.assertTrue(any("gateway 10.66.10.1 of visitors" in line for line in recheck(deaf, told).failed))


class CorruptReportTest(unittest.TestCase):
    def fails(self, plan: Plan, report: dict[str, Any], told: str) -> None:
        found = recheck(plan, report)
        self.assertTrue(any(told in line for line in found.failed), (told, found.failed, found.unchecked))

    def test_a_changed_report_fails_where_it_was_changed(self) -> None:
        plan = fleet(40)
        report = report_of(plan)
        number = next(n for n, s in enumerate(report["segments"]) if len(s["tree"]) > 3 and s["closed"])

        def changed(change: Callable[[dict[str, Any]], object]) -> dict[str, Any]:
            made = copy.deepcopy(report)
            change(made["segments"][number])
            return made

        leaf = next(switch for switch, key in report["segments"][number]["tree"].items() if key)
        other = next(key for one, key in report["segments"][number]["tree"].items() if key and one != leaf)
        vid = next(iter(report["segments"][number]["closed"]))
        self.fails(plan, changed(lambda s: s["tree"].pop(leaf)), "")
        self.fails(plan, changed(lambda s: s["tree"].update({leaf: other})), "its tree")
        self.fails(plan, changed(lambda s: s["tree"].update({leaf: "nowhere"})), "the cable nowhere")
        self.fails(plan, changed(lambda s: s["tree"].update({leaf: None})), "several roots")
        self.fails(plan, changed(lambda s: s["tree"].update({"moon": leaf})), "moon")
        self.fails(plan, changed(lambda s: s["closed"][vid].remove(leaf)), "frames")
        self.fails(plan, changed(lambda s: s.update(id="moon")), "brings no evidence")
        self.fails(plan, {**report, "plan": {"digest": "0"}}, "of another plan")
        self.fails(
            plan, {**report, "endpoints": [*report["endpoints"], {"id": "moon", "verdict": "home"}]}, "no endpoint moon"
        )
        after, _ = apply_edit(plan, (Patch("host", "host-1", {"name": "another"}),))
        self.fails(after, report, "of another plan")

    def test_nobody_who_is_not_home_is_taken_for_it(self) -> None:
        tried = 0
        for seed in range(80):
            plan, dice = random_plan(seed), random.Random(seed)
            judgement = judge(plan)
            report, verdicts = report_of(plan, judgement), judgement.verdicts()
            before = recheck(plan, report)
            troubled = {
                place.endpoint: cause.what
                for e in judgement.wiring.endpoints()
                for place in judgement.wiring.places_of(e)
                if verdicts[e] in ("astray", "stranded", "wavering")
                and (cause := judgement.cause_of(place)) is not None
            }
            for endpoint in dice.sample(sorted(troubled), min(3, len(troubled))):
                if troubled[endpoint] not in ON_LAYER_2:
                    continue
                tried += 1
                found = recheck(plan, with_home(report, {endpoint}))
                with self.subTest(seed=seed, endpoint=endpoint, why=troubled[endpoint]):
                    taken = found.right.get("home", 0) > before.right.get("home", 0)
                    told = found.failed or len(found.unchecked) > len(before.unchecked)
                    self.assertTrue(told or not taken, "it was taken for right")
        self.assertGreater(tried, 40)

    def test_who_hears_each_other_is_not_taken_as_apart(self) -> None:
        made = Small()
        made.segment(10)
        made.segment(20)
        made.fabric("sw")
        made.fabric("sx")
        made.cable(made.trunk("sw/x", "10", native=20), made.trunk("sx/x", "20", native=10))
        made.host("a", made.trunk("sw/p1", "10, 20"))
        made.host("b", made.trunk("sx/p1", "10, 20"))
        made.guest("a", "a1", 20)
        made.guest("b", "b1", 10)
        plan = made.plan()
        report = report_of(plan)
        verdicts = {e["id"]: e["verdict"] for e in report["endpoints"]}
        self.assertEqual(verdicts, {"a1": "exposed", "b1": "exposed"})
        claimed = with_home(report, {"a1", "b1"})
        claimed["segments"] = [
            {"id": "s10", "tree": {"sx": None}, "closed": {"10": ["sx"], "20": ["sw"]}},
            {"id": "s20", "tree": {"sw": None}, "closed": {"20": ["sw"], "10": ["sx"]}},
        ]
        found = recheck(plan, claimed)
        self.assertTrue(any("hears" in line for line in found.failed), found)
        for segment in claimed["segments"]:
            segment["closed"] = {next(iter(segment["closed"])): list(segment["tree"])}
        found = recheck(plan, claimed)
        self.assertTrue(any("frames leave it" in line for line in found.failed), found)

    def test_a_report_that_can_t_be_read_says_why(self) -> None:
        for raw, told in (
            (b"{", "line 1, column 2"),
            (b"[]", "no aptwire-validation"),
            (b'{"format": "aptwire-validation", "version": 1}', "has no plan"),
            (
                b'{"format": "aptwire-validation", "version": 1, "plan": {}, "endpoints": [1], "segments": []}',
                "endpoint 1",
            ),
            (
                b'{"format": "aptwire-validation", "version": 1, "plan": {}, "endpoints": [], "segments": [{}]}',
                "segment 1",
            ),
            (
                b'{"format": "aptwire-validation", "version": 1, "plan": {}, "endpoints": [],'
                b' "segments": [{"id": "a", "tree": {}, "closed": {"ten": []}}]}',
                "segment 1",
            ),
        ):
            with self.subTest(told), self.assertRaisesRegex(ValueError, told):
                read_report(raw)

    def test_the_report_for_people_holds_the_one_for_programs(self) -> None:
        plan, _ = apply_edit(demo_plan(), (Patch("host", "fulmar", {"name": "</script><b>"}),))
        judgement = judge(plan)
        report = report_of(plan, judgement)
        page = "".join(validation_html(judgement, report))
        self.assertEqual(read_report(page.encode()), report)
        self.assertEqual(page.count("</script>"), 1)


class BrokenEngineTest(unittest.TestCase):
    """An engine that is wrong about one thing makes a report that fails."""

    def caught(self, plan: Plan, what: str, wrong: Any) -> Verdict:
        right = recheck(plan, report_of(plan))
        self.assertEqual(right.failed, ())
        with patch(what, wrong):
            report = report_of(plan)
        found = recheck(plan, report)
        self.assertTrue(found.failed, (what, found))
        return found

    def test_one_that_lets_every_port_pass_all(self) -> None:
        def careless(record: Any) -> Any:
            return PASSES if record.kind == "fabric_port" else said(record)

        self.caught(pair("10, 20", "20").plan(), "aptwire.forward.rules.said", careless)

    def test_one_that_knows_no_failover(self) -> None:
        made = pair()
        made.put("nic", "a/n1", host="a", name="n1", uplink="a/u", rank=1)
        made.cable("a/n1", made.trunk("sw/p9", "20"))
        self.caught(made.plan(), "aptwire.judge.states.States._own_ways", lambda self, today: None)

    def test_one_that_takes_everybody_for_apart(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "a2", 10, belongs="s20")
        made.kinds["port_group"][0]["vid"] = 20
        made.kinds["fabric_port"][0].update(allowed="10", native=20)
        made.kinds["uplink"][0].update(native=10)
        plan = made.plan()
        report = report_of(plan)
        everybody = {e["id"] for e in report["endpoints"]}
        self.assertEqual(recheck(plan, report).failed, ())
        self.assertTrue(recheck(plan, with_home(report, everybody)).failed)

    def test_one_that_blocks_another_cable(self) -> None:
        made = Small()
        made.segment(10)
        for n, name in enumerate(("sa", "sb", "sc")):
            made.fabric(name, spanning_tree=True, priority=4096 * (n + 1))
        for a, b in (("sa", "sb"), ("sb", "sc"), ("sa", "sc")):
            made.cable(made.trunk(f"{a}/{b}", "10"), made.trunk(f"{b}/{a}", "10"))
        made.host("a", made.trunk("sb/p", "10"))
        made.host("b", made.trunk("sc/p", "10"))
        made.guest("a", "a1", 10)
        made.guest("b", "b1", 10)
        from aptwire.forward import tree

        def other(switches: Any, joints: Any, pairs: Any) -> Any:
            found = tree.spanning_tree(switches, joints, pairs)
            return tree.Tree(found.roots, found.cost, found.upward, {"c:sa/sc:sc/sa": "sc"})

        self.caught(made.plan(), "aptwire.forward.fabric.spanning_tree", other)


class AloneTest(unittest.TestCase):
    def test_it_has_nothing_of_the_engine_and_can_be_read_whole(self) -> None:
        source = (ROOT / "core" / "aptwire" / "recheck.py").read_text()
        named = {node.module for node in ast.walk(ast.parse(source)) if isinstance(node, ast.ImportFrom)}
        own = {name for name in named if name and name.startswith("aptwire")}
        self.assertEqual(own, {"aptwire.plan.file", "aptwire.plan.plan"})
        self.assertNotIn("numpy", source)
        self.assertLessEqual(len(list(filter(str.strip, source.splitlines()))), 880)


if __name__ == "__main__":
    unittest.main()

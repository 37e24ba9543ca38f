"""Verdicts, findings, proofs and mends."""

from __future__ import annotations

import random
import unittest

from aptwire.formats.hosts import read_hosts
from aptwire.judge.findings import findings, proof
from aptwire.judge.mends import mends
from aptwire.judge.preview import preview
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Drop, Patch, Put, apply_edit
from aptwire.plan.kinds import AssumedFabric
from aptwire.plan.plan import Plan
from aptwire.report import landings, summary
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import demo_plan, random_plan, two_hosts_files


class TwoHostsTest(unittest.TestCase):
    def test_wavering_follows_without_a_drill(self) -> None:
        plan, _ = read_hosts(two_hosts_files(), "two-hosts")
        judgement = judge(plan)
        verdicts = judgement.verdicts()
        wavering = sorted(e for e, v in verdicts.items() if v == "wavering")
        self.assertEqual(wavering, ["fulmar/tap-edge", "gannet/tap-tide1"])
        found = {f.verdict: f for f in findings(judgement)}
        self.assertEqual(found["wavering"].culprit[0], "rack-b/p2")
        self.assertEqual(
            found["wavering"].title, "edge-firewall and tide-gauge-ingest lose each other when nic0 of fulmar fails"
        )
        self.assertEqual(verdicts["fulmar/tap-cctv1"], "stranded")
        self.assertEqual(judgement.counts()["home"], 9)
        self.assertEqual(mends(judgement, found["wavering"])[0].title, "Allow 220 on port p2 of rack-b")


class DemoTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.plan = demo_plan()
        cls.judgement = judge(cls.plan)
        cls.findings = findings(cls.judgement)

    def finding(self, part: str):
        return next(f for f in self.findings if part in f.title)

    def test_verdicts_of_the_planted_faults(self) -> None:
        verdicts = self.judgement.verdicts()
        expected = {
            "adapter-tide-gauge-view": "wavering",
            "adapter-cctv-gate": "stranded",
            "adapter-tide-gauge-buoy": "astray",
            "adapter-berth-display": "exposed",
            "adapter-ticketing-db": "exposed",
            "adapter-ticketing-kiosk-2": "stranded",
            "adapter-visitor-portal": "unproven",
            "petrel/guests0/mgmt": "astray",
            "kittiwake/store0/store": "astray",
            "kittiwake/guests0/mgmt": "wavering",
            "adapter-ticketing-web-1": "home",
        }
        self.assertEqual({e: verdicts[e] for e in expected}, expected)
        self.assertEqual(self.judgement.counts()["idle"], 1)

    def test_every_finding_has_a_proof_and_a_mend(self) -> None:
        self.assertGreaterEqual(len({(f.what, f.verdict) for f in self.findings}), 6)
        for finding in self.findings:
            with self.subTest(finding.title):
                traces = proof(self.judgement, finding)
                self.assertTrue(traces and all(t.hops for t in traces))
                self.assertTrue(mends(self.judgement, finding))

    def test_swapped_cables_are_one_finding_mended_by_swapping_back(self) -> None:
        found = self.finding("lose the rest of their segments")
        self.assertEqual(len(found.endpoints), 4)
        best = mends(self.judgement, found)[0]
        self.assertEqual(best.title, "Swap the cables of nic1 and nic2 of kittiwake")
        self.assertIn("kittiwake/store0/store", [m.endpoint for m in best.preview.moves])

    def test_a_leak_names_both_ends(self) -> None:
        found = self.finding("leak into each other")
        self.assertEqual(
            found.text, "Port x49 of marsh-a sends VID 220 untagged; port x49 of quay-a takes it in as 300."
        )

    def test_a_lost_twin_stops_exposing_once_disconnected(self) -> None:
        after = preview(self.judgement, (Patch("adapter", "adapter-restore-copy", {"connected": False}),))
        self.assertEqual(after.judgement.verdicts()["adapter-ticketing-db"], "home")

    def test_an_assumed_fabric_closes_open_ends(self) -> None:
        put = Put(AssumedFabric(id="assumed", site="Saltmarsh", allowed="300", native=300))
        drop = Patch("adapter", "adapter-edge-firewall-out", {"belongs": None})
        after = preview(self.judgement, (put, drop)).judgement.verdicts()
        self.assertEqual(after["adapter-visitor-portal"], "home")

    def test_summary_tells_belongs_and_lands(self) -> None:
        by_id = {e["id"]: e for e in landings(self.judgement)}
        buoy = by_id["adapter-tide-gauge-buoy"]["tags"][0]
        self.assertEqual((buoy["belongs"], buoy["lands_vid"], buoy["lands"]), ("segment-tide-gauges", 203, None))
        self.assertEqual(sum(summary(self.judgement)["counts"].values()), len(by_id))


class PropertiesTest(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(st.integers(0, 10**9), st.randoms(use_true_random=False))
    def test_verdicts_do_not_depend_on_record_order(self, seed: int, dice: random.Random) -> None:
        plan = random_plan(seed)
        shuffled = {}
        for record in dice.sample(list(plan), len(plan)):
            shuffled.setdefault(record.kind, {})[record.id] = record
        first, second = judge(plan), judge(Plan(plan.name, shuffled))
        self.assertEqual(first.verdicts(), second.verdicts())
        self.assertEqual([f.id for f in findings(first)], [f.id for f in findings(second)])

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10**9))
    def test_a_mend_does_what_its_preview_said(self, seed: int) -> None:
        plan = random_plan(seed)
        judgement = judge(plan)
        before = judgement.verdicts()
        for finding in findings(judgement)[:3]:
            for mend in mends(judgement, finding):
                mended, _ = apply_edit(plan, mend.edit)
                judged = judge(mended)
                after = judged.verdicts()
                moved = {
                    e: (before.get(e), after.get(e))
                    for e in before.keys() | after.keys()
                    if before.get(e) != after.get(e)
                }
                self.assertEqual(moved, {m.endpoint: (m.before, m.after) for m in mend.preview.moves})
                now = [judged.wiring.place(p.record) for p in finding.places]
                self.assertTrue(any(p is not None and judged.status_of(p) == 0 for p in now), mend.title)

    @settings(max_examples=150, deadline=None)
    @given(st.integers(0, 10**9))
    def test_everybody_who_is_not_home_has_a_finding_with_a_proof(self, seed: int) -> None:
        judgement = judge(random_plan(seed))
        listed = {e for f in findings(judgement) for e in f.endpoints}
        self.assertEqual(listed, {e for e, v in judgement.verdicts().items() if v != "home"})
        for finding in findings(judgement):
            self.assertTrue(finding.title and finding.text)
            self.assertTrue(all(t.hops for t in proof(judgement, finding)))

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 10**9))
    def test_a_full_cable_loss_leaves_nobody_better(self, seed: int) -> None:
        """Without any cable, no two places on different switches share a domain."""
        plan = random_plan(seed)
        after, _ = apply_edit(plan, tuple(Drop("cable", id) for id in plan.of("cable")))
        judgement = judge(after)
        rows = judgement.rows
        self.assertFalse(any(f.what == "leak" and f.place.bridge != f.towards.bridge for f in findings(judgement)))
        self.assertFalse((rows.node[rows.team >= 0] >= 0).any())


if __name__ == "__main__":
    unittest.main()

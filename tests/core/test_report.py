"""What the command line and the server say of a judged plan."""

from __future__ import annotations

import json
import random
import unittest

from aptwire.judge.causes import spoken
from aptwire.judge.verdicts import judge
from aptwire.judge.why import VERDICTS, is_idle, tag_text
from aptwire.plan.names import endpoint_key, host_of
from aptwire.report import landing_columns, landings, summary
from hypothesis import given, settings
from hypothesis import strategies as st

from demo.terminals import build
from tests.support import demo_plan, pair, random_plan


class LandingsTest(unittest.TestCase):
    def test_a_trunk_adapter_has_a_line_for_each_of_its_tags(self) -> None:
        found = next(e for e in landings(judge(demo_plan())) if e["id"] == "adapter-edge-firewall-in")
        self.assertEqual([t["tag"] for t in found["tags"]], ["210", "220", "230", "240"])
        self.assertEqual([t["lands_vid"] for t in found["tags"]], [210, 220, 230, 240])
        self.assertEqual(found["name"], "edge-firewall tap-fw-in")

    def test_an_adapter_that_enters_nowhere_lands_nowhere(self) -> None:
        made = pair()
        made.put("guest", "guest-x", host="a", name="x")
        made.put("adapter", "x", guest="guest-x", name="x", belongs="s10")
        found = next(e for e in landings(judge(made.plan())) if e["id"] == "x")
        self.assertEqual((found["tags"][0]["lands"], found["tags"][0]["lands_vid"]), (None, None))

    def test_of_two_segments_with_one_vid_it_lands_on_its_own(self) -> None:
        made = pair()
        made.put("segment", "also", name="also", vid=10)
        made.guest("a", "o1", 10, "also")
        lands = {e["id"]: e["tags"][0]["lands"] for e in landings(judge(made.plan()))}
        self.assertEqual((lands["o1"], lands["a1"]), ("also", "s10"))

    def test_the_state_of_a_wavering_tag_is_said(self) -> None:
        found = next(e for e in landings(judge(demo_plan())) if e["id"] == "adapter-tide-gauge-view")
        self.assertEqual(found["tags"][0]["state"], "when nic0 of fulmar fails")

    def test_every_host_that_is_off_its_pattern_is_told(self) -> None:
        self.assertEqual(summary(judge(demo_plan()))["off"], ["petrel"])
        # However many findings stand before the one that says so.
        off = summary(judge(build()))["off"]
        self.assertEqual(len(off), 5)

    def test_columns_say_what_asking_place_by_place_does(self) -> None:
        seen: set[str] = set()
        for seed in range(60):
            judgement = judge(random_plan(seed, rich=seed % 2 == 0, odd=seed % 3 == 0))
            plan, wiring = judgement.plan, judgement.wiring
            asked = random.Random(seed).sample(list(wiring.endpoints()), min(9, len(list(wiring.endpoints()))))
            found = landing_columns(judgement, asked)
            self.assertEqual(found.rows["id"], asked)
            self.assertEqual(len({json.dumps(said) for said in found.said}), len(found.said), "each is said once")
            rows = dict(zip(asked, zip(*found.rows.values(), strict=True), strict=True))
            for endpoint, row in rows.items():
                told = dict(zip(found.rows, row, strict=True))
                record = plan.find(endpoint, ("adapter", "host_port"))
                self.assertEqual(f"{told['host']}/{told['own']}", endpoint_key(plan, record))
                self.assertEqual((told["host"], told["name"]), (host_of(plan, record), spoken(plan, endpoint)))
                self.assertEqual((told["kind"], told["idle"]), (record.kind, is_idle(plan, endpoint)))
                places = wiring.places_of(endpoint)
                self.assertEqual([record or endpoint for record, _, _ in told["tags"]], [p.record for p in places])
                worst = max((judgement.status_of(place) for place in places), default=0)
                self.assertEqual(told["verdict"], VERDICTS[worst])
                for place, (_, addresses, number) in zip(places, told["tags"], strict=True):
                    said = found.said[number]
                    self.assertEqual(addresses, place.addresses)
                    self.assertEqual(said["verdict"], VERDICTS[judgement.status_of(place)])
                    self.assertEqual(said["belongs"], place.segment)
                    self.assertEqual(said["tag"], tag_text(wiring, place.label))
                    got = [one.got for one in judgement.given(place.record)]
                    self.assertEqual(said["got"], ", ".join(got))
                    # A place alone in what is wrong with it stands apart from those that share its stand.
                    seen.update({said["verdict"]} | ({"own"} if place.record in judgement.own else set()))
                    seen.update({"got"} if got else set())
        self.assertLessEqual({*VERDICTS, "own"}, seen)

    @settings(max_examples=40)
    @given(st.integers(0, 10**9))
    def test_counts_endpoints_and_findings_agree_and_are_json(self, seed: int) -> None:
        judgement = judge(random_plan(seed, rich=seed % 2 == 1))
        made = summary(judgement)
        self.assertEqual(json.loads(json.dumps(made)), made)
        endpoints = landings(judgement)
        self.assertEqual(sum(made["counts"].values()), len(endpoints))
        for endpoint in endpoints:
            worst = max(endpoint["tags"], key=lambda t: VERDICTS.index(t["verdict"]))
            self.assertEqual(endpoint["verdict"], worst["verdict"])
        named = {e for f in made["findings"] if f["verdict"] not in ("risk", "untidy") for e in f["endpoints"]}
        self.assertEqual(named, {e["id"] for e in endpoints if e["verdict"] != "home"})


if __name__ == "__main__":
    unittest.main()

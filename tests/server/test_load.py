"""Load over HTTP: the table of cables and flows, scenes that are played, and readings of a host that are previewed, taken, and refused."""

from __future__ import annotations

import json
import unittest
from typing import Any
from urllib.parse import urlencode

from aptwire.plan.file import write_plan

from tests.server.support import Client
from tests.support import consolidated


def reading(**interfaces: int) -> bytes:
    """Interfaces with so many megabytes taken in, in packets of 1,500 bytes."""
    made: list[dict[str, Any]] = []
    for name, count in interfaces.items():
        counts = {"rx": {"bytes": count * 1_000_000, "packets": count * 667}, "tx": {"bytes": 0, "packets": 0}}
        made.append({"ifindex": len(made), "ifname": name, "address": "", "stats64": counts})
    return json.dumps(made).encode()


class LoadTest(unittest.TestCase):
    def setUp(self) -> None:
        self.client = Client()
        sent = [("file", "plan.json", write_plan(consolidated(spare=True, sends=11_000).plan()))]
        self.plan = self.client.upload("plans/import", [], sent)[1]["id"]

    def load(self, expected: int = 200, **asked: str) -> Any:
        status, answer = self.client.get(f"plans/{self.plan}/load?{urlencode(asked)}")
        self.assertEqual(status, expected, answer)
        return answer

    def test_cables_and_flows_as_they_are_after_a_failure_and_while_a_burst_lasts(self) -> None:
        usual = self.load()
        line = next(one for one in usual["directions"] if one["name"] == "n0 of a → port a0 of sw")
        self.assertEqual(
            (10_000, 5654.0, 11308.0, "n1 of a"), (line["speed"], line["asked"], line["after"], line["fails"])
        )
        failed = self.load(failure=line["failure"])
        worst = failed["directions"][0]
        self.assertEqual((11308.0, 10_000.0), (worst["asked"], worst["carried"]))
        storage = next(flow for flow in failed["flows"] if flow["name"] == "storage")
        self.assertAlmostEqual(9728, storage["least"]["gets"], 0)
        self.assertIn("from host port migration of", self.load(burst="mig")["bursting"])
        self.assertIn({"key": "nic|a/n1", "name": "n1 of a"}, usual["failures"])

    def test_some_are_found_by_name_and_widths_are_those_of_hosts_in_sight(self) -> None:
        found = self.load(cables="n0 b", flows="stor")
        self.assertEqual((2, {"storage"}), (found["cables"], {flow["name"] for flow in found["flows"]}))
        self.assertEqual(
            {"n0 of b → port b0 of sw", "port b0 of sw → n0 of b"}, {d["name"] for d in found["directions"]}
        )
        status, widths = self.client.get(f"plans/{self.plan}/load-widths?host=a")
        self.assertEqual(200, status)
        full = {tuple(one["ends"]): (one["asked"], one["speed"]) for one in widths}
        self.assertEqual((5654.0, 10_000), full["a/n0", "sw/a0"])
        self.assertNotIn(("b/n0", "sw/b0"), full)
        self.assertIn(("sw/array",), full)

    def test_what_nobody_can_play_is_refused(self) -> None:
        self.assertEqual("failure", self.load(400, failure="nic|nobody")["problems"][0]["field"])
        self.assertEqual("burst", self.load(400, burst="st")["problems"][0]["field"])

    def readings(self, expected: int = 200, take: str = "no", seconds: str = "10", **said: str) -> Any:
        fields = {"host": "a", "seconds": seconds, "base": "0", "take": take, "towards": "others", **said}
        files = [
            ("before", "one.json", reading(migration=0, n0=0)),
            ("after", "two.json", reading(migration=500, n0=500)),
        ]
        status, answer = self.client.upload(f"plans/{self.plan}/readings", list(fields.items()), files)
        self.assertEqual(status, expected, answer)
        return answer

    def test_readings_are_previewed_taken_and_taken_back(self) -> None:
        answer = self.readings()
        self.assertEqual((None, []), (answer["committed"], answer["preview"]["problems"]))
        self.assertEqual([("n0", 406.403)], [(nic["name"], nic["into"]) for nic in answer["nics"]])
        taken = self.readings(take="yes")
        self.assertEqual(1, taken["committed"]["revision"])
        flow = next(f for f in self.client.whole(self.plan)["records"]["flow"] if f.get("of") == "a/migration")
        self.assertEqual((396, "others"), (flow["gets"], flow["towards"]))
        status, _ = self.client.post(f"plans/{self.plan}/undo", {"base": 1})
        self.assertEqual(status, 200)
        self.assertEqual(2, len(self.client.whole(self.plan)["records"]["flow"]))

    def test_bad_readings_name_what_is_wrong(self) -> None:
        self.assertEqual("host", self.readings(400, host="nobody")["problems"][0]["field"])
        self.assertEqual("seconds", self.readings(400, seconds="soon")["problems"][0]["field"])
        self.assertEqual("seconds", self.readings(400, seconds="0")["problems"][0]["field"])
        self.assertEqual("towards", self.readings(400, towards="nobody")["problems"][0]["field"])


if __name__ == "__main__":
    unittest.main()

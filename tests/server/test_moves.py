"""Moves over the API: guest by host, why not, and a host taken out as one edit."""

from __future__ import annotations

import unittest

from tests.server.support import Client


class MovesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()

    def setUp(self) -> None:
        self.plan = self.client.demo()

    def test_guest_by_host_and_one_cell(self) -> None:
        _, told = self.client.get(f"plans/{self.plan}/moves")
        row = told["rows"][told["guests"]["guest-crew-roster"]]
        self.assertEqual(dict(zip(told["hosts"], row, strict=True))["gannet"], "r")
        _, cell = self.client.get(f"plans/{self.plan}/move?guest=guest-crew-roster&host=razorbill")
        self.assertEqual(cell["fares"], "x")
        self.assertIn("razorbill doesn’t", cell["reasons"][0]["text"])
        _, fine = self.client.get(f"plans/{self.plan}/move?guest=guest-crew-roster&host=gannet")
        self.assertEqual(fine, {"fares": "r", "reasons": []})
        for query, field in (("guest=x&host=gannet", "guest"), ("guest=guest-crew-roster&host=x", "host")):
            status, refused = self.client.get(f"plans/{self.plan}/move?{query}")
            self.assertEqual(status, 400)
            self.assertEqual(refused["problems"][0]["field"], field)

    def test_a_host_is_taken_out_previewed_made_and_brought_back(self) -> None:
        _, told = self.client.get(f"plans/{self.plan}/clearing?host=fulmar")
        places = {place["guest"]: place["host"] for place in told["places"]}
        self.assertEqual(places["guest-crew-roster"], "gannet")
        self.assertEqual([left["guest"] for left in told["left"]], ["guest-cctv-archive", "guest-tide-gauge-view"])
        args = {"host": "fulmar", "failed": False}
        body = {"gesture": "clear-host", "args": args, "base": 0, "take": False}
        _, seen = self.client.post(f"plans/{self.plan}/gestures", body)
        self.assertIn("Take fulmar out", seen["message"])
        self.assertIn("; 2 stay", seen["message"])
        _, made = self.client.post(f"plans/{self.plan}/gestures", {**body, "take": True})
        self.assertEqual(made["committed"]["revision"], 1)
        _, after = self.client.get(f"plans/{self.plan}/clearing?host=fulmar")
        self.assertEqual(after["places"], [])
        _, before = self.client.get(f"plans/{self.plan}/clearing?host=fulmar&at=0")
        self.assertEqual(before, told)
        status, refused = self.client.post(f"plans/{self.plan}/gestures", {**body, "base": 1})
        self.assertEqual(status, 400)
        self.assertIn("nobody on it has a place elsewhere", refused["problems"][0]["message"])

    def test_what_cannot_be_asked_is_refused(self) -> None:
        for query, field in (("host=nowhere", "host"), ("host=fulmar&how=perhaps", "how")):
            status, refused = self.client.get(f"plans/{self.plan}/clearing?{query}")
            self.assertEqual((status, refused["problems"][0]["field"]), (400, field))
        body = {"gesture": "clear-host", "args": {"host": "nowhere", "failed": True}, "base": 0, "take": False}
        status, refused = self.client.post(f"plans/{self.plan}/gestures", body)
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "host"))

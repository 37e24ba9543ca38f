"""Sheets over the API: what one would change is told, taking it is one revision, and columns are remembered for who said them."""

from __future__ import annotations

import json
import unittest
from typing import Any

from tests.server.support import Client

CABLES = b"Machine,Card,To,At\nkittiwake,nic9,quay-b,p2\n"
MAPPED = {"device_a": "Machine", "port_a": "Card", "device_b": "To", "port_b": "At"} | dict.fromkeys(
    ("kind_a", "kind_b", "label", "places", "note", "owner"), ""
)


class SheetsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()

    def setUp(self) -> None:
        self.plan = self.client.demo()

    def take(self, data: bytes, of: str, take: str = "no", columns: Any = None, **more: str) -> tuple[int, Any]:
        said = json.dumps(columns) if columns is not None else ""
        fields = {"of": of, "take": take, "base": "0", "columns": said, **more}
        return self.client.upload(f"plans/{self.plan}/sheets", list(fields.items()), [("file", "s.csv", data)])

    def test_a_sheet_is_previewed_and_taken_as_one_revision(self) -> None:
        data = b"host,guest,port group\ngannet,lounge,ticketing\nfulmar,ticketing-web-2,ticketing\n"
        status, seen = self.take(data, "guests")
        self.assertEqual((status, seen["message"]), (200, "Sheet s.csv: 1 guest made and 1 adapter made"))
        self.assertEqual([m["after"] for m in seen["preview"]["moves"]], ["home"])
        self.assertEqual(self.client.get(f"plans/{self.plan}")[1]["revision"], 0)
        status, taken = self.take(data, "guests", "yes")
        self.assertEqual((status, taken["committed"]["revision"]), (200, 1))
        self.assertIn("lounge", {g["name"] for g in self.client.whole(self.plan)["records"]["guest"]})
        self.assertIsNone(self.take(data, "guests")[1]["preview"], "nothing differs any more")
        self.assertEqual(self.client.post(f"plans/{self.plan}/undo")[0], 200)

    def test_what_cannot_be_used_is_told_and_nothing_is_taken(self) -> None:
        data = b"host,guest\n" + b"nowhere,a\n" * 120
        for take in ("no", "yes"):
            status, seen = self.take(data, "guests", take)
            self.assertEqual((status, len(seen["problems"]), seen["more"], seen["committed"]), (200, 100, 20, None))
        self.assertIn("s.csv, row 2, column A (host)", seen["problems"][0])
        for refused in (
            self.take(b"\x00\x01", "guests"),
            self.take(data, "colours"),
            self.take(data, "guests", "maybe"),
            self.take(data, "guests", columns=[1]),
            self.take(data, "guests", base="x"),
            self.client.upload(f"plans/{self.plan}/sheets", [("of", "guests")], []),
        ):
            self.assertEqual(refused[0], 400, refused)

    def test_columns_are_remembered_for_who_said_them(self) -> None:
        self.assertIn("no column is the cables’ device a", self.take(CABLES, "cables")[1]["problems"][0])
        status, taken = self.take(CABLES, "cables", "yes", MAPPED)
        self.assertEqual((status, taken["committed"]["revision"]), (200, 1))
        self.client.post(f"plans/{self.plan}/undo")
        seen = self.take(CABLES, "cables")[1]
        self.assertEqual({c["name"]: c["title"] for c in seen["columns"]}, MAPPED)
        self.assertEqual(seen["message"], "Sheet s.csv: 1 cable taken away, 1 nic made and 1 cable made")
        other = Client("tomas")
        fields = [("of", "cables"), ("take", "no"), ("base", "0")]
        told = other.upload(f"plans/{self.plan}/sheets", fields, [("file", "s.csv", CABLES)])[1]
        self.assertTrue(told["problems"])

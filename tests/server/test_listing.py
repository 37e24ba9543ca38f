"""The list of plans: how each stands, copies, names, and the bin."""

from __future__ import annotations

import json
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from typing import Any
from unittest import mock

from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.kinds import Segment
from aptwire.plan.plan import Plan

from tests.server.support import Client, DatabaseCase, Stream, patch
from tests.support import random_plan


class ListingTest(DatabaseCase):
    client: Client

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.client = Client()

    def setUp(self) -> None:
        self.plan = self.client.demo()

    def item(self, listed: str = "plans", plan: str = "") -> Any:
        """The plan as a list tells it; None where it isn't there."""
        return next((p for p in self.client.get(listed)[1] if p["id"] == (plan or self.plan)), None)

    def test_the_list_says_how_a_plan_stands_and_who_changed_it_last(self) -> None:
        counts = self.client.get(f"plans/{self.plan}")[1]["summary"]["counts"]
        self.assertEqual((self.item()["counts"], self.item()["changed_by"]), (counts, "ines"))
        before = self.item()["changed"]
        _, made = Client("tomas").edit(self.plan, 0, patch("host_port", "gannet/guests0/mgmt", vid=None))
        self.assertNotEqual(made["summary"]["counts"], counts)
        self.assertEqual((self.item()["counts"], self.item()["changed_by"]), (made["summary"]["counts"], "tomas"))
        self.assertGreater(self.item()["changed"], before)

    def test_counts_that_were_not_kept_are_kept_as_soon_as_somebody_looks(self) -> None:
        from aptwire_server.plans.models import PlanRow

        counts = self.item()["counts"]
        PlanRow.objects.filter(pk=self.plan).update(counts=None, counted=None)
        self.assertIsNone(self.item()["counts"])
        self.client.get(f"plans/{self.plan}")
        self.assertEqual(self.item()["counts"], counts)

    def test_a_copy_is_equal_and_goes_its_own_way(self) -> None:
        self.client.edit(self.plan, 0, patch("segment", "segment-edge", role="rim"))
        status, copied = self.client.post(f"plans/{self.plan}/copy", {"name": " Ferries, tried out "})
        self.assertEqual((status, copied["name"], copied["revision"]), (201, "Ferries, tried out", 0))
        self.client.edit(copied["id"], 0, patch("segment", "segment-edge", role="elsewhere"))
        plans = [read_plan(self.client.exported(id)) for id in (self.plan, copied["id"])]
        self.assertEqual([p.get("segment", "segment-edge").role for p in plans], ["rim", "elsewhere"])
        self.assertEqual(plans[1].named(plans[0].name).of("adapter"), plans[0].of("adapter"))

    def test_any_plan_is_copied_as_it_is(self) -> None:
        for seed in (3, 11):
            plan = random_plan(seed)
            _, made = self.client.upload("plans/import", [], [("file", "p.json", write_plan(plan))])
            _, copied = self.client.post(f"plans/{made['id']}/copy", {"name": plan.name})
            self.assertEqual(read_plan(self.client.exported(copied["id"])), plan)

    def test_the_tables_hold_what_was_imported_whatever_it_is_called(self) -> None:
        from aptwire_server.plans.models import PlanRow
        from aptwire_server.plans.tables import load_plan
        from django.db import transaction

        odd = ("\\N", "\\.", "a\\tb\\\\", '“ж” "x" {}', "null")
        named = {f"s{n}": Segment(id=f"s{n}", name=name, note=name * 2, subnets=()) for n, name in enumerate(odd)}
        for plan in (Plan("odd", {"segment": named}), *(random_plan(seed, rich=True) for seed in range(4))):
            _, made = self.client.upload("plans/import", [], [("file", "p.json", write_plan(plan))])
            with transaction.atomic():
                self.assertEqual(load_plan(PlanRow.objects.get(pk=made["id"])), plan)

    def test_what_a_browser_asks_for_first_is_written_when_a_plan_is_imported(self) -> None:
        from aptwire_server.plans import pages
        from aptwire_server.plans.engine import ENDPOINTS, Engine

        for size in (600, 20_000):
            with mock.patch.object(pages, "PAGE", size):
                engine, anew = (Engine(0, random_plan(7, rich=True)) for _ in range(2))
                pages.write_ahead(engine)
                asked = set()
                # As a browser does: records as far as the first endpoints, and beside them all endpoints.
                for cursor, ends in ((pages.FIRST, ENDPOINTS), (f"{ENDPOINTS}:0", "none")):
                    following: str | None = cursor
                    while following and not following.startswith(ends):
                        asked.add(following)
                        self.assertIn(following, engine.pages)
                        written = pages.page(anew, following)
                        self.assertEqual(written, engine.pages[following])
                        following = written.following
                self.assertEqual(asked, set(engine.pages))
                self.assertEqual(set(pages.beginnings(engine)), asked)
                self.assertEqual(pages.beginnings(Engine(0, engine.plan)), [pages.FIRST, f"{ENDPOINTS}:0"])
                self.assertEqual(len(asked) > 10, size == 600)

    def test_a_plan_that_cannot_be_made_ready_leaves_nothing(self) -> None:
        from aptwire_server.plans import commits
        from aptwire_server.plans.models import ROWS, PlanRow

        rows = {kind: model.objects.count() for kind, model in ROWS.items()}
        with (
            mock.patch.object(commits, "write_ahead", side_effect=MemoryError("no room")),
            self.assertRaisesRegex(MemoryError, "no room"),
        ):
            commits.create_plan(random_plan(5).named("never there"), None)
        self.assertFalse(PlanRow.objects.filter(name="never there").exists())
        self.assertEqual({kind: model.objects.count() for kind, model in ROWS.items()}, rows)

    def test_whoever_writes_while_a_plan_is_deleted_leaves_no_row_behind(self) -> None:
        from aptwire_server.plans.listing import _delete
        from aptwire_server.plans.models import ROWS, PlanRow
        from aptwire_server.plans.tables import write_changes
        from django.db import connection, transaction

        plan = read_plan(self.client.exported(self.plan))
        new = Segment(id="late", name="late")
        holds, deletes = threading.Event(), threading.Event()

        def write() -> None:
            try:
                with transaction.atomic():
                    row = PlanRow.objects.select_for_update(of=("self",)).get(pk=self.plan)
                    write_changes(row, plan, {("segment", "late"): new})
                    holds.set()
                    deletes.wait(30)
                    # Long enough for the one who deletes to have come to the lock.
                    time.sleep(0.5)
            finally:
                connection.close()

        def delete() -> None:
            try:
                holds.wait(30)
                deletes.set()
                _delete(PlanRow.objects.get(pk=self.plan))
            finally:
                connection.close()

        with ThreadPoolExecutor(2) as beside:
            for done in [beside.submit(write), beside.submit(delete)]:
                done.result(60)
        self.assertFalse(PlanRow.objects.filter(pk=self.plan).exists())
        left = {kind: model.objects.filter(plan=self.plan).count() for kind, model in ROWS.items()}
        self.assertEqual(sum(left.values()), 0, left)

    def test_a_name_is_changed_for_everybody_who_looks(self) -> None:
        reader = Client("tomas")
        stream = Stream(reader, self.plan)
        self.addCleanup(stream.close)
        stream.next("people")
        name = "W" * 80
        status, said = self.client.request(
            "PATCH", f"plans/{self.plan}", json.dumps({"name": name}).encode(), Content_Type="application/json"
        )
        self.assertEqual((status, said["name"]), (200, name))
        self.assertEqual(stream.next("about"), {"name": name, "binned_by": None})
        self.assertEqual(read_plan(self.client.exported(self.plan)).name, name)
        for wrong in ("", "  ", "W" * 81):
            status, said = self.client.request(
                "PATCH", f"plans/{self.plan}", json.dumps({"name": wrong}).encode(), Content_Type="application/json"
            )
            self.assertEqual((status, said["problems"][0]["field"]), (400, "name"))
        self.assertEqual(self.item()["name"], name)

    def test_the_bin_keeps_a_plan_and_gives_it_back(self) -> None:
        stream = Stream(Client("tomas"), self.plan)
        self.addCleanup(stream.close)
        stream.next("people")
        self.assertEqual(self.client.request("DELETE", f"plans/{self.plan}")[0], 200)
        self.assertEqual(stream.next("about")["binned_by"], "ines")
        self.assertIsNone(self.item())
        self.assertEqual(self.item("bin")["binned_by"], "ines")
        refused = [
            self.client.get(f"plans/{self.plan}"),
            self.client.get(f"plans/{self.plan}/export"),
            self.client.get(f"plans/{self.plan}/bench"),
            self.client.edit(self.plan, 0, patch("segment", "segment-edge", role="rim")),
            self.client.post(f"plans/{self.plan}/undo"),
        ]
        for status, said in refused:
            self.assertEqual(status, 404)
            self.assertIn("ines put this plan into the bin", said["detail"])
        self.assertEqual(self.client.post(f"bin/{self.plan}/restore")[0], 200)
        self.assertIsNotNone(self.item())
        self.assertIsNone(self.item("bin"))
        self.assertEqual(self.client.get(f"plans/{self.plan}")[0], 200)
        self.assertEqual(self.client.post(f"bin/{self.plan}/restore")[0], 404)
        self.assertEqual(self.client.request("DELETE", f"bin/{self.plan}")[0], 404)

    def test_what_waited_thirty_days_is_gone_for_good_and_nothing_else(self) -> None:
        from aptwire_server.plans.listing import purge
        from aptwire_server.plans.models import ROWS, PlanRow, Revision

        other = self.client.demo()
        self.client.edit(self.plan, 0, patch("segment", "segment-edge", role="rim"))
        for plan, days in ((self.plan, 31), (other, 29)):
            self.client.request("DELETE", f"plans/{plan}")
            row = PlanRow.objects.get(pk=plan)
            row.binned -= timedelta(days=days)
            row.save(update_fields=["binned"])
        self.assertGreaterEqual(purge(), 1)
        self.assertIsNone(self.item("bin"))
        self.assertIsNotNone(self.item("bin", other))
        self.assertFalse(Revision.objects.filter(plan=self.plan).exists())
        self.assertFalse(any(model.objects.filter(plan=self.plan).exists() for model in ROWS.values()))
        self.assertEqual(self.client.request("DELETE", f"bin/{other}")[0], 204)
        self.assertIsNone(self.item("bin", other))

    def test_an_edit_that_changes_nothing_is_no_revision(self) -> None:
        segment = next(s for s in self.client.whole(self.plan)["records"]["segment"] if s["id"] == "segment-edge")
        for operation in (
            patch("segment", "segment-edge", name=segment["name"]),
            {"op": "put", "kind": "segment", "record": segment},
        ):
            status, said = self.client.edit(self.plan, 0, operation)
            self.assertEqual(status, 400)
            self.assertIn("changes nothing", said["problems"][0]["text"])
        self.assertEqual(self.client.get(f"plans/{self.plan}")[1]["revision"], 0)


if __name__ == "__main__":
    unittest.main()

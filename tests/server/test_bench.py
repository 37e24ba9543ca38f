"""The bench over HTTP: a run is asked for, taken by a worker, followed, ended; its history and files stay."""

from __future__ import annotations

import io
import json
import time
import unittest
import zipfile
from typing import Any

from aptwire.plan.file import write_plan

from tests.server.support import Client, DatabaseCase, patch
from tests.support import pair

SCOPE = {"pulls": 0, "sample": 0, "seed": 1}


class BenchTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()

    def setUp(self) -> None:
        _, made = self.client.upload("plans/import", [], [("file", "p.json", write_plan(pair().plan()))])
        self.at = f"plans/{made['id']}"

    def ended(self, number: int, seconds: float = 60) -> dict[str, Any]:
        """A run's detail once it has ended."""
        for _ in range(int(seconds * 4)):
            _, detail = self.client.get(f"{self.at}/bench/{number}")
            if detail["run"]["state"] not in ("waiting", "running"):
                return detail
            time.sleep(0.25)
        self.fail(f"run {number} didn’t end: {detail['run']}")

    def test_a_run_speaks_of_the_revision_for_which_it_was_asked(self) -> None:
        status, made = self.client.post(f"{self.at}/bench", SCOPE)
        self.assertEqual((status, made["number"], made["revision"], made["author"]), (201, 1, 0, "ines"))
        status, refused = self.client.post(f"{self.at}/bench", SCOPE)
        self.assertEqual(status, 400)
        self.assertIn("is waiting or running", refused["problems"][0]["message"])
        # The plan goes on; the run doesn't.
        status, _ = self.client.edit(self.at[6:], 0, patch("fabric_port", "sw/p1", allowed="20"))
        self.assertEqual(status, 200)
        detail = self.ended(1)
        report = detail["report"]
        self.assertEqual((detail["run"]["state"], report["differed"]), ("done", 0), detail)
        self.assertEqual(report["questions"], report["asked"] + report["not_tried"])
        self.assertIn("building", detail["log"])
        self.assertTrue(detail["run"]["worker"])
        self.client.post(f"{self.at}/bench", SCOPE)
        second = self.ended(2)
        self.assertEqual(second["run"]["revision"], 1)
        self.assertEqual(second["run"]["state"], "done")
        _, listed = self.client.get(f"{self.at}/bench")
        self.assertEqual(
            [(r["number"], r["revision"], r["agreed"]) for r in listed["runs"]],
            [(2, 1, second["report"]["agreed"]), (1, 0, report["agreed"])],
        )
        self.assertEqual(listed["workers"], 1)
        proved = json.loads(self.client.file(f"{self.at}/validation?form=json")[1])["proved"]
        self.assertIn(f"of revision 1, {second['report']['asked']:,} questions were put to a kernel", proved[0])
        status, _ = self.client.get(f"{self.at}/bench/1/difference/1")
        self.assertEqual(status, 404)

    def test_a_run_is_cancelled_and_nothing_is_kept_of_it(self) -> None:
        self.client.post(f"{self.at}/bench", SCOPE)
        status, _ = self.client.post(f"{self.at}/bench/1/cancel")
        self.assertEqual(status, 200)
        detail = self.ended(1, 20)
        self.assertEqual((detail["run"]["state"], detail["report"]), ("cancelled", None))
        status, refused = self.client.post(f"{self.at}/bench/1/cancel")
        self.assertEqual((status, refused["problems"][0]["message"]), (400, "the run is cancelled already"))

    def test_what_is_asked_for_is_checked(self) -> None:
        for name, value in (("pulls", -1), ("pulls", 101), ("sample", "all"), ("seed", None), ("pulls", True)):
            status, refused = self.client.post(f"{self.at}/bench", {**SCOPE, name: value})
            self.assertEqual((status, refused["problems"][0]["field"]), (400, name), refused)
        self.assertEqual(self.client.get(f"{self.at}/bench/1")[0], 404)
        self.assertEqual(Client(None).get(f"{self.at}/bench")[0], 403)


class FilesTest(DatabaseCase):
    """What a worker keeps of a difference, written as a worker would."""

    def test_a_difference_comes_as_a_zip_with_its_plan_and_frames(self) -> None:
        from aptwire_bench.prove import Report, Story
        from aptwire_server.plans.models import BenchRun, PlanRow
        from aptwire_server.plans.tasks import files

        client = Client()
        plan = client.demo()
        small = pair().plan()
        story = Story({"text": "a frame"}, ["in s"], ["leaves at n0"], {"a-n0": b"frames"}, small)
        row = PlanRow.objects.get(pk=plan)
        BenchRun.objects.create(
            plan=row, number=7, revision=0, scope=SCOPE, state="done", stories=files(Report(stories=[story]))
        )
        status, raw = client.get(f"plans/{plan}/bench/7/difference/1")
        self.assertEqual(status, 200)
        with zipfile.ZipFile(io.BytesIO(raw)) as archive:
            self.assertEqual(sorted(archive.namelist()), ["a-n0.pcap", "difference.json", "plan.json"])
            self.assertEqual(archive.read("plan.json"), write_plan(small))
            self.assertEqual(json.loads(archive.read("difference.json")), {"text": "a frame"})

    def test_a_run_whose_worker_is_gone_is_said_to_have_failed(self) -> None:
        from datetime import timedelta

        from aptwire_server.plans.models import BenchRun, PlanRow
        from django.utils import timezone

        client = Client()
        plan = client.demo()
        long_ago = timezone.now() - timedelta(minutes=5)
        row = PlanRow.objects.get(pk=plan)
        BenchRun.objects.create(plan=row, number=1, revision=0, scope=SCOPE, state="running", seen=long_ago)
        _, detail = client.get(f"plans/{plan}/bench/1")
        self.assertEqual(detail["run"]["state"], "failed")
        self.assertIn("the worker that took it is gone", detail["run"]["error"])
        BenchRun.objects.create(
            plan=row, number=2, revision=0, scope=SCOPE, state="running", seen=long_ago, cancel=True
        )
        self.assertEqual(client.get(f"plans/{plan}/bench/2")[1]["run"]["state"], "cancelled")


if __name__ == "__main__":
    unittest.main()

"""A plan's history: what each revision changed and moved, two beside each other, one brought back, names for some."""

from __future__ import annotations

import random
import unittest
from typing import Any

from aptwire.judge.beside import laid_beside
from aptwire.judge.verdicts import judge
from aptwire.plan.compare import difference
from aptwire.plan.edits import apply_edit, edit_to_json
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.plan import PlanError

from tests.core.test_judging import some_edit
from tests.server.support import Client, DatabaseCase, patch
from tests.support import random_plan

MGMT = patch("host_port", "gannet/guests0/mgmt", vid=None)


class HistoryTest(DatabaseCase):
    client: Client

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.client = Client()

    def setUp(self) -> None:
        self.plan = self.client.demo()
        self.at = f"plans/{self.plan}"
        self.first = self.exported(0)
        Client("tomas").edit(self.plan, 0, MGMT)
        self.client.edit(self.plan, 1, patch("segment", "segment-edge", role="rim"))
        self.client.post(f"{self.at}/undo")

    def exported(self, number: int) -> Any:
        """The plan as it was at a revision, out of the file of it."""
        return read_plan(self.client.exported(self.plan, number))

    def history(self, query: str = "") -> Any:
        status, said = self.client.get(f"{self.at}/history{query}")
        self.assertEqual(status, 200, said)
        return said

    def test_each_revision_says_who_what_and_how_verdicts_moved(self) -> None:
        items = self.history()["revisions"]
        self.assertEqual([i["number"] for i in items], [3, 2, 1, 0])
        self.assertEqual([i["author"] for i in items], ["ines", "ines", "tomas", "ines"])
        self.assertEqual([i["how"] for i in items], ["undo", "edit", "edit", "edit"])
        for item in items[:-1]:
            before, after = (judge(self.exported(item["number"] - n)).counts() for n in (1, 0))
            self.assertEqual((item["before"], item["counts"]), (before, after))
        self.assertEqual(items[-1]["counts"], judge(self.first).counts())

    def test_a_long_history_comes_in_pages(self) -> None:
        from aptwire_server.plans.models import PlanRow, Revision

        row = PlanRow.objects.get(pk=self.plan)
        Revision.objects.bulk_create(
            Revision(plan=row, number=n, message=f"number {n}", edit=[], inverse=[]) for n in range(4, 124)
        )
        PlanRow.objects.filter(pk=self.plan).update(revision=123)
        found, before = [], 0
        while True:
            page = self.history(f"?before={before}" if before else "")
            found += [item["number"] for item in page["revisions"]]
            before = found[-1]
            if not page["more"]:
                break
        self.assertEqual(found, list(range(123, -1, -1)))

    def test_any_two_are_laid_beside_each_other(self) -> None:
        for a, b in ((0, 1), (1, 0), (0, 3), (1, 2), (2, 2)):
            said = self.client.get(f"{self.at}/compare?a={a}&b={b}")[1]
            should = laid_beside(judge(self.exported(a)), judge(self.exported(b))).to_json()
            for name in ("changes", "counts", "gone", "new"):
                self.assertEqual(said[name], should[name], f"{name} of {a} and {b}")
            self.assertEqual({m["endpoint"] for m in said["moves"]}, {m["endpoint"] for m in should["moves"]})
        self.assertEqual(self.client.get(f"{self.at}/compare?a=0&b=9")[1]["problems"][0]["field"], "b")

    def test_any_is_looked_at_as_it_was(self) -> None:
        for number in (0, 1, 2):
            plan = self.exported(number)
            judgement = judge(plan)
            head = self.client.get(f"{self.at}?at={number}")[1]
            self.assertEqual((head["revision"], head["summary"]["counts"]), (number, judgement.counts()))
            whole = self.client.whole(self.plan, number)
            self.assertEqual({id: e["verdict"] for id, e in whole["endpoints"].items()}, judgement.verdicts())
            self.assertEqual({s["id"] for s in whole["records"]["segment"]}, set(plan.of("segment")))
            finding = head["summary"]["findings"][0]["id"]
            self.assertEqual(self.client.get(f"{self.at}/findings/{finding}?at={number}")[0], 200)

    def test_any_is_put_to_the_bench(self) -> None:
        status, run = self.client.post(f"{self.at}/bench?at=1", {"pulls": 0, "sample": 1, "seed": 1})
        self.assertEqual((status, run["revision"]), (201, 1))
        self.assertEqual(self.client.post(f"{self.at}/bench/{run['number']}/cancel")[0], 200)

    def test_one_is_brought_back_as_a_new_revision_that_can_be_undone(self) -> None:
        status, made = self.client.post(f"{self.at}/bring-back", {"base": 3, "revision": 0})
        self.assertEqual((status, made["revision"], made["message"]), (200, 4, "Bring back revision 0"))
        self.assertEqual(self.exported(4), self.first)
        status, refused = self.client.post(f"{self.at}/bring-back", {"base": 4, "revision": 0})
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "revision"))
        self.client.post(f"{self.at}/undo")
        self.assertEqual(self.exported(5), self.exported(3))
        self.assertEqual(self.client.post(f"{self.at}/bring-back", {"base": 5, "revision": 77})[0], 400)
        # Who looks at an old list is told what came since.
        self.client.edit(self.plan, 5, patch("host_port", "gannet/guests0/mgmt", vid=111))
        self.assertEqual(self.client.post(f"{self.at}/bring-back", {"base": 5, "revision": 0})[0], 409)

    def test_any_walk_through_edits_can_be_gone_back(self) -> None:
        dice = random.Random(11)
        plan = random_plan(23, rich=True)
        _, made = self.client.upload("plans/import", [], [("file", "p.json", write_plan(plan))])
        self.plan, self.at = made["id"], f"plans/{made['id']}"
        known = [plan]
        for _ in range(14):
            edit = some_edit(known[-1], dice)
            try:
                after, _ = apply_edit(known[-1], edit)
            except PlanError:
                continue
            if not difference(known[-1], after):
                continue
            status, said = self.client.edit(self.plan, len(known) - 1, *edit_to_json(edit))
            self.assertEqual(status, 200, said)
            known.append(after)
        self.assertGreater(len(known), 6)
        for number in dice.sample(range(len(known)), 6):
            self.assertEqual(self.exported(number), known[number])
            head = self.client.get(f"{self.at}?at={number}")[1]
            self.assertEqual(head["summary"]["counts"], judge(known[number]).counts())
        counts = {item["number"]: item["counts"] for item in self.history()["revisions"]}
        self.assertEqual(counts, {n: judge(p).counts() for n, p in enumerate(known)})
        for number in dice.sample(range(len(known) - 1), 3):
            latest = self.client.get(self.at)[1]["revision"]
            body = {"base": latest, "revision": number}
            if difference(self.exported(latest), known[number]):
                self.assertEqual(self.client.post(f"{self.at}/bring-back", body)[0], 200)
            self.assertEqual(self.exported(self.client.get(self.at)[1]["revision"]), known[number])

    def test_names_for_revisions(self) -> None:
        status, made = self.client.post(f"{self.at}/marks", {"revision": 1, "name": " as built, May "})
        self.assertEqual((status, made["name"], made["author"]), (201, "as built, May", "ines"))
        status, refused = self.client.post(f"{self.at}/marks", {"revision": 2, "name": "as built, May"})
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "name"))
        self.assertIn("revision 1 is called that already", refused["problems"][0]["text"])
        self.assertEqual(self.client.post(f"{self.at}/marks", {"revision": 9, "name": "later"})[0], 400)
        items = {item["number"]: item for item in self.history()["revisions"]}
        self.assertEqual([m["name"] for m in items[1]["marks"]], ["as built, May"])
        self.assertEqual(self.client.request("DELETE", f"{self.at}/marks/{made['id']}")[0], 204)
        self.assertEqual(self.history()["marks"], [])
        other = Client().demo()
        self.assertEqual(self.client.request("DELETE", f"plans/{other}/marks/{made['id']}")[0], 404)


if __name__ == "__main__":
    unittest.main()

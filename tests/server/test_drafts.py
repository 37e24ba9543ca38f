"""Drafts over HTTP: worked on like plans, brought up to date with theirs, landed as one revision of it."""

from __future__ import annotations

import json
import random
import threading
import unittest
import uuid
from typing import Any

from aptwire.judge.verdicts import judge
from aptwire.plan.compare import difference
from aptwire.plan.edits import edit_to_json
from aptwire.plan.file import read_plan
from aptwire.plan.merge import merge
from aptwire.plan.plan import Plan

from tests.core.test_judging import some_edit
from tests.server.support import Client, DatabaseCase, Stream, patch
from tests.support import demo_plan, random_plan

MGMT = patch("host_port", "gannet/guests0/mgmt", vid=None)
GROUP = "gannet/guests0/edge"


class DraftCase(unittest.TestCase):
    client: Client

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.client = Client()
        cls.other = Client("tomas")

    def setUp(self) -> None:
        self.plan = self.client.demo()

    def begin(self, name: str = "try it", private: bool = False, client: Client | None = None) -> str:
        status, made = (client or self.client).post(f"plans/{self.plan}/drafts", {"name": name, "private": private})
        self.assertEqual(status, 201, made)
        return str(made["id"])

    def edit(self, of: str, *operations: Any, client: Client | None = None) -> Any:
        client = client or self.client
        base = client.get(f"plans/{of}")[1]["revision"]
        status, made = client.edit(of, base, *operations)
        self.assertEqual(status, 200, made)
        return made

    def held(self, of: str) -> Plan:
        return read_plan(self.client.exported(of))

    def get(self, path: str) -> Any:
        status, said = self.client.get(path)
        self.assertEqual(status, 200, said)
        return said

    def listed(self, of: str) -> Any:
        """A draft as the list of its plan's drafts has it."""
        return next(d for d in self.get(f"plans/{self.plan}/drafts") if d["id"] == of)


class WorkTest(DraftCase):
    def test_a_draft_is_worked_on_like_a_plan_and_leaves_it_alone(self) -> None:
        before = self.held(self.plan)
        draft = self.begin()
        self.assertEqual(difference(before, self.held(draft)), ())
        self.edit(draft, MGMT)
        made = self.edit(draft, patch("port_group", GROUP, vid=777))
        self.assertEqual(made["revision"], 2)
        self.assertEqual(self.held(self.plan), before)
        held = self.held(draft)
        self.assertEqual(held.get("port_group", GROUP).vid, 777)
        # Every view of it asks what it asks of a plan.
        counts = judge(held).counts()
        self.assertEqual(self.get(f"plans/{draft}/verdicts")["counts"], counts)
        endpoints = self.client.whole(draft)["endpoints"]
        self.assertEqual({e: v["verdict"] for e, v in endpoints.items()}, judge(held).verdicts())
        self.assertEqual([r["number"] for r in self.get(f"plans/{draft}/history")["revisions"]], [2, 1, 0])
        status, _ = self.client.post(f"plans/{draft}/undo")
        self.assertEqual((status, self.held(draft).get("port_group", GROUP).vid), (200, 300))
        self.assertEqual(self.get(f"plans/{draft}?at=2")["summary"]["counts"], counts)
        self.assertNotIn(draft, [p["id"] for p in self.get("plans")])

    def test_beside_the_plan(self) -> None:
        draft = self.begin()
        self.edit(draft, MGMT)
        said = self.get(f"plans/{draft}/beside")
        base, own = judge(self.held(self.plan)), judge(self.held(draft))
        self.assertEqual([(c["kind"], c["id"]) for c in said["changes"]], [("host_port", "gannet/guests0/mgmt")])
        self.assertEqual(said["counts"], {"before": base.counts(), "after": own.counts()})
        old, new = base.verdicts(), own.verdicts()
        self.assertEqual({m["endpoint"] for m in said["moves"]}, {e for e in old if old[e] != new[e]})

    def test_several_at_once_know_nothing_of_each_other(self) -> None:
        one, two = self.begin("one"), self.begin("two", client=self.other)
        self.edit(one, patch("port_group", GROUP, vid=777))
        self.edit(two, patch("port_group", GROUP, vid=778), client=self.other)
        self.assertEqual([self.held(d).get("port_group", GROUP).vid for d in (one, two, self.plan)], [777, 778, 300])
        self.assertEqual([d["name"] for d in self.get(f"plans/{one}/drafts")], ["two", "one"])

    def test_two_are_not_called_the_same_among_those_that_one_sees(self) -> None:
        self.begin("summer")
        for client in (self.client, self.other):
            refused = client.post(f"plans/{self.plan}/drafts", {"name": "summer", "private": True})
            self.assertEqual((refused[0], refused[1]["problems"][0]["field"]), (400, "name"))
        mine = self.begin("winter", private=True)
        self.begin("winter", client=self.other)
        shared = self.client.request(
            "PATCH", f"plans/{mine}/draft", b'{"private": false}', Content_Type="application/json"
        )
        self.assertEqual((shared[0], shared[1]["problems"][0]["field"]), (400, "name"))
        self.assertTrue(self.listed(mine)["private"])
        spring = self.begin("spring")
        status, refused = self.client.request(
            "PATCH", f"plans/{spring}", b'{"name": "summer"}', Content_Type="application/json"
        )
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "name"))
        for name in ("spring", "autumn"):
            body = json.dumps({"name": name}).encode()
            status, _ = self.client.request("PATCH", f"plans/{spring}", body, Content_Type="application/json")
            self.assertEqual((status, self.listed(spring)["name"]), (200, name))

    def test_a_private_one_is_its_authors_until_it_is_shared(self) -> None:
        draft = self.begin(private=True)
        self.assertEqual(self.other.get(f"plans/{self.plan}/drafts"), (200, []))
        for path in ("", "/page", "/history", "/beside", "/rebase", "/verdicts", "/report"):
            self.assertEqual(self.other.get(f"plans/{draft}{path}")[0], 404, path)
        self.assertEqual(self.other.edit(draft, 0, MGMT)[0], 404)
        self.assertEqual(self.other.post(f"plans/{draft}/land", {"message": ""})[0], 404)
        stream = Stream(self.other, draft)
        self.assertEqual(stream.response.status, 404)
        stream.close()
        self.client.request("DELETE", f"plans/{draft}")
        self.assertNotIn(draft, [p["id"] for p in self.other.get("bin")[1]])
        self.client.post(f"bin/{draft}/restore")
        share = b'{"private": false}'
        self.assertEqual(
            self.other.request("PATCH", f"plans/{draft}/draft", share, Content_Type="application/json")[0], 404
        )
        self.assertEqual(
            self.client.request("PATCH", f"plans/{draft}/draft", share, Content_Type="application/json")[0], 200
        )
        self.assertEqual(self.other.get(f"plans/{draft}")[0], 200)
        hide = b'{"private": true}'
        self.assertEqual(
            self.other.request("PATCH", f"plans/{draft}/draft", hide, Content_Type="application/json")[0], 403
        )

    def test_a_dropped_one_waits_in_the_bin_and_a_binned_plan_takes_its_drafts_along(self) -> None:
        draft = self.begin()
        self.edit(draft, MGMT)
        self.client.request("DELETE", f"plans/{draft}")
        self.assertEqual(self.get(f"plans/{self.plan}/drafts"), [])
        status, said = self.client.get(f"plans/{draft}")
        self.assertEqual(status, 404)
        self.assertIn("ines put this draft into the bin", said["detail"])
        waiting = next(p for p in self.get("bin") if p["id"] == draft)
        self.assertEqual((waiting["draft_of"], waiting["hosts"]), (demo_plan().name, len(demo_plan().of("host"))))
        self.client.post(f"bin/{draft}/restore")
        self.assertIsNone(self.held(draft).get("host_port", "gannet/guests0/mgmt").vid)
        self.client.request("DELETE", f"plans/{self.plan}")
        self.assertEqual(self.client.get(f"plans/{draft}")[0], 404)
        stream = Stream(self.client, draft)
        self.assertEqual(stream.response.status, 404, "nobody listens to a draft whose plan is in the bin")
        stream.close()
        self.assertNotIn(draft, [p["id"] for p in self.get("bin")])
        self.assertEqual(self.client.request("DELETE", f"bin/{self.plan}")[0], 204)
        self.assertEqual(self.client.get(f"plans/{draft}")[0], 404)


class RebaseTest(DraftCase):
    def test_it_comes_along_by_itself_where_nothing_clashes_and_says_so(self) -> None:
        draft = self.begin()
        self.edit(draft, MGMT)
        stream = Stream(self.client, draft)
        self.addCleanup(stream.close)
        stream.next("revision")
        self.edit(self.plan, patch("port_group", GROUP, vid=777), client=self.other)
        event = stream.next("revision")
        self.assertEqual((event["last"]["how"], event["last"]["author"]), ("base", None))
        self.assertIn("On revision 1 of the plan now: test", event["last"]["message"])
        self.assertEqual(event["edits"][0]["edit"], [patch("port_group", GROUP, vid=777)])
        self.assertEqual((self.listed(draft)["base"], self.listed(draft)["latest"]), (1, 1))
        held = self.held(draft)
        self.assertEqual(
            (held.get("port_group", GROUP).vid, held.get("host_port", "gannet/guests0/mgmt").vid), (777, None)
        )
        # What is undone is the person's own, not what came from the plan.
        self.assertEqual(self.client.post(f"plans/{draft}/undo")[0], 200)
        self.assertEqual(self.held(draft), self.held(self.plan).named("try it"))

    def test_nobody_listens_and_it_is_up_to_date_when_it_is_opened(self) -> None:
        draft = self.begin()
        self.edit(draft, MGMT)
        self.edit(self.plan, patch("port_group", GROUP, vid=777))
        self.edit(self.plan, patch("port_group", GROUP, vid=778))
        self.get(f"plans/{draft}")
        self.assertEqual(self.listed(draft)["base"], 2)
        self.assertEqual(self.held(draft).get("port_group", GROUP).vid, 778)

    def clashing(self) -> tuple[str, Any]:
        draft = self.begin()
        self.edit(draft, patch("port_group", GROUP, vid=777), MGMT)
        self.edit(self.plan, patch("port_group", GROUP, vid=778, isolated=True), client=self.other)
        self.get(f"plans/{draft}")
        return draft, self.get(f"plans/{draft}/rebase")

    def test_a_clash_is_shown_with_both_words_and_chosen(self) -> None:
        for word, vid in (("plan", 778), ("draft", 777)):
            draft, said = self.clashing()
            (clash,) = said["clashes"]
            self.assertEqual(
                (clash["label"], clash["base"], clash["plan"], clash["draft"]), ("VID", "300", "778", "777")
            )
            self.assertEqual((self.held(draft).get("port_group", GROUP).vid, self.listed(draft)["base"]), (777, 0))
            choice = {**{n: clash[n] for n in ("kind", "id", "field")}, "word": word}
            status, refused = self.client.post(f"plans/{draft}/land", {"message": ""})
            self.assertEqual(status, 409)
            self.assertIn("bring it up to date first", refused["detail"])
            status, made = self.client.post(f"plans/{draft}/rebase", {"to": said["to"], "choices": [choice]})
            self.assertEqual((status, made["committed"]["revision"]), (200, 2))
            group = self.held(draft).get("port_group", GROUP)
            self.assertEqual((group.vid, group.isolated, self.listed(draft)["base"]), (vid, True, 1))
            self.setUp()

    def test_the_plan_moves_on_while_somebody_chooses(self) -> None:
        draft, said = self.clashing()
        self.edit(self.plan, patch("port_group", GROUP, vid=779))
        choice = {"kind": "port_group", "id": GROUP, "field": "vid", "word": "draft"}
        status, refused = self.client.post(f"plans/{draft}/rebase", {"to": said["to"], "choices": [choice]})
        self.assertEqual(status, 409)
        self.assertIn("revision 2", refused["detail"])
        self.assertEqual(
            self.client.post(f"plans/{draft}/rebase", {"to": 2, "choices": [{**choice, "word": "mine"}]})[0], 400
        )
        self.assertEqual(self.client.post(f"plans/{draft}/rebase", {"to": 2, "choices": [7]})[0], 400)

    def test_the_base_was_undone(self) -> None:
        guest = {"id": "guest-x", "name": "guest-x", "host": "gannet"}
        self.edit(self.plan, {"op": "put", "kind": "guest", "record": guest})
        draft = self.begin()
        adapter = {"id": "tap-x", "name": "tap-x", "guest": "guest-x"}
        self.edit(draft, {"op": "put", "kind": "adapter", "record": adapter})
        self.assertEqual(self.client.post(f"plans/{self.plan}/undo")[0], 200)
        self.get(f"plans/{draft}")
        said = self.get(f"plans/{draft}/rebase")
        (clash,) = said["clashes"]
        self.assertEqual((clash["plan"], clash["draft"]), ("gone", "needed by tap-x of guest-x"))
        choice = {**{n: clash[n] for n in ("kind", "id", "field")}, "word": "draft"}
        self.assertEqual(self.client.post(f"plans/{draft}/rebase", {"to": 2, "choices": [choice]})[0], 200)
        self.assertIn("guest-x", self.held(draft).of("guest"))


class LandTest(DraftCase):
    def test_landed_it_is_one_revision_undone_whole(self) -> None:
        before = self.held(self.plan)
        draft = self.begin("new tags")
        self.edit(draft, MGMT)
        self.edit(draft, patch("port_group", GROUP, vid=777))
        stream = Stream(self.other, self.plan)
        self.addCleanup(stream.close)
        stream.next("revision")
        status, said = self.client.post(f"plans/{draft}/land", {"message": ""})
        self.assertEqual((status, said["plan"], said["revision"]["message"]), (200, self.plan, "Land new tags"))
        self.assertEqual(stream.next("revision")["last"]["message"], "Land new tags")
        self.assertEqual(self.held(self.plan), self.held(draft).named(before.name))
        self.assertEqual((self.get(f"plans/{self.plan}")["revision"], self.listed(draft)["landed"]), (1, 1))
        status, refused = self.client.edit(draft, 2, MGMT)
        self.assertEqual(status, 409)
        self.assertIn("landed as revision 1", refused["detail"])
        self.assertEqual(self.client.post(f"plans/{draft}/land", {"message": ""})[0], 409)
        self.client.post(f"plans/{self.plan}/undo")
        self.assertEqual(self.held(self.plan), before)
        # Worked on again it has what it had.
        self.assertEqual(self.client.post(f"plans/{draft}/take-up")[0], 200)
        self.assertEqual(self.held(draft).get("port_group", GROUP).vid, 777)
        self.assertEqual(self.client.post(f"plans/{draft}/take-up")[0], 400)
        self.assertEqual(self.client.post(f"plans/{draft}/land", {"message": "again"})[0], 200)

    def test_one_that_says_what_the_plan_says_has_nothing_to_land(self) -> None:
        status, said = self.client.post(f"plans/{self.begin()}/land", {"message": ""})
        self.assertEqual(status, 400)
        self.assertIn("nothing to land", said["problems"][0]["text"])

    def test_two_people_land_at_once(self) -> None:
        drafts = [self.begin(str(n)) for n in range(3)]
        for draft, vid in zip(drafts[:2], (777, 778), strict=True):
            self.edit(draft, patch("port_group", GROUP, vid=vid))
        self.edit(drafts[2], MGMT)
        answers: dict[str, list[int]] = {d: [] for d in drafts}
        waiting = threading.Barrier(6)

        def land(draft: str, client: Client) -> None:
            waiting.wait()
            answers[draft].append(client.post(f"plans/{draft}/land", {"message": ""})[0])

        hands = [threading.Thread(target=land, args=(d, c)) for d in drafts for c in (Client(), Client("tomas"))]
        for hand in hands:
            hand.start()
        for hand in hands:
            hand.join()
        # One of the two that clash lands, and each only once.
        self.assertEqual(sorted(answers[drafts[2]]), [200, 409])
        self.assertEqual(sorted(answers[drafts[0]] + answers[drafts[1]]), [200, 409, 409, 409])
        self.assertEqual(self.get(f"plans/{self.plan}")["revision"], 2)
        self.assertIn(self.held(self.plan).get("port_group", GROUP).vid, (777, 778))


class RandomTest(DraftCase, DatabaseCase):
    def test_whatever_happens_to_both_it_is_what_the_merge_says_and_judged_as_from_nothing(self) -> None:
        from aptwire_server.plans.engine import engine_of
        from aptwire_server.plans.models import PlanRow

        for seed in range(4):
            dice = random.Random(seed)
            from aptwire.plan.file import write_plan

            raw = write_plan(random_plan(seed))
            self.plan = self.client.upload("plans/import", [], [("file", "r.json", raw)])[1]["id"]
            draft = self.begin()
            base, own = self.held(self.plan), self.held(draft)
            for _ in range(8):
                for of in dice.sample([self.plan, draft], 2):
                    edit = some_edit(self.held(of), dice)
                    if edit:
                        self.client.edit(of, self.get(f"plans/{of}")["revision"], *edit_to_json(edit))
                    if of == draft:
                        own = self.held(draft)
                now = self.held(self.plan)
                merged = merge(base, now, own)
                self.get(f"plans/{draft}")
                held = self.held(draft)
                if merged.clean:
                    self.assertEqual(held, merged.plan and merged.plan.named("try it"))
                    base, own = now, held
                else:
                    self.assertEqual(held, own)
                self.assertEqual(self.listed(draft)["base"] == self.listed(draft)["latest"], merged.clean)
                verdicts = judge(held).verdicts()
                seen = self.client.whole(draft)["endpoints"]
                self.assertEqual({e: v["verdict"] for e, v in seen.items()}, verdicts)
            # A process that knows nothing of it makes the same of it.
            row = PlanRow.objects.get(pk=uuid.UUID(draft))
            cold = engine_of(row)
            self.assertEqual((cold.plan.named("try it"), cold.judgement().verdicts()), (held, verdicts))

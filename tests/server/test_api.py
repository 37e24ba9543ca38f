"""The API over HTTP, on a real server and database."""

from __future__ import annotations

import gzip
import json
import random
import threading
import time
import unittest
from dataclasses import replace
from typing import Any
from unittest import mock
from urllib.parse import quote

import jsonschema
from aptwire.above.ping import ping
from aptwire.above.room import told_size
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Patch, Put, apply_edit, touched
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.kinds import KINDS, Host, NumaNode, Record, Segment
from aptwire.plan.plan import Plan
from aptwire.recheck import read_report, recheck
from aptwire.report import landings

from measure.fleet import fleet
from tests.server.support import Client, DatabaseCase, Stream, drop, patch, unfolded, unfolded_endpoints
from tests.support import demo_plan, random_plan, two_hosts_files


class AccessTest(unittest.TestCase):
    def test_only_login_and_health_are_open(self) -> None:
        stranger = Client(user=None)
        self.assertEqual(stranger.get("health"), (200, {"status": "ok"}))
        self.assertEqual(stranger.get("session"), (200, {"user": None}))
        plan = Client().demo()
        paths = (
            "",
            "/export",
            "/page",
            "/revisions",
            "/changes",
            "/verdicts",
            "/findings/x",
            "/trace",
            "/strand",
            "/events",
        )
        for path in ["plans", "schema", *(f"plans/{plan}{p}" for p in paths)]:
            self.assertEqual(stranger.get(path)[0], 403, path)
        for path in [
            "plans",
            "plans/import",
            "plans/read",
            *(f"plans/{plan}/{p}" for p in ("edits", "undo", "redo", "preview")),
        ]:
            self.assertEqual(stranger.post(path, {})[0], 403, path)

    def test_a_wrong_password_and_a_missing_token_are_refused(self) -> None:
        stranger = Client(user=None)
        self.assertEqual(stranger.post("session", {"username": "ines", "password": "guess"})[0], 400)
        logged_in = Client()
        logged_in.token = lambda: "forged"  # type: ignore[method-assign]
        self.assertEqual(logged_in.post("plans", {"name": "x"})[0], 403)

    def test_logout_ends_the_session(self) -> None:
        person = Client()
        self.assertEqual(person.get("session")[1], {"user": "ines"})
        self.assertEqual(person.request("DELETE", "session")[0], 200)
        self.assertEqual(person.get("plans")[0], 403)


class PlansTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()

    def test_what_is_imported_is_exported_equal(self) -> None:
        for plan in (demo_plan(), random_plan(7), random_plan(8)):
            status, made = self.client.upload("plans/import", [], [("file", "p.json", write_plan(plan))])
            self.assertEqual(status, 201, made)
            status, exported = self.client.get(f"plans/{made['id']}/export")
            self.assertEqual(read_plan(json.dumps(exported).encode()), plan)

    def test_an_empty_plan_and_the_list(self) -> None:
        status, made = self.client.post("plans", {"name": "Northquay annex"})
        self.assertEqual((status, made["hosts"], made["revision"]), (201, 0, 0))
        self.assertIn(made["id"], [p["id"] for p in self.client.get("plans")[1]])
        self.assertEqual(self.client.get(f"plans/{made['id']}/verdicts")[1]["findings"], [])

    def test_bad_files_say_where(self) -> None:
        status, said = self.client.upload("plans/import", [], [("file", "fleet.json", b'{"format": 1}')])
        self.assertEqual(status, 400)
        self.assertIn("fleet.json", said["problems"][0]["place"])
        self.assertEqual(self.client.upload("plans/import", [("x", "y")], [])[1]["problems"][0]["field"], "file")
        self.assertEqual(self.client.post("plans", {"name": " "})[1]["problems"][0]["field"], "name")

    def test_host_states_are_read_with_a_report_and_saved_on_demand(self) -> None:
        files = two_hosts_files()
        fields = [("name", "quay hosts"), *(("path", path) for path in files)]
        parts = [("file", path.split("/")[-1], raw) for path, raw in files.items()]
        status, told = self.client.upload("plans/read", fields, parts)
        self.assertEqual((status, told["plan"], told["records"]["adapter"]), (200, None, 6))
        self.assertEqual(told["summary"]["counts"]["wavering"], 2)
        self.assertIn("proposed", {note["what"] for note in told["report"]})
        status, saved = self.client.upload("plans/read", [("save", "yes"), *fields], parts)
        self.assertEqual(status, 201)
        self.assertEqual(self.client.get(f"plans/{saved['plan']['id']}")[1]["name"], "quay hosts")
        cut = [("file", "x", raw[:-3] if path.endswith("nic0.lldp.pcap") else raw) for path, raw in files.items()]
        status, refused = self.client.upload("plans/read", fields, cut)
        self.assertEqual(status, 400)
        self.assertIn("nic0.lldp.pcap: byte", refused["problems"][0]["text"])

    def test_unknown_plans_are_404(self) -> None:
        for path in ("", "/verdicts", "/events"):
            self.assertEqual(self.client.get(f"plans/00000000-0000-0000-0000-000000000000{path}")[0], 404)


class EditsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client, cls.other = Client("ines"), Client("tomas")

    def setUp(self) -> None:
        self.plan = self.client.demo()

    def verdict(self, endpoint: str) -> str:
        found = list(self.client.whole(self.plan)["endpoints"].values())
        return next(e["verdict"] for e in found if e["id"] == endpoint)

    def test_an_edit_moves_verdicts_and_is_on_record(self) -> None:
        status, made = self.client.edit(
            self.plan, 0, patch("fabric_port", "quay-b/p2", allowed="110,120,210,220,230,240,300,410,420")
        )
        self.assertEqual((status, made["revision"]), (200, 1))
        self.assertEqual(
            made["moves"],
            [{"endpoint": "adapter-tide-gauge-view", "before": "wavering", "after": "home", "name": None}],
        )
        log = self.client.get(f"plans/{self.plan}/revisions")[1]
        self.assertEqual([(r["number"], r["author"], r["message"]) for r in log], [(1, "ines", "test")])

    def test_an_edit_is_told_as_its_records_have_it_however_it_was_written(self) -> None:
        said = (
            patch("fabric_port", "quay-a/p23", allowed="220,210", mode="trunk"),
            patch("adapter", "adapter-berth-display", mac="02-00-5E-00-00-99"),
            {"op": "put", "kind": "adapter", "record": {"id": "spare", "guest": "guest-cctv-gate", "name": "spare"}},
            patch("adapter", "spare", mac="02-00-5E-00-00-98"),
        )
        self.assertEqual(self.client.edit(self.plan, 0, *said)[0], 200)
        told = self.client.get(f"plans/{self.plan}/changes?since=0")[1]["edits"][0]["edit"]
        self.assertEqual(told[0]["set"], {"allowed": "210, 220", "mode": "trunk"})
        self.assertEqual(told[1]["set"], {"mac": "02:00:5e:00:00:99"})
        self.assertEqual((told[2], told[3]["set"]["mac"]), (said[2], "02:00:5e:00:00:98"))

    def test_undo_and_redo_walk_your_own_edits(self) -> None:
        before = self.client.get(f"plans/{self.plan}/export")[1]
        self.client.edit(self.plan, 0, patch("port_group", "petrel/guests0/tide-gauges", vid=230))
        self.client.edit(self.plan, 1, patch("port_group", "petrel/guests0/tide-gauges", name="gauges"))
        self.other.edit(self.plan, 2, patch("segment", "segment-edge", role="border"))
        after = self.client.get(f"plans/{self.plan}/export")[1]
        self.assertEqual(self.client.post(f"plans/{self.plan}/undo")[0], 200)
        status, second = self.client.post(f"plans/{self.plan}/undo")
        self.assertEqual((status, second["steps"]["undo"]), (200, None))
        self.assertEqual(self.client.post(f"plans/{self.plan}/undo")[0], 400)
        undone = self.client.get(f"plans/{self.plan}/export")[1]
        undone["records"]["segment"] = before["records"]["segment"]
        self.assertEqual(undone, before)
        for _ in range(2):
            self.assertEqual(self.client.post(f"plans/{self.plan}/redo")[0], 200)
        self.assertEqual(self.client.get(f"plans/{self.plan}/export")[1], after)

    def test_any_walk_of_edits_undos_and_redos_goes_by_two_stacks(self) -> None:
        dice = random.Random(7)
        undoable: list[int] = []
        redoable: list[int] = []
        for number in range(1, 41):
            how = dice.choice(["edit", "undo", "undo", "redo"])
            stack = {"undo": undoable, "redo": redoable}.get(how)
            if stack == []:
                self.assertEqual(self.client.post(f"plans/{self.plan}/{how}")[0], 400)
                how, stack = "edit", None
            if stack is None:
                status, said = self.client.edit(
                    self.plan, number - 1, patch("segment", "segment-edge", role=f"r{number}")
                )
                undoable.append(number)
                redoable.clear()
            else:
                status, said = self.client.post(f"plans/{self.plan}/{how}")
                (redoable if how == "undo" else undoable).append(stack.pop())
            self.assertEqual((status, said["revision"]), (200, number))
            told = {name: step and step["number"] for name, step in said["steps"].items()}
            self.assertEqual(told, {"undo": (undoable or [None])[-1], "redo": (redoable or [None])[-1]}, number)
            if how == "edit" and number % 5 == 0:
                self.assertEqual(self.other.get(f"plans/{self.plan}")[1]["steps"], {"undo": None, "redo": None})

    def test_an_undo_that_would_trample_on_somebody_is_a_conflict(self) -> None:
        self.client.edit(self.plan, 0, patch("segment", "segment-edge", vid=301))
        self.other.edit(self.plan, 1, patch("segment", "segment-edge", vid=302))
        status, said = self.client.post(f"plans/{self.plan}/undo")
        self.assertEqual((status, said["changes"][0]["author"]), (409, "tomas"))
        self.assertEqual(self.client.get(f"plans/{self.plan}")[1]["revision"], 2)

    def test_an_old_base_is_fine_unless_the_same_records_changed(self) -> None:
        self.client.edit(self.plan, 0, patch("segment", "segment-edge", role="border"))
        self.assertEqual(self.other.edit(self.plan, 0, patch("segment", "segment-cctv", role="watch"))[0], 200)
        status, said = self.other.edit(self.plan, 0, patch("segment", "segment-edge", role="rim"))
        self.assertEqual(status, 409)
        self.assertEqual([c["number"] for c in said["changes"]], [1])
        records = self.client.whole(self.plan)["records"]["segment"]
        self.assertEqual({r["id"]: r.get("role") for r in records}["segment-edge"], "border")

    def test_an_edit_that_no_longer_fits_is_a_conflict_too(self) -> None:
        self.client.edit(self.plan, 0, drop("cable", "cable-petrel-nic2"), drop("nic", "petrel/nic2"))
        put = {"op": "put", "kind": "cable", "record": {"id": "c-new", "a": "petrel/nic2", "b": "marsh-a/p20"}}
        self.assertEqual(self.other.edit(self.plan, 0, put)[0], 409)
        self.assertEqual(self.other.edit(self.plan, 1, put)[0], 400)
        self.assertEqual(self.client.edit(self.plan, 99, put)[0], 409)

    def test_wrong_edits_change_nothing_and_name_record_and_field(self) -> None:
        status, said = self.client.edit(
            self.plan, 0, patch("segment", "segment-edge", vid=4095), patch("host", "heron", name="x")
        )
        self.assertEqual(status, 400)
        self.assertEqual([(p["id"], p["field"]) for p in said["problems"]], [("segment-edge", "vid"), ("heron", "")])
        for body in ({}, {"base": 0, "message": "", "edit": []}, {"base": "0", "message": "", "edit": []}, [1]):
            self.assertEqual(self.client.post(f"plans/{self.plan}/edits", body)[0], 400, body)
        self.assertEqual(self.client.get(f"plans/{self.plan}")[1]["revision"], 0)

    def test_names_can_be_exchanged_in_one_edit(self) -> None:
        edit = (patch("segment", "segment-edge", name="CCTV"), patch("segment", "segment-cctv", name="edge"))
        self.assertEqual(self.client.edit(self.plan, 0, *edit)[0], 200)

    def test_two_writers_at_once_lose_nothing(self) -> None:
        clients = [Client("ines"), Client("tomas")]
        answers: list[tuple[int, int]] = []

        def write(number: int) -> None:
            for step in range(10):
                shared = patch("segment", "segment-edge", mtu=1400 + number * 20 + step)
                own = patch("segment", f"segment-{('ticketing', 'storage')[number]}", mtu=1300 + step)
                base = clients[number].get(f"plans/{self.plan}")[1]["revision"]
                status, made = clients[number].edit(self.plan, base, shared if step % 2 else own)
                answers.append((status, made.get("revision", 0)))

        threads = [threading.Thread(target=write, args=(n,)) for n in (0, 1)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        made = sorted(number for status, number in answers if status == 200)
        self.assertEqual(len(answers), 20)
        self.assertTrue(all(status in (200, 409) for status, _ in answers), answers)
        self.assertEqual(made, list(range(1, len(made) + 1)))
        self.assertGreaterEqual(len(made), 10)
        log = self.client.get(f"plans/{self.plan}/revisions")[1]
        self.assertEqual([r["number"] for r in log], made[::-1])


class AnswersTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()
        cls.plan = cls.client.demo()

    def test_every_finding_has_proof_and_mends_that_can_be_taken(self) -> None:
        findings = self.client.get(f"plans/{self.plan}/verdicts")[1]["findings"]
        self.assertGreaterEqual(len(findings), 6)
        for finding in findings:
            status, detail = self.client.get(f"plans/{self.plan}/findings/{finding['id']}")
            self.assertEqual(status, 200)
            self.assertTrue(detail["proof"][0]["hops"])
            if not detail["mends"]:
                self.assertIn(
                    finding["what"], ("single-nic", "own-guest", "overlap"), "no edit of the plan alone would do"
                )
                continue
            _, seen = self.client.post(f"plans/{self.plan}/preview", {"edits": [detail["mends"][0]["edit"]]})
            self.assertEqual(seen[0]["moves"], detail["mends"][0]["moves"])
            self.assertEqual(sum(t["count"] for t in seen[0]["tally"]), len(seen[0]["moves"]))
        self.assertEqual(self.client.get(f"plans/{self.plan}/findings/none")[0], 404)
        self.assertEqual(self.client.get(f"plans/{self.plan}")[1]["revision"], 0)

    def test_the_spanning_tree(self) -> None:
        plan = self.client.demo()
        told = self.client.get(f"plans/{plan}/tree")[1]
        self.assertEqual(set(told["roots"].values()), {"quay-a"})
        self.assertEqual(told["blocked"], {"cable-terminals-2": "marsh-a"})
        self.client.edit(plan, 0, patch("fabric_port", "quay-a/x49", enabled=False))
        told = self.client.get(f"plans/{plan}/tree")[1]
        self.assertEqual((told["blocked"], told["cost"]["marsh-a"]), ({}, 22_000), "the reserve carries now")

    def test_risks_come_after_the_verdicts_and_their_mends_can_be_taken(self) -> None:
        plan = self.client.demo()
        findings = self.client.get(f"plans/{plan}/verdicts")[1]["findings"]
        grave = [f["verdict"] for f in findings if not f["idle"]]
        first = grave.index("risk")
        self.assertNotIn("risk", grave[:first])
        self.assertEqual(set(grave[first:]), {"risk", "untidy"})
        excess = next(f for f in findings if f["what"] == "excess")
        detail = self.client.get(f"plans/{plan}/findings/{excess['id']}")[1]
        status, made = self.client.post(
            f"plans/{plan}/edits", {"base": 0, "message": "trim", "edit": detail["mends"][0]["edit"]}
        )
        self.assertEqual((status, made["moves"]), (200, []))
        self.assertNotIn(excess["id"], {f["id"] for f in made["summary"]["findings"]})

    def test_of_findings_that_are_known_an_edit_tells_those_that_differ(self) -> None:
        client, plan = self.client, self.client.demo()

        def renumber(base: int, vid: int, known: str = "") -> tuple[dict[str, Any], dict[str, Any]]:
            """What is answered, and the plan's whole summary then."""
            edit = [{"op": "patch", "kind": "port_group", "id": "gannet/guests0/ticketing", "set": {"vid": vid}}]
            told = {"base": base, "message": "x", "edit": edit}
            status, made = client.post(f"plans/{plan}/edits{known}", told)
            self.assertEqual(status, 200)
            return made["summary"], client.get(f"plans/{plan}/verdicts")[1]

        known = client.get(f"plans/{plan}/verdicts")[1]
        for base, vid in ((0, 999), (1, 998), (2, 999)):
            told, whole = renumber(base, vid, f"?known={base}")
            of = {finding["id"]: finding for finding in (*known["findings"], *known["accepted"])}
            if base:
                self.assertLess(sum(isinstance(f, dict) for f in told["findings"]), len(whole["findings"]))
                self.assertTrue(any(isinstance(f, dict) for f in told["findings"]))
            for about in ("findings", "accepted"):
                told[about] = [of[f] if isinstance(f, str) else f for f in told[about]]
            self.assertEqual(told, whole)
            known = whole
        for base, asked in ((3, ""), (4, "?known=2"), (5, "?known=9")):
            with self.subTest(asked=asked):
                # Who knows nothing, or of another revision, is told all.
                self.assertEqual(*renumber(base, 900 + base, asked))
        self.assertEqual(client.post(f"plans/{plan}/undo?known=soon")[1]["problems"][0]["field"], "known")

    def test_changes_tell_where_endpoints_land_since_any_revision(self) -> None:
        plan = self.client.demo()
        before = self.client.whole(plan)["endpoints"]
        self.client.edit(plan, 0, patch("port_group", "petrel/guests0/tide-gauges", vid=230))
        self.client.edit(plan, 1, patch("guest", "guest-cctv-gate", running=False))
        self.client.edit(plan, 2, drop("mirror", "mirror-ticketing-api"))
        # Plugged in nowhere, and meant for nowhere.
        spare = {"id": "spare", "guest": "guest-cctv-gate", "name": "spare"}
        self.client.edit(plan, 3, {"op": "put", "kind": "adapter", "record": spare})
        self.client.edit(plan, 4, patch("host", "petrel", name="skua"))
        now = self.client.whole(plan)["endpoints"]
        self.assertEqual(now["spare"]["host"], "skua")
        for since in range(6):
            told = self.client.get(f"plans/{plan}/changes?since={since}")[1]
            self.assertEqual([e["number"] for e in told["edits"]], list(range(since + 1, 6)))
            self.assertEqual({e["id"]: e for e in told["landed"]}, {e["id"]: now[e["id"]] for e in told["landed"]})
            if since == 0:
                seen = {**before, **{e["id"]: e for e in told["landed"]}}
                self.assertEqual(seen, now)

    def test_a_ping_is_answered_as_the_core_says_at_any_revision(self) -> None:
        plan = self.client.demo()
        asked = f"plans/{plan}/ping?a=ticketing-web-1&b=berth-planner"
        status, told = self.client.get(asked)
        judgement = judge(demo_plan())
        core = ping(judgement, "guest-ticketing-web-1", "guest-berth-planner")
        wanted = {**core.to_json(), "size": told_size(judgement.wiring, core)}
        self.assertEqual((status, told), (200, json.loads(json.dumps(wanted))))
        self.assertEqual(told["outcome"], "answered")
        self.client.edit(plan, 0, patch("guest", "guest-edge-firewall", routes=False))
        self.assertEqual(self.client.get(asked)[1]["outcome"], "silent")
        self.assertEqual(self.client.get(f"{asked}&at=0")[1], told)
        for a, b, field in (
            ("nobody", "berth-planner", "a"),
            ("berth-planner", "no one", "b"),
            ("10.0.0.1", "gannet", ""),
        ):
            status, refused = self.client.get(f"plans/{plan}/ping?a={quote(a)}&b={quote(b)}")
            self.assertEqual(status, 400)
            self.assertIn(field, refused["problems"][0]["field"])

    def test_a_fleet_comes_in_pages_and_no_answer_is_large(self) -> None:
        source = fleet(100, 140, faults=0.05)
        _, made = self.client.upload("plans/import", [], [("file", "fleet.json", write_plan(source))])
        plan = made["id"]
        told = self.client.whole(plan)
        self.assertGreater(told["pages"], 2)
        self.assertLess(told["largest"], 1_000_000)
        self.assertEqual(
            {k: len(v) for k, v in told["records"].items()}, {k: len(source.of(k)) for k in told["records"]}
        )
        self.assertEqual(len(told["endpoints"]), 100 * 143)
        self.assertEqual(self.client.exported(plan), write_plan(source))
        endpoint = told["endpoints"]["host-3/a1"]
        status, answer = self.client.edit(plan, 0, patch("adapter", "host-3/a1", port_group=None))
        self.assertEqual(status, 200)
        self.assertLess(len(json.dumps(answer)), 1_000_000)
        landed = {e["id"]: e for e in answer["landed"]}
        self.assertEqual((endpoint["verdict"], landed["host-3/a1"]["verdict"]), ("home", "astray"))
        changes = self.client.get(f"plans/{plan}/changes?since=0")[1]
        self.assertEqual({e["id"]: e for e in changes["landed"]}, landed)
        cut = [drop("cable", id) for id in source.of("cable")]
        answer = self.client.edit(plan, 1, *cut)[1]
        self.assertIsNone(answer["landed"], "so many that loading them anew is the better way")
        self.assertLess(len(json.dumps(answer)), 1_000_000)
        for path in ("", "/verdicts", "/revisions", "/changes?since=0"):
            self.assertLess(len(json.dumps(self.client.get(f"plans/{plan}{path}")[1])), 1_000_000, path)
        for cursor in ("nonsense", "adapter", "adapter:x", "nothing:0"):
            self.assertEqual(self.client.get(f"plans/{plan}/page?after={cursor}")[0], 400)

    def test_the_one_edit_that_is_being_typed_tells_its_risks(self) -> None:
        limits = {"op": "put", "kind": "limits", "record": {"id": "limits", "paravirtual_adapters": 1}}
        self.assertEqual(self.client.edit(self.plan, 0, limits)[0], 200)
        adapter = {"id": "second", "guest": "guest-crew-roster", "name": "tap-second", "hot_plug": False}
        edit = [{"op": "put", "kind": "adapter", "record": adapter}]
        _, (seen,) = self.client.post(f"plans/{self.plan}/preview", {"edits": [edit]})
        self.assertEqual(len(seen["risks"]), 1, seen["risks"])
        self.assertIn("crew-roster", seen["risks"][0])
        self.assertEqual(seen["shut_down"], ["crew-roster"])
        _, both = self.client.post(f"plans/{self.plan}/preview", {"edits": [edit, []]})
        self.assertEqual([found["risks"] for found in both], [[], []], "a choice among many is about verdicts")

    def test_a_mend_tells_what_risks_it_brings(self) -> None:
        listed = self.client.get(f"plans/{self.plan}/verdicts")[1]["findings"]
        thin = next(f["id"] for f in listed if f["title"].startswith("storage rests on a single NIC"))
        (mend,) = self.client.get(f"plans/{self.plan}/findings/{thin}")[1]["mends"]
        self.assertRegex(mend["title"], "^Move what is on store0 of fulmar to guests0 of fulmar")
        self.assertTrue(
            any("role storage and role production share no" in risk for risk in mend["risks"]), mend["risks"]
        )
        self.assertEqual(mend["shut_down"], [])
        _, (seen,) = self.client.post(f"plans/{self.plan}/preview", {"edits": [mend["edit"]]})
        self.assertEqual(
            (seen["risks"], seen["moves"]), (mend["risks"], mend["moves"]), "as a preview of its edit says"
        )

    def test_a_preview_of_a_wrong_edit_says_why(self) -> None:
        edits = [[patch("segment", "segment-edge", vid=0)], [patch("segment", "segment-edge", vid=301)]]
        status, seen = self.client.post(f"plans/{self.plan}/preview", {"edits": edits})
        self.assertEqual((status, seen[0]["counts"]), (200, None))
        self.assertIn("VID 0", seen[0]["problems"][0]["text"])
        self.assertTrue(seen[1]["moves"])
        self.assertEqual(self.client.post(f"plans/{self.plan}/preview", {"edits": [[]] * 65})[0], 400)

    def test_sheets_and_the_report_come_as_files(self) -> None:
        at = f"plans/{self.plan}"
        for path, kind, name, begins in (
            ("sheet?of=segments", "text/csv; charset=utf-8", "Brackwater-Ferries-segments.csv", b"segment,role,VID"),
            ("sheet?of=ports&form=xlsx", "application/vnd.openxml", "Brackwater-Ferries-ports.xlsx", b"PK"),
            ("report", "text/html; charset=utf-8", "Brackwater-Ferries-report.html", b"<!doctype html>"),
            ("validation", "text/html; charset=utf-8", "Brackwater-Ferries-validation.html", b"<!doctype html>"),
            ("validation?form=json", "application/json", "Brackwater-Ferries-validation.json", b'{"format"'),
            (
                "ping-frames?a=fulmar/tap-crew-roster&b=internet",
                "application/x-pcapng",
                "Brackwater-Ferries-ping.pcapng",
                b"\n\r\r\n",
            ),
            ("decks-drawing?host=petrel", "image/svg+xml; charset=utf-8", "Brackwater-Ferries-decks.svg", b"<svg"),
        ):
            headers, body = self.client.file(f"{at}/{path}")
            self.assertTrue(headers["Content-Type"].startswith(kind), path)
            self.assertEqual(headers["Content-Disposition"], f'attachment; filename="{name}"')
            self.assertTrue(body.startswith(begins), body[:40])
        for wrong, field in (("of=nothing", "of"), ("of=ports&form=doc", "form"), ("", "of")):
            status, refused = self.client.get(f"{at}/sheet?{wrong}")
            self.assertEqual((status, refused["problems"][0]["field"]), (400, field))
        status, refused = self.client.get(f"{at}/decks-drawing?host=petrel&host=nobody")
        self.assertEqual((status, refused["problems"][0]["text"]), (400, "field host: there is no host “nobody”"))

    def test_the_validation_report_holds_against_the_plan_file_and_no_other(self) -> None:
        file = self.client.exported(self.plan)
        report = read_report(self.client.file(f"plans/{self.plan}/validation")[1])
        found = recheck(read_plan(file), report, file)
        self.assertEqual(found.failed, ())
        self.assertGreater(found.right["home"], 20)
        self.client.edit(self.plan, 0, patch("host_port", "gannet/guests0/mgmt", vid=None))
        file = self.client.exported(self.plan)
        self.assertIn("another plan", recheck(read_plan(file), report, file).failed[0])
        self.assertEqual(self.client.get(f"plans/{self.plan}/validation?form=pdf")[0], 400)

    def test_trace_there_and_back(self) -> None:
        path = f"plans/{self.plan}/trace?a={quote('gannet/tap-ticketing-db')}&b={quote('gannet/tap-fw-in|210')}"
        status, found = self.client.get(path)
        self.assertEqual((status, found["there"]["delivered"], found["back"]["delivered"]), (200, True, True))
        self.assertEqual(self.client.get(f"plans/{self.plan}/trace?a=x&b=y")[0], 400)

    def test_the_strand_ends_where_the_tag_is_dropped(self) -> None:
        status, pieces = self.client.get(f"plans/{self.plan}/strand?segment=segment-cctv")
        self.assertEqual(status, 200)
        broken = [p for p in pieces if p["state"] == "dropped" and p["to"] == "marsh-a/x49"]
        self.assertIn("240 is missing", broken[0]["reason"])
        self.assertEqual(self.client.get(f"plans/{self.plan}/strand?segment=none")[0], 400)

    def test_the_openapi_document_describes_the_answers(self) -> None:
        status, raw = self.client.get("schema")
        document = json.loads(raw)
        self.assertEqual((status, document["openapi"][:3]), (200, "3.1"))
        answers = {
            "/api/plans": "plans",
            "/api/plans/{plan_id}": f"plans/{self.plan}",
            "/api/plans/{plan_id}/verdicts": f"plans/{self.plan}/verdicts",
            "/api/plans/{plan_id}/changes": f"plans/{self.plan}/changes",
            "/api/plans/{plan_id}/revisions": f"plans/{self.plan}/revisions",
            "/api/plans/{plan_id}/strand": f"plans/{self.plan}/strand?segment=segment-edge",
            "/api/session": "session",
        }
        for path, url in answers.items():
            schema = document["paths"][path]["get"]["responses"]["200"]["content"]["application/json"]["schema"]
            jsonschema.validate(self.client.get(url)[1], {**schema, "components": document["components"]})


class TablesTest(DatabaseCase):
    def test_an_edit_of_very_many_records_is_what_the_tables_hold(self) -> None:
        from aptwire_server.plans.models import PlanRow
        from aptwire_server.plans.tables import MANY, load_plan

        client, plan = Client(), fleet(40, 20, 10)
        id = client.upload("plans/import", [], [("file", "fleet.json", write_plan(plan))])[1]["id"]
        adapters = sorted(plan.of("adapter"))
        self.assertGreater(len(adapters), MANY)
        operations = [
            patch("adapter", a, note=f"note {n}", addresses=[f"10.64.9.{n % 250}/24"]) for n, a in enumerate(adapters)
        ]
        guest, group = (plan.get("adapter", adapters[0]).guest, plan.get("adapter", adapters[0]).port_group)
        made = [{"id": f"more-{n}", "guest": guest, "name": f"more-{n}", "port_group": group} for n in range(MANY)]
        operations += [{"op": "put", "kind": "adapter", "record": record} for record in made]
        status, answer = client.edit(id, 0, *operations)
        self.assertEqual((status, answer["revision"]), (200, 1))
        held = load_plan(PlanRow.objects.get(pk=id))
        self.assertEqual(held, read_plan(client.exported(id)))
        self.assertEqual(held.get("adapter", adapters[7]).note, "note 7")
        self.assertEqual(len(held.of("adapter")), len(adapters) + MANY)
        # Taken back, it is as it was.
        self.assertEqual(client.post(f"plans/{id}/undo")[0], 200)
        self.assertEqual(dict(load_plan(PlanRow.objects.get(pk=id)).of("adapter")), dict(plan.of("adapter")))

    def test_rows_of_a_new_plan_hold_together_whoever_writes_them(self) -> None:
        from aptwire_server.plans.commits import new_row
        from aptwire_server.plans.tables import load_plan, write_new
        from django.db import IntegrityError, connection, transaction

        def written(plan: Plan, lesser: bool) -> Plan:
            """What the tables hold of a plan, written by who may have the database ask for all together, or by who may not; gone at the end."""
            with transaction.atomic(), connection.cursor() as cursor:
                if lesser:
                    cursor.execute("CREATE ROLE lesser; GRANT ALL ON ALL TABLES IN SCHEMA public TO lesser")
                    cursor.execute("SET LOCAL ROLE lesser")
                row = new_row(plan.name, None, {})
                write_new(row, plan)
                held = load_plan(row)
                # From here on the database asks by itself again.
                with self.assertRaises(IntegrityError), transaction.atomic():
                    cursor.execute("UPDATE record_cable SET a_nic_id = gen_random_uuid() WHERE plan_id = %s", [row.id])
                    cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")
                transaction.set_rollback(True)
            return held

        demo = demo_plan()
        records = {kind: dict(demo.of(kind)) for kind in KINDS}
        adapter, cable = next(iter(demo.all("adapter"))), next(iter(demo.all("cable")))
        wrong: list[tuple[str, Record]] = [
            ("adapter", replace(adapter, belongs="nowhere")),
            ("adapter", replace(adapter, id="again")),
            ("nic", replace(next(iter(demo.all("nic"))), uplink="nowhere")),
            ("cable", replace(cable, id="again")),
        ]
        for lesser in (False, True):
            self.assertEqual(written(demo, lesser), demo)
            for kind, record in wrong:
                with self.subTest(kind=kind, id=record.id, lesser=lesser), self.assertRaises(IntegrityError):
                    written(Plan("p", {**records, kind: {**records[kind], record.id: record}}), lesser)


class PagesTest(DatabaseCase):
    def test_the_first_record_of_a_kind_is_on_a_page_that_was_kept_without_any(self) -> None:
        from aptwire_server.plans import pages
        from aptwire_server.plans.engine import Engine

        engine = Engine(0, Plan("kept"))
        for edit in (
            (Put(Host(id="skua", name="skua")),),
            (Put(NumaNode(id="skua/0", host="skua", number=0, cores="0, 1")),),
            (Put(Segment(id="s", name="s", vid=7)),),
        ):
            pages.page(engine, "segment:0", True)
            engine.judgement()
            engine = engine.after(engine.revision + 1, apply_edit(engine.plan, edit)[0], touched(edit))
            kept, fresh = (pages.page(one, "segment:0") for one in (engine, Engine(0, engine.plan)))
            self.assertEqual(gzip.decompress(kept.packed), gzip.decompress(fresh.packed), edit)

    def test_pages_that_are_kept_say_what_they_would_if_written_anew(self) -> None:
        """Whatever is edited, and however small pages are."""
        from aptwire_server.plans import pages
        from aptwire_server.plans.engine import Engine

        def read(engine: Any, keep: bool) -> list[bytes]:
            made, cursor = [], "segment:0"
            while cursor:
                written = pages.page(engine, cursor, keep)
                made.append(gzip.decompress(written.packed))
                cursor = written.following
            return made

        with mock.patch.object(pages, "PAGE", 4_000):
            for seed in range(12):
                dice = random.Random(seed)
                engine = Engine(0, random_plan(seed, rich=True))
                texts = read(engine, True)
                self.assertEqual(texts, read(Engine(0, engine.plan), False))
                records: dict[str, list[Any]] = {}
                endpoints: list[Any] = []
                for page in map(json.loads, texts):
                    for kind, blocks in page["records"].items():
                        records.setdefault(kind, []).extend(r for rows in blocks for r in unfolded(rows))
                    endpoints += [e for rows in page["endpoints"] for e in unfolded_endpoints(rows)]
                self.assertEqual(
                    {kind: {r["id"]: r for r in found} for kind, found in records.items()},
                    {kind: told for kind in KINDS if (told := {r.id: r.to_json() for r in engine.plan.all(kind)})},
                )
                self.assertEqual({e["id"]: e for e in endpoints}, {e["id"]: e for e in landings(engine.judgement())})
                for revision in range(1, 6):
                    record = dice.choice([r for r in engine.plan if r.kind in ("adapter", "segment", "host", "nic")])
                    edit = (Patch(record.kind, record.id, {"note": f"note {revision}"}),)
                    if dice.random() < 0.3 and record.kind == "adapter":
                        edit = (Patch("adapter", record.id, {"connected": not record.connected}),)
                    after, _ = apply_edit(engine.plan, edit)
                    kept = len(engine.pages)
                    engine = engine.after(revision, after, touched(edit))
                    self.assertLess(len(engine.pages), kept)
                    self.assertEqual(read(engine, True), read(Engine(revision, after), False))


class LiveTest(unittest.TestCase):
    def test_another_session_hears_of_an_edit_before_the_next_heartbeat(self) -> None:
        writer, reader = Client("ines"), Client("tomas")
        plan = writer.demo()
        stream = Stream(reader, plan)
        self.addCleanup(stream.close)
        self.assertEqual(stream.response.headers["Content-Type"], "text/event-stream")
        self.assertEqual(stream.next("revision"), {"revision": 0})
        self.assertEqual(stream.next("people"), ["tomas"])
        writer.edit(plan, 0, patch("segment", "segment-edge", role="rim"))
        started = time.monotonic()
        told = stream.next("revision")
        self.assertLess(time.monotonic() - started, 8)
        # It carries all that a page needs, so that none has to ask.
        changes = reader.get(f"plans/{plan}/changes?since=0")[1]
        nothing = {"members": {}, "carries": {}, "reach": {}, "could": {}}
        self.assertEqual({**told, "steps": None}, {**changes, "since": 0, "answers": nothing, "steps": None})
        self.assertEqual(told["steps"], {"ines": writer.get(f"plans/{plan}")[1]["steps"]})


if __name__ == "__main__":
    unittest.main()

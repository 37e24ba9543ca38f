"""Gestures over the API: each is previewed and made at one address, and patterns are told with what differs."""

from __future__ import annotations

import io
import unittest
import zipfile
from typing import Any

from aptwire.plan.file import write_plan

from measure.fleet import fleet
from tests.server.support import Client, drop, patch


class GesturesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()

    def setUp(self) -> None:
        self.plan = self.client.demo()

    def gesture(self, name: str, args: dict[str, object], take: bool = False, query: str = "") -> tuple[int, Any]:
        base = self.client.get(f"plans/{self.plan}")[1]["revision"]
        return self.client.post(
            f"plans/{self.plan}/gestures{query}", {"gesture": name, "args": args, "base": base, "take": take}
        )

    def test_a_renumbered_vid_is_one_edit_that_moves_nobody(self) -> None:
        status, said = self.gesture("renumber", {"old": 210, "new": 1210})
        self.assertEqual((status, said["message"]), (200, "Renumber ticketing from 210 to 1210"))
        self.assertEqual((said["preview"]["problems"], said["preview"]["moves"]), ([], []))
        seen = self.client.post(f"plans/{self.plan}/preview", {"edits": [said["edit"]]})[1][0]
        self.assertEqual(seen, said["preview"], "as a preview of its edit says")
        status, refused = self.gesture("renumber", {"old": 210, "new": 220})
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "new"))

    def test_queues_are_laid_out_on_many_hosts_and_written_as_scripts(self) -> None:
        _, hosts = self.client.get(f"plans/{self.plan}/queues")
        self.assertEqual([h["name"] for h in hosts], ["fulmar", "gannet", "kittiwake", "petrel", "razorbill"])
        self.assertTrue(all(h["changes"] for h in hosts))
        _, one = self.client.get(f"plans/{self.plan}/queue-plan?host=petrel")
        self.assertEqual([nic["laid"] for nic in one["nics"]], [[1, 2, 3], [4, 5], [6, 7, 8, 9, 10, 11], []])
        self.assertEqual(self.client.get(f"plans/{self.plan}/queue-plan?host=nobody")[0], 400)
        status, said = self.gesture("queues", {"hosts": []}, take=True)
        self.assertEqual((status, said["committed"]["moves"]), (200, []))
        self.assertEqual(said["message"], "Lay out the queues of fulmar, gannet and 3 more")
        self.assertTrue(all(h["changes"] == 0 for h in self.client.get(f"plans/{self.plan}/queues")[1]))
        for args in ({"hosts": []}, {"hosts": ["nobody"]}):
            status, refused = self.gesture("queues", args)
            self.assertEqual((status, refused["problems"][0]["field"]), (400, "hosts"))
        headers, script = self.client.file(f"plans/{self.plan}/queue-scripts?host=petrel")
        self.assertIn("petrel-queues.sh", headers["Content-Disposition"])
        self.assertIn(b"channels 'nic1' 2\nserve 'nic1' 4 5\n", script)
        _, archive = self.client.file(f"plans/{self.plan}/queue-scripts")
        with zipfile.ZipFile(io.BytesIO(archive)) as files:
            self.assertEqual(len(files.namelist()), 5)
            self.assertEqual(files.read("0004-petrel.sh"), script)
        empty = self.client.post("plans", {"name": "empty"})[1]["id"]
        self.assertEqual(self.client.get(f"plans/{empty}/queues"), (200, []))
        self.assertEqual(self.client.get(f"plans/{empty}/queue-scripts")[0], 400)

    def test_a_pattern_is_made_stamped_kept_and_removed(self) -> None:
        made = self.gesture("make-pattern", {"name": "mine", "host": "gannet", "starter": ""}, take=True)[1]
        self.assertEqual(made["committed"]["message"], "Make pattern mine of gannet")
        self.assertEqual(made["committed"]["moves"], [])
        _, said = self.client.get(f"plans/{self.plan}/patterns")
        pattern, other = said["patterns"][1], said["patterns"][0]
        self.assertEqual([len(s["off"]) for s in other["stamps"]], [0, 4], "petrel is off the demo's own pattern")
        self.assertEqual([(s["host"], s["number"], s["off"]) for s in pattern["stamps"]], [("gannet", 1, [])])
        self.assertEqual([s["id"] for s in said["starters"]], ["two", "six", "empty"])
        args = {"pattern": pattern["id"], "hosts": ["fulmar"], "answers": []}
        _, seen = self.gesture("stamp", args)
        self.assertTrue(seen["preview"]["tally"] and seen["operations"], seen)
        _, taken = self.gesture("stamp", args, take=True)
        self.assertEqual(taken["committed"]["message"], "Stamp mine on fulmar")
        self.assertEqual(taken["committed"]["moves"], seen["preview"]["moves"], "as its preview said")
        stamps = self.client.get(f"plans/{self.plan}/patterns")[1]["patterns"][1]["stamps"]
        beside = [one for one in stamps[1]["off"] if one["what"] == "beside"]
        self.assertEqual(sorted(one["text"] for one in beside), sorted(one["text"] for one in stamps[1]["off"]))
        one = {name: beside[0][name] for name in ("stamp", "about", "field")}
        self.assertEqual(self.gesture("keep", one, take=True)[0], 200)
        stamps = self.client.get(f"plans/{self.plan}/patterns")[1]["patterns"][1]["stamps"]
        self.assertEqual((len(stamps[1]["off"]), stamps[1]["own"]), (len(beside) - 1, 1))
        self.assertEqual(self.gesture("keep", one)[0], 400, "it is told no longer")
        for name in ("undo", "undo", "undo"):
            self.assertEqual(self.client.post(f"plans/{self.plan}/{name}")[0], 200)
        self.assertEqual(len(self.client.get(f"plans/{self.plan}/patterns")[1]["patterns"]), 1)

    def test_a_large_stamp_tells_who_moves_first_and_is_what_it_was_tried_as(self) -> None:
        plan = fleet(160, 4, 12)
        self.plan = self.client.upload("plans/import", [], [("file", "fleet.json", write_plan(plan))])[1]["id"]
        hosts = sorted(plan.of("host"))
        made = self.gesture("make-pattern", {"name": "all alike", "host": hosts[0], "starter": ""}, take=True)[1]
        pattern = next(o["record"]["id"] for o in made["committed"]["edit"] if o["kind"] == "pattern")
        # One port group of a host is on another VLAN than its pattern says, so somebody moves.
        group = next(g for g in plan.all("port_group") if g.switch.startswith(f"{hosts[3]}/") and g.mode == "access")
        self.client.edit(self.plan, 1, patch("port_group", group.id, vid=plan.get("port_group", group.id).vid % 12 + 1))
        args: dict[str, object] = {"pattern": pattern, "hosts": hosts, "answers": []}
        first = self.gesture("stamp", args, query="?risks=later")[1]
        self.assertGreater(first["operations"], 2_000)
        self.assertIsNone(first["preview"]["risks"])
        whole = self.gesture("stamp", args)[1]
        self.assertEqual({**whole["preview"], "risks": None}, first["preview"])
        self.assertTrue(whole["preview"]["moves"])
        few = self.gesture("stamp", args | {"hosts": hosts[:2]}, query="?risks=later")[1]
        self.assertIsNotNone(few["preview"]["risks"], "of a small one all is told at once")
        # Made after it was tried, it leaves what it leaves where nobody tried it.
        again = self.client.upload("plans/import", [], [("file", "again.json", self.client.exported(self.plan))])[1][
            "id"
        ]
        tried, self.plan = self.gesture("stamp", args, take=True)[1]["committed"], again
        untried = self.gesture("stamp", args, take=True)[1]["committed"]
        self.assertEqual(tried["moves"], whole["preview"]["moves"])
        self.assertEqual(
            [tried[of] for of in ("moves", "tally", "summary")], [untried[of] for of in ("moves", "tally", "summary")]
        )

    def test_a_stamp_asks_which_nic_is_which_and_takes_answers(self) -> None:
        made = self.gesture("make-pattern", {"name": "six", "host": "", "starter": "six"}, take=True)[1]
        self.assertEqual(made["committed"]["message"], "Make pattern six")
        pattern = self.client.get(f"plans/{self.plan}/patterns")[1]["patterns"][1]["id"]
        args = {"pattern": pattern, "hosts": ["razorbill"], "answers": []}
        status, said = self.gesture("stamp", args)
        asked = said["questions"]
        self.assertEqual((status, [q["part_name"] for q in asked], said["edit"]), (200, ["nic4", "nic5", "nic6"], []))
        self.assertEqual(self.gesture("stamp", args, take=True)[0], 400, "nothing is guessed")
        answers = [{"host": q["host"], "part": q["part"], "nic": None} for q in asked]
        status, said = self.gesture("stamp", {**args, "answers": answers})
        self.assertEqual((status, said["questions"]), (200, []))
        for wrong, field in (
            ({**args, "hosts": []}, "hosts"),
            ({**args, "hosts": ["nobody"]}, "hosts"),
            ({**args, "pattern": "none"}, "pattern"),
            ({**args, "answers": [{"host": 3}]}, "answers"),
            ({"pattern": pattern}, "args/hosts"),
        ):
            status, refused = self.gesture("stamp", wrong, take=True)
            self.assertEqual((status, refused["problems"][0]["field"]), (400, field))
        self.assertEqual(self.gesture("fly", {})[0], 400)

    def findings(self) -> tuple[list[Any], list[Any]]:
        said = self.client.get(f"plans/{self.plan}/verdicts")[1]
        return said["findings"], said["accepted"]

    def test_an_accepted_finding_is_counted_apart_until_its_cause_changes(self) -> None:
        open_, accepted = self.findings()
        thin = next(f for f in open_ if f["title"].startswith("storage rests on a single NIC"))
        self.assertEqual((accepted, thin["acceptance"]), ([], None))
        args = {"finding": thin["id"], "why": "The new cards come in May.", "until": "2999-01-31"}
        for wrong, field in (({**args, "why": " "}, "why"), ({**args, "until": "May"}, "until")):
            status, refused = self.gesture("accept", wrong, take=True)
            self.assertEqual((status, refused["problems"][0]["field"]), (400, field))
        self.assertEqual(self.gesture("accept", {**args, "finding": "none"})[0], 400)
        status, made = self.gesture("accept", args, take=True)
        self.assertEqual((status, made["committed"]["moves"]), (200, []))
        rest, accepted = self.findings()
        self.assertEqual(len(rest), len(open_) - 1)
        self.assertEqual([f["id"] for f in accepted], [thin["id"]])
        held = accepted[0]["acceptance"]
        self.assertEqual((held["by"], held["why"], held["over"]), ("ines", args["why"], ""))
        # Another host's storage rests on a single NIC too: that nobody has accepted.
        self.client.edit(self.plan, 1, patch("nic", "gannet/nic3", uplink=None))
        rest, accepted = self.findings()
        back = next(f for f in rest if f["id"] == thin["id"])
        self.assertEqual((accepted, back["acceptance"]["over"]), ([], "its cause has changed"))
        self.assertEqual(self.gesture("accept", {**args, "until": "2001-01-01"}, take=True)[0], 200)
        rest, _ = self.findings()
        back = next(f for f in rest if f["id"] == thin["id"])
        self.assertEqual(back["acceptance"]["over"], "it was accepted until 2001-01-01")
        self.assertEqual(self.client.edit(self.plan, 3, drop("acceptance", held["id"]))[0], 200)
        rest, accepted = self.findings()
        self.assertEqual((len(rest), accepted), (len(open_), []))

    def test_a_segment_is_brought_everywhere_and_a_port_into_it(self) -> None:
        def ask(gesture: str, args: dict[str, object], base: int, take: bool = False) -> tuple[int, dict[str, object]]:
            body = {"gesture": gesture, "args": args, "base": base, "take": take}
            status, said = self.client.post(f"plans/{self.plan}/gestures", body)
            return status, dict(said)

        _, seen = ask("everywhere", {"segment": "segment-tide-gauges", "hosts": []}, 0)
        self.assertEqual(seen["message"], "Offer tide gauges on 5 hosts")
        moves = {m["endpoint"]: m["after"] for m in seen["preview"]["moves"]}  # type: ignore[index]
        self.assertEqual(moves["adapter-tide-gauge-view"], "home")
        self.assertEqual(ask("everywhere", {"segment": "segment-tide-gauges", "hosts": ["fulmar"]}, 0, True)[0], 200)
        status, refused = ask("everywhere", {"segment": "segment-bubble", "hosts": []}, 1)
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "segment"))  # type: ignore[index]
        args = {"port": "marsh-a/p20", "segment": "segment-ticketing", "name": "laptop"}
        _, made = ask("at-port", args, 1, True)
        self.assertEqual(made["message"], "Plug laptop into ticketing at port p20 of marsh-a")
        status, refused = ask("at-port", args, 2)
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "port"))  # type: ignore[index]
        self.assertIn("isn’t free: laptop is there", refused["problems"][0]["message"])  # type: ignore[index]

    def test_a_bubble_is_made_and_burst(self) -> None:
        args = {"name": "lab", "guests": [], "segments": ["segment-ticketing"], "host": "petrel", "entry": ""}
        before = self.client.whole(self.plan)["records"]
        _, seen = self.gesture("bubble", args)
        self.assertIn(
            "Make bubble lab of edge-firewall, restore-copy and 8 more, apart even if hostile", seen["message"]
        )
        moves = {m["name"]: (m["before"], m["after"]) for m in seen["preview"]["moves"]}
        self.assertEqual((moves["ticketing-web-1-lab"], len(moves)), ((None, "home"), 11))
        status, refused = self.gesture("bubble", {**args, "entry": "guest-edge-firewall"})
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "entry"))
        self.assertEqual(self.gesture("bubble", {**args, "segments": [7]})[0], 400)
        self.assertEqual(self.gesture("bubble", args, take=True)[0], 200)
        self.assertEqual(self.gesture("burst", {"name": "production"})[0], 400)
        _, made = self.gesture("burst", {"name": "lab"}, take=True)
        self.assertEqual(made["committed"]["message"], "Burst bubble lab")
        self.assertEqual(self.client.whole(self.plan)["records"], before)

    def test_guests_go_behind_a_firewall(self) -> None:
        args = {"host": "razorbill", "name": "moat", "outside": "segment-edge", "subnet": "10.79.1.0/24", "nic": ""}
        _, seen = self.gesture("shield", {**args, "guests": ["guest-visitor-kiosk-1"]})
        self.assertEqual(seen["message"], "Put visitor-kiosk-1 behind moat; internet sees 3 addresses in place of 2")
        status, refused = self.gesture("shield", {**args, "guests": [], "subnet": "10.79.1.0/30"})
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "subnet"))
        self.assertEqual(self.gesture("shield", {**args, "guests": []}, take=True)[0], 200)

    def test_a_switch_routes(self) -> None:
        args = {"switch": "quay-a", "segments": ["segment-ticketing", "segment-bubble"]}
        status, refused = self.gesture("routing", args)
        self.assertEqual((status, refused["problems"][0]["field"]), (400, "segments"))
        args["segments"] = ["segment-ticketing", "segment-berth-planning"]
        _, made = self.gesture("routing", args, take=True)
        message = "Have quay-a route between berth planning and ticketing; of berth planning and ticketing somebody else is the gateway"
        self.assertEqual(made["committed"]["message"], message)
        self.assertIn("quay-a routing", [s["name"] for s in self.client.whole(self.plan)["records"]["station"]])

    def test_a_role_gets_nics_of_its_own(self) -> None:
        args = {"role": "migration", "hosts": [], "nics": ["nic2"], "mtu": 0}
        _, seen = self.gesture("own-nics", args)
        self.assertEqual(
            seen["message"],
            "Give migration nic2 for itself on razorbill; fulmar, gannet and 2 more have no such NIC free",
        )
        self.assertEqual(seen["preview"]["moves"], [])
        for changes, field in (({"role": "brass"}, "role"), ({"nics": []}, "nics"), ({"mtu": 12}, "mtu")):
            status, refused = self.gesture("own-nics", {**args, **changes})
            self.assertEqual((status, refused["problems"][0]["field"]), (400, field))
        self.assertEqual(self.gesture("own-nics", {**args, "mtu": 9000}, take=True)[0], 200)

    def test_guests_move_and_nics_are_exchanged(self) -> None:
        guests = [g["id"] for g in self.client.whole(self.plan)["records"]["guest"] if g["name"] == "ticketing-web-2"]
        status, seen = self.gesture("move-guests", {"guests": guests, "host": "gannet"})
        self.assertEqual(
            (status, seen["message"], seen["preview"]["moves"]), (200, "Move ticketing-web-2 to gannet", [])
        )
        status, made = self.gesture("exchange", {"one": "fulmar/nic0", "two": "fulmar/nic2"}, take=True)
        self.assertEqual((status, made["committed"]["message"]), (200, "Exchange nic0 and nic2 of fulmar"))
        for name, args, field in (
            ("move-guests", {"guests": [3], "host": "gannet"}, "guests"),
            ("move-guests", {"guests": guests, "host": "nowhere"}, "host"),
            ("exchange", {"one": "fulmar/nic0", "two": "gannet/nic0"}, "two"),
            ("split-off", {"switch": "gannet/guests0", "role": "brass", "nics": ["gannet/nic1"]}, "role"),
            ("spread", {"uplink": "petrel/quayside0/nic3"}, "uplink"),
        ):
            status, refused = self.gesture(name, args)
            self.assertEqual((status, refused["problems"][0]["field"]), (400, field))

    def test_a_segment_and_a_cable_are_looked_at_alone_and_pruned(self) -> None:
        self.assertEqual(self.client.get(f"plans/{self.plan}/segment-alone?segment=nowhere")[0], 400)
        self.assertEqual(self.client.get(f"plans/{self.plan}/cable-alone?cable=nowhere")[0], 400)
        self.assertEqual(self.client.get(f"plans/{self.plan}/strand-drawing?segment=nowhere")[0], 400)
        status, found = self.client.get(f"plans/{self.plan}/segment-alone?segment=segment-cctv")
        taps = {ear["at"] for knot in found["knots"] for ear in knot["ears"] if ear["how"] == "tap"}
        self.assertEqual((status, taps & {"quay-a/p3"}), (200, {"quay-a/p3"}))
        cables = self.client.whole(self.plan)["records"]["cable"]
        cable = next(c["id"] for c in cables if "quay-a/p3" in (c["a"], c["b"]))
        rows = self.client.get(f"plans/{self.plan}/cable-alone?cable={cable}")[1]
        self.assertEqual({r["vids"] for r in rows if r["need"] == "spare"}, {"220", "230", "240"})
        self.assertEqual(self.gesture("prune", {"cables": [cable]})[1]["preview"]["moves"], [])
        self.assertEqual(self.gesture("prune", {"cables": [cable]}, take=True)[0], 200)
        after = self.client.get(f"plans/{self.plan}/cable-alone?cable={cable}")[1]
        self.assertEqual([r for r in after if r["need"] == "spare" and "passes" in (r["there"], r["back"])], [])
        for args in ({"cables": [cable]}, {"cables": []}, {"cables": ["nowhere"]}, {"cables": [7]}):
            status, refused = self.gesture("prune", args)
            self.assertEqual((status, refused["problems"][0]["field"]), (400, "cables"), args)

    def test_the_first_mends_of_several_findings_are_one_edit(self) -> None:
        open_, _ = self.findings()
        ids = [f["id"] for f in open_ if f["verdict"] == "astray"]
        status, seen = self.gesture("mend-all", {"findings": ids})
        self.assertEqual((status, seen["preview"]["counts"]["astray"]), (200, 0))
        self.assertEqual(self.gesture("mend-all", {"findings": []})[0], 400)
        self.assertEqual(self.gesture("mend-all", {"findings": ids * 20})[0], 400)
        status, made = self.gesture("mend-all", {"findings": ids}, take=True)
        self.assertEqual((status, made["committed"]["moves"]), (200, seen["preview"]["moves"]))

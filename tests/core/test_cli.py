"""The command line, as a person or a pipeline calls it."""

from __future__ import annotations

import json
import re
import tempfile
import unittest
from pathlib import Path

from aptwire.cli import main
from click.testing import CliRunner, Result

from tests.support import ROOT, TWO_HOSTS


class CommandLineTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.plan = str(Path(folder.name) / "plan.json")

    def call(self, *arguments: str) -> Result:
        return CliRunner().invoke(main, arguments)

    def read(self) -> None:
        done = self.call("read", str(TWO_HOSTS), "-o", self.plan)
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertIn("records written", done.output)

    def test_read_check_trace_hears(self) -> None:
        self.read()
        done = self.call("check", self.plan)
        self.assertEqual(done.exit_code, 1)
        self.assertIn("9 home, 2 wavering, 1 stranded", done.output)
        told = json.loads(self.call("check", self.plan, "--json").output)
        self.assertEqual(told["counts"]["wavering"], 2)
        self.assertEqual(
            {e["key"] for e in told["endpoints"] if e["verdict"] == "wavering"}, {"gannet/tap-tide1", "fulmar/tap-edge"}
        )
        done = self.call("trace", self.plan, "gannet/tap-tide1", "fulmar/tap-edge|220", "--json")
        self.assertEqual((done.exit_code, json.loads(done.output)["delivered"]), (0, True))
        done = self.call("trace", self.plan, "fulmar/tap-cctv1", "gannet/tap-tide1")
        self.assertEqual(done.exit_code, 1)
        heard = json.loads(self.call("hears", self.plan, "--json").output)
        self.assertEqual(heard, json.loads((TWO_HOSTS / "frames-seen.json").read_text()))
        drills = json.loads((TWO_HOSTS / "drills.json").read_text())
        lost = json.loads(self.call("hears", self.plan, "--without", "fulmar/nic0", "--json").output)
        self.assertEqual(lost, drills["fulmar/nic0"])
        self.assertIn("nobody", self.call("hears", self.plan).output)

    def test_the_script_knows_every_command(self) -> None:
        said = (ROOT / "run").read_text()
        for name in main.commands:
            self.assertIn(f'"{name}"', said)
            self.assertIn(f"./run {name} ", said)

    def test_leases(self) -> None:
        demo = str(ROOT / "demo" / "brackwater.json")
        done = self.call("leases", demo)
        self.assertEqual(done.exit_code, 0)
        self.assertRegex(done.output, r"ticketing-kiosk-3 +leased +10\.65\.10\.33 +edge-firewall")
        told = json.loads(self.call("leases", demo, "--json").output)
        self.assertEqual(told["leases"]["adapter-visitor-desk-1"]["offers"][0]["server"], "quay-router")
        self.assertEqual(told["formed"]["adapter-visitor-desk-1"]["adverts"][0]["prefixes"], ["2001:db8:66:10::/64"])
        self.assertRegex(done.output, r"visitor-desk-2 +formed +2001:db8:66:10::/64 +quay-router")
        plan = json.loads(Path(demo).read_text())
        plan["records"]["lease_scope"] = []
        Path(self.plan).write_text(json.dumps(plan))
        done = self.call("leases", self.plan)
        self.assertEqual(done.exit_code, 1)
        self.assertIn("not known", done.output)

    def test_meetings(self) -> None:
        demo = str(ROOT / "demo" / "brackwater.json")
        done = self.call("meetings", demo)
        self.assertEqual(done.exit_code, 1)
        self.assertRegex(done.output, r"visitors +– +management and migration +– +– +– +management")
        told = json.loads(self.call("meetings", demo, "--json").output)
        a, b = (told["segments"].index(f"segment-{name}") for name in ("visitors", "management"))
        self.assertEqual((told["rows"][a][b], told["expected"][a][b]), ("b", "a"))
        roles = self.call("meetings", demo, "--roles")
        self.assertEqual(roles.exit_code, 1)
        self.assertRegex(roles.output, r"(?m)^edge +.*management")
        self.assertEqual(len(json.loads(self.call("meetings", demo, "--roles", "--json").output)["roles"]), 7)
        one = self.call("meetings", demo, "visitors", "management")
        self.assertEqual(one.exit_code, 0)
        self.assertIn("Packets of visitor-desk-1 get to fulmar’s mgmt over quay-router.", one.output)
        self.assertEqual(
            json.loads(self.call("meetings", demo, "ticketing", "storage", "--json").output)["meeting"], "."
        )
        for words in (("visitors",), ("visitors", "nobody")):
            self.assertEqual(self.call("meetings", demo, *words).exit_code, 2)
        chosen = self.call("meetings", demo, "--of", "visitor-desk-1", "--of", "quay-router", "--of", "internet")
        self.assertEqual(chosen.exit_code, 0)
        self.assertRegex(chosen.output, r"(?m)^visitor-desk-1 +quay-router")
        told = json.loads(self.call("meetings", demo, "--of", "gannet", "--of", "internet", "--json").output)
        self.assertEqual(told["ends"], ["gannet", "internet"])
        for words in (("--of", "gannet"), ("--of", "gannet", "--of", "nobody"), ("--of", "gannet", "--roles")):
            self.assertEqual(self.call("meetings", demo, *words).exit_code, 2)

    def test_a_topology_is_taken_and_the_plans_own_written(self) -> None:
        demo, networks = str(ROOT / "demo" / "brackwater.json"), str(ROOT / "demo" / "networks.json")
        with tempfile.TemporaryDirectory() as folder:
            out, own = f"{folder}/plan.json", f"{folder}/own.json"
            done = self.call("topology", demo, "--take", networks, "--source", "harbour office", "-o", out)
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertRegex(done.output, r"urn:harbour:lock-sensors +lock sensors +vanished +1 uses it here")
            self.assertRegex(done.output, r"urn:harbour:pilot-radio +pilot radio +new +VID 440, 10.67.30.0/24")
            self.assertIn("pilot radio", self.call("ledger", out).output)
            told = json.loads(
                self.call(
                    "topology", out, "--take", networks, "--source", "x", "--pick", "urn:harbour:customs", "--json"
                ).output
            )
            self.assertEqual([one["becomes"] for one in told["networks"]], ["offered", "new", "offered", "left"])
            self.assertEqual(self.call("topology", out, "ticketing", "storage", "-o", own).exit_code, 0)
            again = json.loads(self.call("topology", out, "--take", own, "--source", "brackwater", "--json").output)
            self.assertEqual([one["name"] for one in again["networks"]], ["storage-2", "ticketing-2", "wiring"])
            for words in (
                ("nobody",),
                ("--take", networks),
                ("--take", demo, "--source", "x"),
                ("--take", folder, "--source", "x"),
            ):
                self.assertEqual(self.call("topology", demo, *words).exit_code, 2, words)

    def test_moves(self) -> None:
        demo = str(ROOT / "demo" / "brackwater.json")
        done = self.call("moves", demo)
        self.assertEqual(done.exit_code, 1)
        self.assertRegex(done.output, r"crew-roster +fulmar +gannet +–")
        told = json.loads(self.call("moves", demo, "--json").output)
        at = told["hosts"].index("gannet")
        self.assertEqual({row[at] for row in told["guests"].values()} - set("rxlcu"), set())
        one = self.call("moves", demo, "crew-roster")
        self.assertEqual(one.exit_code, 0)
        self.assertRegex(one.output, r"razorbill +not there +fulmar reaches storage on storage, and razorbill doesn’t")
        said = {move["host"]: move for move in json.loads(self.call("moves", demo, "crew-roster", "--json").output)}
        self.assertEqual((said["gannet"]["fares"], said["gannet"]["reasons"]), ("r", []))
        self.assertEqual(said["petrel"]["reasons"][0]["letter"], "x")
        out = self.call("moves", demo, "--host", "razorbill", "--failed")
        self.assertEqual(out.exit_code, 1)
        self.assertRegex(out.output, r"restore-db-1 +gannet +runs there")
        self.assertRegex(out.output, r"visitor-desk-1 +– +visitor-desk-1 finds no port group on fulmar like its own")
        both = json.loads(self.call("moves", demo, "--host", "fulmar", "--json").output)
        self.assertEqual([left["guest"] for left in both["left"]], ["guest-cctv-archive", "guest-tide-gauge-view"])
        for words in (("nobody",), ("--host", "nowhere")):
            wrong = self.call("moves", demo, *words)
            self.assertEqual(wrong.exit_code, 2)
            self.assertIn("is nobody’s name", wrong.output)

    def test_rules_and_a_connection(self) -> None:
        demo = str(ROOT / "demo" / "brackwater.json")
        done = self.call("rules", demo)
        self.assertEqual(done.exit_code, 1)
        self.assertRegex(
            done.output, r"broken +keep visitors apart from role management +Packets of visitor-desk-1 get to"
        )
        told = json.loads(self.call("rules", demo, "--json").output)
        self.assertEqual({rule["outcome"] for rule in told}, {"holds", "broken", "nobody"})
        kept = self.call("rules", demo, "--ask", "keep visitors apart from ticketing")
        self.assertEqual(kept.exit_code, 0, kept.output)
        wrong = self.call("rules", demo, "--ask", "keep visitors apart ticketing")
        self.assertEqual(wrong.exit_code, 2)
        self.assertIn("“ticketing” can’t stand here: from could (at character 21)", wrong.output)
        self.assertEqual(self.call("ping", demo, "crew-roster", "ticketing-api", "--on", "tcp/5432").exit_code, 0)
        dropped = self.call("ping", demo, "crew-roster", "ticketing-api", "--on", "tcp/22")
        self.assertEqual(dropped.exit_code, 1)
        self.assertIn("edge-firewall drops it, by filter line 40", dropped.output)
        self.assertEqual(self.call("ping", demo, "crew-roster", "ticketing-api", "--on", "ssh").exit_code, 2)

    def test_one_segment_and_one_cable_alone(self) -> None:
        demo = str(ROOT / "demo" / "brackwater.json")
        done = self.call("strand", demo, "berth planning")
        self.assertEqual(done.exit_code, 1)
        self.assertIn(
            "  port p11 of marsh-a – nic1 of kittiwake (cut off)\n    ✕ port p11 of marsh-a is an", done.output
        )
        self.assertIn("breaks: 3, places where it is or could be overheard: 6", done.output)
        self.assertEqual(self.call("strand", demo, "220").output, done.output)
        told = json.loads(self.call("strand", demo, "220", "--json").output)
        self.assertEqual(told["knots"][0]["records"], ["marsh-a"])
        done = self.call("cable", demo, "quay-a/p3")
        self.assertEqual((done.exit_code, done.output), (1, self.call("cable", demo, "razorbill/nic0").output))
        self.assertRegex(done.output, r"220 +passes +passes +spare +0 and 8 +8")
        for asked in (("strand", demo, "nowhere"), ("cable", demo, "quay-a/p99")):
            self.assertEqual(self.call(*asked).exit_code, 2)

    def test_two_plans_are_laid_beside_each_other(self) -> None:
        self.read()
        same = self.call("compare", self.plan, self.plan)
        self.assertEqual(same.exit_code, 0, same.output)
        plan = json.loads(Path(self.plan).read_text())
        group = next(g for g in plan["records"]["port_group"] if g["mode"] == "access")
        old, group["vid"] = group["vid"], 999
        gone = plan["records"]["rule"].pop() if plan["records"].get("rule") else None
        other = str(Path(self.plan).with_name("other.json"))
        Path(other).write_text(json.dumps(plan))
        done = self.call("compare", self.plan, other)
        self.assertEqual(done.exit_code, 1)
        self.assertIn(f"port group {group['name']}", done.output)
        self.assertIn(f"VID {old} → 999", done.output)
        self.assertIn("new: ", done.output)
        told = json.loads(self.call("compare", self.plan, other, "--json").output)
        self.assertEqual([c["what"] for c in told["changes"]], ["gone", "changed"] if gone else ["changed"])
        counts = [json.loads(self.call("check", p, "--json").output)["counts"] for p in (self.plan, other)]
        self.assertEqual([told["counts"]["before"], told["counts"]["after"]], counts)
        back = json.loads(self.call("compare", other, self.plan, "--json").output)
        self.assertEqual(back["gone"], told["new"])
        self.assertEqual(self.call("compare", self.plan, self.plan + ".nowhere").exit_code, 2)

    def test_a_validation_report_is_written_and_checked(self) -> None:
        plan = str(ROOT / "demo" / "brackwater.json")
        for name in ("report.json", "report.html"):
            report = str(Path(self.plan).with_name(name))
            self.assertEqual(self.call("validate", plan, "-o", report, "--proved", "asked on Monday").exit_code, 0)
            self.assertIn("asked on Monday", Path(report).read_text())
            done = self.call("recheck", plan, report)
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertIn("that fail: 0", done.output)
        claimed = re.sub('"verdict": "(astray|stranded)"', '"verdict": "home"', Path(report).read_text())
        Path(report).write_text(claimed)
        done = self.call("recheck", plan, report, "--json")
        self.assertEqual(done.exit_code, 1)
        self.assertTrue(json.loads(done.output)["failed"])
        Path(report).write_text("nothing")
        self.assertEqual(self.call("recheck", plan, report).exit_code, 2)
        self.assertEqual(self.call("recheck", plan, report + ".gone").exit_code, 2)

    def test_all_home_ends_with_0_unless_a_rule_is_broken(self) -> None:
        plan = json.loads((ROOT / "demo" / "brackwater.json").read_text())
        for kind in (
            "guest",
            "adapter",
            "guest_tag",
            "host_port",
            "mirror",
            "flow",
            "filter_line",
            "lease_scope",
            "advertisement",
            "route",
            "translation",
        ):
            plan["records"].pop(kind)
        plan["records"]["port_group"] = [g for g in plan["records"]["port_group"] if g["mode"] != "overlay"]
        for rules, status in (([], 0), (["quay-array reaches quay-router"], 1)):
            plan["records"]["rule"] = [{"id": f"r{n}", "text": text} for n, text in enumerate(rules)]
            Path(self.plan).write_text(json.dumps(plan))
            self.assertEqual(self.call("check", self.plan).exit_code, status, rules)

    def test_unusable_input_ends_with_2_and_says_where(self) -> None:
        Path(self.plan).write_text('{"format": "aptwire-plan"')
        for arguments, said in (
            (("check", self.plan), "plan.json: isn't JSON"),
            (("check", self.plan + ".none"), "No such file"),
            (("read", str(ROOT / "docs"), "-o", self.plan), "no folder with an ip-link.json"),
        ):
            done = self.call(*arguments)
            self.assertEqual(done.exit_code, 2, done.output)
            self.assertIn(said, done.output)
        self.read()
        self.assertEqual(self.call("trace", self.plan, "gannet/none", "fulmar/tap-edge").exit_code, 2)
        self.assertEqual(self.call("hears", self.plan, "--without", "gannet/nic9").exit_code, 2)


if __name__ == "__main__":
    unittest.main()

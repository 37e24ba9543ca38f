"""Which processor cores serve which NIC: the plan against every other that could be, what is read of hosts, the settings as a script, and what is told of bad ones."""

from __future__ import annotations

import itertools
import json
import os
import pathlib
import random
import subprocess
import tempfile
import unittest
from fractions import Fraction
from typing import Any

from aptwire.cli import main
from aptwire.formats.hosts import read_hosts
from aptwire.judge.mends import mends
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge, judged_after
from aptwire.plan import cores
from aptwire.plan.edits import Patch, apply_edit
from aptwire.plan.file import write_plan
from aptwire.plan.kinds import Nic
from aptwire.plan.plan import Plan, PlanError
from aptwire.stamping.making import from_host
from aptwire.stamping.stamp import stamp
from aptwire.stress.queues import IDLE, LOST, NO_CORE, NO_NODE, SLOW, apportion, lay_out, script, settings
from click.testing import CliRunner

from tests.support import Small, two_hosts_files

FAST = 25_000


def machine(
    *nics: dict[str, Any],
    mode: str = "pinned",
    nodes: tuple[str, ...] = ("0+8, 1+9, 2+10, 3+11", "4+12, 5+13, 6+14, 7+15"),
) -> Small:
    """Host a with these NICs in one team, and these NUMA nodes."""
    made = Small()
    made.host("a", *([None] * len(nics)), uplink={"mode": mode})
    for number, text in enumerate(nodes):
        made.put("numa_node", f"a/{number}", host="a", number=number, cores=text)
    for nic, said in zip(made.kinds["nic"], nics, strict=True):
        nic.update({"speed": FAST, "numa": 0, **said})
    return made


def served(plan: Plan, host: str = "a") -> dict[str, tuple[int, ...]]:
    return {id.partition("/")[2]: own for id, own in lay_out(plan, host).serves.items()}


class LayingTest(unittest.TestCase):
    def test_pinned_members_share_the_cores_of_their_node_out_and_hashed_ones_share_them(self) -> None:
        self.assertEqual(served(machine({}, {}).plan()), {"n0": (1, 2), "n1": (3,)})
        for mode in ("hashed", "lacp", "standby"):
            self.assertEqual(served(machine({}, {}, mode=mode).plan()), {"n0": (1, 2, 3), "n1": (1, 2, 3)}, mode)
        self.assertEqual(served(machine({}, {"numa": 1}).plan()), {"n0": (1, 2, 3), "n1": (4, 5, 6, 7)})

    def test_a_standby_team_over_which_port_groups_are_spread_shares_out(self) -> None:
        made = machine({}, {}, mode="standby")
        made.put("port_group", "a/g", switch="a/s", name="g", mode="untagged")
        made.put("group_order", "a/o", port_group="a/g", nic="a/n1")
        self.assertEqual(served(made.plan()), {"n0": (1, 2), "n1": (3,)})

    def test_queues_that_a_nic_can_have_and_what_it_does_decide_how_many(self) -> None:
        self.assertEqual(served(machine({"most_queues": 1}, {}).plan()), {"n0": (1,), "n1": (2, 3)})
        self.assertEqual(served(machine({"speed": 10_000}, {"speed": 100_000}).plan()), {"n0": (1,), "n1": (2, 3)})
        # A NIC with more queues than there are cores has one for each.
        self.assertEqual(served(machine({"most_queues": 64, "numa": 1}).plan()), {"n0": (4, 5, 6, 7)})

    def test_why_a_nic_gets_none(self) -> None:
        made = machine({"speed": 1_000}, {"numa": None}, {"numa": 9}, {"uplink": None})
        plan = made.plan()
        self.assertEqual(lay_out(plan, "a").left, {"a/n0": SLOW, "a/n1": LOST, "a/n2": NO_NODE, "a/n3": IDLE})
        # Where there is one node alone it hangs on that.
        self.assertEqual(served(machine({"numa": None}, nodes=("0, 1, 2",)).plan()), {"n0": (1, 2)})
        self.assertEqual(lay_out(machine({}, nodes=("0+1",)).plan(), "a").left, {"a/n0": NO_CORE})

    def test_processors_that_are_off_serve_nobody(self) -> None:
        made = machine({}, nodes=("0, 1",))
        made.kinds["numa_node"][0]["offline"] = "2-3"
        self.assertEqual(served(made.plan()), {"n0": (1,)})
        made.kinds["numa_node"][0]["offline"] = "1"
        with self.assertRaises(AssertionError) as caught:
            made.plan()
        self.assertIn("can’t be switched off and among its cores", str(caught.exception))

    def test_more_nics_than_cores_share_and_it_is_said(self) -> None:
        laid = lay_out(machine({}, {}, {}, nodes=("0, 1, 2",)).plan(), "a")
        self.assertEqual(laid.serves, {"a/n0": (1,), "a/n1": (2,), "a/n2": (1,)})
        self.assertEqual(laid.crowded, {"a/n0", "a/n2"})

    def test_no_other_sharing_out_is_fairer(self) -> None:
        dice = random.Random(16)
        for _ in range(400):
            count = dice.randint(1, 9)
            claims = [
                (dice.choice((10_000, 25_000, 100_000)), dice.choice((None, None, 1, 2, 4)))
                for _ in range(dice.randint(1, min(4, count)))
            ]
            given = apportion(count, claims)
            every = itertools.product(*(range(min(count, most or count) + 1) for _, most in claims))
            usable = min(count, sum(most or count for _, most in claims))
            self.assertEqual(sum(given), usable)

            def fares(shares: Any, claims: Any = claims) -> list[Fraction]:
                """The least first, each who can have no more left out of the comparison by having all it can."""
                return sorted(
                    Fraction(n, weight) for n, (weight, most) in zip(shares, claims, strict=True) if n != most
                )

            least = min(fares(given), default=None)
            for other in every:
                if sum(other) == usable and least is not None and all(other):
                    # Whoever could still use one doesn't get more in any other, but from somebody who then has less.
                    moved = [n for n, (a, b) in enumerate(zip(given, other, strict=True)) if b > a]
                    for n in moved:
                        losers = [k for k, (a, b) in enumerate(zip(given, other, strict=True)) if b < a]
                        self.assertTrue(
                            any(Fraction(other[k], claims[k][0]) <= Fraction(given[n], claims[n][0]) for k in losers),
                            (claims, given, other),
                        )

    def test_in_random_machines_nobody_is_served_by_what_is_anothers(self) -> None:
        seen = 0
        for seed in range(300):
            plan = random_machine(seed)
            laid = lay_out(plan, "a")
            nodes = {n.number: n for n in plan.all("numa_node")}
            first = min(core for node in nodes.values() for core in cores.cores(node.cores))
            for id, own in laid.serves.items():
                nic = plan.get("nic", id)
                node = nodes[nic.numa if nic.numa is not None else next(iter(nodes))]
                heads = {core[0] for core in cores.cores(node.cores)} - {first[0]}
                self.assertTrue(own and set(own) <= heads, seed)
                self.assertLessEqual(len(own), nic.most_queues or len(own), seed)
                for other, theirs in laid.serves.items():
                    if other != id and set(own) & set(theirs):
                        together = (
                            plan.get("nic", other).uplink == nic.uplink
                            and plan.get("uplink", nic.uplink).mode != "pinned"
                        )
                        self.assertTrue(together or {id, other} <= laid.crowded, seed)
                seen += 1
            after = apply_edit(plan, settings(plan, ["a"]))[0]
            self.assertEqual(settings(after, ["a"]), (), seed)
            left = [r.what for r in risks(judge(after)) if r.what.endswith(("-processor", "-queues"))]
            # What was laid out is well served, but for those who are too many; the plan's own words about the others stay.
            self.assertTrue(set(left) <= {"shared-processor"} and (not left or laid.crowded), (seed, left))
        self.assertGreater(seen, 500)


def random_machine(seed: int) -> Plan:
    """Host a with some teams of any mode on one or two NUMA nodes."""
    dice = random.Random(seed)
    made = Small()
    made.host("a")
    count, at = dice.randint(1, 2), 0
    for number in range(count):
        own = dice.randint(2, 6)
        threads = dice.choice((1, 2))
        text = ", ".join("+".join(str(at + k + 100 * t) for t in range(threads)) for k in range(own))
        made.put("numa_node", f"a/{number}", host="a", number=number, cores=text)
        at += own
    for team in range(dice.randint(1, 3)):
        made.put("virtual_switch", f"a/s{team}", host="a", name=f"s{team}")
        made.put(
            "uplink",
            f"a/u{team}",
            switch=f"a/s{team}",
            name="u",
            mode=dice.choice(("pinned", "hashed", "lacp", "standby")),
        )
        for n in range(dice.randint(1, 3)):
            made.put(
                "nic",
                f"a/n{team}{n}",
                host="a",
                name=f"n{team}{n}",
                uplink=f"a/u{team}",
                speed=dice.choice((10_000, 25_000, 100_000)),
                numa=dice.randrange(count),
                **({"most_queues": dice.choice((1, 2, 8))} if dice.random() < 0.6 else {}),
            )
    return made.plan()


class RiskTest(unittest.TestCase):
    def told(self, *nics: dict[str, Any], mode: str = "pinned") -> dict[str, str]:
        return {
            r.what: r.text
            for r in risks(judge(machine(*nics, mode=mode).plan()))
            if r.what.endswith(("-processor", "-queues"))
        }

    def test_each_way_to_serve_badly_is_told(self) -> None:
        for what, nics, words in (
            ("shared-processor", ({"cores": "1-2"}, {"cores": "2-3"}), "2: where both are busy"),
            ("far-processor", ({"cores": "1, 5"},), "5 is of another NUMA node than 0"),
            ("lost-processor", ({"cores": "1, 77"},), "77 of a, which aren’t there"),
            ("odd-processor", ({"cores": "0, 9"},), "0, 9 are the host’s first core"),
            ("slow-queues", ({"cores": "1-2", "speed": 1_000},), "It does 1,000 Mbit/s"),
            (
                "uneven-queues",
                ({"cores": "1-3", "queues": 2},),
                "2 receive queues and 3 processors that serve them: the others have nothing",
            ),
            ("uneven-queues", ({"cores": "1-2", "queues": 3},), "some serve several"),
        ):
            with self.subTest(what):
                found = self.told(*nics)
                self.assertEqual(list(found), [what])
                self.assertIn(words, found[what])
        self.assertEqual(self.told({"cores": "1-2", "queues": 2}, {"cores": "1-2", "queues": 2}, mode="lacp"), {})
        self.assertEqual(self.told({}, {}), {})

    def test_the_mend_lays_them_out_and_edits_keep_up(self) -> None:
        judgement = judge(machine({"cores": "1-2"}, {"cores": "2-3"}).plan())
        risk = next(r for r in risks(judgement) if r.what == "shared-processor")
        (mend,) = mends(judgement, risk)
        self.assertEqual(mend.title, "Lay out the queues of a anew")
        after = judged_after(judgement, mend.edit)
        self.assertEqual([r.what for r in risks(after) if r.what.endswith("-processor")], [])
        again = judged_after(after, (Patch("nic", "a/n0", {"cores": "5"}),))
        self.assertIn("far-processor", [r.what for r in risks(again)])
        self.assertEqual(again.counts(), judgement.counts())


class SettingsTest(unittest.TestCase):
    def test_the_script_sets_channels_and_interrupts_as_the_plan_says(self) -> None:
        plan = machine({}, {"numa": 1, "name": "it's 2"}).plan()
        after = apply_edit(plan, settings(plan, ["a"]))[0]
        with tempfile.TemporaryDirectory() as folder:
            here = pathlib.Path(folder)
            lines = ["           CPU0"]
            for number, name in enumerate(
                ["n0-TxRx-0", "n0-TxRx-1", "mlx5-comp-n0-2", "xn0-1", "n0", "it's 2-rx-0", "n01-TxRx-0"], 30
            ):
                lines.append(f" {number}:   0   PCI-MSI  {name}")
                (here / "irq" / str(number)).mkdir(parents=True)
                (here / "irq" / str(number) / "smp_affinity_list").write_text("0-15\n")
            (here / "interrupts").write_text("\n".join(lines) + "\n")
            tool = here / "ethtool"
            tool.write_text(
                f'#!/bin/sh\necho "$@" >> {here}/asked\n[ "$1" = --show-channels ] && printf "Combined:\\t8\\nCombined:\\t3\\n" || true\n'
            )
            (here / "pidof").write_text("#!/bin/sh\nexit 1\n")
            for name in ("ethtool", "pidof"):
                (here / name).chmod(0o755)
            only = apply_edit(after, (Patch("nic", "a/n1", {"queues": None, "cores": None}),))[0]
            env = {"PATH": f"{folder}:{os.environ['PATH']}", "PROC": folder}
            done = subprocess.run(["sh"], input=script(only, "a").encode(), env=env, capture_output=True)
            self.assertEqual((done.returncode, done.stderr), (0, b""))
            found = {int(p.parent.name): p.read_text().strip() for p in (here / "irq").glob("*/smp_affinity_list")}
            self.assertEqual(found, {30: "1", 31: "2", 32: "3", 33: "0-15", 34: "0-15", 35: "0-15", 36: "0-15"})
            self.assertEqual((here / "asked").read_text(), "--show-channels n0\n")
            (here / "pidof").write_text("#!/bin/sh\nexit 0\n")
            done = subprocess.run(["sh"], input=script(only, "a").encode(), env=env, capture_output=True)
            self.assertEqual((done.returncode, b"irqbalance runs" in done.stderr), (1, True))
        self.assertIn("channels 'it'\\''s 2' 4", script(after, "a"))
        self.assertIn("the plan says nothing", script(plan, "a"))

    def test_a_pattern_hands_queues_and_processors_on(self) -> None:
        made = machine({"cores": "1-2", "queues": 2})
        made.host("b", None)
        made.kinds["nic"][-1].update(speed=FAST)
        plan = made.plan()
        plan = apply_edit(plan, from_host(plan, "a", "all"))[0]
        pattern = next(iter(plan.of("pattern")))
        plan = apply_edit(plan, stamp(plan, pattern, ["b"]))[0]
        self.assertEqual((plan.get("nic", "b/n0").queues, plan.get("nic", "b/n0").cores), (2, "1, 2"))

    def test_in_a_terminal(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = f"{folder}/plan.json"
            pathlib.Path(path).write_bytes(write_plan(machine({}, {}).plan()))
            call = CliRunner().invoke
            done = call(main, ["queues", path])
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertRegex(done.output, r"a +n0 +1, 2 +–")
            done = call(main, ["queues", path, "a", "--script", folder, "-o", path, "--json"])
            self.assertEqual(json.loads(done.output)[0]["nics"][1]["laid"], [3])
            self.assertIn("serve 'n0' 1 2", (pathlib.Path(folder) / "a.sh").read_text())
            self.assertRegex(call(main, ["queues", path]).output, r"a +n0 +1, 2 +1, 2")
            self.assertEqual(call(main, ["queues", path, "nobody"]).exit_code, 2)


ROWS = [
    {"cpu": 0, "core": 0, "socket": 0, "node": 0, "online": True},
    {"cpu": 1, "core": 1, "socket": 0, "node": 0, "online": True},
    {"cpu": 2, "core": 0, "socket": 0, "node": 0, "online": True},
    {"cpu": 3, "core": 2, "socket": 1, "node": 1, "online": True},
    {"cpu": 4, "core": None, "socket": None, "node": None, "online": False},
]


def first_device(files: dict[str, bytes]) -> str:
    return min(path.split("/")[-2] for path in files if path.endswith("/ip-link.json"))


class ReadingTest(unittest.TestCase):
    def read(self, **files: Any) -> Plan:
        """Two real hosts' state, and more files of the first."""
        base = two_hosts_files()
        device = first_device(base)
        for name, value in files.items():
            named = {"lscpu": "lscpu.json", "numa": "numa.txt"}.get(name, f"ethtool-{name}.json")
            base[f"{device}/{named}"] = value if isinstance(value, bytes) else json.dumps(value).encode()
        self.plan, self.report = read_hosts(base, "read")
        self.host = device
        return self.plan

    def nodes(self) -> list[tuple[int, str, str | None]]:
        return sorted((n.number, n.cores, n.offline) for n in self.plan.all("numa_node"))

    def nic(self) -> Nic:
        (name,) = {n.name for n in self.plan.all(Nic) if n.host == self.host and n.most_queues}
        found: Nic = next(n for n in self.plan.all(Nic) if n.host == self.host and n.name == name)
        return found

    def test_rows_of_lscpu_make_nodes_whichever_version_wrote_them(self) -> None:
        as_text = [
            {k: ("-" if v is None else "yes" if v is True else "no" if v is False else str(v)) for k, v in row.items()}
            for row in ROWS
        ]
        for rows in (ROWS, as_text):
            self.read(lscpu={"cpus": rows})
            self.assertEqual(self.nodes(), [(0, "0+2, 1", "4"), (1, "3", None)])

    def test_a_summary_is_enough_where_a_core_has_one_thread(self) -> None:
        def summary(threads: str) -> dict[str, Any]:
            return {
                "lscpu": [
                    {"field": "CPU(s):", "data": "6", "children": [{"field": "Off-line CPU(s) list:", "data": "5"}]},
                    {"field": "Thread(s) per core:", "data": threads},
                    {
                        "field": "NUMA:",
                        "data": None,
                        "children": [
                            {"field": "NUMA node0 CPU(s):", "data": "0-2"},
                            {"field": "NUMA node1 CPU(s):", "data": "3,4"},
                        ],
                    },
                ]
            }

        self.read(lscpu=summary("1"))
        self.assertEqual(self.nodes(), [(0, "0, 1, 2", "5"), (1, "3, 4", None)])
        self.read(lscpu=summary("2"))
        self.assertEqual(self.nodes(), [])
        self.assertTrue(any("which threads share a core" in line.text for line in self.report.notes), "it is told")

    def test_nics_get_their_node_and_their_queues(self) -> None:
        device = first_device(two_hosts_files())
        plan = read_hosts(two_hosts_files(), "x")[0]
        name = min(n.name for n in plan.all(Nic) if n.host == device)
        node = f"/sys/class/net/{name}/device/numa_node:1\n/sys/class/net/elsewhere/device/numa_node:-1\n".encode()
        self.read(numa=node, **{name: [{"ifname": name, "combined-max": 16, "combined": 4, "rx-max": "n/a"}]})
        nic = self.nic()
        self.assertEqual((nic.numa, nic.most_queues, nic.queues), (1, 16, 4))

    def test_what_cannot_be_read_is_named_with_its_place(self) -> None:
        for files, wrong in (
            ({"lscpu": {}}, "lscpu.json: field lscpu: is missing"),
            ({"lscpu": {"cpus": [{"cpu": "x"}]}}, "cpus: entry 1: field cpu: should be a number"),
            ({"lscpu": {"cpus": [ROWS[0], ROWS[0]]}}, "0 stands twice"),
            ({"lscpu": {"cpus": [{"cpu": 9_999}]}}, "should be a number from 0 to 4094"),
            ({"numa": b"eth0 on node 1\n"}, "numa.txt, line 1: should be as"),
            ({"eth0": [{"combined-max": 2, "combined": 4}]}, "4 channels are more than 2"),
            ({"eth0": b"{"}, "isn't JSON"),
        ):
            with self.subTest(wrong), self.assertRaises(PlanError) as caught:
                self.read(**files)
            self.assertIn(wrong, str(caught.exception.problems[0]))

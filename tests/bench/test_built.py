"""One small plan for each thing that the kernel builds, all of them asked in one kernel; and what the bench says of differences."""

from __future__ import annotations

import json
import struct
import subprocess
import tempfile
import unittest
from typing import Any
from unittest import mock

from aptwire.formats import pcap
from aptwire.formats.hosts import read_hosts
from aptwire.forward.frames import Frames, Heard
from aptwire.judge.verdicts import judge
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.names import endpoint_key
from aptwire.plan.plan import Plan
from aptwire_bench.fit import fit
from aptwire_bench.kernel import Kernel
from aptwire_bench.prove import Case, Scope, prove, read_back

from tests.bench.support import put, told
from tests.core.test_whole_wiring import ring, two_nics
from tests.core.test_whole_wiring import routed as over_routers
from tests.support import Small, pair

EVERYTHING = Scope(sample=100, tags=8, pulls=1, trials=60)


def private() -> Small:
    """Promiscuous, isolated and community ports on two hosts."""
    made = pair("10, 11, 12", "10, 11, 12")
    made.put("secondary_vlan", "iso", segment="s10", vid=11, type="isolated")
    made.put("secondary_vlan", "com", segment="s10", vid=12, type="community")
    for host in "ab":
        for vid in (10, 11, 12):
            group = made.put(
                "port_group", f"{host}/p{vid}", switch=f"{host}/s", name=f"p{vid}", mode="private", vid=vid
            )
            for n in range(2):
                name = f"{host}{vid}{n}"
                made.put("guest", f"g-{name}", host=host, name=name)
                made.put("adapter", name, guest=f"g-{name}", name=name, port_group=group, belongs="s10")
    return made


def overlay(encapsulation: str) -> Small:
    """An overlay over the host ports of three hosts, one of them cut off."""
    made = pair("10", "10")
    made.trunk("sw/p9", "20")
    made.host("c", "sw/p9")
    made.put("segment", "over", name="over", vni=5010, encapsulation=encapsulation)
    for host in "abc":
        port = made.put("host_port", f"{host}/hp", switch=f"{host}/s", name="hp", vid=10, belongs="s10")
        group = made.put("port_group", f"{host}/o", switch=f"{host}/s", name="o", mode="overlay", vni=5010, over=port)
        made.put("guest", f"og-{host}", host=host, name=f"over {host}")
        made.put("adapter", f"o-{host}", guest=f"og-{host}", name=f"ov{host}", port_group=group, belongs="over")
    return made


def guarded() -> Small:
    """Adapters with and without each guard, and a mirror each way."""
    made = pair()
    for n, more in enumerate(
        ({"overhear": True}, {"foreign_source": True}, {"overhear": True, "foreign_source": True}, {})
    ):
        made.guest("a", f"m{n}", 10, mac=f"02:00:00:00:01:{n:02x}", **more)
    made.put("mirror", "sent", source="a1", target="m0", direction="sent")
    made.put("mirror", "received", source="m3", target="m1", direction="received")
    return made


def routed() -> Small:
    """Two subnets with a router on a trunk, a server of leases that may and one that may not."""
    made = Small()
    made.fabric("sw")
    for vid in (10, 20):
        made.segment(vid, gateways=[f"10.64.{vid}.1"], subnets=[f"10.64.{vid}.0/24"])
    made.trunk("sw/p1", "10, 20")
    made.trunk("sw/p2", "10")
    made.trunk("sw/r", "10, 20")
    made.host("a", "sw/p1")
    made.host("b", "sw/p2")
    for n, (host, vid, more) in enumerate(
        [("a", 10, {}), ("a", 10, {"serve_leases": True}), ("a", 20, {}), ("b", 10, {}), ("b", 20, {}), ("b", 20, {})]
    ):
        made.guest(host, f"{host}{n}", vid, addresses=[f"10.64.{vid}.{n + 11}/24"], **more)
    made.put("station", "r", name="r", routes=True)
    for vid in (10, 20):
        made.put(
            "station_port",
            f"r{vid}",
            station="r",
            port="sw/r",
            vid=vid,
            belongs=f"s{vid}",
            addresses=[f"10.64.{vid}.1/24"],
        )
    return made


def functions() -> Small:
    """Virtual functions on a NIC in a team, and on one in none."""
    made = pair()
    made.trunk("sw/p9", "10, 20")
    made.put("nic", "a/n9", host="a", name="n9")
    made.cable("a/n9", "sw/p9")
    for n, (nic, vid) in enumerate((("a/n0", 10), ("a/n0", 20), ("a/n9", 10))):
        made.put("guest", f"fg{n}", host="a", name=f"f{n}")
        made.put("adapter", f"f{n}", guest=f"fg{n}", name=f"f{n}", type="direct", function_of=nic, function_vid=vid)
    return made


def itself() -> Small:
    """A cable from a switch to itself that carries one VLAN into another."""
    made = pair()
    made.access("sw/x", 10)
    made.access("sw/y", 20)
    made.cable("sw/x", "sw/y")
    made.guest("b", "b2", 20, None)
    return made


def leaking() -> Small:
    """Natives that differ between two switches, behind an unmanaged one."""
    made = pair("10, 20", "10, 20")
    made.fabric("far")
    made.fabric("hub", managed=False)
    made.trunk("sw/x", "10, 20", native=10)
    made.trunk("hub/1", "30")
    made.trunk("hub/2", "30")
    made.trunk("far/x", "20, 30", native=20)
    made.cable("sw/x", "hub/1")
    made.cable("hub/2", "far/x")
    made.access("far/p", 20)
    made.host("c", "far/p")
    made.guest("c", "c1", None, None)
    return made


def tree() -> Small:
    """A ring of three switches under a spanning tree, whose ports name their speed."""
    made = ring(spanning_tree=True)
    for port in made.kinds["fabric_port"]:
        port["speed"] = 10_000
    return made


def limited() -> Small:
    """Adapters limited each way, by their port group and by their own word."""
    made = pair()
    bucket = {"send_rate": 80, "send_burst": 20_000, "receive_rate": 160, "receive_burst": 40_000}
    made.guest("a", "slow", 10, **bucket)
    made.kinds["port_group"][1].update(receive_rate=100, receive_burst=10_000)
    made.guest("b", "own", 10, receive_rate=100, receive_burst=30_000)
    made.guest("b", "b20", 20, None)
    return made


def sizes(encapsulation: str) -> Small:
    """An overlay whose header fits just so, and doesn't; adapters and a switch that take less than a large packet."""
    made = overlay(encapsulation)
    for port, mtu in zip(made.kinds["host_port"], (4_050, 4_040, 9_000), strict=True):
        port["mtu"] = mtu
    made.guest("a", "small", 10, mtu=1_500)
    made.guest("a", "large", 10, mtu=4_000)
    made.kinds["virtual_switch"][1]["mtu"] = 9_000
    return made


def tunnelled(encapsulation: str) -> Small:
    """An overlay over a router between two subnets, on a trunk; one end has no gateway, one carries less than the others."""
    made = over_routers()
    made.kinds["segment"][1]["encapsulation"] = encapsulation
    made.trunk("sw/p3", "20")
    made.trunk("sw/p4", "20", mtu=3_000)
    for n, host in enumerate("de", 14):
        made.host(host, f"sw/p{n - 11}")
        made.put(
            "host_port",
            f"{host}/hp",
            switch=f"{host}/s",
            name="hp",
            vid=20,
            belongs="s20" if host == "e" else None,
            addresses=[f"10.64.20.{n}/24"],
        )
        made.put("port_group", f"{host}/o", switch=f"{host}/s", name="o", mode="overlay", vni=5010, over=f"{host}/hp")
        made.put("guest", f"guest-{host}", host=host, name=f"g{host}")
        made.put("adapter", f"{host}1", guest=f"guest-{host}", name=f"{host}1", port_group=f"{host}/o", belongs="over")
    return made


PLANS: dict[str, Small] = {
    "sizes in VXLAN": sizes("vxlan"),
    "sizes in Geneve": sizes("geneve"),
    "limits": limited(),
    "standby": two_nics("standby", ports=("10", "20")),
    "pinned": two_nics("pinned", ports=("10", "20")),
    "hashed": two_nics("hashed", {"lacp": False}),
    "lacp": two_nics("lacp", {"lacp": True}),
    "private": private(),
    "vxlan": overlay("vxlan"),
    "geneve": overlay("geneve"),
    "vxlan over a router": tunnelled("vxlan"),
    "geneve over a router": tunnelled("geneve"),
    "guards and mirrors": guarded(),
    "routers and leases": routed(),
    "functions": functions(),
    "a cable to itself": itself(),
    "leaking natives": leaking(),
    "spanning tree": tree(),
}


class BuiltTest(unittest.TestCase):
    def test_all_that_can_be_built_agrees_whole(self) -> None:
        plans = {name: made.plan() for name, made in PLANS.items()}
        with Kernel() as kernel:
            reports = put(kernel, list(plans.values()), [EVERYTHING] * len(plans))
        for (name, plan), report in zip(plans.items(), reports, strict=True):
            with self.subTest(name):
                self.assertEqual(told(plan, report), [])
                self.assertEqual((report.left, report.untried), ((), {}))
                self.assertGreater(report.asked, 20)
        case = Case.of(plans["limits"], EVERYTHING)
        self.assertEqual(
            {(b.limit.seat, b.limit.way, b.most) for b in case.bursts},
            {("slow", "send", 23), ("slow", "receive", 46), ("b1", "receive", 14), ("own", "receive", 34)},
        )

    def test_what_was_built_is_read_back_with_the_same_verdicts(self) -> None:
        made = pair("10, 20", "10, 20")
        made.segment(20)
        made.trunk("sw/p3", "10")
        made.put("nic", "b/n1", host="b", name="n1", uplink="b/u", rank=1)
        made.cable("b/n1", "sw/p3")
        made.trunk("sw/x", "10")
        made.fabric("far")
        made.trunk("far/x", "10, 20")
        made.cable("sw/x", "far/x")
        made.trunk("far/p1", "10, 20")
        made.trunk("far/p2", "10, 20")
        made.host("c", "far/p1", "far/p2")
        for host in "abc":
            made.guest(host, f"{host}20", 20)
            made.put("host_port", f"{host}/mgmt", switch=f"{host}/s", name="mgmt", vid=10, belongs="s10")
        plan = made.plan()
        with Kernel() as kernel:
            files = read_back(kernel, plan)
        back, report = read_hosts(files, "read back")
        self.assertNotIn("left out", [note.what for note in report.notes])
        self.assertEqual(self.verdicts(back, plan), self.verdicts(plan, plan))
        self.assertIn("wavering", self.verdicts(plan, plan).values())
        self.assertIn("stranded", self.verdicts(plan, plan).values())

    def verdicts(self, plan: Plan, like: Plan) -> dict[str, str]:
        """Verdicts by host and name; what has no intent in one plan has none in the other."""
        names = {endpoint_key(like, r) for kind in ("adapter", "host_port") for r in like.all(kind) if r.belongs}
        found = judge(plan).verdicts()
        named = {endpoint_key(plan, plan.find(id)): verdict for id, verdict in found.items()}
        return {name: verdict for name, verdict in named.items() if name in names}


class DifferenceTest(unittest.TestCase):
    """An engine that is made to err, so that there is a difference to tell."""

    def test_a_difference_is_cut_down_and_told_from_both_sides(self) -> None:
        true = Frames.heard

        def wrong(self: Frames, sender: str, vid: int | None, frame: str = "broadcast", target: str = "") -> Heard:
            return frozenset((seat, tag) for seat, tag in true(self, sender, vid, frame, target) if seat != "b1")

        made = pair()
        made.guest("a", "a2", 10)
        made.guest("b", "b2", 20, None)
        plan = made.plan()
        with mock.patch.object(Frames, "heard", wrong):
            report = prove(plan, Scope(sample=0, pulls=0, trials=0), stories=1)
        self.assertTrue(report.differences)
        (story,) = report.stories
        self.assertEqual(story.difference["only_kernel"], ["b1 of b1"])
        kept = {kind: len(story.smallest.of(kind)) for kind in ("host", "guest", "adapter", "cable", "fabric_switch")}
        self.assertEqual(kept, {"host": 2, "guest": 2, "adapter": 2, "cable": 2, "fabric_switch": 1})
        self.assertEqual(read_plan(write_plan(story.smallest)), story.smallest)
        self.assertEqual(story.engine[0], "in s of a as VID 10")
        self.assertTrue(any("leaves at n0 of a, tagged 10" in line for line in story.places), story.places)
        arrived = pcap.frames(story.frames["b-n0"], "b-n0")
        self.assertIn(struct.pack("!HH", 0x8100, 10), arrived[0][1][:16])
        told_ = report.to_json(plan)
        self.assertEqual(told_["asked"], told_["agreed"] + told_["differed"])


class FitTest(unittest.TestCase):
    def reasons(self, made: Small) -> list[str]:
        return [left.reason for left in fit(made.plan()).left]

    def test_what_the_kernel_cannot_express_is_said(self) -> None:
        self.assertEqual(self.reasons(pair()), [])
        self.assertRegex(self.reasons(two_nics("hashed"))[0], "no LAG for it on the far side")
        self.assertRegex(self.reasons(two_nics("lacp", {"lacp": True}, ("10", "20")))[0], "its ports differ")
        self.assertRegex(self.reasons(two_nics("standby", {"lacp": False}))[0], "not the kernel’s to say alone")
        self.assertRegex(self.reasons(ring())[0], "closes a loop")
        wireless = pair()
        wireless.kinds["nic"][0]["wireless"] = True
        self.assertRegex(self.reasons(wireless)[0], "is wireless")

    def test_questions_that_depend_on_it_are_not_tried(self) -> None:
        made = two_nics("hashed", ports=("10", "20"))
        made.guest("b", "b2", 10)
        with Kernel() as kernel:
            (report,) = put(kernel, [made.plan()], [Scope(sample=9, pulls=0)])
        self.assertEqual(told(made.plan(), report), [])
        self.assertGreater(report.asked, 0)


class CommandTest(unittest.TestCase):
    def test_the_command_counts_as_json_and_refuses_what_it_cannot_read(self) -> None:
        def run(*arguments: str) -> subprocess.CompletedProcess[str]:
            return subprocess.run(["./run", "bench", *arguments], text=True, capture_output=True)

        made = pair()
        made.guest("a", "a2", 10)
        made.kinds["nic"][0]["wireless"] = True
        with tempfile.NamedTemporaryFile(suffix=".json") as file:
            file.write(write_plan(made.plan()))
            file.flush()
            done = run(file.name, "--json", "--pulls", "0", "--sample", "0")
        self.assertEqual(done.returncode, 0, done.stderr)
        found: dict[str, Any] = json.loads(done.stdout)
        self.assertEqual(found["asked"], found["agreed"])
        self.assertEqual(found["questions"], found["asked"] + found["not_tried"])
        self.assertIn("is wireless", " ".join(item["reason"] for item in found["not_built"]))
        self.assertEqual(run("demo/make.py").returncode, 2)
        done = run("demo/brackwater.json", "--pull", "nowhere")
        self.assertEqual((done.returncode, done.stderr), (2, "error: there is no cable “nowhere” in the plan\n"))


if __name__ == "__main__":
    unittest.main()

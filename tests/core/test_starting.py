"""How hosts are reached, and start, while their system doesn't run: BMCs and what is asked over the network."""

from __future__ import annotations

import random
import re
import unittest
from typing import Any

from aptwire.forward.trace import station_at
from aptwire.judge.mends import mends
from aptwire.judge.risks import Risk, risks
from aptwire.judge.starting import heard
from aptwire.judge.verdicts import judge, rejudge
from aptwire.paper.tables import wiring
from aptwire.plan.edits import Drop, Put, apply_edit, touched
from aptwire.plan.kinds import PLACES, Bmc, StationPort
from aptwire.plan.plan import Plan, PlanError

from tests.support import Small, pair, random_plan


class BmcTest(unittest.TestCase):
    def told(self, made: Small, *kinds: str) -> list[Risk]:
        found = [r for r in risks(judge(made.plan())) if r.what.startswith(("bmc", "no-start"))]
        self.assertEqual(sorted(r.what for r in found), sorted(kinds), [r.title for r in found])
        return found

    def mended(self, made: Small, risk: Risk, title: str) -> Plan:
        """The plan after one of a risk's mends; the risk is gone then."""
        judgement = judge(made.plan())
        offered = {mend.title: mend for mend in mends(judgement, risk)}
        chosen = next((mend for text, mend in offered.items() if re.search(title, text)), None)
        self.assertIsNotNone(chosen, list(offered))
        plan, _ = apply_edit(judgement.plan, chosen.edit)
        self.assertNotIn(risk.id, {r.id for r in risks(judge(plan))})
        return plan

    def with_port(self, access: int = 10, **bmc: Any) -> Small:
        made = pair()
        made.access("sw/oob", access)
        made.put("bmc", "ctl", host="a", port="sw/oob", belongs="s10", **bmc)
        return made

    def test_one_with_a_port_of_its_own(self) -> None:
        self.told(self.with_port())
        made = self.with_port(20)
        [risk] = self.told(made, "bmc-astray")
        self.assertEqual(risk.title, "The BMC of a lands on VID 20, which is no segment, and belongs on s10")
        self.mended(made, risk, "Make port oob of sw access 10")
        made = self.with_port(10, vid=10)
        [risk] = self.told(made, "bmc-astray")
        self.assertIn("It sends tagged 10 frames, and port oob of sw drops those", risk.text)

    def test_its_cable_stands_in_the_wiring_schedule(self) -> None:
        plan = self.with_port().plan()
        [row] = (row for row in wiring(plan).rows if "BMC" in row)
        self.assertEqual([row[n] for n in (0, 1, 3, 9, 11)], ["BMC", "a", "BMC", "sw", "oob"])

    def test_each_host_has_one_with_a_port_or_a_nic_of_its_own(self) -> None:
        for field, ends in (("port", ("sw/oob", "sw/oob2")), ("nic", ("a/n0", "b/n0"))):
            made = pair()
            made.access("sw/oob", 10)
            made.access("sw/oob2", 10)
            for host, end in zip("ab", ends, strict=True):
                made.put("bmc", f"ctl-{host}", host=host, belongs="s10", **{field: end})
            self.assertEqual(len(made.plan().of("bmc")), 2)
            made.kinds["bmc"][1][field] = ends[0]
            with self.assertRaises(AssertionError):
                made.plan()

    def test_its_port_is_no_open_end(self) -> None:
        made = pair()
        made.trunk("sw/oob", "10")
        before = judge(made.plan())
        self.assertEqual(len(before.wiring.fabric.loose), 1)
        edit = (Put(Bmc(id="ctl", host="a", port="sw/oob", vid=10)),)
        plan, back = apply_edit(before.plan, edit)
        after = rejudge(before, plan, touched(edit))
        self.assertFalse(after.wiring.fabric.loose)
        self.assertEqual(after.verdicts(), judge(plan).verdicts())
        again = rejudge(after, apply_edit(plan, back)[0], touched(edit))
        self.assertEqual(len(again.wiring.fabric.loose), 1)

    def test_one_that_shares_a_nic_goes_past_the_team(self) -> None:
        made = pair("10, 20", "10, 20")
        nic = next(n["id"] for n in made.kinds["nic"] if n["host"] == "a")
        made.put("bmc", "ctl", host="a", nic=nic, vid=10, belongs="s10")
        self.told(made)
        made.kinds["bmc"][0]["vid"] = 30
        [risk] = self.told(made, "bmc-astray")
        self.assertIn("lands nowhere", risk.title)
        self.mended(made, risk, "Have it tag 10")
        made.kinds["bmc"][0]["vid"] = 10
        made.put("lag", "l", switch="sw", name="l", lacp=True, individual=False)
        made.kinds["fabric_port"][0]["lag"] = "l"
        for uplink in made.kinds["uplink"]:
            uplink["mode"] = "lacp" if uplink["switch"] == "a/s" else uplink.get("mode", "standby")
        [risk] = self.told(made, "bmc-waits")
        self.mended(made, risk, "Let the ports of LAG l of sw stand alone")
        made.kinds["cable"] = [c for c in made.kinds["cable"] if nic not in (c["a"], c["b"])]
        self.told(made, "bmc-unplugged")

    def test_one_that_nobody_of_its_segment_hears(self) -> None:
        made = self.with_port()
        made.kinds["fabric_port"] = [
            {**p, "allowed": "20"} if p["id"] in ("sw/p1", "sw/p2") else p for p in made.kinds["fabric_port"]
        ]
        [risk] = self.told(made, "bmc-cut-off")
        self.assertEqual(risk.title, "The BMC of a is cut off from s10")

    def test_a_host_starts_over_the_network(self) -> None:
        made = pair("10, 20", "10, 20")
        host = next(h for h in made.kinds["host"] if h["id"] == "a")
        host["boots"] = "s10"
        [risk] = self.told(made, "no-start")
        self.assertRegex(risk.text, "port p1 of sw drops what is untagged")
        plan = self.mended(made, risk, "Make 10 native on port p1 of sw")
        self.assertEqual(plan.get("fabric_port", "sw/p1").native, 10)
        port = next(p for p in made.kinds["fabric_port"] if p["id"] == "sw/p1")
        port["native"] = 10
        self.told(made)
        # Where the plan knows who leases, somebody has to hear it.
        made.kinds["segment"][0]["subnets"] = ["10.0.10.0/24"]
        made.segment(20, subnets=["10.0.20.0/24"])
        server = made.put("guest", "dhcp", host="b", name="dhcp")
        group = made.put("port_group", "b/g20", switch="b/s", name="g20", mode="access", vid=20)
        at = {"name": "d0", "port_group": group, "belongs": "s20", "addresses": ["10.0.20.2/24"], "serve_leases": True}
        made.put("adapter", "dhcp0", guest=server, **at)
        made.put("lease_scope", "sc", of=server, subnet="10.0.20.0/24", pool=["10.0.20.10-10.0.20.20"])
        [risk] = self.told(made, "no-start")
        self.assertIn("nobody who leases addresses hears it", risk.text)

    def test_a_host_managed_through_its_own_guest_may_have_another_way_in(self) -> None:
        made = pair()
        made.kinds["segment"][0].update(subnets=["10.0.10.0/24"], gateways=["10.0.10.1"])
        made.kinds["adapter"][0]["addresses"] = ["10.0.10.1/24"]
        made.put(
            "host_port",
            "a/hp",
            switch="a/s",
            name="mgmt",
            vid=10,
            belongs="s10",
            addresses=["10.0.10.9/24"],
            services=["management"],
        )

        def says() -> str:
            return next(r.text for r in risks(judge(made.plan())) if r.what == "own-guest")

        self.assertIn("no BMC of it is known", says())
        made.access("sw/oob", 20)
        made.segment(20)
        made.put("bmc", "ctl", host="a", port="sw/oob", belongs="s20")
        self.assertIn("its BMC, on s20, is another way in", says())
        made.kinds["fabric_port"][-1]["vid"] = 30
        self.assertIn("its BMC isn’t where it belongs", says())
        made.kinds["fabric_port"][-1]["vid"] = 10
        made.kinds["bmc"][0]["belongs"] = "s10"
        self.assertIn("its BMC hangs on 10.0.10.1 too", says())

    def test_what_cant_be_is_refused_with_its_field(self) -> None:
        nics = {n["host"]: n["id"] for n in pair().kinds["nic"]}
        for values, field, says in (
            ({}, "port", "one of the two"),
            ({"port": "sw/oob", "nic": nics["a"]}, "port", "one of the two"),
            ({"nic": nics["b"]}, "nic", "is of another host"),
            ({"port": "sw/p1"}, "port", "already has a cable"),
        ):
            made = pair()
            made.access("sw/oob", 10)
            made.put("bmc", "ctl", host="a", **values)
            with self.assertRaises((AssertionError, PlanError)) as refused:
                made.plan()
            self.assertRegex(str(refused.exception), f"field {field}: .*{says}")
        plan = self.with_port().plan()
        with self.assertRaises(PlanError) as refused:
            apply_edit(plan, (Put(StationPort(id="x", station="x", port="sw/oob")),))
        self.assertIn("there is no such station", str(refused.exception))


class AgainstStationsTest(unittest.TestCase):
    def test_whoever_stands_at_a_port_is_heard_as_a_station_there_would_be(self) -> None:
        """What is worked out without a record is what the engine says of a station plugged in there."""
        seen = {True: 0, False: 0}
        for seed in range(30):
            plan, dice = random_plan(seed, rich=seed % 2 == 1), random.Random(seed)
            stations = list(plan.all("station_port"))
            for port in dice.sample(stations, min(3, len(stations))):
                if port.belongs is None:
                    continue
                judgement = judge(plan)
                own = judgement.wiring.place(port.id)
                # The same, asked of the plan without it.
                bare = judge(apply_edit(plan, (Drop("station_port", port.id),))[0])
                place = station_at(bare.wiring, "x", port.port, port.vid, port.belongs)
                self.assertEqual(place is None, own is None or own.context < 0)
                if place is None or own is None:
                    continue
                self.assertEqual((place.context, place.stand.hears), (own.context, own.stand.hears))
                segment = plan.get("segment", port.belongs)
                told = heard(bare, segment, place)
                others = [r.id for kind in PLACES for r in plan.where(kind, "belongs", segment.id) if r.id != port.id]
                self.assertTrue(told is None or others)
                seen[bool(told)] += 1
        self.assertGreater(sum(seen.values()), 5, seen)


if __name__ == "__main__":
    unittest.main()

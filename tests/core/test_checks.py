"""What an edit is refused for: every record that doesn't fit, with its name, its field and the reason."""

from __future__ import annotations

import random
import unittest
from dataclasses import replace
from typing import Any
from unittest import mock

from aptwire.plan import checks
from aptwire.plan.checks import check_plan, make_record
from aptwire.plan.edits import Drop, Edit, Patch, Put, apply_edit, edit_from_json
from aptwire.plan.fields import plain
from aptwire.plan.kinds import KINDS, SPECS
from aptwire.plan.plan import Plan, PlanError
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_whole_wiring import overlay, private, two_nics
from tests.support import Small, pair, random_plan


class ManyTest(unittest.TestCase):
    def test_of_many_the_same_is_wrong_as_of_each_by_itself(self) -> None:
        wrong = set()
        for seed in range(60):
            dice = random.Random(seed)
            records = {kind: dict(of) for kind in KINDS if (of := random_plan(seed, rich=seed % 2 == 0).of(kind))}
            for _ in range(3):
                kind = dice.choice(list(records))
                id = dice.choice(list(records[kind]))
                other = records[dice.choice(list(records))]
                match dice.randrange(4):
                    case 0 if len(records[kind]) > 1:
                        del records[kind][id]
                    case 1:
                        other[id] = replace(dice.choice(list(other.values())), id=id)
                    case 2:
                        records[kind][f"{id}+"] = replace(records[kind][id], id=f"{id}+")
                    case 3 if "adapter" in records:
                        one, two = (dice.choice(list(records["adapter"].values())) for _ in range(2))
                        words: dict[str, Any] = dice.choice(
                            [{"port_group": two.port_group}, {"pvid": 7}, {"send_peak": 9}, {"addressing": "lease"}]
                        )
                        records["adapter"][one.id] = replace(one, **words)
            plan = Plan("p", records)
            told = []
            for many in (checks.MANY, 0):
                with mock.patch.object(checks, "MANY", many):
                    told.append([str(problem) for problem in check_plan(plan)])
            self.assertEqual(*told, seed)
            wrong.update(
                word
                for problem in told[0]
                for word in ("refers to", "is also the id", "is taken", "another host", "only a standard", "beside it")
                if word in problem
            )
        self.assertEqual(len(wrong), 6)


class RivalsTest(unittest.TestCase):
    """What one record can't have since another has it: told at the one with the higher id, in a whole plan as at an edit."""

    def plan(self) -> Small:
        made = pair()
        made.segment(30)
        made.put("source", "src", name="overlay networks")
        made.put("lag", "sw/lag", switch="sw", name="lag")
        return made

    def told(self, made: Small, kind: str, id: str, field: str, says: str) -> None:
        """That record is refused, by itself and put into the plan without it."""
        records = {of: {r["id"]: make_record(of, r) for r in found} for of, found in made.kinds.items()}
        wanted = [f"{kind.replace('_', ' ')} {id}, field {field}: {says}"]
        self.assertEqual([str(p) for p in check_plan(Plan("p", records))], wanted)
        record = next(r for r in made.kinds[kind] if r["id"] == id)
        made.kinds[kind].remove(record)
        with self.assertRaises(PlanError) as caught:
            apply_edit(made.plan(), edit_from_json([{"op": "put", "kind": kind, "record": record}]))
        self.assertEqual([str(p) for p in caught.exception.problems], wanted)

    def test_two_cables_in_one_port(self) -> None:
        made = self.plan()
        made.access("sw/free", 10)
        made.put("cable", "zz", a="a/n0", b="sw/free")
        self.told(made, "cable", "zz", "a", "n0 of a already has a cable (c:a/n0:sw/p1); one port takes one")

    def test_two_adapters_of_a_host_by_one_name(self) -> None:
        made = self.plan()
        made.put("guest", "other", host="a", name="other")
        made.put("adapter", "z1", guest="other", name="a1")
        self.told(made, "adapter", "z1", "name", "“a1” is taken on this host by adapter a1")

    def test_two_segments_of_one_origin(self) -> None:
        made = self.plan()
        made.put("segment", "x", name="x", source="src", origin="net-7")
        made.put("segment", "y", name="y", source="src", origin="net-7")
        self.told(made, "segment", "y", "origin", "“net-7” is x already")

    def test_two_uplinks_with_one_vid_over_the_same_nics(self) -> None:
        made = self.plan()
        for name in ("t", "v"):
            made.put("virtual_switch", f"a/{name}", host="a", name=name)
            made.put("uplink", f"a/{name}/over", switch=f"a/{name}", name=name, over="a/u", vid=30)
        self.told(made, "uplink", "a/v/over", "vid", "VID 30 already goes from these NICs to uplink t")

    def test_two_isolated_vlans_of_one_primary(self) -> None:
        made = self.plan()
        made.put("secondary_vlan", "i1", segment="s30", vid=301, type="isolated")
        made.put("secondary_vlan", "i2", segment="s30", vid=302, type="isolated")
        says = "s30 already has its isolated VLAN; a primary has one at the most"
        self.told(made, "secondary_vlan", "i2", "type", says)

    def test_two_speeds_in_a_lag(self) -> None:
        made = self.plan()
        for n, speed in enumerate((10000, 25000)):
            made.trunk(f"sw/l{n}", "10", lag="sw/lag", speed=speed)
        says = "l1 does 25000 Mbit/s and l0 10000: a LAG has one speed"
        self.told(made, "fabric_port", "sw/l1", "speed", says)

    def test_two_stations_at_a_port(self) -> None:
        made = self.plan()
        made.access("sw/free", 10)
        for n in (1, 2):
            made.put("station", f"st{n}", name=f"st{n}")
            made.put("station_port", f"sp{n}", station=f"st{n}", port="sw/free", **({"vid": 10} if n == 2 else {}))
        self.told(made, "station_port", "sp2", "port", "port free of sw already has the station st1")


class RefusalTest(unittest.TestCase):
    def refused(self, plan: Plan, edit: Any, *says: str) -> None:
        """The edit (or JSON of one) can't be made, and the problem says all of this."""
        with self.assertRaises(PlanError) as caught:
            apply_edit(plan, edit_from_json(edit) if isinstance(edit, list) else edit)
        for words in says:
            self.assertIn(words, str(caught.exception))

    def put(self, kind: str, id: str, **values: Any) -> list[dict[str, Any]]:
        return [{"op": "put", "kind": kind, "record": {"id": id, **values}}]

    def patch(self, kind: str, id: str, **values: Any) -> list[dict[str, Any]]:
        return [{"op": "patch", "kind": kind, "id": id, "set": values}]

    def test_numbers_out_of_range(self) -> None:
        plan = pair().plan()
        for vid in (0, 4095, "10-5", True):
            self.refused(plan, self.patch("segment", "s10", vid=vid), "segment s10, field vid")
        self.refused(plan, self.patch("fabric_port", "sw/p1", allowed="10-5"), "field allowed", "runs backwards")
        self.refused(plan, self.patch("fabric_port", "sw/p1", allowed="10, 4095"), "field allowed", "4095")
        self.refused(plan, self.patch("virtual_switch", "a/s", mtu=50), "field mtu: 50 is outside 576 to 9216")
        self.refused(plan, self.patch("segment", "s10", vni=1 << 24), "field vni")

    def test_one_port_takes_one_cable_and_one_nic_one_uplink(self) -> None:
        plan = pair().plan()
        self.refused(
            plan, self.put("cable", "zz", a="a/n0", b="sw/p2"), "n0 of a already has a cable", "one port takes one"
        )
        self.refused(plan, self.patch("nic", "a/n0", uplink=["a/u", "b/u"]), "nic a/n0, field uplink")
        self.refused(plan, self.patch("nic", "a/n0", uplink="b/u"), "belongs to a switch of another host")
        station = [*self.put("station", "st", name="st"), *self.put("station_port", "sp", station="st", port="sw/p1")]
        self.refused(plan, station, "port p1 of sw already has a cable")

    def test_what_is_taken_is_refused_whatever_the_new_one_is_called(self) -> None:
        made = two_nics("lacp", {})
        made.put("station", "st", name="st")
        made.access("sw/free", 10)
        made.put("station_port", "sp", station="st", port="sw/free")
        made.put("nic", "a/n7", host="a", name="n7")
        plan = made.plan()
        for id in ("0", "zz"):
            self.refused(
                plan, self.put("cable", id, a="a/n0", b="sw/free"), f"cable {id}, field a: n0 of a already has"
            )
            self.refused(plan, self.put("cable", id, a="a/n7", b="sw/free"), f"cable {id}, field b", "the station st")
            taken = self.put("adapter", id, guest=plan.get("adapter", "a1").guest, name="a1")
            self.refused(plan, taken, f"adapter {id}, field name: “a1” is taken")
            other = self.put("station_port", id, station="other", port="sw/free", vid=20)
            self.refused(
                plan, [*self.put("station", "other", name="other"), *other], f"station port {id}", "station st"
            )
        ports = sorted(plan.having("fabric_port", "lag"), key=lambda p: p.id)
        paced, _ = apply_edit(plan, tuple(Patch("fabric_port", p.id, {"speed": 10_000}) for p in ports))
        for port in ports:
            self.refused(paced, self.patch("fabric_port", port.id, speed=1_000), f"fabric port {port.id}, field speed")

    @settings(max_examples=25)
    @given(st.integers(0, 10**6))
    def test_what_an_edit_is_accepted_for_a_whole_plan_is_too(self, seed: int) -> None:
        dice = random.Random(seed)
        plan = random_plan(seed, rich=True)
        for _ in range(25):
            kind = dice.choice([kind for kind in KINDS if plan.of(kind)])
            one, two = (plan.get(kind, dice.choice(sorted(plan.of(kind)))) for _ in range(2))
            field = dice.choice(sorted(SPECS[kind]))
            like = {field: plain(getattr(one, field))}
            edits: list[Edit] = [
                (Patch(kind, two.id, like),),
                (Put(make_record(kind, {**two.to_json(), **like, "id": dice.choice(["0", "zz"])})),),
                (Drop(kind, one.id),),
            ]
            try:
                plan, _ = apply_edit(plan, dice.choices(edits, [6, 3, 1])[0])
            except PlanError:
                continue
            self.assertEqual(check_plan(plan), [], (kind, field))

    def test_a_nic_that_the_host_uses_itself(self) -> None:
        made = pair()
        made.put("nic", "a/n9", host="a", name="n9", addresses=["10.64.10.9/24"])
        plan = made.plan()
        self.refused(plan, self.patch("nic", "a/n9", uplink="a/u"), "bears the host’s own 10.64.10.9/24", "host port")
        moved = [
            *self.patch("nic", "a/n9", uplink="a/u", addresses=[]),
            *self.put("host_port", "a/hp", switch="a/s", name="hp", vid=10, addresses=["10.64.10.9/24"]),
        ]
        after, _ = apply_edit(plan, edit_from_json(moved))
        self.assertEqual(after.get("host_port", "a/hp").addresses, ("10.64.10.9/24",))

    def test_a_lag_has_one_switch_and_one_speed(self) -> None:
        made = two_nics("lacp", {"lacp": True})
        made.kinds["fabric_port"][0]["speed"] = 10_000
        made.fabric("other")
        made.trunk("other/p", "10")
        plan = made.plan()
        self.refused(
            plan,
            self.patch("fabric_port", "sw/p1", speed=1_000),
            "p1 does 1000 Mbit/s and p0 10000: a LAG has one speed",
        )
        self.refused(plan, self.patch("fabric_port", "other/p", lag="lag"), "po1 is a LAG of another switch")

    def test_private_vlans(self) -> None:
        plan = private().plan()
        self.refused(plan, self.put("secondary_vlan", "x", vid=13, type="community"), "field segment: is missing")
        self.refused(
            plan,
            self.put("secondary_vlan", "x", segment="nowhere", vid=13, type="community"),
            "there is no such segment",
        )
        self.refused(
            plan,
            self.put("secondary_vlan", "x", segment="s10", vid=13, type="isolated"),
            "already has its isolated VLAN",
        )
        self.refused(
            plan,
            self.put("secondary_vlan", "x", segment="s10", vid=10, type="community"),
            "10 is the VID of segment s10",
        )
        self.refused(
            plan, self.patch("segment", "s10", vid=None), "s10 has no VID", "neither a primary nor a secondary"
        )
        self.refused(
            plan,
            (Drop("secondary_vlan", "iso"),),
            "port group b/g11, field vid: 11 is neither a primary nor a secondary",
        )
        self.refused(plan, self.patch("port_group", "b/g11", vid=99), "99 is neither a primary nor a secondary VLAN")
        self.refused(plan, self.patch("port_group", "b/g11", vid=None), "a private port group needs a VID")

    def test_overlays(self) -> None:
        plan = overlay().plan()
        self.refused(plan, self.patch("port_group", "a/o", vni=None), "an overlay port group needs a VNI")
        self.refused(plan, self.patch("port_group", "a/o", over=None), "needs the host port that carries it")
        self.refused(plan, self.patch("port_group", "a/o", over="b/hp"), "hp is on another host")
        self.refused(plan, self.patch("port_group", "a/o", mode="untagged"), "only an overlay port group has one")
        self.refused(plan, self.patch("segment", "over", vid=20), "a segment has a VID or a VNI, not both")

    def test_guards_limits_and_mirrors(self) -> None:
        made = pair()
        made.guest("a", "a2", 10)
        plan = made.plan()
        group = "a/g10"
        self.refused(plan, self.patch("port_group", group, send_peak=9000), "send_rate", "needs the committed rate")
        self.refused(plan, self.patch("port_group", group, send_rate=9000, send_peak=8000), "below the committed rate")
        shaped, _ = apply_edit(plan, (Patch("port_group", group, {"send_rate": 9000, "send_peak": 9500}),))
        self.refused(
            shaped, self.patch("adapter", "a1", send_rate=9600), "the peak rate 9500 of port group g10 is below"
        )
        kept, _ = apply_edit(shaped, (Patch("adapter", "a1", {"send_peak": 9900}),))
        self.refused(
            kept, self.patch("port_group", group, send_rate=9950, send_peak=9960), "below the committed rate 9950"
        )
        limited, _ = apply_edit(plan, (Patch("virtual_switch", "a/s", {"limits": "receiving"}),))
        self.refused(
            limited, self.patch("adapter", "a1", send_rate=9000), "the switch s can’t limit what its adapters send"
        )
        self.refused(plan, self.put("mirror", "m", source="a1", target="a1"), "can’t be its own mirror")
        self.refused(plan, self.put("mirror", "m", source="a1", target="b1"), "a mirror stays on one virtual switch")

    def test_direct_adapters_go_past_the_switch(self) -> None:
        made = pair()
        made.put("guest", "gd", host="a", name="gd")
        made.put("adapter", "d", guest="gd", name="d", type="direct", function_of="a/n0", belongs="s10")
        plan = made.plan()
        self.refused(
            plan, self.patch("adapter", "d", port_group="a/g10"), "bypasses the switch, and so is in no port group"
        )
        self.refused(plan, self.patch("adapter", "d", overhear=True), "no guard or limit applies to it")
        self.refused(plan, self.patch("adapter", "d", function_of=None), "needs the NIC whose virtual function it is")
        self.refused(plan, self.patch("adapter", "d", function_of="b/n0"), "n0 of b is on another host")
        self.refused(plan, self.put("mirror", "m", source="d", target="a1"), "is direct and bypasses the switch")
        self.refused(plan, self.patch("adapter", "a1", function_vid=10), "only a direct adapter has one")

    def test_orders_trees_and_sheets(self) -> None:
        made = two_nics("standby")
        made.put("limits", "sheet", port_groups=9)
        plan = made.plan()
        order = self.put("group_order", "o", port_group="a/g10", nic="b/n0")
        self.refused(plan, order, "n0 of b is in no uplink of the switch of g10")
        own = self.put("group_order", "o", port_group="a/g10", nic="a/n0")
        second = self.put("uplink", "a/u2", switch="a/s", name="u2")
        self.refused(plan, own + second, "needs a switch with a single uplink")
        self.refused(plan, self.patch("fabric_switch", "sw", priority=5), "5 isn’t a multiple of 4096")
        self.refused(
            plan,
            self.patch("fabric_switch", "sw", managed=False, spanning_tree=True),
            "takes no part in a spanning tree",
        )
        self.refused(plan, self.put("limits", "second"), "a plan has one limits sheet")
        self.refused(plan, self.put("rule", "r", text="storage and storage share no NIC"), "stands here twice")
        self.refused(plan, self.put("rule", "r", text="keep a aparrt from b"), "is “apart” meant? (at character 8)")
        first = self.put("rule", "first", text="keep storage apart from production")
        plan, _ = apply_edit(plan, edit_from_json(first))
        again = self.put("rule", "again", text="keep storage apart from production")
        self.refused(plan, again, "the plan has this very rule already")

    def test_dropping_what_others_refer_to(self) -> None:
        made = Small()
        made.fabric("sw")
        made.trunk("sw/p", "10")
        made.put("station", "st", name="st")
        made.put("station_port", "sp", station="st", port="sw/p", vid=10)
        self.refused(
            made.plan(), (Drop("station", "st"),), "station port sp, field station", "there is no such station"
        )


if __name__ == "__main__":
    unittest.main()

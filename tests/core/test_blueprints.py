"""Blueprints: a segment brought to hosts and to a port, over the cables that it needs and no others."""

from __future__ import annotations

import random
import unittest

from aptwire.above.outcomes import ANSWERED
from aptwire.above.ping import ping
from aptwire.blueprints.carrying import Brought, at_port, everywhere
from aptwire.blueprints.own_nics import own_nics
from aptwire.blueprints.routing import routing
from aptwire.blueprints.shielding import shield
from aptwire.forward.trace import trace
from aptwire.judge.lattice import EVERY, SOME, lattice
from aptwire.judge.need import SPARE, needs
from aptwire.judge.preview import preview
from aptwire.judge.risks import offers, risks
from aptwire.judge.shared import shares
from aptwire.judge.verdicts import judge
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Operation, Patch, Put, apply_edit
from aptwire.plan.kinds import (
    Adapter,
    Cable,
    FabricPort,
    FabricSwitch,
    Guest,
    Host,
    Nic,
    PortGroup,
    Route,
    Segment,
    Uplink,
)
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.ports import far_end
from aptwire.plan.sentences import read
from aptwire.rules.asking import asked

from measure.fleet import fleet
from tests.support import demo_plan, pair


def without(plan: Plan, vid: int, defined: bool = False) -> Plan:
    """A fleet in which nobody has a VID: no port group, no list; with `defined` its switches list the VLANs that they know."""
    edit: list[Operation] = []
    for group in plan.where("port_group", "vid", vid):
        edit += [Drop("adapter", adapter.id) for adapter in plan.where("adapter", "port_group", group.id)]
        edit.append(Drop("port_group", group.id))
    for kind in (FabricPort, Uplink):
        for record in plan.all(kind):
            if record.allowed and vid in vids.members(record.allowed):
                edit.append(Patch(kind.kind, record.id, {"allowed": vids.write(vids.members(record.allowed) - {vid})}))
    for switch in plan.all(FabricSwitch) if defined else ():
        edit.append(Patch("fabric_switch", switch.id, {"vlans": vids.write({1, 100, 110, 120} - {vid} | {900})}))
    return apply_edit(plan, tuple(edit))[0]


def guest_on(plan: Plan, host: str, segment: Segment) -> Plan:
    """A guest of a segment on a host, in the port group that has its VID there."""
    group = next(
        g
        for s in plan.where("virtual_switch", "host", host)
        for g in plan.where("port_group", "switch", s.id)
        if g.vid == segment.vid
    )
    tap = Adapter(id=f"t-{host}", name=f"t-{host}", guest=f"g-{host}", port_group=group.id, belongs=segment.id)
    return apply_edit(plan, (Put(Guest(id=f"g-{host}", name=f"g-{host}", host=host)), Put(tap)))[0]


class EverywhereTest(unittest.TestCase):
    def test_of_a_fleet_every_host_has_it_over_every_way_and_guests_on_any_two_hear_each_other(self) -> None:
        for seed, defined in ((1, False), (2, True)):
            plan = without(fleet(6, adapters_each=6, vlans=4, faults=0.0, seed=seed), 1001, defined)
            segment = next(s for s in plan.all(Segment) if s.vid == 1001)
            found = everywhere(judge(plan), segment.id)
            self.assertEqual((found.left, found.says), ((), f"Offer {segment.name} on 6 hosts"))
            after, back = apply_edit(plan, found.edit)
            judgement = judge(after)
            self.assertEqual(set(lattice(judgement).rows[segment.id]), {EVERY})
            self.assertEqual(apply_edit(after, back)[0], plan)
            hosts = sorted(after.of("host"))
            for host in hosts:
                after = guest_on(after, host, segment)
            wiring = judge(after).wiring
            for one, two in random.Random(seed).sample([(a, b) for a in hosts for b in hosts if a != b], 12):
                ends = [wiring.place(f"t-{host}") for host in (one, two)]
                self.assertTrue(ends[0] and ends[1] and trace(wiring, ends[0], ends[1]).delivered)
            with self.assertRaisesRegex(PlanError, "is offered and carried wherever it can be"):
                everywhere(judgement, segment.id)

    def test_cables_between_switches_that_need_it_not_stay_as_they_are(self) -> None:
        plan = without(fleet(60, adapters_each=4, vlans=4, faults=0.0), 1001)
        segment = next(s for s in plan.all(Segment) if s.vid == 1001)
        racks = {}
        for host in sorted(plan.of("host")):
            nic = plan.where("nic", "host", host)[0]
            cable = next(c for f in ("a", "b") for c in plan.where("cable", f, nic.id))
            port = plan.of("fabric_port").get(cable.a) or plan.get("fabric_port", cable.b)
            racks.setdefault(port.switch, []).append(host)
        self.assertGreater(len(racks), 2)
        chosen = [hosts[0] for hosts in list(racks.values())[:2]]
        found = everywhere(judge(plan), segment.id, chosen)
        after = apply_edit(plan, found.edit)[0]
        known = needs(judge(after))
        carried = 0
        for cable in after.all(Cable):
            ports = [after.of("fabric_port").get(end) for end in (cable.a, cable.b)]
            if not all(ports):
                continue
            has = [1001 in vids.members(p.allowed or "") for p in ports if p is not None]
            rows = [row for row in known.carried(cable) if 1001 in vids.members(row.vids)]
            self.assertFalse(any(row.need == SPARE for row in rows), cable.id)
            carried += all(has)
        self.assertGreater(carried, 0)
        inner = sum(c.a in plan.of("fabric_port") and c.b in plan.of("fabric_port") for c in plan.all(Cable))
        self.assertLess(carried, inner)

    def test_the_demo_plan_gains_and_loses_nobody_but_where_a_leak_waits(self) -> None:
        plan = demo_plan()
        judgement = judge(plan)
        for segment in plan.all(Segment):
            if not segment.vid:
                with self.assertRaisesRegex(PlanError, "has no VID"):
                    everywhere(judgement, segment.id)
                continue
            try:
                found = everywhere(judgement, segment.id)
            except PlanError as error:
                self.assertIn("wherever it can be", str(error))
                continue
            seen = preview(judgement, found.edit)
            worse = {move.endpoint for move in seen.moves if move.worse}
            # What leaks there already reaches further.
            self.assertEqual(bool(worse), segment.name == "berth planning", segment.name)
            row = lattice(seen.judgement).rows[segment.id]
            self.assertTrue(all(letter.lower() in (EVERY, SOME, "x", "u") for letter in row), (segment.name, row))
        mended = preview(judgement, everywhere(judgement, "segment-tide-gauges").edit).moves
        self.assertIn(("adapter-tide-gauge-view", "home"), [(m.endpoint, m.after) for m in mended])

    def test_hosts_without_a_way_out_are_left_and_said(self) -> None:
        plan, _ = apply_edit(demo_plan(), (Put(Host(id="tern", name="tern")),))
        found = everywhere(judge(plan), "segment-visitors")
        self.assertEqual(found.left, ("tern",))
        with self.assertRaisesRegex(PlanError, "tern has no switch with a way out"):
            everywhere(judge(plan), "segment-visitors", ["tern"])
        for segment, hosts in (("nothing", []), ("segment-visitors", ["nowhere"])):
            with self.assertRaises(PlanError):
                everywhere(judge(plan), segment, hosts)


class AtPortTest(unittest.TestCase):
    def test_a_laptop_hears_the_segment_and_has_a_free_address(self) -> None:
        plan = without(fleet(4, adapters_each=6, vlans=4, faults=0.0), 1001)
        segment = next(s for s in plan.all(Segment) if s.vid == 1001)
        host = sorted(plan.of("host"))[0]
        plan = apply_edit(plan, everywhere(judge(plan), segment.id, [host]).edit)[0]
        plan = guest_on(plan, host, segment)
        for switch in plan.all(FabricSwitch):
            port = FabricPort(id=f"{switch.id}/lab", switch=switch.id, name="lab", mode="trunk", allowed="5", native=6)
            with_port, _ = apply_edit(plan, (Put(port), Patch("segment", segment.id, {"subnets": ["10.99.0.0/24"]})))
            found = at_port(judge(with_port), port.id, segment.id, "laptop")
            self.assertNotIn("nobody", found.says)
            after, _ = apply_edit(with_port, found.edit)
            own = after.get("fabric_port", port.id)
            self.assertEqual((own.mode, own.vid, own.allowed, own.native), ("access", 1001, None, None))
            laptop = next(p for p in after.all("station_port") if p.port == port.id)
            self.assertEqual(laptop.addresses, ("10.99.0.1/24",))
            wiring = judge(after).wiring
            here, there = wiring.place(laptop.id), wiring.place(f"t-{host}")
            self.assertTrue(here and there and trace(wiring, here, there).delivered)
            self.assertTrue(here and there and trace(wiring, there, here).delivered)

    def test_where_nobody_is_reached_it_says_so(self) -> None:
        plan, _ = apply_edit(
            demo_plan(),
            (
                Put(FabricSwitch(id="attic", name="attic")),
                Put(FabricPort(id="attic/p1", switch="attic", name="p1", mode="access", vid=1)),
            ),
        )
        says = at_port(judge(plan), "attic/p1", "segment-ticketing", "laptop").says
        self.assertEqual(says, "Plug laptop into ticketing at port p1 of attic, where nobody of it is reached")

    def test_what_isnt_free_or_isnt_there_is_refused_with_the_field(self) -> None:
        plan = demo_plan()
        judgement = judge(plan)
        busy = next(p.port for p in plan.all("station_port"))
        lagged = next(p.id for p in plan.all(FabricPort) if p.lag)
        for port, segment, name, field in (
            ("nowhere", "segment-ticketing", "laptop", "port"),
            ("quay-a/p1", "segment-ticketing", "laptop", "port"),
            (busy, "segment-ticketing", "laptop", "port"),
            (lagged, "segment-ticketing", "laptop", "port"),
            ("marsh-a/p20", "nothing", "laptop", "segment"),
            ("marsh-a/p20", "segment-bubble", "laptop", "segment"),
            ("marsh-a/p20", "segment-ticketing", "  ", "name"),
        ):
            with self.subTest(port=port, segment=segment), self.assertRaises(PlanError) as refused:
                at_port(judgement, port, segment, name)
            self.assertEqual(refused.exception.problems[0].field, field)

    def test_port_groups_keep_their_name(self) -> None:
        plan = demo_plan()
        edit = everywhere(judge(plan), "segment-visitors").edit
        made = [op.record for op in edit if isinstance(op, Put) and isinstance(op.record, PortGroup)]
        self.assertEqual({(g.name, g.vid) for g in made}, {("visitors", 310)})


class RoutingTest(unittest.TestCase):
    def test_a_switch_routes_between_segments_of_which_nobody_is_the_gateway(self) -> None:
        made = pair("10, 20", "10, 20")
        made.kinds["segment"][0].update(subnets=["10.64.10.0/24"], gateways=["10.64.10.254"])
        made.segment(20, subnets=["10.64.20.0/24"])
        made.kinds["adapter"][0]["addresses"] = ["10.64.10.5/24"]
        made.put("port_group", "b/g20", switch="b/s", name="g20", mode="access", vid=20)
        made.put("guest", "far", host="b", name="far")
        at = {"guest": "far", "name": "f0", "port_group": "b/g20", "belongs": "s20"}
        made.put("adapter", "far0", addresses=["10.64.20.5/24"], **at)
        made.kinds["fabric_switch"][0]["vlans"] = "10"
        before = judge(made.plan())
        self.assertNotEqual(ping(before, made.kinds["adapter"][0]["id"], "far0").outcome, ANSWERED)
        found = routing(before, "sw", ["s10", "s20"])
        self.assertEqual(found.says, "Have sw route between s10 and s20")
        plan, back = apply_edit(before.plan, found.edit)
        after = judge(plan)
        [station] = plan.all("station")
        self.assertEqual((station.name, station.within, station.routes), ("sw routing", "sw", True))
        interfaces = {p.belongs: p.addresses for p in plan.all("station_port")}
        self.assertEqual(interfaces, {"s10": ("10.64.10.254/24",), "s20": ("10.64.20.1/24",)})
        self.assertEqual(plan.get("segment", "s20").gateways, ("10.64.20.1",))
        self.assertEqual(plan.get("fabric_switch", "sw").vlans, "10, 20")
        self.assertEqual(ping(after, made.kinds["adapter"][0]["id"], "far0").outcome, ANSWERED)
        self.assertEqual(set(after.verdicts().values()), {"home"})
        # Without the switch there is no way, and the router is gone with it.
        self.assertEqual(asked(after).ask("s10 survives any one switch").outcome, "broken")
        self.assertEqual(apply_edit(plan, back)[0], before.plan)
        with self.assertRaises(PlanError) as refused:
            routing(after, "sw", ["s10"])
        self.assertIn("sw has an interface in each of them already", str(refused.exception))

    def test_one_more_segment_of_which_somebody_else_is_the_gateway(self) -> None:
        before = judge(demo_plan())
        found = routing(before, "quay-a", ["segment-berth-planning"])
        plan, _ = apply_edit(before.plan, found.edit)
        after = judge(plan)
        found = routing(after, "quay-a", ["segment-berth-planning", "segment-tide-gauges"])
        self.assertEqual(
            found.says, "Have quay-a route between tide gauges; of tide gauges somebody else is the gateway"
        )
        plan, _ = apply_edit(plan, found.edit)
        [station] = plan.where("station", "within", "quay-a")
        ports = {p.port for p in plan.where("station_port", "station", station.id)}
        [port] = (plan.get("fabric_port", id) for id in ports)
        self.assertEqual((port.name, port.allowed), ("routing", "220, 230"))
        self.assertEqual(plan.get("segment", "segment-tide-gauges").gateways, ("10.65.30.1",))

    def test_what_cant_be_says_which_field_is_wrong(self) -> None:
        before = judge(demo_plan())
        unmanaged = next(s.id for s in before.plan.all("fabric_switch") if not s.managed)
        for switch, segments, field, words in (
            ("nowhere", ["segment-edge"], "switch", "no such switch"),
            (unmanaged, ["segment-edge"], "switch", "takes no settings"),
            ("quay-a", ["nothing"], "segments", "no such segment"),
            ("quay-a", ["segment-restore"], "segments", "has no VID"),
        ):
            with self.assertRaises(PlanError) as refused:
                routing(before, switch, segments)
            [problem] = refused.exception.problems
            self.assertEqual((problem.field, words in problem.message), (field, True), problem.message)
        edit = (Patch("segment", "segment-edge", {"subnets": ["2001:db8::/64"], "gateways": []}),)
        with self.assertRaises(PlanError) as refused:
            routing(judge(apply_edit(before.plan, edit)[0]), "quay-a", ["segment-edge"])
        self.assertIn("edge has no subnet of IPv4", str(refused.exception))

    def test_a_station_within_a_switch_is_plugged_into_no_other(self) -> None:
        plan = demo_plan()
        with self.assertRaises(PlanError) as refused:
            apply_edit(plan, (Patch("station", "quay-router", {"within": "marsh-a"}),))
        self.assertEqual({(p.kind, p.field) for p in refused.exception.problems}, {("station_port", "port")})
        self.assertIn("is of another switch than marsh-a", str(refused.exception))


class ShieldTest(unittest.TestCase):
    def setUp(self) -> None:
        self.before = judge(demo_plan())
        self.guests = {g.name: g.id for g in self.before.plan.all("guest")}

    def shield(self, *guests: str, nic: str = "", host: str = "razorbill", outside: str = "segment-edge") -> Brought:
        ids = [self.guests[name] for name in guests]
        return shield(self.before, host, "moat", outside, "10.79.1.0/24", ids, nic)

    def test_guests_get_out_by_the_firewall_alone_and_nobody_gets_in(self) -> None:
        for nic in ("", "razorbill/nic2"):
            found = self.shield("visitor-kiosk-1", "visitor-desk-1", nic=nic)
            self.assertEqual(
                found.says,
                "Put visitor-kiosk-1 and visitor-desk-1 behind moat; internet sees 3 addresses in place of 2",
            )
            plan, back = apply_edit(self.before.plan, found.edit)
            after = judge(plan)
            [inside] = plan.where("segment", "name", "behind moat")
            own = [a for a in plan.where("adapter", "belongs", inside.id) if not a.id.startswith("adapter-moat")]
            self.assertEqual(sorted(a.addresses for a in own), [("10.79.1.2/24",), ("10.79.1.3/24",)])
            for adapter in own:
                self.assertEqual(after.verdicts()[adapter.id], "home")
                for target in ("10.79.1.1", "198.51.100.7"):
                    self.assertEqual(ping(after, adapter.id, target).outcome, ANSWERED)
            # Whoever is outside doesn't get in where he hands his packets to the firewall: its filter drops them.
            via = plan.get("adapter", "adapter-moat-out").addresses[0].partition("/")[0]
            way = Put(Route(id="in", of="guest-edge-firewall", to=("10.79.1.0/24",), via=via))
            [line] = (line.id for line in plan.where("filter_line", "of", "guest-moat"))
            for edit, answers in (((way,), False), ((way, Drop("filter_line", line)), True)):
                known = judge(apply_edit(plan, edit)[0])
                answer = ping(known, "adapter-edge-firewall-out", "10.79.1.2")
                self.assertEqual(answer.outcome == ANSWERED, answers)
            [rule] = (r for r in plan.all("rule") if "moat" in r.text)
            self.assertEqual(asked(after).ask(rule.text).outcome, "holds")
            self.assertEqual(apply_edit(plan, back)[0], self.before.plan)

    def test_what_has_no_way_out_yet_says_so(self) -> None:
        self.assertIn("isn’t so yet: ", self.shield("visitor-portal", host="petrel").says)

    def test_more_addresses_than_are_lent_are_told(self) -> None:
        plan = apply_edit(self.before.plan, (Patch("outside", "internet", {"lends": 2}),))[0]
        self.before = judge(plan)
        self.assertNotIn("lent-addresses", {r.what for r in risks(self.before)})
        found = self.shield("visitor-kiosk-1")
        self.assertIn("internet sees 3 addresses in place of 2 of the 2 lent", found.says)
        after = judge(apply_edit(plan, found.edit)[0])
        [told] = (r for r in risks(after) if r.what == "lent-addresses")
        self.assertEqual(told.title, "3 addresses are taken on edge, and internet lends 2")
        [(title, edit)] = offers(after, told)
        self.assertEqual(title, "Have internet lend 3")
        mended = judge(apply_edit(after.plan, edit)[0])
        self.assertNotIn("lent-addresses", {r.what for r in risks(mended)})

    def test_what_cant_be_put_behind_one_says_which_field_is_wrong(self) -> None:
        good = {"host": "razorbill", "name": "moat", "outside": "segment-edge", "subnet": "10.79.1.0/24", "nic": ""}
        kiosk = self.guests["visitor-kiosk-1"]
        for changes, guests, field, words in (
            ({"host": "nowhere"}, [], "host", "no such host"),
            ({"name": " "}, [], "name", "needs a name"),
            ({"name": "edge-firewall"}, [], "name", "is called edge-firewall already"),
            ({"outside": "nothing"}, [], "outside", "no such segment"),
            ({"subnet": "ten"}, [], "subnet", "from /16 to /29"),
            ({"subnet": "2001:db8::/64"}, [], "subnet", "from /16 to /29"),
            ({"subnet": "10.65.40.0/25"}, [], "subnet", "overlaps with customs"),
            ({"nic": "gannet/nic0"}, [], "nic", "has no such NIC"),
            ({"nic": "razorbill/nic0"}, [], "nic", "in use"),
            ({}, ["ghost"], "guests", "no such guest"),
            ({}, [self.guests["ticketing-web-1"]], "guests", "is on gannet"),
            ({}, [self.guests["ticketing-api"]], "guests", "isn’t known"),
            ({"host": "gannet"}, [self.guests["edge-firewall"]], "guests", "forwards"),
            ({"subnet": "10.79.1.0/29"}, [kiosk] * 2, "", ""),
        ):
            said = {**good, **changes}
            host, name, outside, subnet, nic = (said[k] for k in ("host", "name", "outside", "subnet", "nic"))
            with self.subTest(changes=changes, guests=guests):
                if not field:
                    # The same guest twice is once.
                    self.assertIn(
                        "Put visitor-kiosk-1 behind", shield(self.before, host, name, outside, subnet, guests, nic).says
                    )
                    continue
                with self.assertRaises(PlanError) as refused:
                    shield(self.before, host, name, outside, subnet, guests, nic)
                [problem] = refused.exception.problems
                self.assertEqual((problem.field, words in problem.message), (field, True), problem.message)


class OwnNicsTest(unittest.TestCase):
    def fleet(self) -> Plan:
        """A fleet in which each host has one NIC more, plugged into an access port of another VID."""
        plan = fleet(4, adapters_each=6, vlans=4, faults=0.0, seed=3)
        roles = {110: "management", 120: "migration", 130: "storage"}
        edit: list[Operation] = [
            Patch("segment", s.id, {"role": roles.get(s.vid, "production")}) for s in plan.all(Segment)
        ]
        edit += [Patch("virtual_switch", switch, {"mtu": 1500}) for switch in plan.of("virtual_switch")]
        edit += [Patch("fabric_switch", switch, {"mtu": 1500}) for switch in plan.of("fabric_switch")]
        for host in plan.all(Host):
            near = far_end(plan, f"{host.id}/nic0")
            port = FabricPort(
                id=f"{host.id}-spare", switch=near.switch, name=f"spare-{host.name}", mode="access", vid=1
            )
            cable = Cable(id=f"{host.id}-spare-cable", a=f"{host.id}/nic7", b=port.id)
            edit += [Put(port), Put(Nic(id=f"{host.id}/nic7", host=host.id, name="nic7")), Put(cable)]
        return apply_edit(plan, tuple(edit))[0]

    def test_of_a_fleet_every_host_has_its_storage_on_a_nic_of_its_own_and_nobody_fares_worse(self) -> None:
        plan = self.fleet()
        before = judge(plan)
        self.assertEqual(len(shares(before).of(read("role storage and role production share no NIC"))[0].where), 4)
        found = own_nics(plan, "storage", (), ("nic7",), 9000)
        self.assertEqual((len(found.left), found.says[:32]), (0, "Give storage nic7 for itself on "))
        self.assertTrue(found.says.endswith(", and room for packets of 9,000 bytes"), found.says)
        after = judge(apply_edit(plan, found.edit)[0])
        self.assertEqual(after.verdicts(), before.verdicts())
        self.assertEqual(shares(after).of(read("role storage and role production share no NIC")), [])
        self.assertEqual(asked(after).ask("role storage carries 9000").outcome, "holds")
        self.assertNotEqual(asked(before).ask("role storage carries 9000").outcome, "holds")
        # Once more there is nothing left to do.
        with self.assertRaises(PlanError):
            own_nics(after.plan, "storage", (), ("nic7",), 9000)

    def test_who_lacks_the_nics_is_left_out_and_what_is_wrong_is_named(self) -> None:
        plan = self.fleet()
        host = min(plan.of("host"))
        gone = apply_edit(plan, (Drop("cable", f"{host}-spare-cable"), Drop("nic", f"{host}/nic7")))[0]
        found = own_nics(gone, "storage", (), ("nic7",))
        self.assertEqual(found.left, (host,))
        self.assertFalse(
            any(op.kind == "nic" and op.id.startswith(f"{host}/") for op in found.edit if isinstance(op, Patch))
        )
        for role, hosts, nics, mtu, field in (
            ("", (), ("nic7",), None, "role"),
            ("brass", (), ("nic7",), None, "role"),
            ("storage", ("nowhere",), ("nic7",), None, "hosts"),
            ("storage", (), (), None, "nics"),
            ("storage", (), ("nic7",), 64, "mtu"),
            ("storage", (host,), ("nic9",), None, "role"),
        ):
            with self.subTest(role=role, field=field), self.assertRaises(PlanError) as refused:
                own_nics(plan, role, hosts, nics, mtu)
            self.assertEqual([p.field for p in refused.exception.problems], [field])

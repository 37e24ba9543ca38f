"""Gestures: one edit for what people do to many records at once."""

from __future__ import annotations

import random
import unittest

from aptwire.forward.hearing import hears
from aptwire.forward.parts import NOW
from aptwire.judge.verdicts import judge
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Patch, apply_edit
from aptwire.plan.gestures import exchange, move_guests, offer, renumber, split_off, spread
from aptwire.plan.kinds import SPECS, FabricPort, Host, PortGroup
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.ports import far_end
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import Small, demo_plan, random_plan


def tags(plan: Plan) -> set[int]:
    """Every VID that is said by itself, not within a list."""
    singles = ((r, name) for r in plan for name, spec in SPECS[r.kind].items() if spec.kind == "vid")
    return {value for record, name in singles if (value := getattr(record, name))}


class RenumberTest(unittest.TestCase):
    @settings(max_examples=80)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans(), st.data())
    def test_nobody_fares_otherwise_and_the_old_number_is_gone(self, seed: int, rich: bool, odd: bool, data) -> None:
        plan = random_plan(seed, rich, odd)
        used = sorted(tags(plan))
        if not used:
            return
        old = data.draw(st.sampled_from(used))
        new = data.draw(st.integers(1, 4094).filter(lambda vid: vid not in used))
        after, back = apply_edit(plan, renumber(plan, old, new))
        self.assertNotIn(old, tags(after))
        self.assertIn(new, tags(after))
        before, now = judge(plan), judge(after)
        self.assertEqual(now.verdicts(), before.verdicts())
        self.assertEqual(now.counts(), before.counts())
        self.assertEqual(apply_edit(after, back)[0], plan)
        again, _ = apply_edit(after, renumber(after, new, old))
        self.assertEqual(judge(again).verdicts(), before.verdicts())

    def test_a_primary_vlan_may_have_a_greater_number_than_its_secondary_ones(self) -> None:
        plan = random_plan(4462, rich=True)
        before = judge(plan).verdicts()
        for new in (1, 13, 99, 4094):
            self.assertEqual(judge(apply_edit(plan, renumber(plan, 10, new))[0]).verdicts(), before, new)

    def test_lists_and_ranges_and_every_kind_follow(self) -> None:
        plan = demo_plan()
        after, _ = apply_edit(plan, renumber(plan, 210, 1210))
        for record in plan:
            other = after.get(record.kind, record.id)
            for name, spec in SPECS[record.kind].items():
                value, then = getattr(record, name), getattr(other, name)
                if spec.kind == "vid":
                    self.assertEqual(then, 1210 if value == 210 else value)
                elif spec.kind == "vids" and value is not None:
                    held, holds = vids.members(value, untagged=True), vids.members(then, untagged=True)
                    self.assertEqual((1210 in holds, 210 in holds), (210 in held, 210 in held and 1210 in held))
                    self.assertEqual(holds - {210, 1210}, held - {210, 1210})
                else:
                    self.assertEqual(then, value)

    def test_a_list_that_names_the_new_number_alone_gives_it_up(self) -> None:
        plan = demo_plan()
        port = next(p for p in plan.of("fabric_port").values() if p.mode == "trunk" and "240" not in p.allowed)
        plan, _ = apply_edit(plan, (Patch("fabric_port", port.id, {"allowed": "110, 2000-2010"}),))
        before = judge(plan)
        after, _ = apply_edit(plan, renumber(plan, 240, 2005))
        self.assertEqual(after.get("fabric_port", port.id).allowed, "110, 2000-2004, 2006-2010")
        self.assertEqual(judge(after).verdicts(), before.verdicts())

    def test_what_cannot_be_renumbered_says_why(self) -> None:
        plan = demo_plan()
        for old, new, field, said in (
            (210, 220, "new", "220 is in use already, by"),
            (210, 210, "new", "it has this number already"),
            (777, 778, "old", "nothing in this plan has VID 777"),
            (210, 4095, "new", "4095 is outside 1 to 4094"),
            (0, 5, "old", "0 is outside 1 to 4094"),
        ):
            with self.assertRaises(PlanError) as caught:
                renumber(plan, old, new)
            self.assertEqual(caught.exception.problems[0].field, field)
            self.assertIn(said, str(caught.exception))


if __name__ == "__main__":
    unittest.main()


class ExchangeTest(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans(), st.data())
    def test_with_their_cables_exchanged_too_nobody_fares_otherwise(
        self, seed: int, rich: bool, odd: bool, data
    ) -> None:
        plan = random_plan(seed, rich, odd)
        hosts = [h for h in sorted(plan.of("host")) if len(plan.where("nic", "host", h)) > 1]
        if not hosts:
            return
        host = data.draw(st.sampled_from(hosts))
        # Of one rank the name decides, and names stay where they are: so each gets a rank of its own first.
        nics = sorted(plan.where("nic", "host", host), key=lambda n: (n.rank, n.name, n.id))
        plan, _ = apply_edit(plan, tuple(Patch("nic", nic.id, {"rank": n}) for n, nic in enumerate(nics)))
        own = [(o.port_group, o.role, o.rank) for o in plan.of("group_order").values()]
        if len(set(own)) < len(own) or any(rank < len(nics) for _, _, rank in own):
            plan, _ = apply_edit(plan, tuple(Drop("group_order", id) for id in plan.of("group_order")))
        one, two = data.draw(
            st.lists(
                st.sampled_from([n.id for n in plan.where("nic", "host", host)]), min_size=2, max_size=2, unique=True
            )
        )
        try:
            after, back = apply_edit(plan, exchange(plan, one, two))
        except PlanError:
            return
        # What a NIC is itself goes along as well, so that the two are as if they had each other's names.
        other = {one: two, two: one}
        known = {id: plan.get("nic", id) for id in other}
        own = ("mac", "speed", "mtu", "link", "card", "wireless", "functions")
        edit = [Patch("nic", id, {name: getattr(known[to], name) for name in own}) for id, to in other.items()]
        ends = [(c, f, getattr(c, f)) for c in plan.of("cable").values() for f in ("a", "b")]
        edit += [Patch("cable", c.id, {f: other[end]}) for c, f, end in ends if end in other]
        adapters = (a for id in other for a in plan.where("adapter", "function_of", id))
        edit += [Patch("adapter", a.id, {"function_of": other[a.function_of]}) for a in adapters]
        whole, _ = apply_edit(after, tuple(edit))
        self.assertEqual(judge(whole).verdicts(), judge(plan).verdicts())
        self.assertEqual(apply_edit(after, back)[0], plan)
        self.assertEqual(apply_edit(after, exchange(after, one, two))[0], plan)

    def test_a_pattern_takes_the_other_one_then(self) -> None:
        plan = demo_plan()
        after, _ = apply_edit(plan, exchange(plan, "petrel/nic0", "petrel/nic2"))
        self.assertEqual(after.get("nic", "petrel/nic2").uplink, plan.get("nic", "petrel/nic0").uplink)
        taken = {t.part: t.nic for t in plan.all("stamp_nic")}
        now = {t.part: t.nic for t in after.all("stamp_nic")}
        self.assertEqual([nic for part, nic in now.items() if nic != taken[part]], ["petrel/nic2"])
        for one, two in (("petrel/nic0", "fulmar/nic0"), ("petrel/nic0", "petrel/nic0"), ("petrel/nic0", "none")):
            with self.assertRaises(PlanError):
                exchange(plan, one, two)


class MoveTest(unittest.TestCase):
    def test_adapters_sit_in_the_port_group_most_like_their_own(self) -> None:
        plan = demo_plan()
        guests = [g.id for g in plan.where("guest", "host", "fulmar") if g.name.startswith("ticketing")]
        self.assertTrue(guests)
        after, back = apply_edit(plan, move_guests(plan, guests, "gannet"))
        for id in guests:
            self.assertEqual(after.get("guest", id).host, "gannet")
            for adapter in after.where("adapter", "guest", id):
                self.assertEqual(adapter.port_group, "gannet/guests0/ticketing")
        self.assertEqual(apply_edit(after, back)[0], plan)
        before, now = judge(plan).verdicts(), judge(after).verdicts()
        moved = {a.id for id in guests for a in plan.where("adapter", "guest", id)}
        self.assertEqual({now[a] for a in moved}, {"home"})
        self.assertEqual(
            {e: v for e, v in now.items() if e not in moved}, {e: v for e, v in before.items() if e not in moved}
        )

    def test_what_finds_no_seat_stays_unattached_and_functions_are_counted(self) -> None:
        plan = demo_plan()
        guest = next(g.id for g in plan.all("guest") if g.name == "restore-check")
        after, _ = apply_edit(plan, move_guests(plan, [guest], "gannet"))
        self.assertEqual([a.port_group for a in after.where("adapter", "guest", guest)], [None])
        direct = next(a for a in plan.all("adapter") if a.type == "direct")
        for host in sorted(plan.of("host")):
            room = any(n.functions for n in plan.where("nic", "host", host))
            try:
                edit = move_guests(plan, [direct.guest], host)
            except PlanError as error:
                here = plan.get("guest", direct.guest).host == host
                self.assertTrue(here or not room, host)
                self.assertIn("already" if here else "no NIC there has a virtual function left", str(error))
                continue
            self.assertTrue(room)
            self.assertEqual(apply_edit(plan, edit)[0].get("guest", direct.guest).host, host)
        for guests, host in (([], "gannet"), (["nobody"], "gannet"), ([guest], "nowhere")):
            with self.assertRaises(PlanError):
                move_guests(plan, guests, host)

    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans(), st.data())
    def test_whoever_moves_there_and_back_is_where_he_was_or_unattached(self, seed: int, rich: bool, data) -> None:
        plan = random_plan(seed, rich)
        guests, hosts = sorted(plan.of("guest")), sorted(plan.of("host"))
        if not guests:
            return
        guest, host = data.draw(st.sampled_from(guests)), data.draw(st.sampled_from(hosts))
        try:
            after, _ = apply_edit(plan, move_guests(plan, [guest], host))
        except PlanError as error:
            self.assertTrue(error.problems)
            return
        self.assertEqual(
            {g.id: g.host for g in after.of("guest").values() if g.host != plan.get("guest", g.id).host}, {guest: host}
        )
        for adapter in after.where("adapter", "guest", guest):
            group = after.of("port_group").get(adapter.port_group)
            if group is not None:
                self.assertEqual(after.get("virtual_switch", group.switch).host, host)
        others = {a.id for a in after.all("adapter") if a.guest != guest}
        for id in others:
            self.assertEqual(after.get("adapter", id), plan.get("adapter", id))


class OfferTest(unittest.TestCase):
    def test_whoever_is_put_there_afterwards_is_carried_over_every_way(self) -> None:
        offered = 0
        for seed in range(120):
            plan, dice = random_plan(seed), random.Random(seed)
            segment, host = (dice.choice(sorted(plan.of(kind))) for kind in ("segment", "host"))
            try:
                edit = offer(plan, segment, [host])
            except PlanError as error:
                self.assertRegex(str(error), "no VID|no switch with a way out|offered there and let through")
                continue
            offered += 1
            after, _ = apply_edit(plan, edit)
            vid = plan.get("segment", segment).vid
            switches = {s.id for s in plan.where("virtual_switch", "host", host)}
            groups = [g for g in after.where("port_group", "vid", vid) if g.switch in switches]
            self.assertTrue(groups)
            for switch in {g.switch for g in groups if g.id not in plan.of("port_group")}:
                for team in judge(after).wiring.blocks[switch].teams:
                    for member in team.members[: team.usable]:
                        if member.link is None or not member.link.records[1]:
                            continue
                        port = after.of("fabric_port").get(member.link.records[1][0])
                        if port is not None and port.mode == "trunk" and port.allowed is not None:
                            self.assertIn(vid, vids.members(port.allowed))
            # Once is enough, and nobody who was home before is worse off by it.
            with self.assertRaises(PlanError):
                offer(after, segment, [host])
        self.assertGreater(offered, 40)

    def test_it_is_called_as_elsewhere_and_beside_what_is_like_it(self) -> None:
        plan = demo_plan()
        razorbill = next(h.id for h in plan.all(Host) if h.name == "razorbill")
        after, _ = apply_edit(plan, offer(plan, "segment-cctv", [razorbill]))
        (made,) = [g for g in after.all(PortGroup) if g.id not in plan.of("port_group")]
        self.assertEqual((made.name, made.vid, made.mode), ("CCTV", 240, "access"))


class SpreadTest(unittest.TestCase):
    def carriers(self, plan: Plan, switch: str) -> dict[str, str]:
        """Who carries each port group today, by their names."""
        wiring = judge(plan).wiring
        bridge = wiring.bridge_of[switch].number
        made = {}
        for group in plan.where("port_group", "switch", switch):
            orders = [group.id] if plan.where("group_order", "port_group", group.id) else [""]
            team = wiring.teams_at(bridge, orders[0])[0]
            carrying = wiring.carries(team, NOW)
            made[group.name] = carrying.nic.name if carrying is not None else ""
        return made

    def test_port_groups_go_over_both_members_the_fuller_ones_apart(self) -> None:
        plan = demo_plan()
        self.assertEqual(set(self.carriers(plan, "fulmar/guests0").values()), {"nic0"})
        edit = spread(plan, "fulmar/guests0/team0")
        after, back = apply_edit(plan, edit)
        found = self.carriers(after, "fulmar/guests0")
        sizes = {
            g.name: len(plan.where("adapter", "port_group", g.id))
            for g in plan.where("port_group", "switch", "fulmar/guests0")
        }
        load = {nic: sum(sizes[name] for name, own in found.items() if own == nic) for nic in ("nic0", "nic1")}
        self.assertLessEqual(abs(load["nic0"] - load["nic1"]), 1, found)
        self.assertEqual(apply_edit(after, back)[0], plan)
        with self.assertRaises(PlanError):
            spread(after, "fulmar/guests0/team0")

    def test_where_every_member_lets_the_same_through_nobody_fares_otherwise(self) -> None:
        made = Small()
        for vid in (10, 20):
            made.segment(vid)
        made.fabric("sw")
        for name in "ab":
            ports = [made.trunk(f"sw/{name}{n}", "10, 20") for n in (0, 1)]
            made.host(name, *ports)
            for vid in (10, 20):
                made.guest(name, f"{name}{vid}", vid)
        plan = made.plan()
        after, _ = apply_edit(plan, spread(plan, "a/u"))
        self.assertEqual(self.carriers(after, "a/s"), {"g10": "n0", "g20": "n1"})
        self.assertEqual(judge(after).verdicts(), judge(plan).verdicts())
        self.assertEqual(hears(after), hears(plan))

    def test_what_cannot_be_spread_says_why(self) -> None:
        for uplink, said in (
            ("nowhere", "no such uplink"),
            ("petrel/guests0/team0", "a pinned team shares out by itself"),
            ("petrel/quayside0/nic3", "no second NIC"),
        ):
            with self.assertRaises(PlanError) as caught:
                spread(demo_plan(), uplink)
            self.assertIn(said, str(caught.exception))


class SplitOffTest(unittest.TestCase):
    def test_a_role_gets_a_switch_of_its_own_and_its_ports_let_it_through(self) -> None:
        plan = demo_plan()
        edit = split_off(plan, "gannet/guests0", "migration", ["gannet/nic1"])
        after, back = apply_edit(plan, edit)
        port = after.get("host_port", "gannet/guests0/move")
        switch = after.get("virtual_switch", port.switch)
        self.assertEqual((switch.name, switch.host), ("migration", "gannet"))
        nics = [n.name for u in after.where("uplink", "switch", switch.id) for n in after.where("nic", "uplink", u.id)]
        self.assertEqual(nics, ["nic1"])
        self.assertEqual(judge(after).verdicts()[port.id], "home")
        self.assertEqual(apply_edit(after, back)[0], plan)

    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans(), st.data())
    def test_it_moves_all_of_the_role_and_nothing_else_or_says_why(self, seed: int, rich: bool, data) -> None:
        plan, _ = apply_edit(plan := random_plan(seed, rich), [Patch("segment", "seg-10", {"role": "storage"})])
        switch = data.draw(st.sampled_from(sorted(plan.of("virtual_switch"))))
        nics = sorted(n.id for n in plan.where("nic", "host", plan.get("virtual_switch", switch).host))
        if not nics:
            return
        nic = data.draw(st.sampled_from(nics))
        try:
            after, back = apply_edit(plan, split_off(plan, switch, "storage", [nic]))
        except PlanError as error:
            self.assertTrue(all(p.message for p in error.problems))
            return
        for group in plan.where("port_group", "switch", switch):
            stays = after.get("port_group", group.id).switch == switch
            self.assertEqual(stays, not (group.mode in ("access", "private") and group.vid == 10))
        far = far_end(after, nic)
        if isinstance(far, FabricPort) and far.mode == "trunk":
            self.assertIn(10, vids.members(far.allowed or ""))
        self.assertEqual(apply_edit(after, back)[0], plan)

    def test_what_cannot_be_split_off_says_why(self) -> None:
        for switch, role, nics, field in (
            ("nowhere", "storage", ["gannet/nic1"], "switch"),
            ("gannet/guests0", "brass", ["gannet/nic1"], "role"),
            ("gannet/guests0", "migration", [], "nics"),
            ("gannet/guests0", "migration", ["fulmar/nic1"], "nics"),
            ("gannet/guests0", "migration", ["gannet/nic2"], "nics"),
        ):
            with self.assertRaises(PlanError) as caught:
                split_off(demo_plan(), switch, role, nics)
            self.assertEqual(caught.exception.problems[0].field, field)

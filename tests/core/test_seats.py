"""Where an adapter sits down on another host, and what a move of several guests leaves behind."""

from __future__ import annotations

import unittest
from collections import Counter

from aptwire.plan.edits import Patch, Put, apply_edit
from aptwire.plan.gestures import place_guests
from aptwire.plan.kinds import Adapter, Guest, Host, Mirror, PortGroup, VirtualSwitch
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.ports import group_words
from aptwire.plan.seats import Seats, seats_of
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import demo_plan, random_plan

NAMES, VIDS = ("guests", "Guests", "crew", "cctv"), (10, 20, 30)


@st.composite
def port_groups(draw: st.DrawFn) -> PortGroup:
    """A port group of any mode, of few names and VIDs, so that several are alike."""
    mode = draw(st.sampled_from(("access", "trunk", "untagged")))
    number = draw(st.integers(0, 10**6))
    return PortGroup(
        id=f"g{number}",
        switch="s",
        name=draw(st.sampled_from(NAMES)),
        mode=mode,
        vid=draw(st.sampled_from(VIDS)) if mode == "access" else None,
        allowed=draw(st.sampled_from(("10", "10, 20"))) if mode == "trunk" else None,
        isolated=draw(st.booleans()),
    )


class SeatsTest(unittest.TestCase):
    @settings(max_examples=400)
    @given(st.lists(port_groups(), max_size=7, unique_by=lambda g: g.id), port_groups(), st.sampled_from((None, *VIDS)))
    def test_it_is_the_one_that_most_speaks_for(self, groups: list[PortGroup], own: PortGroup, vid: int | None) -> None:
        def rank(group: PortGroup) -> tuple[bool, ...]:
            words = group_words(group) == group_words(own)
            named = group.name == own.name
            return named and words, named, words, vid is not None and group.mode == "access" and group.vid == vid

        best = max(sorted(groups, key=lambda g: g.id), key=rank, default=None)
        wanted = best if best is not None and any(rank(best)) else None
        self.assertEqual(Seats(groups).like(own, vid), wanted)

    def test_every_port_group_of_a_plan_finds_itself_or_its_like(self) -> None:
        for seed in range(60):
            plan = random_plan(seed, rich=seed % 2 == 1)
            for host in plan.all(Host):
                seats = seats_of(plan, host.id)
                for switch in plan.where("virtual_switch", "host", host.id):
                    for group in plan.where("port_group", "switch", switch.id):
                        found = seats.like(group, None)
                        assert found is not None
                        self.assertEqual((found.name, group_words(found)), (group.name, group_words(group)))


class PlaceTest(unittest.TestCase):
    def test_several_go_to_several_hosts_as_one_edit_and_back(self) -> None:
        plan = demo_plan()
        guests = [g for g in plan.all(Guest) if g.host == "fulmar"]
        to = {g.id: host for g, host in zip(guests, ["gannet", "petrel"] * len(guests), strict=False)}
        after, back = apply_edit(plan, place_guests(plan, to))
        self.assertEqual({g: after.get("guest", g).host for g in to}, to)
        self.assertEqual(apply_edit(after, back)[0], plan)

    def test_names_that_are_taken_get_a_number(self) -> None:
        """Two guests whose adapters have one name, on two hosts, come to a third on which that name is taken too."""
        plan = demo_plan()
        hosts = ["fulmar", "petrel", "gannet"]
        made = []
        for host in hosts:
            group = f"{host}/guests0/ticketing"
            made += [
                Put(Guest(id=f"g-{host}", name=f"g-{host}", host=host)),
                Put(Adapter(id=f"a-{host}", name="tap-twin", guest=f"g-{host}", port_group=group)),
            ]
        plan, _ = apply_edit(plan, tuple(made))
        after, _ = apply_edit(plan, place_guests(plan, {"g-fulmar": "gannet", "g-petrel": "gannet"}))
        self.assertEqual(
            [after.get("adapter", f"a-{host}").name for host in hosts], ["tap-twin-2", "tap-twin-3", "tap-twin"]
        )
        on_host = Counter(
            a.name for g in after.where("guest", "host", "gannet") for a in after.where("adapter", "guest", g.id)
        )
        self.assertEqual(max(on_host.values()), 1)

    def test_a_mirror_goes_where_its_ends_part_and_stays_where_they_go_together(self) -> None:
        plan = demo_plan()
        mirror = next(iter(plan.all(Mirror)))
        source, target = (plan.get("adapter", end).guest for end in (mirror.source, mirror.target))
        parted, back = apply_edit(plan, place_guests(plan, {source: "fulmar"}))
        self.assertNotIn(mirror.id, parted.of("mirror"))
        self.assertEqual(apply_edit(parted, back)[0], plan)
        together, _ = apply_edit(plan, place_guests(plan, {source: "fulmar", target: "fulmar"}))
        self.assertIn(mirror.id, together.of("mirror"))
        asunder, _ = apply_edit(plan, place_guests(plan, {source: "fulmar", target: "gannet"}))
        self.assertNotIn(mirror.id, asunder.of("mirror"))

    def test_who_is_there_already_stays_as_he_is(self) -> None:
        plan = demo_plan()
        here = next(g for g in plan.all(Guest) if g.host == "fulmar")
        other = next(g for g in plan.all(Guest) if g.name == "berth-planner")
        edit = place_guests(plan, {here.id: "fulmar", other.id: "fulmar"})
        self.assertEqual({op.id for op in edit if isinstance(op, Patch) and op.kind == "guest"}, {other.id})
        for to in ({}, {here.id: "fulmar"}, {here.id: "nowhere"}, {"nobody": "fulmar"}):
            with self.assertRaises(PlanError):
                place_guests(plan, to)

    def test_a_host_without_a_switch_takes_guests_unattached(self) -> None:
        plan, _ = apply_edit(demo_plan(), (Put(Host(id="tern", name="tern")),))
        guest = next(g for g in plan.all(Guest) if g.name == "crew-roster")
        after, _ = apply_edit(plan, place_guests(plan, {guest.id: "tern"}))
        self.assertEqual([a.port_group for a in after.where("adapter", "guest", guest.id)], [None])
        named = Put(VirtualSwitch(id="tern/s", host="tern", name="s"))
        group = Put(PortGroup(id="tern/g", switch="tern/s", name="other name", mode="access", vid=220))
        plan, _ = apply_edit(plan, (named, group))
        after, _ = apply_edit(plan, place_guests(plan, {guest.id: "tern"}))
        self.assertEqual([a.port_group for a in after.where("adapter", "guest", guest.id)], ["tern/g"])

    @settings(max_examples=50)
    @given(st.integers(0, 10**9), st.data())
    def test_any_guests_to_any_hosts_leave_a_sound_plan(self, seed: int, data: st.DataObject) -> None:
        plan = random_plan(seed, rich=True)
        hosts = st.sampled_from(sorted(plan.of("host")))
        guests = sorted(plan.of("guest"))
        to = {g: data.draw(hosts) for g in guests if data.draw(st.booleans())}
        try:
            after, back = apply_edit(plan, place_guests(plan, to))
        except PlanError as error:
            # Nobody moves, or a direct adapter finds no function.
            self.assertTrue(error.problems)
            return
        self.assertEqual({g: after.get("guest", g).host for g in to}, to)
        self.assertEqual(apply_edit(after, back)[0], plan)
        stayed = [g for g in guests if g not in to]
        self.assertTrue(all(after.get("guest", g) == plan.get("guest", g) for g in stayed))


class OnePlanTest(unittest.TestCase):
    def test_an_empty_host_has_no_seat(self) -> None:
        self.assertIsNone(
            seats_of(Plan("empty"), "nowhere").like(PortGroup(id="g", switch="s", name="g", mode="untagged"), 10)
        )

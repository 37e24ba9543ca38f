"""Segments by hosts: what the lattice says of a way is what a frame sent over that way alone does."""

from __future__ import annotations

import random
import unittest

from aptwire.forward.trace import find_place, trace
from aptwire.judge.lattice import ABSENT, EVERY, LOCAL, NONE, OFF, PARTLY, READY, SOME, UNKNOWN, lattice
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Patch, Put, apply_edit
from aptwire.plan.kinds import Adapter, Guest, Host, PortGroup, Segment
from aptwire.plan.plan import Plan

from tests.support import demo_plan, random_plan


def letters(plan: Plan) -> dict[tuple[str, str], str]:
    """By the names of host and segment."""
    found = lattice(judge(plan))
    return {
        (plan.get("host", host).name, plan.get("segment", segment).name): letter
        for segment, row in found.rows.items()
        for host, letter in zip(found.hosts, row, strict=True)
    }


def with_probe(plan: Plan, switch: str, host: str, segment: Segment) -> Plan:
    """A port group of the segment on a switch, and an adapter in it."""
    return apply_edit(
        plan,
        (
            Put(PortGroup(id="probe-group", switch=switch, name="probe", mode="access", vid=segment.vid)),
            Put(Guest(id="probe", name="probe", host=host)),
            Put(
                Adapter(
                    id="probe-tap",
                    name="probe-tap",
                    guest="probe",
                    port_group="probe-group",
                    belongs=segment.id,
                    mac="02:00:00:ee:ee:01",
                )
            ),
        ),
    )[0]


class OneWayTest(unittest.TestCase):
    def test_each_way_carries_where_a_frame_sent_over_it_alone_arrives(self) -> None:
        seen = {True: 0, False: 0}
        for seed in range(400):
            plan, dice = random_plan(seed), random.Random(seed)
            judgement = judge(plan)
            found = lattice(judgement)
            for segment in (s for s in plan.all(Segment) if s.vid):
                row = dict(zip(found.hosts, found.rows[segment.id], strict=True))
                single = [h for h in plan.all(Host) if len(plan.where("virtual_switch", "host", h.id)) == 1]
                # Somebody who lives where the segment does: on a host all of whose ways lead there.
                there = [
                    a.id
                    for g in plan.where("port_group", "vid", segment.vid)
                    if g.mode == "access" and row[plan.get("virtual_switch", g.switch).host] == EVERY
                    for a in plan.where("adapter", "port_group", g.id)
                    if a.connected and plan.get("guest", a.guest).running
                ]
                for host in dice.sample(single, min(2, len(single))):
                    known = {h.id for h in single} - {host.id}
                    others = [a for a in there if plan.get("guest", plan.get("adapter", a).guest).host in known]
                    switch = plan.where("virtual_switch", "host", host.id)[0].id
                    groups = {g.id for g in plan.where("port_group", "switch", switch) if g.vid != segment.vid}
                    # Whoever is meant for it without its tag counts there, and the probe has the tag.
                    untagged = any(a.port_group in groups for a in plan.where("adapter", "belongs", segment.id))
                    if not others or untagged:
                        continue
                    teams = [t for t in judgement.wiring.blocks[switch].teams if not t.order]
                    members = [m for t in teams for m in t.members[: t.usable] if not m.one_way and not m.excluded]
                    # A switch with two teams leads from one to the other by itself, as long as both are up.
                    if any(m.link is None for m in members) or not members or len(teams) != 1:
                        continue
                    probed = with_probe(plan, switch, host.id, segment)
                    arrives = []
                    for member in members:
                        down = tuple(Patch("nic", m.nic.id, {"link": "down"}) for m in members if m is not member)
                        wiring = judge(apply_edit(probed, down)[0] if down else probed).wiring
                        there_, mine = find_place(wiring, others[0]), find_place(wiring, "probe-tap")
                        arrives.append(trace(wiring, mine, there_).delivered and trace(wiring, there_, mine).delivered)
                    offered = row[host.id] in (EVERY, SOME, NONE, UNKNOWN, LOCAL)
                    wanted = (EVERY, SOME, NONE) if offered else (READY, PARTLY, ABSENT)
                    letter = wanted[0] if all(arrives) else wanted[1] if any(arrives) else wanted[2]
                    self.assertEqual(row[host.id], letter, (seed, segment.name, host.name, arrives))
                    seen[any(arrives)] += 1
        self.assertGreater(min(seen.values()), 12, seen)


class DemoTest(unittest.TestCase):
    def test_what_the_demo_shows(self) -> None:
        said = letters(demo_plan())
        self.assertEqual(said["gannet", "CCTV"], EVERY)
        self.assertEqual(said["kittiwake", "tide gauges"], SOME)
        self.assertEqual(said["kittiwake", "storage"], NONE)
        self.assertEqual(said["petrel", "management"], OFF[NONE])
        self.assertEqual(said["razorbill", "CCTV"], READY)
        self.assertEqual(said["kittiwake", "bubble"], LOCAL)
        self.assertEqual(said["fulmar", "visitors"], ABSENT)

    def test_an_edit_moves_the_cell_that_it_is_about(self) -> None:
        plan = demo_plan()
        before = letters(plan)
        after = letters(apply_edit(plan, (Patch("fabric_port", "marsh-a/p3", {"native": 110}),))[0])
        moved = {key for key in before if before[key] != after[key]}
        self.assertEqual(moved, {("petrel", "management")})
        self.assertEqual(after["petrel", "management"], OFF[SOME])

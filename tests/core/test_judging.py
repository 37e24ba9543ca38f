"""Verdicts, findings, proofs and mends."""

from __future__ import annotations

import random
import unittest
from collections.abc import Callable
from dataclasses import replace
from typing import Any
from unittest import mock

from aptwire.formats.hosts import read_hosts
from aptwire.forward.classes import SPARE
from aptwire.forward.frames import Frames
from aptwire.forward.hearing import hears
from aptwire.forward.parts import State
from aptwire.forward.paths import Roads
from aptwire.forward.trace import trace
from aptwire.judge import steady
from aptwire.judge.causes import Sentences
from aptwire.judge.findings import everything, findings, proof
from aptwire.judge.judgement import Judgement
from aptwire.judge.mends import mends
from aptwire.judge.preview import moves, preview
from aptwire.judge.verdicts import judge, rejudge
from aptwire.judge.why import CUT_OFF, OPEN_END
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Patch, Put, apply_edit, touched
from aptwire.plan.kinds import AssumedFabric
from aptwire.plan.plan import Plan, PlanError
from aptwire.report import landings, summary
from hypothesis import example, given, settings
from hypothesis import strategies as st

from measure.fleet import fleet
from tests.support import VIDS, all_places, demo_plan, random_plan, two_hosts_files


class TwoHostsTest(unittest.TestCase):
    def test_wavering_follows_without_a_drill(self) -> None:
        plan, _ = read_hosts(two_hosts_files(), "two-hosts")
        judgement = judge(plan)
        verdicts = judgement.verdicts()
        wavering = sorted(e for e, v in verdicts.items() if v == "wavering")
        self.assertEqual(wavering, ["fulmar/tap-edge", "gannet/tap-tide1"])
        found = {f.verdict: f for f in findings(judgement)}
        self.assertEqual(found["wavering"].culprit[0], "rack-b/p2")
        self.assertEqual(
            found["wavering"].title, "edge-firewall and tide-gauge-ingest lose each other when nic0 of fulmar fails"
        )
        self.assertEqual(verdicts["fulmar/tap-cctv1"], "stranded")
        self.assertEqual(judgement.counts()["home"], 9)
        self.assertEqual(mends(judgement, found["wavering"])[0].title, "Allow 220 on port p2 of rack-b")


class DemoTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.plan = demo_plan()
        cls.judgement = judge(cls.plan)
        cls.findings = findings(cls.judgement)

    def finding(self, part: str):
        return next(f for f in self.findings if part in f.title)

    def test_verdicts_of_the_planted_faults(self) -> None:
        verdicts = self.judgement.verdicts()
        expected = {
            "adapter-tide-gauge-view": "wavering",
            "adapter-cctv-gate": "stranded",
            "adapter-tide-gauge-buoy": "astray",
            "adapter-berth-display": "exposed",
            "adapter-ticketing-db": "exposed",
            "adapter-ticketing-kiosk-2": "stranded",
            "adapter-visitor-portal": "unproven",
            "petrel/guests0/mgmt": "astray",
            "kittiwake/store0/store": "astray",
            "kittiwake/guests0/mgmt": "wavering",
            "adapter-ticketing-web-1": "home",
        }
        self.assertEqual({e: verdicts[e] for e in expected}, expected)
        self.assertEqual(self.judgement.counts()["idle"], 1)

    def test_every_finding_has_a_proof_and_a_mend(self) -> None:
        self.assertGreaterEqual(len({(f.what, f.verdict) for f in self.findings}), 6)
        for finding in self.findings:
            with self.subTest(finding.title):
                traces = proof(self.judgement, finding)
                self.assertTrue(traces and all(t.hops for t in traces))
                self.assertTrue(mends(self.judgement, finding))

    def test_what_people_alone_read_is_no_affair_of_frames(self) -> None:
        """Notes, owners, labels and lease servers move nobody, and put no host off its pattern."""
        plan = self.judgement.plan
        edit = [
            Patch(record.kind, record.id, {"note": f"of {record.id}", "owner": "the night shift"}) for record in plan
        ]
        edit += [Patch("cable", id, {"label": f"other {id}", "places": ["A 1"]}) for id in plan.of("cable")]
        edit += [Patch("segment", id, {"lease_servers": ["10.64.0.9"]}) for id in plan.of("segment")]
        after = preview(self.judgement, tuple(edit))
        self.assertEqual(after.moves, ())
        self.assertEqual(after.judgement.verdicts(), judge(after.judgement.plan).verdicts())
        about_them = {"marked-twice", "no-lease-server", "held-lease-server", "stray-lease-server"}
        found = ({f.id for f in everything(j) if f.what not in about_them} for j in (after.judgement, self.judgement))
        self.assertEqual(*found)

    def test_swapped_cables_are_one_finding_mended_by_swapping_back(self) -> None:
        found = self.finding("lose the rest of their segments")
        self.assertEqual(len(found.endpoints), 4)
        best = mends(self.judgement, found)[0]
        self.assertEqual(best.title, "Swap the cables of nic1 and nic2 of kittiwake")
        self.assertIn("kittiwake/store0/store", [m.endpoint for m in best.preview.moves])

    def test_a_leak_names_both_ends(self) -> None:
        found = self.finding("leak into each other")
        self.assertEqual(
            found.text, "Port x49 of marsh-a sends VID 220 untagged; port x49 of quay-a takes it in as 300."
        )

    def test_a_lost_twin_stops_exposing_once_disconnected(self) -> None:
        after = preview(self.judgement, (Patch("adapter", "adapter-restore-copy", {"connected": False}),))
        self.assertEqual(after.judgement.verdicts()["adapter-ticketing-db"], "home")

    def test_an_assumed_fabric_closes_open_ends(self) -> None:
        put = Put(AssumedFabric(id="assumed", site="Saltmarsh", allowed="300", native=300))
        drop = Patch("adapter", "adapter-edge-firewall-out", {"belongs": None})
        gate = Patch("segment", "segment-edge", {"gateways": []})
        line = Patch("station_port", "line-router/edge", {"belongs": None})
        after = preview(self.judgement, (put, drop, gate, line)).judgement.verdicts()
        self.assertEqual(after["adapter-visitor-portal"], "home")

    def test_summary_tells_belongs_and_lands(self) -> None:
        by_id = {e["id"]: e for e in landings(self.judgement)}
        buoy = by_id["adapter-tide-gauge-buoy"]["tags"][0]
        self.assertEqual((buoy["belongs"], buoy["lands_vid"], buoy["lands"]), ("segment-tide-gauges", 203, None))
        self.assertEqual(sum(summary(self.judgement)["counts"].values()), len(by_id))


class PropertiesTest(unittest.TestCase):
    @settings(max_examples=150)
    @given(st.integers(0, 10**9), st.booleans(), st.randoms(use_true_random=False))
    def test_verdicts_do_not_depend_on_record_order(self, seed: int, odd: bool, dice: random.Random) -> None:
        plan = random_plan(seed, odd=odd)
        shuffled = {}
        for record in dice.sample(list(plan), len(plan)):
            shuffled.setdefault(record.kind, {})[record.id] = record
        first, second = judge(plan), judge(Plan(plan.name, shuffled))
        self.assertEqual(first.verdicts(), second.verdicts())
        self.assertEqual([f.id for f in findings(first)], [f.id for f in findings(second)])

    @settings(max_examples=25)
    @given(st.integers(0, 10**9), st.booleans())
    def test_a_mend_does_what_its_preview_said(self, seed: int, odd: bool) -> None:
        plan = random_plan(seed, odd=odd)
        judgement = judge(plan)
        before = judgement.verdicts()
        for finding in findings(judgement)[:3]:
            for mend in mends(judgement, finding):
                mended, _ = apply_edit(plan, mend.edit)
                judged = judge(mended)
                after = judged.verdicts()
                moved = {
                    e: (before.get(e), after.get(e))
                    for e in before.keys() | after.keys()
                    if before.get(e) != after.get(e)
                }
                self.assertEqual(moved, {m.endpoint: (m.before, m.after) for m in mend.preview.moves})
                now = [judged.wiring.place(p.record) for p in finding.places]
                self.assertTrue(any(p is not None and judged.status_of(p) == 0 for p in now), mend.title)

    @settings(max_examples=150)
    @given(st.integers(0, 10**9), st.booleans())
    @example(370717, False)  # two hear each other over different uplinks, one of which would throw frames back
    @example(78, False)  # whom one misses is beside it in its switch, and kept from it there
    def test_everybody_who_is_not_home_has_a_finding_with_a_proof(self, seed: int, odd: bool) -> None:
        judgement = judge(random_plan(seed, odd=odd))
        listed = {e for f in findings(judgement) for e in f.endpoints}
        self.assertEqual(listed, {e for e, v in judgement.verdicts().items() if v != "home"})
        for finding in findings(judgement):
            self.assertTrue(finding.title and finding.text)
            self.assertTrue(all(t.hops for t in proof(judgement, finding)))

    @settings(max_examples=80)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans())
    def test_where_frames_are_said_to_end_is_where_their_trace_ends(self, seed: int, rich: bool, odd: bool) -> None:
        """What is found of many together, and by the arrays, is what each one's whole trace says."""
        judgement = judge(random_plan(seed, rich, odd))
        together, ended, seen = Sentences(judgement), ("dropped", "astray", "open"), set()
        for place in all_places(judgement.wiring):
            cause = judgement.cause_of(place) if place.stand.judged else None
            if cause is None or cause.what not in (CUT_OFF, OPEN_END) or place.stand in seen:
                continue
            # Those of one stand share what is said, in the words of the first.
            seen.add(place.stand)
            whole = [hop for found in Sentences(judgement).traces(place, cause) for hop in found.hops]
            wanted = next((hop for hop in whole if hop.outcome in ended), None)
            self.assertEqual(together.broken_at(place, cause), wanted, place.record)

    @settings(max_examples=40)
    @given(st.integers(0, 10**9))
    def test_a_full_cable_loss_leaves_nobody_better(self, seed: int) -> None:
        """Without any cable, no two places on different switches share a domain."""
        plan = random_plan(seed)
        after, _ = apply_edit(plan, tuple(Drop("cable", id) for id in plan.of("cable")))
        judgement = judge(after)
        landing = judgement.landing
        self.assertFalse(any(f.what == "leak" and f.place.bridge != f.towards.bridge for f in findings(judgement)))
        self.assertFalse((landing.rows.node[landing.ways.team >= 0] >= 0).any())


def some_edit(plan: Plan, dice: random.Random) -> Edit:
    """One change to a random record, sensible or not; empty where the dice found nothing to change."""
    kind = dice.choice(sorted(CHANGES))
    ids = sorted(plan.of(kind))
    if not ids:
        return ()
    record = plan.get(kind, dice.choice(ids))
    if kind == "port_group" and dice.random() < 0.4:
        return group_beside(plan, record, dice)
    change = CHANGES[kind](plan, record, dice)
    return (Drop(kind, record.id),) if change is None else (Patch(kind, record.id, change),)


def group_beside(plan: Plan, group: Any, dice: random.Random) -> Edit:
    """Another port group like this one, with nobody in it or with those of this one, or this one gone with all who are in it."""
    adapters = [a.id for a in plan.where("adapter", "port_group", group.id)]
    if dice.random() < 0.3:
        return (*(Patch("adapter", id, {"port_group": None}) for id in adapters), Drop("port_group", group.id))
    made = replace(
        group, id=plan.fresh_id("beside"), name=f"beside {dice.randrange(10**6)}", isolated=dice.random() < 0.3
    )
    moved = adapters if dice.random() < 0.3 else []
    return (Put(made), *(Patch("adapter", id, {"port_group": made.id}) for id in moved))


TAGS = [10, 11, 20, 30, 77, 78, 99]


STANDARD = {"vid": None, "allowed": None, "native": None, "members": "10, 20", "untagged": "10, 20", "pvid": 20}
SHORT = {"members": None, "untagged": None, "pvid": None}


def _flags(record: Any, dice: random.Random) -> dict[str, Any]:
    return dice.choice(
        [
            {"isolated": not record.isolated},
            {"reflects": not record.reflects},
            {"admits": dice.choice([None, "all", "untagged", "tagged"])},
            {"mode": "standard", **STANDARD},
        ]
    )


def _seat(plan: Plan, adapter: Any, dice: random.Random) -> dict[str, Any] | None:
    if dice.random() < 0.3:
        return None
    if dice.random() < 0.2:
        return dice.choice([{"isolated": True}, {"admits": "all"}, {"members": "10", "untagged": "10", "pvid": 10}])
    host = plan.get("guest", adapter.guest).host
    groups = [
        g.id for s in plan.where("virtual_switch", "host", host) for g in plan.where("port_group", "switch", s.id)
    ]
    return {"port_group": dice.choice([None, *groups])}


CHANGES: dict[str, Callable[[Plan, Any, random.Random], dict[str, Any] | None]] = {
    "adapter": _seat,
    "port_group": lambda p, r, d: d.choice(
        [{"mode": "access", "vid": d.choice(TAGS), "allowed": None, "native": None, **SHORT}, _flags(r, d)]
    ),
    "virtual_switch": lambda p, r, d: d.choice([{"filters": not r.filters}, {"partial": not r.partial}]),
    "fabric_port": lambda p, r, d: d.choice(
        [
            {
                "mode": "trunk",
                "vid": None,
                "allowed": vids.write(d.sample(TAGS, 3)),
                "native": d.choice([None, 10, 88]),
                **SHORT,
            },
            {"mode": "access", "vid": d.choice(TAGS), "allowed": None, "native": None, **SHORT},
            {"partial": not r.partial},
            _flags(r, d),
            {"enabled": not r.enabled},
            {"lag": None},
        ]
    ),
    "nic": lambda p, r, d: d.choice(
        [{"link": "down"}, {"link": "up"}, {"role": "excluded"}, {"rank": 5}, {"uplink": None}, {"wireless": True}]
    ),
    "cable": lambda p, r, d: None,
    "guest_tag": lambda p, r, d: {"vid": d.choice(TAGS)},
    "group_order": lambda p, r, d: d.choice([None, {"role": "active"}]),
    "host_port": lambda p, r, d: d.choice([{"vid": d.choice([None, *TAGS])}, {"connected": not r.connected}]),
    "uplink": lambda p, r, d: d.choice(
        [
            {"mode": d.choice(["standby", "lacp", "hashed"])},
            {"allowed": "0, 10", **SHORT},
            {"native": 10, **SHORT},
            {"isolated": not r.isolated},
            {"reflects": not r.reflects},
            {"vid": d.choice(TAGS)} if r.over else {name: STANDARD[name] for name in STANDARD if name != "vid"},
        ]
    ),
    "segment": lambda p, r, d: d.choice(
        [
            {"vid": d.choice(TAGS)},
            {"subnets": ["10.64.0.0/24"]},
            {"gateways": []},
            {"mtu": d.choice([576, 1500, 9000])},
            {"role": d.choice(["storage", "test"])},
        ]
    ),
    "secondary_vlan": lambda p, r, d: d.choice([None, {"vid": 13}]),
    "lag": lambda p, r, d: {"lacp": not r.lacp},
    "station_port": lambda p, r, d: None,
    "fabric_switch": lambda p, r, d: d.choice(
        [{"spanning_tree": not r.spanning_tree}, {"priority": 8192}, {"vlans": "10, 20"}]
    ),
    "guest": lambda p, r, d: {"running": not r.running},
    "host": lambda p, r, d: {"site": d.choice(["x", "y"])},
}


class EngineTakesTheEditTest(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.integers(0, 10**9))
    @example(4137)  # a wireless NIC loses its link: nobody is private behind it any more
    @example(3126)  # two bear a gateway's address: which is named first mustn't hang on the edits
    def test_after_any_series_of_edits_it_says_what_a_fresh_one_says(self, seed: int) -> None:
        dice = random.Random(seed)
        plan = random_plan(seed, rich=True, odd=seed % 2 > 0)
        judgement = judge(plan)
        for _ in range(6):
            edit = some_edit(plan, dice)
            try:
                plan, _ = apply_edit(plan, edit)
            except PlanError:
                continue
            before = judgement.verdicts()
            after = rejudge(judgement, plan, touched(edit))
            fresh = judge(plan)
            self.assertEqual(after.verdicts(), fresh.verdicts(), edit)
            self.assertEqual(after.counts(), fresh.counts(), edit)
            self.assertEqual(told(after), told(fresh), edit)
            self.assertEqual(judgement.verdicts(), before, "the judgement before stays as it was")
            moved = {m.endpoint: (m.before, m.after) for m in moves(judgement, after)}
            now = after.verdicts()
            wanted = {e: (before.get(e), now.get(e)) for e in before.keys() | now.keys() if before.get(e) != now.get(e)}
            self.assertEqual(moved, wanted)
            judgement = after

    def test_more_new_vids_than_there_is_spare_room_for(self) -> None:
        plan = demo_plan()
        judgement = judge(plan)
        for vid in range(1000, 1000 + 2 * SPARE):
            edit = (Patch("port_group", "gannet/guests0/edge", {"vid": vid}),)
            plan, _ = apply_edit(plan, edit)
            judgement = rejudge(judgement, plan, touched(edit))
        self.assertEqual(judgement.verdicts(), judge(plan).verdicts())


class FleetTakesEditsTest(unittest.TestCase):
    """A fleet as most are, without anything odd: what an edit doesn't touch is taken over from before."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.plan = fleet(50, 6, 40, faults=0.1)

    def edit(self, plan: Plan, dice: random.Random) -> Edit:
        """One of the edits that people make most."""

        def some(kind: str) -> Any:
            return plan.get(kind, dice.choice(sorted(plan.of(kind))))

        group, adapter, port = some("port_group"), some("adapter"), some("fabric_port")
        vid, few = dice.choice([1001, 1007, 2222, 3000]), dice.choice(["110, 120", "110, 1000-1039", "1-4094"])
        beside = dice.choice(sorted(g.id for g in plan.where("port_group", "switch", group.switch)))
        moving = [a.id for a in plan.where("adapter", "port_group", group.id)]
        edits: list[Edit] = [
            (Patch("port_group", group.id, {"vid": vid}),),
            tuple(Patch("adapter", id, {"port_group": beside}) for id in moving[:2]),
            (Patch("adapter", adapter.id, {"belongs": f"seg-{1000 + dice.randrange(40)}"}),),
            (Patch("guest", adapter.guest, {"running": dice.random() < 0.5}),),
            (Patch("host_port", some("host_port").id, {"vid": dice.choice([None, 110, 1003])}),),
            (Patch("fabric_port", port.id, {"allowed": few}),),
            (Patch("fabric_port", port.id, {"enabled": dice.random() < 0.5}),),
            (Patch("fabric_port", port.id, {"native": dice.choice([None, 110, 1001])}),),
            (Patch("nic", some("nic").id, {"link": dice.choice(["up", "down"])}),),
            (Patch("uplink", some("uplink").id, {"mode": dice.choice(["standby", "pinned"])}),),
            group_beside(plan, group, dice),
            (Patch("segment", "seg-110", {"gateways": dice.choice([["10.1.0.1"], []]), "subnets": ["10.1.0.0/16"]}),),
            (Patch("host_port", some("host_port").id, {"addresses": [f"10.1.0.{dice.randint(1, 3)}/16"]}),),
            (Drop("cable", some("cable").id),),
        ]
        return dice.choice([edit for edit in edits if edit])

    @settings(max_examples=6)
    @given(st.integers(0, 10**9))
    def test_after_any_series_of_edits_it_says_what_a_fresh_one_says(self, seed: int) -> None:
        dice, plan = random.Random(seed), self.plan
        judgement = judge(plan)
        told(judgement)
        for _ in range(12):
            edit = self.edit(plan, dice)
            if dice.random() < 0.3:
                tried = self.edit(plan, dice)
                rejudge(judgement, apply_edit(plan, tried)[0], touched(tried))
            plan, _ = apply_edit(plan, edit)
            before, judgement = judgement, rejudge(judgement, plan, touched(edit))
            fresh = judge(plan)
            self.assertEqual(judgement.verdicts(), fresh.verdicts(), edit)
            self.assertEqual(judgement.counts(), fresh.counts(), edit)
            now, was = fresh.verdicts(), before.verdicts()
            wanted = {e for e in was.keys() | now.keys() if was.get(e) != now.get(e)}
            self.assertEqual({m.endpoint for m in moves(before, judgement)}, wanted, edit)
            if dice.random() < 0.7:
                self.assertEqual(told(judgement), told(fresh), edit)

    def test_an_edit_of_one_port_group_is_no_other_hosts_affair(self) -> None:
        judgement = judge(self.plan)
        group = self.plan.where("port_group", "switch", "host-5/guests")[0]
        edit = (Patch("port_group", group.id, {"vid": 1001 if group.vid != 1001 else 1002}),)
        after = rejudge(judgement, apply_edit(self.plan, edit)[0], touched(edit))
        assert after.since is not None
        self.assertEqual(after.since.changes.blocks, {"host-5/guests"})
        same = judgement.wiring.blocks.items() & after.wiring.blocks.items()
        self.assertEqual(len(judgement.wiring.blocks) - len(same), 1)

    def test_an_empty_port_group_moves_nobody_unless_other_ports_are_what_they_are_by_it(self) -> None:
        isolated, like = (self.plan.where("port_group", "switch", f"host-{n}/guests")[0] for n in (6, 5))
        plan = apply_edit(self.plan, (Patch("port_group", isolated.id, {"isolated": True}),))[0]
        judgement = judge(plan)
        for said, moves_some in (({}, False), ({"isolated": True}, True)):
            edit = (Put(replace(like, id="beside", name="beside", **said)),)
            after = rejudge(judgement, apply_edit(plan, edit)[0], touched(edit))
            assert after.since is not None
            self.assertEqual(after.since.changes.blocks, {like.switch})
            self.assertEqual(like.switch in after.since.changes.apart, moves_some)


class FewMoveTest(unittest.TestCase):
    """Small fleets with much wrong in them, in which nearly every segment of which an edit moves somebody is judged by those who may have moved alone."""

    @settings(max_examples=16)
    @given(st.integers(0, 10**9))
    @example(43)  # one switch has so much of a segment that its failover takes the majority along
    @example(56)  # somebody comes to stand first in the group that others miss
    def test_verdicts_and_their_causes_are_those_of_a_fresh_one(self, seed: int) -> None:
        dice, takes = random.Random(seed), FleetTakesEditsTest()
        hosts, adapters, vlans = dice.choice([4, 5, 6, 8, 10]), dice.choice([3, 4]), dice.choice([2, 4])
        plan = fleet(hosts, adapters, vlans, faults=dice.choice([0, 0.1, 0.3]), seed=seed % 7)
        takes.plan = plan
        for _ in range(dice.choice([0, 5, 20])):
            plan = self.edited(takes, plan, dice)[0]
        judgement = judge(plan)
        with mock.patch.object(steady, "MANY", 1):
            for _ in range(14):
                after, edit = self.edited(takes, plan, dice)
                judgement, fresh, plan = rejudge(judgement, after, touched(edit)), judge(after), after
                self.assertEqual(self.causes(judgement), self.causes(fresh), edit)
                stands = [(of.known.standing.weight, of.known.standing.total) for of in (judgement, fresh)]
                self.assertEqual(*[[array.tolist() for array in of] for of in stands], edit)
                now, then = judgement.known.present, fresh.known.present
                self.assertEqual(
                    (sorted(now.count.tolist()), now.simple), (sorted(then.count.tolist()), then.simple), edit
                )

    def edited(self, takes: FleetTakesEditsTest, plan: Plan, dice: random.Random) -> tuple[Plan, Edit]:
        """The plan after one of the edits that people make most, where it can be made."""
        try:
            edit = takes.edit(plan, dice)
            return apply_edit(plan, edit)[0], edit
        except (PlanError, IndexError):
            return plan, ()

    def causes(self, judgement: Judgement) -> dict[str, tuple[object, ...]]:
        """What is said of the first place of each stand, and why."""
        found: dict[str, tuple[object, ...]] = {}
        for block in judgement.wiring.blocks.values():
            for stand in block.stands:
                status, cause = judgement.stand_verdict(stand)
                why = (cause.what, cause.state, cause.towards, cause.at, cause.detail) if cause is not None else ()
                found[stand.records[0]] = status, *why
        return found


def told(judgement: Judgement) -> list[tuple[object, ...]]:
    found = everything(judgement)
    return sorted((f.verdict, f.what, f.title, f.text, f.culprit, tuple(sorted(f.endpoints))) for f in found)


class PermissionTest(unittest.TestCase):
    @settings(max_examples=120)
    @given(st.integers(0, 10**9), st.sampled_from(VIDS))
    def test_a_permission_more_never_makes_anybody_deafer(self, seed: int, vid: int) -> None:
        plan = random_plan(seed, rich=True)
        before = hears(plan)
        trunks = sorted(p.id for p in plan.where("fabric_port", "mode", "trunk"))
        port = plan.get("fabric_port", random.Random(seed).choice(trunks)) if trunks else None
        if port is None:
            return
        after = hears(
            apply_edit(plan, (Patch("fabric_port", port.id, {"allowed": vids.with_vid(port.allowed, vid)}),))[0]
        )
        for sender, receivers in before.items():
            self.assertLessEqual(set(receivers), set(after[sender]), f"{sender} after {vid} on {port.id}")

    @settings(max_examples=120)
    @given(st.integers(0, 10**9))
    def test_may_includes_must(self, seed: int) -> None:
        """Who is home reaches its gateway and is reached by it, whichever member carries; who is stranded, over none."""
        judgement = judge(random_plan(seed, rich=True))
        wiring, plan = judgement.wiring, judgement.plan
        for place in all_places(wiring):
            segment = plan.of("segment").get(place.segment)
            if segment is None or place.stand.vni or not place.stand.judged or not place.context >= 0:
                continue
            owners = [wiring.place(r) for g in segment.gateways for r in wiring.bearers.get(g, ())]
            owners = [o for o in owners if o.segment == segment.id]
            right = [o for o in owners if judgement.status_of(o) in (0, 2, 3, 5)]
            verdict = judgement.status_of(place)
            if len(owners) != 1 or len(right) != 1 or verdict not in (0, 3) or right[0].record == place.record:
                continue
            states = [
                State({t.key: m.key})
                for t in wiring.teams_at(place.bridge, place.stand.order)
                for m in t.members[: t.usable]
            ]
            for state in states or [State()]:
                roads = Roads(wiring, state)
                both = roads.way(place, right[0]) is not None and roads.way(right[0], place) is not None
                if verdict == 3 and judgement.cause_of(place).towards != right[0].record:
                    continue  # Peers are cut off, or packets too large.
                if verdict == 0:
                    self.assertTrue(both, f"{place.record} is home and can’t meet {right[0].record} in {state}")
                else:
                    self.assertFalse(both, f"{place.record} is stranded and meets {right[0].record} in {state}")

    @settings(max_examples=120)
    @given(st.integers(0, 10**9))
    def test_who_is_home_in_an_overlay_hears_all_others_who_are(self, seed: int) -> None:
        plan = random_plan(seed, rich=True)
        judgement = judge(plan)
        home = [a.id for a in plan.where("adapter", "belongs", "seg-over") if judgement.verdict(a.id) == 0]
        frames = Frames(judgement.wiring)
        for one in home:
            self.assertLessEqual(set(home) - {one}, {other for other, _ in frames.reached(one, None)}, one)
            for other in home:
                a, b = judgement.wiring.place(one), judgement.wiring.place(other)
                self.assertTrue(trace(judgement.wiring, a, b).delivered, f"{one} to {other}")


if __name__ == "__main__":
    unittest.main()

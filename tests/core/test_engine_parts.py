"""The parts under the engine: a plan's indexes through edits, VID bits and classes, the spanning tree, loops, packet sizes, pages."""

from __future__ import annotations

import gc
import random
import threading
import time
import unittest
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import reduce
from unittest import mock

from aptwire.forward.around import AROUND
from aptwire.forward.classes import SPARE, Named, classify, refine
from aptwire.forward.compiling import compile_wiring, rewire
from aptwire.forward.domains import Pairings, core_links, crossing, solve
from aptwire.forward.fabric import header, joints_of, loops
from aptwire.forward.parts import STATIONS
from aptwire.forward.rules import RuleBook
from aptwire.forward.tree import Joint, bridge_id, spanning_tree
from aptwire.judge.facts import deviations, group_vids, passing
from aptwire.judge.preview import apart, moves, preview, shut_down
from aptwire.judge.verdicts import judge, rejudge
from aptwire.plan import layers, vids
from aptwire.plan.collecting import no_collecting
from aptwire.plan.edits import Drop, Operation, Patch, Put, apply_edit, touched
from aptwire.plan.kinds import KINDS, REFS, UNSEEN, FabricPort, FabricSwitch, Guest
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.ports import PortWords
from aptwire.plan.private import private_part
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_judging import some_edit
from tests.core.test_whole_wiring import overlay, private, ring, two_nics
from tests.support import demo_plan, pair, random_plan


class CollectingTest(unittest.TestCase):
    def setUp(self) -> None:
        self.assertTrue(gc.isenabled())

    def test_one_within_another_and_one_that_fails_leave_it_as_it_was(self) -> None:
        with no_collecting():
            with self.assertRaises(KeyError), no_collecting():
                raise KeyError
            self.assertFalse(gc.isenabled(), "the outer one goes on")
        self.assertTrue(gc.isenabled())

    def test_whoever_had_it_off_has_it_off_afterwards(self) -> None:
        gc.disable()
        self.addCleanup(gc.enable)
        with no_collecting():
            pass
        self.assertFalse(gc.isenabled())

    def test_side_by_side_it_is_on_again_when_all_are_done(self) -> None:
        both = threading.Barrier(2)

        def work(first: bool) -> None:
            with no_collecting():
                both.wait(10)
                # One ends before the other.
                time.sleep(0.01 if first else 0.05)

        for _ in range(10):
            with ThreadPoolExecutor(2) as beside:
                for done in [beside.submit(work, first) for first in (True, False)]:
                    done.result(10)
            self.assertTrue(gc.isenabled())


class IndexTest(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.integers(0, 10**9))
    def test_indexes_carried_through_edits_say_what_fresh_ones_do(self, seed: int) -> None:
        self.carried(seed)

    @settings(max_examples=60)
    @given(st.integers(0, 10**9))
    def test_so_do_those_of_kinds_with_very_many_records(self, seed: int) -> None:
        with mock.patch.multiple(layers, SMALL=1, MOST=3):
            self.carried(seed)

    def carried(self, seed: int) -> None:
        dice = random.Random(seed)
        plan = random_plan(seed, rich=True)
        asked = [(kind, field) for kind, fields in REFS.items() for field in fields] + [
            ("adapter", "name"),
            ("guest", "host"),
        ]
        for kind, field in asked:
            plan.grouped(kind, field)
            plan.where(kind, field, None)
        for _ in range(5):
            try:
                plan, _ = apply_edit(plan, some_edit(plan, dice))
            except PlanError:
                continue
        for kind, field in asked:
            wanted: dict[object, set[str]] = {}
            for record in plan.all(kind):
                wanted.setdefault(getattr(record, field), set()).add(record.id)
            without = wanted.pop(None, set())
            held = {value: {r.id for r in found} for value, found in plan.grouped(kind, field).items() if found}
            self.assertEqual(held, wanted, (kind, field))
            self.assertEqual({r.id for r in plan.where(kind, field, None)}, without, (kind, field))
            self.assertEqual({r.id for r in plan.having(kind, field)}, set().union(*wanted.values()), (kind, field))

    @settings(max_examples=100)
    @given(st.lists(st.dictionaries(st.integers(0, 20), st.one_of(st.none(), st.integers()), max_size=6), max_size=12))
    def test_a_layered_mapping_is_what_a_dict_would_be(self, series: list[dict[int, int | None]]) -> None:
        wanted = {n: n for n in range(10)}
        with mock.patch.multiple(layers, SMALL=3, MOST=8):
            found = layers.layered(wanted, {})
            for changes in series:
                before, kept = found, dict(wanted)
                found = layers.layered(found, changes)
                wanted = {k: v for k, v in (wanted | changes).items() if v is not None}
                self.assertEqual(dict(found), wanted)
                self.assertEqual((len(found), {k for k in range(21) if k in found}), (len(wanted), set(wanted)))
                self.assertEqual([found.get(k, -1) for k in range(21)], [wanted.get(k, -1) for k in range(21)])
                self.assertEqual(dict(before), kept, "the one before stays as it was")
                for one, two in ((before, found), (found, before), ({}, found)):
                    differ = {k for k in range(21) if one.get(k) != two.get(k)}
                    self.assertLessEqual(differ, set(layers.perhaps_differing(one, two)))

    @settings(max_examples=100)
    @given(st.lists(st.dictionaries(st.integers(0, 20), st.one_of(st.none(), st.integers()), max_size=6), max_size=8))
    def test_a_draft_and_a_row_with_others_in_it_are_what_a_dict_and_a_list_would_be(
        self, series: list[dict[int, int | None]]
    ) -> None:
        wanted, row = {n: n for n in range(10)}, tuple(range(10))
        held: Mapping[int, int] = wanted
        swapped: Sequence[int] = row
        with mock.patch.multiple(layers, SMALL=3, MOST=8):
            for changes in series:
                draft = layers.Draft(held)
                for key, value in changes.items():
                    if value is not None:
                        draft[key] = value
                    else:
                        draft.pop(key, None)
                wanted = {k: v for k, v in (wanted | changes).items() if v is not None}
                self.assertEqual((dict(draft), dict(draft.done())), (wanted, wanted))
                held = draft.done()
                places = {n: value for n, value in changes.items() if value is not None and n < 10}
                before, kept = swapped, list(swapped)
                swapped = layers.Swapped.of(swapped, places)
                self.assertEqual(list(swapped), [places.get(n, one) for n, one in enumerate(kept)])
                self.assertEqual(([swapped[n] for n in range(10)], swapped[2:5]), (list(swapped), list(swapped)[2:5]))
                self.assertEqual(list(before), kept, "the one before stays as it was")

    @settings(max_examples=100)
    @given(
        st.lists(st.integers(0, 15), unique=True, max_size=12),
        st.lists(st.dictionaries(st.integers(0, 20), st.booleans(), max_size=6), max_size=6),
    )
    def test_a_row_of_records_is_what_a_list_would_be(self, ids: list[int], series: list[dict[int, bool]]) -> None:
        def guest(n: int, turn: int) -> Guest:
            return Guest(id=f"g{n}", host="h", name=f"{n} in turn {turn}")

        wanted = [guest(n, 0) for n in ids]
        with mock.patch.multiple(layers, SMALL=3, MOST=8):
            row = layers.row_of(list(wanted))
            for turn, changes in enumerate(series, 1):
                made = {f"g{n}": guest(n, turn) if stays else None for n, stays in changes.items()}
                before, kept = row, list(row)
                row = layers.replaced(row, made)
                there = {one.id for one in wanted}
                wanted = [new for one in wanted if (new := made.get(one.id, one)) is not None]
                wanted += [new for id, new in made.items() if new is not None and id not in there]
                # What is gone and comes again may be where it was, or last.
                self.assertCountEqual(list(row), wanted)
                self.assertEqual((len(row), row[1:4]), (len(wanted), list(row)[1:4]))
                self.assertEqual(list(before), kept, "the one before stays as it was")

    @settings(max_examples=150)
    @given(
        st.lists(st.dictionaries(st.integers(0, 20), st.one_of(st.none(), st.integers()), max_size=4), max_size=5),
        st.lists(st.dictionaries(st.integers(0, 20), st.one_of(st.none(), st.integers()), max_size=4), max_size=5),
        st.integers(2, 12),
    )
    def test_what_may_differ_between_two_mappings_is_told_or_not_known(
        self, one: list[dict[int, int | None]], two: list[dict[int, int | None]], small: int
    ) -> None:
        with mock.patch.multiple(layers, SMALL=small, MOST=6):
            base: Mapping[int, int] = {n: n for n in range(10)}
            before = reduce(layers.layered, one, base)
            now = reduce(layers.layered, two, before)
            for a, b in ((before, now), (now, before), (base, now)):
                told = layers.differing(a, b)
                if told is not None:
                    self.assertLessEqual({n for n in range(21) if a.get(n) != b.get(n)}, set(told))
            self.assertEqual(list(layers.differing(now, now) or ()), [])

    def test_the_plan_before_an_edit_keeps_its_own_answers(self) -> None:
        plan = demo_plan()
        before = [g.id for g in plan.where("guest", "host", "gannet")]
        guest = Guest(id="guest-new", host="gannet", name="new")
        after, inverse = apply_edit(plan, (Put(guest), Patch("guest", before[0], {"running": False})))
        self.assertEqual([g.id for g in plan.where("guest", "host", "gannet")], before)
        self.assertEqual([g.id for g in after.where("guest", "host", "gannet")], [*before, "guest-new"])
        self.assertFalse(next(g for g in after.where("guest", "host", "gannet") if g.id == before[0]).running)
        back, _ = apply_edit(after, inverse)
        self.assertEqual({g.id for g in back.where("guest", "host", "gannet")}, set(before))

    def test_who_refers_to_a_record(self) -> None:
        found = {(r.kind, field) for r, field in demo_plan().referrers("nic", "gannet/nic0")}
        self.assertEqual(found, {("adapter", "function_of"), ("cable", "a")})


class VidTest(unittest.TestCase):
    @given(st.sets(st.integers(1, 4094), max_size=40))
    def test_bits_and_back(self, wanted: set[int]) -> None:
        number = vids.bits(vids.write(wanted))
        self.assertEqual(vids.of_bits(number), wanted)
        self.assertEqual(number, sum(1 << v for v in wanted))

    @given(st.lists(st.sets(st.integers(1, 4094), min_size=1, max_size=6), min_size=1, max_size=5))
    def test_finer_classes_keep_their_numbers_and_split_what_was_one(self, sets: list[set[int]]) -> None:
        classes = classify(demo_plan())
        finer = refine(classes, Named(frozenset({0}), frozenset(map(vids.write, sets))))
        if finer is None:
            self.assertGreater(sum(map(len, sets)), 0)
            return
        self.assertEqual(finer.count, classes.used + SPARE)
        for wanted in sets:
            for number in {int(finer.of[v]) for v in wanted}:
                self.assertTrue(set(finer.members[number]) <= wanted, "no class reaches over the set's edge")
        for number in range(classes.used):
            self.assertTrue(set(finer.members[number]) <= set(classes.members[number]))

    def test_a_rule_grows_with_the_classes_and_old_entries_stay(self) -> None:
        book = RuleBook(classify(demo_plan()))
        rule = book.words(PortWords(210, "110, 2000-2100", "110, 2000-2100", frozenset([210])))
        before = rule.out.copy()
        used = book.classes.used
        book.refined(Named(frozenset({2050}), frozenset()))
        self.assertEqual(before[:used].tolist(), rule.out[:used].tolist())
        number = int(book.classes.of[2050])
        self.assertEqual((rule.out[number], rule.into[number]), (number, number))
        book.refined(Named(frozenset({3000}), frozenset()))
        self.assertEqual(int(rule.out[int(book.classes.of[3000])]), -1)


class PairingTest(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.integers(0, 10**9))
    def test_what_is_kept_through_edits_is_what_would_be_made_anew(self, seed: int) -> None:
        """VIDs are named that nobody named before, links come and go: all pairings, and the sides of all links, stay right."""
        dice = random.Random(seed)
        judgement = judge(random_plan(seed, rich=True))
        for _ in range(6):
            plan = judgement.plan
            group = dice.choice(sorted(plan.of("port_group")) or [""])
            if group and dice.random() < 0.5:
                vid = dice.randrange(2, 4094)
                edit: tuple[Operation, ...] = (Patch("port_group", group, {"mode": "access", "vid": vid}),)
            else:
                edit = some_edit(plan, dice)
            try:
                after, _ = apply_edit(plan, edit)
            except PlanError:
                continue
            judgement = rejudge(judgement, after, touched(edit))
            wiring, pairings = judgement.wiring, judgement.landing.pairings
            for pairing in pairings.listed:
                near, far = pairing.rules
                self.assertEqual(pairing.there.tolist(), crossing(near, far).tolist())
                self.assertEqual(pairing.back.tolist(), crossing(far, near).tolist())
            tables = pairings.tables(wiring.classes.count)
            for table, made in zip(
                tables, ([p.there for p in pairings.listed], [p.back for p in pairings.listed]), strict=True
            ):
                self.assertEqual(table.tolist(), [array.tolist() for array in made])
            rows, pairs = pairings.sides(wiring.fabric.links, wiring.bridges)
            for link, row, pair_of in zip(wiring.fabric.links, rows.tolist(), pairs.tolist(), strict=True):
                near, far = link.rules
                self.assertEqual(row, [wiring.bridges[end].crossing_row for end in link.ends])
                self.assertEqual(pair_of, [pairings.number(near, far), pairings.number(far, near)])


def cable(a: str, b: str, number: int, speed: int) -> Joint:
    ports = [
        FabricPort(id=f"{s}/p{number}", switch=s, name=f"p{number}", mode="trunk", allowed="10", speed=speed)
        for s in (a, b)
    ]
    return Joint((a, b), (f"c{number}",), ((ports[0],), (ports[1],)))


class TreeTest(unittest.TestCase):
    @given(st.integers(0, 10**9))
    def test_what_is_not_blocked_is_a_tree_that_reaches_everybody(self, seed: int) -> None:
        dice = random.Random(seed)
        names = [f"s{n}" for n in range(dice.randint(2, 7))]
        switches = {
            n: FabricSwitch(
                id=n, name=n, spanning_tree=True, priority=dice.choice([0, 4096, 32768]), mac=f"02:00:00:00:00:{i:02x}"
            )
            for i, n in enumerate(names)
        }
        joints = []
        for number in range(dice.randint(1, 12)):
            a, b = dice.sample(names, 2)
            joints.append(cable(a, b, number, dice.choice([100, 1_000, 10_000])))
        tree = spanning_tree(switches, joints)
        parent = {n: n for n in names}

        def top(n: str) -> str:
            while parent[n] != n:
                n = parent[n]
            return n

        for joint in joints:
            if joint.key not in tree.blocked:
                a, b = map(top, joint.ends)
                self.assertNotEqual(a, b, "what carries closes no circle")
                parent[a] = b
        for joint in joints:
            self.assertEqual(top(joint.ends[0]), top(joint.ends[1]), "and everybody who was joined still is")
            self.assertEqual(tree.roots[joint.ends[0]], tree.roots[joint.ends[1]])
        for switch, root in tree.roots.items():
            self.assertLessEqual(bridge_id(switches[root]), bridge_id(switches[switch]))
            self.assertEqual(tree.cost[switch] == 0, switch == root)

    def test_a_lag_costs_as_its_cables_together(self) -> None:
        plan = demo_plan()
        joint = next(j for j in joints_of(plan) if "cable-quay" in j.cables)
        self.assertEqual((joint.speed, joint.cost), (10_000, 2_000))
        ports = tuple(tuple(side[0] for _ in range(2)) for side in joint.ports)
        self.assertEqual(Joint(joint.ends, ("a", "b"), ports).cost, 1_000)

    def test_loops_are_told_by_vid(self) -> None:
        made = ring()
        for port in made.kinds["fabric_port"][:4]:
            port["allowed"] = "10, 20"
        wiring = compile_wiring(made.plan())

        def passes(link, side: int) -> list[int]:
            there = crossing(link.rules[side], link.rules[1 - side])
            return [k for k in range(wiring.classes.used) if there[k] == k]

        found = loops(core_links(wiring), passes)
        self.assertEqual(len(found), 1)
        self.assertEqual([wiring.classes.vid(k) for k in found[0].classes], [10], "20 doesn't go all the way round")


class SizeTest(unittest.TestCase):
    def test_domains_of_large_packets_leave_narrow_cables_out(self) -> None:
        made = ring(spanning_tree=True)
        made.kinds["fabric_port"][0]["mtu"] = 1500
        wiring = compile_wiring(made.plan())
        tag, count = int(wiring.classes.of[10]), wiring.classes.count

        def together(least: int) -> bool:
            domains = solve(wiring, Pairings(), least_mtu=least)
            a, b = (int(domains.component[wiring.bridge_of[s].crossing_row * count + tag]) for s in "xy")
            return a == b

        self.assertEqual([together(1500), together(1501)], [True, False])

    def test_the_header_of_an_overlay(self) -> None:
        made = overlay()
        self.assertEqual(header(made.plan(), "a/hp"), 50)
        made.kinds["host_port"][0]["addresses"] = ["2001:db8::5/64"]
        self.assertEqual(header(made.plan(), "a/hp"), 70)


class FactTest(unittest.TestCase):
    def test_the_vids_that_a_port_group_uses(self) -> None:
        plan = demo_plan()
        used = {name: group_vids(plan, plan.get("port_group", f"{name}")) for name in plan.of("port_group")}
        self.assertEqual(used["gannet/guests0/firewall"], {210, 220, 230, 240})
        self.assertEqual(used["razorbill/guests0/kiosks"], {310, 311}, "it sends in one and hears the other")
        self.assertEqual(used["razorbill/guests0/restore"], set(), "an overlay goes over its host port")
        self.assertEqual(used["petrel/quayside0/edge"], {0})

    def test_the_vids_that_pass_at_a_port_are_those_that_its_switch_defines(self) -> None:
        made = pair("10, 20, 30")
        made.kinds["fabric_switch"][0]["vlans"] = "10, 30"
        plan = made.plan()
        self.assertEqual(passing(plan, plan.get("fabric_port", "sw/p1"), frozenset([10, 20, 30])), {10, 30})
        self.assertEqual(passing(plan, plan.get("fabric_port", "sw/p1"), frozenset([0, 20, 30])), {30})

    def test_a_deviation_is_a_word_of_its_own_that_says_something_else(self) -> None:
        plan = demo_plan()
        adapter = plan.get("adapter", "adapter-visitor-kiosk-2")
        group = plan.get("port_group", adapter.port_group)
        self.assertEqual(deviations(group, adapter), ("send_rate", "send_peak"))
        self.assertEqual(deviations(group, plan.get("adapter", "adapter-visitor-kiosk-1")), ())

    def test_parts_of_private_vlans(self) -> None:
        plan = private().plan()
        kinds = {vid: (part := private_part(plan, vid)) and part.type for vid in (10, 11, 12, 13)}
        self.assertEqual(kinds, {10: "promiscuous", 11: "isolated", 12: "community", 13: None})


class RewireTest(unittest.TestCase):
    def test_every_kind_says_what_hangs_on_it(self) -> None:
        self.assertEqual(list(AROUND), [kind for kind in KINDS if kind not in UNSEEN])

    def test_only_the_touched_switches_are_compiled_anew(self) -> None:
        plan = demo_plan()
        wiring = compile_wiring(plan)
        group = "fulmar/guests0/edge"
        for edit, wanted in (
            ((Patch("port_group", group, {"vid": 301}),), {"fulmar/guests0"}),
            ((Patch("fabric_port", "quay-b/p1", {"allowed": "110"}),), {"gannet/guests0"}),
            ((Patch("guest", "guest-cctv-gate", {"running": False}),), {"petrel/guests0"}),
            ((Patch("segment", "segment-edge", {"name": "rim"}),), {"razorbill/guests0", STATIONS}),
            ((Patch("limits", "limits", {"port_groups": 32}),), set()),
            ((Drop("cable", "cable-razorbill-nic2"),), set()),
        ):
            after, _ = apply_edit(plan, edit)
            fresh = rewire(wiring, after, touched(edit))
            changed = {key for key, block in fresh.blocks.items() if block is not wiring.blocks.get(key)}
            self.assertEqual(changed, wanted, edit)

    def test_a_guest_is_shut_down_for_an_adapter_that_is_not_to_be_plugged_while_it_runs(self) -> None:
        made = pair()
        made.put("adapter", "slow", guest=made.kinds["guest"][0]["id"], name="slow", hot_plug=False)
        plan, guest = made.plan(), made.kinds["guest"][0]["id"]

        def off(plan: Plan, *edit: Operation) -> list[str]:
            return shut_down(plan, apply_edit(plan, edit)[0], edit)

        self.assertEqual(off(plan, Drop("adapter", "slow")), [guest])
        self.assertEqual(off(plan, Patch("adapter", "slow", {"type": "emulated"})), [guest])
        self.assertEqual(
            off(plan, Patch("adapter", "slow", {"port_group": "a/g10"})), [], "a cable is moved, no adapter"
        )
        self.assertEqual(off(plan, Drop("adapter", "a1")), [])
        asleep, _ = apply_edit(plan, (Patch("guest", guest, {"running": False}),))
        self.assertEqual(off(asleep, Drop("adapter", "slow")), [])

    def test_what_stands_apart_is_what_moves_and_little_more(self) -> None:
        judgement = judge(demo_plan())
        seen = preview(judgement, (Patch("fabric_port", "quay-b/p2", {"allowed": "110"}),))
        found = apart(seen.judgement, judgement)
        self.assertIn("fulmar/guests0", found)
        self.assertNotIn("petrel/guests0", found)
        self.assertEqual({m.endpoint for m in moves(judgement, seen.judgement)}, {m.endpoint for m in seen.moves})

    def test_every_kind_can_come_and_go(self) -> None:
        """Dropping any record that nothing refers to, and putting it back, leads to the same verdicts as before."""
        plan = demo_plan()
        judgement = judge(plan)
        before = judgement.verdicts()
        gone = 0
        for kind in KINDS:
            for id in list(plan.of(kind))[:3]:
                if any(True for _ in plan.referrers(kind, id)):
                    continue
                try:
                    seen = preview(judgement, (Drop(kind, id),))
                except PlanError:
                    continue
                gone += 1
                self.assertEqual(seen.judgement.verdicts(), judge(seen.plan).verdicts(), (kind, id))
                self.assertEqual(preview(seen.judgement, seen.inverse).judgement.verdicts(), before, (kind, id))
        self.assertGreater(gone, 15)

    def test_a_team_that_loses_its_lag_is_seen_at_once(self) -> None:
        made = two_nics("lacp", {"lacp": True}, ("10", "20"))
        judgement = judge(made.plan())
        self.assertEqual(judgement.verdicts()["a1"], "wavering")
        seen = preview(judgement, (Patch("fabric_port", "sw/p1", {"lag": None}),))
        self.assertEqual(seen.judgement.verdicts()["a1"], "home", "the other port stands idle now")


if __name__ == "__main__":
    unittest.main()

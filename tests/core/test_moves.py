"""Where guests can run: what is said of every guest and host is what judging the moved plan says."""

from __future__ import annotations

import random
import unittest
from collections import Counter
from dataclasses import replace
from itertools import chain

from aptwire.judge.judgement import Judgement
from aptwire.judge.preview import preview
from aptwire.judge.verdicts import judge
from aptwire.judge.why import HOME
from aptwire.moving.clearing import clear
from aptwire.moving.faults import (
    APART,
    CUT,
    FARES,
    FUNCTION,
    GROUP,
    LARGE,
    LEASE,
    LETTERS,
    MEETS,
    NAMED,
    NOT,
    OPEN,
    RUNS,
    SOME,
    STORAGE,
    TAG,
    UNASKED,
)
from aptwire.moving.fitness import Fitness, fitness
from aptwire.moving.moves import by_guest, moving
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put, apply_edit
from aptwire.plan.gestures import move_guests
from aptwire.plan.kinds import Adapter, FabricPort, Guest, HostPort, Nic, PortGroup, Uplink
from aptwire.plan.plan import Plan, PlanError

from measure.fleet import fleet
from tests.support import demo_plan, random_plan

ALONE = GROUP | TAG | CUT | SOME | OPEN | MEETS | LARGE | LEASE
"""The faults that a verdict tells."""


def damaged(seed: int) -> Plan:
    """A small fleet with segments that many share, and faults everywhere: lists that lack a VID, cables pulled, ports off, port groups renamed or retagged."""
    plan, dice = fleet(6, adapters_each=20, vlans=4, faults=0.02, seed=seed), random.Random(seed)
    edit: list[Operation] = []
    for port in dice.sample(list(plan.all(FabricPort)), 4):
        if port.allowed:
            kept = {vid for vid in vids.members(port.allowed) if dice.random() < 0.85} or {1000}
            edit.append(Patch("fabric_port", port.id, {"allowed": vids.write(kept)}))
    for cable in dice.sample(list(plan.all("cable")), 1):
        edit.append(Drop("cable", cable.id))
    for nic in dice.sample(list(plan.all(Nic)), 1):
        edit.append(Patch("nic", nic.id, {"link": "down"}))
    for group in dice.sample(list(plan.all(PortGroup)), 4):
        if dice.random() < 0.5:
            edit.append(Patch("port_group", group.id, {"name": f"{group.name} other"}))
        elif group.mode == "access":
            edit.append(Patch("port_group", group.id, {"vid": dice.choice([1000, 1001, 1002, 1003])}))
    for uplink in dice.sample(list(plan.all(Uplink)), 1):
        edit.append(Patch("uplink", uplink.id, {"allowed": "1000-1001"}))
    return apply_edit(plan, tuple(edit))[0]


def crowded(plan: Plan) -> Plan:
    """A plan in which each adapter has four others beside it, so that nobody decides where his segment is."""
    edit: list[Operation] = []
    for adapter in plan.all(Adapter):
        if adapter.type == "direct" or plan.where("guest_tag", "adapter", adapter.id):
            continue
        for n in range(4):
            guest = replace(plan.get("guest", adapter.guest), id=f"{adapter.id}+{n}", name=f"{adapter.id}+{n}")
            edit.append(Put(guest))
            name = f"{adapter.name}+{n}"
            edit.append(Put(replace(adapter, id=f"{guest.id}+tap", name=name, guest=guest.id, addresses=(), mac=None)))
    return apply_edit(plan, tuple(edit))[0]


def verdict_after(judgement: Judgement, adapter: Adapter, host: str) -> int:
    """How an adapter stands once its guest alone is moved and everything judged anew."""
    edit = move_guests(judgement.plan, [adapter.guest], host)
    return preview(judgement, edit).judgement.verdict(adapter.id)


class EveryMoveTest(unittest.TestCase):
    def held(self, plan: Plan, dice: random.Random, most: int) -> Counter[tuple[str, bool]]:
        """Compare what is known of adapters that are home with what moving them does, and count."""
        judgement = judge(plan)
        known = Fitness(judgement, asking=0)
        seen: Counter[tuple[str, bool]] = Counter()
        cells = [
            (want, at)
            for want in known.wants
            if judgement.verdict(want.adapter.id) == HOME
            for at, host in enumerate(known.hosts)
            if plan.get("guest", want.adapter.guest).host != host and known.faults[want.number, at] != GROUP
        ]
        for want, at in dice.sample(cells, min(most, len(cells))):
            faults = int(known.faults[want.number, at])
            if faults & (UNASKED | FUNCTION):
                continue
            after = verdict_after(judgement, want.adapter, known.hosts[at])
            told = faults & ALONE
            with self.subTest(adapter=want.adapter.id, host=known.hosts[at], faults=faults):
                self.assertEqual(bool(told), after != HOME)
                if told and not told & GROUP:
                    letter = chr(LETTERS[told])
                    self.assertEqual({1: "u", 2: "l", 3: NOT, 4: NOT, 5: NOT}[after], letter)
            seen[chr(LETTERS[told]), after == HOME] += 1
        return seen

    def test_on_fleets_with_faults_the_arrays_say_what_moving_each_guest_does(self) -> None:
        seen: Counter[tuple[str, bool]] = Counter()
        for seed in range(40):
            seen += self.held(damaged(seed), random.Random(seed), 60)
        self.assertGreater(min(seen[RUNS, True], seen[NOT, False], seen["l", False]), 8, seen)

    def test_on_odd_little_plans_too(self) -> None:
        seen: Counter[tuple[str, bool]] = Counter()
        for seed in range(150):
            plan = crowded(random_plan(seed, rich=seed % 2 == 1, odd=seed % 3 == 2))
            seen += self.held(plan, random.Random(seed), 6)
        self.assertGreater(sum(seen.values()), 5, seen)

    def test_ids_and_order_mean_nothing(self) -> None:
        plan = damaged(3)
        turned = Plan(plan.name, {k: dict(reversed(list(plan.of(k).items()))) for k in {r.kind for r in plan}})
        one, two = moving(judge(plan)).all(), moving(judge(turned)).all()
        for guest, row in one.row_of.items():
            self.assertEqual(one.rows[row], two.rows[two.row_of[guest]])


class DemoTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.plan = demo_plan()
        cls.judgement = judge(cls.plan)
        cls.known = moving(cls.judgement)

    def letter(self, guest: str, host: str) -> str:
        own = next(g.id for g in self.plan.all(Guest) if g.name == guest)
        return self.known.letters(own)[self.known.fitness.hosts.index(host)]

    def reasons(self, guest: str, host: str) -> str:
        own = next(g.id for g in self.plan.all(Guest) if g.name == guest)
        return " ".join(reason.text for reason in self.known.reasons(own, host))

    def test_each_reason_is_said_and_is_as_grave_as_the_letter(self) -> None:
        at = {"r": 0, "c": 1, "l": 2, "u": 3, "?": 4, "x": 5}
        for guest in self.plan.all(Guest):
            for host, letter in zip(self.known.fitness.hosts, self.known.letters(guest.id), strict=True):
                if host == guest.host:
                    continue
                found = self.known.reasons(guest.id, host)
                self.assertEqual(max((at[r.letter] for r in found), default=0), at[letter], (guest.name, host))
                self.assertEqual([at[r.letter] for r in found], sorted((at[r.letter] for r in found), reverse=True))

    def test_what_hosts_lack_is_said_in_the_words_of_the_plan(self) -> None:
        self.assertEqual(self.letter("crew-roster", "gannet"), RUNS)
        self.assertIn(
            "no port group on razorbill like its own, berth planning", self.reasons("crew-roster", "razorbill")
        )
        self.assertIn(
            "fulmar reaches storage on storage, and razorbill doesn’t", self.reasons("crew-roster", "razorbill")
        )
        self.assertIn("no NIC on fulmar that has a virtual function left", self.reasons("tide-model", "fulmar"))
        self.assertIn("over some ways of port group ticketing only", self.reasons("ticketing-watch", "kittiwake"))
        self.assertIn("The mirror between it and", self.reasons("ticketing-watch", "fulmar"))
        with self.assertRaises(PlanError):
            self.known.reasons("nobody", "fulmar")

    def test_without_a_migration_network_a_guest_goes_switched_off(self) -> None:
        drops: list[Operation] = [
            Patch("host_port", port.id, {"services": []})
            for port in self.plan.all(HostPort)
            if "migration" in port.services and port.switch.startswith("gannet")
        ]
        after = moving(judge(apply_edit(self.plan, tuple(drops))[0]))
        guest = next(g.id for g in self.plan.all(Guest) if g.name == "crew-roster")
        self.assertTrue(int(after.faults(guest)[after.fitness.hosts.index("gannet")]) & APART)
        self.assertEqual(after.letters(guest)[after.fitness.hosts.index("gannet")], "c")
        self.assertIn("gannet has no host port for migration", after.reasons(guest, "gannet")[0].text)
        # One that failed needs none.
        self.assertEqual({p.letter for p in clear(after.judgement, "fulmar", failed=True).places} - set("rcl"), set())

    def test_migration_over_a_router_counts_and_a_cut_one_does_not(self) -> None:
        """Two hosts whose migration ports are in different subnets meet where a router leads there and back, and no longer once it is off."""
        plan, _ = apply_edit(self.plan, moved_migration())
        whole, off = (
            moving(judge(plan)),
            moving(judge(apply_edit(plan, (Patch("guest", "hop", {"running": False}),))[0])),
        )
        self.assertTrue(whole.ground.met("gannet", "razorbill"))
        self.assertFalse(off.ground.met("gannet", "razorbill"))

    def test_storage_that_nobody_knows_is_unproven(self) -> None:
        store = self.plan.get("host_port", "fulmar/store0/store")
        cabled = [
            n for n in self.plan.where("nic", "host", "gannet") if n.uplink and n.uplink.startswith("gannet/store0")
        ]
        edit = tuple(Drop("cable", c.id) for n in cabled for f in ("a", "b") for c in self.plan.where("cable", f, n.id))
        self.assertTrue(edit)
        after = moving(judge(apply_edit(self.plan, edit)[0]))
        self.assertIn(store.belongs, after.ground.doubted["gannet"] | after.ground.storage["gannet"] | {store.belongs})
        guest = next(g.id for g in self.plan.all(Guest) if g.name == "crew-roster")
        faults = int(after.faults(guest)[after.fitness.hosts.index("gannet")])
        self.assertTrue(faults & (OPEN | STORAGE))


def moved_migration() -> Edit:
    """Razorbill migrates in a segment of its own, and a guest routes between that and the others'."""
    return (
        Patch("host_port", "razorbill/guests0/move", {"gateway": None}),
        Put(Guest(id="hop", name="hop", host="razorbill", routes=True)),
        Put(PortGroup(id="far", switch="razorbill/guests0", name="far", mode="access", vid=129)),
        Put(PortGroup(id="near", switch="razorbill/guests0", name="near", mode="access", vid=120)),
        Put(Adapter(id="hop-near", name="hop-near", guest="hop", port_group="near", addresses=("10.64.120.9/24",))),
        Put(Adapter(id="hop-far", name="hop-far", guest="hop", port_group="far", addresses=("10.64.129.1/24",))),
        Patch(
            "host_port",
            "razorbill/guests0/move",
            {"vid": 129, "addresses": ["10.64.129.15/24"], "gateway": "10.64.129.1", "belongs": None},
        ),
        Patch("host_port", "gannet/guests0/move", {"gateway": "10.64.120.9"}),
    )


class TakenOutTest(unittest.TestCase):
    def test_everybody_has_one_place_or_a_reason_and_the_edit_does_as_it_says(self) -> None:
        for plan in (demo_plan(), damaged(1), damaged(2)):
            judgement = judge(plan)
            known = moving(judgement)
            for host in sorted(plan.of("host")):
                for failed in (False, True):
                    found = clear(judgement, host, failed)
                    guests = {g.id for g in plan.where("guest", "host", host)}
                    placed = {p.guest: p.host for p in found.places}
                    self.assertEqual(guests, placed.keys() | {left.guest for left in found.left})
                    self.assertEqual(len(guests), len(found.places) + len(found.left))
                    after = apply_edit(plan, found.edit)[0] if found.edit else plan
                    self.assertEqual(placed, {g: after.get("guest", g).host for g in placed})
                    self.assertTrue(all(after.get("guest", left.guest).host == host for left in found.left))
                    for place in found.places:
                        at = known.fitness.hosts.index(place.host)
                        self.assertEqual(known.letters(place.guest)[at], place.letter)
                        self.assertIn(place.letter, "rlc")
                    for left in found.left:
                        others = known.letters(left.guest)
                        at = known.fitness.hosts.index(host)
                        self.assertFalse(
                            set(others[:at] + others[at + 1 :]) & set("rlc") and not _direct(plan, left.guest)
                        )
                        self.assertTrue(left.why)

    def test_they_are_spread_and_who_can_choose_least_goes_first(self) -> None:
        plan = fleet(6, adapters_each=12, vlans=1, faults=0.0)
        judgement = judge(plan)
        host = sorted(plan.of("host"))[0]
        found = clear(judgement, host)
        self.assertEqual(found.left, ())
        self.assertEqual(found.worse(judgement), [])
        loads = Counter(apply_edit(plan, found.edit)[0].get("guest", g.id).host for g in plan.all(Guest))
        self.assertLessEqual(max(loads.values()) - min(loads.values()), 1)
        self.assertNotIn(host, loads)

    def test_the_last_virtual_function_is_given_once(self) -> None:
        plan = demo_plan()
        direct = next(a for a in plan.all(Adapter) if a.type == "direct")
        own = plan.get("guest", direct.guest)
        double = (
            Put(Guest(id="second", name="second", host=own.host)),
            Patch("nic", direct.function_of, {"functions": 4}),
            Put(
                Adapter(
                    id="second-vf",
                    name="second-vf",
                    guest="second",
                    type="direct",
                    function_of=direct.function_of,
                    function_vid=direct.function_vid,
                    belongs=direct.belongs,
                )
            ),
        )
        plan, _ = apply_edit(plan, double)
        others = [n for n in plan.all(Nic) if n.functions and n.host != own.host]
        limit = tuple(
            Patch("nic", n.id, {"functions": len(plan.where("adapter", "function_of", n.id)) + 1}) for n in others[:1]
        )
        none = tuple(
            Patch("nic", n.id, {"functions": None})
            for n in others[1:]
            if not plan.where("adapter", "function_of", n.id)
        )
        plan, _ = apply_edit(plan, (*limit, *none))
        found = clear(judge(plan), own.host, failed=True)
        there = [p for p in found.places if p.guest in (own.id, "second")]
        self.assertLessEqual(len(there), 1)

    def test_no_such_host_is_told(self) -> None:
        with self.assertRaises(PlanError):
            clear(judge(demo_plan()), "nowhere")

    def test_with_one_host_alone_nobody_has_a_place(self) -> None:
        plan = demo_plan()
        alone = Plan("alone", {"host": {"h": plan.get("host", "gannet")}})
        alone, _ = apply_edit(
            Plan("alone"), (Put(plan.get("host", "gannet")), Put(Guest(id="g", name="g", host="gannet")))
        )
        found = clear(judge(alone), "gannet")
        self.assertEqual([left.why for left in found.left], [("There is no other host.",)])


def _direct(plan: Plan, guest: str) -> bool:
    return any(a.type == "direct" for a in plan.where("adapter", "guest", guest))


class GroundTest(unittest.TestCase):
    def test_hosts_of_one_class_miss_the_same_and_nobody_misses_anything_at_home(self) -> None:
        for plan in (demo_plan(), damaged(4)):
            ground = moving(judge(plan)).ground
            class_of, hosts = ground.classes
            for host in plan.of("host"):
                like = hosts[class_of[host]]
                self.assertEqual(
                    (ground.storage[host], ground.migration[host]), (ground.storage[like], ground.migration[like])
                )
                self.assertFalse(int(ground.faults[class_of[host], class_of[host]]) & STORAGE)
            for one in hosts:
                for two in hosts:
                    self.assertEqual(ground.met(one, two), ground.met(two, one))

    def test_a_migration_port_that_is_cut_off_meets_nobody(self) -> None:
        plan = demo_plan()
        self.assertTrue(moving(judge(plan)).ground.met("gannet", "fulmar"))
        edit = (Patch("host_port", "gannet/guests0/move", {"vid": 999, "gateway": None}),)
        ground = moving(judge(apply_edit(plan, edit)[0])).ground
        self.assertFalse(ground.met("gannet", "fulmar"))
        self.assertTrue(ground.met("fulmar", "razorbill"))

    def test_a_storage_port_that_is_astray_is_none(self) -> None:
        plan = demo_plan()
        self.assertEqual(moving(judge(plan)).ground.storage["gannet"], {"segment-storage"})
        self.assertEqual(moving(judge(plan)).ground.storage["kittiwake"], frozenset())
        self.assertEqual(moving(judge(plan)).ground.storage["razorbill"], frozenset())


class ListedTest(unittest.TestCase):
    def test_every_other_host_stands_once_beside_each_guest(self) -> None:
        plan = demo_plan()
        judgement = judge(plan)
        listed = by_guest(judgement)
        self.assertEqual(sorted(name for name, _, _ in listed), sorted(g.name for g in plan.all(Guest)))
        hosts = {h.name for h in plan.all("host")}
        letters = dict(zip(range(5), ("r", "c", "l", "u?", NOT), strict=True))
        known = moving(judgement)
        names = [plan.get("host", id).name for id in known.fitness.hosts]
        ids = {g.name: g.id for g in plan.all(Guest)}
        for name, host, groups in listed:
            self.assertEqual(sorted(chain.from_iterable(groups)), sorted(hosts - {host}))
            row = dict(zip(names, known.letters(ids[name]), strict=True))
            for n, of in enumerate(groups):
                self.assertTrue(all(row[other] in letters[n] for other in of))


class WordsTest(unittest.TestCase):
    def test_every_letter_has_its_words_and_every_fault_its_letter(self) -> None:
        self.assertEqual({chr(letter) for letter in set(LETTERS.tolist())}, set(FARES))
        self.assertEqual(chr(LETTERS[0]), RUNS)
        self.assertEqual(chr(LETTERS[NAMED | CUT]), NOT)

    def test_it_is_worked_out_once(self) -> None:
        judgement = judge(demo_plan())
        self.assertIs(fitness(judgement), fitness(judgement))
        self.assertIs(moving(judgement), moving(judgement))

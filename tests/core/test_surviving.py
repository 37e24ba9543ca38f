"""What a segment survives, against trying every failure with the exact search, and what is said of it."""

from __future__ import annotations

import itertools
import unittest

from aptwire.forward.paths import Roads
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Drop, Edit, Patch, apply_edit
from aptwire.plan.kinds import PLACES
from aptwire.plan.plan import Plan
from aptwire.plan.sentences import FAILING, FAILING_TWO, RuleError, Survives, read
from aptwire.rules import surviving
from aptwire.rules.answer import BROKEN, HOLDS, NOBODY, UNKNOWN
from aptwire.rules.asking import asked
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import Small, demo_plan, pair, random_plan


def without(plan: Plan, thing: str) -> list[tuple[Edit, set[str]]]:
    """Each single failure of a kind, as an edit, with the hosts and fabric switches (ids) that are gone with it."""
    far = {cable.id: [cable.a, cable.b] for cable in plan.all("cable")}
    owner = {n.id: n.host for n in plan.all("nic")} | {p.id: p.switch for p in plan.all("fabric_port")}

    def cut(cables: list[str]) -> Edit:
        down = {end for id in cables for end in far[id] if end in plan.of("nic")}
        return (*(Drop("cable", id) for id in cables), *(Patch("nic", id, {"link": "down"}) for id in sorted(down)))

    if thing == "cable":
        return [(cut([id]), set()) for id in far]
    if thing == "NIC":
        return [((Patch("nic", n.id, {"link": "down"}),), set()) for n in plan.all("nic")]
    if thing == "card":
        cards = {(n.host, n.card) for n in plan.all("nic") if n.card}
        return [
            (tuple(Patch("nic", n.id, {"link": "down"}) for n in plan.all("nic") if (n.host, n.card) == card), set())
            for card in cards
        ]
    of = {"switch": "fabric_switch", "host": "host"}[thing]
    return [
        (tuple(Drop("cable", c) for c, ends in far.items() if id in {owner.get(e) for e in ends}), {id})
        for id in plan.of(of)
    ]


def whole(plan: Plan, segment: str, gone: set[str]) -> bool:
    """Whether all of a segment who are left hear each other, by following frames of each over each way that its team may take today."""
    wiring = judge(plan).wiring
    places = []
    for kind in PLACES:
        for record in plan.where(kind, "belongs", segment):
            place = wiring.place(record.id)
            owner = {
                "adapter": lambda r: plan.get("guest", r.guest).host,
                "guest_tag": lambda r: plan.get("guest", plan.get("adapter", r.adapter).guest).host,
                "host_port": lambda r: plan.get("virtual_switch", r.switch).host,
                "station_port": lambda r: plan.get("fabric_port", r.port).switch,
                "way_in": lambda r: plan.get("fabric_port", r.port).switch,
            }[kind](record)
            if place is not None and place.stand.judged and owner not in gone:
                places.append(place)
    roads = Roads(wiring)
    return all(
        a.context >= 0 and b.context >= 0 and roads.way(a, b) is not None
        for a, b in itertools.permutations(places, 2)
        if a.record != b.record
    )


class AgainstSearchTest(unittest.TestCase):
    @settings(max_examples=25)
    @given(st.integers(0, 10**9), st.sampled_from(sorted(FAILING)), st.booleans(), st.booleans())
    def test_of_random_plans_with_standby_teams(self, seed: int, thing: str, rich: bool, odd: bool) -> None:
        plan = random_plan(seed, rich, odd)
        # One that shares out may take any member today, and the search takes one.
        edit = tuple(Patch("uplink", u.id, {"mode": "standby"}) for u in plan.all("uplink") if u.mode != "standby")
        plan = apply_edit(plan, edit)[0]
        judgement = judge(plan)
        for segment in plan.all("segment"):
            if not segment.vid:
                continue
            fares = asked(judgement).ask(f'segment "{segment.name}" survives any one {thing}')
            if fares.outcome == UNKNOWN:
                continue
            survives = whole(plan, segment.id, set()) and all(
                whole(apply_edit(plan, edit)[0], segment.id, gone) for edit, gone in without(plan, thing)
            )
            self.assertEqual(fares.outcome == HOLDS, survives, f"{segment.name}: {fares.text}")

    @settings(max_examples=12)
    @given(st.integers(0, 10**9), st.sampled_from(["cable", "NIC", "switch"]), st.booleans())
    def test_of_two_that_fail_together(self, seed: int, thing: str, odd: bool) -> None:
        plan = random_plan(seed, False, odd)
        edit = tuple(Patch("uplink", u.id, {"mode": "standby"}) for u in plan.all("uplink") if u.mode != "standby")
        plan = apply_edit(plan, edit)[0]
        several = next(words for words, of in FAILING_TWO.items() if of == FAILING[thing])
        for segment in list(plan.all("segment"))[:3]:
            if not segment.vid:
                continue
            fares = asked(judge(plan)).ask(f'segment "{segment.name}" survives any two {several}')
            if fares.outcome == UNKNOWN:
                continue
            single = without(plan, thing)
            pairs = [
                ((*a, *(op for op in b if op not in a)), c | d) for (a, c), (b, d) in itertools.combinations(single, 2)
            ]
            survives = all(
                whole(apply_edit(plan, edit)[0], segment.id, gone) for edit, gone in [((), set()), *single, *pairs]
            )
            self.assertEqual(fares.outcome == HOLDS, survives, f"{segment.name}: {fares.text}")


class SayingTest(unittest.TestCase):
    def fares(self, made: Small | Plan, text: str):
        return asked(judge(made.plan() if isinstance(made, Small) else made)).ask(text)

    def test_a_single_cable_and_a_second_one(self) -> None:
        made = pair()
        broken = self.fares(made, "s10 survives any one cable")
        self.assertEqual(broken.outcome, BROKEN)
        self.assertRegex(broken.text, "^When .* fails: .* and .* don’t hear each other.$")
        for host, port in (("a", "sw/p8"), ("b", "sw/p9")):
            made.trunk(port, "10, 20")
            uplink = next(u["id"] for u in made.kinds["uplink"] if u["switch"] == f"{host}/s")
            made.put("nic", f"{host}/n9", host=host, name="n9", uplink=uplink, rank=9)
            made.cable(f"{host}/n9", port)
        held = self.fares(made, "s10 survives any one cable")
        self.assertEqual((held.outcome, "Asked of 4 cables" in held.text), (HOLDS, True), held.text)
        self.assertEqual(self.fares(made, "s10 survives any one NIC").outcome, HOLDS)
        for made_of in ("cables", "NICs"):
            both = self.fares(made, f"s10 survives any two {made_of}")
            self.assertRegex(both.text, "^When .* and .* fail: .* don’t hear each other.$")
            self.assertEqual(both.outcome, BROKEN)
        # Hosts that pass nothing on take their own with them, however many.
        self.assertEqual(self.fares(made, "s10 survives any two hosts").outcome, HOLDS)
        # The switch between them is one; a host takes its own with it.
        self.assertEqual(self.fares(made, "s10 survives any one switch").outcome, BROKEN)
        self.assertEqual(self.fares(made, "s10 survives any one host").outcome, HOLDS)
        for nic in made.kinds["nic"]:
            nic["card"] = "c1"
        self.assertIn("card c1 of a", self.fares(made, "s10 survives any one card").text)

    def test_one_of_two_is_enough_where_either_is_said(self) -> None:
        made = pair()
        made.segment(20)
        for host in "ab":
            made.put("host_port", f"{host}/hp", switch=f"{host}/s", name="hp", vid=20, belongs="s20")
        self.assertEqual(self.fares(made, "s10 or s20 survives any one host").outcome, HOLDS)
        self.assertEqual(self.fares(made, "s10 or s20 survives any one cable").outcome, BROKEN)
        self.assertEqual(read("a or b and c survives any one NIC").either[1][1].name, "c")  # type: ignore[union-attr]

    def test_whoever_hears_another_vlan_than_he_speaks_in_is_not_with_the_others(self) -> None:
        made = pair()
        said = {"mode": "standard", "pvid": 10, "members": "10, 20", "untagged": "20", "admits": "all"}
        made.put("port_group", "a/t", switch="a/s", name="t", **said)
        guest = made.put("guest", "x", host="a", name="x")
        made.put("adapter", "x0", guest=guest, name="x0", port_group="a/t", belongs="s10")
        fares = self.fares(made, "s10 survives any one host")
        self.assertEqual((fares.outcome, "x0 of x" in fares.text), (BROKEN, True), fares.text)

    def test_what_isnt_asked_says_so(self) -> None:
        plan = demo_plan()
        self.assertEqual(self.fares(plan, '"restore bubble" survives any one cable').outcome, UNKNOWN)
        self.assertEqual(self.fares(plan, "nobody survives any one cable").outcome, NOBODY)
        text = self.fares(plan, "role management survives any one host").text
        self.assertIn("Nothing has to fail", text)
        work, least = surviving.MOST_WORK, surviving.LEAST
        self.addCleanup(setattr, surviving, "MOST_WORK", work)
        self.addCleanup(setattr, surviving, "LEAST", least)
        surviving.MOST_WORK = surviving.LEAST = 1
        says = self.fares(pair(), "s10 survives any one NIC").text
        self.assertEqual(says, "2 of 2 NICs would have to be asked of; 1 are the most in a plan of this size.")

    def test_a_sentence_that_cant_be_read_points_at_the_word(self) -> None:
        for text, word in (
            ("storage survives any one gust", "gust"),
            ("storage survives two cables", "two"),
            ("storage survives any two cable", "cable"),
            ("storage survives any one cables", "cables"),
            ("guest g survives any one cable", "guest g"),
        ):
            with self.assertRaises(RuleError) as refused:
                read(text)
            fault = refused.exception.fault
            self.assertEqual(text[fault.start : fault.end], word)
        self.assertIsInstance(read("storage survives any one switch"), Survives)


if __name__ == "__main__":
    unittest.main()

"""Rules: whether they hold, against every pair asked one by one; by whom they are broken; and mends after which they hold."""

from __future__ import annotations

import random
import unittest
from collections import Counter
from collections.abc import Iterator
from itertools import combinations, permutations, product
from typing import Any
from unittest import mock

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import Pings, ping
from aptwire.forward.frames import Frames
from aptwire.forward.parts import NOW, State
from aptwire.forward.trace import trace
from aptwire.judge.judgement import Judgement
from aptwire.judge.mends import mends
from aptwire.judge.risks import Risk, risk_proof, risks
from aptwire.judge.verdicts import judge, rejudge
from aptwire.judge.voices import Voices, voices
from aptwire.plan.edits import Drop, Edit, Patch, Put, apply_edit, touched
from aptwire.plan.kinds import PLACES, FilterLine, Guest, Rule
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.sentences import EVERYTHING, Apart, Reach, quoted, read
from aptwire.plan.stacks import owner_of
from aptwire.rules.against import contradictions
from aptwire.rules.answer import BROKEN, HOLDS, NOBODY, UNKNOWN, Answer
from aptwire.rules.asking import asked
from aptwire.rules.meetings import meetings
from aptwire.rules.starting import starting_rules
from aptwire.rules.whom import Meaning
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_ping import another_router, two_segments
from tests.routers import (
    entered_plan,
    filtered_plan,
    inward_plan,
    leasing_plan,
    more_lines,
    outward_plan,
    proxied_plan,
    routed_plan,
)
from tests.support import Small, demo_plan, pair, random_plan


def members(plan: Plan, segment: str) -> list[str]:
    return [r.id for kind in PLACES for r in plan.where(kind, "belongs", segment)]


def states(judgement: Judgement) -> list[State]:
    """Today, and each team carried by each other member."""
    teams = judgement.wiring.all_teams()
    return [NOW, *(State({t.key: m.key}) for t in teams for m in t.members[1 : t.usable])]


def heard(judgement: Judgement, one: list[str], two: list[str]) -> bool:
    """Whether a frame gets from one of some places to one of others, each pair followed by itself in each state."""
    places = [[p for id in side if (p := judgement.wiring.place(id)) and p.context >= 0] for side in (one, two)]
    return any(
        trace(judgement.wiring, a, b, state).delivered or trace(judgement.wiring, b, a, state).delivered
        for state in states(judgement)
        for a in places[0]
        for b in places[1]
        if a.record != b.record
    )


def flooded(judgement: Judgement, one: list[str], two: list[str]) -> bool:
    """The same by another search, of adapters that send with their own tag, today."""
    frames, plan = Frames(judgement.wiring), judgement.plan
    for a, others in ((a, others) for side, others in ((one, two), (two, one)) for a in side):
        place = judgement.wiring.place(a)
        if place is None or plan.of("adapter").get(place.endpoint) is None or place.endpoint not in frames.seats:
            continue
        vid = judgement.wiring.classes.vid(place.label)
        for id, out in frames.stacked(place.endpoint, (vid,) if vid else ()):
            spots = judgement.wiring.places_of(id) if plan.of("adapter").get(id) else []
            tags = [(judgement.wiring.classes.vid(p.label),) if p.label else () for p in spots]
            if any(p.record in others and tag == tuple(out) for p, tag in zip(spots, tags, strict=True)):
                return True
    return False


class LayerTwoTest(unittest.TestCase):
    def pairs(self, plan: Plan) -> list[tuple[str, str, str]]:
        """A rule for every two segments that anybody is on, and these."""
        named = sorted((s for s in plan.all("segment") if members(plan, s.id)), key=lambda s: s.id)
        text = "keep segment {} apart from segment {} on layer 2"
        return [(text.format(quoted(a.name), quoted(b.name)), a.id, b.id) for a, b in combinations(named, 2)]

    def same(self, plan: Plan) -> None:
        judgement = judge(plan)
        for text, a, b in self.pairs(plan):
            fares = asked(judgement).ask(text)
            one, two = members(plan, a), members(plan, b)
            mirrored = any(m.source in (*one, *two) for m in plan.all("mirror"))
            found = heard(judgement, one, two)
            if fares.outcome == BROKEN:
                self.assertTrue(found or mirrored, fares.text)
            elif fares.outcome == HOLDS:
                self.assertFalse(found, (text, fares.text))
                self.assertFalse(flooded(judgement, one, two), (text, fares.text))
            else:
                self.assertFalse(found, "whoever is heard is found")

    @settings(max_examples=60)
    @given(st.integers(0, 10_000))
    def test_every_pair_of_small_fleets(self, seed: int) -> None:
        self.same(random_plan(seed))

    @settings(max_examples=40)
    @given(st.integers(0, 10_000))
    def test_every_pair_of_rich_and_odd_fleets(self, seed: int) -> None:
        self.same(random_plan(seed, rich=True, odd=seed % 2 == 0))

    @settings(max_examples=25)
    @given(st.integers(0, 10_000))
    def test_after_an_edit_as_from_scratch(self, seed: int) -> None:
        plan = random_plan(seed, rich=True)
        texts = [text for text, _, _ in self.pairs(plan)]
        base = judge(plan)
        for text in texts:
            asked(base).ask(text)
        for nic in sorted(plan.all("nic"), key=lambda n: n.id)[:2]:
            edit = (Patch("nic", nic.id, {"link": "down"}),)
            after, _ = apply_edit(plan, edit)
            fresh, again = asked(judge(after)), asked(rejudge(base, after, touched(edit)))
            for text in texts:
                self.assertEqual(again.ask(text).outcome, fresh.ask(text).outcome, text)


class RoutedTest(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.integers(0, 10_000))
    def test_every_pair_over_routers(self, seed: int) -> None:
        """Classes and arrays give what each pair gives by itself, hop by hop and state by state."""
        plan = (routed_plan, filtered_plan, inward_plan, proxied_plan)[seed % 4](seed)
        judgement = judge(plan)
        exact = Pings(judgement, exact=True, waking=True)
        for a, b in combinations(sorted(plan.of("segment")), 2):
            one, two = members(plan, a), members(plan, b)
            strangers = [(x, y) for x in one for y in two if self.owner(plan, x) != self.owner(plan, y)]
            if not one or not two:
                continue
            both = {self.owner(plan, x) for x in one} & {self.owner(plan, y) for y in two}
            found = [(y, exact.arrives(x, y)[0]) for p, q in strangers for x, y in ((p, q), (q, p))]
            # That whoever is on both sides has an address on the other one is no reaching.
            ways = {way for y, way in found if way == ANSWERED or self.owner(plan, y) not in both}
            met = heard(judgement, one, two) or ANSWERED in ways
            wanted = BROKEN if met else UNKNOWN if UNPROVEN in ways else HOLDS
            fares = asked(judgement).ask(f"keep segment {a} apart from segment {b}")
            self.assertEqual(fares.outcome, wanted, (a, b, fares.text, ways))
            pings = [(x, y, ping(judgement, x, y)) for x, y in strangers]
            answers = {told.outcome for _, _, told in pings}
            for x, y, told in pings:
                legs = told.ways[0].legs if told.ways else ()
                if told.outcome == ANSWERED and len(legs) > 1 and (legs[0].out, legs[-1].to) == (x, y):
                    self.assertIn(exact.arrives(x, y)[0], (ANSWERED, UNPROVEN), told.sentence)
            lost = answers & {SILENT, WAVERS}
            wanted = BROKEN if lost else UNKNOWN if UNPROVEN in answers else HOLDS if answers else NOBODY
            fares = asked(judgement).ask(f"let segment {a} reach segment {b}")
            self.assertEqual(fares.outcome, wanted, (a, b, fares.text, answers))

    def owner(self, plan: Plan, record: str) -> str:
        found = plan.find(record)
        assert found is not None
        return owner_of(plan, found).id


class KeptTest(unittest.TestCase):
    """Answers that stand after edits are those that would be given anew."""

    def rules(self, plan: Plan) -> Plan:
        """Rules between all segments, and of some guests."""
        named = sorted((s for s in plan.all("segment")), key=lambda s: s.id)
        texts = [
            text.format(quoted(a.name), quoted(b.name))
            for a, b in combinations(named, 2)
            for text in ("keep segment {} apart from {}", "keep {} apart from {} on layer 2", "let {} reach segment {}")
        ]
        guests = sorted(plan.all("guest"), key=lambda g: g.id)[:2]
        texts += [f"keep guest {quoted(g.name)} apart from everything" for g in guests]
        texts += [f"let {quoted(guests[0].name)} reach {quoted(guests[1].name)}"]
        texts += ["keep segment s1* apart from segment s2* even if hostile"]
        texts += [f"let {quoted(named[0].name)} reach outside"] if plan.of("outside") else []
        texts += [f"keep {quoted(named[0].name)} apart from everything on layer 2 even if hostile"]
        return apply_edit(plan, tuple(Put(Rule(id=f"rule-{n}", text=text)) for n, text in enumerate(texts)))[0]

    def edits(self, plan: Plan, dice: random.Random) -> Iterator[Edit]:
        """Edits of every sort of record that a rule may rest on."""

        def any_of(kind: str) -> Any:
            return dice.choice(sorted(plan.all(kind), key=lambda r: r.id)) if plan.of(kind) else None

        vid = dice.choice([10, 20, 30, 40])
        gateways = [f"{address}/24" for segment in plan.all("segment") for address in segment.gateways]
        changes = {
            "adapter": [
                {"belongs": dice.choice(sorted(plan.of("segment")))},
                *({"connected": False}, {"addresses": []}, {"proxy_arp": True}, {"proxy_arp": None}),
                *({"connected": True}, {"addresses": dice.sample(gateways, min(1, len(gateways)))}),
                {"port_group": any_of("port_group").id},
                *({"addressing": way, "addresses": []} for way in ("lease", "static")),
                {"serve_leases": dice.random() < 0.5},
            ],
            "lease_scope": [{"pool": []}, {"gateways": []}],
            "guest": [{"running": False}, {"routes": True}, {"routes": False}, {"name": f"renamed {vid}"}],
            "port_group": [{"mode": "access", "vid": vid, "allowed": None, "native": None}],
            "fabric_port": [{"mode": "trunk", "vid": None, "allowed": str(vid), "native": None}, {"enabled": False}],
            "nic": [{"link": "down"}, {"link": "up"}],
            "segment": [{"gateways": []}, {"name": f"renamed {vid}"}, {"name": f"s{vid} too"}],
            "host_port": [{"connected": False}, {"services": ["storage"]}],
            "station": [{"routes": False}],
            "filter_line": [{"action": "allow"}, {"action": "deny", "protocol": "any", "ports": ""}],
        }
        for kind, choices in sorted(changes.items()):
            record = any_of(kind)
            if record is not None:
                yield (Patch(kind, record.id, dice.choice(choices)),)
        for kind in (
            "route",
            "cable",
            "mirror",
            "filter_line",
            "inward_translation",
            "translation",
            "outside",
            "lease_relay",
        ):
            record = any_of(kind)
            if record is not None:
                yield (Drop(kind, record.id),)
        yield (Put(Guest(id="new", name="new", host=any_of("host").id)),)
        yield from self.lines(plan, dice)
        named = dice.choice(sorted(r.name for kind in ("segment", "guest") for r in plan.all(kind)))
        yield (Patch("segment", any_of("segment").id, {"name": named}),)
        yield (*(Patch(kind, any_of(kind).id, {"note": str(vid)}) for kind in ("segment", "host", "guest")),)

    @staticmethod
    def lines(plan: Plan, dice: random.Random) -> Iterator[Edit]:
        """A route and a filter line more, of somebody who forwards, for a subnet or a single address."""
        bearers = [r for kind in PLACES for r in plan.all(kind)]
        addresses = sorted(text.partition("/")[0] for r in bearers for text in r.addresses if ":" not in text)
        nets = [*(net for s in plan.all("segment") for net in s.subnets), *(f"{address}/32" for address in addresses)]
        for line in more_lines(plan, dice, [*nets, "0.0.0.0/0"], dice.choice(addresses)) if addresses else ():
            yield (line,)

    @staticmethod
    def made(seed: int) -> Plan:
        """A plan of one sort or another."""
        return [
            *(filtered_plan(seed), routed_plan(seed), random_plan(seed), random_plan(seed, rich=True)),
            *(inward_plan(seed), proxied_plan(seed), leasing_plan(seed, six=seed % 2 == 0)),
            *(outward_plan(seed), entered_plan(seed)),
        ][seed % 9]

    @settings(max_examples=30)
    @given(st.integers(0, 10_000))
    def test_over_random_edits(self, seed: int) -> None:
        dice = random.Random(seed)
        plan = self.rules(self.made(seed))
        judgement = judge(plan)
        asked(judgement).rules()
        for edit in dice.sample(list(self.edits(plan, dice)), 5):
            try:
                plan, _ = apply_edit(judgement.plan, edit)
            except PlanError:
                continue
            judgement = rejudge(judgement, plan, touched(edit))
            self.as_anew(judgement, edit)

    @settings(max_examples=30)
    @given(st.integers(0, 10_000))
    def test_meetings_over_random_edits(self, seed: int) -> None:
        """Those that stand, and those asked anew of the segments that an edit concerns, are those from nothing."""
        dice = random.Random(seed)
        judgement = judge(self.made(seed))
        meetings(judgement)
        for edit in dice.sample(list(self.edits(judgement.plan, dice)), 6):
            try:
                plan, _ = apply_edit(judgement.plan, edit)
            except PlanError:
                continue
            judgement = rejudge(judgement, plan, touched(edit))
            if dice.random() < 0.7:
                self.assertEqual(meetings(judgement), meetings(judge(plan)), f"{seed}: {edit}")

    def as_anew(self, judgement: Judgement, edit: Edit) -> None:
        told, fresh = (
            {rule.text: (answer.outcome, answer.text) for rule, answer in asked(of).rules()}
            for of in (judgement, judge(judgement.plan))
        )
        self.assertEqual(told, fresh, edit)

    def test_of_whoever_answers_or_sends_for_those_of_whom_a_rule_speaks(self) -> None:
        """Adapters to which a router lets in what comes for its own address, and those whose guests have others."""
        for seed in range(18):
            plan = self.rules(inward_plan(seed) if seed % 2 else random_plan(seed, rich=True))
            judgement = judge(plan)
            asked(judgement).rules()
            let_in = {turned.to for turned in plan.all("inward_translation")}
            several = plan.grouped("guest_tag", "adapter").keys()
            for adapter in plan.all("adapter"):
                if adapter.id in several or any(text.split("/")[0] in let_in for text in adapter.addresses):
                    edit: Edit = (Patch("adapter", adapter.id, {"connected": not adapter.connected, "belongs": None}),)
                    self.as_anew(rejudge(judgement, apply_edit(plan, edit)[0], touched(edit)), edit)

    def test_pings_by_the_arrays_say_what_the_exact_search_does(self) -> None:
        seen: Counter[str] = Counter()
        for seed in (445, 451, 668, 1291, *range(40)):
            plan = routed_plan(seed) if seed < 40 and seed % 3 == 0 else random_plan(seed, rich=seed % 2 == 0)
            judgement = judge(plan)
            ends = [a for a in plan.all("adapter") if a.addresses and judgement.wiring.place(a.id) is not None]
            for one, two in permutations(ends, 2):
                if one.guest != two.guest:
                    told, exact = (Pings(judgement, exact=e, waking=True).ask(one.id, two.id) for e in (False, True))
                    self.assertEqual(told.outcome, exact.outcome, (seed, one.id, two.id))
                    seen[told.outcome] += 1
        self.assertGreater(min(seen[of] for of in (ANSWERED, SILENT, UNPROVEN, WAVERS)), 3, seen)

    def test_whoever_is_surely_heard_is_in_every_state(self) -> None:
        """Two of whom the arrays say it are delivered to, each way, over whichever member: a cable that lets nothing back hears nobody."""
        seen = deaf = 0
        for seed in range(120):
            judgement = judge(random_plan(seed, rich=seed % 2 == 0))
            known, wiring = voices(judgement), judgement.wiring
            even = [stand for stand in judgement.stands if known.steady(stand) is not None]
            deaf += sum(
                bool(known.says(stand) - known.listens(stand)) for stand in judgement.stands if stand.context >= 0
            )
            places = [place for stand in even if (place := wiring.place(stand.records[0])) is not None]
            for one, two in permutations(places, 2):
                if known.sure(one, two):
                    seen += 1
                    for state in states(judgement):
                        said = (seed, state, one.record, two.record)
                        self.assertTrue(trace(wiring, one, two, state).delivered, said)
        self.assertGreater(min(seen, deaf), 20)

    @settings(max_examples=40)
    @given(st.integers(0, 10**9), st.booleans())
    def test_where_everybody_is_heard_is_found_as_anew_after_edits(self, seed: int, rich: bool) -> None:
        """What goes along from edit to edit is what is found when nothing is known."""
        dice, plan = random.Random(seed), random_plan(seed, rich)
        judgement = judge(plan)
        for _ in range(3):
            known = voices(judgement)
            for stand in judgement.stands:
                for ask in (known.says, known.listens, known.steady):
                    ask(stand)
            edit = dice.choice(list(self.edits(plan, dice)))
            try:
                plan, _ = apply_edit(plan, edit)
            except PlanError:
                continue
            judgement = rejudge(judgement, plan, touched(edit))
            with mock.patch.object(judgement.answered, "before", {}):
                anew = Voices(judgement)
            known = voices(judgement)
            for stand in judgement.stands:
                for ask in (Voices.says, Voices.listens, Voices.steady):
                    self.assertEqual(ask(known, stand), ask(anew, stand), (edit, stand.records))

    def test_what_an_edit_leaves_alone_is_not_asked_again(self) -> None:
        made = two_segments()
        made.segment(30)
        made.host("c", made.trunk("sw/p3", "30"))
        made.guest("c", "c1", 30)
        plan = self.rules(made.plan())
        before = judge(plan)
        first = {rule.id: answer for rule, answer in asked(before).rules()}
        edit = (Patch("guest", "guest-c1", {"note": "new"}), Patch("adapter", "c1", {"connected": False}))
        after = rejudge(before, apply_edit(plan, edit)[0], touched(edit))
        again = {rule.id: answer for rule, answer in asked(after).rules()}
        self.assertTrue(any(again[id] is first[id] for id in first))
        # By another name than a segment's, or a pattern, somebody else might come to be meant.
        words = ("s30", "everything", "*", "let a1")
        touching = {rule.id for rule in plan.all("rule") if any(word in rule.text for word in words)}
        self.assertEqual({id for id in first if again[id] is not first[id]} - touching, set())

    def test_lines_concern_those_whose_packets_pass_whose_they_are(self) -> None:
        made = two_segments()
        made.segment(30, subnets=["10.0.30.0/24"])
        made.put("guest", "q", host="a", name="q", routes=True)
        group = made.put("port_group", "a/t30", switch="a/s", name="t30", mode="access", vid=30)
        own = {"port_group": group, "belongs": "s30", "addresses": ["10.0.30.1/24"]}
        made.put("adapter", "q30", guest="q", name="q30", **own)
        texts = ("keep s10 apart from s20 on layer 2", "keep s10 apart from s20", "let a1 reach b1", "let a1 reach r")
        for n, text in enumerate(texts):
            made.put("rule", f"rule-{n}", text=text)
        plan = made.plan()
        before = judge(plan)
        first = {rule.text: answer for rule, answer in asked(before).rules()}
        for of, concerned in (("r", set(texts[1:])), ("q", set())):
            edit = (Put(FilterLine(id="line", of=of, order=1, action="deny", sources=("203.0.113.0/24",))),)
            after = rejudge(before, apply_edit(plan, edit)[0], touched(edit))
            again = {rule.text: answer for rule, answer in asked(after).rules()}
            self.assertEqual({text for text in texts if again[text] is not first[text]}, concerned, of)
            self.as_anew(after, edit)

    def idle(self) -> Plan:
        """The router between 10 and 20 doesn't forward, and is of no segment; c1 and c2 are on 30. A rule speaks of a role."""
        made = two_segments()
        made.segment(30)
        for name in ("c1", "c2"):
            made.guest("b", name, 30)
        next(guest for guest in made.kinds["guest"] if guest["id"] == "r")["routes"] = False
        for adapter in made.kinds["adapter"]:
            if adapter["guest"] == "r":
                adapter["belongs"] = None
        made.kinds["segment"][0]["role"] = "r10"
        made.put("rule", "role", text="keep r10 apart from s20")
        return self.rules(made.plan())

    def test_who_is_named_otherwise_is_named_so(self) -> None:
        """Whom packets pass, and a segment that is called as a rule says."""
        before = judge(self.idle())
        texts = [answer.text for _, answer in asked(before).rules()]
        self.assertIn("b1 (10.0.20.11) doesn’t answer a1: r gets it as next hop 10.0.10.1, and doesn’t forward.", texts)
        for kind, id, name in (("guest", "r", "renamed"), ("segment", "s30", "r10"), ("segment", "s30", "s1x")):
            edit = (Patch(kind, id, {"name": name}),)
            self.as_anew(rejudge(before, apply_edit(before.plan, edit)[0], touched(edit)), edit)

    def test_of_several_edits_all_count(self) -> None:
        """A segment is called otherwise, gets another role, and is called otherwise again before anybody asks."""
        before = judge(self.idle())
        asked(before).rules()
        after = before
        for words in ({"name": "berth"}, {"role": "r10"}, {"name": "berths"}):
            edit = (Patch("segment", "s30", words),)
            after = rejudge(after, apply_edit(after.plan, edit)[0], touched(edit))
        self.as_anew(after, edit)


class ContradictionTest(unittest.TestCase):
    def test_random_rules_contradict_as_those_do_of_whom_they_speak(self) -> None:
        """Held against all pairs of units, of whom `Meaning` says that they are meant."""
        found = 0
        for seed in range(120):
            dice = random.Random(seed)
            plan = [demo_plan(), routed_plan(seed), inward_plan(seed), random_plan(seed, rich=True)][seed % 4]
            subjects = [
                f"{k.replace('_', ' ')} {quoted(r.name)}" for k in ("segment", "guest", "host") for r in plan.all(k)
            ]
            subjects += ["role management", "role storage", "role guests"]
            few = [dice.choice(subjects) for _ in range(4)]
            texts = [f"keep {dice.choice(few)} apart from {dice.choice([*few, 'everything'])}" for _ in range(4)]
            texts += [f"keep {few[0]} apart from {few[1]} except {few[2]}"]
            texts += [f"let {dice.choice(few)} reach {dice.choice(few)}" for _ in range(5)]
            answers = [
                (Rule(id=f"r{n}", text=t), Answer(dice.choice([BROKEN, HOLDS]), "")) for n, t in enumerate(texts)
            ]
            told = {(c.apart.id, c.reach.id) for c in contradictions(Meaning(plan), answers)}
            wanted = set(self.by_all_pairs(plan, answers))
            self.assertEqual(told, wanted, seed)
            found += len(wanted)
        self.assertGreater(found, 100)

    def by_all_pairs(self, plan: Plan, answers: list[tuple[Rule, Answer]]) -> Iterator[tuple[str, str]]:
        meaning = Meaning(plan)
        said = [(rule, answer, read(rule.text)) for rule, answer in answers]
        for apart, kept, parts in said:
            for reach, reached, joins in said:
                if (
                    not (isinstance(parts, Apart) and isinstance(joins, Reach))
                    or HOLDS == kept.outcome == reached.outcome
                ):
                    continue
                one, two, without = (set(meaning.whom(of).records) for of in (parts.a, parts.b, parts.without))
                if parts.b[0].sort == EVERYTHING:
                    two = {r.id for kind in PLACES for r in plan.all(kind)} - one
                units = ([u for u in meaning.whom(of).units if u.records] for of in (joins.a, joins.b))
                for a, b in product(*([u for u in of if without.isdisjoint(u.records)] for of in units)):
                    sides = (one, two), (two, one)
                    if a.id != b.id and any(set(a.records) <= s and set(b.records) <= t for s, t in sides):
                        yield apart.id, reach.id

    def told(self, *texts: str) -> list[str]:
        made = two_segments()
        for n, text in enumerate(texts):
            made.put("rule", f"r{n}", text=text)
        judgement = judge(made.plan())
        found = [risk for risk in risks(judgement) if risk.what == "contradicting-rules"]
        for risk in found:
            self.assertEqual(len(mends(judgement, risk)), 2)
        return [risk.text for risk in found]

    def test_who_is_kept_apart_and_reaches_is_told_with_both_rules(self) -> None:
        (text,) = self.told("keep s10 apart from s20", "let a1 reach b1")
        self.assertEqual(
            text, "“keep s10 apart from s20” keeps a1 and b1 apart, and “let a1 reach b1” has a1 reach b1."
        )
        for apart in (
            "keep b1 apart from a1",
            "keep guest a1 apart from everything even if hostile",
            "keep s20 apart from s10",
        ):
            self.assertEqual(len(self.told(apart, "let a1 reach b1 on tcp 80")), 1, apart)

    def test_what_can_hold_together_is_not(self) -> None:
        for apart in (
            "keep s10 apart from s20 on layer 2",
            "keep s10 apart from s20 except b1",
            "keep r10 apart from s20",
            "keep a1 apart from r",
        ):
            self.assertEqual(self.told(apart, "let a1 reach b1"), [], apart)
        self.assertEqual(self.told("keep s10 apart from s20", "let a1 reach r"), [])


class SayingTest(unittest.TestCase):
    def fares(self, made: Small, text: str) -> Answer:
        return asked(judge(made.plan())).ask(text)

    def mended(self, made: Small, text: str, title: str) -> Plan:
        """The broken rule is a finding with a proof, and a mend of this title has it hold."""
        made.put("rule", "rule", text=text)
        plan = made.plan()
        judgement = judge(plan)
        risk = next(r for r in risks(judgement) if r.what == "broken-rule")
        self.assertTrue(risk_proof(judgement, risk))
        offered = {m.title: m for m in mends(judgement, risk)}
        self.assertIn(title, list(offered))
        after, _ = apply_edit(plan, offered[title].edit)
        self.assertEqual(asked(judge(after)).ask(text).outcome, HOLDS)
        return after

    def test_a_router_between_two_that_are_to_be_apart(self) -> None:
        made, text = two_segments(), "keep s10 apart from s20"
        fares = self.fares(made, text)
        self.assertEqual((fares.outcome, fares.text), (BROKEN, "Packets of a1 get to b1 over r."))
        self.assertEqual(self.fares(made, f"{text} on layer 2").outcome, HOLDS)
        after = self.mended(made, text, "Have r drop what s10 and s20 send each other")
        lines = [(line.sources, line.targets) for line in after.all("filter_line")]
        self.assertEqual({lines[0], lines[0][::-1]}, set(lines))
        self.mended(two_segments(), text, "Have r forward nothing")

    def test_a_table_with_a_border_inside_a_subnet_tells_those_in_it_apart(self) -> None:
        made = two_segments()
        made.guest("b", "b2", 20, addresses=["10.0.20.77/24"])
        self.assertEqual(self.fares(made, "let a1 reach s20").outcome, HOLDS)
        made.put("route", "narrow", of="r", to=["10.0.20.64/26"], via="10.0.10.99")
        fares = self.fares(made, "let a1 reach s20")
        self.assertEqual((fares.outcome, fares.b), (UNKNOWN, "b2"))

    def test_everybody_who_may_answer_for_a_gateway_is_followed(self) -> None:
        made = two_segments(routes=False)
        text = "keep s10 apart from s20"
        self.assertEqual(self.fares(made, text).outcome, HOLDS)
        made.put("guest", "z", host="b", name="z", routes=True)
        for vid, address in ((10, "10.0.10.1/24"), (20, "10.0.20.2/24")):
            made.put("adapter", f"z{vid}", guest="z", name=f"z{vid}", belongs=f"s{vid}", addresses=[address])
            made.kinds["adapter"][-1]["port_group"] = made.put(
                "port_group", f"b/z{vid}", switch="b/s", name=f"z{vid}", mode="access", vid=vid
            )
        fares = self.fares(made, text)
        self.assertEqual(fares.outcome, UNKNOWN)
        self.assertIn("2 answer for 10.0.10.1", fares.text)

    def test_whose_address_is_not_said_may_have_any(self) -> None:
        text = "keep s10 apart from s20 except guest r"
        for bare in (["a1"], ["b1"], ["a1", "b1"]):
            for router, outcome in (({}, UNKNOWN), ({"routes": False}, HOLDS)):
                made = two_segments(**router)
                for adapter in made.kinds["adapter"]:
                    if adapter["id"] in bare:
                        del adapter["addresses"]
                fares = self.fares(made, text)
                self.assertEqual(fares.outcome, outcome, (bare, router, fares.text))
                self.assertEqual(self.fares(made, f"{text[:23]} on layer 2").outcome, HOLDS)
                made.put("filter_line", "f", of="r", order=10, action="deny")
                self.assertEqual(self.fares(made, text).outcome, HOLDS, "whatever it is, it doesn’t get through")
        # Of a guest's own team one adapter says the address for both.
        made = two_segments(routes=True)
        made.put("filter_line", "f", of="r", order=10, action="deny", targets=["10.0.20.11/32"])
        made.put("filter_line", "g", of="r", order=20, action="deny", sources=["10.0.20.11/32"])
        made.kinds["adapter"][1].update(team="bond0")
        made.put("adapter", "b1b", guest="guest-b1", name="b1b", port_group="b/g20", belongs="s20", order=1)
        self.assertEqual(self.fares(made, text).outcome, UNKNOWN)
        made.kinds["adapter"][-1].update(team="bond0")
        self.assertEqual(self.fares(made, text).outcome, HOLDS)

    def test_the_exception_and_whoever_is_off(self) -> None:
        made = two_segments()
        text = "keep s10 apart from s20 except guest b1 and guest r"
        self.assertEqual(self.fares(made, text).outcome, NOBODY)
        for guest in made.kinds["guest"]:
            guest["running"] = guest["name"] != "b1"
        self.assertEqual(self.fares(made, "keep s10 apart from s20").outcome, BROKEN, "he may be started")
        self.assertEqual(self.fares(made, "let s10 reach guest b1").outcome, BROKEN, "he doesn’t answer")

    def test_reaching_only_through_somebody(self) -> None:
        made = two_segments()
        self.assertEqual(self.fares(made, "let a1 reach b1 only through r").outcome, HOLDS)
        self.assertEqual(self.fares(made, "let a1 reach b1 only through guest a1").outcome, BROKEN)
        self.assertIn("past", self.fares(made, "let a1 reach b1 only through guest a1").text)
        self.assertEqual(self.fares(made, "let s10 reach s20 only through r").outcome, HOLDS, "who is on both himself")

    def test_a_filter_lets_through_what_a_rule_wants(self) -> None:
        for text, what in (("let a1 reach b1", "pings"), ("let a1 reach b1 on tcp 5432", "tcp 5432")):
            made = two_segments()
            made.put("filter_line", "f", of="r", order=100, action="deny")
            after = self.mended(made, text, f"Have r let {what} from 10.0.10.11 to 10.0.20.11 through")
            self.assertEqual(asked(judge(after)).ask("let b1 reach a1").outcome, BROKEN, "and nothing else")

    def test_mends_of_who_is_not_reached(self) -> None:
        text = "let a1 reach b1"
        self.mended(two_segments(routes=False), text, "Say that r forwards between its interfaces")
        made = two_segments()
        made.kinds["segment"][0]["gateways"] = []
        self.mended(made, text, "Make 10.0.10.1 of r a gateway of s10")
        made = two_segments()
        for segment in made.kinds["segment"]:
            segment["gateways"] = []
        made.kinds["guest"][2]["routes"] = False
        title = "Make 10.0.10.1 of r a gateway of s10, say that r forwards between its interfaces and make 10.0.20.1 of r a gateway of s20"
        self.mended(made, text, title)
        made = two_segments()
        made.kinds["guest"][1]["running"] = False
        self.mended(made, text, "Start or connect b1 of b1")

    def test_different_subnets_and_nobody_routes_between_them(self) -> None:
        """A virtual switch never routes: a router is offered."""
        made = Small()
        for vid in (10, 20):
            made.segment(vid, subnets=[f"10.0.{vid}.0/24"])
        made.fabric("sw")
        made.host("a", made.trunk("sw/p1", "10, 20"))
        made.guest("a", "a1", 10, addresses=["10.0.10.11/24"])
        made.guest("a", "a2", 20, addresses=["10.0.20.11/24"])
        after = self.mended(made, "a1 reaches a2", "Plug a router between s10 and s20 into sw")
        self.assertEqual([s.name for s in after.all("station")], ["router"])

    def test_a_route_over_another_router(self) -> None:
        made = two_segments()
        another_router(made)
        text = "let a1 reach b1"
        self.assertIn("r has no route", self.fares(made, text).text)
        after = self.mended(made, text, _BOTH_WAYS)
        self.assertEqual({(r.of, r.via) for r in after.all("route")}, {("r", "10.0.30.2"), ("q", "10.0.30.1")})

    def test_frames_that_leak(self) -> None:
        """Where natives differ at the ends of a cable, what one says untagged is in another VLAN there."""
        made = Small()
        for vid in (10, 20):
            made.segment(vid)
        for name in "ab":
            made.fabric(f"sw{name}")
        made.cable(made.trunk("swa/x", "10, 20", native=10), made.trunk("swb/x", "10, 20", native=20))
        for name, vid in (("a", 10), ("b", 20)):
            made.host(name, made.trunk(f"sw{name}/p", "10, 20"))
            made.guest(name, f"{name}1", vid)
        text = "keep s10 apart from s20"
        fares = self.fares(made, text)
        self.assertEqual((fares.outcome, fares.a, fares.b), (BROKEN, "a1", "b1"))
        self.assertTrue(fares.frame is not None and fares.frame.delivered)
        self.mended(made, text, "Drop untagged frames at port x of swb and drop untagged frames at port x of swa")

    def test_after_a_failover_alone(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("b", "b2", 20)
        made.access("sw/p9", 20)
        made.put("nic", "a/n9", host="a", name="n9", uplink="a/u", rank=9, role="standby")
        made.cable("a/n9", "sw/p9")
        made.kinds["port_group"][0].update(mode="untagged", vid=None)
        del made.kinds["port_group"][0]["vid"]
        fares = self.fares(made, "keep guest a1 apart from s20")
        self.assertEqual((fares.outcome, fares.text), (BROKEN, "b2 hears a1 when n0 of a fails."))

    def test_open_ends_may_meet(self) -> None:
        made = pair()
        made.segment(20)
        made.host("c", None)
        made.guest("c", "c1", 20)
        self.assertEqual(self.fares(made, "keep s10 apart from s20").outcome, HOLDS)
        made.host("d", None)
        made.guest("d", "d1", 10)
        fares = self.fares(made, "keep s10 apart from s20")
        self.assertEqual(fares.outcome, UNKNOWN)
        self.assertIn("may meet there", fares.text)

    def test_a_mirror_is_a_way(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("a", "a2", 20)
        made.put("mirror", "m", source="a1", target="a2")
        text = "keep s10 apart from s20"
        self.assertIn("gets a copy", self.fares(made, text).text)
        self.mended(made, text, "Take away the mirror of a1 of a1")

    def test_a_hostile_guest_tags_and_hands_to_any_router(self) -> None:
        made = pair()
        made.segment(20)
        made.guest("b", "b2", 20)
        made.kinds["port_group"][0].update(mode="trunk", vid=None, allowed="10, 20", native=10)
        del made.kinds["port_group"][0]["vid"]
        self.assertEqual(self.fares(made, "keep guest a1 apart from s20").outcome, HOLDS)
        text = "keep guest a1 apart from s20 even if hostile"
        self.assertEqual(self.fares(made, text).text, "a1 could reach b2 by tagging its frames 20.")
        self.mended(made, text, "Let port group g10 of a carry no tags alone")
        made = two_segments()
        for segment in made.kinds["segment"]:
            segment["gateways"] = []
        self.assertEqual(self.fares(made, "keep s10 apart from s20").outcome, HOLDS)
        fares = self.fares(made, "keep s10 apart from s20 even if hostile")
        self.assertEqual(fares.text, "a1 could hand packets for b1 to r, which sends them on.")

    def test_packets_of_a_size(self) -> None:
        made = pair()
        self.assertEqual(self.fares(made, "s10 carries 9000").outcome, HOLDS)
        made.kinds["fabric_port"][1]["mtu"] = 1500
        fares = self.fares(made, "s10 carries 9000")
        self.assertEqual(fares.outcome, BROKEN)
        self.assertIn("takes 1500", fares.text)
        self.assertEqual(self.fares(made, "s10 carries 1500").outcome, HOLDS)
        # What else is wrong with somebody hides nothing of it.
        made = pair()
        for adapter in made.kinds["adapter"]:
            adapter["addresses"] = ["10.64.10.5/24"]
        made.kinds["segment"][0]["gateways"] = ["10.64.10.1"]
        self.assertEqual(self.fares(made, "s10 carries 9000").outcome, HOLDS)
        made.kinds["fabric_port"][1]["mtu"] = 1500
        self.assertEqual(self.fares(made, "s10 carries 9000").outcome, BROKEN)
        made.kinds["fabric_port"][1].pop("mtu")
        made.kinds["fabric_port"][1]["allowed"] = "20"
        self.assertEqual(self.fares(made, "s10 carries 9000").outcome, BROKEN)
        # Who himself sends less doesn't send so much, though all are alike in that.
        made = pair()
        made.segment(20)
        for host in "ab":
            made.put(
                "host_port",
                f"{host}/hp",
                switch=f"{host}/s",
                name="store",
                vid=20,
                belongs="s20",
            )
        self.assertEqual(self.fares(made, "s20 carries 9000").outcome, HOLDS)
        for switch in made.kinds["virtual_switch"]:
            switch["mtu"] = 1500
        fares = self.fares(made, "s20 carries 9000")
        self.assertEqual(
            (fares.outcome, fares.text),
            (BROKEN, "Packets of 9000 bytes don’t leave a’s store, which sends 1500 at most."),
        )
        made.kinds["host_port"][0]["mtu"] = made.kinds["host_port"][1]["mtu"] = 9000
        self.assertIn("too large for", self.fares(made, "s20 carries 9000").text)

    def test_names_that_may_be_several_and_names_of_nobody(self) -> None:
        made = pair()
        made.segment(20)
        made.put("segment", "s-b1", name="b1")
        fares = self.fares(made, "keep b1 apart from s10")
        self.assertEqual(
            (fares.outcome, fares.text), (UNKNOWN, "“b1” is a segment and a guest: say which, as in segment b1")
        )
        self.assertEqual(self.fares(made, "keep s20 apart from s10").outcome, NOBODY)
        self.assertEqual(self.fares(made, "keep guest nobody apart from s10").outcome, NOBODY)
        self.assertEqual(self.fares(made, "keep adapter a/a1 apart from adapter b/*").outcome, BROKEN)

    def test_what_a_plan_s_roles_may_start_with(self) -> None:
        plan = demo_plan()
        texts = starting_rules(plan)
        self.assertIn("keep role storage apart from role production", texts)
        after, _ = apply_edit(plan, tuple(Put(Rule(id=f"r{n}", text=text)) for n, text in enumerate(texts)))
        self.assertFalse(set(texts) & set(starting_rules(after)))
        self.assertEqual(len(asked(judge(after)).rules()), len(plan.of("rule")) + len(texts))

    def test_the_demo_has_rules_of_every_kind(self) -> None:
        judgement = judge(demo_plan())
        fares = {rule.id: answer.outcome for rule, answer in asked(judgement).rules()}
        self.assertEqual(set(fares.values()), {HOLDS, BROKEN, NOBODY})
        self.assertEqual(fares["bubble-apart"], HOLDS)
        found: list[Risk] = [r for r in risks(judgement) if r.what.endswith("-rule")]
        self.assertEqual({r.key[0] for r in found}, {id for id, outcome in fares.items() if outcome != HOLDS})


_BOTH_WAYS = (
    "Have r send what is for 10.0.20.0/24 to 10.0.30.2 of q and have q send what is for 10.0.10.0/24 to 10.0.30.1 of r"
)


if __name__ == "__main__":
    unittest.main()

"""Segments against each other: found for all at once what every pair asked by itself says."""

from __future__ import annotations

import random
import unittest
from collections import Counter
from itertools import chain, combinations, product
from unittest import mock

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import judge, rejudge
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put, apply_edit, touched
from aptwire.plan.kinds import (
    FabricPort,
    FilterLine,
    Mirror,
    Route,
    Rule,
    Segment,
    SharedAddress,
    Station,
    StationPort,
    Translation,
)
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.sentences import quoted
from aptwire.rules.answer import BROKEN, HOLDS, UNKNOWN
from aptwire.rules.asking import asked
from aptwire.rules.chosen import chosen
from aptwire.rules.meetings import (
    APART,
    BACK,
    BOTH,
    KEPT,
    MEETING,
    MEETS,
    NOBODY,
    OPEN,
    THERE,
    Meeting,
    by_role,
    by_segment,
    endings,
    meetings,
    rule_between,
)
from aptwire.rules.reaching import Reaching
from aptwire.rules.ways import NEVER, PERHAPS, SURELY

from measure.fleet import fleet, with_routers
from tests.routers import (
    advertising_plan,
    filtered_plan,
    inward_plan,
    leasing_plan,
    outward_plan,
    proxied_plan,
    routed_plan,
)
from tests.support import Small, demo_plan, random_plan

FITS = {HOLDS: APART, BROKEN: MEETS + BOTH + THERE + BACK, UNKNOWN: OPEN}
SIDES = {(True, True): BOTH, (True, False): THERE, (False, True): BACK, (False, False): APART}


def letters(plan: Plan) -> dict[tuple[str, str], str]:
    """By the names of both segments."""
    found = meetings(judge(plan))
    names = [plan.get("segment", id).name for id in found.segments]
    return {pair: found.rows[names.index(pair[0])][names.index(pair[1])] for pair in product(names, names)}


def screened_fleet() -> Plan:
    """Segments behind eight routers, which pass or drop what comes from some of them to others."""
    plan, dice = with_routers(fleet(60, 20, 64), routers=8, lines=12), random.Random(5)
    nets = [segment.subnets for segment in plan.all("segment") if segment.gateways]
    edit: list[Operation] = []
    for line in plan.all("filter_line"):
        said = {
            "sources": sum(dice.sample(nets, dice.choice([0, 1, 8])), ()),
            "protocol": dice.choice(["any"] * 9 + ["tcp"]),
        }
        said |= {"targets": sum(dice.sample(nets, dice.choice([0, 1, 8])), ()), "ports": ""}
        edit.append(Patch("filter_line", line.id, said | {"action": dice.choice(["allow", "deny", "deny", "unknown"])}))
    # Two routers, each of which sends what is for somebody behind a third one there or to the other.
    behind = plan.get("route", "in-2").to
    for n, via in product((0, 1), (2, 3, 4)):
        if via != n + 2:
            edit.append(Put(Route(id=f"round-{n}-{via}", of=f"router{n}", to=behind, via=f"10.250.0.{via}")))
    # One whom a router that denies it may tell of the next hop, and a router that translates.
    probe = StationPort(
        id="probe/900", station="probe", port="p", vid=900, belongs="transit", addresses=("10.250.0.200/24",)
    )
    edit += [
        Patch("segment", "transit", {"gateways": ("10.250.0.1",)}),
        Put(FabricPort(id="p", switch="spine-0", name="probe", mode="trunk", allowed="900-4094")),
        Put(Station(id="probe", name="probe")),
        Put(probe),
        Put(FilterLine(id="off", of="core", order=1, action="deny", sources=("10.250.0.200/32",), targets=nets[0])),
        Put(Translation(id="hidden", at="router3/900")),
        # An address of two of them, of which the second drops what it gets.
        *(
            Patch("station_port", f"router{n}/900", {"addresses": (f"10.250.0.{n + 2}/24", "10.250.0.99/24")})
            for n in (6, 7)
        ),
        Put(SharedAddress(id="both", address="10.250.0.99")),
        Put(Route(id="to-both", of="router5", to=("0.0.0.0/1",), via="10.250.0.99")),
        Put(FilterLine(id="none", of="router7", order=0, action="deny")),
    ]
    return apply_edit(plan, tuple(edit))[0]


class ChosenTest(unittest.TestCase):
    def test_each_pair_is_what_a_rule_between_the_two_says(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(16):
            plan = (outward_plan if seed % 2 else inward_plan)(seed)
            judgement, dice = judge(plan), random.Random(seed)
            named = {f"guest {quoted(r.name)}": r.id for r in plan.all("guest")}
            named |= {f"station {quoted(r.name)}": r.id for r in plan.all("station")}
            named |= {quoted(r.name): r.id for r in plan.all("outside")}
            ends = dice.sample(sorted(named), min(6, len(named)))
            found = chosen(judgement, [named[name] for name in ends])
            for (n, one), (m, two) in combinations(enumerate(ends), 2):
                letter = found.rows[n][m]
                self.assertEqual(found.rows[m][n], {THERE: BACK, BACK: THERE}.get(letter, letter))
                answer = asked(judgement).ask(f"keep {one} apart from {two}")
                with self.subTest(seed=seed, one=one, two=two, said=answer.text):
                    self.assertIn(letter, FITS.get(answer.outcome, "-"))
                seen[letter] += 1
        self.assertGreater(min(seen[BOTH], seen[APART]), 5, seen)

    def test_what_rules_expect_and_who_is_none_to_ask_about(self) -> None:
        plan = demo_plan()
        found = chosen(judge(plan), ["guest-visitor-desk-1", "guest-ticketing-web-1", "internet"])
        self.assertEqual(found.expected[0][1], KEPT)
        for ends, words in ((["segment-edge", "gannet"], "is needed"), ([str(n) for n in range(30)], "at the most")):
            with self.assertRaises(PlanError) as caught:
                chosen(judge(plan), ends)
            self.assertIn(words, str(caught.exception.problems[0]))


class EveryPairTest(unittest.TestCase):
    def held(self, plan: Plan) -> Counter[str]:
        """Each pair is what a rule that keeps the two apart says, and each way what packets of everybody on it do."""
        judgement = judge(plan)
        known = Meeting(judgement)
        found = known.all()
        look = asked(judgement).look
        seen: Counter[str] = Counter()
        for a, b in combinations(range(len(found.segments)), 2):
            letter = found.rows[a][b]
            self.assertEqual(found.rows[b][a], {THERE: BACK, BACK: THERE}.get(letter, letter))
            one, two = (plan.get("segment", found.segments[n]) for n in (a, b))
            if letter == NOBODY:
                self.assertFalse(all(known.members[n] for n in (a, b)))
                continue
            answer = asked(judgement).ask(rule_between(one, two))
            with self.subTest(one=one.name, two=two.name, said=answer.text):
                self.assertIn(letter, FITS[answer.outcome])
                if letter in SIDES.values():
                    ends = [[r for r in known.members[n] if look.has_addresses(r)] for n in (a, b)]
                    sides = tuple(
                        any(
                            look.waking.arrives(here, there)[0] == ANSWERED
                            for here, there in product(ends[n], ends[1 - n])
                            if look.owner(here) != look.owner(there)
                            and here in look.stand_of
                            and there in look.stand_of
                        )
                        for n in (0, 1)
                    )
                    self.assertEqual(letter, SIDES[sides])
                told = known.said(one.id, two.id)
                self.assertTrue(told and all(t.text for t in told))
                if letter in (BOTH, THERE, BACK):
                    self.assertEqual(len(told), 2 if letter == BOTH else 1)
            seen[letter] += 1
        return seen

    def test_what_is_found_of_many_at_once_is_found_of_each_by_itself(self) -> None:
        makers = (inward_plan, outward_plan, filtered_plan, routed_plan, routed_plan)
        seen: Counter[str] = Counter()
        for plan in (screened_fleet(), *(maker(seed) for seed, maker in enumerate(makers * 8))):
            seen += self.each_by_itself(plan)
        # Where a way from a router on leads over one at which a packet has been, it is found anew.
        self.assertGreater(seen["anew"], 4)
        self.assertGreater(min(seen[SILENT], seen[ANSWERED]), 1_000, seen)

    def test_packets_that_have_been_at_too_many_routers(self) -> None:
        for module in ("ways", "reaching"):
            self.enterContext(mock.patch(f"aptwire.rules.{module}.MOST_HOPS", 2))
        seen = self.each_by_itself(screened_fleet())
        self.assertGreater(min(seen[SILENT], seen[ANSWERED]), 300, seen)

    def each_by_itself(self, plan: Plan) -> Counter[str]:
        known, dice = Meeting(judge(plan)), random.Random(3)
        seen: Counter[str] = Counter()
        reaching, heres = known.reaching, list(chain.from_iterable(known._kinds))
        with mock.patch.object(Reaching, "_find", autospec=True, side_effect=Reaching._find) as finding:
            found = reaching.found(heres)
        seen["anew"] += sum(len(call.args[5]) > 1 for call in finding.call_args_list)
        for n, here in dice.sample(list(enumerate(heres)), min(len(heres), 300)):
            exits = reaching.exits(here)
            for end in reaching.ends:
                if end.owner == exits.stack.owner.id or end.address in exits.stack.own:
                    self.assertEqual((found.fares[n, end.number], found.open[n, end.number]), (NEVER, False))
                elif not found.open[n, end.number]:
                    fare = {NEVER: SILENT, PERHAPS: UNPROVEN, SURELY: ANSWERED}[found.fares[n, end.number]]
                    self.assertEqual(reaching.arrives(exits, end), fare, (here, end))
                    seen[fare] += 1
        return seen

    def test_those_of_one_port_whom_their_addresses_tell_apart(self) -> None:
        """Between the addresses of two who sit alike a filter's subnet ends, or their own; so does IPv6's."""
        for both, denied in (
            (("10.0.10.5/24", "10.0.10.200/24"), "10.0.10.0/25"),
            (("10.0.10.200/24", "10.0.10.5/24"), "10.0.10.128/25"),
            (("10.0.10.200/25", "10.0.10.5/25"), ""),
            (("2001:db8::5/64", "2001:db8::c8/64"), "2001:db8::/121"),
        ):
            made = Small()
            six = ":" in both[0]
            far = "2001:db8:1::" if six else "10.0.20."
            made.segment(10, gateways=["2001:db8::1" if six else "10.0.10.1"])
            made.segment(20, gateways=[f"{far}1"])
            made.fabric("sw")
            made.host("a", made.trunk("sw/1", "10, 20"))
            for name, address in zip(("a1", "a2"), both, strict=True):
                made.guest("a", name, 10, addresses=[address])
            made.guest("a", "b1", 20, addresses=[f"{far}9/{64 if six else 24}"])
            made.guest("a", "r10", 10, addresses=["2001:db8::1/64" if six else "10.0.10.1/24"])
            made.kinds["guest"][-1]["routes"] = True
            made.guest("a", "r20", 20, addresses=[f"{far}1/{64 if six else 24}"])
            made.kinds["adapter"][-1]["guest"] = made.kinds["adapter"][-2]["guest"]
            if denied:
                said = {"of": made.kinds["adapter"][-2]["guest"], "order": 1, "action": "deny", "sources": [denied]}
                made.put("filter_line", "no", **said)
            found = letters(made.plan())
            self.assertEqual(found["s10", "s20"], BOTH, both)

    def test_behind_a_router_that_translates_what_is_sure_is_so(self) -> None:
        plan = screened_fleet()
        known, dice = Meeting(judge(plan)), random.Random(4)
        hidden = {p.belongs for p in plan.all("station_port") if p.station == "router3" and p.vid != 900}
        heres = [r for s, kinds in zip(known.segments, known._kinds, strict=True) if s.id in hidden for r in kinds]
        ends = [e for e in chain.from_iterable(known._ends) if e.record.startswith("host-")]
        seen: Counter[str] = Counter()
        for here, end in dice.sample([(h, e) for h in heres if h.startswith("host-") for e in ends], 200):
            found = known.reaching.arrives(known.reaching.exits(here), end)
            seen[found] += 1
            if found != UNPROVEN and end.owner != known.look.owner(here):
                self.assertEqual(found, known.look.waking.arrives(here, end.record)[0], (here, end))
        self.assertGreater(seen[UNPROVEN], 20)

    def test_with_routers_and_their_faults(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(24):
            seen += self.held(routed_plan(seed))
        self.assertGreater(min(seen[x] for x in (BOTH, THERE, BACK, APART)), 3, seen)

    def test_roles_stand_as_the_gravest_of_their_segments(self) -> None:
        rank = {MEETS: 4, BOTH: 3, THERE: 2, BACK: 2, OPEN: 1, APART: 0, NOBODY: -1}
        for seed in range(12):
            plan = filtered_plan(seed) if seed % 2 else routed_plan(seed)
            dice = random.Random(seed)
            edit = tuple(Patch("segment", s.id, {"role": dice.choice(["a", "b", ""])}) for s in plan.all("segment"))
            found = Meeting(judge(apply_edit(plan, edit)[0])).all()
            plan = apply_edit(plan, edit)[0]
            roles = by_role(plan, found)
            of = [plan.get("segment", id).role for id in found.segments]
            for (n, one), (m, two) in product(enumerate(roles.segments), repeat=2):
                pairs = [
                    (a, b) for a, b in product(range(len(of)), repeat=2) if a != b and (of[a], of[b]) == (one, two)
                ]
                letters = {found.rows[a][b] for a, b in pairs}
                ways = {x for x in letters if x in (THERE, BACK)}
                most = max((rank[x] for x in letters), default=-1)
                most = 3 if len(ways) == 2 and most == 2 else most
                self.assertEqual(rank[roles.rows[n][m]], most, (seed, one, two, letters))
                self.assertEqual(roles.wrong[n][m] == "!", any(found.wrong[a][b] == "!" for a, b in pairs))

    def test_with_filters(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(24):
            seen += self.held(filtered_plan(seed))
        self.assertGreater(min(seen[BOTH], seen[APART], seen[THERE] + seen[BACK]), 1, seen)

    def test_with_translations_and_outside_networks(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(40):
            seen += self.held(outward_plan(seed))
        self.assertGreater(min(seen[BOTH], seen[APART]), 5, seen)

    def test_with_addresses_that_are_formed(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(24):
            seen += self.held(advertising_plan(seed))
        self.assertGreater(min(seen[BOTH], seen[APART], seen[OPEN]), 1, seen)

    def test_with_what_is_let_in(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(40):
            seen += self.held(inward_plan(seed))
        self.assertGreater(min(seen[BOTH], seen[APART]), 5, seen)

    def test_with_who_answers_for_others(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(24):
            seen += self.held(proxied_plan(seed))
        self.assertGreater(min(seen[BOTH], seen[APART], seen[THERE] + seen[BACK]), 1, seen)

    def test_with_leases_and_relays(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(16):
            seen += self.held(leasing_plan(seed))
        self.assertGreater(min(seen[BOTH], seen[APART], seen[OPEN]), 3, seen)

    def test_on_layer_2_of_odd_little_plans(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(40):
            seen += self.held(random_plan(seed, rich=seed % 2 == 1, odd=seed % 3 == 2))
        self.assertGreater(min(seen[MEETS], seen[APART]), 5, seen)

    def test_of_a_small_fleet_with_routers_and_filters(self) -> None:
        seen = self.held(with_routers(fleet(4, 10, 8, faults=0.05), routers=3, lines=6))
        self.assertGreater(seen[BOTH], 10, seen)


class DemoTest(unittest.TestCase):
    def test_what_the_demo_plan_says(self) -> None:
        plan = demo_plan()
        found = letters(plan)
        self.assertEqual(found["berth planning", "edge"], MEETS)
        self.assertEqual(found["visitors", "management"], BOTH)
        self.assertEqual(found["ticketing", "CCTV"], BOTH)
        self.assertEqual(found["restore bubble", "ticketing"], APART)
        self.assertEqual(found["edge", "ticketing"], BACK)
        self.assertEqual({found[name, name] for name, _ in found}, {NOBODY})
        judgement = judge(plan)
        by_name = {s.name: s.id for s in plan.all(Segment)}
        known = Meeting(judgement)
        told = known.said(by_name["visitors"], by_name["management"])
        self.assertEqual(
            [t.text for t in told],
            [
                "Packets of visitor-desk-1 get to fulmar’s mgmt over quay-router.",
                "Packets of fulmar’s mgmt get to visitor-desk-1 over quay-router.",
            ],
        )

    def test_rules_say_what_is_expected_and_what_is_not_so_is_wrong(self) -> None:
        plan = demo_plan()
        found = meetings(judge(plan))
        names = [plan.get("segment", id).name for id in found.segments]

        def at(a: str, b: str) -> tuple[str, ...]:
            return tuple(of[names.index(a)][names.index(b)] for of in (found.rows, found.expected, found.wrong))

        self.assertEqual(at("visitors", "management")[1:], ("a", "!"))
        self.assertEqual(at("management", "visitors")[2], "!")
        self.assertEqual(at("restore bubble", "storage"), (APART, "a", " "))
        self.assertEqual(at("visitors", "migration")[1], " ")
        softer: list[Operation] = [
            Patch("rule", "visitors-off-management", {"text": "keep visitors apart from management on layer 2"}),
            Put(Rule(id="led", text="let ticketing reach depot")),
        ]
        after = meetings(judge(apply_edit(plan, tuple(softer))[0]))
        a, b = names.index("visitors"), names.index("management")
        self.assertEqual(after.expected[a][b], "2")
        self.assertEqual(after.wrong[a][b], " ")
        c, d = names.index("ticketing"), names.index("depot")
        self.assertEqual(after.expected[c][d], "r")
        self.assertEqual(after.wrong[c][d], "!")
        # A rule on one guest says nothing of its whole segment.
        one = apply_edit(plan, (Put(Rule(id="x", text="keep guest crew-roster apart from storage")),))[0]
        kept = meetings(judge(one)).expected[names.index("berth planning")][names.index("storage")]
        self.assertEqual(kept, " ")

    def test_each_ending_ends_it_and_what_filters_drop_is_apart(self) -> None:
        plan = demo_plan()
        judgement = judge(plan)
        by_name = {s.name: s for s in plan.all(Segment)}
        one, two = by_name["visitors"], by_name["management"]
        offers = endings(judgement, one, two)
        self.assertTrue(offers)
        for title, edit in offers:
            with self.subTest(title=title):
                self.assertEqual(letters(apply_edit(plan, edit)[0])["visitors", "management"], APART)
        # One line in one direction leaves the other one.
        router = next(s.id for s in plan.all("station") if s.name == "quay-router")
        line = FilterLine(id="line", of=router, order=1, action="drop", sources=("10.66.10.0/24",))
        after = letters(apply_edit(plan, (Put(line),))[0])
        self.assertEqual((after["visitors", "management"], after["management", "visitors"]), (BACK, THERE))

    def test_a_protocol_that_passes_is_enough_and_one_that_is_dropped_alone_is_not(self) -> None:
        plan = demo_plan()
        router = next(s.id for s in plan.all("station") if s.name == "quay-router")

        def fares(*lines: tuple[str, str, str]) -> str:
            edit = tuple(
                Put(FilterLine(id=f"l{n}", of=router, order=n + 1, action=action, protocol=protocol, ports=ports))
                for n, (action, protocol, ports) in enumerate(lines)
            )
            return letters(apply_edit(plan, edit)[0])["visitors", "management"]

        self.assertEqual(fares(("drop", "tcp", ""), ("drop", "udp", "")), BOTH)
        self.assertEqual(fares(("allow", "tcp", "22"), ("drop", "any", "")), BOTH)
        self.assertEqual(fares(("drop", "any", "")), APART)
        self.assertEqual(fares(("drop", "any", ""), ("allow", "tcp", "22")), APART)

    def test_a_mirror_into_another_segment_is_a_meeting(self) -> None:
        plan = demo_plan()
        adapters = plan.where("adapter", "port_group", "fulmar/guests0/ticketing")
        others = plan.where("adapter", "port_group", "fulmar/guests0/CCTV") or [
            a
            for a in plan.all("adapter")
            if a.port_group and a.port_group.startswith("fulmar/guests0/") and a.belongs != adapters[0].belongs
        ]
        plan, _ = apply_edit(plan, (Put(Mirror(id="m", source=adapters[0].id, target=others[0].id)),))
        names = [plan.get("segment", a.belongs).name for a in (adapters[0], others[0])]
        self.assertEqual(letters(plan)[names[0], names[1]], MEETS)

    def test_an_empty_plan_and_segments_with_nobody(self) -> None:
        self.assertEqual(meetings(judge(Plan("empty"))).rows, ())
        plan, _ = apply_edit(Plan("two"), tuple(Put(Segment(id=n, name=n, vid=v)) for n, v in (("a", 10), ("b", 20))))
        found = meetings(judge(plan))
        self.assertEqual(found.rows, (NOBODY * 2, NOBODY * 2))
        self.assertEqual([t.text for t in Meeting(judge(plan)).said("a", "b")], ["Nobody is on a and b."])
        self.assertEqual(set(MEETING), set("mb><?.-"))

    def test_the_list_by_segment_is_the_sheet_in_names(self) -> None:
        plan = demo_plan()
        judgement = judge(plan)
        found = meetings(judgement)
        names = [plan.get("segment", id).name for id in found.segments]
        for (name, groups), letters_, marks in zip(by_segment(judgement), found.rows, found.wrong, strict=True):
            row = dict(zip(names, zip(letters_, marks, strict=True), strict=True))
            for letter, of in zip((MEETS, BOTH, THERE, BACK, OPEN), groups, strict=False):
                self.assertEqual([n for n in names if row[n][0] == letter], of, name)
            self.assertEqual([n for n in names if row[n][1] == "!"], groups[-1])

    def test_order_and_ids_mean_nothing(self) -> None:
        for seed in range(8):
            plan = routed_plan(seed)
            kinds = {record.kind for record in plan}
            turned = Plan(plan.name, {kind: dict(reversed(list(plan.of(kind).items()))) for kind in kinds})
            self.assertEqual(letters(plan), letters(turned))

    def test_an_edit_is_seen(self) -> None:
        plan = demo_plan()
        router = next(s for s in plan.all("station") if s.name == "quay-router")
        off = tuple(Patch("station", router.id, {"routes": False}) for _ in range(1))
        self.assertEqual(letters(apply_edit(plan, off)[0])["visitors", "management"], APART)
        gone = tuple(Drop("filter_line", line.id) for line in plan.all(FilterLine))
        self.assertEqual(letters(apply_edit(plan, gone)[0])["ticketing", "tide gauges"], BOTH)


class AfterEditsTest(unittest.TestCase):
    """What stands after an edit, and what is asked anew."""

    def routed(self) -> Small:
        """Segments 10 and 20 with a guest each and a router between them, each on its own host; segment 30 with two guests."""
        made = Small()
        made.fabric("sw")
        for vid in (10, 20, 30):
            made.segment(vid)
            made.kinds["segment"][-1]["gateways"] = [f"10.{vid}.0.1"]
        for host in "abrcd":
            made.trunk(f"sw/{host}", "10,20,30")
            made.host(host, f"sw/{host}")
        made.guest("a", "a1", 10, addresses=["10.10.0.9/24"])
        made.guest("b", "b1", 20, addresses=["10.20.0.9/24"])
        for vid in (10, 20):
            made.guest("r", f"r{vid}", vid, addresses=[f"10.{vid}.0.1/24"])
        made.kinds["adapter"][-1]["guest"] = made.kinds["adapter"][-2]["guest"]
        made.kinds["guest"].pop()
        made.kinds["guest"][-1]["routes"] = True
        made.put("port_group", "a/g30", switch="a/s", name="g30", mode="access", vid=30)
        for host in "cd":
            made.guest(host, f"{host}1", 30, addresses=[f"10.30.0.{ord(host)}/24"])
        return made

    def after(self, judgement: Judgement, *edits: Edit) -> tuple[Judgement, frozenset[int]]:
        """The judgement after some edits, and the segments of which meetings are asked anew then; they are those from nothing."""
        for edit in edits:
            plan, _ = apply_edit(judgement.plan, edit)
            judgement = rejudge(judgement, plan, touched(edit))
        anew = Meeting(judgement)._before[1]
        self.assertEqual(meetings(judgement), meetings(judge(judgement.plan)))
        return judgement, anew

    def letter(self, judgement: Judgement, a: str, b: str) -> str:
        found = meetings(judgement)
        return found.rows[found.segments.index(a)][found.segments.index(b)]

    def test_who_comes_to_hear_another_segment_is_asked_anew_alone(self) -> None:
        judgement = judge(self.routed().plan())
        self.assertEqual(self.letter(judgement, "s10", "s20"), BOTH)
        judgement, anew = self.after(judgement, (Patch("adapter", "c1", {"connected": False}),))
        self.assertEqual(anew, {2})
        # Voices are numbered otherwise once a VLAN has come apart.
        apart = (Patch("fabric_port", "sw/d", {"allowed": "10,20"}),)
        for edits in ((), (apart,)):
            started = self.after(judgement, *edits)[0]
            over = (Patch("adapter", "a1", {"port_group": "a/g30"}),)
            for at_once in (False, True):
                base = judgement if at_once else started
                found, anew = self.after(base, *(edits if at_once else ()), over)
                self.assertEqual(self.letter(found, "s10", "s30"), MEETS)

    def test_what_becomes_of_the_router_is_felt_by_all(self) -> None:
        judgement = judge(self.routed().plan())
        meetings(judgement)
        judgement, anew = self.after(judgement, (Patch("port_group", "r/g20", {"vid": 30}),))
        self.assertEqual(len(anew), 3)
        self.assertEqual(self.letter(judgement, "s10", "s20"), APART)

    def test_what_was_not_asked_for_want_of_time_does_not_stand(self) -> None:
        dice = random.Random(5)
        for seed in range(40):
            with mock.patch("aptwire.rules.meetings.MOST_WHOLE", 1), mock.patch("aptwire.rules.meetings.MOST_EXACT", 1):
                plan = routed_plan(seed)
                for adapter in dice.sample(sorted(plan.of("adapter")), 2):
                    plan, _ = apply_edit(plan, (Patch("adapter", adapter, {"addresses": []}),))
                judgement = judge(plan)
                meetings(judgement)
                one = dice.choice(sorted(plan.of("adapter")))
                self.after(judgement, (Patch("adapter", one, {"connected": False}),))

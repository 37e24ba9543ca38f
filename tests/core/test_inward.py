"""Translation inwards: who answers for an address of a router, past which filters, for whom from within, and what rules make of it."""

from __future__ import annotations

import unittest
from itertools import product
from typing import Any

from aptwire.above.outcomes import ANSWERED, SILENT
from aptwire.above.ping import Ping, Pings, ping
from aptwire.formats.pcapng import Seen
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge
from aptwire.paper import capture
from aptwire.plan.edits import Patch, apply_edit
from aptwire.plan.filters import PING, Packet, every_packet
from aptwire.plan.kinds import PLACES, FilterLine, InwardTranslation
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.stacks import owner_of
from aptwire.rules.answer import BROKEN, HOLDS, UNKNOWN
from aptwire.rules.asking import asked
from aptwire.rules.mending import rule_offers

from tests.core.test_outside import house
from tests.routers import inward_plan
from tests.support import Small

WEB = Packet("tcp", 443)


def let_in(**said: Any) -> Small:
    """The firewall guest r takes what comes for tcp 443 of its address outside to be for a1's 8443; c1 is beside a1."""
    made = house()
    made.guest("b", "c1", 10, addresses=["10.0.10.12/24"])
    made.put(
        "inward_translation",
        "web",
        **{"at": "r20", "protocol": "tcp", "ports": "443", "to": "10.0.10.11", "port": 8443, **said},
    )
    return made


def asks(made: Small | Judgement, source: str, target: str, packet: Packet = WEB) -> Ping:
    return ping(made if isinstance(made, Judgement) else judge(made.plan()), source, target, packet=packet)


class InwardTest(unittest.TestCase):
    def test_who_asks_the_router_is_answered_by_whom_it_is_for(self) -> None:
        found = asks(let_in(), "b1", "203.0.113.2")
        self.assertEqual(found.outcome, ANSWERED, found.sentence)
        (turned,) = found.ways[0].turned
        self.assertEqual((turned.asked, turned.to, turned.port), ("203.0.113.2", "10.0.10.11", 8443))
        self.assertEqual([leg.to for leg in found.ways[0].legs], ["r20", "a1"])
        self.assertIn("a1", found.sentence)
        # Another port is the router's own.
        self.assertEqual(asks(let_in(), "b1", "203.0.113.2", Packet("tcp", 80)).ways[0].turned, ())

    def test_who_isn_t_reached_by_his_own_address_is_by_the_one_that_lets_him_in(self) -> None:
        self.assertEqual(asks(let_in(), "b1", "guest-a1").outcome, ANSWERED)
        self.assertNotEqual(asks(let_in(), "b1", "guest-a1", PING).outcome, ANSWERED)

    def test_filters_see_whom_it_is_for(self) -> None:
        for targets, ports, outcome in (
            (["10.0.10.11/32"], "8443", SILENT),
            (["203.0.113.2/32"], "443", ANSWERED),
            (["10.0.10.11/32"], "443", ANSWERED),
        ):
            made = let_in()
            line = {"action": "deny", "targets": targets, "protocol": "tcp", "ports": ports}
            made.put("filter_line", "line", of="r", **line)
            with self.subTest(targets=targets, ports=ports):
                self.assertEqual(asks(made, "b1", "203.0.113.2").outcome, outcome)

    def test_from_within_it_needs_a_hairpin(self) -> None:
        # Without one the router itself is asked; with one, who is beside a1 is shown the router's address, lest a1 answers him past it.
        self.assertEqual(asks(let_in(), "c1", "203.0.113.2").ways[0].turned, ())
        found = asks(let_in(hairpin=True), "c1", "203.0.113.2")
        self.assertEqual((found.outcome, found.ways[0].shown), (ANSWERED, "10.0.10.1"))
        self.assertEqual([leg.to for leg in found.ways[1].legs], ["r10", "c1"])
        beside = asks(let_in(at="r10", hairpin=False), "c1", "10.0.10.1")
        self.assertEqual(beside.outcome, SILENT)
        self.assertIn("it comes from 10.0.10.11 itself, past r, and 10.0.10.1 was asked", beside.sentence)

    def test_who_doesn_t_forward_lets_nobody_in(self) -> None:
        made = let_in()
        next(g for g in made.kinds["guest"] if g["id"] == "r")["routes"] = False
        found = asks(made, "b1", "203.0.113.2")
        self.assertEqual(found.outcome, SILENT)
        self.assertIn("forward", found.sentence)

    def test_rules_know_of_it(self) -> None:
        shut, through = house(), let_in()
        shut.guest("b", "c1", 10, addresses=["10.0.10.12/24"])
        for made in (shut, through):
            made.put("filter_line", "in", of="r", action="deny", enters="r20", targets=["10.0.10.12/32"])
            made.put("filter_line", "out", of="r", order=110, action="deny", enters="r10")
        for made, guest, fares in ((through, "a1", BROKEN), (through, "c1", UNKNOWN), (shut, "c1", UNKNOWN)):
            with self.subTest(guest=guest, fares=fares):
                answer = asked(judge(made.plan())).ask(f"keep guest b1 apart from guest {guest}")
                self.assertEqual(answer.outcome, fares, answer.text)
        answer = asked(judge(through.plan())).ask("let guest b1 reach guest a1 on tcp 443")
        self.assertEqual(answer.outcome, HOLDS, answer.text)

    def test_a_rule_is_mended_by_letting_in_and_by_letting_in_no_more(self) -> None:
        made = house(via="203.0.113.2", knows=["203.0.113.0/28"])
        made.put("rule", "in", text="let outside reach guest a1 on tcp 443")
        plan = made.plan()
        self.assertEqual(asked(judge(plan)).ask("let outside reach guest a1 on tcp 443").outcome, BROKEN)
        offers = dict(rule_offers(judge(plan), "let outside reach guest a1 on tcp 443"))
        [title] = [title for title in offers if "let tcp 443 in" in title]
        self.assertEqual(title, "Have r let tcp 443 in at r20 of r for 10.0.10.11")
        after = judge(apply_edit(plan, offers[title])[0])
        self.assertEqual(asked(after).ask("let outside reach guest a1 on tcp 443").outcome, HOLDS)
        # And the other way round: whoever is to be apart is let in no more.
        made = let_in()
        made.put("filter_line", "out", of="r", action="deny", enters="r10")
        plan = made.plan()
        offers = dict(rule_offers(judge(plan), "keep guest b1 apart from guest a1"))
        after = judge(apply_edit(plan, offers["Have r let nothing in for 10.0.10.11"])[0])
        self.assertNotEqual(asked(after).ask("keep guest b1 apart from guest a1").outcome, BROKEN)

    def test_what_is_let_in_to_nobody_is_a_risk(self) -> None:
        self.assertNotIn("idle-inward", [risk.what for risk in risks(judge(let_in().plan()))])
        for said, told in (({"to": "10.0.10.99"}, "nobody has"), ({"at": "b1"}, "doesn’t forward")):
            found = [risk for risk in risks(judge(let_in(**said).plan())) if risk.what == "idle-inward"]
            with self.subTest(said):
                self.assertEqual(len(found), 1)
                self.assertIn(told, found[0].title + found[0].text)

    def test_what_cannot_be_is_refused_by_record_and_field(self) -> None:
        for said, field, words in (
            ({"to": "2001:db8::1"}, "to", "none of IPv4"),
            ({"to": "203.0.113.2"}, "to", "its own address"),
            ({"protocol": "any"}, "ports", "only tcp and udp"),
            ({"ports": "eighty"}, "ports", "is no port"),
        ):
            with self.subTest(said), self.assertRaises(PlanError) as caught:
                apply_edit(let_in().plan(), (Patch("inward_translation", "web", said),))
            text = str(caught.exception.problems[0])
            self.assertTrue(text.startswith(f"inward translation web, field {field}: "), text)
            self.assertIn(words, text)
        made = let_in()
        made.put("inward_translation", "zweb", at="r20", protocol="any", to="10.0.10.12")
        with self.assertRaises(AssertionError) as twice:
            made.plan()
        self.assertIn("some of it is for 10.0.10.11 already", str(twice.exception))

    def test_the_frames_of_each_hop_are_those_of_whom_it_is_for(self) -> None:
        seen: list[Seen] = []
        judgement = judge(let_in(hairpin=True).plan())
        found = Pings(judgement, exact=True).ask("c1", "203.0.113.2", packet=WEB)
        seen = list(capture._frames(judgement.plan, found, WEB))
        told = []
        for one in seen:
            at = one.frame.index(b"\x45")
            source, target = (".".join(map(str, one.frame[at + n : at + n + 4])) for n in (12, 16))
            ports = int.from_bytes(one.frame[at + 20 : at + 22]), int.from_bytes(one.frame[at + 22 : at + 24])
            told.append((source, target, *(port for port in ports if port < 49_152)))
        self.assertEqual(
            list(dict.fromkeys(told)),
            [
                ("10.0.10.12", "203.0.113.2", 443),
                ("10.0.10.1", "10.0.10.11", 8443),
                ("10.0.10.11", "10.0.10.1", 8443),
                ("203.0.113.2", "10.0.10.12", 443),
            ],
        )


class PacketsTest(unittest.TestCase):
    def test_who_may_get_in_is_whose_packets_do(self) -> None:
        """Every packet that some line or translation tells apart, sent by itself to each router's address, against the search that takes all packets at once."""
        counted = dict.fromkeys((True, False), 0)
        for seed in range(40):
            plan = inward_plan(seed)
            judgement = judge(plan)
            pings = Pings(judgement, waking=True)
            for one, turned in product(self.askers(plan), sorted(plan.all(InwardTranslation), key=lambda t: t.id)):
                whose = sorted(judgement.wiring.bearers.get(turned.to, ()))
                if len(whose) != 1 or self.owner(plan, whose[0]) in (
                    self.owner(plan, one),
                    self.owner(plan, turned.at),
                ):
                    continue
                address = plan.find(turned.at, PLACES).addresses[0].partition("/")[0]  # type: ignore[union-attr]
                told = [way for p in self.packets(plan) for way in pings.ask(one, address, packet=p).ways[:1]]
                # Whoever has several interfaces is asked of each by itself.
                mine = [way for way in told if way.turned and way.legs[0].out == one and way.legs[-1].to == whose[0]]
                arrives = any(way.outcome == ANSWERED for way in mine)
                counted[arrives] += 1
                with self.subTest(seed=seed, one=one, to=whose[0]):
                    if arrives:
                        self.assertNotEqual(pings.arrives(one, whose[0])[0], SILENT)
        self.assertGreater(counted[True], 30)

    def packets(self, plan: Plan) -> list[Packet]:
        lines = list(plan.all(FilterLine))
        lines += [
            FilterLine(id=t.id, of="", action="allow", protocol=t.protocol, ports=t.ports)
            for t in plan.all(InwardTranslation)
        ]
        return every_packet(lines)

    def askers(self, plan: Plan) -> list[str]:
        records = [r for kind in ("adapter", "station_port") for r in plan.all(kind)]
        return sorted(r.id for r in records if r.addresses)

    def owner(self, plan: Plan, record: str) -> str:
        found = plan.find(record, PLACES)
        assert found is not None
        return owner_of(plan, found).id


if __name__ == "__main__":
    unittest.main()

"""Outside networks and translation: who reaches what isn't the plan's, who is answered, and what rules say of it."""

from __future__ import annotations

import ipaddress
import random
import unittest
from typing import Any

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import Ping, end_of, ping
from aptwire.judge.verdicts import judge, judged_after
from aptwire.plan.filters import Packet
from aptwire.plan.kinds import Outside
from aptwire.plan.outside import StandIns
from aptwire.plan.sentences import OUTSIDE, read
from aptwire.plan.stacks import told_apart
from aptwire.rules.answer import BROKEN, HOLDS, NOBODY, UNKNOWN
from aptwire.rules.asking import asked
from aptwire.rules.mending import rule_offers

from tests.support import Small


def house(translates: bool = True, **outside: Any) -> Small:
    """a1 on 10 behind the firewall guest r, which has an address on 20, where the gateway of the internet comes in at a port of the switch; b1 on 20 too."""
    made = Small()
    made.segment(10, subnets=["10.0.10.0/24"], gateways=["10.0.10.1"])
    made.segment(20, subnets=["203.0.113.0/28"], gateways=["203.0.113.1"])
    made.fabric("sw")
    made.host("a", made.trunk("sw/p1", "10, 20"))
    made.host("b", made.trunk("sw/p2", "10, 20"))
    made.guest("a", "a1", 10, addresses=["10.0.10.11/24"])
    made.guest("b", "b1", 20, addresses=["203.0.113.11/28"])
    made.put("guest", "r", host="a", name="r", routes=True)
    for vid, address in ((10, "10.0.10.1/24"), (20, "203.0.113.2/28")):
        group = made.put("port_group", f"a/r{vid}", switch="a/s", name=f"r{vid}", mode="access", vid=vid)
        own = {"port_group": group, "belongs": f"s{vid}", "addresses": [address]}
        made.put("adapter", f"r{vid}", guest="r", name=f"r{vid}", **own)
    if translates:
        made.put("translation", "hide", at="r20")
    made.put("way_in", "isp", segment="s20", port=made.access("sw/isp", 20))
    made.put("outside", "net", **{"name": "internet", "at": "isp", **outside})
    return made


def behind_station(**outside: Any) -> Small:
    """a1 on 10 at a switch, whose gateway is a station that forwards into an outside network."""
    made = Small()
    made.segment(10, subnets=["10.0.10.0/24"], gateways=["10.0.10.1"])
    made.fabric("sw")
    made.host("a", made.trunk("sw/p1", "10"))
    made.guest("a", "a1", 10, addresses=["10.0.10.11/24"])
    made.put("station", "edge", name="edge", routes=True)
    port = made.access("sw/edge", 10)
    made.put("station_port", "edge/10", station="edge", port=port, belongs="s10", addresses=["10.0.10.1/24"])
    made.put("outside", "net", **{"name": "internet", "at": "edge", **outside})
    return made


def answer(made: Small, a: str = "a1", b: str = "internet", **more: Any) -> Ping:
    plan = made.plan()
    return ping(judge(plan), end_of(plan, a), end_of(plan, b), **more)


class AnswerTest(unittest.TestCase):
    def test_the_internet_answers_a_private_address_only_where_somebody_translates(self) -> None:
        hidden = answer(house())
        self.assertEqual(hidden.outcome, ANSWERED, hidden.sentence)
        self.assertEqual(hidden.sentence, "internet (198.51.100.1) answers a1.")
        there, back = hidden.ways
        self.assertEqual([leg.to for leg in there.legs], ["r10", "net"])
        self.assertEqual((there.source, there.shown), ("10.0.10.11", "203.0.113.2"))
        self.assertEqual([leg.to for leg in back.legs], ["r20", "a1"])
        bare = answer(house(translates=False))
        self.assertEqual(bare.outcome, SILENT)
        self.assertIn("10.0.10.11 is a private address, to which internet knows no way", bare.sentence)

    def test_what_an_outside_network_knows_is_answered_over_its_next_hop(self) -> None:
        known = {"knows": ["10.0.10.0/24"], "via": "203.0.113.2"}
        self.assertEqual(answer(house(False, **known)).outcome, ANSWERED)
        self.assertEqual(answer(house(False, **known), "internet", "a1").outcome, ANSWERED)
        other = answer(house(False, knows=["10.0.99.0/24"], via="203.0.113.2"))
        self.assertEqual(other.outcome, SILENT)
        self.assertIn("internet knows no way to 10.0.10.11", other.sentence)
        client = answer(house(False, name="client", subnets=["10.9.0.0/16"]), b="10.9.4.4")
        self.assertEqual(client.outcome, UNPROVEN)
        self.assertIn("the plan doesn’t say whether client knows the way to 10.0.10.11", client.sentence)
        # Beside its gateway everybody is on link.
        self.assertEqual(answer(house(), "b1").outcome, ANSWERED)
        self.assertEqual(answer(house(), "internet", "b1").outcome, ANSWERED)

    def test_behind_a_station_that_translates_nothing_comes_in_but_answers(self) -> None:
        self.assertEqual(answer(behind_station(translates=True)).outcome, ANSWERED)
        self.assertEqual(answer(behind_station(translates=True), "internet", "a1").outcome, SILENT)
        self.assertEqual(answer(behind_station()).outcome, SILENT)
        self.assertEqual(answer(behind_station(knows=["10.0.10.0/24"]), "internet", "a1").outcome, ANSWERED)

    def test_the_way_to_the_gateway_outside_is_one_of_frames(self) -> None:
        made = house()
        next(p for p in made.kinds["fabric_port"] if p["id"] == "sw/p1")["allowed"] = "10"
        lost = answer(made)
        self.assertEqual(lost.outcome, SILENT)
        self.assertIn("allows 10; 20 is missing", lost.sentence)
        made = house()
        made.kinds["nic"].append({"id": "a/n1", "host": "a", "name": "n1", "uplink": "a/u", "rank": 1})
        made.cable("a/n1", made.trunk("sw/p3", "10"))
        self.assertEqual(answer(made).outcome, WAVERS)

    def test_a_route_to_an_outside_network_is_taken_by_its_longest_prefix(self) -> None:
        made = behind_station(translates=True)
        made.put("outside", "client", name="client", at="edge", subnets=["10.9.0.0/16"], knows=["10.0.10.0/24"])
        self.assertEqual([leg.to for leg in answer(made, b="10.9.4.4").ways[0].legs], ["edge/10", "client"])
        self.assertEqual([leg.to for leg in answer(made, b="192.0.2.9").ways[0].legs], ["edge/10", "net"])
        # What somebody in the plan has isn't in the internet, even where a station sends it there.
        made.segment(30, subnets=["10.0.30.0/24"])
        made.guest("a", "c1", 30, addresses=["10.0.30.9/24"])
        self.assertIn("goes into internet, where nobody has 10.0.30.9", answer(made, b="c1").sentence)


class WayInTest(unittest.TestCase):
    def test_behind_a_way_in_all_is_as_behind_a_station_with_the_gateway(self) -> None:
        answered = 0
        for seed in range(60):
            dice = random.Random(seed)
            made = house(dice.random() < 0.5)
            for port in made.kinds["fabric_port"]:
                if port["mode"] == "trunk" and dice.random() < 0.2:
                    port["allowed"] = dice.choice(["10", "20"])
            if dice.random() < 0.5:
                uplink = next(u for u in made.kinds["uplink"] if u["id"] == "a/u")
                uplink["mode"] = dice.choice(["standby", "pinned", "hashed"])
                made.put("nic", "a/n1", host="a", name="n1", uplink="a/u", rank=1)
                made.cable("a/n1", made.trunk("sw/p3", dice.choice(["10", "10, 20"])))
            if dice.random() < 0.3:
                net = dice.choice(["10.0.10.0/24", "198.51.100.0/24"])
                said = {
                    dice.choice(["sources", "targets"]): [net],
                    dice.choice(["enters", "leaves"]): dice.choice(["r10", "r20"]),
                }
                made.put("filter_line", "f", of="r", order=10, action="deny", **said)
            outside = made.kinds["outside"][0]
            if dice.random() < 0.6:
                outside.update(
                    knows=[dice.choice(["10.0.10.0/24", "10.0.99.0/24"])], via=f"203.0.113.{dice.choice([2, 3, 11])}"
                )
            one = made.plan()
            knows, via = outside.pop("knows", []), outside.pop("via", None)
            made.kinds.pop("way_in")
            made.put("station", "isp-router", name="isp-router", routes=True)
            own = {"belongs": "s20", "addresses": ["203.0.113.1/28"]}
            made.put("station_port", "isp/20", station="isp-router", port="sw/isp", **own)
            outside.update(at="isp-router", knows=[*knows, "203.0.113.0/28"])
            if knows:
                made.put("route", "isp-known", of="isp-router", to=knows, via=via)
            two = made.plan()
            for a, b in [*((id, "net") for id in ("a1", "b1", "r")), *(("net", id) for id in ("a1", "b1", "r10"))]:
                told = [ping(judge(plan), a, b) for plan in (one, two)]
                with self.subTest(seed=seed, a=a, b=b):
                    self.assertEqual(*(t.outcome for t in told), [t.sentence for t in told])
                answered += told[0].outcome == ANSWERED
        self.assertGreater(answered, 60)


class TranslationTest(unittest.TestCase):
    def test_who_has_no_way_back_answers_whoever_translates(self) -> None:
        """b1 knows no way to 10, and answers 203.0.113.2, which is beside it."""
        self.assertEqual(answer(house(), b="b1").outcome, ANSWERED)
        self.assertEqual(answer(house(translates=False), b="b1").outcome, UNPROVEN)
        made = house()
        made.kinds["translation"][0]["sources"] = ["10.0.99.0/24"]
        self.assertEqual(answer(made, b="b1").outcome, UNPROVEN, "of others alone")
        made.kinds["translation"][0]["sources"] = ["10.0.99.0/24", "10.0.10.0/25"]
        self.assertEqual(answer(made, b="b1").outcome, ANSWERED)

    def test_a_filter_sees_what_was_sent_and_the_next_one_what_was_put_in_its_place(self) -> None:
        made = house()
        made.put("filter_line", "f", of="r", order=10, action="deny", sources=["203.0.113.2/32"])
        self.assertEqual(answer(made).outcome, ANSWERED)
        made.kinds["filter_line"][0]["sources"] = ["10.0.10.0/24"]
        self.assertEqual(answer(made).outcome, SILENT)
        self.assertEqual(answer(made, packet=Packet("tcp", 443)).outcome, SILENT)
        # Behind r stands q, which drops whatever comes from r's own address.
        made = house()
        made.segment(30, subnets=["10.0.30.0/24"], gateways=["10.0.30.1"])
        made.put("guest", "q", host="b", name="q", routes=True)
        for vid, address in ((20, "203.0.113.3/28"), (30, "10.0.30.1/24")):
            group = made.put("port_group", f"b/q{vid}", switch="b/s", name=f"q{vid}", mode="access", vid=vid)
            own = {"port_group": group, "belongs": f"s{vid}", "addresses": [address]}
            made.put("adapter", f"q{vid}", guest="q", name=f"q{vid}", **own)
        made.guest("b", "c1", 30, addresses=["10.0.30.11/24"])
        made.put("route", "r-q", of="r", to=["10.0.30.0/24"], via="203.0.113.3")
        self.assertEqual(answer(made, b="c1").outcome, ANSWERED)
        made.put("filter_line", "f", of="q", order=10, action="deny", sources=["10.0.10.0/24"])
        self.assertEqual(answer(made, b="c1").outcome, ANSWERED, "q never sees that address")
        made.kinds["filter_line"][0]["sources"] = ["203.0.113.2/32"]
        self.assertEqual(answer(made, b="c1").outcome, SILENT)
        made.kinds["segment"][1]["gateways"] = []  # over which outside the plan what is sent might come back
        rules = asked(judge(made.plan()))
        self.assertEqual(rules.ask("keep s10 apart from s30").outcome, HOLDS)
        made.kinds["filter_line"][0]["sources"] = ["10.0.10.0/24"]
        self.assertEqual(asked(judge(made.plan())).ask("keep s10 apart from s30").outcome, BROKEN)


class RulesTest(unittest.TestCase):
    def fares(self, made: Small, text: str) -> str:
        return asked(judge(made.plan())).ask(text).outcome

    def test_rules_speak_of_what_is_outside(self) -> None:
        made = house()
        self.assertEqual(self.fares(made, "let s10 reach outside"), HOLDS)
        self.assertEqual(self.fares(made, "let s10 reach outside internet on tcp 443 only through r"), HOLDS)
        self.assertEqual(self.fares(made, "let s20 reach internet only through r"), BROKEN)
        self.assertEqual(self.fares(made, "keep s10 apart from outside"), BROKEN)
        self.assertEqual(self.fares(made, "keep s10 apart from everything except s20"), BROKEN)
        self.assertEqual(self.fares(made, "keep s10 apart from outside on layer 2"), NOBODY)
        self.assertEqual(self.fares(made, "keep s10 apart from outside moon"), NOBODY)
        self.assertEqual(self.fares(house(False), "let s10 reach outside"), BROKEN)

    def test_what_is_let_out_isn_t_apart_even_where_no_answer_comes(self) -> None:
        self.assertEqual(self.fares(house(False), "keep s10 apart from internet"), BROKEN)
        made = house(False)
        made.kinds["guest"][-1]["routes"] = False
        self.assertEqual(self.fares(made, "keep s10 apart from internet"), HOLDS)

    def test_whoever_is_outside_may_send_what_nobody_told_it(self) -> None:
        """A filter lets nothing out, and something in: the internet knows no way to a private address, and somebody hostile needs none."""
        made = house()
        made.put("filter_line", "f", of="r", order=10, action="deny", enters="r10")
        self.assertEqual(self.fares(made, "keep s10 apart from internet"), HOLDS)
        hostile = asked(judge(made.plan())).ask("keep s10 apart from internet even if hostile")
        self.assertEqual(
            (hostile.outcome, hostile.text),
            (BROKEN, "Somebody in internet could hand packets for a1 to r, which sends them on."),
        )
        made.put("filter_line", "g", of="r", order=20, action="deny", enters="r20")
        self.assertEqual(self.fares(made, "keep s10 apart from internet even if hostile"), HOLDS)

    def test_whoever_may_tag_as_the_gateway_outside_hears_gets_there(self) -> None:
        """c1 is on a trunk with 20 on it, at which the gateway of the internet comes in; its own segment has neither router nor gateway."""
        made = house()
        made.segment(30, subnets=["10.0.30.0/24"])
        made.put("port_group", "b/wide", switch="b/s", name="wide", mode="trunk", allowed="20", native=30)
        made.put("guest", "guest-c1", host="b", name="c1")
        own = {"port_group": "b/wide", "belongs": "s30", "addresses": ["10.0.30.11/24"]}
        made.put("adapter", "c1", guest="guest-c1", name="c1", **own)
        text = "keep s30 apart from outside internet"
        self.assertEqual(self.fares(made, text), HOLDS)
        told = asked(judge(made.plan())).ask(f"{text} even if hostile")
        self.assertEqual(told.outcome, BROKEN)
        self.assertIn("c1 could hand packets for internet to", told.text)
        next(g for g in made.kinds["port_group"] if g["id"] == "b/wide")["allowed"] = "40"
        # What r is handed for 30 goes back to the gateway outside, of which nobody knows where it sends that.
        self.assertEqual(self.fares(made, f"{text} even if hostile"), UNKNOWN)

    def test_every_part_that_is_told_apart_is_asked(self) -> None:
        made = house()
        made.put("filter_line", "f", of="r", order=10, action="deny", targets=["192.0.2.0/24"])
        self.assertEqual(answer(made).outcome, ANSWERED)
        told = asked(judge(made.plan())).ask("let s10 reach outside")
        self.assertEqual(told.outcome, BROKEN)
        self.assertIn("192.0.2.1 doesn’t answer", told.text)
        made.kinds["filter_line"][0].update(action="allow")
        made.put("filter_line", "g", of="r", order=20, action="deny")
        self.assertEqual(answer(made).outcome, SILENT)
        self.assertEqual(self.fares(made, "keep s10 apart from outside"), BROKEN)

    def test_nobody_can_know_what_comes_in_where_the_plan_doesn_t_say(self) -> None:
        made = house(False, name="client", subnets=["10.9.0.0/16"])
        made.put("filter_line", "f", of="r", order=10, action="deny", enters="r10")
        self.assertEqual(self.fares(made, "keep s10 apart from outside client"), UNKNOWN)

    def test_outside_alone_or_with_a_name_is_read(self) -> None:
        for text, name in (("outside", ""), ("outside internet", "internet"), ('outside "the moon"', "the moon")):
            subject = read(f"keep a apart from {text} even if hostile").b[0]  # type: ignore[union-attr]
            self.assertEqual((subject.sort, subject.name, str(subject)), (OUTSIDE, name, text))


class MendsTest(unittest.TestCase):
    def mended(self, made: Small, text: str, title: str) -> None:
        """A mend of that title is offered, and after it the rule holds."""
        judgement = judge(made.plan())
        self.assertEqual(asked(judgement).ask(text).outcome, BROKEN)
        offers = dict(rule_offers(judgement, text))
        self.assertIn(title, offers)
        self.assertEqual(asked(judged_after(judgement, offers[title])).ask(text).outcome, HOLDS)

    def test_who_gets_no_answer_is_translated_or_known(self) -> None:
        self.mended(house(False), "let a1 reach outside", "Have r translate what leaves by r20 of r")
        self.mended(
            house(False), "let a1 reach outside", "Say that internet knows the way to 10.0.10.0/24 over 203.0.113.2"
        )
        self.mended(behind_station(), "let a1 reach outside", "Say that edge translates what goes into internet")
        self.mended(behind_station(), "let a1 reach outside", "Say that internet knows the way to 10.0.10.0/24")

    def test_who_gets_out_is_stopped_where_it_leaves(self) -> None:
        title = "Have r drop what s10 and outside send each other"
        made = house()
        self.mended(made, "keep s10 apart from outside except guest r", title)
        judgement = judge(made.plan())
        after = judged_after(
            judgement, dict(rule_offers(judgement, "keep s10 apart from outside except guest r"))[title]
        )
        self.assertEqual(ping(after, "a1", "b1").outcome, SILENT, "which leaves by the same interface")
        self.assertEqual(ping(after, "a1", "r20").outcome, ANSWERED, "and nothing that stays inside")
        client = house(name="client", subnets=["10.9.0.0/16"])
        self.mended(
            client, "keep s10 apart from client except guest r", "Have r drop what s10 and client send each other"
        )
        self.mended(behind_station(), "keep s10 apart from outside except edge", "Have edge forward nothing")


class RecordsTest(unittest.TestCase):
    def test_what_doesn_t_fit_is_refused_with_record_and_field(self) -> None:
        known = {"knows": ["10.0.10.0/24"]}
        for made, told in (
            (behind_station(via="10.0.10.1"), "behind a station there is no next hop"),
            (house(**known), "over which next hop?"),
            (house(**known, via="10.0.10.1"), "10.0.10.1 is in no subnet of s20"),
            (house(knows=["2001:db8::/64"], via="203.0.113.2"), "is not of the family of its next hop"),
            (behind_station(at="nowhere"), "nowhere"),
        ):
            with self.subTest(told), self.assertRaises(AssertionError) as raised:
                made.plan()
            self.assertIn(told, str(raised.exception))

    def test_for_each_address_outside_one_stands_that_nothing_tells_from_it(self) -> None:
        for seed in range(200):
            dice = random.Random(seed)
            made = house(subnets=dice.choice([[], ["198.18.0.0/16"], ["198.18.4.0/22", "192.0.2.0/24"]]))
            nets = [
                "198.18.0.0/16",
                "198.18.4.0/24",
                "198.18.5.0/24",
                "198.18.4.128/25",
                "192.0.2.0/25",
                "198.51.100.0/24",
                "198.18.7.9/32",
            ]
            for n in range(dice.randint(0, 5)):
                made.put("filter_line", f"f{n}", of="r", order=n, action="deny", targets=[dice.choice(nets)])
            plan = made.plan()
            outside = plan.get("outside", "net")
            assert isinstance(outside, Outside)
            found = StandIns(plan).of(outside, 4)
            told = [ipaddress.ip_network(net) for net in set(told_apart(plan)) - set(outside.subnets)]
            within = [ipaddress.ip_network(net) for net in outside.subnets] or [
                ipaddress.ip_network("198.0.0.0/8"),
                ipaddress.ip_network("192.0.2.0/24"),
            ]
            kinds = {tuple(address in net for net in told) for address in found}
            self.assertEqual(len(kinds), len(found), "one each")
            for _ in range(60):
                net = dice.choice(within)
                address = net[dice.randrange(net.num_addresses)]
                if address not in ipaddress.ip_network("203.0.113.0/28"):
                    self.assertIn(tuple(address in net for net in told), kinds, f"{seed}: {address}")


if __name__ == "__main__":
    unittest.main()

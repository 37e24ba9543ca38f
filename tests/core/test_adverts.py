"""Advertisements: who hears whom advertise past guards and broken ways, what is formed of it, and what comes of that."""

from __future__ import annotations

import ipaddress
import random
import unittest
from typing import Any

from aptwire.above.adverts import Adverts, listeners
from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import Pings, ping
from aptwire.forward.frames import ADVERT, Frames
from aptwire.forward.parts import NOW
from aptwire.judge.findings import everything
from aptwire.judge.formed import TAKEN, UNHEARD
from aptwire.judge.gotten import gotten
from aptwire.judge.lease import EITHER, WRONG
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge, rejudge
from aptwire.plan.edits import Drop, Operation, Patch, apply_edit, touched
from aptwire.plan.kinds import Advertisement
from aptwire.plan.plan import PlanError

from tests.core import test_leases
from tests.core.test_leases import adapter
from tests.core.test_ping import two_segments
from tests.routers import advertising_plan
from tests.support import Small

MAC = "02:00:5e:10:00:01"
NET, OTHER = "2001:db8:10::/64", "2001:db8:20::/64"


def listening(**said: Any) -> Small:
    """Guest a1 on host a forms addresses on 10; guest r, a router on host a with the gateways of 10 and 20, advertises there."""
    made = two_segments()
    for segment in made.kinds["segment"]:
        vid = segment["vid"]
        segment["subnets"] = [*segment["subnets"], f"2001:db8:{vid}::/64"]
        segment["gateways"] = [*segment["gateways"], f"2001:db8:{vid}::1"]
    adapter(made, "a1").update(addressing6="advertised", mac=MAC)
    for vid in (10, 20):
        router = adapter(made, f"r{vid}")
        router.update(addresses=[*router["addresses"], f"2001:db8:{vid}::1/64"], advertise_routes=True)
    made.put("advertisement", "said", at="r10", **{"prefixes": [NET], **said})
    return made


def stranger(made: Small, **said: Any) -> None:
    """A guest on host b advertises on 10 as well."""
    made.guest("b", "x", 10, addresses=["2001:db8:20::66/64"], advertise_routes=True)
    made.put("advertisement", "stray", at="x", **{"prefixes": [OTHER], **said})


class Case(test_leases.Case):
    GOT = "formed"


class FormingTest(Case):
    def test_a_prefix_that_is_heard_becomes_an_address_and_its_router_the_way_out(self) -> None:
        made = listening()
        adapter(made, "b1")["addresses"].append("2001:db8:20::7/64")
        judgement = self.fares(made, TAKEN, "home")
        (one,) = gotten(judgement).held["a1"]
        self.assertEqual(str(one.bound), "2001:db8:10::5eff:fe10:1/64")
        self.assertEqual(judgement.formed["a1"].got, NET)
        self.assertEqual(judgement.formed["a1"].by(judgement.plan), "r")
        self.assertEqual(ping(judgement, "a1", "2001:db8:20::7").outcome, ANSWERED)
        self.assertEqual(ping(judgement, "b1", "a1").outcome, ANSWERED)
        # What stands for it isn't what it has: a host may choose the rest of its address as it likes.
        self.assertEqual(ping(judgement, "b1", str(one.bound.ip)).outcome, UNPROVEN)

    def test_who_offers_no_way_out_leaves_it_without_where_the_segment_has_one(self) -> None:
        judgement = self.fares(listening(router=False), UNHEARD, "stranded", "offers itself as the way out")
        after = self.mended(judgement, "Have r10 of r advertise 2001:db8:10::/64 of s10, and itself as the way out")
        self.assertTrue(after.plan.get("advertisement", "said").router)

    def test_whom_it_ought_to_hear_is_known_once_somebody_elsewhere_advertises_its_subnet(self) -> None:
        made = listening()
        made.kinds["advertisement"][0].update(at="r20", prefixes=[OTHER])
        judgement = judge(made.plan())
        self.assertEqual((judgement.formed["a1"].outcome, judgement.formed["a1"].towards), (UNPROVEN, ""))
        for prefixes in ([NET], [OTHER]):
            edit = (Patch("advertisement", "said", {"prefixes": prefixes}),)
            judgement = rejudge(judgement, apply_edit(judgement.plan, edit)[0], touched(edit))
            self.assertEqual(judgement.formed["a1"].towards, "r20" if prefixes == [NET] else "")
            self.assertEqual(judgement.formed, judge(judgement.plan).formed)

    def test_nobody_who_is_known_to_advertise_is_unproven(self) -> None:
        made = listening()
        made.kinds["advertisement"].clear()
        judgement = self.fares(made, UNPROVEN, "unproven", "doesn’t say who advertises")
        self.mended(judgement, "Have r10 of r advertise 2001:db8:10::/64 of s10")

    def test_a_guard_that_drops_it_is_named_opened_and_a_risk(self) -> None:
        made = listening()
        adapter(made, "r10")["advertise_routes"] = False
        judgement = self.fares(made, UNHEARD, "stranded", "a guard drops what r10 of r advertises")
        self.assertIn("held-advert", [risk.what for risk in risks(judgement)])
        self.assertNotIn("held-advert", [risk.what for risk in risks(self.mended(judgement, "Let r r10 advertise"))])

    def test_who_is_off_advertises_nothing_and_may_be_started(self) -> None:
        made = listening()
        next(g for g in made.kinds["guest"] if g["id"] == "r")["running"] = False
        self.fares(made, UNHEARD, "stranded", "its guest is off")

    def test_a_router_that_is_not_heard_is_named(self) -> None:
        made = listening()
        made.guest("b", "c", 10, addressing6="advertised")
        next(port for port in made.kinds["fabric_port"] if port["id"] == "sw/p2")["allowed"] = "20"
        judgement = judge(made.plan())
        self.assertEqual(judgement.formed["c"].outcome, UNHEARD)
        self.assertIn("doesn’t hear r10 of r", judgement.formed["c"].reason)

    def test_a_router_that_is_heard_over_one_nic_alone_wavers(self) -> None:
        made = listening()
        made.host("c", made.trunk("sw/q1", "10, 20"), made.trunk("sw/q2", "20"))
        made.guest("c", "d", 10, addressing6="advertised")
        self.assertEqual(judge(made.plan()).formed["d"].outcome, WAVERS)

    def test_an_end_of_which_nobody_knows_is_unproven(self) -> None:
        made = listening()
        made.kinds["advertisement"].clear()
        made.kinds["cable"].clear()
        self.fares(made, UNPROVEN, "unproven")


class StrangerTest(Case):
    def test_a_stranger_beside_the_own_router_leaves_open_which_is_used(self) -> None:
        made = listening()
        stranger(made)
        judgement = self.fares(made, EITHER, "wavering", "x advertises 2001:db8:20::/64")
        self.assertIn("stray-advert", [risk.what for risk in risks(judgement)])
        self.mended(judgement, "Have a guard drop what x")
        self.mended(judgement, "Take away the advertisement at x")

    def test_a_stranger_who_alone_is_heard_leads_astray(self) -> None:
        made = listening()
        made.kinds["advertisement"].clear()
        stranger(made)
        self.fares(made, WRONG, "stranded", "no subnet of s10")

    def test_a_stranger_of_the_own_prefix_that_offers_itself_is_another_way_out(self) -> None:
        made = listening()
        stranger(made, prefixes=[NET])
        self.fares(made, EITHER, "wavering", "x offers itself as the way out, and the gateway of s10 is 2001:db8:10::1")

    def test_a_second_router_of_the_segment_adds_up(self) -> None:
        made = listening()
        made.guest("b", "y", 10, addresses=["2001:db8:10::2/64"], advertise_routes=True)
        made.put("advertisement", "second", at="y", prefixes=[NET], router=False)
        judgement = self.fares(made, TAKEN, "home")
        self.assertEqual(len(judgement.formed["a1"].heard), 2)

    def test_what_is_heard_one_way_is_heard(self) -> None:
        # Whoever is on an isolated port hears a stranger on the uplink's side, as he does his router.
        made = listening()
        adapter(made, "a1")["isolated"] = True
        stranger(made)
        self.fares(made, EITHER, "wavering")


class SelfHeardTest(unittest.TestCase):
    def test_who_hears_itself_may_take_its_own_address_for_taken(self) -> None:
        made = listening()
        adapter(made, "a1")["reflects"] = True
        judgement = judge(made.plan())
        (risk,) = (risk for risk in risks(judgement) if risk.what == "self-heard")
        self.assertEqual(risk.title, "a1 may take its own IPv6 addresses for taken")
        after = judge(apply_edit(judgement.plan, risk.mends[0][1])[0])  # type: ignore[index]
        self.assertNotIn("self-heard", [risk.what for risk in risks(after)])
        adapter(made, "a1")["addressing6"] = "static"
        self.assertNotIn("self-heard", [risk.what for risk in risks(judge(made.plan()))])


class RefusedTest(unittest.TestCase):
    def test_what_no_router_can_advertise_names_record_field_and_why(self) -> None:
        for said, words in (
            ({"prefixes": ["10.0.10.0/24"]}, "none of IPv6"),
            ({"prefixes": ["2001:db8::/56"]}, "has 56 bits"),
            ({"prefixes": ["fe80::/64"]}, "nobody forms addresses"),
            ({"on_link": ["fe80::/64"]}, "nobody forms addresses, or leases them"),
            ({"on_link": ["10.0.10.0/24"]}, "none of IPv6"),
            ({"on_link": [NET]}, "addresses are formed: it is on link by that"),
            ({"prefixes": [], "router": False}, "advertises no prefix"),
        ):
            with self.subTest(said), self.assertRaises(PlanError) as caught:
                apply_edit(listening().plan(), (Patch("advertisement", "said", said),))
            (problem,) = caught.exception.problems
            self.assertTrue(str(problem).startswith(f"advertisement said, field {next(iter(said))}: "), str(problem))
            self.assertIn(words, str(problem))


class OracleTest(unittest.TestCase):
    def test_who_is_heard_advertising_is_whose_frames_arrive(self) -> None:
        """Frames, each sent by itself, share nothing with who may hear whom by the arrays and traces but the wiring."""
        counted = dict.fromkeys((True, False), 0)
        for seed in range(40):
            judgement = judge(advertising_plan(seed))
            plan, frames = judgement.plan, Frames(judgement.wiring)
            adverts = Adverts(judgement, NOW, waking=True)
            for record in listeners(plan):
                told = {a.at: a.outcome for a in adverts.of(record).adverts}
                for said in plan.all(Advertisement):
                    port = plan.of("station_port").get(said.at)
                    seat, vid = (port.port, port.vid) if port is not None else (said.at, None)
                    heard = seat in frames.seats and (record.id, None) in frames.heard(seat, vid, ADVERT)
                    counted[heard] += 1
                    with self.subTest(seed=seed, listener=record.id, said=said.at):
                        self.assertEqual(told.get(said.at, SILENT), ANSWERED if heard else SILENT)
        self.assertGreater(min(counted.values()), 50)

    def test_after_any_edits_the_same_as_from_nothing(self) -> None:
        outcomes = set()
        for seed in range(25):
            dice, judgement = random.Random(seed), judge(advertising_plan(seed))
            for _ in range(6):
                plan = judgement.plan
                said, adapters = sorted(plan.of("advertisement")), sorted(plan.of("adapter"))
                ways: list[tuple[Operation, ...]] = [
                    (Patch("adapter", dice.choice(adapters), {"advertise_routes": dice.random() < 0.5}),),
                    (Patch("adapter", dice.choice(adapters), {"connected": dice.random() < 0.7}),),
                    (Patch("adapter", dice.choice(adapters), {"addressing6": dice.choice(["static", "advertised"])}),),
                    (Patch("segment", "s10", {"gateways": dice.choice([[], ["2001:db8:10::1"]])}),),
                    (Patch("adapter", dice.choice(adapters), {"mac": f"02:00:5e:30:00:{dice.randrange(9):02x}"}),),
                ]
                if said:
                    ways += [
                        (Patch("advertisement", dice.choice(said), {"prefixes": [dice.choice([NET, OTHER])]}),),
                        (Drop("advertisement", dice.choice(said)),),
                    ]
                edit = dice.choice(ways)
                after = apply_edit(plan, edit)[0]
                judgement = rejudge(judgement, after, touched(edit))
                fresh = judge(after)
                with self.subTest(seed=seed, edit=str(edit)):
                    told = [[(id, f.to_json()) for id, f in sorted(j.formed.items())] for j in (judgement, fresh)]
                    self.assertEqual(*told)
                    self.assertEqual(judgement.verdicts(), fresh.verdicts())
                    self.assertEqual(*(sorted(gotten(j).held.items()) for j in (judgement, fresh)))
                    self.assertEqual(*([f.title for f in everything(j)] for j in (judgement, fresh)))
                outcomes |= {formed.outcome for formed in fresh.formed.values()}
        self.assertLessEqual({TAKEN, UNHEARD, WRONG, EITHER, UNPROVEN}, outcomes)

    def test_whoever_formed_an_address_gets_answers_from_whom_it_hears_and_who_hears_it(self) -> None:
        counted = dict.fromkeys((True, False), 0)
        for seed in range(40):
            judgement = judge(advertising_plan(seed))
            frames, pings = Frames(judgement.wiring), Pings(judgement, exact=True, waking=True)
            for id, of in gotten(judgement).held.items():
                for advert in judgement.formed[id].heard:
                    port = judgement.plan.of("station_port").get(advert.at)
                    seat = (port.port, port.vid) if port is not None else (advert.at, None)
                    for via in advert.vias:
                        if not any(ipaddress.ip_address(via) in one.bound.network for one in of):
                            continue
                        hears = seat in frames.heard(id, None) and (id, None) in frames.heard(*seat)
                        counted[hears] += 1
                        with self.subTest(seed=seed, listener=id, via=via):
                            self.assertEqual(pings.ask(id, via, NOW).outcome == ANSWERED, hears)
        self.assertGreater(counted[True], 20)


if __name__ == "__main__":
    unittest.main()

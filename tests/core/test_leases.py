"""Leases: who is heard asking, who answers past guards, relays and filters, with what, and what comes of it."""

from __future__ import annotations

import ipaddress
import random
import unittest
from collections.abc import Iterator
from typing import Any, ClassVar

from aptwire.above.leases import Leases, Leases6, clients, mac_of
from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import Pings, end_of, ping
from aptwire.judge.findings import everything, findings
from aptwire.judge.formed import UNHEARD
from aptwire.judge.gotten import gotten
from aptwire.judge.ground import Ground
from aptwire.judge.judgement import Judgement
from aptwire.judge.lease import EITHER, LEASED, NO_ANSWER, NO_LEASES, WRONG
from aptwire.judge.mends import mends
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge, judged_after, rejudge
from aptwire.plan.checks import make_record
from aptwire.plan.edits import Drop, Operation, Patch, Put, apply_edit, touched
from aptwire.plan.kinds import KINDS, FilterLine, LeaseScope, Route, Translation
from aptwire.plan.plan import Plan, PlanError
from aptwire.rules.answer import BROKEN, HOLDS, UNKNOWN
from aptwire.rules.asking import asked
from aptwire.rules.mending import rule_offers

from tests.core.test_ping import two_segments
from tests.routers import leasing_plan, more_lines
from tests.support import Small

MAC = "02:00:5e:10:00:01"


OTHER_MAC = "02:00:5e:10:00:09"
HALF = {"sources": ["10.0.10.104/31"]}


def asking(**scope: Any) -> Small:
    """Guest a1 on host a asks for a lease on 10; guest r, a router on host a with the gateways of 10 and 20, leases there."""
    made = two_segments()
    a1 = next(a for a in made.kinds["adapter"] if a["id"] == "a1")
    del a1["addresses"]
    a1.update(addressing="lease", mac=MAC)
    for adapter in made.kinds["adapter"]:
        adapter["serve_leases"] = True
    served(made, "r", 10, **scope)
    return made


def served(made: Small, owner: str, vid: int, **scope: Any) -> None:
    """Somebody leases 10.0.VID.100 to 109 with the gateway 10.0.VID.1."""
    net = f"10.0.{vid}"
    said = {"subnet": f"{net}.0/24", "pool": [f"{net}.100-{net}.109"], "gateways": [f"{net}.1"], **scope}
    made.put("lease_scope", f"{owner}-{vid}", of=owner, **said)


def relayed() -> Small:
    """The same, but that r relays on 10 to the guest d on 20, who leases there."""
    made = asking()
    made.kinds["lease_scope"].clear()
    made.guest("b", "d", 20, addresses=["10.0.20.9/24"], serve_leases=True)
    served(made, "guest-d", 10)
    made.put("lease_relay", "relay", at="r10", to=["10.0.20.9"])
    return made


def second_router(made: Small, address: str) -> None:
    """Guest q on host b, who forwards between 20, where he is number 2, and 30, where he is number 1."""
    made.put("guest", "q", host="b", name="q", routes=True)
    for vid, n in ((20, 2), (30, 1)):
        group = made.put("port_group", f"b/q{vid}", switch="b/s", name=f"q{vid}", mode="access", vid=vid)
        made.put("adapter", f"q{vid}", guest="q", name=f"q{vid}", port_group=group, belongs=f"s{vid}")
        made.kinds["adapter"][-1].update(addresses=[address.format(vid, n)], serve_leases=True)


def _changed(plan: Plan, *edit: Operation) -> tuple[Plan, set[tuple[str, str]]]:
    """A plan after an edit, and what that touched."""
    return apply_edit(plan, edit)[0], set(touched(edit))


def adapter(made: Small, id: str) -> dict[str, Any]:
    return next(a for a in made.kinds["adapter"] if a["id"] == id)


class Case(unittest.TestCase):
    GOT: ClassVar[str] = "leases"
    """Where a judgement has what interfaces get."""

    def fares(self, made: Small, outcome: str, verdict: str, words: str = "") -> Judgement:
        """What a1 gets, and its verdict."""
        judgement = judge(made.plan())
        got = getattr(judgement, self.GOT)["a1"]
        self.assertEqual((got.outcome, judgement.verdicts()["a1"]), (outcome, verdict), got.reason)
        self.assertIn(words, got.reason)
        return judgement

    def mended(self, judgement: Judgement, title: str) -> Judgement:
        """A mend of a1's finding that begins with these words, taken: a1 is home."""
        finding = next(f for f in findings(judgement) if "a1" in f.endpoints)
        found = mends(judgement, finding)
        mend = next((m for m in found if m.title.startswith(title)), None)
        self.assertIsNotNone(mend, [m.title for m in found])
        after = judge(apply_edit(judgement.plan, mend.edit)[0])  # type: ignore[union-attr]
        self.assertEqual(after.verdicts()["a1"], "home")
        return after


class DirectTest(Case):
    def test_who_leases_on_the_link_answers_from_the_scope_of_his_address(self) -> None:
        """RFC 2131 section 4.3.1."""
        judgement = self.fares(asking(), LEASED, "home")
        (offer,) = judgement.leases["a1"].heard
        self.assertEqual((offer.server, offer.at, offer.address, offer.scope.subnet), ("r", "r10", "", "10.0.10.0/24"))

    def test_what_is_kept_for_a_mac_address_goes_to_it_alone(self) -> None:
        judgement = self.fares(asking(kept=[f"{MAC} 10.0.10.40"], pool=[]), LEASED, "home")
        self.assertEqual(judgement.leases["a1"].heard[0].address, "10.0.10.40/24")
        other = self.fares(asking(kept=["02:00:5e:10:00:09 10.0.10.40"], pool=[]), NO_ANSWER, "stranded", "for others")
        self.mended(other, "Keep 10.0.10.")
        # A pool of one that is kept for somebody else has nothing left.
        made = asking(kept=["02:00:5e:10:00:09 10.0.10.100"], pool=["10.0.10.100"])
        self.fares(made, NO_ANSWER, "stranded", "for others")
        del adapter(made, "a1")["mac"]
        self.fares(made, UNPROVEN, "unproven", "which the plan doesn’t say")

    def test_a_guard_drops_what_is_answered(self) -> None:
        made = asking()
        adapter(made, "r10")["serve_leases"] = False
        judgement = self.fares(made, NO_ANSWER, "stranded", "a guard drops")
        self.assertIn("gets no lease", findings(judgement)[0].title)
        self.mended(judgement, "Let r r10 serve leases")

    def test_who_is_off_does_not_answer(self) -> None:
        made = relayed()
        next(g for g in made.kinds["guest"] if g["id"] == "guest-d")["running"] = False
        judgement = self.fares(made, NO_ANSWER, "stranded", "its guest is off")
        self.mended(judgement, "Start d")

    def test_who_is_not_heard_gets_none(self) -> None:
        made = asking()
        served(made, "guest-d", 10, pool=["10.0.10.200-10.0.10.209"])
        made.guest("b", "d", 10, addresses=["10.0.10.9/24"], serve_leases=True)
        made.kinds["lease_scope"].pop(0)
        self.fares(made, LEASED, "home")
        next(p for p in made.kinds["fabric_port"] if p["id"] == "sw/p2")["allowed"] = "20, 30"
        judgement = self.fares(made, NO_ANSWER, "stranded", "isn’t heard at d of d")
        finding = next(f for f in findings(judgement) if "a1" in f.endpoints)
        self.assertEqual(finding.what, "no-lease")

    def test_a_failover_loses_it(self) -> None:
        made = asking()
        made.trunk("sw/p3", "20, 30")
        made.put("nic", "b/n1", host="b", name="n1", uplink="b/u", rank=1)
        made.cable("b/n1", "sw/p3")
        made.kinds["lease_scope"].clear()
        made.guest("b", "d", 10, addresses=["10.0.10.9/24"], serve_leases=True)
        served(made, "guest-d", 10)
        judgement = self.fares(made, WAVERS, "wavering")
        finding = next(f for f in findings(judgement) if "a1" in f.endpoints)
        self.assertIn("when n0 of b fails", finding.title)


class WhoseTest(Case):
    def test_another_subnet_or_gateway_is_a_wrong_lease(self) -> None:
        made = asking()
        next(s for s in made.kinds["segment"] if s["id"] == "s10")["subnets"] = ["10.0.9.0/24"]
        self.fares(made, WRONG, "stranded", "no subnet of s10")
        judgement = self.fares(asking(gateways=[]), WRONG, "stranded", "hands out no gateway")
        self.mended(judgement, "Have r hand out the gateway 10.0.10.1")
        self.fares(asking(gateways=["10.0.10.7"]), WRONG, "stranded", "hands out 10.0.10.7")

    def test_of_two_who_disagree_the_quicker_is_taken(self) -> None:
        made = asking()
        made.guest("b", "d", 10, addresses=["10.0.10.9/24"], serve_leases=True)
        served(made, "guest-d", 10, pool=["10.0.10.200-10.0.10.209"])
        self.assertEqual(len(self.fares(made, LEASED, "home").leases["a1"].heard), 2)
        made.kinds["lease_scope"][-1]["gateways"] = ["10.0.10.9"]
        judgement = self.fares(made, EITHER, "wavering", "who is quicker is taken")
        self.assertIn("may get a lease", next(f for f in findings(judgement) if "a1" in f.endpoints).title)
        self.mended(judgement, "Have a guard drop what d leases")
        self.mended(judgement, "Have d hand out")

    def test_who_is_perhaps_heard_with_a_wrong_lease_leaves_it_open(self) -> None:
        made = asking()
        made.guest("b", "d", 10, addresses=["10.0.10.9/24"], serve_leases=True)
        served(made, "guest-d", 10, pool=["10.0.10.200-10.0.10.209"], gateways=["10.0.10.9"])
        made.put("lease_relay", "relay", at="d", to=["10.0.20.9"])
        # Whether d answers itself there isn't said.
        self.fares(made, UNPROVEN, "unproven", "both leases and relays")

    def test_what_a_plan_does_not_say_is_not_known(self) -> None:
        made = asking()
        made.kinds["lease_scope"].clear()
        self.fares(made, UNPROVEN, "unproven", "doesn’t say who leases")
        segment = next(s for s in made.kinds["segment"] if s["id"] == "s10")
        segment["lease_servers"] = ["10.0.10.1"]
        judgement = self.fares(made, UNPROVEN, "unproven", "doesn’t say what it leases")
        self.mended(judgement, "Have r lease 10.0.10.")
        segment["lease_servers"] = ["10.0.10.250"]
        self.fares(made, UNPROVEN, "unproven", "doesn’t say who that is")
        # Behind an open port there may be somebody who answers.
        made.put("host", "c", name="c")
        made.put("virtual_switch", "c/s", host="c", name="s")
        made.put("uplink", "c/u", switch="c/s", name="u")
        made.put("nic", "c/n0", host="c", name="n0", uplink="c/u")
        made.guest("c", "c1", 10, addressing="lease")
        served(made, "r", 10)
        self.assertEqual(judge(made.plan()).leases["c1"].outcome, UNPROVEN)

    def test_an_address_of_its_own_is_a_way_out(self) -> None:
        made = asking(pool=[], kept=[])
        judgement = self.fares(made, NO_ANSWER, "stranded")
        self.mended(judgement, "Give a1 10.0.10.2 for its own")


class RelayTest(Case):
    def test_a_relay_asks_elsewhere_and_is_answered(self) -> None:
        """RFC 1542 section 4; the scope is that of the relay's address (RFC 2131 section 4.3.1)."""
        judgement = self.fares(relayed(), LEASED, "home")
        (offer,) = judgement.leases["a1"].heard
        self.assertEqual((offer.server, offer.at, offer.relay), ("guest-d", "r10", "relay"))

    def test_guards_drop_what_is_relayed_on_each_side_of_it(self) -> None:
        for id in ("r10", "r20", "d"):
            made = relayed()
            adapter(made, id)["serve_leases"] = False
            judgement = self.fares(made, NO_ANSWER, "stranded", "a guard drops")
            name = {"r10": "r r10", "r20": "r r20", "d": "d"}[id]
            self.mended(judgement, f"Let {name} serve leases")

    def test_a_relay_needs_an_answer_and_a_server_a_way_back(self) -> None:
        made = relayed()
        made.kinds["lease_relay"][0]["to"] = ["10.0.20.77"]
        self.fares(made, UNPROVEN, "unproven", "asks 10.0.20.77, which nobody in the plan has")
        made = relayed()
        next(s for s in made.kinds["segment"] if s["id"] == "s20")["gateways"] = []
        self.fares(made, NO_ANSWER, "stranded", "its answer doesn’t")

    def test_a_filter_on_the_way_may_drop_it(self) -> None:
        made = relayed()
        made.segment(30, subnets=["10.0.30.0/24"], gateways=["10.0.30.1"])
        second_router(made, "10.0.{}.{}/24")
        made.put("route", "to30", of="r", to=["10.0.30.0/24"], via="10.0.20.2")
        made.put("route", "to10", of="q", to=["10.0.10.0/24"], via="10.0.20.1")
        d = adapter(made, "d")
        d.update(addresses=["10.0.30.9/24"], belongs="s30", port_group="b/q30")
        made.kinds["lease_relay"][0]["to"] = ["10.0.30.9"]
        before = self.fares(made, LEASED, "home")
        made.put("filter_line", "no", of="q", order=10, action="deny", protocol="udp", ports="67", enters="q20")
        fresh = self.fares(made, NO_ANSWER, "stranded", "q drops it, by filter line 10")
        edit = (Put(fresh.plan.get("filter_line", "no")),)
        after = rejudge(before, apply_edit(before.plan, edit)[0], touched(edit))
        self.assertEqual(after.leases, fresh.leases)
        # The answer belongs to what was let through.
        made.kinds["filter_line"][0].update(enters="q30")
        self.fares(made, LEASED, "home")

    def test_who_relays_and_leases_at_one_interface_leaves_it_open(self) -> None:
        made = relayed()
        served(made, "r", 10, pool=["10.0.10.200-10.0.10.209"])
        judgement = judge(made.plan())
        direct = next(o for o in judgement.leases["a1"].offered if not o.relay)
        self.assertEqual(direct.outcome, UNPROVEN)
        self.assertIn("both leases and relays", direct.reason)

    def test_a_relay_is_a_mend_where_a_server_is_elsewhere(self) -> None:
        made = relayed()
        made.kinds["lease_relay"].clear()
        judgement = self.fares(made, UNPROVEN, "unproven", "doesn’t say who leases")
        self.mended(judgement, "Have r10 of r ask d for leases")


def asking6(**said: Any) -> Small:
    """The same over IPv6: a1 asks for a lease of it on 10, where r leases 2001:db8:10::100 to 109, and advertises the subnet as on link and itself as the way out."""
    made = two_segments()
    for segment in made.kinds["segment"]:
        vid = segment["vid"]
        segment["subnets"] = [*segment["subnets"], f"2001:db8:{vid}::/64"]
        segment["gateways"] = [*segment["gateways"], f"2001:db8:{vid}::1"]
    for vid in (10, 20):
        router = adapter(made, f"r{vid}")
        router["addresses"] = [*router["addresses"], f"2001:db8:{vid}::1/64"]
    adapter(made, "b1")["addresses"] = ["10.0.20.11/24", "2001:db8:20::11/64"]
    adapter(made, "a1").update(addressing6="lease", mac=MAC)
    for record in made.kinds["adapter"]:
        record.update(serve_leases=True, advertise_routes=True)
    served6(made, "r", 10)
    made.put("advertisement", "said", at="r10", **{"on_link": ["2001:db8:10::/64"], **said})
    return made


def served6(made: Small, owner: str, vid: int, **scope: Any) -> None:
    """Somebody leases 2001:db8:VID::100 to 109."""
    net = f"2001:db8:{vid}::"
    made.put(
        "lease_scope", f"{owner}-6-{vid}", of=owner, **{"subnet": f"{net}/64", "pool": [f"{net}100-{net}109"], **scope}
    )


class Version6Test(Case):
    """RFC 8415: an address is leased; what is on link and the way out are advertised (RFC 4861 section 6.3.4)."""

    GOT = "leases6"

    def relayed6(self) -> Small:
        """d on 20 leases, r relays on 10 to it."""
        made = asking6()
        made.kinds["lease_scope"].clear()
        made.guest("b", "d", 20, addresses=["2001:db8:20::9/64"], serve_leases=True)
        served6(made, "guest-d", 10)
        made.put("lease_relay", "relay", at="r10", to=["2001:db8:20::9"])
        return made

    def test_an_address_is_leased_and_the_way_out_is_advertised(self) -> None:
        judgement = self.fares(asking6(), LEASED, "home")
        (one,) = gotten(judgement).held["a1"]
        self.assertEqual(str(one.bound), "2001:db8:10::100/64")
        self.assertEqual(ping(judgement, "a1", "2001:db8:20::11").outcome, ANSWERED)
        self.assertEqual(ping(judgement, "b1", "2001:db8:10::100").outcome, UNPROVEN)
        self.assertEqual(judgement.leases, {})

    def test_what_is_kept_for_a_mac_address_is_its_own(self) -> None:
        made = asking6()
        made.kinds["lease_scope"][0]["kept"] = [f"{MAC} 2001:db8:10::40"]
        judgement = self.fares(made, LEASED, "home")
        self.assertEqual(judgement.leases6["a1"].got, "2001:db8:10::40")
        self.assertEqual(ping(judgement, "b1", "2001:db8:10::40").outcome, ANSWERED)

    def test_without_a_way_out_or_a_link_it_is_stranded_though_it_has_its_lease(self) -> None:
        for said, words in (({"router": False}, "way out"), ({"on_link": []}, "body whom it hears advertises")):
            judgement = self.fares(asking6(**said), LEASED, "stranded")
            (finding,) = (f for f in findings(judgement) if "a1" in f.endpoints)
            self.assertIn("hears nothing of its link and way out over IPv6", finding.title)
            self.assertIn(words, finding.text)
            self.mended(judgement, "Have r10 of r advertise")

    def test_who_forms_addresses_takes_none_of_what_is_on_link_alone(self) -> None:
        made = asking6()
        made.guest("b", "f", 10, addressing6="advertised", mac="02:00:5e:10:00:09")
        judgement = judge(made.plan())
        self.assertEqual(judgement.formed["f"].outcome, UNHEARD)
        (finding,) = (f for f in findings(judgement) if "f" in f.endpoints)
        (mend, *_) = mends(judgement, finding)
        self.assertEqual(mend.title, "Have r10 of r advertise 2001:db8:10::/64 of s10, and itself as the way out")
        after = judge(apply_edit(judgement.plan, mend.edit)[0])
        self.assertEqual((after.verdicts()["f"], after.verdicts()["a1"]), ("home", "home"))

    def test_guards_strangers_and_who_is_not_there(self) -> None:
        made = asking6()
        adapter(made, "r10")["serve_leases"] = False
        self.mended(self.fares(made, NO_ANSWER, "stranded", "a guard drops"), "Let r r10 serve leases")
        made = asking6()
        made.guest("b", "x", 10, addresses=["2001:db8:20::66/64"], serve_leases=True)
        served6(made, "guest-x", 20)
        judgement = self.fares(made, EITHER, "wavering", "no subnet of s10")
        self.mended(judgement, "Have a guard drop what x leases")
        made = asking6()
        made.kinds["lease_scope"].clear()
        self.mended(
            self.fares(made, UNPROVEN, "unproven", "doesn’t say who leases"),
            "Have r lease 2001:db8:10::102-2001:db8:10::165 of s10",
        )

    def test_a_relay_asks_from_its_own_address_and_guards_and_filters_hold_it_up(self) -> None:
        """RFC 8415 section 19.1, over UDP port 547 (section 7.2)."""
        judgement = self.fares(self.relayed6(), LEASED, "home")
        self.assertEqual(judgement.leases6["a1"].heard[0].relay, "relay")
        made = self.relayed6()
        adapter(made, "r20")["serve_leases"] = False
        self.mended(self.fares(made, NO_ANSWER, "stranded", "a guard drops"), "Let r r20 serve leases")
        made = self.relayed6()
        made.kinds["lease_relay"][0]["to"] = ["10.0.20.9"]
        self.fares(made, UNPROVEN, "unproven", "doesn’t say who leases")
        made = self.relayed6()
        made.kinds["lease_relay"].clear()
        self.mended(self.fares(made, UNPROVEN, "unproven", "doesn’t say"), "Have r10 of r ask d for leases")

    def test_a_relay_is_answered_where_its_question_came_from(self) -> None:
        """RFC 8415 section 18.3.10, unlike IPv4 (RFC 2131 section 4.1): whoever leases needs no way back to the link of whoever asks."""
        made = self.relayed6()
        next(s for s in made.kinds["segment"] if s["id"] == "s20")["gateways"] = []
        self.fares(made, LEASED, "home")
        # A relay that asks out of another subnet than the server's needs one.
        made.segment(30, subnets=["2001:db8:30::/64"])
        second_router(made, "2001:db8:{}::{}/64")
        made.put("route", "to30", of="r", to=["2001:db8:30::/64"], via="2001:db8:20::2")
        adapter(made, "d").update(addresses=["2001:db8:30::9/64"], belongs="s30", port_group="b/q30")
        made.kinds["lease_relay"][0]["to"] = ["2001:db8:30::9"]
        self.fares(made, NO_ANSWER, "stranded", "its answer doesn’t")
        made.put("route", "back", of="guest-d", to=["2001:db8:20::/64"], via="2001:db8:30::1")
        self.fares(made, LEASED, "home")

    def test_a_way_out_in_a_lease_and_too_small_a_subnet_are_refused(self) -> None:
        for words, why in (
            ({"gateways": ["2001:db8:10::1"]}, "says no way out"),
            ({"subnet": "2001:db8:10::/127", "pool": []}, "no room"),
            ({"pool": ["2001:db8:10::-2001:db8:10::5"]}, "isn’t within"),
            ({"kept": [f"{MAC} 10.0.10.5"]}, "isn’t within"),
        ):
            made = asking6()
            made.kinds["lease_scope"][0].update(words)
            self.assertRaisesRegex(AssertionError, why, made.plan)

    def test_rules_hear_of_both(self) -> None:
        made = asking6()
        made.guest("b", "x", 10, addresses=["2001:db8:10::66/64"], serve_leases=True)
        served6(made, "guest-x", 10, pool=["2001:db8:10::200-2001:db8:10::209"])
        judgement = judge(made.plan())
        self.assertEqual(asked(judgement).ask("s10 gets leases only from r").outcome, BROKEN)
        (title, edit), *_ = rule_offers(judgement, "s10 gets leases only from r")
        self.assertIn("Have a guard drop what", title)
        self.assertEqual(asked(judged_after(judgement, edit)).ask("s10 gets leases only from r").outcome, HOLDS)
        self.assertEqual(asked(judgement).ask("s10 gets leases only from r, x").outcome, HOLDS)


class MarkedTest(Case):
    """RFC 3046: a switch marks a question with the port at which it came in; who gets it marked may drop it."""

    def marked(self, **port: Any) -> Small:
        """a1 on host a, at switch sw, which marks, asks d on host b at switch far, which marks too; `port`: of far towards sw."""
        made = Small()
        made.segment(10, subnets=["10.0.10.0/24"])
        for switch in ("sw", "far"):
            made.fabric(switch, marks_leases=True)
        made.cable(made.trunk("sw/x", "10"), made.trunk("far/x", "10", **port))
        made.host("a", made.trunk("sw/p1", "10"))
        made.host("b", made.trunk("far/p1", "10"))
        made.guest("a", "a1", 10, addressing="lease", mac=MAC)
        made.guest("b", "d", 10, addresses=["10.0.10.9/24"], serve_leases=True)
        served(made, "guest-d", 10, gateways=[])
        return made

    def test_a_switch_takes_or_drops_what_another_one_marked_as_its_port_says(self) -> None:
        self.fares(self.marked(marked="taken"), LEASED, "home")
        judgement = self.fares(self.marked(), UNPROVEN, "unproven", "sw marks questions, and nobody says whether")
        self.mended(judgement, "Have port x of far take what is marked by sw")
        judgement = self.fares(
            self.marked(marked="dropped"), NO_ANSWER, "stranded", "drops questions that sw has marked"
        )
        self.mended(judgement, "Have port x of far take what is marked by sw")
        # Who doesn't mark himself passes everything on, and so does who is the first.
        for switch in (0, 1):
            made = self.marked(marked="dropped")
            made.kinds["fabric_switch"][switch]["marks_leases"] = False
            self.fares(made, LEASED, "home")

    def test_a_relay_says_itself_what_it_takes(self) -> None:
        for marks, marked, outcome, verdict in (
            (False, "dropped", LEASED, "home"),
            (True, "taken", LEASED, "home"),
            (True, "dropped", NO_ANSWER, "stranded"),
            (True, None, UNPROVEN, "unproven"),
        ):
            made = relayed()
            made.kinds["fabric_switch"][0]["marks_leases"] = marks
            made.kinds["lease_relay"][0]["marked"] = marked
            # On one host a question passes no switch of the fabric.
            self.fares(made, LEASED, "home")
            guest = next(g for g in made.kinds["guest"] if g["id"] == "guest-a1")
            guest["host"] = "b"
            group = made.put("port_group", "b/ask", switch="b/s", name="ask", mode="access", vid=10)
            adapter(made, "a1")["port_group"] = group
            self.fares(made, outcome, verdict)

    def test_it_wavers_where_one_of_its_ways_is_marked(self) -> None:
        made = self.marked(marked="dropped")
        made.fabric("plain")
        made.cable(made.trunk("plain/x", "10"), made.trunk("far/y", "10"))
        made.host("c", made.trunk("plain/p1", "10"), made.trunk("sw/p2", "10"))
        made.guest("c", "c1", 10, addressing="lease", mac="02:00:5e:10:00:02")
        judgement = judge(made.plan())
        lease = judgement.leases["c1"]
        self.assertEqual((lease.outcome, judgement.verdicts()["c1"]), (WAVERS, "wavering"), lease.reason)

    def test_after_edits_as_from_nothing(self) -> None:
        judgement = judge(self.marked(marked="taken").plan())
        for edit in (
            Patch("fabric_port", "far/x", {"marked": "dropped"}),
            Patch("fabric_switch", "far", {"marks_leases": False}),
            Patch("fabric_switch", "far", {"marks_leases": True}),
            Patch("fabric_switch", "sw", {"marks_leases": False}),
            Patch("fabric_port", "far/x", {"marked": None}),
            Patch("fabric_switch", "sw", {"marks_leases": True}),
        ):
            judgement = rejudge(judgement, *_changed(judgement.plan, edit))
            self.assertEqual(judgement.leases, judge(judgement.plan).leases, edit)


class PingTest(unittest.TestCase):
    def told(self, made: Small, a: str, b: str):
        plan = made.plan()
        return ping(judge(plan), end_of(plan, a), end_of(plan, b))

    def test_who_has_a_lease_is_pinged_over_its_gateway(self) -> None:
        self.assertEqual(self.told(asking(), "a1", "b1").outcome, ANSWERED)
        self.assertEqual(self.told(asking(), "b1", "a1").outcome, ANSWERED)
        made = asking(gateways=[])
        next(s for s in made.kinds["segment"] if s["id"] == "s10")["gateways"] = []
        # Without a gateway handed out there is no way out of the subnet.
        self.assertEqual(self.told(made, "a1", "b1").outcome, SILENT)

    def test_which_address_it_is_matters_where_something_tells_them_apart(self) -> None:
        made = asking()
        made.put("filter_line", "half", of="r", order=10, action="deny", sources=["10.0.10.104/31"])
        self.assertEqual(self.told(made, "a1", "b1").outcome, UNPROVEN)
        made = asking(kept=[f"{MAC} 10.0.10.104"])
        made.put("filter_line", "half", of="r", order=10, action="deny", sources=["10.0.10.104/31"])
        self.assertEqual(self.told(made, "a1", "b1").outcome, SILENT)

    def test_a_pooled_address_is_nobodys_for_sure(self) -> None:
        made = asking()
        self.assertIn("nobody can know who has it", self.told(made, "b1", "10.0.10.100").sentence)
        self.assertEqual(self.told(asking(kept=[f"{MAC} 10.0.10.104"]), "b1", "10.0.10.104").outcome, ANSWERED)

    def test_who_gets_no_lease_has_no_address(self) -> None:
        made = asking()
        adapter(made, "r10")["serve_leases"] = False
        found = self.told(made, "a1", "b1")
        self.assertEqual(found.outcome, SILENT)
        self.assertIn("gets no lease: a guard drops", found.sentence)

    def test_rules_ask_with_what_is_leased(self) -> None:
        made = asking()
        for text, outcome in (("let a1 reach b1", HOLDS), ("keep a1 apart from b1", BROKEN)):
            self.assertEqual(asked(judge(made.plan())).ask(text).outcome, outcome, text)
        made.kinds["lease_scope"][0]["pool"] = []
        self.assertNotEqual(asked(judge(made.plan())).ask("let a1 reach b1").outcome, HOLDS)

    def test_of_two_beside_each_other_each_has_the_way_out_of_his_own_lease(self) -> None:
        """Of the rows and stands that they are on they are alike; what was given to them tells them apart."""
        for first, second in (("10.0.10.1", "10.0.10.66"), ("10.0.10.66", "10.0.10.1")):
            made = asking(pool=[], kept=[f"{MAC} 10.0.10.101"], gateways=[first])
            next(s for s in made.kinds["segment"] if s["id"] == "s10")["gateways"] = []
            made.guest("a", "a2", 10, addressing="lease", mac=OTHER_MAC)
            made.guest("b", "d", 10, addresses=["10.0.10.9/24"], serve_leases=True)
            served(made, "guest-d", 10, pool=[], kept=[f"{OTHER_MAC} 10.0.10.102"], gateways=[second])
            judgement = judge(made.plan())
            self.assertIs(judgement.wiring.stand_of["a1"], judgement.wiring.stand_of["a2"])
            answers = [asked(judgement).ask(f"let {who} reach b1").outcome for who in ("a1", "a2", "a1, a2")]
            self.assertEqual(sorted(answers), [HOLDS, UNKNOWN, UNKNOWN])
            self.assertEqual(answers[2], UNKNOWN)

    def test_a_filter_in_the_middle_of_a_row_tells_leased_addresses_apart(self) -> None:
        for subnet, gateway, length in (("10.0.10.0/24", "10.0.10.1", 24), ("10.0.10.64/26", "10.0.10.65", 26)):
            kept = [f"{MAC} 10.0.10.101", f"{OTHER_MAC} 10.0.10.104"]
            made = asking(subnet=subnet, kept=kept, gateways=[gateway])
            made.kinds["segment"][0].update(subnets=[subnet], gateways=[gateway])
            adapter(made, "r10")["addresses"] = [f"{gateway}/{length}"]
            made.guest("a", "a2", 10, addressing="lease", mac=OTHER_MAC)
            made.put("filter_line", "half", of="r", order=10, action="deny", **HALF)
            look = asked(judge(made.plan()))
            answers = [look.ask(f"let {who} reach b1").outcome for who in ("a1", "a2", "a1, a2")]
            self.assertEqual(answers, [HOLDS, BROKEN, BROKEN], subnet)

    def test_no_two_have_one_pooled_address(self) -> None:
        for seed in range(40):
            judgement = judge(leasing_plan(seed))
            taken = [one.bound.ip for one in gotten(judgement).four.held.values()]
            self.assertEqual(len(taken), len(set(taken)))
            for record, one in gotten(judgement).four.held.items():
                offer = judgement.leases[record].heard[0]
                self.assertIn(one.bound.ip, ipaddress.ip_network(offer.scope.subnet))


class GroundTest(unittest.TestCase):
    """Whether an answer still rests on what interfaces have by lease, where nothing else that it rests on was touched."""

    def stands(
        self, edit: Operation, members: str = "", owners: str = "", tabled: str = "", twin: bool = False, **scope: Any
    ) -> bool:
        """Of an answer that speaks of some, and rests on who sends on, after an edit; x and y on host b ask for leases on 10 too, one's MAC address that of the other (`twin`)."""
        made = asking(**scope)
        for name, mac in (("x", OTHER_MAC), ("y", OTHER_MAC if twin else "02:00:5e:10:00:08")):
            made.guest("b", name, 10, addressing="lease", mac=mac)
        plan = made.plan()
        judgement = judge(plan)
        everything(judgement)
        self.assertEqual({lease.outcome for lease in judgement.leases.values()}, {LEASED})
        got, bearers = gotten(judgement), judgement.wiring.bearers
        spoken, whose, sending = (frozenset(filter(None, [one])) for one in (members, owners, tabled))
        nobody = frozenset[str]()
        classes = frozenset[int]()
        ground = Ground(spoken, whose, nobody, False, False, nobody, nobody, classes, bearers, got, sending)
        again = rejudge(judgement, *_changed(plan, edit))
        self.assertIs(gotten(again), gotten(again))
        _, changes = again.answered.before["gotten"]
        return ground.holds(again, changes, sending)

    def test_what_somebody_else_has_no_more_leaves_it_standing(self) -> None:
        off = Patch("adapter", "x", {"addressing": "static"})
        self.assertTrue(self.stands(off))
        self.assertTrue(self.stands(off, "a1"))
        self.assertTrue(self.stands(off, kept=[f"{OTHER_MAC} 10.0.10.50"]))

    def test_what_those_of_whom_it_speaks_or_who_send_on_have_does_not(self) -> None:
        off = Patch("adapter", "x", {"addressing": "static"})
        # y comes after x: what stands for its address is another one now.
        for said in ({"members": "x"}, {"members": "y"}, {"owners": "guest-x"}, {"tabled": "guest-y"}):
            with self.subTest(**said):
                self.assertFalse(self.stands(off, **said))

    def test_an_address_that_somebody_may_ask_for_does_not(self) -> None:
        off = Patch("adapter", "x", {"addressing": "static"})
        self.assertFalse(self.stands(off, kept=[f"{OTHER_MAC} 10.0.10.1"]), "the router's, and the gateway")
        kept = [f"{OTHER_MAC} 10.0.10.50"]
        self.assertFalse(self.stands(off, kept=kept, twin=True), "y has it too")
        self.assertFalse(self.stands(Drop("adapter", "x")), "nobody knows whose it was")

    def test_what_stands_for_a_pool_goes_along_with_its_scope(self) -> None:
        """Though nobody was asked anew, as it is where an answer comes to the same."""
        plan = asking().plan()
        leases = judge(plan).leases
        known = NO_LEASES.after(plan, leases)
        for change in ({"pool": ["10.0.10.200-10.0.10.209"]}, {"pool": []}, {"gateways": []}):
            after, _ = apply_edit(plan, (Patch("lease_scope", "r-10", change),))
            self.assertEqual(known.after(after, leases).held, NO_LEASES.after(after, leases).held, change)
            self.assertNotEqual(known.after(after, leases).held, known.held, change)
        line = Put(make_record("filter_line", {"id": "half", "of": "r", "order": 1, "action": "deny"} | HALF))
        after, _ = apply_edit(plan, (line,))
        self.assertEqual(known.after(after, leases).held, {}, "a filter tells some of its addresses from others")


class RiskTest(unittest.TestCase):
    def only(self, made: Small, what: str) -> list[str]:
        """The titles of the risks of a kind, each of which a mend of its own takes away."""
        judgement = judge(made.plan())
        found = [risk for risk in risks(judgement) if risk.what == what]
        for risk in found:
            if risk.what != "narrow-pool":
                self.assertTrue(mends(judgement, risk), risk.title)
        return [risk.title for risk in found]

    def test_each_is_told_where_it_is(self) -> None:
        for what in ("stray-lease-server", "taken-lease", "doubled-pool", "narrow-pool", "unasked-scope", "lost-relay"):
            self.assertEqual(self.only(asking(), what), [])
            self.assertEqual(self.only(relayed(), what), [])
        made = asking()
        next(s for s in made.kinds["segment"] if s["id"] == "s10")["lease_servers"] = ["10.0.10.1"]
        self.assertEqual(self.only(made, "stray-lease-server"), [])
        made.guest("b", "d", 10, addresses=["10.0.10.105/24"], serve_leases=True)
        served(made, "guest-d", 10, pool=["10.0.10.109-10.0.10.120"])
        self.assertEqual(len(self.only(made, "stray-lease-server")), 1)
        self.assertEqual(len(self.only(made, "taken-lease")), 1)
        self.assertEqual(self.only(made, "doubled-pool"), ["d and r lease the same addresses"])
        made = asking(pool=["10.0.10.100"])
        made.guest("a", "a2", 10, addressing="lease", mac="02:00:5e:10:00:02")
        self.assertEqual(len(self.only(made, "narrow-pool")), 1)
        made = asking()
        made.segment(40, subnets=["10.0.40.0/24"])
        served(made, "r", 40)
        self.assertEqual(len(self.only(made, "unasked-scope")), 1)
        made = relayed()
        made.kinds["lease_relay"][0]["to"] = ["10.0.20.77"]
        self.assertEqual(len(self.only(made, "lost-relay")), 1)

    def test_what_is_got_over_a_relay_may_not_be_renewed_past_it(self) -> None:
        """RFC 2131 section 4.4.5: at T1 the server itself is asked, from the address that was leased."""
        self.assertEqual(self.only(relayed(), "lost-renewal"), [])
        made = relayed()
        made.put("filter_line", "no", of="r", order=10, action="deny", protocol="udp", ports="67", enters="r10")
        self.assertEqual(judge(made.plan()).leases["a1"].outcome, LEASED)
        self.assertEqual(self.only(made, "lost-renewal"), ["Who gets a lease on s10 can’t renew it at d"])
        # Who relays is another one than who forwards, and a guard drops what the latter passes on.
        made = relayed()
        made.kinds["guest"].append({"id": "m", "name": "m", "host": "a", "routes": True})
        for vid in (10, 20):
            group = made.put("port_group", f"a/m{vid}", switch="a/s", name=f"m{vid}", mode="access", vid=vid)
            more = {"addresses": [f"10.0.{vid}.3/24"], "serve_leases": True}
            made.put("adapter", f"m{vid}", guest="m", name=f"m{vid}", port_group=group, belongs=f"s{vid}", **more)
        made.kinds["lease_relay"][0]["at"] = "m10"
        made.put("route", "back", of="guest-d", to=["10.0.10.3/32"], via="10.0.20.3")
        self.assertEqual(self.only(made, "lost-renewal"), [])
        adapter(made, "r10")["serve_leases"] = False
        judgement = judge(made.plan())
        self.assertEqual(judgement.leases["a1"].outcome, LEASED)
        (risk,) = (risk for risk in risks(judgement) if risk.what == "lost-renewal")
        self.assertIn("a guard drops what", risk.text)
        # After an edit as from nothing.
        again = rejudge(judgement, *_changed(judgement.plan, Patch("adapter", "r10", {"serve_leases": True})))
        self.assertEqual([risk for risk in risks(again) if risk.what == "lost-renewal"], [])
        again = rejudge(judgement, *_changed(judgement.plan, Patch("adapter", "b1", {"name": "other"})))
        self.assertEqual([risk for risk in risks(again) if risk.what == "lost-renewal"], [risk])

    def test_an_address_in_the_middle_is_taken_out_of_a_pool(self) -> None:
        made = asking()
        made.guest("b", "d", 10, addresses=["10.0.10.105/24"])
        judgement = judge(made.plan())
        risk = next(r for r in risks(judgement) if r.what == "taken-lease")
        after = apply_edit(judgement.plan, mends(judgement, risk)[0].edit)[0]
        self.assertEqual(after.get("lease_scope", "r-10").pool, ("10.0.10.100-10.0.10.104", "10.0.10.106-10.0.10.109"))


class RuleTest(unittest.TestCase):
    RULE = "s10 gets leases only from r"

    def fares(self, made: Small, outcome: str, words: str = "") -> Judgement:
        judgement = judge(made.plan())
        answer = asked(judgement).ask(self.RULE)
        self.assertEqual(answer.outcome, outcome, answer.text)
        self.assertIn(words, answer.text)
        return judgement

    def test_only_who_is_meant_answers_whoever_might_ask(self) -> None:
        self.fares(asking(), HOLDS, "Asked of 1")
        made = asking()
        made.put("rule", "rule", text=self.RULE)
        made.guest("b", "d", 10, addresses=["10.0.10.9/24"], serve_leases=True)
        self.fares(made, HOLDS)
        served(made, "guest-d", 10, pool=["10.0.10.200-10.0.10.209"])
        judgement = self.fares(made, BROKEN, "d answers a1 too")
        risk = next(r for r in risks(judgement) if r.what == "broken-rule")
        found = mends(judgement, risk)
        self.assertEqual(
            {mend.title for mend in found},
            {
                "Have a guard drop what d of d leases",
                "Take away the lease scope 10.0.10.0/24 of d",
                "Take the rule away",
            },
        )
        for mend in found[:2]:
            self.assertEqual(asked(judge(apply_edit(judgement.plan, mend.edit)[0])).ask(self.RULE).outcome, HOLDS)
        # After a failover it isn't heard; until then it is.
        made.trunk("sw/p3", "20, 30")
        made.put("nic", "b/n1", host="b", name="n1", uplink="b/u", rank=1)
        made.cable("b/n1", "sw/p3")
        self.fares(made, BROKEN, "d answers a1 too, in some of the states")
        # Who doesn't ask might.
        adapter(made, "a1").update(addressing="static", addresses=["10.0.10.11/24"])
        self.fares(made, BROKEN)

    def test_what_is_not_known_is_not_said_to_hold(self) -> None:
        made = asking()
        made.kinds["cable"].pop(0)
        self.fares(made, UNKNOWN, "nobody said what is behind it")
        made = relayed()
        served(made, "r", 10, pool=["10.0.10.200-10.0.10.209"])
        # Whether r answers itself or asks d isn't said.
        self.fares(made, UNKNOWN, "both leases and relays")


class RefusedTest(unittest.TestCase):
    def refused(self, made: Small) -> str:
        """What is wrong with a plan."""
        try:
            made.plan()
        except (AssertionError, PlanError) as error:
            return str(error)
        return ""

    def test_what_makes_no_sense_is_refused_with_its_field(self) -> None:
        for values, field in (
            ({"pool": ["10.0.11.5-10.0.11.9"]}, "pool"),
            ({"pool": ["10.0.10.0-10.0.10.9"]}, "pool"),
            ({"pool": ["10.0.10.9-10.0.10.5"]}, "pool"),
            ({"pool": ["10.0.10.5-10.0.10.9", "10.0.10.9-10.0.10.20"]}, "pool"),
            ({"pool": ["2001:db8::1-2001:db8::9"]}, "pool"),
            ({"gateways": ["10.0.99.1"]}, "gateways"),
            ({"kept": [f"{MAC} 10.0.99.1"]}, "kept"),
            ({"kept": [f"{MAC} 10.0.10.4", f"{MAC} 10.0.10.5"]}, "kept"),
            ({"kept": [f"{MAC} 10.0.10.4", "02:00:5e:10:00:02 10.0.10.4"]}, "kept"),
            ({"kept": ["10.0.10.4"]}, "kept"),
            ({"subnet": "10.0.10.0/31"}, "subnet"),
            ({"subnet": "10.0.10.4/24"}, "subnet"),
            ({"minutes": 0}, "minutes"),
        ):
            self.assertIn(f"field {field}", self.refused(asking(**values)), values)

    def test_scopes_of_one_server_do_not_overlap(self) -> None:
        made = asking()
        made.put("lease_scope", "wide", of="r", subnet="10.0.0.0/16", pool=["10.0.77.1-10.0.77.9"])
        self.assertIn("overlaps", self.refused(made))

    def test_who_asks_for_a_lease_has_no_address_of_his_own_beside_it(self) -> None:
        for addressing, addresses, refused in (
            ("lease", ["10.0.10.5/24"], True),
            ("lease", ["2001:db8::5/64"], False),
            ("none", ["2001:db8::5/64"], True),
            ("none", [], False),
        ):
            made = asking()
            adapter(made, "a1").update(addressing=addressing, addresses=addresses)
            self.assertEqual("field addressing" in self.refused(made), refused, addressing)


class PropertyTest(unittest.TestCase):
    def test_every_offer_is_what_asking_alone_says(self) -> None:
        """Against each source asked by itself, for each interface alone, with traces in every state and no arrays."""
        heard = 0
        for seed in range(80):
            six = seed >= 50
            judgement = judge(leasing_plan(seed, six=six))
            leases = (Leases6 if six else Leases)(judgement)
            alone = Pings(judgement, exact=True, waking=True)
            for record in clients(judgement.plan, 6 if six else 4):
                lease, place = (
                    (judgement.leases6 if six else judgement.leases)[record.id],
                    judgement.wiring.place(record.id),
                )
                if place is None or place.context < 0:
                    continue
                for source in leases.sources:
                    there = judgement.wiring.place(source.at)
                    found = SILENT if there is None or there.context < 0 else alone.beside(record.id, source.at).outcome
                    fits = (
                        o
                        for o in lease.offered
                        if (o.at, o.relay, o.scope.id) == (source.at, source.relay, source.scope.id)
                    )
                    offer = next(fits, None)
                    if SILENT in (found, source.outcome):
                        self.assertTrue(offer is None or offer.outcome == SILENT, (seed, record.id, source))
                    elif offer is not None and "keeps its" not in offer.reason:
                        worst = (
                            UNPROVEN
                            if UNPROVEN in (found, source.outcome)
                            else WAVERS
                            if WAVERS in (found, source.outcome)
                            else ANSWERED
                        )
                        self.assertEqual(offer.outcome, worst, (seed, record.id, source))
                        heard += 1
        self.assertGreater(heard, 60)

    def test_after_edits_it_is_as_from_scratch(self) -> None:
        for seed in range(50):
            dice = random.Random(seed)
            plan = leasing_plan(seed, six=seed >= 30)
            judgement = judge(plan.indexed())
            for _ in range(5):
                edit = (self.edit(plan, dice),)
                try:
                    after, _ = apply_edit(plan, edit)
                except PlanError:
                    continue
                everything(judgement)
                judgement, plan = rejudge(judgement, after, touched(edit)), after
                self.as_from_nothing(judgement, (seed, edit))

    def as_from_nothing(self, judgement: Judgement, said: object) -> None:
        plan = judgement.plan
        fresh = judge(Plan(plan.name, {kind: dict(plan.of(kind)) for kind in KINDS}))
        self.assertEqual(judgement.verdicts(), fresh.verdicts(), said)
        got = [[got.to_json() for of in j.got for _, got in sorted(of.items())] for j in (judgement, fresh)]
        self.assertEqual(*got, said)
        had = [[sorted(of.items()) for of in (gotten(j).held, gotten(j).bearing)] for j in (judgement, fresh)]
        self.assertEqual(*had, said)
        told = [sorted((f.id, f.title, f.text) for f in everything(j)) for j in (judgement, fresh)]
        self.assertEqual(*told, said)

    def test_who_loses_a_lease_concerns_nobody_beside_him(self) -> None:
        """Rules of others on his switch stand; those that speak of him are asked again."""
        made = asking()
        made.segment(30, subnets=["10.0.30.0/24"])
        made.guest("a", "c1", 30, addresses=["10.0.30.11/24"])
        texts = ("keep segment s20 apart from segment s30", "keep segment s20 apart from segment s30 on layer 2")
        for n, text in enumerate((*texts, "let segment s10 reach segment s20")):
            made.put("rule", f"rule-{n}", text=text)
        before = judge(made.plan())
        first = {rule.text: answer for rule, answer in asked(before).rules()}
        after = rejudge(before, *_changed(before.plan, Patch("lease_scope", "r-10", {"pool": []})))
        self.assertEqual(after.leases["a1"].outcome, NO_ANSWER)
        again = {rule.text: answer for rule, answer in asked(after).rules()}
        self.assertEqual({text for text in first if again[text] is first[text]}, set(texts))
        anew = {rule.text: answer.text for rule, answer in asked(judge(after.plan)).rules()}
        self.assertEqual({text: answer.text for text, answer in again.items()}, anew)

    def test_by_whose_lines_relays_and_renewals_pass(self) -> None:
        """A line that drops renewals, and one that drops what the relay passes on, come and go, while a segment is called otherwise; somebody else's concern none."""
        made = relayed()
        second_router(made, "10.0.{}.{}/24")
        made.segment(30, subnets=["10.0.30.0/24"])
        plan = made.plan()
        judgement = judge(plan)
        everything(judgement)
        words = {"action": "deny", "protocol": "udp", "ports": "67"}
        edits: list[Operation] = [
            Put(FilterLine(id="other", of="q", order=10, **words)),
            Put(FilterLine(id="no", of="r", order=10, enters="r10", **words)),
            Patch("segment", "s10", {"name": "berth"}),
            Drop("filter_line", "no"),
            Put(Route(id="away", of="guest-d", to=("10.0.10.0/24",), via="10.0.20.2")),
            Drop("lease_scope", "guest-d-10"),
        ]
        lost = []
        for edit in edits:
            judgement = rejudge(judgement, *_changed(judgement.plan, edit))
            self.as_from_nothing(judgement, edit)
            lost.append((judgement.leases["a1"].outcome, any(r.what == "lost-renewal" for r in risks(judgement))))
        renewed, once = (LEASED, False), (LEASED, True)
        self.assertEqual(lost, [renewed, once, once, renewed, (UNPROVEN, False), (UNPROVEN, False)])

    def test_who_translates_concerns_what_relays_ask(self) -> None:
        """What a relay asks passes q, who puts an address of its own in place of the relay's from then on."""
        made = relayed()
        made.segment(30, subnets=["10.0.30.0/24"], gateways=["10.0.30.1"])
        second_router(made, "10.0.{}.{}/24")
        made.kinds["segment"][1]["gateways"] = ["10.0.20.2"]
        made.guest("b", "far", 30, addresses=["10.0.30.9/24"], serve_leases=True)
        served(made, "guest-far", 10)
        made.kinds["lease_relay"][0]["to"] = ["10.0.30.9"]
        made.put("route", "back", of="q", to=["10.0.10.0/24"], via="10.0.20.1")
        judgement = judge(made.plan())
        self.assertEqual(judgement.leases["a1"].outcome, LEASED)
        edit = Put(Translation(id="hides", at="q30"))
        after = rejudge(judgement, *_changed(judgement.plan, edit))
        self.as_from_nothing(after, edit)
        self.assertEqual(after.leases["a1"].outcome, UNPROVEN)

    def above(self, plan: Plan, dice: random.Random) -> Iterator[Operation]:
        """Something that speaks of packets, or of a segment's addresses: nobody on a link hears anybody else by it."""
        vid = dice.choice([10, 20, 30, 40])
        address = dice.choice([f"10.64.{vid}.1", f"10.64.{vid}.9"])
        for said in ({"gateways": [address]}, {"subnets": []}, {"name": f"berth {vid}"}, {"vid": 40}, {"vid": None}):
            yield Patch("segment", f"s{vid}", said)
        yield from more_lines(plan, dice, [f"10.64.{vid}.0/24", f"10.64.{vid}.104/29", "0.0.0.0/0"], address)
        for kind in ("filter_line", "route"):
            if plan.of(kind):
                yield Drop(kind, dice.choice(sorted(plan.of(kind))))
        for relay in plan.of("lease_relay"):
            yield Patch("lease_relay", relay, {"to": [address]})

    def edit(self, plan: Plan, dice: random.Random) -> Operation:
        """Something that may concern leases, or may not."""
        scopes, relays = (sorted(plan.of(kind)) for kind in ("lease_scope", "lease_relay"))
        adapters, ports = sorted(plan.of("adapter")), sorted(plan.of("fabric_port"))
        guests, groups = sorted(plan.of("guest")), sorted(plan.of("port_group"))
        scope = plan.get("lease_scope", dice.choice(scopes)) if scopes else None
        made: list[Operation] = [
            Patch("adapter", dice.choice(adapters), {"serve_leases": dice.random() < 0.5}),
            Patch("adapter", dice.choice(adapters), {"addressing": dice.choice(["lease", "static"])}),
            Patch("adapter", dice.choice(adapters), {"addressing6": dice.choice(["lease", "advertised", "static"])}),
            Patch("adapter", dice.choice(adapters), {"connected": dice.random() < 0.5}),
            Patch("adapter", dice.choice(adapters), {"mac": f"02:00:5e:20:00:{dice.randrange(4):02x}"}),
            Patch("guest", dice.choice(guests), {"running": dice.random() < 0.5}),
            Patch("guest", dice.choice(guests), {"routes": dice.random() < 0.5}),
            Patch("port_group", dice.choice(groups), {"vid": dice.choice([10, 20, 30, 40])}),
            Patch(
                "fabric_port", dice.choice(ports), {"allowed": dice.choice(["10, 20", "20, 30, 40", "10, 20, 30, 40"])}
            ),
            Patch("segment", f"s{dice.choice([10, 20, 30, 40])}", {"lease_servers": dice.choice([[], ["10.64.10.1"]])}),
            *((Drop("lease_relay", dice.choice(relays)),) if relays else ()),
            *self.above(plan, dice),
        ]
        if scope is not None:
            made += [
                Drop("lease_scope", scope.id),
                Patch("lease_scope", scope.id, {"gateways": dice.choice([[], list(scope.gateways)])}),
                Patch("lease_scope", scope.id, {"pool": []}),
            ]
        else:
            made.append(
                Put(LeaseScope(id="new", of=guests[0], subnet="10.64.20.0/24", pool=("10.64.20.50-10.64.20.59",)))
            )
        return dice.choice(made)

    def test_what_is_kept_is_kept_for_who_is_offered_it(self) -> None:
        for seed in range(20):
            judgement = judge(leasing_plan(seed))
            for record, lease in judgement.leases.items():
                kept = {offer.address for offer in lease.heard} - {""}
                mac = mac_of(judgement.plan, judgement.plan.get("adapter", record))
                for address in kept:
                    self.assertIn(f"{mac} {address.partition('/')[0]}", [t for o in lease.heard for t in o.scope.kept])


if __name__ == "__main__":
    unittest.main()

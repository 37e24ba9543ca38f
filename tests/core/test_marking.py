"""Marked questions for leases held against a walk over the switches of a tree, and leases of IPv6 against single frames."""

from __future__ import annotations

import ipaddress
import random
import unittest

import networkx as nx
from aptwire.above.leases import Leases6, clients
from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN
from aptwire.above.ping import Pings
from aptwire.forward.frames import Frames
from aptwire.forward.parts import NOW
from aptwire.judge.findings import findings
from aptwire.judge.formed import TAKEN
from aptwire.judge.gotten import gotten
from aptwire.judge.lease import LEASED, NO_ANSWER
from aptwire.judge.mends import mends
from aptwire.judge.verdicts import judge, judged_after
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.plan import Plan

from tests.routers import leasing_plan
from tests.support import Small

NET = "10.0.10"


def tree(seed: int) -> tuple[Small, nx.Graph]:
    """Switches in a tree of which some mark and some ports say what becomes of what is marked; on each a host, at some of which guests ask for leases; one guest
    leases, or relays to one on another VID.  Beside it the tree, each edge with the port of either end."""
    dice = random.Random(seed)
    made, graph = Small(), nx.Graph()
    made.segment(10, subnets=[f"{NET}.0/24"], gateways=[f"{NET}.1"])
    made.segment(20, subnets=["10.0.20.0/24"])
    count = dice.randint(2, 5)
    for n in range(count):
        made.fabric(f"sw{n}", marks_leases=dice.random() < 0.6)
        graph.add_node(f"sw{n}")
    for n in range(1, count):
        other = dice.randrange(n)
        ends = {}
        for switch, name in ((f"sw{n}", f"sw{n}/up"), (f"sw{other}", f"sw{other}/down{n}")):
            ends[switch] = made.trunk(name, "10, 20", marked=dice.choice([None, "taken", "taken", "dropped"]))
        made.cable(*ends.values())
        graph.add_edge(*ends, **ends)
    for n in range(count):
        made.host(f"host{n}", made.trunk(f"sw{n}/p", "10, 20"))
        made.guest(f"host{n}", f"c{n}", 10, addressing="lease", mac=f"02:00:5e:10:00:{n:02x}")
    at = dice.randrange(count)
    scope = {"subnet": f"{NET}.0/24", "pool": [f"{NET}.100-{NET}.199"], "gateways": [f"{NET}.1"]}
    if dice.random() < 0.5:
        made.guest(f"host{at}", "d", 10, addresses=[f"{NET}.1/24"], serve_leases=True)
        made.put("lease_scope", "scope", of="guest-d", **scope)
        return made, graph
    made.put("guest", "r", host=f"host{at}", name="r", routes=True)
    for vid, address in ((10, f"{NET}.1/24"), (20, "10.0.20.1/24")):
        group = made.put("port_group", f"host{at}/r{vid}", switch=f"host{at}/s", name=f"r{vid}", mode="access", vid=vid)
        more = {"belongs": f"s{vid}", "addresses": [address], "serve_leases": True}
        made.put("adapter", f"r{vid}", guest="r", name=f"r{vid}", port_group=group, **more)
    made.guest(f"host{dice.randrange(count)}", "d", 20, addresses=["10.0.20.9/24"], serve_leases=True)
    made.put("route", "back", of="guest-d", to=[f"{NET}.0/24"], via="10.0.20.1")
    made.put("lease_scope", "scope", of="guest-d", **scope)
    made.put("lease_relay", "relay", at="r10", to=["10.0.20.9"], marked=dice.choice([None, "taken", "dropped"]))
    return made, graph


def walked(plan: Plan, graph: nx.Graph, client: str, answering: str) -> str:
    """What becomes of a question, switch by switch: ANSWERED, SILENT or UNPROVEN."""
    hosts = [plan.get("guest", plan.get("adapter", id).guest).host for id in (client, answering)]
    if hosts[0] == hosts[1]:
        return ANSWERED
    way = nx.shortest_path(graph, *(f"sw{host.removeprefix('host')}" for host in hosts))
    marked = False
    for n, switch in enumerate(way):
        if not plan.get("fabric_switch", switch).marks_leases:
            continue
        if marked:
            said = plan.get("fabric_port", graph.edges[way[n - 1], switch][switch]).marked
            if said != "taken":
                return SILENT if said == "dropped" else UNPROVEN
        marked = True
    relay = next(iter(plan.all("lease_relay")), None)
    if marked and relay is not None and relay.marked != "taken":
        return SILENT if relay.marked == "dropped" else UNPROVEN
    return ANSWERED


class MarkingTest(unittest.TestCase):
    def test_what_becomes_of_a_question_is_what_each_switch_on_its_way_says(self) -> None:
        fared = dict.fromkeys((ANSWERED, SILENT, UNPROVEN), 0)
        outcomes = {ANSWERED: LEASED, SILENT: NO_ANSWER, UNPROVEN: UNPROVEN}
        for seed in range(150):
            made, graph = tree(seed)
            judgement = judge(made.plan())
            plan = judgement.plan
            answering = "r10" if plan.of("lease_relay") else "d"
            for record in clients(plan):
                wanted = walked(plan, graph, record.id, answering)
                fared[wanted] += 1
                self.assertEqual(judgement.leases[record.id].outcome, outcomes[wanted], (seed, record.id))
        self.assertGreater(min(fared.values()), 60)

    def test_whoever_is_held_up_is_helped_by_its_mends(self) -> None:
        helped = 0
        for seed in range(30):
            judgement = judge(tree(seed)[0].plan())
            for finding in findings(judgement):
                for mend in mends(judgement, finding)[:1] if "mark" in finding.text else ():
                    after = judged_after(judgement, mend.edit)
                    self.assertEqual(
                        {after.verdict(id) for id in finding.endpoints}, {0}, (seed, finding.title, mend.title)
                    )
                    helped += 1
        self.assertGreater(helped, 20)

    def test_after_edits_of_what_marks_it_is_as_from_nothing(self) -> None:
        for seed in range(25):
            dice = random.Random(seed)
            judgement = judge(tree(seed)[0].plan())
            for _ in range(5):
                plan = judgement.plan
                said = dice.choice([None, "taken", "dropped"])
                edits: list[Edit] = [
                    (
                        Patch(
                            "fabric_switch",
                            dice.choice(sorted(plan.of("fabric_switch"))),
                            {"marks_leases": dice.random() < 0.5},
                        ),
                    ),
                    (Patch("fabric_port", dice.choice(sorted(plan.of("fabric_port"))), {"marked": said}),),
                    *(((Patch("lease_relay", "relay", {"marked": said}),),) if plan.of("lease_relay") else ()),
                ]
                judgement = judged_after(judgement, dice.choice(edits))
                fresh = judge(judgement.plan)
                self.assertEqual(judgement.leases, fresh.leases, seed)
                self.assertEqual(judgement.verdicts(), fresh.verdicts(), seed)


class Version6Test(unittest.TestCase):
    def test_who_offers_a_lease_of_ipv6_hears_the_question_and_is_heard(self) -> None:
        """Frames, each sent by itself, share nothing with who may hear whom by the arrays and traces but the wiring."""
        counted = dict.fromkeys((True, False), 0)
        for seed in range(40):
            judgement = judge(leasing_plan(seed, six=True))
            leases, frames = Leases6(judgement, NOW, waking=True), Frames(judgement.wiring)
            for record in clients(judgement.plan, 6):
                offered = {o.at for o in leases.of(record).offered if o.outcome == ANSWERED and not o.relay}
                for source in (
                    s for s in leases.sources if not s.relay and s.outcome == ANSWERED and s.at != record.id
                ):
                    port = judgement.plan.of("station_port").get(source.at)
                    seat = (port.port, port.vid) if port is not None else (source.at, None)
                    hears = seat in frames.heard(record.id, None) and (record.id, None) in frames.heard(*seat)
                    counted[hears] += 1
                    if source.scope.pool or not hears:
                        self.assertEqual(source.at in offered, hears, (seed, record.id, source.at))
        self.assertGreater(counted[True], 20)
        self.assertGreater(counted[False], 20)

    def test_whoever_leased_an_address_and_heard_its_link_reaches_whom_he_heard(self) -> None:
        answered = 0
        for seed in range(60):
            judgement = judge(leasing_plan(seed, six=True))
            frames, pings = Frames(judgement.wiring), Pings(judgement, exact=True, waking=True)
            for id, of in gotten(judgement).held.items():
                self.assertEqual((judgement.leases6[id].outcome, judgement.formed[id].outcome), (LEASED, TAKEN))
                for advert in judgement.formed[id].heard:
                    port = judgement.plan.of("station_port").get(advert.at)
                    seat = (port.port, port.vid) if port is not None else (advert.at, None)
                    for via in (
                        v for v in advert.vias if any(ipaddress.ip_address(v) in one.bound.network for one in of)
                    ):
                        hears = seat in frames.heard(id, None) and (id, None) in frames.heard(*seat)
                        answered += hears
                        self.assertEqual(pings.ask(id, via, NOW).outcome == ANSWERED, hears, (seed, id, via))
        self.assertGreater(answered, 10)


if __name__ == "__main__":
    unittest.main()

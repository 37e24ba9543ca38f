"""Patterns: what is made of a host fits others, stamping again changes nothing, and every difference can be mended, adopted or kept."""

from __future__ import annotations

import ipaddress
import random
import unittest
from itertools import count
from typing import Any
from unittest import mock

from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge, rejudge
from aptwire.plan.edits import Drop, Edit, Patch, Put, apply_edit, touched
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.kinds import SPECS, PortGroup, Record
from aptwire.plan.plan import Plan, PlanError
from aptwire.stamping.making import STARTERS, from_host, from_starter
from aptwire.stamping.meant import Meaning
from aptwire.stamping.nics import in_order
from aptwire.stamping.off import adopt, keep, off, remove, take_out
from aptwire.stamping.stamp import questions, stamp, unstamp
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import demo_plan, plan_of, random_plan

KINDS = {"uplink": "switch", "host_port": "switch", "port_group": "switch"}


def made(plan: Plan, *edits: Edit) -> Plan:
    for edit in edits:
        plan, _ = apply_edit(plan, edit)
    return plan


def pattern_of_host(plan: Plan, host: str) -> tuple[Plan, str]:
    """A plan with a pattern made of a host, and the pattern's id."""
    after = made(plan, from_host(plan, host, "as this one"))
    return after, next(p.id for p in after.all("pattern") if p.name == "as this one")


def by_path(plan: Plan, host: str) -> dict[tuple[str, ...], Record]:
    """What is on a host, by kind and the names that lead to it."""
    found: dict[tuple[str, ...], Record] = {}
    for switch in plan.where("virtual_switch", "host", host):
        found["virtual_switch", switch.name] = switch
        for kind, owner in KINDS.items():
            found.update(((kind, switch.name, r.name), r) for r in plan.where(kind, owner, switch.id))
    return found


def sights(plan: Plan, record: Record) -> dict[str, Any]:
    """What a record says that doesn't point at another one of its host, or counts on."""
    apart = ("part", "addresses", "carries", "partial")
    return {
        name: getattr(record, name)
        for name, spec in SPECS[record.kind].items()
        if name not in apart and (spec.kind != "ref" or spec.refs == ("segment",))
    }


def hosts_with_switches(plan: Plan) -> list[str]:
    return [h for h in sorted(plan.of("host")) if plan.where("virtual_switch", "host", h)]


def bare_host(plan: Plan, like: str) -> Plan:
    """The plan with a host newcomer that has NICs of the same names as another one, and nothing else."""
    nics = [{"id": f"newcomer:{n.name}", "host": "newcomer", "name": n.name} for n in plan.where("nic", "host", like)]
    newcomer = plan_of(host=[{"id": "newcomer", "name": "newcomer"}], nic=nics)
    return made(plan, tuple(Put(record) for record in newcomer))


class StampingTest(unittest.TestCase):
    @settings(max_examples=80)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans(), st.data())
    def test_a_bare_host_becomes_as_the_one_that_the_pattern_is_made_of(
        self, seed: int, rich: bool, odd: bool, data: Any
    ) -> None:
        plan = random_plan(seed, rich, odd)
        source = data.draw(st.sampled_from(hosts_with_switches(plan)))
        plan = bare_host(plan, source)
        before = judge(plan).verdicts()
        with_pattern, pattern = pattern_of_host(plan, source)
        # Saying that a host is as it is changes nothing for anybody, and it is on its pattern.
        self.assertEqual(judge(with_pattern).verdicts(), before)
        own = next(iter(with_pattern.of("stamp").values()))
        self.assertEqual(off(with_pattern, own), ())
        self.assertEqual(stamp(with_pattern, pattern, [source]), ())
        edit = stamp(with_pattern, pattern, ["newcomer"])
        after, back = apply_edit(with_pattern, edit)
        there, here = by_path(after, source), by_path(after, "newcomer")
        self.assertEqual(there.keys(), here.keys())
        for path, record in there.items():
            self.assertEqual(sights(after, here[path]), sights(after, record), path)
        for nic in after.where("nic", "host", source):
            twin = next(n for n in after.where("nic", "host", "newcomer") if n.name == nic.name)
            names = [after.get("uplink", n.uplink).name if n.uplink else None for n in (nic, twin)]
            self.assertEqual(names[0], names[1])
            if nic.uplink:
                self.assertEqual((nic.role, nic.rank), (twin.role, twin.rank))
        for other in after.of("stamp").values():
            self.assertEqual(off(after, other), ())
        self.assertEqual(stamp(after, pattern, [source, "newcomer"]), ())
        self.assertEqual(apply_edit(after, back)[0], with_pattern)
        self.assertEqual(read_plan(write_plan(after)), after)
        # What was stamped stays when the pattern goes.
        bare = made(after, remove(after, pattern))
        self.assertEqual(by_path(bare, "newcomer").keys(), here.keys())
        self.assertFalse(bare.of("stamp") or bare.of("pattern_switch") or bare.of("stamp_nic"))
        self.assertEqual(judge(bare).verdicts(), judge(after).verdicts())

    @settings(max_examples=150)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans(), st.data())
    def test_every_difference_is_told_and_can_be_mended_adopted_or_kept(
        self, seed: int, rich: bool, odd: bool, data: Any
    ) -> None:
        plan = random_plan(seed, rich, odd)
        source = data.draw(st.sampled_from(hosts_with_switches(plan)))
        plan, pattern = pattern_of_host(plan, source)
        judged = judge(plan)
        risks(judged)
        own = next(iter(plan.of("stamp").values()))
        records = list(by_path(plan, source).values())
        record = data.draw(st.sampled_from(records))
        what = data.draw(st.sampled_from(["name", "mtu", "gone", "beside", "nic"]))
        nics = [n for n in plan.where("nic", "host", source) if n.uplink]
        if what == "nic" and nics:
            edit: Edit = (Patch("nic", nics[0].id, {"rank": nics[0].rank + 7}),)
        elif what == "beside":
            switch = plan.where("virtual_switch", "host", source)[0]
            edit = (Put(PortGroup(id="lab", switch=switch.id, name="lab", mode="untagged")),)
        elif what == "gone":
            edit = (Drop(record.kind, record.id),)
        elif what == "mtu" and "mtu" in SPECS[record.kind]:
            edit = (Patch(record.kind, record.id, {"mtu": 4321}),)
        else:
            edit = (Patch(record.kind, record.id, {"name": "another name"}),)
        try:
            changed = made(plan, edit)
        except PlanError:
            return  # Somebody needs what was to go.
        found = off(changed, own)
        self.assertTrue(found, edit)
        with mock.patch.object(Meaning, "fits", return_value=False):
            self.assertEqual(off(changed, own), found, "looked for part by part")
        again = rejudge(judged, changed, touched(edit))
        self.assertEqual([(r.id, r.text) for r in risks(again)], [(r.id, r.text) for r in risks(judge(changed))])
        self.assertIn("off-pattern", [r.what for r in risks(again)])
        self.assertEqual(off(made(changed, stamp(changed, pattern, [source])), own), ())
        kept = changed
        for one in found:
            kept = made(kept, keep(kept, one))
        self.assertEqual(off(kept, own), ())
        self.assertEqual(stamp(kept, pattern, [source]), ())
        while left := off(changed, own):
            try:
                changed = made(changed, adopt(changed, left[0]))
            except PlanError as error:
                # What others of the pattern go over can't be taken out from under them.
                self.assertTrue(error.problems)
                break
        else:
            self.assertEqual(stamp(changed, pattern, [source]), ())

    def test_a_renamed_port_group_is_off_pattern_not_gone_and_new(self) -> None:
        plan, pattern = pattern_of_host(demo_plan(), "gannet")
        own = next(s for s in plan.all("stamp") if s.host == "gannet")
        group = next(g for g in plan.all(PortGroup) if g.id == "gannet/guests0/ticketing")
        plan = made(plan, (Patch("port_group", group.id, {"name": "tickets"}),))
        self.assertEqual([str(o) for o in off(plan, own)], ["port group ticketing: name is tickets, not ticketing"])
        plan = made(plan, stamp(plan, pattern, ["gannet"]))
        self.assertEqual(plan.get("port_group", group.id).name, "ticketing")

    def test_what_a_host_has_beside_stays_when_it_is_stamped_first_and_is_told(self) -> None:
        plan, pattern = pattern_of_host(demo_plan(), "gannet")
        lab = PortGroup(id="lab", switch="fulmar/guests0", name="lab", mode="untagged")
        plan = made(plan, (Put(lab),))
        after = made(plan, stamp(plan, pattern, ["fulmar"]))
        own = next(s for s in after.all("stamp") if s.host == "fulmar")
        self.assertIn("port group lab isn’t in the pattern", [str(o) for o in off(after, own)])
        self.assertNotIn("lab", made(after, stamp(after, pattern, ["fulmar"])).of("port_group"), "nobody uses it")

    def test_taking_a_part_out_leaves_it_on_its_hosts(self) -> None:
        plan, pattern = pattern_of_host(demo_plan(), "gannet")
        own = next(s for s in plan.all("stamp") if s.host == "gannet")
        before = judge(plan).verdicts()
        for part in [p.id for kind in ("pattern_switch", "pattern_nic") for p in plan.where(kind, "pattern", pattern)]:
            plan = made(plan, take_out(plan, part))
        self.assertEqual(judge(plan).verdicts(), before)
        self.assertEqual(off(plan, own), ())
        self.assertFalse([g for g in plan.all("pattern_port_group") if g.id.startswith(pattern)])
        self.assertFalse(plan.where("stamp_nic", "stamp", own.id))
        self.assertNotIn(own.id, made(plan, unstamp(plan, own.id)).of("stamp"))


def fleet(count: int, nics: list[dict[str, Any]], cabled: str = "10") -> Plan:
    """Hosts h1, h2 ... with NICs alike, the second of each plugged into a port that carries `cabled`."""
    hosts = range(1, count + 1)
    return plan_of(
        segment=[
            {"id": "m", "name": "management", "role": "management", "vid": 10, "subnets": ["10.0.10.0/24"]},
            {"id": "s", "name": "storage", "role": "storage", "vid": 20, "subnets": ["10.0.20.0/29"], "mtu": 9000},
            {"id": "g", "name": "shop", "role": "production", "vid": 30},
        ],
        host=[{"id": f"h{n}", "name": f"h{n}"} for n in hosts],
        nic=[{"id": f"h{n}:{nic['name']}", "host": f"h{n}", **nic} for n in hosts for nic in nics],
        fabric_switch=[{"id": "rack", "name": "rack"}],
        fabric_port=[
            {"id": f"p{n}", "switch": "rack", "name": f"p{n}", "mode": "trunk", "allowed": cabled} for n in hosts
        ],
        cable=[{"id": f"c{n}", "a": f"h{n}:{nics[1]['name']}", "b": f"p{n}"} for n in hosts],
    )


class NicsTest(unittest.TestCase):
    def asked(self, **how: Any) -> tuple[Plan, str]:
        """Two hosts with four NICs of two speeds, and a pattern that asks for one in a way."""
        nics = [{"name": name, "speed": speed} for name, speed in (("e10", 10_000), ("e2", 10_000), ("f1", 25_000))]
        pattern = plan_of(
            pattern=[{"id": "p", "name": "p"}],
            pattern_switch=[{"id": "ps", "pattern": "p", "name": "main"}],
            pattern_uplink=[{"id": "pu", "switch": "ps", "name": "out"}],
            pattern_nic=[{"id": "pn", "pattern": "p", "name": "data", "uplink": "pu", **how}],
        )
        return made(fleet(2, nics, "10, 20"), tuple(Put(record) for record in pattern)), "p"

    def test_by_name_place_speed_and_what_the_neighbour_carries(self) -> None:
        for how, name in (
            ({"named": "f1"}, "f1"),
            ({"place": 1}, "e2"),
            ({"place": 2}, "e10"),
            ({"speed": 25_000}, "f1"),
            ({"speed": 10_000, "place": 2}, "e10"),
            ({"carried": "20"}, "e2"),
            ({"carried": "10, 20", "speed": 10_000}, "e2"),
        ):
            plan, pattern = self.asked(**how)
            plan = made(plan, stamp(plan, pattern, ["h1", "h2"]))
            self.assertEqual([n.name for n in plan.of("nic").values() if n.uplink], [name, name], how)

    def test_what_is_not_clear_asks_and_takes_the_answer(self) -> None:
        plan, pattern = self.asked(speed=10_000)
        asked = questions(plan, pattern, ["h1", "h2"])
        self.assertEqual([(q.host, q.part, len(q.fits)) for q in asked], [("h1", "pn", 2), ("h2", "pn", 2)])
        with self.assertRaises(PlanError) as caught:
            stamp(plan, pattern, ["h1", "h2"])
        self.assertEqual(str(caught.exception.problems[0]), "host h1, field data: e2 and e10 of h1 may be data")
        answers = {("h1", "pn"): "h1:e10", ("h2", "pn"): None}
        after = made(plan, stamp(plan, pattern, ["h1", "h2"], answers))
        self.assertEqual([n.id for n in after.of("nic").values() if n.uplink], ["h1:e10"])
        own = next(s for s in after.of("stamp").values() if s.host == "h2")
        self.assertEqual([str(o) for o in off(after, own)], ["NIC data is missing"])

    def test_a_host_without_the_nics_says_what_it_lacks(self) -> None:
        plan, pattern = self.asked(speed=100_000)
        with self.assertRaises(PlanError) as caught:
            stamp(plan, pattern, ["h2"])
        self.assertIn("no NIC of h2 is data (of 100000 Mbit/s)", str(caught.exception))
        plan, pattern = self.asked(place=4)
        with self.assertRaises(PlanError) as caught:
            stamp(plan, pattern, ["h2"])
        self.assertIn("h2 has only e2, e10 and f1", str(caught.exception))

    def test_names_are_ordered_with_their_numbers_by_value(self) -> None:
        plan = fleet(1, [{"name": name} for name in ("eth10", "eth9", "ens1f1", "ens1f0", "2x")])
        self.assertEqual(
            [n.name for n in in_order(list(plan.of("nic").values()))], ["2x", "ens1f0", "ens1f1", "eth9", "eth10"]
        )


def _ports(plan: Plan, host: str) -> list[Any]:
    return [p for s in plan.where("virtual_switch", "host", host) for p in plan.where("host_port", "switch", s.id)]


class StarterTest(unittest.TestCase):
    def test_addresses_count_on_and_what_is_taken_is_passed_over(self) -> None:
        plan = fleet(3, [{"name": f"nic{n}"} for n in range(1, 7)])
        plan = made(plan, from_starter(plan, "six", "six"))
        pattern = next(iter(plan.of("pattern")))
        ports = {p.name: p.addresses for p in plan.of("pattern_host_port").values()}
        self.assertEqual(ports, {"management": ("10.0.10.11/24",), "storage": ()})
        storage = next(p for p in plan.of("pattern_host_port").values() if p.name == "storage")
        taken = plan_of(
            segment=[{"id": "x", "name": "elsewhere", "gateways": ["10.0.20.2"]}],
        )
        plan = made(plan, (Patch(storage.kind, storage.id, {"addresses": ["10.0.20.1/29"]}),), tuple(map(Put, taken)))
        after = made(plan, stamp(plan, pattern, ["h3", "h1"]))
        borne = {
            (after.get("virtual_switch", p.switch).host, p.name): p.addresses for p in after.of("host_port").values()
        }
        self.assertEqual(borne["h3", "management"], ("10.0.10.11/24",))
        self.assertEqual(borne["h3", "storage"], ("10.0.20.1/29",))
        # Number 2 would have the gateway's address.
        self.assertEqual(borne["h1", "storage"], ("10.0.20.3/29",))
        self.assertEqual(borne["h1", "management"], ("10.0.10.13/24",))
        switches = {s.name: s.mtu for s in after.where("virtual_switch", "host", "h1")}
        self.assertEqual(switches, {"control": None, "storage": 9000, "guests": None})

    def test_a_host_that_bears_the_addresses_already_keeps_its_number(self) -> None:
        plan = fleet(3, [{"name": f"nic{n}"} for n in range(1, 3)])
        plan = made(plan, from_starter(plan, "two", "two"))
        pattern = next(iter(plan.of("pattern")))
        first = made(plan, stamp(plan, pattern, ["h1", "h2", "h3"]))
        unlinked = made(first, *(unstamp(first, s.id) for s in first.of("stamp").values()))
        again = made(unlinked, stamp(unlinked, pattern, ["h3", "h2", "h1"]))
        self.assertEqual(again, first)

    def test_numbers_are_those_that_counting_by_hand_gives(self) -> None:
        kept = passed = 0
        for seed in range(60):
            dice = random.Random(seed)
            plan = fleet(6, [{"name": f"nic{n}"} for n in range(1, 3)])
            plan = made(plan, from_starter(plan, "two", "two"))
            pattern = next(iter(plan.of("pattern")))
            stamped = made(plan, stamp(plan, pattern, dice.sample([f"h{n}" for n in range(1, 7)], dice.randint(1, 5))))
            # Some are taken off and keep what they bear, some of them another address; others' addresses are in the way.
            for own in list(stamped.of("stamp").values()):
                if dice.random() < 0.6:
                    stamped = made(stamped, unstamp(stamped, own.id))
                    if dice.random() < 0.4:
                        port = dice.choice(_ports(stamped, own.host))
                        stamped = made(stamped, (Patch("host_port", port.id, {"addresses": ["192.0.2.9/24"]}),))
            taken = [f"10.0.{dice.choice((10, 20))}.{dice.randint(1, 16)}" for _ in range(3)]
            others = plan_of(segment=[{"id": f"x{n}", "name": f"x{n}", "gateways": [a]} for n, a in enumerate(taken)])
            stamped = made(stamped, tuple(map(Put, others)))
            wanted = [h for h in (f"h{n}" for n in range(1, 7)) if not stamped.where("stamp", "host", h)]
            dice.shuffle(wanted)
            after = made(stamped, stamp(stamped, pattern, wanted))
            firsts = {
                p.name: ipaddress.ip_interface(p.addresses[0]) for p in plan.all("pattern_host_port") if p.addresses
            }
            borne = {a.split("/")[0] for p in stamped.all("host_port") for a in p.addresses} | set(taken)
            used = {s.number for s in stamped.all("stamp")}
            for host in wanted:
                ports = {p.name: p.addresses for p in _ports(stamped, host)}
                bears = {
                    int(ipaddress.ip_interface(ports[name][0]).ip) - int(first.ip) + 1 if ports.get(name) else None
                    for name, first in firsts.items()
                }
                own = bears.pop() if len(bears) == 1 else None
                if own is not None and 0 < own < 200 and own not in used:
                    expected, kept = own, kept + 1
                else:
                    free = (n for n in count(1) if n not in used)
                    expected = next(n for n in free if borne.isdisjoint(str(f.ip + n - 1) for f in firsts.values()))
                    passed += expected > len(used) + 1
                used.add(expected)
                self.assertEqual(after.where("stamp", "host", host)[0].number, expected, (seed, host))
        self.assertGreater(kept, 20)
        self.assertGreater(passed, 5)

    def test_a_subnet_that_ends_says_so(self) -> None:
        plan = fleet(8, [{"name": f"nic{n}"} for n in range(1, 3)])
        plan = made(plan, from_starter(plan, "two", "two"))
        pattern = next(iter(plan.of("pattern")))
        port = next(p for p in plan.of("pattern_host_port").values() if p.name == "storage")
        plan = made(plan, (Patch(port.kind, port.id, {"addresses": ["10.0.20.1/29"]}),))
        with self.assertRaises(PlanError) as caught:
            stamp(plan, pattern, [f"h{n}" for n in range(1, 9)])
        said = [str(p) for p in caught.exception.problems]
        self.assertEqual(len(said), 2)
        self.assertIn("10.0.20.0/29 has no address left for number 7, counted on from 10.0.20.1 (h7)", said[0])

    def test_every_starting_point_fits_the_demo_and_an_empty_plan(self) -> None:
        for starter in STARTERS:
            for plan in (demo_plan(), Plan("empty")):
                after = made(plan, from_starter(plan, starter, starter))
                self.assertIn(starter, [pattern.name for pattern in after.all("pattern")])
                with self.assertRaises(PlanError):
                    from_starter(after, "two", starter)


class AlikeTest(unittest.TestCase):
    def names(self, *names: str) -> list[tuple[str, str]]:
        """What is told of a host for each name that has one port group of it."""
        plan = plan_of(
            host=[{"id": f"h{n}", "name": f"h{n}"} for n, _ in enumerate(names)],
            virtual_switch=[{"id": f"s{n}", "host": f"h{n}", "name": "main"} for n, _ in enumerate(names)],
            port_group=[
                {"id": f"g{n}", "switch": f"s{n}", "name": name, "mode": "access", "vid": 10}
                for n, name in enumerate(names)
            ],
        )
        found = [r for r in risks(judge(plan)) if r.what == "alike-name"]
        for risk in found:
            (_, edit), *_ = risk.mends if isinstance(risk.mends, tuple) else ()
            after = judge(made(plan, edit))
            self.assertFalse([r for r in risks(after) if r.what == "alike-name"])
        return [(r.title, r.text) for r in found]

    def test_case_blanks_dashes_and_one_letter(self) -> None:
        self.assertEqual(self.names("guests 10", "guests 10", "guests 11"), [])
        self.assertEqual(self.names("guests-a", "guests-b"), [])
        for odd in ("Guests-prod", "guests prod", "guests_prod", "guestsprod", "guest-prod", "gueste-prod"):
            title, text = self.names("guests-prod", "guests-prod", "guests-prod", odd)[0]
            self.assertIn(f"guests-prod is nearly called the same elsewhere: {odd}", title)
            self.assertIn("3 are called guests-prod", text)

"""Gateways: who bears them, who reaches them, and what is said where nobody can."""

from __future__ import annotations

import random
import unittest
from dataclasses import replace

from aptwire.forward.frames import Frames
from aptwire.forward.parts import NOW, State
from aptwire.judge.findings import findings
from aptwire.judge.mends import mends
from aptwire.judge.preview import preview
from aptwire.judge.verdicts import judge
from aptwire.judge.why import is_idle
from aptwire.plan.edits import Drop, Patch, Put
from aptwire.plan.kinds import REFS, Adapter, GuestTag, Record, Segment, SharedAddress, WayIn
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.support import JudgedCase, Small, demo_plan, pair, plan_of, random_plan


def gated() -> Small:
    """a1 on a, b1 on b; the gateway is the guest gate on a."""
    made = pair()
    made.kinds["segment"][0].update(gateways=["10.64.10.1"], subnets=["10.64.10.0/24"])
    made.guest("a", "gate", 10, addresses=["10.64.10.1/24"])
    return made


class BearerTest(JudgedCase):
    def test_borne_and_reached(self) -> None:
        self.judged(gated(), a1="home", b1="home", gate="home")

    def test_whose_gateway_lands_elsewhere_is_stranded_and_the_bearer_is_named(self) -> None:
        made = gated()
        made.put("port_group", "a/odd", switch="a/s", name="odd", mode="untagged")
        made.kinds["adapter"][-1]["port_group"] = "a/odd"
        judgement = self.judged(made, a1="stranded", b1="stranded")
        lost = next(f for f in findings(judgement) if "a1" in f.endpoints)
        self.assertEqual((lost.title, lost.endpoints), ("a1 and b1 are cut off from the gateway gate", ("a1", "b1")))

    def test_whose_gateway_is_off_is_stranded_until_it_is_started(self) -> None:
        for change, text, mend in (
            (lambda k: k["guest"][-1].update(running=False), "gate is off.", "Start gate"),
            (lambda k: k["adapter"][-1].update(connected=False), "gate is disconnected.", "Connect gate"),
        ):
            made = gated()
            change(made.kinds)
            judgement = self.judged(made, a1="stranded", b1="stranded", gate="home")
            finding = self.only(judgement)
            self.assertEqual((finding.title, finding.text), ("a1 and b1 are cut off from the gateway gate", text))
            self.assertEqual(mends(judgement, finding)[0].title, mend)

    def test_borne_by_nobody_nobody_can_know_and_all_segments_are_one_finding(self) -> None:
        made = pair()
        made.segment(20, gateways=["10.64.20.1"], subnets=["10.64.20.0/24"])
        made.kinds["segment"][0].update(gateways=["10.64.10.1"], subnets=["10.64.10.0/24"])
        made.guest("a", "a2", 20)
        judgement = self.judged(made, a1="unproven", b1="unproven", a2="unproven")
        finding = self.only(judgement)
        self.assertEqual(finding.title, "Nobody in the plan bears the gateway of s10 and s20")
        mend = mends(judgement, finding)[0]
        self.assertEqual(mend.title, "Plug a router that bears them into sw")
        self.assertEqual(set(mend.preview.judgement.verdicts().values()), {"home"})

    def test_a_gateway_outside_the_plan_comes_in_where_it_is_said(self) -> None:
        made = pair()
        made.kinds["segment"][0]["gateways"] = ["10.64.10.1"]
        made.trunk("sw/out", "10")
        judgement = self.judged(made, a1="unproven")
        titles = [m.title for m in mends(judgement, self.only(judgement))]
        self.assertIn("Say that they come in at port out of sw, from outside the plan", titles)
        made.put("way_in", "w", segment="s10", port="sw/out")
        self.judged(made, a1="home", b1="home")
        made.kinds["fabric_port"][-1]["allowed"] = "20"
        self.judged(made, a1="unproven")
        made.kinds["fabric_port"][-1]["allowed"] = "10"
        made.kinds["fabric_port"][0]["allowed"] = "20"
        self.judged(made, a1="stranded", b1="home")

    def test_off_strands_and_removed_leaves_unproven_and_both_are_said_before(self) -> None:
        judgement = judge(gated().plan())
        off = preview(judgement, (Patch("guest", "guest-gate", {"running": False}),))
        self.assertEqual({(m.endpoint, m.after) for m in off.moves}, {("a1", "stranded"), ("b1", "stranded")})
        gone = preview(judgement, (Drop("adapter", "gate"), Drop("guest", "guest-gate")))
        self.assertEqual(
            {(m.endpoint, m.after) for m in gone.moves if m.after}, {("a1", "unproven"), ("b1", "unproven")}
        )

    def test_a_host_port_asks_for_its_own_gateway(self) -> None:
        made = gated()
        made.kinds["segment"][0]["gateways"] = []
        made.put("host_port", "b/hp", switch="b/s", name="hp", vid=10, belongs="s10", gateway="10.64.10.1")
        self.judged(made, **{"b/hp": "home"})
        made.kinds["guest"][-1]["running"] = False
        self.judged(made, **{"b/hp": "stranded", "a1": "home"})
        made.kinds["host_port"][0]["gateway"] = "10.64.10.9"
        self.judged(made, **{"b/hp": "unproven"})

    def test_a_router_on_each_half_makes_no_whole(self) -> None:
        """Each half reaches a gateway, and its peers on the other half not."""
        made = Small()
        made.segment(10, gateways=["10.64.10.1"])
        for side, host in (("left", "a"), ("right", "b")):
            made.fabric(side)
            made.trunk(f"{side}/p", "10")
            made.host(host, f"{side}/p")
            made.guest(host, f"{host}1", 10)
            made.guest(host, f"gate-{host}", 10, addresses=["10.64.10.1/24"])
        self.judged(made, a1="stranded", b1="stranded")
        made.guest("a", "a2", 10)
        self.judged(made, a1="home", a2="home", b1="stranded")

    def test_two_that_share_an_address_on_purpose_are_no_twins(self) -> None:
        made = gated()
        made.guest("b", "gate2", 10, addresses=["10.64.10.1/24"])
        self.judged(made, gate="exposed", gate2="exposed")
        made.put("shared_address", "x", address="10.64.10.1")
        self.judged(made, gate="home", gate2="home", a1="home")

    def test_a_network_or_broadcast_address_is_nobodys(self) -> None:
        for address in ("10.64.10.0/24", "10.64.10.255/24"):
            made = gated()
            made.kinds["adapter"][0]["addresses"] = [address]
            finding = self.only(self.judged(made, a1="stranded", b1="home"))
            self.assertEqual(finding.title, "a1 has an address that is no machine’s")
        made.kinds["segment"][0]["subnets"] = ["10.64.10.254/31"]
        made.kinds["adapter"][0]["addresses"] = ["10.64.10.255/31"]
        self.judged(made, a1="home")

    def test_group_addresses_are_refused(self) -> None:
        made = gated()
        made.kinds["adapter"][0]["mac"] = "01:00:5e:00:00:01"
        with self.assertRaisesRegex(Exception, "is a group address"):
            made.plan()

    def test_what_the_plan_knows_comes_from_nowhere_else(self) -> None:
        made = gated()
        made.put("way_in", "w", segment="s10", port="sw/p1")
        with self.assertRaisesRegex(AssertionError, "so nothing comes in there from outside"):
            made.plan()


class DemoTest(JudgedCase):
    def setUp(self) -> None:
        self.judgement = judge(demo_plan())

    def moved(self, *edit) -> dict[str, str]:
        return {m.endpoint: m.after for m in preview(self.judgement, edit).moves}

    def test_the_firewalls_port_group_untagged_strands_whoever_it_serves(self) -> None:
        group = self.judgement.plan.get("adapter", "adapter-edge-firewall-in").port_group
        moved = self.moved(Patch("port_group", group, {"mode": "untagged", "allowed": None, "native": None}))
        self.assertEqual(moved["adapter-ticketing-web-1"], "stranded")
        self.assertNotIn("home", moved.values())

    def test_the_firewall_off_strands_whoever_it_serves(self) -> None:
        guest = self.judgement.plan.get("adapter", "adapter-edge-firewall-in").guest
        moved = self.moved(Patch("guest", guest, {"running": False}))
        self.assertEqual(moved["adapter-ticketing-web-1"], "stranded")
        self.assertGreater(sum(after == "stranded" for after in moved.values()), 10)


def copied(record: Record, data: dict[str, object]) -> dict[str, object]:
    """A record's twin in a second copy of its fleet: other ids, names and sites."""
    changes = {field: f"copy:{data[field]}" for field in ("id", *REFS[record.kind]) if data.get(field) is not None}
    for field in ("name", "site") if record.kind not in ("adapter", "port_group", "nic", "fabric_port") else ():
        if data.get(field):
            changes[field] = f"copy {data[field]}"
    return {**data, **changes}


class PropertyTest(unittest.TestCase):
    @settings(max_examples=80)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans())
    def test_two_copies_of_a_fleet_side_by_side_fare_as_one(self, seed: int, rich: bool, odd: bool) -> None:
        plan = random_plan(seed, rich=rich, odd=odd)
        # A VID has one private VLAN in a plan, and an address one word about its being shared.
        once = ("secondary_vlan", "shared_address", "limits")
        both = {record.kind: list[dict[str, object]]() for record in plan}
        for record in plan:
            both[record.kind].append(data := record.to_json())
            if record.kind not in once:
                both[record.kind].append(copied(record, data))
        alone, together = judge(plan).verdicts(), judge(plan_of(**both)).verdicts()
        if not any(plan.all(kind) for kind in once):
            self.assertEqual(together, alone | {f"copy:{id}": verdict for id, verdict in alone.items()})
        self.assertEqual({id: together[id] for id in alone}, alone)

    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans())
    def test_what_is_unrelated_changes_nobodys_verdict(self, seed: int, odd: bool) -> None:
        """A host with teams of its own beside a fleet: its states are no states of the others'."""
        plan = random_plan(seed, rich=True, odd=odd)
        before = judge(plan).verdicts()
        other = Small()
        other.fabric("far")
        for n in range(4):
            other.trunk(f"far/p{n}", "77")
        other.host("zz", "far/p0", "far/p1")
        other.put("uplink", "zz/second", switch="zz/s", name="v", allowed="78")
        for n in (2, 3):
            other.put("nic", f"zz/n{n}", host="zz", name=f"n{n}", uplink="zz/second", rank=n)
            other.cable(f"zz/n{n}", f"far/p{n}")
        other.segment(77)
        other.guest("zz", "zz1", 77)
        both = {kind: [r.to_json() for r in plan.all(kind)] for kind in plan._records}
        for kind, records in other.kinds.items():
            both[kind] = [*both[kind], *records]
        after = judge(plan_of(**{k: v for k, v in both.items() if v})).verdicts()
        self.assertEqual({e: after[e] for e in before}, before)

    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans())
    @example(1231869, False)  # two bear a gateway, and one of them may be beyond an open end
    @example(13830, True)  # untagged frames of an isolated port beyond an unmanaged switch
    def test_ids_and_names_mean_nothing(self, seed: int, odd: bool) -> None:
        """The engine's own words as ids, and names of any script with quotes in them."""
        plan = random_plan(seed, rich=True, odd=odd)
        dice = random.Random(seed)
        words = ["stations", "adapters", "guests", "functions", "none", "now", "0", "x/functions"]
        old = sorted(r.id for r in plan)
        fresh = dice.sample(sorted({*words, *(f"w{n}" for n in range(len(old)))}), len(old))
        renamed = dict(zip(old, fresh, strict=True))
        made: dict[str, list[dict[str, object]]] = {}
        for record in plan:
            data = record.to_json()
            for field in ("id", *REFS[record.kind]):
                if data.get(field) is not None:
                    data[field] = renamed[data[field]]
            if record.kind in ("host", "fabric_switch", "station", "segment"):
                data["name"] = dice.choice(["“{0}” ʻ'\"", "船{0}" * 2, "<{0}>|", "{0}>ﬀ"]).format(data["name"])[:80]
            made.setdefault(record.kind, []).append(data)
        judgement = judge(plan_of(**made))
        before = judge(plan).verdicts()
        # Who is the first of a team without an order of its own is decided by names and ids, and so are teams that tie.
        same = {renamed[e]: v for e, v in before.items()}
        self.assertEqual(judgement.verdicts(), same)
        findings(judgement)

    @settings(max_examples=80)
    @given(st.integers(0, 10**9), st.booleans())
    def test_nobody_is_home_whose_gateway_frames_do_not_reach(self, seed: int, odd: bool) -> None:
        plan = random_plan(seed, rich=True, odd=odd)
        plan = plan.replacing({(s.kind, s.id): replace(s, gateways=(), subnets=()) for s in plan.all(Segment)})
        before = judge(plan).verdicts()
        dice = random.Random(seed)
        tagging = {tag.adapter for tag in plan.all(GuestTag)}
        changes: dict[tuple[str, str], Record | None] = {}
        bearers: dict[str, list[str]] = {}
        for n, segment in enumerate(plan.all(Segment)):
            own = [
                a
                for a in plan.where("adapter", "belongs", segment.id)
                if a.id not in tagging and before[a.id] in ("home", "stranded")
            ]
            some = dice.sample(own, min(len(own), dice.choice([1, 1, 1, 2])))
            changes["segment", segment.id] = replace(segment, gateways=(f"10.99.{n}.1",) if some else (), subnets=())
            for adapter in some:
                changes["adapter", adapter.id] = replace(adapter, addresses=(f"10.99.{n}.1/24",))
            bearers[segment.id] = [a.id for a in some]
        plan = plan.replacing(changes)
        judgement = judge(plan)
        wiring, told = judgement.wiring, judgement.verdicts()
        asked: dict[tuple[tuple[str, str], ...], Frames] = {}
        for adapter in plan.all(Adapter):
            gates = bearers.get(adapter.belongs or "", [])
            if told.get(adapter.id) != "home" or not gates or adapter.id in gates or adapter.id in tagging:
                continue
            place = wiring.place(adapter.id)
            teams = wiring.teams_at(place.bridge, place.stand.order)
            for state in (NOW, *(State({t.key: m.key}) for t in teams for m in t.members[1 : t.usable])):
                key = tuple(state.choice.items())
                frames = asked.get(key) or asked.setdefault(key, Frames(wiring, state))
                met = [
                    gate
                    for gate in gates
                    if not is_idle(plan, gate)
                    and gate in frames.seats
                    and (gate, ()) in frames.stacked(adapter.id, ())
                    and (adapter.id, ()) in frames.stacked(gate, ())
                ]
                self.assertTrue(met, f"{adapter.id} in {state}")

    @settings(max_examples=40)
    @given(st.integers(0, 10**9))
    def test_declaring_where_gateways_come_in_harms_nobody(self, seed: int) -> None:
        judgement = judge(random_plan(seed))
        for finding in findings(judgement):
            if finding.what != "no-bearer":
                continue
            for mend in mends(judgement, finding):
                if any(isinstance(o, Put) and isinstance(o.record, WayIn) for o in mend.edit):
                    self.assertFalse([m for m in mend.preview.moves if m.worse], mend.title)

    def test_a_shared_address_is_kept_as_it_was_said(self) -> None:
        self.assertEqual(SharedAddress(id="x", address="10.64.10.1").to_json(), {"id": "x", "address": "10.64.10.1"})


if __name__ == "__main__":
    unittest.main()

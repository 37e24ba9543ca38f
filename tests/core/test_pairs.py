"""A fabric switch below two that are one towards it: one link, whichever cable carries; held against frames that are followed one by one."""

from __future__ import annotations

import unittest
from collections import deque
from dataclasses import replace
from datetime import UTC, datetime
from itertools import combinations, product
from unittest.mock import patch

from aptwire.forward.parts import NOW, State
from aptwire.forward.paths import Roads
from aptwire.forward.tree import Joint, Pairs, spanning_tree
from aptwire.judge.findings import findings
from aptwire.judge.mends import mends
from aptwire.judge.risks import risks
from aptwire.judge.verdicts import judge, rejudge
from aptwire.paper.validation import validation
from aptwire.plan.edits import Patch, apply_edit, touched
from aptwire.plan.kinds import FabricPort, FabricSwitch
from aptwire.recheck import Verdict, recheck
from aptwire.rules.answer import BROKEN
from aptwire.rules.asking import asked
from aptwire.stress.courses import Courses, Failure, Look
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.support import JudgedCase, Small

VIDS = ("10", "20", "10,20")
TRUNKS = ("sw/peer", "sx/peer", "sw/down", "sx/down", "below/u0", "below/u1")
SEATS = {"a": "sw", "b": "sx", "c": "below", "d": "below"}
LEADS = {"sw/down": "below", "sx/down": "below", "below/u0": "sw", "below/u1": "sx", "sw/peer": "sx", "sx/peer": "sw"}


def three(
    trunks: dict[str, str] | None = None,
    stp: bool = False,
    one: bool = True,
    peer: bool = True,
    sizes: dict[str, int | None] | None = None,
) -> Small:
    """Switches sw and sx, with a cable between them, and `below`, whose LAG leads to both; a host at each, and a second one at `below`."""
    made = Small()
    made.segment(10)
    for switch in ("sw", "sx", "below"):
        made.fabric(switch, spanning_tree=stp)
    lags = {
        "sw/down": made.put("lag", "sw-low", switch="sw", name="po1"),
        "sx/down": made.put("lag", "sx-low", switch="sx", name="po1", **({"beside": "sw-low"} if one else {})),
    }
    lags["below/u0"] = lags["below/u1"] = made.put("lag", "low", switch="below", name="po1")
    for port in TRUNKS if peer else TRUNKS[2:]:
        more = {"lag": lags[port]} if port in lags else {}
        made.trunk(port, (trunks or {}).get(port, "10"), mtu=(sizes or {}).get(port), **more)
    if peer:
        made.cable("sw/peer", "sx/peer")
    for n, switch in enumerate(("sw", "sx")):
        made.cable(f"below/u{n}", f"{switch}/down")
    for host, switch in SEATS.items():
        made.trunk(f"{switch}/{host}", "10")
        made.host(host, f"{switch}/{host}")
        made.guest(host, f"{host}1", 10)
    return made


def heard(trunks: dict[str, str], sizes: dict[str, int | None], source: str, carries: int) -> set[str]:
    """Who hears a broadcast of 9,000 bytes of somebody on VID 10, frame by frame, where the LAG of `below` sends over the cable with this number."""

    def passes(port: str) -> bool:
        other = {"sw/down": "below/u0", "sx/down": "below/u1", "sw/peer": "sx/peer"}
        pair = {**other, **{far: near for near, far in other.items()}}
        return all("10" in trunks[end].split(",") and sizes[end] != 1500 for end in (port, pair[port]))

    waiting, seen = deque([(SEATS[source], "")]), set()
    while waiting:
        switch, entry = waiting.popleft()
        if (switch, entry) in seen:
            continue
        seen.add((switch, entry))
        for port in (p for p in TRUNKS if p.startswith(f"{switch}/") and p != entry and passes(p)):
            if switch == "below" and (entry or port != f"below/u{carries}"):
                # One port: what came by it doesn't leave by it.
                continue
            if port.endswith("down") and entry.endswith("peer"):
                # The other one has sent it there.
                continue
            near = {"sw": "below/u0", "sx": "below/u1"}[switch] if port.endswith("down") else ""
            far = near or ("sx/peer" if port == "sw/peer" else "sw/peer" if port == "sx/peer" else "")
            waiting.append((LEADS[port], far or f"{LEADS[port]}/down"))
    return {who for who, switch in SEATS.items() if who != source and any(s == switch for s, _ in seen)}


class FlowsTest(unittest.TestCase):
    @settings(max_examples=200, deadline=None)
    @given(
        st.fixed_dictionaries({port: st.sampled_from(VIDS) for port in TRUNKS}),
        st.fixed_dictionaries({port: st.sampled_from((None, None, None, 9000, 1500)) for port in TRUNKS}),
    )
    @example(dict.fromkeys(TRUNKS, "10"), dict.fromkeys(TRUNKS) | {"sw/peer": 1500})
    @example(dict.fromkeys(TRUNKS, "10"), dict.fromkeys(TRUNKS) | {"sx/down": 1500})
    def test_who_hears_whom_whatever_is_hashed(self, trunks: dict[str, str], sizes: dict[str, int | None]) -> None:
        judgement = judge(three(trunks, sizes=sizes).plan())
        wiring = judgement.wiring
        states = [NOW, *(State({t.key: m.key}) for t in wiring.fabric.teams for m in t.members[1:])]
        roads = [Roads(wiring, state, 9000) for state in states]
        places = {who: wiring.place(f"{who}1") for who in SEATS}
        real = {(who, n): heard(trunks, sizes, who, n) for who, n in product(SEATS, (0, 1))}
        for one, two in combinations(SEATS, 2):
            pairs = ((one, two), (two, one))
            always = all(b in real[a, n] for (a, b), n in product(pairs, (0, 1)))
            told = all(r.way(places[a], places[b]) is not None for (a, b), r in product(pairs, roads))  # type: ignore[arg-type]
            self.assertEqual(told, always, (one, two))
            ever = any(all(b in real[a, n] for a, b in pairs) for n in (0, 1))
            if not ever and 1500 not in sizes.values():
                self.assertNotEqual({str(judgement.verdicts()[f"{who}1"]) for who in SEATS}, {"home"})
        self.assertNotIn("loop", {risk.what for risk in risks(judgement)})

    def test_nothing_comes_back_to_the_switch_from_which_it_came(self) -> None:
        wiring = judge(three().plan()).wiring
        self.assertEqual(len(wiring.fabric.links), 3)
        for who, switch in SEATS.items():
            place = wiring.place(f"{who}1")
            assert place is not None
            roads = Roads(wiring)
            spots = [(place.bridge, place.context, None)]
            for spot in spots:
                spots += [after for _, after in roads.onward(spot, place.stand.order) if after not in spots]  # type: ignore[arg-type]
            own = wiring.bridge_of[switch].number
            self.assertEqual([entry.nic for bridge, _, entry in spots if bridge == own and entry], [f"{who}/n0"])


class VerdictTest(JudgedCase):
    def test_it_is_one_link_and_no_loop(self) -> None:
        everybody = {f"{who}1": "home" for who in SEATS}
        for stp in (False, True):
            found = self.judged(three(stp=stp), **everybody)
            self.assertNotIn("loop", {risk.what for risk in risks(found)})
            self.assertEqual(found.wiring.fabric.tree.blocked, {})
        found = self.judged(three(one=False), **everybody)
        (loop,) = (risk for risk in risks(found) if risk.what == "loop")
        mend = mends(found, loop)[0]
        self.assertEqual(mend.title, "Say that LAG po1 of sw and LAG po1 of sx are one towards below")
        mended = judge(apply_edit(found.plan, mend.edit)[0])
        self.assertNotIn("loop", {risk.what for risk in risks(mended)})
        found = self.judged(three(one=False, stp=True), **everybody)
        self.assertEqual(len(found.wiring.fabric.tree.blocked), 1)

    def test_what_one_of_its_cables_lacks_is_felt(self) -> None:
        for stp in (False, True):
            found = self.judged(three({"sx/down": "20"}, stp), **{f"{who}1": "wavering" for who in SEATS})
            (only,) = findings(found)
            self.assertIn("over port u1 of below", only.title)
            self.assertIn("Port down of sx allows 20; 10 is missing", only.text)

    def test_without_a_link_between_the_two_those_behind_them_are_parted(self) -> None:
        for plan in (three({"sw/peer": "20"}), three(peer=False), three(peer=False, stp=True)):
            self.judged(plan, a1="wavering", b1="wavering", c1="home", d1="home")

    def test_isolated_ports_hear_nothing_of_each_other_that_comes_round(self) -> None:
        made = three()
        for port in ("below/c", "below/d"):
            next(p for p in made.kinds["fabric_port"] if p["id"] == port)["isolated"] = True
        wiring = judge(made.plan()).wiring
        one, two = wiring.place("c1"), wiring.place("d1")
        assert one is not None and two is not None
        self.assertEqual([Roads(wiring).way(*pair) for pair in ((one, two), (two, one))], [None, None])

    def test_what_becomes_another_vlan_on_the_way_needs_that_one_between_the_two(self) -> None:
        made = three()
        made.segment(20)
        for port in made.kinds["fabric_port"]:
            native = {"below/u0": 10, "below/u1": 10, "sw/down": 20, "sx/down": 20}.get(port["id"])
            if native:
                port.update(allowed="10,20", native=native)
        next(p for p in made.kinds["fabric_port"] if p["id"] == "sx/b")["allowed"] = "10,20"
        made.guest("b", "b2", 20)
        wiring = judge(made.plan()).wiring
        (team,) = wiring.fabric.teams
        one, two = wiring.place("c1"), wiring.place("b2")
        assert one is not None and two is not None
        ways = [Roads(wiring, State({team.key: m.key})).way(one, two) is not None for m in team.members]
        self.assertEqual(ways, [False, True])

    def test_of_two_cables_between_the_two_one_carries(self) -> None:
        made = three({"sw/peer": "20"}, stp=True)
        for switch in ("sw", "sx"):
            made.trunk(f"{switch}/second", "10", speed=100)
        made.cable("sw/second", "sx/second")
        found = self.judged(made, a1="wavering", b1="wavering", c1="home", d1="home")
        self.assertEqual(set(found.wiring.fabric.tree.blocked), {"c:sw/second:sx/second"})

    def test_switches_are_one_from_when_it_is_said_of_any_of_their_lags(self) -> None:
        made = three(one=False, stp=True)
        for switch in ("sw", "sx"):
            made.put("lag", f"{switch}-spare", switch=switch, name="po2")
        plan = made.plan()
        judgement = judge(plan)
        edit = (Patch("lag", "sx-spare", {"beside": "sw-spare"}),)
        plan, _ = apply_edit(plan, edit)
        after = rejudge(judgement, plan, touched(edit)).wiring.fabric.tree
        self.assertEqual(after, judge(plan).wiring.fabric.tree)
        self.assertNotEqual(after, judgement.wiring.fabric.tree)

    @settings(max_examples=40, deadline=None)
    @given(
        st.booleans(),
        st.lists(
            st.one_of(
                st.builds(
                    lambda port, allowed: Patch("fabric_port", port, {"allowed": allowed}),
                    st.sampled_from(TRUNKS),
                    st.sampled_from(VIDS),
                ),
                st.builds(
                    lambda port, on: Patch("fabric_port", port, {"enabled": on}), st.sampled_from(TRUNKS), st.booleans()
                ),
                st.builds(
                    lambda port, mtu: Patch("fabric_port", port, {"mtu": mtu}),
                    st.sampled_from(TRUNKS),
                    st.sampled_from((None, 1500)),
                ),
                st.builds(
                    lambda lag: Patch("lag", "sx-low", {"beside": lag}), st.sampled_from((None, "sw-low", "sw-low"))
                ),
            ),
            min_size=1,
            max_size=8,
        ),
    )
    def test_after_edits_it_is_as_from_nothing(self, stp: bool, edits: list[Patch]) -> None:
        plan = three(stp=stp).plan()
        judgement = judge(plan)
        for edit in edits:
            plan, _ = apply_edit(plan, (edit,))
            judgement = rejudge(judgement, plan, touched((edit,)))
            fresh = judge(plan)
            self.assertEqual(judgement.verdicts(), fresh.verdicts())
            self.assertEqual(*([(r.what, r.title, r.text) for r in risks(j)] for j in (judgement, fresh)))
            self.assertEqual(*([(f.title, f.text) for f in findings(j)] for j in (judgement, fresh)))
            self.assertEqual(*(j.wiring.fabric.tree for j in (judgement, fresh)))


class CheckedTest(unittest.TestCase):
    """What is said of those behind a pair is checked by the checker of reports, whatever carries."""

    def claims(self, made: Small) -> Verdict:
        plan = made.plan()
        return recheck(plan, validation(judge(plan), datetime(2026, 11, 27, 12, tzinfo=UTC)))

    def dual(self, trunks: dict[str, str]) -> Small:
        """Of the host a, one more NIC leads to sx, and both are one LAG."""
        made = three(trunks)
        for switch in ("sw", "sx"):
            more = {"beside": "sw-a"} if switch == "sx" else {}
            lag = made.put("lag", f"{switch}-a", switch=switch, name="po9", **more)
            made.trunk(f"{switch}/e", "10", lag=lag)
        made.host("e", "sw/e", "sx/e", uplink={"mode": "lacp"})
        made.guest("e", "e1", 10)
        return made

    def test_everybody_at_home_is_checked(self) -> None:
        found = self.claims(self.dual({}))
        self.assertEqual((found.right["home"], found.failed, found.unchecked), (5, (), ()))

    def test_no_claim_of_the_engine_fails(self) -> None:
        right = 0
        for port, vids in product(TRUNKS, VIDS):
            found = self.claims(self.dual({port: vids}))
            self.assertEqual(found.failed, (), (port, vids))
            right += found.right.get("home", 0)
        self.assertGreater(right, 50)
        self.assertTrue(any("two switches are one" in line for line in self.claims(three(stp=True)).unchecked))

    def test_an_engine_that_takes_any_cable_for_all_is_caught(self) -> None:
        for port in ("sx/down", "sw/peer"):
            with patch("aptwire.forward.fabric.FabricMaker._indifferent", lambda *_: True):
                self.assertTrue(self.claims(self.dual({port: "20"})).failed, port)


class LoadTest(unittest.TestCase):
    def test_flows_go_straight_and_over_the_other_one_when_a_cable_fails(self) -> None:
        judgement = judge(three().plan())
        wiring = judgement.wiring
        one, two = wiring.place("a1"), wiring.place("c1")
        assert one is not None and two is not None
        third = wiring.place("b1")
        assert third is not None
        for exactly in (False, True):
            look = Look(wiring, judgement.pairings, Courses(wiring.fabric), exactly)
            for target, failure, ports in (
                (two, "", ["a/n0", "sw/down", "below/c"]),
                (two, "c:below/u0:sw/down", ["a/n0", "sw/peer", "sx/down", "below/c"]),
                (third, "", ["a/n0", "sw/peer", "sx/b"]),
                # What comes by its LAG doesn't leave by it.
                (third, "c:sw/peer:sx/peer", []),
            ):
                found = look._amounts(one, target, Failure("cable", failure) if failure else None)
                self.assertEqual(sorted(look.courses.ways[n].port for n in found), sorted(ports), (exactly, failure))
        made = three()
        made.put("rule", "whole", text="s10 survives any one cable")
        (answer,) = (answer for _, answer in asked(judge(made.plan())).rules())
        self.assertEqual(answer.outcome, BROKEN)


class TreeTest(unittest.TestCase):
    """The tree over a pair is that over one switch with their ports."""

    @settings(max_examples=200, deadline=None)
    @given(
        st.lists(
            st.tuples(st.integers(0, 4), st.integers(0, 4), st.sampled_from((1_000, 10_000))), min_size=3, max_size=9
        ),
        st.lists(st.sampled_from((0, 4096, 32_768)), min_size=5, max_size=5),
        st.integers(2, 4),
    )
    def test_as_over_one_switch(self, drawn: list[tuple[int, int, int]], priorities: list[int], low: int) -> None:
        names = [f"s{n}" for n in range(5)]
        switches = {
            id: FabricSwitch(id=id, name=id, spanning_tree=True, priority=priority)
            for id, priority in zip(names, priorities, strict=True)
        }

        def joint(n: int, one: int, two: int, speed: int, lags: tuple[str | None, str | None] = (None, None)) -> Joint:
            one, two, lags = (one, two, lags) if one < two else (two, one, lags[::-1])
            ports = tuple(
                FabricPort(id=f"{names[s]}/{n}", switch=names[s], name=f"p{n}", mode="trunk", speed=speed)
                for s in (one, two)
            )
            return Joint((names[one], names[two]), (f"c{n}",), ((ports[0],), (ports[1],)), lags)

        other = [joint(n + 10, *ends) for n, ends in enumerate(drawn) if ends[0] != ends[1] and {*ends[:2]} != {0, 1}]
        bundle = [joint(n + 1, low, n, 1_000, ("low", f"s{n}-low")) for n in (0, 1)]
        pairs = Pairs({"s0-low": "s0-low", "s1-low": "s0-low"}, frozenset((frozenset(("s0", "s1")),)))
        found = spanning_tree(switches, [joint(0, 0, 1, 10_000), *bundle, *other], pairs)
        # The same with one switch in place of both: the better one, and a LAG of two cables.
        best = min("s0", "s1", key=lambda id: (switches[id].priority, id))

        def moved(joint: Joint) -> Joint:
            ends = (best if joint.ends[0] in ("s0", "s1") else joint.ends[0], joint.ends[1])
            return replace(joint, ends=ends)

        first, second = map(moved, bundle)
        together = Joint(
            first.ends,
            first.cables + second.cables,
            (first.ports[0] + second.ports[0], first.ports[1] + second.ports[1]),
        )
        alone = spanning_tree(switches, [together, *map(moved, other)])
        blocked = {key for key in found.blocked if key not in ("c1", "c2")}
        self.assertEqual(blocked, alone.blocked.keys() - {"c1"})
        self.assertEqual({"c1" in found.blocked, "c2" in found.blocked}, {"c1" in alone.blocked})
        self.assertEqual(
            {k: v for k, v in found.cost.items() if k not in ("s0", "s1")},
            {k: v for k, v in alone.cost.items() if k != best},
        )


if __name__ == "__main__":
    unittest.main()

"""Single states in which a team is carried by another member: who moves, who stays, and whom it makes waver."""

from __future__ import annotations

import random
import unittest

from aptwire.judge.findings import findings
from aptwire.judge.verdicts import judge, rejudge
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Patch, apply_edit, touched
from aptwire.plan.plan import Plan
from hypothesis import example, given, settings
from hypothesis import strategies as st

from measure.fleet import fleet
from measure.plain import homeless
from tests.support import Small


def five(*reserve: str | None, allowed: str = "10, 20") -> Small:
    """Hosts a to e, each over two NICs; `reserve` says what the ports of their second NICs allow (None: no cable)."""
    made = Small()
    made.segment(10)
    made.fabric("sw")
    for host, own in zip("abcde", (*reserve, *[allowed] * 5), strict=False):
        made.trunk(f"sw/{host}0", allowed)
        made.trunk(f"sw/{host}1", own or allowed)
        made.host(host, f"sw/{host}0", f"sw/{host}1" if own else None)
        made.guest(host, f"{host}1", 10)
    return made


class MostStayTest(unittest.TestCase):
    """What is left of a segment is more than half of it, so that only who moves has to be looked at."""

    def judged(self, made: Small, **wanted: str) -> None:
        self.judgement = judge(made.plan())
        found = self.judgement.verdicts()
        self.assertEqual({name: found[name] for name in wanted}, wanted)

    def test_one_host_loses_the_others(self) -> None:
        self.judged(five("20"), a1="wavering", b1="home", c1="home", d1="home", e1="home")
        (found,) = findings(self.judgement)
        self.assertEqual(found.title, "a1 loses its peers on s10 when n0 of a fails")
        self.assertEqual(found.towards.record, "b1", "the first of those who stay stands for them")
        self.assertEqual(found.culprit[0], "sw/a1")

    def test_who_is_moved_together_is_told_together(self) -> None:
        made = five("20")
        made.guest("a", "a2", 10)
        self.judged(made, a1="wavering", a2="wavering", b1="home")
        self.assertEqual([set(f.endpoints) for f in findings(self.judgement)], [{"a1", "a2"}])

    def test_a_reserve_that_leads_nobody_knows_where(self) -> None:
        self.judged(five(None), a1="unproven", b1="home")
        (found,) = findings(self.judgement)
        self.assertEqual(found.text, "The plan doesn't say what is behind n1 of a.")

    def test_a_reserve_in_an_open_part_of_the_fabric_proves_nothing(self) -> None:
        made = five()
        made.fabric("far", partial=True)
        made.kinds["fabric_switch"][0]["partial"] = True
        made.trunk("far/p", "10")
        made.kinds["cable"][1]["b"] = "far/p"
        self.judged(made, a1="unproven", b1="home", c1="home")

    def test_a_host_that_comes_back_to_the_others(self) -> None:
        """Cut off today, with the others over its second NIC."""
        made = five()
        made.kinds["fabric_port"][0]["allowed"] = "20"
        self.judged(made, a1="wavering", b1="home", e1="home")
        (found,) = findings(self.judgement)
        self.assertEqual(found.title, "a1 is cut off from its peers on s10 until another NIC carries")

    def test_two_halves_are_no_majority(self) -> None:
        """Four in two halves, one of which moves: nobody can say who is cut off from whom."""
        made = Small()
        made.segment(10)
        made.fabric("sw")
        for host, second in (("a", "20"), ("b", "10, 20")):
            made.trunk(f"sw/{host}0", "10, 20")
            made.trunk(f"sw/{host}1", second)
            made.host(host, f"sw/{host}0", f"sw/{host}1")
            for n in (1, 2):
                made.guest(host, f"{host}{n}", 10)
        self.judged(made, a1="wavering", a2="wavering", b1="wavering", b2="wavering")

    def test_a_larger_host_takes_the_majority_along(self) -> None:
        """Three of five sit on one host: over its second NIC the two others are those who are cut off."""
        made = five("20")
        for name in ("b1", "c1"):
            made.kinds["guest"] = [g for g in made.kinds["guest"] if g["name"] != name]
            made.kinds["adapter"] = [a for a in made.kinds["adapter"] if a["name"] != name]
            made.guest("a", f"more-{name}", 10)
        self.judged(made, a1="home", d1="wavering", e1="wavering")

    def test_a_wrong_tag_over_the_reserve_only(self) -> None:
        made = Small()
        made.segment(10)
        made.segment(30)
        made.fabric("sw")
        for host in "abc":
            for n in (0, 1):
                made.trunk(f"sw/{host}{n}", "10, 30", native=30 if (host, n) == ("a", 1) else 10)
            made.host(host, f"sw/{host}0", f"sw/{host}1")
            made.guest(host, f"{host}1", None, belongs="s10")
        self.judged(made, a1="wavering", b1="home", c1="home")
        self.assertEqual(findings(self.judgement)[0].title, "a1 lands on s30 when n0 of a fails")


def some_edit(plan: Plan, dice: random.Random) -> Edit:
    """A change to the tags or cables of a synthetic fleet."""
    kind = dice.choice(["cable", "port", "trunk", "group", "host_port"])
    if kind == "cable":
        between = [c.id for c in plan.all("cable") if not c.id.startswith("c-host")]
        return (Drop("cable", dice.choice(sorted(between))),) if between else ()
    if kind in ("port", "trunk"):
        ports = sorted(p.id for p in plan.all("fabric_port") if (p.name == "up") == (kind == "trunk"))
        port = plan.get("fabric_port", dice.choice(ports))
        kept = vids.members(port.allowed) - {dice.choice([110, 120, 130, 1000, 1001, 1002])}
        return (Patch("fabric_port", port.id, {"allowed": vids.write(kept)}),)
    kind = "port_group" if kind == "group" else kind
    record = plan.get(kind, dice.choice(sorted(plan.of(kind))))
    return (Patch(record.kind, record.id, {"vid": dice.choice([110, 120, 1000, 1001, 1003])}),)


class FleetTest(unittest.TestCase):
    @settings(max_examples=25)
    @given(st.integers(0, 10**9))
    @example(7)
    def test_a_plain_graph_says_the_same_of_whole_fleets_after_any_edits(self, seed: int) -> None:
        dice = random.Random(seed)
        plan = fleet(dice.choice([3, 12, 45]), 5, 12, faults=dice.choice([0.0, 0.1, 0.3]), seed=seed)
        judgement = judge(plan)
        for _ in range(4):
            self.assertEqual({e for e, v in judgement.verdicts().items() if v != "home"}, homeless(plan))
            edit = some_edit(plan, dice)
            plan, _ = apply_edit(plan, edit)
            judgement = rejudge(judgement, plan, touched(edit))


if __name__ == "__main__":
    unittest.main()

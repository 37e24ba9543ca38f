"""Filters: which line decides, what belongs to a connection, and what gets past several of them."""

from __future__ import annotations

import ipaddress
import itertools
import random
import unittest
from collections import Counter
from collections.abc import Callable

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN
from aptwire.above.ping import Ping, end_of, ping
from aptwire.judge.verdicts import judge
from aptwire.plan.edits import Patch, apply_edit, edit_from_json
from aptwire.plan.filters import HIGHEST, PING, Packet, every_packet, passing, read_packet, read_ports
from aptwire.plan.kinds import FilterLine
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.stacks import stack_of
from aptwire.rules.answer import BROKEN, HOLDS
from aptwire.rules.asking import asked
from hypothesis import given
from hypothesis import strategies as st

from tests.core.test_ping import another_router, two_segments
from tests.routers import filtered_plan
from tests.support import Small


def filtered(*lines: dict[str, object], owner: str = "r") -> Small:
    """Guests a1 on 10 and b1 on 20 with the router r between them, which has these lines."""
    made = two_segments()
    for n, line in enumerate(lines):
        made.put("filter_line", f"{owner}-{n}", of=owner, order=10 * n + 10, **line)
    return made


def told(made: Small, packet: Packet = PING, a: str = "a1", b: str = "b1") -> Ping:
    plan = made.plan()
    return ping(judge(plan), end_of(plan, a), end_of(plan, b), packet=packet)


def unsaid(plan: Plan, dice: random.Random) -> tuple[Plan, list[Plan]]:
    """A plan in which nobody said what some lines do, and it with what those may do."""
    some = [line.id for line in plan.all(FilterLine) if dice.random() < 0.4]

    def saying(choose: Callable[[], str]) -> Plan:
        return (
            apply_edit(plan, tuple(Patch("filter_line", id, {"action": choose()}) for id in some))[0] if some else plan
        )

    each = [saying(lambda: "allow"), saying(lambda: "deny"), saying(lambda: dice.choice(("allow", "deny")))]
    return saying(lambda: "unknown"), each


DENY, ALLOW = {"action": "deny"}, {"action": "allow"}
TCP = Packet("tcp", 5432)


class LineTest(unittest.TestCase):
    def test_the_first_line_that_matches_decides(self) -> None:
        self.assertEqual(told(filtered()).outcome, ANSWERED)
        found = told(filtered(DENY))
        self.assertEqual((found.outcome, found.ways[0].stopped), (SILENT, "r-0"))
        self.assertIn("r drops it, by filter line 10", found.sentence)
        self.assertEqual(told(filtered(ALLOW, DENY)).outcome, ANSWERED)
        for line in (
            {"sources": ["10.0.20.0/24"]},
            {"targets": ["10.0.10.0/24"]},
            {"enters": "r20"},
            {"leaves": "r10"},
        ):
            self.assertEqual(told(filtered({**DENY, **line})).outcome, ANSWERED, line)
        for line in ({"sources": ["10.0.10.11/32"]}, {"targets": ["10.0.0.0/8"]}, {"enters": "r10"}, {"leaves": "r20"}):
            self.assertEqual(told(filtered({**DENY, **line})).outcome, SILENT, line)

    def test_protocols_and_ports(self) -> None:
        only = filtered({**ALLOW, "protocol": "tcp", "ports": "22, 5000-6000"}, DENY)
        self.assertEqual(
            [told(only, packet).outcome for packet in (TCP, PING, Packet("udp", 5432), Packet("tcp", 80))],
            [ANSWERED, SILENT, SILENT, SILENT],
        )
        self.assertEqual(told(only, TCP).sentence, "b1 (10.0.20.11) answers a1 on tcp 5432.")

    def test_of_a_line_of_which_nobody_said_what_it_does_nobody_knows(self) -> None:
        found = told(filtered({"action": "unknown", "sources": ["10.0.10.0/24"]}))
        self.assertEqual(found.outcome, UNPROVEN)
        self.assertIn("whether r lets it through isn’t known, by filter line 10", found.sentence)
        self.assertEqual(told(filtered({"action": "unknown", "sources": ["10.0.30.0/24"]})).outcome, ANSWERED)
        self.assertEqual(told(filtered(ALLOW, {"action": "unknown"})).outcome, ANSWERED)
        self.assertEqual(told(filtered({"action": "unknown", "protocol": "tcp"}, DENY)).outcome, SILENT)

    def test_what_is_known_holds_whatever_such_lines_do(self) -> None:
        seen: Counter[str] = Counter()
        for seed in range(14):
            dice = random.Random(seed)
            plan, each = unsaid(filtered_plan(seed), dice)
            before, after = judge(plan), [judge(one) for one in each]
            ends = sorted({*(a.id for a in plan.all("adapter")), *(p.id for p in plan.all("station_port"))})
            for _ in range(12):
                a, b = dice.sample(ends, 2)
                fares, known = ping(before, a, b).outcome, {ping(one, a, b).outcome for one in after}
                seen[fares] += 1
                if fares in (ANSWERED, SILENT):
                    self.assertEqual(known, {fares}, (seed, a, b))
            segments = sorted(s.name for s in plan.all("segment"))
            for one, two in itertools.combinations(segments, 2):
                text = f'keep segment "{one}" apart from segment "{two}"'
                fares, known = asked(before).ask(text).outcome, {asked(j).ask(text).outcome for j in after}
                seen[fares] += 1
                if fares in (HOLDS, BROKEN):
                    self.assertEqual(known, {fares}, (seed, text))
        self.assertGreater(min(seen[o] for o in (ANSWERED, SILENT, UNPROVEN, HOLDS, BROKEN)), 2, seen)

    def test_whoever_does_not_forward_has_nothing_to_drop(self) -> None:
        made = filtered(DENY, owner="guest-a1")
        self.assertEqual(told(made).outcome, ANSWERED, "its own packets aren’t sent on")

    def test_an_answer_comes_back_over_the_filter_that_let_it_out(self) -> None:
        made = filtered({**DENY, "sources": ["10.0.20.0/24"], "targets": ["10.0.10.0/24"]})
        self.assertEqual(told(made).outcome, ANSWERED)
        self.assertEqual(told(made, a="b1", b="a1").outcome, SILENT)

    def test_another_filter_takes_an_answer_for_something_new(self) -> None:
        """The way back leads over a second router, which didn't see the question."""
        made = filtered()
        made.put("guest", "q", host="b", name="q", routes=True)
        for vid in (10, 20):
            group = made.put("port_group", f"b/q{vid}", switch="b/s", name=f"q{vid}", mode="access", vid=vid)
            made.put("adapter", f"q{vid}", guest="q", name=f"q{vid}", port_group=group, belongs=f"s{vid}")
            made.kinds["adapter"][-1]["addresses"] = [f"10.0.{vid}.2/24"]
        made.kinds["segment"][1]["gateways"] = ["10.0.20.2"]
        self.assertEqual(told(made).outcome, ANSWERED)
        made.put("filter_line", "q-0", of="q", order=10, action="deny", sources=["10.0.20.0/24"])
        found = told(made)
        self.assertEqual(found.outcome, SILENT)
        self.assertIn("no answer to what it let out", found.sentence)
        # An answer goes to the port from which it was asked, and nobody knows which one that is.
        made.kinds["filter_line"][-1].update(protocol="tcp", ports="50000-65535")
        self.assertEqual(told(made, TCP).outcome, UNPROVEN)
        made.kinds["filter_line"][-1].update(ports="22")
        self.assertEqual(told(made, TCP).outcome, ANSWERED)


class PassingTest(unittest.TestCase):
    @given(st.integers(0, 3_000))
    def test_one_packet_stands_for_all_that_no_line_tells_apart(self, seed: int) -> None:
        """What some packet gets past is what any of very many does, each tried by rules written anew here."""
        dice = random.Random(seed)
        plan = filtered_plan(seed)
        owners = [o for kind in ("guest", "station") for o in plan.where(kind, "routes", True)]
        stack = stack_of(plan, dice.choice(owners))
        records = [i.record for i in stack.interfaces]
        enters, leaves = dice.choice(records), dice.choice(records)
        source, target = (
            ipaddress.ip_address(f"10.64.{dice.choice([10, 20, 30, 40])}.{dice.randint(1, 40)}") for _ in "ab"
        )
        gate = stack.gate(enters, leaves, source, target)

        def matches(line: FilterLine, packet: Packet) -> bool:
            ends = ((source, line.sources), (target, line.targets))
            return (
                line.enters in (None, enters)
                and line.leaves in (None, leaves)
                and all(not nets or any(end in ipaddress.ip_network(net) for net in nets) for end, nets in ends)
                and line.protocol in ("any", packet.protocol)
                and (not line.ports or any(a <= packet.port <= b for a, b in read_ports(line.ports)))
            )

        def passes(packet: Packet) -> bool:
            for line in sorted(plan.where("filter_line", "of", stack.owner.id), key=lambda line: line.order):
                if matches(line, packet):
                    return bool(line.action == "allow")
            return True

        several = [
            PING,
            Packet("other"),
            *(Packet(p, n) for p in ("tcp", "udp") for n in (1, 22, 23, 80, 8000, 8080, 9000)),
        ]
        self.assertEqual([gate.passes(packet) for packet in several], list(map(passes, several)))
        found = passing([gate])
        self.assertEqual(found is not None, any(map(passes, several)))
        self.assertTrue(found is None or passes(found))
        self.assertLessEqual({packet.port for packet in every_packet(stack.filter)}, set(range(HIGHEST + 1)))

    def test_what_gets_past_one_filter_and_past_another_is_no_way_past_both(self) -> None:
        """One router lets only ssh out, the next only the web in."""
        made = filtered({**ALLOW, "protocol": "tcp", "ports": "22"}, DENY)
        text = "keep s10 apart from s20"
        self.assertEqual(asked(judge(made.plan())).ask(text).outcome, BROKEN)
        another_router(made)
        made.put("route", "there", of="r", to=["10.0.20.0/24"], via="10.0.30.2")
        made.put("route", "back", of="q", to=["10.0.10.0/24"], via="10.0.30.1")
        self.assertEqual(asked(judge(made.plan())).ask(text).outcome, BROKEN)
        made.put("filter_line", "q-0", of="q", order=10, action="allow", protocol="tcp", ports="80")
        made.put("filter_line", "q-1", of="q", order=20, action="deny")
        self.assertEqual(asked(judge(made.plan())).ask(text).outcome, HOLDS)


class RefusalTest(unittest.TestCase):
    def test_what_makes_no_line(self) -> None:
        plan = two_segments().plan()
        base = {"id": "f", "of": "r", "action": "deny"}
        for more, why in (
            ({"ports": "80"}, "only tcp and udp have ports"),
            ({"protocol": "tcp", "ports": "80-"}, "“80-” is no port"),
            ({"protocol": "tcp", "ports": "8080-8000"}, "isn’t within 1 to 65535"),
            ({"enters": "a1"}, "a1 of a1 is no interface of r"),
            ({"sources": ["10.0.0.1/24"]}, "10.0.0.0/24"),
        ):
            with self.assertRaisesRegex(PlanError, why):
                apply_edit(plan, edit_from_json([{"op": "put", "kind": "filter_line", "record": {**base, **more}}]))
        with self.assertRaisesRegex(PlanError, "is taken by filter line"):
            lines = [{"op": "put", "kind": "filter_line", "record": {**base, "id": id}} for id in "xy"]
            apply_edit(plan, edit_from_json(lines))

    def test_what_is_asked_with(self) -> None:
        self.assertEqual(
            [read_packet(text) for text in ("", "tcp/22", "udp/123")], [PING, Packet("tcp", 22), Packet("udp", 123)]
        )
        for text in ("tcp", "tcp/", "tcp/0", "tcp/65536", "sctp/5", "tcp/²"):
            with self.assertRaises(PlanError):
                read_packet(text)


if __name__ == "__main__":
    unittest.main()

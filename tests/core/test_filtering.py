"""Reading what a Linux host filters and translates: rulesets as `nft --json list ruleset` prints them, against a small interpreter of their own."""

from __future__ import annotations

import ipaddress
import json
import random
import unittest
from typing import Any

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN
from aptwire.above.ping import ping
from aptwire.formats.hosts import read_hosts
from aptwire.formats.making import Report
from aptwire.judge.verdicts import judge
from aptwire.plan.filters import PING, Packet, unsure
from aptwire.plan.kinds import FilterLine, InwardTranslation, Translation
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.stacks import stack_of

from tests.core.test_reading import bridge, links

Json = dict[str, Any]
BASE = {"family": "inet", "table": "filter", "name": "forward", "type": "filter", "hook": "forward", "prio": 0}
ACCEPT, DROP = {"accept": None}, {"drop": None}


def match(left: Json, right: Any, op: str = "==") -> Json:
    return {"match": {"op": op, "left": left, "right": right}}


def meta(key: str, right: Any) -> Json:
    return match({"meta": {"key": key}}, right)


def payload(protocol: str, of: str, right: Any) -> Json:
    return match({"payload": {"protocol": protocol, "field": of}}, right)


def net(text: str) -> Json:
    address, _, length = text.partition("/")
    return {"prefix": {"addr": address, "len": int(length)}}


ESTABLISHED = match({"ct": {"key": "state"}}, ["established", "related"], "in")


def rule(chain: str, *expr: Json) -> Json:
    """A rule of another chain of the same table."""
    return {"rule": {"family": "inet", "table": "filter", "chain": chain, "expr": list(expr)}}


def ruleset(*rules: list[Json], policy: str = "accept", chain: Json = BASE, more: tuple[Json, ...] = ()) -> Json:
    """A ruleset with one chain of rules, and more entries."""
    at = {"family": chain["family"], "table": chain["table"], "chain": chain["name"]}
    entries: list[Json] = [{"metainfo": {"json_schema_version": 1}}, {"chain": {**chain, "policy": policy}}]
    return {"nftables": [*entries, *more, *({"rule": {**at, "expr": expr}} for expr in rules)]}


def router(said: Json | bytes) -> tuple[Plan, Report]:
    """A host with three bridges on which it has addresses, between which it forwards by a ruleset."""
    bound = [
        {
            "ifname": f"br{n}",
            "addr_info": [{"family": "inet", "local": f"10.0.{n}.1", "prefixlen": 24, "scope": "global"}],
        }
        for n in (10, 20, 30)
    ]
    files = {
        "ip-link.json": links(*(bridge(f"br{n}") for n in (10, 20, 30))),
        "ip-addr.json": json.dumps(bound).encode(),
        "sysctl.txt": b"net.ipv4.ip_forward = 1\n",
        "nft.json": said if isinstance(said, bytes) else json.dumps(said).encode(),
    }
    return read_hosts({f"fulmar/{name}": data for name, data in files.items()}, "read")


class ReadingTest(unittest.TestCase):
    def lines(self, said: Json) -> list[tuple[Any, ...]]:
        plan, _ = router(said)
        names = {p.id: p.name for p in plan.all("host_port")} | {None: ""}
        return [
            (
                *(line.action, names[line.enters], names[line.leaves]),
                *(" ".join(line.sources), " ".join(line.targets), line.protocol, line.ports),
            )
            for line in sorted(plan.all(FilterLine), key=lambda line: line.order)
        ]

    def test_what_a_firewall_lets_through(self) -> None:
        ports = {"set": [22, {"range": [8000, 8080]}]}
        range_ = {"range": ["10.0.10.8", "10.0.10.11"]}
        said = ruleset(
            [ESTABLISHED, {"counter": {"packets": 0, "bytes": 0}}, ACCEPT],
            [match({"ct": {"key": "state"}}, "invalid"), DROP],
            [meta("iifname", "br10"), meta("oifname", "br20"), payload("tcp", "dport", ports), ACCEPT],
            [payload("ip", "saddr", net("10.0.20.0/25")), payload("ip", "daddr", range_), ACCEPT],
            [meta("iifname", "nosuch"), ACCEPT],
            policy="drop",
        )
        self.assertEqual(
            self.lines(said),
            [
                ("allow", "br10", "br20", "", "0.0.0.0/0", "tcp", "22, 8000-8080"),
                ("allow", "", "", "10.0.20.0/25", "10.0.10.8/30", "any", ""),
                ("deny", "", "", "", "0.0.0.0/0", "any", ""),
                ("allow", "br10", "br20", "", "::/0", "tcp", "22, 8000-8080"),
                ("deny", "", "", "", "::/0", "any", ""),
            ],
        )

    def test_sets_jumps_and_maps_of_states(self) -> None:
        states = [["established", ACCEPT], ["related", ACCEPT], ["invalid", DROP]]
        table = {"family": "inet", "table": "filter"}
        elements = ["10.0.10.5", {"elem": {"val": net("10.0.10.16/28"), "comment": "desks"}}]
        said = ruleset(
            [{"vmap": {"key": {"ct": {"key": "state"}}, "data": {"set": states}}}],
            [meta("iifname", "br1*"), {"jump": {"target": "inside"}}],
            policy="drop",
            more=(
                {"set": {**table, "name": "admins", "type": "ipv4_addr", "elem": elements}},
                {"set": {**table, "name": "nobody", "type": "ipv4_addr"}},
                {"chain": {**table, "name": "inside"}},
                rule("inside", payload("ip", "saddr", "@nobody"), ACCEPT),
                rule("inside", payload("ip", "saddr", "@admins"), ACCEPT),
                rule("inside", payload("icmp", "type", "echo-request"), ACCEPT),
                rule("inside", payload("icmp", "type", "redirect"), ACCEPT),
            ),
        )
        self.assertEqual(
            self.lines(said)[:3],
            [
                ("allow", "br10", "", "10.0.10.5/32 10.0.10.16/28", "", "any", ""),
                ("allow", "br10", "", "", "0.0.0.0/0", "icmp", ""),
                ("deny", "", "", "", "0.0.0.0/0", "any", ""),
            ],
        )

    def test_what_a_line_cant_say_is_known_of_nobody(self) -> None:
        for expr, says in (
            ([meta("mark", 7), ACCEPT], "meta mark"),
            ([match({"meta": {"key": "iifname"}}, "br10", "!="), ACCEPT], "meta iifname"),
            ([payload("tcp", "sport", 22), ACCEPT], "tcp sport"),
            ([{"limit": {"rate": 5, "per": "second"}}, ACCEPT], "limit"),
            ([{"xt": {"type": "match", "name": "conntrack"}}, ACCEPT], "xt"),
            ([meta("l4proto", "esp"), ACCEPT], "meta l4proto"),
            ([payload("ip", "saddr", "@gone"), DROP], "ip saddr"),
            ([{"goto": {"target": "x"}}], "goto"),
            ([match({"ct": {"key": "state"}}, "established"), DROP], "states of connections"),
        ):
            plan, report = router(ruleset([ESTABLISHED, ACCEPT], expr, policy="drop"))
            first = min(plan.all(FilterLine), key=lambda line: line.order)
            self.assertEqual(first.action, "unknown", says)
            told = [note.text for note in report.notes if note.what == "left out"]
            self.assertTrue(any(says in text and "isn’t known" in text for text in told), told)

    def test_answers_that_arent_let_back_in_make_what_gets_one_unknown(self) -> None:
        plan, report = router(ruleset([meta("iifname", "br10"), ACCEPT], policy="drop"))
        self.assertEqual({line.action for line in plan.all(FilterLine)}, {"unknown", "deny"})
        self.assertTrue(any("answers" in note.text for note in report.notes))
        plan, _ = router(ruleset([meta("iifname", "br10"), ACCEPT]))
        self.assertEqual({line.action for line in plan.all(FilterLine)}, {"allow"})

    def test_answers_that_some_line_may_drop_before_they_are_let_through_arent_known(self) -> None:
        states = {"vmap": {"key": {"ct": {"key": "state"}}, "data": {"set": [["established", ACCEPT]]}}}
        for rules in (
            # Let through on one interface alone.
            [[meta("iifname", "br20"), states]],
            [[meta("iifname", "br20"), ESTABLISHED, ACCEPT]],
            # What it does with some of them, before, isn't known.
            [[payload("ip", "saddr", net("10.0.20.0/24")), meta("mark", 1), DROP], [ESTABLISHED, ACCEPT]],
        ):
            plan, _ = router(ruleset(*rules, [meta("iifname", "br10"), ACCEPT], policy="drop"))
            of_four = [line for line in plan.all(FilterLine) if "::/0" not in line.targets]
            self.assertNotIn("allow", {line.action for line in of_four})

    def test_chains_beside_the_one_for_what_is_forwarded(self) -> None:
        raw = {**BASE, "table": "raw", "name": "pre", "hook": "prerouting"}
        self.assertEqual(self.lines(ruleset([meta("iifname", "br10"), ACCEPT], chain=raw)), [])
        self.assertEqual(
            {line[0] for line in self.lines(ruleset([meta("iifname", "br10"), DROP], chain=raw))}, {"unknown"}
        )
        self.assertEqual(len(self.lines(ruleset(chain={**raw, "family": "ip"}, policy="drop"))), 1)

    def test_each_family_has_its_own_icmp(self) -> None:
        said = ruleset(
            [ESTABLISHED, ACCEPT],
            [meta("l4proto", "icmp"), ACCEPT],
            [meta("l4proto", {"set": ["ipv6-icmp", "udp"]}), ACCEPT],
        )
        self.assertEqual(
            [(line[4], line[5]) for line in self.lines(said)],
            [("0.0.0.0/0", "icmp"), ("0.0.0.0/0", "udp"), ("::/0", "icmp"), ("::/0", "udp")],
        )

    def test_two_chains_see_what_is_forwarded(self) -> None:
        said = ruleset([DROP], more=({"chain": {**BASE, "table": "other", "policy": "drop"}},))
        self.assertEqual({line.action for line in router(said)[0].all(FilterLine)}, {"unknown"})

    def test_what_leaves_is_translated(self) -> None:
        chain = {"family": "ip", "table": "nat", "name": "post", "type": "nat", "hook": "postrouting", "prio": 100}
        own = [payload("ip", "saddr", net("10.0.10.0/24")), meta("oifname", "br30"), {"masquerade": None}]
        plan, _ = router(ruleset(own, chain=chain))
        [line] = plan.all(Translation)
        self.assertEqual((plan.get("host_port", line.at).name, line.sources), ("br30", ("10.0.10.0/24",)))
        plan, _ = router(ruleset([{"masquerade": {}}], chain=chain))
        self.assertEqual(len(plan.of("translation")), 3)
        for more in (payload("ip", "daddr", "10.0.30.9"), {"snat": {"addr": "10.0.30.1"}}):
            plan, report = router(ruleset([meta("oifname", "br30"), more, {"masquerade": None}], chain=chain))
            self.assertEqual([line.action for line in plan.all(FilterLine)], ["unknown"])
            self.assertTrue(any("translation" in note.text for note in report.notes))

    def test_what_comes_in_is_for_somebody_behind_it(self) -> None:
        chain = {"family": "ip", "table": "nat", "name": "pre", "type": "nat", "hook": "prerouting", "prio": -100}

        def web(*more: Any, to: Any = "10.0.10.5") -> list[Any]:
            at = [meta("iifname", "br30"), payload("ip", "daddr", "10.0.30.1"), payload("tcp", "dport", 443)]
            return [*at, *more, {"dnat": {"addr": to, "port": 8443}}]

        plan, _ = router(ruleset(web(), chain=chain))
        [found] = plan.all(InwardTranslation)
        said = (found.protocol, found.ports, found.to, found.port, found.hairpin)
        self.assertEqual(said, ("tcp", "443", "10.0.10.5", 8443, False))
        self.assertEqual(plan.get("host_port", found.at).name, "br30")
        wide = [
            meta("iifname", "br30"),
            payload("ip", "daddr", "10.0.30.1"),
            payload("tcp", "dport", {"range": [400, 500]}),
        ]
        plan, report = router(ruleset(web(), [*wide, {"dnat": {"addr": "10.0.10.6"}}], chain=chain))
        self.assertEqual([one.to for one in plan.all(InwardTranslation)], ["10.0.10.5"])
        self.assertTrue(any("said before" in note.text for note in report.notes))
        # What says more, or less, isn't held, nor is what comes after it.
        for rule in (
            [{"dnat": {"addr": "10.0.10.5"}}],
            web(payload("ip", "saddr", "10.0.20.9")),
            web(to={"map": {"key": "x", "data": "y"}}),
            web(meta("mark", 1)),
        ):
            plan, report = router(ruleset(rule, web(), chain=chain))
            self.assertEqual(plan.of("inward_translation"), {}, rule)
            self.assertTrue(any("on its way in" in note.text for note in report.notes))

    def test_rules_for_frames_make_switches_known_in_part(self) -> None:
        said = ruleset([DROP], chain={**BASE, "family": "bridge"})
        self.assertEqual({s.partial for s in router(said)[0].all("virtual_switch")}, {True})
        self.assertEqual({s.partial for s in router(ruleset())[0].all("virtual_switch")}, {False})

    def test_what_is_sent_on_goes_by_what_was_read(self) -> None:
        drops = [meta("iifname", "br10"), meta("oifname", "br20"), DROP]
        for rules, fares in (([drops], SILENT), ([[meta("mark", 1), ACCEPT], drops], UNPROVEN), ([], ANSWERED)):
            plan, _ = router(ruleset([ESTABLISHED, ACCEPT], *rules))
            stack = stack_of(plan, plan.get("host", "fulmar"))
            here, there = (next(p.id for p in plan.all("host_port") if p.name == name) for name in ("br10", "br20"))
            gate = stack.gate(here, there, *map(ipaddress.ip_address, ("10.0.10.9", "10.0.20.9")))
            found = UNPROVEN if unsure([gate]) else ANSWERED if gate.passes(PING) else SILENT
            self.assertEqual(found, fares)
        self.assertEqual(ping(judge(plan), "fulmar", "10.0.20.1").outcome, ANSWERED)

    def test_what_has_another_shape_is_refused_by_place(self) -> None:
        entries = (
            b"7",
            b'{"rule": 7}',
            b'{"rule": {"family": "ip"}}',
            b'{"set": {"family": "ip", "table": "t", "name": "s", "elem": 7}}',
        )
        for raw in (b"[]", b"{}", b"{", *(b'{"nftables": [' + entry + b"]}" for entry in entries)):
            with self.assertRaises(PlanError) as refused:
                router(raw)
            self.assertTrue(all("nft.json" in str(problem) for problem in refused.exception.problems))
        dice = random.Random(5)
        accepts = [
            payload("ip", "saddr", {"set": ["10.0.10.5"]}),
            {"vmap": {"key": {"ct": {"key": "state"}}, "data": {"set": []}}},
        ]
        whole = json.dumps(ruleset([ESTABLISHED, ACCEPT], [*accepts, ACCEPT], policy="drop"))
        for _ in range(300):
            at = dice.randrange(len(whole))
            broken = whole[:at] + dice.choice(["", "7", "[", "{}", "null", '"x"']) + whole[at + dice.randrange(4) :]
            try:
                router(broken.encode())
            except PlanError as error:
                self.assertTrue(error.problems)


class InterpretedTest(unittest.TestCase):
    """Random rulesets, each packet also taken through the rules one by one."""

    def rule(self, dice: random.Random, chains: list[str]) -> list[Json]:
        expr: list[Json] = []
        if dice.random() < 0.4:
            expr.append(meta("iifname", dice.choice(["br10", "br20", {"set": ["br10", "br30"]}])))
        if dice.random() < 0.3:
            expr.append(meta("oifname", dice.choice(["br20", "br30"])))
        for side in ("saddr", "daddr"):
            if dice.random() < 0.3:
                nets = ["10.0.10.0/24", "10.0.20.0/25", "10.0.20.8/32", "10.0.0.0/8"]
                expr.append(payload("ip", side, {"set": [net(n) for n in dice.sample(nets, dice.randint(1, 2))]}))
        if dice.random() < 0.4:
            expr.append(payload("tcp", "dport", dice.choice([22, {"range": [20, 80]}, {"set": [443, 22]}])))
        elif dice.random() < 0.2:
            expr.append(payload("icmp", "type", "echo-request"))
        if dice.random() < 0.1:
            expr.append(meta("mark", 1))
        if chains and dice.random() < 0.2:
            return [*expr, {"jump": {"target": dice.choice(chains)}}]
        return [*expr, dice.choice([ACCEPT, DROP, DROP, {"reject": {"type": "tcp reset"}}])]

    def fares(self, chains: dict[str, list[list[Json]]], name: str, packet: Json) -> str:
        """accept, drop, unknown, or nothing where no rule of a chain decides."""
        for expr in chains[name]:
            met, known = True, True
            for one in (e["match"] for e in expr if "match" in e):
                left, right = one["left"], one["right"]
                values = right["set"] if isinstance(right, dict) and "set" in right else [right]
                key = left.get("meta", {}).get("key") or left["payload"]["field"]
                if key == "mark":
                    known = False
                elif key in ("iifname", "oifname"):
                    met &= packet[key] in values
                elif key == "type":
                    met &= packet["protocol"] == "icmp"
                elif key == "dport":
                    spans = [v["range"] if isinstance(v, dict) else [v, v] for v in values]
                    met &= packet["protocol"] == "tcp" and any(a <= packet["port"] <= b for a, b in spans)
                else:
                    nets = [ipaddress.ip_network(f"{v['prefix']['addr']}/{v['prefix']['len']}") for v in values]
                    met &= any(packet[key] in one_of for one_of in nets)
            if not met:
                continue
            jump = next((e["jump"]["target"] for e in expr if "jump" in e), None)
            if jump is not None and known:
                inner = self.fares(chains, jump, packet)
                if inner:
                    return inner
                continue
            if not known:
                return "unknown"
            return "accept" if "accept" in expr[-1] else "drop"
        return ""

    def test_every_packet_fares_as_the_rules_say_one_by_one(self) -> None:
        seen = {"allow": 0, "deny": 0, "unknown": 0}
        for seed in range(60):
            dice = random.Random(seed)
            chains = {"leaf": [self.rule(dice, []) for _ in range(dice.randint(1, 3))]}
            chains["forward"] = [self.rule(dice, ["leaf"]) for _ in range(dice.randint(1, 6))]
            policy = dice.choice(["accept", "drop"])
            leaf = tuple(rule("leaf", *expr) for expr in chains["leaf"])
            plan, _ = router(ruleset([ESTABLISHED, ACCEPT], *chains["forward"], policy=policy, more=leaf))
            stack = stack_of(plan, plan.get("host", "fulmar"))
            ports = {p.name: p.id for p in plan.all("host_port")}
            for _ in range(40):
                enters, leaves = dice.sample(sorted(ports), 2)
                source, target = (
                    ipaddress.ip_address(f"10.0.{dice.choice([10, 20, 30])}.{dice.choice([8, 130])}") for _ in "ab"
                )
                asked = dice.choice([PING, Packet("tcp", 22), Packet("tcp", 60), Packet("tcp", 443), Packet("udp", 22)])
                packet = {"iifname": enters, "oifname": leaves, "saddr": source, "daddr": target}
                wanted = self.fares(chains, "forward", {**packet, "protocol": asked.protocol, "port": asked.port})
                line = stack.gate(ports[enters], ports[leaves], source, target).decides(asked)
                action = line.action if line is not None else "allow"
                seen[action] += 1
                if action != "unknown":
                    self.assertEqual({"accept": "allow", "drop": "deny"}.get(wanted or policy), action, (seed, packet))
        self.assertGreater(min(seen.values()), 50, seen)


if __name__ == "__main__":
    unittest.main()

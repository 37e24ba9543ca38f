"""Filters as bits: what they say of all pairs of addresses is what each packet does."""

from __future__ import annotations

import ipaddress
import itertools
import unittest
from dataclasses import replace

from aptwire.plan.edits import Put, apply_edit
from aptwire.plan.filters import every_packet, within
from aptwire.plan.kinds import FilterLine, Station
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import Address, stack_of
from aptwire.rules.ways import Checkpoint, Sender, Side, Sieve, let_through
from hypothesis import given, settings
from hypothesis import strategies as st

NETS = ("10.0.0.0/8", "10.1.0.0/16", "10.1.1.0/24", "10.1.1.7/32", "2001:db8::/32", "2001:db8:1::/48", "0.0.0.0/0")
ADDRESSES = tuple(
    ipaddress.ip_address(text)
    for text in (
        "10.0.0.1",
        "10.1.0.1",
        "10.1.1.6",
        "10.1.1.7",
        "10.1.1.8",
        "192.0.2.1",
        "2001:db8::1",
        "2001:db8:1::1",
    )
)
INTERFACES = ("one", "two", "three")


@st.composite
def lines(draw: st.DrawFn) -> list[FilterLine]:
    """Up to six lines of a filter, which speak of few subnets, interfaces and ports."""
    made = []
    for n in range(draw(st.integers(0, 6))):
        protocol = draw(st.sampled_from(("any", "icmp", "tcp", "udp")))
        made.append(
            FilterLine(
                id=f"l{n}",
                of="router",
                order=n + 1,
                action=draw(st.sampled_from(("allow", "deny", "unknown"))),
                sources=tuple(draw(st.lists(st.sampled_from(NETS), max_size=2))),
                targets=tuple(draw(st.lists(st.sampled_from(NETS), max_size=2))),
                protocol=protocol,
                ports=draw(st.sampled_from(("", "22", "80, 443"))) if protocol in ("tcp", "udp") else "",
            )
        )
    return made


def sieve(filter_lines: list[FilterLine]) -> Sieve:
    """That of a station with these lines."""
    station = Station(id="router", name="router", routes=True)
    plan, _ = apply_edit(Plan("filtered"), (Put(station), *map(Put, filter_lines)))
    return Sieve(stack_of(plan, station))


def number(address: Address) -> tuple[int, int]:
    return address.version, int(address)


def readings(listed: list[FilterLine]) -> list[list[FilterLine]]:
    """The lines with each thing that those may do of which nobody said it."""
    choices = [
        [line] if line.action != "unknown" else [replace(line, action=a) for a in ("allow", "deny")] for line in listed
    ]
    return [list(chosen) for chosen in itertools.product(*choices)]


class SieveTest(unittest.TestCase):
    @settings(max_examples=150)
    @given(lines(), st.sampled_from(INTERFACES), st.sampled_from(INTERFACES))
    def test_bits_say_what_every_packet_does(self, listed: list[FilterLine], enters: str, leaves: str) -> None:
        made = sieve(listed)
        for source in ADDRESSES:
            for target in ADDRESSES:
                if source.version != target.version:
                    continue
                met = made.between(enters, leaves) & made.targets.of(target)
                gate = made.stack.gate(enters, leaves, source, target)
                ways = [
                    {replace(gate, lines=tuple(said)).passes(packet) for packet in every_packet(listed)}
                    for said in readings(listed)
                ]
                lets = made.lets(met & made.sources.of(source))
                places = made.sources.place(number(source)), made.targets.place(number(target))
                self.assertEqual((False, None, True)[made.table(enters, leaves)[places]], lets)
                if lets is not None:
                    self.assertEqual(ways, [{lets}] * len(ways))
                fares = {True in passed for passed in ways}
                passes = let_through([Checkpoint(made, enters, leaves, met)], Sender(source), target)
                self.assertIn(True if passes is None else passes, fares)
                self.assertTrue(passes is None or fares == {passes})
                self.assertTrue(passes is not None or len(ways) > 1)

    @settings(max_examples=150)
    @given(lines(), lines())
    def test_of_two_filters_one_packet_must_pass_both(self, one: list[FilterLine], two: list[FilterLine]) -> None:
        sieves = [sieve(one), sieve(two)]
        source, target = ADDRESSES[1], ADDRESSES[3]
        gates = [Checkpoint(s, "one", "two", s.between("one", "two") & s.targets.of(target)) for s in sieves]
        both = [s.stack.gate("one", "two", source, target) for s in sieves]
        wanted = any(all(gate.passes(packet) for gate in both) for packet in every_packet([*one, *two]))
        passes = let_through(gates, Sender(source), target)
        self.assertEqual(passes is not False, wanted)
        surely = any(all(gate.surely(packet) for gate in both) for packet in every_packet([*one, *two]))
        self.assertEqual(passes is True, surely)

    @settings(max_examples=200)
    @given(st.lists(st.lists(st.sampled_from(NETS), max_size=3), max_size=5))
    def test_addresses_between_two_bounds_are_one(self, texts: list[list[str]]) -> None:
        nets = [
            tuple(
                (net.version, int(net.network_address), int(net.network_address), net.prefixlen)
                for net in map(ipaddress.ip_network, of)
            )
            for of in texts
        ]
        side = Side(nets)
        for address in ADDRESSES:
            own = number(address)
            wanted = sum(1 << k for k, of in enumerate(nets) if not of or any(within(own, net) for net in of))
            self.assertEqual(side.of(address), wanted)

    def test_no_line_lets_everything_pass(self) -> None:
        made = sieve([])
        self.assertIs(made.lets(0), True)
        self.assertTrue(let_through([], Sender(ADDRESSES[0]), ADDRESSES[1]))

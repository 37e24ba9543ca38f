"""Pings as captures: what a reader of pcapng finds in them."""

from __future__ import annotations

import ipaddress
import struct
import unittest
from collections.abc import Iterator
from dataclasses import dataclass

from aptwire.above.outcomes import ANSWERED, SILENT
from aptwire.above.ping import end_of, ping
from aptwire.formats.pcapng import Seen, write
from aptwire.judge.verdicts import judge
from aptwire.paper.capture import capture
from aptwire.plan.filters import PING, Packet
from aptwire.plan.plan import Plan

from tests.core.test_outside import house
from tests.routers import outward_plan
from tests.support import demo_plan, pair


@dataclass(frozen=True)
class Read:
    """A frame out of a file: where it was seen, its tag, the addresses and the rest of its IP packet, and what is said of it."""

    place: str
    tag: int | None
    source: str
    target: str
    ttl: int
    protocol: int
    body: bytes
    comment: str


def options(raw: bytes) -> dict[int, str]:
    found, at = {}, 0
    while at + 4 <= len(raw):
        code, size = struct.unpack_from("<HH", raw, at)
        if code == 0:
            break
        found[code] = raw[at + 4 : at + 4 + size].decode()
        at += 4 + size + -size % 4
    return found


def read(raw: bytes) -> Iterator[Read]:
    """Every frame of a file, by the draft's own words."""
    at, places, times = 0, [], []
    while at < len(raw):
        kind, size = struct.unpack_from("<II", raw, at)
        assert size % 4 == 0 and struct.unpack_from("<I", raw, at + size - 4)[0] == size
        body = raw[at + 8 : at + size - 4]
        at += size
        if kind == 0x0A0D0D0A:
            assert body[:8] == bytes.fromhex("4d3c2b1a01000000")
        elif kind == 1:
            assert body[:2] == b"\x01\0"
            places.append(options(body[8:])[2])
        else:
            assert kind == 6
            number, high, low, kept, whole = struct.unpack_from("<IIIII", body)
            assert kept == whole
            times.append((high << 32) + low)
            frame = body[20 : 20 + kept]
            yield packet(places[number], frame, options(body[20 + kept + -kept % 4 :]).get(1, ""))
    assert times == sorted(set(times))


def packet(place: str, frame: bytes, comment: str) -> Read:
    tag, rest = (
        (struct.unpack_from(">H", frame, 14)[0], frame[16:]) if frame[12:14] == b"\x81\0" else (None, frame[12:])
    )
    kind, ip = rest[:2], rest[2:]
    if kind == b"\x08\0":
        size, ttl, protocol = struct.unpack_from(">H", ip, 2)[0], ip[8], ip[9]
        assert summed(ip[:20]) == 0xFFFF
        ends, body = (ip[12:16], ip[16:20]), ip[20:size]
        pseudo = ip[12:20] + struct.pack(">HH", protocol, len(body)) if protocol != 1 else b""
    else:
        assert kind == b"\x86\xdd"
        size, protocol, ttl = struct.unpack_from(">HBB", ip, 4)
        ends, body = (ip[8:24], ip[24:40]), ip[40 : 40 + size]
        pseudo = ip[8:40] + struct.pack(">II", len(body), protocol)
    assert summed(pseudo + body) == 0xFFFF, "its checksum is wrong"
    source, target = (str(ipaddress.ip_address(end)) for end in ends)
    return Read(place, tag, source, target, ttl, protocol, body, comment)


def summed(raw: bytes) -> int:
    total = sum(struct.unpack(f">{(len(raw) + 1) // 2}H", raw + bytes(len(raw) % 2)))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return total


def frames(plan: Plan, a: str, b: str, asked: Packet = PING) -> list[Read]:
    return list(read(capture(plan, ping(judge(plan), end_of(plan, a), end_of(plan, b), packet=asked), asked)))


class CaptureTest(unittest.TestCase):
    def test_each_place_shows_the_frame_as_it_is_there(self) -> None:
        seen = frames(with_addresses(), "a1", "b1")
        there = [(f.place, f.tag) for f in seen if f.body[0] == 8]
        self.assertEqual(
            there,
            [
                ("a/a1, port group g10", None),
                ("n0 of a, uplink u", 10),
                ("port p2 of sw", 10),
                ("b/b1", None),
            ],
        )
        self.assertEqual({(f.source, f.target) for f in seen if f.body[0] == 0}, {("10.0.10.2", "10.0.10.1")})
        self.assertEqual(len(seen), 8)
        self.assertEqual([f.comment for f in seen[:2]], ["access 10", "all VIDs"])

    def test_routers_count_down_and_translate(self) -> None:
        seen = frames(house().plan(), "a1", "internet")
        asked, answered = ([f for f in seen if f.body[0] == kind] for kind in (8, 0))
        self.assertEqual(
            list(dict.fromkeys((f.source, f.ttl) for f in asked)), [("10.0.10.11", 64), ("203.0.113.2", 63)]
        )
        self.assertEqual(list(dict.fromkeys(f.target for f in answered)), ["203.0.113.2", "10.0.10.11"])

    def test_connections_and_datagrams_go_to_their_port(self) -> None:
        for protocol, number in (("tcp", 6), ("udp", 17)):
            seen = frames(demo_plan(), "crew-roster", "tide-model", Packet(protocol, 5432))
            self.assertTrue(seen)
            self.assertEqual({f.protocol for f in seen}, {number})
            ports = [struct.unpack_from(">HH", f.body) for f in seen]
            self.assertEqual(set(ports), {(49_152, 5432), (5432, 49_152)})

    def test_what_is_dropped_is_said_where(self) -> None:
        made = house()
        next(p for p in made.kinds["fabric_port"] if p["id"] == "sw/p1")["allowed"] = "10"
        seen = frames(made.plan(), "a1", "internet")
        self.assertTrue(seen[-1].comment.startswith("dropped: "), seen[-1])
        self.assertIn("allows 10; 20 is missing", seen[-1].comment)

    def test_six_as_well_as_four(self) -> None:
        made = pair()
        for n, adapter in enumerate(made.kinds["adapter"], 1):
            adapter["addresses"] = [f"2001:db8::{n}/64"]
        seen = frames(made.plan(), "a1", "b1")
        self.assertEqual({f.body[0] for f in seen}, {128, 129})

    def test_random_ways_are_whole_and_what_is_unknown_is_left_out(self) -> None:
        kinds = set()
        for seed in range(12):
            plan = outward_plan(seed)
            judgement = judge(plan)
            ends = [r.id for kind in ("adapter", "station_port", "outside") for r in plan.all(kind)]
            for a in ends[:5]:
                for b in ends[-4:]:
                    if a != b:
                        told = ping(judgement, a, b)
                        seen = list(read(capture(plan, told)))
                        kinds.add(told.outcome)
                        if told.outcome == ANSWERED and any(leg.trace for way in told.ways for leg in way.legs):
                            self.assertTrue(seen)
        self.assertLessEqual({ANSWERED, SILENT}, kinds)

    def test_a_file_without_frames_is_one(self) -> None:
        self.assertEqual(list(read(write([]))), [])
        one = write([Seen("ä" * 3, bytes(12) + b"\x08\0" + bytes(46), "")])
        self.assertEqual(one.count("ä".encode()), 3)


def with_addresses() -> Plan:
    made = pair()
    for n, adapter in enumerate(made.kinds["adapter"], 1):
        adapter["addresses"] = [f"10.0.10.{n}/24"]
    return made.plan()


if __name__ == "__main__":
    unittest.main()

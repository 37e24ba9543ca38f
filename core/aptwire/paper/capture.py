"""A ping as a capture: the frames of its question and answer as they would be at each place that they pass, for a packet viewer."""

from __future__ import annotations

import hashlib
import ipaddress
import struct
from collections.abc import Iterator

from aptwire.above.ping import OWN_PORT, Hidden, Leg, Ping, arriving
from aptwire.formats.pcapng import Seen, write
from aptwire.forward.trace import Hop
from aptwire.plan.filters import PING, Packet
from aptwire.plan.kinds import PLACES
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import adapter_of, owner_of

TTL = 64
TCP, UDP, ICMP, ICMP6 = 6, 17, 1, 58


def capture(plan: Plan, ping: Ping, packet: Packet = PING) -> bytes:
    """A pcapng file; empty of frames where the ping has no way that the plan knows."""
    return write(_frames(plan, ping, packet))


def _frames(plan: Plan, ping: Ping, packet: Packet) -> Iterator[Seen]:
    hidden: tuple[Hidden, ...] = ()
    turned = ping.ways[0].turned if ping.ways else ()
    for number, way in enumerate(ping.ways):
        if not way.source:
            continue
        source, target = way.source, ping.ways[0].shown if number else turned[0].asked if turned else way.target
        for n, leg in enumerate(way.legs):
            if not number:
                source = next((one.shown for one in way.hidden if one.at == leg.out), source)
                so_far = [one for one in turned if one.after <= n]
                target = so_far[-1].to if so_far else target
            else:
                # What it was translated to on the way there is put right where it comes by again.
                left = [
                    one for one in turned if not any(_owns(plan, one.owner, past.out) for past in way.legs[: n + 1])
                ]
                source, so_far = turned[len(left)].asked if len(left) < len(turned) else way.source, left
            payload = _packet(source, target, arriving(packet, so_far), bool(number), TTL - n)
            yield from _leg(plan, leg, payload, 6 if ":" in source else 4)
            if number:
                # Whoever translated the question puts its sender back into the answer.
                taker = plan.find(leg.to or "")
                owner = owner_of(plan, taker).id if taker is not None else ""
                target = next((one.source for one in hidden if one.owner == owner and one.shown == target), target)
        hidden = way.hidden


def _owns(plan: Plan, owner: str, record: str) -> bool:
    """Whether an interface is somebody's."""
    found = plan.find(record)
    return found is not None and owner_of(plan, found).id == owner


def _leg(plan: Plan, leg: Leg, payload: bytes, version: int) -> Iterator[Seen]:
    """The frames of one link: as who sends puts it, as each port puts it on a cable, and as who gets it hears it; where it is dropped, as it came there."""
    if leg.trace is None or leg.to is None:
        return
    hops = leg.trace.hops
    cables = plan.of("cable")
    for n, hop in enumerate(hops):
        lost = hop.outcome not in ("passed", "astray")
        if n == 0:
            yield from _seen(plan, leg, hop, hop.before, payload, version, hop.reason if lost else "")
        elif lost:
            yield from _seen(plan, leg, hop, hop.before, payload, version, hop.reason or hop.outcome)
        elif n == len(hops) - 1 or any(record in cables for record in hop.records):
            yield from _seen(plan, leg, hop, hop.after, payload, version, "")


def _seen(plan: Plan, leg: Leg, hop: Hop, tag: str, payload: bytes, version: int, lost: str) -> Iterator[Seen]:
    if tag != "untagged" and not tag.isdecimal():
        return  # inside a tunnel, or nothing is there
    assert leg.to is not None
    shim = b"" if tag == "untagged" else struct.pack(">HH", 0x8100, int(tag))
    kind = struct.pack(">H", 0x0800 if version == 4 else 0x86DD)
    frame = _mac(plan, leg.to) + _mac(plan, leg.out) + shim + kind + payload
    yield Seen(hop.where, frame.ljust(60, b"\0"), f"dropped: {lost}" if lost else hop.rule)


def _mac(plan: Plan, record: str) -> bytes:
    """The address that a plan says, or else one that stands for it (locally administered, IEEE 802 clause 8.4)."""
    adapter = adapter_of(plan, plan.find(record, PLACES))
    if adapter is not None and adapter.mac:
        return bytes.fromhex(adapter.mac.replace(":", ""))
    return b"\x02" + hashlib.sha256(record.encode()).digest()[:5]


def _packet(source: str, target: str, packet: Packet, answer: bool, ttl: int) -> bytes:
    """An IP packet: an echo request or reply (RFC 792, RFC 4443), a connection's first or second segment (RFC 9293), or a datagram (RFC 768)."""
    one, two = (ipaddress.ip_address(text).packed for text in (source, target))
    six = len(one) == 16
    ports = (packet.port, OWN_PORT) if answer else (OWN_PORT, packet.port)
    if packet.protocol == "tcp":
        protocol, at = TCP, 16
        flags = 0x12 if answer else 0x02
        body = struct.pack(">HHIIBBHHH", *ports, 1, 2 if answer else 0, 5 << 4, flags, 65_535, 0, 0)
    elif packet.protocol == "udp":
        protocol, at = UDP, 6
        body = struct.pack(">HHHH", *ports, 8, 0)
    else:
        protocol, at = (ICMP6, 2) if six else (ICMP, 2)
        kind = ((129 if answer else 128) if six else (0 if answer else 8), 0)
        body = struct.pack(">BBHHH", *kind, 0, 0x4157, 1) + b"Apt Wire" * 4
    pseudo = (
        b""
        if protocol == ICMP
        else one
        + two
        + struct.pack(">II" if six else ">HH", *((len(body), protocol) if six else (protocol, len(body))))
    )
    body = body[:at] + struct.pack(">H", _sum(pseudo + body)) + body[at + 2 :]
    if six:
        return struct.pack(">IHBB", 6 << 28, len(body), protocol, ttl) + one + two + body
    head = struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(body), 1, 0, ttl, protocol, 0) + one + two
    return head[:10] + struct.pack(">H", _sum(head)) + head[12:] + body


def _sum(raw: bytes) -> int:
    """The Internet checksum (RFC 1071); a sum of zero is sent as all ones, as UDP wants it."""
    raw += bytes(len(raw) % 2)
    total = sum(struct.unpack(f">{len(raw) // 2}H", raw))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return (~total & 0xFFFF) or 0xFFFF

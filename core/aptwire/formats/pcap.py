"""Frames out of a classic pcap file (draft-ietf-opsawg-pcap): 24-byte header, then records of 16 bytes and data."""

from __future__ import annotations

import struct

from aptwire.plan.plan import PlanError, Problem

_MAGIC = {
    b"\xd4\xc3\xb2\xa1": ("<", 1_000_000),
    b"\xa1\xb2\xc3\xd4": (">", 1_000_000),
    b"\x4d\x3c\xb2\xa1": ("<", 1_000_000_000),
    b"\xa1\xb2\x3c\x4d": (">", 1_000_000_000),
}
_ETHERNET = 1
LARGEST_FRAME = 262_144


def frames(raw: bytes, place: str) -> list[tuple[float, bytes]]:
    """Every (time in seconds since 1970, Ethernet frame); PlanError names the byte where a file is cut or lies."""

    def refuse(offset: int, message: str) -> PlanError:
        return PlanError([Problem(message, place=f"{place}: byte {offset}")])

    if len(raw) < 24:
        raise refuse(len(raw), "the file ends inside the 24-byte pcap header")
    if raw[:4] not in _MAGIC:
        raise refuse(0, "this is no pcap file (its first four bytes are not a pcap mark)")
    order, parts = _MAGIC[raw[:4]]
    link_type = struct.unpack_from(order + "I", raw, 20)[0] & 0xFFFF
    if link_type != _ETHERNET:
        raise refuse(20, f"the frames are of link type {link_type}; only Ethernet (1) can be read")
    found: list[tuple[float, bytes]] = []
    offset = 24
    while offset < len(raw):
        if offset + 16 > len(raw):
            raise refuse(
                offset, f"frame {len(found) + 1} is cut: its 16-byte header ends after {len(raw) - offset} bytes"
            )
        seconds, fraction, kept, _length = struct.unpack_from(order + "IIII", raw, offset)
        if kept > LARGEST_FRAME:
            raise refuse(offset + 8, f"frame {len(found) + 1} claims {kept} bytes; {LARGEST_FRAME} is the most")
        offset += 16
        if offset + kept > len(raw):
            raise refuse(offset, f"frame {len(found) + 1} is cut: {kept} bytes announced, {len(raw) - offset} there")
        found.append((seconds + fraction / parts, raw[offset : offset + kept]))
        offset += kept
    return found


def write(found: list[tuple[float, bytes]]) -> bytes:
    """A classic pcap file of (time in seconds since 1970, Ethernet frame), in microseconds."""
    made = [struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, LARGEST_FRAME, _ETHERNET)]
    for at, frame in found:
        made.append(struct.pack("<IIII", int(at), int(at % 1 * 1_000_000), len(frame), len(frame)) + frame)
    return b"".join(made)

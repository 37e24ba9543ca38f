"""Frames into a pcapng file (draft-ietf-opsawg-pcapng): a section, an interface for each place where frames are seen, and the frames with what is to be said of them."""

from __future__ import annotations

import struct
from collections.abc import Iterable
from dataclasses import dataclass

ETHERNET = 1
SECTION, INTERFACE, PACKET = 0x0A0D0D0A, 1, 6
COMMENT, NAME, PROGRAM = 1, 2, 4
"""Options: of any block; of an interface; of a section."""


@dataclass(frozen=True)
class Seen:
    """An Ethernet frame as it is seen at a place, and what is said of it."""

    place: str
    frame: bytes
    comment: str = ""


def write(seen: Iterable[Seen]) -> bytes:
    """A pcapng file of frames in their order, a millisecond after each other from the beginning of 1970 on."""
    listed = list(seen)
    places = {place: n for n, place in enumerate(dict.fromkeys(one.place for one in listed))}
    made = [_block(SECTION, struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1) + _options((PROGRAM, "Apt Wire")))]
    made += (_block(INTERFACE, struct.pack("<HHI", ETHERNET, 0, 0) + _options((NAME, place))) for place in places)
    for n, one in enumerate(listed):
        micros = n * 1_000
        size = len(one.frame)
        head = struct.pack("<IIIII", places[one.place], micros >> 32, micros & 0xFFFFFFFF, size, size)
        made.append(_block(PACKET, head + _padded(one.frame) + _options((COMMENT, one.comment))))
    return b"".join(made)


def _block(kind: int, body: bytes) -> bytes:
    size = struct.pack("<I", len(body) + 12)
    return struct.pack("<I", kind) + size + body + size


def _options(*said: tuple[int, str]) -> bytes:
    """Options that say something, and the end of them; nothing where none does."""
    held = [(code, text.encode()[:65_000]) for code, text in said if text]
    made = b"".join(struct.pack("<HH", code, len(raw)) + _padded(raw) for code, raw in held)
    return made + bytes(4) if made else b""


def _padded(raw: bytes) -> bytes:
    return raw + bytes(-len(raw) % 4)

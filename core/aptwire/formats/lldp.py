"""LLDP frames (IEEE 802.1AB-2016 clause 8), with the 802.1 (Annex D of 802.1Q) and 802.3 organisation TLVs."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass, field

from aptwire.plan.plan import PlanError, Problem

ETHERTYPE = 0x88CC
_IEEE_8021, _IEEE_8023 = b"\x00\x80\xc2", b"\x00\x12\x0f"


@dataclass
class Neighbour:
    """What one LLDP frame says of the port that sent it.

    `pvid` is 0 where the port says it has none and None where the frame doesn't speak of it; `vlans` maps
    VID to name, None where the frame names no VLAN; `frame_size` in bytes.
    """

    source: str
    chassis: str = ""
    chassis_is_mac: bool = False
    port: str = ""
    port_is_mac: bool = False
    port_text: str = ""
    ttl: int = 0
    system: str = ""
    pvid: int | None = None
    vlans: dict[int, str] | None = None
    aggregated: bool | None = None
    frame_size: int | None = None
    ignored: list[str] = field(default_factory=list)


def read_frame(frame: bytes, place: str) -> Neighbour | None:
    """The neighbour that an Ethernet frame announces; None if it is no LLDP frame.

    PlanError names the TLV and byte where lengths lie or the mandatory TLVs (clause 8.2) are missing.
    """
    if len(frame) < 14 or int.from_bytes(frame[12:14], "big") != ETHERTYPE:
        return None
    neighbour = Neighbour(source=_mac(frame[6:12]))
    offset, number, seen = 14, 0, []
    while True:
        number += 1
        spot = f"{place}: TLV {number} at byte {offset}"
        if offset + 2 > len(frame):
            raise _refuse(spot, "the frame ends where a TLV should begin; the End TLV is missing")
        head = int.from_bytes(frame[offset : offset + 2], "big")
        kind, length = head >> 9, head & 0x1FF
        body = frame[offset + 2 : offset + 2 + length]
        if len(body) < length:
            raise _refuse(spot, f"type {kind} announces {length} bytes; {len(body)} are left")
        offset += 2 + length
        if kind == 0:
            break
        seen.append(kind)
        _take(neighbour, kind, body, spot)
    if seen[:3] != [1, 2, 3]:
        raise _refuse(place, "an LLDP frame begins with chassis id, port id and time to live; this one doesn't")
    return neighbour


def _take(neighbour: Neighbour, kind: int, body: bytes, spot: str) -> None:
    if kind in (1, 2):
        if len(body) < 2:
            raise _refuse(spot, "an id needs a subtype and at least one byte")
        text, is_mac = _identity(body, mac_subtype=4 if kind == 1 else 3)
        if kind == 1:
            neighbour.chassis, neighbour.chassis_is_mac = text, is_mac
        else:
            neighbour.port, neighbour.port_is_mac = text, is_mac
    elif kind == 3:
        if len(body) != 2:
            raise _refuse(spot, f"a time to live is 2 bytes long, not {len(body)}")
        neighbour.ttl = int.from_bytes(body, "big")
    elif kind == 4:
        neighbour.port_text = _text(body)
    elif kind == 5:
        neighbour.system = _text(body)
    elif kind == 127:
        if len(body) < 4:
            raise _refuse(spot, f"an organisation TLV needs 4 bytes; it has {len(body)}")
        _organisation(neighbour, body[:3], body[3], body[4:], spot)


def _organisation(neighbour: Neighbour, owner: bytes, subtype: int, body: bytes, spot: str) -> None:
    def number(start: int, size: int) -> int:
        if len(body) < start + size:
            raise _refuse(spot, f"the TLV is {len(body)} bytes long; {start + size} are needed")
        return int.from_bytes(body[start : start + size], "big")

    if owner == _IEEE_8021 and subtype == 1:
        neighbour.pvid = number(0, 2)
        if neighbour.pvid > 4094:
            raise _refuse(spot, f"{neighbour.pvid} is no VID")
    elif owner == _IEEE_8021 and subtype == 3:
        vid, size = number(0, 2), number(2, 1)
        if not 1 <= vid <= 4094:
            raise _refuse(spot, f"{vid} is no VID")
        if size > 32 or len(body) != 3 + size:
            raise _refuse(spot, f"a VLAN name of {size} bytes is announced; {len(body) - 3} are there")
        neighbour.vlans = {**(neighbour.vlans or {}), vid: _text(body[3:])}
    elif owner in (_IEEE_8021, _IEEE_8023) and subtype == (7 if owner == _IEEE_8021 else 3):
        neighbour.aggregated = bool(number(0, 1) & 2)
    elif owner == _IEEE_8023 and subtype == 4:
        neighbour.frame_size = number(0, 2)
    else:
        neighbour.ignored.append(f"{owner.hex('-')} subtype {subtype}")


def _identity(body: bytes, mac_subtype: int) -> tuple[str, bool]:
    subtype, value = body[0], body[1:]
    if subtype == mac_subtype and len(value) == 6:
        return _mac(value), True
    if subtype == mac_subtype + 1 and value[0] in (1, 2) and len(value) == (5 if value[0] == 1 else 17):
        return str(ipaddress.ip_address(value[1:])), False
    return _text(value), False


def _text(body: bytes) -> str:
    text = body.decode("utf-8", errors="replace").rstrip("\x00")
    return "".join(c if c.isprintable() else "\N{REPLACEMENT CHARACTER}" for c in text)


def _mac(value: bytes) -> str:
    return value.hex(":")


def _refuse(place: str, message: str) -> PlanError:
    return PlanError([Problem(message, place=place)])

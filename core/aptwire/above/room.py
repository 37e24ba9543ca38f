"""How large packets may be on a ping's way: what each interface sends at most, and what whatever its frames pass takes.

Whoever forwards tells a sender of packets that are larger than what he sends on himself (RFC 1191 section 3, RFC 8201 section 4), or splits them.  What is too large for
something that a frame passes on one link vanishes, and nobody tells.  An overlay's packets are larger by its header.
"""

from __future__ import annotations

from dataclasses import dataclass

from aptwire.above.outcomes import ANSWERED, WAVERS
from aptwire.above.ping import Leg, Ping, Way
from aptwire.forward.fabric import header, least
from aptwire.forward.frames import size_of
from aptwire.forward.wiring import Wiring
from aptwire.plan.kinds import (
    PLACES,
    Adapter,
    FabricPort,
    GuestTag,
    HostPort,
    Nic,
    PortGroup,
    Record,
    StationPort,
    Uplink,
)
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import owner_of


@dataclass(frozen=True)
class Narrow:
    """What takes packets of `size` bytes at most (a record); 0: nothing says a size."""

    size: int = 0
    at: str = ""

    def with_other(self, other: Narrow) -> Narrow:
        """The narrower of two."""
        return other if other.size and (not self.size or other.size < self.size) else self


@dataclass(frozen=True)
class Link:
    """A leg of a way: how large packets its interface `sends`, and what is `narrow` beyond it."""

    leg: Leg
    sends: int
    narrow: Narrow


def links(wiring: Wiring, way: Way) -> list[Link]:
    """The legs of a way that have a trace."""
    return [
        Link(leg, sends(wiring.plan, leg.out), narrowest(wiring, leg))
        for leg in way.legs
        if leg.trace is not None and wiring.plan.find(leg.out, PLACES) is not None
    ]


def sends(plan: Plan, interface: str) -> int:
    """The largest packet that an interface sends: its own MTU, or that of its segment; 0 where neither is said."""
    record = plan.find(interface, PLACES)
    own = plan.get("adapter", record.adapter).mtu if isinstance(record, GuestTag) else getattr(record, "mtu", None)
    segment = plan.of("segment").get(getattr(record, "belongs", None))
    return own or (segment.mtu if segment is not None else None) or 0


def narrowest(wiring: Wiring, leg: Leg) -> Narrow:
    """The least that takes packets of all that a leg's frames pass, of whoever gets them too."""
    plan, place = wiring.plan, wiring.place(leg.out)
    head = header(plan, place.stand.over) if place is not None and place.stand.vni and place.stand.over else 0
    found = Narrow()
    for hop in leg.trace.hops if leg.trace is not None else ():
        for id in hop.records:
            record = plan.find(id)
            size = takes(plan, record)
            # Inside an overlay only its ends see the packet without what it adds.
            inner = not head or isinstance(record, Adapter)
            if size:
                found = found.with_other(Narrow(size if inner else size - head, id))
    return found


def takes(plan: Plan, record: Record | None) -> int:
    """The largest packet that something takes that frames pass; 0 where nothing says."""
    if isinstance(record, FabricPort):
        return least(record.mtu, plan.get("fabric_switch", record.switch).mtu)
    if isinstance(record, GuestTag):
        return size_of(plan, plan.get("adapter", record.adapter))
    if isinstance(record, (Adapter, HostPort)):
        return size_of(plan, record)
    if isinstance(record, (Uplink, PortGroup)):
        overlaid = isinstance(record, PortGroup) and record.mode == "overlay"
        return 0 if overlaid else plan.get("virtual_switch", record.switch).mtu or 0
    return (record.mtu or 0) if isinstance(record, (Nic, StationPort)) else 0


def told_size(wiring: Wiring, found: Ping) -> str:
    """How large packets get there and back as a ping does, in a sentence; empty where it isn't answered, or nothing on its way says a size."""
    least_of_all = Narrow()
    reported = ""
    for way in found.ways if found.outcome in (ANSWERED, WAVERS) else ():
        most = 0
        for n, link in enumerate(links(wiring, way)):
            name = called(wiring.plan, owner_of(wiring.plan, _record(wiring.plan, link.leg.out)))
            if n and link.sends and (not most or link.sends < most):
                # Whoever forwards says so.
                reported = reported or f"; {name} tells whoever sends larger ones"
            most = least(most, link.sends)
            at = link.narrow
            if at.size and most > at.size:
                what = called(wiring.plan, wiring.plan.find(at.at))
                return f"Packets of over {at.size:,} bytes vanish: {name} sends up to {most:,}, and {what} takes no larger ones."
            most = least(most, at.size)
            least_of_all = least_of_all.with_other(Narrow(most))
    if not least_of_all.size:
        return ""
    return f"Packets of up to {least_of_all.size:,} bytes get there and back{reported}."


def _record(plan: Plan, id: str) -> Record:
    record = plan.find(id, PLACES)
    assert record is not None
    return record

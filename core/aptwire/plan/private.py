"""Private VLANs (RFC 5517): what a VID is within them."""

from __future__ import annotations

from dataclasses import dataclass

from aptwire.plan.plan import Plan


@dataclass(frozen=True)
class PrivatePart:
    """A port's part in a private VLAN: `type` promiscuous, isolated or community; `secondaries` all VIDs of the primary."""

    type: str
    primary: int
    secondaries: tuple[int, ...]


def private_part(plan: Plan, vid: int) -> PrivatePart | None:
    """The part of a port with this VID, None where no private VLAN has it (RFC 5517 section 3)."""
    found = plan.where("secondary_vlan", "vid", vid)
    if found:
        primary = plan.of("segment").get(found[0].segment)
        return PrivatePart(found[0].type, primary.vid, ()) if primary is not None and primary.vid else None
    for segment in plan.where("segment", "vid", vid):
        secondaries = tuple(sorted(s.vid for s in plan.where("secondary_vlan", "segment", segment.id)))
        if secondaries:
            return PrivatePart("promiscuous", vid, secondaries)
    return None

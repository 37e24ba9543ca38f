"""How a host is reached while its system doesn't run: by its BMC, and by what asks for its system over the network as it starts (untagged, over each NIC by itself, past its team)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from aptwire.forward.parts import Place
from aptwire.forward.trace import station_at
from aptwire.judge.judgement import Judgement
from aptwire.judge.voices import voices
from aptwire.plan.kinds import PLACES, Bmc, FabricPort, Host, Lag, Nic, Segment


@dataclass(frozen=True)
class Entry:
    """Where frames get in that come past a host's team: over a `nic` (None: a port of its own) into a fabric `port` (None: into none), as if somebody stood there (`place`; None: they are
    dropped); on which VID they `land` (0: untagged, in a switch that knows no tags), and the LAG that waits for a partner while nobody speaks LACP."""

    nic: Nic | None
    port: FabricPort | None
    place: Place | None
    lands: int | None
    waits: Lag | None


def entry(
    judgement: Judgement, record: str, nic: Nic | None, own: str | None, vid: int | None, segment: str | None
) -> Entry:
    """Where frames of somebody (`record`, with a tag or without) get in over a NIC, or at a port of his own."""
    wiring, plan = judgement.wiring, judgement.plan
    port = (
        plan.of("fabric_port").get(own) if own is not None else wiring.port_behind(nic.id) if nic is not None else None
    )
    if port is None:
        return Entry(nic, None, None, None, None)
    lag: Lag | None = plan.of("lag").get(port.lag)
    waits = lag if lag is not None and lag.lacp and not lag.individual else None
    place = station_at(wiring, record, port.id, vid, segment)
    lands = wiring.classes.vid(place.context) if place is not None else None
    return Entry(nic, port, place, lands, waits)


def of_bmc(judgement: Judgement, bmc: Bmc) -> Entry:
    """Where a BMC's frames get in."""
    nic = judgement.plan.of("nic").get(bmc.nic)
    return entry(judgement, bmc.id, nic, bmc.port, bmc.vid, bmc.belongs)


def of_start(judgement: Judgement, host: Host) -> Iterator[Entry]:
    """Where what a host asks as it starts gets in, NIC by NIC."""
    for nic in sorted(judgement.plan.where("nic", "host", host.id), key=lambda n: (n.rank, n.name)):
        if nic.link == "up":
            yield entry(judgement, host.id, nic, None, None, host.boots)


def fits(segment: Segment, found: Entry) -> bool:
    """Whether frames land on a segment's VID."""
    return found.lands is not None and found.lands == (segment.vid or 0)


def heard(judgement: Judgement, segment: Segment, place: Place) -> bool | None:
    """Whether somebody who belongs on a segment may hear whoever is at a place, and be heard; None: nobody else is on it."""
    known, wiring = voices(judgement), judgement.wiring
    members = (r.id for kind in PLACES for r in judgement.plan.where(kind, "belongs", segment.id))
    others = [other for other in map(wiring.place, members) if other is not None and other.context >= 0]
    return any(known.may(place, other) for other in others) if others else None

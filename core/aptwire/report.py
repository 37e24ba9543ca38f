"""What the command line and the server say of a judged plan, as plain JSON values."""

from __future__ import annotations

import datetime
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from aptwire.forward.parts import NOW, Place, Stand
from aptwire.forward.trace import say_state
from aptwire.forward.wiring import Wiring
from aptwire.judge.accepted import sorted_out, standing
from aptwire.judge.causes import spoken, spoken_adapter
from aptwire.judge.facts import host_hears
from aptwire.judge.findings import Finding, everything
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks import Risk
from aptwire.judge.why import VERDICTS, Cause, tag_text
from aptwire.plan.kinds import (
    Segment,
    Uplink,
)
from aptwire.plan.names import host_of

MOST_FINDINGS = 300
MOST_NAMED = 100


@dataclass(frozen=True)
class Landings:
    """Endpoints column by column: `rows` what each is, its `own` name on its host, its verdict, and its `tags`: the record of each (None: the endpoint itself), its addresses, and
    the number in `said` of what else is told of it, which it shares with whoever stands where it does."""

    rows: dict[str, list[Any]]
    said: list[dict[str, Any]]


def landings(judgement: Judgement, endpoints: Iterable[str] | None = None) -> list[dict[str, Any]]:
    """The endpoints (all of them, by host and name, unless said): where each belongs, where it lands, its verdict, tag by tag."""
    found = landing_columns(judgement, judgement.wiring.endpoints() if endpoints is None else endpoints)
    made = [dict(zip(found.rows, row, strict=True)) for row in zip(*found.rows.values(), strict=True)]
    for endpoint in made:
        endpoint["key"] = f"{endpoint['host']}/{endpoint.pop('own')}"
        endpoint["tags"] = [
            {"record": record or endpoint["id"], "addresses": list(addresses), **found.said[n]}
            for record, addresses, n in endpoint["tags"]
        ]
    return made if endpoints is not None else sorted(made, key=lambda e: (e["host"], e["kind"], e["key"]))


def landing_columns(judgement: Judgement, endpoints: Iterable[str]) -> Landings:
    """As `landings`, of very many and for a program: in the order asked for."""
    plan, wiring = judgement.plan, judgement.wiring
    adapters, guests, hosts = plan.of("adapter"), plan.of("guest"), plan.of("host")
    places, tagged = _Places(judgement), plan.grouped("guest_tag", "adapter")
    made = []
    for endpoint in endpoints:
        record = adapters.get(endpoint)
        if record is not None:
            guest = guests[record.guest]
            host, name = hosts[guest.host].name, spoken_adapter(plan, record)
            idle = not (record.connected and guest.running)
        else:
            record = plan.get("host_port", endpoint)
            host, name, idle = host_of(plan, record), spoken(plan, endpoint), not record.connected
        tags, worst = [], 0
        own_tags = tagged.get(endpoint, ())
        for of in (record, *sorted(own_tags, key=lambda t: t.vid)) if own_tags else (record,):
            stand = wiring.stand_of.get(of.id)
            if stand is not None:
                status, said = places.told(of, stand)
                worst = max(worst, status)
                tags.append((None if of is record else of.id, of.addresses, said))
        made.append((endpoint, record.kind, record.name, host, name, VERDICTS[worst], idle, tuple(tags)))
    names = ("id", "kind", "own", "host", "name", "verdict", "idle", "tags")
    columns = zip(*made, strict=True) if made else ((),) * len(names)
    return Landings(dict(zip(names, map(list, columns), strict=True)), list(map(dict, places.said)))


class _Places:
    """What is told of places; `said` each thing once."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        segments = sorted(judgement.plan.all(Segment), key=lambda s: s.id, reverse=True)
        self.segment_of = {s.vid: s.id for s in segments if s.vid}
        self.said: dict[tuple[tuple[str, Any], ...], int] = {}
        self._stands: dict[Stand, tuple[int, int, dict[str, Any]]] = {}
        self._own = judgement.own.keys() | set().union(*judgement.got)

    def told(self, record: Any, stand: Stand) -> tuple[int, int]:
        """The verdict of a place (its record and stand), and the number of what is said of it."""
        judgement = self.judgement
        known = self._stands.get(stand)
        if known is None:
            status, cause = judgement.stand_verdict(stand)
            place = judgement.wiring.place(record.id)
            assert place is not None
            said = self._of_stand(place, status, cause)
            known = self._stands[stand] = status, self._number(said), said
        status, number, said = known
        if record.id in self._own:
            plan, own, given = judgement.plan, judgement.own.get(record.id), judgement.given(record.id)
            said = dict(said)
            if own is not None:
                status = own[0]
                said.update(_said(judgement.wiring, *own))
            if given:
                from_whom = dict.fromkeys(filter(None, (got.by(plan) for got in given)))
                said.update(got=", ".join(got.got for got in given), got_from=", ".join(from_whom))
            number = self._number(said)
        return status, number

    def _of_stand(self, place: Place, status: int, cause: Cause | None) -> dict[str, Any]:
        wiring = self.judgement.wiring
        lands_vid, lands = _landed(self.judgement, place, self.segment_of)
        return {
            "tag": tag_text(wiring, place.label),
            "belongs": place.segment,
            "lands_vid": lands_vid,
            "lands": lands,
            **_said(wiring, status, cause),
            "got": "",
            "got_from": "",
        }

    def _number(self, said: dict[str, Any]) -> int:
        return self.said.setdefault(tuple(said.items()), len(self.said))


def _said(wiring: Wiring, status: int, cause: Cause | None) -> dict[str, str]:
    """A verdict, and the state in which it shows."""
    return {"verdict": VERDICTS[status], "state": say_state(wiring, cause.state) if cause else "now"}


def _landed(judgement: Judgement, place: Place, segment_of: dict[int, str]) -> tuple[int | None, str | None]:
    """The VID on which a place lands, and the segment that has it."""
    plan, lands = judgement.plan, judgement.lands_on(place)
    if place.stand.vni:
        return None, next((s.id for s in plan.where("segment", "vni", place.stand.vni)), None)
    vid = judgement.wiring.classes.vid(lands) if lands >= 0 else None
    own = plan.of("segment").get(place.segment)
    if own is not None and (own.vid or 0) == vid:
        return vid, own.id
    if vid == 0:
        return vid, next(iter(judgement.untagged_here(place)), None)
    secondary = plan.where("secondary_vlan", "vid", vid)
    return vid, secondary[0].segment if secondary else segment_of.get(vid) if vid is not None else None


def teams(wiring: Wiring) -> dict[str, Any]:
    """Who carries, and how far switches reach: what a drawing shows and nobody else works out.

    `members` the NICs of each uplink in the order in which they would carry, `carries` the one that does today, `reach` wired,
    host-local (the host hears what is said there) or sealed for each virtual switch.
    """
    plan = wiring.plan
    members: dict[str, list[str]] = {}
    carrying: dict[str, str] = {}
    reach: dict[str, str] = {}
    for key, block in wiring.blocks.items():
        for team in block.teams:
            if team.order or not isinstance(team.uplink, Uplink) or team.uplink.over is not None:
                continue
            members[team.uplink.id] = list(dict.fromkeys(m.nic.id for m in team.members if not m.one_way))
            member = wiring.carries(team, NOW)
            if member is not None:
                carrying[team.uplink.id] = member.nic.id
        if key in plan.of("virtual_switch"):
            groups = plan.where("port_group", "switch", key)
            tunnels = any(g.mode == "overlay" for g in groups)
            out = (
                tunnels
                or any(team.members for team in block.teams)
                or any(u.over for u in plan.where("uplink", "switch", key))
            )
            own = plan.where("host_port", "switch", key) or host_hears(plan, plan.get("virtual_switch", key), groups)
            reach[key] = "wired" if out else "host-local" if own else "sealed"
    return {"members": members, "carries": carrying, "reach": reach}


def summary(
    judgement: Judgement, found: list[Finding | Risk] | None = None, today: datetime.date | None = None
) -> dict[str, Any]:
    """Counts, and the findings and risks, worst first: so many as a person would ever scroll through, and how many more there are; those that are accepted
    (on the day `today`) apart; `off` the ids of all hosts that are off a pattern."""
    day = today or datetime.date.today()
    every = everything(judgement) if found is None else found
    listed, accepted = sorted_out(judgement.plan, every, day)
    return {
        "counts": judgement.counts(),
        "findings": [brief(finding, judgement, day) for finding in listed[:MOST_FINDINGS]],
        "more": max(0, len(listed) - MOST_FINDINGS),
        "accepted": [brief(finding, judgement, day) for finding in accepted[:MOST_FINDINGS]],
        "off": sorted({host for finding in every if finding.what == "off-pattern" for host in finding.culprit}),
    }


def brief(finding: Finding | Risk, judgement: Judgement, today: datetime.date | None = None) -> dict[str, Any]:
    """A finding or risk for a program; it names no more endpoints and records than somebody would read."""
    known = standing(judgement.plan, finding, today or datetime.date.today())
    return {
        "id": finding.id,
        "verdict": finding.verdict,
        "what": finding.what,
        "title": finding.title,
        "text": finding.text,
        "endpoints": list(finding.endpoints[:MOST_NAMED]),
        "count": len(finding.endpoints),
        "segment": finding.segment,
        "culprit": list(finding.culprit[:MOST_NAMED]),
        "state": say_state(judgement.wiring, finding.state),
        "idle": finding.idle,
        "acceptance": known.to_json() if known is not None else None,
    }

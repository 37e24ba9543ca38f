"""What the command line and the server say of a judged plan, as plain JSON values."""

from __future__ import annotations

import datetime
from collections.abc import Iterable
from typing import Any

from aptwire.forward.parts import NOW, Place, Stand
from aptwire.forward.trace import say_state
from aptwire.forward.wiring import Wiring
from aptwire.judge.accepted import sorted_out, standing
from aptwire.judge.causes import spoken
from aptwire.judge.facts import host_hears
from aptwire.judge.findings import Finding, everything
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks import Risk
from aptwire.judge.why import VERDICTS, Cause, is_idle, tag_text
from aptwire.plan.kinds import (
    Segment,
    Uplink,
)
from aptwire.plan.names import host_of

MOST_FINDINGS = 300
MOST_NAMED = 100


def landings(
    judgement: Judgement, endpoints: Iterable[str] | None = None, ordered: bool = True
) -> list[dict[str, Any]]:
    """The endpoints (all of them unless said): where each belongs, where it lands, its verdict, tag by tag; by host and name,
    or in the order asked for."""
    plan, wiring = judgement.plan, judgement.wiring
    segment_of = {s.vid: s.id for s in sorted(plan.all(Segment), key=lambda s: s.id, reverse=True) if s.vid}
    known: dict[Stand, dict[str, Any]] = {}
    made = []
    for endpoint in wiring.endpoints() if endpoints is None else endpoints:
        record = plan.of("adapter").get(endpoint) or plan.get("host_port", endpoint)
        tags, worst = [], 0
        for place in wiring.places_of(endpoint):
            said = known.get(place.stand)
            if said is None:
                lands_vid, lands = _landed(judgement, place, segment_of)
                said = known[place.stand] = {
                    "tag": tag_text(wiring, place.label),
                    "belongs": place.segment,
                    "lands_vid": lands_vid,
                    "lands": lands,
                    **_said(wiring, *judgement.stand_verdict(place.stand)),
                    "got": "",
                    "got_from": "",
                }
            status, own = judgement.status_of(place), judgement.own.get(place.record)
            worst = max(worst, status)
            told = {"record": place.record, "addresses": list(place.addresses), **said}
            if own is not None:
                told.update(_said(wiring, *own))
            given = judgement.given(place.record)
            if given:
                from_whom = dict.fromkeys(filter(None, (got.by(plan) for got in given)))
                told.update(got=", ".join(got.got for got in given), got_from=", ".join(from_whom))
            tags.append(told)
        host = host_of(plan, record)
        made.append(
            {
                "id": endpoint,
                "kind": record.kind,
                "key": f"{host}/{record.name}",
                "host": host,
                "name": spoken(plan, endpoint),
                "verdict": VERDICTS[worst],
                "idle": is_idle(plan, endpoint),
                "tags": tags,
            }
        )
    return sorted(made, key=lambda e: (e["host"], e["kind"], e["key"])) if ordered else made


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
            tunnels = any(g.mode == "overlay" for g in plan.where("port_group", "switch", key))
            out = (
                tunnels
                or any(team.members for team in block.teams)
                or any(u.over for u in plan.where("uplink", "switch", key))
            )
            own = plan.where("host_port", "switch", key) or host_hears(plan, plan.get("virtual_switch", key))
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

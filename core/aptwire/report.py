"""What the command line and the server say of a judged plan, as plain JSON values."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from aptwire.forward.trace import say_state
from aptwire.judge.findings import Finding, everything, spoken
from aptwire.judge.risks import Risk
from aptwire.judge.verdicts import VERDICTS, Judgement, is_idle, tag_text
from aptwire.plan.kinds import HostPort
from aptwire.plan.names import endpoint_key, host_of

MOST_FINDINGS = 300
MOST_NAMED = 100


def landings(
    judgement: Judgement, endpoints: Iterable[str] | None = None, ordered: bool = True
) -> list[dict[str, Any]]:
    """The endpoints (all of them unless said): where each belongs, where it lands, its verdict, tag by tag; by host and name,
    or in the order asked for."""
    plan, wiring = judgement.plan, judgement.wiring
    segment_of = {
        (s.vid or 0): s.id for s in sorted(plan.all("segment"), key=lambda s: s.id, reverse=True) if not s.vni
    }
    made = []
    for endpoint in wiring.endpoints() if endpoints is None else endpoints:
        places = wiring.places_of(endpoint)
        record = plan.find(endpoint)
        assert record is not None
        tags = []
        for place in places:
            lands = judgement.lands_on(place)
            own = plan.of("segment").get(place.segment)
            vid = wiring.classes.vid(lands) if lands >= 0 else None
            landed = segment_of.get(vid) if vid is not None else None
            if place.stand.vni:
                vid = None
                landed = next((s.id for s in plan.where("segment", "vni", place.stand.vni)), None)
            elif own is not None and (own.vid or 0) == vid:
                landed = own.id
            elif vid:
                secondary = plan.where("secondary_vlan", "vid", vid)
                landed = secondary[0].segment if secondary else landed
            cause = judgement.cause_of(place)
            tags.append(
                {
                    "record": place.record,
                    "tag": tag_text(wiring, place.label),
                    "belongs": place.segment,
                    "lands_vid": vid,
                    "lands": landed,
                    "addresses": list(place.addresses),
                    "verdict": VERDICTS[judgement.status_of(place)],
                    "state": say_state(wiring, cause.state) if cause else "now",
                }
            )
        made.append(
            {
                "id": endpoint,
                "kind": record.kind,
                "key": endpoint_key(plan, record),
                "host": host_of(plan, record),
                "name": spoken(plan, endpoint),
                "role": "host port" if isinstance(record, HostPort) else "adapter",
                "verdict": VERDICTS[judgement.verdict(endpoint)],
                "idle": is_idle(plan, endpoint),
                "tags": tags,
            }
        )
    return sorted(made, key=lambda e: (e["host"], e["role"], e["key"])) if ordered else made


def summary(judgement: Judgement, found: list[Finding | Risk] | None = None) -> dict[str, Any]:
    """Counts, and the findings and risks, worst first: so many as a person would ever scroll through, and how many more there are."""
    listed = everything(judgement) if found is None else found
    return {
        "counts": judgement.counts(),
        "findings": [brief(finding, judgement) for finding in listed[:MOST_FINDINGS]],
        "more": max(0, len(listed) - MOST_FINDINGS),
    }


def brief(finding: Finding | Risk, judgement: Judgement) -> dict[str, Any]:
    """A finding or risk for a program; it names no more endpoints and records than somebody would read."""
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
    }

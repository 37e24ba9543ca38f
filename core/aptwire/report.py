"""What the command line and the server say of a judged plan, as plain JSON values."""

from __future__ import annotations

from typing import Any

from aptwire.forward.trace import say_state
from aptwire.judge.findings import Finding, everything, spoken
from aptwire.judge.risks import Risk
from aptwire.judge.verdicts import VERDICTS, Judgement, is_idle, tag_text
from aptwire.plan.kinds import HostPort
from aptwire.plan.names import endpoint_key, host_of


def landings(judgement: Judgement) -> list[dict[str, Any]]:
    """Every endpoint: where it belongs, where it lands, its verdict, tag by tag; by host and name."""
    plan, wiring = judgement.plan, judgement.wiring
    segment_of = {(s.vid or 0): s.id for s in sorted(plan.all("segment"), key=lambda s: s.id, reverse=True)}
    made = []
    for endpoint in wiring.endpoints():
        places = wiring.places_of(endpoint)
        record = plan.find(endpoint)
        assert record is not None
        tags = []
        for place in places:
            lands = judgement.lands_on(place)
            own = plan.of("segment").get(place.segment)
            vid = wiring.classes.vid(lands) if lands >= 0 else None
            landed = (
                own.id
                if own is not None and (own.vid or 0) == vid
                else segment_of.get(vid)
                if vid is not None
                else None
            )
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
    return sorted(made, key=lambda e: (e["host"], e["role"], e["key"]))


def summary(judgement: Judgement, found: list[Finding | Risk] | None = None) -> dict[str, Any]:
    """Counts, landings, findings and risks."""
    listed = everything(judgement) if found is None else found
    return {
        "counts": judgement.counts(),
        "endpoints": landings(judgement),
        "findings": [finding.to_json(judgement) for finding in listed],
    }

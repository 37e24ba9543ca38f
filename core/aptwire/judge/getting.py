"""Who isn't home because of the address that he gets from others, or doesn't: leased, or formed of what is advertised."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from aptwire.above import outcomes
from aptwire.above.adverts import Adverts
from aptwire.above.leases import Leases, Leases6
from aptwire.judge.changes import Changes
from aptwire.judge.formed import UNHEARD
from aptwire.judge.judgement import Judgement
from aptwire.judge.lease import EITHER, NO_ANSWER, WRONG
from aptwire.judge.singles import Own
from aptwire.judge.voices import Voices, voices
from aptwire.judge.why import (
    NO_LEASE,
    NO_PREFIX,
    STRANDED,
    UNPROVEN,
    WAVERING,
    WRONG_LEASE,
    WRONG_PREFIX,
    Cause,
)
from aptwire.plan.kinds import ADVERTISED, LEASE, PLACES, Segment
from aptwire.plan.layers import layered


@dataclass(frozen=True)
class _Getting:
    """A way of getting an address: of whom a field says so (`field`, `values`) and how it is found (`speaking`); the names under which a judgement has what they get (`found`), and whom it doesn't serve
    (`troubled`); and what somebody is, and why, by what came of it: where it isn't there, that serves him."""

    speaking: type[Leases] | type[Adverts]
    field: str
    values: tuple[str, ...]
    found: str
    troubled: str
    verdicts: Mapping[str, tuple[str, int]]


_LEASED = {
    outcomes.UNPROVEN: (NO_LEASE, UNPROVEN),
    outcomes.WAVERS: (NO_LEASE, WAVERING),
    NO_ANSWER: (NO_LEASE, STRANDED),
    EITHER: (WRONG_LEASE, WAVERING),
    WRONG: (WRONG_LEASE, STRANDED),
}
_WAYS = (
    _Getting(Leases, "addressing", (LEASE,), "leases", "unleased", _LEASED),
    _Getting(Leases6, "addressing6", (LEASE,), "leases6", "unleased6", _LEASED),
    _Getting(
        # A lease of IPv6 says neither what is on link nor the way out.
        Adverts,
        "addressing6",
        (ADVERTISED, LEASE),
        "formed",
        "unformed",
        {
            outcomes.UNPROVEN: (NO_PREFIX, UNPROVEN),
            outcomes.WAVERS: (NO_PREFIX, WAVERING),
            UNHEARD: (NO_PREFIX, STRANDED),
            EITHER: (WRONG_PREFIX, WAVERING),
            WRONG: (WRONG_PREFIX, STRANDED),
        },
    ),
)


_TOLD = frozenset(what for way in _WAYS for what, _ in way.verdicts.values())


def for_its_address(told: tuple[int, Cause] | None) -> bool:
    """Whether nothing is said of an interface by itself but what becomes of the address that it asks for."""
    return told is None or told[1].what in _TOLD


def with_addresses(
    judgement: Judgement, before: Judgement | None, changes: Changes, segments: Iterable[int]
) -> tuple[Judgement, set[str]]:
    """A judgement with what everybody gets from others who gets an address so: whoever gets none, or a wrong one, isn't home.  `before`: the one before an edit; then those
    alone are asked who belong on these segments or are changed, unless it changed who gives what.  Also whoever gets something else than before.
    """
    others: set[str] = set()
    # What doesn't rest on it is found once.
    memo: dict[Callable[..., Any], Any] = {}
    numbers, made = list(segments), judgement
    for way in _WAYS:
        found, troubled, differ, asked = _one_way(way, judgement, before, changes, numbers)
        others |= differ
        if asked is None:
            continue
        own = dict(made.own)
        for id, told in troubled.items():
            place = judgement.wiring.place(id)
            if place is not None and place.stand.judged and told[0] > made.status_of(place):
                own[id] = told
        made = replace(made, own=own, known=replace(made.known, **{way.troubled: troubled}), **{way.found: found})  # type: ignore[arg-type]
        memo.update({Voices: voices(judgement), way.speaking: asked})
    return (replace(made, memo=memo), others) if memo else (made, others)


def _one_way(
    way: _Getting, judgement: Judgement, before: Judgement | None, changes: Changes, segments: list[int]
) -> tuple[Mapping[str, Any], Own, set[str], Leases | Adverts | None]:
    """What those get who get an address in one way, whom it doesn't serve, who gets something else than before, and who was asked."""
    plan, known = judgement.plan, getattr(before, way.found) if before is not None else {}
    wanting = [plan.where(kind, way.field, value) for kind in PLACES for value in way.values]
    if not any(wanting):
        return {}, {}, set(known), None
    asked = way.speaking(judgement)
    was = before.memo.get(way.speaking) if before is not None else None
    said = asked.after(was, changes) if was is not None else None
    troubled: dict[str, Any] = {}
    if said is not None and before is not None:
        troubled = dict(getattr(before.known, way.troubled))
        ids = judgement.intent.segments
        touched = {*(ids[n] for n in segments), *(id for kind, id in changes.records if kind == Segment.kind)}
        near = (r for id in touched for kind in PLACES for r in plan.where(kind, "belongs", id))
        lost = (r for kind in PLACES for r in plan.where(kind, "belongs", None))
        again = {record.id for record in (*near, *lost)}
        again |= {id for kind, id in changes.records if kind in PLACES}
        again |= {id for id, got in known.items() if way.speaking.concerned(got, said)} if said else set()
        # A guest that is gone took its adapters along.
        for wiring in (judgement.wiring, before.wiring):
            blocks = (wiring.blocks.get(key) for key in changes.blocks)
            again |= {id for block in blocks if block is not None for id in block.stand_of}
    else:
        again = {*known, *(record.id for of in wanting for record in of)}
    made: dict[str, Any] = {}
    for id in again:
        record = plan.find(id, PLACES)
        troubled.pop(id, None)
        got = made[id] = asked.of(record) if record is not None and getattr(record, way.field) in way.values else None
        if got is not None and got.outcome in way.verdicts:
            what, status = way.verdicts[got.outcome]
            troubled[id] = status, Cause(what, got.state, got.towards, detail=got.reason)
    differ = {id for id, got in made.items() if known.get(id) != got}
    return layered(known, {id: made[id] for id in differ}), troubled, differ, asked

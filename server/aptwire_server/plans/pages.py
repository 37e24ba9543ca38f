"""Large plans in pages: no answer is much over PAGE bytes, whatever the size of the fleet."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import orjson
from aptwire.judge.causes import spoken
from aptwire.judge.preview import Move
from aptwire.plan.collecting import no_collecting
from aptwire.plan.kinds import KINDS
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.report import landings

from aptwire_server.plans.engine import ENDPOINTS, Engine, Written
from aptwire_server.plans.schemas import SAID

PAGE = 700_000
GZIP = 31
"""What zlib calls a stream of RFC 1952."""
CHUNK = 1000
MOST_LANDED = 1_500
MOST_MOVES = 4_000


def page(engine: Engine, cursor: str, keep: bool = False) -> Written:
    """One page: records by kind and, after all records, endpoints.

    A cursor is a kind and how many of it came before; PlanError if it is none.  `keep`: what was written is kept for whoever
    opens the plan next, until a record in it differs.
    """
    written = engine.pages.get(cursor)
    if written is None:
        with no_collecting():
            following, text, kinds = _page(engine, cursor)
        packing = zlib.compressobj(1, wbits=GZIP)
        written = Written(following, packing.compress(text) + packing.flush(), kinds)
        if keep:
            engine.pages[cursor] = written
    return written


def _page(engine: Engine, cursor: str) -> tuple[str | None, bytes, frozenset[str]]:
    """The cursor of the page after it, a page's JSON, and the kinds of which it says what there is, those of which there is none too."""
    kinds = [*KINDS, ENDPOINTS]
    kind, _, number = cursor.partition(":")
    if kind not in kinds or not (number.isascii() and number.isdigit()) or len(number) > 9:
        raise PlanError([Problem("a cursor is a record kind and a number, such as adapter:2000", field="after")])
    first = at = kinds.index(kind)
    offset, room = int(number), PAGE
    parts: dict[str, list[bytes]] = {}
    following = None
    while at < len(kinds) and following is None:
        kind = kinds[at]
        ids = engine.ids(kind)
        while offset < len(ids):
            count, text = _block(engine, kind, ids[offset : offset + CHUNK], 0 if parts else room)
            if parts and room < len(text):
                following = f"{kind}:{offset}"
                break
            parts.setdefault(kind, []).append(text)
            offset, room = offset + count, room - len(text)
        at, offset = at + 1, 0
    endpoints = parts.pop(ENDPOINTS, [])
    records = b",".join(b'"%b":[%b]' % (name.encode(), b",".join(texts)) for name, texts in parts.items())
    text = b'{"records":{%b},"endpoints":[%b]}' % (records, b",".join(endpoints))
    return following, text, frozenset(kinds[first:at])


def _block(engine: Engine, kind: str, ids: list[str], most: int) -> tuple[int, bytes]:
    """The columns of records, or endpoints; where `most` is said, of so many of them that they take no more bytes, at least one."""
    if kind == ENDPOINTS:
        items = landings(engine.judgement(), ids, ordered=False)
    else:
        items = [engine.plan.get(kind, id).to_json() for id in ids]
    while True:
        text = orjson.dumps(endpoint_columns(items) if kind == ENDPOINTS else columns(items))
        if not most or len(text) <= most or len(items) == 1:
            return len(items), text
        items = items[: len(items) // 2]


def columns(items: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """Values field by field, a third of the text: how many there are, and the list of each field that any of them has, null where one hasn't.

    What stands there more than twice, most of it does, is said once: `values`, and `at` of each item the place of its own in them.
    """
    fields: dict[str, Any] = {}
    for name in dict.fromkeys(name for item in items for name in item):
        fields[name] = values = [item.get(name) for item in items]
        if all(value is None or isinstance(value, str | int) for value in values):
            places = {value: n for n, value in enumerate(dict.fromkeys(values))}
            if len(places) * 2 < len(values):
                fields[name] = {"values": list(places), "at": [places[value] for value in values]}
    return {"count": len(items), "fields": fields}


def endpoint_columns(endpoints: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """Columns of endpoints; what is said of each of their tags (`landed`) they share with whoever stands where they do.

    A tag is its record (null where that is the endpoint itself), its addresses, and the place of what is said of it.
    """
    landed: dict[tuple[Any, ...], int] = {}
    rows = []
    for endpoint in endpoints:
        tags = []
        for tag in endpoint["tags"]:
            record = None if tag["record"] == endpoint["id"] else tag["record"]
            said = landed.setdefault(tuple(tag[name] for name in SAID), len(landed))
            tags.append((record, tag["addresses"], said))
        rows.append({**endpoint, "tags": tags})
    return {**columns(rows), "landed": [dict(zip(SAID, said, strict=True)) for said in landed]}


def landed(engine: Engine, since: int) -> list[dict[str, Any]] | None:
    """The endpoints that may land differently than at an earlier revision; None: too many, or too long ago, so load them anew."""
    blocks = engine.moved_since(since)
    if blocks is None:
        return None
    judgement = engine.judgement()
    known = [key for key in blocks if key in judgement.wiring.blocks]
    if sum(len(judgement.wiring.blocks[key].stand_of) for key in known) > MOST_LANDED:
        return None
    return landings(judgement, sorted(e for key in known for e in judgement.block_endpoints(key)))


def told_moves(moves: Iterable[Move], after: Plan, most: int = MOST_MOVES) -> dict[str, Any]:
    """Moves for a program: the worst `most` of them, with the names of those who are new in the plan `after`, and how many there are from each verdict to
    each."""
    listed = sorted(moves, key=lambda m: (not m.worse, m.endpoint))
    tally: dict[tuple[str | None, str | None], int] = {}
    for move in listed:
        tally[move.before, move.after] = tally.get((move.before, move.after), 0) + 1
    return {
        "moves": [
            {**move.to_json(), "name": None if move.before else spoken(after, move.endpoint)} for move in listed[:most]
        ],
        "tally": [{"before": b, "after": a, "count": n} for (b, a), n in tally.items()],
    }

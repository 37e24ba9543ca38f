"""Large plans in pages: no answer is much over PAGE bytes, whatever the size of the fleet."""

from __future__ import annotations

import zlib
from collections.abc import Iterable
from typing import Any

import orjson
from aptwire.judge.preview import Move
from aptwire.plan.collecting import no_collecting
from aptwire.plan.kinds import KINDS
from aptwire.plan.plan import PlanError, Problem
from aptwire.report import landings

from aptwire_server.plans.engine import ENDPOINTS, Engine, Written

PAGE = 700_000
CHUNK = 400
MOST_LANDED = 1_500
MOST_MOVES = 4_000


def page(engine: Engine, cursor: str, keep: bool = False) -> bytes:
    """The JSON of one page: records by kind and, after all records, endpoints; `next` is the cursor of the page after it.

    A cursor is a kind and how many of it came before; PlanError if it is none.  `keep`: what was written is kept for whoever
    opens the plan next, a tenth of its size, until a record in it differs.
    """
    written = engine.pages.get(cursor)
    if written is None:
        with no_collecting():
            following, body, kinds = _page(engine, cursor)
        if keep:
            engine.pages[cursor] = Written(following, zlib.compress(body, 1), kinds)
    else:
        following, body = written.following, zlib.decompress(written.packed)
    return b'{"revision":%d,"next":%b,%b}' % (engine.revision, orjson.dumps(following), body)


def _page(engine: Engine, cursor: str) -> tuple[str | None, bytes, frozenset[str]]:
    """The cursor of the next page, a page's records and endpoints, and of which kinds they are."""
    kinds = [*KINDS, ENDPOINTS]
    kind, _, number = cursor.partition(":")
    if kind not in kinds or not (number.isascii() and number.isdigit()) or len(number) > 9:
        raise PlanError([Problem("a cursor is a record kind and a number, such as adapter:2000", field="after")])
    at, offset, room = kinds.index(kind), int(number), PAGE
    parts: dict[str, list[bytes]] = {}
    following = None
    while at < len(kinds):
        kind = kinds[at]
        texts, more = _texts(engine, kind, offset, room)
        if texts:
            parts[kind] = texts
        room -= sum(map(len, texts))
        if more:
            following = f"{kind}:{offset + len(texts)}"
            break
        at, offset = at + 1, 0
    held = frozenset(parts)
    endpoints = parts.pop(ENDPOINTS, [])
    records = b",".join(b'"%b":[%b]' % (name.encode(), b",".join(texts)) for name, texts in parts.items())
    return following, b'"records":{%b},"endpoints":[%b]' % (records, b",".join(endpoints)), held


def _texts(engine: Engine, kind: str, offset: int, room: int) -> tuple[list[bytes], bool]:
    """The JSON texts of a kind from an offset on that fit into the room, at least one; and whether there are more."""
    ids = engine.ids(kind)
    texts: list[bytes] = []
    while offset + len(texts) < len(ids):
        start = offset + len(texts)
        chunk = ids[start : start + CHUNK]
        if kind == ENDPOINTS:
            found: Iterable[Any] = landings(engine.judgement(), chunk, ordered=False)
        else:
            found = (engine.plan.get(kind, id).to_json() for id in chunk)
        for item in found:
            text = orjson.dumps(item)
            if texts and room < len(text):
                return texts, True
            texts.append(text)
            room -= len(text)
        if room <= 0 and start + len(chunk) < len(ids):
            return texts, True
    return texts, False


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


def told_moves(moves: Iterable[Move], most: int = MOST_MOVES) -> dict[str, Any]:
    """Moves for a program: the worst `most` of them, and how many there are from each verdict to each."""
    listed = sorted(moves, key=lambda m: (not m.worse, m.endpoint))
    tally: dict[tuple[str | None, str | None], int] = {}
    for move in listed:
        tally[move.before, move.after] = tally.get((move.before, move.after), 0) + 1
    return {
        "moves": [move.to_json() for move in listed[:most]],
        "tally": [{"before": b, "after": a, "count": n} for (b, a), n in tally.items()],
    }

"""Large plans in pages: no answer is much over PAGE bytes, whatever the size of the fleet."""

from __future__ import annotations

import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

import orjson
from aptwire.judge.causes import spoken
from aptwire.judge.preview import Move
from aptwire.plan.collecting import no_collecting
from aptwire.plan.kinds import KINDS, columns_of
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.report import landing_columns, landings

from aptwire_server.plans.engine import ENDPOINTS, Engine, Written

PAGE = 700_000
FIRST = f"{next(iter(KINDS))}:0"
"""The cursor of the first page."""
GZIP = 31
"""What zlib calls a stream of RFC 1952."""
CHUNK = 1000
CHUNK_OF_ENDPOINTS = 2500
"""Of endpoints more at once: what is told of where they stand is told anew in each block."""
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


def write_ahead(engine: Engine) -> None:
    """Write all pages that a browser asks for when it opens a plan."""
    for _ in _cursors(lambda cursor: page(engine, cursor, keep=True).following):
        pass


def beginnings(engine: Engine) -> list[str]:
    """The cursors of pages that can be asked for side by side: of records and of endpoints those that are written one after the other, and the
    one after them."""
    written = engine.pages
    return list(_cursors(lambda cursor: written[cursor].following if cursor in written else None))


def _cursors(follow: Callable[[str], str | None]) -> Iterator[str]:
    """Those of all pages of records and then of endpoints, as far as what follows on each is told."""
    for first, ends in ((FIRST, False), (f"{ENDPOINTS}:0", True)):
        cursor: str | None = first
        while cursor is not None and cursor.startswith(f"{ENDPOINTS}:") == ends:
            yield cursor
            cursor = follow(cursor)


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
        ids, chunk = engine.ids(kind), CHUNK_OF_ENDPOINTS if kind == ENDPOINTS else CHUNK
        while offset < len(ids):
            count, text = _block(engine, kind, ids[offset : offset + chunk], 0 if parts else room)
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
    while True:
        text = orjson.dumps(_columns(engine, kind, ids))
        if not most or len(text) <= most or len(ids) == 1:
            return len(ids), text
        ids = ids[: len(ids) // 2]


def _columns(engine: Engine, kind: str, ids: list[str]) -> dict[str, Any]:
    """Values field by field, a third of the text: how many records there are, and the list of each field that any of them has, null where one
    hasn't; of endpoints also what is said of where they stand (`landed`)."""
    if kind != ENDPOINTS:
        return _rows(len(ids), columns_of(kind, list(map(engine.plan.of(kind).__getitem__, ids))))
    found = landing_columns(engine.judgement(), ids)
    said = found.said
    landed = {name: [told[name] for told in said] for name in (said[0] if said else ())}
    return {**_rows(len(ids), found.rows), "landed": _rows(len(said), landed)}


def _rows(count: int, fields: Mapping[str, list[Any]]) -> dict[str, Any]:
    return {"count": count, "fields": {name: _once(values) for name, values in fields.items()}}


def _once(values: list[Any]) -> list[Any] | dict[str, list[Any]]:
    """A column.  What stands there more than twice, most of it does, is said once: `values`, and `at` of each item the place of its own in them."""
    if not set(map(type, values)) <= {str, int, bool, tuple, type(None)}:
        return values
    places = {value: n for n, value in enumerate(dict.fromkeys(values))}
    if len(places) * 2 >= len(values):
        return values
    return {"values": list(places), "at": list(map(places.__getitem__, values))}


def landed(engine: Engine, since: int) -> list[dict[str, Any]] | None:
    """The endpoints that may land differently than at an earlier revision; None: too many, or too long ago, so load them anew."""
    moved = engine.moved_since(since, MOST_LANDED)
    if moved is None:
        return None
    found = landings(engine.judgement(), moved)
    return sorted(found, key=lambda e: (e["host"], e["kind"], e["key"]))


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

"""Records to rows and back."""

from __future__ import annotations

import hashlib
import json
import uuid
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice
from operator import attrgetter
from typing import Any

from aptwire.plan.collecting import no_collecting
from aptwire.plan.fields import plain
from aptwire.plan.kinds import KINDS, SPECS, Record
from aptwire.plan.plan import Plan
from django.db import connection

from aptwire_server.plans.models import ROWS, PlanRow, columns_of

MANY = 500
"""Rows of a kind from which on they are copied in."""
AT_ONCE = 2_000
"""Rows that are made into text together."""
NULL = r"\N"
ESCAPED = str.maketrans({"\\": r"\\", "\n": r"\n", "\r": r"\r", "\t": r"\t"})
"""How COPY's text form writes what isn't a value there, and what would end one (PostgreSQL, COPY, text format)."""
VARIANT = {f"{n:x}": f"{n & 3 | 8:x}" for n in range(16)}
"""The digit of a key in which its variant stands."""
Changes = Mapping[tuple[str, str], Record | None]


def load_plan(row: PlanRow) -> Plan:
    """The plan as its tables hold it; call inside a transaction that sees one moment."""
    with no_collecting():
        raw = {kind: _cells(row, kind) for kind in KINDS}
        id_of: dict[uuid.UUID | None, str | None] = {cells[0]: cells[1] for found in raw.values() for cells in found}
        return Plan(row.name, {kind: dict(_records(kind, found, id_of)) for kind, found in raw.items()})


def _cells(row: PlanRow, kind: str) -> list[tuple[Any, ...]]:
    """Every row of a kind: its key, its id, then the columns of each field in order."""
    return list(ROWS[kind].objects.filter(plan=row).values_list("key", "rid", *_columns(kind)))


def _columns(kind: str) -> list[str]:
    """The columns of a kind's fields, in their order."""
    return [f"{c}_id" if to else c for name, spec in SPECS[kind].items() for c, to in columns_of(name, spec).items()]


def _records(
    kind: str, found: list[tuple[Any, ...]], id_of: Mapping[uuid.UUID | None, str | None]
) -> Iterator[tuple[str, Record]]:
    names, made = list(SPECS[kind]), KINDS[kind]
    widths = [len(columns_of(name, spec)) for name, spec in SPECS[kind].items()]
    refs = [n for n, spec in enumerate(SPECS[kind].values()) if spec.kind == "ref"]
    lists = [n for n, spec in enumerate(SPECS[kind].values()) if isinstance(spec.default, tuple)]
    wide = max(widths, default=1) > 1
    for _, rid, *cells in found:
        if wide:
            # A reference to records of several kinds has a column for each, and one of them says which.
            left = iter(cells)
            cells = [next((c for c in [next(left) for _ in range(width)] if c is not None), None) for width in widths]
        for n in refs:
            cells[n] = id_of.get(cells[n])
        for n in lists:
            cells[n] = tuple(cells[n])
        yield rid, made(id=rid, **dict(zip(names, cells, strict=True)))


def write_changes(row: PlanRow, plan: Plan, changes: Changes) -> None:
    """Bring the tables to the plan for the changed records (None: gone); a draft has none."""
    if row.of_id is not None:
        return
    with no_collecting():
        _write(row, plan, changes)


def _write(row: PlanRow, plan: Plan, changes: Changes) -> None:
    gone: dict[str, list[str]] = {}
    kept: dict[str, list[Record]] = {}
    keys = _Keys(row.id)
    for (kind, id), record in changes.items():
        if record is None:
            gone.setdefault(kind, []).append(keys[id])
        else:
            kept.setdefault(kind, []).append(record)
    for kind, of in gone.items():
        ROWS[kind].objects.filter(key__in=of).delete()
    for kind, records in kept.items():
        if len(records) < MANY:
            _upsert(row, plan, kind, records, keys)
        else:
            _upsert_many(row, plan, kind, records, keys)


def _upsert(row: PlanRow, plan: Plan, kind: str, records: list[Record], keys: _Keys) -> None:
    model = ROWS[kind]
    columns = [field.name for field in model._meta.concrete_fields if not field.primary_key]
    rows = [model(**_values(row, plan, record, keys)) for record in records]
    model.objects.bulk_create(rows, update_conflicts=True, unique_fields=["key"], update_fields=columns)


def _upsert_many(row: PlanRow, plan: Plan, kind: str, records: list[Record], keys: _Keys) -> None:
    """As `_upsert`, by COPY into a table beside it: of very many rows that is a third of the time."""
    quoted = connection.ops.quote_name
    table, beside = quoted(ROWS[kind]._meta.db_table), quoted(f"{ROWS[kind]._meta.db_table}_came")
    with connection.cursor() as cursor:
        cursor.execute(f"CREATE TEMPORARY TABLE {beside} (LIKE {table} INCLUDING DEFAULTS) ON COMMIT DROP")
        names = _copy(cursor, beside, plan, kind, records, row.id, keys)
        changed = ", ".join(f"{name} = EXCLUDED.{name}" for name in names if name != quoted("key"))
        listed = ", ".join(names)
        cursor.execute(
            f"INSERT INTO {table} ({listed}) SELECT {listed} FROM {beside} ON CONFLICT (key) DO UPDATE SET {changed}"
        )
        cursor.execute(f"DROP TABLE {beside}")


def _copy(
    cursor: Any, table: str, plan: Plan, kind: str, records: Iterable[Record], of: uuid.UUID, keys: _Keys
) -> list[str]:
    """Copy records into a table; the names of its columns."""
    names = list(map(connection.ops.quote_name, ["key", "plan_id", "rid", *_columns(kind)]))
    with cursor.copy(f"COPY {table} ({', '.join(names)}) FROM STDIN") as copy:
        rows = iter(records)
        while some := list(islice(rows, AT_ONCE)):
            copy.write(_text(plan, kind, some, of, keys))
    return names


def write_new(row: PlanRow, plan: Plan) -> None:
    """The rows of a plan of which there are none yet, through PostgreSQL's COPY: several times as quick as inserting them."""
    keys = _Keys(row.id)
    with no_collecting(), connection.cursor() as cursor:
        for kind in KINDS:
            if found := plan.of(kind):
                _copy(
                    cursor,
                    connection.ops.quote_name(ROWS[kind]._meta.db_table),
                    plan,
                    kind,
                    found.values(),
                    row.id,
                    keys,
                )


def _text(plan: Plan, kind: str, records: Sequence[Record], of: uuid.UUID, keys: _Keys) -> str:
    """Records of a kind as COPY reads them, a line each, made column by column: most columns hold the same in every row."""
    columns = [[keys[r.id] for r in records], [str(of)] * len(records), [r.id for r in records]]
    for name, spec in SPECS[kind].items():
        values = list(map(attrgetter(name), records))
        if spec.kind != "ref":
            columns.append(_cells_of(values))
        elif len(spec.refs) == 1:
            columns.append([NULL if value is None else keys[value] for value in values])
        else:
            # A reference to records of several kinds has a column for each.
            targets = [plan.of(kind) for kind in spec.refs]
            columns += [[keys[v] if v is not None and v in there else NULL for v in values] for there in targets]
    return "".join(f"{line}\n" for line in map("\t".join, zip(*columns, strict=True)))


def _cells_of(values: list[Any]) -> list[str]:
    """The values of a column as COPY reads them."""
    if len(set(values)) == 1:
        return [_cell(values[0])] * len(values)
    return list(map(_cell, values))


def _cell(value: Any) -> str:
    if isinstance(value, str):
        return value.translate(ESCAPED)
    if value is None:
        return NULL
    # A list goes into a column of JSON; numbers and flags are written alike there and here.
    return json.dumps(value).translate(ESCAPED)


class _Keys(dict[str, str]):
    """The primary keys of a plan's records by their ids, each worked out once."""

    def __init__(self, plan: uuid.UUID) -> None:
        self.plan = plan.bytes

    def __missing__(self, id: str) -> str:
        # As `key_of` does (RFC 9562, version 5), and several times as quick.
        digest = hashlib.sha1(self.plan + id.encode(), usedforsecurity=False).hexdigest()
        made = self[id] = f"{digest[:12]}5{digest[13:16]}{VARIANT[digest[16]]}{digest[17:32]}"
        return made


def _values(row: PlanRow, plan: Plan, record: Record, keys: _Keys) -> dict[str, Any]:
    """What stands in each column of a record's row."""
    values: dict[str, Any] = {"key": keys[record.id], "plan_id": row.pk, "rid": record.id}
    for name, spec in SPECS[record.kind].items():
        value = getattr(record, name)
        if spec.kind != "ref":
            values[name] = plain(value)
            continue
        for column, target in columns_of(name, spec).items():
            inside = value is not None and value in plan.of(str(target))
            values[f"{column}_id"] = keys[value] if inside else None
    return values

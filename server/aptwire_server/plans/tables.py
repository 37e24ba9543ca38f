"""Records to rows and back."""

from __future__ import annotations

import hashlib
import json
import uuid
from collections.abc import Iterable, Mapping, Sequence
from operator import attrgetter
from typing import Any

from aptwire.plan.collecting import no_collecting
from aptwire.plan.fields import Spec, plain
from aptwire.plan.kinds import KINDS, SPECS, Record, made_of
from aptwire.plan.plan import Plan
from django.db import IntegrityError, connection
from django.db.models import UniqueConstraint

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
        return Plan(row.name, {kind: _records(kind, found, id_of) for kind, found in raw.items()})


def _cells(row: PlanRow, kind: str) -> list[tuple[Any, ...]]:
    """Every row of a kind: its key, its id, then the columns of each field in order."""
    columns = [column for name, spec in SPECS[kind].items() for column in _columns(name, spec)]
    return list(ROWS[kind].objects.filter(plan=row).values_list("key", "rid", *columns))


def _columns(name: str, spec: Spec) -> list[str]:
    """The columns of a field, as the database calls them."""
    return [f"{column}_id" if to else column for column, to in columns_of(name, spec).items()]


def _records(
    kind: str, found: list[tuple[Any, ...]], id_of: Mapping[uuid.UUID | None, str | None]
) -> dict[str, Record]:
    if not found:
        return {}
    _, ids, *cells = zip(*found, strict=True)
    columns: dict[str, Sequence[Any]] = {"id": ids}
    left = iter(cells)
    for name, spec in SPECS[kind].items():
        own = [next(left) for _ in columns_of(name, spec)]
        # A reference to records of several kinds has a column for each, and one of them says which.
        values = (
            own[0] if len(own) == 1 else [next((c for c in of if c is not None), None) for of in zip(*own, strict=True)]
        )
        if spec.kind == "ref":
            values = list(map(id_of.get, values))
        elif isinstance(spec.default, tuple):
            values = list(map(tuple, values))
        columns[name] = values
    return dict(zip(ids, made_of(kind, columns), strict=True))


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
    table, beside = _table(kind), quoted(f"{ROWS[kind]._meta.db_table}_came")
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
    """Copy records into a table in which there is nothing of them; the names of its columns."""
    listed = list(records)
    # A column of which no record says anything is empty if it isn't named, and most are.
    fields = {n: s for n, s in SPECS[kind].items() if any(value is not None for value in map(attrgetter(n), listed))}
    names, said = (_named(column for n, s in of.items() for column in _columns(n, s)) for of in (SPECS[kind], fields))
    with cursor.copy(f"COPY {table} ({', '.join(said)}) FROM STDIN") as copy:
        for at in range(0, len(listed), AT_ONCE):
            copy.write(_text(plan, fields, listed[at : at + AT_ONCE], of, keys))
    return names


def _named(columns: Iterable[str]) -> list[str]:
    """The names of columns, those that every table has first, as SQL has them."""
    return list(map(connection.ops.quote_name, ["key", "plan_id", "rid", *columns]))


def write_new(row: PlanRow, plan: Plan) -> None:
    """The rows of a plan of which there are none yet, through PostgreSQL's COPY: several times as quick as inserting them.  Call inside a transaction;
    IntegrityError where they don't hold together."""
    keys = _Keys(row.id)
    kinds = [kind for kind in KINDS if plan.of(kind)]
    with no_collecting(), connection.cursor() as cursor:
        # What holds between rows is asked for each of them at the end, which takes as long as all the rest.  Who may leaves that out, and asks for
        # all together.
        cursor.execute("SELECT has_parameter_privilege('session_replication_role', 'SET')")
        together = cursor.fetchone()[0]
        if together:
            cursor.execute("SET LOCAL session_replication_role = replica")
        for kind in kinds:
            _copy(cursor, _table(kind), plan, kind, plan.of(kind).values(), row.id, keys)
        if together:
            cursor.execute("SET LOCAL session_replication_role = origin")
            for kind in kinds:
                ask_together(cursor, row.id, kind)
        cursor.execute("SET CONSTRAINTS ALL IMMEDIATE")


def ask_together(cursor: Any, of: uuid.UUID, kind: str) -> None:
    """IntegrityError where a row of a plan refers to one that isn't there, or several have what only one may have."""
    quoted, table = connection.ops.quote_name, _table(kind)
    for name, spec in SPECS[kind].items():
        for column, target in columns_of(name, spec).items() if spec.kind == "ref" else ():
            to = quoted(f"{column}_id")
            cursor.execute(
                f"SELECT rid FROM {table} one WHERE plan_id = %s AND {to} IS NOT NULL"
                f" AND NOT EXISTS (SELECT FROM {_table(str(target))} other WHERE other.key = one.{to}) LIMIT 1",
                [of],
            )
            if lost := cursor.fetchone():
                raise IntegrityError(f"{kind} {lost[0]}: its {name} isn’t there")
    column_of = {field.name: quoted(str(field.column)) for field in ROWS[kind]._meta.concrete_fields}
    for once in ROWS[kind]._meta.constraints:
        if isinstance(once, UniqueConstraint) and once.deferrable is not None:
            columns = [column_of[name] for name in once.fields]
            said = " AND ".join(f"{column} IS NOT NULL" for column in columns)
            cursor.execute(
                f"SELECT min(rid) FROM {table} WHERE plan_id = %s AND {said} GROUP BY {', '.join(columns)}"
                f" HAVING count(*) > 1 LIMIT 1",
                [of],
            )
            if twice := cursor.fetchone():
                raise IntegrityError(f"{kind} {twice[0]}: another one has the same {' and '.join(once.fields[1:])}")


def _table(kind: str) -> str:
    return connection.ops.quote_name(ROWS[kind]._meta.db_table)


def _text(plan: Plan, fields: Mapping[str, Spec], records: Sequence[Record], of: uuid.UUID, keys: _Keys) -> str:
    """Some fields of records as COPY reads them, a line each, made column by column: most columns hold the same in every row."""
    columns = [[keys[r.id] for r in records], [str(of)] * len(records), [r.id for r in records]]
    for name, spec in fields.items():
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

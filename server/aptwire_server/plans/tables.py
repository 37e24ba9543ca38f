"""Records to rows and back."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from typing import Any

from aptwire.plan.fields import plain
from aptwire.plan.kinds import KINDS, SPECS, Record
from aptwire.plan.plan import Plan

from aptwire_server.plans.models import ROWS, PlanRow, columns_of, key_of

Changes = Mapping[tuple[str, str], Record | None]


def load_plan(row: PlanRow) -> Plan:
    """The plan as its tables hold it; call inside a transaction that sees one moment."""
    raw = {kind: list(ROWS[kind].objects.filter(plan=row).values()) for kind in KINDS}
    id_of = {item["key"]: item["rid"] for items in raw.values() for item in items}
    records: dict[str, dict[str, Record]] = {}
    for kind, items in raw.items():
        made = records.setdefault(kind, {})
        for item in items:
            values = {name: _value(item, name, kind, id_of) for name in SPECS[kind]}
            made[item["rid"]] = KINDS[kind](id=item["rid"], **values)
    return Plan(row.name, records)


def _value(item: dict[str, Any], name: str, kind: str, id_of: Mapping[uuid.UUID, str]) -> Any:
    spec = SPECS[kind][name]
    if spec.kind == "ref":
        keys = (item[f"{column}_id"] for column in columns_of(name, spec))
        return next((id_of[key] for key in keys if key is not None), None)
    value = item[name]
    return tuple(value) if isinstance(value, list) else value


def write_changes(row: PlanRow, plan: Plan, changes: Changes) -> None:
    """Bring the tables to the plan for the changed records (None: gone)."""
    gone: dict[str, list[uuid.UUID | None]] = {}
    kept: dict[str, list[Any]] = {}
    for (kind, id), record in changes.items():
        if record is None:
            gone.setdefault(kind, []).append(key_of(row.id, id))
        else:
            kept.setdefault(kind, []).append(_row(row, plan, record))
    for kind, keys in gone.items():
        ROWS[kind].objects.filter(key__in=keys).delete()
    for kind, rows in kept.items():
        model = ROWS[kind]
        columns = [field.name for field in model._meta.concrete_fields if not field.primary_key]
        model.objects.bulk_create(
            rows, batch_size=2000, update_conflicts=True, unique_fields=["key"], update_fields=columns
        )


def _row(row: PlanRow, plan: Plan, record: Record) -> Any:
    values: dict[str, Any] = {}
    for name, spec in SPECS[record.kind].items():
        value = getattr(record, name)
        if spec.kind != "ref":
            values[name] = plain(value)
            continue
        for column, target in columns_of(name, spec).items():
            inside = value is not None and value in plan.of(str(target))
            values[f"{column}_id"] = key_of(row.id, value) if inside else None
    return ROWS[record.kind](key=key_of(row.id, record.id), plan=row, rid=record.id, **values)

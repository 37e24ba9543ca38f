"""The plan file: UTF-8 JSON, described in docs/plan-format.md, its schema in docs/plan.schema.json."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator
from functools import cache
from typing import Any

import jsonschema_rs

from aptwire.plan.checks import check_plan, make_record, make_records
from aptwire.plan.collecting import no_collecting
from aptwire.plan.ids import ID_PATTERN
from aptwire.plan.kinds import KINDS, NEEDED, SPECS, Record
from aptwire.plan.older import records_said_now
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.texts import refuse_unfit

FORMAT, VERSION = "aptwire-plan", 1
LARGEST = 512 * 1024 * 1024


def schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of a plan file, made from the record kinds."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Apt Wire plan",
        "type": "object",
        "required": ["format", "version", "name", "records"],
        "additionalProperties": False,
        "properties": {
            "format": {"const": FORMAT},
            "version": {"const": VERSION},
            "name": {"type": "string", "minLength": 1, "maxLength": 80},
            "records": {
                "type": "object",
                "additionalProperties": False,
                "properties": {kind: {"type": "array", "items": {"$ref": f"#/$defs/{kind}"}} for kind in KINDS},
            },
        },
        "$defs": {kind: _kind_schema(kind) for kind in KINDS},
    }


def _kind_schema(kind: str) -> dict[str, Any]:
    cls = KINDS[kind]
    return {
        "title": cls.title,
        "description": (cls.__doc__ or "").strip(),
        "type": "object",
        "required": ["id", *NEEDED[kind]],
        "additionalProperties": False,
        "properties": {
            "id": {"type": "string", "pattern": ID_PATTERN},
            **{name: spec.schema() for name, spec in SPECS[kind].items()},
        },
    }


@cache
def _validator() -> Any:
    return jsonschema_rs.Draft202012Validator(schema())


def read_json(raw: bytes, place: str, largest: int = LARGEST) -> Any:
    """JSON from bytes; PlanError names the place of what can't be read or kept, too large and too deeply nested included."""
    if len(raw) > largest:
        raise PlanError([Problem(f"is {len(raw)} bytes long; {largest} is the most", place=place)])
    try:
        value = json.loads(raw.decode("utf-8-sig"), parse_constant=_no_number)
    except UnicodeDecodeError as error:
        raise PlanError([Problem(f"isn't UTF-8 text: byte {error.start} can't be read", place=place)]) from None
    except json.JSONDecodeError as error:
        where = f"line {error.lineno}, column {error.colno}"
        raise PlanError([Problem(f"isn't JSON: {error.msg} at {where}", place=place)]) from None
    except RecursionError:
        raise PlanError([Problem("is nested too deeply to be read", place=place)]) from None
    except ValueError as error:
        raise PlanError([Problem(f"isn't usable JSON: {error}", place=place)]) from None
    # Only an escape can bring what UTF-8 text can't hold; a large file without one isn't walked through.
    if b"\\u" in raw:
        refuse_unfit(value, place)
    return value


def _no_number(word: str) -> None:
    raise ValueError(f"{word} is no number there (RFC 8259 section 6)")


def read_plan(raw: bytes, place: str = "plan file") -> Plan:
    """A plan from the bytes of a plan file; PlanError lists what is wrong, with record, field and place."""
    with no_collecting():
        return _read(raw, place)


def _read(raw: bytes, place: str) -> Plan:
    data = read_json(raw, place)
    if isinstance(data, dict) and "records" in data:
        data["records"] = records_said_now(data["records"])
    problems = [
        Problem(error.message[:300], place=_spot(place, data, list(error.instance_path)))
        for _, error in zip(range(50), _validator().iter_errors(data), strict=False)
    ]
    if problems:
        raise PlanError(problems)
    records: dict[str, dict[str, Record]] = {}
    for kind, items in data["records"].items():
        made = make_records(kind, items)
        records[kind] = {record.id: record for record in made or ()}
        if made is None or len(records[kind]) < len(made):
            problems += _wrong_in(kind, items, place)
    plan = Plan(data["name"].strip() or "unnamed", records)
    if not problems:
        problems = check_plan(plan)
    if problems:
        raise PlanError(problems)
    return plan


def _wrong_in(kind: str, items: list[Any], place: str) -> Iterator[Problem]:
    """What is wrong with the records of a kind each by itself, or with their ids."""
    known: set[str] = set()
    for number, item in enumerate(items):
        spot = f"{place}: records/{kind}/{number}"
        try:
            id = make_record(kind, item, spot).id
        except PlanError as error:
            yield from error.problems
            continue
        if id in known:
            yield Problem("this id stands twice", kind=kind, id=id, place=spot)
        known.add(id)


def _spot(place: str, data: Any, path: list[Any]) -> str:
    """Where in the file: the path, and the id of the record on it if it has one."""
    spot = f"{place}: {'/'.join(str(part) for part in path) or 'top level'}"
    if len(path) >= 3 and path[0] == "records":
        record = data["records"][path[1]][path[2]]
        if isinstance(record, dict) and isinstance(record.get("id"), str):
            spot += f" (id {record['id'][:60]})"
    return spot


def plan_text(
    plan: Plan, first: int = 0, room: float = math.inf, ids: Callable[[str], list[str]] | None = None
) -> tuple[str, int | None]:
    """The text of a plan file from its record number `first` on, one record a line; and the number with which the rest begins.

    It ends with the line that goes over `room` bytes; all parts in their order are the file, whose end has no rest (None).
    `ids` gives the ids of a kind in order, where somebody has sorted them already.
    """
    kinds = [kind for kind in KINDS if plan.of(kind)]
    head = "".join(f' "{n}": {_line(v)},\n' for n, v in (("format", FORMAT), ("version", VERSION), ("name", plan.name)))
    made = [f'{{\n{head} "records": {{\n'] if first == 0 else []
    number = 0
    for kind in kinds:
        found = ids(kind) if ids is not None else sorted(plan.of(kind))
        last = ",\n" if kind != kinds[-1] else "\n"
        for at in range(max(first - number, 0), len(found)):
            if room <= 0:
                return "".join(made), number + at
            opens = f'  "{kind}": [\n' if at == 0 else ""
            closes = f"\n  ]{last}" if at + 1 == len(found) else ",\n"
            made.append(f"{opens}   {_line(plan.get(kind, found[at]).to_json())}{closes}")
            room -= len(made[-1].encode())
        number += len(found)
    made.append(" }\n}\n")
    return "".join(made), None


_line = json.JSONEncoder(ensure_ascii=False).encode


def write_plan(plan: Plan) -> bytes:
    """The bytes of a plan file that `read_plan` reads back to an equal plan."""
    return plan_text(plan)[0].encode()

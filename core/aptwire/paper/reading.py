"""Sheets that come in: CSV of any usual separator and encoding, and workbooks; and the edit that brings a plan's segments to what a sheet says."""

from __future__ import annotations

import csv
import datetime
import re
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from io import BytesIO, StringIO
from typing import Any

import openpyxl
from openpyxl.utils import get_column_letter
from openpyxl.utils.exceptions import InvalidFileException

from aptwire.plan.checks import make_record
from aptwire.plan.edits import Edit, Operation, Patch, Put
from aptwire.plan.fields import plain
from aptwire.plan.kinds import SPECS, Segment
from aptwire.plan.plan import Plan, PlanError, Problem

MOST_ROWS, MOST_COLUMNS = 100_000, 200
MOST_BYTES = 300 * 1024 * 1024
"""Of a workbook once it is unpacked."""
SEPARATORS = ",;\t|"
DATE = "the date "
"""Before the text of a cell that a spreadsheet holds as a date, as it does with much that looks like one."""


@dataclass(frozen=True)
class Table:
    """A sheet as it came in: texts under a head, `first` the number of the row below the head as people see it there."""

    name: str
    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    first: int

    def place(self, row: int, column: int) -> str:
        """Where a cell is, as people find it."""
        return f"{self.name}, row {self.first + row}, column {get_column_letter(column + 1)} ({self.head[column]})"


def read_table(data: bytes, name: str) -> Table:
    """The first sheet of a file with its head, which is the first row that isn't empty.

    Cells are texts: a formula is the text of it, a date its day, a whole number its digits; what is merged has its value in every cell.  PlanError says what
    can't be read.
    """
    rows = list(_from_workbook(data, name) if data[:4] == b"PK\x03\x04" else _from_text(data, name))
    at = next((n for n, row in enumerate(rows) if any(row)), None)
    if at is None:
        raise PlanError([Problem("the sheet is empty", place=name)])
    if len(rows) - at - 1 > MOST_ROWS:
        raise PlanError([Problem(f"the sheet has {len(rows) - at - 1:,} rows; {MOST_ROWS:,} is the most", place=name)])
    width = max((n + 1 for row in rows for n, cell in enumerate(row) if cell), default=0)
    if width > MOST_COLUMNS:
        raise PlanError([Problem(f"the sheet has {width} columns; {MOST_COLUMNS} is the most", place=name)])
    even = [tuple((*row, *[""] * width)[:width]) for row in rows]
    return Table(name, even[at], tuple(even[at + 1 :]), at + 2)


def _from_text(data: bytes, name: str) -> Iterator[list[str]]:
    text = _decoded(data, name)
    sample = next((line for line in text.splitlines() if line.strip()), "")
    # Within quotes a separator is none.
    bare = re.sub(r'"[^"]*"', "", sample)
    separator = max(SEPARATORS, key=bare.count)
    try:
        for row in csv.reader(StringIO(text, newline=""), delimiter=separator, strict=True):
            yield [cell.strip() for cell in row]
    except csv.Error as error:
        raise PlanError([Problem(f"this is no CSV: {error}", place=name)]) from None


def _decoded(data: bytes, name: str) -> str:
    """The text of a file: UTF-8 or UTF-16 by its mark, else UTF-8 where it is that, else Windows-1252, as spreadsheets of Western Europe write."""
    for mark, encoding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"", "utf-8-sig"), (b"", "cp1252")):
        if data.startswith(mark):
            try:
                text = data.decode(encoding)
            except UnicodeDecodeError:
                continue
            if "\0" in text:
                break
            return text
    raise PlanError([Problem("this is neither a workbook (XLSX) nor text", place=name)])


def _from_workbook(data: bytes, name: str) -> Iterator[list[str]]:
    try:
        with zipfile.ZipFile(BytesIO(data)) as packed:
            size = sum(part.file_size for part in packed.infolist())
        if size > MOST_BYTES:
            raise PlanError(
                [Problem(f"the workbook has {size:,} bytes unpacked; {MOST_BYTES:,} is the most", place=name)]
            )
        book = openpyxl.load_workbook(BytesIO(data))
    except (zipfile.BadZipFile, InvalidFileException, KeyError, ValueError, OSError, EOFError, SyntaxError) as error:
        raise PlanError([Problem(f"this workbook can’t be read: {error}", place=name)]) from None
    sheet = next((page for page in book.worksheets if page.sheet_state == "visible"), None)
    if sheet is None:
        raise PlanError([Problem("the workbook has no sheet", place=name)])
    merged = {
        (row, column): sheet.cell(area.min_row, area.min_col).value
        for area in sheet.merged_cells.ranges
        for row in range(area.min_row, area.max_row + 1)
        for column in range(area.min_col, area.max_col + 1)
    }
    for r, row in enumerate(sheet.iter_rows(), 1):
        yield [_cell(merged.get((r, c), cell.value)) for c, cell in enumerate(row, 1)]


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    if isinstance(value, datetime.datetime):
        return DATE + value.date().isoformat()
    if isinstance(value, (datetime.date, datetime.time)):
        return DATE + value.isoformat()
    return str(value).strip()


CALLED: dict[str, tuple[str, ...]] = {
    "name": ("segment", "name", "vlan name", "segment name", "network name", "description"),
    "role": ("role", "use", "purpose", "zone", "type"),
    "vid": ("vid", "vlan", "vlan id", "vlanid", "tag", "id"),
    "vni": ("vni",),
    "subnets": ("subnets", "subnet", "network", "prefix", "cidr", "range", "ipv4", "ip network"),
    "gateways": ("gateways", "gateway", "gw", "default gateway", "router"),
    "mtu": ("mtu",),
}
"""What the columns of a segment sheet are usually called, the likeliest first."""


def columns(table: Table, said: Mapping[str, str] | None = None) -> dict[str, int]:
    """Which column (from 0) holds which field of a segment: as `said` (field to title), else by their usual titles; PlanError where a title isn't there, or no
    column is the name."""
    titles = [" ".join(title.casefold().replace("_", " ").split()) for title in table.head]
    found: dict[str, int] = {}
    problems: list[Problem] = []
    for field, title in (said or {}).items():
        if field not in CALLED:
            problems.append(
                Problem(f"a segment sheet has no “{field[:40]}”; there are {', '.join(CALLED)}", place=table.name)
            )
        elif title not in table.head:
            problems.append(Problem(f"no column is called “{title[:60]}”", field=field, place=table.name))
        else:
            found[field] = table.head.index(title)
    for field, names in CALLED.items():
        if field not in found:
            free = [titles.index(name) for name in names if name in titles and titles.index(name) not in found.values()]
            if free:
                found[field] = free[0]
    if "name" not in found and not problems:
        heads = ", ".join(f"“{title}”" for title in table.head if title)
        problems.append(Problem(f"no column is the segments’ name; the sheet has {heads}", place=table.name))
    if problems:
        raise PlanError(problems)
    return found


def take_segments(plan: Plan, table: Table, said: Mapping[str, str] | None = None) -> Edit:
    """The edit by which the plan says of its segments what a sheet says: rows that name a segment change it, others make one.  An empty cell leaves what is
    there; segments that the sheet doesn't name stay.

    PlanError names every cell that can't be used by row and column; nothing is taken then.
    """
    at = columns(table, said)
    made: list[Operation] = []
    problems: list[Problem] = []
    by_name = {segment.name: segment for segment in plan.all(Segment)}
    seen: dict[str, int] = {}
    for n, row in enumerate(table.rows):
        if not any(row[column] for column in at.values()):
            continue
        values, wrong = _values(table, n, row, at)
        problems += wrong
        name = values.get("name")
        if name is None:
            if not wrong:
                problems.append(
                    Problem("a segment needs a name", kind="segment", field="name", place=table.place(n, at["name"]))
                )
            continue
        if name in seen:
            text = f"“{name}” stands in row {table.first + seen[name]} already"
            problems.append(Problem(text, kind="segment", field="name", place=table.place(n, at["name"])))
            continue
        seen[name] = n
        if not wrong:
            made += _taken(plan, by_name.get(name), values)
    if problems:
        raise PlanError(problems)
    return tuple(made)


def _values(table: Table, n: int, row: Sequence[str], at: Mapping[str, int]) -> tuple[dict[str, Any], list[Problem]]:
    """What a row says of a segment, and what of it can't be used."""
    values: dict[str, Any] = {}
    wrong: list[Problem] = []
    for field, column in at.items():
        text = row[column]
        if not text:
            continue
        spec = SPECS["segment"][field]
        try:
            if text.startswith(DATE):
                raise ValueError(f"a date, {text.removeprefix(DATE)}, is nothing that a segment says")
            if spec.kind in ("vid", "number"):
                values[field] = spec.take(_number(text))
            elif spec.kind in ("subnets", "ips"):
                values[field] = plain(spec.take([part for part in re.split(r"[,;\s]+", text) if part]))
            else:
                values[field] = spec.take(" ".join(text.split()))
        except ValueError as error:
            wrong.append(Problem(str(error), kind="segment", field=field, place=table.place(n, column)))
    return values, wrong


def _number(text: str) -> int:
    """A number as people write one in a sheet: 110, 1,500, VLAN 110."""
    found = re.fullmatch(r"(?:vlan|vid|vni)?\s*(\d{1,3}(?:[,’']\d{3})*|\d+)(?:\.0+)?", text.strip(), re.IGNORECASE)
    if found is None:
        raise ValueError(f"“{text[:40]}” is no whole number")
    return int(re.sub(r"\D", "", found[1]))


def _taken(plan: Plan, own: Segment | None, values: Mapping[str, Any]) -> Iterator[Operation]:
    if own is None:
        yield Put(make_record("segment", {"id": plan.fresh_id(f"segment-{values['name']}"), **values}))
        return
    # One of the two says how the segment is told apart.
    other = {"vid": "vni", "vni": "vid"}
    more = {other[field]: None for field in values if field in other and other[field] not in values}
    changed = {f: v for f, v in {**values, **more}.items() if plain(getattr(own, f)) != v}
    if changed:
        yield Patch("segment", own.id, changed)

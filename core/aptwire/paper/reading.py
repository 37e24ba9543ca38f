"""Sheets that come in: CSV of any usual separator and encoding, and workbooks; what they say is brought into a plan by `taking.py`."""

from __future__ import annotations

import csv
import datetime
import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from io import BytesIO, StringIO
from typing import Any

import openpyxl
from openpyxl.utils import get_column_letter
from openpyxl.utils.exceptions import InvalidFileException

from aptwire.plan.plan import PlanError, Problem

MOST_ROWS, MOST_COLUMNS = 100_000, 200
MOST_BYTES = 300 * 1024 * 1024
"""Of a workbook once it is unpacked."""
SEPARATORS = ",;\t|"
DATE = "the date "
"""Before the text of a cell that a spreadsheet holds as a date, as it does with much that looks like one."""


@dataclass(frozen=True)
class Table:
    """A sheet as it came in: texts under a head, and where each row is as people see it there: `origins` the name of its sheet, and its number."""

    name: str
    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    origins: tuple[tuple[str, int], ...]

    def place(self, row: int, column: int) -> str:
        """Where a cell is, as people find it."""
        return f"{self.row(row)}, column {get_column_letter(column + 1)} ({self.head[column]})"

    def row(self, row: int) -> str:
        """Where a row is."""
        name, number = self.origins[row]
        return f"{name}, row {number}"


def read_table(data: bytes, name: str) -> Table:
    """The sheets of a file that have the head of its first one, which is the first row there that isn't empty.

    Cells are texts: a formula is the text of it, a date its day, a whole number its digits; what is merged has its value in every cell.  PlanError says what
    can't be read.
    """
    sheets = _from_workbook(data, name) if data[:4] == b"PK\x03\x04" else [(name, list(_from_text(data, name)))]
    head: tuple[str, ...] = ()
    rows: list[tuple[str, ...]] = []
    origins: list[tuple[str, int]] = []
    for title, found in sheets:
        at = next((n for n, row in enumerate(found) if any(row)), None)
        if at is None:
            continue
        width = max((n + 1 for row in found for n, cell in enumerate(row) if cell), default=0)
        if width > MOST_COLUMNS:
            raise PlanError([Problem(f"the sheet has {width} columns; {MOST_COLUMNS} is the most", place=title)])
        even = [tuple((*row, *[""] * width)[:width]) for row in found]
        head = head or even[at]
        if even[at] == head:
            rows += even[at + 1 :]
            origins += [(title, at + 2 + n) for n in range(len(even) - at - 1)]
    if not head:
        raise PlanError([Problem("the sheet is empty", place=name)])
    if len(rows) > MOST_ROWS:
        raise PlanError([Problem(f"the sheet has {len(rows):,} rows; {MOST_ROWS:,} is the most", place=name)])
    return Table(name, head, tuple(rows), tuple(origins))


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


def _from_workbook(data: bytes, name: str) -> list[tuple[str, list[list[str]]]]:
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
    pages = [page for page in book.worksheets if page.sheet_state == "visible"]
    if not pages:
        raise PlanError([Problem("the workbook has no sheet", place=name)])
    return [(name if len(pages) == 1 else f"{name}, sheet {page.title}", list(_page(page))) for page in pages]


def _page(page: Any) -> Iterator[list[str]]:
    merged = {
        (row, column): page.cell(area.min_row, area.min_col).value
        for area in page.merged_cells.ranges
        for row in range(area.min_row, area.max_row + 1)
        for column in range(area.min_col, area.max_col + 1)
    }
    for r, row in enumerate(page.iter_rows(), 1):
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

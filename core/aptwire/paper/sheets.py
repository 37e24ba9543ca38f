"""Sheets: rows of plain values under a head, made of a plan, and written as CSV (RFC 4180) or as a workbook (ECMA-376, OOXML)."""

from __future__ import annotations

import csv
import datetime
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from io import BytesIO, StringIO

import openpyxl
from openpyxl.cell import WriteOnlyCell
from openpyxl.styles import Font
from openpyxl.utils import get_column_letter

Cell = str | int | None

_FORMULA = re.compile(r"^[=+\-@\t\r]")
_UNFIT = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")
MOST_WIDE = 60


@dataclass(frozen=True)
class Sheet:
    """A head, and rows of as many cells; `name` of at most 31 characters, as workbooks allow."""

    name: str
    head: tuple[str, ...]
    rows: tuple[tuple[Cell, ...], ...]


def to_csv(sheet: Sheet) -> str:
    """The sheet as CSV with CRLF.  A text that a spreadsheet would take for a formula gets an apostrophe before it."""
    written = StringIO()
    writer = csv.writer(written, lineterminator="\r\n")
    writer.writerow(sheet.head)
    writer.writerows([_harmless(cell) for cell in row] for row in sheet.rows)
    return written.getvalue()


def _harmless(cell: Cell) -> Cell:
    return f"'{cell}" if isinstance(cell, str) and _FORMULA.match(cell) else cell


def to_xlsx(sheets: Sequence[Sheet]) -> bytes:
    """The sheets as one workbook: texts are texts whatever they begin with, numbers numbers, the head stays in sight."""
    book = openpyxl.Workbook(write_only=True)
    # The same plan makes the same bytes.
    book.properties.created = book.properties.modified = datetime.datetime(2026, 1, 1)
    for sheet in sheets:
        page = book.create_sheet(sheet.name)
        page.freeze_panes = "A2"
        for n, width in enumerate(_widths(sheet), 1):
            page.column_dimensions[get_column_letter(n)].width = width
        head = [WriteOnlyCell(page, text) for text in sheet.head]
        for cell in head:
            cell.font = Font(bold=True)
        page.append(head)
        for row in sheet.rows:
            page.append([_text(page, cell) if isinstance(cell, str) else cell for cell in row])
    written = BytesIO()
    book.save(written)
    return written.getvalue()


def _text(page: object, cell: str) -> WriteOnlyCell:
    made = WriteOnlyCell(page, _UNFIT.sub("", cell)[:32_767])
    made.data_type = "s"
    return made


def _widths(sheet: Sheet) -> Iterable[int]:
    for n, title in enumerate(sheet.head):
        longest = max((len(str(row[n])) for row in sheet.rows[:500] if row[n] is not None), default=0)
        yield min(MOST_WIDE, max(len(title), longest) + 2)

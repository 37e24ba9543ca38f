"""Sheets and the report: they hold all that the plan holds, spreadsheets read them back, and nothing in them runs."""

from __future__ import annotations

import csv
import datetime
import io
import re
import tempfile
import unittest
from html.parser import HTMLParser
from pathlib import Path
from xml.etree import ElementTree

import openpyxl
from aptwire.cli import main
from aptwire.judge.alone import alone
from aptwire.judge.findings import everything
from aptwire.judge.verdicts import judge
from aptwire.paper.decks import decks_svg
from aptwire.paper.drawing import strand_svg
from aptwire.paper.handover import handover
from aptwire.paper.sheets import Sheet, to_csv, to_xlsx
from aptwire.paper.tables import SHEETS, joined, landing
from aptwire.plan.edits import Patch, apply_edit
from aptwire.plan.plan import Plan
from aptwire.report import landings
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import ROOT, demo_plan, random_plan

TEXT = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\r"), max_size=20)
CELL = st.one_of(st.none(), st.integers(-(10**9), 10**9), TEXT, TEXT.map(lambda t: "=" + t))


class Reader(HTMLParser):
    """The texts of a page, its elements, and the tables as rows of cells."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.tags: set[str] = set()
        self.rows: list[list[str]] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.add(tag)
        if tag == "tr":
            self.rows.append([])
        elif tag in ("td", "th"):
            self.rows[-1].append("")
        if tag not in ("meta", "br"):
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open and self.open[-1] == tag, (tag, self.open)
        self.open.pop()

    def handle_data(self, data: str) -> None:
        if self.open and self.open[-1] in ("td", "th"):
            self.rows[-1][-1] += data


def read_report(plan: Plan) -> Reader:
    reader = Reader()
    reader.feed("".join(handover(judge(plan), datetime.date(2027, 1, 10))))
    reader.close()
    assert reader.open == [], "every element is closed"
    return reader


class SheetsTest(unittest.TestCase):
    @settings(max_examples=100)
    @given(st.lists(st.lists(CELL, min_size=3, max_size=3).map(tuple), max_size=6))
    def test_what_is_written_is_read_back_and_no_cell_is_a_formula(
        self, rows: list[tuple[str | int | None, ...]]
    ) -> None:
        rows = [(n, *row[1:]) for n, row in enumerate(rows)]
        sheet = Sheet("x", ("a", "b", "c"), tuple(rows))
        read = list(csv.reader(io.StringIO(to_csv(sheet), newline="")))
        self.assertEqual(read[0], ["a", "b", "c"])
        for row, cells in zip(rows, read[1:], strict=True):
            for value, cell in zip(row, cells, strict=True):
                text = "" if value is None else str(value)
                self.assertIn(cell, (text, f"'{text}"))
                self.assertFalse(isinstance(value, str) and re.match(r"[=+\-@\t]", cell), cell)
        page = openpyxl.load_workbook(io.BytesIO(to_xlsx([sheet])))["x"]
        for row, cells in zip(rows, page.iter_rows(min_row=2, max_col=3), strict=True):
            for value, cell in zip(row, cells, strict=True):
                self.assertNotEqual(cell.data_type, "f")
                if isinstance(value, int):
                    self.assertEqual(cell.value, value)

    def test_the_sheets_of_random_plans_hold_each_record_once(self) -> None:
        for seed in range(25):
            plan = random_plan(seed, rich=True, odd=seed % 2 == 1)
            judgement = judge(plan)
            made = {name: joined(make(judgement)) for name, make in SHEETS.items()}
            for sheet in made.values():
                self.assertTrue(all(len(row) == len(sheet.head) for row in sheet.rows), sheet.name)
            self.assertEqual(len(made["segments"].rows), len(plan.of("segment")))
            self.assertEqual(len(made["ports"].rows), len(plan.of("fabric_port")))
            self.assertEqual(len(made["guests"].rows), len(plan.of("adapter")))
            stations = {p.port for p in plan.all("station_port")}
            self.assertEqual(len(made["wiring"].rows), len(plan.of("cable")) + len(stations))
            said = [(e["key"], tag["verdict"]) for e in landings(judgement) for tag in e["tags"]]
            lands = [(row[2], str(row[7]).removeprefix("idle, ")) for row in made["landing"].rows]
            self.assertEqual(sorted(lands), sorted(said))
            self.assertEqual(len(made["meetings"].rows), len(plan.of("segment")))
            self.assertEqual(len(made["moves"].rows), len(plan.of("guest")))

    def test_a_port_sheet_says_what_the_port_carries(self) -> None:
        plan = demo_plan()
        sheet = next(s for s in SHEETS["ports"](judge(plan)) if s.name == "quay-b")
        row = dict(zip(sheet.head, next(r for r in sheet.rows if r[1] == "p2"), strict=True))
        self.assertEqual(
            (row["mode"], row["tagged VIDs"], row["leads to"]),
            ("trunk", "110, 120, 210, 220, 240, 300, 410, 420", "nic1 of fulmar"),
        )
        shut = dict(zip(sheet.head, next(r for r in sheet.rows if r[1] == "x47"), strict=True))
        self.assertEqual((shut["state"], shut["untagged VID"], shut["leads to"]), ("shut", "110", ""))


class DrawingTest(unittest.TestCase):
    def test_every_line_of_a_strand_is_drawn_once_and_names_are_text(self) -> None:
        for seed in range(30):
            plan = random_plan(seed, rich=True)
            plan, _ = apply_edit(plan, [Patch("segment", "seg-10", {"name": '<b> & "x"'})])
            judgement = judge(plan)
            found = alone(judgement, plan.get("segment", "seg-10"))
            root = ElementTree.fromstring(strand_svg(plan, found, plan.get("segment", "seg-10").name))
            said = [node.text or "" for node in root.iter("{http://www.w3.org/2000/svg}text")]
            wanted = sum(1 + len(k.breaks) + len(k.ears) for k in found.knots) + len(found.beyond)
            self.assertEqual(len(said), max(1, wanted))
            for knot in found.knots:
                for broken in knot.breaks:
                    self.assertIn(f"✕ {broken.reason}", said)
            self.assertEqual(root.find("{http://www.w3.org/2000/svg}title").text, '<b> & "x"')

    def test_a_long_one_tells_what_is_left_out(self) -> None:
        plan = demo_plan()
        found = alone(judge(plan), plan.get("segment", "segment-ticketing"))
        self.assertIn("more lines", strand_svg(plan, found, "ticketing", 10))
        self.assertNotIn("more lines", strand_svg(plan, found, "ticketing"))

    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans())
    def test_hosts_are_drawn_whole_within_their_paper(self, seed: int, rich: bool, odd: bool) -> None:
        """Each endpoint has its mark, each switch and NIC its name, and nothing lies beyond the drawing."""
        plan = random_plan(seed, rich, odd)
        first = next(iter(plan.all("guest")), None)
        if first is not None:
            plan, _ = apply_edit(plan, [Patch("guest", first.id, {"name": '<b> & "x"' * 8})])
        judgement = judge(plan)
        hosts = list(plan.all("host"))
        root = ElementTree.fromstring(decks_svg(judgement, hosts, "<all> hosts"))
        marks = [node.text or "" for node in root.iter(f"{SVG}title")][1:]
        known = {e["id"]: "idle" if e["idle"] else e["verdict"] for e in landings(judgement)}
        self.assertEqual(sorted(marks), sorted(known.values()))
        texts = [node.text or "" for node in root.iter(f"{SVG}text")]
        for kind in ("host", "virtual_switch", "nic"):
            missing = {record.name for record in plan.all(kind)} - {text for text in texts if not text.endswith("…")}
            self.assertTrue(all(len(name) > 8 for name in missing), missing)
        width, height = (float(root.get(name, "0")) for name in ("width", "height"))
        for box in root.iter(f"{SVG}rect"):
            if box.get("rx"):
                x, y, w, h = (float(box.get(name, "0")) for name in ("x", "y", "width", "height"))
                self.assertTrue(0 <= x <= x + w <= width and 0 <= y <= y + h <= height)


SVG = "{http://www.w3.org/2000/svg}"


class ReportTest(unittest.TestCase):
    def test_it_holds_segments_landings_findings_rules_and_patterns(self) -> None:
        plan = demo_plan()
        judgement = judge(plan)
        text = "".join(handover(judgement, datetime.date(2027, 1, 10)))
        reader = read_report(plan)
        cells = {cell for row in reader.rows for cell in row}
        self.assertLessEqual({s.name for s in plan.all("segment")}, cells)
        landed = {tuple(row[:2]) for row in reader.rows if len(row) > 6}
        said = {(row[0], row[1]) for row in landing(judgement).rows}
        self.assertLessEqual(said, landed)
        for finding in everything(judgement):
            self.assertIn(finding.title, text)
        self.assertIn("petrel", cells)
        self.assertIn("on it", cells)
        self.assertTrue(reader.tags.isdisjoint({"script", "img", "link", "iframe"}), "it needs nothing else")

    def test_names_are_text_and_an_empty_plan_says_so(self) -> None:
        plan, _ = apply_edit(demo_plan(), (Patch("host", "fulmar", {"name": "<script>alert(1)</script>"}),))
        reader = read_report(plan.named("<b>Brackwater</b> & sons"))
        self.assertTrue(reader.tags.isdisjoint({"script"}))
        self.assertIn("<script>alert(1)</script>", {cell for row in reader.rows for cell in row})
        empty = "".join(handover(judge(Plan("nothing")), datetime.date(2027, 1, 10)))
        for said in ("nothing in it yet", "There is no segment.", "There is no cable.", "None is left."):
            self.assertIn(said, empty)

    def test_the_command_line_writes_them(self) -> None:
        demo = str(ROOT / "demo" / "brackwater.json")
        run = CliRunner()
        said = run.invoke(main, ["ledger", demo])
        self.assertEqual(
            (said.exit_code, said.output.splitlines()[1].split(",")[:3]), (0, ["management", "management", "110"])
        )
        self.assertEqual(run.invoke(main, ["ledger", demo, "--xlsx"]).exit_code, 2)
        with tempfile.TemporaryDirectory() as folder:
            book, page = Path(folder, "x.xlsx"), Path(folder, "r.html")
            self.assertEqual(
                run.invoke(main, ["ledger", demo, "--of", "ports", "--xlsx", "-o", str(book)]).exit_code, 0
            )
            self.assertEqual(len(openpyxl.load_workbook(book).sheetnames), 4)
            self.assertEqual(run.invoke(main, ["report", demo, "-o", str(page)]).exit_code, 0)
            self.assertTrue(page.read_text().startswith("<!doctype html>"))
            self.assertEqual(run.invoke(main, ["report", demo, "-o", f"{folder}/no/such/place"]).exit_code, 2)
            drawn = Path(folder, "d.svg")
            self.assertEqual(run.invoke(main, ["decks", demo, "petrel", "--svg", str(drawn)]).exit_code, 0)
            self.assertIn(">petrel<", drawn.read_text())
            self.assertNotIn(">gannet<", drawn.read_text())
            wrong = run.invoke(main, ["decks", demo, "nobody", "--svg", str(drawn)])
            self.assertEqual((wrong.exit_code, wrong.stderr), (2, "error: there is no host “nobody”\n"))

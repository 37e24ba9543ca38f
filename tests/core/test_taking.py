"""Sheets that come in: what we write is read back, what others write is understood, and what can't be used is told by row and column."""

from __future__ import annotations

import datetime
import io
import tempfile
import unittest
from pathlib import Path

import openpyxl
from aptwire.cli import main
from aptwire.judge.verdicts import judge
from aptwire.paper.reading import Table, read_table
from aptwire.paper.sheets import to_csv, to_xlsx
from aptwire.paper.tables import all_ports, guests, joined, ledger, wiring
from aptwire.paper.taking import take
from aptwire.plan.edits import Drop, Edit, Patch, apply_edit
from aptwire.plan.file import read_plan
from aptwire.plan.plan import Plan, PlanError
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import ROOT, demo_plan, random_plan

CSV = (
    "Name;VLAN;Subnet;Gateway\nticketing;210;10.65.10.0/24;10.65.10.1\nlounge;VLAN 250;10.65.50.0/24, 2001:db8::/64;\n"
)


def take_segments(plan: Plan, table: Table, said: dict[str, str] | None = None) -> Edit:
    return take(plan, "segments", table, said)


class RoundTest(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.integers(0, 10**9), st.booleans())
    def test_a_ledger_that_is_taken_back_changes_nothing_and_makes_the_same_anew(self, seed: int, rich: bool) -> None:
        plan = random_plan(seed, rich)
        sheet = ledger(judge(plan))
        for data in (to_csv(sheet).encode(), to_xlsx([sheet])):
            table = read_table(data, "ledger")
            self.assertEqual(take_segments(plan, table), ())
            anew, _ = apply_edit(Plan("empty"), take_segments(Plan("empty"), table))
            for segment in plan.all("segment"):
                twin = next(s for s in anew.all("segment") if s.name == segment.name)
                for field in ("role", "vid", "vni", "subnets", "gateways", "mtu"):
                    self.assertEqual(getattr(twin, field), getattr(segment, field))

    @settings(max_examples=60)
    @given(st.integers(0, 10**9), st.booleans(), st.booleans())
    def test_every_sheet_that_is_taken_back_changes_nothing(self, seed: int, rich: bool, odd: bool) -> None:
        plan = random_plan(seed, rich, odd)
        for sort, sheets in (("guests", [guests(plan)]), ("ports", all_ports(plan)), ("cables", [wiring(plan)])):
            for data in (to_csv(joined(sheets)).encode(), to_xlsx(sheets or [joined(sheets)])):
                self.assertEqual(take(plan, sort, read_table(data, sort)), (), sort)

    @settings(max_examples=40)
    @given(st.integers(0, 10**9), st.booleans())
    def test_notes_owners_labels_and_panels_go_out_and_come_back(self, seed: int, rich: bool) -> None:
        """What is said of records in a plan comes by its sheets into the same plan without it."""
        plan = random_plan(seed, rich)
        kinds = ("segment", "guest", "fabric_port", "cable")
        noted, _ = apply_edit(
            plan,
            [
                Patch(
                    record.kind,
                    record.id,
                    {
                        "note": f"note, {n}; “{record.id}”",
                        "owner": f"owner {n % 3}",
                        **({"label": f"K-{n}", "places": [f"A {n}", f"B {n}"]} if record.kind == "cable" else {}),
                    },
                )
                for n, record in enumerate(r for kind in kinds for r in plan.all(kind))
            ],
        )
        again = plan
        for sort, sheets in (
            ("segments", [ledger(judge(noted))]),
            ("guests", [guests(noted)]),
            ("ports", all_ports(noted)),
            ("cables", [wiring(noted)]),
        ):
            table = read_table(to_csv(joined(sheets)).encode(), sort)
            again, _ = apply_edit(again, take(again, sort, table))
        # A guest without an adapter stands in no sheet.
        adapted = {adapter.guest for adapter in plan.all("adapter")}
        for kind in kinds:
            for id, record in noted.of(kind).items():
                if kind != "guest" or id in adapted:
                    self.assertEqual(again.of(kind)[id], record)

    def test_what_was_taken_away_comes_back_from_its_sheet(self) -> None:
        plan = demo_plan()
        cables, listed = wiring(plan), guests(plan)
        bare, _ = apply_edit(plan, [Drop("cable", cable.id) for cable in plan.all("cable")])
        again, _ = apply_edit(bare, take(bare, "cables", read_table(to_csv(cables).encode(), "wiring")))
        self.assertEqual(wiring(again), cables)
        self.assertEqual(judge(again).verdicts(), judge(plan).verdicts())
        row = next(row for row in listed.rows if row[1] == "ticketing-web-2")
        adapter = next(a for a in plan.all("adapter") if a.name == row[3])
        less, _ = apply_edit(plan, [Drop("adapter", adapter.id), Drop("guest", adapter.guest)])
        back, _ = apply_edit(less, take(less, "guests", read_table(to_csv(listed).encode(), "guests")))
        self.assertEqual(guests(back), listed)

    def test_new_guests_ports_and_cables_from_other_people_s_sheets(self) -> None:
        plan = demo_plan()

        def taken(sort: str, text: str, plan: Plan = plan) -> Plan:
            return apply_edit(plan, take(plan, sort, read_table(text.encode(), "s.csv")))[0]

        after = taken("guests", "Server,Machine,Port group,IP\ngannet,lounge-1,ticketing,10.65.10.77/24\n")
        made = next(a for a in after.all("adapter") if a.name == "tap-lounge-1")
        self.assertEqual((made.belongs, judge(after).verdicts()[made.id]), ("segment-ticketing", "home"))
        after = taken("ports", "Switch;Port;Allowed;Native VLAN;State\nquay-a;p40;110 210;;shut\nquay-a;p41;;130;\n")
        found = {p.name: p for p in after.where("fabric_port", "switch", "quay-a")}
        self.assertEqual((found["p40"].mode, found["p40"].allowed, found["p40"].enabled), ("trunk", "110, 210", False))
        self.assertEqual((found["p41"].mode, found["p41"].vid), ("access", 130))
        # A NIC that isn't there is made; an end that is plugged in elsewhere comes out there.
        after = taken("cables", "Host;NIC;Switch;Switch port\ngannet;nic9;quay-a;p41\nfulmar;nic0;quay-a;p40\n", after)
        ends = {(c.a, c.b) for c in after.all("cable")}
        self.assertLessEqual({("gannet/nic9", found["p41"].id), ("fulmar/nic0", found["p40"].id)}, ends)
        self.assertNotIn(("fulmar/nic0", "quay-a/p2"), ends)

    def test_an_empty_cell_of_a_port_leaves_what_is_there(self) -> None:
        plan, _ = apply_edit(
            demo_plan(),
            [
                Patch("fabric_port", "quay-a/p2", {"native": 230}),
                Patch(
                    "fabric_port",
                    "quay-a/p1",
                    {
                        "mode": "standard",
                        "allowed": None,
                        "members": "110, 120, 210",
                        "untagged": "110, 120",
                        "pvid": 110,
                    },
                ),
            ],
        )
        text = "Switch,Port,Mode,Tagged,Untagged\nquay-a,p2,,110 120,\nquay-a,p1,,220,\nquay-b,p2,access,,110\n"
        after, _ = apply_edit(plan, take(plan, "ports", read_table(text.encode(), "s.csv")))
        one, two, other = (after.get("fabric_port", id) for id in ("quay-a/p1", "quay-a/p2", "quay-b/p2"))
        self.assertEqual((two.mode, two.allowed, two.native), ("trunk", "110, 120", 230))
        self.assertEqual((one.members, one.untagged, one.pvid), ("110, 120, 220", "110, 120", 110))
        self.assertEqual((other.mode, other.vid, other.allowed), ("access", 110, None))

    def test_a_new_nic_that_is_cabled_twice_is_told(self) -> None:
        text = "device a,port a,device b,port b\ngannet,nic9,quay-a,p1\ngannet,nic9,quay-b,x47\n"
        with self.assertRaises(PlanError) as caught:
            take(demo_plan(), "cables", read_table(text.encode(), "s.csv"))
        self.assertIn(
            "s.csv, row 3, column B (port a): cable, field port_a: gannet nic9 stands in row 2 already",
            str(caught.exception),
        )

    def test_cells_of_every_sort_that_cannot_be_used_are_told(self) -> None:
        for sort, text, said in (
            ("guests", "host,guest\nnowhere,a\n", "there is no host “nowhere”"),
            ("guests", "host,guest,port group\ngannet,a,nix\n", "gannet has no port group “nix”"),
            ("guests", "host,guest,running\ngannet,a,maybe\n", "“maybe” is none of on, off"),
            ("guests", "host,guest\ngannet,a\nfulmar,a\n", "a is on gannet in a row above"),
            ("guests", "host,guest,adapter\ngannet,a,t\ngannet,a,t\n", "t of a stands in row 2 already"),
            ("ports", "switch,port,mode\nquay-a,p1,hybrid\n", "“hybrid” is none of access, trunk"),
            ("ports", "switch,port,mode\nquay-a,p99,access\n", "an access port needs the VID"),
            ("ports", "switch,port,tagged\nquay-a,p1,110-5000\n", "VID 5000 is outside"),
            ("cables", "device a,port a,device b,port b\ngannet,nic0,quay-a,p99\n", "quay-a has no port “p99”"),
            (
                "cables",
                "device a,port a,device b,port b\ngannet,nic0,nowhere,p1\n",
                "no host or fabric switch “nowhere”",
            ),
            ("cables", "device a,port a,device b,port b\ngannet,,quay-a,p1\n", "a cable needs a port a"),
        ):
            with self.assertRaises(PlanError, msg=text) as caught:
                take(demo_plan(), sort, read_table(text.encode(), "s.csv"))
            self.assertIn(said, str(caught.exception))
            self.assertIn("s.csv, row ", str(caught.exception))

    def test_other_people_s_sheets(self) -> None:
        plan = demo_plan()
        for data in (
            CSV.encode(),
            CSV.encode("utf-8-sig"),
            CSV.encode("utf-16"),
            CSV.replace(";", "\t").encode(),
            ("\n\n" + CSV.replace("lounge", "Salon d’été")).encode("cp1252"),
        ):
            after, back = apply_edit(plan, take_segments(plan, read_table(data, "s.csv")))
            made = [s for s in after.all("segment") if s.id not in plan.of("segment")]
            self.assertEqual([(s.vid, s.subnets) for s in made], [(250, ("10.65.50.0/24", "2001:db8::/64"))])
            self.assertIn(made[0].name, ("lounge", "Salon d’été"))
            self.assertEqual(apply_edit(after, back)[0], plan)

    def test_a_column_of_another_title_is_said(self) -> None:
        data = CSV.replace("Name", "Bezeichnung").replace("VLAN;", "Kennung;").encode()
        with self.assertRaises(PlanError) as caught:
            take_segments(demo_plan(), read_table(data, "s.csv"))
        self.assertIn("no column is the segments’ name; the sheet has “Bezeichnung”, “Kennung”", str(caught.exception))
        edit = take_segments(demo_plan(), read_table(data, "s.csv"), {"name": "Bezeichnung", "vid": "Kennung"})
        self.assertEqual(len(edit), 1)
        with self.assertRaises(PlanError):
            take_segments(demo_plan(), read_table(data, "s.csv"), {"name": "Nix", "colour": "Kennung"})


class WorkbookTest(unittest.TestCase):
    def book(self, *rows: list[object], merge: str = "") -> bytes:
        book = openpyxl.Workbook()
        for row in rows:
            book.active.append(row)
        if merge:
            book.active.merge_cells(merge)
        written = io.BytesIO()
        book.save(written)
        return written.getvalue()

    def test_merged_cells_texts_for_numbers_and_formulas(self) -> None:
        data = self.book(
            ["Segment", "Role", "VLAN"], ["a", "storage", "110"], ["b", None, 120.0], ["=1+1", None, 130], merge="B2:B4"
        )
        plan, _ = apply_edit(Plan("x"), take_segments(Plan("x"), read_table(data, "s.xlsx")))
        self.assertEqual(
            sorted((s.name, s.role, s.vid) for s in plan.all("segment")),
            [("=1+1", "storage", 130), ("a", "storage", 110), ("b", "storage", 120)],
        )

    def test_what_cannot_be_used_is_told_by_row_and_column_and_nothing_is_taken(self) -> None:
        data = self.book(
            ["Segment", "VLAN", "Subnet", "Gateway"],
            ["a", 110, "10.0.0.0/24", datetime.datetime(2027, 10, 1)],
            ["a", 5000, "10.0.0.7/24", None],
            [None, 7, None, None],
            ["w" * 90, "ten", None, None],
        )
        with self.assertRaises(PlanError) as caught:
            take_segments(Plan("x"), read_table(data, "s.xlsx"))
        self.assertEqual(
            [str(p) for p in caught.exception.problems],
            [
                "s.xlsx, row 2, column D (Gateway): segment, field gateways: a date, 2027-10-01, is nothing that a segment says",
                "s.xlsx, row 3, column B (VLAN): segment, field vid: VID 5000 is outside 1 to 4094",
                "s.xlsx, row 3, column C (Subnet): segment, field subnets: “10.0.0.7/24” is an address within a subnet; the subnet is 10.0.0.0/24",
                "s.xlsx, row 3, column A (Segment): segment, field name: “a” stands in row 2 already",
                "s.xlsx, row 4, column A (Segment): segment, field name: a segment needs a name",
                "s.xlsx, row 5, column A (Segment): segment, field name: the text is 90 characters long; 80 is the most",
                "s.xlsx, row 5, column B (VLAN): segment, field vid: “ten” is no whole number",
            ],
        )

    def test_what_is_no_sheet_says_so(self) -> None:
        for data, said in (
            (b"", "the sheet is empty"),
            (b"\n,,\n", "the sheet is empty"),
            (b"PK\x03\x04 no zip", "this workbook can’t be read"),
            (b"\x00\x01\x02", "neither a workbook (XLSX) nor text"),
            (b'a,b\n"x,y', "this is no CSV"),
            (b"name\n" + b"x\n" * 100_001, "the sheet has 100,001 rows; 100,000 is the most"),
        ):
            with self.assertRaises(PlanError) as caught:
                read_table(data, "s")
            self.assertIn(said, str(caught.exception))


class CommandTest(unittest.TestCase):
    def test_a_sheet_is_taken_on_the_command_line(self) -> None:
        demo = str(ROOT / "demo" / "brackwater.json")
        with tempfile.TemporaryDirectory() as folder:
            sheet, out = Path(folder, "s.csv"), Path(folder, "out.json")
            sheet.write_text(CSV)
            said = CliRunner().invoke(main, ["ledger", demo, "--take", str(sheet), "-o", str(out)])
            self.assertEqual(said.exit_code, 0, said.output)
            self.assertIn("segment lounge: made", said.output)
            self.assertEqual(len(read_plan(out.read_bytes()).of("segment")), 16)
            again = CliRunner().invoke(main, ["ledger", str(out), "--take", str(sheet), "-o", str(out)])
            self.assertIn("nothing differs", again.output)
            sheet.write_text(CSV.replace("250", "25000"))
            self.assertEqual(
                CliRunner().invoke(main, ["ledger", demo, "--take", str(sheet), "-o", str(out)]).exit_code, 2
            )
            self.assertEqual(CliRunner().invoke(main, ["ledger", demo, "--take", str(sheet)]).exit_code, 2)

"""Load in the browser: what a migration takes from storage, its mends, what fills when a cable fails, flows said and measured."""

from __future__ import annotations

import re
import unittest

from aptwire.plan.file import write_plan
from playwright.sync_api import FilePayload, Locator, expect

from tests.server.support import URL
from tests.server.test_load import reading
from tests.support import consolidated
from tests.web.support import BrowserTest, someone


class LoadTest(BrowserTest):
    def begin(self, view: str = "load") -> str:
        sent = [("file", "load.json", write_plan(consolidated(spare=True, sends=11_000).plan()))]
        plan = str(someone().upload("plans/import", [], sent)[1]["id"])
        someone().edit(plan, 0, {"op": "patch", "kind": "flow", "id": "mig", "set": {"sends": 20_000}})
        self.page.goto(f"{URL}/plans/{plan}/{view}")
        return plan

    def row(self, name: str) -> Locator:
        return (
            self.page.get_by_role("table", name="Cables by how full they are").get_by_role("row").filter(has_text=name)
        )

    def test_a_migration_takes_from_storage_a_failure_fills_the_other_cable_and_mends_take_it_away(self) -> None:
        page = self.page
        self.begin()
        expect(page.get_by_role("heading", name="Every cable carries what it is sent")).to_be_visible()
        expect(self.row("n0 of a → port a0")).to_contain_text("57 %")
        self.accessible()
        # What a migration does to storage.
        page.get_by_label("While").select_option(label="migration lasts")
        flows = page.get_by_role("table", name="Flows")
        storage = flows.get_by_role("row").filter(has_text="storage")
        expect(storage).to_contain_text(re.compile(r"host port storage of \w gets 9,728 Mbit/s of 11 Gbit/s"))
        page.get_by_label("While").select_option(label="no burst lasts")
        # A failure of the other cable, from the table.
        self.row("n0 of a → port a0").get_by_role("button", name="See all once n1 of a has failed").press("Enter")
        expect(page.get_by_role("heading", name="1 cable is sent more than it carries")).to_be_visible()
        expect(self.row("n0 of a → port a0")).to_contain_text("113 %")
        self.accessible()
        page.get_by_role("button", name="Nothing in Once").click()
        expect(page.get_by_role("heading", name="Every cable carries what it is sent")).to_be_visible()
        # The mend: NICs of its own.
        self.finding("migration takes from storage").click()
        page.get_by_role("button", name=re.compile("^Mend [0-9] of.*Give migration n2 for itself on a and b")).press(
            "Enter"
        )
        expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
        expect(page.get_by_role("button", name=re.compile("migration takes from storage"))).to_have_count(0)
        page.get_by_label("While").select_option(label="migration lasts")
        expect(storage).to_contain_text("all of it")

    def test_a_limit_keeps_a_migration_from_storage(self) -> None:
        page = self.page
        self.begin()
        self.finding("migration takes from storage").click()
        mend = page.get_by_role("button", name=re.compile(r"^Mend [0-9] of.*Hold migration to 4,200 Mbit"))
        mend.press("Enter")
        expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
        expect(page.get_by_role("button", name=re.compile("migration takes from storage"))).to_have_count(0)
        flows = page.get_by_role("table", name="Flows")
        expect(flows.get_by_role("row").filter(has_text="migration")).to_contain_text("held to 4,200 Mbit/s each")

    def test_flows_are_said_changed_and_taken_away(self) -> None:
        page = self.page
        plan = self.begin()
        page.get_by_role("button", name="Another flow").click()
        form = page.get_by_role("form", name="Another flow")
        form.get_by_label("Name", exact=True).fill("backup")
        form.get_by_role("combobox", name="Who sends").fill("stor")
        page.get_by_role("option", name=re.compile("each host port with this service")).click()
        form.get_by_label("Sends to", exact=True).select_option(label="one")
        form.get_by_role("combobox", name="Whom").fill("array")
        page.get_by_role("option", name=re.compile("array")).click()
        form.get_by_label("Sends", exact=True).fill("0")
        expect(form.get_by_text("sends: 0 is outside 1 to 800000")).to_be_visible()
        form.get_by_label("Sends", exact=True).fill("300")
        self.accessible()
        form.get_by_role("button", name="Add the flow").click()
        expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
        page.get_by_role("button", name="Change: backup").click()
        page.get_by_role("form", name="backup").get_by_label("Held to").fill("100")
        page.get_by_role("form", name="backup").get_by_label("Held to").press("Enter")
        expect(page.get_by_text("revision 3", exact=True)).to_be_visible()
        flow = next(f for f in someone().whole(plan)["records"]["flow"] if f["name"] == "backup")
        self.assertEqual(("storage", "array/30", 300, 100), (flow["service"], flow["to"], flow["sends"], flow["limit"]))
        page.get_by_role("button", name="Remove: backup").click()
        expect(page.get_by_role("button", name="Remove: backup")).to_have_count(0)

    def test_readings_of_a_host_become_flows(self) -> None:
        page = self.page
        plan = self.begin()
        page.get_by_role("button", name="Readings of a host").click()
        form = page.get_by_role("region", name="Readings")
        for label, mega in (("Before", 0), ("After", 500)):
            file: FilePayload = {
                "name": f"{label}.json",
                "mimeType": "application/json",
                "buffer": reading(migration=mega, n0=mega),
            }
            form.get_by_label(label, exact=True).set_input_files(file)
        form.get_by_label("Seconds apart").fill("10")
        expect(form.get_by_text("n0: 0 Mbit/s out, 406 Mbit/s in")).to_be_visible()
        self.accessible()
        form.get_by_role("button", name="Take it").click()
        expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
        self.assertTrue(any(f.get("of") == "a/migration" for f in someone().whole(plan)["records"]["flow"]))

    def test_cables_on_decks_are_as_wide_as_they_are_full(self) -> None:
        page = self.page
        self.begin("decks")
        page.get_by_role("button", name="Load", exact=True).click()
        expect(page.get_by_role("img", name="n0 of a → port a0 of sw: 57 % full")).to_be_attached()
        self.accessible()
        page.get_by_role("button", name="Load", exact=True).press("Enter")
        expect(page.get_by_role("img", name=re.compile("% full"))).to_have_count(0)

    def test_a_plan_in_which_nobody_sends_says_how_to_begin(self) -> None:
        page = self.page
        plan = someone().post("plans", {"name": "quiet"})[1]["id"]
        put = {"op": "put", "kind": "host", "record": {"id": "skua", "name": "skua"}}
        self.assertEqual(someone().edit(plan, 0, put)[0], 200)
        page.goto(f"{URL}/plans/{plan}/decks")
        expect(page.get_by_role("button", name="Build on skua")).to_be_visible()
        page.locator("body").press("l")
        expect(page.get_by_role("heading", name="Nobody said what is sent")).to_be_visible()
        self.accessible()


if __name__ == "__main__":
    unittest.main()

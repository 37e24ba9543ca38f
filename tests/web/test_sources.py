"""Networks from elsewhere in the browser: read from a system that answers, used by a guest with two interfaces, told when they vanish."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import Locator, expect

from tests.server.support import URL
from tests.server.test_sources import HARBOUR, harbour
from tests.web.support import BrowserTest, someone


class SourcesTest(BrowserTest):
    def revision(self, number: int) -> None:
        expect(self.page.get_by_text(f"revision {number}", exact=True)).to_be_visible()

    def row(self, table: str, name: str) -> Locator:
        return self.page.get_by_role("table", name=table).get_by_role("row").filter(has_text=name)

    def test_a_guest_gets_its_second_interface_on_a_network_from_elsewhere_that_vanishes(self) -> None:
        page = self.page
        with harbour() as system:
            page.locator("body").press("s")
            page.get_by_role("button", name="Another source").click()
            form = page.get_by_role("region", name="Another source")
            form.get_by_label("Name").fill("port authority")
            form.get_by_label("Address").fill(system.address)
            form.get_by_role("button", name="Fetch it").click()
            becomes = "What becomes of each network"
            expect(self.row(becomes, "pilot radio")).to_contain_text("new here")
            expect(self.row(becomes, "signal-mast")).to_contain_text("can’t be takenit travels with two tags")
            self.accessible()
            for name in ("berth cameras", "customs"):
                form.get_by_role("checkbox", name=re.compile(f"^{name}")).press("Space")
                expect(self.row(becomes, name)).to_contain_text("not taken")
            form.get_by_role("button", name="Take it").click()
            self.revision(1)
            expect(self.row("Networks of port authority", "pilot radio")).to_contain_text("44010.67.30.0/24nobody")
            self.accessible()

            self._second_interface()
            page.locator("body").press("s")
            expect(self.row("Networks of port authority", "pilot radio")).to_contain_text("1 adapter")

            system.networks = [n for n in system.networks if n["network-id"] != "urn:harbour:pilot-radio"]
            own = page.get_by_role("region", name="port authority", exact=True)
            own.get_by_role("button", name="Read it again").click()
            expect(self.row(becomes, "pilot radio")).to_contain_text("vanished, and used here")
            expect(own.get_by_text("home → unproven")).to_be_visible()
            own.get_by_role("button", name="Take it").click()
            self.revision(4)
        self.finding("pilot radio has vanished from port authority").click()
        mend = page.get_by_role("button", name=re.compile("^Mend 1 of.*Make pilot radio the plan’s own"))
        expect(mend).to_contain_text("unproven → home")
        self.accessible()
        mend.press("Enter")
        self.revision(5)
        made = next(s for s in someone().whole(self.plan)["records"]["segment"] if s["name"] == "pilot radio")
        self.assertNotIn("source", made)

    def _second_interface(self) -> None:
        """Pilot radio is brought to fulmar, and crew-roster there gets an adapter on it."""
        page = self.page
        segment = next(s for s in someone().whole(self.plan)["records"]["segment"] if s["name"] == "pilot radio")
        page.goto(f"{URL}/plans/{self.plan}/decks?at={segment['id']}")
        panel = page.get_by_role("dialog", name="Segment pilot radio")
        expect(panel.get_by_label("Role")).to_be_visible()
        expect(panel.get_by_label("VID")).to_have_count(0)
        panel.get_by_role("button", name="Source", exact=True).click()
        expect(panel.get_by_text("port authority defines it as urn:harbour:pilot-radio")).to_be_visible()
        panel.get_by_role("button", name="Everywhere", exact=True).click()
        panel.get_by_role("button", name="Bring pilot radio there").click()
        self.revision(2)
        page.goto(f"{URL}/plans/{self.plan}/decks?at=guest-crew-roster")
        page.locator("[data-id=guest-crew-roster]").press("Enter")
        panel = page.get_by_role("dialog", name=re.compile("crew-roster"))
        panel.get_by_role("button", name="Adapter", exact=True).click()
        seat = panel.get_by_label("Port group")
        seat.select_option("pilot radio")
        panel.get_by_role("button", name="Make it").click()
        self.revision(3)
        expect(self.count("home")).to_have_text("35")
        slot = page.get_by_role(
            "button", name=re.compile("^Port group pilot radio, tag 440, 1 adapters, of port authority")
        )
        expect(slot).to_be_visible()

    def test_a_file_is_read_and_what_a_source_says_is_not_typed_over(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/sources")
        expect(self.row("Networks of harbour office", "customs")).to_contain_text("overlaps 10.65.40.0/24 of CCTV")
        page.get_by_role("button", name="Read it again").click()
        own = page.get_by_role("region", name="harbour office", exact=True)
        # The demo's own system isn't one that this installation may ask.
        expect(own.get_by_text(re.compile("this installation doesn’t fetch from there"))).to_be_visible()
        own.get_by_label("Topology").set_input_files(str(HARBOUR))
        expect(own.get_by_text("no verdict changes")).to_be_visible()
        own.get_by_role("button", name="Take it").click()
        self.revision(1)
        page.locator("body").press("8")
        cell = page.get_by_role("gridcell", name="customs", exact=True)
        expect(cell).to_have_attribute("title", "harbour office says it: it changes with a reading of that")
        cell.dblclick()
        page.keyboard.type("x")
        expect(page.locator(".ledger-sheet input")).to_have_count(0)
        self.accessible()

    def test_a_plan_without_sources_says_what_one_is(self) -> None:
        made = someone().post("plans", {"name": "no sources"})[1]
        self.page.goto(f"{URL}/plans/{made['id']}/sources")
        expect(self.page.get_by_role("heading", name="No sources yet")).to_be_visible()
        self.accessible()
        self.page.get_by_role("button", name="Read the first one").click()
        expect(self.page.get_by_role("button", name="Fetch it")).to_be_disabled()


if __name__ == "__main__":
    unittest.main()

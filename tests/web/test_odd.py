"""States as nobody plans them, in the interface: ports in the standard's words, switches that filter nothing, what guests could do."""

from __future__ import annotations

import re

from aptwire.formats.hosts import read_hosts
from aptwire.plan.file import write_plan
from playwright.sync_api import expect

from tests.server.support import URL
from tests.support import STATES, files_of
from tests.web.support import BrowserTest, someone


class OddStatesTest(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        plan, _ = read_hosts(files_of(STATES / "odd-205"), "odd")
        self.odd = someone().upload("plans/import", [], [("file", "odd.json", write_plan(plan))])[1]["id"]
        self.page.goto(f"{URL}/plans/{self.odd}/decks")
        self.page.locator(".counts").wait_for()

    def test_what_is_unusual_is_shown_and_can_be_changed(self) -> None:
        page = self.page
        expect(page.get_by_role("button", name="Switch b2037, wired, no filter, MTU 1500")).to_contain_text(
            "over en1 tag 2037"
        )
        slot = page.get_by_role("button", name=re.compile("^Port group members 1975, 2969"))
        expect(slot).to_contain_text("standard")
        slot.focus()
        page.keyboard.press("Enter")
        panel = page.get_by_role("dialog")
        expect(panel.get_by_label("Member VIDs")).to_have_value("1975, 2969")
        panel.get_by_label("Leave untagged").fill("2969")
        panel.get_by_role("button", name="Take it").click()
        expect(page.get_by_text("revision 1")).to_be_visible()
        expect(
            page.get_by_role("complementary", name="Verdicts").get_by_role("button", name="leak into each other")
        ).to_have_count(0)
        self.accessible()

    def test_a_form_knows_what_the_api_says_of_a_field(self) -> None:
        page = self.page
        page.get_by_role("button", name="Switch b2037, wired, no filter, MTU 1500").click()
        panel = page.get_by_role("dialog")
        panel.get_by_role("button", name="Settings", exact=True).click()
        expect(panel.get_by_label("MTU")).to_have_attribute("placeholder", "bytes, 576 to 9216")
        panel.get_by_label("MTU").fill("100")
        expect(panel.get_by_text("MTU: 100 is not within 576 to 9216")).to_be_visible()
        panel.get_by_label("MTU").fill("1500")
        panel.get_by_role("button", name=re.compile("^More")).click()
        expect(panel.get_by_label("The host answers")).to_be_checked()
        panel.get_by_text("The host answers", exact=True).click()
        panel.get_by_role("button", name="Take it").click()
        expect(page.get_by_text("revision 1")).to_be_visible()
        self.accessible()

    def test_whom_guests_could_reach_is_told_where_they_are_listed_and_drawn(self) -> None:
        page = self.page
        expect(page.get_by_role("button", name=re.compile("^vn20 of g-2-0: .*could reach "))).to_be_visible()
        page.goto(f"{URL}/plans/{self.odd}/landing")
        page.get_by_label("Filter", exact=True).fill("g-2-0")
        expect(page.get_by_role("gridcell").filter(has_text=re.compile("^[0-9] VIDs$")).first).to_be_visible()
        self.accessible()

    def test_a_frame_with_any_tag_is_followed(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.odd}/trace")
        page.get_by_role("combobox", name="From").fill("ho1/vn10|x")
        expect(page.get_by_text("any tag may follow")).to_be_visible()
        page.get_by_role("combobox", name="From").fill("ho1/vn10|777")
        expect(page.get_by_role("option")).to_have_count(1)
        page.keyboard.press("Enter")
        page.get_by_role("combobox", name="To", exact=True).fill("ho1/vn11|777")
        expect(page.get_by_role("option")).to_have_count(1)
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name=re.compile("There: .*arrives"))).to_be_visible()
        expect(page.get_by_role("cell", name="777").first).to_be_visible()
        self.accessible()

"""Planning a fleet in the browser: patterns made of a host, stamped on others, and what is off them."""

from __future__ import annotations

from playwright.sync_api import expect

from tests.server.support import URL, patch
from tests.web.support import BrowserTest, someone


class PatternsTest(BrowserTest):
    def test_a_host_s_pattern_is_stamped_on_another_and_its_differences_are_settled(self) -> None:
        page = self.page
        # From the host itself, by keyboard.
        page.get_by_role("button", name="Build on gannet").focus()
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Make a pattern of it").click()
        expect(page.get_by_label("Name")).to_be_focused()
        expect(page.get_by_label("Name")).to_have_value("as gannet")
        page.keyboard.press("Control+a")
        page.keyboard.type("quay hosts")
        expect(page.get_by_text("Nobody’s verdict moves by it.")).to_be_visible()
        self.accessible()
        page.keyboard.press("Enter")
        main = page.get_by_role("region", name="Pattern quay hosts")
        expect(main.get_by_text("1 host, all on it")).to_be_visible()
        main.get_by_role("button", name="Stamp it on hosts").click()
        form = page.get_by_role("form", name="Stamp quay hosts")
        expect(form.get_by_label("Hosts with")).to_be_focused()
        page.keyboard.type("razor")
        form.get_by_role("checkbox", name="razorbill").focus()
        page.keyboard.press("Space")
        # It has no fourth NIC: that is asked, not guessed.
        asked = form.get_by_label("nic3 of razorbill")
        expect(form.get_by_text("no NIC of razorbill is nic3")).to_be_visible()
        expect(form.get_by_role("button", name="Stamp 1 host")).to_be_disabled()
        self.accessible()
        asked.select_option("it goes without")
        expect(form.get_by_role("button", name="Stamp 1 host")).to_be_enabled()
        form.get_by_role("button", name="Stamp 1 host").click()
        expect(page.get_by_role("status").filter(has_text="Stamp quay hosts on razorbill")).to_be_visible()
        expect(main.get_by_text("2 hosts, 1 off it")).to_be_visible()
        missing = main.get_by_role("list", name="Differences of razorbill").get_by_role("listitem")
        expect(missing.filter(has_text="NIC nic3 is missing")).to_be_visible()
        self.finding("razorbill is off pattern quay hosts").click()
        expect(page.locator(".finding.open").get_by_text("NIC nic3 is missing").first).to_be_visible()
        count = missing.count()
        main.get_by_role("button", name="Keep as razorbill’s own: NIC nic3 is missing").click()
        expect(missing).to_have_count(count - 1)
        # All of it is taken back step by step.
        page.keyboard.press("Control+z")
        expect(missing).to_have_count(count)
        page.keyboard.press("Control+z")
        expect(main.get_by_text("1 host, all on it")).to_be_visible()
        page.keyboard.press("Control+z")
        expect(page.get_by_role("region", name="Pattern marsh hosts")).to_be_visible()

    def test_who_goes_off_the_pattern_is_stamped_again_or_taken_into_it(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/patterns?like=gannet")
        page.get_by_role("button", name="Make it").click()
        main = page.get_by_role("region", name="Pattern as gannet")
        expect(main.get_by_text("1 host, all on it")).to_be_visible()
        someone().edit(self.plan, 1, patch("port_group", "gannet/guests0/ticketing", vid=211))
        off = main.get_by_role("list", name="Differences of gannet")
        expect(off.get_by_text("port group ticketing: VID is 211, not 210")).to_be_visible()
        self.accessible()
        main.get_by_role("button", name="Stamp again").click()
        expect(main.get_by_text("1 host, all on it")).to_be_visible()
        someone().edit(self.plan, 3, patch("virtual_switch", "gannet/guests0", mtu=2000))
        main.get_by_role("button", name="Into the pattern: virtual switch guests0: MTU is 2000, not 1500").click()
        expect(main.get_by_text("1 host, all on it")).to_be_visible()
        expect(main.get_by_text("MTU 2000")).to_be_visible()
        # The pattern is changed in place; the host is off it then.
        main.get_by_role("button", name="port group edge", exact=True).click()
        page.get_by_label("VID", exact=True).fill("301")
        page.keyboard.press("Enter")
        expect(off.get_by_text("port group edge: VID is 300, not 301")).to_be_visible()
        main.get_by_role("button", name="Add to guests0").click()
        page.get_by_role("menuitem", name="port group").click()
        page.get_by_label("Name").fill("lab")
        page.get_by_label("VID", exact=True).fill("240")
        page.get_by_role("button", name="Add it").click()
        expect(off.get_by_text("port group lab is missing")).to_be_visible()
        main.get_by_role("button", name="Take port group lab out").click()
        expect(off.get_by_text("port group lab is missing")).to_have_count(0)
        self.accessible()


class AcceptedTest(BrowserTest):
    def test_a_finding_is_accepted_with_why_and_taken_back(self) -> None:
        page = self.page
        title = "storage rests on a single NIC"
        self.finding(title).click()
        page.get_by_role("button", name="Accept it").click()
        expect(page.get_by_label("Why")).to_be_focused()
        expect(page.get_by_role("button", name="Accept", exact=True)).to_be_disabled()
        page.keyboard.type("The new cards come in May.")
        page.get_by_label("Until").fill("2999-05-31")
        self.accessible()
        page.get_by_label("Why").press("Enter")
        expect(self.finding(title)).to_have_count(0)
        page.get_by_role("button", name="1 accepted").click()
        expect(self.finding(title)).to_contain_text("Accepted by ines until 2999-05-31: The new cards come in May.")
        self.accessible()
        self.finding(title).click()
        page.get_by_role("button", name="Accept it no longer").click()
        expect(page.get_by_role("button", name="1 accepted")).to_have_count(0)
        expect(self.finding(title)).to_be_visible()
        page.keyboard.press("Control+z")
        expect(page.get_by_role("button", name="1 accepted")).to_be_visible()


class PaperTest(BrowserTest):
    def test_the_report_and_the_sheets_are_taken_along(self) -> None:
        page = self.page
        for item, name, begins in (
            ("Hand-over report", "Brackwater-Ferries-report.html", b"<!doctype html>"),
            ("Wiring schedule", "Brackwater-Ferries-wiring.xlsx", b"PK"),
        ):
            page.get_by_role("button", name="Export").focus()
            page.keyboard.press("Enter")
            choice = page.get_by_role("menuitem", name=item)
            expect(choice).to_be_visible()
            if item == "Hand-over report":
                self.accessible()
            with page.expect_download() as download:
                choice.click()
            self.assertEqual(download.value.suggested_filename, name)
            self.assertTrue(download.value.path().read_bytes().startswith(begins))

"""Planning a fleet in the browser: patterns made of a host, stamped on others, and what is off them."""

from __future__ import annotations

import re
import threading
from typing import Any

from aptwire.plan.file import write_plan
from playwright.sync_api import Route, expect

from measure.fleet import fleet
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

    def test_a_large_stamp_shows_who_moves_while_its_risks_are_looked_for(self) -> None:
        page, plan = self.page, fleet(160, 4, 12)
        made = someone().upload("plans/import", [], [("file", "fleet.json", write_plan(plan))])[1]["id"]
        page.goto(f"{URL}/plans/{made}/patterns?like=host-0")
        page.get_by_label("Name", exact=True).fill("all alike")
        page.get_by_role("button", name="Make it").click()
        page.get_by_role("button", name="Stamp it on hosts").click()
        form = page.get_by_role("form", name="Stamp all alike")
        whole = threading.Event()

        def held(route: Route) -> None:
            # The second question is let go of once what the first one brought was seen.
            if "risks=later" in route.request.url or whole.is_set():
                route.continue_()
            else:
                waiting.append(route)

        waiting: list[Route] = []
        page.route("**/gestures*", held)
        form.get_by_role("button", name="All 160 in sight").click()
        expect(form.get_by_text("records would be made or changed")).to_be_visible()
        expect(form.get_by_role("status").filter(has_text="is still being looked for")).to_be_visible()
        expect(form.get_by_role("checkbox", name="tern-0007")).to_be_checked()
        self.accessible()
        whole.set()
        self.becomes(lambda: len(waiting), 1)
        waiting.pop().continue_()
        expect(form.get_by_text("is still being looked for")).to_be_hidden()
        form.get_by_role("button", name="Stamp 160 hosts").click()
        main = page.get_by_role("region", name="Pattern all alike")
        expect(main.get_by_text(re.compile("^160 hosts, "))).to_be_visible()
        page.keyboard.press("Control+z")
        expect(main.get_by_text("1 host, all on it")).to_be_visible()

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
        # A port group of the pattern has an order of its own.
        main.get_by_role("button", name="port group ticketing", exact=True).click()
        expect(page.get_by_label("VID", exact=True)).to_be_focused()
        page.get_by_label("nic0", exact=True).select_option("standby")
        main.get_by_role("button", name="Take it").last.click()
        expect(main.get_by_text("nic0 standby")).to_be_visible()
        expect(off.get_by_text("the order of nic0 for ticketing is missing")).to_be_visible()
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


class RulesTest(BrowserTest):
    def test_a_rule_is_written_seen_broken_mended_and_seen_to_hold(self) -> None:
        page = self.page
        page.keyboard.press("r")
        expect(page).to_have_url(re.compile("/rules"))
        rules = page.get_by_role("region", name="Rules", exact=True)
        expect(rules.get_by_role("listitem").first).to_contain_text("broken")
        field = page.get_by_role("combobox", name="Write a rule")
        field.click()
        # What could stand is offered, word by word and name by name.
        field.press_sequentially("keep crew-r")
        expect(page.get_by_role("option", name="crew-roster guest")).to_be_visible()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        expect(field).to_have_value("keep crew-roster ")
        field.press_sequentially("aparrt from tide-model")
        reading = page.get_by_role("status").filter(has_text="meant")
        expect(reading).to_contain_text("“aparrt” can’t stand here; is “apart” meant?")
        expect(page.get_by_role("button", name="Add the rule")).to_be_disabled()
        self.accessible()
        field.fill("keep crew-roster apart from tide-model")
        expect(page.get_by_role("status").filter(has_text="broken")).to_contain_text("over edge-firewall")
        page.keyboard.press("Escape")
        page.keyboard.press("Enter")
        mine = rules.get_by_role("listitem").filter(has_text="keep crew-roster apart from tide-model")
        expect(mine).to_contain_text("Packets of crew-roster get to tide-model over edge-firewall.")
        expect(field).to_have_value("")
        self.accessible()
        mine.get_by_role("button", name="Proof and mends").click()
        mend = page.get_by_role("button", name="Have edge-firewall forward nothing")
        expect(mend).to_contain_text("let crew-roster reach tide-model only through edge-firewall")
        column = page.get_by_role("complementary", name="Verdicts")
        column.get_by_role("button", name="Proof").click()
        expect(column).to_contain_text("by its gateway 10.65.20.1")
        mend.click()
        expect(mine).to_contain_text("holds")
        expect(mine).to_contain_text("none hears or reaches one of the others, in any state")
        page.keyboard.press("Control+z")
        expect(mine).to_contain_text("broken")

    def test_a_rule_is_changed_traced_and_removed_and_others_are_offered(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/rules")
        rules = page.get_by_role("region", name="Rules", exact=True)
        text = "keep visitors apart from role management"
        rules.get_by_role("button", name=f"Change: {text}").click()
        field = page.get_by_role("combobox", name="Change the rule")
        expect(field).to_be_focused()
        expect(field).to_have_value(text)
        field.fill(f"{text} on layer 2")
        expect(page.get_by_role("button", name="Change it")).to_be_enabled()
        page.keyboard.press("Escape")
        page.keyboard.press("Enter")
        changed = rules.get_by_role("listitem").filter(has_text=f"{text} on layer 2")
        expect(changed).to_contain_text("none hears one of the others")
        broken = rules.get_by_role("listitem").filter(has_text="every host reaches quay-router")
        broken.get_by_role("link", name="Trace").click()
        expect(page.get_by_role("region", name="Ping")).to_contain_text("quay-router")
        page.go_back()
        rules.get_by_role("button", name=f"Remove: {text} on layer 2").click()
        expect(changed).to_have_count(0)
        offered = page.get_by_role("region", name="Rules to start with")
        first = "keep role storage apart from role production"
        offered.get_by_role("button", name=first).click()
        expect(rules.get_by_role("listitem").filter(has_text=first)).to_be_visible()
        expect(offered.get_by_role("button", name=first)).to_have_count(0)


class PaperTest(BrowserTest):
    def test_the_report_and_the_sheets_are_taken_along(self) -> None:
        page = self.page
        for item, name, begins in (
            ("Hand-over report", "Brackwater-Ferries-report.html", b"<!doctype html>"),
            ("Validation report", "Brackwater-Ferries-validation.html", b"<!doctype html>"),
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


class DraftTest(BrowserTest):
    def begin(self, name: str) -> str:
        """A draft begun as a person does; its id."""
        page = self.page
        page.locator("body").press("7")
        page.get_by_label("Name").fill(name)
        page.keyboard.press("Enter")
        expect(page.get_by_role("region", name="On a draft")).to_contain_text(
            f"Draft {name}, on revision 0 of the plan"
        )
        return page.url.split("/plans/")[1].split("/")[0]

    def edit(self, of: str, *operations: Any) -> None:
        """What somebody else does to a plan or draft."""
        client = someone()
        status, made = client.edit(of, client.get(f"plans/{of}")[1]["revision"], *operations)
        self.assertEqual(status, 200, made)

    def test_a_draft_is_worked_on_laid_beside_the_plan_landed_and_brought_back(self) -> None:
        page = self.page
        expect(self.count("astray")).to_have_text("3")
        self.begin("gauges on 230")
        expect(page.get_by_role("heading", level=1)).to_contain_text("Brackwater Ferries/ draft gauges on 230")
        slot = page.get_by_role("button", name="Port group tide gauges, tag 203")
        slot.scroll_into_view_if_needed()
        slot.click()
        page.get_by_label("Tag of port group tide gauges").fill("230")
        page.keyboard.press("Enter")
        expect(self.count("astray")).to_have_text("2")
        # The plan is as it was, one switch away.
        page.get_by_role("button", name="Switch between").click()
        page.get_by_role("menuitem", name="The plan itself").click()
        expect(self.count("astray")).to_have_text("3")
        page.get_by_role("button", name="Switch between").click()
        page.get_by_role("menuitem", name="Draft gauges on 230").click()
        page.get_by_role("link", name="Beside the plan, land it").click()
        records = page.get_by_role("list", name="Records that differ")
        expect(records.get_by_role("listitem")).to_have_count(1)
        expect(records).to_contain_text("VID 203 → 230")
        self.accessible()
        page.get_by_label("Land it as").fill("gauges move to 230")
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="Revision 1")).to_contain_text("gauges move to 230")
        expect(self.count("astray")).to_have_text("2")
        page.keyboard.press("Control+z")
        expect(self.count("astray")).to_have_text("3")

    def test_it_comes_along_with_the_plan_and_where_they_clash_one_chooses(self) -> None:
        page = self.page
        draft = self.begin("edge")
        vid = patch("port_group", "gannet/guests0/edge", vid=777)
        self.edit(draft, vid)
        expect(self.count("astray")).to_have_text("4")
        # What somebody changes in the plan arrives, and says so.
        self.edit(self.plan, patch("host_port", "gannet/guests0/mgmt", vid=None))
        expect(page.get_by_text("On revision 1 of the plan now: test")).to_be_visible()
        expect(page.get_by_role("region", name="On a draft")).to_contain_text("on revision 1 of the plan")
        self.edit(self.plan, patch("port_group", "gannet/guests0/edge", vid=778))
        page.get_by_role("link", name="Choose whose word stands").click()
        clash = page.get_by_role("radiogroup", name="VID of port group edge of gannet")
        expect(clash).to_contain_text("the plan: 778")
        take = page.get_by_role("button", name="Bring the draft along")
        expect(take).to_be_disabled()
        self.accessible()
        clash.get_by_text("the draft: 777").click()
        take.click()
        expect(page.get_by_role("region", name="On a draft")).to_contain_text("on revision 2 of the plan")
        expect(page.get_by_role("list", name="Records that differ")).to_contain_text("VID 778 → 777")
        page.get_by_role("button", name="Drop it").click()
        expect(page.get_by_text("No draft yet.")).to_be_visible()
        page.goto(f"{URL}/plans")
        page.get_by_role("button", name="Bin:").click()
        expect(page.get_by_role("button", name="Take edge out of the bin").first).to_be_visible()
        expect(page.get_by_text("draft of Brackwater Ferries").first).to_be_visible()


class LedgerTest(BrowserTest):
    def cell(self, row: int, column: int) -> Any:
        """A cell by its row in the sheet and its place behind the name."""
        return self.page.locator(f"revogr-data[col-type=rgCol] [data-rgrow='{row}'][data-rgcol='{column}']")

    def type(self, text: str) -> None:
        """Type into the cell that has the focus, as quickly as people do; the grid opens its field at the first letter."""
        self.page.wait_for_timeout(200)
        self.page.keyboard.type(text, delay=40)
        self.page.keyboard.press("Enter")

    def test_the_sheet_is_worked_like_one(self) -> None:
        page = self.page
        page.locator("body").press("8")
        expect(self.cell(0, 1)).to_have_text("110")
        expect(page.get_by_text("4 cells that can’t be right")).to_be_visible()
        expect(self.cell(3, 3)).to_have_attribute("title", "10.65.10.0/24 overlaps 10.65.10.0/24 of restore bubble")
        self.accessible()
        # By keyboard alone: the tag of CCTV, a VID that another has, and undo.
        page.locator("revo-grid").focus()
        expect(page.locator("[role=gridcell]:focus")).to_have_text("management")
        self.keys(*["ArrowDown"] * 6, *["ArrowRight"] * 2)
        expect(page.locator("[role=gridcell]:focus")).to_have_text("240")
        self.type("300")
        expect(page.get_by_text("revision 1", exact=True)).to_be_visible()
        expect(self.cell(6, 1)).to_have_attribute("title", "edge has this VID too")
        page.locator("#view").focus()
        page.keyboard.press("Control+z")
        expect(self.cell(6, 1)).to_have_text("240")
        # What can't be used stays as it was typed, with the reason, and changes nothing.
        self.cell(6, 1).click()
        self.type("5000")
        expect(self.cell(6, 1)).to_have_attribute("title", "VID: a VID is a number from 1 to 4094")
        expect(self.cell(6, 1)).to_have_text("5000")
        expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
        self.cell(6, 1).click()
        self.type("240")
        expect(self.cell(6, 1)).not_to_have_attribute("title", "VID: a VID is a number from 1 to 4094")

    def test_rows_are_pasted_filled_down_and_begun_with_what_is_free(self) -> None:
        page = self.page
        page.locator("body").press("8")
        names = page.locator("revogr-data[col-type=colPinStart]")
        names.locator(".rgCell[data-rgrow='15']").click()
        page.evaluate(
            """text => {
                const data = new DataTransfer();
                data.setData("text/plain", text);
                document.activeElement.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true }));
            }""",
            "pilots\tproduction\t510\t\t10.68.10.0/24\ncrew\tproduction\t520\n",
        )
        expect(page.get_by_text("Ledger: 7 cells of 2 segments")).to_be_visible()
        expect(names.locator(".rgCell[data-rgrow='16']")).to_have_text("crew")
        expect(self.cell(15, 3)).to_have_text("10.68.10.0/24")
        self.assertEqual(len(someone().whole(self.plan)["records"]["segment"]), 17)
        # MTU of the first three, down from the first.
        self.cell(15, 6).click()
        self.type("9000")
        expect(self.cell(15, 6)).to_have_text("9000")
        expect(page.get_by_text("Segment pilots: MTU 9000")).to_be_visible()
        self.cell(15, 6).click()
        page.wait_for_timeout(200)
        page.keyboard.press("Shift+ArrowDown")
        page.wait_for_timeout(200)
        page.keyboard.press("Control+d")
        expect(self.cell(16, 6)).to_have_text("9000")
        # What addresses are for, and who stands where he isn't meant to.
        self.cell(15, 7).click()
        self.type("static 10.68.10.20-10.68.10.99, leases 10.68.10.100-10.68.10.199")
        expect(page.get_by_text("Segment pilots: Ranges static 10.68.10.20-10.68.10.99")).to_be_visible()
        # A sheet that is drawn anew under the pointer still hears what is typed; it isn't taken for keys of views.
        self.cell(16, 7).click()
        page.evaluate("document.activeElement.blur()")
        self.type("leases 10.68.10.1-10.68.10.9")
        expect(self.cell(16, 7)).to_have_attribute("title", re.compile("isn’t within a subnet of crew"))
        # What the plan doesn't take stays where it was typed, and holds up nothing else.
        self.cell(15, 5).click()
        self.type("the harbour")
        expect(self.cell(15, 5)).to_have_attribute("aria-invalid", "true")
        page.get_by_label("Next free for role").select_option("edge")
        expect(page.get_by_text("VID 313, 10.66.11.0/24")).to_be_visible()
        page.get_by_role("button", name="Begin a row with them").click()
        expect(self.cell(17, 1)).to_have_text("313")
        names.locator(".rgCell[data-rgrow='17']").click()
        self.type("sheds")
        expect(page.get_by_text("Make segment sheds")).to_be_visible()
        expect(self.cell(15, 5)).to_have_text("the harbour")
        # Some are kept free for something to come.
        page.get_by_label("Keep VIDs").fill("600-609")
        page.get_by_label("for", exact=True).fill("new terminal")
        page.keyboard.press("Enter")
        expect(page.get_by_role("list", name="Kept free")).to_contain_text("VID 600-609 kept for new terminal")


class MeetingsTest(BrowserTest):
    def test_chosen_endpoints_stand_to_each_other_and_lead_to_their_ways(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/meetings")
        page.get_by_role("radiogroup", name="Against each other").get_by_text("Chosen").click()
        expect(page.get_by_text("from two on, this shows how they stand")).to_be_visible()
        add = page.get_by_role("combobox", name="Add")
        for typed, name in (("visitor-desk-1", "visitor-desk-1 guest"), ("quay-rou", "quay-router station")):
            add.fill(typed)
            page.get_by_role("option", name=name).click()
        expect(page.get_by_text("2 endpoints against 2")).to_be_visible()
        cell = page.get_by_role("gridcell").filter(has_text="▲").first
        cell.click()
        expect(
            page.get_by_role("heading", name=re.compile("^(quay-router|visitor-desk-1) to .*: meets"))
        ).to_be_visible()
        self.accessible()
        page.get_by_role("list", name="Chosen").get_by_role("button", name="quay-router").click()
        expect(page.get_by_text("from two on, this shows how they stand")).to_be_visible()
        add.fill("crew-roster")
        page.get_by_role("option", name="crew-roster guest").click()
        expect(page.get_by_text("2 endpoints against 2")).to_be_visible()
        add.fill("tide-gauge-view")
        page.get_by_role("option", name="tide-gauge-view guest").click()
        # What tells long names apart stands at their end.
        expect(page.get_by_role("columnheader", name="tide-gauge-view")).to_have_text("tide-ga…e-view")
        page.get_by_role("gridcell").filter(has_text="·").first.click()
        page.get_by_role("link", name="Trace and ping").click()
        expect(page.get_by_role("region", name="Ping", exact=True)).to_be_visible()

    def test_who_meets_whom_and_what_ends_it(self) -> None:
        page = self.page
        page.locator("body").press("t")
        expect(page.get_by_text("15 segments against 15")).to_be_visible()
        page.get_by_role("button", name="Rows that aren’t as rules expect").click()
        expect(page.get_by_text("2 segments against 15")).to_be_visible()
        self.accessible()
        wrong = page.get_by_role("gridcell", name="reaches, not as rules expect").last
        wrong.click()
        expect(
            page.get_by_role("heading", name="visitors to management: reaches; a rule keeps them apart")
        ).to_be_visible()
        found = page.get_by_role("list", name="What is found")
        expect(found).to_contain_text("Packets of visitor-desk-1 get to fulmar’s mgmt over quay-router.")
        page.locator("revo-grid").press("Enter")
        endings = page.get_by_role("listbox", name="What would end it")
        expect(endings.get_by_role("option").first).to_contain_text("Have quay-router drop")
        self.accessible()
        endings.press("Enter")
        expect(page.get_by_text("Nothing here has these words, or is otherwise than rules expect.")).to_be_visible()
        page.get_by_role("button", name="Undo").click()
        expect(page.get_by_text("2 segments against 15")).to_be_visible()
        # A pair of which no rule speaks gets one.
        page.get_by_role("button", name="All rows").click()
        page.get_by_label("Segments with").fill("visitors")
        only = page.get_by_role("gridcell", name="reaches", exact=True)
        expect(only).to_have_count(1)
        only.click()
        page.get_by_role("link", name="A rule that keeps them apart").click()
        expect(page.get_by_role("combobox", name="Write a rule")).to_have_value(
            "keep segment visitors apart from segment migration"
        )

    def test_roles_against_each_other_lead_to_their_segments(self) -> None:
        page = self.page
        page.locator("body").press("t")
        page.get_by_role("radiogroup", name="Against each other").get_by_text("Roles").click()
        expect(page.get_by_text("7 roles against 7")).to_be_visible()
        self.accessible()
        wrong = page.get_by_role("gridcell", name="reaches, not as rules expect").first
        wrong.click()
        expect(page.get_by_role("heading", name="edge to management: reaches")).to_be_visible()
        pairs = page.get_by_role("list", name="Segments of the two")
        expect(pairs).to_contain_text("visitors to management reaches, not as rules expect")
        self.accessible()
        pairs.get_by_role("button", name="visitors to management").click()
        expect(
            page.get_by_role("heading", name="visitors to management: reaches; a rule keeps them apart")
        ).to_be_visible()


class MovesTest(BrowserTest):
    def cell(self, row: int, column: int) -> Any:
        """A cell by the place of its guest and its host."""
        return self.page.locator(f"revogr-data[col-type=rgCol] .rgCell[data-rgrow='{row}'][data-rgcol='{column}']")

    def test_where_a_guest_could_run_and_a_move_by_keyboard(self) -> None:
        page = self.page
        page.locator("body").press("v")
        expect(page.get_by_text("33 guests by 5 hosts")).to_be_visible()
        page.get_by_label("Guests with").fill("crew-roster")
        expect(page.get_by_text("2 guests by 5 hosts")).to_be_visible()
        expect(self.cell(0, 0)).to_have_attribute("aria-label", "is there")
        expect(self.cell(0, 1)).to_have_attribute("aria-label", "runs there")
        expect(self.cell(0, 4)).to_have_attribute("aria-label", "not there")
        self.accessible()
        self.cell(0, 4).click()
        expect(page.get_by_role("heading", name="crew-roster on razorbill: not there")).to_be_visible()
        missed = page.get_by_role("list", name="What it would miss")
        expect(missed).to_contain_text("no port group on razorbill like its own, berth planning")
        # By keyboard: three to the left, Enter tries it.
        self.keys(*["ArrowLeft"] * 3)
        expect(page.get_by_role("heading", name="crew-roster on gannet: runs there")).to_be_visible()
        page.keyboard.press("Enter")
        expect(page.get_by_text("no verdict changes")).to_be_visible()
        page.get_by_role("button", name="Move crew-roster to gannet").click()
        expect(self.cell(0, 1)).to_have_attribute("aria-label", "is there")
        page.get_by_role("button", name="Undo").click()
        expect(self.cell(0, 1)).to_have_attribute("aria-label", "runs there")
        page.get_by_label("Guests with").fill("")
        page.get_by_role("button", name="Guests without another place").click()
        expect(page.get_by_role("gridcell", name="backup-agent")).to_be_visible()
        expect(page.get_by_role("gridcell", name="announcements")).to_have_count(0)

    def test_a_host_is_taken_out_for_maintenance(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/decks?at=fulmar")
        page.get_by_role("button", name="Build on fulmar").click()
        page.get_by_role("button", name="See where its guests go when it is taken out").click()
        goes = page.get_by_role("table", name="Where everybody goes")
        expect(goes.get_by_role("row", name="crew-roster gannet")).to_be_visible()
        left = page.get_by_role("list", name="Left without a place")
        expect(left).to_contain_text("finds no port group on gannet like its own, CCTV")
        self.accessible()
        left.get_by_role("button", name="cctv-archive").click()
        expect(page.get_by_role("heading", name="cctv-archive on gannet: not there")).to_be_visible()
        page.get_by_role("region", name="Take a host out").get_by_role("button", name="Move these 5").click()
        expect(page.get_by_role("table", name="Where everybody goes")).to_have_count(0)
        expect(page.get_by_text("2 guests are left without a place")).to_be_visible()
        page.get_by_role("button", name="Undo").click()
        expect(goes.get_by_role("row", name="crew-roster gannet")).to_be_visible()
        page.get_by_label("Because").select_option(label="it failed: guests start elsewhere")
        expect(goes).to_be_visible()


class LatticeTest(BrowserTest):
    def cell(self, row: int, column: int) -> Any:
        """A cell by the place of its segment and its host."""
        return self.page.locator(f"revogr-data[col-type=rgCol] .rgCell[data-rgrow='{row}'][data-rgcol='{column}']")

    def test_a_cell_says_how_a_host_stands_to_a_segment_and_gives_it(self) -> None:
        page = self.page
        page.locator("body").press("9")
        expect(self.cell(0, 0)).to_have_attribute("aria-label", "carried")
        # Petrel lacks what its pattern has.
        expect(self.cell(3, 3)).to_have_attribute("aria-label", "cut off, off pattern")
        self.accessible()
        page.get_by_role("button", name="Uneven rows alone").click()
        expect(page.get_by_text("segments by 5 hosts")).not_to_have_text("15 segments by 5 hosts")
        page.get_by_role("button", name="All rows").click()
        page.get_by_label("Segments with").fill("cctv")
        expect(page.get_by_text("1 segment by 5 hosts")).to_be_visible()
        expect(self.cell(0, 4)).to_have_attribute("aria-label", "ready")
        page.get_by_label("Segments with").fill("nowhere")
        expect(page.get_by_text("Nothing here has these words")).to_be_visible()
        page.get_by_label("Segments with").fill("cctv")
        expect(self.cell(0, 4)).to_have_attribute("aria-label", "ready")
        # By keyboard: to razorbill, Enter, Enter.
        page.locator("revo-grid").focus()
        expect(page.locator("[role=gridcell]:focus")).to_have_text("CCTV 240")
        self.keys(*["ArrowRight"] * 5)
        expect(page.get_by_role("heading", name="CCTV on razorbill: ready")).to_be_visible()
        page.keyboard.press("Enter")
        offer = page.get_by_role("button", name="Offer CCTV on razorbill")
        expect(offer).to_be_enabled()
        self.accessible()
        offer.click()
        expect(self.cell(0, 4)).to_have_attribute("aria-label", "carried")
        expect(page.get_by_text("revision 1", exact=True)).to_be_visible()


SHOWS = ": show it on Decks"


class QueryTest(BrowserTest):
    def shown(self) -> set[str]:
        """The endpoints that Landing shows, by their keys."""
        found = self.page.get_by_role("treegrid").locator(".cell-link").evaluate_all("l => l.map(n => n.title)")
        return {title.removesuffix(SHOWS) for title in found if title.endswith(SHOWS)}

    def test_words_and_fields_find_what_they_say_and_it_is_picked_to_be_edited(self) -> None:
        page = self.page
        whole = someone().whole(self.plan)
        roles = {s["id"]: s.get("role") for s in whole["records"]["segment"]}
        vids = {s["id"]: s.get("vid") for s in whole["records"]["segment"]}
        page.goto(f"{URL}/plans/{self.plan}/landing")
        tags = [(e, t) for e in whole["endpoints"].values() for t in e["tags"]]
        for query, holds in (
            ("role:storage", lambda e, t: roles.get(t["belongs"]) == "storage"),
            ("vid:200-229", lambda e, t: 200 <= (vids.get(t["belongs"]) or 0) <= 229),
            ("verdict:astray host:petrel", lambda e, t: t["verdict"] == "astray" and e["host"] == "petrel"),
            (
                "site:saltmarsh role:management",
                lambda e, t: e["host"] in ("kittiwake", "petrel") and roles.get(t["belongs"]) == "management",
            ),
            ("pattern:off verdict:astray", lambda e, t: e["host"] == "petrel" and t["verdict"] == "astray"),
            (
                'segment:"tide gauges" petrel',
                lambda e, t: e["host"] == "petrel" and "segment-tide-gauges" in (t["belongs"], t["lands"]),
            ),
        ):
            with self.subTest(query=query):
                wanted = {e["key"] for e, t in tags if holds(e, t) and not (e["idle"] and "verdict" in query)}
                self.assertTrue(wanted)
                page.get_by_label("Filter", exact=True).fill(query)
                self.becomes(self.shown, wanted)
        self.accessible()
        field = page.get_by_label("Filter", exact=True)
        field.fill("rule:x")
        expect(page.get_by_role("alert").filter(has_text="there is no field “rule”")).to_be_visible()
        field.fill("ro")
        offered = page.locator("datalist option")
        self.becomes(lambda: offered.evaluate_all("l => l.map(n => n.value)"), ["role:"])
        field.fill("petrel segment:t")
        expect(page.locator("""datalist option[value='petrel segment:"tide gauges"']""")).to_have_count(1)
        field.fill("verdict:astray guest:buoy")
        page.get_by_role("button", name="Pick the adapter").click()
        expect(page.get_by_text("1 adapter picked")).to_be_visible()
        # The finder takes the same, is completed, and leads to all of them.
        page.keyboard.press("Control+k")
        found = page.get_by_role("option")
        page.keyboard.type("role:st")
        expect(found.first).to_contain_text("role:storage")
        page.keyboard.press("Enter")
        expect(page.get_by_role("combobox", name="Find a host")).to_have_value("role:storage")
        page.keyboard.press("Control+a")
        page.keyboard.type("vid:300 quay-b")
        expect(found.filter(has_text="fabric port").first).to_contain_text("quay-b")
        expect(found.filter(has_text="cable").first).to_contain_text("quay-b")
        page.keyboard.press("Control+a")
        page.keyboard.type('owner:"ferry services" note:night')
        expect(found.filter(has_text="guest")).to_contain_text("ticketing-db")
        page.keyboard.press("Control+a")
        page.keyboard.type("role:storage host:gannet")
        expect(found).to_have_count(2)
        expect(found.nth(1)).to_contain_text("gannet/store")
        page.keyboard.press("Control+a")
        page.keyboard.type("vid:210-220")
        expect(found.filter(has_text="segment")).to_have_count(2)
        page.keyboard.press("Enter")
        expect(field).to_have_value("vid:210-220")
        expect(page.get_by_role("treegrid").locator(".cell-link").first).to_be_visible()
        page.keyboard.press("Control+k")
        page.keyboard.type("rule:x")
        expect(page.get_by_role("alert").filter(has_text="there is no field “rule”").first).to_be_visible()
        page.keyboard.press("Escape")


class TakeSheetTest(BrowserTest):
    SHEET = "Bezeichnung;VLAN;Netz\nlounge;250;10.65.50.0/24\nticketing;210;10.65.10.0/24\n"

    def choose(self, text: str) -> None:
        with self.page.expect_file_chooser() as chooser:
            self.page.get_by_role("button", name="file").click()
        chooser.value.set_files({"name": "vlans.csv", "mimeType": "text/csv", "buffer": text.encode()})

    def test_somebody_else_s_sheet_is_mapped_once_taken_and_remembered(self) -> None:
        page = self.page
        page.keyboard.press("8")
        page.get_by_role("button", name="Take a sheet").click()
        panel = page.get_by_role("region", name="Take a sheet")
        self.choose(self.SHEET.replace("250", "5000"))
        expect(panel.get_by_text("no column is the segments’ name")).to_be_visible()
        panel.get_by_label("name*").select_option("Bezeichnung")
        expect(panel.get_by_text("vlans.csv, row 2, column B (VLAN): segment, field vid: VID 5000")).to_be_visible()
        expect(panel.get_by_role("button", name="Take it")).to_be_disabled()
        self.accessible()
        self.choose(self.SHEET)
        panel.get_by_label("name*").select_option("Bezeichnung")
        panel.get_by_label("subnets").select_option("Netz")
        expect(panel.get_by_text("Sheet vlans.csv: 1 segment made")).to_be_visible()
        expect(panel.get_by_text("no verdict changes")).to_be_visible()
        panel.get_by_role("button", name="Take it").click()
        expect(page.get_by_role("status").filter(has_text="1 segment made")).to_be_visible()
        expect(page.get_by_text("16 segments")).to_be_visible()
        # The next one with these titles is understood.
        page.get_by_role("button", name="Take a sheet").click()
        self.choose(self.SHEET.replace("lounge", "quarters").replace("250", "260").replace("50.0", "60.0"))
        expect(panel.get_by_label("subnets")).to_have_value("Netz")
        expect(panel.get_by_text("1 segment made")).to_be_visible()


class StrandTest(BrowserTest):
    def test_a_segment_alone_tells_its_breaks_and_who_could_overhear(self) -> None:
        page = self.page
        page.keyboard.press("0")
        expect(page.get_by_role("radio", name="One segment")).to_be_checked()
        page.get_by_role("combobox", name="Segment").fill("berth pl")
        page.keyboard.press("Enter")
        tree = page.get_by_role("tree", name="berth planning alone")
        lines = tree.get_by_role("treeitem")
        expect(lines.first).to_contain_text("marsh-a")
        expect(lines.filter(has_text="access port on 130: frames tagged 220 are dropped")).to_be_visible()
        expect(lines.filter(has_text="p3: sent on to nic0 of razorbill, behind which nobody needs it")).to_be_visible()
        self.accessible()
        with page.expect_download() as download:
            page.get_by_role("link", name="Save as SVG").click()
        self.assertEqual(download.value.suggested_filename, "Brackwater-Ferries-berth-planning.svg")
        # Folded by keyboard, a line says what it hides.
        tree.focus()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("ArrowDown")
        page.keyboard.press("ArrowLeft")
        kittiwake = lines.filter(has_text="kittiwake nic0")
        expect(kittiwake).to_have_attribute("aria-expanded", "false")
        expect(kittiwake.get_by_role("img", name="exposed")).to_be_visible()
        page.keyboard.press("ArrowRight")
        expect(kittiwake).to_have_attribute("aria-expanded", "true")
        # A line without lines of its own has nothing to fold.
        broken = lines.filter(has_text="drawn elsewhere too").first
        expect(broken.get_by_role("button")).to_have_count(0)
        page.get_by_role("button", name="Breaks and ears alone").click()
        expect(kittiwake).to_have_count(0)
        expect(lines.filter(has_text="p11").first.get_by_role("button")).to_have_count(0)
        expect(lines.filter(has_text="p11")).to_have_count(2)
        page.keyboard.press("Tab")
        tree.focus()
        page.keyboard.press("Home")
        page.keyboard.press("Enter")
        page.wait_for_url("**/decks?at=marsh-a")

    def test_a_cable_is_labelled_where_it_is_looked_at(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/strand?cable=cable-terminals")
        expect(page.get_by_text("over N1 port 3, S1 port 3")).to_be_visible()
        page.get_by_role("button", name="Change", exact=True).click()
        page.get_by_label("Patch panels").fill("N1 port 3, M7 port 9, S1 port 3")
        page.get_by_label("Owner").fill("harbour platform")
        page.get_by_role("button", name="Take it").click()
        expect(page.get_by_text("over N1 port 3, M7 port 9, S1 port 3")).to_be_visible()
        expect(page.get_by_text("owner harbour platform")).to_be_visible()
        self.accessible()

    def test_a_cable_alone_is_pruned_of_what_nobody_needs(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/strand?segment=segment-cctv")
        lines = page.get_by_role("tree").get_by_role("treeitem")
        lines.filter(has_text="sent on to nic0 of razorbill").get_by_role("link").click()
        table = page.get_by_role("table", name="What the cable carries")
        row = table.get_by_role("row").filter(has_text="CCTV")
        expect(row).to_contain_text("by nobody")
        expect(page.get_by_text("A tap here reads the broadcasts of")).to_be_visible()
        page.get_by_role("button", name="Prune this cable").click()
        expect(page.get_by_text("Takes 220, 230, 240 off the lists of its ports")).to_be_visible()
        expect(page.get_by_text("no verdict changes")).to_be_visible()
        self.accessible()
        page.get_by_role("button", name="Prune this cable").last.click()
        expect(row).to_have_count(0)
        expect(page.get_by_role("status").filter(has_text="Prune the cable from nic0 of razorbill")).to_be_visible()
        page.keyboard.press("Control+z")
        expect(row).to_contain_text("by nobody")

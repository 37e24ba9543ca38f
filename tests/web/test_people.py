"""What people do in the browser, from login to a mended plan."""

from __future__ import annotations

import json
import re
import unittest
from typing import Any

from playwright.sync_api import expect

from tests.server.support import URL, Client, patch
from tests.support import ROOT, TWO_HOSTS
from tests.web.support import SESSIONS, BrowserTest, someone


class LoginTest(BrowserTest):
    def test_a_wrong_password_is_said_and_what_was_typed_stays(self) -> None:
        self.page.get_by_role("button", name="Log out").click()
        SESSIONS.clear()
        self.page.get_by_label("Name").fill("ines")
        self.page.get_by_label("Password").fill("guess")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("alert")).to_contain_text("No user has this name and password")
        expect(self.page.get_by_label("Name")).to_have_value("ines")
        self.accessible()

    def test_who_logs_out_in_one_window_is_logged_out_in_the_others(self) -> None:
        other = self.person("ines")
        other.goto(f"{URL}/plans/{self.plan}/landing")
        expect(self.count("home", other)).to_have_text("34")
        self.page.get_by_role("button", name="Log out").click()
        SESSIONS.clear()
        expect(other.get_by_label("Password")).to_be_visible()


class VerdictsTest(BrowserTest):
    def test_verdicts_finding_proof_mend_undo_redo(self) -> None:
        expect(self.count("home")).to_have_text("34")
        self.finding("tide-gauge-view loses its gateway").click()
        body = self.page.locator(".finding.open")
        # The first mend has the focus; who goes back to the proof stays there, whatever opens.
        expect(body.get_by_role("button", name="Mend 1 of")).to_be_focused()
        self.page.keyboard.press("Shift+Tab")
        self.page.keyboard.press("Enter")
        expect(body.get_by_role("listitem").filter(has_text="230 is missing")).to_be_visible()
        expect(body.get_by_role("button", name="Proof")).to_be_focused()
        self.accessible()
        body.get_by_role("button", name="Allow 230 on port p2 of quay-b").focus()
        self.page.keyboard.press("Enter")
        expect(self.count("home")).to_have_text("35")
        expect(self.page.locator("[data-verdict=wavering]")).to_contain_text("−1")
        expect(self.finding("tide-gauge-view loses")).to_have_count(0)
        self.page.keyboard.press("Control+z")
        expect(self.count("home")).to_have_text("34")
        expect(self.finding("tide-gauge-view loses")).to_be_visible()
        self.page.keyboard.press("Control+Shift+z")
        expect(self.count("home")).to_have_text("35")

    def test_a_mend_says_what_it_would_bring(self) -> None:
        self.finding("storage rests on a single NIC").click()
        mend = self.page.get_by_role("button", name="Move what is on store0 of fulmar")
        expect(mend).to_contain_text("(worse for gannet’s store)")
        expect(mend).to_contain_text("A rule is broken: role storage and role production share no VID")
        self.accessible()

    def test_an_edit_from_a_second_browser_arrives_by_itself(self) -> None:
        other = self.person("tomas")
        other.goto(f"{URL}/plans/{self.plan}/landing")
        expect(self.count("home", other)).to_have_text("34")
        expect(self.page.get_by_role("list", name="People in this plan")).to_contain_text("tomas")
        self.finding("tide-gauge-buoy lands on VID 203").click()
        self.page.get_by_role("button", name="Tag port group tide gauges 230").click()
        expect(self.count("home")).to_have_text("35")
        expect(self.count("home", other)).to_have_text("35")
        expect(other.get_by_role("status")).to_contain_text("ines: Tag port group tide gauges 230")

    def test_a_form_tells_when_somebody_saves_the_field_that_is_open_in_it(self) -> None:
        other = Client("tomas")
        group = "petrel/guests0/tide-gauges"
        slot = self.page.get_by_role("button", name="Port group tide gauges, tag 203")
        slot.scroll_into_view_if_needed()
        slot.click()
        field = self.page.get_by_label("Tag of port group tide gauges")
        field.fill("221")
        self.assertEqual(other.edit(self.plan, 0, patch("port_group", group, vid=222))[0], 200)
        alert = self.page.get_by_role("alert")
        expect(alert).to_contain_text("tomas saved 222 meanwhile, and you have 221")
        self.accessible()
        field.press("Enter")
        expect(alert).to_be_visible()
        self.assertEqual(other.get(f"plans/{self.plan}")[1]["revision"], 1, "nothing was sent")
        alert.get_by_role("button", name="Keep 221").click()
        field.press("Enter")
        expect(self.page.get_by_text("revision 2")).to_be_visible()
        self.assertEqual(self.vid(other, group), 221)
        # An undo that would take somebody's edit with it names who, and what.
        self.assertEqual(other.edit(self.plan, 2, patch("port_group", group, vid=222))[0], 200)
        expect(self.page.get_by_text("revision 3")).to_be_visible()
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("Control+z")
        told = "This can’t be undone. tomas changed port group tide gauges of petrel meanwhile"
        expect(self.page.get_by_role("alert")).to_contain_text(told)

    def test_a_form_follows_what_somebody_else_saves_where_nothing_was_typed(self) -> None:
        other = Client("tomas")
        group = "petrel/guests0/tide-gauges"
        self.page.get_by_role("button", name="Port group tide gauges, tag 203").click()
        self.page.get_by_role("button", name="All that it allows and limits").click()
        panel = self.page.get_by_role("dialog")
        panel.get_by_label("Name").fill("gauges")
        self.assertEqual(other.edit(self.plan, 0, patch("port_group", group, vid=222))[0], 200)
        expect(panel.get_by_role("status")).to_contain_text("tomas changed this while it was open")
        expect(panel.get_by_label("VID", exact=True)).to_have_value("222")
        panel.get_by_role("button", name="Take it").click()
        expect(self.page.get_by_text("revision 2")).to_be_visible()
        self.assertEqual(self.vid(other, group), 222, "what the other saved still stands")

    def vid(self, client: Client, group: str) -> int:
        """A port group's VID, as the server has it."""
        found = client.whole(self.plan)["records"]["port_group"]
        return next(int(g["vid"]) for g in found if g["id"] == group)


class DecksTest(BrowserTest):
    def test_the_drawing_is_accessible_in_light_and_dark(self) -> None:
        expect(self.page.get_by_role("button", name=re.compile("^gannet Northquay"))).to_be_visible()
        self.accessible()
        self.page.get_by_role("button", name="Light or dark").click()
        self.accessible()

    def test_a_tag_is_changed_in_place_with_the_outcome_before(self) -> None:
        slot = self.page.get_by_role("button", name="Port group tide gauges, tag 203")
        slot.scroll_into_view_if_needed()
        slot.click()
        field = self.page.get_by_label("Tag of port group tide gauges")
        field.fill("4095")
        expect(self.page.get_by_text("A VID is a number from 1 to 4094")).to_be_visible()
        field.fill("230")
        expect(self.page.get_by_text("1 astray → home")).to_be_visible()
        field.press("Enter")
        expect(self.count("home")).to_have_text("35")
        expect(self.page.get_by_role("button", name=re.compile("Port group tide gauges, tag 230")).last).to_be_visible()

    def test_escape_leaves_everything_as_it_was(self) -> None:
        slot = self.page.get_by_role("button", name="Port group CCTV, tag 240").first
        slot.click()
        self.page.get_by_label("Tag of port group CCTV").fill("300")
        self.page.keyboard.press("Escape")
        expect(slot).to_be_focused()
        expect(self.page.get_by_text("revision 0")).to_be_visible()

    def test_an_adapter_is_dragged_and_the_outcome_stands_on_the_slots(self) -> None:
        tab = self.page.get_by_role("button", name=re.compile("^tap-ticketing-web-1 of"))
        slot = self.page.get_by_role("region", name="Host gannet").get_by_role(
            "button", name="Port group berth planning"
        )
        a, b = tab.bounding_box(), slot.bounding_box()
        assert a and b
        self.page.mouse.move(a["x"] + 12, a["y"] + 8)
        self.page.mouse.down()
        self.page.mouse.move(a["x"] + 30, a["y"] + 40, steps=4)
        self.page.mouse.move(b["x"] + 30, b["y"] + 10, steps=6)
        expect(self.page.locator(".slot-outcome").filter(has_text="astray").first).to_be_visible()
        self.page.mouse.up()
        expect(self.count("home")).to_have_text("33")
        expect(tab).to_have_accessible_name("tap-ticketing-web-1 of ticketing-web-1: astray, in berth planning")

    def test_a_guest_is_dragged_to_another_host_which_says_how_it_would_fare(self) -> None:
        card = self.page.get_by_role("button", name="crew-roster", exact=True)
        host = self.page.get_by_role("region", name="Host gannet").get_by_role(
            "button", name="Port group berth planning"
        )
        a, b = card.bounding_box(), host.bounding_box()
        assert a and b
        self.page.mouse.move(a["x"] + 12, a["y"] + 8)
        self.page.mouse.down()
        self.page.mouse.move(a["x"] + 30, a["y"] + 40, steps=4)
        expect(self.page.locator(".slot-outcome").filter(has_text="move here").first).to_be_visible()
        self.page.mouse.move(b["x"] + 30, b["y"] + 40, steps=6)
        expect(self.page.locator(".slot-outcome").filter(has_text="home")).to_be_visible()
        # Esc lets go, and nothing is moved.
        self.page.keyboard.press("Escape")
        self.page.mouse.up()
        expect(self.page.locator(".slot-outcome")).to_have_count(0)
        expect(self.page.get_by_text("revision 0")).to_be_visible()
        card.focus()
        self.page.keyboard.press("m")
        expect(self.page.get_by_label("To host")).to_be_visible()
        self.page.keyboard.press("Escape")
        self.page.mouse.move(a["x"] + 12, a["y"] + 8)
        self.page.mouse.down()
        self.page.mouse.move(b["x"] + 30, b["y"] + 40, steps=6)
        self.page.mouse.up()
        expect(self.page.get_by_text("revision 1")).to_be_visible()
        moved = self.page.get_by_role("region", name="Host gannet").get_by_role(
            "button", name="crew-roster", exact=True
        )
        expect(moved).to_be_visible()

    def test_an_adapter_is_moved_by_keyboard(self) -> None:
        tab = self.page.get_by_role("button", name=re.compile("^tap-ticketing-web-1 of"))
        tab.focus()
        self.page.keyboard.press("m")
        choices = self.page.get_by_role("listbox", name="Port groups")
        expect(choices).to_be_focused()
        expect(choices.get_by_role("option").first).to_contain_text("astray")
        self.accessible()
        self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("Enter")
        expect(tab).to_have_accessible_name(re.compile("astray, in tide gauges"))
        expect(self.page.get_by_text("revision 1")).to_be_visible()

    def test_two_cables_are_swapped_back_by_dragging_one(self) -> None:
        self.page.locator(".canvas").evaluate("n => n.scrollTo(n.scrollWidth, 0)")
        a = self.page.get_by_role("button", name=re.compile("^Port p11 of marsh-a")).bounding_box()
        b = self.page.get_by_role("button", name=re.compile("^Port p2 of marsh-a")).bounding_box()
        assert a and b
        self.page.mouse.move(a["x"] + 20, a["y"] + 20)
        self.page.mouse.down()
        self.page.mouse.move(a["x"] + 40, a["y"] + 24, steps=4)
        self.page.mouse.move(b["x"] + 20, b["y"] + 20, steps=6)
        expect(self.page.locator(".slot-outcome").filter(has_text="home").first).to_be_visible()
        self.page.mouse.up()
        expect(self.count("wavering")).to_have_text("1")
        expect(self.count("home")).to_have_text("39")

    def test_a_cable_is_plugged_by_keyboard_and_a_port_is_edited(self) -> None:
        nic = self.page.get_by_role("region", name="Host petrel").get_by_role("button", name=re.compile("^nic3, alone"))
        nic.focus()
        nic.press("Enter")
        ports = self.page.get_by_role("listbox", name="Ports")
        expect(ports).to_contain_text("marsh-a p20")
        for _ in range(9):
            if "marsh-a p20" in (ports.locator("[aria-selected=true]").text_content() or ""):
                break
            self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("Enter")
        port = self.page.get_by_role("button", name=re.compile("^Port p20 of marsh-a"))
        expect(port).to_be_visible()
        expect(self.count("unproven")).to_have_text("1")
        port.press("Enter")
        panel = self.page.get_by_role("dialog", name="Port p20 of marsh-a")
        panel.get_by_label("VID").fill("130")
        expect(panel.get_by_text("1 stranded → astray")).to_be_visible()
        panel.get_by_role("button", name="Take it").click()
        expect(self.page.get_by_role("button", name=re.compile("^Port p20 of marsh-a, access 130"))).to_be_visible()

    def test_a_refused_edit_keeps_what_was_typed_and_says_why(self) -> None:
        self.page.get_by_role("button", name="Port group CCTV, tag 240").first.click()
        self.page.get_by_role("button", name="All that it allows and limits").click()
        panel = self.page.get_by_role("dialog", name="Port group CCTV")
        panel.get_by_label("Name").fill("ticketing")
        expect(panel.get_by_text("is taken by port group")).to_be_visible()
        expect(panel.get_by_role("button", name="Take it")).to_be_disabled()
        expect(panel.get_by_label("Name")).to_have_value("ticketing")

    def test_following_a_segment_is_in_the_address_and_shows_where_it_breaks(self) -> None:
        self.page.get_by_role("button", name="CCTV 240").click()
        expect(self.page).to_have_url(re.compile("follow=segment-cctv"))
        expect(self.page.get_by_text("240 is missing", exact=True).first).to_be_visible()
        expect(self.page.locator("svg.lines path").first).to_be_attached()

    def test_a_host_that_is_off_its_pattern_says_so(self) -> None:
        self.page.locator(".canvas").evaluate("n => n.scrollTo(n.scrollWidth, 0)")
        expect(self.page.get_by_role("button", name=re.compile("^petrel .*off its pattern"))).to_be_visible()
        expect(self.page.get_by_role("button", name=re.compile("^kittiwake .*off its pattern"))).to_have_count(0)

    def test_a_view_whose_code_does_not_come_says_so(self) -> None:
        page = self.person("ines")
        page.route("**/assets/Ledger-*.js", lambda route: route.abort())
        page.goto(f"{URL}/plans/{self.plan}/ledger")
        expect(page.get_by_role("alert")).to_contain_text("This view didn’t come from the server")
        page.get_by_role("link", name="Decks", exact=True).click()
        expect(page.locator(".column-head").first).to_be_visible()
        page.unroute_all()
        page.get_by_role("link", name="Ledger", exact=True).click()
        page.reload()
        expect(page.locator(".ledger .rgCell").first).to_be_visible()

    def test_folding_a_host_and_the_finder(self) -> None:
        self.page.get_by_role("button", name=re.compile("^fulmar Northquay")).click()
        expect(self.page.get_by_role("button", name=re.compile("^tap-cctv-archive"))).to_have_count(0)
        self.page.keyboard.press("Control+k")
        # As records have it, or as a switch shows it.
        self.page.keyboard.type("0264.0B00.0011")
        expect(self.page.get_by_role("option").first).to_contain_text("petrel/tap-tide-gauge-buoy")
        self.accessible()
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("button", name=re.compile("^tap-tide-gauge-buoy of"))).to_be_focused()
        # A tag within a list, a host that is folded up, and what stands nowhere on the drawing.
        self.page.keyboard.press("Control+k")
        self.page.keyboard.type("firewall 230")
        expect(self.page.get_by_role("option").first).to_contain_text("port group")
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("Control+k")
        self.page.keyboard.type("cctv-archive")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("button", name="cctv-archive", exact=True)).to_be_focused()
        self.page.keyboard.press("Control+k")
        self.page.keyboard.type("lag3")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("dialog", name="LAG lag3").get_by_label("Name")).to_be_focused()
        self.page.keyboard.press("Escape")
        expect(self.page.get_by_role("dialog")).to_have_count(0)
        self.page.keyboard.press("?")
        expect(self.page.get_by_role("dialog", name="Keys")).to_be_visible()
        self.accessible()


class WordsTest(BrowserTest):
    def test_a_word_of_ours_says_what_it_means_when_pointed_at_and_when_focused(self) -> None:
        column = self.page.get_by_role("complementary", name="Verdicts")
        # What is drawn scrolls into place, and a tip goes away with that.
        expect(self.page.get_by_role("button", name="Build on gannet")).to_be_visible()
        column.get_by_text("wavering", exact=True).hover()
        expect(self.page.get_by_role("tooltip")).to_contain_text("works until a failover")
        self.accessible()
        self.page.mouse.move(400, 500)
        expect(self.page.get_by_role("tooltip")).to_have_count(0)
        column.get_by_text("stranded", exact=True).focus()
        expect(self.page.get_by_role("tooltip")).to_contain_text("cut off from its gateway")


USUAL = ["verdict", "endpoint", "host", "tag", "belongs", "lands", "address", "gateway", "could", "mend"]


class LandingTest(BrowserTest):
    def cell(self, column: str, row: int) -> Any:
        """A cell of Landing by its column and its place from above, heads of groups counted."""
        return self.page.locator(f"[role=gridcell][data-rgrow='{row}'].landing-{column}")

    def test_filter_group_and_take_a_mend(self) -> None:
        self.page.keyboard.press("2")
        table = self.page.get_by_role("treegrid", name="Landing of every endpoint")
        expect(table).to_be_visible()
        self.accessible()
        self.page.get_by_label("Filter", exact=True).fill("gauge-buoy")
        expect(self.page.get_by_text("1 of 56 places shown")).to_be_visible()
        expect(self.cell("lands", 1)).to_have_text("no segment 203")
        self.page.get_by_role("button", name="Take the mend: Tag port group tide gauges 230").click()
        expect(self.count("home")).to_have_text("35")
        self.page.get_by_label("Filter", exact=True).fill("")
        self.page.get_by_role("button", name="exposed", exact=True).click()
        expect(self.page.get_by_text("5 of 56 places shown")).to_be_visible()
        self.page.get_by_label("Group by").select_option("host")
        expect(table.get_by_role("row").filter(has_text=re.compile("^kittiwake 1$"))).to_be_visible()
        table.get_by_role("button", name="berth-display").click()
        expect(self.page.get_by_role("button", name=re.compile("^tap-berth-display of"))).to_be_focused()

    def test_names_stand_in_the_order_in_which_people_count(self) -> None:
        plan = json.loads((ROOT / "demo" / "brackwater.json").read_text())
        guests = [g for g in plan["records"]["guest"] if g["host"] == "gannet"]
        own = {a["guest"] for a in plan["records"]["adapter"]}
        names = ["berth 10", "berth 9", "Äsche", "berth-2"]
        chosen = [g for g in guests if g["id"] in own][: len(names)]
        for guest, name in zip(chosen, names, strict=True):
            guest["name"] = name
        file = {"name": "p.json", "mimeType": "application/json", "buffer": json.dumps(plan).encode()}
        self.page.goto(f"{URL}/plans")
        self.page.get_by_label("Plan file").set_input_files(file)  # type: ignore[arg-type]
        self.page.get_by_role("link", name="Landing").click()
        for grouping in ("host", "nothing"):
            self.page.get_by_label("Group by").select_option(grouping)
            self.page.get_by_label("Filter", exact=True).fill("host:gannet guest:b")
            shown = self.page.get_by_role("treegrid")
            expect(shown).to_contain_text("berth-2")
            told = shown.locator(".cell-link").all_text_contents()
            berths = [found[0] for text in told if (found := re.match(r"berth[ -]\d+", text))]
            self.assertEqual(list(dict.fromkeys(berths)), ["berth 9", "berth 10", "berth-2"])

    def test_cells_are_read_copied_and_acted_on_by_keyboard(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/landing")
        page.get_by_label("Filter", exact=True).fill("verdict:astray")
        expect(self.cell("endpoint", 3)).to_have_text("tide-gauge-buoy")
        page.locator("revo-grid").focus()
        expect(page.locator("[role=gridcell]:focus")).to_have_text("astray 3")
        self.keys(*["ArrowDown"] * 3, *["ArrowRight"] * 9)
        expect(page.locator("[role=gridcell]:focus")).to_contain_text("Tag port group tide gauges 230")
        # Cells that are picked together go to a spreadsheet as they are read.
        self.keys(*["ArrowLeft"] * 5)
        page.keyboard.press("Shift+ArrowLeft")
        page.wait_for_timeout(200)
        page.keyboard.press("Control+c")
        field = page.get_by_label("Filter", exact=True)
        field.fill("")
        field.press("Control+v")
        expect(field).to_have_value("untagged\ttide gauges 230")
        field.fill("verdict:astray")
        self.cell("mend", 3).click(position={"x": 2, "y": 2})
        page.keyboard.press("Enter")
        expect(page).to_have_url(re.compile("finding="))
        self.cell("mend", 3).click(position={"x": 2, "y": 2})
        page.keyboard.press("Shift+Enter")
        expect(self.count("astray")).to_have_text("2")

    def kept(self, wanted: set[str]) -> None:
        """The server holds these columns by now, or soon."""
        for _ in range(300):
            held = someone().get("columns/landing")[1]["columns"] or []
            if wanted <= set(held) and "gateway" not in held:
                return
            self.page.wait_for_timeout(100)
        self.fail(f"the server holds {held}")

    def test_columns_are_chosen_and_remembered(self) -> None:
        page = self.page
        self.addCleanup(someone().put, "columns/landing", {"columns": USUAL})
        page.keyboard.press("2")
        heads = page.get_by_role("columnheader")
        expect(heads).to_have_text([re.compile(name, re.IGNORECASE) for name in USUAL])
        page.get_by_role("button", name="Columns").click()
        for name in ("Owner", "Note", "Gateway"):
            page.get_by_role("menuitemcheckbox", name=name).click()
        page.keyboard.press("Escape")
        expect(heads.filter(has_text="Owner")).to_be_visible()
        expect(heads.filter(has_text="Gateway")).to_have_count(0)
        self.accessible()
        page.get_by_label("Filter", exact=True).fill('owner:"ferry services" verdict:exposed')
        expect(page.get_by_role("gridcell", name="Moves only at night")).to_be_visible()
        expect(page.get_by_role("gridcell", name="ticketing-db", exact=True)).to_be_visible()
        self.kept({"owner", "note"})
        page.reload()
        expect(heads.filter(has_text="Note")).to_be_visible()
        page.get_by_role("button", name="Columns").click()
        page.get_by_role("menuitem", name="The usual ones").click()
        expect(heads.filter(has_text="Note")).to_have_count(0)
        expect(heads.filter(has_text="Gateway")).to_be_visible()


class TraceTest(BrowserTest):
    def test_a_trace_from_two_endpoints_there_and_back(self) -> None:
        self.page.keyboard.press("3")
        expect(self.page.get_by_role("heading", name="Choose two endpoints")).to_be_visible()
        self.page.get_by_role("combobox", name="From").fill("cctv-rec")
        expect(self.page.get_by_role("option")).to_have_count(1)
        self.page.keyboard.press("Enter")
        self.page.get_by_role("combobox", name="To", exact=True).fill("gannet/tap-fw-in|240")
        expect(self.page.get_by_role("option")).to_have_count(1)
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name=re.compile("^There: cctv-recorder"))).to_contain_text(
            "does not arrive"
        )
        row = self.page.get_by_role("row").filter(has_text="240 is missing").first
        expect(row).to_contain_text("port x49 of marsh-a")
        expect(self.page).to_have_url(re.compile("a=kittiwake"))
        self.accessible()
        self.page.get_by_role("combobox", name="From").fill("array")
        expect(self.page.get_by_role("option").first).to_contain_text("quay-array")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name=re.compile("^There: quay-array"))).to_be_visible()

    def test_a_ping_over_a_router_tells_its_hops_and_what_takes_it_away(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/trace?a=gannet/tap-ticketing-web-1&b=gannet/tap-berth-planner")
        ping = page.get_by_role("region", name="Ping")
        expect(ping).to_contain_text("berth-planner (10.65.20.11) answers ticketing-web-1.")
        expect(ping).to_contain_text("Packets of up to 1,500 bytes get there and back.")
        question = ping.get_by_role("table").first
        expect(question.get_by_role("row").nth(1)).to_contain_text("by its gateway 10.65.10.1")
        expect(question.get_by_role("row").nth(2)).to_contain_text("on link")
        expect(page.get_by_role("heading", name="The question, hop 2")).to_contain_text("arrives")
        self.accessible()
        # The router stops forwarding, in somebody's edit: the answer changes by itself.
        someone().edit(self.plan, 0, patch("guest", "guest-edge-firewall", routes=False))
        expect(ping).to_contain_text("edge-firewall gets it as next hop 10.65.10.1, and doesn’t forward")
        to = page.get_by_role("combobox", name="To", exact=True)
        to.fill("192.0.2.7")
        expect(page.get_by_role("option")).to_contain_text("as an address")
        page.keyboard.press("Enter")
        expect(ping).to_contain_text("192.0.2.7")
        expect(page).to_have_url(re.compile("b=192.0.2.7"))

    def test_a_gateway_in_landing_is_pinged(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/landing")
        page.get_by_label("Filter", exact=True).fill("ticketing-web-2")
        expect(page.get_by_text("1 of 56 places shown")).to_be_visible()
        page.get_by_role("button", name="10.65.10.1", exact=True).click()
        expect(page.get_by_role("region", name="Ping")).to_contain_text("10.65.10.1 answers ticketing-web-2.")
        page.go_back()
        page.get_by_label("Filter", exact=True).fill("ticketing-web-2")
        expect(page.get_by_text("1 of 56 places shown")).to_be_visible()
        page.get_by_role("button", name="10.65.10.12").click()
        expect(page.get_by_role("combobox", name="From")).to_have_value("ticketing-web-2")
        expect(page.get_by_role("heading", name="Choose two endpoints")).to_be_visible()

    def test_a_route_is_written_at_a_guest(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/decks?at=guest-edge-firewall")
        guest = page.locator('.guest[data-id="guest-edge-firewall"]')
        expect(guest).to_contain_text("forwards between lan0 tag 210 (ticketing)")
        guest.click()
        panel = page.get_by_role("dialog")
        panel.get_by_role("button", name="Routes", exact=True).click()
        panel.get_by_label("Subnets").fill("0.0.0.0/0")
        panel.get_by_label("Next hop").fill("198.51.100.1")
        panel.get_by_role("button", name="Add the route").click()
        expect(page.get_by_text("revision 1", exact=True)).to_be_visible()
        made = [(r["of"], r["to"], r["via"]) for r in someone().whole(self.plan)["records"]["route"]]
        self.assertIn(("guest-edge-firewall", ["0.0.0.0/0"], "198.51.100.1"), made)


class HistoryTest(BrowserTest):
    def test_what_somebody_did_is_found_looked_at_marked_and_brought_back(self) -> None:
        page = self.page
        other = someone()
        other.edit(self.plan, 0, patch("host_port", "gannet/guests0/mgmt", vid=None))
        other.edit(self.plan, 1, patch("segment", "segment-edge", role="rim"))
        expect(page.get_by_text("revision 2", exact=True)).to_be_visible()
        page.keyboard.press("5")
        main = page.get_by_role("region", name="What changed")
        expect(main.get_by_role("heading", name="Revision 2")).to_be_visible()
        expect(main.get_by_text("Nobody’s verdict differs.")).to_be_visible()
        page.get_by_role("region", name="Revisions").get_by_role("button").nth(1).click()
        expect(main.get_by_text("1 home → astray")).to_be_visible()
        expect(main.get_by_role("list", name="Records that differ")).to_contain_text("host port mgmt of gannet VID 110")
        expect(main.get_by_role("list", name="Newly found")).to_contain_text("gannet’s mgmt lands nowhere")
        page.get_by_label("A mark for revision 1").fill("the night it broke")
        page.keyboard.press("Enter")
        expect(main.get_by_text("the night it broke, by ines")).to_be_visible()
        self.accessible()
        main.get_by_role("link", name="Look at it").click()
        expect(page.get_by_text("Revision 1 as it was")).to_be_visible()
        expect(self.count("home")).to_have_text("33")
        self.accessible()
        port = page.get_by_role("button", name=re.compile("^Port group ticketing, tag 210")).first
        port.focus()
        page.keyboard.press("Enter")
        page.keyboard.type("211")
        expect(page.get_by_role("status").filter(has_text="→").first).to_be_visible()
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("nothing can be changed here")
        page.keyboard.press("Escape")
        # A form shows what would come of it, and can't be taken.
        page.get_by_role("button", name="crew-roster", exact=True).click()
        panel = page.get_by_role("dialog")
        panel.get_by_label("Name").fill("crew-lists")
        expect(panel.get_by_text("nothing can be changed here")).to_be_visible()
        expect(panel.get_by_role("button", name="Take it")).to_be_disabled()
        panel.get_by_label("Name").press("Escape")
        page.get_by_role("link", name="Its place in the history").click()
        page.get_by_label("beside revision").fill("0")
        page.keyboard.press("Enter")
        page.get_by_role("region", name="Revisions").get_by_role("button").nth(2).click()
        expect(main.get_by_text("Nothing came before it")).to_be_visible()
        expect(main.get_by_role("table")).to_have_count(0)
        main.get_by_role("button", name="Bring it back").click()
        expect(main.get_by_role("heading", name="Revision 3")).to_be_visible()
        expect(self.count("home")).to_have_text("34")


class ReadingTest(BrowserTest):
    def test_the_captures_are_read_reported_and_made_a_plan(self) -> None:
        self.page.goto(f"{URL}/plans")
        self.page.get_by_role("link", name="Read real hosts").click()
        self.page.get_by_label("Folder with host states").set_input_files(str(TWO_HOSTS))
        expect(self.page.get_by_text("2 wavering")).to_be_visible()
        expect(self.page.get_by_role("heading", name=re.compile("^Proposed"))).to_be_visible()
        self.accessible()
        self.page.get_by_label("Name of the plan").fill("Quay hosts as read")
        self.page.get_by_role("button", name="Make the plan").click()
        expect(self.page.get_by_role("heading", name="Quay hosts as read")).to_be_visible()
        expect(self.finding("edge-firewall and tide-gauge-ingest lose each other")).to_be_visible()

    def test_a_plan_file_goes_in_and_out_and_a_bad_one_says_why(self) -> None:
        self.page.goto(f"{URL}/plans")
        self.accessible()
        bad = {"name": "bad.json", "mimeType": "application/json", "buffer": b'{"format": "other"}'}
        self.page.get_by_label("Plan file").set_input_files(bad)  # type: ignore[arg-type]
        expect(self.page.get_by_role("alert")).to_contain_text("bad.json")
        self.page.get_by_label("Plan file").set_input_files(str(ROOT / "demo" / "brackwater.json"))
        expect(self.page.get_by_role("heading", name="Brackwater Ferries")).to_be_visible()
        self.page.get_by_role("button", name="Export").click()
        with self.page.expect_download() as download:
            self.page.get_by_role("menuitem", name="Plan file").click()
        exported = json.loads(download.value.path().read_text())
        self.assertEqual(exported, json.loads((ROOT / "demo" / "brackwater.json").read_text()))

    def test_plans_are_made_copied_renamed_and_wait_in_the_bin(self) -> None:
        page = self.page
        name = f"Annex {self.plan[:8]}"
        page.goto(f"{URL}/plans")
        page.get_by_role("button", name="New plan").click()
        page.keyboard.type(name)
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", name="This plan has no hosts")).to_be_visible()
        page.goto(f"{URL}/plans")
        act = page.get_by_role("button", name=f"What to do with {name}", exact=True)
        line = page.get_by_role("row").filter(has=act)
        expect(line).to_contain_text("no endpoint yet")
        act.click()
        page.get_by_role("menuitem", name="Rename").click()
        expect(page.get_by_label(f"New name of {name}")).to_be_focused()
        page.keyboard.type(f"{name} B")
        page.keyboard.press("Enter")
        act = page.get_by_role("button", name=f"What to do with {name} B", exact=True)
        act.click()
        page.get_by_role("menuitem", name="Copy").click()
        expect(page.get_by_label(f"Name of the copy of {name} B")).to_have_value(f"{name} B, copy")
        page.keyboard.type("W" * 75)
        page.keyboard.press("Enter")
        long = page.get_by_role("link", name="W" * 75)
        expect(long.first).to_be_visible()
        self.accessible()
        act.click()
        page.get_by_role("menuitem", name="Put into the bin").click()
        expect(page.get_by_role("status")).to_contain_text(f"{name} B is in the bin")
        expect(act).to_have_count(0)
        page.get_by_role("button", name="Take it out again").click()
        act.click()
        page.get_by_role("menuitem", name="Put into the bin").click()
        page.get_by_role("button", name=re.compile("^Bin: ")).click()
        self.accessible()
        page.get_by_role("button", name=f"Delete {name} B for good").click()
        page.get_by_role("button", name=f"Yes, delete {name} B for good").click()
        expect(page.get_by_text(f"{name} B", exact=True)).to_have_count(0)

    def test_who_has_a_plan_open_hears_that_it_is_called_otherwise_and_that_it_is_in_the_bin(self) -> None:
        rename = json.dumps({"name": "Ferries of old"}).encode()
        someone().request("PATCH", f"plans/{self.plan}", rename, Content_Type="application/json")
        expect(self.page.get_by_role("heading", name="Ferries of old")).to_be_visible()
        someone().request("DELETE", f"plans/{self.plan}")
        expect(self.page.get_by_role("alert")).to_contain_text("ines put this plan into the bin")

    def test_keys_without_ctrl_are_put_out(self) -> None:
        self.page.keyboard.press("?")
        dialog = self.page.get_by_role("dialog", name="Keys")
        dialog.get_by_text("Keys without Ctrl act").click()
        expect(dialog.get_by_role("checkbox")).not_to_be_checked()
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("2")
        self.page.keyboard.press("?")
        expect(self.page.get_by_role("dialog", name="Keys")).to_have_count(0)
        expect(self.page).to_have_url(re.compile("/decks"))
        self.page.get_by_role("button", name="Check", exact=True).click()
        expect(self.page.get_by_role("link", name="Landing")).to_have_count(0)
        self.page.reload()
        expect(self.page.get_by_role("button", name="Check", exact=True)).to_have_attribute("aria-expanded", "false")

    def test_an_empty_plan_says_the_next_step(self) -> None:
        _, made = someone().post("plans", {"name": "Empty"})
        for view, said in (
            ("decks", "This plan has no hosts"),
            ("landing", "No endpoint yet"),
            ("trace", "Choose two endpoints"),
        ):
            self.page.goto(f"{URL}/plans/{made['id']}/{view}")
            expect(self.page.get_by_text(said)).to_be_visible()
            self.accessible()


class WideTest(BrowserTest):
    size = (1920, 1080)

    def test_all_hosts_of_the_demo_stand_side_by_side(self) -> None:
        for host in ("fulmar", "gannet", "kittiwake", "petrel"):
            expect(self.page.get_by_role("button", name=re.compile(f"^{host} (North|Salt)"))).to_be_in_viewport()
        inner = self.page.locator(".canvas").evaluate("n => n.scrollWidth <= n.clientWidth")
        self.assertTrue(inner, "nothing has to be scrolled sideways")
        self.accessible()


if __name__ == "__main__":
    unittest.main()


class MendAllTest(BrowserTest):
    def test_all_findings_in_sight_are_mended_as_one_edit(self) -> None:
        page = self.page
        page.goto(f"{URL}/plans/{self.plan}/landing")
        page.get_by_role("button", name="astray", exact=True).click()
        page.get_by_role("button", name=re.compile("^Mend 3 findings in sight")).click()
        asked = page.get_by_role("group", name="Mend all in sight")
        expect(asked.get_by_text(re.compile("Take [23] mends"))).to_be_visible()
        expect(asked.get_by_text(re.compile("3 astray → home"))).to_be_visible()
        self.accessible()
        asked.get_by_role("button", name="Take them").click()
        expect(self.count("astray")).to_have_text("0")
        page.keyboard.press("Control+z")
        expect(self.count("astray")).to_have_text("3")

    def test_all_findings_of_a_kind_are_mended_together(self) -> None:
        page = self.page
        self.finding("allow VIDs that nobody behind needs").click()
        page.get_by_role("button", name="Mend 2 findings of this kind").click()
        asked = page.get_by_role("group", name="Mend all of this kind")
        expect(asked.get_by_text("Take 2 mends")).to_be_visible()
        expect(asked.get_by_text("no verdict changes")).to_be_visible()
        self.accessible()
        asked.get_by_role("button", name="Take them").click()
        expect(self.finding("allow VIDs that nobody behind needs")).to_have_count(0)
        page.keyboard.press("Control+z")
        expect(self.finding("allow VIDs that nobody behind needs")).to_be_visible()

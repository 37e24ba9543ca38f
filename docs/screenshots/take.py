"""Takes the pictures in this folder from the demo plan: ./run screenshots"""

from __future__ import annotations

import pathlib
import re
import sys

HERE = pathlib.Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent.parent), str(HERE.parent.parent / "core")]

from playwright.sync_api import Page, sync_playwright  # noqa: E402

from ops import serve  # noqa: E402
from tests.support import ROOT, TWO_HOSTS  # noqa: E402
from tests.web.support import ARGUMENTS, CHROMIUM  # noqa: E402


def main() -> None:
    """One picture for each main view, 1280 x 800."""
    with serve.throwaway_server() as running, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=str(CHROMIUM), args=ARGUMENTS)

        def person() -> Page:
            page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
            page.goto(running.url)
            page.get_by_label("Name").fill("ines")
            page.get_by_label("Password").fill(running.password("ines"))
            page.get_by_role("button", name="Log in").click()
            page.get_by_role("link", name="Brackwater Ferries", exact=True).click()
            page.locator(".counts").wait_for()
            return page

        def shoot(page: Page, name: str) -> None:
            page.mouse.move(640, 20)
            page.wait_for_timeout(2500)
            page.screenshot(path=str(HERE / f"{name}.png"))
            print(f"{name}.png")

        page = person()
        plan = page.url.split("/decks")[0]
        page.get_by_role("button", name="tide-gauge-view loses").click()
        page.get_by_role("button", name="Proof").click()
        shoot(page, "decks")
        page.goto(f"{plan}/landing")
        # Mends come one after the other; most rows in sight have one.
        page.get_by_role("button", name=re.compile("^Take the mend: ")).nth(10).wait_for()
        shoot(page, "landing")
        page.goto(f"{plan}/rules")
        page.get_by_role("button", name="Proof and mends of: keep visitors apart").click()
        page.get_by_role("button", name="Have quay-router drop").wait_for()
        shoot(page, "rules")
        page.goto(f"{plan}/patterns")
        shoot(page, "patterns")
        page.goto(f"{plan}/ledger")
        page.get_by_text("cells that can’t be right").wait_for()
        shoot(page, "ledger")
        page.goto(f"{plan}/lattice")
        page.locator("revogr-data[col-type=rgCol] .rgCell[data-rgrow='3'][data-rgcol='3']").click()
        page.get_by_role("heading", name="CCTV on petrel").wait_for()
        shoot(page, "lattice")
        page.goto(f"{plan}/meetings")
        page.get_by_role("gridcell", name="reaches, not as rules expect").last.click()
        page.get_by_role("button", name="What would end it").click()
        page.get_by_role("listbox", name="What would end it").wait_for()
        shoot(page, "meetings")
        page.goto(f"{plan}/moves?out=razorbill")
        page.get_by_role("table", name="Where everybody goes").wait_for()
        page.locator("revogr-data[col-type=rgCol] .rgCell[data-rgrow='7'][data-rgcol='4']").click()
        page.get_by_role("heading", name="crew-roster on razorbill").wait_for()
        shoot(page, "moves")
        page.goto(f"{plan}/strand?segment=segment-berth-planning")
        page.get_by_role("tree").wait_for()
        shoot(page, "strand")
        page.goto(f"{plan}/drafts")
        page.get_by_role("button", name="marsh ports as cabled").click()
        page.get_by_text("records differ").wait_for()
        shoot(page, "drafts")
        page.goto(f"{plan}/decks")
        page.goto(f"{plan}/trace?a=kittiwake/tap-cctv-recorder&b=gannet/tap-fw-in|240")
        shoot(page, "trace")
        page.goto(f"{plan}/bench")
        page.get_by_role("button", name="Start").click()
        page.get_by_text("proved on").first.wait_for(timeout=120_000)
        shoot(page, "bench")
        page.goto(f"{plan}/load")
        page.get_by_role("heading", name="Every cable carries what it is sent").wait_for()
        shoot(page, "load")
        page.goto(f"{plan}/sources")
        page.get_by_role("button", name="Read it again").click()
        page.get_by_label("Topology").set_input_files(str(ROOT / "demo" / "networks.json"))
        page.get_by_text("no verdict changes").wait_for()
        shoot(page, "sources")
        page.goto(f"{plan}/queues?host=gannet")
        page.get_by_role("button", name="Set gannet so").wait_for()
        shoot(page, "queues")
        page.goto(f"{running.url}/plans")
        shoot(page, "plans")
        page.goto(f"{running.url}/plans/read")
        page.get_by_label("Folder with host states").set_input_files(str(TWO_HOSTS))
        shoot(page, "read-hosts")
        page.goto(f"{plan}/decks")
        page.get_by_role("button", name="tide-gauge-buoy lands on VID 203").click()
        page.get_by_role("button", name="Mend 1 of").click()
        page.get_by_text("revision 1", exact=True).wait_for()
        page.goto(f"{plan}/history")
        page.get_by_label("A mark for revision 1").fill("buoys answer again")
        page.keyboard.press("Enter")
        page.get_by_text("buoys answer again, by ines").wait_for()
        shoot(page, "history")
        page.goto(f"{running.url}/plans")
        page.get_by_label("Plan file").set_input_files(str(serve.terminals()))
        page.locator(".fleet-host").first.wait_for()
        page.goto(page.url.split("?")[0] + "?follow=seg-1460")
        page.get_by_text("freight, Longmere").first.wait_for()
        page.locator(".fleet-host.back").first.wait_for()
        shoot(page, "decks-fleet")
        browser.close()


if __name__ == "__main__":
    main()

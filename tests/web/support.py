"""Chromium, driven as a person would: by roles and labels, with mouse and keyboard, against the real server."""

from __future__ import annotations

import time
import unittest
from collections.abc import Callable
from functools import cache, wraps
from pathlib import Path
from typing import Any

from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Browser, BrowserContext, Locator, Page, Playwright, expect, sync_playwright
from playwright.sync_api import TimeoutError as TimedOut

from tests.server.support import URL, Client, password

ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
CHROMIUM = Path("/usr/bin/chromium")
# Other parts of the tests may keep the machine busy; what never comes fails all the same.
PATIENCE = 60_000
expect.set_options(timeout=PATIENCE)
# The cell of a grid that has the focus.
FOCUSED = """[document.activeElement.closest("revogr-data")?.getAttribute("col-type"),
    document.activeElement.dataset.rgrow, document.activeElement.dataset.rgcol].join()"""
SESSIONS: dict[str, Any] = {}


@cache
def someone() -> Client:
    """A session for setting things up."""
    return Client()


def once_more(test: Callable[[Any], None]) -> Callable[[Any], None]:
    """The test, and once more in a new browser where the browser itself never said that it had carried out a click, which says nothing of the page."""

    @wraps(test)
    def tried(self: Any) -> None:
        try:
            test(self)
        except TimedOut as error:
            if not str(error).rstrip().endswith("- performing click action"):
                raise
            print(f"\n{self.id()}: the browser stood still at a click; once more in a new one")
            self.browser.close()
            self.launch()
            self.setUp()
            test(self)

    return tried


class BrowserTest(unittest.TestCase):
    """One browser for the class, in which people keep their session; a fresh copy of the demo plan and fresh pages for each test."""

    playwright: Playwright
    browser: Browser
    people: dict[str, BrowserContext]
    size = (1280, 800)

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        for name, test in list(vars(cls).items()):
            if name.startswith("test_"):
                setattr(cls, name, once_more(test))

    @classmethod
    def setUpClass(cls) -> None:
        cls.playwright = sync_playwright().start()
        cls.launch()

    @classmethod
    def launch(cls) -> None:
        cls.people = {}
        cls.browser = cls.playwright.chromium.launch(executable_path=str(CHROMIUM), args=ARGUMENTS)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.browser.close()
        cls.playwright.stop()

    def setUp(self) -> None:
        self.errors: list[str] = []
        self.plan = someone().demo()
        self.page = self.person("ines")
        self.page.goto(f"{URL}/plans/{self.plan}/decks")
        expect(self.page.get_by_role("heading", name="Verdicts")).to_be_visible()

    def tearDown(self) -> None:
        for page in [page for context in self.browser.contexts for page in context.pages]:
            page.evaluate("localStorage.clear()")
            page.close()
        self.assertEqual(self.errors, [], "the page reported errors")

    def person(self, name: str) -> Page:
        """Somebody's own browser, logged in, at no page in particular."""
        width, height = self.size
        known = self.people.get(name)
        if known is None:
            # Checking a password takes a second on purpose, so a person logs in once and keeps the session.
            made = self.browser.new_context(
                # Colours change at once, so that no colour is read on its way from one to another.
                viewport={"width": width, "height": height},
                storage_state=SESSIONS.get(name),
                reduced_motion="reduce",
            )
            known = self.people[name] = made
        page = known.new_page()
        page.set_default_timeout(PATIENCE)
        page.on("pageerror", lambda error: self.errors.append(str(error)))
        if name not in SESSIONS:
            page.goto(URL)
            page.get_by_label("Name").fill(name)
            page.get_by_label("Password").fill(password(name))
            page.get_by_role("button", name="Log in").click()
            expect(page.get_by_role("heading", name="Plans", exact=True)).to_be_visible()
            SESSIONS[name] = known.storage_state()
        return page

    def count(self, verdict: str, page: Page | None = None) -> Locator:
        """The number beside a verdict."""
        return (page or self.page).locator(f"[data-verdict={verdict}] b")

    def finding(self, part: str) -> Locator:
        """A finding's button in the verdict column."""
        return self.page.get_by_role("complementary", name="Verdicts").get_by_role("button", name=part).first

    def becomes(self, read: Callable[[], Any], wanted: Any) -> None:
        """What is read is what is wanted, by now or soon."""
        until = time.monotonic() + PATIENCE / 1000
        while read() != wanted and time.monotonic() < until:
            self.page.wait_for_timeout(50)
        self.assertEqual(read(), wanted)

    def keys(self, *pressed: str) -> None:
        """Keys that lead from cell to cell of a grid, each pressed when the one before has led somewhere."""
        for key in pressed:
            before = self.page.evaluate(FOCUSED)
            self.page.keyboard.press(key)
            self.page.wait_for_function(f"before => {FOCUSED} !== before", arg=before)

    def accessible(self, page: Page | None = None) -> None:
        """No violation that axe can find on a page that has come."""
        expect((page or self.page).locator("main")).to_be_attached()
        # What is on its way is in neither place: it is waited for.
        (page or self.page).evaluate(
            """() => Promise.allSettled(document.getAnimations()
                .filter((a) => a.effect.getComputedTiming().iterations !== Infinity).map((a) => a.finished))"""
        )
        found = Axe().run(page or self.page, options={"resultTypes": ["violations"]}).response["violations"]
        said = [f"{v['id']}: {v['nodes'][0]['html'][:200]} {v['nodes'][0]['failureSummary']}" for v in found]
        self.assertEqual(said, [])

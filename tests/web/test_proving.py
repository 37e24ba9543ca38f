"""The Bench view: a run started, followed, read and cancelled by a person."""

from __future__ import annotations

import re
import unittest

from playwright.sync_api import expect

from tests.server.support import URL, patch
from tests.web.support import BrowserTest, someone

KERNEL = 180_000
"""How long a run in the kernel may take, in milliseconds: on a busy machine it is slow, which is no fault of the page."""


class BenchTest(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.page.keyboard.press("4")
        expect(self.page.get_by_role("heading", name="No revision was proved yet")).to_be_visible()

    def test_a_run_is_started_and_read(self) -> None:
        self.accessible()
        pulled = self.page.get_by_label("Cables pulled in turn")
        pulled.fill("many")
        expect(self.page.get_by_text("Both numbers have to be whole.")).to_be_visible()
        expect(self.page.get_by_role("button", name="Start")).to_be_disabled()
        pulled.fill("0")
        self.page.get_by_label("Senders beside one of each kind").fill("0")
        self.page.keyboard.press("Enter")
        history = self.page.get_by_role("list", name="History")
        expect(history.get_by_role("button")).to_have_count(1)
        expect(self.page.get_by_role("progressbar")).to_be_visible(timeout=KERNEL)
        # The plan goes on while its revision is proved.
        status, _ = someone().edit(self.plan, 0, patch("guest", "guest-crew-roster", running=False))
        self.assertEqual(status, 200)
        proved = re.compile(r"Revision 0 proved on (\d+) of \d+ questions, \d+ not tried")
        expect(history.get_by_role("button", name=proved)).to_be_visible(timeout=KERNEL)
        main = self.page.get_by_role("region", name="What came of it")
        expect(main.get_by_text("The plan is at revision 1 now; this run speaks of revision 0.")).to_be_visible()
        expect(main.locator("dl > div").filter(has_text="differed").locator("dd")).to_have_text("0")
        expect(main.get_by_text("nic3 of fulmar is wireless; the kernel has only cables here")).to_be_visible()
        expect(main.get_by_text("the plan as it is")).to_be_visible()
        self.accessible()

    def test_a_run_is_cancelled(self) -> None:
        self.page.get_by_role("button", name="Start").click()
        self.page.get_by_role("button", name="Cancel the run").click()
        expect(self.page.get_by_role("button", name=re.compile("Revision 0 cancelled"))).to_be_visible(timeout=KERNEL)
        expect(self.page.get_by_role("button", name="Start")).to_be_enabled()

    def test_both_stories_of_a_difference_stand_side_by_side(self) -> None:
        text = "A frame of tap-web, untagged, to everybody; as it is"
        both = {"only_engine": ["tap-db"], "only_kernel": []}
        found = {
            "number": 1,
            "sender": "a",
            "vid": None,
            "frame": "broadcast",
            "target": "",
            "pulled": [],
            "chosen": [],
        }
        report = {
            "questions": 10,
            "asked": 9,
            "agreed": 7,
            "differed": 2,
            "not_tried": 1,
            "situations": ["as it is"],
            "why_not_tried": [],
            "not_built": [],
            "seconds": {"together": 4.2},
            "differences": [{**found, **both, "text": text}, {**found, **both, "text": "Another frame"}],
            "stories": [{"text": text, "engine": ["in s of a"], "kernel": ["leaves at nic0"], "smallest": 9}],
        }
        item = {
            "number": 1,
            "revision": 0,
            "author": "ines",
            "state": "done",
            "worker": "bench-1",
            "step": "",
            "done": 1,
            "asked": "2026-11-23T10:00:00Z",
            "started": "2026-11-23T10:00:00Z",
            "ended": "2026-11-23T10:00:04Z",
            "of": 1,
            "error": "",
            "questions": 10,
            "agreed": 7,
            "differed": 2,
            "not_tried": 1,
        }
        detail = {"run": item, "scope": {"pulls": 4, "sample": 40, "seed": 0}, "log": "done", "report": report}
        # Engine and kernel agree on all that ships, so the answer of a run that differs is made here.
        self.page.route("**/api/plans/*/bench", lambda route: route.fulfill(json={"workers": 1, "runs": [item]}))
        self.page.route("**/api/plans/*/bench/1", lambda route: route.fulfill(json=detail))
        self.page.goto(f"{URL}/plans/{self.plan}/bench")
        history = self.page.get_by_role("list", name="History")
        expect(
            history.get_by_role("button", name=re.compile("7 of 10 questions, 1 not tried, 2 differed"))
        ).to_be_visible()
        story = self.page.get_by_role("article")
        expect(story.get_by_role("heading", name=text)).to_be_visible()
        expect(story.get_by_text("Only the engine says it is heard by tap-db.")).to_be_visible()
        expect(story.get_by_role("listitem")).to_have_text(["in s of a", "leaves at nic0"])
        expect(story.get_by_role("link")).to_have_attribute("href", f"/api/plans/{self.plan}/bench/1/difference/1")
        self.page.get_by_text("1 more difference").click()
        expect(self.page.get_by_text("Another frame")).to_be_visible()
        self.accessible()

    def test_that_there_is_no_worker_is_said_before_anybody_waits_for_one(self) -> None:
        self.page.route("**/api/plans/*/bench", lambda route: route.fulfill(json={"workers": 0, "runs": []}))
        self.page.goto(f"{URL}/plans/{self.plan}/bench")
        expect(self.page.get_by_role("status").filter(has_text="No worker is running")).to_be_visible()
        self.accessible()


if __name__ == "__main__":
    unittest.main()

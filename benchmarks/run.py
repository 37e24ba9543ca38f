"""Measures the engine and prints a table for docs/performance.md.

./run bench              the engine alone
./run bench --screen     also the time from an edit to the new verdicts on screen (needs Chromium)
"""

from __future__ import annotations

import pathlib
import platform
import resource
import statistics
import sys
import time
from collections.abc import Callable
from functools import partial

ROOT = pathlib.Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT), str(ROOT / "core")]

from aptwire.forward.wiring import compile_wiring  # noqa: E402
from aptwire.judge.findings import findings  # noqa: E402
from aptwire.judge.verdicts import judge  # noqa: E402
from aptwire.plan.file import read_plan, write_plan  # noqa: E402

from benchmarks.fleet import fleet  # noqa: E402
from benchmarks.plain import homeless  # noqa: E402


def timed(work: Callable[[], object], times: int) -> float:
    """Median seconds."""
    took = []
    for _ in range(times):
        started = time.perf_counter()
        work()
        took.append(time.perf_counter() - started)
    return statistics.median(took)


def engine() -> None:
    """Engine times on the demo and on synthetic fleets, and the ratio to networkx where that can do the fleet."""
    print(f"{platform.machine()}, Python {platform.python_version()}\n")
    print("| plan | endpoints | compile | compile and judge | findings | networkx | ratio |")
    print("|---|---|---|---|---|---|---|")
    demo = read_plan((ROOT / "demo" / "brackwater.json").read_bytes())
    plans = [(demo, 50, False), (fleet(50), 9, True), (fleet(200), 5, True), (fleet(1000, 80, 400), 3, False)]
    for plan, times, compared in plans:
        compiled = timed(partial(compile_wiring, plan), times)
        judged = timed(partial(judge, plan), times)
        judgement = judge(plan)
        found = timed(partial(findings, judgement), times)
        row = [
            plan.name,
            f"{len(judgement.wiring.places_of):,}",
            *(f"{s * 1000:.1f} ms" for s in (compiled, judged, found)),
        ]
        if compared:
            plain = timed(partial(homeless, plan), 3)
            same = homeless(plan) == {e for e, v in judgement.verdicts().items() if v != "home"}
            if not same:
                raise SystemExit(f"networkx and the engine disagree on {plan.name}")
            row += [f"{plain * 1000:.0f} ms", f"{plain / judged:.1f}"]
        else:
            row += ["–", "–"]
        print("| " + " | ".join(row) + " |", flush=True)
    print(f"\nmost memory of the process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")


def screen() -> None:
    """From Enter on a mend or a tag to the changed number in the verdict column, in a real browser on the real server."""
    from playwright.sync_api import sync_playwright

    from ops import serve
    from ops.machine import DATA
    from tests.web.support import ARGUMENTS, CHROMIUM

    watch = """(wanted) => new Promise((done) => {
        const started = performance.now();
        const look = () => document.querySelector(wanted.at)?.textContent === wanted.text
            ? requestAnimationFrame(() => done(performance.now() - started)) : setTimeout(look, 1);
        document.activeElement.dispatchEvent(new KeyboardEvent("keydown", { key: "z", ctrlKey: true, shiftKey: wanted.redo, bubbles: true }));
        look();
    })"""
    large = DATA / "fleet-100.json"
    large.write_bytes(write_plan(fleet(100, 12)))
    print("\n| plan | from the key (undo, redo) to the new counts on screen |\n|---|---|")
    with serve.throwaway_server() as (url, _), sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=str(CHROMIUM), args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(url)
        page.get_by_label("Name").fill("ines")
        page.get_by_label("Password").fill(serve.PASSWORD)
        page.get_by_role("button", name="Log in").click()
        page.get_by_role("heading", name="Plans").wait_for()
        for file, name in ((ROOT / "demo" / "brackwater.json", "Brackwater Ferries"), (large, "100 hosts")):
            page.goto(f"{url}/plans")
            page.get_by_label("Plan file").set_input_files(str(file))
            page.get_by_role("heading", name=name).wait_for()
            page.locator(".finding-head").filter(has_text="tagged").first.click()
            page.locator(".mend").first.wait_for()
            before = page.locator("[data-verdict=home] b").text_content()
            page.locator(".mend").first.click()
            page.wait_for_function(
                "(b) => document.querySelector('[data-verdict=home] b').textContent !== b", arg=before
            )
            after = page.locator("[data-verdict=home] b").text_content()
            page.locator("#view").focus()
            took = []
            for n in range(12):
                wanted = {"at": "[data-verdict=home] b", "text": after if n % 2 else before, "redo": bool(n % 2)}
                took.append(page.evaluate(watch, wanted))
                page.wait_for_timeout(150)
            print(f"| {name} | median {statistics.median(took):.0f} ms, slowest {max(took):.0f} ms |", flush=True)
        browser.close()


if __name__ == "__main__":
    engine()
    if "--screen" in sys.argv:
        screen()

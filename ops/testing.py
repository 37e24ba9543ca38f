"""`./run test`: set-up, then every check and test; the last line counts what ran."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from itertools import zip_longest
from pathlib import Path

from ops import database, serve
from ops.machine import (
    DATA,
    PYTHON,
    ROOT,
    VENV,
    WEB,
    SetupError,
    api_types,
    bench,
    debian,
    environment,
    front_end,
    node,
    node_modules,
    test_tools,
)

CHROMIUM = Path("/usr/bin/chromium")
PARTS = ("static", "core", "server", "bench", "web")
BENCH_FEW = "test_[!h]*.py"
HALVES = ("test_[!bdp]*.py", "test_[bdp]*.py")
"""Of the browser tests: the first comes after the server's tests, and with them takes about as long as the second.  Each takes what the other
leaves out, so that no file is missed."""


class Score:
    """How many checks and tests passed and failed."""

    def __init__(self) -> None:
        self.passed = 0
        self.failed = 0
        self.turn = threading.Lock()

    def count(self, passed: int, failed: int, text: str) -> None:
        """Add to the score and say so; parts that run side by side take turns."""
        with self.turn:
            self.passed += passed
            self.failed += failed
            print(text, flush=True)

    def check(self, name: str, arguments: list[str], env: dict[str, str], cwd: Path = ROOT) -> None:
        """One check: a program that ends with 0."""
        done = subprocess.run(arguments, env=env, cwd=cwd, text=True, capture_output=True)
        if done.returncode:
            self.count(0, 1, f"FAILED {name}\n{done.stdout}{done.stderr}")
        else:
            self.count(1, 0, f"ok {name}")

    def tests(self, folder: str, env: dict[str, str], pattern: str = "test_*.py") -> None:
        """The tests below a folder, counted by their runner; one that can't even be loaded counts as failed."""
        with tempfile.NamedTemporaryFile(suffix=".json") as told:
            started = time.monotonic()
            done = subprocess.run(
                [str(PYTHON), "-m", "tests.runner", folder, told.name, pattern],
                env=env,
                cwd=ROOT,
                text=True,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
            )
            name = f"{folder}/{pattern}" if pattern != "test_*.py" else folder
            try:
                counted = json.loads(Path(told.name).read_text())
            except json.JSONDecodeError:
                said = f"FAILED {name}: the runner ended with {done.returncode} before it could count"
                self.count(0, 1, f"{done.stdout}{said}")
                return
            passed, failed = counted["passed"], counted["failed"]
            took = time.monotonic() - started
            self.count(passed, failed, f"{done.stdout}{name}: {passed} passed, {failed} failed in {took:.0f} s")


def side_by_side(*calls: Callable[[], None]) -> None:
    """Run parts at once, for machines have more than one core; what one of them raises is raised."""
    with ThreadPoolExecutor(len(calls)) as pool:
        for future in [pool.submit(call) for call in calls]:
            future.result()


def set_up_browser() -> None:
    """Debian's Chromium."""
    debian({"chromium": CHROMIUM.is_file})


def _debian() -> None:
    """All Debian packages, one after the other: apt works for one at a time."""
    database.install()
    bench()
    set_up_browser()


def _static(score: Score) -> None:
    node_modules()
    api_types()
    env = environment()
    tools = VENV / "bin"
    score.check("lint of Python", [str(tools / "ruff"), "check", "."], env)
    score.check("format of Python", [str(tools / "ruff"), "format", "--check", "."], env)
    score.check(
        "types of Python",
        [str(tools / "mypy"), "core/aptwire", "server", "bench", "ops", "demo", "measure", "docs", "standins"],
        env,
    )
    score.check("types of the front end", ["npx", "tsc", "--noEmit"], node(), WEB)
    score.check("format of the front end", ["npx", "prettier", "--check", "src"], node(), WEB)
    score.check("lint of the front end", ["npx", "eslint", "src", "--max-warnings", "0"], node(), WEB)


def _core(score: Score) -> None:
    score.tests("tests/core", environment())


def _server(score: Score) -> None:
    database.install()
    bench()
    api_types()
    with serve.throwaway_server() as server:
        score.tests("tests/server", {**server.env, "APTWIRE_TEST_URL": server.url})


def _bench(score: Score) -> None:
    bench()
    score.tests("tests/bench", environment(), BENCH_FEW)


def _honesty(score: Score) -> None:
    bench()
    score.tests("tests/bench", environment(), "test_honesty.py")


def _web(score: Score, *others: Callable[[], None]) -> None:
    """The browser tests in two halves against one server, each after whatever else is to come before it."""
    database.install()
    bench()
    set_up_browser()
    front_end()

    def half(pattern: str, before: Callable[[], None] | None) -> None:
        if before is not None:
            before()
        score.tests("tests/web", {**server.env, "APTWIRE_TEST_URL": server.url}, pattern)

    with serve.throwaway_server() as server:
        side_by_side(*(partial(half, pattern, call) for pattern, call in zip_longest(HALVES, others)))


def run(parts: list[str]) -> int:
    """Run the parts named, or all of them."""
    runners: dict[str, list[Callable[[Score], None]]] = {
        "static": [_static],
        "core": [_core],
        "server": [_server],
        "bench": [_bench, _honesty],
        "web": [_web],
    }
    unknown = [part for part in parts if part not in runners]
    if unknown:
        print(f"error: there is no part {', '.join(unknown)}; there are {', '.join(PARTS)}", file=sys.stderr)
        return 2
    DATA.mkdir(exist_ok=True)
    os.environ.setdefault("PYTHONDONTWRITEBYTECODE", "1")
    score = Score()
    test_tools()

    def go(runner: Callable[[Score], None], name: str = "") -> None:
        try:
            runner(score)
        except SetupError as error:
            score.count(0, 1, f"FAILED {name or runner.__name__[1:]}: {error}")

    def each(*names: str) -> None:
        for runner in (r for name in names for r in runners[name]):
            go(runner)

    built = threading.Event()

    def without_packages() -> None:
        """What needs none of the Debian packages runs while they come."""
        try:
            front_end()
        finally:
            built.set()
        each("static", "core")

    def with_packages() -> None:
        _debian()
        built.wait()
        # The bench waits for links to settle half of its time, the server for the database, the browser for both.
        web = partial(_web, score, lambda: go(_server))
        side_by_side(lambda: each("bench"), lambda: go(lambda _: web(), "web"))

    if parts:
        each(*parts)
    else:
        side_by_side(without_packages, with_packages)
    print(f"{score.passed} passed, {score.failed} failed", flush=True)
    return 1 if score.failed or not score.passed else 0

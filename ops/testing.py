"""`./run test`: set-up, then every check and test; the last line counts what ran."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
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
    debian,
    environment,
    front_end,
    node,
    node_modules,
    say,
    virtual_environment,
)

CHROMIUM = Path("/usr/bin/chromium")
PARTS = ("static", "core", "server", "web")


class Score:
    """How many checks and tests passed and failed."""

    def __init__(self) -> None:
        self.passed = 0
        self.failed = 0

    def check(self, name: str, arguments: list[str], env: dict[str, str], cwd: Path = ROOT) -> None:
        """One check: a program that ends with 0."""
        done = subprocess.run(arguments, env=env, cwd=cwd, text=True, capture_output=True)
        if done.returncode:
            self.failed += 1
            print(f"FAILED {name}\n{done.stdout}{done.stderr}", flush=True)
        else:
            self.passed += 1
            print(f"ok {name}", flush=True)

    def tests(self, folder: str, env: dict[str, str]) -> None:
        """The tests below a folder, counted by their runner; one that can't even be loaded counts as failed."""
        with tempfile.NamedTemporaryFile(suffix=".json") as told:
            started = time.monotonic()
            done = subprocess.run([str(PYTHON), "-m", "tests.runner", folder, told.name], env=env, cwd=ROOT)
            try:
                counted = json.loads(Path(told.name).read_text())
            except json.JSONDecodeError:
                print(f"FAILED {folder}: the runner ended with {done.returncode} before it could count", flush=True)
                self.failed += 1
                return
            self.passed += counted["passed"]
            self.failed += counted["failed"]
            took = time.monotonic() - started
            print(f"{folder}: {counted['passed']} passed, {counted['failed']} failed in {took:.0f} s", flush=True)


def set_up_browser() -> None:
    """Debian's Chromium."""
    debian({"chromium": CHROMIUM.is_file})


def _static(score: Score) -> None:
    node_modules()
    api_types()
    env = environment()
    tools = VENV / "bin"
    score.check("lint of Python", [str(tools / "ruff"), "check", "."], env)
    score.check("format of Python", [str(tools / "ruff"), "format", "--check", "."], env)
    score.check(
        "types of Python", [str(tools / "mypy"), "core/aptwire", "server", "ops", "demo", "benchmarks", "docs"], env
    )
    score.check("types of the front end", ["npx", "tsc", "--noEmit"], node(), WEB)
    score.check("lint of the front end", ["npx", "eslint", "src", "--max-warnings", "0"], node(), WEB)


def _core(score: Score) -> None:
    score.tests("tests/core", environment())


def _server(score: Score) -> None:
    database.install()
    api_types()
    with serve.throwaway_server() as (url, env):
        score.tests("tests/server", {**env, "APTWIRE_TEST_URL": url})


def _web(score: Score) -> None:
    database.install()
    set_up_browser()
    front_end()
    with serve.throwaway_server() as (url, env):
        score.tests("tests/web", {**env, "APTWIRE_TEST_URL": url})


def run(parts: list[str]) -> int:
    """Run the parts named, or all of them."""
    runners: dict[str, Callable[[Score], None]] = dict(zip(PARTS, (_static, _core, _server, _web), strict=True))
    unknown = [part for part in parts if part not in runners]
    if unknown:
        print(f"error: there is no part {', '.join(unknown)}; there are {', '.join(PARTS)}", file=sys.stderr)
        return 2
    DATA.mkdir(exist_ok=True)
    os.environ.setdefault("PYTHONDONTWRITEBYTECODE", "1")
    score = Score()
    virtual_environment()
    for part in parts or PARTS:
        try:
            runners[part](score)
        except SetupError as error:
            say(f"FAILED {part}: {error}")
            score.failed += 1
    print(f"{score.passed} passed, {score.failed} failed", flush=True)
    return 1 if score.failed or not score.passed else 0

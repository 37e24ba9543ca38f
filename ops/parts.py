"""The parts that run together, watched: one that ends is started again, and it is said."""

from __future__ import annotations

import contextlib
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator

from ops.machine import SetupError, say

FIRST_PAUSE, LONGEST_PAUSE = 0.5, 15.0
WELL = 10.0
"""Seconds after which a part that runs counts as well again."""


class Part:
    """A process that is to run as long as the whole does.

    `begin` starts it, once what it needs is there; `finish` ends it where that takes more than asking.
    """

    def __init__(
        self,
        name: str,
        begin: Callable[[], subprocess.Popen[bytes]],
        finish: Callable[[], None] | None = None,
    ) -> None:
        self.name = name
        self.begin = begin
        self.finish = finish
        self.process: subprocess.Popen[bytes] | None = None
        self.since = 0.0
        self.pause = FIRST_PAUSE
        self.again_at = 0.0

    def start(self) -> None:
        """Start it."""
        self.process = self.begin()
        self.since = time.monotonic()

    def look(self) -> None:
        """Start it again if it has ended, after a pause that grows as long as it doesn't hold."""
        now = time.monotonic()
        if self.process is not None:
            code = self.process.poll()
            if code is None:
                if now - self.since > WELL:
                    self.pause = FIRST_PAUSE
                return
            self.process = None
            self._wait(f"{self.name} ended ({_why(code)})")
        elif now >= self.again_at:
            try:
                self.start()
                say(f"{self.name} runs again")
            except SetupError as error:
                self._wait(f"{self.name} doesn’t start: {str(error).strip()}")

    def _wait(self, what: str) -> None:
        say(f"{what}; it is started again in {self.pause:g} s")
        self.again_at = time.monotonic() + self.pause
        self.pause = min(2 * self.pause, LONGEST_PAUSE)

    def end(self) -> None:
        """End it: asked first, then made to."""
        if self.finish is not None:
            self.finish()
        elif self.process is not None and self.process.poll() is None:
            self.process.terminate()
            try:
                self.process.wait(10)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()
        self.process = None


def _why(code: int) -> str:
    if code >= 0:
        return f"status {code}"
    with contextlib.suppress(ValueError):
        return f"killed by {signal.Signals(-code).name}"
    return f"killed by signal {-code}"


@contextlib.contextmanager
def watched(*parts: Part) -> Iterator[None]:
    """Keep parts running that are started already; afterwards end them, the last one first."""
    over = threading.Event()

    def watch() -> None:
        while not over.wait(0.2):
            for part in parts:
                part.look()

    thread = threading.Thread(target=watch, name="watch")
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()
        for part in reversed(parts):
            part.end()

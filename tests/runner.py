"""Runs the tests below a folder and writes how many passed and failed: python -m tests.runner FOLDER COUNTS.json [PATTERN]"""

from __future__ import annotations

import json
import sys
import time
import unittest
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent


SLOWEST = 8


class Counting(unittest.TextTestResult):
    """Counts passes as they are reported; what failed before a test could run isn't taken off them.  `took` has each test's seconds."""

    passed = 0

    def __init__(self, *arguments: Any, **named: Any) -> None:
        super().__init__(*arguments, **named)
        self.took: dict[str, float] = {}
        self.began = 0.0

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        self.began = time.monotonic()

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self.took[test.id()] = time.monotonic() - self.began

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def main(folder: str, counts: str, pattern: str = "test_*.py") -> int:
    suite = unittest.TestLoader().discover(str(ROOT / folder), pattern, str(ROOT))
    result = unittest.TextTestRunner(resultclass=Counting).run(suite)
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    good = result.passed
    slow = sorted(result.took.items(), key=lambda test: -test[1])[:SLOWEST]
    print("the slowest:", *(f"  {seconds:5.0f} s {name}" for name, seconds in slow), sep="\n")
    Path(counts).write_text(json.dumps({"passed": good, "failed": bad}))
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))

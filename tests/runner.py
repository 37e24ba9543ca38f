"""Runs the tests below a folder and writes how many passed and failed: python -m tests.runner FOLDER COUNTS.json [PATTERN]"""

from __future__ import annotations

import json
import sys
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


class Counting(unittest.TextTestResult):
    """Counts passes as they are reported; what failed before a test could run isn't taken off them."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def main(folder: str, counts: str, pattern: str = "test_*.py") -> int:
    suite = unittest.TestLoader().discover(str(ROOT / folder), pattern, str(ROOT))
    result = unittest.TextTestRunner(resultclass=Counting).run(suite)
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    good = result.passed
    Path(counts).write_text(json.dumps({"passed": good, "failed": bad}))
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))

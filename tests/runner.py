"""Runs the tests below a folder and writes how many passed and failed: python -m tests.runner FOLDER COUNTS.json"""

from __future__ import annotations

import json
import sys
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


def main(folder: str, counts: str) -> int:
    suite = unittest.TestLoader().discover(str(ROOT / folder), top_level_dir=str(ROOT))
    result = unittest.TextTestRunner(verbosity=1, buffer=False).run(suite)
    # Skipped tests didn't run: they count as neither.  A class or module that fails to set up is an error without a run.
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    good = max(result.testsRun - bad - len(result.skipped), 0)
    Path(counts).write_text(json.dumps({"passed": good, "failed": bad}))
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))

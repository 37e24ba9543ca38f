"""The whole OpenAPI document, put to the server with values made from it and against it: no answer is one that it doesn't promise."""

from __future__ import annotations

import json
import os
import subprocess
import tempfile
import unittest
from pathlib import Path

from ops.machine import DATA, VENV
from tests.server.support import URL, Client

EXAMPLES = os.environ.get("APTWIRE_EXAMPLES", "4")
"""For each operation, beside those made of every bound and type in the document; more by command."""
LEFT_OUT = {
    "listen": "an answer without an end",
    "login": "guesses are counted, and would keep everybody out (test_attacks.py)",
    "logout": "it would end the session with which all the others are asked",
    "start_bench_run": "each would start a kernel (test_bench.py)",
}
# An edit that the document allows may still not fit the plan: a reference to nothing, a name that is taken.  That is told with 400.
UNFIT = "positive_data_acceptance"
# A preview answers for each of its edits by itself: what is wrong with one stands in its place among the others.
PREVIEWS = '[[operations]]\ninclude-operation-id = "preview_edits"\nchecks.negative_data_rejection.enabled = false\n'


class DocumentTest(unittest.TestCase):
    def test_every_operation_answers_as_it_promises_whatever_is_sent(self) -> None:
        client = Client()
        plan = client.demo()
        cookies = {c.name: c.value or "" for c in client.cookies}
        keys = {"cookieAuth": cookies["sessionid"], "csrfCookie": cookies["csrftoken"], "csrfToken": client.token()}
        with tempfile.TemporaryDirectory() as folder:
            settings = Path(folder, "schemathesis.toml")
            lines = [f"[auth.openapi.{scheme}]\napi_key = {json.dumps(key)}\n" for scheme, key in keys.items()]
            settings.write_text(f'{"".join(lines)}[parameters]\n"path.plan_id" = {json.dumps(plan)}\n{PREVIEWS}')
            done = subprocess.run(
                [
                    *(
                        str(VENV / "bin" / "schemathesis"),
                        "--config-file",
                        str(settings),
                        "run",
                        str(DATA / "openapi.json"),
                    ),
                    *("--url", URL, "--seed", "1", "--max-examples", EXAMPLES, "--phases", "examples,coverage,fuzzing"),
                    *("--exclude-checks", UNFIT, "--no-color", "--generation-database", "none"),
                    *(word for name in LEFT_OUT for word in ("--exclude-operation-id", name)),
                ],
                cwd=folder,
                text=True,
                capture_output=True,
            )
        self.assertEqual(done.returncode, 0, done.stdout[-12_000:] + done.stderr[-2_000:])
        self.assertRegex(done.stdout, r"(\d+) generated, \1 passed")


if __name__ == "__main__":
    unittest.main()

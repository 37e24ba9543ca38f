"""Bad luck: parts are killed under those who use them.  Each is started again, nothing that was acknowledged is lost, everybody is told."""

from __future__ import annotations

import io
import json
import os
import signal
import time
import unittest
from collections.abc import Callable
from contextlib import redirect_stdout
from pathlib import Path
from unittest import mock

from aptwire.plan.file import write_plan

from measure import load
from ops import parts, serve
from ops.parts import Part
from tests.server import support
from tests.server.support import Client, patch
from tests.support import pair

SOON = 60.0


def until(seen: Callable[[], bool], seconds: float = SOON) -> float:
    """Seconds until something is seen."""
    began = time.monotonic()
    while not seen():
        if time.monotonic() - began > seconds:
            raise AssertionError(f"not seen within {seconds} s")
        time.sleep(0.1)
    return time.monotonic() - began


class KilledTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        running = serve.throwaway_server()
        cls.running = running.__enter__()
        cls.addClassCleanup(running.__exit__, None, None, None)
        for patched in (
            mock.patch.object(support, "URL", cls.running.url),
            mock.patch.dict(os.environ, {"APTWIRE_TEST_PASSWORDS": cls.running.env["APTWIRE_TEST_PASSWORDS"]}),
        ):
            patched.__enter__()
            cls.addClassCleanup(patched.__exit__, None, None, None)
        cls.client = Client()

    def kill(self, part: Part) -> float:
        """Kill a part and wait until it runs again; when that was."""
        assert part.process is not None
        before = part.since
        os.kill(part.process.pid, signal.SIGKILL)
        until(lambda: part.since != before)
        return part.since

    def test_a_database_that_is_away_is_told_at_once_and_all_is_well_soon_after(self) -> None:
        plan = self.client.demo()
        self.assertEqual(self.client.edit(plan, 0, patch("segment", "segment-edge", role="rim"))[0], 200)
        process = self.running.database.process
        assert process is not None
        # Nobody starts it again for now: its turn to be looked at doesn't come.
        with mock.patch.object(self.running.database, "look", lambda: None):
            # Asked to, since a throwaway cluster may lose what was written a moment before it is killed.
            process.send_signal(signal.SIGINT)
            process.wait()
            for method, path in (
                ("GET", "plans"),
                ("POST", f"plans/{plan}/undo"),
                ("GET", "health"),
                ("GET", f"plans/{plan}/events"),
            ):
                began = time.monotonic()
                status, said = self.client.request(method, path)
                self.assertEqual((status, list(said)), (503, ["detail"]), (path, said))
                self.assertLess(time.monotonic() - began, 20)
            self.assertEqual(self.client.post(f"plans/{plan}/preview", {"edits": [[{"op": "x" * 100_000}]]})[0], 503)
        began = self.running.database.since
        until(lambda: self.running.database.since != began)
        until(lambda: self.client.get(f"plans/{plan}")[0] == 200)
        self.assertEqual(self.client.get(f"plans/{plan}")[1]["revision"], 1)
        self.assertEqual(self.client.post(f"plans/{plan}/undo")[0], 200)

    def test_a_run_whose_worker_is_killed_is_soon_said_to_have_failed_and_the_next_one_is_taken(self) -> None:
        _, made = self.client.upload("plans/import", [], [("file", "p.json", write_plan(pair().plan()))])
        at = f"plans/{made['id']}/bench"
        scope = {"pulls": 0, "sample": 0, "seed": 1}

        def state(number: int) -> str:
            return str(self.client.get(f"{at}/{number}")[1]["run"]["state"])

        self.assertEqual(self.client.post(at, scope)[0], 201)
        until(lambda: state(1) == "running")
        self.kill(self.running.worker)
        until(lambda: state(1) == "failed")
        self.assertIn("the worker that took it is gone", self.client.get(f"{at}/1")[1]["run"]["error"])
        self.assertEqual(self.client.post(at, scope)[0], 201)
        until(lambda: state(2) == "done", 120)

    def test_the_demo_makes_its_passwords_once_and_leaves_them_alone(self) -> None:
        path = Path(self.running.env["APTWIRE_TEST_PASSWORDS"])
        words = json.loads(path.read_text())
        self.assertEqual((set(words), path.stat().st_mode & 0o777), ({"ines", "tomas"}, 0o600))
        self.assertEqual(len(set(words.values())), 2)
        again = path.with_name("again.json")
        for arguments in (("load_demo", str(serve.ROOT / "demo" / "brackwater.json"), "--passwords", str(again)),):
            serve.manage(self.running.env, *arguments)
        self.assertFalse(again.exists(), "who is there keeps the password")
        self.assertEqual(Client("tomas").get("session")[1], {"user": "tomas"})


class WatchedTest(unittest.TestCase):
    def test_what_does_not_hold_is_started_after_pauses_that_grow_and_it_is_said(self) -> None:
        import subprocess

        said = io.StringIO()
        part = Part("the kettle", lambda: subprocess.Popen(["false"]))
        with mock.patch.object(parts, "FIRST_PAUSE", 0.05), redirect_stdout(said):
            part.pause = 0.05
            part.start()
            with parts.watched(part):
                until(lambda: "again in 0.4 s" in said.getvalue())
        self.assertIn("the kettle ended (status 1); it is started again in 0.05 s", said.getvalue())
        self.assertIsNone(part.process)


class LoadTest(unittest.TestCase):
    def test_sixty_pages_and_twenty_people_lose_nothing_while_parts_are_killed(self) -> None:
        with redirect_stdout(io.StringIO()) as said:
            played = load.play(pages=60, seconds=20, kills=1, least=30)
        print("\n".join(played.lines()))
        self.assertEqual((played.lost, played.behind), ([], 0), said.getvalue())
        self.assertEqual(said.getvalue().count("  killed "), 3)
        # One may end by itself for want of another, and is started again like those that were killed.
        self.assertGreaterEqual(said.getvalue().count("runs again"), 3)
        self.assertGreaterEqual(played.edits, 30)
        self.assertLess(played.connections, 40)


if __name__ == "__main__":
    unittest.main()

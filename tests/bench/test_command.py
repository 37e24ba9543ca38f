"""The bench's command: what it prints, saves and ends with, whatever the kernel says."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from aptwire.formats import pcap
from aptwire.forward.compiling import compile_wiring
from aptwire.forward.frames import Frames
from aptwire.plan.file import read_plan, write_plan
from aptwire_bench.cli import main
from aptwire_bench.fit import Left
from aptwire_bench.kernel import BenchError
from aptwire_bench.prove import Case, Difference, Report, Scope, Story, say
from aptwire_bench.trials import PING, Trial, holders
from click.testing import CliRunner, Result

from tests.support import pair

TIMES = {"built": 1.0, "asked": 2.0, "together": 3.5}


class CommandTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        made = pair()
        for n, adapter in enumerate(made.kinds["adapter"]):
            adapter["addresses"] = [f"10.64.10.{n + 1}/24"]
        self.plan = made.plan()
        self.file = str(self.folder / "plan.json")
        Path(self.file).write_bytes(write_plan(self.plan))
        case = Case.of(self.plan, Scope(pulls=0, trials=0))
        self.question = next(q for q in case.paper if q.must and q.vid is None)

    def call(self, report: Report | BenchError, *arguments: str) -> Result:
        with mock.patch("aptwire_bench.cli.prove", side_effect=[report]) as prove:
            done = CliRunner().invoke(main, [self.file, *arguments])
        self.asked = prove.call_args.args[1] if prove.called else None
        return done

    def test_agreement_is_counted_and_what_was_not_built_is_said(self) -> None:
        report = Report(asked=7, agreed=7, untried={"no radio": 2}, left=(Left("a/n0", "n0 is wireless"),), times=TIMES)
        report.situations = ["as it is", "c1 pulled"]
        done = self.call(report, "--pulls", "2", "--sample", "3", "--seed", "9")
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertIn("9 questions: 7 asked, 7 agreed, 0 differed, 2 not tried", done.output)
        self.assertIn("asked in 2 situations: as it is; c1 pulled", done.output)
        self.assertIn("not built: n0 is wireless", done.output)
        self.assertIn("3.5 s, of which building 1.0 s and asking 2.0 s", done.output)
        self.assertEqual(self.asked, Scope(pulls=2, sample=3, seed=9))

    def differing(self) -> Report:
        difference = Difference(self.question, frozenset())
        a1, b1 = holders(self.plan, Frames(compile_wiring(self.plan)))
        told = say(self.plan, difference)
        frames = {"a-n0": pcap.write([(1.5, bytes(64))])}
        story = Story(told, ["in s of a as VID 10"], ["leaves at n0 of a, tagged 10"], frames, self.plan)
        return Report(
            asked=9,
            agreed=7,
            differences=[difference],
            failed=[Trial(PING, a1, b1, True, frozenset())],
            stories=[story],
            times=TIMES,
        )

    def test_a_difference_is_told_and_saved(self) -> None:
        done = self.call(self.differing(), "--save", str(self.folder / "out"))
        self.assertEqual(done.exit_code, 1, done.output)
        self.assertIn("9 questions: 9 asked, 7 agreed, 2 differed", done.output)
        self.assertIn("only the engine says it is heard by b1 of b1", done.output)
        self.assertIn("differs: a1 of a1 pings 10.64.10.2 of b1 of b1", done.output)
        self.assertIn("  kernel:\n    leaves at n0 of a, tagged 10", done.output)
        at = self.folder / "out" / "difference-1"
        self.assertEqual(read_plan((at / "plan.json").read_bytes()), self.plan)
        self.assertEqual(json.loads((at / "difference.json").read_text())["sender"], self.question.sender)
        self.assertEqual(pcap.frames((at / "a-n0.pcap").read_bytes(), "a-n0"), [(1.5, bytes(64))])

    def test_the_state_of_what_was_built_is_kept_for_the_importer(self) -> None:
        with mock.patch("aptwire_bench.cli.Kernel"), mock.patch("aptwire_bench.cli.read_back") as read:
            read.return_value = {"a/ip-link.json": b"[]"}
            done = self.call(Report(times=TIMES), "--state", str(self.folder / "state"))
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertEqual((self.folder / "state" / "a" / "ip-link.json").read_bytes(), b"[]")

    def test_json_has_the_same(self) -> None:
        done = self.call(self.differing(), "--json")
        self.assertEqual(done.exit_code, 1)
        found = json.loads(done.output)
        self.assertEqual((found["differed"], len(found["differences"])), (2, 2))
        self.assertEqual(found["stories"][0]["engine"], ["in s of a as VID 10"])

    def test_what_cannot_be_asked_ends_with_2(self) -> None:
        done = self.call(BenchError("the bench’s kernel died: out of memory"))
        self.assertEqual((done.exit_code, done.output), (2, "error: the bench’s kernel died: out of memory\n"))
        Path(self.file).write_text('{"format": "something"}')
        done = self.call(Report())
        self.assertEqual(done.exit_code, 2)
        self.assertIn("error: plan.json", done.output)
        self.assertIsNone(self.asked)


if __name__ == "__main__":
    unittest.main()

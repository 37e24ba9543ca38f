"""The language of rules: what is read, what isn't and why, and what could stand where; separations of before."""

from __future__ import annotations

import json
import unittest

from aptwire.plan.edits import Patch, apply_edit, edit_from_json
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.plan import PlanError
from aptwire.plan.sentences import (
    LISTED,
    WORDS,
    Apart,
    Carries,
    Reach,
    RuleError,
    Share,
    could_follow,
    quoted,
    read,
    words,
)
from hypothesis import given
from hypothesis import strategies as st

from tests.support import ROOT, pair


class ReadingTest(unittest.TestCase):
    def said(self, text: str) -> object:
        return read(text)

    def fault(self, text: str) -> tuple[str, str]:
        with self.assertRaises(RuleError) as caught:
            read(text)
        fault = caught.exception.fault
        self.assertLessEqual(fault.start, fault.end)
        return text[fault.start : fault.end], str(caught.exception)

    def test_sentences_of_every_sort(self) -> None:
        sentence = read("keep role management apart from everything on layer 2 even if hostile except host port m of a")
        assert isinstance(sentence, Apart)
        self.assertEqual(
            ([str(s) for s in (*sentence.a, *sentence.b, *sentence.without)], sentence.layer2, sentence.hostile),
            (["role management", "everything", "host port m of a"], True, True),
        )
        reach = read("let guest a, b and station c reach segment d only through r")
        assert isinstance(reach, Reach)
        self.assertEqual([str(s) for s in reach.a], ["guest a", "b", "station c"])
        self.assertEqual([str(s) for s in (*reach.b, *reach.through)], ["segment d", "r"])
        hosts = read("every host reaches dns, ntp and backup")
        assert isinstance(hosts, Reach)
        self.assertEqual(([str(s) for s in hosts.a], len(hosts.b)), (["every host"], 3))
        carries, share = read("storage carries 9000"), read("a, b and c share no card, virtual switch or NIC")
        assert isinstance(carries, Carries) and isinstance(share, Share)
        self.assertEqual((carries.size, share.things), (9000, ("card", "virtual_switch", "nic")))
        share = read("a and b share no cable or switch")
        assert isinstance(share, Share)
        self.assertEqual(share.things, ("cable", "fabric_switch"))

    def test_words_of_the_language_are_names_where_they_cannot_stand(self) -> None:
        sentence = read('keep apart apart from keep and "every"')
        assert isinstance(sentence, Apart)
        self.assertEqual([s.name for s in (*sentence.a, *sentence.b)], ["apart", "keep", "every"])

    @given(st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1, max_size=30))
    def test_any_name_can_be_written(self, name: str) -> None:
        sentence = read(f"keep segment {quoted(name)} apart from {quoted('role')}")
        assert isinstance(sentence, Apart)
        self.assertEqual((sentence.a[0].name, sentence.b[0].name), (name, "role"))

    @given(st.lists(st.sampled_from([*LISTED, "a", '"b c"', ",", '"', "9000", "*"]), max_size=14).map(" ".join))
    def test_whatever_is_typed_is_read_or_refused_at_a_place(self, text: str) -> None:
        """And the words that could follow are those with which it can be read on."""
        try:
            read(text)
        except RuleError as error:
            self.assertLessEqual(error.fault.end, max(len(text), error.fault.start))
            self.assertTrue(error.fault.message)
        for word in words(text):
            self.assertTrue(text[word.start : word.end].strip())
        could, names = could_follow(text)
        self.assertLessEqual({w for w in could if w.isalnum()}, WORDS)
        if not text:
            self.assertTrue(names and "keep" in could)

    def test_what_is_wrong_is_pointed_at(self) -> None:
        for text, at, why in (
            ("", "", "breaks off: keep, let"),
            ("keep a apart", "", "breaks off: from could"),
            ("keep a aparrt from b", "aparrt", "is “apart” meant"),
            ("keep a apart from b quickly", "quickly", "on, even, except"),
            ('keep "a apart from b', '"a', "doesn’t end"),
            ("storage carries many", "many", "a number could"),
            ("storage carries 90000", "90000", "576 to 9216"),
            ("storage share no NIC", "", "takes two"),
            ("a and a share no NIC", "a", "twice"),
            ("guest a and b share no NIC", "guest a", "only segments and roles"),
            ("host a carries 9000", "host a", "only segments and roles"),
        ):
            found, message = self.fault(text)
            self.assertEqual(found, at, text)
            self.assertIn(why, message)

    def test_a_rule_of_ten_thousand_words_is_refused(self) -> None:
        self.assertIn("make several of it", self.fault("keep " + "a, " * 10_000 + "b apart from c")[1])


class SeparationTest(unittest.TestCase):
    """Two that share nothing were a record kind of their own before rules."""

    def old(self) -> dict[str, object]:
        made = json.loads(write_plan(pair().plan()))
        made["records"]["separation"] = [{"id": "s", "a": "storage", "b": "tide gauges", "share": "nic", "note": "why"}]
        return made

    def test_a_plan_file_of_before_is_read_as_it_was_meant(self) -> None:
        plan = read_plan(json.dumps(self.old()).encode())
        rule = plan.get("rule", "s")
        self.assertEqual(rule.text, 'storage and "tide gauges" share no VID, virtual switch, uplink or NIC')
        self.assertEqual(rule.note, "why")
        broken = self.old()
        broken["records"]["separation"][0]["share"] = "everything"  # type: ignore[index]
        with self.assertRaisesRegex(PlanError, "separation"):
            read_plan(json.dumps(broken).encode())

    def test_edits_of_before_are_read_as_they_were_meant(self) -> None:
        plan = pair().plan()
        put = {"op": "put", "kind": "separation", "record": {"id": "s", "a": "x", "b": "y"}}
        made, back = apply_edit(plan, edit_from_json([put]))
        self.assertEqual(made.get("rule", "s").text, "x and y share no VID, virtual switch or uplink")
        self.assertEqual(apply_edit(made, back)[0], plan)
        patch = edit_from_json([{"op": "patch", "kind": "separation", "id": "s", "set": {"share": "vid", "a": "z"}}])
        patched, back = apply_edit(made, patch)
        self.assertEqual(patched.get("rule", "s").text, "z and y share no VID")
        self.assertEqual(apply_edit(patched, back)[0], made)
        other, _ = apply_edit(made, (Patch("rule", "s", {"text": "x carries 9000"}),))
        with self.assertRaisesRegex(PlanError, "says something else by now"):
            apply_edit(other, patch)
        gone, _ = apply_edit(patched, edit_from_json([{"op": "drop", "kind": "separation", "id": "s"}]))
        self.assertEqual(gone, plan)

    def test_the_grammar_in_the_documentation_has_the_words_of_the_language(self) -> None:
        page = (ROOT / "docs" / "rules.md").read_text()
        missing = [word for word in LISTED if f'"{word}"' not in page]
        self.assertEqual(missing, [])


if __name__ == "__main__":
    unittest.main()

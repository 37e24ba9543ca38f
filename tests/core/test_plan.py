"""Records, edits and the plan file."""

from __future__ import annotations

import json
import random
import unittest

import numpy as np
from aptwire.plan import cores, vids
from aptwire.plan.edits import Drop, Patch, Put, apply_edit, edit_from_json, edit_to_json
from aptwire.plan.file import plan_text, read_plan, schema, write_plan
from aptwire.plan.kinds import KINDS, SPECS, Guest, columns_of
from aptwire.plan.plan import PlanError
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import ROOT, demo_plan, random_plan


def problems(edit: list[dict]) -> str:
    """What an edit of the demo plan is refused for."""
    try:
        apply_edit(demo_plan(), edit_from_json(edit))
    except PlanError as error:
        return str(error)
    return ""


class VidSetTest(unittest.TestCase):
    @given(st.sets(st.integers(1, 4094)))
    def test_what_is_written_is_read_back(self, numbers: set[int]) -> None:
        self.assertEqual(vids.members(vids.write(numbers)), numbers)
        self.assertEqual(vids.canonical(vids.write(numbers)), vids.write(numbers))

    def test_bad_sets_name_the_item(self) -> None:
        for text, said in (
            ("10-5", "backwards"),
            ("0", "VID 0"),
            ("4095", "4095"),
            ("ten", "“ten”"),
            ("1-2-3", "neither"),
        ):
            with self.assertRaisesRegex(ValueError, said):
                vids.members(text)

    @given(st.sets(st.integers(0, 4094)), st.integers(1, 4094))
    def test_bits_masks_and_one_more_are_the_same_set(self, numbers: set[int], vid: int) -> None:
        text = vids.write(numbers)
        self.assertEqual(set(np.flatnonzero(vids.mask(text)).tolist()), numbers)
        self.assertEqual(vids.bits(text), sum(1 << number for number in numbers))
        self.assertEqual(vids.of_bits(vids.bits(text)), numbers)
        self.assertEqual(vids.write_bits(vids.bits(text)), text)
        self.assertEqual(vids.members(vids.with_vid(text, vid), untagged=True), numbers | {vid})


class CoresTest(unittest.TestCase):
    @given(st.lists(st.integers(0, 400), unique=True), st.integers(1, 4))
    def test_what_is_written_is_read_back_whatever_the_order(self, numbers: list[int], threads: int) -> None:
        found = [tuple(numbers[n : n + threads]) for n in range(0, len(numbers), threads)]
        text = cores.write_cores(found)
        self.assertEqual(cores.cores(text), tuple(sorted(found)))
        self.assertEqual(cores.write_cores(cores.cores(text)), text)
        self.assertEqual(cores.processors(cores.write(numbers)), set(numbers))

    def test_what_is_no_core_is_named(self) -> None:
        for text, said in (
            ("3+x", "“3\\+x” is no core"),
            ("-1", "“-1” is no core"),
            ("5000", "“5000” is no core"),
            ("99999999", "is no core"),
            ("٣", "is no core"),
            ("1+17, 17", "“17” stands twice"),
            ("4+4", "“4\\+4” stands twice"),
        ):
            with self.assertRaisesRegex(ValueError, said):
                cores.cores(text)


class ColumnsTest(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.integers(0, 10**9))
    def test_columns_of_records_say_what_each_says(self, seed: int) -> None:
        plan = random_plan(seed, rich=seed % 2 == 1, odd=seed % 3 == 1)
        for kind in KINDS:
            records = list(plan.all(kind))
            columns = columns_of(kind, records)
            self.assertTrue(all(len(values) == len(records) for values in columns.values()))
            for n, record in enumerate(records):
                said = {name: values[n] for name, values in columns.items() if values[n] is not None}
                self.assertEqual(said, {name: v for name, v in record.to_json().items() if v is not None})
            # A field stands there only where somebody says something in it.
            told = {name for record in records for name in record.to_json()}
            self.assertEqual(set(columns) - {"id"}, told - {"id"})


class EditTest(unittest.TestCase):
    @settings(max_examples=100)
    @given(st.integers(0, 10**9), st.randoms(use_true_random=False))
    def test_an_edit_and_its_inverse_leave_the_same_plan(self, seed: int, dice: random.Random) -> None:
        plan = random_plan(seed)
        edit = []
        for record in dice.sample(list(plan), min(6, len(plan))):
            choice = dice.random()
            if choice < 0.3 and record.kind in ("adapter", "guest_tag", "cable", "host_port"):
                edit.append(Drop(record.kind, record.id))
            elif choice < 0.7 and record.kind == "nic":
                edit.append(Patch("nic", record.id, {"link": dice.choice(["up", "down"]), "rank": dice.randrange(9)}))
            elif choice < 0.8 and record.kind == "guest":
                edit.append(Put(Guest(id=record.id, host=record.host, name=f"renamed {record.id}", running=False)))
            elif record.kind == "segment":
                edit.append(Patch("segment", record.id, {"role": "test", "mtu": 9000}))
        try:
            after, inverse = apply_edit(plan, tuple(edit))
        except PlanError:
            return
        restored, again = apply_edit(after, inverse)
        self.assertEqual(restored, plan)
        self.assertEqual(apply_edit(restored, again)[0], after)
        self.assertEqual(
            edit_from_json(json.loads(json.dumps(edit_to_json(inverse)))), edit_from_json(edit_to_json(inverse))
        )

    def test_records_that_need_each_other_come_in_any_order(self) -> None:
        edit = [
            {"op": "put", "kind": "adapter", "record": {"id": "a9", "guest": "g9", "name": "tap9"}},
            {"op": "put", "kind": "guest", "record": {"id": "g9", "name": "pilot-office", "host": "gannet"}},
        ]
        self.assertEqual(problems(edit), "")

    def test_bad_input_names_record_and_field(self) -> None:
        def patch(kind: str, id: str, **changes: object) -> list[dict]:
            return [{"op": "patch", "kind": kind, "id": id, "set": changes}]

        def put(kind: str, **record: object) -> list[dict]:
            return [{"op": "put", "kind": kind, "record": {"id": "new", **record}}]

        cases = [
            (patch("segment", "segment-edge", vid=0), ["segment segment-edge, field vid", "VID 0"]),
            (patch("segment", "segment-edge", vid=4095), ["4095 is outside 1 to 4094"]),
            (patch("fabric_port", "quay-a/p1", allowed="10-5"), ["field allowed", "10-5 runs backwards"]),
            (patch("nic", "gannet/nic0", mtu=50), ["field mtu", "50 is outside 576 to 9216"]),
            (patch("nic", "gannet/nic0", uplink="fulmar/guests0/team0"), ["another host"]),
            (patch("adapter", "adapter-ticketing-db", port_group="fulmar/guests0/edge"), ["is on another host"]),
            (patch("port_group", "gannet/guests0/edge", vid=None), ["needs a VID"]),
            (patch("port_group", "gannet/guests0/edge", colour="red"), ["no such field"]),
            (patch("port_group", "gannet/guests0/edge", mode=["access"]), ["field mode"]),
            (patch("host", "heron", name="heron"), ["there is no such record"]),
            (put("cable", a="quay-a/p1", b="quay-b/p2"), ["already has a cable"]),
            (put("cable", a="marsh-a/p20", b="marsh-a/p20"), ["two different ends"]),
            (put("host", name="gannet"), ["“gannet” is taken by host gannet"]),
            (put("guest", name="x", host="nowhere"), ["refers to “nowhere”"]),
            (put("guest", name="x"), ["field host: is missing"]),
            (put("adapter", guest="guest-berth-planner", name="tap-ticketing-db"), ["is taken on this host"]),
            (put("adapter", guest="guest-berth-planner", name="t", addresses=["10.64.300.1/24"]), ["field addresses"]),
            (put("adapter", guest="guest-berth-planner", name="t", mac="zz"), ["no MAC address"]),
            ([{"op": "drop", "kind": "segment", "id": "segment-edge"}], ["refers to “segment-edge”"]),
            ([{"op": "drop", "kind": "lamp", "id": "x"}], ["no record kind “lamp”"]),
            ([{"op": "move"}], ["operation 1", "put, patch or drop"]),
        ]
        for edit, parts in cases:
            said = problems(edit)
            for part in parts:
                with self.subTest(edit=edit):
                    self.assertIn(part, said)


class PlanFileTest(unittest.TestCase):
    @settings(max_examples=50)
    @given(st.integers(0, 10**9))
    def test_a_written_plan_reads_back_equal(self, seed: int) -> None:
        plan = random_plan(seed)
        self.assertEqual(read_plan(write_plan(plan)), plan)

    @settings(max_examples=20)
    @given(st.integers(0, 10**9), st.integers(1, 5000))
    def test_parts_of_a_plan_file_make_the_file(self, seed: int, room: int) -> None:
        plan = random_plan(seed)
        parts, first = list[str](), 0
        longest = max(map(len, write_plan(plan).splitlines(keepends=True)))
        while first is not None:
            text, first = plan_text(plan, first, room)
            parts.append(text)
            self.assertLess(
                len(text.encode()), room + longest + 200, "no part is longer than was asked by more than a line"
            )
        self.assertEqual("".join(parts).encode(), write_plan(plan))

    def test_the_documented_schema_is_the_one_that_the_reader_uses(self) -> None:
        self.assertEqual(json.loads((ROOT / "docs" / "plan.schema.json").read_text()), schema())

    def test_every_kind_is_in_the_format_description(self) -> None:
        text = (ROOT / "docs" / "plan-format.md").read_text()
        for kind in KINDS:
            self.assertIn(f"`{kind}`", text)
            for name in SPECS[kind]:
                self.assertIn(f"`{name}`", text)

    def test_errors_name_the_place(self) -> None:
        good = json.loads(write_plan(demo_plan()))

        def broken(change) -> str:
            data = json.loads(json.dumps(good))
            change(data)
            with self.assertRaises(PlanError) as caught:
                read_plan(json.dumps(data).encode(), "fleet.json")
            return str(caught.exception)

        self.assertIn("records/nic/0 (id fulmar/nic0)", broken(lambda d: d["records"]["nic"][0].update(wings=2)))
        self.assertIn("records/nic/0/speed", broken(lambda d: d["records"]["nic"][0].update(speed="fast")))
        self.assertIn("lamp", broken(lambda d: d["records"].update(lamp=[])))
        self.assertIn("field vid", broken(lambda d: d["records"]["port_group"][0].pop("vid")))
        self.assertIn("stands twice", broken(lambda d: d["records"]["host"].append(d["records"]["host"][0])))
        self.assertIn("version", broken(lambda d: d.update(version=2)))

    def test_hostile_files_end_in_a_clear_error(self) -> None:
        cases = [
            (b"", "isn't JSON"),
            (b"\xff\xfe{}", "isn't UTF-8"),
            (b"[" * 200_000, "nested too deeply"),
            (b'{"format": "aptwire-plan"', "line 1"),
            (b"9" * 5000, "isn't usable JSON"),
            (b"[]", "top level"),
        ]
        for raw, said in cases:
            with self.subTest(said), self.assertRaisesRegex(PlanError, said):
                read_plan(raw, "fleet.json")


if __name__ == "__main__":
    unittest.main()

"""What each sort of field takes, in which form it is kept, and what it refuses; the JSON Schema says the same."""

from __future__ import annotations

import ipaddress
import json
import random
import unittest
from typing import Any

import jsonschema_rs
from aptwire.plan.checks import make_record, make_records
from aptwire.plan.fields import Spec, end_of, numbers
from aptwire.plan.file import schema
from aptwire.plan.kinds import KINDS, SPECS
from aptwire.plan.names import called, endpoint_key, host_of, natural, some
from aptwire.plan.plan import PlanError
from hypothesis import given
from hypothesis import strategies as st

from tests.support import demo_plan, random_plan

TAKES: list[tuple[Spec, Any, Any]] = [
    (Spec("text", low=1, high=8), " gannet ", "gannet"),
    (Spec("text", high=8), "", ""),
    (Spec("number", low=1, high=9), 9, 9),
    (Spec("number", low=1, high=9, optional=True), None, None),
    (Spec("flag"), False, False),
    (Spec("choice", options=("up", "down")), "up", "up"),
    (Spec("vid"), 1, 1),
    (Spec("vid"), 4094, 4094),
    (Spec("vid", untagged=True), 0, 0),
    (Spec("vids"), "30,10, 11,12", "10-12, 30"),
    (Spec("vids"), "", ""),
    (Spec("vids"), "1-4094", "1-4094"),
    (Spec("vids", untagged=True), "10, 0", "0, 10"),
    (Spec("ref", refs=("host",)), "host:a/b.c@d-e_f", "host:a/b.c@d-e_f"),
    (Spec("mac"), "02-64-0A-00-00-01", "02:64:0a:00:00:01"),
    (Spec("mac"), "0264.0A00.0001", "02:64:0a:00:00:01"),
    (Spec("mac"), "02640A000001", "02:64:0a:00:00:01"),
    (Spec("ip"), "2001:DB8::0001", "2001:db8::1"),
    (Spec("addresses"), ["10.64.0.1/24", "10.64.0.1/24", "2001:db8::1/64"], ("10.64.0.1/24", "2001:db8::1/64")),
    (Spec("subnets"), ["10.64.0.0/24"], ("10.64.0.0/24",)),
    (Spec("ips"), ["10.64.0.1"], ("10.64.0.1",)),
    (Spec("words"), ["storage", " backup "], ("storage", "backup")),
]

REFUSES: list[tuple[Spec, Any, str]] = [
    (Spec("text", low=1, high=8), "  ", "isn't empty"),
    (Spec("text", low=1, high=8), "nine chars", "8 is the most"),
    (Spec("text", high=8), "a\x00b", "control characters"),
    (Spec("text", high=8), 7, "not a number"),
    (Spec("text", high=8), None, "a value is needed"),
    (Spec("number", low=1, high=9), 10, "outside 1 to 9"),
    (Spec("number", low=1, high=9), True, "not true or false"),
    (Spec("number", low=1, high=9), 1.5, "whole number"),
    (Spec("number", low=1, high=9), "5", "not “5”"),
    (Spec("flag"), "yes", "true or false is needed"),
    (Spec("flag"), 1, "true or false is needed"),
    (Spec("choice", options=("up", "down")), "sideways", "none of up, down"),
    (Spec("choice", options=("up", "down")), {"a": 1}, "none of up, down"),
    (Spec("vid"), 0, "VID 0 is outside 1 to 4094"),
    (Spec("vid"), 4095, "VID 4095"),
    (Spec("vid"), -1, "VID -1"),
    (Spec("vid"), False, "whole number"),
    (Spec("vid"), "10", "whole number"),
    (Spec("vids"), "0", "VID 0"),
    (Spec("vids"), "4090-4096", "VID 4096"),
    (Spec("vids"), "10-5", "backwards"),
    (Spec("vids"), "10;20", "neither a VID nor a range"),
    (Spec("vids"), "99999999999", "neither a VID nor a range"),
    (Spec("vids"), [10], "not a list"),
    (Spec("vids"), "1," * 20_000, "20,000 characters"),
    (Spec("ref", refs=("host", "nic")), "", "the id of a host or nic"),
    (Spec("ref", refs=("host",)), "a b", "the id of a host"),
    (Spec("mac"), "02:64:0a:00:00", "no MAC address"),
    (Spec("mac"), "0264.0a00.00", "no MAC address"),
    (Spec("mac"), "02:640a:000001", "no MAC address"),
    (Spec("mac"), 5, "no MAC address"),
    (Spec("ip"), "10.64.0.256", "10.64.0.256"),
    (Spec("addresses"), ["10.64.0.1/33"], "10.64.0.1/33"),
    (Spec("addresses"), "10.64.0.1/24", "a list is needed"),
    (Spec("addresses"), [None], "the list holds nothing"),
    (Spec("addresses"), ["10.64.0.1/24"] * 65, "64 is the most"),
    (Spec("subnets"), ["10.64.0.1/24"], "the subnet is 10.64.0.0/24"),
    (Spec("words"), [""], "isn't empty"),
]


class SpecTest(unittest.TestCase):
    def test_what_is_taken_and_how_it_is_kept(self) -> None:
        for spec, given_value, kept in TAKES:
            with self.subTest(kind=spec.kind, value=given_value):
                self.assertEqual(spec.take(given_value), kept)
                self.assertTrue(
                    jsonschema_rs.is_valid(spec.schema(), given_value), "the schema refuses what the field takes"
                )

    def test_what_is_refused_and_why(self) -> None:
        for spec, value, why in REFUSES:
            with self.subTest(kind=spec.kind, value=str(value)[:30]), self.assertRaises(ValueError) as caught:
                spec.take(value)
            self.assertIn(why, str(caught.exception))

    def test_the_schema_refuses_other_types(self) -> None:
        for spec, value, _ in REFUSES:
            if not isinstance(value, (str, list)) and not (spec.kind == "flag" and value == "yes"):
                with self.subTest(kind=spec.kind, value=value):
                    self.assertFalse(jsonschema_rs.is_valid(spec.schema(), value))

    @given(
        st.recursive(
            st.none() | st.booleans() | st.integers() | st.text(max_size=9),
            lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=3), inner, max_size=2),
        )
    )
    def test_any_json_value_is_taken_or_refused_with_a_reason(self, value: Any) -> None:
        for kind, specs in SPECS.items():
            for name, spec in specs.items():
                try:
                    spec.take(value)
                except ValueError as error:
                    self.assertTrue(str(error), f"{kind}.{name}")


class RecordTest(unittest.TestCase):
    def test_every_kind_is_read_back_from_what_it_writes(self) -> None:
        for seed in range(30):
            for record in random_plan(seed):
                self.assertEqual(make_record(record.kind, json.loads(json.dumps(record.to_json()))), record)

    def test_many_records_are_what_each_is_by_itself(self) -> None:
        # What stands in no field, in one that nobody may leave out, where only text or a list may, and what Python takes for the same as another.
        odd: list[Any] = [
            None,
            True,
            1,
            1.0,
            0,
            False,
            "",
            " x ",
            "10",
            [],
            ["10.64.0.1/24"],
            {},
            "x" * 130,
            "02-64-0A-00-00-01",
            "a\n",
        ]
        taken, refused = 0, 0
        for seed in range(40):
            plan, dice = random_plan(seed, rich=seed % 2 == 0), random.Random(seed)
            for kind, specs in SPECS.items():
                items = [record.to_json() for record in plan.all(kind)]
                for item in dice.sample(items, dice.randrange(min(3, len(items) + 1))):
                    match dice.randrange(3):
                        case 0:
                            item.pop(dice.choice(list(item)))
                        case 1:
                            item[dice.choice(list(specs))] = dice.choice(odd)
                        case 2:
                            item[dice.choice(["id", "wings", *specs])] = dice.choice([*odd, *item.values()])
                try:
                    wanted = [make_record(kind, item) for item in items]
                except PlanError:
                    wanted = []
                made = make_records(kind, items) or []
                # 1 == True, so they are held against each other as they are written.
                self.assertEqual(list(map(repr, made)), list(map(repr, wanted)), (seed, kind))
                taken += bool(made)
                refused += bool(items) and not made
        self.assertGreater(min(taken, refused), 100)
        self.assertIsNone(make_records("lamp", [{"id": "x"}]))
        self.assertIsNone(make_records("host", ["x"]))

    def test_every_record_of_the_demo_fits_the_schema_of_its_kind(self) -> None:
        kinds = schema()["$defs"]
        for record in demo_plan():
            jsonschema_rs.validate(kinds[record.kind], record.to_json())

    def test_all_problems_of_a_record_are_told_at_once(self) -> None:
        with self.assertRaises(PlanError) as caught:
            make_record("nic", {"id": "n", "host": "h", "mtu": 50, "speed": 1, "wings": 2}, "here")
        said = {(p.field, p.place) for p in caught.exception.problems}
        self.assertEqual(said, {("mtu", "here"), ("speed", "here"), ("wings", "here"), ("name", "here")})

    def test_ids_and_objects_are_needed(self) -> None:
        for data in ({}, {"id": ""}, {"id": "-x"}, {"id": "a" * 121}, {"id": 5}, [], "x"):
            with self.subTest(data=str(data)[:20]), self.assertRaises(PlanError):
                make_record("host", data)  # type: ignore[arg-type]
        with self.assertRaisesRegex(PlanError, "no record kind “lamp”"):
            make_record("lamp", {"id": "x"})

    def test_references_name_kinds_that_there_are(self) -> None:
        for kind, specs in SPECS.items():
            for name, spec in specs.items():
                self.assertTrue(set(spec.refs) <= set(KINDS), f"{kind}.{name}")


class NamesTest(unittest.TestCase):
    def test_records_are_called_as_people_would(self) -> None:
        plan = demo_plan()
        names = {
            "gannet": "gannet",
            "gannet/nic0": "nic0 of gannet",
            "gannet/guests0": "guests0 of gannet",
            "gannet/guests0/team0": "uplink team0 of gannet",
            "gannet/guests0/edge": "port group edge of gannet",
            "gannet/guests0/mgmt": "host port mgmt of gannet",
            "quay-b/p2": "port p2 of quay-b",
            "quay-b": "quay-b",
            "adapter-ticketing-db": "tap-ticketing-db of ticketing-db",
            "tag-edge-firewall-210": "tag 210 on tap-fw-in of edge-firewall",
            "cable-quay": "the cable from port x50 of quay-a to port x50 of quay-b",
            "segment-edge": "edge",
        }
        for id, name in names.items():
            self.assertEqual(called(plan, plan.find(id)), name)
        self.assertEqual(called(plan, None), "something that is gone")

    def test_endpoints_have_the_keys_of_the_command_line(self) -> None:
        plan = demo_plan()
        keys = {
            "adapter-ticketing-db": "gannet/tap-ticketing-db",
            "petrel/guests0/mgmt": "petrel/mgmt",
            "gannet/nic0": "gannet/nic0",
        }
        for id, key in keys.items():
            record = plan.find(id)
            assert record is not None
            self.assertEqual(endpoint_key(plan, record), key)
        self.assertEqual(host_of(plan, plan.get("guest_tag", "tag-edge-firewall-210")), "gannet")
        self.assertEqual(host_of(plan, plan.get("segment", "segment-edge")), "")


class OrderTest(unittest.TestCase):
    @given(st.lists(st.text(max_size=12), max_size=6))
    def test_any_names_can_be_put_in_order(self, names: list[str]) -> None:
        ordered = sorted(names, key=natural)
        self.assertEqual(sorted(ordered), sorted(names))
        # A name that is longer by what follows comes after.
        for name in names:
            self.assertLessEqual(natural(name), natural(name + "z"))

    @given(st.text("nic-", max_size=4), st.lists(st.integers(0, 10**6), unique=True, max_size=8))
    def test_numbers_in_names_count(self, word: str, numbers: list[int]) -> None:
        names = [f"{word}{number}v" for number in sorted(numbers)]
        self.assertEqual(sorted(random.Random(1).sample(names, len(names)), key=natural), names)

    @given(st.one_of(st.ip_addresses(v=4), st.ip_addresses(v=6)), st.integers(0, 128))
    def test_an_address_in_numbers_is_what_the_library_makes_of_it(self, address: Any, length: int) -> None:
        length %= address.max_prefixlen + 1
        net = ipaddress.ip_network(f"{address}/{length}", strict=False)
        version, number, first, found = numbers(f"{address}/{length}")
        self.assertEqual((version, number, first, found), (address.version, int(address), int(net[0]), length))
        self.assertEqual(end_of(version, first, found) - 1, int(net[-1]))

    def test_digits_that_no_number_is_written_with_are_letters(self) -> None:
        self.assertEqual(sorted(["²", "5²", "5", "٣", "nic²"], key=natural), ["٣", "5", "5²", "nic²", "²"])

    @given(st.lists(st.text("abc", min_size=1, max_size=3), min_size=1, max_size=9), st.integers(2, 5))
    def test_some_names_and_how_many_more(self, names: list[str], most: int) -> None:
        listed = list(dict.fromkeys(names))
        told = some(names, most)
        if len(listed) <= most:
            self.assertEqual(told.replace(" and ", ", ").split(", "), listed)
            return
        first, _, rest = told.rpartition(" and ")
        self.assertEqual(first.split(", "), listed[: most - 1])
        self.assertEqual(rest, f"{len(listed) - most + 1} more")

    def test_where_only_the_first_names_are_given_it_is_said_how_many_there_are(self) -> None:
        self.assertEqual(some(["a", "b", "c"], 3, count=9), "a, b and 7 more")
        self.assertEqual(some(["a", "b"], 3, count=2), "a and b")
        self.assertEqual(some(["a", "a"], 3), "a")
        self.assertEqual(some(["a", "b", "b", "c"], 2), "a and 2 more")
        self.assertEqual(some([]), "")
        self.assertEqual(some(iter(["n1", "n2", "n3", "n4"])), "n1, n2 and 2 more")


if __name__ == "__main__":
    unittest.main()

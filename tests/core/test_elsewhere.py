"""Networks that another system defines: read from a topology, taken as segments, told when they vanish; and a plan's own written the same way."""

from __future__ import annotations

import json
import random
import sys
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import networkx
from aptwire.formats.elsewhere import (
    BACK,
    CHANGED,
    GONE,
    LEFT,
    NEW,
    OFFERED,
    SAME,
    VANISHED,
    Reading,
    new_source,
    taken,
)
from aptwire.formats.topology import LAYER2, LAYER3, REVISIONS, TOPOLOGY, Topology, document_of, read_topology
from aptwire.formats.topology_of import topology_of
from aptwire.judge.findings import everything
from aptwire.judge.judgement import Judgement
from aptwire.judge.mends import mends
from aptwire.judge.verdicts import judge, judged_after
from aptwire.plan.edits import Drop, Edit, Patch, Put, apply_edit
from aptwire.plan.file import read_plan, write_plan
from aptwire.plan.kinds import Segment, Source
from aptwire.plan.plan import Plan, PlanError
from aptwire.recheck import recheck
from yangson import DataModel
from yangson.enumerations import ContentType, ValidationScope

from tests.core.test_recheck import report_of
from tests.support import all_places, demo_plan, pair, random_plan

POINT = f"{LAYER2}:l2-termination-point-attributes"


def network(id: str, *points: dict[str, Any], name: str = "", upon: tuple[str, ...] = ()) -> dict[str, Any]:
    """A network of layer 2 with a node for each termination point, which says this of its tag."""
    made: dict[str, Any] = {"network-id": id, "network-types": {f"{LAYER2}:l2-topology": {}}}
    if name:
        made[f"{LAYER2}:l2-topology-attributes"] = {"name": name}
    made["supporting-network"] = [{"network-ref": ref} for ref in upon]
    made["node"] = [
        {"node-id": f"n{n}", f"{TOPOLOGY}:termination-point": [{"tp-id": "p", POINT: said}]}
        for n, said in enumerate(points)
    ]
    return made


def prefixes(id: str, *subnets: str, upon: tuple[str, ...] = (), nodes_upon: tuple[str, ...] = ()) -> dict[str, Any]:
    """A network of unicast addresses whose one node has these."""
    node: dict[str, Any] = {
        "node-id": "n",
        f"{LAYER3}:l3-node-attributes": {"prefix": [{"prefix": s} for s in subnets]},
    }
    node["supporting-node"] = [{"network-ref": ref, "node-ref": "x"} for ref in nodes_upon]
    return {
        "network-id": id,
        "network-types": {f"{LAYER3}:l3-unicast-topology": {}},
        "supporting-network": [{"network-ref": ref} for ref in upon],
        "node": [node],
    }


def tag(vid: object) -> dict[str, Any]:
    return {"encapsulation-type": f"{LAYER2}:vlan", "outer-tag": vid}


def vxlan(vni: int) -> dict[str, Any]:
    return {"encapsulation-type": f"{LAYER2}:vxlan", "vxlan": {"vni-id": vni}}


def said(*networks: dict[str, Any]) -> Topology:
    return read_topology(document_of(networks), "harbour.json")


def refused(*networks: dict[str, Any]) -> str:
    try:
        said(*networks)
    except PlanError as error:
        return str(error.problems[0])
    raise AssertionError("it was read")


class ReadingTest(unittest.TestCase):
    def test_a_tag_or_vni_on_which_all_points_agree_makes_a_network_that_a_plan_can_have(self) -> None:
        found = said(
            network("a", tag("300"), {"encapsulation-type": "ethernet"}, tag(300), name="berth cameras"),
            network("b", vxlan(7001)),
            network("two", tag("300"), tag("301")),
            network("range", tag("300-302")),
            network("both", tag("300"), vxlan(9)),
            network("stacked", {**tag("300"), "inner-tag": "5"}),
            network("trill", {"encapsulation-type": "ietf-l2-topology:trill"}),
            network("silent", {"encapsulation-type": "ethernet"}, {}),
        )
        self.assertEqual(
            [(n.id, n.name, n.vid, n.vni) for n in found.networks],
            [("a", "berth cameras", 300, None), ("b", "b", None, 7001)],
        )
        self.assertEqual(sorted(found.left), ["both", "range", "silent", "stacked", "trill", "two"])
        self.assertIn("several VIDs: 300-302", found.left["range"])
        self.assertIn("two tags", found.left["stacked"])

    def test_subnets_are_the_prefixes_of_nodes_that_stand_on_one_network_alone(self) -> None:
        found = said(
            network("a", tag("300")),
            network("b", tag("301")),
            prefixes("of-a", "10.67.1.0/24", "2001:db8:67::/64", upon=("a",)),
            prefixes("over", "10.67.2.0/24", upon=("of-a", "b"), nodes_upon=("b",)),
            prefixes("far", "10.67.4.0/24", upon=("of-a",)),
            prefixes("both", "10.67.3.0/24", upon=("a", "b")),
            prefixes("none", "10.67.5.0/24"),
        )
        self.assertEqual(
            {n.id: n.subnets for n in found.networks},
            {"a": ("10.67.1.0/24", "2001:db8:67::/64", "10.67.4.0/24"), "b": ("10.67.2.0/24",)},
        )
        self.assertEqual(
            [line.partition(" aren")[0] for line in found.told],
            ["prefixes of nodes on several networks of layer 2", "prefixes of nodes on no network of layer 2"],
        )

    def test_what_cannot_be_read_is_named_with_network_and_field(self) -> None:
        for wrong, networks in {
            "network “a”, node: entry 1, ietf-network-topology:termination-point: entry 1": [
                network("a", {"outer-tag": "5000"})
            ],
            "vni-id: 0 is outside": [network("a", vxlan(0))],
            "network-id: “a” stands twice": [network("a"), network("a")],
            "network-id: is missing": [{"node": []}],
            "prefix: “10.0.0.1/24”": [prefixes("p", "10.0.0.1/24")],
            "node-id: “x” stands twice": [{"network-id": "a", "node": [{"node-id": "x"}, {"node-id": "x"}]}],
            "supporting-network: rests on itself: “a” → “b” → “a”": [
                network("a", upon=("b",)),
                network("b", upon=("a",)),
            ],
            "supporting-network: rests on itself: “c” → “c”": [network("c", upon=("c",))],
            "node: should hold a list": [{"network-id": "a", "node": {}}],
        }.items():
            with self.subTest(wrong):
                self.assertIn(wrong, refused(*networks))

    def test_documents_that_are_none(self) -> None:
        for data, wrong in {
            b"\xff": "isn't UTF-8",
            b"[": "isn't JSON",
            b"[]": "should hold an object",
            b"{}": "this is no topology of RFC 8345",
            b'{"ietf-network:network": []}': "of a draft before RFC 8345",
            b'{"ietf-network:networks": []}': "should be an object",
            b'{"a": ' + b"[" * 100_000 + b"]" * 100_000 + b"}": "nested",
            b'{"ietf-network:networks": {"network": [{"network-id": "\\u0000"}]}}': "NUL",
        }.items():
            with self.subTest(wrong), self.assertRaises(PlanError) as caught:
                read_topology(data, "harbour.json")
            self.assertIn(wrong, str(caught.exception.problems[0]))
            self.assertIn("harbour.json", str(caught.exception.problems[0]))

    def test_a_later_revision_is_read_as_far_as_it_was_known_and_an_earlier_one_refused(self) -> None:
        def wrapped(module: str) -> bytes:
            inner = json.loads(document_of([network("a", tag("300"))]))
            content = {"content-schema": {"module": [module]}, "content-data": inner}
            return json.dumps({"ietf-yang-instance-data:instance-data-set": content}).encode()

        for name, revision in REVISIONS.items():
            self.assertEqual(len(read_topology(wrapped(f"{name}@{revision}"), "x").told), 0)
            self.assertIn("is later than", read_topology(wrapped(f"{name}@2031-01-01"), "x").told[0])
            with self.assertRaises(PlanError) as caught:
                read_topology(wrapped(f"{name}@2015-06-05"), "x")
            self.assertIn("older than", str(caught.exception.problems[0]))

    def test_what_is_not_read_is_counted(self) -> None:
        made = network("a", tag("300"), tag("300"))
        for node in made["node"]:
            node["harbour:colour"] = "grey"
        self.assertEqual(said(made).told, ("harbour:colour of a node isn’t read (2 times)",))

    def test_a_hundred_thousand_networks_upon_each_other_are_gone_through(self) -> None:
        tall = [network(f"n{n}", upon=(f"n{n + 1}",)) for n in range(100_000)]
        self.assertEqual(len(said(*tall, prefixes("p", "10.67.0.0/24", upon=("n0",))).left), 100_000)
        self.assertIn("rests on itself", refused(*tall[:2_000], network("n2000", upon=("n0",))))

    def test_circles_are_found_as_by_a_search_of_graphs(self) -> None:
        dice = random.Random(4)
        for _ in range(300):
            count = dice.randint(1, 7)
            upon = {n: [m for m in range(count) if dice.random() < 0.22] for n in range(count)}
            networks = [network(f"n{n}", tag("300"), upon=tuple(f"n{m}" for m in of)) for n, of in upon.items()]
            graph = networkx.DiGraph([(n, m) for n, of in upon.items() for m in of])
            if networkx.is_directed_acyclic_graph(graph):
                self.assertEqual(len(said(*networks).networks), count)
            else:
                self.assertIn("rests on itself", refused(*networks))


def harbour(*networks: dict[str, Any], plan: Plan, read: str = "2026-11-28T09:00:00Z", **more: Any) -> Reading:
    """What a reading of the harbour office's topology makes of a plan."""
    known = next((s for s in plan.all(Source) if s.name == "harbour office"), None)
    source = replace(known, read=read) if known else new_source(plan, "harbour office", read=read)
    return taken(plan, source, said(*networks), **more)


def after(plan: Plan, edit: Edit) -> Plan:
    return apply_edit(plan, edit)[0]


def fates(reading: Reading) -> dict[str, str]:
    return {fate.network: fate.becomes for fate in reading.fates}


class TakingTest(unittest.TestCase):
    CAMERAS = network("cam", tag("300"), name="berth cameras")
    LOCKS = network("lock", vxlan(7001), name="lock sensors")

    def setUp(self) -> None:
        self.plan = pair().plan()

    def test_networks_become_segments_once_and_change_with_readings_alone(self) -> None:
        first = harbour(self.CAMERAS, self.LOCKS, network("odd"), plan=self.plan)
        self.assertEqual(fates(first), {"cam": NEW, "lock": NEW, "odd": LEFT})
        plan, back = apply_edit(self.plan, first.edit)
        cameras = next(s for s in plan.all(Segment) if s.origin == "cam")
        self.assertEqual(
            (cameras.name, cameras.vid, plan.get("source", cameras.source).name),
            ("berth cameras", 300, "harbour office"),
        )
        self.assertEqual(apply_edit(plan, back)[0], self.plan)
        self.assertEqual(read_plan(write_plan(plan)), plan)
        again = harbour(self.CAMERAS, self.LOCKS, plan=plan, read="2026-11-29T09:00:00Z")
        self.assertEqual((fates(again), again.edit), ({"cam": SAME, "lock": SAME}, ()))
        for changes in (
            {"vid": 301},
            {"name": "x"},
            {"subnets": ["10.67.0.0/24"]},
            {"vanished": True},
            {"origin": "other"},
        ):
            with self.assertRaises(PlanError) as caught:
                apply_edit(plan, (Patch("segment", cameras.id, changes),))
            self.assertIn("is what harbour office says", str(caught.exception.problems[0]))
            self.assertEqual(caught.exception.problems[0].field, next(iter(changes)))
        after(
            plan, (Patch("segment", cameras.id, {"role": "production", "gateways": ["10.67.0.1"], "note": "quay 4"}),)
        )
        owned = after(plan, (Patch("segment", cameras.id, {"source": None, "origin": ""}),))
        after(owned, (Patch("segment", cameras.id, {"vid": 301}),))

    def test_a_reading_brings_what_changed_and_keeps_what_people_said(self) -> None:
        plan = after(self.plan, harbour(self.CAMERAS, plan=self.plan).edit)
        cameras = next(s for s in plan.all(Segment) if s.origin == "cam")
        plan = after(plan, (Patch("segment", cameras.id, {"role": "production"}),))
        moved = network("cam", tag("310"), name="quay cameras")
        reading = harbour(moved, prefixes("p", "10.67.1.0/24", upon=("cam",)), plan=plan, read="2026-11-29T09:00:00Z")
        self.assertEqual(fates(reading), {"cam": CHANGED})
        now = after(plan, reading.edit).get("segment", cameras.id)
        self.assertEqual(
            (now.name, now.vid, now.subnets, now.role), ("quay cameras", 310, ("10.67.1.0/24",), "production")
        )

    def test_names_that_are_taken_get_a_number_and_keep_it(self) -> None:
        twice = (self.CAMERAS, network("cam2", tag("301"), name="berth cameras"))
        plan = after(self.plan, harbour(*twice, plan=self.plan).edit)
        self.assertEqual(sorted(s.name for s in plan.all(Segment) if s.source), ["berth cameras", "berth cameras-2"])
        self.assertEqual(harbour(*twice, plan=plan).edit, ())
        wide = harbour(network("w", tag("302"), name="W" * 400 + "\u0007"), plan=plan).fates[0]
        self.assertEqual(wide.name, "W" * 72)

    def test_what_vanishes_goes_where_nobody_uses_it_and_is_marked_where_somebody_does(self) -> None:
        plan = after(self.plan, harbour(self.CAMERAS, self.LOCKS, plan=self.plan).edit)
        cameras = next(s.id for s in plan.all(Segment) if s.origin == "cam")
        plan = after(plan, (Patch("adapter", "a1", {"belongs": cameras}),))
        reading = harbour(plan=plan, read="2026-11-29T09:00:00Z")
        self.assertEqual(fates(reading), {"cam": VANISHED, "lock": GONE})
        gone, back = apply_edit(plan, reading.edit)
        self.assertTrue(gone.get("segment", cameras).vanished)
        self.assertEqual(apply_edit(gone, back)[0], plan)
        self.assertEqual(harbour(plan=gone).edit, ())
        returned = harbour(self.CAMERAS, plan=gone)
        self.assertEqual(fates(returned), {"cam": BACK})
        self.assertFalse(after(gone, returned.edit).get("segment", cameras).vanished)

    def test_a_port_group_alone_or_a_rule_uses_a_network_too(self) -> None:
        plan = after(self.plan, harbour(self.CAMERAS, plan=self.plan).edit)
        group = next(iter(plan.all("port_group")))
        offered = after(plan, (Put(replace(group, id="offer", name="offer", mode="access", vid=300)),))
        self.assertEqual(harbour(plan=offered).fates[0].says, "1 port group offers it here")
        self.assertEqual(fates(harbour(plan=plan)), {"cam": GONE})

    def test_of_a_source_that_takes_the_chosen_new_ones_are_offered_until_somebody_picks_them(self) -> None:
        source = new_source(self.plan, "harbour office", takes="chosen")
        topology = said(self.CAMERAS, self.LOCKS)
        first = taken(self.plan, source, topology)
        self.assertEqual((fates(first), first.edit), ({"cam": OFFERED, "lock": OFFERED}, ()))
        plan = after(self.plan, taken(self.plan, source, topology, ["lock"]).edit)
        self.assertEqual(fates(harbour(self.CAMERAS, self.LOCKS, plan=plan)), {"cam": OFFERED, "lock": SAME})

    def test_records_that_do_not_fit(self) -> None:
        plan = after(self.plan, harbour(self.CAMERAS, plan=self.plan).edit)
        cameras = next(s for s in plan.all(Segment) if s.origin == "cam")
        (source,) = plan.all(Source)
        for edit, wrong in (
            ((Put(replace(cameras, id="twin", name="twin", vid=301)),), "“cam” is berth cameras already"),
            ((Put(Segment(id="s", name="s", origin="cam")),), "either both are said or neither is"),
            ((Put(Segment(id="s", name="s", vanished=True)),), "can have vanished from it"),
            ((Drop("source", source.id),), f"refers to “{source.id}”"),
        ):
            with self.assertRaises(PlanError) as caught:
                apply_edit(plan, edit)
            self.assertIn(wrong, "; ".join(map(str, caught.exception.problems)))


def as_from_nothing(case: unittest.TestCase, judgement: Judgement) -> None:
    """An edited judgement says what one from nothing says."""
    fresh = judge(judgement.plan)
    case.assertEqual(judgement.counts(), fresh.counts())
    case.assertEqual(sorted(f.id for f in everything(judgement)), sorted(f.id for f in everything(fresh)))


class VanishingTest(unittest.TestCase):
    def test_whoever_is_on_what_nobody_defines_any_longer_is_unproven_and_the_mend_makes_it_the_plans_own(self) -> None:
        plan = pair().plan()
        on10 = plan.get("adapter", "a1").belongs
        source = new_source(plan, "harbour office", read="2026-11-28T09:00:00Z")
        plan = after(plan, (Put(source), Patch("segment", on10, {"source": source.id, "origin": "ten"})))
        before = judge(plan)
        self.assertEqual(before.verdicts()["a1"], "home")
        judgement = judged_after(before, taken(plan, replace(source, read="later"), said()).edit)
        self.assertEqual(judgement.verdicts()["a1"], "unproven")
        as_from_nothing(self, judgement)
        finding = next(f for f in everything(judgement) if f.title == "s10 has vanished from harbour office")
        (mend,) = mends(judgement, finding)
        self.assertEqual(mend.title, "Make s10 the plan’s own")
        self.assertEqual(judged_after(judgement, mend.edit).verdicts()["a1"], "home")

    def test_the_checker_takes_nobody_as_home_there(self) -> None:
        plan = demo_plan()
        locks = next(segment for segment in plan.all(Segment) if segment.vanished)
        before = after(
            plan, (Patch("segment", locks.id, {"vanished": False}), Patch("source", locks.source or "", {"read": "x"}))
        )
        report = {**report_of(before), "plan": report_of(plan)["plan"]}
        found = recheck(plan, report)
        self.assertTrue(
            any("lock sensors: its source doesn't define it any longer" in line for line in found.failed), found.failed
        )

    def test_in_random_plans_those_at_home_on_it_and_nobody_else_become_unproven(self) -> None:
        moved = 0
        for seed in range(60):
            plan = random_plan(seed, rich=seed % 2 == 0, odd=seed % 3 == 0)
            segments = sorted(plan.of("segment"))
            if not segments:
                continue
            dice = random.Random(seed)
            chosen = dice.sample(segments, min(2, len(segments)))
            source = new_source(plan, "harbour office")
            plan = after(
                plan, (Put(source), *(Patch("segment", id, {"source": source.id, "origin": id}) for id in chosen))
            )
            before = judge(plan)
            edit = (
                Patch("source", source.id, {"read": "later"}),
                *(Patch("segment", id, {"vanished": True}) for id in chosen),
            )
            judgement = judged_after(before, edit)
            with self.subTest(seed):
                as_from_nothing(self, judgement)
                for place in all_places(before.wiring):
                    one, two = before.status_of(place), judgement.status_of(judgement.wiring.place(place.record))
                    gone = place.segment in chosen and one == 0 and place.stand.judged
                    self.assertEqual(two, 1 if gone else one, place.record)
                    moved += gone
        self.assertGreater(moved, 30)


def model() -> DataModel:
    """The published modules as a second reader has them; that of RFC 8944 doesn't come with any package."""
    folder = Path(sys.prefix) / "share/yang/modules/ietf"
    names = {
        "ietf-network": "2018-02-26",
        "ietf-network-topology": "2018-02-26",
        "ietf-l3-unicast-topology": "2018-02-26",
    }
    imported = {"ietf-inet-types": "2013-07-15", "ietf-yang-types": "2013-07-15", "ietf-routing-types": "2017-12-04"}
    modules = [
        {
            "name": name,
            "revision": revision,
            "namespace": f"urn:ietf:params:xml:ns:yang:{name}",
            "conformance-type": kind,
        }
        for of, kind in ((names, "implement"), (imported, "import"))
        for name, revision in of.items()
    ]
    return DataModel(
        json.dumps({"ietf-yang-library:modules-state": {"module-set-id": "x", "module": modules}}), (str(folder),)
    )


def bare(value: Any) -> Any:
    """A document without the members of RFC 8944."""
    if isinstance(value, dict):
        return {name: bare(inner) for name, inner in value.items() if not name.startswith(f"{LAYER2}:")}
    return [bare(inner) for inner in value] if isinstance(value, list) else value


class WritingTest(unittest.TestCase):
    def test_what_is_written_is_valid_by_the_published_modules(self) -> None:
        made = model()
        for plan in (demo_plan(), random_plan(3, rich=True)):
            document = bare(json.loads(topology_of(plan)[0]))
            made.from_raw(document).validate(ValidationScope.all, ContentType.config)

    def test_own_segments_come_back_as_they_were_where_something_carries_their_tag(self) -> None:
        seen = 0
        for seed in range(40):
            plan = random_plan(seed, rich=True)
            data, told = topology_of(plan)
            found = {n.id: n for n in read_topology(data, "x").networks}
            named = " ".join(told)
            for segment in plan.all(Segment):
                if f"{segment.name} is carried" in named or f"{segment.name} travels untagged" in named:
                    self.assertNotIn(segment.id, found)
                    continue
                one = found[segment.id]
                self.assertEqual(
                    (one.name, one.vid, one.vni, one.subnets), (segment.name, segment.vid, segment.vni, segment.subnets)
                )
                seen += 1
        self.assertGreater(seen, 60)

    def test_cables_are_links_each_way_between_points_that_are_there(self) -> None:
        plan = demo_plan()
        networks = json.loads(topology_of(plan)[0])["ietf-network:networks"]["network"]
        wiring = networks[0]
        self.assertEqual(len(wiring[f"{TOPOLOGY}:link"]), 2 * len(plan.of("cable")))
        for one in networks:
            points = {
                (node["node-id"], point["tp-id"])
                for node in one["node"]
                for point in node.get(f"{TOPOLOGY}:termination-point", [])
            }
            for link in one.get(f"{TOPOLOGY}:link", []):
                self.assertIn((link["source"]["source-node"], link["source"]["source-tp"]), points)
                self.assertIn((link["destination"]["dest-node"], link["destination"]["dest-tp"]), points)

    def test_what_a_source_defines_is_not_written_as_the_plans(self) -> None:
        plan = pair().plan()
        plan = after(plan, harbour(network("cam", tag("300")), plan=plan).edit)
        ids = [n["network-id"] for n in json.loads(topology_of(plan)[0])["ietf-network:networks"]["network"]]
        self.assertFalse([id for id in ids if "cam" in id])

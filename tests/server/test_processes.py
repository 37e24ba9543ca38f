"""Several server processes on one database, what the database itself refuses, and a cluster's life."""

from __future__ import annotations

import importlib
import json
import os
import signal
import subprocess
import tempfile
import time
import unittest
import uuid
from pathlib import Path
from unittest import mock

import psycopg
from aptwire.plan.file import read_plan
from aptwire.plan.kinds import Host, Nic
from aptwire.plan.plan import Plan

from measure import load
from ops import database, machine, serve
from tests.server import support
from tests.server.support import Client, DatabaseCase, Stream, drop, patch
from tests.support import random_plan


def connect() -> psycopg.Connection:
    """The database under the server."""
    return load.connect(os.environ)


class TwoProcessesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.second = serve.web_server(dict(os.environ), database.free_port())
        url = cls.second.__enter__()
        cls.addClassCleanup(cls.second.__exit__, None, None, None)
        cls.here = Client("ines")
        with mock.patch.object(support, "URL", url):
            cls.there = Client("tomas")
        cls.url = url

    def elsewhere(self, call: str, *arguments: object) -> tuple[int, dict]:
        """A request to the second process."""
        with mock.patch.object(support, "URL", self.url):
            return getattr(self.there, call)(*arguments)

    def test_each_process_catches_up_with_the_edits_of_the_other(self) -> None:
        plan = self.here.demo()
        self.assertEqual(self.elsewhere("get", f"plans/{plan}")[1]["revision"], 0)
        self.here.edit(plan, 0, patch("fabric_port", "quay-b/p2", allowed="110,120,210,220,230,240,300,410,420"))
        status, seen = self.elsewhere("get", f"plans/{plan}/verdicts")
        self.assertEqual((status, seen["counts"]["home"]), (200, 35))
        status, made = self.elsewhere("edit", plan, 1, patch("port_group", "petrel/guests0/tide-gauges", vid=230))
        self.assertEqual((status, made["revision"]), (200, 2))
        self.assertEqual(self.here.get(f"plans/{plan}/verdicts")[1]["counts"]["home"], 36)
        self.assertEqual(self.elsewhere("get", f"plans/{plan}/export")[1], self.here.get(f"plans/{plan}/export")[1])

    def test_a_conflict_is_seen_across_processes(self) -> None:
        plan = self.here.demo()
        self.here.edit(plan, 0, patch("segment", "segment-edge", role="rim"))
        status, said = self.elsewhere("edit", plan, 0, patch("segment", "segment-edge", role="brim"))
        self.assertEqual((status, said["changes"][0]["author"]), (409, "ines"))

    def test_an_event_crosses_processes(self) -> None:
        plan = self.here.demo()
        stream = Stream(self.there, plan, self.url)
        self.addCleanup(stream.close)
        stream.next("people")
        self.here.edit(plan, 0, patch("segment", "segment-edge", role="rim"))
        started = time.monotonic()
        self.assertEqual(stream.next("revision")["revision"], 1)
        # Sooner than the next heartbeat, with which nobody would be told anything.
        self.assertLess(time.monotonic() - started, 8)

    def test_a_process_that_starts_later_reads_the_tables(self) -> None:
        plan = self.here.demo()
        self.here.edit(plan, 0, drop("cable", "cable-petrel-nic2"), patch("segment", "segment-cctv", mtu=1400))
        with serve.web_server(dict(os.environ), database.free_port()) as url, mock.patch.object(support, "URL", url):
            fresh = Client("ines")
            exported = fresh.get(f"plans/{plan}/export")[1]
            revision = fresh.get(f"plans/{plan}")[1]["revision"]
        self.assertEqual(exported, self.here.get(f"plans/{plan}/export")[1])
        self.assertEqual(revision, 1)


class TablesTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()
        cls.plan = cls.client.demo()

    def refused(self, statement: str, *values: object) -> str:
        """What the database says to a statement, which is never kept."""
        with connect() as connection:
            try:
                connection.execute(statement, values)
                connection.execute("SET CONSTRAINTS ALL IMMEDIATE")
            except psycopg.errors.IntegrityError as error:
                connection.rollback()
                return str(error.diag.constraint_name)
            connection.rollback()
        return ""

    def test_the_database_refuses_what_the_checks_would(self) -> None:
        mine = "plan_id = %s AND rid = %s"
        plan = self.plan
        cases = [
            ("UPDATE record_segment SET vid = 4095 WHERE " + mine, "segment-edge", "segment_vid_range"),
            ("UPDATE record_segment SET name = 'CCTV' WHERE " + mine, "segment-edge", "segment_name_unique"),
            ("UPDATE record_nic SET role = 'spare' WHERE " + mine, "gannet/nic0", "nic_role_choice"),
            ("UPDATE record_nic SET mtu = 50 WHERE " + mine, "gannet/nic0", "nic_mtu_range"),
            ("UPDATE record_cable SET a_nic_id = NULL WHERE " + mine, "cable-gannet-nic0", "cable_a_one"),
        ]
        for statement, rid, constraint in cases:
            with self.subTest(constraint):
                self.assertEqual(self.refused(statement, plan, rid), constraint)
        self.assertIn("fk", self.refused("DELETE FROM record_host WHERE " + mine, plan, "gannet"))
        self.assertIn("fk", self.refused("UPDATE record_nic SET host_id = %s WHERE plan_id = %s", uuid.uuid4(), plan))

    def test_rows_hold_real_columns_and_keys(self) -> None:
        with connect() as connection:
            row = connection.execute(
                "SELECT g.vid, s.name, h.name FROM record_port_group g JOIN record_virtual_switch s ON s.key = g.switch_id "
                "JOIN record_host h ON h.key = s.host_id WHERE g.plan_id = %s AND g.rid = %s",
                (self.plan, "petrel/guests0/tide-gauges"),
            ).fetchone()
        self.assertEqual(row, (203, "guests0", "petrel"))

    def test_two_plans_with_the_same_ids_stay_apart(self) -> None:
        other = self.client.demo()
        self.client.edit(other, 0, patch("segment", "segment-edge", name="rim"))
        name = {r["id"]: r["name"] for r in self.client.whole(self.plan)["records"]["segment"]}
        self.assertEqual(name["segment-edge"], "edge")

    def test_revisions_are_kept_whole_with_their_inverse(self) -> None:
        plan = self.client.demo()
        self.client.edit(plan, 0, patch("segment", "segment-edge", vid=301))
        with connect() as connection:
            row = connection.execute("SELECT edit, inverse, how FROM revision WHERE plan_id = %s", (plan,)).fetchone()
        self.assertEqual(
            row, ([patch("segment", "segment-edge", vid=301)], [patch("segment", "segment-edge", vid=300)], "edit")
        )

    def test_a_refused_edit_leaves_no_row_behind(self) -> None:
        plan = self.client.demo()
        put = {"op": "put", "kind": "guest", "record": {"id": "g-new", "host": "gannet", "name": "pilot"}}
        self.assertEqual(self.client.edit(plan, 0, put, patch("segment", "segment-edge", vid=0))[0], 400)
        with connect() as connection:
            found = connection.execute(
                "SELECT count(*) FROM record_guest WHERE plan_id = %s AND rid = 'g-new'", (plan,)
            ).fetchone()
        self.assertEqual(found, (0,))

    def test_random_plans_go_through_the_tables_unchanged_by_edit_and_undo(self) -> None:
        from aptwire.plan.file import write_plan

        for seed in (11, 12, 13):
            source = random_plan(seed, rich=True)
            _, made = self.client.upload("plans/import", [], [("file", "p.json", write_plan(source))])
            edit = [drop("cable", id) for id in source.of("cable")] + [patch("segment", "seg-10", name="ten")]
            self.assertEqual(self.client.edit(made["id"], 0, *edit)[0], 200)
            self.assertNotIn("cable", self.client.whole(made["id"])["records"])
            self.assertEqual(self.client.post(f"plans/{made['id']}/undo")[0], 200)
            self.assertEqual(self.client.get(f"plans/{made['id']}/export")[1], json.loads(write_plan(source)))


class MendedIdsTest(DatabaseCase):
    """Plans of before, whose ids were made of folder names as they were, are mended by a migration."""

    def test_ids_that_fit_nowhere_are_replaced_in_tables_and_revisions(self) -> None:
        from aptwire.plan.edits import Drop, Patch
        from aptwire_server.plans.commits import commit, create_plan
        from django.apps import apps
        from django.contrib.auth.models import User

        hosts = {id: Host(id=id, name=id.strip()) for id in ("my host", "_web1", "größe", "fine")}
        nics = {f"{id}/nic0": Nic(id=f"{id}/nic0", host=id, name="nic0") for id in hosts}
        row = create_plan(Plan("as it was", {"host": hosts, "nic": nics}), User.objects.get(username="ines"))
        author = row.author
        commit(row.id, author, (Patch("nic", "größe/nic0", {"mtu": 9000}),), 0, "jumbo")
        commit(row.id, author, (Drop("nic", "_web1/nic0"),), 1, "out with it")
        importlib.import_module("aptwire_server.plans.migrations.0009_ids_that_fit").mend(apps, None)
        # The server hasn't looked at this plan yet, as it hasn't after a migration.
        client = Client("ines")
        raw = client.exported(str(row.id))
        plan = read_plan(raw)
        self.assertEqual({h.name for h in plan.all("host")}, {"my host", "_web1", "größe", "fine"})
        self.assertEqual({n.mtu for n in plan.all("nic")}, {None, 9000})
        self.assertEqual(client.upload("plans/import", [], [("file", "p.json", raw)])[0], 201)
        for _ in range(2):
            self.assertEqual(client.post(f"plans/{row.id}/undo")[0], 200)
        plan = read_plan(client.exported(str(row.id)))
        self.assertEqual({n.mtu for n in plan.all("nic")}, {None})
        self.assertEqual(len(plan.of("nic")), 4)


class ClusterTest(unittest.TestCase):
    def cluster(self) -> database.Cluster:
        folder = Path(tempfile.mkdtemp(prefix="aptwire-cluster-"))
        self.addCleanup(subprocess.run, ["rm", "-rf", str(folder)])
        cluster = database.Cluster(folder, lasting=False)
        self.addCleanup(cluster.stop)
        return cluster

    def said(self, cluster: database.Cluster) -> list[str]:
        """Start the cluster; what the person is told."""
        with mock.patch.object(database, "say") as say:
            cluster.start()
        return [call.args[0] for call in say.call_args_list]

    def query(self, cluster: database.Cluster, statement: str) -> object:
        with load.connect(cluster.environment()) as connection:
            row = connection.execute(statement).fetchone()
            return row[0] if row else None

    def test_a_cluster_starts_stops_and_starts_again_with_its_data(self) -> None:
        cluster = self.cluster()
        self.assertEqual(self.said(cluster), [])
        cluster.create()
        cluster.create()
        self.assertNotEqual(self.query(cluster, "SHOW data_directory"), "/var/lib/postgresql/15/main")
        self.assertEqual(self.query(cluster, "SHOW listen_addresses"), "127.0.0.1")
        owner = (cluster.folder / "data").stat().st_uid
        self.assertNotEqual(owner, 0, "the server never runs as root")
        with self.assertRaises(psycopg.OperationalError):
            psycopg.connect(host="127.0.0.1", port=cluster.port, dbname="aptwire", user="aptwire", password="guess")
        cluster.stop()
        again = database.Cluster(cluster.folder, lasting=False)
        self.addCleanup(again.stop)
        self.assertEqual(self.said(again), [])
        self.assertEqual(again.password, cluster.password)
        self.assertEqual(self.query(again, "SELECT 1"), 1)

    def test_a_server_left_behind_is_stopped_and_said(self) -> None:
        cluster = self.cluster()
        self.said(cluster)
        cluster.create()
        again = database.Cluster(cluster.folder, lasting=False)
        self.addCleanup(again.stop)
        self.assertEqual(self.said(again), ["a database server of an earlier run is still there: stopping it"])
        self.assertEqual(self.query(again, "SELECT 1"), 1)

    def test_a_killed_server_recovers_and_it_is_said(self) -> None:
        cluster = self.cluster()
        self.said(cluster)
        cluster.create()
        pid = int((cluster.folder / "data" / "postmaster.pid").read_text().splitlines()[0])
        os.kill(pid, signal.SIGKILL)
        assert cluster.process is not None
        cluster.process.wait(10)
        time.sleep(0.5)
        again = database.Cluster(cluster.folder, lasting=False)
        self.addCleanup(again.stop)
        self.assertEqual(self.said(again), ["an earlier run was killed: the database recovers by itself"])
        self.assertEqual(self.query(again, "SELECT 1"), 1)

    def test_a_half_made_folder_is_made_anew(self) -> None:
        cluster = self.cluster()
        (cluster.folder / "data").mkdir(parents=True)
        (cluster.folder / "data" / "PG_VERSION").write_text("15\n")
        self.assertEqual(self.said(cluster), ["the database folder is half-finished: making it anew"])


class SetUpTest(unittest.TestCase):
    def test_a_taken_port_is_passed_over_and_said(self) -> None:
        port = database.free_port()
        self.assertEqual(serve.choose_port(port), port)
        import socket

        with socket.socket() as taken, mock.patch.object(serve, "say") as say:
            taken.bind(("127.0.0.1", port))
            taken.listen()
            other = serve.choose_port(port)
        self.assertNotEqual(other, port)
        self.assertEqual(say.call_args.args[0], f"port {port} is taken: using {other}")

    def test_a_step_is_done_once_for_the_same_input_and_again_when_it_was_cut_short(self) -> None:
        done: list[str] = []
        with tempfile.TemporaryDirectory() as folder, mock.patch.object(machine, "DATA", Path(folder)):
            machine.once("step", "v1", True, lambda: done.append("first"))
            machine.once("step", "v1", True, lambda: done.append("not again"))
            machine.once("step", "v1", False, lambda: done.append("its result is gone"))
            machine.once("step", "v2", True, lambda: done.append("other input"))

            def cut() -> None:
                raise machine.SetupError("cut")

            with self.assertRaises(machine.SetupError):
                machine.once("step", "v3", True, cut)
            machine.once("step", "v2", True, lambda: done.append("after a failure"))
        self.assertEqual(done, ["first", "its result is gone", "other input", "after a failure"])

    def test_a_failed_command_shows_what_it_printed(self) -> None:
        with self.assertRaisesRegex(machine.SetupError, "making tea failed:\nno kettle"):
            machine.command(["sh", "-c", "echo no kettle; exit 3"], "making tea")

    def test_what_is_missing_and_cannot_be_installed_is_said(self) -> None:
        with (
            mock.patch.object(os, "geteuid", return_value=1000),
            self.assertRaisesRegex(machine.SetupError, "only root.*lantern"),
        ):
            machine.debian({"lantern": lambda: False})
        machine.debian({"lantern": lambda: True})

    def test_the_runner_counts_what_ran(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            root = Path(folder) / "tests"
            root.mkdir()
            for name in ("__init__.py", "test_it.py"):
                (root / name).write_text("")
            (root / "test_it.py").write_text(
                "import unittest\n"
                "class T(unittest.TestCase):\n"
                "    def test_good(self): pass\n"
                "    def test_bad(self): self.fail('x')\n"
                "    @unittest.skip('later')\n"
                "    def test_skipped(self): pass\n"
                "class S(unittest.TestCase):\n"
                "    @classmethod\n"
                "    def setUpClass(cls): raise RuntimeError('no')\n"
                "    def test_never(self): pass\n"
            )
            counts = Path(folder) / "counts.json"
            runner = (Path(machine.ROOT) / "tests" / "runner.py").read_text()
            (root / "runner.py").write_text(runner)
            done = subprocess.run(
                [str(machine.PYTHON), "-m", "tests.runner", "tests", str(counts)],
                cwd=folder,
                capture_output=True,
                env={"PATH": "/usr/bin"},
            )
            self.assertEqual(done.returncode, 1)
            self.assertEqual(json.loads(counts.read_text()), {"passed": 1, "failed": 2})


if __name__ == "__main__":
    unittest.main()

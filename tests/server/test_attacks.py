"""What an enemy sends: bodies without bound, texts that nothing can keep, guesses without end.  All of it is refused, by name."""

from __future__ import annotations

import http.client
import json
import os
import unittest
import urllib.parse
from typing import Any

import hypothesis
from hypothesis import given
from hypothesis import strategies as st

from ops.machine import WEB
from tests.server.support import URL, Client, DatabaseCase, Stream, drop, password, patch
from tests.support import two_hosts_files

DEEP = b"[" * 5_000
NUL, HALF = "a\0b", '{"name": "a\\ud800b"}'


def declared(path: str, size: int, cookies: str = "", token: str = "", sent: bytes = b"") -> tuple[int, Any]:
    """The answer to a request that says how large its body is and sends only the beginning."""
    address = urllib.parse.urlsplit(URL)
    connection = http.client.HTTPConnection(address.hostname or "", address.port, timeout=20)
    connection.putrequest("POST", f"/api/{path}")
    for name, value in (
        ("Content-Length", str(size)),
        ("Content-Type", "application/json"),
        ("Cookie", cookies),
        ("X-CSRFToken", token),
    ):
        connection.putheader(name, value)
    connection.endheaders(sent)
    response = connection.getresponse()
    status, raw = response.status, response.read()
    connection.close()
    return status, json.loads(raw)


def chunked(path: str, piece: bytes, most: int) -> tuple[int, int]:
    """The status of a request whose body never says how large it is, and how many bytes it took until it was refused."""
    address = urllib.parse.urlsplit(URL)
    connection = http.client.HTTPConnection(address.hostname or "", address.port, timeout=20)
    connection.putrequest("POST", f"/api/{path}")
    connection.putheader("Transfer-Encoding", "chunked")
    connection.endheaders()
    sent = 0
    try:
        while sent < most:
            connection.send(b"%x\r\n%b\r\n" % (len(piece), piece))
            sent += len(piece)
    except (BrokenPipeError, ConnectionResetError):
        pass
    try:
        return connection.getresponse().status, sent
    except ConnectionResetError:
        return 0, sent
    finally:
        connection.close()


class BodiesTest(unittest.TestCase):
    def test_a_body_that_says_that_it_is_too_large_is_refused_unread(self) -> None:
        plan = Client().demo()
        for path, limit in (
            ("session", "4 KB"),
            ("plans", "64 KB"),
            ("nothing", "64 KB"),
            ("plans/import", "64 MB"),
            ("plans/read", "256 MB"),
            (f"plans/{plan}/edits", "16 MB"),
        ):
            status, said = declared(path, 10**12)
            self.assertEqual((status, said), (413, {"detail": f"This is too large: {limit} is the most here."}), path)

    def test_a_body_that_does_not_say_is_refused_as_soon_as_it_is_too_large(self) -> None:
        status, sent = chunked("session", b"x" * 4096, 50_000_000)
        self.assertIn(status, (413, 0))
        # What the sockets between hold is sent in vain.
        self.assertLess(sent, 10_000_000)

    def test_nobody_is_read_at_length_before_login(self) -> None:
        status, said = declared("plans/import", 30_000_000, sent=b"x" * 200_000)
        self.assertEqual((status, said), (403, {"detail": "Log in first."}))
        person = Client()
        cookies = "; ".join(f"{c.name}={c.value}" for c in person.cookies)
        status, _ = declared("plans", 60_000, cookies, person.token(), b"[" * 60_000)
        self.assertEqual(status, 400, "who is logged in is read")


class TextsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()
        cls.plan = cls.client.demo()

    def raw(self, path: str, body: bytes, kind: str = "application/json") -> tuple[int, Any]:
        return self.client.request("POST", path, body, Content_Type=kind)

    def test_what_no_database_can_hold_is_refused_with_its_place(self) -> None:
        for body, field in (
            (json.dumps({"name": NUL}).encode(), "name"),
            (HALF.encode(), "name"),
            (b'{"na\\u0000me": "x"}', ""),
            (json.dumps({"name": "tab\there"}).encode(), "name"),
        ):
            status, said = self.raw("plans", body)
            self.assertEqual((status, said["problems"][0]["field"]), (400, field), body)
        edit = [patch("segment", "segment-edge", role=NUL)]
        status, said = self.client.edit(self.plan, 0, *edit)
        self.assertEqual((status, said["problems"][0]["field"]), (400, "edit/0/set/role"))
        for body in (b"\xff", b"{", DEEP, b'{"a":' * 3_000, b"[NaN]", b"1" * 5_000, b'{"name": 1e999}'):
            self.assertEqual(self.raw("plans", body)[0], 400, body[:20])

    def test_queries_are_looked_at_too(self) -> None:
        for query in (
            "changes?since=%C2%B2",
            "changes?since=-1",
            "revisions?since=%00",
            "export?from=1e3",
            "page?after=adapter:%C2%B2",
        ):
            self.assertEqual(self.client.get(f"plans/{self.plan}/{query}")[0], 400, query)
        for query in ("trace?a=%00&b=x", "strand?segment=%00", "bench/99999999999/cancel", "bench/1/difference/0"):
            self.assertIn(self.client.get(f"plans/{self.plan}/{query}")[0], (400, 404, 405), query)

    def test_edits_of_any_shape_are_answered(self) -> None:
        for operation in (
            {"op": []},
            {"op": {}},
            {"op": "put", "kind": [], "record": {}},
            {"op": "patch", "kind": "segment", "id": [], "set": {}},
            [],
            None,
            7,
        ):
            status, said = self.client.edit(self.plan, 0, operation)  # type: ignore[arg-type]
            self.assertEqual((status, said["problems"][0]["place"]), (400, "operation 1"), operation)
        for base in (-1, 10**30):
            self.assertIn(self.client.edit(self.plan, base, patch("segment", "segment-edge", role="x"))[0], (400, 409))

    def test_a_body_of_another_type_is_refused(self) -> None:
        for path, kind in (
            ("plans/read", "application/json"),
            ("plans/import", "text/plain"),
            ("plans", "multipart/form-data; boundary=x"),
        ):
            self.assertEqual(self.raw(path, b"{}", kind)[0], 415, path)
        self.assertEqual(self.raw("plans/read", b"no form", "multipart/form-data")[0], 400)
        self.assertEqual(self.client.request("POST", "plans/read")[0], 400)
        self.assertEqual(
            self.client.upload("plans/read", [("path", "a/ip-link.json")], [("file", "x", b"[]"), ("name", "n", b"")])[
                0
            ],
            400,
        )

    def test_a_folder_name_of_any_length_is_read_or_refused_by_name(self) -> None:
        files = {path: raw for path, raw in two_hosts_files().items() if path.startswith("gannet/")}
        for name, status in (("x" * 5_000, 201), ("ü" * 5_000, 201), ("x\0y", 400)):
            fields = [("save", "yes"), *(("path", path.replace("gannet", name, 1)) for path in files)]
            found, said = self.client.upload("plans/read", fields, [("file", "f", raw) for raw in files.values()])
            self.assertEqual(found, status, said)

    def test_an_id_never_ends_in_a_newline(self) -> None:
        put = {"op": "put", "kind": "segment", "record": {"id": "edge-2\n", "name": "edge 2"}}
        status, said = self.client.edit(self.plan, 0, put)
        self.assertEqual((status, said["problems"][0]["field"]), (400, "id"))
        status, said = self.client.edit(self.plan, 0, patch("guest_tag", "nothing\n", belongs="segment-edge\n"))
        self.assertEqual(status, 400)

    def test_methods_that_are_not_there_are_refused_as_json(self) -> None:
        for method, path in (("DELETE", "plans"), ("PUT", f"plans/{self.plan}"), ("POST", f"plans/{self.plan}/events")):
            status, said = self.client.request(method, path)
            self.assertEqual((status, list(said)), (405, ["detail"]), path)


class NamesTest(unittest.TestCase):
    """Folders of hosts may be called anything: what is read of them can be exported, imported, edited and undone."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.client = Client()
        cls.files = {path: raw for path, raw in two_hosts_files().items() if not path.startswith("rack-b")}

    @hypothesis.settings(max_examples=12, deadline=None, derandomize=True)
    @given(st.text(st.characters(exclude_characters="/\\", exclude_categories=["Cs", "Cc"]), min_size=1, max_size=40))
    @hypothesis.example("my host")
    @hypothesis.example("_web1")
    @hypothesis.example("größe")
    @hypothesis.example("-")
    def test_read_export_import_edit_undo(self, name: str) -> None:
        renamed = {
            path.replace("gannet", name, 1) if path.startswith("gannet/") else path: raw
            for path, raw in self.files.items()
        }
        fields = [("save", "yes"), *(("path", path) for path in renamed)]
        status, made = self.client.upload("plans/read", fields, [("file", "f", raw) for raw in renamed.values()])
        if name in (".", "..") or not name.strip():
            self.assertEqual(status, 400)
            return
        self.assertEqual(status, 201, made)
        plan = made["plan"]["id"]
        exported = self.client.exported(plan)
        hosts = self.client.whole(plan)["records"]["host"]
        self.assertIn(name.strip(), [h["name"] for h in hosts])
        status, again = self.client.upload("plans/import", [], [("file", "p.json", exported)])
        self.assertEqual(status, 201, again)
        self.assertEqual(self.client.exported(again["id"]), exported)
        cable = self.client.whole(plan)["records"]["cable"][0]["id"]
        self.assertEqual(self.client.edit(plan, 0, drop("cable", cable))[0], 200)
        self.assertEqual(self.client.post(f"plans/{plan}/undo")[0], 200)
        self.assertEqual(self.client.exported(plan), exported)


class GuessesTest(DatabaseCase):
    def guess(self, name: str, word: str, forwarded: str) -> int:
        body = json.dumps({"username": name, "password": word}).encode()
        stranger = Client(user=None)
        return stranger.request("POST", "session", body, Content_Type="application/json", X_Forwarded_For=forwarded)[0]

    def test_an_account_is_guessed_at_ten_times_whatever_a_header_says(self) -> None:
        said = [self.guess("nobody-of-that-name", "x", f"10.0.0.{n}") for n in range(12)]
        self.assertEqual(said, [400] * 10 + [429] * 2)
        # Others aren't kept out by that.
        Client("ines")

    def test_the_counts_are_of_all_processes_and_the_right_password_leaves_none(self) -> None:
        from aptwire_server.plans.models import Guess

        before = Guess.objects.filter(account="tomas").count()
        self.assertEqual(self.guess("tomas", "x", ""), 400)
        self.assertEqual(self.guess("tomas", password("tomas"), ""), 200)
        self.assertEqual(Guess.objects.filter(account="tomas").count(), before + 1)

    def test_only_named_proxies_are_believed(self) -> None:
        import ipaddress

        from aptwire_server.plans.throttle import address_of
        from django.http import HttpRequest
        from django.test import override_settings

        def seen(peer: str, forwarded: str) -> str:
            request = HttpRequest()
            request.META.update(REMOTE_ADDR=peer, HTTP_X_FORWARDED_FOR=forwarded)
            return address_of(request)

        self.assertEqual(seen("192.0.2.7", "198.51.100.1"), "192.0.2.7")
        with override_settings(PROXIES=[ipaddress.ip_network("192.0.2.0/24")]):
            self.assertEqual(seen("192.0.2.7", "203.0.113.9, 198.51.100.1"), "198.51.100.1")
            self.assertEqual(seen("192.0.2.7", "198.51.100.1, 192.0.2.8"), "198.51.100.1")
            self.assertEqual(seen("203.0.113.5", "198.51.100.1"), "203.0.113.5")
        self.assertEqual(seen("2001:db8:1:2:3::4", ""), seen("2001:db8:1:2::9", ""))


class StreamsTest(DatabaseCase):
    def test_forty_open_pages_leave_everybody_else_alone(self) -> None:
        writer = Client("ines")
        plan = writer.demo()
        streams = [Stream(writer, plan) for _ in range(40)]
        for stream in streams:
            self.addCleanup(stream.close)
            self.assertEqual(stream.next("revision"), {"revision": 0})
        self.assertEqual(writer.edit(plan, 0, patch("segment", "segment-edge", role="rim"))[0], 200)
        self.assertEqual({stream.next("revision")["revision"] for stream in streams}, {1})
        from django.db import connection

        with connection.cursor() as cursor:
            cursor.execute("SELECT count(*) FROM pg_stat_activity WHERE datname = current_database()")
            (count,) = cursor.fetchone()
        self.assertLess(count, 30)

    def test_a_stream_ends_with_its_session(self) -> None:
        person, other = Client("ines"), Client("tomas")
        plan = other.demo()
        stream, stays = Stream(person, plan), Stream(other, plan)
        for opened in (stream, stays):
            self.addCleanup(opened.close)
            opened.next("revision")
        person.request("DELETE", "session")
        with self.assertRaises(EOFError):
            while True:
                stream.next("people")
        stays.until("people", ["tomas"])


class HeadersTest(unittest.TestCase):
    def head(self, path: str) -> http.client.HTTPMessage:
        address = urllib.parse.urlsplit(URL)
        connection = http.client.HTTPConnection(address.hostname or "", address.port, timeout=20)
        connection.request("GET", path)
        response = connection.getresponse()
        response.read()
        connection.close()
        return response.headers

    def test_the_page_runs_no_script_but_its_own_and_answers_are_not_kept(self) -> None:
        policy = self.head("/plans")["Content-Security-Policy"]
        self.assertIn("script-src 'self';", policy)
        self.assertNotIn("unsafe-eval", policy)
        self.assertIn("frame-ancestors 'none'", policy)
        self.assertEqual(self.head("/api/session")["Cache-Control"], "no-store")
        self.assertIsNone(self.head("/api/session")["Server"])

    @unittest.skipUnless((WEB / "dist" / "index.html").is_file(), "the front end isn't built")
    def test_files_whose_names_change_with_their_content_are_kept_for_good(self) -> None:
        for file in sorted((WEB / "dist" / "assets").glob("index-*"))[:2]:
            kept = self.head(f"/assets/{file.name}")["Cache-Control"]
            self.assertRegex(kept, "max-age=31[0-9]{7}.*immutable")
        self.assertIn("no-store", self.head("/plans")["Cache-Control"])


if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aptwire_server.settings")
    unittest.main()

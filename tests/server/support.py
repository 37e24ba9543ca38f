"""A person's browser without the page: cookies, CSRF token and JSON over HTTP, against the running server."""

from __future__ import annotations

import http.client
import http.cookiejar
import json
import os
import re
import unittest
import urllib.error
import urllib.parse
import urllib.request
import uuid
from functools import cache
from typing import Any

import django
import jsonschema_rs

from ops import serve
from ops.machine import DATA
from tests.support import ROOT

URL = os.environ.get("APTWIRE_TEST_URL", "")


def password(name: str) -> str:
    """The password that the demo made for somebody."""
    return serve.password(os.environ, name)


@cache
def document() -> dict[str, Any]:
    """What the API says of itself."""
    found: dict[str, Any] = json.loads((DATA / "openapi.json").read_text())
    return found


@cache
def _addresses() -> list[tuple[re.Pattern[str], str]]:
    paths = sorted(document()["paths"], key=lambda path: path.count("{"))
    return [(re.compile(re.sub(r"\\{[^}]*\\}", "[^/]+", re.escape(path)) + "$"), path) for path in paths]


@cache
def _validator(path: str, method: str, status: int, media: str) -> Any:
    """The schema of an answer, None where it isn't JSON; AssertionError where the document doesn't know of it."""
    known = document()["paths"][path][method]["responses"]
    assert str(status) in known, f"{method} {path} isn't said to answer {status}, only {sorted(known)}"
    content = known[str(status)].get("content", {})
    if status == 204 and not content:
        return None
    assert media in content, f"{method} {path} isn't said to answer {status} with {media}, only {sorted(content)}"
    if media != "application/json":
        return None
    return jsonschema_rs.Draft202012Validator({**content[media]["schema"], "components": document()["components"]})


def as_documented(method: str, address: str, status: int, media: str, value: Any) -> None:
    """AssertionError where an answer isn't what the document says of its address."""
    path = next((path for pattern, path in _addresses() if pattern.match(address)), None)
    if path is None or method.lower() not in document()["paths"][path]:
        assert status in (403, 404, 405) or address == "/api/schema", f"{method} {address}: {status}"
        return
    validator = _validator(path, method.lower(), status, media)
    if validator is not None:
        wrong = next(validator.iter_errors(value), None)
        assert wrong is None, f"{method} {path} answered {status} otherwise than documented: {wrong}"


def _component(name: str) -> Any:
    return jsonschema_rs.Draft202012Validator(
        {**document()["components"]["schemas"][name], "components": document()["components"]}
    )


def unfolded(rows: Any) -> list[dict[str, Any]]:
    """Items out of the columns of a page."""
    made: list[dict[str, Any]] = [{} for _ in range(rows["count"])]
    for name, column in rows["fields"].items():
        values = column if isinstance(column, list) else [column["values"][n] for n in column["at"]]
        assert len(values) == len(made), name
        for item, value in zip(made, values, strict=True):
            if value is not None:
                item[name] = value
    return made


UNSAID = ("belongs", "lands_vid", "lands")
"""What a tag says although it says nothing."""


def unfolded_endpoints(rows: Any) -> list[dict[str, Any]]:
    """Endpoints out of the columns of a page."""
    made, landed = unfolded(rows), unfolded(rows["landed"])
    for item in made:
        item["key"] = f"{item['host']}/{item.pop('own')}"
        item["tags"] = [
            {"record": record or item["id"], "addresses": addresses, **dict.fromkeys(UNSAID), **landed[n]}
            for record, addresses, n in item["tags"]
        ]
    return made


def _following(response: Any) -> str:
    """The address of the part after an answer's; empty where there is none."""
    link = re.match(r'<(.*)>; rel="next"', response.headers["Link"] or "")
    return URL + link[1] if link else ""


class Client:
    """Requests of one session."""

    def __init__(self, user: str | None = "ines") -> None:
        if not URL:
            raise RuntimeError("these tests need the server that ./run test starts")
        self.cookies = http.cookiejar.CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        self.get("session")
        if user:
            status, _ = self.post("session", {"username": user, "password": password(user)})
            assert status == 200, status

    def token(self) -> str:
        return next((c.value or "" for c in self.cookies if c.name == "csrftoken"), "")

    def request(self, method: str, path: str, body: bytes | None = None, **headers: str) -> tuple[int, Any]:
        request = urllib.request.Request(f"{URL}/api/{path}", data=body, method=method)
        for name, said in {"X-CSRFToken": self.token(), **headers}.items():
            request.add_header(name.replace("_", "-"), said)
        try:
            with self.opener.open(request, timeout=300) as response:
                status, raw, media = response.status, response.read(), response.headers.get_content_type()
        except urllib.error.HTTPError as error:
            status, raw, media = error.code, error.read(), error.headers.get_content_type()
        # A part of a large plan file isn't JSON by itself.
        value = raw if media != "application/json" else json.loads(raw) if raw else None
        as_documented(method, urllib.parse.urlsplit(f"/api/{path}").path, status, media, value)
        return status, value

    def get(self, path: str) -> tuple[int, Any]:
        return self.request("GET", path)

    def post(self, path: str, data: Any = None) -> tuple[int, Any]:
        return self.request("POST", path, json.dumps(data).encode(), Content_Type="application/json")

    def put(self, path: str, data: Any) -> tuple[int, Any]:
        return self.request("PUT", path, json.dumps(data).encode(), Content_Type="application/json")

    def upload(self, path: str, fields: list[tuple[str, str]], files: list[tuple[str, str, bytes]]) -> tuple[int, Any]:
        mark = uuid.uuid4().hex
        parts = [f'--{mark}\r\nContent-Disposition: form-data; name="{n}"\r\n\r\n{v}\r\n'.encode() for n, v in fields]
        for name, filename, raw in files:
            head = f'--{mark}\r\nContent-Disposition: form-data; name="{name}"; filename="{filename}"\r\n\r\n'
            parts.append(head.encode() + raw + b"\r\n")
        body = b"".join(parts) + f"--{mark}--\r\n".encode()
        return self.request("POST", path, body, Content_Type=f"multipart/form-data; boundary={mark}")

    def demo(self) -> str:
        """A fresh copy of the demo plan; its id."""
        status, made = self.upload(
            "plans/import", [], [("file", "b.json", (ROOT / "demo" / "brackwater.json").read_bytes())]
        )
        assert status == 201, made
        return str(made["id"])

    def whole(self, plan: str, at: int | None = None) -> dict[str, Any]:
        """All pages of a plan, as it is or was at a revision: records by kind, endpoints by id, and the size of the largest page."""
        made: dict[str, Any] = {"records": {}, "endpoints": {}, "largest": 0, "pages": 0}
        address = f"{URL}/api/plans/{plan}/page" + ("" if at is None else f"?at={at}")
        while address:
            with self.opener.open(address, timeout=300) as response:
                text, link = response.read(), _following(response)
            page = json.loads(text)
            as_documented("GET", urllib.parse.urlsplit(address).path, 200, "application/json", page)
            for kind, found in page["records"].items():
                made["records"].setdefault(kind, []).extend(record for rows in found for record in unfolded(rows))
            made["endpoints"].update({e["id"]: e for rows in page["endpoints"] for e in unfolded_endpoints(rows)})
            made["largest"] = max(made["largest"], len(text))
            made["pages"] += 1
            address = link
        return made

    def exported(self, plan: str, at: int | None = None) -> bytes:
        """The plan file, as it is or was at a revision, put together from its parts, none of them large."""
        parts, address = [], f"{URL}/api/plans/{plan}/export" + ("" if at is None else f"?at={at}")
        while address:
            with self.opener.open(address, timeout=300) as response:
                parts.append(response.read())
                address = _following(response)
            assert len(parts[-1]) < 1_000_000, len(parts[-1])
        return b"".join(parts)

    def file(self, path: str) -> tuple[Any, bytes]:
        """The headers and the bytes of what is to be saved."""
        with self.opener.open(f"{URL}/api/{path}", timeout=300) as response:
            return response.headers, response.read()

    def edit(self, plan: str, base: int, *operations: dict[str, Any]) -> tuple[int, Any]:
        return self.post(f"plans/{plan}/edits", {"base": base, "message": "test", "edit": list(operations)})


class Stream:
    """A browser's event stream."""

    def __init__(self, client: Client, plan: str, url: str = "") -> None:
        address = urllib.parse.urlsplit(url or URL)
        self.connection = http.client.HTTPConnection(address.hostname or "", address.port, timeout=60)
        cookies = "; ".join(f"{c.name}={c.value}" for c in client.cookies)
        self.connection.request("GET", f"/api/plans/{plan}/events", headers={"Cookie": cookies})
        self.response = self.connection.getresponse()

    def next(self, kind: str) -> Any:
        """The data of the next event of a kind; EOFError where the server ends the stream."""
        while line := self.response.readline():
            if line.decode().strip() == f"event: {kind}":
                data = json.loads(self.response.readline().decode().removeprefix("data: "))
                if kind == "revision":
                    _component("RevisionEvent").validate(data)
                return data
        raise EOFError

    def until(self, kind: str, wanted: object) -> None:
        """Wait until an event brings what is wanted."""
        while self.next(kind) != wanted:
            pass

    def close(self) -> None:
        self.connection.close()


class DatabaseCase(unittest.TestCase):
    """Tests that ask the database itself, and end what they hold of it."""

    @classmethod
    def setUpClass(cls) -> None:
        django.setup()
        cls.addClassCleanup(give_back)


def give_back() -> None:
    """End what a test that asked the database itself holds of it."""
    from django.db import connection

    connection.close()
    connection.close_pool()  # type: ignore[attr-defined]


def patch(kind: str, id: str, **changes: Any) -> dict[str, Any]:
    """A patch operation."""
    return {"op": "patch", "kind": kind, "id": id, "set": changes}


def drop(kind: str, id: str) -> dict[str, Any]:
    """A drop operation."""
    return {"op": "drop", "kind": kind, "id": id}

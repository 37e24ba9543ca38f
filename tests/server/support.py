"""A person's browser without the page: cookies, CSRF token and JSON over HTTP, against the running server."""

from __future__ import annotations

import http.cookiejar
import json
import os
import re
import urllib.error
import urllib.request
import uuid
from typing import Any

from ops.serve import PASSWORD
from tests.support import ROOT

URL = os.environ.get("APTWIRE_TEST_URL", "")


class Client:
    """Requests of one session."""

    def __init__(self, user: str | None = "ines") -> None:
        if not URL:
            raise RuntimeError("these tests need the server that ./run test starts")
        self.cookies = http.cookiejar.CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        self.get("session")
        if user:
            status, _ = self.post("session", {"username": user, "password": PASSWORD})
            assert status == 200, status

    def token(self) -> str:
        return next((c.value or "" for c in self.cookies if c.name == "csrftoken"), "")

    def request(self, method: str, path: str, body: bytes | None = None, **headers: str) -> tuple[int, Any]:
        request = urllib.request.Request(f"{URL}/api/{path}", data=body, method=method)
        for name, value in {"X-CSRFToken": self.token(), **headers}.items():
            request.add_header(name.replace("_", "-"), value)
        try:
            with self.opener.open(request, timeout=300) as response:
                status, raw = response.status, response.read()
        except urllib.error.HTTPError as error:
            status, raw = error.code, error.read()
        try:
            return status, json.loads(raw) if raw else None
        except ValueError:
            return status, raw

    def get(self, path: str) -> tuple[int, Any]:
        return self.request("GET", path)

    def post(self, path: str, data: Any = None) -> tuple[int, Any]:
        return self.request("POST", path, json.dumps(data).encode(), Content_Type="application/json")

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

    def whole(self, plan: str) -> dict[str, Any]:
        """All pages of a plan put together: records by kind, endpoints by id, and the size of the largest page."""
        made: dict[str, Any] = {"records": {}, "endpoints": {}, "largest": 0, "pages": 0}
        after = ""
        while after is not None:
            status, page = self.get(f"plans/{plan}/page" + (f"?after={after}" if after else ""))
            assert status == 200, page
            for kind, found in page["records"].items():
                made["records"].setdefault(kind, []).extend(found)
            made["endpoints"].update({e["id"]: e for e in page["endpoints"]})
            made["largest"] = max(made["largest"], len(json.dumps(page, ensure_ascii=False).encode()))
            made["pages"] += 1
            after = page["next"]
        return made

    def exported(self, plan: str) -> bytes:
        """The plan file, put together from its parts, none of them large."""
        parts, address = [], f"{URL}/api/plans/{plan}/export"
        while address:
            with self.opener.open(address, timeout=300) as response:
                parts.append(response.read())
                link = re.match(r'<(.*)>; rel="next"', response.headers["Link"] or "")
            assert len(parts[-1]) < 1_000_000, len(parts[-1])
            address = URL + link[1] if link else ""
        return b"".join(parts)

    def edit(self, plan: str, base: int, *operations: dict[str, Any]) -> tuple[int, Any]:
        return self.post(f"plans/{plan}/edits", {"base": base, "message": "test", "edit": list(operations)})


def patch(kind: str, id: str, **changes: Any) -> dict[str, Any]:
    """A patch operation."""
    return {"op": "patch", "kind": kind, "id": id, "set": changes}


def drop(kind: str, id: str) -> dict[str, Any]:
    """A drop operation."""
    return {"op": "drop", "kind": kind, "id": id}

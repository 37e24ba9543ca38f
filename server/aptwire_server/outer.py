"""What the layers before Django share: the shapes of ASGI, the session of a request, a refusal."""

from __future__ import annotations

import json
from collections.abc import Awaitable, Callable, Mapping, Sequence
from typing import Any

from django.conf import settings
from django.http.cookie import parse_cookie

Scope = dict[str, Any]
Message = Mapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]


def header(scope: Scope, name: bytes) -> str:
    """A header of a request, empty where it has none."""
    return next((value.decode("latin-1") for key, value in scope["headers"] if key.lower() == name), "")


def session_of(scope: Scope) -> str:
    """The key of the session that a request names, empty where it names none."""
    return parse_cookie(header(scope, b"cookie")).get(settings.SESSION_COOKIE_NAME, "")


# Whether an edit was still written can’t be said: the page hears of it once the database is back.
AWAY = "The database doesn’t answer right now; ask again in a moment."
SOON = "2"
"""Seconds after which to ask again, while the database is away."""


async def away(send: Send) -> None:
    """503: the database is away."""
    await answer(send, 503, AWAY, [(b"retry-after", SOON.encode())])


async def answer(send: Send, status: int, detail: str, more: Sequence[tuple[bytes, bytes]] = ()) -> None:
    """A refusal in JSON; the connection ends with it, since the rest of the request is never read."""
    body = json.dumps({"detail": detail}).encode()
    headers = [
        (b"content-type", b"application/json"),
        (b"content-length", str(len(body)).encode()),
        (b"cache-control", b"no-store"),
        (b"connection", b"close"),
        *more,
    ]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})

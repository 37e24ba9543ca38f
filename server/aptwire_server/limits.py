"""How much of a request's body is read, by address, before anything else looks at it.

An ASGI layer before Django, which would keep on disk whatever comes.  A body that says that it is too large is refused unread; one that
doesn't say is refused as soon as it is.
"""

from __future__ import annotations

import json
import re
from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.http.cookie import parse_cookie

Scope = dict[str, Any]
Message = Mapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[Scope, Receive, Send], Awaitable[None]]

KB, MB = 1024, 1024 * 1024
USUAL = 64 * KB
LIMITS = (
    (re.compile(r"^/api/session$"), 4 * KB),
    (re.compile(r"^/api/plans/import$"), 64 * MB),
    (re.compile(r"^/api/plans/read$"), 256 * MB),
    (re.compile(r"^/api/plans/[^/]*/(edits|preview)$"), 16 * MB),
)
"""Bytes of a body; the first that fits the address holds, USUAL where none does."""


def limit_of(path: str) -> int:
    """The most bytes that a request to an address may bring."""
    return next((most for pattern, most in LIMITS if pattern.match(path)), USUAL)


def limited(app: App, known: Callable[[str], bool]) -> App:
    """The application behind the limits; more than USUAL is read only of somebody who is logged in.

    `known` tells whether a session key is somebody's; it may ask the database.
    """

    async def inner(scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await app(scope, receive, send)
            return
        headers = {name.lower(): value.decode("latin-1") for name, value in scope["headers"]}
        most = limit_of(scope["path"])
        said = headers.get(b"content-length", "")
        came, trusted, begun = 0, False, False

        async def counting() -> Message:
            nonlocal came, trusted
            message = await receive()
            came += len(message.get("body", b""))
            if came > most:
                raise _Refused(413, _too_large(most))
            if came > USUAL and not trusted:
                trusted = await sync_to_async(known, thread_sensitive=False)(_session(headers))
                if not trusted:
                    raise _Refused(403, "Log in first.")
            return message

        async def sending(message: Message) -> None:
            nonlocal begun
            begun = True
            await send(message)

        try:
            if said.isascii() and said.isdigit() and int(said[:20]) > most:
                raise _Refused(413, _too_large(most))
            await app(scope, counting, sending)
        except _Refused as refused:
            if not begun:
                await _answer(send, refused)

    return inner


class _Refused(Exception):
    def __init__(self, status: int, detail: str) -> None:
        super().__init__(detail)
        self.status = status


def _session(headers: dict[bytes, str]) -> str:
    return parse_cookie(headers.get(b"cookie", "")).get(settings.SESSION_COOKIE_NAME, "")


def _too_large(most: int) -> str:
    said = f"{most // MB} MB" if most >= MB else f"{most // KB} KB"
    return f"This is too large: {said} is the most here."


async def _answer(send: Send, refused: _Refused) -> None:
    """The refusal; the connection ends with it, since the rest of the body is never read."""
    body = json.dumps({"detail": str(refused)}).encode()
    headers = [
        (b"content-type", b"application/json"),
        (b"content-length", str(len(body)).encode()),
        (b"cache-control", b"no-store"),
        (b"connection", b"close"),
    ]
    await send({"type": "http.response.start", "status": refused.status, "headers": headers})
    await send({"type": "http.response.body", "body": body})

"""How much of a request's body is read, by address, before anything else looks at it.

An ASGI layer before Django, which would keep on disk whatever comes.  A body that says that it is too large is refused unread; one that
doesn't say is refused as soon as it is.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from asgiref.sync import sync_to_async
from django.db import InterfaceError, OperationalError

from aptwire_server.outer import App, Message, Receive, Scope, Send, answer, away, header, session_of

KB, MB = 1024, 1024 * 1024
USUAL = 64 * KB
LIMITS = (
    (re.compile(r"^/api/session$"), 4 * KB),
    (re.compile(r"^/api/plans/import$"), 64 * MB),
    (re.compile(r"^/api/plans/read$"), 256 * MB),
    (re.compile(r"^/api/plans/[^/]*/(edits|preview|gestures|sheets)$"), 16 * MB),
    (re.compile(r"^/api/plans/[^/]*/topology$"), 64 * MB),
    (re.compile(r"^/api/plans/[^/]*/readings$"), 32 * MB),
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
        most = limit_of(scope["path"])
        said = header(scope, b"content-length")
        came, trusted, begun = 0, False, False

        async def counting() -> Message:
            nonlocal came, trusted
            message = await receive()
            came += len(message.get("body", b""))
            if came > most:
                raise _Refused(413, _too_large(most))
            if came > USUAL and not trusted:
                trusted = await sync_to_async(known, thread_sensitive=False)(session_of(scope))
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
                await answer(send, refused.status, str(refused))
        except (OperationalError, InterfaceError):
            await away(send)

    return inner


class _Refused(Exception):
    def __init__(self, status: int, detail: str) -> None:
        super().__init__(detail)
        self.status = status


def _too_large(most: int) -> str:
    said = f"{most // MB} MB" if most >= MB else f"{most // KB} KB"
    return f"This is too large: {said} is the most here."

"""Python's search for garbage in cycles, in the moments in which nobody waits."""

from __future__ import annotations

import asyncio
import gc
import threading

from aptwire_server.outer import App, Receive, Scope, Send

QUIET = 0.3
"""Seconds without a request before the search begins: what follows one answer at once finds nobody searching."""
LONGEST = 5.0
"""Seconds for which it is put off at the most, however busy the server is."""

_unsearched = threading.Event()
"""Something stays that hasn't been looked through."""


def stays() -> None:
    """What there is now is large and stays: Python needn't look through it again and again.  That is done once, in the next moment in which nobody
    waits."""
    gc.freeze()
    _unsearched.set()


def _search_all() -> None:
    """Look through what stays, once."""
    if _unsearched.is_set():
        _unsearched.clear()
        gc.unfreeze()
        gc.collect()
        gc.freeze()


def collecting_between(application: App, quiet: float = QUIET, longest: float = LONGEST) -> App:
    """An ASGI application in which nobody waits for that search while an answer is worked out.

    An edit of a large plan leaves some hundred thousand new objects, and looking through them takes a tenth of the time that the answer takes.
    """
    active = 0
    timer: asyncio.TimerHandle | None = None
    latest = 0.0

    def search() -> None:
        nonlocal timer
        timer = None
        gc.enable()
        if not active:
            _search_all()

    def search_at(loop: asyncio.AbstractEventLoop, when: float) -> None:
        nonlocal timer
        if timer is not None:
            timer.cancel()
        timer = loop.call_at(when, search)

    async def answered(scope: Scope, receive: Receive, send: Send) -> None:
        nonlocal active, latest
        loop = asyncio.get_running_loop()
        active += 1
        if timer is None:
            gc.disable()
            latest = loop.time() + longest
        search_at(loop, latest)
        try:
            await application(scope, receive, send)
        finally:
            active -= 1
            if not active and timer is not None:
                search_at(loop, min(latest, loop.time() + quiet))

    return answered

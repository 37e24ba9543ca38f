"""Live updates: PostgreSQL's LISTEN/NOTIFY to every process, server-sent events to every browser.

However many pages are open, a process has one connection that listens and one thread that asks the database on behalf of all of them: what
an edit changed is told as one text, made once and handed to every page.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
import re
import threading
import time
import uuid
from collections.abc import AsyncIterator, Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any, TypeVar

import psycopg
from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from django.db import DatabaseError, InterfaceError, OperationalError, connection, transaction
from django.utils import timezone
from rest_framework.exceptions import NotFound

from aptwire_server.outer import App, Receive, Scope, Send, answer, away, session_of
from aptwire_server.plans.access import plan_of
from aptwire_server.plans.changes import Told, told_to_all
from aptwire_server.plans.commits import CHANNEL, mark, notify
from aptwire_server.plans.models import PlanRow, Presence
from aptwire_server.plans.owners import owner

T = TypeVar("T")
HEARTBEAT = 10.0
FORGOTTEN = timedelta(seconds=35)
TOGETHER = 0.1
"""Seconds for which comings and goings are gathered before they are told."""
MOST_WAITING = 64
"""Events that a browser may leave unread; one that is further behind is let go, and asks anew."""
log = logging.getLogger(__name__)


@dataclass(eq=False)
class Stream:
    """A browser that has a plan open, or a draft of the plan `of`; `key` that of its session."""

    plan: uuid.UUID
    of: uuid.UUID | None
    user: int
    key: str
    id: uuid.UUID = field(default_factory=uuid.uuid4)
    waiting: asyncio.Queue[str | None] = field(default_factory=lambda: asyncio.Queue(MOST_WAITING + 1))

    @property
    def session(self) -> str:
        """What other processes call its session."""
        return mark(self.key)

    def tell(self, event: str, data: str) -> None:
        """An event for the browser."""
        if self.waiting.qsize() < MOST_WAITING:
            self.waiting.put_nowait(f"event: {event}\ndata: {data}\n\n")
        else:
            self.end()

    def end(self) -> None:
        """Nothing more after this: what waits unread is given up."""
        while not self.waiting.empty():
            self.waiting.get_nowait()
        self.waiting.put_nowait(None)


class Hub:
    """The streams of this process, and what they are still to be told."""

    def __init__(self) -> None:
        self._streams: dict[uuid.UUID, set[Stream]] = {}
        self._known: dict[uuid.UUID, Told] = {}
        self._people: dict[uuid.UUID, str] = {}
        self._moved: set[uuid.UUID] = set()
        self._peopled: set[uuid.UUID] = set()
        self._come: dict[uuid.UUID, Stream] = {}
        self._gone: dict[uuid.UUID, Stream] = {}
        self._wake = asyncio.Event()
        self._tasks: list[asyncio.Task[None]] = []
        self._thread = ThreadPoolExecutor(1, "hub")
        self._asking = 0
        self._guard = threading.Lock()

    def join(self, stream: Stream, revision: int) -> None:
        """From now on the stream hears of its plan; first of all how far that was a moment ago."""
        if not self._tasks:
            loop = asyncio.get_running_loop()
            self._tasks = [loop.create_task(self._listen()), loop.create_task(self._work())]
            for task in self._tasks:
                task.add_done_callback(self._ended)
        self._streams.setdefault(stream.plan, set()).add(stream)
        self._come[stream.id] = stream
        if stream.plan in self._people:
            stream.tell("people", self._people[stream.plan])
        known = self._known.setdefault(stream.plan, Told(revision))
        stream.tell("revision", json.dumps({"revision": max(revision, known.revision)}))
        # Whatever was said of the plan in that moment.
        self._moved.add(stream.plan)
        self._wake.set()

    def _drafts(self, plan: uuid.UUID) -> list[Stream]:
        """Those who have a draft of a plan open."""
        return [s for streams in self._streams.values() for s in streams if s.of == plan]

    def leave(self, stream: Stream) -> None:
        """The browser is gone."""
        others = self._streams.get(stream.plan, set())
        others.discard(stream)
        if not others:
            for kept in (self._streams, self._known, self._people):
                kept.pop(stream.plan, None)
        if self._come.pop(stream.id, None) is None:
            self._gone[stream.id] = stream
            self._wake.set()

    def _ended(self, task: asyncio.Task[None]) -> None:
        """A task of the hub never ends by itself: it is said what ended it, and all streams are let go, to begin anew."""
        if task not in self._tasks or task.cancelled():
            return
        log.error("the hub broke off and begins anew", exc_info=task.exception())
        for other in self._tasks:
            other.cancel()
        self._tasks = []
        for stream in [s for found in self._streams.values() for s in found]:
            stream.end()

    async def ask(self, what: Callable[[], T]) -> T:
        """Ask the database in the hub's own thread, which keeps a connection only as long as others wait to ask."""
        with self._guard:
            self._asking += 1

        def asked() -> T:
            well = False
            try:
                made = what()
                well = True
                return made
            finally:
                with self._guard:
                    self._asking -= 1
                    others = self._asking > 0
                if not (well and others):
                    connection.close()

        return await asyncio.get_running_loop().run_in_executor(self._thread, asked)

    async def _listen(self) -> None:
        settings = connection.get_connection_params()
        for name in ("cursor_factory", "context", "pool"):
            settings.pop(name, None)
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(**settings, autocommit=True) as listening:
                    await listening.execute(f"LISTEN {CHANNEL}")
                    # Whatever was said while nobody listened.
                    self._moved.update(self._streams)
                    self._peopled.update(self._streams)
                    self._wake.set()
                    async for message in listening.notifies():
                        self._heard(json.loads(message.payload))
            except psycopg.OperationalError as error:
                log.warning("listening for changes was interrupted, trying again: %s", str(error).partition("\n")[0])
                await asyncio.sleep(0.5)

    def _heard(self, said: dict[str, Any]) -> None:
        if "session" in said:
            for stream in [s for streams in self._streams.values() for s in streams if s.session == said["session"]]:
                stream.end()
            return
        plan = uuid.UUID(said["plan"])
        if "about" in said:
            for stream in self._streams.get(plan, ()):
                stream.tell("about", json.dumps(said["about"]))
        elif "drafts" in said:
            for stream in (*self._streams.get(plan, ()), *self._drafts(plan)):
                stream.tell("drafts", "{}")
        elif "revision" in said:
            # Whoever works on a draft sees it come onto the plan's latest revision, or that it clashes with it.
            self._moved |= {plan} & self._streams.keys() | {s.plan for s in self._drafts(plan)}
            self._wake.set()
        elif plan in self._streams:
            self._peopled.add(plan)
            self._wake.set()

    async def _work(self) -> None:
        beat = time.monotonic()
        while True:
            due = beat + HEARTBEAT - time.monotonic()
            if due > 0 and not self._wake.is_set():
                try:
                    await asyncio.wait_for(self._wake.wait(), due)
                except TimeoutError:
                    due = 0
            self._wake.clear()
            try:
                moved, self._moved = self._moved, set()
                for plan in moved:
                    await self._tell_of_edits(plan)
                if due <= 0:
                    beat = time.monotonic()
                    await self._beat()
                if self._come or self._gone or self._peopled:
                    await self._tell_of_people()
            except DatabaseError as error:
                log.warning("the hub couldn’t ask the database, trying again: %s", str(error).partition("\n")[0])
                self._moved.update(self._streams)
                self._peopled.update(self._streams)
                self._wake.set()
                await asyncio.sleep(0.5)

    async def _tell_of_edits(self, plan: uuid.UUID) -> None:
        known = self._known.get(plan)
        if known is None:
            return
        try:
            now, text = await self.ask(lambda: told_to_all(plan, known))
        except DatabaseError:
            raise
        except Exception:
            # One plan that can't be told of must not silence the others; its pages begin anew, and see for themselves.
            log.exception("what was changed in plan %s can’t be told", plan)
            for stream in self._streams.get(plan, ()):
                stream.end()
            return
        if plan in self._known:
            self._known[plan] = now
            for stream in self._streams.get(plan, ()):
                if text is not None:
                    stream.tell("revision", text)
                if stream.of is not None:
                    stream.tell("drafts", "{}")

    async def _beat(self) -> None:
        """Say who is still here; let go of those whose session has ended some other way than by logging out."""
        streams = [s for found in self._streams.values() for s in found]
        alive = await self.ask(lambda: _still_here(streams))
        for stream in streams:
            if stream.id not in alive:
                stream.end()
        self._peopled.update(self._streams)

    async def _tell_of_people(self) -> None:
        await asyncio.sleep(TOGETHER)
        come, gone, peopled = self._come, self._gone, self._peopled
        self._come, self._gone, self._peopled = {}, {}, set()
        try:
            await self.ask(lambda: _arrive_and_depart(come, gone))
            plans = (peopled | {s.plan for s in come.values()}) & set(self._streams)
            people = await self.ask(lambda: _people(plans))
        except DatabaseError:
            self._come, self._gone = {**come, **self._come}, {**gone, **self._gone}
            raise
        for plan in plans & set(self._streams):
            text = json.dumps(people.get(plan, []))
            if self._people.get(plan) != text:
                self._people[plan] = text
                for stream in self._streams[plan]:
                    stream.tell("people", text)


hub = Hub()


def _arrive_and_depart(come: dict[uuid.UUID, Stream], gone: dict[uuid.UUID, Stream]) -> None:
    """Bring the table of those present up to date, and tell the other processes."""
    with transaction.atomic():
        rows = [Presence(id=s.id, plan_id=s.plan, user_id=s.user) for s in come.values() if s.id not in gone]
        Presence.objects.bulk_create(rows, ignore_conflicts=True)
        Presence.objects.filter(pk__in=list(gone)).delete()
        for plan in {s.plan for s in [*come.values(), *gone.values()]}:
            notify({"plan": str(plan), "people": True})


def _people(plans: set[uuid.UUID]) -> dict[uuid.UUID, list[str]]:
    """The names of those who have a plan open."""
    seen = Presence.objects.filter(plan_id__in=plans, seen__gt=timezone.now() - FORGOTTEN)
    found: dict[uuid.UUID, list[str]] = {}
    for plan, name in seen.order_by("user__username").values_list("plan_id", "user__username").distinct():
        found.setdefault(plan, []).append(name)
    return found


def _still_here(streams: list[Stream]) -> set[uuid.UUID]:
    """Note that these are still here, and forget who hasn't been for long; the ids of those that may stay."""
    now = timezone.now()
    Presence.objects.filter(seen__lt=now - 10 * FORGOTTEN).delete()
    keys = Session.objects.filter(session_key__in={s.key for s in streams}, expire_date__gt=now)
    sessions = set(keys.values_list("session_key", flat=True))
    users = set(User.objects.filter(pk__in={s.user for s in streams}, is_active=True).values_list("pk", flat=True))
    alive = [s for s in streams if s.key in sessions and s.user in users]
    Presence.objects.filter(pk__in=[s.id for s in alive]).update(seen=now)
    return {s.id for s in alive}


ADDRESS = re.compile(r"^/api/plans/([0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12})/events$")
HEADERS = [
    (b"content-type", b"text/event-stream"),
    (b"cache-control", b"no-store"),
    (b"x-content-type-options", b"nosniff"),
]


def streaming(app: App) -> App:
    """The application with the streams beside it: hundreds that last are no requests, and hold no thread each."""

    async def inner(scope: Scope, receive: Receive, send: Send) -> None:
        plan = ADDRESS.match(scope["path"]) if scope["type"] == "http" else None
        if plan is None:
            await app(scope, receive, send)
        elif scope["method"] != "GET":
            await answer(send, 405, "Only GET is possible here.", [(b"allow", b"GET")])
        else:
            await _events(scope, receive, send, uuid.UUID(plan[1]))

    return inner


async def _events(scope: Scope, receive: Receive, send: Send, plan: uuid.UUID) -> None:
    """Server-sent events of a plan: `revision` with what came after the one before, `people` with the names of those who have it open, `about`
    with its name and who put it into the bin, where somebody changes that."""
    key = session_of(scope)
    try:
        user, row = await hub.ask(lambda: _admitted(key, plan))
    except (OperationalError, InterfaceError):
        await away(send)
        return
    if user is None:
        await answer(send, 403, "Log in first.")
        return
    if row is None:
        await answer(send, 404, "There is no such plan.")
        return
    stream = Stream(plan, row.of_id, user, key)
    gone = asyncio.ensure_future(_gone(receive))
    try:
        hub.join(stream, row.revision)
        await send({"type": "http.response.start", "status": 200, "headers": HEADERS})
        async for text in _said(stream, gone):
            await send({"type": "http.response.body", "body": text.encode(), "more_body": True})
        await send({"type": "http.response.body", "body": b""})
    finally:
        gone.cancel()
        hub.leave(stream)


async def _said(stream: Stream, gone: asyncio.Future[None]) -> AsyncIterator[str]:
    """What is to be told, with a sign of life while it is nothing; until the browser is gone or the stream ends."""
    waiting: asyncio.Future[str | None] = asyncio.ensure_future(stream.waiting.get())
    try:
        while not gone.done():
            both: set[asyncio.Future[Any]] = {waiting, gone}
            done, _ = await asyncio.wait(both, timeout=HEARTBEAT, return_when=asyncio.FIRST_COMPLETED)
            if not done:
                yield ": still here\n\n"
            elif waiting in done:
                event = waiting.result()
                if event is None:
                    return
                yield event
                waiting = asyncio.ensure_future(stream.waiting.get())
    finally:
        waiting.cancel()


async def _gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


def _admitted(key: str, plan: uuid.UUID) -> tuple[int | None, PlanRow | None]:
    """Who listens (None: nobody who is logged in), and the plan (None: there is none that they may see)."""
    user = owner(key)
    with contextlib.suppress(NotFound):
        return user, plan_of(plan, user) if user is not None else None
    return user, None

"""Live updates: PostgreSQL's LISTEN/NOTIFY to every process, server-sent events to every browser."""

from __future__ import annotations

import asyncio
import json
import logging
import uuid
from collections.abc import AsyncIterator
from datetime import timedelta

import psycopg
from asgiref.sync import sync_to_async
from django.db import connection, transaction
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse
from django.utils import timezone

from aptwire_server.plans.commits import CHANNEL, notify
from aptwire_server.plans.models import PlanRow, Presence

HEARTBEAT = 10.0
FORGOTTEN = timedelta(seconds=35)
log = logging.getLogger(__name__)


class Hub:
    """One listening connection of this process, and the browsers to which it passes events on."""

    def __init__(self) -> None:
        self._queues: dict[str, set[asyncio.Queue[str]]] = {}
        self._task: asyncio.Task[None] | None = None

    def join(self, plan: str) -> asyncio.Queue[str]:
        """A queue of a plan's events."""
        queue: asyncio.Queue[str] = asyncio.Queue()
        self._queues.setdefault(plan, set()).add(queue)
        if self._task is None or self._task.done():
            self._task = asyncio.get_running_loop().create_task(self._listen())
        return queue

    def leave(self, plan: str, queue: asyncio.Queue[str]) -> None:
        """No more events for this queue."""
        self._queues.get(plan, set()).discard(queue)

    async def _listen(self) -> None:
        settings = connection.get_connection_params()
        for name in ("cursor_factory", "context", "pool"):
            settings.pop(name, None)
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(**settings, autocommit=True) as listening:
                    await listening.execute(f"LISTEN {CHANNEL}")
                    for plan, queues in self._queues.items():
                        for queue in queues:
                            queue.put_nowait(json.dumps({"plan": plan, "again": True}))
                    async for message in listening.notifies():
                        for queue in self._queues.get(json.loads(message.payload)["plan"], ()):
                            queue.put_nowait(message.payload)
            except psycopg.OperationalError as error:
                log.warning("listening for changes was interrupted, trying again: %s", error)
                await asyncio.sleep(1)


hub = Hub()


def _arrive(plan_id: uuid.UUID, user_id: int) -> tuple[Presence, int] | None:
    row = PlanRow.objects.filter(pk=plan_id).first()
    if row is None:
        return None
    with transaction.atomic():
        presence = Presence.objects.create(plan=row, user_id=user_id)
        notify({"plan": str(plan_id), "people": True})
    return presence, row.revision


def _depart(presence: Presence) -> None:
    with transaction.atomic():
        presence.delete()
        notify({"plan": str(presence.plan.pk), "people": True})


def _people(plan_id: uuid.UUID) -> list[str]:
    seen = Presence.objects.filter(plan_id=plan_id, seen__gt=timezone.now() - FORGOTTEN)
    return sorted(set(seen.values_list("user__username", flat=True)))


def _still_here(presence: Presence) -> None:
    Presence.objects.filter(seen__lt=timezone.now() - 10 * FORGOTTEN).delete()
    presence.save(update_fields=["seen"])


async def events(request: HttpRequest, plan_id: uuid.UUID) -> HttpResponse | StreamingHttpResponse:
    """Server-sent events of a plan: `revision` with its number, `people` with the names of those who have it open."""
    user = await request.auser()
    if not user.is_authenticated:
        return JsonResponse({"detail": "Log in first."}, status=403)
    queue = hub.join(str(plan_id))
    arrived = await sync_to_async(_arrive)(plan_id, int(user.pk))
    if arrived is None:
        hub.leave(str(plan_id), queue)
        return JsonResponse({"detail": "There is no such plan."}, status=404)
    stream = _stream(plan_id, queue, *arrived)
    response = StreamingHttpResponse(stream, content_type="text/event-stream")
    response["Cache-Control"] = "no-cache"
    response["Content-Encoding"] = "identity"
    return response


async def _stream(
    plan_id: uuid.UUID, queue: asyncio.Queue[str], presence: Presence, revision: int
) -> AsyncIterator[str]:
    try:
        yield f"event: revision\ndata: {revision}\n\n"
        yield f"event: people\ndata: {json.dumps(await sync_to_async(_people)(plan_id))}\n\n"
        while True:
            try:
                event = json.loads(await asyncio.wait_for(queue.get(), HEARTBEAT))
            except TimeoutError:
                await sync_to_async(_still_here)(presence)
                yield ": still here\n\n"
                continue
            if "revision" in event:
                yield f"event: revision\ndata: {event['revision']}\n\n"
            if "people" in event:
                yield f"event: people\ndata: {json.dumps(await sync_to_async(_people)(plan_id))}\n\n"
            if "again" in event:
                row = await PlanRow.objects.aget(pk=plan_id)
                yield f"event: revision\ndata: {row.revision}\n\n"
    finally:
        hub.leave(str(plan_id), queue)
        await asyncio.shield(sync_to_async(_depart)(presence))

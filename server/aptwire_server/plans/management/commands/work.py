"""Takes long work from the queue until it is ended."""

from __future__ import annotations

import asyncio
import logging
import os
from typing import Any

import psycopg
from django.core.management.base import BaseCommand
from procrastinate.contrib.django import app
from procrastinate.exceptions import ConnectorException

from aptwire_server.plans.tasks import BEAT, SILENT

log = logging.getLogger(__name__)


class Command(BaseCommand):
    """`manage.py work`."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        with app.replace_connector(app.connector.get_worker_connector()):  # type: ignore[attr-defined]
            try:
                asyncio.run(_work())
            except (ConnectorException, psycopg.Error, OSError, ExceptionGroup) as error:
                # A run that it has under way can't be told of any more: whoever watches starts a worker anew.
                log.warning("the worker lost its database: %s", str(error).partition("\n")[0])
                os._exit(1)


async def _work() -> None:
    async with app.open_async():
        await app.run_worker_async(
            shutdown_graceful_timeout=3, update_heartbeat_interval=BEAT, stalled_worker_timeout=SILENT
        )

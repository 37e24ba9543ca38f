"""The ASGI application: Django behind the limits of what is read, with the event streams beside it."""

import os
from typing import Any

import django
from asgiref.sync import sync_to_async
from django.core.handlers.asgi import ASGIHandler

from aptwire_server.collecting import collecting_between
from aptwire_server.limits import limited

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aptwire_server.settings")
django.setup(set_prefix=False)


class Handler(ASGIHandler):
    """Django's own, but for a request's way through middleware and view, which is one call in a thread.

    All of them are synchronous; Django would go to the thread and back for each of them, which takes longer than most answers.
    """

    def load_middleware(self, is_async: bool = False) -> None:
        """As in a synchronous server."""
        super().load_middleware(is_async=False)

    async def get_response_async(self, request: Any) -> Any:
        """The answer, worked out in the request's thread."""
        return await sync_to_async(self.get_response, thread_sensitive=True)(request)


def _known(session: str) -> bool:
    from aptwire_server.plans.owners import owner

    try:
        return owner(session) is not None
    finally:
        django.db.connection.close()


def _application() -> Any:
    from aptwire_server.plans.live import streaming

    return limited(streaming(collecting_between(Handler())), _known)


application = _application()

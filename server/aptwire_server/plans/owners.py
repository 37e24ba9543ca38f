"""Whose session a key is, for whoever asks outside of a request of Django's."""

from __future__ import annotations

from django.contrib.auth import get_user
from django.contrib.sessions.backends.db import SessionStore
from django.http import HttpRequest


def owner(session: str) -> int | None:
    """The id of the user, None where the session is nobody's, has ended, or began with another password."""
    if not session:
        return None
    request = HttpRequest()
    request.session = SessionStore(session)
    user = get_user(request)
    return int(user.pk) if user.is_authenticated else None

"""What is fetched from other systems over HTTP: only where the installation allows it, and never without end."""

from __future__ import annotations

import http.client
import time
import urllib.error
import urllib.request
from typing import Any
from urllib.parse import urlsplit

from aptwire.plan.plan import PlanError
from django.conf import settings

from aptwire_server.plans.gate import bad

SECONDS, SILENCE, PIECE = 30.0, 10.0, 256 * 1024
"""For how long a fetch goes on, for how long the other side may say nothing, and how many bytes are taken at once."""
YANG_JSON = "application/yang-data+json"


def allowed(address: str) -> bool:
    """Whether the installation lets an address be fetched: scheme, name and port are those of one that it names."""
    return _origin(address) in {_origin(one) for one in settings.SOURCES} - {None}


def fetch(address: str, largest: int) -> bytes:
    """What an address answers to a GET; PlanError says what hinders it.  Nobody is followed to another address."""
    if not allowed(address):
        raise bad(
            "this installation doesn’t fetch from there: APTWIRE_SOURCES names the addresses that it may ask", "address"
        )
    request = urllib.request.Request(address, headers={"Accept": f"{YANG_JSON}, application/json"})
    try:
        with _opener.open(request, timeout=SILENCE) as answer:
            return _read(answer, largest)
    except urllib.error.HTTPError as error:
        raise bad(f"answers {error.code} {error.reason}"[:200], "address") from None
    except urllib.error.URLError as error:
        raise bad(f"can’t be reached: {error.reason}"[:200], "address") from None
    except http.client.IncompleteRead as error:
        raise bad(f"broke off after {len(error.partial):,} bytes", "address") from None
    except TimeoutError:
        raise bad(f"says nothing for {SILENCE:.0f} seconds", "address") from None
    except (http.client.HTTPException, OSError, ValueError) as error:
        raise bad(f"answers what can’t be read: {error or type(error).__name__}"[:200], "address") from None


class _Staying(urllib.request.HTTPRedirectHandler):
    """Follows nobody: an allowed address could lead to one that isn't."""

    def redirect_request(self, *_: Any, **__: Any) -> None:
        """Nowhere."""


_opener = urllib.request.build_opener(_Staying(), urllib.request.ProxyHandler({}))


def _origin(address: str) -> tuple[str, str, int] | None:
    """Scheme, name and port of an address; None where it is none of HTTP."""
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError:
        return None
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.username is not None:
        return None
    return parts.scheme, parts.hostname.lower(), port or (443 if parts.scheme == "https" else 80)


def _read(answer: Any, largest: int) -> bytes:
    pieces, size, until = [], 0, time.monotonic() + SECONDS
    while piece := answer.read1(PIECE):
        pieces.append(piece)
        size += len(piece)
        if size > largest:
            raise bad(f"answers more than {largest:,} bytes", "address")
        if time.monotonic() > until:
            raise _late()
    if answer.length:
        raise http.client.IncompleteRead(b"".join(pieces), answer.length)
    return b"".join(pieces)


def _late() -> PlanError:
    return bad(f"isn’t through after {SECONDS:.0f} seconds", "address")

"""How often somebody may guess a password: counted in the database, for all processes, per account and per address."""

from __future__ import annotations

import ipaddress
from datetime import timedelta

from django.conf import settings
from django.db.models import Min, Q
from django.http import HttpRequest
from django.utils import timezone
from rest_framework.exceptions import Throttled

from aptwire_server.plans.models import Guess

WINDOW = timedelta(minutes=10)
PER_ACCOUNT, PER_ADDRESS = 10, 60
"""Guesses that fail, within the window."""


def guess(request: HttpRequest, account: str) -> Guess:
    """Note a guess before it is looked at, so that many at once count too; Throttled where there were too many.

    Take it away (`delete`) when it was right.
    """
    now = timezone.now()
    Guess.objects.filter(at__lt=now - WINDOW).delete()
    mine = Guess.objects.create(account=account[:150], address=address_of(request), at=now)
    for of, most in ((Q(account=mine.account), PER_ACCOUNT), (Q(address=mine.address), PER_ADDRESS)):
        earlier = Guess.objects.filter(of, at__gte=now - WINDOW).exclude(pk=mine.pk)
        if earlier.count() >= most:
            oldest = earlier.aggregate(at=Min("at"))["at"]
            mine.delete()
            raise Throttled(wait=max(1.0, (oldest + WINDOW - now).total_seconds()))
    return mine


def address_of(request: HttpRequest) -> str:
    """Where a request comes from: its peer, or what the proxies that the settings name say of theirs.

    Of an IPv6 address only the first 64 bits count, since who has one has all that share them (RFC 4291 section 2.5.1).
    """
    address = request.META.get("REMOTE_ADDR", "")
    told = [word.strip() for word in request.META.get("HTTP_X_FORWARDED_FOR", "").split(",")]
    while told and _is_proxy(address):
        address = told.pop()
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return "unknown"
    if found.version == 6:
        return str(ipaddress.ip_network((found, 64), strict=False).network_address)
    return str(found)


def _is_proxy(address: str) -> bool:
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return False
    return any(found in proxy for proxy in settings.PROXIES)

"""Ids made of names: the one place where what somebody calls a thing becomes what a record is called by."""

from __future__ import annotations

import hashlib
import re

from aptwire.plan.fields import ID_PATTERN

_OUTSIDE = re.compile(r"[^A-Za-z0-9._:/@-]+")
_FITS = re.compile(ID_PATTERN)
ROOM = 110


def make_id(text: str) -> str:
    """An id for a text: the text itself where it may be one, else what is left of it and a short hash of the whole.

    Different texts get different ids (but for hashes that collide, 1 in 2**40), and the same text always the same.
    """
    if len(text) <= ROOM and _FITS.fullmatch(text):
        return text
    left = _OUTSIDE.sub("-", text).strip("-._:/@")[: ROOM - 11].rstrip("-._:/@") or "unnamed"
    return f"{left}-{hashlib.sha256(text.encode('utf-8', 'surrogatepass')).hexdigest()[:10]}"

"""What an id is, and ids made of names: the one place where what somebody calls a thing becomes what a record is called by."""

from __future__ import annotations

import hashlib
import re
from typing import TypeGuard

ID_PATTERN = r"^[A-Za-z0-9][A-Za-z0-9._:/@-]{0,119}$"
_OUTSIDE = re.compile(r"[^A-Za-z0-9._:/@-]+")
_FITS = re.compile(ID_PATTERN)
ROOM = 110


def is_id(value: object) -> TypeGuard[str]:
    """Whether a value may be a record's id.  The pattern's own `$` would let one end in a newline."""
    return isinstance(value, str) and _FITS.fullmatch(value) is not None


def make_id(text: str) -> str:
    """An id for a text: the text itself where it may be one, else what is left of it and a short hash of the whole.

    Different texts get different ids (but for hashes that collide, 1 in 2**40), and the same text always the same.
    """
    if len(text) <= ROOM and is_id(text):
        return text
    left = _OUTSIDE.sub("-", text).strip("-._:/@")[: ROOM - 11].rstrip("-._:/@") or "unnamed"
    return f"{left}-{hashlib.sha256(text.encode('utf-8', 'surrogatepass')).hexdigest()[:10]}"

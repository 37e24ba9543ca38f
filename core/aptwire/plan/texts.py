"""Texts that come in from outside: what no record, file or answer may hold."""

from __future__ import annotations

import re
from typing import Any

from aptwire.plan.plan import PlanError, Problem

_UNFIT = re.compile("[\x00\ud800-\udfff]")
DEEPEST = 64


def unfit(text: str) -> str:
    """What in a text can't be kept, in words; empty where nothing is.

    PostgreSQL keeps no NUL, and half a surrogate pair (Unicode section 3.9, D71 to D74) can't be written as UTF-8.
    """
    found = _UNFIT.search(text)
    if found is None:
        return ""
    return "a NUL character" if found[0] == "\0" else "half a surrogate pair"


def refuse_unfit(value: Any, place: str) -> None:
    """PlanError with the path of a text within a JSON value that can't be kept, or of what is nested over DEEPEST levels deep."""
    if found := _unfit_within(value):
        path, why = found
        raise PlanError([Problem(why, field=path, place=place)])


def _unfit_within(value: Any) -> tuple[str, str] | None:
    waiting: list[tuple[Any, tuple[str | int, ...]]] = [(value, ())]
    while waiting:
        item, path = waiting.pop()
        if isinstance(item, str):
            if why := unfit(item):
                return "/".join(map(str, path)), f"holds {why}"
        elif isinstance(item, (dict, list)):
            if len(path) == DEEPEST:
                return "/".join(map(str, path[:6])) + "/…", f"is nested over {DEEPEST} levels deep"
            for key, inner in item.items() if isinstance(item, dict) else enumerate(item):
                if isinstance(key, str) and (why := unfit(key)):
                    return "/".join(map(str, path)), f"has a name that holds {why}"
                if isinstance(inner, (str, dict, list)):
                    waiting.append((inner, (*path, key)))
    return None

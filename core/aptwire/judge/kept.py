"""Answers kept from one judgement to the next, for as long as what they were made of is the same."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import Any, TypeVar

T = TypeVar("T")

Rests = tuple[Any, ...]
"""What an answer was made of."""

VALUES = (tuple, frozenset, str, int, type(None))
"""What counts as the same when it is equal; of anything else only the very object."""


class Kept:
    """The newest answer to each question, with what it was made of.

    Answers must hold nothing that grows old: no judgement, no plan, and no function that remembers one.
    """

    def __init__(self) -> None:
        self._known: dict[Hashable, tuple[Rests, Any]] = {}

    def get(self, question: Hashable, made_of: Rests, answer: Callable[[], T]) -> T:
        """The answer to a question: the one from before where it was made of the same, else a new one."""
        known = self._known.get(question)
        if known is not None and all_same(known[0], made_of):
            found: T = known[1]
            return found
        fresh = answer()
        self._known[question] = made_of, fresh
        return fresh


def same(one: Any, two: Any) -> bool:
    """Whether one thing that an answer was made of is as it was."""
    return one is two or (isinstance(one, VALUES) and isinstance(two, VALUES) and bool(one == two))


def all_same(one: Rests, two: Rests) -> bool:
    """Whether all of it is."""
    return len(one) == len(two) and all(map(same, one, two))

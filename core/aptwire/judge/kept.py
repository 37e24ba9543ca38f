"""Answers kept from one judgement to the next, for as long as what they were made of is the same."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import Any, TypeVar

T = TypeVar("T")

VALUES = (tuple, frozenset, str, int, type(None))
"""What counts as the same when it is equal; of anything else only the very object."""


class Kept:
    """The newest answer to each question, with what it was made of.

    Answers must hold nothing that grows old: no judgement, no plan, and no function that remembers one.
    """

    def __init__(self) -> None:
        self._known: dict[Hashable, tuple[tuple[Any, ...], Any]] = {}

    def get(self, question: Hashable, made_of: tuple[Any, ...], answer: Callable[[], T]) -> T:
        """The answer to a question: the one from before where it was made of the same, else a new one."""
        known = self._known.get(question)
        if known is not None and len(known[0]) == len(made_of) and all(map(_same, known[0], made_of)):
            found: T = known[1]
            return found
        fresh = answer()
        self._known[question] = made_of, fresh
        return fresh


def _same(one: Any, two: Any) -> bool:
    return one is two or (isinstance(one, VALUES) and isinstance(two, VALUES) and bool(one == two))

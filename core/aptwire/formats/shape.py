"""JSON from outside, taken apart with errors that name file, place and field."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, NoReturn

from aptwire.plan.plan import PlanError, Problem


@dataclass(frozen=True)
class Shape:
    """A JSON object and where it stands."""

    place: str
    data: dict[str, Any]

    def refuse(self, field: str, message: str) -> NoReturn:
        """End with an error at a field."""
        raise PlanError([Problem(message, place=self.place, field=field)])

    def text(self, field: str, default: str | None = "") -> str:
        """A text; `default` None: it must be there."""
        value = self.data.get(field, default)
        if not isinstance(value, str):
            self.refuse(field, "is missing" if value is None else "should be text")
        return value

    def whole(self, field: str, default: int | None = 0) -> int:
        """A whole number; `default` None: it must be there."""
        value = self.data.get(field, default)
        if isinstance(value, bool) or not isinstance(value, int):
            self.refuse(field, "is missing" if value is None else "should be a whole number")
        return value

    def part(self, field: str) -> Shape:
        """An object inside; an absent one is empty."""
        value = self.data.get(field, {})
        if not isinstance(value, dict):
            self.refuse(field, "should be an object")
        return Shape(f"{self.place}, {field}", value)

    def parts(self, field: str) -> Iterator[Shape]:
        """The objects of a list inside; an absent one is empty."""
        yield from shapes(self.data.get(field, []), f"{self.place}, {field}")

    def words(self, field: str) -> list[str]:
        """A list of texts; an absent one is empty."""
        value = self.data.get(field, [])
        if not isinstance(value, list) or not all(isinstance(item, str) for item in value):
            self.refuse(field, "should be a list of texts")
        return value


def shapes(value: Any, place: str) -> Iterator[Shape]:
    """The objects of a JSON list."""
    if not isinstance(value, list):
        raise PlanError([Problem("should hold a list", place=place)])
    for number, item in enumerate(value, 1):
        if not isinstance(item, dict):
            raise PlanError([Problem("should be an object", place=f"{place}: entry {number}")])
        yield Shape(f"{place}: entry {number}", item)

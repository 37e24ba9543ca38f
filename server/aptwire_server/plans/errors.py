"""Errors as JSON answers."""

from __future__ import annotations

from typing import Any

from aptwire.plan.plan import PlanError
from rest_framework.exceptions import APIException
from rest_framework.response import Response
from rest_framework.views import exception_handler


class Conflict(APIException):
    """409: somebody else changed what this edit is about; `changes` are their revisions."""

    status_code = 409
    default_code = "conflict"

    def __init__(self, message: str, changes: list[dict[str, Any]]) -> None:
        super().__init__(message)
        self.changes = changes


def answer(error: Exception, context: dict[str, Any]) -> Response | None:
    """A plan error is 400 with every problem; a conflict 409 with what changed meanwhile."""
    if isinstance(error, PlanError):
        problems = [problem.to_json() for problem in error.problems]
        return Response({"detail": "This can't be used as it is.", "problems": problems}, status=400)
    response = exception_handler(error, context)
    if isinstance(error, Conflict) and response is not None:
        response.data = {"detail": str(error.detail), "changes": error.changes}
    return response

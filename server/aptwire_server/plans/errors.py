"""Refusals as JSON, whoever refuses: a view, the framework, the database or the limits of a request."""

from __future__ import annotations

import logging
import sys
from typing import Any

from aptwire.plan.plan import PlanError
from django.db import InterfaceError, OperationalError
from django.http import HttpRequest, HttpResponse, JsonResponse
from rest_framework.exceptions import APIException
from rest_framework.response import Response
from rest_framework.views import exception_handler

from aptwire_server.outer import AWAY, SOON

log = logging.getLogger(__name__)


class Conflict(APIException):
    """409: somebody else changed what this edit is about; `changes` are their revisions."""

    status_code = 409
    default_code = "conflict"

    def __init__(self, message: str, changes: list[dict[str, Any]]) -> None:
        super().__init__(message)
        self.changes = changes


def answer(error: Exception, context: dict[str, Any]) -> Response | None:
    """A plan error is 400 with every problem; a conflict 409 with what changed meanwhile; a database that is away 503."""
    if isinstance(error, PlanError):
        problems = [problem.to_json() for problem in error.problems]
        return Response({"detail": "This can't be used as it is.", "problems": problems}, status=400)
    if isinstance(error, (OperationalError, InterfaceError)):
        log.warning("the database doesn’t answer: %s", _line(error))
        return Response({"detail": AWAY}, status=503, headers={"Retry-After": SOON})
    response = exception_handler(error, context)
    if isinstance(error, Conflict) and response is not None:
        response.data = {"detail": str(error.detail), "changes": error.changes}
    elif response is not None and not (isinstance(response.data, dict) and "detail" in response.data):
        response.data = {"detail": "This can't be used as it is."}
    return response


def _line(error: Exception) -> str:
    return str(error).strip().partition("\n")[0][:200]


def refusal(request: HttpRequest, status: int, detail: str) -> HttpResponse:
    """A refusal outside of the framework of the API: JSON for a program, a plain sentence for a page."""
    if request.path.startswith("/api/"):
        return JsonResponse({"detail": detail}, status=status)
    return HttpResponse(detail, status=status, content_type="text/plain; charset=utf-8")


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    """400."""
    return refusal(request, 400, "This request can't be read.")


def forbidden(request: HttpRequest, exception: Exception) -> HttpResponse:
    """403."""
    return refusal(request, 403, "This isn't allowed.")


def forged(request: HttpRequest, reason: str = "") -> HttpResponse:
    """403 of a request that doesn't prove that it comes from our page."""
    return refusal(request, 403, "The CSRF token is missing or wrong; load the page again.")


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """404."""
    return refusal(request, 404, "There is nothing at this address.")


def broken(request: HttpRequest) -> HttpResponse:
    """500; 503 where it is the database that is away."""
    if isinstance(sys.exc_info()[1], (OperationalError, InterfaceError)):
        response = refusal(request, 503, AWAY)
        response["Retry-After"] = SOON
        return response
    return refusal(request, 500, "The server made a mistake; it is in its log.")

"""Load: how full cables get by what flows send, and readings of hosts that become flows."""

from __future__ import annotations

import uuid
from typing import Any

from aptwire.formats.counters import Interface, read_counters
from aptwire.formats.elsewhere import moment
from aptwire.plan.names import natural
from aptwire.plan.plan import PlanError, Problem
from aptwire.stress.load import load_of
from aptwire.stress.measured import measured
from aptwire.stress.telling import failing, failure_called, greatest_burst, key_of, told, widths
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view, parser_classes
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.commits import commit
from aptwire_server.plans.engine import engine_of
from aptwire_server.plans.gate import Form, asked, bad, base_and_take, text_of
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.schemas import BINARY, TEXT, choice, many, ref
from aptwire_server.plans.views import CONFLICT, committed, looked_at, previewed

MOST, MOST_FAILURES = 400, 2_000
"""As many cables and flows, and things that may fail, are told of in one answer."""


@extend_schema(
    parameters=[
        OpenApiParameter("failure", str, description="the key of something that has failed, as `failures` lists them"),
        OpenApiParameter("burst", str, description="the id of a flow whose greatest burst lasts"),
        OpenApiParameter("cables", str, description="words that the names of the ends of cables hold"),
        OpenApiParameter("flows", str, description="words that the names of flows hold"),
    ],
    responses={200: ref("Load"), **REFUSED},
    operation_id="get_load",
)
@api_view(["GET"])
def load(request: Request, plan_id: uuid.UUID) -> Response:
    """How full each direction of each cable gets, the fullest first, and what each flow gets where all share fairly: as it is, after a failure, or while a burst lasts.

    At most 400 of each are told, beside how many there are."""
    found = load_of(looked_at(request, plan_for(request, plan_id)).judgement())
    failure, burst = None, None
    if asked(request, "failure"):
        failure = failure_called(found, asked(request, "failure"))
        if failure is None:
            raise bad("nothing goes over such a thing", "failure")
    if asked(request, "burst"):
        burst = greatest_burst(found, asked(request, "burst"))
        if burst is None:
            raise bad("this flow has no bursts that are sent", "burst")
    named = sorted(((failing(found, one), key_of(one)) for one in found.failing_now), key=lambda one: natural(one[0]))
    demand = found.demands[burst] if burst is not None else None
    return Response(
        {
            **told(found, failure, burst, asked(request, "cables"), asked(request, "flows"), MOST),
            "failures": [{"key": key, "name": name} for name, key in named[:MOST_FAILURES]],
            "bursting": f"from {found.name(demand.parts[0].source)} to {found.name(demand.parts[0].target)}"
            if demand
            else "",
        }
    )


@extend_schema(
    parameters=[OpenApiParameter("host", str, many=True, description="ids of hosts whose NICs are meant")],
    responses={200: many(ref("LoadWidth")), **REFUSED},
    operation_id="list_load_widths",
)
@api_view(["GET"])
def load_widths(request: Request, plan_id: uuid.UUID) -> Response:
    """How full the fuller direction of each cable is: those of the NICs of some hosts, and all between switches and of stations."""
    found = load_of(looked_at(request, plan_for(request, plan_id)).judgement())
    return Response(widths(found, frozenset(request.query_params.getlist("host"))))


@extend_schema(
    request={
        "multipart/form-data": {
            "type": "object",
            "required": ["host", "before", "after", "seconds", "base", "take"],
            "properties": {
                "host": TEXT,
                "before": BINARY,
                "after": BINARY,
                "seconds": TEXT,
                "towards": choice("gateway", "others"),
                "base": TEXT,
                "take": choice("yes", "no"),
            },
        }
    },
    responses={200: ref("TakenReadings"), **CONFLICT},
    operation_id="take_readings",
)
@api_view(["POST"])
@parser_classes([Form])
def readings(request: Request, plan_id: uuid.UUID) -> Response:
    """What two readings of `ip -statistics -json link` on a host, so many seconds apart, make of its flows, nothing saved; or (`take` yes) take it against a base revision.

    Adapters and host ports are found by the names of the host's interfaces; they send to their gateways, or to others alike (`towards`)."""
    row = plan_for(request, plan_id)
    base, taking = base_and_take(request)
    engine = engine_of(row)
    host = text_of(request, "host")
    if host not in engine.plan.of("host"):
        raise bad("there is no such host", "host")
    try:
        seconds = float(text_of(request, "seconds") or 0)
    except ValueError:
        raise PlanError([Problem("a number of seconds is needed", field="seconds")]) from None
    reading = measured(
        engine.plan,
        host,
        _counters(request, "before"),
        _counters(request, "after"),
        seconds,
        moment(),
        text_of(request, "towards") or "gateway",
    )
    name = engine.plan.get("host", host).name
    message = f"{name} measured"
    made = None
    if taking and reading.edit:
        made = committed(commit(plan_id, request.user, reading.edit, base, message), request).data
    return Response(
        {
            "nics": [
                {"id": id, "name": engine.plan.get("nic", id).name, "out": round(out, 3), "into": round(into, 3)}
                for id, out, into in reading.nics
            ],
            "told": list(reading.told),
            "message": message,
            "preview": previewed(engine, reading.edit) if reading.edit and made is None else None,
            "committed": made,
        }
    )


def _counters(request: Request, name: str) -> dict[str, Interface]:
    file: Any = request.FILES.get(name)
    if file is None:
        raise bad("a file is needed", name)
    return read_counters(file.read(), (file.name or name)[:80])

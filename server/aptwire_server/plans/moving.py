"""Moves: on which host each guest could run, why not, and where everybody goes when a host is taken out."""

from __future__ import annotations

import uuid

from aptwire.plan.edits import Edit
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.engine import Engine
from aptwire_server.plans.gate import asked, bad
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.schemas import FARING, choice, many, obj, ref
from aptwire_server.plans.views import asked_record, looked_at


@extend_schema(responses={200: ref("Moves"), **REFUSED}, operation_id="get_moves")
@api_view(["GET"])
def moves(request: Request, plan_id: uuid.UUID) -> Response:
    """Guest by host, a letter each: it would run there (r), go there switched off alone (c), have something less there (l), nobody knows (u), it wasn’t asked (?), it wouldn’t
    run there (x).  `rows` are in the order of `hosts`; guests that fare alike share one, and `guests` says which.  The
    letter of a guest’s own host says nothing."""
    found = looked_at(request, plan_for(request, plan_id)).moving().all()
    return Response({"hosts": found.hosts, "rows": found.rows, "guests": found.row_of})


@extend_schema(
    parameters=[OpenApiParameter(name, str, required=True) for name in ("guest", "host")],
    responses={200: obj(fares=FARING, reasons=many(ref("MoveReason"))), **REFUSED},
    operation_id="get_move",
)
@api_view(["GET"])
def move(request: Request, plan_id: uuid.UUID) -> Response:
    """How a guest would fare on a host, and everything that it would miss there, the gravest first."""
    engine = looked_at(request, plan_for(request, plan_id))
    guest, host = (asked_record(request, engine.plan, kind) for kind in ("guest", "host"))
    known = engine.moving()
    fares = known.letters(guest.id)[known.fitness.hosts.index(host.id)]
    return Response({"fares": fares, "reasons": [r.to_json() for r in known.reasons(guest.id, host.id)]})


@extend_schema(
    parameters=[
        OpenApiParameter("host", str, required=True),
        OpenApiParameter("how", choice("kept", "failed"), description="failed: nobody need go while running"),
    ],
    responses={200: ref("Clearing"), **REFUSED},
    operation_id="get_clearing",
)
@api_view(["GET"])
def clearing(request: Request, plan_id: uuid.UUID) -> Response:
    """Where everybody on a host goes when it is taken out, and who is left without a place.  The gesture `clear-host` makes it so."""
    engine = looked_at(request, plan_for(request, plan_id))
    host, how = asked_record(request, engine.plan, "host"), asked(request, "how", "kept")
    if how not in ("kept", "failed"):
        raise bad("is “kept” or “failed”", "how")
    found = engine.clearing(host.id, how == "failed")
    return Response(
        {
            "places": [{"guest": p.guest, "host": p.host, "fares": p.letter} for p in found.places],
            "left": [{"guest": left.guest, "nearest": left.nearest, "why": left.why} for left in found.left],
        }
    )


def clear_host(engine: Engine, host: str, failed: bool) -> tuple[str, Edit]:
    """The gesture that takes a host out: what it is called, and its edit."""
    if host not in engine.plan.of("host"):
        raise bad("there is no such host", "host")
    found = engine.clearing(host, failed)
    if not found.edit:
        raise bad("nobody on it has a place elsewhere" if found.left else "nobody is on it", "host")
    left = f"; {len(found.left)} stay" if found.left else ""
    return f"Take {engine.plan.get('host', host).name} out: {len(found.places)} guests move{left}", found.edit

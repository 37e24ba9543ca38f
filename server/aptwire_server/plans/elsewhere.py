"""Networks that other systems define: their topologies taken in, and the plan's own segments written out the same way."""

from __future__ import annotations

import json
import uuid
from collections import Counter
from dataclasses import replace

from aptwire.formats.elsewhere import moment, new_source, taken
from aptwire.formats.topology import read_topology
from aptwire.formats.topology_of import topology_of
from aptwire.plan.kinds import Source
from aptwire.plan.plan import Plan
from django.http import HttpResponse, HttpResponseBase
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view, parser_classes
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.limits import limit_of
from aptwire_server.plans.access import plan_for
from aptwire_server.plans.commits import commit
from aptwire_server.plans.engine import engine_of
from aptwire_server.plans.fetching import YANG_JSON, fetch
from aptwire_server.plans.gate import Form, bad, base_and_take, text_of
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.schemas import ANY, BINARY, TEXT, choice, ref
from aptwire_server.plans.views import CONFLICT, committed, file_name, looked_at, previewed, saved

LISTED = 2_000
"""As many networks are told of in one answer."""


@extend_schema(
    methods=["POST"],
    request={
        "multipart/form-data": {
            "type": "object",
            "required": ["source", "base", "take"],
            "properties": {
                "source": TEXT,
                "name": TEXT,
                "address": TEXT,
                "takes": choice("all", "chosen"),
                "file": BINARY,
                "picked": TEXT,
                "base": TEXT,
                "take": choice("yes", "no"),
            },
        }
    },
    responses={200: ref("TakenTopology"), **CONFLICT},
    operation_id="take_topology",
)
@extend_schema(methods=["GET"], responses={(200, YANG_JSON): ANY, **REFUSED}, request=None, operation_id="get_topology")
@api_view(["GET", "POST"])
@parser_classes([Form])
def topology(request: Request, plan_id: uuid.UUID) -> HttpResponseBase:
    """GET: the plan's own segments as a topology (RFC 8345, RFC 8944).  POST: what a source's topology makes of the plan, nothing saved; or (`take` yes) take it
    against a base revision.

    `source` is the id of one that the plan has, empty for a new one, which needs a `name`.  Its topology is the `file`; without one it is fetched
    from the source's address (a new one's: `address`), as far as the installation allows that.  `picked` is a JSON list of the networks that are to be taken of the new ones; all unless said.
    """
    if request.method == "GET":
        row = plan_for(request, plan_id)
        document, _ = topology_of(looked_at(request, row).plan)
        return saved(HttpResponse(document, content_type=YANG_JSON), f"{file_name(row.name)}-topology.json")
    return _take(request, plan_id)


def _take(request: Request, plan_id: uuid.UUID) -> Response:
    row = plan_for(request, plan_id)
    base, taking = base_and_take(request)
    picked = _picked(text_of(request, "picked"))
    engine = engine_of(row)
    source = _source(request, engine.plan)
    file = request.FILES.get("file")
    if file is not None:
        data, place = file.read(), (file.name or "topology")[:80]
    elif source.address:
        data, place = fetch(source.address, limit_of(request.path)), source.address[:200]
    else:
        raise bad("a file is needed, or an address from which to fetch it", "file")
    reading = taken(engine.plan, source, read_topology(data, place), picked)
    message = f"{source.name} read: {_counted([fate.becomes for fate in reading.fates])}"
    made = None
    if taking and reading.edit:
        made = committed(commit(plan_id, request.user, reading.edit, base, message), request).data
    said = reading.to_json()
    return Response(
        {
            **said,
            "networks": said["networks"][:LISTED],
            "more": max(0, len(said["networks"]) - LISTED),
            "message": message,
            "preview": previewed(engine, reading.edit) if reading.edit and made is None else None,
            "committed": made,
        }
    )


def _source(request: Request, plan: Plan) -> Source:
    """The source as it is after this reading."""
    id, read = text_of(request, "source"), moment()
    if not id:
        takes = text_of(request, "takes") or "all"
        return new_source(plan, text_of(request, "name"), text_of(request, "address"), takes, read)
    known = plan.of("source").get(id)
    if known is None:
        raise bad("there is no such source", "source")
    return replace(known, read=read)


def _picked(text: str) -> list[str] | None:
    if not text:
        return None
    try:
        said = json.loads(text)
    except ValueError:
        raise bad("this is no JSON", "picked") from None
    if not isinstance(said, list) or not all(isinstance(one, str) for one in said):
        raise bad("a list of networks is needed", "picked")
    return said


def _counted(becomes: list[str]) -> str:
    return ", ".join(f"{n} {word}" for word, n in Counter(becomes).items()) or "no networks"

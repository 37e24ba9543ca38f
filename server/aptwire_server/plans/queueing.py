"""Queues: which processor cores of each host serve which NIC, and the settings that make it so."""

from __future__ import annotations

import io
import uuid
import zipfile

from aptwire.plan import cores
from aptwire.plan.plan import Plan
from aptwire.stress.queues import changes_to, lay_out, script, told
from django.http import HttpResponse, HttpResponseBase
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.gate import asked, bad
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.schemas import BINARY, many, ref
from aptwire_server.plans.views import asked_record, file_name, looked_at, saved

SCRIPT, ARCHIVE = "text/x-shellscript", "application/zip"


@extend_schema(responses={200: many(ref("QueueHost")), **REFUSED}, operation_id="list_queues")
@api_view(["GET"])
def queue_hosts(request: Request, plan_id: uuid.UUID) -> Response:
    """The hosts of which the plan says which processors they have, in the order of their names, each counted: how many of its NICs would be served, and how many settings differ from that."""
    plan = looked_at(request, plan_for(request, plan_id)).plan
    return Response([_counted(plan, host) for host in _known(plan)])


@extend_schema(
    parameters=[OpenApiParameter("host", str, required=True)],
    responses={200: ref("QueuePlan"), **REFUSED},
    operation_id="get_queues",
)
@api_view(["GET"])
def queue_plan(request: Request, plan_id: uuid.UUID) -> Response:
    """Which cores of a host serve which NIC: now, and as it would be laid out.  The gesture `queues` makes it so."""
    plan = looked_at(request, plan_for(request, plan_id)).plan
    return Response(told(plan, asked_record(request, plan, "host").id))


@extend_schema(
    parameters=[OpenApiParameter("host", str, description="one host; all of them unless said")],
    responses={(200, SCRIPT): BINARY, (200, ARCHIVE): BINARY, **REFUSED},
    operation_id="get_queue_scripts",
)
@api_view(["GET"])
def queue_scripts(request: Request, plan_id: uuid.UUID) -> HttpResponseBase:
    """What the plan says of queues as a shell script for Linux, of one host; or of all hosts, in an archive."""
    row = plan_for(request, plan_id)
    plan = looked_at(request, row).plan
    if asked(request, "host"):
        host = asked_record(request, plan, "host")
        return saved(HttpResponse(script(plan, host.id), content_type=SCRIPT), f"{file_name(host.name)}-queues.sh")
    hosts = _known(plan)
    if not hosts:
        raise bad("the plan says of no host which processors it has", "host")
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for n, host in enumerate(hosts, 1):
            archive.writestr(f"{n:04}-{file_name(plan.get('host', host).name)}.sh", script(plan, host))
    return saved(HttpResponse(made.getvalue(), content_type=ARCHIVE), f"{file_name(row.name)}-queues.zip")


def _known(plan: Plan) -> list[str]:
    """The hosts (ids) whose processors are known, by name."""
    return sorted({node.host for node in plan.all("numa_node")}, key=lambda host: str(plan.get("host", host).name))


def _counted(plan: Plan, host: str) -> dict[str, object]:
    nodes, laid = plan.where("numa_node", "host", host), lay_out(plan, host)
    return {
        "host": host,
        "name": plan.get("host", host).name,
        "nodes": len(nodes),
        "cores": sum(len(cores.cores(node.cores)) for node in nodes),
        "nics": len(plan.where("nic", "host", host)),
        "served": len(laid.serves),
        "changes": len(list(changes_to(plan, laid))),
    }

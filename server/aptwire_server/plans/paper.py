"""What people take along: sheets and the hand-over report, each a file to be saved."""

from __future__ import annotations

import json
import uuid

from aptwire.above.ping import ping
from aptwire.judge.alone import alone
from aptwire.paper.capture import capture
from aptwire.paper.decks import MOST_HOSTS, decks_svg
from aptwire.paper.drawing import strand_svg
from aptwire.paper.handover import handover
from aptwire.paper.sheets import to_csv, to_xlsx
from aptwire.paper.tables import SHEETS, joined
from aptwire.paper.validation import validation, validation_html
from aptwire.plan.filters import read_packet
from django.http import HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.request import Request

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.gate import asked, bad
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.models import BenchRun, PlanRow
from aptwire_server.plans.schemas import ANY, BINARY
from aptwire_server.plans.views import asked_end, asked_record, file_name, looked_at, saved

CAPTURE = "application/x-pcapng"
WORKBOOK = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"


@extend_schema(
    parameters=[
        OpenApiParameter("of", str, required=True, enum=list(SHEETS)),
        OpenApiParameter("form", str, enum=["csv", "xlsx"], description="csv unless said"),
    ],
    responses={(200, "text/csv"): BINARY, (200, WORKBOOK): BINARY, **REFUSED},
    operation_id="get_sheet",
)
@api_view(["GET"])
def sheet(request: Request, plan_id: uuid.UUID) -> HttpResponseBase:
    """A sheet of a plan for a spreadsheet: segments, the wiring schedule, the ports of each switch, guests, or where everything lands."""
    row = plan_for(request, plan_id)
    which, form = asked(request, "of"), asked(request, "form", "csv")
    if which not in SHEETS:
        raise bad(f"one of {', '.join(SHEETS)} is needed", "of")
    if form not in ("csv", "xlsx"):
        raise bad("csv or xlsx is needed", "form")
    sheets = SHEETS[which](looked_at(request, row).judgement())
    if form == "csv":
        response = HttpResponse(to_csv(joined(sheets)), content_type="text/csv; charset=utf-8")
    else:
        response = HttpResponse(to_xlsx(sheets or [joined(sheets)]), content_type=WORKBOOK)
    return saved(response, f"{file_name(row.name)}-{which}.{form}")


@extend_schema(responses={(200, "text/html"): BINARY, **REFUSED}, operation_id="get_report")
@api_view(["GET"])
def report(request: Request, plan_id: uuid.UUID) -> HttpResponseBase:
    """The hand-over report of a plan: one HTML file that needs nothing else and prints well."""
    row = plan_for(request, plan_id)
    judgement = looked_at(request, row).judgement()
    response = StreamingHttpResponse(handover(judgement, timezone.localdate()), content_type="text/html; charset=utf-8")
    return saved(response, f"{file_name(row.name)}-report.html")


@extend_schema(
    parameters=[OpenApiParameter("form", str, enum=["html", "json"], description="html unless said")],
    responses={(200, "text/html"): BINARY, (200, "application/json"): ANY, **REFUSED},
    operation_id="get_validation",
)
@api_view(["GET"])
def validated(request: Request, plan_id: uuid.UUID) -> HttpResponseBase:
    """The validation report of a plan, with its evidence and what the kernel was last asked of it; `./run recheck` verifies it against the plan's file."""
    row = plan_for(request, plan_id)
    form = asked(request, "form", "html")
    if form not in ("html", "json"):
        raise bad("html or json is needed", "form")
    judgement = looked_at(request, row).judgement()
    made = validation(judgement, timezone.localtime(), _proved(row))
    if form == "json":
        response: HttpResponseBase = HttpResponse(json.dumps(made, ensure_ascii=False), content_type="application/json")
    else:
        response = StreamingHttpResponse(validation_html(judgement, made), content_type="text/html; charset=utf-8")
    return saved(response, f"{file_name(row.name)}-validation.{form}")


def _proved(row: PlanRow) -> list[str]:
    """The latest run of the bench that ended well, in a sentence."""
    run = BenchRun.objects.filter(plan=row, state="done").order_by("-number").first()
    if run is None or run.report is None or run.ended is None:
        return []
    told = {name: run.report[name] for name in ("asked", "agreed", "differed")}
    when = timezone.localtime(run.ended).isoformat(timespec="minutes").replace("T", " ")
    return [
        f"{when}: of revision {run.revision}, {told['asked']:,} questions were put to a kernel; {told['agreed']:,} agreed, {told['differed']:,} differed."
    ]


@extend_schema(
    parameters=[
        OpenApiParameter("a", str, required=True),
        OpenApiParameter("b", str, required=True),
        OpenApiParameter("on", str, description="tcp/PORT or udp/PORT: a connection in place of a ping"),
    ],
    responses={(200, CAPTURE): BINARY, **REFUSED},
    operation_id="get_ping_frames",
)
@api_view(["GET"])
def ping_frames(request: Request, plan_id: uuid.UUID) -> HttpResponseBase:
    """The frames of a ping's question and answer at every place on their way, as pcapng; what a and b may be: as for the ping itself."""
    row = plan_for(request, plan_id)
    judgement = looked_at(request, row).judgement()
    a, b = (asked_end(judgement.plan, asked(request, name), name) for name in ("a", "b"))
    packet = read_packet(asked(request, "on"))
    response = HttpResponse(capture(judgement.plan, ping(judgement, a, b, packet=packet), packet), content_type=CAPTURE)
    return saved(response, f"{file_name(row.name)}-ping.pcapng")


@extend_schema(
    parameters=[OpenApiParameter("segment", str, required=True)],
    responses={(200, "image/svg+xml"): BINARY, **REFUSED},
    operation_id="get_strand_drawing",
)
@api_view(["GET"])
def strand_drawing(request: Request, plan_id: uuid.UUID) -> HttpResponseBase:
    """A segment alone as a drawing (SVG)."""
    row = plan_for(request, plan_id)
    judgement = looked_at(request, row).judgement()
    segment = asked_record(request, judgement.plan, "segment")
    drawing = strand_svg(judgement.plan, alone(judgement, segment), f"{segment.name} alone")
    response = HttpResponse(drawing, content_type="image/svg+xml; charset=utf-8")
    return saved(response, f"{file_name(row.name)}-{file_name(segment.name)}.svg")


@extend_schema(
    parameters=[
        OpenApiParameter(
            "host", {"type": "array", "items": {"type": "string"}}, description="their ids; all unless said"
        )
    ],
    responses={(200, "image/svg+xml"): BINARY, **REFUSED},
    operation_id="get_decks_drawing",
)
@api_view(["GET"])
def decks_drawing(request: Request, plan_id: uuid.UUID) -> HttpResponseBase:
    """Hosts in cross-section as a drawing (SVG)."""
    row = plan_for(request, plan_id)
    judgement = looked_at(request, row).judgement()
    known = judgement.plan.of("host")
    asked = request.query_params.getlist("host")
    unknown = [id for id in asked if id not in known]
    if unknown:
        raise bad(f"there is no host “{unknown[0][:80]}”", "host")
    chosen = [known[id] for id in dict.fromkeys(asked or known)]
    if len(chosen) > MOST_HOSTS:
        raise bad(f"{len(chosen)} hosts are too many for a drawing; {MOST_HOSTS} are the most", "host")
    response = HttpResponse(decks_svg(judgement, chosen, row.name), content_type="image/svg+xml; charset=utf-8")
    return saved(response, f"{file_name(row.name)}-decks.svg")

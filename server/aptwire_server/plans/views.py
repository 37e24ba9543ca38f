"""The API: each view reads its input, calls the core, and answers what it says."""

from __future__ import annotations

import gzip
import uuid
from typing import Any
from urllib.parse import urlencode

from aptwire.above.ping import end_of, ping
from aptwire.above.room import told_size
from aptwire.forward.strand import strand as strand_of
from aptwire.forward.trace import find_place
from aptwire.forward.trace import trace as trace_frame
from aptwire.judge.alone import alone
from aptwire.judge.findings import proof
from aptwire.judge.mends import brought
from aptwire.judge.need import needs
from aptwire.judge.preview import moves, shut_down
from aptwire.plan.edits import Edit, edit_from_json, edit_to_json
from aptwire.plan.file import plan_text
from aptwire.plan.filters import read_packet
from aptwire.plan.kinds import KINDS
from aptwire.plan.names import called
from aptwire.plan.plan import Plan, PlanError
from aptwire.report import brief
from django.http import HttpResponse, HttpResponseBase
from django.utils.cache import patch_vary_headers
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.exceptions import NotFound
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans import schemas
from aptwire_server.plans.access import plan_for
from aptwire_server.plans.branches import follow
from aptwire_server.plans.changes import changes_since, steps_of, within
from aptwire_server.plans.commits import Committed, commit, note_counts, revision_json, step
from aptwire_server.plans.engine import Engine, engine_at, engine_of, turn
from aptwire_server.plans.gate import asked, bad, body_of, number_asked
from aptwire_server.plans.listing import NAME_SCHEMA, REFUSED, item_of, name_of, put_into_bin, rename
from aptwire_server.plans.models import PlanRow, Revision
from aptwire_server.plans.pages import FIRST, MOST_MOVES, PAGE, beginnings, landed, page, told_moves
from aptwire_server.plans.schemas import TEXT, body, bounded, many, obj, ref

CONFLICT = {**REFUSED, 409: ref("Refusal")}
MOST_PREVIEWS = 64
COUNT = bounded(0, 999_999_999)
MOST_RISKS = 5


def _engine(request: Request, plan_id: uuid.UUID) -> Engine:
    return looked_at(request, plan_for(request, plan_id))


def looked_at(request: Request, row: PlanRow) -> Engine:
    """The engine of what a request looks at: the plan as it is, or (`at`) as it was at an earlier revision."""
    return engine_at(row, number_asked(request, "at")) if "at" in request.query_params else engine_of(row)


@extend_schema(methods=["GET"], responses={200: ref("Snapshot")}, operation_id="get_plan")
@extend_schema(
    methods=["PATCH"],
    request=body(name=NAME_SCHEMA),
    responses={200: ref("PlanItem"), **REFUSED},
    operation_id="rename_plan",
)
@extend_schema(methods=["DELETE"], responses={200: ref("PlanItem")}, operation_id="delete_plan")
@api_view(["GET", "PATCH", "DELETE"])
def plan(request: Request, plan_id: uuid.UUID) -> Response:
    """A plan's head: how many records of each kind there are, counts, findings, and what can be undone; or give it another name, or put it
    into the bin, where it waits for 30 days."""
    row = plan_for(request, plan_id)
    if request.method == "PATCH":
        rename(row, request.user, name_of(body_of(request, name=str)["name"]))
        return Response(item_of(row))
    if request.method == "DELETE":
        put_into_bin(row, request.user)
        return Response(item_of(row))
    if "at" not in request.query_params:
        follow(row)
    engine = looked_at(request, row)
    if engine.revision == row.revision != row.counted:
        note_counts(plan_id, engine)
    return Response(
        {
            "id": str(plan_id),
            "name": row.name,
            "draft_of": row.of_id and str(row.of_id),
            "revision": engine.revision,
            "size": {kind: len(engine.plan.of(kind)) for kind in KINDS},
            "pages": beginnings(engine),
            "summary": engine.summary(),
            "steps": steps_of(plan_id, request.user),
        }
    )


@extend_schema(
    parameters=[
        OpenApiParameter("after", str, description="the cursor of the page before; the first page unless said")
    ],
    responses={200: ref("Page"), **REFUSED},
    operation_id="get_page",
)
@api_view(["GET"])
def plan_page(request: Request, plan_id: uuid.UUID) -> HttpResponse:
    """One page of a plan's records and, after them, of its endpoints, and a Link header (RFC 8288) to the next.

    Pages with one ETag (the revision) make the whole plan.
    """
    cursor = asked(request, "after", FIRST)
    row = plan_for(request, plan_id)
    # A draft, or a revision of before, is opened by few.
    keep = row.of_id is None and "at" not in request.query_params
    engine = looked_at(request, row)
    written = page(engine, cursor, keep)
    taken = "gzip" in request.headers.get("Accept-Encoding", "")
    text = written.packed if taken else gzip.decompress(written.packed)
    response = HttpResponse(text, content_type="application/json")
    if taken:
        response["Content-Encoding"] = "gzip"
    patch_vary_headers(response, ["Accept-Encoding"])
    return _one_of_many(request, response, engine, "after", written.following)


@extend_schema(
    parameters=[OpenApiParameter("from", COUNT, description="the record with which this part begins; 0 unless said")],
    responses={
        (200, "application/json"): schemas.ANY,
        (200, "application/octet-stream"): {"type": "string", "format": "binary"},
        **REFUSED,
    },
    operation_id="export_plan",
)
@api_view(["GET"])
def export_plan(request: Request, plan_id: uuid.UUID) -> HttpResponse:
    """The plan file; of a large plan its first part, and a Link header (RFC 8288) to the next.

    Parts with one ETag (the revision) make the file; one by itself is no JSON, and doesn't say that it is.
    """
    row = plan_for(request, plan_id)
    engine = looked_at(request, row)
    first = number_asked(request, "from")
    text, following = plan_text(engine.plan.named(row.name), first, PAGE, engine.ids)
    whole = first == 0 and following is None
    response = HttpResponse(text, content_type="application/json" if whole else "application/octet-stream")
    response["Content-Disposition"] = f'attachment; filename="{file_name(row.name)}.json"'
    return _one_of_many(request, response, engine, "from", following)


def _one_of_many(
    request: Request, response: HttpResponse, engine: Engine, name: str, following: str | int | None
) -> HttpResponse:
    """A part of a plan, with the revision of which it is, and where the next part is."""
    response["ETag"] = f'"{engine.revision}"'
    if following is not None:
        query = urlencode({**request.query_params.dict(), name: following})
        response["Link"] = f'<{request.path}?{query}>; rel="next"'
    return response


def file_name(name: str) -> str:
    """A plan's name as that of a file."""
    return "".join(c if c.isascii() and c.isalnum() else "-" for c in name).strip("-") or "plan"


def saved(response: HttpResponseBase, name: str) -> HttpResponseBase:
    """An answer that a browser saves as a file of this name."""
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


def committed(made: Committed, request: Request) -> Response:
    """What is answered once an edit is on disk."""
    return Response(
        {
            "revision": made.revision.number,
            "message": made.revision.message,
            "edit": within(made.revision.edit),
            **told_moves(moves(made.before.judgement(), made.after.judgement()), made.after.plan),
            "summary": made.after.summary_for(made.before, number_asked(request, "known")),
            "landed": landed(made.after, made.before.revision),
            "steps": steps_of(made.revision.plan.pk, request.user),
        }
    )


KNOWN = OpenApiParameter(
    "known",
    COUNT,
    description="a revision of which all findings are known: of one that stands as it did there the summary has the id alone",
)


@extend_schema(
    parameters=[KNOWN],
    request=body(base=bounded(0), message=TEXT, edit=ref("Edit")),
    responses={200: ref("Committed"), **CONFLICT},
    operation_id="make_edit",
)
@api_view(["POST"])
def edits(request: Request, plan_id: uuid.UUID) -> Response:
    """Make an edit against a base revision.

    409 when records that it touches were changed since: nothing is written, and the answer tells by whom.
    """
    said = body_of(request, base=int, message=str, edit=list)
    plan_for(request, plan_id)
    edit = edit_from_json(said["edit"])
    if not edit:
        raise bad("the edit is empty", "edit")
    with turn(plan_id):
        return committed(commit(plan_id, request.user, edit, said["base"], said["message"] or "Edit"), request)


@extend_schema(parameters=[KNOWN], request=None, responses={200: ref("Committed"), **CONFLICT}, operation_id="undo")
@api_view(["POST"])
def undo(request: Request, plan_id: uuid.UUID) -> Response:
    """Take back your latest edit."""
    return _step(plan_id, request, "undo")


@extend_schema(parameters=[KNOWN], request=None, responses={200: ref("Committed"), **CONFLICT}, operation_id="redo")
@api_view(["POST"])
def redo(request: Request, plan_id: uuid.UUID) -> Response:
    """Make your latest undone edit again."""
    return _step(plan_id, request, "redo")


def _step(plan_id: uuid.UUID, request: Request, how: str) -> Response:
    plan_for(request, plan_id)
    with turn(plan_id):
        made = step(plan_id, request.user, how)
        if made is None:
            raise bad(f"there is nothing of yours to {how}")
        return committed(made, request)


SINCE = OpenApiParameter("since", COUNT, description="only what came after this revision")


@extend_schema(parameters=[SINCE], responses={200: many(ref("Revision")), **REFUSED}, operation_id="list_revisions")
@api_view(["GET"])
def revisions(request: Request, plan_id: uuid.UUID) -> Response:
    """The revisions, newest first, 200 at the most."""
    plan_for(request, plan_id)
    found = (
        Revision.objects.filter(plan_id=plan_id, number__gt=number_asked(request, "since"))
        .select_related("author")
        .defer("edit", "inverse")
    )
    return Response([revision_json(r) for r in found.order_by("-number")[:200]])


@extend_schema(parameters=[SINCE], responses={200: ref("Changes"), **REFUSED}, operation_id="list_changes")
@api_view(["GET"])
def changes(request: Request, plan_id: uuid.UUID) -> Response:
    """The edits after a revision in order, and the verdicts that they lead to."""
    told, _ = changes_since(_engine(request, plan_id), plan_id, number_asked(request, "since"))
    return Response({**told, "steps": steps_of(plan_id, request.user)})


@extend_schema(responses={200: ref("Summary")}, operation_id="get_verdicts")
@api_view(["GET"])
def verdicts(request: Request, plan_id: uuid.UUID) -> Response:
    """Counts and findings."""
    return Response(_engine(request, plan_id).summary())


@extend_schema(responses={200: ref("FindingDetail"), 404: ref("Refusal")}, operation_id="get_finding")
@api_view(["GET"])
def finding(request: Request, plan_id: uuid.UUID, finding_id: str) -> Response:
    """A finding with its proof and its mends."""
    engine = _engine(request, plan_id)
    found = engine.findings().get(finding_id)
    if found is None:
        raise NotFound("This finding is no longer there.")
    judgement = engine.judgement()
    return Response(
        {
            "finding": brief(found, judgement),
            "proof": [t.to_json() for t in proof(judgement, found)],
            "mends": [
                {
                    "title": m.title,
                    "edit": edit_to_json(m.edit),
                    **told_moves(m.preview.moves, m.preview.plan, 500),
                    "risks": m.brings[:MOST_RISKS],
                    "shut_down": _shut_down(judgement.plan, m.preview.plan, m.edit),
                }
                for m in engine.mends(found)
            ],
        }
    )


@extend_schema(
    request=body(edits={**many(ref("Edit")), "maxItems": MOST_PREVIEWS}),
    responses={200: many(ref("PreviewResult")), **REFUSED},
    operation_id="preview_edits",
)
@api_view(["POST"])
def preview_edits(request: Request, plan_id: uuid.UUID) -> Response:
    """What each of some edits would change, nothing saved; an edit that can't be made says why."""
    edits = body_of(request, edits=list)["edits"]
    if len(edits) > MOST_PREVIEWS:
        raise bad(f"{len(edits)} edits at once; {MOST_PREVIEWS} is the most", "edits")
    engine = _engine(request, plan_id)
    made: list[dict[str, Any]] = []
    for item in edits:
        try:
            # A choice among many is about verdicts; the one edit that is being typed tells its risks too.
            made.append(previewed(engine, edit_from_json(item), max(20, MOST_MOVES // len(edits)), len(edits) == 1))
        except PlanError as error:
            problems = [p.to_json() for p in error.problems]
            made.append({"counts": None, "moves": [], "tally": [], "problems": problems, "risks": [], "shut_down": []})
    return Response(made)


def previewed(engine: Engine, edit: Edit, most: int = MOST_MOVES, risky: bool = True) -> dict[str, Any]:
    """What an edit would change, as PreviewResult has it: `most` moves, and the risks that it would bring (`risky`); PlanError where it can't be made."""
    judgement, seen = engine.judgement(), engine.preview(edit)
    return {
        "counts": seen.judgement.counts(),
        **told_moves(seen.moves, seen.plan, most),
        "problems": [],
        "risks": (brought(engine.known_risks(), seen.judgement) if risky else ())[:MOST_RISKS],
        "shut_down": _shut_down(judgement.plan, seen.plan, edit),
    }


def _shut_down(before: Plan, after: Plan, edit: Edit) -> list[str]:
    """The names of the guests that have to be shut down for an edit."""
    return [after.get("guest", g).name for g in shut_down(before, after, edit)[:MOST_RISKS]]


@extend_schema(
    parameters=[OpenApiParameter("a", str, required=True), OpenApiParameter("b", str, required=True)],
    responses={200: obj(there=ref("Trace"), back=ref("Trace")), **REFUSED},
    operation_id="get_trace",
)
@api_view(["GET"])
def trace(request: Request, plan_id: uuid.UUID) -> Response:
    """A frame's way from a to b and back (host/tap, host/tap|tag, or a record's id)."""
    wiring = _engine(request, plan_id).judgement().wiring
    try:
        a, b = (find_place(wiring, asked(request, name)) for name in ("a", "b"))
    except ValueError as error:
        raise bad(str(error)) from None
    return Response({"there": trace_frame(wiring, a, b).to_json(), "back": trace_frame(wiring, b, a).to_json()})


@extend_schema(
    parameters=[
        OpenApiParameter("a", str, required=True),
        OpenApiParameter("b", str, required=True),
        OpenApiParameter("on", str, description="tcp/PORT or udp/PORT: a connection in place of a ping"),
    ],
    responses={200: ref("Ping"), **REFUSED},
    operation_id="get_ping",
)
@api_view(["GET"])
def get_ping(request: Request, plan_id: uuid.UUID) -> Response:
    """Whether b answers a ping from a: a guest, station, host, host/tap, or a record's id; b may be an address.  `size` says how large packets get there and back."""
    judgement = _engine(request, plan_id).judgement()
    a, b = (asked_end(judgement.plan, asked(request, name), name) for name in ("a", "b"))
    found = ping(judgement, a, b, packet=read_packet(asked(request, "on")))
    return Response({**found.to_json(), "size": told_size(judgement.wiring, found)})


@extend_schema(
    responses={200: obj(leases=many(ref("Lease")), leases6=many(ref("Lease")), formed=many(ref("Formed"))), **REFUSED},
    operation_id="list_leases",
)
@api_view(["GET"])
def list_leases(request: Request, plan_id: uuid.UUID) -> Response:
    """What each interface that asks for a lease of IPv4 or IPv6 gets, and what each hears of what is advertised, and forms of it: in a few words, from whom, why not, and every offer made to it, or
    advertisement on its link, heard or not."""
    judgement = _engine(request, plan_id).judgement()
    plan = judgement.plan
    told = (
        [
            {
                "record": id,
                "name": called(plan, plan.find(id)),
                "got": got.got,
                "got_from": got.by(plan),
                **got.to_json(),
            }
            for id, got in sorted(of.items())
        ]
        for of in judgement.got
    )
    return Response(dict(zip(("leases", "leases6", "formed"), told, strict=True)))


def asked_end(plan: Plan, text: str, name: str) -> str:
    """Whom a parameter means by a name or an address; an error that names the parameter where nobody is."""
    try:
        return end_of(plan, text)
    except PlanError as error:
        raise bad(error.problems[0].message, name) from None


def asked_record(request: Request, plan: Plan, kind: str) -> Any:
    """The record of a kind that the query names by that kind; PlanError where there is none."""
    record = plan.of(kind).get(asked(request, kind))
    if record is None:
        raise bad(f"there is no such {kind.replace('_', ' ')}", kind)
    return record


@extend_schema(
    parameters=[OpenApiParameter("segment", str, required=True)],
    responses={200: many(ref("Piece")), **REFUSED},
    operation_id="get_strand",
)
@api_view(["GET"])
def strand(request: Request, plan_id: uuid.UUID) -> Response:
    """A segment's way through everything."""
    judgement = _engine(request, plan_id).judgement()
    segment = asked_record(request, judgement.plan, "segment")
    return Response([piece.to_json() for piece in strand_of(judgement.wiring, segment)])


@extend_schema(
    parameters=[OpenApiParameter("segment", str, required=True)],
    responses={200: obj(knots=many(ref("Knot")), beyond=many(ref("Ear"))), **REFUSED},
    operation_id="get_segment_alone",
)
@api_view(["GET"])
def segment_alone(request: Request, plan_id: uuid.UUID) -> Response:
    """A segment's strand as a tree, line by line from the top, with every break and every place where it could be overheard; `beyond` are those that are on no line."""
    judgement = _engine(request, plan_id).judgement()
    segment = asked_record(request, judgement.plan, "segment")
    return Response(alone(judgement, segment).to_json())


@extend_schema(
    parameters=[OpenApiParameter("cable", str, required=True)],
    responses={200: many(ref("Carried")), **REFUSED},
    operation_id="get_cable_alone",
)
@api_view(["GET"])
def cable_alone(request: Request, plan_id: uuid.UUID) -> Response:
    """What a cable carries, by tag: who needs it, and how many places’ broadcasts a tap would read."""
    judgement = _engine(request, plan_id).judgement()
    cable = asked_record(request, judgement.plan, "cable")
    return Response([row.to_json() for row in needs(judgement).carried(cable)])


@extend_schema(responses={200: ref("Teams"), **REFUSED}, operation_id="get_teams")
@api_view(["GET"])
def teams(request: Request, plan_id: uuid.UUID) -> Response:
    """The members of each uplink in the order in which they would carry, who carries today, and how far each switch reaches."""
    return Response({name: said for name, said in _engine(request, plan_id).answers().items() if name != "could"})


@extend_schema(responses={200: ref("Could"), **REFUSED}, operation_id="get_could")
@api_view(["GET"])
def could(request: Request, plan_id: uuid.UUID) -> Response:
    """The segments that each adapter could hear or reach by sending what it isn’t meant to; who could none is left out."""
    return Response(_engine(request, plan_id).answers()["could"])


@extend_schema(responses={200: ref("Lattice"), **REFUSED}, operation_id="get_lattice")
@api_view(["GET"])
def segments_by_hosts(request: Request, plan_id: uuid.UUID) -> Response:
    """How each host stands to each segment, a letter each: offered there and carried over every way (c), over some (s), over none that is known (u), over none (x), or without
    a way out (l); not offered, and carried over every way (r), some (q), none (.). A capital or - is a host that is off a pattern there."""
    found = _engine(request, plan_id).lattice()
    return Response({"hosts": found.hosts, "rows": found.rows})


@extend_schema(responses={200: ref("Tree"), **REFUSED}, operation_id="get_tree")
@api_view(["GET"])
def tree(request: Request, plan_id: uuid.UUID) -> Response:
    """The spanning tree: the root of each switch that takes part, its cost to it, and the cables that are blocked, with the
    switch that blocks them."""
    fabric = _engine(request, plan_id).judgement().wiring.fabric
    blocked = {
        c: fabric.tree.blocked[j.key] for j in fabric.joints.values() if j.key in fabric.tree.blocked for c in j.cables
    }
    return Response({"roots": fabric.tree.roots, "cost": fabric.tree.cost, "blocked": blocked})

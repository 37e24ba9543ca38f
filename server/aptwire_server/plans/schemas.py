"""The shapes of requests and answers for OpenAPI; record kinds come from the plan file's own JSON Schema."""

from __future__ import annotations

from typing import Any

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN, WAVERS
from aptwire.formats.elsewhere import BECOMES
from aptwire.judge.formed import FORMINGS
from aptwire.judge.lease import LEASES
from aptwire.judge.risks import GRAVITY as RISKS
from aptwire.judge.why import VERDICTS
from aptwire.moving.faults import FARES
from aptwire.plan.file import schema as plan_schema
from aptwire.plan.kinds import KINDS
from aptwire.rules.answer import OUTCOMES

Schema = dict[str, Any]
TEXT: Schema = {"type": "string"}
NUMBER: Schema = {"type": "integer"}
DECIMAL: Schema = {"type": "number"}
FLAG: Schema = {"type": "boolean"}
ANY: Schema = {"type": "object", "additionalProperties": True}
BINARY: Schema = {"type": "string", "format": "binary"}


SCOPE = {"pulls": (0, 100), "sample": (0, 100_000), "seed": (0, 1_000_000)}
"""How much a run of the bench asks: the bounds of each number."""


def bounded(low: int, high: int | None = None) -> Schema:
    """A whole number within bounds."""
    return {**NUMBER, "minimum": low, **({} if high is None else {"maximum": high})}


def obj(**properties: Schema) -> Schema:
    """An object with these properties, all required."""
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}


def body(**properties: Schema) -> dict[str, Schema]:
    """A request's JSON object."""
    return {"application/json": obj(**properties)}


def choice(*words: str) -> Schema:
    """One of some words."""
    return {"type": "string", "enum": list(words)}


def many(item: Schema) -> Schema:
    """A list."""
    return {"type": "array", "items": item}


def ref(name: str) -> Schema:
    """A named component."""
    return {"$ref": f"#/components/schemas/{name}"}


def maybe(inner: Schema) -> Schema:
    """The schema, or null."""
    return {"oneOf": [inner, {"type": "null"}]} if "$ref" in inner else {**inner, "type": [inner["type"], "null"]}


VERDICT: Schema = choice(*VERDICTS)
FARING: Schema = choice(*FARES)
PINGED: Schema = choice(ANSWERED, WAVERS, SILENT, UNPROVEN)
KIND: Schema = choice(*KINDS)
GESTURE: Schema = {
    "type": "string",
    "enum": [
        "renumber",
        "exchange",
        "move-guests",
        "clear-host",
        "everywhere",
        "at-port",
        "bubble",
        "burst",
        "shield",
        "own-nics",
        "queues",
        "routing",
        "offer",
        "prune",
        "split-off",
        "spread",
        "make-pattern",
        "stamp",
        "unstamp",
        "adopt",
        "keep",
        "take-out",
        "remove-pattern",
        "accept",
        "mend-all",
    ],
}
GRAVITY: Schema = choice(*VERDICTS, *RISKS)
MAYBE_VERDICT: Schema = {"oneOf": [VERDICT, {"type": "null"}]}


def components() -> dict[str, Schema]:
    """Every named component."""
    defs = plan_schema()["$defs"]
    step = obj(number=NUMBER, message=TEXT)
    tag = obj(
        record=TEXT,
        tag=TEXT,
        belongs=maybe(TEXT),
        lands_vid=maybe(NUMBER),
        lands=maybe(TEXT),
        addresses=many(TEXT),
        verdict=VERDICT,
        state=TEXT,
        got=TEXT,
        got_from=TEXT,
    )
    hop = obj(records=many(TEXT), where=TEXT, before=TEXT, after=TEXT, rule=TEXT, outcome=TEXT, reason=TEXT)
    counts = {"type": "object", "additionalProperties": NUMBER}
    summed = {"counts": counts, "more": NUMBER, "off": many(TEXT)}
    # One that stands as it did where it is known: its id.
    changed = {"oneOf": [ref("Finding"), TEXT]}
    fares = {"outcome": choice(*OUTCOMES), "text": TEXT, "a": TEXT, "b": TEXT, "state": TEXT}
    changes: dict[str, Schema] = {
        "revision": NUMBER,
        "last": maybe(ref("Revision")),
        "edits": maybe(many(obj(number=NUMBER, author=maybe(TEXT), edit=ref("Edit")))),
        "summary": ref("Summary"),
        "landed": maybe(many(ref("Endpoint"))),
    }
    # Any value, or values said once and the place of each item's own in them.
    column = {"oneOf": [{"type": "array", "items": {}}, obj(values={"type": "array", "items": {}}, at=many(NUMBER))]}
    rows = {"count": NUMBER, "fields": {"type": "object", "additionalProperties": column}}
    return {
        **{f"record_{kind}": {k: v for k, v in defs[kind].items() if k != "title"} for kind in KINDS},
        "Records": {
            "type": "object",
            "properties": {kind: many(ref(f"record_{kind}")) for kind in KINDS},
            "required": list(KINDS),
            "additionalProperties": False,
        },
        "Operation": {
            "type": "object",
            "required": ["op", "kind"],
            "properties": {
                "op": {"type": "string", "enum": ["put", "patch", "drop"]},
                "kind": KIND,
                "id": TEXT,
                "record": ANY,
                "set": ANY,
            },
            "additionalProperties": False,
        },
        "Edit": many(ref("Operation")),
        "Session": obj(user=maybe(TEXT)),
        "Problem": obj(message=TEXT, kind=TEXT, id=TEXT, field=TEXT, place=TEXT, text=TEXT),
        "Refusal": {
            "type": "object",
            "required": ["detail"],
            "properties": {
                "detail": TEXT,
                "problems": many(ref("Problem")),
                "changes": many(ref("Revision")),
            },
            "additionalProperties": False,
        },
        "PlanItem": obj(
            id=TEXT,
            name=TEXT,
            draft_of=maybe(TEXT),
            revision=NUMBER,
            changed=TEXT,
            changed_by=maybe(TEXT),
            hosts=NUMBER,
            guests=NUMBER,
            counts=maybe(counts),
            binned=maybe(TEXT),
            binned_by=maybe(TEXT),
            kept_until=maybe(TEXT),
        ),
        "Note": obj(what=TEXT, about=TEXT, text=TEXT),
        "Reading": obj(
            report=many(ref("Note")),
            records={"type": "object", "additionalProperties": NUMBER},
            summary=ref("Summary"),
            plan=maybe(ref("PlanItem")),
        ),
        "Tag": tag,
        "Endpoint": obj(
            id=TEXT,
            kind=TEXT,
            key=TEXT,
            host=TEXT,
            name=TEXT,
            verdict=VERDICT,
            idle=FLAG,
            tags=many(ref("Tag")),
        ),
        "Finding": obj(
            id=TEXT,
            verdict=GRAVITY,
            what=TEXT,
            title=TEXT,
            text=TEXT,
            endpoints=many(TEXT),
            count=NUMBER,
            segment=maybe(TEXT),
            culprit=many(TEXT),
            state=TEXT,
            idle=FLAG,
            acceptance=maybe(ref("Accepted")),
        ),
        "Accepted": obj(id=TEXT, by=TEXT, why=TEXT, until=maybe(TEXT), over=TEXT),
        "Summary": obj(**summed, findings=many(ref("Finding")), accepted=many(ref("Finding"))),
        "SummaryChange": obj(**summed, findings=many(changed), accepted=many(changed)),
        "Hop": hop,
        "Teams": obj(
            members={"type": "object", "additionalProperties": many(TEXT)},
            carries={"type": "object", "additionalProperties": TEXT},
            reach={"type": "object", "additionalProperties": {"enum": ["wired", "host-local", "sealed"]}},
        ),
        "AnswersChange": obj(
            members={"type": "object", "additionalProperties": maybe(many(TEXT))},
            carries={"type": "object", "additionalProperties": maybe(TEXT)},
            reach={"type": "object", "additionalProperties": {"enum": ["wired", "host-local", "sealed", None]}},
            could={"type": "object", "additionalProperties": maybe(many(TEXT))},
        ),
        "Could": {"type": "object", "additionalProperties": many(TEXT)},
        "Trace": obj(delivered=FLAG, state=TEXT, hops=many(ref("Hop"))),
        "Leg": obj(
            out=TEXT, address=TEXT, to=maybe(TEXT), by=TEXT, outcome=PINGED, reason=TEXT, trace=maybe(ref("Trace"))
        ),
        "Hidden": obj(owner=TEXT, at=TEXT, source=TEXT, shown=TEXT),
        "Turned": obj(owner=TEXT, at=TEXT, asked=TEXT, to=TEXT, port=NUMBER, after=NUMBER),
        "Way": obj(
            source=TEXT,
            target=TEXT,
            legs=many(ref("Leg")),
            outcome=PINGED,
            reason=TEXT,
            stopped=TEXT,
            hidden=many(ref("Hidden")),
            turned=many(ref("Turned")),
        ),
        "Lease": obj(
            record=TEXT,
            name=TEXT,
            outcome=choice(*LEASES, UNPROVEN, WAVERS),
            got=TEXT,
            got_from=TEXT,
            reason=TEXT,
            offers=many(ref("Offer")),
        ),
        "Formed": obj(
            record=TEXT,
            name=TEXT,
            outcome=choice(*FORMINGS, UNPROVEN, WAVERS),
            got=TEXT,
            got_from=TEXT,
            reason=TEXT,
            adverts=many(ref("Advert")),
        ),
        "Advert": obj(
            by=TEXT, at=TEXT, outcome=PINGED, reason=TEXT, prefixes=many(TEXT), on_link=many(TEXT), router=FLAG
        ),
        "Offer": obj(
            server=TEXT,
            at=TEXT,
            relay=TEXT,
            scope=TEXT,
            subnet=TEXT,
            address=TEXT,
            pool=many(TEXT),
            gateways=many(TEXT),
            outcome=PINGED,
            reason=TEXT,
        ),
        "Ping": obj(
            source=TEXT,
            target=TEXT,
            outcome=PINGED,
            sentence=TEXT,
            size=TEXT,
            ways=many(ref("Way")),
            elsewhere=many(obj(state=TEXT, outcome=PINGED, reason=TEXT)),
        ),
        "RuleTold": obj(id=TEXT, rule=TEXT, finding=maybe(TEXT), **fares),
        "RuleRead": obj(
            words=many(obj(start=NUMBER, end=NUMBER, sort={"type": "string", "enum": ["word", "name", "number"]})),
            could=many(TEXT),
            names=FLAG,
            fault=maybe(obj(start=NUMBER, end=NUMBER, message=TEXT, could=many(TEXT), names=FLAG)),
            told=maybe(obj(**fares)),
        ),
        "Move": obj(endpoint=TEXT, before=MAYBE_VERDICT, after=MAYBE_VERDICT, name=maybe(TEXT)),
        "Tally": obj(before=MAYBE_VERDICT, after=MAYBE_VERDICT, count=NUMBER),
        "Mend": obj(
            title=TEXT,
            edit=ref("Edit"),
            moves=many(ref("Move")),
            tally=many(ref("Tally")),
            risks=many(TEXT),
            shut_down=many(TEXT),
        ),
        "FindingDetail": obj(finding=ref("Finding"), proof=many(ref("Trace")), mends=many(ref("Mend"))),
        "Mark": obj(id=NUMBER, revision=NUMBER, name=TEXT, author=maybe(TEXT), at=TEXT),
        "HistoryItem": obj(
            number=NUMBER,
            author=maybe(TEXT),
            at=TEXT,
            message=TEXT,
            how=TEXT,
            of=maybe(NUMBER),
            counts=maybe(counts),
            before=maybe(counts),
            marks=many(ref("Mark")),
        ),
        "History": obj(revisions=many(ref("HistoryItem")), more=FLAG, marks=many(ref("Mark"))),
        "Change": obj(
            kind=KIND,
            id=TEXT,
            name=TEXT,
            what={"type": "string", "enum": ["made", "changed", "gone"]},
            fields=many(obj(field=TEXT, before=TEXT, after=TEXT)),
        ),
        "FindingTold": obj(id=TEXT, verdict=GRAVITY, title=TEXT, text=TEXT),
        "Comparison": obj(
            a=NUMBER,
            b=NUMBER,
            changes=many(ref("Change")),
            more=NUMBER,
            counts=obj(before=counts, after=counts),
            moves=many(ref("Move")),
            tally=many(ref("Tally")),
            gone=many(ref("FindingTold")),
            new=many(ref("FindingTold")),
        ),
        "Draft": obj(
            id=TEXT,
            plan=TEXT,
            plan_name=TEXT,
            name=TEXT,
            author=maybe(TEXT),
            private=FLAG,
            revision=NUMBER,
            base=NUMBER,
            latest=NUMBER,
            landed=maybe(NUMBER),
            changed=TEXT,
            changed_by=maybe(TEXT),
            counts=maybe(counts),
        ),
        "Clash": obj(
            kind=KIND, id=TEXT, field=TEXT, name=TEXT, label=TEXT, base=TEXT, plan=TEXT, draft=TEXT, chosen=TEXT
        ),
        "Choice": obj(kind=TEXT, id=TEXT, field=TEXT, word={"type": "string", "enum": ["plan", "draft"]}),
        "Rebasing": obj(
            to=NUMBER,
            base=NUMBER,
            clashes=many(ref("Clash")),
            problems=many(ref("Problem")),
            committed=maybe(ref("Committed")),
        ),
        "Landed": obj(plan=TEXT, revision=ref("Revision")),
        "Lattice": obj(hosts=many(TEXT), rows={"type": "object", "additionalProperties": TEXT}),
        "Meetings": obj(segments=many(TEXT), rows=many(TEXT), expected=many(TEXT), wrong=many(TEXT)),
        "Moves": obj(hosts=many(TEXT), rows=many(TEXT), guests=counts),
        "MoveReason": obj(letter=FARING, text=TEXT, about=TEXT),
        "QueueHost": obj(host=TEXT, name=TEXT, nodes=NUMBER, cores=NUMBER, nics=NUMBER, served=NUMBER, changes=NUMBER),
        "QueuePlan": obj(
            host=TEXT,
            name=TEXT,
            nodes=many(
                obj(
                    number=NUMBER,
                    socket=NUMBER,
                    cores=many(many(NUMBER)),
                    offline=many(NUMBER),
                    usable=many(NUMBER),
                )
            ),
            nics=many(
                obj(
                    id=TEXT,
                    name=TEXT,
                    team=TEXT,
                    mode=TEXT,
                    speed=maybe(NUMBER),
                    numa=maybe(NUMBER),
                    most=maybe(NUMBER),
                    queues=maybe(NUMBER),
                    now=many(NUMBER),
                    laid=many(NUMBER),
                    why=TEXT,
                    crowded=FLAG,
                )
            ),
            changes=NUMBER,
        ),
        "Clearing": obj(
            places=many(obj(guest=TEXT, host=TEXT, fares=FARING)),
            left=many(obj(guest=TEXT, nearest=TEXT, why=many(TEXT))),
        ),
        "Steps": obj(undo=maybe(step), redo=maybe(step)),
        "Snapshot": obj(
            id=TEXT,
            name=TEXT,
            draft_of=maybe(TEXT),
            revision=NUMBER,
            size=counts,
            pages=many(TEXT),
            summary=ref("Summary"),
            steps=ref("Steps"),
        ),
        "Revision": obj(number=NUMBER, author=maybe(TEXT), at=TEXT, message=TEXT, how=TEXT, of=maybe(NUMBER)),
        "Page": obj(
            records={
                "type": "object",
                "properties": {kind: many(ref("Rows")) for kind in KINDS},
                "additionalProperties": False,
            },
            endpoints=many(ref("EndpointRows")),
        ),
        "Rows": obj(**rows),
        "EndpointRows": obj(**rows, landed=ref("Rows")),
        "Committed": obj(
            revision=NUMBER,
            message=TEXT,
            edit=maybe(many(ref("Operation"))),
            moves=many(ref("Move")),
            tally=many(ref("Tally")),
            summary=ref("SummaryChange"),
            landed=maybe(many(ref("Endpoint"))),
            steps=ref("Steps"),
        ),
        "Changes": obj(**changes, steps=ref("Steps")),
        "RevisionTold": obj(
            **changes,
            since=NUMBER,
            answers=maybe(ref("AnswersChange")),
            steps={"type": "object", "additionalProperties": ref("Steps")},
        ),
        "RevisionEvent": {"oneOf": [obj(revision=NUMBER), ref("RevisionTold")]},
        "PreviewResult": obj(
            counts=maybe(counts),
            moves=many(ref("Move")),
            tally=many(ref("Tally")),
            problems=many(ref("Problem")),
            risks=maybe(many(TEXT)),
            shut_down=many(TEXT),
        ),
        "Columns": obj(columns=maybe(many(TEXT))),
        "TakenSheet": obj(
            titles=many(TEXT),
            columns=many(obj(name=TEXT, needed=FLAG, title=TEXT)),
            rows=NUMBER,
            problems=many(TEXT),
            more=NUMBER,
            message=TEXT,
            preview=maybe(ref("PreviewResult")),
            committed=maybe(ref("Committed")),
        ),
        "TakenTopology": obj(
            source=TEXT,
            networks=many(
                obj(network=TEXT, name=TEXT, becomes={"type": "string", "enum": list(BECOMES)}, segment=TEXT, says=TEXT)
            ),
            more=NUMBER,
            told=many(TEXT),
            message=TEXT,
            preview=maybe(ref("PreviewResult")),
            committed=maybe(ref("Committed")),
        ),
        "LoadWidth": obj(ends=many(TEXT), name=TEXT, asked=DECIMAL, speed=maybe(NUMBER)),
        "Load": obj(
            cables=NUMBER,
            over=NUMBER,
            near=NUMBER,
            sent=NUMBER,
            directions=many(
                obj(
                    port=TEXT,
                    out=FLAG,
                    cable=TEXT,
                    name=TEXT,
                    ends=many(TEXT),
                    speed=maybe(NUMBER),
                    asked=DECIMAL,
                    carried=DECIMAL,
                    most=DECIMAL,
                    burst=DECIMAL,
                    after=DECIMAL,
                    failure=TEXT,
                    fails=TEXT,
                )
            ),
            flows=many(
                obj(
                    id=TEXT,
                    name=TEXT,
                    burst=FLAG,
                    senders=NUMBER,
                    asks=DECIMAL,
                    gets=DECIMAL,
                    least=maybe(obj(who=TEXT, asks=DECIMAL, gets=DECIMAL)),
                    unsent=many(TEXT),
                    more=NUMBER,
                )
            ),
            failures=many(obj(key=TEXT, name=TEXT)),
            bursting=TEXT,
        ),
        "TakenReadings": obj(
            nics=many(obj(id=TEXT, name=TEXT, out=DECIMAL, into=DECIMAL)),
            told=many(TEXT),
            message=TEXT,
            preview=maybe(ref("PreviewResult")),
            committed=maybe(ref("Committed")),
        ),
        "GestureResult": obj(
            message=TEXT,
            operations=NUMBER,
            edit=maybe(ref("Edit")),
            questions=many(ref("Question")),
            preview=maybe(ref("PreviewResult")),
            committed=maybe(ref("Committed")),
        ),
        "Question": obj(
            host=TEXT, host_name=TEXT, part=TEXT, part_name=TEXT, text=TEXT, fits=many(obj(id=TEXT, name=TEXT))
        ),
        "Off": obj(
            stamp=TEXT,
            about=TEXT,
            what={"type": "string", "enum": ["differs", "missing", "beside"]},
            name=TEXT,
            field=TEXT,
            wanted=TEXT,
            found=TEXT,
            text=TEXT,
        ),
        "Stamped": obj(stamp=TEXT, host=TEXT, number=NUMBER, off=many(ref("Off")), count=NUMBER, own=NUMBER),
        "Patterns": obj(
            patterns=many(obj(id=TEXT, stamps=many(ref("Stamped")))),
            starters=many(obj(id=TEXT, name=TEXT, does=TEXT)),
        ),
        "BenchScope": obj(**{name: bounded(low, high) for name, (low, high) in SCOPE.items()}),
        "BenchItem": obj(
            number=NUMBER,
            revision=NUMBER,
            author=maybe(TEXT),
            state={"type": "string", "enum": ["waiting", "running", "done", "failed", "cancelled"]},
            asked=TEXT,
            started=maybe(TEXT),
            ended=maybe(TEXT),
            worker=TEXT,
            step=TEXT,
            done=NUMBER,
            of=NUMBER,
            error=TEXT,
            questions=maybe(NUMBER),
            agreed=maybe(NUMBER),
            differed=maybe(NUMBER),
            not_tried=maybe(NUMBER),
        ),
        "BenchRuns": obj(workers=NUMBER, runs=many(ref("BenchItem"))),
        "BenchDetail": obj(run=ref("BenchItem"), scope=ref("BenchScope"), log=TEXT, report=maybe(ref("BenchReport"))),
        "BenchReport": obj(
            questions=NUMBER,
            asked=NUMBER,
            agreed=NUMBER,
            differed=NUMBER,
            not_tried=NUMBER,
            why_not_tried=many(obj(reason=TEXT, questions=NUMBER)),
            not_built=many(obj(record=TEXT, reason=TEXT)),
            situations=many(TEXT),
            differences=many(ref("BenchDifference")),
            stories=many(obj(text=TEXT, engine=many(TEXT), kernel=many(TEXT), smallest=NUMBER)),
            seconds={"type": "object", "additionalProperties": {"type": "number"}},
        ),
        "BenchDifference": obj(
            number=NUMBER,
            sender=TEXT,
            vid=maybe(NUMBER),
            frame=TEXT,
            target=TEXT,
            pulled=many(TEXT),
            chosen=many(many(TEXT)),
            text=TEXT,
            only_engine=many(TEXT),
            only_kernel=many(TEXT),
        ),
        "Tree": obj(
            roots={"type": "object", "additionalProperties": TEXT},
            cost=counts,
            blocked={"type": "object", "additionalProperties": TEXT},
        ),
        "Ear": obj(at=TEXT, how=choice("hears", "overhears", "copies", "could", "socket", "tap"), text=TEXT),
        "Knot": obj(
            records=many(TEXT),
            depth=NUMBER,
            state=choice("", "carries", "reserve", "dropped", "leaks"),
            again=FLAG,
            foreign=FLAG,
            breaks=many(obj(at=TEXT, state=choice("dropped", "open", "leaks"), reason=TEXT)),
            ears=many(ref("Ear")),
        ),
        "Carried": obj(
            vids=TEXT,
            segments=many(TEXT),
            inside=many(NUMBER),
            there=choice("passes", "dropped", "unsent"),
            back=choice("passes", "dropped", "unsent"),
            need=choice("spare", "perhaps", "needed", "lacking"),
            near=NUMBER,
            far=NUMBER,
            names=many(many(TEXT)),
            around=FLAG,
            reads=NUMBER,
        ),
        "Piece": {
            "type": "object",
            "required": ["from", "to", "state", "reason", "foreign"],
            "properties": {
                "from": TEXT,
                "to": TEXT,
                "state": choice("carries", "reserve", "dropped", "open", "leaks"),
                "reason": TEXT,
                "foreign": FLAG,
            },
        },
    }


REFUSALS = {
    "400": "what was sent can’t be used",
    "403": "there is no session or no token",
    "404": "there is no such thing",
    "409": "somebody changed the same records meanwhile",
    "413": "the body is larger than this address takes",
    "415": "the body is of a type that this address doesn’t take",
    "429": "too many guesses at a password; Retry-After tells for how many seconds",
    "503": "the database is away; Retry-After tells when to ask again",
}
TOKEN: Schema = {
    "csrfCookie": {"type": "apiKey", "in": "cookie", "name": "csrftoken"},
    "csrfToken": {"type": "apiKey", "in": "header", "name": "X-CSRFToken"},
}
EVENTS: Schema = {
    "operationId": "listen",
    "description": "Server-sent events of a plan: `revision` with a RevisionEvent, `people` with the names of those who have it open, `about` with its name and "
    "who put it into the bin, where somebody changes that, `drafts` (empty) when something about its drafts is different.",
    "parameters": [
        {"in": "path", "name": "plan_id", "required": True, "schema": {"type": "string", "format": "uuid"}},
    ],
    "responses": {"200": {"description": "", "content": {"text/event-stream": {"schema": TEXT}}}},
}


LOOKING = (
    *(
        "",
        "/page",
        "/export",
        "/verdicts",
        "/findings/{finding_id}",
        "/preview",
        "/trace",
        "/ping",
        "/rule",
        "/rules",
        "/leases",
        "/strand",
        "/teams",
    ),
    *(
        "/segment-alone",
        "/cable-alone",
        "/strand-drawing",
        "/ping-frames",
        "/decks-drawing",
        "/lattice",
        "/meetings",
        "/meeting",
        "/moves",
        "/move",
        "/clearing",
    ),
    *("/could", "/tree", "/bench", "/gestures", "/patterns", "/sheet", "/report", "/validation"),
)
"""The addresses of a plan that can be asked about an earlier revision."""
AT: Schema = {
    "in": "query",
    "name": "at",
    "description": "the plan as it was at this revision; as it is unless said",
    "schema": bounded(0, 999_999_999),
}


def add_components(result: Schema, generator: Any, request: Any, public: bool) -> Schema:
    """Put the named components into the generated document, the address that isn't the framework's, and what any address may refuse."""
    result.setdefault("components", {}).setdefault("schemas", {}).update(components())
    result["components"].setdefault("securitySchemes", {}).update(TOKEN)
    result["paths"]["/api/plans/{plan_id}/events"] = {"get": {**EVENTS, "security": [{"cookieAuth": []}]}}
    for path, item in result["paths"].items():
        looking = path.removeprefix("/api/plans/{plan_id}") in LOOKING
        for method, operation in item.items():
            if looking and (method == "get") != path.endswith(("/preview", "/bench", "/gestures")):
                operation["parameters"] = [*operation.get("parameters", []), AT]
            if method != "get":
                session: Schema = {} if path == "/api/session" and method == "post" else {"cookieAuth": []}
                operation["security"] = [{**session, **{name: [] for name in TOKEN}}]
            for status in _refusals(path, method, operation):
                content = {"application/json": {"schema": ref("Refusal")}}
                operation["responses"][status] = {"description": REFUSALS[status], "content": content}
    return result


def _refusals(path: str, method: str, operation: Schema) -> list[str]:
    """The statuses with which an operation may refuse, whatever it says itself."""
    may = {"400", "413", "503", *(set(operation["responses"]) & set(REFUSALS))}
    if path not in ("/api/health", "/api/session") or method in ("post", "delete"):
        may.add("403")
    if "{" in path:
        may.add("404")
    if "requestBody" in operation:
        may.add("415")
    if path == "/api/session" and method == "post":
        may.add("429")
    return sorted(may)

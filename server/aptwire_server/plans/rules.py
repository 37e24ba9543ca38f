"""Rules: how each of a plan fares, and a sentence that somebody is typing."""

from __future__ import annotations

import uuid
from dataclasses import asdict

from aptwire.judge.risks.rules import RULE_RISKS
from aptwire.plan.edits import edit_to_json
from aptwire.plan.sentences import LONGEST, RuleError, could_follow, words
from aptwire.rules.asking import asked
from aptwire.rules.chosen import chosen
from aptwire.rules.meetings import BACK, BOTH, MEETS, THERE, by_role, endings, meeting, rule_between
from aptwire.rules.starting import starting_rules
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.gate import asked as said
from aptwire_server.plans.gate import bad, number_asked
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.schemas import TEXT, bounded, choice, many, obj, ref
from aptwire_server.plans.views import asked_end, looked_at


@extend_schema(
    responses={200: obj(rules=many(ref("RuleTold")), starting=many(TEXT)), **REFUSED}, operation_id="list_rules"
)
@api_view(["GET"])
def rules(request: Request, plan_id: uuid.UUID) -> Response:
    """Every rule of the plan and how it fares: it holds, is broken, nobody can know, or it speaks of nobody; `finding` tells more of those that
    aren’t kept.  `starting` are sentences that would suit the plan’s roles."""
    engine = looked_at(request, plan_for(request, plan_id))
    judgement = engine.judgement()
    findings = {f.culprit[0]: f.id for f in engine.findings().values() if f.what in RULE_RISKS.values()}
    told = [
        {"id": rule.id, "rule": rule.text, "finding": findings.get(rule.id), **answer.to_json(judgement.wiring)}
        for rule, answer in asked(judgement).rules()
    ]
    return Response({"rules": told, "starting": starting_rules(engine.plan)})


@extend_schema(
    parameters=[
        OpenApiParameter("by", choice("segment", "role"), description="role: by their names, in place of segments"),
        OpenApiParameter(
            "of",
            str,
            many=True,
            description="endpoints in place of segments (repeatable): ids or names of guests, stations, hosts, interfaces and outside networks",
        ),
    ],
    responses={200: ref("Meetings"), **REFUSED},
    operation_id="get_meetings",
)
@api_view(["GET"])
def meetings(request: Request, plan_id: uuid.UUID) -> Response:
    """Segments against each other, a letter each: somebody of one hears somebody of the other on layer 2 (m), packets get there over routers both ways (b), from the row’s
    segment to the column’s alone (>), or back alone (<), nobody can know (?), none of it (.), nobody is on one of them (-).  `expected` is what rules say of each: apart (a), apart on
    layer 2 (2), reached (r), nothing (a blank); `wrong` has a ! where it isn’t so."""
    engine = looked_at(request, plan_for(request, plan_id))
    by, of = said(request, "by", "segment"), request.query_params.getlist("of")
    if by not in ("segment", "role"):
        raise bad("segment or role is needed", "by")
    if of:
        found = chosen(engine.judgement(), [asked_end(engine.plan, text, "of") for text in of])
    else:
        found = by_role(engine.plan, engine.meetings()) if by == "role" else engine.meetings()
    told = {"segments": found.segments, "rows": found.rows, "expected": found.expected, "wrong": found.wrong}
    return Response(told)


@extend_schema(
    parameters=[
        *(OpenApiParameter(name, str, required=True) for name in ("a", "b")),
        OpenApiParameter(
            "endings", choice("tried", "left"), description="left: they aren’t tried, which takes longer than the rest"
        ),
    ],
    responses={
        200: obj(
            rule=TEXT,
            found=many(obj(text=TEXT, a=TEXT, b=TEXT)),
            endings=many(obj(title=TEXT, edit=ref("Edit"))),
        ),
        **REFUSED,
    },
    operation_id="get_meeting",
)
@api_view(["GET"])
def one_meeting(request: Request, plan_id: uuid.UUID) -> Response:
    """What is found of two segments, in sentences with the interfaces of whom they speak; edits after which they are apart; and the rule that keeps them so."""
    engine = looked_at(request, plan_for(request, plan_id))
    plan = engine.plan
    for name in ("a", "b"):
        if said(request, name) not in plan.of("segment"):
            raise bad("there is no such segment", name)
    one, two = (plan.get("segment", said(request, name)) for name in ("a", "b"))
    if one is two:
        raise bad("two different segments are needed", "b")
    found = engine.meetings()
    letter = found.rows[found.segments.index(one.id)][found.segments.index(two.id)]
    judgement = engine.judgement()
    met = letter in MEETS + BOTH + THERE + BACK
    ends = endings(judgement, one, two) if met and said(request, "endings") != "left" else []
    return Response(
        {
            "rule": rule_between(one, two),
            "found": [told._asdict() for told in meeting(judgement).said(one.id, two.id)],
            "endings": [{"title": title, "edit": edit_to_json(edit)} for title, edit in ends],
        }
    )


@extend_schema(
    parameters=[
        OpenApiParameter("text", str, required=True, description="a sentence, perhaps not a whole one"),
        OpenApiParameter(
            "before",
            bounded(0, LONGEST),
            description="the character before which something is to stand; the end unless said",
        ),
    ],
    responses={200: ref("RuleRead"), **REFUSED},
    operation_id="read_rule",
)
@api_view(["GET"])
def rule(request: Request, plan_id: uuid.UUID) -> Response:
    """A sentence as it is read, word by word: what is wrong with it, what could stand at a character of it (words, and whether a name could), and how it would fare."""
    engine = looked_at(request, plan_for(request, plan_id))
    text = said(request, "text")
    if len(text) > 2 * LONGEST:
        raise bad(f"is {len(text)} characters long; a rule has {LONGEST} at the most", "text")
    cut = number_asked(request, "before") if "before" in request.query_params else len(text)
    could, names = could_follow(text[:cut])
    judgement = engine.judgement()
    fault, told = None, None
    try:
        told = asked(judgement).ask(text).to_json(judgement.wiring)
    except RuleError as error:
        fault = error.fault.to_json()
    return Response(
        {"words": [asdict(word) for word in words(text)], "could": could, "names": names, "fault": fault, "told": told}
    )

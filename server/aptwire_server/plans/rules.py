"""Rules: how each of a plan fares, and a sentence that somebody is typing."""

from __future__ import annotations

import uuid
from dataclasses import asdict

from aptwire.judge.risks.rules import RULE_RISKS
from aptwire.plan.sentences import LONGEST, RuleError, could_follow, words
from aptwire.rules.asking import asked
from aptwire.rules.starting import starting_rules
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.gate import asked as said
from aptwire_server.plans.gate import bad, number_asked
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.schemas import TEXT, bounded, many, obj, ref
from aptwire_server.plans.views import looked_at


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

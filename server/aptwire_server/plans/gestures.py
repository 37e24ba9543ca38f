"""Gestures: what people do to many records at once.  One address previews each and makes it, so that no large edit travels to and fro."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from aptwire.blueprints.bubble import bubble
from aptwire.blueprints.bursting import burst
from aptwire.blueprints.carrying import Brought, at_port, everywhere
from aptwire.blueprints.own_nics import own_nics
from aptwire.blueprints.routing import routing
from aptwire.blueprints.shielding import shield
from aptwire.judge.accepted import accept
from aptwire.judge.need import needs
from aptwire.judge.risks.alike import offs
from aptwire.judge.together import mend_all
from aptwire.plan.edits import Edit, Patch, edit_to_json
from aptwire.plan.gestures import exchange, move_guests, offer, renumber, split_off, spread
from aptwire.plan.kinds import NumaNode, Pattern
from aptwire.plan.names import called, some
from aptwire.plan.patterns import pattern_of
from aptwire.plan.plan import Plan, PlanError
from aptwire.stamping.making import STARTERS, from_host, from_starter
from aptwire.stamping.nics import Question
from aptwire.stamping.off import adopt, find_off, keep, remove, take_out
from aptwire.stamping.stamp import questions, stamp, unstamp
from aptwire.stress.queues import settings
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.decorators import api_view
from rest_framework.request import Request
from rest_framework.response import Response

from aptwire_server.plans.access import plan_for
from aptwire_server.plans.commits import commit
from aptwire_server.plans.engine import LARGE_EDIT, Engine, turn
from aptwire_server.plans.gate import asked, bad, body_of, fields_of
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.moving import clear_host
from aptwire_server.plans.schemas import ANY, FLAG, GESTURE, body, bounded, ref
from aptwire_server.plans.views import CONFLICT, KNOWN, committed, looked_at, previewed

MOST_QUESTIONS = 200
MOST_MENDED = 40
MOST_OFF, MOST_OFF_HOST = 2_000, 30
MOST_EDIT = 500
"""Operations of an edit that is told with its preview."""


Make = Callable[[Engine, str, dict[str, Any]], tuple[str, Edit]]
"""What says and makes the edit of a gesture: of what the engine knows, for whom (a name), of the arguments."""


@dataclass(frozen=True)
class Gesture:
    """A gesture: the arguments that it takes, each with its type, what makes its edit, and what it has to ask before that."""

    takes: Mapping[str, type]
    make: Make
    asks: Callable[[Plan, dict[str, Any]], list[Question]] = lambda _, said: []


def _of_plan(make: Callable[[Plan, dict[str, Any]], tuple[str, Edit]]) -> Make:
    """A gesture for which the plan is enough."""
    return lambda engine, _, said: make(engine.plan, said)


def _ids(said: dict[str, Any], name: str) -> list[str]:
    if not said[name] or not all(isinstance(id, str) for id in said[name]):
        raise bad(f"a list of one or more {name} is needed", name)
    return list(said[name])


def _renumber(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    named = [s.name for s in plan.where("segment", "vid", said["old"])]
    return f"Renumber {some(named) or 'VID'} from {said['old']} to {said['new']}", renumber(
        plan, said["old"], said["new"]
    )


def _exchange(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    edit = exchange(plan, said["one"], said["two"])
    one, two = plan.get("nic", said["one"]), plan.get("nic", said["two"])
    return f"Exchange {one.name} and {two.name} of {plan.get('host', one.host).name}", edit


def _move_guests(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    edit = move_guests(plan, _ids(said, "guests"), said["host"])
    names = [plan.get("guest", id).name for id in said["guests"]]
    return f"Move {some(names)} to {plan.get('host', said['host']).name}", edit


def _make_pattern(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    name = said["name"].strip()
    if not name or len(name) > 80:
        raise bad("a name of 1 to 80 characters is needed", "name")
    if said["host"]:
        edit = from_host(plan, said["host"], name)
        return f"Make pattern {name} of {plan.get('host', said['host']).name}", edit
    return f"Make pattern {name}", from_starter(plan, said["starter"], name)


def _stamp(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    edit = stamp(plan, said["pattern"], _ids(said, "hosts"), _answers(said))
    names = [plan.get("host", host).name for host in said["hosts"]]
    return f"Stamp {plan.get('pattern', said['pattern']).name} on {some(names)}", edit


def _asked_of_stamp(plan: Plan, said: dict[str, Any]) -> list[Question]:
    hosts = [host for host in _ids(said, "hosts") if host in plan.of("host")]
    return questions(plan, said["pattern"], hosts, _answers(said)) if said["pattern"] in plan.of("pattern") else []


def _answers(said: dict[str, Any]) -> dict[tuple[str, str], str | None]:
    made: dict[tuple[str, str], str | None] = {}
    for item in said["answers"]:
        known = isinstance(item, dict) and set(item) == {"host", "part", "nic"}
        if not known or not all(isinstance(item[n], str) for n in ("host", "part")):
            raise bad("an answer is an object of host, part and nic", "answers")
        if item["nic"] is not None and not isinstance(item["nic"], str):
            raise bad("an answer’s nic is an id, or null to go without", "answers")
        made[item["host"], item["part"]] = item["nic"]
    return made


def _unstamp(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    edit = unstamp(plan, said["stamp"])
    own = plan.get("stamp", said["stamp"])
    return f"Take {plan.get('host', own.host).name} off {plan.get('pattern', own.pattern).name}", edit


def _adopt(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    one = find_off(plan, said["stamp"], said["about"], said["field"])
    own = plan.get("stamp", one.stamp)
    return (
        f"Take what {plan.get('host', own.host).name} has into {plan.get('pattern', own.pattern).name}: {one}",
        adopt(plan, one),
    )


def _keep(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    one = find_off(plan, said["stamp"], said["about"], said["field"])
    own = plan.get("stamp", one.stamp)
    return f"Keep as {plan.get('host', own.host).name}’s own: {one}", keep(plan, one)


def _take_out(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    edit = take_out(plan, said["part"])
    part = plan.find(said["part"])
    pattern = plan.of("pattern").get(pattern_of(plan, part))
    return f"Take {getattr(part, 'name', 'a team order')} out of {called(plan, pattern)}", edit


def _remove_pattern(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    if said["pattern"] not in plan.of("pattern"):
        raise bad("there is no such pattern", "pattern")
    return f"Remove {called(plan, plan.get('pattern', said['pattern']))}", remove(plan, said["pattern"])


def _accept(engine: Engine, person: str, said: dict[str, Any]) -> tuple[str, Edit]:
    finding = engine.findings().get(said["finding"])
    if finding is None:
        raise bad("this finding is no longer there", "finding")
    return f"Accept: {finding.title}", accept(engine.plan, finding, person, said["why"], said["until"])


def _mend_all(engine: Engine, _: str, said: dict[str, Any]) -> tuple[str, Edit]:
    findings = _ids(said, "findings")
    if len(findings) > MOST_MENDED:
        raise bad(f"{len(findings)} findings at once; {MOST_MENDED} is the most", "findings")
    made = mend_all(engine.judgement(), findings)
    if not made.taken:
        raise bad("none of them has a mend by which nobody fares worse", "findings")
    left = f"; {len(made.left)} left" if made.left else ""
    return f"Take {len(made.taken)} mends{left}" if len(made.taken) > 1 else made.taken[0], made.edit


def _offer(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    edit = offer(plan, said["segment"], _ids(said, "hosts"))
    names = [plan.get("host", host).name for host in said["hosts"]]
    return f"Offer {plan.get('segment', said['segment']).name} on {some(names)}", edit


def _queues(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    hosts = _ids(said, "hosts") if said["hosts"] else sorted({node.host for node in plan.all(NumaNode)})
    for host in hosts:
        if host not in plan.of("host"):
            raise bad(f"there is no host {host[:80]}", "hosts")
    edit = settings(plan, hosts)
    if not edit:
        raise bad("every NIC is served as it would be laid out", "hosts")
    touched = sorted({plan.get("nic", o.id).host for o in edit if isinstance(o, Patch)})
    return f"Lay out the queues of {some([plan.get('host', host).name for host in touched])}", edit


def _everywhere(engine: Engine, _: str, said: dict[str, Any]) -> tuple[str, Edit]:
    hosts = _ids(said, "hosts") if said["hosts"] else []
    found = everywhere(engine.judgement(), said["segment"], hosts)
    return f"{found.says}{_left(engine.plan, found, 'no switch with a way out')}", found.edit


def _own_nics(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    hosts = _ids(said, "hosts") if said["hosts"] else []
    found = own_nics(plan, said["role"], hosts, _ids(said, "nics"), said["mtu"] or None)
    return f"{found.says}{_left(plan, found, 'no such NIC free')}", found.edit


def _left(plan: Plan, found: Brought, lacking: str) -> str:
    """The hosts that are left out, and why."""
    left = [plan.get("host", host).name for host in found.left]
    return f"; {some(left)} {'has' if len(left) == 1 else 'have'} {lacking}" if left else ""


def _at_port(engine: Engine, _: str, said: dict[str, Any]) -> tuple[str, Edit]:
    found = at_port(engine.judgement(), said["port"], said["segment"], said["name"])
    return found.says, found.edit


def _routing(engine: Engine, _: str, said: dict[str, Any]) -> tuple[str, Edit]:
    found = routing(engine.judgement(), said["switch"], _ids(said, "segments"))
    return found.says, found.edit


def _bubble(engine: Engine, _: str, said: dict[str, Any]) -> tuple[str, Edit]:
    guests, segments = (_ids(said, name) if said[name] else [] for name in ("guests", "segments"))
    found = bubble(engine.judgement(), said["name"], guests, segments, said["host"], said["entry"])
    return found.says, found.edit


def _shield(engine: Engine, _: str, said: dict[str, Any]) -> tuple[str, Edit]:
    guests = _ids(said, "guests") if said["guests"] else []
    host, name, outside, subnet = (said[word] for word in ("host", "name", "outside", "subnet"))
    found = shield(engine.judgement(), host, name, outside, subnet, guests, said["nic"])
    return found.says, found.edit


def _burst(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    found = burst(plan, said["name"])
    return found.says, found.edit


def _split_off(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    edit = split_off(plan, said["switch"], said["role"], _ids(said, "nics"))
    return f"Split {said['role']} off {called(plan, plan.get('virtual_switch', said['switch']))}", edit


def _spread(plan: Plan, said: dict[str, Any]) -> tuple[str, Edit]:
    edit = spread(plan, said["uplink"])
    return f"Spread port groups over {called(plan, plan.get('uplink', said['uplink']))}", edit


def _prune(engine: Engine, _: str, said: dict[str, Any]) -> tuple[str, Edit]:
    cables = _ids(said, "cables")
    edit = needs(engine.judgement()).prune(cables)
    plan = engine.plan
    what = called(plan, plan.get("cable", cables[0])) if len(cables) == 1 else f"{len(cables)} cables"
    return f"Prune {what}", edit


ONE_OFF = {"stamp": str, "about": str, "field": str}
GESTURES: dict[str, Gesture] = {
    "renumber": Gesture({"old": int, "new": int}, _of_plan(_renumber)),
    "exchange": Gesture({"one": str, "two": str}, _of_plan(_exchange)),
    "move-guests": Gesture({"guests": list, "host": str}, _of_plan(_move_guests)),
    "clear-host": Gesture(
        {"host": str, "failed": bool}, lambda e, _, said: clear_host(e, said["host"], said["failed"])
    ),
    "offer": Gesture({"segment": str, "hosts": list}, _of_plan(_offer)),
    "everywhere": Gesture({"segment": str, "hosts": list}, _everywhere),
    "at-port": Gesture({"port": str, "segment": str, "name": str}, _at_port),
    "bubble": Gesture({"name": str, "guests": list, "segments": list, "host": str, "entry": str}, _bubble),
    "burst": Gesture({"name": str}, _of_plan(_burst)),
    "shield": Gesture({"host": str, "name": str, "outside": str, "subnet": str, "guests": list, "nic": str}, _shield),
    "own-nics": Gesture({"role": str, "hosts": list, "nics": list, "mtu": int}, _of_plan(_own_nics)),
    "queues": Gesture({"hosts": list}, _of_plan(_queues)),
    "routing": Gesture({"switch": str, "segments": list}, _routing),
    "prune": Gesture({"cables": list}, _prune),
    "split-off": Gesture({"switch": str, "role": str, "nics": list}, _of_plan(_split_off)),
    "spread": Gesture({"uplink": str}, _of_plan(_spread)),
    "make-pattern": Gesture({"name": str, "host": str, "starter": str}, _of_plan(_make_pattern)),
    "stamp": Gesture({"pattern": str, "hosts": list, "answers": list}, _of_plan(_stamp), _asked_of_stamp),
    "unstamp": Gesture({"stamp": str}, _of_plan(_unstamp)),
    "adopt": Gesture(ONE_OFF, _of_plan(_adopt)),
    "keep": Gesture(ONE_OFF, _of_plan(_keep)),
    "take-out": Gesture({"part": str}, _of_plan(_take_out)),
    "remove-pattern": Gesture({"pattern": str}, _of_plan(_remove_pattern)),
    "mend-all": Gesture({"findings": list}, _mend_all),
    "accept": Gesture({"finding": str, "why": str, "until": str}, _accept),
}


@extend_schema(
    parameters=[
        OpenApiParameter("risks", str, enum=["later"], description="of a very large edit they aren’t looked for: null"),
        KNOWN,
    ],
    request=body(gesture=GESTURE, args=ANY, base=bounded(0), take=FLAG),
    responses={200: ref("GestureResult"), **CONFLICT},
    operation_id="make_gesture",
)
@api_view(["POST"])
def gestures(request: Request, plan_id: uuid.UUID) -> Response:
    """What a gesture would change, nothing saved; or (`take`) make its edit against a base revision.

    A pattern that can’t be stamped before somebody says which NIC is which asks so.
    """
    said = body_of(request, gesture=str, args=dict, base=int, take=bool)
    row = plan_for(request, plan_id)
    gesture = GESTURES.get(said["gesture"])
    if gesture is None:
        raise bad(f"there is no gesture “{said['gesture'][:40]}”", "gesture")
    args = fields_of(said["args"], gesture.takes, "args/")
    engine = looked_at(request, row)
    whose = request.user.get_username()
    try:
        message, edit = engine.composed((said["gesture"], whose, args), lambda: gesture.make(engine, whose, args))
    except PlanError:
        # What isn't clear can't be made, and is asked.
        questions = gesture.asks(engine.plan, args) if not said["take"] else []
        if not questions:
            raise
        return Response(_result("", (), [_question(engine.plan, q) for q in questions[:MOST_QUESTIONS]]))
    if said["take"]:
        with turn(plan_id):
            made = commit(plan_id, request.user, edit, said["base"], message)
            return Response(_result(message, edit, committed=committed(made, request).data))
    later = asked(request, "risks") == "later" and len(edit) >= LARGE_EDIT
    told = previewed(engine, edit, risky=not later) if edit else None
    return Response(_result(message, edit, preview=told | {"risks": None} if told and later else told))


def _question(plan: Plan, question: Question) -> dict[str, Any]:
    nics = sorted((n for n in plan.where("nic", "host", question.host)), key=lambda n: n.name)
    fits = [plan.get("nic", id) for id in question.fits] or nics
    return {
        "host": question.host,
        "host_name": plan.get("host", question.host).name,
        "part": question.part,
        "part_name": plan.get("pattern_nic", question.part).name,
        "text": question.text,
        "fits": [{"id": nic.id, "name": nic.name} for nic in fits],
    }


def _result(
    message: str, edit: Edit, questions: Any = (), preview: Any = None, committed: Any = None
) -> dict[str, Any]:
    return {
        "message": message,
        "operations": len(edit),
        "edit": edit_to_json(edit) if committed is None and len(edit) <= MOST_EDIT else None,
        "questions": list(questions),
        "preview": preview,
        "committed": committed,
    }


@extend_schema(responses={200: ref("Patterns"), **REFUSED}, operation_id="get_patterns")
@api_view(["GET"])
def patterns(request: Request, plan_id: uuid.UUID) -> Response:
    """The patterns with the hosts on which they are stamped: where one is off its pattern, the exact differences, as many as an answer holds (`count` tells
    how many there are).  And the starting points for new ones."""
    engine = looked_at(request, plan_for(request, plan_id))
    found, plan = offs(engine.judgement()), engine.plan
    room = MOST_OFF
    made: list[dict[str, Any]] = []
    for pattern in sorted(plan.all(Pattern), key=lambda p: p.name):
        stamps: list[dict[str, Any]] = []
        for own in sorted(plan.where("stamp", "pattern", pattern.id), key=lambda s: s.number):
            listed = found.get(own.id, ())
            told = [one.to_json() for one in listed[: min(MOST_OFF_HOST, room)]]
            room -= len(told)
            words = len(plan.where("own_word", "stamp", own.id))
            stamps.append(
                {
                    "stamp": own.id,
                    "host": own.host,
                    "number": own.number,
                    "off": told,
                    "count": len(listed),
                    "own": words,
                }
            )
        made.append({"id": pattern.id, "stamps": stamps})
    starters = [{"id": id, "name": s.name, "does": s.does} for id, s in STARTERS.items()]
    return Response({"patterns": made, "starters": starters})

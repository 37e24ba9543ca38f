"""The compiled engine of each plan in memory, caught up by the edits in between."""

from __future__ import annotations

import datetime
import threading
import uuid
from collections import OrderedDict
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from aptwire.judge.could import could
from aptwire.judge.findings import Finding, everything
from aptwire.judge.judgement import Judgement
from aptwire.judge.lattice import Lattice, lattice
from aptwire.judge.mends import Mend, known_risks, mends
from aptwire.judge.preview import Preview, preview
from aptwire.judge.preview import apart as standing_apart
from aptwire.judge.risks import Risk
from aptwire.judge.verdicts import judge, rejudge
from aptwire.moving.clearing import Clearing, clear
from aptwire.moving.moves import Moving, moving
from aptwire.plan.compare import apart
from aptwire.plan.edits import Edit, apply_edit, edit_from_json, touched
from aptwire.plan.kinds import KINDS
from aptwire.plan.plan import Plan
from aptwire.report import summary, teams
from aptwire.rules.meetings import Meetings, meetings
from django.db import transaction
from django.utils import timezone

from aptwire_server.collecting import stays
from aptwire_server.plans.models import PlanRow, Revision
from aptwire_server.plans.tables import load_plan

KEPT, KEPT_EARLIER = 32, 16
LARGE = 20_000
"""Records of a plan that is a burden on Python's search for cycles."""
LARGE_EDIT = 2_000
"""Operations of an edit that is kept once it was tried, since who makes it would wait for the same again."""


TRAIL = 64


@dataclass(frozen=True)
class Span:
    """From one revision to another: the engine's blocks that stand differently after it, and endpoints that are told otherwise wherever they stand."""

    start: int
    end: int
    blocks: frozenset[str]
    endpoints: frozenset[str]


ENDPOINTS = "endpoint"
MOST_PAGES = 400


@dataclass(frozen=True)
class Written:
    """A page as it was written: the cursor of the next one, its text packed (gzip, RFC 1952), and the kinds of which it says what there is."""

    following: str | None
    packed: bytes
    kinds: frozenset[str]


@dataclass
class Engine:
    """A plan at a revision, judged once and asked many times.

    `base` is the judgement from which this one is made, and the records that differ: the engine takes the edit; `ready` what came of that, where it was
    tried before.  `trail` tells
    what the latest revisions moved: since `base`, or since `told`, where what was known before is another judgement.
    """

    revision: int
    plan: Plan
    base: tuple[Judgement, frozenset[tuple[str, str]]] | None = None
    ready: Judgement | None = None
    told: tuple[Judgement, frozenset[tuple[str, str]]] | None = None
    before: tuple[int, tuple[Span, ...]] = (0, ())
    trail: tuple[Span, ...] = ()
    pages: dict[str, Written] = field(default_factory=dict)
    _lock: threading.RLock = field(default_factory=threading.RLock)
    # What may take seconds in a large plan is worked out once too, and nobody who asks for verdicts waits for it.
    _slowly: threading.RLock = field(default_factory=threading.RLock)
    _judgement: Judgement | None = None
    _findings: dict[str, Finding | Risk] | None = None
    _risks: frozenset[str] | None = None
    _mends: dict[str, list[Mend]] = field(default_factory=dict)
    _summary: tuple[datetime.date, dict[str, Any]] | None = None
    _ids: dict[str, list[str]] = field(default_factory=dict)
    _answers: dict[str, dict[str, Any]] | None = None
    _lattice: Lattice | None = None
    _composed: tuple[object, tuple[str, Edit]] | None = None
    _tried: tuple[Edit, Preview] | None = None

    def judgement(self) -> Judgement:
        """The verdicts."""
        with self._lock:
            if self._judgement is None and self.base is not None:
                self._judgement = self.ready or rejudge(self.base[0], self.plan, self.base[1])
                earlier, touched = self.told or self.base
                blocks = standing_apart(self._judgement, earlier)
                if any(kind == "segment" for kind, _ in touched):
                    blocks = set(self._judgement.wiring.blocks)
                start, trail = self.before
                self.trail = (
                    *trail[1 - TRAIL :],
                    Span(start, self.revision, frozenset(blocks), told_of(self.plan, touched)),
                )
                self.base = self.told = self.ready = None
            elif self._judgement is None:
                self._judgement = judge(self.plan)
                if sum(len(self.plan.of(kind)) for kind in KINDS) >= LARGE:
                    stays()
            return self._judgement

    def after(self, revision: int, plan: Plan, touched: Iterable[tuple[str, str]]) -> Engine:
        """The engine of a later revision, to which an edit of these records led."""
        if self._judgement is None:
            return Engine(revision, plan)
        base = (self._judgement, frozenset(touched))
        differing = {ENDPOINTS, *(kind for kind, _ in base[1])}
        pages = {cursor: page for cursor, page in list(self.pages.items()) if not page.kinds & differing}
        tried = self._tried[1] if self._tried is not None else None
        return Engine(
            revision,
            plan,
            base,
            tried.judgement if tried is not None and tried.plan is plan else None,
            before=(self.revision, self.trail),
            pages=pages if len(pages) < MOST_PAGES else {},
        )

    def onto(
        self,
        revision: int,
        base: Engine,
        plan: Plan,
        differing: Iterable[tuple[str, str]],
        touched: Iterable[tuple[str, str]],
    ) -> Engine:
        """The engine of a draft's later revision upon another base, from which these records differ; since this one, those touched."""
        told = (self.judgement(), frozenset(touched))
        return Engine(revision, plan, (base.judgement(), frozenset(differing)), None, told, (self.revision, self.trail))

    def moved_since(self, revision: int, most: int) -> set[str] | None:
        """The endpoints that may land differently than at an earlier revision, or are told otherwise; None: more than `most`, or that is too long ago
        to know."""
        judged = self.judgement()
        spans = [span for span in self.trail if span.end > revision]
        if revision == self.revision:
            return set()
        if not spans or spans[0].start > revision:
            return None
        blocks = judged.wiring.blocks
        moved = blocks.keys() & set().union(*(span.blocks for span in spans))
        if sum(len(blocks[key].stand_of) for key in moved) > most:
            return None
        found = {endpoint for key in moved for endpoint in judged.block_endpoints(key)}
        told = set().union(*(span.endpoints for span in spans))
        found.update(id for id in told if self.plan.find(id, ("adapter", "host_port")) is not None)
        return found if len(found) <= most else None

    def ids(self, kind: str) -> list[str]:
        """The ids of a record kind in order (or of all endpoints)."""
        with self._lock:
            if kind not in self._ids:
                self._ids[kind] = (
                    sorted(self.plan.of(kind)) if kind in KINDS else list(self.judgement().wiring.endpoints())
                )
            return self._ids[kind]

    def findings(self) -> dict[str, Finding | Risk]:
        """The findings and risks by id, worst first."""
        judged = self.judgement()
        with self._lock:
            if self._findings is None:
                self._findings = {f.id: f for f in everything(judged)}
            return self._findings

    def known_risks(self) -> frozenset[str]:
        """The ids of the risks."""
        judged = self.judgement()
        with self._lock:
            if self._risks is None:
                self._risks = known_risks(judged)
            return self._risks

    def answers(self) -> dict[str, dict[str, Any]]:
        """What the engine says beside verdicts: `members`, `carries` and `reach` of teams and switches, and `could` of adapters."""
        judged = self.judgement()
        with self._lock:
            if self._answers is None:
                self._answers = {**teams(judged.wiring), "could": could(judged).all()}
            return self._answers

    def mends(self, finding: Finding | Risk) -> list[Mend]:
        """The mends of a finding."""
        judged = self.judgement()
        with self._lock:
            if finding.id not in self._mends:
                self._mends[finding.id] = mends(judged, finding)
            return self._mends[finding.id]

    def composed(self, key: object, make: Callable[[], tuple[str, Edit]]) -> tuple[str, Edit]:
        """The words and the edit of what somebody does (`key`); a large one is kept until another one is made, for who tries it and then makes it."""
        known = self._composed
        if known is not None and known[0] == key:
            return known[1]
        made = make()
        if len(made[1]) >= LARGE_EDIT:
            self._composed = key, made
        return made

    def preview(self, edit: Edit) -> Preview:
        """What an edit would change; of a large one it is kept until another one is tried."""
        seen = self.tried(edit) or preview(self.judgement(), edit)
        if len(edit) >= LARGE_EDIT:
            self._tried = edit, seen
        return seen

    def tried(self, edit: Edit) -> Preview | None:
        """What an edit would change, if it was tried last."""
        tried = self._tried
        return tried[1] if tried is not None and tried[0] == edit else None

    def lattice(self) -> Lattice:
        """How each host stands to each segment."""
        judged = self.judgement()
        with self._lock:
            if self._lattice is None:
                self._lattice = lattice(judged)
            return self._lattice

    def meetings(self) -> Meetings:
        """Who meets whom, segment by segment; worked out once."""
        judged = self.judgement()
        with self._slowly:
            return meetings(judged)

    def moving(self) -> Moving:
        """What is known of moves; worked out once."""
        judged = self.judgement()
        with self._slowly:
            return moving(judged)

    def clearing(self, host: str, failed: bool) -> Clearing:
        """Where everybody on a host goes when it is taken out; PlanError where there is no such host."""
        judged = self.judgement()
        with self._slowly:
            return clear(judged, host, failed)

    def summary(self) -> dict[str, Any]:
        """Counts and findings as JSON; acceptances hold by the day, so it is made anew on the next."""
        found = list(self.findings().values())
        judged, today = self.judgement(), timezone.localdate()
        with self._lock:
            if self._summary is None or self._summary[0] != today:
                self._summary = today, summary(judged, found, today)
            return self._summary[1]

    def summary_for(self, before: Engine, known: int) -> dict[str, Any]:
        """The summary for whoever knows that of a revision: if it is the one of the engine before, of a finding that is told as it was there its id alone."""
        now = self.summary()
        if not known or before.revision != known or before._summary is None:
            return now
        was = {told["id"]: told for about in ("findings", "accepted") for told in before._summary[1][about]}
        return now | {
            about: [told["id"] if was.get(told["id"]) == told else told for told in now[about]]
            for about in ("findings", "accepted")
        }


def told_of(plan: Plan, touched: Iterable[tuple[str, str]]) -> frozenset[str]:
    """The adapters and host ports of which records say something that were touched: an adapter that is plugged in nowhere is in no block."""
    found: set[str] = set()
    for kind, id in touched:
        if kind in ("adapter", "host_port"):
            found.add(id)
        elif kind == "guest_tag" and id in plan.of(kind):
            found.add(plan.of("guest_tag")[id].adapter)
        guests = [id] if kind == "guest" else []
        if kind == "host":
            guests = [guest.id for guest in plan.grouped("guest", "host").get(id, ())]
        for guest in guests:
            found.update(adapter.id for adapter in plan.grouped("adapter", "guest").get(guest, ()))
    return frozenset(found)


_engines: OrderedDict[uuid.UUID, Engine] = OrderedDict()
_earlier: OrderedDict[tuple[uuid.UUID, int], Engine] = OrderedDict()
_turns: dict[uuid.UUID, threading.RLock] = {}
_guard = threading.Lock()


def turn(plan_id: uuid.UUID) -> threading.RLock:
    """Held by whoever makes a plan's next engine in this process, so that nobody makes the same one beside it.

    It is taken before a lock in the database, never after.
    """
    with _guard:
        return _turns.setdefault(plan_id, threading.RLock())


def engine_of(row: PlanRow) -> Engine:
    """The engine of a plan at the revision that the row says, or at a later one if that is known already."""
    known = _known(row)
    if known is not None and known.revision >= row.revision:
        return known
    with turn(row.id):
        return _caught_up(row)


def _known(row: PlanRow) -> Engine | None:
    with _guard:
        if row.id in _engines:
            _engines.move_to_end(row.id)
        return _engines.get(row.id)


def _caught_up(row: PlanRow) -> Engine:
    known = _known(row)
    if known is not None and known.revision >= row.revision:
        return known
    if known is not None:
        plan = known.plan
        later = Revision.objects.filter(plan=row, number__gt=known.revision, number__lte=row.revision).order_by(
            "number"
        )
        keys: set[tuple[str, str]] = set()
        for revision in later:
            edit = edit_from_json(revision.edit)
            plan, _ = apply_edit(plan, edit)
            keys |= touched(edit)
        return keep(row.id, known.after(row.revision, plan, keys))
    return keep(row.id, _from_tables(row) if row.of_id is None else _from_base(row))


def keep(plan_id: uuid.UUID, engine: Engine) -> Engine:
    """Remember an engine, unless a newer one is known; the least used are forgotten."""
    with _guard:
        known = _engines.get(plan_id)
        if known is not None and known.revision > engine.revision:
            return engine
        _engines[plan_id] = engine
        _engines.move_to_end(plan_id)
        while len(_engines) > KEPT:
            _engines.popitem(last=False)
        return engine


def engine_at(row: PlanRow, number: int) -> Engine:
    """The engine of a plan as it was at an earlier revision, judged from the present one; those asked for last are kept."""
    now = engine_of(row)
    if number >= now.revision:
        return now
    with _guard:
        known = _earlier.get((row.id, number))
        if known is not None:
            _earlier.move_to_end((row.id, number))
            return known
    plan, keys = now.plan, set[tuple[str, str]]()
    later = Revision.objects.filter(plan=row, number__gt=number, number__lte=now.revision).order_by("-number")
    for revision in later:
        back = edit_from_json(revision.inverse)
        plan, _ = apply_edit(plan, back)
        keys |= touched(back)
    made = Engine(number, plan, (now.judgement(), frozenset(keys)), before=(number, ()))
    with _guard:
        _earlier[row.id, number] = made
        while len(_earlier) > KEPT_EARLIER:
            _earlier.popitem(last=False)
    return made


def forget(plan_id: uuid.UUID) -> None:
    """Let go of a plan that is no more."""
    with _guard:
        _engines.pop(plan_id, None)
        for key in [key for key in _earlier if key[0] == plan_id]:
            del _earlier[key]


def _from_tables(row: PlanRow) -> Engine:
    """Rows and revision number of one moment: writers hold the plan row's lock until they are done."""
    with transaction.atomic():
        fresh = PlanRow.objects.select_for_update(of=("self",)).get(pk=row.pk)
        return Engine(fresh.revision, load_plan(fresh).indexed())


def _from_base(row: PlanRow) -> Engine:
    """A draft: its revisions upon the plan's one on which the first was made, judged from what the plan's engine knows of its base."""
    with transaction.atomic():
        fresh = PlanRow.objects.select_for_update(of=("self",)).select_related("of").get(pk=row.pk)
        plan = engine_at(fresh.of, fresh.began).plan
        for revision in Revision.objects.filter(plan=fresh, number__lte=fresh.revision).order_by("number"):
            plan, _ = apply_edit(plan, edit_from_json(revision.edit))
    base = engine_at(fresh.of, fresh.base)
    differing = frozenset(apart(base.plan, plan))
    return Engine(fresh.revision, plan, (base.judgement(), differing), before=(fresh.revision, ()))

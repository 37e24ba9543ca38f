"""Findings: what is wrong, in plain sentences, one for all the endpoints that the same thing makes suffer."""

from __future__ import annotations

import hashlib
from bisect import insort
from collections.abc import Set
from dataclasses import dataclass
from functools import cached_property

from aptwire.forward.parts import HOMELESS, Place, Stand, State
from aptwire.forward.trace import Trace
from aptwire.judge.causes import CAUSES, PLACE, PORT, STAND, Concerned, Sentences
from aptwire.judge.changes import Changes
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks import Risk, risk_proof, risks
from aptwire.judge.why import VERDICTS, Cause, is_idle
from aptwire.plan.collecting import no_collecting
from aptwire.plan.kinds import UNSEEN


@dataclass(frozen=True)
class Finding:
    """One fault and everybody whom it makes suffer.

    `id` stays the same as long as the fault does; `segment` is that of `place`; `culprit` are the records where it sits (may be empty); `place`
    stands for all `places`; `towards` is the place that it misses or meets (None: the fabric).
    """

    id: str
    verdict: str
    what: str
    title: str
    text: str
    endpoints: tuple[str, ...]
    places: tuple[Place, ...]
    place: Place
    towards: Place | None
    segment: str | None
    culprit: tuple[str, ...]
    state: State
    idle: bool

    @cached_property
    def rank(self) -> tuple[bool, int, int, str, str]:
        """Where it stands among others: the worst first, what concerns only idle endpoints last."""
        return (self.idle, -VERDICTS.index(self.verdict), -len(self.endpoints), self.title, self.id)


def findings(judgement: Judgement) -> list[Finding]:
    """All findings, worst first, those that concern only idle endpoints last."""
    known = judgement.answered.answers.get("findings")
    if not isinstance(known, _Known):
        with no_collecting():
            known = judgement.answered.answers["findings"] = _Finder(judgement).run()
    return list(known.told.values())


WITHIN_BLOCKS = {
    *("adapter", "cable", "fabric_port", "group_order", "guest", "guest_tag", "host_port"),
    *("limits", "mirror", "nic", "port_group", "uplink"),
    *UNSEEN,
}
"""The kinds of which an edit compiles anew the blocks that it concerns, or else the fabric; or nothing at all."""


@dataclass(frozen=True, eq=False)
class _Group:
    """Places of one stand that aren't home for one reason, and the key of their finding.

    What it `rests` on: the blocks of its hosts and the records on the ways that were looked at (ids), and how VID classes (numbers) pass through the
    fabric; None: it is worked out anew each time.
    """

    places: tuple[Place, ...]
    cause: Cause
    key: tuple[object, ...]
    rests: frozenset[str | int] | None


def _together(groups: tuple[_Group, ...]) -> frozenset[str | int] | None:
    """What several groups rest on."""
    known = [group.rests for group in groups if group.rests is not None]
    return frozenset().union(*known) if len(known) == len(groups) else None


def _in_order(
    told: dict[tuple[object, ...], Finding], fresh: dict[tuple[object, ...], Finding]
) -> dict[tuple[object, ...], Finding]:
    """Findings by key, worst first, from those that are in order already, and new ones."""
    if not fresh:
        return told
    listed = list(told.items())
    if len(fresh) > len(told):
        return dict(sorted([*listed, *fresh.items()], key=_rank))
    for item in fresh.items():
        insort(listed, item, key=_rank)
    return dict(listed)


def _rank(item: tuple[object, Finding]) -> tuple[bool, int, int, str, str]:
    return item[1].rank


@dataclass(frozen=True)
class _Known:
    """What was told of a judgement: groups by block, with what they rest on, and by key; findings by key, worst first; how many places belong on each
    segment, and who is in no port group."""

    groups: dict[str, tuple[_Group, ...]]
    rests: dict[str, frozenset[str | int] | None]
    by_key: dict[tuple[object, ...], list[_Group]]
    told: dict[tuple[object, ...], Finding]
    sizes: dict[str, int]
    homeless: tuple[str, ...]


class _Finder:
    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.plan = judgement.plan
        self.wiring = judgement.wiring
        self.say = Sentences(judgement)
        homeless = self.wiring.blocks.get(HOMELESS)
        self._classes: dict[Stand, frozenset[int]] = {}
        self._homeless = tuple(homeless.stand_of) if homeless is not None else ()

    def run(self) -> _Known:
        before, changes = self.judgement.answered.before.get("findings", (None, None))
        known = before if isinstance(before, _Known) else _Known({}, {}, {}, {}, {}, ())
        # What stands in no block, and what everything may be called by, concerns all.
        if (
            changes is None
            or known.homeless != self._homeless
            or any(kind not in WITHIN_BLOCKS for kind, _ in changes.records)
            or self.judgement.landing.rows.landed is not self.judgement.landing.rows.entered
        ):
            asked: Set[str] = self.wiring.blocks.keys()
            groups: dict[str, tuple[_Group, ...]] = {}
        else:
            asked = changes.apart | self._shaken(known, changes)
            groups = {**known.groups}
        rests, by_key, told = ({**known.rests}, {**known.by_key}, {**known.told}) if groups else ({}, {}, {})
        touched: set[tuple[object, ...]] = set()
        for block in asked if groups else ():
            for group in groups.pop(block, ()):
                by_key[group.key] = [other for other in by_key[group.key] if other is not group]
                touched.add(group.key)
            rests.pop(block, None)
        for block, stands in self._troubled(asked).items():
            groups[block] = tuple(group for stand in stands for group in self._groups(block, *stand))
            rests[block] = _together(groups[block])
            for group in groups[block]:
                by_key[group.key] = [*by_key.get(group.key, ()), group]
                touched.add(group.key)
        if self.say.sizes != known.sizes:
            sizes = self.say.sizes, known.sizes
            segments = {id for id in sizes[0].keys() | sizes[1].keys() if sizes[0].get(id) != sizes[1].get(id)}
            touched.update(key for key, found in by_key.items() if found and found[0].places[0].segment in segments)
        fresh: dict[tuple[object, ...], Finding] = {}
        for key in touched:
            told.pop(key, None)
            if by_key[key]:
                fresh[key] = self._finding(key, by_key[key])
            else:
                del by_key[key]
        return _Known(groups, rests, by_key, _in_order(told, fresh), self.say.sizes, self._homeless)

    def _shaken(self, known: _Known, changes: Changes) -> set[str]:
        """The blocks of which something was said that may not be true any more."""
        if changes.ways is None:
            return set(known.groups)
        asked = {*map(self._host_of, changes.blocks), *(id for _, id in changes.records), *changes.ways}
        return {block for block, rests in known.rests.items() if rests is None or not rests.isdisjoint(asked)}

    def _troubled(self, blocks: Set[str]) -> dict[str, list[tuple[tuple[str, ...], int, Cause]]]:
        """Whoever isn't home in some blocks, by block."""
        found: dict[str, list[tuple[tuple[str, ...], int, Cause]]] = {}
        for block, records, status, cause in self.judgement.troubled(blocks):
            found.setdefault(block, []).append((records, status, cause))
        return found

    def _groups(self, block: str, records: tuple[str, ...], status: int, cause: Cause) -> list[_Group]:
        """The places of a stand with their key: one for all, where that doesn't hang on which of them it is."""
        places = self.wiring.places_in(block, records)
        alike = CAUSES[cause.what].alike
        if alike == STAND:
            return [self._group(tuple(places), status, cause)]
        if alike == PLACE:
            return [self._group((place,), status, cause) for place in places]
        adapters = self.plan.of("adapter")
        by_port: dict[str, list[Place]] = {}
        for place in places:
            adapter = adapters.get(place.endpoint)
            by_port.setdefault(adapter.port_group or "" if adapter is not None else place.record, []).append(place)
        return [self._group(tuple(seated), status, cause) for seated in by_port.values()]

    def _group(self, places: tuple[Place, ...], status: int, cause: Cause) -> _Group:
        kind = CAUSES[cause.what]
        self.say.passed = set()
        key = (self.say.status(places[0]), cause.what, *kind.key(self.say, places[0], cause))
        landed = self._landed(places[0])
        # Whom untagged frames meet is told of others than these.
        hosts = self._hosts(places[0], cause) if kind.kept and (kind.alike != PORT or min(landed) > 0) else None
        other = self._landed(self.say.other(cause)) if cause.towards and hosts is not None else frozenset()
        found: tuple[str | int, ...] = (*(hosts or ()), *self.say.passed, *landed, *other)
        rests = None if hosts is None else frozenset(found)
        return _Group(places, cause, key, rests)

    def _hosts(self, place: Place, cause: Cause) -> frozenset[str]:
        """The hosts of a place, of whom it misses, and of the teams of the state."""
        towards = self.say.other(cause) if cause.towards else None
        uplinks = (self.plan.of("uplink").get(key.uplink) for key in cause.state.choice)
        keys = [place.stand.block, *([towards.stand.block] if towards is not None else [])]
        keys += [uplink.switch for uplink in uplinks if uplink is not None]
        return frozenset(map(self._host_of, keys))

    def _host_of(self, block: str) -> str:
        """The host of a block; the block itself where it is no host's."""
        owner = self.plan.of("virtual_switch").get(block) or self.plan.of("nic").get(block)
        return owner.host if owner is not None else block

    def _landed(self, place: Place) -> frozenset[int]:
        """The VID classes on which a place sends, lands over each of its ways, or ought to."""
        known = self._classes.get(place.stand)
        if known is None:
            known = self._classes[place.stand] = self._landing(place)
        return known

    def _landing(self, place: Place) -> frozenset[int]:
        landing, segment = self.judgement.landing, self.plan.of("segment").get(place.segment)
        landed = landing.rows.landed[landing.rows_of(landing.number(place.stand))].tolist()
        own = [int(self.wiring.classes.of[segment.vid])] if segment is not None and segment.vid else []
        return frozenset((*landed, *own, *([place.context] if place.context >= 0 else [])))

    def _finding(self, key: tuple[object, ...], groups: list[_Group]) -> Finding:
        found = sorted(((p, g.cause) for g in groups for p in g.places), key=lambda pair: pair[0].record)
        whom = Concerned(tuple(found))
        place, cause, endpoints = whom.place, whom.cause, whom.endpoints
        title, text, culprit = CAUSES[cause.what].words(self.say, whom)
        return Finding(
            id=hashlib.sha256(repr(key).encode()).hexdigest()[:12],
            verdict=self.say.status(place),
            what=cause.what,
            title=title,
            text=text,
            endpoints=endpoints,
            places=tuple(p for p, _ in found),
            place=place,
            towards=self.wiring.place(cause.towards) if cause.towards else None,
            segment=place.segment,
            culprit=culprit,
            state=cause.state,
            idle=all(is_idle(self.plan, e) for e in endpoints),
        )


def everything(judgement: Judgement, known: list[Risk] | None = None) -> list[Finding | Risk]:
    """All findings and risks (those `known`, if they have been looked for), worst first, those of idle endpoints last."""
    found = findings(judgement)
    told = [set(f.culprit) for f in found]
    suffered = {(risk, key) for f in found if (risk := CAUSES[f.what].risk) for key in (f.segment, *f.culprit)}
    # Where somebody suffers already, the risk would say the same once more.
    more = [
        r
        for r in (risks(judgement) if known is None else known)
        if (r.what not in ("native", "name") or not any(set(r.culprit) <= t for t in told))
        and not any((r.what, key) in suffered for key in (r.segment, *r.culprit))
    ]
    return [*(f for f in found if not f.idle), *more, *(f for f in found if f.idle)]


def proof(judgement: Judgement, finding: Finding | Risk) -> list[Trace]:
    """The traces that prove a finding: the way of a frame, hop by hop, up to where it goes wrong; a risk's facts."""
    if isinstance(finding, Risk):
        return [Trace(risk_proof(judgement, finding), False, "now")]
    cause = judgement.cause_of(finding.place)
    assert cause is not None
    return CAUSES[finding.what].proof(Sentences(judgement), finding.place, cause)

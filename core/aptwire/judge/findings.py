"""Findings: what is wrong, in plain sentences, one for all the endpoints that the same thing makes suffer."""

from __future__ import annotations

import hashlib
import operator
from dataclasses import dataclass

from aptwire.forward.parts import HOMELESS, Place, State
from aptwire.forward.trace import Trace
from aptwire.judge.causes import CAUSES, PLACE, PORT, STAND, Sentences, Told
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks import Risk, risk_proof, risks
from aptwire.judge.why import VERDICTS, Cause, is_idle
from aptwire.plan.collecting import no_collecting
from aptwire.plan.kinds import KINDS


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


def findings(judgement: Judgement) -> list[Finding]:
    """All findings, worst first, those that concern only idle endpoints last."""
    with no_collecting():
        return _Finder(judgement).run()


WITHIN_BLOCKS = (
    "fabric_port",
    "adapter",
    "guest_tag",
    "port_group",
    "group_order",
    "host_port",
    "uplink",
    "nic",
    "cable",
)
"""The kinds of which an edit compiles anew the blocks that it concerns, or else the fabric."""


@dataclass(frozen=True, eq=False)
class _Group:
    """Places of one stand that aren't home for one reason, and the key of their finding.

    `hosts` (ids) are those whose blocks it rests on, and `landed` where it lands; `hosts` None: it is worked out anew each time.
    """

    places: tuple[Place, ...]
    status: int
    cause: Cause
    key: tuple[object, ...]
    hosts: tuple[str, ...] | None
    landed: bytes


@dataclass(frozen=True)
class _Known:
    """What was told of the judgement before: groups by the first record of their stand with all its records, findings with whom they speak
    of by key, and the blocks of each host then."""

    groups: dict[str, tuple[tuple[str, ...], list[_Group]]]
    told: dict[tuple[object, ...], tuple[list[_Group], int, Finding]]
    blocks: dict[str, tuple[object, ...]]


class _Newest:
    """The newest of what is known; put in place as a whole, since several judgements may be told at once."""

    def __init__(self) -> None:
        self.known = _Known({}, {}, {})


class _Finder:
    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.plan = judgement.plan
        self.wiring = judgement.wiring
        self.say = Sentences(judgement)
        self._blocks_of: dict[str, tuple[object, ...]] = {}
        self._same: dict[str, bool] = {}
        homeless = self.wiring.blocks.get(HOMELESS)
        self._homeless = tuple(homeless.stand_of) if homeless is not None else ()

    def run(self) -> list[Finding]:
        newest = self.judgement.kept.get("findings", self._common(), _Newest)
        known = newest.known
        groups: dict[str, tuple[tuple[str, ...], list[_Group]]] = {}
        by_key: dict[tuple[object, ...], list[_Group]] = {}
        for records, status, cause in self.judgement.troubled():
            before, made = known.groups.get(records[0], ((), []))
            if before != records or not all(self._holds(known, group, status, cause) for group in made):
                made = self._groups(records, status, cause)
            groups[records[0]] = records, made
            for group in made:
                by_key.setdefault(group.key, []).append(group)
        told: dict[tuple[object, ...], tuple[list[_Group], int, Finding]] = {}
        for key, found in by_key.items():
            last, size = known.told.get(key), self.say.sizes.get(found[0].places[0].segment or "", 0)
            same = last is not None and last[1] == size and len(last[0]) == len(found)
            if last is None or not same or not all(map(operator.is_, last[0], found)):
                last = (found, size, self._finding(key, found))
            told[key] = last
        kept = {record: one for record, one in groups.items() if all(g.hosts is not None for g in one[1])}
        hosts = dict.fromkeys(host for _, made in kept.values() for group in made for host in group.hosts or ())
        newest.known = _Known(
            kept,
            {key: one for key, one in told.items() if all(group.hosts is not None for group in one[0])},
            {host: self._blocks(host) for host in hosts},
        )
        listed = [finding for _, _, finding in told.values()]
        listed.sort(key=lambda f: (f.idle, -VERDICTS.index(f.verdict), -len(f.endpoints), f.title, f.id))
        return listed

    def _common(self) -> tuple[object, ...]:
        """What every sentence may rest on, beside the blocks of those of whom it speaks."""
        wiring = self.wiring
        kinds = (self.plan.of(kind) for kind in KINDS if kind not in WITHIN_BLOCKS)
        return (wiring.fabric, wiring.classes, *wiring.crossing_teams, *kinds)

    def _groups(self, records: tuple[str, ...], status: int, cause: Cause) -> list[_Group]:
        """The places of a stand with their key: one for all, where that doesn't hang on which of them it is."""
        places = [place for record in records if (place := self.wiring.place(record)) is not None]
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
        # Whom untagged frames meet is told of others than these.
        landed = self._landed(places[0]) if kind.alike == PORT else b""
        hosts = self._hosts(places[0], cause) if kind.kept and landed is not None else None
        key = (self.say.status(places[0]), cause.what, *kind.key(self.say, places[0], cause))
        return _Group(places, status, cause, key, hosts, landed or b"")

    def _hosts(self, place: Place, cause: Cause) -> tuple[str, ...]:
        """The hosts of a place, of whom it misses, and of the teams of the state."""
        towards = self.say.other(cause) if cause.towards else None
        uplinks = (self.plan.of("uplink").get(key.partition("|")[0]) for key in cause.state.choice)
        keys = [place.stand.block, *([towards.stand.block] if towards is not None else [])]
        keys += [uplink.switch for uplink in uplinks if uplink is not None]
        return tuple(dict.fromkeys(map(self._host_of, keys)))

    def _host_of(self, block: str) -> str:
        """The host of a block; the block itself where it is no host's."""
        owner = self.plan.of("virtual_switch").get(block) or self.plan.of("nic").get(block)
        return owner.host if owner is not None else block

    def _blocks(self, host: str) -> tuple[object, ...]:
        """All blocks in which something of a host may be, or the one block that this names; and who is in no port group."""
        if host not in self._blocks_of:
            nics = (nic.id for nic in self.plan.where("nic", "host", host))
            keys = [*(switch.id for switch in self.plan.where("virtual_switch", "host", host)), *nics, host]
            self._blocks_of[host] = (self._homeless, *(self.wiring.blocks.get(key) for key in keys))
        return self._blocks_of[host]

    def _landed(self, place: Place) -> bytes | None:
        """Where a place lands over each of its ways; None where that is no VLAN."""
        landing = self.judgement.landing
        landed = landing.rows.landed[landing.rows_of(self.judgement.number(place.stand))]
        return landed.tobytes() if (landed > 0).all() else None

    def _holds(self, known: _Known, group: _Group, status: int, cause: Cause) -> bool:
        """Whether what was said of some places still is true."""
        return (
            group.hosts is not None
            and group.status == status
            and all(self._unchanged(known, host) for host in group.hosts)
            and group.cause == cause
            and (not group.landed or self._landed(group.places[0]) == group.landed)
        )

    def _unchanged(self, known: _Known, host: str) -> bool:
        """Whether a host's blocks are those of before."""
        if host not in self._same:
            before, now = known.blocks.get(host, ()), self._blocks(host)
            # Blocks are the same only where they are the very same.
            self._same[host] = before == now
        return self._same[host]

    def _finding(self, key: tuple[object, ...], groups: list[_Group]) -> Finding:
        found = sorted(((p, g.cause) for g in groups for p in g.places), key=lambda pair: pair[0].record)
        told = Told(tuple(found))
        place, cause, endpoints = told.place, told.cause, told.endpoints
        title, text, culprit = CAUSES[cause.what].words(self.say, told)
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

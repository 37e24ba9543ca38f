"""Where a stamped host is off its pattern, and what can be done about it: stamp again, adopt it into the pattern, or keep it as the host's own."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from aptwire.plan.compare import field_words, worded
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.fields import plain
from aptwire.plan.kinds import KINDS, SPECS, OwnWord, Record, Stamp
from aptwire.plan.names import called
from aptwire.plan.patterns import OWNER, STAMPED, on_host, parts_of
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.stamping.meant import (
    Meaning,
    Meant,
    There,
    counted_back,
    differing,
    fields_of,
    meant_nics,
    own_words,
    taken_nics,
)
from aptwire.stamping.stamp import beside, unstamp

MADE_OF = {kind: part for part, kind in STAMPED.items()}


@dataclass(frozen=True)
class Off:
    """One difference between a stamped host and its pattern.

    `about` is the part of the pattern (id), or a record of the host that no part accounts for; `what` is differs, missing or beside; `field` the one
    that differs; `wanted` and `found` what the pattern and the host say, in words.
    """

    stamp: str
    about: str
    what: str
    name: str
    field: str = ""
    wanted: str = ""
    found: str = ""

    def __str__(self) -> str:
        if self.what == "missing":
            return f"{self.name} is missing"
        if self.what == "beside":
            return f"{self.name} isn’t in the pattern"
        return f"{self.name}: {field_words(self.field)} is {self.found}, not {self.wanted}"

    def to_json(self) -> dict[str, str]:
        """For a program; `text` says it whole."""
        return {**vars(self), "text": str(self)}


def off(plan: Plan, own: Stamp, meaning: Meaning | None = None, there: There | None = None) -> tuple[Off, ...]:
    """Every difference between a stamped host and its pattern that isn't kept as the host's own; none: it is on its pattern.  `meaning`: what the pattern
    means, and `there`: what stands on the host, if they were read already."""
    nics = taken_nics(plan, own.id)
    meaning, there = meaning or Meaning(plan, own.pattern), there or on_host(plan, own.host)
    if meaning.fits(own, nics, there):
        return tuple(_beside(own, record) for record in beside(plan, own, there))
    try:
        placed = meaning.on(own, nics, there)
    except PlanError as error:
        problem = error.problems[0]
        part = plan.find(problem.id)
        return (
            Off(own.id, problem.id, "differs", _short(plan, part), "addresses", "counted on", str(problem.message)),
        )
    return tuple(_found(plan, own, nics, placed, there))


def _beside(own: Stamp, record: Any) -> Off:
    return Off(own.id, record.id, "beside", f"{record.title} {record.name}")


def _found(plan: Plan, own: Stamp, nics: dict[str, str], placed: list[Meant], there: There) -> Iterator[Off]:
    made = {m.part.id for m in placed if m.found is not None and m.found.part == m.part.id}
    at = {m.part.id: m.record for m in placed}
    for m in placed:
        if m.part.id not in made:
            yield Off(own.id, m.part.id, "missing", _short(plan, m.part))
        elif "" not in m.own:
            for field in differing(m.found, m.words, m.own):
                said = _worded(plan, m.found, field, m.words[field]), worded(plan, m.found, field)
                yield Off(own.id, m.part.id, "differs", _short(plan, m.part), field, *said)
    kept = own_words(plan, own.id)
    for part, nic, words in meant_nics(plan, own, nics, at):
        mine = kept.get(part.id, frozenset())
        if nic is None and "" not in mine:
            yield Off(own.id, part.id, "missing", _short(plan, part))
        elif nic is not None and "" not in mine:
            for field in differing(nic, words, mine):
                said = _worded(plan, nic, field, words[field]), worded(plan, nic, field)
                yield Off(own.id, part.id, "differs", f"{_short(plan, part)} ({nic.name})", field, *said)
    for record in beside(plan, own, there):
        if record.id not in kept and record.id not in at.values():
            yield _beside(own, record)


def _worded(plan: Plan, record: Record, field: str, value: Any) -> str:
    """What a field ought to say, in words; what isn't made yet is called by its part."""
    if SPECS[record.kind][field].kind == "ref" and value is not None and plan.find(value) is None:
        return "what is missing"
    return worded(plan, record, field, value)


def _short(plan: Plan, part: Any) -> str:
    """A part as people call what is made of it on a host."""
    if part.kind == "pattern_order":
        group, nic = plan.get("pattern_port_group", part.port_group), plan.get("pattern_nic", part.nic)
        return f"the order of {nic.name} for {group.name}"
    title = KINDS[STAMPED[part.kind]].title if part.kind in STAMPED else "NIC"
    return f"{title} {part.name}"


def find_off(plan: Plan, own: str, about: str, field: str) -> Off:
    """The difference that somebody means; PlanError where it is no more."""
    stamp = plan.of("stamp").get(own)
    found = [o for o in off(plan, stamp) if (o.about, o.field) == (about, field)] if stamp is not None else []
    if not found:
        raise PlanError([Problem("this difference is no longer there", kind="stamp", id=own)])
    return found[0]


def keep(plan: Plan, one: Off) -> Edit:
    """The edit that keeps a difference as the host's own: it isn't told any more, and stamping leaves it alone."""
    return (
        Put(
            OwnWord(
                id=plan.fresh_id(f"{one.stamp}:{one.about}:{one.field or 'own'}"),
                stamp=one.stamp,
                about=one.about,
                field=one.field,
            )
        ),
    )


def adopt(plan: Plan, one: Off) -> Edit:
    """The edit that takes a difference into the pattern: the other hosts are off it then, until they are stamped again."""
    own: Stamp = plan.get("stamp", one.stamp)
    if one.what == "missing":
        return take_out(plan, one.about)
    about: Any = plan.find(one.about)
    parts = _parts_at(plan, own)
    if one.what == "beside":
        made = part_for(plan, about, own, parts, plan.fresh_id(f"{own.pattern}:{about.kind}:{about.name}"))
        return (Put(made), Patch(about.kind, about.id, {"part": made.id}))
    if about.kind == "pattern_nic":
        record = plan.get("nic", taken_nics(plan, own.id)[about.id])
    else:
        record = next(r for r in on_host(plan, own.host)[STAMPED[about.kind]] if r.part == about.id)
    value = _handed_back(plan, record, own, parts, one.field)
    return (Patch(about.kind, about.id, {one.field: plain(value)}),)


def _parts_at(plan: Plan, own: Stamp) -> dict[str, str]:
    """The part (id) of the stamp's pattern of each of a host's records (ids), NICs among them."""
    mine = {part.id for kind in STAMPED for part in parts_of(plan, own.pattern, kind)}
    found = {r.id: r.part for there in on_host(plan, own.host).values() for r in there if r.part in mine}
    return found | {nic: part for part, nic in taken_nics(plan, own.id).items()}


def _handed_back(plan: Plan, record: Any, own: Stamp, parts: dict[str, str], field: str) -> Any:
    """What a part has to say for a host's record to say what it does."""
    value, spec = getattr(record, field), SPECS[record.kind][field]
    if field == "addresses":
        try:
            return tuple(counted_back(address, own.number) for address in value)
        except ValueError as error:
            raise PlanError([Problem(str(error), kind=record.kind, id=record.id, field=field)]) from None
    if spec.kind != "ref" or spec.refs == ("segment",) or value is None:
        return value
    if value not in parts:
        text = f"{called(plan, plan.find(value))} isn’t of this pattern"
        raise PlanError([Problem(text, kind=record.kind, id=record.id, field=field)])
    return parts[value]


def part_for(plan: Plan, record: Any, own: Stamp, parts: dict[str, str], id: str) -> Record:
    """The part of a pattern from which a host's record could have been stamped; `parts` are those of what it refers to."""
    kind = MADE_OF[record.kind]
    owner = OWNER[record.kind]
    words = {name: _handed_back(plan, record, own, parts, name) for name in fields_of(kind)}
    on = {"pattern": own.pattern} if kind == "pattern_switch" else {owner: parts[getattr(record, owner)]}
    return KINDS[kind](id=id, **on, **words)


def take_out(plan: Plan, part: str) -> Edit:
    """The edit that takes a part out of its pattern, with what is on it: what was stamped of it stays on its hosts, as their own."""
    found = plan.find(part)
    if found is None or (found.kind not in STAMPED and found.kind != "pattern_nic"):
        raise PlanError([Problem("there is no such part of a pattern", id=part)])
    gone: dict[str, Record] = {found.id: found}
    waiting: list[Record] = [found]
    made: list[Operation] = []
    while waiting:
        one = waiting.pop()
        for record, field in plan.referrers(one.kind, one.id):
            if record.kind in STAMPED and field in ("switch", "port_group", "nic"):
                if record.id not in gone:
                    gone[record.id] = record
                    waiting.append(record)
            elif record.kind in ("stamp_nic", "own_word", "flow"):
                gone[record.id] = record
            else:
                made.append(Patch(record.kind, record.id, {field: None}))
    kept = [o for o in made if isinstance(o, Patch) and o.id not in gone]
    return (*kept, *(Drop(r.kind, r.id) for r in gone.values()))


def remove(plan: Plan, pattern: str) -> Edit:
    """The edit that takes a pattern away: what was stamped of it stays, as the hosts' own."""
    stamps = plan.where("stamp", "pattern", pattern)
    kinds = (
        "pattern_order",
        "pattern_nic",
        "pattern_port_group",
        "pattern_host_port",
        "pattern_uplink",
        "pattern_switch",
    )
    parts = [part.id for kind in ("pattern_port_group", "pattern_host_port") for part in parts_of(plan, pattern, kind)]
    return (
        *(operation for s in stamps for operation in unstamp(plan, s.id)),
        *(Drop("flow", flow.id) for part in parts for flow in plan.where("flow", "of", part)),
        *(Drop(kind, part.id) for kind in kinds for part in parts_of(plan, pattern, kind)),
        Drop("pattern", pattern),
    )

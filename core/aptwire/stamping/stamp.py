"""Stamping: the edit that gives hosts what a pattern says, and what takes a host off it again."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from operator import itemgetter
from typing import Any, NamedTuple

from aptwire.plan.collecting import no_collecting
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.fields import bare_address
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import KINDS, SPECS, Record, Stamp, StampNic, made_of
from aptwire.plan.names import called
from aptwire.plan.patterns import OWNER, STAMPED, on_host, parts_of
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.stamping.meant import (
    Meaning,
    Meant,
    There,
    counted_on,
    differing,
    interface,
    meant_nics,
    own_words,
    owner_of,
    taken_nics,
)
from aptwire.stamping.nics import Question, chosen

Answers = Mapping[tuple[str, str], str | None]
"""The NIC (id) that is a pattern's, by host and the pattern's NIC (ids); None: the host goes without."""


def stamp(plan: Plan, pattern: str, hosts: Sequence[str], answers: Answers | None = None) -> Edit:
    """The edit that stamps a pattern on some hosts (ids), or stamps it on them again.

    What the pattern means on a host is looked for there by what it was stamped as before, then by its name, and made where it isn't.
    What a host keeps as its own is left alone.  PlanError asks where a NIC isn't clear (`questions` says more), and
    tells of a host where it can't be done.
    """
    if pattern not in plan.of("pattern"):
        raise PlanError([Problem("there is no such pattern", field="pattern")])
    if missing := [host for host in hosts if host not in plan.of("host")]:
        raise PlanError([Problem(f"there is no host {missing[0]}", field="hosts")])
    made: list[Operation | _Made] = []
    problems: list[Problem] = []
    with no_collecting():
        numbers, meaning, new = _Numbers(plan, pattern), Meaning(plan, pattern), _New()
        for host in dict.fromkeys(hosts):
            own, nics, asked = _seated(plan, pattern, host, numbers, answers or {})
            problems += [
                Problem(q.text, kind="host", id=q.host, field=plan.get("pattern_nic", q.part).name) for q in asked
            ]
            try:
                made += _on_host(meaning, own, nics, new)
            except PlanError as error:
                problems += error.problems
        if problems:
            raise PlanError(dict.fromkeys(problems))
        records = new.records()
    return tuple(Put(records[o.part][o.id]) if isinstance(o, _Made) else o for o in made)


class _Made(NamedTuple):
    """In place of what puts a record that is made of a part."""

    part: str
    id: str


class _New:
    """What is made anew on many hosts, gathered by the pattern's part of which it is made."""

    def __init__(self) -> None:
        self._of: dict[str, tuple[str, list[str], list[str | None], list[Mapping[str, Any]]]] = {}

    def add(self, kind: str, meant: Meant, owner: str | None) -> _Made:
        """A record of a kind on its owner (id), as it is meant."""
        _, ids, owners, words = self._of.setdefault(meant.part.id, (kind, [], [], []))
        ids.append(meant.record)
        owners.append(owner)
        words.append(meant.words)
        return _Made(meant.part.id, meant.record)

    def records(self) -> dict[str, dict[str, Record]]:
        """All of them, by part and id."""
        found: dict[str, dict[str, Record]] = {}
        for part, (kind, ids, owners, words) in self._of.items():
            columns: dict[str, list[Any]] = {name: list(map(itemgetter(name), words)) for name in words[0]}
            made = made_of(kind, {"id": ids, OWNER[kind]: owners, **columns})
            found[part] = dict(zip(ids, made, strict=True))
        return found


def questions(plan: Plan, pattern: str, hosts: Iterable[str], answers: Answers | None = None) -> list[Question]:
    """What has to be asked before a pattern can be stamped on some hosts."""
    found: list[Question] = []
    for host in dict.fromkeys(hosts):
        found += _nics(plan, pattern, host, _stamp_of(plan, pattern, host), answers or {})[1]
    return found


def _stamp_of(plan: Plan, pattern: str, host: str) -> Stamp | None:
    return next((s for s in plan.where("stamp", "host", host) if s.pattern == pattern), None)


def _nics(
    plan: Plan, pattern: str, host: str, known: Stamp | None, answers: Answers
) -> tuple[dict[str, str], list[Question]]:
    """The NIC for each of the pattern's on a host, as far as it is clear, and what has to be asked.  Those asked for by name go first, so that none is
    taken by one that would do with any."""
    nics = taken_nics(plan, known.id) if known is not None else {}
    own = own_words(plan, known.id) if known is not None else {}
    taken = {t.nic for n in plan.where("nic", "host", host) for t in plan.where("stamp_nic", "nic", n.id)}
    asked: list[Question] = []
    parts = sorted(parts_of(plan, pattern, "pattern_nic"), key=lambda p: (not p.named, p.place or 0, p.name))
    # Places are counted among all that fit, so what two of the pattern's NICs want alike is counted before any is taken.
    free = frozenset(taken)
    for part in parts:
        if (host, part.id) in answers:
            answer = answers[host, part.id]
            nics.pop(part.id, None)
            if answer is not None:
                nics[part.id] = answer
        elif part.id not in nics and "" not in own.get(part.id, ()):
            found = chosen(plan, part, host, free if part.place is not None else frozenset(taken))
            if isinstance(found, Question):
                asked.append(found)
                continue
            nics[part.id] = found.id
        taken.add(nics.get(part.id, ""))
    twice = {nic for nic in nics.values() if list(nics.values()).count(nic) > 1}
    for part in parts:
        if nics.get(part.id) in twice:
            nic = plan.of("nic").get(nics[part.id])
            text = f"{called(plan, nic)} would be {part.name} and another of the pattern’s NICs"
            asked.append(Question(host, part.id, (nics[part.id],), text))
    return nics, asked


def _seated(
    plan: Plan, pattern: str, host: str, numbers: _Numbers, answers: Answers
) -> tuple[Stamp, dict[str, str], list[Question]]:
    known = _stamp_of(plan, pattern, host)
    nics, asked = _nics(plan, pattern, host, known, answers)
    if known is None:
        known = Stamp(id=plan.fresh_id(f"{host}:{pattern}"), host=host, pattern=pattern, number=numbers.next(host))
    return known, nics, asked


class _Numbers:
    """Which number a host gets: that of the addresses that it bears already, else the least that is free with all its addresses."""

    def __init__(self, plan: Plan, pattern: str) -> None:
        self._plan = plan
        self._taken = {stamp.number for stamp in plan.where("stamp", "pattern", pattern)}
        self._ports = [port for port in parts_of(plan, pattern, "pattern_host_port") if port.addresses]
        self._borne = set(borne(plan)) if self._ports else set()
        self._least = 1

    def next(self, host: str) -> int:
        number = self._bears(host)
        if number is None:
            number = self._least
            while number in self._taken or not self._free(number):
                number += 1
            self._least = number + 1
        self._taken.add(number)
        return number

    def _bears(self, host: str) -> int | None:
        """The number by which a host has the addresses of its ports of the same names."""
        found: set[int] = set()
        by_name = {port.name: port for port in on_host(self._plan, host)["host_port"]}
        for part in self._ports:
            port = by_name.get(part.name)
            if port is None or len(port.addresses) != len(part.addresses):
                return None
            for own, first in zip(port.addresses, part.addresses, strict=True):
                (one, at), (two, least) = interface(own), interface(first)
                if one != two:
                    return None
                found.add(at - least + 1)
        number = min(found, default=0)
        return number if len(found) == 1 and number > 0 and number not in self._taken else None

    def _free(self, number: int) -> bool:
        try:
            wanted = [bare_address(counted_on(a, number)) for port in self._ports for a in port.addresses]
        except ValueError:
            # That there is none left is told where the address is counted.
            return True
        return self._borne.isdisjoint(wanted)


def borne(plan: Plan) -> Iterator[str]:
    """Every address that the plan gives to somebody."""
    for kind, specs in SPECS.items():
        if specs.get("addresses") is not None and kind in KINDS and not kind.startswith("pattern"):
            yield from (bare_address(a) for record in plan.all(kind) for a in record.addresses)
    for segment in plan.all("segment"):
        yield from segment.gateways


def _on_host(meaning: Meaning, own: Stamp, nics: Mapping[str, str], new: _New) -> Iterator[Operation | _Made]:
    """The operations for one host: the stamp and its NICs, then what differs, what others stand on first."""
    plan = meaning.plan
    if own.id not in plan.of("stamp"):
        yield Put(own)
    yield from _taken(plan, own, nics)
    there = on_host(plan, own.host)
    placed = meaning.on(own, nics, there)
    at = {m.part.id: m.record for m in placed}
    for m in placed:
        kind = STAMPED[m.part.kind]
        if m.found is None:
            owner = own.host if kind == "virtual_switch" else at[owner_of(m.part)]
            yield new.add(kind, m, owner)
        elif "" not in m.own:
            set_ = differing(m.found, m.words, m.own)
            if set_:
                yield Patch(kind, m.record, set_)
    wanted = own_words(plan, own.id)
    for part, nic, words in meant_nics(plan, own, nics, at):
        set_ = differing(nic, words, wanted.get(part.id, frozenset())) if nic is not None else {}
        if set_:
            yield Patch("nic", nic.id, set_)
    placed_ids = set(at.values())
    # What a host has beside its pattern is told after it was stamped once; only then is it known to be too much.
    for record in beside(plan, own, there) if own.id in plan.of("stamp") else ():
        if record.id not in wanted and record.id not in placed_ids and _unused(plan, record):
            yield Drop(record.kind, record.id)


def _taken(plan: Plan, own: Stamp, nics: Mapping[str, str]) -> Iterator[Operation]:
    known = {taken.part: taken for taken in plan.where("stamp_nic", "stamp", own.id)}
    for part, nic in nics.items():
        if part not in known:
            yield Put(StampNic(id=make_id(f"{own.id}:{part}"), stamp=own.id, part=part, nic=nic))
        elif known[part].nic != nic:
            yield Patch("stamp_nic", known[part].id, {"nic": nic})
    for part, taken in known.items():
        if part not in nics:
            yield Drop("stamp_nic", taken.id)


def beside(plan: Plan, own: Stamp, there: There) -> list[Any]:
    """What stands on a host's stamped switches and isn't of any pattern, in the order of the kinds."""
    parts = {part.id for part in parts_of(plan, own.pattern, "pattern_switch")}
    on = {switch.id for switch in there["virtual_switch"] if switch.part in parts}
    kinds = ("uplink", "host_port", "port_group")
    return [record for kind in kinds for record in there[kind] if record.part is None and record.switch in on]


def _unused(plan: Plan, record: Record) -> bool:
    """Whether stamping may take away what isn't of the pattern: a host port is the host's own address, anything else waits until nobody uses it."""
    return record.kind != "host_port" and not any(True for _ in plan.referrers(record.kind, record.id))


def unstamp(plan: Plan, own: str) -> Edit:
    """The edit that takes a host off its pattern: all that was stamped stays as it is, as the host's own."""
    found = plan.of("stamp").get(own)
    if found is None:
        raise PlanError([Problem("there is no such stamp", kind="stamp", id=own)])
    parts = {part.id for kind in STAMPED for part in parts_of(plan, found.pattern, kind)}
    loose = [r for there in on_host(plan, found.host).values() for r in there if r.part in parts]
    return (
        *(Patch(r.kind, r.id, {"part": None}) for r in loose),
        *(Drop(kind, r.id) for kind in ("own_word", "stamp_nic") for r in plan.where(kind, "stamp", own)),
        Drop("stamp", own),
    )

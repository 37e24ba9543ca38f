"""What is meant to be alike on hosts and isn't: hosts that are off their pattern, and names that nearly agree."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Collection, Hashable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import combinations
from typing import Any, NamedTuple

from aptwire.judge.book import Grouping
from aptwire.judge.facts import Facts
from aptwire.judge.judgement import Judgement
from aptwire.judge.kept import Kept
from aptwire.judge.risks.base import UNTIDY, Risk, RiskSearch
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import KINDS, UNSEEN, Stamp
from aptwire.plan.layers import layered
from aptwire.plan.names import called, some
from aptwire.plan.patterns import OWNER, host_id, on_host, pattern_of
from aptwire.plan.plan import PlanError
from aptwire.stamping.meant import Meaning
from aptwire.stamping.off import Off, keep, off
from aptwire.stamping.stamp import stamp

RARE = 3
"""A name that differs in one letter is taken for a slip where the other one is on so many times as many hosts."""

_APART = re.compile(r"[\s_\-–—.]+")


@dataclass(frozen=True)
class _Offs:
    """What each stamp's host (ids) has that its pattern hasn't, those without left out; and the host of each record of a stamped host."""

    of: Mapping[str, tuple[Off, ...]]
    hosts: Mapping[str, str]


class Named(NamedTuple):
    """What something on a host is called, and what frames see of it."""

    kind: str
    name: str
    words: Hashable

    @property
    def own(self) -> tuple[str, str]:
        """The kind, and the name but for case, blanks and dashes."""
        return self.kind, squashed(self.name)


@dataclass(frozen=True)
class _Names:
    """What is called something `by_name` but for case, blanks and dashes; which of these stand for more than one name (`twice`), and which two differ
    in one letter while frames see the same in both (`near`)."""

    by_name: Mapping[tuple[str, str], tuple[Named, ...]]
    twice: tuple[tuple[str, str], ...]
    near: tuple[tuple[tuple[str, str], tuple[str, str]], ...]

    @staticmethod
    def of(called: Iterable[Any], kept: Kept) -> _Names:
        made: dict[tuple[str, str], tuple[Named, ...]] = {}
        for named in called:
            made[named.own] = (*made.get(named.own, ()), named)
        twice = (own for own, found in made.items() if len({named.name for named in found}) > 1)
        pairs = kept.get("near names", (frozenset(made),), lambda: frozenset(_near(made)))
        near = (pair for pair in pairs if len({named.words for own in pair for named in made[own]}) == 1)
        return _Names(made, tuple(sorted(twice)), tuple(sorted(near)))


class AlikeRisks(RiskSearch):
    """What could be alike."""

    def off_pattern(self) -> Iterator[Risk]:
        """Hosts that differ from the pattern that is stamped on them, one risk for each pattern."""
        if not self.plan.of("stamp"):
            return
        by_pattern: dict[str, list[tuple[Stamp, tuple[Off, ...]]]] = {}
        for id, found in self._offs().of.items():
            own = self.plan.get("stamp", id)
            by_pattern.setdefault(own.pattern, []).append((own, found))
        for pattern, listed in by_pattern.items():
            yield self._off(pattern, sorted(listed, key=lambda pair: self.host(pair[0].host)))

    def _off(self, pattern: str, listed: list[tuple[Stamp, tuple[Off, ...]]]) -> Risk:
        name = self.plan.get("pattern", pattern).name
        hosts = [self.host(own.host) for own, _ in listed]
        told = [
            f"{self.host(own.host)}: {'; '.join(map(str, found[:4]))}{_more(len(found) - 4)}"
            for own, found in listed[:3]
        ]
        stamps, ids = tuple(own.id for own, _ in listed), tuple(own.host for own, _ in listed)

        def mends(look: RiskSearch) -> tuple[tuple[str, Edit], ...]:
            plan = look.plan
            kept = tuple(o for id in stamps for one in off(plan, plan.get("stamp", id)) for o in keep(plan, one))
            made = [(f"Keep what differs as the own of {some(hosts)}", kept)]
            # A host that has to be asked is stamped where somebody can answer.
            with contextlib.suppress(PlanError):
                made.insert(0, (f"Stamp {name} on {some(hosts)} again", stamp(plan, pattern, ids)))
            return tuple(made)

        return Risk(
            UNTIDY,
            "off-pattern",
            (pattern,),
            f"{some(hosts)} {'is' if len(hosts) == 1 else 'are'} off pattern {name}",
            f"{'. '.join(told)}{_more(len(listed) - len(told), ' hosts')}.",
            ids,
            facts=tuple(
                self.fact(o.host, f"pattern {name}", str(one)) for o, found in listed[:20] for one in found[:10]
            ),
            mends=mends,
        )

    def _offs(self) -> _Offs:
        plan, answered = self.plan, self.judgement.answered
        told = answered.answers.get("off-pattern")
        if isinstance(told, _Offs):
            return told
        stamps = plan.of("stamp")
        before, changes = answered.before.get("off-pattern", (None, None))
        known = before if isinstance(before, _Offs) and changes is not None else _Offs({}, {})
        asked = set(stamps) if known is not before else self._asked(known, changes.records if changes else ())
        of: dict[str, tuple[Off, ...] | None] = {id: None for id in known.of if id not in stamps}
        hosts: dict[str, str | None] = {}
        meanings: dict[str, Meaning] = {}
        for id in asked:
            own = stamps.get(id)
            if own is None:
                of[id] = None
                continue
            if own.pattern not in meanings:
                meanings[own.pattern] = Meaning(plan, own.pattern)
            there = on_host(plan, own.host)
            of[id] = off(plan, own, meanings[own.pattern], there) or None
            hosts.update((record.id, own.host) for found in there.values() for record in found)
        made = _Offs(layered(dict(known.of), of), layered(known.hosts, hosts))
        answered.answers["off-pattern"] = made
        return made

    def _asked(self, known: _Offs, records: Iterable[tuple[str, str]]) -> set[str]:
        """The stamps whose hosts may stand otherwise than was told, after an edit of some records."""
        plan = self.plan
        hosts: set[str | None] = set()
        found: set[str] = set()
        # Of records with one owner the first one says on which host all are.
        owned: dict[str, Any] = {}
        for kind, id in records:
            record: Any = plan.of(kind).get(id)
            if kind in OWNER:
                hosts.add(known.hosts.get(id))
                if record is not None:
                    owned.setdefault(getattr(record, OWNER[kind]), record)
            elif kind == "nic" and record is not None:
                hosts.add(record.host)
            elif kind == "stamp":
                found.add(id)
            elif kind in ("stamp_nic", "own_word") and record is not None:
                found.add(record.stamp)
            elif kind in UNSEEN:
                pattern = pattern_of(plan, record)
                found.update(s.id for s in plan.all(Stamp) if pattern is None or s.pattern == pattern)
            elif kind in ("host", "segment"):
                # They stand in what was said.
                found.update(known.of)
        hosts.update(host_id(plan, record) for record in owned.values())
        return found | {s.id for host in hosts if host is not None for s in plan.where("stamp", "host", host)}

    def named(self, listed: tuple[Facts, ...]) -> Iterator[tuple[Named, str]]:
        """What is called something on a host (ids), by what it is called."""
        for found in listed:
            switch = self.plan.get("virtual_switch", found.switch)
            yield Named("virtual_switch", switch.name, ()), switch.id
            for group, words in found.groups:
                yield Named("port_group", group.name, words), group.id
            for port in self.plan.where("host_port", "switch", found.switch):
                yield Named("host_port", port.name, (port.vid,)), port.id

    def named_alike(self) -> Iterator[Risk]:
        """Names that differ in case, blanks or dashes alone, or in one letter, where the one is on few hosts, the other on many, none has both,
        and frames see the same in both."""
        by_key: Mapping[Any, Mapping[str, tuple[str, ...]]] = self.book.grouped(NAMED, self).by_key
        called = self.kept.get("called", (by_key,), lambda: frozenset(by_key))
        names = self.kept.get("names", (called,), lambda: _Names.of(called, self.kept))
        for own in names.twice:
            yield self._alike(names.by_name[own], by_key)
        for pair in names.near:
            hosts = {own: frozenset(host for key in names.by_name[own] for host in by_key[key]) for own in pair}
            few, many = sorted(pair, key=lambda own: len(hosts[own]))
            if len(hosts[few]) * RARE <= len(hosts[many]) and hosts[few].isdisjoint(hosts[many]):
                yield self._alike((*names.by_name[few], *names.by_name[many]), by_key)

    def _alike(self, keys: Iterable[Named], by_key: Mapping[Any, Mapping[str, tuple[str, ...]]]) -> Risk:
        found = sorted((host, id, key) for key in keys for host, ids in by_key[key].items() for id in ids)
        kind = found[0][2].kind
        by_name: dict[str, list[str]] = {}
        for _, id, key in found:
            by_name.setdefault(key.name, []).append(id)
        most = max(sorted(by_name), key=lambda name: len(by_name[name]))
        others = {name: ids for name, ids in by_name.items() if name != most}
        edit = tuple(Patch(kind, id, {"name": most}) for ids in others.values() for id in ids)
        title = KINDS[kind].title
        where = [
            f"{name} ({called(self.plan, self.plan.get(kind, ids[0]))}{_more(len(ids) - 1)})"
            for name, ids in sorted(others.items())
        ]
        return Risk(
            UNTIDY,
            "alike-name",
            (kind, squashed(most)),
            f"{title[0].upper()}{title[1:]} {most} is nearly called the same elsewhere: {some(sorted(others))}",
            f"{len(by_name[most])} are called {most}; then there is {some(where)}.",
            tuple(id for ids in others.values() for id in ids),
            facts=tuple(self.fact(id, name, f"elsewhere {most}") for name, ids in others.items() for id in ids[:10]),
            mends=((f"Call {'it' if len(edit) == 1 else 'them all'} {most}", edit),),
        )


def offs(judgement: Judgement) -> Mapping[str, tuple[Off, ...]]:
    """The differences of each stamp (id) whose host is off its pattern."""
    return AlikeRisks(judgement)._offs().of


def _more(count: int, what: str = "") -> str:
    return f" and {count} more{what}" if count > 0 else ""


def squashed(name: str) -> str:
    """A name without case, blanks and dashes."""
    return _APART.sub("", name.casefold())


def _near(every: Collection[tuple[str, str]]) -> Iterator[tuple[tuple[str, str], tuple[str, str]]]:
    """The pairs of (kind, name) of which the names differ in one letter: another, one more, or one less."""
    wild: dict[tuple[str, str], list[tuple[str, str]]] = {}
    for kind, name in every:
        for at, letter in enumerate(name):
            if letter.isalpha() and len(name) > 3:
                wild.setdefault((kind, f"{name[:at]}\0{name[at + 1 :]}"), []).append((kind, name))
                if (kind, name[:at] + name[at + 1 :]) in every:
                    yield (kind, name[:at] + name[at + 1 :]), (kind, name)
    for same in wild.values():
        yield from combinations(sorted(same), 2)


NAMED: Grouping[Any, Risk] = Grouping("named", AlikeRisks.named)

"""What is meant to be alike on hosts and isn't: hosts that are off their pattern, and names that nearly agree."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Hashable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from itertools import combinations
from typing import Any

from aptwire.judge.book import Grouping
from aptwire.judge.facts import Facts
from aptwire.judge.judgement import Judgement
from aptwire.judge.risks.base import UNTIDY, Risk, RiskSearch
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import KINDS, UNSEEN, Stamp
from aptwire.plan.layers import layered
from aptwire.plan.names import called, some
from aptwire.plan.patterns import STAMPED, host_id, of_host, pattern_of
from aptwire.plan.plan import PlanError
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
        for id in asked:
            own = stamps.get(id)
            if own is None:
                of[id] = None
                continue
            of[id] = off(plan, own) or None
            for kind in STAMPED.values():
                hosts.update((r.id, own.host) for r in of_host(plan, kind, own.host))
        made = _Offs(layered(dict(known.of), of), layered(known.hosts, hosts))
        answered.answers["off-pattern"] = made
        return made

    def _asked(self, known: _Offs, records: Iterable[tuple[str, str]]) -> set[str]:
        """The stamps whose hosts may stand otherwise than was told, after an edit of some records."""
        plan = self.plan
        hosts: set[str | None] = set()
        found: set[str] = set()
        for kind, id in records:
            record: Any = plan.of(kind).get(id)
            if kind in STAMPED.values():
                hosts.update((known.hosts.get(id), host_id(plan, record) if record is not None else None))
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
        return found | {s.id for host in hosts if host is not None for s in plan.where("stamp", "host", host)}

    def named(self, listed: tuple[Facts, ...]) -> Iterator[tuple[tuple[str, str], tuple[str, str, object]]]:
        """What is called something on a host, by kind and by its name but for case, blanks and dashes: the name, the id, and what frames see of it."""
        for found in listed:
            switch = self.plan.get("virtual_switch", found.switch)
            yield ("virtual_switch", squashed(switch.name)), (switch.name, switch.id, ())
            for group, words in found.groups:
                yield ("port_group", squashed(group.name)), (group.name, group.id, words)
            for port in self.plan.where("host_port", "switch", found.switch):
                yield ("host_port", squashed(port.name)), (port.name, port.id, (port.vid,))

    def named_alike(self, key: tuple[str, str], found: list[tuple[str, str, object]]) -> Iterator[Risk]:
        """Names that differ in case, blanks or dashes alone."""
        if len({name for name, _, _ in found}) > 1:
            yield self._alike(key[0], found)

    def named_nearly(self) -> Iterator[Risk]:
        """Names that differ in one letter, where the one is on few hosts, the other on many, none has both, and frames see the same in both."""
        by_key = self.book.grouped(NAMED, self).by_key
        names = frozenset(key for key in by_key if isinstance(key, tuple))
        for one, two in self.kept.get("near names", (names,), lambda: sorted(set(_near(names)))):
            few, many = sorted((one, two), key=lambda key: len(by_key[key]))
            if len(by_key[few]) * RARE > len(by_key[many]) or not by_key[few].keys().isdisjoint(by_key[many]):
                continue
            found = [value for key in (many, few) for host in by_key[key] for value in by_key[key][host]]
            if len({words for _, _, words in found}) == 1:
                yield self._alike(one[0], found)

    def _alike(self, kind: str, found: list[tuple[str, str, object]]) -> Risk:
        by_name: dict[str, list[str]] = {}
        for name, id, _ in found:
            by_name.setdefault(name, []).append(id)
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


def _near(keys: Iterable[Hashable]) -> Iterator[tuple[Any, Any]]:
    """The pairs of (kind, name) of which the names differ in one letter: another, one more, or one less."""
    wild: dict[tuple[str, str], list[tuple[str, str]]] = {}
    every: set[tuple[str, str]] = {key for key in keys if isinstance(key, tuple)}
    for kind, name in every:
        for at, letter in enumerate(name):
            if letter.isalpha() and len(name) > 3:
                wild.setdefault((kind, f"{name[:at]}\0{name[at + 1 :]}"), []).append((kind, name))
                if (kind, name[:at] + name[at + 1 :]) in every:
                    yield (kind, name[:at] + name[at + 1 :]), (kind, name)
    for same in wild.values():
        yield from combinations(sorted(same), 2)


NAMED: Grouping[Any, Risk] = Grouping(
    "named",
    AlikeRisks.named,
    AlikeRisks.named_alike,
    told_of=lambda look: (look.plan.of("host"), look.plan.of("virtual_switch")),
)

"""What roles or segments that a rule keeps from sharing anything share on a host: a VID, a virtual switch, an uplink, a NIC, a card, a cable, or the switch into
which it is plugged."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from functools import cached_property
from itertools import combinations

from aptwire.judge.book import Grouping, book_of
from aptwire.judge.facts import Facts
from aptwire.judge.judgement import Judgement
from aptwire.judge.kept import Rests
from aptwire.plan.edits import Edit, Operation, Patch, Put
from aptwire.plan.hosting import on_switches
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import Cable, FabricPort, HostPort, Nic, Rule, Segment, Uplink, VirtualSwitch
from aptwire.plan.names import some
from aptwire.plan.plan import Plan
from aptwire.plan.ports import far_end
from aptwire.plan.sentences import ANYTHING, ROLE, Share, Subject, read

THINGS_SAID = {
    "card": "a card",
    "nic": "a NIC",
    "cable": "a cable",
    "uplink": "an uplink",
    "virtual_switch": "a virtual switch",
    "fabric_switch": "a switch",
    "vid": "a VID",
}
"""What may be shared, what hurts most first, as sentences say it."""
FAR = {"cable", "fabric_switch"}
"""What no host has itself."""


@dataclass(frozen=True)
class Side:
    """Whom a subject means of what sits on a host: roles, or segments (ids), by their names."""

    word: str
    roles: frozenset[str]
    segments: frozenset[str]

    def of(self, facts: Facts) -> set[int] | None:
        """The VIDs that it uses on a switch; None: it isn't there."""
        found = [facts.segments[id] for id in self.segments & facts.segments.keys()]
        found += [facts.roles[role] for role in self.roles & facts.roles.keys()]
        return set().union(*found) if found else None

    def has(self, plan: Plan, segment: str | None) -> bool:
        """Whether what belongs on a segment is of it."""
        return segment is not None and (segment in self.segments or plan.get("segment", segment).role in self.roles)


@dataclass(frozen=True)
class Shared:
    """Two of a rule who share something: `thing` a key of THINGS_SAID, `where` pairs of a host and what is shared there (an id, or a VID)."""

    a: str
    b: str
    thing: str
    where: tuple[tuple[str, str], ...]


class Shares:
    """What the rules of a judged plan say is shared by nobody, and is."""

    def __init__(self, judgement: Judgement) -> None:
        self.plan = judgement.plan
        self.book = book_of(judgement)

    def of(self, sentence: Share, rule: str = "") -> list[Shared]:
        """What those of whom a sentence speaks share, what hurts most first; `rule`: the plan's that says it (id), unless it isn't one yet."""
        if rule:
            found = [shared for id, shared in self.book.grouped(SHARED, self).all() if id == rule]
        else:
            sides = [side for subject in sentence.a if (side := self.side(subject)) is not None]
            where: dict[tuple[str, str, str], list[tuple[str, str]]] = {}
            for listed in self.book.hosts.values():
                for key, at in self._on(listed, sentence, sides):
                    where.setdefault(key, []).append(at)
            found = [Shared(*key, tuple(sorted(at))) for key, at in where.items()]
        order = list(THINGS_SAID)
        return sorted(found, key=lambda s: (order.index(s.thing), s.a, s.b))

    def side(self, subject: Subject) -> Side | None:
        """Whom a subject means: a role, or else a segment, unless it says which; None: no segment has that name or role, and no host port that service."""
        roles = frozenset(role for role in self._roles if fnmatchcase(role, subject.name))
        if subject.sort == ROLE or (subject.sort == ANYTHING and roles):
            return Side(subject.name, roles, frozenset()) if roles else None
        named = frozenset(s.id for s in self.plan.all(Segment) if fnmatchcase(s.name, subject.name))
        return Side(subject.name, frozenset(), named) if named else None

    @cached_property
    def _roles(self) -> frozenset[str]:
        roles = {segment.role for segment in self.plan.all(Segment)} - {""}
        return frozenset(roles | {service for port in self.plan.all(HostPort) for service in port.services})

    @cached_property
    def _rules(self) -> list[tuple[Rule, Share, list[Side]]]:
        """The rules that speak of what is shared, with all whom each means."""
        found = []
        for rule in sorted(self.plan.all(Rule), key=lambda r: r.id):
            sentence = read(rule.text)
            if isinstance(sentence, Share):
                sides = [side for subject in sentence.a if (side := self.side(subject)) is not None]
                found.append((rule, sentence, sides))
        return found

    def shared_on(self, listed: tuple[Facts, ...]) -> Iterator[tuple[tuple[str, str, str, str], tuple[str, str]]]:
        """What is shared on a host: rule, the two and what, the host and which; of nested things the one that hurts most."""
        for rule, sentence, sides in self._rules:
            for key, at in self._on(listed, sentence, sides):
                yield (rule.id, *key), at

    def _on(
        self, listed: tuple[Facts, ...], sentence: Share, sides: list[Side]
    ) -> Iterator[tuple[tuple[str, str, str], tuple[str, str]]]:
        uses = [(side, self._uses(listed, side)) for side in sides]
        for (one, a), (two, b) in combinations(uses, 2):
            for thing in THINGS_SAID:
                common = a[thing] & b[thing] if thing in sentence.things else None
                if common:
                    yield (one.word, two.word, thing), (listed[0].host, min(common))
                    break

    def told(self, key: tuple[str, str, str, str], where: list[tuple[str, str]]) -> Iterator[tuple[str, Shared]]:
        """The same of all hosts together."""
        rule, one, two, thing = key
        yield rule, Shared(one, two, thing, tuple(sorted(where)))

    def _uses(self, switches: tuple[Facts, ...], side: Side) -> dict[str, set[str]]:
        own = [(f, vids_) for f in switches if (vids_ := side.of(f)) is not None]
        nics = {m.nic.id for f, _ in own for t in f.teams for m in t.members}
        for found in switches[:1]:
            for nic in self.plan.where("nic", "host", found.host):
                for adapter in self.plan.where("adapter", "function_of", nic.id):
                    if side.has(self.plan, adapter.belongs):
                        nics.add(nic.id)
        return {
            "vid": {str(v) for _, vids_ in own for v in vids_ if v},
            "virtual_switch": {f.switch for f, _ in own},
            "uplink": {t.uplink.id for f, _ in own for t in f.teams},
            "nic": nics,
            "card": {self.plan.get("nic", id).card for id in nics} - {""},
            "cable": {cable.id for id in nics for cable in self.cables(id)},
            "fabric_switch": {port.switch for id in nics if isinstance(port := far_end(self.plan, id), FabricPort)},
        }

    def cables(self, nic: str) -> Sequence[Cable]:
        """What is plugged into a NIC."""
        return [*self.plan.where("cable", "a", nic), *self.plan.where("cable", "b", nic)]

    def made_of(self) -> Rests:
        """What these answers rest on beside each host."""
        rules = tuple((rule.id, sentence, tuple(sides)) for rule, sentence, sides in self._rules)
        if not rules:
            return ()
        functions = tuple(self.plan.having("adapter", "function_of"))
        outward = any(not FAR.isdisjoint(sentence.things) for _, sentence, _ in self._rules)
        kinds = ("segment", "nic", *(("cable", "fabric_port") if outward else ()))
        return (repr(rules), *(self.plan.of(kind) for kind in kinds), *functions)

    def splits(self, subjects: tuple[Subject, ...], hosts: list[str]) -> Iterator[tuple[str, Edit]]:
        """A switch of its own for one of them, on a NIC that is free on every host."""
        for subject in subjects:
            side = self.side(subject)
            edit: list[Operation] = []
            for host in hosts:
                made = _split_off(self.plan, host, subject.name, side) if side is not None else None
                if made is None:
                    break
                edit.extend(made)
            else:
                names = some(sorted(self.plan.get("host", host).name for host in hosts))
                yield f"Give {subject.name} a switch and a free NIC of its own on {names}", tuple(edit)


SHARED: Grouping[Shares, tuple[str, Shared]] = Grouping("shared", Shares.shared_on, Shares.told, Shares.made_of)


def shares(judgement: Judgement) -> Shares:
    """What is shared in a judged plan; the same object for as long as the judgement lives."""
    return judgement.once(Shares)


def free_nic(plan: Plan, host: str, cabled: Container[str], other_than: str | None = None) -> Nic | None:
    """A NIC of a host that is in no uplink, has link and a cable, and isn't used by the host itself; the fastest first."""
    found = [
        n
        for n in plan.where("nic", "host", host)
        if n.uplink is None
        and n.link == "up"
        and not n.wireless
        and not n.addresses
        and n.id in cabled
        and (other_than is None or n.card != other_than)
    ]
    return min(found, key=lambda n: (-(n.speed or 0), n.name), default=None)


def _split_off(plan: Plan, host: str, word: str, side: Side) -> list[Operation] | None:
    """The operations that give the host ports of one side, and the port groups that only its guests use, a switch of their own on a free NIC;
    None where there is none."""
    cabled = {end for cable in plan.all(Cable) for end in (cable.a, cable.b)}
    nic = free_nic(plan, host, cabled)
    ports = [
        p for p in on_switches(plan, "host_port", host) if side.roles & set(p.services) or side.has(plan, p.belongs)
    ]
    groups = [
        g
        for g in on_switches(plan, "port_group", host)
        if g.mode != "overlay" and not plan.where("group_order", "port_group", g.id) and _only(plan, g.id, side)
    ]
    name = f"{word[:79]}0"
    id = make_id(f"{host}/{name}")
    if nic is None or not (ports or groups) or plan.find(id) is not None:
        return None
    uplink = f"{id}/{nic.name}"
    return [
        Put(VirtualSwitch(id=id, host=host, name=name)),
        Put(Uplink(id=uplink, switch=id, name=nic.name)),
        Patch("nic", nic.id, {"uplink": uplink, "role": "active", "rank": 0}),
        *(Patch("host_port", p.id, {"switch": id}) for p in ports),
        *(Patch("port_group", g.id, {"switch": id}) for g in groups),
    ]


def _only(plan: Plan, group: str, side: Side) -> bool:
    """Whether a port group's adapters, tags of their guests included, all belong to one side; False without any."""
    adapters = plan.where("adapter", "port_group", group)
    tags = [t for a in adapters for t in plan.where("guest_tag", "adapter", a.id)]
    segments = {r.belongs for r in (*adapters, *tags)} - {None}
    return bool(segments) and all(side.has(plan, s) for s in segments)

"""What a pattern means on one host: which record is which part's, and what each ought to say."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from operator import attrgetter
from typing import Any

from aptwire.plan.fields import plain
from aptwire.plan.kinds import ABOUT, SPECS, PatternNic, Record, Stamp
from aptwire.plan.names import called
from aptwire.plan.patterns import OWNER, STAMPED, parts_of
from aptwire.plan.plan import Plan, PlanError, Problem

There = Mapping[str, Sequence[Any]]
"""The records of each stamped kind on a host."""

NIC_FIELDS = ("uplink", "role", "rank")
"""What a pattern's NIC says of the one that a host has for it; its MTU too, where it says one."""


@dataclass(frozen=True)
class Meant:
    """A part on a host: `record` is the id of what it is there (made already or not), `found` that record, `words` what its fields
    ought to say, as a record keeps them; `own` are the fields that the host keeps as its own, "" for the whole."""

    part: Any
    record: str
    found: Any
    words: Mapping[str, Any]
    own: frozenset[str]


@cache
def fields_of(kind: str) -> tuple[str, ...]:
    """The fields that a part hands on to what is made of it."""
    made = STAMPED[kind]
    return tuple(name for name in SPECS[made] if name in SPECS[kind] and name not in ("part", OWNER[made], *ABOUT))


@cache
def _pointing(kind: str) -> frozenset[str]:
    """The fields of a part that name another part."""
    return frozenset(n for n in fields_of(kind) if SPECS[kind][n].kind == "ref" and SPECS[kind][n].refs[0] != "segment")


@lru_cache(4096)
def interface(address: str) -> tuple[ipaddress.IPv4Network | ipaddress.IPv6Network, int]:
    """The subnet of an address with its prefix length, and the address as a number; read once, since those of a pattern are asked for on each host."""
    read = ipaddress.ip_interface(address)
    return read.network, int(read.ip)


@lru_cache(65536)
def counted_on(address: str, number: int) -> str:
    """The address that a host with a number has where that with number 1 has the given one; ValueError where its subnet ends before."""
    network, first = interface(address)
    last = network.num_addresses - (2 if network.version == 4 and network.prefixlen < 31 else 1)
    if first - int(network.network_address) + number - 1 > last:
        raise ValueError(
            f"{network} has no address left for number {number}, counted on from {_address(network, first)}"
        )
    return f"{_address(network, first + number - 1)}/{network.prefixlen}"


def _address(network: ipaddress.IPv4Network | ipaddress.IPv6Network, number: int) -> str:
    return str((ipaddress.IPv4Address if network.version == 4 else ipaddress.IPv6Address)(number))


def counted_back(address: str, number: int) -> str:
    """The address of number 1 where the host with a number has the given one; ValueError where its subnet begins after."""
    network, own = interface(address)
    first = own - (number - 1)
    if first < int(network.network_address):
        said = _address(network, own)
        raise ValueError(f"counted back from {said} as number {number}, the first would be outside {network}")
    return f"{_address(network, first)}/{network.prefixlen}"


def own_words(plan: Plan, stamp: str) -> dict[str, frozenset[str]]:
    """The fields that a stamped host keeps as its own, by what they are about."""
    found: dict[str, set[str]] = {}
    for word in plan.where("own_word", "stamp", stamp):
        found.setdefault(word.about, set()).add(word.field)
    return {about: frozenset(fields) for about, fields in found.items()}


def taken_nics(plan: Plan, stamp: str) -> dict[str, str]:
    """The NIC (id) that a stamp takes for each of its pattern's (ids)."""
    return {taken.part: taken.nic for taken in plan.where("stamp_nic", "stamp", stamp)}


@dataclass(frozen=True)
class _Read:
    """A part as it was read: `words` are what it says on whatever host, and `pointing` the fields among them that name another part."""

    part: Any
    becomes: str
    words: Mapping[str, Any]
    pointing: tuple[str, ...]


class Meaning:
    """What a pattern means, read once for all the hosts on which it is stamped."""

    def __init__(self, plan: Plan, pattern: str) -> None:
        self.plan = plan
        self._parts = [
            _Read(
                part, becomes, _words(part), tuple(name for name in _pointing(kind) if getattr(part, name) is not None)
            )
            for kind, becomes in STAMPED.items()
            for part in parts_of(plan, pattern, kind)
        ]

    def fits(self, stamp: Stamp, nics: Mapping[str, str], there: There) -> bool:
        """Whether it is clear at a glance that every part of the pattern is on a host (`there`) as it is meant, and nothing is kept as its own: then
        nothing has to be looked for part by part."""
        if self.plan.where("own_word", "stamp", stamp.id):
            return False
        by_part = {r.part: r for records in there.values() for r in records if r.part is not None}
        at = {**nics, **{part: record.id for part, record in by_part.items()}}
        try:
            for read in self._parts:
                found = by_part.get(read.part.id)
                if found is None or _reading(tuple(read.words))(found) != tuple(self._said(read, stamp, at).values()):
                    return False
        except PlanError:
            # It is told by whoever asks for all of it.
            return False
        return not any(nic is None or differing(nic, words) for _, nic, words in meant_nics(self.plan, stamp, nics, at))

    def on(self, stamp: Stamp, nics: Mapping[str, str], there: There) -> list[Meant]:
        """Every part as it ought to be on a stamp's host, in the order in which they can be made: `nics` the NIC of each of the pattern's, `there` what
        stands on the host.  PlanError where an address can't be counted on."""
        plan, own = self.plan, own_words(self.plan, stamp.id)
        of_part: dict[str, Any] = {}
        by_name: dict[tuple[str, str, str], Any] = {}
        for kind, owner in OWNER.items():
            for record in there[kind]:
                if record.part is not None:
                    of_part[record.part] = record
                if kind != "group_order":
                    by_name[kind, getattr(record, owner), record.name] = record
        at: dict[str, str] = dict(nics)
        placed: list[tuple[_Read, Any]] = []
        for read in self._parts:
            part = read.part
            on = stamp.host if part.kind == "pattern_switch" else at.get(owner_of(part))
            found = of_part.get(part.id)
            if on is None or (found is None and "" in own.get(part.id, ())):
                continue
            if part.kind == "pattern_order":
                if part.nic not in nics:
                    continue
            elif found is None:
                # What stands there already by the same name, and is no other pattern's.
                found = by_name.get((read.becomes, on, part.name))
                if found is not None and found.part is not None:
                    found = None
            at[part.id] = found.id if found is not None else plan.fresh_id(f"{stamp.host}:{part.id}")
            placed.append((read, found))
        return [
            Meant(read.part, at[read.part.id], found, self._said(read, stamp, at), own.get(read.part.id, frozenset()))
            for read, found in placed
        ]

    def _said(self, read: _Read, stamp: Stamp, at: Mapping[str, str]) -> Mapping[str, Any]:
        """What a part says on a host."""
        addresses = getattr(read.part, "addresses", ())
        if not read.pointing and not addresses:
            return read.words
        words = {**read.words, **{name: at.get(read.words[name]) for name in read.pointing}}
        if addresses:
            try:
                words["addresses"] = tuple(counted_on(address, stamp.number) for address in addresses)
            except ValueError as error:
                said = f"{error} ({called(self.plan, self.plan.of('host').get(stamp.host))})"
                raise PlanError([Problem(said, kind=read.part.kind, id=read.part.id, field="addresses")]) from None
        return words


def meant_nics(
    plan: Plan, stamp: Stamp, nics: Mapping[str, str], at: Mapping[str, str]
) -> Iterator[tuple[PatternNic, Any, dict[str, Any]]]:
    """Each of the pattern's NICs with the one that the host has for it (None: none), and what that ought to say."""
    for part in sorted(parts_of(plan, stamp.pattern, "pattern_nic"), key=lambda p: (p.rank, p.name)):
        nic = plan.of("nic").get(nics.get(part.id))
        words = {"uplink": at.get(part.uplink), "role": part.role, "rank": part.rank}
        said = {name: getattr(part, name) for name in ("mtu", "queues", "cores")}
        yield part, nic, words | {name: value for name, value in said.items() if value is not None}


def owner_of(part: Any) -> str:
    """The part (id) on which a part is."""
    return str(getattr(part, "port_group", None) or part.switch)


def _words(part: Any) -> dict[str, Any]:
    names = fields_of(part.kind)
    return {**dict(zip(names, _reading(names)(part), strict=True)), "part": part.id}


def differing(found: Record, words: Mapping[str, Any], own: frozenset[str] = frozenset()) -> dict[str, Any]:
    """The fields of a record that don't say what they ought to, with what that is, as JSON has it."""
    said = _reading(tuple(words))(found)
    if said == tuple(words.values()):
        return {}
    pairs = zip(words.items(), said, strict=True)
    return {name: plain(value) for (name, value), is_ in pairs if name not in own and is_ != value}


@cache
def _reading(names: tuple[str, ...]) -> Callable[[Any], tuple[Any, ...]]:
    """What reads some fields, two or more, of a record."""
    return attrgetter(*names)

"""What must hold in a plan: values, references, uniqueness, and fields that have to fit each other."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from aptwire.plan.fields import ID_PATTERN
from aptwire.plan.kinds import (
    KINDS,
    REFS,
    SPECS,
    Adapter,
    Cable,
    FabricPort,
    Nic,
    PortGroup,
    Record,
    Segment,
)
from aptwire.plan.names import called
from aptwire.plan.plan import Plan, PlanError, Problem

_ID = re.compile(ID_PATTERN)


def make_record(kind: str, data: Mapping[str, Any], place: str = "") -> Record:
    """A record from a JSON object, values checked and brought to canonical form; PlanError lists all that is wrong."""
    cls = KINDS.get(kind)
    if cls is None:
        raise PlanError([Problem(f"there is no record kind “{str(kind)[:40]}”", place=place)])
    if not isinstance(data, Mapping):
        raise PlanError([Problem(f"a {cls.title} must be an object", kind=kind, place=place)])
    id = data.get("id")
    if not isinstance(id, str) or not _ID.match(id):
        raise PlanError(
            [
                Problem(
                    "needs an id: up to 120 letters, digits or . _ : / @ -, a letter or digit first",
                    kind=kind,
                    field="id",
                    place=place,
                )
            ]
        )
    values, problems = _take_values(kind, id, {k: v for k, v in data.items() if k != "id"}, place)
    for name, spec in SPECS[kind].items():
        field = cls.__dataclass_fields__[name]
        if name not in data and field.default is dataclasses.MISSING:
            problems.append(Problem("is missing", kind=kind, id=id, field=name, place=place))
        elif name not in data:
            values[name] = spec.default
    if problems:
        raise PlanError(problems)
    return cls(id=id, **values)


def patch_record(record: Record, changes: Mapping[str, Any], place: str = "") -> Record:
    """The record with some fields set anew; PlanError lists all that is wrong."""
    values, problems = _take_values(record.kind, record.id, changes, place)
    if problems:
        raise PlanError(problems)
    return dataclasses.replace(record, **values)


def _take_values(kind: str, id: str, given: Mapping[str, Any], place: str) -> tuple[dict[str, Any], list[Problem]]:
    values: dict[str, Any] = {}
    problems: list[Problem] = []
    specs = SPECS[kind]
    for name, value in given.items():
        if name not in specs:
            problems.append(
                Problem(f"a {KINDS[kind].title} has no such field", kind=kind, id=id, field=str(name)[:60], place=place)
            )
            continue
        try:
            values[name] = specs[name].take(value)
        except ValueError as error:
            problems.append(Problem(str(error), kind=kind, id=id, field=name, place=place))
    return values, problems


def check_plan(plan: Plan) -> list[Problem]:
    """Everything that is wrong between the records of a whole plan."""
    return check_records(plan, list(plan))


def check_touched(plan: Plan, touched: Iterable[tuple[str, str]]) -> list[Problem]:
    """What is wrong around the records that an edit put, patched or dropped (kind, id).

    Records that refer to a touched one are checked too, since they may no longer fit it.
    """
    around: dict[tuple[str, str], Record] = {}
    for kind, id in touched:
        record = plan.of(kind).get(id)
        if record is not None:
            around[kind, id] = record
        for other, _ in plan.referrers(kind, id):
            around[other.kind, other.id] = other
    return check_records(plan, list(around.values()))


def check_records(plan: Plan, records: list[Record]) -> list[Problem]:
    """References, uniqueness and fit of the given records within the plan."""
    problems: list[Problem] = []
    for record in records:
        broken = list(_references(plan, record))
        problems.extend(broken)
        if not broken:
            problems.extend(_fit(plan, record))
    problems.extend(_uniqueness(plan, records))
    return problems


def _problem(record: Record, field: str, message: str) -> Problem:
    return Problem(message, kind=record.kind, id=record.id, field=field)


def _references(plan: Plan, record: Record) -> Iterator[Problem]:
    for name in REFS[record.kind]:
        id = getattr(record, name)
        kinds = SPECS[record.kind][name].refs
        if id is not None and not any(id in plan.of(kind) for kind in kinds):
            what = " or ".join(KINDS[kind].title for kind in kinds)
            yield _problem(record, name, f"refers to “{id}”, and there is no such {what}")


def _uniqueness(plan: Plan, records: list[Record]) -> Iterator[Problem]:
    for kind in {record.kind for record in records}:
        mine = [record for record in records if record.kind == kind]
        for other in KINDS:
            if other != kind:
                for record in mine:
                    if record.id in plan.of(other):
                        yield _problem(record, "id", f"is also the id of a {KINDS[other].title}")
        for names in KINDS[kind].unique:
            wanted: dict[tuple[Any, ...], list[Record]] = {_key(record, names): [] for record in mine}
            for record in plan.all(kind):
                key = _key(record, names)
                if key in wanted:
                    wanted[key].append(record)
            for key, sharing in wanted.items():
                if len(sharing) > 1:
                    first, second = sorted(record.id for record in sharing)[:2]
                    value = key[names.index("name")] if "name" in names else key[-1]
                    yield _problem(
                        plan.get(kind, second), names[-1], f"“{value}” is taken by {KINDS[kind].title} {first}"
                    )
        if kind == "cable":
            yield from _cable_ends(plan, mine)
        if kind == "adapter":
            yield from _adapter_names(plan, mine)


def _key(record: Record, names: tuple[str, ...]) -> tuple[Any, ...]:
    return tuple(getattr(record, name) for name in names)


def _cable_ends(plan: Plan, cables: list[Record]) -> Iterator[Problem]:
    used: dict[str, str] = {}
    ends = {end for cable in cables for end in (cable.a, cable.b)}  # type: ignore[attr-defined]
    for cable in sorted(plan.all("cable"), key=lambda c: c.id):
        for field, end in (("a", cable.a), ("b", cable.b)):
            if end not in ends:
                continue
            if end in used:
                yield _problem(
                    cable,
                    field,
                    f"{called(plan, plan.find(end))} already has a cable ({used[end]}); one port takes one",
                )
            else:
                used[end] = cable.id


def _adapter_names(plan: Plan, adapters: list[Record]) -> Iterator[Problem]:
    """The host's end of an adapter is a network interface of the host, so its name is taken once on each host."""

    def key(adapter: Any) -> tuple[str, str]:
        guest = plan.of("guest").get(adapter.guest)
        return (guest.host if guest else "", adapter.name)

    wanted = {key(adapter) for adapter in adapters}
    first: dict[tuple[str, str], str] = {}
    for adapter in sorted(plan.all("adapter"), key=lambda a: a.id):
        at = key(adapter)
        if at in wanted and first.setdefault(at, adapter.id) != adapter.id:
            yield _problem(adapter, "name", f"“{adapter.name}” is taken on this host by adapter {first[at]}")


def _fit(plan: Plan, record: Record) -> Iterator[Problem]:
    if isinstance(record, (PortGroup, FabricPort)):
        yield from _tagging(record)
    elif isinstance(record, Nic):
        if record.uplink is not None:
            switch = plan.of("virtual_switch").get(plan.get("uplink", record.uplink).switch)
            if switch is not None and switch.host != record.host:
                yield _problem(record, "uplink", f"belongs to a switch of another host than {record.name}")
    elif isinstance(record, Adapter):
        if record.port_group is not None:
            group = plan.get("port_group", record.port_group)
            switch = plan.of("virtual_switch").get(group.switch)
            guest = plan.get("guest", record.guest)
            if switch is not None and switch.host != guest.host:
                yield _problem(record, "port_group", f"{group.name} is on another host than the guest {guest.name}")
    elif isinstance(record, Cable):
        if record.a == record.b:
            yield _problem(record, "b", "a cable needs two different ends")
    elif isinstance(record, Segment):
        versions = [6 if ":" in address else 4 for address in record.gateways]
        if len(versions) != len(set(versions)):
            yield _problem(record, "gateways", "one gateway for IPv4 and one for IPv6 is the most")


def _tagging(record: PortGroup | FabricPort) -> Iterator[Problem]:
    if record.mode == "access" and record.vid is None:
        yield _problem(record, "vid", f"an access {record.title} needs a VID")
    if record.mode != "access" and record.vid is not None:
        yield _problem(record, "vid", f"only an access {record.title} has one VID of its own")
    if record.mode == "trunk" and record.allowed is None:
        yield _problem(record, "allowed", f"a trunk {record.title} needs its list of VIDs")
    if record.mode != "trunk" and record.allowed is not None:
        yield _problem(record, "allowed", f"only a trunk {record.title} has a list of VIDs")
    if record.mode != "trunk" and record.native is not None:
        yield _problem(record, "native", f"only a trunk {record.title} has a native VLAN")

"""What must hold in a plan: values, references, uniqueness, and fields that have to fit each other."""

from __future__ import annotations

import ipaddress
from collections import Counter
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from functools import partial
from itertools import chain, pairwise
from operator import attrgetter
from typing import Any

from aptwire.plan import vids
from aptwire.plan.cores import cores, processors
from aptwire.plan.cores import write as write_processors
from aptwire.plan.fields import bare_address, is_nobodys, plain, purpose_of, range_of
from aptwire.plan.filters import read_ports, speak_alike
from aptwire.plan.ids import is_id
from aptwire.plan.kinds import (
    GUARDS,
    INTERFACE_BITS,
    KINDS,
    LEASE,
    NEEDED,
    NONE,
    PLACES,
    REFS,
    SHAPES,
    SPECS,
    STATIC,
    TO_ONE,
    UNSEEN,
    Adapter,
    Advertisement,
    Bmc,
    Cable,
    FabricPort,
    FabricSwitch,
    FilterLine,
    Flow,
    GroupOrder,
    Guest,
    HostPort,
    InwardTranslation,
    Lag,
    LeaseRelay,
    LeaseScope,
    Limits,
    Mirror,
    Nic,
    NumaNode,
    Outside,
    PatternNic,
    PortGroup,
    Record,
    Route,
    Rule,
    SecondaryVlan,
    Segment,
    StampNic,
    StationPort,
    Uplink,
    VirtualSwitch,
    WayIn,
    changed,
    made_of,
)
from aptwire.plan.names import called
from aptwire.plan.patterns import OWNER, STAMPED, host_id, on_host, pattern_of
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.private import private_part
from aptwire.plan.sentences import RuleError, read
from aptwire.plan.sharing import root
from aptwire.plan.stacks import owner_of


def make_record(kind: str, data: Mapping[str, Any], place: str = "") -> Record:
    """A record from a JSON object, values checked and brought to canonical form; PlanError lists all that is wrong."""
    cls = KINDS.get(kind)
    if cls is None:
        raise PlanError([Problem(f"there is no record kind “{str(kind)[:40]}”", place=place)])
    if not isinstance(data, Mapping):
        raise PlanError([Problem(f"a {cls.title} must be an object", kind=kind, place=place)])
    id = data.get("id")
    if not is_id(id):
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
    given = dict(data)
    del given["id"]
    values, problems = _take_values(kind, id, given, place)
    for name in NEEDED[kind]:
        if name not in data:
            problems.append(Problem("is missing", kind=kind, id=id, field=name, place=place))
    if problems:
        raise PlanError(problems)
    return cls(id=id, **values)


_ABSENT = object()


def make_records(kind: str, items: Sequence[Any]) -> list[Record] | None:
    """The records that `make_record` makes of some JSON objects, field by field, which takes a third of the time; None where something is wrong with
    one, as that one tells."""
    if kind not in KINDS or not items or set(map(type, items)) != {dict}:
        return None
    names = set().union(*items)
    takes = _TAKES[kind]
    columns: dict[str, Sequence[Any]] = {"id": [item.get("id") for item in items]}
    if names - takes.keys() != {"id"} or not all(map(is_id, columns["id"])):
        return None
    try:
        for name in names - {"id"}:
            values = [item.get(name, _ABSENT) for item in items]
            columns[name] = _taken(takes[name], values, SPECS[kind][name].default)
    except ValueError:
        return None
    if any(name not in names or None in columns[name] for name in NEEDED[kind]):
        return None
    return made_of(kind, columns)


def _taken(take: Callable[[Any], Any], values: list[Any], default: Any) -> list[Any]:
    """What a field keeps of many values, the default for one that is absent: each value that stands there several times is taken once, and is then one
    object."""
    types = set(map(type, values)) - {type(None), object}
    if len(types) > 1 or types & {list, dict}:
        # A list is no key, and true and 1.0 are both found under 1.
        return [default if value is _ABSENT else take(value) for value in values]
    found = {value: take(value) for value in set(values) - {_ABSENT}}
    found[_ABSENT] = default
    return list(map(found.__getitem__, values))


def patch_record(record: Record, changes: Mapping[str, Any], place: str = "") -> Record:
    """The record with some fields set anew; PlanError lists all that is wrong."""
    values, problems = _take_values(record.kind, record.id, changes, place)
    if problems:
        raise PlanError(problems)
    return changed(record, values)


def _take_values(kind: str, id: str, given: Mapping[str, Any], place: str) -> tuple[dict[str, Any], list[Problem]]:
    values: dict[str, Any] = {}
    problems: list[Problem] = []
    takes = _TAKES[kind]
    for name, value in given.items():
        take = takes.get(name)
        if take is None:
            problems.append(
                Problem(f"a {KINDS[kind].title} has no such field", kind=kind, id=id, field=str(name)[:60], place=place)
            )
            continue
        try:
            values[name] = take(value)
        except ValueError as error:
            problems.append(Problem(str(error), kind=kind, id=id, field=name, place=place))
    return values, problems


_TAKES = {kind: {name: spec.taking() for name, spec in specs.items()} for kind, specs in SPECS.items()}
"""What takes the value of each field of a kind."""


def check_values(plan: Plan) -> list[Problem]:
    """What is wrong with the records of a plan each by itself, where they were made of something else than JSON."""
    problems: list[Problem] = []
    for record in plan:
        if not is_id(record.id):
            problems.append(Problem("is no id", kind=record.kind, id=record.id, field="id"))
        held = {name: plain(getattr(record, name)) for name in SPECS[record.kind]}
        problems.extend(_take_values(record.kind, record.id, held, "")[1])
    return problems


def check_plan(plan: Plan) -> list[Problem]:
    """Everything that is wrong between the records of a whole plan."""
    return check_records(plan, list(plan))


_SWITCHED = ("virtual_switch", "uplink", "port_group")


def check_touched(
    plan: Plan, touched: Iterable[tuple[str, str]], alone: Container[tuple[str, str]] = ()
) -> list[Problem]:
    """What is wrong around the records that an edit put, patched or dropped (kind, id), or (`alone`) with such a one by itself.

    Records that refer to a touched one are checked too, since they may no longer fit it, and around switches those that refer to
    these: what an adapter may do hangs on its port group's switch. Where a private VLAN changes, so are the ports that speak of it by VID.
    """
    asked = list(touched)
    around = {(kind, id): plan.of(kind).get(id) for kind, id in asked}
    for key in asked:
        if key in alone:
            continue
        near = {(other.kind, other.id): other for other, _ in plan.referrers(*key)}
        around.update(near)
        for at in near if key[0] in _SWITCHED else ():
            around.update(((other.kind, other.id), other) for other, _ in plan.referrers(*at))
    if any(kind == "stamp" and id not in plan.of("stamp") for kind, id in asked):
        # A stamp that is gone isn't there to say on which host it was.
        around.update(((kind, r.id), r) for kind in STAMPED.values() for r in plan.having(kind, "part"))
    if {"segment", "secondary_vlan"} & {kind for kind, _ in asked}:
        for kind in ("port_group", "fabric_port"):
            around.update(((kind, r.id), r) for r in plan.where(kind, "mode", "private"))
    return check_records(plan, [record for record in around.values() if record is not None])


def check_records(plan: Plan, records: list[Record]) -> list[Problem]:
    """References, uniqueness and fit of the given records within the plan.

    What two records can't both have is told at the one given; where both are, at the one with the higher id.
    """
    problems: list[Problem] = []
    given = {(r.kind, r.id) for r in records}
    names: Names = {}
    by_kind: dict[str, list[Any]] = {}
    for record in records:
        by_kind.setdefault(record.kind, []).append(record)
    # Of many it is asked once by field whether all is there.
    lost = {kind for kind, of in by_kind.items() if _referring_to_none(plan, kind, of)}
    plain = frozenset() if lost else _plain_adapters(plan, by_kind.get("adapter", []))
    quiet = {
        k for k in by_kind if k not in lost | _FITS.keys() | _RIVALS.keys() and (k in UNSEEN or "part" not in SPECS[k])
    }
    stamped: list[Any] = []
    for record in records:
        if record.kind in quiet or record.id in plain:
            continue
        broken = list(_references(plan, record)) if record.kind in lost else []
        problems.extend(broken)
        if not broken:
            problems.extend(_fit(plan, record))
            problems.extend(_rivalry(plan, record, given, names))
            if record.kind in OWNER and record.part is not None:  # type: ignore[attr-defined]
                stamped.append(record)
    problems.extend(_fit_parts(plan, stamped, given))
    problems.extend(_uniqueness(plan, by_kind, given))
    return problems


def _plain_adapters(plan: Plan, adapters: list[Adapter]) -> frozenset[str]:
    """Of very many adapters those (ids) that can have nothing wrong: nothing is said of them that has to fit something else, they are on the host of
    their port group, and none of that host is called the same."""
    if len(adapters) < MANY:
        return frozenset()
    host = {guest.id: guest.host for guest in plan.all(Guest)}
    over: dict[str | None, str] = {
        group.id: plan.get("virtual_switch", group.switch).host for group in plan.all(PortGroup)
    }
    called_so = Counter((host[adapter.guest], adapter.name) for adapter in plan.all(Adapter))
    alone = len(called_so) == called_so.total()
    return frozenset(
        adapter.id
        for adapter in adapters
        if _FITTING(adapter) == _FITS_SO
        and adapter.type != "direct"
        and over.get(adapter.port_group, at := host[adapter.guest]) == at
        and (alone or called_so[at, adapter.name] == 1)
    )


_FITTING = attrgetter("members", "untagged", "pvid", "addressing", "function_of", "function_vid", *SHAPES)
_FITS_SO = tuple(STATIC if name == "addressing" else None for name in (*range(3), "addressing", *range(2), *SHAPES))


def _problem(record: Record, field: str, message: str) -> Problem:
    return Problem(message, kind=record.kind, id=record.id, field=field)


def _references(plan: Plan, record: Record) -> Iterator[Problem]:
    for name in REFS[record.kind]:
        id = getattr(record, name)
        kinds = SPECS[record.kind][name].refs
        if id is not None and not any(id in plan.of(kind) for kind in kinds):
            what = " or ".join(KINDS[kind].title for kind in kinds)
            yield _problem(record, name, f"refers to “{id}”, and there is no such {what}")


def _referring_to_none(plan: Plan, kind: str, records: list[Any]) -> bool:
    """Whether some of the records, all of a kind, refer to what isn't there."""
    for name in REFS[kind]:
        meant = set(map(attrgetter(name), records)) - {None}
        for target in SPECS[kind][name].refs:
            there = plan.of(target)
            meant = {id for id in meant if id not in there}
        if meant:
            return True
    return False


MANY = 5_000
"""Records from which on what holds of all of a kind is asked of them together."""


def _twice(plan: Plan, kind: str, names: tuple[str, ...]) -> bool:
    """Whether several records of a kind have what only one may have."""
    keys = Counter(map(attrgetter(*names), plan.all(kind)))
    del keys[None if len(names) == 1 else (None,) * len(names)]
    return len(keys) < keys.total()


def _uniqueness(plan: Plan, by_kind: Mapping[str, list[Any]], given: set[tuple[str, str]]) -> Iterator[Problem]:
    taken: set[tuple[str, ...]] = set()
    others = [(kind, found) for kind in KINDS if (found := plan.of(kind))]
    ids = {id for _, id in given}
    # Of many it is counted once how many records have their ids: as many as there are of them means that none stands twice.
    shared = len(given) < MANY or sum(len(ids & found.keys()) for _, found in others) > len(ids)
    alike: dict[tuple[object, ...], dict[tuple[Any, ...], list[Any]]] = {}
    # One in twenty of a kind takes longer one by one than all of it together.
    unique = {
        kind: [n for n in KINDS[kind].unique if len(of) * 20 < len(plan.of(kind)) or _twice(plan, kind, n)]
        for kind, of in by_kind.items()
    }
    for record in (r for kind, of in by_kind.items() if shared or unique[kind] or kind == "limits" for r in of):
        kind = record.kind
        for other, found in others if shared else ():
            if record.id in found and other != kind:
                yield _problem(record, "id", f"is also the id of a {KINDS[other].title}")
        for names in unique[kind]:
            key = tuple(getattr(record, name) for name in names)
            if set(key) == {None}:
                continue  # What isn't said is nobody's.
            if (kind, names, key[0]) not in alike:
                by_key = alike[kind, names, key[0]] = {}
                for near in plan.where(kind, names[0], key[0]):
                    by_key.setdefault(tuple(getattr(near, name) for name in names), []).append(near)
            same = alike[kind, names, key[0]].get(key, [])
            if len(same) > 1 and (kind, *names, *map(str, key)) not in taken:
                taken.add((kind, *names, *map(str, key)))
                first, second = sorted(other.id for other in same)[:2]
                if (kind, second) not in given:
                    first, second = second, record.id
                value = key[names.index("name")] if "name" in names else key[-1]
                said = f"“{value}” is taken by {KINDS[kind].title} {first}"
                if kind == "rule":
                    said = "the plan has this very rule already"
                yield _problem(plan.get(kind, second), names[-1], said)
        if isinstance(record, Limits) and len(plan.of("limits")) > 1:
            yield _problem(record, "id", "a plan has one limits sheet")


Rivals = tuple[str, list[Any], Callable[[Any], str]]
"""A field, the records with which it can't be as it is, and what is said of one of them."""
Names = dict[str, dict[str, list[Record]]]
"""Adapters by host and name, kept while many are checked."""


def _rivalry(plan: Plan, record: Record, given: set[tuple[str, str]], names: Names) -> Iterator[Problem]:
    """What a record can't have since another one has it, or has it otherwise."""
    find = _RIVALS.get(record.kind)
    for field, others, say in find(plan, record, names) if find is not None else ():
        if bad := _before(record, others, given):
            yield _problem(record, field, say(bad))


def _before(record: Record, others: Iterable[Any], given: set[tuple[str, str]]) -> Any:
    """The first of others at whose side a record is the one that is told; None: none."""
    bad = [o for o in others if o.id != record.id and ((o.kind, o.id) not in given or o.id < record.id)]
    return min(bad, key=lambda o: o.id, default=None)


def _of_cable(plan: Plan, cable: Cable, _: Names) -> Iterator[Rivals]:
    for field, end in (("a", cable.a), ("b", cable.b)):
        cables = [*plan.where("cable", "a", end), *plan.where("cable", "b", end)]
        yield field, cables, partial(_cabled, called(plan, plan.find(end)) if len(cables) > 1 else "")


def _of_adapter(plan: Plan, adapter: Adapter, names: Names) -> Iterator[Rivals]:
    same = _named_alike(plan, adapter, names)
    if len(same) > 1:
        yield "name", same, lambda other: f"“{adapter.name}” is taken on this host by adapter {other.id}"


def _of_segment(plan: Plan, segment: Segment, _: Names) -> Iterator[Rivals]:
    if segment.source is not None:
        same = [s for s in plan.where("segment", "source", segment.source) if s.origin == segment.origin]
        yield "origin", same, lambda other: f"“{segment.origin[:80]}” is {other.name} already"


def _of_uplink(plan: Plan, uplink: Uplink, _: Names) -> Iterator[Rivals]:
    if uplink.over is not None and uplink.vid is not None:
        same = [u for u in plan.where("uplink", "over", uplink.over) if u.vid == uplink.vid]
        yield "vid", same, lambda other: f"VID {uplink.vid} already goes from these NICs to uplink {other.name}"


def _of_secondary(plan: Plan, secondary: SecondaryVlan, _: Names) -> Iterator[Rivals]:
    if secondary.type == "isolated":
        same = [s for s in plan.where("secondary_vlan", "segment", secondary.segment) if s.type == "isolated"]
        name = plan.get("segment", secondary.segment).name
        yield "type", same, lambda _: f"{name} already has its isolated VLAN; a primary has one at the most"


def _of_station_port(plan: Plan, port: StationPort, _: Names) -> Iterator[Rivals]:
    strangers = [p for p in plan.where("station_port", "port", port.port) if p.station != port.station]
    name = called(plan, plan.find(port.port)) if strangers else ""
    yield "port", strangers, lambda other: f"{name} already has the station {other.station}"


def _of_fabric_port(plan: Plan, port: FabricPort, _: Names) -> Iterator[Rivals]:
    if port.lag is not None and port.speed is not None:
        slower = [p for p in plan.where("fabric_port", "lag", port.lag) if p.speed not in (None, port.speed)]
        yield (
            "speed",
            slower,
            lambda p: f"{port.name} does {port.speed} Mbit/s and {p.name} {p.speed}: a LAG has one speed",
        )


_RIVALS: dict[str, Callable[[Plan, Any, Names], Iterator[Rivals]]] = {
    "cable": _of_cable,
    "adapter": _of_adapter,
    "segment": _of_segment,
    "uplink": _of_uplink,
    "secondary_vlan": _of_secondary,
    "station_port": _of_station_port,
    "fabric_port": _of_fabric_port,
}


def _cabled(name: str, other: Cable) -> str:
    return f"{name} already has a cable ({other.id}); one port takes one"


def _named_alike(plan: Plan, adapter: Adapter, names: Names) -> list[Record]:
    """The adapters of a host by one name: the host's end of an adapter is one of its network interfaces.

    `names` keeps them by host and name.
    """
    host = plan.get("guest", adapter.guest).host
    if host not in names:
        found = names[host] = {}
        for neighbour in plan.where("guest", "host", host):
            for other in plan.where("adapter", "guest", neighbour.id):
                found.setdefault(other.name, []).append(other)
    return names[host][adapter.name]


def _fit(plan: Plan, record: Record) -> Iterator[Problem]:
    fit = _FITS.get(record.kind)
    if fit is not None:
        yield from fit(plan, record)


def _fit_segment(plan: Plan, segment: Segment) -> Iterator[Problem]:
    versions = [6 if ":" in address else 4 for address in segment.gateways]
    if len(versions) != len(set(versions)):
        yield _problem(segment, "gateways", "one gateway for IPv4 and one for IPv6 is the most")
    for other in plan.where("secondary_vlan", "vid", segment.vid) if segment.vid else ():
        yield _problem(
            segment, "vid", f"{segment.vid} is a secondary VLAN of {plan.get('segment', other.segment).name}"
        )
    if segment.vni is not None and segment.vid is not None:
        yield _problem(segment, "vni", "a segment has a VID or a VNI, not both")
    if (segment.source is None) != (not segment.origin):
        yield _problem(segment, "origin", "is what its source calls it: either both are said or neither is")
    if segment.vanished and segment.source is None:
        yield _problem(segment, "vanished", "only what a source defined once can have vanished from it")
    nets = [ipaddress.ip_network(net) for net in segment.subnets] if segment.ranges else []
    ordered = sorted((purpose_of(text)[1], text) for text in segment.ranges)
    for (version, first, last), text in ordered:
        if not any(n.version == version and int(n[0]) <= first and last <= int(n[-1]) for n in nets):
            yield _problem(segment, "ranges", f"{text} isn’t within a subnet of {segment.name}")
    for ((version, _, last), one), ((following, first, _), two) in pairwise(ordered):
        if version == following and first <= last:
            yield _problem(segment, "ranges", f"{one} and {two} overlap")


def _fit_secondary(plan: Plan, secondary: SecondaryVlan) -> Iterator[Problem]:
    primary = plan.get("segment", secondary.segment)
    if primary.vid is None:
        yield _problem(secondary, "segment", f"{primary.name} has no VID, and so can’t be the primary VLAN")
    for other in plan.where("segment", "vid", secondary.vid):
        yield _problem(secondary, "vid", f"{secondary.vid} is the VID of segment {other.name}")


def _fit_numa(plan: Plan, node: NumaNode) -> Iterator[Problem]:
    own = {thread for core in cores(node.cores) for thread in core}
    twice = own & processors(node.offline or "")
    if twice:
        yield _problem(node, "offline", f"{write_processors(twice)} can’t be switched off and among its cores")
    for other in plan.where("numa_node", "host", node.host):
        shared = own & {thread for core in cores(other.cores) for thread in core} if other.id != node.id else set()
        if shared:
            yield _problem(node, "cores", f"{write_processors(shared)} is of NUMA node {other.number} too")


def _fit_nic(plan: Plan, nic: Nic) -> Iterator[Problem]:
    if nic.queues is not None and nic.most_queues is not None and nic.queues > nic.most_queues:
        yield _problem(
            nic, "queues", f"has {nic.queues} receive queues, and {nic.most_queues} are the most that it can have"
        )
    if nic.uplink is None:
        return
    if plan.get("uplink", nic.uplink).over is not None:
        yield _problem(nic, "uplink", "goes over another uplink’s NICs, and so takes none of its own")
    switch = plan.of("virtual_switch").get(plan.get("uplink", nic.uplink).switch)
    if switch is not None and switch.host != nic.host:
        yield _problem(nic, "uplink", f"belongs to a switch of another host than {nic.name}")
    if nic.addresses:
        yield _problem(
            nic,
            "uplink",
            f"{called(plan, nic)} bears the host’s own {', '.join(nic.addresses)}; in a switch it would be cut off, so move "
            "the address onto a host port in the same edit",
        )


def _fit_port_group(plan: Plan, group: PortGroup) -> Iterator[Problem]:
    yield from _tagging(plan, group)
    switch = plan.of("virtual_switch").get(group.switch)
    over = plan.of("host_port").get(group.over)
    if group.mode == "overlay":
        if group.vni is None:
            yield _problem(group, "vni", "an overlay port group needs a VNI")
        if group.over is None:
            yield _problem(group, "over", "an overlay port group needs the host port that carries it")
        elif over is not None and switch is not None:
            base = plan.of("virtual_switch").get(over.switch)
            if base is not None and base.host != switch.host:
                yield _problem(group, "over", f"{over.name} is on another host")
    else:
        for field in ("vni", "over"):
            if getattr(group, field) is not None:
                yield _problem(group, field, "only an overlay port group has one")
    yield from _shaping(group, switch, None)


def _fit_group_order(plan: Plan, order: GroupOrder) -> Iterator[Problem]:
    group, nic = plan.get("port_group", order.port_group), plan.get("nic", order.nic)
    uplink = plan.of("uplink").get(nic.uplink)
    if uplink is None or uplink.switch != group.switch:
        yield _problem(order, "nic", f"{called(plan, nic)} is in no uplink of the switch of {group.name}")
    elif len(plan.where("uplink", "switch", group.switch)) > 1:
        yield _problem(
            order, "port_group", f"{group.name} is on a switch with several uplinks; a team order needs a single one"
        )


def _fit_uplink(plan: Plan, uplink: Uplink) -> Iterator[Problem]:
    """An uplink in the standard's words has no other ones; one over another uplink has no NICs.

    A port group's own order says over which NIC of the one uplink it goes; with several uplinks that says nothing.
    """
    yield from _uplink_words(uplink)
    yield from _share(plan, uplink)
    if len(plan.where("uplink", "switch", uplink.switch)) > 1:
        for group in plan.where("port_group", "switch", uplink.switch):
            if plan.where("group_order", "port_group", group.id):
                message = f"{group.name} has a team order of its own, which needs a switch with a single uplink"
                yield _problem(uplink, "switch", message)
                return


def _uplink_words(uplink: Any) -> Iterator[Problem]:
    yield from _standard(uplink, uplink.members is not None)
    for field in ("allowed", "native") if uplink.members is not None else ():
        if getattr(uplink, field) is not None:
            yield _problem(uplink, field, "its list of members says what it carries, in the standard’s own words")


def _share(plan: Plan, uplink: Uplink) -> Iterator[Problem]:
    """An uplink over another one's NICs."""
    if uplink.over is None:
        if uplink.vid is not None:
            yield _problem(uplink, "vid", "only an uplink over another one’s NICs has a tag of its own")
        return
    under = plan.find(uplink.over, ("uplink", "host_port"))
    assert isinstance(under, (Uplink, HostPort))
    hosts = [
        plan.get("virtual_switch", u.switch).host for u in (uplink, under) if u.switch in plan.of("virtual_switch")
    ]
    if isinstance(under, HostPort):
        if uplink.vid is not None:
            yield _problem(uplink, "vid", f"{under.name} has the VID already")
        if under.switch == uplink.switch:
            yield _problem(uplink, "over", f"{under.name} is a port of the same switch")
    elif under.over in plan.of("host_port"):
        yield _problem(uplink, "over", f"{under.name} has no NICs to share")
    if len(set(hosts)) > 1:
        yield _problem(uplink, "over", f"{under.name} is on another host")
    if isinstance(under, Uplink) and root(plan, uplink).over in plan.of("uplink"):
        yield _problem(uplink, "over", "these uplinks go over each other in a circle, and none has NICs")
    for nic in plan.where("nic", "uplink", uplink.id)[:1]:
        yield _problem(uplink, "over", f"it has a NIC of its own, {nic.name}, so it can’t go over {under.name}")


def _fit_adapter(plan: Plan, adapter: Adapter) -> Iterator[Problem]:
    yield from _standard(adapter, adapter.members is not None)
    if adapter.addressing != STATIC:
        yield from _fit_addressing(plan, adapter)
    guest = plan.get("guest", adapter.guest)
    group = plan.of("port_group").get(adapter.port_group)
    switch = plan.of("virtual_switch").get(group.switch) if group is not None else None
    if group is not None and switch is not None and switch.host != guest.host:
        yield _problem(adapter, "port_group", f"{group.name} is on another host than the guest {guest.name}")
    nic = plan.of("nic").get(adapter.function_of)
    if adapter.type == "direct":
        if group is not None:
            yield _problem(adapter, "port_group", "a direct adapter bypasses the switch, and so is in no port group")
        if nic is None:
            yield _problem(adapter, "function_of", "a direct adapter needs the NIC whose virtual function it is")
        elif nic.host != guest.host:
            yield _problem(
                adapter, "function_of", f"{called(plan, nic)} is on another host than the guest {guest.name}"
            )
        for field in (*GUARDS, *SHAPES, "members", "admits", "isolated", "reflects"):
            if getattr(adapter, field) is not None:
                yield _problem(adapter, field, "a direct adapter bypasses the switch: no guard or limit applies to it")
    else:
        for field in ("function_of", "function_vid"):
            if getattr(adapter, field) is not None:
                yield _problem(adapter, field, "only a direct adapter has one")
        yield from _shaping(adapter, switch, group)


_SHAPE = attrgetter(*SHAPES)


def _shaping(record: PortGroup | Adapter, switch: VirtualSwitch | None, group: PortGroup | None) -> Iterator[Problem]:
    """Rates that make sense (RFC 2698: the peak is no less than the committed rate) and that the switch can keep.

    An adapter's are its own words, and its port group's where it has none.
    """
    if not any(_SHAPE(record)):
        return
    for way, done in (("send", "sending"), ("receive", "receiving")):
        fields = [f"{way}_{part}" for part in ("rate", "peak", "burst")]
        if all(getattr(record, field) is None for field in fields):
            continue
        own = [getattr(record, field) for field in fields]
        kept = [value if value is not None else getattr(group, f, None) for f, value in zip(fields, own, strict=True)]
        rate, peak, _ = kept
        if rate is None:
            yield _problem(record, fields[0], "a peak rate or a burst size needs the committed rate beside it")
        elif peak is not None and peak < rate:
            of = "" if own[1] is not None or group is None else f" of port group {group.name}"
            yield _problem(record, fields[1], f"the peak rate {peak}{of} is below the committed rate {rate}")
        if own[0] is not None and switch is not None and switch.limits not in ("both", done):
            yield _problem(record, fields[0], f"the switch {switch.name} can’t limit what its adapters {way}")


def _fit_mirror(plan: Plan, mirror: Mirror) -> Iterator[Problem]:
    source, target = plan.get("adapter", mirror.source), plan.get("adapter", mirror.target)
    for field, adapter in (("source", source), ("target", target)):
        if adapter.type == "direct":
            yield _problem(
                mirror, field, f"{called(plan, adapter)} is direct and bypasses the switch: it can’t be mirrored"
            )
            return
    one, two = (plan.of("port_group").get(a.port_group) for a in (source, target))
    if mirror.source == mirror.target:
        yield _problem(mirror, "target", "an adapter can’t be its own mirror")
    elif one is None or two is None or one.switch != two.switch:
        yield _problem(
            mirror, "target", "a mirror stays on one virtual switch; these two adapters aren’t on the same one"
        )


def _fit_fabric_switch(plan: Plan, switch: FabricSwitch) -> Iterator[Problem]:
    if switch.priority % 4096:
        yield _problem(switch, "priority", f"{switch.priority} isn’t a multiple of 4096")
    if switch.spanning_tree and not switch.managed:
        yield _problem(switch, "spanning_tree", "an unmanaged switch takes no part in a spanning tree")


def _fit_fabric_port(plan: Plan, port: FabricPort) -> Iterator[Problem]:
    yield from _tagging(plan, port)
    lag = plan.of("lag").get(port.lag)
    if lag is None:
        return
    if lag.switch != port.switch:
        yield _problem(port, "lag", f"{lag.name} is a LAG of another switch")


def _fit_lag(plan: Plan, lag: Lag) -> Iterator[Problem]:
    other = plan.of("lag").get(lag.beside)
    if other is None:
        return
    named = [one for one in plan.where("lag", "beside", other.id) if one.id != lag.id]
    own = [one for one in plan.where("lag", "beside", lag.id) if one.id != other.id]
    if other.switch == lag.switch:
        yield _problem(lag, "beside", f"{other.name} is of the same switch: put its ports into one LAG")
    elif other.beside not in (None, lag.id) or named or own:
        yield _problem(lag, "beside", "two LAGs are one at the most, and one of these is one with another already")
    elif other.lacp != lag.lacp:
        yield _problem(
            lag, "beside", f"{called(plan, other)} is {'by LACP' if other.lacp else 'static'}, and this one isn’t"
        )


def _fit_station_port(plan: Plan, port: StationPort) -> Iterator[Problem]:
    yield from _fit_addressing(plan, port)
    within, own = plan.get("station", port.station).within, plan.get("fabric_port", port.port)
    if within is not None and own.switch != within:
        switch = plan.get("fabric_switch", within).name
        yield _problem(
            port, "port", f"{called(plan, own)} is of another switch than {switch}, within which its station is"
        )
    for bmc in plan.where("bmc", "port", port.port)[:1]:
        name = called(plan, plan.find(port.port))
        yield _problem(port, "port", f"{name} already has {called(plan, bmc)}; one port takes one")
    if any(plan.where("cable", end, port.port) for end in ("a", "b")):
        name = called(plan, plan.find(port.port))
        yield _problem(port, "port", f"{name} already has a cable; one port takes one")


def _fit_bmc(plan: Plan, bmc: Bmc) -> Iterator[Problem]:
    if (bmc.port is None) == (bmc.nic is None):
        yield _problem(bmc, "port", "a BMC has a port of its own, or shares a NIC: one of the two")
    if bmc.nic is not None and plan.get("nic", bmc.nic).host != bmc.host:
        yield _problem(bmc, "nic", f"{called(plan, plan.find(bmc.nic))} is of another host")
    if bmc.port is not None:
        cables = [c for end in ("a", "b") for c in plan.where("cable", end, bmc.port)]
        if cables or plan.where("station_port", "port", bmc.port):
            name = called(plan, plan.find(bmc.port))
            yield _problem(
                bmc, "port", f"{name} already has {'a cable' if cables else 'a station'}; one port takes one"
            )


def _fit_cable(plan: Plan, cable: Cable) -> Iterator[Problem]:
    if cable.a == cable.b:
        yield _problem(cable, "b", "a cable needs two different ends")
    for field, end in (("a", cable.a), ("b", cable.b)):
        for bmc in plan.where("bmc", "port", end)[:1]:
            name = called(plan, plan.find(end))
            yield _problem(cable, field, f"{name} already has {called(plan, bmc)}; one port takes one")
    for field, end in (("a", cable.a), ("b", cable.b)):
        for port in plan.where("station_port", "port", end)[:1]:
            name = called(plan, plan.find(end))
            yield _problem(cable, field, f"{name} already has the station {port.station}; one port takes one")


def _fit_way_in(plan: Plan, way: WayIn) -> Iterator[Problem]:
    if plan.get("segment", way.segment).vid is None:
        yield _problem(way, "segment", "a gateway comes in on a VID, and this segment has none")
    name = called(plan, plan.find(way.port))
    if any(plan.where("cable", end, way.port) for end in ("a", "b")) or plan.where("station_port", "port", way.port):
        yield _problem(
            way, "port", f"the plan says what is plugged into {name}, so nothing comes in there from outside"
        )


def _fit_route(plan: Plan, route: Route) -> Iterator[Problem]:
    if not route.to:
        yield _problem(route, "to", "a route leads to at least one subnet; 0.0.0.0/0 or ::/0 is everything else")
    family = 6 if ":" in route.via else 4
    for subnet in route.to:
        if (6 if ":" in subnet else 4) != family:
            yield _problem(route, "to", f"{subnet} is not of the family of its next hop, {route.via}")


def _fit_filter_line(plan: Plan, line: FilterLine) -> Iterator[Problem]:
    try:
        ports = read_ports(line.ports)
    except ValueError as error:
        yield _problem(line, "ports", str(error))
    else:
        if ports and line.protocol not in ("tcp", "udp"):
            yield _problem(line, "ports", "only tcp and udp have ports")
    for field in ("enters", "leaves"):
        interface = plan.find(getattr(line, field) or "", PLACES)
        if interface is not None and owner_of(plan, interface).id != line.of:
            owner = called(plan, plan.find(line.of))
            yield _problem(line, field, f"{called(plan, interface)} is no interface of {owner}")


def _fit_inward(plan: Plan, turned: InwardTranslation) -> Iterator[Problem]:
    if ":" in turned.to:
        yield _problem(turned, "to", f"{turned.to} is none of IPv4, which alone is translated")
    if turned.protocol == "any" and (turned.ports or turned.port):
        yield _problem(turned, "ports" if turned.ports else "port", "only tcp and udp have ports")
    at = plan.find(turned.at, PLACES)
    if turned.to in (bare_address(address) for address in getattr(at, "addresses", ())):
        yield _problem(turned, "to", f"{turned.to} is its own address, for which it comes already")
    try:
        read_ports(turned.ports)
        others = sorted(plan.where("inward_translation", "at", turned.at), key=lambda one: one.id)
        for other in (one for one in others if one.id < turned.id):
            if speak_alike((turned.protocol, turned.ports), (other.protocol, other.ports)):
                yield _problem(turned, "ports", f"some of it is for {other.to} already, by {other.id}")
    except ValueError as error:
        yield _problem(turned, "ports", str(error))


def _fit_lease_scope(plan: Plan, scope: LeaseScope) -> Iterator[Problem]:
    net = ipaddress.ip_network(scope.subnet)
    if net.prefixlen > net.max_prefixlen - 2:
        yield _problem(scope, "subnet", f"{net} has no room for a server and others, as 10.65.10.0/24 has")
        return
    # The last address of IPv6 is one like others (RFC 4291 section 2.6.1 keeps the first).
    low, high = int(net.network_address), int(net.broadcast_address) + (net.version == 6)
    for other in plan.where("lease_scope", "of", scope.of):
        if other.id < scope.id and net.overlaps(ipaddress.ip_network(other.subnet)):
            yield _problem(
                scope, "subnet", f"{net} overlaps {other.subnet}, which {called(plan, plan.find(scope.of))} leases too"
            )
    ranges = sorted((range_of(text), text) for text in scope.pool)
    for (version, first, last), text in ranges:
        if version != net.version or not low < first <= last < high:
            yield _problem(scope, "pool", f"{text} isn’t within the addresses of {net}")
    for ((_, _, last), one), ((_, first, _), two) in pairwise(ranges):
        if first <= last:
            yield _problem(scope, "pool", f"{one} and {two} overlap")
    for gateway in scope.gateways:
        if net.version == 6:
            yield _problem(scope, "gateways", f"a lease of IPv6 says no way out, such as {gateway}: that is advertised")
        elif ipaddress.ip_address(gateway) not in net:
            yield _problem(scope, "gateways", f"{gateway} isn’t in {net}, so nobody there could send to it")
    seen: dict[str, str] = {}
    for mac, address in (text.split() for text in scope.kept):
        if ipaddress.ip_address(address) not in net or is_nobodys(ipaddress.ip_address(address), net):
            yield _problem(scope, "kept", f"{address} isn’t within the addresses of {net}")
        for word, other in ((mac, address), (address, mac)):
            if seen.setdefault(word, other) != other:
                yield _problem(scope, "kept", f"{word} stands there twice, with {seen[word]} and {other}")


def _fit_lease_relay(plan: Plan, relay: LeaseRelay) -> Iterator[Problem]:
    if not relay.to:
        yield _problem(relay, "to", "a relay asks at least one server")


def _fit_advertisement(plan: Plan, said: Advertisement) -> Iterator[Problem]:
    if not said.prefixes and not said.on_link and not said.router:
        yield _problem(said, "prefixes", "it advertises no prefix, and doesn’t offer itself as the way out")
    for field, text in (*(("prefixes", net) for net in said.prefixes), *(("on_link", net) for net in said.on_link)):
        net = ipaddress.ip_network(text)
        if net.version == 4:
            yield _problem(said, field, f"{text} is none of IPv6, of which alone prefixes are advertised")
        elif net.is_link_local or net.is_multicast:
            yield _problem(said, field, f"of {text} nobody forms addresses, or leases them (RFC 4862 section 5.5.3)")
        elif field == "prefixes" and net.prefixlen + INTERFACE_BITS != net.max_prefixlen:
            yield _problem(said, field, f"{text} has {net.prefixlen} bits, and addresses are formed of 64 alone")
        elif field == "on_link" and text in said.prefixes:
            yield _problem(said, field, f"of {text} addresses are formed: it is on link by that")


def _fit_outside(plan: Plan, outside: Outside) -> Iterator[Problem]:
    way = plan.of("way_in").get(outside.at)
    if way is None and outside.via is not None:
        yield _problem(outside, "via", "behind a station there is no next hop but the station")
    if way is not None and outside.translates:
        yield _problem(outside, "translates", "who translates behind a way in has a part in no answer of the plan")
    if way is not None and outside.knows and outside.via is None:
        yield _problem(outside, "via", "it knows ways into the plan, so over which next hop?")
    if way is None or outside.via is None:
        return
    nets = plan.get("segment", way.segment).subnets
    if not any(ipaddress.ip_address(outside.via) in ipaddress.ip_network(net) for net in nets):
        yield _problem(outside, "via", f"{outside.via} is in no subnet of {called(plan, plan.find(way.segment))}")
    for net in outside.knows:
        if (":" in net) != (":" in outside.via):
            yield _problem(outside, "knows", f"{net} is not of the family of its next hop, {outside.via}")


def _fit_flow(plan: Plan, flow: Flow) -> Iterator[Problem]:
    """A flow says who sends, to whom, and something that is sent."""
    if bool(flow.of) == bool(flow.service):
        either = "names who sends and a service: one of the two" if flow.of else "names nobody who sends, nor a service"
        yield _problem(flow, "of", either)
    if (flow.to is not None) != (flow.towards == TO_ONE):
        message = "goes to one, and doesn’t say to whom" if flow.to is None else f"goes to {flow.towards}, not to one"
        yield _problem(flow, "to", message)
    elif flow.to is not None and flow.to == flow.of:
        yield _problem(flow, "to", "is who sends")
    if flow.sends is None and flow.gets is None:
        yield _problem(flow, "sends", "sends nothing and gets nothing back: how many Mbit/s?")


def _fit_addressing(plan: Plan, record: Any) -> Iterator[Problem]:
    """Whoever takes a lease has no IPv4 address of his own beside it, and whoever is meant to have none has none."""
    held = [a for a in record.addresses if record.addressing == NONE or ":" not in a]
    if record.addressing != STATIC and held:
        by = "takes its IPv4 address by lease" if record.addressing == LEASE else "is meant to have no address"
        yield _problem(record, "addressing", f"it {by}, and has {held[0]}")


def _fit_rule(plan: Plan, rule: Rule) -> Iterator[Problem]:
    try:
        read(rule.text)
    except RuleError as error:
        yield _problem(rule, "text", f"{error} (at character {error.fault.start + 1})")


def _fit_parts(plan: Plan, records: list[Any], given: set[tuple[str, str]]) -> Iterator[Problem]:
    """What is stamped is on a host on which its pattern is stamped, and alone there of its part."""
    hosts: dict[str, str | None] = {}
    patterns: dict[str, str | None] = {}
    stamped: dict[str | None, set[str]] = {}
    made: dict[str | None, dict[str, list[Any]]] = {}
    for record in records:
        part, owner = record.part, getattr(record, OWNER[record.kind])
        if owner not in hosts:
            hosts[owner] = host_id(plan, record)
        if part not in patterns:
            patterns[part] = pattern_of(plan, plan.find(part))
        host, pattern = hosts[owner], patterns[part]
        if host not in stamped:
            stamped[host] = {stamp.pattern for stamp in plan.where("stamp", "host", host)}
        if pattern is None or pattern not in stamped[host]:
            name = called(plan, plan.of("pattern").get(pattern))
            yield _problem(record, "part", f"{name} isn’t stamped on {called(plan, plan.of('host').get(host))}")
        if host not in made:
            of_part = made[host] = {}
            for other in chain.from_iterable(on_host(plan, host).values()):
                of_part.setdefault(other.part, []).append(other)
        if other := _before(record, made[host].get(part, ()), given):
            said = f"{called(plan, other)} is already the host’s {called(plan, plan.find(part))}"
            yield _problem(record, "part", said)


def _fit_pattern_uplink(plan: Plan, uplink: Any) -> Iterator[Problem]:
    """As an uplink: in the standard's words it has no other ones, and over another one no NICs."""
    yield from _uplink_words(uplink)
    if uplink.over is None:
        if uplink.vid is not None:
            yield _problem(uplink, "vid", "only an uplink over another one’s NICs has a tag of its own")
        return
    if pattern_of(plan, plan.find(uplink.over)) != pattern_of(plan, uplink):
        yield _problem(uplink, "over", f"{called(plan, plan.find(uplink.over))} is of another pattern")
    for nic in plan.where("pattern_nic", "uplink", uplink.id)[:1]:
        yield _problem(uplink, "over", f"it has a NIC of its own, {nic.name}")


def _fit_pattern_nic(plan: Plan, nic: PatternNic) -> Iterator[Problem]:
    uplink = plan.of("pattern_uplink").get(nic.uplink)
    if uplink is not None and pattern_of(plan, uplink) != nic.pattern:
        yield _problem(nic, "uplink", f"{called(plan, uplink)} is of another pattern")


def _fit_pattern_order(plan: Plan, order: Any) -> Iterator[Problem]:
    group, nic = plan.get("pattern_port_group", order.port_group), plan.get("pattern_nic", order.nic)
    uplink = plan.of("pattern_uplink").get(nic.uplink)
    if uplink is None or uplink.switch != group.switch:
        yield _problem(order, "nic", f"{called(plan, nic)} is in no uplink of the switch of {group.name}")


def _fit_stamp_nic(plan: Plan, taken: StampNic) -> Iterator[Problem]:
    stamp, part, nic = (plan.get(k, id) for k, id in zip(("stamp", "pattern_nic", "nic"), _TAKEN(taken), strict=True))
    if part.pattern != stamp.pattern:
        yield _problem(taken, "part", f"{called(plan, part)} is of another pattern than the stamp")
    if nic.host != stamp.host:
        yield _problem(taken, "nic", f"{called(plan, nic)} is on another host than the stamp")


_TAKEN = attrgetter("stamp", "part", "nic")

_FITS: dict[str, Callable[[Plan, Any], Iterator[Problem]]] = {
    "segment": _fit_segment,
    "secondary_vlan": _fit_secondary,
    "nic": _fit_nic,
    "numa_node": _fit_numa,
    "port_group": _fit_port_group,
    "uplink": _fit_uplink,
    "group_order": _fit_group_order,
    "adapter": _fit_adapter,
    "mirror": _fit_mirror,
    "fabric_switch": _fit_fabric_switch,
    "fabric_port": _fit_fabric_port,
    "lag": _fit_lag,
    "station_port": _fit_station_port,
    "bmc": _fit_bmc,
    "cable": _fit_cable,
    "way_in": _fit_way_in,
    "route": _fit_route,
    "rule": _fit_rule,
    "filter_line": _fit_filter_line,
    "lease_scope": _fit_lease_scope,
    "lease_relay": _fit_lease_relay,
    "advertisement": _fit_advertisement,
    "inward_translation": _fit_inward,
    "outside": _fit_outside,
    "flow": _fit_flow,
    "host_port": _fit_addressing,
    "guest_tag": _fit_addressing,
    "pattern_uplink": _fit_pattern_uplink,
    "pattern_port_group": _fit_port_group,
    "pattern_nic": _fit_pattern_nic,
    "pattern_order": _fit_pattern_order,
    "stamp_nic": _fit_stamp_nic,
}


def _standard(record: PortGroup | FabricPort | Uplink | Adapter, asked: bool) -> Iterator[Problem]:
    """The fields of a port in the standard's own words (IEEE 802.1Q clause 8.8.2); `asked`: whether it must have them."""
    members, bare = vids.members(record.members or ""), vids.members(record.untagged or "")
    if asked and record.members is None:
        yield _problem(record, "members", f"a standard {record.title} needs its list of members")
    for field in ("members", "untagged", "pvid"):
        if not asked and getattr(record, field) is not None:
            yield _problem(record, field, f"only a standard {record.title} has {'a PVID' if field == 'pvid' else 'it'}")
            return
    if bare - members:
        yield _problem(record, "untagged", f"{vids.write(bare - members)} can’t leave untagged without being a member")
    if record.pvid is not None and record.pvid not in members:
        yield _problem(record, "pvid", f"the PVID {record.pvid} is not among the members")


def _tagging(plan: Plan, record: PortGroup | FabricPort) -> Iterator[Problem]:
    yield from _standard(record, record.mode == "standard")
    single = record.mode in ("access", "private")
    if single and record.vid is None:
        yield _problem(record, "vid", f"{_a(record.mode)} {record.title} needs a VID")
    if not single and record.vid is not None:
        yield _problem(record, "vid", f"only an access or private {record.title} has one VID of its own")
    if record.mode == "trunk" and record.allowed is None:
        yield _problem(record, "allowed", f"a trunk {record.title} needs its list of VIDs")
    if record.mode != "trunk" and record.allowed is not None:
        yield _problem(record, "allowed", f"only a trunk {record.title} has a list of VIDs")
    if record.mode != "trunk" and record.native is not None:
        yield _problem(record, "native", f"only a trunk {record.title} has a native VLAN")
    if record.mode == "private" and record.vid is not None and private_part(plan, record.vid) is None:
        yield _problem(
            record,
            "vid",
            f"{record.vid} is neither a primary nor a secondary VLAN: no segment has it in a private VLAN",
        )


def _a(word: str) -> str:
    return f"an {word}" if word[0] in "aeiou" else f"a {word}"

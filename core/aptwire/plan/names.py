"""How records are called in sentences: "nic0 of fulmar", "port p2 of rack-b"."""

from __future__ import annotations

import re
from collections.abc import Iterable

from aptwire.plan.kinds import (
    UNSEEN,
    Acceptance,
    Adapter,
    Advertisement,
    Bmc,
    Cable,
    FabricPort,
    FilterLine,
    Flow,
    GroupOrder,
    GuestTag,
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
    OwnWord,
    PatternGroupOrder,
    PatternHostPort,
    PatternNic,
    PatternPortGroup,
    PatternSwitch,
    PatternUplink,
    PortGroup,
    Record,
    Route,
    Rule,
    SecondaryVlan,
    SharedAddress,
    Source,
    Stamp,
    StampNic,
    StationPort,
    Translation,
    Uplink,
    VirtualSwitch,
    WayIn,
)
from aptwire.plan.plan import Plan


def called(plan: Plan, record: Record | None) -> str:
    """The record's name as a person would say it, with what it is part of."""
    if record is None:
        return "something that is gone"
    if isinstance(record, (Nic, VirtualSwitch)):
        return f"{record.name} of {_name(plan, 'host', record.host)}"
    if isinstance(record, NumaNode):
        return f"NUMA node {record.number} of {_name(plan, 'host', record.host)}"
    if isinstance(record, Bmc):
        return f"the BMC of {_name(plan, 'host', record.host)}"
    if isinstance(record, (Uplink, PortGroup, HostPort)):
        switch = plan.of("virtual_switch").get(record.switch)
        host = _name(plan, "host", switch.host) if switch is not None else record.switch
        return f"{record.title} {record.name} of {host}"
    if isinstance(record, FabricPort):
        return f"port {record.name} of {_name(plan, 'fabric_switch', record.switch)}"
    if isinstance(record, Lag):
        return f"LAG {record.name} of {_name(plan, 'fabric_switch', record.switch)}"
    if isinstance(record, StationPort):
        return f"{_name(plan, 'station', record.station)}{f' tag {record.vid}' if record.vid else ''}"
    if isinstance(record, GroupOrder):
        return f"the team order of {called(plan, plan.find(record.port_group))}"
    if isinstance(record, Mirror):
        return f"the mirror of {called(plan, plan.find(record.source))}"
    if isinstance(record, SecondaryVlan):
        return f"{record.type} VLAN {record.vid} of {_name(plan, 'segment', record.segment)}"
    if isinstance(record, WayIn):
        return f"the way in of {_name(plan, 'segment', record.segment)} at {called(plan, plan.find(record.port))}"
    if isinstance(record, Route):
        return f"the route of {called(plan, plan.find(record.of))} over {record.via}"
    if isinstance(record, FilterLine):
        return f"filter line {record.order} of {called(plan, plan.find(record.of))}"
    if isinstance(record, LeaseScope):
        return f"the lease scope {record.subnet} of {called(plan, plan.find(record.of))}"
    if isinstance(record, LeaseRelay):
        return f"the lease relay at {called(plan, plan.find(record.at))}"
    if isinstance(record, Advertisement):
        return f"the advertisement at {called(plan, plan.find(record.at))}"
    if isinstance(record, Translation):
        return f"the translation at {called(plan, plan.find(record.at))}"
    if isinstance(record, InwardTranslation):
        return f"the inward translation at {called(plan, plan.find(record.at))} to {record.to}"
    if isinstance(record, (Flow, Outside, Source)):
        return record.name
    if isinstance(record, SharedAddress):
        return f"the shared address {record.address}"
    if isinstance(record, Limits):
        return "the limits sheet"
    if isinstance(record, Adapter):
        return f"{record.name} of {_name(plan, 'guest', record.guest)}"
    if isinstance(record, GuestTag):
        return f"tag {record.vid} on {called(plan, plan.find(record.adapter))}"
    if isinstance(record, Cable):
        return f"the cable from {called(plan, plan.find(record.a))} to {called(plan, plan.find(record.b))}"
    if record.kind in UNSEEN:
        return _of_pattern(plan, record)
    return getattr(record, "name", None) or f"the {record.title} of {getattr(record, 'site', record.id)}"


def _of_pattern(plan: Plan, record: Record) -> str:
    """A pattern's part, or what says which host it is stamped on; a rule; or an acceptance."""
    if isinstance(record, Rule):
        return f"the rule “{record.text[:120]}”"
    if isinstance(record, Acceptance):
        return f"the acceptance of “{record.said[:80]}”"
    if isinstance(record, Stamp):
        return f"the stamp of {_name(plan, 'pattern', record.pattern)} on {_name(plan, 'host', record.host)}"
    if isinstance(record, StampNic):
        stamp = plan.of("stamp").get(record.stamp)
        host = _name(plan, "host", stamp.host) if stamp is not None else record.stamp
        return f"{_name(plan, 'pattern_nic', record.part)} on {host}"
    if isinstance(record, OwnWord):
        stamp = plan.of("stamp").get(record.stamp)
        host = _name(plan, "host", stamp.host) if stamp is not None else record.stamp
        return f"the own word of {host} about {called(plan, plan.find(record.about))}"
    if isinstance(record, PatternGroupOrder):
        return f"the team order of {called(plan, plan.find(record.port_group))}"
    if isinstance(record, (PatternSwitch, PatternNic)):
        return f"{record.name} of pattern {_name(plan, 'pattern', record.pattern)}"
    if isinstance(record, (PatternUplink, PatternPortGroup, PatternHostPort)):
        switch = plan.of("pattern_switch").get(record.switch)
        pattern = _name(plan, "pattern", switch.pattern) if switch is not None else record.switch
        return f"{record.title.removeprefix('pattern’s ')} {record.name} of pattern {pattern}"
    return f"pattern {_name(plan, 'pattern', record.id)}"


def some(names: Iterable[str], most: int = 3, count: int = 0) -> str:
    """Names as a sentence lists them: "a, b and 4 more"; where only the first ones are given, `count` says how many there are."""
    listed = list(dict.fromkeys(names))
    count = max(count, len(listed))
    if count <= most:
        return " and ".join([", ".join(listed[:-1]), listed[-1]] if len(listed) > 1 else listed)
    return f"{', '.join(listed[: most - 1])} and {count - most + 1} more"


def natural(text: str) -> list[int | str]:
    """A key by which names stand in the order in which people count: nic2 before nic10."""
    return [int(part) if n % 2 else part for n, part in enumerate(re.split(r"(\d+)", text))]


def host_of(plan: Plan, record: Record) -> str:
    """The name of the host that the record is on; empty for what isn't on one."""
    if isinstance(record, GuestTag):
        return host_of(plan, plan.get("adapter", record.adapter))
    if isinstance(record, Adapter):
        return _name(plan, "host", plan.get("guest", record.guest).host)
    if hasattr(record, "switch"):
        owner = plan.find(record.switch)
        return host_of(plan, owner) if owner else ""
    return _name(plan, "host", record.host) if hasattr(record, "host") else ""


def endpoint_key(plan: Plan, record: Record) -> str:
    """An endpoint as the command line names it: host/tap, or host/port for a host port."""
    return f"{host_of(plan, record)}/{getattr(record, 'name', record.id)}"


def with_key(plan: Plan, key: str) -> list[str]:
    """The endpoints with this key, host/name."""
    name = key.rpartition("/")[2]
    found = [r for kind in ("adapter", "host_port") for r in plan.where(kind, "name", name)]
    return [r.id for r in found if endpoint_key(plan, r) == key]


def _name(plan: Plan, kind: str, id: str) -> str:
    return getattr(plan.of(kind).get(id), "name", id)

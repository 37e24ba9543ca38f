"""Bringing a plan to what a sheet says: its segments, its guests with their adapters, its fabric ports, its cables.

A row that names something that is there changes it, others make it; an empty cell leaves what is there, and what the sheet doesn't name stays.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from aptwire.paper.reading import DATE, Table
from aptwire.paper.tables import ports as ports_sheet
from aptwire.plan import vids
from aptwire.plan.checks import make_record
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.fields import plain
from aptwire.plan.kinds import SPECS, Adapter, Cable, FabricPort, FabricSwitch, Guest, Host, PortGroup, Record, Segment
from aptwire.plan.names import some
from aptwire.plan.plan import Plan, PlanError, Problem


@dataclass(frozen=True)
class Sort:
    """A sort of sheet: what its rows are called, its columns with what these are usually called (the likeliest first), and which of them a row can't do without;
    `passed_over`: which rows say nothing."""

    called: str
    columns: Mapping[str, tuple[str, ...]]
    needed: tuple[str, ...]
    take: Callable[[_Taking], None]
    passed_over: Callable[[Mapping[str, str]], bool] = lambda texts: not any(texts.values())


def columns(sort: str, table: Table, said: Mapping[str, str] | None = None) -> tuple[dict[str, int], list[Problem]]:
    """Which column (from 0) of a table holds what, for a sort of sheet: as `said` (column to title, "" for none), else by their usual titles; and what is wrong
    with that: a title that isn't there, or a column that is needed and not found."""
    known = SORTS[sort]
    titles = [_plain(title) for title in table.head]
    found: dict[str, int] = {}
    problems: list[Problem] = []
    for name, title in (said or {}).items():
        if name not in known.columns:
            text = f"a {known.called} sheet has no “{name[:40]}”; there are {', '.join(known.columns)}"
            problems.append(Problem(text, place=table.name))
        elif title and title not in table.head:
            problems.append(Problem(f"no column is called “{title[:60]}”", field=name, place=table.name))
        elif title:
            found[name] = table.head.index(title)
    for name, names in known.columns.items():
        if name not in found and name not in (said or {}):
            free = [titles.index(n) for n in names if n in titles and titles.index(n) not in found.values()]
            if free:
                found[name] = free[0]
    for name in known.needed:
        if name not in found and not problems:
            heads = ", ".join(f"“{title}”" for title in table.head if title)
            text = f"no column is the {known.called}s’ {name.replace('_', ' ')}; the sheet has {heads}"
            problems.append(Problem(text, field=name, place=table.name))
    return found, problems


def _plain(title: str) -> str:
    return " ".join(title.casefold().replace("_", " ").split())


def take(plan: Plan, sort: str, table: Table, said: Mapping[str, str] | None = None) -> Edit:
    """The edit by which a plan says what a sheet of some sort says.

    PlanError names every cell that can't be used by row and column; nothing is taken then.
    """
    at, problems = columns(sort, table, said)
    if problems:
        raise PlanError(problems)
    taking = _Taking(plan, table, SORTS[sort], at)
    SORTS[sort].take(taking)
    if taking.problems:
        raise PlanError(taking.problems)
    return tuple(taking.made)


class _Taking:
    """One sheet on its way into a plan."""

    def __init__(self, plan: Plan, table: Table, sort: Sort, at: Mapping[str, int]) -> None:
        self.plan, self.table, self.sort, self.at = plan, table, sort, at
        self.made: list[Operation] = []
        self.problems: list[Problem] = []
        self.rows_of: dict[object, int] = {}
        self.fresh: set[str] = set()
        self.nics: dict[tuple[str, str], str] = {}

    def rows(self) -> Iterator[_Row]:
        """The rows that say anything, those that lack what is needed told and left out."""
        for n, cells in enumerate(self.table.rows):
            row = _Row(self, n, {name: cells[column] for name, column in self.at.items()})
            if self.sort.passed_over(row.texts):
                continue
            missing = [name for name in self.sort.needed if not row.texts[name]]
            for name in missing:
                row.wrong(name, f"a {self.sort.called} needs a {name.replace('_', ' ')}")
            if not missing:
                yield row

    def once(self, row: _Row, column: str, key: object, text: str) -> bool:
        """Whether this row is the first with a key; else that is told."""
        first = self.rows_of.setdefault(key, row.n)
        if first != row.n:
            row.wrong(column, f"{text} stands in row {self.table.origins[first][1]} already")
        return first == row.n

    def id_for(self, wanted: str) -> str:
        """An id that neither the plan nor the sheet has yet."""
        found = self.plan.fresh_id(wanted)
        n = 2
        while found in self.fresh:
            found, n = self.plan.fresh_id(f"{wanted}-{n}"), n + 1
        self.fresh.add(found)
        return found

    def say(self, kind: str, own: Record | None, id: str, values: Mapping[str, Any]) -> None:
        """Make a record, or change it to these values where it is there."""
        if own is None:
            self.made.append(Put(make_record(kind, {"id": id, **values})))
            return
        changed = {name: value for name, value in values.items() if plain(getattr(own, name)) != value}
        if changed:
            self.made.append(Patch(kind, own.id, changed))

    @cached_property
    def segments(self) -> Mapping[str, Segment]:
        """Segments by name, and by VID where that is told."""
        by_vid = {str(s.vid): s for s in self.plan.all(Segment) if s.vid}
        return {**by_vid, **{s.name: s for s in self.plan.all(Segment)}}

    @cached_property
    def hosts(self) -> Mapping[str, Host]:
        return {host.name: host for host in self.plan.all(Host)}

    @cached_property
    def switches(self) -> Mapping[str, FabricSwitch]:
        return {switch.name: switch for switch in self.plan.all(FabricSwitch)}


@dataclass(frozen=True)
class _Row:
    """A row that is taken: its number, and the texts in the columns that are known."""

    taking: _Taking
    n: int
    texts: Mapping[str, str]

    def wrong(self, column: str, message: str) -> None:
        """Tell what of a cell can't be used."""
        table, at = self.taking.table, self.taking.at
        place = table.place(self.n, at[column]) if column in at else table.row(self.n)
        self.taking.problems.append(Problem(message, kind=self.taking.sort.called, field=column, place=place))

    def text(self, column: str) -> str:
        """A cell's text, empty where there is no such column."""
        return self.texts.get(column, "")

    def values(self, kind: str, names: Mapping[str, str]) -> dict[str, Any]:
        """What the cells say of a kind's fields (column to field), as a plan file does; what can't be used is told."""
        found: dict[str, Any] = {}
        for column, name in names.items():
            text = self.text(column)
            if not text:
                continue
            try:
                found[name] = _value(kind, name, text)
            except ValueError as error:
                self.wrong(column, str(error))
        return found

    def named(self, column: str, among: Mapping[str, Any], what: str) -> Any:
        """The record that a cell names; None where it names none, which is told if there is any text."""
        text = self.text(column)
        found = among.get(text) or among.get(re.sub(r"(?i)^(vlan|vid)\s*", "", text))
        if text and found is None:
            self.wrong(column, f"there is no {what} “{text[:80]}”")
        return found

    def yes(self, column: str, words: Mapping[str, bool]) -> bool | None:
        """What a cell says that is one thing or another; None where it says nothing."""
        text = self.text(column).casefold()
        found = {**_YES, **words}.get(text)
        if text and found is None:
            self.wrong(column, f"“{text[:40]}” is none of {', '.join([*words, *_YES])}")
        return found


_YES = {"yes": True, "no": False, "true": True, "false": False, "1": True, "0": False}


def _value(kind: str, name: str, text: str) -> Any:
    """What a cell says of a field; ValueError where that can't be used."""
    spec = SPECS[kind][name]
    if text.startswith(DATE):
        raise ValueError(f"a date, {text.removeprefix(DATE)}, is nothing that a {kind.replace('_', ' ')} says")
    if spec.kind in ("vid", "number"):
        return spec.take(_number(text))
    if spec.kind in ("words", "ranges", "purposes", "kept"):
        return plain(spec.take([part for part in map(str.strip, re.split(r"[,;]", text)) if part]))
    if spec.kind in ("subnets", "ips", "addresses"):
        return plain(spec.take([part for part in re.split(r"[,;\s]+", text) if part]))
    return spec.take(" ".join(text.split()))


def _number(text: str) -> int:
    """A number as people write one in a sheet: 110, 1,500, VLAN 110."""
    found = re.fullmatch(r"(?:vlan|vid|vni)?\s*(\d{1,3}(?:[,’']\d{3})*|\d+)(?:\.0+)?", text.strip(), re.IGNORECASE)
    if found is None:
        raise ValueError(f"“{text[:40]}” is no whole number")
    return int(re.sub(r"\D", "", found[1]))


def _segments(taking: _Taking) -> None:
    by_name = {segment.name: segment for segment in taking.plan.all(Segment)}
    for row in taking.rows():
        before = len(taking.problems)
        values = row.values("segment", {name: name for name in _SEGMENT})
        name = values.get("name")
        if name is None or not taking.once(row, "name", name, f"“{name}”") or len(taking.problems) > before:
            continue
        own = by_name.get(name)
        # One of the two says how the segment is told apart.
        other = {"vid": "vni", "vni": "vid"}
        if own is not None:
            values |= {other[field]: None for field in list(values) if field in other and other[field] not in values}
        taking.say("segment", own, taking.id_for(f"segment-{name}") if own is None else own.id, values)


def _guests(taking: _Taking) -> None:
    plan = taking.plan
    by_name = {guest.name: guest for guest in plan.all(Guest)}
    said: dict[str, tuple[str, Host]] = {}
    for row in taking.rows():
        before = len(taking.problems)
        host: Host | None = row.named("host", taking.hosts, "host")
        name = row.values("guest", {"guest": "name"}).get("name")
        running = row.yes("running", {"on": True, "off": False})
        values = row.values("adapter", {"adapter": "name", "mac": "mac", "addresses": "addresses", "type": "type"})
        segment: Segment | None = row.named("belongs", taking.segments, "segment")
        if host is None or name is None or len(taking.problems) > before:
            continue
        own = by_name.get(name)
        if name not in said:
            id = own.id if own is not None else taking.id_for(f"guest-{name}")
            more = {**({} if running is None else {"running": running}), **row.values("guest", _ABOUT_FIELDS)}
            taking.say("guest", own, id, {"host": host.id, "name": name, **more})
            said[name] = id, host
        elif said[name][1] is not host:
            row.wrong("host", f"{name} is on {said[name][1].name} in a row above")
            continue
        adapters = plan.where("adapter", "guest", own.id) if own is not None else []
        tap = values.get("name") or (adapters[0].name if len(adapters) == 1 else f"tap-{name}")
        if not taking.once(row, "adapter" if "adapter" in taking.at else "guest", (name, tap), f"{tap} of {name}"):
            continue
        there = next((a for a in adapters if a.name == tap), None)
        group = _group(row, host, there)
        if len(taking.problems) > before:
            continue
        values["name"] = tap
        if group is not None:
            values["port_group"] = group.id
            if segment is None and group.mode == "access" and "belongs" not in taking.at:
                segment = next(iter(plan.where("segment", "vid", group.vid)), None)
        if segment is not None:
            values["belongs"] = segment.id
        if there is None and values.get("type") == "direct":
            row.wrong("type", "a direct adapter needs its NIC, which a sheet doesn’t say; make it on Decks")
            continue
        taking.say(
            "adapter",
            there,
            there.id if there else taking.id_for(f"{said[name][0]}/{tap}"),
            {"guest": said[name][0], **values},
        )


def _group(row: _Row, host: Host, there: Adapter | None) -> PortGroup | None:
    """The port group on a host that a row names: the one that the adapter is in already, if that is called so."""
    plan, name = row.taking.plan, row.text("port_group")
    if not name:
        return None
    switches = plan.where("virtual_switch", "host", host.id)
    found = [g for s in switches for g in plan.where("port_group", "switch", s.id) if g.name == name]
    own = [g for g in found if there is not None and g.id == there.port_group]
    found = own or found
    if not found:
        row.wrong("port_group", f"{host.name} has no port group “{name[:80]}”")
    elif len(found) > 1:
        row.wrong("port_group", f"{host.name} has {len(found)} port groups “{name[:80]}”, on different switches")
    return found[0] if len(found) == 1 else None


def _ports(taking: _Taking) -> None:
    plan = taking.plan
    written: dict[str, dict[str, tuple[str, ...]]] = {}
    for row in taking.rows():
        before = len(taking.problems)
        switch: FabricSwitch | None = row.named("switch", taking.switches, "fabric switch")
        name = row.values("fabric_port", {"port": "name"}).get("name")
        values = row.values("fabric_port", {"speed": "speed", "mtu": "mtu", **_ABOUT_FIELDS})
        enabled = row.yes("state", {"enabled": True, "up": True, "shut": False, "down": False, "disabled": False})
        if (
            switch is None
            or name is None
            or not taking.once(row, "port", (switch.id, name), f"{name} of {switch.name}")
        ):
            continue
        own = next((p for p in plan.where("fabric_port", "switch", switch.id) if p.name == name), None)
        if switch.id not in written:
            written[switch.id] = {
                str(cells[1]): tuple(map(str, cells[2:5])) for cells in ports_sheet(plan, switch).rows
            }
        old = written[switch.id].get(name, ("", "", ""))
        tags = tuple(row.text(column).casefold() for column in ("mode", "tagged", "untagged"))
        # A row that says what ours would say of the port changes nothing about its tags; of a port that stays of its mode an empty cell leaves what is there.
        if own is None or any(new and new != before for new, before in zip(tags, old, strict=True)):
            stays = tags[0] in ("", old[0])
            values |= _tags(
                row, own, *(new or before for new, before in zip(tags, old, strict=True)) if stays else tags
            )
        if enabled is not None:
            values["enabled"] = enabled
        if len(taking.problems) == before:
            id = own.id if own is not None else taking.id_for(f"{switch.id}/{name}")
            taking.say("fabric_port", own, id, {"switch": switch.id, "name": name, **values})


def _tags(row: _Row, own: FabricPort | None, mode: str, tagged: str, untagged: str) -> dict[str, Any]:
    """What these texts of a row say of a port's mode and VIDs."""
    try:
        listed = vids.canonical(re.sub(r"[;\s]+", ",", tagged)) if tagged else ""
    except ValueError as error:
        row.wrong("tagged", str(error))
        return {}
    try:
        bare = _value("fabric_port", "vid", untagged) if untagged else None
    except ValueError as error:
        row.wrong("untagged", str(error))
        return {}
    mode = mode or ("trunk" if listed else "access")
    nothing = dict.fromkeys(("vid", "allowed", "native", "pvid", "members", "untagged"))
    if mode == "trunk":
        return {**nothing, "mode": mode, "allowed": listed, "native": bare}
    if mode == "access":
        if bare is None:
            row.wrong("untagged", "an access port needs the VID that it carries untagged")
        if listed:
            row.wrong("tagged", "an access port carries nothing tagged")
        return {**nothing, "mode": mode, "vid": bare}
    if mode == "standard":
        # Several that leave untagged are more than a cell says; they stay until another one is said.
        leaves = own.untagged if own is not None and not row.text("untagged") else None
        leaves = leaves or (str(bare) if bare else None)
        members = vids.write(vids.members(listed) | vids.members(leaves or "") | ({bare} if bare else set()))
        return {**nothing, "mode": mode, "members": members, "pvid": bare, "untagged": leaves}
    if mode == "private":
        found = re.search(r"\d+", tagged) or re.search(r"\d+", untagged)
        if found is None:
            row.wrong("tagged", "a private port needs its VID")
        return {**nothing, "mode": mode, "vid": int(found[0]) if found else None}
    row.wrong("mode", f"“{mode[:40]}” is none of access, trunk, standard, private")
    return {}


def _cables(taking: _Taking) -> None:
    plan = taking.plan
    cable_of = {end: cable for cable in plan.all(Cable) for end in (cable.a, cable.b)}
    gone: set[str] = set()
    for row in taking.rows():
        ends = [_end(row, side) for side in ("a", "b")]
        if any(end is None for end in ends) or not all(
            taking.once(row, f"port_{side}", end, f"{row.text(f'device_{side}')} {row.text(f'port_{side}')}")
            for side, end in zip("ab", ends, strict=True)
        ):
            continue
        one, two = (str(end) for end in ends)
        if one == two:
            row.wrong("port_b", "a cable needs two different ends")
            continue
        values = row.values("cable", {"label": "label", "places": "places", **_ABOUT_FIELDS})
        known = [cable for end in (one, two) if (cable := cable_of.get(end)) is not None]
        if len(known) == 2 and known[0] is known[1]:
            if "places" in values and known[0].a != one:
                values["places"].reverse()
            taking.say("cable", known[0], known[0].id, values)
            continue
        for cable in known:
            if cable.id not in gone:
                gone.add(cable.id)
                taking.made.insert(0, Drop("cable", cable.id))
        taking.say("cable", None, taking.id_for(f"cable-{one}"), {"a": one, "b": two, **values})


def _end(row: _Row, side: str) -> str | None:
    """The NIC or port that a row names at one end of a cable; a NIC that isn't there is made."""
    taking, plan = row.taking, row.taking.plan
    device, port, kind = (row.text(f"{column}_{side}") for column in ("device", "port", "kind"))
    host, switch = taking.hosts.get(device), taking.switches.get(device)
    if kind in ("host", "switch") and host and switch:
        host, switch = (host, None) if kind == "host" else (None, switch)
    if (host is None) == (switch is None):
        row.wrong(
            f"device_{side}",
            f"there is {'both a host and a switch' if host else 'no host or fabric switch'} “{device[:80]}”",
        )
        return None
    if switch is not None:
        found = next((p for p in plan.where("fabric_port", "switch", switch.id) if p.name == port), None)
        if found is None:
            row.wrong(f"port_{side}", f"{device} has no port “{port[:80]}”; a sheet of ports makes it")
        return found.id if found is not None else None
    assert host is not None
    nic = next((n for n in plan.where("nic", "host", host.id) if n.name == port), None)
    if nic is not None:
        return str(nic.id)
    name = row.values("nic", {f"port_{side}": "name"}).get("name")
    if name is None:
        return None
    key = host.id, name
    if key not in taking.nics:
        taking.nics[key] = taking.id_for(f"{host.id}/{name}")
        taking.made.append(Put(make_record("nic", {"id": taking.nics[key], "host": host.id, "name": name})))
    return taking.nics[key]


_ABOUT: dict[str, tuple[str, ...]] = {
    "note": ("note", "notes", "comment", "comments", "remark", "remarks"),
    "owner": ("owner", "contact", "responsible", "team"),
}
_ABOUT_FIELDS = {name: name for name in _ABOUT}
_SEGMENT: dict[str, tuple[str, ...]] = {
    "name": ("segment", "name", "vlan name", "segment name", "network name", "description"),
    "role": ("role", "use", "purpose", "zone", "type"),
    "vid": ("vid", "vlan", "vlan id", "vlanid", "tag", "id"),
    "vni": ("vni",),
    "subnets": ("subnets", "subnet", "network", "prefix", "cidr", "range", "ipv4", "ip network"),
    "gateways": ("gateways", "gateway", "gw", "default gateway", "router"),
    "lease_servers": ("lease servers", "lease server", "dhcp", "dhcp server", "dhcp servers"),
    "ranges": ("ranges", "address ranges", "pools"),
    "mtu": ("mtu",),
    **_ABOUT,
}
SORTS: dict[str, Sort] = {
    "segments": Sort("segment", _SEGMENT, ("name",), _segments),
    "guests": Sort(
        "guest",
        {
            "host": ("host", "server", "node", "hypervisor"),
            "guest": ("guest", "machine", "virtual machine", "hostname", "name"),
            "running": ("running", "on", "power", "power state"),
            "adapter": ("adapter", "interface", "nic", "tap", "port"),
            "port_group": ("port group", "portgroup", "network", "network name"),
            "belongs": ("belongs on", "belongs", "segment", "vlan", "vid", "vlan id"),
            "mac": ("mac", "mac address", "hardware address"),
            "addresses": ("addresses", "address", "ip", "ips", "ip address", "ip addresses", "ipv4"),
            "type": ("kind", "type"),
            **_ABOUT,
        },
        ("host", "guest"),
        _guests,
    ),
    "ports": Sort(
        "port",
        {
            "switch": ("switch", "device", "switch name"),
            "port": ("port", "interface", "name"),
            "mode": ("mode", "port mode"),
            "tagged": ("tagged vids", "tagged", "allowed", "trunk vlans", "vlans", "tagged vlans"),
            "untagged": ("untagged vid", "untagged", "native", "native vlan", "access vlan", "vlan", "pvid"),
            "speed": ("speed, mbit/s", "speed", "mbit/s"),
            "mtu": ("mtu",),
            "state": ("state", "enabled", "status"),
            **_ABOUT,
        },
        ("switch", "port"),
        _ports,
    ),
    "cables": Sort(
        "cable",
        {
            "device_a": ("device a", "from device", "host", "server", "from", "a"),
            "port_a": ("port a", "from port", "nic", "interface", "source port"),
            "device_b": ("device b", "to device", "switch", "to", "b"),
            "port_b": ("port b", "to port", "switch port", "port", "destination port"),
            "kind_a": ("kind a",),
            "kind_b": ("kind b",),
            "label": ("label", "cable label", "cable", "cable id"),
            "places": ("patch panels", "patch panel", "panel", "panels", "patching"),
            **_ABOUT,
        },
        ("device_a", "port_a", "device_b", "port_b"),
        _cables,
        # A station, or a BMC, has no port of its own to plug in.
        lambda texts: (
            not any(texts.values()) or not {"station", "BMC"}.isdisjoint(map(texts.get, ("kind_a", "kind_b")))
        ),
    ),
}


def told(edit: Iterable[Operation]) -> str:
    """What a sheet changes, in a few words: how many of what it makes, changes and takes away."""
    counts: dict[tuple[str, str], int] = {}
    for operation in edit:
        word = {Put: "made", Patch: "changed", Drop: "taken away"}[type(operation)]
        kind = operation.kind
        counts[kind, word] = counts.get((kind, word), 0) + 1
    lines = [f"{n} {kind.replace('_', ' ')}{'s' if n > 1 else ''} {word}" for (kind, word), n in counts.items()]
    return some(lines, len(lines)) or "nothing differs"

"""The sheets of a plan: segments, cables, the ports of each fabric switch, guests, and where everything lands."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from typing import Any

from aptwire.judge.judgement import Judgement
from aptwire.moving.moves import BY_GUEST, by_guest
from aptwire.paper.sheets import Cell, Sheet
from aptwire.plan import vids
from aptwire.plan.kinds import ABOUT, Cable, FabricPort, FabricSwitch, Guest, Nic, Record, Segment, Uplink
from aptwire.plan.names import called, some
from aptwire.plan.names import natural as counting
from aptwire.plan.plan import Plan
from aptwire.plan.ports import far_end, said, spoken
from aptwire.report import landings
from aptwire.rules.meetings import BY_SEGMENT, by_segment

MOST_LISTED = 400
"""Names in a cell."""


def natural(text: str) -> list[int | str]:
    """The order of names, whatever their case."""
    return counting(text.casefold())


def by_name(records: Iterable[Any], name: Callable[[Any], str] = lambda record: record.name) -> list[Any]:
    return sorted(records, key=lambda record: natural(name(record)))


def ledger(judgement: Judgement) -> Sheet:
    """Every segment, by VID."""
    members = judgement.members()
    ordered = sorted(judgement.plan.all(Segment), key=lambda s: (s.vid is None, s.vid or s.vni or 0, natural(s.name)))
    return Sheet(
        "segments",
        ("segment", "role", "VID", "VNI", "subnets", "gateways", "lease servers", "ranges", "MTU", "endpoints", *ABOUT),
        tuple(
            (
                *(s.name, s.role, s.vid, s.vni, ", ".join(s.subnets), ", ".join(s.gateways)),
                *(", ".join(s.lease_servers), ", ".join(s.ranges), s.mtu, members.get(s.id, 0), *_about(s)),
            )
            for s in ordered
        ),
    )


def _about(record: Record) -> tuple[str, str]:
    """What people say of a record."""
    return record.note, record.owner


def wiring(plan: Plan) -> Sheet:
    """The wiring schedule: each cable with both ends, for whoever plugs it; and each station and BMC, which is an end of its own."""
    rows: list[tuple[Cell, ...]] = []
    for cable in plan.all(Cable):
        ends = [_end(plan, id) for id in (cable.a, cable.b)]
        # Hosts stand at the left, as people read such lists.
        ordered = sorted(ends, key=_host_first)
        places = cable.places if ordered == ends else tuple(reversed(cable.places))
        rows.append((*(cell for end in ordered for cell in end), cable.label, ", ".join(places), *_about(cable)))
    for station in plan.all("station"):
        for port in dict.fromkeys(p.port for p in plan.where("station_port", "station", station.id)):
            tags = sorted(p.vid or 0 for p in plan.where("station_port", "port", port))
            text = ", ".join("untagged" if tag == 0 else str(tag) for tag in tags)
            rows.append(
                ("station", station.name, station.site, "", None, text, "", "", *_end(plan, port), "", "", "", "")
            )
    for bmc in plan.all("bmc"):
        if bmc.port is not None:
            host, text = plan.get("host", bmc.host), str(bmc.vid or "untagged")
            end = _end(plan, bmc.port)
            rows.append(("BMC", host.name, host.site, "BMC", None, text, "", "", *end, "", "", *_about(bmc)))
    half = ("kind", "device", "site", "port", "Mbit/s", "tagged", "untagged", "LAG or team")
    head = (*(f"{name} {side}" for side in ("A", "B") for name in half), "label", "patch panels", *ABOUT)
    return Sheet("wiring", head, tuple(sorted(rows, key=lambda row: [natural(str(cell or "")) for cell in row])))


def _host_first(end: tuple[Cell, ...]) -> tuple[bool, list[int | str]]:
    return end[0] != "host", natural(f"{end[1]} {end[3]}")


def _end(plan: Plan, id: str) -> tuple[Cell, ...]:
    """One end of a cable: host or switch, its name and site, the port, its speed and tags, its native VLAN, its LAG."""
    nic = plan.of("nic").get(id)
    if isinstance(nic, Nic):
        host = plan.get("host", nic.host)
        uplink = plan.of("uplink").get(nic.uplink)
        lets = said(uplink).gives if uplink is not None else None
        tags = "in no uplink" if uplink is None else "all" if lets is None else spoken(lets)
        team = f"{uplink.name} ({team_mode(uplink)})" if uplink is not None else ""
        return "host", host.name, host.site, nic.name, nic.speed, tags, "", team
    port = plan.get("fabric_port", id)
    switch = plan.get("fabric_switch", port.switch)
    return "switch", switch.name, switch.site, port.name, port.speed, *port_tags(port), _lag(plan, port)


def team_mode(uplink: Uplink) -> str:
    """How a team shares out its traffic, in a word."""
    return "LACP" if uplink.mode == "lacp" else uplink.mode


def port_tags(port: FabricPort) -> tuple[str, str]:
    """What a port carries tagged, and untagged."""
    if port.mode == "private":
        return f"private {port.vid}", ""
    words = said(port)
    tagged = vids.members(words.gives or "") - words.bare
    return vids.write(tagged), str(words.pvid) if words.pvid else ""


def _lag(plan: Plan, port: FabricPort) -> str:
    lag = plan.of("lag").get(port.lag)
    return f"{lag.name} ({'LACP' if lag.lacp else 'static'})" if lag is not None else ""


def ports(plan: Plan, switch: FabricSwitch) -> Sheet:
    """Every port of a fabric switch, for whoever configures it by hand."""
    rows = []
    for port in by_name(plan.where("fabric_port", "switch", switch.id)):
        tagged, untagged = port_tags(port)
        rows.append(
            (
                switch.name,
                port.name,
                port.mode,
                tagged,
                untagged,
                _lag(plan, port),
                port.speed,
                port.mtu,
                _state(port),
                _far(plan, port),
                _cable_of(plan, port),
                *_about(port),
            )
        )
    return Sheet(_sheet_name(switch.name), PORTS, tuple(rows))


PORTS = (
    "switch",
    "port",
    "mode",
    "tagged VIDs",
    "untagged VID",
    "LAG",
    "speed, Mbit/s",
    "MTU",
    "state",
    "leads to",
    "cable",
    *ABOUT,
)


def _state(port: FabricPort) -> str:
    return "enabled" if port.enabled else "shut"


def _far(plan: Plan, port: FabricPort) -> str:
    other = far_end(plan, port.id)
    if other is not None:
        return called(plan, other)
    stations = {s.station for s in plan.where("station_port", "port", port.id)}
    names = [plan.get("station", id).name for id in stations]
    return ", ".join(sorted([*names, *(called(plan, bmc) for bmc in plan.where("bmc", "port", port.id))]))


def _cable_of(plan: Plan, port: FabricPort) -> str:
    """What is written on the cable in a port, and over which panels it goes, from the port on."""
    for end, here in (("a", 1), ("b", -1)):
        for cable in plan.where("cable", end, port.id):
            return ", ".join(filter(None, (cable.label, *cable.places[::here])))
    return ""


def _sheet_name(text: str) -> str:
    return re.sub(r"[\\/?*\[\]:']", " ", text)[:31].strip() or "sheet"


def all_ports(plan: Plan) -> list[Sheet]:
    """A sheet for each fabric switch that has ports; no two of one name."""
    made: list[Sheet] = []
    taken: set[str] = set()
    for switch in by_name(plan.all(FabricSwitch)):
        sheet = ports(plan, switch)
        if not sheet.rows:
            continue
        name, n = sheet.name, 2
        while name.casefold() in taken:
            name, n = f"{sheet.name[:27]} {n}", n + 1
        taken.add(name.casefold())
        made.append(Sheet(name, sheet.head, sheet.rows))
    return made


def guests(plan: Plan) -> Sheet:
    """Every adapter of every guest: where it is attached, where it belongs, its addresses."""
    rows: list[tuple[Cell, ...]] = []
    for guest in sorted(plan.all(Guest), key=lambda g: (natural(plan.get("host", g.host).name), natural(g.name))):
        host = plan.get("host", guest.host).name
        for adapter in sorted(plan.where("adapter", "guest", guest.id), key=lambda a: (a.order, natural(a.name))):
            group, segment = plan.of("port_group").get(adapter.port_group), plan.of("segment").get(adapter.belongs)
            rows.append(
                (
                    *(host, guest.name, "on" if guest.running else "off", adapter.name),
                    *(group.name if group else "", segment.name if segment else ""),
                    *(adapter.mac or "", ", ".join(adapter.addresses), adapter.type, *_about(guest)),
                )
            )
    head = ("host", "guest", "running", "adapter", "port group", "belongs on", "MAC", "addresses", "kind", *ABOUT)
    return Sheet("guests", head, tuple(rows))


def landing(judgement: Judgement) -> Sheet:
    """Where every endpoint lands, tag by tag."""
    names = {s.id: s.name for s in judgement.plan.all(Segment)}
    rows: list[tuple[Cell, ...]] = []
    for endpoint in landings(judgement):
        for tag in endpoint["tags"]:
            rows.append(
                (
                    *(endpoint["host"], endpoint["name"], endpoint["key"], tag["tag"]),
                    *(names.get(tag["belongs"], ""), names.get(tag["lands"], ""), tag["lands_vid"]),
                    ("idle, " if endpoint["idle"] else "") + tag["verdict"],
                    ", ".join(filter(None, (*tag["addresses"], tag["got"]))),
                    tag["got_from"],
                )
            )
    head = ("host", "endpoint", "key", "tag", "belongs on", "lands on", "VID", "verdict", "addresses", "addresses from")
    return Sheet("landing", head, tuple(rows))


def meetings(judgement: Judgement, most: int = MOST_LISTED) -> Sheet:
    """Each segment with those that it meets, or reaches over routers, and those with which that isn't as rules expect; of each so many names at the most."""
    rows = [(name, *(some(of, most) or None for of in groups)) for name, groups in by_segment(judgement)]
    return Sheet("meetings", BY_SEGMENT, tuple(rows))


def moves(judgement: Judgement, most: int = MOST_LISTED) -> Sheet:
    """Each guest with the hosts on which it could run, and those on which it couldn't."""
    rows = [(name, host, *(some(of, most) or None for of in groups)) for name, host, groups in by_guest(judgement)]
    return Sheet("moves", BY_GUEST, tuple(rows))


SHEETS: dict[str, Callable[[Judgement], list[Sheet]]] = {
    "segments": lambda judgement: [ledger(judgement)],
    "wiring": lambda judgement: [wiring(judgement.plan)],
    "ports": lambda judgement: all_ports(judgement.plan),
    "guests": lambda judgement: [guests(judgement.plan)],
    "landing": lambda judgement: [landing(judgement)],
    "meetings": lambda judgement: [meetings(judgement)],
    "moves": lambda judgement: [moves(judgement)],
}
"""What can be taken along as a sheet, or as several."""


def joined(sheets: list[Sheet]) -> Sheet:
    """Several sheets of one head as one: CSV knows no more than one."""
    if len(sheets) == 1:
        return sheets[0]
    return Sheet("all", sheets[0].head if sheets else PORTS, tuple(row for sheet in sheets for row in sheet.rows))

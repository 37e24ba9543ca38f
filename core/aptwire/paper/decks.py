"""Hosts in cross-section as a drawing (SVG 1.1): guests in their port groups, host ports, NICs in their teams with what they are plugged into, and
the fabric between the switches."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from html import escape
from typing import Any

from aptwire.judge.judgement import Judgement
from aptwire.paper.drawing import INK, QUIET
from aptwire.paper.tables import by_name, port_tags, team_mode
from aptwire.plan.kinds import Adapter, FabricPort, FabricSwitch, Host, Nic, PortGroup, Uplink, VirtualSwitch
from aptwire.plan.ports import far_end, said
from aptwire.report import landings, teams

MOST_HOSTS = 60
"""So many are drawn at once: more is no drawing that anybody looks at."""

WIDE, GAP, PAD, ROW, LETTER = 250, 14, 8, 15, 6.3
ACROSS = 4
LINE, SHADE, FABRIC = "#b9b2a4", "#f2ede4", "#2a3340"
_COLOURS = {
    "home": "#22703b",
    "unproven": "#5b6370",
    "wavering": "#8a5a00",
    "stranded": "#b3430d",
    "astray": "#7a2ea0",
    "exposed": "#ae1f1f",
    "idle": "#5b6370",
}
_SHAPES = {
    "home": '<circle cx="6" cy="6" r="4.6" fill="{0}"/>',
    "unproven": '<circle cx="6" cy="6" r="4.4" fill="none" stroke="{0}" stroke-width="1.8" stroke-dasharray="2.1 1.9"/>',
    "wavering": '<circle cx="6" cy="6" r="4.5" fill="none" stroke="{0}" stroke-width="1.6"/><path d="M6 1.5a4.5 4.5 0 0 0 0 9z" fill="{0}"/>',
    "stranded": '<path d="M6 1.2 11 10.6H1z" fill="{0}"/>',
    "astray": '<path d="M6 .8 11.2 6 6 11.2.8 6z" fill="{0}"/>',
    "exposed": '<rect x="1.6" y="1.6" width="8.8" height="8.8" fill="{0}"/>',
    "idle": '<circle cx="6" cy="6" r="4.4" fill="none" stroke="{0}" stroke-width="1.6"/>',
}


def decks_svg(judgement: Judgement, hosts: Sequence[Host], title: str) -> str:
    """The drawing of these hosts and of the fabric switches that they are plugged into, as text."""
    plan = judgement.plan
    guests = [guest for host in hosts for guest in plan.where("guest", "host", host.id)]
    switches = [switch for host in hosts for switch in plan.where("virtual_switch", "host", host.id)]
    endpoints = [a.id for guest in guests for a in plan.where("adapter", "guest", guest.id)]
    endpoints += [port.id for switch in switches for port in plan.where("host_port", "switch", switch.id)]
    drawing = _Decks(judgement, {e["id"]: e for e in landings(judgement, endpoints)})
    x, y, deep = float(GAP), float(GAP), 0.0
    drawing.pen.text(x, y + 10, title, 700, bold=True, size=13)
    y += 24
    for n, host in enumerate(by_name(hosts)):
        if n and n % ACROSS == 0:
            x, y, deep = GAP, y + deep + GAP, 0.0
        deep = max(deep, drawing.host(host, x, y))
        x += WIDE + GAP
    y += deep + GAP
    bottom = drawing.fabric(hosts, y)
    width, height = GAP + min(max(len(hosts), 3), ACROSS) * (WIDE + GAP), bottom + GAP
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:.0f}" height="{height:.0f}" viewBox="0 0 {width:.0f} {height:.0f}"'
        f' role="img" font-family="system-ui, sans-serif" font-size="11"><title>{escape(title)}</title>'
        f'<rect width="100%" height="100%" fill="#fff"/>{"".join(drawing.pen.parts)}</svg>'
    )


@dataclass
class _Pen:
    """What was drawn so far, in the order in which it lies upon each other."""

    parts: list[str] = field(default_factory=list)

    def text(
        self,
        x: float,
        y: float,
        text: str,
        room: float,
        ink: str = INK,
        after: str = "",
        bold: bool = False,
        size: float = 11,
    ) -> None:
        """A text on its line, and after it another one in quiet ink; both are cut to the room that there is."""
        letter = LETTER * size / 11
        wide = letter * 1.1 if bold else letter
        first = _cut(text, room / wide)
        rest = _cut(after, (room - len(first) * wide - 6) / letter)
        weight = ' font-weight="600"' if bold else ""
        scale = f' font-size="{size}"' if size != 11 else ""
        more = f'<tspan dx="5" fill="{QUIET}" font-weight="400">{escape(rest)}</tspan>' if rest else ""
        self.parts.append(f'<text x="{x:.1f}" y="{y:.1f}" fill="{ink}"{scale}{weight}>{escape(first)}{more}</text>')

    def box(self, x: float, y: float, w: float, h: float, fill: str = "#fff", line: str = LINE) -> None:
        self.parts.append(
            f'<rect x="{x:.1f}" y="{y:.1f}" width="{w:.1f}" height="{h:.1f}" rx="3" fill="{fill}" stroke="{line}"/>'
        )

    def mark(self, x: float, y: float, verdict: str) -> None:
        """A verdict's shape, ten wide; its word for whoever can't see it."""
        shape = _SHAPES[verdict].format(_COLOURS[verdict])
        self.parts.append(f'<g transform="translate({x:.1f} {y:.1f}) scale(.83)"><title>{verdict}</title>{shape}</g>')

    def line(self, x: float, top: float, bottom: float) -> None:
        self.parts.append(f'<path d="M{x:.1f} {top:.1f}V{bottom:.1f}" stroke="{QUIET}"/>')


def _cut(text: str, most: float) -> str:
    """As much of a text as there is room for, in letters."""
    return text if len(text) <= most else f"{text[: int(most) - 1]}…" if most >= 2 else ""


class _Decks:
    """The drawing on its way: what is drawn of a judgement, and on what."""

    def __init__(self, judgement: Judgement, endpoints: dict[str, dict[str, Any]]) -> None:
        self.plan, self.endpoints, self.pen = judgement.plan, endpoints, _Pen()
        self.teams = teams(judgement.wiring)

    def verdict(self, endpoint: str) -> str:
        told = self.endpoints[endpoint]
        return "idle" if told["idle"] else str(told["verdict"])

    def host(self, host: Host, x: float, top: float) -> float:
        """A host from its guests down to what its NICs are plugged into; how high it is."""
        below = len(self.pen.parts)
        y = top + 22
        self.pen.parts.append(f'<path d="M{x} {y}h{WIDE}" stroke="{LINE}"/>')
        self.pen.text(x + PAD, top + 15, host.name, WIDE - 2 * PAD, after=host.site, bold=True, size=12)
        y += PAD
        for switch in by_name(self.plan.where("virtual_switch", "host", host.id)):
            y = self.switch(switch, x + PAD, y) + PAD
        y = self.loose(host, x + PAD, y)
        y = self.nics(host, x + PAD, y)
        self.pen.parts.insert(
            below,
            f'<rect x="{x}" y="{top}" width="{WIDE}" height="{y - top:.1f}" rx="4" fill="{SHADE}" stroke="{LINE}"/>',
        )
        return y - top

    def switch(self, switch: VirtualSwitch, x: float, top: float) -> float:
        """A virtual switch with its port groups, the guests in each, and the host's own ports; where it ends."""
        below, w = len(self.pen.parts), WIDE - 2 * PAD
        reach = self.teams["reach"].get(switch.id, "sealed")
        words = " · ".join(filter(None, (reach, f"MTU {switch.mtu}" if switch.mtu else "")))
        self.pen.text(x + 6, top + 13, switch.name, w - 12, after=words, bold=True)
        y = top + 19
        for group in by_name(self.plan.where("port_group", "switch", switch.id)):
            y = self.group(group, x + 6, y, w - 12)
        for port in by_name(self.plan.where("host_port", "switch", switch.id)):
            self.pen.mark(x + 8, y + 3, self.verdict(port.id))
            tag = f" {port.vid}" if port.vid else " untagged"
            self.pen.text(x + 22, y + 12, f"{port.name}{tag}", w - 28, after=", ".join(port.addresses))
            y += ROW + 2
        self.pen.parts.insert(
            below,
            f'<rect x="{x}" y="{top}" width="{w}" height="{y - top + 3:.1f}" rx="3" fill="#fff" stroke="{QUIET}"/>',
        )
        return y + 3

    def group(self, group: PortGroup, x: float, y: float, w: float) -> float:
        """A port group's tag and name, and beneath it who is attached; where it ends."""
        tag = said(group).text.removeprefix("access ").replace(", ", ",")
        tag = {"overlay": f"VNI {group.vni}", "private": f"private {group.vid}"}.get(group.mode, tag)
        self.pen.text(x + 2, y + 11, tag, w - 4, after=group.name, bold=True)
        own = self.plan.where("adapter", "port_group", group.id)
        return self.adapters(own, x + 10, y + ROW, w - 10) + 3

    def adapters(self, adapters: Iterable[Adapter], x: float, y: float, w: float) -> float:
        """Adapters by their guests' names, as many on a line as there is room for; where the last line ends."""
        at, top = x, y
        several = {a.guest for a in adapters if len(self.plan.where("adapter", "guest", a.guest)) > 1}
        named = [
            (f"{self.plan.get('guest', a.guest).name}{f' {a.name}' if a.guest in several else ''}", a) for a in adapters
        ]
        for name, adapter in sorted(named, key=lambda pair: pair[0]):
            wide = min(w, 12 + len(name) * LETTER)
            if at > x and at + wide > x + w:
                at, top = x, top + ROW
            self.pen.mark(at, top + 1, self.verdict(adapter.id))
            off = not self.plan.get("guest", adapter.guest).running
            self.pen.text(at + 12, top + 10, name, w - 12, ink=QUIET if off else INK)
            at += wide + 9
        return top + ROW if named else y

    def loose(self, host: Host, x: float, y: float) -> float:
        """The adapters of a host's guests that are in no port group: past the switch, or nowhere yet."""
        guests = self.plan.where("guest", "host", host.id)
        own = [a for g in guests for a in self.plan.where("adapter", "guest", g.id) if a.port_group is None]
        for text, those in (
            ("past the switch", [a for a in own if a.type == "direct"]),
            ("in no port group", [a for a in own if a.type != "direct"]),
        ):
            if those:
                self.pen.text(x, y + 10, text, WIDE, ink=QUIET)
                y = self.adapters(those, x, y + ROW, WIDE - 2 * PAD) + 3
        return y

    def nics(self, host: Host, x: float, top: float) -> float:
        """The NICs by their uplinks, each with what it is plugged into; where they end."""
        nics = self.plan.where("nic", "host", host.id)
        uplinks = [
            u
            for s in self.plan.where("virtual_switch", "host", host.id)
            for u in self.plan.where("uplink", "switch", s.id)
        ]
        for uplink in (*by_name(uplinks), None):
            own = [n for n in nics if n.uplink == (uplink.id if uplink else None)]
            if not own:
                continue
            words = "in no uplink"
            if uplink is not None:
                switch = self.plan.get("virtual_switch", uplink.switch).name
                words = f"{uplink.name} of {switch}{f' · {team_mode(uplink)}' if len(own) > 1 else ''}"
            self.pen.text(x, top + 10, words, WIDE - 2 * PAD, ink=QUIET)
            top += ROW
            for n, nic in enumerate(sorted(own, key=lambda nic: (nic.rank, nic.name))):
                side = (WIDE - 2 * PAD - 6) / 2
                at = x + (n % 2) * (side + 6)
                self.nic(nic, uplink, at, top, side)
                if n % 2 or n == len(own) - 1:
                    top += 70
        return top + 2

    def nic(self, nic: Nic, uplink: Uplink | None, x: float, y: float, w: float) -> None:
        self.pen.box(x, y, w, 28)
        fast = speed(nic.speed) if nic.speed else ""
        self.pen.text(x + 5, y + 11, nic.name, w - 8, after=fast, bold=True, size=10)
        self.pen.text(x + 5, y + 23, self.part(nic, uplink), w - 8, ink=QUIET, size=10)
        far: Any = far_end(self.plan, nic.id)
        if far is None:
            self.pen.text(x + 5, y + 42, "nothing plugged in", w - 8, ink=QUIET, size=10)
            return
        self.pen.line(x + w / 2, y + 28, y + 34)
        self.pen.box(x, y + 34, w, 30, SHADE)
        where = (
            self.plan.get("fabric_switch", far.switch)
            if isinstance(far, FabricPort)
            else self.plan.get("host", far.host)
        )
        self.pen.text(x + 5, y + 45, f"{where.name} {far.name}", w - 8, size=10)
        if isinstance(far, FabricPort):
            self.pen.text(x + 5, y + 58, tags(far), w - 8, ink=QUIET, size=9)

    def part(self, nic: Nic, uplink: Uplink | None) -> str:
        """What a NIC does in its team, in a word."""
        if nic.link == "down":
            return "no link"
        if uplink is None:
            return "free"
        members = self.teams["members"].get(uplink.id, [])
        if nic.id not in members:
            return "excluded"
        if len(members) == 1:
            return "alone"
        if uplink.mode == "standby":
            return "carries" if self.teams["carries"].get(uplink.id) == nic.id else "waits"
        return "member"

    def fabric(self, hosts: Iterable[Host], top: float) -> float:
        """The switches that hosts are plugged into, and those that join them, each with its cables to others; where they end."""
        plan = self.plan
        nics = [n for host in hosts for n in plan.where("nic", "host", host.id)]
        ends = [far_end(plan, nic.id) for nic in nics]
        near = {port.switch for port in ends if isinstance(port, FabricPort)}
        between: dict[str, list[tuple[FabricPort, FabricPort]]] = {}
        for cable in plan.all("cable"):
            one, two = (plan.of("fabric_port").get(end) for end in (cable.a, cable.b))
            if one is not None and two is not None and {one.switch, two.switch} & near:
                between.setdefault(one.switch, []).append((one, two))
                between.setdefault(two.switch, []).append((two, one))
        x, deep = float(GAP), 0.0
        switches: list[FabricSwitch] = by_name([plan.get("fabric_switch", id) for id in near | set(between)])
        for n, switch in enumerate(switches):
            if n and n % ACROSS == 0:
                x, top, deep = GAP, top + deep + GAP, 0.0
            own = sorted(between.get(switch.id, ()), key=lambda pair: pair[0].name)
            high = 22 + ROW * len(own)
            self.pen.box(x, top, WIDE, high, "#fff", FABRIC)
            self.pen.box(x, top, WIDE, 20, FABRIC, FABRIC)
            name = ", ".join(filter(None, (switch.name, switch.site)))
            self.pen.text(x + PAD, top + 14, name, WIDE - 2 * PAD, ink="#fff", bold=True)
            for k, (port, other) in enumerate(own):
                far = plan.get("fabric_switch", other.switch).name
                text = f"{port.name} – {far} {other.name}: {tags(port)}"
                self.pen.text(x + PAD, top + 20 + ROW * k + 12, text, WIDE - 2 * PAD, size=9)
            deep = max(deep, high)
            x += WIDE + GAP
        return top + deep


def tags(port: FabricPort) -> str:
    """What a port carries, in a few words."""
    if not port.enabled:
        return "shut"
    tagged, untagged = (text.replace(", ", ",") for text in port_tags(port))
    return "; ".join(filter(None, (tagged, f"{untagged} untagged" if untagged else ""))) or "nothing"


def speed(megabits: int) -> str:
    """A speed as people write it: 10G, 100M."""
    return f"{megabits / 1000:g}G" if megabits >= 1000 else f"{megabits}M"

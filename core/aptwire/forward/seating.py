"""Blocks: where every endpoint stands, those that no frame can tell apart together."""

from __future__ import annotations

from collections.abc import Iterable, MutableMapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from operator import attrgetter

import numpy as np

from aptwire.forward.classes import UNTAGGED
from aptwire.forward.parts import ADAPTERS, HOMELESS, STATIONS, Stand
from aptwire.forward.portrules import PortRules
from aptwire.forward.rules import PortRule
from aptwire.forward.teams import Teams
from aptwire.forward.wiring import Block, Wiring
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import Adapter, GuestTag, HostPort, StationPort
from aptwire.plan.ports import said_of
from aptwire.plan.private import private_part
from aptwire.plan.sharing import nics_of, root

_id = attrgetter("id")


@dataclass(eq=False, slots=True)
class _At:
    """Ports that are alike, as `Stand` has them, and who stands there by label and segment."""

    bridge: int
    rule: PortRule | None
    order: str
    reason: str
    vni: int
    over: str
    stands: dict[tuple[int, str | None], Stand] = field(default_factory=dict)


class Seating:
    """Puts places onto stands, block by block, while one plan is compiled."""

    def __init__(self, wiring: Wiring, blocks: MutableMapping[str, Block], rules: PortRules, teams: Teams) -> None:
        self.wiring = wiring
        self.blocks = blocks
        self.plan = wiring.plan
        self.book = wiring.book
        self.rules = rules
        self.teams = teams
        self._ports: dict[tuple[object, ...], _At] = {}
        self._heard: dict[tuple[int, int], tuple[int, ...]] = {}

    def block(self, key: str) -> None:
        block = self.blocks[key] = Block(key)
        self._ports = {}
        if key in self.plan.of("virtual_switch"):
            self._switch(block)
        elif key == STATIONS:
            self._stations(block)
        elif key == HOMELESS:
            adapters = [a for a in self.plan.where("adapter", "port_group", None) if a.type != "direct"]
            self._seats(block, adapters, self._at(-1, None, "", "is in no port group"))
        elif key in self.wiring.bridge_of:
            bridge = self.wiring.bridge_of[key].number
            for adapter in sorted(self.plan.where("adapter", "function_of", key), key=lambda a: a.id):
                self._seats(block, [adapter], self._at(bridge, self.book.function(adapter.function_vid)))
        else:
            del self.blocks[key]

    def _switch(self, block: Block) -> None:
        plan, bridge = self.plan, self.wiring.bridge_of[block.key].number
        # A share of another uplink goes over that one's NICs, as that one chooses among them.
        uplinks = [
            replace(u, mode=base.mode, carries=base.carries, detect=base.detect)
            if (base := root(plan, u)) is not u
            else u
            for u in sorted(plan.where("uplink", "switch", block.key), key=_id)
            if u.over not in plan.of("host_port")
        ]
        nics = {uplink.id: nics_of(plan, uplink) for uplink in uplinks}
        switch = plan.get("virtual_switch", block.key)
        filters, apart = switch.filters, self.rules.apart(block.key)
        wireless = len(uplinks) == 1 and any(nic.wireless for nic in nics[uplinks[0].id])
        groups = sorted(plan.where("port_group", "switch", block.key), key=lambda g: g.id)
        orders = [g.id for g in groups if plan.where("group_order", "port_group", g.id)]
        for order in ["", *orders, *([ADAPTERS] if wireless else [])]:
            block.teams.extend(self.teams.team(uplink, bridge, nics[uplink.id], order) for uplink in uplinks)
        ports = sorted(plan.where("host_port", "switch", block.key), key=lambda p: p.id)
        for port in ports:
            rule = self.book.host_port(port.vid, apart, switch.host_untagged)
            self._stand(block, port, self._at(bridge, rule), UNTAGGED, port.connected)
        for group in groups:
            if group.mode == "overlay":
                continue
            part = private_part(plan, group.vid) if group.mode == "private" else None
            order = group.id if group.id in orders else ADAPTERS if wireless else ""
            alike = plan.where("adapter", "port_group", group.id)
            odd = [adapter for adapter in alike if adapter.own_port] if self._own_ports else []
            if odd:
                alike = [adapter for adapter in alike if not adapter.own_port]
            for adapter in odd:
                words = said_of(adapter, group)
                if not filters:
                    rule = self.book.unfiltered(words, apart)
                else:
                    rule = self.book.port_group(group, part if adapter.members is None else None, words, apart)
                self._seats(block, [adapter], self._at(bridge, rule, order))
            if alike:
                rule = self.rules.group(group, part, filters, apart)
                self._seats(block, alike, self._at(bridge, rule, order))
        for port in ports:
            for group in sorted(plan.where("port_group", "over", port.id), key=lambda g: g.id):
                rule = self.book.port_group(group)
                reason = "" if port.connected else f"is carried by host port {port.name}, which is disconnected"
                at = self._at(bridge, rule, "", reason, group.vni, port.id)
                self._seats(block, plan.where("adapter", "port_group", group.id), at)

    def _stations(self, block: Block) -> None:
        plan = self.plan
        for record in sorted(plan.all(StationPort), key=_id):
            port = plan.get("fabric_port", record.port)
            bridge = self.wiring.bridge_of[port.switch].number
            label = int(self.wiring.classes.of[record.vid]) if record.vid else UNTAGGED
            self._stand(block, record, self._at(bridge, self.rules.fabric_port(port.id)), label, True, judged=False)

    def _at(
        self, bridge: int, rule: PortRule | None, order: str = "", reason: str = "", vni: int = 0, over: str = ""
    ) -> _At:
        key = (bridge, rule.number if rule else -1, order, reason, vni, over)
        found = self._ports.get(key)
        if found is None:
            found = self._ports[key] = _At(bridge, rule, order, reason, vni, over)
        return found

    def _seats(self, block: Block, adapters: Iterable[Adapter], at: _At) -> None:
        """Put adapters that sit alike onto their stands."""
        tagged, guests = self.plan.grouped("guest_tag", "adapter"), self.plan.of("guest")
        ordered = sorted(adapters, key=_id)
        block.macs.extend((adapter.mac, adapter.id) for adapter in ordered if adapter.mac)
        for adapter in ordered:
            tags = tagged.get(adapter.id) if tagged else None
            if not tags:
                self._stand(block, adapter, at, UNTAGGED, adapter.connected and guests[adapter.guest].running)
                continue
            places: list[str] = []
            if adapter.belongs is not None or adapter.addresses:
                places.append(adapter.id)
                self._stand(block, adapter, at, UNTAGGED, None)
            for tag in sorted(tags, key=lambda t: t.vid):
                places.append(tag.id)
                self._stand(block, tag, at, int(self.wiring.classes.of[tag.vid]), None)
            block.several[adapter.id] = places

    def _stand(
        self,
        block: Block,
        record: Adapter | HostPort | GuestTag | StationPort,
        at: _At,
        label: int,
        awake: bool | None,
        judged: bool = True,
    ) -> None:
        """Put a place onto its stand; `awake` None: its endpoint has other places too."""
        stand = at.stands.get((label, record.belongs))
        if stand is None:
            stand = self._new_stand(block, at, label, record.belongs, judged)
            block.stands.append(stand)
            # Who doesn't hear what it sends itself, as isolated ports and whoever tags with the native VID, stands for no other.
            if stand.vni or stand.context < 0 or stand.context in stand.hears:
                at.stands[label, record.belongs] = stand
        stand.records.append(record.id)
        block.stand_of[record.id] = stand
        if awake is not None:
            stand.awake += awake
            stand.asleep += not awake
        for address in record.addresses:
            block.addresses.append((bare_address(address), record.id))

    def _new_stand(self, block: Block, at: _At, label: int, segment: str | None, judged: bool) -> Stand:
        bridge, rule, order, reason, vni, over = at.bridge, at.rule, at.order, at.reason, at.vni, at.over
        context = int(rule.into[label]) if rule is not None and not reason else -1
        hears = self._hears(rule, label) if rule is not None and not reason else ()
        carrier = None
        if vni and not reason:
            carrier = block.stand_of[over]
            if label != UNTAGGED:
                context, reason = -1, "carries untagged frames only"
            else:
                context, hears = carrier.context, carrier.hears
        elif context < 0 and not reason:
            reason = (
                f"drops frames that arrive {'tagged ' + str(self.wiring.classes.vid(label)) if label else 'untagged'}"
            )
        return Stand(
            block.key,
            len(block.stands),
            bridge,
            rule,
            label,
            context,
            hears,
            segment,
            order,
            judged,
            reason,
            vni,
            over,
            carrier,
        )

    def _hears(self, rule: PortRule, label: int) -> tuple[int, ...]:
        """The contexts whose frames leave a port with a label."""
        key = (rule.number, label)
        if key not in self._heard:
            self._heard[key] = tuple(np.flatnonzero(rule.out == label).tolist())
        return self._heard[key]

    @cached_property
    def _own_ports(self) -> bool:
        """Whether any adapter's port differs from its port group's."""
        return any(adapter.own_port for adapter in self.plan.outspoken)

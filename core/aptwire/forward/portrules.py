"""The rules of a plan's ports: each worked out once for ports that say the same."""

from __future__ import annotations

from functools import cached_property
from operator import attrgetter

from aptwire.forward.parts import adapter_block
from aptwire.forward.rules import PortRule
from aptwire.forward.wiring import Wiring
from aptwire.plan.kinds import FabricPort, FabricSwitch, PortGroup, Uplink
from aptwire.plan.layers import Draft
from aptwire.plan.ports import group_words, said
from aptwire.plan.private import PrivatePart, private_part
from aptwire.plan.sharing import away, stack

_PORT_WORDS = attrgetter(
    *("kind", "mode", "vid", "allowed", "native", "pvid", "members", "untagged", "admits", "isolated", "reflects"),
    *("enabled", "partial"),
)


class PortRules:
    """Rules by what ports say, while one plan is compiled; `ports`: those of fabric ports, as far as somebody asked."""

    def __init__(self, wiring: Wiring) -> None:
        self.wiring = wiring
        self.plan = wiring.plan
        self.book = wiring.book
        self.ports: Draft[str, PortRule] = Draft(wiring.port_rules)
        self._isolating: dict[str, bool] = {}
        self._groups: dict[tuple[object, ...], PortRule] = {}
        self._uplinks: dict[tuple[object, ...], PortRule] = {}

    def fabric_port(self, port: str) -> PortRule:
        rule = self.ports.get(port)
        if rule is None:
            record = self.plan.get("fabric_port", port)
            part = private_part(self.plan, record.vid) if record.mode == "private" else None
            switch = self.plan.get("fabric_switch", record.switch)
            rule = self._fabric(switch, record, part)
            self.ports[port] = rule
        return rule

    def uplink(self, uplink: Uplink, wireless: bool = False, one_way: bool = False) -> PortRule:
        """An uplink's rule on its switch, with the tags that it puts on and those that others take off its NICs."""
        key = (uplink.id, wireless, one_way)
        rule = self._uplinks.get(key)
        if rule is None:
            plan, filters = self.plan, self.plan.get("virtual_switch", uplink.switch).filters
            apart, push = self.apart(uplink.switch), stack(plan, uplink)
            rule = self.book.uplink(uplink, wireless, one_way, filters, apart, push, away(plan, uplink))
            self._uplinks[key] = rule
        return rule

    def _fabric(self, switch: FabricSwitch, port: FabricPort, part: PrivatePart | None) -> PortRule:
        """A fabric port's rule; ports that say the same are worked out once."""
        apart = self._isolating.get(switch.id)
        if apart is None:
            ports = self.plan.where("fabric_port", "switch", switch.id)
            apart = self._isolating[switch.id] = any(other.isolated for other in ports)
        key = (*_PORT_WORDS(port), switch.managed, switch.vlans, part, apart)
        rule = self._groups.get(key)
        if rule is None:
            rule = self._groups[key] = self.book.fabric_port(switch, port, part, apart)
        return rule

    def group(self, group: PortGroup, part: PrivatePart | None, filters: bool, apart: bool) -> PortRule:
        """A port group's rule; groups that say the same in the same words, which is most of a fleet, are worked out once."""
        key = (*group_words(group), part, filters, apart)
        rule = self._groups.get(key)
        if rule is None:
            rule = (
                self.book.port_group(group, part, apart=apart) if filters else self.book.unfiltered(said(group), apart)
            )
            self._groups[key] = rule
        return rule

    def apart(self, switch: str) -> bool:
        """Whether a virtual switch has isolated ports."""
        known = self._isolating.get(switch)
        if known is None:
            plan = self.plan
            groups = plan.where("port_group", "switch", switch)
            ports = (*groups, *plan.where("uplink", "switch", switch))
            known = switch in self._isolated_adapters or any(port.isolated for port in ports)
            self._isolating[switch] = known
        return known

    @cached_property
    def _isolated_adapters(self) -> set[str]:
        """The blocks in which an adapter is isolated by its own word."""
        return {adapter_block(self.plan, adapter) for adapter in self.plan.outspoken if adapter.isolated}

"""What one bridge port does with a frame, as two arrays over VID classes.

A *label* is how a frame looks on the wire: 0 untagged, k tagged with class k.  A *context* is where it is
inside a bridge: class 0 untagged all through (virtual and unmanaged switches only), k on VID class k.

`out[context]` is the label with which the port sends a frame of that context, -1 if it doesn't;
`into[label]` is the context of a frame that arrives so, -1 if it is dropped.  Ingress filtering is on
(IEEE 802.1Q-2022 clause 8.6.2); a priority tag counts as untagged (clause 6.9.1).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aptwire.forward.classes import UNTAGGED, VidClasses
from aptwire.plan.kinds import AssumedFabric, FabricPort, FabricSwitch, PortGroup, Uplink


@dataclass(frozen=True, eq=False)
class PortRule:
    """A port's behaviour; `number` tells equal rules from others, `text` says it in a few words."""

    number: int
    out: np.ndarray
    into: np.ndarray
    text: str


class RuleBook:
    """Makes port rules and keeps equal ones as one object."""

    def __init__(self, classes: VidClasses) -> None:
        self.classes = classes
        self.rules: list[PortRule] = []
        self._known: dict[tuple[object, ...], PortRule] = {}

    def __call__(
        self,
        tagged: str | None = "",
        native: int | None = None,
        defined: str | None = None,
        text: str = "",
        dead: bool = False,
    ) -> PortRule:
        """A rule: the VIDs that pass tagged (None: all), the context of untagged frames (None: dropped), the VIDs that the bridge defines."""
        key = (tagged, native, defined, dead, text)
        rule = self._known.get(key)
        if rule is None:
            rule = self._make(tagged, native, defined, text, dead)
            self._known[key] = rule
        return rule

    def _make(self, tagged: str | None, native: int | None, defined: str | None, text: str, dead: bool) -> PortRule:
        count = self.classes.count
        numbers = np.arange(count, dtype=np.int16)
        passes = np.ones(count, dtype=bool) if tagged is None else self.classes.mask(tagged)
        passes[UNTAGGED] = False
        out = np.where(passes, numbers, -1).astype(np.int16)
        into = out.copy()
        if native is not None:
            inside = self.classes.of[native]
            out[inside] = UNTAGGED
            into[UNTAGGED] = inside
            if native:
                into[inside] = inside if passes[inside] else -1
        if defined is not None:
            known = self.classes.mask(defined)
            out[~known] = -1
            into[(into >= 0) & ~known[into]] = -1
        if dead:
            out[:] = -1
            into[:] = -1
        rule = PortRule(number=len(self.rules), out=out, into=into, text=text)
        self.rules.append(rule)
        return rule

    def port_group(self, group: PortGroup) -> PortRule:
        """The port of an adapter in this port group."""
        if group.mode == "untagged":
            return self(native=0, text="untagged")
        if group.mode == "access":
            return self(native=group.vid, text=f"access {group.vid}")
        text = f"trunk {group.allowed or 'without VIDs'}"
        if group.native is not None:
            text += f", native {group.native or 'untagged'}"
        return self(group.allowed, group.native, text=text)

    def host_port(self, vid: int | None) -> PortRule:
        """A host port: the hypervisor sits untagged on the switch's context."""
        return self(native=vid or 0, text=f"VID {vid}" if vid else "untagged")

    def uplink(self, uplink: Uplink) -> PortRule:
        """The uplink of a virtual switch; without an allowed list it lets everything through."""
        text = "all VIDs" if uplink.allowed is None else f"allows {spoken_vids(uplink.allowed)}"
        if uplink.native is not None:
            return self(uplink.allowed, uplink.native, text=f"{text}, native {uplink.native}")
        untagged = uplink.allowed is None or bool(self.classes.mask(uplink.allowed)[UNTAGGED])
        return self(uplink.allowed, 0 if untagged else None, text=text)

    def fabric_port(self, switch: FabricSwitch, port: FabricPort) -> PortRule:
        """A physical port; one of an unmanaged switch passes tags unseen."""
        if not port.enabled:
            return self(text="disabled", dead=True)
        if not switch.managed:
            return self(None, 0, text="unmanaged, passes every tag")
        if port.mode == "access":
            return self(native=port.vid, defined=switch.vlans, text=f"access {port.vid}")
        text = f"trunk {port.allowed or 'without VIDs'}"
        if port.native is not None:
            text += f", native {port.native}"
        return self(port.allowed, port.native, switch.vlans, text=text)

    def unknown(self, switch: FabricSwitch) -> PortRule:
        """The ports of a switch that the plan doesn't know: they may carry whatever the switch defines."""
        return self(None, None, switch.vlans, text="ports that the plan doesn't know")

    def assumed(self, assumed: AssumedFabric) -> PortRule:
        """A port of an assumed fabric."""
        text = f"assumed to carry {assumed.allowed}"
        return self(assumed.allowed, assumed.native, text=text)

    def wire(self) -> PortRule:
        """The middle of a cable between two hosts: everything passes."""
        return self(None, 0, text="a cable")


def spoken_vids(allowed: str | None) -> str:
    """An allowed list in words: 0 is "untagged", an empty list "nothing"."""
    items = [item for item in (allowed or "").split(", ") if item]
    return ", ".join("untagged" if item == "0" else item for item in items) or "nothing"

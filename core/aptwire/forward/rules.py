"""What one bridge port does with a frame, as two arrays over VID classes.

A *label* is how a frame looks on the wire: 0 untagged, k tagged with class k.  A *context* is where it is
inside a bridge: class 0 untagged all through (virtual and unmanaged switches only), k on VID class k.

`out[context]` is the label with which the port sends a frame of that context, -1 if it doesn't;
`into[label]` is the context of a frame that arrives so, -1 if it is dropped.  Ingress filtering is on
(IEEE 802.1Q-2022 clause 8.6.2); a priority tag counts as untagged (clause 6.9.1).
"""

from __future__ import annotations

import threading
from dataclasses import dataclass
from typing import Any

import numpy as np

from aptwire.forward.classes import UNTAGGED, Named, VidClasses, refine
from aptwire.plan.kinds import AssumedFabric, FabricPort, FabricSwitch, PortGroup, Uplink
from aptwire.plan.private import PrivatePart


@dataclass(frozen=True, eq=False)
class PortRule:
    """A port's behaviour; `number` tells equal rules from others, `text` says it in a few words.

    `private`: it belongs to a private VLAN, and sends in another context than it hears.
    """

    number: int
    out: np.ndarray
    into: np.ndarray
    text: str
    private: bool = False


class RuleBook:
    """Makes port rules and keeps equal ones as one object."""

    def __init__(self, classes: VidClasses) -> None:
        self.classes = classes
        self.rules: list[PortRule] = []
        self._known: dict[tuple[Any, ...], PortRule] = {}
        self._lock = threading.Lock()

    def refined(self, named: Named) -> VidClasses | None:
        """Classes fine enough for what some records say; None where there is no room left for them.

        Rules that are known are brought up to the finer classes where they are.  Who holds coarser classes isn't
        disturbed: only entries of numbers that were spare change.
        """
        with self._lock:
            finer = refine(self.classes, named)
            if finer is not None and finer is not self.classes:
                self.classes = finer
                for key, rule in self._known.items():
                    fresh = self._make(*key)
                    rule.out[:] = fresh.out
                    rule.into[:] = fresh.into
            return finer

    def __call__(
        self,
        tagged: str | None = "",
        native: int | None = None,
        defined: str | None = None,
        text: str = "",
        dead: bool = False,
        one_way: bool = False,
        untagged_out: tuple[int, ...] = (),
    ) -> PortRule:
        """A rule: the VIDs that pass tagged (None: all), the context of untagged frames (None: dropped), the VIDs that the bridge defines.

        `one_way`: frames leave and none comes in.  `untagged_out`: the contexts that leave untagged, where they
        aren't just the native one.
        """
        return self._rule((tagged, native, defined, text, dead, one_way, untagged_out))

    def _rule(self, key: tuple[Any, ...]) -> PortRule:
        rule = self._known.get(key)
        if rule is None:
            with self._lock:
                rule = self._known.get(key)
                if rule is None:
                    rule = self._make(*key)
                    self.rules.append(rule)
                    self._known[key] = rule
        return rule

    def _make(
        self,
        tagged: str | None,
        native: int | None,
        defined: str | None,
        text: str,
        dead: bool,
        one_way: bool,
        untagged_out: tuple[int, ...],
    ) -> PortRule:
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
        if untagged_out:
            out[:] = -1
            out[self.classes.of[list(untagged_out)]] = UNTAGGED
        if defined is not None:
            known = self.classes.mask(defined)
            out[~known] = -1
            into[(into >= 0) & ~known[into]] = -1
        if dead:
            out[:] = -1
        if dead or one_way:
            into[:] = -1
        return PortRule(number=len(self.rules), out=out, into=into, text=text, private=bool(untagged_out))

    def _private(self, part: PrivatePart, vid: int, defined: str | None = None) -> PortRule:
        """A private port (RFC 5517 section 3): it sends in its own VLAN and hears those that may speak to it."""
        hears = {
            "promiscuous": (part.primary, *part.secondaries),
            "isolated": (part.primary,),
            "community": (part.primary, vid),
        }[part.type]
        return self(native=vid, defined=defined, text=f"private {vid}, {part.type}", untagged_out=hears)

    def port_group(self, group: PortGroup, part: PrivatePart | None = None) -> PortRule:
        """The port of an adapter in this port group; `part` is a private one's part in its private VLAN."""
        if group.mode == "untagged":
            return self(native=0, text="untagged")
        if group.mode == "overlay":
            return self(native=0, text=f"overlay {group.vni}")
        if part is not None and group.mode == "private":
            return self._private(part, group.vid or 0)
        if group.mode == "access":
            return self(native=group.vid, text=f"access {group.vid}")
        text = f"trunk {group.allowed or 'without VIDs'}"
        if group.native is not None:
            text += f", native {group.native or 'untagged'}"
        return self(group.allowed, group.native, text=text)

    def function(self, vid: int | None) -> PortRule:
        """The port of a direct adapter: its NIC puts the VID on, or passes all."""
        return self(native=vid, text=f"virtual function, VID {vid}") if vid else self(None, 0, text="virtual function")

    def host_port(self, vid: int | None) -> PortRule:
        """A host port: the hypervisor sits untagged on the switch's context."""
        return self(native=vid or 0, text=f"VID {vid}" if vid else "untagged")

    def uplink(self, uplink: Uplink, wireless: bool = False, one_way: bool = False) -> PortRule:
        """The uplink of a virtual switch; without an allowed list it lets everything through.

        `wireless`: over a NIC that carries no tags.  `one_way`: over a NIC that drops what comes back.
        """
        if wireless:
            return self("", uplink.native or 0, text="wireless, untagged only", one_way=one_way)
        text = "all VIDs" if uplink.allowed is None else f"allows {spoken_vids(uplink.allowed)}"
        native = uplink.native
        if native is not None:
            text = f"{text}, native {native}"
        elif uplink.allowed is None or bool(self.classes.mask(uplink.allowed)[UNTAGGED]):
            native = 0
        return self(uplink.allowed, native, text=text, one_way=one_way)

    def fabric_port(self, switch: FabricSwitch, port: FabricPort, part: PrivatePart | None = None) -> PortRule:
        """A physical port; one of an unmanaged switch passes tags unseen."""
        if not port.enabled:
            return self(text="disabled", dead=True)
        if not switch.managed:
            return self(None, 0, text="unmanaged, passes every tag")
        if part is not None and port.mode == "private":
            return self._private(part, port.vid or 0, switch.vlans)
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

    def wire(self, one_way: bool = False) -> PortRule:
        """The middle of a cable between two hosts: everything passes.  `one_way`: away from the bridge only."""
        return self(None, 0, text="a cable", one_way=one_way)


def spoken_vids(allowed: str | None) -> str:
    """An allowed list in words: 0 is "untagged", an empty list "nothing"."""
    items = [item for item in (allowed or "").split(", ") if item]
    return ", ".join("untagged" if item == "0" else item for item in items) or "nothing"

"""What hangs on a record: the blocks to compile anew after an edit, and whether the fabric is among it.

A table by kind (`AROUND`), each entry a plain function of what stands around a record of that kind; a test sees that every kind has
one.  What is noted here is compiled anew, everything else is shared with the wiring before.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from aptwire.forward.parts import STATIONS, adapter_block
from aptwire.plan.kinds import Adapter, Nic, PortGroup, Record
from aptwire.plan.plan import Plan
from aptwire.plan.sharing import joining, sharing, whole_lag

if TYPE_CHECKING:
    from aptwire.forward.wiring import Wiring


@dataclass(frozen=True)
class Around:
    """A plan (the one before an edit, or the one after) and its wiring; the keys of blocks are noted in `dirty`, fabric ports in `ports`, and in `told`
    blocks in which nothing stands otherwise, but of which records say something else."""

    plan: Plan
    wiring: Wiring
    dirty: dict[str, None]
    ports: set[str]
    told: dict[str, None]

    def note(self, record: Record) -> bool:
        """Note what hangs on a record; whether the fabric does."""
        return AROUND[record.kind](self, record)

    def switches(self, host: str) -> None:
        """Everything on a host."""
        plan, blocks = self.plan, self.wiring.blocks
        self.dirty.update((s.id, None) for s in plan.where("virtual_switch", "host", host))
        self.dirty.update((n.id, None) for n in plan.where("nic", "host", host) if n.id in blocks)

    def nic(self, nic: Nic | None, further: bool = True) -> None:
        """The switches that use a NIC, its virtual functions, and a host at the other end of its cable."""
        if nic is None:
            return
        uplink = self.plan.of("uplink").get(nic.uplink)
        if uplink is not None:
            self.dirty.update((u.switch, None) for u in sharing(self.plan, uplink))
        if nic.id in self.wiring.bridge_of or self.plan.where("adapter", "function_of", nic.id):
            self.dirty[nic.id] = None
        if further:
            self.end(self.wiring.far.get(nic.id, ("", ""))[0], False)

    def end(self, id: str, further: bool = True) -> None:
        """Whoever is at an end of a cable, if it is a NIC."""
        if id in self.plan.of("nic"):
            self.nic(self.plan.get("nic", id), further)

    def port(self, id: str) -> None:
        """A fabric port: its rule, what is plugged in, and its station."""
        self.end(self.wiring.far.get(id, ("", ""))[0])
        if self.plan.where("station_port", "port", id):
            self.dirty[STATIONS] = None
        self.ports.add(id)

    def ports_where(self, field: str, id: str) -> bool:
        """Every fabric port whose field is this; whether there are any."""
        found = self.plan.where("fabric_port", field, id)
        for port in found:
            self.port(port.id)
        return bool(found)

    @property
    def joined(self) -> bool:
        """Whether switches sit upon host ports, so that the fabric knows them."""
        return any(joining(self.plan))

    @property
    def functions(self) -> bool:
        """Whether virtual functions are in use."""
        return any(self.plan.having("adapter", "function_of"))


def _host(at: Around, host: Any) -> bool:
    at.switches(host.id)
    return at.joined


def _on_host(at: Around, record: Any) -> bool:
    switch = at.plan.get("virtual_switch", getattr(record, "switch", record.id))
    at.switches(switch.host)
    return at.joined


def _uplink(at: Around, uplink: Any) -> bool:
    at.dirty.update((u.switch, None) for u in sharing(at.plan, uplink))
    if at.joined:
        at.switches(at.plan.get("virtual_switch", uplink.switch).host)
        return True
    return at.functions


def _nic(at: Around, nic: Any) -> bool:
    at.nic(nic)
    port = at.wiring.port_behind(nic.id)
    # What a LAG sends to a NIC's virtual functions depends on the NICs beside it.
    return nic.id in at.wiring.bridge_of or (port is not None and port.lag is not None and at.functions)


def _port_group(at: Around, record: Any) -> bool:
    group = at.plan.get("port_group", getattr(record, "port_group", record.id))
    if record is group and _idle(at.plan, group):
        at.told[group.switch] = None
        return False
    at.dirty[group.switch] = None
    if group.over is not None:
        at.dirty[at.plan.get("host_port", group.over).switch] = None
    return at.joined


def _idle(plan: Plan, group: PortGroup) -> bool:
    """Whether no frame enters or leaves by a port group, and no other port is what it is because of it; as those are that were just stamped."""
    return group.over is None and not group.isolated and not plan.where("adapter", "port_group", group.id)


def _guest(at: Around, guest: Any) -> bool:
    for adapter in at.plan.where("adapter", "guest", guest.id):
        at.dirty[adapter_block(at.plan, adapter)] = None
    return False


def _adapter(at: Around, record: Any) -> bool:
    adapter = record if isinstance(record, Adapter) else at.plan.get("adapter", record.adapter)
    at.dirty[adapter_block(at.plan, adapter)] = None
    if adapter.type == "direct":
        at.nic(at.plan.get("nic", adapter.function_of))
        return True
    # That a switch has isolated ports, its other ports' rules say too.
    return adapter.isolated is not None and at.joined


def _cable(at: Around, cable: Any) -> bool:
    for end in (cable.a, cable.b):
        at.end(end, False)
        if end in at.plan.of("fabric_port"):
            at.port(end)
    return True


def _fabric_port(at: Around, port: Any) -> bool:
    at.port(port.id)
    if port.isolated:
        at.ports_where("switch", port.switch)
    for lag in whole_lag(at.plan, port.lag) if not port.isolated else ():
        at.ports_where("lag", lag)
    return True


def _lag(at: Around, lag: Any) -> bool:
    # Those with which it was, or is, one.
    for id in {lag.id, lag.beside, *whole_lag(at.plan, lag.id)} - {None}:
        at.ports_where("lag", id)
    return True


def _fabric_switch(at: Around, switch: Any) -> bool:
    at.ports_where("switch", switch.id)
    return True


def _assumed(at: Around, assumed: Any) -> bool:
    for host in at.plan.where("host", "site", assumed.site):
        at.switches(host.id)
    return True


def _station(at: Around, record: Any) -> bool:
    at.dirty[STATIONS] = None
    if record.kind == "station_port":
        at.ports.add(record.port)
    return True


def _bmc(at: Around, record: Any) -> bool:
    if record.port is not None:
        at.ports.add(record.port)
    return record.port is not None


def _private(at: Around, record: Any) -> bool:
    """A segment or secondary VLAN: private ports speak of it by VID."""
    at.dirty.update((group.switch, None) for group in at.plan.where("port_group", "mode", "private"))
    return at.ports_where("mode", "private")


def _fabric(at: Around, record: Any) -> bool:
    return True


def _nothing(at: Around, record: Any) -> bool:
    return False


AROUND: dict[str, Callable[[Around, Any], bool]] = {
    "segment": _private,
    "secondary_vlan": _private,
    "limits": _nothing,
    "assumed_fabric": _assumed,
    "host": _host,
    "bmc": _bmc,
    "virtual_switch": _on_host,
    "uplink": _uplink,
    "nic": _nic,
    "host_port": _on_host,
    "port_group": _port_group,
    "group_order": _port_group,
    "guest": _guest,
    "adapter": _adapter,
    "mirror": _nothing,
    "guest_tag": _adapter,
    "fabric_switch": _fabric_switch,
    "lag": _lag,
    "fabric_port": _fabric_port,
    "cable": _cable,
    "station": _station,
    "station_port": _station,
    "way_in": _fabric,
    "shared_address": _nothing,
}
"""What hangs on a record of each kind."""

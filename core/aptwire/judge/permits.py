"""Edits that let a VID pass where it doesn't."""

from __future__ import annotations

from collections.abc import Iterable

from aptwire.plan import vids
from aptwire.plan.edits import Operation, Patch
from aptwire.plan.kinds import AssumedFabric, FabricPort, Uplink
from aptwire.plan.names import called
from aptwire.plan.plan import Plan


def permit(plan: Plan, id: str, vid: int, untagged: bool, access: str) -> tuple[str, list[Operation]] | None:
    """The operations that let a VID pass at a port, an uplink or an assumed fabric, in words; None where there are none."""
    record = plan.find(id)
    name = called(plan, record)
    if isinstance(record, Uplink) and record.members is not None and vid and vid not in vids.members(record.members):
        return f"Make {vid} a member on {name}", [Patch("uplink", id, {"members": vids.with_vid(record.members, vid)})]
    if isinstance(record, Uplink) and record.allowed is not None and vid not in vids.members(record.allowed, True):
        return f"Allow {vid} on {name}", [Patch("uplink", id, {"allowed": vids.with_vid(record.allowed, vid)})]
    if isinstance(record, AssumedFabric):
        allowed = vids.with_vid(record.allowed, vid)
        return f"Assume that {record.site} carries {vid}", [Patch("assumed_fabric", id, {"allowed": allowed})]
    if not isinstance(record, FabricPort):
        return None
    said, operations = "", list[Operation]()
    if record.mode == "trunk" and untagged:
        said = f"Make {vid} the native VLAN of {name}"
        operations.append(Patch("fabric_port", id, {"native": vid}))
    elif record.mode == "trunk" and record.native == vid:
        said = f"Send {vid} tagged at {name}"
        operations.append(
            Patch("fabric_port", id, {"native": None, "allowed": vids.with_vid(record.allowed or "", vid)})
        )
    elif record.mode == "trunk" and vid not in vids.members(record.allowed or ""):
        said = f"Allow {vid} on {name}"
        operations.append(Patch("fabric_port", id, {"allowed": vids.with_vid(record.allowed or "", vid)}))
    elif record.mode == "standard" and (untagged or vid not in vids.members(record.members or "")):
        changes: dict[str, object] = {"members": vids.with_vid(record.members or "", vid)}
        if untagged:
            changes.update(pvid=vid, untagged=vids.with_vid(record.untagged or "", vid))
        said = f"Make {vid} {'the PVID of' if untagged else 'a member at'} {name}"
        operations.append(Patch("fabric_port", id, changes))
    elif record.mode == "access" and record.vid != vid and (access == "retag" or untagged):
        said = f"Make {name} an access port on {vid}"
        operations.append(Patch("fabric_port", id, {"vid": vid}))
    elif record.mode == "access":
        native = record.vid if record.vid != vid else None
        said = f"Make {name} a trunk for {vid}" + (f", native {native}" if native else "")
        operations.append(
            Patch("fabric_port", id, {"mode": "trunk", "vid": None, "allowed": str(vid), "native": native})
        )
    switch = plan.get("fabric_switch", record.switch)
    if switch.vlans is not None and vid not in vids.members(switch.vlans):
        defined = f"Define VID {vid} on {switch.name}"
        said = f"{said} and define it on {switch.name}" if said else defined
        operations.append(Patch("fabric_switch", switch.id, {"vlans": vids.with_vid(switch.vlans, vid)}))
    return (said, operations) if operations else None


def permit_all(plan: Plan, port: FabricPort, needs: Iterable[int], untagged: int | None) -> list[Operation]:
    """The operations after which a fabric port carries these VIDs tagged, and untagged frames as the VID `untagged` (None: nobody
    sends any)."""
    switch = plan.get("fabric_switch", port.switch)
    if not switch.managed or port.mode in ("private", "standard"):
        return []
    wanted = frozenset(needs) - {0, untagged}
    native = port.vid if port.mode == "access" else port.native
    tagged = vids.members(port.allowed or "") if port.mode == "trunk" else frozenset()
    made: list[Operation] = []
    if wanted - tagged or untagged not in (None, native):
        changes = {"mode": "trunk", "vid": None, "allowed": vids.write(tagged | wanted), "native": untagged or native}
        if not tagged | wanted:
            changes = {"mode": "access", "vid": untagged, "allowed": None, "native": None}
        made.append(Patch("fabric_port", port.id, changes))
    lacking = wanted | ({untagged} if untagged else frozenset())
    if switch.vlans is not None and lacking - vids.members(switch.vlans):
        made.append(Patch("fabric_switch", switch.id, {"vlans": vids.write(vids.members(switch.vlans) | lacking)}))
    return made

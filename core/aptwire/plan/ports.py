"""What a port does with tags, in the standard's own words, whichever way a record says it.

People say "access 210" or "trunk 110-130, native 1"; IEEE 802.1Q-2022 says which frames a port admits (clause 6.9), its
PVID, its member set, and which members leave untagged (clause 8.8.2).  `said` turns one into the other, so that whoever
asks what a port carries asks here.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from operator import attrgetter

from aptwire.plan import vids
from aptwire.plan.kinds import Adapter, FabricPort, PortGroup, Record, Uplink
from aptwire.plan.plan import Plan

group_words = attrgetter(
    *("mode", "vid", "allowed", "native", "vni", "pvid", "members", "untagged", "admits", "isolated", "reflects")
)
"""What makes two port groups the same to a frame."""


@dataclass(frozen=True)
class PortWords:
    """A port: `pvid` the VID of untagged frames (0: they stay untagged, None: dropped), `takes` the VIDs let in tagged and `gives` those
    let out (each a VID set; None: all, unseen), `bare` those that leave untagged.

    `admits` is what the record says or what is usual for its mode; `isolated`: kept from the other isolated ports of its
    switch; `reflects`: a frame may leave by the port that it came in by.
    """

    pvid: int | None = None
    takes: str | None = ""
    gives: str | None = ""
    bare: frozenset[int] = frozenset()
    admits: str = "all"
    isolated: bool = False
    reflects: bool = False
    text: str = ""

    @property
    def members(self) -> frozenset[int]:
        """The VIDs that may leave, tagged or not; 0 stands for untagged frames."""
        return vids.members(vids.ALL if self.gives is None else self.gives, True) | self.bare


PASSES = PortWords(pvid=0, takes=None, gives=None, bare=frozenset([0]), text="passes every tag")
"""A port of a switch that doesn't filter."""


def _shorthand(record: PortGroup | FabricPort) -> PortWords:
    admits = record.admits
    if record.mode == "access":
        vid = record.vid or 0
        # An access port usually takes untagged frames only; one that admits all takes its own VID tagged as well.
        tagged = str(vid) if admits in ("all", "tagged") else ""
        text = f"access {vid}" + (" (admits tags)" if tagged else "")
        pvid = None if admits == "tagged" else vid
        return PortWords(pvid, tagged, "", frozenset([vid]), admits or "untagged", text=text)
    if record.mode == "trunk":
        text = f"trunk {record.allowed or 'without VIDs'}"
        if record.native is not None:
            text += f", native {record.native or 'untagged'}"
        bare = frozenset() if record.native is None else frozenset([record.native])
        pvid = None if admits == "tagged" else record.native
        takes = "" if admits == "untagged" else record.allowed or ""
        return PortWords(pvid, takes, record.allowed or "", bare, admits or "all", text=text)
    return PortWords(pvid=0, bare=frozenset([0]), admits="untagged", text=record.mode)


def _standard(record: PortGroup | FabricPort | Uplink | Adapter) -> PortWords:
    members, bare = record.members or "", vids.members(record.untagged or "")
    text = f"members {members or 'none'}"
    text += f", untagged {record.untagged}" if bare else ""
    text += f", PVID {record.pvid}" if record.pvid else ""
    takes = "" if record.admits == "untagged" else members
    pvid = None if record.admits == "tagged" else record.pvid
    return PortWords(pvid, takes, members, bare, record.admits or "all", text=text)


def said(record: PortGroup | FabricPort | Uplink) -> PortWords:
    """What a port group's ports, a fabric port or an uplink say; private and overlay ones say the rest elsewhere.

    Whether the switch filters at all is not the port's word: one that doesn't has `PASSES` for every port.
    """
    if record.members is not None:
        words = _standard(record)
    elif isinstance(record, Uplink):
        bare = frozenset() if record.native is None else frozenset([record.native])
        text = "all VIDs" if record.allowed is None else f"allows {spoken(record.allowed)}"
        pvid = record.native
        if pvid is not None:
            text = f"{text}, native {pvid}"
        elif record.allowed is None or 0 in vids.members(record.allowed, True):
            pvid, bare = 0, frozenset([0])
        takes = "" if record.admits == "untagged" else record.allowed
        words = PortWords(
            None if record.admits == "tagged" else pvid, takes, record.allowed, bare, record.admits or "all", text=text
        )
    else:
        words = _shorthand(record)
    if not record.isolated and not record.reflects:
        return words
    return replace(words, isolated=record.isolated, reflects=record.reflects)


def said_of(adapter: Adapter, group: PortGroup) -> PortWords:
    """What an adapter's port says: its own word, or its port group's where it has none."""
    words = said(group)
    if adapter.members is not None:
        words = replace(_standard(adapter), isolated=words.isolated, reflects=words.reflects)
    elif adapter.admits is not None:
        words = said(replace(group, admits=adapter.admits))
    isolated = words.isolated if adapter.isolated is None else adapter.isolated
    reflects = words.reflects if adapter.reflects is None else adapter.reflects
    return replace(words, isolated=isolated, reflects=reflects)


def carries(record: PortGroup | FabricPort | Uplink) -> frozenset[int]:
    """The VIDs that pass at a port, 0 for untagged frames; a private one's own VID."""
    if getattr(record, "mode", "") == "private":
        return frozenset([getattr(record, "vid", None) or 0])
    return said(record).members


def vid_list(port: FabricPort) -> str | None:
    """The field in which a port lists the VIDs that it carries tagged; None: it has no list."""
    return {"trunk": "allowed", "standard": "members"}.get(port.mode)


def native(record: FabricPort | Uplink) -> int | None:
    """The VID that untagged frames get at a port; None: they are dropped, or belong to a private VLAN."""
    return None if getattr(record, "mode", "") == "private" else said(record).pvid


def spoken(allowed: str | None) -> str:
    """An allowed list in words: 0 is "untagged", an empty list "nothing"."""
    items = [item for item in (allowed or "").split(", ") if item]
    return ", ".join("untagged" if item == "0" else item for item in items) or "nothing"


def far_end(plan: Plan, id: str) -> Record | None:
    """What is at the other end of the cable of a NIC or fabric port; None where there is no cable."""
    for near, far in (("a", "b"), ("b", "a")):
        for cable in plan.where("cable", near, id):
            return plan.find(getattr(cable, far))
    return None

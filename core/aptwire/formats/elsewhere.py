"""Segments that another system defines: what a reading of its topology makes of them, and that nothing else changes them."""

from __future__ import annotations

import datetime
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Any

from aptwire.formats.topology import Foreign, Topology
from aptwire.plan.checks import make_record
from aptwire.plan.edits import DEFINED, Drop, Edit, Operation, Patch, Put, apply_edit
from aptwire.plan.fields import MOST_LISTED, plain
from aptwire.plan.gestures import free_name
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import POINTING, PortGroup, Segment, Source
from aptwire.plan.plan import Plan, PlanError

NEW, CHANGED, SAME, VANISHED, GONE, BACK, OFFERED, LEFT = BECOMES = (
    *("new", "changed", "same", "vanished", "gone", "back", "offered", "left"),
)
"""What becomes of a network: vanished is one that is used here and isn't defined any more, gone the same where nobody uses it; offered one that nobody picked, left one
that no segment can be."""
NAME_ROOM = 72


@dataclass(frozen=True)
class Fate:
    """What a reading makes of one network: the segment (id; empty where there is none), and what is said of it."""

    network: str
    name: str
    becomes: str
    segment: str = ""
    says: str = ""

    def to_json(self) -> dict[str, str]:
        """For a program."""
        return dict(vars(self))


@dataclass(frozen=True)
class Reading:
    """A topology held against a plan: the edit that takes it (empty where nothing differs), what becomes of each network, and what wasn't read."""

    source: str
    edit: Edit
    fates: tuple[Fate, ...]
    told: tuple[str, ...]

    def to_json(self) -> dict[str, Any]:
        """All but the edit, for a program."""
        return {"source": self.source, "networks": [fate.to_json() for fate in self.fates], "told": list(self.told)}


def moment() -> str:
    """When a reading is, if it is now, as `Source.read` keeps it."""
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds").replace("+00:00", "Z")


def new_source(plan: Plan, name: str, address: str = "", takes: str = "all", read: str = "") -> Source:
    """A source that the plan doesn't have yet; PlanError where it can't be one."""
    said = {"id": plan.fresh_id(f"source-{name}"), "name": name, "address": address, "takes": takes, "read": read}
    made = make_record("source", said)
    assert isinstance(made, Source)
    return made


def taken(plan: Plan, source: Source, topology: Topology, picked: Collection[str] | None = None) -> Reading:
    """What a topology makes of the segments of a source, which may be new to the plan, and has in `read` when this reading was.

    `picked` names the networks (by their ids there) that are to be taken of those that are new; None: all, or none where the source takes the chosen alone.
    """
    known = {segment.origin: segment for segment in plan.where("segment", "source", source.id)}
    names = {segment.name for segment in plan.all(Segment)}
    made, fates = list[Operation](), list[Fate]()
    wanted = picked if picked is not None else () if source.takes == "chosen" else {n.id for n in topology.networks}
    for network in topology.networks:
        segment = known.pop(network.id, None)
        if segment is None and network.id not in wanted:
            fates.append(Fate(network.id, network.name, OFFERED, says=_tag(network)))
            continue
        name = _name(network, names, segment)
        names.add(name)
        fresh = _segment(plan, source, network, name, segment)
        if segment is None:
            made.append(Put(fresh))
            fates.append(Fate(network.id, name, NEW, fresh.id, _tag(network)))
        else:
            changes = {f: plain(getattr(fresh, f)) for f in DEFINED if getattr(fresh, f) != getattr(segment, f)}
            if changes:
                made.append(Patch("segment", segment.id, changes))
            becomes = BACK if "vanished" in changes else CHANGED if changes else SAME
            fates.append(Fate(network.id, name, becomes, segment.id, _tag(network)))
    for network_id, segment in sorted(known.items()):
        reason = topology.left.get(network_id, "")
        used = _used(plan, segment)
        if not used:
            made.append(Drop("segment", segment.id))
        elif not segment.vanished:
            made.append(Patch("segment", segment.id, {"vanished": True}))
        fates.append(Fate(network_id, segment.name, VANISHED if used else GONE, segment.id, reason or used))
    fates += (Fate(id, id, LEFT, says=why) for id, why in topology.left.items() if id not in known)
    if made:
        made.insert(0, Put(source) if source.id not in plan.of("source") else _read(plan, source))
    cut = [n.id for n in topology.networks if len(n.subnets) > MOST_LISTED]
    told = (*topology.told, *(f"“{id[:80]}” has more than {MOST_LISTED} subnets: the first are taken" for id in cut))
    return Reading(source.id, tuple(made), tuple(fates), told)


def _read(plan: Plan, source: Source) -> Patch:
    """A source that was read again."""
    was = plan.get("source", source.id)
    changes = {
        f: getattr(source, f) for f in ("read", "address", "takes", "name") if getattr(source, f) != getattr(was, f)
    }
    return Patch("source", source.id, changes or {"read": source.read})


def _name(network: Foreign, names: set[str], segment: Segment | None) -> str:
    """What a network is called here: as there, or with a number behind it where that is taken."""
    name = "".join(c for c in network.name if c.isprintable()).strip()[:NAME_ROOM] or "unnamed"
    if segment is not None:
        own = segment.name
        if own == name or (own.startswith(f"{name}-") and own[len(name) + 1 :].isdecimal()):
            return own
        names.discard(own)
    return free_name(name, names)


def _segment(plan: Plan, source: Source, network: Foreign, name: str, was: Segment | None) -> Segment:
    """The segment that a network is; what people say of it here is kept."""
    kept = was or Segment(id=plan.fresh_id(f"{source.id}/{make_id(network.id)}"[:110]), name=name)
    return replace(
        kept,
        name=name,
        vid=network.vid,
        vni=network.vni,
        encapsulation="vxlan",
        subnets=network.subnets[:MOST_LISTED],
        source=source.id,
        origin=network.id,
        vanished=False,
    )


def _tag(network: Foreign) -> str:
    return ", ".join((f"VID {network.vid}" if network.vid is not None else f"VNI {network.vni}", *network.subnets))


def _used(plan: Plan, segment: Segment) -> str:
    """Who uses a segment, in words; empty where nobody does."""
    places = [r for kind, name in POINTING["segment"] for r in plan.where(kind, name, segment.id)]
    alone = sum(s.vid == segment.vid and s.vni == segment.vni for s in plan.all(Segment)) == 1
    groups: Sequence[PortGroup] = ()
    if alone and segment.vid is not None:
        groups = plan.where("port_group", "vid", segment.vid)
    elif alone and segment.vni is not None:
        groups = plan.where("port_group", "vni", segment.vni)
    if places:
        return f"{len(places)} {'uses' if len(places) == 1 else 'use'} it here"
    if groups:
        return (
            f"{len(groups)} port group{'' if len(groups) == 1 else 's'} offer{'s' if len(groups) == 1 else ''} it here"
        )
    try:
        apply_edit(plan, (Drop("segment", segment.id),))
    except PlanError:
        return "something here names it"
    return ""

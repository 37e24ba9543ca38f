"""What is untidy: deviations, things that nobody uses, doubled VIDs and names, overlapping overlays."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from functools import partial
from typing import Any

from aptwire.judge.book import Grouping
from aptwire.judge.facts import Facts
from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Patch
from aptwire.plan.kinds import (
    Adapter,
    FabricSwitch,
    PortGroup,
    SecondaryVlan,
    Segment,
)
from aptwire.plan.names import called, some
from aptwire.plan.ports import said


class TidyRisks(RiskSearch):
    """What could be put in order."""

    def deviating(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[Adapter, tuple[str, ...], str]]]:
        """The adapters of a host that deviate, by port group, with what that is called."""
        for adapter, own in (pair for found in listed for pair in found.deviating):
            group = self.plan.get("port_group", adapter.port_group)
            yield group.id, (adapter, own, called(self.plan, group))

    def deviations(self, group: str, found: list[tuple[Adapter, tuple[str, ...], str]]) -> Iterator[Risk]:
        """Adapters whose guards or limits differ from their port group's, one risk for each port group."""
        adapters, name = [(adapter, own) for adapter, own, _ in found], found[0][2]
        edit = tuple(Patch("adapter", a.id, dict.fromkeys(own)) for a, own in adapters)
        told = some(f"{called(self.plan, a)} ({', '.join(w.replace('_', ' ') for w in own)})" for a, own in adapters)
        yield Risk(
            UNTIDY,
            "deviation",
            (group,),
            f"{len(adapters)} adapter{'s' if len(adapters) > 1 else ''} of {name} deviate{'' if len(adapters) > 1 else 's'} from it",
            f"{told}.",
            tuple(a.id for a, _ in adapters),
            endpoints=tuple(a.id for a, _ in adapters),
            facts=tuple(self.fact(a.id, ", ".join(own).replace("_", " "), "its own word") for a, own in adapters),
            mends=((f"Let them follow {name}", edit),),
        )

    def unseated(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, PortGroup]]:
        """The port groups of a host in which nobody sits, by name."""
        for group in (group for found in listed for group in found.empty):
            yield group.name, group

    def empty(self, name: str, groups: list[PortGroup]) -> Iterator[Risk]:
        """Port groups that nobody sits in, by name."""
        edit = tuple(
            Drop(kind, r.id)
            for g in groups
            for kind, r in [
                *(("group_order", o) for o in self.plan.where("group_order", "port_group", g.id)),
                ("port_group", g),
            ]
        )
        hosts = some(self.host(self.plan.get("virtual_switch", g.switch).host) for g in groups)
        yield Risk(
            UNTIDY,
            "empty-group",
            (name,),
            f"Nobody sits in port group {name} on {hosts}",
            "It may wait for guests to come; if not, it can go.",
            tuple(g.id for g in groups),
            facts=tuple(self.fact(g.id, g.mode, "no adapter") for g in groups[:20]),
            mends=((f"Remove port group {name} on {hosts}", edit),),
        )

    def needed(self, listed: tuple[Facts, ...]) -> Iterator[tuple[int, bool]]:
        """The VIDs that a host's ports use."""
        for vid in {vid for found in listed for vid in found.needs}:
            yield vid, True

    def unused(self) -> Iterator[Risk]:
        """VIDs that a fabric switch defines and nobody uses."""
        defining = [s for s in self.plan.all(FabricSwitch) if s.vlans is not None and s.managed]
        if not defining:
            return
        used = {s.vid for s in self.plan.all(Segment)} | {s.vid for s in self.plan.all(SecondaryVlan)}
        used |= {int(str(vid)) for vid in self.book.grouped(NEEDED, self).by_key}
        spoken = (self.plan.grouped("fabric_port", field) for field in ("vid", "native"))
        used |= {vid for by_vid in spoken for vid, ports in by_vid.items() if ports}
        for switch in sorted(defining, key=lambda s: s.id):
            defined = vids.members(switch.vlans or "")
            extra = defined - used
            if extra and len(defined) < 4000:
                kept = vids.write(defined - extra)
                yield Risk(
                    UNTIDY,
                    "unused-vid",
                    (switch.id,),
                    f"{switch.name} defines {vids.write(extra)}, which nobody uses",
                    "No segment, port group or host port has them.",
                    (switch.id,),
                    facts=(self.fact(switch.id, f"defines {switch.vlans}", f"{vids.write(extra)} isn’t used"),),
                    mends=(
                        (
                            f"Define only {kept or 'nothing'} on {switch.name}",
                            (Patch("fabric_switch", switch.id, {"vlans": kept}),),
                        ),
                    ),
                )

    def doubled(self) -> Iterator[Risk]:
        """VIDs that two segments have; port groups of one switch with one tag; one name for different tags; overlapping subnets of overlays."""
        for vid in sorted({s.vid for s in self.plan.all(Segment) if s.vid}):
            same = sorted(self.plan.where("segment", "vid", vid), key=lambda s: s.name)
            if len(same) > 1:
                names = some(s.name for s in same)
                yield Risk(
                    RISK,
                    "doubled-vid",
                    (str(vid),),
                    f"{names} have the same VID {vid}",
                    "Their members are in one broadcast domain.",
                    tuple(s.id for s in same),
                    facts=tuple(self.fact(s.id, f"VID {vid}", "the same") for s in same),
                    mends=tuple(self._fresh_vid(same)),
                )

    def paired(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[PortGroup, ...]]]:
        """The port groups of one switch that are the same, by switch."""
        for found in listed:
            for groups in found.twins:
                yield found.switch, groups

    def twins(self, switch: str, found: list[tuple[PortGroup, ...]]) -> Iterator[Risk]:
        """Port groups of one switch with one tag."""
        for groups in found:
            yield self._twin_groups(groups)

    def ways(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[PortGroup, tuple[object, ...]]]]:
        """What each port group of a host carries, by name."""
        for group, key in (pair for found in listed for pair in found.groups):
            yield group.name, (group, key)

    def one_name(self, name: str, found: list[tuple[PortGroup, tuple[object, ...]]]) -> Iterator[Risk]:
        """One name for different tags."""
        first = found[0][1]
        if all(key == first for _, key in found):
            return
        tags: dict[tuple[object, ...], list[PortGroup]] = {}
        for group, key in found:
            tags.setdefault(key, []).append(group)
        yield self._one_name(name, sorted(tags.values(), key=lambda g: -len(g)))

    def named_twice(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, tuple[PortGroup, ...]]]:
        """The port groups of several switches of a host that have one name."""
        names: dict[str, list[PortGroup]] = {}
        for group, _ in (pair for found in listed for pair in found.groups) if len(listed) > 1 else ():
            names.setdefault(group.name, []).append(group)
        for name, groups in names.items():
            if len(groups) > 1:
                yield name, tuple(sorted(groups, key=lambda g: g.id))

    def same_names(self, name: str, listed: list[tuple[PortGroup, ...]]) -> Iterator[Risk]:
        """One name for port groups of two switches of a host: whoever attaches a guest by name can't know which."""
        groups = [group for same in listed for group in same]
        switches = {g.id: self.plan.get("virtual_switch", g.switch) for g in groups}
        on = some(self.host(switches[same[0].id].host) for same in listed)
        edit = tuple(
            Patch("port_group", g.id, {"name": f"{name} {switches[g.id].name}"[:80]})
            for same in listed
            for g in same[1:]
        )
        yield Risk(
            UNTIDY,
            "same-name",
            (name,),
            f"Several port groups are called {name} on {on}",
            f"They are on {some(s.name for s in switches.values())}: which one is meant by the name isn’t known.",
            tuple(g.id for g in groups),
            facts=tuple(self.fact(g.id, _group_text(g), f"on {switches[g.id].name}") for g in groups[:20]),
            mends=((f"Add the switch’s name to all of them but the first on {on}", edit),),
        )

    def seen_names(self) -> Iterator[Risk]:
        """Adapters of one guest that the guest is said to see by one name."""
        for (guest, name), found in self.by_guest("seen_as"):
            if len(found) > 1:
                same = sorted(found, key=lambda a: (a.order, a.name))
                who = self.plan.get("guest", guest).name
                edit = tuple(Patch("adapter", a.id, {"seen_as": ""}) for a in same[1:])
                yield Risk(
                    UNTIDY,
                    "seen-name",
                    (guest, name),
                    f"{who} can’t see {len(same)} adapters as {name}",
                    f"{some(a.name for a in same)}: which one has the name isn’t known.",
                    tuple(a.id for a in same),
                    endpoints=tuple(a.id for a in same),
                    facts=tuple(self.fact(a.id, f"seen as {name}", "the same name") for a in same),
                    mends=((f"Leave the name to {same[0].name}", edit),),
                )

    def _fresh_vid(self, same: list[Any]) -> Iterator[tuple[str, Edit]]:
        taken = {s.vid for s in self.plan.all(Segment)} | {s.vid for s in self.plan.all(SecondaryVlan)}
        vid = next((v for v in range((same[0].vid or 1) + 1, 4095) if v not in taken), None)
        for segment in same[1:] if vid else ():
            yield f"Give {segment.name} the free VID {vid}", (Patch("segment", segment.id, {"vid": vid}),)

    def _merged(self, groups: tuple[PortGroup, ...]) -> tuple[tuple[str, Edit], ...]:
        kept, rest = groups[0], groups[1:]
        moved = [a for g in rest for a in self.plan.where("adapter", "port_group", g.id)]
        orders = [o for g in rest for o in self.plan.where("group_order", "port_group", g.id)]
        edit: Edit = (
            *(Patch("adapter", a.id, {"port_group": kept.id}) for a in moved),
            *(Drop("group_order", o.id) for o in orders),
            *(Drop("port_group", g.id) for g in rest),
        )
        return ((f"Keep {kept.name} alone", edit),)

    def _twin_groups(self, groups: tuple[PortGroup, ...]) -> Risk:
        kept = groups[0]
        where = called(self.plan, self.plan.get("virtual_switch", kept.switch))
        return Risk(
            UNTIDY,
            "twin-groups",
            tuple(g.id for g in groups),
            f"{some(g.name for g in groups)} of {where} are the same",
            "They carry the same tag under several names.",
            tuple(g.id for g in groups),
            facts=tuple(self.fact(g.id, _group_text(g), "the same") for g in groups),
            mends=partial(TidyRisks._merged, groups=groups),
        )

    def _one_name(self, name: str, ways: list[list[PortGroup]]) -> Risk:
        most, rest = ways[0], [g for groups in ways[1:] for g in groups]
        like = most[0]
        fields = ("mode", "vid", "allowed", "native", "pvid", "members", "untagged", "admits", "isolated", "reflects")
        same = {name: getattr(like, name) for name in fields}
        hosts = some(self.host(self.plan.get("virtual_switch", g.switch).host) for g in rest)
        edit = tuple(Patch("port_group", g.id, same) for g in rest) if like.mode != "overlay" else ()
        return Risk(
            RISK,
            "name",
            (name,),
            f"Port group {name} isn’t the same everywhere",
            f"It is {_group_text(like)} on {some(self._hosts(most), 2)}, and {some(_group_text(g) for g in rest)} on {hosts}.",
            tuple(g.id for g in rest),
            facts=tuple(self.fact(g.id, _group_text(g), f"elsewhere {_group_text(like)}") for g in rest[:20]),
            mends=((f"Make {name} {_group_text(like)} on {hosts} too", edit),) if edit else (),
        )

    def _hosts(self, groups: list[PortGroup]) -> list[str]:
        return [self.host(self.plan.get("virtual_switch", g.switch).host) for g in groups]

    def overlays(self) -> Iterator[Risk]:
        """Overlay segments whose inner addresses overlap with other segments': allowed, and shown."""
        listed = [(s, [ipaddress.ip_network(t) for t in s.subnets]) for s in self.plan.all(Segment) if s.subnets]
        for segment, nets in sorted(listed, key=lambda item: item[0].id):
            if segment.vni is None:
                continue
            others = [
                o
                for o, theirs in listed
                if o.id != segment.id
                and self.worlds.get(o.id) in (None, self.worlds.get(segment.id))
                and any(a.version == b.version and a.overlaps(b) for a in nets for b in theirs)
            ]
            if others:
                names = some(o.name for o in others)
                yield Risk(
                    UNTIDY,
                    "overlap",
                    (segment.id,),
                    f"Overlay {segment.name} uses addresses of {names}",
                    "That is allowed, since it is apart; a router between them could not tell them apart.",
                    (segment.id,),
                    segment=segment.id,
                    facts=(self.fact(segment.id, ", ".join(segment.subnets), f"overlaps with {names}"),),
                )


NEEDED: Grouping[TidyRisks, Risk] = Grouping("needed", TidyRisks.needed)


def _group_text(group: PortGroup) -> str:
    if group.mode in ("access", "private"):
        return f"{group.mode} {group.vid}"
    if group.mode == "trunk":
        return f"trunk {group.allowed or 'nothing'}"
    if group.mode == "standard":
        return said(group).text
    return f"overlay {group.vni}" if group.mode == "overlay" else "untagged"

"""Hosts and guests: managed through their own guest, doubled MAC addresses, guests' teams, mirrors, limits."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from functools import partial

from aptwire.judge.risks.base import RISK, Offers, Risk, RiskSearch
from aptwire.judge.starting import fits, of_bmc
from aptwire.plan.edits import Drop, Edit, Operation, Patch
from aptwire.plan.kinds import (
    ABOUT,
    SPECS,
    Guest,
    Host,
    Limits,
    Mirror,
    PortGroup,
    Segment,
)
from aptwire.plan.names import called, some


class HostRisks(RiskSearch):
    """What lies on the hosts."""

    def own_guest(self) -> Iterator[Risk]:
        """Hosts that are managed through a guest that runs on them."""
        plan = self.plan
        asked = {gate for segment in plan.all(Segment) for gate in segment.gateways}
        asked |= {gate for gate, ports in plan.grouped("host_port", "gateway").items() if ports}
        bearing: dict[str, set[str]] = {}
        for gate in asked:
            for record in self.wiring.bearers.get(gate, ()):
                adapter = self.adapter_of(record)
                if adapter is not None:
                    bearing.setdefault(plan.get("guest", adapter.guest).host, set()).add(gate)
        switches = (switch for host in sorted(bearing) for switch in plan.where("virtual_switch", "host", host))
        ports = (port for switch in switches for port in plan.where("host_port", "switch", switch.id))
        for port in sorted((p for p in ports if "management" in p.services), key=lambda p: p.id):
            segment = self.plan.of("segment").get(port.belongs)
            gates = [port.gateway] if port.gateway else list(segment.gateways) if segment is not None else []
            host = self.plan.get("virtual_switch", port.switch).host
            for gate in (gate for gate in gates if gate in bearing[host]):
                for record in self.wiring.bearers.get(gate, ()):
                    adapter = self.adapter_of(record)
                    guest = self.plan.get("guest", adapter.guest) if adapter is not None else None
                    if guest is not None and guest.host == host:
                        yield Risk(
                            RISK,
                            "own-guest",
                            (port.id, guest.id),
                            f"{self.host(host)} is managed through {guest.name}, which runs on it",
                            f"While {guest.name} is down, nobody beyond the subnet reaches the host to start it{self._other_way(host, gate)}",
                            (port.id, guest.id),
                            endpoints=(port.id,),
                            facts=(self.fact(port.id, f"gateway {gate}", f"is {guest.name} on the same host"),),
                            mends=partial(HostRisks._elsewhere, guest=guest),
                        )

    def _other_way(self, host: str, gate: str) -> str:
        """Whether a host has a BMC that is reached past a gateway, in words."""
        bmc = next(iter(self.plan.where("bmc", "host", host)), None)
        if bmc is None:
            return "; no BMC of it is known."
        segment = self.plan.of("segment").get(bmc.belongs)
        if segment is not None and gate in segment.gateways:
            return f"; its BMC hangs on {gate} too."
        if segment is None or not fits(segment, of_bmc(self.judgement, bmc)):
            return (
                "; whether its BMC is reached isn’t known." if segment is None else "; its BMC isn’t where it belongs."
            )
        return f"; its BMC, on {segment.name}, is another way in."

    def _elsewhere(self, guest: Guest) -> tuple[tuple[str, Edit], ...]:
        """The guest on another host that has its port groups, by name and tag."""
        adapters = self.plan.where("adapter", "guest", guest.id)
        if any(a.type == "direct" for a in adapters):
            return ()
        own = {a.id: self.plan.of("port_group").get(a.port_group) for a in adapters}
        made = []
        for host in sorted(
            self.plan.all(Host), key=lambda h: (h.site != self.plan.get("host", guest.host).site, h.name)
        ):
            switches = self.plan.where("virtual_switch", "host", host.id) if host.id != guest.host else []
            there = {_look(g): g.id for s in switches for g in self.plan.where("port_group", "switch", s.id)}
            targets = {id: there.get(_look(g)) if g is not None else None for id, g in own.items()}
            if all(targets[id] is not None or g is None for id, g in own.items()) and switches:
                moved = (Patch("adapter", id, {"port_group": group}) for id, group in targets.items())
                made.append(
                    (f"Move {guest.name} to {host.name}", (Patch("guest", guest.id, {"host": host.id}), *moved))
                )
        return tuple(made[:3])

    def macs(self) -> Iterator[Risk]:
        """MAC addresses that several adapters bear."""
        for mac, adapters in ((mac, self._in_one_world(mac)) for mac in sorted(self.wiring.doubled_macs)):
            if len(adapters) < 2:
                continue
            free = [a for a in adapters if not self.plan.get("adapter", a).mac_fixed]
            names = some(called(self.plan, self.plan.get("adapter", a)) for a in adapters)
            edits = tuple(
                (
                    f"Give {called(self.plan, self.plan.get('adapter', a))} a MAC address of its own",
                    (Patch("adapter", a, {"mac": fresh_mac(self.wiring.macs, a)}),),
                )
                for a in free[-2:]
            )
            yield Risk(
                RISK,
                "mac",
                (mac,),
                f"{len(adapters)} adapters bear the MAC address {mac}",
                f"{names}: where they meet, frames go to one or the other.",
                tuple(adapters),
                endpoints=tuple(adapters),
                facts=tuple(self.fact(a, mac, "the same address") for a in adapters),
                mends=edits,
            )

    def _in_one_world(self, mac: str) -> list[str]:
        """The adapters (ids) with a MAC address that may come to meet another one with it."""
        by_world: dict[str | None, list[str]] = {}
        for id in sorted(self.wiring.macs[mac]):
            by_world.setdefault(self.worlds.get(self.plan.get("adapter", id).belongs), []).append(id)
        return sorted(id for ids in by_world.values() if len(ids) > 1 for id in ids)

    def guest_teams(self) -> Iterator[Risk]:
        """Adapters that a guest teams although they belong on different segments."""
        for (guest, team), adapters in self.by_guest("team"):
            vids_ = {self.judgement.lands_on(p) for a in adapters if (p := self.wiring.place(a.id)) is not None}
            if len(vids_) > 1:
                name = self.plan.get("guest", guest).name
                first = adapters[0]
                edit = tuple(
                    Patch("adapter", a.id, {"port_group": first.port_group, "belongs": first.belongs})
                    for a in adapters[1:]
                    if a.type != "direct" and first.type != "direct"
                )
                yield Risk(
                    RISK,
                    "guest-team",
                    (guest, team),
                    f"{name} teams adapters that land on different VLANs",
                    f"{some(a.name for a in adapters)}: which one it hears depends on the member that carries.",
                    tuple(a.id for a in adapters),
                    endpoints=tuple(a.id for a in adapters),
                    facts=tuple(self.fact(a.id, f"team {team}", "lands elsewhere") for a in adapters),
                    mends=((f"Put all of them where {first.name} is", edit),) if edit else (),
                )

    def mirrors(self) -> Iterator[Risk]:
        """Mirrors that show one segment's frames to a member of another."""
        for mirror in sorted(self.plan.all(Mirror), key=lambda m: m.id):
            source, target = self.plan.get("adapter", mirror.source), self.plan.get("adapter", mirror.target)
            if source.belongs != target.belongs:
                names = called(self.plan, source), called(self.plan, target)
                yield Risk(
                    RISK,
                    "mirror",
                    (mirror.id,),
                    f"{names[1]} is shown the frames of {names[0]}",
                    "It belongs on another segment, and sees what is kept from it.",
                    (mirror.id, source.id, target.id),
                    endpoints=(target.id,),
                    facts=(self.fact(mirror.id, f"copies what is {mirror.direction}", "across segments"),),
                    mends=((f"Take the mirror of {names[0]} away", (Drop("mirror", mirror.id),)),),
                )

    def limits(self) -> Iterator[Risk]:
        """More of something than the limits sheet, or the NIC, takes."""
        sheet = next(iter(self.plan.all(Limits)), None)
        if sheet is not None:
            said = [(t, getattr(sheet, f"{t}_adapters")) for t in ("paravirtual", "emulated", "direct")]
            mosts: dict[str, int] = {type_: most for type_, most in said if most is not None}
            least = min(mosts.values(), default=0)
            for guest, adapters in sorted(self.plan.grouped("adapter", "guest").items()) if mosts else ():
                for type_, most in mosts.items() if len(adapters) > least else ():
                    number = sum(a.type == type_ for a in adapters)
                    if number > most:
                        edits = partial(
                            HostRisks._other_type, sheet=sheet, guest=guest, type_=type_, surplus=number - most
                        )
                        yield self._over(guest, number, f"{type_} adapter", most, edits)
            if sheet.port_groups is not None:
                for switch in sorted(self.plan.of("virtual_switch")):
                    number = len(self.plan.where("port_group", "switch", switch))
                    if number > sheet.port_groups:
                        edits = partial(HostRisks._fewer_groups, switch=switch, surplus=number - sheet.port_groups)
                        yield self._over(switch, number, "port group", sheet.port_groups, edits)
        used = self.plan.grouped("adapter", "function_of")
        for nic, number in sorted((nic, len(adapters)) for nic, adapters in used.items() if adapters):
            offered = self.plan.get("nic", nic).functions
            takes = offered if offered is not None else sheet.functions if sheet is not None else None
            if takes is not None and number > takes:
                edits = partial(HostRisks._other_nic, nic=nic, surplus=number - takes, sheet=sheet)
                yield self._over(nic, number, "virtual function", takes, edits)

    def _other_type(self, sheet: Limits, guest: str, type_: str, surplus: int) -> tuple[tuple[str, Edit], ...]:
        """The last adapters of a guest as another kind of which it takes more."""
        if type_ == "direct":
            return ()
        other = "emulated" if type_ == "paravirtual" else "paravirtual"
        adapters = sorted(self.plan.where("adapter", "guest", guest), key=lambda a: (a.order, a.name))
        most = getattr(sheet, f"{other}_adapters")
        if most is not None and sum(a.type == other for a in adapters) + surplus > most:
            return ()
        last = [a for a in adapters if a.type == type_][-surplus:]
        edit = tuple(Patch("adapter", a.id, {"type": other}) for a in last)
        return ((f"Make {some(a.name for a in last)} {other}", edit),)

    def _fewer_groups(self, switch: str, surplus: int) -> tuple[tuple[str, Edit], ...]:
        """Without port groups that nobody uses; with one where several are alike."""
        groups = sorted(self.plan.where("port_group", "switch", switch), key=lambda g: g.id)
        used = {g.id: self.plan.where("adapter", "port_group", g.id) for g in groups}
        idle = [g for g in groups if not used[g.id] and not self.plan.where("group_order", "port_group", g.id)]
        made: list[tuple[str, Edit]] = []
        if len(idle) >= surplus:
            some_ = idle[:surplus]
            made.append((f"Drop {some(g.name for g in some_)}, unused", tuple(Drop("port_group", g.id) for g in some_)))
        first: dict[tuple[object, ...], PortGroup] = {}
        twins: list[tuple[PortGroup, PortGroup]] = []
        for group in groups:
            kept = first.setdefault(_look(group)[1:], group)
            if kept is not group and not self.plan.where("group_order", "port_group", group.id):
                twins.append((group, kept))
        if len(twins) >= surplus:
            edit: list[Operation] = []
            for group, kept in twins[:surplus]:
                edit += [Patch("adapter", a.id, {"port_group": kept.id}) for a in used[group.id]]
                edit.append(Drop("port_group", group.id))
            said = some(f"{group.name} with {kept.name}" for group, kept in twins[:surplus])
            made.append((f"Merge {said}", tuple(edit)))
        return tuple(made)

    def _other_nic(self, nic: str, surplus: int, sheet: Limits | None) -> tuple[tuple[str, Edit], ...]:
        """The last functions of a NIC on another one of its host that has room and link."""
        own = self.plan.get("nic", nic)
        last = sorted(self.plan.where("adapter", "function_of", nic), key=lambda a: a.id)[-surplus:]
        made = []
        for other in sorted(self.plan.where("nic", "host", own.host), key=lambda n: n.name):
            room = other.functions if other.functions is not None else sheet.functions if sheet is not None else None
            taken = len(self.plan.where("adapter", "function_of", other.id))
            if other.id != nic and other.link == "up" and not other.wireless and room and taken + surplus <= room:
                edit = tuple(Patch("adapter", a.id, {"function_of": other.id}) for a in last)
                made.append((f"Put {some(called(self.plan, a) for a in last)} on {other.name}", edit))
        return tuple(made)

    def _over(self, id: str, number: int, noun: str, most: int, mends: Offers) -> Risk:
        name, has = called(self.plan, self.plan.find(id)), f"{number} {noun}{'' if number == 1 else 's'}"
        return Risk(
            RISK,
            "limit",
            (id, noun),
            f"{name} has {has}; {most} is the most",
            "The limits sheet (or the NIC) says so.",
            (id,),
            facts=(self.fact(id, has, f"more than {most}"),),
            mends=mends,
        )


def _look(group: PortGroup) -> tuple[object, ...]:
    """What port groups must have in common to stand for each other: name, then all that frames see of them."""
    seen = (name for name in SPECS["port_group"] if name not in ("switch", "name", "part", *ABOUT))
    return (group.name, *(getattr(group, name) for name in seen))


def fresh_mac(taken: Iterable[str], seed: str) -> str:
    """A locally administered MAC address (IEEE 802-2014 clause 8.2.2) that nobody has, the same for the same seed."""
    known = set(taken)
    for number in range(1 << 16):
        digest = hashlib.sha256(f"{seed} {number}".encode()).digest()
        mac = ":".join(f"{b:02x}" for b in (0x02, *digest[:5]))
        if mac not in known:
            return mac
    raise ValueError("there is no free MAC address")

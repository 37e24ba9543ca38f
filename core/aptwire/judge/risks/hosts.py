"""Hosts and guests: managed through their own guest, doubled MAC addresses, guests' teams, mirrors, limits."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator

from aptwire.judge.risks.base import RISK, Look, Risk, some
from aptwire.plan.edits import Drop, Patch
from aptwire.plan.kinds import Adapter
from aptwire.plan.names import called


class HostRisks(Look):
    """What lies on the hosts."""

    def own_guest(self) -> Iterator[Risk]:
        """Hosts that are managed through a guest that runs on them."""
        for port in sorted(self.plan.all("host_port"), key=lambda p: p.id):
            if "management" not in port.services:
                continue
            segment = self.plan.of("segment").get(port.belongs)
            gates = [port.gateway] if port.gateway else list(segment.gateways) if segment is not None else []
            host = self.plan.get("virtual_switch", port.switch).host
            for gate in gates:
                for record in self.wiring.bearers.get(gate, ()):
                    owner = self.plan.find(record)
                    adapter = (
                        owner
                        if isinstance(owner, Adapter)
                        else self.plan.of("adapter").get(getattr(owner, "adapter", None))
                    )
                    guest = self.plan.get("guest", adapter.guest) if adapter is not None else None
                    if guest is not None and guest.host == host:
                        yield Risk(
                            RISK,
                            "own-guest",
                            (port.id, guest.id),
                            f"{self.host(host)} is managed through {guest.name}, which runs on it",
                            f"While {guest.name} is down, nobody beyond the subnet reaches the host to start it.",
                            (port.id, guest.id),
                            endpoints=(port.id,),
                            facts=(self.fact(port.id, f"gateway {gate}", f"is {guest.name} on the same host"),),
                        )

    def macs(self) -> Iterator[Risk]:
        """MAC addresses that several adapters bear."""
        for mac in sorted(self.wiring.doubled_macs):
            adapters = sorted(self.wiring.macs[mac])
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

    def guest_teams(self) -> Iterator[Risk]:
        """Adapters that a guest teams although they belong on different segments."""
        teams: dict[tuple[str, str], list[Adapter]] = {}
        for name, found in self.plan.grouped("adapter", "team").items():
            for adapter in found if name else ():
                teams.setdefault((adapter.guest, name), []).append(adapter)
        for (guest, team), adapters in sorted(teams.items()):
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
        for mirror in sorted(self.plan.all("mirror"), key=lambda m: m.id):
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
        sheet = next(iter(self.plan.all("limits")), None)
        if sheet is not None:
            for type_ in ("paravirtual", "emulated", "direct"):
                most = getattr(sheet, f"{type_}_adapters")
                if most is None:
                    continue
                counted: dict[str, int] = {}
                for adapter in self.plan.where("adapter", "type", type_):
                    counted[adapter.guest] = counted.get(adapter.guest, 0) + 1
                for guest, number in sorted(counted.items()):
                    if number > most:
                        yield self._over(guest, f"{number} {type_} adapters", most)
            if sheet.port_groups is not None:
                for switch in sorted(self.plan.of("virtual_switch")):
                    number = len(self.plan.where("port_group", "switch", switch))
                    if number > sheet.port_groups:
                        yield self._over(switch, f"{number} port groups", sheet.port_groups)
        used: dict[str, int] = {}
        for adapter in self.plan.where("adapter", "type", "direct"):
            used[adapter.function_of] = used.get(adapter.function_of, 0) + 1
        for nic, number in sorted(used.items()):
            offered = self.plan.get("nic", nic).functions
            most = offered if offered is not None else sheet.functions if sheet is not None else None
            if most is not None and number > most:
                yield self._over(nic, f"{number} virtual functions in use", most)

    def _over(self, id: str, has: str, most: int) -> Risk:
        name = called(self.plan, self.plan.find(id))
        return Risk(
            RISK,
            "limit",
            (id, has.split(" ", 1)[1]),
            f"{name} has {has}; {most} is the most",
            "The limits sheet (or the NIC) says so.",
            (id,),
            facts=(self.fact(id, has, f"more than {most}"),),
        )


def fresh_mac(taken: Iterable[str], seed: str) -> str:
    """A locally administered MAC address (IEEE 802-2014 clause 8.2.2) that nobody has, the same for the same seed."""
    known = set(taken)
    for number in range(1 << 16):
        digest = hashlib.sha256(f"{seed} {number}".encode()).digest()
        mac = ":".join(f"{b:02x}" for b in (0x02, *digest[:5]))
        if mac not in known:
            return mac
    raise ValueError("there is no free MAC address")

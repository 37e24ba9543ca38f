"""Guests of a host behind a guest that forwards, translates, and lets nobody in: what is outside comes by a segment, or by a NIC of its own; what is inside is sealed in the host."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from ipaddress import IPv4Network, ip_network

from aptwire.blueprints.carrying import Brought
from aptwire.judge.judgement import Judgement
from aptwire.judge.plugging import next_free_address
from aptwire.judge.risks.hosts import fresh_mac
from aptwire.judge.verdicts import judged_after
from aptwire.plan.edits import Operation, Patch, Put, apply_edit
from aptwire.plan.gestures import free_name, letting, offering
from aptwire.plan.kinds import (
    Adapter,
    FabricPort,
    FilterLine,
    Guest,
    Nic,
    Outside,
    PortGroup,
    Rule,
    Segment,
    Translation,
    Uplink,
    VirtualSwitch,
)
from aptwire.plan.names import called, some
from aptwire.plan.outside import handed_over, taken_there
from aptwire.plan.plan import PlanError, Problem
from aptwire.plan.ports import far_end
from aptwire.plan.sentences import quoted
from aptwire.rules.answer import HOLDS
from aptwire.rules.asking import asked


def shield(
    judgement: Judgement, host: str, name: str, outside: str, subnet: str, guests: Sequence[str], nic: str = ""
) -> Brought:
    """Guests of a host put behind a firewall called `name`, on a segment of their own with a subnet of IPv4.

    `outside`: the segment by which the firewall gets out, over a free NIC of the host, or none: as the host has it.  PlanError where something of it isn't
    there or has no room.
    """
    return _Shield(judgement, host, name.strip(), outside, subnet.strip(), guests, nic).made()


class _Shield:
    def __init__(
        self,
        judgement: Judgement,
        host: str,
        name: str,
        outside: str,
        subnet: str,
        guests: Sequence[str],
        nic: str,
    ) -> None:
        self.judgement, self.plan, self.host, self.name = judgement, judgement.plan, host, name
        plan = self.plan
        problems: list[Problem] = []
        if host not in plan.of("host"):
            problems.append(Problem("there is no such host", field="host"))
        if not name or len(name) > 60:
            problems.append(Problem("a firewall needs a name of 1 to 60 letters", field="name"))
        elif plan.where("guest", "name", name):
            problems.append(Problem(f"a guest is called {name} already", field="name"))
        if outside not in plan.of("segment"):
            problems.append(Problem("there is no such segment", field="outside"))
        if problems:
            raise PlanError(problems)
        self.outside: Segment = plan.get("segment", outside)
        self.nic = self._free_nic(nic)
        self.net = self._subnet(subnet)
        self.behind = [self._adapter(id) for id in dict.fromkeys(guests)]
        if len(self.behind) + 1 > self.net.num_addresses - 2:
            text = f"{self.net} has no room for {len(self.behind)} guests and the firewall"
            raise PlanError([Problem(text, field="subnet")])

    def _free_nic(self, id: str) -> Nic | None:
        if not id:
            return None
        nic: Nic | None = self.plan.of("nic").get(id)
        if nic is None or nic.host != self.host:
            raise PlanError([Problem("the host has no such NIC", field="nic")])
        if nic.uplink or nic.addresses or not isinstance(far_end(self.plan, id), FabricPort):
            why = "is in use" if nic.uplink or nic.addresses else "isn’t plugged into a switch"
            raise PlanError([Problem(f"{nic.name} {why}", field="nic")])
        return nic

    def _subnet(self, text: str) -> IPv4Network:
        try:
            net = ip_network(text)
        except ValueError:
            net = None
        if not isinstance(net, IPv4Network) or net.prefixlen > 29 or net.prefixlen < 16:
            raise PlanError(
                [Problem("a subnet of IPv4 from /16 to /29 is needed, such as 10.79.1.0/24", field="subnet")]
            )
        for segment in self.plan.all(Segment):
            for other in map(ip_network, segment.subnets):
                if other.version == 4 and other.overlaps(net):
                    raise PlanError([Problem(f"{net} overlaps with {segment.name}, {other}", field="subnet")])
        return net

    def _adapter(self, id: str) -> Adapter:
        """The one adapter of a guest that goes behind the firewall."""
        plan, guest = self.plan, self.plan.of("guest").get(id)
        if guest is None:
            raise PlanError([Problem("there is no such guest", field="guests")])
        if guest.host != self.host:
            where = plan.get("host", guest.host).name
            raise PlanError([Problem(f"{guest.name} is on {where}", field="guests")])
        own: list[Adapter] = [a for a in plan.where("adapter", "guest", id) if a.type != "direct"]
        facing = [a for a in own if a.belongs == self.outside.id] or own
        if guest.routes or len(facing) != 1 or plan.where("guest_tag", "adapter", facing[0].id):
            why = (
                "forwards"
                if guest.routes
                else "has no adapter, or several, or tags of its own, so which is meant isn’t known"
            )
            raise PlanError([Problem(f"{guest.name} {why}", field="guests")])
        return facing[0]

    def made(self) -> Brought:
        """The edit, and what it does in a sentence."""
        plan, name = self.plan, self.name
        hosts = self.net.hosts()
        gate = f"{next(hosts)}/{self.net.prefixlen}"
        segment = Segment(
            id=plan.fresh_id(f"segment-behind-{name}"),
            name=free_name(f"behind {name}", {s.name for s in plan.all(Segment)}),
            role="production",
            subnets=(str(self.net),),
            gateways=(gate.partition("/")[0],),
        )
        address = next_free_address(plan, self.outside)
        if address is None:
            raise PlanError([Problem(f"{self.outside.name} has no subnet with a free address", field="outside")])
        made: list[Operation] = [Put(segment)]
        out, more = self._out()
        made += more
        sealed, inner = self._inside(segment)
        made += [Put(sealed), Put(inner)]
        guest = Guest(id=plan.fresh_id(f"guest-{name}"), host=self.host, name=name, routes=True)
        taken = {*self.judgement.wiring.macs}
        legs = []
        for order, (end, group, belongs, own) in enumerate(
            (("out", out, self.outside.id, address), ("in", inner.id, segment.id, gate))
        ):
            id = plan.fresh_id(f"adapter-{name}-{end}")
            mac = fresh_mac(taken, id)
            taken.add(mac)
            tap = f"tap-{name}-{end}"
            legs.append(
                Adapter(
                    id=id,
                    guest=guest.id,
                    name=tap,
                    port_group=group,
                    mac=mac,
                    belongs=belongs,
                    addresses=(own,),
                    order=order,
                )
            )
        made += [
            Put(guest),
            *map(Put, legs),
            Put(Translation(id=plan.fresh_id(f"{legs[0].id}-translation"), at=legs[0].id)),
        ]
        made.append(
            Put(
                FilterLine(
                    id=plan.fresh_id(f"filter-{name}"),
                    of=guest.id,
                    action="deny",
                    enters=legs[0].id,
                    leaves=legs[1].id,
                    note="what nobody inside has asked for",
                )
            )
        )
        for adapter in self.behind:
            own = f"{next(hosts)}/{self.net.prefixlen}"
            words = {
                "port_group": inner.id,
                "belongs": segment.id,
                "addresses": [own],
                "addressing": "static",
                "addressing6": "static",
            }
            made.append(Patch("adapter", adapter.id, words))
        return Brought((*made, *self._rule(segment, guest)), self._says(tuple(made), segment, guest))

    def _out(self) -> tuple[str, list[Operation]]:
        """The port group (id) by which the firewall gets out, and what makes it."""
        plan, outside = self.plan, self.outside
        if self.nic is None:
            if outside.vid is None:
                return self._untagged(), []
            made, left = offering(plan, outside, [self.host])
            if left:
                raise PlanError(
                    [Problem(f"{called(plan, plan.get('host', self.host))} has no switch with a way out", field="host")]
                )
            after = apply_edit(plan, tuple(made))[0] if made else plan
            switches = {s.id for s in plan.where("virtual_switch", "host", self.host)}
            groups = [
                g for g in after.where("port_group", "vid", outside.vid) if g.switch in switches and g.mode == "access"
            ]
            return min(g.id for g in groups), made
        port = far_end(plan, self.nic.id)
        assert isinstance(port, FabricPort)
        switch = self._switch("outside")
        bare = outside.vid is None or port.mode == "access" or port.native == outside.vid
        uplink = Uplink(
            id=plan.fresh_id(f"{switch.id}/{self.nic.name}"),
            switch=switch.id,
            name="outside",
            allowed="0" if bare else str(outside.vid),
        )
        group = PortGroup(
            id=plan.fresh_id(f"{switch.id}/{outside.name}"),
            switch=switch.id,
            name=outside.name,
            mode="untagged" if bare else "access",
            vid=None if bare else outside.vid,
        )
        made = [Put(switch), Put(uplink), Put(group), Patch("nic", self.nic.id, {"uplink": uplink.id})]
        let = None if bare else letting(port, {outside.vid or 0})
        if port.mode == "access" and outside.vid is not None and port.vid != outside.vid:
            # Nobody uses the NIC, so nobody uses its port.
            let = Patch("fabric_port", port.id, {"vid": outside.vid})
        return group.id, [*made, *([let] if let is not None else [])]

    def _untagged(self) -> str:
        """The port group of the host in which others of the outside segment sit, where it has no VID."""
        plan = self.plan
        there = {s.id for s in plan.where("virtual_switch", "host", self.host)}
        seats = {a.port_group for a in plan.where("adapter", "belongs", self.outside.id) if a.port_group}
        groups: list[str] = sorted(id for id in seats if plan.get("port_group", id).switch in there)
        if not groups:
            text = f"{self.outside.name} has no VID, and nobody of it is on this host: choose a NIC"
            raise PlanError([Problem(text, field="nic")])
        return groups[0]

    def _switch(self, side: str) -> VirtualSwitch:
        """A switch of its own at one side of it, on which the host itself doesn't answer."""
        names = {s.name for s in self.plan.where("virtual_switch", "host", self.host)}
        id = self.plan.fresh_id(f"{self.host}/{self.name}-{side}")
        return VirtualSwitch(id=id, host=self.host, name=free_name(f"{self.name}-{side}", names), answers=False)

    def _inside(self, segment: Segment) -> tuple[VirtualSwitch, PortGroup]:
        plan, switch = self.plan, self._switch("inside")
        return switch, PortGroup(
            id=plan.fresh_id(f"{switch.id}/inside"), switch=switch.id, name=segment.name, mode="untagged"
        )

    def _rule(self, segment: Segment, guest: Guest) -> Iterator[Operation]:
        """That whoever is inside gets out by the firewall alone, where the plan says what is outside."""
        if self._lending():
            text = f"let segment {quoted(segment.name)} reach outside only through guest {quoted(guest.name)}"
            yield Put(Rule(id=self.plan.fresh_id(f"rule-{guest.id}"), text=text))

    def _lending(self) -> list[Outside]:
        """The outside networks that are handed over on the outside segment."""
        return [o for o in self.plan.all(Outside) if self.outside.id in handed_over(self.plan, o)]

    def _says(self, made: tuple[Operation, ...], segment: Segment, guest: Guest) -> str:
        """What it does; whether the rule holds; and how many addresses are taken of those that are lent."""
        plan, edit = self.plan, (*made, *self._rule(segment, guest))
        who = some(plan.get("guest", a.guest).name for a in self.behind)
        said = f"Put {who or 'nobody yet'} behind {self.name}"
        after = judged_after(self.judgement, edit)
        for op in self._rule(segment, guest) if self.behind else ():
            assert isinstance(op, Put) and isinstance(op.record, Rule)
            answer = asked(after).ask(op.record.text)
            said += (
                ""
                if answer.outcome == HOLDS
                else f"; that they reach outside only through it isn’t so yet: {answer.text.rstrip('.')}"
            )
        for outside in self._lending():
            before, now = (sum(map(len, taken_there(p, outside))) for p in (plan, after.plan))
            of = f" of the {outside.lends} lent" if outside.lends is not None else ""
            said += f"; {outside.name} sees {now} addresses in place of {before}{of}"
        return said

"""Teams: which NICs of an uplink carry, in which order, and what the far side's LAGs make of them."""

from __future__ import annotations

from dataclasses import replace

from aptwire.forward.fabric import least
from aptwire.forward.parts import Link, Member, Team
from aptwire.forward.portrules import PortRules
from aptwire.forward.rules import PortRule
from aptwire.forward.wiring import Wiring
from aptwire.plan.kinds import FabricPort, Nic, Uplink
from aptwire.plan.sharing import nics_of, ports_together, whole_lag


class Teams:
    """Makes the teams of uplinks, while one plan is compiled."""

    def __init__(self, wiring: Wiring, rules: PortRules) -> None:
        self.wiring = wiring
        self.plan = wiring.plan
        self.book = wiring.book
        self.rules = rules

    def beside(self, nic: Nic) -> list[Nic] | None:
        """The NICs over which the far side's LAG may send what is for a NIC's virtual functions; None: it blocks the NIC's port.

        What comes in over another NIC of the team gets to the virtual switch, and never back to the NIC's own (IEEE 802.1AX
        clause 6.2: a LAG is one port).
        """
        plan = self.plan
        port, uplink = self.wiring.port_behind(nic.id), plan.of("uplink").get(nic.uplink)
        lag = plan.of("lag").get(port.lag) if port is not None else None
        if lag is None:
            return []
        if not lag.lacp:
            ends = [self.wiring.far.get(p.id, ("", ""))[0] for p in ports_together(plan, lag.id) if p.enabled]
            found = [plan.of("nic").get(end) for end in sorted(ends)]
            return [n for n in found if n is not None and n.id != nic.id and n.link == "up"]
        if uplink is not None and uplink.mode == "lacp":
            bridge = self.wiring.bridge_of[uplink.switch].number
            team = self.team(uplink, bridge, nics_of(plan, uplink), "")
            whole = whole_lag(plan, lag.id)
            together = [m.nic for m in team.members if not m.dead and self.lag_of(m.nic) in whole]
            if nic in together:
                return [n for n in together if n is not nic and isinstance(n, Nic)]
        return [] if lag.individual else None

    def far_end(self, nic: Nic) -> tuple[int, PortRule, tuple[str, ...], str | None, int] | str | None:
        """What a NIC is plugged into: bridge, rule, records, cable, MTU; None: nobody knows; text: why nothing passes there."""
        wiring, plan = self.wiring, self.plan
        if nic.link == "down":
            return "has no link"
        other, cable = wiring.far.get(nic.id, (None, None))
        if other is None:
            found = plan.where("assumed_fabric", "site", plan.get("host", nic.host).site)
            if not found:
                return None
            return (wiring.bridge_of[found[0].id].number, self.book.assumed(found[0]), (found[0].id,), None, 0)
        port = plan.of("fabric_port").get(other)
        if port is not None:
            if not port.enabled:
                return f"is plugged into port {port.name}, which is disabled"
            mtu = least(port.mtu, plan.get("fabric_switch", port.switch).mtu)
            return (wiring.bridge_of[port.switch].number, self.rules.fabric_port(port.id), (port.id,), cable, mtu)
        peer = plan.get("nic", other)
        if peer.uplink is None or peer.link == "down":
            return f"is plugged into {peer.name}, which is in no uplink or has no link"
        assert cable is not None
        return (wiring.bridge_of[cable].number, self.book.wire(), (), cable, least(peer.mtu))

    def _member(self, bridge: int, uplink: Uplink, nic: Nic, role: str, order: str) -> Member:
        mine = (uplink.id, nic.id)
        if role == "excluded":
            return Member(nic, None, open=False, dead="is excluded", excluded=True)
        if nic.wireless and (order or self.wiring.bridges[bridge].crossing_row >= 0):
            return Member(nic, None, open=False, dead="is wireless and sends with the host’s own address only")
        rule = self.rules.uplink(uplink, wireless=nic.wireless)
        key = f"{uplink.id}>{nic.id}"
        functions = self.wiring.bridge_of.get(nic.id)
        if functions is not None and nic.link == "up":
            ends = (bridge, functions.number)
            return Member(
                nic, Link(key, ends, (rule, self.book.wire()), (mine, ()), None, nic.id, least(nic.mtu)), open=False
            )
        far = self.far_end(nic)
        if isinstance(far, str):
            return Member(nic, None, open=False, dead=far)
        if far is None:
            return Member(nic, None, open=True)
        other, far_rule, records, cable, mtu = far
        link = Link(key, (bridge, other), (rule, far_rule), (mine, records), cable, nic.id, least(nic.mtu, mtu))
        return Member(nic, link, open=False)

    def lag_of(self, nic: Nic | FabricPort) -> str | None:
        port = self.wiring.port_behind(nic.id)
        return port.lag if port is not None else None

    def _aggregated(self, uplink: Uplink, members: list[Member]) -> list[Member]:
        """What the far side's LAGs make of a team (IEEE 802.1AX clause 6.3): who is blocked, who gets answers over another NIC."""
        lags = {m.nic.id: self.plan.of("lag").get(self.lag_of(m.nic)) for m in members if isinstance(m.nic, Nic)}
        if not any(lags.values()) and uplink.mode != "lacp":
            return members
        # LAGs of two switches that are one go by the name of the first.
        one = {
            nic: next(iter(whole_lag(self.plan, lag.id if lag is not None else None)), "") for nic, lag in lags.items()
        }
        made: list[Member] = []
        best = ""
        if uplink.mode == "lacp":
            spoken = [one[m.nic.id] for m in members if m.link and (lag := lags[m.nic.id]) is not None and lag.lacp]
            best = max(dict.fromkeys(spoken), key=spoken.count, default="")
        together = [m for m in members if m.link and lags[m.nic.id] is not None and one[m.nic.id] == best]
        speeds = [m.nic.speed for m in together if m.nic.speed]
        pace = max(dict.fromkeys(speeds), key=speeds.count, default=None)
        for member in members:
            lag = lags[member.nic.id]
            if member.link is None:
                made.append(member)
            elif uplink.mode == "lacp" and best and (lag is None or one[member.nic.id] != best):
                made.append(Member(member.nic, None, open=False, dead="is not in the LAG of the others"))
            elif uplink.mode == "lacp" and best and pace and member.nic.speed not in (None, pace):
                made.append(Member(member.nic, None, open=False, dead="does another speed than the rest of the LAG"))
            elif uplink.mode != "lacp" and lag is not None and lag.lacp and not lag.individual:
                made.append(
                    Member(member.nic, None, open=False, dead=f"gets no LACP answer, so {lag.name} blocks its port")
                )
            else:
                made.append(member)
        one_carries = uplink.mode in ("standby", "pinned") or (uplink.mode == "lacp" and not best)
        for member in list(made) if one_carries else ():
            lag = lags[member.nic.id]
            same = [m for m in made if lag is not None and m.link and one[m.nic.id] == one[member.nic.id]]
            if member.link is None or lag is None or lag.lacp or len(same) < 2:
                continue
            assert isinstance(member.nic, Nic)
            rule = self.rules.uplink(uplink, wireless=member.nic.wireless, one_way=True)
            link = member.link
            back = replace(link, key=f"{link.key}<", rules=(rule, link.rules[1]), back_over=member.nic.id)
            made.append(Member(member.nic, back, open=False, one_way=True))
        return made

    def team(self, uplink: Uplink, bridge: int, nics: list[Nic], order: str) -> Team:
        own = {o.nic: o for o in self.plan.where("group_order", "port_group", order)} if order else {}

        def role(nic: Nic) -> str:
            return own[nic.id].role if nic.id in own else nic.role

        def place(nic: Nic) -> tuple[object, ...]:
            dead = nic.link == "down" or role(nic) == "excluded"
            first = nic.id != uplink.carries if not own else False
            rank = own[nic.id].rank if nic.id in own else nic.rank
            return (dead, first, role(nic) != "active", rank, nic.name, nic.id)

        members = [self._member(bridge, uplink, nic, role(nic), order) for nic in sorted(nics, key=place)]
        members = self._aggregated(uplink, members)
        members.sort(key=lambda m: (bool(m.dead), m.one_way))
        return Team(uplink, bridge, self.rules.uplink(uplink), tuple(members), sum(not m.dead for m in members), order)

"""Roles that rest on too little, and teams that don't fit the far side's LAGs."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property, partial
from typing import Any

from aptwire.forward.parts import Member, Team
from aptwire.forward.trace import Hop
from aptwire.judge.facts import Facts
from aptwire.judge.risks.base import RISK, Risk, RiskSearch, naming, port_text
from aptwire.plan.edits import Edit, Operation, Patch, Put
from aptwire.plan.kinds import (
    FabricPort,
    Lag,
    Nic,
    Uplink,
)
from aptwire.plan.names import called, some
from aptwire.plan.sharing import ports_together, whole_lag

ALIKE = (
    *("mode", "vid", "allowed", "native", "mtu"),
    *("pvid", "members", "untagged", "admits", "isolated", "reflects"),
)
"""What the ports of a LAG must have in common."""


class TeamRisks(RiskSearch):
    """Single NICs and cards, LAGs."""

    @cached_property
    def lonely(self) -> dict[str, tuple[str, str]]:
        """The fabric switches with a single way on, and its cable (id and words)."""
        joints = self.wiring.fabric.joints
        shape = self.kept.get("shape", (joints,), lambda: tuple((key, joint.ends) for key, joint in joints.items()))
        return self.kept.get("lonely switches", (shape, *naming(self, "cable")), self._lonely)

    def _lonely(self) -> dict[str, tuple[str, str]]:
        ways: dict[str, list[str]] = {}
        for joint in self.wiring.fabric.joints.values():
            for end in set(joint.ends):
                ways.setdefault(end, []).append(joint.key)
        single = {switch: keys[0] for switch, keys in ways.items() if len(keys) == 1}
        return {switch: (key, called(self.plan, self.plan.get("cable", key))) for switch, key in single.items()}

    def watching(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, Uplink]]:
        """A host's teams that watch their links alone, by the fabric switches over which they carry today."""
        for found in listed:
            for uplink, switches in found.carriers:
                for switch in sorted(switches):
                    yield switch, uplink

    def blind(self, switch: str, uplinks: list[Uplink]) -> Iterator[Risk]:
        """Standby and pinned teams that watch their links alone, over a fabric switch with a single way on: when that fails, their
        links stay up."""
        if switch in self.lonely:
            yield self._blind(switch, uplinks)

    def _blind(self, switch: str, uplinks: list[Uplink]) -> Risk:
        name = called(self.plan, self.plan.get("fabric_switch", switch))
        edit = tuple(Patch("uplink", u.id, {"detect": "probe"}) for u in uplinks)
        key, cable = self.lonely[switch]
        who = some((called(self.plan, u) for u in uplinks[:3]), count=len(uplinks))
        return Risk(
            RISK,
            "blind-failover",
            (switch,),
            f"{who} would not notice when {name} is cut off",
            f"{name} has a single way on, {cable}. Without it the links to the hosts stay up, and link detection sees nothing.",
            (*(u.id for u in uplinks), key),
            facts=partial(TeamRisks._blind_facts, uplinks=uplinks, switch=name),
            mends=((f"Let {who} probe", edit),),
        )

    def _blind_facts(self, uplinks: list[Uplink], switch: str) -> tuple[Hop, ...]:
        return tuple(self.fact(u.id, "failure seen by link", f"carries over {switch}") for u in uplinks[:20])

    def restless(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, Team]]:
        """A host's teams that are worth a second look."""
        for found in listed:
            for team in found.teams if not found.quiet else ():
                yield team.uplink.id, team

    def teamed(self, uplink: str, teams: list[Team]) -> Iterator[Risk]:
        """Teams that don't fit the far side's LAGs (IEEE 802.1AX), or their own NICs."""
        for team in teams:
            if isinstance(team.uplink, Uplink):
                yield from self._team(team, team.uplink)

    def lags(self) -> Iterator[Risk]:
        """LAGs whose ports differ."""
        for lag in sorted(self.plan.all(Lag), key=lambda record: record.id):
            whole = whole_lag(self.plan, lag.id)
            ports = sorted(ports_together(self.plan, lag.id), key=lambda p: p.id) if lag.id == whole[0] else []
            ways = {tuple(getattr(p, field) for field in ALIKE) for p in ports}
            if len(ways) > 1:
                name = some(called(self.plan, self.plan.get("lag", id)) for id in whole)
                edits = []
                for like in ports:
                    same = {field: getattr(like, field) for field in ALIKE}
                    rest = tuple(Patch("fabric_port", p.id, same) for p in ports if p is not like)
                    edits.append((f"Make every port of {name} like {like.name}", rest))
                yield Risk(
                    RISK,
                    "lag-differs",
                    (lag.id,),
                    f"The ports of {name} differ",
                    f"A flow may take any of {some(p.name for p in ports)}, and they don’t carry the same.",
                    tuple(p.id for p in ports),
                    facts=tuple(self.fact(p.id, port_text(p), "differs from the others") for p in ports),
                    mends=tuple(edits[:3]),
                )

    def joined_lags(self) -> Iterator[Risk]:
        """LAGs that don't fit each other (IEEE 802.1AX)."""
        for joint in self.wiring.fabric.joints.values():
            if joint.lags == (None, None):
                continue
            one, two = (self.plan.of("lag").get(id) for id in joint.lags)
            if (one is None) != (two is None) or (one is not None and two is not None and one.lacp != two.lacp):
                yield self._joint(joint.cables[0], one, two, joint.ports)

    def _joint(self, cable: str, one: Lag | None, two: Lag | None, ports: Any) -> Risk:
        names = [
            called(self.plan, lag) if lag is not None else called(self.plan, ports[n][0])
            for n, lag in enumerate((one, two))
        ]
        mends: list[tuple[str, Edit]] = []
        if one is not None and two is not None:
            text = "One negotiates by LACP, the other doesn’t: the ports stay single, or blocked."
            for end in (one, two):
                said = f"Make {called(self.plan, end)} {'static' if end.lacp else 'speak LACP'} too"
                mends.append((said, (Patch("lag", end.id, {"lacp": not end.lacp}),)))
        else:
            text = "One end is in a LAG, the other isn’t: frames may come back by a cable that nobody expects."
            for n, lag in enumerate((one, two)):
                if lag is not None:
                    port = ports[n][0]
                    mends.append(
                        (
                            f"Take {called(self.plan, port)} out of {lag.name}",
                            (Patch("fabric_port", port.id, {"lag": None}),),
                        )
                    )
        culprit = tuple(p[0].id for p in ports)
        facts = tuple(self.fact(id, name, "doesn’t fit the other end") for id, name in zip(culprit, names, strict=True))
        return Risk(
            RISK,
            "lag-mismatch",
            (cable,),
            f"{names[0]} and {names[1]} don’t fit each other",
            text,
            culprit,
            facts=facts,
            mends=tuple(mends),
        )

    def _team(self, team: Team, uplink: Uplink) -> Iterator[Risk]:
        name = called(self.plan, uplink)
        members = [
            m
            for m in team.members
            if isinstance(m.nic, Nic) and not m.one_way and m.nic.link == "up" and not m.excluded
        ]
        ports = [self.wiring.port_behind(m.nic.id) for m in members]
        known = [p for p in ports if p is not None]
        lags = [self.plan.of("lag").get(p.lag) for p in known]
        nics = tuple(m.nic.id for m in members)
        facts = tuple(
            self.fact(
                p.id,
                f"LAG {lag.name}{', LACP' if lag.lacp else ', static'}" if lag else "in no LAG",
                f"{name} is {uplink.mode}",
            )
            for p, lag in zip(known, lags, strict=True)
        )
        whole = {whole_lag(self.plan, p.lag) for p in known}
        one_lag = len(whole) == 1 and () not in whole
        if uplink.mode == "lacp" and known and not (one_lag and lags[0] is not None and lags[0].lacp):
            text = (
                "Without one LACP LAG at the far side a single NIC carries, and the others stand idle (IEEE 802.1AX)."
            )
            yield Risk(
                RISK,
                "lacp-alone",
                (uplink.id,),
                f"{name} speaks LACP, and the far side doesn’t answer as one LAG",
                text,
                (uplink.id, *(p.id for p in known)),
                facts=facts,
                mends=tuple(self._lag_mends(uplink, known, lacp=True)),
            )
        if uplink.mode in ("standby", "pinned") and any(lags):
            text = "The far side shares its frames among all ports of a LAG; those that reach a NIC that doesn’t carry are lost, or the port is blocked."
            mends: list[tuple[str, Edit]] = [
                (
                    f"Take {some(p.name for p in known if p.lag)} out of the LAG",
                    tuple(Patch("fabric_port", p.id, {"lag": None}) for p in known if p.lag),
                ),
            ]
            if one_lag and lags[0] is not None:
                mode = "lacp" if lags[0].lacp else "hashed"
                mends.append((f"Make {name} {mode}", (Patch("uplink", uplink.id, {"mode": mode}),)))
            yield Risk(
                RISK,
                "lag-alone",
                (uplink.id,),
                f"{name} is {uplink.mode}, and its ports are in a LAG",
                text,
                (uplink.id, *(p.id for p in known)),
                facts=facts,
                mends=tuple(mends),
            )
        if uplink.mode == "hashed" and len(known) > 1 and not (one_lag and lags[0] is not None and not lags[0].lacp):
            text = (
                "The far side sees one address at several ports, and doesn’t know where to send; it needs a static LAG."
            )
            yield Risk(
                RISK,
                "hash-without-lag",
                (uplink.id,),
                f"{name} hashes over ports that are no static LAG",
                text,
                (uplink.id, *(p.id for p in known)),
                facts=facts,
                mends=tuple(self._lag_mends(uplink, known, lacp=False)),
            )
        speeds = {m.nic.speed for m in members if m.nic.speed}
        if len(speeds) > 1:
            text = f"{some(f'{m.nic.name} does {m.nic.speed} Mbit/s' for m in members)}: a failover changes what fits through."
            if uplink.mode == "lacp":
                text = (
                    f"{some(f'{m.nic.name} does {m.nic.speed} Mbit/s' for m in members)}: only equal ones join one LAG."
                )
            yield Risk(
                RISK,
                "mixed-speed",
                (uplink.id,),
                f"{name} mixes NICs of different speeds",
                text,
                nics,
                facts=tuple(self.fact(m.nic.id, f"{m.nic.speed} Mbit/s", "differs") for m in members),
                mends=(self._one_pace(members),),
            )
        if uplink.mode == "standby" and not uplink.fail_back:
            yield from self._staying(team, name)
        if not uplink.announce and len(members) > 1:
            yield Risk(
                RISK,
                "silent-failover",
                (uplink.id,),
                f"{name} doesn’t announce a failover",
                "The fabric goes on sending to the old port until its tables forget, minutes later.",
                (uplink.id,),
                facts=(self.fact(uplink.id, "announce: no", "nobody is told"),),
                mends=((f"Let {name} announce a failover", (Patch("uplink", uplink.id, {"announce": True}),)),),
            )

    def _staying(self, team: Team, name: str) -> Iterator[Risk]:
        """A team that doesn't return, where another NIC is slower than the one that carries."""
        usable = [m.nic for m in team.members[: team.usable]]
        slower = [n for n in usable[1:] if n.speed and usable[0].speed and n.speed < usable[0].speed]
        if slower:
            first = usable[0].name
            paces = some(f"{n.name} does {n.speed} Mbit/s" for n in slower)
            yield Risk(
                RISK,
                "no-return",
                (team.uplink.id,),
                f"{name} stays on a slower NIC once {first} has failed",
                f"It doesn’t return to {first} when that is well again, and {paces}.",
                (team.uplink.id, *(n.id for n in slower)),
                facts=(
                    self.fact(team.uplink.id, "returns: no", "stays where it is"),
                    *(self.fact(n.id, f"{n.speed} Mbit/s", f"slower than {first}") for n in slower),
                ),
                mends=((f"Let {name} return to {first}", (Patch("uplink", team.uplink.id, {"fail_back": True}),)),),
            )

    def _one_pace(self, members: list[Member]) -> tuple[str, Edit]:
        """Only the NICs of the speed that gives the team the most stay in it."""
        rate: dict[int, int] = {}
        for member in members:
            if member.nic.speed:
                rate[member.nic.speed] = rate.get(member.nic.speed, 0) + member.nic.speed
        best = max(rate, key=lambda speed: (rate[speed], speed))
        out = [m.nic for m in members if m.nic.speed not in (None, best)]
        return (
            f"Leave {some(called(self.plan, nic) for nic in out)} out of the team",
            tuple(Patch("nic", nic.id, {"role": "excluded"}) for nic in out),
        )

    def _lag_mends(self, uplink: Uplink, ports: list[FabricPort], lacp: bool) -> Iterator[tuple[str, Edit]]:
        switches = {p.switch for p in ports}
        if len(switches) == 1 and len(ports) > 1:
            lag = next((self.plan.get("lag", p.lag) for p in ports if p.lag), None)
            made = lag or Lag(
                id=f"lag:{uplink.id}"[:110], switch=ports[0].switch, name=f"{uplink.id.replace('/', '-')}"[:80]
            )
            edit: list[Operation] = [Put(made)] if lag is None and self.plan.find(made.id) is None else []
            edit.append(Patch("lag", made.id, {"lacp": lacp}))
            edit.extend(Patch("fabric_port", p.id, {"lag": made.id}) for p in ports if p.lag != made.id)
            kind = "an LACP LAG" if lacp else "a static LAG"
            yield f"Put {some(called(self.plan, p) for p in ports)} into {kind}", tuple(edit)
        if len(switches) == 2 and all(p.lag for p in ports):
            yield from self.made_one(ports, lacp, "hosts")
        yield f"Make {called(self.plan, uplink)} standby", (Patch("uplink", uplink.id, {"mode": "standby"}),)

"""Roles that share what they should not or rest on too little, and teams that don't fit the far side's LAGs."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any

from aptwire.forward.parts import Member, Team
from aptwire.forward.trace import Hop
from aptwire.judge.book import Grouping
from aptwire.judge.facts import Facts
from aptwire.judge.kept import Rests
from aptwire.judge.risks.base import RISK, UNTIDY, Risk, RiskSearch, free_nic, naming, port_text
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import (
    Cable,
    FabricPort,
    Lag,
    Nic,
    Segment,
    Separation,
    Uplink,
    VirtualSwitch,
)
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan

ALIKE = (
    *("mode", "vid", "allowed", "native", "mtu"),
    *("pvid", "members", "untagged", "admits", "isolated", "reflects"),
)
"""What the ports of a LAG must have in common."""


@dataclass(frozen=True)
class Side:
    """One end of a separation: a role, or a segment (id)."""

    role: str = ""
    segment: str = ""

    def of(self, facts: Facts) -> set[int] | None:
        """The VIDs that it uses on a switch; None: it isn't there."""
        return facts.segments.get(self.segment) if self.segment else facts.roles.get(self.role)

    def has(self, plan: Plan, segment: str | None) -> bool:
        """Whether what belongs on a segment is of it."""
        if segment is None:
            return False
        return segment == self.segment if self.segment else plan.get("segment", segment).role == self.role


LEVELS = ("vid", "switch", "uplink", "nic")
LEVELS_SAID = {"vid": "a VID", "switch": "a virtual switch", "uplink": "an uplink", "nic": "a NIC"}


class TeamRisks(RiskSearch):
    """Separations, single NICs and cards, LAGs."""

    def roles_of_host(self, listed: tuple[Facts, ...]) -> Iterator[tuple[str, bool]]:
        """The roles of what sits on a host."""
        for role in {role for found in listed for role in found.roles}:
            yield role, True

    def shared_on(self, listed: tuple[Facts, ...]) -> Iterator[tuple[tuple[str, str], tuple[str, str]]]:
        """What roles or segments that a separation keeps apart share on a host: the separation and the level, the host and what is shared."""
        for rule, sides in self._rules:
            a, b = (self._uses(listed, side) for side in sides)
            for level in reversed(LEVELS[: LEVELS.index(rule.share) + 1]):
                common = a[level] & b[level]
                if common:
                    yield (rule.id, level), (listed[0].host, min(common))
                    break

    def shared(self, key: tuple[str, str], where: list[tuple[str, str]]) -> Iterator[Risk]:
        """Roles or segments that share what a separation keeps apart."""
        rule, level = self.plan.get("separation", key[0]), key[1]
        names = some(self.host(h) for h, _ in sorted(where))
        told = sorted({id if level != "vid" else f"VID {id}" for _, id in where})
        culprit = tuple(id for id in told if self.plan.find(id) is not None)
        yield Risk(
            RISK,
            "shared",
            (rule.id, level),
            f"{rule.a} and {rule.b} share {LEVELS_SAID[level]} on {names}",
            f"They were to be kept apart. {some(called(self.plan, self.plan.find(i)) if self.plan.find(i) else i for i in told)} carries both.",
            culprit,
            facts=tuple(self.fact(id, f"{rule.a}, {rule.b}", "carries both") for id in culprit),
            mends=partial(TeamRisks._split, rule=rule, hosts=[h for h, _ in where]),
        )

    def separations(self) -> Iterator[Risk]:
        """Separations of what isn't there."""
        for rule in sorted(self.plan.all(Separation), key=lambda s: s.id):
            missing = [word for word in (rule.a, rule.b) if self._side(word) is None]
            if missing:
                yield self._of_nothing(rule, missing)

    @cached_property
    def _rules(self) -> list[tuple[Separation, list[Side]]]:
        """The separations with the two that each keeps apart."""
        rules = sorted(self.plan.all(Separation), key=lambda s: s.id)
        found = [(rule, [self._side(word) for word in (rule.a, rule.b)]) for rule in rules]
        return [(rule, [side for side in sides if side is not None]) for rule, sides in found if None not in sides]

    def _of_nothing(self, rule: Separation, missing: list[str]) -> Risk:
        words = some(f"“{word}”" for word in missing)
        return Risk(
            UNTIDY,
            "shared",
            (rule.id,),
            f"{words} {'is' if len(missing) == 1 else 'are'} to be kept apart, and nothing is called so",
            "No segment has that role or name, and no host port that service: nothing is checked.",
            (rule.id,),
            facts=(self.fact(rule.id, words, "neither a role nor a segment"),),
            mends=(("Take the separation away", (Drop("separation", rule.id),)),),
        )

    @cached_property
    def _roles(self) -> set[str]:
        """Every role that something has."""
        found = {str(role) for role in self.book.grouped(ROLES, self).by_key}
        return found | {segment.role for segment in self.plan.all(Segment)} - {""}

    def _side(self, word: str) -> Side | None:
        """Whom one end of a separation means: a role, or else the segment called so."""
        if word in self._roles:
            return Side(role=word)
        named = self.plan.where("segment", "name", word)
        return Side(segment=named[0].id) if named else None

    def _uses(self, switches: tuple[Facts, ...], side: Side) -> dict[str, set[str]]:
        own = [(f, vids_) for f in switches if (vids_ := side.of(f)) is not None]
        nics = {m.nic.id for f, _ in own for t in f.teams for m in t.members}
        for found in switches[:1]:
            for nic in self.plan.where("nic", "host", found.host):
                for adapter in self.plan.where("adapter", "function_of", nic.id):
                    if side.has(self.plan, adapter.belongs):
                        nics.add(nic.id)
        return {
            "vid": {str(v) for _, vids_ in own for v in vids_ if v},
            "switch": {f.switch for f, _ in own},
            "uplink": {t.uplink.id for f, _ in own for t in f.teams},
            "nic": nics,
        }

    def _split(self, rule: Separation, hosts: list[str]) -> tuple[tuple[str, Edit], ...]:
        """A switch of its own for one of the two, on a NIC that is free on every host."""
        offers: list[tuple[str, Edit]] = []
        for word in (rule.a, rule.b):
            side = self._side(word)
            edit: list[Operation] = []
            for host in hosts:
                made = split_off(self.plan, host, word, side) if side is not None else None
                if made is None:
                    break
                edit.extend(made)
            else:
                title = f"Give {word} a switch and a free NIC of its own on {some(map(self.host, sorted(hosts)))}"
                offers.append((title, tuple(edit)))
        return tuple(offers)

    @property
    def separating(self) -> Rests:
        """What separations are about."""
        if not self.plan.of("separation"):
            return ()
        return (
            tuple(self.plan.of(kind) for kind in ("separation", "segment", "nic"))
            + self.functions
            + tuple(sorted(self._roles))
        )

    @cached_property
    def lonely(self) -> dict[str, tuple[str, str]]:
        """The fabric switches with a single way on, and its cable (id and words)."""
        shape = tuple((key, joint.ends) for key, joint in self.wiring.fabric.joints.items())
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
            ports = sorted(self.plan.where("fabric_port", "lag", lag.id), key=lambda p: p.id)
            ways = {tuple(getattr(p, field) for field in ALIKE) for p in ports}
            if len(ways) > 1:
                name = called(self.plan, lag)
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
        one_lag = len(lags) > 0 and lags[0] is not None and all(lag is lags[0] for lag in lags)
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
        yield f"Make {called(self.plan, uplink)} standby", (Patch("uplink", uplink.id, {"mode": "standby"}),)


ROLES: Grouping[TeamRisks, Risk] = Grouping("roles", TeamRisks.roles_of_host)


def split_off(plan: Plan, host: str, word: str, side: Side) -> list[Operation] | None:
    """The operations that give the host ports of one end of a separation, and the port groups that only its guests use, a switch of
    their own on a free NIC; None where there is none."""
    cabled = {end for cable in plan.all(Cable) for end in (cable.a, cable.b)}
    nic = free_nic(plan, host, cabled)
    ports = [
        p
        for s in plan.where("virtual_switch", "host", host)
        for p in plan.where("host_port", "switch", s.id)
        if side.role in p.services or side.has(plan, p.belongs)
    ]
    groups = [
        g
        for s in plan.where("virtual_switch", "host", host)
        for g in plan.where("port_group", "switch", s.id)
        if g.mode != "overlay" and not plan.where("group_order", "port_group", g.id) and _only(plan, g.id, side)
    ]
    name = f"{word[:79]}0"
    id = make_id(f"{host}/{name}")
    if nic is None or not (ports or groups) or plan.find(id) is not None:
        return None
    uplink = f"{id}/{nic.name}"
    return [
        Put(VirtualSwitch(id=id, host=host, name=name)),
        Put(Uplink(id=uplink, switch=id, name=nic.name)),
        Patch("nic", nic.id, {"uplink": uplink, "role": "active", "rank": 0}),
        *(Patch("host_port", p.id, {"switch": id}) for p in ports),
        *(Patch("port_group", g.id, {"switch": id}) for g in groups),
    ]


def _only(plan: Plan, group: str, side: Side) -> bool:
    """Whether a port group's adapters, tags of their guests included, all belong to one end of a separation; False without any."""
    adapters = plan.where("adapter", "port_group", group)
    tags = [t for a in adapters for t in plan.where("guest_tag", "adapter", a.id)]
    segments = {r.belongs for r in (*adapters, *tags)} - {None}
    return bool(segments) and all(side.has(plan, s) for s in segments)

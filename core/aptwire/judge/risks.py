"""Risks: what a verdict doesn't tell, since nobody suffers yet; and what is untidy.

Each risk names the records where it sits and brings the edits that would mend it; whether an edit does is found by
trying it (`judge/mends.py`).
"""

from __future__ import annotations

import hashlib
import ipaddress
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np

from aptwire.forward.domains import core_links, crossing, solve
from aptwire.forward.fabric import least, loops
from aptwire.forward.parts import Link, Team
from aptwire.forward.trace import Hop
from aptwire.judge.facts import End, Facts, all_facts
from aptwire.judge.verdicts import Judgement
from aptwire.plan import vids
from aptwire.plan.edits import Drop, Edit, Operation, Patch, Put
from aptwire.plan.kinds import Adapter, FabricPort, Lag, Nic, PortGroup, Uplink, VirtualSwitch
from aptwire.plan.names import called
from aptwire.plan.plan import Plan

RISK, UNTIDY = "risk", "untidy"
GRAVITY = (UNTIDY, RISK)


@dataclass(frozen=True)
class Risk:
    """Something that will hurt, or that nobody needs.

    `id` stays the same as long as it does; `culprit` the records where it sits; `endpoints` those whom it would hurt, as
    far as they are known; `facts` its proof; `mends` titles and edits worth trying.
    """

    verdict: str
    what: str
    key: tuple[str, ...]
    title: str
    text: str
    culprit: tuple[str, ...]
    endpoints: tuple[str, ...] = ()
    segment: str | None = None
    facts: tuple[Hop, ...] | Callable[[], tuple[Hop, ...]] = field(default=(), compare=False)
    mends: tuple[tuple[str, Edit], ...] | Callable[[], tuple[tuple[str, Edit], ...]] = field(default=(), compare=False)
    idle: bool = False

    @property
    def id(self) -> str:
        """The same as long as the same thing is at risk."""
        return hashlib.sha256(repr((self.what, self.key)).encode()).hexdigest()[:12]

    def proof(self) -> tuple[Hop, ...]:
        """The facts that it rests on."""
        return self.facts() if callable(self.facts) else self.facts

    def offers(self) -> tuple[tuple[str, Edit], ...]:
        """The edits worth trying; large ones are written only when somebody asks."""
        return self.mends() if callable(self.mends) else self.mends

    def to_json(self, judgement: Judgement) -> dict[str, object]:
        """The risk for a program, as findings are told."""
        return {
            "id": self.id,
            "verdict": self.verdict,
            "what": self.what,
            "title": self.title,
            "text": self.text,
            "endpoints": list(self.endpoints),
            "segment": self.segment,
            "culprit": list(self.culprit),
            "state": "now",
            "idle": self.idle,
        }


def risks(judgement: Judgement) -> list[Risk]:
    """All risks, those that will hurt first."""
    finder = _Risks(judgement)
    made = [risk for search in SEARCHES for risk in search(finder)]
    return sorted(made, key=lambda r: (-GRAVITY.index(r.verdict), r.what, r.title, r.id))


def some(names: Iterable[str], most: int = 3) -> str:
    """Names as a sentence lists them: "a, b and 4 more"."""
    listed = list(dict.fromkeys(names))
    if len(listed) <= most:
        return " and ".join([", ".join(listed[:-1]), listed[-1]] if len(listed) > 1 else listed)
    return f"{', '.join(listed[: most - 1])} and {len(listed) - most + 1} more"


class _Risks:
    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.wiring = judgement.wiring
        self.plan = judgement.plan
        self.facts = list(all_facts(self.wiring, judgement.subnets))

    def host(self, id: str) -> str:
        return str(self.plan.get("host", id).name)

    def fact(self, id: str, rule: str, reason: str) -> Hop:
        """A line of a proof."""
        return Hop((id,), called(self.plan, self.plan.find(id)), "", "", rule, "astray", reason)

    # --- apart --------------------------------------------------------------------------------------------------

    def shared(self) -> Iterator[Risk]:
        """Roles that share what a separation keeps apart."""
        levels = ("vid", "switch", "uplink", "nic")
        words = {"vid": "a VID", "switch": "a virtual switch", "uplink": "an uplink", "nic": "a NIC"}
        hosts: dict[str, list[Facts]] = {}
        rules = sorted(self.plan.all("separation"), key=lambda s: s.id)
        for found in self.facts if rules else ():
            hosts.setdefault(found.host, []).append(found)
        for rule in rules:
            bad: dict[str, list[tuple[str, str]]] = {}
            for host, switches in hosts.items():
                a, b = (self._uses(switches, role) for role in (rule.a, rule.b))
                for level in reversed(levels[: levels.index(rule.share) + 1]):
                    common = a[level] & b[level]
                    if common:
                        bad.setdefault(level, []).append((host, min(common)))
                        break
            for level, where in bad.items():
                names = some(self.host(h) for h, _ in sorted(where))
                told = sorted({id if level != "vid" else f"VID {id}" for _, id in where})
                culprit = tuple(id for id in told if self.plan.find(id) is not None)
                yield Risk(
                    RISK,
                    "shared",
                    (rule.id, level),
                    f"{rule.a} and {rule.b} share {words[level]} on {names}",
                    f"They were to be kept apart. {some(called(self.plan, self.plan.find(i)) if self.plan.find(i) else i for i in told)} carries both.",
                    culprit,
                    facts=tuple(self.fact(id, f"{rule.a}, {rule.b}", "carries both roles") for id in culprit),
                    mends=tuple(self._split(rule.a, rule.b, [h for h, _ in where])),
                )

    def _uses(self, switches: list[Facts], role: str) -> dict[str, set[str]]:
        own = [f for f in switches if role in f.roles]
        nics = {m.nic.id for f in own for t in f.teams for m in t.members}
        for found in switches[:1]:
            for nic in self.plan.where("nic", "host", found.host):
                for adapter in self.plan.where("adapter", "function_of", nic.id):
                    segment = self.plan.of("segment").get(adapter.belongs)
                    if segment is not None and segment.role == role:
                        nics.add(nic.id)
        return {
            "vid": {str(v) for f in own for v in f.roles[role] if v},
            "switch": {f.switch for f in own},
            "uplink": {t.uplink.id for f in own for t in f.teams},
            "nic": nics,
        }

    def _split(self, a: str, b: str, hosts: list[str]) -> Iterator[tuple[str, Edit]]:
        """A switch of its own for one of the roles, on a NIC that is free on every host."""
        for role in (a, b):
            edit: list[Operation] = []
            for host in hosts:
                made = split_off(self.plan, host, role)
                if made is None:
                    break
                edit.extend(made)
            else:
                yield (
                    f"Give {role} a switch and a free NIC of its own on {some(map(self.host, sorted(hosts)))}",
                    tuple(edit),
                )

    def thin(self) -> Iterator[Risk]:
        """Roles that rest on a single NIC, or on NICs of one card; hosts with the same roles on it share a risk."""
        single: dict[tuple[str, ...], list[Team]] = {}
        card: dict[tuple[str, ...], list[Team]] = {}
        for found in self.facts:
            roles = tuple(sorted(found.roles))
            for team in found.teams if roles else ():
                nics = [m.nic for m in team.members[: team.usable] if isinstance(m.nic, Nic) and not m.one_way]
                if len(nics) == 1:
                    single.setdefault(roles, []).append(team)
                elif len(nics) > 1 and nics[0].card and len({n.card for n in nics}) == 1:
                    card.setdefault(roles, []).append(team)
        for roles, teams in sorted(single.items()):
            edit: list[Operation] = []
            for team in teams:
                free = self._free_nic(self._team_host(team))
                if free is not None:
                    edit.append(Patch("nic", free.id, {"uplink": team.uplink.id, "role": "standby", "rank": 1}))
            title = f"Add a free NIC to {some(called(self.plan, t.uplink) for t in teams)}"
            made = ((title, tuple(edit)),) if len(edit) == len(teams) else ()
            yield self._thin(
                "single-nic", roles, teams, "a single NIC", "When it or its port fails, they are gone.", made
            )
        for roles, teams in sorted(card.items()):
            text = "All NICs of the team are on the same card, and fail with it."
            yield self._thin("one-card", roles, teams, "one card", text, tuple(self._other_card(teams)))

    def _thin(
        self,
        what: str,
        roles: tuple[str, ...],
        teams: list[Team],
        rests: str,
        text: str,
        made: tuple[tuple[str, Edit], ...],
    ) -> Risk:
        nics = tuple(m.nic.id for t in teams for m in t.members[: t.usable])
        hosts = some(sorted(self.host(self._team_host(t)) for t in teams))
        names = some(called(self.plan, self.plan.find(n)) for n in nics)
        return Risk(
            RISK,
            what,
            roles,
            f"{some(roles)} rest{'s' if len(roles) == 1 else ''} on {rests} on {hosts}",
            f"{names}: {text[:1].lower()}{text[1:]}",
            nics,
            facts=tuple(self.fact(n, rests, f"carries {some(roles)}") for n in nics[:20]),
            mends=made,
        )

    def _other_card(self, teams: list[Team]) -> Iterator[tuple[str, Edit]]:
        edit: list[Operation] = []
        for team in teams:
            last = team.members[team.usable - 1].nic
            free = self._free_nic(self._team_host(team), other_than=getattr(last, "card", ""))
            if free is None or not isinstance(last, Nic):
                return
            edit.append(Patch("nic", free.id, {"uplink": team.uplink.id, "role": last.role, "rank": last.rank}))
            edit.append(Patch("nic", last.id, {"uplink": None}))
        yield "Take a free NIC of another card in place of the last one", tuple(edit)

    def _team_host(self, team: Team) -> str:
        return str(self.plan.get("virtual_switch", team.uplink.switch).host)

    def _free_nic(self, host: str, other_than: str | None = None) -> Nic | None:
        return free_nic(self.plan, host, self.wiring.far, other_than)

    # --- the cables ---------------------------------------------------------------------------------------------

    def natives(self) -> Iterator[Risk]:
        """Cables whose two ends give untagged frames different VIDs."""
        ports = self.plan.of("fabric_port")
        for joint in self.wiring.fabric.joints:
            for cable, one, two in zip(joint.cables, *joint.ports, strict=True):
                if one.mode == "private" or two.mode == "private" or not self._managed(one, two):
                    continue
                a, b = (p.vid if p.mode == "access" else p.native for p in (one, two))
                if a == b:
                    continue
                names = [called(self.plan, ports[p.id]) for p in (one, two)]
                mends = [
                    (
                        f"Make {vid or 'none'} the VID of untagged frames at {called(self.plan, port)} too",
                        self._native(port, vid),
                    )
                    for port, vid in ((two, a), (one, b))
                    if vid or port.mode == "trunk"
                ]
                yield Risk(
                    RISK,
                    "native",
                    (cable,),
                    f"{names[0]} and {names[1]} disagree on untagged frames",
                    f"{names[0]} takes them as {a or 'nothing'}, {names[1]} as {b or 'nothing'}.",
                    (one.id, two.id),
                    facts=tuple(
                        self.fact(p.id, f"untagged is {v or 'dropped'}", "differs from the other end")
                        for p, v in ((one, a), (two, b))
                    ),
                    mends=tuple(mends),
                )

    def _managed(self, *ports: FabricPort) -> bool:
        return all(self.plan.get("fabric_switch", p.switch).managed for p in ports)

    def _native(self, port: FabricPort, vid: int | None) -> Edit:
        return (Patch("fabric_port", port.id, {"vid" if port.mode == "access" else "native": vid}),)

    def excess(self) -> Iterator[Risk]:
        """VIDs allowed on host-facing ports where nobody on the host needs them, one risk for each fabric switch."""
        known = [s.vid for kind in ("segment", "secondary_vlan") for s in self.plan.all(kind) if s.vid]
        segments = sum(1 << vid for vid in set(known))
        by_switch: dict[str, list[tuple[FabricPort, int]]] = {}
        for found in self.facts:
            for port_id, extra in found.excess.items():
                told = extra & segments
                if told and not self.plan.where("adapter", "function_of", self.wiring.far[port_id][0]):
                    port = self.plan.get("fabric_port", port_id)
                    by_switch.setdefault(port.switch, []).append((port, told))
        for switch, ports in sorted(by_switch.items()):
            every = 0
            for _, told in ports:
                every |= told
            name = called(self.plan, self.plan.get("fabric_switch", switch))
            seen = self._overheard(vids.of_bits(ports[0][1]))
            count = len(ports)
            yield Risk(
                UNTIDY,
                "excess",
                (switch,),
                f"{some((p.name for p, _ in ports), 4)} of {name} allow{'' if count > 1 else 's'} VIDs that nobody behind needs",
                f"{_short(vids.of_bits(every))}. On the cable of {ports[0][0].name} one would see {seen}.",
                tuple(port.id for port, _ in ports),
                facts=partial(self._excess_facts, ports),
                mends=partial(
                    self._excess_mends,
                    ports,
                    f"Allow only what is used on {count} port{'s' if count > 1 else ''} of {name}",
                ),
            )

    def _excess_facts(self, ports: list[tuple[FabricPort, int]]) -> tuple[Hop, ...]:
        return tuple(
            self.fact(p.id, f"trunk {p.allowed}", f"{_short(vids.of_bits(t))} not used behind it")
            for p, t in ports[:20]
        )

    def _excess_mends(self, ports: list[tuple[FabricPort, int]], title: str) -> tuple[tuple[str, Edit], ...]:
        edit = tuple(
            Patch(
                "fabric_port", port.id, {"allowed": vids.write(vids.members(port.allowed or "") - vids.of_bits(told))}
            )
            for port, told in ports
        )
        return ((title, edit),)

    def _overheard(self, vids_: frozenset[int]) -> str:
        """Who would be seen on a cable on these VIDs."""
        told = []
        for vid in sorted(vids_)[:4]:
            for segment in self.plan.where("segment", "vid", vid):
                told.append(f"{segment.name} ({vid}), {self.members(segment.id)} endpoints")
        return some(told) or "nobody that the plan knows"

    def members(self, segment: str) -> int:
        """How many places belong on a segment."""
        columns = self.judgement.columns
        number = list(self.judgement.subnets).index(segment)
        return int(columns.weight[columns.segment == number].sum())

    def lacking(self) -> Iterator[Risk]:
        """Tags that one member's port lacks while another's carries them, where nobody sits on them yet."""
        for found in self.facts:
            used = {v for values in found.roles.values() for v in values}
            for port_id, missing in found.lacking.items():
                idle = missing - used - {0}
                port = self.plan.get("fabric_port", port_id)
                if not idle or port.mode != "trunk":
                    continue
                name = called(self.plan, port)
                edit = (
                    Patch("fabric_port", port.id, {"allowed": vids.write(vids.members(port.allowed or "") | idle)}),
                )
                yield Risk(
                    RISK,
                    "missing-on-member",
                    (port_id,),
                    f"{name} lacks {vids.write(idle)}, which the other member carries",
                    "Nobody sits on it yet; whoever does would lose it with a failover.",
                    (port_id,),
                    facts=(self.fact(port_id, f"trunk {port.allowed}", f"{vids.write(idle)} is missing"),),
                    mends=((f"Allow {vids.write(idle)} on {name}", edit),),
                )

    def lags(self) -> Iterator[Risk]:
        """LAGs and teams that don't fit each other (IEEE 802.1AX), and LAGs whose ports differ."""
        for found in self.facts:
            for team in found.teams if not found.quiet else ():
                if isinstance(team.uplink, Uplink):
                    yield from self._team(team, team.uplink)
        for lag in sorted(self.plan.all("lag"), key=lambda record: record.id):
            ports = sorted(self.plan.where("fabric_port", "lag", lag.id), key=lambda p: p.id)
            ways = {(p.mode, p.vid, p.allowed, p.native, p.mtu) for p in ports}
            if len(ways) > 1:
                name = called(self.plan, lag)
                edits = []
                for like in ports:
                    same = {
                        "mode": like.mode,
                        "vid": like.vid,
                        "allowed": like.allowed,
                        "native": like.native,
                        "mtu": like.mtu,
                    }
                    rest = tuple(Patch("fabric_port", p.id, same) for p in ports if p is not like)
                    edits.append((f"Make every port of {name} like {like.name}", rest))
                yield Risk(
                    RISK,
                    "lag-differs",
                    (lag.id,),
                    f"The ports of {name} differ",
                    f"A flow may take any of {some(p.name for p in ports)}, and they don’t carry the same.",
                    tuple(p.id for p in ports),
                    facts=tuple(self.fact(p.id, _port_text(p), "differs from the others") for p in ports),
                    mends=tuple(edits[:3]),
                )
        for joint in self.wiring.fabric.joints:
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
            if isinstance(m.nic, Nic) and not m.one_way and m.nic.link == "up" and m.dead != "is excluded"
        ]
        ports = [self.plan.of("fabric_port").get(self.wiring.far.get(m.nic.id, ("", ""))[0]) for m in members]
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
            )
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

    def loops(self) -> Iterator[Risk]:
        """Frames that go round and round: parallel ways without a spanning tree."""
        wiring = self.wiring
        used = wiring.classes.used

        def passes(link: Link, side: int) -> list[int]:
            there = crossing(link.rules[side], link.rules[1 - side])
            kept = there[:used] == np.arange(used)
            return [int(k) for k in np.flatnonzero(kept).tolist()]

        links = core_links(wiring)
        joints = {joint.key: joint for joint in wiring.fabric.joints}
        selves = [j for j in joints.values() if j.ends[0] == j.ends[1]]
        for loop in loops(links, passes):
            named = sorted({v for k in loop.classes if k for v in wiring.classes.members[k][:20]})
            used_here = vids.write([s.vid for s in self.plan.all("segment") if s.vid in named]) or vids.write(named[:5])
            joint = joints.get(loop.link.key)
            if joint is None:
                culprit = tuple(r[-1] for r in loop.link.records if r)
                switches: list[str] = []
            else:
                culprit = tuple(ports[0].id for ports in joint.ports)
                switches = self._circle(joint.ends)
            edit = tuple(
                Patch("fabric_switch", s, {"spanning_tree": True})
                for s in switches
                if not self.plan.get("fabric_switch", s).spanning_tree
            )
            mends: list[tuple[str, Edit]] = []
            if edit:
                off = [p.id for p in edit if isinstance(p, Patch)]
                names = some(called(self.plan, self.plan.get("fabric_switch", id)) for id in off)
                mends.append((f"Turn the spanning tree on at {names}", edit))
            port_off = next((id for id in culprit if id in self.plan.of("fabric_port")), None)
            if port_off:
                mends.append(
                    (
                        f"Disable {called(self.plan, self.plan.find(port_off))}",
                        (Patch("fabric_port", port_off, {"enabled": False}),),
                    )
                )
            yield Risk(
                RISK,
                "loop",
                (loop.link.key,),
                f"Frames go round and round over {some(called(self.plan, self.plan.find(c)) for c in culprit)}",
                f"{'VID ' + used_here if used_here else 'Untagged frames'}: one broadcast fills every cable of the loop.",
                culprit,
                facts=tuple(self.fact(c, f"carries {used_here}", "closes the loop") for c in culprit),
                mends=tuple(mends),
            )
        for joint in selves:
            culprit = tuple(ports[0].id for ports in joint.ports)
            name = called(self.plan, self.plan.find(culprit[0]))
            yield Risk(
                RISK,
                "loop",
                (joint.key,),
                f"{name} is plugged into its own switch",
                "One broadcast fills the switch.",
                culprit,
                facts=tuple(self.fact(c, "", "closes the loop") for c in culprit),
                mends=((f"Take the cable of {name} away", (Drop("cable", joint.key),)),),
            )

    def _circle(self, ends: tuple[str, str]) -> list[str]:
        """The switches on the shortest other way between the two ends, both included."""
        at: dict[str, list[str]] = {}
        direct = 0
        for joint in self.wiring.fabric.joints:
            if set(joint.ends) == set(ends):
                direct += 1
                if direct == 1:
                    continue
            at.setdefault(joint.ends[0], []).append(joint.ends[1])
            at.setdefault(joint.ends[1], []).append(joint.ends[0])
        came: dict[str, str] = {ends[0]: ends[0]}
        queue = [ends[0]]
        while queue:
            now = queue.pop(0)
            for following in at.get(now, ()):
                if following not in came:
                    came[following] = now
                    queue.append(following)
        way = [ends[1]]
        while way[-1] != ends[0] and way[-1] in came:
            way.append(came[way[-1]])
        return sorted({*way, *ends})

    # --- sizes --------------------------------------------------------------------------------------------------

    def sizes(self) -> Iterator[Risk]:
        """Ends that send larger packets than some hop, or some other end, takes."""
        by_segment: dict[str, list[End]] = {}
        for found in self.facts:
            for end in found.ends:
                if end.sends:
                    by_segment.setdefault(end.segment, []).append(end)
        solved: dict[int, tuple[Any, list[Link]]] = {}
        for id, ends in sorted(by_segment.items()):
            segment = self.plan.get("segment", id)
            most = max(end.sends for end in ends)
            tight: dict[str, int] = {}
            for end in ends:
                tight.update(end.tight)
                if end.sends < most:
                    tight[end.record] = end.sends
            if segment.vid:
                tight.update(self._narrow(segment.vid, most, solved, {e.record for e in ends}))
            if not tight:
                continue
            names = some(
                f"{called(self.plan, self.plan.find(r))} takes {mtu}"
                for r, mtu in sorted(tight.items(), key=lambda i: (i[1], i[0]))
            )
            raising = tuple(self._raise(record, most + self._head(ends, record)) for record in tight)
            lowest = min(tight.values())
            lowering = tuple(
                Patch(r.kind, r.id, {"mtu": lowest})
                for r in [segment, *(self.plan.find(e.record) for e in ends)]
                if r is not None and getattr(r, "mtu", None) and r.mtu > lowest
            )
            mends = [(f"Raise {some(called(self.plan, self.plan.find(r)) for r in tight)} to {most}", raising)]
            if lowering:
                mends.append((f"Send no more than {lowest} on {segment.name}", lowering))
            yield Risk(
                RISK,
                "mtu",
                (id,),
                f"{segment.name} sends packets of {most} bytes, and not every hop takes them",
                f"{names}; larger ones vanish there.",
                tuple(tight),
                segment=id,
                facts=tuple(self.fact(r, f"MTU {mtu}", f"less than {most}") for r, mtu in list(tight.items())[:20]),
                mends=tuple(mends),
            )

    def _head(self, ends: list[End], record: str) -> int:
        return 50 if any(record in dict(e.tight) and self.plan.get("segment", e.segment).vni for e in ends) else 0

    def _raise(self, record: str, mtu: int) -> Operation:
        found = self.plan.find(record)
        assert found is not None
        return Patch(found.kind, record, {"mtu": min(mtu, 9216)})

    def _narrow(
        self, vid: int, most: int, solved: dict[int, tuple[Any, list[Link]]], records: set[str]
    ) -> dict[str, int]:
        """The fabric ports without which packets of this size would still get through everywhere."""
        wiring, judgement = self.wiring, self.judgement
        if most not in solved:
            low = [link for link in core_links(wiring) if link.mtu and link.mtu < most]
            solved[most] = (solve(wiring, judgement.pairings, least_mtu=most) if low else None, low)
        domains, low = solved[most]
        if domains is None:
            return {}
        tag = int(wiring.classes.of[vid])
        found: dict[str, int] = {}
        for link in low:
            nodes = [wiring.bridges[end].trunk * wiring.classes.count + tag for end in link.ends]
            together = judgement.domains.component[nodes[0]] == judgement.domains.component[nodes[1]]
            if together and domains.component[nodes[0]] != domains.component[nodes[1]]:
                for records_ in link.records:
                    for id in records_[-1:]:
                        port = self.plan.find(id)
                        switch = self.plan.of("fabric_switch").get(getattr(port, "switch", None))
                        mtu = least(getattr(port, "mtu", None), switch.mtu if switch is not None else None)
                        if mtu and mtu < most:
                            found[id] = mtu
        return found

    # --- hosts and guests ---------------------------------------------------------------------------------------

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

    # --- tidiness -----------------------------------------------------------------------------------------------

    def deviations(self) -> Iterator[Risk]:
        """Adapters whose guards or limits differ from their port group's, one risk for each port group."""
        groups: dict[str, list[tuple[Adapter, tuple[str, ...]]]] = {}
        for found in self.facts:
            for adapter, own in found.deviating:
                groups.setdefault(str(adapter.port_group), []).append((adapter, own))
        for group, adapters in sorted(groups.items()):
            name = called(self.plan, self.plan.get("port_group", group))
            edit = tuple(Patch("adapter", a.id, dict.fromkeys(own)) for a, own in adapters)
            told = some(
                f"{called(self.plan, a)} ({', '.join(w.replace('_', ' ') for w in own)})" for a, own in adapters
            )
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

    def unused(self) -> Iterator[Risk]:
        """Port groups that nobody sits in, by switch name; VIDs that a fabric switch defines and nobody uses."""
        empty: dict[str, list[PortGroup]] = {}
        for found in self.facts:
            for group in found.empty:
                empty.setdefault(group.name, []).append(group)
        for name, groups in sorted(empty.items()):
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
        used = {s.vid for s in self.plan.all("segment")} | {s.vid for s in self.plan.all("secondary_vlan")}
        used = used.union(*(found.needs for found in self.facts))
        used |= {v for p in self.plan.all("fabric_port") for v in (p.vid, p.native)}
        for switch in sorted(self.plan.all("fabric_switch"), key=lambda s: s.id):
            if switch.vlans is None or not switch.managed:
                continue
            defined = vids.members(switch.vlans)
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
        for vid in sorted({s.vid for s in self.plan.all("segment") if s.vid}):
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
        tags: dict[str, dict[tuple[object, ...], list[PortGroup]]] = {}
        for found in self.facts:
            own: dict[tuple[object, ...], list[PortGroup]] = {}
            for group, key in found.groups:
                own.setdefault(key, []).append(group)
                tags.setdefault(group.name, {}).setdefault(key, []).append(group)
            for groups in own.values():
                if len(groups) > 1:
                    yield self._twin_groups(sorted(groups, key=lambda g: g.name))
        for name, ways in sorted(tags.items()):
            if len(ways) > 1:
                yield self._one_name(name, sorted(ways.values(), key=lambda g: -len(g)))

    def _fresh_vid(self, same: list[Any]) -> Iterator[tuple[str, Edit]]:
        taken = {s.vid for s in self.plan.all("segment")} | {s.vid for s in self.plan.all("secondary_vlan")}
        vid = next((v for v in range((same[0].vid or 1) + 1, 4095) if v not in taken), None)
        for segment in same[1:] if vid else ():
            yield f"Give {segment.name} the free VID {vid}", (Patch("segment", segment.id, {"vid": vid}),)

    def _twin_groups(self, groups: list[PortGroup]) -> Risk:
        kept, rest = groups[0], groups[1:]
        moved = [a for g in rest for a in self.plan.where("adapter", "port_group", g.id)]
        orders = [o for g in rest for o in self.plan.where("group_order", "port_group", g.id)]
        edit: Edit = (
            *(Patch("adapter", a.id, {"port_group": kept.id}) for a in moved),
            *(Drop("group_order", o.id) for o in orders),
            *(Drop("port_group", g.id) for g in rest),
        )
        where = called(self.plan, self.plan.get("virtual_switch", kept.switch))
        return Risk(
            UNTIDY,
            "twin-groups",
            tuple(g.id for g in groups),
            f"{some(g.name for g in groups)} of {where} are the same",
            "They carry the same tag under several names.",
            tuple(g.id for g in groups),
            facts=tuple(self.fact(g.id, _group_text(g), "the same") for g in groups),
            mends=((f"Keep {kept.name} alone", edit),),
        )

    def _one_name(self, name: str, ways: list[list[PortGroup]]) -> Risk:
        most, rest = ways[0], [g for groups in ways[1:] for g in groups]
        like = most[0]
        same = {"mode": like.mode, "vid": like.vid, "allowed": like.allowed, "native": like.native}
        hosts = some(self.host(self.plan.get("virtual_switch", g.switch).host) for g in rest)
        edit = tuple(Patch("port_group", g.id, same) for g in rest) if like.mode != "overlay" else ()
        return Risk(
            RISK,
            "name",
            (name,),
            f"Port group {name} isn’t the same everywhere",
            f"It is {_group_text(like)} on most hosts, and {some(_group_text(g) for g in rest)} on {hosts}.",
            tuple(g.id for g in rest),
            facts=tuple(self.fact(g.id, _group_text(g), f"elsewhere {_group_text(like)}") for g in rest[:20]),
            mends=((f"Make {name} {_group_text(like)} on {hosts} too", edit),) if edit else (),
        )

    def overlays(self) -> Iterator[Risk]:
        """Overlay segments whose inner addresses overlap with other segments': allowed, and shown."""
        listed = [(s, [ipaddress.ip_network(t) for t in s.subnets]) for s in self.plan.all("segment") if s.subnets]
        for segment, nets in sorted(listed, key=lambda item: item[0].id):
            if segment.vni is None:
                continue
            others = [
                o
                for o, theirs in listed
                if o.id != segment.id and any(a.version == b.version and a.overlaps(b) for a in nets for b in theirs)
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


SEARCHES: tuple[Callable[[_Risks], Iterator[Risk]], ...] = (
    _Risks.shared,
    _Risks.thin,
    _Risks.natives,
    _Risks.excess,
    _Risks.lacking,
    _Risks.lags,
    _Risks.loops,
    _Risks.sizes,
    _Risks.own_guest,
    _Risks.macs,
    _Risks.guest_teams,
    _Risks.mirrors,
    _Risks.limits,
    _Risks.deviations,
    _Risks.unused,
    _Risks.doubled,
    _Risks.overlays,
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


def free_nic(plan: Plan, host: str, far: Any, other_than: str | None = None) -> Nic | None:
    """A NIC of a host that is in no uplink, has link and a cable, and isn't used by the host itself; the fastest first."""
    found = [
        n
        for n in plan.where("nic", "host", host)
        if n.uplink is None
        and n.link == "up"
        and not n.wireless
        and not n.addresses
        and n.id in far
        and (other_than is None or n.card != other_than)
    ]
    return min(found, key=lambda n: (-(n.speed or 0), n.name), default=None)


def split_off(plan: Plan, host: str, role: str) -> list[Operation] | None:
    """The operations that give a role's host ports a switch of their own on a free NIC; None where there is none."""
    cabled = {end for cable in plan.all("cable") for end in (cable.a, cable.b)}
    nic = free_nic(plan, host, cabled)
    ports = [
        p
        for s in plan.where("virtual_switch", "host", host)
        for p in plan.where("host_port", "switch", s.id)
        if role in p.services or (p.belongs and plan.get("segment", p.belongs).role == role)
    ]
    name = f"{role}0"
    id = f"{host}/{''.join(c if c.isalnum() else '-' for c in name)}"
    if nic is None or not ports or plan.find(id) is not None:
        return None
    uplink = f"{id}/{nic.name}"
    return [
        Put(VirtualSwitch(id=id, host=host, name=name)),
        Put(Uplink(id=uplink, switch=id, name=nic.name)),
        Patch("nic", nic.id, {"uplink": uplink, "role": "active", "rank": 0}),
        *(Patch("host_port", p.id, {"switch": id}) for p in ports),
    ]


def _short(found: Iterable[int]) -> str:
    text = vids.write(found)
    items = text.split(", ")
    return text if len(items) <= 8 else f"{', '.join(items[:7])} and {len(items) - 7} ranges more"


def _group_text(group: PortGroup) -> str:
    if group.mode in ("access", "private"):
        return f"{group.mode} {group.vid}"
    if group.mode == "trunk":
        return f"trunk {group.allowed or 'nothing'}"
    return f"overlay {group.vni}" if group.mode == "overlay" else "untagged"


def _port_text(port: FabricPort) -> str:
    if port.mode != "trunk":
        return f"{port.mode} {port.vid}"
    return f"trunk {port.allowed or 'nothing'}{f', native {port.native}' if port.native else ''}"

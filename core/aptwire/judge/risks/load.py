"""Cables that are sent more than they carry: always, after something has failed, where flows fall badly, or while a burst lasts."""

from __future__ import annotations

from collections.abc import Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from aptwire.blueprints.own_nics import own_nics
from aptwire.forward.trace import Hop
from aptwire.judge.risks.base import RISK, UNTIDY, Offers, ProofLines, Risk, RiskSearch
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import Flow, Segment
from aptwire.plan.names import called, natural, some
from aptwire.plan.plan import Plan, PlanError
from aptwire.stress.courses import OneWay, host_of_way
from aptwire.stress.load import NOTHING, Direction, Load, Starved, load_of
from aptwire.stress.telling import failing, way_called

FULL, AFTER, UNEVEN, STARVES = "full-cable", "full-after-failure", "uneven-cable", "starving-burst"
SHOWN = 12
"""As many cables stand in a proof."""


@dataclass
class _Over:
    """Directions that are over full mostly by one flow, fullest first, and who sends there."""

    directions: list[Direction] = field(default_factory=list)
    senders: dict[str, None] = field(default_factory=dict)


class LoadRisks(RiskSearch):
    """What the plan's flows make of its cables."""

    def over_full(self) -> Iterator[Risk]:
        """Cables with more than they carry, by the flow that is the most of it."""
        if not self.plan.of("flow"):
            return
        load = load_of(self.judgement)
        found: dict[tuple[str, str], _Over] = {}
        for direction in load.overfull:
            what = over(direction)
            if what:
                after = direction.failure if what == AFTER else None
                users = load.using(load.number(direction), after)
                heaviest: dict[str, float] = {}
                for n, value in users:
                    heaviest[load.demands[n].flow] = heaviest.get(load.demands[n].flow, 0.0) + value
                flow = min(heaviest, key=lambda id: (-heaviest[id], id))
                own = found.setdefault((what, flow), _Over())
                own.directions.append(direction)
                own.senders.update(dict.fromkeys(load.demands[n].who for n, _ in users))
        for (what, flow), own in sorted(found.items()):
            yield self._over_told(load, what, flow, own)
        starved: dict[str, list[Starved]] = {}
        for one in load.starved:
            starved.setdefault(one.flow, []).append(one)
        for flow, ones in sorted(starved.items()):
            yield self._starved_told(load, flow, ones)

    def _over_told(self, load: Load, what: str, flow: str, own: _Over) -> Risk:
        first, name = own.directions[0], called(self.plan, self.plan.find(flow))
        many = len({way.way.port for way in own.directions})
        where = way_called(load, first.way)
        amount = {FULL: first.asked, AFTER: first.after, UNEVEN: first.most}[what]
        carries = f"{amount:,.0f} Mbit/s with all that Ethernet adds, where {first.speed:,} fit"
        more = f", and {many - 1} more" if many > 1 else ""
        failed = failing(load, first.failure) if first.failure is not None else ""
        title, text = {
            FULL: (f"{where} is sent more than it carries{more}", f"{carries}. Most of it is {name}."),
            AFTER: (
                f"{where} is full once {failed} has failed{more}",
                f"Then it would carry {carries}. Most of it is {name}.",
            ),
            UNEVEN: (
                f"{where} may be sent more than it carries{more}",
                f"Where all that may go over it does: {carries}. Most of it is {name}. As is to be expected it is {first.asked:,.0f}.",
            ),
        }[what]
        return Risk(
            UNTIDY if what == UNEVEN else RISK,
            what,
            (flow,),
            title,
            text,
            self._ports(own.directions),
            tuple(own.senders)[:SHOWN],
            facts=_lines(what, flow),
            mends=_relief(what, flow),
        )

    def _starved_told(self, load: Load, flow: str, ones: Sequence[Starved]) -> Risk:
        worst = max(ones, key=lambda one: (one.before - one.gets, -one.at))
        victim = load.demands[worst.victim]
        names = some(dict.fromkeys(called(self.plan, self.plan.find(load.demands[one.victim].flow)) for one in ones))
        where = way_called(load, load.ways[worst.at])
        many = len({load.ways[one.at].port for one in ones})
        text = f"On {where} both share {load.speeds[worst.at]:,.0f} Mbit/s: while it lasts, {load.name(victim.who)} gets {worst.gets:,.0f} of {worst.before:,.0f} Mbit/s."
        if many > 1:
            text += f" So it is on {many - 1} more."
        return Risk(
            RISK,
            STARVES,
            (flow,),
            f"{called(self.plan, self.plan.find(flow))} takes from {names}",
            text,
            tuple(dict.fromkeys(load.ways[one.at].port for one in ones))[:SHOWN],
            tuple(dict.fromkeys(load.demands[one.victim].who for one in ones))[:SHOWN],
            facts=_lines(STARVES, flow),
            mends=_relief(STARVES, flow),
        )

    @staticmethod
    def _ports(directions: Sequence[Direction]) -> tuple[str, ...]:
        return tuple(dict.fromkeys(direction.way.port for direction in directions))[:SHOWN]


def over(direction: Direction) -> str:
    """In which way a direction is over full, the gravest first; empty: in none that is known."""
    if direction.speed is None:
        return ""
    most = direction.speed * (1 + NOTHING)
    if direction.asked > most:
        return FULL
    if direction.after > most:
        return AFTER
    return UNEVEN if direction.most > most else ""


def _about(load: Load, what: str, flow: str) -> list[int]:
    """The directions (numbers) over which a flow is what fills them in one way, or starves others."""
    if what == STARVES:
        return list(dict.fromkeys(one.at for one in load.starved if one.flow == flow))
    found = []
    for direction in load.overfull:
        if over(direction) == what:
            at = load.number(direction)
            users = load.using(at, direction.failure if what == AFTER else None)
            if any(load.demands[n].flow == flow for n, _ in users):
                found.append(at)
    return found


def _lines(what: str, flow: str) -> ProofLines:
    """What goes over each of the cables."""

    def made(search: RiskSearch) -> tuple[Hop, ...]:
        load, plan = load_of(search.judgement), search.plan
        lines: list[Hop] = []
        for at in _about(load, what, flow)[:SHOWN]:
            direction = load.direction(at)
            after = direction.failure if what == AFTER else None
            sums: dict[str, float] = {}
            for n, value in load.using(at, after):
                name = str(plan.get("flow", load.demands[n].flow).name)
                sums[name] = sums.get(name, 0.0) + value
            said = [f"{name} {value:,.0f}" for name, value in sums.items()]
            if what == STARVES:
                said.append(f"{plan.get('flow', flow).name} up to {direction.burst - direction.asked:,.0f}")
            once = f", once {failing(load, after)} has failed" if after is not None else ""
            rule = (
                f"carries {direction.speed:,} Mbit/s" if direction.speed is not None else "nobody says what it carries"
            )
            lines.append(
                Hop(
                    (direction.way.port,),
                    way_called(load, direction.way),
                    "",
                    "",
                    rule,
                    "astray",
                    f"{', '.join(said)}{once}",
                )
            )
        return tuple(lines)

    return made


def _relief(what: str, flow: str) -> Offers:
    """NICs of its own for what the flow is for, and a limit at which all fits."""

    def made(search: RiskSearch) -> tuple[tuple[str, Edit], ...]:
        load, plan = load_of(search.judgement), search.plan
        record: Flow = plan.get("flow", flow)
        about = _about(load, what, flow)
        found = list(_apart(search, load, flow, about))
        fits = limit(load, what, flow, about)
        if fits >= 1:
            found.append((f"Hold {record.name} to {fits:,} Mbit/s", (Patch("flow", flow, {"limit": fits}),)))
        elif what != STARVES:
            found += _all_less(load, what, about)
        return tuple(found)

    return made


def limit(load: Load, what: str, flow: str, about: Sequence[int]) -> int:
    """Mbit/s to which each who sends a flow would have to be held for some directions (numbers) to carry all, in round numbers; 0: none is small enough."""
    least = float("inf")
    for at in about:
        direction = load.direction(at)
        assert direction.speed is not None
        if what == STARVES:
            own = load.entries.at == at
            of = own & [load.demands[n].flow == flow for n in load.entries.who]
            each = float(load.entries.most[of].max(initial=0.0))
            room = direction.speed - direction.asked
        else:
            after = direction.failure if what == AFTER else None
            users = load.using(at, after)
            mine = [(n, value) for n, value in users if load.demands[n].flow == flow]
            amount = {FULL: direction.asked, AFTER: direction.after, UNEVEN: direction.most}[what]
            each = sum(value / load.rates[n] for n, value in mine)
            if what == UNEVEN:
                each *= direction.most / direction.asked if direction.asked else 1.0
            room = direction.speed - amount + each * max((load.rates[n] for n, _ in mine), default=0.0)
        if each > NOTHING:
            least = min(least, room / each)
    if least == float("inf") or least < 1:
        return 0
    whole = int(least)
    step = int(10 ** max(0, len(str(whole)) - 2))
    return whole // step * step


def _all_less(load: Load, what: str, about: Sequence[int]) -> Iterator[tuple[str, Edit]]:
    """Every flow that goes over some directions (numbers) held to what is left of it where all of them give way alike."""
    limits: dict[str, int] = {}
    least = 1.0
    for at in about:
        direction = load.direction(at)
        amount = {FULL: direction.asked, AFTER: direction.after, UNEVEN: direction.most}[what]
        share = (direction.speed or 0) / amount
        least = min(least, share)
        for n, _ in load.using(at, direction.failure if what == AFTER else None):
            flow, fits = load.demands[n].flow, int(load.rates[n] * share)
            limits[flow] = min(limits.get(flow, fits), fits)
    if limits and all(limits.values()):
        edit = tuple(Patch("flow", flow, {"limit": fits}) for flow, fits in sorted(limits.items()))
        yield f"Hold each of the {len(limits)} flows there to what fits, {least:.0%} at the least", edit


def _apart(search: RiskSearch, load: Load, flow: str, about: Sequence[int]) -> Iterator[tuple[str, Edit]]:
    """What the flow is for on NICs of its own, on the hosts whose cables are full."""
    plan = search.plan
    roles = {
        segment.role
        for demand in load.demands
        if demand.flow == flow
        and isinstance(segment := plan.of("segment").get(getattr(plan.find(demand.who), "belongs", None)), Segment)
        and segment.role
    }
    ways = [load.ways[at] for at in about]
    hosts = sorted({host for way in ways if (host := host_of_way(plan, load.wiring, way)) is not None})
    if len(roles) != 1 or not hosts:
        return
    for names in _spare(plan, load.wiring.far, hosts, {end for way in ways for end in _ends(load, way)}):
        try:
            brought = own_nics(plan, next(iter(roles)), hosts, names)
        except PlanError:
            continue
        yield brought.says, brought.edit
        return


def _ends(load: Load, way: OneWay) -> tuple[str, str]:
    return way.port, load.wiring.far.get(way.port, ("", ""))[0]


def _spare(plan: Plan, far: Mapping[str, object], hosts: Sequence[str], used: Container[str]) -> Iterator[list[str]]:
    """Names of NICs that the hosts have free; then of the last of the team on each of which some NICs (ids) are `used`."""
    free: list[set[str]] = []
    last: set[str] = set()
    for host in hosts:
        nics = [nic for nic in plan.where("nic", "host", host) if nic.link == "up" and nic.id in far]
        free.append({nic.name for nic in nics if nic.uplink is None and not nic.addresses})
        full = {nic.uplink for nic in nics if nic.id in used}
        teams: dict[str, list[str]] = {}
        for nic in nics:
            if nic.uplink is not None and nic.uplink in full:
                teams.setdefault(nic.uplink, []).append(nic.name)
        last.update(max(names, key=natural) for names in teams.values() if len(names) > 1)
    common = sorted(set.intersection(*free), key=natural)
    if common:
        yield common[:2]
    if len(last) == 1:
        yield sorted(last)

"""What a segment survives: whether all of it still hear each other whichever cable, NIC, card, switch or host fails (or two of them), each asked of the plan without it.

Teams of that plan carry as they would: a standby team over whoever is next.  What would be lost with a second failure is looked at where that is asked.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations

from aptwire.forward.parts import Place, State
from aptwire.judge.judgement import Judgement
from aptwire.judge.states import deviation
from aptwire.judge.verdicts import judged_after
from aptwire.judge.why import OPEN_END
from aptwire.plan.edits import Drop, Edit, Patch
from aptwire.plan.kinds import PLACES, Cable, FabricSwitch, Host, Nic, Segment, Uplink
from aptwire.plan.names import called, host_of, some
from aptwire.plan.plan import Plan
from aptwire.plan.sentences import FAILING_TWO
from aptwire.rules.answer import BROKEN, HOLDS, UNKNOWN, Answer

MOST_WORK = 100_000
"""Failures times endpoints of the plan for which an answer is worked out at most, since each edit asks anew; at least LEAST failures are asked of."""
LEAST = 20
MOST = 200
"""However small a plan is."""


@dataclass(frozen=True)
class Failure:
    """Something that may fail (in words), what a plan is without it, whose host it is on (its name; empty: nobody's), the interfaces (ids) that go with it, and what it does."""

    name: str
    edit: Edit
    host: str = ""
    gone: frozenset[str] = frozenset()
    does: str = "fails"


@dataclass(frozen=True)
class Split:
    """Two interfaces (ids) of a segment that don't hear each other, and whether it is only that nobody can know."""

    one: str
    two: str
    unknown: bool = False


class Surviving:
    """Asks whether one of several groups of segments (ids) stays whole, whichever of a kind of things fails, or whichever `two` of them."""

    def __init__(self, judgement: Judgement, either: Sequence[Sequence[str]], thing: str, two: bool = False) -> None:
        self.judgement, self.plan, self.either, self.thing, self.two = judgement, judgement.plan, either, thing, two

    def answer(self) -> Answer:
        """How the rule fares."""
        plan = self.plan
        segments: list[Segment] = [plan.get("segment", id) for group in self.either for id in group]
        apart = next((s for s in segments if s.vni or plan.where("secondary_vlan", "segment", s.id)), None)
        if apart is not None:
            what = "an overlay" if apart.vni else "a private VLAN"
            return Answer(UNKNOWN, f"{apart.name} is {what}, of which this isn’t asked.")
        if self.judgement.wiring.classes.twins:
            return Answer(UNKNOWN, "Some ports are isolated, and then this isn’t asked.")
        today = [self._split(self.judgement, group, frozenset()) for group in self.either]
        if all(today):
            return self._told("Nothing has to fail", [split for split in today if split is not None])
        failures = list(self._failures())
        every = f"{len(failures)} {self._things}"
        singles = [failure for failure in failures if self._matters(failure)]
        told = self._asked_of(singles, every)
        if self.two and (told is None or told.outcome == UNKNOWN):
            near = [failure for failure in failures if self._is_near(failure)]
            pairs = [_both(one, two) for one, two in combinations(near, 2)]
            every += f" and every two of the {len(near)} of them that may matter"
            told = self._asked_of(pairs, f"{len(pairs)} pairs of {self._things}") or told
        names = " or ".join(some(plan.get("segment", id).name for id in group) for group in self.either)
        return told or Answer(
            HOLDS,
            f"Asked of {every}: whichever fails, all who are left of {names} hear each other.",
        )

    def _asked_of(self, failures: Sequence[Failure], of: str) -> Answer | None:
        """The first of some failures by which none of the groups stays whole; `of`: what these are that may matter, in words."""
        most = min(MOST, max(LEAST, MOST_WORK // max(1, sum(self.judgement.counts().values()))))
        if len(failures) > most:
            text = f"{len(failures)} of {of} would have to be asked of; {most} are the most in a plan of this size."
            return Answer(UNKNOWN, text)
        doubt: Answer | None = None
        for failure in failures:
            after = judged_after(self.judgement, failure.edit) if failure.edit else self.judgement
            found = [self._split(after, group, failure.gone) for group in self.either]
            splits = [split for split in found if split is not None]
            if len(splits) < len(found):
                continue
            told = self._told(f"When {failure.name} {failure.does}", splits)
            if told.outcome == BROKEN:
                return told
            doubt = doubt or told
        return doubt

    @property
    def _things(self) -> str:
        return next(words for words, thing in FAILING_TWO.items() if thing == self.thing)

    def _told(self, when: str, splits: Sequence[Split]) -> Answer:
        """That none of them stays whole, or that nobody can know of one."""
        if any(split.unknown for split in splits):
            return Answer(UNKNOWN, f"{when}: nobody knows what is behind an open end.")
        names = [
            [called(self.plan, record) for id in (s.one, s.two) if (record := self.plan.find(id, PLACES))]
            for s in splits
        ]
        pairs = some(" and ".join(pair) for pair in names)
        return Answer(BROKEN, f"{when}: {pairs} don’t hear each other.", splits[0].one, splits[0].two)

    def _split(self, judgement: Judgement, group: Sequence[str], gone: frozenset[str]) -> Split | None:
        """Two of a segment who don't hear each other as it is; None: all do."""
        doubt: Split | None = None
        for segment in group:
            members = [
                (record.id, place, self._groups(judgement, place))
                for record, place in judgement.belonging(segment)
                if record.id not in gone
            ]
            if len(members) < 2:
                # Whoever is alone hears all that there is.
                continue
            groups = set[int]().union(*(where for _, _, where in members))
            near = {(place.bridge, place.context) for _, place, _ in members}
            deaf = next((id for id, place, _ in members if place.context not in place.stand.hears), "")
            if deaf:
                return Split(deaf, next(id for id, _, _ in members if id != deaf))
            # Neighbours whose teams take them different ways meet within their switch all the same.
            if len(groups) > 1 and len(near) > 1:
                pairs = combinations(members, 2)
                return next(Split(a, b) for (a, one, here), (b, two, there) in pairs if _apart(one, here, two, there))
            for id, place, _ in members:
                cause = judgement.cause_of(place)
                if cause is not None and cause.what == OPEN_END and self._is_today(judgement, cause.state):
                    other = next(one for one, _, _ in members if one != id)
                    doubt = doubt or Split(id, other, unknown=True)
        return doubt

    def _groups(self, judgement: Judgement, place: Place) -> set[int]:
        """The groups in which a place may land today, over whichever member of a team that shares out: in one of them all hear each other."""
        landing = judgement.landing
        rows = landing.rows_of(landing.number(place.stand))
        return {int(landing.rows.group[row]) for row in rows if self._is_today(judgement, deviation(landing, row))}

    @staticmethod
    def _is_today(judgement: Judgement, state: State) -> bool:
        """Whether a state may be today's: no standby team has failed over in it."""
        teams = (judgement.wiring.team_called(key) for key in state.choice)
        return not state.lost and all(team is None or team.mode != "standby" for team in teams)

    def _matters(self, failure: Failure) -> bool:
        """Whether something that fails may part anybody that verdicts don't tell of.

        Not what is a host's over which only its own frames go, where nobody of them is, where it is the host itself that fails, or where each of its teams loses one member and has
        another, and they are at home on it: that says that they are after each failover.
        """
        if not failure.host or failure.host in self._passed:
            return True
        if not self._is_near(failure):
            return False
        nics = [self.plan.get("nic", op.id) for op in failure.edit if isinstance(op, Patch) and op.kind == "nic"]
        if any(self.plan.where("adapter", "function_of", nic.id) for nic in nics):
            return True
        lost = Counter(nic.uplink for nic in nics if nic.uplink)
        left = all(
            count == 1
            and sum(n.link == "up" and n.role != "excluded" for n in self.plan.where("nic", "uplink", id)) > 1
            for id, count in lost.items()
        )
        return not left or any(self.judgement.status_of(place) for place in self._places[failure.host])

    def _is_near(self, failure: Failure) -> bool:
        """Whether something that fails may part anybody, alone or with others that do."""
        if not failure.host or failure.host in self._passed:
            return True
        return failure.host in self._places and self.thing != "host"

    @cached_property
    def _passed(self) -> set[str]:
        """The hosts (names) over which frames of others may go."""
        plan = self.plan
        ways = Counter(uplink.switch for uplink in plan.all(Uplink))
        return {host_of(plan, plan.get("virtual_switch", switch)) for switch, count in ways.items() if count > 1}

    @cached_property
    def _places(self) -> dict[str, list[Place]]:
        """Whoever belongs on the segments, by host (name)."""
        found: dict[str, list[Place]] = {}
        for segment in (segment for group in self.either for segment in group):
            for record, place in self.judgement.belonging(segment):
                found.setdefault(host_of(self.plan, record), []).append(place)
        return found

    def _failures(self) -> Iterator[Failure]:
        return {
            "cable": self._cables,
            "nic": self._nics,
            "card": self._cards,
            "fabric_switch": self._switches,
            "host": self._losing_hosts,
        }[self.thing]()

    def _cables(self) -> Iterator[Failure]:
        plan = self.plan
        for cable in sorted(plan.all(Cable), key=lambda c: c.id):
            nics = [plan.of("nic").get(end) for end in (cable.a, cable.b)]
            hosts = {host_of(plan, nic) for nic in nics if nic is not None}
            # One between two hosts is both's.
            yield Failure(called(plan, cable), _cut(plan, [cable.id]), hosts.pop() if len(hosts) == 1 else "")

    def _nics(self) -> Iterator[Failure]:
        for nic in sorted(self.plan.all(Nic), key=lambda n: n.id):
            edit = (Patch("nic", nic.id, {"link": "down"}),) if nic.link == "up" else ()
            yield Failure(called(self.plan, nic), edit, host_of(self.plan, nic))

    def _cards(self) -> Iterator[Failure]:
        cards: dict[tuple[str, str], list[str]] = {}
        for nic in sorted(self.plan.all(Nic), key=lambda n: n.id):
            if nic.card:
                cards.setdefault((host_of(self.plan, nic), nic.card), []).append(nic.id)
        for (host, card), nics in sorted(cards.items()):
            yield Failure(f"card {card} of {host}", tuple(Patch("nic", id, {"link": "down"}) for id in nics), host)

    def _switches(self) -> Iterator[Failure]:
        plan = self.plan
        for switch in sorted(plan.all(FabricSwitch), key=lambda s: s.id):
            ports = [port.id for port in plan.where("fabric_port", "switch", switch.id)]
            gone = frozenset(own.id for port in ports for own in plan.where("station_port", "port", port))
            yield Failure(switch.name, _unplugged(plan, ports), "", gone)

    def _losing_hosts(self) -> Iterator[Failure]:
        plan = self.plan
        for host in sorted(plan.all(Host), key=lambda h: h.id):
            nics = [nic.id for nic in plan.where("nic", "host", host.id)]
            yield Failure(
                host.name,
                _unplugged(plan, nics),
                host.name,
                frozenset(p.record for p in self._places.get(host.name, ())),
            )


def _both(one: Failure, two: Failure) -> Failure:
    """Two things that fail together."""
    edit = (*one.edit, *(op for op in two.edit if op not in one.edit))
    return Failure(f"{one.name} and {two.name}", edit, gone=one.gone | two.gone, does="fail")


def _apart(one: Place, here: set[int], two: Place, there: set[int]) -> bool:
    """Whether two places, each with the groups in which it may land, don't surely hear each other."""
    return len(here | there) > 1 and (one.bridge, one.context) != (two.bridge, two.context)


def _unplugged(plan: Plan, ends: Sequence[str]) -> Edit:
    """Every cable at some NICs or ports taken away."""
    cables = {cable.id for id in ends for side in ("a", "b") for cable in plan.where("cable", side, id)}
    return _cut(plan, sorted(cables))


def _cut(plan: Plan, cables: Sequence[str]) -> Edit:
    """Cables taken away; the NICs that they were plugged into have no link then, which teams see."""
    ends = {end for id in cables for end in (plan.get("cable", id).a, plan.get("cable", id).b)}
    nics = (nic for id in sorted(ends) if (nic := plan.of("nic").get(id)) is not None and nic.link == "up")
    return (*(Drop("cable", id) for id in cables), *(Patch("nic", nic.id, {"link": "down"}) for nic in nics))

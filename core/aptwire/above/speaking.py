"""Speaking: who says something to everybody on his links, such as lease servers and routers that advertise, and who there hears it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import replace
from functools import cached_property
from typing import Any, ClassVar, Generic, Protocol, TypeVar

from aptwire.above.outcomes import ANSWERED, BEST_FIRST, SILENT
from aptwire.above.ping import InStates, Pings
from aptwire.forward.parts import NOW, Place, Stand, State
from aptwire.judge.changes import Changes
from aptwire.judge.ground import Ground, blocks_of
from aptwire.judge.judgement import Judgement
from aptwire.judge.voices import voices
from aptwire.judge.why import is_idle
from aptwire.plan.kinds import ABOVE, BESIDE, Adapter, Record, Segment, reads_but
from aptwire.plan.names import called
from aptwire.plan.plan import Plan
from aptwire.plan.stacks import LINES, Stack


class Speaker(Protocol):
    """Somebody who speaks at an interface (`at`), and how far that gets by itself: ANSWERED, or what is wrong with it, why, and in which state."""

    @property
    def at(self) -> str: ...
    @property
    def outcome(self) -> str: ...
    @property
    def reason(self) -> str: ...
    @property
    def state(self) -> State: ...


Source = TypeVar("Source", bound=Speaker)
Heard = TypeVar("Heard")


_SAID = (*BESIDE["segment"], "name", "subnets", "gateways")
"""The fields of a segment by which nobody is heard otherwise."""


def _is_above(one: Plan, two: Plan, kind: str, id: str) -> bool:
    """Whether an edit of a record, from one plan to another, is of what speaks of packets, or of addresses, alone."""
    was, now = one.of(kind).get(id), two.of(kind).get(id)
    if kind != Segment.kind or was is None or now is None:
        return kind in ABOVE
    read = reads_but(kind, _SAID)
    return bool(read(was) == read(now))


class Speaking(ABC, Generic[Source, Heard]):
    """Who says what in a judged plan, and what of it is heard where, in every state or in one alone (`waking`: as if everybody were on)."""

    kind: ClassVar[str]
    """The records that say what is said; an edit of one may leave it as it was who hears it."""
    asked: ClassVar[bool]
    """Whether it is said in answer to a question, which must be heard too."""

    def __init__(self, judgement: Judgement, state: State | None = None, waking: bool = False) -> None:
        self.judgement, self.plan, self.wiring, self.state = judgement, judgement.plan, judgement.wiring, state
        self.waking = waking
        self.voices = voices(judgement)
        self.near = Pings(judgement, waking=True)
        self._heard: dict[Stand | tuple[int, ...], list[Heard]] = {}

    @property
    @abstractmethod
    def sources(self) -> list[Source]:
        """Everybody who speaks, by interface."""

    @property
    @abstractmethod
    def tabled(self) -> frozenset[str]:
        """On whom it rests who says what (owners)."""

    @abstractmethod
    def received(self, source: Source, outcome: str, reason: str, state: State) -> Heard:
        """What somebody says, as it is heard somewhere: always, in some states, perhaps."""

    @staticmethod
    @abstractmethod
    def lies(record: Any) -> object:
        """What of a record says who hears it, whatever it says; None where there is none."""

    @staticmethod
    @abstractmethod
    def concerned(got: Any, said: frozenset[str]) -> bool:
        """Whether somebody who listens may get something else than this once some records (ids) say something else, which lies where it lay."""

    @staticmethod
    @abstractmethod
    def rests(source: Source) -> Record:
        """The record that says what a source says."""

    @staticmethod
    @abstractmethod
    def renewed(source: Source, record: Any) -> Source:
        """A source that says something else."""

    def after(self, before: Speaking[Source, Heard], changes: Changes) -> frozenset[str] | None:
        """Whether all who speak are heard as they were before an edit: then what was found of them is taken over, and only who listens is asked anew, among them
        those whom the records (ids) concern that say something else; None: they aren't, perhaps."""
        said = frozenset(id for kind, id in changes.records if kind == self.kind)
        one, two = (look.plan.of(self.kind) for look in (before, self))
        if any(self.lies(one.get(id)) != self.lies(two.get(id)) for id in said):
            return None
        others = frozenset(record for record in changes.records if record[0] != self.kind)
        above = frozenset(record for record in others if _is_above(before.plan, self.plan, *record))
        if not before.ground.holds(self.judgement, replace(changes, records=others - above), self.tabled):
            return None
        # These are what a property finds when it is first asked for.
        vars(self)["ground"] = before.ground
        if all(kind in LINES for kind, _ in above):
            self.take_over(before)
        if not above:
            sources = [self.renewed(s, two[id]) if (id := self.rests(s).id) in said else s for s in before.sources]
            vars(self)["sources"] = sources
            return said
        # Where it is heard is as it was; how far it gets before that may not be.
        where = [[(s.at, self.rests(s).id) for s in look.sources] for look in (before, self)]
        if where[0] != where[1]:
            return None
        differ = {self.rests(now).id for was, now in zip(before.sources, self.sources, strict=True) if was != now}
        # Of a segment that is called otherwise those alone who belong there are told so.
        beside = all(record[0] in LINES or record in changes.words for record in above)
        return said if beside and not differ - said else said.union(differ, (id for _, id in above))

    def take_over(self, before: Any) -> None:
        """Keep what was found before an edit by which nothing but routes and filter lines may have it otherwise."""

    @cached_property
    def ground(self) -> Ground:
        """What it rests on who says what, and where that is heard."""
        members = frozenset(i.record for owner in self.tabled for i in self._stack(owner).interfaces)
        blocks, classes = blocks_of(place.stand for place in map(self.wiring.place, members) if place is not None)
        nobody = frozenset[str]()
        return Ground(
            members, self.tabled, nobody, False, False, nobody, blocks, classes, self.wiring.bearers, None, self.tabled
        )

    def heard(self, place: Place) -> list[Heard]:
        """What is said to a stand's places by all whom they might hear; the same list for those that hear the same."""
        steady, others = self._by_link
        link = self.voices.steady(place.stand)
        # Where no link is in doubt, all who are on one hear the same.
        alike = place.stand if link is None or others else link
        known = self._heard.get(alike)
        if known is None:
            sure = steady.get(link, []) if link is not None else []
            known = [self._received(source, ANSWERED, "") for source in sure]
            asked: dict[str, InStates] = {}
            for source in [*others, *(s for of in steady.values() for s in of)] if link is None else others:
                there = self.wiring.place(source.at)
                may = self.voices.may if self.asked else self.voices.may_hear
                if source in sure or there is None or not may(place, there):
                    continue
                if source.at not in asked:
                    record = next((r for r in place.stand.records if r != source.at), None)
                    asked[source.at] = (
                        self.near.beside(record, source.at, self.state, self.asked)
                        if record
                        else InStates(SILENT, "", (), ())
                    )
                found = asked[source.at]
                known.append(self._received(source, found.outcome, found.reason, found.failing))
            self._heard[alike] = known
        return known

    def _received(self, source: Source, outcome: str, reason: str, state: State = NOW) -> Heard:
        """The worse of two decides: how far it gets by itself, and whether it is heard there."""
        if BEST_FIRST.index(source.outcome) > BEST_FIRST.index(outcome):
            outcome, reason, state = source.outcome, source.reason, source.state
        return self.received(source, outcome, reason, state)

    @cached_property
    def _by_link(self) -> tuple[dict[tuple[int, ...], list[Source]], list[Source]]:
        """The sources on links on which everybody always hears each other, by link; and those whose link is another one in some state."""
        steady: dict[tuple[int, ...], list[Source]] = {}
        others = []
        several = len(self.voices.states) > 1
        for source in self.sources:
            place = self.wiring.place(source.at)
            link = self.voices.steady(place.stand) if place is not None else None
            if link is not None:
                steady.setdefault(link, []).append(source)
            if place is not None and (link is None or several):
                others.append(source)
        return steady, others

    def _speaks(self, record: str, may: Callable[[Plan, Adapter], bool], what: str) -> tuple[str, str]:
        """Whether an interface is awake, and no guard (`may`) drops what it says (`what`)."""
        place = self.wiring.place(record)
        if place is None or place.context < 0:
            return SILENT, f"{self._name(record)} isn’t attached to anything"
        if not self.waking and place.stand.judged and is_idle(self.plan, place.endpoint):
            return SILENT, f"{self._name(record)} is disconnected, or its guest is off"
        adapter = self.plan.of(Adapter.kind).get(place.endpoint)
        if adapter is not None and not may(self.plan, adapter):
            return SILENT, f"a guard drops what {self._name(record)} {what}"
        return ANSWERED, ""

    def _stack(self, owner: str) -> Stack:
        record = self.plan.find(owner)
        assert record is not None
        return self.near.stack(record)

    def addresses(self, owner: str) -> frozenset[str]:
        """The addresses that a guest, station or host has of its own."""
        return frozenset(map(str, self._stack(owner).own))

    def _called(self, owner: str) -> str:
        return called(self.plan, self.plan.find(owner))

    def _name(self, record: str) -> str:
        return called(self.plan, self.plan.find(record))

"""Whether rules hold: each sentence asked of a judged plan, with a proof or the shortest example against it.

Whoever no question tells apart is asked once: interfaces that hear and are heard alike in every state, in one subnet, with one gateway.  Arrays say who may
hear whom (`judge/voices.py`), and the exact search has the last word on whether somebody does (`forward/trace.py`, `above/ping.py`).
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import chain, product
from threading import RLock
from typing import Any

from aptwire.above.ping import ANSWERED, SILENT, UNPROVEN, WAVERS, Ping, Pings, Way
from aptwire.forward.parts import NOW, Place, Stand, State
from aptwire.forward.trace import Trace, say_state, trace
from aptwire.forward.wiring import Wiring
from aptwire.judge.causes import spoken
from aptwire.judge.could import could, exactly
from aptwire.judge.judgement import Judgement
from aptwire.judge.shared import THINGS_SAID, shares
from aptwire.judge.verdicts import rejudge
from aptwire.judge.voices import voices
from aptwire.judge.why import CUT_OFF, NO_GROUP, OPEN_END, TOO_LARGE, WRONG_TAG, Cause, is_idle
from aptwire.plan.edits import Patch, apply_edit, touched
from aptwire.plan.fields import Numbers, bare_address, numbers
from aptwire.plan.filters import PING, Packet
from aptwire.plan.kinds import OWNERS, PLACES, Mirror, Rule
from aptwire.plan.names import called, some
from aptwire.plan.sentences import (
    ANYTHING,
    EVERYTHING,
    ROLE,
    SEGMENT,
    Apart,
    Carries,
    Reach,
    Sentence,
    Share,
    read,
)
from aptwire.plan.stacks import Stack, gateways_of, owner_of, stack_of
from aptwire.rules.keeping import Ground, blocks_of
from aptwire.rules.whom import Meaning, Unit, Whom

OUTCOMES = HOLDS, BROKEN, UNKNOWN, NOBODY = "holds", "broken", "unknown", "nobody"
"""It holds in every state; it doesn't, and `Answer` says by whom; the plan leaves open whether it does; it speaks of somebody whom the plan hasn't."""

MOST_PAIRS = 20_000
"""Kinds of pairs that a rule may speak of; where there are more, it isn't asked."""
MOST_TRIED = 60
"""Pairs that may hear each other by the arrays and are asked exactly, for one rule."""


@dataclass(frozen=True)
class Answer:
    """How a rule fares, why in a sentence, and by whom (`a` and `b`, records; empty: by nobody in particular) in which state; `way` is that of a packet
    over routers, `frame` that of a frame, `ping` what was asked."""

    outcome: str
    text: str
    a: str = ""
    b: str = ""
    state: State = NOW
    way: Way | None = None
    frame: Trace | None = None
    ping: Ping | None = None

    def to_json(self, wiring: Wiring) -> dict[str, Any]:
        """The answer for a program, its proof aside: a broken rule's is that of its finding."""
        said = {name: getattr(self, name) for name in ("outcome", "text", "a", "b")}
        return {**said, "state": say_state(wiring, self.state)}


class Asked:
    """The rules of a judged plan, each asked once."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.plan, self.wiring = judgement, judgement.plan, judgement.wiring
        self.voices = voices(judgement)
        self.meaning = Meaning(judgement.plan)
        self.pings = Pings(judgement)
        self.waking = Pings(judgement, waking=True)
        self._alike: dict[str, Hashable] = {}
        self._shared_parts: dict[Hashable, Hashable] = {}
        self._known: dict[str, Answer] = {}
        self._kept: dict[str, tuple[Answer, Ground]] = {}
        self._lock = RLock()

    def rules(self) -> list[tuple[Rule, Answer]]:
        """Every rule of the plan with its answer, by their text; an answer of before stands where an edit left alone what it rests on."""
        listed = sorted(self.plan.all(Rule), key=lambda r: (r.text, r.id))
        with self._lock:
            answers = self.judgement.answered
            if "rules" not in answers.answers:
                before, changes = answers.before.get("rules", ({}, None))
                known = {rule.text: before[rule.text] for rule in listed if rule.text in before}
                self._kept = {t: k for t, k in known.items() if k[1].holds(self.judgement, changes, self._tabled)}
                self._known.update((text, answer) for text, (answer, _) in self._kept.items())
                for rule in listed:
                    self.ask(rule.text)
                answers.answers["rules"] = self._kept
            return [(rule, self.ask(rule.text)) for rule in listed]

    def ask(self, text: str) -> Answer:
        """How a rule fares, whether the plan has it or not; RuleError where it can't be read."""
        sentence = read(text)
        with self._lock:
            known = self._known.get(text)
            if known is None:
                known = self._share(sentence, text) if isinstance(sentence, Share) else self._ask(sentence)
                # What somebody types is asked and forgotten.
                if self.plan.where(Rule.kind, "text", text):
                    self._known[text] = known
                    ground = self._ground(sentence)
                    if ground is not None:
                        self._kept[text] = known, ground
        return known

    def _ground(self, sentence: Sentence) -> Ground | None:
        """What an answer rests on; None where it is asked again whatever was edited."""
        if not isinstance(sentence, (Apart, Reach)):
            return None
        more = sentence.without if isinstance(sentence, Apart) else sentence.through
        subjects = (*sentence.a, *sentence.b, *more)
        whole = any(subject.sort == EVERYTHING for subject in subjects)
        segments = [frozenset(self.meaning.segments(s)) if s.sort in _BY_SEGMENT else frozenset() for s in subjects]
        other = (s.sort not in _BY_SEGMENT or not of or "*" in s.name for s, of in zip(subjects, segments, strict=True))
        members = frozenset() if whole else frozenset(self.meaning.whom(subjects).records)
        owners = frozenset(map(self.owner, members))
        routed = isinstance(sentence, Reach) or not sentence.layer2
        standing: Iterable[str] = members
        if routed:
            ends = (self._tabled | owners) & (self._manifold | self._tabled)
            standing = chain(members, (i.record for owner in ends for i in self.stack(owner).interfaces))
        blocks, classes = blocks_of(self.judgement, standing)
        return Ground(
            members,
            owners,
            frozenset[str]().union(*segments),
            any(subject.sort != SEGMENT for subject in subjects),
            whole or any(other),
            frozenset(subject.name for subject in subjects),
            None if whole else blocks,
            classes,
            self.wiring.bearers if routed else None,
            self._tabled if routed else None,
        )

    def _ask(self, sentence: Apart | Reach | Carries) -> Answer:
        said = [sentence.a, *((sentence.b,) if isinstance(sentence, (Apart, Reach)) else ())]
        more = (
            sentence.without if isinstance(sentence, Apart) else sentence.through if isinstance(sentence, Reach) else ()
        )
        found = [self.meaning.whom(subjects) for subjects in (*said, more)]
        unclear = next((whom.unclear for whom in found if whom.unclear), "")
        if unclear:
            return Answer(UNKNOWN, unclear)
        nobody = [subject for whom in found for subject in whom.nobody]
        if nobody:
            return Answer(NOBODY, f"Nobody in the plan is meant by “{nobody[0]}”.")
        if isinstance(sentence, Apart):
            return _ApartAsked(self, sentence, *found).answer()
        if isinstance(sentence, Reach):
            return self._reach(sentence, *found)
        return self._carries(sentence)

    def name(self, id: str) -> str:
        """A unit or interface as a sentence calls it."""
        return (
            spoken(self.plan, id) if self.plan.find(id, PLACES) is not None else called(self.plan, self.plan.find(id))
        )

    # Who is alike

    @cached_property
    def stand_of(self) -> dict[str, Stand]:
        """The stand of each interface."""
        return {record: stand for block in self.wiring.blocks.values() for record, stand in block.stand_of.items()}

    def owner(self, id: str) -> str:
        """The guest, station or host of whom something is, by id."""
        record = self.plan.find(id, PLACES)
        return owner_of(self.plan, record).id if record is not None else id

    def stack(self, id: str) -> Stack:
        """The stack of an owner."""
        if id not in self.pings.stacks:
            found = self.plan.find(id, OWNERS)
            assert found is not None
            self.pings.stacks[id] = self.waking.stacks[id] = stack_of(self.plan, found)
        return self.pings.stacks[id]

    @cached_property
    def _manifold(self) -> frozenset[str]:
        """The owners with several interfaces, or routes: what becomes of a packet isn't said by one interface alone."""
        plan = self.plan
        found = {guest for guest, adapters in plan.grouped("adapter", "guest").items() if len(adapters) > 1}
        found |= {plan.get("adapter", tag.adapter).guest for tag in plan.all("guest_tag")}
        found |= {station for station, ports in plan.grouped("station_port", "station").items() if len(ports) > 1}
        return frozenset((*found, *plan.of("host"), *self._tabled))

    @cached_property
    def _tabled(self) -> frozenset[str]:
        """The owners that forward, or have routes: each is one by itself."""
        forwarding = (owner.id for kind in OWNERS for owner in self.plan.where(kind, "routes", True))
        return frozenset((*forwarding, *(route.of for route in self.plan.all("route"))))

    def alike(self, record: str) -> Hashable:
        """What an interface, with its stack, has in common with those that no frame and no next hop tells apart; its address in its subnet aside."""
        if record not in self._alike:
            owner = self.owner(record)
            if owner in self._tabled:
                made: Hashable = (self._part(record), owner)
            elif owner in self._manifold:
                others = (i.record for i in self.stack(owner).interfaces if i.record != record)
                made = (self._part(record), *map(self._part, others))
            else:
                made = self._part(record)
            # Many are alike: they share the value.
            self._alike[record] = self._shared_parts.setdefault(made, made)
        return self._alike[record]

    def _part(self, id: str) -> Hashable:
        """What one interface has by itself."""
        record, stand = self.plan.find(id, PLACES), self.stand_of.get(id)
        if record is None or stand is None:
            return ("nowhere", id)
        addresses = record.addresses  # type: ignore[attr-defined]
        bearers = self.wiring.bearers
        if any(len(bearers.get(bare_address(text), ())) > 1 for text in addresses):
            return ("itself", id)
        steady = self.voices.steady(stand)
        own = self.judgement.own.get(id)
        cause = own[1] if own is not None else self.judgement.causes.get(stand)
        endpoint = record.adapter if record.kind == "guest_tag" else id  # type: ignore[attr-defined]
        return (
            ("stand", stand.block, stand.index) if steady is None else steady,
            cause is not None and cause.what == OPEN_END,
            stand.judged and is_idle(self.plan, endpoint),
            stand.segment,
            gateways_of(self.plan, record),
            getattr(record, "gateway", None) is None and stand.segment is None,
            tuple((version, net, length) for version, _, net, length in map(numbers, addresses)),
        )

    def _of_unit(self, unit: Unit) -> Hashable:
        """The same of a unit."""
        if len(unit.records) == 1:
            return self.alike(unit.records[0])
        return unit.id if unit.id in self._tabled else tuple(map(self._part, unit.records))

    def _addresses(self, records: Iterable[str]) -> Iterator[Numbers]:
        for id in records:
            record = self.plan.find(id, PLACES)
            yield from map(numbers, record.addresses if record is not None else ())  # type: ignore[attr-defined]

    @cached_property
    def _marks(self) -> frozenset[tuple[int, int]]:
        """Where the subnets of which tables and filters speak begin and end, each with its IP version: between two of them none tells addresses apart."""
        nets = [numbers(to) for route in self.plan.all("route") for to in route.to]
        nets += [numbers(net) for line in self.plan.all("filter_line") for net in (*line.sources, *line.targets)]
        for owner in self._tabled:
            nets += self._addresses(i.record for i in self.stack(owner).interfaces)
        return frozenset(_bounds(nets))

    def kinds(self, units: Sequence[Unit], others: Sequence[Unit]) -> list[list[Unit]]:
        """The units in lists of those that are alike, also as targets for these others."""
        owners = {owner for unit in others if (owner := self.owner(unit.id)) in self._manifold}
        beside = (i.record for owner in owners for i in self.stack(owner).interfaces)
        nets = self._addresses(chain((record for unit in others for record in unit.records), beside))
        marks = sorted(self._marks.union(_bounds(nets)))
        found: dict[Hashable, list[Unit]] = {}
        for unit in units:
            own = self._addresses(unit.records)
            where = tuple(bisect_right(marks, (version, address)) for version, address, _, _ in own)
            found.setdefault((self._of_unit(unit), where), []).append(unit)
        return list(found.values())

    # Reaching

    def _reach(self, sentence: Reach, a: Whom, b: Whom, through: Whom) -> Answer:
        allowed = {self.owner(unit.id) for unit in through.units}
        kinds = self.kinds(a.units, b.units), self.kinds(b.units, a.units)
        if len(kinds[0]) * len(kinds[1]) > MOST_PAIRS:
            return Answer(UNKNOWN, _too_many(len(kinds[0]) * len(kinds[1])))
        packet = Packet(sentence.protocol, sentence.port) if sentence.protocol else PING
        doubt: Answer | None = None
        asked = 0
        for one, two in product(*kinds):
            pair = self.pair(one, two)
            if pair is None:
                continue
            asked += 1
            found = self.pings.ask(pair[0].id, pair[1].id, packet=packet)
            told = Answer(BROKEN, found.sentence, *_ends(found, *pair), ping=found)
            if found.outcome in (SILENT, WAVERS):
                return told
            if found.outcome == UNPROVEN:
                doubt = doubt or replace(told, outcome=UNKNOWN)
            elif allowed and (way := self._past(found, allowed)) is not None:
                past = some(map(self.name, sorted(allowed)))
                text = f"{self.name(pair[0].id)} reaches {self.name(pair[1].id)} past {past}."
                return replace(told, text=text, way=way)
        if doubt is not None:
            return doubt
        if not asked:
            return Answer(NOBODY, "It speaks of nobody but one and the same.")
        if allowed and not isinstance(beside := self._beside(sentence, a, b), str):
            return beside
        over = f" over {some(map(self.name, sorted(allowed)))} alone" if allowed else ""
        text = f"Asked of {len(a.units)} and {len(b.units)}{f' on {packet}' if packet != PING else ''}: every one gets its answers{over}, in every state."
        return Answer(HOLDS, text)

    def _past(self, found: Ping, allowed: set[str]) -> Way | None:
        """A way of a ping on which none of those is who must be."""
        for way in found.ways:
            passed = {self.owner(leg.to) for leg in way.legs[:-1] if leg.to is not None}
            if passed.isdisjoint(allowed):
                return way
        return None

    def _beside(self, sentence: Reach, a: Whom, b: Whom) -> Answer | str:
        """Whether the two hear each other beside the routers that are meant; empty if they don't."""
        found = _ApartAsked(self, Apart(sentence.a, sentence.b, layer2=True), a, b, Whom(())).answer()
        return found if found.outcome != HOLDS else ""

    def pair(self, one: list[Unit], two: list[Unit]) -> tuple[Unit, Unit] | None:
        """Two of two lists that aren't of one stack; None where there are none."""
        for a, b in product(one[:3], two[:3]):
            if self.owner(a.id) != self.owner(b.id):
                return a, b
        return None

    def has_addresses(self, record: str) -> bool:
        """Whether an interface bears any address."""
        found = self.plan.find(record, PLACES)
        return bool(found is not None and found.addresses)  # type: ignore[attr-defined]

    # Sizes

    def _carries(self, sentence: Carries) -> Answer:
        ids = [id for subject in sentence.a for id in self.meaning.segments(subject)]
        if not ids:
            return Answer(NOBODY, "Only a segment carries packets of a size: name one, or a role.")
        edit = tuple(Patch("segment", id, {"mtu": sentence.size}) for id in dict.fromkeys(ids))
        plan, _ = apply_edit(self.plan, edit)
        judged = rejudge(self.judgement, plan, touched(edit))
        doubt: Answer | None = None
        count = 0
        for segment in dict.fromkeys(ids):
            for kind in PLACES:
                for record in sorted(plan.where(kind, "belongs", segment), key=lambda r: r.id):
                    place = judged.wiring.place(record.id)
                    if place is None or not place.stand.judged:
                        continue
                    count += 1
                    cause = judged.cause_of(place)
                    if cause is not None and cause.what in _LOSES:
                        return Answer(
                            BROKEN, self._lost(record.id, cause, sentence.size), record.id, cause.towards, cause.state
                        )
                    if cause is not None and cause.what == OPEN_END:
                        text = f"Nobody knows what is behind an open end on the way of {self.name(record.id)}."
                        doubt = doubt or Answer(UNKNOWN, text, record.id)
        if doubt is not None:
            return doubt
        text = f"Asked of {count}: packets of {sentence.size} bytes get through between all of them."
        return Answer(HOLDS, text)

    def _lost(self, record: str, cause: Cause, size: int) -> str:
        name = self.name(record)
        if cause.what != TOO_LARGE:
            return f"{name} isn’t on the segment, or is cut off{_when(self.wiring, cause.state)}."
        takes = cause.detail.split()[1]
        place = self.wiring.place(cause.at)
        at = self.name(cause.at) if place is not None else called(self.plan, self.plan.find(cause.at))
        return f"Packets of {size} bytes from and to {name} are too large for {at}, which takes {takes}."

    # What is shared

    def _share(self, sentence: Share, text: str) -> Answer:
        look = shares(self.judgement)
        known = self.plan.where("rule", "text", text)
        for subject in sentence.a:
            if look.side(subject) is None:
                return Answer(NOBODY, f"No segment is called “{subject}”, and no host port has that service.")
        found = look.of(sentence, known[0].id if known else "")
        if not found:
            return Answer(HOLDS, "They share none of it on any host.")
        worst = found[0]
        hosts = some(self.plan.get("host", host).name for host, _ in worst.where)
        which = some(self._shared(worst.thing, id) for _, id in worst.where)
        return Answer(BROKEN, f"{worst.a} and {worst.b} share {THINGS_SAID[worst.thing]} on {hosts}: {which}.")

    def _shared(self, thing: str, id: str) -> str:
        if thing == "vid":
            return f"VID {id}"
        record = self.plan.find(id)
        return called(self.plan, record) if record is not None else id


_BY_SEGMENT = (SEGMENT, ROLE, ANYTHING)
"""The sorts of subjects that may mean everybody on a segment."""

Spot = tuple[Stand, list[str]]
"""A stand, and one or two of its records."""


class _ApartAsked:
    """Whether two are apart."""

    def __init__(self, asked: Asked, sentence: Apart, a: Whom, b: Whom, without: Whom) -> None:
        self.asked, self.sentence = asked, sentence
        self.plan, self.wiring, self.voices = asked.plan, asked.wiring, asked.voices
        aside = set(without.records)
        self.a = [record for record in a.records if record not in aside]
        own = set(self.a)
        everything = any(subject.sort == EVERYTHING for subject in sentence.b)
        self.b = [r for r in b.records if r not in aside and not (everything and r in own)]
        self.spots = self._spots(self.a), self._spots(self.b)
        self.doubt: Answer | None = None

    @cached_property
    def both(self) -> frozenset[str]:
        """Whoever is on both sides is where they end: that it has an address on the other one reaches nobody there."""
        owners = ({self.asked.owner(record) for record in side} for side in (self.a, self.b))
        return frozenset.intersection(*map(frozenset, owners))

    def _spots(self, records: list[str]) -> list[Spot]:
        """The stands of some interfaces, with two of these each: more are alike."""
        found: dict[int, Spot] = {}
        for record in records:
            stand = self.asked.stand_of.get(record)
            if stand is not None and stand.context >= 0:
                spot = found.setdefault(id(stand), (stand, []))
                if len(spot[1]) < 2:
                    spot[1].append(record)
        return list(found.values())

    def answer(self) -> Answer:
        """The answer."""
        if not self.a or not self.b:
            return Answer(NOBODY, "Nobody is left of whom it speaks.")
        searches = [self._frames, self._mirrors, self._open]
        if self.sentence.hostile:
            searches.append(self._tagging)
        if not self.sentence.layer2:
            searches.append(self._routed)
        if self.sentence.hostile and not self.sentence.layer2:
            searches.append(self._handed)
        for search in searches:
            found = next(search(), None)
            if found is not None:
                return found
        if self.doubt is not None:
            return self.doubt
        free = ", whatever guests tag and wherever they send it" if self.sentence.hostile else ""
        how = "hears" if self.sentence.layer2 else "hears or reaches"
        text = f"Asked of {len(self.a)} and {len(self.b)}: none {how} one of the others, in any state{free}."
        return Answer(HOLDS, text)

    # Layer 2

    def _candidates(
        self, one: Iterable[tuple[frozenset[object], Spot]], two: Iterable[tuple[frozenset[object], Spot]]
    ) -> Iterator[tuple[Place, Place]]:
        """Pairs of which the first may be heard by the second: one pair for all who are alike."""
        ears: dict[object, list[Spot]] = {}
        for heard, spot in two:
            for ear in heard:
                ears.setdefault(ear, []).append(spot)
        done: set[tuple[int, int]] = set()
        for said, (stand, records) in one:
            for other, others in (spot for voice in said for spot in ears.get(voice, ())):
                key = (id(stand), id(other))
                pair = next(((a, b) for a in records for b in others if a != b), None)
                if key not in done and pair is not None:
                    done.add(key)
                    yield self._place(pair[0]), self._place(pair[1])

    def _place(self, record: str) -> Place:
        place = self.wiring.place(record)
        assert place is not None
        return place

    def _frames(self) -> Iterator[Answer]:
        """Whoever is heard by one of the others."""
        tried = 0
        for one, two in (self.spots, self.spots[::-1]):
            saying = ((self.voices.says(spot[0]), spot) for spot in one)
            listening = ((self.voices.listens(spot[0]), spot) for spot in two)
            for here, there in self._candidates(saying, listening):
                tried += 1
                found = self._delivered(here, there) if tried <= MOST_TRIED else None
                if found is not None:
                    text = f"{self._name(there)} hears {self._name(here)}{_when(self.wiring, found[0])}."
                    yield Answer(BROKEN, text, here.record, there.record, found[0], frame=found[1])
                elif self.doubt is None:
                    text = f"{self._name(there)} may hear {self._name(here)}: it isn’t ruled out, and no way was found in the states that were asked."
                    self.doubt = Answer(UNKNOWN, text, here.record, there.record)

    def _delivered(self, here: Place, there: Place) -> tuple[State, Trace] | None:
        """The first state in which a frame gets from one place to another, and its way."""
        states = [state for state, _ in self.voices.states]
        for place in (here, there):
            for team in self.wiring.teams_at(place.bridge, place.stand.order) if place.bridge >= 0 else ():
                states += [State({team.key: member.key}) for member in team.members[1 : team.usable]]
        for state in states:
            found = trace(self.wiring, here, there, state)
            if found.delivered:
                return state, found
        return None

    def _mirrors(self) -> Iterator[Answer]:
        """Whoever gets a copy of what one of the others sends or hears."""
        mirrors = sorted(self.plan.all(Mirror), key=lambda m: m.id)
        sides = [{self._endpoint(record) for record in side} if mirrors else set() for side in (self.a, self.b)]
        for mirror in mirrors:
            for one, two in (sides, sides[::-1]):
                if mirror.source in one and mirror.target in two:
                    name = self.asked.name
                    text = f"{name(mirror.target)} gets a copy of what {name(mirror.source)} sends and hears."
                    yield Answer(BROKEN, text, mirror.source, mirror.target)

    def _endpoint(self, record: str) -> str:
        tag = self.plan.of("guest_tag").get(record)
        return str(tag.adapter) if tag is not None else record

    def _open(self) -> Iterator[Answer]:
        """Where ways of both lead nobody knows where, they may meet there."""
        found = [next((records[0] for stand, records in side if self.voices.loose(stand)), None) for side in self.spots]
        if found[0] is not None and found[1] is not None and self.doubt is None:
            names = [self.asked.name(record) for record in found if record]
            text = f"Nobody said what is behind an uplink of {names[0]} and one of {names[1]}, and they may meet there."
            self.doubt = Answer(UNKNOWN, text, found[0], found[1])
        yield from ()

    # A guest that tags as it likes

    def _free(self, spot: Spot, said: bool) -> frozenset[object]:
        """Where somebody may be heard, or hear, with any tag that its port takes."""
        stand, _ = spot
        if stand.rule is None or stand.vni or not stand.judged:
            return self.voices.says(stand) if said else self.voices.listens(stand)
        ask = self.voices.spoken if said else self.voices.heard
        taken = could(self.asked.judgement).taken(stand.rule)
        return frozenset[object]().union(*(ask(stand.bridge, stand.order, context) for context in taken))

    def _tagging(self) -> Iterator[Answer]:
        """Whoever hears or reaches one of the others with a tag that isn't his."""
        for mine, theirs in (self.spots, self.spots[::-1]):
            for said in (True, False):
                free = ((self._free(spot, said), spot) for spot in mine)
                ask = self.voices.listens if said else self.voices.says
                usual = ((ask(spot[0]), spot) for spot in theirs)
                for here, there in self._candidates(free, usual):
                    how = "could reach" if said else "could hear"
                    tags = self._tags(here, there)
                    text = f"{self._name(here)} {how} {self._name(there)} by tagging its frames{f' {tags}' if tags else ''}."
                    yield Answer(BROKEN, text, here.record, there.record)
        # Two tags, one of which is taken off on the way, are beyond the arrays.
        others = set(self.b)
        tunnels = bool(self.plan.where("port_group", "mode", "overlay"))
        for stand, records in self.spots[0]:
            place = self._place(records[0])
            tagged = stand.rule is not None and bool((stand.rule.into[1:] >= 0).any())
            if self.plan.of("adapter").get(place.endpoint) is None or not (tagged or tunnels):
                continue
            for tags, reached in exactly(self.asked.judgement, place.endpoint).items():
                hit = next((record for record in reached if record in others), None)
                if hit is not None:
                    text = f"{self._name(place)} could reach {self.asked.name(hit)} by tagging its frames {tags or 'with none'}."
                    yield Answer(BROKEN, text, place.record, hit)

    def _tags(self, here: Place, there: Place) -> str:
        """The tags with which one gets to the other, where the exact search finds any."""
        if self.plan.of("adapter").get(here.endpoint) is None:
            return ""
        found = exactly(self.asked.judgement, here.endpoint)
        return next((tags for tags, records in found.items() if there.record in records), "")

    # Over routers

    @cached_property
    def _kinds(self) -> tuple[list[list[Unit]], list[list[Unit]]]:
        """The interfaces with addresses on both sides, in lists of those that are alike."""
        addresses = self.asked.has_addresses
        units = [
            [Unit(r, (r,)) for r in side if r in self.asked.stand_of and addresses(r)] for side in (self.a, self.b)
        ]
        return self.asked.kinds(units[0], units[1]), self.asked.kinds(units[1], units[0])

    def _routed(self) -> Iterator[Answer]:
        """Whoever's packets get to one of the others over routers."""
        kinds = self._kinds
        if len(kinds[0]) * len(kinds[1]) > MOST_PAIRS:
            self.doubt = self.doubt or Answer(UNKNOWN, _too_many(len(kinds[0]) * len(kinds[1])))
            return
        for one, two in (kinds, kinds[::-1]):
            for here, there in product(one, two):
                pair = self.asked.pair(here, there)
                if pair is not None:
                    found = self.asked.waking.arrives(pair[0].id, pair[1].id)
                    yield from self._got(pair[0].id, pair[1].id, *found)

    def _got(self, here: str, there: str, outcome: str, state: State, way: Way | None) -> Iterator[Answer]:
        if outcome == SILENT or way is None or (outcome == UNPROVEN and self.asked.owner(there) in self.both):
            return
        routers = [leg.to for leg in way.legs[:-1] if leg.to is not None]
        over = some(dict.fromkeys(self.asked.name(self.asked.owner(router)) for router in routers)) or "a router"
        names = self.asked.name(here), self.asked.name(there)
        if outcome == ANSWERED:
            text = f"Packets of {names[0]} get to {names[1]} over {over}{_when(self.wiring, state)}."
            yield Answer(BROKEN, text, here, there, state, way=way)
        elif self.doubt is None:
            text = f"Whether packets of {names[0]} get to {names[1]} isn’t known: {way.reason or way.legs[-1].reason}."
            self.doubt = Answer(UNKNOWN, text, here, there, state, way=way)

    def _handed(self) -> Iterator[Answer]:
        """Whoever may hand packets to a router that it isn't told of, with any tag."""
        routers: dict[object, set[tuple[str, str]]] = {}
        for kind in OWNERS:
            for owner in self.plan.where(kind, "routes", True):
                for interface in self.asked.stack(owner.id).interfaces:
                    stand = self.asked.stand_of.get(interface.record)
                    for ear in self.voices.listens(stand) if stand is not None else ():
                        routers.setdefault(ear, set()).add((owner.id, interface.record))
        carried: dict[tuple[str, str], tuple[str, State, Way | None]] = {}
        for one, two in (self._kinds, self._kinds[::-1]):
            for here in one:
                sender, mine = here[0].id, self.asked.owner(here[0].id)
                stand = self.asked.stand_of[sender]
                near = set().union(*(routers.get(voice, ()) for voice in self._free((stand, [sender]), True)))
                for (router, enters), there in product(sorted(near), two):
                    target = next((u.id for u in there if self.asked.owner(u.id) not in (router, mine)), None)
                    if target is None or router == mine:
                        continue
                    key = (enters, target)
                    if key not in carried:
                        carried[key] = self.asked.waking.forwarded(enters, target)
                    for answer in self._got(sender, target, *carried[key]):
                        names = self.asked.name(sender), self.asked.name(target), self.asked.name(router)
                        text = f"{names[0]} could hand packets for {names[1]} to {names[2]}, which sends them on."
                        yield replace(answer, text=text)

    def _name(self, place: Place) -> str:
        return self.asked.name(place.record)


def _ends(found: Ping, a: Unit, b: Unit) -> tuple[str, str]:
    """The interfaces between which a ping went, as far as it got; else the first ones."""
    legs = found.ways[0].legs if found.ways else ()
    here = legs[0].out if legs else next(iter(a.records), a.id)
    there = legs[-1].to if legs and legs[-1].to in b.records else next(iter(b.records), b.id)
    return here, there or b.id


_LOSES = (TOO_LARGE, CUT_OFF, WRONG_TAG, NO_GROUP)
"""Why large packets don't get through."""


def _bounds(nets: Iterable[Numbers]) -> set[tuple[int, int]]:
    """The first addresses of subnets, and those behind their last ones."""
    found: set[tuple[int, int]] = set()
    for version, _, net, length in nets:
        found.update(((version, net), (version, net + (1 << (_BITS[version] - length)))))
    return found


_BITS = {4: 32, 6: 128}


def _when(wiring: Wiring, state: State) -> str:
    said = say_state(wiring, state)
    return "" if said == "now" else f" {said}"


def _too_many(pairs: int) -> str:
    return f"It speaks of {pairs} kinds of pairs, and {MOST_PAIRS} are asked at the most: make several rules of it."


def asked(judgement: Judgement) -> Asked:
    """The rules of a judged plan; the same object for as long as the judgement lives."""
    return judgement.once(Asked)

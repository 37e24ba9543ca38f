"""Whether rules hold: each sentence asked of a judged plan, with a proof or the shortest example against it.

Whoever no question tells apart is asked once (`rules/alike.py`).  Arrays say who may hear whom (`judge/voices.py`), and the exact search has the last word on
whether somebody does (`forward/trace.py`, `above/ping.py`).
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import cache, cached_property
from itertools import chain, product
from operator import attrgetter
from threading import RLock
from typing import Any

from aptwire.above.leases import Leases, Leases6
from aptwire.above.outcomes import SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import Ping, Way
from aptwire.forward.parts import Place, Stand
from aptwire.judge.gotten import gotten
from aptwire.judge.ground import Ground, blocks_of
from aptwire.judge.judgement import Judgement
from aptwire.judge.shared import THINGS_SAID, shares
from aptwire.judge.verdicts import judged_after
from aptwire.judge.why import CUT_OFF, NO_GROUP, OPEN_END, TOO_LARGE, WRONG_TAG, Cause
from aptwire.plan.collecting import no_collecting
from aptwire.plan.edits import Drop, Operation, Patch
from aptwire.plan.filters import PING, Packet
from aptwire.plan.kinds import PLACES, STATIC, Rule
from aptwire.plan.names import called, some
from aptwire.plan.plan import Plan
from aptwire.plan.sentences import (
    ANYTHING,
    EVERYTHING,
    ROLE,
    SEGMENT,
    Apart,
    Carries,
    LeasesOnly,
    Reach,
    Sentence,
    Share,
    Survives,
    read,
)
from aptwire.plan.stacks import lines_of
from aptwire.rules.alike import Look
from aptwire.rules.answer import BROKEN, HOLDS, MOST_PAIRS, NOBODY, UNKNOWN, Answer, too_many, when
from aptwire.rules.apart import Parting
from aptwire.rules.surviving import Surviving
from aptwire.rules.whom import Unit, Whom

_BY_SEGMENT = (SEGMENT, ROLE, ANYTHING)
"""The sorts of subjects that may mean everybody on a segment."""

_GUEST = attrgetter("guest")

_LOSES = (TOO_LARGE, CUT_OFF, WRONG_TAG, NO_GROUP)
"""Why large packets don't get through."""


class Asked:
    """The rules of a judged plan, each asked once."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.plan, self.wiring = judgement, judgement.plan, judgement.wiring
        self.look = Look(judgement)
        self._known: dict[str, Answer] = {}
        self._kept: dict[str, tuple[Answer, Ground]] = {}
        self._lock = RLock()

    def rules(self) -> list[tuple[Rule, Answer]]:
        """Every rule of the plan with its answer, by their text; an answer of before stands where an edit left alone what it rests on."""
        listed = sorted(self.plan.all(Rule), key=lambda r: (r.text, r.id))
        with self._lock, no_collecting():
            answers = self.judgement.answered
            if "rules" not in answers.answers:
                before, changes = answers.before.get("rules", ({}, None))
                known = {rule.text: before[rule.text] for rule in listed if rule.text in before}
                self._kept = {t: k for t, k in known.items() if k[1].holds(self.judgement, changes, self.look.tabled)}
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
                self.look.pings.passed.clear()
                known = self._answer(sentence, text)
                # What somebody types is asked and forgotten.
                if self.plan.where(Rule.kind, "text", text):
                    self._known[text] = known
                    ground = self._ground(sentence)
                    if ground is not None:
                        self._kept[text] = known, ground
        return known

    def _answer(self, sentence: Sentence, text: str) -> Answer:
        if isinstance(sentence, Share):
            return self._share(sentence, text)
        if isinstance(sentence, Survives):
            meaning = self.look.meaning
            either = [[id for subject in subjects for id in meaning.segments(subject)] for subjects in sentence.either]
            nobody = next((s for s in sentence.a if not meaning.segments(s)), None)
            if nobody is not None:
                return Answer(NOBODY, f"No segment is meant by “{nobody}”.")
            return Surviving(self.judgement, either, sentence.thing, sentence.two).answer()
        return self._ask(sentence)

    def _ground(self, sentence: Sentence) -> Ground | None:
        """What an answer rests on; None where it is asked again whatever was edited."""
        if not isinstance(sentence, (Apart, Reach)):
            return None
        more = sentence.without if isinstance(sentence, Apart) else sentence.through
        subjects = (*sentence.a, *sentence.b, *more)
        if any(self.look.meaning.one(subject).unclear for subject in subjects):
            return None
        whole = any(subject.sort == EVERYTHING for subject in subjects)
        segments = [
            frozenset(self.look.meaning.segments(s)) if s.sort in _BY_SEGMENT else frozenset() for s in subjects
        ]
        other = (s.sort not in _BY_SEGMENT or not of or "*" in s.name for s, of in zip(subjects, segments, strict=True))
        sides = (sentence.a, sentence.b, more) if not whole else ()
        records = [self.look.meaning.whom(side).records for side in sides]
        members = frozenset(chain.from_iterable(records))
        routed = isinstance(sentence, Reach) or not sentence.layer2
        owners, passed = self._owners(members), frozenset(self.look.pings.passed)
        blocks, classes = blocks_of(self._standing(records, owners if routed else ()))
        if routed:
            blocks, classes = blocks | self._forwarders[0], classes | self._forwarders[1]
        return Ground(
            members,
            owners | passed,
            frozenset[str]().union(*segments),
            any(subject.sort != SEGMENT for subject in subjects),
            whole or any(other),
            frozenset(subject.name for subject in subjects),
            None if whole else blocks,
            classes,
            self.wiring.bearers if routed else None,
            gotten(self.judgement) if routed else None,
            self.look.tabled if routed else None,
            # What stands for an outside network is chosen by the lines of all.
            lines_of(self.plan, passed) if passed.isdisjoint(self.plan.of("outside")) else None,
        )

    def ground_of(self, segment: str, members: Sequence[str]) -> Ground:
        """What rests on a segment (id) and its members (records), whoever else is asked of."""
        owners = self._owners(members)
        blocks, classes = blocks_of(self._standing([members], owners))
        return Ground(
            frozenset(members),
            owners,
            frozenset((segment,)),
            False,
            False,
            frozenset(),
            blocks | self._forwarders[0],
            classes | self._forwarders[1],
            self.wiring.bearers,
            gotten(self.judgement),
            self.look.tabled,
        )

    def _owners(self, members: Collection[str]) -> frozenset[str]:
        """The guests, stations and hosts whose some interfaces are."""
        # Most are adapters, and very many: whose these are needs no looking up.
        found = [*map(self.plan.of("adapter").get, members)]
        others = (self.look.owner(id) for id, adapter in zip(members, found, strict=True) if adapter is None)
        return frozenset(chain(map(_GUEST, filter(None, found)), others if not all(found) else ()))

    def _standing(self, sides: Iterable[Sequence[str]], owners: Iterable[str]) -> Iterator[Stand]:
        """The stands of interfaces, and those of owners that have several."""
        for records in sides:
            yield from (stand for stand, _ in self.look.seated(records).values())
        yield from self._stands_of(self.look.several(owners))

    def _stands_of(self, owners: Iterable[str]) -> Iterator[Stand]:
        """Where some owners stand."""
        interfaces = (i.record for owner in owners for i in self.look.stack(owner).interfaces)
        yield from filter(None, map(self.look.stand_of.get, interfaces))

    @cached_property
    def _forwarders(self) -> tuple[frozenset[str], frozenset[int]]:
        """The blocks in which whoever forwards, or has routes, stands, and the VID classes that are spoken there."""
        return blocks_of(self._stands_of(self.look.tabled))

    def _ask(self, sentence: Apart | Reach | Carries | LeasesOnly) -> Answer:
        said = [sentence.a, *((sentence.b,) if not isinstance(sentence, Carries) else ())]
        more = (
            sentence.without if isinstance(sentence, Apart) else sentence.through if isinstance(sentence, Reach) else ()
        )
        found = [self.look.meaning.whom(subjects) for subjects in (*said, more)]
        unclear = next((whom.unclear for whom in found if whom.unclear), "")
        if unclear:
            return Answer(UNKNOWN, unclear)
        nobody = [subject for whom in found for subject in whom.nobody]
        if nobody:
            return Answer(NOBODY, f"Nobody in the plan is meant by “{nobody[0]}”.")
        if isinstance(sentence, Apart):
            return Parting(self.look, sentence, *found).answer()
        if isinstance(sentence, Reach):
            return self._reach(sentence, *found)
        if isinstance(sentence, LeasesOnly):
            return self._leased(*found[:2])
        return self._carries(sentence)

    def _reach(self, sentence: Reach, a: Whom, b: Whom, through: Whom) -> Answer:
        allowed = {self.look.owner(unit.id) for unit in through.units}
        packet = Packet(sentence.protocol, sentence.port) if sentence.protocol else PING
        pinged = cache(lambda here, there: [*self.look.pings.ask_all(here, there, packet)])
        first = self.look.pair([*a.units[:1]], [*b.units[:1]])
        # Where the first two don't reach each other, nobody else has to be looked at.
        for found in pinged(first[0].id, first[1].id) if first is not None else ():
            if found.outcome in (SILENT, WAVERS):
                return Answer(BROKEN, found.sentence, *_ends(found, *first), ping=found)  # type: ignore[misc]
        kinds = self.look.kinds(a.units, b.units)
        if len(kinds[0]) * len(kinds[1]) > MOST_PAIRS:
            return Answer(UNKNOWN, too_many(len(kinds[0]) * len(kinds[1])))
        doubt: Answer | None = None
        asked = 0
        for one, two in product(*kinds):
            pair = self.look.pair(one, two)
            if pair is None:
                continue
            asked += 1
            for found in pinged(pair[0].id, pair[1].id):
                told = Answer(BROKEN, found.sentence, *_ends(found, *pair), ping=found)
                if found.outcome in (SILENT, WAVERS):
                    return told
                if found.outcome == UNPROVEN:
                    doubt = doubt or replace(told, outcome=UNKNOWN)
                elif allowed and (way := self._past(found, allowed)) is not None:
                    past = some(map(self.look.name, sorted(allowed)))
                    text = f"{self.look.name(pair[0].id)} reaches {self.look.name(pair[1].id)} past {past}."
                    return replace(told, text=text, way=way)
        if doubt is not None:
            return doubt
        if not asked:
            return Answer(NOBODY, "It speaks of nobody but one and the same.")
        if allowed and not isinstance(beside := self._beside(sentence, a, b), str):
            return beside
        over = f" over {some(map(self.look.name, sorted(allowed)))} alone" if allowed else ""
        text = f"Asked of {len(a.units)} and {len(b.units)}{f' on {packet}' if packet != PING else ''}: every one gets its answers{over}, in every state."
        return Answer(HOLDS, text)

    def _past(self, found: Ping, allowed: set[str]) -> Way | None:
        """A way of a ping on which none of those is who must be: on the way, or as the one of the two who forwards."""
        routers = allowed.intersection(self.look.forwarding)
        for way in found.ways:
            between = {self.look.owner(leg.to) for leg in way.legs[:-1] if leg.to is not None}
            ends = {self.look.owner(end) for leg in way.legs for end in (leg.out, leg.to) if end is not None}
            if between.isdisjoint(allowed) and ends.isdisjoint(routers):
                return way
        return None

    def _beside(self, sentence: Reach, a: Whom, b: Whom) -> Answer | str:
        """Whether the two hear each other beside the routers that are meant; empty if they don't."""
        found = Parting(self.look, Apart(sentence.a, sentence.b, layer2=True), a, b, Whom(())).answer()
        return found if found.outcome not in (HOLDS, NOBODY) else ""

    def _carries(self, sentence: Carries) -> Answer:
        ids = [id for subject in sentence.a for id in self.look.meaning.segments(subject)]
        if not ids:
            return Answer(NOBODY, "Only a segment carries packets of a size: name one, or a role.")
        ids = list(dict.fromkeys(ids))
        judged = self._bare(ids, sentence.size)
        doubt: Answer | None = None
        count = 0
        for segment in ids:
            for record, place in judged.belonging(segment):
                count += 1
                own = _sends(judged.plan, record)
                if own is not None and own < sentence.size:
                    name = self.look.name(record.id)
                    text = f"Packets of {sentence.size} bytes don’t leave {name}, which sends {own} at most."
                    return Answer(BROKEN, text, record.id)
                cause = judged.cause_of(place)
                if cause is not None and cause.what in _LOSES:
                    return Answer(
                        BROKEN, self._lost(record.id, cause, sentence.size), record.id, cause.towards, cause.state
                    )
                if cause is not None and cause.what == OPEN_END:
                    text = f"Nobody knows what is behind an open end on the way of {self.look.name(record.id)}."
                    doubt = doubt or Answer(UNKNOWN, text, record.id)
                elif cause is not None:
                    text = f"{self.look.name(record.id)} isn’t by itself on its segment, and then this isn’t asked."
                    doubt = doubt or Answer(UNKNOWN, text, record.id)
        if doubt is not None:
            return doubt
        text = f"Asked of {count}: packets of {sentence.size} bytes get through between all of them."
        return Answer(HOLDS, text)

    def _bare(self, segments: Sequence[str], size: int) -> Judgement:
        """The plan in which segments (ids) have an MTU, and whoever is on them nothing that would be told of him before his frames' being lost: gateways
        that nobody bears, addresses that others bear, leases, mirrors."""
        words = {"mtu": size, "gateways": [], "lease_servers": []}
        judged = judged_after(self.judgement, tuple(Patch("segment", id, words) for id in segments))
        plan = judged.plan
        hidden = [record for id in segments for record, place in judged.belonging(id) if _hides(judged, place)]
        if not hidden:
            return judged
        mirrors = {m.id for r in hidden for side in ("source", "target") for m in plan.where("mirror", side, r.id)}
        bare: dict[str, Any] = {"addresses": [], "addressing": STATIC, "addressing6": STATIC}
        edit: list[Operation] = [Drop("mirror", id) for id in sorted(mirrors)]
        for record in hidden:
            edit.append(Patch(record.kind, record.id, {**bare, **({"mac": None} if record.kind == "adapter" else {})}))
        return judged_after(judged, tuple(edit))

    def _leased(self, a: Whom, b: Whom) -> Answer:
        """Who would answer anybody of the first, asking or not, and isn't of the second."""
        leases = [self.judgement.once(of) for of in (Leases, Leases6)]
        allowed = {self.look.owner(unit.id) for unit in b.units}
        doubt: Answer | None = None
        asked = 0
        for id in dict.fromkeys(record for unit in a.units for record in unit.records):
            record, place = self.plan.find(id, PLACES), self.wiring.place(id)
            if record is None or place is None or place.context < 0 or self.look.owner(id) in allowed:
                continue
            asked += 1
            for offer in (offer for of in leases for offer in of.offers(record)):
                if offer.server not in allowed and offer.outcome != SILENT:
                    name, whom = self.look.name(offer.server), self.look.name(id)
                    if offer.outcome != UNPROVEN:
                        # An offer's state is one in which it isn't heard.
                        sometimes = ", in some of the states that teams between them may be in"
                        text = f"{name} answers {whom} too{sometimes if offer.outcome == WAVERS else ''}."
                        return Answer(BROKEN, text, id, offer.at)
                    text = f"Nobody can know whether {name} answers {whom}: {offer.reason}."
                    doubt = doubt or Answer(UNKNOWN, text, id, offer.at)
            if self.look.voices.loose(place.stand):
                text = f"What {self.look.name(id)} asks gets somewhere of which nobody said what is behind it."
                doubt = doubt or Answer(UNKNOWN, text, id)
        if doubt is not None:
            return doubt
        if not asked:
            return Answer(NOBODY, "It speaks of nobody but those who lease.")
        return Answer(HOLDS, f"Asked of {asked}: nobody else answers one of them, in any state.")

    def _lost(self, record: str, cause: Cause, size: int) -> str:
        name = self.look.name(record)
        if cause.what != TOO_LARGE:
            return f"{name} isn’t on the segment, or is cut off{when(self.wiring, cause.state)}."
        takes = cause.detail.split()[1]
        place = self.wiring.place(cause.at)
        at = self.look.name(cause.at) if place is not None else called(self.plan, self.plan.find(cause.at))
        return f"Packets of {size} bytes from and to {name} are too large for {at}, which takes {takes}."

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


def _hides(judged: Judgement, place: Place) -> bool:
    """Whether something is told of a place that says nothing of how far its frames get."""
    cause = judged.cause_of(place)
    return cause is not None and cause.what not in (*_LOSES, OPEN_END)


def _sends(plan: Plan, record: Any) -> int | None:
    """The largest packet that an interface says that it sends: its own MTU, a host port's else its switch's; None where nothing is said."""
    own = plan.get("adapter", record.adapter) if record.kind == "guest_tag" else record
    if own.mtu is None and own.kind == "host_port":
        own = plan.get("virtual_switch", own.switch)
    said: int | None = own.mtu
    return said


def _ends(found: Ping, a: Unit, b: Unit) -> tuple[str, str]:
    """The interfaces between which a ping went, as far as it got; else the first ones."""
    legs = found.ways[0].legs if found.ways else ()
    here = legs[0].out if legs else next(iter(a.records), a.id)
    there = legs[-1].to if legs and legs[-1].to in b.records else next(iter(b.records), b.id)
    return here, there or b.id


def asked(judgement: Judgement) -> Asked:
    """The rules of a judged plan; the same object for as long as the judgement lives."""
    return judgement.once(Asked)

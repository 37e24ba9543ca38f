"""Whether two are apart: on layer 2, over mirrors and open ends, over routers, and from guests that tag as they like."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from functools import cache, cached_property
from itertools import product

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN
from aptwire.above.ping import Way
from aptwire.forward.parts import Place, Stand, State
from aptwire.forward.trace import Trace, entry_at, trace
from aptwire.judge.could import could, exactly
from aptwire.plan.kinds import Mirror, WayIn
from aptwire.plan.names import called, some
from aptwire.plan.sentences import EVERYTHING, Apart
from aptwire.plan.stacks import Address
from aptwire.rules.alike import Look
from aptwire.rules.answer import BROKEN, HOLDS, MOST_PAIRS, NOBODY, UNKNOWN, Answer, too_many, when
from aptwire.rules.whom import Unit, Whom

MOST_TRIED = 60
"""Pairs that may hear each other by the arrays and are asked exactly, for one rule."""

Spot = tuple[Stand, list[str]]
"""A stand, and one or two of its records."""


def arrival(look: Look, here: str, there: str, state: State, way: Way) -> str:
    """That packets of one get to another over routers, and over which."""
    routers = [leg.to for leg in way.legs[:-1] if leg.to is not None]
    over = some(dict.fromkeys(look.name(look.owner(router)) for router in routers)) or "a router"
    return f"Packets of {look.name(here)} get to {look.name(there)} over {over}{when(look.wiring, state)}."


class Parting:
    """Whether two are apart."""

    def __init__(self, look: Look, sentence: Apart, a: Whom, b: Whom, without: Whom) -> None:
        self.look, self.sentence = look, sentence
        self.plan, self.wiring, self.voices = look.plan, look.wiring, look.voices
        aside = set(without.records)
        self.a = [record for record in a.records if record not in aside]
        own = set(self.a)
        everything = any(subject.sort == EVERYTHING for subject in sentence.b)
        self.b = [r for r in b.records if r not in aside and not (everything and r in own)]
        self.beyond = [
            [id for id in whom.outside(self.plan) if id not in without.outside(self.plan)] for whom in (a, b)
        ]
        self.spots = self._spots(self.a), self._spots(self.b)
        self.doubt: Answer | None = None

    @cached_property
    def both(self) -> frozenset[str]:
        """Whoever is on both sides is where they end: that it has an address on the other one reaches nobody there."""
        owners = ({self.look.owner(record) for record in side} for side in (self.a, self.b))
        return frozenset.intersection(*map(frozenset, owners))

    def _spots(self, records: list[str]) -> list[Spot]:
        """The stands of some interfaces, with two of these each: more are alike."""
        seats = self.look.seated(records).values()
        return [(stand, of[:2]) for stand, of in seats if stand.context >= 0]

    def answer(self) -> Answer:
        """The answer."""
        if self.sentence.layer2 and not (self.a and self.b) and any(self.beyond):
            return Answer(NOBODY, "On layer 2 nobody of an outside network is met: its gateway is, where it comes in.")
        if not (self.a or self.beyond[0]) or not (self.b or self.beyond[1]):
            return Answer(NOBODY, "Nobody is left of whom it speaks.")
        searches = [self._frames, self._mirrors, self._open]
        if self.sentence.hostile:
            searches.append(self._tagging)
        if not self.sentence.layer2:
            searches += [self._routed, self._unaddressed, self._outside]
        if self.sentence.hostile and not self.sentence.layer2:
            searches += [self._handed, self._at_the_way_in]
        for search in searches:
            found = next(search(), None)
            if found is not None:
                return found
        if self.doubt is not None:
            return self.doubt
        free = ", whatever guests tag and wherever they send it" if self.sentence.hostile else ""
        how = "hears" if self.sentence.layer2 else "hears or reaches"
        counts = [len(side) + len(beyond) for side, beyond in zip((self.a, self.b), self.beyond, strict=True)]
        text = f"Asked of {counts[0]} and {counts[1]}: none {how} one of the others, in any state{free}."
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
                    text = f"{self._name(there)} hears {self._name(here)}{when(self.wiring, found[0])}."
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
                    name = self.look.name
                    text = f"{name(mirror.target)} gets a copy of what {name(mirror.source)} sends and hears."
                    yield Answer(BROKEN, text, mirror.source, mirror.target)

    def _endpoint(self, record: str) -> str:
        tag = self.plan.of("guest_tag").get(record)
        return str(tag.adapter) if tag is not None else record

    def _open(self) -> Iterator[Answer]:
        """Where ways of both lead nobody knows where, they may meet there."""
        found = [next((records[0] for stand, records in side if self.voices.loose(stand)), None) for side in self.spots]
        if found[0] is not None and found[1] is not None and self.doubt is None:
            names = [self.look.name(record) for record in found if record]
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
        taken = could(self.look.judgement).taken(stand.rule)
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
            for tags, reached in exactly(self.look.judgement, place.endpoint).items():
                hit = next((record for record in reached if record in others), None)
                if hit is not None:
                    text = f"{self._name(place)} could reach {self.look.name(hit)} by tagging its frames {tags or 'with none'}."
                    yield Answer(BROKEN, text, place.record, hit)

    def _tags(self, here: Place, there: Place) -> str:
        """The tags with which one gets to the other, where the exact search finds any."""
        if self.plan.of("adapter").get(here.endpoint) is None:
            return ""
        found = exactly(self.look.judgement, here.endpoint)
        return next((tags for tags, records in found.items() if there.record in records), "")

    # Over routers

    @cached_property
    def _kinds(self) -> tuple[list[list[Unit]], list[list[Unit]]]:
        """The interfaces with addresses on both sides, in lists of those that are alike."""
        units = [[Unit(r, (r,)) for r in side if self._counts(r)] for side in (self.a, self.b)]
        return self.look.kinds(units[0], units[1])

    def _counts(self, record: str) -> bool:
        """Whether an interface has an address, and stands anywhere."""
        return record in self.look.stand_of and self.look.has_addresses(record)

    def _routed(self) -> Iterator[Answer]:
        """Whoever's packets get to one of the others over routers."""
        # Where the first two meet, as most do where any do, nobody else has to be looked at.
        a, b = (next((r for r in side if self._counts(r)), None) for side in (self.a, self.b))
        if a is not None and b is not None and self.look.owner(a) != self.look.owner(b):
            found = self.look.waking.arrives(a, b)
            if found[0] == ANSWERED:
                yield from self._got(a, b, *found)
        kinds = self._kinds
        if len(kinds[0]) * len(kinds[1]) > MOST_PAIRS:
            self.doubt = self.doubt or Answer(UNKNOWN, too_many(len(kinds[0]) * len(kinds[1])))
            return
        for one, two in (kinds, kinds[::-1]):
            for here, there in product(one, two):
                pair = self.look.pair(here, there)
                if pair is not None:
                    found = self.look.waking.arrives(pair[0].id, pair[1].id)
                    yield from self._got(pair[0].id, pair[1].id, *found)

    def _got(self, here: str, there: str, outcome: str, state: State, way: Way | None) -> Iterator[Answer]:
        if outcome == SILENT or way is None or (outcome == UNPROVEN and self.look.owner(there) in self.both):
            return
        names = self.look.name(here), self.look.name(there)
        if outcome == ANSWERED:
            yield Answer(BROKEN, arrival(self.look, here, there, state, way), here, there, state, way=way)
        elif self.doubt is None:
            text = f"Whether packets of {names[0]} get to {names[1]} isn’t known: {way.reason or way.legs[-1].reason}."
            self.doubt = Answer(UNKNOWN, text, here, there, state, way=way)

    @cached_property
    def _routers(self) -> dict[object, set[tuple[str, str]]]:
        """The interfaces of whoever forwards, with its owner, by where they have their ears."""
        found: dict[object, set[tuple[str, str]]] = {}
        for owner in self.look.forwarding:
            for interface in self.look.stack(owner).interfaces:
                stand = self.look.stand_of.get(interface.record)
                for ear in self.voices.listens(stand) if stand is not None else ():
                    found.setdefault(ear, set()).add((owner, interface.record))
        return found

    def _near(self, voices: Iterable[object]) -> set[tuple[str, str]]:
        """The interfaces of whoever forwards that hear something."""
        return set().union(*(self._routers.get(voice, ()) for voice in voices))

    def _unaddressed(self) -> Iterator[Answer]:
        """Interfaces of which the plan says no address may have any: what somebody forwards into their subnets may be for them, and what they send may go to whoever
        forwards there."""
        bare = [self._bare(side) for side in (self.a, self.b)]
        for mine, theirs in ((0, 1), (1, 0)):
            senders = [kind[0].id for kind in self._kinds[mine]] if any(bare) else []
            for record, near in bare[mine]:
                for (router, enters), there in product(sorted(near), self._kinds[theirs]):
                    if router not in (self.look.owner(record), self.look.owner(there[0].id)):
                        self._perhaps(record, there[0].id, router, self.look.waking.forwarded(enters, there[0].id)[0])
            for record, near in bare[theirs]:
                for router, out in sorted(near):
                    for address in self._unborne(router, out):
                        for sender in senders:
                            if self.look.owner(sender) not in (router, self.look.owner(record)):
                                self._perhaps(sender, record, router, self.look.waking.leaves(sender, address, out)[0])
                        for sender, ears in bare[mine]:
                            for other, enters in sorted(ears):
                                if enters != out and self.look.owner(sender) != self.look.owner(record):
                                    fares = self.look.waking.passes(enters, address, out)[0]
                                    self._perhaps(sender, record, other, fares)
        yield from ()

    def _perhaps(self, here: str, there: str, router: str, outcome: str) -> None:
        if outcome != SILENT and self.doubt is None:
            names = [self.look.name(id) for id in (here, there, router)]
            bare = names[0] if not self.look.has_addresses(here) else names[1]
            text = f"The plan doesn’t say the address of {bare}, and {names[2]} may send on what {names[0]} sends to {names[1]}."
            self.doubt = Answer(UNKNOWN, text, here, there)

    def _bare(self, records: list[str]) -> list[tuple[str, set[tuple[str, str]]]]:
        """Those of some interfaces of which no address is said, one of each stand, and who forwards near them; of a guest's own team, one has it for all."""
        found: dict[int, tuple[str, set[tuple[str, str]]]] = {}
        for record in records:
            stand = self.look.stand_of.get(record)
            if stand is None or stand.context < 0 or id(stand) in found or self.look.has_addresses(record):
                continue
            adapter = self.plan.of("adapter").get(record)
            team = self.plan.where("adapter", "guest", adapter.guest) if adapter is not None and adapter.team else ()
            if not any(other.team == adapter.team and other.addresses for other in team if adapter is not None):
                found[id(stand)] = record, self._near(self.voices.says(stand))
        return list(found.values())

    def _unborne(self, router: str, out: str) -> Iterator[Address]:
        """An address that nobody is said to have, in each subnet of an interface."""
        interface = next(i for i in self.look.stack(router).interfaces if i.record == out)
        for bound in interface.addresses:
            free = (a for a in bound.network.hosts() if not self.wiring.bearers.get(str(a)))
            address = next(free, None)
            if address is not None:
                yield address

    def _handed(self) -> Iterator[Answer]:
        """Whoever may hand packets to a router that it isn't told of, with any tag."""
        carried: dict[tuple[str, str], tuple[str, State, Way | None]] = {}
        for one, two in (self._kinds, self._kinds[::-1]):
            for here in one:
                sender, mine = here[0].id, self.look.owner(here[0].id)
                stand = self.look.stand_of[sender]
                near = self._near(self._free((stand, [sender]), True))
                for (router, enters), there in product(sorted(near), two):
                    target = next((u.id for u in there if self.look.owner(u.id) not in (router, mine)), None)
                    if target is None or router == mine:
                        continue
                    key = (enters, target)
                    if key not in carried:
                        carried[key] = self.look.waking.forwarded(enters, target)
                    for answer in self._got(sender, target, *carried[key]):
                        names = self.look.name(sender), self.look.name(target), self.look.name(router)
                        text = f"{names[0]} could hand packets for {names[1]} to {names[2]}, which sends them on."
                        yield replace(answer, text=text)

    def _outside(self) -> Iterator[Answer]:
        """Whoever's packets get into an outside network, and whom those that come out of it reach; where guests are hostile, so is whoever is outside."""
        waking, hostile, name = self.look.waking, self.sentence.hostile, self.look.name
        handed = cache(waking.forwarded)
        for one, two in product(*self.beyond):
            for here, there in ((one, two), (two, one)) if one != two else ():
                yield from self._got(here, there, *waking.arrives(here, there))
        sides = (self.a, self._kinds[0], self.beyond[1]), (self.b, self._kinds[1], self.beyond[0])
        for records, kinds, beyond in sides:
            unsaid = self._bare(records) if beyond else []
            for outside in beyond:
                entrances = self._entrances(outside) if hostile else []
                for record in (kind[0].id for kind in kinds):
                    yield from self._got(record, outside, *waking.arrives(record, outside))
                    yield from self._got(outside, record, *waking.arrives(outside, record))
                    near = self._near(self._free((self.look.stand_of[record], [record]), True)) if hostile else ()
                    for router, enters in sorted(near):
                        if router != self.look.owner(record):
                            for answer in self._got(record, outside, *handed(enters, outside)):
                                text = f"{name(record)} could hand packets for {name(outside)} to {name(router)}, which sends them on."
                                yield replace(answer, text=text)
                    for enters in entrances:
                        for answer in self._got(outside, record, *handed(enters, record)):
                            router = self.look.owner(enters)
                            text = f"Somebody in {name(outside)} could hand packets for {name(record)} to {name(router)}, which sends them on."
                            yield replace(answer, text=text)
                for record, forwarders in unsaid:
                    for router, enters in sorted(forwarders):
                        if router != self.look.owner(record):
                            self._perhaps(record, outside, router, handed(enters, outside)[0])
                            for address in self._unborne(router, enters):
                                self._perhaps(outside, record, router, waking.leaves(outside, address, enters)[0])

    def _at_the_way_in(self) -> Iterator[Answer]:
        """Guests who may speak to a gateway outside the plan, whatever their own table says: it sends on what they hand it."""
        for spots, beyond in ((self.spots[0], self.beyond[1]), (self.spots[1], self.beyond[0])):
            for outside in beyond:
                way = self.plan.of("way_in").get(self.plan.get("outside", outside).at)
                entry = entry_at(self.wiring, way) if way is not None else None
                if entry is None:
                    continue
                ears = frozenset[object]().union(*(self.voices.heard(entry.bridge, "", c) for c in entry.stand.hears))
                for spot in spots:
                    if not self._free(spot, True).isdisjoint(ears):
                        names = self.look.name(spot[1][0]), self.look.name(outside), called(self.plan, way)
                        text = f"{names[0]} could hand packets for {names[1]} to the gateway at {names[2]}."
                        yield Answer(BROKEN, text, spot[1][0], outside)

    def _entrances(self, outside: str) -> list[str]:
        """Where somebody in an outside network may hand over packets: the station behind which it is, or whoever forwards near its way in (interfaces)."""
        at = self.plan.find(self.plan.get("outside", outside).at)
        if not isinstance(at, WayIn):
            return [at.id] if at is not None and getattr(at, "routes", False) else []
        entry = entry_at(self.wiring, at)
        near = self._near(self.voices.spoken(entry.bridge, "", entry.context)) if entry is not None else ()
        return [interface for _, interface in sorted(near)]

    def _name(self, place: Place) -> str:
        return self.look.name(place.record)

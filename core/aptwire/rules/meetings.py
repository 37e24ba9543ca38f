"""Who meets whom, segment by segment: on layer 2, over routers, one way only, or not at all; against what rules expect.

It is what `Parting` says of each pair, found for all of them at once.  On layer 2 those alone are asked whose voices and ears have something in common.  Over routers a
packet's way is cut where it doesn't depend on who sent it: from a router on to a target (`Ways`), the same for everybody who hands it over; filters on it are passed or not
by the addresses of both ends, as bits of the lines that speak of each (`Sieve`).  Where a leg isn't sure in every state, the exact search is asked.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import chain, combinations, count
from operator import is_not
from typing import NamedTuple

import numpy as np

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN
from aptwire.forward.parts import Stand
from aptwire.judge.ground import Ground
from aptwire.judge.judgement import Judgement
from aptwire.judge.verdicts import judged_after
from aptwire.plan.collecting import no_collecting
from aptwire.plan.edits import Edit
from aptwire.plan.fields import Numbers
from aptwire.plan.kinds import PLACES, Mirror, Rule, Segment
from aptwire.plan.names import natural, some
from aptwire.plan.plan import Plan, PlanError
from aptwire.plan.sentences import SEGMENT, Apart, Reach, Subject, quoted, read
from aptwire.plan.stacks import Address
from aptwire.rules.alike import Group, Marks
from aptwire.rules.answer import BROKEN, HOLDS
from aptwire.rules.apart import Parting, arrival
from aptwire.rules.asking import asked
from aptwire.rules.mending import rule_offers
from aptwire.rules.reaching import Exits, Reaching
from aptwire.rules.ways import SURELY, End
from aptwire.rules.whom import Unit, Whom

MEETS, BOTH, THERE, BACK, OPEN, APART, NOBODY = "mb><?.-"
"""Somebody of one hears somebody of the other on layer 2; packets get from the one to the other over routers both ways, there alone (from the row's segment to the column's) or
back alone; nobody can know; none of it; or nobody is on one of them (and in the diagonal)."""
MEETING = {
    MEETS: "meets on layer 2",
    BOTH: "reaches, both ways",
    THERE: "reaches, one way",
    BACK: "is reached, one way",
    OPEN: "nobody knows",
    APART: "apart",
    NOBODY: "nobody is there",
}
KEPT, BESIDE, LED, FREE = "a2r "
"""What rules expect: apart, apart on layer 2, reached; nothing."""

MOST_EXACT = 2_000
MOST_WHOLE = 300
"""So many legs, and so many pairs with interfaces that have no address, are asked by the exact search."""
MOST_EDITED = 500
"""Of an edit of more records all meetings are found anew: it is looked through for each segment."""
MOST_ENDINGS = 6
MOST_AT_ONCE = 4_000_000
"""So many pairs of interfaces and addresses are looked at side by side: a byte each, a few times."""


@dataclass(frozen=True)
class Meetings:
    """`segments` (ids) in the order of their names, a row of letters for each, a row of what rules expect, and one with ! where a meeting isn't so, else a blank."""

    segments: tuple[str, ...]
    rows: tuple[str, ...]
    expected: tuple[str, ...]
    wrong: tuple[str, ...]


def wrong(letters: np.ndarray, expected: np.ndarray) -> tuple[str, ...]:
    """Rows with ! where a meeting isn't as rules expect it."""
    kept = (expected == KEPT) & (letters != APART) & (letters != NOBODY) & (letters != OPEN)
    beside, led = (expected == BESIDE) & (letters == MEETS), (expected == LED) & (letters == APART)
    return tuple(map("".join, np.where(kept | beside | led, "!", FREE).tolist()))


class _Part(NamedTuple):
    """What the meetings of a segment rest on (`ground`): what it `says` and to what it `listens` on layer 2, and whether it may be `loose` there; of its interfaces the `nets`, whether
    some are `bare` of addresses, of the others the `kinds`, one for all who are alike whatever they ask, and their addresses (`ends`)."""

    ground: Ground
    says: frozenset[object]
    listens: frozenset[object]
    loose: bool
    nets: frozenset[Numbers]
    bare: bool
    kinds: tuple[str, ...]
    ends: tuple[tuple[str, str, Address], ...]


class _Known(NamedTuple):
    """Meetings as they were found: the segments (ids) and their parts, the letters, between which addresses nothing told them apart (`marks`), and by what voices were numbered."""

    segments: tuple[str, ...]
    parts: tuple[_Part, ...]
    rows: tuple[str, ...]
    marks: frozenset[tuple[int, int]]
    voiced: tuple[object, ...]


class Meeting:
    """Meetings of a judged plan; those of before stand where an edit left alone what they rest on."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement, self.plan = judgement, judgement.plan
        self._asked = asked(judgement)
        self.look = self._asked.look
        self.segments = sorted(self.plan.all(Segment), key=lambda s: natural(s.name.casefold()))
        self.numbers = {segment.id: n for n, segment in enumerate(self.segments)}
        self.members: list[list[str]] = [
            [r.id for kind in PLACES for r in sorted(self.plan.where(kind, "belongs", s.id), key=lambda r: r.id)]
            for s in self.segments
        ]
        self._exact = 0
        self._whole = 0
        self._groups: dict[int, tuple[list[str], list[Group]]] = {}

    @cached_property
    def _ids(self) -> tuple[str, ...]:
        return tuple(segment.id for segment in self.segments)

    @cached_property
    def _voiced(self) -> tuple[object, ...]:
        return self.judgement.landing.domains, self.judgement.wiring.classes

    @cached_property
    def _before(self) -> tuple[_Known | None, frozenset[int]]:
        """The meetings of before, if any of them stand, and the segments (numbers) of which none do."""
        known, changes = self.judgement.answered.before.get("meetings", (None, None))
        everybody = frozenset(range(len(self.segments)))
        if known is None or changes is None or len(changes.records) > MOST_EDITED:
            return None, everybody
        if known.segments != self._ids or any(map(is_not, known.voiced, self._voiced)):
            return None, everybody
        tabled = self.look.tabled
        anew = frozenset(n for n in everybody if not known.parts[n].ground.holds(self.judgement, changes, tabled))
        if len(anew) == len(everybody):
            return None, everybody
        nets = frozenset().union(*(self._nets(n) if n in anew else known.parts[n].nets for n in everybody))
        return (known, anew) if self.look.marked(nets) == known.marks else (None, everybody)

    @cached_property
    def _parts(self) -> tuple[_Part, ...]:
        """Of each segment what its meetings rest on."""
        known, anew = self._before
        return tuple(self._part(n) if n in anew or known is None else known.parts[n] for n in range(len(self.segments)))

    def _part(self, n: int) -> _Part:
        voices, (_, groups) = self.look.voices, self._attached(n)
        stands = [stand for stand, _ in self._seated(n).values() if stand.context >= 0]
        kinds = self._kinds[n]
        return _Part(
            self._asked.ground_of(self.segments[n].id, self.members[n]),
            frozenset[object]().union(*map(voices.says, stands)),
            frozenset[object]().union(*map(voices.listens, stands)),
            any(map(voices.loose, stands)),
            self._nets(n),
            any(group.bare for group in groups),
            tuple(kinds),
            tuple(self._ends_of(kinds)),
        )

    def all(self) -> Meetings:
        """Every pair of segments."""
        size, parts, (known, anew) = len(self.segments), self._parts, self._before
        letters = np.full((size, size), APART)
        there, doubt = self._reached
        back = there.T
        letters[there & ~back], letters[back & ~there], letters[there & back] = THERE, BACK, BOTH
        letters[(doubt | doubt.T) & (letters == APART)] = OPEN
        for (a, b), letter in self._near().items():
            if letter == MEETS or letters[a, b] == APART:
                letters[a, b] = letters[b, a] = letter
        empty = np.array([not members for members in self.members], dtype=bool)
        letters[empty], letters[:, empty] = NOBODY, NOBODY
        np.fill_diagonal(letters, NOBODY)
        asked_anew = np.isin(np.arange(size), list(anew))
        bare = np.array([part.bare for part in parts], dtype=bool)
        left = (letters == APART) & (bare[:, None] | bare) & (asked_anew[:, None] | asked_anew)
        for a, b in np.argwhere(np.triu(left)).tolist():
            letters[a, b] = letters[b, a] = self._unaddressed(a, b)
        if known is not None:
            stands = ~asked_anew[:, None] & ~asked_anew
            letters[stands] = np.array([list(row) for row in known.rows])[stands]
        rows = tuple(map("".join, letters.tolist()))
        if self._exact <= MOST_EXACT and self._whole <= MOST_WHOLE:
            marks = self.look.marked(net for part in parts for net in part.nets)
            self.judgement.answered.answers["meetings"] = _Known(self._ids, parts, rows, marks, self._voiced)
        expected = self._expected()
        return Meetings(self._ids, rows, tuple(map("".join, expected.tolist())), wrong(letters, expected))

    # --- layer 2 ----------------------------------------------------------------------------------------------

    def _seated(self, n: int) -> dict[int, tuple[Stand, list[str]]]:
        """Of a segment the stands (by `id`), each with those of its members who are on it, in their order."""
        return self.look.seated(self.members[n])

    def _near(self) -> dict[tuple[int, int], str]:
        """The pairs of segments that may hear each other on layer 2, and whether they do; those of which one is asked anew."""
        anew, parts = self._before[1], self._parts
        ears: dict[object, set[int]] = {}
        for n, part in enumerate(parts):
            for ear in part.listens:
                ears.setdefault(ear, set()).add(n)
        loose = [n for n, part in enumerate(parts) if part.loose]
        pairs = {
            (min(n, m), max(n, m))
            for n, part in enumerate(parts)
            for ear in part.says
            for m in ears.get(ear, ())
            if m != n and (n in anew or m in anew)
        }
        mirrored = {pair for pair in self._mirrored() if not anew.isdisjoint(pair)}
        found = {pair: OPEN for pair in combinations(loose, 2) if not anew.isdisjoint(pair)}
        for a, b in sorted(pairs | mirrored):
            # Two of each stand say what all of it do; whose frames are copied is one by himself.
            of = [self._two_each(n) if (a, b) not in mirrored else self.members[n] for n in (a, b)]
            outcome = self._parting(a, b, of, layer2=True).answer().outcome
            if outcome == BROKEN:
                found[a, b] = MEETS
            elif outcome != HOLDS:
                found[a, b] = OPEN
        return found

    def _two_each(self, n: int) -> list[str]:
        """Two of each stand of a segment's members."""
        return [record for _, records in self._seated(n).values() for record in records[:2]]

    def _mirrored(self) -> Iterator[tuple[int, int]]:
        for mirror in self.plan.all(Mirror):
            of = [self._segments_of(end) for end in (mirror.source, mirror.target)]
            yield from ((min(n, m), max(n, m)) for n in of[0] for m in of[1] if n != m)

    def _segments_of(self, adapter: str) -> set[int]:
        places = [self.plan.get("adapter", adapter), *self.plan.where("guest_tag", "adapter", adapter)]
        return {self.numbers[place.belongs] for place in places if place.belongs is not None}

    def _parting(self, a: int, b: int, of: Sequence[list[str]] = (), layer2: bool = False) -> Parting:
        """Whether two segments are apart: all their members, or those of them that are asked."""
        one, two = ((Subject(SEGMENT, self.segments[n].name),) for n in (a, b))
        whom = [Whom(tuple(Unit(r, (r,)) for r in side)) for side in of or (self.members[a], self.members[b])]
        return Parting(self.look, Apart(one, two, layer2), whom[0], whom[1], Whom(()))

    # --- over routers -----------------------------------------------------------------------------------------

    def _attached(self, n: int) -> tuple[list[str], list[Group]]:
        """Of a segment the interfaces that are attached, and these in groups."""
        if n not in self._groups:
            records = [record for _, of in self._seated(n).values() for record in of]
            self._groups[n] = records, self.look.gathered(records)
        return self._groups[n]

    def _nets(self, n: int) -> frozenset[Numbers]:
        """The subnets of a segment's interfaces, each by its first address."""
        return frozenset((v, net, net, length) for v, _, net, length in self.look.nets(self._attached(n)[1]))

    @cached_property
    def _kinds(self) -> list[list[str]]:
        """Of each segment the interfaces with addresses, one for all who are alike whatever they ask."""
        known, anew = self._before
        size = range(len(self.segments))
        of = [known.parts[n].nets if known is not None and n not in anew else self._nets(n) for n in size]
        marks = self.look.marks(frozenset().union(*of))
        return [
            list(known.parts[n].kinds) if known is not None and n not in anew else self._kinds_of(n, marks)
            for n in size
        ]

    def _kinds_of(self, n: int, marks: Marks) -> list[str]:
        records, groups = self._attached(n)
        kinds: dict[Hashable, str] = {}
        for group in groups:
            for key, at in self.look.placed(records, group, marks) if not group.bare else ():
                kinds.setdefault(key, records[at[0]])
        return list(kinds.values())

    def _ends_of(self, kinds: Iterable[str]) -> Iterator[tuple[str, str, Address]]:
        """The addresses of some interfaces, each with the interface and whose it is."""
        for record in kinds:
            owner = self.look.owner(record)
            stack = self.look.stack(owner)
            yield from ((record, owner, b.ip) for i in stack.interfaces if i.record == record for b in i.addresses)

    @cached_property
    def _ends(self) -> list[list[End]]:
        """Of each segment the addresses of its kinds, numbered."""
        number = count()
        return [[End(next(number), *end) for end in part.ends] for part in self._parts]

    @cached_property
    def reaching(self) -> Reaching:
        """Where packets get to, of all those addresses."""
        return Reaching(self.look, list(chain.from_iterable(self._ends)))

    @cached_property
    def _reached(self) -> tuple[np.ndarray, np.ndarray]:
        """bool[segments, segments] twice: whether packets of somebody on a segment get to somebody on another one over routers, and whether they may; of those pairs of which one is
        asked anew."""
        size, (known, anew) = len(self.segments), self._before
        found = np.eye(size, dtype=bool), np.zeros((size, size), dtype=bool)
        everybody = range(size)
        if known is None:
            self._follow(everybody, self.reaching, everybody, *found)
            return found
        asking = sorted(anew)
        self._follow(asking, self.reaching, everybody, *found)
        number = count()
        ends = [End(next(number), *end) for n in asking for end in self._parts[n].ends]
        others = [n for n in everybody if n not in anew]
        if ends:
            self._follow(others, Reaching(self.look, ends), asking, *found)
        return found

    def _follow(
        self, ones: Sequence[int], reaching: Reaching, others: Sequence[int], answered: np.ndarray, doubt: np.ndarray
    ) -> None:
        """Say where packets of some segments get to others, of whose addresses `reaching` is."""
        parts = self._parts
        heres = [here for n in ones for here in parts[n].kinds]
        from_ = np.repeat(np.asarray(ones, dtype=np.int64), [len(parts[n].kinds) for n in ones])
        to = np.repeat(np.asarray(others, dtype=np.int64), [len(parts[n].ends) for n in others])
        open_: list[np.ndarray] = []
        most = max(1, MOST_AT_ONCE // max(1, to.size))
        for first in range(0, len(heres), most):
            found = reaching.found(heres[first : first + most])
            row, end = np.nonzero((found.fares == SURELY) & ~found.open)
            answered[from_[first + row], to[end]] = True
            row, end = np.nonzero(found.open)
            open_.append(np.array([first + row, end]))
        rows, ends = np.hstack([*open_, np.zeros((2, 0), dtype=np.int64)])
        left = ~answered[from_[rows], to[ends]]
        doubts: dict[tuple[int, int], list[tuple[str, str]]] = {}
        exits: dict[str, Exits] = {}
        for row, end in zip(rows[left].tolist(), ends[left].tolist(), strict=True):
            pair = int(from_[row]), int(to[end])
            if not answered[pair]:
                here, there = heres[row], reaching.ends[end]
                if here not in exits:
                    exits = {here: reaching.exits(here)}
                fare = reaching.arrives(exits[here], there)
                answered[pair] = fare == ANSWERED
                if fare == UNPROVEN:
                    doubts.setdefault(pair, []).append((here, there.record))
        for pair, between in doubts.items():
            if not answered[pair]:
                fare = self._exactly(*pair, between)
                answered[pair], doubt[pair] = fare == ANSWERED, fare == UNPROVEN

    def _exactly(self, a: int, b: int, pairs: list[tuple[str, str]]) -> str:
        """The same of two segments of which the arrays don't say it: one interface after another."""
        fares = SILENT
        for here, there in dict.fromkeys(pairs):
            self._exact += 1
            found = self.look.waking.arrives(here, there)[0] if self._exact <= MOST_EXACT else UNPROVEN
            if found == ANSWERED:
                return ANSWERED
            if found == UNPROVEN and self.look.owner(there) not in self._shared(a, b):
                fares = UNPROVEN
        return fares

    def _shared(self, a: int, b: int) -> frozenset[str]:
        """Whoever is on both: that he has an address on the other one reaches nobody there."""
        sides = ({self.look.owner(record) for record in self.members[n]} for n in (a, b))
        return frozenset.intersection(*map(frozenset, sides))

    @cached_property
    def _near_forwarders(self) -> list[frozenset[int]]:
        """Of each segment the groups of forwarding stacks (that may hear each other, or one another) of which one may hear somebody of it or be heard."""
        look, voices = self.look, self.look.voices
        ears: dict[object, set[str]] = {}
        for owner in look.forwarding:
            for interface in look.stack(owner).interfaces:
                stand = look.stand_of.get(interface.record)
                if stand is not None:
                    for voice in voices.says(stand) | voices.listens(stand):
                        ears.setdefault(voice, set()).add(owner)
        group: dict[str, int] = {}
        for together in ears.values():
            joined = {group[owner] for owner in together if owner in group}
            number = min(joined, default=len(group))
            group.update({owner: number for owner, of in group.items() if of in joined})
            group.update(dict.fromkeys(together, number))
        made = []
        for records in self.members if ears else ():
            owners = set(map(look.owner, records))
            # Somebody with several interfaces may be reached at any of them.
            others = (i.record for owner in owners if look.manifold(owner) for i in look.stack(owner).interfaces)
            stands = {id(s): s for r in chain(records, others) if (s := look.stand_of.get(r)) is not None}.values()
            heard = {voice for stand in stands for voice in voices.says(stand) | voices.listens(stand)}
            near = {group[owner] for voice in heard for owner in ears.get(voice, ())}
            made.append(frozenset(near | {group[owner] for owner in owners if owner in group}))
        return made or [frozenset()] * len(self.members)

    def _unaddressed(self, a: int, b: int) -> str:
        """What is known of a pair in which somebody's address isn't said: he may have any, so that whoever forwards near both may send on what they send."""
        if self._near_forwarders[a].isdisjoint(self._near_forwarders[b]):
            return APART
        self._whole += 1
        if self._whole > MOST_WHOLE:
            return OPEN
        return APART if self._parting(a, b).answer().outcome == HOLDS else OPEN

    # --- what is expected -------------------------------------------------------------------------------------

    def _expected(self) -> np.ndarray:
        size = len(self.segments)
        made = np.full((size, size), FREE)
        for rule in sorted(self.plan.all(Rule), key=lambda r: (r.text, r.id)):
            sentence = read(rule.text)
            if not isinstance(sentence, (Apart, Reach)):
                continue
            without = set(self.look.meaning.whom(sentence.without).records) if isinstance(sentence, Apart) else set()
            sides = [self._covered(self.look.meaning.whom(side), without) for side in (sentence.a, sentence.b)]
            for a in sides[0]:
                for b in sides[1]:
                    if a != b:
                        for one, two in ((a, b), (b, a)):
                            made[one, two] = sterner(str(made[one, two]), sentence)
        return made

    def _covered(self, whom: Whom, without: set[str]) -> list[int]:
        """The segments of which everybody is meant, those set aside not counted."""
        meant = set(whom.records) - without
        return [n for n, records in enumerate(self.members) if records and not set(records) - without - meant]

    # --- one pair ---------------------------------------------------------------------------------------------

    def said(self, one: str, two: str) -> list[Told]:
        """What is found of a pair of segments (ids) in sentences, with the interfaces of whom they speak."""
        a, b = self.numbers[one], self.numbers[two]
        empty = [self.segments[n].name for n in (a, b) if not self.members[n]]
        if empty:
            return [Told(f"Nobody is on {some(empty)}.", "", "")]
        near = self._parting(a, b, layer2=True).answer()
        found = [Told(near.text, near.a, near.b)] if near.outcome != HOLDS else []
        for n, m in ((a, b), (b, a)):
            found += self._over(n, m)
        if not found:
            whole = self._parting(a, b).answer()
            found.append(Told(whole.text, whole.a, whole.b))
        return found

    def _over(self, a: int, b: int) -> Iterator[Told]:
        """A way from somebody on a segment to somebody on another one over routers, where there is one."""
        for here in self._kinds[a]:
            exits = self.reaching.exits(here)
            for end in self._ends[b]:
                if end.owner == exits.stack.owner.id or self.reaching.arrives(exits, end) == SILENT:
                    continue
                outcome, state, way = self.look.waking.arrives(here, end.record)
                if outcome == ANSWERED and way is not None:
                    yield Told(arrival(self.look, here, end.record, state, way), here, end.record)
                    return


class Told(NamedTuple):
    """A sentence on a pair of segments, and the interfaces (records) of whom it speaks; empty: of none in particular."""

    text: str
    a: str
    b: str


def rule_between(one: Segment, two: Segment) -> str:
    """The sentence that keeps two segments apart."""
    return f"keep segment {quoted(one.name)} apart from segment {quoted(two.name)}"


def endings(judgement: Judgement, one: Segment, two: Segment) -> list[tuple[str, Edit]]:
    """Edits, in words, after which two segments (that may hear or reach each other) are apart; each was tried."""
    text = rule_between(one, two)
    found: list[tuple[str, Edit]] = []
    for title, edit in rule_offers(judgement, text):
        try:
            after = judged_after(judgement, edit)
        except PlanError:
            # An offer that doesn't go together with the rest of the plan: there are others.
            continue
        if asked(after).ask(text).outcome == HOLDS:
            found.append((title, edit))
    return found[:MOST_ENDINGS]


def sterner(known: str, sentence: Apart | Reach) -> str:
    """What is expected once a sentence is heard too: of several the one that forbids most."""
    said = (BESIDE if sentence.layer2 else KEPT) if isinstance(sentence, Apart) else LED
    return min(known, said, key=(KEPT, BESIDE, LED, FREE).index)


def meeting(judgement: Judgement) -> Meeting:
    """What is known of meetings; the same object for as long as the judgement lives."""
    return judgement.once(Meeting)


def meetings(judgement: Judgement) -> Meetings:
    """Every pair of segments of a judged plan; worked out once."""
    return judgement.once(_meetings)


GRAVEST = (MEETS, BOTH, OPEN, APART, NOBODY)
"""Of the pairs of two roles the one that counts, where none is one way only."""


def by_role(plan: Plan, found: Meetings) -> Meetings:
    """Roles against each other, each called by its name in place of a segment (the segments without one: an empty name): of their pairs of segments the gravest, what rules
    expect of all of them, and in `wrong` whether one isn't so.  In the diagonal the segments of a role against one another."""
    role = [plan.get("segment", id).role for id in found.segments]
    roles = sorted(set(role), key=lambda name: (not name, natural(name.casefold())))
    of = {name: [n for n, own in enumerate(role) if own == name] for name in roles}
    rows, expects, wrongs = [], [], []
    for one in roles:
        pairs = [[(a, b) for a in of[one] for b in of[two] if a != b] for two in roles]
        rows.append("".join(_gravest({found.rows[a][b] for a, b in each}) for each in pairs))
        said = [{found.expected[a][b] for a, b in each if found.rows[a][b] != NOBODY} for each in pairs]
        expects.append("".join(next(iter(letters)) if len(letters) == 1 else FREE for letters in said))
        wrongs.append("".join("!" if any(found.wrong[a][b] == "!" for a, b in each) else FREE for each in pairs))
    return Meetings(tuple(roles), tuple(rows), tuple(expects), tuple(wrongs))


def _gravest(letters: set[str]) -> str:
    """What stands for some pairs: who goes there in one of them and back in another one does both."""
    ways = letters & {THERE, BACK}
    if ways and not letters & {MEETS, BOTH}:
        return ways.pop() if len(ways) == 1 else BOTH
    return next((letter for letter in GRAVEST if letter in letters), NOBODY)


BY_SEGMENT = ("segment", *(MEETING[letter] for letter in (MEETS, BOTH, THERE, BACK, OPEN)), "not as rules expect")


def by_segment(judgement: Judgement) -> list[tuple[str, list[list[str]]]]:
    """Each segment (its name) with the names of those in each way that it stands to, in the order of `BY_SEGMENT`; who is apart from it is in none."""
    found = meetings(judgement)
    return listed(found, [judgement.plan.get("segment", id).name for id in found.segments])


def listed(found: Meetings, names: Sequence[str]) -> list[tuple[str, list[list[str]]]]:
    """The same of meetings of whom these are the names."""
    made = []
    for name, letters, wrongs in zip(names, found.rows, found.wrong, strict=True):
        groups = [
            [n for n, letter in zip(names, letters, strict=True) if letter == of]
            for of in (MEETS, BOTH, THERE, BACK, OPEN)
        ]
        broken = [n for n, mark in zip(names, wrongs, strict=True) if mark == "!"]
        made.append((name, [*groups, broken]))
    return made


def _meetings(judgement: Judgement) -> Meetings:
    with no_collecting():
        return meeting(judgement).all()

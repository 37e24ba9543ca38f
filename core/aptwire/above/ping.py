"""Ping: whether one stack gets an answer from another (RFC 792), hop by hop over routers, each hop a layer-2 question of its own.

A packet goes to whom it is for where that is on link (RFC 1122 section 3.3.1.1, RFC 4861 section 5.2), else to the next hop of the longest prefix
(RFC 1812 section 5.2.4.3).  Whoever has the next hop's address must hear the question for it (RFC 826, RFC 4861 section 7.2) and be
heard with the answer.  The answer finds its own way back.  What the plan doesn't say makes unproven what depends on it: it is
never taken as reached.  Filters let it through, or don't; what they let
out gets its answers back.  Whoever translates puts its own address in place of the sender's, and that one back into the answer (RFC 3022 section 2.2); a filter sees
the addresses of before.  Whoever translates inwards takes what is for an address of its own to be for somebody behind it (section 4.3 there), and his answers for its own, as far as they pass it.  Whoever has its address by lease has it as the plan's servers give it.  An outside network answers as one of the
addresses that stand for it.  The size of packets isn't asked here (`room.py`).
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from itertools import chain, islice, product
from typing import Any

from aptwire.above.outcomes import ANSWERED, SILENT, UNPROVEN, WAVERS
from aptwire.forward.frames import may
from aptwire.forward.parts import NOW, Place, State, Team, TeamKey
from aptwire.forward.trace import Trace, entry_at, say_state, trace
from aptwire.forward.wiring import Wiring
from aptwire.judge.gotten import gotten
from aptwire.judge.judgement import Judgement
from aptwire.judge.lease import NO_ANSWER
from aptwire.judge.voices import voices
from aptwire.judge.why import OPEN_END, is_idle
from aptwire.plan.fields import bare_address
from aptwire.plan.filters import PING, Gate, Packet, every_packet, only, passing, unsure
from aptwire.plan.kinds import OWNERS, PLACES, Adapter, FilterLine, InwardTranslation, Outside, Record, WayIn
from aptwire.plan.names import called, some, with_key
from aptwire.plan.outside import StandIns, behind, lost
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.stacks import (
    BEYOND,
    CONNECTED,
    EVERYTHING,
    GATEWAY,
    INWARD,
    STATIC,
    Address,
    Entry,
    Interface,
    Stack,
    forwarding,
    owner_of,
    stack_of,
)

ENDS = (*OWNERS, *PLACES, Outside.kind)
"""The kinds of whom and to whom a ping may be."""
MOST_STATES = 64
"""As many combinations of what teams may do are asked; where there are more, an answer in all of those asked is no proof."""
MOST_HOPS = 32
LEASING = {4: Packet("udp", 67), 6: Packet("udp", 547)}
"""What relays and lease servers send each other, from the same port, by IP version (RFC 2131 section 4.1, RFC 8415 section 7.2)."""
OWN_PORT = 49_152
"""The first port from which questions are asked (RFC 6335 section 6)."""


@dataclass(frozen=True)
class Leg:
    """One link on the way: out of an interface (`out`, a record) to the next hop's `address`, which `to` (a record; None: nobody) bears; `by` says why it goes
    there, and `trace` is the question for the address, or the answer where that gets lost."""

    out: str
    address: str
    to: str | None
    by: str
    outcome: str
    reason: str = ""
    trace: Trace | None = None

    def to_json(self) -> dict[str, Any]:
        """The leg for a program."""
        return {**self.__dict__, "trace": self.trace.to_json() if self.trace else None}


@dataclass(frozen=True)
class Hidden:
    """A translation on a way: whoever forwards (`owner`) sent a packet of a `source` on by an interface (`at`, a record) as `shown`."""

    owner: str
    at: str
    source: str
    shown: str


@dataclass(frozen=True)
class Turned:
    """An inward translation on a way: whoever forwards (`owner`) took what came for an address `asked` of its own interface (`at`, a record) to be for another one
    (`to`), at a `port` of that (0: the one that was asked for); `after` so many legs."""

    owner: str
    at: str
    asked: str
    to: str
    port: int
    after: int


@dataclass(frozen=True)
class Way:
    """A packet's way from one address to another; `stopped` is the filter line (id) that dropped it there, `hidden` the translations on it, and `turned` those inwards, after which
    `target` is another one than was asked for."""

    source: str
    target: str
    legs: tuple[Leg, ...]
    outcome: str
    reason: str = ""
    stopped: str = ""
    hidden: tuple[Hidden, ...] = ()
    turned: tuple[Turned, ...] = ()

    @property
    def shown(self) -> str:
        """The source that its target sees."""
        return self.hidden[-1].shown if self.hidden else self.source

    def to_json(self) -> dict[str, Any]:
        """The way for a program."""
        changed = {name: [one.__dict__ for one in getattr(self, name)] for name in ("hidden", "turned")}
        return {**self.__dict__, "legs": [leg.to_json() for leg in self.legs], **changed}


@dataclass(frozen=True)
class Answering:
    """That a packet is an answer: to one that went through these stacks (`through`, ids), of which some had put another address in place of its source;
    `asking`: the outside network (id) that had sent it."""

    through: frozenset[str]
    hidden: tuple[Hidden, ...] = ()
    asking: str | None = None

    def meant(self, owner: str, address: Address) -> Address | None:
        """For whom an answer is that comes to somebody who translated; None: for itself."""
        found = (one.source for one in self.hidden if one.owner == owner and one.shown == str(address))
        source = next(found, None)
        return ipaddress.ip_address(source) if source is not None else None


@dataclass(frozen=True)
class Ping:
    """Whether `source` gets an answer from `target`, in a sentence: today and, where that differs, in other states (`elsewhere`: the state, what
    becomes of it there, and why); `ways` there and back today."""

    source: str
    target: str
    outcome: str
    sentence: str
    ways: tuple[Way, ...]
    elsewhere: tuple[tuple[str, str, str], ...]

    def to_json(self) -> dict[str, Any]:
        """The answer for a program."""
        return {
            **self.__dict__,
            "ways": [way.to_json() for way in self.ways],
            "elsewhere": [dict(zip(("state", "outcome", "reason"), one, strict=True)) for one in self.elsewhere],
        }


def ping(judgement: Judgement, source: str, target: str, state: State | None = None, packet: Packet = PING) -> Ping:
    """Ask from an endpoint's stack (`source`, a record) whether an address, or a record that bears one, answers; `state`: in that alone, else today and
    after whatever else the teams on the way may do; `packet`: with another one than a ping's own.  PlanError where the records are none that have a stack."""
    return Pings(judgement, exact=True).ask(source, target, state, packet)


def end_of(plan: Plan, name: str) -> str:
    """The record, or address, that somebody means: a record's id, an address, host/name of an endpoint (with |tag for a guest's own), or the name of a guest,
    station, host or outside network; PlanError says what is wrong with it."""
    text, _, tag = name.strip().partition("|")
    if plan.find(text, ENDS) is not None and not tag:
        return text
    try:
        return str(ipaddress.ip_address(bare_address(text)))
    except ValueError:
        pass
    found = with_key(plan, text)
    if tag:
        own = [t for id in found or [text] for t in plan.where("guest_tag", "adapter", id) if str(t.vid) == tag]
        if not own:
            raise PlanError([Problem(f"nobody tags {tag[:20]} at “{text[:80]}”")])
        return str(own[0].id)
    found += [record.id for kind in (*OWNERS, Outside.kind) for record in plan.where(kind, "name", text)]
    if len(found) == 1:
        return found[0]
    if found:
        raise PlanError([Problem(f"“{text[:80]}” is the name of several; use an id: {some(sorted(found), 6)}")])
    raise PlanError(
        [Problem(f"nobody is called “{text[:80]}”: a guest, a station, host/adapter, or an address is needed")]
    )


@dataclass(frozen=True)
class InStates:
    """What becomes of a question and its answer, and why, in every state; their `ways` today, and the states in which it is something else than then."""

    outcome: str
    reason: str
    ways: tuple[Way, ...]
    differs: tuple[tuple[State, str, str], ...]

    @property
    def failing(self) -> State:
        """The first state in which there is no answer; today where there is one in all of them."""
        return next((state for state, outcome, _ in self.differs if outcome != ANSWERED), NOW)


@dataclass
class Pings:
    """Many pings of one judged plan.

    Unless they are to be `exact` (each hop then brings its trace), whoever hears each other in every state by the arrays isn't traced, and where all
    hops are so no other state is asked.  `waking`: as if everybody were on; `leasing`: what is sent comes from the port of lease servers (RFC 2131 section 4.1),
    which guards of adapters drop, of IPv6 too (RFC 7610).  `passed` are those (owners) whose stacks were asked since somebody emptied it.
    """

    judgement: Judgement
    exact: bool = False
    waking: bool = False
    leasing: bool = False
    stacks: dict[str, Stack] = field(default_factory=dict)
    traces: dict[tuple[str, str, str], Trace] = field(default_factory=dict)
    states_matter: bool = False
    guessing: bool = False
    packet: Packet = PING
    answering: Answering | None = None
    passed: set[str] = field(default_factory=set)

    def __post_init__(self) -> None:
        self.wiring, self.plan = self.judgement.wiring, self.judgement.plan
        self.voices = voices(self.judgement)
        self.gotten = gotten(self.judgement)
        self.held = self.gotten.held
        self.stand_ins = self.judgement.once(_stand_ins)

    def ask(self, source: str, target: str, state: State | None = None, packet: Packet = PING) -> Ping:
        """Whether a stack gets an answer from somebody (a record, or an address), in one state or in all."""
        self.packet = packet
        here = self._start(source)
        address, name, owner = self._target(target, here)
        names = here.name, name
        if address is None:
            return Ping(*names, *self._without(target, name, "address"), (), ())
        if not any(own.version == address.version for own in here.own):
            family = f"IPv{address.version} address" if here.own else "address"
            return Ping(*names, *self._without(source, here.name, family), (), ())
        if owner is None and self.gotten.who(address) is not None and not self.gotten.surely(address):
            how = "formed by whoever listens" if address.version == 6 else "leased to whoever asks"
            return Ping(*names, UNPROVEN, f"{address} is {how}, so nobody can know who has it.", (), ())
        found = self.in_states(partial(self._both, here, address, owner), state)
        for lent in self._lent_to(target) if found.outcome != ANSWERED else ():
            # Whoever isn't reached by his own address may be by one that somebody lets in for him.
            other = self.in_states(partial(self._both, here, lent, owner), state)
            if other.outcome == ANSWERED and other.ways[0].turned:
                found, address = other, lent
        differs = tuple((say_state(self.wiring, s), o, why) for s, o, why in found.differs)
        sentence = _sentence(names, str(address), found.outcome, found.reason, packet)
        if found.ways and found.ways[0].turned and found.outcome == ANSWERED:
            last = found.ways[0].turned[-1]
            whose = self._name(str(found.ways[0].legs[-1].to))
            sentence += f" It is {whose}, for whom {self._name(last.at)} lets it in."
        return Ping(*names, found.outcome, sentence, found.ways, differs)

    def ask_all(self, source: str, target: str, packet: Packet = PING) -> Iterator[Ping]:
        """The same in all states, of each address that stands for an outside network, of the IP version of which whoever asks has one."""
        yield self.ask(source, target, packet=packet)
        outside = self.plan.of(Outside.kind).get(target)
        if outside is not None:
            versions = {own.version for own in self._start(source).own}
            others = [
                address
                for version in EVERYTHING
                for address in self.stand_ins.of(outside, version)[1:]
                if version in versions
            ]
            yield from (self.ask(source, str(address), packet=packet) for address in others)

    def in_states(self, ask: Callable[[State], tuple[Way, ...]], only: State | None = None) -> InStates:
        """What becomes of a question and its answer today and in whatever else the teams on their ways may do; or in one state alone."""
        self.states_matter = self.exact
        ways = ask(only or NOW)
        today, reason = _told(ways)
        if only is not None or not self.states_matter:
            return InStates(today, reason, ways, ())
        free, fails, more = self.states_of(ways)
        either = [(other, *_told(ask(other))) for other in free]
        later = [(other, *_told(ask(other))) for other in fails]
        differs = tuple(one for one in (*either, *later) if one[1] != today)
        # Nobody says which member carries where it isn't a standby team, so that today may be any of these.
        outcome, reason = _over([(NOW, today, reason), *either], self.wiring)
        if outcome == ANSWERED:
            outcome, reason = _over([(NOW, today, ""), *later], self.wiring)
        if outcome == ANSWERED and more:
            outcome = UNPROVEN
            reason = f"it does in {MOST_STATES} of the states that teams may be in, and there are more"
        return InStates(outcome, reason, ways, differs)

    def beside(self, one: str, two: str, only: State | None = None, answer: bool = True) -> InStates:
        """Whether two interfaces hear each other (`answer`), or the first one the other, in every state or in one; the first is attached to something, and awake."""

        def asked(state: State) -> tuple[Way, ...]:
            _, outcome, reason, found = self._asked(one, two, state, answer)
            return (Way("", "", (Leg(one, "", two, "", outcome, reason, found),), outcome, reason),)

        return self.in_states(asked, only)

    def arrives(self, source: str, target: str) -> tuple[str, State, Way | None]:
        """Whether packets for an address of an interface (`target`, a record) that leave by another one over a next hop get there, answered or not: ANSWERED,
        and in which state by which way; UNPROVEN: perhaps; SILENT: in none."""
        here = self._start(source)
        return self._any(target, here.own, lambda address, lent: self.leaves(source, address, target, lent))

    def forwarded(self, enters: str, target: str) -> tuple[str, State, Way | None]:
        """The same of packets that somebody hands to an interface (`enters`) of a stack that forwards, wherever its own table would send them, from whichever address."""
        own = self._at(enters).own
        return self._any(target, own, lambda address, _: self.passes(enters, address, target))

    def _any(
        self, target: str, own: Collection[Address], ask: Callable[[Address, bool], tuple[str, State, Way | None]]
    ) -> tuple[str, State, Way | None]:
        """What was found for the first address of an interface (`target`), or one that somebody lets in for it (said beside it), at which packets arrive, else perhaps do;
        none of the sender's `own` is asked."""
        doubt: tuple[str, State, Way | None] | None = None
        both = chain(((a, False) for a in self._addresses(target)), ((a, True) for a in self._lent_to(target)))
        for address, lent in both:
            if address in own:
                continue
            found = ask(address, lent)
            if found[0] == ANSWERED:
                return found
            doubt = doubt or (found if found[0] == UNPROVEN else None)
        return doubt or (SILENT, NOW, None)

    def _addresses(self, target: str) -> Iterable[Address]:
        """Those of an interface, or all that stand for an outside network."""
        stack = self._at(target)
        if isinstance(stack.owner, Outside):
            return chain.from_iterable(self.stand_ins.of(stack.owner, version) for version in EVERYTHING)
        return (bound.ip for i in stack.interfaces if i.record == target for bound in i.addresses)

    @cached_property
    def _lent(self) -> dict[str, tuple[Address, ...]]:
        """By address, those for which whatever comes is for it, since somebody translates inwards."""
        found: dict[str, dict[Address, None]] = {}
        for turned in sorted(self.plan.all(InwardTranslation), key=lambda one: one.id):
            interfaces = (i for i in self._at(turned.at).interfaces if i.record == turned.at)
            own = (bound.ip for i in interfaces for bound in i.addresses if bound.version == 4)
            found.setdefault(turned.to, {}).update(dict.fromkeys(own))
        return {to: tuple(of) for to, of in found.items()}

    def lent_for(self, address: Address) -> bool:
        """Whether somebody translates inwards to an address."""
        return bool(self._lent) and str(address) in self._lent

    def _lent_to(self, target: str) -> Iterator[Address]:
        """The addresses that somebody lets in for those of a record."""
        if not self._lent:
            return
        record = self.plan.find(target, (*OWNERS, *PLACES))
        if record is None:
            return
        interfaces = self.stack(owner_of(self.plan, record)).interfaces
        mine = (i for i in interfaces if record.kind in OWNERS or i.record == record.id)
        for bound in (bound for i in mine for bound in i.addresses):
            yield from self._lent.get(str(bound.ip), ())

    def leaves(self, source: str, address: Address, out: str, lent: bool = False) -> tuple[str, State, Way | None]:
        """Whether packets that leave by an interface over a next hop, for an address that nobody is said to have, or that somebody lets in (`lent`), get to a stack that sends
        them out of `out`, one of its interfaces (a record)."""
        here = self._start(source)
        if isinstance(here.owner, Outside):
            lines = here.choices(address)
            if not lines and not lost(here.owner, address)[0]:
                # It may know a way, and then send it over whoever forwards there.
                outcome, state, way = self._carried(here, list(self._entries(here.owner, address)), address, out)
                doubt = Way("", str(address), way.legs if way else (), *self._no_route(here, address))
                return (outcome, state, way) if outcome == SILENT else (UNPROVEN, state, doubt)
            return self._carried(here, lines, address, out)
        # On its own link whoever has the address isn't asked of, but who answers for him is.
        outs = [
            line
            for line in here.choices(address)
            if line.how == BEYOND or (line.out == source and (lent or line.via is not None or self._proxies))
        ]
        return self._carried(here, outs, address, out, lent=lent) if outs else (SILENT, NOW, None)

    def _entries(self, outside: Outside, address: Address) -> Iterator[Entry]:
        """The lines by which an outside network could send what is for an address: to its station, or to whoever forwards where it comes in."""
        way, everything = self.plan.of(WayIn.kind).get(outside.at), EVERYTHING[address.version]
        if way is None:
            yield Entry(everything, None, outside.id, INWARD)
            return
        nets = [ipaddress.ip_network(net) for net in self.plan.get("segment", way.segment).subnets]
        for owner in forwarding(self.plan):
            for own in sorted(self.stack(owner).own, key=str):
                if own.version == address.version and any(own in net for net in nets):
                    yield Entry(everything, own, way.id, STATIC)

    def passes(self, enters: str, address: Address, out: str) -> tuple[str, State, Way | None]:
        """The same of packets that somebody hands to an interface (`enters`) of a stack that forwards."""
        here = self._at(enters)
        if address in here.own:
            return SILENT, NOW, None
        return self._carried(here, here.choices(address), address, out, enters)

    def _carried(
        self, here: Stack, lines: list[Entry], address: Address, target: str, enters: str = "", lent: bool = False
    ) -> tuple[str, State, Way | None]:
        """The first state in which some packet gets from a stack by some of its lines to an interface that has an address; `enters`: it came in
        there, with whichever address its sender likes to write, else it is that stack's own."""

        def asked(state: State) -> list[Way]:
            made: list[Way] = []
            for line in lines:
                ends = None if enters else here.sends_from(line, address), address
                gates = (here.gate(enters, line.out, *ends),) if enters and here.filter else ()
                if passing(gates) is not None:
                    borne = bool(enters) or lent or line.via is not None or line.how != CONNECTED
                    doubt = _unsaid(here, gates)
                    made += self._spread(here, line, ends, target, state, (), gates, doubt, borne=borne)
            return made

        # Where not even the arrays, which take every state together, let it through, no way is looked for.
        self.guessing = True
        perhaps = any(way.outcome != SILENT for way in asked(NOW))
        self.guessing = self.states_matter = False
        if not perhaps:
            return SILENT, NOW, None
        today = asked(NOW)
        settled = not self.states_matter or any(way.outcome == ANSWERED for way in today)
        free, fails, more = self.states_of(() if settled else tuple(today))
        doubt: Way | None = None
        others = ((other, asked(other)) for other in (*free, *fails) if not settled)
        for state, ways in chain([(NOW, today)], others):
            for way in ways:
                if way.outcome == ANSWERED:
                    return ANSWERED, state, way
                if way.outcome == UNPROVEN:
                    doubt = doubt or way
        if doubt is None and more and not settled:
            doubt = Way("", str(address), (), UNPROVEN, "teams on the way may be in more states than are asked")
        return (UNPROVEN, NOW, doubt) if doubt is not None else (SILENT, NOW, None)

    def _spread(
        self,
        here: Stack,
        line: Entry,
        ends: tuple[Address | None, Address],
        target: str,
        state: State,
        legs: tuple[Leg, ...],
        gates: tuple[Gate, ...],
        doubt: str,
        since: int = 0,
        borne: bool = True,
    ) -> Iterator[Way]:
        """Every way that some packet may take between two addresses (`ends`) from a stack on by a line of its table, past all the filters (`gates`) on it: ANSWERED
        where it gets to the target, or is sent out of it for whoever is there, UNPROVEN where it perhaps does (`doubt`: what isn't known of the way so far), else SILENT.
        Whoever translates puts an address of its own in place of the source; `since` so many legs it is for the target's address."""
        if len(legs) >= MOST_HOPS or any(self._at(leg.out) is here for leg in legs[since:]):
            return
        source, address = str(ends[0] or ""), ends[1]
        if line.out == target and line.via is None and borne:
            last = (Leg(here.owner.id, str(address), target, _why(line), ANSWERED),) if line.how == BEYOND else ()
            yield Way(source, str(address), (*legs, *last), UNPROVEN if doubt else ANSWERED, doubt)
            return
        for leg in self._takers(here, line, address, state, borne):
            done, unsure = (*legs, leg), doubt or (leg.reason if leg.outcome == UNPROVEN else "")
            if leg.outcome == SILENT:
                yield Way(source, str(address), done, SILENT, leg.reason)
            elif leg.to is None or leg.to == target:
                yield Way(source, str(address), done, UNPROVEN if unsure else ANSWERED, unsure)
            elif address in (there := self._at(leg.to)).own and any(there.turns(leg.to, address)) and there.forwards:
                for turned in there.turns(leg.to, address):
                    yield from self._turning(there, turned, leg.to, ends, target, state, done, gates, unsure)
            elif address in there.own:
                # Whoever forwards has a part in both subnets; of the target it isn't known at which interface it takes it; a twin keeps it.
                own = there is self._at(target)
                reason = f"{there.name} has {address}{' on another interface than the one that is reached' if own else ' too'}"
                yield Way(source, str(address), done, UNPROVEN if own and not there.forwards else SILENT, reason)
            elif isinstance(there.owner, Outside):
                yield Way(source, str(address), done, SILENT, f"it goes into {there.name}")
            elif there.forwards:
                for onward in there.choices(address):
                    past, doubtful = gates, unsure
                    if there.filter:
                        past = (*gates, there.gate(leg.to, onward.out, *ends))
                        if passing(past) is None:
                            told = self._redirected(there, onward, done)
                            if not told:
                                continue
                            past, doubtful = gates, unsure or f"{there.name} drops it, {told}"
                        else:
                            doubtful = unsure or _unsaid(there, past)
                    own_source = there.hides(onward.out, *ends)
                    further = there.sends_from(onward, address) if own_source else ends[0], address
                    yield from self._spread(there, onward, further, target, state, done, past, doubtful, since)

    def _turning(
        self,
        there: Stack,
        turned: InwardTranslation,
        entered: str,
        ends: tuple[Address | None, Address],
        target: str,
        state: State,
        done: tuple[Leg, ...],
        gates: tuple[Gate, ...],
        doubt: str,
    ) -> Iterator[Way]:
        """The ways on of some packet that a stack takes to be for somebody behind it, past all the filters so far and from there on."""
        to = ipaddress.ip_address(turned.to)
        meant = (*gates, only(turned.protocol, turned.ports, (to.version, int(to))))
        if passing(meant) is None:
            return
        # Of a port that becomes another one, what was let through before says nothing further on.
        after = (only(turned.protocol, str(turned.port), (to.version, int(to))),) if turned.port else meant
        for onward in there.choices(to):
            past = (*after, there.gate(entered, onward.out, ends[0], to)) if there.filter else after
            if passing(past) is None:
                continue
            hides = there.hides(onward.out, ends[0], to) or (turned.hairpin and onward.out == entered)
            source = there.sends_from(onward, to) if hides else ends[0]
            yield from self._spread(
                there, onward, (source, to), target, state, done, past, doubt or _unsaid(there, past), len(done)
            )

    def _takers(self, here: Stack, line: Entry, address: Address, state: State, borne: bool = True) -> Iterator[Leg]:
        """Everybody who may get a packet that goes out by a line; unless whoever has the address counts (`borne`), only who answers for others."""
        via = line.via or address
        by = _why(line)
        if line.how == INWARD:
            yield Leg(line.out, str(via), self._at(line.out).owner.at, by, ANSWERED)  # type: ignore[attr-defined]
            return
        place = self._place(line.out)
        if isinstance(place, str):
            return
        bearers = sorted(self.bearers(line, via))
        asked = [self._asked(line.out, record, state) for record in bearers]
        heard = {self._at(record).owner.id for record, outcome, _, _ in asked if outcome == ANSWERED}
        others = list(self._for_others(line, via, by, state))
        whose = {self._at(str(leg.to)).owner.id for leg in others}
        several = len(heard) > 1 and not self.plan.where("shared_address", "address", str(via))
        for record, outcome, reason, found in asked:
            if (several or whose) and outcome == ANSWERED:
                outcome, reason = UNPROVEN, f"{len(heard | whose)} answer for {via}"
            if borne:
                yield Leg(line.out, str(via), record, by, outcome, reason, found)
        elsewhere = list(self._elsewhere(line, via, by, state, bearers)) if not heard else []
        alone = len(whose) == 1 and not (heard or elsewhere)
        for leg in others:
            yield leg if alone else replace(leg, outcome=UNPROVEN, reason=f"others may answer for {via} too")
        if borne and not (bearers or alone):
            yield self._gone(line, via, address, state) or Leg(line.out, str(via), None, by, *self.nobody(via, line))
        yield from elsewhere if borne else ()

    def _elsewhere(self, line: Entry, via: Address, by: str, state: State, bearers: list[str]) -> Iterator[Leg]:
        """Whoever has an address on an interface that isn't reached may answer for it on another one."""
        for record, other in self._beside(bearers, line.out, state):
            reason = f"{self._name(record)} has {via} on an interface that isn’t reached, and may answer at {self._name(other)}"
            yield Leg(line.out, str(via), other, by, UNPROVEN, reason)

    def _without(self, id: str, name: str, what: str) -> tuple[str, str]:
        """What is said of somebody who has no address to ask from, or for."""
        owner = self._start(id).owner
        interfaces = [i.record for i in stack_of(self.plan, owner).interfaces]
        asking = (of.get(record) for of in (self.judgement.leases, self.judgement.leases6) for record in interfaces)
        lease = next((one for one in asking if one is not None), None)
        if lease is None:
            return UNPROVEN, f"The plan gives {name} no {what}."
        if lease.outcome == NO_ANSWER:
            return SILENT, f"{name} has no {what}, since it gets no lease: {lease.reason}."
        return (
            UNPROVEN,
            f"Nobody can know which {what} {name} gets by lease{f': {lease.reason}' if lease.reason else ''}.",
        )

    def _start(self, source: str) -> Stack:
        record = self.plan.find(source, ENDS)
        if record is None:
            raise PlanError(
                [
                    Problem(
                        "a ping starts at a guest, a station, a host or one of their interfaces, or at an outside network",
                        field="from",
                    )
                ]
            )
        return self.stack(owner_of(self.plan, record))

    def _target(self, target: str, here: Stack) -> tuple[Address | None, str, Record | None]:
        """The address that is asked for, what it is called, and whose it ought to be: one in a subnet of whoever asks, if there is one."""
        record = self.plan.find(target, ENDS)
        if record is None:
            try:
                return ipaddress.ip_address(bare_address(target)), bare_address(target), None
            except ValueError:
                raise PlanError(
                    [Problem("a ping goes to an address, or to somebody who may have one", field="to")]
                ) from None
        owner = owner_of(self.plan, record)
        stack = self.stack(owner)
        interfaces = [i for i in stack.interfaces if record is owner or i.record == record.id]
        bound = [address.ip for interface in interfaces for address in interface.addresses]
        versions = {own.version for own in here.own}
        name = called(self.plan, record if owner.kind == "host" else owner)
        near = (a for a in bound if any(interface.holds(a) for interface in here.interfaces))
        usable = (a for a in bound if a.version in versions)
        return next(near, next(usable, next(iter(bound), None))), name, owner

    def stack(self, owner: Record) -> Stack:
        """The stack of a guest, station, host or outside network, made once."""
        self.passed.add(owner.id)
        if owner.id not in self.stacks:
            if isinstance(owner, Outside):
                own = (ip for version in EVERYTHING for ip in self.stand_ins.of(owner, version)[:1])
                bound = tuple(ipaddress.ip_interface(ip) for ip in own)
                self.stacks[owner.id] = Stack(self.plan, owner, (Interface(owner.id, bound, (), True),))
            else:
                self.stacks[owner.id] = stack_of(self.plan, owner, self.held)
        return self.stacks[owner.id]

    def _at(self, record: str) -> Stack:
        """The stack of which a record is an interface; that of a way in is the outside network behind it from which a packet comes."""
        found = self.plan.find(record, (*ENDS, WayIn.kind))
        assert found is not None
        if isinstance(found, WayIn):
            found = self.plan.where(Outside.kind, "at", record)[0]
        return self.stack(owner_of(self.plan, found))

    def relayed(self, source: str, address: Address, to: Address, state: State) -> tuple[Way, ...]:
        """The ways there and back of what a relay at an interface (`source`, a record, with this address on the link) sends to a server.  Of IPv4 it is answered at that
        address (RFC 2131 section 4.1), of IPv6 at the one from which the question came, which is that of the way that it took (RFC 8415 section 18.3.10)."""
        self.packet = LEASING[address.version]
        return self._both(self._at(source), to, None, state, address if address.version == 4 else None)

    def _both(
        self, here: Stack, address: Address, owner: Record | None, state: State, source: Address | None = None
    ) -> tuple[Way, ...]:
        """The way there (`source`: from this address of its own) and, if it arrives where it ought to, the way back of the answer."""
        there = self._way(here, source, address, state)
        if there.outcome != ANSWERED or not there.legs:
            return (there,)
        target = self._at(str(there.legs[-1].to))
        if owner is not None and owner.id not in (target.owner.id, *(turned.owner for turned in there.turned)):
            reason = f"{target.name} has {address} too, and answers in its place"
            return (replace(there, outcome=SILENT, reason=reason),)
        if self.leasing and there.hidden:
            # A server answers the address that stands in the question itself (RFC 2131 section 4.1).
            reason = f"{self._name(there.hidden[0].owner)} translates, and what comes back past that isn’t known"
            return (replace(there, outcome=UNPROVEN, reason=reason),)
        # Connections that were let out get answers back, over each filter that saw them.
        through = frozenset(self._at(str(leg.to)).owner.id for leg in there.legs[:-1])
        answering = Answering(through, there.hidden, here.owner.id if isinstance(here.owner, Outside) else None)
        meant = ipaddress.ip_address(there.target)
        back = self._way(target, meant, ipaddress.ip_address(there.shown), state, answering)
        passed = {self._at(str(leg.to)).owner.id for leg in back.legs[:-1]}
        past = next((turned for turned in there.turned if turned.owner not in passed), None)
        if back.outcome == ANSWERED and past is not None:
            # It comes from another address than was asked, which nobody puts right.
            reason = f"it comes from {meant} itself, past {self._name(past.owner)}, and {past.asked} was asked"
            back = replace(back, outcome=SILENT, reason=reason)
        return there, back

    def _way(
        self,
        here: Stack,
        source: Address | None,
        target: Address,
        state: State,
        answering: Answering | None = None,
    ) -> Way:
        """A packet's way; `answering`: it is an answer."""
        self.answering = answering
        if target in here.own:
            return Way(str(target), str(target), (), ANSWERED)
        ways = []
        lines = here.choices(target)
        if answering is not None and not lines and getattr(here.owner, "translates", False):
            lines = [Entry(EVERYTHING[target.version], None, here.owner.id, INWARD)]
        for line in lines:
            address = source or here.sends_from(line, target)
            ways += self._onward(here, line, str(address or ""), target, state, ())
        if not ways:
            return Way(str(source or ""), str(target), (), *self._no_route(here, target))
        return _one_of(ways, here.name)

    def _no_route(self, here: Stack, target: Address) -> tuple[str, str]:
        """What becomes of a packet for which a stack has no line."""
        if isinstance(here.owner, Outside):
            sure, why = lost(here.owner, target)
            return SILENT if sure else UNPROVEN, why
        unused = next(here.unused(), None)
        if unused is not None:
            via = self.plan.get("route", unused).via
            why = f"{here.name} has no way to {target}: the next hop {via} of its route is in none of its subnets"
            return SILENT, why
        if here.forwards and not self._borne(target):
            return UNPROVEN, f"the plan doesn’t say where {here.name} sends what is for outside"
        if here.forwards:
            return SILENT, f"{here.name} has no route to {target}"
        why = f"{target} is in another subnet than {here.name}"
        unsaid = [i for i in here.interfaces if i.addresses and not i.said]
        if unsaid:
            return (
                UNPROVEN,
                f"{why}, and the plan doesn’t say where {self._name(unsaid[0].record)} belongs, so not its gateway",
            )
        return SILENT, f"{why}, which has no gateway and no route there"

    def _onward(
        self,
        here: Stack,
        line: Entry,
        source: str,
        target: Address,
        state: State,
        legs: tuple[Leg, ...],
        hidden: tuple[Hidden, ...] = (),
        turned: tuple[Turned, ...] = (),
        since: int = 0,
    ) -> list[Way]:
        """The ways from a stack on by a line of its table: one, or more where the plan leaves open which is taken; `since` so many legs it is for this target, and what
        was for another one may come by again."""
        if len(legs) >= MOST_HOPS or any(self._at(leg.out) is here for leg in legs[since:]):
            reason = f"the packet goes in a circle and comes back to {here.name}"
            return [Way(source, str(target), legs, SILENT, reason, hidden=hidden, turned=turned)]
        made = []
        for leg in self._legs(here, line, target, state):
            done = (*legs, leg)
            if leg.outcome != ANSWERED:
                made.append(Way(source, str(target), done, leg.outcome, leg.reason, hidden=hidden, turned=turned))
            else:
                made += self._taken(source, target, state, done, hidden, turned, since)
        return made

    def _turned(
        self, there: Stack, entered: str, target: Address, turned: tuple[Turned, ...], after: int
    ) -> tuple[Turned, bool] | None:
        """Whether a stack takes a packet for one of its addresses to be for somebody behind it, and does so too for who asks from within; an answer is for who asked."""
        if self.answering is not None or target not in there.own:
            return None
        packet = arriving(self.packet, turned)
        fit = (one for one in there.turns(entered, target) if only(one.protocol, one.ports, (4, 0)).passes(packet))
        found = next(fit, None)
        if found is None:
            return None
        return Turned(there.owner.id, found.at, str(target), found.to, found.port or 0, after), found.hairpin

    def _taken(
        self,
        source: str,
        target: Address,
        state: State,
        done: tuple[Leg, ...],
        hidden: tuple[Hidden, ...],
        turned: tuple[Turned, ...],
        since: int,
    ) -> list[Way]:
        """The ways of a packet from where somebody has taken it: the end of its last leg."""
        leg = done[-1]
        assert leg.to is not None
        there = self._at(leg.to)
        turn = self._turned(there, leg.to, target, turned, len(done))
        if turn is not None:
            turned, target, since = (*turned, turn[0]), ipaddress.ip_address(turn[0].to), len(done)
        ends = partial(Way, source, str(target), done, hidden=hidden, turned=turned)
        if isinstance(there.owner, Outside):
            asking = self.answering.asking if self.answering is not None else None
            if asking is not None and asking != there.owner.id:
                name = self._name(asking)
                return [
                    ends(UNPROVEN, f"it goes into {there.name}, and whether {name} is reached from there isn’t known")
                ]
            if there.owner.subnets or not self._borne(target):
                return [ends(ANSWERED)]
            return [ends(SILENT, f"it goes into {there.name}, where nobody has {target}")]
        meant = self.answering.meant(there.owner.id, target) if self.answering is not None else None
        if meant is not None:
            # From here on it goes to whoever was translated.
            target, since = meant, len(done)
        if target in there.own and (there.forwards or there.at(leg.to, target)):
            return [ends(ANSWERED)]
        if target in there.own:
            # Whether somebody takes at one interface what is for another is its own affair (RFC 1122 section 3.3.4.2).
            return [ends(UNPROVEN, f"{there.name} has {target} on another interface than the one that is reached")]
        if not there.forwards:
            return [ends(SILENT, f"{there.name} gets it as next hop {leg.address}, and doesn’t forward")]
        onward: list[Way] = []
        shown = hidden[-1].shown if hidden else source
        for following in there.choices(target):
            stopped = self._filtered(there, leg.to, following.out, shown, target, arriving(self.packet, turned))
            if stopped is not None:
                told = self._redirected(there, following, done)
                onward.append(
                    ends(UNPROVEN, f"{stopped[1]}, {told}") if told and stopped[0] == SILENT else ends(*stopped)
                )
                continue
            translated = self._translated(there, following, shown, target)
            if isinstance(translated, tuple):
                onward.append(ends(*translated))
                continue
            if translated is None and turn is not None and turn[1] and following.out == leg.to:
                # Who asks from within would hear the answer from another address than he asked (RFC 4787, REQ-9).
                translated = Hidden(there.owner.id, following.out, shown, str(there.sends_from(following, target)))
            further = (*hidden, translated) if translated is not None else hidden
            onward += self._onward(there, following, source, target, state, done, further, turned, since)
        return onward or [ends(*self._no_route(there, target))]

    def _redirected(self, there: Stack, line: Entry, done: tuple[Leg, ...]) -> str:
        """What a stack may tell whoever sent it a packet that goes back out of the interface by which it came in: the next hop, to which that one sends others himself
        (RFC 1812 section 5.2.7.2, RFC 1122 section 3.2.2.2); some do before they filter.  Empty where it has nothing to tell."""
        sender = self._at(done[0].out)
        if len(done) > 1 or line.out != done[0].to or sender.forwards or isinstance(sender.owner, Outside):
            return ""
        return f"and may tell {sender.name} of the next hop {line.via or 'itself'}, which it reaches past the filter"

    def _translated(self, there: Stack, line: Entry, source: str, target: Address) -> Hidden | tuple[str, str] | None:
        """The translation of a packet that a stack sends on by a line; None: there is none; or what becomes of it instead, and why."""
        if self.answering is not None and there.owner.id in self.answering.through:
            return None
        if not there.hides(line.out, ipaddress.ip_address(source) if source else None, target):
            return None
        if self.answering is not None:
            return UNPROVEN, f"whether {there.name} translates an answer to what it didn’t see isn’t known"
        own = there.sends_from(line, target)
        if own is None:
            return SILENT, f"{there.name} translates, and has no address there to put in place of {source}"
        return Hidden(there.owner.id, line.out, source, str(own))

    def _borne(self, address: Address) -> bool:
        """Whether somebody in the plan has an address."""
        return bool(self.wiring.bearers.get(str(address))) or self.gotten.who(address) is not None

    def _filtered(
        self, there: Stack, enters: str, leaves: str, source: str, target: Address, packet: Packet
    ) -> tuple[str, str, str] | None:
        """What a stack's filter makes of a packet that it would send on: outcome, reason and line; None: it lets it through."""
        if not there.filter or (self.answering is not None and there.owner.id in self.answering.through):
            return None
        gate = there.gate(enters, leaves, ipaddress.ip_address(source) if source else None, target)
        packets = [packet]
        if self.answering is not None and packet.port and not self.leasing:
            # An answer goes to whichever port the question came from, one of those that are nobody's own (RFC 6335 section 6).
            every = (other for other in every_packet(there.filter) if other.protocol == packet.protocol)
            packets = [Packet(packet.protocol, OWN_PORT), *(p for p in every if p.port > OWN_PORT)]
        lines = [gate.decides(packet) for packet in packets]
        denied = [line for line in lines if line is not None and line.action == "deny"]
        unsaid = next((line for line in lines if line is not None and line.action == "unknown"), None)
        if unsaid is not None and len(denied) < len(lines):
            return UNPROVEN, _whether(there, unsaid), unsaid.id
        if not denied:
            return None
        said = f"{there.name} drops it, by filter line {denied[0].order}"
        if len(denied) < len(lines):
            return UNPROVEN, f"{said}, depending on the port from which it was asked", denied[0].id
        return (
            SILENT,
            f"{said}, for it is no answer to what it let out" if self.answering is not None else said,
            denied[0].id,
        )

    def _legs(self, here: Stack, line: Entry, target: Address, state: State) -> Iterator[Leg]:
        """Who gets a packet that goes out by a line: one leg, or one for each who may answer for the next hop's address."""
        via = line.via or target
        by = _why(line)
        if line.how == BEYOND:
            yield Leg(here.owner.id, str(via), line.out, by, ANSWERED)
            return
        if line.how == INWARD:
            yield Leg(line.out, str(via), here.owner.at, by, ANSWERED)  # type: ignore[attr-defined]
            return
        place = self._place(line.out)
        if isinstance(place, str):
            yield Leg(line.out, str(via), None, by, SILENT, place)
            return
        adapter = self.plan.of("adapter").get(place.endpoint)
        if self.leasing and adapter is not None and not may_lease(self.plan, adapter):
            reason = f"a guard drops what {self._name(line.out)} sends from the port of lease servers"
            yield Leg(line.out, str(via), None, by, SILENT, reason)
            return
        bearers = self.bearers(line, via)
        asked = [self._asked(line.out, record, state) for record in sorted(bearers)]
        heard = [(record, found) for record, outcome, _, found in asked if outcome == ANSWERED]
        first = {self._at(record).owner.id: (record, found) for record, found in reversed(heard)}
        if len(first) > 1 and not self.plan.where("shared_address", "address", str(via)):
            names = some(sorted(self._name(record) for record, _ in heard))
            yield Leg(line.out, str(via), heard[0][0], by, UNPROVEN, f"{names} both answer for {via}", heard[0][1])
            return
        others = list(self._for_others(line, via, by, state))
        if heard and others:
            names = f"{self._name(heard[0][0])} and, for others, {self._name(str(others[0].to))}"
            yield Leg(line.out, str(via), heard[0][0], by, UNPROVEN, f"{names} both answer for {via}", heard[0][1])
            return
        if heard:
            for record, found in first.values():
                yield Leg(line.out, str(via), record, by, ANSWERED, "", found)
            return
        open_end = next((one for one in asked if one[1] == UNPROVEN), None)
        if others and open_end is None:
            whose = {self._at(str(leg.to)).owner.id for leg in others}
            several = len(whose) > 1 or any(True for _ in self._beside(bearers, line.out, state))
            said = f"others may answer for {via} too"
            yield replace(others[0], outcome=UNPROVEN, reason=said) if several else others[0]
        elif open_end is not None:
            yield Leg(line.out, str(via), open_end[0], by, UNPROVEN, open_end[2], open_end[3])
        elif weak := next(self._elsewhere(line, via, by, state, bearers), None):
            yield weak
        elif asked:
            record, _, reason, found = asked[0]
            yield Leg(line.out, str(via), record, by, SILENT, reason, found)
        else:
            yield self._gone(line, via, target, state) or Leg(line.out, str(via), None, by, *self.nobody(via, line))

    def _gone(self, line: Entry, via: Address, target: Address, state: State) -> Leg | None:
        """Out to an outside network: by a next hop that nobody in the plan has and that comes in from there; None where none does."""
        tried: Leg | None = None
        for way in sorted(self.plan.all(WayIn), key=lambda way: way.id) if line.via is not None else ():
            if str(via) not in self.plan.get("segment", way.segment).gateways:
                continue
            outside = behind(self.plan, way.id, target, self._borne(target))
            if outside is None:
                continue
            _, outcome, reason, found = self._asked(line.out, way.id, state)
            leg = Leg(line.out, str(via), outside.id, _why(line), outcome, reason, found)
            if outcome == ANSWERED:
                return leg
            tried = tried or leg
        return tried

    @cached_property
    def _proxies(self) -> tuple[str, ...]:
        """The interfaces of whoever forwards that answer for others (RFC 1027)."""
        found = (record for kind in PLACES for record in self.plan.where(kind, "proxy_arp", True))
        return tuple(sorted(record.id for record in found if self._at(record.id).forwards))

    @property
    def standing(self) -> bool:
        """Whether anybody answers for others."""
        return bool(self._proxies)

    def standing_in(self, line: Entry, via: Address) -> Iterator[tuple[str, bool]]:
        """The interfaces that answer for others where an address is asked for by a line, and whether they surely do: those of stacks that send what is for it on by
        another interface (RFC 1027)."""
        for record in self._proxies if via.version == 4 else ():
            there = self._at(record)
            if there is self._at(line.out) or via in there.own:
                continue
            outs = {entry.out for entry in there.choices(via)}
            if outs - {record}:
                yield record, record not in outs

    def _for_others(self, line: Entry, via: Address, by: str, state: State) -> Iterator[Leg]:
        """What they answer: a leg for each that is heard, or may be; the first of each stack."""
        known: set[str] = set()
        for record, surely in self.standing_in(line, via):
            _, outcome, reason, found = self._asked(line.out, record, state)
            owner = self._at(record).owner.id
            if outcome == SILENT or owner in known:
                continue
            known.add(owner)
            if outcome == ANSWERED and not surely:
                outcome, reason = UNPROVEN, f"whether {self._name(record)} answers for {via} isn’t known"
            yield Leg(line.out, str(via), record, f"{by}; {self._name(record)} answers for it", outcome, reason, found)

    def bearers(self, line: Entry, via: Address) -> list[str]:
        """The interfaces, others than that of a line, that have the next hop's address."""
        found = [*self.wiring.bearers.get(str(via), ())]
        leased = self.gotten.who(via)
        # Of an address that is leased to whoever asks it is known only of the one for whom it stands that he has it.
        if leased is not None and (line.via is None or self.gotten.surely(via)):
            found.append(leased)
        return [record for record in found if record != line.out]

    def _asked(self, out: str, record: str, state: State, answer: bool = True) -> tuple[str, str, str, Trace | None]:
        """Who bears the next hop's address, whether it hears the question for it and its answer is heard, and why not; without an `answer`, whether what it says by itself
        is heard."""
        place = self._place(record)
        if isinstance(place, str):
            return record, SILENT, place, None
        here = self._place(out)
        assert not isinstance(here, str)
        entering = self._entering(out, record)
        if self.guessing:
            return record, ANSWERED if entering or self.voices.may(here, place) else SILENT, "", None
        if not self.exact and not entering and self.voices.sure(here, place):
            if self.in_part(here) or self.in_part(place):
                return record, UNPROVEN, "what is known of the way there isn’t all", None
            return record, ANSWERED, "", None
        self.states_matter = True
        both = ((here, place), (place, here))
        question = self.trace_of(*both[0 if answer else 1], state)
        for one, two in both if answer else both[1:]:
            found = self.trace_of(one, two, state)
            if not found.delivered:
                open_end = any(hop.outcome == "open" for hop in found.hops) or self.in_part(one) or self.in_part(two)
                why = next((hop.reason for hop in reversed(found.hops) if hop.reason), "")
                first = one is here or not answer
                lost = f"{self._name(two.record)} isn’t reached" if first else "its answer gets lost"
                who = "" if first else f"{self._name(place.record)} hears the question; "
                return record, UNPROVEN if open_end else SILENT, f"{who}{lost}{f': {why}' if why else ''}", found
        if self.in_part(here) or self.in_part(place):
            return record, UNPROVEN, "what is known of the way there isn’t all", question
        return record, ANSWERED, "", question

    def trace_of(self, one: Place, two: Place, state: State) -> Trace:
        """The way of a frame from one place to another in a state, found once."""
        key = (one.record, two.record, repr(sorted(state.choice.items())) + repr(sorted(state.lost)))
        if key not in self.traces:
            self.traces[key] = trace(self.wiring, one, two, state)
        return self.traces[key]

    def in_part(self, place: Place) -> bool:
        """Whether the engine says of a place that it depends on what nobody knows."""
        cause = self.judgement.cause_of(place) if place.stand.judged else None
        return cause is not None and cause.what == OPEN_END

    def _beside(self, bearers: list[str], out: str, state: State) -> Iterator[tuple[str, str]]:
        """Those who bear the address, each with its other interfaces that are reached, where it may answer for any address of its own (RFC 1122 section 3.3.4.2)."""
        for record in bearers:
            for interface in self._at(record).interfaces:
                other = interface.record
                if other in (record, out) or not self._perhaps(out, other):
                    continue
                if self._asked(out, other, state)[1] != SILENT:
                    yield record, other

    def _perhaps(self, out: str, record: str) -> bool:
        """Whether two interfaces may hear each other, for all that the arrays say of them."""
        here, there = self._place(out), self._place(record)
        if self.exact or isinstance(here, str) or isinstance(there, str) or self._entering(out, record):
            return True
        return self.voices.may(here, there) or self.in_part(here) or self.in_part(there)

    def _entering(self, *records: str) -> bool:
        """Whether one of them is where something comes into the plan."""
        return any(record in self.plan.of(WayIn.kind) for record in records)

    def nobody(self, via: Address, line: Entry) -> tuple[str, str]:
        """What becomes of a packet whose next hop's address nobody in the plan bears."""
        if line.via is not None:
            return UNPROVEN, f"the plan doesn’t say who has {via}, so what is behind it isn’t known"
        segment = getattr(self.plan.find(line.out), "belongs", None)
        servers = segment is not None and self.plan.get("segment", segment).lease_servers
        if servers or any(not getattr(r, "addresses", ()) for r in self.plan.where("adapter", "belongs", segment)):
            return UNPROVEN, f"nobody in the plan has {via}, and not everybody on the segment says its address"
        return SILENT, f"nobody in the plan has {via}"

    def _place(self, record: str) -> Place | str:
        """Where a record's frames enter; or why none do.  At a way in, those of whatever is behind it."""
        way = self.plan.of(WayIn.kind).get(record)
        if way is not None:
            return entry_at(self.wiring, way) or f"{self._name(record)} lets nothing of it pass"
        place = self.wiring.place(record)
        if place is None:
            return f"{self._name(record)} isn’t attached to anything"
        if not self.waking and place.stand.judged and is_idle(self.plan, place.endpoint):
            return f"{self._name(record)} is disconnected, or its guest is off"
        return place

    def _name(self, record: str) -> str:
        return called(self.plan, self.plan.find(record))

    def states_of(self, ways: tuple[Way, ...]) -> tuple[list[State], list[State], bool]:
        """What the teams on the ways may do beside what is taken to be so today: every combination of the members of those of which nobody says who carries, each
        failover of the others, and whether there is more than is asked."""
        teams: dict[TeamKey, Team] = {team.key: team for team in self.wiring.crossing_teams}
        for leg in (leg for way in ways for leg in way.legs):
            for record in (leg.out, leg.to):
                place = self.wiring.place(record) if record else None
                if place is not None:
                    teams.update({team.key: team for team in self.wiring.teams_at(place.bridge, place.stand.order)})
        members = {key: [m.key for m in team.members[: team.usable]] for key, team in sorted(teams.items())}
        free = [key for key, of in members.items() if len(of) > 1 and teams[key].mode != "standby"]
        every = product(*(members[key] for key in free))
        # The first is today's.
        either = [State(dict(zip(free, chosen, strict=True))) for chosen in islice(every, 1, MOST_STATES + 1)]
        fails = [State({key: m}) for key, of in members.items() if key not in free for m in of[1:]]
        more = len(either) > MOST_STATES - 1 or len(fails) > MOST_STATES
        return either[: MOST_STATES - 1], fails[:MOST_STATES], more


def arriving(packet: Packet, turned: Sequence[Turned]) -> Packet:
    """A packet as it is after translations inwards."""
    port = next((one.port for one in reversed(turned) if one.port), 0)
    return Packet(packet.protocol, port) if port else packet


def _stand_ins(judgement: Judgement) -> StandIns:
    """The addresses that stand for outside networks."""
    return StandIns(judgement.plan)


def may_lease(plan: Plan, adapter: Adapter) -> bool:
    """Whether no guard keeps an adapter from sending as lease servers do."""
    return may(plan, adapter, "serve_leases")


def may_advertise(plan: Plan, adapter: Adapter) -> bool:
    """Whether no guard keeps an adapter from sending router advertisements."""
    return may(plan, adapter, "advertise_routes")


def _unsaid(stack: Stack, gates: Collection[Gate]) -> str:
    """That nobody knows whether a stack, the last on a way so far, lets some packet through; empty where it does."""
    line = unsure(tuple(gates))
    return _whether(stack, line) if line is not None else ""


def _whether(stack: Stack, line: FilterLine) -> str:
    return f"whether {stack.name} lets it through isn’t known, by filter line {line.order}"


def _why(line: Entry) -> str:
    """Why a packet goes where a line of a table says."""
    if line.how in (BEYOND, INWARD):
        return "into what is outside" if line.how == BEYOND else "from outside"
    return "on link" if line.how == CONNECTED else f"by its {'gateway' if line.how == GATEWAY else 'route'} {line.via}"


def _told(ways: tuple[Way, ...]) -> tuple[str, str]:
    """What becomes of a question and its answer."""
    last = ways[-1]
    if last.outcome == ANSWERED or len(ways) == 1:
        return last.outcome, last.reason
    return last.outcome, f"the question arrives, but its answer doesn’t: {last.reason}"


def _over(found: list[tuple[State, str, str]], wiring: Wiring) -> tuple[str, str]:
    """What states come to, and why it isn't an answer in all of them."""
    outcomes = {outcome for _, outcome, _ in found}
    if len(outcomes) == 1 and outcomes != {UNPROVEN}:
        return found[0][1], found[0][2]
    worst = SILENT if {SILENT, ANSWERED} <= outcomes else UNPROVEN
    state, _, reason = next(one for one in found if one[1] == worst)
    when = say_state(wiring, state)
    return WAVERS if worst == SILENT else UNPROVEN, reason if when == "now" else f"{when}, {reason}"


def _one_of(ways: list[Way], name: str) -> Way:
    """The way that is taken, of some of which the plan doesn't say which: where they end alike, the first."""
    if len({way.outcome for way in ways}) == 1:
        return ways[0]
    bad = next(way for way in ways if way.outcome != ANSWERED)
    return Way(
        bad.source,
        bad.target,
        bad.legs,
        UNPROVEN,
        f"the plan doesn’t say which of several ways from {name} is taken; on one, {bad.reason}",
    )


def _sentence(names: tuple[str, str], address: str, outcome: str, reason: str, packet: Packet) -> str:
    target = names[1] if names[1] == address else f"{names[1]} ({address})"
    names = (names[0] if packet == PING else f"{names[0]} on {packet}", names[1])
    if outcome == ANSWERED:
        return f"{target} answers {names[0]}."
    if outcome == WAVERS:
        return f"{target} doesn’t answer {names[0]} in every state: {reason}."
    if outcome == SILENT:
        return f"{target} doesn’t answer {names[0]}: {reason}."
    return f"Whether {target} answers {names[0]} isn’t known: {reason}."

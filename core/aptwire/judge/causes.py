"""Why somebody isn't home: one entry for each cause, with all that is said of it.

An entry tells which places share a finding, says it in a sentence, and proves it; `mends.py` has its candidates by the same names.  What they
say it with, the names and hops of a judgement, is `Sentences`.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from ipaddress import ip_address, ip_network

from aptwire.forward.parts import Place, State
from aptwire.forward.paths import Roads
from aptwire.forward.trace import Hop, HopWriter, Trace, say_state, trace
from aptwire.judge.exact import in_doubt
from aptwire.judge.judgement import Judgement
from aptwire.judge.states import deviation
from aptwire.judge.why import (
    ADDRESS,
    CUT_OFF,
    GONE,
    LEAK,
    MIRRORED,
    NO_BEARER,
    NO_GROUP,
    NO_INTENT,
    NO_LEASE,
    NO_PREFIX,
    OPEN_END,
    TOO_LARGE,
    TWIN,
    TWIN_MAC,
    VERDICTS,
    WRONG_LEASE,
    WRONG_PREFIX,
    WRONG_TAG,
    Cause,
    is_idle,
    tag_text,
)
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import (
    PLACES,
    Adapter,
    Cable,
    FabricPort,
    GuestTag,
    HostPort,
    Mirror,
    PortGroup,
    Record,
    StationPort,
)
from aptwire.plan.names import called, host_of, some
from aptwire.plan.plan import Plan
from aptwire.rules.worlds import worlds_of

Key = tuple[object, ...]
Words = tuple[str, str, tuple[str, ...]]
"""Title, text, and the records where it sits."""

STAND, PORT, PLACE = "stand", "port", "place"
"""Whose places surely share a finding: all of a stand, those of one port group among them, or nobody's."""


def spoken(plan: Plan, endpoint: str) -> str:
    """An endpoint as a sentence names it: its guest (with the adapter, if there are several), or "fulmar's mgmt"."""
    record = plan.find(endpoint, PLACES)
    if isinstance(record, GuestTag):
        record = plan.get("adapter", record.adapter)
    if isinstance(record, HostPort):
        return f"{host_of(plan, record)}’s {record.name}"
    if isinstance(record, StationPort):
        return str(plan.get("station", record.station).name)
    return spoken_adapter(plan, record) if isinstance(record, Adapter) else endpoint


def spoken_adapter(plan: Plan, adapter: Adapter) -> str:
    """An adapter as a sentence names it."""
    guest = plan.get("guest", adapter.guest)
    several = len(plan.where("adapter", "guest", adapter.guest)) > 1
    return f"{guest.name} {adapter.name}" if several else str(guest.name)


class Sentences:
    """What sentences about a judgement are made of: names, where frames end, where they land; `passed` are the records on the ways that were
    looked at."""

    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.plan = judgement.plan
        self.wiring = judgement.wiring
        self.sizes = judgement.members()
        self._breaks: dict[tuple[object, ...], Hop | None] = {}
        self._roads: dict[tuple[object, ...], Roads] = {}
        self._others: dict[str, Place] = {}
        self.passed: set[str] = set()
        self._states: dict[tuple[object, ...], str] = {}
        self._idle: dict[str, str] = {}

    def status(self, place: Place) -> str:
        return VERDICTS[self.judgement.status_of(place)]

    def when(self, cause: Cause) -> str:
        """The state in which it happens, in words."""
        key = _frozen(cause.state)
        if key not in self._states:
            self._states[key] = say_state(self.wiring, cause.state)
        return self._states[key]

    def state(self, cause: Cause) -> str:
        """The state in which it happens, in ids: what is told of it is the same after a renaming."""
        return say_state(self.wiring, cause.state, by_id=True)

    def other(self, cause: Cause) -> Place:
        place = self._others.get(cause.towards)
        if place is None:
            place = self.wiring.place(cause.towards)
            assert place is not None
            self._others[cause.towards] = place
        return place

    def wrong_at(self, place: Place, cause: Cause) -> str:
        """The record that gives a place its wrong tag: its port group or host port, or the fabric port behind it."""
        segment = self.plan.get("segment", place.segment)
        own = self.wiring.classes.of[segment.vid or 0] == place.context
        # Untagged frames that are right over another member are the fabric port's doing, not the port group's.
        untagged = place.context == 0 and self.status(place) == "wavering"
        record = self.plan.find(place.endpoint)
        if not own and not untagged:
            return getattr(record, "port_group", None) or place.record
        hops = HopWriter(self.wiring, cause.state).way_out(Roads(self.wiring, cause.state), place)
        self.passed.update(id for hop in hops for id in hop.records)
        return hops[-1].records[-1] if hops and hops[-1].records else place.record

    def broken_at(self, place: Place, cause: Cause) -> Hop | None:
        """The hop at which a place's frames (or those towards it) end in the cause's state."""
        key = (id(place.stand), _frozen(cause.state), cause.towards)
        if key not in self._breaks:
            hops = [hop for t in self.traces(place, cause, brief=True) for hop in t.hops]
            self.passed.update(id for hop in hops for id in hop.records)
            self._breaks[key] = next((hop for hop in hops if hop.outcome in ("dropped", "astray", "open")), None)
        return self._breaks[key]

    def traces(self, place: Place, cause: Cause, brief: bool = False) -> Iterable[Trace]:
        """There, and back if there works; `brief`: no words for what passes."""
        if not cause.towards:
            teller = HopWriter(self.wiring, cause.state)
            out = teller.way_out(Roads(self.wiring, cause.state), place)
            hops = [*out, *teller.way_back(place), teller.end(place, place.context)]
            yield Trace(tuple(hops), all(h.outcome == "passed" for h in hops), say_state(self.wiring, cause.state))
            return
        lost = self._lost(cause.state) if brief else None
        found = self._there_and_back(place, self.other(cause), cause.state, lost)
        if cause.what == CUT_OFF and all(one.delivered for one in found):
            # Who stands for those whom it misses is beside it in its switch, and meets it there.
            away = next(self._away(place), None)
            found = self._there_and_back(place, away, cause.state, lost) if away is not None else found
        yield from found

    def _there_and_back(self, place: Place, other: Place, state: State, lost: Roads | None) -> list[Trace]:
        there = trace(self.wiring, place, other, state, lost)
        return [there, trace(self.wiring, other, place, state, lost)] if there.delivered else [there]

    def _away(self, place: Place) -> Iterator[Place]:
        """The others on a place's segment and tag that aren't in its switch."""
        on = (r.id for kind in PLACES for r in self.plan.where(kind, "belongs", place.segment))
        places = (self.wiring.place(id) for id in sorted(on))
        return (
            p for p in places if p is not None and p.stand.bridge != place.stand.bridge and p.context == place.context
        )

    def _lost(self, state: State) -> Roads:
        """The links of a state, for frames that get lost on them."""
        key = _frozen(state)
        if key not in self._roads:
            known = not (state.choice or state.lost or in_doubt(self.wiring))
            self._roads[key] = Roads(self.wiring, state, joined=self._joined if known else None)
        return self._roads[key]

    def _joined(self, bridge: int, context: int, target: Place) -> bool:
        """Whether frames in a context of a switch get, today, to where a place's own frames enter the fabric, by the arrays."""
        row, count = self.wiring.bridges[bridge].crossing_row, self.wiring.classes.count
        there = self.judgement.spot(self.judgement.number(target.stand))
        component = self.judgement.domains.component
        return row >= 0 and len(there) == 1 and int(component[row * count + context]) == there[0]

    def world(self, place: Place) -> tuple[str, ...]:
        """The rule that keeps a place's segment apart from everything, if there is one: who bears its address elsewhere is no twin of its own."""
        rule = self.judgement.once(worlds_of).get(place.segment or "")
        return (rule,) if rule else ()

    def mac(self, place: Place) -> str:
        return str(self.plan.get("adapter", place.endpoint).mac)

    def mirrored(self, mirror: Mirror) -> list[Place]:
        return [p for id in (mirror.source, mirror.target) for p in self.wiring.places_of(id)]

    def idle_gateway(self, cause: Cause) -> str:
        """That who bears the gateway is off or unplugged, where it is so; empty else."""
        if cause.what != CUT_OFF or not cause.towards:
            return ""
        if cause.towards not in self._idle:
            self._idle[cause.towards] = self._says_idle(cause.towards)
        return self._idle[cause.towards]

    def _says_idle(self, record: str) -> str:
        other = self.wiring.place(record)
        if other is None or not other.stand.judged or not is_idle(self.plan, other.endpoint):
            return ""
        adapter = self.plan.of("adapter").get(other.endpoint)
        off = adapter is not None and not self.plan.get("guest", adapter.guest).running
        return f"{spoken(self.plan, other.endpoint)} {'is off' if off else 'is disconnected'}."

    def locked_out(self, found: tuple[tuple[Place, Cause], ...]) -> str:
        """That a host can't be managed any more, where it is so."""
        hosts = []
        for place, _ in found:
            port = self.plan.of("host_port").get(place.record)
            if port is not None and "management" in port.services and self.status(place) in ("stranded", "astray"):
                hosts.append(host_of(self.plan, port))
        return f" Nobody can manage {some(sorted(set(hosts)))} while this lasts." if hosts else ""

    def lost(self, place: Place, cause: Cause, endpoints: tuple[str, ...]) -> str:
        segment = self.plan.get("segment", place.segment)
        if not cause.towards:
            return f"the rest of {segment.name}"
        other = self.other(cause)
        if any(bare_address(a) in segment.gateways for a in other.addresses):
            record = self.plan.find(other.endpoint)
            guest = (
                self.plan.get("guest", record.guest).name
                if isinstance(record, Adapter)
                else spoken(self.plan, other.endpoint)
            )
            return f"{'its' if len(endpoints) == 1 else 'the'} gateway {guest}"
        if other.endpoint in endpoints and len(endpoints) == 2:
            return "each other"
        if self.sizes.get(place.segment or "", 0) == 2:
            return spoken(self.plan, other.endpoint)
        return f"its peers on {segment.name}" if len(endpoints) == 1 else f"the rest of {segment.name}"

    def tagged(self, record: Record | None, place: Place, their: str) -> str:
        if isinstance(record, PortGroup):
            into = tag_text(self.wiring, place.context)
            tag = {
                "access": f"is tagged {record.vid}",
                "untagged": "is untagged",
                "trunk": f"is a trunk ({into})",
                "private": f"is private on {record.vid}",
                "overlay": f"carries VNI {record.vni}",
                "standard": f"takes {'them' if their == 'their' else 'it'} in on {into}",
            }
            own_word = isinstance(found := self.plan.find(place.endpoint), Adapter) and found.members is not None
            said = tag["standard"] if own_word else tag[record.mode]
            if not self.plan.get("virtual_switch", record.switch).filters:
                said = "is on a switch that filters nothing"
            return f"{their} port group {record.name} {said}"
        if isinstance(record, HostPort):
            return f"it is {'tagged ' + str(record.vid) if record.vid else 'untagged'}"
        return f"{called(self.plan, record)} puts {'it' if their == 'its' else 'them'} there"

    def landing(self, number: int, place: Place) -> str:
        if number < 0:
            return "no tag"
        vid = self.wiring.classes.vid(number)
        if vid:
            named = [s.name for s in self.plan.where("segment", "vid", vid)]
        else:
            named = [self.plan.get("segment", s).name for s in self.judgement.untagged_here(place)]
        if named:
            return " and ".join(sorted(named))
        return f"VID {vid}, which is no segment" if vid else "no tag at all"

    def segment(self, place: Place) -> str:
        """The name of the segment on which a place belongs."""
        segment = self.plan.of("segment").get(place.segment)
        return segment.name if segment is not None else ""

    def who(self, endpoints: tuple[str, ...]) -> str:
        names = self.names(endpoints)
        if len(names) == 1:
            return names[0]
        if len(names) <= 3:
            return f"{', '.join(names[:-1])} and {names[-1]}"
        return f"{names[0]} and {len(names) - 1} more"

    def names(self, endpoints: Iterable[str]) -> list[str]:
        return sorted(spoken(self.plan, e) for e in endpoints)


@dataclass(frozen=True)
class Concerned:
    """Places that share a finding, each with its cause, in the order of records; `endpoints` theirs, `place` and `cause` the first one's."""

    found: tuple[tuple[Place, Cause], ...]

    @property
    def place(self) -> Place:
        """The one that stands for all."""
        return self.found[0][0]

    @property
    def cause(self) -> Cause:
        """Its cause."""
        return self.found[0][1]

    @cached_property
    def endpoints(self) -> tuple[str, ...]:
        """Theirs, each once."""
        return tuple(dict.fromkeys(place.endpoint for place, _ in self.found))


class CauseKind:
    """A cause: `what` it is called, `alike` whose places surely share a finding, `kept` whether what is said of it rests on the hosts
    concerned and the fabric alone, `risk` the risk that has its mends."""

    what = ""
    alike = PLACE
    kept = False
    risk = ""

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        """What places have in common that share a finding."""
        return (place.record,)

    def words(self, say: Sentences, whom: Concerned) -> Words:
        """What it says."""
        raise NotImplementedError

    def proof(self, say: Sentences, place: Place, cause: Cause) -> list[Trace]:
        """The traces that prove it."""
        made = list(say.traces(place, cause))
        if cause.towards:
            return made
        entry = HopWriter(say.wiring, cause.state).entry(place)
        return [Trace((entry, *t.hops), t.delivered, t.state) for t in made]

    def _outward(self, say: Sentences, place: Place, cause: Cause) -> list[Trace]:
        """The way of a place's own frames, as far as its host."""
        teller = HopWriter(say.wiring, cause.state)
        hops = [teller.entry(place)]
        if place.context >= 0:
            hops += teller.way_out(Roads(say.wiring, cause.state), place)
        passed = all(hop.outcome == "passed" for hop in hops)
        return [Trace(tuple(hops), passed, say_state(say.wiring, cause.state))]


class NoIntent(CauseKind):
    """Nobody said where it belongs."""

    what = NO_INTENT

    def words(self, say: Sentences, whom: Concerned) -> Words:
        lands = say.judgement.lands_on(whom.place)
        text = f"It lands on {say.landing(lands, whom.place)}; say on which segment it belongs."
        return f"Nobody said where {say.who(whom.endpoints)} belongs", text, (whom.place.record,)

    proof = CauseKind._outward


class NoGroup(CauseKind):
    """It is in no port group."""

    what = NO_GROUP

    def words(self, say: Sentences, whom: Concerned) -> Words:
        title = f"{say.who(whom.endpoints)} is in no port group"
        return title, f"It belongs on {say.segment(whom.place)}.", (whom.place.record,)

    proof = CauseKind._outward


class Address(CauseKind):
    """Its address is none of its segment's subnets'."""

    what = ADDRESS

    def words(self, say: Sentences, whom: Concerned) -> Words:
        place, who, name = whom.place, say.who(whom.endpoints), say.segment(whom.place)
        segment = say.plan.of("segment").get(place.segment)
        subnets = segment.subnets if segment is not None else ()
        wrong = ", ".join(bare_address(a) for a in place.addresses)
        if any(ip_address(bare_address(a)) in ip_network(s) for a in place.addresses for s in subnets):
            title = f"{who} has an address that is no machine’s"
            return title, f"{wrong} is the network or broadcast address of {name}’s subnet.", (place.record,)
        text = f"{wrong} isn’t in {', '.join(subnets)}: it finds neither gateway nor peers."
        return f"{who} has an address outside {name}", text, (place.record,)

    proof = CauseKind._outward


class NoBearer(CauseKind):
    """Nobody in the plan bears its gateway."""

    what = NO_BEARER

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return ()

    def words(self, say: Sentences, whom: Concerned) -> Words:
        plan = say.plan
        segments = sorted({s.name: s for p, _ in whom.found if (s := plan.of("segment").get(p.segment))}.items())
        addresses = [a for _, s in segments for a in s.gateways if not say.wiring.bearers.get(a)]
        own = [p.gateway for place, _ in whom.found if (p := plan.of("host_port").get(place.record)) and p.gateway]
        title = f"Nobody in the plan bears the gateway of {some([name for name, _ in segments])}"
        text = f"{some(addresses or own)} may be reached or not: nobody can know for {say.who(whom.endpoints)}."
        return title, text, tuple(s.id for _, s in segments)


class Gone(CauseKind):
    """Its segment was defined by a source, and isn't any longer."""

    what = GONE

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return (place.segment,)

    def words(self, say: Sentences, whom: Concerned) -> Words:
        segment = say.plan.get("segment", whom.place.segment)
        source = say.plan.get("source", segment.source)
        title = f"{segment.name} has vanished from {source.name}"
        read = f", read {source.read[:16].replace('T', ' ')}" if source.read else ""
        text = f"{source.name} doesn’t define it any longer{read}: nobody can know what becomes of {say.who(whom.endpoints)}."
        return title, text, (segment.id,)


class _Twins(CauseKind):
    """Another one is taken for it: both hear each other, or somebody else (`at`) hears both."""

    def _meeting(self, say: Sentences, whom: Concerned) -> str:
        """How that shows."""
        names = " and ".join(say.names(whom.endpoints))
        if not whom.cause.at:
            return f"Both hear each other: {names}."
        return f"{_capital(spoken(say.plan, whom.cause.at))} hears both, and neither hears the other one: {names}."

    def proof(self, say: Sentences, place: Place, cause: Cause) -> list[Trace]:
        third = say.wiring.place(cause.at) if cause.at else None
        if third is None:
            return super().proof(say, place, cause)
        return [trace(say.wiring, one, third, cause.state) for one in (place, say.other(cause))]


class Twin(_Twins):
    """Another one bears its address."""

    what = TWIN

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return (*self._shared(place, say.other(cause)), *say.world(place))

    def words(self, say: Sentences, whom: Concerned) -> Words:
        shared = self._shared(whom.place, say.other(whom.cause))
        return f"Two machines answer to {', '.join(shared)}", self._meeting(say, whom), whom.endpoints

    def _shared(self, one: Place, two: Place) -> list[str]:
        return sorted(set(map(bare_address, one.addresses)) & set(map(bare_address, two.addresses)))


class TwinMac(_Twins):
    """Another one bears its MAC address."""

    what = TWIN_MAC
    risk = "mac"

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return (say.mac(place), *say.world(place))

    def words(self, say: Sentences, whom: Concerned) -> Words:
        title = f"{some(say.names(whom.endpoints))} bear one MAC address and {'are on one segment' if whom.cause.at else 'hear each other'}"
        text = f"What is for {say.mac(whom.place)} goes to whichever spoke last."
        return title, f"{text} {self._meeting(say, whom)}" if whom.cause.at else text, whom.endpoints


class Mirrored(CauseKind):
    """A mirror shows it to another segment, or another segment to it."""

    what = MIRRORED
    risk = "mirror"

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return ("", cause.at, cause.detail)

    def words(self, say: Sentences, whom: Concerned) -> Words:
        mirror = say.plan.get("mirror", whom.cause.at)
        source, target = spoken(say.plan, mirror.source), spoken(say.plan, mirror.target)
        names = [say.plan.get("segment", p.segment).name for p in say.mirrored(mirror) if p.segment]
        text = f"A mirror copies {' and '.join(dict.fromkeys(names[:1]))} to whoever is on {names[-1]}."
        return f"{target} is shown the frames of {source}", text, (mirror.id, mirror.source, mirror.target)


class TooLarge(CauseKind):
    """Its large packets get lost."""

    what = TOO_LARGE
    risk = "mtu"

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return (place.segment, cause.at, cause.detail)

    def words(self, say: Sentences, whom: Concerned) -> Words:
        cause, one = whom.cause, len(whom.endpoints) == 1
        sends, takes = cause.detail.split()
        record, place = say.plan.find(cause.at), say.wiring.place(cause.at)
        where = spoken(say.plan, cause.at) if place is not None else _capital(called(say.plan, record))
        text = f"{where} takes {takes} bytes; packets of up to {sends} are sent there, and larger ones vanish."
        title = f"{say.who(whom.endpoints)} {_verb('loses', one)} packets of more than {takes} bytes"
        return title, text, (cause.at,)


class _Given(CauseKind):
    """What comes of getting an address from others."""

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return (place.segment, cause.towards, cause.detail)


class NoLease(_Given):
    """It asks for a lease, and nobody answers, or not always, or nobody can know."""

    what = NO_LEASE

    def words(self, say: Sentences, whom: Concerned) -> Words:
        cause, who, one = whom.cause, say.who(whom.endpoints), len(whom.endpoints) == 1
        status = say.status(whom.place)
        sits = (cause.towards or whom.place.record,)
        if status == "unproven":
            return f"Nobody can know whether {who} {_verb('gets', one)} a lease", _sentence(cause.detail), sits
        when = f" {say.when(cause)}" if status == "wavering" else ""
        return f"{who} {_verb('gets', one)} no lease{when}", _sentence(cause.detail), sits

    def proof(self, say: Sentences, place: Place, cause: Cause) -> list[Trace]:
        return super().proof(say, place, cause) if cause.towards else self._outward(say, place, cause)


class WrongLease(_Given):
    """What it is leased isn't an address of its segment, or its gateway isn't; or perhaps."""

    what = WRONG_LEASE

    def words(self, say: Sentences, whom: Concerned) -> Words:
        cause, who, one = whom.cause, say.who(whom.endpoints), len(whom.endpoints) == 1
        gets = "may get" if say.status(whom.place) == "wavering" else _verb("gets", one)
        return (
            f"{who} {gets} a lease that isn’t one of {say.segment(whom.place)}",
            _sentence(cause.detail),
            (cause.towards,),
        )


class NoPrefix(_Given):
    """It forms addresses of what is advertised, and hears nobody who advertises what it needs, or not always, or nobody can know."""

    what = NO_PREFIX

    def words(self, say: Sentences, whom: Concerned) -> Words:
        cause, who, one = whom.cause, say.who(whom.endpoints), len(whom.endpoints) == 1
        status, sits = say.status(whom.place), (cause.towards or whom.place.record,)
        # Whoever leases his address hears of the rest from those who advertise.
        leasing = whom.place.record in say.judgement.leases6
        lacks = f"{_verb('hears', one)} {{}} of {'its' if one else 'their'} link and way out over IPv6"
        if status == "unproven":
            has = lacks.format("anything") if leasing else f"{_verb('forms', one)} an IPv6 address"
            return f"Nobody can know whether {who} {has}", _sentence(cause.detail), sits
        when = f" {say.when(cause)}" if status == "wavering" else ""
        has = (
            lacks.format("nothing")
            if leasing
            else f"{_verb('forms', one)} no IPv6 address of {say.segment(whom.place)}"
        )
        return f"{who} {has}{when}", _sentence(cause.detail), sits

    def proof(self, say: Sentences, place: Place, cause: Cause) -> list[Trace]:
        sender = say.wiring.place(cause.towards) if cause.towards else None
        # What is advertised goes one way, unasked.
        return [trace(say.wiring, sender, place, cause.state)] if sender is not None else []


class WrongPrefix(NoPrefix):
    """What it hears advertised isn't its segment's, or not that alone."""

    what = WRONG_PREFIX

    def words(self, say: Sentences, whom: Concerned) -> Words:
        cause, who, one = whom.cause, say.who(whom.endpoints), len(whom.endpoints) == 1
        takes = "may take" if say.status(whom.place) == "wavering" else _verb("takes", one)
        title = f"{who} {takes} a prefix or a way out that isn’t one of {say.segment(whom.place)}"
        return title, _sentence(cause.detail), (cause.towards,)


class Leak(CauseKind):
    """Its segment and another one hear each other."""

    what = LEAK

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return tuple(sorted([place.segment or "", say.other(cause).segment or ""]))

    def words(self, say: Sentences, whom: Concerned) -> Words:
        place, cause = whom.place, whom.cause
        other = say.other(cause)
        names = sorted(say.plan.get("segment", s).name for s in (place.segment, other.segment))
        title = f"{names[0]} and {names[1]} leak into each other"
        for a, b in ((place, other), (other, place)):
            found = trace(say.wiring, a, b, cause.state)
            if not found.delivered:
                continue
            for out, into in zip(found.hops, found.hops[1:], strict=False):
                over_cable = any(isinstance(say.plan.find(id), Cable) for id in out.records)
                if over_cable and out.before != into.after and out.outcome == into.outcome == "passed":
                    text = f"{out.where} sends VID {out.before} {out.after}; {into.where} takes it in as {into.after}."
                    return title, _capital(text), (out.records[0], into.records[0])
        for a, b in ((place, other), (other, place)):
            found = trace(say.wiring, a, b, cause.state)
            last = found.hops[-1]
            own = say.plan.get("segment", b.segment).vid
            if found.delivered and last.before not in (str(own or "untagged"), last.after):
                port = say.plan.find(last.records[0])
                text = (
                    f"{spoken(say.plan, b.endpoint)} hears VID {last.before} {last.after} at {called(say.plan, port)}."
                )
                return title, text, (last.records[0],)
        return (
            title,
            f"Both bear VID {say.plan.get('segment', place.segment).vid or 'none'} and meet in the fabric.",
            (),
        )


class WrongTag(CauseKind):
    """Its frames land on another segment than its own, or on none."""

    what = WRONG_TAG
    alike = PORT
    kept = True

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        return (place.segment, say.wrong_at(place, cause), say.state(cause))

    proof = CauseKind._outward

    def words(self, say: Sentences, whom: Concerned) -> Words:
        title, text, culprit = self._astray(say, whom)
        return title, text + say.locked_out(whom.found), culprit

    def _astray(self, say: Sentences, whom: Concerned) -> Words:
        place, cause, name = whom.place, whom.cause, say.segment(whom.place)
        who, one = say.who(whom.endpoints), len(whom.endpoints) == 1
        culprit = say.wrong_at(place, cause)
        record = say.plan.find(culprit)
        segment = say.plan.get("segment", place.segment)
        they, their = ("it", "its") if one else ("they", "their")
        belongs = f"{they} {_verb('belongs', one)} on {name}, {segment.vid or 'untagged'}."
        landing = say.judgement.landing
        state = say.when(cause)
        landed = say.judgement.lands_on(place)
        node_lost = False
        for row in landing.rows_of(landing.number(place.stand)):
            if deviation(landing, row) == cause.state:
                landed = int(landing.rows.landed[row])
                node_lost = landing.rows.node[row] < 0
        if place.context < 0:
            title = f"{who} {_verb('lands', one)} nowhere"
            return title, f"{their.capitalize()} port {place.reason}; {belongs}", (culprit,)
        where = say.landing(landed, place)
        if landed == 0 and node_lost:
            hops = HopWriter(say.wiring, cause.state).way_out(Roads(say.wiring, cause.state), place)
            stop = next((h.reason for h in hops if h.reason), "")
            title = f"{who} {_verb('lands', one)} nowhere"
            untagged = (
                f"{they} {_verb('sends', one)} untagged frames, and {stop}" if stop else f"{their} frames are untagged"
            )
            text = f"{_sentence(untagged)} {_capital(belongs)}"
        else:
            title = f"{who} {_verb('lands', one)} on {where}"
            text = f"{_capital(say.tagged(record, place, their))}; {belongs}"
        if say.status(place) == "wavering":
            title += f" {state}"
        return title, text, (culprit,)


class _Broken(CauseKind):
    """Its way ends somewhere: `_say` tells it."""

    alike = STAND
    kept = True

    def key(self, say: Sentences, place: Place, cause: Cause) -> Key:
        if say.idle_gateway(cause):
            return (place.segment, cause.towards)
        hop = say.broken_at(place, cause)
        # An access port drops every tag alike, so all who run into it share one finding whatever their segment.
        port = say.plan.find(hop.records[0]) if hop and hop.records else None
        segment = None if isinstance(port, FabricPort) and port.mode == "access" else place.segment
        return (segment, hop.records[:1] if hop else (), hop.outcome if hop else "", say.state(cause))

    def words(self, say: Sentences, whom: Concerned) -> Words:
        off = say.idle_gateway(whom.cause)
        hop = None if off else say.broken_at(whom.place, whom.cause)
        reason = off or (_sentence(hop.reason) if hop else "")
        return (*self._say(say, whom, reason), hop.records if hop else ())

    def _say(self, say: Sentences, whom: Concerned, reason: str) -> tuple[str, str]:
        raise NotImplementedError


class OpenEnd(_Broken):
    """Nobody can know where its way leads."""

    what = OPEN_END

    def _say(self, say: Sentences, whom: Concerned, reason: str) -> tuple[str, str]:
        reaches = _verb("reaches", len(whom.endpoints) == 1)
        title = f"Nobody can know whether {say.who(whom.endpoints)} {reaches} {say.segment(whom.place)}"
        return title, reason or "Its way ends open."


class CutOff(_Broken):
    """It doesn't reach its gateway or its peers."""

    what = CUT_OFF

    def _say(self, say: Sentences, whom: Concerned, reason: str) -> tuple[str, str]:
        place, cause, who, one = whom.place, whom.cause, say.who(whom.endpoints), len(whom.endpoints) == 1
        several = len({p.segment for p, _ in whom.found}) > 1
        lost = "the rest of their segments" if several else say.lost(place, cause, whom.endpoints)
        reason += say.locked_out(whom.found)
        if not reason:
            near = f"Between it and {spoken(say.plan, cause.towards)} frames" if cause.towards else "Its frames"
            said = f"of those on {say.segment(place)} too few hear each other"
            reason = f"{near} pass both ways; but {said}, so that no group of them is the segment."
        if say.status(place) == "wavering" and not cause.state.choice:
            return f"{who} {_verb('is', one)} cut off from {lost} until another NIC carries", reason
        if say.status(place) == "wavering":
            return f"{who} {_verb('loses', one)} {lost} {say.when(cause)}", reason
        return f"{who} {_verb('is', one)} cut off from {lost}", reason


CAUSES: dict[str, CauseKind] = {
    kind.what: kind
    for kind in (
        NoIntent(),
        NoGroup(),
        WrongTag(),
        CutOff(),
        OpenEnd(),
        Address(),
        Leak(),
        Twin(),
        NoBearer(),
        Gone(),
        TooLarge(),
        Mirrored(),
        TwinMac(),
        NoLease(),
        WrongLease(),
        NoPrefix(),
        WrongPrefix(),
    )
}
"""Every cause, by what a judgement calls it."""


def _verb(verb: str, one: bool) -> str:
    plural = {"is": "are", "reaches": "reach"}
    return verb if one else plural.get(verb, verb.removesuffix("s"))


def _capital(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}"


def _sentence(text: str) -> str:
    return f"{_capital(text)}." if text else ""


def _frozen(state: State) -> tuple[object, ...]:
    return (tuple(sorted(state.choice.items())), state.lost)

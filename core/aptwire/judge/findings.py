"""Findings: what is wrong, in plain sentences, one for all the endpoints that the same thing makes suffer."""

from __future__ import annotations

import hashlib
import operator
from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import ip_address, ip_network

from aptwire.forward.parts import HOMELESS, Place, State
from aptwire.forward.paths import Roads
from aptwire.forward.trace import Hop, Teller, Trace, say_state, trace
from aptwire.forward.wiring import PLACES, Block
from aptwire.judge.judgement import (
    ADDRESS,
    CUT_OFF,
    LEAK,
    MIRRORED,
    NO_BEARER,
    NO_GROUP,
    NO_INTENT,
    OPEN_END,
    TOO_LARGE,
    TWIN,
    TWIN_MAC,
    VERDICTS,
    WRONG_TAG,
    Cause,
    Judgement,
    is_idle,
    tag_text,
)
from aptwire.judge.risks import Risk, risk_proof, risks, some
from aptwire.plan.collecting import no_collecting
from aptwire.plan.fields import bare_address
from aptwire.plan.kinds import (
    KINDS,
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
from aptwire.plan.names import called, host_of
from aptwire.plan.plan import Plan


@dataclass(frozen=True)
class Finding:
    """One fault and everybody whom it makes suffer.

    `id` stays the same as long as the fault does; `segment` is that of `place`; `culprit` are the records where it sits (may be empty); `place`
    stands for all `places`; `towards` is the place that it misses or meets (None: the fabric).
    """

    id: str
    verdict: str
    what: str
    title: str
    text: str
    endpoints: tuple[str, ...]
    places: tuple[Place, ...]
    place: Place
    towards: Place | None
    segment: str | None
    culprit: tuple[str, ...]
    state: State
    idle: bool


def spoken(plan: Plan, endpoint: str) -> str:
    """An endpoint as a sentence names it: its guest (with the adapter, if there are several), or "fulmar's mgmt"."""
    record = plan.find(endpoint, PLACES)
    if isinstance(record, GuestTag):
        record = plan.get("adapter", record.adapter)
    if isinstance(record, HostPort):
        return f"{host_of(plan, record)}’s {record.name}"
    if isinstance(record, StationPort):
        return str(plan.get("station", record.station).name)
    if isinstance(record, Adapter):
        guest = plan.get("guest", record.guest)
        several = len(plan.where("adapter", "guest", record.guest)) > 1
        return f"{guest.name} {record.name}" if several else str(guest.name)
    return endpoint


def findings(judgement: Judgement) -> list[Finding]:
    """All findings, worst first, those that concern only idle endpoints last."""
    with no_collecting():
        return _Finder(judgement).run()


WITHIN_BLOCKS = (
    "fabric_port",
    "adapter",
    "guest_tag",
    "port_group",
    "group_order",
    "host_port",
    "uplink",
    "nic",
    "cable",
)
"""The kinds of which an edit compiles anew the blocks that it concerns, or else the fabric."""


@dataclass(frozen=True, eq=False)
class _Group:
    """Places of one stand that aren't home for one reason, and the key of their finding.

    `hosts` (ids) are those whose blocks it rests on, and `landed` where it lands; `hosts` None: it is worked out anew each time.
    """

    places: tuple[Place, ...]
    status: int
    cause: Cause
    key: tuple[object, ...]
    hosts: tuple[str, ...] | None
    landed: bytes


class _Known:
    """What was told of the judgement before: groups by the first record of their stand with all its records, findings with whom they speak
    of by key, and the blocks of each host then."""

    def __init__(self) -> None:
        self.groups: dict[str, tuple[tuple[str, ...], list[_Group]]] = {}
        self.told: dict[tuple[object, ...], tuple[list[_Group], int, Finding]] = {}
        self.blocks: dict[str, tuple[Block | None, ...]] = {}


class _Finder:
    def __init__(self, judgement: Judgement) -> None:
        self.judgement = judgement
        self.plan = judgement.plan
        self.wiring = judgement.wiring
        self._places = judgement.members()
        self._breaks: dict[tuple[object, ...], Hop | None] = {}
        self._states: dict[tuple[object, ...], str] = {}
        self._idle: dict[str, str] = {}
        self._blocks_of: dict[str, tuple[Block | None, ...]] = {}
        self._same: dict[str, bool] = {}

    def run(self) -> list[Finding]:
        known = self.judgement.kept.get("findings", self._common(), _Known)
        groups: dict[str, tuple[tuple[str, ...], list[_Group]]] = {}
        by_key: dict[tuple[object, ...], list[_Group]] = {}
        for records, status, cause in self.judgement.troubled():
            before, made = known.groups.get(records[0], ((), []))
            if before != records or not all(self._holds(known, group, status, cause) for group in made):
                made = self._groups(records, status, cause)
            groups[records[0]] = records, made
            for group in made:
                by_key.setdefault(group.key, []).append(group)
        told: dict[tuple[object, ...], tuple[list[_Group], int, Finding]] = {}
        for key, found in by_key.items():
            last, size = known.told.get(key), self._places.get(found[0].places[0].segment or "", 0)
            same = last is not None and last[1] == size and len(last[0]) == len(found)
            if last is None or not same or not all(map(operator.is_, last[0], found)):
                last = (found, size, self._finding(key, found))
            told[key] = last
        known.groups = {record: one for record, one in groups.items() if all(g.hosts is not None for g in one[1])}
        known.told = {key: one for key, one in told.items() if all(group.hosts is not None for group in one[0])}
        hosts = dict.fromkeys(host for _, made in known.groups.values() for group in made for host in group.hosts or ())
        known.blocks = {host: self._blocks(host) for host in hosts}
        found_ = [finding for _, _, finding in told.values()]
        found_.sort(key=lambda f: (f.idle, -VERDICTS.index(f.verdict), -len(f.endpoints), f.title, f.id))
        return found_

    def _common(self) -> tuple[object, ...]:
        """What every sentence may rest on, beside the blocks of those of whom it speaks."""
        wiring = self.wiring
        kinds = (self.plan.of(kind) for kind in KINDS if kind not in WITHIN_BLOCKS)
        return (wiring.fabric, wiring.classes, *wiring.crossing_teams, *kinds)

    def _groups(self, records: tuple[str, ...], status: int, cause: Cause) -> list[_Group]:
        """The places of a stand with their key: one for all, where that doesn't hang on which of them it is."""
        places = [place for record in records if (place := self.wiring.place(record)) is not None]
        if cause.what in (CUT_OFF, OPEN_END):
            return [self._group(tuple(places), status, cause)]
        if cause.what != WRONG_TAG:
            return [self._group((place,), status, cause) for place in places]
        adapters = self.plan.of("adapter")
        by_port: dict[str, list[Place]] = {}
        for place in places:
            adapter = adapters.get(place.endpoint)
            by_port.setdefault(adapter.port_group or "" if adapter is not None else place.record, []).append(place)
        return [self._group(tuple(alike), status, cause) for alike in by_port.values()]

    def _group(self, places: tuple[Place, ...], status: int, cause: Cause) -> _Group:
        landed = self._landed(places[0]) if cause.what == WRONG_TAG else b""
        # Whom untagged frames meet is told of others than these.
        keeps = cause.what in (CUT_OFF, OPEN_END, WRONG_TAG) and landed is not None
        hosts = self._hosts(places[0], cause) if keeps else None
        return _Group(places, status, cause, self._key(places[0], cause), hosts, landed or b"")

    def _hosts(self, place: Place, cause: Cause) -> tuple[str, ...]:
        """The hosts of a place, of whom it misses, and of the teams of the state."""
        towards = self._other(cause) if cause.towards else None
        uplinks = (self.plan.of("uplink").get(key.partition("|")[0]) for key in cause.state.choice)
        keys = [place.stand.block, *([towards.stand.block] if towards is not None else [])]
        keys += [uplink.switch for uplink in uplinks if uplink is not None]
        return tuple(dict.fromkeys(map(self._host_of, keys)))

    def _host_of(self, block: str) -> str:
        """The host of a block; the block itself where it is no host's."""
        owner = self.plan.of("virtual_switch").get(block) or self.plan.of("nic").get(block)
        return owner.host if owner is not None else block

    def _blocks(self, host: str) -> tuple[Block | None, ...]:
        """All blocks in which something of a host may be, or the one block that this names."""
        if host not in self._blocks_of:
            nics = (nic.id for nic in self.plan.where("nic", "host", host))
            keys = [*(switch.id for switch in self.plan.where("virtual_switch", "host", host)), *nics, HOMELESS, host]
            self._blocks_of[host] = tuple(self.wiring.blocks.get(key) for key in keys)
        return self._blocks_of[host]

    def _landed(self, place: Place) -> bytes | None:
        """Where a place lands over each of its ways; None where that is no VLAN."""
        rows, number = self.judgement.rows, self.judgement.number(place.stand)
        stop = rows.first[number + 1] if number + 1 < rows.first.size else rows.stand.size
        landed = rows.landed[rows.first[number] : stop]
        return landed.tobytes() if (landed > 0).all() else None

    def _holds(self, known: _Known, group: _Group, status: int, cause: Cause) -> bool:
        """Whether what was said of some places still is true."""
        return (
            group.hosts is not None
            and group.status == status
            and all(self._unchanged(known, host) for host in group.hosts)
            and group.cause == cause
            and (not group.landed or self._landed(group.places[0]) == group.landed)
        )

    def _unchanged(self, known: _Known, host: str) -> bool:
        """Whether a host's blocks are those of before."""
        if host not in self._same:
            before, now = known.blocks.get(host, ()), self._blocks(host)
            self._same[host] = len(before) == len(now) and all(map(operator.is_, before, now))
        return self._same[host]

    def _status(self, place: Place) -> str:
        return VERDICTS[self.judgement.status_of(place)]

    def _key(self, place: Place, cause: Cause) -> tuple[object, ...]:
        base = (self._status(place), cause.what)
        if cause.what == LEAK:
            met = self._other(cause).segment
            return (*base, *sorted([place.segment or "", met or ""]))
        if cause.what == TWIN:
            other = self._other(cause)
            return (*base, *sorted(set(map(bare_address, place.addresses)) & set(map(bare_address, other.addresses))))
        if cause.what in (ADDRESS, NO_INTENT, NO_GROUP):
            return (*base, place.record)
        if cause.what in (TOO_LARGE, MIRRORED):
            return (*base, place.segment if cause.what == TOO_LARGE else "", cause.at, cause.detail)
        if cause.what == TWIN_MAC:
            return (*base, self._mac(place))
        if cause.what == NO_BEARER:
            return base
        if self._idle_gateway(cause):
            return (*base, place.segment, cause.towards)
        state = self._when(cause)
        if cause.what == WRONG_TAG:
            return (*base, place.segment, self.wrong_at(place, cause), state)
        hop = self.broken_at(place, cause)
        # An access port drops every tag alike, so all who run into it share one finding whatever their segment.
        port = self.plan.find(hop.records[0]) if hop and hop.records else None
        segment = None if isinstance(port, FabricPort) and port.mode == "access" else place.segment
        return (*base, segment, hop.records[:1] if hop else (), hop.outcome if hop else "", state)

    def _when(self, cause: Cause) -> str:
        """The state in which it happens, in words."""
        key = _frozen(cause.state)
        if key not in self._states:
            self._states[key] = say_state(self.wiring, cause.state)
        return self._states[key]

    def _other(self, cause: Cause) -> Place:
        place = self.wiring.place(cause.towards)
        assert place is not None
        return place

    def wrong_at(self, place: Place, cause: Cause) -> str:
        """The record that gives a place its wrong tag: its port group or host port, or the fabric port behind it."""
        segment = self.plan.get("segment", place.segment)
        own = self.wiring.classes.of[segment.vid or 0] == place.context
        # Untagged frames that are right over another member are the fabric port's doing, not the port group's.
        untagged = place.context == 0 and self._status(place) == "wavering"
        record = self.plan.find(place.endpoint)
        if not own and not untagged:
            return getattr(record, "port_group", None) or place.record
        hops = Teller(self.wiring, cause.state).way_out(Roads(self.wiring, cause.state), place)
        return hops[-1].records[-1] if hops and hops[-1].records else place.record

    def broken_at(self, place: Place, cause: Cause) -> Hop | None:
        """The hop at which a place's frames (or those towards it) end in the cause's state."""
        key = (id(place.stand), _frozen(cause.state), cause.towards)
        if key not in self._breaks:
            self._breaks[key] = next(
                (
                    hop
                    for t in self.traces(place, cause)
                    for hop in t.hops
                    if hop.outcome in ("dropped", "astray", "open")
                ),
                None,
            )
        return self._breaks[key]

    def traces(self, place: Place, cause: Cause) -> Iterable[Trace]:
        """There, and back if there works."""
        if not cause.towards:
            teller = Teller(self.wiring, cause.state)
            out = teller.way_out(Roads(self.wiring, cause.state), place)
            hops = [*out, *teller.way_back(place), teller.end(place, place.context)]
            yield Trace(tuple(hops), all(h.outcome == "passed" for h in hops), say_state(self.wiring, cause.state))
            return
        other = self._other(cause)
        there = trace(self.wiring, place, other, cause.state)
        yield there
        if there.delivered:
            yield trace(self.wiring, other, place, cause.state)

    def _finding(self, key: tuple[object, ...], groups: list[_Group]) -> Finding:
        found = sorted(((p, g.cause) for g in groups for p in g.places), key=lambda pair: pair[0].record)
        place, cause = found[0]
        endpoints = tuple(dict.fromkeys(p.endpoint for p, _ in found))
        title, text, culprit = self._words(found, endpoints)
        return Finding(
            id=hashlib.sha256(repr(key).encode()).hexdigest()[:12],
            verdict=self._status(place),
            what=cause.what,
            title=title,
            text=text,
            endpoints=endpoints,
            places=tuple(p for p, _ in found),
            place=place,
            towards=self.wiring.place(cause.towards) if cause.towards else None,
            segment=place.segment,
            culprit=culprit,
            state=cause.state,
            idle=all(is_idle(self.plan, e) for e in endpoints),
        )

    # --- sentences --------------------------------------------------------------------------------------------

    def _words(self, found: list[tuple[Place, Cause]], endpoints: tuple[str, ...]) -> tuple[str, str, tuple[str, ...]]:
        place, cause = found[0]
        who = self._who(endpoints)
        one = len(endpoints) == 1
        segment = self.plan.of("segment").get(place.segment)
        name = segment.name if segment else ""
        if cause.what == NO_INTENT:
            lands = self.judgement.lands_on(place)
            text = f"It lands on {self._landing(lands, place)}; say on which segment it belongs."
            return f"Nobody said where {who} belongs", text, (place.record,)
        if cause.what == NO_GROUP:
            return f"{who} is in no port group", f"It belongs on {name}.", (place.record,)
        if cause.what == ADDRESS:
            wrong = ", ".join(bare_address(a) for a in place.addresses)
            inside = (
                any(ip_address(bare_address(a)) in ip_network(s) for a in place.addresses for s in segment.subnets)
                if segment
                else False
            )
            if inside:
                title = f"{who} has an address that is no machine’s"
                return title, f"{wrong} is the network or broadcast address of {name}’s subnet.", (place.record,)
            return (
                f"{who} has an address outside {name}",
                f"{wrong} isn’t in {', '.join(segment.subnets if segment else ())}: it finds neither gateway nor peers.",
                (place.record,),
            )
        if cause.what == NO_BEARER:
            return self._unborne(found, who, one)
        if cause.what == TWIN:
            other = self._other(cause)
            shared = sorted(set(map(bare_address, place.addresses)) & set(map(bare_address, other.addresses)))
            text = f"Both hear each other: {' and '.join(self._spoken_list(endpoints))}."
            return f"Two machines answer to {', '.join(shared)}", text, endpoints
        if cause.what == LEAK:
            return self._leak(place, cause)
        if cause.what == TWIN_MAC:
            title = f"{some(self._spoken_list(endpoints))} bear one MAC address and hear each other"
            return title, f"What is for {self._mac(place)} goes to whichever spoke last.", endpoints
        if cause.what == MIRRORED:
            mirror = self.plan.get("mirror", cause.at)
            source, target = spoken(self.plan, mirror.source), spoken(self.plan, mirror.target)
            names = [self.plan.get("segment", p.segment).name for p in self._ends(mirror) if p.segment]
            text = f"A mirror copies {' and '.join(dict.fromkeys(names[:1]))} to whoever is on {names[-1]}."
            return f"{target} is shown the frames of {source}", text, (mirror.id, mirror.source, mirror.target)
        if cause.what == TOO_LARGE:
            return self._too_large(cause, who, one)
        if cause.what == WRONG_TAG:
            title, text, culprit = self._astray(place, cause, who, one, name)
            return title, text + self._locked_out(found), culprit
        hop = self.broken_at(place, cause)
        reason = _sentence(hop.reason) if hop else ""
        off = self._idle_gateway(cause)
        if off:
            hop, reason = None, off
        culprit = hop.records if hop else ()
        when = self._when(cause)
        if cause.what == OPEN_END:
            return (
                f"Nobody can know whether {who} {_verb('reaches', one)} {name}",
                reason or "Its way ends open.",
                culprit,
            )
        assert cause.what == CUT_OFF
        several = len({p.segment for p, _ in found}) > 1
        lost = "the rest of their segments" if several else self._lost(place, cause, endpoints)
        reason += self._locked_out(found)
        if self._status(place) == "wavering" and not cause.state.choice:
            return f"{who} {_verb('is', one)} cut off from {lost} until another NIC carries", reason, culprit
        if self._status(place) == "wavering":
            return f"{who} {_verb('loses', one)} {lost} {when}", reason, culprit
        return f"{who} {_verb('is', one)} cut off from {lost}", reason, culprit

    def _mac(self, place: Place) -> str:
        return str(self.plan.get("adapter", place.endpoint).mac)

    def _ends(self, mirror: Mirror) -> list[Place]:
        return [p for id in (mirror.source, mirror.target) for p in self.wiring.places_of(id)]

    def _too_large(self, cause: Cause, who: str, one: bool) -> tuple[str, str, tuple[str, ...]]:
        sends, takes = cause.detail.split()
        record = self.plan.find(cause.at)
        place = self.wiring.place(cause.at)
        where = spoken(self.plan, cause.at) if place is not None else _capital(called(self.plan, record))
        text = f"{where} takes {takes} bytes; packets of up to {sends} are sent there, and larger ones vanish."
        title = f"{who} {_verb('loses', one)} packets of more than {takes} bytes"
        return title, text, (cause.at,)

    def _idle_gateway(self, cause: Cause) -> str:
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

    def _unborne(self, found: list[tuple[Place, Cause]], who: str, one: bool) -> tuple[str, str, tuple[str, ...]]:
        segments = sorted({s.name: s for p, _ in found if (s := self.plan.of("segment").get(p.segment))}.items())
        names = [name for name, _ in segments]
        addresses = [a for _, s in segments for a in s.gateways if not self.wiring.bearers.get(a)]
        own = [p.gateway for place, _ in found if (p := self.plan.of("host_port").get(place.record)) and p.gateway]
        title = f"Nobody in the plan bears the gateway of {some(names)}"
        text = f"{some(addresses or own)} may be reached or not: nobody can know for {who}."
        return title, text, tuple(s.id for _, s in segments)

    def _locked_out(self, found: list[tuple[Place, Cause]]) -> str:
        """That a host can't be managed any more, where it is so."""
        hosts = []
        for place, _ in found:
            port = self.plan.of("host_port").get(place.record)
            if port is not None and "management" in port.services and self._status(place) in ("stranded", "astray"):
                hosts.append(host_of(self.plan, port))
        return f" Nobody can manage {some(sorted(set(hosts)))} while this lasts." if hosts else ""

    def _lost(self, place: Place, cause: Cause, endpoints: tuple[str, ...]) -> str:
        segment = self.plan.get("segment", place.segment)
        if not cause.towards:
            return f"the rest of {segment.name}"
        other = self._other(cause)
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
        if self._places.get(place.segment or "", 0) == 2:
            return spoken(self.plan, other.endpoint)
        return f"its peers on {segment.name}" if len(endpoints) == 1 else f"the rest of {segment.name}"

    def _astray(self, place: Place, cause: Cause, who: str, one: bool, name: str) -> tuple[str, str, tuple[str, ...]]:
        culprit = self.wrong_at(place, cause)
        record = self.plan.find(culprit)
        segment = self.plan.get("segment", place.segment)
        they, their = ("it", "its") if one else ("they", "their")
        belongs = f"{they} {_verb('belongs', one)} on {name}, {segment.vid or 'untagged'}."
        rows = self.judgement.rows
        state = self._when(cause)
        landed = self.judgement.lands_on(place)
        node_lost = False
        number = self.judgement.number(place.stand)
        for row in range(rows.first[number], rows.stand.size):
            if rows.stand[row] != number:
                break
            chosen = cause.team is not None and rows.member[row] >= 0
            nic = cause.team.members[rows.member[row]].key if chosen and cause.team else ""
            if (not cause.state.choice and rows.way[row] == 0) or nic in cause.state.choice.values():
                landed = int(rows.landed[row])
                node_lost = rows.node[row] < 0
        if place.context < 0:
            title = f"{who} {_verb('lands', one)} nowhere"
            return title, f"{their.capitalize()} port {place.reason}; {belongs}", (culprit,)
        where = self._landing(landed, place)
        if landed == 0 and node_lost:
            hops = Teller(self.wiring, cause.state).way_out(Roads(self.wiring, cause.state), place)
            stop = next((h.reason for h in hops if h.reason), "")
            title = f"{who} {_verb('lands', one)} nowhere"
            untagged = (
                f"{they} {_verb('sends', one)} untagged frames, and {stop}" if stop else f"{their} frames are untagged"
            )
            text = f"{_sentence(untagged)} {_capital(belongs)}"
        else:
            title = f"{who} {_verb('lands', one)} on {where}"
            text = f"{_capital(self._tagged(record, place, their))}; {belongs}"
        if self._status(place) == "wavering":
            title += f" {state}"
        return title, text, (culprit,)

    def _tagged(self, record: Record | None, place: Place, their: str) -> str:
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

    def _landing(self, number: int, place: Place) -> str:
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

    def _leak(self, place: Place, cause: Cause) -> tuple[str, str, tuple[str, ...]]:
        other = self._other(cause)
        names = sorted(self.plan.get("segment", s).name for s in (place.segment, other.segment))
        title = f"{names[0]} and {names[1]} leak into each other"
        for a, b in ((place, other), (other, place)):
            found = trace(self.wiring, a, b, cause.state)
            if not found.delivered:
                continue
            for out, into in zip(found.hops, found.hops[1:], strict=False):
                over_cable = any(isinstance(self.plan.find(id), Cable) for id in out.records)
                if over_cable and out.before != into.after and out.outcome == into.outcome == "passed":
                    text = f"{out.where} sends VID {out.before} {out.after}; {into.where} takes it in as {into.after}."
                    return title, _capital(text), (out.records[0], into.records[0])
        for a, b in ((place, other), (other, place)):
            found = trace(self.wiring, a, b, cause.state)
            last = found.hops[-1]
            own = self.plan.get("segment", b.segment).vid
            if found.delivered and last.before not in (str(own or "untagged"), last.after):
                port = self.plan.find(last.records[0])
                text = f"{spoken(self.plan, b.endpoint)} hears VID {last.before} {last.after} at {called(self.plan, port)}."
                return title, text, (last.records[0],)
        return (
            title,
            f"Both bear VID {self.plan.get('segment', place.segment).vid or 'none'} and meet in the fabric.",
            (),
        )

    def _who(self, endpoints: tuple[str, ...]) -> str:
        names = self._spoken_list(endpoints)
        if len(names) == 1:
            return names[0]
        if len(names) <= 3:
            return f"{', '.join(names[:-1])} and {names[-1]}"
        return f"{names[0]} and {len(names) - 1} more"

    def _spoken_list(self, endpoints: Iterable[str]) -> list[str]:
        return sorted(spoken(self.plan, e) for e in endpoints)


SUFFERING = {TOO_LARGE: "mtu", MIRRORED: "mirror", TWIN_MAC: "mac"}
"""The causes that are risks too, with the risk that has their mends: where somebody suffers, it isn't told twice."""


def everything(judgement: Judgement, known: list[Risk] | None = None) -> list[Finding | Risk]:
    """All findings and risks (those `known`, if they have been looked for), worst first, those of idle endpoints last."""
    found = findings(judgement)
    told = [set(f.culprit) for f in found]
    suffered = {(SUFFERING[f.what], key) for f in found if f.what in SUFFERING for key in (f.segment, *f.culprit)}
    # Where somebody suffers already, the risk would say the same once more.
    more = [
        r
        for r in (risks(judgement) if known is None else known)
        if (r.what not in ("native", "name") or not any(set(r.culprit) <= t for t in told))
        and not any((r.what, key) in suffered for key in (r.segment, *r.culprit))
    ]
    return [*(f for f in found if not f.idle), *more, *(f for f in found if f.idle)]


def proof(judgement: Judgement, finding: Finding | Risk) -> list[Trace]:
    """The traces that prove a finding: the way of a frame, hop by hop, up to where it goes wrong; a risk's facts."""
    if isinstance(finding, Risk):
        return [Trace(risk_proof(judgement, finding), False, "now")]
    wiring = judgement.wiring
    finder = _Finder(judgement)
    cause = judgement.cause_of(finding.place)
    assert cause is not None
    if finding.what in (NO_INTENT, ADDRESS, WRONG_TAG, NO_GROUP):
        teller = Teller(wiring, finding.state)
        hops = [teller.entry(finding.place)]
        if finding.place.context >= 0:
            hops += teller.way_out(Roads(wiring, finding.state), finding.place)
        return [Trace(tuple(hops), all(h.outcome == "passed" for h in hops), say_state(wiring, finding.state))]
    made = list(finder.traces(finding.place, cause))
    if finding.towards is None:
        entry = Teller(wiring, finding.state).entry(finding.place)
        made = [Trace((entry, *t.hops), t.delivered, t.state) for t in made]
    return made


def _verb(verb: str, one: bool) -> str:
    plural = {"is": "are", "reaches": "reach"}
    return verb if one else plural.get(verb, verb.removesuffix("s"))


def _capital(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}"


def _sentence(text: str) -> str:
    return f"{_capital(text)}." if text else ""


def _frozen(state: State) -> tuple[object, ...]:
    return (tuple(sorted(state.choice.items())), state.lost)

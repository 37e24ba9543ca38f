"""A trace: one frame's way between two places, hop by hop, with the tag before and after and the rule applied."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from aptwire.forward.classes import UNTAGGED
from aptwire.forward.parts import NOW, STATIONS, Link, Place, Stand, State, Team, TeamKey
from aptwire.forward.paths import Roads, Step, goal, heard_as
from aptwire.forward.routed import over_router
from aptwire.forward.wiring import Wiring
from aptwire.plan import vids
from aptwire.plan.kinds import (
    FabricPort,
    FabricSwitch,
    Nic,
    Uplink,
    WayIn,
)
from aptwire.plan.names import called, endpoint_key, with_key
from aptwire.plan.ports import spoken


@dataclass(frozen=True)
class Hop:
    """One place on the way.

    `records` are the plan's records passed there, `before` and `after` the tag ("untagged", a VID, or "–" where
    there is no frame), `rule` what is configured, `outcome` passed, dropped, astray (it goes on, in the wrong VLAN),
    open, or not reached; `reason` says why it ends here.
    """

    records: tuple[str, ...]
    where: str
    before: str
    after: str
    rule: str
    outcome: str = "passed"
    reason: str = ""

    def to_json(self) -> dict[str, object]:
        """The hop for a program."""
        return {**self.__dict__, "records": list(self.records)}


@dataclass(frozen=True)
class Trace:
    """All hops; `delivered` tells whether the frame arrives."""

    hops: tuple[Hop, ...]
    delivered: bool
    state: str

    def to_json(self) -> dict[str, object]:
        """The trace for a program."""
        return {"delivered": self.delivered, "state": self.state, "hops": [hop.to_json() for hop in self.hops]}


def say_state(wiring: Wiring, state: State, by_id: bool = False) -> str:
    """A state in words: "now", "when nic0 of fulmar fails", "over nic1 of fulmar"; `by_id`: with ids, which no renaming changes, in place of names."""

    def name(id: str) -> str:
        return id if by_id else called(wiring.plan, wiring.plan.find(id))

    said: list[str] = []
    for key, chosen in state.choice.items():
        team = wiring.team_called(key)
        nic = name(chosen.nic)
        if chosen.one_way:
            said.append(f"when answers come back over {nic}")
        elif team is not None and team.mode == "standby":
            first = name(team.members[0].nic.id)
            stays = isinstance(team.uplink, Uplink) and not team.uplink.fail_back
            said.append(f"after {first} has failed, even once it is back" if stays else f"when {first} fails")
        else:
            said.append(f"over {nic}")
    said.extend(f"with {name(id)} lost" for id in sorted(state.lost))
    return " and ".join(dict.fromkeys(said)) or "now"


def trace(wiring: Wiring, source: Place, target: Place, state: State = NOW, lost: Roads | None = None) -> Trace:
    """The way of a broadcast from one place to another, or as far as it gets on the way that lacks least.

    `lost`: it is taken for one that doesn't arrive, and only where it ends is told in full: what it passes has its records alone, no words.
    These are the links of the state, which keep what was found out about others that were lost.
    """
    if source.stand.vni and source.context >= 0:
        return _tunnelled(wiring, source, target, state)
    brief = lost is not None
    roads = lost or Roads(wiring, state)
    said = "" if brief else say_state(wiring, state)
    teller = HopWriter(wiring, state, source, target, brief=brief)
    hops = [teller.entry(source)]
    if source.context < 0:
        return Trace((*hops, teller.end(target, None)), False, said)
    hears = target.context >= 0 and not target.stand.vni
    wanted = target.context if target.context > 0 and target.stand.plain else source.context
    end = roads.ends_at(source, target, wanted) if hears and brief and wanted == target.context else None
    wish = [end] if end is not None else roads.wish(source, goal(source, target), wanted) if hears and brief else None
    # Where it could be heard in one context only, and no way there lacks nothing, there is none.
    ends = hears and brief and len(target.stand.hears) == 1 and (wish is None or any(step.missing for step in wish))
    steps = None if target.stand.vni or ends else roads.way(source, target)
    if steps is not None:
        for step in steps:
            hops.extend(teller.step(step))
        context = steps[-1].after if steps else source.context
        return Trace((*hops, teller.end(target, context)), True, said)
    if hears and not brief:
        wish = roads.wish(source, goal(source, target), wanted)
    near = roads.nearest(source, target.bridge) if wish is None and hears else None
    if near is not None:
        # It gets to the target's switch, in a VLAN that the target doesn't hear.
        for step in near:
            hops.extend(teller.step(step))
        context = near[-1].after if near else source.context
        return Trace((*hops, teller.unheard(target, context)), False, said)
    if wish is None:
        hops.extend(teller.stuck(roads, source, target))
    else:
        context = source.context
        for step in wish:
            hops.extend((teller if not step.missing else teller.in_full()).step(step))
            context = step.after
            if step.missing:
                if hops[-1].outcome == "passed":
                    hops[-1] = teller.strayed(hops[-1], step.after)
                break
        else:
            return Trace((*hops, teller.unheard(target, context)), False, said)
    return Trace((*hops, teller.end(target, None)), False, said)


def _tunnelled(wiring: Wiring, source: Place, target: Place, state: State) -> Trace:
    """An overlay's way: into the tunnel at one host port, over the segment that carries it, out at another (RFC 7348 section 4)."""
    teller = HopWriter(wiring, state)
    near, far = (wiring.place(p.stand.over) if p.stand.vni else None for p in (source, target))
    hops = [teller.entry(source)]
    if near is None or far is None or source.stand.vni != target.stand.vni:
        hops.append(teller.tunnel(source, "dropped", f"{teller.name(target)} isn’t in overlay {source.stand.vni}"))
        return Trace((*hops, teller.end(target, None)), False, say_state(wiring, state))
    if near.record == far.record:
        return Trace((*hops, teller.end(target, source.context)), True, say_state(wiring, state))
    inner = trace(wiring, near, far, state)
    between = list(inner.hops)
    delivered = inner.delivered
    ways = over_router(wiring.ways_out, near.record, far.record)
    for into, out in () if delivered else (tuple(map(wiring.place, pair)) for pair in ways):
        assert into is not None and out is not None
        there, onward = trace(wiring, near, into, state), trace(wiring, out, far, state)
        answers = (trace(wiring, far, out, state), trace(wiring, into, near, state))
        between = [*there.hops, *onward.hops] if there.delivered else list(there.hops)
        delivered = there.delivered and onward.delivered
        if delivered and not all(answer.delivered for answer in answers):
            # The tunnel's answers don't get back.
            between, delivered = list(next(a for a in answers if not a.delivered).hops), False
        if delivered:
            break
    hops = [*hops, teller.tunnel(source, "passed", ""), *between]
    context = target.context if delivered else None
    return Trace((*hops, teller.end(target, context)), delivered, inner.state)


class HopWriter:
    """Says what happens to a frame at each place of the plan."""

    def __init__(self, wiring: Wiring, state: State, *ends: Place, brief: bool = False) -> None:
        self.brief = brief
        self.ends = ends
        self.wiring = wiring
        self.plan = wiring.plan
        self.state = state
        # A tag that no record names shares its class with others.
        self.asked = {place.label: place.asked for place in ends if place.asked}

    def in_full(self) -> HopWriter:
        """One that leaves no words out."""
        return HopWriter(self.wiring, self.state, *self.ends) if self.brief else self

    def name(self, place: Place) -> str:
        """An endpoint as hops call it."""
        record = self.plan.find(place.endpoint)
        if record is None:
            return place.endpoint
        return (
            called(self.plan, record) if record.kind in ("station_port", "way_in") else endpoint_key(self.plan, record)
        )

    def tunnel(self, place: Place, outcome: str, reason: str) -> Hop:
        """Into the tunnel of an overlay."""
        stand = place.stand
        carrier = self.plan.get("host_port", stand.over)
        after = f"VNI {stand.vni}" if outcome == "passed" else "–"
        rule = f"carries VNI {stand.vni}"
        return Hop((stand.over,), called(self.plan, carrier), "untagged", after, rule, outcome, reason)

    def tag(self, number: int) -> str:
        if number < 0:
            return "–"
        return str(self._vid(number) or "untagged")

    def _vid(self, number: int) -> int:
        base = int(self.wiring.classes.base[number])
        return self.asked.get(base) or self.wiring.classes.vid(base)

    def entry(self, place: Place) -> Hop:
        """Into the switch by the endpoint's own port."""
        record = self.plan.find(place.endpoint)
        group = getattr(record, "port_group", None)
        records = (place.record, *((group,) if group else ()))
        if self.brief and place.context >= 0:
            return Hop(records, "", "", "", "")
        seat = self.plan.find(group) if group else None
        where = self.name(place)
        if seat is not None:
            where += f", port group {getattr(seat, 'name', '')}"
        rule = place.rule.text if place.rule else "no port group"
        if place.context < 0:
            return Hop(records, where, self.tag(place.label), "–", rule, "dropped", place.reason)
        if place.stand.vni:
            return Hop(records, where, "untagged", f"VNI {place.stand.vni}", rule)
        return Hop(records, where, self.tag(place.label), self.tag(place.context), rule)

    def end(self, place: Place, context: int | None) -> Hop:
        """Out to the endpoint, `context` None when nothing arrives."""
        record = self.plan.find(place.endpoint)
        group = getattr(record, "port_group", None)
        records = (*((group,) if group else ()), place.record)
        if self.brief and context is None:
            return Hop(records, "", "", "", "", "not reached")
        where = self.name(place)
        rule = place.rule.text if place.rule else "no port group"
        if context is None:
            return Hop(records, where, "–", "–", rule, "not reached")
        if place.stand.vni:
            return Hop(records, where, f"VNI {place.stand.vni}", "untagged", rule)
        label = heard_as(place, context)
        if label is None:
            reason = (
                f"frames of VID {self.tag(context)} don't come out here"
                if context
                else "untagged frames don't come out here"
            )
            return Hop(records, where, self.tag(context), "–", rule, "dropped", reason)
        return Hop(records, where, self.tag(context), self.tag(label), rule)

    def unheard(self, place: Place, context: int) -> Hop:
        """At the endpoint's switch, and not out to it: the wrong VLAN, or a NIC that doesn't carry for it."""
        end = self.end(place, context)
        if end.outcome != "passed":
            return end
        return replace(
            end,
            outcome="dropped",
            after="–",
            reason=f"it comes in over a NIC that doesn’t carry for {self.name(place)}",
        )

    def step(self, step: Step) -> list[Hop]:
        """Out of one bridge and into the next."""
        near, far = step.link.rules[step.side], step.link.rules[1 - step.side]
        hops: list[Hop] = []
        out_records = step.link.records[step.side]
        if out_records:
            hops.append(self._hop(out_records, step.before, step.label, near.text, step.link, leaving=True))
            if step.label < 0:
                return hops
        in_records = step.link.records[1 - step.side]
        if in_records:
            hops.append(self._hop(in_records, step.label, step.after, far.text, step.link, leaving=False))
        return hops

    def _hop(self, records: tuple[str, ...], before: int, after: int, rule: str, link: Link, leaving: bool) -> Hop:
        cable = (link.cable,) if link.cable and leaving else ()
        if self.brief and after >= 0:
            return Hop((*records, *cable), "", "", "", "")
        record = self.plan.find(records[-1])
        where = called(self.plan, record)
        if isinstance(record, Nic) and len(records) > 1:
            uplink = self.plan.get("uplink", records[0])
            where = f"{where}, uplink {uplink.name}"
            if len(self.plan.where("nic", "uplink", uplink.id)) > 1:
                where += f" ({self._part(uplink, record)})"
        reason = "" if after >= 0 else self.refusal(records, before, leaving)
        if after < 0 and link.back_over is not None and not leaving and isinstance(record, Nic):
            name, over = called(self.plan, record), self.plan.get("nic", link.back_over)
            reason = f"{name} doesn’t carry, so it drops what comes back over it"
            if over is not record:
                reason = f"what comes over {called(self.plan, over)} doesn’t get to the virtual functions of {name}"
        passed = (*records, *cable)
        if after < 0 and isinstance(record, FabricPort):
            switch = self.plan.get("fabric_switch", record.switch)
            if not _defines(switch, self._vid(before)):
                passed = (switch.id, *passed)
        return Hop(
            passed, where, self.tag(before), self.tag(after), rule, "passed" if after >= 0 else "dropped", reason
        )

    def strayed(self, hop: Hop, context: int) -> Hop:
        """A hop that lets the frame pass into another VLAN than the one that would lead on."""
        tag = self.tag(context)
        return replace(
            hop, outcome="astray", reason=f"{hop.where} takes the frame on as {tag}, which doesn't lead there"
        )

    def _part(self, uplink: Uplink, nic: Nic) -> str:
        if uplink.mode != "standby":
            return "one of its members"
        return (
            "carries"
            if not self.state.choice.get(TeamKey(uplink.id)) and nic.id not in self.state.lost
            else "after failover"
        )

    def refusal(self, records: tuple[str, ...], frame: int, leaving: bool) -> str:
        """Why a port drops a frame, as a person would say it."""
        record = self.plan.find(records[0])
        vid = self._vid(frame)
        nic = self.plan.of("nic").get(records[-1])
        if nic is not None and nic.wireless and vid:
            return f"{called(self.plan, nic)} is wireless and carries no tags"
        if isinstance(record, FabricPort):
            switch = self.plan.get("fabric_switch", record.switch)
            if leaving and (apart := self._isolated(frame, called(self.plan, record))):
                return apart
            return _port_refusal(switch, record, vid, called(self.plan, record), leaving)
        name = called(self.plan, record)
        if vid == 0:
            return f"{name} lets no untagged frames {'out' if leaving else 'in'}"
        if apart := self._isolated(frame, name):
            return apart
        shares = [u for u in self.plan.where("uplink", "over", record.id) if u.vid == vid] if record is not None else []
        if shares and not leaving:
            return f"{name} gets no frames tagged {vid}: {called(self.plan, shares[0])} takes them"
        members = getattr(record, "members", None)
        allowed = members if members is not None else getattr(record, "allowed", None)
        if getattr(record, "native", None) == vid:
            return f"{name} takes {vid} untagged only"
        return f"{name} allows {spoken(allowed)}; {vid} is missing"

    def _isolated(self, frame: int, name: str) -> str:
        """Why a frame that an isolated port let in doesn't leave by another."""
        return (
            f"{name} is isolated, and so is the port that the frame came in by"
            if frame >= self.wiring.classes.plain
            else ""
        )

    def stuck(self, roads: Roads, source: Place, target: Place) -> list[Hop]:
        """The hop at which a way ends that nothing joins to the target."""
        for end, leaving in ((source, True), (target, False)):
            if end.context < 0:
                return [self._behind(self.entry(end))]
            for hop in self.way_out(roads, end):
                if hop.outcome != "passed":
                    return [hop] if leaving else [self._behind(hop)]
        where = "the fabric"
        open_ends = [s.name for s in self.plan.all(FabricSwitch) if s.partial]
        if open_ends:
            reason = f"the plan doesn't know all ports of {', '.join(sorted(open_ends))}"
            return [Hop((), where, "–", "–", "", "open", reason)]
        if self.wiring.cabled[source.bridge] == self.wiring.cabled[target.bridge]:
            mine, theirs = self.tag(source.context), self.tag(target.context)
            reason = f"{self.name(source)} speaks on {mine} and {self.name(target)} on {theirs}; nothing on the way takes one for the other"
            return [Hop((), where, mine, "–", "", "dropped", reason)]
        return [Hop((), where, "–", "–", "", "dropped", "no cable joins the two parts of the fabric")]

    def _behind(self, hop: Hop) -> Hop:
        return Hop(hop.records, hop.where, "–", "–", hop.rule, hop.outcome, hop.reason)

    def way_out(self, roads: Roads, place: Place) -> list[Hop]:
        """How a place's frames leave its switch: the hops up to the first fabric port, the last one saying where they end."""
        teams = self.wiring.teams_at(place.bridge, place.stand.order)
        if not teams:
            bridge = self.wiring.bridges[place.bridge]
            if not bridge.virtual:
                nic = self.plan.of("nic").get(bridge.id)
                if nic is None or not (shut := self._shut(nic)):
                    return []
                return [Hop((nic.id,), called(self.plan, nic), self.tag(place.context), "–", "", "dropped", shut)]
            name = called(self.plan, self.plan.find(bridge.id))
            return [
                Hop((bridge.id,), name, self.tag(place.context), "–", "no uplink", "dropped", f"{name} has no uplink")
            ]
        made: list[Hop] = []
        for team in teams:
            member = self.wiring.carries(team, self.state)
            link = member.link if member is not None else None
            label = int((link.rules[0] if link else team.rule).out[place.context])
            if label < 0:
                records = link.records[0] if link else (team.uplink.id,)
                reason = self.refusal(records, place.context, leaving=True)
                where = called(self.plan, team.uplink)
                made.append(
                    Hop((team.uplink.id,), where, self.tag(place.context), "–", team.rule.text, "dropped", reason)
                )
            elif member is None:
                made.append(self._no_member(team, place))
            elif link is None:
                where = f"{called(self.plan, member.nic)}, uplink {team.uplink.name}"
                reason = f"the plan doesn't say what is behind {called(self.plan, member.nic)}"
                records = (team.uplink.id, member.nic.id)
                made.append(
                    Hop(records, where, self.tag(place.context), self.tag(label), team.rule.text, "open", reason)
                )
            else:
                after = int(link.rules[1].into[label])
                made.extend(self.step(Step(link, 0, place.context, label, after)))
        return made

    def _shut(self, nic: Nic) -> str:
        """Why nothing passes a NIC's cable; empty if something does."""
        name, port = called(self.plan, nic), self.wiring.port_behind(nic.id)
        if nic.link == "down" or nic.id in self.state.lost:
            return f"{name} has no link"
        if port is None:
            return ""
        if not port.enabled:
            return f"{name} is plugged into {called(self.plan, port)}, which is disabled"
        key = f"{nic.id}> functions"
        carried = any(link.key == key for link in self.wiring.fabric.links)
        if carried or any(team.order == nic.id for team in self.wiring.fabric.teams) or not port.lag:
            return ""
        return f"{name} gets no LACP answer, so {self.plan.get('lag', port.lag).name} blocks its port"

    def way_back(self, place: Place) -> list[Hop]:
        """How frames of the context that a place's frames enter come back to its switch."""
        made: list[Hop] = []
        for team in self.wiring.teams_at(place.bridge, place.stand.order):
            member = self.wiring.carries(team, self.state)
            link = member.link if member else None
            label = int(link.rules[0].out[place.context]) if link else -1
            there = int(link.rules[1].into[label]) if link and label >= 0 else -1
            if link is None or there < 0:
                continue
            back = int(link.rules[1].out[there])
            context = int(link.rules[0].into[back]) if back >= 0 else -1
            made.extend(self.step(Step(link, 1, there, back, context)))
            if context >= 0 and context != place.context:
                made[-1] = self.strayed(made[-1], context)
        return made

    def _no_member(self, team: Team, place: Place) -> Hop:
        uplink, where = team.uplink, called(self.plan, team.uplink)
        why = "; ".join(f"{m.nic.name} {m.dead}" if m.dead else f"{m.nic.name} is lost" for m in team.members)
        reason = f"no NIC of {where} can carry" + (f": {why}" if why else ", it has none")
        return Hop((uplink.id,), where, self.tag(place.context), "–", "", "dropped", reason)


def _defines(switch: FabricSwitch, vid: int) -> bool:
    return not vid or not switch.managed or switch.vlans is None or vid in vids.members(switch.vlans)


def _port_refusal(switch: FabricSwitch, port: FabricPort, vid: int, name: str, leaving: bool) -> str:
    if not _defines(switch, vid):
        return f"{switch.name} doesn't define VID {vid}"
    if vid == 0:
        return f"{name} has no native VLAN: untagged frames are dropped"
    if port.mode == "private":
        return f"{name} is a private port on {port.vid}: {vid} doesn’t pass there"
    if port.mode == "standard":
        if vid not in vids.members(port.members or ""):
            return f"{name} has the members {port.members or 'none'}; {vid} is missing"
        return f"{name} admits {port.admits} frames only"
    if port.mode == "access":
        return f"{name} is an access port on {port.vid}: " + (
            f"{vid} doesn't leave there" if leaving else f"frames tagged {vid} are dropped"
        )
    if port.native == vid:
        return f"{name} takes {vid} untagged only"
    return f"{name} allows {port.allowed or 'no VIDs'}; {vid} is missing"


def find_place(wiring: Wiring, name: str) -> Place:
    """The place called `host/tap`, `host/tap|tag` or by a record's id; ValueError says what there is instead."""
    place = wiring.place(name)
    if place is not None:
        return place
    key, _, tag = name.partition("|")
    owners = [key] if wiring.plan.find(key) is not None else with_key(wiring.plan, key)
    if len(owners) > 1:
        raise ValueError(f"“{key}” is the name of several endpoints; use an id: {', '.join(sorted(owners))}")
    found = wiring.places_of(owners[0]) if owners else []
    if not found:
        raise ValueError(f"there is no endpoint “{name}”; endpoints are named host/tap, with |tag for any tag")
    for place in found:
        label = "" if place.label == 0 else str(wiring.classes.vid(place.label))
        if label == tag:
            return place
    if not tag:
        return found[0]
    if not (tag.isascii() and tag.isdigit() and vids.LOWEST <= int(tag) <= vids.HIGHEST):
        raise ValueError(f"“{tag}” is no tag: a number from {vids.LOWEST} to {vids.HIGHEST}, or nothing for untagged")
    return _with_tag(wiring, found[0], int(tag))


def entry_at(wiring: Wiring, way: WayIn) -> Place | None:
    """Where the frames of a gateway outside the plan enter, as if it were a station at its way in; None where the port doesn't let the segment's VID out and in."""
    vid = wiring.plan.get("segment", way.segment).vid
    rule = wiring.port_rules.get(way.port)
    label = int(rule.out[wiring.classes.of[vid]]) if rule is not None and vid is not None else -1
    return _standing(wiring, way.id, way.port, label, way.segment) if label >= 0 else None


def station_at(wiring: Wiring, record: str, port: str, vid: int | None, segment: str | None) -> Place | None:
    """Whoever sends frames into a fabric port with a tag, or without one, as if he were a station there; None where the port drops them."""
    return _standing(wiring, record, port, int(wiring.classes.of[vid]) if vid else UNTAGGED, segment)


def _standing(wiring: Wiring, record: str, port: str, label: int, segment: str | None) -> Place | None:
    """A place at a fabric port for whoever has no stand there, with the tag that its frames have; None where the port drops them."""
    rule = wiring.port_rules.get(port)
    if rule is None or rule.into[label] < 0:
        return None
    bridge = wiring.bridge_of[wiring.plan.get("fabric_port", port).switch].number
    hears = tuple(np.flatnonzero(rule.out == label).tolist())
    stand = Stand(STATIONS, -1, bridge, rule, label, int(rule.into[label]), hears, segment, "", judged=False)
    return Place(record, record, stand, ())


def _with_tag(wiring: Wiring, place: Place, vid: int) -> Place:
    """An endpoint's place as if its guest put another tag on its frames than it is meant to."""
    stand, rule, label = place.stand, place.rule, int(wiring.classes.of[vid])
    context = int(rule.into[label]) if rule is not None and not stand.vni else -1
    hears = tuple(np.flatnonzero(rule.out == label).tolist()) if rule is not None and not stand.vni else ()
    reason = "" if context >= 0 else f"drops frames that arrive tagged {vid}" if rule is not None else stand.reason
    other = replace(stand, label=label, context=context, hears=hears, segment=None, reason=reason, records=[])
    return Place(place.record, place.endpoint, other, (), vid)

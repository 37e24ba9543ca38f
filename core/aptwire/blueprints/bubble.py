"""Bubbles: copies of guests that keep their addresses and meet nobody, for trying a restored backup, or for a lab that looks like somebody's network.

A bubble has segments of its own, with VIDs that nobody uses and its name as their role; its guests sit on a sealed switch of one host, or over the fabric on the hosts of those
whom they are copies of.  A rule keeps its role apart from everything even if hostile.  Guests that forward come along where they bear the gateway of one of its segments; what else
they are joined to stays behind, and no outside network is copied, so that nothing leads out.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from ipaddress import ip_address, ip_network
from typing import Any

from aptwire.blueprints.carrying import Brought, between
from aptwire.judge.judgement import Judgement
from aptwire.judge.plugging import next_free_address
from aptwire.judge.risks.hosts import fresh_mac
from aptwire.judge.verdicts import judged_after
from aptwire.plan import vids
from aptwire.plan.edits import Operation, Put, apply_edit
from aptwire.plan.fields import bare_address
from aptwire.plan.gestures import free_name, offering
from aptwire.plan.kinds import (
    GUARDS,
    Adapter,
    Guest,
    GuestTag,
    LeaseScope,
    PortGroup,
    Record,
    Reservation,
    Route,
    Rule,
    Segment,
    VirtualSwitch,
)
from aptwire.plan.names import called, natural, some
from aptwire.plan.plan import Plan, PlanError, Problem
from aptwire.plan.sentences import quoted
from aptwire.plan.stacks import ends_of
from aptwire.rules.answer import HOLDS
from aptwire.rules.asking import asked

OF_A_GUEST = ("route", "filter_line", "lease_scope")
AT_ITS_INTERFACES = ("lease_relay", "advertisement", "translation", "inward_translation")
SAYING_A_VID = (
    *("segment", "secondary_vlan", "guest_tag", "port_group", "host_port", "station_port", "fabric_port", "uplink"),
)
LISTS = (("uplink", "allowed"), ("fabric_port", "allowed"), ("fabric_switch", "vlans"))
LONG = 64
"""A range of more VIDs than these names none of them in particular."""
UNSAID: dict[str, Any] = dict.fromkeys(("pvid", "members", "untagged", "admits", "function_of", "function_vid"))
"""What an adapter's copy doesn't say: words about VIDs that aren't there, and about a NIC that it isn't on."""


def bubble(
    judgement: Judgement, name: str, guests: Sequence[str], segments: Sequence[str], host: str = "", entry: str = ""
) -> Brought:
    """A bubble of some guests, and of all who belong on some segments (ids).

    `host`: on a sealed switch there; none: each where the one is whose copy it is, over the fabric.  `entry`: a guest there that gets an adapter in the
    bubble, so that somebody can work in it.  PlanError where the name is taken, there is nobody to copy, or whoever is to get in forwards.
    """
    return _Bubble(judgement, name.strip(), guests, segments, host, entry).made()


def named_in(text: str | None) -> set[int]:
    """The VIDs that a list names, not as one of very many."""
    listed = vids.members(text or "", untagged=True)
    return {vid for vid in listed if not {*range(vid - LONG, vid)} <= listed}


def rule_of(name: str) -> str:
    """The rule that keeps a bubble apart."""
    return f"keep role {quoted(name)} apart from everything even if hostile"


def _taps(plan: Plan, host: str) -> set[str]:
    """The names of all adapters on a host."""
    return {a.name for guest in plan.where("guest", "host", host) for a in plan.where("adapter", "guest", guest.id)}


class _Bubble:
    def __init__(
        self,
        judgement: Judgement,
        name: str,
        guests: Sequence[str],
        segments: Sequence[str],
        host: str,
        entry: str,
    ) -> None:
        self.judgement, self.plan, self.name, self.host = judgement, judgement.plan, name, host
        self._check(name, guests, segments, host)
        self.entry: Guest | None = self._entering(entry)
        chosen = self._chosen(guests, segments)
        self.segments = self._segments(guests, segments)
        forwarding = [g for g in self._gatekeepers() if g not in chosen]
        self.guests = sorted([*chosen, *forwarding], key=lambda g: natural(g.name))
        if not self.guests:
            raise PlanError([Problem("nobody is there to be copied", field="guests" if guests else "segments")])
        self.vid_of = dict(zip(self.segments, self._spare(len(self.segments)), strict=True))

    def _check(self, name: str, guests: Sequence[str], segments: Sequence[str], host: str) -> None:
        plan = self.plan
        problems = []
        if not name or len(name) > 40:
            problems.append(Problem("a bubble needs a name of 1 to 40 letters", field="name"))
        elif plan.where("segment", "role", name):
            problems.append(Problem(f"segments have the role {name} already", field="name"))
        for kind, field, ids in (("guest", "guests", guests), ("segment", "segments", segments)):
            if any(id not in plan.of(kind) for id in ids):
                problems.append(Problem(f"there is no such {kind}", field=field))
        if host and host not in plan.of("host"):
            problems.append(Problem("there is no such host", field="host"))
        if problems:
            raise PlanError(problems)

    def _entering(self, entry: str) -> Guest | None:
        if not entry:
            return None
        guest: Guest | None = self.plan.of("guest").get(entry)
        if guest is None:
            raise PlanError([Problem("there is no such guest", field="entry")])
        if guest.routes:
            raise PlanError([Problem(f"{guest.name} forwards, so the bubble would have a way out", field="entry")])
        if self.host and guest.host != self.host:
            where = f"{guest.name} is on {self.plan.get('host', guest.host).name}, not where the bubble is to be"
            raise PlanError([Problem(where, field="entry")])
        return guest

    def _ends(self, guest: Guest) -> list[Any]:
        """A guest's adapters and tags."""
        return list(ends_of(self.plan, guest))

    def _chosen(self, guests: Sequence[str], segments: Sequence[str]) -> list[Guest]:
        """The guests asked for, and whoever belongs on a segment asked for and doesn't forward."""
        wanted = set(segments)
        return [
            guest
            for guest in self.plan.all(Guest)
            if guest.id in guests or (not guest.routes and any(end.belongs in wanted for end in self._ends(guest)))
        ]

    def _segments(self, guests: Sequence[str], segments: Sequence[str]) -> list[str]:
        """The segments of which it has copies: those asked for, and those of the guests asked for."""
        asked_for = [self.plan.get("guest", id) for id in guests]
        for guest in asked_for:
            if not any(end.belongs for end in self._ends(guest)):
                raise PlanError([Problem(f"{guest.name} belongs on no segment", field="guests")])
        own = {end.belongs for guest in asked_for for end in self._ends(guest) if end.belongs}
        found = sorted({*own, *segments}, key=lambda id: natural(self.plan.get("segment", id).name))
        if not found:
            raise PlanError([Problem("whom it is to have copies of is missing", field="guests")])
        return found

    def _gatekeepers(self) -> Iterator[Guest]:
        """The guests that forward and bear a gateway of the bubble's segments."""
        gates = {gate for id in self.segments for gate in self.plan.get("segment", id).gateways}
        for guest in self.plan.all(Guest):
            ends = self._ends(guest) if guest.routes else ()
            if any(end.belongs in self.segments and gates & set(map(bare_address, end.addresses)) for end in ends):
                yield guest

    def _spare(self, number: int) -> list[int]:
        """VIDs that nothing in the plan says, from the highest down."""
        plan = self.plan
        taken = {r.vid for kind in SAYING_A_VID for r in plan.all(kind)}
        taken |= {vid for kind, field in LISTS for r in plan.all(kind) for vid in named_in(getattr(r, field))}
        taken |= {vid for r in plan.all(Reservation) for vid in vids.members(r.vids or "")}
        free = [vid for vid in range(vids.HIGHEST, 0, -1) if vid not in taken][:number]
        if len(free) < number:
            raise PlanError([Problem(f"{number} VIDs are needed, and {len(free)} are free", field="segments")])
        return free

    def made(self) -> Brought:
        """The edit, and what it does in a sentence."""
        plan, name = self.plan, self.name
        borne = {bare_address(a) for guest in self.guests for end in self._ends(guest) for a in end.addresses}
        segments = [self._segment(id, borne) for id in self.segments]
        made: list[Operation] = [*map(Put, segments), *self._offered(segments)]
        made += self._copied(apply_edit(plan, tuple(made))[0])
        made += self._way_in(apply_edit(plan, tuple(made))[0])
        # A port group on whose VID only routers' tags come in is of no use once the routers have their own.
        seats = {op.record.port_group for op in made if isinstance(op, Put) and isinstance(op.record, Adapter)}
        made = [
            op
            for op in made
            if not (isinstance(op, Put) and isinstance(op.record, PortGroup) and op.record.id not in seats)
        ]
        text = rule_of(name)
        made.append(Put(Rule(id=plan.fresh_id(f"bubble-{name}"), text=text)))
        answer = asked(judged_after(self.judgement, tuple(made))).ask(text)
        fares = "apart even if hostile" if answer.outcome == HOLDS else f"which is not known to be apart: {answer.text}"
        return Brought(
            tuple(made), f"Make bubble {name} of {some(g.name for g in self.guests)}, {fares}{self._unlike(borne)}"
        )

    def _unlike(self, borne: set[str]) -> str:
        """What in the bubble isn't as in what it is a copy of."""
        plan, said = self.plan, ""
        for guest in self.guests:
            tags = [e for e in self._ends(guest) if e.kind == "guest_tag" and e.belongs in self.vid_of]
            if tags:
                said += f"; the copy of {guest.name} tags {some(f'{self.vid_of[t.belongs]} in place of {t.vid}' for t in tags)}"
        lacking = [g for id in self.segments for g in plan.get("segment", id).gateways if g not in borne]
        return said + (f"; nobody in it answers for {some(lacking)}" if lacking else "")

    def _segment(self, id: str, borne: set[str]) -> Segment:
        own: Segment = self.plan.get("segment", id)
        name = self._free("segment", f"{self.name} {own.name}")
        return replace(
            own,
            id=self.plan.fresh_id(f"segment-{name}"),
            name=name,
            role=self.name,
            vid=self.vid_of[id],
            vni=None,
            encapsulation="vxlan",
            gateways=tuple(g for g in own.gateways if g in borne),
            lease_servers=tuple(s for s in own.lease_servers if s in borne),
        )

    def _free(self, kind: str, wanted: str) -> str:
        return free_name(wanted[:75], {r.name for r in self.plan.all(kind)})

    def _offered(self, segments: Sequence[Segment]) -> list[Operation]:
        """The switches and port groups in which copies sit: a sealed switch, or what the hosts have with the VIDs let through."""
        plan = self.plan
        if self.host:
            name = free_name(self.name, {s.name for s in plan.where("virtual_switch", "host", self.host)})
            switch = VirtualSwitch(id=plan.fresh_id(f"{self.host}/{name}"), host=self.host, name=name, answers=False)
            groups = (
                PortGroup(
                    id=plan.fresh_id(f"{switch.id}/{own.name}"),
                    switch=switch.id,
                    name=own.name,
                    mode="access",
                    vid=own.vid,
                )
                for own in segments
            )
            return [Put(switch), *map(Put, groups)]
        made: list[Operation] = []
        put = tuple(map(Put, segments))
        for id, wanted in zip(self.segments, segments, strict=True):
            hosts = list(dict.fromkeys(g.host for g in self.guests if any(e.belongs == id for e in self._ends(g))))
            more, left = offering(apply_edit(plan, (*put, *made))[0], wanted, hosts)
            if left:
                out = some(plan.get("host", host).name for host in left)
                raise PlanError(
                    [Problem(f"{out} {'has' if len(left) == 1 else 'have'} no switch with a way out", field="host")]
                )
            made += more
            made += between(self.judgement, (*put, *made), wanted.vid or 0) if len(hosts) > 1 else ()
        return made

    def _copied(self, plan: Plan) -> Iterator[Operation]:
        """The guests' copies, with all that makes routers and lease servers of them; `plan` has the segments and port groups already."""
        own = dict(zip(self.segments, (s.id for s in self._own(plan)), strict=True))
        copies: dict[str, str] = {}
        macs: dict[str, str] = {}
        taken = {*self.judgement.wiring.macs}
        names: dict[str, set[str]] = {}
        for guest in self.guests:
            host = self.host or guest.host
            name = self._free("guest", f"{guest.name}-{'-'.join(self.name.split())}")
            copy = replace(guest, id=plan.fresh_id(f"guest-{name}"), host=host, name=name)
            copies[guest.id] = copy.id
            yield Put(copy)
            for adapter in plan.where("adapter", "guest", guest.id):
                tags = [t for t in plan.where("guest_tag", "adapter", adapter.id) if t.belongs in own]
                inside = adapter.belongs in own
                if not inside and not tags:
                    continue
                mac = adapter.mac
                id = plan.fresh_id(f"{copy.id}/{adapter.name}")
                if mac and not adapter.mac_fixed:
                    mac = macs[mac] = fresh_mac(taken, id)
                    taken.add(mac)
                tap = free_name(adapter.name[:75], names.setdefault(host, _taps(plan, host)))
                names[host].add(tap)
                guards = self._guards(plan, adapter)
                group, more = self._seat(plan, copy, adapter, tags, guards)
                yield from more
                copies[adapter.id] = id
                yield Put(
                    replace(
                        adapter,
                        **UNSAID,
                        **(guards if not tags else dict.fromkeys(guards)),
                        id=id,
                        guest=copy.id,
                        name=tap,
                        mac=mac,
                        type="paravirtual" if adapter.type == "direct" else adapter.type,
                        port_group=group,
                        belongs=own.get(adapter.belongs or ""),
                        addresses=adapter.addresses if inside else (),
                        addressing=adapter.addressing if inside else "static",
                        addressing6=adapter.addressing6 if inside else "static",
                    )
                )
                for tag in tags:
                    assert tag.belongs is not None
                    copies[tag.id] = plan.fresh_id(f"{id}/{self.vid_of[tag.belongs]}")
                    yield Put(
                        replace(
                            tag, id=copies[tag.id], adapter=id, vid=self.vid_of[tag.belongs], belongs=own[tag.belongs]
                        )
                    )
        yield from self._duties(plan, copies, macs)

    def _own(self, plan: Plan) -> list[Segment]:
        """The bubble's segments, in the order of those that they are copies of."""
        by_vid = {s.vid: s for s in plan.where("segment", "role", self.name)}
        return [by_vid[vid] for vid in self.vid_of.values()]

    @staticmethod
    def _guards(plan: Plan, adapter: Adapter) -> dict[str, bool | None]:
        """What an adapter may do, by its own word or its port group's, in words of its own."""
        group = plan.of("port_group").get(adapter.port_group)
        said = {guard: getattr(adapter, guard) for guard in GUARDS}
        return {g: (bool(group and getattr(group, g)) or None) if word is None else word for g, word in said.items()}

    def _seat(
        self, plan: Plan, copy: Guest, adapter: Adapter, tags: Iterable[GuestTag], guards: Mapping[str, bool | None]
    ) -> tuple[str, tuple[Operation, ...]]:
        """The port group in which an adapter's copy sits, and what makes it."""
        native = self.vid_of.get(adapter.belongs or "")
        switches = {s.id for s in plan.where("virtual_switch", "host", copy.host)}
        numbers = {self.vid_of[t.belongs] for t in tags if t.belongs}
        if not numbers:
            there = (g for g in plan.where("port_group", "vid", native) if g.switch in switches)
            return min(g.id for g in there), ()
        beside = min(g.switch for v in numbers for g in plan.where("port_group", "vid", v) if g.switch in switches)
        name = f"{copy.name} {adapter.name}"[:80]
        id = plan.fresh_id(f"{beside}/{name}")
        allowed = vids.write({*numbers, *([native] if native else [])})
        may: dict[str, Any] = {guard: bool(word) for guard, word in guards.items()}
        return id, (
            Put(PortGroup(id=id, switch=beside, name=name, mode="trunk", allowed=allowed, native=native, **may)),
        )

    def _duties(self, plan: Plan, copies: Mapping[str, str], macs: Mapping[str, str]) -> Iterator[Operation]:
        """What the copies forward, drop, lease, relay and translate as those do whom they are copies of, as far as it is about what is in the bubble."""
        for guest in self.guests:
            found: list[Record] = [r for kind in OF_A_GUEST for r in plan.where(kind, "of", guest.id)]
            ends = [end.id for end in self._ends(guest)]
            found += [r for kind in AT_ITS_INTERFACES for id in ends for r in plan.where(kind, "at", id)]
            for record in filter(self._is_within, found):
                named = {f: getattr(record, f) for f in ("of", "at", "enters", "leaves") if getattr(record, f, None)}
                if not set(named.values()) <= copies.keys():
                    continue
                changes: dict[str, Any] = {field: copies[id] for field, id in named.items()}
                if isinstance(record, LeaseScope):
                    kept = (text.split(maxsplit=1) for text in record.kept)
                    changes["kept"] = tuple(f"{macs.get(mac, mac)} {address}" for mac, address in kept)
                yield Put(replace(record, id=plan.fresh_id(f"{record.id}-{self.name}"), **changes))

    def _is_within(self, record: Record) -> bool:
        """Whether a route leads to a next hop, or a scope leases a subnet, that the bubble has."""
        nets = [ip_network(net) for id in self.segments for net in self.plan.get("segment", id).subnets]
        if isinstance(record, Route):
            via = ip_address(record.via)
            return any(via in net for net in nets)
        if isinstance(record, LeaseScope):
            leased = ip_network(record.subnet)
            return any(leased.version == net.version and leased.overlaps(net) for net in nets)
        return True

    def _way_in(self, plan: Plan) -> Iterator[Operation]:
        """An adapter in the bubble's first segment for whoever is to work in it."""
        guest = self.entry
        if guest is None:
            return
        segment = self._own(plan)[0]
        switches = {s.id for s in plan.where("virtual_switch", "host", guest.host)}
        groups = [
            g for g in plan.where("port_group", "vid", segment.vid) if g.switch in switches and g.mode == "access"
        ]
        if not groups:
            where = f"{called(plan, guest)} is on a host where nobody of the bubble is"
            raise PlanError([Problem(where, field="entry")])
        held = plan.where("adapter", "guest", guest.id)
        address = next_free_address(plan, segment)
        id = plan.fresh_id(f"adapter-{guest.name}-{self.name}")
        yield Put(
            Adapter(
                id=id,
                guest=guest.id,
                name=free_name(f"tap-{guest.name}"[:75], _taps(plan, guest.host)),
                port_group=min(g.id for g in groups),
                mac=fresh_mac(self.judgement.wiring.macs, id),
                belongs=segment.id,
                order=min(63, max((a.order for a in held), default=-1) + 1),
                addresses=(address,) if address else (),
            )
        )

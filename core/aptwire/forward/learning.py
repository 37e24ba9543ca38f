"""Where unicast frames go once switches have learned addresses (IEEE 802.1Q clause 8.7), exactly.

Learning is per VID: at each stop of a frame the switch notes, for the sender's address and that VID, the port by which it came in; a switch that
tells no VLANs apart has one table for all.  A frame to an address that is noted goes to that port alone, if it may go there; to any other it is
flooded, as a broadcast would be.  A switch that knows its adapters' addresses learns none: it gives a frame to who has its address, or sends it out.
"""

from __future__ import annotations

from collections import deque

from aptwire.forward.frames import Frames, Seat
from aptwire.forward.parts import Link
from aptwire.forward.rules import Stack
from aptwire.forward.walk import Stop, flood, onward
from aptwire.plan.kinds import LEARNED, FabricSwitch, VirtualSwitch

Port = Link | str
"""A link, or the seat that sits there."""


class Learned:
    """What switches have learned from frames that were sent, in their order."""

    def __init__(self, frames: Frames) -> None:
        self.frames = frames
        self._ports: dict[tuple[int, int, str], Port] = {}
        self._doubted: set[tuple[int, int, str]] = set()
        self._tunnelled: set[tuple[str, str]] = set()
        plan, bridge_of = frames.wiring.plan, frames.wiring.bridge_of
        plain = [s.id for s in plan.all(VirtualSwitch) if not s.filters]
        plain += [s.id for s in plan.all(FabricSwitch) if not s.managed]
        self._plain = {bridge_of[id].number for id in plain if id in bridge_of}
        knowing = (s.id for s in plan.all(VirtualSwitch) if s.returning != LEARNED)
        self._knowing = {bridge_of[id].number for id in knowing if id in bridge_of}

    def _table(self, stop: Stop) -> tuple[int, int]:
        """Where a switch notes addresses at a stop: by VID, or all together on one that tells no VLANs apart."""
        return stop.bridge, 0 if stop.bridge in self._plain else stop.vid

    def learn(self, sender: str, tags: Stack) -> None:
        """Take note of a frame; where it comes to a switch by several ports, nobody can say by which last."""
        seat = self.frames.seats[sender]
        start = self.frames.start(seat, tags)
        if start is None:
            return
        if seat.vni:
            # A tunnel's end notes behind which other one an address is.
            self._tunnelled.update((id, sender) for id, _ in self.frames.stacked(sender, tags))
            return
        found: dict[tuple[int, int, str], set[Port]] = {}
        for stop in flood(self.frames.roads, start, seat.order):
            # What a host sends itself doesn't come in by a port of its switch.
            if seat.kind == "host_port" if stop.entry is None else self._own_device(stop.entry, stop.bridge):
                continue
            found.setdefault((*self._table(stop), sender), set()).add(stop.entry or sender)
        for key, ports in found.items():
            if len(ports) > 1:
                self._doubted.add(key)
            self._ports[key] = next(iter(ports))

    def certain(self, target: str) -> bool:
        """Whether it is certain by which ports a seat is reached."""
        return not any(sender == target for _, _, sender in self._doubted)

    def reached(self, sender: str, tags: Stack, target: str) -> frozenset[tuple[str, Stack]]:
        """Who receives a frame that bears these tags, outermost first, and the target's address, and with which tags it comes out."""
        frames, roads, book = self.frames, self.frames.roads, self.frames.wiring.book
        seat = frames.seats[sender]
        start = frames.start(seat, tags)
        if start is None:
            return frozenset()
        if seat.vni:
            flooded = frames.stacked(sender, tags)
            known = (sender, target) in self._tunnelled
            return frozenset((id, out) for id, out in flooded if not known or id == target)
        found: set[tuple[str, Stack]] = set()
        seen, queue = {start}, deque([start])
        while queue:
            stop = queue.popleft()
            knowing = stop.bridge in self._knowing
            inside = knowing and frames.seats[target].bridge == stop.bridge
            port = (target if inside else None) if knowing else self._ports.get((*self._table(stop), target))
            for other in frames.at(stop.bridge):
                if other.id != (target if knowing else port or other.id) or not self._hears(stop, other, seat):
                    continue
                out = book.leave(other.rule, stop.context, stop.vid, stop.below)
                if out is None and knowing:
                    # Who isn't given it there is sent to over the fabric.
                    port = None
                elif out is not None and not (knowing and self._taken_away(stop, tags)):
                    found.add((other.id, out))
            for link in roads.leaving((stop.bridge, stop.context, stop.entry), seat.order):
                own = self._own_device(link, stop.bridge)
                if port is not None and not own and not self._same_port(port, link, stop.bridge):
                    continue
                following = onward(book, stop, link)
                if following is not None and following not in seen:
                    seen.add(following)
                    queue.append(following)
        return frozenset(found)

    def _hears(self, stop: Stop, other: Seat, sender: Seat) -> bool:
        """Whether a frame at a stop is given to a seat there: never to who sent it, nor over a team's member that doesn't carry for that one."""
        if other.vni or (other is sender and stop.entry is None and not other.rule.reflects):
            return False
        return self.frames.serves(self.frames.roads, stop, other)

    def _taken_away(self, stop: Stop, tags: Stack) -> bool:
        """Whether what an adapter sends another one of its switch goes to a switch that shares its uplink: such a frame passes as if it had come in there."""
        plan = self.frames.wiring.plan
        if stop.entry is not None or not tags:
            return False
        over = {uplink.over for uplink in plan.where("uplink", "switch", self.frames.wiring.bridges[stop.bridge].id)}
        return any(
            uplink.vid == tags[0] for shared in over if shared for uplink in plan.where("uplink", "over", shared)
        )

    def _own_device(self, link: Link, bridge: int) -> bool:
        """Whether a link leaves by a switch's own interface, upon which another switch sits: the host is shown everything there, and what it sends
        there comes in by no port."""
        records = link.records[link.side(bridge)]
        return bool(records) and records[0] in self.frames.wiring.plan.of("host_port")

    def _same_port(self, known: Port, link: Link, bridge: int) -> bool:
        """Whether a link is on the port that was noted: the members of a team are one port."""
        if isinstance(known, str) or known is link:
            return known is link
        one, two = (k.records[k.side(bridge)][:1] for k in (known, link))
        return bool(one) and one == two

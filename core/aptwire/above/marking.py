"""Marked questions: switches that tell whoever leases at which of their ports a question came in (option 82, RFC 3046), and who drops what others have marked.

A question is marked by the first switch on its way that marks.  Another one that marks drops it, or takes it, at the port where it comes in, as that port says
(RFC 3046 section 2.1 has it dropped where a circuit isn't trusted); a relay does as it says itself.  Where neither is said, nobody knows.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from aptwire.above.outcomes import ANSWERED, BEST_FIRST, SILENT, UNPROVEN, WAVERS
from aptwire.above.ping import Pings
from aptwire.forward.parts import NOW, Place, State
from aptwire.forward.trace import Trace
from aptwire.judge.judgement import Judgement
from aptwire.plan.edits import Edit, Patch
from aptwire.plan.kinds import DROPPED, PLACES, TAKEN, FabricPort, FabricSwitch, LeaseRelay, StationPort
from aptwire.plan.names import called
from aptwire.plan.stacks import owner_of


@dataclass(frozen=True)
class Held:
    """A record (a fabric port or a relay) that drops a marked question, or of which nobody says whether it does."""

    record: FabricPort | LeaseRelay
    by: str

    @property
    def outcome(self) -> str:
        """SILENT or UNPROVEN."""
        return SILENT if self.record.marked == DROPPED else UNPROVEN


class Marks:
    """What becomes of marked questions in a judged plan, in every state, or in one alone."""

    def __init__(self, judgement: Judgement, state: State | None) -> None:
        self.plan, self.wiring, self.state = judgement.plan, judgement.wiring, state
        self.switches = frozenset(switch.id for switch in self.plan.where(FabricSwitch.kind, "marks_leases", True))
        self._pings = Pings(judgement, exact=True, waking=True)

    def taken(self, record: str, at: str, relay: str) -> tuple[str, str, State]:
        """Whether a question of an interface gets past all who might drop it for its mark, to an interface (`at`) where it is answered by a server, or heard by a `relay`
        (an id, or empty); why not, and in which state first."""
        found: list[tuple[State, str, str]] = []
        for state in self._states(record, at):
            held = self._held(record, at, relay, state)
            found.append((state, held.outcome, self._why(held)) if held is not None else (state, ANSWERED, ""))
        state, outcome, reason = max(found, key=lambda one: BEST_FIRST.index(one[1]))
        if outcome == SILENT and any(one[1] == ANSWERED for one in found):
            outcome = WAVERS
        return outcome, reason, state if outcome == WAVERS else NOW

    def mends(self, record: str, at: str, relay: str) -> Iterator[tuple[str, Edit]]:
        """What has whoever drops a question today for its mark take it, in words and as an edit."""
        held = self._held(record, at, relay, self.state or NOW)
        if held is not None:
            edit = Patch(held.record.kind, held.record.id, {"marked": TAKEN})
            yield f"Have {called(self.plan, held.record)} take what is marked by {held.by}", (edit,)

    def _states(self, record: str, at: str) -> list[State]:
        if self.state is not None:
            return [self.state]
        ways = self._pings.beside(record, at).ways
        either, fails, _ = self._pings.states_of(ways)
        return [NOW, *either, *fails]

    def _held(self, record: str, at: str, relay: str, state: State) -> Held | None:
        """Who drops a question on its way, or may, for its mark; None where nobody does."""
        place, there = self.wiring.place(record), self.wiring.place(at)
        if place is None or there is None:
            return None
        marked = ""
        for switch, port in self._entered(place, self._pings.trace_of(place, there, state)):
            if switch not in self.switches:
                continue
            if marked and port is not None and port.marked != TAKEN:
                return Held(port, self._name(marked))
            marked = marked or switch
        asks = self.plan.of(LeaseRelay.kind).get(relay)
        if not marked or asks is None or asks.marked == TAKEN:
            return None
        relaying = self.plan.find(asks.at, PLACES)
        # A switch that routes knows its own marks.
        own = getattr(owner_of(self.plan, relaying), "within", None) if relaying is not None else None
        return None if own == marked else Held(asks, self._name(marked))

    def _entered(self, place: Place, way: Trace) -> Iterator[tuple[str, FabricPort | None]]:
        """The switches of the fabric on a way, each with the port where it is entered; that of a station first, if one asks."""
        ports = self.plan.of(FabricPort.kind)
        station = self.plan.of(StationPort.kind).get(place.record)
        before = ""
        own = ports.get(station.port) if station is not None else None
        if own is not None:
            before = own.switch
            yield own.switch, own
        for hop in way.hops if way.delivered else ():
            for port in (ports[id] for id in hop.records if id in ports):
                if port.switch != before:
                    before = port.switch
                    yield port.switch, port

    def _why(self, held: Held) -> str:
        name = called(self.plan, held.record)
        if held.outcome == SILENT:
            return f"{name} drops questions that {held.by} has marked"
        return f"{held.by} marks questions, and nobody says whether {name} takes such"

    def _name(self, id: str) -> str:
        return called(self.plan, self.plan.find(id))

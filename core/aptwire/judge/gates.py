"""Gateways: who bears each address, and where it comes in from outside the plan."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from aptwire.forward.domains import Domains
from aptwire.forward.parts import Stand
from aptwire.forward.wiring import Wiring
from aptwire.judge.intent import Intent
from aptwire.judge.why import is_idle


@dataclass(frozen=True)
class Gate:
    """A gateway address: the stands and records that bear it and run, those that are idle, and the nodes at which it comes in from
    outside the plan."""

    address: str
    awake: tuple[tuple[Stand, str], ...]
    idle: tuple[str, ...]
    entries: tuple[int, ...]

    @property
    def bearer(self) -> str:
        """The record that stands for it; empty where it is outside the plan."""
        return next((record for _, record in self.awake), next(iter(self.idle), ""))

    @property
    def unsaid(self) -> list[Stand]:
        """The stands that bear it and of which nobody said where they belong: they count where they land."""
        return [stand for stand, _ in self.awake if stand.segment is None]

    def comes_in(self, domains: Domains) -> set[int]:
        """The groups in which it comes in from outside."""
        return {int(domains.component[node]) for node in self.entries}

    def alike(self, other: Gate) -> bool:
        """Whether two are borne by the same records."""
        bearers = [tuple(record for _, record in gate.awake) for gate in (self, other)]
        return bearers[0] == bearers[1] and (self.address, self.idle, self.entries) == (
            other.address,
            other.idle,
            other.entries,
        )


@dataclass(frozen=True)
class Gates:
    """By segment number: the gateways that somebody bears, and the addresses that nobody does."""

    borne: Mapping[int, tuple[Gate, ...]]
    unborne: Mapping[int, tuple[str, ...]]

    def all(self) -> Iterable[Gate]:
        """Every gateway."""
        return (gate for gates in self.borne.values() for gate in gates)


def find_gates(wiring: Wiring, intent: Intent, before: Gates | None = None, segments: Iterable[int] = ()) -> Gates:
    """The gateways of a plan; with those before an edit, looked for anew in some segments alone."""
    borne = dict(before.borne) if before is not None else {}
    unborne = dict(before.unborne) if before is not None else {}
    ids = intent.segments
    asked = segments if before is not None else (n for n, gateways in enumerate(intent.gateways.values()) if gateways)
    for n in asked:
        found, missing = [], []
        entries = [_entry(wiring, way.port, ids[n]) for way in wiring.plan.where("way_in", "segment", ids[n])]
        for address in intent.gateways[ids[n]]:
            gate = find_gate(wiring, address, ids[n], entries)
            if gate is None:
                missing.append(address)
            else:
                found.append(gate)
        for known, fresh in ((borne, tuple(found)), (unborne, tuple(missing))):
            if fresh:
                known[n] = fresh  # type: ignore[assignment]
            else:
                known.pop(n, None)
    return Gates(borne, unborne)


def find_gate(wiring: Wiring, address: str, segment: str | None, entries: Iterable[int] = ()) -> Gate | None:
    """Who bears an address for a segment (None: for whomever); None: nobody does.

    What is off or disconnected is reached by nobody.
    """
    awake: list[tuple[Stand, str]] = []
    idle: list[str] = []
    for record in sorted(wiring.bearers.get(address, ())):
        place = wiring.place(record)
        if place is None or (segment is not None and place.segment not in (None, segment)):
            continue
        if place.stand.judged and is_idle(wiring.plan, place.endpoint):
            idle.append(record)
        else:
            awake.append((place.stand, record))
    known = tuple(node for node in entries if node >= 0)
    return Gate(address, tuple(awake), tuple(idle), known) if awake or idle or known else None


def _entry(wiring: Wiring, port: str, segment: str) -> int:
    """The node in which what is behind a fabric port speaks on a segment's VID; -1 where the port doesn't carry it."""
    record = wiring.plan.get("fabric_port", port)
    rule = wiring.port_rules.get(port)
    vid = wiring.plan.get("segment", segment).vid
    if rule is None or vid is None:
        return -1
    context = int(wiring.classes.of[vid])
    row = wiring.bridge_of[record.switch].crossing_row
    return row * wiring.classes.count + context if rule.out[context] >= 0 else -1

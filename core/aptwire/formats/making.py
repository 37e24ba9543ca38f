"""The records of a plan that is being made of what was observed, and what is said of it line by line."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from aptwire.formats.observed import Device
from aptwire.plan.ids import make_id
from aptwire.plan.kinds import Cable, Record
from aptwire.plan.plan import Plan, PlanError, Problem


@dataclass(frozen=True)
class Note:
    """A line of the report: `what` is read, proposed, left out, or differs; `about` names the device or record."""

    what: str
    about: str
    text: str

    def to_json(self) -> dict[str, str]:
        """The line for a program."""
        return {"what": self.what, "about": self.about, "text": self.text}


@dataclass
class Report:
    """What was read, what was proposed, what was left out and why."""

    notes: list[Note] = field(default_factory=list)

    def add(self, what: str, about: str, text: str) -> None:
        """One line more."""
        self.notes.append(Note(what, about, text))


class Records:
    """The records made so far, by id.

    `bundles` are teams that need one LAG at their far end: the switch, their NICs or ports, the record to speak of, and the mode.
    """

    def __init__(self, name: str, report: Report) -> None:
        self.name = name
        self.report = report
        self.by_id: dict[str, Record] = {}
        self.guests: set[str] = set()
        self.seen: set[int] = set()
        self.vlan_names: dict[int, str] = {}
        self.fabric_of: dict[str, str] = {}
        self.bundles: list[tuple[str, tuple[str, ...], str, str]] = []

    def put(self, record: Record) -> str:
        if record.id in self.by_id:
            raise PlanError([Problem(f"two things would be called {record.id}", place=self.name)])
        self.by_id[record.id] = record
        return record.id

    def change(self, id: str, **values: Any) -> None:
        self.by_id[id] = replace(self.by_id[id], **values)

    def partial(self, switch: str, about: str, text: str) -> None:
        """Something at a switch that no record holds."""
        self.change(switch, partial=True)
        self.report.add("left out", about, f"{text}; what depends on it stays unproven")

    def patch(self, device: Device) -> None:
        """The pairs within one device are cables."""
        for one, two in device.patched():
            a, b = (make_id(f"{device.name}/{end.name}") for end in (one, two))
            if a in self.by_id and b in self.by_id:
                self.put(Cable(id=make_id(f"cable:{a}--{b}"), a=a, b=b))
                self.report.add(
                    "read",
                    a,
                    f"a pair that joins {one.master or one.name} and {two.master or two.name}: read as a cable",
                )

    def of(self, cls: type[Any]) -> list[Any]:
        return [record for record in self.by_id.values() if isinstance(record, cls)]

    def plan(self) -> Plan:
        records: dict[str, dict[str, Record]] = {}
        for record in self.by_id.values():
            records.setdefault(record.kind, {})[record.id] = record
        return Plan(self.name, records)

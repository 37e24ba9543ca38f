"""Rules to start with: what usually has to hold between the roles that a plan has."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

from aptwire.plan.kinds import HostPort, Rule, Segment
from aptwire.plan.plan import Plan
from aptwire.plan.sentences import quoted

HOSTS = ("management", "migration", "storage", "backup")
"""Roles of what hosts do for themselves."""
MOST = 8


def starting_rules(plan: Plan) -> list[str]:
    """Sentences for the roles of a plan, those that it has already left out: guests stay away from what hosts do for themselves, and from each other's
    roles on layer 2; storage shares no NIC with guests."""
    known = {rule.text for rule in plan.all(Rule)}
    return [text for text in _sentences(plan) if text not in known][:MOST]


def _sentences(plan: Plan) -> Iterator[str]:
    roles = {segment.role for segment in plan.all(Segment)} - {""}
    roles |= {service for port in plan.all(HostPort) for service in port.services}
    own = [role for role in HOSTS if role in roles]
    guests = sorted(role for role in roles - set(HOSTS) if any(_used(plan, role)))
    for role in own:
        for other in guests:
            yield f"keep role {quoted(role)} apart from role {quoted(other)}"
    for one, other in combinations(guests, 2):
        yield f"keep role {quoted(one)} apart from role {quoted(other)} on layer 2 even if hostile"
    if "storage" in roles:
        yield from (f"role storage and role {quoted(other)} share no NIC" for other in guests)


def _used(plan: Plan, role: str) -> Iterator[bool]:
    """Whether guests belong on segments of a role."""
    for segment in plan.where("segment", "role", role):
        yield bool(plan.where("adapter", "belongs", segment.id) or plan.where("guest_tag", "belongs", segment.id))

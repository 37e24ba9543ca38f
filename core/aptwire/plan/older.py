"""What plan files and kept edits of before say, as it is said now.

Two roles or segments that share nothing on a host were a record kind of their own, `separation` (a, b, and up to what they share nothing); now
a rule says it.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from aptwire.plan.kinds import Rule
from aptwire.plan.plan import PlanError, Problem
from aptwire.plan.sentences import RuleError, Share, quoted, read

SEPARATION = "separation"
_FIELDS = ("a", "b", "share")
_THINGS = {"vid": "VID", "switch": "virtual switch", "uplink": "uplink", "nic": "NIC"}
"""Up to what two shared nothing: that, and what stands before it."""


def records_said_now(records: Any) -> Any:
    """The records of a plan file; whatever isn't as it was is left for the reader to refuse."""
    if not isinstance(records, dict) or not isinstance(records.get(SEPARATION), list):
        return records
    kept = {kind: items for kind, items in records.items() if kind != SEPARATION}
    rules = [item for separation in records[SEPARATION] if (item := _as_rule(separation)) is not None]
    if len(rules) < len(records[SEPARATION]):
        return records
    return {**kept, Rule.kind: [*kept.get(Rule.kind, []), *rules]}


def operation_said_now(item: Mapping[str, Any]) -> Mapping[str, Any]:
    """An operation of an edit; a patch still has its fields, which `changes_said_now` turns into words once the record is known."""
    if item.get("kind") != SEPARATION:
        return item
    if item.get("op") != "put":
        return {**item, "kind": Rule.kind}
    made = _as_rule(item.get("record"))
    return {**item, "kind": Rule.kind, "record": made} if made is not None else item


def changes_said_now(rule: Rule, changes: Mapping[str, Any]) -> Mapping[str, Any]:
    """The fields that a patch of a separation sets, as those of the rule that it became; PlanError where that rule says something else by now."""
    if not any(name in changes for name in _FIELDS):
        return changes
    try:
        sentence = read(rule.text)
    except RuleError:
        sentence = None
    if not isinstance(sentence, Share) or len(sentence.a) != 2:
        raise PlanError([Problem("says something else by now", kind=Rule.kind, id=rule.id, field="text")])
    known = {"a": sentence.a[0].name, "b": sentence.a[1].name, "share": sentence.things[-1]}
    said = {**known, **{name: changes[name] for name in _FIELDS if name in changes}}
    rest = {name: value for name, value in changes.items() if name not in _FIELDS}
    return {**rest, "text": _sentence(said["a"], said["b"], said["share"])}


def _as_rule(item: Any) -> dict[str, Any] | None:
    """A separation as a rule; None where it isn't one."""
    if not isinstance(item, dict) or not all(isinstance(item.get(name), str) for name in ("a", "b")):
        return None
    if item.get("share", "uplink") not in _THINGS:
        return None
    rest = {name: value for name, value in item.items() if name not in _FIELDS}
    return {**rest, "text": _sentence(item["a"], item["b"], item.get("share", "uplink"))}


def _sentence(a: str, b: str, share: str) -> str:
    listed = list(_THINGS.values())[: list(_THINGS).index(share) + 1]
    things = " or ".join([", ".join(listed[:-1]), listed[-1]] if len(listed) > 1 else listed)
    return f"{quoted(a)} and {quoted(b)} share no {things}"

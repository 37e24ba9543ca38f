"""A plan: one fleet's intent and wiring as small typed records, and the edits that change it."""

from aptwire.plan.edits import Edit, apply_edit, edit_from_json, edit_to_json
from aptwire.plan.kinds import KINDS, Record
from aptwire.plan.plan import Plan, PlanError, Problem

__all__ = [
    "KINDS",
    "Edit",
    "Plan",
    "PlanError",
    "Problem",
    "Record",
    "apply_edit",
    "edit_from_json",
    "edit_to_json",
]

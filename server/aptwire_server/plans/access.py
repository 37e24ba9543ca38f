"""Who may see a plan: the one place where a request finds it."""

from __future__ import annotations

import uuid

from rest_framework.exceptions import NotFound
from rest_framework.request import Request

from aptwire_server.plans.models import PlanRow


def plan_for(request: Request, plan_id: uuid.UUID, binned: bool = False) -> PlanRow:
    """The row of a plan, or (`binned`) of one that waits in the bin; NotFound says why there is none."""
    row = PlanRow.objects.select_related("changed_by", "binned_by").filter(pk=plan_id).first()
    if row is None:
        raise NotFound("There is no such plan.")
    if binned and row.binned is None:
        raise NotFound("This plan isn’t in the bin.")
    if not binned and row.binned is not None:
        who = row.binned_by.get_username() if row.binned_by else "Somebody"
        raise NotFound(f"{who} put this plan into the bin. It can be taken out again under Plans.")
    return row

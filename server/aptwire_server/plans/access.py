"""Who may see a plan: the one place where a request finds it."""

from __future__ import annotations

import uuid

from rest_framework.exceptions import NotFound
from rest_framework.request import Request

from aptwire_server.plans.models import PlanRow


def plan_for(request: Request, plan_id: uuid.UUID, binned: bool = False) -> PlanRow:
    """As `plan_of`, for who asks."""
    return plan_of(plan_id, request.user.pk, binned)


def plan_of(plan_id: uuid.UUID, person: int, binned: bool = False) -> PlanRow:
    """The row of a plan that somebody may see, or (`binned`) of one that waits in the bin; NotFound says why there is none."""
    # Nearly every request comes by here, and hardly any needs the people of a plan: who does asks for them.
    row = PlanRow.objects.filter(pk=plan_id).first()
    if row is None or (row.private and row.author_id != person):
        raise NotFound("There is no such plan.")
    if binned and row.binned is None:
        raise NotFound("This plan isn’t in the bin.")
    for one in () if binned else filter(None, (row, row.of)):
        if one.binned is not None:
            who = one.binned_by.get_username() if one.binned_by else "Somebody"
            what = "draft" if one.of_id else "plan"
            raise NotFound(f"{who} put this {what} into the bin. It can be taken out again under Plans.")
    return row

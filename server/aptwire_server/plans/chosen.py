"""The columns of a table that somebody chose to see: the same on every machine at which they log in."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from aptwire_server.plans.gate import bad, body_of
from aptwire_server.plans.listing import REFUSED
from aptwire_server.plans.models import ChosenColumns
from aptwire_server.plans.schemas import body, many, ref

TABLES = ("landing",)
MOST_COLUMNS = 40
LONGEST = 30


class ChosenView(APIView):
    """One table's columns."""

    @extend_schema(responses={200: ref("Columns"), **REFUSED}, operation_id="chosen_columns")
    def get(self, request: Request, of: str) -> Response:
        """What somebody chose, null as long as they chose nothing."""
        _known(of)
        found = ChosenColumns.objects.filter(user=request.user, of=of).first()
        return Response({"columns": found.columns if found is not None else None})

    @extend_schema(
        request=body(columns=many({"type": "string", "maxLength": LONGEST})),
        responses={200: ref("Columns"), **REFUSED},
        operation_id="choose_columns",
    )
    def put(self, request: Request, of: str) -> Response:
        """Choose them, by their names."""
        _known(of)
        columns = body_of(request, columns=list)["columns"]
        fit = all(isinstance(name, str) and 0 < len(name) <= LONGEST for name in columns)
        if not fit or len(columns) > MOST_COLUMNS or len(set(columns)) < len(columns):
            raise bad(f"at most {MOST_COLUMNS} different names of at most {LONGEST} letters are needed", "columns")
        ChosenColumns.objects.update_or_create(user=request.user, of=of, defaults={"columns": columns})
        return Response({"columns": columns})


def _known(of: str) -> None:
    if of not in TABLES:
        raise bad(f"no columns are chosen of “{of[:40]}”; of {', '.join(TABLES)} they are", "of")


chosen = ChosenView.as_view()

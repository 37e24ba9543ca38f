"""What comes in: every text of a request passes here before anything else sees it.

JSON and form fields become values of which none holds a NUL or half a surrogate pair, none is nested without end; what can't be used is
told by field and place, as any other mistake.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from aptwire.plan.file import read_json
from aptwire.plan.plan import PlanError, Problem
from aptwire.plan.texts import refuse_unfit, unfit
from django.http import QueryDict
from rest_framework.negotiation import BaseContentNegotiation
from rest_framework.parsers import BaseParser, DataAndFiles, MultiPartParser
from rest_framework.request import Request

PLACE = "the request"


class Json(BaseParser):
    """A JSON body."""

    media_type = "application/json"

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> Any:
        """The value; PlanError names the place of what can't be read."""
        value = read_json(stream.read(), PLACE)
        refuse_unfit(value, PLACE)
        return value


class Form(MultiPartParser):
    """A form with files."""

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> DataAndFiles:
        """The fields and files; PlanError names the field whose text can't be used."""
        made = super().parse(stream, media_type, parser_context)
        fields = [(name, value) for name, values in made.data.lists() for value in values]
        names = [(name, file.name or "") for name, files in made.files.lists() for file in files]
        for name, value in [*fields, *names]:
            if why := unfit(name) or unfit(value):
                raise PlanError([Problem(f"holds {why}", field=name, place=PLACE)])
        return made


class OnlyJson(BaseContentNegotiation):
    """Answers are JSON whatever a program says that it likes."""

    def select_parser(self, request: Request, parsers: Any) -> Any:
        """The parser for the content type of the request."""
        return next((p for p in parsers if _same(p.media_type, request.content_type)), None)

    def select_renderer(self, request: Request, renderers: Any, format_suffix: str | None = None) -> Any:
        """The first renderer."""
        return renderers[0], renderers[0].media_type


def _same(media_type: str, content_type: str | None) -> bool:
    return (content_type or "").split(";")[0].strip().lower() == media_type


def bad(message: str, field: str = "") -> PlanError:
    """What is wrong with a field of a request."""
    return PlanError([Problem(message, field=field)])


def body_of(request: Request, **fields: type | tuple[type, ...]) -> dict[str, Any]:
    """The JSON object of a request with these fields; PlanError names the one that is missing, of another type or unknown."""
    if not isinstance(request.data, dict):
        raise bad("an object is needed")
    return fields_of(request.data, fields)


def fields_of(data: dict[str, Any], fields: Mapping[str, type | tuple[type, ...]], within: str = "") -> dict[str, Any]:
    """An object with these fields and no others, each of its type; `within` is the path that leads to it."""
    for name, kind in fields.items():
        value = data.get(name)
        if not isinstance(value, kind) or (isinstance(value, bool) and kind is int):
            raise bad("is missing or of the wrong type", f"{within}{name}")
    for name in data:
        if name not in fields:
            raise bad(f"there is no field “{str(name)[:60]}” here", f"{within}{str(name)[:60]}")
    return dict(data)


def asked(request: Request, name: str, default: str = "") -> str:
    """A text of the query; PlanError where it is none."""
    text = str(request.query_params.get(name, default))
    if why := unfit(text):
        raise bad(f"holds {why}", name)
    return text


def number_asked(request: Request, name: str) -> int:
    """A whole number of the query, 0 unless said."""
    text = asked(request, name, "0")
    if not (text.isascii() and text.isdigit()) or len(text) > 9:
        raise bad("a whole number of up to nine digits is needed", name)
    return int(text)


def text_of(request: Request, name: str) -> str:
    """The text of a form's field, empty where there is none."""
    return next(iter(texts_of(request, name)), "")


def base_and_take(request: Request) -> tuple[int, bool]:
    """Of a form that may be taken: the revision that it was made from, and whether it is to be."""
    base, take = text_of(request, "base"), text_of(request, "take")
    if not (base.isascii() and base.isdigit() and len(base) < 10):
        raise bad("a revision is needed", "base")
    if take not in ("yes", "no"):
        raise bad("yes or no is needed", "take")
    return int(base), take == "yes"


def texts_of(request: Request, name: str) -> list[str]:
    """The values of a form's field; PlanError where one of them is a file, and where no form came."""
    if not isinstance(request.data, QueryDict):
        raise bad("a form is needed")
    found = request.data.getlist(name)
    if not all(isinstance(value, str) for value in found):
        raise bad("a text is needed, not a file", name)
    return list(found)

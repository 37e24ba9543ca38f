"""What goes out: answers as JSON, written natively."""

from __future__ import annotations

from typing import Any

import orjson
from rest_framework.renderers import BaseRenderer
from rest_framework.utils.encoders import JSONEncoder

_REST = JSONEncoder()


class Json(BaseRenderer):
    """A JSON body in UTF-8."""

    media_type = "application/json"
    format = "json"
    charset = None

    def render(self, data: Any, accepted_media_type: str | None = None, renderer_context: Any = None) -> bytes:
        """The body, empty where there is nothing to say."""
        return b"" if data is None else orjson.dumps(data, default=_REST.default, option=orjson.OPT_NON_STR_KEYS)

"""What every answer tells the browser about itself: what it may load and run, and how long it may keep it."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponseBase

# The component library writes its styles into the page as it goes; scripts come from our own files alone.
POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self' 'unsafe-inline'",
        "img-src 'self' data: blob:",
        "font-src 'self'",
        "connect-src 'self'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
FEATURES = "camera=(), microphone=(), geolocation=(), payment=(), usb=()"


def headers(get_response: Callable[[HttpRequest], HttpResponseBase]) -> Callable[[HttpRequest], HttpResponseBase]:
    """A middleware."""

    def middleware(request: HttpRequest) -> HttpResponseBase:
        response = get_response(request)
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("Permissions-Policy", FEATURES)
        if request.path.startswith("/api/"):
            response.headers["Cache-Control"] = "no-store"
        return response

    return middleware


def is_hashed(path: str, url: str) -> bool:
    """Whether a file's name changes with its content, so that it may be kept for good."""
    return url.startswith("/assets/")

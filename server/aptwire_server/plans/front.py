"""The front end's page, for every address that isn't the API's: the application reads the address itself."""

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.views.decorators.cache import never_cache
from django.views.decorators.csrf import ensure_csrf_cookie


@never_cache
@ensure_csrf_cookie
def front(request: HttpRequest) -> HttpResponse:
    """The page, or a plain sentence where the front end wasn't built."""
    page = settings.WEB / "index.html"
    if not page.is_file():
        return HttpResponse(
            "The front end isn't built yet; ./run demo builds it.", status=503, content_type="text/plain"
        )
    return HttpResponse(page.read_bytes(), content_type="text/html; charset=utf-8")

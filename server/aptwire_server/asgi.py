"""The ASGI application: Django behind the limits of what is read."""

import os

from django.core.asgi import get_asgi_application

from aptwire_server.limits import limited

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "aptwire_server.settings")
django = get_asgi_application()


def _known(session: str) -> bool:
    from aptwire_server.plans.sessions import owner

    return owner(session) is not None


application = limited(django, _known)

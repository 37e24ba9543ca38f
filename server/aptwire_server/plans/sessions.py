"""Login, and the one address that tells whether the server is well."""

from __future__ import annotations

from django.contrib.auth import authenticate, login, logout
from django.db import connection
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect, ensure_csrf_cookie
from drf_spectacular.utils import extend_schema
from rest_framework.decorators import api_view, permission_classes
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from aptwire_server.plans import schemas
from aptwire_server.plans.commits import log_out
from aptwire_server.plans.gate import body_of
from aptwire_server.plans.throttle import guess


@extend_schema(responses={200: schemas.obj(status=schemas.TEXT)}, operation_id="health")
@api_view(["GET"])
@permission_classes([AllowAny])
def health(request: Request) -> Response:
    """Whether the server and its database answer."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    return Response({"status": "ok"})


@method_decorator([ensure_csrf_cookie, csrf_protect], name="dispatch")
class SessionView(APIView):
    """Who is logged in."""

    permission_classes = (AllowAny,)

    @extend_schema(responses={200: schemas.ref("Session")}, operation_id="session")
    def get(self, request: Request) -> Response:
        """The user's name, null before login; sets the CSRF cookie."""
        return Response({"user": request.user.get_username() or None})

    @extend_schema(
        request=schemas.body(username=schemas.TEXT, password=schemas.TEXT),
        responses={200: schemas.ref("Session"), 400: schemas.ref("Refusal")},
        operation_id="login",
    )
    def post(self, request: Request) -> Response:
        """Log in."""
        asked = body_of(request, username=str, password=str)
        tried = guess(request._request, asked["username"])
        user = authenticate(request, username=asked["username"], password=asked["password"])
        if user is None:
            return Response({"detail": "No user has this name and password."}, status=400)
        tried.delete()
        login(request._request, user)
        return Response({"user": user.get_username()})

    @extend_schema(responses={200: schemas.ref("Session")}, operation_id="logout")
    def delete(self, request: Request) -> Response:
        """Log out."""
        log_out(request._request.session.session_key)
        logout(request._request)
        return Response({"user": None})


session = SessionView.as_view()

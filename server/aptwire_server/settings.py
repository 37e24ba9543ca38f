"""Django settings; what differs from machine to machine comes in by environment variables."""

import ipaddress
import os
import warnings
from pathlib import Path

from aptwire_server.headers import is_hashed

ROOT = Path(__file__).resolve().parent.parent.parent
WEB = ROOT / "web" / "dist"

SECRET_KEY = os.environ["APTWIRE_SECRET"]
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *os.environ.get("APTWIRE_HOSTS", "").split()]

# The proxies (addresses or networks) whose X-Forwarded-For is believed; nobody's unless they are named.
PROXIES = [ipaddress.ip_network(word) for word in os.environ.get("APTWIRE_PROXIES", "").split()]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.postgres",
    "rest_framework",
    "drf_spectacular",
    "procrastinate.contrib.django",
    "aptwire_server.plans",
]
MIDDLEWARE = [
    "aptwire_server.headers.headers",
    "django.middleware.security.SecurityMiddleware",
    "django.middleware.gzip.GZipMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
ROOT_URLCONF = "aptwire_server.urls"
ASGI_APPLICATION = "aptwire_server.asgi.application"

# Who finds no connection waits no longer than these seconds, and a pool that lost its database asks for it every second.
POOL = {"min_size": 1, "max_size": 16, "timeout": 2, "reconnect_timeout": 1}
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": os.environ.get("APTWIRE_DB_HOST", "127.0.0.1"),
        "PORT": os.environ.get("APTWIRE_DB_PORT", "5432"),
        "NAME": os.environ.get("APTWIRE_DB_NAME", "aptwire"),
        "USER": os.environ.get("APTWIRE_DB_USER", "aptwire"),
        "PASSWORD": os.environ.get("APTWIRE_DB_PASSWORD", ""),
        "CONN_HEALTH_CHECKS": True,
        # A worker's queue keeps a pool of its own.
        "OPTIONS": {} if "APTWIRE_WORKER" in os.environ else {"pool": POOL},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]

USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en"
USE_I18N = False

STATIC_URL = "static/"
WHITENOISE_ROOT = WEB if WEB.is_dir() else None
WHITENOISE_INDEX_FILE = False
WHITENOISE_IMMUTABLE_FILE_TEST = is_hashed

SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
X_FRAME_OPTIONS = "DENY"
CSRF_FAILURE_VIEW = "aptwire_server.plans.errors.forged"
# Cookies go over TLS alone where a proxy ends it, which then says so.
if "APTWIRE_TLS" in os.environ:
    SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = True
    SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
# What is read of a body is limited by address before Django sees it (limits.py).
DATA_UPLOAD_MAX_MEMORY_SIZE = None
DATA_UPLOAD_MAX_NUMBER_FILES = 50_000
DATA_UPLOAD_MAX_NUMBER_FIELDS = 60_000

# The addresses of other systems from which topologies may be fetched, by scheme, name and port; none unless said.
SOURCES = tuple(filter(None, (one.strip() for one in os.environ.get("APTWIRE_SOURCES", "").split(","))))

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": ["rest_framework.authentication.SessionAuthentication"],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    "DEFAULT_RENDERER_CLASSES": ["aptwire_server.plans.rendering.Json"],
    "DEFAULT_PARSER_CLASSES": ["aptwire_server.plans.gate.Json"],
    "DEFAULT_CONTENT_NEGOTIATION_CLASS": "aptwire_server.plans.gate.OnlyJson",
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "aptwire_server.plans.errors.answer",
    "UNAUTHENTICATED_USER": "django.contrib.auth.models.AnonymousUser",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Apt Wire",
    "DESCRIPTION": "Plans of host networking, their edits, verdicts, findings, proofs and mends.",
    "VERSION": "0.1.0",
    "SERVE_INCLUDE_SCHEMA": False,
    "SERVE_PERMISSIONS": ["rest_framework.permissions.IsAuthenticated"],
    "OAS_VERSION": "3.1.0",
    "SCHEMA_PATH_PREFIX": "/api",
    "PATH_CONVERTER_OVERRIDES": {"number": {"type": "integer", "minimum": 0, "maximum": 999_999_999}},
    "POSTPROCESSING_HOOKS": ["aptwire_server.plans.schemas.add_components"],
}

# WhiteNoise hands out files in pieces, synchronously; they are small and Django reads them whole.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": os.environ.get("APTWIRE_LOG", "WARNING")},
    # A refused request is an answer, not an event of the server.
    # Of a database that is away, who asks it is told, and whoever watches the parts.
    "loggers": {"django.request": {"level": "ERROR"}, "psycopg.pool": {"level": "ERROR"}},
}

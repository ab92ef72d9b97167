"""Settings of the Routrel server.

What differs between machines comes from the environment, and what is needed has no default: ROUTREL_DATABASE is
the JSON file that describes the PostgreSQL server (host, port, name, user, password, sslmode), ROUTREL_SECRET the
signing key; the start command sets both for the project's own cluster. ROUTREL_LOG=json logs for machines. Behind a
proxy: ROUTREL_HOSTS and ROUTREL_ORIGINS (comma-separated names, and origins with https://), ROUTREL_PROXIES
(how many proxies add to X-Forwarded-For; 0 believes none), ROUTREL_TLS=1 where people come by TLS, and
ROUTREL_PROXY_HEADER (the header by which the proxy says so, like X-Forwarded-Proto). ROUTREL_COLLECT is a worker's
folder of inventories. docs/running.md.
"""

import json
import os
from pathlib import Path
from typing import Any

from django.core.exceptions import ImproperlyConfigured

ROOT = Path(__file__).resolve().parent.parent.parent


WEB_PROCESSES = max(1, int(os.environ.get("ROUTREL_WEB_PROCESSES", "1")))
"""How many web processes there are: what all may take together is shared out between them."""

MOST_CONNECTIONS = 48
"""To the database, of all web processes."""


def _connections() -> dict[str, Any]:
    """A pool under the application server, whose threads come and go; else one connection per thread."""
    if os.environ.get("ROUTREL_SERVING") != "1":
        return {"CONN_MAX_AGE": 60}
    pool = {"min_size": 2, "max_size": max(6, MOST_CONNECTIONS // WEB_PROCESSES), "timeout": 5}
    return {"CONN_MAX_AGE": 0, "OPTIONS": {"pool": pool, "connect_timeout": 3}}


def _listed(name: str) -> list[str]:
    return [one.strip() for one in os.environ.get(name, "").split(",") if one.strip()]


def _database() -> dict[str, Any]:
    described = os.environ.get("ROUTREL_DATABASE", "")
    about = json.loads(Path(described).read_text()) if described else {}
    connections = _connections()
    if "sslmode" in about:
        connections.setdefault("OPTIONS", {})["sslmode"] = about["sslmode"]
    return {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": about.get("name", "routrel"),
        "USER": about.get("user", "routrel"),
        "PASSWORD": about.get("password", ""),
        "HOST": about.get("host", "127.0.0.1"),
        "PORT": about.get("port", 5432),
        "CONN_HEALTH_CHECKS": True,
        **connections,
    }


SECRET_KEY = os.environ.get("ROUTREL_SECRET", "")
if not SECRET_KEY:
    raise ImproperlyConfigured("ROUTREL_SECRET is not set: a long random text of this installation's own")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *_listed("ROUTREL_HOSTS")]
DATABASES = {"default": _database()}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "rest_framework",
    "drf_spectacular",
    "procrastinate.contrib.django",
    "accounts",
    "networks",
    "asked",
    "trials",
    "questions",
    "jobs",
    "uploading",
    "collecting",
    "history",
]
MIDDLEWARE = [
    "site_settings.headers.ContentSecurityPolicy",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
ROOT_URLCONF = "site_settings.urls"
ASGI_APPLICATION = "site_settings.asgi.application"
TEMPLATES: list[dict[str, object]] = []

AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
]
BEHIND_TLS = os.environ.get("ROUTREL_TLS") == "1"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = BEHIND_TLS
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if BEHIND_TLS else 0
CSRF_TRUSTED_ORIGINS = _listed("ROUTREL_ORIGINS")
if _proxy_header := os.environ.get("ROUTREL_PROXY_HEADER", ""):
    SECURE_PROXY_SSL_HEADER = (f"HTTP_{_proxy_header.upper().replace('-', '_')}", "https")
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
X_FRAME_OPTIONS = "DENY"

WEB_BUILD = ROOT / "web" / "dist"
STATIC_URL = "/static/"
STATICFILES_DIRS = [WEB_BUILD] if WEB_BUILD.is_dir() else []
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False

USE_TZ = True
TIME_ZONE = "UTC"

# A request's body is bounded by the upload's own limit (networks.uploads), checked before parsing.
DATA_UPLOAD_MAX_MEMORY_SIZE = 48 * 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 48 * 1024 * 1024

CACHES = {
    # Sign-ins are counted in it: for all web processes together.
    "default": {"BACKEND": "django.core.cache.backends.db.DatabaseCache", "LOCATION": "counted_for_a_while"}
}

WORK_POOL = os.environ.get("ROUTREL_POOL", "")
"""The socket of the process that has the work processes of all web processes; empty where each has its own."""

COLLECT = os.environ.get("ROUTREL_COLLECT", "")
"""A folder of this machine with inventories whose devices its workers ask (docs/collecting.md)."""

QUOTA = {"revisions": int(os.environ.get("ROUTREL_QUOTA_REVISIONS", "2000")), "bytes": 2 * 1024**3}
"""What one user may store."""

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "accounts.tokens.TokenAuthentication",
        "rest_framework.authentication.SessionAuthentication",
    ],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "DEFAULT_PAGINATION_CLASS": "rest_framework.pagination.PageNumberPagination",
    "PAGE_SIZE": 100,
    "DEFAULT_THROTTLE_RATES": {"sign-in by address": "20/min", "sign-in by name": "10/min"},
    "NUM_PROXIES": int(os.environ.get("ROUTREL_PROXIES", "0")),
    "EXCEPTION_HANDLER": "site_settings.errors.handle",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Routrel",
    "DESCRIPTION": "Networks, their revisions, and questions about them.",
    "VERSION": "1",
    "SERVE_INCLUDE_SCHEMA": False,
    "SCHEMA_PATH_PREFIX": "/api/",
    "COMPONENT_SPLIT_REQUEST": True,
    "OAS_VERSION": "3.1.1",
    "PATH_CONVERTER_OVERRIDES": {"revision": {"oneOf": [{"type": "integer"}, {"const": "latest"}]}},
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        "questions.answer_schema.add_components",
        "site_settings.problems.add_problems",
    ],
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"json": {"()": "site_settings.logs.JsonFormatter"}},
    "handlers": {
        "console": {
            "class": "logging.StreamHandler",
            **({"formatter": "json"} if os.environ.get("ROUTREL_LOG") == "json" else {}),
        }
    },
    "loggers": {
        "routrel": {"handlers": ["console"], "level": "WARNING", "propagate": False},
        # Each failure has its one line from us.
        "django.request": {"handlers": ["console"], "level": "CRITICAL", "propagate": False},
    },
}

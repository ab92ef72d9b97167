"""Settings of the Routrel server.

What differs between machines comes from the environment, set by the start command: ROUTREL_DATABASE is
the JSON file that describes the project's own PostgreSQL cluster, ROUTREL_SECRET the signing key.
"""

import json
import os
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent.parent


def _database() -> dict[str, Any]:
    described = os.environ.get("ROUTREL_DATABASE", "")
    about = json.loads(Path(described).read_text()) if described else {}
    return {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": "routrel",
        "USER": about.get("user", "routrel"),
        "PASSWORD": about.get("password", ""),
        "HOST": "127.0.0.1",
        "PORT": about.get("port", 5432),
        "CONN_MAX_AGE": 60,
    }


SECRET_KEY = os.environ.get("ROUTREL_SECRET", "only for commands that sign nothing")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *filter(None, os.environ.get("ROUTREL_HOSTS", "").split(","))]
DATABASES = {"default": _database()}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "rest_framework",
    "rest_framework.authtoken",
    "drf_spectacular",
    "accounts",
    "networks",
    "questions",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "site_settings.headers.ContentSecurityPolicy",
]
ROOT_URLCONF = "site_settings.urls"
WSGI_APPLICATION = "site_settings.wsgi.application"
TEMPLATES: list[dict[str, object]] = []

AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
]
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

WORK_LIMITS: dict[str, Any] = {
    "processes": int(os.environ.get("ROUTREL_WORK_PROCESSES", "3")),
    "bytes_each": int(float(os.environ.get("ROUTREL_WORK_GIB", "3")) * 1024**3),
}

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "rest_framework.authentication.TokenAuthentication",
        "rest_framework.authentication.SessionAuthentication",
    ],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "DEFAULT_PAGINATION_CLASS": "rest_framework.pagination.PageNumberPagination",
    "PAGE_SIZE": 100,
    "DEFAULT_THROTTLE_RATES": {"sign-in": "20/min"},
    "EXCEPTION_HANDLER": "site_settings.errors.handle",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Routrel",
    "DESCRIPTION": "Networks, their revisions, and questions about them.",
    "VERSION": "1",
    "SERVE_INCLUDE_SCHEMA": False,
    "SCHEMA_PATH_PREFIX": "/api/",
    "COMPONENT_SPLIT_REQUEST": True,
    "ENUM_NAME_OVERRIDES": {"VerdictEnum": "questions.serializers.VERDICTS"},
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "loggers": {"django.request": {"handlers": ["console"], "level": "ERROR", "propagate": False}},
}

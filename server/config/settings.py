"""Django settings. Everything that differs between machines comes from the environment, with working defaults."""

from __future__ import annotations

import os
from pathlib import Path
from urllib.parse import unquote, urlsplit

from bitecore.limits import Limits

ROOT = Path(__file__).resolve().parent.parent.parent
STATE = Path(os.environ.get("BENCH_STATE", ROOT / ".state"))
SECRET_KEY = os.environ.get("BENCH_SECRET", "only-for-checks-and-tests")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *filter(None, os.environ.get("BENCH_HOSTS", "").split(","))]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "procrastinate.contrib.django",
    "accounts",
    "house",
    "cases",
    "runs",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "config.errors.AccidentMiddleware",
]
ROOT_URLCONF = "config.urls"
ASGI_APPLICATION = "config.asgi.application"
TEMPLATES: list = []


def _database(url: str) -> dict:
    part = urlsplit(url)
    return {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": unquote(part.path.lstrip("/")) or "bench",
        "USER": unquote(part.username or ""),
        "PASSWORD": unquote(part.password or ""),
        "HOST": part.hostname or "127.0.0.1",
        "PORT": part.port or 5432,
        "CONN_MAX_AGE": 0,
        "OPTIONS": {"pool": {"min_size": 1, "max_size": 12, "timeout": 10}},
        "TEST": {"NAME": "bench_test"},
    }


DATABASES = {"default": _database(os.environ.get("DATABASE_URL", "postgresql://bench@127.0.0.1:54329/bench"))}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
AUTH_PASSWORD_VALIDATORS = [{"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"}]
USE_TZ = True
TIME_ZONE = "UTC"

# Blobs go through Django's storage interface; another backend can take them elsewhere.
BLOB_ROOT = STATE / "blobs"
VIEW_ROOT = STATE / "views"
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage", "OPTIONS": {"location": str(BLOB_ROOT)}},
    "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
}
DATA_UPLOAD_MAX_MEMORY_SIZE = None
FILE_UPLOAD_MAX_MEMORY_SIZE = 1 << 20

WEB_DIST = ROOT / "web" / "dist"
WHITENOISE_ROOT = WEB_DIST if WEB_DIST.exists() else None
STATIC_URL = "/static/"
WHITENOISE_INDEX_FILE = False
WHITENOISE_MAX_AGE = 60

SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 14 * 24 * 3600
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
X_FRAME_OPTIONS = "DENY"

# Limits of what is accepted; said in the sentence that refuses.
_LIMITS = Limits.of(os.environ)
BENCH_TRIANGLES = _LIMITS.triangles
BENCH_DROP_BYTES = _LIMITS.drop_bytes

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"plain": {"format": "%(asctime)s %(levelname)s %(name)s: %(message)s"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "plain"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    # What is refused is said to the person; only what breaks is logged.
    "loggers": {"bench": {"level": "INFO"}, "django.request": {"level": "ERROR"}, "django.security.csrf": {"level": "ERROR"}},
}

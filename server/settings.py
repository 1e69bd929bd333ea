"""Django settings. What a user may set comes from the environment; all else is fixed. Nothing is written here."""

import secrets
from pathlib import Path

from . import environment

ROOT = Path(__file__).resolve().parent.parent
DATA_DIR = environment.data_folder()
PORT = int(environment.port())
LIBRARY_ROOTS = environment.library_roots()
"""Folders below which game folders may be chosen; nothing else is read."""
CACHE_BYTES = 4 << 30
"""Most bytes of unpacked entries that are kept on disk."""
UPLOAD_BYTES = 4 << 30
PLAYERS = {"standin": ("ferry.ini", "[ferry]")}
"""Programs that can play a game in a trial run, each with the file, and its first line, by which its game is known."""
SECRET_KEY = secrets.token_urlsafe(48)
"""Nothing is signed that outlives a process."""
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"]
INSTALLED_APPS = [
    "server.jobs",
    "server.games",
    "server.shelf",
    "server.mods",
    "server.layouts",
    "server.bench",
    # Without tables of their own:
    "server.surveys",
    "server.keys",
    "server.changes",
    "server.takeout",
    "server.install",
    "server.home",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "server.web.HostCheck",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.common.CommonMiddleware",
    "server.web.StrictCsrf",
]
ROOT_URLCONF = "server.urls"
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA_DIR / "zubret.sqlite3",
        # Kept by each of the server's threads: opening it anew takes longer than most answers.
        "CONN_MAX_AGE": None,
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA foreign_keys=ON",
        },
        # Tests use a file too: the worker and the server are processes of their own.
        "TEST": {"NAME": DATA_DIR / "test.sqlite3"},
    }
}
JOBS_AT_ONCE = environment.jobs_at_once()
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en"
USE_I18N = False
APPEND_SLASH = False
CSRF_COOKIE_SAMESITE = "Strict"
DATA_UPLOAD_MAX_MEMORY_SIZE = 64 << 20
FILE_UPLOAD_TEMP_DIR = DATA_DIR / "tmp"
SILENCED_SYSTEM_CHECKS = ["files.E001"]  # each process makes that folder when it begins
SECURE_CONTENT_TYPE_NOSNIFF = True

CONTENT_POLICY = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; media-src 'self' blob:; frame-ancestors 'none'"
# The built front end: hashed names under /assets/, kept by browsers for ever.
STATIC_URL = "/static/"
WEB_DIST = environment.web_dist(ROOT / "web" / "dist")
WHITENOISE_ROOT = str(WEB_DIST) if WEB_DIST.is_dir() else None
WHITENOISE_INDEX_FILE = False


def _guarded(headers, path: str, url: str) -> None:
    headers["Content-Security-Policy"] = CONTENT_POLICY


WHITENOISE_ADD_HEADERS_FUNCTION = _guarded
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/assets/.+-[A-Za-z0-9_-]{8,}\.\w+$"

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"short": {"format": "%(asctime)s %(levelname)s %(name)s: %(message)s"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "short"}},
    # Answers that tell a user of a mistake are no news for the log; our own faults are logged by the API.
    "loggers": {"django.request": {"level": "CRITICAL"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}

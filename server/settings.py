"""Django settings. What a user may set comes from ZUBRET_* variables; all else is fixed."""

import os
import secrets
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
DATA_DIR = Path(os.environ.get("ZUBRET_DATA_DIR") or Path.home() / ".zubret" / "run").resolve()
PORT = int(os.environ.get("ZUBRET_PORT", "8377"))
LIBRARY_ROOTS = [
    Path(p).resolve() for p in os.environ.get("ZUBRET_LIBRARY_ROOTS", str(Path.home())).split(os.pathsep) if p
]
"""Folders below which game folders may be chosen; nothing else is read."""
CACHE_BYTES = 4 << 30
"""Most bytes of unpacked entries that are kept on disk."""
UPLOAD_BYTES = 4 << 30

DATA_DIR.mkdir(parents=True, exist_ok=True)


def _secret() -> str:
    """A key of this data folder's own, made at the first start."""
    place = DATA_DIR / "secret.txt"
    if not place.exists():
        fresh = place.with_name(f"secret.{os.getpid()}")
        fresh.touch(mode=0o600)
        fresh.write_text(secrets.token_urlsafe(48), "ascii")
        try:
            os.link(fresh, place)  # the first of several starting processes wins
        except OSError:
            if not place.exists():
                os.replace(fresh, place)
        fresh.unlink(missing_ok=True)
    return place.read_text("ascii")


SECRET_KEY = _secret()
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"]
INSTALLED_APPS = [
    "server.jobs",
    "server.games",
    "server.shelf",
    "server.mods",
    "server.layouts",
    # Without tables of their own:
    "server.surveys",
    "server.keys",
    "server.changes",
    "server.takeout",
    "server.bench",
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
JOBS_AT_ONCE = os.environ.get("ZUBRET_JOBS") == "at once"
"""Jobs are done by the process that starts them, before it goes on: for tests and measurements."""
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en"
USE_I18N = False
APPEND_SLASH = False
CSRF_COOKIE_SAMESITE = "Strict"
DATA_UPLOAD_MAX_MEMORY_SIZE = 64 << 20
FILE_UPLOAD_TEMP_DIR = DATA_DIR / "tmp"
FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)
SECURE_CONTENT_TYPE_NOSNIFF = True

CONTENT_POLICY = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'"
# The built front end: hashed names under /assets/, kept by browsers for ever.
STATIC_URL = "/static/"
WEB_DIST = Path(os.environ.get("ZUBRET_WEB_DIST") or ROOT / "web" / "dist")
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

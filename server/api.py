"""The API: routers of all apps, and errors as problems."""

from __future__ import annotations

from django.db import connection
from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI, Schema
from ninja.errors import HttpError, ValidationError

from zubret_core.base import ZubretError

from .games.api import router as games
from .games.sounds_api import router as sounds
from .games.work_api import router as more
from .jobs.alive import workers_alive
from .jobs.api import router as jobs
from .layouts.api import router as layouts
from .layouts.unknown_api import router as unknown
from .mods.api import router as mods
from .shelf.api import router as shelf
from .shelf.stream_api import router as streams
from .web import problem, problem_of

api = NinjaAPI(title="Zubret", version="1", docs_url=None, urls_namespace="api")
api.add_router("", games, tags=["games"])
api.add_router("", more, tags=["games"])
api.add_router("", sounds, tags=["games"])
api.add_router("", shelf, tags=["shelf"])
api.add_router("", streams, tags=["shelf"])
api.add_router("", mods, tags=["mods"])
api.add_router("", jobs, tags=["jobs"])
api.add_router("", layouts, tags=["layouts"])
api.add_router("", unknown, tags=["layouts"])


class Health(Schema):
    """Whether all parts are up."""

    ok: bool
    workers: dict[str, bool]


@api.get("/health", response={200: Health, 503: Health})
def health(request: HttpRequest):
    """200 once the database answers and all workers have shown a sign of life."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    workers = workers_alive()
    ok = all(workers.values())
    return (200 if ok else 503), {"ok": ok, "workers": workers}


@api.exception_handler(ValidationError)
def on_validation_error(request: HttpRequest, error: ValidationError) -> HttpResponse:
    first = error.errors[0]
    field = ".".join(str(x) for x in first["loc"][1:])
    return problem(422, f"The request can't be understood: {first['msg']}.", field, "Correct this value.")


@api.exception_handler(HttpError)
def on_http_error(request: HttpRequest, error: HttpError) -> HttpResponse:
    return problem(error.status_code, str(error))


@api.exception_handler(ZubretError)
def on_zubret_error(request: HttpRequest, error: ZubretError) -> HttpResponse:
    return problem_of(request, error)


@api.exception_handler(Exception)
def on_any_error(request: HttpRequest, error: Exception) -> HttpResponse:
    return problem_of(request, error)

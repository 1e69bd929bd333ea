"""The API: routers of all apps, and errors as problems."""

from __future__ import annotations

from typing import Any

from django.db import connection
from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI, Schema
from ninja.errors import HttpError, ValidationError
from ninja.openapi.schema import OpenAPISchema

from zubret_core.base import ZubretError

from .bench.api import router as bench
from .bench.sifting_api import router as sifting
from .bench.unknown_api import router as unknown
from .changes.api import router as changes
from .home.api import router as home
from .install.api import router as install
from .jobs.alive import workers_alive
from .jobs.api import router as jobs
from .keys.api import router as keys
from .mods.api import router as mods
from .mods.build_api import router as builds
from .mods.carry_api import router as carry
from .mods.lines_api import router as lines
from .mods.mods_api import router as several
from .mods.packages_api import router as packages
from .mods.ways_api import router as ways
from .shelf.api import router as shelf
from .shelf.entries_api import router as entries
from .shelf.groups_api import router as groups
from .shelf.listening import OPERATION
from .shelf.saying_api import router as sayings
from .shelf.searches_api import router as searches
from .shelf.stream_api import router as streams
from .shelf.titles_api import router as titles
from .surveys.api import router as surveys
from .surveys.names_api import router as names
from .surveys.winning_api import router as winning
from .takeout.api import router as takeout
from .takeout.sounds_api import router as sounds
from .takeout.stream_api import router as one_stream
from .web import problem, problem_of


class Api(NinjaAPI):
    """The API, and the one request beside it that its document tells of, too."""

    def get_openapi_schema(self, **how: Any) -> OpenAPISchema:
        """The OpenAPI document."""
        document = super().get_openapi_schema(**how)
        document["paths"]["/api/audio/{address}/pcm"] = {"get": OPERATION}
        return document


api = Api(title="Zubret", version="1", docs_url=None, urls_namespace="api")
ROUTERS = {
    "games": (home, surveys, names, winning, keys, changes),
    "taking out": (takeout, sounds, one_stream),
    "shelf": (shelf, entries, groups, sayings, titles, searches, streams),
    "mods": (mods, several, carry, packages, ways, builds, lines, install),
    "jobs": (jobs,),
    "layouts": (bench, unknown, sifting),
}
for tag, routers in ROUTERS.items():
    for router in routers:
        api.add_router("", router, tags=[tag])


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
    """A request that does not fit its schema, by its first field."""
    first = error.errors[0]
    field = ".".join(str(x) for x in first["loc"][1:])
    return problem(422, f"The request can't be understood: {first['msg']}.", field, "Correct this value.")


@api.exception_handler(HttpError)
def on_http_error(request: HttpRequest, error: HttpError) -> HttpResponse:
    """An answer that the framework gives."""
    return problem(error.status_code, str(error))


@api.exception_handler(ZubretError)
def on_zubret_error(request: HttpRequest, error: ZubretError) -> HttpResponse:
    """What the core found wrong."""
    return problem_of(request, error)


@api.exception_handler(Exception)
def on_any_error(request: HttpRequest, error: Exception) -> HttpResponse:
    """A fault of ours, or of the system."""
    return problem_of(request, error)

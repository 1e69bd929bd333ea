"""Games in the API."""

from __future__ import annotations

from datetime import datetime

from django.db.models import OuterRef, QuerySet, Subquery
from django.db.models.functions import Coalesce
from django.http import HttpRequest
from ninja import Router, Schema

from ..errors import one
from ..jobs.api import JobOut, ProblemOut
from ..mods.models import Mod
from ..paging import Limit, Offset
from ..tidy import forget
from . import files, services
from .models import Game, Survey
from .route import route_of
from .surveying import start_survey

router = Router()


class Folder(Schema):
    """A folder that can be opened."""

    name: str
    path: str


class Folders(Schema):
    """What is inside a folder; parent is None at the top."""

    path: str
    parent: str | None
    folders: list[Folder]


class GameIn(Schema):
    """A folder to register."""

    folder: str
    name: str = ""


class GameOut(Schema):
    """A registered game; mod_id is its current mod."""

    id: int
    name: str
    folder: str
    build: str
    player: str
    mod_id: int
    surveyed: datetime | None


class Station(Schema):
    """A stop of the route: dot is empty, half or full; text tells the state in words and numbers."""

    key: str
    name: str
    dot: str
    text: str


class FileOut(Schema):
    """A file of the game's folder, an archive inside one (inside), or a folder, with what it is and by which evidence.

    what: archive, sound, locked, unreadable, companion (of belongs_to), list, other or folder, of which size and count are
    the bytes and files below it.
    """

    path: str
    size: int
    what: str
    evidence: str
    inside: bool
    belongs_to: str
    layout: str
    entries: int
    streams: int
    unpacked: int
    count: int
    archive_id: int | None
    error: ProblemOut | None


class FilePage(Schema):
    """Some files of all that match, and how many those are, where that is asked for."""

    total: int | None
    rows: list[FileOut]


class Holder(Schema):
    """A file, or an archive inside one, that holds streams."""

    archive_id: int
    path: str
    streams: int


class HolderPage(Schema):
    """Some holders of all that match."""

    total: int
    rows: list[Holder]


class SurveyOut(Schema):
    """The newest survey's totals; its files are asked for in pages. disk_free: bytes that Zubret can still write."""

    id: int
    label: str
    finished: datetime
    files: int
    bytes: int
    unpacked: int
    archives: int
    locked: int
    nested: int
    holders: int
    entries: int
    streams: int
    seconds: float
    stored: int
    languages: list[str]
    disk_free: int


def _games() -> QuerySet[Game]:
    """Games as the API gives them."""
    surveys = Survey.objects.filter(game=OuterRef("pk"), finished__isnull=False).order_by("-pk")
    mods = Mod.objects.filter(game=OuterRef("pk")).order_by("pk")
    return Game.objects.annotate(
        surveyed=Subquery(surveys.values("finished")[:1]), mod_id=Coalesce(Subquery(mods.values("pk")[:1]), 0)
    )


@router.get("/folders", response=Folders)
def folders(request: HttpRequest, path: str = ""):
    """Browse the allowed roots."""
    return services.folders_in(path)


@router.get("/games", response=list[GameOut])
def list_games(request: HttpRequest):
    """All registered games."""
    return _games().order_by("-id")


@router.post("/games", response=GameOut)
def add_game(request: HttpRequest, data: GameIn):
    """Register a folder and survey it."""
    game = services.register(data.folder, data.name)
    if game.current_survey() is None:
        start_survey(game)
    return one(_games(), game.pk)


@router.delete("/games/{int:game_id}", response={204: None})
def remove_game(request: HttpRequest, game_id: int):
    """Forget a game with its surveys and mods. The game's folder is not touched."""
    forget(one(Game.objects.all(), game_id))
    return 204, None


@router.post("/games/{int:game_id}/survey", response=JobOut)
def survey(request: HttpRequest, game_id: int):
    """Survey the folder again."""
    return start_survey(one(Game.objects.all(), game_id))


@router.get("/games/{int:game_id}/survey", response=SurveyOut | None)
def get_survey(request: HttpRequest, game_id: int):
    """The newest finished survey, or null."""
    return files.survey_out(one(Game.objects.all(), game_id))


@router.get("/games/{int:game_id}/files", response=FilePage)
def list_files(
    request: HttpRequest,
    game_id: int,
    within: str | None = None,
    q: str = "",
    what: str = "",
    sort: str = "",
    offset: Offset = 0,
    limit: Limit = 100,
    totals: bool = True,
):
    """Files of the newest survey: all of them, or what stands in one folder or archive ("" is the game's own folder).

    what: one or several, with commas between. sort: path, size, what, entries, streams or unpacked; "-" in front turns it.
    """
    return files.files_page(one(Game.objects.all(), game_id), within, q, what, sort, offset, limit, totals)


@router.get("/games/{int:game_id}/file", response=FileOut | None)
def get_file(request: HttpRequest, game_id: int, path: str):
    """One file of the newest survey, or null where it has none at this path."""
    return files.file_at(one(Game.objects.all(), game_id), path)


@router.get("/games/{int:game_id}/holders", response=HolderPage)
def list_holders(request: HttpRequest, game_id: int, q: str = "", offset: Offset = 0, limit: Limit = 100):
    """What holds streams, those with the most first."""
    return files.holders(one(Game.objects.all(), game_id), q, offset, limit)


@router.get("/games/{int:game_id}/route", response=list[Station])
def get_route(request: HttpRequest, game_id: int):
    """Where the work stands, station by station."""
    return route_of(one(Game.objects.all(), game_id))

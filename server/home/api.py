"""Games in the API."""

from __future__ import annotations

from datetime import datetime

from django.db.models import OuterRef, QuerySet, Subquery
from django.db.models.functions import Coalesce
from django.http import HttpRequest
from ninja import Router, Schema

from ..errors import one
from ..games.folders import all_allowed, allow, folders_in, forbid
from ..games.models import AllowedFolder, Game, Survey
from ..install import installing
from ..jobs.api import JobOut
from ..mods.models import EntryFile, Mod, Swap
from ..paging import MOST, Limit, Offset
from ..shelf.models import Given
from ..surveys.surveying import start_survey
from .looking import start_demo, start_looking
from .registry import register
from .route import route_of
from .tidy import bring_back, forget, lately_forgotten

router = Router()


class Folder(Schema):
    """A folder that can be opened."""

    name: str
    path: str


class Folders(Schema):
    """Some of what is inside a folder, and of how many; parent is None at the top.

    outside: the folder is there, but Zubret may not read it yet, and nothing of it is told.
    """

    path: str
    parent: str | None
    rows: list[Folder]
    total: int
    outside: bool


class FolderIn(Schema):
    """A folder by its path, in any spelling."""

    path: str


class AllowedOut(Schema):
    """A folder that may be read, with all that is in it. id: None where it is set from outside; games: how many lie in
    it; there: whether it can be looked into now."""

    id: int | None
    path: str
    games: int
    there: bool


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


class Made(Schema):
    """How much the user has made in a game; installed: something of it is in the game's folder."""

    names: int
    marks: int
    notes: int
    swaps: int
    files: int
    keys: int
    installed: bool


class Forgotten(Schema):
    """A game that can be brought back."""

    id: int
    name: str


class BankLines(Schema):
    """How far a bank of spoken lines is: how many it has, and how many have a take that fits."""

    bank: str
    language: str
    lines: int
    fit: int


class Station(Schema):
    """A stop of the route: dot is empty, half or full; text tells the state in words and numbers. lines: of Swap, of each bank of
    spoken lines that has a take."""

    key: str
    name: str
    dot: str
    text: str
    lines: list[BankLines] = []


def _games() -> QuerySet[Game]:
    """Games as the API gives them."""
    surveys = Survey.objects.filter(game=OuterRef("pk"), finished__isnull=False).order_by("-pk")
    mods = Mod.objects.filter(game=OuterRef("pk"), removed=None).order_by("-current", "place", "pk")
    return Game.objects.annotate(
        surveyed=Subquery(surveys.values("finished")[:1]), mod_id=Coalesce(Subquery(mods.values("pk")[:1]), 0)
    )


@router.get("/folders", response=Folders)
def folders(request: HttpRequest, path: str = "", offset: Offset = 0, limit: Limit = MOST):
    """Browse the folders that may be read. A path may be spelt in any way, and may be that of a file in the folder."""
    return folders_in(path, offset, limit)


@router.get("/allowed-folders", response=list[AllowedOut])
def allowed_folders(request: HttpRequest, offset: Offset = 0, limit: Limit = MOST):
    """The folders that may be read."""
    return all_allowed()[offset : offset + limit]


@router.post("/allowed-folders", response=list[AllowedOut])
def allow_folder(request: HttpRequest, data: FolderIn):
    """Let Zubret read a folder, with all that is in it; all that may be read then."""
    allow(data.path)
    return all_allowed()


@router.delete("/allowed-folders/{int:folder_id}", response={204: None})
def forbid_folder(request: HttpRequest, folder_id: int):
    """Let Zubret read a folder no longer. No game may lie in it."""
    forbid(one(AllowedFolder.objects.all(), folder_id))
    return 204, None


@router.post("/likely-games", response=JobOut)
def look_for_games(request: HttpRequest, again: bool = False):
    """Look for folders that look like a game: the job tells them. What was found within the hour is given at once."""
    return start_looking(again)


@router.post("/demo-game", response=JobOut)
def demo_game(request: HttpRequest):
    """Make the demo game, and survey it; the job tells its number."""
    return start_demo()


@router.get("/games", response=list[GameOut])
def list_games(request: HttpRequest, offset: Offset = 0, limit: Limit = MOST):
    """All registered games."""
    return _games().order_by("-id")[offset : offset + limit]


@router.post("/games", response=GameOut)
def add_game(request: HttpRequest, data: GameIn):
    """Register a folder and survey it."""
    game = register(data.folder, data.name)
    if game.current_survey() is None:
        start_survey(game)
    return one(_games(), game.pk)


@router.get("/games/{int:game_id}/made", response=Made)
def what_was_made(request: HttpRequest, game_id: int):
    """What would be lost with a game."""
    game = one(Game.objects.all(), game_id)
    given = Given.objects.filter(game=game)
    return {
        "names": given.exclude(name="").count(),
        "marks": given.filter(marked=True).count(),
        "notes": given.exclude(notes="").count(),
        "swaps": Swap.objects.filter(mod__game=game, chosen=True, removed__isnull=True).count(),
        "files": EntryFile.objects.filter(mod__game=game).count(),
        "keys": game.keys.count(),
        "installed": installing.state_of(game)[0] not in (installing.ORIGINAL, installing.AWAY),
    }


@router.delete("/games/{int:game_id}", response={204: None})
def remove_game(request: HttpRequest, game_id: int, now: bool = False):
    """Forget a game with its surveys and mods. The game's folder is not touched. It can be brought back for a while, unless
    it is to go now."""
    forget(one(Game.objects.all(), game_id), now)
    return 204, None


@router.get("/forgotten-games", response=list[Forgotten])
def forgotten_games(request: HttpRequest, offset: Offset = 0, limit: Limit = MOST):
    """Games that can be brought back, the last one first."""
    return lately_forgotten().order_by("-forgotten")[offset : offset + limit]


@router.post("/forgotten-games/{int:game_id}", response=GameOut)
def bring_game_back(request: HttpRequest, game_id: int):
    """Bring a forgotten game back, with all that was."""
    bring_back(one(lately_forgotten(), game_id))
    return one(_games(), game_id)


@router.get("/games/{int:game_id}/route", response=list[Station])
def get_route(request: HttpRequest, game_id: int):
    """Where the work stands, station by station."""
    return route_of(one(Game.objects.all(), game_id))

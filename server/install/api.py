"""Installing in the API."""

from __future__ import annotations

from typing import Annotated, Any

from django.http import HttpRequest
from ninja import Field, Router, Schema

from ..errors import one
from ..games.models import Game
from ..jobs.api import JobOut, ProblemOut
from ..mods import rebuilding
from ..mods.models import Build
from ..paging import Limit, Offset
from . import installing

router = Router()
SHOWN = 20
"""Leftovers that are told."""


class ComingFile(Schema):
    """What will become of a file. what: replaced, added, set aside, put back, taken away; before, after: bytes, null for no file;
    by: whose it is."""

    path: str
    what: str
    before: int | None
    after: int | None
    by: str


class ForecastOut(Schema):
    """What an install, or a restore, will do. rows: the files, of which `total` there are; most, end: bytes that it takes on the game's disk at
    the worst moment, and when it is done (less than 0: it frees them); backups: on the disk of Zubret's own data; free,
    free_for_backups: what is free there; leftovers: files that look as if somebody, or another tool, had put them aside: the first of
    them, which stay as they are."""

    rows: list[ComingFile]
    total: int
    most: int
    end: int
    backups: int
    free: int
    free_for_backups: int
    leftovers: list[str]
    warnings: list[ProblemOut]


class InstalledFile(Schema):
    """A file that was installed. state: installed, original (somebody has put it back), changed (by something else), missing; backup:
    whether its original is kept as it was."""

    path: str
    state: str
    by: str
    backup: bool


class InstallState(Schema):
    """What state the game's folder is in: original, installed, out of date, changed, cut off, or away (the
    folder is not there). rows: what was installed, the
    changed ones first, of which there are `total`; build: the rebuild that could be installed, null where there is none;
    originals: the folder in which the backups are."""

    state: str
    rows: list[InstalledFile]
    total: int
    build: int | None
    originals: str


class Paths(Schema):
    """Paths below the game's folder."""

    paths: Annotated[list[str], Field(min_length=1, max_length=10_000)]


@router.get("/games/{int:game_id}/install", response=InstallState)
def install_state(request: HttpRequest, game_id: int, thorough: bool = False, offset: Offset = 0, limit: Limit = 100):
    """What state the game's folder is in now. thorough: every file that was installed, and its backup, is read."""
    game = one(Game.objects.all(), game_id)
    state, found = installing.state_of(game, thorough)
    found.sort(key=lambda f: (f.state == installing.INSTALLED and f.backup, f.path))
    build = installing.newest_build(game)
    return {
        "state": state,
        "rows": [vars(f) for f in found[offset : offset + limit]],
        "total": len(found),
        "build": build.pk if build and rebuilding.is_fresh(build) else None,
        "originals": str(installing.store_of(game).originals),
    }


@router.get("/games/{int:game_id}/install/forecast", response=ForecastOut)
def install_forecast(request: HttpRequest, game_id: int, back: bool = False, offset: Offset = 0, limit: Limit = 100):
    """What installing the newest rebuild will do to every file, before anything is touched; back: what restoring will."""
    game = one(Game.objects.all(), game_id)
    build = None if back else installing.newest_build(game)
    return _forecast(game, build, offset, limit)


def _forecast(game: Game, build: Build | None, offset: int, limit: int) -> dict[str, Any]:
    coming, (free, free_for_backups) = installing.forecast(game, build), installing.room(game)
    return {
        "rows": [vars(f) for f in coming.files[offset : offset + limit]],
        "total": len(coming.files),
        "most": coming.most,
        "end": coming.end,
        "backups": coming.backups,
        "free": free,
        "free_for_backups": free_for_backups,
        "leftovers": installing.leftovers(game)[:SHOWN],
        "warnings": [w.as_dict() for w in installing.warnings(game, build)],
    }


@router.post("/builds/{int:build_id}/install", response=JobOut)
def install_build(request: HttpRequest, build_id: int):
    """Install a rebuild into the game's folder, as a job: every file is kept before it is changed."""
    return installing.start_install(one(Build.objects.select_related("game"), build_id))


@router.post("/games/{int:game_id}/restore", response=JobOut)
def restore_game(request: HttpRequest, game_id: int):
    """Make the game's folder what it was before anything was installed, byte for byte, as a job."""
    return installing.start_restore(one(Game.objects.all(), game_id))


@router.post("/games/{int:game_id}/install/let-go", response={204: None})
def let_files_go(request: HttpRequest, game_id: int, data: Paths):
    """Leave files that something else has changed as they are, and forget that they were installed. Their backups go."""
    installing.let_go(one(Game.objects.all(), game_id), data.paths)
    return 204, None

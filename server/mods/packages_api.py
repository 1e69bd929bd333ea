"""Packages of mods in the API: making one, looking into one that somebody gave, and taking it in."""

from __future__ import annotations

import re
from typing import Annotated, Any

from django.http import HttpRequest
from ninja import Field, File, Form, Path, Router, Schema
from ninja.files import UploadedFile

from ..errors import one
from ..games.models import Game
from ..jobs.api import JobOut
from . import foreign, packages
from .together import live_mod

router = Router()
Token = Path[Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]]
SHOWN = 100


class PackageOut(Schema):
    """What a package holds, before it is taken in. token: to ask for it by; game, builds: what it was made against; other_game: that is
    not this one, by their names; swaps, recipes: streams that it swaps, and how many of these are made of the game's own sound;
    files: entries; bytes: of the files in it; unknown: members that its manifest does not name, which are left where they are."""

    token: str
    name: str
    version: str
    author: str
    licence: str
    note: str
    game: str
    builds: list[str]
    other_game: bool
    swaps: int
    recipes: int
    files: int
    bytes: int
    unknown: list[str]


@router.post("/mods/{int:mod_id}/package", response=JobOut)
def pack_mod(request: HttpRequest, mod_id: int):
    """Make a package of a mod, as a job whose file can be fetched. A sound of the game's own is refused."""
    return packages.start_packing(live_mod(mod_id))


class SentOut(Schema):
    """What was sent of a mod so far. token: to send more of it, and to ask for it by; files, bytes: of all of it; package: what is in it,
    if it is one of Zubret's own."""

    token: str
    files: int
    bytes: int
    package: PackageOut | None


class BringIn(Schema):
    """What the new mod is called."""

    name: Annotated[str, Field(min_length=1, max_length=200, pattern=r"\S")]


@router.post("/games/{int:game_id}/brought", response=SentOut)
def send_of_mod(
    request: HttpRequest,
    game_id: int,
    file: File[UploadedFile],
    path: Form[str] = "",
    token: Form[str] = "",
):
    """Keep a file of a mod that somebody made for a while: a package, a ZIP, an archive of the game's own kind, or one of a folder's
    files, which go one after the other. Nothing is made of it yet."""
    game = one(Game.objects.all(), game_id)
    token = foreign.kept(file, path, token)
    files, size = foreign.size_of(token)
    look = _package(game, foreign.as_package(token)) if foreign.is_package(token) else None
    return {"token": token, "files": files, "bytes": size, "package": look}


@router.post("/games/{int:game_id}/brought/{token}", response=JobOut)
def bring_in(request: HttpRequest, game_id: int, token: Token, data: BringIn):
    """Find out what the files that were sent change in this game, down to the stream, and make a mod of that, as a job."""
    return foreign.start_bringing(one(Game.objects.all(), game_id), token, data.name)


def _package(game: Game, token: str) -> dict[str, Any]:
    """What is in a package."""
    with packages.opened(token) as package:
        manifest: Any = package.manifest
        return {
            "token": token,
            **{name: getattr(manifest, name) for name in ("name", "version", "author", "licence", "note")},
            "game": manifest.game.name,
            "builds": manifest.game.builds,
            "other_game": _plain(manifest.game.name) not in _plain(game.name),
            "swaps": len(manifest.swaps),
            "recipes": sum(s.file is None for s in manifest.swaps),
            "files": len(manifest.files),
            "bytes": package.size,
            "unknown": package.unknown[:SHOWN],
        }


def _plain(name: str) -> str:
    """A game's name without numbers and signs, which a build may have."""
    return re.sub(r"[\W\d_]", "", name.lower())


@router.post("/games/{int:game_id}/packages/{token}", response=JobOut)
def take_in_package(request: HttpRequest, game_id: int, token: Token):
    """Make a mod of a kept package, and judge it against this build, as a job."""
    return packages.start_taking_in(one(Game.objects.all(), game_id), token)

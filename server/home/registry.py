"""Registering games."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings
from django.db import transaction

from ..games.folders import allowed
from ..games.models import Game
from ..mods.models import Mod


def register(folder: str, name: str = "") -> Game:
    """A game by its folder, which must be below those that may be read."""
    return register_at(allowed(folder), name)


def register_at(place: Path, name: str = "") -> Game:
    """A game by its folder, with a first mod; the same folder twice is the same game."""
    player, build = _player(place)
    with transaction.atomic():
        game, made = Game.objects.get_or_create(
            folder=str(place), defaults={"name": name or place.name, "player": player, "build": build}
        )
        if made:
            Mod.objects.create(game=game, name="First mod", current=True)
    return game


def _player(place: Path) -> tuple[str, str]:
    """The program that can play a game in trial runs, and the game's build; nothing where there is none."""
    for player, (name, first) in settings.PLAYERS.items():
        if (place / name).is_file():
            lines = (place / name).read_text("utf-8", "replace")[:1000].splitlines()
            if lines[:1] == [first]:
                return player, next((x[6:66] for x in lines if x.startswith("build=")), "")
    return "", ""

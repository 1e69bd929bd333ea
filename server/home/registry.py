"""Registering games."""

from __future__ import annotations

from pathlib import Path

from django.db import transaction

from ..games.folders import allowed
from ..games.models import Game
from ..layouts.rules import told_of
from ..mods.models import Mod


def register(folder: str, name: str = "") -> Game:
    """A game by its folder, which must be below those that may be read."""
    return register_at(allowed(folder), name)


def register_at(place: Path, name: str = "") -> Game:
    """A game by its folder, with a first mod; the same folder twice is the same game."""
    player, build = told_of(place)
    with transaction.atomic():
        game, made = Game.objects.get_or_create(
            folder=str(place), defaults={"name": name or place.name, "player": player, "build": build}
        )
        if made:
            Mod.objects.create(game=game, name="First mod", current=True)
    return game

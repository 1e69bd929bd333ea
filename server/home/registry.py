"""Registering games."""

from __future__ import annotations

from django.db import transaction

from ..games.folders import allowed
from ..games.models import Game
from ..mods.models import Mod


def register(folder: str, name: str = "") -> Game:
    """A game by its folder, with a first mod; the same folder twice is the same game."""
    place = allowed(folder)
    player = build = ""
    settings_file = place / "ferry.ini"
    if settings_file.is_file():
        lines = settings_file.read_text("utf-8", "replace")[:1000].splitlines()
        if lines[:1] == ["[ferry]"]:
            player = "standin"
            build = next((x[6:66] for x in lines if x.startswith("build=")), "")
    with transaction.atomic():
        game, made = Game.objects.get_or_create(
            folder=str(place), defaults={"name": name or place.name, "player": player, "build": build}
        )
        if made:
            Mod.objects.create(game=game, name="First mod")
    return game

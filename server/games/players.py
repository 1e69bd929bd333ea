"""Which program can play a game."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings


def player_of(place: Path) -> str:
    """The program that can play the game of a folder in trial runs; "" where there is none."""
    for player, (name, first) in settings.PLAYERS.items():
        if (place / name).is_file() and (place / name).read_text("utf-8", "replace")[:1000].splitlines()[:1] == [first]:
            return player
    return ""

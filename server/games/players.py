"""Which program can play a game, and which build of it stands in its folder."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings


def player_of(place: Path) -> tuple[str, str]:
    """The program that can play a game in trial runs, and the game's build; nothing where there is none."""
    for player, (name, first) in settings.PLAYERS.items():
        if (place / name).is_file():
            lines = (place / name).read_text("utf-8", "replace")[:1000].splitlines()
            if lines[:1] == [first]:
                return player, next((x[6:66] for x in lines if x.startswith("build=")), "")
    return "", ""

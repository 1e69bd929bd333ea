"""Who wins, in the API."""

from __future__ import annotations

from typing import Annotated

from django.http import HttpRequest
from ninja import Query, Router, Schema

from ..errors import one
from ..games.models import Game
from ..shelf.models import Stream
from . import winning

router = Router()


class HeldBy(Schema):
    """A place that holds a file: an archive or a folder (empty: the game's own), and what the file is called there. why: the rule by
    which the first of the list wins over it, empty for that one itself; stream: the number of the stream that stands there in the
    same place of its bank, 0 where there is none."""

    place: str
    path: str
    why: str
    stream: int = 0


class WhoWins(Schema):
    """All that hold a file, the strongest first, by the path that the game knows it by; nothing for a game without load rules. own: which of
    them was asked about, -1 for none."""

    path: str
    rows: list[HeldBy]
    own: int


@router.get("/streams/{int:stream_id}/who-wins", response=WhoWins)
def who_wins(request: HttpRequest, stream_id: int):
    """Who holds the file in which a stream stands, and which of them the game reads."""
    row = one(Stream.objects.select_related("archive__game", "archive__outer", "bank"), stream_id)
    path, holders = winning.holders_of(row.archive.game, row)
    rows = [{**vars(h), "stream": winning.stream_there(row, h)} for h in holders]
    own = next((n for n, h in enumerate(holders) if h.archive == (row.archive.outer_id or row.archive_id)), -1)
    return {"path": path, "rows": rows, "own": own}


@router.get("/games/{int:game_id}/who-wins", response=WhoWins)
def who_wins_path(request: HttpRequest, game_id: int, path: Annotated[str, Query(max_length=2000)] = ""):
    """The same for any path as the game knows it, such as root/folder/name."""
    game = one(Game.objects.all(), game_id)
    survey = game.current_survey()
    order = winning.load_order(game, survey) if survey else None
    holders = winning.holding(survey, order, path) if survey and order and path else []
    return {"path": path, "rows": [vars(h) for h in holders], "own": -1}

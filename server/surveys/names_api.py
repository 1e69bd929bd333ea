"""Name lists, in the API."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router, Schema

from ..errors import one, stopped
from ..games.models import Game, NameList
from ..paging import MOST, Limit, Offset
from .surveying import start_survey

router = Router()


class NamesIn(Schema):
    """A name list for an archive: its lines."""

    path: str
    title: str = "name list"
    text: str


class NamesOut(Schema):
    """A name list."""

    id: int
    path: str
    title: str
    lines: int


def _names_out(row: NameList) -> dict:
    return {"id": row.pk, "path": row.path, "title": row.title, "lines": len(row.text.splitlines())}


@router.get("/games/{int:game_id}/names", response=list[NamesOut])
def list_names(request: HttpRequest, game_id: int, offset: Offset = 0, limit: Limit = MOST):
    """The name lists of a game."""
    lists = one(Game.objects.all(), game_id).name_lists.order_by("path", "pk")
    return [_names_out(n) for n in lists[offset : offset + limit]]


@router.post("/games/{int:game_id}/names", response=NamesOut)
def add_names(request: HttpRequest, game_id: int, data: NamesIn):
    """Give names to the entries of an archive; the archive is surveyed again."""
    game = one(Game.objects.all(), game_id)
    if not data.text.strip():
        raise stopped(422, "The name list is empty.", "Choose a text file with a path on each line.", data.title)
    game.name_lists.filter(path=data.path).delete()
    row = NameList.objects.create(game=game, path=data.path, title=data.title[:300], text=data.text)
    start_survey(game, changed=True)
    return _names_out(row)


@router.delete("/names/{int:names_id}", response={204: None})
def remove_names(request: HttpRequest, names_id: int):
    """Take a name list away; the archive is surveyed again."""
    row = one(NameList.objects.select_related("game"), names_id)
    row.delete()
    start_survey(row.game, changed=True)
    return 204, None

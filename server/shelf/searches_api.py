"""Searches that users keep under a name, in the API."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router, Schema

from ..errors import one, stopped
from ..games.models import Game
from ..paging import Limit, Offset
from .models import SavedSearch

router = Router()
LONGEST = 4_000
"""Characters of a search."""


class SearchIn(Schema):
    """A name, and what the page's address holds of the question."""

    name: str
    search: str


class SearchOut(SearchIn):
    """A saved search."""

    id: int


@router.get("/games/{int:game_id}/searches", response=list[SearchOut])
def searches(request: HttpRequest, game_id: int, offset: Offset = 0, limit: Limit = 100):
    """The saved searches of a game, by their names."""
    return one(Game.objects.all(), game_id).searches.order_by("name", "pk")[offset : offset + limit]


@router.post("/games/{int:game_id}/searches", response=SearchOut)
def save(request: HttpRequest, game_id: int, data: SearchIn):
    """Keep a search under a name; one of this name is replaced."""
    game, name = one(Game.objects.all(), game_id), data.name.strip()[:100]
    if not name:
        raise stopped(422, "The search has no name.", "Give it one.", "name")
    if len(data.search) > LONGEST:
        raise stopped(422, "The search is too long to be kept.", "Take a filter away.", "search")
    return SavedSearch.objects.update_or_create(game=game, name=name, defaults={"search": data.search})[0]


@router.delete("/searches/{int:search_id}", response={204: None})
def forget(request: HttpRequest, search_id: int):
    """Forget a saved search."""
    one(SavedSearch.objects.all(), search_id).delete()
    return 204, None

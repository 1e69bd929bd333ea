"""Streams by their banks in the API."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Query, Router, Schema

from ..errors import one
from ..games.models import Game
from ..paging import Limit, Offset
from . import groups
from .filters import Filter
from .query import Question

router = Router()


class GroupOut(Schema):
    """Streams of one bank, or sounds of one folder that are in none (what). bank: the number of the bank, or of one of them;
    seconds and stored bytes are sums; place: what the filter's `within` leads to."""

    bank: int
    place: str
    what: str
    name: str
    within: str
    language: str
    streams: int
    seconds: float
    bytes: int
    looped: int


class GroupPage(Schema):
    """Some groups, and how many there are."""

    total: int
    rows: list[GroupOut]


@router.get("/games/{int:game_id}/groups", response=GroupPage)
def list_groups(
    request: HttpRequest,
    game_id: int,
    filter: Query[Filter],
    sort: str = "",
    offset: Offset = 0,
    limit: Limit = 100,
):
    """The banks and folders in which streams are that a filter leaves. sort: name, within, language, streams, length, size or
    looped, with a minus in front from the other end."""
    return groups.page_of(Question(one(Game.objects.all(), game_id), filter, sort), offset, limit)


@router.get("/games/{int:game_id}/group-beginning", response=int)
def beginning(
    request: HttpRequest, game_id: int, filter: Query[Filter], sort: str = "", text: str = "", first: Offset = 0
):
    """The place in a list of the next group whose name begins with a text; -1 where there is none."""
    return groups.beginning(Question(one(Game.objects.all(), game_id), filter, sort), text[:200], first)

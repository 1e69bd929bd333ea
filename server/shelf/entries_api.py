"""Entries in the API."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Query, Router, Schema

from ..errors import one
from ..games.models import Game
from ..paging import Limit, Offset
from . import entries

router = Router()


class EntryOut(Schema):
    """An entry; at is its byte offset in the archive, or in the companion `file` where that is not empty."""

    id: int
    ordinal: int
    path: str
    at: int
    stored: int
    size: int
    method: str
    file: str


class EntryPage(Schema):
    """Some entries of all that match, and how many these are, where that is asked for."""

    total: int | None
    rows: list[EntryOut]


@router.get("/games/{int:game_id}/entries", response=EntryPage)
def list_entries(
    request: HttpRequest,
    game_id: int,
    asked: Query[entries.AskedEntries],
    offset: Offset = 0,
    limit: Limit = 100,
    totals: bool = True,
):
    """Entries of the current survey."""
    return entries.entries_page(one(Game.objects.all(), game_id), asked, offset, limit, totals)


@router.get("/games/{int:game_id}/entry-numbers", response=list[int])
def entry_numbers(
    request: HttpRequest,
    game_id: int,
    asked: Query[entries.AskedEntries],
    first: Offset = 0,
    last: Offset | None = None,
):
    """The numbers of the entries of a list from one place to another, both of which count; to its end, where no last is given."""
    survey = one(Game.objects.all(), game_id).current_survey()
    return entries.entry_numbers(survey, asked, first, None if last is None else last + 1)


@router.get("/games/{int:game_id}/entry-beginning", response=int)
def entry_beginning(
    request: HttpRequest, game_id: int, asked: Query[entries.AskedEntries], text: str = "", first: Offset = 0
):
    """The place in a list of the next entry whose path or name begins with a text; -1 where there is none."""
    return entries.next_entry(one(Game.objects.all(), game_id), asked, text[:200], first)

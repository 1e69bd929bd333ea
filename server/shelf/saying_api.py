"""What users say of streams, in the API: of one, or of all that are chosen."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Query, Router, Schema

from ..errors import one, stopped
from ..games.models import Game
from . import query, saying
from .api import GivenIn
from .filters import Filter
from .models import Saying

router = Router()
EXAMPLES = 6
"""Names that a plan shows."""
LOOKED = 2000
"""Streams whose names a plan works out."""


class SayIn(Schema):
    """Streams by their numbers, and what shall be said of all of them. A template, where one is given, makes a name for each,
    and `{number}` in it counts in their order."""

    chosen: list[int]
    said: GivenIn = GivenIn()
    template: str = ""


class SayingOut(Schema):
    """Of how many streams something was said; by its number it can be taken back, for a day."""

    id: int
    streams: int


class NamesPlan(Schema):
    """What a template makes of the first streams, and how many names of the first `looked` ones come more than once."""

    names: list[str]
    doubled: int
    looked: int


@router.get("/games/{int:game_id}/stream-numbers", response=list[int])
def stream_numbers(
    request: HttpRequest, game_id: int, filter: Query[Filter], sort: str = "", first: int = 0, last: int | None = None
):
    """The numbers of the streams of a list from one place to another, both of which count; to its end, where no last is given."""
    asked = query.Question(one(Game.objects.all(), game_id), filter, sort)
    return asked.found().numbers[max(0, first) : None if last is None else max(0, last + 1)].tolist()


@router.post("/games/{int:game_id}/sayings", response=SayingOut)
def say(request: HttpRequest, game_id: int, data: SayIn):
    """Say the same of many streams, or name them by a template."""
    game = one(Game.objects.all(), game_id)
    names = {"name": saying.names_by(game, data.chosen, data.template)} if data.template else None
    return saying.say(game, data.chosen, data.said.dict(), names)


@router.post("/games/{int:game_id}/sayings/plan", response=NamesPlan)
def plan_names(request: HttpRequest, game_id: int, data: SayIn):
    """What a template would name the streams."""
    names = saying.names_by(one(Game.objects.all(), game_id), data.chosen[:LOOKED], data.template)
    return {"names": names[:EXAMPLES], "doubled": len(names) - len(set(names)), "looked": len(names)}


@router.post("/sayings/{int:saying_id}/undo", response=SayingOut)
def undo(request: HttpRequest, saying_id: int):
    """Take back what was said; that is a saying, too."""
    row = Saying.objects.filter(pk=saying_id).select_related("game").first()
    if row is None:
        raise stopped(410, "This can't be undone any more.", "What was said of a stream can be undone for a day.")
    return saying.take_back(row)

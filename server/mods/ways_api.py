"""How a game takes changes, in the API: its load rules, its ways, and what only a person can do."""

from __future__ import annotations

from typing import Annotated, Any

from django.http import HttpRequest
from ninja import Field, Router, Schema

from ..errors import one
from ..games.models import Game
from ..layouts import rules

router = Router()


class ByHand(Schema):
    """What only a person can do, and whether they say that it is done."""

    text: str
    done: bool


class WayOut(Schema):
    """A way in which a game takes changes. name: empty for the place of the old files; kind: in place, new archive, loose files,
    overlay folder; what: what is done, in words."""

    name: str
    title: str
    kind: str
    what: str
    by_hand: list[ByHand]


class WaysOut(Schema):
    """All ways of a game, and the name of the one that is chosen. rules: the load rules that tell them, empty where there are none, with
    their title."""

    rules: str
    title: str
    chosen: str
    ways: list[WayOut]


class WayIn(Schema):
    """The name of a way."""

    way: Annotated[str, Field(max_length=60)]


class Tick(Schema):
    """Something that only a person can do, as it is listed, and whether it is done."""

    text: Annotated[str, Field(min_length=1, max_length=1000)]
    done: bool


@router.get("/games/{int:game_id}/ways", response=WaysOut)
def ways(request: HttpRequest, game_id: int):
    """In which ways a game takes changes, and which one is chosen."""
    return _out(one(Game.objects.all(), game_id))


@router.put("/games/{int:game_id}/way", response=WaysOut)
def choose_way(request: HttpRequest, game_id: int, data: WayIn):
    """Have a game take changes another way from the next rebuild on."""
    game = one(Game.objects.all(), game_id)
    rules.choose_way(game, data.way)
    return _out(one(Game.objects.all(), game_id))


@router.put("/games/{int:game_id}/by-hand", response=WaysOut)
def tick(request: HttpRequest, game_id: int, data: Tick):
    """Say that something is done, or not, which only a person can do."""
    rules.tick(one(Game.objects.all(), game_id), data.text, data.done)
    return _out(one(Game.objects.all(), game_id))


def _out(game: Game) -> dict[str, Any]:
    found = rules.rules_of(game)
    ways = [
        {**vars(way), "by_hand": [{"text": text, "done": text in game.ticked} for text in way.by_hand]}
        for way in rules.ways_of(found)
    ]
    chosen = rules.way_of(game, found).name
    return {"rules": found.id if found else "", "title": found.title if found else "", "chosen": chosen, "ways": ways}

"""Keys, in the API."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router, Schema

from ..errors import one
from ..games.models import Game, Key
from ..jobs.api import JobOut
from ..paging import MOST, Limit, Offset
from . import keyring

router = Router()


class KeyIn(Schema):
    """A key; text is its bytes in any usual spelling."""

    label: str = ""
    builds: str = ""
    text: str


class KeyOut(Schema):
    """A key, masked; opens lists the archives that it opens."""

    id: int
    label: str
    builds: str
    masked: str
    bytes: int
    opens: list[str]


class Secret(Schema):
    """A key's bytes in hexadecimal."""

    text: str


@router.get("/games/{int:game_id}/keys", response=list[KeyOut])
def list_keys(request: HttpRequest, game_id: int, offset: Offset = 0, limit: Limit = MOST):
    """The key ring of a game."""
    keys = one(Game.objects.all(), game_id).keys.order_by("pk").prefetch_related("choices")
    return [keyring.key_out(k) for k in keys[offset : offset + limit]]


@router.post("/games/{int:game_id}/keys", response=KeyOut)
def add_key(request: HttpRequest, game_id: int, data: KeyIn):
    """Add a key to the ring."""
    game = one(Game.objects.all(), game_id)
    return keyring.key_out(keyring.add_key(game, data.label, data.builds, data.text))


@router.delete("/keys/{int:key_id}", response={204: None})
def remove_key(request: HttpRequest, key_id: int):
    """Take a key off the ring. What it opened is locked at the next survey."""
    one(Key.objects.all(), key_id).delete()
    return 204, None


@router.post("/keys/{int:key_id}/secret", response=Secret)
def show_key(request: HttpRequest, key_id: int):
    """A key's bytes, for somebody who asks for them."""
    return {"text": one(Key.objects.all(), key_id).secret}


@router.post("/games/{int:game_id}/keys/try", response=JobOut)
def try_keys(request: HttpRequest, game_id: int):
    """Try every key on every locked archive."""
    return keyring.start_trying(one(Game.objects.all(), game_id))

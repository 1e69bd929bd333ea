"""The unknown-audio bench in the API."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Router, Schema

from ..errors import one
from ..games.models import Game
from . import unknown
from .api import LayoutText, text_out

router = Router()


class PartOut(Schema):
    """A part of a file that may hold a sound."""

    at: int
    length: int


class TurnOut(Schema):
    """A parameter of a codec, and the values that can be tried."""

    name: str
    values: list[int | str]


class UnknownFile(Schema):
    """A file that nothing describes; rate: in Hz, where a table gives one, else 0; rates: usual ones; most_channels: that a
    reading may have."""

    size: int
    spans: list[PartOut]
    table_at: int | None
    records: int
    rate: int
    rates: list[int]
    most_channels: int


class Reading(Schema):
    """A way to read bytes as sound; skip: bytes passed over at the beginning."""

    codec: str
    channels: int
    block_size: int = 0
    skip: int = 0
    parameters: dict[str, str | int | float | bool] = {}


class ReadingOut(Reading):
    """A reading that can be heard; score in dB; fixed_rate: its bytes say the rate; turns: what of it can be turned."""

    label: str
    score: float
    reasons: list[str]
    rate: int
    fixed_rate: bool
    frames: int
    audio: str
    turns: list[TurnOut]


class RankedReading(ReadingOut):
    """A reading with what its score means: convincing, perhaps or weak."""

    verdict: str


class Ranked(Schema):
    """The likeliest readings, the best first; rate: the usual rate in Hz at which the best one is likely to run, 0 where nothing tells;
    why: what speaks for it."""

    note: str
    candidates: list[RankedReading]
    rate: int
    why: str


class HearIn(Schema):
    """A part of a file, how it is read, and at which rate in Hz."""

    path: str
    start: int
    end: int
    rate: int
    reading: Reading


@router.get("/games/{int:game_id}/unknown", response=UnknownFile)
def unknown_file(request: HttpRequest, game_id: int, path: str):
    """Which parts of a file a table in it points to."""
    return unknown.looked_at(one(Game.objects.all(), game_id), path)


@router.get("/games/{int:game_id}/unknown/rank", response=Ranked)
def rank(request: HttpRequest, game_id: int, path: str, start: int, end: int, rate: int = 44_100):
    """What the bytes of a part could be."""
    return unknown.ranked(one(Game.objects.all(), game_id), path, start, end, rate)


@router.post("/games/{int:game_id}/unknown/hear", response=ReadingOut)
def hear(request: HttpRequest, game_id: int, data: HearIn):
    """Hear a part as a reading says; anything of it may be turned."""
    candidate = unknown.candidate_of(data.reading.dict())
    return unknown.heard(one(Game.objects.all(), game_id), data.path, data.start, data.end, candidate, data.rate)


@router.post("/games/{int:game_id}/unknown/draft", response=LayoutText)
def draft(request: HttpRequest, game_id: int, data: HearIn):
    """A layout for the file from a reading."""
    candidate = unknown.candidate_of(data.reading.dict())
    return text_out(unknown.drafted(one(Game.objects.all(), game_id), data.path, data.start, candidate, data.rate))

"""What is in here? in the API."""

from __future__ import annotations

from django.http import HttpRequest, StreamingHttpResponse
from django.utils.http import content_disposition_header
from ninja import Router, Schema

from ..errors import one
from ..games.models import Game
from ..jobs.api import JobOut
from ..paging import Limit, Offset
from . import sifting
from .api import LayoutText, text_out
from .models import Sifted

router = Router()


class SiftIn(Schema):
    """A file or an entry of a game; "" for all files that nothing describes."""

    path: str = ""


class SiftedOut(Schema):
    """A sound that was found: bytes [at, at + length) of a file or an entry. reason: what was found right; rate in Hz, frames and channels are
    0, and audio is nothing, where it can't be heard."""

    id: int
    path: str
    at: int
    length: int
    title: str
    reason: str
    rate: int
    channels: int
    frames: int
    audio: str | None


class SiftedPage(Schema):
    """The sounds of one look. job: that finds them, nothing where none was ever begun; bytes: that they take; seconds: that can be
    heard; files, size: how many files and bytes were looked through."""

    job: JobOut | None
    total: int
    bytes: int
    seconds: float
    files: int
    size: int
    rows: list[SiftedOut]


@router.post("/games/{int:game_id}/sounds-inside", response=JobOut)
def look_inside(request: HttpRequest, game_id: int, data: SiftIn):
    """Look for sounds by signature and validation."""
    return sifting.start_sifting(one(Game.objects.all(), game_id), data.path)


@router.get("/games/{int:game_id}/sounds-inside", response=SiftedPage)
def sounds_inside(request: HttpRequest, game_id: int, path: str = "", offset: Offset = 0, limit: Limit = 100):
    """What the last look has found, also while it goes on."""
    found = sifting.last_sifting(one(Game.objects.all(), game_id), path)
    if found is None:
        return {"job": None, "total": 0, "bytes": 0, "seconds": 0.0, "files": 0, "size": 0, "rows": []}
    rows = found.found.order_by("pk")[offset : offset + limit]
    return {"job": found.job, "files": found.files, "size": found.size, "rows": rows, **sifting.sums_of(found)}


@router.post("/games/{int:game_id}/sounds-inside/take-out", response=JobOut)
def take_out_inside(request: HttpRequest, game_id: int, data: SiftIn):
    """All that was found, as a ZIP file."""
    return sifting.start_taking_out(one(Game.objects.all(), game_id), data.path)


@router.post("/games/{int:game_id}/sounds-inside/draft", response=LayoutText)
def draft_inside(request: HttpRequest, game_id: int, data: SiftIn):
    """A layout for a file by a table of the places at which sounds were found."""
    return text_out(sifting.drafted(one(Game.objects.all(), game_id), data.path))


@router.get("/games/{int:game_id}/sounds-inside/{int:number}")
def sound_file(request: HttpRequest, game_id: int, number: int):
    """The bytes of one sound, as a file."""
    row = one(Sifted.objects.select_related("sifting__game").filter(sifting__game=game_id), number)
    source = sifting.source_of(row)
    answer = StreamingHttpResponse(source.chunks(), content_type="application/octet-stream")
    answer["Content-Length"] = str(source.size)
    answer["Content-Disposition"] = content_disposition_header(True, sifting.name_of(row)) or "attachment"
    return answer

"""Taking sounds out, in the API."""

from __future__ import annotations

from django.http import HttpRequest
from ninja import Field, Router, Schema

from zubret_core.extract import FIELDS, USUAL

from ..errors import one
from ..games.models import Game
from ..jobs.api import JobOut
from ..shelf.filters import Filter
from . import sounds
from .api import TakeOutNote

router = Router()


class SoundsHow(Schema):
    """How sounds are written: kind wav, flac, ogg, opus or stored; plays 0 keeps the loop as metadata, else it is played
    so many times and faded out over `fade` seconds; loudness in LUFS, or null to leave the levels alone.
    """

    kind: str = "wav"
    plays: int = 0
    fade: float = 0.0
    loudness: float | None = None
    template: str = USUAL
    folders: bool = False
    tags: dict[str, str] = Field(default_factory=dict)
    number_tracks: bool = False
    playlist: bool = False
    figures: bool = False


class SoundsIn(Schema):
    """Which streams (chosen ones, or a filter), how, and the folder; empty for a ZIP file to download."""

    chosen: list[int] = []
    filter: Filter = Filter()
    how: SoundsHow = SoundsHow()
    folder: str = ""


class SoundsPlan(Schema):
    """What it would need, bytes roughly; names: the first files; decoded: streams that no open format holds as stored.

    looked: of so many of the files the names were worked out; there and renamed count among these.
    """

    files: int
    bytes: int
    seconds: float
    free: int
    fits: bool
    there: int
    renamed: int
    looked: int
    decoded: int
    names: list[str]
    notes: list[TakeOutNote]


class TemplateField(Schema):
    """A field that may stand in a template of names."""

    name: str
    what: str


@router.get("/template-fields", response=list[TemplateField])
def template_fields(request: HttpRequest):
    """What may stand in a template of names."""
    return [{"name": name, "what": what} for name, what in FIELDS.items()]


@router.post("/games/{int:game_id}/sounds/plan", response=SoundsPlan)
def plan_sounds(request: HttpRequest, game_id: int, data: SoundsIn):
    """How much it would be, what the files would be called, and whether there is room."""
    rows = sounds.streams_chosen(one(Game.objects.all(), game_id), data.chosen, data.filter)
    return sounds.plan(rows, data.how.dict(), data.folder)


@router.post("/games/{int:game_id}/sounds", response=JobOut)
def take_sounds(request: HttpRequest, game_id: int, data: SoundsIn):
    """Take sounds out as a job."""
    game = one(Game.objects.all(), game_id)
    return sounds.start_sounds_out(game, data.chosen, data.filter, data.how.dict(), data.folder)

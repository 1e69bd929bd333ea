"""Taking out, in the API."""

from __future__ import annotations

from typing import TypeVar

from django.http import FileResponse, HttpRequest
from ninja import Router, Schema
from pydantic import ValidationError

from ..errors import one, stopped
from ..games.models import ExportFolder, Game
from ..jobs.api import JobOut
from ..jobs.models import Job
from ..jobs.orders import read
from ..paging import Limit, Offset
from ..shelf.filters import Filter
from . import entries, sounds

router = Router()
T = TypeVar("T")


class TakeOutIn(Schema):
    """What is taken out: chosen entries, or those of archives that a filter leaves, or of files of the survey, where these are
    given (folders: all below them), else of the whole game; and where to.

    folder: a whole path, or empty for a ZIP file to download.
    """

    archives: list[int] = []
    files: list[int] = []
    q: str = ""
    entries: list[int] = []
    flat: bool = False
    folder: str = ""


class TakeOutNote(Schema):
    """A file that has another name than its entry, and why."""

    target: str
    source: str
    note: str


class TakeOutPlan(Schema):
    """What taking out would need, in bytes. looked: of so many of the files the names were worked out; among them, there:
    those that are there already; renamed: those whose names are changed."""

    files: int
    bytes: int
    free: int
    fits: bool
    there: int
    renamed: int
    looked: int
    notes: list[TakeOutNote]


class ExportFolderOut(Schema):
    """A folder that was named for taking out."""

    id: int
    path: str


@router.get("/export-folders", response=list[ExportFolderOut])
def export_folders(request: HttpRequest, offset: Offset = 0, limit: Limit = 20):
    """Folders that were named before, the newest first."""
    return ExportFolder.objects.order_by("-pk")[offset : offset + limit]


@router.delete("/export-folders/{int:folder_id}", response={204: None})
def forget_export_folder(request: HttpRequest, folder_id: int):
    """Offer a folder no longer. What was taken out to it stays."""
    one(ExportFolder.objects.all(), folder_id).delete()
    return 204, None


@router.post("/games/{int:game_id}/take-out/plan", response=TakeOutPlan)
def plan_taking_out(request: HttpRequest, game_id: int, data: TakeOutIn):
    """How much it would be, and whether there is room."""
    game = one(Game.objects.all(), game_id)
    rows = entries.entries_of(game, _archives(game, data), data.q, data.entries)
    return entries.plan(game, rows, data.flat, data.folder)


@router.post("/games/{int:game_id}/take-out", response=JobOut)
def take_out(request: HttpRequest, game_id: int, data: TakeOutIn):
    """Take entries out as a job."""
    game = one(Game.objects.all(), game_id)
    return entries.start_taking_out(game, _archives(game, data), data.q, data.entries, data.flat, data.folder)


def _archives(game: Game, data: TakeOutIn) -> list[int]:
    found = entries.archives_of(game, data.files)
    if data.files and not found:
        raise stopped(409, "Nothing in these files can be taken out.", "Choose archives or sounds.")
    return [*data.archives, *found]


@router.post("/jobs/{int:job_id}/again", response=JobOut)
def take_out_again(request: HttpRequest, job_id: int):
    """Take out again what a job was to take out: it goes on from where that one ended."""
    job = one(Job.objects.select_related("game"), job_id)
    if job.game is not None and job.kind == entries.EntriesOut.kind:
        some = _order(entries.EntriesOut, job)
        return entries.start_taking_out(job.game, some.archives, some.q, some.chosen, some.flat, some.folder)
    if job.game is not None and job.kind == sounds.SoundsOut.kind:
        wanted = _order(sounds.SoundsOut, job)
        filter = Filter(**wanted.filter)
        return sounds.start_sounds_out(job.game, wanted.chosen, filter, wanted.how, wanted.folder)
    raise stopped(409, "Only taking out can go on like this.", "Start the work anew.")


def _order(shape: type[T], job: Job) -> T:
    try:
        return read(shape, job.args)
    except ValidationError:
        raise stopped(
            409, "This work was begun by an earlier version of Zubret.", "Choose anew what to take out."
        ) from None


@router.get("/jobs/{int:job_id}/file")
def taken_file(request: HttpRequest, job_id: int):
    """The file that a job has made: a ZIP file, or the only sound that was taken out."""
    place = entries.download_of(one(Job.objects.all(), job_id))
    return FileResponse(open(place, "rb"), as_attachment=True, filename=place.name)

"""Surveys and their files, in the API."""

from __future__ import annotations

from datetime import datetime

from django.http import HttpRequest
from ninja import Query, Router, Schema

from ..errors import one
from ..games.models import Game
from ..jobs.api import JobOut, ProblemOut
from ..paging import Limit, Offset
from . import files
from .surveying import start_survey

router = Router()


class FileOut(Schema):
    """A file of the game's folder, an archive inside one (inside), or a folder, with what it is and by which evidence.

    what: archive, sound, locked, unreadable, companion (of belongs_to), list, other or folder, of which size, count and
    streams are the bytes, files and streams below it. depth: how deep it stands in a tree; opens: whether something stands in it.
    """

    id: int
    path: str
    depth: int
    opens: bool
    size: int
    what: str
    evidence: str
    inside: bool
    belongs_to: str
    layout: str
    entries: int
    streams: int
    unpacked: int
    count: int
    archive_id: int | None
    error: ProblemOut | None


class FilePage(Schema):
    """Some files of all that match, and how many those are, where that is asked for."""

    total: int | None
    rows: list[FileOut]


class FileKind(Schema):
    """How many files the survey calls so."""

    what: str
    files: int


class FilesIn(Schema):
    """Rows of the newest survey, by their numbers."""

    files: list[int]


class FileSums(Schema):
    """What some rows are together: files, bytes on disk, streams."""

    files: int
    bytes: int
    streams: int


class PicturePart(Schema):
    """A file, or a folder with all below it; kinds: bytes of each: holds (archives with sound), sound (files by themselves),
    archive (without sound), locked, other."""

    path: str
    name: str
    folder: bool
    files: int
    size: int
    streams: int
    kinds: dict[str, int]


class KindSum(Schema):
    """Bytes and files of a kind."""

    kind: str
    bytes: int
    files: int


class PictureOut(Schema):
    """What lies in a folder, the largest parts first; smaller: how many parts are not told apart, and their bytes; sentence:
    where the game's sound is, and what to do next."""

    size: int
    parts: list[PicturePart]
    smaller: int
    smaller_bytes: int
    kinds: list[KindSum]
    sentence: str


class Holder(Schema):
    """A file, or an archive inside one, that holds streams."""

    archive_id: int
    path: str
    streams: int


class HolderPage(Schema):
    """Some holders of all that match."""

    total: int
    rows: list[Holder]


class Place(Schema):
    """A folder, an archive or a bank (what), and how many streams are in it; opens: whether more places can be in it."""

    path: str
    name: str
    what: str
    opens: bool
    streams: int


class PlacePage(Schema):
    """Some of the places in one."""

    total: int
    rows: list[Place]


class SurveyOut(Schema):
    """The newest survey's totals; its files are asked for in pages. disk_free: bytes that Zubret can still write."""

    id: int
    label: str
    finished: datetime
    files: int
    bytes: int
    unpacked: int
    archives: int
    loose: int
    locked: int
    nested: int
    holders: int
    entries: int
    streams: int
    seconds: float
    stored: int
    languages: list[str]
    disk_free: int


@router.post("/games/{int:game_id}/survey", response=JobOut)
def survey(request: HttpRequest, game_id: int):
    """Survey the folder again."""
    return start_survey(one(Game.objects.all(), game_id))


@router.get("/games/{int:game_id}/survey", response=SurveyOut | None)
def get_survey(request: HttpRequest, game_id: int):
    """The newest finished survey, or null."""
    return files.survey_out(one(Game.objects.all(), game_id))


@router.get("/games/{int:game_id}/files", response=FilePage)
def list_files(
    request: HttpRequest,
    game_id: int,
    asked: Query[files.Asked],
    offset: Offset = 0,
    limit: Limit = 100,
    totals: bool = True,
):
    """Files of the newest survey, as a list or as a tree of which some folders stand open.

    sort: path, size, what, entries, streams or unpacked; "-" in front turns it.
    """
    return files.files_page(one(Game.objects.all(), game_id), asked, offset, limit, totals)


@router.get("/games/{int:game_id}/file-numbers", response=list[int])
def file_numbers(
    request: HttpRequest, game_id: int, asked: Query[files.Asked], first: Offset = 0, last: int | None = None
):
    """The numbers of the rows of a list from one place to another, both of which count; to its end, where no last is given."""
    survey = one(Game.objects.all(), game_id).current_survey()
    numbers = files.numbers_of(survey, asked) if survey else []
    return numbers[first : None if last is None else max(0, last + 1)]


@router.post("/games/{int:game_id}/file-sums", response=FileSums)
def file_sums(request: HttpRequest, game_id: int, data: FilesIn):
    """What some rows of the newest survey are together, each with all that stands in it."""
    return files.sums_of(one(Game.objects.all(), game_id), data.files)


@router.get("/games/{int:game_id}/file-place", response=int)
def file_place(
    request: HttpRequest, game_id: int, asked: Query[files.Asked], path: str = "", begins: str = "", first: Offset = 0
):
    """Where a file stands in a list, by its path; or the next row, from one place on and then from the start, whose name begins
    with a text; -1 where there is none."""
    game = one(Game.objects.all(), game_id)
    return files.next_place(game, asked, begins, first) if begins else files.place_in(game, asked, path)


@router.get("/games/{int:game_id}/file-kinds", response=list[FileKind])
def file_kinds(request: HttpRequest, game_id: int):
    """How many files of each kind there are."""
    return files.kinds(one(Game.objects.all(), game_id))


@router.get("/games/{int:game_id}/picture", response=PictureOut)
def get_picture(request: HttpRequest, game_id: int, within: str = ""):
    """All bytes of a folder ("" is the game's own) to scale."""
    return files.picture_of(one(Game.objects.all(), game_id), within)


@router.get("/games/{int:game_id}/file", response=FileOut | None)
def get_file(request: HttpRequest, game_id: int, path: str):
    """One file of the newest survey, or null where it has none at this path."""
    return files.file_at(one(Game.objects.all(), game_id), path)


@router.get("/games/{int:game_id}/holders", response=HolderPage)
def list_holders(request: HttpRequest, game_id: int, q: str = "", offset: Offset = 0, limit: Limit = 100):
    """What holds streams, those with the most first."""
    return files.holders(one(Game.objects.all(), game_id), q, offset, limit)


@router.get("/games/{int:game_id}/places", response=PlacePage)
def list_places(request: HttpRequest, game_id: int, within: str = "", offset: Offset = 0, limit: Limit = 100):
    """The folders, archives and banks in one of them ("" is the game's own folder) that hold streams."""
    return files.places(one(Game.objects.all(), game_id), within, offset, limit)

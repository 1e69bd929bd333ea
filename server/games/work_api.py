"""Keys, names, comparisons and taking out in the API."""

from __future__ import annotations

from datetime import datetime

from django.http import FileResponse, HttpRequest, StreamingHttpResponse
from ninja import Router, Schema

from ..errors import one, stopped
from ..jobs.api import JobOut
from ..jobs.models import Job
from ..paging import Limit, Offset
from ..shelf.filters import Filter
from ..tidy import tidy_up
from . import changes, keyring, sounds_out, taking_out
from .models import ExportFolder, Game, Key, NameList, Survey
from .surveying import start_survey

router = Router()


# Keys ------------------------------------------------------------------------------------------


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
def list_keys(request: HttpRequest, game_id: int):
    """The key ring of a game."""
    keys = one(Game.objects.all(), game_id).keys.order_by("pk").prefetch_related("choices")
    return [keyring.key_out(k) for k in keys]


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


# Name lists ----------------------------------------------------------------------------------------


class NamesIn(Schema):
    """A name list for an archive: its lines."""

    path: str
    title: str = "name list"
    text: str


class NamesOut(Schema):
    """A name list."""

    id: int
    path: str
    title: str
    lines: int


def _names_out(row: NameList) -> dict:
    return {"id": row.pk, "path": row.path, "title": row.title, "lines": len(row.text.splitlines())}


@router.get("/games/{int:game_id}/names", response=list[NamesOut])
def list_names(request: HttpRequest, game_id: int):
    """The name lists of a game."""
    return [_names_out(n) for n in one(Game.objects.all(), game_id).name_lists.order_by("path")]


@router.post("/games/{int:game_id}/names", response=NamesOut)
def add_names(request: HttpRequest, game_id: int, data: NamesIn):
    """Give names to the entries of an archive; the archive is surveyed again."""
    game = one(Game.objects.all(), game_id)
    if not data.text.strip():
        raise stopped(422, "The name list is empty.", "Choose a text file with a path on each line.", data.title)
    game.name_lists.filter(path=data.path).delete()
    row = NameList.objects.create(game=game, path=data.path, title=data.title[:300], text=data.text)
    start_survey(game, changed=True)
    return _names_out(row)


@router.delete("/names/{int:names_id}", response={204: None})
def remove_names(request: HttpRequest, names_id: int):
    """Take a name list away; the archive is surveyed again."""
    row = one(NameList.objects.select_related("game"), names_id)
    row.delete()
    start_survey(row.game, changed=True)
    return 204, None


# Comparing surveys ---------------------------------------------------------------------------------


class SurveyLine(Schema):
    """A survey in the list of all."""

    id: int
    game: str
    game_id: int
    label: str
    build: str
    finished: datetime
    files: int
    archives: int


class LabelIn(Schema):
    """A survey's label."""

    label: str


class ChangeOut(Schema):
    """One change; sizes in bytes, null where there is no such side."""

    id: int
    kind: str
    file: str
    path: str
    old_path: str
    old_size: int | None
    new_size: int | None
    detail: str


class Changes(Schema):
    """A page of changes, and how many there are of each kind. made: when the two were compared, null where they were not;
    fresh: no more contents are known since."""

    made: datetime | None
    fresh: bool
    counts: dict[str, int]
    total: int
    rows: list[ChangeOut]


@router.get("/surveys", response=list[SurveyLine])
def list_surveys(request: HttpRequest):
    """All finished surveys, the newest first."""
    return [
        {
            "id": s.pk,
            "game": s.game.name,
            "game_id": s.game_id,
            "label": s.label,
            "build": s.game.build,
            "finished": s.finished,
            "files": s.files,
            "archives": s.archives,
        }
        for s in Survey.objects.filter(finished__isnull=False).select_related("game").order_by("-pk")[:500]
    ]


@router.patch("/surveys/{int:survey_id}", response={204: None})
def label_survey(request: HttpRequest, survey_id: int, data: LabelIn):
    """Give a survey a label, such as the game's build."""
    survey = one(Survey.objects.all(), survey_id)
    survey.label = data.label.strip()[:60]
    survey.save(update_fields=["label"])
    return 204, None


@router.delete("/surveys/{int:survey_id}", response={204: None})
def forget_survey(request: HttpRequest, survey_id: int):
    """Forget a survey that is not the newest of its game."""
    survey = one(Survey.objects.select_related("game"), survey_id)
    if survey == survey.game.current_survey():
        raise stopped(409, "This is the newest survey.", "Survey again first, or forget the game.")
    Survey.objects.filter(pk=survey.pk).update(finished=None)
    tidy_up()
    return 204, None


def _pair(old: int, new: int) -> tuple[Survey, Survey]:
    rows = Survey.objects.filter(finished__isnull=False).select_related("game")
    return one(rows, old), one(rows, new)


@router.post("/changes/{int:old}/{int:new}", response=JobOut)
def compare(request: HttpRequest, old: int, new: int):
    """Compare two surveys, as a job."""
    return changes.start_comparing(*_pair(old, new))


@router.get("/changes/{int:old}/{int:new}", response=Changes)
def list_changes(
    request: HttpRequest, old: int, new: int, kind: str = "", q: str = "", offset: Offset = 0, limit: Limit = 100
):
    """What changed from one survey to another, as far as they have been compared."""
    pair = _pair(old, new)
    made = changes.made(*pair)
    if made is None:
        return {"made": None, "fresh": False, "counts": {}, "total": 0, "rows": []}
    rows = changes.filtered(made, kind, q)
    page = rows[offset : offset + limit]
    fresh = made.unread == changes.unread(*pair)
    return {
        "made": made.made,
        "fresh": fresh,
        "counts": made.counts,
        "total": changes.number(made, kind, q),
        "rows": page,
    }


@router.get("/changes/{int:old}/{int:new}/csv")
def changes_csv(request: HttpRequest, old: int, new: int, kind: str = "", q: str = ""):
    """The same as a CSV file."""
    made = changes.made(*_pair(old, new))
    if made is None:
        raise stopped(409, "These surveys have not been compared yet.", "Open What changed, and wait for the answer.")
    rows = changes.filtered(made, kind, q)
    response = StreamingHttpResponse(changes.as_csv(rows), content_type="text/csv; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="changes {old} to {new}.csv"'
    return response


# Taking out ----------------------------------------------------------------------------------------


class TakeOutIn(Schema):
    """What is taken out: chosen entries, or an archive (0: the whole game) and a filter; and where to.

    folder: a whole path, or empty for a ZIP file to download.
    """

    archive: int = 0
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


@router.get("/export-folders", response=list[str])
def export_folders(request: HttpRequest):
    """Folders that were named before, the newest first."""
    return list(ExportFolder.objects.order_by("-pk").values_list("path", flat=True)[:20])


@router.post("/games/{int:game_id}/take-out/plan", response=TakeOutPlan)
def plan_taking_out(request: HttpRequest, game_id: int, data: TakeOutIn):
    """How much it would be, and whether there is room."""
    game = one(Game.objects.all(), game_id)
    rows = taking_out.entries_of(game, data.archive, data.q, data.entries)
    return taking_out.plan(game, rows, data.flat, data.folder)


@router.post("/games/{int:game_id}/take-out", response=JobOut)
def take_out(request: HttpRequest, game_id: int, data: TakeOutIn):
    """Take entries out as a job."""
    game = one(Game.objects.all(), game_id)
    return taking_out.start_taking_out(game, data.archive, data.q, data.entries, data.flat, data.folder)


@router.post("/jobs/{int:job_id}/again", response=JobOut)
def take_out_again(request: HttpRequest, job_id: int):
    """Take out again what a job was to take out: it goes on from where that one ended."""
    job = one(Job.objects.select_related("game"), job_id)
    if job.kind not in ("extract", "sounds") or job.game is None:
        raise stopped(409, "Only taking out can go on like this.", "Start the work anew.")
    if job.kind == "sounds":
        args = {**job.args, "filter": Filter(**job.args["filter"])}
        return sounds_out.start_sounds_out(job.game, **args)
    return taking_out.start_taking_out(job.game, *(job.args[k] for k in ("archive", "q", "chosen", "flat", "folder")))


@router.get("/jobs/{int:job_id}/zip")
def taken_zip(request: HttpRequest, job_id: int):
    """The ZIP file that a job has made."""
    place = taking_out.zip_of(one(Job.objects.all(), job_id))
    return FileResponse(open(place, "rb"), as_attachment=True, filename=place.name)

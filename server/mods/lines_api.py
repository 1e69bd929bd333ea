"""Many streams in the API: as lines, put into a mod, matched with files, treated alike; and treatments under names."""

from __future__ import annotations

import json
from typing import Annotated, Any

from django.http import HttpRequest, HttpResponse
from django.utils.http import content_disposition_header
from ninja import Field, File, Query, Router, Schema
from ninja.files import UploadedFile

from zubret_core.swap import Treatment

from ..errors import one, stopped
from ..jobs.api import JobOut, ProblemOut
from ..paging import Limit, Offset
from ..shelf.api import StreamOut
from ..shelf.filters import Filter
from ..shelf.query import Question
from . import lines, many
from .api import TreatmentIn
from .models import Mod, Preset

router = Router()
SHARED = "zubret treatment"
"""What a file of a treatment says it is, with its version."""
Name = Annotated[str, Field(min_length=1, max_length=100)]


class TakenAudio(Schema):
    """An encoded take; loop [start, end) in frames; audio is its address."""

    audio: str
    rate: int
    channels: int
    frames: int
    loop: list[int] | None


class LineTake(Schema):
    """The take that a mod has of a line. state, verdict: as of a swap; level, original_level: loudness in LUFS, null where there
    is nothing to measure."""

    id: int
    state: str
    verdict: str
    source_name: str
    new: TakenAudio | None
    level: float | None
    original_level: float | None
    error: ProblemOut | None


class LineOut(Schema):
    """A stream as a spoken line."""

    stream: StreamOut
    take: LineTake | None


class LinePage(Schema):
    """Some lines, with the number, seconds and bytes of all that match, where these are asked for."""

    total: int | None
    seconds: float | None
    bytes: int | None
    rows: list[LineOut]


class LineProgress(Schema):
    """How far the lines of a language are: how many there are, of which a text is known, that have a take, that fit, that are
    done."""

    language: str
    lines: int
    spoken: int
    taken: int
    fit: int
    done: int


class MatchIn(Schema):
    """Paths of files below a dropped folder, and streams by their numbers, in their order. template: what of a path is what;
    by_order: the first file is the first stream's."""

    paths: list[str]
    chosen: list[int]
    template: str = ""
    by_order: bool = False


class MatchOut(Schema):
    """A file and its stream, and how it was found: by template, id, name or order. taken: whether the mod has a take of it."""

    path: str
    stream: int
    stream_id: str
    language: str
    bank: str
    how: str
    taken: bool


class DoubtOut(Schema):
    """Files that are meant for one stream, or streams that one file may be meant for, as people read them."""

    files: list[str]
    streams: list[str]


class MatchesOut(Schema):
    """What a folder is matched to. left: files for which there is no stream; without: streams for which there is none, as people
    read them; of both the first, and how many."""

    found: list[MatchOut]
    doubts: list[DoubtOut]
    left: list[str]
    lefts: int
    without: list[str]
    withouts: int


class AlikeIn(Schema):
    """Takes by their numbers, or those that the mod has of streams; steps to change in all of them; fit: whether what each one's
    report proposes is done; median: bring all to the median loudness of their originals; back: undo the last step instead."""

    swaps: list[int] = []
    chosen: list[int] = []
    steps: TreatmentIn | None = None
    fit: bool = False
    back: bool = False
    median: bool = False


class AlikeOut(Schema):
    """The takes that are treated, and the job that does it."""

    swaps: list[int]
    job: JobOut


class PresetIn(Schema):
    """Steps of a treatment under a name."""

    name: Name
    steps: TreatmentIn


class PresetOut(Schema):
    """The same; its steps are those that were given."""

    id: int
    name: str
    steps: dict[str, Any]


class PutInIn(Schema):
    """Streams by their numbers; source: original, silence, or none, which removes their swaps. Of the original: gain_db, or with
    match "number" the loudness to which each is brought, lufs."""

    chosen: list[int]
    source: str
    gain_db: float = 0.0
    match: str = ""
    lufs: float = -23.0


class PutInOut(Schema):
    """The swaps that were made, those that were set aside for them, and how many streams were left out: skipped, since a file of
    the mod takes the place of the whole entry in which they stand; unable, since their codec can't be written."""

    swaps: list[int]
    aside: list[int]
    skipped: int = 0
    unable: int = 0


@router.post("/mods/{int:mod_id}/put-in", response=PutInOut)
def put_in(request: HttpRequest, mod_id: int, data: PutInIn):
    """Put many streams into a mod at once: as they are, with a gain, equally loud, or as silence. A job prepares them."""
    return vars(many.put_in(_mod(mod_id), data.chosen, data.source, data.dict(include={"gain_db", "match", "lufs"})))


@router.post("/mods/{int:mod_id}/take-back", response=int)
def take_back(request: HttpRequest, mod_id: int, data: PutInOut):
    """Undo putting many in, by its answer: how many swaps went."""
    return many.take_back(_mod(mod_id), data.swaps, data.aside)


@router.get("/mods/{int:mod_id}/lines", response=LinePage)
def list_lines(
    request: HttpRequest,
    mod_id: int,
    filter: Query[Filter],
    sort: str = "",
    offset: Offset = 0,
    limit: Limit = 100,
    totals: bool = True,
):
    """The streams that a filter leaves, each with the take that the mod has of it."""
    mod = _mod(mod_id)
    return lines.page_of(mod, Question(mod.game, filter, sort), offset, limit, totals)


@router.get("/mods/{int:mod_id}/lines/progress", response=list[LineProgress])
def lines_progress(request: HttpRequest, mod_id: int, filter: Query[Filter]):
    """How far the lines that a filter leaves are, by language."""
    mod = _mod(mod_id)
    return lines.progress_of(mod, Question(mod.game, filter))


@router.post("/mods/{int:mod_id}/matches", response=MatchesOut)
def match_files(request: HttpRequest, mod_id: int, data: MatchIn):
    """Which file of a folder is meant for which stream; nothing is made."""
    return lines.matched(_mod(mod_id), data.chosen, data.paths, data.template, data.by_order)


@router.post("/mods/{int:mod_id}/alike", response=AlikeOut)
def treat_alike(request: HttpRequest, mod_id: int, data: AlikeIn):
    """Treat many takes alike and prepare them, as one job."""
    mod = _mod(mod_id)
    swaps = data.swaps or many.of_streams(mod, data.chosen)
    steps = data.steps.steps() if data.steps else {}
    job = many.prepare(mod, swaps, many.Alike(steps, data.fit, data.back, data.median))
    return {"swaps": swaps, "job": job}


@router.get("/presets", response=list[PresetOut])
def list_presets(request: HttpRequest):
    """All treatments that have a name."""
    return Preset.objects.order_by("name")


@router.post("/presets", response=PresetOut)
def keep_preset(request: HttpRequest, data: PresetIn):
    """Keep steps of a treatment under a name; what the name had before goes."""
    steps = data.steps.steps()
    Treatment.from_dict(steps)
    preset, _ = Preset.objects.update_or_create(name=data.name.strip(), defaults={"steps": steps})
    return preset


@router.get("/presets/{int:preset_id}/file")
def preset_file(request: HttpRequest, preset_id: int):
    """A treatment as a file for somebody else."""
    preset = one(Preset.objects.all(), preset_id)
    text = json.dumps({SHARED: 1, "name": preset.name, "steps": preset.steps}, indent=2, ensure_ascii=False)
    answer = HttpResponse(text + "\n", content_type="application/json; charset=utf-8")
    answer["Content-Disposition"] = str(content_disposition_header(True, f"{preset.name}.treatment.json"))
    return answer


@router.post("/presets/file", response=PresetOut)
def bring_preset(request: HttpRequest, file: File[UploadedFile]):
    """Keep a treatment that somebody shared; what its name had before goes."""
    try:
        data = json.loads(file.read(1 << 20).decode("utf-8-sig"))
        if data.pop(SHARED) != 1:
            raise ValueError
        shared = PresetIn(**data)
    except (ValueError, KeyError, TypeError, AttributeError) as e:
        raise stopped(
            422, "This is no file of a treatment.", "Ask for one that Zubret gave out.", file.name or ""
        ) from e
    return keep_preset(request, shared)


@router.delete("/presets/{int:preset_id}", response={204: None})
def forget_preset(request: HttpRequest, preset_id: int):
    """Forget a treatment's name."""
    one(Preset.objects.all(), preset_id).delete()
    return 204, None


def _mod(pk: int) -> Mod:
    return one(Mod.objects.select_related("game"), pk)

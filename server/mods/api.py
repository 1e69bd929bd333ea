"""Swaps, rebuilds and trial runs in the API."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Annotated, Any

from django.http import FileResponse, HttpRequest
from ninja import Field, File, Form, Router, Schema
from ninja.files import UploadedFile

from ..errors import one, stopped
from ..jobs.api import JobOut, ProblemOut
from ..paging import MOST, Limit, Offset
from ..shelf.api import Ribbon, StreamOut
from ..shelf.models import Archive, Entry, Stream, streams_of, unpack_locator
from ..shelf.query import described, stream_out
from . import entry_files, rebuilding, services
from .models import Build, EntryFile, Mod, Swap, Trial

router = Router()
Frames = Annotated[int, Field(ge=0, lt=1 << 53)]
"""What is read along with a stream."""


class PointOut(Schema):
    """A line of the fit report; verdict: fits, can be fitted or blocks."""

    key: str
    label: str
    original: str
    new: str
    verdict: str
    action: str
    fixable: bool
    required: bool


class TreatmentIn(Schema):
    """Steps to change; what is left out, or null, stays. Frames count in the file's own rate."""

    trim_start: Frames | None = None
    trim_end: Frames | None = None
    loop: str | None = None
    loop_start: Frames | None = None
    loop_end: Frames | None = None
    resample: bool | None = None
    mix: bool | None = None
    gain_db: float | None = None
    align: str | None = None

    def steps(self) -> dict[str, Any]:
        """The steps that are given; only `trim_end` may be null, which is the file's end."""
        return {k: v for k, v in self.dict(exclude_unset=True).items() if v is not None or k == "trim_end"}


class TreatmentOut(Schema):
    """All steps of a treatment."""

    trim_start: int
    trim_end: int | None
    loop: str
    loop_start: int
    loop_end: int
    resample: bool
    mix: bool
    gain_db: float
    align: str


class SourceInfo(Schema):
    """The replacement file: loop and frames in its own rate."""

    rate: int
    channels: int
    frames: int
    loop: list[int] | None
    peak_db: float
    variant: str


class LoopNote(Schema):
    """A loop of a file, [start, end) in its frames; way: forward is played, others are only shown."""

    start: int
    end: int
    way: str


class CueNote(Schema):
    """A cue point and its label."""

    frame: int
    label: str


class FileNotes(Schema):
    """What a replacement file says besides its samples."""

    loops: list[LoopNote]
    cues: list[CueNote]


class NewAudio(Schema):
    """The encoded result; loop [start, end) in frames of the stream's rate; audio is its address."""

    audio: str
    rate: int
    channels: int
    frames: int
    loop: list[int] | None
    block_frames: int
    snr_db: float | None
    size: int


class SwapOut(Schema):
    """A swap. state: reading, open (points to fit), preparing, ready or failed."""

    id: int
    state: str
    verdict: str
    source_name: str
    source_audio: str
    place: str
    stream: StreamOut | None
    info: SourceInfo | None
    treatment: TreatmentOut
    pad: int
    cut: int
    points: list[PointOut]
    changes_too: list[str]
    new: NewAudio | None
    error: ProblemOut | None


class FitIn(Schema):
    """The point to fit, or "all"."""

    point: str = "all"


class RebuildIn(Schema):
    """With `tight` everything is laid out afresh, without free space; with `deep` the proof decodes what nobody touched,
    too, in every bank that is rebuilt."""

    tight: bool = False
    deep: bool = False


class EntryFileOut(Schema):
    """A file that goes into an archive as it is; adds tells whether its entry is new."""

    id: int
    archive: str
    entry: str
    adds: bool
    source_name: str
    size: int


class PlacedFile(Schema):
    """Where a file goes in a rebuild."""

    place: str
    adds: bool


class SuspectOut(Schema):
    """A number that no tie explains but that says an old place: where, what it equals, and the line that would tie it."""

    file: str
    place: str
    evidence: str
    line: str


class FilePlanOut(Schema):
    """A file that a rebuild writes, before and after; note tells why where no stream and no entry does."""

    path: str
    size_before: int
    size: int
    in_place: bool
    moved: int
    entries: int
    note: str
    streams: list[str]
    files: list[PlacedFile]
    suspects: list[SuspectOut] = []
    before: Ribbon
    after: Ribbon


class ProofOut(Schema):
    """A measured fact of a proof; doubt: it holds, but should be looked at."""

    file: str
    label: str
    expected: str
    found: str
    ok: bool
    doubt: bool = False


class ResultOut(Schema):
    """A swapped stream in the rebuilt files."""

    swap_id: int
    title: str
    audio: str


class TrialIn(Schema):
    """Which swap to play, and how often its loop."""

    swap_id: int
    loops: int = 2


class TrialOut(Schema):
    """A trial run; played is null while it runs; audio is the address of what was played."""

    id: int
    title: str
    loops: int
    played: bool | None
    why: str
    log: list[str]
    rate: int
    channels: int
    frames: int
    audio: str


class BuildOut(Schema):
    """A rebuild. state: writing, proving, proved or not proved."""

    id: int
    state: str
    tight: bool
    fresh: bool
    created: datetime
    files: list[FilePlanOut]
    proof: list[ProofOut]
    results: list[ResultOut]
    trials: list[TrialOut]


class TrialStarted(Schema):
    """The trial and the job that runs it."""

    trial: TrialOut
    job: JobOut


def swap_out(swap: Swap) -> dict[str, Any]:
    """A swap as the API gives it."""
    game = swap.mod.game
    return _swap_out(swap, described(streams_of(game).filter(locator=swap.locator), game).first())


def _swap_out(swap: Swap, row: Stream | None) -> dict[str, Any]:
    """A swap, and its stream in the newest survey."""
    report = swap.report or {}
    stream = stream_out(row) if row else None
    new = None
    if swap.prepared:
        format = swap.prepared["format"]
        new = {
            **{k: format[k] for k in ("rate", "channels", "frames", "loop")},
            "audio": f"n{swap.pk}.{swap.prepared['digest']}",
            "block_frames": stream["block_frames"] if stream else 1,
            "snr_db": swap.prepared["snr_db"],
            "size": swap.prepared["size"],
        }
    points = [{**p, "fixable": bool(p["fix"])} for p in report.get("points", [])]
    return {
        "id": swap.pk,
        "state": swap.state,
        "verdict": report.get("verdict", ""),
        "source_name": swap.source_name,
        "source_audio": f"u{swap.pk}.{Path(swap.source_path).stem}",
        "place": str(unpack_locator(swap.locator)),
        "stream": stream,
        "info": swap.info,
        "treatment": swap.treatment,
        "pad": report.get("pad", 0),
        "cut": report.get("cut", 0),
        "points": points,
        "changes_too": report.get("changes_too", []),
        "new": new,
        "error": swap.error,
    }


def _swap(pk: int) -> Swap:
    return one(Swap.objects.select_related("mod__game"), pk)


@router.get("/mods/{int:mod_id}/swaps", response=list[SwapOut])
def list_swaps(request: HttpRequest, mod_id: int, offset: Offset = 0, limit: Limit = MOST):
    """The swaps of a mod."""
    mod = one(Mod.objects.select_related("game"), mod_id)
    swaps = list(mod.live_swaps()[offset : offset + limit])
    streams = described(streams_of(mod.game).filter(locator__in=[s.locator for s in swaps]), mod.game)
    rows = {row.locator: row for row in streams}
    return [_swap_out(s, rows.get(s.locator)) for s in swaps]


@router.post("/mods/{int:mod_id}/swaps", response=SwapOut)
def create_swap(request: HttpRequest, mod_id: int, stream_id: Form[int], file: File[UploadedFile]):
    """Replace a stream by an audio file."""
    mod = one(Mod.objects.select_related("game"), mod_id)
    stream = one(Stream.objects.select_related("archive"), stream_id)
    if stream.archive.game_id != mod.game_id:
        raise stopped(422, "This stream belongs to another game.", "Choose a stream of the mod's game.")
    return swap_out(services.create_swap(mod, stream, file))


@router.get("/swaps/{int:swap_id}", response=SwapOut)
def get_swap(request: HttpRequest, swap_id: int):
    """One swap."""
    return swap_out(_swap(swap_id))


@router.get("/swaps/{int:swap_id}/notes", response=FileNotes)
def swap_notes(request: HttpRequest, swap_id: int):
    """The loops and the cue points that a replacement file carries, a WAV file's all of them."""
    return services.notes_of_upload(_swap(swap_id))


@router.patch("/swaps/{int:swap_id}", response=SwapOut)
def change_swap(request: HttpRequest, swap_id: int, steps: TreatmentIn):
    """Change the treatment."""
    return swap_out(services.change_swap(_swap(swap_id), steps.steps()))


@router.post("/swaps/{int:swap_id}/fit", response=SwapOut)
def fit_swap(request: HttpRequest, swap_id: int, data: FitIn):
    """Do what the fit report proposes."""
    return swap_out(services.fit(_swap(swap_id), data.point))


@router.delete("/swaps/{int:swap_id}", response={204: None})
def remove_swap(request: HttpRequest, swap_id: int):
    """Remove a swap; it can be restored."""
    services.remove_swap(_swap(swap_id))
    return 204, None


@router.post("/swaps/{int:swap_id}/restore", response=SwapOut)
def restore_swap(request: HttpRequest, swap_id: int):
    """Bring back a removed swap."""
    return swap_out(services.restore_swap(_swap(swap_id)))


@router.get("/mods/{int:mod_id}/files", response=list[EntryFileOut])
def list_files(request: HttpRequest, mod_id: int, offset: Offset = 0, limit: Limit = MOST):
    """The files that the mod puts into archives as they are."""
    return [_file_out(f) for f in one(Mod.objects.all(), mod_id).live_files()[offset : offset + limit]]


@router.post("/mods/{int:mod_id}/files", response=EntryFileOut)
def put_file(
    request: HttpRequest,
    mod_id: int,
    file: File[UploadedFile],
    entry_id: Form[int | None] = None,
    archive_id: Form[int | None] = None,
    path: Form[str] = "",
):
    """Put a file in the place of an entry, or add it to an archive under a path."""
    mod = one(Mod.objects.select_related("game"), mod_id)
    entry = one(Entry.objects.select_related("archive__game", "archive__outer"), entry_id) if entry_id else None
    archive = entry.archive if entry else one(Archive.objects.select_related("game", "outer"), archive_id or 0)
    if archive.game_id != mod.game_id:
        raise stopped(422, "This archive belongs to another game.", "Choose an archive of the mod's game.")
    if entry:
        return _file_out(entry_files.replace_entry(mod, entry, file))
    return _file_out(entry_files.add_entry(mod, archive, path, file))


@router.delete("/files/{int:file_id}", response={204: None})
def remove_file(request: HttpRequest, file_id: int):
    """Take a file out of the mod; it can be restored."""
    entry_files.remove(one(EntryFile.objects.all(), file_id))
    return 204, None


@router.post("/files/{int:file_id}/restore", response=EntryFileOut)
def restore_file(request: HttpRequest, file_id: int):
    """Bring back a removed file."""
    return _file_out(entry_files.restore(one(EntryFile.objects.select_related("mod"), file_id)))


def _file_out(file: EntryFile) -> dict[str, Any]:
    place = Path(file.source_path)
    return {
        "id": file.pk,
        "archive": file.shown_in,
        "entry": file.label,
        "adds": file.index is None,
        "source_name": file.source_name,
        "size": place.stat().st_size if place.exists() else 0,
    }


@router.get("/mods/{int:mod_id}/plan", response=list[FilePlanOut] | None)
def get_plan(request: HttpRequest, mod_id: int, tight: bool = False):
    """What a rebuild would write, as far as that was worked out for the mod as it is now; else null."""
    return rebuilding.newest_plan(one(Mod.objects.select_related("game"), mod_id), tight)


class PlanIn(Schema):
    """tight: lay archives and banks out afresh."""

    tight: bool = False


@router.post("/mods/{int:mod_id}/plan", response=JobOut)
def make_plan(request: HttpRequest, mod_id: int, data: PlanIn):
    """Work out what a rebuild would write, as a job."""
    return rebuilding.start_planning(one(Mod.objects.select_related("game"), mod_id), data.tight)


@router.post("/mods/{int:mod_id}/rebuild", response=JobOut)
def rebuild(request: HttpRequest, mod_id: int, data: RebuildIn):
    """Write new files and prove them."""
    return rebuilding.start_rebuild(one(Mod.objects.select_related("game"), mod_id), data.tight, data.deep)


@router.get("/mods/{int:mod_id}/build", response=BuildOut | None)
def latest_build(request: HttpRequest, mod_id: int):
    """The newest rebuild of a mod, or null."""
    mod = one(Mod.objects.all(), mod_id)
    build = mod.builds.order_by("-id").first()
    return _build_out(build) if build else None


def _build_out(build: Build) -> dict[str, Any]:
    done = build.state in (Build.PROVED, Build.FAILED)
    locators = dict(Swap.objects.filter(mod=build.mod_id).values_list("pk", "locator"))
    results = [
        {
            "swap_id": int(pk),
            "title": str(unpack_locator(locators[int(pk)])),
            "audio": f"r{pk}.{build.pk}-{digest}",
        }
        for pk, digest in build.made_of.items()
        if pk.isdigit() and int(pk) in locators
    ]
    return {
        "id": build.pk,
        "state": build.state,
        "tight": build.tight,
        "fresh": build.up_to_date(),
        "created": build.created,
        "files": build.files,
        "proof": build.proof,
        "results": results if done else [],
        "trials": [_trial_out(t) for t in build.trials.order_by("-id")[:20]],
    }


def _trial_out(trial: Trial) -> dict[str, Any]:
    out = {k: getattr(trial, k) for k in ("id", "title", "loops", "played", "why", "log", "rate", "channels", "frames")}
    return {**out, "audio": f"t{trial.pk}.{trial.digest}" if trial.played else ""}


@router.get("/builds/{int:build_id}/files/{int:number}")
def download(request: HttpRequest, build_id: int, number: int):
    """A rebuilt file."""
    build = one(Build.objects.all(), build_id)
    if number >= len(build.files):
        raise stopped(404, "The rebuild has no such file.", "Choose it from the list.")
    place = services.build_folder(build) / build.files[number]["path"]
    if not place.is_file():
        raise stopped(410, "The rebuilt file is no longer there.", "Rebuild again.", place.name)
    return FileResponse(open(place, "rb"), as_attachment=True, filename=place.name)


@router.post("/builds/{int:build_id}/trials", response=TrialStarted)
def start_trial(request: HttpRequest, build_id: int, data: TrialIn):
    """Play a swapped stream in the stand-in game."""
    build = one(Build.objects.select_related("mod__game"), build_id)
    trial, job = rebuilding.start_trial(build, _swap(data.swap_id), data.loops)
    return {"trial": _trial_out(trial), "job": job}


@router.get("/trials/{int:trial_id}", response=TrialOut)
def get_trial(request: HttpRequest, trial_id: int):
    """One trial run."""
    return _trial_out(one(Trial.objects.all(), trial_id))

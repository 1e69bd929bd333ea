"""Swaps, rebuilds and trial runs in the API."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Annotated, Any

from django.http import HttpRequest
from ninja import Field, File, Form, Router, Schema
from ninja.files import UploadedFile

from zubret_core.audio import AudioInfo, can_mix
from zubret_core.audio.mix import channel_names, usual_matrix
from zubret_core.base import ZubretError
from zubret_core.codec import codec_of
from zubret_core.codec.aim import can_aim
from zubret_core.swap import Treatment

from ..errors import one, stopped
from ..jobs.api import JobOut, ProblemOut
from ..paging import MOST, Limit, Offset
from ..shelf.api import StreamOut
from ..shelf.models import Archive, Entry, Stream, streams_of, unpack_locator
from ..shelf.query import described, stream_out
from . import entry_files, loops, services, takes, treating
from .models import EntryFile, Mod, Swap

router = Router()
Frames = Annotated[int, Field(ge=0, lt=1 << 53)]
Weights = Annotated[list[float], Field(min_length=1, max_length=64)]


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


class FoundLoopOut(Schema):
    """A loop that a file could have, half-open in its frames. waveform, spectrum: how like each other what is heard around both
    ends is, of 1; step_db: from the level before the end to that behind the start; bars: of four beats, null where the tempo is
    not steady or they are not whole."""

    start: int
    end: int
    waveform: float
    spectrum: float
    step_db: float
    seconds: float
    bars: int | None


class LoopsOut(Schema):
    """The newest job that looked for loops, and what it found, the likeliest first; null as long as nothing is known."""

    job: JobOut | None
    loops: list[FoundLoopOut] | None


class BeatsOut(Schema):
    """The newest job that measured beats, and seconds from beat to beat in the original and in what the swap begins from; null where
    no beat is steady, or nothing is known yet."""

    job: JobOut | None
    original: float | None
    new: float | None


class SeamOut(Schema):
    """The seam of a prepared loop. step_db: from the level before its end to that behind its start; click_db: above what is usual
    around it (0); spectrum_db, usual_db: how far the spectra at both sides are apart, and those of neighbouring moments; heard:
    the waveform across it, [-1, 1); goes_on: what stands behind the end; ups: rising zero crossings before and behind the start
    and the end, in frames of the stream."""

    step_db: float
    click_db: float
    spectrum_db: float
    usual_db: float
    heard: list[float]
    goes_on: list[float]
    ups: list[list[int]]


class TreatmentOut(Schema):
    """All steps of a treatment, in the order in which they are done. Frames count in the file's own rate; fades and
    extend_seconds are in s, silence_db in dBFS, lufs in LUFS, ceiling_db in dBTP, bit_rate in bits a second. gain_db counts where match is empty, lufs where
    it is "number"; matrix: a row of weights for each channel of the original, null for the usual ones."""

    trim_start: int
    trim_end: int | None
    cut_silence: bool
    silence_db: int
    loop: str
    loop_start: int
    loop_end: int
    loop_scale: float
    more_loops: str
    declick_ms: float
    extend: str
    extend_times: int
    extend_seconds: float
    extend_end: str
    fade_in: float
    fade_out: float
    resample: bool
    mix: bool
    matrix: list[list[float]] | None
    tempo: float
    length: str
    gain_db: float
    match: str
    lufs: float
    ceiling_db: float
    limit: bool
    align: str
    bits: str
    bit_rate: int


class TreatmentIn(Schema):
    """Steps to change, as `TreatmentOut` has them; what is left out stays, and so does what is null, but for trim_end and matrix.
    new_loop: the loop's start and end in frames of the encoded stream."""

    trim_start: Frames | None = None
    trim_end: Frames | None = None
    cut_silence: bool | None = None
    silence_db: int | None = None
    loop: str | None = None
    loop_start: Frames | None = None
    loop_end: Frames | None = None
    loop_scale: float | None = None
    more_loops: str | None = None
    declick_ms: float | None = None
    extend: str | None = None
    extend_times: int | None = None
    extend_seconds: float | None = None
    extend_end: str | None = None
    fade_in: float | None = None
    fade_out: float | None = None
    resample: bool | None = None
    mix: bool | None = None
    matrix: Annotated[list[Weights], Field(min_length=1, max_length=64)] | None = None
    tempo: float | None = None
    length: str | None = None
    gain_db: float | None = None
    match: str | None = None
    lufs: float | None = None
    ceiling_db: float | None = None
    limit: bool | None = None
    align: str | None = None
    bits: str | None = None
    bit_rate: int | None = None
    new_loop: list[Frames] | None = Field(None, min_length=2, max_length=2)

    def steps(self) -> dict[str, Any]:
        """The steps that are given."""
        given = self.dict(exclude_unset=True, exclude={"new_loop"})
        return {k: v for k, v in given.items() if v is not None or k in ("trim_end", "matrix")}


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


class Becomes(Schema):
    """The stream that a treatment leads to, encoded or not; loop [start, end) in its frames."""

    rate: int
    channels: int
    frames: int
    loop: list[int] | None


class MixOut(Schema):
    """The usual mix of a file's channels, across, to the stream's: their names, and a row of weights for each of the stream's."""

    columns: list[str]
    rows: list[str]
    weights: list[list[float]]


class SwapOut(Schema):
    """One take of a swap; the chosen one is what the mod has. state: held (sent, not prepared yet), reading, open (points to fit), preparing, ready or failed;
    source: what it begins from, file, original, silence or stream; loop: the one that is put in, in frames of the file; becomes:
    null where the treatment is impossible; aims: whether its encoder can be told how many bits to take; key: the same for all takes of one stream; undos, redos: steps before and behind."""

    id: int
    key: str
    chosen: bool
    state: str
    verdict: str
    source: str
    source_name: str
    source_audio: str
    place: str
    stream: StreamOut | None
    info: SourceInfo | None
    treatment: TreatmentOut
    loop: list[int] | None
    becomes: Becomes | None
    mix: MixOut | None
    aims: bool
    undos: int
    redos: int
    points: list[PointOut]
    changes_too: list[str]
    new: NewAudio | None
    error: ProblemOut | None


class FitIn(Schema):
    """The point to fit, or "all"."""

    point: str = "all"


class EntryFileOut(Schema):
    """A file that goes into an archive as it is; adds tells whether its entry is new."""

    id: int
    archive: str
    entry: str
    adds: bool
    source_name: str
    size: int


class TakeIn(Schema):
    """A stream, and the other one that is to be heard in its place."""

    stream: int
    other: int


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
        "key": hashlib.blake2b(swap.locator.encode(), digest_size=8).hexdigest(),
        "chosen": swap.chosen,
        "state": swap.state,
        "verdict": report.get("verdict", ""),
        "source": swap.source,
        "source_name": swap.source_name,
        "source_audio": f"u{swap.pk}.{swap.source_key()}",
        "place": str(unpack_locator(swap.locator)),
        "stream": stream,
        "info": swap.info,
        "treatment": Treatment.from_dict(swap.treatment).as_dict(),
        "loop": _loop_of(swap, row),
        "becomes": report.get("format"),
        "mix": _mix_of(swap, stream["channels"]) if stream else None,
        "aims": row is not None and can_aim(codec_of(row.format()), row.format()),
        "undos": swap.undos,
        "redos": swap.redos,
        "points": points,
        "changes_too": report.get("changes_too", []),
        "new": new,
        "error": swap.error,
    }


def _loop_of(swap: Swap, row: Stream | None) -> list[int] | None:
    if swap.info is None or row is None:
        return None
    try:
        loop = Treatment.from_dict(swap.treatment).loop_of(AudioInfo.from_dict(swap.info), row.format())
    except ZubretError:  # of a part that can't be, which the report says
        return None
    return None if loop is None else [loop.start, loop.end]


def _mix_of(swap: Swap, channels: int) -> dict[str, Any] | None:
    """Where a swap needs a mix, or has one of its own."""
    have = swap.info["channels"] if swap.info else channels
    if have == channels and not swap.treatment.get("matrix"):
        return None
    weights = usual_matrix(have, channels) if can_mix(have, channels) else ((0.0,) * have,) * channels
    return {"columns": channel_names(have), "rows": channel_names(channels), "weights": weights}


def _swap(pk: int) -> Swap:
    return one(Swap.objects.select_related("mod__game"), pk)


@router.get("/mods/{int:mod_id}/swaps", response=list[SwapOut])
def list_swaps(request: HttpRequest, mod_id: int, offset: Offset = 0, limit: Limit = MOST):
    """The swaps of a mod, all their takes."""
    mod = one(Mod.objects.select_related("game"), mod_id)
    swaps = list(mod.takes()[offset : offset + limit])
    streams = described(streams_of(mod.game).filter(locator__in=[s.locator for s in swaps]), mod.game)
    rows = {row.locator: row for row in streams}
    return [_swap_out(s, rows.get(s.locator)) for s in swaps]


@router.post("/mods/{int:mod_id}/swaps", response=SwapOut)
def create_swap(
    request: HttpRequest, mod_id: int, stream_id: Form[int], file: File[UploadedFile], waits: Form[bool] = False
):
    """Replace a stream by an audio file: a new take, which is chosen; others wait. One that waits is prepared when it is asked
    for, many together."""
    return swap_out(takes.from_file(*_stream_for(mod_id, stream_id), file, waits))


@router.post("/mods/{int:mod_id}/takes", response=SwapOut)
def take_stream(request: HttpRequest, mod_id: int, data: TakeIn):
    """Replace a stream by another one of the same game: a new take, which is chosen; others wait."""
    mod, stream = _stream_for(mod_id, data.stream)
    return swap_out(takes.from_stream(mod, stream, _stream_for(mod_id, data.other)[1]))


def _stream_for(mod_id: int, stream_id: int) -> tuple[Mod, Stream]:
    mod = one(Mod.objects.select_related("game"), mod_id)
    stream = one(Stream.objects.select_related("archive"), stream_id)
    if stream.archive.game_id != mod.game_id:
        raise stopped(422, "This stream belongs to another game.", "Choose a stream of the mod's game.")
    return mod, stream


@router.get("/swaps/{int:swap_id}", response=SwapOut)
def get_swap(request: HttpRequest, swap_id: int):
    """One swap."""
    return swap_out(_swap(swap_id))


@router.get("/swaps/{int:swap_id}/notes", response=FileNotes)
def swap_notes(request: HttpRequest, swap_id: int):
    """The loops and the cue points that a replacement file carries, a WAV file's all of them."""
    return services.notes_of_upload(_swap(swap_id))


@router.get("/swaps/{int:swap_id}/seam", response=SeamOut | None)
def seam(request: HttpRequest, swap_id: int):
    """The seam of a swap's loop, of what the game will play, in numbers; null where nothing is prepared, or nothing loops."""
    found = services.seam_of_result(_swap(swap_id))
    return vars(found) if found else None


@router.get("/swaps/{int:swap_id}/loops", response=LoopsOut)
def found_loops(request: HttpRequest, swap_id: int):
    """The loops that were found in the part of a swap's file which is used now."""
    job, found = loops.found(_swap(swap_id))
    return {"job": job, "loops": found.loops if found else None}


@router.get("/swaps/{int:swap_id}/beats", response=BeatsOut)
def measured_beats(request: HttpRequest, swap_id: int):
    """How long a beat is in the original and in the part of a swap's file which is used now."""
    job, found = loops.beats(_swap(swap_id))
    return {"job": job, "original": found.original if found else None, "new": found.new if found else None}


@router.post("/swaps/{int:swap_id}/beats", response=JobOut)
def measure_beats(request: HttpRequest, swap_id: int):
    """Measure how long a beat is in both, as a job."""
    return loops.measure_beats(_swap(swap_id))


@router.post("/swaps/{int:swap_id}/loops", response=JobOut)
def find_loops(request: HttpRequest, swap_id: int):
    """Look for loops in the part of a swap's file which is used now, as a job."""
    return loops.look(_swap(swap_id))


@router.patch("/swaps/{int:swap_id}", response=SwapOut)
def change_swap(request: HttpRequest, swap_id: int, steps: TreatmentIn):
    """Change the treatment."""
    return swap_out(treating.change(_swap(swap_id), steps.steps(), steps.new_loop))


@router.post("/swaps/{int:swap_id}/fit", response=SwapOut)
def fit_swap(request: HttpRequest, swap_id: int, data: FitIn):
    """Do what the fit report proposes."""
    return swap_out(treating.fit(_swap(swap_id), data.point))


@router.post("/swaps/{int:swap_id}/undo", response=SwapOut)
def undo_step(request: HttpRequest, swap_id: int):
    """The treatment as it was before its last change."""
    return swap_out(treating.undo(_swap(swap_id)))


@router.post("/swaps/{int:swap_id}/redo", response=SwapOut)
def redo_step(request: HttpRequest, swap_id: int):
    """The treatment as it was before the last undo."""
    return swap_out(treating.undo(_swap(swap_id), 1))


@router.post("/swaps/{int:swap_id}/choose", response=SwapOut)
def choose_take(request: HttpRequest, swap_id: int):
    """Have the mod take this take of its stream's swap."""
    return swap_out(takes.choose(_swap(swap_id)))


@router.delete("/swaps/{int:swap_id}", response={204: None})
def remove_swap(request: HttpRequest, swap_id: int, all_takes: bool = False):
    """Remove one take, or the swap with all its takes; what went together can be restored by any of them."""
    takes.remove(_swap(swap_id), all_takes)
    return 204, None


@router.post("/swaps/{int:swap_id}/restore", response=SwapOut)
def restore_swap(request: HttpRequest, swap_id: int):
    """Bring back what was removed with this take."""
    return swap_out(takes.restore(_swap(swap_id)))


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

"""Swaps from what they begin from to the encoded result."""

from __future__ import annotations

import hashlib
import json
import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from django.conf import settings

from zubret_core.audio import AudioInfo, look_through
from zubret_core.audio.files import PIECE, file_format
from zubret_core.audio.riff import Notes, notes_of
from zubret_core.audio.seam import Seam, seam_of
from zubret_core.bank import Stream as CoreStream
from zubret_core.base import Format, Passes, Progress, ZubretError, to_int16
from zubret_core.codec import CODECS, codec_of
from zubret_core.container import LaidOver
from zubret_core.source import FileSource, Source, write_file
from zubret_core.swap import (
    FILE,
    ORIGINAL,
    STREAM,
    Level,
    Prepared,
    Treatment,
    fit_report,
    level_of,
    original_source,
    prepare,
    silent_source,
)

from ..games.models import Game
from ..jobs.models import Job
from ..jobs.orders import Order
from ..jobs.run import start, work
from ..layouts.known import known_for
from ..shelf.models import Stream, streams_of, unpack_locator
from ..shelf.opening import disk_cache
from ..shelf.sound import Sound, open_original, opens
from .models import Build, Mod, Swap, Trial
from .uploads import mod_folder

TRY_AGAIN = "Press Try again, or drop another file."


def stream_row(swap: Swap) -> Stream | None:
    """The swapped stream in the newest survey."""
    return stream_at(swap.mod.game, swap.locator)


def stream_at(game: Game, locator: str) -> Stream | None:
    """A stream of the newest survey."""
    rows = streams_of(game).filter(locator=locator)
    return rows.select_related("archive__game", "archive__outer", "bank").first()


def source_of(swap: Swap, original: CoreStream | None = None) -> Source:
    """The audio file that a swap begins from; original: its stream in the newest survey, where that is open already."""
    if swap.source == FILE:
        return FileSource(swap.source_path, swap.source_name)
    if swap.source == STREAM:
        return original_source(open_original(_row_of(swap, swap.source_locator)))
    original = original or open_original(_row_of(swap, swap.locator))
    return original_source(original) if swap.source == ORIGINAL else silent_source(original)


def _row_of(swap: Swap, locator: str) -> Stream:
    row = stream_at(swap.mod.game, locator)
    if row is None:
        raise ZubretError(
            "The newest survey has no such stream.",
            file=str(unpack_locator(locator)),
            next="The game has changed: remove this swap and choose the stream anew.",
        )
    return row


def enqueue(swap: Swap) -> Job:
    """Have the worker prepare a swap."""
    return start(PrepareOrder(swap.pk), f"Preparing {swap.source_name}", swap.mod.game)


@dataclass(frozen=True)
class PrepareOrder(Order):
    """Prepare a swap, by its number."""

    kind: ClassVar[str] = "prepare"
    swap: int


@dataclass(frozen=True)
class SwapPrepared:
    """The state of the swap."""

    state: str


def _settle(job: Job, order: PrepareOrder, result: SwapPrepared | None) -> None:
    """A swap does not go on waiting for a job that came to no end."""
    again = Job.objects.filter(kind=order.kind, state__in=Job.OPEN, args__swap=order.swap)
    if result is not None or again.exists():
        return
    error = job.error or {"what": "Preparing was cancelled.", "where": "", "next": TRY_AGAIN}
    if job.state == Job.CUT_OFF:
        error = {**error, "next": TRY_AGAIN}
    waiting = Swap.objects.filter(pk=order.swap, state__in=(Swap.READING, Swap.PREPARING))
    waiting.update(state=Swap.FAILED, error=error, prepared=None)


@work("quick", _settle)
def prepare_swap(job: Job, order: PrepareOrder, progress: Progress) -> SwapPrepared:
    """Read the file, report, and encode where everything fits."""
    swap = Swap.objects.select_related("mod__game").get(pk=order.swap)
    state = prepared_now(swap, progress)
    forget_old_results(swap.mod)
    return SwapPrepared(state)


def prepared_now(swap: Swap, progress: Progress) -> str:
    """Prepare a swap, and again if its treatment changed meanwhile; its state then."""
    while True:
        revision = swap.revision
        values = _prepared_values(swap, progress)
        if Swap.objects.filter(pk=swap.pk, revision=revision).update(**values, error=None):
            return str(values["state"])
        swap.refresh_from_db()


def _prepared_values(swap: Swap, progress: Progress) -> dict[str, Any]:
    """What the row of a swap becomes."""
    original = open_original(_row_of(swap, swap.locator))
    values: dict[str, Any] = {"payload_digest": _digest(original.payload), "prepared": None}
    level = level_of_original(swap, original)
    values["original_level"] = level.as_dict()
    with source_of(swap, original) as source:
        known = measured(swap)
        bar = Passes(progress, 0 if known else 1, 3)
        info = known or look_through(source, bar[0])
        if swap.source != FILE:  # else its container and coding
            info = replace(info, variant=swap.source_name)
        values["info"] = info.as_dict()
        how = Treatment.from_dict(swap.treatment)
        report = fit_report(original, level, info, how)
        values["report"] = report.as_dict()
        values["state"] = Swap.OPEN
        if report.verdict == "fits":
            given = None if swap.source == ORIGINAL else source
            result = prepare(original, given, info, how, report, bar[1])
            values["prepared"], values["state"] = _keep(swap, result), Swap.READY
            values["report"] = fit_report(original, level, info, how, result.made).as_dict()
    return values


def level_of_original(swap: Swap, original: CoreStream | None = None) -> Level:
    """How loud the stream is that a swap replaces; it is kept with the swap. original: the stream, where it is open already."""
    if swap.original_level:
        return Level(**swap.original_level)
    level = _level_of(original or open_original(_row_of(swap, swap.locator)))
    Swap.objects.filter(pk=swap.pk).update(original_level=level.as_dict())
    return level


def measured(swap: Swap) -> AudioInfo | None:
    """The facts of what it begins from, where all are known that its treatment needs."""
    info = AudioInfo.from_dict(swap.info) if swap.info else None
    needs_edges = swap.treatment.get("cut_silence", False)
    return info if info and (info.knows_edges or not needs_edges) else None


def _level_of(stream: CoreStream) -> Level:
    """Taken piece by piece."""
    format = stream.format
    pieces = (stream.decode(at, min(PIECE, format.frames - at)) for at in range(0, format.frames, PIECE))
    return level_of(pieces, format.rate, format.channels)


def _digest(source: Source) -> str:
    value = hashlib.blake2b(digest_size=16)
    for piece in source.chunks():
        value.update(piece)
    return value.hexdigest()


def _keep(swap: Swap, result: Prepared) -> dict[str, Any]:
    """Write the payload below the mod's folder, by digest."""
    value = hashlib.blake2b(digest_size=16)
    for piece in result.payload.chunks():
        value.update(piece)
    value.update(json.dumps(result.format.as_dict()).encode())
    digest = value.hexdigest()
    write_file(result.payload, mod_folder(swap.mod) / "prepared" / f"{digest}.payload")
    return {
        "digest": digest,
        "format": result.format.as_dict(),
        "snr_db": None if math.isinf(result.snr_db) else result.snr_db,
        "size": result.payload.size,
        "level": result.level.as_dict(),
    }


def forget_old_results(mod: Mod) -> None:
    """Remove encoded results that no swap has any more, unless a rebuild may be reading them."""
    if Job.objects.filter(game=mod.game, kind="rebuild", state__in=Job.OPEN).exists():
        return
    used = {(s.prepared or {}).get("digest") for s in mod.swaps.all()}
    for file in (mod_folder(mod) / "prepared").glob("*"):
        if file.stem not in used or file.suffix == ".meant":  # which earlier versions kept
            try:
                file.unlink(missing_ok=True)
            except OSError:  # still being heard, on a system that locks open files: next time
                continue


def prepared_file(swap: Swap) -> Path:
    """The payload of a prepared swap."""
    return mod_folder(swap.mod) / "prepared" / f"{(swap.prepared or {})['digest']}.payload"


@opens("n")
def prepared_sound(swap_id: int, digest: str) -> Sound | None:
    """What the game will play: the encoded result, decoded."""
    swap = Swap.objects.filter(pk=swap_id).first()
    if swap is None or not swap.prepared:
        return None
    format = Format.from_dict(swap.prepared["format"])
    payload = FileSource(prepared_file(swap), swap.source_name)

    def decode(start: int, frames: int):
        return codec_of(format).decode(payload, format, start, frames)

    return Sound(swap.source_name, format, decode, swap.prepared["digest"])


def seam_of_result(swap: Swap) -> Seam | None:
    """The seam of what the game will play; None where nothing is prepared, or nothing loops."""
    sound = prepared_sound(swap.pk, "")
    if sound is None or sound.format.loop is None:
        return None
    return seam_of(sound.decode, sound.format.rate, sound.format.frames, sound.format.loop)


def notes_of_upload(swap: Swap) -> dict[str, Any]:
    """Loops and cue points that lie inside a replacement file."""
    frames = (swap.info or {}).get("frames", 0)
    with source_of(swap) as source:
        is_wav = source.size >= 12 and source.read(0, 4) == b"RIFF"
        notes = notes_of(source) if is_wav else Notes()
    loops = [
        {"start": lo.start, "end": lo.end, "way": way} for lo, way in notes.loops if 0 <= lo.start < lo.end <= frames
    ]
    return {"loops": loops, "cues": [{"frame": f, "label": text} for f, text in notes.cues if f <= frames]}


@opens("u")
def upload_sound(swap_id: int, digest: str) -> Sound | None:
    """What a swap begins from as it is, before any treatment: for drawing it while it does not fit yet."""
    swap = Swap.objects.select_related("mod__game").filter(pk=swap_id).first()
    if swap is None:
        return None
    source = source_of(swap)
    format = file_format(source)
    if format is None:
        return None

    def decode(start: int, frames: int) -> np.ndarray:
        return CODECS["file"].decode(source, format, start, frames)

    return Sound(swap.source_name, format, decode, swap.source_key())


@opens("r")
def result_sound(swap_id: int, digest: str) -> Sound | None:
    """The swapped stream as it stands in the newest rebuilt archive."""
    swap = Swap.objects.select_related("mod__game").filter(pk=swap_id).first()
    number, _, wanted = digest.partition("-")
    build = Build.objects.filter(pk=int(number)).first() if swap and number.isdigit() else None
    if swap is None or build is None or build.made_of.get(str(swap.pk)) != wanted:
        return None
    folder = LaidOver(Path(build.mod.game.folder), build_folder(build))
    locator = unpack_locator(swap.locator)
    stream = locator.stream(folder, known_for(build.mod.game), disk_cache(), f"build{build.pk}")
    return Sound(f"rebuilt {swap.source_name}", stream.format, stream.decode, digest)


def build_folder(build: Build) -> Path:
    """Where the files of a rebuild are."""
    return settings.DATA_DIR / "builds" / str(build.pk)


def trial_file(trial: Trial) -> Path:
    """The WAV of what the stand-in game played."""
    return settings.DATA_DIR / "trials" / f"{trial.pk}.wav"


@opens("t")
def trial_sound(trial_id: int, digest: str) -> Sound | None:
    """What the stand-in game played."""
    trial = Trial.objects.filter(pk=trial_id).first()
    if trial is None or trial.digest != digest or not trial.played:
        return None
    source = FileSource(trial_file(trial), trial.title)
    format = file_format(source)
    assert format is not None

    def decode(start: int, frames: int) -> np.ndarray:
        return to_int16(CODECS["file"].decode(source, format, start, frames))

    return Sound(f"trial of {trial.title}", format, decode, digest)

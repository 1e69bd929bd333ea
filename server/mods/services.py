"""Swaps from what they begin from to the encoded result."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from django.db.models import QuerySet

from zubret_core.audio.files import file_format
from zubret_core.audio.riff import Notes, notes_of
from zubret_core.audio.seam import Seam, seam_of
from zubret_core.bank import Bank
from zubret_core.bank import Stream as CoreStream
from zubret_core.base import Format, ZubretError, to_int16
from zubret_core.codec import CODECS, codec_of
from zubret_core.container import LaidOver
from zubret_core.locate import Locator, Spot
from zubret_core.source import FileSource, Source
from zubret_core.swap import (
    FILE,
    ORIGINAL,
    STORED,
    STREAM,
    original_source,
    silent_source,
    stored_source,
)

from ..games.folders import original_folder
from ..games.models import Game
from ..layouts.known import known_for
from ..shelf.models import Stream, streams_of, unpack_locator
from ..shelf.opening import disk_cache
from ..shelf.sound import Sound, open_original, opens
from .models import Build, Swap, Trial
from .uploads import mod_folder


def stream_row(swap: Swap) -> Stream | None:
    """The swapped stream in the newest survey."""
    return stream_at(swap.mod.game, swap.locator)


def stream_at(game: Game, locator: str) -> Stream | None:
    """A stream of the newest survey."""
    return with_places(streams_of(game).filter(locator=locator)).first()


def with_places(rows: QuerySet[Stream]) -> QuerySet[Stream]:
    """Streams with all that opening them asks for."""
    return rows.select_related("archive__game", "archive__outer", "bank")


def source_of(swap: Swap, original: CoreStream | None = None) -> Source:
    """The audio file that a swap begins from; original: its stream in the newest survey, where that is open already."""
    if swap.source == FILE:
        return FileSource(swap.source_path, swap.source_name)
    if swap.source == STORED:
        format = Format.from_dict(swap.source_format or {})
        return stored_source(FileSource(swap.source_path, swap.source_name), format)
    if swap.source == STREAM:
        return original_source(open_original(row_of(swap, swap.source_locator)))
    original = original or open_original(row_of(swap, swap.locator))
    return original_source(original) if swap.source == ORIGINAL else silent_source(original)


def row_of(swap: Swap, locator: str) -> Stream:
    """A stream in the newest survey; ZubretError where that has none."""
    row = stream_at(swap.mod.game, locator)
    if row is None:
        raise ZubretError(
            "The newest survey has no such stream.",
            file=str(unpack_locator(locator)),
            next="The game has changed: see in Mods how the mod stands in this build, and carry it over.",
        )
    return row


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
    locator = unpack_locator(swap.locator)
    stream = locator.stream_in(_rebuilt_bank(build, locator))
    return Sound(f"rebuilt {swap.source_name}", stream.format, stream.decode, digest)


def _rebuilt_bank(build: Build, locator: Locator) -> Bank:
    """The bank of a swapped stream in the files of a rebuild: in the place of the old one, or where the game's way has put it."""
    folder, known = LaidOver(original_folder(build.game), build_folder(build)), known_for(build.game)
    number = locator.entries[0][1]
    for file in build.files:
        if file.get("of") == locator.archive and (number == file["entry"] or number in (file["only"] or ())):
            spot = Spot.file(folder, file["path"], known, disk_cache(), f"build{build.pk}/{file['path']}")
            spot = spot.entry(file["only"].index(number)) if file["only"] else spot
            return spot.down(locator.entries[1:], str(locator)).bank
    return locator.bank(folder, known, disk_cache(), f"build{build.pk}")


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

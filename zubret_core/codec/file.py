"""Streams that are audio files by themselves, read and written through libsndfile."""

from __future__ import annotations

import io

import numpy as np
import soundfile
from numpy.typing import NDArray

from ..base import Format, ZubretError, to_float, to_int16
from ..source import Source, SourceFile
from .base import check_range

VORBIS_PIECE = 4096
"""Frames given to libsndfile's Vorbis writer at once: one long write can crash it (measured)."""


class AudioFile:
    """WAV, FLAC, Ogg Vorbis or MP3; `variant` is libsndfile's "container/subtype"."""

    name = "file"
    label = "audio file"

    def block_frames(self, format: Format) -> int:
        return 1

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        check_range(payload, format, start, frames)
        exact = format.variant.endswith(("/PCM_16", "/PCM_U8", "/PCM_S8", "/IMA_ADPCM", "/ULAW", "/ALAW"))
        try:
            with soundfile.SoundFile(io.BufferedReader(SourceFile(payload))) as file:
                file.seek(start)
                pcm = file.read(frames, dtype="int16" if exact else "float32", always_2d=True)
        except soundfile.LibsndfileError as e:
            raise ZubretError(
                f"The audio file can't be read: {e}.", file=payload.name, next="Check it in another copy of the game."
            ) from e
        if len(pcm) < frames:
            raise ZubretError(
                f"The audio file ends {frames - len(pcm):,} frames before its declared length.",
                file=payload.name,
                next="The file is cut short: check it in another copy of the game.",
            )
        return pcm

    def encode(self, pcm: NDArray, format: Format) -> bytes:
        container, subtype = format.variant.split("/")
        out = io.BytesIO()
        samples = to_int16(pcm) if subtype == "PCM_16" else to_float(pcm)
        try:
            with soundfile.SoundFile(out, "w", format.rate, format.channels, subtype, format=container) as file:
                for at in range(0, len(samples), VORBIS_PIECE):
                    file.write(np.ascontiguousarray(samples[at : at + VORBIS_PIECE]))
        except (soundfile.LibsndfileError, ValueError, TypeError) as e:
            raise ZubretError(
                f"{container} with {subtype} can't be written at {format.rate:,} Hz with {format.channels} channels.",
                next="Choose a stream of another format.",
            ) from e
        return out.getvalue()

    def warm(self) -> None:
        pass

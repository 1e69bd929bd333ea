"""Streams that are audio files by themselves, read and written through libsndfile."""

from __future__ import annotations

from collections.abc import Iterable
from typing import IO

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, nameless, to_float, to_int16
from ..source import Source
from .base import Usual, check_range, pieces_of
from .ogg import OggPages
from .opus import RATE
from .paged import decode_pages
from .soundfiles import sound_read, sound_written
from .speakers import as_vorbis

VORBIS_PIECE = 4096
"""Frames given to libsndfile's Vorbis writer at once: one long write can crash it (measured)."""


def _short(payload: Source, missing: int) -> ZubretError:
    return ZubretError(
        f"The audio file ends {missing:,} frames before its declared length.",
        file=payload.name,
        next="The file is cut short: check it in another copy of the game.",
    )


class AudioFile(Usual):
    """WAV, AIFF, FLAC, Ogg Vorbis, Opus or MP3; `variant` is libsndfile's "container/subtype"."""

    label = "audio file"

    def obstacle(self, format: Format) -> str:
        if soundfile.check_format(*format.variant.split("/")):
            return ""
        return f"{format.variant.replace('/', ', ')} can be read but not written"

    def block_frames(self, format: Format) -> int:
        return 1

    def stored_size(self, format: Format) -> int | None:
        return None

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        check_range(payload, format, start, frames)
        if format.variant in ("OGG/VORBIS", "OGG/OPUS"):
            pcm = self._by_pages(payload, format, start, frames)
            if len(pcm) == frames:
                return pcm
            raise _short(payload, frames - len(pcm))
        exact = format.variant.endswith(("/PCM_16", "/PCM_U8", "/PCM_S8", "/IMA_ADPCM", "/ULAW", "/ALAW"))
        try:
            with sound_read(payload) as file:
                file.seek(start)
                pcm = file.read(frames, dtype="int16" if exact else "float32", always_2d=True)
        except soundfile.LibsndfileError as e:
            raise ZubretError(
                f"The audio file can't be read: {e}.", file=payload.name, next="Check it in another copy of the game."
            ) from e
        if len(pcm) < frames:
            raise _short(payload, frames - len(pcm))
        return pcm

    def _by_pages(self, payload: Source, format: Format, start: int, frames: int) -> NDArray[np.float32]:
        """Vorbis and Opus: at the file's rate, as libsndfile gives it; Opus is brought there from 48,000 Hz."""
        pages = payload.memory.get(OggPages)
        if pages is None:
            pages = payload.memory[OggPages] = OggPages(payload)
        if format.variant != "OGG/OPUS" or format.rate == RATE:
            return decode_pages(pages, pages.headers, format.channels, start, frames)
        # A little more on both sides than is asked, so that the filter meets what lies beside.
        lead = min(start, 480 * format.rate // RATE)
        first = (start - lead) * RATE // format.rate
        pcm = decode_pages(pages, pages.headers, format.channels, first, (frames + lead) * RATE // format.rate + 960)
        return soxr.resample(pcm, RATE, format.rate)[lead : lead + frames]

    def encode(self, pcm: Signal, format: Format) -> bytes:
        with self.written(pieces_of(pcm, VORBIS_PIECE), format) as file:
            file.seek(0)
            return file.read()

    def written(self, pieces: Iterable[NDArray], format: Format, level: float | None = None) -> IO[bytes]:
        """A nameless file with (frames, channels) samples that come piece by piece; level: of compression, 0 to 1, where its
        encoder has a choice. OSError where there is no room for it."""
        container, subtype = format.variant.split("/")
        out, how = nameless(), {} if level is None else {"compression_level": level}
        try:
            with sound_written(out, format.rate, format.channels, format.variant, **how) as file:
                for piece in pieces:
                    for at in range(0, len(piece), VORBIS_PIECE):
                        some = piece[at : at + VORBIS_PIECE]
                        some = as_vorbis(some) if container == "OGG" else some
                        file.write(np.ascontiguousarray(to_int16(some) if subtype == "PCM_16" else to_float(some)))
        except (soundfile.LibsndfileError, ValueError, TypeError) as e:
            out.close()
            raise ZubretError(
                f"{container} with {subtype} can't be written at {format.rate:,} Hz with {format.channels} channels.",
                next="Choose a stream of another format.",
            ) from e
        return out

    def warm(self) -> None:
        pass

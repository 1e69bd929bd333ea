"""From the user's file to the payload that the game will decode. All of it goes piece by piece: a file of hours needs no more
memory than one of seconds."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..audio import AudioInfo, encoded_file, mixed, pieces_between, resampled
from ..audio.files import file_format, with_loop
from ..bank import Stream
from ..base import Format, Progress, ZubretError, room, silent, to_int16
from ..base.pcm import Snr, decibels, to_float
from ..codec import VorbisPackets, codec_of
from ..codec.base import PIECE, pieces_of
from ..source import BytesSource, Source
from .fit import FITS, FitReport
from .sources import original_source
from .treatment import Treatment


@dataclass
class Prepared:
    """An encoded replacement.

    payload: the bytes to store; format: what the bank will say of them; meant: (frames, channels) samples before encoding;
    snr_db, peak_db: of what the game will play, against `meant` and full scale.
    """

    payload: Source
    format: Format
    meant: NDArray[np.int16]
    snr_db: float
    peak_db: float

    def heard(self, start: int, frames: int) -> NDArray[np.int16]:
        """Frames [start, start + frames) as the game will play them."""
        return to_int16(codec_of(self.format).decode(self.payload, self.format, start, frames))


def _as_it_is(
    original: Stream, source: Source | None, info: AudioInfo, how: Treatment, report: FitReport, format: Format
) -> Source | None:
    """Where nothing of the audio is changed: the stored payload, if the source is the original; a file's own packets, if its
    setup is the bank's. Else None."""
    codec, target = codec_of(format), report.target
    assert target is not None
    untouched = (
        target.used == (0, info.frames)
        and (info.rate, info.channels) == (format.rate, format.channels)
        and not (how.gain_db or target.pad or target.cut)
    )
    if untouched and source is None:
        return original.payload
    if untouched and source is not None and isinstance(codec, VorbisPackets) and info.variant == "OGG/VORBIS":
        try:
            return BytesSource(codec.from_ogg(source, format), "replacement")
        except ZubretError:
            pass
    return None


def _treated(source: Source, info: AudioInfo, how: Treatment, report: FitReport) -> Iterator[NDArray[np.float32]]:
    """The samples as they are to be encoded, piece by piece."""
    target = report.target
    assert target is not None
    channels, start = target.format.channels, target.used[0]
    if target.pad:
        yield np.zeros((target.pad, channels), np.float32)
    gain, cut = np.float32(10 ** (how.gain_db / 20)), target.cut

    def between(first: int, last: int) -> Iterator[NDArray[np.float32]]:
        return pieces_between(source, start + first, start + last)

    # A loop is stretched before the mix and the gain, which keep every frame where it is.
    frames = target.used[1] - start
    for piece in resampled(between, frames, info.rate, target.format.rate, target.loop):
        left, cut = piece[cut:], max(0, cut - len(piece))
        if len(left):
            yield mixed(left, channels) * gain


def _told(pieces: Iterator[NDArray], frames: int, step: int, progress: Progress, note: str) -> Iterator[NDArray]:
    """The same pieces, while it is told how far they are; `step` of three."""
    done = 0
    for piece in pieces:
        done += len(piece)
        progress(step * frames + min(done, frames), 3 * frames, note)
        yield piece


def prepare(
    original: Stream,
    given: Source | None,
    info: AudioInfo,
    how: Treatment,
    report: FitReport,
    progress: Progress = silent,
) -> Prepared:
    """Treat and encode a replacement; ZubretError while a required point does not fit. given: an audio file, or None for the
    original itself, whose stored payload is kept while only its loop changes. progress counts frames, three times: treating,
    encoding, and decoding what the game will hear."""
    source = original_source(original) if given is None else given
    target = report.target
    if target is None or report.verdict != FITS:
        open_points = ", ".join(p.label for p in report.points if p.required and p.verdict != FITS)
        raise ZubretError(f"The replacement does not fit yet: {open_points}.", next="Fit these points first.")
    format, frames, at = target.format, target.format.frames, 0
    meant = room((frames, format.channels), np.int16)
    for piece in _told(_treated(source, info, how, report), frames, 0, progress, "resampling and mixing"):
        meant[at : at + len(piece)] = to_int16(piece)
        at += len(piece)
    assert at == frames
    progress(frames, 3 * frames, "encoding")
    payload: Source
    kept = _as_it_is(original, given, info, how, report, format)
    if format.codec == "file":
        if kept is not None and format.loop != original.format.loop:
            kept = with_loop(kept, format)
        wide = not format.variant.endswith("PCM_16")
        pieces = _treated(source, info, how, report) if wide else pieces_of(meant)
        payload = kept or encoded_file(_told(pieces, frames, 1, progress, "encoding"), format)
        stored = file_format(payload)
        assert stored is not None
        format = stored
    else:
        payload = kept or BytesSource(codec_of(format).encode(meant, format), "replacement")
    out = Prepared(payload, format, meant, 0.0, 0.0)
    out.snr_db, out.peak_db = _compared(out, progress)
    return out


def _compared(made: Prepared, progress: Progress) -> tuple[float, float]:
    """Signal-to-noise ratio and peak of what will be heard."""
    ratio, peak, frames = Snr(), 0.0, made.format.frames
    for at in range(0, frames, PIECE):
        heard = made.heard(at, min(PIECE, frames - at))
        peak = max(peak, float(np.abs(to_float(heard)).max()))
        meant = made.meant[at : at + len(heard)]
        ratio.add(meant, heard[: len(meant)])
        progress(2 * frames + at + len(heard), 3 * frames, "decoding what the game will hear")
    return ratio.db, max(-200.0, decibels(peak))

"""From the user's file to the payload that the game will decode. All of it goes piece by piece: a file of hours needs no more
memory than one of seconds."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..audio import AudioInfo, encoded_file, mixed, pieces_between, resampled
from ..audio.files import file_format, with_loop
from ..bank import Stream
from ..base import Format, Progress, ZubretError, in_words, room, silent, to_int16
from ..base.pcm import Snr
from ..codec import VorbisPackets, codec_of
from ..codec.base import PIECE, pieces_of
from ..source import BytesSource, Source
from .fit import FITS, FitReport
from .levels import Level, Match, Meter, matched
from .sources import original_source
from .treatment import Target, Treatment

Pieces = Callable[[], Iterator[NDArray[np.float32]]]
"""Samples piece by piece, from their beginning whenever they are asked for."""
OVER, TRIES = 0.1, 3
"""dB by which what is heard may pass the ceiling, and how often it is encoded again because of that."""


@dataclass
class Prepared:
    """An encoded replacement.

    payload: the bytes to store; format: what the bank will say of them; meant: (frames, channels) samples before encoding,
    with a gain of gain_db; snr_db, level: of what the game will play, against `meant` and by itself; match: how the gain was
    found, where loudness is matched.
    """

    payload: Source
    format: Format
    meant: NDArray[np.int16]
    gain_db: float
    snr_db: float
    level: Level
    match: Match | None = None

    def heard(self, start: int, frames: int) -> NDArray[np.int16]:
        """Frames [start, start + frames) as the game will play them."""
        return heard_of(self.payload, self.format, start, frames)


def heard_of(payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
    """Frames [start, start + frames) of a payload, as the game will play them."""
    return to_int16(codec_of(format).decode(payload, format, start, frames))


def _as_it_is(
    original: Stream, source: Source | None, info: AudioInfo, gain_db: float, target: Target
) -> Source | None:
    """Where nothing of the audio is changed: the stored payload, if the source is the original; a file's own packets, if its
    setup is the bank's. Else None."""
    format = target.format
    codec = codec_of(format)
    untouched = (
        target.used == (0, info.frames)
        and (info.rate, info.channels) == (format.rate, format.channels)
        and not (gain_db or target.pad or target.cut)
    )
    if untouched and source is None:
        return original.payload
    if untouched and source is not None and isinstance(codec, VorbisPackets) and info.variant == "OGG/VORBIS":
        try:
            return BytesSource(codec.from_ogg(source, format), "replacement")
        except ZubretError:
            pass
    return None


def _treated(source: Source, info: AudioInfo, target: Target) -> Iterator[NDArray[np.float32]]:
    """The samples as they are to be encoded, but for the gain, piece by piece."""
    channels, start = target.format.channels, target.used[0]
    if target.pad:
        yield np.zeros((target.pad, channels), np.float32)
    cut = target.cut

    def between(first: int, last: int) -> Iterator[NDArray[np.float32]]:
        return pieces_between(source, start + first, start + last)

    # A loop is stretched before the mix, which keeps every frame where it is.
    frames = target.used[1] - start
    for piece in resampled(between, frames, info.rate, target.format.rate, target.loop):
        left, cut = piece[cut:], max(0, cut - len(piece))
        if len(left):
            yield mixed(left, channels)


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

    def treated() -> Iterator[NDArray[np.float32]]:
        return _treated(source, info, target)

    def made(gain_db: float, pieces: Pieces, progress: Progress) -> Prepared:
        return _encoded(_as_it_is(original, given, info, gain_db, target), target.format, pieces, gain_db, progress)

    if not how.match:
        return made(how.gain_db, treated, progress)
    whole, level = _laid_down(
        _told(treated(), target.format.frames, 0, progress, "resampling and mixing"), target.format
    )
    match = matched(level, report.level, how)

    def after(done: int, total: int, note: str) -> None:
        frames = target.format.frames
        progress(max(done, frames), total, note if done >= frames else in_words(done, frames, note))

    def once_more(done: int, total: int, _: str) -> None:
        progress(total, total, in_words(done, total, "encoding again, below the ceiling"))

    out = made(match.gain_db if match else 0.0, lambda: pieces_of(whole), after)
    for _ in range(TRIES):  # what a codec adds may pass the ceiling
        over = out.level.true_peak - how.ceiling_db
        if match is None or over <= OVER:
            break
        match = replace(match, gain_db=match.gain_db - over, held=True)
        out = made(match.gain_db, lambda: pieces_of(whole), once_more)
    out.match = match
    return out


def _laid_down(pieces: Iterator[NDArray[np.float32]], format: Format) -> tuple[NDArray[np.float32], Level]:
    """Samples that are needed several times, on the disk, and their level."""
    out, at, meter = room((format.frames, format.channels), np.float32), 0, Meter(format.rate, format.channels)
    for piece in pieces:
        out[at : at + len(piece)] = piece
        meter.add(piece)
        at += len(piece)
    assert at == format.frames
    return out, meter.level()


def _encoded(kept: Source | None, format: Format, pieces: Pieces, gain_db: float, progress: Progress) -> Prepared:
    """Samples with a gain, encoded; kept: the payload, where that is known."""
    frames, at, gain = format.frames, 0, np.float32(10 ** (gain_db / 20))
    loop = format.loop

    def louder() -> Iterator[NDArray[np.float32]]:
        return (piece * gain for piece in pieces())

    meant = room((frames, format.channels), np.int16)
    for piece in _told(louder(), frames, 0, progress, "resampling and mixing"):
        meant[at : at + len(piece)] = to_int16(piece)
        at += len(piece)
    assert at == frames
    progress(frames, 3 * frames, "encoding")
    payload: Source
    if format.codec == "file":
        if kept is not None and (now := file_format(kept)) is not None and now.loop != loop:
            kept = with_loop(kept, format)
        wide = not format.variant.endswith("PCM_16")
        payload = kept or encoded_file(
            _told(louder() if wide else pieces_of(meant), frames, 1, progress, "encoding"), format
        )
        stored = file_format(payload)
        assert stored is not None
        format = stored
    else:
        payload = kept or BytesSource(codec_of(format).encode(meant, format), "replacement")
    snr_db, level = _compared(payload, format, meant, progress)
    return Prepared(payload, format, meant, gain_db, snr_db, level)


def _compared(payload: Source, format: Format, meant: NDArray[np.int16], progress: Progress) -> tuple[float, Level]:
    """Signal-to-noise ratio and level of what will be heard."""
    ratio, meter, frames = Snr(), Meter(format.rate, format.channels), format.frames
    for at in range(0, frames, PIECE):
        heard = heard_of(payload, format, at, min(PIECE, frames - at))
        meter.add(heard)
        there = meant[at : at + len(heard)]
        ratio.add(there, heard[: len(there)])
        progress(2 * frames + at + len(heard), 3 * frames, "decoding what the game will hear")
    return ratio.db, meter.level()

"""From the user's file to the payload that the game will decode."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..audio import Audio, encoded_file, mixed, resampled
from ..audio.files import file_format
from ..bank import Stream
from ..base import Format, Progress, ZubretError, silent, to_int16
from ..base.pcm import snr_db
from ..codec import VorbisPackets, codec_of
from ..source import BytesSource
from .fit import FITS, FitReport
from .treatment import Treatment


@dataclass
class Prepared:
    """An encoded replacement.

    payload: the bytes to store; format: what the bank will say of them; meant: (frames,
    channels) samples before encoding; heard: the same after encoding and decoding, which is
    what the game plays; snr_db: heard against meant.
    """

    payload: bytes
    format: Format
    meant: NDArray[np.int16]
    heard: NDArray[np.int16]
    snr_db: float


def _as_it_is(audio: Audio, how: Treatment, report: FitReport, format: Format) -> bytes:
    """The file's own packets, where nothing is changed about it and its setup is the bank's; else nothing."""
    codec, target = codec_of(format), report.target
    assert target is not None
    untouched = (
        target.used == (0, audio.frames)
        and (audio.rate, audio.channels) == (format.rate, format.channels)
        and not (how.gain_db or target.pad or target.cut)
    )
    if not (untouched and isinstance(codec, VorbisPackets) and audio.variant == "OGG/VORBIS" and audio.file):
        return b""
    try:
        return codec.from_ogg(audio.file, format)
    except ZubretError:
        return b""


def prepare(original: Stream, audio: Audio, how: Treatment, report: FitReport, progress: Progress = silent) -> Prepared:
    """Treat and encode a replacement; ZubretError while a required point does not fit."""
    target = report.target
    if target is None or report.verdict != FITS:
        open_points = ", ".join(p.label for p in report.points if p.required and p.verdict != FITS)
        raise ZubretError(f"The replacement does not fit yet: {open_points}.", next="Fit these points first.")
    steps = 5
    progress(0, steps, "resampling")
    start, end = target.used
    # A loop is stretched before the mix and the gain, which keep every frame where it is.
    pcm, loop = resampled(audio.pcm[start:end], audio.rate, target.format.rate, target.loop)
    progress(1, steps, "mixing")
    pcm = mixed(pcm, target.format.channels) * np.float32(10 ** (how.gain_db / 20))
    pcm = pcm[target.cut :]
    if target.pad:
        pcm = np.concatenate([np.zeros((target.pad, pcm.shape[1]), np.float32), pcm])
    meant = to_int16(pcm)
    format = target.format
    assert len(meant) == format.frames and (loop is None) == (format.loop is None)
    progress(2, steps, "encoding")
    if format.codec == "file":
        payload = encoded_file(meant if format.variant.endswith("PCM_16") else pcm, format)
        stored = file_format(BytesSource(payload))
        assert stored is not None
        format = stored
    else:
        payload = _as_it_is(audio, how, report, format) or codec_of(format).encode(meant, format)
    progress(3, steps, "decoding what the game will hear")
    heard = to_int16(codec_of(format).decode(BytesSource(payload, "replacement"), format, 0, format.frames))
    progress(4, steps, "comparing")
    same = min(len(heard), len(meant))
    return Prepared(payload, format, meant, heard, snr_db(meant[:same], heard[:same]))

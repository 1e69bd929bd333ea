"""IMA ADPCM against libsndfile, on 3 minutes of 48 kHz stereo."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile

from standin.formats import as_int16
from standin.music import PIECES, render
from zubret_core.base import Format
from zubret_core.base.pcm import snr_db
from zubret_core.codec import CODECS, warm
from zubret_core.source import BytesSource

from .pairs import Row, pairs

RATE, SECONDS = 48000, 180


def rows(folder: Path) -> Iterator[Row]:
    """Decode and encode; the encoders' SNR stands in the note."""
    warm()
    codec = CODECS["ima-adpcm"]
    piece, _, _ = render(PIECES[1])
    pcm = np.resize(as_int16(piece), (RATE * SECONDS, 2))
    wav = _encoded(pcm)
    data, block = wav.getvalue(), 2048
    at = data.index(b"data") + 8
    blocks = data[at : at + (len(data) - at) // block * block]
    format = Format("ima-adpcm", RATE, 2, len(pcm), None, block)
    payload = BytesSource(blocks)
    yield pairs(
        "IMA ADPCM decode, 3 min 48 kHz stereo",
        lambda: codec.decode(payload, format, 0, len(pcm)),
        "libsndfile (soundfile)",
        lambda: soundfile.read(io.BytesIO(data), dtype="int16"),
        0.5,
    )
    row = pairs(
        "IMA ADPCM encode, 3 min 48 kHz stereo",
        lambda: codec.encode(pcm, format),
        "libsndfile (soundfile)",
        lambda: _encoded(pcm),
        1.5,
    )
    ours = codec.decode(BytesSource(codec.encode(pcm, format)), format, 0, len(pcm))
    theirs, _ = soundfile.read(io.BytesIO(data), dtype="int16")
    row.note += f"; SNR {snr_db(pcm, ours):.2f} dB against {snr_db(pcm, theirs[: len(pcm)]):.2f} dB"
    yield row


def _encoded(pcm: np.ndarray) -> io.BytesIO:
    out = io.BytesIO()
    soundfile.write(out, pcm, RATE, format="WAV", subtype="IMA_ADPCM")
    return out

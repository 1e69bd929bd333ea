"""What a replacement can begin from without a file of the user's: the stream that it replaces, another one, or silence of its
length."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..audio.files import wav_source
from ..bank import Stream
from ..base import Format
from ..codec import codec_of
from ..source import SliceSource, Source

FILE, ORIGINAL, SILENCE, STREAM, STORED = "file", "original", "silence", "stream", "stored"
"""A file of the user's; the stream itself; silence in its place; another stream of the game; a payload as it is stored elsewhere,
which is never encoded again."""


def original_source(stream: Stream) -> Source:
    """A stream as an audio file: the stored one, where it is one; else a 16-bit WAV file with its loop, decoded where it is
    read."""
    if stream.format.codec == "file":
        return SliceSource(stream.payload, 0, stream.payload.size)  # closing it closes nothing
    return wav_source(stream.decode, stream.format, ORIGINAL)


def stored_source(payload: Source, format: Format) -> Source:
    """A stored payload as an audio file, decoded where it is read."""
    if format.codec == "file":
        return SliceSource(payload, 0, payload.size)

    def decode(start: int, frames: int) -> NDArray:
        return codec_of(format).decode(payload, format, start, frames)

    return wav_source(decode, format, STORED)


def silent_source(stream: Stream) -> Source:
    """As many frames of silence, with the stream's loop, as a WAV file."""

    def decode(start: int, frames: int) -> NDArray[np.int16]:
        return np.zeros((frames, stream.format.channels), np.int16)

    return wav_source(decode, stream.format, SILENCE)

"""Audio files that people have: read with their loop, written with their loop."""

from __future__ import annotations

import io
import struct
from collections.abc import Callable
from dataclasses import dataclass

import mutagen
import numpy as np
import soundfile
from numpy.typing import NDArray

from ..base import Format, Loop, Progress, ZubretError, silent, to_int16
from ..codec.file import AudioFile
from ..source import BytesSource, ChainSource, Part, Source, SourceFile
from .aiff import aiff_loop, with_aiff_loop
from .comments import tag
from .riff import notes_of, smpl_chunk, wav_header

READABLE = "WAV, AIFF, FLAC, Ogg Vorbis, Opus or MP3"
DecodeRange = Callable[[int, int], NDArray]
"""decode(start, frames): samples of a stream, (frames, channels)."""


@dataclass
class Audio:
    """A whole audio file: pcm (frames, channels) float32, rate in Hz, loop in frames or None; the file itself."""

    pcm: NDArray[np.float32]
    rate: int
    loop: Loop | None
    variant: str
    file: Source | None = None

    @property
    def frames(self) -> int:
        return len(self.pcm)

    @property
    def channels(self) -> int:
        return self.pcm.shape[1]


def file_format(source: Source) -> Format | None:
    """The format of an audio file without decoding it; None where libsndfile knows no such file."""
    try:
        with soundfile.SoundFile(SourceFile(source)) as file:
            variant = f"{file.format}/{file.subtype}"
            loop = _loop_of(source, file.format, file.frames)
            return Format("file", file.samplerate, file.channels, file.frames, loop, 0, variant)
    except (soundfile.LibsndfileError, RuntimeError):
        return None


def _loop_of(source: Source, container: str, frames: int) -> Loop | None:
    """The loop that a file carries, if it lies inside the file.

    WAV: the `smpl` chunk. AIFF: the instrument's sustain loop. Ogg, FLAC and others with comments: LOOPSTART with
    LOOPLENGTH or LOOPEND, in frames (common practice; no standard defines them).
    """
    loop = None
    if container in ("WAV", "WAVEX"):
        loop = notes_of(source).loop
    elif container == "AIFF":
        loop = aiff_loop(source)
    elif container in ("OGG", "FLAC"):
        try:
            tags = mutagen.File(SourceFile(source))
            first = {k.upper(): v[0] for k, v in (tags.tags or {}).items()} if tags is not None else {}
            if "LOOPSTART" in first:
                start = int(first["LOOPSTART"])
                end = start + int(first["LOOPLENGTH"]) if "LOOPLENGTH" in first else int(first.get("LOOPEND", frames))
                loop = Loop(start, end)
        except (mutagen.MutagenError, ValueError, IndexError):
            return None
    return loop if loop and 0 <= loop.start < loop.end <= frames else None


def read_audio(source: Source, progress: Progress = silent) -> Audio:
    """Decode a whole audio file; a ZubretError says why a file can't be a replacement."""

    def refuse(what: str, next: str) -> ZubretError:
        return ZubretError(what, file=source.name, next=next)

    if source.size == 0:
        raise refuse("The file is empty.", f"Choose a {READABLE} file.")
    try:
        with soundfile.SoundFile(SourceFile(source)) as file:
            pieces, done = [], 0
            while len(piece := file.read(1 << 18, dtype="float32", always_2d=True)):
                pieces.append(piece)
                done += len(piece)
                progress(done, max(file.frames, done), f"reading {source.name}")
            rate, container, subtype = file.samplerate, file.format, file.subtype
    except (soundfile.LibsndfileError, RuntimeError) as e:
        raise refuse("This is not an audio file that can be read.", f"Choose a {READABLE} file.") from e
    if not pieces:
        raise refuse("The audio file holds no sound: its length is 0 frames.", "Choose a file with audio in it.")
    pcm = np.concatenate(pieces)
    broken = ~np.isfinite(pcm).all(axis=1)
    if broken.any():
        frame = int(np.argmax(broken))
        raise refuse(
            f"Frame {frame:,} is not a number, and {int(broken.sum()):,} frames in all are not.",
            "Export the file again from your editor, as 16-bit or 24-bit.",
        )
    return Audio(pcm, rate, _loop_of(source, container, len(pcm)), f"{container}/{subtype}", source)


class _DecodedSource(Source):
    """The 16-bit samples of a stream as bytes, decoded when they are read."""

    def __init__(self, decode: DecodeRange, format: Format):
        self.name, self._decode, self._width = "samples", decode, 2 * format.channels
        self.size = format.frames * self._width

    def _read(self, at: int, length: int) -> bytes:
        first = at // self._width
        last = -(-(at + length) // self._width)
        data = to_int16(self._decode(first, last - first)).astype("<i2", copy=False).tobytes()
        skip = at - first * self._width
        return data[skip : skip + length]


def wav_source(decode: DecodeRange, format: Format, name: str) -> ChainSource:
    """A 16-bit WAV file of a stream that is decoded only where it is read."""
    head, samples = BytesSource(wav_header(format)), _DecodedSource(decode, format)
    return ChainSource([Part(head, 0, head.size), Part(samples, 0, samples.size)], name)


def encoded_file(pcm: NDArray, format: Format) -> bytes:
    """A whole audio file in the container and subtype of `format.variant`, with its loop in it."""
    data = AudioFile().encode(pcm, format)
    if format.loop is None:
        return data
    container = format.variant.split("/")[0]
    if container in ("WAV", "WAVEX"):
        data += smpl_chunk(format)
        return data[:4] + struct.pack("<I", len(data) - 8) + data[8:]
    if container == "AIFF":
        return with_aiff_loop(data, format.loop)
    if container == "FLAC" or format.variant in ("OGG/VORBIS", "OGG/OPUS"):
        out = io.BytesIO(data)
        tag(out, {}, format.loop)
        return out.getvalue()
    raise ZubretError(
        f"A loop can't be written into {format.variant}.",
        field="loop",
        next="Set the loop to none, or replace a file of another kind.",
    )

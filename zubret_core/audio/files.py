"""Audio files that people have: read with their loop, written with their loop."""

from __future__ import annotations

import io
import struct
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

import mutagen
import numpy as np
import soundfile
from numpy.typing import NDArray

from ..base import Format, Loop, Progress, ZubretError, nameless, silent, to_int16
from ..base.pcm import decibels
from ..codec.file import AudioFile
from ..codec.soundfiles import sound_read
from ..codec.speakers import as_wave
from ..source import BytesSource, ChainSource, OpenFile, Part, Source, SourceFile
from .aiff import add_aiff_loop, aiff_loop
from .comments import tag
from .edges import THRESHOLDS, Edges
from .riff import notes_of, plain_format, smpl_chunk, wav_header

READABLE = "WAV, AIFF, FLAC, Ogg Vorbis, Opus or MP3"
PIECE = 1 << 18
"""Frames that are decoded at once."""
_KEPT = 4 << 20
"""Bytes of samples up to which those of a file that was looked through are kept while it is open."""
DecodeRange = Callable[[int, int], NDArray]
"""decode(start, frames): samples of a stream, (frames, channels)."""


@dataclass(frozen=True)
class AudioInfo:
    """The facts of an audio file, as found by decoding all of it: rate in Hz, frames, loop in frames or None, sample peak in
    dBFS, libsndfile's "container/subtype"; heads and tails of its `Edges`; more: loops besides the first."""

    rate: int
    channels: int
    frames: int
    loop: Loop | None
    peak_db: float
    variant: str
    heads: tuple[int, ...] = ()
    tails: tuple[int, ...] = ()
    more: tuple[Loop, ...] = ()

    @property
    def knows_edges(self) -> bool:
        """Whether they were looked for, which earlier versions did not."""
        return bool(self.heads) or self.peak_db < THRESHOLDS[0]

    def sounding(self, threshold: int) -> tuple[int, int] | None:
        """The first frame, and the one behind the last, that reach a threshold in dBFS; None where none does."""
        n = threshold - THRESHOLDS[0]
        return (self.heads[n], self.tails[n]) if n < len(self.heads) else None

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready form."""
        loop = [self.loop.start, self.loop.end] if self.loop else None
        more = [[loop.start, loop.end] for loop in self.more]
        return {**vars(self), "loop": loop, "more": more, "peak_db": max(self.peak_db, -200.0)}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> AudioInfo:
        """The inverse of `as_dict`."""
        edges = {name: tuple(data.get(name, ())) for name in ("heads", "tails")}
        more = tuple(Loop(*loop) for loop in data.get("more", ()))
        return cls(**{**data, **edges, "loop": Loop(*data["loop"]) if data["loop"] else None, "more": more})


def file_format(source: Source) -> Format | None:
    """The format of an audio file without decoding it; None where libsndfile knows no such file."""
    plain = plain_format(source.read(0, min(source.size, 64)), source.size, lambda: source)
    if plain is not None:
        return plain
    try:
        with sound_read(source) as file:
            variant = f"{file.format}/{file.subtype}"
            loop, more = _loops_of(source, file.format, file.frames)
            return Format("file", file.samplerate, file.channels, file.frames, loop, 0, variant, more=more)
    except (soundfile.LibsndfileError, RuntimeError):
        return None


def _loops_of(source: Source, container: str, frames: int) -> tuple[Loop | None, tuple[Loop, ...]]:
    """The loop that a file carries, if it lies inside the file, and others that a WAV file may have.

    WAV: the `smpl` chunk. AIFF: the instrument's sustain loop. Ogg, FLAC and others with comments: LOOPSTART with
    LOOPLENGTH or LOOPEND, in frames (common practice; no standard defines them).
    """
    loop = None
    if container in ("WAV", "WAVEX"):
        return notes_of(source).within(frames)
    if container == "AIFF":
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
            return None, ()
    return (loop if loop and 0 <= loop.start < loop.end <= frames else None), ()


@dataclass(frozen=True)
class _Kept:
    """All samples of a short file."""

    pcm: NDArray[np.float32]


def look_through(source: Source, progress: Progress = silent) -> AudioInfo:
    """Decode a whole audio file once, piece by piece; a ZubretError says why a file can't be a replacement. The samples of a short
    one are there at once when its `pieces_between` are asked for."""

    def refuse(what: str, next: str) -> ZubretError:
        return ZubretError(what, file=source.name, next=next)

    if source.size == 0:
        raise refuse("The file is empty.", f"Choose a {READABLE} file.")
    done, peak, broken, first, edges = 0, 0.0, 0, 0, Edges()
    short: list[NDArray[np.float32]] = []
    try:
        with sound_read(source) as file:
            while len(piece := _read(file, PIECE)):
                if not np.isfinite(piece).all():
                    wrong = np.flatnonzero(~np.isfinite(piece).all(axis=1))
                    first = first if broken else done + int(wrong[0])
                    broken += len(wrong)
                peak = max(peak, edges.add(piece))
                done += len(piece)
                short = [*short, piece] if done * file.channels * 4 <= _KEPT else []
                progress(done, max(file.frames, done), f"reading {source.name}")
            rate, channels, container, subtype = file.samplerate, file.channels, file.format, file.subtype
    except (soundfile.LibsndfileError, RuntimeError) as e:
        raise refuse("This is not an audio file that can be read.", f"Choose a {READABLE} file.") from e
    if not done:
        raise refuse("The audio file holds no sound: its length is 0 frames.", "Choose a file with audio in it.")
    if broken:
        raise refuse(
            f"Frame {first:,} is not a number, and {broken:,} frames in all are not.",
            "Export the file again from your editor, as 16-bit or 24-bit.",
        )
    if short:
        source.memory[_Kept] = _Kept(np.concatenate(short))
    variant = f"{container}/{subtype}"
    loop, more = _loops_of(source, container, done)
    ends = tuple(edges.heads), tuple(edges.tails)
    return AudioInfo(rate, channels, done, loop, decibels(peak), variant, *ends, more)


def _read(file: soundfile.SoundFile, frames: int) -> NDArray[np.float32]:
    """The next frames, their channels in the order of WAV files."""
    piece: NDArray[np.float32] = file.read(frames, dtype="float32", always_2d=True)
    return as_wave(piece) if file.format == "OGG" else piece


def pieces_between(source: Source, start: int, end: int) -> Iterator[NDArray[np.float32]]:
    """Frames [start, end) of an audio file, piece by piece: (frames, channels). What is packed is decoded from its
    beginning, since not every decoder jumps to the exact frame."""
    if kept := source.memory.get(_Kept):
        yield from (kept.pcm[at : min(at + PIECE, end)] for at in range(start, end, PIECE))
        return
    with sound_read(source) as file:
        at = 0
        if file.subtype.startswith("PCM_") or file.subtype in ("FLOAT", "DOUBLE"):
            at = file.seek(start)
        while at < end:
            piece = _read(file, min(PIECE, end - at))
            if not len(piece):
                raise ZubretError(
                    "The file became shorter while it was read.", file=source.name, next="Drop it again, then go on."
                )
            at += len(piece)
            if at > start:
                yield piece[max(0, start - (at - len(piece))) :]


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


def with_loop(source: Source, format: Format) -> Source | None:
    """A FLAC or Ogg file with the format's loop in its comments in place of its own, and its audio to the bit; None for a file of
    another kind."""
    if not (format.variant.startswith("FLAC/") or format.variant in ("OGG/VORBIS", "OGG/OPUS")):
        return None
    file = nameless()
    for piece in source.chunks():
        file.write(piece)
    file.seek(0)
    tag(file, {}, format.loop, anew=True)
    return OpenFile(file, "audio file")


def encoded_file(pieces: Iterable[NDArray], format: Format, level: float | None = None) -> Source:
    """A whole audio file in the container and subtype of `format.variant`, with its loop in it, of samples (frames,
    channels) that come piece by piece; level: of compression, where its encoder has a choice."""
    file = AudioFile().written(pieces, format, level)
    container = format.variant.split("/")[0]
    if format.loop is None:
        pass
    elif container in ("WAV", "WAVEX"):
        end = file.seek(0, io.SEEK_END)
        file.write(bytes(end % 2) + smpl_chunk(format))
        size = file.tell() - 8
        file.seek(4)
        file.write(struct.pack("<I", size))
    elif container == "AIFF":
        add_aiff_loop(file, format.loop)
    elif container == "FLAC" or format.variant in ("OGG/VORBIS", "OGG/OPUS"):
        file.seek(0)
        tag(file, {}, format.loop)
    else:
        raise ZubretError(
            f"A loop can't be written into {format.variant}.",
            field="loop",
            next="Set the loop to none, or replace a file of another kind.",
        )
    return OpenFile(file, "audio file")

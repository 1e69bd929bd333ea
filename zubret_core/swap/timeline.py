"""Which frames of a file are heard in which order: the part that is used, a loop that is played out, fades."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..audio.files import PIECE
from ..audio.resample import Between
from ..base.room import IN_MEMORY

Pieces = Iterator[NDArray[np.float32]]


@dataclass(frozen=True)
class Part:
    """Frames [start, end) of a file, so many `times`. The last `blend` frames of each time go over into the ones before frame
    `into`, at which what follows begins."""

    start: int
    end: int
    times: int = 1
    blend: int = 0
    into: int = 0

    @property
    def once(self) -> int:
        """Frames of one time."""
        return self.end - self.start

    @property
    def frames(self) -> int:
        """Frames of all times."""
        return self.once * self.times


@dataclass(frozen=True)
class Timeline:
    """Parts behind one another; the first `fade_in` and the last `fade_out` frames of all of it are faded, straight in
    amplitude."""

    parts: tuple[Part, ...]
    fade_in: int = 0
    fade_out: int = 0

    @property
    def frames(self) -> int:
        """How long all of it is."""
        return sum(part.frames for part in self.parts)

    @property
    def span(self) -> tuple[int, int] | None:
        """The part [start, end) of the file that this is, where nothing is changed in it."""
        first = self.parts[0]
        plain = len(self.parts) == first.times == 1 and not (first.blend or self.fade_in or self.fade_out)
        return (first.start, first.end) if plain else None

    def in_file(self, frame: int) -> int:
        """The frame of the file that is heard at one of these; the end of the last part for what lies behind it."""
        for part in self.parts:
            if frame <= part.frames:
                return part.start + (frame if frame <= part.once else (frame - 1) % part.once + 1)
            frame -= part.frames
        return self.parts[-1].end

    def of(self, file: Between, channels: int) -> Between:
        """Its frames, of those of a file. What is short and heard several times is read once."""
        blends: dict[Part, NDArray[np.float32]] = {}
        held: dict[Part, NDArray[np.float32]] = {}

        def once(part: Part, first: int, last: int) -> Pieces:
            """Frames of a part, played one time."""
            edge = part.once - part.blend
            at = first
            for piece in file(part.start + first, part.start + last):
                if at + len(piece) > edge and part.blend:
                    if part not in blends:
                        blends[part] = np.concatenate(list(file(part.into - part.blend, part.into)))
                    piece = _blended(piece, at - edge, blends[part])
                at += len(piece)
                yield piece

        def played(part: Part, first: int, last: int) -> Pieces:
            """Frames of a part, played all its times."""
            short = part.times > 1 and part.once * channels * 4 <= IN_MEMORY
            while first < last:
                start = first % part.once
                stop = min(part.once, start + last - first)
                if short:
                    if part not in held:
                        held[part] = np.concatenate(list(once(part, 0, part.once)))
                    yield from (held[part][at : min(stop, at + PIECE)] for at in range(start, stop, PIECE))
                else:
                    yield from once(part, start, stop)
                first += stop - start

        def between(first: int, last: int) -> Pieces:
            at = first
            for piece in flow(first, last):
                yield self._faded(piece, at)
                at += len(piece)

        def flow(first: int, last: int) -> Pieces:
            before = 0
            for part in self.parts:
                yield from played(part, max(0, first - before), min(part.frames, last - before))
                before += part.frames

        return between

    def _faded(self, piece: NDArray[np.float32], at: int) -> NDArray[np.float32]:
        """Frames that begin at frame `at`."""
        end, last = at + len(piece), self.frames
        if at >= self.fade_in and end <= last - self.fade_out:
            return piece
        frame = np.arange(at, end, dtype=np.float64)
        gain = np.ones(len(piece))
        if self.fade_in:
            gain = np.minimum(gain, frame / self.fade_in)
        if self.fade_out:
            gain = gain * np.minimum(1.0, (last - frame) / self.fade_out)
        return piece * gain.astype(np.float32)[:, None]


def _blended(piece: NDArray[np.float32], at: int, other: NDArray[np.float32]) -> NDArray[np.float32]:
    """A piece that begins `at` frames behind the beginning of a blend (before it, where that is negative): as much power of both
    together everywhere."""
    skip, whole = max(0, -at), len(other)
    frames = np.arange(max(0, at), min(whole, at + len(piece)))
    way = (frames + 1) / (whole + 1) * (math.pi / 2)
    out = piece.copy()
    mine = out[skip : skip + len(frames)]
    mine[:] = mine * np.cos(way)[:, None].astype(np.float32) + other[frames] * np.sin(way)[:, None].astype(np.float32)
    return out

"""Resampling with the loop carried along, piece by piece.

The length is round(frames * out / in); a frame at time t stays at time t (soxr is delay-free).
Loop start and loop length are each rounded once.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import chain

import numpy as np
import soxr
from numpy.typing import NDArray

from ..base import Loop

REACH = 4096
"""Source frames past the second pass that the filter may need; soxr's longest is far shorter."""
Pieces = Iterator[NDArray[np.float32]]
Between = Callable[[int, int], Pieces]
"""Frames [start, end) of a source, piece by piece, each (frames, channels)."""


def carried(loop: Loop, have: int, want: int) -> Loop:
    """The loop at another rate: start and length rounded to the nearest frame."""
    start = _scaled(loop.start, have, want)
    return Loop(start, start + max(1, _scaled(loop.length, have, want)))


def _scaled(frames: int, have: int, want: int) -> int:
    return (frames * want * 2 + have) // (2 * have)


def resampled_length(frames: int, have: int, want: int, loop: Loop | None = None) -> int:
    """The frames that `resampled` gives for `frames` frames."""
    length = _scaled(frames, have, want)
    if loop is None or have == want:
        return length
    new = carried(loop, have, want)
    return max(length, new.end) if frames > loop.end else new.end


def resampled(between: Between, frames: int, have: int, want: int, loop: Loop | None = None) -> Pieces:
    """A source of so many frames from `have` Hz to `want` Hz.

    A looped source is unrolled before: two passes and a little more. The body is taken from the
    second pass, where the filter saw the loop's end before its start and its start after its
    end, so that the seam is as clean as it was in the source.
    """
    if have == want:
        yield from between(0, frames)
        return
    length = _scaled(frames, have, want)
    if loop is None:
        yield from _to_length(_converted(between(0, frames), have, want), length)
        return
    new = carried(loop, have, want)
    unrolled = chain(between(0, loop.end), between(loop.start, loop.end), _behind(between, loop))
    yield from _taken(_converted(unrolled, have, want), (0, new.start), (new.end, new.end + new.length))
    if frames > loop.end and length > new.end:
        yield from _taken(_to_length(_converted(between(0, frames), have, want), length), (new.end, length))


def _behind(between: Between, loop: Loop) -> Pieces:
    """What follows the second pass: the loop again, as far as the filter reaches."""
    left = REACH
    while left > 0:
        for piece in between(loop.start, min(loop.end, loop.start + left)):
            left -= len(piece)
            yield piece


def _converted(pieces: Iterable[NDArray[np.float32]], have: int, want: int) -> Pieces:
    stream, channels = None, 1
    for piece in pieces:
        if stream is None:
            channels = piece.shape[1]
            stream = soxr.ResampleStream(have, want, channels, dtype="float32", quality="VHQ")
        yield stream.resample_chunk(np.ascontiguousarray(piece, np.float32))
    if stream is not None:
        yield stream.resample_chunk(np.zeros((0, channels), np.float32), last=True)


def _to_length(pieces: Pieces, length: int) -> Pieces:
    """Cut, or repeat the last frame: soxr's own rounding differs by a frame at most."""
    at, last = 0, np.zeros((1, 1), np.float32)
    for piece in pieces:
        if at + len(piece) > length:
            piece = piece[: length - at]
        if len(piece):
            at, last = at + len(piece), piece[-1:]
            yield piece
    if at < length:
        yield np.repeat(last, length - at, axis=0)


def _taken(pieces: Pieces, *spans: tuple[int, int]) -> Pieces:
    """The frames of some spans, which follow each other."""
    at = 0
    for piece in pieces:
        for start, end in spans:
            part = piece[max(0, start - at) : max(0, end - at)]
            if len(part):
                yield part
        at += len(piece)

"""What every codec can do."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Protocol

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, ZubretError, room
from ..source import Source

PIECE = 1 << 18
"""Frames that are worked on at once."""


class Codec(Protocol):
    """One way to store samples. `payload` is the stream's bytes, `format` what the bank says of it."""

    @property
    def label(self) -> str:
        """What people call it."""

    @property
    def wants_setup(self) -> bool:
        """Whether it must know beforehand what a bank keeps apart from the payload."""

    def obstacle(self, format: Format) -> str:
        """Why a replacement can't be encoded in this format, in words; empty where it can."""

    def block_frames(self, format: Format) -> int:
        """Frames in one block: a loop must start on a multiple of it. 1 where there are no blocks."""

    def stored_size(self, format: Format) -> int | None:
        """Bytes that a stream of this format takes; None where it depends on the sound."""

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        """Frames [start, start + frames) as (frames, channels), int16 where exact, else float32."""

    def encode(self, pcm: NDArray, format: Format) -> bytes | memoryview:
        """The payload that holds (frames, channels) samples in this format. Long ones need not fit into memory: what is
        worked on lies in `room`."""

    def warm(self) -> None:
        """Make the first call as fast as the later ones."""


class Writes:
    """A codec that writes whatever it reads."""

    wants_setup = False

    def obstacle(self, format: Format) -> str:
        return ""


def check_range(payload: Source, format: Format, start: int, frames: int) -> None:
    """ZubretError unless [start, start + frames) lies inside the stream."""
    if start < 0 or frames < 0 or start + frames > format.frames:
        raise ZubretError(
            f"Frames {start:,} to {start + frames:,} were asked of a stream of {format.frames:,}.",
            file=payload.name,
            next="Ask for a part inside the stream.",
        )


def check_size(payload: Source, needed: int, frames: int) -> None:
    """ZubretError unless the payload is long enough for its declared length."""
    if payload.size < needed:
        raise ZubretError(
            f"The payload has {payload.size:,} bytes, but {frames:,} frames need {needed:,}.",
            file=payload.name,
            field="stored",
            next="The bank is damaged: check the file against another copy.",
        )


def wrong_parameter(name: str, value: object, what: str) -> ZubretError:
    """The error of a codec parameter that can't be."""
    return ZubretError(f"{name} can't be {value!r}: {what}.", field=name, next="Correct the layout's codec.")


def pieces_of(pcm: NDArray, step: int = PIECE) -> Iterator[NDArray]:
    """Samples in pieces of at most `step` frames."""
    return (pcm[at : at + step] for at in range(0, len(pcm), step))


def frames_held(codec: Codec, format: Format, stored: int) -> int:
    """The most frames that `stored` bytes hold in a codec; 0 where its size depends on the sound."""
    if stored <= 0 or codec.stored_size(format.with_(frames=1)) is None:
        return 0
    low, high = 0, 64 * stored + 64
    while low < high:
        middle = (low + high + 1) // 2
        low, high = (
            (middle, high) if (codec.stored_size(format.with_(frames=middle)) or 0) <= stored else (low, middle - 1)
        )
    return low


def filled_up(pcm: NDArray[np.int16], frames: int) -> NDArray[np.int16]:
    """Samples lengthened to `frames` by their last one, which costs no bits of accuracy; zeros where there are none."""
    if len(pcm) == frames:
        return np.ascontiguousarray(pcm)
    out = room((frames, pcm.shape[1]), np.int16)
    for at in range(0, frames, PIECE):
        piece = pcm[at : min(at + PIECE, frames)]
        out[at : at + len(piece)] = piece
    out[len(pcm) :] = pcm[-1:] if len(pcm) else 0
    return out


def by_channel(work: Callable[[int], None], channels: int, apart: bool = True) -> None:
    """Do the same for each channel: side by side where they write `apart`, by kernels that leave the interpreter free."""
    if channels == 1 or not apart:
        for channel in range(channels):
            work(channel)
        return
    with ThreadPoolExecutor(min(channels, os.cpu_count() or 1)) as pool:
        list(pool.map(work, range(channels)))


@njit(cache=True, inline="always")
def clamped(value, low, high):
    """`value`, or the nearer bound; for the compiled kernels."""
    return low if value < low else high if value > high else value

"""What every codec can do."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, nullcontext
from typing import Any, Protocol

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Signal, ZubretError, to_int16
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

    @property
    def counts(self) -> bool:
        """Whether it tells a stream's length only where nothing else does."""

    @property
    def tells(self) -> bool:
        """Whether a payload itself says what it is: `told` finds its rate, its channels and its length."""

    def told(self, payload: Source, format: Format) -> Format:
        """The format with what the payload says, or what the stream's record must say of it."""

    def asks(self, format: Format) -> bool:
        """Whether `told` has to look into the payload of such a stream."""

    def fitted(self, pcm: Signal, format: Format) -> Format:
        """The format with what a stream's own record must hold for these samples, before they are encoded."""

    def late(self, format: Format) -> int:
        """Frames by which a replacement is heard late, where nothing that is stored makes up for its encoder's delay."""

    def obstacle(self, format: Format) -> str:
        """Why a replacement can't be encoded in this format, in words; empty where it can."""

    def block_frames(self, format: Format) -> int:
        """Frames in one block: a loop must start on a multiple of it. 1 where there are no blocks."""

    def turn_frames(self, format: Format) -> int:
        """Frames in the least part of a payload that holds the same moments of all channels: a block, a turn of each channel, a sector,
        or what fills whole bytes; 0 where one channel stands behind the other."""

    def stored_size(self, format: Format) -> int | None:
        """Bytes that a stream of this format takes; None where it depends on the sound."""

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray:
        """Frames [start, start + frames) as (frames, channels), int16 where exact, else float32."""

    def encode(self, pcm: Signal, format: Format) -> bytes | memoryview:
        """The payload that holds (frames, channels) samples in this format. They are read once and forward, and long ones
        need not fit into memory; what is made lies in `room`."""

    def warm(self) -> None:
        """Make the first call as fast as the later ones."""


class Usual:
    """A codec whose payloads say nothing of themselves, whose sound begins where it begins, and whose blocks hold all channels."""

    wants_setup = False
    tells = False
    counts = False

    def told(self, payload: Source, format: Format) -> Format:
        return format

    def asks(self, format: Format) -> bool:
        return self.tells

    def fitted(self, pcm: Signal, format: Format) -> Format:
        return format

    def late(self, format: Format) -> int:
        return 0

    def turn_frames(self: Codec, format: Format) -> int:
        return self.block_frames(format)


class Writes(Usual):
    """A codec that writes whatever it reads."""

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


def pieces_of(pcm: Signal, step: int = PIECE) -> Iterator[NDArray]:
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


def in_units(pcm: Signal, unit: int, ahead: int = 0) -> Iterator[tuple[int, int, NDArray[np.int16]]]:
    """Samples as int16 in whole units of so many frames, about a PIECE of them at once: the number of the first unit, how many
    there are, and their samples, with `ahead` frames more where there are any. The last unit is filled up by its last
    sample, which costs no bits of accuracy."""
    units = -(-len(pcm) // unit)
    at_once = max(1, PIECE // unit)
    for first in range(0, units, at_once):
        count = min(at_once, units - first)
        samples = to_int16(pcm[first * unit : (first + count) * unit + ahead])
        missing = count * unit - len(samples)
        if missing > 0:
            samples = np.concatenate([samples, np.repeat(samples[-1:], missing, axis=0)])
        yield first, count, np.ascontiguousarray(samples)


@contextmanager
def by_channel(channels: int, apart: bool = True) -> Iterator[Callable[..., None]]:
    """What calls a function with the number of each channel, and with what else it is given: side by side where the channels are
    written `apart`, by kernels that leave the interpreter free."""
    pool = ThreadPoolExecutor(min(channels, os.cpu_count() or 1)) if channels > 1 and apart else None

    def each(work: Callable[..., None], *more: Any) -> None:
        list((pool.map if pool else map)(lambda channel: work(channel, *more), range(channels)))

    with pool or nullcontext():
        yield each


@njit(cache=True, inline="always")
def clamped(value, low, high):
    """`value`, or the nearer bound; for the compiled kernels."""
    return low if value < low else high if value > high else value

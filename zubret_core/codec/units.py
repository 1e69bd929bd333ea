"""Where the parts of a payload stand that are decoded one by one: blocks, frames and packets. Tables that follow a sound (places to begin
from, packet sizes, peaks) are made from these."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..base import Format, ZubretError, to_float
from ..source import Source
from . import codec_of
from .mpeg import Framed
from .packets import Packets

PIECE = 1 << 18
"""Frames that are looked at together."""
Whole = NDArray[np.int64]


class Units(Protocol):
    """The parts of a payload, in order."""

    @property
    def count(self) -> int:
        """How many there are."""

    def at(self, index: Whole) -> Whole:
        """Where parts begin in the payload; of number `count`, where the last one ends."""

    def frame(self, index: Whole) -> Whole:
        """The first frame that is heard of each; of number `count`, how many frames there are."""

    def size(self, index: Whole) -> Whole:
        """Bytes of each, without a length that stands before it."""

    def of_frame(self, frame: Whole) -> Whole:
        """The parts in which frames lie."""

    def of_byte(self, at: Whole) -> Whole:
        """The parts in which bytes lie."""


@dataclass(frozen=True)
class Blocks:
    """Parts that all have the same bytes and frames, but for the last. stored, frames: of the whole payload."""

    bytes: int
    each: int
    stored: int
    frames: int

    @property
    def count(self) -> int:
        """How many there are."""
        return -(-self.frames // self.each)

    def at(self, index: Whole) -> Whole:
        return np.where(index < self.count, index * self.bytes, self.stored)

    def frame(self, index: Whole) -> Whole:
        return np.minimum(index * self.each, self.frames)

    def size(self, index: Whole) -> Whole:
        return self.at(index + 1) - self.at(index)

    def of_frame(self, frame: Whole) -> Whole:
        return frame // self.each

    def of_byte(self, at: Whole) -> Whole:
        return at // self.bytes


@dataclass(frozen=True)
class Pieces:
    """Parts of any bytes and frames. begins: where each begins, and where the last one ends (count + 1,); sizes: bytes (count,);
    frames: the first frame of each, and how many there are (count + 1,)."""

    begins: Whole
    sizes: Whole
    frames: Whole

    @property
    def count(self) -> int:
        """How many there are."""
        return len(self.sizes)

    def at(self, index: Whole) -> Whole:
        return self.begins[index]

    def frame(self, index: Whole) -> Whole:
        return self.frames[index]

    def size(self, index: Whole) -> Whole:
        return self.sizes[index]

    def of_frame(self, frame: Whole) -> Whole:
        return np.clip(np.searchsorted(self.frames, frame, "right") - 1, 0, max(0, self.count - 1))

    def of_byte(self, at: Whole) -> Whole:
        return np.clip(np.searchsorted(self.begins, at, "right") - 1, 0, max(0, self.count - 1))


def units_of(payload: Source, format: Format) -> Units:
    """The parts of a stream's payload; a ZubretError where its codec does not tell them."""
    codec = codec_of(format)
    if isinstance(codec, Packets):
        return _packets(codec, payload, format)
    if isinstance(codec, Framed):
        return _framed(codec, payload, format)
    each = codec.turn_frames(format)
    one, two, three = (codec.stored_size(format.with_(frames=n * each)) for n in (1, 2, 3))
    if not each or one is None or two is None or three is None or three - two != two - one:
        raise ZubretError(
            f"{codec.label} does not tell where its blocks or packets stand.",
            file=payload.name,
            field="follows",
            next="A table of this layout can't follow from a stream of this codec: leave its streams as they are.",
        )
    return Blocks(two - one, each, payload.size, format.frames)


def _packets(codec: Packets, payload: Source, format: Format) -> Pieces:
    skip, times = codec.unheard(payload, format)
    begins, sizes, added, end = [], [], [np.zeros(1, np.int64)], 0
    for window, frames in codec.counted(payload, format):
        begins.append(window.at + window.begins - codec.lead)
        sizes.append(window.ends - window.begins)
        added.append(frames)
        end = int(window.at + window.ends[-1])
    heard = (np.cumsum(np.concatenate(added)) - skip) // times
    none = np.zeros(0, np.int64)
    return Pieces(np.concatenate([*begins, [end]]), np.concatenate([none, *sizes]), np.clip(heard, 0, format.frames))


def _framed(codec: Framed, payload: Source, format: Format) -> Pieces:
    found, turns = codec.walked(payload), codec.turns
    rows = len(found.at) // turns
    at, length = found.at[: rows * turns : turns], found.length[: rows * turns]
    end = int(found.at[rows * turns - 1] + length[-1]) if rows else 0
    frames = np.arange(rows + 1, dtype=np.int64) * found.samples - (found.skip or 0)
    sizes = length.reshape(rows, turns).sum(axis=1) if rows else length
    return Pieces(np.append(at, end), sizes, np.clip(frames, 0, format.frames))


# Points ------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Spacing:
    """At which moments a table has a point: every so many `unit`s (frames, packets, bytes, milliseconds), beginning with number `first`;
    `end`: and one where the sound ends."""

    every: int
    unit: str = "frames"
    first: int = 0
    end: bool = False


def points_of(spacing: Spacing, wanted: set[str], payload: Source, format: Format) -> dict[str, NDArray]:
    """What the points of a stream say, one number a point, or bytes.

    at: where the part begins in the payload that must be decoded for this moment; frame: its first frame; size, frames: its bytes and
    its frames; low, high, peak: the least and the greatest sample of any channel up to the next point, and the greatest without its
    sign, in 16 bits; history: of each channel the sample before that first frame and the one before that, in 16 bits. A ZubretError where
    the codec does not tell.
    """
    units = units_of(payload, format)
    index, marks = _moments(spacing, units, payload, format)
    out = {
        "at": lambda: units.at(index),
        "frame": lambda: units.frame(index),
        "size": lambda: np.append(units.size(index[index < units.count]), index[index == units.count] * 0),
        "frames": lambda: units.frame(np.minimum(index + 1, units.count)) - units.frame(index),
    }
    found: dict[str, NDArray] = {what: made() for what, made in out.items() if what in wanted}
    if "history" in wanted:
        found["history"] = _histories(units.frame(index), payload, format)
    if wanted & {"low", "high", "peak"}:
        found |= {what: v for what, v in _extremes(marks, payload, format).items() if what in wanted}
    return found


def _moments(spacing: Spacing, units: Units, payload: Source, format: Format) -> tuple[Whole, Whole]:
    """The parts of the points, and the frames at which they are."""
    step, start = spacing.every, spacing.first * spacing.every
    if spacing.unit == "packets":
        index = np.arange(start, units.count, step, dtype=np.int64)
    elif spacing.unit == "bytes":
        index = units.of_byte(np.arange(start, payload.size, step, dtype=np.int64))
    else:
        marks = _frames_at(spacing, format)
        index = units.of_frame(marks)
        return (np.append(index, units.count), np.append(marks, format.frames)) if spacing.end else (index, marks)
    if spacing.end:
        index = np.append(index, units.count)
    return index, units.frame(index)


def _frames_at(spacing: Spacing, format: Format) -> Whole:
    """The frames of points in time."""
    if spacing.unit == "milliseconds":
        count = -(-format.frames * 1000 // (spacing.every * format.rate))
        marks = np.arange(spacing.first, count, dtype=np.int64) * spacing.every * format.rate // 1000
        return marks[marks < format.frames]
    return np.arange(spacing.first * spacing.every, format.frames, spacing.every, dtype=np.int64)


def _extremes(marks: Whole, payload: Source, format: Format) -> dict[str, Whole]:
    """The least and the greatest samples from each point to the next, in 16 bits."""
    low, high = np.zeros(len(marks), np.int64), np.zeros(len(marks), np.int64)
    fresh = np.ones(len(marks), bool)
    for at, samples in _in_pieces(payload, format):
        count = len(samples)
        first = max(0, int(np.searchsorted(marks, at, "right")) - 1)
        last = int(np.searchsorted(marks, at + count, "left"))
        rows = np.arange(first, last)
        begins = np.maximum(marks[rows] - at, 0)
        held = begins < np.append(begins[1:], count)  # of points at the same frame the last one has the sound
        rows, begins = rows[held], begins[held]
        if not len(rows):
            continue
        least = np.minimum.reduceat(samples.min(axis=1), begins).astype(np.int64)
        most = np.maximum.reduceat(samples.max(axis=1), begins).astype(np.int64)
        low[rows] = np.where(fresh[rows], least, np.minimum(low[rows], least))
        high[rows] = np.where(fresh[rows], most, np.maximum(high[rows], most))
        fresh[rows] = False
    return {"low": low, "high": high, "peak": np.maximum(-low, high)}


def _histories(frames: Whole, payload: Source, format: Format) -> NDArray:
    """Of each channel the samples before some frames, the nearer one first, as bytes of one point each; 0 before the first frame."""
    wanted = frames[:, None] - [1, 2]
    out = np.zeros((*wanted.shape, format.channels), np.int16)
    for at, samples in _in_pieces(payload, format):
        here = (wanted >= at) & (wanted < at + len(samples))
        out[here] = samples[wanted[here] - at]
    order = ">" if getattr(codec_of(format), "order", "") == "big" else "<"
    rows = np.ascontiguousarray(out.transpose(0, 2, 1)).astype(f"{order}i2").reshape(len(frames), -1)
    return rows.view(f"V{4 * format.channels}").reshape(-1)


def _in_pieces(payload: Source, format: Format) -> Iterator[tuple[int, NDArray]]:
    """The whole sound in 16 bits, piece by piece: the first frame of each, and its samples."""
    for at in range(0, format.frames, PIECE):
        pcm = codec_of(format).decode(payload, format, at, min(PIECE, format.frames - at))
        yield at, pcm if pcm.dtype == np.int16 else np.clip(np.rint(to_float(pcm) * 32768), -32768, 32767)

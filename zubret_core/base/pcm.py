"""Sample arrays: shape (frames, channels), int16 or float32 in [-1, 1)."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray


def to_float(pcm: NDArray) -> NDArray[np.float32]:
    """int16 or float samples as float32 in [-1, 1); int16 / 32768 is exact."""
    if pcm.dtype == np.int16:
        return pcm.astype(np.float32) / np.float32(32768)
    return pcm.astype(np.float32, copy=False)


def to_int16(pcm: NDArray) -> NDArray[np.int16]:
    """Samples as int16: rounded to nearest, clipped at full scale, no dither.

    The inverse of `to_float` for every int16 value.
    """
    if pcm.dtype == np.int16:
        return pcm
    scaled = np.rint(pcm * np.float32(32768))
    return np.clip(scaled, -32768, 32767).astype(np.int16)


class Samples:
    """(frames, channels) samples as int16 that are made while somebody reads them forward, and anew from their beginning when
    somebody goes back: those of hours need neither memory nor disk.

    `pieces` gives all of them in order, int16 or float.
    """

    def __init__(self, frames: int, channels: int, pieces: Callable[[], Iterator[NDArray]]):
        self.shape = frames, channels
        self._pieces = pieces
        self._flow, self._at = pieces(), 0
        self._have = self._nothing()

    def __len__(self) -> int:
        return self.shape[0]

    def __getitem__(self, span: slice) -> NDArray[np.int16]:
        first, last, _ = span.indices(len(self))
        if first >= last:
            return self._nothing()
        if first < self._at:
            self._flow, self._at, self._have = self._pieces(), 0, self._nothing()
        while self._at + len(self._have) <= first:
            self._at, self._have = self._at + len(self._have), self._next()
        self._at, self._have = first, self._have[first - self._at :]
        parts, count = [self._have], len(self._have)
        while count < last - first:
            parts.append(self._next())
            count += len(parts[-1])
        if len(parts) > 1:
            self._have = np.concatenate(parts)
        return self._have[: last - first]

    def _nothing(self) -> NDArray[np.int16]:
        return np.zeros((0, self.shape[1]), np.int16)

    def _next(self) -> NDArray[np.int16]:
        piece = next(self._flow, None)
        if piece is None:
            raise ValueError(f"The pieces end before the {len(self):,} frames that were promised.")
        return to_int16(piece)


Signal = NDArray | Samples
"""(frames, channels) samples."""


def decibels(ratio: float) -> float:
    """20 log10 of an amplitude ratio; -inf for 0."""
    return float(20 * np.log10(ratio)) if ratio > 0 else float("-inf")


class Snr:
    """The signal-to-noise ratio of samples against those that were meant, taken piece by piece."""

    def __init__(self) -> None:
        self._noise = self._signal = 0.0

    def add(self, meant: NDArray, got: NDArray) -> None:
        """The next samples of both: arrays of the same shape."""
        wanted = to_float(meant).astype(np.float64)
        self._noise += float(np.sum((to_float(got) - wanted) ** 2))
        self._signal += float(np.sum(wanted**2))

    @property
    def db(self) -> float:
        """In dB; inf where all are equal."""
        if self._noise == 0:
            return float("inf")
        return float(10 * np.log10(self._signal / self._noise)) if self._signal > 0 else float("-inf")


def snr_db(meant: NDArray, got: NDArray) -> float:
    """Signal-to-noise ratio in dB of `got` against `meant` (same shape); inf when equal."""
    ratio = Snr()
    ratio.add(meant, got)
    return ratio.db

"""What a codec did to a sound, as a listener may notice it: the samples that were cut off, how far its spectrum is from what was
meant, and above which frequency nothing is left.

Common practice: the log-spectral distance, over bands as wide as hearing takes them (ISO 532-1 calls them Bark; here thirds of
octaves, IEC 61260-1), averaged over the moments that are not silent.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

WINDOW = 2048
"""Frames of a spectrum; they do not overlap."""
LOWEST = 50.0
"""Hz of the lowest band."""
FLOOR, LOST = 1e-9, 12.0
"""Power below which a band is silent (-90 dBFS); dB by which a band must be weaker to count as lost."""
FULL = 1 - 1 / 32768
"""The loudest sample that 16 bits hold: many of these are a sound that was cut off."""
AT_ONCE = 32
"""Windows that are looked at together."""


class Difference:
    """Takes what was meant and what is heard, piece by piece: (frames, channels) in [-1, 1) at `rate` Hz. full: frames at full
    scale in what was meant."""

    def __init__(self, rate: int):
        count = max(1, int(3 * math.log2(max(2.0, rate / 2 / LOWEST))))
        edges = LOWEST * 2 ** (np.arange(count + 1) / 3)
        bins = np.minimum(np.round(edges * WINDOW / rate).astype(int), WINDOW // 2 + 1)
        self._bins, first = np.unique(bins, return_index=True)
        self._edges = edges[first]
        self._window = np.hanning(WINDOW).astype(np.float32)
        self._left: list[NDArray[np.float32]] = []
        self._frames = 0
        self._sum, self._moments = 0.0, 0
        self._power = np.zeros((2, max(0, len(self._bins) - 1)))
        self.full = 0

    def add(self, meant: NDArray[np.float32], heard: NDArray[np.float32]) -> None:
        """The next samples of both, of the same shape."""
        if np.abs(meant).max(initial=0) >= FULL:
            self.full += int(np.count_nonzero((np.abs(meant) >= FULL).any(axis=1)))
        both = np.stack([meant.mean(axis=1, dtype=np.float32), heard.mean(axis=1, dtype=np.float32)])
        self._left.append(both)
        self._frames += both.shape[1]
        if self._frames >= WINDOW:
            self._look()

    def _look(self) -> None:
        """At the whole windows that have come, some at a time."""
        if not self._left:
            return
        both = np.concatenate(self._left, axis=1)
        count = both.shape[1] // WINDOW
        self._left, self._frames = [both[:, count * WINDOW :].copy()], both.shape[1] - count * WINDOW
        if len(self._bins) < 2:
            return
        for first in range(0, count, AT_ONCE):
            some = both[:, first * WINDOW : min(count, first + AT_ONCE) * WINDOW].reshape(2, -1, WINDOW)
            power = np.abs(np.fft.rfft(some * self._window, axis=2)) ** 2 / (WINDOW * float(np.sum(self._window**2)))
            bands = np.add.reduceat(power, self._bins[:-1], axis=2)[:, :, : len(self._bins) - 1]
            self._power += bands.sum(axis=1)
            sounding = bands[0].sum(axis=1) > FLOOR
            levels = 10 * np.log10(bands[:, sounding] + FLOOR)
            self._sum += float(np.sqrt(np.mean((levels[0] - levels[1]) ** 2, axis=1)).sum())
            self._moments += int(sounding.sum())

    @property
    def spectrum_db(self) -> float:
        """The mean distance in dB; 0 where all is silent or shorter than one window."""
        self._look()
        return self._sum / self._moments if self._moments else 0.0

    @property
    def lost_above(self) -> int | None:
        """Hz above which what was meant is not heard; None where all of it is."""
        self._look()
        meant, heard = self._power
        there = meant > max(FLOOR, float(meant.max(initial=0)) * 1e-6)
        lost = there & (10 * np.log10((meant + FLOOR) / (heard + FLOOR)) >= LOST)
        highest = np.flatnonzero(there)
        if not len(highest) or not lost[highest[-1]]:
            return None
        kept = np.flatnonzero(there & ~lost)
        return round(float(self._edges[kept[-1] + 1])) if len(kept) else round(float(self._edges[0]))

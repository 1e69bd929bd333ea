"""What a codec did to a sound, as a listener may notice it: the samples that were cut off, how far its spectrum is from what was
meant, and above which frequency nothing is left.

Common practice: the log-spectral distance, over bands as wide as hearing takes them (ISO 532-1 calls them Bark; here thirds of
octaves, IEC 61260-1), averaged over the moments that are not silent.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

WINDOW, STRETCH = 2048, 4096
"""Frames of a spectrum, and those that one stands for: it is taken at their beginning."""
LOWEST = 50.0
"""Hz of the lowest band."""
FLOOR, LOST = 1e-9, 12.0
"""Power below which a band is silent (-90 dBFS); dB by which a band must be weaker to count as lost."""
FULL = 1 - 1 / 32768
"""The loudest sample that 16 bits hold: many of these are a sound that was cut off."""
AT_ONCE = 32
"""Stretches that are looked at together."""
_HANN = np.hanning(WINDOW).astype(np.float32)
_SCALE = WINDOW * float(np.sum(_HANN**2))


class Difference:
    """Takes what was meant and what is heard, piece by piece: (frames, channels) in [-1, 1) at `rate` Hz. full: frames at full
    scale in what was meant."""

    def __init__(self, rate: int):
        count = max(1, int(3 * math.log2(max(2.0, rate / 2 / LOWEST))))
        edges = LOWEST * 2 ** (np.arange(count + 1) / 3)
        bins = np.minimum(np.round(edges * WINDOW / rate).astype(int), WINDOW // 2 + 1)
        self._bins, first = np.unique(bins, return_index=True)
        self._edges = edges[first]
        self._left: list[NDArray[np.float32]] = []
        self._frames = 0
        self._sum, self._moments = 0.0, 0
        self._power = np.zeros((2, max(0, len(self._bins) - 1)))
        self.full = 0

    def add(self, meant: NDArray[np.float32], heard: NDArray[np.float32]) -> None:
        """The next samples of both, of the same shape."""
        if np.abs(meant).max(initial=0) >= FULL:
            self.full += int(np.count_nonzero((np.abs(meant) >= FULL).any(axis=1)))
        both = np.stack([pcm[:, 0] if pcm.shape[1] == 1 else pcm.mean(axis=1) for pcm in (meant, heard)])
        self._left.append(both)
        self._frames += both.shape[1]
        if self._frames >= STRETCH:
            self._look()

    def _look(self, last: bool = False) -> None:
        """At the whole stretches that have come, some at a time; with the last one also where only its window is whole."""
        if not self._left:
            return
        both = np.concatenate(self._left, axis=1)
        if last and both.shape[1] % STRETCH >= WINDOW:
            both = np.pad(both, ((0, 0), (0, -both.shape[1] % STRETCH)))
        count = both.shape[1] // STRETCH
        self._left, self._frames = [both[:, count * STRETCH :].copy()], both.shape[1] - count * STRETCH
        if len(self._bins) < 2:
            return
        for first in range(0, count, AT_ONCE):
            some = both[:, first * STRETCH : min(count, first + AT_ONCE) * STRETCH].reshape(2, -1, STRETCH)
            found = np.fft.rfft(some[:, :, :WINDOW] * _HANN, axis=2)
            power = (found.real**2 + found.imag**2) / _SCALE
            bands = np.add.reduceat(power, self._bins[:-1], axis=2)[:, :, : len(self._bins) - 1]
            self._power += bands.sum(axis=1)
            sounding = bands[0].sum(axis=1) > FLOOR
            levels = 10 * np.log10(bands[:, sounding] + FLOOR)
            self._sum += float(np.sqrt(np.mean((levels[0] - levels[1]) ** 2, axis=1)).sum())
            self._moments += int(sounding.sum())

    @property
    def spectrum_db(self) -> float:
        """The mean distance in dB; 0 where all is silent or shorter than one window."""
        self._look(last=True)
        return self._sum / self._moments if self._moments else 0.0

    @property
    def lost_above(self) -> int | None:
        """Hz above which what was meant is not heard; None where all of it is."""
        self._look(last=True)
        meant, heard = self._power
        there = meant > max(FLOOR, float(meant.max(initial=0)) * 1e-6)
        lost = there & (10 * np.log10((meant + FLOOR) / (heard + FLOOR)) >= LOST)
        highest = np.flatnonzero(there)
        if not len(highest) or not lost[highest[-1]]:
            return None
        kept = np.flatnonzero(there & ~lost)
        return round(float(self._edges[kept[-1] + 1])) if len(kept) else round(float(self._edges[0]))

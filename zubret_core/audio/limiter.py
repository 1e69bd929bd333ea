"""A limiter: peaks above a ceiling are turned down for as long as they last, and nothing else is.

Sources: ITU-R BS.1770-5, annex 2 (a true peak is that of the signal at four times its rate). The way of the gain is common practice:
the least that is wanted within some milliseconds before and behind, let go slowly, and smoothed over the same time, so that it is
never more than what the peak in its middle allows.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base.pcm import decibels

AROUND, LETS_GO = 0.004, 0.08
"""Seconds before and behind a peak in which the gain is on its way; time in which it comes back by 63 %."""
TAPS, PHASES = 32, 4


def _between() -> NDArray[np.float64]:
    """Interpolators for a quarter, a half and three quarters of a frame: windowed sinc functions, (3, TAPS)."""
    at = np.arange(TAPS) - (TAPS // 2 - 1)
    rows = []
    for phase in range(1, PHASES):
        x = at - phase / PHASES
        row = np.sinc(x) * np.cos(np.pi * x / TAPS) ** 2
        rows.append(row / row.sum())
    return np.array(rows)


@njit(cache=True)
def gains_of(pcm, past, taps, ceiling, goes, ring, state, least, places, out):
    """The gain for each frame, so many frames late as `ring` is long but for one.

    past: (TAPS, channels) frames before the first; ring: the last gains that were wanted; state: [where in the ring, its sum,
    the gain now, frames so far, first and last place in the queue]; least, places: the queue of the least gains wanted.
    """
    span, reach, channels = len(ring), past.shape[0], pcm.shape[1]
    at, total, gain, count, first, last = state[0], state[1], state[2], state[3], int(state[4]), int(state[5])
    for n in range(pcm.shape[0]):
        for c in range(channels):
            for t in range(reach - 1):
                past[t, c] = past[t + 1, c]
            past[reach - 1, c] = pcm[n, c]
        peak = 0.0
        for c in range(channels):
            middle = abs(past[reach // 2 - 1, c])
            peak = middle if middle > peak else peak
            for phase in range(taps.shape[0]):
                value = 0.0
                for t in range(reach):
                    value += taps[phase, t] * past[t, c]
                peak = max(peak, abs(value))
        wanted = ceiling / peak if peak > ceiling else 1.0
        while last > first and least[(last - 1) % span] >= wanted:
            last -= 1
        least[last % span], places[last % span] = wanted, count
        last += 1
        if places[first % span] <= count - span:
            first += 1
        count += 1
        held = least[first % span]
        gain = min(held, gain + (1.0 - gain) * goes)
        where = int(at)
        total += gain - ring[where]
        ring[where] = gain
        at = 0.0 if where + 1 == span else where + 1.0
        out[n] = min(1.0, total / span)
    state[0], state[1], state[2], state[3], state[4], state[5] = at, total, gain, count, first, last


class Limiter:
    """Takes samples piece by piece, float32 (frames, channels) at `rate` Hz, and gives as many, no true peak of which is above
    `ceiling_db` (dBTP) by more than what four values a frame can't see."""

    def __init__(self, rate: int, channels: int, ceiling_db: float):
        span = 2 * max(1, round(AROUND * rate)) + 1
        self._taps, self._ceiling = _between(), 10 ** (ceiling_db / 20)
        self._goes = 1 - math.exp(-1 / (LETS_GO * rate))
        self._past = np.zeros((TAPS, channels))
        self._ring, self._least = np.ones(span), np.ones(span)
        self._places = np.zeros(span)
        self._state = np.array([0.0, span, 1.0, 0.0, 0.0, 0.0])
        self._late = span - 1 + TAPS // 2
        self._waiting = np.zeros((self._late, channels), np.float32)
        self._most = 1.0

    def limited(self, pieces: Iterable[NDArray[np.float32]]) -> Iterator[NDArray[np.float32]]:
        """The same frames below the ceiling."""
        skip = self._late
        for piece in pieces:
            out = self._next(piece)
            yield out[skip:]
            skip = max(0, skip - len(out))
        yield self._next(np.zeros_like(self._waiting))[skip:]

    @property
    def by_db(self) -> float:
        """The most by which it turned something down, in dB."""
        return -decibels(self._most)

    def _next(self, piece: NDArray[np.float32]) -> NDArray[np.float32]:
        gains, piece = np.empty(len(piece)), np.ascontiguousarray(piece, np.float32)
        gains_of(
            piece,
            self._past,
            self._taps,
            self._ceiling,
            self._goes,
            self._ring,
            self._state,
            self._least,
            self._places,
            gains,
        )
        both = np.concatenate([self._waiting, piece])
        now, self._waiting = both[: len(piece)], both[len(piece) :]
        if len(gains):
            self._most = min(self._most, float(gains.min()))
        return now * gains[:, None].astype(np.float32)


def warm() -> None:
    """Compile the kernel."""
    list(Limiter(8000, 1, 0.0).limited([np.zeros((1, 1), np.float32)]))

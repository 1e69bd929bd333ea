"""Loudness, its range, and the true peak.

Sources: ITU-R BS.1770-5, annex 1 (K-weighting, gating) and annex 2 (true peak); EBU Tech 3342 (loudness range). The
filters of annex 1 are tabulated for 48,000 Hz; for other rates they are designed anew from the same analogue prototypes
(common practice; the parameters below give the table's coefficients at 48,000 Hz).
"""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base.pcm import decibels

SHELF = (1681.974450955533, 3.999843853973347, 0.7071752369554196)
"""Frequency in Hz, gain in dB and Q of the first stage."""
HIGH_PASS = (38.13547087602444, 0.5003270373238773)
"""Frequency in Hz and Q of the second stage."""
STEP = 0.1
"""Seconds by which gating blocks are apart: blocks of 400 ms that overlap by 75 %."""
BLOCK, SHORT = 4, 30
"""Steps in a gating block, and in a short-term block of 3 s."""
ABSOLUTE, RELATIVE, RANGE_RELATIVE = -70.0, -10.0, -20.0
"""Gates in LUFS and LU."""
SURROUND = 1.41
_NOTHING = 1e-30
_PEAK_RATE = 192_000
REACH = 12
"""Frames to either side of which an interpolated sample is made; annex 2 has 6. Its filter is flat to 0.04 dB up to 0.85 of half the
rate (a sinc under Kaiser's window)."""
_TOGETHER = 64
"""Frames that are interpolated together: as many as stay in the processor's first cache."""


@lru_cache
def k_weighting(rate: float) -> NDArray[np.float64]:
    """Coefficients b0 b1 b2 a1 a2 of both stages at a sample rate in Hz: shape (2, 5)."""
    f, gain, q = SHELF
    k = math.tan(math.pi * min(f / rate, 0.499))
    high, band = 10 ** (gain / 20), 10 ** (gain / 20 * 0.4996667741545416)
    a0 = 1 + k / q + k * k
    shelf = [
        (high + band * k / q + k * k) / a0,
        2 * (k * k - high) / a0,
        (high - band * k / q + k * k) / a0,
        2 * (k * k - 1) / a0,
        (1 - k / q + k * k) / a0,
    ]
    f, q = HIGH_PASS
    k = math.tan(math.pi * min(f / rate, 0.499))
    a0 = 1 + k / q + k * k
    return np.array([shelf, [1.0, -2.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]])


@lru_cache
def interpolation(times: int) -> NDArray[np.float32]:
    """What makes `times` - 1 samples between two frames: shape (times - 1, 2 * REACH), each row of sum 1."""
    place = np.arange(1 - REACH, REACH + 1) - np.arange(1, times)[:, None] / times
    taps = np.sinc(place) * np.i0(5.0 * np.sqrt(np.maximum(0, 1 - (place / REACH) ** 2)))
    return (taps / taps.sum(axis=1, keepdims=True)).astype(np.float32)


@njit(cache=True, nogil=True, fastmath=True)
def _between(pcm, taps, peak):
    """The largest amplitude between the frames of one channel, or `peak`, if that is larger: what can't be louder is not looked at.
    Around the first and the last REACH frames nothing is interpolated."""
    most = np.float32(0)
    for row in range(taps.shape[0]):
        weights = np.float32(0)
        for tap in range(taps.shape[1]):
            weights += abs(taps[row, tap])
        most = max(most, weights)
    width, made = taps.shape[1], np.zeros(_TOGETHER, np.float32)
    places = len(pcm) - width + 1
    count = min(_TOGETHER, places)
    for first in range(0, places, _TOGETHER):
        first = min(first, places - count)
        near = pcm[first : first + count + width - 1]
        loudest = np.float32(0)
        for n in range(len(near)):
            loudest = max(loudest, abs(near[n]))
        if loudest * most <= peak:
            continue
        for row in range(taps.shape[0]):
            made[:] = 0
            for tap in range(width):
                weight, there = taps[row, tap], near[tap : tap + count]  # a slice: its loop is done by whole registers
                for n in range(len(there)):
                    made[n] += weight * there[n]
            for n in range(count):
                peak = max(peak, abs(made[n]))
    return peak


@njit(cache=True, nogil=True)
def weigh(pcm, filters, state, weights, step, place, sums):
    """Filter (frames, channels) and add the weighted squares up in steps of `step` frames.

    state: (channels, 2, 2) of the filters, kept between calls; place: [frames into the open step, its sum]; closed steps
    go to `sums`, whose number is returned.
    """
    closed = 0
    into, total = place[0], place[1]
    for n in range(pcm.shape[0]):
        for c in range(pcm.shape[1]):
            value = np.float64(pcm[n, c])
            for stage in range(2):
                out = filters[stage, 0] * value + state[c, stage, 0]
                state[c, stage, 0] = filters[stage, 1] * value - filters[stage, 3] * out + state[c, stage, 1]
                state[c, stage, 1] = filters[stage, 2] * value - filters[stage, 4] * out
                value = out
            total += weights[c] * value * value
        into += 1
        if into >= step:
            sums[closed] = total
            closed += 1
            into, total = 0.0, 0.0
            for c in range(pcm.shape[1]):  # in silence a filter dies away to numbers that processors are slow with
                for stage in range(2):
                    for m in range(2):
                        if abs(state[c, stage, m]) < _NOTHING:
                            state[c, stage, m] = 0.0
    place[0], place[1] = into, total
    return closed


def channel_weights(channels: int) -> NDArray[np.float64]:
    """By the order left, right, centre, (LFE,) left and right surround; all alike where that is not known."""
    weights = np.ones(channels)
    if channels == 5:
        weights[3:] = SURROUND
    elif channels == 6:
        weights[3], weights[4:] = 0, SURROUND
    return weights


def _lufs(power: NDArray[np.float64] | float) -> NDArray[np.float64]:
    return -0.691 + 10 * np.log10(np.maximum(power, 1e-20))


class Loudness:
    """Takes samples piece by piece: float32 (frames, channels) in [-1, 1) at `rate` Hz."""

    def __init__(self, rate: int, channels: int):
        self._step = max(1, round(rate * STEP))
        self._filters, self._weights = k_weighting(rate), channel_weights(channels)
        self._state, self._place = np.zeros((channels, 2, 2)), np.zeros(2)
        self._steps: list[NDArray[np.float64]] = []
        self._taps = interpolation(max(1, min(4, round(_PEAK_RATE / rate))))
        self._before = np.zeros((2 * REACH - 1, channels), np.float32)
        self._peak = 0.0

    def add(self, pcm: NDArray[np.float32], last: bool = False) -> None:
        """The next samples; `last` says that none follow."""
        if len(pcm):
            sums = np.empty(len(pcm) // self._step + 1)
            closed = weigh(pcm, self._filters, self._state, self._weights, float(self._step), self._place, sums)
            self._steps.append(sums[:closed] / self._step)
            self._peak = max(self._peak, float(np.abs(pcm).max()))
        if len(self._taps) and (len(pcm) or last):
            known = np.concatenate([self._before, pcm, np.zeros((REACH if last else 0, pcm.shape[1]), np.float32)])
            self._before = known[1 - 2 * REACH :]
            for channel in np.ascontiguousarray(known.T):
                self._peak = float(_between(channel, self._taps, np.float32(self._peak)))

    def _blocks(self, steps: int) -> NDArray[np.float64]:
        """Mean power of each run of so many steps."""
        power = np.concatenate(self._steps) if self._steps else np.zeros(0)
        if len(power) < steps:
            return np.zeros(0)
        total = np.concatenate([[0.0], np.cumsum(power)])
        return (total[steps:] - total[:-steps]) / steps

    @property
    def integrated(self) -> float | None:
        """Integrated loudness in LUFS; None where nothing is above the absolute gate, or shorter than 400 ms."""
        power = self._blocks(BLOCK)
        power = power[_lufs(power) > ABSOLUTE]
        if not len(power):
            return None
        gate = float(_lufs(power.mean())) + RELATIVE
        power = power[_lufs(power) > gate]
        return float(_lufs(power.mean()))

    @property
    def ungated(self) -> float | None:
        """Loudness of all of it in LUFS, without gates; None where that is not above the absolute one."""
        into, rest = self._place
        whole = np.concatenate([*self._steps, np.zeros(0)])
        frames = len(whole) * self._step + into
        found = float(_lufs((whole.sum() * self._step + rest) / frames)) if frames else ABSOLUTE
        return found if found > ABSOLUTE else None

    @property
    def range(self) -> float | None:
        """Loudness range in LU (EBU Tech 3342): the 10th to the 95th percentile of gated short-term loudness."""
        power = self._blocks(SHORT)
        power = power[_lufs(power) > ABSOLUTE]
        if not len(power):
            return None
        levels = _lufs(power)
        levels = np.sort(levels[levels > float(_lufs(power.mean())) + RANGE_RELATIVE])
        low, high = (levels[round((len(levels) - 1) * p)] for p in (0.10, 0.95))
        return float(high - low)

    @property
    def true_peak(self) -> float:
        """Peak of the oversampled signal in dBTP; -inf for silence."""
        return decibels(self._peak)


def warm() -> None:
    """Compile the kernel."""
    Loudness(8000, 1).add(np.zeros((1, 1), np.float32), last=True)

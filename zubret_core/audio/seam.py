"""The seam of a loop in numbers: what is heard where its end goes over into its beginning, against what is usual around it.

Common practice: a step in level is heard from about 1 dB, a click where a sample is further from where its neighbours lead than they are
themselves, and another sound where the spectra differ more than those of neighbouring moments do.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..base import Loop, to_float

Decode = Callable[[int, int], NDArray]
"""decode(start, frames): samples of a stream, (frames, channels)."""
AROUND, WINDOW = 0.05, 0.1
"""Seconds at either side whose levels are compared, and of a spectrum."""
DRAWN = 0.01
"""Seconds at either side whose waveform is given."""
REACH = 1.0
"""Seconds in which a zero crossing is looked for."""
PLACES, BANDS = 24, 32
"""Moments of the loop at which it is looked what is usual; bands of a spectrum."""


@dataclass(frozen=True)
class Seam:
    """step_db: from the level before the end to that behind the start; click_db: how far the first sample behind the seam is from
    where those before it lead, against what is usual around it (0 is usual); spectrum_db, usual_db: how far the spectra before and
    behind the seam are apart, and those of neighbouring moments of the loop are; heard: the waveform across the seam, all channels
    together, goes_on: what stands behind the end in its place (shorter, or empty, where nothing does); ups: the nearest rising
    zero crossings before and behind the loop's start and its end, the loop's own frame where there are none."""

    step_db: float
    click_db: float
    spectrum_db: float
    usual_db: float
    heard: list[float]
    goes_on: list[float]
    ups: tuple[tuple[int, int], tuple[int, int]]


def seam_of(decode: Decode, rate: int, frames: int, loop: Loop) -> Seam:
    """Of a stream of so many frames at `rate` Hz."""

    def mono(first: int, last: int) -> NDArray[np.float64]:
        first, last = max(0, first), min(frames, last)
        if first >= last:
            return np.zeros(0)
        return to_float(decode(first, last - first)).mean(axis=1).astype(np.float64)

    wide = min(round(WINDOW * rate), loop.length)
    before, behind = mono(loop.end - wide, loop.end), mono(loop.start, loop.start + wide)
    near = min(round(AROUND * rate), loop.length)
    drawn = min(max(8, round(DRAWN * rate)), loop.length)
    inner = loop.length > 4 * wide
    places = np.linspace(loop.start + wide, loop.end - wide, PLACES).astype(int).tolist() if inner else []
    usual = [_apart(mono(at - wide, at), mono(at, at + wide)) for at in places]
    return Seam(
        _level(behind[:near]) - _level(before[-near:]),
        _click(before[-near:], behind[:near]),
        _apart(before, behind),
        float(np.median(usual)) if usual else 0.0,
        np.round(np.concatenate([before[-drawn:], behind[:drawn]]), 5).tolist(),
        np.round(mono(loop.end, loop.end + drawn), 5).tolist(),
        (_ups(mono, loop.start, rate), _ups(mono, loop.end, rate)),
    )


def _level(part: NDArray[np.float64]) -> float:
    return float(10 * np.log10(np.mean(part**2) + 1e-10)) if len(part) else -100.0


def _click(before: NDArray[np.float64], behind: NDArray[np.float64]) -> float:
    """Second differences: how far a sample is from the line through the two before it."""
    both = np.concatenate([before, behind])
    far = np.abs(np.diff(both, 2))
    at = len(before)
    there = far[max(0, at - 2) : at]
    others = np.concatenate([far[: max(0, at - 2)], far[at:]])
    if not len(there) or not len(others):
        return 0.0
    return max(0.0, float(20 * np.log10((there.max() + 1e-5) / (others.max() + 1e-5))))


def _apart(one: NDArray[np.float64], other: NDArray[np.float64]) -> float:
    """The distance of two spectra in dB: the root mean square over bands that are equal on a logarithmic axis."""
    if min(len(one), len(other)) < 64:
        return 0.0
    levels = []
    for part in (one, other):
        power = np.abs(np.fft.rfft(part * np.hanning(len(part)))) ** 2 / len(part)
        edges = np.unique(np.geomspace(2, len(power), BANDS + 1).astype(int))
        sums = np.add.reduceat(power, edges[:-1]) / np.diff(edges)
        levels.append(10 * np.log10(sums + 1e-9))
    return float(np.sqrt(np.mean((levels[0] - levels[1]) ** 2)))


def _ups(mono: Callable[[int, int], NDArray[np.float64]], at: int, rate: int) -> tuple[int, int]:
    """The nearest frames before and behind one at which the waveform has just risen through zero."""
    first = max(0, at - round(REACH * rate))
    part = mono(first, at + round(REACH * rate))
    ups = first + 1 + np.flatnonzero((part[:-1] < 0) & (part[1:] >= 0)) if len(part) > 1 else np.zeros(0, int)
    before, behind = ups[ups < at], ups[ups > at]
    return int(before[-1]) if len(before) else at, int(behind[0]) if len(behind) else at

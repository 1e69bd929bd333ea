"""How loud a stream and its replacement are, and the gain that brings one to the other.

Sources: ITU-R BS.1770-5 (loudness, true peak); EBU R 128 (a ceiling of -1 dBTP). In a short line gating has too little to
work on, so that short ones are compared by the mean of all of it (common practice).
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..audio.loudness import Loudness
from ..base import to_float
from ..base.pcm import decibels
from .treatment import GAINS, Treatment

SHORT = 3.0
"""Seconds below which loudness is not gated."""


@dataclass(frozen=True)
class Level:
    """gated, ungated: loudness in LUFS, None where there is nothing to measure; true_peak in dBTP, peak in dBFS (-200: silence);
    seconds: how long it was."""

    gated: float | None
    ungated: float | None
    true_peak: float
    peak: float
    seconds: float

    def loudness(self, short: bool) -> float | None:
        """As short lines are compared, or as all else is."""
        return self.ungated if short else self.gated

    @property
    def short(self) -> bool:
        """Whether gating has too little to work on."""
        return self.seconds < SHORT

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready form."""
        return asdict(self)


class Meter:
    """Takes samples piece by piece, (frames, channels) of any kind at `rate` Hz."""

    def __init__(self, rate: int, channels: int):
        self._loudness, self._rate, self._channels = Loudness(rate, channels), rate, channels
        self._frames, self._peak = 0, 0.0

    def add(self, pcm: NDArray) -> None:
        """The next samples."""
        if len(pcm):
            wide = to_float(pcm)
            self._loudness.add(wide)
            self._peak = max(self._peak, float(np.abs(wide).max()))
            self._frames += len(pcm)

    def level(self) -> Level:
        """Of all of it. Nothing can follow."""
        self._loudness.add(np.zeros((0, self._channels), np.float32), last=True)
        peak, true_peak = (max(-200.0, x) for x in (decibels(self._peak), self._loudness.true_peak))
        return Level(self._loudness.integrated, self._loudness.ungated, true_peak, peak, self._frames / self._rate)


def level_of(pieces: Iterable[NDArray], rate: int, channels: int) -> Level:
    """The level of samples that come piece by piece."""
    meter = Meter(rate, channels)
    for piece in pieces:
        meter.add(piece)
    return meter.level()


@dataclass(frozen=True)
class Match:
    """gain_db: what brings a replacement to `wanted` LUFS; short: without gates; held: the ceiling for its true peak allows no
    more."""

    gain_db: float
    wanted: float
    short: bool
    held: bool


def matched(new: Level, original: Level, how: Treatment) -> Match | None:
    """The gain for a replacement of a level, before it; None where there is nothing to measure."""
    by_number = how.match == "number"
    short = new.short or (original.short and not by_number)
    now, wanted = new.loudness(short), how.lufs if by_number else original.loudness(short)
    if now is None or wanted is None:
        return None
    most = math.inf if how.limit else how.ceiling_db - new.true_peak
    gain = min(wanted - now, most)
    return Match(within(gain), wanted, short, wanted - now > most)


def within(gain_db: float) -> float:
    """A gain, or the nearest that is possible."""
    return max(GAINS[0], min(GAINS[1], gain_db))

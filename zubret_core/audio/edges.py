"""Where a piece of sound begins and ends, for any threshold of silence, found in one pass."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

THRESHOLDS = range(-90, -19)
"""dBFS at which the edges are kept."""
_LEVELS = (10.0 ** (np.array(THRESHOLDS) / 20)).astype(np.float32)


class Edges:
    """Takes samples piece by piece, (frames, channels) in [-1, 1).

    heads, tails: for each threshold that is reached, from the lowest, the first frame and the one behind the last that are at
    least so loud in any channel.
    """

    def __init__(self) -> None:
        self.heads: list[int] = []
        self.tails: list[int] = []
        self._frames = 0

    def add(self, pcm: NDArray) -> float:
        """The next samples, at least one frame; the loudest of them."""
        level = np.abs(pcm[:, 0])
        for channel in range(1, pcm.shape[1]):  # a maximum along so short an axis takes ten times as long
            np.maximum(level, np.abs(pcm[:, channel]), out=level)
        peak = float(level.max())
        reached = int(np.searchsorted(_LEVELS, peak, "right"))
        new = slice(len(self.heads), reached)
        if reached > len(self.heads):
            rising = np.maximum.accumulate(level)
            self.heads += (self._frames + np.searchsorted(rising, _LEVELS[new], "left")).tolist()
        falling = np.maximum.accumulate(level[::-1])
        behind = self._frames + len(level) - np.searchsorted(falling, _LEVELS[:reached], "left")
        self.tails[:reached] = behind.tolist()
        self._frames += len(pcm)
        return peak

"""Where a piece of sound begins and ends, for any threshold of silence, found in one pass."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

THRESHOLDS = range(-90, -19)
"""dBFS at which the edges are kept."""
_LEVELS = (10.0 ** (np.array(THRESHOLDS) / 20)).astype(np.float32)


@njit(cache=True, nogil=True)
def _reached(pcm, levels, heads, tails):
    """The loudest amplitude, and how many levels it reaches; of each of these the first frame that does, and the one behind the
    last."""
    peak, reached = np.float32(0), 0
    for n in range(pcm.shape[0]):
        for c in range(pcm.shape[1]):
            level = abs(pcm[n, c])
            if level > peak:
                peak = level
                while reached < len(levels) and level >= levels[reached]:
                    heads[reached] = n
                    reached += 1
    left, n = reached, pcm.shape[0]
    while left:
        n -= 1
        for c in range(pcm.shape[1]):
            while left and abs(pcm[n, c]) >= levels[reached - left]:
                tails[reached - left] = n + 1
                left -= 1
    return peak, reached


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
        found = np.full(len(_LEVELS), -1)
        behind = np.zeros(len(_LEVELS), np.int64)
        peak, reached = _reached(pcm, _LEVELS, found, behind)
        self.heads += (self._frames + found[len(self.heads) : reached]).tolist()
        self.tails[:reached] = (self._frames + behind[:reached]).tolist()
        self._frames += len(pcm)
        return peak


def warm() -> None:
    """Compile the kernel."""
    Edges().add(np.zeros((1, 1), np.float32))

"""Peaks for drawing, and levels."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ..base import Progress, silent
from ..base.pcm import decibels, to_float

PIECE = 1 << 18


def peaks(decode: Callable[[int, int], NDArray], frames: int, bins: int, progress: Progress = silent) -> NDArray:
    """The largest absolute sample of each of `bins` equal spans, all channels together.

    uint8 of shape (bins,): 255 is full scale, and anything but silence is at least 1. Decodes
    in pieces, so memory does not grow with length. Spans without a frame are 0.
    """
    edges = np.linspace(0, frames, bins + 1).astype(np.int64)
    loudest = np.zeros(bins, np.float32)
    for start in range(0, frames, PIECE):
        count = min(PIECE, frames - start)
        level = np.abs(to_float(decode(start, count))).max(axis=1)
        first = int(np.searchsorted(edges, start, "right")) - 1
        last = int(np.searchsorted(edges, start + count, "left"))
        cuts = np.clip(edges[first:last] - start, 0, count)
        used = np.flatnonzero(np.diff(np.append(cuts, count)) > 0)
        here = np.maximum.reduceat(level, cuts[used])
        loudest[first + used] = np.maximum(loudest[first + used], here)
        progress(start + count, frames, "drawing")
    return np.where(loudest > 0, np.clip(np.ceil(loudest * 255), 1, 255), 0).astype(np.uint8)


def level_dbfs(pcm: NDArray) -> float:
    """Sample peak in dB relative to full scale (0 dBFS = 1.0); -inf for silence."""
    return decibels(float(np.abs(to_float(pcm)).max())) if len(pcm) else float("-inf")

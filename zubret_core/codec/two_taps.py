"""Filters of two taps for a sound: those by which its frames are predicted best.

Every frame has a best filter by least squares; frames are gathered around a few filters, each of which is the least-squares
solution of its own frames, until nothing changes (S. P. Lloyd, Least Squares Quantization in PCM, 1982; the number of filters is
doubled as by Y. Linde, A. Buzo and R. M. Gray, An Algorithm for Vector Quantizer Design, 1980). That is once done with all frames as
they are, once with each divided by what its own best filter leaves over. But a decoder predicts from what it has decoded; so what
comes of it is then judged by encoding some stretches, and its numbers are turned up and down as long as that helps.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray

from ..base import Signal, to_int16

ROUNDS = 12
"""Times that frames are gathered anew for each number of filters."""
NOISES = (1e-6, 1e-4, 1e-3, 1e-2)
"""How noisy what is predicted from may be, as a share of its power."""
USUAL = (
    (0, 0),
    (0.9375, 0),
    (1.796875, -0.8125),
    (1.53125, -0.859375),
    (1.90625, -0.9375),
    (0.5, 0),
    (1.2, -0.4),
    (1.7, -0.9),
)
"""Filters that suit most sounds: the first ones are those of CD-ROM XA and of its relatives (common practice)."""
MOST_FRAMES = 1 << 15
"""Frames of each channel that are looked at, evenly apart."""


Cost = Callable[[int, NDArray[np.int64]], int]
"""The squared error that filters leave in some stretches of a channel."""


def found_filters(pcm: Signal, frame: int, count: int, unit: int, cost: Cost) -> NDArray[np.int64]:
    """(channels, count, 2) coefficients in 1/unit for samples, whose frames have `frame` of them."""
    out = []
    for channel, moments in enumerate(_moments(pcm, frame)):
        tried = [_filters(moments, count, unit, weighted, noise) for weighted in (False, True) for noise in NOISES]
        tried.append(np.rint(np.resize(USUAL, (count, 2)) * unit).astype(np.int64))
        best = min(tried, key=lambda filters: cost(channel, filters))
        out.append(_turned(best, unit, partial(cost, channel)))
    return np.array(out)


def _turned(filters: NDArray[np.int64], unit: int, cost: Callable[[NDArray[np.int64]], int]) -> NDArray[np.int64]:
    """The filters with each number turned up or down as long as that helps, by smaller and smaller steps."""
    least, limit = cost(filters), 2 * unit - 1
    for part in (8, 16, 32, 64):
        step = max(1, unit // part)
        for _ in range(2):
            before = least
            for place in np.ndindex(filters.shape):
                for way in (step, -step):
                    other = filters.copy()
                    other[place] = np.clip(other[place] + way, -limit, limit)
                    now = cost(other)
                    if now < least:
                        filters, least = other, now
                        break
            if least == before:
                break
    return filters


def _moments(pcm: Signal, frame: int) -> list[NDArray[np.float64]]:
    """For each channel (frames, 6): the sums of x0*x0, x0*x1, x0*x2, x1*x1, x1*x2, x2*x2, x1 and x2 being the samples before."""
    total = -(-len(pcm) // frame)
    apart = max(1, total // MOST_FRAMES)
    step = frame * max(1, (1 << 17) // frame)
    out: list[list[NDArray[np.float64]]] = []
    before: NDArray[np.float64] | None = None
    for at in range(0, len(pcm), step):
        samples = to_int16(pcm[at : at + step]).astype(np.float64)
        if before is None:
            before = np.zeros((2, samples.shape[1]))
            out = [[] for _ in range(samples.shape[1])]
        whole = np.concatenate([before, samples, np.zeros((-len(samples) % frame, samples.shape[1]))])
        before = whole[len(samples) : len(samples) + 2]
        for c, rows in enumerate(out):
            x0, x1, x2 = (whole[2 - n : len(whole) - n, c].reshape(-1, frame)[::apart] for n in range(3))
            rows.append(
                np.stack(
                    [(a * b).sum(axis=1) for a, b in ((x0, x0), (x0, x1), (x0, x2), (x1, x1), (x1, x2), (x2, x2))], 1
                )
            )
    return [np.concatenate(rows) if rows else np.zeros((0, 6)) for rows in out]


def _left(moments: NDArray, filters: NDArray) -> NDArray[np.float64]:
    """(frames, filters): squared error of each frame's prediction by each filter."""
    a, b = filters[:, 0], filters[:, 1]
    r00, r01, r02, r11, r12, r22 = (moments[:, n : n + 1] for n in range(6))
    return r00 - 2 * (a * r01 + b * r02) + a * a * r11 + 2 * a * b * r12 + b * b * r22


def _solved(sums: NDArray, noise: float = 1e-9) -> NDArray[np.float64]:
    """The filters that leave least over for sums of moments, (rows, 6), where what is predicted from has so much noise; stable
    ones."""
    _, r01, r02, r11, r12, r22 = (sums[:, n] for n in range(6))
    r11, r22 = r11 * (1 + noise) + 1e-3, r22 * (1 + noise) + 1e-3
    det = r11 * r22 - r12 * r12
    fine = det > 1e-9 * r11 * r22
    det = np.where(fine, det, 1.0)
    a = np.where(fine, (r01 * r22 - r02 * r12) / det, r01 / r11)
    b = np.where(fine, (r02 * r11 - r01 * r12) / det, 0.0)
    b = np.clip(b, -0.999, 0.999)
    return np.stack([np.clip(a, -(1 - b) * 0.999, (1 - b) * 0.999), b], 1)


def _filters(moments: NDArray[np.float64], count: int, unit: int, weighted: bool, noise: float) -> NDArray[np.int64]:
    """(count, 2) coefficients in 1/unit; weighted: whether soft frames count as much as loud ones."""
    if not len(moments) or not moments.any():
        return np.zeros((count, 2), np.int64)
    if weighted:
        moments = moments / (np.maximum(_own(moments), 0) + 1e-6 * moments[:, 0] + 1)[:, None]
    filters = _solved(moments.sum(axis=0, keepdims=True), noise)
    while True:
        for _ in range(ROUNDS):
            near = _left(moments, filters).argmin(axis=1)
            sums = np.stack([np.bincount(near, moments[:, n], len(filters)) for n in range(6)], 1)
            used = np.bincount(near, minlength=len(filters)) > 0
            filters = np.where(used[:, None], _solved(sums, noise), filters)
        if len(filters) >= count:
            break
        more = min(count, 2 * len(filters)) - len(filters)
        worst = np.argsort(-np.bincount(near, _left(moments, filters).min(axis=1), len(filters)))[:more]
        filters = np.concatenate([filters, filters[worst] * [0.95, 0.9] + [0.02, 0.01]])
    limit = 2 * unit - 1
    return np.clip(np.rint(filters * unit), -limit, limit).astype(np.int64)


def _own(moments: NDArray[np.float64]) -> NDArray[np.float64]:
    """What each frame's own best filter leaves over."""
    own = _solved(moments)
    a, b = own[:, 0], own[:, 1]
    r00, r01, r02, r11, r12, r22 = (moments[:, n] for n in range(6))
    return r00 - 2 * (a * r01 + b * r02) + a * a * r11 + 2 * a * b * r12 + b * b * r22

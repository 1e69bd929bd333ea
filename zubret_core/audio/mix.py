"""Changing the number of channels, by a matrix: a row for each channel that is wanted, a column for each that there is.

Sources: the order of channels is that of WAVE files (Microsoft, "Multiple channel audio data and WAVE files", dwChannelMask); the
weights of a mix down are those of ITU-R BS.775-4, annex 4, table 2. That all of it is made quieter so that nothing can clip, and that
the low-frequency channel is left out, is common practice.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Matrix = tuple[tuple[float, ...], ...]
NAMES = {
    1: ("C",),
    2: ("L", "R"),
    4: ("L", "R", "BL", "BR"),
    6: ("L", "R", "C", "LFE", "BL", "BR"),
    8: ("L", "R", "C", "LFE", "BL", "BR", "SL", "SR"),
}
"""The channels of each usual number, in the order in which files keep them."""
_HALF = math.sqrt(0.5)
_GOES_TO = {
    "C": (("L", _HALF), ("R", _HALF)),
    "BL": (("SL", 1.0), ("L", _HALF), ("C", 0.5)),
    "BR": (("SR", 1.0), ("R", _HALF), ("C", 0.5)),
    "SL": (("BL", 1.0), ("L", _HALF), ("C", 0.5)),
    "SR": (("BR", 1.0), ("R", _HALF), ("C", 0.5)),
    "L": (("C", _HALF),),
    "R": (("C", _HALF),),
}
"""Where a channel goes that has no place of its own: the first that there is, and its weight; the centre to both sides."""


def channel_names(channels: int) -> tuple[str, ...]:
    """What the channels of a file are called; numbers, where their places are not known."""
    return NAMES.get(channels, tuple(str(n + 1) for n in range(channels)))


def can_mix(have: int, want: int) -> bool:
    """Whether a mix is usual: to the same number, one to many, and among 1, 2, 4, 6 and 8."""
    return have == want or have == 1 or (have in NAMES and want in NAMES)


def usual_matrix(have: int, want: int) -> Matrix:
    """The mix of `have` channels to `want`, of the numbers that `can_mix` allows."""
    if have == want:
        return tuple(tuple(float(a == b) for b in range(have)) for a in range(want))
    if have == 1 and "C" not in NAMES.get(want, ()):
        return ((1.0,),) * want
    rows, columns = NAMES[want], NAMES[have]
    out = [[0.0] * have for _ in rows]
    for column, name in enumerate(columns):
        for row, weight in _places(name, rows):
            out[row][column] += weight
    most = max(sum(row) for row in out)
    return tuple(tuple(weight / max(1.0, most) for weight in row) for row in out)


def _places(name: str, rows: tuple[str, ...]) -> list[tuple[int, float]]:
    if name in rows:
        return [(rows.index(name), 1.0)]
    there = [(rows.index(to), weight) for to, weight in _GOES_TO.get(name, ()) if to in rows]
    return there if name == "C" else there[:1]


def mixed(pcm: NDArray[np.float32], channels: int, matrix: Matrix | None = None) -> NDArray[np.float32]:
    """(frames, channels) by a matrix, or by the usual one; ValueError where none is."""
    have = pcm.shape[1]
    if matrix is None and have == channels:
        return pcm
    if matrix is None and not can_mix(have, channels):
        raise ValueError(f"no mix from {have} to {channels} channels")
    weights = np.array(matrix or usual_matrix(have, channels), np.float32)
    return pcm @ weights.T

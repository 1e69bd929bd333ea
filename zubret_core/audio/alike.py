"""Whether two sounds are the same audio in another form: another codec, level or rate."""

from __future__ import annotations

import numpy as np
import soxr
from numpy.typing import NDArray

from ..base import Format, to_float
from .files import DecodeRange

LIKE, UNLIKE = 0.9, 0.5
"""Correlation of the samples above which two sounds count as the same; below which their first second settles it."""
HEARD, GLANCE = 6.0, 1.0
"""Seconds from the beginning that are compared, and that a first look takes."""


def beginning(decode: DecodeRange, format: Format, seconds: float = HEARD) -> NDArray[np.float32]:
    """The first seconds of a sound as one channel."""
    return to_float(decode(0, min(format.frames, round(seconds * format.rate)))).mean(axis=1)


def same_audio(one: NDArray[np.float32], rate: int, decode: DecodeRange, format: Format) -> bool:
    """Whether the beginning of one sound, at its rate in Hz, is that of another; of most only the first second is read."""
    glance = _correlation(one[: round(GLANCE * rate)], rate, beginning(decode, format, GLANCE), format.rate)
    if glance is not None and glance < UNLIKE:
        return False
    whole = _correlation(one, rate, beginning(decode, format), format.rate)
    return whole is not None and whole >= LIKE


def _correlation(one: NDArray[np.float32], rate: int, other: NDArray[np.float32], other_rate: int) -> float | None:
    """How alike two sounds are, -1 to 1; None where one is silent."""
    if rate != other_rate:
        one = soxr.resample(one, rate, other_rate)
    length = min(len(one), len(other))
    if not length:
        return None
    a, b = one[:length] - one[:length].mean(), other[:length] - other[:length].mean()
    size = float(np.sqrt((a**2).sum() * (b**2).sum()))
    return float((a * b).sum()) / size if size > 0 else None

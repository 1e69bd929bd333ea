"""Changing the number of channels."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def can_mix(have: int, want: int) -> bool:
    """Whether a mix is defined: to the same number, one to many, two to one."""
    return have == want or have == 1 or (have, want) == (2, 1)


def mixed(pcm: NDArray[np.float32], channels: int) -> NDArray[np.float32]:
    """(frames, channels): mono is copied to all; stereo becomes mono as the mean, so it can't clip."""
    have = pcm.shape[1]
    if have == channels:
        return pcm
    if have == 1:
        return np.repeat(pcm, channels, axis=1)
    if (have, channels) == (2, 1):
        return pcm.mean(axis=1, keepdims=True, dtype=np.float32)
    raise ValueError(f"no mix from {have} to {channels} channels")

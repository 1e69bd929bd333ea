"""Resampling with the loop carried along.

The length is round(frames * out / in); a frame at time t stays at time t (soxr is delay-free).
Loop start and loop length are each rounded once.
"""

from __future__ import annotations

import numpy as np
import soxr
from numpy.typing import NDArray

from ..base import Loop

REACH = 4096
"""Source frames past the second pass that the filter may need; soxr's longest is far shorter."""


def carried(loop: Loop, have: int, want: int) -> Loop:
    """The loop at another rate: start and length rounded to the nearest frame."""
    start = _scaled(loop.start, have, want)
    return Loop(start, start + max(1, _scaled(loop.length, have, want)))


def _scaled(frames: int, have: int, want: int) -> int:
    return (frames * want * 2 + have) // (2 * have)


def resampled_length(frames: int, have: int, want: int, loop: Loop | None = None) -> int:
    """The frames that `resampled` gives for `frames` frames."""
    length = _scaled(frames, have, want)
    if loop is None or have == want:
        return length
    new = carried(loop, have, want)
    return max(length, new.end) if frames > loop.end else new.end


def resampled(
    pcm: NDArray[np.float32], have: int, want: int, loop: Loop | None = None
) -> tuple[NDArray[np.float32], Loop | None]:
    """pcm (frames, channels) from `have` Hz to `want` Hz, and its loop there.

    A looped source is unrolled before: two passes and a little more. The body is taken from the
    second pass, where the filter saw the loop's end before its start and its start after its
    end, so that the seam is as clean as it was in the source.
    """
    if have == want:
        return pcm, loop
    length = _scaled(len(pcm), have, want)
    if loop is None:
        return _to_length(soxr.resample(pcm, have, want, quality="VHQ"), length), None
    new = carried(loop, have, want)
    body = pcm[loop.start : loop.end]
    reach = np.resize(body, (REACH, pcm.shape[1]))
    unrolled = soxr.resample(np.concatenate([pcm[: loop.end], body, reach]), have, want, quality="VHQ")
    parts = [unrolled[: new.start], unrolled[new.end : new.end + new.length]]
    if len(pcm) > loop.end and length > new.end:
        parts.append(_to_length(soxr.resample(pcm, have, want, quality="VHQ"), length)[new.end :])
    return np.concatenate(parts), new


def _to_length(pcm: NDArray[np.float32], length: int) -> NDArray[np.float32]:
    """Cut or repeat the last frame: soxr's own rounding differs by a frame at most."""
    short = length - len(pcm)
    return np.concatenate([pcm, np.repeat(pcm[-1:], short, axis=0)]) if short > 0 else pcm[:length]

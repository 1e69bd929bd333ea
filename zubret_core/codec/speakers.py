"""Which channel is which: the order of Vorbis and Opus files against that of WAV files, and what the media library gives.

Sources: Vorbis I specification, 4.3.9 (order of channels); RFC 7845, 5.1.1.2 (Opus, mapping family 1: the same); the channel mask of
WAVEFORMATEXTENSIBLE (front left, right, centre, low, back left, right, back centre, side left, right).
"""

from __future__ import annotations

from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

LAYOUTS = {1: "mono", 2: "stereo", 3: "3.0", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}
"""What the media library calls them."""
MOST = 8
_VORBIS = {
    3: (0, 2, 1),
    5: (0, 2, 1, 3, 4),
    6: (0, 2, 1, 4, 5, 3),
    7: (0, 2, 1, 5, 6, 4, 3),
    8: (0, 2, 1, 6, 7, 4, 5, 3),
}
"""For each channel of a Vorbis file, which of a WAV file it is; the same where no entry says otherwise."""


def as_vorbis(pcm: NDArray) -> NDArray:
    """Samples (frames, channels) in the order of WAV files as Vorbis and Opus have them."""
    order = _VORBIS.get(pcm.shape[1])
    return pcm if order is None else pcm[:, order]


def as_wave(pcm: NDArray) -> NDArray:
    """Samples in the order of Vorbis and Opus files as WAV files have them."""
    order = _VORBIS.get(pcm.shape[1])
    return pcm if order is None else pcm[:, np.argsort(order)]


def samples_of(frame: Any) -> NDArray:
    """A decoded frame as (frames, channels). Of eight planes the library's Python side reads one too many, which ends the process
    (measured), so from eight channels on the samples are first put side by side."""
    channels = len(frame.layout.channels)
    if frame.format.is_planar and channels >= MOST:
        packed = av.AudioResampler(
            format=frame.format.name.removesuffix("p"), layout=frame.layout.name, rate=frame.sample_rate
        )
        frame.pts = None
        data = np.concatenate(
            [f.to_ndarray().reshape(-1, channels) for f in (*packed.resample(frame), *packed.resample(None))]
        )
        return data
    data = frame.to_ndarray()
    return data.T if frame.format.is_planar else data.reshape(-1, channels)

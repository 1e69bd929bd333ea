"""Signed 16-bit little-endian PCM, channels interleaved by sample (WAVE_FORMAT_PCM, RIFF MCI 1991)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..base import Format, to_int16
from ..source import Source
from .base import check_range, check_size


class Pcm16:
    """Two bytes a sample."""

    name = "pcm16"
    label = "PCM 16"

    def block_frames(self, format: Format) -> int:
        return 1

    def decode(self, payload: Source, format: Format, start: int, frames: int) -> NDArray[np.int16]:
        check_range(payload, format, start, frames)
        width = 2 * format.channels
        check_size(payload, format.frames * width, format.frames)
        data = payload.read(start * width, frames * width)
        return np.frombuffer(data, "<i2").astype(np.int16, copy=False).reshape(-1, format.channels)

    def encode(self, pcm: NDArray, format: Format) -> bytes:
        return to_int16(pcm).astype("<i2", copy=False).tobytes()

    def warm(self) -> None:
        pass

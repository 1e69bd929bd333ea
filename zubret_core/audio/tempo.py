"""Another tempo at the same pitch, by the media library's filter for it, which lays pieces of the waveform over each other."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import chain
from typing import Any

import av
import numpy as np
from numpy.typing import NDArray

from ..codec.speakers import LAYOUTS

TEMPI = (0.7, 1.5)
"""What may be asked for: what lies beyond is heard as damage (common practice)."""
_BEHIND = 0.25
"""Seconds of silence behind the end, which push out what the filter still holds."""
_AT_ONCE = 1 << 16


def at_tempo(
    pieces: Iterable[NDArray[np.float32]], rate: int, channels: int, tempo: float, frames: int
) -> Iterator[NDArray[np.float32]]:
    """Samples that come piece by piece, (frames, channels) at `rate` Hz, played `tempo` times as fast: exactly so many `frames`."""
    left = frames
    behind = np.zeros((round(_BEHIND * rate), channels), np.float32)
    for piece in _filtered(chain(pieces, [behind]), rate, LAYOUTS[channels], tempo):
        yield piece.reshape(-1, channels)[:left]
        left -= min(left, piece.size // channels)
        if not left:
            return
    yield np.zeros((left, channels), np.float32)


def _filtered(pieces: Iterable[NDArray[np.float32]], rate: int, layout: str, tempo: float) -> Iterator[NDArray]:
    graph = av.filter.Graph()
    into = graph.add_abuffer(sample_rate=rate, format="flt", layout=layout)
    way, out = graph.add("atempo", repr(float(tempo))), graph.add("abuffersink")
    into.link_to(way)
    way.link_to(out)
    graph.configure()

    def pulled() -> Iterator[NDArray]:
        while True:
            try:
                frame: Any = out.pull()
            except (av.EOFError, av.BlockingIOError):
                return
            yield frame.to_ndarray()

    for piece in pieces:
        for at in range(0, len(piece), _AT_ONCE):
            some = np.ascontiguousarray(piece[at : at + _AT_ONCE], np.float32)
            frame = av.AudioFrame.from_ndarray(some.reshape(1, -1), "flt", layout)
            frame.sample_rate = rate
            into.push(frame)
            yield from pulled()
    into.push(None)
    yield from pulled()

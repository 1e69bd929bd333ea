"""Waveforms at many resolutions, made in one pass and read back in parts.

The finest level has the lowest and the highest sample of every 1,024 frames of each channel, each next one of four times
as many. A file holds them one behind the other: int16 of shape (bins, channels, 2).
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import Format, Progress, silent, to_int16
from ..base.errors import ZubretError
from ..source import whole
from .files import DecodeRange

FINEST, TIMES = 1024, 4
PIECE = FINEST * 256
SPARSE, MOST_SPARSE = 512, 128
"""Frames that are decoded at each place of a first, rough drawing, and how many places there are at most."""


@njit(cache=True)
def extremes(pcm, size, out):
    """The lowest and the highest of every `size` frames of int16 (frames, channels) into out (bins, channels, 2)."""
    for n in range(out.shape[0]):
        start, end = n * size, min((n + 1) * size, pcm.shape[0])
        for c in range(pcm.shape[1]):
            low = high = pcm[start, c]
            for i in range(start + 1, end):
                value = pcm[i, c]
                low = value if value < low else low
                high = value if value > high else high
            out[n, c, 0], out[n, c, 1] = low, high


def _of(pcm: NDArray[np.int16], size: int) -> NDArray[np.int16]:
    out = np.empty((-(-len(pcm) // size), pcm.shape[1], 2), np.int16)
    extremes(pcm, size, out)
    return out


def _levels(frames: int) -> list[tuple[int, int]]:
    """(frames in a bin, bins) of each level, the finest first."""
    out, size = [], FINEST
    while True:
        bins = -(-frames // size)
        out.append((size, bins))
        if bins <= 512:
            return out
        size *= TIMES


def write_waveform(place: Path, decode: DecodeRange, format: Format, progress: Progress = silent) -> None:
    """Decode a whole stream once and write all levels; the file is there whole or not at all."""
    parts = []
    for start in range(0, format.frames, PIECE):
        parts.append(_of(to_int16(decode(start, min(PIECE, format.frames - start))), FINEST))
        progress(min(start + PIECE, format.frames), format.frames, "drawing")
    level = np.concatenate(parts) if parts else np.zeros((0, format.channels, 2), np.int16)
    try:
        with whole(place) as part, open(part, "wb") as file:
            for n, _ in enumerate(_levels(format.frames)):
                level = _coarser(level) if n else level
                file.write(level.astype("<i2").tobytes())
    except OSError as e:
        raise ZubretError(f"The drawing can't be kept: {e.strerror}.", file=place.name, next="Free some room.") from e


def _coarser(level: NDArray[np.int16]) -> NDArray[np.int16]:
    edges = np.arange(0, len(level), TIMES)
    if not len(edges):
        return level
    low = np.minimum.reduceat(level[:, :, 0], edges, axis=0)
    return np.stack([low, np.maximum.reduceat(level[:, :, 1], edges, axis=0)], axis=2)


def read_waveform(place: Path, format: Format, start: int, frames: int, bins: int) -> NDArray[np.int16] | None:
    """(bins, channels, 2) of [start, start + frames) from a file; None where its finest level is too coarse for that."""
    if frames < bins * FINEST:
        return None
    at, level = 0, (FINEST, 0)
    for size, count in _levels(format.frames):
        if level[1] and size * bins > frames:
            break
        at += level[1] * format.channels * 4
        level = size, count
    size, count = level
    kept = np.memmap(place, "<i2", "r", at, (count, format.channels, 2))
    edges = np.linspace(start / size, (start + frames) / size, bins + 1)
    first = np.clip(edges[:-1].astype(np.int64), 0, count - 1)
    upto = np.clip(np.ceil(edges[-1]).astype(np.int64), 1, count)
    part = kept[first[0] : upto]
    starts = first - first[0]
    low = np.minimum.reduceat(part[:, :, 0], starts, axis=0)
    return np.stack([low, np.maximum.reduceat(part[:, :, 1], starts, axis=0)], axis=2)


def drawn(decode: DecodeRange, format: Format, start: int, frames: int, bins: int) -> NDArray[np.int16]:
    """The same by decoding what is asked for; as many bins as there are frames at most."""
    pcm = to_int16(decode(start, frames))
    bins = max(1, min(bins, len(pcm)))
    starts = np.linspace(0, len(pcm), bins + 1).astype(np.int64)[:-1]
    low = np.minimum.reduceat(pcm, starts, axis=0)
    return np.stack([low, np.maximum.reduceat(pcm, starts, axis=0)], axis=2)


def sketched(decode: DecodeRange, format: Format, start: int, frames: int, bins: int) -> NDArray[np.int16]:
    """A rough drawing of a long part at once: a few frames here and there, each for the bins around it."""
    places = min(bins, MOST_SPARSE)
    out = np.empty((places, format.channels, 2), np.int16)
    for n in range(places):
        at = start + int((n + 0.5) * frames / places)
        pcm = to_int16(decode(at, max(1, min(SPARSE, format.frames - at))))
        out[n, :, 0], out[n, :, 1] = pcm.min(axis=0), pcm.max(axis=0)
    return out[np.arange(bins) * places // bins]


def warm() -> None:
    """Compile the kernel."""
    _of(np.zeros((1, 1), np.int16), 1)

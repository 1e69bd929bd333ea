"""Spectrograms for drawing."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..base import Format, to_float
from .files import DecodeRange

SIZE = 2048
"""Frames of a window; it is weighted by a Hann window."""
FLOOR = -100.0
"""dB that are drawn as nothing; 0 dB is a sine at full scale."""
LOWEST = 40.0
"""Hz of the lowest row."""


CLOSE = 16 * SIZE
"""Frames between windows up to which all that lies between them is decoded, too: seeking costs more than that."""
PIECE = 1 << 18


def _pieces(decode: DecodeRange, format: Format) -> DecodeRange:
    """The same samples, decoded a piece at a time; for reading that goes forward."""
    kept, begin = np.zeros((0, format.channels), np.float32), 0

    def read(at: int, count: int) -> NDArray:
        nonlocal kept, begin
        if not begin <= at <= begin + len(kept):
            kept, begin = kept[:0], at
        kept, begin = kept[at - begin :], at
        while len(kept) < count:
            end = at + len(kept)
            kept = np.concatenate([kept, to_float(decode(end, min(PIECE, format.frames - end)))])
        return kept[:count]

    return read


def frequencies(rate: int, rows: int) -> NDArray[np.float64]:
    """The Hz of each row, the lowest first, on a logarithmic axis up to half the rate."""
    return np.geomspace(min(LOWEST, rate / 8), rate / 2, rows)


def spectrogram(
    decode: DecodeRange, format: Format, start: int, frames: int, columns: int, rows: int = 192
) -> NDArray[np.uint8]:
    """(columns, rows) of the mean of all channels: 0 is -100 dB and less, 255 is 0 dB.

    Each column is one window around its time. Where these lie close together the part is decoded once, in pieces; else
    only the windows are, so that the cost depends on the columns and not on the length.
    """
    read = _pieces(decode, format) if frames <= columns * CLOSE else decode
    window = np.hanning(SIZE).astype(np.float32)
    bins = frequencies(format.rate, rows) / (format.rate / SIZE)
    low = np.clip(np.floor(np.sqrt(bins * np.append(bins[:1], bins[:-1]))).astype(int), 0, SIZE // 2)
    out = np.zeros((columns, rows), np.uint8)
    for n in range(columns):
        centre = start + (n + 0.5) * frames / columns
        at = max(0, min(int(centre) - SIZE // 2, format.frames - SIZE))
        pcm = to_float(read(at, min(SIZE, format.frames - at))).mean(axis=1)
        if len(pcm) < SIZE:
            pcm = np.concatenate([pcm, np.zeros(SIZE - len(pcm), np.float32)])
        power = np.abs(np.fft.rfft(pcm * window)) / (window.sum() / 2)
        level = np.maximum.reduceat(power, low)
        decibel = 20 * np.log10(np.maximum(level, 1e-9))
        out[n] = np.clip((decibel - FLOOR) / -FLOOR * 255, 0, 255)
    return out

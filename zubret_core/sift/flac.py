"""Frames of FLAC, walked by their two checksums (RFC 9639, 9.1 to 9.3)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from ..source import Source

WINDOW = 1 << 20
LONGEST = 1 << 24
"""Bytes of a frame at most."""


def _tables() -> tuple[np.ndarray, np.ndarray]:
    eight, sixteen = np.zeros(256, np.int64), np.zeros(256, np.int64)
    for byte in range(256):
        a, b = byte, byte << 8
        for _ in range(8):
            a = (a << 1 ^ (0x07 if a & 0x80 else 0)) & 0xFF
            b = (b << 1 ^ (0x8005 if b & 0x8000 else 0)) & 0xFFFF
        eight[byte], sixteen[byte] = a, b
    return eight, sixteen


_EIGHT, _SIXTEEN = _tables()


@njit(cache=True)
def _header(data: Any, at: Any, eight: Any) -> Any:
    """(bytes of the header, number of the frame or of its first sample, samples) of the frame at data[at]; 0 bytes where there is
    none."""
    size = len(data)
    if at + 6 > size or data[at] != 0xFF or data[at + 1] & 0xFE != 0xF8:
        return 0, 0, 0
    block, rate = np.int64(data[at + 2]) >> 4, np.int64(data[at + 2]) & 15
    if block == 0 or rate == 15 or data[at + 3] >> 4 > 10 or data[at + 3] & 1:
        return 0, 0, 0
    first: Any = np.int64(data[at + 4])
    more: Any = 0
    while more < 7 and first & (0x80 >> more):
        more += 1
    if more == 1:
        return 0, 0, 0
    number: Any = first & (0x7F >> more)
    more = max(0, more - 1)
    end = at + 5 + more
    extra = (1 if block == 6 else 2 if block == 7 else 0) + (1 if rate == 12 else 2 if rate in (13, 14) else 0)
    if end + extra + 1 > size:
        return 0, 0, 0
    for n in range(at + 5, end):
        if data[n] & 0xC0 != 0x80:
            return 0, 0, 0
        number = number << 6 | np.int64(data[n] & 0x3F)
    samples: Any = 192
    if block == 1:
        pass
    elif block <= 5:
        samples = 576 << (block - 2)
    elif block == 6:
        samples = np.int64(data[end]) + 1
    elif block == 7:
        samples = (np.int64(data[end]) << 8 | np.int64(data[end + 1])) + 1
    else:
        samples = 256 << (block - 8)
    end += extra
    crc: Any = np.int64(0)
    for n in range(at, end):
        crc = eight[crc ^ data[n]]
    if crc != data[end]:
        return 0, 0, 0
    return end + 1 - at, number, samples


@njit(cache=True)
def _walk(data: Any, final: Any, total: Any, done: Any, eight: Any, sixteen: Any) -> Any:
    """Frames from data[0] on: (the place behind the last whole one, how many, samples so far).

    A frame ends where its checksum comes out as 0, and the next one begins there, or all samples have been, or the data ends.
    """
    at, count, size = 0, 0, len(data)
    while True:
        width, _, samples = _header(data, at, eight)
        if width == 0:
            return at, count, done
        crc: Any = np.int64(0)
        end: Any = np.int64(-1)
        place = at
        while place < size:
            crc = crc << 8 & 0xFFFF ^ sixteen[crc >> 8 ^ data[place]]
            place += 1
            if crc == 0 and place >= at + width + 2:
                over = total > 0 and done + samples >= total
                if over or (final and place == size) or _header(data, place, eight)[0] > 0:
                    end = place
                    break
        if end < 0:
            return at, count, done
        at, count, done = end, count + 1, done + samples
        if total > 0 and done >= total:
            return at, count, done


def frames_end(source: Source, at: int, total: int) -> tuple[int, int]:
    """The place behind the last frame from `at` on, and how many frames there are; total: samples of each channel, 0 where nothing
    says it."""
    frames, done, window = 0, 0, WINDOW
    while at < source.size:
        data = source.read(at, min(window, source.size - at))
        final = at + len(data) == source.size
        end, count, done = _walk(np.frombuffer(data, np.uint8), final, total, done, _EIGHT, _SIXTEEN)
        frames += count
        at += int(end)
        if (total and done >= total) or final or (not count and window >= LONGEST):
            break
        if not count:
            if not frames and not _header(np.frombuffer(data[:32], np.uint8), 0, _EIGHT)[0]:
                break
            window *= 4
    return at, frames


def warm() -> None:
    """Compile."""
    _walk(np.frombuffer(bytes(16), np.uint8), True, 0, 0, _EIGHT, _SIXTEEN)

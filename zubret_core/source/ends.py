"""Where a packed stream ends, where its library does not tell: an entry may be filled up to a multiple of some size, and nothing says
how long it is without that.

Sources: Zstandard RFC 8878, sections 3.1.1 and 3.1.2 (frames, and those to be skipped); LZ4 block format 1.6; Snappy's format
description of 2011.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from .base import SliceSource, Source

MOST = 1 << 20
"""Bytes that an entry is filled up with at most."""


def is_filling(data: bytes) -> bool:
    """Whether all bytes are the same; what packs anything does not look like that."""
    return not data.strip(data[:1])


def zstd_frames(stored: Source) -> Source:
    """The frames of a stream without what it is filled up with."""
    at = 0
    while (end := _zstd_frame(stored, at)) is not None:
        at = end
    return _without(stored, at)


def _zstd_frame(stored: Source, at: int) -> int | None:
    """The place behind a frame; None where none stands, or it is cut short."""
    head = stored.read(at, min(6, stored.size - at))
    mark = int.from_bytes(head[:4], "little")
    if mark & ~15 == 0x184D2A50:
        size = int.from_bytes(stored.read(at + 4, min(4, stored.size - at - 4)), "little")
        return at + 8 + size if at + 8 + size <= stored.size else None
    if mark != 0xFD2FB528 or len(head) < 6:
        return None
    what = head[4]
    single = what >> 5 & 1
    at += 6 - single + (0, 1, 2, 4)[what & 3] + (single, 2, 4, 8)[what >> 6]
    last = 0
    while not last:
        if at + 3 > stored.size:
            return None
        block = int.from_bytes(stored.read(at, 3), "little")
        last, kind, size = block & 1, block >> 1 & 3, block >> 3
        at += 3 + (1 if kind == 1 else size)  # 1: a byte that is repeated
    at += 4 * (what >> 2 & 1)
    return at if at <= stored.size else None


def lz4_block(data: bytes, size: int) -> bytes:
    """A block of `size` unpacked bytes without what it is filled up with."""
    return _only(data, int(_lz4_end(np.frombuffer(data, np.uint8), size)))


def snappy_block(data: bytes, size: int) -> bytes:
    """A raw stream of `size` unpacked bytes without what it is filled up with."""
    return _only(data, int(_snappy_end(np.frombuffer(data, np.uint8), size)))


def _only(data: bytes, end: int) -> bytes:
    return data[:end] if is_filling(data[end:]) else data


def _without(stored: Source, end: int) -> Source:
    left = stored.size - end
    return SliceSource(stored, 0, end) if left <= MOST and is_filling(stored.read(end, left)) else stored


@njit(cache=True)
def _lz4_end(data, size):
    """The place behind the sequence with which there are `size` bytes; all of data where there is none."""
    at, out = 0, 0
    while at < len(data):
        token: Any = np.int64(data[at])
        at, length = _longer(data, at + 1, token >> 4)
        at, out = at + length, out + length
        if out >= size:  # the last sequence is bytes as they are
            return min(at, len(data))
        at, length = _longer(data, at + 2, token & 15)
        out += length + 4
    return len(data)


@njit(cache=True)
def _longer(data, at, length):
    """(place behind it, length) of a length of which the first four bits are known."""
    more: Any = 255 if length == 15 else 0
    while more == 255 and at < len(data):
        more = np.int64(data[at])
        at, length = at + 1, length + more
    return at, length


@njit(cache=True)
def _snappy_end(data, size):
    """The same of a raw stream of Snappy, in front of which its size stands."""
    at, out = 0, 0
    while at < len(data) and data[at] > 127:
        at += 1
    at += 1
    while at < len(data) and out < size:
        tag: Any = np.int64(data[at])
        kind, length = tag & 3, (tag >> 2) + 1
        at += 1
        if kind == 0:
            extra: Any = max(0, length - 60)
            if extra:
                length = 1
                for n in range(min(extra, len(data) - at)):
                    length += np.int64(data[at + n]) << (8 * n)
            at += extra + length
        elif kind == 1:
            at, length = at + 1, 4 + (tag >> 2 & 7)
        else:
            at += 2 * kind - 2  # two bytes or four
        out += length
    return min(at, len(data))


def warm() -> None:
    """Compile."""
    lz4_block(b"\0", 0)
    snappy_block(b"\0", 0)

"""Unpacking LZO1X, bounded: the library that packs it unpacks without a limit.

Source: the description of the LZO stream format in the Linux kernel's documentation (staging/lzo.rst), which holds for all
of LZO1X.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from .base import SPARE, repeat, take


def unpacked(data: bytes, limit: int) -> memoryview:
    """At most `limit` bytes; ValueError where the stream gives more, or is damaged."""
    out = np.empty(limit + SPARE, np.uint8)
    end = _unpack(np.frombuffer(data + bytes(SPARE), np.uint8), len(data), limit, out)
    if end < 0:
        raise ValueError(("it is cut short", "it gives too many bytes", "it points before its beginning")[-end - 1])
    return out[:end].data


_CUT, _LONG, _BEFORE = -1, -2, -3


@njit(cache=True)
def _unpack(data, size, limit, out):
    """Bytes unpacked of data[:size], `limit` at most, or what is wrong. state: plain bytes that the last instruction copied, 4 for a long row of them."""
    at: Any = 0
    pos: Any = 0
    state: Any = 0
    there: Any = data.ctypes.data
    to: Any = out.ctypes.data
    if size and data[0] > 17:
        count = data[0] - 17
        at, state = 1, min(count, 4)
        if at + count > size:
            return _CUT
        if count > limit:
            return _LONG
        take(to, there + at, count)
        at, pos = at + count, count
    while True:
        if at >= size:
            return _CUT
        word: Any = np.int64(data[at])
        length: Any = np.int64(0)
        extra: Any = np.int64(0)
        at += 1
        if word < 16 and state == 0:
            length, extra = word, 15
        elif 16 <= word < 32:
            length, extra = word & 7, 7
        elif 32 <= word < 64:
            length, extra = word & 31, 31
        if extra and length == 0:
            while at < size and data[at] == 0:
                extra, at = extra + 255, at + 1
            if at >= size:
                return _CUT
            length, at = extra + data[at], at + 1
        if word < 16 and state == 0:
            length += 3
            if at + length > size:
                return _CUT
            if pos + length > limit:
                return _LONG
            take(to + pos, there + at, length)
            at, pos, state = at + length, pos + length, 4
            continue
        if at + (2 if 16 <= word < 64 else 1) > size:
            return _CUT
        behind: Any = np.int64(data[at])
        at += 1
        if word < 16:
            length = 2 if state < 4 else 3
            distance, state = (behind << 2) + (word >> 2) + (1 if state < 4 else 2049), word & 3
        elif word < 64:
            behind |= np.int64(data[at]) << 8
            at, length, state = at + 1, length + 2, behind & 3
            distance = (behind >> 2) + (1 if word >= 32 else 16384 + ((word & 8) << 11))
            if word < 32 and distance == 16384:
                return pos
        elif word < 128:
            length, distance, state = 3 + (word >> 5 & 1), (behind << 3) + (word >> 2 & 7) + 1, word & 3
        else:
            length, distance, state = 5 + (word >> 5 & 3), (behind << 3) + (word >> 2 & 7) + 1, word & 3
        if distance > pos:
            return _BEFORE
        if at + state > size:
            return _CUT
        if pos + length + state > limit:
            return _LONG
        repeat(to + pos, distance, length)
        pos += length
        take(to + pos, there + at, state)
        at, pos = at + state, pos + state


def warm() -> None:
    """Compile."""
    unpacked(b"\x11\0\0", 0)

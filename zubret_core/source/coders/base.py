"""What a way of packing can do that is our own, or that somebody has installed; and what kernels of ours share."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Protocol

import numpy as np
from numba import njit

from ...base.machine import WIDE, copy, eight, turned
from ..base import Source

PIECE = 1 << 18
"""Bytes that are worked on at once."""
MORE, ENDED, WRONG = range(3)
"""How a compiled kernel stopped: it wants more bytes or more room; at the stream's end; at something that can't be."""


class Coder(Protocol):
    """One way to pack bytes. Both directions give pieces of any length and read sources from wherever they like; what they
    raise is told as damage of the entry, and more bytes than are wanted are an error."""

    def unpacked(self, stored: Source, size: int) -> Iterator[bytes]:
        """The unpacked pieces: `size` bytes in all where the stream does not end before."""

    def packed(self, plain: Source) -> Iterator[bytes]:
        """The stored pieces."""


def drained(stored: Source, size: int, run: Callable[[bytes, int], tuple[bytes, int, int]]) -> Iterator[bytes]:
    """What a kernel makes of a source, until there are `size` bytes or the stream ends.

    run(data, room): makes about `room` bytes of data and gives them, how many bytes it has read, and how it stopped; it asks
    for more only where what is left is shorter than one item. ValueError where it met what can't be.
    """
    at, done, rest = 0, 0, b""
    while done < size:
        if len(rest) < PIECE:
            data = stored.read(at, min(PIECE, stored.size - at))
            at += len(data)
            rest += data
        out, used, how = run(rest, size - done)
        rest, done = rest[used:], done + len(out)
        if out:
            yield out
        if how == WRONG:
            raise ValueError(f"behind unpacked byte {done:,} stands what no such stream holds")
        if how == ENDED or (not out and not used and at >= stored.size):
            return


@njit(cache=True, inline="always")
def bits_from(data, bit, high_first):
    """The bits from bit place `bit` on, 57 at least, the first one highest if the highest of a byte comes first, else lowest. What is
    behind the end counts as zeros."""
    at, word = bit >> 3, np.uint64(0)
    if at + 8 <= len(data):
        word = eight(data, at)
    else:
        for n in range(len(data) - at):
            word |= np.uint64(data[at + n]) << np.uint64(8 * n)
    return turned(word) << np.uint64(bit & 7) if high_first else word >> np.uint64(bit & 7)


@njit(cache=True, inline="always")
def repeat(out, pos, distance, length):
    """Put `length` bytes at out[pos:] that stand `distance` bytes before; up to WIDE more may be overwritten."""
    if distance < WIDE:
        for n in range(pos, pos + length):
            out[n] = out[n - distance]
    else:
        for n in range(pos, pos + length, WIDE):
            copy(out, n, out, n - distance)


@njit(cache=True, inline="always")
def take(data, at, length, out, pos):
    """Copy bytes of `data` to out[pos:]; up to WIDE more may be overwritten."""
    if at + length + WIDE <= len(data):
        for n in range(0, length, WIDE):
            copy(out, pos + n, data, at + n)
    else:
        for n in range(length):
            out[pos + n] = data[at + n]

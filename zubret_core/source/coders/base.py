"""What a way of packing can do that is our own, or that somebody has installed; and what kernels of ours share."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, Protocol

import numpy as np
from numba import njit

from ...base.machine import WIDE, copy, eight, turned
from ..base import BytesSource, Source

PIECE = 1 << 17
"""Bytes that are worked on at once."""
SPARE = 4 * WIDE
"""Bytes behind the last one that a kernel may read, and write over."""
MORE, ENDED, WRONG = range(3)
"""How a compiled kernel stopped: it wants more bytes or more room; at the stream's end; at something that can't be."""


class Coder(Protocol):
    """One way to pack bytes. Both directions give pieces of any length and read sources from wherever they like; what they
    raise is told as damage of the entry, and more bytes than are wanted are an error."""

    def unpacked(self, stored: Source, size: int) -> Iterator[bytes]:
        """The unpacked pieces: `size` bytes in all where the stream does not end before."""

    def packed(self, plain: Source) -> Iterator[bytes]:
        """The stored pieces."""


def drained(stored: Source, size: int, run: Callable[[Any, int, int], tuple[bytes, int, int]]) -> Iterator[bytes]:
    """What a kernel makes of a source, until there are `size` bytes or the stream ends.

    run(data, length, room): makes about `room` bytes of the first `length` of data, behind which stand SPARE more of no matter what,
    and gives them, how many bytes it has read, and how it stopped; it asks for more only where what is left is shorter than one
    item. ValueError where it met what can't be.
    """
    at, done, data, length = 0, 0, np.zeros(0, np.uint8), 0
    while done < size:
        if length < PIECE:
            more = stored.read(at, min(PIECE, stored.size - at))
            at += len(more)
            data = np.frombuffer(b"".join((data[:length].data, more, bytes(SPARE))), np.uint8)
            length += len(more)
        out, used, how = run(data, length, size - done)
        data, length, done = data[used:], length - used, done + len(out)
        if out:
            yield out
        if how == WRONG:
            raise ValueError(f"behind unpacked byte {done:,} stands what no such stream holds")
        if how == ENDED or (not out and not used and at >= stored.size):
            return


def tried(coder: Coder) -> None:
    """Pack and unpack a few bytes, for which kernels are compiled."""
    stored = b"".join(coder.packed(BytesSource(b"abcabcabc")))
    assert b"".join(coder.unpacked(BytesSource(stored), 9)) == b"abcabcabc"


# These take addresses: an array that is handed on is counted, which takes longer than what they do.


@njit(forceinline=True)
def bits_from(data, bit, high_first):
    """The bits from bit place `bit` behind an address on, 57 at least, the first one highest if the highest of a byte comes first, else
    lowest. Eight bytes are read."""
    word = eight(data + (bit >> 3))
    return turned(word) << np.uint64(bit & 7) if high_first else word >> np.uint64(bit & 7)


@njit(forceinline=True)
def repeat(to, distance, length):
    """Put `length` bytes at an address that stand `distance` bytes before; up to SPARE more may be overwritten."""
    pos, end = to, to + length
    while distance < WIDE:  # what stands there, twice as much each time
        copy(pos, pos - distance)
        pos, distance = pos + distance, 2 * distance
    copy(pos, pos - distance)
    copy(pos + WIDE, pos + WIDE - distance)
    for n in range(pos + 2 * WIDE, end, WIDE):
        copy(n, n - distance)


@njit(forceinline=True)
def take(to, source, length):
    """Copy `length` bytes from one address to another; up to WIDE more may be read and overwritten."""
    copy(to, source)
    for n in range(WIDE, length, WIDE):
        copy(to + n, source + n)

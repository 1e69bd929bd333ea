"""Huffman coding with a table of its own in front: frequent bytes have short codes.

Sources: D. A. Huffman, A Method for the Construction of Minimum-Redundancy Codes, Proceedings of the IRE 40 (1952); codes that
follow from their lengths as in RFC 1951, section 3.2.2; a table as counts and symbols as in ITU-T T.81, annex C; codes of
limited length by L. L. Larmore and D. S. Hirschberg, A Fast Algorithm for Optimal Length-Limited Huffman Codes, Journal of the
ACM 37 (1990).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...base.machine import eight, mirrored, put_eight, turned
from ..base import SliceSource, Source
from .base import MORE, PIECE, WRONG, drained, take, tried

AT_HAND = 11
"""Bits in which one symbol or two are looked up: such a table stays near the processor."""
APART = 1 << 12
"""Bytes from one of two places that are read at once to the other."""
BOTH = 16 * APART + 128
"""Bits that are read from both places at most, of which each gives a byte at most."""
BEHIND = 8 * APART + 128
"""Bytes behind the last one that may be written over."""
TABLES = ("bytes", "nibbles", "counts")


@dataclass(frozen=True)
class Huffman:
    """table: "bytes": the length of each byte's code in 256 bytes (0 for a byte that does not occur); "nibbles": the same in 128, the
    lower half first; "counts": how many codes have 1, 2 ... `longest` bits, a byte each, then their bytes in order.

    longest: bits of a code at most, 1 to 15. high_first: whether the highest bit of each byte comes first (T.81), or the lowest
    (RFC 1951). A code's own highest bit comes first either way.
    """

    table: str = "bytes"
    longest: int = 15
    high_first: bool = True

    def unpacked(self, stored: Source, size: int) -> Iterator[bytes]:
        """See `Coder`."""
        if not size:
            return
        lengths, symbols, at = self._read(stored)
        lookup = _lookup(lengths, symbols, self.longest)
        pairs = _pairs(lookup, self.longest)
        state, longest, high_first = np.zeros(2, np.int64), self.longest, self.high_first
        out = np.empty(min(size, PIECE + BOTH) + BEHIND, np.uint8)

        def run(data: NDArray[np.uint8], length: int, room: int) -> tuple[bytes, int, int]:
            most = min(room, len(out) - BEHIND)
            end, used, how = _unpack(
                data, length, lookup, pairs, longest, high_first, state, out, min(most, PIECE), most
            )
            return out[:end].tobytes(), used, how

        yield from drained(SliceSource(stored, at, stored.size - at), size, run)

    def _read(self, stored: Source) -> tuple[list[int], list[int], int]:
        """Lengths of codes, their bytes in the order of their codes, and where the bits begin."""
        if self.table == "counts":
            counts = stored.read(0, self.longest)
            symbols = list(stored.read(self.longest, sum(counts)))
            lengths = [n + 1 for n, count in enumerate(counts) for _ in range(count)]
            if len(set(symbols)) != len(symbols):
                raise ValueError("a byte has two codes in the table")
            return lengths, symbols, self.longest + len(symbols)
        at = 256 if self.table == "bytes" else 128
        head = stored.read(0, at)
        each = list(head) if self.table == "bytes" else [n for byte in head for n in (byte & 15, byte >> 4)]
        symbols = sorted((s for s in range(256) if each[s]), key=lambda s: (each[s], s))
        return [each[s] for s in symbols], symbols, at

    def _written(self, lengths: Sequence[int]) -> bytes:
        """The table of the lengths of 256 codes."""
        if self.table == "bytes":
            return bytes(lengths)
        if self.table == "nibbles":
            return bytes(lengths[n] | lengths[n + 1] << 4 for n in range(0, 256, 2))
        order = sorted((s for s in range(256) if lengths[s]), key=lambda s: (lengths[s], s))
        return bytes(lengths.count(n) for n in range(1, self.longest + 1)) + bytes(order)

    def packed(self, plain: Source) -> Iterator[bytes]:
        """See `Coder`. The bytes are counted first, so they are read twice."""
        counts = np.zeros(256, np.int64)
        for piece in plain.chunks(step=PIECE):
            counts += np.bincount(np.frombuffer(piece, np.uint8), minlength=256)
        lengths = code_lengths(counts.tolist(), self.longest)
        if self.table == "counts" and lengths.count(8) == 256:  # a byte of the table says 255 at most
            if self.longest == 8:
                raise ValueError("all 256 bytes have codes of 8 bits, and no count in the table can say 256")
            lengths[-2:] = 9, 9
        yield self._written(lengths)
        order = sorted((s for s in range(256) if lengths[s]), key=lambda s: (lengths[s], s))
        codes = np.zeros(256, np.int64)
        codes[order] = canonical([lengths[s] for s in order])
        state = np.zeros(2, np.int64)
        widths = np.array(lengths, np.int64)
        for piece in plain.chunks(step=PIECE):
            out = np.zeros(2 * len(piece) + 8, np.uint8)
            yield out[: _pack(np.frombuffer(piece, np.uint8), codes, widths, self.high_first, state, out)].tobytes()
        if state[1]:
            yield bytes([int(state[0]) << (8 - int(state[1])) if self.high_first else int(state[0])])


def canonical(lengths: Sequence[int]) -> list[int]:
    """The codes of lengths in rising order, each the one before plus 1, longer ones filled up with zeros (RFC 1951, section
    3.2.2). ValueError where there are more codes of a length than that length has."""
    codes, code, before = [], -1, 0
    for length in lengths:
        code = (code + 1) << (length - before)
        before = length
        if code >> length:
            raise ValueError("the table holds more codes than there can be")
        codes.append(code)
    return codes


def code_lengths(counts: Sequence[int], longest: int) -> list[int]:
    """The lengths of codes, none above `longest`, by which symbols that occur so often take the fewest bits; 0 for those
    that do not occur."""
    used = sorted((count, n) for n, count in enumerate(counts) if count)
    out = [0] * len(counts)
    if len(used) == 1:
        out[used[0][1]] = 1
    if len(used) < 2:
        return out
    if len(used) > 1 << longest:
        raise ValueError(f"{len(used)} symbols have no codes of at most {longest} bits")
    coins: list[tuple[int, tuple[int, ...]]] = [(count, (n,)) for count, n in used]
    row = coins
    for _ in range(longest - 1):
        pairs = [(a[0] + b[0], a[1] + b[1]) for a, b in zip(row[::2], row[1::2], strict=False)]
        row = sorted([*coins, *pairs], key=lambda coin: coin[0])
    for _, symbols in row[: 2 * len(used) - 2]:
        for n in symbols:
            out[n] += 1
    return out


def _lookup(lengths: Sequence[int], symbols: Sequence[int], longest: int) -> NDArray[np.int32]:
    """For any next `longest` bits: symbol * 16 + bits of its code; -1 where they begin no code."""
    if lengths and max(lengths) > longest:
        raise ValueError(f"the table holds a code of {max(lengths)} bits")
    out = np.full(1 << longest, -1, np.int32)
    for length, symbol, code in zip(lengths, symbols, canonical(lengths), strict=True):
        out[code << (longest - length) : (code + 1) << (longest - length)] = symbol * 16 + length
    return out


def _pairs(lookup: NDArray[np.int32], longest: int) -> NDArray[np.uint32]:
    """For any next AT_HAND bits: bits of the codes of the one symbol or two that begin there, + 256 * first + 65,536 * second symbol
    + 16,777,216 * how many; 0 where a longer code begins."""
    at_hand = np.arange(1 << AT_HAND)

    def first(bits: NDArray[np.int64]) -> NDArray[np.int32]:
        return lookup[bits << (longest - AT_HAND) if longest > AT_HAND else bits >> (AT_HAND - longest)]

    one = first(at_hand)
    width = one & 15
    two = first(at_hand << width & (1 << AT_HAND) - 1)
    both = width + (two & 15)
    is_one, is_two = (one >= 0) & (width <= AT_HAND), (two >= 0) & (both <= AT_HAND)
    single = width | one >> 4 << 8 | 1 << 24
    double = both | one >> 4 << 8 | two >> 4 << 16 | 2 << 24
    return np.where(is_one, np.where(is_two, double, single), 0).astype(np.uint32)


@njit(forceinline=True)
def _next(place, high_first):
    """The 64 bits at an address, the first one highest."""
    return turned(eight(place)) if high_first else mirrored(eight(place))


@njit(forceinline=True)
def _symbol(place, bit, high_first, lookup, longest):
    """What `_lookup` has for the bits at a bit place behind an address."""
    word = _next(place + (bit >> 3), high_first) << np.uint64(bit & 7)
    return np.int64(lookup[word >> np.uint64(64 - longest)])


@njit(forceinline=True)
def _one(place, bit, to, high_first, lookup, longest):
    """Write the byte whose code stands at a bit place: (address behind it, bits of its code, 0 where there is none)."""
    code = _symbol(place, bit, high_first, lookup, longest)
    if code < 0:
        return to, np.int64(0)
    put_eight(to, np.uint64(code >> 4))
    return to + 1, code & 15


@njit(forceinline=True)
def _begun(place, bit, high_first):
    """(word, at, held) at a bit place behind an address: 64 bits of which `held` are known, the first one highest, and where the next ones
    stand."""
    return _next(place + (bit >> 3), high_first) << np.uint64(bit & 7), place + (bit >> 3) + 7, 56 - (bit & 7)


@njit(forceinline=True)
def _filled(word, at, held, high_first):
    """The same with as many bits as there is room for, 56 at least. What is known of the next byte is written over with the same bits."""
    return word | _next(at, high_first) >> np.uint64(held), at + (63 - held >> 3), held | 56


@njit(cache=True)
def _two_places(place, bit, to, lookup, pairs, longest, high_first):
    """Unpack some 2 * APART bytes from a bit place on, to an address: (bit place, address behind it, whether both came together).

    Where a code ends is known once it was looked up, and each waits for the one before. So two places are read at once, the second in
    the middle of a code, maybe: where codes of both end at the same bit, all are the same from there on, which is soon.
    """
    middle, end, ahead = bit + 8 * APART, bit + 16 * APART, to + BOTH
    one, at, held = _begun(place, bit, high_first)
    two, there, had = _begun(place, middle, high_first)
    other = ahead
    while 8 * (at - place) - held < middle and 8 * (there - place) - had < end:
        one, at, held = _filled(one, at, held, high_first)
        two, there, had = _filled(two, there, had, high_first)
        found, this, width = np.uint64(0), np.uint64(0), np.int64(1)
        spent, gone = found, this  # sums of them, so that their bits are taken from `held` all at once
        for _ in range(56 // AT_HAND):
            found = np.uint64(pairs[one >> np.uint64(64 - AT_HAND)])
            this = np.uint64(pairs[two >> np.uint64(64 - AT_HAND)])
            put_eight(to, found >> np.uint64(8))
            put_eight(other, this >> np.uint64(8))
            one <<= found & np.uint64(63)  # a shift takes 6 bits of a number anyway
            two <<= this & np.uint64(63)
            to, other = to + np.int64(found >> np.uint64(24)), other + np.int64(this >> np.uint64(24))
            spent, gone = spent + found, gone + this
        held, had = held - np.int64(spent & np.uint64(255)), had - np.int64(gone & np.uint64(255))
        if not found:
            to, width = _one(place, 8 * (at - place) - held, to, high_first, lookup, longest)
            one, at, held = _begun(place, 8 * (at - place) - held + width, high_first)
        if not this:
            other, this_width = _one(place, 8 * (there - place) - had, other, high_first, lookup, longest)
            two, there, had = _begun(place, 8 * (there - place) - had + this_width, high_first)
            width = min(width, this_width)
        if not width:
            break
    bit = 8 * (at - place) - held
    while bit != middle and ahead < other:
        if bit < middle:
            to, width = _one(place, bit, to, high_first, lookup, longest)
            if not width:
                break
            bit += width
        else:
            middle, ahead = middle + (_symbol(place, middle, high_first, lookup, longest) & 15), ahead + 1
    if bit != middle:
        return bit, to, False
    take(to, ahead, other - ahead)
    return 8 * (there - place) - had, to + other - ahead, True


@njit(cache=True)
def _unpack(data, length, lookup, pairs, longest, high_first, state, out, stop, most):
    """(bytes unpacked, bytes read, how it stopped); state: bits read of the first byte, whether two places did not come together (codes of
    six bits each never do). out: has room for `most` bytes and BEHIND more; no more than `stop` are begun."""
    place, first = np.int64(data.ctypes.data), np.int64(out.ctypes.data)
    bit, size, to, how = state[0], 8 * length, first, MORE
    while to < first + stop:
        if not state[1] and bit + BOTH <= size and to + BOTH <= first + most:
            bit, to, together = _two_places(place, bit, to, lookup, pairs, longest, high_first)
            state[1] = not together
            continue
        word, at, held = _begun(place, bit, high_first)
        found = np.uint64(1)
        while found and 8 * (at - place) + 64 <= size and to + 2 * (56 // AT_HAND) < first + stop:
            word, at, held = _filled(word, at, held, high_first)
            for _ in range(56 // AT_HAND):
                found = np.uint64(pairs[word >> np.uint64(64 - AT_HAND)])
                put_eight(to, found >> np.uint64(8))
                word <<= found & np.uint64(63)
                to, held = to + np.int64(found >> np.uint64(24)), held - np.int64(found & np.uint64(63))
        bit = 8 * (at - place) - held
        code = _symbol(place, bit, high_first, lookup, longest)
        if code < 0 or bit + (code & 15) > size:
            how = MORE if bit + longest > size else WRONG
            break
        put_eight(to, np.uint64(code >> 4))
        to, bit = to + 1, bit + (code & 15)
    state[0] = bit & 7
    return to - first, bit >> 3, how


@njit(cache=True)
def _pack(data, codes, widths, high_first, state, out):
    """Bytes written; state: the bits of the open byte, and how many."""
    held, count, end = state[0], state[1], 0
    for value in data:
        code, width = codes[value], widths[value]
        if high_first:
            held, count = held << width | code, count + width
            while count >= 8:
                count -= 8
                out[end] = held >> count & 255
                end += 1
            held &= (1 << count) - 1
        else:
            for n in range(width - 1, -1, -1):
                held |= (code >> n & 1) << count
                count += 1
            while count >= 8:
                out[end] = held & 255
                held, count, end = held >> 8, count - 8, end + 1
    state[0], state[1] = held, count
    return end


def warm() -> None:
    """Compile."""
    tried(Huffman())

"""LZSS: bytes as they are, or how far back and how long the same bytes stand already, told apart by one bit each.

Source: J. A. Storer and T. G. Szymanski, Data Compression via Textual Substitution, Journal of the ACM 29 (1982). How the
bits are laid out is every format's own: flags in groups before their items or all in one stream of bits; distances back, or
places in a window that is written round and round (common practice).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...base.machine import WIDE, copy, eight, lowest, mirrored, put_eight, turned
from ..base import Source
from .base import ENDED, MORE, PIECE, SPARE, WRONG, bits_from, drained, repeat, take, tried

DEPTH = 32
"""Earlier places with the same beginning that the packer looks at; none where the match before goes on for long, which is `_LONG` bytes
or three quarters of the longest one."""
_LONG = 32
SHORTER = 3
"""How much shorter than the longest one a match is weighed: all take the same bits, so that what is left takes a few bits more at most
behind a longer one."""
ROOM = 64
"""Bytes that an open group of flags has at most beside its items."""
RUN = 6
"""Bytes as they are that are looked at together in a stream of bits."""
_BYTES = np.arange(256 + SPARE).astype(np.uint8)
"""Every byte, to be copied from like a match."""
_FLAGS_LOW = np.uint64(sum(1 << 9 * n for n in range(RUN)))
_FLAGS_HIGH = np.uint64(sum(1 << 63 - 9 * n for n in range(RUN)))


class _Shape(NamedTuple):
    """A layout of the bits as the kernels want it: whole numbers. A code is two pieces of an offset and two of a length, each
    (lowest bit in the code, mask, lowest bit in the number); where the highest bit of a stream of bits comes first, the first piece is
    the highest one here. start and end are -1 where there is none."""

    window: int
    shortest: int
    longest: int
    bits: int
    big: int
    flags: int
    high_first: int
    literal: int
    start: int
    nearest: int
    end: int
    filled: int
    offsets: tuple[int, int, int, int, int, int]
    lengths: tuple[int, int, int, int, int, int]


@dataclass(frozen=True)
class Lzss:
    """window: bytes that can be reached back. shortest: bytes of a match whose stored length is 0.

    code: (what, bits) of a match from the lowest bit of its number upwards, what being "offset" or "length"; of two pieces of
    one kind the first holds the lower bits. big: the byte order of that number, and of a group of flags. flags: bytes of
    a group of flags; 0 where flags, codes and bytes are all bits of one stream, and then a code's pieces come one after the
    other. high_first: whether the highest bit of a group, or of a byte of the stream, comes first. literal: the flag of a
    byte as it is. start: where in the window the first byte goes, for places in the window; None for distances, of which
    the stored 0 means `nearest`. initial: the last bytes of the window before the first byte (one byte: all of them), None
    where nothing may be copied from there. end: the number of a code that ends the stream.
    """

    window: int = 4096
    shortest: int = 3
    code: tuple[tuple[str, int], ...] = (("offset", 8), ("length", 4), ("offset", 4))
    big: bool = False
    flags: int = 1
    high_first: bool = False
    literal: int = 1
    start: int | None = None
    nearest: int = 1
    initial: bytes | None = None
    end: int | None = None

    def _of(self, what: str) -> int:
        return sum(bits for name, bits in self.code if name == what)

    @property
    def longest(self) -> int:
        """Bytes of a match at most."""
        return self.shortest + (1 << self._of("length")) - 1

    @property
    def farthest(self) -> int:
        """The greatest distance that the packer uses: of a window what is about to be written over is left alone."""
        if self.start is not None:
            return max(0, self.window - self.longest)
        return min(self.window, (1 << self._of("offset")) - 1 + self.nearest)

    def _shape(self) -> _Shape:
        pieces: dict[str, list[int]] = {"offset": [], "length": []}
        shift, held, bits = 0, {"offset": 0, "length": 0}, sum(width for _, width in self.code)
        end, last = -1 if self.end is None else self.end, 0
        for what, width in self.code:
            mask, place = (1 << width) - 1, bits - shift - width if self.high_first and not self.flags else shift
            pieces[what] += [place, mask, held[what]]
            last |= (end >> shift & mask) << place
            shift, held[what] = shift + width, held[what] + width
        offsets, lengths = (tuple([*pieces[what], 0, 0, 0][:6]) for what in ("offset", "length"))
        return _Shape(
            self.window, self.shortest, self.longest, bits, int(self.big), self.flags, int(self.high_first),
            self.literal, -1 if self.start is None else self.start, self.nearest, end if end < 0 else last,
            int(self.initial is not None), offsets, lengths,  # type: ignore[arg-type]
        )  # fmt: skip

    def _parts(self, shape: _Shape) -> NDArray[np.uint64]:
        """What each byte of a code, as it stands in the file, adds to the distance (of places: to the place) and, 32 bits higher, to the
        bytes above one: 256 numbers for each of the four bytes that there are at most. Where a code ends in the middle of a byte, the
        bits behind it add nothing."""
        width = (shape.bits + 7) // 8
        if shape.flags:
            above = [8 * n for n in (reversed(range(width)) if shape.big else range(width))]
        else:
            above = [shape.bits - 8 * n if shape.high_first else 8 * n - 8 for n in range(1, width + 1)]

        def of(number: NDArray[np.int64], pieces: tuple[int, int, int, int, int, int]) -> NDArray[np.int64]:
            low, mask, held, other, other_mask, other_held = pieces
            return (number >> low & mask) << held | (number >> other & other_mask) << other_held

        parts = np.zeros((4, 256), np.int64)
        for n, place in enumerate(above):
            number = np.arange(256) << place if place >= 0 else np.arange(256) >> -place
            parts[n] = of(number, shape.offsets) | of(number, shape.lengths) << 32
        parts[0] += (shape.nearest if self.start is None else 0) + (shape.shortest - 1 << 32)
        return parts.astype("<u8")

    def _before(self) -> NDArray[np.uint8]:
        """The window before the first byte."""
        given = np.frombuffer(self.initial or b"\0", np.uint8)[-self.window :]
        out = np.full(self.window, given[0] if len(given) == 1 else 0, np.uint8)
        out[self.window - len(given) :] = given
        return out

    def unpacked(self, stored: Source, size: int) -> Iterator[bytes]:
        """See `Coder`."""
        shape, state, window = self._shape(), np.zeros(3, np.int64), self.window
        parts = self._parts(shape)
        kernel = _unpack if self.flags else _unpack_bits
        # The window and what is unpacked behind it; once that is full, its end becomes the window.
        full = window + min(size, max(PIECE, window))
        out, pos = np.empty(full + self.longest + SPARE, np.uint8), window
        out[:window] = self._before()

        def run(data: NDArray[np.uint8], length: int, room: int) -> tuple[bytes, int, int]:
            nonlocal pos
            if pos >= full:
                out[:window], pos = out[pos - window : pos], window
            begin = pos
            pos, used, how = kernel(
                data, length, shape, parts, state, out, begin, min(begin + room, begin + PIECE, full)
            )
            return out[begin:pos].tobytes(), used, how

        return drained(stored, size, run)

    def packed(self, plain: Source) -> Iterator[bytes]:
        """See `Coder`. Of all ways to write a piece by the matches that were found, the shortest is taken."""
        shape, reach = self._shape(), self.farthest
        state = np.zeros(3, np.int64)
        past, open_group, done = np.zeros(0, np.uint8), np.zeros(0, np.uint8), 0
        kernel = _pack if self.flags else _pack_bits
        for piece in plain.chunks(step=max(PIECE, reach)):  # each looks through the window before it anew
            data = np.concatenate([past, np.frombuffer(piece, np.uint8), np.zeros(8, np.uint8)])
            first, size = len(past), len(past) + len(piece)
            least = max(2, min(self.shortest, 3))
            length, distance = _matches(data, first, size, least, self.longest, reach, self.nearest)
            steps = _parsed(length, distance, first, done, shape)
            out = np.zeros(len(open_group) + 5 * len(piece) + ROOM, np.uint8)
            out[: len(open_group)] = open_group
            whole, end = kernel(data, first, done, steps, distance, shape, state, out, len(open_group))
            yield out[:whole].tobytes()
            open_group, done = out[whole:end], done + len(piece)
            past = data[max(0, size - reach) : size]
        if self.end is not None:
            out = np.zeros(len(open_group) + ROOM, np.uint8)
            out[: len(open_group)] = open_group
            open_group = out[: (_close if self.flags else _close_bits)(shape, state, out, len(open_group))]
        yield open_group.tobytes()


@njit(forceinline=True)
def _placed(number, pieces):
    """The bits of an offset or a length in a code."""
    low = (number >> pieces[2] & pieces[1]) << pieces[0]
    return low | (number >> pieces[5] & pieces[4]) << pieces[3]


@njit(forceinline=True)
def _read(place, width, big):
    """The number that stands in `width` bytes at an address, one at least and seven at most."""
    word = bits_from(place, 0, big)
    return np.int64(
        word >> np.uint64(64 - 8 * width) if big else word & (np.uint64(1) << np.uint64(8 * width)) - np.uint64(1)
    )


@njit(forceinline=True)
def _match(word, high_first, width, parts, done, shape):
    """(bytes that a match has above one, its distance) behind `done` bytes; what can't be is not looked for. word: the first byte of its
    code is the highest one, or the lowest."""
    both = _part(word, high_first, parts, 0) + _part(word, high_first, parts, 1)
    if width > 2:
        both += _part(word, high_first, parts, 2) + _part(word, high_first, parts, 3)
    more, distance = np.int64(both >> np.uint64(32)), np.int64(both & np.uint64(0xFFFFFFFF))
    if shape.start >= 0:
        place = shape.start + done - distance
        distance = place & (shape.window - 1) if shape.window & (shape.window - 1) == 0 else place % shape.window
        distance = distance if distance else shape.window
    return more, distance


@njit(forceinline=True)
def _byte(word, high_first, n):
    """Byte n of eight."""
    return np.int64(word >> np.uint64(56 - 8 * n if high_first else 8 * n) & np.uint64(255))


@njit(forceinline=True)
def _part(word, high_first, parts, n):
    """What byte n of a code adds: see `Lzss._parts`."""
    return eight(parts + 2048 * n + 8 * _byte(word, high_first, n))


@njit(forceinline=True)
def _code(distance, length, done, shape):
    """The number of a match behind `done` bytes."""
    offset = distance - shape.nearest if shape.start < 0 else (shape.start + done - distance) % shape.window
    return _placed(offset, shape.offsets) | _placed(length - shape.shortest, shape.lengths)


@njit(forceinline=True)
def _item(to, literal, distance, more, match):
    """Write an item at an address and more than WIDE bytes behind it; the address behind it. Which of both it is can't be foreseen, so
    that nothing branches there. literal: the address of the byte as it is. match: -1 for a match, else 0."""
    length = 1 + (more & match)
    if (distance - WIDE) & match < 0:
        repeat(to, distance, length)
    else:
        source = literal + (to - distance - literal & match)
        copy(to, source)
        copy(to + WIDE, source + WIDE)
        if length > 2 * WIDE:
            for n in range(2 * WIDE, length, WIDE):
                copy(to + n, source + n)
    return to + length


@njit(forceinline=True)
def _unsure(shape, done):
    """Whether a code behind `done` bytes may be the one that ends the stream, or lead to where nothing is."""
    farthest = (shape.offsets[1] << shape.offsets[2] | shape.offsets[4] << shape.offsets[5]) + shape.nearest
    return (
        shape.end >= 0
        or (shape.start < 0 and (farthest > shape.window or shape.nearest == 0))
        or (done < shape.window and not shape.filled)
    )


@njit(cache=True)
def _unpack(data, size, shape, parts, state, out, pos, stop):
    """Items whose flags stand in groups; (place behind the last byte in out, bytes read, how it stopped).

    parts: see `Lzss._parts`. state: the open group of flags with the next one lowest, a match being 1; how many are left of it; bytes
    unpacked so far. out: what is unpacked goes to `pos`, a window at least stands before it.
    """
    source = np.int64(data.ctypes.data)
    first = np.int64(out.ctypes.data)
    given = np.int64(parts.ctypes.data)
    how, at, behind, to, full = MORE, source, source + size, first + pos, first + stop
    flags, left, before = state[0], state[1], state[2] - to
    unsure, known = _unsure(shape, state[2]), np.int64(1) << 60 if shape.filled else before
    code_width, big, high_first = (shape.bits + 7) // 8, shape.big != 0, shape.high_first != 0
    mask, end = (np.int64(1) << 8 * code_width) - 1, shape.end
    if end < 0:
        end = np.int64(1) << 60
    elif big:
        end = np.int64(turned(np.uint64(end)) >> np.uint64(64 - 8 * code_width))
    while to < full:
        if left == 0:
            if at + shape.flags > behind:
                break
            flags = _read(at, shape.flags, big)
            at, left = at + shape.flags, 8 * shape.flags
            if high_first:
                flags = np.int64(mirrored(np.uint64(flags)) >> np.uint64(64 - left))
            if shape.literal:
                flags ^= (np.int64(1) << left) - 1
            if flags == 0 and to + left <= full and at + left <= behind:
                take(to, at, left)
                to, at, left = to + left, at + left, 0
                continue
        match = -(flags & 1)
        width = 1 + (code_width - 1 & match)
        if at + width > behind:
            break
        word = eight(at)
        more, distance = _match(word, False, code_width, given, before + to, shape)
        if unsure:
            code = np.int64(word) & mask
            if ((code ^ end) - 1 | distance - 1 | min(shape.window, known + to) - distance) & match < 0:
                at, how = (at + width, ENDED) if code == end else (at, WRONG)
                break
        to = _item(to, at, distance, more, match)
        at, left, flags = at + width, left - 1, flags >> 1
    state[0], state[1], state[2] = flags, left, before + to
    return to - first, at - source, how


@njit(cache=True)
def _unpack_bits(data, length, shape, parts, state, out, pos, stop):
    """The same where all is one stream of bits, a code's pieces one after the other; state: bits read of the first byte, nothing, bytes
    unpacked so far."""
    source = np.int64(data.ctypes.data)
    first = np.int64(out.ctypes.data)
    given = np.int64(parts.ctypes.data)
    plain = np.int64(_BYTES.ctypes.data)
    to, full, bit, size, done = first + pos, first + stop, state[0], 8 * length, state[2]
    # Loops of their own, so that none asks for each item.
    if shape.high_first:
        to, bit, how = _items(source, bit, size, given, plain, shape, done, to, full, True)
    else:
        to, bit, how = _items(source, bit, size, given, plain, shape, done, to, full, False)
    state[0], state[2] = bit & 7, done + to - first - pos
    return to - first, bit >> 3, how


@njit(forceinline=True)
def _items(source, bit, size, parts, plain, shape, done, to, full, high_first):
    """Items of a stream of bits from bit place `bit` to `size` behind the address `source`, unpacked from address `to` to `full` behind
    `done` bytes: (address behind them, bit place behind them, how it stopped). parts: see `Lzss._parts`; plain: of `_BYTES`."""
    before, how, left, word = done - to, MORE, 0, np.uint64(0)
    unsure, known = _unsure(shape, done), np.int64(1) << 60 if shape.filled else before
    literal = ~np.uint64(0) if shape.literal else np.uint64(0)
    code_width, end = (shape.bits + 7) // 8, shape.end if shape.end >= 0 else np.int64(1) << 60
    items = 57 // (1 + max(8, shape.bits))  # stand in a word in any case
    while to < full:
        if left == 0:
            word = bits_from(source, bit, high_first)
            flags = (word ^ literal) & (_FLAGS_HIGH if high_first else _FLAGS_LOW)
            if flags == 0 and to + RUN <= full and bit + 9 * RUN <= size:
                for n in range(RUN):
                    put_eight(to + n, word >> np.uint64(55 - 9 * n if high_first else 1 + 9 * n))
                to, bit = to + RUN, bit + 9 * RUN
                continue
            left = items
        match = np.int64(word ^ literal) >> 63 if high_first else -np.int64((word ^ literal) & np.uint64(1))
        width = 9 + (shape.bits - 8 & match)
        if bit + width > size:
            break
        word = word << np.uint64(1) if high_first else word >> np.uint64(1)
        more, distance = _match(word, high_first, code_width, parts, before + to, shape)
        if unsure:
            code = np.int64(
                word >> np.uint64(64 - shape.bits)
                if high_first
                else word & (np.uint64(1) << np.uint64(shape.bits)) - np.uint64(1)
            )
            if ((code ^ end) - 1 | distance - 1 | min(shape.window, known + to) - distance) & match < 0:
                bit, how = (bit + width, ENDED) if code == end else (bit, WRONG)
                break
        to = _item(to, plain + _byte(word, high_first, 0), distance, more, match)
        word = word << np.uint64(width - 1) if high_first else word >> np.uint64(width - 1)
        bit, left = bit + width, left - 1
    return to, bit, how


@njit(forceinline=True)
def _same(one, other, most):
    """How many bytes are the same at two addresses, `most` at most; behind `most` stand 7 more."""
    for n in range(0, most, 8):
        differ = eight(one + n) ^ eight(other + n)
        if differ:
            return min(most, n + np.int64(lowest(differ) >> np.uint64(3)))
    return most


@njit(forceinline=True)
def _hashed(word, count, bits):
    """A number of `bits` bits from the first `count` bytes of eight."""
    return np.int64((word << np.uint64(64 - 8 * count)) * np.uint64(0x9E3779B97F4A7C15) >> np.uint64(64 - bits))


@njit(cache=True)
def _matches(data, first, size, least, longest, reach, nearest):
    """(lengths, distances) of the longest match of each byte of data[first:size], with what stands `nearest` to `reach` bytes before
    it. A length below `least`, 2 or more, is none. Behind `size` stand 8 bytes more, of no matter what.

    Of four bytes and more all earlier places are looked through, nearest first; a match of two or three is as good anywhere, so that
    one place is known of each.
    """
    place: Any = data.ctypes.data
    length, distance = np.zeros(size - first, np.int32), np.zeros(size - first, np.int32)
    ring = 1
    while ring <= reach + nearest:
        ring <<= 1
    twos, threes, fours = np.full(1 << 16, -1, np.int32), np.full(1 << 15, -1, np.int32), np.full(1 << 15, -1, np.int32)
    chain = np.full(ring, -1, np.int32)
    went, back = 0, 0  # the match of the byte before, of which all but the first byte is one here
    for n in range(size - least + 1):
        put = n - max(1, nearest)
        if put >= 0:
            word = eight(place + put)
            key = _hashed(word, 4, 15)
            chain[put & (ring - 1)] = fours[key]
            fours[key] = threes[_hashed(word, 3, 15)] = put
            if least == 2:
                twos[word & np.uint64(0xFFFF)] = put
        if n < first:
            continue
        word = eight(place + n)
        most, best, tries = min(longest, size - n), least - 1, DEPTH
        far: Any = 0
        if went - 1 > best:
            best, far = went - 1 + _same(place + n - back + went - 1, place + n + went - 1, most - (went - 1)), back
            if 4 * best >= 3 * most or best >= _LONG:
                tries = 0
        if best < 2 <= most:
            other: Any = np.int64(twos[word & np.uint64(0xFFFF)])
            if other >= 0 and n - other <= reach:
                best, far = 2, n - other
        if best < 3 <= most:
            other = np.int64(threes[_hashed(word, 3, 15)])
            if other >= 0 and n - other <= reach and (word ^ eight(place + other)) & np.uint64(0xFFFFFF) == 0:
                best, far = 3, n - other
        if 3 <= best < most and tries:
            other, tail = np.int64(fours[_hashed(word, 4, 15)]), eight(place + n + best - 3)
            while other >= max(0, n - reach) and tries > 0:
                if (eight(place + other + best - 3) ^ tail) << np.uint64(32) == 0:
                    same = _same(place + other, place + n, most)
                    if same > best:
                        best, far, tail = same, n - other, eight(place + n + same - 3)
                        if same == most:
                            break
                other, tries = np.int64(chain[other & (ring - 1)]), tries - 1
        went, back = best if far else 0, far
        if far:
            length[n - first], distance[n - first] = best, far
    return length, distance


@njit(cache=True)
def _parsed(length, distance, first, before, shape):
    """Bytes of the item at each place such that all take the fewest bits: 1 is a byte as it is."""
    size, of_match, least = len(length), 1 + shape.bits, max(2, shape.shortest)
    cost, steps = np.zeros(size + 1, np.int32), np.ones(size, np.int32)
    for n in range(size - 1, -1, -1):
        best, step, most = cost[n + 1] + 9, 1, length[n]
        if most >= least:
            for fewer in range(SHORTER + 1):
                taken = max(most - fewer, least)
                total = cost[n + taken] + of_match
                if total < best and (shape.end < 0 or _code(distance[n], taken, before + n, shape) != shape.end):
                    best, step = total, taken
        cost[n], steps[n] = best, step
    return steps


@njit(cache=True)
def _pack(data, first, before, steps, distance, shape, state, out, end):
    """Write items behind out[:end]; (bytes of whole groups, bytes in all). state: flags set in the open group, where that
    group stands in out."""
    used, place = state[0], state[1]
    code_width, n = (shape.bits + 7) // 8, 0
    while n < len(steps):
        if used == 0:
            place, end = end, end + shape.flags
        step = steps[n]
        flag = shape.literal if step == 1 else 1 - shape.literal
        if flag:
            bit = 8 * shape.flags - 1 - used if shape.high_first else used
            byte = bit >> 3
            out[place + (shape.flags - 1 - byte if shape.big else byte)] |= 1 << (bit & 7)
        if step == 1:
            out[end] = data[first + n]
            end += 1
        else:
            code = _code(distance[n], step, before + n, shape)
            for k in range(code_width):
                out[end + (code_width - 1 - k if shape.big else k)] = code >> (8 * k) & 255
            end += code_width
        n += step
        used += 1
        if used == 8 * shape.flags:
            used = 0
    whole = end if used == 0 else place
    state[0], state[1] = used, place - whole
    return whole, end


@njit(cache=True)
def _close(shape, state, out, end):
    """Write the code that ends the stream; bytes in all."""
    used, place, code_width = state[0], state[1], (shape.bits + 7) // 8
    if used == 0:
        place, end = end, end + shape.flags
    if not shape.literal:
        bit = 8 * shape.flags - 1 - used if shape.high_first else used
        byte = bit >> 3
        out[place + (shape.flags - 1 - byte if shape.big else byte)] |= 1 << (bit & 7)
    for k in range(code_width):
        out[end + (code_width - 1 - k if shape.big else k)] = shape.end >> (8 * k) & 255
    return end + code_width


@njit(forceinline=True)
def _put_bits(to, bit, bits, count, high_first):
    """Write bits at bit place `bit` behind an address, of which the first one is the highest of `count` if the highest of a byte comes first, else the lowest; those behind
    them become zeros."""
    at, skip = to + (bit >> 3), bit & 7
    keep = eight(at) & np.uint64(255) if skip else np.uint64(0)
    if high_first:
        word = turned(np.uint64(bits) << np.uint64(64 - count - skip))
    else:
        word = np.uint64(bits) << np.uint64(skip)
    put_eight(at, word | keep)


@njit(forceinline=True)
def _of_match(code, shape):
    """The bits of a match as `_put_bits` wants them."""
    flag = np.int64(1 - shape.literal)
    return flag << shape.bits | code if shape.high_first else flag | code << 1


@njit(cache=True)
def _pack_bits(data, first, before, steps, distance, shape, state, out, end):
    """Write items as bits; state: bits used of the last byte of out[:end]."""
    to: Any = out.ctypes.data
    bit, n, high_first = 8 * end if state[0] == 0 else 8 * (end - 1) + state[0], 0, shape.high_first != 0
    while n < len(steps):
        step = steps[n]
        if step == 1:
            byte = np.int64(data[first + n])
            _put_bits(to, bit, shape.literal << 8 | byte if high_first else byte << 1 | shape.literal, 9, high_first)
            bit += 9
        else:
            _put_bits(
                to, bit, _of_match(_code(distance[n], step, before + n, shape), shape), 1 + shape.bits, high_first
            )
            bit += 1 + shape.bits
        n += step
    state[0] = bit & 7
    return bit >> 3, (bit + 7) >> 3


@njit(cache=True)
def _close_bits(shape, state, out, end):
    """Write the code that ends the stream; bytes in all."""
    bit = 8 * end if state[0] == 0 else 8 * (end - 1) + state[0]
    to: Any = out.ctypes.data
    _put_bits(to, bit, _of_match(shape.end, shape), 1 + shape.bits, shape.high_first != 0)
    return (bit + 1 + shape.bits + 7) >> 3


def warm() -> None:
    """Compile."""
    for flags in (1, 0):
        tried(Lzss(flags=flags, end=0))

"""LZSS: bytes as they are, or how far back and how long the same bytes stand already, told apart by one bit each.

Source: J. A. Storer and T. G. Szymanski, Data Compression via Textual Substitution, Journal of the ACM 29 (1982). How the
bits are laid out is every format's own: flags in groups before their items or all in one stream of bits; distances back, or
places in a window that is written round and round (common practice).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...base.machine import WIDE, lowest
from ..base import Source
from .base import ENDED, MORE, PIECE, WRONG, bits_from, drained, repeat, take

DEPTH = 96
"""Earlier places with the same beginning that the packer looks at; a quarter of them where the match before goes on for long."""
SHORTER = 3
"""How much shorter than the longest one a match is weighed: all take the same bits, so that what is left takes a few bits more at most
behind a longer one."""
ROOM = 64
"""Bytes that an open group of flags has at most beside its items."""


class _Shape(NamedTuple):
    """A layout of the bits as the kernels want it: whole numbers. A code is two pieces of an offset and two of a length, each
    (lowest bit in the code, mask, lowest bit in the number). start and end are -1 where there is none."""

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
    widths: tuple[int, int, int, int]
    """Bits of each piece."""


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
        shift, held = 0, {"offset": 0, "length": 0}
        for what, bits in self.code:
            pieces[what] += [shift, (1 << bits) - 1, held[what]]
            shift, held[what] = shift + bits, held[what] + bits
        offsets, lengths = (tuple([*pieces[what], 0, 0, 0][:6]) for what in ("offset", "length"))
        start, end = -1 if self.start is None else self.start, -1 if self.end is None else self.end
        widths = tuple([*(bits for _, bits in self.code), 0, 0, 0, 0][:4])
        return _Shape(
            self.window, self.shortest, self.longest, shift, int(self.big), self.flags, int(self.high_first),
            self.literal, start, self.nearest, end, int(self.initial is not None), offsets, lengths, widths,  # type: ignore[arg-type]
        )  # fmt: skip

    def _before(self) -> NDArray[np.uint8]:
        """The window before the first byte."""
        given = np.frombuffer(self.initial or b"\0", np.uint8)[-self.window :]
        out = np.full(self.window, given[0] if len(given) == 1 else 0, np.uint8)
        out[self.window - len(given) :] = given
        return out

    def unpacked(self, stored: Source, size: int) -> Iterator[bytes]:
        """See `Coder`."""
        shape, past, state = self._shape(), self._before(), np.zeros(3, np.int64)
        kernel, window = _unpack if self.flags else _unpack_bits, self.window

        def run(data: bytes, room: int) -> tuple[bytes, int, int]:
            nonlocal past
            stop = window + min(room, PIECE)
            out = np.empty(stop + self.longest + WIDE, np.uint8)
            out[:window] = past
            end, used, how = kernel(np.frombuffer(data, np.uint8), shape, state, out, stop)
            past = out[end - window : end]
            return out[window:end].tobytes(), used, how

        return drained(stored, size, run)

    def packed(self, plain: Source) -> Iterator[bytes]:
        """See `Coder`. Of all ways to write a piece by the matches that were found, the shortest is taken."""
        shape, reach = self._shape(), self.farthest
        state = np.zeros(3, np.int64)
        past, open_group, done = np.zeros(0, np.uint8), np.zeros(0, np.uint8), 0
        kernel = _pack if self.flags else _pack_bits
        for piece in plain.chunks(step=PIECE):
            data = np.concatenate([past, np.frombuffer(piece, np.uint8)])
            first = len(past)
            length, distance = _matches(data, first, max(2, min(self.shortest, 3)), self.longest, reach, self.nearest)
            steps = _parsed(length, distance, first, done, shape)
            out = np.zeros(len(open_group) + 5 * len(piece) + ROOM, np.uint8)
            out[: len(open_group)] = open_group
            whole, end = kernel(data, first, done, steps, distance, shape, state, out, len(open_group))
            yield out[:whole].tobytes()
            open_group, done = out[whole:end], done + len(piece)
            past = data[max(0, len(data) - reach) :] if reach else data[:0]
        if self.end is not None:
            out = np.zeros(len(open_group) + ROOM, np.uint8)
            out[: len(open_group)] = open_group
            open_group = out[: (_close if self.flags else _close_bits)(shape, state, out, len(open_group))]
        yield open_group.tobytes()


@njit(cache=True, inline="always")
def _number(code, pieces):
    """The offset or the length of a code."""
    low = (code >> pieces[0] & pieces[1]) << pieces[2]
    return low | (code >> pieces[3] & pieces[4]) << pieces[5]


@njit(cache=True, inline="always")
def _placed(number, pieces):
    """The bits of an offset or a length in a code."""
    low = (number >> pieces[2] & pieces[1]) << pieces[0]
    return low | (number >> pieces[5] & pieces[4]) << pieces[3]


@njit(cache=True, inline="always")
def _distance(offset, done, shape):
    """How far back an offset leads from behind `done` bytes."""
    if shape.start < 0:
        return offset + shape.nearest
    place = shape.start + done - offset
    distance = place & (shape.window - 1) if shape.window & (shape.window - 1) == 0 else place % shape.window
    return distance if distance else shape.window


@njit(cache=True, inline="always")
def _code(distance, length, done, shape):
    """The number of a match behind `done` bytes."""
    offset = distance - shape.nearest if shape.start < 0 else (shape.start + done - distance) % shape.window
    return _placed(offset, shape.offsets) | _placed(length - shape.shortest, shape.lengths)


@njit(cache=True)
def _unpack(data, shape, state, out, stop):
    """Items whose flags stand in groups; (place behind the last byte in out, bytes read, how it stopped).

    state: the open group of flags with the next one lowest, how many are left of it, bytes unpacked so far. out: the
    window, then what is unpacked.
    """
    pos, at, size, how = shape.window, np.int64(0), len(data), MORE
    flags, left, before = state[0], state[1], state[2] - shape.window
    code_width, big, farthest = (shape.bits + 7) // 8, shape.big != 0, shape.window
    plain = np.int64(-1) if shape.literal else np.int64(0)
    while pos < stop:
        if left == 0:
            if at + shape.flags > size:
                break
            for n in range(shape.flags):
                byte = np.int64(data[at + (n if big else shape.flags - 1 - n)])
                flags = flags << 8 | byte
            at, left = at + shape.flags, 8 * shape.flags
            flags &= (np.int64(1) << left) - 1
            if shape.high_first:
                turned = np.int64(0)
                for _ in range(left):
                    turned, flags = turned << 1 | flags & 1, flags >> 1
                flags = turned
        run = np.int64(lowest(np.uint64((flags ^ plain) | np.int64(1) << left)))
        if run:
            run = min(run, stop - pos, size - at)
            if run == 0:
                break
            take(data, at, run, out, pos)
            pos, at, left, flags = pos + run, at + run, left - run, flags >> run
            continue
        if at + code_width > size:
            break
        if code_width == 2:
            one, two = np.int64(data[at]), np.int64(data[at + 1])
            code = one << 8 | two if big else two << 8 | one
        else:
            code = np.int64(0)
            for n in range(code_width):
                code = code << 8 | np.int64(data[at + (n if big else code_width - 1 - n)])
        if code == shape.end:
            at, how = at + code_width, ENDED
            break
        done = before + pos
        length = _number(code, shape.lengths) + shape.shortest
        distance = _distance(_number(code, shape.offsets), done, shape)
        if distance <= 0 or distance > farthest or (distance > done and not shape.filled):
            how = WRONG
            break
        repeat(out, pos, distance, length)
        pos, at, left, flags = pos + length, at + code_width, left - 1, flags >> 1
    state[0], state[1], state[2] = flags, left, before + pos
    return pos, at, how


@njit(cache=True, inline="always")
def _first(word, skip, count, high_first):
    """`count` bits, one at least, behind `skip` of what `bits_from` gives."""
    if high_first:
        return np.int64(word << np.uint64(skip) >> np.uint64(64 - count))
    return np.int64(word >> np.uint64(skip) & ((np.uint64(1) << np.uint64(count)) - np.uint64(1)))


@njit(cache=True)
def _unpack_bits(data, shape, state, out, stop):
    """The same where all is one stream of bits, a code's pieces one after the other; state: bits read of the first byte, nothing, bytes
    unpacked so far."""
    pos, bit, size, how = shape.window, state[0], 8 * len(data), MORE
    before, high_first = state[2] - shape.window, shape.high_first != 0
    while pos < stop:
        if bit >= size:
            break
        word = bits_from(data, bit, high_first)
        if _first(word, 0, 1, high_first) == shape.literal:
            if bit + 9 > size:
                break
            out[pos] = _first(word, 1, 8, high_first)
            pos, bit = pos + 1, bit + 9
            continue
        if bit + 1 + shape.bits > size:
            break
        code, shift = np.int64(0), 0
        if high_first:
            for width in shape.widths:
                if width:
                    code |= _first(word, 1 + shift, width, True) << shift
                    shift += width
        else:
            code = _first(word, 1, shape.bits, False)
        if code == shape.end:
            bit, how = bit + 1 + shape.bits, ENDED
            break
        done = before + pos
        length = _number(code, shape.lengths) + shape.shortest
        distance = _distance(_number(code, shape.offsets), done, shape)
        if distance <= 0 or distance > shape.window or (distance > done and not shape.filled):
            how = WRONG
            break
        repeat(out, pos, distance, length)
        pos, bit = pos + length, bit + 1 + shape.bits
    state[0], state[2] = bit & 7, before + pos
    return pos, bit >> 3, how


@njit(cache=True)
def _matches(data, first, least, longest, reach, nearest):
    """(lengths, distances) of the longest match of each byte from data[first] on, with what stands at most `reach` bytes
    before it; of equally long ones the nearest. A length below `least` is none."""
    size = len(data)
    length, distance = np.zeros(size - first, np.int32), np.zeros(size - first, np.int32)
    head, chain = np.full(1 << 16, -1, np.int32), np.full(size, -1, np.int32)
    went, back = 0, 0  # the match of the byte before, of which all but the first byte is one here
    for n in range(size - least + 1):
        key = np.uint32(data[n]) | np.uint32(data[n + 1]) << np.uint32(8)
        if least > 2:
            key = (key | np.uint32(data[n + 2]) << np.uint32(16)) * np.uint32(2654435761) >> np.uint32(16)
        key &= np.uint32(65535)
        if n >= first:
            most, best, far = min(longest, size - n), least - 1, 0
            other, tries = head[key], DEPTH
            if went - 1 > best:
                best, far = went - 1, back
                if 4 * best >= 3 * most:
                    tries = DEPTH >> 2
            while other >= 0 and n - other <= reach and tries > 0:
                if n - other >= nearest and best < most and data[other + best] == data[n + best]:
                    same = 0
                    while same < most and data[other + same] == data[n + same]:
                        same += 1
                    if same > best:
                        best, far = same, n - other
                        if same == most:
                            break
                other, tries = chain[other], tries - 1
            went, back = best if far else 0, far
            if far:
                length[n - first], distance[n - first] = best, far
        chain[n] = head[key]
        head[key] = n
    return length, distance


@njit(cache=True)
def _parsed(length, distance, first, before, shape):
    """Bytes of the item at each place such that all take the fewest bits: 1 is a byte as it is."""
    size, of_match = len(length), 1 + shape.bits
    cost, steps = np.zeros(size + 1, np.int64), np.ones(size, np.int32)
    for n in range(size - 1, -1, -1):
        best, step, most = cost[n + 1] + 9, 1, length[n]
        for taken in range(most, max(2, shape.shortest) - 1, -1):
            if taken < most - SHORTER:
                break
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


@njit(cache=True, inline="always")
def _put_bits(out, bit, value, count, high_first):
    for n in range(count):
        place = bit + n
        if high_first:
            out[place >> 3] |= (value >> (count - 1 - n) & 1) << (7 - (place & 7))
        else:
            out[place >> 3] |= (value >> n & 1) << (place & 7)


@njit(cache=True, inline="always")
def _put_code(out, bit, code, shape):
    shift = 0
    while shift < shape.bits:
        for pieces in (shape.offsets, shape.lengths):
            for n in range(2):
                low, mask = (pieces[0], pieces[1]) if n == 0 else (pieces[3], pieces[4])
                if mask and low == shift:
                    count = 0
                    while mask >> count:
                        count += 1
                    _put_bits(out, bit + shift, code >> shift & mask, count, shape.high_first)
                    shift += count


@njit(cache=True)
def _pack_bits(data, first, before, steps, distance, shape, state, out, end):
    """Write items as bits; state: bits used of the last byte of out[:end]."""
    bit, n = 8 * end if state[0] == 0 else 8 * (end - 1) + state[0], 0
    while n < len(steps):
        step = steps[n]
        _put_bits(out, bit, shape.literal if step == 1 else 1 - shape.literal, 1, shape.high_first)
        if step == 1:
            _put_bits(out, bit + 1, np.int64(data[first + n]), 8, shape.high_first)
            bit += 9
        else:
            _put_code(out, bit + 1, _code(distance[n], step, before + n, shape), shape)
            bit += 1 + shape.bits
        n += step
    state[0] = bit & 7
    return bit >> 3, (bit + 7) >> 3


@njit(cache=True)
def _close_bits(shape, state, out, end):
    """Write the code that ends the stream; bytes in all."""
    bit = 8 * end if state[0] == 0 else 8 * (end - 1) + state[0]
    _put_bits(out, bit, 1 - shape.literal, 1, shape.high_first)
    _put_code(out, bit + 1, shape.end, shape)
    return (bit + 1 + shape.bits + 7) >> 3

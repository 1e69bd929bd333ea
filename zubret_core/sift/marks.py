"""Where a signature stands: one compiled pass over the bytes, at about the speed of memory."""

from __future__ import annotations

from functools import reduce
from itertools import combinations
from math import prod
from typing import Any

import numpy as np
from llvmlite import ir
from numba import njit, types
from numba.core import cgutils

from ..base.machine import instruction, lowest
from ..codec.frames import ADTS, FOLLOW, MPEG, alike, frame_length
from ..source import BytesSource, Source

MARKS: dict[bytes, tuple[str, int]] = {
    b"RIFF": ("riff", 0), b"RF64": ("riff", 0), b"RIFX": ("riff", 0), b"riff": ("w64", 0), b"FORM": ("form", 0),
    b".snd": ("au", 0), b"caff": ("caf", 0), b"OggS": ("ogg", 0), b"fLaC": ("flac", 0), b"MThd": ("midi", 0),
    b"Exte": ("xm", 0), b"IMPM": ("it", 0), b"SCRM": ("s3m", 44),
    b"M.K.": ("mod", 1080), b"M!K!": ("mod", 1080), b"6CHN": ("mod", 1080), b"8CHN": ("mod", 1080),
}  # fmt: skip
"""Four bytes, the kind that they speak for, and how far behind its beginning they stand."""
KINDS = list(dict.fromkeys(kind for kind, _ in MARKS.values()))
FRAMED = len(KINDS)
FRAMES = {FRAMED + MPEG: "mpeg", FRAMED + ADTS: "adts"}
"""Codes of kinds that have no mark: chains of frames."""
LANES = 64
"""Bytes that are tested together."""
CHUNK = 1 << 14
"""Bytes after which what was found in them is looked at more closely, while they are still at hand."""
MOST = 3 * CHUNK
"""Candidates that are told at once; a place has two at most."""
AHEAD = 16
"""Bytes behind a place that are looked at, at least; frames behind the first are looked at where they are at hand."""
QUIET = (0x0C, 0xF0)
"""Between which the third byte of a header stands; samples of 16 bits near 0 have it outside, behind a byte of 0xFF."""
PAGE = 1 << 12
"""The memory of a window begins at a multiple of so many bytes, where copying to it and loading from it are fastest."""
SOON = 1 << 10
"""Bytes from those that are tested to those that the processor is told to fetch into its nearest cache."""
LOOKUPS = (
    ("+avx2", "llvm.x86.avx2.pshuf.b", 32),
    ("+ssse3", "llvm.x86.ssse3.pshuf.b.128", 16),
    ("+neon", "llvm.aarch64.neon.tbl1.v16i8", 16),
)
"""What a processor has, its instruction that looks up bytes in tables of 16, and how many at once."""

_CODES = np.array([KINDS.index(kind) for kind, _ in MARKS.values()], np.int64)
_BACKS = np.array([back for _, back in MARKS.values()], np.int64)
_BYTES = np.arange(256)


def _hashed() -> tuple[int, np.ndarray, np.ndarray]:
    """(factor, words, marks): the mark whose four bytes are a number w stands at w * factor % 2**32 >> 26, at which no other one does."""
    words = np.array([int.from_bytes(mark, "little") for mark in MARKS], np.uint64)
    for factor in range(0x9E3779B1, 1 << 32, 2):
        at = (words * np.uint64(factor) & np.uint64(0xFFFFFFFF)) >> np.uint64(26)
        if len(set(at)) == len(words):
            there, which = np.zeros(64, np.uint64), np.zeros(64, np.int64)
            there[at], which[at] = words, np.arange(len(words))
            return factor, there, which
    raise AssertionError("no factor keeps the marks apart")


_FACTOR, _WORDS, _WHICH = _hashed()


def _may(mpeg: np.ndarray, adts: np.ndarray) -> np.ndarray:
    """Whether bytes may be of a header of MPEG audio (1) or ADTS (2)."""
    return mpeg.astype(np.uint8) | adts.astype(np.uint8) << 1


_SECOND = _may((_BYTES >= 0xE0) & (_BYTES >> 3 & 3 != 1) & (_BYTES >> 1 & 3 != 0), _BYTES & 0xF6 == 0xF0)
_THIRD = _may((_BYTES >> 4 != 0) & (_BYTES >> 4 != 15) & (_BYTES >> 2 & 3 != 3), _BYTES >> 2 & 15 < 13)


def _tables() -> np.ndarray:
    """(4 bytes of a mark, lower half of a byte): a bit for each of eight groups of marks, which share it so that few other bytes fit."""
    groups = [[{byte & 15} for byte in mark] for mark in MARKS]
    while len(groups) > 8:
        pairs = list(combinations(groups, 2))
        joined = [[one | other for one, other in zip(*pair, strict=True)] for pair in pairs]
        best = min(range(len(pairs)), key=lambda n: _fitting(joined[n]) - sum(map(_fitting, pairs[n])))
        groups = [*(group for group in groups if group not in pairs[best]), joined[best]]
    tables = np.zeros((4, 16), np.uint8)
    for n, group in enumerate(groups):
        for place, allowed in enumerate(group):
            tables[place, list(allowed)] |= 1 << n
    return tables


def _fitting(group: list[set[int]]) -> int:
    """How many times the lower halves of four bytes fit."""
    return prod(map(len, group))


_TABLES = _tables()


@instruction
def _tested(typing, data, at):
    """Of the LANES places from `at` on, a bit for each, the lowest for the first: whether a mark or a header of a frame may begin there.

    A mark by the lower halves of its four bytes, none of which is 0x80 or more; a header by its eleven bits that are set, and a third
    byte that samples near 0 don't have there. Spelled out as vectors, since the compiler makes no lookups in tables of its own accord.
    """

    def build(context, builder, signature, arguments):
        array = context.make_array(signature.args[0])(context, builder, arguments[0])
        features = context.codegen().magic_tuple()[2].split(",")
        name, width = next(((name, width) for feature, name, width in LOOKUPS if feature in features), ("", 16))
        byte, place, number = ir.IntType(8), ir.IntType(64), ir.IntType(32)
        vector = ir.VectorType(byte, width)

        def each(values):
            return ir.Constant(vector, [ir.Constant(byte, int(value)) for value in values] * (width // len(values)))

        def lookup(table, of):
            if name:
                kind = ir.FunctionType(vector, [vector, vector])
                called = cgutils.get_or_insert_function(builder.module, kind, name)
                return builder.call(called, [each(table), builder.and_(of, each([0x8F]))])
            found = each([0])
            for n in (ir.Constant(place, n) for n in range(width)):
                at = builder.and_(builder.extract_element(of, n), ir.Constant(byte, 15))
                found = builder.insert_element(found, builder.extract_element(each(table), at), n)
            return builder.select(builder.icmp_signed("<", of, each([0])), each([0]), found)

        soon = builder.gep(array.data, [builder.add(arguments[1], ir.Constant(place, SOON))])
        told = ir.FunctionType(ir.VoidType(), [soon.type, number, number, number])
        fetch = cgutils.get_or_insert_function(builder.module, told, "llvm.prefetch.p0i8")
        builder.call(fetch, [soon, *(ir.Constant(number, n) for n in (0, 3, 1))])  # to read, near, data
        bits = ir.Constant(place, 0)
        for begin in range(0, LANES, width):
            have = []
            for n in range(4):
                there = builder.gep(array.data, [builder.add(arguments[1], ir.Constant(place, begin + n))])
                have.append(builder.load(builder.bitcast(there, vector.as_pointer()), align=1))
            groups = reduce(builder.and_, map(lookup, _TABLES, have))
            ones = builder.and_(have[0], builder.or_(have[1], each([0x1F])))
            third = builder.sub(have[2], each([QUIET[0]]))
            some = builder.and_(
                builder.icmp_unsigned("==", ones, each([0xFF])),
                builder.icmp_unsigned("<", third, each([QUIET[1] - QUIET[0]])),
            )
            some = builder.or_(some, builder.icmp_unsigned("!=", groups, each([0])))
            some = builder.zext(builder.bitcast(some, ir.IntType(width)), place)
            bits = builder.or_(bits, builder.shl(some, ir.Constant(place, begin)))
        return bits

    return types.uint64(data, types.uint64), build


@njit(inline="always")
def _chain(data, at, kind):
    """Whether a header of a frame stands at a place, and as many behind it as are at hand, FOLLOW at most."""
    length, there, layer = frame_length(data, at, kind), at, 4 - (data[at + 1] >> 1 & 3)
    for _ in range(1, FOLLOW):
        there += length
        if length == 0 or there + 8 > len(data):
            break
        if data[there] != 0xFF or not alike(data, at, there, kind, layer):
            return False
        length = frame_length(data, there, kind)
    return length != 0


@njit(cache=True, nogil=True)
def _near(data, begin, end, near):
    """Places in data[begin:end], and some behind it, at which a mark or a header may stand: how many."""
    count, base = 0, np.uint64(begin)
    while base < np.uint64(end):
        bits: Any = _tested(data, base)
        while bits:
            near[count] = base + lowest(bits)
            bits &= bits - np.uint64(1)
            count += 1
        base += np.uint64(LANES)
    return count


@njit(cache=True, nogil=True)
def _look(data, begin, end, near, places, kinds):
    """Places in data[begin:end] at which something may begin: (how many, up to where it was looked)."""
    count = 0
    while begin < end and count + 2 * CHUNK <= len(places):
        until = min(end, begin + CHUNK)
        for at in near[: _near(data, begin, until, near)]:
            if at >= until:
                break
            if data[at] == 0xFF:
                may = _SECOND[data[at + np.uint64(1)]] & _THIRD[data[at + np.uint64(2)]]
                for kind in (MPEG, ADTS):
                    if may >> kind & 1 and _chain(data, np.int64(at), kind):
                        places[count], kinds[count] = at, FRAMED + kind
                        count += 1
                continue
            word = np.uint64(0)
            for n in range(4):
                word |= np.uint64(data[at + np.uint64(n)]) << np.uint64(8 * n)
            slot = (word * np.uint64(_FACTOR) & np.uint64(0xFFFFFFFF)) >> np.uint64(26)
            if _WORDS[slot] == word:
                mark = _WHICH[slot]
                places[count], kinds[count] = np.int64(at) - _BACKS[mark], _CODES[mark]
                count += 1
        begin = until
    return count, begin


class Window:
    """The bytes of a source from `at` on, `size` at most, in which sounds are looked for: in memory that serves again and again."""

    def __init__(self, source: Source, size: int):
        self.source, self.at, self.length = source, 0, 0
        self._size = min(size, source.size)
        memory = np.zeros(self._size + LANES + AHEAD + PAGE, np.uint8)
        self._bytes = memory[-memory.ctypes.data % PAGE :].data
        self._view: Any = np.frombuffer(self._bytes.toreadonly(), np.uint8)
        self._near = np.empty(CHUNK + LANES, np.uint64)
        self._places, self._kinds = np.empty((2, MOST), np.int64)
        self.move(0)

    def move(self, at: int) -> None:
        """Go on to a place of the source; what is already here is not read a second time."""
        length, kept = min(self._size, self.source.size - at), max(0, self.at + self.length - at)
        self._bytes[:kept] = self._bytes[self.length - kept : self.length]
        self.source.read_into(at + kept, self._bytes[kept:length])
        if length < self.length:
            self._bytes[length : length + LANES + AHEAD] = bytes(LANES + AHEAD)
        self.at, self.length = at, length

    def candidates(self, begin: int, end: int) -> tuple[list[tuple[int, str]], int]:
        """Places in [begin, end) at which a sound may begin, each with its kind, in order; and up to where it was looked, which is before
        `end` where there are many. A place may be below 0."""
        count, end = _look(self._view[: self.length], begin, end, self._near, self._places, self._kinds)
        if not count:
            return [], end
        names = [*KINDS, *FRAMES.values()]
        return sorted((int(self._places[n]), names[self._kinds[n]]) for n in range(count)), end


def warm() -> None:
    """Compile."""
    Window(BytesSource(bytes(64)), 64).candidates(0, 32)

"""Where a signature stands: one compiled pass over the bytes, at about the speed of memory."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from ..codec.frames import ADTS, FOLLOW, MPEG, alike, header

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
LANES, ROWS = 128, 16
BLOCK = LANES * ROWS
"""Bytes that are looked at together: ROWS rows one below the other, so that what is found is gathered down the columns."""
BEHIND = 2
"""How far behind a mark's beginning its pair stands at most."""
MOST = 4 * BLOCK
"""Candidates that are told at once; a byte begins three at most."""
AHEAD = 16
"""Bytes behind a place that are looked at, at least; frames behind the first are looked at where they are at hand."""
PAIRS = (
    (0xFF, ord("C"), 0xFF, ord("H")),  # 6CHN, 8CHN
    (0xF7, ord("E"), 0xD3, ord("P")),  # MThd, Exte, IMPM
    (0xFE, ord("L"), 0xBF, ord("!")),  # fLaC, M!K!
    (0xFF, ord("."), 0xC7, ord("C")),  # .snd, M.K. by .K
    (0xFE, ord("f"), 0xFE, ord("f")),  # riff, caff, OggS
    (0xFF, ord("R"), 0xF0, ord("@")),  # RIFF, RF64, RIFX, FORM by RM, SCRM
)
"""Two neighbouring bytes of each mark, not always the first: (mask, value, mask of the next byte, value). A test that several marks
share costs the time of one."""

_CODES = np.array([KINDS.index(kind) for kind, _ in MARKS.values()], np.int64)
_BACKS = np.array([back for _, back in MARKS.values()], np.int64)
_BYTES, _TWO = np.arange(256), np.arange(1 << 16)
_PAIRED = (_TWO & 0xE0FF == 0xE0FF) | np.any(
    [(_TWO & mask == value) & (_TWO >> 8 & next_mask == next_value) for mask, value, next_mask, next_value in PAIRS], 0
)
"""Of two bytes, the first one lowest: whether they are one of PAIRS, or may begin the header of a frame."""


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
_SECOND = (_BYTES >= 0xE0) & (_BYTES >> 3 & 3 != 1) & (_BYTES >> 1 & 3 != 0) | (_BYTES & 0xF6 == 0xF0) << 1
_THIRD = (_BYTES >> 4 != 0) & (_BYTES >> 4 != 15) & (_BYTES >> 2 & 3 != 3) | (_BYTES >> 2 & 15 < 13) << 1
"""Whether the second and the third byte of a header may be those of MPEG audio (1) or ADTS (2)."""


@njit(inline="always")
def _off(a, b, pair):
    """0 where two bytes are what a pair asks for."""
    return np.uint8(np.uint8(a & np.uint8(pair[0])) ^ np.uint8(pair[1])) | np.uint8(
        np.uint8(b & np.uint8(pair[2])) ^ np.uint8(pair[3])
    )


@njit(inline="always")
def _least(a, b):
    return a if a < b else b


@njit(cache=True, nogil=True)
def _flag(first, second, third, least, flags):
    """Which columns of each block hold two bytes of one of PAIRS or three with which a header of a frame may begin; second and third: the
    same blocks, one byte on and two.

    Written so that the compiler takes 32 bytes at a time: no branch, no comparison but for the smaller one, and nothing wider than a
    byte.
    """
    for block in range(first.shape[0]):
        for n in range(LANES):
            least[n] = 255
        for row in range(ROWS):
            for n in range(LANES):
                a, b, c = first[block, row, n], second[block, row, n], third[block, row, n]
                # After the 11 bits neither 0xF0 to 0xFF, which samples near 0 have there, nor 0x00 to 0x0B.
                off = _least(np.uint8(c + np.uint8(0x10)), np.uint8(0x1C)) ^ np.uint8(0x1C)
                off = np.uint8(off | np.uint8(~a) | np.uint8(np.uint8(~b) & np.uint8(0xE0)))
                off = _least(off, _off(a, b, PAIRS[0]))
                off = _least(off, _off(a, b, PAIRS[1]))
                off = _least(off, _off(a, b, PAIRS[2]))
                off = _least(off, _off(a, b, PAIRS[3]))
                off = _least(off, _off(a, b, PAIRS[4]))
                off = _least(off, _off(a, b, PAIRS[5]))
                least[n] = _least(least[n], off)
        for n in range(LANES):
            flags[block, n] = np.uint8(least[n] == np.uint8(0))


@njit(cache=True, nogil=True)
def _chain(data, at, kind, facts):
    """Whether a header of a frame stands at a place, and as many behind it as are at hand, FOLLOW at most."""
    if not header(data, at, kind, facts):
        return False
    there, layer = at + facts[0], facts[4]
    for _ in range(1, FOLLOW):
        if there + 8 > len(data):
            break
        if not (header(data, there, kind, facts) and alike(data, at, there, kind, layer)):
            return False
        there += facts[0]
    return True


@njit(cache=True, nogil=True)
def _candidates(data, begin, end, flags, places, kinds):
    """Places in data[begin:end] at which something may begin, by the columns that are flagged: (how many, up to where it was
    looked)."""
    count, facts = 0, np.zeros(6, np.int64)
    eights = flags.view(np.uint64)
    for block in range(len(flags)):
        base = begin + block * BLOCK
        for eight in range(LANES // 8):
            if eights[block, eight] == 0:
                continue
            for lane in range(8 * eight, 8 * eight + 8):
                if flags[block, lane] == 0:
                    continue
                for row in range(ROWS):
                    at = np.uint64(base + row * LANES + lane)
                    if not _PAIRED[data[at] | data[at + np.uint64(1)] << np.uint64(8)]:
                        continue
                    if data[at] == 0xFF:
                        may = _SECOND[data[at + np.uint64(1)]] & _THIRD[data[at + np.uint64(2)]]
                        for kind in (MPEG, ADTS):
                            if may >> kind & 1 and np.int64(at) < end and _chain(data, np.int64(at), kind, facts):
                                places[count], kinds[count] = at, FRAMED + kind
                                count += 1
                        continue
                    for place in range(max(begin, np.int64(at) - BEHIND), min(end, np.int64(at) + 1)):
                        word = np.uint64(0)
                        for n in range(4):
                            word |= np.uint64(data[np.uint64(place + n)]) << np.uint64(8 * n)
                        slot = (word * np.uint64(_FACTOR) & np.uint64(0xFFFFFFFF)) >> np.uint64(26)
                        if _WORDS[slot] == word:
                            mark = _WHICH[slot]
                            places[count], kinds[count] = place - _BACKS[mark], _CODES[mark]
                            count += 1
        if count > len(places) - 3 * BLOCK:
            return count, min(end, base + BLOCK - BEHIND)
    return count, end


@njit(cache=True, nogil=True)
def _look(data, begin, end, places, kinds):
    """Places in data[begin:end] at which something may begin: (how many, up to where it was looked)."""
    blocks = -(-(end + BEHIND - begin) // BLOCK)
    size, shape = blocks * BLOCK, (blocks, ROWS, LANES)
    flags, least = np.empty((blocks, LANES), np.uint8), np.empty(LANES, np.uint8)
    first, second, third = (
        data[begin : begin + size],
        data[begin + 1 : begin + size + 1],
        data[begin + 2 : begin + size + 2],
    )
    _flag(first.reshape(shape), second.reshape(shape), third.reshape(shape), least, flags)
    return _candidates(data, begin, end, flags, places, kinds)


def candidates(data: bytes, begin: int, end: int) -> tuple[list[tuple[int, str]], int]:
    """Places in data[begin:end] at which a sound may begin, each with its kind, in order; and up to where it was looked, which is
    before `end` where there are many. At least AHEAD bytes stand behind `end`. A place may be below 0."""
    view: Any = np.frombuffer(data, np.uint8)
    missing = end + BEHIND + BLOCK + AHEAD - len(view)
    if missing > 0:
        # Not put behind the view: what is read-only and what is not would be compiled for twice.
        view = np.frombuffer(data + bytes(missing), np.uint8)
    places, kinds = np.empty(MOST, np.int64), np.empty(MOST, np.int64)
    count, seen = _look(view, begin, end, places, kinds)
    if not count:
        return [], seen
    names = [*KINDS, *FRAMES.values()]
    return sorted({(int(places[n]), names[kinds[n]]) for n in range(count)}), seen


def warm() -> None:
    """Compile."""
    candidates(bytes(64), 0, 32)

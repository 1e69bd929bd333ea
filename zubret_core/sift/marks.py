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
FRAMES = {len(KINDS) + MPEG: "mpeg", len(KINDS) + ADTS: "adts"}
"""Codes of kinds that have no mark: chains of frames."""
ROW = 32
"""Bytes that are looked at together."""
AHEAD = 16
"""Bytes behind a place that are looked at, at least; frames behind the first are looked at where they are at hand."""

_words = np.array([int.from_bytes(mark, "little") for mark in MARKS], np.int64)
_codes = np.array([KINDS.index(kind) for kind, _ in MARKS.values()], np.int64)
_FIRSTS = np.isin(np.arange(256), [mark[0] for mark in MARKS])
_backs = np.array([back for _, back in MARKS.values()], np.int64)


@njit(cache=True, nogil=True)
def _flag(first, second, flags):
    """Which rows of ROW bytes hold two bytes with which one of MARKS or a header of a frame begins; second: the same rows, one byte on.

    Written so that the compiler takes 32 bytes at a time: no branch, and nothing wider than a byte.
    """
    for row in range(first.shape[0]):
        found = np.uint8(0)
        for n in range(ROW):
            a, b = first[row, np.uint64(n)], second[row, np.uint64(n)]
            found |= np.uint8(a == np.uint8(0xFF)) & np.uint8(b >= np.uint8(0xE0)) & np.uint8(b != np.uint8(0xFF))
            found |= np.uint8(a == np.uint8(82)) & (np.uint8(b == np.uint8(73)) | np.uint8(b == np.uint8(70)))  # RI, RF
            found |= np.uint8(a == np.uint8(114)) & np.uint8(b == np.uint8(105))  # ri
            found |= np.uint8(a == np.uint8(70)) & np.uint8(b == np.uint8(79))  # FO
            found |= np.uint8(a == np.uint8(46)) & np.uint8(b == np.uint8(115))  # .s
            found |= np.uint8(a == np.uint8(99)) & np.uint8(b == np.uint8(97))  # ca
            found |= np.uint8(a == np.uint8(79)) & np.uint8(b == np.uint8(103))  # Og
            found |= np.uint8(a == np.uint8(102)) & np.uint8(b == np.uint8(76))  # fL
            found |= np.uint8(a == np.uint8(77)) & (np.uint8(b == np.uint8(84)) | np.uint8(b == np.uint8(46)))  # MT, M.
            found |= np.uint8(a == np.uint8(77)) & np.uint8(b == np.uint8(33))  # M!
            found |= np.uint8(a == np.uint8(69)) & np.uint8(b == np.uint8(120))  # Ex
            found |= np.uint8(a == np.uint8(73)) & np.uint8(b == np.uint8(77))  # IM
            found |= np.uint8(a == np.uint8(83)) & np.uint8(b == np.uint8(67))  # SC
            found |= (np.uint8(a == np.uint8(54)) | np.uint8(a == np.uint8(56))) & np.uint8(b == np.uint8(67))  # 6C, 8C
        flags[row] = found


@njit(cache=True, nogil=True)
def _candidates(data, begin, end, flags, base, firsts, words, codes, backs, first_frame, places, kinds):
    """Places in data[begin:end], in the rows that are flagged, at which something may begin; (how many, up to where it was
    looked). base: where the rows begin."""
    count, size, facts = 0, len(data), np.zeros(6, np.int64)
    for row in range(max(0, begin - base) // ROW, len(flags)):
        if flags[row] == 0:
            continue
        for at in range(max(begin, base + row * ROW), min(end, base + row * ROW + ROW)):
            if data[at] == 0xFF and data[at + 1] >= 0xE0:
                for kind in (MPEG, ADTS):
                    if not header(data, at, kind, facts):
                        continue
                    there, follow, layer = at + facts[0], 1, facts[4]
                    while follow < FOLLOW and there + 8 <= size:
                        if not (header(data, there, kind, facts) and alike(data, at, there, kind, layer)):
                            break
                        there, follow = there + facts[0], follow + 1
                    follows = follow == FOLLOW or there + 8 > size
                    if follows:
                        places[count], kinds[count] = at, first_frame + kind
                        count += 1
                continue
            if not firsts[data[at]]:
                continue
            word = (
                np.int64(data[at])
                | np.int64(data[at + 1]) << 8
                | np.int64(data[at + 2]) << 16
                | np.int64(data[at + 3]) << 24
            )
            for n in range(len(words)):
                if words[n] == word:
                    places[count], kinds[count] = at - backs[n], codes[n]
                    count += 1
        if count > len(places) - 2 * ROW:
            return count, min(end, base + row * ROW + ROW)
    return count, end


def candidates(data: bytes, begin: int, end: int) -> tuple[list[tuple[int, str]], int]:
    """Places in data[begin:end] at which a sound may begin, with its kind, in order of what was found; and up to where it was
    looked, which is before `end` where there are many. At least AHEAD bytes stand behind `end`. A place may be below 0."""
    places, kinds = np.empty(4096, np.int64), np.empty(4096, np.int64)
    view: Any = np.frombuffer(data, np.uint8)
    rows = -(-(end - begin) // ROW)
    if begin + rows * ROW + 1 > len(view):
        view = np.concatenate([view, np.zeros(ROW + 1, np.uint8)])
    flags = np.empty(rows, np.uint8)
    stop = begin + rows * ROW
    _flag(view[begin:stop].reshape(-1, ROW), view[begin + 1 : stop + 1].reshape(-1, ROW), flags)
    count, seen = _candidates(
        view, begin, end, flags, begin, _FIRSTS, _words, _codes, _backs, len(KINDS), places, kinds
    )
    names = [*KINDS, *FRAMES.values()]
    return [(int(places[n]), names[kinds[n]]) for n in range(count)], int(seen)


def warm() -> None:
    """Compile."""
    candidates(bytes(64), 0, 32)

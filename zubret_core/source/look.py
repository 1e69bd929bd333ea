"""Small aids for looking at bytes that nothing describes yet."""

from __future__ import annotations

import re
from typing import NamedTuple

import numpy as np

from .base import Source

SAMPLE = 4096
"""Bytes that are looked at for one figure of entropy."""
MOST_SEARCHED = 1 << 24
"""Bytes that a search looks at before it tells what it has: less than a second, even where the number nearly stands everywhere."""
PIECE = 1 << 20


def entropy(source: Source, bins: int) -> list[float]:
    """Shannon entropy in bits a byte (0 to 8) at `bins` places along a source, each of SAMPLE bytes or fewer.

    Plain tables are low, text around 5, packed or encrypted bytes close to 8. Takes as long for a large file as for
    a small one.
    """
    out = []
    step = source.size / bins if bins else 0
    for n in range(bins):
        at = int(n * step)
        length = min(SAMPLE, source.size - at, max(64, int(step)))
        if length <= 0:
            break
        counts = np.bincount(np.frombuffer(source.read(at, length), np.uint8), minlength=256)
        share = counts[counts > 0] / length
        out.append(float(-(share * np.log2(share)).sum()) + 0.0)
    return out


class Hit(NamedTuple):
    """A place that holds a number: its byte offset and how it is stored there, as a field's type and order."""

    at: int
    type: str
    order: str


def forms_of(value: int) -> dict[bytes, list[tuple[str, str]]]:
    """The bytes that stand for a number, with the types and orders in which they do."""
    out: dict[bytes, list[tuple[str, str]]] = {}
    for width in (2, 3, 4, 6, 8):
        low, high = (0, 1 << (8 * width)) if value >= 0 else (-(1 << (8 * width - 1)), 0)
        if not low <= value < high:
            continue
        for order in ("little", "big"):
            data = value.to_bytes(width, order, signed=value < 0)
            out.setdefault(data, []).append((f"{'i' if value < 0 else 'u'}{8 * width}", order))
    return out


def find_number(source: Source, value: int, at: int = 0, most: int = 200) -> tuple[list[Hit], int]:
    """Where a number stands in a file from a byte on, in all widths of 16 to 64 bits and both orders; and how far that was
    looked for: up to which byte. Whoever wants more goes on from there.

    A hit inside a wider one at the same place is left out. Small numbers stand nearly everywhere, so at most `most`
    hits are given.
    """
    forms = forms_of(value)
    if not forms or at >= source.size:
        return [], source.size
    pattern = re.compile(b"|".join(re.escape(f) for f in sorted(forms, key=len, reverse=True)), re.S)
    hits: list[Hit] = []
    end = min(source.size, at + MOST_SEARCHED)
    while at < end:
        piece = min(PIECE, end - at)
        data = source.read(at, min(piece + 7, source.size - at))
        for found in pattern.finditer(data):
            if found.start() >= piece:
                break
            kind, order = forms[found[0]][0]
            hits.append(Hit(at + found.start(), kind, order))
            if len(hits) >= most:
                return hits, at + found.end()
        at += piece
    return hits, end


class Text(NamedTuple):
    """A run of printable characters."""

    at: int
    text: str


_PRINTABLE = re.compile(rb"[\x20-\x7e]{5,200}|(?:[\x20-\x7e]\x00){5,100}")


def strings(source: Source, at: int, most: int = 100) -> list[Text]:
    """The next runs of five or more printable ASCII characters (or UTF-16 ones) from a byte on."""
    out: list[Text] = []
    end = min(source.size, at + (1 << 24))
    while at < end and len(out) < most:
        data = source.read(at, min(PIECE, source.size - at))
        for found in _PRINTABLE.finditer(data):
            out.append(Text(at + found.start(), found[0].replace(b"\0", b"").decode("ascii")))
            if len(out) >= most:
                break
        at += PIECE
    return out


class Distance(NamedTuple):
    """A distance at which bytes repeat, and by how much more often than by chance (a share of 0 to 1)."""

    bytes: int
    score: float


def record_distance(source: Source, at: int, most: int = 5) -> list[Distance]:
    """The likeliest lengths of records from a byte on: distances at which equal bytes recur, the shortest first.

    Looks at 64 KiB at most. Multiples of a distance score as well as it does, and are left out.
    """
    data = np.frombuffer(source.read(at, min(1 << 16, source.size - at)), np.uint8)
    if len(data) < 64:
        return []
    counts = np.bincount(data, minlength=256) / len(data)
    chance = float((counts**2).sum())
    longest = min(1024, len(data) // 3)
    scores = np.array([float((data[:-d] == data[d:]).mean()) - chance for d in range(1, longest)])
    best = float(scores.max())
    out: list[Distance] = []
    for n in np.flatnonzero(scores >= max(0.02, 0.8 * best)):  # from the shortest on
        d = int(n) + 1
        if len(out) < most and not any(d % o.bytes == 0 for o in out):
            out.append(Distance(d, round(float(scores[n]), 3)))
    return out

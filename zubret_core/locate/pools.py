"""Names that stand apart from the records of a table: texts one behind the other, into which a number of each record points."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..source import Source

LARGEST = 16 << 20
"""Bytes of texts at most."""
FEWEST = 4
"""Records that point to texts, at least: fewer do by chance."""
DISTINCT = 0.5
"""Share of the records that point to a text of their own, at least."""
LONGEST = 300
"""Bytes of one text at most."""
HEAD = 256
"""Bytes of the file's head in which numbers may say where the texts stand."""

NAMES = np.isin(np.arange(256), [ord(c) for c in "-_./\\ ()[]+&'!~#@,:"])
NAMES |= np.array([(chr(n).isalnum() and n < 128) or n >= 0x80 for n in range(256)])
"""Bytes that names are made of, in UTF-8, too."""


@dataclass(frozen=True)
class NamePool:
    """Texts in [at, at + size), each with a zero behind it. counted: a record's number counts from `at` and not from the file's
    beginning; pointer, sized: place and type of numbers of the head that hold `at` and `size`, where there are any."""

    at: int
    size: int
    counted: bool
    pointer: tuple[int, str] | None = None
    sized: tuple[int, str] | None = None


def pool_of(source: Source, numbers: NDArray[np.int64], bounds: Iterable[int], order: str) -> NamePool | None:
    """The texts to which the numbers of a table's records point; None where they point to none.

    numbers: (records,), one of each; bounds: places where something begins or ends, at which the texts may do so, too; order: little or
    big.
    """
    low, high = int(numbers.min()), int(numbers.max())
    if len(numbers) < FEWEST or len(np.unique(numbers)) < DISTINCT * len(numbers) or high - low > LARGEST or low < 0:
        return None
    head = source.read(0, min(HEAD, source.size))
    bounds = sorted({n for n in bounds if 0 < n <= source.size})
    for at, counted in [(low, False), *((place, True) for place in _beginnings(source, head, high, bounds, order))]:
        end = _end(source, numbers - (0 if counted else low), at)
        if end:
            behind = next((n for n in bounds if n >= end), end)
            found = ((size, _number(head, size, order)) for size in dict.fromkeys((end - at, behind - at)))
            size, sized = next(((s, place) for s, place in found if place), (end - at, None))
            return NamePool(at, size, counted, _number(head, at, order), sized)
    return None


def _beginnings(source: Source, head: bytes, high: int, bounds: list[int], order: str) -> Iterator[int]:
    """Where texts may begin: where the head says, behind something, or so that the last one ends before something."""
    words = np.frombuffer(head[4 : len(head) // 4 * 4], "<u4" if order == "little" else ">u4").tolist()
    yield from dict.fromkeys(w for w in words if 4 < w < source.size)
    for place in bounds:
        yield from dict.fromkeys(place + -place % grid for grid in (1, 4, 16))
        tail = source.read(max(0, place - LONGEST), min(LONGEST, place)).rstrip(b"\0")
        begin = place - min(LONGEST, place) + tail.rfind(b"\0") + 1
        if begin >= high:
            yield begin - high


def _end(source: Source, offsets: NDArray[np.int64], at: int) -> int:
    """The place behind the last of the texts that begin at the offsets from a place on; 0 where some do not."""
    high = int(offsets.max())
    if at < 4 or at + high >= source.size:
        return 0
    some = offsets[:: max(1, len(offsets) // 8)]
    first = [source.read(at + n - 1, 2) for n in some.tolist()]
    if not all(
        len(two) == 2 and NAMES[two[1]] and (n == 0 or two[0] == 0) for two, n in zip(first, some.tolist(), strict=True)
    ):
        return 0
    data = np.frombuffer(source.read(at, min(source.size - at, high + LONGEST)), np.uint8)
    zeros = np.flatnonzero(data == 0)
    stops = np.searchsorted(zeros, offsets)
    if not len(zeros) or stops.max() >= len(zeros):
        return 0
    ends = zeros[stops]
    strange = np.concatenate([[0], np.cumsum(~NAMES[data])])
    begun = (offsets == 0) | (data[offsets - 1] == 0)
    good = begun & (ends > offsets) & (ends - offsets <= LONGEST) & (strange[ends] == strange[offsets])
    return at + int(ends.max()) + 1 if good.all() else 0


def _number(head: bytes, value: int, order: str) -> tuple[int, str] | None:
    """Where in the head a number of 32 bits stands."""
    for at in range(4, len(head) - 3, 4) if value > 8 else ():
        if int.from_bytes(head[at : at + 4], order) == value:  # type: ignore[arg-type]
            return at, "u32"
    return None

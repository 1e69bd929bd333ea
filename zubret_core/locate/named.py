"""Finding tables whose records have a text of any length: a name that ends in zero, or with its length before it, and numbers."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import product
from typing import NamedTuple

from ..source import Source

SEARCHED = 512
"""Bytes from the beginning in which such a table may begin."""
LOOKED_AT = 1 << 20
MOST = 65_536
FEWEST = 3
LONGEST = 260
_TEXTS = {"ends": 'ends: "00"', "u8": "counted: u8", "u16": "counted: u16", "u32": "counted: u32"}


@dataclass(frozen=True)
class NamedTable:
    """Records from `at` on, each a text and numbers of 32 bits. text: how the text stands, as a layout says it; text_first: whether it
    stands before the numbers; numbers: what each means (at, stored, end), "" where that is not known. base, spans, counter and
    covered are as in TableGuess."""

    at: int
    count: int
    order: str
    text: str
    text_first: bool
    numbers: tuple[str, ...]
    base: int
    spans: list[tuple[int, int]]
    counter: tuple[int, str] | None
    covered: float


def named_tables(source: Source, payloads: Source | None = None) -> list[NamedTable]:
    """The tables that explain most of a file, the best first; payloads: the file that they point into, where it is another one."""
    data = source.read(0, min(LOOKED_AT, source.size))
    found: list[NamedTable] = []
    for begin in range(4, min(SEARCHED, len(data) - 16)):
        for text, order, first, count in product(_TEXTS, ("little", "big"), (True, False), (2, 3, 4, 5)):
            rows = _rows(data, begin, text, order, first, count)
            if len(rows) >= FEWEST:
                table = _Read(begin, rows, text, order, first, count)
                found += _placed(data, table, payloads.size if payloads else source.size, payloads is not None)
    found.sort(key=lambda t: -t.covered * t.count**0.1 * (0.98 if t.at % 4 else 1) * (1 if t.counter else 0.9))
    return found[:2]


Row = tuple[bytes, tuple[int, ...], int]
"""The text, the numbers, and the place behind the record."""


def _rows(data: bytes, at: int, text: str, order: str, first: bool, count: int) -> list[Row]:
    """As many records as can be read from a place on."""
    rows: list[Row] = []
    seen: set[bytes] = set()
    while len(rows) < MOST:
        row = _row(data, at, text, order, first, count)
        if row is None or row[0] in seen:
            return rows
        seen.add(row[0])
        rows.append(row)
        at = row[2]
    return rows


def _row(data: bytes, at: int, text: str, order: str, first: bool, count: int) -> Row | None:
    numbers = b""
    if not first:
        numbers, at = data[at : at + 4 * count], at + 4 * count
    if text == "ends":
        stop = data.find(b"\0", at, at + LONGEST)
        begin, behind = at, stop + 1
    else:
        width = int(text[1:]) // 8
        stop = at + width + int.from_bytes(data[at : at + width], order)  # type: ignore[arg-type]
        begin, behind = at + width, stop
    if not 1 <= stop - begin < LONGEST or behind > len(data):
        return None
    name = data[begin:stop]
    if min(name) < 32 or (len(name) > 1 and not name.strip(b" ")):
        return None
    if first:
        numbers, behind = data[behind : behind + 4 * count], behind + 4 * count
    if len(numbers) < 4 * count:
        return None
    values = tuple(int.from_bytes(numbers[n : n + 4], order) for n in range(0, 4 * count, 4))  # type: ignore[arg-type]
    return name, values, behind


class _Read(NamedTuple):
    """Records as they were read, from `begin` on, by how their text and their `width` numbers each stand."""

    begin: int
    rows: list[Row]
    text: str
    order: str
    first: bool
    width: int


def _placed(data: bytes, table: _Read, size: int, apart: bool) -> Iterator[NamedTable]:
    """The same records where two of their numbers are a place and a size, or an end, of payloads that don't overlap. The last rows may be
    no records any more: those are taken for which a number in front says how many there are, or all that step on. size: bytes of the file
    that they point into, apart where it is another one."""
    begin, rows, text, order, first, count = table
    for at, other in product(range(count), repeat=2):
        if at == other:
            continue
        for means in ("stored", "end"):
            spans: list[tuple[int, int]] = []
            for _, values, _ in rows:
                length = values[other] if means == "stored" else values[other] - values[at]
                if length <= 0 or values[at] + length > size or (spans and values[at] < sum(spans[-1])):
                    break
                spans.append((values[at], length))
            if len(spans) < FEWEST:
                continue
            end = 0 if apart else rows[len(spans) - 1][2]
            base = 0
            if spans[0][0] < end:
                base = size - sum(spans[-1])
                if spans[0][0] or not end <= base <= end + 4096:
                    continue
                base = base if base == end else base - base % 16 if base - base % 16 >= end else base
            covered = sum(length for _, length in spans) / max(1, size - end)
            if covered < 0.5:
                continue
            counter = None
            for width in (4, 2):
                for place in range(4, begin - width + 1):
                    if counter is None and int.from_bytes(data[place : place + width], order) == len(spans):  # type: ignore[arg-type]
                        counter = place, f"u{8 * width}"
            numbers = ["" for _ in range(count)]
            numbers[at], numbers[other] = "at", means
            yield NamedTable(
                begin, len(spans), order, _TEXTS[text], first, tuple(numbers), base,
                [(a + base, n) for a, n in spans], counter, covered,
            )  # fmt: skip

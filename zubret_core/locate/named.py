"""Finding tables whose records have a text of any length: a name that ends in zero, or with its length before it, and numbers."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import islice, product
from typing import NamedTuple

from ..source import Source

SEARCHED = 512
"""Bytes from the beginning in which such a table may begin."""
LOOKED_AT = 8 << 20
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
    data, size = source.read(0, min(LOOKED_AT, source.size)), (payloads or source).size
    found: list[NamedTable] = []
    for how in map(_How, *zip(*product(_TEXTS, ("little", "big"), (True, False), (2, 3, 4, 5)), strict=True)):
        known: dict[int, list[NamedTable]] = {}  # by where records end, of which a table is known
        for begin in range(4, min(SEARCHED, len(data) - 16)):
            rows = list(islice(_rows(data, begin, how), FEWEST))
            if len(rows) < FEWEST or begin in known:
                continue
            if how.first and rows[0].behind in known:  # the same records, of whose first text some letters are left out
                found += [
                    replace(table, at=begin, counter=_counter(data, begin, table.count, how.order))
                    for table in known[rows[0].behind]
                ]
                continue
            for column in _columns(rows, how.width, size):
                chain = list(_stepping(_rows(data, begin, how), column, size))
                table = _placed(data, begin, how, column, chain, size, payloads is not None)
                found += [table] if table else []
                known.update((row.behind, []) for row in chain if row.behind not in known)
                known[chain[0].behind] += [table] if table else []
    found.sort(key=lambda t: -t.covered * t.count**0.1 * (0.98 if t.at % 4 else 1) * (1 if t.counter else 0.9))
    return found[:2]


class _How(NamedTuple):
    """How records stand: their text, byte order, whether the text comes first, and how many numbers each has."""

    text: str
    order: str
    first: bool
    width: int


class _Row(NamedTuple):
    """A record: text, numbers, and the place behind it."""

    text: bytes
    numbers: tuple[int, ...]
    behind: int


def _rows(data: bytes, at: int, how: _How) -> Iterator[_Row]:
    """The records that can be read from a place on, no two with the same text."""
    seen: set[bytes] = set()
    while len(seen) < MOST:
        row = _row(data, at, how)
        if row is None or row.text in seen:
            return
        seen.add(row.text)
        yield row
        at = row.behind


def _row(data: bytes, at: int, how: _How) -> _Row | None:
    text, order, first, count = how
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
    return _Row(name, values, behind)


Column = tuple[int, int, str]
"""Which number is a place, which one a size or an end, and which of these."""


def _columns(rows: list[_Row], width: int, size: int) -> Iterator[Column]:
    """Which two numbers can be those of payloads, in all of these rows."""
    for at, other in product(range(width), repeat=2):
        for means in ("stored", "end") if at != other else ():
            if len(list(_stepping(rows, (at, other, means), size))) == len(rows):
                yield at, other, means


def _span(row: _Row, column: Column) -> tuple[int, int]:
    """Place and bytes of a row's payload."""
    at, other, means = column
    return row.numbers[at], row.numbers[other] - (row.numbers[at] if means == "end" else 0)


def _stepping(rows: Iterable[_Row], column: Column, size: int) -> Iterator[_Row]:
    """The rows whose payloads don't overlap and lie inside a file of `size` bytes, up to the first other one."""
    end = 0
    for row in rows:
        place, length = _span(row, column)
        if length <= 0 or place + length > size or place < end:
            return
        yield row
        end = place + length


def _placed(
    data: bytes, begin: int, how: _How, column: Column, rows: list[_Row], size: int, apart: bool
) -> NamedTable | None:
    """The table of rows that step on from `begin` on; None where they explain too little. size: bytes of the file that they point into,
    apart where it is another one."""
    spans = [_span(row, column) for row in rows]
    end = 0 if apart else rows[-1].behind
    base = 0
    if spans[0][0] < end:
        base = size - sum(spans[-1])
        if spans[0][0] or not end <= base <= end + 4096:
            return None
        base = base if base == end else base - base % 16 if base - base % 16 >= end else base
    covered = sum(length for _, length in spans) / max(1, size - end)
    if covered < 0.5:
        return None
    numbers = ["" for _ in range(how.width)]
    numbers[column[0]], numbers[column[1]] = "at", column[2]
    return NamedTable(
        begin, len(spans), how.order, _TEXTS[how.text], how.first, tuple(numbers), base,
        [(at + base, length) for at, length in spans], _counter(data, begin, len(spans), how.order), covered,
    )  # fmt: skip


def _counter(data: bytes, end: int, count: int, order: str) -> tuple[int, str] | None:
    """Where a number of records stands in front of a table, and its type."""
    for width in (4, 2):
        for place in range(4, end - width + 1):
            if int.from_bytes(data[place : place + width], order) == count:  # type: ignore[arg-type]
                return place, f"u{8 * width}"
    return None

"""Finding tables of payloads in a file that nothing describes: numbers that step through it without overlapping."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..source import Source
from .pools import NAMES, NamePool, pool_of
from .unknown import Candidate

HEAD = 64 << 10
"""Bytes from the beginning, and before the end, that are searched."""
STRIDES = range(8, 132, 2)
UNITS = (1, 16, 32, 512, 2048)
RATES = (8000, 11025, 12000, 16000, 22050, 24000, 32000, 37800, 44100, 48000)
MOST = 4096
"""Records of a run that are looked at, before the whole table is."""
LONG = 64
"""Records that must step on where what is searched ends, or from where MOST are seen, for a table that is longer."""
WHOLE = 16 << 20
"""Bytes of a table in front of these, and behind them, at most."""
TRIED = 24
"""Runs of places in order that are looked into at each stride and unit, the longest first."""
MOST_LOOKED = 6_000
"""Runs that are looked into in a zone at most: bytes of a few values have them without end."""
LARGE = 1 << 20
"""Bytes of a file above which two records make no table."""
RELATIVE = 0.95
"""What a table counts whose places are measured from the first payload, against one that names them outright."""
FEWEST_ODD = 5
"""Records of a table at an odd place at least: fewer are there by chance in plain samples."""
ROOM = 64
"""Bytes that may follow the last payload, up to the end of the file or up to the table, where fewer than MANY records say so."""
MANY, SURE = 8, 0.9
"""Records, and their share of the file, from which on a table is believed."""
LOOKED_AT = 500
"""Records whose lengths in frames, or whose fill, are looked at."""
KEPT = 4
"""Tables that are told, of different places, strides or fields."""


@dataclass(frozen=True)
class TableGuess:
    """Records of `stride` bytes from `at` on, `count` of them, in which places and sizes stand.

    fields: place of the number within the record, by meaning: at and stored or end (u32, or u64 where its upper half is always 0), and where
    found path (text and its bytes, as text16, or u32 where names stand in a pool), id (u16 or u32), frames and rate. unit, base: place = number * unit + base, where base is 0 or
    the place of the first payload. spans: the payloads, (place, bytes). counter: place and type of the number that counts the records;
    pointer: of that which says where they stand. covered: the share of the rest of the file that the payloads take.
    """

    at: int
    stride: int
    count: int
    order: str
    unit: int
    base: int
    fields: dict[str, tuple[int, str]]
    spans: list[tuple[int, int]]
    counter: tuple[int, str] | None = None
    rate: int = 0
    pointer: tuple[int, str] | None = None
    covered: float = 0.0
    pool: NamePool | None = None


@dataclass
class _Zone:
    """Bytes of the file that are searched, and from where on; payloads: the file to which a table points, apart where that is another one;
    least: records of a table. found: by what is told apart, score and guess."""

    source: Source
    payloads: Source
    apart: bool
    data: bytes
    begin: int
    least: int
    found: dict[tuple, tuple[float, TableGuess]] = field(default_factory=dict)
    best: float = 0.0
    looked: int = 0

    @property
    def size(self) -> int:
        """Bytes of the whole file that is pointed to."""
        return self.payloads.size

    def take(self, score: float, guess: TableGuess) -> None:
        key = guess.at, guess.stride, tuple(sorted(guess.fields))
        if key not in self.found or self.found[key][0] < score:
            self.found[key] = score, guess
        self.best = max(self.best, score)


def find_table(source: Source) -> TableGuess | None:
    """The table that explains most of the file as payloads; None where no two records fit."""
    found = find_tables(source)
    return found[0] if found else None


def find_tables(source: Source, payloads: Source | None = None) -> list[TableGuess]:
    """The tables that explain most, the best first; payloads: the file that they point into, where it is another one."""
    places = [0] if source.size <= HEAD else [0, max(HEAD, source.size - HEAD) & ~1]
    found: list[tuple[float, TableGuess, _Zone]] = []
    for odd in (0, 1):  # tables at odd places are looked for where none of many records was found at even ones
        if any(guess.count >= MANY and guess.covered > SURE for _, guess, _ in found):
            break
        for begin in (place for place in places if place + odd < source.size):
            data = source.read(begin + odd, min(HEAD, source.size - begin - odd))
            zone = _Zone(source, payloads or source, payloads is not None, data, begin + odd, FEWEST_ODD if odd else 2)
            _search(zone)
            found += [(score, guess, zone) for score, guess in zone.found.values()]
    found = [(score * (0.9 + 0.1 * _filled(zone.payloads, guess)), guess, zone) for score, guess, zone in found]
    found.sort(key=lambda f: -f[0])
    head = source.read(0, min(HEAD, source.size))
    out = []
    for _, guess, zone in found[:KEPT]:
        begin = zone.begin if guess.at >= zone.begin else max(0, guess.at - HEAD)
        length = max(len(zone.data) if begin == zone.begin else 0, guess.at - begin + (guess.count + 1) * guess.stride)
        data = source.read(begin, min(length, source.size - begin))
        out.append(_with_more(source, data, begin, guess, head, payloads is None))
    return out


def _filled(payloads: Source, guess: TableGuess) -> float:
    """The share of the first payloads that end where their fill begins, of those that do not fill their sectors; 1 where all do."""
    right = looked = 0
    for (at, length), (there, _) in zip(guess.spans[:LOOKED_AT], guess.spans[1:], strict=False):
        gap = payloads.read(at + length - 1, there - at - length + 1)
        looked += len(gap) > 1
        right += len(gap) > 1 and gap[0] != gap[1] and not gap[1:].strip(gap[1:2])
    return right / looked if looked else 1.0


def _search(zone: _Zone) -> None:
    """Look for tables at all strides and units."""
    for order in ("little", "big"):
        words = _words(zone.data, order)
        inside = {unit: words < -(-zone.size // unit) for unit in UNITS if unit == 1 or zone.size > 4 * unit}
        for stride in STRIDES:
            rises = words[stride // 2 :] > words[: -(stride // 2)]
            for unit, fits in inside.items():
                _try(zone, words, rises & fits[stride // 2 :], order, stride, unit)


def _words(data: bytes, order: str) -> NDArray[np.int64]:
    """The 32-bit number at each even byte."""
    kind = np.dtype("<u4" if order == "little" else ">u4")
    even = np.frombuffer(data[: len(data) // 4 * 4], kind).astype(np.int64)
    rest = data[2:]
    odd = np.frombuffer(rest[: len(rest) // 4 * 4], kind).astype(np.int64)
    out = np.zeros(len(even) + len(odd), np.int64)
    out[0::2], out[1::2] = even, odd
    return out


def _try(zone: _Zone, words: NDArray[np.int64], good: NDArray[np.bool_], order: str, stride: int, unit: int) -> None:
    """Look for tables at one stride and unit; good: where the next record's number is larger, and inside the file."""
    step = stride // 2
    named = good & (words[:-step] >= -(-16 // unit))
    begins = named.copy()
    begins[step:] &= ~named[:-step]
    counted = good & (words[:-step] == 0)  # from the first payload on
    if not (begins.any() or counted.any()):
        return
    runs = _runs(good, step)
    if zone.size > LARGE:
        begins &= runs[: len(begins)] > 1
    firsts = [*_longest(begins, runs), *_longest(counted, runs)]
    firsts += [first + step for first in firsts if runs[first] >= MANY]  # a number of the head may seem to belong to it
    for first in firsts:
        zone.looked += 1
        if zone.looked > MOST_LOOKED:
            return
        count = min(MOST, 1 + int(runs[first]))
        if count < zone.least or (count < 3 and not words[first]):
            continue  # two numbers of which the first is 0 say nothing
        at = words[first + step * np.arange(count)] * unit
        after = zone.size - (0 if zone.apart else zone.begin + 2 * (first + count * step) + 4)
        goes_on = count >= LONG and (count == MOST or first + (count + 1) * step > len(words) or first < step)
        for means in ("stored", "end"):
            for other in _beside(words, at, first, step, unit, means == "end", zone.size, 0 if goes_on else after):
                where, how = (zone.begin + 2 * first, zone.begin + 2 * int(other)), (order, stride, unit)
                numbers = words[other + step * np.arange(count)]
                stored = numbers if means == "stored" else numbers * unit - at
                if goes_on:
                    _take(zone, *_whole(zone, means, where, how), means, how)
                else:
                    _take(zone, at, stored, where, means, how)


def _whole(
    zone: _Zone, means: str, where: tuple[int, int], how: tuple[str, int, int]
) -> tuple[NDArray[np.int64], NDArray[np.int64], tuple[int, int]]:
    """Places and sizes of all records before and behind the one of which two numbers stand at `where`, as far as they step on; and
    where those of the first one stand."""
    order, stride, unit = how
    for reach in (HEAD, WHOLE):  # few go on
        before = min(min(where), reach) // stride
        begin = min(where) - before * stride
        length = min(zone.source.size - begin, before * stride + reach)
        data = zone.source.read(begin, length)
        count = (length - (max(where) - min(where)) - 4) // stride + 1
        at, other = (_column(data, place - min(where), count, stride, order, 4) * unit for place in where)
        stored = other - at if means == "end" else other // unit
        gaps = at[1:] - at[:-1] - stored[:-1]
        fits = (stored > 0) & (at + stored <= zone.size)
        steps = fits[1:] & fits[:-1] & (gaps >= 0) & (gaps <= 4096)
        first = 0 if steps[:before].all() else int(np.flatnonzero(~steps[:before])[-1]) + 1
        last = count - 1 if steps[before:].all() else before + int(np.argmin(steps[before:]))
        if first and last < count - 1:
            break
    moved = (first - before) * stride
    return at[first : last + 1], stored[first : last + 1], (where[0] + moved, where[1] + moved)


def _column(data: bytes, at: int, count: int, stride: int, order: str, width: int) -> NDArray[np.int64]:
    """The numbers of `width` bytes (of four: without a sign) that stand `stride` bytes apart."""
    return np.ndarray((count,), f"{'<' if order == 'little' else '>'}u{width}", data, at, (stride,)).astype(np.int64)


@njit(cache=True, nogil=True)
def _beside(words: Any, at: Any, first: Any, step: Any, unit: Any, ends: Any, size: Any, after: Any) -> Any:
    """The words within the record beside a place, from `first` on, that can be payloads' sizes, or their ends: each within the file and
    before the next place, but not far, and all together at least half of what is `after` the table."""
    out, count = np.zeros(2 * step, np.int64), len(at)
    found = 0
    for other in range(max(0, first - step + 1), min(first + step, len(words) - (count - 1) * step)):
        row, total = 0, np.int64(0)
        while row < count and other != first:
            stored = words[other + row * step] * (unit if ends else 1) - (at[row] if ends else 0)
            gap = (at[row + 1] if row + 1 < count else size) - at[row] - stored
            if stored <= 0 or gap < 0 or (gap > 4096 and row + 1 < count):
                break
            total += -(-stored // unit) * unit
            row += 1
        if row == count and 2 * total >= after:
            out[found] = other
            found += 1
    return out[:found]


def _take(
    zone: _Zone,
    at: NDArray[np.int64],
    stored: NDArray[np.int64],
    where: tuple[int, int],
    means: str,
    how: tuple[str, int, int],
) -> None:
    """Keep a column of places with one of sizes or ends, if they are a table; where: the bytes at which they begin."""
    (order, stride, unit), size, count = how, zone.size, len(at)
    ends = at + stored
    begin, end = min(where), max(where) + (count - 1) * stride + 4
    if zone.apart:
        base, room, last = 0, size, size
    else:
        base = 0 if at[0] else _base(begin, end, int(ends[-1]), size, alignment(at[1:].tolist()))
        before = ends[-1] + base <= begin and (at[0] > 0 or base > 0 or zone.begin > 0)
        if not before and at[0] + base < end:
            return
        room, last = (size - (end - begin), begin) if before else (size - end, size)
    filled = int((-(-stored // unit) * unit).sum())  # with what fills up their sectors
    covered = min(1.0, filled / max(1, room))
    score = covered * count**0.1 * (RELATIVE if base else 1) * (RELATIVE if means == "end" else 1)
    if covered * (RELATIVE if base else 1) < 0.5 or score < 0.6 * zone.best:
        return
    if count < MANY:
        plain = _PLAIN[np.concatenate([at // unit, stored]).astype("<u4").view(np.uint8)].reshape(-1, 4).all(axis=1)
        half = filled < 0.5 * (size if zone.apart else size - (end - begin))
        if half or plain.sum() > count or not _tight(zone, (at + base).tolist(), (ends + base).tolist(), last):
            return
    fields = {"at": (where[0] - begin, "u32"), means: (where[1] - begin, "u32")}
    spans = list(zip((at + base).tolist(), stored.tolist(), strict=True))
    zone.take(score, TableGuess(begin, stride, count, order, unit, base, fields, spans, covered=covered))


_PLAIN = np.isin(np.arange(256), [0, 1, 2, 254, 255])
"""Bytes of which silence is made, among plain samples."""


def _tight(zone: _Zone, at: list[int], ends: list[int], last: int) -> bool:
    """Whether payloads follow one another as closely as their grid allows, with one byte that fills what is between: what few records must
    show to be believed. last: where the last one should end."""
    grid = alignment(at[1:] or at)
    for end, stop in zip(ends, [*at[1:], last], strict=True):
        gap = stop - end
        if not 0 <= gap < max(grid, ROOM if stop == last else 1):
            return False
        between = zone.payloads.read(end, gap)
        if between.strip(between[:1]):
            return False
    return True


@njit(cache=True, nogil=True)
def _runs(good: Any, step: Any) -> Any:
    """How many are good in a row, from each one on in steps."""
    out = np.zeros(len(good), np.int64)
    for n in range(len(good) - 1, -1, -1):
        if good[n]:
            out[n] = 1 + (out[n + step] if n + step < len(good) else 0)
    return out


def _longest(begins: NDArray[np.bool_], runs: NDArray[np.int64]) -> list[int]:
    """The beginnings of the longest runs, as many as are tried."""
    found = np.flatnonzero(begins)
    return found[np.argsort(-runs[found], kind="stable")[:TRIED]].tolist()


def _base(table: int, table_end: int, sounds: int, size: int, align: int) -> int:
    """Where payloads begin whose places are counted from the first of them; 0 where that can't be told.

    sounds: bytes from the first payload to the end of the last. They end with the file, or where the table begins, but for what fills it
    up to the grid of `align` bytes; or they begin at the next round place behind the table.
    """
    if table > table_end - table and table >= sounds and table - sounds < 4096:
        return table - sounds - (table - sounds) % align
    last = size - sounds
    if table_end <= last <= table_end + 4096:
        return last - last % align if last != table_end and last - last % align >= table_end else last
    rounded = (-(-table_end // grid) * grid for grid in (16, 32, 64, 256, 512, 2048, 4096))
    return next((at for at in rounded if 0 <= last - at < 4096), 0)


def _with_more(source: Source, data: bytes, zone: int, found: TableGuess, head: bytes, inside: bool) -> TableGuess:
    """The same with the record's beginning, its text and id, rate, and the numbers that count the records and say where they stand.
    data: the bytes from `zone` on in which it was found; head: those at the file's beginning; inside: the payloads stand in the same
    file."""
    start = found.at - zone
    counter = _number(head, found.count, found.order, min(found.at, 256))
    fields = {name: _width(data, start, found, place) for name, place in found.fields.items()}
    # A record may begin before its first known field: as far back as the bytes before allow.
    floor = 0 if zone else (counter[0] + int(counter[1][1:]) // 8) if counter else 4
    used = max(at + width_of(kind) for at, kind in fields.values())
    fields = {name: (at, kind) for name, (at, kind) in fields.items()}
    text = _text(data, start, found, fields, floor - start, used)
    if text:
        fields["path"] = text
    used = max(at + width_of(kind) for at, kind in fields.values())

    def column(at: int, width: int) -> NDArray[np.int64] | None:
        last = start + at + (found.count - 1) * found.stride + width
        taken = any(at < place + width_of(kind) and place < at + width for place, kind in fields.values())
        if taken or start + at < floor or last > len(data):
            return None
        return _column(data, start + at, found.count, found.stride, found.order, width)

    first, pool = min(at for at, _ in fields.values()), None
    if "path" not in fields:
        bounds = [found.at, found.at + found.count * found.stride, source.size]
        bounds += [found.spans[0][0], sum(found.spans[-1])] if inside else []
        low = used - found.stride
        for offset in range(low + (first - low) % 4, first + found.stride - 3, 4):
            numbers = column(offset, 4) if pool is None else None
            if numbers is not None and (pool := pool_of(source, numbers, [*bounds, found.at + offset], found.order)):
                fields["path"] = offset, "u32"
    used = max(at + width_of(kind) for at, kind in fields.values())
    first = min(at for at, _ in fields.values())
    for back in range(2, found.stride - (used - first) + 1, 2) if "path" not in fields else ():
        for width in (4, 2):
            ids = column(first - back, width)
            # Two numbers of two bytes would make one of four whose upper half never changes.
            paired = width == 4 and ids is not None and ids[0] >> 16 and len(np.unique(ids >> 16)) == 1
            distinct = ids is not None and len(np.unique(ids)) == len(ids) and ids.any()
            if "id" not in fields and back >= width and distinct and not paired:
                upper = column(first - back - 2, 2) if width == 2 and found.order == "big" else None
                whole = upper is not None and not upper.any()
                fields["id"] = (first - back - 2, "u32") if whole else (first - back, f"u{8 * width}")
    first, rate = min(at for at, _ in fields.values()), 0
    for offset in range(first, first + found.stride, 2):
        for width in (4, 2):
            values = column(offset, width)
            if values is not None and not rate and np.isin(values, RATES).all():
                rate = int(values[0])
                fields["rate"] = (offset, f"u{8 * width}")
    at = found.at + first
    return replace(
        found,
        at=at,
        fields={name: (place - first, kind) for name, (place, kind) in fields.items()},
        counter=counter if counter is None or counter[0] + width_of(counter[1]) <= at else None,
        rate=rate,
        pointer=_number(head, at, found.order, min(at, 256)) if at > 8 else None,
        pool=pool,
    )


def _number(head: bytes, value: int, order: str, end: int) -> tuple[int, str] | None:
    """Where in the head a number first stands, and its type."""
    for width in (4, 8, 2):
        for at in range(4, end - width + 1, 2):
            if int.from_bytes(head[at : at + width], order) == value:  # type: ignore[arg-type]
                return at, f"u{8 * width}"
    return None


def width_of(kind: str) -> int:
    """The bytes of a field by its type as TableGuess has it."""
    return int(kind[4:]) if kind.startswith("text") else int(kind[1:]) // 8


def _width(data: bytes, start: int, found: TableGuess, field: tuple[int, str]) -> tuple[int, str]:
    """A number of 32 bits as one of 64, where the other half is 0 in every record and no field."""
    at = field[0] + (4 if found.order == "little" else -4)
    others = [place for place, _ in found.fields.values()]
    rows = [start + at + n * found.stride for n in range(found.count)]
    aligned = (min(field[0], at) - min(others)) % 4 == 0
    if at in others or rows[0] < 4 or rows[-1] + 4 > len(data) or not aligned or at >= min(others) + found.stride:
        return field
    if _column(data, rows[0], found.count, found.stride, "little", 4).any():
        return field
    return min(at, field[0]), "u64"


def _text(
    data: bytes, start: int, found: TableGuess, fields: dict[str, tuple[int, str]], floor: int, used: int
) -> tuple[int, str] | None:
    """A text in each record, of fixed length and filled with zeros, no two of them the same: its place and type."""
    first = min(at for at, _ in fields.values())
    low, high = max(floor, used - found.stride), first + found.stride
    last = (found.count - 1) * found.stride
    if high <= low or start + low < 0 or start + low + last > len(data):
        return None
    padded = data.ljust(start + last + high, b"\1")
    rows = np.ndarray((found.count, high - low), np.uint8, padded, start + low, (found.stride, 1))
    printable = NAMES[rows]
    good = (NAMES[rows] | (rows == 0)).all(axis=0)
    for at, kind in fields.values():
        for place in (at, at - found.stride, at + found.stride):
            good[max(0, place - low) : max(0, place - low + width_of(kind))] = False
    best: tuple[int, int] | None = None
    for begin in np.flatnonzero(printable.all(axis=0) & good).tolist():
        if best and begin < best[0] + best[1]:
            continue
        stop = begin
        while stop < len(good) and good[stop] and stop - begin < found.stride - (used - first):
            stop += 1
        texts = [bytes(row[begin:stop]).split(b"\0")[0] for row in rows]
        length = sum(map(len, texts)) / len(texts)
        if length >= 3 and len(set(texts)) == found.count and (best is None or stop - begin > best[1]):
            best = begin, stop - begin
    return (best[0] + low, f"text{best[1]}") if best else None


def frames_field(data: bytes, found: TableGuess, candidate: Candidate) -> tuple[int, str] | None:
    """The field that holds each payload's length in frames, by how many frames the bytes of the first ones hold in this codec."""
    some = found.spans[: max(1, min(LOOKED_AT, (len(data) - found.at) // found.stride))]
    most = [candidate.format(44_100, stored).frames for _, stored in some]
    least = [candidate.format(44_100, max(1, stored - 1) * 15 // 16).frames for _, stored in some]
    taken = [(at, width_of(kind)) for at, kind in found.fields.values()]
    for offset in range(0, found.stride - 3, 2):
        if any(offset < at + width and at < offset + 4 for at, width in taken):
            continue
        if found.at + (len(some) - 1) * found.stride + offset + 4 > len(data):
            continue
        values = _column(data, found.at + offset, len(some), found.stride, found.order, 4)
        if all(low < v <= high for low, v, high in zip(least, values.tolist(), most, strict=True)):
            return offset, "u32"
    return None


def alignment(places: list[int]) -> int:
    """The largest power of two, up to 4,096, of which all places are multiples."""
    align = 4096
    while align > 1 and any(place % align for place in places):
        align //= 2
    return align


def warm() -> None:
    """Compile."""
    words = np.zeros(4, np.int64)
    _runs(np.zeros(4, np.bool_), 1)
    _beside(words, words, 0, 1, 1, False, 4, 0)

"""Regions whose records stand before their payloads: walked record by record, and into each other."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ..base import ZubretError
from ..source import SliceSource, Source
from .expression import evaluate
from .model import Region, ties_of
from .place import Place
from .records import DAMAGED, Records, read_records

if TYPE_CHECKING:
    from .read import Reading

DEEPEST = 32
"""Levels of records inside records at most."""
MOST = 1 << 22
"""Records with bodies in a file at most."""


def read_bodies(reading: Reading, region: Region, source: Source, at: int, limit: int, count: int | None) -> Place:
    """The records of a region with bodies, from `at` to at most `limit`; those inside others come behind them."""
    rows: list[tuple[Records, int, int, int]] = []  # record, body's place and bytes, record around it
    body = region.body
    assert body is not None

    def level(pos: int, end: int, most: int | None, around: int, depth: int) -> int:
        if depth > DEEPEST:
            raise ZubretError(
                f"Records stand {DEEPEST} deep in each other.", file=source.name, offset=pos, field=region.name,
                next=DAMAGED,
            )  # fmt: skip
        done = 0
        while (most is None and pos < end) or (most is not None and done < most):
            if most is None and region.until == "zero" and _only_zeros(region, source, pos, end):
                break
            record, after = read_records(
                region.model_copy(update={"until": None}), reading.big, source, pos, end, 1,
                reading.names(region, at), pos,
            )  # fmt: skip
            size = int(_tie_numbers(reading, region, record, body.size, at)[0])
            if size < 0 or after + size > end:
                raise ZubretError(
                    f"The body of {size:,} bytes leaves the {end:,} bytes that there are.",
                    file=source.name, offset=pos, field=f"{region.name}.{body.size} of record {len(rows)}",
                    next=DAMAGED,
                )  # fmt: skip
            rows.append((record, after, size, around))
            mine, stop = len(rows) - 1, after + size
            if _first_text(region, record) in body.nested and size >= body.skip:
                level(after + body.skip, stop, None, mine, depth + 1)
            pos = min(end, stop + -stop % body.align)
            done += 1
            if len(rows) > 1 << 22:
                raise ZubretError("More than 4,194,304 records.", file=source.name, field=region.name, next=DAMAGED)
            if region.until not in (None, "end", "zero") and _is_last(reading, region, record, at):
                break
        return pos

    end = level(at, limit, count, -1, 0)
    records = _joined(reading, region, [r[0] for r in rows])
    place = Place(region, "", at, end - at, SliceSource(source, at, end - at), records)
    place.body = np.array([(r[1], r[2]) for r in rows], np.int64).reshape(-1, 2)
    place.inside = [r[3] for r in rows]
    holders = set(place.inside)
    place.rows = np.array([n for n in range(len(rows)) if n not in holders], np.int64)
    return place


def _only_zeros(region: Region, source: Source, pos: int, end: int) -> bool:
    width = sum(f.width or 1 for f in region.fields)
    return not source.read(pos, min(width, end - pos)).strip(b"\0")


def _is_last(reading: Reading, region: Region, record: Records, at: int) -> bool:
    names = reading.names(region, at)
    for tie in ties_of(region):
        if record.holder(tie)[0].numeric:
            names[tie.name] = int(record.numbers(tie)[0])
    return bool(evaluate(region.until or 0, names, reading.file.name, region.name))


def _first_text(region: Region, record: Records) -> str:
    first = next((f for f in region.fields if f.type in ("text", "bytes")), None)
    return (record.contents(first)[0] or b"").decode("latin-1") if first else ""


def _tie_numbers(reading: Reading, region: Region, record: Records, name: str, at: int) -> list:
    tie = next(t for t in ties_of(region) if t.name == name)
    names = reading.names(region, at)
    unit, base = (evaluate(x, names, reading.file.name, name) for x in (tie.unit, tie.base))
    return (record.numbers(tie).astype(np.int64) * unit + base).tolist()


def _joined(reading: Reading, region: Region, parts: list[Records]) -> Records:
    """Records read one by one as one set of columns."""
    if not parts:
        return Records.measured(
            region, reading.big, np.zeros(0, np.uint8), *(np.zeros(0, np.int64),) * 2,
            *(np.zeros((0, len(region.fields)), np.int64),) * 2,
        )  # fmt: skip
    lengths = np.array([len(p.data) for p in parts], np.int64)
    starts = np.concatenate([[0], np.cumsum(lengths)[:-1]]).astype(np.int64)
    places = np.array([p.places[0] for p in parts], np.int64)
    data = np.concatenate([p.data for p in parts])
    if all(p.size for p in parts) and len(set(lengths.tolist())) == 1 and region.fixed:
        new = Records.fixed(region, region.fields, reading.big, data, len(parts), 0)
        new.starts, new.places = starts, places
        return new
    spans = [[p.span(f, 0) for f in region.fields] for p in parts]
    at = np.array([[s[0] for s in row] for row in spans], np.int64) + starts[:, None]
    length = np.array([[s[1] for s in row] for row in spans], np.int64)
    return Records.measured(region, reading.big, data, starts, places, at, length)

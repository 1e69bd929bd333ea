"""The records of one region: fixed ones by arithmetic on their places, variable ones as they are scanned."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from ...base import ZubretError
from ...source import Source
from ..document.records import DAMAGED, Records
from ..document.shape import Shape
from .scan import BAD, ENDED, ENDLESS, MORE, SHORT, UNTIL_END, Program, program_of, scan

MOST = 1 << 24
"""Records of a region at most."""
WINDOW = 1 << 16
"""Bytes that a scan is given at first; it asks for more."""


def read_records(
    shape: Shape,
    source: Source,
    at: int,
    limit: int,
    count: int | None,
    numbers: Mapping[str, int],
    place: int,
    alone: bool = False,
) -> tuple[Records, int]:
    """The records of a region without bodies, and the place behind the last.

    source, at, limit: its bytes stand in `source` from `at`, at most up to `limit`; count: how many, None where the
    region says when to stop; place: where byte `at` stands in its file; alone: one record, whatever `until` says.
    """
    region = shape.region
    fields = shape.present(numbers, source.name)
    if count is not None and not shape.by_record and all(shape.widths[s.field.name] is not None for s in fields):
        size = sum(shape.widths[s.field.name] or 0 for s in fields)
        room = (limit - at) // size if size else int(region.single)  # a region of results alone has no bytes
        if count < 0 or count > room:
            raise ZubretError(
                f"Region {region.name} promises {count:,} records of {size} bytes, "
                f"but the file has room for {max(0, room):,}.",
                file=source.name,
                offset=at,
                field=region.name,
                next=DAMAGED,
            )
        _check_count(shape, count, source, at)
        data = np.frombuffer(source.read(at, count * size), np.uint8)
        return Records.fixed(shape, fields, data, count, place), at + count * size
    return _scanned(shape, source, at, limit, count, numbers, place, alone)


def _check_count(shape: Shape, count: int, source: Source, at: int) -> None:
    if count > MOST:
        raise ZubretError(
            f"Region {shape.region.name} has {count:,} records; Zubret reads {MOST:,} at most.",
            file=source.name,
            offset=at,
            field=shape.region.name,
            next="Check the field that counts them.",
        )


def _scanned(
    shape: Shape,
    source: Source,
    at: int,
    limit: int,
    count: int | None,
    numbers: Mapping[str, int],
    place: int,
    alone: bool,
) -> tuple[Records, int]:
    program, region = program_of(shape, numbers, source.name, alone), shape.region
    whole = limit - at
    if count is not None and not 0 <= count <= whole:
        raise ZubretError(
            f"Region {region.name} promises {count:,} records, but only {whole:,} bytes follow.",
            file=source.name,
            offset=at,
            field=region.name,
            next=DAMAGED,
        )
    _check_count(shape, count or 0, source, at)
    window = min(whole, (512 if alone else WINDOW) + (count or 0) * 8 * len(region.fields))
    while True:
        data = np.frombuffer(source.read(at, window), np.uint8)
        parts, pos, status, step = _walked(program, data, place, MOST + 1 if count is None else count)
        done = sum(len(p[0]) for p in parts)
        cut = window < whole and (status in (SHORT, ENDLESS) or (status == ENDED and program.until == UNTIL_END))
        if not cut:
            break
        window = min(whole, window * 4)
    if status != ENDED and (count is None or done < count):
        raise _stopped(shape, source, at, whole, pos, status, step, done)
    starts, places, lengths = (np.concatenate(columns) for columns in zip(*parts, strict=True))
    return Records.measured(shape, data[:pos], starts, starts + place, places, lengths), at + pos


def _walked(program: Program, data: NDArray, place: int, most: int):
    """Scan in pieces of growing size, so that memory follows the records that are there."""
    fields, parts, rows = len(program.steps), [], 256
    pos, status, step, total = 0, MORE, 0, 0
    while True:
        rows = min(rows * 2, most - total)
        starts, at, length = (
            np.empty(rows, np.int64),
            np.empty((rows, fields), np.int64),
            np.empty((rows, fields), np.int64),
        )
        numbers = np.zeros((rows, fields), np.int64)
        done, pos, status, step = scan(
            data,
            place,
            pos,
            program.steps,
            program.code,
            program.until,
            *program.until_code,
            starts,
            at,
            length,
            numbers,
        )
        parts.append((starts[:done], at[:done], length[:done]))
        total += done
        if status != MORE or total >= most:
            return parts, pos, status, step


def _stopped(
    shape: Shape, source: Source, at: int, whole: int, pos: int, status: int, step: int, done: int
) -> ZubretError:
    region = shape.region
    name = region.fields[step].name if step < len(region.fields) else region.name
    what = f"Record {done:,} of region {region.name} leaves the {whole:,} bytes that there are."
    if status == ENDLESS:
        what = f"The text {name} of record {done:,} has no end."
    elif status == BAD:
        what = f"{name} of record {done:,} has a number or length that is not possible."
    elif status == MORE:
        what = f"Region {region.name} has more than {MOST:,} records."
    return ZubretError(what, file=source.name, offset=at + pos, field=f"{region.name}.{name}", next=DAMAGED)

"""Run-length coding: a byte that stands several times in a row is stored once, with a count.

Sources: "top-bit" and "signed" after TIFF 6.0 (1992), section 9 (PackBits: signed counts), and common practice (the top bit
tells a run from bytes as they are); "escape" and "pairs" are common practice.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import njit

from ..base import Source
from .base import MORE, PIECE, drained

FORMS = ("top-bit", "signed", "escape", "pairs")


class _Shape(NamedTuple):
    """The same as `Runs`, as whole numbers; form is a place in FORMS."""

    form: int
    run: int
    plain: int
    runs_high: int
    mark: int
    value_first: int


@dataclass(frozen=True)
class Runs:
    """form: "top-bit": a byte before each run or row of plain bytes, whose lower seven bits count; "signed": the same, a count of
    n plain bytes as n - plain, a run as 256 minus that (128 is nothing); "escape": plain bytes, and `mark`, count and value
    for a run (a count of 0 is the mark itself); "pairs": count and value.

    run, plain: how many bytes the lowest count means. runs_high: whether the top bit is set before a run. value_first: whether
    the value stands before the count.
    """

    form: str = "top-bit"
    run: int = 1
    plain: int = 1
    runs_high: bool = True
    mark: int = 0
    value_first: bool = False

    def _shape(self) -> _Shape:
        high, first = int(self.runs_high), int(self.value_first)
        return _Shape(FORMS.index(self.form), self.run, self.plain, high, self.mark, first)

    @property
    def _longest(self) -> int:
        return {"top-bit": 127, "signed": 127, "escape": 254, "pairs": 255}[self.form] + self.run

    def unpacked(self, stored: Source, size: int) -> Iterator[bytes]:
        """See `Coder`."""
        shape = self._shape()

        def run(data: bytes, room: int) -> tuple[bytes, int, int]:
            stop = min(room, PIECE)
            out = np.empty(stop + 512 + self.run + self.plain, np.uint8)
            end, used = _unpack(np.frombuffer(data, np.uint8), shape, out, stop)
            return out[:end].tobytes(), used, MORE

        return drained(stored, size, run)

    def packed(self, plain: Source) -> Iterator[bytes]:
        """See `Coder`."""
        shape = self._shape()
        for piece in plain.chunks(step=PIECE):
            out = np.empty(3 * len(piece) + 16, np.uint8)
            yield out[: _pack(np.frombuffer(piece, np.uint8), shape, self._longest, out)].tobytes()


@njit(cache=True)
def _unpack(data, shape, out, stop):
    """(bytes unpacked, bytes read); what is cut is left."""
    pos, at, size = np.int64(0), np.int64(0), len(data)
    while pos < stop and at < size:
        head = np.int64(data[at])
        if shape.form < 2:
            nothing = False
            if shape.form == 0:
                is_run = (head >= 128) == (shape.runs_high != 0)
                count = (head & 127) + (shape.run if is_run else shape.plain)
            else:
                is_run, nothing = head > 128, head == 128
                count = 256 - head + shape.run if is_run else head + shape.plain
            if nothing:
                at += 1
                continue
            need = 1 if is_run else count
            if at + 1 + need > size:
                break
            for n in range(count):
                out[pos + n] = data[at + 1 + (0 if is_run else n)]
            pos, at = pos + count, at + 1 + need
            continue
        if shape.form == 2 and head != shape.mark:
            out[pos] = head
            pos, at = pos + 1, at + 1
            continue
        first = at + (shape.form == 2)
        if first >= size:
            break
        if shape.form == 2 and data[first] == 0 and not shape.value_first:
            out[pos] = shape.mark
            pos, at = pos + 1, first + 1
            continue
        if first + 2 > size:
            break
        count, value = np.int64(data[first]), data[first + 1]
        if shape.value_first:
            count, value = np.int64(data[first + 1]), data[first]
        if shape.form == 2 and count == 0:
            out[pos] = shape.mark
            pos, at = pos + 1, first + 2
            continue
        count += shape.run - (shape.form == 2)
        for n in range(count):
            out[pos + n] = value
        pos, at = pos + count, first + 2
    return pos, at


@njit(cache=True)
def _pack(data, shape, longest, out):
    """Bytes written to out. What stands twice in a row breaks a row of plain bytes only where that is shorter."""
    at, end, size, plain_from = 0, 0, len(data), 0
    longest_plain = 127 + shape.plain
    while at <= size:
        same = 0
        if at < size:
            same = 1
            while same < longest and at + same < size and data[at + same] == data[at]:
                same += 1
        row = at - plain_from
        if shape.form == 3:
            if at == size:
                break
            end = _pair(data[at], same - shape.run, shape, out, end)
            at += same
            continue
        if shape.form == 2:
            if at == size:
                break
            is_mark = data[at] == shape.mark
            if same >= max(4, shape.run) or (is_mark and same > 1 and same >= shape.run):
                out[end] = shape.mark
                end = _pair(data[at], same - shape.run + 1, shape, out, end + 1)
                at += same
                continue
            out[end] = data[at]
            end += 1
            if is_mark:
                end = _pair(shape.mark, 0, shape, out, end) if shape.value_first else _zero(out, end)
            at += 1
            continue
        worth = max(3 if row else 2, shape.run + shape.form)  # a signed count of 0 would be no run
        if row and (at == size or same >= worth or row == longest_plain):
            out[end] = _head(row - shape.plain, False, shape)
            for n in range(row):
                out[end + 1 + n] = data[plain_from + n]
            end += 1 + row
            plain_from = at
            continue
        if at == size:
            break
        if same >= worth:
            out[end], out[end + 1] = _head(same - shape.run, True, shape), data[at]
            end, at = end + 2, at + same
            plain_from = at
        else:
            at += 1
    return end


@njit(cache=True, inline="always")
def _head(count, is_run, shape):
    if shape.form == 1:
        return 256 - count if is_run else count
    return count | (128 if is_run == (shape.runs_high != 0) else 0)


@njit(cache=True, inline="always")
def _pair(value, count, shape, out, end):
    out[end + (0 if shape.value_first else 1)] = value
    out[end + (1 if shape.value_first else 0)] = count
    return end + 2


@njit(cache=True, inline="always")
def _zero(out, end):
    out[end] = 0
    return end + 1

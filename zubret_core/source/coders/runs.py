"""Run-length coding: a byte that stands several times in a row is stored once, with a count.

Sources: "top-bit" and "signed" after TIFF 6.0 (1992), section 9 (PackBits: signed counts), and common practice (the top bit
tells a run from bytes as they are); "escape" and "pairs" are common practice.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...base.machine import put_eight
from ..base import Source
from .base import MORE, PIECE, SPARE, drained, take, tried

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

        def run(data: NDArray[np.uint8], length: int, room: int) -> tuple[bytes, int, int]:
            stop = min(room, PIECE)
            out = np.empty(stop + 256 + self.run + self.plain + SPARE, np.uint8)
            end, used = _unpack(data, length, shape, out, stop)
            return out[:end].tobytes(), used, MORE

        return drained(stored, size, run)

    def packed(self, plain: Source) -> Iterator[bytes]:
        """See `Coder`. ValueError where the same byte stands fewer times in a row than a form of runs alone can say."""
        shape = self._shape()
        whole = self.form == "pairs" and self.run > 1  # no run may be cut where a piece ends
        for piece in plain.chunks(step=max(PIECE, plain.size) if whole else PIECE):
            out = np.empty(3 * len(piece) + 16, np.uint8)
            end = _pack(np.frombuffer(piece, np.uint8), shape, self._longest, out)
            if end < 0:
                raise ValueError(f"at byte {-1 - end:,} a run is shorter than {self.run} bytes, which no count can say")
            yield out[:end].tobytes()


@njit(cache=True)
def _unpack(data, size, shape, out, stop):
    """(bytes unpacked, bytes read); what is cut is left."""
    source: Any = data.ctypes.data
    to: Any = out.ctypes.data
    pos, at = np.int64(0), np.int64(0)
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
            if is_run:
                _fill(to + pos, data[at + 1], count)
            else:
                take(to + pos, source + at + 1, count)
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
        _fill(to + pos, value, count)
        pos, at = pos + count, first + 2
    return pos, at


@njit(forceinline=True)
def _fill(to, value, count):
    """Put a byte `count` times at an address; up to 7 more may be overwritten."""
    for n in range(0, count, 8):
        put_eight(to + n, np.uint64(value) * np.uint64(0x0101010101010101))


@njit(cache=True)
def _pack(data, shape, longest, out):
    """Bytes written to out, or -1 less the place of a run that is too short. What stands twice in a row breaks a row of plain bytes only
    where that is shorter."""
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
            rest = 0
            if same == longest:
                while rest < shape.run and at + same + rest < size and data[at + same + rest] == data[at]:
                    rest += 1
            if 0 < rest < shape.run:  # what is left of the run must be one, too
                same -= shape.run - rest
            if same < shape.run:
                return -1 - at
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


@njit(forceinline=True)
def _head(count, is_run, shape):
    if shape.form == 1:
        return 256 - count if is_run else count
    return count | (128 if is_run == (shape.runs_high != 0) else 0)


@njit(forceinline=True)
def _pair(value, count, shape, out, end):
    out[end + (0 if shape.value_first else 1)] = value
    out[end + (1 if shape.value_first else 0)] = count
    return end + 2


@njit(forceinline=True)
def _zero(out, end):
    out[end] = 0
    return end + 1


def warm() -> None:
    """Compile."""
    tried(Runs())

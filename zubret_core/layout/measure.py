"""Where the fields of variable records stand: one compiled walk over a region's bytes.

A region becomes a small table of steps, one a field. The walk measures each field and keeps the numbers that later
lengths and conditions need; nothing is decoded here. Columns are then taken from the places by numpy.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..base import ZubretError
from .expression import CONSTANT, NAME, compiled, evaluate
from .fields import FieldModel
from .model import Region

INT, VARINT, FIXED, BY_FIELD, COUNTED, COUNTED_VAR, ENDS, ALIGN = range(8)
_FIELD_NUMBER, _PART = 1, 21  # operations of compiled conditions: a whole field, or some bits of it
MORE, SHORT, ENDLESS, BAD, ENDED = range(5)
"""How a walk ended: after as many records as it was given room for; at the end of its bytes; in a text without its
end; at a number or length that can't be; where the region says that it ends."""


@dataclass(frozen=True)
class Program:
    """The steps of a region's fields, its conditions, and when a record is the last."""

    steps: NDArray[np.int64]
    code: NDArray[np.int64]
    until: int
    until_code: tuple[int, int]


UNTIL_COUNT, UNTIL_END, UNTIL_ZERO, UNTIL_TRUE = range(4)


def program_of(region: Region, big: bool, numbers: Mapping[str, int], file: str) -> Program:
    """The steps of a region; names of earlier regions are replaced by their numbers."""
    steps: list[list[int]] = []
    code: list[list[int]] = []
    place: dict[str, tuple[int, int, int]] = {}  # name: field number, shift, bits (0: the whole number)

    def condition(text: int | str | None) -> tuple[int, int]:
        if text is None:
            return -1, -1
        start = len(code)
        for what, value in compiled(text).steps:
            if what == NAME and value in place:
                field, shift, bits = place[str(value)]
                wide = int(region.fields[field].type == "u64")
                code.append([_PART, field, shift | bits << 8] if bits else [_FIELD_NUMBER, field, wide])
            elif what == NAME:
                code.append([CONSTANT, evaluate(str(value), numbers, file, region.name), 0])
            else:
                code.append([what, int(value) if what == CONSTANT else 0, 0])
        return start, len(code)

    for n, field in enumerate(region.fields):
        start, end = condition(field.when)
        steps.append([*_step(field, region, big, place, numbers, file), start, end])
        place[field.name] = n, 0, 0
        shift = 0
        for part in field.parts or ():
            place[part.name] = n, shift, part.bits
            shift += part.bits
    words = {"end": UNTIL_END, "zero": UNTIL_ZERO}
    until, until_code = UNTIL_COUNT, (-1, -1)
    if region.until is not None:
        until = words.get(str(region.until), UNTIL_TRUE)
        until_code = condition(region.until) if until == UNTIL_TRUE else until_code
    return Program(np.array(steps, np.int64).reshape(-1, 6), np.array(code or [[0, 0, 0]], np.int64), until, until_code)


def _step(
    field: FieldModel,
    region: Region,
    big: bool,
    place: Mapping[str, tuple[int, int, int]],
    numbers: Mapping[str, int],
    file: str,
) -> tuple[int, int, int, int]:
    order = field.byte_order or region.byte_order
    is_big = int(big if order is None else order == "big")
    if field.integer:
        return INT, int(field.type[1:]) // 8, is_big, int(field.type[0] == "i")
    if field.type == "varint":
        return VARINT, 0, 0, 0
    if field.width is not None:
        return FIXED, field.width, 0, 0
    if field.type == "align":
        return ALIGN, field.to, 0, 0
    if field.counted is not None:
        return (
            (COUNTED_VAR, 0, 0, 0) if field.counted == "varint" else (COUNTED, int(field.counted[1:]) // 8, is_big, 0)
        )
    if field.ends is not None:
        return ENDS, len(field.ends), int.from_bytes(field.ends, "little"), 0
    holder = next(
        f for f in region.fields if f.name == field.length or any(p.name == field.length for p in f.parts or ())
    )
    tie = holder if holder.name == field.length else next(p for p in holder.parts or () if p.name == field.length)
    number, shift, bits = place[tie.name]
    unit = evaluate(tie.unit, numbers, file, tie.name)
    base = evaluate(tie.base, numbers, file, tie.name)
    if not (0 < unit < 1 << 20 and abs(base) < 1 << 30):
        raise ZubretError(
            f"{field.name} can't be measured in steps of {unit:,} from {base:,}.",
            file=file,
            field=f"{region.name}.{field.name}",
            next="Give the length a unit from 1 to 1,048,575 bytes.",
        )
    return BY_FIELD, number | shift << 8 | bits << 16, unit, base


_LOWEST = np.int64(-(1 << 63))


@njit(cache=True)
def _number(data, at, width, big, signed):
    value = np.int64(0)
    for n in range(width):
        byte = np.int64(data[at + (n if big else width - 1 - n)])
        value = value << 8 | byte
    if signed and width < 8 and value >> (8 * width - 1):
        value -= np.int64(1) << (8 * width)
    return value


@njit(cache=True)
def _calculated(code, start, end, numbers, stack):
    """(value, fault) of a condition; numbers of the record's fields so far."""
    top = 0
    for n in range(start, end):
        what = code[n, 0]
        if what == 0:
            stack[top] = code[n, 1]
            top += 1
        elif what == 1:
            if code[n, 2] and numbers[code[n, 1]] < 0:  # an unsigned number of 64 bits, beyond what is calculated with
                return np.int64(0), True
            stack[top] = numbers[code[n, 1]]
            top += 1
        elif what == 21:
            shift, bits = code[n, 2] & 255, code[n, 2] >> 8
            stack[top] = numbers[code[n, 1]] >> shift & ((np.int64(1) << bits) - 1)
            top += 1
        elif what == 19:
            if stack[top - 1] == _LOWEST:
                return np.int64(0), True
            stack[top - 1] = -stack[top - 1]
        elif what == 20:
            stack[top - 1] = np.int64(stack[top - 1] == 0)
        else:
            a, b = stack[top - 2], stack[top - 1]
            top -= 1
            if ((what == 5 or what == 6) and b == 0) or ((what == 7 or what == 8) and not 0 <= b < 64):
                return np.int64(0), True
            beyond = False  # 64 bits: sums and products wrap around, which shows
            if what == 2:
                value = a + b
                beyond = ((a ^ value) & (b ^ value)) < 0
            elif what == 3:
                value = a - b
                beyond = ((a ^ b) & (a ^ value)) < 0
            elif what == 4:
                value = a * b
                beyond = (a == -1 and b == _LOWEST) or (a != 0 and a != -1 and value // a != b)
            elif what == 5:
                beyond = a == _LOWEST and b == -1
                value = a if beyond else a // b
            elif what == 6:
                value = a % b if b != -1 else np.int64(0)
            elif what == 7:
                value = a << b
                beyond = value >> b != a
            elif what == 8:
                value = a >> b
            elif what == 9:
                value = a & b
            elif what == 10:
                value = a | b
            elif what == 11:
                value = np.int64(a == b)
            elif what == 12:
                value = np.int64(a != b)
            elif what == 13:
                value = np.int64(a < b)
            elif what == 14:
                value = np.int64(a <= b)
            elif what == 15:
                value = np.int64(a > b)
            elif what == 16:
                value = np.int64(a >= b)
            elif what == 17:
                value = np.int64(a != 0 and b != 0)
            else:
                value = np.int64(a != 0 or b != 0)
            if beyond:
                return np.int64(0), True
            stack[top - 1] = value
    return stack[0], False


@njit(cache=True)
def walk(data, base, start, steps, code, until, until_from, until_to, starts, at, length, numbers):
    """Measure records from data[start], as many as the arrays have rows.

    base: the file's place of data[0], for alignment. starts: (rows,) where each record begins. at, length: (rows,
    steps) places and lengths of the fields' contents in data, length -1 where a field is absent. numbers: (rows,
    steps) the integers met. Returns records measured, the place behind the last, how it ended, and the step where.
    """
    count, pos = len(starts), start
    size = len(data)
    stack = np.zeros(256, np.int64)
    for row in range(count):
        if until == 1 and pos >= size:
            return row, pos, 4, 0
        first = pos
        starts[row] = first
        for s in range(steps.shape[0]):
            kind, a, b, c = steps[s, 0], steps[s, 1], steps[s, 2], steps[s, 3]
            if steps[s, 4] >= 0:
                wanted, fault = _calculated(code, steps[s, 4], steps[s, 5], numbers[row], stack)
                if fault:
                    return row, first, 3, s
                if wanted == 0:
                    at[row, s], length[row, s] = pos, -1
                    continue
            n = np.int64(0)
            if kind == 0:
                n = a
                if pos + n > size:
                    return row, first, 1, s
                numbers[row, s] = _number(data, pos, a, b, c)
            elif kind == 1 or kind == 5:
                value, shift = np.int64(0), 0
                while True:
                    if pos + n >= size:
                        return row, first, 1, s
                    if shift > 56:
                        return row, first, 3, s
                    byte = np.int64(data[pos + n])
                    n += 1
                    value |= (byte & 127) << shift
                    shift += 7
                    if byte < 128:
                        break
                numbers[row, s] = value
                if kind == 5:
                    pos += n
                    n = value
            elif kind == 2:
                n = a
            elif kind == 3:
                field, shift, bits = a & 255, a >> 8 & 255, a >> 16
                value = numbers[row, field]
                if bits:
                    value = value >> shift & ((np.int64(1) << bits) - 1)
                if value < 0 or value > np.int64(1) << 40:
                    return row, first, 3, s
                n = value * b + c
                if n < 0:
                    return row, first, 3, s
            elif kind == 4:
                if pos + a > size:
                    return row, first, 1, s
                n = _number(data, pos, a, b, 0)
                pos += a
                if n < 0:
                    return row, first, 3, s
            elif kind == 6:
                found = False
                for q in range(pos, size - a + 1, a):
                    same = True
                    for k in range(a):
                        if data[q + k] != (b >> (8 * k)) & 255:
                            same = False
                    if same:
                        n, found = np.int64(q - pos), True
                        break
                if not found:
                    return row, first, 2, s
            else:
                n = -(base + pos) % a
            if n > size - pos:
                return row, first, 1, s
            at[row, s], length[row, s] = pos, n
            pos += n + (a if kind == 6 else 0)
        if until == 2:
            zero = pos > first
            for q in range(first, pos):
                if data[q] != 0:
                    zero = False
                    break
            if zero:
                return row, first, 4, 0
        elif until == 3:
            last, fault = _calculated(code, until_from, until_to, numbers[row], stack)
            if fault:
                return row, first, 3, 0
            if last != 0:
                return row + 1, pos, 4, 0
        if pos == first:
            return row, first, 3, 0
    return count, pos, 0, 0

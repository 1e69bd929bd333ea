"""Where the fields of variable records stand: one compiled walk over a region's bytes.

A region becomes a small table of steps, one a field. The scan finds each field's end and keeps the numbers that later
lengths and conditions need; nothing is decoded here. Columns are then taken from the places by numpy.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...base import ZubretError
from ..document.shape import Shape, Slot
from ..language.expression import CONSTANT, DEPTH, PART, SLOT, compiled, evaluate, run
from ..types import Step
from ..types.base import BY_FIELD, WORKED_OUT

MORE, SHORT, ENDLESS, BAD, ENDED = range(5)
"""How a scan ended: after as many records as it was given room for; at the end of its bytes; in a text without its
end; at a number or length that can't be; where the region says that it ends."""
UNTIL_COUNT, UNTIL_END, UNTIL_ZERO, UNTIL_TRUE = range(4)
assert DEPTH == 256  # the kernels below have it as a constant


@dataclass(frozen=True)
class Program:
    """The steps of a region's fields, its conditions, and when a record is the last."""

    steps: NDArray[np.int64]
    code: NDArray[np.int64]
    until: int
    until_code: tuple[int, int]


def program_of(shape: Shape, numbers: Mapping[str, int], file: str, alone: bool = False) -> Program:
    """The steps of a region; names of other regions are replaced by their numbers. alone: one record, whatever `until`
    says."""
    region = shape.region
    index = {f.name: n for n, f in enumerate(region.fields)}
    code: list[list[int]] = []

    def condition(text: int | str | None) -> tuple[int, int]:
        if text is None:
            return -1, -1
        start, expression = len(code), compiled(text)
        for what, a, b in expression.code.tolist():
            name = expression.names[a] if what == SLOT else ""
            slot = shape.slots.get(name)
            if slot is not None and slot.bits:
                code.append([PART, index[slot.field.name], slot.shift | slot.bits << 8 | int(slot.signed) << 16])
            elif slot is not None:
                code.append([SLOT, index[slot.field.name], int(slot.field.type == "u64")])
            elif what == SLOT:
                code.append([CONSTANT, evaluate(name, numbers, file, region.name), 0])
            else:
                code.append([what, a, b])
        return start, len(code)

    steps = []
    for slot in shape.fields:
        start, end = condition(slot.field.when)
        step = _step(slot, shape, index, numbers, file)
        if slot.field.length_worked_out is not None:
            step = Step(WORKED_OUT, *condition(slot.field.length_worked_out), 0)
        steps.append([*step, start, end])
    words = {"end": UNTIL_END, "zero": UNTIL_ZERO}
    until, until_code = UNTIL_COUNT, (-1, -1)
    if region.until is not None and not alone:
        until = words.get(str(region.until), UNTIL_TRUE)
        until_code = condition(region.until) if until == UNTIL_TRUE else until_code
    return Program(np.array(steps, np.int64).reshape(-1, 6), np.array(code or [[0, 0, 0]], np.int64), until, until_code)


def _step(slot: Slot, shape: Shape, index: Mapping[str, int], numbers: Mapping[str, int], file: str) -> Step:
    field = slot.field
    if field.length_field is None:
        return slot.type.step(field, shape.big_of(field))
    holder = shape.slots[field.length_field]
    unit = evaluate(holder.tie.unit, numbers, file, holder.field.name)
    base = evaluate(holder.tie.base, numbers, file, holder.field.name)
    if not (0 < unit < 1 << 20 and abs(base) < 1 << 30):
        raise ZubretError(
            f"{field.name} can't be measured in steps of {unit:,} from {base:,}.",
            file=file,
            field=f"{shape.region.name}.{field.name}",
            next="Give the length a unit from 1 to 1,048,575 bytes.",
        )
    return Step(BY_FIELD, index[holder.field.name] | holder.shift << 8 | holder.bits << 16, unit, base)


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
def _digits(data, at, width, radix):
    """A number in text, up to a zero, between spaces; and whether it is none."""
    first, last = at, at
    while last < at + width and data[last] != 0:
        last += 1
    while first < last and data[first] == 32:
        first += 1
    while last > first and data[last - 1] == 32:
        last -= 1
    value = np.int64(0)
    for n in range(first, last):
        byte = np.int64(data[n])
        digit = byte - 48 if byte < 58 else (byte | 32) - 87
        if digit < 0 or digit >= radix or (byte >= 58 and digit < 10) or value > (np.int64(1) << 57):
            return np.int64(0), True
        value = value * radix + digit
    return value, False


@njit(cache=True)
def scan(data, base, start, steps, code, until, until_from, until_to, starts, at, length, numbers):
    """Find the fields of records from data[start], as many as the arrays have rows.

    base: the file's place of data[0], for alignment. starts: (rows,) where each record begins. at, length: (rows,
    steps) places and lengths of the fields' contents in data, length -1 where a field is absent. numbers: (rows,
    steps) the integers met. Returns records found, the place behind the last, how it ended, and the step where.
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
                wanted, fault = run(code, steps[s, 4], steps[s, 5], numbers[row], stack)
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
            elif kind == 6 or kind == 10:
                found = False
                for q in range(pos, size - a + 1, c if kind == 6 else 1):
                    same = True
                    for k in range(a):
                        if data[q + k] != (b >> (8 * k)) & 255:
                            same = False
                    if same:
                        n, found = np.int64(q - pos), True
                        break
                if not found:
                    return row, first, 2, s
                if kind == 10:
                    value, fault = _digits(data, pos, n, c)
                    if fault:
                        return row, first, 3, s
                    numbers[row, s] = value
            elif kind == 8:
                n = a
                if pos + n > size:
                    return row, first, 1, s
                value, fault = _digits(data, pos, a, b)
                if fault:
                    return row, first, 3, s
                numbers[row, s] = value
            elif kind == 9:
                n, fault = run(code, a, b, numbers[row], stack)
                if fault or n < 0:
                    return row, first, 3, s
            else:
                n = -(base + pos) % a
            if n > size - pos:
                return row, first, 1, s
            at[row, s], length[row, s] = pos, n
            pos += n + (a if kind == 6 or kind == 10 else 0)
        if until == 2:
            zero = pos > first
            for q in range(first, pos):
                if data[q] != 0:
                    zero = False
                    break
            if zero:
                return row, first, 4, 0
        elif until == 3:
            last, fault = run(code, until_from, until_to, numbers[row], stack)
            if fault:
                return row, first, 3, 0
            if last != 0:
                return row + 1, pos, 4, 0
        if pos == first:
            return row, first, 3, 0
    return count, pos, 0, 0


def warm() -> None:
    """Compile."""
    steps, code, one = np.array([[0, 1, 0, 0, -1, -1]]), np.zeros((1, 3), np.int64), np.zeros((1, 1), np.int64)
    scan(np.frombuffer(b"\0", np.uint8), 0, 0, steps, code, 0, -1, -1, np.zeros(1, np.int64), one, one, one)

"""Ties as equations, in both directions: meaning = stored * unit / per + base, or values[stored], or a text in a pool.

Unit and base are constants, or expressions on fields of the same record, on fields of regions that stand once, on
where the record stands, and on other meanings of the same item; or a unit has a name and is worked out from the
stream's codec, rate and block size. `meaning` applies an equation to a column of stored numbers, `stored` inverts it
exactly or says which value can't be stored.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from math import gcd
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...base import Format, ZubretError
from ...codec import codec_named
from ..language.codecs import spec_of
from ..language.expression import compiled, evaluate, evaluate_rows
from ..language.schema import Layout
from ..language.terms import BY_FRAMES, meaning_of
from .shape import Slot

Fail = Callable[..., ZubretError]
"""Makes an error at a slot of a record: fail(what, slot, row, next)."""
CORRECT = "Correct the layout."
Numbers = int | NDArray
MANY = 1 << 12
"""Records from which a value map is applied by an array, if its numbers are no larger."""


@dataclass
class Scope:
    """What the expressions of a region's ties may name.

    numbers: fields of regions that stand once, by `region.field`; region_at: where the region stands; count: records;
    places: where each record stands; own: the stored numbers of a field of the record, None where there is no such
    number; item: a meaning of each record's item, one a record; fail: makes errors.
    """

    layout: Layout
    file: str
    numbers: Mapping[str, int]
    region_at: int
    count: int
    places: Callable[[], NDArray]
    own: Callable[[str], NDArray | None]
    item: Callable[[str], NDArray]
    fail: Fail

    def value(self, text: int | str, field: str) -> Numbers:
        """An expression's value: one number, or one a record."""
        if isinstance(text, int):
            return text
        expression = compiled(text)
        if expression.constant is not None:
            return expression.constant
        names: dict[str, Any] = {}
        for name in expression.names:
            found = self._named(name)
            if found is not None:
                names[name] = found
        if all(isinstance(v, int) for v in names.values()):
            return evaluate(text, names, self.file, field)
        return evaluate_rows(text, names, self.count, self.file, field)

    def _named(self, name: str) -> Numbers | None:
        if name in self.numbers:
            return self.numbers[name]
        owner, dot, what = name.partition(".")
        if not dot:
            return self.own(name)
        if name == "region.at":
            return self.region_at
        if name == "region.index":  # of one that stands once
            return 0
        if name == "record.at":
            return self.places()
        if name == "record.index":
            return np.arange(self.count, dtype=np.int64)
        return self.item(what) if owner == self.layout.kind else None


class Line(NamedTuple):
    """meaning = stored * num / den + base; each a number, or one a record."""

    num: Numbers
    den: Numbers
    base: Numbers

    @property
    def plain(self) -> bool:
        """Whether a meaning is what is stored."""
        return all(isinstance(x, int) for x in self) and (self.num, self.den, self.base) == (1, 1, 0)

    def at(self, rows: Sequence[int] | int) -> Line:
        """The same for some records only."""
        return Line(*(x if isinstance(x, int) else x[rows] for x in self))


def line_of(slot: Slot, scope: Scope) -> Line:
    """Unit and base of a tie."""
    tie = slot.tie
    base = scope.value(tie.base, tie.name)
    if tie.unit_name:
        num, den = _named_unit(tie.unit_name, slot, scope)
        return Line(num, den, base)
    unit = scope.value(tie.unit, tie.name)
    if np.any(np.equal(unit, 0)):
        row = 0 if isinstance(unit, int) else int(np.argmax(unit == 0))
        raise scope.fail("A unit of 0 has no meaning.", slot, row, "Correct the layout's unit.")
    per = scope.value(tie.per, tie.name)
    if np.any(np.less(per, 1)):
        row = 0 if isinstance(per, int) else int(np.argmax(per < 1))
        raise scope.fail("`per` is less than 1 here.", slot, row, "Correct the layout's per.")
    return Line(unit, per, base)


def _named_unit(unit: str, slot: Slot, scope: Scope) -> tuple[Numbers, Numbers]:
    """A named unit as a fraction: frames where the meaning counts frames, else bytes."""
    by_frames = meaning_of(slot.tie.means or "").units == BY_FRAMES
    if unit == ("frames" if by_frames else "bytes"):
        return 1, 1
    if unit == "seconds":
        return scope.item("rate"), 1
    if unit == "milliseconds":
        return scope.item("rate"), 1000
    blocks, block_sizes, frames, sizes = _parts(slot, scope)
    if unit != "blocks":
        return (frames, sizes) if by_frames else (sizes, frames)
    if by_frames:
        return blocks, 1
    if not block_sizes.all():
        raise _no_bytes(slot, scope, int(np.argmin(block_sizes)), "block")
    return block_sizes, 1


def _parts(slot: Slot, scope: Scope) -> NDArray:
    """(4, records): frames and bytes of a block of each record's codec, the bytes 0 where that has no whole ones of its own; and of the
    least part of its stream that holds whole moments of all channels."""
    columns = [scope.item(what).tolist() for what in ("codec", "channels", "block_size")]
    known: dict[tuple, tuple[int, int, int, int]] = {}
    out = np.ones((4, scope.count), np.int64)
    for row, key in enumerate(zip(*columns, strict=True)):
        if key not in known:
            codec, channels, block = key
            name, parameters = spec_of(scope.layout.codecs, str(codec))
            try:
                made = codec_named(name, parameters)
                format = Format(name, 1, max(1, int(channels)), 1, None, int(block), parameters=parameters)
                each = made.block_frames(format)
                frames = made.turn_frames(format) or each
                size = made.stored_size(format.with_(frames=frames)) or 0
            except (ZubretError, ZeroDivisionError, ValueError):
                frames = size = 0
            if not size or frames < 1:
                raise _no_bytes(slot, scope, row, "frame")
            known[key] = each, 0 if size * each % frames else size * each // frames, frames, size
        out[:, row] = known[key]
    return out


def _no_bytes(slot: Slot, scope: Scope, row: int, what: str) -> ZubretError:
    codec = scope.item("codec").tolist()[row]
    return scope.fail(
        f'"{codec}" has no fixed number of bytes for a {what}, so {slot.tie.unit} can\'t be its unit.',
        slot, row, "Give this field a unit in frames, milliseconds or seconds.",
    )  # fmt: skip


# Reading ------------------------------------------------------------------------------------------


def meant(slot: Slot, stored: NDArray, scope: Scope) -> NDArray | list:
    """The meanings of stored numbers, as they are where nothing is to be worked out."""
    if slot.tie.plain and not (slot.tie.means or "").endswith(".id") and stored.dtype.kind != "f":
        return stored
    return meanings(slot, stored, scope)


def results(slot: Slot, scope: Scope) -> NDArray:
    """What a field that has no bytes gives, one number a record."""
    value = scope.value(slot.field.of or 0, slot.field.name)
    return np.full(scope.count, value, np.int64) if isinstance(value, int) else np.asarray(value)


def meanings(slot: Slot, stored: NDArray, scope: Scope) -> NDArray | list:
    """The meanings of stored numbers by value map, unit and base; an id as text. None where `none` stands."""
    tie, stored = slot.tie, xored(slot, stored, scope)
    if tie.values is not None:
        return _mapped(slot, stored, scope)
    wide = scaled(slot, stored, line_of(slot, scope), scope)
    if (tie.means or "").endswith(".id") and not tie.pool:
        return _with_none(tie.none, stored, ids(slot, wide.tolist()))
    if tie.none is not None and (stored == tie.none).any():
        return _with_none(tie.none, stored, wide.tolist())
    return wide


def xored(slot: Slot, stored: NDArray, scope: Scope, rows: Sequence[int] | None = None) -> NDArray:
    """Stored numbers without what they are XORed with, or with it; rows: the records that they are of, if not all."""
    if slot.tie.xor == 0:
        return stored
    key = scope.value(slot.tie.xor, slot.tie.name)
    if isinstance(key, int):
        key = np.array(key % (1 << 64), np.uint64).view(np.int64)
    elif rows is not None:
        key = key[list(rows)]
    out = stored.astype(np.int64) ^ key
    return out.view(np.uint64) if stored.dtype == np.uint64 or slot.limits()[1] >= 1 << 63 else out


def ids(slot: Slot, numbers: Sequence[int]) -> list[str]:
    """Ids as they are shown."""
    tie = slot.tie
    if tie.shown == "hex":
        width = tie.digits or 2 * (slot.type.width(slot.field) or 8)
        return [f"{v & 0xFFFFFFFFFFFFFFFF:0{width}x}" for v in numbers]
    return [str(v).zfill(tie.digits) for v in numbers]


def _with_none(none: int | None, stored: NDArray, values: list) -> list:
    if none is None:
        return values
    return [None if s == none else v for s, v in zip(stored.tolist(), values, strict=True)]


def _mapped(slot: Slot, stored: NDArray, scope: Scope) -> list:
    values = slot.tie.values or {}
    known: dict[int, Any] = {**slot.tie.numbered, **({slot.tie.none: None} if slot.tie.none is not None else {})}
    if slot.tie.ranges:
        known |= _in_ranges(slot, stored, known)
    if len(stored) and (stored == stored[0]).all() and int(stored[0]) in known:
        return [known[int(stored[0])]] * len(stored)
    if len(stored) > MANY and 0 <= min(known) <= max(known) < MANY and bool(((stored >= 0) & (stored < MANY)).all()):
        table, has = np.empty(MANY, object), np.zeros(MANY, bool)
        table[list(known)], has[list(known)] = list(known.values()), True
        if has[stored].all():
            return table[stored].tolist()
    try:
        return [known[v] for v in stored.tolist()]
    except KeyError as e:
        row = int(np.argmax(stored == e.args[0]))
        words = ", ".join(f"{k} {v}" for k, v in values.items())
        raise scope.fail(
            f"The number {e.args[0]} has no meaning here (known: {words}).", slot, row,
            "The file is damaged, or the layout must be taught this value.",
        ) from None  # fmt: skip


def _in_ranges(slot: Slot, stored: NDArray, known: Mapping[int, Any]) -> dict[int, Any]:
    """The values of stored numbers that lie in a range."""
    out = {}
    for number in np.unique(stored).tolist():
        found = [v for low, high, v in slot.tie.ranges if low <= number <= high]
        if found and number not in known:
            out[number] = found[0]
    return out


def scaled(slot: Slot, stored: NDArray, line: Line, scope: Scope) -> NDArray:
    """stored * unit + base; an error where that is beyond 64 bits, or no whole number where it must be one."""
    if line.plain and stored.dtype.kind != "f":
        return stored
    if not len(stored):
        return stored.astype(np.int64)
    if stored.dtype.kind == "f":
        return _rounded(slot, stored, line, scope)
    largest = max(abs(int(stored.max())), abs(int(stored.min())))
    most = largest * int(np.abs(line.num).max()) * 2 + 2 * int(np.abs(line.base).max())
    if most + 2 * int(np.abs(line.den).max()) >= 1 << 63:
        row = int(np.argmax(np.abs(stored.astype(np.float64))))
        raise scope.fail(f"The number {int(stored[row]):,} is beyond 64 bits here.", slot, row)
    return _applied(slot, stored.astype(np.int64, copy=False), line, scope)


def _rounded(slot: Slot, stored: NDArray, line: Line, scope: Scope) -> NDArray:
    """The nearest whole meanings of floats."""
    with np.errstate(all="ignore"):
        wide = np.rint(stored * line.num / line.den + line.base)
    wrong = ~(np.abs(wide) < 2.0**63)
    if wrong.any():
        row = int(np.argmax(wrong))
        raise scope.fail(f"The number {stored[row]:g} is no number that can be meant here.", slot, row)
    return wide.astype(np.int64)


def _applied(slot: Slot, wide: NDArray, line: Line, scope: Scope) -> NDArray:
    num, den, base = line
    if isinstance(den, int) and den == 1:
        return wide * num + base
    product = wide * num
    broken = (product % den != 0) & np.less(num, den)
    if slot.tie.per == 1 and broken.any():
        row = int(np.argmax(broken))
        raise scope.fail(
            f"{int(wide[row]):,} {slot.tie.unit_name} are no whole number of frames here.", slot, row,
            "Choose another unit for this field, or check the stream's codec.",
        )  # fmt: skip
    return (2 * product + den) // (2 * den) + base


# Writing ------------------------------------------------------------------------------------------


def next_told(slot: Slot, value: int, row: int, scope: Scope) -> int:
    """The least meaning from `value` on that a record's field can have; `value` itself where the field does not count in steps."""
    if slot.tie.values or not slot.whole:
        return value
    num, den, base = (int(n) for n in line_of(slot, scope).at(row))
    if num < 1 or num == den:
        return value
    step = den // gcd(num, den) if slot.tie.per == 1 and num < den else 1  # fewer would be no whole number
    stored = -(-(value - base) * den // (num * step)) * step
    found = (2 * stored * num + den) // (2 * den) + base
    return found if (2 * (found - base) * den + num) // (2 * num) == stored else value


def stored_of(slot: Slot, values: Sequence, rows: Sequence[int], scope: Scope) -> NDArray:
    """The stored numbers of meanings for some records; a ZubretError names the first that can't be stored."""
    return xored(slot, _solved(slot, values, rows, scope), scope, rows)


def _solved(slot: Slot, values: Sequence, rows: Sequence[int], scope: Scope) -> NDArray:
    tie = slot.tie
    given = [n for n, v in enumerate(values) if v is not None]
    if len(given) < len(values):
        out = np.full(len(values), tie.none or 0, np.int64)
        if given:
            out[given] = _solved(slot, [values[n] for n in given], [rows[n] for n in given], scope)
        return out
    if tie.values is not None:
        return _unmapped(slot, values, rows, scope)
    number = (lambda v: int(v, 16)) if tie.shown == "hex" and (tie.means or "").endswith(".id") else int
    try:
        whole = [number(v) for v in values]
        unsigned = bool(whole) and min(whole) >= 0 and max(whole) >= 1 << 63
        wide = np.array(whole, np.uint64 if unsigned else np.int64)
    except (OverflowError, ValueError):
        raise scope.fail("A number beyond 64 bits can't be stored.", slot, rows[0]) from None
    line = line_of(slot, scope)
    if line.plain or unsigned:
        return wide
    return _inverted(slot, wide, line.at(list(rows)), rows, scope)


def _inverted(slot: Slot, wide: NDArray, line: Line, rows: Sequence[int], scope: Scope) -> NDArray:
    num, den, base = line
    rest = wide - base
    if isinstance(den, int) and den == 1:
        stored = rest // num
        wrong = rest % num != 0
    else:
        stored = (2 * rest * den + num) // (2 * num)
        back = np.where(np.less(num, den), stored * num // den, (2 * stored * num + den) // (2 * den))
        wrong = back != rest
    if np.any(wrong):
        n = int(np.argmax(wrong))
        raise scope.fail(_step_fault(slot, int(wide[n]), line.at(n)), slot, rows[n], _step_help(slot))
    return stored


def _step_fault(slot: Slot, value: int, line: Line) -> str:
    num, den, base = (int(x) for x in line)
    below = (value - base) * den // num
    near = " or ".join(f"{round((below + n) * num / den) + base:,}" for n in (0, 1))
    steps = (
        f"in {slot.tie.unit_name}" if slot.tie.unit_name else f"in steps of {num:,}" + (f"/{den:,}" if den > 1 else "")
    )
    start = f" from {base:,}" if base else ""
    return f"{value:,} can't be stored: the field counts {steps}{start}. The nearest are {near}."


def _step_help(slot: Slot) -> str:
    what = (slot.tie.means or "").split(".")[-1]
    if what in ("at", "end"):
        return "The layout must say on which grid the payloads stand: give `payload` an `align` that fits this unit."
    return "Fit the replacement to such a step."


def _unmapped(slot: Slot, values: Sequence, rows: Sequence[int], scope: Scope) -> NDArray:
    back: dict[Any, int] = {v: low for low, _, v in slot.tie.ranges}
    back |= {v: k for k, v in slot.tie.numbered.items()}
    for value, row in zip(values, rows, strict=True):
        if value not in back:
            known = ", ".join(map(str, back))
            raise scope.fail(
                f"{value} can't be stored: the field knows {known}.", slot, row, "Fit the replacement to one of these."
            )
    return np.array([back[v] for v in values], np.int64)

"""The records of a region as they will be: values by field, then bytes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ...base import ZubretError
from ..document import Instance, Records, Slot
from ..document.ties import Fail, Scope, line_of, meant, stored_of
from ..types import leb128_bytes
from ..types.numbers import Float, Integer, Result, parts_of, stretched

TOO_LARGE = "Shorten the replacement: the format can't hold more."


class DoesNotFit(ZubretError):
    """A value that is right, but larger than what the format has a field for."""


class Table:
    """A region's next records.

    order: for each record to write, the record that it was, or that it is copied from where it is new; old: those; records: the
    bytes as they were last encoded.
    """

    def __init__(self, instance: Instance, order: list[int], fail: Fail, like: Records | None = None):
        self.instance, self.order, self._fail = instance, order, fail
        self.old = like or instance.records
        self.shape = instance.shape
        self.same = order == list(range(instance.records.count))
        self._numbers: dict[str, NDArray] = {}
        self._contents: dict[str, list[bytes | None]] = {}
        self.records = instance.records

    def _taken(self, values: Sequence) -> list:
        return list(values) if self.same else [values[n] for n in self.order]

    def numbers(self, slot: Slot) -> NDArray:
        """The stored numbers of a field or part as they will be."""
        values = self._field_numbers(slot)
        return parts_of(values, slot.shift, slot.bits, slot.signed) if slot.bits else values

    def _field_numbers(self, slot: Slot) -> NDArray:
        name = slot.field.name
        if name not in self._numbers:
            old = self.old.numbers(self.shape.slots[name])
            self._numbers[name] = old.copy() if self.same else old[self.order]
        return self._numbers[name]

    def contents(self, slot: Slot) -> list[bytes | None]:
        """The content bytes of a field, one a record, as they will be; numbers are not put in before encoding."""
        name = slot.field.name
        if name not in self._contents:
            self._contents[name] = self._taken(self.old.cells(slot).contents())
        return self._contents[name]

    def error(self, what: str, slot: Slot, row: int, next: str = "") -> ZubretError:
        """An error at a field of a record; without `next`, the format can't hold the value."""
        error = self._fail(what, slot, self.order[row], next or TOO_LARGE)
        return (
            error
            if next
            else DoesNotFit(what, file=error.file, offset=error.offset, field=error.field, next=error.next)
        )

    # Values -----------------------------------------------------------------------------------------

    def put(self, slot: Slot, values: Sequence, rows: Sequence[int], scope: Scope) -> None:
        """Write meanings into a field, one for each of `rows`; where there is none, what stands there is left."""
        if self.old.absent(slot):
            return
        has = self.old.has(slot)
        given = [
            n for n, (row, value) in enumerate(zip(rows, values, strict=True))
            if (value is not None or slot.tie.none is not None) and (has is None or has[self.order[row]])
        ]  # fmt: skip
        if len(given) < len(rows):
            rows, values = [rows[n] for n in given], [values[n] for n in given]
        if not rows:
            return
        if slot.whole:
            rows, values = self._others(slot, rows, values, scope)
            if rows:
                self.put_numbers(slot, stored_of(slot, values, rows, scope), rows, values)
            return
        if isinstance(slot.type, Result):
            return  # it follows from what is written, and is looked at in the end
        contents = self.contents(slot)
        if isinstance(slot.type, Float):
            self._put_floats(slot, values, rows, scope)
            return
        encoded = slot.type.encode(slot.field, values, [contents[r] for r in rows], self.shape.big_of(slot.field))
        width = self.shape.widths[slot.field.name]
        for row, data in zip(rows, encoded, strict=True):
            if width is not None and len(data) > width:
                raise self.error(f'"{data.decode("latin-1")}" is longer than {width} bytes.', slot, row)
            contents[row] = data

    def _others(
        self, slot: Slot, rows: Sequence[int], values: Sequence, scope: Scope
    ) -> tuple[Sequence[int], Sequence]:
        """The rows whose numbers mean something else than they shall: where several numbers mean the same, the one that stands
        there is left."""
        if not slot.tie.lossy:
            return rows, values
        means = meant(slot, self.numbers(slot), scope)
        other = [n for n, row in enumerate(rows) if means[row] != values[n]]
        return [rows[n] for n in other], [values[n] for n in other]

    def _put_floats(self, slot: Slot, values: Sequence, rows: Sequence[int], scope: Scope) -> None:
        """Meanings into a field of floats; one that already means what it shall is left as it is."""
        contents, big = self.contents(slot), self.shape.big_of(slot.field)
        line = line_of(slot, scope)
        for row, value in zip(rows, values, strict=True):
            if value is None:
                raise self.error("A float can't say that there is no value.", slot, row, "Give the field another type.")
            num, den, base = (int(x) for x in line.at(row))
            assert isinstance(slot.type, Float)
            old = slot.type.number(contents[row] or b"", big) if contents[row] else np.nan
            if np.isfinite(old) and round(old * num / den + base) == value:
                continue
            data = slot.type.encode(slot.field, np.array([(value - base) * den / num]), [None], big)[0]
            back = slot.type.number(data, big) * num / den + base
            if not np.isfinite(back) or round(back) != value:
                raise self.error(f"{value:,} can't be stored: the nearest float means {back:,.0f}.", slot, row)
            contents[row] = data

    def put_numbers(self, slot: Slot, stored: NDArray, rows: Sequence[int], shown: Sequence) -> None:
        """Write stored numbers; an error where one does not fit its field. shown: what they mean, for messages."""
        low, high = slot.limits()
        for bad, size in ((stored < low, "small"), (stored > high, "large")):
            if np.any(bad):
                n = int(np.argmax(bad))
                value = f"{shown[n]:,}" if isinstance(shown[n], int) else shown[n]
                raise self.error(
                    f"{value} is too {size} for its field, which holds stored numbers from {low:,} to {high:,}.",
                    slot,
                    rows[n],
                )
        allowed = slot.field.one_of or ([slot.field.equals] if isinstance(slot.field.equals, int) else None)
        if allowed is not None and not slot.bits and not set(stored.tolist()) <= set(allowed):
            n = next(n for n, v in enumerate(stored.tolist()) if v not in allowed)
            wanted = " or ".join(map(str, allowed))
            raise self.error(f"{stored[n]} is not {wanted}, as the layout demands.", slot, rows[n])
        numbers = self._field_numbers(slot)
        where = slice(None) if len(rows) == len(numbers) else list(rows)
        kind = numbers.dtype.type
        if slot.bits:
            mask = ((1 << slot.bits) - 1) << slot.shift
            wide = numbers[where].astype(np.uint64) & np.uint64(~mask & (1 << 64) - 1)
            new = (stored.astype(np.uint64) << np.uint64(slot.shift)) & np.uint64(mask)
            numbers[where] = (wide | new).astype(kind)
        else:
            numbers[where] = stored.astype(kind)

    # Bytes ------------------------------------------------------------------------------------------

    def encode(self, start: int, places: Sequence[int] | None = None) -> Records:
        """The records' bytes. start: where the first will stand; places: where each will, if not one behind the other."""
        old = self.old
        if old.size:
            self.records = self._fixed(start)
            if places is not None:
                self.records.moved(np.array(places, np.int64))
        else:
            self.records = self._measured(start, places)
        return self.records

    def _fixed(self, start: int) -> Records:
        old, shape = self.old, self.shape
        rows = old.data[: old.count * old.size].reshape(old.count, old.size)
        data = rows.copy() if self.same else rows[self.order]
        fields = [s for s in shape.fields if not old.absent(s)]
        at = 0
        for slot in fields:
            width = shape.widths[slot.field.name] or 0
            if slot.field.name in self._numbers or slot.field.name in self._contents:
                data[:, at : at + width] = self._field_rows(slot, width)
            at += width
        return Records.fixed(shape, fields, data.reshape(-1), len(self.order), start)

    def _field_rows(self, slot: Slot, width: int) -> NDArray[np.uint8]:
        """A field's bytes, (records, width)."""
        big = self.shape.big_of(slot.field)
        if slot.field.name in self._numbers and isinstance(slot.type, Integer):
            return slot.type.rows(self._numbers[slot.field.name], big)
        return np.frombuffer(b"".join(c or b"" for c in self._field_bytes(slot)), np.uint8).reshape(-1, width)

    def _field_bytes(self, slot: Slot) -> list[bytes | None]:
        """A field's content bytes, one a record."""
        field, contents = slot.field, self.contents(slot)
        if field.name not in self._numbers:
            return contents
        old = self._taken(self.old.cells(slot).contents())
        encoded = slot.type.encode(field, self._numbers[field.name], old, self.shape.big_of(field))
        return [None if o is None else e for o, e in zip(old, encoded, strict=True)]

    def _measured(self, start: int, places: Sequence[int] | None) -> Records:
        self._put_lengths()
        shape = self.shape
        columns = [(s, self._field_bytes(s), *self._edges(s)) for s in shape.fields]
        count, fields = len(self.order), len(columns)
        starts, stand = np.zeros(count, np.int64), np.zeros(count, np.int64)
        at, length = np.zeros((count, fields), np.int64), np.zeros((count, fields), np.int64)
        pieces: list[bytes] = []
        pos, place = 0, start
        for row in range(count):
            place = places[row] if places is not None else place
            starts[row], stand[row] = pos, place
            first = pos
            for n, (slot, contents, prefix, ends) in enumerate(columns):
                data = contents[row]
                if data is None:
                    at[row, n], length[row, n] = pos, -1
                    continue
                if slot.field.type == "align":
                    room = -(place + pos - first) % slot.field.to
                    data = data if len(data) == room else bytes(room)
                before = prefix(slot, row, len(data)) if prefix else b""
                at[row, n], length[row, n] = pos + len(before), len(data)
                pieces += [before, data, ends]
                pos += len(before) + len(data) + len(ends)
            place += pos - first
        whole = np.frombuffer(b"".join(pieces), np.uint8).copy()
        return Records.measured(shape, whole, starts, stand, at, length)

    def _edges(self, slot: Slot):
        """What stands before a content, as a function of its length, and the bytes behind it."""
        return (self._count if slot.field.counted is not None else None), slot.field.ends or b""

    def _count(self, slot: Slot, row: int, length: int) -> bytes:
        """The length before a text, in the manner of the old one."""
        name = slot.field.counted or "u8"
        if name == "varint":
            return leb128_bytes(length, stretched(self._prefix(slot, self.order[row])))
        width = int(name[1:]) // 8
        if length >= 1 << (8 * width):
            raise self.error(f"A text of {length:,} bytes is too long for its length field.", slot, row)
        return length.to_bytes(width, "big" if self.shape.big_of(slot.field) else "little")

    def _prefix(self, slot: Slot, row: int) -> bytes:
        """The length that stood before a content: from the end of the field before it."""
        records, before = self.old, int(self.old.starts[row])
        for other in self.shape.fields:
            if other.field.name == slot.field.name:
                break
            at, length = records.span(other, row)
            before = at if length < 0 else at + length + len(other.field.ends or b"")
        return records.data[before : records.span(slot, row)[0]].tobytes()

    def _put_lengths(self) -> None:
        """The fields that say how long another one is."""
        for length, name in self.shape.lengths.items():
            slot, holder = self.shape.slots[name], self.shape.slots[length]
            if name not in self._contents:
                continue
            rows = [n for n, c in enumerate(self._contents[name]) if c is not None]
            sizes = [len(self._contents[name][n] or b"") for n in rows]
            unit, base = holder.tie.unit, holder.tie.base
            assert isinstance(unit, int) and isinstance(base, int), slot
            for row, size in zip(rows, sizes, strict=True):
                if (size - base) % unit:
                    raise self.error(f"A text of {size:,} bytes is no multiple of {unit}.", slot, row)
            stored = (np.array(sizes, np.int64) - base) // unit
            self.put_numbers(holder, stored, rows, sizes)

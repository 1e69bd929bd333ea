"""The records of a region as columns."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...base import ZubretError
from ..types import Cells
from ..types.numbers import parts_of
from .shape import Shape, Slot

DAMAGED = "The file is damaged or is not what the layout describes: check it against another copy."


class Records:
    """`count` records with their bytes.

    data: the bytes of all records, joined; starts: where each begins in `data`; places: where each begins in its
    file; size: bytes of one record where all are alike, else 0.
    """

    def __init__(self, shape: Shape, data: NDArray[np.uint8], count: int):
        self.shape, self.data, self.count = shape, data, count
        self.size = 0
        self.place = 0
        self._offset: dict[str, int] = {}
        self._at: NDArray[np.int64] | None = None
        self._length: NDArray[np.int64] | None = None
        self._starts: NDArray[np.int64] | None = None
        self._places: NDArray[np.int64] | None = None
        self._numbers: dict[str, NDArray] = {}
        self._blob: bytes | None = None

    @classmethod
    def fixed(cls, shape: Shape, fields: Sequence[Slot], data: NDArray[np.uint8], count: int, place: int) -> Records:
        """Records that all have the same fields of the same widths, one behind the other from file place `place`."""
        new = cls(shape, data, count)
        new.place = place
        if len(fields) == len(shape.fields) and shape.width:
            new._offset, new.size = shape.offsets, shape.width
            return new
        for slot in fields:
            new._offset[slot.field.name] = new.size
            new.size += shape.widths[slot.field.name] or 0
        return new

    @classmethod
    def measured(
        cls, shape: Shape, data: NDArray[np.uint8], starts: NDArray, places: NDArray, at: NDArray, length: NDArray
    ) -> Records:
        """Records whose fields were measured: places and lengths of shape (records, fields)."""
        new = cls(shape, data, len(starts))
        new._starts, new._places, new._at, new._length = starts, places, at, length
        return new

    @property
    def starts(self) -> NDArray[np.int64]:
        """Where each record begins in `data`."""
        if self._starts is None:
            self._starts = np.arange(self.count, dtype=np.int64) * self.size
        return self._starts

    @property
    def places(self) -> NDArray[np.int64]:
        """Where each record begins in its file; of a packed region, in its unpacked bytes."""
        if self._places is None:
            self._places = self.starts + self.place
        return self._places

    def moved(self, places: NDArray[np.int64]) -> None:
        """Give the records other places."""
        self._places = places

    def absent(self, slot: Slot) -> bool:
        """Whether no record has the field."""
        if self._length is None:
            return slot.field.name not in self._offset
        return bool((self._length[:, self.shape.number[slot.field.name]] < 0).all())

    def cells(self, slot: Slot) -> Cells:
        """The stored content of a field in all records."""
        big, name = self.shape.big_of(slot.field), slot.field.name
        if self._at is None or self._length is None:
            width = self.shape.widths[name] or 0
            return Cells(self.data, self.count, big, self._offset[name], self.size, width)
        n = self.shape.number[name]
        return Cells(self.data, self.count, big, at=self._at[:, n], length=self._length[:, n])

    def pieces(self, slot: Slot) -> list[bytes]:
        """The bytes of a field of records that are all alike."""
        if self._blob is None:
            self._blob = self.data.tobytes()
        at, width, blob = self._offset[slot.field.name], self.shape.widths[slot.field.name] or 0, self._blob
        return [blob[a : a + width] for a in range(at, at + self.count * self.size, self.size)]

    def has(self, slot: Slot) -> NDArray[np.bool_] | None:
        """Which records have the field; None where all do."""
        return None if self._length is None or not self.count else self.cells(slot).has()

    def end(self, row: int) -> int:
        """The place in `data` behind a record."""
        return int(self.starts[row + 1]) if row + 1 < self.count else len(self.data)

    def lengths(self) -> NDArray[np.int64]:
        """Bytes of each record."""
        return np.diff(self.starts, append=len(self.data))

    def span(self, slot: Slot, row: int) -> tuple[int, int]:
        """Where a field's content stands in `data`, and its bytes; length -1 where it is absent."""
        name = slot.field.name
        if self._at is None or self._length is None:
            if name not in self._offset:
                return int(self.starts[row]), -1
            return row * self.size + self._offset[name], self.shape.widths[name] or 0
        n = self.shape.number[name]
        return int(self._at[row, n]), int(self._length[row, n])

    def place_of(self, slot: Slot, row: int) -> int:
        """The byte in the file at which a field of a record stands."""
        at, _ = self.span(slot, row)
        return int(self.places[row]) + at - int(self.starts[row])

    def bytes_of(self, row: int) -> bytes:
        """The bytes of one record."""
        return self.data[int(self.starts[row]) : self.end(row)].tobytes()

    def patch(self, slot: Slot, row: int, data: bytes) -> bool:
        """Write over a field's content in `data`, which must be the caller's own; True where that changes a byte."""
        at, length = self.span(slot, row)
        if length != len(data) or self.data[at : at + length].tobytes() == data:
            return False
        self.data[at : at + length] = np.frombuffer(data, np.uint8)
        self._numbers.pop(slot.field.name, None)
        self._blob = None
        return True

    def values(self, slot: Slot) -> Any:
        """The stored values of a field: an array of whole numbers, or a list of texts or bytes (None where absent)."""
        if slot.whole:
            return self.numbers(slot)
        if self.absent(slot):
            return [None] * self.count
        return self._decoded(slot)

    def numbers(self, slot: Slot) -> NDArray:
        """The stored whole numbers of a field or bit part, one a record: int64, or uint64 for types of 64 bits; 0 where
        it is absent."""
        name = slot.field.name
        if name not in self._numbers:
            none = not self.count or self.absent(slot)
            self._numbers[name] = np.zeros(self.count, np.int64) if none else self._decoded(slot)
        values = self._numbers[name]
        return parts_of(values, slot.shift, slot.bits, slot.signed) if slot.bits else values

    def _decoded(self, slot: Slot) -> Any:
        try:
            return slot.type.decode(slot.field, self.cells(slot))
        except ZubretError as e:
            row = self._first_fault(slot)
            raise ZubretError(
                e.what,
                offset=self.place_of(slot, row),
                field=f"{self.shape.region.name}.{slot.field.name} of record {row}",
                next=DAMAGED,
            ) from e

    def _first_fault(self, slot: Slot) -> int:
        """The first record whose field can't be decoded."""
        for row in range(self.count):
            at, length = self.span(slot, row)
            one = Cells(self.data, 1, self.shape.big_of(slot.field), at, max(1, length), length)
            try:
                slot.type.decode(slot.field, one)
            except ZubretError:
                return row
        return 0

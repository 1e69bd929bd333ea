"""What every field type can do, and the stored bytes of one field as its type sees them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...base import ZubretError
from ..language.fields import FieldModel

FEW = 24
"""Records up to which plain Python is faster than arrays."""


class Step(NamedTuple):
    """How the scanner finds a field's end: an operation of `reading.scan` and its three numbers."""

    what: int
    a: int = 0
    b: int = 0
    c: int = 0


INT, VARINT, FIXED, BY_FIELD, COUNTED, COUNTED_VAR, ENDS, ALIGN, DIGITS, WORKED_OUT, ENDED_DIGITS = range(11)
"""The scanner's operations."""


@dataclass(frozen=True)
class Cells:
    """The stored content of one field in every record of a region.

    data: the bytes of all records; at: (records,) places in data; length: (records,) bytes there, -1 where a record
    does not have the field. Of records that are all alike, first and stride say the same without arrays: then `at` and
    `length` are None and every cell has `width` bytes. big: whether numbers stand high byte first.
    """

    data: NDArray[np.uint8]
    count: int
    big: bool
    first: int = 0
    stride: int = 0
    width: int = 0
    at: NDArray[np.int64] | None = None
    length: NDArray[np.int64] | None = None

    def rows(self, width: int) -> NDArray[np.uint8]:
        """(records, width) bytes; rows of absent cells hold other bytes."""
        if not self.count:
            return np.zeros((0, width), np.uint8)
        if self.at is None:
            return np.ndarray((self.count, width), np.uint8, self.data, self.first, (self.stride, 1))
        at = np.minimum(self.at, max(0, len(self.data) - width))
        return self.data[at[:, None] + np.arange(width)]

    def contents(self) -> list[bytes | None]:
        """The bytes of each cell, None where it is absent."""
        blob = self.data.tobytes()
        if self.at is None or self.length is None:
            width = self.width
            if not self.stride:
                return [b""] * self.count  # a record of results alone has no bytes
            return [blob[a : a + width] for a in range(self.first, self.first + self.count * self.stride, self.stride)]
        pairs = zip(self.at.tolist(), self.length.tolist(), strict=True)
        return [blob[a : a + n] if n >= 0 else None for a, n in pairs]

    def spans(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """(records,) places in data, and bytes there; -1 where a cell is absent."""
        if self.at is not None and self.length is not None:
            return self.at, self.length
        return self.first + self.stride * np.arange(self.count, dtype=np.int64), np.full(
            self.count, self.width, np.int64
        )

    def has(self) -> NDArray[np.bool_] | None:
        """Which records have the field; None where all do."""
        if self.length is None or (self.length >= 0).all():
            return None
        return self.length >= 0


class FieldType(ABC):
    """One way to store a value.

    whole: it holds a whole number; scanned: which later lengths and conditions of the record may name; carries: the kinds of
    values (of `terms`) that it can give without a value map.
    """

    whole = False
    scanned = False
    carries: tuple[str, ...] = ()

    @abstractmethod
    def width(self, field: FieldModel) -> int | None:
        """Bytes of the field where they are always the same, else None."""

    def fault(self, field: FieldModel) -> str:
        """What is wrong with the keys of such a field, in words; empty where nothing is."""
        return "has its own length; leave length, counted and ends out" if _ways(field) else ""

    @abstractmethod
    def step(self, field: FieldModel, big: bool) -> Step:
        """How its end is found. A length that another field gives is put in by the scanner."""

    @abstractmethod
    def decode(self, field: FieldModel, cells: Cells) -> Any:
        """The values: numbers as an array (int64, or uint64 for unsigned types of 64 bits; 0 where absent), others as a
        list."""

    def encode(self, field: FieldModel, values: Any, old: Sequence[bytes | None], big: bool) -> list[bytes]:
        """The content bytes of values; `old` is what stood there, in whose manner a type may write."""
        raise TypeError(f"{type(self).__name__} holds nothing that is written")

    def limits(self, field: FieldModel) -> tuple[int, int]:
        """The lowest and the highest whole number that it holds."""
        raise TypeError(f"{type(self).__name__} holds no whole number")

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        """Its value for people."""
        return data[:16].hex(" ")


def _ways(field: FieldModel) -> int:
    return sum(x is not None for x in (field.length, field.counted, field.ends))


def length_fault(field: FieldModel, fixed_only: bool = False) -> str:
    """What is wrong with the length of a field that needs one."""
    if fixed_only and (_ways(field) != 1 or not isinstance(field.length, int)):
        return "needs a length in bytes"
    if _ways(field) != 1:
        return "needs one of length (bytes), counted, or ends"
    if isinstance(field.length, int) and not 1 <= field.length <= 1 << 20:
        return "has a length that is no number from 1 to 1,048,576, and no name of a field"
    if field.ends is not None and len(field.ends) not in (1, 2, 4):
        return "may end in 1, 2 or 4 bytes"
    return ""


def not_a_number(field: FieldModel, text: bytes) -> ZubretError:
    """The error of digits that are none; the caller knows the place."""
    return ZubretError(f"{text[:24]!r} is no number in digits of base {field.radix}.")

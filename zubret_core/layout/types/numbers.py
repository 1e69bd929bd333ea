"""Numbers: integers of both byte orders, floats, varints, and digits.

Sources: IEEE 754 for floats; LEB128 after DWARF 5, section 7.6; numbers in digits as in POSIX.1-2001 (pax), "ustar
Interchange Format".
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..language.fields import FieldModel
from ..language.terms import NUMBER
from .base import FEW, FIXED, INT, VARINT, Cells, FieldType, Step, length_fault, not_a_number


@dataclass(frozen=True)
class Integer(FieldType):
    """A number of 1 to 8 bytes."""

    size: int
    signed: bool
    whole = True
    carries = (NUMBER,)

    def width(self, field: FieldModel) -> int:
        return self.size

    def step(self, field: FieldModel, big: bool) -> Step:
        return Step(INT, self.size, int(big), int(self.signed))

    def limits(self, field: FieldModel) -> tuple[int, int]:
        bits = 8 * self.size
        return (-(1 << (bits - 1)), (1 << (bits - 1)) - 1) if self.signed else (0, (1 << bits) - 1)

    def decode(self, field: FieldModel, cells: Cells) -> NDArray:
        kind = np.uint64 if self.size == 8 and not self.signed else np.int64
        if cells.at is None and cells.count <= FEW:
            order, blob = "big" if cells.big else "little", cells.data.tobytes()
            places = range(cells.first, cells.first + cells.count * cells.stride, cells.stride or 1)
            few = [int.from_bytes(blob[a : a + self.size], order, signed=self.signed) for a in places]  # type: ignore[arg-type]
            return np.array(few, kind)
        if cells.at is None and self.size in (1, 2, 4, 8):
            form = f"{'>' if cells.big else '<'}{'i' if self.signed else 'u'}{self.size}"
            return np.ndarray((cells.count,), form, cells.data, cells.first, (cells.stride,)).astype(kind)
        raw = cells.rows(self.size)
        wide = np.zeros((cells.count, 8), np.uint8)
        wide[:, : self.size] = raw[:, ::-1] if cells.big else raw
        values = wide.view("<u8")[:, 0].astype(kind)
        if self.signed and self.size < 8:
            values = np.where(values >> (8 * self.size - 1) > 0, values - (1 << (8 * self.size)), values)
        has = cells.has()
        return values if has is None else np.where(has, values, kind(0))

    def rows(self, values: NDArray, big: bool) -> NDArray[np.uint8]:
        """Numbers as (records, bytes)."""
        wide = values.astype(values.dtype.newbyteorder("<")).view(np.uint8).reshape(-1, 8)[:, : self.size]
        return wide[:, ::-1] if big else wide

    def encode(self, field: FieldModel, values: NDArray, old: Sequence[bytes | None], big: bool) -> list[bytes]:
        blob, width = self.rows(values, big).tobytes(), self.size
        return [blob[n : n + width] for n in range(0, len(blob), width)]

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        number, shift, words = int.from_bytes(data, "big" if big else "little", signed=self.signed), 0, []
        for part in field.parts or ():
            words.append(f"{part.name} {number >> shift & ((1 << part.bits) - 1)}")
            shift += part.bits
        return ", ".join(words) or f"{number:,}"


@dataclass(frozen=True)
class Float(FieldType):
    """IEEE 754; carried over, since a whole number can't be tied to it."""

    size: int

    def width(self, field: FieldModel) -> int:
        return self.size

    def step(self, field: FieldModel, big: bool) -> Step:
        return Step(FIXED, self.size)

    def decode(self, field: FieldModel, cells: Cells) -> list[bytes | None]:
        return cells.contents()

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        form = (">" if big else "<") + ("f" if self.size == 4 else "d")
        return f"{struct.unpack(form, data)[0]:g}"


@dataclass(frozen=True)
class Varint(FieldType):
    """LEB128, unsigned, at most 63 bits; one that had more bytes than its number needs keeps at least those."""

    whole = True
    carries = (NUMBER,)

    def width(self, field: FieldModel) -> None:
        return None

    def step(self, field: FieldModel, big: bool) -> Step:
        return Step(VARINT)

    def limits(self, field: FieldModel) -> tuple[int, int]:
        return 0, (1 << 63) - 1

    def decode(self, field: FieldModel, cells: Cells) -> NDArray:
        return np.array([leb128(v) if v is not None else 0 for v in cells.contents()], np.int64)

    def encode(self, field: FieldModel, values: NDArray, old: Sequence[bytes | None], big: bool) -> list[bytes]:
        return [leb128_bytes(v, stretched(o or b"")) for v, o in zip(values.tolist(), old, strict=True)]

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        return f"{leb128(data):,}"


@dataclass(frozen=True)
class Digits(FieldType):
    """A number in text; written in the manner of the old one: what stands before and behind the digits stays."""

    whole = True
    carries = (NUMBER,)

    def width(self, field: FieldModel) -> int | None:
        return field.length if isinstance(field.length, int) else None

    def fault(self, field: FieldModel) -> str:
        return length_fault(field, fixed_only=True)

    def step(self, field: FieldModel, big: bool) -> Step:
        return Step(FIXED, self.width(field) or 0)

    def limits(self, field: FieldModel) -> tuple[int, int]:
        return 0, min((1 << 63) - 1, field.radix ** (self.width(field) or 1) - 1)

    def decode(self, field: FieldModel, cells: Cells) -> NDArray:
        return np.array([self._number(field, v or b"") for v in cells.contents()], np.int64)

    def _number(self, field: FieldModel, data: bytes) -> int:
        text = data.split(b"\0")[0].strip(b" ")
        try:
            number = int(text or b"0", field.radix)
            if not 0 <= number < 1 << 63:
                raise ValueError
            return number
        except ValueError:
            raise not_a_number(field, text) from None

    def encode(self, field: FieldModel, values: NDArray, old: Sequence[bytes | None], big: bool) -> list[bytes]:
        form: Callable[[int], str] = {8: "{:o}", 10: "{}", 16: "{:x}"}[field.radix].format
        out = []
        for number, stood in zip(values.tolist(), old, strict=True):
            before = stood or b""
            core = before.rstrip(b"\0 ")
            behind, pad = before[len(core) :], b" " if core[:1] == b" " else b"0"
            if not core and number == 0:
                out.append(before)
                continue
            text = form(number).encode()
            text = text.upper() if any(c in b"ABCDEF" for c in core) else text
            behind = behind if core and len(core) >= len(text) else behind[: max(0, len(before) - len(text))]
            out.append(text.rjust(len(before) - len(behind), pad) + behind)
        return out

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        return data.decode("ascii", "replace").strip("\0 ")


def leb128(data: bytes) -> int:
    """The number that a LEB128 varint's bytes stand for."""
    return sum((byte & 127) << (7 * n) for n, byte in enumerate(data))


def stretched(data: bytes) -> int:
    """The bytes of a varint that has more than its number needs, else 1."""
    return len(data) if len(data) > len(leb128_bytes(leb128(data))) else 1


def leb128_bytes(value: int, least: int = 1) -> bytes:
    """A number as LEB128, in at least `least` bytes."""
    out = bytearray()
    while value > 127 or len(out) + 1 < least:
        out.append(value & 127 | 128)
        value >>= 7
    return bytes(out) + bytes([value])

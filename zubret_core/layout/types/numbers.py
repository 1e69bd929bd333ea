"""Numbers: integers of both byte orders, floats, varints, and digits.

Sources: IEEE 754 for floats; LEB128 after DWARF 5, section 7.6; numbers in digits as in POSIX.1-2001 (pax), "ustar
Interchange Format"; times of POSIX.1-2001 (seconds since the Epoch), of APPNOTE 4.4.6 (MS-DOS) and of 100 ns since 1601 (common
practice).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from ..language.fields import FieldModel
from ..language.terms import NUMBER
from .base import DIGITS, ENDED_DIGITS, FEW, FIXED, INT, VARINT, Cells, FieldType, Step, length_fault, not_a_number


@dataclass(frozen=True)
class Integer(FieldType):
    """A number of 1 to 8 bytes."""

    size: int
    signed: bool
    whole = scanned = True
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
            words.append(f"{part.name} {part_of(number, shift, part.bits, part.signed)}")
            shift += part.bits
        return ", ".join(words) or _time(number, field.shown) or f"{number:,}"


@dataclass(frozen=True)
class Float(FieldType):
    """IEEE 754, of 80 bits with the leading bit of the fraction stored (double extended, as AIFF has it). What it means is the nearest
    whole number; without a meaning it is carried over."""

    size: int
    carries = (NUMBER,)

    def width(self, field: FieldModel) -> int:
        return self.size

    def step(self, field: FieldModel, big: bool) -> Step:
        return Step(FIXED, self.size)

    def _form(self, big: bool) -> str:
        return f"{'>' if big else '<'}f{self.size}"

    def decode(self, field: FieldModel, cells: Cells) -> NDArray[np.float64]:
        raw = np.ascontiguousarray(cells.rows(self.size))
        if self.size == 10:
            values = np.array([self.number(row.tobytes(), cells.big) for row in raw])
        else:
            with np.errstate(invalid="ignore"):
                values = raw.view(self._form(cells.big))[:, 0].astype(np.float64)
        has = cells.has()
        return values if has is None else np.where(has, values, 0.0)

    def encode(self, field: FieldModel, values: NDArray, old: Sequence[bytes | None], big: bool) -> list[bytes]:
        if self.size == 10:
            return [self._extended(float(v), big) for v in values]
        return [v.tobytes() for v in np.asarray(values, self._form(big))]

    def number(self, data: bytes, big: bool) -> float:
        """The number that some bytes stand for."""
        if self.size != 10:
            return float(np.frombuffer(data, self._form(big))[0])
        whole = int.from_bytes(data, "big" if big else "little")
        sign, exponent, fraction = whole >> 79, whole >> 64 & 0x7FFF, whole & (1 << 64) - 1
        if exponent == 0x7FFF:
            return math.nan
        return (-1.0 if sign else 1.0) * (math.ldexp(fraction, exponent - 16446) if exponent < 17_000 else math.inf)

    @staticmethod
    def _extended(value: float, big: bool) -> bytes:
        fraction, exponent = math.frexp(abs(value))
        whole = (exponent + 16382) << 64 | int(math.ldexp(fraction, 64)) if value else 0
        return (whole | (value < 0) << 79).to_bytes(10, "big" if big else "little")

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        return f"{self.number(data, big):g}"


@dataclass(frozen=True)
class Result(FieldType):
    """What an expression on other fields gives; it has no bytes of its own, so it can't be written."""

    carries = (NUMBER,)

    def width(self, field: FieldModel) -> int:
        return 0

    def fault(self, field: FieldModel) -> str:
        return super().fault(field) or ("" if field.of is not None else "needs `of`: an expression")

    def step(self, field: FieldModel, big: bool) -> Step:
        return Step(FIXED, 0)

    def decode(self, field: FieldModel, cells: Cells) -> list[bytes | None]:
        return [None] * cells.count

    def limits(self, field: FieldModel) -> tuple[int, int]:
        return -(1 << 63), (1 << 63) - 1

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        return ""


@dataclass(frozen=True)
class Varint(FieldType):
    """LEB128, unsigned, at most 63 bits; one that had more bytes than its number needs keeps at least those."""

    whole = scanned = True
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
    """A number in text; written in the manner of the old one: what stands before and behind the digits stays. One that ends where certain
    bytes stand has as many digits as it needs, and keeps its length where something stood in front of them."""

    whole = scanned = True
    carries = (NUMBER,)

    def width(self, field: FieldModel) -> int | None:
        return field.length if isinstance(field.length, int) else None

    def fault(self, field: FieldModel) -> str:
        return length_fault(field, fixed_only=field.ends is None)

    def step(self, field: FieldModel, big: bool) -> Step:
        if field.ends is not None:
            return Step(ENDED_DIGITS, len(field.ends), int.from_bytes(field.ends, "little"), field.radix)
        return Step(DIGITS, self.width(field) or 0, field.radix)

    def limits(self, field: FieldModel) -> tuple[int, int]:
        most = (1 << 57) - 1
        return 0, most if field.ends is not None else min((1 << 63) - 1, field.radix ** (self.width(field) or 1) - 1)

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
        out, large = [], any(o and o != o.lower() for o in old)
        for number, stood in zip(values.tolist(), old, strict=True):
            before = stood or b""
            core = before.rstrip(b"\0 ")
            behind, pad = before[len(core) :], b" " if core[:1] == b" " else b"0"
            if not core and number == 0:
                out.append(before)
                continue
            text = _digits(number, field.radix).encode()
            text = text.upper() if core != core.lower() or (large and core == core.upper()) else text
            if field.ends is not None:
                in_front = core[:1] in (b" ", b"0") and len(core) > 1
                out.append((text.rjust(len(core), pad) if in_front else text) + behind)
                continue
            behind = behind if core and len(core) >= len(text) else behind[: max(0, len(before) - len(text))]
            out.append(text.rjust(len(before) - len(behind), pad) + behind)
        return out

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        return data.decode("ascii", "replace").strip("\0 ")


@dataclass(frozen=True)
class Bcd(FieldType):
    """A number of two decimal digits a byte, the high half first; low byte first where the byte order is little."""

    whole = True
    carries = (NUMBER,)

    def width(self, field: FieldModel) -> int | None:
        return field.length if isinstance(field.length, int) else None

    def fault(self, field: FieldModel) -> str:
        fault = length_fault(field, fixed_only=True)
        return fault or ("holds at most 9 bytes" if (self.width(field) or 0) > 9 else "")

    def step(self, field: FieldModel, big: bool) -> Step:
        return Step(FIXED, self.width(field) or 0)

    def limits(self, field: FieldModel) -> tuple[int, int]:
        return 0, 100 ** (self.width(field) or 1) - 1

    def decode(self, field: FieldModel, cells: Cells) -> NDArray:
        out = []
        for data in cells.contents():
            text = (data or b"")[:: 1 if cells.big else -1].hex()
            if not (text or "0").isdecimal():
                raise not_a_number(field, text.encode())
            out.append(int(text or "0"))
        return np.array(out, np.int64)

    def encode(self, field: FieldModel, values: NDArray, old: Sequence[bytes | None], big: bool) -> list[bytes]:
        digits = 2 * (self.width(field) or 1)
        return [bytes.fromhex(f"{v:0{digits}d}")[:: 1 if big else -1] for v in values.tolist()]

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        return data[:: 1 if big else -1].hex()


def part_of(number: int, shift: int, bits: int, signed: bool) -> int:
    """Some bits of a number as a number."""
    value = number >> shift & ((1 << bits) - 1)
    return value - (1 << bits) if signed and value >> (bits - 1) else value


def parts_of(numbers: NDArray, shift: int, bits: int, signed: bool) -> NDArray:
    """The same of a column; uint64 only where the part has all 64 bits and no sign."""
    if bits == 64 and not signed:
        return numbers.astype(np.uint64)
    wide = numbers.astype(np.uint64) >> np.uint64(shift)
    if signed:
        room = np.uint64(64 - bits)
        return (wide << room).view(np.int64) >> np.int64(64 - bits)
    return (wide & np.uint64((1 << bits) - 1)).astype(np.int64)


def _time(number: int, shown: str) -> str:
    """A number as the time that it stands for; empty where it is none."""
    try:
        if shown == "dos":
            date, clock = number >> 16, number & 0xFFFF
            day = datetime(
                1980 + (date >> 9), date >> 5 & 15, date & 31, clock >> 11, clock >> 5 & 63, (clock & 31) * 2
            )
            return f"{day:%Y-%m-%d %H:%M:%S}"
        if shown in ("unix", "filetime"):
            start = datetime(1970, 1, 1) if shown == "unix" else datetime(1601, 1, 1)
            seconds = number if shown == "unix" else number / 10_000_000
            return f"{start + timedelta(seconds=seconds):%Y-%m-%d %H:%M:%S} UTC"
    except (ValueError, OverflowError):
        pass
    return ""


def _digits(number: int, radix: int) -> str:
    """A number in small letters of a base from 2 to 36."""
    out = ""
    while number or not out:
        number, digit = divmod(number, radix)
        out = "0123456789abcdefghijklmnopqrstuvwxyz"[digit] + out
    return out


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

"""The records of a region as columns: fixed ones by arithmetic on their places, variable ones as measured."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import Source
from .expression import compiled, evaluate
from .fields import BitPart, FieldModel, Tied
from .measure import BAD, ENDED, ENDLESS, MORE, SHORT, UNTIL_END, Program, program_of, walk
from .model import Region

MOST = 1 << 24
"""Records of a region at most."""
WINDOW = 1 << 16
"""Bytes that a walk is given at first; it asks for more."""
DAMAGED = "The file is damaged or is not what the layout describes: check it against another copy."


class Records:
    """`count` records with their bytes.

    data: the bytes of all records, joined; starts: where each begins in `data`; places: where each begins in its
    file; size: bytes of one record where all have the same, else 0.
    """

    def __init__(self, region: Region, big: bool, data: NDArray[np.uint8], count: int):
        self.region, self.data, self.count = region, data, count
        self._big = big
        self.size = 0
        self.starts: NDArray[np.int64] = np.zeros(0, np.int64)
        self.places: NDArray[np.int64] = np.zeros(0, np.int64)
        self._offset: dict[str, int] = {}
        self._at: dict[str, NDArray[np.int64]] = {}
        self._length: dict[str, NDArray[np.int64]] = {}
        self._holders: dict[int, tuple[FieldModel, int]] = {}
        for field in region.fields:
            self._holders[id(field)] = field, 0
            shift = 0
            for part in field.parts or ():
                self._holders[id(part)] = field, shift
                shift += part.bits

    @classmethod
    def fixed(cls, region: Region, fields: list[FieldModel], big: bool, data: NDArray, count: int, place: int):
        """Records that all have the same fields of the same widths, one behind the other from file place `place`."""
        new = cls(region, big, data, count)
        for field in fields:
            new._offset[field.name] = new.size
            new.size += field.width or 0
        new.starts = np.arange(count, dtype=np.int64) * new.size
        new.places = new.starts + place
        return new

    @classmethod
    def measured(
        cls, region: Region, big: bool, data: NDArray, starts: NDArray, places: NDArray, at: NDArray, length: NDArray
    ):
        """Records whose fields were measured: places and lengths of shape (records, fields)."""
        new = cls(region, big, data, len(starts))
        new.starts, new.places = starts, places
        for n, field in enumerate(region.fields):
            new._at[field.name], new._length[field.name] = at[:, n], length[:, n]
        return new

    def holder(self, tie: Tied) -> tuple[FieldModel, int]:
        """The field that stores a tie, and the lowest bit of it inside that field."""
        return self._holders[id(tie)]

    def is_big(self, field: FieldModel) -> bool:
        """Whether a field's bytes stand high byte first."""
        order = field.byte_order or self.region.byte_order
        return self._big if order is None else order == "big"

    def absent(self, field: FieldModel) -> bool:
        """Whether no record has the field."""
        if self.size:
            return field.name not in self._offset
        return bool((self._length[field.name] < 0).all())

    def present(self, field: FieldModel) -> NDArray[np.bool_] | None:
        """Which records have the field; None where all do."""
        if self.size or not len(self._length[field.name]):
            return None
        has = self._length[field.name] >= 0
        return None if has.all() else has

    def end(self, row: int) -> int:
        """The place in `data` behind a record."""
        return int(self.starts[row + 1]) if row + 1 < self.count else len(self.data)

    def span(self, field: FieldModel, row: int) -> tuple[int, int]:
        """Where a field's content stands in `data`, and its bytes; length -1 where it is absent."""
        if self.size:
            if field.name not in self._offset:
                return int(self.starts[row]), -1
            return row * self.size + self._offset[field.name], field.width or 0
        return int(self._at[field.name][row]), int(self._length[field.name][row])

    def place_of(self, tie: Tied, row: int) -> int:
        """The byte in the file at which a field of a record stands."""
        at, _ = self.span(self.holder(tie)[0], row)
        return int(self.places[row]) + at - int(self.starts[row])

    def view(self, field: FieldModel, dtype: str) -> NDArray:
        """A field of fixed records as an array of a numpy type of the same width, without copying."""
        return np.ndarray((self.count,), dtype, self.data, self._offset[field.name], (self.size,))

    def bytes_of(self, field: FieldModel, width: int) -> NDArray[np.uint8]:
        """A field of `width` bytes as (records, width); rows of absent fields hold other bytes."""
        if self.size:
            offset = self._offset[field.name]
            return np.ndarray((self.count, width), np.uint8, self.data, offset, (self.size, 1))
        at = np.minimum(self._at[field.name], max(0, len(self.data) - width))
        return self.data[at[:, None] + np.arange(width)]

    def numbers(self, tie: Tied) -> NDArray:
        """The stored whole numbers of a field or bit part, one a record: int64, or uint64 for types of 64 bits."""
        field, shift = self.holder(tie)
        values = self._field_numbers(field)
        if isinstance(tie, BitPart):
            return (values >> values.dtype.type(shift)) & values.dtype.type((1 << tie.bits) - 1)
        return values

    def _field_numbers(self, field: FieldModel) -> NDArray:
        if self.absent(field) or not self.count:
            return np.zeros(self.count, np.int64)
        if field.type == "varint":
            return np.array([leb128(v) if v is not None else 0 for v in self.contents(field)], np.int64)
        if field.type == "digits":
            return np.array([self._digits(field, row, v) for row, v in enumerate(self.contents(field))], np.int64)
        width, signed, big = int(field.type[1:]) // 8, field.type[0] == "i", self.is_big(field)
        order = ">" if big else "<"
        if self.size and width in (1, 2, 4, 8):
            return self.view(field, f"{order}{field.type[0]}{width}").astype(
                np.uint64 if width == 8 and not signed else np.int64
            )
        raw = self.bytes_of(field, width)
        wide = np.zeros((self.count, 8), np.uint8)
        wide[:, :width] = raw[:, ::-1] if big else raw
        values = wide.view("<u8")[:, 0]
        if width == 8:
            values = values.view(np.int64) if signed else values.astype(np.uint64)
        else:
            values = values.astype(np.int64)
            if signed:
                values = np.where(values >> (8 * width - 1) > 0, values - (1 << (8 * width)), values)
        has = self.present(field)
        return values if has is None else np.where(has, values, values.dtype.type(0))

    def _digits(self, field: FieldModel, row: int, data: bytes | None) -> int:
        text = (data or b"").split(b"\0")[0].strip(b" ")
        try:
            number = int(text or b"0", field.radix)
            if not 0 <= number < 1 << 63:
                raise ValueError
            return number
        except ValueError:
            raise ZubretError(
                f"{text[:24]!r} is no number in digits of base {field.radix}.",
                offset=self.place_of(field, row),
                field=f"{self.region.name}.{field.name} of record {row}",
                next=DAMAGED,
            ) from None

    def contents(self, field: FieldModel) -> list[bytes | None]:
        """The content bytes of a field, one a record, None where it is absent."""
        if self.size:
            if field.name not in self._offset:
                return [None] * self.count
            width = field.width or 0
            blob, offset, size = self.data.tobytes(), self._offset[field.name], self.size
            return [blob[at : at + width] for at in range(offset, offset + self.count * size, size)]
        blob = self.data.tobytes()
        at, length = self._at[field.name].tolist(), self._length[field.name].tolist()
        return [blob[a : a + n] if n >= 0 else None for a, n in zip(at, length, strict=True)]

    def texts(self, field: FieldModel) -> list[str]:
        """A text field decoded, up to its first zero; what does not decode is kept as surrogates; "" where absent."""
        if self.size and not self.absent(field) and self.count:
            return texts(self.view(field, f"S{field.width}"), field.encoding)
        return [decoded(data, field.encoding) if data else "" for data in self.contents(field)]


def leb128(data: bytes) -> int:
    """The number that a LEB128 varint's bytes stand for (DWARF 5, section 7.6)."""
    return sum((byte & 127) << (7 * n) for n, byte in enumerate(data))


def leb128_bytes(value: int, least: int = 1) -> bytes:
    """A number as LEB128, in at least `least` bytes."""
    out = bytearray()
    while value > 127 or len(out) + 1 < least:
        out.append(value & 127 | 128)
        value >>= 7
    return bytes(out) + bytes([value])


def decoded(data: bytes, encoding: str) -> str:
    """Text up to its first zero character."""
    if encoding.replace("_", "-").lower().startswith(("utf-16", "utf-32")):
        return data.decode(encoding, "surrogateescape" if len(data) % 2 == 0 else "replace").split("\0")[0]
    return data.split(b"\0")[0].decode(encoding, "surrogateescape")


def texts(stored: NDArray, encoding: str) -> list[str]:
    """Fixed-length texts up to their first zero byte; what does not decode is kept as surrogates."""
    raw = stored.tolist()
    joined = b"\n".join(raw)
    if joined.count(b"\n") == len(raw) - 1 and b"\0" not in joined and encoding in ("utf-8", "ascii", "latin-1"):
        try:
            return joined.decode(encoding).split("\n")
        except UnicodeDecodeError:
            pass
    width = stored.dtype.itemsize
    return [decoded(b.ljust(width, b"\0"), encoding) for b in raw]


def read_records(
    region: Region,
    big: bool,
    source: Source,
    at: int,
    limit: int,
    count: int | None,
    numbers: Mapping[str, int],
    place: int,
) -> tuple[Records, int]:
    """The records of a region without bodies, and the place behind the last.

    source, at, limit: its bytes stand in `source` from `at`, at most up to `limit`; count: how many, None where the
    region says when to stop; place: where byte `at` stands in its file.
    """
    fields = [f for f in region.fields if f.when is None or _constant(f, region, numbers, source.name)]
    if all(f.width is not None for f in fields) and count is not None and not _inner(region):
        size = sum(f.width or 0 for f in fields)
        room = (limit - at) // size if size else 0
        if count < 0 or count > room:
            raise ZubretError(
                f"Region {region.name} promises {count:,} records of {size} bytes, "
                f"but the file has room for {max(0, room):,}.",
                file=source.name,
                offset=at,
                field=region.name,
                next=DAMAGED,
            )
        _check_count(region, count, source, at)
        data = np.frombuffer(source.read(at, count * size), np.uint8)
        return Records.fixed(region, fields, big, data, count, place), at + count * size
    return _measured(region, big, source, at, limit, count, numbers, place)


def _constant(field: FieldModel, region: Region, numbers: Mapping[str, int], file: str) -> bool:
    """Whether a condition that depends only on earlier regions holds; true for one that a record decides."""
    assert field.when is not None
    if any(name not in numbers for name in compiled(field.when).names):
        return True
    return bool(evaluate(field.when, numbers, file, field.name))


def _inner(region: Region) -> bool:
    """Whether a record's own fields decide which of its fields are there."""
    own = {t for f in region.fields for t in (f.name, *(p.name for p in f.parts or ()))}
    return any(f.when is not None and own & set(compiled(f.when).names) for f in region.fields)


def _check_count(region: Region, count: int, source: Source, at: int) -> None:
    if count > MOST:
        raise ZubretError(
            f"Region {region.name} has {count:,} records; Zubret reads {MOST:,} at most.",
            file=source.name,
            offset=at,
            field=region.name,
            next="Check the field that counts them.",
        )


def _measured(
    region: Region,
    big: bool,
    source: Source,
    at: int,
    limit: int,
    count: int | None,
    numbers: Mapping[str, int],
    place: int,
) -> tuple[Records, int]:
    program = program_of(region, big, numbers, source.name)
    whole = limit - at
    if count is not None and not 0 <= count <= whole:
        raise ZubretError(
            f"Region {region.name} promises {count:,} records, but only {whole:,} bytes follow.",
            file=source.name,
            offset=at,
            field=region.name,
            next=DAMAGED,
        )
    _check_count(region, count or 0, source, at)
    window = min(whole, WINDOW + (count or 0) * 8 * len(region.fields))
    while True:
        data = np.frombuffer(source.read(at, window), np.uint8)
        parts, pos, status, step = _walked(program, data, place, MOST + 1 if count is None else count)
        done = sum(len(p[0]) for p in parts)
        cut = window < whole and (status in (SHORT, ENDLESS) or (status == ENDED and program.until == UNTIL_END))
        if not cut:
            break
        window = min(whole, window * 4)
    if status != ENDED and (count is None or done < count):
        raise _stopped(region, source, at, whole, pos, status, step, done)
    starts, places, lengths = (np.concatenate(columns) for columns in zip(*parts, strict=True))
    return Records.measured(region, big, data[:pos], starts, starts + place, places, lengths), at + pos


def _walked(program: Program, data: NDArray, place: int, most: int):
    """Walk in pieces of growing size, so that memory follows the records that are there."""
    fields, parts, rows = len(program.steps), [], 256
    pos, status, step, total = 0, MORE, 0, 0
    while True:
        rows = min(rows * 2, most - total)
        starts, at, length = (
            np.empty(rows, np.int64),
            np.empty((rows, fields), np.int64),
            np.empty((rows, fields), np.int64),
        )
        numbers = np.zeros((rows, fields), np.int64)
        done, pos, status, step = walk(
            data,
            place,
            pos,
            program.steps,
            program.code,
            program.until,
            *program.until_code,
            starts,
            at,
            length,
            numbers,
        )
        parts.append((starts[:done], at[:done], length[:done]))
        total += done
        if status != MORE or total >= most:
            return parts, pos, status, step


def _stopped(
    region: Region, source: Source, at: int, limit: int, pos: int, status: int, step: int, done: int
) -> ZubretError:
    name = region.fields[step].name if step < len(region.fields) else region.name
    what = f"Record {done:,} of region {region.name} leaves the {limit - at:,} bytes that there are."
    if status == ENDLESS:
        what = f"The text {name} of record {done:,} has no end."
    elif status == BAD:
        what = f"{name} of record {done:,} has a number or length that is not possible."
    elif status == MORE:
        what = f"Region {region.name} has more than {MOST:,} records."
    return ZubretError(what, file=source.name, offset=at + pos, field=f"{region.name}.{name}", next=DAMAGED)


__all__ = ["DAMAGED", "Records", "leb128", "leb128_bytes", "read_records"]

"""The records of a region as they will be written: numbers and contents by field, then bytes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from .fields import BitPart, FieldModel, Tied
from .meaning import unit_and_base
from .model import ties_of
from .place import Place
from .read import Reading
from .records import leb128_bytes

TOO_LARGE = "Shorten the replacement: the format can't hold more."


@dataclass
class Table:
    """A region's records being written.

    order: for each record to write, the record that it was, or that it is copied from where it is new; names, places:
    what expressions may name, and where each record will stand, as far as that is known.
    """

    reading: Reading
    place: Place
    order: list[int]
    names: dict[str, int] = field(default_factory=dict)
    places: list[int] = field(default_factory=list)
    _numbers: dict[str, NDArray] = field(default_factory=dict)
    _contents: dict[str, list[bytes | None]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._same = self.order == list(range(self.place.records.count))

    def _numbers_of(self, holder: FieldModel) -> NDArray:
        if holder.name not in self._numbers:
            old = self.place.records.numbers(holder)
            self._numbers[holder.name] = old.copy() if self._same else old[self.order]
        return self._numbers[holder.name]

    def numbers_once(self) -> dict[str, int]:
        """The stored numbers of a region that stands once, by the names of expressions."""
        out = {}
        for tie in ties_of(self.place.region):
            holder, shift = self.place.records.holder(tie)
            if holder.numeric and not self.place.records.absent(holder):
                number = int(self._numbers_of(holder)[0])
                bits = tie.bits if isinstance(tie, BitPart) else 0
                out[f"{self.place.region.name}.{tie.name}"] = number >> shift & ((1 << bits) - 1) if bits else number
        return out

    def contents_of(self, holder: FieldModel) -> list[bytes | None]:
        """The content bytes of a field that is no number, one a record; may be changed in place."""
        if holder.name not in self._contents:
            old = self.place.records.contents(holder)
            self._contents[holder.name] = list(old) if self._same else [old[n] for n in self.order]
        return self._contents[holder.name]

    def put(self, tie: Tied, values: Sequence, rows: Sequence[int] | None = None) -> None:
        """Write meanings into a field: one for each record, or for each of `rows`; None leaves what stands there."""
        holder, _ = self.place.records.holder(tie)
        if self.place.records.absent(holder):
            return
        every = range(len(self.order)) if rows is None else rows
        if holder.numeric:
            self._put_numbers(tie, list(values), list(every))
        else:
            contents, old = self.contents_of(holder), None
            for row, value in zip(every, values, strict=True):
                if value is None or contents[row] is None:
                    continue
                if isinstance(value, bytes):
                    contents[row] = self._sized(holder, tie, row, value)
                    continue
                old = self.place.records.texts(holder) if old is None else old
                if value != old[self.order[row]]:  # else the bytes at hand are this text already
                    contents[row] = self._sized(holder, tie, row, value.encode(holder.encoding, "surrogateescape"))

    def _sized(self, holder: FieldModel, tie: Tied, row: int, data: bytes) -> bytes:
        if holder.width is None:
            return data
        if len(data) > holder.width:
            raise self._error(f'"{data.decode("latin-1")}" is longer than {holder.width} bytes.', tie, row)
        return data.ljust(holder.width, b"\0")

    def _error(self, what: str, tie: Tied, row: int, next: str = TOO_LARGE) -> ZubretError:
        return self.reading.error(what, self.place, tie, self.order[row], next)

    def _put_numbers(self, tie: Tied, values: list, rows: list[int]) -> None:
        if any(v is None for v in values):
            kept = [(r, v) for r, v in zip(rows, values, strict=True) if v is not None]
            rows, values = [r for r, _ in kept], [v for _, v in kept]
        if values:
            self.put_stored(tie, self._inverted(tie, values, rows), rows, values)

    def put_stored(self, tie: Tied, stored: NDArray, rows: list[int], shown: list | None = None) -> None:
        """Write stored numbers; an error where one does not fit its field."""
        holder, shift = self.place.records.holder(tie)
        if isinstance(tie, BitPart):
            low, high = 0, (1 << tie.bits) - 1
        elif holder.integer:
            bits, signed = int(holder.type[1:]), holder.type[0] == "i"
            low, high = (-(1 << (bits - 1)), (1 << (bits - 1)) - 1) if signed else (0, (1 << bits) - 1)
        else:
            low, high = 0, (1 << 63) - 1
        for bad in (stored < low, stored > high) if len(stored) else ():
            if np.any(bad):
                n = int(np.argmax(bad))
                value = (shown or stored.tolist())[n]
                value = f"{value:,}" if isinstance(value, int) else value
                raise self._error(
                    f"{value} is too large for its field, which holds stored numbers from {low:,} to {high:,}.",
                    tie,
                    rows[n],
                )
        allowed = holder.one_of if holder.one_of is not None else [holder.equals] if holder.equals is not None else None
        if allowed is not None and tie is holder and not set(stored.tolist()) <= set(allowed):
            n = next(n for n, v in enumerate(stored.tolist()) if v not in allowed)
            raise self._error(
                f"{stored[n]} is not {' or '.join(map(str, allowed))}, as the layout demands.", tie, rows[n]
            )
        numbers = self._numbers_of(holder)
        where = slice(None) if len(rows) == len(numbers) else rows
        if isinstance(tie, BitPart):
            kind = numbers.dtype.type
            mask = ((1 << tie.bits) - 1) << shift
            keep = ~mask & ((1 << 64) - 1 if kind is np.uint64 else (1 << 63) - 1)
            numbers[where] = (numbers[where] & kind(keep)) | (stored.astype(kind) << kind(shift))
        else:
            numbers[where] = stored.astype(numbers.dtype)

    def _inverted(self, tie: Tied, values: list, rows: list[int]) -> NDArray:
        """Meanings as stored numbers: the value map or the unit and base, backwards."""
        if tie.values is not None:
            back = {v: k for k, v in tie.values.items()}
            for n, value in enumerate(values):
                if value not in back:
                    known = ", ".join(map(str, back))
                    what = f"{value} can't be stored: the field knows {known}."
                    raise self._error(what, tie, rows[n], "Fit the replacement to one of these.")
            return np.array([back[v] for v in values], np.int64)
        unit, base = unit_and_base(tie, self.names, self.places, self.place.content.name)
        if isinstance(base, np.ndarray):
            base = base[rows]
        kind = np.uint64 if unit == 1 and isinstance(base, int) and base == 0 else np.int64
        number = (lambda v: int(v, 16)) if tie.shown == "hex" else int
        try:
            whole = [number(v) for v in values]
            wide = np.array(whole, np.int64 if kind is np.int64 or min(whole) < 0 else kind)
        except OverflowError:
            raise self._error("A number beyond 64 bits can't be stored.", tie, rows[0]) from None
        if kind is np.uint64:
            return wide
        wide = wide - base
        if unit != 1:
            rest = wide % unit
            if rest.any():
                n = int(np.argmax(rest != 0))
                what = f"{values[n]:,} can't be stored: the field counts in steps of {unit:,}."
                raise self._error(what, tie, rows[n], "Fit the replacement to such a step.")
            wide = wide // unit
        return wide

    # Bytes -----------------------------------------------------------------------------------

    def pieces(self, at: int) -> list[bytes]:
        """The bytes of each record; `at` is where the first will stand, for alignment inside records."""
        records = self.place.records
        if records.size:
            blob = self.joined(at)
            return [blob[n : n + records.size] for n in range(0, len(blob), records.size)]
        self._put_lengths()
        columns = [(f, self._field_bytes(f)) for f in self.place.region.fields]
        out: list[bytes] = []
        for row in range(len(self.order)):
            record = b""
            for f, column in columns:
                data = column[row]
                if f.type == "align" and data is not None:
                    room = -(at + len(record)) % f.to
                    data = data if len(data) == room else bytes(room)
                record += data or b""
            out.append(record)
            at += len(record)
        return out

    def joined(self, at: int) -> bytes:
        """The bytes of all records."""
        records = self.place.records
        if not records.size:
            return b"".join(self.pieces(at))
        old = records.data.reshape(records.count, records.size)
        data = old.copy() if self._same else old[self.order]
        for f in self.place.region.fields:
            if records.absent(f):
                continue
            start = records._offset[f.name]
            width = f.width or 0
            if f.name in self._numbers:
                data[:, start : start + width] = self._number_rows(f, width)
            elif f.name in self._contents:
                rows = b"".join(c or b"" for c in self._contents[f.name])
                data[:, start : start + width] = np.frombuffer(rows, np.uint8).reshape(-1, width)
        return data.tobytes()

    def _number_rows(self, f: FieldModel, width: int) -> NDArray[np.uint8]:
        """A field's numbers as bytes, (records, width)."""
        if f.type == "digits":
            return np.frombuffer(b"".join(self._digits(f)), np.uint8).reshape(-1, width)
        wide = self._numbers[f.name].astype(self._numbers[f.name].dtype.newbyteorder("<")).view(np.uint8).reshape(-1, 8)
        return wide[:, :width][:, ::-1] if self.place.records.is_big(f) else wide[:, :width]

    def _digits(self, f: FieldModel) -> list[bytes]:
        """Numbers in digits, in the manner of the old ones: what stands before and behind them stays."""
        old = self.place.records.contents(f)
        form: Callable[[int], str] = {8: "{:o}", 10: "{}", 16: "{:x}"}[f.radix].format
        out = []
        for row, number in enumerate(self._numbers[f.name].tolist()):
            before = old[self.order[row]] or b""
            core = before.rstrip(b"\0 ")
            behind, pad = before[len(core) :], b" " if core[:1] == b" " else b"0"
            if not core and number == 0:
                out.append(before)
                continue
            text = form(number).encode()
            text = text.upper() if any(c in b"ABCDEF" for c in core) else text
            if len(text) > len(before):
                raise self._error(f"{number:,} has more than {len(before)} digits.", f, row)
            behind = behind if core and len(core) >= len(text) else behind[: len(before) - len(text)]
            out.append(text.rjust(len(before) - len(behind), pad) + behind)
        return out

    def _put_lengths(self) -> None:
        """The fields that say how long another one is."""
        for f in self.place.region.fields:
            if not isinstance(f.length, str) or f.name not in self._contents:
                continue
            holder = next(t for x in self.place.region.fields for t in (x, *(x.parts or ())) if t.name == f.length)
            rows = [n for n, c in enumerate(self._contents[f.name]) if c is not None]
            self._put_numbers(holder, [len(self._contents[f.name][n] or b"") for n in rows], rows)

    def _field_bytes(self, f: FieldModel) -> list[bytes | None]:
        """The bytes of a field with its length or end, one a record."""
        records, has = self.place.records, self.place.records.present(f)
        if records.absent(f):
            return [None] * len(self.order)
        if f.type == "varint" and f.name in self._numbers:
            least = [len(c or b"") for c in records.contents(f)]
            out: list[bytes | None] = [
                leb128_bytes(v, least[self.order[n]]) for n, v in enumerate(self._numbers[f.name].tolist())
            ]
        elif f.name in self._numbers:
            width = f.width or 0
            blob = self._number_rows(f, width).tobytes()
            out = [blob[n : n + width] for n in range(0, len(blob), width)]
        else:
            out = list(self.contents_of(f))
            if f.counted is not None:
                out = [None if c is None else self._count(f, n, len(c)) + c for n, c in enumerate(out)]
            elif f.ends is not None:
                out = [None if c is None else c + (f.ends or b"") for c in out]
        return out if has is None else [v if has[self.order[n]] else None for n, v in enumerate(out)]

    def _count(self, f: FieldModel, row: int, length: int) -> bytes:
        if f.counted == "varint":
            return leb128_bytes(length)
        width = int((f.counted or "u8")[1:]) // 8
        if length >= 1 << (8 * width):
            raise self._error(f"A text of {length:,} bytes is too long for its length field.", f, row)
        return length.to_bytes(width, "big" if self.place.records.is_big(f) else "little")

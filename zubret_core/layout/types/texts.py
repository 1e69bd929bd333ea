"""Text, plain bytes, and the filling before an aligned field."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..language.fields import FieldModel
from ..language.terms import BYTES, TEXT
from .base import ALIGN, COUNTED, COUNTED_VAR, ENDS, FEW, FIXED, Cells, FieldType, Step, length_fault

WIDE = ("utf-16", "utf-32")
"""Encodings whose characters begin at multiples of some bytes."""
NARROW = ("utf-8", "ascii", "latin-1")
"""Encodings whose line feed is one byte that no other character holds."""


class _Lengthy(FieldType):
    """Types whose fields say how long they are."""

    def width(self, field: FieldModel) -> int | None:
        return field.length if isinstance(field.length, int) else None

    def room(self, field: FieldModel, stood: bytes | None) -> int:
        """Bytes that the field has whatever it holds; stood: what it held. 0 where it is as long as its content."""
        return self.width(field) or (len(stood or b"") if field.length_worked_out is not None else 0)

    def fault(self, field: FieldModel) -> str:
        return length_fault(field)

    def step(self, field: FieldModel, big: bool) -> Step:
        if field.counted is not None:
            return Step(COUNTED_VAR) if field.counted == "varint" else Step(COUNTED, int(field.counted[1:]) // 8, big)
        if field.ends is not None:
            wide = field.encoding.replace("_", "-").lower().startswith(WIDE) or not any(field.ends)
            return Step(ENDS, len(field.ends), int.from_bytes(field.ends, "little"), len(field.ends) if wide else 1)
        return Step(FIXED, self.width(field) or 0)


@dataclass(frozen=True)
class Text(_Lengthy):
    """Text up to its first zero; what does not decode is kept as surrogates."""

    carries = (TEXT,)

    def decode(self, field: FieldModel, cells: Cells) -> list[str]:
        if cells.count > FEW and field.encoding in NARROW:
            at, length = cells.spans()
            lines = np.empty(int(np.maximum(length, 0).sum()) + cells.count, np.uint8)
            used = int(_lines(cells.data, at, length, lines))
            if used:
                return str(lines[: used - 1].data, field.encoding, "surrogateescape").split("\n")
        return [decoded(data, field.encoding) if data else "" for data in cells.contents()]

    def encode(self, field: FieldModel, values: Sequence, old: Sequence[bytes | None], big: bool) -> list[bytes]:
        out = []
        for value, stood in zip(values, old, strict=True):
            if stood is not None and decoded(stood, field.encoding) == value:
                out.append(stood)  # what stands behind the text's end stays
                continue
            data = value.encode(field.encoding, "surrogateescape")
            out.append(data.ljust(self.room(field, stood), b"\0"))
        return out

    def show(self, field: FieldModel, data: bytes, big: bool) -> str:
        return data.split(b"\0")[0].decode(field.encoding, "replace")[:80]


@dataclass(frozen=True)
class Bytes(_Lengthy):
    """Bytes as they are; as an id, their hexadecimal digits."""

    carries = (BYTES,)

    def decode(self, field: FieldModel, cells: Cells) -> Sequence[bytes | str | None]:
        contents = cells.contents()
        return [None if c is None else c.hex() for c in contents] if _is_id(field) else contents

    def encode(self, field: FieldModel, values: Sequence, old: Sequence[bytes | None], big: bool) -> list[bytes]:
        if _is_id(field):
            return [bytes.fromhex(value) for value in values]
        return [value.ljust(self.room(field, stood), b"\0") for value, stood in zip(values, old, strict=True)]


def _is_id(field: FieldModel) -> bool:
    return (field.means or "").endswith(".id")


@dataclass(frozen=True)
class Align(FieldType):
    """As many bytes as are missing to a multiple of `to` in the file."""

    def width(self, field: FieldModel) -> None:
        return None

    def step(self, field: FieldModel, big: bool) -> Step:
        return Step(ALIGN, field.to)

    def decode(self, field: FieldModel, cells: Cells) -> list[bytes | None]:
        return cells.contents()


@njit(cache=True)
def _lines(data: NDArray, ats: NDArray, lengths: NDArray, out: NDArray) -> np.uint64:
    """The cells up to their first zero, each with a line feed behind it: how many bytes of `out` they take. 0 where a cell
    has a control character up to the line feed; an absent cell (length -1) is empty.

    All places are unsigned, which spares a test for negative ones at every byte.
    """
    used, one = np.uint64(0), np.uint64(1)
    for cell in range(len(ats)):
        at = np.uint64(ats[cell])
        end = at + np.uint64(max(0, lengths[cell]))
        while at < end and data[at] > 10:
            out[used] = data[at]
            used += one
            at += one
        if at < end and data[at]:
            return np.uint64(0)
        out[used] = 10
        used += one
    return used


def decoded(data: bytes, encoding: str) -> str:
    """Text up to its first zero character; what does not decode is kept as surrogates."""
    if encoding.replace("_", "-").lower().startswith(WIDE):
        return data.decode(encoding, "surrogateescape" if len(data) % 2 == 0 else "replace").split("\0")[0]
    return data.split(b"\0")[0].decode(encoding, "surrogateescape")


def warm() -> None:
    """Compile."""
    for columns in (1, 2):
        places = np.zeros((2, columns), np.int64)[:, 0]
        _lines(np.frombuffer(b"\0", np.uint8), places, places, np.zeros(2, np.uint8))

"""The fields of a layout as pydantic models: how they are stored, and how sums and ids come about."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from ...source.sums import NAME_HASHES, SUMS
from .terms import MEANINGS, ONCE, UNITS, HexBytes, IntType, Name, Number, Order, Strict

WHOLE = ("stored", "unpacked", "record", "file", "span", "listed")
"""What a sum may cover besides a region."""


class CrcModel(Strict):
    """A CRC by its parameters."""

    width: int = Field(ge=8, le=64)
    poly: int = Field(ge=0)
    init: int = Field(0, ge=0)
    refin: bool = False
    refout: bool = False
    xorout: int = Field(0, ge=0)


class SumModel(Strict):
    """A checksum or digest: by which rule and over which bytes."""

    by: str | CrcModel = Field(examples=list(SUMS))
    of: str = Field(
        description="stored, unpacked, record, file, span, listed, or the name of a region", examples=list(WHOLE)
    )
    start: Number = Field(0, description="of a span: its first byte in the file")
    end: Number = Field("file.size", description="of a span: the byte behind its last")
    blank: HexBytes | None = Field(None, description="the byte that stands for the sum's own field while it is taken")

    @model_validator(mode="after")
    def _known(self):
        if isinstance(self.by, str) and self.by not in SUMS:
            raise ValueError(f'"{self.by}" is not a sum that Zubret knows ({", ".join(SUMS)})')
        return self


class HashModel(Strict):
    """How an id comes from an entry's path."""

    by: str = Field(examples=list(NAME_HASHES))
    case: Literal["", "lower", "upper"] = ""
    slash: Literal["/", "\\"] = "/"

    @model_validator(mode="after")
    def _known(self):
        if self.by not in NAME_HASHES:
            raise ValueError(f'"{self.by}" is not a hash that Zubret knows ({", ".join(NAME_HASHES)})')
        return self

    def of(self, path: str) -> int:
        """The id of a path."""
        text = path.replace("/", self.slash)
        text = text.lower() if self.case == "lower" else text.upper() if self.case == "upper" else text
        return NAME_HASHES[self.by](text.encode("utf-8", "surrogateescape"))


class Tied(Strict):
    """What connects a stored number or text with its meaning.

    meaning = stored * unit + base, or values[stored]; writing inverts it. A unit may be one of UNITS by its name.
    """

    name: Name
    means: str | None = Field(None, examples=[*MEANINGS, *ONCE])
    unit: Number = Field(
        1,
        description="a number, an expression, or frames, bytes, blocks, milliseconds or seconds",
        examples=list(UNITS),
    )
    base: Number = 0
    values: dict[int, int | str] | None = None
    none: int | None = Field(None, description="the stored number that says that there is no value")
    digits: int = Field(0, ge=0, le=20, description="an id is shown with at least so many digits")
    shown: Literal["decimal", "hex"] = "decimal"
    hash: HashModel | None = Field(None, description="how an id comes from the entry's path")
    sum: SumModel | None = None
    pool: Name | None = Field(None, description="the region of texts in which the number is an offset")

    @property
    def unit_name(self) -> str:
        """The unit where it is one of UNITS, else empty."""
        return self.unit if isinstance(self.unit, str) and self.unit in UNITS else ""

    @property
    def plain(self) -> bool:
        """Whether the meaning is the stored number as it is."""
        return self.unit == 1 and self.base == 0 and self.none is None and not self.values and not self.pool

    @model_validator(mode="after")
    def _one_way_back(self):
        if self.values and len(set(self.values.values())) != len(self.values):
            raise ValueError("two stored numbers have the same value, so writing could not choose between them")
        if self.sum and self.means:
            raise ValueError("a field holds a sum or a meaning, not both")
        if self.hash and self.means != "entry.id":
            raise ValueError("only a field that means entry.id can come from a hash")
        return self


class BitPart(Tied):
    """Some bits of an integer; parts are given from the lowest bit upwards."""

    bits: int = Field(ge=1, le=63)


class FieldModel(Tied):
    """One stored field."""

    type: Literal[
        "u8", "u16", "u24", "u32", "u48", "u64", "i8", "i16", "i24", "i32", "i48", "i64",
        "f32", "f64", "varint", "digits", "text", "bytes", "align",
    ]  # fmt: skip
    length: int | str | None = Field(None, description="bytes, or an earlier field of the record that says how many")
    counted: IntType | Literal["varint"] | None = Field(None, description="the length stands before, as this type")
    ends: HexBytes | None = Field(None, description="the bytes behind the last, zeros in most formats")
    to: int = Field(4, ge=1, le=1 << 16, description="of type align: what the next field's place is a multiple of")
    radix: Literal[8, 10, 16] = 10
    byte_order: Order | None = None
    encoding: str = "utf-8"
    when: Number | None = Field(None, description="the field is there only where this is not 0")
    equals: int | HexBytes | None = None
    one_of: list[int] | None = None
    parts: list[BitPart] | None = None

    @model_validator(mode="after")
    def _readable(self):
        try:
            "".encode(self.encoding)
        except LookupError:
            raise ValueError(f'"{self.encoding}" is not a known text encoding') from None
        return self

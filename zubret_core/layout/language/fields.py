"""The fields of a layout as pydantic models: how they are stored, and how sums and ids come about."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import Discriminator, Field, Tag, model_validator

from ...source.sums import SUMS, Crc, Rule, Words, sum_over
from .terms import MEANINGS, ONCE, UNITS, Bits, HexBytes, IntType, Name, Number, Order, Strict

Range = Annotated[str, Field(pattern=r"^\d{1,20}\.\.\d{1,20}$")]
"""A range of stored numbers, both ends included: 16..31."""
WHOLE = ("stored", "unpacked", "record", "body", "file", "span", "listed")
"""What a sum may cover besides a region."""


class CrcModel(Strict):
    """A CRC by its parameters."""

    width: int = Field(ge=8, le=64)
    poly: int = Field(ge=0)
    init: int = Field(0, ge=0)
    refin: bool = False
    refout: bool = False
    xorout: int = Field(0, ge=0)


class WordsModel(Strict):
    """A sum of whole numbers."""

    words: Literal["u8", "u16", "u32", "u64"]
    byte_order: Order = "little"
    does: Literal["added", "subtracted", "xored"]
    init: int = Field(0, ge=0, description="what it begins with")
    xorout: int = Field(0, ge=0, description="what the outcome is XORed with")


def _rule(given: Any) -> str:
    """Which of a sum's three rules something is; so only what that one asks for is told of a fault."""
    if isinstance(given, WordsModel) or (isinstance(given, dict) and given.keys() & {"words", "does"}):
        return "whole numbers"
    return "CRC" if isinstance(given, CrcModel | dict) else "name"


class _Ruled(Strict):
    by: Annotated[
        Annotated[str, Tag("name")] | Annotated[CrcModel, Tag("CRC")] | Annotated[WordsModel, Tag("whole numbers")],
        Discriminator(_rule),
    ] = Field(examples=list(SUMS))

    @model_validator(mode="after")
    def _known(self):
        if isinstance(self.by, str) and self.by not in SUMS:
            raise ValueError(f'"{self.by}" is not a sum that Zubret knows ({", ".join(SUMS)})')
        return self

    @property
    def rule(self) -> Rule:
        """The rule as `sum_over` wants it."""
        if isinstance(self.by, WordsModel):
            given = self.by
            return Words(int(given.words[1:]) // 8, given.byte_order == "big", given.does, given.init, given.xorout)
        return self.by if isinstance(self.by, str) else Crc(**self.by.model_dump())

    @property
    def title(self) -> str:
        """The rule in words."""
        if isinstance(self.by, WordsModel):
            return f"{self.by.words} {self.by.does}"
        return self.by if isinstance(self.by, str) else f"CRC of {self.by.width} bits"


class SumModel(_Ruled):
    """A checksum or digest: by which rule and over which bytes."""

    of: str = Field(
        description="stored, unpacked, record, body, file, span, listed, or the name of a region", examples=list(WHOLE)
    )
    since: Name | None = Field(
        None, description="of a body: the field of the record in front from which on it is covered, too"
    )
    start: Number = Field(0, description="of a span: its first byte in the file")
    end: Number = Field("file.size", description="of a span: the byte behind its last")
    blank: HexBytes | None = Field(None, description="the byte that stands for the sum's own field while it is taken")


class HashModel(_Ruled):
    """How an id comes from an entry's path, or from a stream's name."""

    case: Literal["", "lower", "upper"] = ""
    slash: Literal["/", "\\"] = "/"

    def of(self, path: str) -> int | bytes:
        """The sum of a path or a name."""
        text = path.replace("/", self.slash)
        text = text.lower() if self.case == "lower" else text.upper() if self.case == "upper" else text
        return sum_over(self.rule, [text.encode("utf-8", "surrogateescape")])


class Tied(Strict):
    """What connects a stored number or text with its meaning.

    meaning = stored * unit / per + base, or values[stored]; writing inverts it. A unit may be one of UNITS by its name; unit, per, base and
    what a stored number is XORed with may be expressions.
    """

    name: Name
    means: str | None = Field(None, examples=[*MEANINGS, *ONCE])
    unit: Number = Field(
        1,
        description="a number, an expression, or frames, bytes, blocks, milliseconds or seconds",
        examples=list(UNITS),
    )
    per: Number = Field(1, description="fixed point: so many stored steps make one unit; a number or an expression")
    base: Number = 0
    xor: Bits = Field(0, description="what a stored number is XORed with before all else")
    values: dict[int | Range, int | str] | None = None
    none: int | None = Field(None, description="the stored number that says that there is no value")
    digits: int = Field(0, ge=0, le=20, description="an id is shown with at least so many digits")
    shown: Literal["decimal", "hex", "unix", "dos", "filetime"] = Field(
        "decimal", description="ids in hexadecimal; or as a time: seconds since 1970, an MS-DOS date, 100 ns since 1601"
    )
    hash: HashModel | None = Field(None, description="how an id comes from the entry's path, or the stream's name")
    sum: SumModel | None = None
    pool: Name | None = Field(None, description="the region of texts in which the number is an offset")
    text_length: Name | None = Field(
        None, description="of a text in a pool: the field of the record that says how many bytes it has"
    )

    @property
    def unit_name(self) -> str:
        """The unit where it is one of UNITS, else empty."""
        return self.unit if isinstance(self.unit, str) and self.unit in UNITS else ""

    @property
    def plain(self) -> bool:
        """Whether the meaning is the stored number as it is."""
        bare = self.unit == 1 and self.per == 1 and self.base == 0 and self.xor == 0
        return bare and self.none is None and not self.values and not self.pool

    @property
    def numbered(self) -> dict[int, int | str]:
        """`values` of single numbers."""
        return {n: v for n, v in (self.values or {}).items() if isinstance(n, int)}

    @property
    def ranges(self) -> list[tuple[int, int, int | str]]:
        """`values` of whole ranges: lowest, highest, value."""
        texts = ((n.split(".."), v) for n, v in (self.values or {}).items() if isinstance(n, str))
        return [(int(low), int(high), v) for (low, high), v in texts]

    @property
    def lossy(self) -> bool:
        """Whether several stored numbers can have one meaning, so that what stands there is left where it has the right one."""
        return self.per != 1 or bool(self.ranges)

    @model_validator(mode="after")
    def _one_way_back(self):
        spans = sorted([(n, n) for n in self.numbered] + [(low, high) for low, high, _ in self.ranges])
        if any(low > high for low, high in spans) or any(a[1] >= b[0] for a, b in pairwise(spans)):
            raise ValueError("the ranges of `values` run upwards and don't overlap, such as 16..31")
        if self.unit_name and self.per != 1:
            raise ValueError("a unit with a name has no `per`")
        if isinstance(self.per, int) and not 1 <= self.per <= 1 << 62:
            raise ValueError("`per` is at least 1")
        if self.values and len(set(self.values.values())) != len(self.values):
            raise ValueError("two stored numbers have the same value, so writing could not choose between them")
        if self.sum and self.means:
            raise ValueError("a field holds a sum or a meaning, not both")
        if self.hash and self.means not in ("entry.id", "stream.id"):
            raise ValueError("only a field that means entry.id or stream.id can come from a hash")
        return self


class BitPart(Tied):
    """Some bits of an integer; parts are given from the lowest bit upwards."""

    bits: int = Field(ge=1, le=64)
    signed: bool = Field(False, description="two's complement")


class FieldModel(Tied):
    """One stored field."""

    type: Literal[
        "u8", "u16", "u24", "u32", "u40", "u48", "u56", "u64", "i8", "i16", "i24", "i32", "i40", "i48", "i56", "i64",
        "f32", "f64", "f80", "varint", "digits", "bcd", "result", "text", "bytes", "align",
    ]  # fmt: skip
    of: Number | None = Field(None, description="of type result: an expression on other fields; it has no bytes")
    length: Number | None = Field(
        None, description="bytes; an earlier field of the record that says how many; or an expression that gives them"
    )
    counted: IntType | Literal["varint"] | None = Field(None, description="the length stands before, as this type")
    ends: HexBytes | None = Field(None, description="the bytes behind the last, zeros in most formats")
    to: int = Field(4, ge=1, le=1 << 16, description="of type align: what the next field's place is a multiple of")
    radix: int = Field(10, ge=2, le=36)
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

    @property
    def length_field(self) -> str | None:
        """The field of the record that says how long this one is."""
        return self.length if isinstance(self.length, str) and self.length.isidentifier() else None

    @property
    def length_worked_out(self) -> str | None:
        """The expression that gives its length."""
        return self.length if isinstance(self.length, str) and not self.length.isidentifier() else None

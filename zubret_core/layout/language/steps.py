"""The steps of a transform as pydantic models."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, model_validator

from ...source.coders.runs import FORMS
from ...source.packing import METHODS, WITH_DICTIONARY
from .terms import FillByte, HexBytes, IntType, Name, Number, Order, Strict


def _named_step(value: object) -> object:
    """A step without settings may be just its name."""
    return {"by": value} if isinstance(value, str) else value


class PathSum(Strict):
    """The first bytes of a digest of an entry's path."""

    sum: Literal["md5", "sha1", "sha256"]
    case: Literal["", "lower", "upper"] = ""
    slash: Literal["/", "\\"] = "/"


class PackStep(Strict):
    """A compression by a library."""

    by: Literal[METHODS]  # type: ignore[valid-type]
    level: int | None = Field(None, ge=-20, le=22)
    dictionary: str | None = Field(
        None, description="zstd and lz4-block: one of `files`, a region, a field of bytes, or the path of an entry"
    )

    @model_validator(mode="after")
    def _can(self):
        if self.dictionary is not None and self.by not in WITH_DICTIONARY:
            raise ValueError(f"{self.by} takes no dictionary; {', '.join(WITH_DICTIONARY)} do")
        return self


class CodePiece(Strict):
    """Some bits of the number that says where the same bytes stand already."""

    offset: int | None = Field(None, ge=1, le=24)
    length: int | None = Field(None, ge=1, le=16)

    @model_validator(mode="after")
    def _one(self):
        if (self.offset is None) == (self.length is None):
            raise ValueError("a piece of a code is either offset or length, with its bits")
        return self

    @property
    def piece(self) -> tuple[str, int]:
        """What it is, and its bits."""
        return ("length", self.length or 0) if self.offset is None else ("offset", self.offset)


class LzssStep(Strict):
    """LZSS by its parameters."""

    by: Literal["lzss"]
    window: int = Field(4096, ge=16, le=1 << 20, description="bytes that can be reached back")
    code: list[CodePiece] = Field(
        default=[CodePiece(offset=8), CodePiece(length=4), CodePiece(offset=4)],
        min_length=2,
        max_length=4,
        description="the bits of a match, from the lowest of its number upwards",
    )
    byte_order: Order = Field("little", description="of that number, and of a group of flags")
    shortest: int = Field(3, ge=1, le=64, description="bytes of a match whose stored length is 0")
    flags: Literal["u8", "u16", "u32", "bits"] = Field(
        "u8", description="flags in groups before their items, or all in one stream of bits"
    )
    bit_order: Literal["low", "high"] = Field("low", description="which bit of a group, or of a byte, comes first")
    literal: Literal[0, 1] = Field(1, description="the flag of a byte as it is")
    start: int | None = Field(None, ge=0, description="where in the window the first byte goes; left out: distances")
    nearest: int = Field(1, ge=0, le=64, description="the distance that a stored 0 means")
    initial: HexBytes | None = Field(None, description="the window before the first byte; one byte fills it")
    end: int | None = Field(None, ge=0, description="the code that ends the stream")

    @model_validator(mode="after")
    def _whole(self):
        bits = {"offset": 0, "length": 0}
        pieces = [p.piece for p in self.code]
        for what, count in pieces:
            bits[what] += count
        total = sum(bits.values())
        for what in bits:
            if not 1 <= [w for w, _ in pieces].count(what) <= 2:
                raise ValueError(f"the code of a match needs one or two pieces of {what}")
        if total > 32 or (self.flags != "bits" and total % 8):
            raise ValueError(f"the code of a match has whole bytes, at most four, but these are {total} bits")
        if self.start is not None and not (self.start < self.window <= 1 << bits["offset"]):
            raise ValueError("`start` is a place in the window, and the offset must have bits for every place")
        if self.end is not None and self.end >> total:
            raise ValueError("`end` has more bits than a code")
        return self


class RunsStep(Strict):
    """Run-length coding by its parameters."""

    by: Literal["runs"]
    form: Literal[FORMS] = "top-bit"  # type: ignore[valid-type]
    run: int = Field(1, ge=0, le=64, description="bytes of a run with the lowest count")
    plain: int = Field(1, ge=0, le=1, description="bytes of a row of plain bytes with the lowest count")
    top: Literal["runs", "plain"] = Field("runs", description="top-bit: which have the top bit set")
    mark: FillByte = Field(b"\0", description="escape: the byte before a run")
    order: Literal["count-value", "value-count"] = "count-value"


class HuffmanStep(Strict):
    """Huffman coding with a stored table of canonical codes."""

    by: Literal["huffman"]
    table: Literal["bytes", "nibbles", "counts"] = "bytes"
    longest: int = Field(15, ge=1, le=15, description="bits of a code at most")
    bit_order: Literal["low", "high"] = Field("high", description="which bit of a byte comes first")


class PlugInStep(Strict):
    """A step that an installed package brings."""

    by: Literal["plug-in"]
    name: str = Field(min_length=1, max_length=100)
    settings: dict[str, Any] = {}


class AesStep(Strict):
    """AES with a key from the key ring."""

    by: Literal["aes"]
    mode: Literal["ecb", "cbc", "ctr"] = "ecb"
    key: Name
    iv: HexBytes | str | PathSum = Field(
        b"", description="16 bytes in hexadecimal pairs, a field of 16 bytes, or the sum of a path; zeros if empty"
    )
    first: Number | None = Field(None, description="only so many bytes at the beginning are locked")


class RowStep(Strict):
    """A repeating row of bytes by which every byte is changed."""

    by: Literal["xor", "add", "subtract", "rotate"]
    bytes: HexBytes = b""
    key: Name | None = None
    field: str | None = Field(None, description="a field of bytes: of the record, or region.field")
    number: Number | None = Field(None, description="a number as `width` bytes: an expression on fields")
    width: IntType = "u32"
    byte_order: Order = "little"
    first: Number | None = Field(None, description="only so many bytes at the beginning are changed")

    @model_validator(mode="after")
    def _one(self):
        given = (bool(self.bytes), self.key is not None, self.field is not None, self.number is not None)
        if sum(given) != 1:
            raise ValueError(f"a step by {self.by} needs one of bytes, key, field and number")
        return self


class GeneratorStep(Strict):
    """Bytes changed by a linear congruential generator: state = state * multiply + plus, modulo 2 to the `bits`."""

    by: Literal["generator"]
    seed: Number = Field(description="an expression on fields")
    multiply: int = Field(ge=1, lt=1 << 64)
    plus: int = Field(ge=0, lt=1 << 64)
    bits: int = Field(32, ge=8, le=64)
    shift: int = Field(0, ge=0, le=63, description="places that the state is shifted to the right before it is given")
    mask: int = Field(0xFF, ge=1, lt=1 << 64)
    gives: IntType = Field("u8", description="what one state gives")
    byte_order: Order = "little"
    begins: Literal["seed", "next"] = Field("next", description="whether the seed itself is given first")
    does: Literal["xor", "add", "subtract"] = "xor"
    first: Number | None = Field(None, description="only so many bytes at the beginning are changed")


class SwapStep(Strict):
    """Byte order turned round."""

    by: Literal["swap"]
    width: Literal[2, 4, 8]


CHUNKS = range(16, (1 << 26) + 1)
"""Unpacked bytes that a chunk may have."""


class ChunkStep(Strict):
    """Pieces that are packed one by one."""

    by: Literal["chunks"]
    size: Number = Field(description="unpacked bytes of a chunk, 16 to 67,108,864, or an expression on fields")
    sizes: IntType = "u32"
    byte_order: Order = "little"
    place: Literal["table", "inline"] = "table"
    plain: Literal["never", "equal", "top"] = "never"
    align: int = Field(1, ge=1, le=1 << 16)
    says: Literal["sizes", "begins", "bounds", "ends"] = "sizes"
    origin: Literal["payload", "table"] = "payload"
    packed: list[StepModel] = Field(min_length=1, max_length=4)

    @model_validator(mode="after")
    def _check(self) -> ChunkStep:
        if isinstance(self.size, int) and self.size not in CHUNKS:
            raise ValueError(f"a chunk has from {CHUNKS.start} to {CHUNKS.stop - 1:,} unpacked bytes")
        if self.says != "sizes" and self.place == "inline":
            raise ValueError(f"the table of chunks says their {self.says}, so it stands in front: `place: table`")
        if self.says in ("begins", "bounds") and self.align > 1:
            raise ValueError(
                f"chunks whose table says their {self.says} reach to the next one, so they have no `align`"
            )
        return self


class SizedStep(Strict):
    """A number in front of packed bytes: how many come out."""

    by: Literal["sized"]
    width: IntType = "u32"
    byte_order: Order = "little"
    packed: list[StepModel] = Field(min_length=1, max_length=4)


StepModel = Annotated[
    PackStep
    | LzssStep
    | RunsStep
    | HuffmanStep
    | PlugInStep
    | AesStep
    | RowStep
    | GeneratorStep
    | SwapStep
    | ChunkStep
    | SizedStep,
    Field(discriminator="by"),
    BeforeValidator(_named_step, json_schema_input_type=Any),
]
Steps = Annotated[list[StepModel], Field(max_length=8)]
Shrinks = PackStep | LzssStep | RunsStep | HuffmanStep | PlugInStep | ChunkStep | SizedStep
"""Steps after which there may be another number of bytes."""
Locks = AesStep | RowStep | GeneratorStep
"""Steps that keep every byte's place and want a key."""


def all_steps(steps: Iterable) -> Iterator:
    """Steps, and those inside of chunks and of what has its size in front."""
    for step in steps:
        yield step
        yield from all_steps(step.packed if isinstance(step, ChunkStep | SizedStep) else ())


def numbers_of(step: Any) -> dict[str, int | str]:
    """The expressions of a step, by the key in which each stands."""
    out = {key: getattr(step, key, None) for key in ("first", "seed", "number")}
    out |= {"size": step.size} if isinstance(step, ChunkStep) else {}
    return {key: text for key, text in out.items() if text is not None}


def per_item(step: Any) -> bool:
    """Whether a step may be another one for every item."""
    iv = getattr(step, "iv", b"")
    named = isinstance(iv, PathSum | str) or getattr(step, "field", None) is not None
    return named or any(isinstance(text, str) for text in numbers_of(step).values())

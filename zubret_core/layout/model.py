"""The parts of a layout, as pydantic models: what a layout file may say.

docs/layout-language.md explains each of them; the JSON Schema of the language is
`Layout.model_json_schema()`.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator

INTEGERS = ("u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64")
"""The integer types: u unsigned, i signed, and the width in bits."""


def _hex_bytes(value: object) -> object:
    """Bytes written as hexadecimal pairs, spaces allowed."""
    if isinstance(value, str):
        try:
            return bytes.fromhex(value)
        except ValueError:
            raise ValueError(f'"{value}" is not a row of hexadecimal byte pairs such as "4f 67"') from None
    return value


HexBytes = Annotated[bytes, BeforeValidator(_hex_bytes, json_schema_input_type=str)]
Number = int | str
"""A whole number, or an expression on earlier fields."""

ItemMeaning = Literal[
    "entry.path",
    "entry.at",
    "entry.stored",
    "entry.size",
    "entry.method",
    "entry.crc32",
    "stream.id",
    "stream.name",
    "stream.at",
    "stream.stored",
    "stream.codec",
    "stream.rate",
    "stream.channels",
    "stream.block_size",
    "stream.frames",
    "stream.looped",
    "stream.loop_start",
    "stream.loop_end",
]


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Tied(_Strict):
    """What connects a stored number or text with its meaning.

    meaning = stored * unit + base, or values[stored]; writing inverts it.
    """

    name: str = Field(pattern=r"^[a-z][a-z0-9_]*$")
    means: str | None = None
    unit: Number = 1
    base: Number = 0
    values: dict[int, int | str] | None = None
    digits: int = Field(0, ge=0, le=20, description="an id is shown with at least so many digits")
    over: Literal["stored", "unpacked"] = Field("unpacked", description="which bytes a sum covers")

    @model_validator(mode="after")
    def _one_way_back(self):
        if self.values and len(set(self.values.values())) != len(self.values):
            raise ValueError("two stored numbers have the same value, so writing could not choose between them")
        return self


class BitPart(Tied):
    """Some bits of an integer; parts are given from the lowest bit upwards."""

    bits: int = Field(ge=1, le=63)


class FieldModel(Tied):
    """One stored field."""

    type: Literal["u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64", "f32", "f64", "text", "bytes"]
    length: int | None = Field(None, ge=1, le=1 << 16)
    encoding: str = "utf-8"
    equals: int | HexBytes | None = None
    one_of: list[int] | None = None
    parts: list[BitPart] | None = None

    @model_validator(mode="after")
    def _consistent(self):
        sized = self.type in ("text", "bytes")
        if sized and not self.length:
            raise ValueError(f"a field of type {self.type} needs a length in bytes")
        if not sized and self.length:
            raise ValueError(f"a field of type {self.type} has its own length; leave `length` out")
        if self.parts:
            if not self.type.startswith("u"):
                raise ValueError("only an unsigned integer can have parts")
            if sum(p.bits for p in self.parts) > int(self.type[1:]):
                raise ValueError(f"the parts have more bits than {self.type}")
        try:
            "".encode(self.encoding)
        except LookupError:
            raise ValueError(f'"{self.encoding}" is not a known text encoding') from None
        return self


class Region(_Strict):
    """A place in the file with fields, once or repeated."""

    name: str = Field(pattern=r"^[a-z][a-z0-9_]*$")
    at: Number | None = Field(None, description="left out where a field means `<this region>.at`")
    repeat: Number | None = None
    align: int = Field(1, ge=1, le=1 << 24)
    fields: list[FieldModel] = Field(min_length=1)

    @model_validator(mode="after")
    def _names_once(self):
        names = [f.name for f in self.fields] + [p.name for f in self.fields for p in f.parts or ()]
        for name in names:
            if names.count(name) > 1:
                raise ValueError(f'the name "{name}" stands twice in region {self.name}')
        return self


class Fill(_Strict):
    """How payloads, or the file's end, are aligned, and the byte that fills the space before."""

    align: int = Field(1, ge=1, le=1 << 24)
    fill: Annotated[HexBytes, Field(min_length=1, max_length=1)] = b"\0"


class Mark(_Strict):
    """Bytes that stand at a fixed place in every file of the format."""

    at: int = Field(ge=0)
    bytes: HexBytes


class Layout(_Strict):
    """A whole layout."""

    zubret: Literal[1]
    id: str = Field(pattern=r"^[a-z0-9][a-z0-9-]*$")
    title: str = ""
    describes: Literal["archive", "bank"]
    byte_order: Literal["little", "big"] = "little"
    recognise: list[Mark] = Field(min_length=1)
    regions: list[Region] = Field(min_length=1)
    payload: Fill = Fill()
    end: Fill = Fill()
    keeps: list[Literal["rate", "channels", "codec", "block_size", "length", "loop"]] = Field(
        default=[], description="what a replacement stream may not change"
    )

    @model_validator(mode="after")
    def _ties(self):
        kind = "entry" if self.describes == "archive" else "stream"
        names = [r.name for r in self.regions]
        if len(set(names)) != len(names):
            raise ValueError("two regions have the same name")
        allowed = set(ItemMeaning.__args__)  # type: ignore[attr-defined]
        whole = {"entries.count", "streams.count", "payload.at", "file.size", "bank.name", "bank.language"}
        whole |= {f"{name}.{what}" for name in names for what in ("at", "crc32")}
        item_regions = []
        tied: set[str | None] = set()
        for region in self.regions:
            if (region.at is None) != (f"{region.name}.at" in tied):
                raise ValueError(
                    f"region {region.name} needs either `at` or an earlier field that means {region.name}.at, not both"
                )
            tied |= {t.means for t in ties_of(region)}
            means = [t.means for t in ties_of(region) if t.means]
            items = [m for m in means if m in allowed]
            for m in means:
                if m not in allowed | whole:
                    raise ValueError(f'"{m}" is not a meaning that Zubret knows (field of region {region.name})')
                if means.count(m) > 1:
                    raise ValueError(f'"{m}" stands twice in region {region.name}')
            if items:
                item_regions.append(region)
                if any(not m.startswith(kind + ".") for m in items):
                    raise ValueError(f"a layout that describes a {self.describes} ties only {kind}.* meanings")
                if region.repeat is None:
                    raise ValueError(f"region {region.name} holds {kind}.* meanings, so it needs `repeat`")
        if len(item_regions) != 1:
            raise ValueError(f"exactly one region must hold {kind}.* meanings; here {len(item_regions)} do")
        present = {t.means for t in ties_of(item_regions[0])}
        need = ["path", "at", "stored"] if kind == "entry" else ["id", "at", "stored", "codec", "rate", "frames"]
        for what in need:
            if f"{kind}.{what}" not in present:
                raise ValueError(f"no field of region {item_regions[0].name} means {kind}.{what}")
        return self

    @property
    def items(self) -> Region:
        """The region whose records are the entries or streams."""
        wanted = "entry." if self.describes == "archive" else "stream."
        return next(r for r in self.regions if any((t.means or "").startswith(wanted) for t in ties_of(r)))


def ties_of(region: Region) -> list[Tied]:
    """The fields of a region and the parts of its bit fields, in order."""
    out: list[Tied] = []
    for field in region.fields:
        out.append(field)
        out.extend(field.parts or ())
    return out

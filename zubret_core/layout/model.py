"""The parts of a layout, as pydantic models: what a layout file may say.

docs/layout-language.md explains each of them; the JSON Schema of the language is `Layout.model_json_schema()`.
"""

from __future__ import annotations

import keyword
import re
from collections.abc import Iterator
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, model_validator

from ..codec import CODECS
from ..source.packing import METHODS
from ..source.sums import NAME_HASHES, SUMS
from .codecs import CodecModel
from .expression import NotAnExpression, compiled

NAME = r"^[a-z][a-z0-9_]*$"
INTEGER = re.compile(r"[ui](8|16|24|32|48|64)$")
WHOLE = ("stored", "unpacked", "record", "file", "span", "listed")
"""What a sum may cover besides a region."""


def _hex_bytes(value: object) -> object:
    """Bytes written as hexadecimal pairs, spaces allowed."""
    if isinstance(value, str):
        try:
            return bytes.fromhex(value)
        except ValueError:
            raise ValueError(f'"{value}" is not a row of hexadecimal byte pairs such as "4f 67"') from None
    return value


def _expression(value: int | str) -> int | str:
    compiled(value)  # NotAnExpression is a ValueError
    return value


def _named_step(value: object) -> object:
    """A step without settings may be just its name."""
    return {"by": value} if isinstance(value, str) else value


HexBytes = Annotated[bytes, BeforeValidator(_hex_bytes, json_schema_input_type=str)]
Number = Annotated[int | str, AfterValidator(_expression)]
"""A whole number, or an expression on earlier fields."""
Order = Literal["little", "big"]
IntType = Literal["u8", "u16", "u24", "u32", "u48", "u64"]


def _no_keyword(name: str) -> str:
    if keyword.iskeyword(name):
        raise ValueError(f'"{name}" can\'t be used as a name: it would mean something else in an expression')
    return name


Name = Annotated[str, Field(pattern=NAME), AfterValidator(_no_keyword)]

ENTRY = ("path", "name", "folder", "id", "at", "end", "stored", "size", "method", "volume", "head")
STREAM = (
    "id", "name", "at", "end", "stored", "size", "codec", "rate", "channels", "block_size", "frames", "looped", "loop_start",
    "loop_end", "volume", "head",
)  # fmt: skip
LISTED = ("path", "size")
FOLDER = ("name", "parent", "first", "count")
MEANINGS = {
    **{f"entry.{m}": "entry" for m in ENTRY},
    **{f"stream.{m}": "stream" for m in STREAM},
    **{f"folder.{m}": "folder" for m in FOLDER},
    **{f"listed.{m}": "listed" for m in LISTED},
}
"""Meanings of fields that repeat, and what they belong to."""
ONCE = ("entries.count", "streams.count", "payload.at", "file.size", "bank.name", "bank.language", "bank.setup")
OF_REGION = ("at", "end", "stored", "size", "count")


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class CrcModel(_Strict):
    """A CRC by its parameters."""

    width: int = Field(ge=8, le=64)
    poly: int = Field(ge=0)
    init: int = Field(0, ge=0)
    refin: bool = False
    refout: bool = False
    xorout: int = Field(0, ge=0)


class SumModel(_Strict):
    """A checksum or digest: by which rule and over which bytes."""

    by: str | CrcModel
    of: str = Field(description="stored, unpacked, record, file, span, listed, or the name of a region")
    start: Number = Field(0, description="of a span: its first byte in the file")
    end: Number = Field("file.size", description="of a span: the byte behind its last")
    blank: HexBytes | None = Field(None, description="the byte that stands for the sum's own field while it is taken")

    @model_validator(mode="after")
    def _known(self):
        if isinstance(self.by, str) and self.by not in SUMS:
            raise ValueError(f'"{self.by}" is not a sum that Zubret knows ({", ".join(SUMS)})')
        return self


class HashModel(_Strict):
    """How an id comes from an entry's path."""

    by: str
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


class Tied(_Strict):
    """What connects a stored number or text with its meaning.

    meaning = stored * unit + base, or values[stored]; writing inverts it.
    """

    name: Name
    means: str | None = None
    unit: Number = 1
    base: Number = 0
    values: dict[int, int | str] | None = None
    digits: int = Field(0, ge=0, le=20, description="an id is shown with at least so many digits")
    shown: Literal["decimal", "hex"] = "decimal"
    hash: HashModel | None = Field(None, description="how an id comes from the entry's path")
    sum: SumModel | None = None
    pool: Name | None = Field(None, description="the region of texts in which the number is an offset")

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

    @property
    def integer(self) -> bool:
        """Whether it is stored as a plain integer."""
        return INTEGER.match(self.type) is not None

    @property
    def numeric(self) -> bool:
        """Whether it holds a whole number."""
        return self.integer or self.type in ("varint", "digits")

    @property
    def width(self) -> int | None:
        """Its bytes where they are always the same, else None."""
        if self.type in ("f32", "f64") or self.integer:
            return int(self.type[1:]) // 8
        return self.length if isinstance(self.length, int) else None

    @model_validator(mode="after")
    def _consistent(self):
        ways = sum(x is not None for x in (self.length, self.counted, self.ends))
        if self.type in ("text", "bytes") and ways != 1:
            raise ValueError(f"a field of type {self.type} needs one of length (bytes), counted, or ends")
        if self.type == "digits" and (ways != 1 or not isinstance(self.length, int)):
            raise ValueError("a field of type digits needs a length in bytes")
        if self.type not in ("text", "bytes", "digits") and ways:
            raise ValueError(f"a field of type {self.type} has its own length; leave length, counted and ends out")
        if isinstance(self.length, int) and not 1 <= self.length <= 1 << 20:
            raise ValueError("a length is a number from 1 to 1,048,576, or the name of a field")
        if self.ends is not None and len(self.ends) not in (1, 2, 4):
            raise ValueError("`ends` is 1, 2 or 4 bytes")
        if self.parts:
            if not self.type.startswith("u"):
                raise ValueError("only an unsigned integer can have parts")
            if sum(p.bits for p in self.parts) > int(self.type[1:]):
                raise ValueError(f"the parts have more bits than {self.type}")
        if self.pool and not self.numeric:
            raise ValueError("only a number can be an offset in a pool")
        try:
            "".encode(self.encoding)
        except LookupError:
            raise ValueError(f'"{self.encoding}" is not a known text encoding') from None
        return self


class PackStep(_Strict):
    """A compression."""

    by: Literal[METHODS]  # type: ignore[valid-type]
    level: int | None = Field(None, ge=-20, le=22)


class AesStep(_Strict):
    """AES with a key from the key ring."""

    by: Literal["aes"]
    mode: Literal["ecb", "cbc", "ctr"] = "ecb"
    key: Name
    iv: HexBytes | str = Field(b"", description="16 bytes in hexadecimal pairs, or a field of 16 bytes; zeros if empty")


class RowStep(_Strict):
    """A repeating row of bytes, XORed or added."""

    by: Literal["xor", "add"]
    bytes: HexBytes = b""
    key: Name | None = None

    @model_validator(mode="after")
    def _one(self):
        if bool(self.bytes) == bool(self.key):
            raise ValueError(f"a step by {self.by} needs either bytes or a key")
        return self


class SwapStep(_Strict):
    """Byte order turned round."""

    by: Literal["swap"]
    width: Literal[2, 4, 8]


class ChunkStep(_Strict):
    """Pieces that are packed one by one."""

    by: Literal["chunks"]
    size: int = Field(ge=16, le=1 << 26, description="unpacked bytes of a chunk")
    sizes: IntType = "u32"
    byte_order: Order = "little"
    place: Literal["table", "inline"] = "table"
    plain: Literal["never", "equal", "top"] = "never"
    align: int = Field(1, ge=1, le=1 << 16)
    packed: list[StepModel] = Field(min_length=1, max_length=4)


StepModel = Annotated[
    PackStep | AesStep | RowStep | SwapStep | ChunkStep,
    Field(discriminator="by"),
    BeforeValidator(_named_step, json_schema_input_type=Any),
]
Steps = Annotated[list[StepModel], Field(max_length=8)]


class Body(_Strict):
    """The payload that follows each record of a region, before the next record."""

    size: Name = Field(description="the field of the record that says how many bytes")
    align: int = Field(1, ge=1, le=1 << 24)
    fill: Annotated[HexBytes, Field(min_length=1, max_length=1)] = b"\0"
    nested: list[str] = Field(default=[], description="ids of records whose body is records again")
    skip: int = Field(0, ge=0, le=1 << 16, description="bytes at the beginning of a nested body")


class Pool(_Strict):
    """A region of texts, one behind the other."""

    encoding: str = "utf-8"
    ends: HexBytes = b"\0"


class Region(_Strict):
    """A place in a file with fields, once or repeated; or a pool of texts."""

    name: Name
    file: Name | None = Field(None, description="one of `files`; left out: the described file")
    when: Number | None = None
    at: Number | None = Field(None, description="left out where a field means `<this region>.at`, or with `after`")
    origin: str = Field("file", description="what `at` counts from: file, end, or the start of a region")
    after: Name | None = Field(None, description="the region stands directly behind this one")
    repeat: Number | None = None
    until: Number | None = Field(None, description="`end`, `zero`, or an expression that is true of the last record")
    sentinel: bool = Field(False, description="the last record is no entry: it only says where the payloads end")
    size: Number | None = Field(None, description="bytes of the region, where the records do not say")
    align: int = Field(1, ge=1, le=1 << 24)
    byte_order: Order | None = None
    group: str = ""
    fields: list[FieldModel] = []
    body: Body | None = None
    pool: Pool | None = None
    packed: Steps = []

    @property
    def once(self) -> bool:
        """Whether it has exactly one record."""
        return self.repeat is None and self.until is None and self.pool is None

    @property
    def fixed(self) -> bool:
        """Whether all its records have the same number of bytes."""
        return all(f.width is not None for f in self.fields)

    @model_validator(mode="after")
    def _consistent(self):
        names = [t.name for t in ties_of(self)]
        for name in names:
            if names.count(name) > 1:
                raise ValueError(f'the name "{name}" stands twice in region {self.name}')
        if bool(self.fields) == bool(self.pool):
            raise ValueError(f"region {self.name} needs fields, or `pool`, and not both")
        if self.repeat is not None and self.until is not None:
            raise ValueError(f"region {self.name} has both repeat and until")
        if self.body and (self.packed or self.file):
            raise ValueError(f"region {self.name} has a body, so it can't be packed or stand in another file")
        if self.body and self.body.size not in names:
            raise ValueError(f"region {self.name} has no field {self.body.size} for the body's size")
        if (self.packed or self.pool) and self.size is None:
            raise ValueError(f"region {self.name} needs `size`: its bytes in the file")
        before: set[str] = set()
        for field in self.fields:
            if isinstance(field.length, str) and field.length not in before:
                where = f"length of field {field.name} of region {self.name}"
                raise ValueError(f'"{field.length}" is no earlier integer ({where})')
            if field.integer or field.type == "varint":
                before |= {t.name for t in (field, *(field.parts or ()))}
        return self


class Fill(_Strict):
    """How payloads, or the file's end, are aligned, and the byte that fills the space before."""

    align: int = Field(1, ge=1, le=1 << 24)
    fill: Annotated[HexBytes, Field(min_length=1, max_length=1)] = b"\0"
    least: int = Field(0, ge=0, le=1 << 24, description="bytes of fill that always stand there")


class PayloadModel(Fill):
    """Where payloads stand and how all of them are packed."""

    file: Name | None = Field(None, description="one of `files`; with {volume} in its name, entry.volume chooses")
    packed: Steps = []
    sizes: Literal["given", "next"] = Field("given", description="next: a payload ends where the next one begins")


class FileModel(_Strict):
    """A file beside the described one that belongs to it."""

    name: str = Field(min_length=1, max_length=200, description="{stem}, {name} and {volume:02} may stand in it")
    limit: int | None = Field(None, ge=1, description="bytes that one volume may have at most")
    first: int = Field(0, ge=0, le=1, description="the number of the first volume")

    @model_validator(mode="after")
    def _inside(self):
        if "/" in self.name or "\\" in self.name or self.name in (".", ".."):
            raise ValueError("a companion stands in the same folder, so its name has no slash")
        if re.search(r"[{}]", re.sub(r"\{(stem|name|volume(:0?\d{1,2})?)\}", "", self.name)):
            raise ValueError("only {stem}, {name} and {volume} or {volume:02} may stand in braces")
        return self

    @property
    def volumes(self) -> bool:
        """Whether there are several, by number."""
        return "{volume" in self.name

    def called(self, described: str, volume: int = 0) -> str:
        """The name beside a described file; `described` is that file's name without folders."""
        stem = described.rpartition(".")[0] or described
        return self.name.format(stem=stem, name=described, volume=volume)


class KeyModel(_Strict):
    """A key that the ring must hold."""

    length: list[int] = Field(default=[16, 24, 32], description="bytes that it may have")
    title: str = ""


class Mark(_Strict):
    """Bytes that stand at a fixed place in every file of the format; a place below 0 counts from the end."""

    at: int
    bytes: HexBytes


class Layout(_Strict):
    """A whole layout."""

    zubret: Literal[1]
    id: str = Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=60)
    title: str = ""
    describes: Literal["archive", "bank", "list"]
    byte_order: Order = "little"
    recognise: list[Mark] = Field(default=[], max_length=16)
    names: list[str] = Field(default=[], description="endings of file names, for formats without marks")
    files: dict[Name, FileModel] = {}
    keys: dict[Name, KeyModel] = {}
    packed: Steps = Field(default=[], description="steps over the whole file")
    size: int = Field(1 << 32, ge=1, description="unpacked bytes of a packed file at most")
    methods: dict[str, Steps] = {"plain": []}
    codecs: dict[str, CodecModel] = Field(
        default={}, description="codecs with parameters, by names of the layout's own"
    )
    given: dict[Literal["stream.codec", "stream.rate", "stream.channels", "stream.block_size"], int | str] = Field(
        default={}, description="meanings that no field holds, the same for every stream"
    )
    regions: list[Region] = Field(min_length=1, max_length=64)
    payload: PayloadModel = PayloadModel()
    end: Fill = Fill()
    keeps: list[Literal["rate", "channels", "codec", "block_size", "length", "loop"]] = Field(
        default=[], description="what a replacement stream may not change"
    )

    @property
    def kind(self) -> str:
        """What its items are: entry, stream or listed."""
        return {"archive": "entry", "bank": "stream", "list": "listed"}[self.describes]

    def item_regions(self) -> list[Region]:
        """The regions whose records are the entries or streams."""
        return [r for r in self.regions if r.body or any(MEANINGS.get(t.means or "") == self.kind for t in ties_of(r))]

    @model_validator(mode="after")
    def _whole(self):
        if not self.recognise and not self.names:
            raise ValueError("a layout needs `recognise` (marks), or `names` (endings) for formats without marks")
        regions = [r.name for r in self.regions]
        for name in regions:
            if regions.count(name) > 1:
                raise ValueError(f"two regions have the name {name}")
        for region in self.regions:
            self._check_region(region, regions)
        self._check_steps()
        self._check_items()
        return self

    def _check_region(self, region: Region, regions: list[str]) -> None:
        tied = {t.means for r in self.regions[: regions.index(region.name)] for t in ties_of(r)}
        places = sum((region.at is not None, region.after is not None, f"{region.name}.at" in tied))
        if places != 1:
            raise ValueError(
                f"region {region.name} needs exactly one of `at`, `after`, and an earlier field that means "
                f"{region.name}.at"
            )
        before = regions[: regions.index(region.name)]
        for word, name in (("after", region.after), ("origin", region.origin)):
            if name is not None and name not in before and not (word == "origin" and name in ("file", "end")):
                raise ValueError(f'"{name}" is no earlier region ({word} of region {region.name})')
        if region.file is not None and region.file not in self.files:
            raise ValueError(f'"{region.file}" is not one of `files` (region {region.name})')
        for tie in ties_of(region):
            self._check_tie(region, tie, regions)
        conditional = [t for f in region.fields for t in (f, *(f.parts or ())) if f.when is None]
        means = [t.means for t in conditional if t.means]
        for m in means:
            if means.count(m) > 1:
                raise ValueError(f'"{m}" stands twice in region {region.name}')
        if region.once and any(t.means in MEANINGS for t in ties_of(region)):
            raise ValueError(f"region {region.name} holds meanings of many records, so it needs `repeat` or `until`")

    def _check_tie(self, region: Region, tie: Tied, regions: list[str]) -> None:
        where = f"field {tie.name} of region {region.name}"
        if tie.pool is not None and not any(r.name == tie.pool and r.pool for r in self.regions):
            raise ValueError(f'"{tie.pool}" is no region with a pool ({where})')
        if tie.sum and tie.sum.of not in WHOLE and tie.sum.of not in regions:
            raise ValueError(f'a sum covers {", ".join(WHOLE)} or a region, not "{tie.sum.of}" ({where})')
        means = tie.means
        if means is None or means in ONCE:
            return
        if means in MEANINGS:
            if MEANINGS[means] not in (self.kind, "folder"):
                raise ValueError(f"a layout of this kind ({self.describes}) ties only {self.kind}.* meanings ({where})")
            return
        owner, _, what = means.partition(".")
        if not (owner in regions and what in OF_REGION) and not (owner in self.files and what in ("size", "count")):
            raise ValueError(f'"{means}" is not a meaning that Zubret knows ({where})')

    def _check_steps(self) -> None:
        def walk(steps: list) -> Iterator:
            for step in steps:
                yield step
                yield from walk(step.packed if isinstance(step, ChunkStep) else [])

        chains = [self.packed, self.payload.packed, *self.methods.values(), *(r.packed for r in self.regions)]
        for step in [s for chain in chains for s in walk(chain)]:
            key = getattr(step, "key", None)
            if key is not None and key not in self.keys:
                raise ValueError(f'"{key}" is not one of `keys` (a step by {step.by})')
        if self.payload.file is not None and self.payload.file not in self.files:
            raise ValueError(f'"{self.payload.file}" is not one of `files` (payload)')

    def _check_items(self) -> None:
        kind, items = self.kind, self.item_regions()
        if not items:
            raise ValueError(f"at least one region must hold {kind}.* meanings")
        present = {t.means for r in items for t in ties_of(r)}
        if kind == "listed":
            if "listed.path" not in present or any(r.body for r in items):
                raise ValueError("a list needs a field that means listed.path, and no bodies")
            return
        body = any(r.body for r in items)
        if kind == "entry" and not present & {"entry.path", "entry.name", "entry.id"}:
            raise ValueError("entries need entry.path, entry.name or entry.id")
        if kind == "stream":
            for what in ("codec", "rate"):
                if f"stream.{what}" not in present | set(self.given):
                    raise ValueError(f"no field means stream.{what}, and `given` does not have it")
            for what in self.given:
                if what in present:
                    raise ValueError(f"{what} is given, and a field means it, too")
                if what != "stream.codec" and not isinstance(self.given[what], int):
                    raise ValueError(f"{what} is a whole number")
            named = [
                v for r in items for t in ties_of(r) if t.means == "stream.codec" for v in (t.values or {}).values()
            ]
            named += [self.given[what] for what in self.given if what == "stream.codec"]
            for name in named:
                if name not in CODECS and name not in self.codecs:
                    known = ", ".join([*self.codecs, *CODECS])
                    raise ValueError(f'"{name}" is no codec, and not one of `codecs`; there are {known}')
        if not body and f"{kind}.at" not in present:
            raise ValueError(f"no field means {kind}.at")
        if not body and not present & {f"{kind}.stored", f"{kind}.end"} and self.payload.sizes == "given":
            raise ValueError(f"no field means {kind}.stored or {kind}.end; say payload: {{sizes: next}} if none does")
        if f"{kind}.size" not in present and any(map(_shrinks, [self.payload.packed, *self.methods.values()])):
            raise ValueError(f"packed payloads need a field that means {kind}.size: how many bytes come out")


def _shrinks(steps: list) -> bool:
    return any(isinstance(s, PackStep | ChunkStep) for s in steps)


def ties_of(region: Region) -> list[Tied]:
    """The fields of a region and the parts of its bit fields, in order."""
    out: list[Tied] = []
    for field in region.fields:
        out.append(field)
        out.extend(field.parts or ())
    return out


KNOWN_KEYS = sorted({name for model in _Strict.__subclasses__() for name in model.model_fields} | {"bits", "type"})
"""Every key of the language, for suggestions."""

__all__ = ["KNOWN_KEYS", "FieldModel", "Layout", "NotAnExpression", "Region", "Tied", "ties_of"]

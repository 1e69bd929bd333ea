"""The parts of a layout, as pydantic models: what a layout file may say.

docs/layout-language.md explains each of them; the JSON Schema of the language is `Layout.model_json_schema()`. What
needs knowledge of field types, or of several regions at once, is checked by `loading`.
"""

from __future__ import annotations

import re
from typing import Any, Literal

from pydantic import Field, PrivateAttr, model_validator

from .codecs import CodecModel
from .fields import FieldModel, Tied
from .steps import Steps
from .terms import MEANINGS, FillByte, HexBytes, IntType, Name, Number, Order, Strict


class Body(Strict):
    """The payload that follows each record of a region, before the next record."""

    size: Name = Field(description="the field of the record that says how many bytes")
    align: int = Field(1, ge=1, le=1 << 24)
    fill: FillByte = b"\0"
    nested: list[int | str] = Field(default=[], description="ids of records whose body is records again")
    skip: int = Field(0, ge=0, le=1 << 16, description="bytes at the beginning of a nested body")


NO_BODY = Body(size="none")
"""Of records that stand behind the bodies of others."""


class Pool(Strict):
    """A region of texts, one behind the other."""

    encoding: str = "utf-8"
    ends: HexBytes = Field(
        b"\0", description="the bytes behind each; none where it is counted, or its record says how long it is"
    )
    counted: IntType | None = Field(None, description="the length stands before, as this type")

    @model_validator(mode="after")
    def _counted(self):
        if self.counted is not None and "ends" not in self.model_fields_set:
            return self.model_copy(update={"ends": b""})
        return self


class Guard(Strict):
    """Space that the format wants beside a payload, as bytes or as frames of the stream."""

    bytes: Number = 0
    frames: Number = 0
    fill: FillByte | None = Field(None, description="left out: the payload's own fill")


class Stand(Strict):
    """How the payloads of a group stand: on which grid, with which space around them."""

    align: Number = Field(1, description="a number, or an expression on fields of the record")
    fill: FillByte = b"\0"
    before: Guard = Guard()
    behind: Guard = Guard()


class PayloadModel(Stand):
    """Where payloads stand and how all of them are packed."""

    file: Name | None = Field(None, description="one of `files`; with {volume} in its name, entry.volume chooses")
    packed: Steps = []
    plain: Literal["never", "equal"] = Field(
        "never", description="equal: a payload whose stored and unpacked bytes are as many stands there as it is"
    )
    sizes: Literal["given", "next"] = Field("given", description="next: a payload ends where the next one begins")


class Follows(Strict):
    """At which moments of a stream a table has a record. Without `every`, its records are marks in time."""

    every: int | None = Field(None, ge=1, le=1 << 32, description="a point every so many")
    unit: Literal["frames", "packets", "bytes", "milliseconds"] = "frames"
    first: int = Field(0, ge=0, le=1 << 20, description="the number of the first point")
    end: bool = Field(False, description="a last point says where the stream ends")


class Region(Strict):
    """A place in a file with fields, once or repeated; or a pool of texts."""

    name: Name
    use: str | None = Field(
        None, description="layout.region: a region of another layout, but for what is said of it here"
    )
    file: Name | None = Field(None, description="one of `files`; left out: the described file")
    when: Number | None = None
    at: Number | None = Field(None, description="left out where a field means `<this region>.at`, or with `after`")
    origin: str = Field("file", description="what `at` counts from: file, end, or the start of a region")
    chunk: int | str | None = Field(
        None,
        description="with an `origin` whose records have bodies: it counts from the body of the first record of this id; with `each`, "
        "one such region for every one",
    )
    each: Name | None = Field(
        None, description="one such region for each record of an earlier region, whose fields expressions may name"
    )
    after: Name | None = Field(None, description="the region stands directly behind this one")
    repeat: Number | None = None
    until: Number | None = Field(None, description="`end`, `zero`, or an expression that is true of the last record")
    items: Number | None = Field(
        None, description="which records are entries or streams: those of which this is not 0; others are carried over"
    )
    sentinel: bool = Field(False, description="the last record is no entry: it only says where the payloads end")
    size: Number | None = Field(None, description="bytes of the region, where the records do not say")
    align: int = Field(1, ge=1, le=1 << 24)
    byte_order: Order | None = None
    group: str = ""
    follows: Follows | None = Field(
        None, description="the records follow from the sound of the stream for which the region stands"
    )
    payload: Stand | None = Field(None, description="how the payloads of this group stand, where not as all others")
    fields: list[FieldModel] = Field([], description="one after the other; none where the region only names a place")
    body: Body | None = None
    pool: Pool | None = None
    packed: Steps = []

    @property
    def single(self) -> bool:
        """Whether it has exactly one record wherever it stands."""
        return self.repeat is None and self.until is None and self.pool is None

    @property
    def linked(self) -> bool:
        """Whether its records say where the next one stands."""
        return any(t.means == f"{self.name}.next" for t in ties_of(self))

    @property
    def once(self) -> bool:
        """Whether it stands in a file once, with one record."""
        return self.single and self.each is None and not self.linked

    @property
    def ends_itself(self) -> bool:
        """Whether the record of which `until` is true ends it, and is no item."""
        return self.until not in (None, "end", "zero")

    @model_validator(mode="after")
    def _consistent(self):
        if bool(self.fields) == bool(self.pool) and (self.pool or "fields" not in self.model_fields_set):
            raise ValueError(f"region {self.name} needs fields, or `pool`, and not both")
        if not self.fields and not self.pool and (not self.single or self.body):
            raise ValueError(f"region {self.name} has no fields, so it stands once and has no body")
        if self.repeat is not None and self.until is not None:
            raise ValueError(f"region {self.name} has both repeat and until")
        if self.body and (self.packed or self.file):
            raise ValueError(f"region {self.name} has a body, so it can't be packed or stand in another file")
        if self.each and (self.body or self.pool or self.file or self.packed):
            raise ValueError(
                f"region {self.name} stands for each record of another, so it has no body, pool, file or packing"
            )
        if self.linked and (not self.single or self.body or self.packed):
            raise ValueError(
                f"region {self.name} is a list of linked records, so it has no repeat, until, body or packing"
            )
        if (self.packed or self.pool) and self.size is None:
            raise ValueError(f"region {self.name} needs `size`: its bytes in the file")
        return self


class End(Strict):
    """How the file's end is aligned, and the byte that fills the space before."""

    align: int = Field(1, ge=1, le=1 << 24)
    fill: FillByte = b"\0"
    least: int = Field(0, ge=0, le=1 << 24, description="bytes of fill that always stand there")


class FileModel(Strict):
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


class KeyModel(Strict):
    """A key that the ring must hold."""

    length: list[int] = Field(default=[16, 24, 32], description="bytes that it may have")
    title: str = ""


class NumberAt(Strict):
    """A place that stands in the file as a number: place = number * unit + base."""

    type: IntType
    at: int
    byte_order: Order = "little"
    unit: int = Field(1, ge=1, le=1 << 32)
    base: int = 0


class Mark(Strict):
    """Bytes that stand at the same place in every file of the format, or one of several such marks. A place below 0 counts from the
    end; it may also be given by a number in the file."""

    at: int | NumberAt | None = None
    bytes: HexBytes | None = None
    any: list[Mark] | None = Field(None, min_length=2, max_length=16)

    @property
    def weight(self) -> int:
        """How many bytes have to be right."""
        return min(m.weight for m in self.any) if self.any else len(self.bytes or b"")

    @model_validator(mode="after")
    def _one(self):
        if self.any is not None and (self.at is not None or self.bytes is not None):
            raise ValueError("a mark is either a place with bytes, or `any` of several marks")
        if self.any is None and (self.at is None or not self.bytes):
            raise ValueError("a mark needs a place, `at`, and `bytes`")
        return self


class Sizes(Strict):
    """The bytes that a file of the format may have."""

    least: int = Field(0, ge=0)
    most: int | None = Field(None, ge=0)
    multiple: int = Field(1, ge=1)

    def fit(self, size: int) -> bool:
        """Whether a file may be one by its size."""
        return self.least <= size and (self.most is None or size <= self.most) and size % self.multiple == 0


class Layout(Strict):
    """A whole layout."""

    zubret: Literal[1]
    id: str = Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=60)
    title: str = ""
    describes: Literal["archive", "bank", "stream", "list", "table"]
    byte_order: Order = "little"
    recognise: list[Mark] = Field(default=[], max_length=16)
    names: list[str] = Field(default=[], description="endings of file names, for formats without marks")
    paths: list[str] = Field(
        default=[], description="patterns of paths with * and ?: of a file, or of an entry in its archive"
    )
    inside: list[str] = Field(default=[], description="ids of layouts, or zip, tar, iso: only entries of such archives")
    sizes: Sizes | None = Field(None, description="bytes that such a file may have")
    whole: bool = Field(False, description="a file is one only where all of it can be read so")
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
    use: str | None = Field(
        None, description="the id of another layout, all of which stands here where this text says nothing else"
    )
    set: dict[Name, int | str] = Field(
        default={}, description="what the parameters of the layout that is used shall be"
    )
    without: list[Name] = Field(default=[], description="regions of the layout that is used which are left out")
    parameters: dict[Name, int | str] = Field(
        default={}, description="values that stand in the text as $name, which a layout that uses this one may set"
    )
    regions: list[Region] = Field(default=[], max_length=64)
    payload: PayloadModel = PayloadModel()
    end: End = End()
    keeps: list[Literal["rate", "channels", "codec", "block_size", "length", "loop"]] = Field(
        default=[], description="what a replacement stream may not change"
    )
    _memory: dict[Any, Any] = PrivateAttr(default_factory=dict)

    @property
    def memory(self) -> dict[Any, Any]:
        """What readers work out once for all files of this layout, each under a key of its own."""
        return self._memory

    @property
    def kind(self) -> str:
        """What its items are: entry, stream, listed or row."""
        kinds = {"archive": "entry", "bank": "stream", "stream": "stream", "list": "listed", "table": "row"}
        return kinds[self.describes]

    @property
    def evidence(self) -> int:
        """How much speaks for a file that it recognises, about in bytes that had to be right: of several layouts that fit, the
        one with more is taken."""
        marks = sum(m.weight for m in self.recognise)
        return marks + bool(self.names) + bool(self.paths) + bool(self.inside) + bool(self.sizes) + 4 * self.whole

    @property
    def has_payloads(self) -> bool:
        """Whether its items stand somewhere, each with bytes of its own."""
        return self.kind in ("entry", "stream")

    @property
    def sizes_given(self) -> bool:
        """Whether fields say how long the payloads are; else each reaches to what stands behind it."""
        if self.describes != "stream" or self.piece_regions():
            return self.payload.sizes == "given"
        return any(t.means in ("stream.stored", "stream.end") for r in self.regions for t in ties_of(r))

    @property
    def loops_to_end(self) -> bool:
        """Whether streams that loop do so to their end, since nothing says where else."""
        means = {t.means for r in self.regions for t in ties_of(r)} | set(self.given)
        ends = {"stream.loop_end", "stream.loop_length"}
        return bool(means & {"stream.looped", "stream.loop_start"}) and not means & ends

    def item_regions(self) -> list[Region]:
        """The regions whose records are its items; what others stand in for each record is none, nor are chunks that hold regions."""
        own = [r for r in self.regions if any(_owner(t) == self.kind for t in ties_of(r))]
        others = [*own, *self.piece_regions()]
        own += [r for r in self.regions if r.body and r not in others and not self.frames(r)]
        around = {name for r in own for name in self.around(r)}
        return [r for r in self.regions if r in own and r.name not in around]

    def piece_regions(self) -> list[Region]:
        """The regions whose records say where the pieces of payloads stand."""
        return [r for r in self.regions if any(_owner(t) == "piece" for t in ties_of(r))]

    def around(self, region: Region) -> list[str]:
        """The regions for whose records a region stands, the nearest first."""
        out: list[str] = []
        while region.each is not None and region.each not in out:
            out.append(region.each)
            region = self.region(region.each) or region
        return out

    def frames(self, region: Region) -> bool:
        """Whether the bodies of a region's records are other regions, which name them as chunks."""
        return region.body is not None and any(r.chunk is not None and r.origin == region.name for r in self.regions)

    def inner(self, region: Region) -> Region | None:
        """The region that stands behind each record of this one, before the next."""
        return next((r for r in self.regions if r.each == region.name and r.after == region.name), None)

    def trails(self, region: Region) -> bool:
        """Whether the records of a region stand behind the bodies of another one's."""
        around = self.region(region.each) if region.each is not None else None
        return around is not None and around.body is not None and region.after == region.each

    def region(self, name: str) -> Region | None:
        """The region with this name."""
        return next((r for r in self.regions if r.name == name), None)

    def stand_of(self, group: str) -> Stand:
        """How the payloads of a group of regions stand."""
        own = (r.payload for r in self.regions if r.group == group and r.payload is not None)
        return next(own, self.payload)

    @model_validator(mode="after")
    def _recognisable(self):
        if not (self.recognise or self.names or self.paths or self.whole):
            raise ValueError(
                "a layout needs `recognise` (marks), or for formats without marks `names` (endings), `paths` or `whole`"
            )
        if not self.regions and self.describes != "stream":
            raise ValueError("a layout needs `regions`; only a stream may have none")
        return self


def _owner(tie: Tied) -> str:
    return MEANINGS[tie.means].owner if tie.means in MEANINGS else ""


def ties_of(region: Region) -> list[Tied]:
    """The fields of a region and the parts of its bit fields, in order."""
    out: list[Tied] = []
    for field in region.fields:
        out.append(field)
        out.extend(field.parts or ())
    return out


__all__ = ["FieldModel", "Layout", "Region", "Tied", "ties_of"]

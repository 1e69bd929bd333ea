"""The parts of a layout, as pydantic models: what a layout file may say.

docs/layout-language.md explains each of them; the JSON Schema of the language is `Layout.model_json_schema()`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Annotated, Literal

from pydantic import Field, model_validator

from ..codec import CODECS
from .codecs import CodecModel
from .expression import NotAnExpression
from .fields import WHOLE, FieldModel, Tied
from .steps import ChunkStep, PackStep, Steps
from .terms import MEANINGS, OF_REGION, ONCE, HexBytes, Name, Number, Order, Strict


class Body(Strict):
    """The payload that follows each record of a region, before the next record."""

    size: Name = Field(description="the field of the record that says how many bytes")
    align: int = Field(1, ge=1, le=1 << 24)
    fill: Annotated[HexBytes, Field(min_length=1, max_length=1)] = b"\0"
    nested: list[str] = Field(default=[], description="ids of records whose body is records again")
    skip: int = Field(0, ge=0, le=1 << 16, description="bytes at the beginning of a nested body")


class Pool(Strict):
    """A region of texts, one behind the other."""

    encoding: str = "utf-8"
    ends: HexBytes = b"\0"


class Region(Strict):
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


class Fill(Strict):
    """How payloads, or the file's end, are aligned, and the byte that fills the space before."""

    align: int = Field(1, ge=1, le=1 << 24)
    fill: Annotated[HexBytes, Field(min_length=1, max_length=1)] = b"\0"
    least: int = Field(0, ge=0, le=1 << 24, description="bytes of fill that always stand there")


class PayloadModel(Fill):
    """Where payloads stand and how all of them are packed."""

    file: Name | None = Field(None, description="one of `files`; with {volume} in its name, entry.volume chooses")
    packed: Steps = []
    sizes: Literal["given", "next"] = Field("given", description="next: a payload ends where the next one begins")


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


class Mark(Strict):
    """Bytes that stand at a fixed place in every file of the format; a place below 0 counts from the end."""

    at: int
    bytes: HexBytes


class Layout(Strict):
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


KNOWN_KEYS = sorted({name for model in Strict.__subclasses__() for name in model.model_fields} | {"bits", "type"})
"""Every key of the language, for suggestions."""

__all__ = ["KNOWN_KEYS", "FieldModel", "Layout", "NotAnExpression", "Region", "Tied", "ties_of"]

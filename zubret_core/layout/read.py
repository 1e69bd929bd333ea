"""Reading a file as a layout describes it.

Fixed-size records become one numpy structured array, so that 200,000 of them are read in a
fraction of a second; ties are applied column by column.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import Segment, Source, crc32_of, read_array
from ..source.base import SliceSource
from .expression import evaluate
from .model import BitPart, FieldModel, Layout, Region, Tied, ties_of

DAMAGED = "The file is damaged or is not what the layout describes: check it against another copy."


@lru_cache(maxsize=256)
def _dtype(kinds: tuple[tuple[str, str, int | None], ...], big: bool) -> np.dtype:
    order = ">" if big else "<"
    fields: list[tuple[str, str]] = []
    for name, kind, length in kinds:
        fields.append((name, f"S{length}" if length else f"{order}{kind[0]}{int(kind[1:]) // 8}"))
    return np.dtype(fields)


def record_type(layout: Layout, region: Region) -> np.dtype:
    """The numpy structured type of one record of a region."""
    return _dtype(tuple((f.name, f.type, f.length) for f in region.fields), layout.byte_order == "big")


@dataclass
class Place:
    """Where a region stands and what it holds."""

    region: Region
    at: int
    records: NDArray

    @property
    def length(self) -> int:
        """Bytes of all records."""
        return self.records.nbytes

    def holder(self, tie: Tied) -> tuple[FieldModel, int]:
        """The field that stores a tie, and the lowest bit of it inside that field."""
        for field in self.region.fields:
            shift = 0
            if tie is field:
                return field, 0
            for part in field.parts or ():
                if part is tie:
                    return field, shift
                shift += part.bits
        raise KeyError(tie.name)

    def stored(self, tie: Tied) -> NDArray:
        """The stored numbers (or fixed byte strings) of a field or bit part, one a record."""
        field, shift = self.holder(tie)
        if isinstance(tie, BitPart):
            return (self.records[field.name] >> shift) & ((1 << tie.bits) - 1)
        return self.records[field.name]

    def field_offset(self, tie: Tied) -> int:
        """Byte offset of a field inside its record."""
        fields = self.records.dtype.fields
        assert fields is not None
        return fields[self.holder(tie)[0].name][1]


class Reading:
    """A file read by a layout: the regions, and every tied field as its meaning."""

    def __init__(self, layout: Layout, source: Source):
        self.layout, self.source = layout, source
        self.places: list[Place] = []
        self.numbers: dict[str, int] = {}
        self.whole: dict[str, int | str] = {}
        self._columns: dict[str, NDArray | list[str]] = {}
        for mark in layout.recognise:
            if source.size < mark.at + len(mark.bytes) or source.read(mark.at, len(mark.bytes)) != mark.bytes:
                raise ZubretError(
                    f'The mark of "{layout.id}" is not here.', file=source.name, offset=mark.at, next=DAMAGED
                )
        for region in layout.regions:
            self._read_region(region)
        self.items = next(p for p in self.places if p.region is layout.items)
        self.count = len(self.items.records)
        self.kind = "entry" if layout.describes == "archive" else "stream"
        self._check_spans()

    def error(self, what: str, place: Place, tie: Tied | None = None, row: int = 0, next: str = DAMAGED) -> ZubretError:
        """An error at a field of a region's record."""
        offset = place.at + row * place.records.dtype.itemsize + (place.field_offset(tie) if tie else 0)
        field = f"{place.region.name}.{tie.name}" if tie else place.region.name
        if place.region.repeat is not None:
            field += f" of record {row}"
        return ZubretError(what, file=self.source.name, offset=offset, field=field, next=next)

    def _read_region(self, region: Region) -> None:
        source, layout = self.source, self.layout
        dtype = record_type(layout, region)
        tied_at = self.whole.get(f"{region.name}.at")
        at = tied_at if isinstance(tied_at, int) else evaluate(region.at or 0, self.numbers, source.name, region.name)
        count = 1
        if region.repeat is not None:
            count = evaluate(region.repeat, self.numbers, source.name, f"{region.name}.repeat")
        if not 0 <= at <= source.size:
            raise ZubretError(
                f"Region {region.name} would stand at byte {at:,}, outside the file of {source.size:,} bytes.",
                file=source.name,
                offset=at,
                field=region.name,
                next=DAMAGED,
            )
        room = (source.size - at) // dtype.itemsize
        if count < 0 or count > room:
            raise ZubretError(
                f"Region {region.name} promises {count:,} records of {dtype.itemsize} bytes, "
                f"but the file has room for {room:,}.",
                file=source.name,
                offset=at,
                field=region.name,
                next=DAMAGED,
            )
        place = Place(region, at, read_array(source, at, count, dtype))
        self.places.append(place)
        for field in region.fields:
            self._check_constant(place, field)
        if region.repeat is None:
            for tie in ties_of(region):
                stored = place.stored(tie)[0]
                if isinstance(stored, np.integer):
                    self.numbers[f"{region.name}.{tie.name}"] = int(stored)
                if tie.means:
                    self.whole[tie.means] = self._column(place, tie)[0]
        sum_tie = f"{region.name}.crc32"
        if sum_tie in self.whole:
            found = crc32_of(SliceSource(source, at, place.length))
            if found != self.whole[sum_tie]:
                raise self.error(
                    f"The checksum of region {region.name} is {found:08x}, "
                    f"but the file says {self.whole[sum_tie]:08x}.",
                    place,
                )
        counted = self.whole.get("file.size")
        if counted is not None and counted != source.size and region is layout.regions[0]:
            raise self.error(f"The file should have {counted:,} bytes but has {source.size:,}.", place)

    def _check_constant(self, place: Place, field: FieldModel) -> None:
        allowed = field.one_of if field.one_of is not None else None if field.equals is None else [field.equals]
        if allowed is None or not len(place.records):
            return
        stored = place.records[field.name]
        wanted = [v.rstrip(b"\0") if isinstance(v, bytes) else v for v in allowed]
        wrong = ~np.isin(stored, wanted)
        if wrong.any():
            row = int(np.argmax(wrong))
            raise self.error(
                f"{stored[row]!r} stands here, but {' or '.join(map(repr, allowed))} was expected.", place, field, row
            )

    def _column(self, place: Place, tie: Tied) -> list:
        """The meanings of a tied field, one a record, as plain Python values."""
        stored = place.stored(tie)
        if isinstance(tie, FieldModel) and tie.type == "text":
            return texts(stored, tie.encoding)
        if stored.dtype.kind == "S":
            return stored.tolist()
        return self._numbers(place, tie, stored)

    def _numbers(self, place: Place, tie: Tied, stored: NDArray) -> list:
        if tie.values is not None:
            values = tie.values
            try:
                return [values[v] for v in stored.tolist()]
            except KeyError as e:
                row = int(np.argmax(stored == e.args[0]))
                known = ", ".join(f"{k} {v}" for k, v in values.items())
                raise self.error(
                    f"The number {e.args[0]} has no meaning here (known: {known}).",
                    place,
                    tie,
                    row,
                    next="The file is damaged, or the layout must be taught this value.",
                ) from None
        unit = evaluate(tie.unit, self.numbers, self.source.name, tie.name)
        base = evaluate(tie.base, self.numbers, self.source.name, tie.name)
        if stored.dtype.kind == "f":
            return stored.tolist()
        if len(stored) and (abs(int(stored.max())) * abs(unit) + abs(base)) >= 1 << 63:
            row = int(np.argmax(stored))
            raise self.error(f"The number {int(stored[row]):,} is beyond 64 bits here.", place, tie, row)
        wide = stored.astype(np.int64)
        if unit != 1:
            wide *= unit
        if base:
            wide += base
        out = wide.tolist()
        if (tie.means or "").endswith(".id"):
            return [str(v).zfill(tie.digits) for v in out]
        return out

    def tie(self, meaning: str) -> Tied | None:
        """The field or bit part of the items region that has a meaning."""
        return next((t for t in ties_of(self.items.region) if t.means == meaning), None)

    def column(self, what: str) -> list | None:
        """All values of `entry.<what>` or `stream.<what>`, in table order; None if not stored."""
        meaning = f"{self.kind}.{what}"
        if meaning not in self._columns:
            tie = self.tie(meaning)
            if tie is None:
                return None
            self._columns[meaning] = self._column(self.items, tie)
        return self._columns[meaning]  # type: ignore[return-value]

    def spans(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Byte offsets and stored lengths of all items."""
        return np.array(self.column("at"), np.int64), np.array(self.column("stored"), np.int64)

    def _check_spans(self) -> None:
        """Payloads lie inside the file, aligned, outside the regions, and never overlap in part."""
        at, stored = self.spans()
        source, place = self.source, self.items
        at_tie = self.tie(f"{self.kind}.at")
        bad = (at < 0) | (stored < 0) | (at + stored > source.size)
        if bad.any():
            row = int(np.argmax(bad))
            raise self.error(
                f"The payload at byte {at[row]:,} with {stored[row]:,} bytes leaves the file of {source.size:,} bytes.",
                place,
                at_tie,
                row,
            )
        off = at % self.layout.payload.align != 0
        if off.any():
            row = int(np.argmax(off))
            raise self.error(
                f"The payload at byte {at[row]:,} is not aligned to {self.layout.payload.align:,} bytes.",
                place,
                at_tie,
                row,
            )
        order = np.lexsort((stored, at))
        order = order[stored[order] > 0]
        starts, lengths = at[order], stored[order]
        shared = (starts[1:] == starts[:-1]) & (lengths[1:] == lengths[:-1])
        cut = ~shared & (starts[1:] < starts[:-1] + lengths[:-1])
        if cut.any():
            n = int(np.argmax(cut))
            raise self.error(
                f"The payload at byte {starts[n + 1]:,} begins inside the payload at byte {starts[n]:,} "
                f"with {lengths[n]:,} bytes.",
                place,
                at_tie,
                int(order[n + 1]),
            )
        for p in self.places:
            inside = (at < p.at + p.length) & (at + stored > p.at) & (stored > 0)
            if inside.any():
                row = int(np.argmax(inside))
                raise self.error(
                    f"The payload at byte {at[row]:,} covers region {p.region.name} at byte {p.at:,}.",
                    place,
                    at_tie,
                    row,
                )

    def things(self) -> list[Thing]:
        """Regions and payloads in file order, each with the gap after it; shared payloads once."""
        at, stored = self.spans()
        by_span: dict[tuple[int, int], list[int]] = {}
        for n, span in enumerate(zip(at.tolist(), stored.tolist(), strict=True)):
            if span[1]:  # an empty payload stands nowhere
                by_span.setdefault(span, []).append(n)
        things = [Thing(p.at, p.length, p, []) for p in self.places]
        things += [Thing(a, length, None, rows) for (a, length), rows in by_span.items()]
        things.sort(key=lambda t: (t.at, t.length, t.place is None))
        ends = [t.at + t.length for t in things]
        for n, thing in enumerate(things):
            after = things[n + 1] if n + 1 < len(things) else None
            gap_at, gap_end = ends[n], after.at if after else self.source.size
            fill = self.layout.end if after is None else self.layout.payload
            align = after.place.region.align if after and after.place else fill.align
            thing.gap = max(0, gap_end - gap_at)
            thing.free = all(not piece.strip(fill.fill) for piece in self.source.chunks(gap_at, thing.gap))
            thing.regular = thing.free and thing.gap == -gap_at % align
        if things and things[0].at > 0:
            things.insert(0, Thing(0, 0, None, [], gap=things[0].at, regular=False))
        return things

    def segments(self) -> list[Segment]:
        """What stands where in the file: for the byte ribbon."""
        out: list[Segment] = []
        for thing in self.things():
            if thing.length or thing.place:
                out.append(Segment(thing.kind, thing.at, thing.length, thing.label, thing.index))
            end = thing.at + thing.length
            if thing.gap:
                out.append(Segment("padding" if thing.free else "unexplained", end, thing.gap))
        return out


@dataclass
class Thing:
    """A region or a payload and the gap that follows it.

    gap: bytes up to the next thing; free: they are all fill, so a longer payload may use them;
    regular: alignment explains the gap exactly, so that writing makes it anew. Any other gap is
    carried over behind its thing.
    """

    at: int
    length: int
    place: Place | None
    rows: list[int]
    gap: int = 0
    free: bool = False
    regular: bool = True

    @property
    def slot(self) -> int:
        """Bytes that a replacement may take without anything moving."""
        return self.length + (self.gap if self.free else 0)

    @property
    def kind(self) -> str:
        if self.place:
            return "header" if self.place.region.repeat is None else "table"
        return "payload"

    @property
    def label(self) -> str:
        return self.place.region.name if self.place else ""

    @property
    def index(self) -> int:
        return self.rows[0] if self.rows else -1


def texts(stored: NDArray, encoding: str) -> list[str]:
    """Fixed-length texts up to their first zero byte; what does not decode is kept as surrogates."""
    raw = stored.tolist()
    joined = b"\n".join(raw)
    if joined.count(b"\n") == len(raw) - 1 and b"\0" not in joined and encoding in ("utf-8", "ascii", "latin-1"):
        try:
            return joined.decode(encoding).split("\n")
        except UnicodeDecodeError:
            pass
    if encoding.replace("_", "-").lower().startswith(("utf-16", "utf-32")):
        return [b.decode(encoding, "surrogateescape").split("\0")[0] for b in raw]
    return [b.split(b"\0")[0].decode(encoding, "surrogateescape") for b in raw]


def recognises(layout: Layout, source: Source) -> bool:
    """True where all marks of the layout stand in the file."""
    return all(
        source.size >= m.at + len(m.bytes) and source.read(m.at, len(m.bytes)) == m.bytes for m in layout.recognise
    )


def read_layout(layout: Layout, source: Source) -> Reading:
    """The file as the layout describes it; ZubretError where it is not so."""
    return Reading(layout, source)


__all__ = ["BitPart", "Place", "Reading", "Thing", "read_layout", "recognises", "record_type", "texts"]

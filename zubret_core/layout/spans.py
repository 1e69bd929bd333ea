"""What stands where in a file: regions, payloads, the gaps between them, and the faults of their places."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import Segment

if TYPE_CHECKING:
    from .place import Place
    from .read import Reading


@dataclass
class Thing:
    """A region, a record with a body, or a payload; and the gap that follows it.

    record: the record's number in a region with bodies, -1 for a whole region; rows: the items that a payload
    belongs to; align: what its place is a multiple of when it is laid anew. gap: bytes up to the next thing; free:
    they are all fill, so a longer payload may use them; regular: alignment explains the gap exactly, so that
    writing makes it anew. Any other gap is carried over behind its thing.
    """

    at: int
    length: int
    place: Place | None = None
    record: int = -1
    rows: list[int] = field(default_factory=list)
    align: int = 1
    gap: int = 0
    free: bool = False
    regular: bool = True

    @property
    def slot(self) -> int:
        """Bytes that a replacement may take without anything moving."""
        return self.length + (self.gap if self.free else 0)

    @property
    def kind(self) -> str:
        if self.place is None:
            return "payload"
        return "header" if self.place.region.once else "table"

    @property
    def label(self) -> str:
        return self.place.region.name if self.place else ""

    @property
    def index(self) -> int:
        return self.rows[0] if self.rows else -1


def item_spans(reading: Reading) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Byte offsets and stored lengths of all items, each in its own file; a head in the index is not counted."""
    return reading.array("at"), reading.array("stored")


def check_spans(reading: Reading) -> None:
    """Payloads lie inside their files, aligned, outside the regions, and never overlap in part."""
    if not reading.count or reading.kind == "listed":
        return
    at, stored = item_spans(reading)
    if reading.layout.payload.file is None:
        _check_file(reading, "", np.arange(len(at)), at, stored)
        return
    files = np.array(reading.payload_files())
    for name in dict.fromkeys(reading.payload_files()):
        here = np.flatnonzero(files == name)
        _check_file(reading, name, here, at[here], stored[here])


def _fault(reading: Reading, item: int, what: str) -> ZubretError:
    places = reading.group_of(item)
    ties = reading.ties(f"{reading.kind}.at", places)
    place, tie = ties[0] if ties else (places[0], None)
    return reading.error(what, place, tie, reading.row_of(item, place))


def _check_file(reading: Reading, name: str, items: NDArray, at: NDArray, stored: NDArray) -> None:
    size, shown = reading.file_named(name).size, f" {name}" if name else ""
    bad = (at < 0) | (stored < 0) | (at + stored > size)
    if bad.any():
        n = int(np.argmax(bad))
        what = f"The payload at byte {at[n]:,} with {stored[n]:,} bytes leaves the file{shown} of {size:,} bytes."
        raise _fault(reading, int(items[n]), what)
    align = reading.layout.payload.align
    off = (at % align != 0) & (stored > 0)
    if off.any():
        n = int(np.argmax(off))
        raise _fault(reading, int(items[n]), f"The payload at byte {at[n]:,} is not aligned to {align:,} bytes.")
    order = np.lexsort((stored, at))
    order = order[stored[order] > 0]
    starts, lengths = at[order], stored[order]
    shared = (starts[1:] == starts[:-1]) & (lengths[1:] == lengths[:-1])
    cut = ~shared & (starts[1:] < starts[:-1] + lengths[:-1])
    if cut.any():
        n = int(np.argmax(cut))
        raise _fault(
            reading,
            int(items[order[n + 1]]),
            f"The payload at byte {starts[n + 1]:,} begins inside the payload at byte {starts[n]:,} "
            f"with {lengths[n]:,} bytes.",
        )
    for place in reading.places:
        if place.file != name or place.body is not None or not place.stored:
            continue
        inside = (at < place.at + place.stored) & (at + stored > place.at) & (stored > 0)
        if inside.any():
            n = int(np.argmax(inside))
            what = f"The payload at byte {at[n]:,} covers region {place.region.name} at byte {place.at:,}."
            raise _fault(reading, int(items[n]), what)


def files_of(reading: Reading) -> list[str]:
    """The names of all files that hold something; "" is the described one and comes first."""
    return list(dict.fromkeys(["", *(p.file for p in reading.places), *reading.payload_files()]))


def index_pieces(reading: Reading) -> list[tuple[int, int]]:
    """Byte offset and length of each region of the described file, or of each record of one whose records have bodies.

    Empty where the file is packed as a whole, so that nothing of it stands at a place of its own.
    """
    out: list[tuple[int, int]] = []
    for place in reading.places if not reading.layout.packed else ():
        if place.file:
            continue
        if place.body is None:
            out.append((place.at, place.stored))
            continue
        for n, at in enumerate(place.records.places.tolist()):
            out.append((at, place.records.end(n) - int(place.records.starts[n])))
    return out


def things_of(reading: Reading, name: str = "") -> list[Thing]:
    """Regions and payloads of a file in their order, each with the gap after it; shared payloads once."""
    layout, source = reading.layout, reading.file_named(name)
    things: list[Thing] = []
    for place in reading.places:
        if place.file != name:
            continue
        if place.body is None:
            things.append(Thing(place.at, place.stored, place, align=place.region.align))
            continue
        assert place.region.body is not None
        holders = set(place.inside)
        for n, at in enumerate(place.records.places.tolist()):
            length = place.records.end(n) - int(place.records.starts[n])
            length += place.region.body.skip if n in holders else 0
            things.append(Thing(at, length, place, n, align=place.region.body.align))
    things += _payloads(reading, name)
    things.sort(key=lambda t: (t.at, t.at + t.length, t.place is None))
    step = layout.payload.sizes == "next"
    for n, thing in enumerate(things):
        after = things[n + 1] if n + 1 < len(things) else None
        gap_at, gap_end = thing.at + thing.length, after.at if after else source.size
        fill = _fill_behind(reading, thing, after)
        thing.gap = max(0, gap_end - gap_at)
        thing.free = not step and all(not piece.strip(fill) for piece in source.chunks(gap_at, thing.gap))
        align = after.align if after else layout.end.align
        least = 0 if after else layout.end.least
        thing.regular = thing.free and thing.gap == least + -(gap_at + least) % align
    if things and things[0].at > 0:
        things.insert(0, Thing(0, 0, gap=things[0].at, regular=False))
    return things


def _payloads(reading: Reading, name: str) -> list[Thing]:
    if reading.kind == "listed":
        return []
    at, stored = item_spans(reading)
    files, align = reading.payload_files(), reading.layout.payload.align
    by_span: dict[tuple[int, int], list[int]] = {}
    for n, span in enumerate(zip(at.tolist(), stored.tolist(), strict=True)):
        if span[1] and files[n] == name:  # an empty payload stands nowhere
            by_span.setdefault(span, []).append(n)
    return [Thing(a, length, rows=rows, align=align) for (a, length), rows in by_span.items()]


def _fill_behind(reading: Reading, thing: Thing, after: Thing | None) -> bytes:
    layout = reading.layout
    if after is None:
        return layout.end.fill
    body = next((p.region.body for p in reading.places if p.region.body), None)
    return body.fill if body else layout.payload.fill


def segments_of(reading: Reading, name: str = "") -> list[Segment]:
    """What stands where in a file: for the byte ribbon."""
    out: list[Segment] = []
    for thing in things_of(reading, name):
        if thing.length or thing.place:
            out.append(Segment(thing.kind, thing.at, thing.length, thing.label, thing.index))
        if thing.gap:
            end = thing.at + thing.length
            out.append(Segment("padding" if thing.free else "unexplained", end, thing.gap))
    return out

"""Trying a layout on a file: what it says of which bytes, and whether it gives the file back."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from ..base import Progress, ZubretError, silent
from .checks.extents import segments_of
from .document import Document, Instance, Slot
from .language.fields import Tied
from .writing.build import rebuild


class FieldSpan(NamedTuple):
    """A field of a record where it stands: byte offset and length in the file, names, and its value in words."""

    at: int
    length: int
    region: str
    record: int
    field: str
    value: str
    means: str


@dataclass
class RegionView:
    """A region for people: where it stands, how many records, its fields; packed ones show no spans of fields."""

    name: str
    file: str
    at: int
    length: int
    records: int
    packed: bool
    fields: list[dict[str, str]] = field(default_factory=list)


PIECES = 20
"""Of a region that stands many times so many are shown."""


def regions_of(document: Document) -> list[RegionView]:
    """All regions in the order in which they were read; of one that stands many times the first ones."""
    out = []
    for instance in document.instances:
        if instance.piece >= PIECES:
            continue
        fields = [
            {"name": s.tie.name, "type": f"{s.bits} bits" if s.bits else s.field.type, "means": _means(s.tie)}
            for s in instance.shape.slots.values()
        ]
        count = instance.records.count if instance.region.fields else 0
        packed = bool(instance.region.packed)
        trails = document.layout.trails(instance.region)
        length = int(instance.records.lengths().sum()) if trails else instance.stored
        out.append(RegionView(instance.name, instance.file, instance.at, length, count, packed, fields))
    return out


def _means(tie: Tied) -> str:
    """A meaning or a sum in words."""
    if tie.means or tie.sum is None:
        return tie.means or ""
    return f"{tie.sum.title} of {tie.sum.of}"


def spans_in(document: Document, start: int, end: int, most: int = 4000) -> Iterator[FieldSpan]:
    """The fields whose bytes stand in [start, end) of the described file, in file order, at most `most`."""
    found: list[FieldSpan] = []
    for instance in document.instances:
        if instance.file or instance.region.packed or instance.region.pool or not instance.records.count:
            continue
        places = instance.records.places
        first = max(0, int(np.searchsorted(places, start, "right")) - 1)
        for row in range(first, instance.records.count):
            if int(places[row]) >= end or len(found) >= most:
                break
            found += [s for s in _record_spans(instance, row) if s.at < end and s.at + s.length > start]
    yield from sorted(found)[:most]


def _record_spans(instance: Instance, row: int) -> list[FieldSpan]:
    out, records = [], instance.records
    for slot in instance.shape.fields:
        at, length = records.span(slot, row)
        if length <= 0:
            continue
        offset = int(records.places[row]) + at - int(records.starts[row])
        means = ", ".join(x for x in (_means(slot.tie), *(p.means or "" for p in slot.field.parts or ())) if x)
        number = row if instance.many else -1
        out.append(FieldSpan(offset, length, instance.name, number, slot.tie.name, _value(instance, slot, row), means))
    return out


def _value(instance: Instance, slot: Slot, row: int) -> str:
    """A field's stored value; of bit fields, part by part."""
    at, length = instance.records.span(slot, row)
    data = instance.records.data[at : at + length].tobytes()
    return slot.type.show(slot.field, data, instance.shape.big_of(slot.field))


def explained(document: Document) -> float:
    """The share (0 to 1) of the described file's bytes that the layout explains."""
    size = document.source.size
    unknown = sum(s.length for s in segments_of(document) if s.kind == "unexplained")
    return 1 - unknown / size if size else 1.0


def unexplained(document: Document, most: int = 100) -> list[tuple[int, int]]:
    """Where bytes stand that the layout does not explain: place and length, the longest first."""
    spans = [(s.at, s.length) for s in segments_of(document) if s.kind == "unexplained"]
    return sorted(spans, key=lambda s: -s[1])[:most]


def compare_rebuilt(document: Document, progress: Progress = silent) -> None:
    """Rebuild with nothing changed, every field and payload laid anew, and compare byte for byte, companions too.

    ZubretError at the first byte that is another.
    """
    built = rebuild(document, {}, anew=True)
    files = [("", document.file, built.source)]
    files += [(name, document.file_named(name), other.source) for name, other in built.others.items()]
    total, done = sum(old.size for _, old, _ in files) or 1, 0
    for name, old, new in files:
        shown, at = name or old.name, 0
        for a in old.chunks():
            b = new.read(at, min(len(a), max(0, new.size - at)))
            if a != b:
                n = next((i for i, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
                raise ZubretError(
                    "A rebuild with nothing changed gives other bytes here.",
                    file=shown,
                    offset=at + n,
                    field=_field_at(document, at + n) if not name else None,
                    next="Tie what should follow from other fields, or correct an alignment or a fill.",
                )
            at += len(a)
            done += len(a)
            progress(done, total, f"comparing {shown}")
        if new.size != old.size:
            raise ZubretError(
                f"A rebuild with nothing changed gives {new.size:,} bytes instead of {old.size:,}.",
                file=shown,
                offset=old.size,
                next="Look at `end`: its alignment, its fill, the least that always stands there.",
            )


def _field_at(document: Document, at: int) -> str | None:
    span = next(spans_in(document, at, at + 1, 1), None)
    return f"{span.region}.{span.field}" if span else None

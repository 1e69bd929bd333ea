"""Trying a layout on a file: what it says of which bytes, and whether it gives the file back."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import partial
from typing import Any, NamedTuple

import numpy as np

from ..base import Progress, ZubretError, silent
from ..source import Source
from .fields import FieldModel
from .integrity import check_item, verify
from .model import ties_of
from .place import Place
from .read import Reading
from .spans import files_of, segments_of, things_of
from .write import rebuild


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


def regions_of(reading: Reading) -> list[RegionView]:
    """All regions in the order in which they were read."""
    out = []
    for place in reading.places:
        fields = [
            {
                "name": t.name,
                "type": _type_of(t),
                "means": t.means or (f"{_sum_name(t)} of {t.sum.of}" if t.sum else ""),
            }
            for t in ties_of(place.region)
        ]
        count = place.records.count if place.region.fields else 0
        packed = bool(place.region.packed)
        out.append(RegionView(place.region.name, place.file, place.at, place.stored, count, packed, fields))
    return out


def _type_of(tie: Any) -> str:
    return tie.type if isinstance(tie, FieldModel) else f"{tie.bits} bits"


def _sum_name(tie: Any) -> str:
    return tie.sum.by if isinstance(tie.sum.by, str) else f"CRC of {tie.sum.by.width} bits"


def spans_in(reading: Reading, start: int, end: int, most: int = 4000) -> Iterator[FieldSpan]:
    """The fields whose bytes stand in [start, end) of the described file, in file order, at most `most`."""
    found: list[FieldSpan] = []
    for place in reading.places:
        if place.file or place.region.packed or place.region.pool or not place.records.count:
            continue
        places = place.records.places
        first = max(0, int(np.searchsorted(places, start, "right")) - 1)
        for row in range(first, place.records.count):
            if int(places[row]) >= end or len(found) >= most:
                break
            found += [s for s in _record_spans(reading, place, row) if s.at < end and s.at + s.length > start]
    yield from sorted(found)[:most]


def _record_spans(reading: Reading, place: Place, row: int) -> list[FieldSpan]:
    out, records = [], place.records
    for f in place.region.fields:
        at, length = records.span(f, row)
        if length <= 0:
            continue
        offset = int(records.places[row]) + at - int(records.starts[row])
        means = f.means or (f"{_sum_name(f)} of {f.sum.of}" if f.sum else "")
        means = ", ".join(x for x in (means, *(p.means or "" for p in f.parts or ())) if x)
        number = row if not place.region.once else -1
        out.append(FieldSpan(offset, length, place.region.name, number, f.name, _value(place, f, row), means))
    return out


def _value(place: Place, f: FieldModel, row: int) -> str:
    """A field's stored value; of bit fields, part by part."""
    records = place.records
    at, length = records.span(f, row)
    data = records.data[at : at + length].tobytes()
    if f.parts:
        number, shift, words = int.from_bytes(data, "big" if records.is_big(f) else "little"), 0, []
        for part in f.parts:
            words.append(f"{part.name} {number >> shift & ((1 << part.bits) - 1)}")
            shift += part.bits
        return ", ".join(words)
    if f.integer:
        order: Any = "big" if records.is_big(f) else "little"
        return f"{int.from_bytes(data, order, signed=f.type[0] == 'i'):,}"
    if f.type == "text":
        return data.split(b"\0")[0].decode(f.encoding, "replace")[:80]
    return data.decode("ascii", "replace").strip("\0 ") if f.type == "digits" else data[:16].hex(" ")


def explained(reading: Reading) -> float:
    """The share (0 to 1) of the described file's bytes that the layout explains."""
    size = reading.source.size
    unknown = sum(s.length for s in segments_of(reading) if s.kind == "unexplained")
    return 1 - unknown / size if size else 1.0


def unexplained(reading: Reading, most: int = 100) -> list[tuple[int, int]]:
    """Where bytes stand that the layout does not explain: place and length, the longest first."""
    spans = [(s.at, s.length) for s in segments_of(reading) if s.kind == "unexplained"]
    return sorted(spans, key=lambda s: -s[1])[:most]


@dataclass
class CheckResult:
    """Whether a layout reads a file and gives it back; problem is the error, or where the first difference is."""

    ok: bool
    items: int
    explained: float
    moved: bool
    problem: dict[str, Any] | None = None


def check(reading: Reading, progress: Progress = silent) -> CheckResult:
    """Read all; rebuild with nothing changed, every field and payload laid anew; compare byte for byte.

    Entries are unpacked and their sums taken. Companions are compared, too. Sums over the whole file are taken.
    """
    verify(reading)
    _read_all(reading, progress)
    built = rebuild(reading, {}, anew=True)
    files = [("", reading.file, built.source)]
    files += [(name, reading.file_named(name), other.source) for name, other in built.others.items()]
    total, done = sum(old.size for _, old, _ in files) or 1, 0
    for name, old, new in files:
        shown = name or old.name
        at = 0
        for a in old.chunks():
            b = new.read(at, min(len(a), max(0, new.size - at)))
            if a != b:
                n = next((i for i, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
                raise ZubretError(
                    "A rebuild with nothing changed gives other bytes here.",
                    file=shown,
                    offset=at + n,
                    field=_field_at(reading, at + n) if not name else None,
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
    whole = sum(len([t for t in things_of(reading, name) if not t.regular and t.gap]) for name in files_of(reading))
    return CheckResult(True, reading.count, explained(reading), whole > 0)


def _read_all(reading: Reading, progress: Progress) -> None:
    """Every entry unpacked, and its sums taken; a ZubretError at the first that does not hold."""
    if reading.kind != "entry":
        return
    sizes = reading.column("size")
    for n in range(reading.count):
        payload = reading.payload(n)
        content = reading.chain(n).unpacked(payload, payload.size if sizes is None else sizes[n])
        for _ in content.chunks():
            progress(n, reading.count, f"reading {content.name}")
        check_item(reading, n, partial(_itself, content))


def _itself(source: Source) -> Source:
    return source


def _field_at(reading: Reading, at: int) -> str | None:
    span = next(spans_in(reading, at, at + 1, 1), None)
    return f"{span.region}.{span.field}" if span else None

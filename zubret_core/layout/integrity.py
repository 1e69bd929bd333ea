"""Checksums and digests that a file holds of itself: which bytes they cover, and whether they are right."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from ..source import BytesSource, ChainSource, Part, SliceSource, Source
from ..source.sums import Crc, sum_of
from .expression import evaluate
from .fields import WHOLE, FieldModel, SumModel, Tied
from .model import ties_of
from .place import Place

if TYPE_CHECKING:
    from .read import Reading

LARGE = 1 << 24
"""Bytes over which sums of spans are taken only when a file is verified, not whenever it is opened."""


def sums_of(reading: Reading, of: tuple[str, ...] | None = None) -> list[tuple[Place, Tied, SumModel]]:
    """All fields that hold sums; with `of` only those over such bytes."""
    out = [(p, t, t.sum) for p in reading.places for t in ties_of(p.region) if t.sum]
    return [x for x in out if of is None or x[2].of in of]


def crc32s(reading: Reading) -> list[int] | None:
    """The CRC-32 of every item where its record has one, else None."""
    for place, tie, how in sums_of(reading, ("stored", "unpacked")):
        if how.by == "crc32" and place.records.holder(tie)[0].numeric and len(reading.groups) == 1:
            values = place.records.numbers(tie).tolist()
            return values if len(values) == reading.count else [values[r] for r in place.rows.tolist()]
    return None


def verify(reading: Reading) -> None:
    """Take the sums that are too long for every opening."""
    check_sums(reading, large=True)


def check_sums(reading: Reading, large: bool) -> None:
    for place, tie, how in sums_of(reading):
        if how.of in ("stored", "unpacked", "record", "listed") or place.records.absent(place.records.holder(tie)[0]):
            continue
        source = covered(reading, place, tie, how)
        if source is None or (source.size > LARGE) != large:
            continue
        _compare(
            reading,
            place,
            tie,
            0,
            sum_of(how_of(how), source),
            "of " + (how.of if how.of in WHOLE else f"region {how.of}"),
        )


def check_record_sums(reading: Reading, place: Place) -> None:
    for tie in ties_of(place.region):
        if tie.sum and tie.sum.of == "record":
            for row in range(place.records.count):
                data = record_bytes(place, row, tie if tie.sum.blank is not None else None, tie.sum.blank)
                _compare(reading, place, tie, row, sum_of(how_of(tie.sum), BytesSource(data)), "of the record")


def check_item(reading: Reading, item: int, unpacked: Callable[[], Source]) -> None:
    """ZubretError unless an item's payload has the sums that its record gives."""
    for place, tie, how in sums_of(reading, ("stored", "unpacked")):
        if place in reading.group_of(item):
            source = reading.payload(item) if how.of == "stored" else unpacked()
            _compare(reading, place, tie, reading.row_of(item, place), sum_of(how_of(how), source), f"of {source.name}")


def _compare(reading: Reading, place: Place, tie: Tied, row: int, found: int | bytes, what: str) -> None:
    has = place.records.present(place.records.holder(tie)[0])
    if has is not None and not has[row]:
        return
    taken, stored = _shown(place, tie, row, found)
    if taken != stored:
        raise reading.error(f"The checksum {what} is {taken}, but the file says {stored}.", place, tie, row)


def sum_is(place: Place, tie: Tied, row: int, found: int | bytes) -> bool:
    """Whether a sum is the one that a record's field holds."""
    taken, stored = _shown(place, tie, row, found)
    return taken == stored


def _shown(place: Place, tie: Tied, row: int, found: int | bytes) -> tuple[str, str]:
    """A sum as its field would hold it, and what the field holds, both as text in small letters."""
    holder, _ = place.records.holder(tie)
    if holder.numeric:
        bits = getattr(tie, "bits", None) or 8 * (holder.width or 8)
        mask, form = (1 << bits) - 1, "d" if holder.type == "digits" else f"0{bits // 4}x"
        number = found if isinstance(found, int) else int.from_bytes(found[: bits // 8], "big")
        return format(number & mask, form), format(int(place.records.numbers(tie)[row]) & mask, form)
    data = place.records.contents(holder)[row] or b""
    taken = sum_bytes(found, holder, len(data))
    if holder.type == "text":
        return taken.decode().lower(), data.decode("latin-1").lower()
    return taken.hex(), data.hex()


def covered(reading: Reading, place: Place, tie: Tied, how: SumModel) -> Source | None:
    """The bytes that a sum covers, its own field blanked where the layout says so; None where they are absent."""
    if how.of == "file":
        source: Source = reading.source
    elif how.of == "span":
        names = reading.names(place.region, place.at)
        start, end = (evaluate(x, names, reading.file.name, tie.name) for x in (how.start, how.end))
        if not 0 <= start <= end <= reading.source.size:
            raise reading.error(f"The sum covers {start:,} to {end:,}, outside the file.", place, tie)
        source = SliceSource(reading.source, start, end - start)
    else:
        other = reading.place(how.of)
        if other is None:
            return None
        source = other.content
    if how.blank is None:
        return source
    at, length = place.records.span(place.records.holder(tie)[0], 0)
    if how.of in ("file", "span"):
        start = source.at if isinstance(source, SliceSource) and how.of == "span" else 0
        at = place.records.place_of(tie, 0) - start
    elif place.region.name != how.of:
        return source
    return blanked(source, at, length, how.blank)


def blanked(source: Source, at: int, length: int, blank: bytes) -> Source:
    """A source with a span of it written over by a repeated byte."""
    if not 0 <= at <= at + length <= source.size:
        return source
    parts = [Part(source, 0, at), Part(BytesSource((blank * length)[:length]), 0, length)]
    return ChainSource([*parts, Part(source, at + length, source.size - at - length)], source.name)


def record_bytes(place: Place, row: int, tie: Tied | None, blank: bytes | None) -> bytes:
    """The bytes of one record, a field of it blanked."""
    records = place.records
    start, end = int(records.starts[row]), records.end(row)
    data = bytearray(records.data[start:end].tobytes())
    if tie is not None and blank is not None:
        at, length = records.span(records.holder(tie)[0], row)
        data[at - start : at - start + length] = (blank * length)[:length]
    return bytes(data)


def how_of(how: SumModel) -> str | Crc:
    """The rule of a sum as `sum_of` wants it."""
    return how.by if isinstance(how.by, str) else Crc(**how.by.model_dump())


def sum_bytes(value: int | bytes, holder: FieldModel, length: int) -> bytes:
    """A sum as a field of bytes or text holds it: cut to its length; as hexadecimal digits in a text."""
    if isinstance(value, int):
        value = value.to_bytes(max(1, (value.bit_length() + 7) // 8, length if holder.type == "bytes" else 4), "big")
    return (value.hex().encode() if holder.type == "text" else value)[:length]

"""Checksums and digests that a file holds of itself: which bytes they cover, and whether they are right.

`taken` is what reading compares with and what writing stores: one function for both.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from numpy.typing import NDArray

from ...base import ZubretError
from ...source import BytesSource, ChainSource, Part, SliceSource, Source
from ...source.sums import sum_of
from ..document import Document, Instance, Slot
from ..document.ties import ids
from ..language.expression import evaluate
from ..language.fields import WHOLE, SumModel

LARGE = 1 << 24
"""Bytes over which sums of spans are taken only when a file is verified, not whenever it is opened."""
OF_ITEMS = ("stored", "unpacked", "listed")
"""What a sum may cover that belongs to an item, and not to the file that holds the sum."""


def sums_of(document: Document, of: tuple[str, ...] | None = None) -> Iterator[tuple[Instance, Slot, SumModel]]:
    """All fields that hold sums; with `of` only those over such bytes."""
    for instance in document.instances:
        for slot in instance.shape.sums:
            assert slot.tie.sum is not None
            if (of is None or slot.tie.sum.of in of) and not instance.records.absent(slot):
                yield instance, slot, slot.tie.sum


def crc32s(document: Document) -> NDArray | None:
    """The CRC-32 of every item where its record has one, else None."""
    for instance, slot, how in sums_of(document, ("stored", "unpacked")):
        if how.by == "crc32" and slot.whole and len(document.groups) == 1:
            values = instance.records.numbers(slot)
            return values if len(values) == document.count else values[instance.rows]
    return None


# Checking ---------------------------------------------------------------------------------------------


def check_sums(document: Document, large: bool) -> None:
    """ZubretError unless the sums of records, regions and spans are right: those over few bytes, or those over many."""
    for instance, slot, how in sums_of(document):
        if how.of in OF_ITEMS:
            continue
        if how.of == "body":
            for row in range(instance.records.count) if large else ():
                compare(
                    document, instance, slot, row, taken(document, instance, slot, row), "of what stands in front of it"
                )
        elif how.of == "record":
            if not large:
                for row in range(instance.records.count):
                    compare(document, instance, slot, row, taken(document, instance, slot, row), "of the record")
        else:
            source = covered(document, instance, slot, 0)
            if source is not None and (source.size > LARGE) == large:
                what = "of " + (how.of if how.of in WHOLE else f"region {how.of}")
                compare(document, instance, slot, 0, sum_of(how.rule, source), what)


def verify(document: Document) -> None:
    """Take the sums that are too long for every opening."""
    check_sums(document, large=True)


def check_item(document: Document, item: int, unpacked: Callable[[], Source]) -> None:
    """ZubretError unless an item's payload has the sums that its record gives."""
    for instance, slot, _ in sums_of(document, ("body",)):
        front = document.instance(instance.region.each or "")
        if front is not None and any(i is front for i in document.group_of(item).instances):
            row = document.row_of(item, front)
            compare(
                document, instance, slot, row, taken(document, instance, slot, row), "of what stands in front of it"
            )
    for instance, slot, how in sums_of(document, ("stored", "unpacked")):
        for n in (item, *document.pieces_of(item)):
            if any(i is instance for i in document.group_of(n).instances):
                stored = document.piece(n) if n != item else document.payload(n)
                source = stored if how.of == "stored" else unpacked()
                row = document.row_of(n, instance)
                compare(document, instance, slot, row, sum_of(how.rule, source), f"of {source.name}")


def compare(document: Document, instance: Instance, slot: Slot, row: int, found: int | bytes, what: str) -> None:
    """ZubretError unless a sum is the one that a record's field holds."""
    has = instance.records.has(slot)
    if has is not None and not has[row]:
        return
    wanted, stored = _shown(instance, slot, row, found)
    if wanted != stored:
        raise document.error(f"The checksum {what} is {wanted}, but the file says {stored}.", instance, slot, row)


def sum_is(instance: Instance, slot: Slot, row: int, found: int | bytes) -> bool:
    """Whether a sum is the one that a record's field holds."""
    wanted, stored = _shown(instance, slot, row, found)
    return wanted == stored


def _shown(instance: Instance, slot: Slot, row: int, found: int | bytes) -> tuple[str, str]:
    """A sum as its field would hold it, and what the field holds, both as text in small letters."""
    if slot.whole:
        number = sum_number(found, slot)
        stored = int(instance.records.numbers(slot)[row])
        if slot.field.type == "digits":
            return str(number), str(stored)
        bits = _bits(slot)
        return f"{number:0{bits // 4}x}", f"{stored & (1 << bits) - 1:0{bits // 4}x}"
    at, length = instance.records.span(slot, row)
    data = instance.records.data[at : at + max(0, length)].tobytes()
    wanted = sum_bytes(found, slot, len(data))
    if slot.field.type == "text":
        return wanted.decode().lower(), data.decode("latin-1").lower()
    return wanted.hex(), data.hex()


def _bits(slot: Slot) -> int:
    return slot.bits or 8 * (slot.type.width(slot.field) or 8)


# Which bytes ------------------------------------------------------------------------------------------


def taken(document: Document, instance: Instance, slot: Slot, row: int) -> int | bytes:
    """The sum that a field of a record, a region or a span must hold."""
    how = slot.tie.sum
    assert how is not None
    source = covered(document, instance, slot, row)
    return sum_of(how.rule, source if source is not None else BytesSource(b""))


def covered(document: Document, instance: Instance, slot: Slot, row: int) -> Source | None:
    """The bytes that a sum covers, its own field blanked where the layout says so; None where they are absent."""
    how, records = slot.tie.sum, instance.records
    assert how is not None
    at, length = records.span(slot, row)
    if how.of == "record":
        start = int(records.starts[row])
        source: Source = BytesSource(records.bytes_of(row), document.file.name)
        at -= start
    elif how.of == "body":
        start, end = _body(document, instance, slot, row)
        source, at = SliceSource(document.source, start, end - start), -1
    elif how.of in ("file", "span"):
        source, at = document.source, records.place_of(slot, row)
        if how.of == "span":
            start, end = _span(document, instance, slot)
            source, at = SliceSource(source, start, end - start), at - start
        if instance.file or instance.region.packed:
            at = -1  # the field stands elsewhere
    else:
        other = document.instance(how.of)
        if other is None:
            return None
        source = other.content
        if source.size == len(other.records.data):  # they are in memory already
            source = BytesSource(other.records.data.data, source.name)
        at = at if other is instance else -1
    return source if how.blank is None else blanked(source, at, length, how.blank)


def _body(document: Document, instance: Instance, slot: Slot, row: int) -> tuple[int, int]:
    """Where the body in front of a record begins, or a field of the record before that, and where it ends."""
    front, end = document.instance(instance.region.each or ""), int(instance.records.places[row])
    assert front is not None and slot.tie.sum is not None
    since = slot.tie.sum.since
    if since is not None:
        return front.records.place_of(front.shape.slots[since], row), end
    return int(front.records.places[row] + front.records.lengths()[row]), end


def _span(document: Document, instance: Instance, slot: Slot) -> tuple[int, int]:
    how = slot.tie.sum
    assert how is not None
    names = {**document.numbers, "region.at": instance.at}
    start, end = (evaluate(x, names, document.file.name, slot.tie.name) for x in (how.start, how.end))
    if not 0 <= start <= end <= document.source.size:
        raise document.error(f"The sum covers {start:,} to {end:,}, outside the file.", instance, slot)
    return start, end


def blanked(source: Source, at: int, length: int, blank: bytes) -> Source:
    """A source with a span of it written over by a repeated byte; as it is where the span is not in it."""
    if not 0 <= at <= at + length <= source.size:
        return source
    parts = [Part(source, 0, at), Part(BytesSource((blank * length)[:length]), 0, length)]
    return ChainSource([*parts, Part(source, at + length, source.size - at - length)], source.name)


def sum_number(value: int | bytes, slot: Slot) -> int:
    """A sum as a field of numbers holds it: cut to the field's bits; of a digest its first bytes."""
    bits = _bits(slot)
    number = value if isinstance(value, int) else int.from_bytes(value[: bits // 8], "big")
    return number % (slot.limits()[1] + 1) if slot.field.type == "digits" else number & (1 << bits) - 1


def sum_bytes(value: int | bytes, slot: Slot, length: int) -> bytes:
    """A sum as a field of bytes or text holds it: cut to its length; as hexadecimal digits in a text."""
    text = slot.field.type == "text"
    if isinstance(value, int):
        value = value.to_bytes(max(1, (value.bit_length() + 7) // 8, 4 if text else length), "big")
    return (value.hex().encode() if text else value)[:length]


def id_of(slot: Slot, name: str) -> str:
    """The id that a path or a name has by the `hash` of a field, as it is shown."""
    assert slot.tie.hash is not None
    value = slot.tie.hash.of(name)
    if slot.whole:
        return ids(slot, [sum_number(value, slot)])[0]
    width = slot.type.width(slot.field) or (len(value) if isinstance(value, bytes) else 8)
    data = sum_bytes(value, slot, width)
    return data.decode() if slot.field.type == "text" else data.hex()


def sum_error(document: Document) -> ZubretError:
    """The error of sums that cover each other."""
    return ZubretError(
        "Sums cover each other, so they can't be worked out.",
        file=document.file.name,
        next="Say with `blank` which byte stands for a sum while it is taken.",
    )

"""Sums written anew: taken over the next document by the functions that reading uses, until none changes any more."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

import numpy as np

from ...source import Source
from ...source.sums import sum_of
from ..checks.sums import OF_ITEMS, sum_bytes, sum_error, sum_number, sums_of, taken
from ..document import Document, Instance, Slot
from ..document.extent import NewItem
from ..language.fields import SumModel
from .draft import Draft

PASSES = 8
"""How often sums may change each other."""


def write_sums(draft: Draft, new: Mapping[str, Instance], joined: Callable[[], Document]) -> None:
    """Sums of payloads that changed, of records, of regions, of spans: until none changes any more."""
    for instance, slot, how in sums_of(draft.document, OF_ITEMS):
        rows = dict(draft.rows(instance))
        for item, source in _sources(draft, how.of):
            if item in rows:
                _store(new[instance.name], slot, rows[item], sum_of(how.rule, source))
    version, stands, seen = 0, 0, dict[tuple[str, str], int]()
    document = joined()
    for _ in range(PASSES):
        before = version
        for instance, slot, how in sums_of(draft.document):
            key = instance.name, slot.tie.name
            if how.of in OF_ITEMS or seen.get(key) == version:
                continue
            if how.of in ("file", "span", "body") and stands != version:
                document, stands = joined(), version
            for row in _rows(draft, new, instance, how):
                if how.of in ("record", "body", "file", "span") or document.instance(how.of) is not None:
                    version += _store(new[instance.name], slot, row, taken(document, new[instance.name], slot, row))
            seen[key] = version
        if version == before:
            return
    raise sum_error(draft.document)


def _rows(draft: Draft, new: Mapping[str, Instance], instance: Instance, how: SumModel) -> Iterable[int]:
    """The records whose sums may be others than before."""
    if how.of != "body":
        return range(new[instance.name].records.count if how.of == "record" else 1)
    front = draft.document.instance(instance.region.each or "")
    assert front is not None
    fresh = {item for file in draft.files.values() for e in file.extents if e.new is not None for item in e.items}
    rows = {row for item, row in draft.rows(front) if item in fresh}
    before, after = front.records, new[front.name].records
    return sorted(rows | {r for r in range(before.count) if before.bytes_of(r) != after.bytes_of(r)})


def _sources(draft: Draft, of: str) -> Iterator[tuple[int, Source]]:
    """(item, bytes) of what changed."""
    if of == "listed":
        yield from draft.listed.items()
        return
    for file in draft.files.values():
        for extent in file.extents:
            if extent.new is not None:
                yield from ((item, _covered(extent.new, of)) for item in extent.items)
    yield from ((item, _covered(new, of)) for item, new in draft.cut.items())


def _covered(new: NewItem, of: str) -> Source:
    return new.payload if of == "stored" else new.unpacked or new.payload


def _store(new: Instance, slot: Slot, row: int, value: int | bytes) -> int:
    """Write a sum into its field of the next records; 1 where that changes a byte."""
    records = new.records
    has = records.has(slot)
    if has is not None and not has[row]:
        return 0
    at, length = records.span(slot, row)
    old = records.data[at : at + length].tobytes()
    if not slot.whole:
        data = sum_bytes(value, slot, length)
        data = data.upper() if slot.field.type == "text" and old.isupper() else data
        return int(records.patch(slot, row, data))
    number = sum_number(value, slot)
    if slot.bits:
        whole = int(records.numbers(slot.around)[row])
        mask = ((1 << slot.bits) - 1) << slot.shift
        number = whole & ~mask | number << slot.shift
    kind = np.uint64 if number >= 1 << 63 else np.int64
    encoded = slot.type.encode(slot.field, np.array([number], kind), [old], new.shape.big_of(slot.field))
    return int(records.patch(slot, row, encoded[0]))

"""Which bytes of a region's new records stood in its old ones already, and which fields hold others now."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ...source import Mark
from ..document import Instance, Records, Slot


def marks_of(old: Instance, new: Instance, order: Sequence[int] | None, row: int = -1) -> list[Mark]:
    """The new bytes of a region from first to last, or of one record of it.

    order: for each new record, the old one that it comes from; None for a region without records.
    """
    if row >= 0 and order is not None:
        start, was = int(new.records.starts[row]), int(old.records.starts[order[row]])
        marks = _record(old, new, row, order[row])
        return [m._replace(at=m.at - start, old=m.old - was if m.old >= 0 else -1) for m in marks]
    if order is None:
        return _pool(old, new)
    identity = len(order) == old.records.count and order == list(range(len(order)))
    if identity and old.records.size and len(old.records.data) == len(new.records.data):
        marks = list(_aligned(old, new))
    elif not old.records.count:
        marks = [Mark(0, len(new.records.data), -1, f"{new.name}: new records")] if len(order) else []
    else:
        marks = [m for n, before in enumerate(order) for m in _record(old, new, n, before)]
    tail = new.content.size - len(new.records.data)
    if tail > 0:
        marks.append(Mark(len(new.records.data), tail, len(old.records.data)))
    return marks


def _pool(old: Instance, new: Instance) -> list[Mark]:
    """A pool keeps what it has and grows at its end."""
    kept = min(old.content.size, new.content.size)
    marks = [Mark(0, kept, 0)] if kept else []
    if new.content.size > kept:
        marks.append(Mark(kept, new.content.size - kept, -1, f"{new.name}: new texts"))
    return marks


def label(new: Instance, slot: Slot, row: int) -> str:
    """What people call a field of a record."""
    name = f"{new.name}.{slot.field.name}"
    return name if not new.many else f"{name} of record {row}"


def _aligned(old: Instance, new: Instance) -> Iterator[Mark]:
    """Records that are all alike and stand one for one: what differs is found by comparing whole columns."""
    records, size = new.records, new.records.size
    if not records.count:
        return
    a = old.records.data[: records.count * size].reshape(-1, size)
    b = records.data.reshape(-1, size)
    differs = a != b
    rows = np.flatnonzero(differs.any(axis=1)).tolist()
    fields, at = [], 0
    for slot in new.shape.fields:
        if not records.absent(slot):
            width = new.shape.widths[slot.field.name] or 0
            fields.append((slot, at, width))
            at += width
    cursor = 0
    for row in rows:
        for slot, offset, width in fields:
            if differs[row, offset : offset + width].any():
                place = row * size + offset
                if place > cursor:
                    yield Mark(cursor, place - cursor, cursor)
                yield Mark(place, width, -1, label(new, slot, row), bool(slot.field.sum))
                cursor = place + width
    if cursor < len(records.data):
        yield Mark(cursor, len(records.data) - cursor, cursor)


def _record(old: Instance, new: Instance, row: int, before: int) -> list[Mark]:
    """One record, field by field."""
    a, b = old.records, new.records
    start, was = int(b.starts[row]), int(a.starts[before])
    if a.bytes_of(before) == b.bytes_of(row):
        return [Mark(start, b.end(row) - start, was)] if b.end(row) > start else []
    marks: list[Mark] = []
    for slot in new.shape.fields:
        end, old_end = _reach(b, slot, row), _reach(a, slot, before)
        start, was = min(start, end), min(was, old_end)
        if end <= start:
            continue
        same = b.data[start:end].tobytes() == a.data[was:old_end].tobytes()
        marks.append(Mark(start, end - start, was if same else -1, "" if same else label(new, slot, row),
                          bool(slot.field.sum)))  # fmt: skip
        start, was = end, old_end
    return marks


def _reach(records: Records, slot: Slot, row: int) -> int:
    """The place behind a field's content and its end mark."""
    at, length = records.span(slot, row)
    return at if length < 0 else at + length + len(slot.field.ends or b"")

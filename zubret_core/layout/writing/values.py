"""Every meaning put into its field: of items, of regions that stand once, of bodies, and of texts in pools."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...base import ZubretError
from ...source import BytesSource
from ..document import Instance, Slot
from ..document.extent import Grid
from ..document.pools import pool_places
from ..document.ties import Scope, meanings, results
from ..reading.regions import read_records
from ..types.numbers import Result
from .draft import Draft, listed
from .records import Table


def write_values(draft: Draft) -> None:
    """Put every meaning into its field: first in regions that stand once, which others may name."""
    whole = whole_values(draft)
    draft.numbers["file.size"] = draft.files[""].new_size
    for instance in draft.document.instances:
        if instance.piece < 0 and "at" not in instance.shape.slots:
            at = draft.extent_of(instance).new_at if instance.body is None else instance.at
            draft.numbers[f"{instance.name}.at"] = at
    instances = [i for i in draft.document.instances if i.region.pool is None]
    for instance in sorted(instances, key=lambda i: not i.region.once):
        _write_region_values(draft, instance, whole)
        if instance.region.once:
            table = draft.tables[instance.name]
            for name, slot in instance.shape.slots.items():
                if slot.whole and not instance.records.absent(slot):
                    draft.numbers[f"{instance.name}.{name}"] = int(table.numbers(slot)[0])


def check_results(draft: Draft) -> None:
    """An error where a meaning that follows from other fields does not come out as it shall."""
    for instance in draft.document.instances:
        for slot in instance.shape.fields:
            column = draft.meant(slot.tie.means or "")
            if not isinstance(slot.type, Result) or column is None:
                continue
            scope, has = draft.scope(instance), instance.records.has(slot)
            given = listed(meanings(slot, results(slot, scope), scope))
            for item, row in draft.rows(instance):
                wanted = column[item]
                if (has is None or has[draft.tables[instance.name].order[row]]) and given[row] != wanted:
                    raise scope.fail(
                        f"{wanted} can't be stored: {slot.tie.means} follows from other fields, which give {given[row]}.",
                        slot, row, "Fit the replacement to what stands there.",
                    )  # fmt: skip


def check_shapes(draft: Draft) -> None:
    """An error where a record would be read otherwise than it is written, since what decides about its fields has changed."""
    for instance in draft.document.instances:
        if instance.region.pool is not None or not draft.tables[instance.name].order:
            continue
        if instance.region.items is not None:
            _check_items(draft, instance, instance.region.items)
        if not instance.shape.shifting:
            continue
        written = draft.tables[instance.name].records
        apart = instance.body is not None  # its records stand one by one
        for first in range(written.count if apart else 1):
            data, count = (written.bytes_of(first), 1) if apart else (written.data.tobytes(), written.count)
            _check_shape(draft, instance, first, count, BytesSource(data, instance.name))


def _check_items(draft: Draft, instance: Instance, items: int | str) -> None:
    """An error where a record would be an item no longer, since what decides about that has changed."""
    scope = draft.scope(instance)
    there = np.broadcast_to(scope.value(items, f"{instance.name}.items"), len(draft.tables[instance.name].order))
    for row in instance.rows.tolist():  # of such a table none goes, and none is added
        if not there[row]:
            slot = instance.shape.fields[0]
            raise scope.fail(
                f"Record {row:,} of {instance.name} would be none of the layout's `items` any more.",
                slot, row, "Take a replacement that the record can tell as one, such as one that is not empty.",
            )  # fmt: skip


def _check_shape(draft: Draft, instance: Instance, first: int, count: int, data: BytesSource) -> None:
    written, numbers = draft.tables[instance.name].records, draft.numbers_at(instance)
    place, slots = int(written.places[first]), instance.shape.fields
    shifting = next(s for s in slots if s.field.when is not None or s.field.length_worked_out is not None)
    wrong = (shifting, first, "could not be read again")
    try:
        read, _ = read_records(instance.shape, data, 0, data.size, count, numbers, place, alone=True)
    except ZubretError:
        pass
    else:
        sizes = [(s, read.cells(s).spans()[1], written.cells(s).spans()[1][first : first + count]) for s in slots]
        differ = [(int(np.argmax(a != b)), s, a, b) for s, a, b in sizes if (a != b).any()]
        if not differ:
            return
        row, slot, a, b = min(differ, key=lambda found: found[0])
        wrong = (slot, first + row, f"would be read as {_bytes(int(a[row]))}, and it has {_bytes(int(b[row]))}")
    slot, row, what = wrong
    raise draft.scope(instance).fail(
        f"{slot.field.name} {what}: what decides about that has changed.",
        slot, row, "Fit the replacement to what stands there: its codec, its channels, its loop.",
    )  # fmt: skip


def _bytes(size: int) -> str:
    return "nothing" if size < 0 else "1 byte" if size == 1 else f"{size:,} bytes"


def _write_region_values(draft: Draft, instance: Instance, whole: Mapping[str, Any]) -> None:
    table, scope = draft.tables[instance.name], draft.scope(instance)
    pairs = draft.rows(instance)
    items, rows = [item for item, _ in pairs], [row for _, row in pairs]
    for slot in instance.shape.order:
        owner, _, what = (slot.tie.means or "").partition(".")
        column = draft.meant(slot.tie.means or "")
        if column is not None:
            _put(draft, table, slot, [column[item] for item in items], rows, scope)
            if instance.region.sentinel and what in ("at", "end") and instance.records.count:
                _put_sentinel(draft, instance, slot, scope)
        elif instance.region.once and slot.tie.means and slot.tie.means in whole:
            table.put(slot, [whole[slot.tie.means]], [0], scope)
        elif instance.region.linked and slot.tie.means == f"{instance.region.name}.next":
            table.put(slot, [whole.get(f"{instance.region.name} {instance.piece + 1}.at")], [0], scope)
        elif owner == "point":
            values = draft.points.get(instance.name, {}).get(what)
            if values is None and not isinstance(slot.tie.base, int):
                values = listed(draft.document.values(instance, slot))  # it counts from something that moves
            if values is not None:
                _put(draft, table, slot, values, list(range(len(values))), scope)
        elif owner and not instance.region.once and _held(draft, instance, owner):
            pieces = _held(draft, instance, owner)
            table.put(slot, [whole.get(f"{owner} {pieces[row]}.{what}") for row in pieces], list(pieces), scope)
        elif owner == "folder":
            values = listed(draft.document.values(instance, slot))
            _put(draft, table, slot, values, list(range(len(values))), scope)
    if instance.region.body is not None:
        _put_bodies(draft, instance, table, pairs, scope)


def _held(draft: Draft, instance: Instance, region: str) -> dict[int, int]:
    """The numbers of a region's pieces that stand for the records of an instance, by the record."""
    if region not in draft.held:
        by_holder: dict[str, dict[int, int]] = {}
        for other in draft.document.instances:
            if other.region.name == region and other.piece >= 0 and other.holder is not None:
                by_holder.setdefault(other.holder[0].name, {})[other.holder[1]] = other.piece
        draft.held[region] = by_holder
    return draft.held[region].get(instance.name, {})


def _put(draft: Draft, table: Table, slot: Slot, values: list, rows: list[int], scope: Scope) -> None:
    if slot.tie.pool:
        _put_pooled(draft, table, slot, values, rows, scope)
    else:
        table.put(slot, values, rows, scope)


def _put_sentinel(draft: Draft, instance: Instance, slot: Slot, scope: Scope) -> None:
    """A last record that says where the payloads end goes on saying it; one that says anything else stays."""
    old = listed(draft.document.values(instance, slot))[-1]
    payloads = [e for f in draft.files.values() for e in f.extents if e.items]
    kept = [e for e in payloads if e.at >= 0]
    for was, now in (
        (
            max((e.at + e.length for e in kept), default=0),
            max((e.new_at + e.new_length for e in payloads), default=0),
        ),
        (max((e.end for e in kept), default=0), max((e.new_end for e in payloads), default=0)),
    ):
        if old == was:
            draft.tables[instance.name].put(slot, [now], [len(draft.tables[instance.name].order) - 1], scope)
            return


def _put_bodies(draft: Draft, instance: Instance, table: Table, pairs: list[tuple[int, int]], scope: Scope) -> None:
    """The sizes of bodies: of payloads as they are, of records that hold others by how far these reach."""
    body = instance.region.body
    assert body is not None and instance.body is not None
    slot = instance.shape.slots[body.size]
    table.put(slot, [draft.stored[item] for item, _ in pairs], [row for _, row in pairs], scope)
    if isinstance(slot.type, Result):
        return  # other fields say how long bodies are
    extents = draft.files[""].extents
    own = {e.record: n for n, e in enumerate(extents) if e.instance is instance and e.at >= 0}
    framed = draft.document.layout.frames(instance.region)
    for row in sorted(range(instance.records.count) if framed else instance.holders, reverse=True):
        at, size = instance.body[row].tolist()
        header = extents[own[row]]
        first, stop = own[row] + 1, at + size
        last = next((n for n in range(first, len(extents)) if extents[n].at >= stop), len(extents))
        within = extents[first:last]  # with the added ones, which stand behind the last payload
        if not any(e.at >= at for e in within):
            continue
        old_end, new_end = max(e.end for e in within if e.at >= 0), max(e.new_end for e in within)
        padded = Grid(body.align).above(old_end)
        fills = at + size == padded and (old_end != padded or row in instance.holders)  # the fill is counted, too
        end = Grid(body.align).above(new_end) if fills else new_end + at + size - old_end
        shift = header.new_at + header.new_length - header.at - header.length
        table.put(slot, [end - at - shift], [row], scope)


def _put_pooled(draft: Draft, table: Table, slot: Slot, values: list, rows: list[int], scope: Scope) -> None:
    """Where texts stand in their pool: where they were, or where the same text stands, or at the end, put there."""
    name = slot.tie.pool or ""
    pool = draft.document.instance(name)
    assert pool is not None and pool.region.pool is not None
    instance, encoding = table.instance, pool.region.pool.encoding
    old = listed(draft.document.values(instance, slot))
    scope_before = draft.document.scope(instance)
    was = pool_places(slot, instance.records.numbers(slot), scope_before).tolist() if len(old) else []
    if name not in draft.pool_places:
        draft.pool_places[name] = draft.document.pool_of(name).places()
    known = draft.pool_places[name]
    if slot.tie.text_length is not None:  # only the records say where texts end
        known |= {text: at for text, at in zip(old, was, strict=True) if text is not None and text not in known}
    out: list[int | None] = []
    for row, text in zip(rows, values, strict=True):
        before = table.order[row]
        if text is not None and old[before] != text and text not in known:
            whole = draft.pools.setdefault(name, bytearray(pool.records.data.tobytes()))
            place = draft.document.pool_of(name).added(whole, text.encode(encoding, "surrogateescape"))
            if place is None:
                raise table.error(f'"{text}" is too long for the number before it in {name}.', slot, row)
            known[text] = place
        out.append(None if text is None else was[before] if old[before] == text else known[text])
    table.put(slot, out, rows, scope)
    if slot.tie.text_length is not None:
        sizes = [
            (row, len(text.encode(encoding, "surrogateescape")))
            for row, text in zip(rows, values, strict=True)
            if text is not None
        ]
        length = instance.shape.slots[slot.tie.text_length]
        numbers = [size for _, size in sizes]
        table.put_numbers(length, np.array(numbers, np.int64), [row for row, _ in sizes], numbers)


def whole_values(draft: Draft) -> dict[str, Any]:
    """What regions that stand once say: old values, and those that follow from the new places."""
    document, whole = draft.document, dict(draft.document.once)
    for instance in document.instances:
        name = instance.name
        if instance.body is None:
            extent = draft.extent_of(instance)
            at, stored = extent.new_at, extent.new_length
            table = draft.tables.get(name)
            size = len(table.records.data) if table else len(draft.pools.get(name) or instance.records.data)
            size += max(0, instance.content.size - len(instance.records.data))
            whole |= {f"{name}.at": at, f"{name}.stored": stored, f"{name}.end": at + stored, f"{name}.size": size}
        whole[f"{name}.count"] = len(draft.tables[name].order) if name in draft.tables else 0
        if instance.piece >= 0:
            total = f"{instance.region.name}.count"
            whole[total] = whole[f"{name}.count"] + (whole[total] if instance.piece else 0)
            if not instance.piece:
                whole |= {
                    f"{instance.region.name}.{what}": whole[f"{name}.{what}"]
                    for what in ("at", "end", "stored", "size")
                }
    _payload_values(draft, whole)
    whole["file.size"] = draft.files[""].new_size
    whole["entries.count"] = whole["streams.count"] = document.count - len(draft.left_out) + len(draft.added)
    for key, model in document.layout.files.items():
        if model.volumes:
            used = [v for v in draft.columns.get("volume") or [] if isinstance(v, int)]
            whole[f"{key}.count"] = max(used, default=model.first) - model.first + 1
        elif (name := document.companion(key)) in draft.files:
            whole[f"{key}.size"] = draft.files[name].new_size
    return whole


def _payload_values(draft: Draft, whole: dict[str, Any]) -> None:
    """payload.at, payload.end and payload.stored follow the first and the last payload by as much as these move."""
    groups = ([e for e in f.extents if e.items] for f in draft.files.values())
    payloads = next((g for g in groups if g), [])
    if not payloads or draft.stood is None:
        return
    ahead = min(e.new_start for e in payloads) - draft.stood[0]
    behind = max(e.new_end for e in payloads) - draft.stood[1]
    for what, shift in (("at", ahead), ("end", behind), ("stored", behind - ahead)):
        if isinstance(whole.get(f"payload.{what}"), int):
            whole[f"payload.{what}"] += shift

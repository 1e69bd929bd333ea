"""Writing a file anew from its meanings: the inverse of reading.

Every tied field is written from its meaning, whether it changed or not; every other byte of a
record is carried over. A rebuild with no change therefore gives back the identical file, or
the layout is wrong.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from ..source import Built, BytesSource, ChainSource, FillSource, Part, Segment, Source, crc32_of
from .expression import evaluate
from .model import FieldModel, Region, Tied, ties_of
from .read import Place, Reading, Thing


@dataclass
class NewItem:
    """A replaced payload: its stored bytes, and the item's meanings that change with it."""

    payload: Source
    values: dict[str, object] = field(default_factory=dict)


def rebuild(reading: Reading, changes: Mapping[int, NewItem], *, anew: bool = False) -> Built:
    """The file with some payloads replaced; nothing is copied until the result is written.

    In place when every new payload fits its slot, otherwise everything behind moves. With
    `anew` all payloads are laid out afresh even if nothing changed. A replaced payload that
    several items share is replaced for all of them.
    """
    things = reading.things()
    by_thing = _changes_by_thing(reading, things, changes)
    in_place = not anew and all(new.payload.size <= t.slot for t, new in by_thing)
    replaced = {id(t): new for t, new in by_thing}
    walk = _lay(reading, things, replaced, in_place)
    records = _write_records(reading, things, replaced, walk)
    parts: list[Part] = []
    segments: list[Segment] = []
    cursor, moved = 0, 0

    def put(kind: str, source: Source, at: int, length: int, label: str = "", index: int = -1) -> None:
        nonlocal cursor
        if length:
            parts.append(Part(source, at, length))
            segments.append(Segment(kind, cursor, length, label, index))
            cursor += length

    payload_fill = reading.layout.payload.fill[0]
    for thing in things:
        at = walk.at[id(thing)]
        put("padding", FillSource(payload_fill, at - cursor), 0, at - cursor)
        new = replaced.get(id(thing))
        if thing.place:
            put(thing.kind, records[thing.place.region.name], 0, thing.length, thing.label)
        elif new:
            put("new", new.payload, 0, new.payload.size, "", thing.index)
        else:
            put("payload", reading.source, thing.at, thing.length, "", thing.index)
            moved += len(thing.rows) if at != thing.at else 0
        kept = _kept(thing, new)
        if kept and not (in_place and thing.free):
            gap_at = thing.at + thing.length if in_place else cursor
            put("padding", FillSource(payload_fill, gap_at - cursor), 0, gap_at - cursor)
            put("padding" if thing.free else "unexplained", reading.source, thing.at + thing.length, kept)
    put("padding", FillSource(reading.layout.end.fill[0], walk.size - cursor), 0, walk.size - cursor)
    return Built(ChainSource(parts, reading.source.name), segments, in_place, moved)


def _changes_by_thing(
    reading: Reading, things: list[Thing], changes: Mapping[int, NewItem]
) -> list[tuple[Thing, NewItem]]:
    """Each replaced payload once, even where several items share it."""
    empty = [row for row in changes if not (reading.column("stored") or [])[row]]
    if empty:
        raise ZubretError(
            "An empty payload has no place in the file, so nothing can be put there.",
            file=reading.source.name,
            field=f"record {empty[0]}",
            next="Remove this swap.",
        )
    out = []
    for thing in things:
        wanted = [changes[row] for row in thing.rows if row in changes]
        if any(w is not wanted[0] and w.payload is not wanted[0].payload for w in wanted):
            raise ZubretError(
                f"Records {', '.join(str(r) for r in thing.rows)} share one payload but were given different ones.",
                file=reading.source.name,
                offset=thing.at,
                next="Keep the swap of one of them: it changes all.",
            )
        if wanted:
            out.append((thing, wanted[0]))
    return out


def _kept(thing: Thing, new: NewItem | None) -> int:
    """Bytes of the gap that are carried over: free space behind a replaced payload is not."""
    return 0 if thing.regular or (new and thing.free) else thing.gap


class _Walk:
    """New places: `at` by the identity of a thing, and the file's new size."""

    def __init__(self) -> None:
        self.at: dict[int, int] = {}
        self.size = 0

    def end(self, thing: Thing, replaced: Mapping[int, NewItem]) -> int:
        new = replaced.get(id(thing))
        return self.at[id(thing)] + (new.payload.size if new else thing.length)


def _lay(reading: Reading, things: list[Thing], replaced: Mapping[int, NewItem], in_place: bool) -> _Walk:
    walk = _Walk()
    if in_place:
        walk.at = {id(t): t.at for t in things}
        walk.size = reading.source.size
        return walk
    layout, cursor, explained = reading.layout, 0, True
    for thing in things:
        if explained:
            align = thing.place.region.align if thing.place else layout.payload.align
        else:  # behind carried bytes only what the format demands is aligned
            align = 1 if thing.place else layout.payload.align
        walk.at[id(thing)] = cursor + -cursor % align
        kept = _kept(thing, replaced.get(id(thing)))
        cursor = walk.end(thing, replaced) + kept
        explained = not kept
        if thing.place and walk.at[id(thing)] != thing.at:
            _may_move(reading, thing.place)
    walk.size = cursor + (-cursor % layout.end.align if explained else 0)
    return walk


def _may_move(reading: Reading, place: Place) -> None:
    if f"{place.region.name}.at" not in reading.whole:
        raise ZubretError(
            f"Region {place.region.name} would have to move, but no field of the layout says where it stands.",
            file=reading.source.name,
            offset=place.at,
            field=place.region.name,
            next=f"Shorten the replacement so that it fits its slot, or tie a field to {place.region.name}.at.",
        )


def _write_records(
    reading: Reading, things: list[Thing], replaced: Mapping[int, NewItem], walk: _Walk
) -> dict[str, Source]:
    """The bytes of every region, written from the meanings."""
    columns: dict[str, list] = {}
    for tie in ties_of(reading.items.region):
        if tie.means and tie.means.startswith(reading.kind + "."):
            columns[tie.means] = list(reading.column(tie.means.split(".")[1]) or [])
    at_key, stored_key = f"{reading.kind}.at", f"{reading.kind}.stored"
    for thing in things:
        new = replaced.get(id(thing))
        for row in thing.rows:
            columns[at_key][row] = walk.at[id(thing)]
            if new:
                columns[stored_key][row] = new.payload.size
                for what, value in new.values.items():
                    if f"{reading.kind}.{what}" in columns:
                        columns[f"{reading.kind}.{what}"][row] = value

    whole = dict(reading.whole)
    for place in reading.places:
        thing = next(t for t in things if t.place is place)
        whole[f"{place.region.name}.at"] = walk.at[id(thing)]
    payloads = [t for t in things if t.rows]
    if payloads and isinstance(whole.get("payload.at"), int):
        whole["payload.at"] += walk.at[id(payloads[0])] - payloads[0].at  # type: ignore[operator]
    whole["file.size"] = walk.size
    whole["entries.count"] = whole["streams.count"] = reading.count

    numbers: dict[str, int] = {}
    records: dict[str, NDArray] = {}
    for place in reading.places:
        region, out = place.region, place.records.copy()
        for tie in ties_of(region):
            if not tie.means:
                continue
            if tie.means in columns:
                values = columns[tie.means]
            elif tie.means in whole:
                values = [whole[tie.means]] * len(out)
            else:
                continue
            _assign(reading, place, out, tie, values, numbers)
        records[region.name] = out
        if region.repeat is None:
            _learn_numbers(Place(region, place.at, out), numbers)
    # Sums last: they cover other regions as they will be written.
    for place in reading.places:
        for tie in ties_of(place.region):
            name = (tie.means or "").removesuffix(".crc32")
            if tie.means and tie.means.endswith(".crc32") and name in records and name != place.region.name:
                value = crc32_of(BytesSource(records[name].tobytes()))
                out = records[place.region.name]
                _assign(reading, place, out, tie, [value] * len(out), numbers)
    return {name: BytesSource(out.tobytes(), name) for name, out in records.items()}


def _learn_numbers(place: Place, numbers: dict[str, int]) -> None:
    for tie in ties_of(place.region):
        stored = place.stored(tie)[0]
        if isinstance(stored, np.integer):
            numbers[f"{place.region.name}.{tie.name}"] = int(stored)


def _assign(reading: Reading, place: Place, out: NDArray, tie: Tied, values: list, numbers: Mapping[str, int]) -> None:
    """Write the meanings `values` into the stored field of all records."""
    if isinstance(tie, FieldModel) and tie.type == "text":
        _assign_text(reading, place, out, tie, values)
        return
    stored = _inverted(reading, place, tie, values, numbers)
    if isinstance(tie, FieldModel):
        info = np.iinfo(out[tie.name].dtype)
        low, high = int(info.min), int(info.max)
    else:
        low, high = 0, (1 << tie.bits) - 1  # type: ignore[attr-defined]
    wrong = (stored < low) | (stored > high)
    if wrong.any():
        row = int(np.argmax(wrong))
        raise reading.error(
            f"{values[row]:,} is too large for its field, which holds stored numbers from {low:,} to {high:,}.",
            place,
            tie,
            row,
            next="Shorten the replacement: the format can't hold more.",
        )
    if isinstance(tie, FieldModel):
        out[tie.name] = stored
        return
    holder, shift = place.holder(tie)
    mask = ((1 << tie.bits) - 1) << shift  # type: ignore[attr-defined]
    words = out[holder.name].astype(np.uint64) & np.uint64(~mask & 0xFFFFFFFFFFFFFFFF)
    words |= stored.astype(np.uint64) << np.uint64(shift)
    out[holder.name] = words.astype(out[holder.name].dtype)


def _inverted(reading: Reading, place: Place, tie: Tied, values: list, numbers: Mapping[str, int]) -> NDArray:
    """Meanings as stored numbers: the value map or the unit and base, backwards."""
    if tie.values is not None:
        back = {v: k for k, v in tie.values.items()}
        for row, value in enumerate(values):
            if value not in back:
                raise reading.error(
                    f"{value} can't be stored: the field knows {', '.join(map(str, back))}.",
                    place,
                    tie,
                    row,
                    next="Fit the replacement to one of these.",
                )
        return np.array([back[v] for v in values], np.int64)
    unit = evaluate(tie.unit, numbers, reading.source.name, tie.name)
    base = evaluate(tie.base, numbers, reading.source.name, tie.name)
    try:
        wide = np.array([int(v) for v in values], np.int64) - base
    except OverflowError:
        raise reading.error("A number beyond 64 bits can't be stored.", place, tie) from None
    if unit != 1:
        rest = wide % unit
        if rest.any():
            row = int(np.argmax(rest != 0))
            raise reading.error(
                f"{values[row]:,} can't be stored: the field counts in steps of {unit:,} from {base:,}.",
                place,
                tie,
                row,
                next="Fit the replacement to such a step.",
            )
        wide //= unit
    return wide


def _assign_text(reading: Reading, place: Place, out: NDArray, tie: FieldModel, values: list) -> None:
    """Texts in fixed fields; what stands behind the first zero byte is carried over."""
    old = reading._column(place, tie)
    assert tie.length is not None
    for row, (value, before) in enumerate(zip(values, old, strict=True)):
        if value == before:
            continue  # the bytes at hand are this text already
        data = value.encode(tie.encoding, "surrogateescape")
        if len(data) > tie.length:
            raise reading.error(f'"{value}" is longer than {tie.length} bytes.', place, tie, row)
        out[tie.name][row] = data


def region_untied(reading: Reading, region: Region) -> bytes:
    """The bytes of a region with every tied field blanked: what a rebuild must carry over."""
    place = next(p for p in reading.places if p.region is region)
    out = place.records.copy()
    for f in region.fields:
        if f.means:
            out[f.name] = b"" if f.length else 0
        elif f.parts:
            mask, shift = 0, 0
            for part in f.parts:
                mask |= ((1 << part.bits) - 1) << shift if part.means else 0
                shift += part.bits
            out[f.name] &= out[f.name].dtype.type(~mask & ((1 << int(f.type[1:])) - 1))
    return out.tobytes()

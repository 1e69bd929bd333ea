"""What a layout does not explain and what would be wrong after a rebuild: ties that are probably missing, tables that went with a sound.

Where payloads move, a file may hold more numbers that depend on their places than its layout knows: a second index, loop
points counted from a common pool, the file's size in a header. What a layout does not tie is carried over, so such a number
would go on saying the old place. It can't be known for sure what an untied number is; but one that equals the old place of
its own payload in record after record, or lies inside it each time, hardly does so by chance. Of a table that follows a sound the old payload tells whether its rule is right.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from ..layout import Document, read_layout
from ..layout.checks.extents import extents_of
from ..layout.document import Group, Instance, Slot
from ..layout.document.ties import line_of
from ..layout.language.order import named_by
from ..layout.language.schema import ties_of
from ..layout.writing.points import points_by_rule, stored_points
from ..locate import Spot
from ..source import Built, Source

SURE = 3
"""Records in which a number must say the same of its payload before it is suspected."""
SHARE = 0.8
"""Of all records that moved."""
CHANCE = -7.0
"""The decimal logarithm of the chance below which it is no accident that numbers lie inside their payloads."""
ORDERED = 8
"""Records from which on their order is no accident."""
SMALL = 256
"""Numbers below this are too common to say anything by themselves."""
LARGEST = 1 << 22
"""Bytes that nothing explains, up to which they are searched."""


@dataclass(frozen=True)
class Suspect:
    """A tie that is probably missing. file; place: the field, or the byte offset in words; evidence: what it equals, and
    how often; line: what would tie it, where a layout can say it."""

    file: str
    place: str
    evidence: str
    line: str

    def __str__(self) -> str:
        return f"{self.place}: {self.evidence}"


@dataclass
class _Moved:
    """Old and new places of the items of a group: at, end, stored (items,), and which of them are not as before."""

    at: NDArray[np.int64]
    end: NDArray[np.int64]
    stored: NDArray[np.int64]
    changed: NDArray[np.bool_]


def suspects_of(spot: Spot, built: Built) -> list[Suspect]:
    """What is suspicious in a bank or an archive that a layout describes, once it is rebuilt so; nothing for others."""
    old = spot.reader.document
    if old is None:
        return []

    def beside(name: str) -> Source:
        return built.others[name].source if name in built.others else old.file_named(name)

    kept, built.source.name = built.source.name, old.file.name
    try:
        new = read_layout(old.layout, built.source, beside, old.keys)
    except ZubretError:
        return []  # the proof says what is wrong with it
    finally:
        built.source.name = kept
    changed = sorted({s.item for s in built.segments if s.kind == "new" and s.item >= 0})
    return [*suspects(old, new, spot.name), *_stale(spot, old, new, changed)]


def suspects(old: Document, new: Document, name: str = "") -> list[Suspect]:
    """What is suspicious in `old`, whose items stand elsewhere in `new`."""
    if not old.layout.has_payloads or old.count > new.count:
        return []
    found: list[Suspect] = []
    places: set[int] = set()
    for group in old.groups:
        moved = _moved(old, new, group)
        if not moved.changed.any():
            continue
        places |= set(moved.at[moved.changed].tolist())
        for instance in group.instances:
            for slot in _untied(old, instance):
                found += _in_record(old, group, instance, slot, moved, name)
    if places:
        found += _elsewhere(old, new, places, name)
    return found + list(_out_of_order(old, new, name))


def _out_of_order(old: Document, new: Document, file: str) -> Iterator[Suspect]:
    """Tables in order of a number, in which what was added stands at the end and not in its place."""
    for before, after in zip(old.groups, new.groups, strict=False):
        if not ORDERED <= before.count < after.count:
            continue
        for instance, slot in old.slots(f"{old.kind}.id", before):
            now = next((i for i in after.instances if i.name == instance.name), None)
            if slot.whole and now is not None and (order := _order(instance, slot)) and order != _order(now, slot):
                evidence = (
                    f"all {before.count:,} records stand in {order} order of it, but what is added stands at the end: a game that "
                    "searches the table by halves does not find it"
                )
                yield Suspect(file, f"{instance.name}.{slot.tie.name}", evidence, "")


def _order(instance: Instance, slot: Slot) -> str:
    """In which order of a number the records of items stand; nothing where in none."""
    values = instance.records.numbers(slot)[instance.rows]
    if (values[1:] > values[:-1]).all():
        return "ascending"
    return "descending" if (values[1:] < values[:-1]).all() else ""


def _moved(old: Document, new: Document, group: Group) -> _Moved:
    rows = slice(group.first, group.first + group.count)
    (at, stored, _), (new_at, new_stored, _) = old.spans(), new.spans()
    at, stored = at[rows], stored[rows]
    changed = (at != new_at[rows]) | (stored != new_stored[rows])
    return _Moved(at, at + stored, stored, changed)


def _untied(document: Document, instance: Instance) -> Iterator[Slot]:
    """The whole numbers of a region that nothing ties, demands or names."""
    region = instance.region
    named = {n for t in ties_of(region) for n in named_by(t)} | set(instance.shape.lengths)
    named |= {region.body.size} if region.body else set()
    for name, slot in instance.shape.slots.items():
        tie, field = slot.tie, slot.field
        plain = slot.whole and not tie.means and not tie.sum and not (slot.bits == 0 and field.parts)
        free = name not in named and field.equals is None and field.one_of is None
        if plain and free and not instance.records.absent(slot):
            yield slot


def _in_record(
    document: Document, group: Group, instance: Instance, slot: Slot, moved: _Moved, file: str
) -> Iterator[Suspect]:
    """A number in the records of the items themselves."""
    values = instance.records.numbers(slot)[instance.rows].astype(np.int64)
    rows = moved.changed & (values != 0)
    place, kind = f"{instance.name}.{slot.tie.name}", document.kind
    for unit, base, words in _lines(document, group, moved):
        with np.errstate(over="ignore"):
            meant = values * unit + base
        for what, column in (("at", moved.at), ("end", moved.end)):
            hits = rows & (meant == column)
            if _sure(int(hits.sum()), int(rows.sum()), values[hits]):
                told = "begins" if what == "at" else "ends"
                evidence = f"in {int(hits.sum()):,} of {int(rows.sum()):,} records it is where the {kind} {told}{words}"
                yield Suspect(file, place, evidence, _line(slot, f"{kind}.{what}", unit, base))
                return
        inside = rows & (meant >= moved.at) & (meant <= moved.end)
        if _inside_by_no_chance(inside, rows, moved) and len(set(values[inside].tolist())) >= SURE:
            evidence = (
                f"in {int(inside.sum()):,} of {int(rows.sum()):,} records it lies inside the {kind}'s own bytes{words}, "
                "so it counts from the same place as they do"
            )
            yield Suspect(file, place, evidence, _loop_line(document, group, slot, unit))
            return
    sizes = moved.changed & (values == moved.stored) & (moved.stored >= SMALL)
    if _sure(int(sizes.sum()), int(rows.sum()), values[sizes]):
        evidence = f"in {int(sizes.sum()):,} of {int(rows.sum()):,} records it is the number of stored bytes"
        yield Suspect(file, place, evidence, _line(slot, f"{kind}.stored", 1, 0))


def _sure(hits: int, of: int, values: NDArray[np.int64]) -> bool:
    """Whether so many hits are no accident: several different numbers, or two large ones."""
    different = len(set(values.tolist()))
    many = different >= SURE and hits >= SHARE * of
    return many or (hits == of and different == hits >= 2 and bool((values >= SMALL).all()))


def _inside_by_no_chance(inside: NDArray[np.bool_], rows: NDArray[np.bool_], moved: _Moved) -> bool:
    count, of = int(inside.sum()), int(rows.sum())
    room = float(moved.end.max() - moved.at.min()) or 1.0
    if count < SURE or count < SHARE * of:
        return False
    shares = np.clip((moved.stored[inside] + 1) / room, 1e-12, 1.0)
    return float(np.log10(shares).sum()) + _ways(of, count) < CHANCE


def _ways(of: int, hits: int) -> float:
    """The decimal logarithm of in how many ways so many records can be chosen."""
    return (math.lgamma(of + 1) - math.lgamma(hits + 1) - math.lgamma(of - hits + 1)) / math.log(10)


def _lines(document: Document, group: Group, moved: _Moved) -> list[tuple[int, int, str]]:
    """(unit, base, words) in which a place may be counted: as the layout's own ties count, in bytes, from the first."""
    out: dict[tuple[int, int], str] = {}
    for what in ("at", "end"):
        for instance, slot in document.slots(f"{document.kind}.{what}", group):
            num, den, base = line_of(slot, document.scope(instance))
            if isinstance(num, int) and isinstance(base, int) and isinstance(den, int) and den == 1 and num > 0:
                out.setdefault((num, base), f", counted as {slot.tie.name} is" if (num, base) != (1, 0) else "")
    first = int(moved.at.min())
    out.setdefault((1, 0), "")
    out.setdefault((1, first), ", counted from the first one")
    if document.kind == "stream":
        for size in (2, 4):
            out.setdefault((size, first), f", counted in {size} bytes from the first one")
            out.setdefault((size, 0), f", counted in {size} bytes")
    return [(unit, base, words) for (unit, base), words in out.items()]


def _line(slot: Slot, means: str, unit: int, base: int) -> str:
    more = (f", unit: {unit}" if unit != 1 else "") + (f", base: {base}" if base else "")
    kind = f"bits: {slot.bits}" if slot.bits else f"type: {slot.field.type}"
    return f"{{name: {slot.tie.name}, {kind}, means: {means}{more}}}"


def _loop_line(document: Document, group: Group, slot: Slot, unit: int) -> str:
    """What ties a loop point that counts from the pool: its base is the record's own place, backwards."""
    if document.kind != "stream":
        return f"{{name: {slot.tie.name}, ..., base: record.at}} or another tie to the entry's place"
    own = next((s.tie.name for _, s in document.slots("stream.at", group)), "stream.at")
    base = f'"-{own}"' if unit in (1, 2, 4) else '"-stream.at"'
    return f"{{name: {slot.tie.name}, type: {slot.field.type}, means: stream.loop_start, base: {base}}} (or loop_end)"


# Tables that went with a sound -------------------------------------------------------------------------


def _stale(spot: Spot, old: Document, new: Document, changed: list[int]) -> Iterator[Suspect]:
    """Tables of the streams that are replaced."""
    if old.kind != "stream" or not changed:
        return
    for item in changed:
        for table in old.followers(item):
            rule = table.region.follows
            assert rule is not None
            yield from _rule(spot, old, item, table) if rule.every else _marks(spot, old, new, item, table)
    for region in old.layout.regions:
        around = old.layout.region(region.each) if region.each else None
        if old.layout.trails(region):
            continue
        if around in old.layout.item_regions() and region.follows is None and not any(t.means for t in ties_of(region)):
            evidence = f"it stands for each record of {region.each}, but nothing says how it follows from the sound"
            yield Suspect(spot.name, region.name, evidence, f"{{name: {region.name}, follows: {{every: ...}}}}")


def _rule(spot: Spot, old: Document, item: int, table: Instance) -> Iterator[Suspect]:
    """A table that says something else of the old sound than its rule does."""
    stream = spot.bank.streams[item]
    try:
        wanted = points_by_rule(old, table, stream.payload, stream.format, stream.format.rate)
    except ZubretError:
        return  # what can't be worked out stops the rebuild itself
    found = stored_points(old, table)
    for what, values in wanted.items():
        if len(values) != len(found[what]):
            differs = f"{len(values):,} records, and there are {len(found[what]):,}"
        else:
            wrong = [n for n, (a, b) in enumerate(zip(values, found[what], strict=True)) if a != b]
            if not wrong:
                continue
            n = wrong[0]
            differs = f"{_told(values[n])} in record {n:,}, where {_told(found[what][n])} stands"
        evidence = f"for the sound that stood there its rule gives as point.{what} {differs}"
        yield Suspect(spot.name, table.name, evidence, f"{{name: {table.region.name}, follows: ...}} or its fields")
        return


def _told(value: int | bytes | None) -> str:
    """A number or bytes in a sentence."""
    return "nothing" if value is None else value.hex(" ") if isinstance(value, bytes) else f"{value:,}"


def _marks(spot: Spot, old: Document, new: Document, item: int, table: Instance) -> Iterator[Suspect]:
    """Marks in time, which can't follow what is said."""
    if not table.records.count:
        return
    frames = new.format_column("frames")[item]
    marks = stored_points(new, new.named(table.name))["frame"]
    behind = sum(frames is not None and m is not None and m > frames for m in marks)
    evidence = f"{table.records.count:,} marks in time stay where they were in the old sound"
    evidence += f"; {behind:,} of them lie behind the end of the new one" if behind else ""
    yield Suspect(spot.name, table.name, evidence, "nothing to correct, but try it in the game")


# Outside the items' own records -----------------------------------------------------------------------


def _elsewhere(old: Document, new: Document, places: set[int], file: str) -> Iterator[Suspect]:
    """Second tables, headers, and bytes that nothing explains."""
    own = {i.name for g in old.groups for i in g.instances}
    large = np.array(sorted(p for p in places if p >= SMALL), np.int64)
    for instance in old.instances:
        if instance.name in own or not instance.records.count:
            continue
        for slot in _untied(old, instance):
            values = instance.records.numbers(slot).astype(np.int64)
            place = f"{instance.name}.{slot.tie.name}"
            if instance.region.once:
                yield from _once(old, new, instance, slot, int(values[0]), place, file)
                continue
            hits = np.isin(values, large)
            if len(set(values[hits].tolist())) >= SURE and hits.sum() >= SHARE * len(values):
                evidence = f"in {int(hits.sum()):,} of {len(values):,} records it is where a payload begins"
                line = f"make region {instance.name} a table of the same group, with means: {old.kind}.at"
                yield Suspect(file, place, evidence, line)
    yield from _unexplained(old, large, file)


def _once(
    old: Document, new: Document, instance: Instance, slot: Slot, value: int, place: str, file: str
) -> Iterator[Suspect]:
    """A number in a header that is the file's size, or where a region stands that moves."""
    if value < SMALL:
        return
    known = {"file.size": (old.source.size, new.source.size)}
    for one, two in zip(old.instances, new.instances, strict=False):
        known[f"{one.name}.at"] = one.at, two.at
    told = {t.means for i in old.instances for t in ties_of(i.region)}
    for means, (before, after) in known.items():
        if value == before != after and means not in told:
            yield Suspect(
                file, place, f"it is {means}, which changes from {before:,} to {after:,}", _line(slot, means, 1, 0)
            )
            return


def _unexplained(old: Document, places: NDArray[np.int64], file: str) -> Iterator[Suspect]:
    """Numbers of 4 or 8 bytes in plain bytes and gaps that are places of payloads."""
    if len(places) < SURE:
        return
    for where, at, data in _raw(old):
        best: tuple[int, int, str] = (0, 0, "")
        for order in "<>":
            for width in (4, 8):
                for start in range(min(width, 4)):
                    values = np.frombuffer(data, f"{order}u{width}", (len(data) - start) // width, start)
                    hits = np.flatnonzero(np.isin(values, places.astype(np.uint64)))
                    count = len(set(values[hits].tolist()))
                    if count > best[0]:
                        best = count, at + start + int(hits[0]) * width, f"u{8 * width}"
        if best[0] >= max(SURE, len(places) // 2):
            evidence = f"{best[0]:,} of the {len(places):,} old places of payloads stand there as {best[2]}"
            line = f"describe it as a table: fields of type {best[2]} that mean {old.kind}.at"
            yield Suspect(file, f"{where}, byte {best[1]:,}", evidence, line)


def _raw(document: Document) -> Iterator[tuple[str, int, bytes]]:
    """Bytes that nothing explains: gaps, what stands behind a region's records, fields of bytes."""
    for extent in extents_of(document):
        if 3 * 4 <= extent.carried <= LARGEST:
            yield "unexplained bytes", extent.end, document.source.read(extent.end, extent.carried)
    for instance in document.instances:
        tail = instance.content.size - len(instance.records.data)
        if not instance.region.packed and 3 * 4 <= tail <= LARGEST and not instance.region.body:
            behind = len(instance.records.data)
            yield f"behind the records of {instance.name}", instance.at + behind, instance.content.read(behind, tail)
        for slot in instance.shape.fields:
            if slot.field.type == "bytes" and not slot.tie.means and not slot.tie.sum and instance.region.once:
                first, length = instance.records.span(slot, 0)
                if 3 * 4 <= length <= LARGEST:
                    data = instance.records.data[first : first + length].tobytes()
                    yield f"{instance.name}.{slot.tie.name}", instance.records.place_of(slot, 0), data

"""Many small files of one layout, read together: their records as one set of columns, by the same shapes and equations.

A game may hold thousands of banks of one stream each. Read one by one, each costs what opening costs; together, they cost
little more than their bytes. Only plain layouts are read so (`can_batch`); a file in which anything is not as it should be is
left out, and read by itself, which tells what is wrong with it.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...base import ZubretError
from ...source import BytesSource
from ...source.sums import sum_of
from ..document import Records, Shape, Slot, shape_of
from ..document.ties import Scope, meanings, meant
from ..language.expression import evaluate_rows
from ..language.schema import Layout, Region, ties_of
from ..language.terms import meaning_of
from ..types.numbers import Float, Result


@dataclass
class Batch:
    """The items of many files. good: (files,) which of them are as they should be; owner: (items,) the file of each item;
    once: what regions that stand once mean, one value a file; columns: the items' meanings, as far as fields give them."""

    good: NDArray[np.bool_]
    owner: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    once: dict[str, Any] = field(default_factory=dict)
    columns: dict[str, Any] = field(default_factory=dict)


def can_batch(layout: Layout) -> bool:
    """Whether files of a layout can be read together: plain regions in the file itself, of fixed records, one table of
    items, sums over regions at most."""
    key = ("can be batched",)  # shapes are kept under the names of regions
    if key not in layout.memory:
        items = layout.item_regions()
        layout.memory[key] = (
            not layout.packed and not layout.files and not layout.payload.packed and layout.describes != "stream" and layout.sizes_given
            and len(items) == 1 and not layout.piece_regions() and isinstance(layout.stand_of(items[0].group).align, int)
            and all(_is_plain(layout, r) for r in layout.regions)
            and not layout.loops_to_end
            and not any(t.means in ("stream.loop_length", "stream.skip", "stream.cut") for r in items for t in ties_of(r))
        )  # fmt: skip
    return layout.memory[key]


def _is_plain(layout: Layout, region: Region) -> bool:
    shape = shape_of(layout, region)
    simple = not (
        region.each
        or region.linked
        or region.chunk is not None
        or region.file
        or region.packed
        or region.pool
        or region.body
        or region.size is not None
    )
    fixed = (
        shape.width > 0
        and not any(isinstance(s.type, Result) for s in shape.fields)
        and not shape.conditional
        and region.until is None
        and region.when is None
    )
    names = {r.name for r in layout.regions}
    sums = all(s.tie.sum is not None and s.tie.sum.of in names and s.tie.sum.blank is None for s in shape.sums)
    ties = all(not s.tie.pool and (s.whole or s.field.type == "text" or not s.tie.means) for s in shape.slots.values())
    return simple and fixed and sums and ties and region.origin == "file" and not (region.sentinel)


def read_batch(layout: Layout, heads: NDArray[np.uint8], sizes: NDArray[np.int64]) -> Batch:
    """The files whose first bytes are the rows of `heads` and that have `sizes` bytes, as far as all their regions lie in
    their heads. A ZubretError where a number of any of them has no meaning."""
    return _Reader(layout, heads, sizes).read()


class _Reader:
    def __init__(self, layout: Layout, heads: NDArray[np.uint8], sizes: NDArray[np.int64]):
        self.layout, self.heads, self.sizes = layout, heads, sizes
        self.count = len(sizes)
        self.batch = Batch(np.ones(self.count, bool))
        self.numbers: dict[str, Any] = {"file.size": sizes}
        self.spans: dict[str, tuple[NDArray, NDArray]] = {}
        self.room = np.minimum(sizes, heads.shape[1])

    def read(self) -> Batch:
        batch = self.batch
        for region in self.layout.regions:
            start, count = self._place(region)
            end = start + count * shape_of(self.layout, region).width
            batch.good &= (start >= 0) & (count >= 0) & (end <= self.room)
            start, count = np.where(batch.good, start, 0), np.where(batch.good, count, 0)
            self.spans[region.name] = start, np.where(batch.good, end, 0)
            if region.once:
                self._once(region, start)
            else:
                self._table(region, start, count)
        self._apart()
        self._sums()
        return batch

    def _place(self, region: Region) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Where a region stands in each file, and how many records it has there."""
        tied = self.batch.once.get(f"{region.name}.at")
        if tied is not None:
            start = np.asarray(tied, np.int64)
        elif region.after is not None:
            end = self.spans[region.after][1]
            start = end + -end % region.align
        else:
            start = self._value(region.at or 0)
        return start, np.ones(self.count, np.int64) if region.once else self._value(region.repeat or 0)

    def _value(self, text: int | str) -> NDArray[np.int64]:
        return evaluate_rows(text, self.numbers, self.count, self.layout.id)

    def _gathered(self, shape: Shape, files: NDArray, starts: NDArray) -> Records:
        """Records of some files, each from a place of its own."""
        width = shape.width
        places = np.minimum(starts, self.heads.shape[1] - width)[:, None] + np.arange(width)
        data = np.ascontiguousarray(self.heads[files[:, None], places]).reshape(-1)
        return Records.fixed(shape, shape.fields, data, len(files), 0)

    def _once(self, region: Region, start: NDArray[np.int64]) -> None:
        shape, every = shape_of(self.layout, region), np.arange(self.count)
        records = self._gathered(shape, every, start)
        self._constants(records, every)
        for name, slot in shape.slots.items():
            if slot.whole:
                self.numbers[f"{region.name}.{name}"] = records.numbers(slot)
        scope = self._scope(records, self.numbers, start)
        for means, slots in shape.means.items():
            for slot in slots:
                value = self._meant(records, slot, scope)
                known = self.batch.once.setdefault(means, value)
                if known is not value:
                    self.batch.good &= np.asarray(known) == np.asarray(value)
        if "file.size" in self.batch.once:
            self.batch.good &= np.asarray(self.batch.once["file.size"]) == self.sizes

    def _table(self, region: Region, start: NDArray[np.int64], count: NDArray[np.int64]) -> None:
        shape, batch = shape_of(self.layout, region), self.batch
        owner = np.repeat(np.arange(self.count), count)
        within = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
        records = self._gathered(shape, owner, start[owner] + within * shape.width)
        self._constants(records, owner)
        if region.name != self.layout.item_regions()[0].name:
            return
        batch.owner = owner
        numbers = {name: value[owner] for name, value in self.numbers.items()}
        scope = self._scope(records, numbers, start[owner])
        for means, slots in shape.means.items():
            owned, _, what = means.partition(".")
            if owned == self.layout.kind and meaning_of(means).owner:
                batch.columns[what] = self._meant(records, slots[0], scope)
        for means in ("entries.count", "streams.count"):
            if means in batch.once:
                batch.good &= np.asarray(batch.once[means]) == count

    def _scope(self, records: Records, numbers: dict[str, Any], start: NDArray[np.int64]) -> Scope:
        def own(name: str) -> NDArray | None:
            slot = records.shape.slots.get(name)
            return records.numbers(slot) if slot is not None and slot.whole else None

        def fail(what: str, slot: Slot, row: int, next: str = "") -> ZubretError:
            return ZubretError(what, field=slot.tie.name, next=next)

        def item(what: str) -> NDArray:
            return np.asarray(self.batch.columns[what])

        places: Any = start
        return Scope(self.layout, self.layout.id, numbers, places, records.count, lambda: places, own, item, fail)

    @staticmethod
    def _meant(records: Records, slot: Slot, scope: Scope) -> Any:
        if isinstance(slot.type, Float):
            return meanings(slot, records.values(slot), scope)
        return meant(slot, records.numbers(slot), scope) if slot.whole else records.values(slot)

    def _constants(self, records: Records, files: NDArray) -> None:
        for slot in records.shape.constants:
            f = slot.field
            wanted: list = list(f.one_of) if f.one_of is not None else [f.equals]
            if slot.whole:
                right = np.isin(records.numbers(slot), wanted)
            else:
                right = np.array([c.rstrip(b"\0") == wanted[0].rstrip(b"\0") for c in records.pieces(slot)], bool)
            self.batch.good[files[~right]] = False

    # Checks -----------------------------------------------------------------------------------------

    def _apart(self) -> None:
        """Regions and payloads lie apart, payloads aligned and in their files."""
        batch = self.batch
        spans = list(self.spans.values())
        for n, (start, end) in enumerate(spans):
            for other, stop in spans[:n]:
                batch.good &= (start >= stop) | (other >= end)
        at, stored = self._spans_of_items()
        size, owner = self.sizes[batch.owner], batch.owner
        right = (at >= 0) & (stored >= 0) & (at <= size) & (stored <= size - at)
        right &= (at % int(self.layout.stand_of(self.layout.item_regions()[0].group).align) == 0) | (stored == 0)
        for start, end in spans:
            right &= (at >= end[owner]) | (at + stored <= start[owner]) | (stored == 0)
        order = np.lexsort((stored, at, owner))
        order = order[stored[order] > 0]
        a, b = order[:-1], order[1:]
        shared = (at[a] == at[b]) & (stored[a] == stored[b])
        cut = (owner[a] == owner[b]) & ~shared & (at[b] < at[a] + stored[a])
        right[b[cut]] = False
        batch.good[owner[~right]] = False

    def _spans_of_items(self) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        columns = self.batch.columns
        at = np.asarray(columns["at"]).astype(np.int64)
        if "stored" not in columns:
            columns["stored"] = np.asarray(columns["end"]).astype(np.int64) - at
        return at, np.asarray(columns["stored"]).astype(np.int64)

    def _sums(self) -> None:
        """Sums of regions, file by file."""
        for region in self.layout.regions:
            for slot in shape_of(self.layout, region).sums:
                how = slot.tie.sum
                assert how is not None
                start, end = self.spans[how.of]
                stored, rule = self.numbers[f"{region.name}.{slot.tie.name}"] if slot.whole else None, how.rule
                for n in np.flatnonzero(self.batch.good).tolist():
                    data = self.heads[n, start[n] : end[n]].tobytes()
                    found = sum_of(rule, BytesSource(data))
                    if stored is None or not isinstance(found, int) or found != int(stored[n]):
                        self.batch.good[n] = False  # by itself, it tells what is wrong

"""The next document while it is worked out: what changes, what is added, what every field will mean."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import cached_property, partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...base import ZubretError
from ...source import SliceSource, Source, same_bytes
from ..checks.extents import Stands
from ..checks.sums import id_of
from ..document import Document, Group, Instance
from ..document.document import DEFAULTS
from ..document.extent import Extent, Grid, NewItem
from ..document.paths import folder_paths
from ..document.pieces import cut
from ..document.ties import Scope, meant
from ..language.schema import Guard, Stand, ties_of
from ..types.numbers import Result, stretched
from .placement import LaidFile
from .points import blank, count_of, new_points
from .records import Table


class Draft:
    """What is to be written: the items as they will be, the files with their extents, the tables.

    left_out: the items that are not written; stood: where the first payload began and the last one ended, None where there were
    none; columns: the items' meanings, by meaning; at, stored, item_files: where each payload will stand; listed: sources of
    lines of a list that are taken anew, by item; points: the new records of tables that follow a sound, by the region's name;
    cut: what becomes the payload of items that stand in pieces.
    """

    def __init__(
        self,
        document: Document,
        changes: Mapping[int, NewItem],
        added: Sequence[NewItem],
        anew: bool | Collection[str],
        only: Collection[int] | None = None,
    ):
        self.document, self.added, self._anew = document, list(added), anew
        self.changes = bool(changes or added)
        self.kind = document.kind
        self.files = {name: LaidFile(document, name) for name in document.files()}
        self.left_out = set(range(document.count)) - set(only) if only is not None else set[int]()
        payloads = next((g for f in self.files.values() if (g := [e for e in f.extents if e.items])), [])
        self.stood = (min(e.start for e in payloads), max(e.end for e in payloads)) if payloads else None
        self._regions = {e.label: e for f in self.files.values() for e in f.extents if e.instance and e.record < 0}
        self.columns: dict[str, list] = {}
        for means in {t.means for i in document.instances for t in ties_of(i.region) if t.means}:
            owner, _, what = means.partition(".")
            if owner == self.kind and document.tied(what) is not None:
                self.columns[what] = listed(document.tied(what))
        has_payloads = document.layout.has_payloads
        self.at = list(document.column("at") or []) if has_payloads else []
        self.stored = list(document.column("stored") or []) if has_payloads else []
        self.item_files = list(document.payload_files())
        if document.in_pieces:
            at, stored, self.item_files = document.spans()
            self.at += at[document.count :].tolist()
            self.stored += stored[document.count :].tolist()
        self.listed: dict[int, Source] = {}
        self.points: dict[str, dict[str, list[int]]] = {}
        self.cut: dict[int, NewItem] = {}
        self.pools: dict[str, bytearray] = {}
        self.numbers: dict[str, int] = dict(document.numbers)
        self.pool_places: dict[str, dict[str, int]] = {}
        self.held: dict[str, dict[str, dict[int, int]]] = {}
        if self.left_out:
            self._leave_out()
        self._change(changes)
        self._add()
        self.tables = {i.name: self._table(i) for i in document.instances if i.region.pool is None}
        self._grow_regions()

    def _grow_regions(self) -> None:
        """Regions with more or fewer records than before begin as long as these are, so that no place is looked for that can't be."""
        for name, table in self.tables.items():
            instance = table.instance
            if instance.body is None and not instance.region.packed and not table.same:
                before = instance.records.lengths().sum()
                self._regions[name].new_length += int(table.old.lengths()[table.order].sum() - before)

    def anew(self, file: str) -> bool:
        """Whether the payloads of a file are laid out afresh."""
        return self._anew if isinstance(self._anew, bool) else file in self._anew

    def lay(self, file: LaidFile) -> None:
        """Give the extents of a file their places. Once they move, varints begin at their shortest, so that of several
        solutions (a place that needs a longer varint that moves the place) the shortest is found."""
        before = file.in_place
        file.lay(self.anew(file.name))
        if before and not file.in_place and self.changes:
            for extent in file.extents:
                if extent.instance is not None and extent.record < 0 and not extent.instance.region.packed:
                    extent.new_length -= _spare(extent.instance)
            file.lay(True)

    # What changes -----------------------------------------------------------------------------------

    def _change(self, changes: Mapping[int, NewItem]) -> None:
        """Put the new payloads on their extents, each once, even where several items share it."""
        name = self.document.file.name
        for item in changes:
            if not self.stored[item]:
                raise ZubretError(
                    "An empty payload has no place in the file, so nothing can be put there.",
                    file=name,
                    field=f"record {item}",
                    next="Remove this swap.",
                )
        if self.document.in_pieces:
            changes = self._cut(changes)
        for file in self.files.values():
            for extent in file.extents:
                wanted = [changes[item] for item in extent.items if item in changes]
                if any(
                    w.payload is not wanted[0].payload and not same_bytes(w.payload, wanted[0].payload) for w in wanted
                ):
                    records = ", ".join(str(r) for r in extent.items)
                    raise ZubretError(
                        f"Records {records} share one payload but were given different ones.",
                        file=name,
                        offset=extent.at,
                        next="Keep the swap of one of them: it changes all.",
                    )
                if wanted:
                    self._replace(extent, wanted[0], changes)

    def _cut(self, changes: Mapping[int, NewItem]) -> dict[int, NewItem]:
        """The changes of the pieces in which payloads stand; what else the items mean is put down at once. Of what stands in the same
        pieces, all becomes another."""
        document, out = self.document, dict[int, NewItem]()
        places = document.places()
        together: dict[tuple[tuple[str, int, int], ...], list[int]] = {}
        for n, spans in enumerate(places):
            together.setdefault(spans, []).append(n)
        for item, new in changes.items():
            for n in together[places[item]]:
                self.cut[n] = changes.get(n, new)
                self._mean(n, self.cut[n])
            out |= {n: NewItem(part) for n, part in cut(document, item, new.payload)}
        return out

    def _mean(self, n: int, item: NewItem) -> None:
        """Give an item the meanings that its new payload has, and its tables their points."""
        for what, value in item.values.items():
            if what in self.columns:
                self.columns[what][n] = value
        for table in self.document.followers(n) if n < self.document.count else ():
            self.points[table.name] = new_points(self.document, table, n, item)

    def _replace(self, extent: Extent, item: NewItem, changes: Mapping[int, NewItem]) -> None:
        """Give an extent its new payload, its guard space along with it, and the items their new meanings: those of their own,
        or of the one whose payload they share."""
        extent.new = self._without_head(extent.items, item)
        extent.new_length = extent.new.payload.size
        stand, stands = self.stand_of(extent), Stands(self.document)
        like = min(extent.items[0], self.document.total - 1)  # an added one is as the last one is
        for side, guard in (("before", stand.before), ("behind", stand.behind)):
            if guard != Guard() and (extent.at < 0 or getattr(extent, side) == stands.guard(like, guard)):
                setattr(extent, f"new_{side}", stands.guard(like, guard, item.format))
        if extent.owner < 0:
            for n in extent.items:
                self._mean(n, changes.get(n, item))

    def stand_of(self, extent: Extent) -> Stand:
        """How a payload stands; an added one as those of the last group."""
        item = extent.items[0]
        return (self.document.group_of(item) if item < self.document.total else self.document.groups[-1]).stand

    def _without_head(self, items: list[int], item: NewItem) -> NewItem:
        """What goes to the payload's place: the head, where records hold one, goes into the record."""
        heads = self.columns.get("head")
        size = len(heads[items[0]] or b"") if heads else 0
        if not heads or not size:
            return item
        whole = item.payload
        for n in items:
            heads[n] = whole.read(0, min(size, whole.size))
        rest = SliceSource(whole, min(size, whole.size), whole.size - min(size, whole.size))
        return NewItem(rest, item.values, item.unpacked, item.path, item.format)

    # What is left out -------------------------------------------------------------------------------

    def _leave_out(self) -> None:
        """Payloads that nobody wants any more go, with their own records and with what stands behind them."""
        document = self.document
        ranges = any(
            (t.means or "") in ("folder.first", "folder.count") for i in document.instances for t in ties_of(i.region)
        )
        if (
            len(self.files) > 1
            or ranges
            or document.in_pieces
            or any(
                i.region.sentinel or i.region.linked or i.holders or i.region.items is not None
                for i in document.instances
            )
            or any(document.layout.trails(i.region) for i in document.instances)
        ):
            raise ZubretError(
                "No new archive with some of the entries can be made of this kind: its payloads stand in files beside it, in pieces, inside "
                "one another, in ranges, or among records that are no entries.",
                file=document.file.name,
                next="Choose another way of putting changes into the game.",
            )
        file = self.files[""]
        stay: list[Extent] = []
        for extent in file.extents:
            extent.items, had = [n for n in extent.items if n not in self.left_out], bool(extent.items)
            if extent.record >= 0 and extent.instance is not None:
                order = self._kept(extent.instance)
                if extent.record not in order:
                    continue
                extent.record = order.index(extent.record)
            elif had and not extent.items:
                continue
            if extent.items:
                extent.gap = extent.carried = extent.room = extent.steps = 0
            stay.append(extent)
        file.extents = stay

    def _kept(self, instance: Instance) -> list[int]:
        """The old records of a region that stay."""
        group = self._group_of(instance) if self.left_out else None
        if group is None:
            return list(range(instance.records.count))
        gone = {r for n, r in enumerate(instance.rows.tolist()) if group.first + n in self.left_out}
        return [r for r in range(instance.records.count) if r not in gone]

    def _added_at(self, instance: Instance) -> int:
        """The record, as they will stand, that the first added one is."""
        kept, last = self._kept(instance), int(instance.rows[-1])
        if instance.body is not None and not instance.region.ends_itself:
            return len(kept)
        return sum(r <= last for r in kept)

    def _group_of(self, instance: Instance) -> Group | None:
        return self.document.group_with(instance)

    # What is added ----------------------------------------------------------------------------------

    def _add(self) -> None:
        """Added entries: rows for them in every column, and extents behind the last payload."""
        if not self.added:
            return
        document = self.document
        group = document.groups[-1] if document.groups else None
        fixed = group is None or any(
            i.region.linked
            or i.region.items is not None
            or (i.region.each and i.region.chunk is not None)
            or (i.region.body and (i.region.body.nested or document.layout.inner(i.region)))
            for i in group.instances
        )
        if group is None or fixed or not group.count or document.in_pieces:
            raise ZubretError(
                "Entries can only be added behind others of the same kind.",
                file=document.file.name,
                next="Replace an entry instead.",
            )
        known = set(document.column("path") or [])
        like = document.count - 1  # untied fields are copied from the last entry
        for n, item in enumerate(self.added):
            if item.path in known:
                raise ZubretError(
                    "An entry of this path is there already.", file=item.path, next="Replace it instead of adding it."
                )
            known.add(item.path)
            for column in self.columns.values():
                column.append(column[like])
            index = document.count + n
            self.at.append(0)
            self.stored.append(0)
            self.item_files.append(self.item_files[like])
            self._name(index, item.path, group)
            self._check_held(index, item.path, group)
            grid = Stands(document).grid(like)
            extent = Extent(-1, 0, items=[index], grid=grid, fill=group.stand.fill)
            self._replace(extent, item, {})
            self._insert(extent, self.item_files[index], group)

    def _insert(self, extent: Extent, name: str, group: Group) -> None:
        """Put the extent of an added payload behind the last one of its file, its record before it where it has one."""
        file = self.files[name]
        last = max((n for n, e in enumerate(file.extents) if e.items), default=len(file.extents) - 1)
        body = next((i for i in group.instances if i.body is not None), None)
        fresh = [extent]
        if body is not None:
            assert body.region.body is not None
            record, how = self._added_at(body) + extent.items[0] - self.document.count, body.region.body
            for other in file.extents:
                if other.instance is body and other.record >= record:
                    other.record += 1  # the record that ends them all
            fresh = [Extent(-1, 0, body, record, grid=Grid(how.align), fill=how.fill, follows=True), extent]
            extent.follows = True
        file.extents[last + 1 : last + 1] = fresh

    def _name(self, index: int, path: str, group: Group) -> None:
        columns, folder, name = self.columns, path.rpartition("/")[0], path.rpartition("/")[2]
        if "path" in columns:
            columns["path"][index] = path
        elif "name" in columns:
            own = name if "folder" in columns else path
            if "ending" in columns:
                stem, dot, ending = own.rpartition(".")
                own, columns["ending"][index] = (stem, ending) if dot and "/" not in ending else (own, "")
            columns["name"][index] = own
        if "folder" in columns:
            paths = folder_paths(self.document)
            if isinstance(columns["folder"][0], str):
                columns["folder"][index] = folder
            elif folder in paths:
                columns["folder"][index] = paths.index(folder)
            else:
                raise ZubretError(
                    f'The archive has no folder "{folder}".', file=path, next="Add the entry to a folder that is there."
                )
        for _, slot in self.document.slots(f"{self.kind}.id", group):
            if slot.tie.hash is not None:
                columns["id"][index] = id_of(slot, path)
            elif "path" not in columns and "name" not in columns:
                columns["id"][index] = path

    def _check_held(self, index: int, path: str, group: Group) -> None:
        """An error where an added entry would need other values than what its group stands in has for all of it."""
        holder = group.instances[0].holder
        while holder is not None:
            for means in holder[0].shape.means:
                owner, _, what = means.partition(".")
                if (
                    owner == self.kind
                    and what in self.columns
                    and self.columns[what][index] != self.columns[what][self.document.count - 1]
                ):
                    raise ZubretError(
                        f"Entries can only be added to the last {holder[0].region.name} of this archive.",
                        file=path,
                        next="Give it the same folder as the last entry has, or replace an entry.",
                    )
            holder = holder[0].holder

    def _grows(self, instance: Instance) -> bool:
        return bool(self.added) and any(i is instance for i in self.document.groups[-1].instances)

    def _order(self, instance: Instance) -> list[int]:
        """The records of a region as they will stand: old ones, and copies of the last item for added entries."""
        if instance.name in self.points:
            last = max(0, instance.records.count - 1)
            return [min(n, last) for n in range(count_of(self.points[instance.name]))]
        order = self._kept(instance)
        if self._grows(instance):
            where = self._added_at(instance)
            order[where:where] = [int(instance.rows[-1])] * len(self.added)
        return order

    def _table(self, instance: Instance) -> Table:
        order = self._order(instance)
        like = None if instance.records.count or not order else blank(instance, self.document.numbers_at(instance))
        return Table(instance, order, self.document.fail(instance), like)

    def rows(self, instance: Instance) -> list[tuple[int, int]]:
        """(item, record as it will stand) of a region's items; none for a region of no items."""
        group = self._group_of(instance)
        if group is None:
            return []
        rows = [(group.first + n, r) for n, r in enumerate(instance.rows.tolist())]
        if self.left_out:
            place = {r: n for n, r in enumerate(self._kept(instance))}
            rows = [(item, place[r]) for item, r in rows if item not in self.left_out]
        if self._grows(instance):
            at = self._added_at(instance)
            rows += [(self.document.count + n, at + n) for n in range(len(self.added))]
        return rows

    # Places -----------------------------------------------------------------------------------------

    @cached_property
    def heads(self) -> dict[tuple[str, int], Extent]:
        """The extents of records that have bodies, by region and record."""
        extents = self.files[""].extents
        return {(e.instance.name, e.record): e for e in extents if e.instance is not None and e.record >= 0}

    def extent_of(self, instance: Instance) -> Extent:
        """The extent of a region without bodies."""
        return self._regions[instance.name]

    def learn_places(self) -> None:
        """Where payloads stand now, as the items' meanings."""
        for file in self.files.values():
            for extent in file.extents:
                for item in extent.items:
                    self.at[item], self.stored[item] = extent.new_at, extent.new_length
        for item in range(self.document.count) if self.document.in_pieces else ():
            pieces = self.document.pieces_of(item)
            self.stored[item] = sum(self.stored[n] for n in pieces)
            self.at[item] = self.at[pieces[0]] if pieces else 0
        for what, values in (("at", self.at), ("stored", self.stored)):
            if what in self.columns:
                self.columns[what] = values
        if "end" in self.columns:
            self.columns["end"] = [a + n for a, n in zip(self.at, self.stored, strict=True)]

    def record_places(self, instance: Instance) -> NDArray[np.int64]:
        """Where each record will stand; of records of different lengths, by their lengths in the last pass."""
        if instance.body is not None:
            at = {e.record: e.new_at for e in self.files[""].extents if e.instance is instance}
            return np.array([at[n] for n in range(len(at))], np.int64)
        records = self.tables[instance.name].records
        start = 0 if instance.region.packed else self.extent_of(instance).new_at
        lengths = records.lengths() if records.count == len(self.tables[instance.name].order) else None
        if lengths is None:
            table = self.tables[instance.name]
            lengths = table.old.lengths()[table.order]
        return start + np.concatenate([[0], np.cumsum(lengths)[:-1]]).astype(np.int64)[: len(lengths)]

    # Values -----------------------------------------------------------------------------------------

    def meant(self, means: str) -> list | None:
        """What the items, or the pieces behind them, will mean; None where no field says it."""
        owner, _, what = means.partition(".")
        if owner == self.kind:
            return self.columns.get(what)
        if owner == "piece" and what in ("at", "stored"):
            return self.at if what == "at" else self.stored
        return [a + n for a, n in zip(self.at, self.stored, strict=True)] if means == "piece.end" else None

    def scope(self, instance: Instance) -> Scope:
        """What the ties of a region may name, as it will be."""
        table = self.tables[instance.name]

        def own(name: str) -> NDArray | None:
            slot = instance.shape.slots.get(name)
            return table.numbers(slot) if slot is not None and slot.whole else None

        at = instance.at if instance.body is not None else self.extent_of(instance).new_at
        return Scope(
            self.document.layout, self.document.file.name, self.numbers_at(instance), at, len(table.order),
            partial(self.record_places, instance), own, partial(self._by_record, instance), table.error,
        )  # fmt: skip

    def numbers_at(self, instance: Instance) -> Mapping[str, int]:
        """The numbers that expressions of a region may name besides its own, as they will be."""
        if instance.piece < 0 and instance.holder is None:
            return self.numbers
        out = {**self.numbers, "region.index": max(instance.piece, 0)}
        if instance.holder is None:
            return out
        holders = []
        around: tuple[Instance, int] | None = instance.holder
        while around is not None:
            holders.append(around)
            around = around[0].holder
        for holder, row in reversed(holders):
            table = self.tables[holder.name]
            for name, slot in holder.shape.slots.items():
                if slot.whole and not holder.records.absent(slot):
                    out[f"{holder.region.name}.{name}"] = int(table.numbers(slot)[row])
        holder, row = instance.holder
        if holder.body is not None and holder.region.body is not None:
            size = holder.shape.slots[holder.region.body.size]
            room = instance.room
            if not isinstance(size.type, Result):
                room = int(meant(size, self.tables[holder.name].numbers(size), self.scope(holder))[row])
            out["region.room"] = room
        return out

    def _by_record(self, instance: Instance, what: str) -> NDArray:
        column = {"at": self.at, "stored": self.stored}.get(what) or self.columns.get(what)
        if column is None:
            given: Mapping[str, Any] = self.document.layout.given  # type: ignore[assignment]
            column = self.document.column(what) or [given.get(f"stream.{what}", DEFAULTS.get(what, 0))] * len(self.at)
        pairs = self.rows(instance)
        owner = self.document.owner if self.document.in_pieces else int
        values = np.array([column[owner(item)] for item, _ in pairs] or [DEFAULTS.get(what, 0)])
        out = np.full(len(self.tables[instance.name].order), values[0], values.dtype)
        for (_, row), value in zip(pairs, values, strict=False):
            out[row] = value
        return out


def _spare(instance: Instance) -> int:
    """By how many bytes a region could be shorter if all its tied varints had one byte."""
    spare = 0
    for slot in instance.shape.fields:
        if slot.field.type == "varint" and slot.tie.means:
            contents = [c for c in instance.records.cells(slot).contents() if c]
            spare += sum(len(c) - stretched(c) for c in contents if stretched(c) == 1)
    return spare


def listed(values: Any) -> list:
    """A column as a list of plain values."""
    return values.tolist() if isinstance(values, np.ndarray) else list(values)

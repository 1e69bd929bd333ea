"""The next document while it is worked out: what changes, what is added, what every field will mean."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...base import ZubretError
from ...source import SliceSource, Source
from ..checks.extents import Stands
from ..document import Document, Group, Instance, Slot
from ..document.document import DEFAULTS
from ..document.extent import Extent, Grid, NewItem
from ..document.paths import folder_paths
from ..document.ties import Scope, pool_places
from ..language.schema import Guard, Stand, ties_of
from ..types.numbers import stretched
from .placement import LaidFile
from .records import Table


class Draft:
    """What is to be written: the items as they will be, the files with their extents, the tables.

    columns: the items' meanings, by meaning; at, stored, item_files: where each payload will stand; listed: sources of
    lines of a list that are taken anew, by item.
    """

    def __init__(
        self,
        document: Document,
        changes: Mapping[int, NewItem],
        added: Sequence[NewItem],
        anew: bool | Collection[str],
    ):
        self.document, self.added, self._anew = document, list(added), anew
        self.changes = bool(changes or added)
        self.kind = document.kind
        self.files = {name: LaidFile(document, name) for name in document.files()}
        self._regions = {e.label: e for f in self.files.values() for e in f.extents if e.instance and e.record < 0}
        self.columns: dict[str, list] = {}
        for means in {t.means for i in document.instances for t in ties_of(i.region) if t.means}:
            owner, _, what = means.partition(".")
            if owner == self.kind and document.tied(what) is not None:
                self.columns[what] = _listed(document.tied(what))
        has_payloads = self.kind != "listed"
        self.at = list(document.column("at") or []) if has_payloads else []
        self.stored = list(document.column("stored") or []) if has_payloads else []
        self.item_files = list(document.payload_files())
        self.listed: dict[int, Source] = {}
        self.pools: dict[str, bytearray] = {}
        self.numbers: dict[str, int] = dict(document.numbers)
        self._pool_places: dict[str, dict[str, int]] = {}
        self._change(changes)
        self._add()
        self.tables = {
            i.name: Table(i, self._order(i), document.fail(i)) for i in document.instances if i.region.fields
        }

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
        for file in self.files.values():
            for extent in file.extents:
                wanted = [changes[item] for item in extent.items if item in changes]
                if any(w is not wanted[0] and w.payload is not wanted[0].payload for w in wanted):
                    records = ", ".join(str(r) for r in extent.items)
                    raise ZubretError(
                        f"Records {records} share one payload but were given different ones.",
                        file=name,
                        offset=extent.at,
                        next="Keep the swap of one of them: it changes all.",
                    )
                if wanted:
                    self._replace(extent, wanted[0])

    def _replace(self, extent: Extent, item: NewItem) -> None:
        """Give an extent its new payload, its guard space along with it, and the items their new meanings."""
        extent.new = self._without_head(extent.items, item)
        extent.new_length = extent.new.payload.size
        stand, stands = self.stand_of(extent), Stands(self.document)
        like = min(extent.items[0], self.document.count - 1)  # an added one is as the last one is
        for side, guard in (("before", stand.before), ("behind", stand.behind)):
            if guard != Guard() and (extent.at < 0 or getattr(extent, side) == stands.guard(like, guard)):
                setattr(extent, f"new_{side}", stands.guard(like, guard, item.format))
        for n in extent.items:
            for what, value in item.values.items():
                if what in self.columns:
                    self.columns[what][n] = value

    def stand_of(self, extent: Extent) -> Stand:
        """How a payload stands; an added one as those of the last group."""
        item = extent.items[0]
        return (self.document.group_of(item) if item < self.document.count else self.document.groups[-1]).stand

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

    # What is added ----------------------------------------------------------------------------------

    def _add(self) -> None:
        """Added entries: rows for them in every column, and extents behind the last payload."""
        if not self.added:
            return
        document = self.document
        group = document.groups[-1] if document.groups else None
        if group is None or not group.count or any(i.region.body and i.region.body.nested for i in group.instances):
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
            grid = Stands(document).grid(like)
            extent = Extent(-1, 0, items=[index], grid=grid, fill=group.stand.fill)
            self._replace(extent, item)
            self._insert(extent, self.item_files[index], group)

    def _insert(self, extent: Extent, name: str, group: Group) -> None:
        """Put the extent of an added payload behind the last one of its file, its record before it where it has one."""
        file = self.files[name]
        last = max((n for n, e in enumerate(file.extents) if e.items), default=len(file.extents) - 1)
        body = next((i for i in group.instances if i.body is not None), None)
        fresh = [extent]
        if body is not None:
            assert body.region.body is not None
            record, how = body.records.count + extent.items[0] - self.document.count, body.region.body
            fresh = [Extent(-1, 0, body, record, grid=Grid(how.align), fill=how.fill, follows=True), extent]
            extent.follows = True
        file.extents[last + 1 : last + 1] = fresh

    def _name(self, index: int, path: str, group: Group) -> None:
        columns, folder, name = self.columns, path.rpartition("/")[0], path.rpartition("/")[2]
        if "path" in columns:
            columns["path"][index] = path
        elif "name" in columns:
            columns["name"][index] = name if "folder" in columns else path
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
            tie = slot.tie
            if tie.hash is not None:
                number = tie.hash.of(path)
                columns["id"][index] = f"{number:x}" if tie.shown == "hex" else str(number)
            elif "path" not in columns and "name" not in columns:
                columns["id"][index] = path

    def _grows(self, instance: Instance) -> bool:
        return bool(self.added) and any(i is instance for i in self.document.groups[-1].instances)

    def _order(self, instance: Instance) -> list[int]:
        """The records of a region as they will stand: old ones, and copies of the last item for added entries."""
        order = list(range(instance.records.count))
        if self._grows(instance):
            last = int(instance.rows[-1])
            where = last + 1 if instance.body is None else len(order)
            order[where:where] = [last] * len(self.added)
        return order

    def rows(self, instance: Instance) -> list[tuple[int, int]]:
        """(item, record as it will stand) of a region's items; none for a region of no items."""
        group = next((g for g in self.document.groups if any(i is instance for i in g.instances)), None)
        if group is None:
            return []
        rows = [(group.first + n, r) for n, r in enumerate(instance.rows.tolist())]
        if self._grows(instance):
            last = int(instance.rows[-1]) if instance.body is None else instance.records.count - 1
            rows += [(self.document.count + n, last + 1 + n) for n in range(len(self.added))]
        return rows

    # Places -----------------------------------------------------------------------------------------

    def extent_of(self, instance: Instance) -> Extent:
        """The extent of a region without bodies."""
        return self._regions[instance.name]

    def learn_places(self) -> None:
        """Where payloads stand now, as the items' meanings."""
        for file in self.files.values():
            for extent in file.extents:
                for item in extent.items:
                    self.at[item], self.stored[item] = extent.new_at, extent.new_length
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
            lengths = instance.records.lengths()[self.tables[instance.name].order]
        return start + np.concatenate([[0], np.cumsum(lengths)[:-1]]).astype(np.int64)[: len(lengths)]

    # Values -----------------------------------------------------------------------------------------

    def scope(self, instance: Instance) -> Scope:
        """What the ties of a region may name, as it will be."""
        table = self.tables[instance.name]

        def own(name: str) -> NDArray | None:
            slot = instance.shape.slots.get(name)
            return table.numbers(slot) if slot is not None and slot.whole else None

        at = instance.at if instance.body is not None else self.extent_of(instance).new_at
        return Scope(
            self.document.layout, self.document.file.name, self.numbers, at, len(table.order),
            partial(self.record_places, instance), own, partial(self._by_record, instance), table.error,
        )  # fmt: skip

    def _by_record(self, instance: Instance, what: str) -> NDArray:
        column = {"at": self.at, "stored": self.stored}.get(what) or self.columns.get(what)
        if column is None:
            given: Mapping[str, Any] = self.document.layout.given  # type: ignore[assignment]
            column = self.document.column(what) or [given.get(f"stream.{what}", DEFAULTS.get(what, 0))] * len(self.at)
        pairs = self.rows(instance)
        values = np.array([column[item] for item, _ in pairs] or [DEFAULTS.get(what, 0)])
        out = np.full(len(self.tables[instance.name].order), values[0], values.dtype)
        for (_, row), value in zip(pairs, values, strict=False):
            out[row] = value
        return out

    def write_values(self) -> None:
        """Put every meaning into its field: first in regions that stand once, which others may name."""
        whole = self.whole_values()
        self.numbers["file.size"] = self.files[""].new_size
        instances = [i for i in self.document.instances if i.region.fields]
        for instance in sorted(instances, key=lambda i: not i.region.once):
            self._write_region_values(instance, whole)
            if instance.region.once:
                table = self.tables[instance.name]
                for name, slot in instance.shape.slots.items():
                    if slot.whole and not instance.records.absent(slot):
                        self.numbers[f"{instance.name}.{name}"] = int(table.numbers(slot)[0])

    def _write_region_values(self, instance: Instance, whole: Mapping[str, Any]) -> None:
        table, scope = self.tables[instance.name], self.scope(instance)
        pairs = self.rows(instance)
        items, rows = [item for item, _ in pairs], [row for _, row in pairs]
        for slot in instance.shape.order:
            owner, _, what = (slot.tie.means or "").partition(".")
            if owner == self.kind and what in self.columns:
                column = self.columns[what]
                self._put(table, slot, [column[item] for item in items], rows, scope)
                if instance.region.sentinel and what in ("at", "end") and instance.records.count:
                    self._put_sentinel(instance, slot, scope)
            elif instance.region.once and slot.tie.means and slot.tie.means in whole:
                table.put(slot, [whole[slot.tie.means]], [0], scope)
            elif owner == "folder":
                values = _listed(self.document.values(instance, slot))
                self._put(table, slot, values, list(range(len(values))), scope)
        if instance.body is not None:
            self._put_bodies(instance, table, pairs, scope)

    def _put(self, table: Table, slot: Slot, values: list, rows: list[int], scope: Scope) -> None:
        if slot.tie.pool:
            self._put_pooled(table, slot, values, rows, scope)
        else:
            table.put(slot, values, rows, scope)

    def _put_sentinel(self, instance: Instance, slot: Slot, scope: Scope) -> None:
        """A last record that says where the payloads end goes on saying it; one that says anything else stays."""
        old = _listed(self.document.values(instance, slot))[-1]
        payloads = [e for f in self.files.values() for e in f.extents if e.items]
        kept = [e for e in payloads if e.at >= 0]
        for was, now in (
            (
                max((e.at + e.length for e in kept), default=0),
                max((e.new_at + e.new_length for e in payloads), default=0),
            ),
            (max((e.end for e in kept), default=0), max((e.new_end for e in payloads), default=0)),
        ):
            if old == was:
                self.tables[instance.name].put(slot, [now], [len(self.tables[instance.name].order) - 1], scope)
                return

    def _put_bodies(self, instance: Instance, table: Table, pairs: list[tuple[int, int]], scope: Scope) -> None:
        """The sizes of bodies: of payloads as they are, of records that hold others by how far these reach."""
        body = instance.region.body
        assert body is not None and instance.body is not None
        slot = instance.shape.slots[body.size]
        table.put(slot, [self.stored[item] for item, _ in pairs], [row for _, row in pairs], scope)
        extents = [e for e in self.files[""].extents if e.at >= 0]
        own = {e.record: e for e in extents if e.instance is instance}
        for row in sorted(instance.holders, reverse=True):
            at, size = instance.body[row].tolist()
            within = [e for e in extents if at + body.skip <= e.at < at + size]
            if not within:
                continue
            last = max(within, key=lambda e: (e.end, e.at))
            padded = Grid(body.align).above(last.end)
            end = Grid(body.align).above(last.new_end) if at + size == padded else last.new_end + at + size - last.end
            shift = own[row].new_at + own[row].new_length - own[row].at - own[row].length
            table.put(slot, [end - at - shift], [row], scope)

    def _put_pooled(self, table: Table, slot: Slot, values: list, rows: list[int], scope: Scope) -> None:
        """Where texts stand in their pool: where they were, or where the same text stands, or at the end, put there."""
        name = slot.tie.pool or ""
        pool = self.document.instance(name)
        assert pool is not None and pool.region.pool is not None
        instance, how = table.instance, pool.region.pool
        old = _listed(self.document.values(instance, slot))
        scope_before = self.document.scope(instance)
        was = pool_places(slot, instance.records.numbers(slot), scope_before).tolist() if len(old) else []
        out: list[int | None] = []
        for row, text in zip(rows, values, strict=True):
            before = table.order[row]
            if text is None:
                out.append(None)
            elif old[before] == text:
                out.append(was[before])
            else:
                out.append(self._in_pool(name, pool, text.encode(how.encoding, "surrogateescape"), text))
        table.put(slot, out, rows, scope)

    def _in_pool(self, name: str, pool: Instance, data: bytes, text: str) -> int:
        if name not in self._pool_places:
            self._pool_places[name] = self.document.pool_of(name).places()
        known = self._pool_places[name]
        if text not in known:
            how = pool.region.pool
            assert how is not None
            whole = self.pools.setdefault(name, bytearray(pool.records.data.tobytes()))
            if whole and not whole.endswith(how.ends):
                whole += how.ends
            known[text] = len(whole)
            whole += data + how.ends
        return known[text]

    def whole_values(self) -> dict[str, Any]:
        """What regions that stand once say: old values, and those that follow from the new places."""
        document, whole = self.document, dict(self.document.once)
        for instance in document.instances:
            name = instance.name
            if instance.body is None:
                extent = self.extent_of(instance)
                at, stored = extent.new_at, extent.new_length
                table = self.tables.get(name)
                size = len(table.records.data) if table else len(self.pools.get(name) or instance.records.data)
                size += max(0, instance.content.size - len(instance.records.data))
                whole |= {f"{name}.at": at, f"{name}.stored": stored, f"{name}.end": at + stored, f"{name}.size": size}
            whole[f"{name}.count"] = len(self.tables[name].order) if name in self.tables else 0
        self._payload_values(whole)
        whole["file.size"] = self.files[""].new_size
        whole["entries.count"] = whole["streams.count"] = document.count + len(self.added)
        for key, model in document.layout.files.items():
            if model.volumes:
                used = [v for v in self.columns.get("volume") or [] if isinstance(v, int)]
                whole[f"{key}.count"] = max(used, default=model.first) - model.first + 1
            elif (name := document.companion(key)) in self.files:
                whole[f"{key}.size"] = self.files[name].new_size
        return whole

    def _payload_values(self, whole: dict[str, Any]) -> None:
        """payload.at, payload.end and payload.stored follow the first and the last payload by as much as these move."""
        groups = ([e for e in f.extents if e.items] for f in self.files.values())
        payloads = next((g for g in groups if g), [])
        kept = [e for e in payloads if e.at >= 0]
        if not kept:
            return
        first, last = min(kept, key=lambda e: e.start), max(kept, key=lambda e: e.end)
        ahead = first.new_start - first.start
        behind = max(e.new_end for e in payloads) - last.end
        for what, shift in (("at", ahead), ("end", behind), ("stored", behind - ahead)):
            if isinstance(whole.get(f"payload.{what}"), int):
                whole[f"payload.{what}"] += shift


def _spare(instance: Instance) -> int:
    """By how many bytes a region could be shorter if all its tied varints had one byte."""
    spare = 0
    for slot in instance.shape.fields:
        if slot.field.type == "varint" and slot.tie.means:
            contents = [c for c in instance.records.cells(slot).contents() if c]
            spare += sum(len(c) - stretched(c) for c in contents if stretched(c) == 1)
    return spare


def _listed(values: Any) -> list:
    return values.tolist() if isinstance(values, np.ndarray) else list(values)

"""Writing files anew from their meanings: the inverse of reading.

Every tied field is written from its meaning, whether it changed or not; every other byte of a record is carried
over. A rebuild with no change therefore gives back the identical files, or the layout is wrong.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import accumulate
from typing import Any

import numpy as np

from ..base import ZubretError
from ..source import Built, BytesSource, ChainSource, FillSource, Part, Segment, SliceSource, Source
from ..source.sums import sum_of
from .expression import evaluate
from .integrity import blanked, how_of, sum_bytes, sums_of
from .model import FieldModel, Region, SumModel, Tied, ties_of
from .paths import folder_paths
from .place import Place
from .read import Reading
from .records import decoded
from .spans import Thing, files_of, things_of
from .table import Table

PASSES = 8
"""How often places and sizes may change each other before a layout counts as having no solution."""


@dataclass
class NewItem:
    """A replaced or added payload.

    payload: its stored bytes; values: the item's meanings that change with it; unpacked: the bytes before packing,
    for sums; path: of an added entry.
    """

    payload: Source
    values: dict[str, Any] = field(default_factory=dict)
    unpacked: Source | None = None
    path: str = ""


def rebuild(
    reading: Reading, changes: Mapping[int, NewItem], *, added: Sequence[NewItem] = (), anew: bool = False
) -> Built:
    """The files with some payloads replaced and some added; nothing is copied until the result is written.

    In place when every new payload fits its slot, otherwise everything behind moves. With `anew` all payloads are
    laid out afresh even if nothing changed. A replaced payload that several items share is replaced for all of
    them. `Built.others` holds the companions that change, by name.
    """
    return _Rebuild(reading, changes, list(added), anew).built()


def relisted(reading: Reading, files: Mapping[int, Source]) -> Source:
    """A list of files with the sizes and sums of some lines taken anew, by the line's number."""
    work = _Rebuild(reading, {}, [], False)
    work.listed = dict(files)
    for item, source in files.items():
        if "size" in work.columns:
            work.columns["size"][item] = source.size
    return work.built().source


class _File:
    """One of the files: its things, and where they go."""

    def __init__(self, name: str, things: list[Thing], size: int):
        self.name, self.things, self.old_size = name, things, size
        self.at: dict[int, int] = {id(t): t.at for t in things}
        self.length: dict[int, int] = {id(t): t.length for t in things}
        self.size = size
        self.in_place = True
        self.changed = False


class _Rebuild:
    def __init__(self, reading: Reading, changes: Mapping[int, NewItem], added: list[NewItem], anew: bool):
        self.reading, self.added, self.anew = reading, added, anew
        self.kind = reading.kind
        self.files = {
            name: _File(name, things_of(reading, name), reading.file_named(name).size) for name in files_of(reading)
        }
        self.new: dict[int, NewItem] = {}  # by the identity of a thing
        self.columns: dict[str, list] = {}
        for tie in {t.means for p in reading.places for t in ties_of(p.region) if t.means}:
            if tie.startswith(self.kind + "."):
                what = tie.split(".")[1]
                values = reading.tied(what)
                if values is not None:
                    self.columns[what] = list(values)
        has_payloads = self.kind != "listed"
        self.at = list(reading.column("at") or []) if has_payloads else []
        self.stored = list(reading.column("stored") or []) if has_payloads else []
        self.item_files = list(reading.payload_files())
        for thing, item in self._changes_by_thing(changes):
            self.new[id(thing)] = self._without_head(thing.rows, item)
        self._add_items()
        self.tables = {p.region.name: Table(reading, p, self._order(p)) for p in reading.places if p.region.fields}
        self.listed: dict[int, Source] = {}
        self.pools: dict[str, bytearray] = {}
        self.bytes: dict[str, bytes] = {}
        self.pieces: dict[str, list[bytes]] = {}

    # What changes --------------------------------------------------------------------------------

    def _changes_by_thing(self, changes: Mapping[int, NewItem]) -> list[tuple[Thing, NewItem]]:
        """Each replaced payload once, even where several items share it."""
        name = self.reading.file.name
        empty = [item for item in changes if not self.stored[item]]
        if empty:
            raise ZubretError(
                "An empty payload has no place in the file, so nothing can be put there.",
                file=name,
                field=f"record {empty[0]}",
                next="Remove this swap.",
            )
        out = []
        for file in self.files.values():
            for thing in file.things:
                wanted = [changes[item] for item in thing.rows if item in changes]
                if any(w is not wanted[0] and w.payload is not wanted[0].payload for w in wanted):
                    records = ", ".join(str(r) for r in thing.rows)
                    raise ZubretError(
                        f"Records {records} share one payload but were given different ones.",
                        file=name,
                        offset=thing.at,
                        next="Keep the swap of one of them: it changes all.",
                    )
                if wanted:
                    out.append((thing, wanted[0]))
        return out

    def _without_head(self, items: list[int], item: NewItem) -> NewItem:
        """What goes to the payload's place: the head, where records hold one, goes into the record."""
        heads = self.columns.get("head")
        size = len(heads[items[0]] or b"") if heads else 0
        if not size:
            return item
        whole = item.payload
        assert heads is not None
        for n in items:
            heads[n] = whole.read(0, min(size, whole.size))
        rest = SliceSource(whole, min(size, whole.size), whole.size - min(size, whole.size))
        return NewItem(rest, item.values, item.unpacked, item.path)

    def _add_items(self) -> None:
        """Added entries: rows for them in every column, and things behind the last payload."""
        if not self.added:
            return
        reading, count = self.reading, self.reading.count
        places = reading.groups[-1] if reading.groups else []
        if not places or not len(places[0].rows) or any(p.region.body and p.region.body.nested for p in places):
            raise ZubretError(
                "Entries can only be added behind others of the same kind.",
                file=reading.file.name,
                next="Replace an entry instead.",
            )
        known = set(reading.column("path") or [])
        like = count - 1  # untied fields are copied from the last entry
        for n, item in enumerate(self.added):
            if item.path in known:
                raise ZubretError(
                    "An entry of this path is there already.", file=item.path, next="Replace it instead of adding it."
                )
            known.add(item.path)
            for column in self.columns.values():
                column.append(column[like])
            index = count + n
            self.at.append(0)
            self.stored.append(item.payload.size)
            self.item_files.append(self.item_files[like])
            self._name(index, item.path, places)
            for what, value in item.values.items():
                if what in self.columns:
                    self.columns[what][index] = value
            item = self._without_head([index], item)
            self.stored[index] = item.payload.size
            thing = Thing(-1, item.payload.size, rows=[index], align=reading.layout.payload.align)
            self.new[id(thing)] = item
            self._place_new(thing, self.item_files[index], places)

    def _place_new(self, thing: Thing, name: str, places: list[Place]) -> None:
        file = self.files[name]
        last = max((n for n, t in enumerate(file.things) if t.rows), default=len(file.things) - 1)
        body = next((p for p in places if p.body is not None), None)
        fresh = [thing]
        if body is not None:
            assert body.region.body is not None
            record = body.records.count + thing.rows[0] - self.reading.count
            fresh = [Thing(-1, 0, body, record, align=body.region.body.align), thing]
        before = file.things[last] if last >= 0 else None
        if before is not None and before.free and last == len(file.things) - 1:
            before.regular = True  # the file's end is made anew behind what was added
        file.things[last + 1 : last + 1] = fresh
        for t in fresh:
            file.at[id(t)], file.length[id(t)] = 0, t.length

    def _name(self, index: int, path: str, places: list[Place]) -> None:
        columns, folder, name = self.columns, path.rpartition("/")[0], path.rpartition("/")[2]
        if "path" in columns:
            columns["path"][index] = path
        elif "name" in columns:
            columns["name"][index] = name if "folder" in columns else path
        if "folder" in columns:
            paths = folder_paths(self.reading)
            if isinstance(columns["folder"][0], str):
                columns["folder"][index] = folder
            elif folder in paths:
                columns["folder"][index] = paths.index(folder)
            else:
                raise ZubretError(
                    f'The archive has no folder "{folder}".', file=path, next="Add the entry to a folder that is there."
                )
        for _, tie in self.reading.ties(f"{self.kind}.id", places):
            if tie.hash is not None:
                number = tie.hash.of(path)
                columns["id"][index] = f"{number:x}" if tie.shown == "hex" else str(number)
            elif "path" not in columns and "name" not in columns:
                columns["id"][index] = path

    def _order(self, place: Place) -> list[int]:
        """The records of a region as they will stand: old ones, and copies of the last item for added entries."""
        order = list(range(place.records.count))
        if self.added and place in self.reading.groups[-1]:
            last = int(place.rows[-1])
            where = last + 1 if place.body is None else len(order)
            order[where:where] = [last] * len(self.added)
        return order

    def _rows(self, place: Place, first: int) -> list[tuple[int, int]]:
        """(item, record as it will stand) of a region's items; `first` is the group's first item."""
        rows = [(first + n, int(r)) for n, r in enumerate(place.rows.tolist())]
        if self.added and place in self.reading.groups[-1]:
            last = int(place.rows[-1]) if place.body is None else place.records.count - 1
            rows += [(self.reading.count + n, last + 1 + n) for n in range(len(self.added))]
        return rows

    # Places ------------------------------------------------------------------------------------------

    def built(self) -> Built:
        """Lay out, write records, and again until places and sizes agree; then the sums; then the files."""
        for _ in range(PASSES):
            self._spill()
            for file in self.files.values():
                self._lay(file)
            self._learn_places()
            if not self._write_records():
                break
        else:
            raise ZubretError(
                "Places and sizes of regions change each other without end.",
                file=self.reading.file.name,
                next="Put packed regions behind the payloads or into a file of their own.",
            )
        self._write_sums()
        return self._assemble()

    def _new_size(self, thing: Thing) -> int | None:
        new = self.new.get(id(thing))
        return new.payload.size if new else None

    def _lay(self, file: _File) -> None:
        reading, layout = self.reading, self.reading.layout
        for t in file.things:
            size = self._new_size(t)
            if size is not None:
                file.length[id(t)] = size
        fits = all(file.length[id(t)] <= t.slot and t.at >= 0 for t in file.things)
        same = all(file.length[id(t)] == t.length for t in file.things)
        file.in_place = not self.anew and fits and (same or layout.payload.sizes == "given")
        if file.in_place:
            file.at, file.size = {id(t): t.at for t in file.things}, file.old_size
            return
        cursor, explained = 0, True
        for t in file.things:
            # Behind carried bytes only what the format demands is aligned.
            align = t.align if explained or t.place is None else 1
            file.at[id(t)] = cursor + -cursor % align
            cursor = file.at[id(t)] + file.length[id(t)] + self._kept(t)
            explained = t.regular or self._gap_dropped(t)
            if t.place and t.place.body is None and file.at[id(t)] != t.at:
                _may_move(reading, t.place)
        least = layout.end.least if explained else 0
        cursor += least
        file.size = cursor + (-cursor % layout.end.align if explained else 0)

    def _gap_dropped(self, thing: Thing) -> bool:
        """Free space behind a replaced payload is not carried over when all is laid anew."""
        return id(thing) in self.new and (thing.free or self.reading.layout.payload.sizes == "next")

    def _kept(self, thing: Thing) -> int:
        return 0 if thing.regular or self._gap_dropped(thing) else thing.gap

    def _spill(self) -> None:
        """Payloads that no longer fit into their volume go to the last one, or to a new one."""
        key = self.reading.layout.payload.file
        model = self.reading.layout.files[key] if key else None
        if model is None or not model.volumes or not model.limit:
            return
        for file in [f for n, f in self.files.items() if n]:
            self._lay(file)
            if file.size <= model.limit:
                continue
            for thing in [t for t in file.things if id(t) in self.new]:
                size = self._new_size(thing) or 0
                if size > model.limit:
                    raise ZubretError(
                        f"A payload of {size:,} bytes is larger than a volume of {model.limit:,}.",
                        file=file.name,
                        next="Shorten the replacement.",
                    )
                if size <= thing.slot and thing.at >= 0:
                    continue
                self._move(thing, file, model.limit)
                self._lay(file)
                if file.size <= model.limit:
                    break

    def _move(self, thing: Thing, file: _File, limit: int) -> None:
        """Take a thing out of its volume; its old bytes stay there, so that nothing else moves."""
        key = self.reading.layout.payload.file or ""
        model = self.reading.layout.files[key]
        volumes = list(self.columns.get("volume") or [model.first])
        last = max(v for v in volumes if isinstance(v, int))
        size, target = self._new_size(thing) or 0, last
        name = self.reading.companion(key, last)
        here = self.files[name]
        if here is file or here.size + -here.size % thing.align + size > limit:
            target, name = last + 1, self.reading.companion(key, last + 1)
            self.files[name] = _File(name, [], 0)
        index = file.things.index(thing)
        if thing.at >= 0 and index:
            before = file.things[index - 1]
            before.gap += thing.length + thing.gap
            before.free = before.regular = False
        file.things.remove(thing)
        moved = Thing(-1, size, rows=thing.rows, align=thing.align)
        self.new[id(moved)] = self.new.pop(id(thing))
        here = self.files[name]
        here.things.append(moved)
        here.at[id(moved)], here.length[id(moved)] = 0, size
        for item in thing.rows:
            self.item_files[item] = name
            if "volume" in self.columns:
                self.columns["volume"][item] = target
        self._lay(here)

    def _learn_places(self) -> None:
        """Where payloads stand now, as the items' meanings."""
        for file in self.files.values():
            for thing in file.things:
                new = self.new.get(id(thing))
                for item in thing.rows:
                    self.at[item] = file.at[id(thing)]
                    self.stored[item] = file.length[id(thing)]
                    for what, value in (new.values if new else {}).items():
                        if what in self.columns:
                            self.columns[what][item] = value
        for what, values in (("at", self.at), ("stored", self.stored)):
            if what in self.columns:
                self.columns[what] = values
        if "end" in self.columns:
            self.columns["end"] = [a + n for a, n in zip(self.at, self.stored, strict=True)]

    def _thing(self, place: Place) -> tuple[_File, Thing]:
        file = self.files[place.file]
        return file, next(t for t in file.things if t.place is place)

    def _region_at(self, place: Place) -> int:
        if place.body is not None:
            return place.at
        file, thing = self._thing(place)
        return file.at[id(thing)]

    def _record_places(self, place: Place) -> list[int]:
        """Where each record will stand; of records of different lengths, by their lengths in the last pass."""
        if place.body is not None:
            file = self.files[""]
            at = {t.record: file.at[id(t)] for t in file.things if t.place is place}
            return [at[n] for n in range(len(at))]
        order, records = self.tables[place.region.name].order, place.records
        lengths = [records.size or records.end(n) - int(records.starts[n]) for n in order]
        if not records.size and place.region.name in self.pieces:
            lengths = [len(p) for p in self.pieces[place.region.name]]
        start = 0 if place.region.packed else self._region_at(place)
        return [start + n for n in accumulate(lengths[:-1], initial=0)] if lengths else []

    def _whole(self) -> dict[str, Any]:
        """What regions that stand once say: old values, and those that follow from the new places."""
        reading, whole = self.reading, dict(self.reading.whole)
        for place in reading.places:
            name = place.region.name
            if place.body is None:
                file, thing = self._thing(place)
                at, stored = file.at[id(thing)], file.length[id(thing)]
                size = len(self.bytes.get(name, b"")) or place.content.size
                whole |= {f"{name}.at": at, f"{name}.stored": stored, f"{name}.end": at + stored, f"{name}.size": size}
            whole[f"{name}.count"] = len(self.tables[name].order) if name in self.tables else 0
        payloads = [t for t in self.files[""].things if t.rows and t.at >= 0]
        if payloads and isinstance(whole.get("payload.at"), int):
            whole["payload.at"] += self.files[""].at[id(payloads[0])] - payloads[0].at
        whole["file.size"] = self.files[""].size
        whole["entries.count"] = whole["streams.count"] = reading.count + len(self.added)
        for key, model in reading.layout.files.items():
            if model.volumes:
                used = [v for v in self.columns.get("volume") or [] if isinstance(v, int)]
                whole[f"{key}.count"] = max(used, default=model.first) - model.first + 1
            elif (name := reading.companion(key)) in self.files:
                whole[f"{key}.size"] = self.files[name].size
        return whole

    # Records -----------------------------------------------------------------------------------------

    def _write_records(self) -> bool:
        """Write every region's bytes from the meanings; True where a size changed."""
        whole, changed = self._whole(), False
        names = {"file.size": self.files[""].size}
        for place in self.reading.places:
            if place.region.fields:
                table = self.tables[place.region.name]
                table.names, table.places = {**names, "region.at": self._region_at(place)}, self._record_places(place)
                self._put_meanings(place, whole)
                if place.region.once:
                    names |= table.numbers_once()
        for place in self.reading.places:
            changed |= self._write_region(place)
        return changed

    def _put_meanings(self, place: Place, whole: dict[str, Any]) -> None:
        table, first = self.tables[place.region.name], 0
        item_rows: list[tuple[int, int]] = []
        for places in self.reading.groups:
            if place in places:
                item_rows = self._rows(place, first)
            first += len(places[0].rows)
        rows = [r for _, r in item_rows]
        for tie in ties_of(place.region):
            owner, _, what = (tie.means or "").partition(".")
            if owner == self.kind and what in self.columns:
                values = [self.columns[what][item] for item, _ in item_rows]
                if tie.pool:
                    values = [self._pool_offset(place, tie, table, row, v) for row, v in zip(rows, values, strict=True)]
                table.put(tie, values, rows)
                if place.region.sentinel and what in ("at", "end") and place.records.count:
                    table.put(tie, [self._payloads_end(place)], [len(table.order) - 1])
            elif tie.means and place.region.once and tie.means in whole:
                table.put(tie, [whole[tie.means]])
            elif owner == "folder":
                table.put(tie, self.reading.meanings(place, tie))
        if place.body is not None:
            self._put_bodies(place, table, item_rows)

    def _payloads_end(self, place: Place) -> int:
        """Where the payloads end that a sentinel record closes."""
        files = {self.item_files[n] for n in range(len(self.at))} or {""}
        return max((self.at[n] + self.stored[n] for n in range(len(self.at))), default=0) if len(files) == 1 else 0

    def _put_bodies(self, place: Place, table: Table, item_rows: list[tuple[int, int]]) -> None:
        """The sizes of bodies: of payloads as they are, of records that hold others by how far these reach."""
        assert place.region.body is not None
        tie = next(t for t in ties_of(place.region) if t.name == place.region.body.size)
        table.put(tie, [self.stored[item] for item, _ in item_rows], [row for _, row in item_rows])
        file = self.files[""]
        things = [t for t in file.things if t.at >= 0]
        shift = {t.at: file.at[id(t)] - t.at for t in things}
        starts = sorted(shift)
        assert place.body is not None
        for row in set(place.inside) - {-1}:
            body_at, size = place.body[row].tolist()
            behind = next((s for s in starts if s >= body_at + size), None)
            moved = shift[behind] if behind is not None else file.size - file.old_size
            table.put(tie, [size + moved - shift[int(place.records.places[row])]], [row])

    def _pool_offset(self, place: Place, tie: Tied, table: Table, row: int, text: str | None) -> int | None:
        """Where a text stands in its pool: where it was, or at the pool's end, where it is put."""
        if text is None:
            return None
        pool = self.reading.place(tie.pool or "")
        assert pool is not None and pool.region.pool is not None
        old = self.reading.scaled(place, tie, place.records.numbers(tie))
        how, was = pool.region.pool, int(old[table.order[row]])
        data = self.pools.setdefault(pool.region.name, bytearray(pool.records.data.tobytes()))
        wanted = text.encode(how.encoding, "surrogateescape")
        if decoded(bytes(data[was : was + len(wanted) + len(how.ends)]), how.encoding) == text:
            return was
        found = data.find(how.ends + wanted + how.ends)
        if found >= 0:
            return found + len(how.ends)
        data += wanted + how.ends
        return len(data) - len(wanted) - len(how.ends)

    def _write_region(self, place: Place) -> bool:
        """The region's bytes as they will be stored; True where their number changed."""
        name = place.region.name
        if place.body is not None:
            return self._write_bodies(place)
        file, thing = self._thing(place)
        if place.region.pool:
            data = bytes(self.pools.get(name) or place.records.data.tobytes())
        else:
            start = 0 if place.region.packed else file.at[id(thing)]
            if place.records.size:
                data = self.tables[name].joined(start)
            else:
                self.pieces[name] = self.tables[name].pieces(start)
                data = b"".join(self.pieces[name])
            tail = place.content.size - len(place.records.data)
            data += place.content.read(len(place.records.data), tail) if tail > 0 else b""
        self.bytes[name] = data
        length = self._stored_region(place).size
        changed = length != file.length[id(thing)]
        file.length[id(thing)] = length
        return changed

    def _write_bodies(self, place: Place) -> bool:
        name, changed = place.region.name, False
        self.pieces[name] = self.tables[name].pieces(place.at)
        file = self.files[""]
        holders = set(place.inside)
        for thing in file.things:
            if thing.place is place:
                assert place.region.body is not None
                length = len(self.pieces[name][thing.record])
                length += place.region.body.skip if thing.record in holders else 0
                changed |= file.length[id(thing)] != length
                file.length[id(thing)] = length
        return changed

    def _stored_region(self, place: Place) -> Source:
        """A region's bytes as the file holds them. Packed ones that are as they were are not packed again."""
        data = self.bytes[place.region.name]
        source = BytesSource(data, place.region.name)
        if not place.region.packed:
            return source
        old = SliceSource(self.reading.file_named(place.file), place.at, place.stored)
        if not all(s.view for s in place.chain.steps) and data == place.content.read(0, place.content.size):
            return old
        packed = place.chain.packed(source, old)
        return BytesSource(packed.read(0, packed.size), place.region.name)

    # Sums ------------------------------------------------------------------------------------------------

    def _write_sums(self) -> None:
        """Sums of payloads that changed, of records, of regions, of spans: until none changes any more."""
        for place, tie, how in sums_of(self.reading, ("stored", "unpacked")):
            self._sum_items(place, tie, how)
        for place, tie, how in sums_of(self.reading, ("listed",)):
            for item, source in self.listed.items():
                row = int(place.rows[item])
                self._put_sum(self.tables[place.region.name], tie, row, sum_of(how_of(how), source))
            self._write_region(place)
        for _ in range(PASSES):
            before = dict(self.bytes), {k: list(v) for k, v in self.pieces.items()}
            for place, tie, how in sums_of(self.reading):
                if how.of == "record":
                    self._sum_records(place, tie, how)
                elif how.of not in ("stored", "unpacked", "listed"):
                    self._sum_region(place, tie, how)
            if before == (self.bytes, self.pieces):
                return
        raise ZubretError(
            "Sums cover each other, so they can't be worked out.",
            file=self.reading.file.name,
            next="Say with `blank` which byte stands for a sum while it is taken.",
        )

    def _sum_items(self, place: Place, tie: Tied, how: SumModel) -> None:
        table, first = self.tables[place.region.name], 0
        for places in self.reading.groups:
            if place in places:
                row_of = dict(self._rows(place, first))
                for file in self.files.values():
                    for thing in file.things:
                        new = self.new.get(id(thing))
                        for item in thing.rows if new else ():
                            if item in row_of and new:
                                source = new.payload if how.of == "stored" else new.unpacked or new.payload
                                self._put_sum(table, tie, row_of[item], sum_of(how_of(how), source))
            first += len(places[0].rows)
        self._write_region(place)

    def _put_sum(self, table: Table, tie: Tied, row: int, value: int | bytes) -> None:
        holder, _ = table.place.records.holder(tie)
        if table.place.records.absent(holder):
            return
        if holder.numeric:
            bits = getattr(tie, "bits", None) or 8 * (holder.width or 8)
            number = value if isinstance(value, int) else int.from_bytes(value[: bits // 8], "big")
            if holder.type != "digits":
                number &= (1 << bits) - 1
            table.put_stored(tie, np.array([number], np.uint64), [row])
        else:
            old = table.contents_of(holder)[row] or b""
            data = sum_bytes(value, holder, len(old) or 64)
            table.contents_of(holder)[row] = data.upper() if old.isupper() and holder.type == "text" else data

    def _sum_records(self, place: Place, tie: Tied, how: SumModel) -> None:
        table = self.tables[place.region.name]
        pieces = table.pieces(place.at)
        holder, _ = place.records.holder(tie)
        for row, data in enumerate(pieces):
            source: Source = BytesSource(data)
            if how.blank is not None:
                at, length = place.records.span(holder, table.order[row])
                source = blanked(source, at - int(place.records.starts[table.order[row]]), length, how.blank)
            self._put_sum(table, tie, row, sum_of(how_of(how), source))
        self._write_region(place)

    def _sum_region(self, place: Place, tie: Tied, how: SumModel) -> None:
        covered: Source | None
        at, length = place.records.span(place.records.holder(tie)[0], 0)
        if how.of in ("file", "span"):
            covered = self._joined(self.files[""])[0]
            file, thing = self._thing(place)
            at += file.at[id(thing)]
            if how.of == "span":
                covered = self._span(covered, how, place)
        else:
            covered = BytesSource(self.bytes[how.of]) if how.of in self.bytes else None
        if covered is None:
            return
        if how.blank is not None and how.of in ("file", place.region.name):
            covered = blanked(covered, at, length, how.blank)
        self._put_sum(self.tables[place.region.name], tie, 0, sum_of(how_of(how), covered))
        self._write_region(place)

    def _span(self, whole: Source, how: SumModel, place: Place) -> Source:
        numbers = {"file.size": whole.size, "region.at": self._region_at(place)}
        for p in self.reading.places:
            if p.region.once:
                numbers |= self.tables[p.region.name].numbers_once()
        start, end = (evaluate(x, numbers, whole.name, place.region.name) for x in (how.start, how.end))
        return SliceSource(whole, start, end - start)

    # Files -------------------------------------------------------------------------------------------------

    def _joined(self, file: _File) -> tuple[Source, list[Segment], int]:
        """A file as a chain of parts, what stands where, and how many untouched payloads moved."""
        reading, fill = self.reading, self.reading.layout.payload.fill[0]
        body = next((p.region.body for p in reading.places if p.region.body), None)
        fill = body.fill[0] if body else fill
        source = reading.file_named(file.name) if file.old_size else BytesSource(b"", file.name)
        parts: list[Part] = []
        segments: list[Segment] = []
        cursor, moved = 0, 0

        def put(kind: str, source: Source, at: int, length: int, label: str = "", index: int = -1) -> None:
            nonlocal cursor
            if length:
                parts.append(Part(source, at, length))
                segments.append(Segment(kind, cursor, length, label, index))
                cursor += length

        for thing in file.things:
            at = file.at[id(thing)]
            put("padding", FillSource(fill, at - cursor), 0, at - cursor)
            new = self.new.get(id(thing))
            if thing.place:
                data = self._thing_bytes(thing)
                put(thing.kind, data, 0, data.size, thing.label)
            elif new:
                put("new", new.payload, 0, new.payload.size, "", thing.index)
            else:
                put("payload", source, thing.at, thing.length, "", thing.index)
                moved += len(thing.rows) if at != thing.at else 0
            kept = self._kept(thing)
            if kept and not (file.in_place and thing.free):
                gap_at = thing.at + thing.length if file.in_place else cursor
                put("padding", FillSource(fill, gap_at - cursor), 0, gap_at - cursor)
                put("padding" if thing.free else "unexplained", source, thing.at + thing.length, kept)
        put("padding", FillSource(reading.layout.end.fill[0], file.size - cursor), 0, file.size - cursor)
        return ChainSource(parts, source.name), segments, moved

    def _thing_bytes(self, thing: Thing) -> Source:
        place = thing.place
        assert place is not None
        if place.body is None:
            return self._stored_region(place)
        data = self.pieces[place.region.name][thing.record]
        assert place.region.body is not None
        if thing.record in set(place.inside) and place.region.body.skip:
            data += self.reading.source.read(int(place.body[thing.record, 0]), place.region.body.skip)
        return BytesSource(data, place.region.name)

    def _assemble(self) -> Built:
        out: Built | None = None
        others: dict[str, Built] = {}
        for file in self.files.values():
            source, segments, moved = self._joined(file)
            if not file.name:
                source = self._whole_packed(source)
                out = Built(source, segments, file.in_place, moved)
            elif self._is_changed(file):
                others[file.name] = Built(source, segments, file.in_place, moved)
        assert out is not None
        out.others = others
        return out

    def _whole_packed(self, source: Source) -> Source:
        """The described file's bytes as the disk holds them; packed bytes are kept where their content is the same."""
        reading = self.reading
        if not reading.layout.packed:
            return source
        if source.size == reading.source.size and all(
            a == b for a, b in zip(source.chunks(), reading.source.chunks(), strict=True)
        ):
            return reading.file
        return reading.whole_chain.packed(source, reading.file)

    def _is_changed(self, file: _File) -> bool:
        """Whether a companion has to be written: a volume in which nothing changed is left alone."""
        regions = any(t.place for t in file.things)
        moved = any(file.at[id(t)] != t.at for t in file.things)
        return (
            self.anew or regions or moved or file.size != file.old_size or any(id(t) in self.new for t in file.things)
        )


def _may_move(reading: Reading, place: Place) -> None:
    region = place.region
    said = f"{region.name}.at" in reading.whole or region.after or region.origin != "file"
    if not said and isinstance(region.at, int):
        raise ZubretError(
            f"Region {region.name} would have to move, but no field of the layout says where it stands.",
            file=reading.file.name,
            offset=place.at,
            field=region.name,
            next=f"Shorten the replacement so that it fits its slot, or tie a field to {region.name}.at.",
        )


def region_untied(reading: Reading, region: Region) -> bytes:
    """The bytes of a region with every tied field blanked: what a rebuild must carry over."""
    place = reading.place(region.name)
    if place is None or region.pool or not place.records.count:
        return b""
    out = []
    for f in region.fields:
        if place.records.absent(f) or f.means or f.sum or f.length == "" or _measures(region, f):
            continue
        if f.parts and f.numeric:
            numbers = place.records.numbers(f)
            shift = 0
            for part in f.parts:
                mask = ((1 << part.bits) - 1) << shift
                if part.means or part.sum:
                    numbers = numbers & numbers.dtype.type(~mask & ((1 << 63) - 1))
                shift += part.bits
            out.append(numbers.tobytes())
        elif f.type != "align":
            out.append(b"".join(c or b"" for c in place.records.contents(f)))
    return b"\0".join(out)


def _measures(region: Region, f: FieldModel) -> bool:
    names = {f.name, *(p.name for p in f.parts or ())}
    return any(x.length in names for x in region.fields) or bool(region.body and region.body.size in names)

"""A rebuild before its bytes are written: what changes, what is added, and where everything goes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import accumulate
from typing import Any

from ..base import ZubretError
from ..source import SliceSource, Source
from .lay import LaidFile
from .model import ties_of
from .paths import folder_paths
from .place import Place
from .read import Reading
from .spans import Thing, files_of
from .table import Table


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


class Planned:
    """What is to be written: the items as they will be, the files with their things, and where all of it goes."""

    def __init__(self, reading: Reading, changes: Mapping[int, NewItem], added: list[NewItem], anew: bool):
        self.reading, self.added, self.anew = reading, added, anew
        self.kind = reading.kind
        self.files = {name: LaidFile(reading, name) for name in files_of(reading)}
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

    def rows(self, place: Place, first: int) -> list[tuple[int, int]]:
        """(item, record as it will stand) of a region's items; `first` is the group's first item."""
        rows = [(first + n, int(r)) for n, r in enumerate(place.rows.tolist())]
        if self.added and place in self.reading.groups[-1]:
            last = int(place.rows[-1]) if place.body is None else place.records.count - 1
            rows += [(self.reading.count + n, last + 1 + n) for n in range(len(self.added))]
        return rows

    # Places ------------------------------------------------------------------------------------------

    def sizes(self) -> dict[int, int]:
        """Stored bytes of the new payloads, by the identity of their things."""
        return {key: item.payload.size for key, item in self.new.items()}

    def spill(self) -> None:
        """Payloads that no longer fit into their volume go to the last one, or to a new one."""
        key = self.reading.layout.payload.file
        model = self.reading.layout.files[key] if key else None
        if model is None or not model.volumes or not model.limit:
            return
        for file in [f for n, f in self.files.items() if n]:
            file.lay(self.sizes(), self.anew)
            if file.size <= model.limit:
                continue
            for thing in [t for t in file.things if id(t) in self.new]:
                size = self.new[id(thing)].payload.size
                if size > model.limit:
                    raise ZubretError(
                        f"A payload of {size:,} bytes is larger than a volume of {model.limit:,}.",
                        file=file.name,
                        next="Shorten the replacement.",
                    )
                if size <= thing.slot and thing.at >= 0:
                    continue
                self._move(thing, file, model.limit)
                file.lay(self.sizes(), self.anew)
                if file.size <= model.limit:
                    break

    def _move(self, thing: Thing, file: LaidFile, limit: int) -> None:
        """Take a thing out of its volume; its old bytes stay there, so that nothing else moves."""
        key = self.reading.layout.payload.file or ""
        model = self.reading.layout.files[key]
        volumes = list(self.columns.get("volume") or [model.first])
        last = max(v for v in volumes if isinstance(v, int))
        size, target = self.new[id(thing)].payload.size, last
        name = self.reading.companion(key, last)
        here = self.files[name]
        if here is file or here.size + -here.size % thing.align + size > limit:
            target, name = last + 1, self.reading.companion(key, last + 1)
            self.files[name] = LaidFile(self.reading, name, fresh=True)
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
        here.lay(self.sizes(), self.anew)

    def learn_places(self) -> None:
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

    def thing_of(self, place: Place) -> tuple[LaidFile, Thing]:
        file = self.files[place.file]
        return file, next(t for t in file.things if t.place is place)

    def region_at(self, place: Place) -> int:
        if place.body is not None:
            return place.at
        file, thing = self.thing_of(place)
        return file.at[id(thing)]

    def record_places(self, place: Place) -> list[int]:
        """Where each record will stand; of records of different lengths, by their lengths in the last pass."""
        if place.body is not None:
            file = self.files[""]
            at = {t.record: file.at[id(t)] for t in file.things if t.place is place}
            return [at[n] for n in range(len(at))]
        order, records = self.tables[place.region.name].order, place.records
        lengths = [records.size or records.end(n) - int(records.starts[n]) for n in order]
        if not records.size and place.region.name in self.pieces:
            lengths = [len(p) for p in self.pieces[place.region.name]]
        start = 0 if place.region.packed else self.region_at(place)
        return [start + n for n in accumulate(lengths[:-1], initial=0)] if lengths else []

    def whole_values(self) -> dict[str, Any]:
        """What regions that stand once say: old values, and those that follow from the new places."""
        reading, whole = self.reading, dict(self.reading.whole)
        for place in reading.places:
            name = place.region.name
            if place.body is None:
                file, thing = self.thing_of(place)
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

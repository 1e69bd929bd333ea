"""Writing files anew from their meanings: the inverse of reading.

Every tied field is written from its meaning, whether it changed or not; every other byte of a record is carried
over. A rebuild with no change therefore gives back the identical files, or the layout is wrong.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ..base import ZubretError
from ..source import Built, BytesSource, ChainSource, FillSource, Part, Segment, SliceSource, Source, same_bytes
from ..source.sums import sum_of
from .expression import evaluate
from .fields import FieldModel, SumModel, Tied
from .integrity import blanked, how_of, sum_bytes, sums_of
from .lay import LaidFile
from .model import Region, ties_of
from .place import Place
from .planned import NewItem, Planned
from .read import Reading
from .records import decoded
from .spans import Thing
from .table import Table

PASSES = 8
"""How often places and sizes may change each other before a layout counts as having no solution."""


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


class _Rebuild(Planned):
    """The records, sums and files of what is planned."""

    def built(self) -> Built:
        """Lay out, write records, and again until places and sizes agree; then the sums; then the files."""
        for _ in range(PASSES):
            self.spill()
            for file in self.files.values():
                file.lay(self.sizes(), self.anew)
            self.learn_places()
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

    # Records -----------------------------------------------------------------------------------------

    def _write_records(self) -> bool:
        """Write every region's bytes from the meanings; True where a size changed."""
        whole, changed = self.whole_values(), False
        names = {"file.size": self.files[""].size}
        for place in self.reading.places:
            if place.region.fields:
                table = self.tables[place.region.name]
                table.names, table.places = {**names, "region.at": self.region_at(place)}, self.record_places(place)
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
                item_rows = self.rows(place, first)
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
                table.put(tie, self.reading.meanings.of(place, tie))
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
        old = self.reading.meanings.scaled(place, tie, place.records.numbers(tie))
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
        file, thing = self.thing_of(place)
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
                row_of = dict(self.rows(place, first))
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
            file, thing = self.thing_of(place)
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
        numbers = {"file.size": whole.size, "region.at": self.region_at(place)}
        for p in self.reading.places:
            if p.region.once:
                numbers |= self.tables[p.region.name].numbers_once()
        start, end = (evaluate(x, numbers, whole.name, place.region.name) for x in (how.start, how.end))
        return SliceSource(whole, start, end - start)

    # Files -------------------------------------------------------------------------------------------------

    def _joined(self, file: LaidFile) -> tuple[Source, list[Segment], int]:
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
            kept = file.kept(thing)
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
        if same_bytes(source, reading.source):
            return reading.file
        return reading.whole_chain.packed(source, reading.file)

    def _is_changed(self, file: LaidFile) -> bool:
        """Whether a companion has to be written: a volume in which nothing changed is left alone."""
        regions = any(t.place for t in file.things)
        moved = any(file.at[id(t)] != t.at for t in file.things)
        return (
            self.anew or regions or moved or file.size != file.old_size or any(id(t) in self.new for t in file.things)
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

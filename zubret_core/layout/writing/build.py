"""Writing files anew from their meanings: the inverse of reading.

Every tied field is written from its meaning, whether it changed or not; every other byte is carried over. A rebuild
with no change therefore gives back the identical files, or the layout is wrong. Places decide numbers, numbers decide
the lengths of varints and packed indexes, and lengths decide places: so all is worked out in turns until nothing
changes. The result is the next document, whose sums are then taken by the very functions that reading uses.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import numpy as np

from ...base import ZubretError
from ...source import (
    Built,
    BytesSource,
    ChainSource,
    FillSource,
    Part,
    Rewritten,
    Segment,
    SliceSource,
    Source,
    Written,
    same_bytes,
)
from ..document import Document, Instance, Records
from ..document.extent import Extent, Grid, NewItem
from ..language.expression import evaluate
from .draft import Draft
from .marks import marks_of
from .placement import LaidFile, moved_wrongly
from .sums import write_sums
from .values import check_results, check_shapes, write_values
from .volumes import spill

PASSES = 12
"""How often places and sizes may change each other before a layout counts as having no solution."""
SETTLED = 4
"""Passes after which a packed region keeps the most bytes that it ever had, and fill behind it."""


def rebuild(
    document: Document,
    changes: Mapping[int, NewItem],
    *,
    added: Sequence[NewItem] = (),
    anew: bool | Collection[str] = False,
    only: Collection[int] | None = None,
) -> Built:
    """The files with some payloads replaced and some added; nothing is copied until the result is written.

    In place when every new payload fits its slot, otherwise everything behind moves. With `anew` all payloads are
    laid out afresh even if nothing changed; it may name the files ("" for the described one) in which they are. A replaced payload that several items share is replaced for all of
    them. `Built.others` holds the companions that change, by name. only: the entries that stay; all others are left out, with their
    records.
    """
    return _Rebuild(Draft(document, changes, added, anew, only)).built()


def relisted(document: Document, files: Mapping[int, Source]) -> Source:
    """A list of files with the sizes and sums of some lines taken anew, by the line's number."""
    draft = Draft(document, {}, [], False)
    draft.listed = dict(files)
    for item, source in files.items():
        if "size" in draft.columns:
            draft.columns["size"][item] = source.size
    return _Rebuild(draft).built().source


class _Live(Source):
    """A region's bytes as its records hold them now, and what stands behind the records."""

    def __init__(self, records: Records, data: bytes | None, tail: Source | None, name: str):
        self.name, self.records, self.data, self.tail = name, records, data, tail
        self.own = len(data) if data is not None else len(records.data)
        self.size = self.own + (tail.size if tail else 0)

    def _read(self, at: int, length: int) -> bytes:
        end = at + length
        out = self.records.data[at:end].tobytes() if self.data is None else self.data[at:end]
        if len(out) < length and self.tail is not None:
            start = max(0, at - self.own)
            out += self.tail.read(start, length - len(out))
        return out


class _Rebuild:
    """The records, sums and files of a draft."""

    def __init__(self, draft: Draft):
        self.draft, self.document = draft, draft.document
        self.layout = draft.document.layout
        self.next: dict[str, Instance] = {}
        self.stored: dict[str, Source] = {}

    def built(self) -> Built:
        """Lay out, write records, and again until places and sizes agree; the sums; and the files."""
        draft = self.draft
        for n in range(PASSES):
            spill(draft)
            for file in draft.files.values():
                draft.lay(file)
            draft.learn_places()
            write_values(draft)
            if self._encode():
                continue
            write_sums(draft, self.next, self._next_document)
            if not self._pack(n >= SETTLED) and self._is_found():
                break
        else:
            raise ZubretError(
                "Places and sizes of regions change each other without end.",
                file=self.document.file.name,
                next="Put packed regions behind the payloads or into a file of their own.",
            )
        check_results(draft)
        check_shapes(draft)
        return self._assembled()

    # Records ----------------------------------------------------------------------------------------

    def _encode(self) -> bool:
        """Every region's records from the meanings; True where a length changed, so that places must be found anew."""
        changed = False
        for instance in self.document.instances:
            changed |= self._encode_bodies(instance) if instance.body is not None else self._encode_region(instance)
        return changed

    def _encode_region(self, instance: Instance) -> bool:
        extent, name = self.draft.extent_of(instance), instance.name
        start = 0 if instance.region.packed else extent.new_at
        data, records, moved = None, instance.records, False
        if instance.region.pool:
            data = bytes(self.draft.pools.get(name) or records.data.tobytes())
        else:
            expected = self.draft.record_places(instance)
            records = self.draft.tables[name].encode(start)
            moved = not records.size and not np.array_equal(records.places, expected)  # ties may have named them
        behind = instance.content.size - len(instance.records.data)
        tail = SliceSource(instance.content, len(instance.records.data), behind) if behind > 0 else None
        content = _Live(records, data, tail, instance.content.name)
        self.next[name] = self._moved(instance, extent.new_at, extent.new_length, content, records)
        if instance.region.packed:
            return moved  # its stored length is known when its sums are
        moved |= content.size != extent.new_length
        extent.new_length = content.size
        return moved

    def _encode_bodies(self, instance: Instance) -> bool:
        table, changed = self.draft.tables[instance.name], False
        places = self.draft.record_places(instance).tolist()
        records = table.encode(places[0] if places else 0, places)
        body, holders = instance.frame, instance.holders
        lengths = records.lengths().tolist()
        for extent in self.draft.files[""].extents:
            if extent.instance is instance:
                length = lengths[extent.record] + (body.skip if extent.record in holders else 0)
                changed |= extent.new_length != length
                extent.new_length = length
        content = _Live(records, None, None, instance.content.name)
        at = places[0] if places else instance.at
        self.next[instance.name] = self._moved(instance, at, content.size, content, records)
        return changed

    def _moved(self, instance: Instance, at: int, stored: int, content: Source, records: Records) -> Instance:
        """A region as it will be, in what it stands in as that will be."""
        new = Instance(instance.region, instance.file, at, stored, content, records, instance.chain)
        new.piece, new.room = instance.piece, instance.room
        if instance.holder is not None:
            new.holder = self.next.get(instance.holder[0].name, instance.holder[0]), instance.holder[1]
        return new

    def _pack(self, reserve: bool) -> bool:
        """The stored bytes of every region; True where a packed one has another length than before."""
        changed = False
        for instance in self.document.instances:
            if instance.body is not None:
                continue
            content, extent = self.next[instance.name].content, self.draft.extent_of(instance)
            self.stored[instance.name] = content
            if instance.region.packed:
                self.stored[instance.name] = packed = self._packed(instance, content)
                changed |= packed.size != extent.new_length
                extent.new_length = packed.size
                extent.reserved = max(extent.reserved, packed.size) if reserve else 0
        return changed

    def _packed(self, instance: Instance, content: Source) -> Source:
        """A region's bytes as the file holds them. Packed ones that are as they were are not packed again."""
        old = SliceSource(self.document.file_named(instance.file), instance.at, instance.stored)
        if not instance.chain.keeps_places and same_bytes(content, instance.content):
            return old
        packed = instance.chain.packed(content, old)
        return BytesSource(packed.read(0, packed.size), instance.name)

    def _is_found(self) -> bool:
        """Whether every region stands where reading will look for it. If one does not, its file is laid anew, if it is
        not yet, for what stays in place may leave a gap that no field can tell."""
        for instance in self.document.instances:
            region, ahead = instance.region, self._ahead(instance)
            if ahead in self.stored:
                before = self.next[ahead]
                at = Grid(region.align).above(before.at + self.stored[ahead].size)
            elif (
                instance.file or (region.at is None and region.chunk is None) or (instance.piece > 0 and region.linked)
            ):
                continue
            else:
                at = evaluate(region.at or 0, self.draft.numbers_at(instance), self.document.file.name, region.name)
            if region.chunk is not None and instance.holder is not None:
                at += self._body_at(*instance.holder)
            elif region.origin == "end":
                at += self.draft.files[""].new_size
            elif region.origin != "file" and region.origin in self.next:
                at += self.next[region.origin].at
            new_at = self.next[instance.name].at
            if new_at != at:
                file = self.draft.files[instance.file]
                if not file.in_place:
                    raise moved_wrongly(self.document, region.name, new_at, instance.at)
                file.in_place = False
                return False
        return True

    def _ahead(self, instance: Instance) -> str | None:
        """The name of what a region stands directly behind; nothing where its place is told otherwise."""
        region = instance.region
        inner = self.layout.inner(region)
        if inner is not None and instance.piece > 0:
            return f"{inner.name} {instance.piece - 1}"
        if instance.piece < 0 or region.each is None or region.after is None:
            return region.after if instance.piece <= 0 else None
        if region.after == region.each and instance.holder is not None:
            return instance.holder[0].name
        return f"{region.name} {instance.piece - 1}" if instance.piece else region.after

    def _body_at(self, frames: Instance, row: int) -> int:
        """Where the body of a record will stand."""
        own = self.draft.heads[frames.name, row]
        skip = frames.region.body.skip if frames.region.body and row in frames.holders else 0
        return own.new_at + own.new_length - skip

    def _next_document(self) -> Document:
        """The document as it will be read: the new regions, over the new file."""
        old = self.document
        source = self._joined(self.draft.files[""], whole=False)[0]
        new = Document(old.layout, old.file, source, old.whole_chain, old.keys, old.siblings)
        new.instances = [self.next[i.name] for i in old.instances]
        new.numbers, new.once = self.draft.numbers, old.once
        return new

    # Files ------------------------------------------------------------------------------------------

    def _joined(self, file: LaidFile, whole: bool = True) -> tuple[Source, list[Segment], int]:
        """A file as a chain of parts, what stands where, and how many untouched payloads moved.

        whole: its regions are final; else they are taken as they are now, for sums.
        """
        source = self.document.file_named(file.name) if file.old_size else BytesSource(b"", file.name)
        parts: list[Part] = []
        segments: list[Segment] = []
        cursor, moved = 0, 0

        def put(kind: str, source: Source, at: int, length: int, label: str = "", index: int = -1) -> None:
            nonlocal cursor
            if length:
                parts.append(Part(source, at, length))
                segments.append(Segment(kind, cursor, length, label, index))
                cursor += length

        for n, extent in enumerate(file.extents):
            for guard in self._guards(extent, source, "before"):
                put("padding", *guard)
            if extent.instance is not None:
                data = self._extent_bytes(extent, whole)
                put(extent.kind, data, 0, data.size, extent.label)
            elif extent.new is not None:
                put("new", extent.new.payload, 0, extent.new_length, "", extent.index)
            else:
                put("payload", source, extent.at, extent.length, "", extent.index)
                moved += len(extent.items) if extent.new_at != extent.at else 0
            for guard in self._guards(extent, source, "behind"):
                put("padding", *guard)
            behind = file.extents[n + 1] if n + 1 < len(file.extents) else None
            stop = behind.new_start if behind else file.new_size
            fill = behind.fill if behind else self.layout.end.fill
            kinds = ["padding" if file.in_place or not extent.carried else "unexplained", "padding"]
            for kind, gap in zip(kinds, file.gap_behind(extent, stop, source, fill), strict=False):
                put(kind, *gap)
        return ChainSource(parts, source.name), segments, moved

    def _guards(self, extent: Extent, source: Source, side: str) -> list[tuple[Source, int, int]]:
        """The guard space at one side of a payload: as it was where it has the same length, else of fill."""
        new, old = getattr(extent, f"new_{side}"), getattr(extent, side)
        if not new:
            return []
        if new == old:
            return [(source, extent.start if side == "before" else extent.at + extent.length, new)]
        stand = self.draft.stand_of(extent)
        guard = stand.before if side == "before" else stand.behind
        return [(FillSource((guard.fill or stand.fill)[0], new), 0, new)]

    def _extent_bytes(self, extent: Extent, whole: bool) -> Source:
        instance = extent.instance
        assert instance is not None
        if instance.body is not None:
            return self._record_bytes(instance, extent)
        if whole:
            return self._rewritten(instance)
        content = self.next[instance.name].content
        return self._packed(instance, content) if instance.region.packed else content

    def _rewritten(self, instance: Instance) -> Source:
        """A region's new bytes, which say of themselves what stood in the old file already, and which fields changed."""
        stored = self.stored[instance.name]
        if instance.region.packed:
            if isinstance(stored, SliceSource):
                return stored  # as it was
            return Written(stored.read(0, stored.size), f"{instance.name}, packed")
        return self._rewritten_content(instance)

    def _rewritten_content(self, instance: Instance) -> Source:
        """A region's unpacked bytes, new against old."""
        stood = SliceSource(self.document.file_named(instance.file), instance.at, instance.stored)
        old = instance.content if instance.region.packed else stood
        new = self.next[instance.name]
        table = self.draft.tables.get(instance.name)
        return Rewritten(new.content, old, marks_of(instance, new, table.order if table else None), instance.name)

    def _record_bytes(self, instance: Instance, extent: Extent) -> Source:
        new, body, row = self.next[instance.name], instance.frame, extent.record
        order = self.draft.tables[instance.name].order
        assert instance.body is not None
        data, stood = new.records.bytes_of(row), instance.records.bytes_of(order[row])
        old = SliceSource(self.document.source, int(instance.records.places[order[row]]), len(stood))
        source: Source = old
        if data != stood:
            source = Rewritten(BytesSource(data), old, marks_of(instance, new, order, row), instance.name)
        if not body.skip or row >= instance.records.count or row not in instance.holders:
            return source
        skipped = Part(self.document.source, int(instance.body[row, 0]), body.skip)
        return ChainSource([Part(source, 0, source.size), skipped], instance.name)

    def _assembled(self) -> Built:
        out: Built | None = None
        others: dict[str, Built] = {}
        for file in self.draft.files.values():
            source, segments, moved = self._joined(file)
            if not file.name:
                out = Built(self._whole_packed(source), segments, file.in_place, moved)
                if self.layout.packed:
                    out.unpacked["*"] = source, self.document.source
            elif self._is_changed(file):
                others[file.name] = Built(source, segments, file.in_place, moved)
        assert out is not None
        out.others = others
        for instance in self.document.instances:
            if instance.region.packed:
                out.unpacked[instance.name] = self._rewritten_content(instance), instance.content
        return out

    def _whole_packed(self, source: Source) -> Source:
        """The described file's bytes as the disk holds them; packed bytes are kept where their content is the same."""
        document = self.document
        if not document.layout.packed:
            return source
        if same_bytes(source, document.source):
            return document.file
        return document.whole_chain.packed(source, document.file)

    def _is_changed(self, file: LaidFile) -> bool:
        """Whether a companion has to be written: a volume in which nothing changed is left alone."""
        regions = any(e.instance for e in file.extents)
        moved = any(e.new_at != e.at for e in file.extents)
        replaced = any(e.new is not None for e in file.extents)
        return self.draft.anew(file.name) or regions or moved or replaced or file.new_size != file.old_size

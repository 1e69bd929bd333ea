"""An archive that a layout describes."""

from __future__ import annotations

import zlib
from collections.abc import Mapping, Sequence
from functools import cached_property

from ..base import ZubretError
from ..layout import Layout, NewItem, read_layout, rebuild
from ..source import Built, DiskCache, Segment, SliceSource, Source, crc32_of, inflated, spooled
from .base import Entry, EntryTable
from .deflate import deflated, level_of


class DescribedArchive:
    """Entries by a layout's table."""

    kind = "layout"

    def __init__(self, layout: Layout, source: Source):
        self.layout, self.source = layout, source
        self.layout_id = layout.id
        self.reading = read_layout(layout, source)
        self.table = self._entries()
        self.entries: Sequence[Entry] = self.table

    def _entries(self) -> EntryTable:
        reading = self.reading
        count = reading.count
        stored = reading.column("stored") or []
        return EntryTable(
            reading.column("path") or [],
            reading.column("at") or [],
            stored,
            reading.column("size") or stored,
            reading.column("method") or ["plain"] * count,
            reading.column("crc32") or [None] * count,
        )

    def _stored(self, index: int) -> SliceSource:
        entry = self.entries[index]
        return SliceSource(self.source, entry.at, entry.stored, entry.path)

    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        entry, stored = self.entries[index], self._stored(index)
        if entry.method == "plain":
            if entry.size != entry.stored:
                raise ZubretError(
                    f"A plain entry of {entry.size:,} bytes is stored in {entry.stored:,}.",
                    file=entry.path,
                    next="The archive's table is damaged: check it against another copy.",
                )
            return stored
        if entry.method == "zlib":
            return spooled(inflated(stored, entry.size), entry.size, entry.path, cache, key)
        raise ZubretError(
            f'The method "{entry.method}" can\'t be unpacked.', file=entry.path, next="Correct the layout's values."
        )

    def head(self, index: int, length: int) -> bytes:
        entry = self.entries[index]
        if entry.method != "zlib":
            return self.source.read(entry.at, min(length, entry.stored))
        packed = self.source.read(entry.at, min(entry.stored, length + 512))
        try:
            return zlib.decompressobj().decompress(packed, length)
        except zlib.error:
            return b""

    def rebuild(self, changes: Mapping[int, Source], *, anew: bool = False) -> Built:
        return rebuild(self.reading, {n: self._packed(n, new) for n, new in changes.items()}, anew=anew)

    def _packed(self, index: int, new: Source) -> NewItem:
        """New unpacked bytes as the entry stores them: same method, size and sum of its own."""
        entry, payload = self.entries[index], new
        if entry.method == "zlib":
            payload = deflated(new, level_of(self.source.read(entry.at, 2)))
        values: dict[str, object] = {"size": new.size}
        tie = self.reading.tie("entry.crc32")
        if tie:
            values["crc32"] = crc32_of(payload if tie.over == "stored" else new)
        return NewItem(payload, values)

    def segments(self) -> list[Segment]:
        return self.reading.segments()

    @cached_property
    def _by_span(self) -> dict[tuple[int, int], list[int]]:
        out: dict[tuple[int, int], list[int]] = {}
        for n, entry in enumerate(self.entries):
            out.setdefault((entry.at, entry.stored), []).append(n)
        return out

    def sharing(self, index: int) -> list[int]:
        entry = self.entries[index]
        return [n for n in self._by_span[entry.at, entry.stored] if n != index and entry.stored]

    def check(self, index: int) -> None:
        """ZubretError unless the entry's bytes have the CRC-32 that the table gives."""
        entry, tie = self.entries[index], self.reading.tie("entry.crc32")
        if tie is None:
            return
        found = crc32_of(self._stored(index) if tie.over == "stored" else self.open(index))
        if found != entry.crc32:
            raise ZubretError(
                f"The checksum is {found:08x}, but the table says {entry.crc32:08x}.",
                file=entry.path,
                offset=entry.at,
                next="The entry is damaged: check the archive against another copy.",
            )

"""An archive that a layout describes."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

import numpy as np

from ..base import ZubretError, collector_paused, once
from ..layout import Document, Layout, NewItem, read_layout, rebuild
from ..layout.checks.extents import index_pieces, segments_of
from ..layout.checks.sums import check_item, crc32s, verify
from ..layout.checks.told import ToldSizes
from ..layout.document.chains import Keys
from ..layout.language.expression import compiled
from ..layout.language.steps import all_steps, numbers_of
from ..source import Built, DiskCache, Segment, Source
from .base import Container, Entry, EntryTable, NewEntry, Siblings


class DescribedArchive(Container):
    """Entries by a layout's table, or tables."""

    kind = "layout"
    document: Document

    def __init__(
        self,
        layout: Layout,
        source: Source,
        siblings: Siblings | None = None,
        keys: Keys | None = None,
        cache: DiskCache | None = None,
    ):
        self.layout, self.source, self._cache = layout, source, cache
        self.layout_id = layout.id
        with collector_paused():
            self.document = read_layout(layout, source, siblings, keys)
            self.table = self._entries()
        self.hashed = self.document.tie("entry.path") is None and self.document.tie("entry.name") is None
        self.entries: Sequence[Entry] = self.table

    def _entries(self) -> EntryTable:
        document = self.document
        stored, heads, sizes = document.as_read("stored"), document.column("head"), document.as_read("size")
        if sizes is None and heads:
            sizes = [n + len(h or b"") for n, h in zip(document.column("stored") or [], heads, strict=True)]
        elif sizes is None or np.array_equal(sizes, stored):  # nothing is packed
            sizes = stored
        return EntryTable(
            document.column("path") or [],
            document.as_read("at"),
            stored,
            sizes,
            document.column("method") or "plain",
            crc32s(document),
            document.payload_files() if document.layout.payload.file else "",
        )

    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        chain, stored, size = self.document.chain(index), self.document.payload(index), self.entries[index].size
        if stored.size > size and chain.keeps_places:
            stored = self.told_sizes.without(index, stored, size)
        return chain.unpacked(stored, size, cache=cache, key=key)

    @once
    def told_sizes(self) -> ToldSizes:
        """Which stored sizes its entries may have."""
        return ToldSizes(self.document)

    def is_filled(self, index: int, size: int, stored: bool = False) -> bool:
        as_stored = self.document.as_read("size") is None and self.document.chain(index).keeps_places
        return (stored or as_stored) and self.told_sizes.is_filled(index, size)

    def data(self, index: int) -> bytes:
        """The unpacked bytes of a small entry, without a source around them."""
        entry = self.entries[index]
        chain = self.document.chain(index)
        if (chain.keeps_places and entry.size != entry.stored) or self.document.scattered:
            source = self.open(index)
            return source.read(0, source.size)
        stored = self.document.file_named(entry.file).read(entry.at, entry.stored)
        return chain.data(stored, entry.size, entry.path) if chain else stored

    def head(self, index: int, length: int) -> bytes:
        entry, chain = self.entries[index], self.document.chain(index)
        if not chain and not self.document.scattered:
            return self.document.file_named(entry.file).read(entry.at, min(length, entry.stored))
        return self.document.chain(index).head(self.document.payload(index), self.entries[index].size, length)

    def heads(self, length: int) -> Iterator[bytes | ZubretError]:
        plain = self.layout.methods.keys() == {"plain"} and not self.layout.payload.packed
        columns = (self.table.column(c) for c in ("at", "stored", "method", "file"))
        by_size = self.layout.payload.plain == "equal"
        chains = (
            {m: self.document.chain(n) for n, m in reversed(list(enumerate(self.table.column("method"))))}
            if not plain and not by_size
            else {}
        )
        sources = {name: self.document.file_named(name) for name in set(self.table.column("file"))}
        whole = not self.document.scattered
        for n, (at, stored, method, file) in enumerate(zip(*columns, strict=True)):
            try:
                if whole and (plain or not (self.document.chain(n) if by_size else chains[method])):
                    yield sources[file].read(at, min(length, stored))
                else:
                    yield self.head(n, length)
            except ZubretError as e:
                yield e

    def rebuild(
        self,
        changes: Mapping[int, Source],
        *,
        added: Sequence[NewEntry] = (),
        anew: bool | Collection[str] = False,
        only: Collection[int] | None = None,
    ) -> Built:
        new = {n: self._packed(n, source) for n, source in changes.items()}
        like = len(self.entries) - 1
        if added and like < 0:
            raise ZubretError(
                "Nothing can be added to an empty archive: an entry's untied fields are copied from one that is there.",
                file=self.source.name,
                next="Replace the archive as a whole.",
            )
        self._checked(changes, bool(added))
        more = [self._packed(like, entry.content, entry.path) for entry in added]
        return rebuild(self.document, new, added=more, anew=anew or only is not None, only=only)

    def _packed(self, index: int, new: Source, path: str = "") -> NewItem:
        """New unpacked bytes as the entry stores them, by its own method."""
        stored = self.document.payload(index)
        chain = self.document.chain(index, new.size, path)
        payload = chain.packed(new, stored, self._cache)
        if self.layout.payload.plain == "equal" and payload.size >= new.size:
            payload = new  # as many bytes as it unpacks to, or more, would be taken for plain, or are of no use
        filled = self.told_sizes.filled(index, payload)
        has_size = self.document.as_read("size") is not None
        return NewItem(filled, {"size": new.size}, new if has_size or chain else filled, path)

    def _checked(self, changes: Mapping[int, Source], added: bool) -> None:
        """An error where a change would make other entries unreadable, or a new entry its own."""
        steps = [*all_steps(self.layout.payload.packed), *all_steps(s for m in self.layout.methods.values() for s in m)]
        dictionaries = {getattr(s, "dictionary", None) for s in steps}
        for n in changes:
            if (path := self.entries[n].path) in dictionaries:
                raise ZubretError(
                    f"{path} is the dictionary by which other entries are packed, so it can't be replaced.",
                    file=self.source.name,
                    next="Leave it as it is.",
                )
        ids = {s.tie.name for _, s in self.document.slots("entry.id")}
        if added and any(ids & set(compiled(text).names) for s in steps for text in numbers_of(s).values()):
            raise ZubretError(
                "The entries of this archive are locked by their ids, so none can be added.",
                file=self.source.name,
                next="Replace an entry that is there.",
            )

    def stored(self, index: int) -> Source:
        return self.document.payload(index)

    def unpacked(self, part: str) -> Source:
        return self.document.unpacked(part)

    def segments(self) -> list[Segment]:
        return segments_of(self.document)

    @once
    def _by_span(self) -> dict[tuple[str, int, int], list[int]]:
        out: dict[tuple[str, int, int], list[int]] = {}
        for n, entry in enumerate(self.entries):
            out.setdefault((entry.file, entry.at, entry.stored), []).append(n)
        return out

    def sharing(self, index: int) -> list[int]:
        entry = self.entries[index]
        return [n for n in self._by_span[entry.file, entry.at, entry.stored] if n != index and entry.stored]

    def check(self, index: int, content: Source | None = None) -> None:
        check_item(self.document, index, lambda: content or self.open(index))

    def spans(self) -> Sequence[tuple[str, int, int]] | None:
        if self.layout.packed or self.document.in_pieces:
            return None
        return list(zip(*(self.table.column(c) for c in ("file", "at", "stored")), strict=True))

    def path(self, index: int) -> str:
        return self.table.column("path")[index]

    def is_plain(self, index: int) -> bool:
        return not self.layout.packed and not self.document.chain(index) and not self.document.scattered

    def verify(self) -> None:
        verify(self.document)

    def companions(self) -> list[str]:
        return [name for name in self.document.files() if name]

    def sizes(self) -> Sequence[int]:
        return self.table.column("size")

    def index_pieces(self) -> list[tuple[int, int]]:
        return index_pieces(self.document)

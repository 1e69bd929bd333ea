"""What every container can do."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple, Protocol

from ..source import Built, DiskCache, Segment, Source


class Entry(NamedTuple):
    """One stored file: path, byte offset, stored and unpacked bytes, method, CRC-32 if the table has one."""

    path: str
    at: int
    stored: int
    size: int
    method: str
    crc32: int | None


class EntryTable(Sequence[Entry]):
    """Entries kept as columns: an archive of 200,000 opens without 200,000 objects being made."""

    def __init__(self, *columns: list):
        self._columns = columns

    def __len__(self) -> int:
        return len(self._columns[0])

    def __getitem__(self, index):
        if isinstance(index, slice):
            return [self[n] for n in range(*index.indices(len(self)))]
        return Entry._make(column[index] for column in self._columns)

    def __iter__(self) -> Iterator[Entry]:
        return map(Entry._make, self.tuples())

    def tuples(self) -> Iterator[tuple]:
        """The entries as plain tuples, in the order of Entry's fields."""
        return zip(*self._columns, strict=True)


class Container(Protocol):
    """An opened archive. Entries are known by their number in table order."""

    kind: str
    layout_id: str
    source: Source
    entries: Sequence[Entry]

    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        """The unpacked bytes of an entry; large compressed ones go through `cache` under `key`."""

    def head(self, index: int, length: int) -> bytes:
        """At most the first `length` unpacked bytes of an entry, without unpacking the rest."""

    def rebuild(self, changes: Mapping[int, Source], *, anew: bool = False) -> Built:
        """The archive with the unpacked bytes of some entries replaced, all else as it was."""

    def segments(self) -> list[Segment]:
        """What stands where in the file."""

    def sharing(self, index: int) -> list[int]:
        """The other entries that are stored in the very same bytes."""

"""What every container can do."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from itertools import chain
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError
from ..layout import Document
from ..source import Built, DiskCache, Segment, Source

Siblings = Callable[[str], Source]
"""Opens a file by its name beside another one; ZubretError where there is none."""


class Entry(NamedTuple):
    """One stored file.

    path; byte offset, stored and unpacked bytes; method; CRC-32 if the table has one; file: the companion that holds
    its payload, "" for the archive itself.
    """

    path: str
    at: int
    stored: int
    size: int
    method: str
    crc32: int | None
    file: str = ""


Column = list | NDArray | str | None
"""A field of all entries: values, whole numbers as an array, or one value that all have."""
BATCH = 1 << 12
"""Entries that are made into tuples together, so that their values are still near when the tuples are made."""


class EntryTable(Sequence[Entry]):
    """Entries kept as columns: an archive of 200,000 opens without 200,000 objects being made."""

    def __init__(self, path: list[str], *columns: Column):
        self._columns = (path, *columns)
        self._count = len(path)

    def __len__(self) -> int:
        return self._count

    def __getitem__(self, index):
        if isinstance(index, slice):
            return [self[n] for n in range(*index.indices(len(self)))]
        return Entry._make(_value(c, index) for c in self._columns)

    def __iter__(self) -> Iterator[Entry]:
        return map(Entry._make, self._all_rows())

    def tuples(self) -> list[tuple]:
        """The entries as plain tuples, in the order of Entry's fields."""
        return list(self._all_rows())

    def _all_rows(self) -> Iterator[tuple]:
        return chain.from_iterable(self._rows(n, BATCH) for n in range(0, self._count, BATCH))

    def _rows(self, first: int, count: int) -> Iterator[tuple]:
        count = min(count, self._count - first)
        made = {id(c): _values(c, first, count) for c in self._columns}
        return zip(*(made[id(c)] for c in self._columns), strict=True)

    def column(self, name: str) -> list:
        """One field of all entries."""
        return _values(self._columns[Entry._fields.index(name)], 0, self._count)


def _value(column: Column, index: int) -> Any:
    """One value of a column, as Python's own."""
    if isinstance(column, list):
        return column[index]
    return column[index].item() if isinstance(column, np.ndarray) else column


def _values(column: Column, first: int, count: int) -> list:
    """Some values of a column, as Python's own."""
    if isinstance(column, list):
        return column[first : first + count]
    return column[first : first + count].tolist() if isinstance(column, np.ndarray) else [column] * count


class NewEntry(NamedTuple):
    """An entry to be added: its path and its unpacked bytes."""

    path: str
    content: Source


class Container(ABC):
    """An opened archive. Entries are known by their number in table order.

    kind: zip, tar, iso, layout, or file for a loose one; document: what a layout reads there, if one does; labels: names
    from a name list, by the paths that the archive has; hashed: it has hashes instead of names; skipped: members that are
    no files, with the reason.
    """

    kind: str
    layout_id: str
    source: Source
    entries: Sequence[Entry]
    document: Document | None = None
    labels: Mapping[str, str] = {}
    hashed: bool = False
    skipped: Sequence[tuple[str, str]] = ()

    @abstractmethod
    def open(self, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
        """The unpacked bytes of an entry; large compressed ones go through `cache` under `key`."""

    @abstractmethod
    def head(self, index: int, length: int) -> bytes:
        """At most the first `length` unpacked bytes of an entry, without unpacking the rest."""

    @abstractmethod
    def rebuild(
        self,
        changes: Mapping[int, Source],
        *,
        added: Sequence[NewEntry] = (),
        anew: bool | Collection[str] = False,
        only: Collection[int] | None = None,
    ) -> Built:
        """The archive with the unpacked bytes of some entries replaced and some added, all else as it was. only: a new archive of the
        same kind, with these entries and the added ones, laid out afresh."""

    @abstractmethod
    def segments(self) -> list[Segment]:
        """What stands where in the file."""

    @abstractmethod
    def sharing(self, index: int) -> list[int]:
        """The other entries that are stored in the very same bytes."""

    @abstractmethod
    def check(self, index: int, content: Source | None = None) -> None:
        """ZubretError unless an entry's bytes have the sums that the archive gives for it. content: its unpacked bytes,
        where they are at hand."""

    @abstractmethod
    def spans(self) -> Sequence[tuple[str, int, int]] | None:
        """Where each entry's stored bytes stand: (companion or "", byte offset, bytes); None where the file is packed
        as a whole, so that they stand nowhere."""

    @abstractmethod
    def is_plain(self, index: int) -> bool:
        """Whether an entry's content stands in the file as it is."""

    def is_filled(self, index: int, size: int, stored: bool = False) -> bool:
        """Whether behind the first `size` bytes of an entry, or of what is stored of it, stands nothing but what fills them up to a size
        that can be told."""
        return False

    def weight(self) -> int:
        """Bytes of memory that it takes while it is open, roughly."""
        return (1 << 20) + 600 * len(self.entries)

    def data(self, index: int) -> bytes:
        """All unpacked bytes of a small entry."""
        content = self.open(index)
        return content.read(0, content.size)

    def stored(self, index: int) -> Source:
        """The bytes of an entry as they are stored."""
        return self.open(index)

    def unpacked(self, part: str) -> Source:
        """The unpacked bytes of a part that is packed by itself; * is the whole file."""
        return self.source

    def verify(self) -> None:
        """Take the sums over much of the file; ZubretError where one is wrong. Most containers have none."""
        return

    def companions(self) -> list[str]:
        """The names of the files beside it that it keeps something in."""
        return []

    def heads(self, length: int) -> Iterator[bytes | ZubretError]:
        """At most the first `length` unpacked bytes of every entry, or why they can't be reached."""
        for n in range(len(self.entries)):
            try:
                yield self.head(n, length)
            except ZubretError as e:
                yield e

    def sizes(self) -> Sequence[int]:
        """The unpacked bytes of all entries."""
        return [e.size for e in self.entries]

    def index_pieces(self) -> list[tuple[int, int]]:
        """Byte offset and length of what says where entries are."""
        return [(s.at, s.length) for s in self.segments() if s.kind in ("header", "table")]

    def path(self, index: int) -> str:
        """An entry's path."""
        return self.entries[index].path

    def label(self, index: int) -> str:
        """What people call an entry: its name from a name list where it has only an id, else its path."""
        path = self.entries[index].path
        return self.labels.get(path, path)

    def index_of(self, path: str) -> int | None:
        """The number of the first entry with a path, or with a name from a name list."""
        return next((n for n, e in enumerate(self.entries) if path in (e.path, self.labels.get(e.path))), None)

    def beside(self, index: int) -> Siblings:
        """What stands beside an entry: entries of the same folder."""
        folder = self.label(index).rpartition("/")[0]

        def open_named(name: str) -> Source:
            path = f"{folder}/{name}" if folder else name
            number = self.index_of(path)
            if number is None:
                next = "Look for the missing entry: the archive may belong to another version of the game."
                if self.hashed and self.label(index) == self.entries[index].path:
                    next = "This archive stores hashes: give it a name list, so that what belongs together is found."
                raise ZubretError(f"{path}, which belongs to this entry, is not in the archive.", file=path, next=next)
            return self.open(number)

        return open_named

    def refuse_known(self, added: Sequence[NewEntry]) -> None:
        """ZubretError where an entry to be added has the path of one that is there, or of another new one."""
        known = {e.path for e in self.entries} if added else set()
        for entry in added:
            if entry.path in known:
                raise ZubretError(
                    "An entry of this path is there already.",
                    file=entry.path,
                    next="Replace it instead of adding it.",
                )
            known.add(entry.path)


def cannot_choose(file: str) -> ZubretError:
    """The error of containers of which no smaller one can be made."""
    return ZubretError(
        "No new archive with some of the entries can be made of this kind.",
        file=file,
        next="Choose another way of putting changes into the game.",
    )


def cannot_add(file: str) -> ZubretError:
    """The error of containers to which nothing can be added."""
    return ZubretError(
        "Entries can't be added to this kind of archive.", file=file, next="Replace an entry, or use a patch archive."
    )

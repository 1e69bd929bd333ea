"""What every container can do."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple, Protocol

from ..base import ZubretError
from ..source import Built, DiskCache, Segment, Source


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


class NewEntry(NamedTuple):
    """An entry to be added: its path and its unpacked bytes."""

    path: str
    content: Source


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

    def rebuild(self, changes: Mapping[int, Source], *, added: Sequence[NewEntry] = (), anew: bool = False) -> Built:
        """The archive with the unpacked bytes of some entries replaced and some added, all else as it was."""

    def segments(self) -> list[Segment]:
        """What stands where in the file."""

    def sharing(self, index: int) -> list[int]:
        """The other entries that are stored in the very same bytes."""

    def check(self, index: int) -> None:
        """ZubretError unless an entry's bytes have the sums that the archive gives for it."""


Siblings = Callable[[str], Source]
"""Opens a file by its name beside another one; ZubretError where there is none."""


def beside(archive: Container, index: int) -> Siblings:
    """What stands beside an entry: entries of the same folder in the same archive, or beside a loose file."""
    if own := getattr(archive, "siblings", None):
        siblings: Siblings = own
        return siblings
    folder = label_of(archive, index).rpartition("/")[0]

    def open_named(name: str) -> Source:
        path = f"{folder}/{name}" if folder else name
        number = index_of(archive, path)
        if number is None:
            next = "Look for the missing entry: the archive may belong to another version of the game."
            if label_of(archive, index) == archive.entries[index].path and getattr(archive, "hashed", False):
                next = "This archive stores hashes: give it a name list, so that what belongs together is found."
            raise ZubretError(f"{path}, which belongs to this entry, is not in the archive.", file=path, next=next)
        return archive.open(number)

    return open_named


def label_of(archive: Container, index: int) -> str:
    """What people call an entry: its name from a name list where it has only an id, else its path."""
    path = archive.entries[index].path
    labels: Mapping[str, str] = getattr(archive, "labels", {})
    return labels.get(path, path)


def open_entry(archive: Container, index: int, cache: DiskCache | None = None, key: str = "") -> Source:
    """The unpacked bytes of an entry, under the name that people call it, for what looks beside it."""
    content = archive.open(index, cache, key)
    if content is not archive.source:  # a loose file keeps its own
        content.name = label_of(archive, index)
    return content


def index_of(archive: Container, path: str) -> int | None:
    """The number of the first entry with a path, or with a name from a name list."""
    labels: Mapping[str, str] = getattr(archive, "labels", {})
    return next((n for n, e in enumerate(archive.entries) if path in (e.path, labels.get(e.path))), None)


def cannot_add(file: str) -> ZubretError:
    """The error of containers to which nothing can be added."""
    return ZubretError(
        "Entries can't be added to this kind of archive.", file=file, next="Replace an entry, or use a patch archive."
    )


def refuse_known(archive: Container, added: Sequence[NewEntry]) -> None:
    """ZubretError where an entry to be added has the path of one that is there, or of another new one."""
    known = {e.path for e in archive.entries} if added else set()
    for entry in added:
        if entry.path in known:
            raise ZubretError(
                "An entry of this path is there already.", file=entry.path, next="Replace it instead of adding it."
            )
        known.add(entry.path)

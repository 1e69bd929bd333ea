"""What changed between two surveys, over plain records: entries by their paths, contents by digest or CRC-32."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from itertools import zip_longest
from typing import NamedTuple

from ..base.wording import spaced

ADDED, REMOVED, CHANGED, MOVED, RENAMED, UNSURE = "added", "removed", "changed", "moved", "renamed", "unsure"
"""Kinds of change; moved: the same content at another place; unsure: the same size, contents not yet known."""


class Known(NamedTuple):
    """What a survey knows of an entry: path, byte offset, unpacked bytes, CRC-32 and xxh3-64 of the content where they
    are known, and the companion that holds it."""

    path: str
    at: int
    size: int
    crc32: int | None
    digest: int | None
    file: str = ""


class Change(NamedTuple):
    """One entry, or one file where `path` is empty, that is not as it was. detail: for people; content: what its content
    is known by, of one that was added or removed."""

    kind: str
    file: str
    path: str
    old_size: int | None
    new_size: int | None
    detail: str = ""
    old_path: str = ""
    content: str = ""


class FileFacts(NamedTuple):
    """A file of a game: bytes, time of last change in ns, and whether its entries are compared one by one."""

    size: int
    mtime_ns: int
    has_entries: bool


def _content(entry: tuple) -> str:
    """What a content is known by; empty where it is not."""
    _, _, _, crc, digest, _ = entry
    return str(digest) if digest is not None else f"c{crc}" if crc is not None else ""


def _same(old: tuple, new: tuple) -> bool | None:
    """Whether two contents are the same; None where nobody knows yet."""
    if old[2] != new[2]:
        return False
    if old[4] is not None and new[4] is not None:
        return bool(old[4] == new[4])
    if old[3] is not None and new[3] is not None:
        return bool(old[3] == new[3])
    return None


def compare_entries(file: str, old: Iterable[tuple], new: Iterable[tuple]) -> Iterator[Change]:
    """Two archives entry by entry; each is a `Known`, or a plain tuple of its fields.

    Both are walked in step. What does not stand in step with its like waits until that comes, so that memory follows what
    differs; several entries of one path that are out of step are compared in their order.
    """
    earlier: dict[str, list[tuple]] = {}
    later: dict[str, list[tuple]] = {}
    for a, b in zip_longest(old, new):
        if a == b and not (a[3] is None and a[4] is None):
            continue
        found: list[Change | None] = []
        if a is not None and b is not None and a[0] == b[0]:
            found = [_pair(file, a, b)]
        else:
            if a is not None:
                if other := _met(later, a[0]):
                    found.append(_pair(file, a, other))
                else:
                    earlier.setdefault(a[0], []).append(a)
            if b is not None:
                if other := _met(earlier, b[0]):
                    found.append(_pair(file, other, b))
                else:
                    later.setdefault(b[0], []).append(b)
        yield from filter(None, found)
    for entries in earlier.values():
        yield from (Change(REMOVED, file, e[0], e[2], None, content=_content(e)) for e in entries)
    for entries in later.values():
        yield from (Change(ADDED, file, e[0], None, e[2], content=_content(e)) for e in entries)


def _met(waiting: dict[str, list[tuple]], path: str) -> tuple | None:
    """The first entry of a path that waits, which then waits no more."""
    entries = waiting.get(path)
    if not entries:
        return None
    entry = entries.pop(0)
    if not entries:
        del waiting[path]
    return entry


def _pair(file: str, old: tuple, new: tuple) -> Change | None:
    """What changed of an entry that both have; None where nothing did."""
    same = _same(old, new)
    if same is None:
        return Change(UNSURE, file, old[0], old[2], new[2])
    if not same:
        return Change(CHANGED, file, old[0], old[2], new[2])
    if (old[1], old[5]) != (new[1], new[5]):
        return Change(MOVED, file, old[0], old[2], new[2], f"byte {spaced(old[1])} to {spaced(new[1])}")
    return None


def with_renames(changes: Iterable[Change]) -> Iterator[Change]:
    """The same, but a removed and an added entry with the same content are one that was renamed."""
    gone: dict[tuple[int | None, str], list[Change]] = {}
    added: list[Change] = []
    for change in changes:
        if change.kind == REMOVED and change.content and change.old_size:
            gone.setdefault((change.old_size, change.content), []).append(change)
        elif change.kind == ADDED and change.content and change.new_size:
            added.append(change)
        else:
            yield change
    for change in added:
        before = gone.get((change.new_size, change.content))
        if not before:
            yield change
            continue
        was = before.pop()
        called = was.path if was.file == change.file else f"{was.file} › {was.path}"
        yield change._replace(kind=RENAMED, old_path=called, old_size=change.new_size)
    for rest in gone.values():
        yield from rest


def compare_files(old: Mapping[str, FileFacts], new: Mapping[str, FileFacts]) -> Iterator[Change]:
    """Files that hold no entries: added, removed, or of another size or time."""
    for path in sorted(old.keys() | new.keys()):
        a, b = old.get(path), new.get(path)
        if (a and a.has_entries) or (b and b.has_entries) or (a and b and a == b):
            continue
        sizes = (a.size if a else None), (b.size if b else None)
        if a is None or b is None:
            yield Change(ADDED if a is None else REMOVED, path, "", *sizes)
        elif a.size != b.size:
            yield Change(CHANGED, path, "", *sizes)
        else:
            yield Change(UNSURE, path, "", *sizes, "same size, another time")

"""A source made of parts of others: how every rebuilt bank and archive is described.

Nothing is copied when a bank is rebuilt inside an archive: the bank is a chain, the archive is
a chain with the bank's chain in it, and the bytes flow once, when the file is written.
"""

from __future__ import annotations

import errno
import os
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from io import FileIO
from pathlib import Path
from typing import NamedTuple

from ..base import Progress, ZubretError, silent
from .base import FileSource, SliceSource, Source
from .whole import sync_folder, whole

PIECE = 1 << 18
"""Bytes written at once: small enough to stay in the processor's cache between reading and writing."""
COPIED = 1 << 23
"""Bytes that the system is asked to copy at once: few enough that a cancel is seen soon."""
_NOT_HERE = (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP, errno.EPERM)
"""What the system answers where it can't copy between these two files by itself."""


class Part(NamedTuple):
    """`length` bytes of `source` from `at`."""

    source: Source
    at: int
    length: int


class Segment(NamedTuple):
    """A span of a file and what stands there.

    kind: header, table, payload, new, padding or unexplained; `item` is the entry's or stream's number
    for payloads, else -1.
    """

    kind: str
    at: int
    length: int
    label: str = ""
    item: int = -1


class ChainSource(Source):
    """Parts one after the other."""

    def __init__(self, parts: Sequence[Part], name: str):
        self.name = name
        self.parts = [p for p in parts if p.length]
        self.ends: list[int] = []
        end = 0
        for part in self.parts:
            end += part.length
            self.ends.append(end)
        self.size = end

    def _read(self, at: int, length: int) -> bytes:
        pieces = []
        n = bisect_right(self.ends, at)
        while length:
            part = self.parts[n]
            skip = at - (self.ends[n] - part.length)
            take = min(length, part.length - skip)
            pieces.append(part.source.read(part.at + skip, take))
            at, length, n = at + take, length - take, n + 1
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)


@dataclass
class Built:
    """A rebuilt file that has not been written yet.

    source:    its bytes
    segments:  what stands where, in order
    in_place:  every other item stays where it was
    moved:     how many untouched items stand elsewhere than before
    others:    files beside it that change with it, by name; those that do not change are not written
    unpacked:  of parts that are packed, the new and the old unpacked bytes, by the part's name; "*" is the whole file
    """

    source: Source
    segments: list[Segment]
    in_place: bool
    moved: int
    others: dict[str, Built] = field(default_factory=dict)
    unpacked: dict[str, tuple[Source, Source]] = field(default_factory=dict)

    def moved_files(self) -> set[str]:
        """The files in which something stands elsewhere than before; "" is this one."""
        return {name for name, built in {"": self, **self.others}.items() if not built.in_place}


def write_file(source: Source, path: Path, progress: Progress = silent) -> None:
    """Write all bytes to `path` so that it is there whole or not at all.

    The bytes go to another name beside it, are flushed to the disk (fsync) and renamed. What lies in a nameless file on the
    same disk already gets that name instead.
    """
    done = 0
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with whole(path) as part:
            there = source.named(part)
            with open(part, "ab" if there else "wb", buffering=0) as out:
                for length in _flow(source, 0, 0 if there else source.size, out):
                    done += length
                    progress(done, source.size, f"writing {path.name}")
                os.fsync(out.fileno())
        sync_folder(path.parent)
    except OSError as e:
        full = e.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
        raise ZubretError(
            "The disk is full." if full else f"The file can't be written: {e.strerror}.",
            file=path.name,
            offset=done,
            next=f"Free {source.size:,} bytes on this disk, then start again. Nothing was changed."
            if full
            else "Check that files may be written there, then start again. Nothing was changed.",
        ) from e


def _flow(source: Source, at: int, length: int, out: FileIO) -> Iterator[int]:
    """Append a span of a source to a file; gives the bytes of each step. What stands in files the system copies."""
    if isinstance(source, ChainSource):
        n, end = bisect_right(source.ends, at), at + length
        while at < end:
            part = source.parts[n]
            skip = at - (source.ends[n] - part.length)
            take = min(end - at, part.length - skip)
            yield from _flow(part.source, part.at + skip, take, out)
            at, n = at + take, n + 1
        return
    if isinstance(source, SliceSource):
        yield from _flow(source.source, source.at + at, length, out)
        return
    if isinstance(source, FileSource) and length > PIECE and hasattr(os, "copy_file_range"):
        while length:
            try:
                copied = os.copy_file_range(source.fileno(), out.fileno(), min(length, COPIED), at)
            except OSError as e:
                if e.errno not in _NOT_HERE:
                    raise
                break
            if not copied:
                break  # shorter than it was: reading it says so
            at, length = at + copied, length - copied
            yield copied
    for piece in source.chunks(at, length, PIECE):
        view = memoryview(piece)
        while view:
            view = view[out.write(view) :]
        yield len(piece)


def condensed(segments: Sequence[Segment], cells: int) -> list[Segment]:
    """Segments for a drawing of `cells` cells: what is narrower than one is joined to its neighbour.

    A joined segment takes the kind that matters most to the eye: unexplained, new, then the
    kind of its longest one.
    """
    total = sum(s.length for s in segments)
    least = total / cells if len(segments) > cells else 0
    out: list[Segment] = []
    group: list[Segment] = []
    length = 0
    for segment in segments:
        group.append(segment)
        length += segment.length
        if length >= least:
            out.append(_joined(group, length))
            group, length = [], 0
    return out + ([_joined(group, length)] if group else [])


def _joined(group: list[Segment], length: int) -> Segment:
    kinds = {s.kind for s in group}
    most = max(group, key=lambda s: s.length).kind
    kind = next((k for k in ("unexplained", "new") if k in kinds), most)
    return Segment(kind, group[0].at, length)

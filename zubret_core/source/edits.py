"""A rebuilt file as an edit list: which of its bytes stood where before, and which are new and why.

The list is taken from the chain of sources that will be written, so it says what is done and not what a layout means. A
proof compares both files through it: every byte of the new file is in one edit.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from .base import BytesSource, FileSource, FillSource, SliceSource, Source
from .chain import ChainSource

KEPT, NEW, FIELD, SUM, FILL = "kept", "new", "field", "sum", "fill"
"""Classes of bytes: as before (here or elsewhere), a new payload, a field or a sum that had to change, fill."""


class Written(BytesSource):
    """Bytes made from numbers and names, such as headers and directories; `name` says which."""


class Mark(NamedTuple):
    """`length` bytes at `at` of a region's new bytes: those at `old` of its old ones, or (-1) a field with new ones."""

    at: int
    length: int
    old: int
    label: str = ""
    sum: bool = False


class Rewritten(Source):
    """Bytes made from old ones: marks, from first to last, say which are which."""

    def __init__(self, data: Source, old: Source, marks: Sequence[Mark], name: str):
        self.name, self.size, self.data, self.old = name, data.size, data, old
        self.marks = [m for m in marks if m.length]
        self.starts = [m.at for m in self.marks]

    def _read(self, at: int, length: int) -> bytes:
        return self.data.read(at, length)


class Edit(NamedTuple):
    """`length` bytes at `at` of a new file.

    kind: one of the classes above; old: where they stood, of what is kept; source, place: where the new bytes are, of
    all else; label: what it is.
    """

    kind: str
    at: int
    length: int
    old: int = -1
    source: Source | None = None
    place: int = 0
    label: str = ""


def edits_of(new: Source, base: Source) -> list[Edit]:
    """A new file against the old one, `base`, as few edits as there can be; they cover it from first to last byte."""
    out: list[Edit] = []
    at = 0
    for kind, source, place, length, label in _leaves(new, 0, new.size, base):
        old = place if kind == KEPT else -1
        last = out[-1] if out else None
        joins = last is not None and last.kind == kind == KEPT and last.old + last.length == old
        if joins and last is not None:
            out[-1] = last._replace(length=last.length + length)
        else:
            out.append(Edit(kind, at, length, old, None if kind == KEPT else source, place, label))
        at += length
    return out


_Leaf = tuple[str, Source, int, int, str]


def _leaves(source: Source, at: int, length: int, base: Source, label: str = "") -> Iterator[_Leaf]:
    """(class, source, place in it, bytes, label) of a span, down to the old file or to new bytes."""
    if not length:
        return
    if source is base or (isinstance(source, FileSource) and isinstance(base, FileSource) and source.same_file(base)):
        yield KEPT, source, at, length, ""
    elif isinstance(source, SliceSource):
        start, inner, end = at + source.at, source.source, at + source.at + length
        if isinstance(base, SliceSource) and inner is base.source and base.at <= start and end <= base.at + base.size:
            yield KEPT, base, start - base.at, length, ""
        else:
            yield from _leaves(inner, start, length, base, label or source.name)
    elif isinstance(source, ChainSource):
        for part, skip, take in _within(source.parts, source.ends, at, length):
            yield from _leaves(part.source, part.at + skip, take, base, label)
    elif isinstance(source, Rewritten):
        yield from _marked(source, at, length, base)
    elif isinstance(source, Written):
        yield FIELD, source, at, length, source.name
    else:
        yield (FILL if isinstance(source, FillSource) else NEW), source, at, length, label or source.name


def _within(parts, ends: Sequence[int], at: int, length: int):
    """The parts that a span touches: (part, bytes of it before the span, bytes of it in the span)."""
    n, end = bisect_right(ends, at), at + length
    while at < end:
        part = parts[n]
        skip = at - (ends[n] - part.length)
        take = min(end - at, part.length - skip)
        yield part, skip, take
        at, n = at + take, n + 1


def _marked(source: Rewritten, at: int, length: int, base: Source) -> Iterator[_Leaf]:
    end = at + length
    n = max(0, bisect_right(source.starts, at) - 1)
    for mark in source.marks[n:]:
        if mark.at >= end:
            break
        start, stop = max(at, mark.at), min(end, mark.at + mark.length)
        if stop <= start:
            continue
        if mark.old >= 0:
            yield from _leaves(source.old, mark.old + start - mark.at, stop - start, base)
        else:
            yield (SUM if mark.sum else FIELD), source.data, start, stop - start, mark.label

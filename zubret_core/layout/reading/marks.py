"""Whether a file is one that a layout describes, before it is read: by its name, its size, what it stands in, and its marks."""

from __future__ import annotations

from fnmatch import fnmatchcase
from typing import NamedTuple

from ...base import ZubretError
from ...source import Source
from ..document.records import DAMAGED
from ..language.schema import Layout, Mark, NumberAt


def fits_by_name(layout: Layout, source: Source) -> bool:
    """Whether a file may be one by its name, its path, its size, and what it stands in."""
    inner = source.name.rsplit(" › ", 1)[-1].lower()
    if layout.names and not inner.endswith(tuple(n.lower() for n in layout.names)):
        return False
    if layout.paths and not any(fnmatchcase(inner, pattern.lower()) for pattern in layout.paths):
        return False
    if layout.inside and source.holder not in layout.inside:
        return False
    return layout.sizes is None or layout.sizes.fit(source.size)


def recognises(layout: Layout, source: Source) -> bool:
    """True where name, size and holder fit, and all marks of the layout stand in the file."""
    return fits_by_name(layout, source) and has_marks(layout, source) is None


def has_marks(layout: Layout, source: Source) -> ZubretError | None:
    """None where all marks of the layout stand in the file, else what is missing."""
    for mark in layout.recognise:
        if not _stands(mark, source):
            at = _place_of(mark.any[0] if mark.any else mark, source)
            what = f'The mark of "{layout.id}" is not here.'
            return ZubretError(what, file=source.name, offset=max(0, at), next=DAMAGED)
    return None


class Missed(NamedTuple):
    """A mark that does not stand where it should: its place and bytes, what was wanted and what is there, in hexadecimal."""

    at: int
    bytes: int
    wanted: str
    found: str


def marks_of(layout: Layout, source: Source) -> tuple[int, list[Missed]]:
    """How many bytes of a layout's marks stand in a file, and the marks that don't."""
    right, wrong = 0, []
    for mark in layout.recognise:
        if _stands(mark, source):
            right += mark.weight
            continue
        one = mark.any[0] if mark.any else mark
        at, wanted = _place_of(one, source), one.bytes or b""
        there = source.read(at, max(0, min(len(wanted), source.size - at))) if 0 <= at < source.size else b""
        wrong.append(Missed(max(0, at), len(wanted), wanted.hex(" "), there.hex(" ")))
    return right, wrong


def _stands(mark: Mark, source: Source) -> bool:
    if mark.any:
        return any(_stands(m, source) for m in mark.any)
    at, wanted = _place_of(mark, source), mark.bytes or b""
    return 0 <= at <= source.size - len(wanted) and source.read(at, len(wanted)) == wanted


def _place_of(mark: Mark, source: Source) -> int:
    """Where a mark stands; -1 where that is nowhere in the file."""
    at = mark.at or 0
    if isinstance(at, NumberAt):
        place, width = at.at if at.at >= 0 else source.size + at.at, int(at.type[1:]) // 8
        if not 0 <= place <= source.size - width:
            return -1
        at = int.from_bytes(source.read(place, width), at.byte_order) * at.unit + at.base
        return at if at >= 0 else -1
    return at if at >= 0 else max(-1, source.size + at)

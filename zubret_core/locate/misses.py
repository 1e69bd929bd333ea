"""Trying every known layout on a file: which fit, and of the others what stands against each, and by how much."""

from __future__ import annotations

from dataclasses import dataclass

from ..base import ZubretError
from ..container import Siblings
from ..layout import Layout, read_layout
from ..layout.document.chains import Locked
from ..layout.reading.marks import fits_by_name, marks_of
from ..layout.reading.read import how_far
from ..layout.trial import explained
from ..source import Source
from .known import Known


@dataclass(frozen=True)
class Tried:
    """What a layout says to a file. fits: it is recognised and read; reads: all regions could be read, whether it is recognised or
    not; marks: (bytes of its marks that stand there, bytes of all its marks); regions: (how many were read, how many it has); share: of the
    bytes that it explains, 0 to 1; against: what stands against it, in words, empty where nothing does; offset: where, -1 for nowhere."""

    layout: Layout
    fits: bool
    reads: bool
    marks: tuple[int, int]
    regions: tuple[int, int]
    share: float
    against: str
    offset: int = -1

    @property
    def near(self) -> float:
        """How near it came, 0 to 1."""
        marks = self.marks[0] / self.marks[1] if self.marks[1] else 0.5
        return 1.0 if self.fits else 0.5 * self.regions[0] / max(1, self.regions[1]) + 0.3 * marks + 0.2 * self.share


def tried(source: Source, known: Known, siblings: Siblings | None, path: str) -> list[Tried]:
    """All layouts of archives, banks, streams, lists and tables, the nearest first."""
    out = [_tried(layout, source, known, siblings, path) for layout in known.layouts]
    return sorted(out, key=lambda t: (-t.near, t.layout.id))


def _tried(layout: Layout, source: Source, known: Known, siblings: Siblings | None, path: str) -> Tried:
    right, wrong = marks_of(layout, source)
    marks = right, right + sum(m.bytes for m in wrong)
    bare = layout.model_copy(update={"recognise": []})
    keys = known.keys(layout, path)
    read, error = how_far(bare, source, siblings, keys)
    regions = read, len(layout.regions)
    share = 0.0
    if error is None:
        try:
            share = explained(read_layout(bare, source, siblings, keys))
        except ZubretError as e:
            error = e
    reads = error is None
    named = fits_by_name(layout, source)
    against, offset = [], -1
    if not named:
        against.append("its name, size or place is not one that the layout gives")
    for mark in wrong[:1]:
        offset = mark.at
        against.append(f"{mark.bytes:,} bytes at {mark.at:,} are {mark.found or 'not there'} and not {mark.wanted}")
    if error is not None:
        where = f" ({error.field})" if error.field else ""
        against.append("it needs a key" if isinstance(error, Locked) else f"{error.what.rstrip('.')}{where}")
        offset = offset if offset >= 0 or error.offset is None else error.offset
    fits = named and not wrong and reads
    return Tried(layout, fits, reads, marks, regions, share, "; ".join(against), offset)

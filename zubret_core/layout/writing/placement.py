"""Where things go in a file: as they stand where all fits, otherwise one behind the other."""

from __future__ import annotations

from ...base import ZubretError
from ...source import FillSource, Source
from ..checks.extents import extents_of
from ..document import Document
from ..document.extent import Extent, Grid
from ..language.schema import End


class LaidFile:
    """One of the files that are written anew: its extents, and where they go.

    new_size: of the whole file; in_place: every extent stays where it was. `fresh` is a file that is not there yet.
    """

    def __init__(self, document: Document, name: str, *, fresh: bool = False):
        self.name, self.end = name, document.layout.end
        self.given_sizes = document.layout.sizes_given
        self.extents: list[Extent] = [Extent(0, 0)] if fresh else extents_of(document, name)
        self.old_size = 0 if fresh else document.file_named(name).size
        self.new_size, self.in_place = self.old_size, True
        for extent in self.extents:
            extent.new_length = extent.length
            extent.new_before, extent.new_behind = extent.before, extent.behind
        bodies = [i.region for i in document.instances if i.body is not None and i.file == name]
        self._to_the_end = any(r.until == "end" and r.size is None for r in bodies)
        self._end = _end_rule(self.end, self.extents, self.old_size) if self.extents else (Grid(self.end.align), 0, 0)

    def lay(self, anew: bool) -> None:
        """Give every extent its new place. What was laid anew once is not put back: else lengths and places that depend
        on each other might never settle."""
        self.in_place = self.in_place and not anew and self._stays()
        if self.in_place:
            for extent in self.extents:
                extent.new_at = extent.at
            self.new_size = self.old_size
            return
        cursor = 0
        for extent in self.extents:
            extent.new_at = extent.grid.above(cursor + extent.new_before) + extent.steps * extent.grid.step
            cursor = max(extent.new_end + extent.carried, extent.new_at + extent.reserved)
        self.new_size = self._ends(cursor)

    def _ends(self, cursor: int) -> int:
        """The file's bytes where its last extent, and what is carried behind it, ends at `cursor`."""
        grid, least, steps = self._end
        return grid.above(cursor + least) + steps * grid.step

    def _stays(self) -> bool:
        """Whether everything fits where it stands."""
        for n, e in enumerate(self.extents):
            longer = e.new_length + e.new_before + e.new_behind - (e.length + e.before + e.behind)
            if e.at < 0 or e.new_before != e.before or longer > e.room:
                return False
            if longer and e.instance is not None:
                return False  # a table leaves no free space of its own behind
            if longer and not self.given_sizes:
                return False
            behind = self.extents[n + 1] if n + 1 < len(self.extents) else None
            if behind is not None and behind.follows and longer:
                end = e.at + e.new_length + e.new_behind
                if behind.grid.above(end + behind.before) != behind.at:
                    return False
            if behind is None and self._to_the_end and longer:
                return self._ends(e.at + e.new_length + e.new_behind + e.carried) == self.old_size
        return True

    def gap_behind(self, extent: Extent, stop: int, source: Source, fill: bytes) -> list[tuple[Source, int, int]]:
        """What stands between an extent and the next one, at `stop`: (source, place in it, bytes) piece by piece.

        What the gap held goes along; the rest is filled. Where nothing moved, its bytes stay as they are.
        """
        at, gap_at = extent.new_end, extent.end
        room = stop - at
        if self.in_place:
            filled = min(room, max(0, gap_at - at))
            kept_from = gap_at if filled else at
            return [(FillSource(fill[0], filled), 0, filled), (source, kept_from, stop - at - filled)]
        if extent.at >= 0 and room == extent.gap:
            return [(source, gap_at, extent.gap)]
        carried = extent.carried if extent.at >= 0 else 0
        return [(source, gap_at, carried), (FillSource(fill[0], room - carried), 0, room - carried)]


def _end_rule(end: End, extents: list[Extent], size: int) -> tuple[Grid, int, int]:
    """Where a file ends behind its last extent: grid, least bytes of fill, steps behind the nearest place."""
    last = extents[-1]
    behind = last.end + last.carried
    grid = Grid(end.align)
    nearest = grid.above(behind + end.least)
    if grid.holds(size) and size >= nearest:
        return grid, end.least, (size - nearest) // grid.step
    return Grid(), 0, size - behind


def moved_wrongly(document: Document, region: str, at: int, offset: int) -> ZubretError:
    """The error of a region that has to move, though nothing in the file would say where it is then."""
    return ZubretError(
        f"Region {region} would have to move to byte {at:,}, but no field of the layout says where it stands.",
        file=document.file.name,
        offset=offset,
        field=region,
        next=f"Shorten the replacement so that it fits its slot, or tie a field to {region}.at.",
    )

"""Which stored sizes can be told: not each one where a size stands in steps, or is where the next payload begins.

What has another size is filled up to the next one that can be told, by the byte that fills the space between payloads. So what is
read back is what has been written, and a little more behind it; what is packed says itself where it ends.
"""

from __future__ import annotations

from collections.abc import Callable

from ...source import ChainSource, FillSource, Part, SliceSource, Source, same_bytes
from ..document import Document, Group, Instance, Slot
from ..document.extent import Grid
from ..document.ties import line_of
from ..language.schema import Guard
from ..types.numbers import Result
from .extents import Stands, region_grid

ANY = Grid()


def is_given(given: Source, found: Source, is_filled: Callable[[int], bool]) -> bool:
    """Whether what is found is what was given, maybe with what fills it up behind it. is_filled: whether from a number of bytes on only
    that stands there."""
    if found.size <= given.size:
        return same_bytes(given, found)
    return is_filled(given.size) and same_bytes(given, SliceSource(found, 0, given.size))


class ToldSizes:
    """The stored sizes that the items of a document may have."""

    def __init__(self, document: Document):
        self.document = document
        self._stands = Stands(document)
        following = not document.in_pieces and not document.layout.sizes_given
        self._next = self._up_to_the_next() if following else {}

    def grid(self, item: int) -> Grid:
        """The sizes that an item's payload may have; an added one is as the last one is."""
        document = self.document
        item = min(item, document.total - 1)
        if document.in_pieces or item < 0:
            return ANY
        if not document.layout.sizes_given:
            return self._next.get(item, ANY)
        group = document.group_of(item)
        for what in ("stored", "end"):
            for instance, slot in document.slots(f"{document.kind}.{what}", group):
                grid = self._steps(instance, slot, int(instance.rows[item - group.first]))
                if what == "end" and grid != ANY:  # its place has to be on the same steps
                    place = self._stands.grid(item)
                    grid = Grid(grid.step, (grid.rest - place.rest) % grid.step) if place.step % grid.step == 0 else ANY
                return grid
        return self._of_body(group, item)

    def size(self, item: int, size: int) -> int:
        """The size that is told of a payload of `size` bytes; those of it that stand in its record are not counted there."""
        head = self._head(item)
        return self.grid(item).above(size - head) + head if size > head else size

    def _head(self, item: int) -> int:
        heads = self.document.column("head")
        return len(heads[min(item, len(heads) - 1)] or b"") if heads else 0

    def filled(self, item: int, payload: Source) -> Source:
        """A payload with what fills it up."""
        missing = self.size(item, payload.size) - payload.size
        if missing <= 0:
            return payload
        fill = FillSource(self._fill(item)[0], missing)
        return ChainSource([Part(payload, 0, payload.size), Part(fill, 0, missing)], payload.name)

    def without(self, item: int, stored: Source, size: int) -> Source:
        """The first `size` bytes of what is stored, where the rest is what fills them up; else all of it."""
        return SliceSource(stored, 0, size, stored.name) if size < stored.size == self.size(item, size) else stored

    def is_filled(self, item: int, size: int) -> bool:
        """Whether behind the first `size` bytes of a payload stands nothing but what fills them up."""
        stored = self.document.payload(item)
        missing = stored.size - size
        return 0 < missing == self.size(item, size) - size and stored.read(size, missing) == self._fill(item) * missing

    def _fill(self, item: int) -> bytes:
        return self.document.group_of(min(item, self.document.total - 1)).stand.fill

    def _steps(self, instance: Instance, slot: Slot, row: int) -> Grid:
        """The numbers that a field can hold, where they are some steps apart."""
        if slot.tie.values or slot.tie.unit_name or not slot.whole or isinstance(slot.type, Result):
            return ANY
        num, den, base = (int(x) for x in line_of(slot, self.document.scope(instance)).at(row))
        return Grid(abs(num), base % abs(num)) if den == 1 else ANY

    def _of_body(self, group: Group, item: int) -> Grid:
        for instance in group.instances:
            if instance.region.body is not None:
                slot = instance.shape.slots[instance.region.body.size]
                return self._steps(instance, slot, int(instance.rows[item - group.first]))
        return ANY

    def _up_to_the_next(self) -> dict[int, Grid]:
        """Of payloads that reach to what stands behind them: from where they may begin to where that may."""
        document, out = self.document, dict[int, Grid]()
        spots: dict[tuple[str, int], list[int]] = {}
        for n, spot in enumerate(zip(document.payload_files(), document.array("at").tolist(), strict=True)):
            spots.setdefault(spot, []).append(n)
        order = sorted(spots)
        for here, there in zip(order, [*order[1:], ("", -1)], strict=True):
            last = there[1] < 0 or here[0] != there[0]
            behind = self._behind_all(*here) if last else self._stands.grid(spots[there][0])
            for item in spots[here]:
                own, stand = self._stands.grid(item), document.group_of(item).stand
                if document.layout.describes == "stream":  # it stays where it is, behind what is in front
                    own = Grid(behind.step, here[1] % behind.step)
                if own.step % behind.step == 0 and stand.before == stand.behind == Guard():
                    out[item] = Grid(behind.step, (behind.rest - own.rest) % behind.step)
        return out

    def _behind_all(self, file: str, at: int) -> Grid:
        """Where the last payload of a file may end: where a sentinel can say it, a region may stand, or the file end."""
        document = self.document
        for instance, slot in document.slots(f"{document.kind}.at"):
            if instance.region.sentinel and instance.records.count:
                return self._steps(instance, slot, instance.records.count - 1)
        regions = [i for i in document.instances if i.file == file and i.at >= at and i.records.count]
        if regions:
            return region_grid(document, min(regions, key=lambda i: i.at))
        end = document.layout.end
        return ANY if end.least or document.file_named(file).size % end.align else Grid(end.align)

"""What stands where in a file: regions, payloads, the gaps between them; and the faults of their places."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ...base import Format, ZubretError, collector_paused
from ...codec import codec_named
from ...source import Segment, Source
from ..document import Document, Group, Instance, Slot
from ..document.extent import Extent, Grid
from ..document.pieces import check_lengths
from ..document.records import DAMAGED
from ..document.ties import line_of
from ..language.codecs import spec_of
from ..language.expression import evaluate
from ..language.schema import Guard

# Faults ---------------------------------------------------------------------------------------------


def check_extents(document: Document) -> None:
    """Regions stand apart; payloads lie inside their files, aligned, outside the regions, and never overlap in part."""
    regions = [i for i in document.instances if i.stored and not document.layout.frames(i.region)]
    regions.sort(key=lambda i: (i.file, i.at))
    for other, instance in pairwise(regions):
        if instance.file == other.file and instance.at < other.at + other.stored:
            what = f"Region {instance.name} at byte {instance.at:,} covers region {other.name} at byte {other.at:,}."
            raise document.error(what, instance)
    if not document.count or not document.layout.has_payloads:
        return
    check_lengths(document)
    at, stored, named = document.spans()
    if document.layout.payload.file is None:
        _check_file(document, "", np.arange(len(at)), at, stored)
        return
    files = np.array(named)
    for name in dict.fromkeys(named):
        here = np.flatnonzero(files == name)
        _check_file(document, name, here, at[here], stored[here])


def _fault(document: Document, item: int, what: str) -> ZubretError:
    group = document.group_of(item)
    slots = document.slots(_place_of(document, group), group)
    if not slots and not group.instances:
        return ZubretError(what, file=document.file.name, next=DAMAGED)
    instance, slot = slots[0] if slots else (group.instances[0], None)
    return document.error(what, instance, slot, document.row_of(item, instance))


def _place_of(document: Document, group: Group) -> str:
    """The meaning that says where the payloads of a group stand."""
    return f"{document.kind if group.owners is None else 'piece'}.at"


def _check_file(document: Document, name: str, items: NDArray, at: NDArray, stored: NDArray) -> None:
    size, shown = document.file_named(name).size, f" {name}" if name else ""
    if len(at) and (at.min() < 0 or stored.min() < 0 or at.max() > size or (stored - size + at).max() > 0):
        n = int(np.argmax((at < 0) | (stored < 0) | (at > size) | (stored > size - at)))
        what = f"The payload at byte {at[n]:,} with {stored[n]:,} bytes leaves the file{shown} of {size:,} bytes."
        raise _fault(document, int(items[n]), what)
    if not stored.all():  # an empty payload stands nowhere
        has = stored > 0
        items, at, stored = items[has], at[has], stored[has]
    for group in document.groups:
        _check_alignment(document, group, items, at)
    _check_overlaps(document, name, items, at, stored)


def _check_alignment(document: Document, group: Group, items: NDArray, at: NDArray) -> None:
    align = _alignment(document, group)
    if isinstance(align, int):
        off = np.flatnonzero(at % align) if _are_off(at, align) else np.zeros(0, np.int64)
        off = off[(items[off] >= group.first) & (items[off] < group.first + group.count)]
    else:
        here = np.flatnonzero((items >= group.first) & (items < group.first + group.count))
        off = here[at[here] % align[items[here] - group.first] != 0]
    if len(off):
        n = int(off[0])
        step = align if isinstance(align, int) else int(align[items[n] - group.first])
        raise _fault(document, int(items[n]), f"The payload at byte {at[n]:,} is not aligned to {step:,} bytes.")


def _are_off(at: NDArray, align: int) -> bool:
    """Whether any place is no multiple of a number."""
    if align & (align - 1) == 0:
        return bool(np.bitwise_or.reduce(at) & (align - 1))
    return bool((at % align).any())


def _check_overlaps(document: Document, name: str, items: NDArray, at: NDArray, stored: NDArray) -> None:
    ends = at + stored
    cut = at[1:] < ends[:-1]
    if cut.any():  # they are not in order, or one begins in another
        order = np.lexsort((stored, at))
        items, at, stored, ends = items[order], at[order], stored[order], ends[order]
        # What is the same is shared.
        cut = (at[1:] < ends[:-1]) & ((at[1:] != at[:-1]) | (stored[1:] != stored[:-1]))
    if cut.any():
        n = int(np.argmax(cut))
        what = (
            f"The payload at byte {at[n + 1]:,} begins inside the payload at byte {at[n]:,} with {stored[n]:,} bytes."
        )
        raise _fault(document, int(items[n + 1]), what)
    for instance in document.instances:
        if instance.file != name or instance.body is not None or not instance.stored:
            continue
        n = int(np.searchsorted(ends, instance.at, "right"))
        if n < len(at) and at[n] < instance.at + instance.stored:
            what = f"The payload at byte {at[n]:,} covers region {instance.name} at byte {instance.at:,}."
            raise _fault(document, int(items[n]), what)


# How payloads stand ---------------------------------------------------------------------------------


def _rows(document: Document, group: Group, text: int | str, name: str) -> int | NDArray:
    """An expression on a group's records: one number, or one for each of its items."""
    if isinstance(text, int) or not group.instances:
        return evaluate(text, document.numbers, document.file.name, name)
    value = document.scope(group.instances[0]).value(text, name)
    return value if isinstance(value, int) else value[group.instances[0].rows]


def _alignment(document: Document, group: Group) -> int | NDArray:
    align = _rows(document, group, group.stand.align, "align")
    return align if isinstance(align, int) else np.maximum(align, 1)


class Stands:
    """The grids and guard spaces of the payloads of a document, item by item."""

    def __init__(self, document: Document):
        self.document = document
        self._align = [_alignment(document, g) for g in document.groups]
        self._slots = [
            [(i, s) for i, s in document.slots(_place_of(document, g), g) if not s.tie.plain and not s.tie.values]
            for g in document.groups
        ]
        self._fixed: dict[int, Grid] = {}
        self._firsts = [g.first for g in document.groups]

    def grid(self, item: int) -> Grid:
        """Where an item's payload may stand."""
        number = bisect_right(self._firsts, item) - 1
        if number in self._fixed:
            return self._fixed[number]
        group, slots, align = self.document.groups[number], self._slots[number], self._align[number]
        if any(i.body is not None for i in group.instances):
            return self._fixed.setdefault(number, Grid())
        row = item - group.first
        step = align if isinstance(align, int) else int(align[row])
        grid = Grid(max(1, step))
        moving = not isinstance(align, int)
        for instance, slot in slots:
            line = line_of(slot, self.document.scope(instance))
            moving = moving or not (isinstance(line.num, int) and isinstance(line.base, int))
            num, _, base = line.at(int(instance.rows[row]))
            if abs(int(num)) > 1:
                own = Grid(abs(int(num)), int(base) % abs(int(num)))
                grid = grid.joined(own) or own
        if not moving:
            self._fixed[number] = grid
        return grid

    def guard(self, item: int, guard: Guard, format: Format | None = None) -> int:
        """Bytes of guard space at one side of an item's payload; `format` of a replacement that has another one."""
        document, group = self.document, self.document.group_of(item)
        row = item - group.first
        size, frames = (_at(_rows(document, group, x, "guard"), row) for x in (guard.bytes, guard.frames))
        return size + (frames * self._frame_bytes(item, format) if frames else 0)

    def _frame_bytes(self, item: int, format: Format | None) -> int:
        document = self.document
        if format is None:
            name, rate, channels, block = (
                document.format_column(w)[document.owner(item)] for w in ("codec", "rate", "channels", "block_size")
            )
            codec, parameters = spec_of(document.layout.codecs, str(name))
            format = Format(codec, rate, channels, 1, None, block, parameters=parameters)
        made = codec_named(format.codec, format.parameters)
        size = made.stored_size(format.with_(frames=1)) if made.block_frames(format) == 1 else None
        if size is None:
            raise ZubretError(
                f"Guard space of {format.codec} can't be counted in frames.",
                file=document.file.name, field="payload", next="Give it in bytes in the layout.",
            )  # fmt: skip
        return size


def _at(value: int | NDArray, row: int) -> int:
    return value if isinstance(value, int) else int(value[row])


# Extents --------------------------------------------------------------------------------------------


@collector_paused()
def extents_of(document: Document, name: str = "") -> list[Extent]:
    """Regions and payloads of a file in their order, each with the gap after it; shared payloads once.

    Where the file does not begin with one of them, an extent of no bytes stands first.
    """
    source = document.file_named(name)
    regions = list(_regions(document, name))
    extents = [*regions, *_payloads(document, name, regions)]
    extents.sort(key=lambda e: (e.start, e.end, e.instance is None))
    if not extents or extents[0].start > 0:
        extents.insert(0, Extent(0, 0))
    for n, extent in enumerate(extents):
        behind = extents[n + 1] if n + 1 < len(extents) else None
        extent.follows = extent.follows and n > 0 and _directly(extents[n - 1], extent)
        _measure_gap(document, source, extent, behind)
    return extents


def _directly(before: Extent, extent: Extent) -> bool:
    """Whether an extent stands where reading looks for it: at the next place on its grid."""
    return extent.start == extent.grid.above(before.end)


def _regions(document: Document, name: str) -> Iterator[Extent]:
    fill = document.layout.payload.fill
    for instance in document.instances:
        if instance.file != name:
            continue
        if instance.body is None:
            grid = region_grid(document, instance)
            follows = instance.region.after is not None or _turns(document, instance)
            yield Extent(instance.at, instance.stored, instance, grid=grid, fill=fill, follows=follows)
            continue
        body, trails = instance.frame, document.layout.trails(instance.region)
        holders, inside, lengths = instance.holders, instance.inside.tolist(), instance.records.lengths().tolist()
        for n, at in enumerate(instance.records.places.tolist()):
            length = lengths[n] + (body.skip if n in holders else 0)
            first = n == 0 or inside[n] == n - 1
            grid = Grid(1 if first else body.align)
            yield Extent(at, length, instance, n, grid=grid, fill=body.fill, follows=n > 0 or trails)


def region_grid(document: Document, instance: Instance) -> Grid:
    """Where a region may stand: on its alignment, and where the field that says its place can store it."""
    grid = Grid(instance.region.align)
    for other, slot, row in telling(document, instance):
        num, _, base = line_of(slot, document.scope(other)).at(row)
        if abs(int(num)) > 1:
            own = Grid(abs(int(num)), int(base) % abs(int(num)))
            grid = grid.joined(own) or own
    return grid


def telling(document: Document, instance: Instance) -> Iterator[tuple[Instance, Slot, int]]:
    """The fields that say where a region stands, each with its record."""
    name = instance.region.name
    if instance.region.linked and instance.piece > 0:
        before = document.named(f"{name} {instance.piece - 1}")
        yield before, before.shape.means[f"{name}.next"][0], 0
    elif instance.holder is not None:
        holder, row = instance.holder
        yield from ((holder, slot, row) for slot in holder.shape.means.get(f"{name}.at", ()))
    elif instance.piece <= 0:
        for other in document.instances:
            if other.region.once:
                yield from ((other, slot, 0) for slot in other.shape.means.get(f"{name}.at", ()))


def _turns(document: Document, instance: Instance) -> bool:
    """Whether a region's records stand in turns with regions of their own, so that each follows the one before."""
    return instance.piece > 0 and document.layout.inner(instance.region) is not None


def _payloads(document: Document, name: str, regions: list[Extent]) -> list[Extent]:
    if not document.layout.has_payloads:
        return []
    at, stored, files = document.spans()
    places, lengths = at.tolist(), stored.tolist()
    stands = Stands(document)
    found: dict[tuple[int, int], Extent] = {}
    for group in document.groups:
        stand, follows = group.stand, group.body is not None
        guarded = stand.before != Guard() or stand.behind != Guard()
        for n in range(group.first, group.first + group.count):
            span = places[n], lengths[n]
            if not span[1] or files[n] != name:  # an empty payload stands nowhere
                continue
            extent = found.get(span)
            if extent is None:
                extent = Extent(*span, items=[n], grid=stands.grid(n), fill=stand.fill, follows=follows)
                extent.owner = document.owner(n) if group.owners is not None else -1
                found[span] = extent
            else:
                extent.items.append(n)
            if guarded:
                extent.before = max(extent.before, stands.guard(n, stand.before))
                extent.behind = max(extent.behind, stands.guard(n, stand.behind))
    out = list(found.values())
    _fit_guards(out, document.file_named(name).size, regions)
    return out


def _fit_guards(payloads: list[Extent], size: int, regions: list[Extent]) -> None:
    """Guard space is as long as the format wants it, but no longer than the file has it."""
    if not any(e.before or e.behind for e in payloads):
        return
    payloads.sort(key=lambda e: e.at)
    taken = sorted([(e.start, e.end) for e in regions if e.length])
    ends, starts = np.array([b for _, b in taken]), np.array([a for a, _ in taken])
    cursor = 0
    for n, e in enumerate(payloads):
        region_end = int(ends[ends <= e.at].max()) if (ends <= e.at).any() else 0
        e.before = max(0, min(e.before, e.at - max(cursor, region_end)))
        later = starts[starts >= e.at + e.length]
        stop = min(payloads[n + 1].at if n + 1 < len(payloads) else size, int(later.min()) if len(later) else size)
        e.behind = max(0, min(e.behind, stop - e.at - e.length))
        cursor = e.end


def _measure_gap(document: Document, source: Source, extent: Extent, behind: Extent | None) -> None:
    """What the gap behind an extent holds, and by how many steps the next one stands behind the nearest place."""
    end, layout = extent.end, document.layout
    gap_end = behind.start if behind else source.size
    fill = behind.fill if behind else layout.end.fill
    extent.gap = max(0, gap_end - end)
    if extent.gap:
        lead, last = _filled(source, end, extent.gap, fill)
        extent.room = lead if layout.sizes_given else 0
        extent.carried = last
    if behind is None:
        return
    if behind.follows and _directly(extent, behind):
        extent.carried = 0
        return
    behind.follows = False
    settle(extent, behind)


def settle(extent: Extent, behind: Extent) -> None:
    """Where an extent stood behind the one before, in steps of its grid; off its grid, in bytes."""
    if not behind.grid.holds(behind.at):
        behind.grid = Grid()
    nearest = behind.grid.above(extent.end + extent.carried + behind.before)
    behind.steps = max(0, (behind.at - nearest) // behind.grid.step)


def _filled(source: Source, at: int, length: int, fill: bytes) -> tuple[int, int]:
    """How many bytes of a span are fill at its beginning, and up to where it holds anything else."""
    lead, last, done = -1, 0, 0
    for piece in source.chunks(at, length):
        if piece != fill * len(piece):
            core = piece.rstrip(fill)
            if lead < 0:
                lead = done + len(core) - len(core.lstrip(fill))
            last = done + len(core)
        done += len(piece)
    return (length if lead < 0 else lead), last


def index_pieces(document: Document) -> list[tuple[int, int]]:
    """Byte offset and length of each region of the described file, or of each record of one whose records have bodies.

    Empty where the file is packed as a whole, so that nothing of it stands at a place of its own.
    """
    out: list[tuple[int, int]] = []
    for instance in document.instances if not document.layout.packed else ():
        if instance.file:
            continue
        if instance.body is None:
            out.append((instance.at, instance.stored))
            continue
        lengths = instance.records.lengths().tolist()
        out += zip(instance.records.places.tolist(), lengths, strict=True)
    return out


@collector_paused()
def segments_of(document: Document, name: str = "") -> list[Segment]:
    """What stands where in a file: for the byte ribbon."""
    out: list[Segment] = []
    for extent in extents_of(document, name):
        if extent.before:
            out.append(Segment("padding", extent.start, extent.before))
        if extent.length or extent.instance:
            out.append(Segment(extent.kind, extent.at, extent.length, extent.label, extent.index))
        if extent.behind:
            out.append(Segment("padding", extent.at + extent.length, extent.behind))
        if extent.gap:
            out.append(Segment("unexplained" if extent.carried else "padding", extent.end, extent.gap))
    return out

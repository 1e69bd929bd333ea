"""Payloads that no longer fit into their volume go to the last one, or to a new one."""

from __future__ import annotations

from ...base import ZubretError
from ..document.extent import Extent
from .draft import Draft
from .placement import LaidFile


def spill(draft: Draft) -> None:
    """Lay out all volumes, and move new payloads out of those that would pass their limit."""
    key = draft.document.layout.payload.file
    model = draft.document.layout.files[key] if key else None
    if model is None or not model.volumes or not model.limit:
        return
    for file in [f for n, f in draft.files.items() if n]:
        file.lay(draft.anew(file.name))
        if file.new_size <= model.limit:
            continue
        for extent in [e for e in file.extents if e.new is not None]:
            if extent.new_length > model.limit:
                raise ZubretError(
                    f"A payload of {extent.new_length:,} bytes is larger than a volume of {model.limit:,}.",
                    file=file.name,
                    next="Shorten the replacement.",
                )
            if extent.new_length <= extent.slot and extent.at >= 0:
                continue
            _move(draft, extent, file, model.limit)
            file.lay(draft.anew(file.name))
            if file.new_size <= model.limit:
                break


def _move(draft: Draft, extent: Extent, file: LaidFile, limit: int) -> None:
    """Take an extent out of its volume; its old bytes stay there, so that nothing else moves."""
    key = draft.document.layout.payload.file or ""
    model = draft.document.layout.files[key]
    last = max((v for v in draft.columns.get("volume") or [model.first] if isinstance(v, int)), default=model.first)
    target, name = last, draft.document.companion(key, last)
    here = draft.files[name]
    if here is file or extent.grid.above(here.new_size) + extent.new_length > limit:
        target, name = last + 1, draft.document.companion(key, last + 1)
        draft.files[name] = LaidFile(draft.document, name, fresh=True)
    if extent.at >= 0:
        file.extents[file.extents.index(extent)] = Extent(
            extent.at, extent.length, grid=extent.grid, fill=extent.fill, before=extent.before, behind=extent.behind,
            gap=extent.gap, carried=extent.carried, room=extent.room, steps=extent.steps, new_length=extent.length,
            new_before=extent.before, new_behind=extent.behind,
        )  # fmt: skip
    else:
        file.extents.remove(extent)
    moved = Extent(-1, 0, items=extent.items, grid=extent.grid, fill=extent.fill, new=extent.new)
    moved.new_length, moved.new_before, moved.new_behind = extent.new_length, extent.new_before, extent.new_behind
    here = draft.files[name]
    here.extents.append(moved)
    for item in extent.items:
        draft.item_files[item] = name
        if "volume" in draft.columns:
            draft.columns["volume"][item] = target
    here.lay(draft.anew(name))

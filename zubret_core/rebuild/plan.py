"""What a rebuild will write, worked out before a byte is written."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from functools import partial
from pathlib import Path

from ..base import Progress, ZubretError, silent
from ..container import GameFolder
from ..layout import Layout, read_layout, relisted
from ..locate import Known, LoadOrder, Spot, kind_of
from ..source import Built, DiskCache, FileSource, Segment, Source, write_file
from .planned import EntryFile, FilePlan, StreamSwap
from .rebuilder import Rebuilder
from .ways import Ways, companions_of

LARGEST_LIST = 1 << 24
"""Bytes of a file that may be a list of sums."""


def plan_rebuild(
    game: GameFolder,
    swaps: Sequence[StreamSwap],
    cache: DiskCache | None = None,
    progress: Progress = silent,
    *,
    known: Known | None = None,
    files: Sequence[EntryFile] = (),
    tight: bool = False,
    order: LoadOrder | None = None,
    way: str = "",
) -> list[FilePlan]:
    """One plan for each file that swaps and entry files touch, companions included. Reads, but writes nothing.

    With `tight`, banks and archives are laid out afresh even where the new payload fits its slot, so that a shorter
    one leaves no free space behind. order: what the game reads from, by its load rules; way: the name of one of these that is to
    take the changes; what it can't take goes into the place of the old files.
    """
    known = known or Known()
    plans: list[FilePlan] = []
    ways = Ways(order, way, known, cache) if order and way else None
    touched = sorted({s.locator.archive for s in swaps} | {f.archive for f in files})
    for n, path in enumerate(touched):
        progress(n, len(touched), f"planning {path}")
        spot = Spot.file(game, path, known, cache)
        here = [s for s in swaps if s.locator.archive == path]
        whole = [f for f in files if f.archive == path]
        work = Rebuilder(tight)
        changes = work.changes(spot, here, whole)
        if ways is not None and ways.takes(path, spot.archive):
            ways.take(path, spot, changes, work, here, whole)
        elif order is not None and not order.rules.in_place:
            raise ZubretError(
                "No way of this game can take what changes in this file, and its load rules allow no changed archive.",
                file=path, next="Allow in_place in the load rules, or give something that is read `new`.",
            )  # fmt: skip
        else:
            note = ways.refused() if ways is not None else ""
            plans += _in_place(game, path, spot, work.written(spot, changes), work, here, whole, note)
    plans += ways.plans() if ways is not None else []
    plans += companions_of(order, plans) if order is not None else []
    return plans + _lists(game, known, {p.path for p in plans if not p.gone})


def _in_place(
    game: GameFolder, path: str, spot: Spot, built: Built, work: Rebuilder, swaps: list[StreamSwap],
    files: list[EntryFile], note: str,
) -> list[FilePlan]:  # fmt: skip
    """A file that takes the place of the old one, and the companions of it that change."""
    archive = spot.archive
    plan = FilePlan(path, archive.segments(), built, swaps, archive.source.size, len(archive.entries), files)
    plan.accounts, plan.suspects, plan.note = work.accounts, work.suspects, note
    plans, folder = [plan], path.rpartition("/")[0]
    for name, other in built.others.items():
        place = f"{folder}/{name}" if folder else name
        size = game.locate(place).stat().st_size if game.locate(place).is_file() else 0
        before = [Segment("payload", 0, size)] if size else []
        plans.append(FilePlan(place, before, other, [], size, 0, belongs_to=path))
    return plans


def _lists(game: GameFolder, known: Known, written: set[str]) -> list[FilePlan]:
    """The lists of sums in which files stand that will be written."""
    if not any(lo.describes == "list" for lo in known.layouts):
        return []
    out = []
    for file in list(game.files()):
        if file.size > LARGEST_LIST:
            continue
        with game.open(file.path) as source:
            kind = kind_of(source, known)
            if kind is None or kind.layout is None or kind.layout.describes != "list":
                continue
            lines = listed_in(game, file.path, kind.layout)
        touched = tuple(sorted(set(lines) & written))
        if touched:
            original = FileSource(game.locate(file.path), file.path)
            before = [Segment("table", 0, file.size)]
            built = Built(original, [Segment("new", 0, file.size)], True, 0)
            plan = FilePlan(file.path, before, built, [], file.size, len(lines), lists=touched)
            plan.finish = partial(_relisted, plan, game, known)
            out.append(plan)
    return out


def listed_in(game: GameFolder, path: str, layout: Layout) -> dict[str, int]:
    """The files that a list names, with the number of each line; names count from the list's own folder."""
    folder = path.rpartition("/")[0]
    with game.open(path) as source:
        names = read_layout(layout, source).column("path") or []
    return {f"{folder}/{name}" if folder else name: n for n, name in enumerate(names)}


def _relisted(plan: FilePlan, game: GameFolder, known: Known, out: Path) -> Source:
    """A list with the lines of the files that were written taken anew."""
    source = game.open(plan.path)
    kind = kind_of(source, known)
    assert kind is not None and kind.layout is not None
    lines = listed_in(game, plan.path, kind.layout)
    return relisted(read_layout(kind.layout, source), {lines[p]: FileSource(out / p) for p in plan.lists})


def write_plan(plans: Sequence[FilePlan], out: Path, progress: Progress = silent) -> list[Path]:
    """Write every planned file below `out`, lists last; on any fault or cancel what this call wrote is removed."""
    plans = [p for p in plans if not p.gone]
    total = sum(p.size for p in plans)
    out.mkdir(parents=True, exist_ok=True)
    free = shutil.disk_usage(out).free
    if total > free:
        raise ZubretError(
            f"The rebuilt files need {total:,} bytes, but the disk has {free:,} free.",
            file=str(out),
            next="Free some space or choose another export folder. Nothing was written.",
        )
    written: list[Path] = []
    done = 0
    try:
        for plan in plans:
            place = out / plan.path
            before = done

            def step(n: int, _: int, note: str, before: int = before) -> None:
                progress(before + n, total, note)

            if plan.finish:
                plan.built.source = plan.finish(out)
            write_file(plan.built.source, place, step)
            written.append(place)
            done += plan.size
    except BaseException:
        for place in written:
            place.unlink(missing_ok=True)
        raise
    return written

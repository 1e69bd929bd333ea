"""What a rebuild will write, worked out before a byte is written."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from ..bank import NewStream
from ..base import Format, Progress, ZubretError, silent
from ..container import Container, GameFolder, NewEntry
from ..layout import Layout, read_layout, relisted
from ..locate import Known, Locator, Spot, kind_of
from ..locate.spot import IN, Step, check_step
from ..source import Built, DiskCache, FileSource, Segment, Source, write_file
from .account import Account
from .suspects import Suspect, suspects_of

LARGEST_LIST = 1 << 24
"""Bytes of a file that may be a list of sums."""


@dataclass(frozen=True)
class StreamSwap:
    """A prepared replacement: where it goes, its payload on disk, its format, and how well it was encoded."""

    locator: Locator
    payload: Path
    format: Format
    snr_db: float


@dataclass(frozen=True)
class EntryFile:
    """A file that becomes an entry as it is: in the place of entry number `index`, or as a new one (None).

    inside: the entries on the way to the archive that holds it, none for the file `archive` itself. path: what the
    archive calls the entry.
    """

    archive: str
    path: str
    index: int | None
    content: Path
    inside: tuple[Step, ...] = ()

    def __str__(self) -> str:
        return IN.join([self.archive, *(path for path, _ in self.inside), self.path])


@dataclass
class FilePlan:
    """One file of the game that will be written anew; belongs_to names the archive of a companion or volume."""

    path: str
    before: list[Segment]
    built: Built
    swaps: list[StreamSwap]
    size_before: int
    entries: int
    files: Sequence[EntryFile] = ()
    belongs_to: str = ""
    lists: tuple[str, ...] = ()
    """Files whose lines change here."""
    accounts: Sequence[Account] = ()
    """Of what is inside it and can't be seen in its own bytes, or whose parts have to be found in them."""
    suspects: Sequence[Suspect] = ()
    """Numbers that no tie explains but that say where something stood that moves."""
    finish: Callable[[Path], Source] | None = None
    """Gives the file's bytes once the others stand in an output folder, where it depends on them."""

    @property
    def size(self) -> int:
        """Bytes of the new file."""
        return self.built.source.size


def plan_rebuild(
    game: GameFolder,
    swaps: Sequence[StreamSwap],
    cache: DiskCache | None = None,
    progress: Progress = silent,
    *,
    known: Known | None = None,
    files: Sequence[EntryFile] = (),
    tight: bool = False,
) -> list[FilePlan]:
    """One plan for each file that swaps and entry files touch, companions included. Reads, but writes nothing.

    With `tight`, banks and archives are laid out afresh even where the new payload fits its slot, so that a shorter
    one leaves no free space behind.
    """
    known = known or Known()
    plans: list[FilePlan] = []
    touched = sorted({s.locator.archive for s in swaps} | {f.archive for f in files})
    for n, path in enumerate(touched):
        progress(n, len(touched), f"planning {path}")
        spot = Spot.file(game, path, known, cache)
        archive = spot.archive
        here = [s for s in swaps if s.locator.archive == path]
        whole = [f for f in files if f.archive == path]
        work = _Rebuilder(tight)
        built = work.archive(spot, here, whole, ())
        plan = FilePlan(path, archive.segments(), built, here, archive.source.size, len(archive.entries), whole)
        plan.accounts, plan.suspects = work.accounts, work.suspects
        plans.append(plan)
        folder = path.rpartition("/")[0]
        for name, other in built.others.items():
            place = f"{folder}/{name}" if folder else name
            size = game.locate(place).stat().st_size if game.locate(place).is_file() else 0
            before = [Segment("payload", 0, size)] if size else []
            plans.append(FilePlan(place, before, other, [], size, 0, belongs_to=path))
    return plans + _lists(game, known, {p.path for p in plans})


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


class _Rebuilder:
    """Rebuilds an archive with the banks and archives in it that something goes into, and keeps the accounts of all
    levels but the outermost."""

    def __init__(self, tight: bool):
        self.tight = tight
        self.accounts: list[Account] = []
        self.suspects: list[Suspect] = []

    def archive(
        self, spot: Spot, swaps: Sequence[StreamSwap], files: Sequence[EntryFile], inside: tuple[Step, ...]
    ) -> Built:
        """`spot` is what stands at `inside` of the swaps' locators and of the files."""
        archive, depth = spot.archive, len(inside)
        changes: dict[int, Source] = {}
        loose: Built | None = None

        def change(index: int, content: Source) -> None:
            for n in (index, *archive.sharing(index)):
                changes[n] = content

        here = [f for f in files if len(f.inside) == depth]
        for file in here:
            if file.index is not None:
                check_step(archive, (file.path, file.index), str(file))
                change(file.index, FileSource(file.content))
        for index in _next_entries(archive, swaps, files, depth):
            if index in changes:
                raise ZubretError(
                    "A stream in this entry is swapped, and the entry is replaced as a whole, too.",
                    file=f"{spot.name}{IN}{archive.label(index)}",
                    next="Remove the swap, or the file that takes the entry's place.",
                )
            step = (archive.entries[index].path, index)
            within = spot.entry(index)
            built = self._entry(
                within,
                [s for s in swaps if s.locator.entries[depth][1] == index],
                [f for f in files if len(f.inside) > depth and f.inside[depth][1] == index],
                (*inside, step),
            )
            self._note((*inside, step), built, within.source, not archive.is_plain(index))
            change(index, built.source)
            if archive.kind == "file":
                loose = built
                continue
            for companion, part in built.others.items():
                changes[self._companion(spot, index, companion, part, inside)] = part.source
        added = [NewEntry(f.path, FileSource(f.content)) for f in here if f.index is None]
        whole = archive.rebuild(changes, added=added, anew=self.tight)
        if loose is not None:  # a loose file is what is in it
            whole = Built(whole.source, loose.segments, loose.in_place, loose.moved, loose.others, loose.unpacked)
        else:
            self._suspect(spot, whole)
        if depth == 0:
            self._note_parts((), whole)
        return whole

    def _companion(self, spot: Spot, index: int, name: str, part: Built, inside: tuple[Step, ...]) -> int:
        """The number of the entry that is a rebuilt bank's companion."""
        archive = spot.archive
        folder = archive.label(index).rpartition("/")[0]
        number = archive.index_of(f"{folder}/{name}" if folder else name)
        if number is None:
            raise ZubretError(
                f"{name}, which would be new, can't be put beside its bank.",
                file=archive.label(index),
                next="Shorten the swap.",
            )
        step = (archive.entries[number].path, number)
        self._note(
            (*inside, step),
            part,
            archive.open(number, spot.cache, f"{spot.key}/{number}"),
            not archive.is_plain(number),
        )
        return number

    def _note(self, inside: tuple[Step, ...], built: Built, base: Source, read: bool) -> None:
        self.accounts.append(Account(built.source, base, inside, "", read))
        self._note_parts(inside, built)

    def _note_parts(self, inside: tuple[Step, ...], built: Built) -> None:
        for part, (new, old) in built.unpacked.items():
            self.accounts.append(Account(new, old, inside, part))

    def _entry(self, spot: Spot, swaps: list[StreamSwap], files: list[EntryFile], inside: tuple[Step, ...]) -> Built:
        """The new bytes of an entry that is a bank with swapped streams, or an archive."""
        if files or len(swaps[0].locator.entries) > len(inside):
            return self.archive(spot, swaps, files, inside)
        new = {s.locator.ordinal: NewStream(FileSource(s.payload), s.format) for s in swaps}
        built = spot.bank.rebuild(new, anew=self.tight)
        self._suspect(spot, built)
        return built

    def _suspect(self, spot: Spot, built: Built) -> None:
        self.suspects += suspects_of(spot, built)


def _next_entries(archive: Container, swaps: Sequence[StreamSwap], files: Sequence[EntryFile], depth: int) -> list[int]:
    """The entries of an archive in which something changes further in; each has to be where it was found."""
    steps: dict[int, None] = {}
    for swap in swaps:
        check_step(archive, swap.locator.entries[depth], str(swap.locator))
        steps[swap.locator.entries[depth][1]] = None
    for file in files:
        if len(file.inside) > depth:
            check_step(archive, file.inside[depth], str(file))
            steps[file.inside[depth][1]] = None
    return list(steps)


def write_plan(plans: Sequence[FilePlan], out: Path, progress: Progress = silent) -> list[Path]:
    """Write every planned file below `out`, lists last; on any fault or cancel what this call wrote is removed."""
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

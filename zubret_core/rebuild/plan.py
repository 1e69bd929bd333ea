"""What a rebuild will write, worked out before a byte is written."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from ..bank import NewStream
from ..base import Format, Progress, ZubretError, silent
from ..container import Container, GameFolder
from ..locate import Locator, open_archive, open_bank
from ..source import Built, DiskCache, FileSource, Segment, Source, write_file


@dataclass(frozen=True)
class StreamSwap:
    """A prepared replacement: where it goes, its payload on disk, its format, the audio that was meant.

    `meant` is a file of raw int16 samples, channels interleaved, little-endian.
    """

    locator: Locator
    payload: Path
    format: Format
    meant: Path
    snr_db: float


@dataclass
class FilePlan:
    """One file of the game that will be written anew."""

    path: str
    before: list[Segment]
    built: Built
    swaps: list[StreamSwap]
    size_before: int
    entries: int

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
    tight: bool = False,
) -> list[FilePlan]:
    """One plan for each file that the swaps touch. Reads, but writes nothing.

    With `tight`, banks and archives are laid out afresh even where the new payload fits its
    slot, so that a shorter one leaves no free space behind.
    """
    plans = []
    by_archive: dict[str, list[StreamSwap]] = {}
    for swap in swaps:
        by_archive.setdefault(swap.locator.archive, []).append(swap)
    for n, (path, here) in enumerate(sorted(by_archive.items())):
        progress(n, len(by_archive), f"planning {path}")
        archive = open_archive(game.open(path))
        if archive is None:
            raise ZubretError(
                "The file is no longer an archive that Zubret can read.", file=path, next="Survey the game again."
            )
        changes = _changed_entries(archive, path, here, cache, tight)
        built = archive.rebuild(changes, anew=tight)
        plans.append(FilePlan(path, archive.segments(), built, here, archive.source.size, len(archive.entries)))
    return plans


def _changed_entries(
    archive: Container, path: str, swaps: list[StreamSwap], cache: DiskCache | None, tight: bool
) -> dict[int, Source]:
    """The rebuilt banks of an archive, by entry number."""
    by_entry: dict[int, list[StreamSwap]] = {}
    for swap in swaps:
        by_entry.setdefault(swap.locator.entry_index, []).append(swap)
    changes: dict[int, Source] = {}
    for index, here in by_entry.items():
        if index >= len(archive.entries) or archive.entries[index].path != here[0].locator.entry:
            raise ZubretError(
                "The entry is no longer where the survey found it.",
                file=str(here[0].locator),
                next="Survey the game again.",
            )
        bank = open_bank(archive.open(index, cache))
        if bank is None:
            raise ZubretError("The entry is no longer a bank.", file=str(here[0].locator), next="Survey again.")
        new = {s.locator.ordinal: NewStream(FileSource(s.payload), s.format) for s in here}
        changes[index] = bank.rebuild(new, anew=tight).source
        for other in archive.sharing(index):
            changes[other] = changes[index]
    return changes


def write_plan(plans: Sequence[FilePlan], out: Path, progress: Progress = silent) -> list[Path]:
    """Write every planned file below `out`; on any fault or cancel what this call wrote is removed."""
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

            write_file(plan.built.source, place, step)
            written.append(place)
            done += plan.size
    except BaseException:
        for place in written:
            place.unlink(missing_ok=True)
        raise
    return written

"""Opening what survey rows stand for."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from django.conf import settings

from zubret_core.base import Kept
from zubret_core.container import Container
from zubret_core.locate import Known, Spot
from zubret_core.locate.spot import Step
from zubret_core.source import DiskCache

from ..errors import stopped
from ..games.folders import original_folder, store_of
from ..layouts.known import known_for
from .models import Archive


def disk_cache() -> DiskCache:
    """The cache of unpacked entries."""
    return DiskCache(settings.DATA_DIR / "cache", settings.CACHE_BYTES)


_files: Kept[tuple[int, int], list[tuple[str, Path, tuple[int, int]]]] = Kept(64)
"""Files of an archive's version: path in the game, place, size and time that the survey saw; by the archive, and by what is installed
now, which decides where the original is."""


def check_unchanged(archive: Archive) -> None:
    """409 unless the archive's file, and those that belong to it, have the size and time that the survey saw."""
    key = archive.pk, store_of(archive.game).version()
    files = _files.get(key) or _files.put(key, _files_of(archive))
    for path, place, seen in files:
        try:
            stat = os.stat(place)
        except OSError:
            stat = None
        if stat is None or (stat.st_size, stat.st_mtime_ns) != seen:
            raise stopped(409, "The file has changed since it was surveyed.", "Survey the game again.", path)


def _files_of(archive: Archive) -> list[tuple[str, Path, tuple[int, int]]]:
    folder, outer = original_folder(archive.game), archive.outer or archive
    own = archive.file_path(), outer.size, archive.mtime_ns
    return [(path, folder.locate(path), (size, time)) for path, size, time in [own, *outer.companions]]


def version_of(archive: Archive) -> str:
    """The version of the file in which an archive stands."""
    return (archive.outer or archive).version()


_spots: Kept[str, Spot] = Kept(256 << 20, lambda spot: spot.archive.weight())
"""Archives that are open, by the version of their file and the way in; in bytes of memory."""


def spot_of(archive: Archive, known: Known | None = None) -> Spot:
    """Where the archive of a row stands, through those around it; it stays open for as long as there is room.

    known: what its game is read with, for who opens many; else it is asked for.
    """
    check_unchanged(archive)
    steps = [(path, number) for path, number in archive.chain]
    return _spot(archive, version_of(archive), steps, archive.path, known)


def spot_at(archive: Archive, steps: Sequence[Step], where: str) -> Spot:
    """An entry, in the file in which the archive of a row stands; where: says in an error what was looked for."""
    check_unchanged(archive)
    around = _spot(archive, version_of(archive), steps[:-1], where)
    return around.step(steps[-1], where)


def _spot(archive: Archive, version: str, steps: Sequence[Step], where: str, known: Known | None = None) -> Spot:
    def make() -> Spot:
        if steps:
            return _spot(archive, version, steps[:-1], where, known).step(steps[-1], where)
        folder = original_folder(archive.game)
        return Spot.file(folder, archive.file_path(), known or known_for(archive.game), disk_cache(), version)

    return _spots.made("/".join([version, *(str(number) for _, number in steps)]), make)


def opened(archive: Archive) -> Container:
    """The archive of a row."""
    return spot_of(archive).archive

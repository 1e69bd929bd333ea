"""Opening what survey rows stand for."""

from __future__ import annotations

import os
from pathlib import Path

from django.conf import settings

from zubret_core.container import Container, GameFolder
from zubret_core.locate import Known, Spot
from zubret_core.source import DiskCache

from ..errors import stopped
from ..kept import Kept
from ..layouts.known import known_for
from .models import Archive


def disk_cache() -> DiskCache:
    """The cache of unpacked entries."""
    return DiskCache(settings.DATA_DIR / "cache", settings.CACHE_BYTES)


_files: Kept[int, list[tuple[str, Path, tuple[int, int]]]] = Kept(64)
"""Files of an archive's version: path in the game, place, size and time that the survey saw."""


def check_unchanged(archive: Archive) -> None:
    """409 unless the archive's file, and those that belong to it, have the size and time that the survey saw."""
    files = _files.get(archive.pk) or _files.put(archive.pk, _files_of(archive))
    for path, place, seen in files:
        try:
            stat = os.stat(place)
        except OSError:
            stat = None
        if stat is None or (stat.st_size, stat.st_mtime_ns) != seen:
            raise stopped(409, "The file has changed since it was surveyed.", "Survey the game again.", path)


def _files_of(archive: Archive) -> list[tuple[str, Path, tuple[int, int]]]:
    folder, outer = GameFolder(Path(archive.game.folder)), archive.outer or archive
    own = archive.file_path(), outer.size, archive.mtime_ns
    return [(path, folder.locate(path), (size, time)) for path, size, time in [own, *outer.companions]]


def version_of(archive: Archive) -> str:
    """The version of the file in which an archive stands."""
    return (archive.outer or archive).version()


def spot_of(archive: Archive, known: Known | None = None) -> Spot:
    """Where the archive of a row stands, through those around it."""
    check_unchanged(archive)
    folder, known = GameFolder(Path(archive.game.folder)), known or known_for(archive.game)
    spot = Spot.file(folder, archive.file_path(), known, disk_cache(), version_of(archive))
    return spot.down([(path, index) for path, index in archive.chain], archive.path)


def opened(archive: Archive, known: Known | None = None) -> Container:
    """The archive of a row."""
    return spot_of(archive, known).archive

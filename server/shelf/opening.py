"""Opening what survey rows stand for."""

from __future__ import annotations

from pathlib import Path

from django.conf import settings

from zubret_core.base import ZubretError
from zubret_core.container import Container, GameFolder, beside
from zubret_core.container.base import open_entry
from zubret_core.locate import Known, open_archive, open_file
from zubret_core.source import DiskCache

from ..errors import stopped
from ..layouts.known import known_for
from .models import Archive


def disk_cache() -> DiskCache:
    """The cache of unpacked entries."""
    return DiskCache(settings.DATA_DIR / "cache", settings.CACHE_BYTES)


def check_unchanged(archive: Archive) -> None:
    """409 unless the archive's file, and those that belong to it, have the size and time that the survey saw."""
    folder = GameFolder(Path(archive.game.folder))
    seen = [(archive.file_path(), archive.outer.size if archive.outer else archive.size, archive.mtime_ns)]
    for path, size, mtime_ns in [*seen, *(tuple(c) for c in (archive.outer or archive).companions)]:
        place = folder.locate(path)
        stat = place.stat() if place.exists() else None
        if stat is None or (stat.st_size, stat.st_mtime_ns) != (size, mtime_ns):
            raise stopped(409, "The file has changed since it was surveyed.", "Survey the game again.", path)


def version_of(archive: Archive) -> str:
    """The version of the file in which an archive stands."""
    return (archive.outer or archive).version()


def opened(archive: Archive, known: Known | None = None) -> Container:
    """The archive of a row, through those around it."""
    check_unchanged(archive)
    known = known or known_for(archive.game)
    cache, key = disk_cache(), version_of(archive)
    found = open_file(GameFolder(Path(archive.game.folder)), archive.file_path(), known, cache, key)
    for path, index in archive.chain:
        if found is None or index >= len(found.entries) or found.entries[index].path != path:
            break
        key = f"{key}/{index}"
        content = open_entry(found, index, cache, key)
        content.name = f"{found.source.name} › {content.name}"
        found = open_archive(content, known, beside(found, index), cache, key)
    if found is None:
        raise ZubretError("This is no archive any more.", file=archive.path, next="Survey the game again.")
    return found

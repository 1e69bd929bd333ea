"""Folders that look like an installed game: a program beside large files, or large files by themselves."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

from ..base import Progress, silent

LARGE, LEAST = 4 << 20, 100 << 20
"""Bytes of a file that counts, and of all of them in a folder that is named."""
PROGRAM = 100_000
"""Bytes of a program at least; what is smaller starts something else."""
ENDINGS = ("", ".x86", ".x86_64", ".bin")
"""Of programs, beside .exe and .app; common practice."""
DEEP, MOST_LISTED, MOST_NAMED = 7, 200_000, 30
"""Levels below a place, files and folders that are looked at there, and folders that are named in all, at most."""
APART = (".mp4", ".mkv", ".avi", ".mov", ".webm", ".iso", ".img", ".qcow2", ".vdi", ".vmdk")
"""Films and discs, which are no game's data; common practice."""


class LikelyGame(NamedTuple):
    """A folder by its whole path; files: how many large ones are in it; bytes: of these; program: whether one is there."""

    path: str
    files: int
    bytes: int
    program: bool


class _Inside(NamedTuple):
    """What is below a folder: large files and their bytes, and the folders that look like a game."""

    files: int
    bytes: int
    found: list[LikelyGame]


def likely_games(places: Iterable[Path], progress: Progress = silent) -> list[LikelyGame]:
    """Folders below the places that look like a game: first those with a program, the largest first. Only names and sizes
    are looked at; links, hidden folders and what can't be listed are passed over.

    progress counts files and folders, place by place.
    """
    seen, found = set[Path](), []
    for place in places:
        place = place.resolve()
        if place not in seen and not any(p in seen for p in place.parents):
            found += _Look(progress).into(str(place), 0).found
            seen.add(place)
    return sorted(found, key=lambda game: (not game.program, -game.bytes))[:MOST_NAMED]


class _Look:
    def __init__(self, progress: Progress):
        self._progress, self._listed = progress, 0

    def into(self, folder: str, depth: int) -> _Inside:
        files = size = 0
        inner: list[str] = []
        program = own = False
        try:
            with os.scandir(folder) as listed:
                for entry in listed:
                    self._listed += 1
                    if self._listed > MOST_LISTED:
                        break
                    if entry.is_dir(follow_symlinks=False):
                        if not entry.name.startswith(".") and depth < DEEP:
                            inner.append(entry.path)
                        program = program or entry.name.lower().endswith(".app")
                    elif entry.is_file(follow_symlinks=False):
                        info = entry.stat(follow_symlinks=False)
                        program = program or (info.st_size >= PROGRAM and _runs(entry.name, info.st_mode))
                        if info.st_size >= LARGE and not entry.name.lower().endswith(APART):
                            files, size, own = files + 1, size + info.st_size, True
        except OSError:
            pass
        self._progress(self._listed, MOST_LISTED, f"looking into {folder}")
        found: list[LikelyGame] = []
        for path in sorted(inner):
            below = self.into(path, depth + 1)
            files, size = files + below.files, size + below.bytes
            found += below.found
        if depth and size >= LEAST and (program or own):
            found = [LikelyGame(folder, files, size, program)]
        return _Inside(files, size, found)


def _runs(name: str, mode: int) -> bool:
    """Whether this is a program. Drives of other systems give every file the right to run, so the name must suit, too."""
    ending = Path(name).suffix.lower()
    return ending == ".exe" or (os.name != "nt" and bool(mode & stat.S_IXUSR) and ending in ENDINGS)

"""The folder of a game: its files, by paths that can't lead out of it."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from ..base import ZubretError
from ..source import FileSource
from .base import Siblings


class GameFile(NamedTuple):
    """One file: path with `/` below the folder, bytes, time of last change in ns."""

    path: str
    size: int
    mtime_ns: int


class GameFolder:
    """Read-only access to a folder; nothing outside it is ever opened."""

    def __init__(self, folder: Path):
        self.folder = folder.resolve()
        if not self.folder.is_dir():
            raise ZubretError(
                "This folder does not exist.", file=str(folder), next="Choose the folder that the game is installed in."
            )

    def files(self) -> Iterator[GameFile]:
        """All files in path order; links that lead out of the folder are left out."""
        for base, folders, names in os.walk(self.folder):
            folders.sort()
            for name in sorted(names):
                path = Path(base, name)
                if self.folder not in path.resolve().parents or not path.is_file():
                    continue
                stat = path.stat()
                yield GameFile(path.relative_to(self.folder).as_posix(), stat.st_size, stat.st_mtime_ns)

    def locate(self, path: str) -> Path:
        """The place on disk of a path below the folder; ZubretError for one that leads out."""
        place = (self.folder / path).resolve()
        if self.folder not in place.parents:
            raise ZubretError(
                "This path leads out of the game's folder.", file=path, next="Choose a file inside the folder."
            )
        return place

    def open(self, path: str) -> FileSource:
        """A file of the folder, for reading."""
        return FileSource(self.locate(path), name=path)

    def beside(self, path: str) -> Siblings:
        """What stands beside a file: files of the same folder, by name."""
        folder = path.rpartition("/")[0]

        def open_named(name: str) -> FileSource:
            place = f"{folder}/{name}" if folder else name
            if not self.locate(place).is_file():
                raise ZubretError(
                    f"{name}, which belongs to {path.rpartition('/')[2]}, is not beside it.",
                    file=place,
                    next="Copy the missing file there, from the same version of the game.",
                )
            return self.open(place)

        return open_named


class LaidOver(GameFolder):
    """A game's folder with rebuilt files laid over it: what is not there is read from the game."""

    def __init__(self, game: Path, over: Path):
        super().__init__(game)
        self.over = over.resolve()

    def locate(self, path: str) -> Path:
        inside = super().locate(path)
        over = self.over / inside.relative_to(self.folder)
        return over if over.is_file() else inside

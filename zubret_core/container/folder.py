"""The folder of a game: its files, by paths that can't lead out of it."""

from __future__ import annotations

import os
import stat
from collections.abc import Collection, Iterator
from contextlib import suppress
from functools import reduce
from operator import or_
from pathlib import Path
from typing import NamedTuple

from ..base import ZubretError
from ..source import FileSource
from .base import Siblings

_READ = reduce(
    or_, (getattr(os, name, 0) for name in ("O_BINARY", "O_CLOEXEC", "O_NOFOLLOW", "O_NONBLOCK")), os.O_RDONLY
)
"""For a file that was listed: it is read without following a link, and without waiting should it be a pipe by now."""


class GameFile(NamedTuple):
    """One file: path with `/` below the folder, bytes, time of its last change and of the last change of its state (name,
    times, rights) in ns; or why it, or a whole folder, can't be looked at; link: it is a link to another file of the game."""

    path: str
    size: int
    mtime_ns: int
    changed_ns: int = 0
    fault: ZubretError | None = None
    link: bool = False


class GameFolder:
    """Read-only access to a folder; nothing outside it is ever opened."""

    def __init__(self, folder: Path):
        self.folder = Path(os.path.realpath(folder))
        self._place = str(self.folder)
        if not self.folder.is_dir():
            raise ZubretError(
                "This folder does not exist.", file=str(folder), next="Choose the folder that the game is installed in."
            )

    def files(self) -> Iterator[GameFile]:
        """All files that can be looked at: those of a folder by name, then those of the folders in it."""
        return (file for file in self.everything() if file.fault is None)

    def everything(self) -> Iterator[GameFile]:
        """The same, and what can't be looked at, with its fault: a folder that can't be listed, a link that leads nowhere or
        out of the game's folder, a name that is no text."""
        folders = [(str(self.folder), "")]
        while folders:
            place, below = folders.pop()
            try:
                with os.scandir(place) as listed:
                    found = sorted(listed, key=lambda entry: entry.name)
            except OSError as e:
                yield _shut(below.rstrip("/") or ".", f"This folder can't be listed: {e.strerror}.")
                continue
            inside = []
            for entry in found:
                path = below + entry.name
                if entry.is_dir(follow_symlinks=False):
                    inside.append((entry.path, f"{path}/"))
                elif (file := self._listed(entry, path)) is not None:
                    yield file
            folders += reversed(inside)

    def near(self, path: str) -> dict[str, int]:
        """The names of the files in the folder of one, with their bytes."""
        folder = path.rpartition("/")[0]
        with os.scandir(self._where(folder) if folder else self.folder) as listed:
            found = [self._listed(entry, entry.name) for entry in listed if not entry.is_dir(follow_symlinks=False)]
        return {file.path: file.size for file in found if file is not None and file.fault is None}

    def _listed(self, entry: os.DirEntry, path: str) -> GameFile | None:
        """A file, or its fault; None for a device, or for a link to a folder of the game, whose files come by themselves."""
        try:
            link = entry.is_symlink()
            if link and self.folder not in Path(os.path.realpath(entry.path, strict=True)).parents:
                return _shut(path, "This link leads out of the game's folder, so it is not followed.")
            if not entry.is_file():
                return None
            facts = entry.stat()
            path.encode()
        except UnicodeEncodeError:
            return _shut(path, "This file's name is no UTF-8 text, so nothing can be told of it.")
        except OSError as e:
            return _shut(path, f"This can't be looked at: {e.strerror}.")
        return GameFile(path, facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns, None, link)

    def locate(self, path: str) -> Path:
        """The place on disk of a path below the folder; ZubretError for one that leads out, or that no file can have."""
        if not _may_be(path):
            raise ZubretError("No file can have this path.", file=path[:200], next="Choose a file from the list.")
        place = self._place
        for name in path.split("/"):
            place = os.path.join(place, name)
            plain = name not in ("", ".", "..") and os.sep not in name and not os.path.splitdrive(name)[0]
            if not plain or _is_link(place):
                return self._followed(path)
        return Path(place)

    def _followed(self, path: str) -> Path:
        """The place to which a path with a link in it leads."""
        place = Path(os.path.realpath(os.path.join(self._place, path)))
        if self.folder not in place.parents:
            raise ZubretError(
                "This path leads out of the game's folder.", file=path, next="Choose a file inside the folder."
            )
        return place

    def open(self, path: str) -> FileSource:
        """A file of the folder, for reading."""
        return FileSource(self.locate(path), name=path)

    def open_listed(self, file: GameFile) -> FileSource:
        """A file as it was listed just now. Listing follows no link to a folder, so that only a file that has become a link
        since could lead out of the game; that one is not opened."""
        if file.link:
            return self.open(file.path)
        return FileSource(self._where(file.path), name=file.path, follow=False)

    def edges(self, file: GameFile, length: int) -> tuple[bytes, bytes] | None:
        """The first and the last `length` bytes (all, where it has no more) of a file as it was listed just now; None where it
        is not what was listed, or can't be read: who opens it is told. Half the time of opening it as a source."""
        try:
            number = os.open(self._where(file.path), _READ)
        except OSError:
            return None
        try:
            first = last = os.read(number, length)  # of a shorter file, all
            if file.size >= length:
                if os.lseek(number, -length, os.SEEK_END) != file.size - length:
                    return None
                last = os.read(number, length) if file.size > length else first
            return (first, last) if len(first) == len(last) == min(length, file.size) else None
        except OSError:
            return None
        finally:
            os.close(number)

    def _where(self, path: str) -> str:
        """Of a file that was listed."""
        return f"{self._place}/{path}"

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


def _may_be(path: str) -> bool:
    """Whether a path is short enough, and of characters that a name may have."""
    try:
        names = os.fsencode(path).split(b"/")
    except UnicodeEncodeError:
        return False
    return b"\0" not in b"".join(names) and max(map(len, names)) < 256 and sum(map(len, names)) < 2048


def _is_link(place: str) -> bool:
    """Whether a link stands there; Path.is_symlink takes longer, for each of thousands of files."""
    try:
        return stat.S_ISLNK(os.lstat(place).st_mode)
    except OSError:
        return False


def _shut(path: str, what: str) -> GameFile:
    next = "Give it another name or other rights in a copy of the game's folder, then survey that one."
    return GameFile(path, 0, 0, 0, ZubretError(what, file=path, next=next))


class LaidOver(GameFolder):
    """A game's folder with rebuilt files laid over it: what is not there is read from the game."""

    def __init__(self, game: GameFolder, over: Path):
        super().__init__(game.folder)
        self.game, self.over = game, over.resolve()

    def locate(self, path: str) -> Path:
        over = self.over / super().locate(path).relative_to(self.folder)
        return over if over.is_file() else self.game.locate(path)


class SetBack(GameFolder):
    """A game's folder as it was before something was installed into it: of the files that were changed since, what is kept of them
    in another folder, at the same paths, is read; those of which nothing is kept were not there."""

    def __init__(self, game: Path, originals: Path, changed: Collection[str]):
        super().__init__(game)
        self.originals, self.changed = originals, changed

    def everything(self) -> Iterator[GameFile]:
        yield from (file for file in super().everything() if file.path not in self.changed)
        for path in sorted(self.changed):
            with suppress(FileNotFoundError):
                facts = (self.originals / path).stat()
                yield GameFile(path, facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns)

    def locate(self, path: str) -> Path:
        return self.originals / path if path in self.changed else super().locate(path)

    def _where(self, path: str) -> str:
        return str(self.originals / path) if path in self.changed else super()._where(path)

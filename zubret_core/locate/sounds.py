"""Loose sounds in which nothing is packed: one look tells all of them, for the tens of thousands that a game may have."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from threading import Event
from typing import Generic, NamedTuple, TypeVar

import xxhash

from ..audio.riff import plain_format
from ..base import Format, ZubretError
from ..container import GameFile, GameFolder
from ..container.index import EDGE
from ..source import Source
from .known import Known

T = TypeVar("T")
ENDINGS = (".wav", ".WAV", ".wave")
"""Common practice; a sound of another name is found by opening it."""
MOST_AHEAD = 2_000
"""Files that are looked at before they are asked for, at most."""


class PlainSound(NamedTuple):
    """All that a survey tells of a WAV file in which nothing is packed: its format, and the sum of its edges, as
    `index_sum` takes it of a loose file."""

    format: Format
    sum: str


class _Edges(Source):
    """A file of which only its first and its last bytes are at hand."""

    def __init__(self, file: GameFile, first: bytes, last: bytes):
        self.name, self.size = file.path, file.size
        self._first, self._last, self._at = first, last, file.size - len(last)

    def _read(self, at: int, length: int) -> bytes:
        if at + length <= len(self._first):
            return self._first[at : at + length]
        if at >= self._at:
            return self._last[at - self._at :][:length]
        raise ZubretError("Only the edges of this file were read.", file=self.name)


class PlainSounds(Generic[T]):
    """The plain sounds among the files of a folder, which are asked for in order. told: what the caller makes of each.

    What is asked for is looked at, unless that was done already while the caller was writing. (A thread that looks all the
    time makes the caller wait for Python's lock more than it saves; one that looks while the database works does not.)
    """

    def __init__(
        self, folder: GameFolder, files: Iterable[GameFile], known: Known, told: Callable[[GameFile, PlainSound], T]
    ):
        self._folder, self._told = folder, told
        self._wanted = deque(filter(_may_be_plain, files) if known.leaves_wav else ())
        self._found: dict[str, T | None] = {}
        self._thread = ThreadPoolExecutor(1, "look")

    def __enter__(self) -> PlainSounds[T]:
        return self

    def __exit__(self, *exc: object) -> None:
        self._thread.shutdown()

    def at(self, file: GameFile) -> T | None:
        """What is told of a plain sound; None for a file that has to be opened to tell what it is."""
        if file.path in self._found:
            return self._found.pop(file.path)
        if self._wanted and self._wanted[0] is file:
            return self._look(self._wanted.popleft())
        return None

    @contextmanager
    def ahead(self) -> Iterator[None]:
        """While the caller does what needs no Python, files that come next are looked at."""
        stop = Event()
        done = self._thread.submit(self._go_on, stop)
        try:
            yield
        finally:
            stop.set()
            done.result()

    def _go_on(self, stop: Event) -> None:
        while self._wanted and len(self._found) < MOST_AHEAD and not stop.is_set():
            file = self._wanted.popleft()
            self._found[file.path] = self._look(file)

    def _look(self, file: GameFile) -> T | None:
        sound = plain_sound(self._folder, file)
        return None if sound is None else self._told(file, sound)


def _may_be_plain(file: GameFile) -> bool:
    return file.fault is None and not file.link and file.path.endswith(ENDINGS)


def plain_sound(folder: GameFolder, file: GameFile) -> PlainSound | None:
    """A file of the folder as a plain sound; None where it is none, or can't be read."""
    edges = folder.edges(file, EDGE)
    if edges is None:
        return None
    first, last = edges
    try:
        format = plain_format(first, file.size, lambda: _Edges(file, first, last))
    except Exception:  # who opens it tells what is wrong
        return None
    return PlainSound(format, xxhash.xxh3_64_hexdigest(first + last)) if format is not None and format.frames else None

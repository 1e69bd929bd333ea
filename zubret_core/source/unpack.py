"""Bytes that come piece by piece, kept so that they can be read at random."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterable
from pathlib import Path
from typing import IO

from ..base import named, nameless
from .base import BytesSource, FileSource, Source
from .cache import DiskCache

IN_MEMORY = 4 << 20
"""Bytes up to which no file is needed."""


def spooled(chunks: Iterable[bytes], about: int, name: str, cache: DiskCache | None = None, key: str = "") -> Source:
    """The pieces as one source: in memory when there are few, else in the cache or a nameless file.

    about: how many bytes to expect; it only decides where they are kept.
    """
    if about <= IN_MEMORY:
        return BytesSource(b"".join(chunks), name)
    if cache and key:
        return cache.get(key, chunks, name)
    return OpenFile(_written(chunks), name)


def _written(chunks: Iterable[bytes]) -> IO[bytes]:
    file = nameless()
    file.writelines(chunks)
    return file


class OpenFile(FileSource):
    """An open nameless file as a source; it is gone when nobody holds the source any more."""

    def __init__(self, file: IO[bytes], name: str):
        file.flush()
        stat = os.fstat(file.fileno())
        self.name, self.size, self.identity = name, stat.st_size, (stat.st_dev, stat.st_ino)
        self._file = file  # type: ignore[assignment]
        self._lock = threading.Lock()

    def named(self, place: Path) -> bool:
        return named(self._file, place)

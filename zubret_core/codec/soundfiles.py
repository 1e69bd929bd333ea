"""libsndfile over Python's files. It calls them from C, where an exception is printed and forgotten: a file that can't be
written to its end would pass as whole, and one that can't be read as ending there. So what fails is kept here until Python
has the word again."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import IO, Any, TypeVar

import soundfile

from ..source import Source, SourceFile
from ..source.base import CHUNK

T = TypeVar("T")


class _Lent:
    """A binary file as libsndfile is lent it: after the first fault every call gives 0."""

    def __init__(self, file: IO[bytes]):
        self._file = file
        self.fault: Exception | None = None

    def _kept(self, call: Callable[..., T], *args: Any) -> T | int:
        if self.fault is None:
            try:
                return call(*args)
            except Exception as fault:
                self.fault = fault
        return 0

    def tell(self) -> int:
        return self._kept(self._file.tell)

    def seek(self, offset: int, whence: int = 0) -> int:
        return self._kept(self._file.seek, offset, whence)

    def readinto(self, buffer: Any) -> int:
        return self._kept(self._file.readinto, buffer)  # type: ignore[attr-defined]

    def write(self, data: bytes) -> int:
        return self._kept(self._file.write, data)


@contextmanager
def _opened(file: IO[bytes], *args: Any, **how: Any) -> Iterator[soundfile.SoundFile]:
    lent = _Lent(file)
    try:
        with soundfile.SoundFile(lent, *args, **how) as sound:
            yield sound
    finally:
        if lent.fault is not None:  # else what libsndfile made of it, or nothing, would come out
            raise lent.fault


@contextmanager
def sound_read(source: Source) -> Iterator[soundfile.SoundFile]:
    """An audio file to read. A fault of the source comes out as it was raised, at the latest at the end."""
    with _opened(io.BufferedReader(SourceFile(source), CHUNK)) as sound:
        yield sound


@contextmanager
def sound_written(file: IO[bytes], rate: int, channels: int, variant: str, **how: Any) -> Iterator[soundfile.SoundFile]:
    """An audio file to write, into an open binary file; variant: "container/subtype". OSError, at the latest at the end,
    where the file can't take all of it."""
    container, subtype = variant.split("/")
    with _opened(file, "w", rate, channels, subtype, format=container, **how) as sound:
        yield sound
    file.flush()

"""Bytes that can be read anywhere, without being held in memory."""

from __future__ import annotations

import io
import os
import threading
import weakref
from collections import deque
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from ..base import ZubretError, named, once, tell

CHUNK = 1 << 18
"""Bytes per step when a source is streamed; few enough that the memory of one serves the next, which larger ones take anew
from the system."""


class Source:
    """`size` bytes known by `name`; `read` gives any span of them."""

    name: str
    size: int
    holder: str = ""
    """What it is an entry of: the id of an archive's layout, or zip, tar or iso; empty for a file."""

    def read(self, at: int, length: int) -> bytes:
        """Exactly `length` bytes from `at`; ZubretError where the span leaves the source."""
        if at < 0 or length < 0 or at + length > self.size:
            raise ZubretError(
                f"{length:,} bytes were expected here, but the file ends at byte {self.size:,}.",
                file=self.name,
                offset=at,
                next="The file is cut short or damaged: check it against the game's own copy.",
            )
        return self._read(at, length) if length else b""

    def _read(self, at: int, length: int) -> bytes:
        raise TypeError(f"{type(self).__name__} can't be read")

    def read_into(self, at: int, into: memoryview) -> None:
        """As many bytes from `at` as there is room for; what reads much in a row spares taking memory each time."""
        into[:] = self.read(at, len(into))

    def chunks(self, at: int = 0, length: int | None = None, step: int = CHUNK) -> Iterator[bytes]:
        """The span from `at` in pieces of at most `step` bytes."""
        end = self.size if length is None else at + length
        while at < end:
            piece = self.read(at, min(step, end - at))
            at += len(piece)
            yield piece

    def named(self, place: Path) -> bool:
        """Have the bytes stand in a new file without copying them; False where that can't be done."""
        return False

    @once
    def memory(self) -> dict[Any, Any]:
        """What readers keep of it, each under its own type; it goes when the source goes."""
        return {}

    def close(self) -> None:
        """Give back what the source holds open."""

    def __enter__(self):
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def __repr__(self) -> str:
        return f"<{type(self).__name__} {self.name} {self.size:,} bytes>"


def same_bytes(one: Source, other: Source) -> bool:
    """Whether two sources hold the same bytes."""
    if one.size != other.size:
        return False
    done = 0
    for a, b in zip(one.chunks(), other.chunks(), strict=True):
        if a != b:
            return False
        done += len(a)
        tell(done, one.size, f"comparing {one.name}")
    return True


class BytesSource(Source):
    """Bytes in memory; of a view only what is read is copied."""

    def __init__(self, data: bytes | memoryview, name: str = "bytes"):
        self.name, self.data, self.size = name, data, len(data)

    def _read(self, at: int, length: int) -> bytes:
        return bytes(self.data[at : at + length])

    def views(self) -> Iterator[memoryview]:
        """All of it in pieces that are not copied."""
        data = memoryview(self.data)
        return (data[at : at + CHUNK] for at in range(0, self.size, CHUNK))

    def named(self, place: Path) -> bool:
        return isinstance(self.data, memoryview) and named(self.data, place)


class FillSource(Source):
    """`size` times the one byte `fill`."""

    def __init__(self, fill: int, size: int):
        self.name, self.fill, self.size = "padding", fill, size

    def _read(self, at: int, length: int) -> bytes:
        return bytes([self.fill]) * length


def _not_through_links(path: str, flags: int) -> int:
    return os.open(path, flags | getattr(os, "O_NOFOLLOW", 0))


class FileSource(Source):
    """A file on disk, opened for reading only; safe to share between threads. follow: also where its name is a link."""

    def __init__(self, path: str | os.PathLike, name: str | None = None, follow: bool = True):
        self.name = name or Path(path).name
        try:
            self._file = open(path, "rb", buffering=0, opener=None if follow else _not_through_links)
        except OSError as e:
            raise ZubretError(
                f"The file can't be opened: {e.strerror}.",
                file=self.name,
                next="Check that it still exists and that you may read it, then survey again.",
            ) from e
        stat = os.fstat(self._file.fileno())
        self.size, self.identity = stat.st_size, (stat.st_dev, stat.st_ino)
        self._lock = threading.Lock()

    def _read(self, at: int, length: int) -> bytes:
        if hasattr(os, "pread"):
            data = os.pread(self._file.fileno(), length, at)
            while len(data) < length:
                more = os.pread(self._file.fileno(), length - len(data), at + len(data))
                if not more:
                    break
                data += more
        else:  # Windows has no positioned read
            with self._lock:
                self._file.seek(at)
                data = self._file.read(length)
        if len(data) < length:
            raise ZubretError(
                "The file became shorter while it was read.",
                file=self.name,
                offset=at + len(data),
                next="Something else is writing to it: wait until that has ended, then survey again.",
            )
        return data

    def read_into(self, at: int, into: memoryview) -> None:
        if at < 0 or not hasattr(os, "preadv") or os.preadv(self._file.fileno(), [into], at) < len(into):
            super().read_into(at, into)

    def fileno(self) -> int:
        """The system's number of the open file."""
        return self._file.fileno()

    def same_file(self, other: FileSource) -> bool:
        """Whether another source is the same file on disk."""
        return self.identity == other.identity

    def close(self) -> None:
        self._file.close()


class SliceSource(Source):
    """`length` bytes of another source from `at`."""

    def __init__(self, source: Source, at: int, length: int, name: str | None = None):
        if at < 0 or length < 0 or at + length > source.size:
            raise ZubretError(
                f"A span of {length:,} bytes leaves the file of {source.size:,} bytes.", file=source.name, offset=at
            )
        self.source, self.at, self.size = source, at, length
        self.name = name or source.name

    def _read(self, at: int, length: int) -> bytes:
        return self.source.read(self.at + at, length)

    def read_into(self, at: int, into: memoryview) -> None:
        if at < 0 or at + len(into) > self.size:
            super().read_into(at, into)
        else:
            self.source.read_into(self.at + at, into)


class Later(Source):
    """What is opened only when somebody reads it. However many there are, only those that were opened last stay open."""

    OPEN = 4
    _recent: ClassVar[deque[weakref.ref[Later]]] = deque()

    def __init__(self, name: str, size: int, make: Callable[[], Source]):
        self.name, self.size, self._make = name, size, make
        self._opened: Source | None = None

    def _read(self, at: int, length: int) -> bytes:
        opened = self._opened
        if opened is None:
            opened = self._opened = self._make()
            self._recent.append(weakref.ref(self))
            if (
                len(self._recent) > self.OPEN
                and (oldest := self._recent.popleft()()) is not None
                and oldest is not self
            ):
                oldest._opened = None
        return opened.read(at, length)


class SourceFile(io.RawIOBase):
    """A source as a read-only binary file object, for libraries that want one."""

    def __init__(self, source: Source):
        self._source, self._at = source, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = 0) -> int:
        start = (0, self._at, self._source.size)[whence]
        self._at = max(0, start + offset)
        return self._at

    def readinto(self, buffer) -> int:
        length = max(0, min(len(buffer), self._source.size - self._at))
        buffer[:length] = self._source.read(self._at, length)
        self._at += length
        return length


def read_array(source: Source, at: int, count: int, dtype: np.dtype) -> NDArray:
    """`count` items of `dtype` from byte `at`, as a read-only one-dimensional array."""
    return np.frombuffer(source.read(at, count * dtype.itemsize), dtype=dtype)

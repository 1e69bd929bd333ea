"""Compressed bytes as a source that can be read at random."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator
from tempfile import TemporaryFile

from ..base import ZubretError
from .base import BytesSource, FileSource, Source
from .cache import DiskCache

IN_MEMORY = 4 << 20
"""Unpacked bytes up to which no file is needed."""


def inflated(stored: Source, size: int) -> Iterator[bytes]:
    """The unpacked pieces of one zlib stream (RFC 1950) that holds exactly `size` bytes.

    Never gives more than `size` bytes, whatever the stream promises.
    """
    inflater, left = zlib.decompressobj(), size

    def wrong(what: str) -> ZubretError:
        return ZubretError(what, file=stored.name, next="The entry is damaged: check the file against another copy.")

    try:
        for piece in stored.chunks(step=1 << 18):
            while piece:
                out = inflater.decompress(piece, min(left + 1, 1 << 20))
                left -= len(out)
                if left < 0:
                    raise wrong(f"The entry unpacks to more than the {size:,} bytes that its table gives.")
                if out:
                    yield out
                piece = inflater.unconsumed_tail
    except zlib.error as e:
        raise wrong(f"The entry can't be unpacked: {e}.") from e
    if left or not inflater.eof:
        raise wrong(f"The entry unpacks to {size - left:,} bytes, but its table gives {size:,}.")


def spooled(chunks: Iterable[bytes], size: int, name: str, cache: DiskCache | None = None, key: str = "") -> Source:
    """`size` unpacked bytes as a source: in memory when small, else in the cache or a nameless file."""
    if size <= IN_MEMORY:
        return BytesSource(b"".join(chunks), name)
    if cache and key:
        return cache.get(key, chunks, name)
    return _TemporarySource(chunks, size, name)


class _TemporarySource(FileSource):
    def __init__(self, chunks: Iterable[bytes], size: int, name: str):
        import threading

        self.name, self.size = name, size
        self._file = TemporaryFile(buffering=0)
        self._lock = threading.Lock()
        for piece in chunks:
            self._file.write(piece)

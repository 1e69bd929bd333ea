"""Compressed byte streams: unpacked piece by piece and bounded, packed again by the same method.

Sources: zlib RFC 1950, deflate RFC 1951, gzip RFC 1952, Zstandard RFC 8878; LZ4 frame and block formats
1.6; .xz file format 1.2; LZMA "alone" files and bzip2 by common practice. The libraries do the work; what is ours is
that nothing gives more bytes than its table declares, whatever the stream promises.
"""

from __future__ import annotations

import bz2
import lzma
import struct
import zlib
from collections.abc import Callable, Iterator
from typing import IO, Protocol, cast

import lz4.block
import lz4.frame
import zstandard

from ..base import ZubretError, tell
from .base import BytesSource, Source, SourceFile

PIECE = 1 << 20
"""Unpacked bytes given at once."""
LZ4_RATIO = 255
"""The most bytes that one stored byte of an LZ4 block can stand for (a run of length bytes 255)."""
MOST_MEMORY = 1 << 28
"""Bytes of history that a stream may ask a decompressor to keep."""


class Unpacker(Protocol):
    """What bz2, lzma and lz4.frame call a decompressor."""

    @property
    def eof(self) -> bool:
        """Whether the stream's end was reached."""

    @property
    def needs_input(self) -> bool:
        """Whether nothing more comes out without more going in."""

    @property
    def unused_data(self) -> bytes | None:
        """What stands behind the stream's end."""

    def decompress(self, data: bytes, /, max_length: int = -1) -> bytes:
        """At most `max_length` unpacked bytes; keeps input that it could not use yet."""


class _Deflate:
    """zlib's decompressor in the manner of the others."""

    def __init__(self, wbits: int):
        self._inner = zlib.decompressobj(wbits)

    @property
    def eof(self) -> bool:
        return self._inner.eof

    @property
    def unused_data(self) -> bytes:
        return self._inner.unused_data

    @property
    def needs_input(self) -> bool:
        return not self._inner.unconsumed_tail and not self._inner.eof

    def decompress(self, data: bytes, /, max_length: int = -1) -> bytes:
        return self._inner.decompress(self._inner.unconsumed_tail + data, max_length)


_UNPACKERS: dict[str, Callable[[], Unpacker]] = {
    "zlib": lambda: _Deflate(15),
    "deflate": lambda: _Deflate(-15),
    "gzip": lambda: _Deflate(31),
    "bzip2": bz2.BZ2Decompressor,
    "xz": lambda: lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=MOST_MEMORY),
    "lzma": lambda: lzma.LZMADecompressor(lzma.FORMAT_ALONE, memlimit=MOST_MEMORY),
    "lz4": lz4.frame.LZ4FrameDecompressor,
}
_SEVERAL = ("gzip", "bzip2", "xz", "lz4")
"""Methods whose streams may stand one behind the other and then count as one."""
_ERRORS = (
    zlib.error, lzma.LZMAError, zstandard.ZstdError, lz4.block.LZ4BlockError, OSError, ValueError, EOFError, RuntimeError,
    MemoryError,
)  # fmt: skip

METHODS = (*_UNPACKERS, "zstd", "lz4-block")
"""Every method by the name that layouts use."""


def unpacked(method: str, stored: Source, limit: int, exact: bool = True) -> Iterator[bytes]:
    """The unpacked pieces of a stored stream.

    limit: unpacked bytes that the table gives, or at most allows where not `exact`. ZubretError where the
    stream is damaged, gives more than `limit`, or (exact) less.
    """

    def wrong(what: str) -> ZubretError:
        return ZubretError(what, file=stored.name, next="The entry is damaged: check the file against another copy.")

    done = 0
    try:
        for piece in _PIECES.get(method, _streamed)(method, stored, limit):
            done += len(piece)
            tell(done, limit, f"unpacking {stored.name}")
            if done > limit:
                raise wrong(f"The entry unpacks to more than the {limit:,} bytes that its table gives.")
            yield piece
    except _ERRORS as e:
        raise wrong(f"The entry can't be unpacked by {method}: {str(e) or type(e).__name__}.") from e
    if exact and done < limit:
        raise wrong(f"The entry unpacks to {done:,} bytes, but its table gives {limit:,}.")


def unpacked_small(method: str, data: bytes, limit: int, name: str) -> bytes:
    """A small stream at once: what `unpacked` gives, without its pieces."""
    if method in _PIECES or method in _SEVERAL:
        return b"".join(unpacked(method, BytesSource(data, name), limit))
    try:
        unpacker = _UNPACKERS[method]()
        out = unpacker.decompress(data, limit + 1)
        if len(out) == limit and unpacker.eof:
            return out
    except _ERRORS:
        pass
    return b"".join(unpacked(method, BytesSource(data, name), limit))  # says what is wrong


def _streamed(method: str, stored: Source, limit: int) -> Iterator[bytes]:
    unpacker, left, behind = _UNPACKERS[method](), limit, b""
    pieces = stored.chunks(step=1 << 18)
    for data in pieces:
        while True:
            out = unpacker.decompress(data, min(left + 1, PIECE))
            data = b""
            left -= len(out)
            if out:
                yield out
            if unpacker.eof:
                behind = (unpacker.unused_data or b"") + next(pieces, b"")
                if method not in _SEVERAL or not behind.strip(b"\0"):
                    return
                unpacker, data = _UNPACKERS[method](), behind
                continue
            if (unpacker.needs_input and not out) or (unpacker.needs_input and left < 0):
                break
    if not unpacker.eof:
        raise EOFError("the stream is cut short")


def _zstd(method: str, stored: Source, limit: int) -> Iterator[bytes]:
    unpacker = zstandard.ZstdDecompressor(max_window_size=1 << 27)
    with unpacker.stream_reader(cast(IO[bytes], SourceFile(stored)), read_across_frames=True) as file:
        while piece := file.read(PIECE):
            yield piece


def _lz4_block(method: str, stored: Source, limit: int) -> Iterator[bytes]:
    if limit > stored.size * LZ4_RATIO:
        raise ValueError(f"{stored.size:,} bytes can't stand for {limit:,}")
    out = lz4.block.decompress(stored.read(0, stored.size), uncompressed_size=limit)
    for at in range(0, len(out), PIECE):
        yield out[at : at + PIECE]


_PIECES: dict[str, Callable[[str, Source, int], Iterator[bytes]]] = {"zstd": _zstd, "lz4-block": _lz4_block}


def packed(method: str, plain: Source, level: int | None = None, like: Source | None = None) -> Iterator[bytes]:
    """The stored pieces of a source under a method; `level` is the method's own, None its usual one.

    like: a stored stream whose kind of effort is kept where no level is given, and whose gzip header is kept.
    """
    first = like.read(0, min(LONGEST_HEAD, like.size)) if like else b""
    if level is None and method == "zlib":
        level = zlib_level(first[:2])
    if method == "lz4-block":
        how = {} if level is None else {"mode": "high_compression", "compression": level}
        yield lz4.block.compress(plain.read(0, plain.size), store_size=False, **how)
        return
    head = gzip_head(first) if method == "gzip" else b""
    packer = _GzipPacker(head, level) if head else _packer(method, level, plain.size)
    if isinstance(packer, lz4.frame.LZ4FrameCompressor):
        yield packer.begin(plain.size)
    done = 0
    for piece in plain.chunks():
        yield packer.compress(piece)
        done += len(piece)
        tell(done, plain.size, f"packing {plain.name}")
    yield packer.flush()


def _packer(method: str, level: int | None, size: int):
    if method in ("zlib", "deflate", "gzip"):
        wbits = {"zlib": 15, "deflate": -15, "gzip": 31}[method]
        return zlib.compressobj(6 if level is None else level, zlib.DEFLATED, wbits)
    if method == "bzip2":
        return bz2.BZ2Compressor(9 if level is None else level)
    if method in ("xz", "lzma"):
        kind = lzma.FORMAT_XZ if method == "xz" else lzma.FORMAT_ALONE
        return lzma.LZMACompressor(kind, preset=6 if level is None else level)
    if method == "zstd":
        return zstandard.ZstdCompressor(level=3 if level is None else level).compressobj(size=size)
    return lz4.frame.LZ4FrameCompressor(compression_level=level or 0)


class _GzipPacker:
    """A gzip member behind a header that is given (RFC 1952, section 2.3): its name, time and system stay."""

    def __init__(self, head: bytes, level: int | None):
        effort = {2: 9, 4: 1}.get(head[8], 6)  # XFL
        self._inner = zlib.compressobj(effort if level is None else level, zlib.DEFLATED, -15)
        self._head, self._crc, self._size = head, 0, 0

    def compress(self, data: bytes) -> bytes:
        self._crc, self._size = zlib.crc32(data, self._crc), self._size + len(data)
        head, self._head = self._head, b""
        return head + self._inner.compress(data)

    def flush(self) -> bytes:
        return self._head + self._inner.flush() + struct.pack("<2I", self._crc, self._size & 0xFFFFFFFF)


LONGEST_HEAD = 1 << 12
"""Bytes of a gzip header at most that are kept."""


def gzip_head(data: bytes) -> bytes:
    """The header of a gzip member (RFC 1952, section 2.3.1), empty where `data` does not hold all of one."""
    if len(data) < 10 or data[:3] != b"\x1f\x8b\x08":
        return b""
    flags, at = data[3], 10
    if flags & 4:  # FEXTRA
        at += 2 + int.from_bytes(data[at : at + 2], "little")
    for flag in (8, 16):  # FNAME, FCOMMENT
        if flags & flag:
            end = data.find(b"\0", at)
            if end < 0:
                return b""
            at = end + 1
    at += flags & 2  # FHCRC
    return data[:at] if at <= len(data) else b""


def zlib_level(head: bytes) -> int | None:
    """A compression level that fits the first two bytes of a zlib stream, None where they are too few.

    RFC 1950 section 2.2: FLEVEL, the two highest bits of FLG, tells which of four kinds of effort was used.
    """
    return (1, 5, 6, 9)[head[1] >> 6] if len(head) == 2 else None

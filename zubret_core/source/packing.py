"""Compressed byte streams: unpacked piece by piece and bounded, packed again by the same method.

Sources: zlib RFC 1950, deflate RFC 1951, gzip RFC 1952, Zstandard RFC 8878, Brotli RFC 7932; LZ4 frame and block formats
1.6; .xz file format 1.2; Snappy's raw format and LZO1X, LZMA "alone" files and bzip2 by common practice. The libraries do the
work; what is ours is that nothing gives more bytes than its table declares, whatever the stream promises.
"""

from __future__ import annotations

import bz2
import lzma
import struct
import zlib
from collections.abc import Callable, Iterator
from typing import IO, Protocol, cast

import brotli
import cramjam
import lz4.block
import lz4.frame
import lzallright
import zstandard

from ..base import ZubretError, tell
from .base import BytesSource, Source, SourceFile
from .coders import lzo
from .ends import MOST, is_filling, lz4_block, snappy_block, zstd_frames

PIECE = 1 << 20
"""Unpacked bytes given at once."""
LZ4_RATIO = 255
"""The most bytes that one stored byte of an LZ4 block, or of LZO, can stand for (a run of length bytes)."""
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
    zlib.error, lzma.LZMAError, zstandard.ZstdError, lz4.block.LZ4BlockError, brotli.error, cramjam.DecompressionError,
    OSError, ValueError, EOFError, RuntimeError, MemoryError,
)  # fmt: skip

METHODS = (*_UNPACKERS, "zstd", "lz4-block", "brotli", "snappy", "lzo")
"""Every method by the name that layouts use."""
WITH_DICTIONARY = ("zstd", "lz4-block")
"""Those that may begin with bytes that both sides know."""


def unpacked(method: str, stored: Source, limit: int, exact: bool = True, dictionary: bytes = b"") -> Iterator[bytes]:
    """The unpacked pieces of a stored stream.

    limit: unpacked bytes that the table gives, or at most allows where not `exact`. ZubretError where the
    stream is damaged, gives more than `limit`, or (exact) less.
    """
    if dictionary:
        pieces = _WITH[method](stored, limit, dictionary)
    else:
        pieces = _PIECES.get(method, _streamed)(method, stored, limit)
    return bounded(pieces, method, stored, limit, exact)


def bounded(pieces: Iterator[bytes], method: str, stored: Source, limit: int, exact: bool) -> Iterator[bytes]:
    """Unpacked pieces as they come, as long as they are no more than `limit` bytes; a ZubretError where they are more, where
    they fail, or (exact) where they are less."""

    def wrong(what: str) -> ZubretError:
        return ZubretError(what, file=stored.name, next="The entry is damaged: check the file against another copy.")

    done = 0
    try:
        for piece in pieces:
            done += len(piece)
            tell(done, limit, f"unpacking {stored.name}")
            if done > limit:
                raise wrong(f"The entry unpacks to more than the {limit:,} bytes that its table gives.")
            yield piece
    except _ERRORS as e:
        raise wrong(f"The entry can't be unpacked by {method}: {str(e) or type(e).__name__}.") from e
    if exact and done < limit:
        raise wrong(f"The entry unpacks to {done:,} bytes, but its table gives {limit:,}.")


def told(pieces: Iterator[bytes], method: str, plain: Source) -> Iterator[bytes]:
    """Stored pieces as they come; a ZubretError where they fail."""
    try:
        for piece in pieces:
            yield piece
            tell(0, plain.size, f"packing {plain.name}")
    except _ERRORS as e:
        raise ZubretError(
            f"{plain.name} can't be packed by {method}: {str(e) or type(e).__name__}.",
            file=plain.name,
            next="Check the step's settings in the layout.",
        ) from e


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
                if method not in _SEVERAL or is_filling(behind):
                    return
                unpacker, data = _UNPACKERS[method](), behind
                continue
            if (unpacker.needs_input and not out) or (unpacker.needs_input and left < 0):
                break
    if not unpacker.eof:
        raise EOFError("the stream is cut short")


def _zstd(method: str, stored: Source, limit: int) -> Iterator[bytes]:
    unpacker = zstandard.ZstdDecompressor(max_window_size=1 << 27)
    with unpacker.stream_reader(cast(IO[bytes], SourceFile(zstd_frames(stored))), read_across_frames=True) as file:
        while piece := file.read(PIECE):
            yield piece


def _lz4_block(method: str, stored: Source, limit: int) -> Iterator[bytes]:
    return _lz4_with(stored, limit, b"")


def _lz4_with(stored: Source, limit: int, dictionary: bytes) -> Iterator[bytes]:
    if limit > stored.size * LZ4_RATIO:
        raise ValueError(f"{stored.size:,} bytes can't stand for {limit:,}")
    data = stored.read(0, stored.size)
    try:
        out = lz4.block.decompress(data, uncompressed_size=limit, dict=dictionary)
    except lz4.block.LZ4BlockError:
        out = lz4.block.decompress(lz4_block(data, limit), uncompressed_size=limit, dict=dictionary)
    yield from _cut(out)


def _cut(data: bytes) -> Iterator[bytes]:
    return (data[at : at + PIECE] for at in range(0, len(data), PIECE))


def _brotli(method: str, stored: Source, limit: int) -> Iterator[bytes]:
    unpacker = brotli.Decompressor()
    for data in _last_alone(stored):
        while data or not unpacker.can_accept_more_data():
            if out := unpacker.process(data, output_buffer_limit=PIECE):
                yield out
            data = b""
            if unpacker.is_finished():
                return
            if not out and unpacker.can_accept_more_data():
                break
    if not unpacker.is_finished():
        raise EOFError("the stream is cut short")


def _last_alone(stored: Source) -> Iterator[bytes]:
    """The stored pieces, and the last bytes one by one where they are all the same: the library takes none behind a stream's end."""
    tail = stored.read(max(0, stored.size - MOST), min(MOST, stored.size))
    alike = len(tail) - len(tail.rstrip(tail[-1:]))
    yield from stored.chunks(0, stored.size - alike)
    for byte in tail[len(tail) - alike :]:
        yield bytes([byte])


def _snappy(method: str, stored: Source, limit: int) -> Iterator[bytes]:
    """A raw Snappy stream: its unpacked size stands in front as a varint."""
    promised = cramjam.snappy.decompress_raw_len(stored.read(0, min(5, stored.size)))
    if promised > limit:
        raise ValueError(f"it promises {promised:,} bytes")
    data = stored.read(0, stored.size)
    try:
        out = cramjam.snappy.decompress_raw(data)
    except cramjam.DecompressionError:
        out = cramjam.snappy.decompress_raw(snappy_block(data, promised))
    yield from _cut(bytes(out))


def _lzo(method: str, stored: Source, limit: int) -> Iterator[bytes]:
    room = min(limit, stored.size * LZ4_RATIO)
    yield from _cut(bytes(lzo.unpacked(stored.read(0, stored.size), room)))


def _zstd_with(stored: Source, limit: int, dictionary: bytes) -> Iterator[bytes]:
    known = zstandard.ZstdCompressionDict(dictionary)
    unpacker = zstandard.ZstdDecompressor(dict_data=known, max_window_size=1 << 27)
    with unpacker.stream_reader(cast(IO[bytes], SourceFile(zstd_frames(stored))), read_across_frames=True) as file:
        while piece := file.read(PIECE):
            yield piece


_PIECES: dict[str, Callable[[str, Source, int], Iterator[bytes]]] = {
    "zstd": _zstd, "lz4-block": _lz4_block, "brotli": _brotli, "snappy": _snappy, "lzo": _lzo,
}  # fmt: skip
_WITH = {"zstd": _zstd_with, "lz4-block": _lz4_with}


def packed(
    method: str, plain: Source, level: int | None = None, like: Source | None = None, dictionary: bytes = b""
) -> Iterator[bytes]:
    """The stored pieces of a source under a method; `level` is the method's own, None its usual one.

    like: a stored stream whose kind of effort is kept where no level is given, and whose gzip header is kept.
    """
    first = like.read(0, min(LONGEST_HEAD, like.size)) if like else b""
    if level is None and method == "zlib":
        level = zlib_level(first[:2])
    if method in _AT_ONCE:
        yield _AT_ONCE[method](plain.read(0, plain.size), level, dictionary)
        return
    head = gzip_head(first) if method == "gzip" else b""
    packer = _GzipPacker(head, level) if head else _packer(method, level, plain.size, dictionary)
    if isinstance(packer, lz4.frame.LZ4FrameCompressor):
        yield packer.begin(plain.size)
    done = 0
    for piece in plain.chunks():
        yield packer.compress(piece)
        done += len(piece)
        tell(done, plain.size, f"packing {plain.name}")
    yield packer.flush()


def _lz4_packed(data: bytes, level: int | None, dictionary: bytes) -> bytes:
    how = {} if level is None else {"mode": "high_compression", "compression": level}
    return lz4.block.compress(data, store_size=False, dict=dictionary, **how)


_AT_ONCE: dict[str, Callable[[bytes, int | None, bytes], bytes]] = {
    "lz4-block": _lz4_packed,
    "snappy": lambda data, level, dictionary: bytes(cramjam.snappy.compress_raw(data)),
    "lzo": lambda data, level, dictionary: bytes(lzallright.LZOCompressor().compress(data)),
}
"""Methods whose libraries want all bytes at once."""


class _Brotli:
    """Brotli's compressor in the manner of the others."""

    def __init__(self, quality: int):
        self._inner = brotli.Compressor(quality=quality)

    def compress(self, data: bytes) -> bytes:
        return self._inner.process(data)

    def flush(self) -> bytes:
        return self._inner.finish()


def _packer(method: str, level: int | None, size: int, dictionary: bytes):
    if method in ("zlib", "deflate", "gzip"):
        wbits = {"zlib": 15, "deflate": -15, "gzip": 31}[method]
        return zlib.compressobj(6 if level is None else level, zlib.DEFLATED, wbits)
    if method == "bzip2":
        return bz2.BZ2Compressor(9 if level is None else level)
    if method in ("xz", "lzma"):
        kind = lzma.FORMAT_XZ if method == "xz" else lzma.FORMAT_ALONE
        return lzma.LZMACompressor(kind, preset=6 if level is None else level)
    if method == "zstd":
        known = zstandard.ZstdCompressionDict(dictionary) if dictionary else None
        return zstandard.ZstdCompressor(level=3 if level is None else level, dict_data=known).compressobj(size=size)
    if method == "brotli":
        return _Brotli(9 if level is None else min(11, max(0, level)))
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

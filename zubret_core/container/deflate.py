"""Compressing a replaced entry the way the original was compressed."""

from __future__ import annotations

import zlib
from collections.abc import Iterator

from ..source import Source, spooled


def level_of(head: bytes) -> int:
    """A compression level that fits the first two bytes of a zlib stream.

    RFC 1950 section 2.2: FLEVEL, the two highest bits of FLG, tells which of four kinds of
    effort was used (fastest, fast, default, slowest).
    """
    return (1, 5, 6, 9)[head[1] >> 6] if len(head) == 2 else 6


def deflated(source: Source, level: int, wbits: int = zlib.MAX_WBITS) -> Source:
    """The compressed bytes of a source; `wbits` -15 gives raw deflate (RFC 1951), 15 zlib (RFC 1950)."""
    pieces = list(_pieces(source, level, wbits)) if source.size <= 1 << 20 else None
    if pieces is not None:
        return spooled(pieces, 0, source.name)
    return spooled(_pieces(source, level, wbits), source.size, source.name)


def _pieces(source: Source, level: int, wbits: int) -> Iterator[bytes]:
    packer = zlib.compressobj(level, zlib.DEFLATED, wbits)
    for piece in source.chunks():
        yield packer.compress(piece)
    yield packer.flush()

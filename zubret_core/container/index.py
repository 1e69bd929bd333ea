"""Whether the index of an archive is still the one that was read, without reading it as an archive again."""

from __future__ import annotations

import xxhash

from ..source import Source
from .base import Container

EDGE = 1 << 12
"""Bytes at either end of a file that always count as its index."""
MOST_PIECES = 256
"""Pieces of an index that are looked at; where it has more, as one with a header before each entry, evenly chosen."""


def index_spans(archive: Container) -> list[tuple[int, int]]:
    """Where the index stands in the archive's file: byte offset and length of each piece."""
    size, pieces = archive.source.size, archive.index_pieces()
    step = -(-len(pieces) // MOST_PIECES) or 1
    edges = [(0, min(EDGE, size)), (max(0, size - EDGE), min(EDGE, size))]
    return edges + pieces[::step]


def index_sum(source: Source, spans: list[tuple[int, int]]) -> str:
    """xxh3-64 of these spans, as 16 hexadecimal digits; "" where one of them leaves the file."""
    value = xxhash.xxh3_64()
    for at, length in spans:
        if at + length > source.size:
            return ""
        for piece in source.chunks(at, length):
            value.update(piece)
    return value.hexdigest()

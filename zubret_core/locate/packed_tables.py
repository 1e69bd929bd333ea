"""Tables that are packed: numbers of a file's head that point to something with the signature of a way of packing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ..base import ZubretError
from ..source import SliceSource, Source
from ..source.packing import unpacked

LARGEST = 16 << 20
"""Bytes of an unpacked table at most."""
HEAD = 256
"""Bytes of the file's head in which numbers may say where the table is."""
MOST = 12
"""Numbers of the head that are tried as a packed table's bytes."""
_SIGNATURES = (
    (b"\x28\xb5\x2f\xfd", "zstd"), (b"\x04\x22\x4d\x18", "lz4"), (b"\x1f\x8b\x08", "gzip"), (b"BZh", "bzip2"),
    (b"\xfd7zXZ\0", "xz"), (b"\x5d\0\0", "lzma"),
)  # fmt: skip
"""RFC 8878, 3.1.1; the LZ4 frame format; RFC 1952, 2.3.1; the others by common practice."""


@dataclass(frozen=True)
class PackedTable:
    """Where a packed table stands: at, stored: its bytes; step: how it is packed; data: unpacked; head: place and type of the numbers of
    the head that say so, by number; ends: whether it ends with the file."""

    at: int
    stored: int
    step: str
    order: str
    data: bytes
    head: dict[int, tuple[int, str]]
    ends: bool

    def told(self, count: int) -> dict[str, tuple[int, str]]:
        """The numbers of the head, by what they mean: that of the records, where the table is, its bytes, its unpacked bytes."""
        wanted = {"count": count, "table_at": self.at, "table_size": self.stored, "table_unpacked": len(self.data)}
        return {what: self.head[number] for what, number in wanted.items() if number in self.head}


def signed(heads: list[bytes]) -> str:
    """The way of packing of which most of some first bytes bear the signature."""
    for mark, step in _SIGNATURES:
        if sum(h.startswith(mark) for h in heads) * 2 > len(heads):
            return step
    zlib = [h for h in heads if len(h) > 1 and h[0] & 0x8F == 0x08 and (h[0] << 8 | h[1]) % 31 == 0]  # RFC 1950, 2.2
    return "zlib" if len(zlib) * 2 > len(heads) else ""


def packed_tables(source: Source) -> Iterator[PackedTable]:
    """What is packed where a number of the head points, and as many bytes as another one says or up to the file's end."""
    head = source.read(0, min(HEAD, source.size))
    for order in ("little", "big"):
        numbers = _numbers(head, order)
        for at in sorted(n for n in numbers if 8 < n < source.size - 8):
            step, rest = signed([source.read(at, min(12, source.size - at))]), source.size - at
            sizes = [n for n in numbers if 8 < n < rest][:MOST]
            for stored in [*sizes, rest] if step else ():
                data = _unpacked(step, SliceSource(source, at, stored))
                if data:
                    yield PackedTable(at, stored, step, order, data, numbers, stored == rest)
                    break


def _numbers(head: bytes, order: str) -> dict[int, tuple[int, str]]:
    """The numbers of the head, and where each first stands."""
    out: dict[int, tuple[int, str]] = {}
    for width in (4, 8):
        for at in range(4, len(head) - width + 1, 4):
            out.setdefault(int.from_bytes(head[at : at + width], order), (at, f"u{8 * width}"))  # type: ignore[arg-type]
    return out


def _unpacked(step: str, stored: Source) -> bytes:
    try:
        return b"".join(unpacked(step, stored, LARGEST, exact=False))
    except ZubretError:
        return b""

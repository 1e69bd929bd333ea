"""Ways of packing of our own against zlib at level 6, on text that people wrote and on sound; Huffman coding alone against zlib's."""

from __future__ import annotations

import os
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path

from standin.formats import as_int16
from standin.music import PIECES, render
from zubret_core.source import BytesSource
from zubret_core.source.coders.huffman import Huffman
from zubret_core.source.coders.lzss import Lzss
from zubret_core.source.coders.runs import Runs
from zubret_core.source.steps import Coded, Packed

from .pairs import Row, pairs

UNPACK, PACK = 0.6, 2.0
SIZE = 16 << 20
WHOLE = zlib.Z_DEFAULT_STRATEGY
WAYS: tuple[tuple[str, Coded | Packed, int, float | None], ...] = (
    ("lzss", Coded(Lzss(), "lzss"), WHOLE, PACK),
    ("lzss, one stream of bits", Coded(Lzss(flags=0, high_first=True), "lzss"), WHOLE, PACK),
    ("runs", Coded(Runs(), "runs"), WHOLE, PACK),
    ("huffman", Coded(Huffman(), "huffman"), zlib.Z_HUFFMAN_ONLY, PACK),
    ("lzo (packed by a library)", Packed("lzo"), WHOLE, None),
)
"""A name, how, what zlib does of the same, and a limit for packing."""


def rows(folder: Path) -> Iterator[Row]:
    """Unpacking and packing of each, from memory into pieces; what is stored stands in the notes."""
    pcm = as_int16(render(PIECES[0], 1)[0]).tobytes()
    for kind, data in (("text", _text()), ("sound", pcm * (SIZE // len(pcm) + 1))):
        data = data[:SIZE]
        plain = BytesSource(data)
        for name, step, strategy, limit in WAYS:
            stored = step.packed(plain)
            theirs = _deflated(data, strategy)

            def unpack(step: Coded | Packed = step, stored=stored, size: int = len(data)) -> None:
                for _ in step.unpacked(stored, size, True):
                    pass

            def pack(step: Coded | Packed = step, plain=plain) -> None:
                for _ in step.pieces(plain):
                    pass

            reference = "zlib, level 6" if strategy == WHOLE else "zlib, level 6, Huffman only"
            note = f"; {stored.size / len(data):.0%} is stored, of {reference} {len(theirs) / len(data):.0%}"
            what = f"{SIZE >> 20} MB of {kind}, {name}"
            calls: tuple[tuple[str, Callable[[], None], Callable[[], bytes], float | None], ...] = (
                ("unpacked", unpack, lambda t=theirs: zlib.decompress(t), UNPACK),
                ("packed", pack, lambda d=data, s=strategy: _deflated(d, s), limit),
            )
            for done, ours, other, most in calls:
                row = pairs(f"{what}, {done}", ours, reference, other, most, count=15 if done == "unpacked" else 5)
                row.note += note
                yield row


def _text() -> bytes:
    """The sources of Python's own library, as much as is wanted."""
    out = b""
    for place in sorted(Path(os.__file__).parent.rglob("*.py")):
        if "site-packages" not in place.parts and len(out) < SIZE:
            out += place.read_bytes()
    return out


def _deflated(data: bytes, strategy: int) -> bytes:
    packer = zlib.compressobj(6, zlib.DEFLATED, zlib.MAX_WBITS, zlib.DEF_MEM_LEVEL, strategy)
    return packer.compress(data) + packer.flush()

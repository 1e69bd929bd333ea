"""Ways of packing of our own against zlib at level 6, on text and on sound."""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from pathlib import Path

from standin.formats import as_int16
from standin.music import PIECES, render
from zubret_core.source import BytesSource
from zubret_core.source.coders.huffman import Huffman
from zubret_core.source.coders.lzss import Lzss
from zubret_core.source.coders.runs import Runs
from zubret_core.source.steps import Chain, Coded, Packed, Step

from .pairs import Row, pairs

UNPACK, PACK = 0.6, 2.0
SIZE = 16 << 20
WAYS: dict[str, Step] = {
    "lzss": Coded(Lzss(), "lzss"),
    "lzss, one stream of bits": Coded(Lzss(flags=0, high_first=True), "lzss"),
    "runs": Coded(Runs(), "runs"),
    "huffman": Coded(Huffman(), "huffman"),
    "lzo": Packed("lzo"),
}


def rows(folder: Path) -> Iterator[Row]:
    """Unpacking and packing of each; what is stored stands in the notes."""
    text = b"".join(f"{n} {n * n % 9973} the night ferry crosses the inland sea\n".encode() for n in range(400_000))
    pcm = as_int16(render(PIECES[0], 1)[0]).tobytes()
    for kind, data in (("text", text), ("sound", pcm * (SIZE // len(pcm) + 1))):
        data = data[:SIZE]
        theirs = zlib.compress(data, 6)
        for name, step in WAYS.items():
            chain = Chain([step])
            stored = chain.packed(BytesSource(data))

            def unpack(chain: Chain = chain, stored=stored, size: int = len(data)) -> None:
                for _ in chain.unpacked(stored, size).chunks():
                    pass

            def pack(chain: Chain = chain, data: bytes = data) -> None:
                chain.packed(BytesSource(data))

            note = f"; {stored.size / len(data):.0%} is stored, of zlib {len(theirs) / len(data):.0%}"
            for what, ours, other, limit in (
                ("unpacked", unpack, lambda t=theirs: zlib.decompress(t), UNPACK),
                ("packed", pack, lambda d=data: zlib.compress(d, 6), PACK),
            ):
                row = pairs(f"{SIZE >> 20} MB of {kind}, {name}, {what}", ours, "zlib, level 6", other, limit, count=3)
                row.note += note
                yield row

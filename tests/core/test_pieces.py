"""Payloads in several pieces. The files are made and read by `struct` and `zlib` alone, so nothing of the layouts is taken on trust."""

import shutil
import struct
import tempfile
import zlib
from pathlib import Path

from django.test import SimpleTestCase

from tests.support import bytes_of, edited, noise, problem_of, source
from zubret_core.bank import DescribedBank, NewStream
from zubret_core.bank.trial import check
from zubret_core.base import Format
from zubret_core.container import DescribedArchive, GameFolder
from zubret_core.layout import load_layout
from zubret_core.locate import Known, Locator
from zubret_core.rebuild import StreamSwap, plan_rebuild, write_plan
from zubret_core.rebuild.expected import expectation
from zubret_core.rebuild.prove import prove
from zubret_core.source import BytesSource

PACKED = """
zubret: 1
id: packed-pieces
describes: archive
recognise: [{at: 0, bytes: "50 50"}]
payload: {packed: [zlib], align: 4}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u16, means: entries.count}]
  - name: table
    after: head
    repeat: head.count
    fields:
      - {name: id, type: u32, means: entry.id}
      - {name: size, type: u32, means: entry.size}
      - {name: sum, type: u32, sum: {by: crc32, of: unpacked}}
      - {name: pieces, type: u32, means: parts.count}
      - {name: parts_at, type: u32, means: parts.at}
  - name: parts
    each: table
    repeat: table.pieces
    fields: [{name: at, type: u32, means: piece.at}, {name: end, type: u32, means: piece.end}]
"""
OWNED = """
zubret: 1
id: owned-pieces
describes: bank
recognise: [{at: 0, bytes: "4f 50"}]
given: {stream.codec: pcm16, stream.rate: 8000}
regions:
  - name: head
    at: 0
    fields: [{name: mark, type: bytes, length: 2}, {name: count, type: u16}, {name: blocks, type: u16, means: blocks.count}]
  - name: table
    after: head
    repeat: head.count
    fields: [{name: frames, type: u32, means: stream.frames}, {name: sum, type: u32, sum: {by: crc32, of: stored}}]
  - name: blocks
    after: table
    repeat: head.blocks
    fields:
      - {name: own, type: u8, means: piece.of, base: -1}
      - {name: size, type: u24, means: piece.stored}
      - {name: sum, type: u32, sum: {by: adler32, of: stored}}
    body: {size: size, align: 8}
"""


def packed(contents: list[bytes], step: int) -> bytes:
    """An archive of that layout: each packed entry in pieces of `step` bytes, those of all entries in turns."""
    streams = [zlib.compress(c) for c in contents]
    cut = [[s[at : at + step] for at in range(0, len(s), step)] for s in streams]
    begin, places = 4 + 20 * len(contents), []
    for pieces in cut:
        places.append(begin)
        begin += 8 * len(pieces)
    data, spans = bytes(-begin % 4), [[] for _ in cut]
    for turn in range(max(map(len, cut))):
        for n, pieces in enumerate(cut):
            if turn < len(pieces):
                at = begin + len(data)
                spans[n].append(struct.pack("<II", at, at + len(pieces[turn])))
                data += pieces[turn] + bytes(-len(pieces[turn]) % 4)
    rows = zip(contents, cut, places, strict=True)
    table = b"".join(struct.pack("<5I", n, len(c), zlib.crc32(c), len(p), at) for n, (c, p, at) in enumerate(rows))
    return b"PP" + struct.pack("<H", len(contents)) + table + b"".join(b"".join(s) for s in spans) + data


def unpacked(data: bytes) -> list[bytes]:
    """The entries of such an archive by plain code, their sums right."""
    out = []
    for n in range(struct.unpack_from("<H", data, 2)[0]):
        _, size, crc, count, at = struct.unpack_from("<5I", data, 4 + 20 * n)
        spans = [struct.unpack_from("<II", data, at + 8 * k) for k in range(count)]
        out.append(zlib.decompress(b"".join(data[a:b] for a, b in spans)))
        assert (len(out[-1]), zlib.crc32(out[-1])) == (size, crc)
    return out


def owned(streams: list[bytes], step: int) -> bytes:
    """A bank of that layout: the streams in blocks in turns, each block behind its header."""
    out = b"OP" + struct.pack("<HH", len(streams), sum(-(-len(s) // step) for s in streams))
    out += b"".join(struct.pack("<II", len(s) // 2, zlib.crc32(s)) for s in streams)
    for at in range(0, max(map(len, streams)), step):
        for n, s in enumerate(streams):
            if piece := s[at : at + step]:
                out += bytes(-len(out) % 8) if out[-1:] and at + n else b""
                out += struct.pack("<II", n + 1 | len(piece) << 8, zlib.adler32(piece)) + piece
    return out


def blocks(data: bytes) -> list[bytes]:
    """The streams of such a bank by plain code, all sums right."""
    count, all_blocks = struct.unpack_from("<HH", data, 2)
    at, out = 6 + 8 * count, [b""] * count
    for n in range(all_blocks):
        at += -at % 8 if n else 0
        word, adler = struct.unpack_from("<II", data, at)
        piece = data[at + 8 : at + 8 + (word >> 8)]
        assert zlib.adler32(piece) == adler
        out[(word & 255) - 1] += piece
        at += 8 + len(piece)
    for n, found in enumerate(out):
        assert struct.unpack_from("<II", data, 6 + 8 * n) == (len(found) // 2, zlib.crc32(found))
    return out


class Pieces(SimpleTestCase):
    """Entries and streams in pieces, read, changed, proved, and attacked."""

    CONTENTS = [bytes_of(source(noise(n, 1, seed=n).tobytes())) for n in (900, 40, 300)]
    STREAMS = [noise(n, 1, seed=n).tobytes() for n in (500, 64, 333)]

    def test_packed_entries_are_joined_before_they_are_unpacked(self):
        data = packed(self.CONTENTS, 512)
        layout = load_layout(PACKED)
        self.assertTrue(check(layout, source(data)).ok)
        archive = DescribedArchive(layout, source(data))
        self.assertEqual([bytes_of(archive.open(n)) for n in range(3)], self.CONTENTS)
        for n, new in ((0, b"short"), (2, noise(4000, 1, seed=9).tobytes()), (1, b"")):
            wanted = [new if k == n else c for k, c in enumerate(self.CONTENTS)]
            self.assertEqual(unpacked(bytes_of(archive.rebuild({n: source(new)}).source)), wanted)

    def test_streams_in_blocks_that_name_them(self):
        data, layout = owned(self.STREAMS, 256), load_layout(OWNED)
        self.assertTrue(check(layout, source(data)).ok)
        bank = DescribedBank(layout, source(data))
        self.assertEqual([bytes_of(s.payload) for s in bank.streams], self.STREAMS)
        for n, frames in ((0, 3000), (2, 10), (1, 64)):
            new = noise(frames, 1, seed=7)
            built = bank.rebuild({n: NewStream(BytesSource(new.tobytes()), Format("pcm16", 8000, 1, frames))})
            wanted = [new.tobytes() if k == n else s for k, s in enumerate(self.STREAMS)]
            self.assertEqual(blocks(bytes_of(built.source)), wanted)
            self.assertTrue({s.item for s in built.segments if s.kind == "new"} == {n})

    def test_a_swap_in_a_game_is_proved_and_no_damage_stays_green(self):
        root = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, root)
        (root / "music.blk").write_bytes(owned(self.STREAMS, 256))
        (root / "new").write_bytes(noise(700, 1, seed=5).tobytes())
        place = Locator("music.blk", (("music.blk", 0),), "", 1)
        swap = StreamSwap(place, root / "new", Format("pcm16", 8000, 1, 700), float("inf"))
        game, out = GameFolder(root), root / "out"
        plans = plan_rebuild(game, [swap], known=Known([load_layout(OWNED)]))
        self.assertEqual([p.suspects for p in plans], [[]])
        write_plan(plans, out)
        expected = expectation(game, out, plans, [OWNED], {})
        self.assertEqual([p.label for p in prove(expected) if not p.ok], [])
        good = (out / "music.blk").read_bytes()
        for at in range(6, len(good), 97):
            (out / "music.blk").write_bytes(edited(good, at, "<B", good[at] ^ 1))
            self.assertFalse(all(p.ok for p in prove(expected)), at)

    def test_bad_files_and_bad_layouts(self):
        data, layout = owned(self.STREAMS, 256), load_layout(OWNED)
        problem = problem_of(self, DescribedBank, layout, source(edited(data, 30, "<B", 9)))
        self.assertIn("belongs to stream 8, but there are 3", problem.what)
        large, data = (
            load_layout(PACKED.replace("type: u32, means: piece", "type: u64, means: piece")),
            packed([b"all"], 512),
        )
        for far in (1 << 63, (1 << 64) - 1):
            bad = data[:24] + struct.pack("<QQ", far, far) + data[32:]
            self.assertIn("leaves the file", problem_of(self, DescribedArchive, large, source(bad)).what)
        end = ", {name: end, type: u32, means: piece.end}"
        for text, wrong, fault in (
            (OWNED, ("means: piece.of, base: -1", "unit: 1"), "nothing says to which stream"),
            (OWNED, ("means: stream.frames", "means: stream.at"), "nothing means stream.at"),
            (PACKED, (end, ""), "need piece.at, and piece.stored or piece.end"),
            (PACKED, (end, end.replace("}", ", none: 0}")), "neither `when` nor `none`"),
        ):
            self.assertIn(fault, problem_of(self, load_layout, text.replace(*wrong)).what.lower())
